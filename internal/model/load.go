package model

import (
	"errors"
	"fmt"
	"maps"
	"math"
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
	plain                       norm          // without a weight
	output                      tensor.Matrix // [Vocab][Dim]; the embedding itself where the file ties them
	dense                       []tensor.Matrix
	head                        head
	layers                      []*layer
	predictor                   *predictor // whose layer is behind the last; nil if there is none
	altUp                       altUpWeights
	parts                       []Part
}

// head is what scores: [Dim][Dim], [Dim], [1][Dim].
type head struct {
	dense linear
	norm  norm
	out   linear
}

// norm is the weight of a norm, nil for none, and, of a layer norm, its bias; both are as wide as what they are for.
type norm struct {
	kind         NormKind
	weight, bias []float32
}

// linear is a matrix and a bias for each of its rows; nil if there is none.
type linear struct {
	tensor.Matrix
	bias []float32
}

type layer struct {
	LayerSpec
	mixerNorm, feedForwardNorm norm // before, or after the sum
	postMixer, postFeedForward norm
	attention                  attentionWeights
	state                      stateWeights
	stateAt                    int    // where the layer's state begins in that of a sequence
	router                     linear // [Count][Dim]
	routerBias                 []float32
	feedForward                []mlp // one, or one for each expert
	shared                     mlp
	sharedGate                 linear // [1][Dim]
	xielu                      xielu
	altUp                      altUpLayer
}

type attentionWeights struct {
	inputs             []product // what is made of what comes in
	query, key, value  linear    // [Heads*HeadDim][Dim], [KVHeads*HeadDim][Dim], [KVHeads*ValueDim][Dim]
	queryNorm, keyNorm norm      // [HeadDim], or [all heads]; of latent attention [QueryRank] and [Rank]
	gated              [2]part   // of what the query's matrix gives for each head
	sinks              []float32
	out                linear // [Dim][Heads*ValueDim]

	queryDown, keyDown linear   // [QueryRank][Dim], [Rank+Rotated][Dim]
	keyUp, valueUp     []linear // of each head, [Rank][Plain] and [Value][Rank]
}

type stateWeights struct {
	inputs                    []product
	parts, paramParts         []part
	in, params, step, out     linear
	all, gate, beta, alpha    linear    // of a delta net
	conv, convBias            []float32 // [Taps][channels], [channels]
	fade                      []float32 // −e^A_log, by head or [Width][Size]
	skip, stepBias            []float32
	stepNorm, inNorm, outNorm norm
	norm                      norm
}

// mlp is a feed-forward network: gate and up [Width][Dim], down [Dim][Width].
type mlp struct {
	inputs         []product
	gate, up, down linear
}

// ready notes what is made of what comes in.
func (f *mlp) ready(gated bool) {
	f.inputs = []product{{&f.up, hiddenUp}}
	if gated {
		f.inputs = []product{{&f.gate, hiddenGate}, {&f.up, hiddenUp}}
	}
}

// xielu are the parameters of XIELU, the first two as they are used.
type xielu struct{ positive, negative, beta, epsilon float32 }

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

// family is one architecture, or several that differ little.
type family struct {
	spec func(c *weights.Checkpoint, s *Spec) error // refines what base made of the hyperparameters
	// names are what the family calls tensors otherwise than most, by layout; "" for one that it has not.
	names map[string]names
	// prefixes are what stands before the names in safetensors folders, if it is nothing usual.
	prefixes []string
	// windows says that it takes windows in some layers only, as GGUF files name them, and that these differ from the others in nothing
	// that the files do not say.
	windows bool
	// gguf is what GGUF files call the family, if conversion can say in one all that is to be said of it.
	gguf string
	// fused is how its files have gate and up in one matrix of each expert.
	fused fusedForm
	// besides tells tensors in layers that are left alone, such as those of layers that predict further tokens; it may be nil.
	besides func(c *weights.Checkpoint, name string) bool
}

// fusedForm says how gate and up lie in one matrix.
type fusedForm int

// The forms.
const (
	halves  fusedForm = iota // first all rows of gate
	turns                    // rows of gate and up by turns
	columns                  // halves, and the matrix turned over: [in][out]
)

var families = map[string]family{}

// register adds families from the init functions of their files.
func register(f family, architectures ...string) {
	for _, a := range architectures {
		families[a] = f
	}
}

// Families lists the architectures that can be run.
func Families() []string { return slices.Sorted(maps.Keys(families)) }

// GGUF is what GGUF files call an architecture, if models of it can be written as such files; empty if not.
func GGUF(architecture string) string { return families[architecture].gguf }

// UnknownFamilyError says that a model's architecture cannot be run.
type UnknownFamilyError struct{ Architecture string }

func (e *UnknownFamilyError) Error() string {
	return fmt.Sprintf("architecture %q is not supported; docs/models.md lists the %d that are", e.Architecture, len(families))
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

// describe makes the Spec of a checkpoint by its hyperparameters. Errors name them as the model's files do.
func describe(c *weights.Checkpoint) (Spec, error) {
	s, err := specify(c)
	if e := (*fieldError)(nil); errors.As(err, &e) {
		if e.field = c.Facts.Name(e.field); c.Layout == "GGUF" {
			e.field = c.Architecture + "." + e.field
		}
	}
	return s, err
}

func specify(c *weights.Checkpoint) (Spec, error) {
	f, ok := families[c.Architecture]
	if !ok {
		return Spec{}, &UnknownFamilyError{c.Architecture}
	}
	if c.Fault != nil {
		return Spec{}, c.Fault
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
		return Spec{}, &missingError{l.name(embedding, 0, 0), []int{s.Vocab, s.Dim}}
	}
	if err := errors.Join(f.spec(c, &s), c.Facts.Err()); err != nil {
		return Spec{}, err
	}
	if c.Unknown != nil {
		if list := c.Unknown(); len(list) > 0 {
			return Spec{}, fmt.Errorf("metadata %s may change what the network computes, and is not known of the family %s", strings.Join(list[:min(len(list), 5)], ", "), c.Architecture)
		}
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
	}{{"embedding_length", h.Width}, {"block_count", h.Layers}, {"attention.head_count", h.Heads}, {"context_length", h.Context}} {
		if v.value <= 0 || v.value > 1<<24 {
			return Spec{}, bad(v.name, "it is missing, or out of range: %d", v.value)
		}
	}
	if h.Experts < 0 || h.Experts > maxExperts {
		return Spec{}, bad("expert_count", "%d experts are out of range", h.Experts)
	}
	if h.Layers > maxLayers {
		return Spec{}, bad("block_count", "%d; at most %d are possible", h.Layers, maxLayers)
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
	attention := Attention{Heads: h.Heads, KVHeads: h.KVHeads, HeadDim: h.HeadDim, ValueDim: h.HeadDim, Scale: inverseRoot(scalar), Cap: float32(h.AttentionCap), Window: h.Window, From: -1}
	if v := c.Facts.Int("attention.value_length"); v != 0 {
		attention.ValueDim = v
	}
	feedForward := FeedForward{Width: h.FeedForward, Gated: true, Activation: activation}
	if h.Experts > 0 {
		feedForward.Experts = Experts{Count: h.Experts, Used: h.ExpertsUsed}
		if h.ExpertFeedForward > 0 {
			feedForward.Width = h.ExpertFeedForward
		}
	}
	kvHeads, widths := c.Facts.Ints("attention.head_count_kv"), c.Facts.Ints("feed_forward_length")
	for i := range h.Layers {
		l := LayerSpec{Attention: attention, FeedForward: feedForward}
		if l.Attention.Window > 0 && (h.Local == nil || i < len(h.Local) && h.Local[i]) {
			l.Attention.Mask = MaskWindow
		}
		if len(kvHeads) == h.Layers && kvHeads[i] != h.KVHeads {
			if l.Attention.KVHeads = kvHeads[i]; kvHeads[i] == 0 {
				l.Attention = Attention{From: -1}
			}
		}
		if len(widths) == h.Layers && len(widths) > 1 && h.Experts == 0 {
			l.FeedForward.Width = widths[i]
		}
		s.Layers = append(s.Layers, l)
	}
	return s, nil
}

// each changes all layers.
func (s *Spec) each(do func(i int, l *LayerSpec)) {
	for i := range s.Layers {
		do(i, &s.Layers[i])
	}
}

// see has a layer see its window only, or all.
func (a *Attention) see(window bool) {
	a.Mask = MaskNone
	if window && a.Window > 0 {
		a.Mask = MaskWindow
	}
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
	if err != nil {
		return err
	}
	list, sum := sections(c), 0
	for _, n := range list {
		if sum += n; n < 0 || n > dims {
			sum = -1
			break
		}
	}
	if list != nil && sum != dims/2 {
		return bad("rope.dimension_sections", "sections %v do not add up to the %d pairs of dimensions that are rotated", list[:min(len(list), 8)], dims/2)
	}
	return nil
}

// sections are how many pairs of dimensions turn by each of a token's places, which are all the same in a text; nil if all turn by its position.
func sections(c *weights.Checkpoint) []int {
	return c.Facts.Ints("rope_parameters.mrope_section", "rope_scaling.mrope_section", "rope.dimension_sections")
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
	m.plain.kind = RMSNorm
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
	at := 0
	for i := 0; i < len(s.Layers) && l.err == nil; i++ {
		one := l.layer(i)
		if one.stateAt = at; one.State.Kind != NoState {
			at += one.State.numbers()
		}
		m.layers = append(m.layers, one)
	}
	l.altUp(&m.altUp)
	if s.OutputNorm {
		m.outputNorm = l.norm(outputNorm, 0, s.Dim)
	}
	switch {
	case s.Tied:
		m.output = m.embedding
	case !s.Embeds():
		m.output = l.matrix(output, 0, s.Vocab, s.Dim)
	}
	l.predictor(m)
	m.dense = l.denseLayers(s.Dim)
	m.Dense = len(m.dense)
	if s.Head != NoHead {
		m.head.dense, m.head.out = l.linear(headDense, 0, s.Dim, s.Dim, 0), l.row(headOut, 0, s.Dim)
		if s.Head == GELUHead {
			m.head.norm = l.norm(headNorm, 0, s.Dim)
		}
	}
	l.nothingLeft()
	if l.err != nil {
		return nil, l.err
	}
	m.parts = l.parts
	return m, nil
}

// loader fetches tensors and checks their shapes; after the first error it gives zero values.
type loader struct {
	c      *weights.Checkpoint
	family family
	names  names
	gguf   names
	spec   *Spec
	used   map[string]bool
	parts  []Part
	dry    bool // shapes and types are checked, no weight is read
	err    error
}

// prefixes are what stands before the names in safetensors folders.
var prefixes = []string{"model.", "", "language_model.model.", "model.language_model.", "language_model."}

func newLoader(c *weights.Checkpoint, f family, s *Spec) *loader {
	of := func(layout string) names {
		n := maps.Clone(common[layout])
		maps.Copy(n, f.names[layout])
		return n
	}
	return &loader{c: c, family: f, names: of(c.Layout), gguf: of("GGUF"), spec: s, used: map[string]bool{}}
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
	for _, prefix := range append(l.family.prefixes, prefixes...) {
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

// missingError says which tensor is missing, of what shape.
type missingError struct {
	name  string
	shape []int
}

func (e *missingError) Error() string { return fmt.Sprintf("tensor %s is missing", e.name) }

func (l *loader) missing(name string, shape ...int) {
	if l.err == nil {
		l.err = &missingError{name, slices.Clone(shape)}
	}
}

// MakeUp gives a checkpoint, which has none, the tensors that its hyperparameters ask for, of the types that kind says and without data: for
// models of which only the size matters.
func MakeUp(c *weights.Checkpoint, kind func(name string, shape []int) weights.Type) error {
	for {
		c.Index()
		_, err := build(c, true)
		var m *missingError
		if !errors.As(err, &m) {
			return err
		}
		c.Tensors = append(c.Tensors, weights.Tensor{Name: m.name, Type: kind(m.name, m.shape), Shape: m.shape})
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
		l.missing(l.name(r, layer, expert), shape...)
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

func (l *loader) norm(r role, layer, n int) norm { return l.normOf(l.spec.Norm, r, layer, n) }

// normOf reads a norm of a kind. Where files have norms less 1, that holds for all but those of states.
func (l *loader) normOf(kind NormKind, r role, layer, n int) norm {
	v := norm{kind: kind, weight: l.numbers(r, layer, n)}
	if l.spec.NormPlusOne && r != stateNorm {
		for i := range v.weight {
			v.weight[i]++
		}
	}
	l.part(r, layer, ".weight", Part{Vector: v.weight, Expert: -1})
	if kind == LayerNorm {
		if v.bias = l.bias(r, layer, n); v.bias == nil {
			l.missing(fill(l.names[r], layer, 0)+".bias", n)
		}
		l.part(r, layer, ".bias", Part{Vector: v.bias, Expert: -1})
	}
	return v
}

// numbers reads n numbers of a tensor of any shape, or of several that have a number each in their names.
func (l *loader) numbers(r role, layer, n int) []float32 {
	if l.err != nil {
		return nil
	}
	if strings.Count(l.names[r], "%d") < 2 {
		t := l.find(r, layer, 0)
		switch {
		case t == nil:
			l.missing(l.name(r, layer, 0), n)
			return nil
		case t.Elements() != int64(n):
			l.fail("tensor %s has the shape %v where the hyperparameters ask for %d numbers", t.Name, t.Shape, n)
			return nil
		}
		l.used[t.Name] = true
		return l.values(t, n)
	}
	var all []float32
	for i, left := 0, n; left > 0 && l.err == nil; i++ {
		t := l.find(r, layer, i)
		if t == nil || t.Elements() < 1 || t.Elements() > int64(left) {
			l.fail("tensor %s is missing or of another size than the hyperparameters ask for", l.name(r, layer, i))
			return nil
		}
		l.used[t.Name] = true
		left -= int(t.Elements())
		all = append(all, l.values(t, int(t.Elements()))...)
	}
	return all
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

func (l *loader) layer(i int) *layer { return l.layerOf(&l.spec.Layers[i], i) }

// layerOf reads the layer that has that number in the files.
func (l *loader) layerOf(s *LayerSpec, i int) *layer {
	out := &layer{LayerSpec: *s}
	dim := l.spec.Dim
	if s.mixes() {
		if (s.Order.before() || s.Order == NormSum) && !s.Bare {
			out.mixerNorm = l.norm(mixerNorm, i, dim)
		}
		if s.Attention.Heads > 0 {
			l.attention(i, out)
		}
		if s.State.Kind != NoState {
			l.state(i, out)
		}
		if s.Order.after() {
			out.postMixer = l.norm(postMixer, i, dim)
		}
	}
	if s.FeedForward.Width > 0 {
		l.feedForward(i, out)
	}
	l.altUpLayer(i, out)
	return out
}

func (l *loader) attention(i int, out *layer) {
	s, w := &out.Attention, &out.attention
	if s.Latent.Rank > 0 {
		l.latent(i, out)
		return
	}
	dim, q, k, v := l.spec.Dim, s.Heads*s.HeadDim, s.KVHeads*s.HeadDim, s.KVHeads*s.ValueDim
	rows, to := q, query
	if s.Gated {
		rows, to = 2*q, wide
		w.gated = [2]part{{query, s.HeadDim}, {gates, s.HeadDim}}
	}
	if l.find(queryKeyValue, i, 0) != nil {
		all := l.linear(queryKeyValue, i, rows+k+v, dim, 0)
		if l.err != nil {
			return
		}
		w.query, w.key, w.value = all.slice(0, rows, 1), all.slice(rows, k, 1), all.slice(rows+k, v, 1)
	} else {
		w.query = l.linear(queryRole, i, rows, dim, s.Heads)
		if s.From < 0 {
			w.key = l.linear(keyRole, i, k, dim, s.KVHeads)
			w.value = l.linear(valueRole, i, v, dim, 0)
		}
	}
	w.inputs = []product{{&w.query, to}, {&w.key, key}, {&w.value, value}}
	if s.From >= 0 {
		w.inputs = w.inputs[:1]
	}
	kind := l.spec.Norm
	if kind == LayerNorm {
		kind = Centered
	}
	of := func(heads int) int { // how wide the norm of so many heads is
		switch s.QKNorm {
		case EachQKNorm, FullQKNorm:
			return heads * s.HeadDim
		case HeadQKNorm, RotatedQKNorm:
			return s.HeadDim
		case NoQKNorm, PlainQKNorm:
		}
		return 0
	}
	if of(1) > 0 {
		w.queryNorm = l.normOf(kind, queryNorm, i, of(s.Heads))
		if s.From < 0 {
			w.keyNorm = l.normOf(kind, keyNorm, i, of(s.KVHeads))
		}
	}
	if s.Sinks {
		w.sinks = l.vector(sinks, i, s.Heads)
		l.part(sinks, i, ".weight", Part{Vector: w.sinks, Expert: -1})
	}
	w.out = l.linear(attentionOut, i, dim, s.Heads*s.ValueDim, 0)
}

// latent reads latent attention. Files have what makes keys and values of the vector as one matrix, or as two for each head.
func (l *loader) latent(i int, out *layer) {
	s, q, w := &out.Attention, &out.Attention.Latent, &out.attention
	dim, size := l.spec.Dim, q.Plain+q.Rotated
	w.keyDown = l.linear(latentDown, i, q.Rank+q.Rotated, dim, 0)
	w.keyNorm = l.norm(latentNorm, i, q.Rank)
	if q.QueryRank > 0 {
		w.queryDown = l.linear(queryDown, i, q.QueryRank, dim, 0)
		w.queryNorm = l.norm(queryDownNorm, i, q.QueryRank)
		w.query = l.linear(queryUp, i, s.Heads*size, q.QueryRank, 0)
		w.inputs = []product{{&w.queryDown, inner}, {&w.keyDown, key}}
	} else {
		w.query = l.linear(queryRole, i, s.Heads*size, dim, 0)
		w.inputs = []product{{&w.query, wide}, {&w.keyDown, key}}
	}
	if l.find(latentUp, i, 0) == nil {
		w.keyUp = l.stacked(latentKeyUp, i, s.Heads, q.Rank, q.Plain)
		w.valueUp = l.stacked(latentValueUp, i, s.Heads, q.Value, q.Rank)
	} else if both := l.linear(latentUp, i, s.Heads*(q.Plain+q.Value), q.Rank, 0); l.err == nil {
		for h := range s.Heads {
			at := h * (q.Plain + q.Value)
			w.keyUp = append(w.keyUp, linear{Matrix: l.turned(both.slice(at, q.Plain, 1).Matrix)})
			w.valueUp = append(w.valueUp, both.slice(at+q.Plain, q.Value, 1))
		}
	}
	w.out = l.linear(attentionOut, i, dim, s.Heads*q.Value, 0)
}

// turned is a matrix with rows and columns exchanged, in memory, as float32.
func (l *loader) turned(m tensor.Matrix) tensor.Matrix {
	if l.dry || l.err != nil {
		return tensor.Matrix{}
	}
	row, all := make([]float32, m.Cols), make([]float32, m.Rows*m.Cols)
	for r := range m.Rows {
		m.Row(row, r)
		for c, v := range row {
			all[c*m.Rows+r] = v
		}
	}
	return l.inMemory(all, m.Cols, m.Rows)
}

func (l *loader) state(i int, out *layer) {
	s, w := &out.State, &out.state
	dim := l.spec.Dim
	w.conv = byTap(l.numbers(stateConv, i, s.channels()*s.Taps), s.Taps)
	w.convBias = l.bias(stateConv, i, s.channels())
	switch s.Kind {
	case ShortConv:
		w.in = l.linear(stateIn, i, s.input(), dim, 0)
	case Mamba:
		w.in = l.linear(stateIn, i, s.input(), dim, 0)
		w.parts = []part{{inner, s.Width}, {gates, s.Width}}
		w.params = l.linear(stateParams, i, s.Rank+2*s.Size, s.Width, 0)
		w.paramParts = []part{{one, s.Rank}, {input, 2 * s.Size}}
		w.step = l.linear(stateStep, i, s.Width, s.Rank, 0)
		w.stepNorm, w.inNorm, w.outNorm = l.norm(stateStepNorm, i, s.Rank), l.norm(stateInNorm, i, s.Size), l.norm(stateOutNorm, i, s.Size)
		w.fade, w.skip = l.fade(i, s.Width*s.Size), l.numbers(stateSkip, i, s.Width)
	case Mamba2:
		w.in = l.linear(stateIn, i, s.input(), dim, 0)
		w.parts = []part{{gates, s.Width}, {inner, s.channels()}, {rates, s.Heads}}
		w.fade, w.skip = l.fade(i, s.Heads), l.numbers(stateSkip, i, s.Heads)
		w.stepBias = l.must(stateStep, i, s.Heads)
		if s.Norm == GroupNorm {
			w.norm = l.normOf(RMSNorm, stateNorm, i, s.Width)
		}
	case DeltaNet:
		l.deltaNet(i, out)
	case NoState:
	}
	w.out = l.linear(stateOut, i, dim, s.Width, 0)
}

// byTap puts the weights of a convolution, which files have by channel, side by side for each of its taps.
func byTap(w []float32, taps int) []float32 {
	out := make([]float32, len(w))
	for i, v := range w {
		out[i%taps*(len(w)/taps)+i/taps] = v
	}
	return out
}

func (l *loader) deltaNet(i int, out *layer) {
	s, w := &out.State, &out.state
	dim, group := l.spec.Dim, s.Heads/s.Groups
	if s.ByHead {
		w.all = l.linear(deltaAll, i, s.channels()+s.Width, dim, 0)
		values := s.Width / s.Groups
		w.inputs = []product{{&w.all, wide}}
		w.parts = []part{{inner, s.Size}, {inner, s.Size}, {inner, values}, {gates, values}}
	} else {
		w.all, w.gate = l.linear(deltaQueryKeyValue, i, s.channels(), dim, 0), l.linear(deltaGate, i, s.Width, dim, 0)
		w.inputs = []product{{&w.all, inner}, {&w.gate, gates}}
	}
	if l.find(deltaRates, i, 0) != nil {
		w.beta = l.linear(deltaRates, i, 2*s.Heads, dim, 0)
		w.inputs = append(w.inputs, product{&w.beta, one})
		w.paramParts = []part{{input, group}, {rates, group}}
	} else {
		w.beta, w.alpha = l.linear(deltaBeta, i, s.Heads, dim, 0), l.linear(deltaAlpha, i, s.Heads, dim, 0)
		w.inputs = append(w.inputs, product{&w.beta, input}, product{&w.alpha, rates})
	}
	w.fade, w.stepBias = l.fade(i, s.Heads), l.must(stateStep, i, s.Heads)
	w.norm = l.normOf(RMSNorm, stateNorm, i, s.Width/s.Heads)
}

// fade reads how fast a state fades. GGUF files have −e^A, others A.
func (l *loader) fade(layer, n int) []float32 {
	v := l.numbers(stateFade, layer, n)
	if l.c.Layout != "GGUF" {
		for i, x := range v {
			v[i] = float32(-math.Exp(float64(x)))
		}
	}
	return v
}

// must reads a bias that has to be there.
func (l *loader) must(r role, layer, n int) []float32 {
	v := l.bias(r, layer, n)
	if v == nil {
		l.missing(fill(l.names[r], layer, 0)+".bias", n)
	}
	return v
}

func (l *loader) feedForward(i int, out *layer) {
	s, f, dim := &out.LayerSpec, &out.FeedForward, l.spec.Dim
	if s.Order != Parallel && (s.Order.before() || s.Order == NormSum) {
		out.feedForwardNorm = l.norm(feedForwardNorm, i, dim)
	}
	if f.Activation == XIELU {
		l.xielu(i, out)
	}
	if e := &f.Experts; e.Count > 0 {
		out.router = l.linear(router, i, e.Count, dim, 0)
		if e.Router.Bias {
			out.routerBias = l.must(routerBias, i, e.Count)
			l.part(routerBias, i, ".bias", Part{Vector: out.routerBias, Expert: -1})
		}
		out.feedForward = l.experts(i, f)
		if e.Shared > 0 {
			out.shared = l.mlp(i, f, e.Shared, sharedRoles)
			out.shared.ready(f.Gated)
		}
		if e.SharedGated {
			out.sharedGate = l.row(sharedSwitch, i, dim)
		}
	} else {
		out.feedForward = []mlp{l.mlp(i, f, f.Width, plainRoles)}
	}
	for e := range out.feedForward {
		out.feedForward[e].ready(f.Gated)
	}
	if s.Order.after() {
		out.postFeedForward = l.norm(postFeedForward, i, dim)
	}
}

// row reads a matrix of one row, which some files have as a vector.
func (l *loader) row(r role, layer, cols int) linear {
	if t := l.find(r, layer, 0); t != nil && len(t.Shape) == 1 && t.Shape[0] == cols {
		l.used[t.Name] = true
		return linear{Matrix: l.asMatrix(t, 1, cols)}
	}
	return l.linear(r, layer, 1, cols, 0)
}

// xielu reads the parameters of the activation.
func (l *loader) xielu(i int, out *layer) {
	var v [4]float64
	for k, name := range []string{"alpha_p", "alpha_n", "beta", "eps"} {
		pattern := l.names[activationRole]
		l.names[activationRole] = pattern + "." + name
		if n := l.numbers(activationRole, i, 1); len(n) == 1 {
			v[k] = float64(n[0])
		}
		l.names[activationRole] = pattern
	}
	positive := func(x float64) float64 { return math.Log1p(math.Exp(x)) }
	out.xielu = xielu{positive: float32(positive(v[0])), negative: float32(v[2] + positive(v[1])), beta: float32(v[2]), epsilon: float32(v[3])}
}

// mlpRoles are the tensors of a feed-forward network.
type mlpRoles struct{ gate, up, gateUp, down role }

var (
	plainRoles  = mlpRoles{gateRole, upRole, gateUp, downRole}
	sharedRoles = mlpRoles{sharedGate, sharedUp, sharedGateUp, sharedDown}
)

func (l *loader) mlp(i int, s *FeedForward, ff int, r mlpRoles) (out mlp) {
	dim := l.spec.Dim
	fused := r.gateUp
	if t := l.find(r.up, i, 0); t != nil && s.Gated && len(t.Shape) == 2 && t.Shape[0] == 2*ff && l.find(r.gate, i, 0) == nil {
		fused = r.up // GGUF files have both in the place of one
	}
	switch {
	case !s.Gated:
		out.up = l.linear(r.up, i, ff, dim, 0)
	case fused == r.up || l.find(r.gateUp, i, 0) != nil:
		all := l.linear(fused, i, 2*ff, dim, 0)
		if l.err != nil {
			return out
		}
		if fused == r.gateUp {
			l.part(r.up, i, ".weight", Part{Matrix: &all.Matrix, Expert: -1})
		}
		out.gate, out.up = all.slice(0, ff, 1), all.slice(ff, ff, 1)
	default:
		out.gate, out.up = l.linear(r.gate, i, ff, dim, 0), l.linear(r.up, i, ff, dim, 0)
	}
	out.down = l.linear(r.down, i, dim, ff, 0)
	return out
}

// experts reads all experts of a layer, in one tensor or one by one.
func (l *loader) experts(i int, s *FeedForward) []mlp {
	dim, ff, count := l.spec.Dim, s.Width, s.Experts.Count
	list := make([]mlp, count)
	switch {
	case l.find(expertGateUp, i, 0) != nil:
		l.fusedExperts(i, list, ff)
	case s.Gated:
		gates, ups, downs := l.stacked(expertGate, i, count, ff, dim), l.stacked(expertUp, i, count, ff, dim), l.stacked(expertDown, i, count, dim, ff)
		if l.err != nil {
			return nil
		}
		for e := range list {
			list[e] = mlp{gate: gates[e], up: ups[e], down: downs[e]}
		}
	default:
		ups, downs := l.stacked(expertUp, i, count, ff, dim), l.stacked(expertDown, i, count, dim, ff)
		if l.err != nil {
			return nil
		}
		for e := range list {
			list[e] = mlp{up: ups[e], down: downs[e]}
		}
	}
	if l.err != nil {
		return nil
	}
	for _, p := range []struct {
		r  role
		of func(*mlp) *linear
	}{{expertGate, func(m *mlp) *linear { return &m.gate }}, {expertUp, func(m *mlp) *linear { return &m.up }}, {expertDown, func(m *mlp) *linear { return &m.down }}} {
		if p.r == expertGate && !s.Gated {
			continue
		}
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

// fusedExperts reads experts of which gate and up are one matrix.
func (l *loader) fusedExperts(i int, list []mlp, ff int) {
	dim, n := l.spec.Dim, len(list)
	var both, down []linear
	if l.family.fused == columns {
		both, down = l.stacked(expertGateUp, i, n, dim, 2*ff), l.stacked(expertDown, i, n, ff, dim)
	} else {
		both, down = l.stacked(expertGateUp, i, n, 2*ff, dim), l.stacked(expertDown, i, n, dim, ff)
	}
	if l.err != nil {
		return
	}
	for e := range list {
		switch l.family.fused {
		case turns:
			list[e] = mlp{gate: both[e].slice(0, ff, 2), up: both[e].slice(1, ff, 2), down: down[e]}
		case columns:
			both[e].Matrix, down[e].Matrix = l.turned(both[e].Matrix), l.turned(down[e].Matrix)
			fallthrough
		case halves:
			list[e] = mlp{gate: both[e].slice(0, ff, 1), up: both[e].slice(ff, ff, 1), down: down[e]}
		}
	}
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
	besides = regexp.MustCompile(`rotary_emb\.inv_freq$|\.masked_bias$|\.attention\.bias$|^(model\.)?(vision|visual|audio)[a-z_]*\.`)
)

// nothingLeft refuses a checkpoint with tensors in its layers that the graph does not know: it would compute something
// else.
func (l *loader) nothingLeft() {
	if l.err != nil {
		return
	}
	for _, t := range l.c.Tensors {
		if !l.used[t.Name] && layerTensor.MatchString(t.Name) && !besides.MatchString(t.Name) && (l.family.besides == nil || !l.family.besides(l.c, t.Name)) {
			l.fail("tensor %s is not part of the %s family as it is known here", t.Name, l.c.Architecture)
			return
		}
	}
}
