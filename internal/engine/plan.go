package engine

import (
	"slices"
	"time"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
)

// Bounds of a step.
const (
	prefillTokens = 256 // of prompts that a step reads at most; that is what the processor's caches are used best with
	leastPrefill  = 8   // that it reads at least, however slow the model is
	scoredTokens  = 8   // of prompts whose tokens are scored: each of them has logits
	// stepTime is how long reading prompts may make a step while answers are under way, which have to go on; aloneTime,
	// while there are none.
	stepTime  = 125 * time.Millisecond
	aloneTime = 500 * time.Millisecond
	// shortPrompt is what can be read in a step that is about as short as if it were alone.
	shortPrompt = 32
	// stepMemory is how much working memory a step may take, in bytes; wide networks have shorter ones.
	stepMemory = 48 << 20
)

// stepping is what the scheduler works with.
type stepping struct {
	running []*sequence
	pace    pace
	most    int // tokens of prompts that a step has room for

	// What follows is used from step to step so that nothing is allocated.
	tokens  []model.Token
	outputs []output
	reading []*sequence
	byAge   []*sequence
	list    []int
	dueRoom int // for tokens that forms leave no choice about
	chooser chooser
	ahead   ahead
}

// output is a token whose logits are wanted: to choose the one that follows, or, within a prompt, to score it.
type output struct {
	s    *sequence
	next int32 // the token that follows in the prompt, or NoToken
	more int   // drafted tokens whose logits come after these
}

func (p *stepping) begin(e *Engine) {
	p.most = longestStep(e.model)
	network := &processor{e.model, e.opts.Team, e.model.NewScratch(stepRows(e.model, e.opts))}
	if e.network = network; e.model.Predicts() && !e.opts.NoDrafts && e.drafter == nil {
		p.ahead.head = network
	}
	p.chooser.e = e
}

// longestStep is how many tokens of prompts a step of a model has room for.
func longestStep(m *model.Model) int {
	return max(shortPrompt, min(prefillTokens, stepMemory/m.RowBytes()))
}

// stepRows is how many tokens a step has room for, and how many of them can have logits.
func stepRows(m *model.Model, o Options) (rows, outputs int) {
	return longestStep(m) + o.Picture + o.Sequences + mostDrafted + mostDue, scoredTokens + o.Sequences + mostDrafted
}

// budget is how many tokens of prompts the next step may read, beside so many answers.
func (p *stepping) budget(answers int) int {
	long := stepTime
	if answers == 0 {
		long = aloneTime
	}
	n := p.pace.tokens(long)
	if p.pace.weight == 0 {
		n = shortPrompt
	}
	return max(leastPrefill, min(p.most, n-answers))
}

// plan chooses the tokens of the next step: one of each sequence that is being continued, and a share of each prompt that
// is being read. A sequence for which there is no memory goes back to the queue.
func (e *Engine) plan() []model.Token {
	e.drop(func(s *sequence) bool { return s.ctx.Err() != nil })
	e.tokens, e.outputs, e.reading, e.ahead.fed = e.tokens[:0], e.outputs[:0], e.reading[:0], e.ahead.fed[:0]
	answers := 0
	e.dueRoom = mostDue
	for _, s := range e.running {
		e.outgrown(s)
		switch s.fed, s.share = 0, 0; {
		case s.phase == held:
		case len(s.pending()) == 1:
			s.become(decoding)
			s.share = 1
			answers++
		case s.phase == catching:
			s.share = e.owing(s)
			answers++
		default:
			s.become(reading)
			e.reading = append(e.reading, s)
		}
	}
	scored, beyond := scoredTokens, false
	for i, n := range e.shares(e.budget(answers)) {
		s := e.reading[i]
		if s.job.ScorePrompt && s.generated == 0 {
			n = min(n, scored)
			scored -= n
		}
		s.share = s.uncut(e.model, n)
		if s.share > n {
			if beyond { // there is room for one picture that is longer than a step
				s.share = 0
			}
			beyond = true
		}
	}
	if answers > 0 {
		e.awaitMasks()
		e.due()
		e.speculate(e.rows())
	}
	// The oldest first, since who finds no memory takes that of a younger one.
	e.byAge = append(e.byAge[:0], e.running...)
	slices.SortStableFunc(e.byAge, func(a, b *sequence) int { return a.started.Compare(b.started) })
	for _, s := range e.byAge {
		if s.share > 0 && s.phase != displaced && e.reserve(s, s.share) {
			e.feed(s, s.share)
		}
	}
	clear(e.byAge)
	clear(e.reading)
	return e.tokens
}

// due gives the tokens that forms leave no choice about, and takes them into the step.
func (e *Engine) due() {
	for _, s := range e.running {
		if s.share > 0 && s.generated > 0 && s.job.Form != nil && !s.masking.Load() && len(s.due) > 0 {
			e.giveDue(s)
			s.share = e.owing(s)
		}
	}
	e.leave()
}

// owing is how many of the tokens that a form left no choice about a step reads.
func (e *Engine) owing(s *sequence) int {
	n := min(len(s.pending()), max(1, e.dueRoom))
	e.dueRoom -= n
	return n
}

// rows is how many tokens the step has so far.
func (e *Engine) rows() (n int) {
	for _, s := range e.running {
		n += s.share
	}
	return n
}

// shares divides the tokens that a step may read among the prompts that are being read, which it sorts, the one with least to read
// first. Short ones come first, and the long ones together get no more than these need, but each something: so a short
// prompt comes to its first token about as soon as if it were alone. Within each of the two, all get the same or what they
// need.
func (p *stepping) shares(budget int) []int {
	slices.SortStableFunc(p.reading, func(a, b *sequence) int { return len(a.pending()) - len(b.pending()) })
	short := 0
	for short < len(p.reading) && len(p.reading[short].pending()) <= shortPrompt {
		short++
	}
	p.list = p.list[:0]
	read := p.divide(p.reading[:short], budget)
	if long := p.reading[short:]; len(long) > 0 {
		rest := budget - read
		if short > 0 {
			rest = max(min(rest, read), len(long))
		}
		p.divide(long, rest)
	}
	return p.list
}

// divide adds the shares of some prompts to the list, and returns their sum.
func (p *stepping) divide(prompts []*sequence, budget int) (sum int) {
	for i, s := range prompts {
		left := len(prompts) - i
		n := min((budget-sum+left-1)/left, len(s.pending()))
		p.list = append(p.list, n)
		sum += n
	}
	return sum
}

// reserve makes room for n more tokens of a sequence. If the memory is used up, the youngest sequence is put back into the
// queue, this one itself perhaps: then it is false.
func (e *Engine) reserve(s *sequence, n int) bool {
	for {
		err := s.kv.Reserve(s.kv.Len() + n)
		if err == nil {
			return true
		}
		youngest := s
		for _, other := range e.running {
			if other.started.After(youngest.started) && other.fed == 0 {
				youngest = other
			}
		}
		if youngest == s && len(e.running) == 1 {
			// Nobody has anything to give, which submit has made sure is enough.
			panic(err)
		}
		e.putBack(youngest)
		if youngest == s {
			return false
		}
	}
}

// putBack takes the memory of a sequence and puts it to the head of the queue. It goes on where it was when it has read
// its own text again.
func (e *Engine) putBack(s *sequence) {
	s.release()
	s.become(displaced)
	if s.generated == 0 {
		s.scores = s.scores[:0] // the prompt is read from its beginning
	}
	e.running = slices.DeleteFunc(e.running, func(o *sequence) bool { return o == s })
	e.mu.Lock()
	e.waiting = slices.Insert(e.waiting, 0, s)
	e.mu.Unlock()
}

// feed adds the next n tokens of a sequence to the step, drafted ones among them.
func (e *Engine) feed(s *sequence, n int) {
	first := s.kv.Len()
	if n > len(s.pending()) && !s.kv.Mark() {
		s.drafted -= len(s.draft) // there is no way back from a draft that is wrong
		s.draft, s.guessed = s.draft[:0], s.guessed[:0]
		n = len(s.pending())
	}
	s.keep(first + n)
	s.fed, s.fedAt, s.row = n, first, len(e.tokens)
	if e.ahead.head != nil {
		e.ahead.fed = append(e.ahead.fed, s)
	}
	for i := first; i < first+n; i++ {
		if i >= len(s.tokens) {
			t := s.token(e.model, i, s.draft[i-len(s.tokens)].id)
			t.Logits = true
			e.tokens = append(e.tokens, t)
			continue
		}
		o := output{s: s, next: NoToken, more: first + n - len(s.tokens)}
		if i+1 < len(s.tokens) {
			o.next = s.tokens[i+1]
		}
		wanted := o.next == NoToken || s.job.ScorePrompt && s.generated == 0 && i+1 >= s.job.ScoreFrom
		t := s.token(e.model, i, s.tokens[i])
		t.Logits = wanted
		e.tokens = append(e.tokens, t)
		if wanted {
			e.outputs = append(e.outputs, o)
		}
	}
}

// sparseStates is how far apart states are kept within a prompt, in tokens.
const sparseStates = 512

// keep asks for the state to be remembered after a step up to a position: at the last page that ends within the prompt, from where
// what the template makes of the next turn goes on even if it has another answer than was given, and now and then before.
func (s *sequence) keep(to int) {
	for _, at := range []int{(len(s.job.Prompt) - 1) / kv.PageTokens * kv.PageTokens, min(to, len(s.job.Prompt)-1) / sparseStates * sparseStates} {
		if at > s.kv.Len() && at <= to {
			s.kv.KeepAt(at)
			return
		}
	}
}

// drop forgets running sequences.
func (e *Engine) drop(which func(*sequence) bool) {
	kept := e.running[:0]
	for _, s := range e.running {
		if which(s) {
			s.release()
		} else {
			kept = append(kept, s)
		}
	}
	clear(e.running[len(kept):])
	e.running = kept
}

// leave forgets the sequences that have ended.
func (e *Engine) leave() {
	e.drop(func(s *sequence) bool { return s.phase == ended })
}

// variantOf says which form of its rotations a network uses for a sequence (Ding et al., "LongRoPE", 2024): by what it may come to, if that was
// said, and else by what it has come to.
func (s *sequence) variantOf(m *model.Model) int {
	if s.job.Open {
		return m.Variant(len(s.tokens) + 1)
	}
	return m.Variant(len(s.job.Prompt) + s.job.MaxTokens)
}

// outgrown has a sequence that has come to the length from which on the network uses another form of its rotations read its own text again, in
// that form.
func (e *Engine) outgrown(s *sequence) {
	if s.phase == held || s.masking.Load() || len(s.due) > 0 {
		return
	}
	if now := s.variantOf(e.model); now != s.variant {
		s.release()
		s.variant = now
		s.become(reading)
		s.kv = e.pool.NewSequence(now)
		s.kv.Match(s.tokens[:len(s.tokens)-1])
	}
}

// admitted gives a sequence its context, with what is known of its beginning.
func (s *sequence) admitted(e *Engine) {
	if len(s.logits) > 0 {
		s.become(held)
	} else {
		s.become(reading)
	}
	if s.started.IsZero() {
		s.started = time.Now()
		s.lookup, s.draft = newLookup(len(s.job.Prompt)+min(s.job.MaxTokens, 4096)), make([]drafted, 0, longDraft)
		s.variant = s.variantOf(e.model)
		s.kv = e.pool.NewSequence(s.variant)
		if s.job.Form != nil {
			s.mask(e)
		}
	}
	known := len(s.tokens) - 1
	if s.job.ScorePrompt && s.generated == 0 {
		if known = s.job.ScoreFrom - 1; known < 1 {
			return // the whole prompt has to be read
		}
	}
	if n := s.kv.Match(s.tokens[:known]); s.generated == 0 {
		s.cached = n
	}
}
