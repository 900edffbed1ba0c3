package model

import (
	"math"

	"kindredgate/internal/tensor"
)

// Row is one token of a step: it takes the next position of its sequence. Rows of the same sequence follow
// each other in the order of their positions.
type Row struct {
	Token  int32
	Cache  *Cache
	Logits bool // whether the logits after this token are wanted
}

// Scratch is the working memory of a step, reused from step to step by one goroutine.
type Scratch struct {
	x, normed       *tensor.Activations // [Dim]
	query, attended *tensor.Activations // [Heads*HeadDim]
	key, value      *tensor.Activations // [KVHeads*HeadDim]
	gate, up        *tensor.Activations // [FeedForward]
	projected       *tensor.Activations // [Dim]
	final, logits   *tensor.Activations // [Dim], [Vocab]
	positions       []int
	cos, sin        []float32   // [row][RopeDims/2]
	scores          [][]float32 // [row*Heads], each of the row's context length
	maxOutputs      int
}

// NewScratch makes room for steps of up to rows tokens of which up to outputs want logits.
func (m *Model) NewScratch(rows, outputs int) *Scratch {
	act := tensor.NewActivations
	q, kv := m.Heads*m.HeadDim, m.KVHeads*m.HeadDim
	return &Scratch{
		x: act(rows, m.Dim), normed: act(rows, m.Dim), projected: act(rows, m.Dim),
		query: act(rows, q), attended: act(rows, q),
		key: act(rows, kv), value: act(rows, kv),
		gate: act(rows, m.FeedForward), up: act(rows, m.FeedForward),
		final: act(outputs, m.Dim), logits: act(outputs, m.Vocab),
		positions: make([]int, rows),
		cos:       make([]float32, rows*m.RopeDims/2), sin: make([]float32, rows*m.RopeDims/2),
		scores:     make([][]float32, rows*m.Heads),
		maxOutputs: outputs,
	}
}

// Forward puts the rows through the network, appends them to their caches, and returns the logits
// ([Vocab] each) of the rows that want them, in order. The logits are valid until the next Forward with s.
// Tokens must be below Vocab and there must not be more rows than s has room for.
func (m *Model) Forward(team *tensor.Team, s *Scratch, rows []Row) [][]float32 {
	m.run(team, s, rows)
	return m.logits(team, s, rows)
}

// Encode makes a vector, [Dim] and of length 1, of each text. The texts, which must not be empty, must together not
// have more tokens than s has room for.
func (m *Model) Encode(team *tensor.Team, s *Scratch, texts [][]int32) [][]float32 {
	var rows []Row
	for _, text := range texts {
		cache := m.NewCache()
		for _, id := range text {
			rows = append(rows, Row{Token: id, Cache: cache})
		}
	}
	m.run(team, s, rows)
	m.norm(s.normed, s.x, m.outputNorm)
	out := make([][]float32, len(texts))
	first := 0
	for i, text := range texts {
		out[i] = make([]float32, m.Dim)
		from, to := first, first+len(text)
		first = to
		switch m.Pooling {
		case PoolFirst:
			to = from + 1
		case PoolLast:
			from = to - 1
		case PoolNone, PoolMean:
		}
		for row := from; row < to; row++ {
			for j, v := range s.normed.Vec(row) {
				out[i][j] += v
			}
		}
		// The mean's divisor goes with the length.
		length := float32(math.Sqrt(float64(tensor.Dot(out[i], out[i]))))
		for j := range out[i] {
			out[i][j] /= max(length, 1e-12)
		}
	}
	return out
}

// run puts the rows through the layers; s.x holds what comes out.
func (m *Model) run(team *tensor.Team, s *Scratch, rows []Row) {
	for _, a := range []*tensor.Activations{s.x, s.normed, s.projected, s.query, s.attended, s.key, s.value, s.gate, s.up} {
		a.Resize(len(rows))
	}
	m.place(s, rows)
	for i, r := range rows {
		m.embedding.Row(s.x.Vec(i), int(r.Token))
	}
	for l := range m.layers {
		m.attention(team, s, rows, l)
		m.feedForward(team, s, &m.layers[l])
	}
}

// place gives every row its position and the rotation that goes with it.
func (m *Model) place(s *Scratch, rows []Row) {
	half := m.RopeDims / 2
	for i, r := range rows {
		pos := r.Cache.n
		r.Cache.n++
		r.Cache.grow(r.Cache.n)
		s.positions[i] = pos
		for j, f := range m.ropeFreqs {
			sin, cos := math.Sincos(float64(pos) * f)
			s.sin[i*half+j], s.cos[i*half+j] = float32(sin), float32(cos)
		}
	}
}

func (m *Model) attention(team *tensor.Team, s *Scratch, rows []Row, l int) {
	w := &m.layers[l]
	m.norm(s.normed, s.x, w.attentionNorm)
	quantizeFor(s.normed, w.query, w.key, w.value)
	tensor.MatMul(team, s.query, w.query, s.normed)
	tensor.MatMul(team, s.key, w.key, s.normed)
	tensor.MatMul(team, s.value, w.value, s.normed)
	longest := 0
	for i, r := range rows {
		m.rotate(s, i, s.query.Vec(i))
		m.rotate(s, i, s.key.Vec(i))
		key, value := r.Cache.at(l, s.positions[i])
		copy(key, s.key.Vec(i))
		copy(value, s.value.Vec(i))
		longest = max(longest, r.Cache.n)
	}
	// One unit of work is one head of one row; it reads its share of the cache twice.
	team.Split(len(rows)*m.Heads, 2*longest*m.HeadDim, func(from, to int) {
		for u := from; u < to; u++ {
			i, head := u/m.Heads, u%m.Heads
			last := s.positions[i]
			if !m.Causal {
				last = rows[i].Cache.n - 1
			}
			s.scores[u] = m.attend(s.attended.Vec(i), s.query.Vec(i), rows[i].Cache, l, head, last, s.scores[u])
		}
	})
	quantizeFor(s.attended, w.attentionOut)
	tensor.MatMul(team, s.projected, w.attentionOut, s.attended)
	add(s.x, s.projected)
}

// attend computes one head of one position: softmax(q·k / sqrt(HeadDim)) over the positions it sees, of which last is
// the last, times their values (Vaswani et al., "Attention Is All You Need", section 3.2.1). scores is memory to use.
func (m *Model) attend(out, query []float32, cache *Cache, l, head, last int, scores []float32) []float32 {
	d := m.HeadDim
	q := query[head*d : (head+1)*d]
	out = out[head*d : (head+1)*d]
	shared := head / (m.Heads / m.KVHeads) * d
	first := 0
	if m.Window > 0 {
		first = max(0, last-m.Window+1)
	}
	scale := float32(1 / math.Sqrt(float64(d)))
	scores = scores[:0]
	for j := first; j <= last; j++ {
		key, _ := cache.at(l, j)
		scores = append(scores, scale*tensor.Dot(q, key[shared:shared+d]))
	}
	softmax(scores)
	clear(out)
	for j, p := range scores {
		_, value := cache.at(l, first+j)
		for k, v := range value[shared : shared+d] {
			out[k] += p * v
		}
	}
	return scores
}

// rotate turns each pair of dimensions (2i, 2i+1) of every head by the angle of row i.
func (m *Model) rotate(s *Scratch, row int, x []float32) {
	half := m.RopeDims / 2
	cos, sin := s.cos[row*half:(row+1)*half], s.sin[row*half:(row+1)*half]
	for head := 0; head < len(x); head += m.HeadDim {
		for i := range cos {
			a, b := x[head+2*i], x[head+2*i+1]
			x[head+2*i] = a*cos[i] - b*sin[i]
			x[head+2*i+1] = a*sin[i] + b*cos[i]
		}
	}
}

// feedForward adds down(silu(gate(x)) * up(x)) (Shazeer, "GLU Variants Improve Transformer").
func (m *Model) feedForward(team *tensor.Team, s *Scratch, w *layer) {
	m.norm(s.normed, s.x, w.feedForwardNorm)
	quantizeFor(s.normed, w.gate, w.up)
	tensor.MatMul(team, s.gate, w.gate, s.normed)
	tensor.MatMul(team, s.up, w.up, s.normed)
	for i := range s.gate.Len() {
		up := s.up.Vec(i)
		gate := s.gate.Vec(i)
		for j, g := range gate {
			gate[j] = g / (1 + float32(math.Exp(-float64(g)))) * up[j]
		}
	}
	quantizeFor(s.gate, w.down)
	tensor.MatMul(team, s.projected, w.down, s.gate)
	add(s.x, s.projected)
}

func (m *Model) logits(team *tensor.Team, s *Scratch, rows []Row) [][]float32 {
	n := 0
	s.final.Resize(s.maxOutputs)
	for i, r := range rows {
		if r.Logits {
			m.normVec(s.final.Vec(n), s.x.Vec(i), m.outputNorm)
			n++
		}
	}
	s.final.Resize(n)
	quantizeFor(s.final, m.output)
	tensor.MatMul(team, s.logits, m.output, s.final)
	out := make([][]float32, n)
	for i := range out {
		out[i] = s.logits.Vec(i)
	}
	return out
}

func (m *Model) norm(dst, x *tensor.Activations, weight []float32) {
	for i := range x.Len() {
		m.normVec(dst.Vec(i), x.Vec(i), weight)
	}
}

// normVec is RMSNorm: x / sqrt(mean(x²) + ε) × weight (Zhang and Sennrich, 2019).
func (m *Model) normVec(dst, x, weight []float32) {
	scale := float32(1 / math.Sqrt(float64(tensor.Dot(x, x))/float64(len(x))+float64(m.NormEpsilon)))
	for i, v := range x {
		dst[i] = v * scale * weight[i]
	}
}

// quantizeFor prepares x for products with matrices of which any may be quantised.
func quantizeFor(x *tensor.Activations, with ...tensor.Matrix) {
	for _, w := range with {
		if w.Type == tensor.Q8_0 {
			x.Quantize()
			return
		}
	}
}

func add(x, y *tensor.Activations) {
	for i := range x.Len() {
		to := x.Vec(i)
		for j, v := range y.Vec(i) {
			to[j] += v
		}
	}
}

// softmax turns scores into probabilities in place.
func softmax(x []float32) {
	largest := float32(math.Inf(-1))
	for _, v := range x {
		largest = max(largest, v)
	}
	var sum float32
	for i, v := range x {
		e := float32(math.Exp(float64(v - largest)))
		x[i] = e
		sum += e
	}
	for i := range x {
		x[i] /= sum
	}
}
