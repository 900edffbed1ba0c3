package model

import (
	"math"

	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
)

// attention is the working memory of attention, which goes through keys and values a page at a time and keeps the softmax
// of what it has seen (Milakov and Gimelshein, "Online normalizer calculation for softmax", 2018; Dao et al.,
// "FlashAttention", 2022). So memory does not grow with the context.
//
// Positions are divided into segments, counted from the first. Each has a softmax of its own, and these are put together in
// the order of the segments: so they could be worked on side by side, and the sums are the same.
type attention struct {
	work
	pieces  []run
	parts   int // into which the query heads of a key/value head are divided
	workers []attentionWorker
}

// segment is how many positions have a softmax of their own.
const segment = 256

// work is the attention of one layer in one step.
type work struct {
	spec       *Attention
	sinks      []float32
	causal     bool
	stored     int // the layer under which keys and values are kept
	tokens     []Token
	positions  []int
	runs       []run
	query, out *tensor.Batch // [Heads*HeadDim], [Heads*ValueDim]
}

// runTokens is how many tokens share a page that was read.
const runTokens = 16

// mostHeads is how many query heads of a key/value head are worked on together, so that other threads have something to do where there
// is one such head for all of them.
const mostHeads = 8

type attentionWorker struct {
	keys, values []float32 // a page of one head
	scores       []float32 // [token and query head][kv.PageTokens]
	whole, part  sums      // of the segments so far, and of the one under way
}

// sums are what queries have seen: of each token and query head the largest score, the sum of e^(score − peak), and that of the values
// weighed by it.
type sums struct {
	peak, total []float32
	values      []float32 // [token and query head][ValueDim]
}

func (s *sums) resize(n, dim int) {
	if len(s.peak) < n {
		s.peak, s.total = make([]float32, n), make([]float32, n)
	}
	if len(s.values) < n*dim {
		s.values = make([]float32, n*dim)
	}
}

func (a *attention) run(team *tensor.Team, w *work) {
	a.work = *w
	a.pieces = a.pieces[:0]
	longest := 0
	for _, r := range w.runs {
		for from := r.from; from < r.to; from += runTokens {
			a.pieces = append(a.pieces, run{from, min(r.to, from+runTokens)})
		}
		longest = max(longest, w.tokens[r.from].KV.Len())
	}
	for len(a.workers) < team.Size() {
		a.workers = append(a.workers, attentionWorker{})
	}
	group := w.spec.Heads / w.spec.KVHeads
	a.parts = (group + mostHeads - 1) / mostHeads
	cost := (w.spec.HeadDim + w.spec.ValueDim) * longest * group / a.parts * (len(w.tokens) + len(a.pieces) - 1) / len(a.pieces)
	team.Split(len(a.pieces)*w.spec.KVHeads*a.parts, cost, a)
}

// unit is some tokens of a sequence and some query heads that share a key/value head.
type unit struct {
	run
	head         int // of keys and values
	first, group int // the query heads
}

// Do works on some units.
func (a *attention) Do(number, from, to int) {
	w, s := &a.workers[number], a.spec
	if n := max(s.HeadDim, s.ValueDim) * kv.PageTokens; len(w.keys) < n {
		w.keys, w.values = make([]float32, n), make([]float32, n)
	}
	group := s.Heads / s.KVHeads
	n := runTokens * min(group, mostHeads)
	if len(w.scores) < n*kv.PageTokens {
		w.scores = make([]float32, n*kv.PageTokens)
	}
	w.whole.resize(n, s.ValueDim)
	w.part.resize(n, s.ValueDim)
	for i := from; i < to; i++ {
		piece, rest := i/(s.KVHeads*a.parts), i%(s.KVHeads*a.parts)
		head, part := rest/a.parts, rest%a.parts
		first := part * mostHeads
		a.unit(w, &unit{a.pieces[piece], head, head*group + first, min(mostHeads, group-first)})
	}
}

// sees is the range of positions that a token attends to, in a sequence of n.
func (a *attention) sees(t, n int) (first, last int) {
	pos, of := a.positions[t], &a.tokens[t]
	window, last := a.spec.Window, pos
	if of.Until > 0 {
		if !a.causal {
			return of.From, of.Until - 1
		}
		last = max(last, of.Until-1)
	}
	if !a.causal {
		last = n - 1
	}
	switch a.spec.Mask {
	case MaskChunk:
		first = pos / window * window
		return first, min(last, first+window-1)
	case MaskWindow:
		if !a.causal {
			return max(0, pos-window/2), min(last, pos+window/2)
		}
		return max(0, pos-window+1), last
	case MaskNone:
	}
	return 0, last
}

// unit computes softmax(scale·q·k) over the positions that each token sees, times their values (Vaswani et al.,
// "Attention Is All You Need", section 3.2.1).
func (a *attention) unit(w *attentionWorker, u *unit) {
	d := a.spec.ValueDim
	seq := a.tokens[u.from].KV
	first, last := math.MaxInt, 0
	for t := u.from; t < u.to; t++ {
		from, to := a.sees(t, seq.Len())
		first, last = min(first, from), max(last, to)
	}
	n := (u.to - u.from) * u.group
	w.whole.clear(n, d)
	for page := first / kv.PageTokens; page <= last/kv.PageTokens; {
		end := min(last/kv.PageTokens, page/(segment/kv.PageTokens)*(segment/kv.PageTokens)+segment/kv.PageTokens-1)
		w.part.clear(n, d)
		for ; page <= end; page++ {
			keys, values := seq.Page(page, a.stored, u.head, w.keys, w.values)
			a.page(w, u, page*kv.PageTokens, keys, values)
		}
		w.whole.merge(&w.part, n, d)
	}
	for t := u.from; t < u.to; t++ {
		for h := range u.group {
			i := (t-u.from)*u.group + h
			total := w.whole.total[i]
			if a.sinks != nil {
				// The sink is one more score, whose value is zero.
				total += tensor.Exp(a.sinks[u.first+h] - w.whole.peak[i])
			}
			out := a.out.Vec(t)[(u.first+h)*d:][:d]
			for j, v := range w.whole.values[i*d : (i+1)*d] {
				out[j] = v / total
			}
		}
	}
}

func (s *sums) clear(n, d int) {
	for i := range n {
		s.peak[i], s.total[i] = float32(math.Inf(-1)), 0
	}
	clear(s.values[:n*d])
}

// merge adds what the queries have seen of one more segment.
func (s *sums) merge(part *sums, n, d int) {
	for i := range n {
		peak := max(s.peak[i], part.peak[i])
		switch {
		case part.total[i] == 0: // it sees nothing of it
			continue
		case s.total[i] == 0:
			s.peak[i], s.total[i] = part.peak[i], part.total[i]
			copy(s.values[i*d:(i+1)*d], part.values[i*d:(i+1)*d])
			continue
		}
		before, after := tensor.Exp(s.peak[i]-peak), tensor.Exp(part.peak[i]-peak)
		s.peak[i] = peak
		s.total[i] = float32(s.total[i]*before) + float32(part.total[i]*after)
		tensor.Blend(s.values[i*d:(i+1)*d], part.values[i*d:(i+1)*d], before, after)
	}
}

// page adds the positions of a page, the first of which is begin, to what the queries of a unit have seen of a segment. The
// products are done for several queries at once, which are either the heads of a token, or a head of some tokens.
func (a *attention) page(w *attentionWorker, u *unit, begin int, keys, values []float32) {
	k, d, n := a.spec.HeadDim, a.spec.ValueDim, u.to-u.from
	byToken := n >= 4
	sets, count, step, sumStep := n, u.group, k, d
	if byToken {
		sets, count, step, sumStep = u.group, n, a.query.Cols, u.group*d
	}
	for i := range sets {
		token, head := u.from+i, 0
		if byToken {
			token, head = u.from, i
		}
		at := (token-u.from)*u.group + head // of the first query among those of the unit
		scores := w.scores[:count*kv.PageTokens]
		tensor.Scores(scores, a.query.From(token, (u.first+head)*k), step, count, k, keys)
		low, high := kv.PageTokens, 0
		for c := range count {
			t, q := token, at+c
			if byToken {
				t, q = token+c, at+c*u.group
			}
			from, to := a.sees(t, a.tokens[t].KV.Len())
			from, to = max(from-begin, 0), min(to-begin+1, kv.PageTokens)
			low, high = min(low, from), max(high, to)
			a.weigh((*[kv.PageTokens]float32)(scores[c*kv.PageTokens:]), &w.part, q, from, to)
		}
		tensor.Mix(w.part.values[at*d:], sumStep, count, d, scores, values, low, high)
	}
}

// weigh turns the scores of a query into the weights of values, 0 for those that it does not see, and makes its sums ready for
// them to be added.
func (a *attention) weigh(scores *[kv.PageTokens]float32, s *sums, query, from, to int) {
	if from >= to {
		clear(scores[:])
		return
	}
	largest := tensor.Mask(scores, a.spec.Scale, from, to)
	if a.spec.Cap > 0 {
		largest = float32(math.Inf(-1))
		for t := from; t < to; t++ {
			scores[t] = softCap(scores[t], a.spec.Cap)
			largest = max(largest, scores[t])
		}
	}
	peak := &s.peak[query]
	largest = max(largest, *peak)
	if largest > *peak {
		shrink := tensor.Exp(*peak - largest)
		*peak = largest
		s.total[query] = float32(s.total[query] * shrink)
		values := s.values[query*a.spec.ValueDim:][:a.spec.ValueDim]
		if shrink != 1 {
			for j := range values {
				values[j] *= shrink
			}
		}
	}
	s.total[query] += tensor.Weigh(scores, largest)
}
