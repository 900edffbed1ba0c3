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
// the order of the segments: so they can be worked on side by side, and the sums are the same.
type attention struct {
	work
	pieces   []run
	parts    int // into which the query heads of a key/value head are divided
	segments int // that are worked on side by side; 0 if each unit goes through all of its own
	apart    []sums
	workers  []attentionWorker
}

// segment is how many positions have a softmax of their own.
const segment = 512

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
const runTokens = 32

// mostHeads is how many query heads of a key/value head are worked on together, so that other threads have something to do where there
// is one such head for all of them.
const mostHeads = 8

// blockQueries is how many queries go through a page together: their scores and the page stay in the first cache.
const blockQueries = 24

type attentionWorker struct {
	keys, values []float32          // a page of one head
	queries      []float32          // of a unit, [token and query head][HeadDim]
	byteQueries  tensor.ByteQueries // the same, where keys are bytes
	sees         [runTokens][2]int  // positions first ≤ t ≤ last
	all          [2]int             // that all of them see
	scores       [blockQueries * kv.PageTokens]float32
	ranges       [blockQueries][2]int32
	shrinks      [blockQueries]float32
	whole, part  sums // of the segments so far, and of the one under way
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
	units := len(a.pieces) * w.spec.KVHeads * a.parts
	cost := (w.spec.HeadDim + w.spec.ValueDim) * longest * group / a.parts * (len(w.tokens) + len(a.pieces) - 1) / len(a.pieces)
	a.segments = 0
	if n := (longest + segment - 1) / segment; n > 1 && units < unitsPerThread*team.Size() && units*n*min(len(w.tokens), runTokens)*min(group, mostHeads)*w.spec.ValueDim <= mostApart {
		a.segments = n
		for len(a.apart) < units*n {
			a.apart = append(a.apart, sums{})
		}
		team.Split(units*n, cost/n, (*segmentsApart)(a))
	}
	team.Split(units, cost, a)
}

// unitsPerThread is how many units each thread should get, so that none waits long for the last one: where there are fewer, segments are
// worked on side by side.
const unitsPerThread = 4

// mostApart is how many numbers what segments come to may have together, 16 MiB of them: more queries keep threads busy by themselves.
const mostApart = 4 << 20

// unit is some tokens of a sequence and some query heads that share a key/value head.
type unit struct {
	run
	head         int // of keys and values
	first, group int // the query heads
}

func (u *unit) queries() int { return (u.to - u.from) * u.group }

// unit is that of a number.
func (a *attention) unit(i int) unit {
	heads := a.spec.KVHeads
	group := a.spec.Heads / heads
	piece, rest := i/(heads*a.parts), i%(heads*a.parts)
	head, first := rest/a.parts, rest%a.parts*mostHeads
	return unit{a.pieces[piece], head, head*group + first, min(mostHeads, group-first)}
}

// Do works on some units: softmax(scale·q·k) over the positions that each token sees, times their values (Vaswani et al.,
// "Attention Is All You Need", section 3.2.1).
func (a *attention) Do(number, from, to int) {
	w, d := &a.workers[number], a.spec.ValueDim
	for i := from; i < to; i++ {
		u := a.unit(i)
		n := u.queries()
		w.whole.resize(n, d)
		if a.segments > 0 {
			w.whole.clear(n, d)
			for j := range a.segments {
				w.whole.merge(&a.apart[i*a.segments+j], n, d)
			}
		} else {
			w.part.resize(n, d)
			first, last := a.begin(w, &u)
			a.through(w, &u, &w.whole, first, min(last, first/segment*segment+segment-1))
			for s := first/segment + 1; s <= last/segment; s++ {
				a.through(w, &u, &w.part, s*segment, min(last, (s+1)*segment-1))
				w.whole.merge(&w.part, n, d)
			}
		}
		a.end(&w.whole, &u)
	}
}

// segmentsApart works on segments of units, counted through.
type segmentsApart attention

// Do works on some of them.
func (p *segmentsApart) Do(number, from, to int) {
	a := (*attention)(p)
	w := &a.workers[number]
	for i := from; i < to; i++ {
		u, s := a.unit(i/a.segments), i%a.segments
		part := &a.apart[i]
		part.resize(u.queries(), a.spec.ValueDim)
		first, last := a.begin(w, &u)
		a.through(w, &u, part, max(first, s*segment), min(last, (s+1)*segment-1))
	}
}

// begin takes the queries of a unit together, and gives the range of positions that any of them sees.
func (a *attention) begin(w *attentionWorker, u *unit) (first, last int) {
	k := a.spec.HeadDim
	if n := max(k, a.spec.ValueDim) * kv.PageTokens; len(w.keys) < n {
		w.keys, w.values = make([]float32, n), make([]float32, n)
	}
	if n := u.queries() * k; len(w.queries) < n {
		w.queries = make([]float32, runTokens*mostHeads*k)
	}
	size := u.group * k
	first, last = math.MaxInt, 0
	w.all = [2]int{0, math.MaxInt}
	for t := u.from; t < u.to; t++ {
		copy(w.queries[(t-u.from)*size:][:size], a.query.Vec(t)[u.first*k:])
		from, to := a.sees(t, a.tokens[t].KV.Len())
		w.sees[t-u.from] = [2]int{from, to}
		first, last = min(first, from), max(last, to)
		w.all = [2]int{max(w.all[0], from), min(w.all[1], to)}
	}
	if a.tokens[u.from].KV.ByBytes(a.stored) {
		w.byteQueries.Round(w.queries[:u.queries()*k])
	}
	return first, last
}

// through takes a unit through positions first ≤ t ≤ last, which are of one segment.
func (a *attention) through(w *attentionWorker, u *unit, part *sums, first, last int) {
	part.clear(u.queries(), a.spec.ValueDim)
	seq := a.tokens[u.from].KV
	for page := first / kv.PageTokens; page*kv.PageTokens <= last; page++ {
		keys, values := seq.Page(page, a.stored, u.head, w.keys, w.values)
		for at := 0; at < u.queries(); at += blockQueries {
			a.page(w, u, part, at, min(blockQueries, u.queries()-at), page*kv.PageTokens, keys, values)
		}
	}
}

// page adds the positions of a page, the first of which is begin, to what n queries from one on have seen of a segment.
func (a *attention) page(w *attentionWorker, u *unit, part *sums, query, n, begin int, keys kv.Keys, values []float32) {
	ranges := everything[:n]
	low, high := 0, kv.PageTokens
	if begin < w.all[0] || begin+kv.PageTokens-1 > w.all[1] {
		ranges = w.ranges[:n]
		if low, high = a.within(w, u, query, ranges, begin); low >= high {
			return
		}
	}
	k, d, scale := a.spec.HeadDim, a.spec.ValueDim, a.spec.Scale
	scores := w.scores[:n*kv.PageTokens]
	if keys.Floats == nil {
		tensor.ByteScores(scores, &w.byteQueries, query, n, k, keys.Bytes, keys.Scales)
	} else {
		tensor.Scores(scores, w.queries[query*k:], k, n, k, keys.Floats)
	}
	if a.spec.Cap > 0 {
		for i, s := range scores {
			scores[i] = softCap(float32(s*scale), a.spec.Cap)
		}
		scale = 1
	}
	tensor.Soften(scores, scale, ranges, part.peak[query:], part.total[query:], w.shrinks[:n])
	tensor.Mix(part.values[query*d:], w.shrinks[:n], d, scores, values, low, high)
}

// everything are the ranges of queries that see all of a page.
var everything = func() (list [blockQueries][2]int32) {
	for i := range list {
		list[i][1] = kv.PageTokens
	}
	return list
}()

// within says which of the positions of a page queries see, and the range of these that any of them does.
func (a *attention) within(w *attentionWorker, u *unit, query int, ranges [][2]int32, begin int) (low, high int) {
	low, high = kv.PageTokens, 0
	for i := range ranges {
		sees := &w.sees[(query+i)/u.group]
		from, to := max(sees[0]-begin, 0), min(sees[1]-begin+1, kv.PageTokens)
		if from >= to {
			ranges[i] = [2]int32{}
			continue
		}
		ranges[i] = [2]int32{int32(from), int32(to)}
		low, high = min(low, from), max(high, to)
	}
	return low, high
}

// end writes what the queries of a unit come to.
func (a *attention) end(all *sums, u *unit) {
	d := a.spec.ValueDim
	for t := u.from; t < u.to; t++ {
		for h := range u.group {
			i := (t-u.from)*u.group + h
			total := all.total[i]
			if a.sinks != nil {
				// The sink is one more score, whose value is zero.
				total += tensor.Exp(a.sinks[u.first+h] - all.peak[i])
			}
			out := a.out.Vec(t)[(u.first+h)*d:][:d]
			for j, v := range all.values[i*d : (i+1)*d] {
				out[j] = v / total
			}
		}
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
