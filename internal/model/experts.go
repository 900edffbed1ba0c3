package model

import (
	"math"

	"kindredgate/internal/tensor"
)

// routing is the working memory of layers with experts.
type routing struct {
	logits   *tensor.Batch // [Experts]
	in, out  *tensor.Batch // [Dim], of the tokens that go to one expert
	chosen   []choice      // [token × ExpertsUsed]
	tokens   []int         // that go to one expert
	weights  []float32     // of these
	gate, up *tensor.Batch
}

// choice is an expert with its weight.
type choice struct {
	expert int
	weight float32
}

// room makes room for layers of that form.
func (r *routing) room(rows, dim int, l *LayerSpec) {
	if r.logits == nil || r.logits.Cols != l.Experts {
		r.logits = tensor.NewBatch(rows, l.Experts)
	}
	if r.in == nil {
		r.in, r.out = tensor.NewBatch(rows, dim), tensor.NewBatch(rows, dim)
		r.tokens, r.weights = make([]int, 0, rows), make([]float32, 0, rows)
	}
	if r.gate == nil || r.gate.Cols != l.FeedForward {
		r.gate, r.up = tensor.NewBatch(rows, l.FeedForward), tensor.NewBatch(rows, l.FeedForward)
	}
	if len(r.chosen) < rows*l.ExpertsUsed {
		r.chosen = make([]choice, rows*l.ExpertsUsed)
	}
}

// mix sets s.projected to the weighted sum of what the chosen experts make of each token (Shazeer et al., "Outrageously
// Large Neural Networks", 2017). Only the weights of experts that were chosen are read. The sum is in the order of the
// experts, whichever tokens come together.
func (m *Model) mix(team *tensor.Team, s *Scratch, l *layer, in *tensor.Batch) {
	r := &s.experts
	r.room(s.rows, m.Dim, &l.LayerSpec)
	s.mul.Mul(team, s.pack.Pack(team, in, &l.router.Matrix), tensor.Product{W: &l.router.Matrix, Dst: r.logits})
	used := l.ExpertsUsed
	for i := range in.Len() {
		logits := r.logits.Vec(i)
		bias(logits, l.router.bias)
		choose(r.chosen[i*used:(i+1)*used], logits, l.WeighAll)
		clear(s.projected.Vec(i))
	}
	for e := range l.feedForward {
		r.tokens, r.weights = r.tokens[:0], r.weights[:0]
		for i := range in.Len() {
			for _, c := range r.chosen[i*used : (i+1)*used] {
				if c.expert == e {
					r.tokens, r.weights = append(r.tokens, i), append(r.weights, c.weight)
				}
			}
		}
		if len(r.tokens) == 0 {
			continue
		}
		f := &l.feedForward[e]
		r.in.Resize(len(r.tokens))
		for j, i := range r.tokens {
			copy(r.in.Vec(j), in.Vec(i))
		}
		m.hidden(team, s, l, f, r.in, r.gate, r.up, r.out)
		for j, i := range r.tokens {
			y := r.out.Vec(j)
			bias(y, f.down.bias)
			x := s.projected.Vec(i)
			for k, v := range y {
				x[k] += float32(r.weights[j] * v)
			}
		}
	}
}

// choose finds the experts with the largest logits, the first of equal ones, and weighs them by the softmax over them, or
// over all.
func choose(chosen []choice, logits []float32, weighAll bool) {
	for n := range chosen {
		best := -1
		for e, x := range logits {
			taken := false
			for _, c := range chosen[:n] {
				taken = taken || c.expert == e
			}
			if !taken && (best < 0 || x > logits[best]) {
				best = e
			}
		}
		chosen[n].expert = best
	}
	largest := float64(logits[chosen[0].expert])
	total := 0.0
	for i := range chosen {
		w := math.Exp(float64(logits[chosen[i].expert]) - largest)
		chosen[i].weight = float32(w)
		total += w
	}
	if weighAll {
		total = 0
		for _, x := range logits {
			total += math.Exp(float64(x) - largest)
		}
	}
	for i := range chosen {
		chosen[i].weight = float32(float64(chosen[i].weight) / total)
	}
}
