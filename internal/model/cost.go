package model

import "kindredgate/internal/tensor"

// Cost is what a token costs.
type Cost struct {
	Bytes          int64 // of weights that are read, for one token by itself
	Products       int64 // multiplications with weights
	OutputProducts int64 // of these, those of the output matrix, which only tokens have that logits are wanted of
	Integer        bool  // most of them are of integers
}

// Cost is what a token costs, attention apart, which depends on how many came before.
func (m *Model) Cost() (c Cost) {
	integer := int64(0)
	m.products(func(w *tensor.Matrix, share float64) {
		n := int64(share * float64(w.Rows) * float64(w.Cols))
		c.Bytes += int64(share * float64(w.Bytes()))
		if c.Products += n; tensor.FormatOf(w.Type).Integer() {
			integer += n
		}
		if w == &m.output {
			c.OutputProducts = n
		}
	})
	c.Integer = 2*integer > c.Products
	return c
}

// Matrices are all matrices that activations are multiplied with, always in the same order.
func (m *Model) Matrices() (list []*tensor.Matrix) {
	note := func(w *tensor.Matrix, _ float64) { list = append(list, w) }
	m.products(note)
	if p := m.predictor; p != nil {
		note(&p.join.Matrix, 1)
		m.step(&matrices{give: note}, len(m.Layers))
		if p.output != &m.output {
			note(p.output, 1)
		}
	}
	return list
}

// products gives the matrices that tokens are multiplied with, and which share of the tokens each is for.
func (m *Model) products(give func(w *tensor.Matrix, share float64)) {
	m.walk(&matrices{give: give, share: 1})
	if !m.Embeds() {
		give(&m.output, 1)
	}
}
