package model

import (
	"math"

	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
)

// attention is the working memory of attention, which goes through keys and values a page at a time and keeps the softmax
// of what it has seen (Milakov and Gimelshein, "Online normalizer calculation for softmax", 2018; Dao et al.,
// "FlashAttention", 2022). So memory does not grow with the context.
type attention struct {
	work
	runs    []run
	workers []attentionWorker
}

// work is the attention of one layer in one step.
type work struct {
	spec       *LayerSpec
	sinks      []float32
	causal     bool
	stored     int // the layer under which keys and values are kept
	tokens     []Token
	positions  []int
	query, out *tensor.Batch // [Heads*HeadDim]
}

// run is some tokens of one sequence, one after the other.
type run struct{ from, to int }

// runTokens is how many tokens a run has at the most: they use a page that was read together.
const runTokens = 16

type attentionWorker struct {
	keys, values []float32 // a page of one head
	peak, total  []float32 // of each token and query head: the largest score so far, and the sum of e^(score − peak)
}

func (a *attention) run(team *tensor.Team, w *work) {
	a.work = *w
	a.runs = a.runs[:0]
	longest := 0
	for i := 0; i < len(w.tokens); {
		n := i + 1
		for n < len(w.tokens) && n-i < runTokens && w.tokens[n].KV == w.tokens[i].KV {
			n++
		}
		a.runs = append(a.runs, run{i, n})
		longest = max(longest, w.tokens[i].KV.Len())
		i = n
	}
	for len(a.workers) < team.Size() {
		a.workers = append(a.workers, attentionWorker{})
	}
	group := w.spec.Heads / w.spec.KVHeads
	cost := 2 * longest * w.spec.HeadDim * group * (len(w.tokens) + len(a.runs) - 1) / len(a.runs)
	team.Split(len(a.runs)*w.spec.KVHeads, cost, a)
}

// Do works on some pairs of a run and a key/value head.
func (a *attention) Do(number, from, to int) {
	w := &a.workers[number]
	d := a.spec.HeadDim
	if len(w.keys) < d*kv.PageTokens {
		w.keys, w.values = make([]float32, d*kv.PageTokens), make([]float32, d*kv.PageTokens)
	}
	if n := runTokens * a.spec.Heads / a.spec.KVHeads; len(w.peak) < n {
		w.peak, w.total = make([]float32, n), make([]float32, n)
	}
	for u := from; u < to; u++ {
		a.unit(w, a.runs[u/a.spec.KVHeads], u%a.spec.KVHeads)
	}
}

// sees is the range of positions that the token at pos attends to, in a sequence of n.
func (a *attention) sees(pos, n int) (first, last int) {
	window := a.spec.Window
	switch {
	case a.causal && window > 0:
		return max(0, pos-window+1), pos
	case a.causal:
		return 0, pos
	case window > 0:
		return max(0, pos-window/2), min(n-1, pos+window/2)
	}
	return 0, n - 1
}

// unit computes softmax(scale·q·k) over the positions that each token sees, times their values (Vaswani et al.,
// "Attention Is All You Need", section 3.2.1), for the query heads that share one key/value head.
func (a *attention) unit(w *attentionWorker, r run, head int) {
	d, group := a.spec.HeadDim, a.spec.Heads/a.spec.KVHeads
	seq := a.tokens[r.from].KV
	first, last := math.MaxInt, 0
	for t := r.from; t < r.to; t++ {
		from, to := a.sees(a.positions[t], seq.Len())
		first, last = min(first, from), max(last, to)
		for h := range group {
			w.peak[(t-r.from)*group+h], w.total[(t-r.from)*group+h] = float32(math.Inf(-1)), 0
			clear(a.head(a.out, t, head*group+h))
		}
	}
	for page := first / kv.PageTokens; page <= last/kv.PageTokens; page++ {
		keys, values := seq.Page(page, a.stored, head, w.keys, w.values)
		begin := page * kv.PageTokens
		for t := r.from; t < r.to; t++ {
			from, to := a.sees(a.positions[t], seq.Len())
			from, to = max(from-begin, 0), min(to-begin+1, kv.PageTokens)
			if from >= to {
				continue
			}
			for h := range group {
				i := (t-r.from)*group + h
				q, out := a.head(a.query, t, head*group+h), a.head(a.out, t, head*group+h)
				a.page(q, out, keys, values, from, to, &w.peak[i], &w.total[i])
			}
		}
	}
	for t := r.from; t < r.to; t++ {
		for h := range group {
			i, out := (t-r.from)*group+h, a.head(a.out, t, head*group+h)
			total := w.total[i]
			if a.sinks != nil {
				// The sink is one more score, whose value is zero.
				total += exp(a.sinks[head*group+h] - w.peak[i])
			}
			for j := range out[:d] {
				out[j] /= total
			}
		}
	}
}

func (a *attention) head(b *tensor.Batch, token, head int) []float32 {
	return b.Vec(token)[head*a.spec.HeadDim : (head+1)*a.spec.HeadDim]
}

// page adds positions from ≤ t < to of a page to what a query has seen: out is the sum of values weighed by
// e^(score − peak), total that of the weights.
func (a *attention) page(q, out, keys, values []float32, from, to int, peak, total *float32) {
	var scores [kv.PageTokens]float32
	for j, x := range q {
		k := (*[kv.PageTokens]float32)(keys[j*kv.PageTokens:])
		for t := range scores {
			scores[t] += x * k[t]
		}
	}
	largest := *peak
	for t := from; t < to; t++ {
		s := scores[t] * a.spec.Scale
		if a.spec.Cap > 0 {
			s = softCap(s, a.spec.Cap)
		}
		scores[t] = s
		largest = max(largest, s)
	}
	if largest > *peak {
		shrink := exp(*peak - largest)
		*peak, *total = largest, *total*shrink
		for j := range out {
			out[j] *= shrink
		}
	}
	for t := from; t < to; t++ {
		p := exp(scores[t] - largest)
		*total += p
		for j, v := range values[t*len(out) : (t+1)*len(out)] {
			out[j] += p * v
		}
	}
}

func exp(x float32) float32 { return float32(math.Exp(float64(x))) }
