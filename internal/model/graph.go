package model

import (
	"fmt"
	"math"

	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// Token is one token of a step: it takes the next position of its sequence. Tokens of the same sequence follow each
// other in the order of their positions.
type Token struct {
	ID     int32
	Type   int32 // of models that tell kinds of tokens apart
	KV     *kv.Sequence
	Logits bool // whether the logits after this token are wanted
}

// Scratch is the working memory of a step, reused from step to step by one goroutine.
type Scratch struct {
	mul  tensor.Multiplier
	pack tensor.Packer

	x, normed       *tensor.Batch // [Dim]
	query, attended map[int]*tensor.Batch
	key, value      map[int]*tensor.Batch
	gate, up        map[int]*tensor.Batch // [FeedForward]
	projected       *tensor.Batch         // [Dim]
	final, logits   *tensor.Batch         // [Dim], [Vocab]
	out             [][]float32
	positions       []int
	cos, sin        [][]float32 // [rope][token × Dims/2]
	attention       attention
	experts         routing
	rows            int
}

// NewScratch makes room for steps of up to rows tokens of which up to outputs want logits.
func (m *Model) NewScratch(rows, outputs int) *Scratch {
	s := &Scratch{
		x: tensor.NewBatch(rows, m.Dim), normed: tensor.NewBatch(rows, m.Dim), projected: tensor.NewBatch(rows, m.Dim),
		query: map[int]*tensor.Batch{}, attended: map[int]*tensor.Batch{}, key: map[int]*tensor.Batch{}, value: map[int]*tensor.Batch{},
		gate: map[int]*tensor.Batch{}, up: map[int]*tensor.Batch{},
		positions: make([]int, rows), rows: rows,
	}
	if !m.Embeds() {
		s.final, s.logits = tensor.NewBatch(outputs, m.Dim), tensor.NewBatch(outputs, m.Vocab)
		s.out = make([][]float32, 0, outputs)
	}
	room := func(of map[int]*tensor.Batch, width int) {
		if of[width] == nil {
			of[width] = tensor.NewBatch(rows, width)
		}
	}
	for _, l := range m.layers {
		q, kv := l.Heads*l.HeadDim, l.KVHeads*l.HeadDim
		room(s.query, q)
		room(s.attended, q)
		room(s.key, kv)
		room(s.value, kv)
		room(s.up, l.FeedForward)
		if l.Gated {
			room(s.gate, l.FeedForward)
		}
		if l.Experts > 0 {
			s.experts.room(rows, m.Dim, &l.LayerSpec)
		}
	}
	for _, r := range m.Ropes {
		s.cos = append(s.cos, make([]float32, rows*r.Dims/2))
		s.sin = append(s.sin, make([]float32, rows*r.Dims/2))
	}
	return s
}

// ScratchBytes is about what a Scratch takes.
func (m *Model) ScratchBytes(rows, outputs int) int64 {
	n := int64(rows) * int64(m.RowBytes())
	if !m.Embeds() {
		n += 4 * int64(outputs) * int64(m.Vocab+m.Dim)
	}
	return n
}

// RowBytes is about what a token of a step takes in a Scratch.
func (m *Model) RowBytes() int {
	n := 3 * m.Dim
	for _, l := range m.layers {
		n = max(n, 3*m.Dim+2*(l.Heads+l.KVHeads)*l.HeadDim+3*l.FeedForward)
	}
	return 4 * n
}

// Forward puts the tokens through the network, appends them to their sequences, and returns the logits ([Vocab] each) of
// the tokens that want them, in order. The logits are valid until the next Forward with s. Token ids must be below Vocab,
// there must not be more tokens than s has room for, and their sequences must have room for them.
func (m *Model) Forward(team *tensor.Team, s *Scratch, tokens []Token) [][]float32 {
	m.run(team, s, tokens)
	n := 0
	for _, t := range tokens {
		if t.Logits {
			n++
		}
	}
	s.final.Resize(n)
	n = 0
	for i, t := range tokens {
		if t.Logits {
			m.normalize(s.final.Vec(n), s.x.Vec(i), m.outputNorm)
			n++
		}
	}
	s.out = s.out[:0]
	if n == 0 {
		return s.out
	}
	s.mul.Mul(team, s.pack.Pack(team, s.final, &m.output), tensor.Product{W: &m.output, Dst: s.logits})
	for i := range n {
		v := s.logits.Vec(i)
		if limit := m.LogitCap; limit > 0 {
			for j, x := range v {
				v[j] = softCap(x, limit)
			}
		}
		s.out = append(s.out, v)
	}
	return s.out
}

// Text is the tokens of a text of which a vector is to be made.
type Text struct {
	IDs   []int32
	Types []int32 // of the tokens; nil if all are 0
}

// Encode makes a vector of length 1 of each text, which is as long as the last dense layer says or, if there is none, as
// the network is wide. The texts, which must not be empty, must together not have more tokens than s has room for, and
// pool must have room for them.
func (m *Model) Encode(team *tensor.Team, s *Scratch, pool *kv.Pool, texts []Text) ([][]float32, error) {
	var tokens []Token
	for _, text := range texts {
		seq := pool.NewSequence(m.Variant(len(text.IDs)))
		defer seq.Release()
		if err := seq.Reserve(len(text.IDs)); err != nil {
			return nil, err
		}
		for i, id := range text.IDs {
			t := Token{ID: id, KV: seq}
			if text.Types != nil {
				t.Type = text.Types[i]
			}
			tokens = append(tokens, t)
		}
	}
	m.run(team, s, tokens)
	out := make([][]float32, len(texts))
	first := 0
	for i, text := range texts {
		v := make([]float32, m.Dim)
		from, to := first, first+len(text.IDs)
		first = to
		switch m.Pooling {
		case weights.PoolFirst:
			to = from + 1
		case weights.PoolLast:
			from = to - 1
		case weights.PoolNone, weights.PoolMean:
		}
		for t := from; t < to; t++ {
			row := s.x.Vec(t)
			if m.OutputNorm {
				m.normalize(s.normed.Vec(t), row, m.outputNorm)
				row = s.normed.Vec(t)
			}
			tensor.Add(v, row)
		}
		// The mean's divisor goes with the length, unless something that is not linear follows; dense layers are.
		for _, w := range m.dense {
			in, product := tensor.NewBatch(1, w.Cols), tensor.NewBatch(1, w.Rows)
			in.Resize(1)
			copy(in.Vec(0), v)
			s.mul.Mul(team, s.pack.Pack(team, in, &w), tensor.Product{W: &w, Dst: product})
			v = product.Vec(0)
		}
		out[i] = Unit(v)
	}
	return out, nil
}

// Unit scales a vector to length 1, in place.
func Unit(v []float32) []float32 {
	length := float32(math.Sqrt(float64(tensor.Dot(v, v))))
	for j := range v {
		v[j] /= max(length, 1e-12)
	}
	return v
}

// run puts the tokens through the layers; s.x holds what comes out.
func (m *Model) run(team *tensor.Team, s *Scratch, tokens []Token) {
	if len(tokens) > s.rows {
		panic(fmt.Sprintf("model: room for %d tokens, not %d", s.rows, len(tokens)))
	}
	for _, b := range []*tensor.Batch{s.x, s.normed, s.projected} {
		b.Resize(len(tokens))
	}
	m.place(s, tokens)
	for i, t := range tokens {
		m.embed(s.x.Vec(i), s.normed.Vec(i), t, s.positions[i])
	}
	for i := range m.layers {
		m.attend(team, s, tokens, i)
		m.forward(team, s, &m.layers[i])
	}
}

// embed writes the vector that a token begins with to x; spare is memory of the same size.
func (m *Model) embed(x, spare []float32, t Token, position int) {
	m.embedding.Row(x, int(t.ID))
	if scale := m.EmbeddingScale; scale != 0 {
		for j := range x {
			x[j] *= scale
		}
	}
	if m.Types > 0 {
		m.types.Row(spare, int(t.Type))
		tensor.Add(x, spare)
	}
	if m.Positions > 0 {
		m.positions.Row(spare, position)
		tensor.Add(x, spare)
	}
	if m.EmbeddingNorm {
		m.normalize(x, x, m.embeddingNorm)
	}
}

// place gives every token its position and the rotations that go with it.
func (m *Model) place(s *Scratch, tokens []Token) {
	for i, t := range tokens {
		pos := t.KV.Append(t.ID)
		s.positions[i] = pos
		for n := range m.Ropes {
			r := &m.Ropes[n]
			angles := r.Angles
			if t.KV.Variant() > 0 && r.Long != nil {
				angles = r.Long
			}
			half := r.Dims / 2
			for j, a := range angles {
				sin, cos := math.Sincos(float64(pos) * a)
				s.sin[n][i*half+j], s.cos[n][i*half+j] = float32(sin*r.Factor), float32(cos*r.Factor)
			}
		}
	}
}

// attend adds what attention gives in a layer.
func (m *Model) attend(team *tensor.Team, s *Scratch, tokens []Token, number int) {
	l := &m.layers[number]
	in := s.x
	if l.PreNorm {
		m.normalizeAll(s.normed, s.x, l.attentionNorm)
		in = s.normed
	}
	q, k, v, attended := s.query[l.query.Rows], s.key[l.key.Rows], s.value[l.value.Rows], s.attended[l.query.Rows]
	s.mul.Mul(team, s.pack.Pack(team, in, &l.query.Matrix, &l.key.Matrix, &l.value.Matrix),
		tensor.Product{W: &l.query.Matrix, Dst: q}, tensor.Product{W: &l.key.Matrix, Dst: k}, tensor.Product{W: &l.value.Matrix, Dst: v})
	attended.Resize(len(tokens))
	stored := number
	if m.Embeds() {
		stored = 0
	}
	for i, t := range tokens {
		bias(q.Vec(i), l.query.bias)
		bias(k.Vec(i), l.key.bias)
		bias(v.Vec(i), l.value.bias)
		m.normalizeHeads(q.Vec(i), l.queryNorm)
		m.normalizeHeads(k.Vec(i), l.keyNorm)
		if l.Rope >= 0 {
			r := &m.Ropes[l.Rope]
			half := r.Dims / 2
			cos, sin := s.cos[l.Rope][i*half:(i+1)*half], s.sin[l.Rope][i*half:(i+1)*half]
			r.turn(q.Vec(i), l.HeadDim, cos, sin)
			r.turn(k.Vec(i), l.HeadDim, cos, sin)
		}
		t.KV.Put(stored, s.positions[i], k.Vec(i), v.Vec(i))
	}
	s.attention.run(team, &work{spec: &l.LayerSpec, sinks: l.sinks, causal: m.Causal, stored: stored, tokens: tokens, positions: s.positions, query: q, out: attended})
	s.mul.Mul(team, s.pack.Pack(team, attended, &l.attentionOut.Matrix), tensor.Product{W: &l.attentionOut.Matrix, Dst: s.projected})
	m.add(s, l.attentionOut.bias, l, l.postAttention, l.attentionNorm)
}

// forward adds what the feed-forward network gives in a layer.
func (m *Model) forward(team *tensor.Team, s *Scratch, l *layer) {
	in := s.x
	if l.PreNorm {
		m.normalizeAll(s.normed, s.x, l.feedForwardNorm)
		in = s.normed
	}
	if l.Experts > 0 {
		m.mix(team, s, l, in)
		m.add(s, nil, l, l.postFeedForward, l.feedForwardNorm)
		return
	}
	f := &l.feedForward[0]
	m.hidden(team, s, l, f, in, s.gate[l.FeedForward], s.up[l.FeedForward], s.projected)
	m.add(s, f.down.bias, l, l.postFeedForward, l.feedForwardNorm)
}

// hidden sets out to down(activation of gate and up of in), less down's bias (Shazeer, "GLU Variants Improve Transformer",
// 2020, if there is a gate).
func (m *Model) hidden(team *tensor.Team, s *Scratch, l *layer, f *mlp, in, gate, up, out *tensor.Batch) {
	if !l.Gated {
		s.mul.Mul(team, s.pack.Pack(team, in, &f.up.Matrix), tensor.Product{W: &f.up.Matrix, Dst: up})
		for i := range up.Len() {
			bias(up.Vec(i), f.up.bias)
			activate(l.Activation, up.Vec(i))
		}
		s.mul.Mul(team, s.pack.Pack(team, up, &f.down.Matrix), tensor.Product{W: &f.down.Matrix, Dst: out})
		return
	}
	s.mul.Mul(team, s.pack.Pack(team, in, &f.gate.Matrix, &f.up.Matrix), tensor.Product{W: &f.gate.Matrix, Dst: gate}, tensor.Product{W: &f.up.Matrix, Dst: up})
	for i := range gate.Len() {
		g, u := gate.Vec(i), up.Vec(i)
		bias(g, f.gate.bias)
		bias(u, f.up.bias)
		gated(l, g, u)
	}
	s.mul.Mul(team, s.pack.Pack(team, gate, &f.down.Matrix), tensor.Product{W: &f.down.Matrix, Dst: out})
}

// add adds s.projected, with a bias, to the residual stream, with the norms that the layer has around that.
func (m *Model) add(s *Scratch, b []float32, l *layer, post, after norm) {
	for i := range s.x.Len() {
		x, y := s.x.Vec(i), s.projected.Vec(i)
		bias(y, b)
		if l.PostNorm {
			m.normalize(y, y, post)
		}
		tensor.Add(x, y)
		if l.SumNorm {
			m.normalize(x, x, after)
		}
	}
}

func bias(x, b []float32) {
	if b != nil {
		tensor.Add(x, b)
	}
}

func (m *Model) normalizeAll(dst, x *tensor.Batch, n norm) {
	for i := range x.Len() {
		m.normalize(dst.Vec(i), x.Vec(i), n)
	}
}

// normalize is RMSNorm, x / sqrt(mean(x²) + ε) × weight, or a layer norm. dst may be x.
func (m *Model) normalize(dst, x []float32, n norm) {
	if m.LayerNorm {
		mean := 0.0
		for _, v := range x {
			mean += float64(v)
		}
		mean /= float64(len(x))
		variance := 0.0
		for _, v := range x {
			d := float64(v) - mean
			variance += float64(d * d)
		}
		scale := 1 / math.Sqrt(variance/float64(len(x))+float64(m.Epsilon))
		for i, v := range x {
			dst[i] = float32(float32((float64(v)-mean)*scale)*n.weight[i]) + n.bias[i]
		}
		return
	}
	scale := float32(1 / math.Sqrt(float64(tensor.Dot(x, x))/float64(len(x))+float64(m.Epsilon)))
	tensor.Scale(dst, x, n.weight, scale)
}

// normalizeHeads normalizes heads of the size of the norm's weight, each by itself.
func (m *Model) normalizeHeads(x []float32, n norm) {
	if n.weight == nil {
		return
	}
	for size := len(n.weight); len(x) > 0; x = x[size:] {
		m.normalize(x[:size], x[:size], n)
	}
}

// gated sets gate to its activation times up.
func gated(l *layer, gate, up []float32) {
	switch l.Activation {
	case SiLU:
		tensor.Swish(gate, up, 1)
	case TanhGELU:
		tensor.TanhGELU(gate, up)
	case GELU:
		activate(GELU, gate)
		for j, x := range up {
			gate[j] *= x
		}
	case ClampedSwish: // min(g, c)·σ(1.702·g)·(clamp(u, −c, c) + 1)
		for i, g := range gate {
			gate[i], up[i] = min(g, l.Clamp), max(-l.Clamp, min(l.Clamp, up[i]))+1
		}
		tensor.Swish(gate, up, 1.702)
	}
}

// activate applies an activation that gates nothing, in place.
func activate(a Activation, x []float32) {
	switch a {
	case GELU: // Hendrycks and Gimpel, "Gaussian Error Linear Units", 2016
		for i, v := range x {
			x[i] = float32(0.5 * float64(v) * (1 + math.Erf(float64(v)/math.Sqrt2)))
		}
	case SiLU, TanhGELU:
		var ones [256]float32
		for i := range ones {
			ones[i] = 1
		}
		for ; len(x) > 0; x = x[min(len(x), len(ones)):] {
			n := min(len(x), len(ones))
			if a == SiLU {
				tensor.Swish(x[:n], ones[:n], 1)
			} else {
				tensor.TanhGELU(x[:n], ones[:n])
			}
		}
	case ClampedSwish: // is of two
		panic("model: a gate without what it gates")
	}
}

// softCap is limit·tanh(x/limit).
func softCap(x, limit float32) float32 {
	return limit * float32(math.Tanh(float64(x/limit)))
}
