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
	scores       []float32 // [token and query head][kv.PageTokens]
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
		w.peak, w.total, w.scores = make([]float32, n), make([]float32, n), make([]float32, n*kv.PageTokens)
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
		a.page(w, r, head, page*kv.PageTokens, keys, values)
	}
	for t := r.from; t < r.to; t++ {
		for h := range group {
			i, out := (t-r.from)*group+h, a.head(a.out, t, head*group+h)
			total := w.total[i]
			if a.sinks != nil {
				// The sink is one more score, whose value is zero.
				total += tensor.Exp(a.sinks[head*group+h] - w.peak[i])
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

// page adds the positions of a page, the first of which is begin, to what the queries of a run have seen: out is the sum of
// values weighed by e^(score − peak), total that of the weights. The products are done for several queries at once, which
// are either the heads of a token that share a key, or a head of some tokens.
func (a *attention) page(w *attentionWorker, r run, head, begin int, keys, values []float32) {
	d, group, n := a.spec.HeadDim, a.spec.Heads/a.spec.KVHeads, r.to-r.from
	byToken := n >= 4
	one := func(i int) (from, count, step, first int) { // of a set of queries: the first token and head, how many, how far apart
		if byToken {
			return r.from, n, a.query.Cols, i
		}
		return r.from + i, group, d, 0
	}
	sets := n
	if byToken {
		sets = group
	}
	for i := range sets {
		token, count, step, h := one(i)
		q, out := a.query.From(token, (head*group+h)*d), a.out.From(token, (head*group+h)*d)
		scores := w.scores[:count*kv.PageTokens]
		tensor.Scores(scores, q, step, count, d, keys)
		low, high := kv.PageTokens, 0
		for c := range count {
			t, place := token, h+c
			if byToken {
				t, place = token+c, h
			}
			from, to := a.sees(a.positions[t], a.tokens[t].KV.Len())
			from, to = max(from-begin, 0), min(to-begin+1, kv.PageTokens)
			low, high = min(low, from), max(high, to)
			at := (t-r.from)*group + place
			a.weigh((*[kv.PageTokens]float32)(scores[c*kv.PageTokens:]), out[c*step:c*step+d], from, to, &w.peak[at], &w.total[at])
		}
		tensor.Mix(out, step, count, d, scores, values, low, high)
	}
}

// weigh turns the scores of a query into the weights of values, 0 for those that it does not see, and makes out and total
// ready for them to be added.
func (a *attention) weigh(scores *[kv.PageTokens]float32, out []float32, from, to int, peak, total *float32) {
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
	largest = max(largest, *peak)
	if largest > *peak {
		shrink := tensor.Exp(*peak - largest)
		*peak, *total = largest, float32(*total*shrink)
		for j := range out {
			out[j] *= shrink
		}
	}
	*total += tensor.Weigh(scores, largest)
}
