package model

import (
	"math"

	"kindredgate/internal/tensor"
)

// routing is the working memory of layers with experts.
type routing struct {
	scores  []float32 // of the experts, by which they are chosen
	groups  []float32
	chosen  []choice // [token × Used]
	tokens  []int    // that go to one expert
	weights []float32
	used    int
}

// choice is an expert with its weight.
type choice struct {
	expert int
	weight float32
}

// room makes room for layers of that form.
func (r *routing) room(rows int, e *Experts) {
	if len(r.chosen) < rows*e.Used {
		r.chosen = make([]choice, rows*e.Used)
	}
	if len(r.scores) < e.Count {
		r.scores, r.groups = make([]float32, e.Count), make([]float32, e.Count)
	}
	if cap(r.tokens) < rows {
		r.tokens, r.weights = make([]int, 0, rows), make([]float32, 0, rows)
	}
}

func (s *Scratch) route(l *layer, dst slot) {
	r, e := &s.experts, &l.FeedForward.Experts
	r.used = e.Used
	b := s.at[scores]
	for i := range b.Len() {
		r.choose(r.chosen[i*e.Used:(i+1)*e.Used], b.Vec(i), e, l.routerBias)
		clear(s.at[dst].Vec(i))
	}
}

// gather takes the tokens that go to an expert, and only if there are any, the expert's weights are read. Sums are in the order of
// the experts, whichever tokens come together.
func (s *Scratch) gather(l *layer, expert int, in, src slot) bool {
	r, x, y := &s.experts, s.at[src], s.at[in]
	r.tokens, r.weights = r.tokens[:0], r.weights[:0]
	for i := range x.Len() {
		for _, c := range r.chosen[i*r.used : (i+1)*r.used] {
			if c.expert == expert {
				r.tokens, r.weights = append(r.tokens, i), append(r.weights, c.weight)
			}
		}
	}
	if len(r.tokens) == 0 {
		return false
	}
	y.Shape(len(r.tokens), x.Cols)
	s.each(len(r.tokens), x.Cols, operands{x: x, y: y, layer: l}, func(o *operands, i int) {
		r := &o.experts
		copy(o.y.Vec(i), o.x.Vec(r.tokens[i]))
		if o.layer.FeedForward.Experts.Router.WeighInput {
			scaledExactly(o.y.Vec(i), r.weights[i])
			r.weights[i] = 1
		}
	})
	return true
}

func (s *Scratch) scatter(_ *layer, dst, out slot) {
	y := s.at[out]
	s.each(len(s.experts.tokens), 8*y.Cols, operands{x: s.at[dst], y: y}, func(o *operands, i int) {
		x, by := o.x.Vec(o.experts.tokens[i]), o.experts.weights[i] // a token goes to an expert once
		for k, v := range o.y.Vec(i) {
			x[k] += float32(by * v)
		}
	})
}

// choose finds the experts with the best scores, the first of equal ones, and weighs them.
func (r *routing) choose(chosen []choice, logits []float32, e *Experts, bias []float32) {
	router := &e.Router
	switch router.Score {
	case Sigmoid:
		for i, x := range logits {
			logits[i] = sigmoid(x)
		}
	case AllSoftmax:
		softmax(logits)
	case ChosenSoftmax:
	}
	by := logits
	if bias != nil {
		by = r.scores[:len(logits)]
		for i, x := range logits {
			by[i] = x + bias[i]
		}
	}
	if router.Groups > 0 {
		by = r.within(by, router)
	}
	best(chosen, by)
	for i := range chosen {
		chosen[i].weight = logits[chosen[i].expert]
	}
	if router.Score == ChosenSoftmax {
		var sum float32
		largest := chosen[0].weight
		for _, c := range chosen {
			largest = max(largest, c.weight)
		}
		for i := range chosen {
			chosen[i].weight = tensor.Exp(chosen[i].weight - largest)
			sum += chosen[i].weight
		}
		for i := range chosen {
			chosen[i].weight /= sum
		}
	}
	if router.Normalized {
		sum := router.Floor
		for _, c := range chosen {
			sum += c.weight
		}
		for i := range chosen {
			chosen[i].weight /= sum
		}
	}
	if router.Scale != 0 {
		for i := range chosen {
			chosen[i].weight *= router.Scale
		}
	}
}

// within leaves the scores of the experts of the best groups alone, and makes those of the others lower than any. A group is as good
// as its two best experts together.
func (r *routing) within(by []float32, router *Router) []float32 {
	size := len(by) / router.Groups
	lowest := float32(math.Inf(-1))
	for g := range router.Groups {
		first, second := lowest, lowest
		for _, x := range by[g*size : (g+1)*size] {
			switch {
			case x > first:
				first, second = x, first
			case x > second:
				second = x
			}
		}
		r.groups[g] = first + second
	}
	var kept [maxExperts]bool
	for range router.GroupsUsed {
		best := -1
		for g, x := range r.groups[:router.Groups] {
			if !kept[g] && (best < 0 || x > r.groups[best]) {
				best = g
			}
		}
		kept[best] = true
	}
	out := r.scores[:len(by)]
	for i, x := range by {
		if out[i] = x; !kept[i/size] {
			out[i] = lowest
		}
	}
	return out
}

// best finds the largest scores.
func best(chosen []choice, by []float32) {
	for n := range chosen {
		best := -1
		for e, x := range by {
			taken := false
			for _, c := range chosen[:n] {
				taken = taken || c.expert == e
			}
			if !taken && (best < 0 || x > by[best]) {
				best = e
			}
		}
		chosen[n].expert = best
	}
}

// softmax is in float32, each step rounded by itself.
func softmax(x []float32) {
	largest := float32(math.Inf(-1))
	for _, v := range x {
		largest = max(largest, v)
	}
	var sum float32
	for i, v := range x {
		x[i] = tensor.Exp(v - largest)
		sum += x[i]
	}
	for i := range x {
		x[i] /= sum
	}
}
