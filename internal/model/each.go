package model

import (
	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
)

// operands are what an operation works on that does the same with each token of a step. Functions over them capture nothing,
// so that a step allocates nothing.
type operands struct {
	*Scratch
	x, y     *tensor.Batch
	from, to heads
	vector   []float32
	number   float32
	index    int // of a layer or a rotation
	count    int
	norm     *norm
	parts    []part
	layer    *layer
	temper   *Temper
}

// share is an operation under way.
type share struct {
	operands
	do    func(o *operands, i int)
	n     int // tokens
	chunk int // tokens of a row of what the team splits
}

// worthSharing is from how many elements on an operation is shared out: as many as take some ten microseconds to add up, many times what
// handing over takes.
const worthSharing = 128 << 10

// each does something with each of n tokens, on several threads where that pays. It takes as long for a token as so many elements
// take to be added up.
func (s *Scratch) each(n, elements int, o operands, do func(o *operands, i int)) {
	o.Scratch = s
	w := &s.share
	*w = share{operands: o, do: do, n: n, chunk: 1}
	if n*elements < worthSharing {
		w.Do(0, 0, n)
	} else {
		if n >= 2*kv.PageTokens*s.team.Size() {
			w.chunk = kv.PageTokens // the keys of so many lie in the same cache lines
		}
		s.team.Split((n+w.chunk-1)/w.chunk, tensor.AdditionCost()*elements*w.chunk, w)
	}
	*w = share{}
}

// Do does some of the rows.
func (w *share) Do(_, from, to int) {
	for i := from * w.chunk; i < min(w.n, to*w.chunk); i++ {
		w.do(&w.operands, i)
	}
}
