package model

import (
	"errors"
	"fmt"
	"math"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// The gemma3n family has several residual streams of which each layer works on the first and predicts the others (Baykal et
// al., "Alternating Updates for Efficient Transformers", 2023), a path of low rank beside attention, and inputs of each layer's
// own. Its last layers use keys and values of earlier ones.
func init() {
	register(family{
		spec: gemma3n,
		names: map[string]names{"safetensors": {
			postMixer: "layers.%d.post_attention_layernorm", feedForwardNorm: "layers.%d.pre_feedforward_layernorm", postFeedForward: "layers.%d.post_feedforward_layernorm",
			altUpRole: "",
		}},
		besides: func(c *weights.Checkpoint, name string) bool {
			var layer int
			var rest string
			for _, prefix := range []string{"", "model.", "language_model.", "model.language_model."} {
				if n, _ := fmt.Sscanf(name, prefix+"layers.%d.self_attn.%s", &layer, &rest); n == 2 {
					return layer >= c.Hyper.Layers-c.Facts.Int("num_kv_shared_layers") && (rest == "k_proj.weight" || rest == "v_proj.weight" || rest == "k_norm.weight")
				}
			}
			return false
		},
	}, "gemma3n", "gemma3n_text")
}

// maxStreams is how many residual streams a network can have.
const maxStreams = 8

// AltUp is how streams beside the first work; there are none if Streams is 0.
type AltUp struct {
	Streams  int // the first included
	PerLayer int // how long the inputs of each layer's own are
	Rank     int // of the path beside attention
	Vocab    int // tokens that have inputs of each layer's own
}

func (a *AltUp) check(s *Spec) error {
	switch {
	case a.Streams == 0:
		return nil
	case a.Streams < 2 || a.Streams > maxStreams:
		return fmt.Errorf("%d residual streams are out of range", a.Streams)
	case a.PerLayer < 1 || a.PerLayer > maxWidth/len(s.Layers) || a.Rank < 1 || a.Rank > maxWidth || a.Vocab < 1:
		return fmt.Errorf("inputs of %d numbers for each layer, or a path of rank %d, are out of range", a.PerLayer, a.Rank)
	}
	for _, l := range s.Layers {
		if l.Order != NormAround || l.Attention.Heads == 0 || l.FeedForward.Width == 0 {
			return errors.New("a layer of several residual streams has to have attention and a feed-forward network, with norms around both")
		}
	}
	return nil
}

func gemma3n(c *weights.Checkpoint, s *Spec) error {
	h, f := &c.Hyper, &c.Facts
	s.EmbeddingScale = float32(math.Sqrt(float64(s.Dim)))
	s.AltUp = AltUp{Streams: f.Int("altup_num_inputs"), PerLayer: f.Int("hidden_size_per_layer_input"), Rank: f.Int("laurel_rank"), Vocab: f.Int("vocab_size_per_layer_input")}
	if f.Int("altup_active_idx") != 0 || !f.Is(true, "altup_correct_scale") {
		return errors.New("altup_active_idx other than 0, or altup_correct_scale false, is not supported")
	}
	if err := s.rotate(c); err != nil {
		return err
	}
	local, err := newRope(&weights.Rope{}, orElse(h.Rope.LocalBase, 10000), s.Ropes[0].Dims, s.Context)
	if err != nil {
		return err
	}
	s.Ropes = append(s.Ropes, local)
	sparsity, widths := f.Floats("activation_sparsity_pattern"), f.Ints("intermediate_size")
	own := len(s.Layers) - f.Int("num_kv_shared_layers")
	if own < 1 || own > len(s.Layers) {
		return fmt.Errorf("num_kv_shared_layers leaves %d layers with keys and values of their own", own)
	}
	s.each(func(i int, l *LayerSpec) {
		l.Order, l.FeedForward.Activation = NormAround, TanhGELU
		a := &l.Attention
		a.QKNorm, a.ValueNorm, a.Scale = HeadQKNorm, true, 1
		if a.Mask == MaskWindow {
			a.Rope = 1
		}
		if len(widths) == len(s.Layers) {
			l.FeedForward.Width = widths[i]
		}
		if i < len(sparsity) && sparsity[i] > 0 {
			l.FeedForward.Sparse = float32(math.Sqrt2 * math.Erfinv(2*sparsity[i]-1))
		}
		for from := own - 1; i >= own && from >= 0; from-- {
			if s.Layers[from].Attention.Mask == a.Mask {
				a.From = from
				break
			}
		}
	})
	return nil
}

// altUpWeights are those of the streams that belong to no layer.
type altUpWeights struct {
	project    linear        // [layers × PerLayer][Dim], which makes the inputs of layers
	norm       norm          // [PerLayer]
	embedding  tensor.Matrix // [Vocab][layers × PerLayer]
	begin, end []linear      // of each stream beside the first, [Dim][Dim]
}

// altUpLayer are those of a layer.
type altUpLayer struct {
	routerNorm, laurelNorm, postInput norm
	router, predict, correct          linear // [Streams][Dim], [Streams²][Streams], [Streams][Streams]
	left, right                       linear // [Rank][Dim], [Dim][Rank]
	gate, project                     linear // [PerLayer][Dim], [Dim][PerLayer]
	scale                             []float32
}

// named reads tensors that only this family has.
func (l *loader) named(name string, read func(r role)) {
	before := l.names[altUpRole]
	l.names[altUpRole] = name
	read(altUpRole)
	l.names[altUpRole] = before
}

func (l *loader) altUp(w *altUpWeights) {
	a, dim := &l.spec.AltUp, l.spec.Dim
	if a.Streams == 0 {
		return
	}
	all := len(l.spec.Layers) * a.PerLayer
	l.named("per_layer_model_projection", func(r role) { w.project = l.linear(r, 0, all, dim, 0) })
	l.named("per_layer_projection_norm", func(r role) { w.norm = l.norm(r, 0, a.PerLayer) })
	l.named("embed_tokens_per_layer", func(r role) { w.embedding = l.matrix(r, 0, a.Vocab, all) })
	for i := range a.Streams - 1 {
		l.named(fmt.Sprintf("altup_projections.%d", i), func(r role) { w.begin = append(w.begin, l.linear(r, 0, dim, dim, 0)) })
		l.named(fmt.Sprintf("altup_unembed_projections.%d", i), func(r role) { w.end = append(w.end, l.linear(r, 0, dim, dim, 0)) })
	}
}

func (l *loader) altUpLayer(i int, out *layer) {
	a, dim, w := &l.spec.AltUp, l.spec.Dim, &out.altUp
	if a.Streams == 0 {
		return
	}
	n := a.Streams
	for _, m := range []struct {
		name       string
		to         *linear
		rows, cols int
	}{
		{"altup.modality_router", &w.router, n, dim}, {"altup.prediction_coefs", &w.predict, n * n, n}, {"altup.correction_coefs", &w.correct, n, n},
		{"laurel.linear_left", &w.left, a.Rank, dim}, {"laurel.linear_right", &w.right, dim, a.Rank},
		{"per_layer_input_gate", &w.gate, a.PerLayer, dim}, {"per_layer_projection", &w.project, dim, a.PerLayer},
	} {
		l.named("layers.%d."+m.name, func(r role) { *m.to = l.linear(r, i, m.rows, m.cols, 0) })
	}
	for _, v := range []struct {
		name string
		to   *norm
	}{{"altup.router_norm", &w.routerNorm}, {"laurel.post_laurel_norm", &w.laurelNorm}, {"post_per_layer_input_norm", &w.postInput}} {
		l.named("layers.%d."+v.name, func(r role) { *v.to = l.norm(r, i, dim) })
	}
	l.named("layers.%d.altup.correct_output_scale", func(r role) { w.scale = l.numbers(r, i, dim) })
}

// altUp are the operations that only networks of several streams have.
type altUp interface {
	// match brings the vectors of x to the root mean square of those of to.
	match(x, to slot)
	tanh(x slot)
	// predict changes each stream by all, and correct by how far the first one came out otherwise than predicted, both by the numbers
	// of a slot.
	predict(by slot)
	correct(y, by slot)
	weigh(x slot, w []float32)
	// addRows adds the rows of the step's tokens, times a number.
	addRows(x slot, of *tensor.Matrix, by float32)
	// takeLayer sets dst to what a layer's own inputs are.
	takeLayer(dst slot, layer int)
	gelu(gate, up slot)
}

// walkStreams is the walk of a network of several residual streams.
func (m *Model) walkStreams(c machine) {
	a, w := &m.AltUp, &m.altUp
	root := func(x float64) float32 { return float32(math.Sqrt(x)) }
	c.multiply(stream, &w.project, perLayer)
	c.scale(perLayer, 0, 0, 1/root(float64(m.Dim)))
	c.normalizeHeads(perLayer, heads{0, a.PerLayer, a.PerLayer, len(m.layers)}, &w.norm)
	c.addRows(perLayer, &w.embedding, root(float64(a.PerLayer)))
	c.scale(perLayer, 0, 0, 1/root(2))
	for i := range w.begin {
		c.multiply(stream, &w.begin[i], streams+slot(i))
		c.match(streams+slot(i), stream)
	}
	for i, l := range m.layers {
		w := &l.altUp
		m.modalities(c, l, stream)
		c.multiply(one, &w.predict, scores)
		c.predict(scores)
		c.normalize(normed, stream, &l.mixerNorm)
		c.multiply(normed, &w.left, laurel)
		c.multiply(laurel, &w.right, side)
		c.normalize(side, side, &w.laurelNorm)
		c.add(side, normed)
		m.attend(c, i, normed, mixed)
		c.normalize(mixed, mixed, &l.postMixer)
		c.add(mixed, stream)
		c.add(mixed, side)
		c.scale(mixed, 0, 0, 1/root(2))
		c.normalize(normed, mixed, &l.feedForwardNorm)
		m.feed(c, l, normed, side)
		c.normalize(side, side, &l.postFeedForward)
		c.add(mixed, side)
		m.modalities(c, l, mixed)
		c.multiply(one, &w.correct, scores)
		c.correct(mixed, scores)
		c.shape(normed, stream, m.Dim)
		c.copyHeads(normed, heads{0, m.Dim, 0, 1}, stream, heads{0, m.Dim, 0, 1})
		c.weigh(normed, w.scale)
		c.multiply(normed, &w.gate, laurel)
		c.takeLayer(hiddenUp, i)
		c.gelu(laurel, hiddenUp)
		c.multiply(laurel, &w.project, side)
		c.normalize(side, side, &w.postInput)
		for j := range m.altUp.begin {
			c.add(streams+slot(j), side)
		}
	}
	c.shape(mixed, stream, m.Dim)
	c.copyHeads(mixed, heads{0, m.Dim, 0, 1}, stream, heads{0, m.Dim, 0, 1})
	for i := range w.end {
		c.multiply(streams+slot(i), &w.end[i], side)
		c.match(side, stream)
		c.add(mixed, side)
	}
	c.scale(mixed, 0, 0, 1/float32(a.Streams))
	c.copyHeads(stream, heads{0, m.Dim, 0, 1}, mixed, heads{0, m.Dim, 0, 1})
}

// modalities sets one to what predictions and corrections are worked out of.
func (m *Model) modalities(c machine, l *layer, of slot) {
	c.normalize(normed, of, &l.altUp.routerNorm)
	c.scale(normed, 0, 0, 1/float32(m.Dim))
	c.multiply(normed, &l.altUp.router, one)
	c.tanh(one)
}

func (s *Scratch) match(x, to slot) {
	a, b := s.at[x], s.at[to]
	for i := range a.Len() {
		v, w := a.Vec(i), b.Vec(i)
		size := func(x []float32) float32 {
			return float32(math.Sqrt(float64(max(tensor.Dot(x, x)/float32(len(x)), 1e-5))))
		}
		scaledExactly(v, float32(math.Sqrt(float64(tensor.Dot(w, w)/float32(len(w)))))/size(v))
	}
}

func (s *Scratch) tanh(x slot) {
	b := s.at[x]
	for i := range b.Len() {
		v := b.Vec(i)
		for j, x := range v {
			v[j] = 1 - 2/(1+tensor.Exp(2*x))
		}
	}
}

// stream is a stream by its number.
func (s *Scratch) stream(i int) *tensor.Batch {
	if i == 0 {
		return s.at[stream]
	}
	return s.at[streams+slot(i-1)]
}

func (s *Scratch) predict(by slot) {
	n, dim := s.m.AltUp.Streams, s.m.Dim
	for t := range s.at[stream].Len() {
		c := s.at[by].Vec(t)
		for j := range n {
			to := s.predicted[j*dim : (j+1)*dim]
			copy(to, s.stream(j).Vec(t))
			for i := range n {
				tensor.Blend(to, s.stream(i).Vec(t), 1, c[j*n+i])
			}
		}
		for j := range n {
			copy(s.stream(j).Vec(t), s.predicted[j*dim:])
		}
	}
}

func (s *Scratch) correct(y, by slot) {
	for t := range s.at[stream].Len() {
		off := s.predicted[:s.m.Dim]
		copy(off, s.at[y].Vec(t))
		tensor.Blend(off, s.at[stream].Vec(t), 1, -1)
		for i, k := range s.at[by].Vec(t) {
			tensor.Blend(s.stream(i).Vec(t), off, 1, 1+k)
		}
	}
}

func (s *Scratch) weigh(x slot, w []float32) {
	b := s.at[x]
	for i := range b.Len() {
		tensor.Scale(b.Vec(i), b.Vec(i), w, 1)
	}
}

func (s *Scratch) addRows(x slot, of *tensor.Matrix, by float32) {
	b := s.at[x]
	if len(s.row) < of.Cols {
		s.row = make([]float32, of.Cols)
	}
	for i, t := range s.tokens {
		row := s.row[:of.Cols]
		of.Row(row, min(int(t.ID), of.Rows-1))
		tensor.Blend(b.Vec(i), row, 1, by)
	}
}

func (s *Scratch) takeLayer(dst slot, layer int) {
	n := s.m.AltUp.PerLayer
	s.shape(dst, perLayer, n)
	s.copyHeads(dst, heads{0, n, 0, 1}, perLayer, heads{layer * n, n, 0, 1})
}

func (s *Scratch) gelu(gate, up slot) {
	g, u := s.at[gate], s.at[up]
	for i := range g.Len() {
		tensor.TanhGELU(g.Vec(i), u.Vec(i))
	}
}

// sparse leaves of x what is above its mean by more than so many standard deviations, and less that, and 0 of the rest.
func sparse(x []float32, deviations float32) {
	var sum, squares float64
	for _, v := range x {
		sum += float64(v)
	}
	mean := sum / float64(len(x))
	for _, v := range x {
		d := float64(v) - mean
		squares += float64(d * d)
	}
	floor := float32(mean + float64(float64(deviations)*math.Sqrt(squares/float64(len(x)))))
	for i, v := range x {
		x[i] = max(0, v-floor)
	}
}
