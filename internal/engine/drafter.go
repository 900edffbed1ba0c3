package engine

import (
	"time"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
)

// drafter is a small model that guesses what the large one, which has the same vocabulary, is going to say. It has a context
// of its own of each text, and only the scheduler uses it.
type drafter struct {
	model   *model.Model
	network Network
	pool    *kv.Pool
	pace    pace
	tokens  []model.Token
	// The sequences that are to have guesses made in the step under way, and those of them that are read so far.
	guesses, ready []*sequence
}

const (
	longGuess = 6  // tokens of one sequence
	guessRows = 64 // tokens of texts that it reads at most, besides the last ones
	// guessTime is how long it may take in a step to read what it has not read of texts.
	guessTime = 40 * time.Millisecond
)

// newDrafter makes one for an engine.
func newDrafter(m *model.Model, o Options) *drafter {
	return &drafter{model: m, pool: kv.NewPool(m.KVShape(), o.Contexts, o.contexts(m, o.Memory/4)),
		network: &processor{m, o.Team, m.NewScratch(guessRows+o.Sequences, o.Sequences)}}
}

// shadow is what the drafter knows of a sequence.
type shadow struct {
	kv      *kv.Sequence
	from    int     // where the tokens begin that it guessed last
	guessed []int32 // these
	wanted  int     // how many it is to guess
	unfit   bool    // it cannot take the text
}

// guess drafts tokens for the sequences of d.guesses, of at most so many in all beside a step of so many tokens.
func (e *Engine) guess(rows, left int) {
	d := e.drafter
	budget := guessRows
	if d.pace.weight > 0 {
		budget = min(budget, max(longGuess, d.pace.tokens(guessTime)))
	}
	ready := d.ready[:0]
	d.tokens = d.tokens[:0]
	for _, s := range d.guesses {
		s.wanted = s.worth(&e.pace, &d.pace, rows, min(left, s.job.MaxTokens-s.generated-1))
		if s.wanted == 0 {
			s.guessLuck.forget()
			continue
		}
		if !d.follow(s) {
			continue
		}
		n := len(s.tokens) - s.shadow.kv.Len()
		here := min(n, budget+1)
		budget -= here - 1
		for i := range here {
			at := s.shadow.kv.Len() + i
			d.tokens = append(d.tokens, model.Token{ID: s.tokens[at], KV: s.shadow.kv, Logits: at == len(s.tokens)-1})
		}
		if here == n {
			left -= s.wanted
			ready = append(ready, s)
		}
	}
	d.ready = ready
	for len(d.tokens) > 0 {
		begun := time.Now()
		logits := d.network.Forward(d.tokens)
		d.pace.note(len(d.tokens), time.Since(begun))
		for _, t := range d.tokens {
			t.KV.Commit()
		}
		d.tokens = d.tokens[:0]
		for _, s := range ready {
			if s.shadow.kv.Len() == s.from && !s.shadow.kv.Mark() {
				s.unfit = true
			}
		}
		going := ready[:0]
		for i, s := range ready {
			id := largest(logits[i][:e.tok.Size()])
			s.draft = append(s.draft, drafted{id: id})
			s.guessed = append(s.guessed, id)
			if len(s.draft) < s.wanted {
				going = append(going, s)
				d.tokens = append(d.tokens, model.Token{ID: id, KV: s.shadow.kv, Logits: true})
			}
		}
		ready = going
	}
	for _, s := range d.guesses {
		s.share += len(s.draft)
		s.drafted += len(s.draft)
	}
	clear(d.guesses)
	clear(d.ready[:cap(d.ready)])
	d.guesses = d.guesses[:0]
}

// follow makes the drafter's context of a sequence hold some of its tokens, but the last one, and none that it does not have.
// It reports whether it has room for those that are missing and the guesses.
func (d *drafter) follow(s *sequence) bool {
	if s.unfit {
		return false
	}
	if s.shadow.kv == nil {
		for _, id := range s.tokens {
			s.unfit = s.unfit || int(id) >= d.model.Vocab
		}
		if s.unfit {
			return false
		}
		s.shadow.kv = d.pool.NewSequence(s.variantOf(d.model))
		s.from = s.shadow.kv.Match(s.tokens[:len(s.tokens)-1])
	}
	right := s.from
	for i, id := range s.guessed {
		if at := s.from + i; at >= len(s.tokens) || s.tokens[at] != id {
			break
		}
		right++
	}
	if s.shadow.kv.Len() > right {
		s.shadow.kv.Truncate(right)
	}
	s.shadow.kv.Truncate(len(s.tokens) - 1)
	s.from, s.guessed = len(s.tokens), s.guessed[:0]
	length := len(s.tokens) + longGuess
	if int(s.tokens[len(s.tokens)-1]) >= d.model.Vocab || length > d.model.Context || s.shadow.kv.Reserve(length) != nil {
		s.unfit = true
		s.shadow.kv.Release()
	}
	return !s.unfit
}

// worth is how many tokens are worth guessing beside a step of so many: as many as make the most tokens a second, what
// guessing takes included. What the first guess takes has to be found out.
func (s *speculation) worth(p, guessing *pace, rows, most int) int {
	if guessing.weight == 0 {
		return min(1, most)
	}
	best, rate := 0, 1/p.time(rows)
	expected, all := 1.0, 1.0
	for n := 1; n <= min(most, longGuess); n++ {
		all *= float64(s.guessLuck)
		expected += all
		if r := expected / (p.time(rows+n) + float64(n)*guessing.time(1)); r > rate {
			best, rate = n, r
		}
	}
	return best
}

// largest is the token with the largest logit.
func largest(logits []float32) int32 {
	best := 0
	for i, l := range logits {
		if l > logits[best] {
			best = i
		}
	}
	return int32(best)
}
