package engine

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"

	"kindredgate/internal/tensor"
)

// Sampling says how the next token is drawn from the logits. The rules apply in the order of the fields.
type Sampling struct {
	LogitBias         map[int32]float64 // added to the logits of tokens
	RepetitionPenalty float64           // 0 and 1 mean none: divides positive logits of tokens seen, in the prompt too, and multiplies negative ones
	FrequencyPenalty  float64           // taken off for each time that the answer has the token
	PresencePenalty   float64           // taken off if the answer has the token
	Temperature       float64           // 0 takes the most likely token, the lowest id if several are
	TopK              int               // keep the k most likely; 0 keeps all
	TopP              float64           // keep the most likely tokens up to that share of probability; 0 and 1 keep all
	MinP              float64           // keep tokens with that share of the largest probability
	Seed              uint64
	// Candidate tells the answers to one request apart: each draws by itself, and none as that of another seed does.
	Candidate uint64
}

// sampler draws the tokens of one sequence.
type sampler struct {
	Sampling
	random *rand.Rand
	seen   map[int32]bool // tokens of prompt and answer; kept only for the repetition penalty
	counts map[int32]int  // tokens of the answer; kept only for the other penalties
	buffer []candidate    // [vocabulary], reused from token to token, as is space
	space  []float32
}

type candidate struct {
	id int32
	p  float64 // a logit at first, then a probability
}

// likelier orders candidates from the most likely down, the lower id first on a tie.
func likelier(a, b candidate) int {
	if a.p != b.p {
		return cmp.Compare(b.p, a.p)
	}
	return cmp.Compare(a.id, b.id)
}

func newSampler(s Sampling, prompt []int32) *sampler {
	out := &sampler{Sampling: s, random: rand.New(rand.NewPCG(s.Seed, (s.Candidate+1)*0x9e3779b97f4a7c15))}
	if s.RepetitionPenalty != 0 && s.RepetitionPenalty != 1 {
		out.seen = map[int32]bool{}
		for _, id := range prompt {
			if id >= 0 { // pictures are below
				out.seen[id] = true
			}
		}
	}
	if s.FrequencyPenalty != 0 || s.PresencePenalty != 0 {
		out.counts = map[int32]int{}
	}
	return out
}

// next draws a token among those allowed, a bit for each; nil allows all. It changes logits, [vocabulary]. If none is
// allowed it is NoToken.
func (s *sampler) next(logits []float32, allowed []uint64) int32 {
	s.penalize(logits)
	kept := s.distribution(logits, allowed)
	if len(kept) == 0 {
		return NoToken
	}
	id := s.draw(kept)
	if s.seen != nil {
		s.seen[id] = true
	}
	if s.counts != nil {
		s.counts[id]++
	}
	return id
}

func (s *sampler) penalize(logits []float32) {
	for id, bias := range s.LogitBias {
		if id >= 0 && int(id) < len(logits) {
			logits[id] += float32(bias)
		}
	}
	for id := range s.seen {
		if l := &logits[id]; *l > 0 {
			*l /= float32(s.RepetitionPenalty)
		} else {
			*l *= float32(s.RepetitionPenalty)
		}
	}
	for id, n := range s.counts {
		logits[id] -= float32(float64(s.FrequencyPenalty*float64(n)) + s.PresencePenalty)
	}
}

// masked is the logits, those of tokens that are not allowed −∞.
func (s *sampler) masked(logits []float32, allowed []uint64) []float32 {
	s.space = append(s.space[:0], logits...)
	for id := min(64*len(allowed), len(s.space)); id < len(s.space); id++ {
		s.space[id] = float32(math.Inf(-1)) // of which the mask does not speak
	}
	for i, w := range allowed {
		if w == math.MaxUint64 || 64*i >= len(s.space) {
			continue
		}
		for j := range s.space[64*i : min(64*(i+1), len(s.space))] {
			if w>>j&1 == 0 {
				s.space[64*i+j] = float32(math.Inf(-1))
			}
		}
	}
	return s.space
}

// distribution gives the tokens that may follow with their probabilities, which add up to 1. The slice is
// valid until the next call.
func (s *sampler) distribution(logits []float32, allowed []uint64) []candidate {
	if allowed != nil {
		logits = s.masked(logits, allowed)
	}
	best, largest := -1, float32(math.Inf(-1))
	for id, l := range logits {
		if l > largest {
			best, largest = id, l
		}
	}
	if best < 0 {
		return nil
	}
	kept := s.buffer[:0]
	switch {
	case s.Temperature == 0:
		return append(kept, candidate{int32(best), 1})
	case s.TopK > 0 && s.TopK < len(logits):
		kept = s.topK(logits, kept)
		s.buffer = kept
		normalize(kept)
	default:
		kept = s.likely(logits, float64(largest), kept)
		s.buffer = kept
	}
	if s.TopP > 0 && s.TopP < 1 {
		sum := 0.0
		kept = mostLikely(kept, func(_ int, c candidate) bool {
			enough := sum >= s.TopP
			sum += c.p
			return !enough
		})
	}
	if s.MinP > 0 {
		largest := 0.0
		for _, c := range kept {
			largest = max(largest, c.p)
		}
		kept = slices.DeleteFunc(kept, func(c candidate) bool { return c.p < s.MinP*largest })
	}
	rescale(kept)
	return kept
}

// Exponents beyond this are worked out one by one: half the numbers that 32 bits can tell apart there are not used.
const largeExponent = 1e4

// likely appends the tokens that top-p and min-p may keep, with their probabilities among all. Of a large vocabulary that
// leaves few to be put in order.
func (s *sampler) likely(logits []float32, largest float64, kept []candidate) []candidate {
	by := 1 / s.Temperature
	if math.Abs(largest)*by > largeExponent {
		for id, l := range logits {
			if p := math.Exp((float64(l) - largest) * by); p > 0 {
				kept = append(kept, candidate{int32(id), p})
			}
		}
		rescale(kept)
		return kept
	}
	const group = tensor.PageTokens
	s.space = append(s.space[:0], logits...)
	for len(s.space)%group != 0 {
		s.space = append(s.space, float32(math.Inf(-1)))
	}
	peak := float32(float32(by) * float32(largest))
	sum := 0.0
	for at := 0; at < len(s.space); at += group {
		scores := (*[group]float32)(s.space[at:])
		tensor.Mask(scores, float32(by), 0, group)
		sum += float64(tensor.Weigh(scores, peak))
	}
	// All tokens less likely than this have together less than what top-p may leave out, so none of them is kept.
	least := float32(math.SmallestNonzeroFloat32)
	if s.TopP > 0 && s.TopP < 1 {
		least = float32((1 - s.TopP) / float64(len(logits)) * sum)
	}
	least = max(least, float32(0.99*s.MinP))
	for id, p := range s.space {
		if p >= least {
			kept = append(kept, candidate{int32(id), float64(p) / sum})
		}
	}
	return kept
}

// topK appends the most likely tokens with their logits over the temperature.
func (s *sampler) topK(logits []float32, kept []candidate) []candidate {
	least := float32(math.Inf(-1)) // the least likely of those that are kept, if there are enough
	for id, l := range logits {
		if len(kept) == 2*s.TopK {
			kept = kept[:copy(kept, mostLikely(kept, func(n int, _ candidate) bool { return n < s.TopK }))]
			least = float32(kept[s.TopK-1].p)
		}
		if l > least {
			kept = append(kept, candidate{int32(id), float64(l)})
		}
	}
	if len(kept) > s.TopK {
		kept = mostLikely(kept, func(n int, _ candidate) bool { return n < s.TopK })
	}
	for i := range kept {
		kept[i].p /= s.Temperature
	}
	return kept
}

// mostLikely takes candidates in order of falling probability as long as more(n, next) says so, where n is the
// number taken. It is a heap sort that stops early, since of a large vocabulary only a few are kept.
func mostLikely(c []candidate, more func(n int, next candidate) bool) []candidate {
	sink := func(i, n int) {
		for {
			child := 2*i + 1
			if child >= n {
				return
			}
			if child+1 < n && likelier(c[child+1], c[child]) < 0 {
				child++
			}
			if likelier(c[i], c[child]) <= 0 {
				return
			}
			c[i], c[child] = c[child], c[i]
			i = child
		}
	}
	for i := len(c)/2 - 1; i >= 0; i-- {
		sink(i, len(c))
	}
	left := len(c)
	for left > 0 && more(len(c)-left, c[0]) {
		left--
		c[0], c[left] = c[left], c[0]
		sink(0, left)
	}
	taken := c[left:]
	slices.Reverse(taken)
	return taken
}

// normalize turns logits into probabilities.
func normalize(c []candidate) {
	largest := math.Inf(-1)
	for _, x := range c {
		largest = max(largest, x.p)
	}
	for i := range c {
		c[i].p = math.Exp(c[i].p - largest)
	}
	rescale(c)
}

func rescale(c []candidate) {
	sum := 0.0
	for _, x := range c {
		sum += x.p
	}
	for i := range c {
		c[i].p /= sum
	}
}

func (s *sampler) draw(c []candidate) int32 {
	if len(c) == 1 {
		return c[0].id
	}
	at := s.random.Float64()
	for _, x := range c {
		if at -= x.p; at < 0 {
			return x.id
		}
	}
	return c[len(c)-1].id // rounding left a little over
}

// score gives a token's log-probability by the logits, and the n most likely tokens.
func score(logits []float32, id int32, n int) Score {
	largest := math.Inf(-1)
	for _, l := range logits {
		largest = max(largest, float64(l))
	}
	sum := 0.0
	for _, l := range logits {
		sum += math.Exp(float64(l) - largest)
	}
	total := largest + math.Log(sum)
	out := Score{Token: id, LogProb: float64(logits[id]) - total}
	for i, l := range logits {
		one := Score{Token: int32(i), LogProb: float64(l) - total}
		at := len(out.Top)
		for at > 0 && out.Top[at-1].LogProb < one.LogProb {
			at--
		}
		if at < n {
			out.Top = slices.Insert(out.Top, at, one)[:min(n, len(out.Top)+1)]
		}
	}
	return out
}
