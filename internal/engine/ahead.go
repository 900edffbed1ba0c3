package engine

import (
	"time"

	"kindredgate/internal/model"
)

// ahead is what the scheduler needs for a model that has a prediction head, which guesses one token more of each answer. The head sees every token
// of every text, behind the step in which the network does: its keys and values lie in the same pages, so that what is known of a text is
// known to it too.
type ahead struct {
	head  head        // nil if there is none, or none is wanted
	pace  pace        // of the head
	fed   []*sequence // by the step, in the order of their tokens
	rows  []model.Ahead
	wants []*sequence // those that logits are for, in order
}

// head puts tokens of the last step, which were these, through a prediction head, and gives the logits of those that want them.
type head interface {
	Predict(tokens []model.Token, rows []model.Ahead) [][]float32
}

func (p *processor) Predict(tokens []model.Token, rows []model.Ahead) [][]float32 {
	return p.model.Predict(p.team, p.scratch, tokens, rows)
}

// predict has the prediction head see what the step has read, as far as that stays, and guess what comes after the tokens that were just
// chosen. It comes before pages are made known, so that whoever finds one finds the head's part of it.
func (e *Engine) predict(tokens []model.Token) {
	a := &e.ahead
	a.rows, a.wants = a.rows[:0], a.wants[:0]
	for _, s := range a.fed {
		s.predicted = NoToken
		wanted, last := e.worthPredicting(s), len(s.tokens)-1
		for i := 0; i < s.fed && s.fedAt+i < s.kv.Len(); i++ {
			// What follows the last token of a text that has ended is not known: that token stands for it, since something has to.
			next := min(s.fedAt+i+1, last)
			row := model.Ahead{Row: s.row + i, Next: s.token(e.model, next, s.tokens[next]), Logits: wanted && s.fedAt+i+1 == last}
			if a.rows = append(a.rows, row); row.Logits {
				a.wants = append(a.wants, s)
			}
		}
	}
	if len(a.rows) > 0 {
		begun := time.Now()
		logits := a.head.Predict(tokens, a.rows)
		a.pace.note(len(a.rows), time.Since(begun))
		for i, s := range a.wants {
			if l := logits[i][:e.tok.Size()]; finite(l) {
				s.predicted = largest(l)
			}
		}
	}
	clear(a.fed)
	clear(a.wants)
	a.fed = a.fed[:0]
}

// worthPredicting reports whether a guess at an answer's next token but one is worth what the head takes for it.
func (e *Engine) worthPredicting(s *sequence) bool {
	if s.phase == ended || s.phase == held || s.job.Form != nil || s.job.MaxTokens-s.generated < 2 || s.lookup.after(s.tokens) != nil {
		return false
	}
	if p, rows := &e.pace, len(e.running); e.ahead.pace.weight > 0 && (1+float64(s.guessLuck))/(p.time(rows+1)+e.ahead.pace.time(1)) < 1/p.time(rows) {
		s.guessLuck.forget()
		return false
	}
	return true
}
