package model

import (
	"fmt"
	"math"
	"slices"

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

	// What follows is for pictures. Row, if it is not nil, is what stands in the place of the token's embedding, and Deep what is added behind the
	// first layers. Saved is by how many positions pictures before the token are shorter than their tokens; a token of a
	// picture is Placed, and turns by its Place. Until, if it is not 0, is where what the token sees ends at the least; in an encoder it sees
	// what is between From and that, and nothing else.
	Row         []float32
	Deep        [][]float32
	Saved       int32
	Placed      bool
	Place       [3]int32 // position, row and column
	From, Until int
}

// Scratch is the working memory of a step, reused from step to step by one goroutine: the processor, which carries out the
// operations of the walk as they come.
type Scratch struct {
	m      *Model
	team   *tensor.Team
	tokens []Token
	rows   int

	mul      tensor.Multiplier
	pack     tensor.Packer
	at       [slots]*tensor.Batch
	head     [2]*tensor.Batch // of one head of all tokens
	products []tensor.Product
	matrices []*tensor.Matrix

	final, logits *tensor.Batch // [Dim], [Vocab]
	out           [][]float32
	positions     []int
	runs          []run       // the tokens of each sequence
	cos, sin      [][]float32 // [rope][token × Dims/2]
	attention     attention
	share         share
	experts       routing
	states        states
	ahead         []Token   // that go through the prediction head
	predicted     []float32 // of the streams of one token (AltUp)
	row           []float32
}

// run is some tokens of one sequence, one after the other.
type run struct{ from, to int }

// NewScratch makes room for steps of up to rows tokens of which up to outputs want logits.
func (m *Model) NewScratch(rows, outputs int) *Scratch {
	s := &Scratch{m: m, positions: make([]int, rows), rows: rows}
	largest := 0
	for i, width := range m.widths() {
		if width > 0 {
			s.at[i] = tensor.NewBatch(rows, width)
			largest = max(largest, width)
		}
	}
	if !m.Embeds() {
		s.final, s.logits = tensor.NewBatch(outputs, m.Dim), tensor.NewBatch(outputs, m.Vocab)
		s.out = make([][]float32, 0, outputs)
	}
	for _, l := range m.layers {
		if e := &l.FeedForward.Experts; e.Count > 0 {
			s.experts.room(rows, e)
		}
		if l.Attention.Latent.Rank > 0 && s.head[0] == nil {
			s.head = [2]*tensor.Batch{tensor.NewBatch(rows, l.Attention.Latent.widest()), tensor.NewBatch(rows, l.Attention.Latent.widest())}
		}
	}
	for _, r := range m.Ropes {
		s.cos = append(s.cos, make([]float32, rows*r.Dims/2))
		s.sin = append(s.sin, make([]float32, rows*r.Dims/2))
	}
	s.predicted = make([]float32, m.AltUp.Streams*m.Dim)
	return s
}

// widest is the largest part of a head that is multiplied by itself.
func (q *Latent) widest() int { return max(q.Rank, q.Plain, q.Value) }

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
	n := 0
	for _, width := range m.widths() {
		n += width
	}
	return 4 * n
}

// Forward puts the tokens through the network, appends them to their sequences, and returns the logits ([Vocab] each) of
// the tokens that want them, in order. The logits are valid until the next Forward with s. Token ids must be below Vocab,
// there must not be more tokens than s has room for, and their sequences must have room for them.
func (m *Model) Forward(team *tensor.Team, s *Scratch, tokens []Token) [][]float32 {
	s.run(team, tokens)
	return m.logits(team, s, tokens, &m.outputNorm, &m.output)
}

// logits are those of the tokens that want them, of what is in the stream.
func (m *Model) logits(team *tensor.Team, s *Scratch, tokens []Token, before *norm, output *tensor.Matrix) [][]float32 {
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
			m.normalize(s.final.Vec(n), s.at[stream].Vec(i), before)
			n++
		}
	}
	s.out = s.out[:0]
	if n == 0 {
		return s.out
	}
	s.mul.Mul(team, s.pack.Pack(team, s.final, output), tensor.Product{W: output, Dst: s.logits})
	for i := range n {
		v := s.logits.Vec(i)
		scaled(v, m.LogitScale)
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
// the network is wide; or, if there is a head, a score from 0 to 1 of each. The texts, which must not be empty, must together not have more tokens than s has room for, and
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
	s.run(team, tokens)
	pooled := tensor.NewBatch(len(texts), m.Dim)
	pooled.Resize(len(texts))
	first := 0
	for i, text := range texts {
		v := pooled.Vec(i)
		clear(v)
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
			row := s.at[stream].Vec(t)
			if m.OutputNorm {
				m.normalize(row, row, &m.outputNorm)
			}
			tensor.Add(v, row)
		}
		if m.Head != NoHead {
			scaled(v, 1/float32(to-from))
		}
	}
	if m.Head != NoHead {
		return m.scores(team, s, pooled), nil
	}
	// The mean's divisor goes with the length, unless something that is not linear follows; dense layers are.
	for _, w := range m.dense {
		pooled = s.product(team, &linear{Matrix: w}, pooled)
	}
	out := make([][]float32, len(texts))
	for i := range out {
		out[i] = Unit(slices.Clone(pooled.Vec(i)))
	}
	return out, nil
}

// product is a matrix times each of some vectors.
func (s *Scratch) product(team *tensor.Team, w *linear, in *tensor.Batch) *tensor.Batch {
	out := tensor.NewBatch(in.Len(), w.Rows)
	s.mul.Mul(team, s.pack.Pack(team, in, &w.Matrix), tensor.Product{W: &w.Matrix, Dst: out})
	if w.bias != nil {
		for i := range out.Len() {
			tensor.Add(out.Vec(i), w.bias)
		}
	}
	return out
}

// scores are σ of what the head makes of each vector.
func (m *Model) scores(team *tensor.Team, s *Scratch, pooled *tensor.Batch) [][]float32 {
	inner := s.product(team, &m.head.dense, pooled)
	for i := range inner.Len() {
		v := inner.Vec(i)
		switch m.Head {
		case TanhHead:
			for j, x := range v {
				v[j] = float32(math.Tanh(float64(x)))
			}
		case GELUHead:
			activate(GELU, nil, v)
			m.normalize(v, v, &m.head.norm)
		case NoHead:
		}
	}
	all := s.product(team, &m.head.out, inner)
	out := make([][]float32, all.Len())
	for i := range out {
		out[i] = []float32{sigmoid(all.Vec(i)[0])}
	}
	return out
}

// Unit scales a vector to length 1, in place.
func Unit(v []float32) []float32 {
	length := float32(math.Sqrt(float64(tensor.Dot(v, v))))
	for j := range v {
		v[j] /= max(length, 1e-12)
	}
	return v
}

// run puts the tokens through the layers; the stream holds what comes out.
func (s *Scratch) run(team *tensor.Team, tokens []Token) {
	if len(tokens) > s.rows {
		panic(fmt.Sprintf("model: room for %d tokens, not %d", s.rows, len(tokens)))
	}
	s.begin(team, tokens)
	defer s.end()
	for _, at := range []slot{stream, normed} {
		s.at[at].Shape(len(tokens), s.m.Dim)
	}
	for i, t := range tokens {
		s.positions[i] = t.KV.Append(t.ID)
	}
	s.turn()
	s.each(len(tokens), 8*s.m.Dim, operands{x: s.at[stream], y: s.at[normed]}, func(o *operands, i int) {
		o.m.embed(o.x.Vec(i), o.y.Vec(i), o.tokens[i], o.positions[i])
	})
	s.m.walk(s)
}

// embed writes the vector that a token begins with to x; spare is memory of the same size.
func (m *Model) embed(x, spare []float32, t Token, position int) {
	if t.Row != nil {
		copy(x, t.Row)
		return
	}
	m.embedding.Row(x, int(t.ID))
	scaled(x, m.EmbeddingScale)
	if m.Types > 0 {
		m.types.Row(spare, int(t.Type))
		tensor.Add(x, spare)
	}
	if m.Positions > 0 {
		m.positions.Row(spare, m.FirstPosition+position)
		tensor.Add(x, spare)
	}
	if m.EmbeddingNorm {
		m.normalize(x, x, &m.embeddingNorm)
	}
}

// begin notes the tokens that operations are for, until end.
func (s *Scratch) begin(team *tensor.Team, tokens []Token) {
	s.team, s.tokens, s.runs = team, tokens, s.runs[:0]
	for i, t := range tokens {
		if n := len(s.runs); n > 0 && tokens[i-1].KV == t.KV {
			s.runs[n-1].to = i + 1
		} else {
			s.runs = append(s.runs, run{i, i + 1})
		}
	}
}

func (s *Scratch) end() { s.team, s.tokens = nil, nil }

// turn works out the rotations that go with the positions of all tokens.
func (s *Scratch) turn() {
	if len(s.m.Ropes) > 0 {
		s.each(len(s.tokens), 128*len(s.m.Ropes)*len(s.cos[0])/max(1, s.rows), operands{}, func(o *operands, i int) { o.turns(i, &o.tokens[i], o.positions[i]) })
	}
}

// turns works out the rotations of token i of the step, which is at pos.
func (s *Scratch) turns(i int, t *Token, pos int) {
	pos -= int(t.Saved)
	for n := range s.m.Ropes {
		r := &s.m.Ropes[n]
		half := r.Dims / 2
		for j, a := range r.angles(t.KV.Variant()) {
			at := pos
			if t.Placed && r.Axis != nil {
				at = int(t.Place[r.Axis[j]])
			}
			sin, cos := math.Sincos(float64(at) * a)
			s.sin[n][i*half+j], s.cos[n][i*half+j] = float32(sin*r.Factor), float32(cos*r.Factor)
		}
	}
}

func (s *Scratch) shape(dst, src slot, width int) { s.at[dst].Shape(s.at[src].Len(), width) }

func (s *Scratch) multiply(src slot, w *linear, dst slot) {
	one := [1]product{{w, dst}}
	s.multiplyAll(src, one[:])
}

func (s *Scratch) multiplyAll(src slot, list []product) {
	s.products, s.matrices = s.products[:0], s.matrices[:0]
	for i := range list {
		p := &list[i]
		s.at[p.dst].Cols = p.w.Rows
		s.products = append(s.products, tensor.Product{W: &p.w.Matrix, Dst: s.at[p.dst]})
		s.matrices = append(s.matrices, &p.w.Matrix)
	}
	s.mul.Mul(s.team, s.pack.Pack(s.team, s.at[src], s.matrices...), s.products...)
	for i := range list {
		if b := list[i].w.bias; b != nil {
			x := s.at[list[i].dst]
			s.each(x.Len(), x.Cols, operands{x: x, vector: b}, func(o *operands, i int) { tensor.Add(o.x.Vec(i), o.vector) })
		}
	}
}

func (s *Scratch) multiplyHeads(dst slot, to heads, src slot, from heads, w []linear) {
	x, y := s.at[src], s.at[dst]
	in, out := s.head[0], s.head[1]
	for h := range w {
		in.Shape(x.Len(), from.size)
		out.Shape(x.Len(), to.size)
		s.eachHead(in, heads{0, from.size, 0, 1}, x, heads{from.from + h*from.step, from.size, 0, 1})
		s.mul.Mul(s.team, s.pack.Pack(s.team, in, &w[h].Matrix), tensor.Product{W: &w[h].Matrix, Dst: out})
		s.eachHead(y, heads{to.from + h*to.step, to.size, 0, 1}, out, heads{0, to.size, 0, 1})
	}
}

func (s *Scratch) copyHeads(dst slot, to heads, src slot, from heads) {
	s.eachHead(s.at[dst], to, s.at[src], from)
}

// eachHead copies heads of x to y.
func (s *Scratch) eachHead(y *tensor.Batch, to heads, x *tensor.Batch, from heads) {
	s.each(x.Len(), from.count*from.size, operands{x: x, from: from, y: y, to: to}, func(o *operands, i int) {
		x, y := o.x.Vec(i)[o.from.from:], o.y.Vec(i)[o.to.from:]
		for h := range o.from.count {
			copy(y[h*o.to.step:][:o.to.size], x[h*o.from.step:][:o.from.size])
		}
	})
}

func (s *Scratch) distribute(src slot, groups int, parts []part) {
	x := s.at[src]
	var width [slots]int
	for _, p := range parts {
		width[p.dst] += groups * p.width
	}
	for _, p := range parts {
		s.at[p.dst].Shape(x.Len(), width[p.dst])
	}
	s.each(x.Len(), x.Cols, operands{x: x, count: groups, parts: parts}, func(o *operands, i int) {
		v := o.x.Vec(i)
		var at [slots]int
		group := len(v) / o.count
		begin := 0
		for _, p := range o.parts {
			y := o.at[p.dst].Vec(i)[at[p.dst]:]
			for g := range o.count {
				copy(y[g*p.width:][:p.width], v[g*group+begin:])
			}
			at[p.dst] += o.count * p.width
			begin += p.width
		}
	})
}

func (s *Scratch) normalize(dst, src slot, n *norm) {
	x, y := s.at[src], s.at[dst]
	y.Shape(x.Len(), x.Cols)
	s.each(x.Len(), 2*x.Cols, operands{x: x, y: y, norm: n}, func(o *operands, i int) { o.m.normalize(o.y.Vec(i), o.x.Vec(i), o.norm) })
}

func (s *Scratch) normalizeHeads(x slot, at heads, n *norm) {
	b := s.at[x]
	s.each(b.Len(), 4*at.count*at.size, operands{x: b, to: at, norm: n}, func(o *operands, i int) {
		v, n, at := o.x.Vec(i), *o.norm, &o.to
		for h := range at.count {
			if len(o.norm.weight) > at.size {
				n.weight = o.norm.weight[h*at.size : (h+1)*at.size]
			}
			part := v[at.from+h*at.step:][:at.size]
			o.m.normalize(part, part, &n)
		}
	})
}

// normalize normalizes a vector. dst may be x. Roots are of float32, which any processor rounds in the same way.
func (m *Model) normalize(dst, x []float32, n *norm) {
	if n.kind != RMSNorm {
		m.center(dst, x, n)
		return
	}
	mean := float32(tensor.Dot(x, x) / float32(len(x)))
	scale := 1 / float32(math.Sqrt(float64(mean+m.Epsilon)))
	if n.weight == nil {
		for i, v := range x {
			dst[i] = v * scale
		}
		return
	}
	tensor.Scale(dst, x, n.weight, scale)
}

// center is a layer norm.
func (m *Model) center(dst, x []float32, n *norm) {
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
		dst[i] = float32(float32((float64(v)-mean)*scale) * n.weight[i])
	}
	if n.bias != nil {
		tensor.Add(dst, n.bias)
	}
}

func (s *Scratch) rotate(x slot, at heads, rope int) {
	b := s.at[x]
	s.each(b.Len(), 8*at.count*at.size, operands{x: b, to: at, index: rope}, func(o *operands, i int) {
		r, at := &o.m.Ropes[o.index], &o.to
		half := r.Dims / 2
		cos, sin := o.cos[o.index][i*half:(i+1)*half], o.sin[o.index][i*half:(i+1)*half]
		v := o.x.Vec(i)
		for h := range at.count {
			r.turn(v[at.from+h*at.step:][:at.size], cos, sin)
		}
	})
}

func (s *Scratch) temper(x slot, t *Temper) {
	b := s.at[x]
	s.each(b.Len(), b.Cols, operands{x: b, temper: t}, func(o *operands, i int) { scaled(o.x.Vec(i), o.temper.at(o.positions[i])) })
}

// at is what queries at a position are multiplied with.
func (t *Temper) at(position int) float32 {
	return float32(1 + float64(t.By*math.Log1p(math.Floor(float64(position+t.First)/t.Every))))
}

func (s *Scratch) put(layer int, k, v slot) {
	keys, values := s.at[k], s.at[v]
	s.each(len(s.tokens), 8*(keys.Cols+values.Cols), operands{x: keys, y: values, index: layer}, func(o *operands, i int) {
		o.tokens[i].KV.Put(o.index, o.positions[i], o.x.Vec(i), o.y.Vec(i))
	})
}

func (s *Scratch) attend(layer, kept int, dst, query slot) {
	l := s.m.layers[layer]
	s.attention.run(s.team, &work{spec: &l.Attention, sinks: l.attention.sinks, causal: s.m.Causal, stored: kept, tokens: s.tokens, positions: s.positions, runs: s.runs,
		query: s.at[query], out: s.at[dst]})
}

func (s *Scratch) scale(x slot, from, to int, by float32) {
	if by == 0 || by == 1 {
		return
	}
	b := s.at[x]
	if to == 0 {
		to = b.Cols
	}
	s.each(b.Len(), to-from, operands{x: b, to: heads{from: from, size: to - from}, number: by}, func(o *operands, i int) {
		scaled(o.x.Vec(i)[o.to.from:][:o.to.size], o.number)
	})
}

// scaled multiplies with a number; 0 stands for none.
func scaled(x []float32, by float32) {
	if by == 0 || by == 1 {
		return
	}
	for i := range x {
		x[i] *= by
	}
}

func (s *Scratch) deepen(level int) {
	for i := range s.tokens {
		if deep := s.tokens[i].Deep; level < len(deep) {
			tensor.Add(s.at[stream].Vec(i), deep[level])
		}
	}
}

func (s *Scratch) add(dst, src slot) {
	x, y := s.at[dst], s.at[src]
	s.each(x.Len(), x.Cols, operands{x: x, y: y}, func(o *operands, i int) { tensor.Add(o.x.Vec(i), o.y.Vec(i)) })
}

func (s *Scratch) swish(gate, x slot) {
	g, b := s.at[gate], s.at[x]
	s.each(g.Len(), 8*g.Cols, operands{x: b, y: g}, func(o *operands, i int) { tensor.Swish(o.y.Vec(i), o.x.Vec(i), 1) })
}

func (s *Scratch) sigmoid(x, gate slot) {
	b, g := s.at[x], s.at[gate]
	s.each(b.Len(), 8*b.Cols, operands{x: b, y: g}, func(o *operands, i int) {
		by, v := o.y.Vec(i), o.x.Vec(i)
		if len(by) == 1 {
			scaledExactly(v, sigmoid(by[0]))
			return
		}
		for j := range v {
			v[j] *= sigmoid(by[j])
		}
	})
}

// scaledExactly multiplies with a number, 0 being one like any other.
func scaledExactly(x []float32, by float32) {
	for i := range x {
		x[i] *= by
	}
}

// sigmoid is 1 / (1 + e^−x).
func sigmoid(x float32) float32 { return 1 / (1 + tensor.Exp(-x)) }

func (s *Scratch) activate(l *layer, gate, up slot) {
	g, u := s.at[gate], s.at[up]
	s.each(u.Len(), 8*u.Cols, operands{x: u, y: g, layer: l}, func(o *operands, i int) {
		if l := o.layer; l.FeedForward.Gated {
			gated(l, o.y.Vec(i), o.x.Vec(i))
		} else {
			activate(l.FeedForward.Activation, &l.xielu, o.x.Vec(i))
		}
	})
}

// gated sets gate to its activation times up.
func gated(l *layer, gate, up []float32) {
	f := &l.FeedForward
	if f.Sparse != 0 {
		sparse(gate, f.Sparse)
	}
	switch f.Activation {
	case SiLU:
		tensor.Swish(gate, up, 1)
	case TanhGELU:
		tensor.TanhGELU(gate, up)
	case GELU, SquaredReLU, XIELU, QuickGELU:
		activate(f.Activation, &l.xielu, gate)
		for j, x := range up {
			gate[j] *= x
		}
	case ClampedSwish: // min(g, c)·σ(1.702·g)·(clamp(u, −c, c) + 1)
		for i, g := range gate {
			gate[i], up[i] = min(g, f.Clamp), max(-f.Clamp, min(f.Clamp, up[i]))+1
		}
		tensor.Swish(gate, up, 1.702)
	}
}

// activate applies an activation that gates nothing, in place.
func activate(a Activation, p *xielu, x []float32) {
	switch a {
	case GELU: // Hendrycks and Gimpel, "Gaussian Error Linear Units", 2016
		for i, v := range x {
			x[i] = float32(0.5 * float64(v) * (1 + math.Erf(float64(v)/math.Sqrt2)))
		}
	case SiLU, TanhGELU:
		for ; len(x) > 0; x = x[min(len(x), len(ones)):] {
			n := min(len(x), len(ones))
			if a == SiLU {
				tensor.Swish(x[:n], ones[:n], 1)
			} else {
				tensor.TanhGELU(x[:n], ones[:n])
			}
		}
	case SquaredReLU: // So et al., "Primer", 2021
		for i, v := range x {
			x[i] = max(v, 0) * max(v, 0)
		}
	case XIELU:
		for i, v := range x {
			if v > 0 {
				x[i] = float32(float32(p.positive*v)*v) + float32(p.beta*v)
			} else {
				x[i] = float32((float32(math.Expm1(float64(min(v, p.epsilon))))-v)*p.negative) + float32(p.beta*v)
			}
		}
	case QuickGELU: // x·σ(1.702·x)
		for ; len(x) > 0; x = x[min(len(x), len(ones)):] {
			n := min(len(x), len(ones))
			tensor.Swish(x[:n], ones[:n], 1.702)
		}
	case ClampedSwish: // is of two
		panic("model: a gate without what it gates")
	}
}

// ones is what activations are multiplied with that gate nothing.
var ones = func() (list [256]float32) {
	for i := range list {
		list[i] = 1
	}
	return list
}()

// softCap is limit·tanh(x/limit), in float32.
func softCap(x, limit float32) float32 {
	return float32(limit * float32(1-2/(1+tensor.Exp(float32(2*x)/limit))))
}
