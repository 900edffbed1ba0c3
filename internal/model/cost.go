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
	add := func(l *linear, share float64) {
		n := int64(share * float64(l.Rows) * float64(l.Cols))
		c.Bytes += int64(share * float64(l.Bytes()))
		if c.Products += n; tensor.FormatOf(l.Type).Integer() {
			integer += n
		}
	}
	for i := range m.layers {
		l := &m.layers[i]
		for _, w := range []*linear{&l.query, &l.key, &l.value, &l.attentionOut} {
			add(w, 1)
		}
		share := 1.0
		if l.Experts > 0 {
			add(&l.router, 1)
			share = float64(l.ExpertsUsed) / float64(l.Experts)
		}
		for j := range l.feedForward {
			f := &l.feedForward[j]
			if l.Gated {
				add(&f.gate, share)
			}
			add(&f.up, share)
			add(&f.down, share)
		}
	}
	if !m.Embeds() {
		before := c.Products
		add(&linear{Matrix: m.output}, 1)
		c.OutputProducts = c.Products - before
	}
	c.Integer = 2*integer > c.Products
	return c
}
