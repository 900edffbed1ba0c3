package model

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// Model is a network with its weights.
type Model struct {
	Spec
	embedding, positions, types tensor.Matrix // [Vocab][Dim], [Positions][Dim], [Types][Dim]
	embeddingNorm, outputNorm   norm
	output                      tensor.Matrix // [Vocab][Dim]; the embedding itself where the file ties them
	dense                       []tensor.Matrix
	layers                      []layer
	parts                       []Part
}

// norm is the weight of a norm and, of a layer norm, its bias; both [width]. It is empty if there is none.
type norm struct{ weight, bias []float32 }

// linear is a matrix and a bias for each of its rows; nil if there is none.
type linear struct {
	tensor.Matrix
	bias []float32
}

type layer struct {
	LayerSpec
	attentionNorm, feedForwardNorm norm // before, or after the sum
	postAttention, postFeedForward norm
	queryNorm, keyNorm             norm   // [HeadDim], or [all heads]
	query, key, value              linear // [Heads*HeadDim][Dim], [KVHeads*HeadDim][Dim]
	attentionOut                   linear // [Dim][Heads*HeadDim]
	sinks                          []float32
	router                         linear // [Experts][Dim]
	feedForward                    []mlp  // one, or one for each expert
}

// mlp is a feed-forward network: gate and up [FeedForward][Dim], down [Dim][FeedForward].
type mlp struct{ gate, up, down linear }

// Part is a tensor of a model by the name that GGUF files of its family have for it.
type Part struct {
	Name   string
	Matrix *tensor.Matrix // nil for vectors
	Vector []float32
	Expert int // of those that are one tensor in such files; −1 for others
	// Heads is set for the matrices and biases of queries and keys of families whose GGUF files have pairs of rotated
	// dimensions side by side, if this model has them half a head apart: how many heads' rows have to be put in that order.
	Heads int
}

// Parts are the model's tensors, in the order of the graph.
func (m *Model) Parts() []Part { return m.parts }

// role is what a tensor does in the network.
type role int

const (
	embedding role = iota
	positions
	tokenTypes
	embeddingNorm
	outputNorm
	output
	attentionNorm
	feedForwardNorm
	postAttention
	postFeedForward
	query
	key
	value
	queryKeyValue
	queryNorm
	keyNorm
	attentionOut
	sinks
	gate
	up
	gateUp
	down
	router
	expertGate
	expertUp
	expertGateUp
	expertDown
)

// names are the names of tensors by role, without ".weight"; %d is the number of the layer, and a second one that of the
// expert, where each has a tensor of its own.
type names map[role]string

// common are the names that most families have in GGUF files and in safetensors folders.
var common = map[string]names{
	"GGUF": {
		embedding: "token_embd", positions: "position_embd", tokenTypes: "token_types", embeddingNorm: "token_embd_norm", outputNorm: "output_norm", output: "output",
		attentionNorm: "blk.%d.attn_norm", feedForwardNorm: "blk.%d.ffn_norm", postAttention: "blk.%d.post_attention_norm", postFeedForward: "blk.%d.post_ffw_norm",
		query: "blk.%d.attn_q", key: "blk.%d.attn_k", value: "blk.%d.attn_v", queryKeyValue: "blk.%d.attn_qkv", queryNorm: "blk.%d.attn_q_norm", keyNorm: "blk.%d.attn_k_norm",
		attentionOut: "blk.%d.attn_output", sinks: "blk.%d.attn_sinks", gate: "blk.%d.ffn_gate", up: "blk.%d.ffn_up", down: "blk.%d.ffn_down",
		router: "blk.%d.ffn_gate_inp", expertGate: "blk.%d.ffn_gate_exps", expertUp: "blk.%d.ffn_up_exps", expertDown: "blk.%d.ffn_down_exps",
	},
	"safetensors": {
		embedding: "embed_tokens", outputNorm: "norm", output: "lm_head",
		attentionNorm: "layers.%d.input_layernorm", feedForwardNorm: "layers.%d.post_attention_layernorm",
		query: "layers.%d.self_attn.q_proj", key: "layers.%d.self_attn.k_proj", value: "layers.%d.self_attn.v_proj", queryKeyValue: "layers.%d.self_attn.qkv_proj",
		queryNorm: "layers.%d.self_attn.q_norm", keyNorm: "layers.%d.self_attn.k_norm", attentionOut: "layers.%d.self_attn.o_proj", sinks: "layers.%d.self_attn.sinks",
		gate: "layers.%d.mlp.gate_proj", up: "layers.%d.mlp.up_proj", gateUp: "layers.%d.mlp.gate_up_proj", down: "layers.%d.mlp.down_proj",
		router:     "layers.%d.mlp.gate",
		expertGate: "layers.%d.mlp.experts.%d.gate_proj", expertUp: "layers.%d.mlp.experts.%d.up_proj", expertDown: "layers.%d.mlp.experts.%d.down_proj",
	},
}

// family is one architecture, or several that differ little.
type family struct {
	spec func(c *weights.Checkpoint, s *Spec) error // refines what base made of the hyperparameters
	// names are what the family calls tensors otherwise than most, by layout; "" for one that it has not.
	names map[string]names
	// windows says that it takes windows in some layers only, as GGUF files name them, and that these differ from the others in nothing
	// that the files do not say.
	windows bool
}

var families = map[string]family{}

// register adds families from the init functions of their files.
func register(f family, architectures ...string) {
	for _, a := range architectures {
		families[a] = f
	}
}

// Families lists the architectures that can be run.
func Families() []string { return slices.Sorted(maps.Keys(families)) }

// UnknownFamilyError says that a model's architecture cannot be run.
type UnknownFamilyError struct{ Architecture string }

func (e *UnknownFamilyError) Error() string {
	return fmt.Sprintf("architecture %q is not supported; these are: %s", e.Architecture, strings.Join(Families(), ", "))
}

// Describe makes the Spec of a checkpoint, and checks that all its tensors are there in their shapes, without looking at the weights
// themselves: what it accepts, Load accepts.
func Describe(c *weights.Checkpoint) (Spec, error) {
	m, err := build(c, true)
	if err != nil {
		return Spec{}, err
	}
	return m.Spec, nil
}

// describe makes the Spec of a checkpoint by its hyperparameters.
func describe(c *weights.Checkpoint) (Spec, error) {
	f, ok := families[c.Architecture]
	if !ok {
		return Spec{}, &UnknownFamilyError{c.Architecture}
	}
	if c.Fault != nil {
		return Spec{}, c.Fault
	}
	if len(c.Unknown) > 0 {
		return Spec{}, fmt.Errorf("metadata %s may change what the network computes, and is not known of the family %s", strings.Join(c.Unknown[:min(len(c.Unknown), 5)], ", "), c.Architecture)
	}
	if h := &c.Hyper; c.Layout == "GGUF" && h.Window > 0 && (h.Local != nil || h.WindowEvery > 0) && !f.windows {
		return Spec{}, fmt.Errorf("metadata %s.attention.sliding_window_pattern is not known of the family %[1]s: layers with a window differ from the others", c.Architecture)
	}
	s, err := base(c)
	if err != nil {
		return Spec{}, err
	}
	l := newLoader(c, f, &s)
	if e := l.find(embedding, 0, 0); e != nil && len(e.Shape) == 2 {
		s.Vocab = e.Shape[0] // some files' vocabularies are padded
	} else if e == nil {
		return Spec{}, fmt.Errorf("tensor %s is missing", l.name(embedding, 0, 0))
	}
	if err := f.spec(c, &s); err != nil {
		return Spec{}, err
	}
	if s.Tied = l.find(output, 0, 0) == nil; s.Tied && c.Hyper.Tied != nil && !*c.Hyper.Tied && !s.Embeds() {
		return Spec{}, fmt.Errorf("tensor %s is missing, and the model does not use its embedding in its place", l.name(output, 0, 0))
	}
	return s, s.check()
}

// base makes of hyperparameters what most families make of them.
func base(c *weights.Checkpoint) (Spec, error) {
	h := &c.Hyper
	for _, v := range []struct {
		name  string
		value int
	}{{"embedding length", h.Width}, {"block count", h.Layers}, {"head count", h.Heads}, {"context length", h.Context}, {"feed-forward length", h.FeedForward}} {
		if v.value <= 0 || v.value > 1<<24 {
			return Spec{}, fmt.Errorf("the %s is missing or out of range: %d", v.name, v.value)
		}
	}
	if h.Layers > maxLayers {
		return Spec{}, fmt.Errorf("the block count is %d; at most %d are possible", h.Layers, maxLayers)
	}
	if h.KVHeads == 0 {
		h.KVHeads = h.Heads
	}
	if h.HeadDim == 0 {
		h.HeadDim = h.Width / h.Heads
	}
	if h.Rope.Base == 0 {
		h.Rope.Base = 10000
	}
	if h.SharedExperts {
		return Spec{}, errors.New("experts beside one that every token uses are not supported")
	}
	s := Spec{Architecture: c.Architecture, Vocab: h.Vocabulary, Dim: h.Width, Context: h.Context, Trained: h.Context, Epsilon: float32(h.NormEpsilon),
		OutputNorm: true, LogitCap: float32(h.LogitCap), Causal: true, Pooling: h.Pooling}
	if h.Rope.Original > 0 {
		s.Trained = h.Rope.Original
	}
	if h.Causal != nil {
		s.Causal = *h.Causal
	}
	if !s.Causal && s.Pooling == weights.PoolNone {
		s.Pooling = weights.PoolMean
	}
	activation, ok := activations[h.Activation]
	if !ok {
		return Spec{}, fmt.Errorf("activation %q is not supported", h.Activation)
	}
	scalar := float64(h.HeadDim)
	if h.QueryScalar > 0 {
		scalar = h.QueryScalar
	}
	l := LayerSpec{Heads: h.Heads, KVHeads: h.KVHeads, HeadDim: h.HeadDim, PreNorm: true, Scale: inverseRoot(scalar), Cap: float32(h.AttentionCap),
		Window: h.Window, FeedForward: h.FeedForward, Gated: true, Activation: activation, Experts: h.Experts, ExpertsUsed: h.ExpertsUsed}
	if l.Experts > 0 && h.ExpertFeedForward > 0 {
		l.FeedForward = h.ExpertFeedForward
	}
	for i := range h.Layers {
		s.Layers = append(s.Layers, l)
		if h.Local != nil && (i >= len(h.Local) || !h.Local[i]) {
			s.Layers[i].Window = 0
		}
	}
	return s, nil
}

// rotate gives all layers one rotation.
func (s *Spec) rotate(c *weights.Checkpoint) error {
	h := &c.Hyper
	dims := h.Rope.Dims
	if dims == 0 {
		dims = h.HeadDim
	}
	r, err := newRope(&h.Rope, h.Rope.Base, dims, h.Context)
	s.Ropes = []Rope{r}
	return err
}

// Load builds the model that a checkpoint holds. The weights stay in its files, which must stay open.
func Load(c *weights.Checkpoint) (*Model, error) { return build(c, false) }

// build makes the model of a checkpoint. A dry one has no weights: only their shapes are checked.
func build(c *weights.Checkpoint, dry bool) (*Model, error) {
	s, err := describe(c)
	if err != nil {
		return nil, err
	}
	m := &Model{Spec: s}
	l := newLoader(c, families[c.Architecture], &m.Spec)
	l.dry = dry
	m.embedding = l.matrix(embedding, 0, s.Vocab, s.Dim)
	if s.Positions > 0 {
		m.positions = l.matrix(positions, 0, s.Positions, s.Dim)
	}
	if s.Types > 0 {
		m.types = l.matrix(tokenTypes, 0, s.Types, s.Dim)
	}
	if s.EmbeddingNorm {
		m.embeddingNorm = l.norm(embeddingNorm, 0, s.Dim)
	}
	for i := 0; i < len(s.Layers) && l.err == nil; i++ {
		m.layers = append(m.layers, l.layer(i))
	}
	if s.OutputNorm {
		m.outputNorm = l.norm(outputNorm, 0, s.Dim)
	}
	switch {
	case s.Tied:
		m.output = m.embedding
	case !s.Embeds():
		m.output = l.matrix(output, 0, s.Vocab, s.Dim)
	}
	m.dense = l.denseLayers(s.Dim)
	m.Dense = len(m.dense)
	l.nothingLeft()
	if l.err != nil {
		return nil, l.err
	}
	m.parts = l.parts
	return m, nil
}

// loader fetches tensors and checks their shapes; after the first error it gives zero values.
type loader struct {
	c     *weights.Checkpoint
	names names
	gguf  names
	spec  *Spec
	used  map[string]bool
	parts []Part
	dry   bool // shapes and types are checked, no weight is read
	err   error
}

// prefixes are what stands before the names in safetensors folders.
var prefixes = []string{"model.", "", "language_model.model.", "model.language_model.", "language_model.", "bert."}

func newLoader(c *weights.Checkpoint, f family, s *Spec) *loader {
	of := func(layout string) names {
		n := maps.Clone(common[layout])
		maps.Copy(n, f.names[layout])
		return n
	}
	return &loader{c: c, names: of(c.Layout), gguf: of("GGUF"), spec: s, used: map[string]bool{}}
}

func fill(pattern string, layer, expert int) string {
	switch strings.Count(pattern, "%d") {
	case 1:
		return fmt.Sprintf(pattern, layer)
	case 2:
		return fmt.Sprintf(pattern, layer, expert)
	}
	return pattern
}

// name is what a missing tensor is called.
func (l *loader) name(r role, layer, expert int) string {
	return fill(l.names[r], layer, expert) + ".weight"
}

// find looks for a tensor under each of the names that it may have; nil if it is not there.
func (l *loader) find(r role, layer, expert int) *weights.Tensor {
	return l.look(r, layer, expert, ".weight", "")
}

func (l *loader) look(r role, layer, expert int, suffixes ...string) *weights.Tensor {
	pattern := l.names[r]
	if pattern == "" {
		return nil
	}
	name := fill(pattern, layer, expert)
	for _, prefix := range prefixes {
		for _, suffix := range suffixes {
			if t, ok := l.c.Find(prefix + name + suffix); ok {
				return t
			}
		}
		if l.c.Layout == "GGUF" {
			break
		}
	}
	// The first prefix is one that GGUF files do not have.
	for _, suffix := range suffixes {
		if t, ok := l.c.Find(name + suffix); ok {
			return t
		}
	}
	return nil
}

func (l *loader) fail(format string, args ...any) {
	if l.err == nil {
		l.err = fmt.Errorf(format, args...)
	}
}

// take finds a tensor that must be there, of that shape.
func (l *loader) take(r role, layer, expert int, shape ...int) *weights.Tensor {
	if l.err != nil {
		return nil
	}
	t := l.find(r, layer, expert)
	switch {
	case t == nil:
		l.fail("tensor %s is missing", l.name(r, layer, expert))
		return nil
	case !slices.Equal(t.Shape, shape):
		l.fail("tensor %s has the shape %v where the hyperparameters ask for %v", t.Name, t.Shape, shape)
		return nil
	}
	l.used[t.Name] = true
	return t
}

// part notes a tensor by its name in GGUF files.
func (l *loader) part(r role, layer int, suffix string, p Part) {
	if name := l.gguf[r]; name != "" {
		p.Name = fill(name, layer, 0) + suffix
		l.parts = append(l.parts, p)
	}
}

func (l *loader) matrix(r role, layer, rows, cols int) tensor.Matrix {
	t := l.take(r, layer, 0, rows, cols)
	if t == nil {
		return tensor.Matrix{}
	}
	m := l.asMatrix(t, rows, cols)
	l.part(r, layer, ".weight", Part{Matrix: &m, Expert: -1})
	return m
}

func (l *loader) asMatrix(t *weights.Tensor, rows, cols int) tensor.Matrix {
	var m tensor.Matrix
	if !l.dry {
		var err error
		if m, err = tensor.NewMatrix(t.Type, rows, cols, t.Data, t.Scales); err != nil {
			l.fail("tensor %s: %w", t.Name, err)
		}
	}
	if !tensor.Usable(t.Type, cols) {
		l.fail("tensor %s: rows of %d elements stored as %s cannot be multiplied", t.Name, cols, t.Type)
	}
	return m
}

// values reads a small tensor of any type into memory.
func (l *loader) values(t *weights.Tensor, n int) []float32 {
	if l.dry {
		return []float32{}
	}
	m, err := tensor.NewMatrix(t.Type, 1, n, t.Data, t.Scales)
	if err != nil {
		l.fail("tensor %s: %w", t.Name, err)
		return nil
	}
	v := make([]float32, n)
	m.Row(v, 0)
	return v
}

// vector reads a tensor that must be there.
func (l *loader) vector(r role, layer, n int) []float32 {
	t := l.take(r, layer, 0, n)
	if t == nil {
		return nil
	}
	return l.values(t, n)
}

func (l *loader) norm(r role, layer, n int) norm {
	v := norm{weight: l.vector(r, layer, n)}
	if l.spec.NormPlusOne {
		for i := range v.weight {
			v.weight[i]++
		}
	}
	l.part(r, layer, ".weight", Part{Vector: v.weight, Expert: -1})
	if l.spec.LayerNorm {
		if v.bias = l.bias(r, layer, n); v.bias == nil {
			l.fail("tensor %s is missing", fill(l.names[r], layer, 0)+".bias")
		}
		l.part(r, layer, ".bias", Part{Vector: v.bias, Expert: -1})
	}
	return v
}

// bias reads the bias that goes with a tensor; nil if there is none.
func (l *loader) bias(r role, layer, n int) []float32 {
	t := l.look(r, layer, 0, ".bias", "_bias")
	if t == nil || l.err != nil {
		return nil
	}
	if t.Elements() != int64(n) {
		l.fail("tensor %s has the shape %v where the hyperparameters ask for %d numbers", t.Name, t.Shape, n)
		return nil
	}
	l.used[t.Name] = true
	return l.values(t, n)
}

// linear reads a matrix and, if there is one, its bias. heads is set for queries and keys.
func (l *loader) linear(r role, layer, rows, cols, heads int) linear {
	t := l.take(r, layer, 0, rows, cols)
	if t == nil {
		return linear{}
	}
	w := linear{Matrix: l.asMatrix(t, rows, cols)}
	l.part(r, layer, ".weight", Part{Matrix: &w.Matrix, Expert: -1, Heads: heads})
	if w.bias = l.bias(r, layer, rows); w.bias != nil {
		l.part(r, layer, ".bias", Part{Vector: w.bias, Expert: -1, Heads: heads})
	}
	return w
}

// slice is some rows of a matrix with their biases.
func (w linear) slice(from, n, step int) linear {
	if w.Rows == 0 {
		return w // of a model without weights
	}
	out := linear{Matrix: w.Matrix.Slice(from, n, step)}
	if w.bias != nil {
		out.bias = make([]float32, n)
		for i := range out.bias {
			out.bias[i] = w.bias[from+i*step]
		}
	}
	return out
}

func (l *loader) layer(i int) (out layer) {
	s := &l.spec.Layers[i]
	out.LayerSpec = *s
	dim, q, kv := l.spec.Dim, s.Heads*s.HeadDim, s.KVHeads*s.HeadDim
	if s.PreNorm || s.SumNorm {
		out.attentionNorm = l.norm(attentionNorm, i, dim)
	}
	if l.find(queryKeyValue, i, 0) != nil {
		all := l.linear(queryKeyValue, i, q+2*kv, dim, 0)
		if l.err != nil {
			return out
		}
		out.query, out.key, out.value = all.slice(0, q, 1), all.slice(q, kv, 1), all.slice(q+kv, kv, 1)
	} else {
		out.query = l.linear(query, i, q, dim, s.Heads)
		out.key = l.linear(key, i, kv, dim, s.KVHeads)
		out.value = l.linear(value, i, kv, dim, 0)
	}
	switch s.QKNorm {
	case HeadQKNorm:
		out.queryNorm, out.keyNorm = l.norm(queryNorm, i, s.HeadDim), l.norm(keyNorm, i, s.HeadDim)
	case FullQKNorm:
		out.queryNorm, out.keyNorm = l.norm(queryNorm, i, q), l.norm(keyNorm, i, kv)
	case NoQKNorm:
	}
	if s.Sinks {
		out.sinks = l.vector(sinks, i, s.Heads)
		l.part(sinks, i, ".weight", Part{Vector: out.sinks, Expert: -1})
	}
	out.attentionOut = l.linear(attentionOut, i, dim, q, 0)
	if s.PostNorm {
		out.postAttention = l.norm(postAttention, i, dim)
	}
	if s.PreNorm || s.SumNorm {
		out.feedForwardNorm = l.norm(feedForwardNorm, i, dim)
	}
	if s.Experts > 0 {
		out.router = l.linear(router, i, s.Experts, dim, 0)
		out.feedForward = l.experts(i, s)
	} else {
		out.feedForward = []mlp{l.mlp(i, s)}
	}
	if s.PostNorm {
		out.postFeedForward = l.norm(postFeedForward, i, dim)
	}
	return out
}

func (l *loader) mlp(i int, s *LayerSpec) (out mlp) {
	dim, ff := l.spec.Dim, s.FeedForward
	fused := gateUp
	if t := l.find(up, i, 0); t != nil && s.Gated && len(t.Shape) == 2 && t.Shape[0] == 2*ff && l.find(gate, i, 0) == nil {
		fused = up // GGUF files have both in the place of one
	}
	switch {
	case !s.Gated:
		out.up = l.linear(up, i, ff, dim, 0)
	case fused == up || l.find(gateUp, i, 0) != nil:
		all := l.linear(fused, i, 2*ff, dim, 0)
		if l.err != nil {
			return out
		}
		if fused == gateUp {
			l.part(up, i, ".weight", Part{Matrix: &all.Matrix, Expert: -1})
		}
		out.gate, out.up = all.slice(0, ff, 1), all.slice(ff, ff, 1)
	default:
		out.gate, out.up = l.linear(gate, i, ff, dim, 0), l.linear(up, i, ff, dim, 0)
	}
	out.down = l.linear(down, i, dim, ff, 0)
	return out
}

// experts reads all experts of a layer, in one tensor or one by one.
func (l *loader) experts(i int, s *LayerSpec) []mlp {
	dim, ff := l.spec.Dim, s.FeedForward
	list := make([]mlp, s.Experts)
	if l.find(expertGateUp, i, 0) != nil {
		both := l.stacked(expertGateUp, i, s.Experts, 2*ff, dim)
		down := l.stacked(expertDown, i, s.Experts, dim, ff)
		if l.err != nil {
			return nil
		}
		for e := range list {
			list[e] = mlp{gate: both[e].slice(0, ff, 2), up: both[e].slice(1, ff, 2), down: down[e]}
		}
	} else {
		gates, ups, downs := l.stacked(expertGate, i, s.Experts, ff, dim), l.stacked(expertUp, i, s.Experts, ff, dim), l.stacked(expertDown, i, s.Experts, dim, ff)
		if l.err != nil {
			return nil
		}
		for e := range list {
			list[e] = mlp{gate: gates[e], up: ups[e], down: downs[e]}
		}
	}
	for _, p := range []struct {
		r  role
		of func(*mlp) *linear
	}{{expertGate, func(m *mlp) *linear { return &m.gate }}, {expertUp, func(m *mlp) *linear { return &m.up }}, {expertDown, func(m *mlp) *linear { return &m.down }}} {
		for e := range list {
			l.part(p.r, i, ".weight", Part{Matrix: &p.of(&list[e]).Matrix, Expert: e})
		}
		for e := range list {
			if w := p.of(&list[e]); w.bias != nil {
				l.part(p.r, i, ".bias", Part{Vector: w.bias, Expert: e})
			}
		}
	}
	return list
}

// stacked reads a matrix of each expert.
func (l *loader) stacked(r role, layer, experts, rows, cols int) []linear {
	list := make([]linear, experts)
	if strings.Count(l.names[r], "%d") == 2 {
		for e := range list {
			t := l.take(r, layer, e, rows, cols)
			if t == nil {
				return nil
			}
			list[e].Matrix = l.asMatrix(t, rows, cols)
		}
		return list
	}
	t := l.take(r, layer, 0, experts, rows, cols)
	if t == nil {
		return nil
	}
	biases := l.bias(r, layer, experts*rows)
	data, scales := len(t.Data)/experts, len(t.Scales)/experts
	for e := range list {
		one := weights.Tensor{Name: t.Name, Type: t.Type, Data: t.Data[e*data : (e+1)*data]}
		if scales > 0 {
			one.Scales = t.Scales[e*scales : (e+1)*scales]
		}
		if list[e].Matrix = l.asMatrix(&one, rows, cols); len(biases) > 0 {
			list[e].bias = biases[e*rows : (e+1)*rows]
		}
	}
	return list
}

// denseLayers reads what follows the pooling of an embedding model.
func (l *loader) denseLayers(width int) (list []tensor.Matrix) {
	for n := 0; l.err == nil; n++ {
		t, ok := l.c.Find(fmt.Sprintf("dense.%d.linear.weight", n))
		if !ok {
			break
		}
		if len(t.Shape) != 2 || t.Shape[1] != width {
			l.fail("tensor %s has the shape %v; vectors of %d come in", t.Name, t.Shape, width)
			break
		}
		l.used[t.Name] = true
		width = t.Shape[0]
		list = append(list, l.asMatrix(t, width, t.Shape[1]))
	}
	return list
}

var (
	layerTensor = regexp.MustCompile(`(^|\.)(blk|layers|layer|h)\.\d+\.`)
	// Tensors of layers that are no weights, or of a part of the model that is not used here.
	besides = regexp.MustCompile(`rotary_emb\.inv_freq$|\.masked_bias$|\.attention\.bias$|vision|visual|audio`)
)

// nothingLeft refuses a checkpoint with tensors in its layers that the graph does not know: it would compute something
// else.
func (l *loader) nothingLeft() {
	if l.err != nil {
		return
	}
	for _, t := range l.c.Tensors {
		if !l.used[t.Name] && layerTensor.MatchString(t.Name) && !besides.MatchString(t.Name) {
			l.fail("tensor %s is not part of the %s family as it is known here", t.Name, l.c.Architecture)
			return
		}
	}
}
