package engine

import "fmt"

// phase is where a sequence is in its life.
type phase uint8

const (
	waiting   phase = iota // for its first turn
	reading                // its prompt or, after it gave its memory back, its own text
	decoding               // one token after the other
	catching               // up with tokens that are known already: what its form left no choice about, or what was right of a draft
	held                   // it has logits, and no mask of its form yet
	displaced              // it gave its memory to an older one, and waits for some
	ended
	phases
)

func (p phase) String() string {
	return [phases]string{"waiting", "reading", "decoding", "catching up", "held", "displaced", "ended"}[p]
}

// transitions are the phases that may follow each, besides itself.
var transitions = [phases][]phase{
	waiting:   {reading, ended},
	reading:   {decoding, catching, held, displaced, ended},
	decoding:  {reading, catching, held, displaced, ended},
	catching:  {reading, decoding, held, displaced, ended},
	held:      {decoding, catching, displaced, ended},
	displaced: {reading, held, ended},
	ended:     {},
}

// become goes on to a phase. A transition that is not in the table is a mistake of the engine, which ends the sequences under way.
func (s *sequence) become(next phase) {
	if next == s.phase {
		return
	}
	for _, p := range transitions[s.phase] {
		if p == next {
			s.phase = next
			return
		}
	}
	panic(fmt.Sprintf("engine: a sequence that is %v cannot be %v next", s.phase, next))
}

// closing says how an answer in a form comes to its end.
type closing uint8

const (
	unbounded closing = iota // the limit of tokens may come before the form's end
	bounded                  // the form can be brought to its end within the limit
	ending                   // the limit is near, so the rest is what brings it to its end
)
