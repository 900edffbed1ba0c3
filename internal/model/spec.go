// Package model computes the next-token logits of a language model, or the vector of a text, from its weights.
//
// A [Spec] describes a network, layer by layer. Its operations are written once, as a walk over the layers (walk.go) that
// a processor carries out as it goes (processor.go); an architecture family is a file (llama.go, gemma.go, …) that turns a
// checkpoint into a Spec and says by which names its tensors go. A [Model] is a Spec with its weights; it is immutable and
// may be shared. What a sequence has seen is in its [kv.Sequence], and the working memory of a step is in a [Scratch].
package model

import (
	"errors"
	"fmt"
	"math"

	"kindredgate/internal/kv"
	"kindredgate/internal/weights"
)

// Spec describes a network.
type Spec struct {
	Architecture string
	Vocab        int // tokens
	Dim          int // width of the residual stream
	Context      int // tokens
	Trained      int // the context that it was trained with before positions were stretched; Context if they were not
	Positions    int // with a vector of its own each; 0 if positions are rotations
	// FirstPosition is which of these vectors the first token gets.
	FirstPosition int
	Types         int // kinds of tokens with a vector each

	EmbeddingScale float32 // that embeddings are multiplied with; 0 for none
	EmbeddingNorm  bool
	Epsilon        float32
	Norm           NormKind
	NormPlusOne    bool // the file has the norms' weights less 1
	OutputNorm     bool
	Tied           bool    // the output matrix is the embedding
	LogitScale     float32 // that logits are multiplied with; 0 for none
	LogitCap       float32 // logits are softly capped at this; 0 for not at all

	Ropes  []Rope
	Layers []LayerSpec
	AltUp  AltUp
	// Predictor is the layer of the prediction head; nil if there is none.
	Predictor *LayerSpec

	// Deep is behind how many of the first layers rows of pictures are added, and Whole says that the tokens of a picture see each other both ways.
	Deep  int
	Whole bool

	Causal  bool // false for encoders, in which every position sees every other
	Pooling weights.Pooling
	Dense   int // layers behind the pooling
	Head    Head
}

// Head is what scores a text, or two texts that go together, by the vector that pooling makes.
type Head int

// The heads.
const (
	NoHead   Head = iota // the vector itself is what is wanted
	TanhHead             // a matrix, tanh, and a row
	GELUHead             // a matrix, GELU, a norm, and a row
)

// NormKind says how vectors are normalized.
type NormKind int

// The kinds.
const (
	RMSNorm   NormKind = iota // x / sqrt(mean(x²) + ε) × weight (Zhang and Sennrich, 2019)
	LayerNorm                 // the mean is taken off first, and there is a bias (Ba et al., 2016)
	Centered                  // LayerNorm without a bias
)

// LayerSpec describes one layer: a mixer, which brings together what positions know, and a feed-forward network. Either may be
// missing. A layer that has attention and a state adds what the two give.
type LayerSpec struct {
	Order       Order
	Bare        bool // there is no norm before the mixer, where there is one in other layers
	Attention   Attention
	State       State
	FeedForward FeedForward
}

// Order says how the two parts of a layer are joined to the residual stream x.
type Order int

// The orders.
const (
	NormBefore Order = iota // x += f(norm(x)), for each
	NormAfter               // x += norm(f(x))
	NormAround              // x += norm(f(norm(x)))
	NormSum                 // x = norm(x + f(x))
	Parallel                // x += mixer(h) + feedforward(h), with h = norm(x)
)

func (o Order) before() bool { return o == NormBefore || o == NormAround || o == Parallel }
func (o Order) after() bool  { return o == NormAfter || o == NormAround }

// Attention is attention (Vaswani et al., 2017) of groups of query heads that share a key/value head each (Ainslie et al.,
// 2023). It is there if it has heads.
type Attention struct {
	Heads    int // query heads
	KVHeads  int // key/value heads; each serves Heads/KVHeads query heads
	HeadDim  int // of queries and keys
	ValueDim int // of values
	Latent   Latent

	QKNorm    QKNorm
	ValueNorm bool // values are normalized too, head by head, without a weight
	Rope      int  // which of the model's rotations; −1 for none
	Scale     float32
	Cap       float32 // scores are softly capped at this; 0 for not at all
	Mask      Mask
	Window    int  // of the mask, in positions
	Sinks     bool // each head has a logit that takes part in the softmax and gives nothing
	Temper    Temper
	Gated     bool    // what a head gives is multiplied with σ of a gate that comes with its query
	From      int     // the layer whose keys and values it uses, which it has none of itself; −1 for its own
	Out       float32 // that what comes out is multiplied with; 0 for none
}

// Mask says which positions a position attends to.
type Mask int

// The masks. In encoders all of them hold to both sides.
const (
	MaskNone   Mask = iota // none beside what comes later
	MaskWindow             // the last Window, its own included; in encoders half on each side
	MaskChunk              // those of the same Window positions, counted from the first
)

// Latent is attention whose keys and values are worked out of a short vector, which is all that is kept of a token (DeepSeek-AI,
// "DeepSeek-V2", 2024, section 2.1). It is there if it has a rank. Queries are brought to where that vector is, so it is
// attention with one key/value head.
type Latent struct {
	Rank      int // of the vector for keys and values
	QueryRank int // of the one for queries; 0 if there is none
	Plain     int // dimensions of a head's key that are not rotated
	Rotated   int // those that are, the same for all heads
	Value     int // dimensions of a head's value
}

// QKNorm says how queries and keys are normalized.
type QKNorm int

// The ways. Norms are of the kind of the model's, without a bias.
const (
	NoQKNorm      QKNorm = iota
	HeadQKNorm           // each head by itself, before rotating
	EachQKNorm           // each head by itself and with weights of its own, before rotating
	FullQKNorm           // all heads together, before rotating
	RotatedQKNorm        // each head by itself, after rotating
	PlainQKNorm          // each head by itself, without a weight, after rotating, where there is a rotation
)

// Temper makes attention sharper as a text gets longer: queries are multiplied with 1 + By·ln(1 + ⌊(position + First)/Every⌋).
// It is there if By is not 0.
type Temper struct {
	By    float64
	Every float64 // positions
	First int
}

// State is a mixer that carries a state from token to token.
type State struct {
	Kind   StateKind
	Taps   int // of the convolution, each token's own included
	Width  int // of what is mixed
	Heads  int
	Groups int        // of heads that share keys and queries
	Size   int        // of the state: numbers of each channel, or dimensions of a key
	Rank   int        // of what time steps are worked out of (Mamba)
	In     [5]float32 // that the parts of what goes in are multiplied with (Mamba2); 0 for none
	Out    float32    // that what comes out is multiplied with; 0 for none
	Norm   StateNorm
	ByHead bool // what goes into a delta net lies by key heads
}

// StateKind is what a state is for.
type StateKind int

// The kinds.
const (
	NoState   StateKind = iota
	ShortConv           // a gated convolution over the last tokens
	Mamba               // a state space for each channel (Gu and Dao, "Mamba", 2023)
	Mamba2              // a state space for each head (Dao and Gu, "Transformers are SSMs", 2024)
	DeltaNet            // a gated delta net (Yang et al., "Gated Delta Networks", 2024)
)

// StateNorm is the norm behind the gate of a state space.
type StateNorm int

// The norms.
const (
	NoStateNorm StateNorm = iota
	GroupNorm             // of each group's channels by themselves
)

// numbers are how many float32 the state of a sequence has: what the convolution still needs, and then the rest.
func (s *State) numbers() int { return s.channels()*(s.Taps-1) + s.matrix() }

// channels are those that the convolution goes over.
func (s *State) channels() int {
	switch s.Kind {
	case ShortConv, Mamba:
		return s.Width
	case Mamba2, DeltaNet:
		return s.Width + 2*s.Groups*s.Size
	case NoState:
	}
	return 0
}

// matrix is the part of the state that is not the convolution's.
func (s *State) matrix() int {
	switch s.Kind {
	case Mamba, Mamba2, DeltaNet:
		return s.Width * s.Size
	case NoState, ShortConv:
	}
	return 0
}

// input is how wide what goes into the mixer is.
func (s *State) input() int {
	switch s.Kind {
	case ShortConv:
		return 3 * s.Width
	case Mamba:
		return 2 * s.Width
	case Mamba2:
		return 2*s.Width + 2*s.Groups*s.Size + s.Heads
	case DeltaNet:
		return s.channels()
	case NoState:
	}
	return 0
}

// FeedForward is a feed-forward network. It is there if it has a width.
type FeedForward struct {
	Width      int // of the hidden layer, of each expert if there are any
	Gated      bool
	Activation Activation
	Clamp      float32 // of ClampedSwish
	Sparse     float32 // of gates only what is above mean + Sparse·deviation is left (Sparsity), and less that; 0 for all
	GateScale  float32 // that gates are multiplied with; 0 for none
	Out        float32 // that what comes out is multiplied with; 0 for none
	Experts    Experts
}

// Experts say how the experts of a layer are chosen (Shazeer et al., "Outrageously Large Neural Networks", 2017). They are there
// if Count is not 0.
type Experts struct {
	Count, Used int
	Shared      int  // width of one that every token uses; 0 for none
	SharedGated bool // what that gives is multiplied with σ of one number
	Router      Router
}

// Router says how experts are weighed.
type Router struct {
	Score      Score
	Bias       bool // there is a bias that takes part in the choice, and not in the weights
	Groups     int  // of experts, of which first GroupsUsed are chosen, by the sum of each one's two best; 0 for none
	GroupsUsed int
	Normalized bool    // weights are divided by their sum
	Floor      float32 // that is added to that sum
	Scale      float32 // that weights are multiplied with; 0 for none
	WeighInput bool    // weights are for what goes into an expert, rather than for what comes out
}

// Score is what a router makes of its logits.
type Score int

// The scores.
const (
	ChosenSoftmax Score = iota // softmax over the chosen ones
	AllSoftmax                 // softmax over all
	Sigmoid
)

// Activation is the function of the hidden layer.
type Activation int

// The functions.
const (
	SiLU Activation = iota
	GELU            // by the error function
	TanhGELU
	ClampedSwish // min(g, c)·σ(1.702·g)·(clamp(u, −c, c) + 1), of gate g and up u
	SquaredReLU  // max(0, x)²
	QuickGELU    // x·σ(1.702·x)
	XIELU        // with parameters of each layer (Huang and Schlag, "xIELU", 2024)
)

// activations by the names that files give them.
var activations = map[string]Activation{"": SiLU, "silu": SiLU, "swish": SiLU, "gelu": GELU, "gelu_pytorch_tanh": TanhGELU, "gelu_new": TanhGELU, "gelu_fast": TanhGELU,
	"quick_gelu": QuickGELU, "relu2": SquaredReLU, "xielu": XIELU}

// Embeds reports whether the network makes vectors of texts rather than predict tokens.
func (s *Spec) Embeds() bool { return s.Pooling != weights.PoolNone }

// KVShape is what the network keeps of a sequence. An encoder, which goes through a text once, keeps one layer of its tokens at
// a time.
func (s *Spec) KVShape() (shape kv.Shape) {
	for i := range s.Layers {
		l := &s.Layers[i]
		shape.Layers = append(shape.Layers, l.Attention.kept())
		if l.State.Kind != NoState {
			shape.State += l.State.numbers()
		}
	}
	if s.Embeds() {
		shape.Layers = shape.Layers[:1]
	}
	if s.Predictor != nil {
		shape.Layers = append(shape.Layers, s.Predictor.Attention.kept())
	}
	return shape
}

// kept is what attention keeps of a token.
func (a *Attention) kept() kv.Layer {
	if a.Heads == 0 || a.From >= 0 {
		return kv.Layer{}
	}
	return kv.Layer{KVHeads: a.KVHeads, KeyDim: a.HeadDim, ValueDim: a.ValueDim, Latent: a.Latent.Rank > 0}
}

// Variant says which form of the rotations a sequence of so many tokens, prompt and answer, needs.
func (s *Spec) Variant(tokens int) (n int) {
	for i := range s.Ropes {
		n = max(n, s.Ropes[i].variant(tokens))
	}
	return n
}

// Bounds of what a network may ask for.
const (
	maxLayers  = 1024
	maxExperts = 4096
	maxContext = 1 << 50 // bytes of the keys and values of a whole context
	maxState   = 1 << 30 // numbers of the state of a sequence
	maxWidth   = 1 << 22
)

// check refuses shapes that no network has, so that the walk need not.
func (s *Spec) check() error {
	for _, v := range []size{{"embedding_length", s.Dim}, {"block_count", len(s.Layers)}, {"context_length", s.Context}, {"vocab_size", s.Vocab}} {
		if v.n < 1 || v.n > 1<<24 {
			return bad(v.field, "%d is out of range", v.n)
		}
	}
	switch {
	case !(s.Epsilon > 0) || s.Epsilon > 1:
		return bad("attention.layer_norm_rms_epsilon", "%g is out of range", s.Epsilon)
	case s.Positions < 0 || s.Types < 0 || s.FirstPosition < 0 || !(s.LogitCap >= 0):
		return errors.New("a size or a cap is negative")
	case !usable(s.EmbeddingScale) || !usable(s.LogitScale):
		return fmt.Errorf("embeddings scaled by %g or logits scaled by %g are out of range", s.EmbeddingScale, s.LogitScale)
	case s.Pooling < weights.PoolNone || s.Pooling > weights.PoolLast:
		return fmt.Errorf("pooling of kind %d is not supported", s.Pooling)
	case len(s.Layers) > maxLayers:
		return bad("block_count", "%d; at most %d are possible", len(s.Layers), maxLayers)
	}
	for i := range s.Ropes {
		if err := s.Ropes[i].check(); err != nil {
			return err
		}
	}
	for i := range s.Layers {
		if err := s.checkLayer(i); err != nil {
			return inLayer(i, err)
		}
	}
	if err := s.AltUp.check(s); err != nil {
		return err
	}
	return s.checkKept()
}

// checkKept refuses contexts that no memory holds.
func (s *Spec) checkKept() error {
	var perToken, state int64
	for i := range s.Layers {
		l := s.Layers[i].Attention.kept()
		perToken += 2 * int64(l.KVHeads) * int64(l.KeyDim+l.ValueDim)
		if s.Layers[i].State.Kind != NoState {
			state += int64(s.Layers[i].State.numbers())
		}
		if s.Embeds() && (l != s.Layers[0].Attention.kept() || s.Layers[i].State.Kind != NoState) {
			return errors.New("an encoder whose layers have heads of different sizes, or a state, is not supported")
		}
	}
	if perToken > maxContext/int64(s.Context) {
		return bad("context_length", "a context of %d tokens of %d bytes is out of range", s.Context, perToken)
	}
	if state > maxState {
		return bad("ssm.state_size", "a state of %d numbers for each sequence is out of range; at most %d are possible", state, maxState)
	}
	return nil
}

// fieldError says what is wrong with a hyperparameter. Its name is that of GGUF files, without the architecture, until it is known how the
// model's own files call it.
type fieldError struct {
	layer         string // with what separates it from the rest; empty if it is of no layer
	field, reason string
}

func (e *fieldError) Error() string { return e.layer + e.field + ": " + e.reason }

func bad(field, format string, args ...any) error {
	return &fieldError{field: field, reason: fmt.Sprintf(format, args...)}
}

// inLayer says of an error which layer it is of.
func inLayer(i int, err error) error {
	layer := fmt.Sprintf("layer %d: ", i)
	if e := (*fieldError)(nil); errors.As(err, &e) {
		return &fieldError{layer, e.field, e.reason}
	}
	return fmt.Errorf("%s%w", layer, err)
}

// size is a number that has to be there, by the name that GGUF files have for it.
type size struct {
	field string
	n     int
}

func checkSizes(list ...size) error {
	for _, v := range list {
		if v.n < 1 || v.n > maxWidth {
			return bad(v.field, "%d is out of range", v.n)
		}
	}
	return nil
}

// usable reports whether a factor is a number that is not absurd; 0 stands for none.
func usable(x float32) bool { return x-x == 0 && math.Abs(float64(x)) < 1e6 }

func (s *Spec) checkLayer(i int) error {
	l := &s.Layers[i]
	a, st, f := &l.Attention, &l.State, &l.FeedForward
	if a.Heads != 0 {
		if err := s.checkAttention(i, a); err != nil {
			return err
		}
	}
	if st.Kind != NoState {
		if err := st.check(); err != nil {
			return err
		}
	}
	if f.Width != 0 {
		if err := f.check(); err != nil {
			return err
		}
	}
	if a.Heads == 0 && st.Kind == NoState && f.Width == 0 {
		return errors.New("it has neither a head count nor a state nor a feed-forward length")
	}
	if l.Order == Parallel && (f.Width == 0 || a.Heads == 0 && st.Kind == NoState) {
		return errors.New("a layer whose parts run beside each other has to have both")
	}
	return nil
}

func (s *Spec) checkAttention(i int, a *Attention) error {
	if a.Latent.Rank != 0 {
		if err := a.Latent.check(); err != nil {
			return err
		}
	}
	err := checkSizes(size{"attention.head_count", a.Heads}, size{"attention.head_count_kv", a.KVHeads}, size{"attention.key_length", a.HeadDim}, size{"attention.value_length", a.ValueDim})
	if err != nil {
		return err
	}
	switch {
	case a.Heads%a.KVHeads != 0:
		return bad("attention.head_count_kv", "%d query heads cannot share %d key/value heads evenly", a.Heads, a.KVHeads)
	case a.Rope >= len(s.Ropes) || a.Rope >= 0 && s.Ropes[a.Rope].Dims > a.rotated():
		return bad("rope.dimension_count", "%d rotated dimensions do not fit heads of %d", s.Ropes[min(a.Rope, len(s.Ropes)-1)].Dims, a.rotated())
	case a.Window < 0 || (a.Mask != MaskNone && a.Window == 0):
		return bad("attention.sliding_window", "a window of %d positions is out of range", a.Window)
	case !(a.Scale > 0) || a.Scale > 1e6 || !(a.Cap >= 0) || !usable(a.Out):
		return fmt.Errorf("the scale %g, the cap %g or the factor %g of attention is out of range", a.Scale, a.Cap, a.Out)
	case a.Temper.By != 0 && !(a.Temper.Every > 0) || math.IsNaN(a.Temper.By) || math.IsInf(a.Temper.By, 0):
		return bad("attention.temperature_scale", "attention sharpened by %g every %g positions is out of range", a.Temper.By, a.Temper.Every)
	case a.From >= 0 && (a.From >= i || s.Layers[a.From].Attention.kept() != (kv.Layer{KVHeads: a.KVHeads, KeyDim: a.HeadDim, ValueDim: a.ValueDim})):
		return fmt.Errorf("the keys and values of layer %d are not of its size", a.From)
	}
	return nil
}

// rotated is how many dimensions of a head may be rotated.
func (a *Attention) rotated() int {
	if a.Latent.Rank > 0 {
		return a.Latent.Rotated
	}
	return a.HeadDim
}

func (q *Latent) check() error {
	if q.QueryRank < 0 || q.QueryRank > maxWidth {
		return bad("attention.q_lora_rank", "%d is out of range", q.QueryRank)
	}
	return checkSizes(size{"attention.kv_lora_rank", q.Rank}, size{"attention.key_length_mla", q.Plain}, size{"rope.dimension_count", q.Rotated}, size{"attention.value_length_mla", q.Value})
}

func (s *State) check() error {
	list := []size{{"ssm.conv_kernel", s.Taps}, {"ssm.inner_size", s.Width}}
	if s.Kind != ShortConv {
		list = append(list, size{"ssm.state_size", s.Size})
	}
	if s.Kind == Mamba {
		list = append(list, size{"ssm.time_step_rank", s.Rank})
	}
	if s.Kind == Mamba2 || s.Kind == DeltaNet {
		list = append(list, size{"ssm.time_step_rank", s.Heads}, size{"ssm.group_count", s.Groups})
	}
	if err := checkSizes(list...); err != nil {
		return err
	}
	switch {
	case s.Kind != ShortConv && int64(s.Width)*int64(s.Size) > maxState || int64(s.Width+2*s.Groups*s.Size)*int64(s.Taps) > maxState:
		return bad("ssm.state_size", "a state of %d by %d numbers, convolved over %d, is out of range", s.Width, s.Size, s.Taps)
	case s.Heads > 0 && s.Width%s.Heads != 0:
		return bad("ssm.time_step_rank", "%d channels cannot be divided among %d heads of the state", s.Width, s.Heads)
	case s.Groups > 0 && s.Heads%s.Groups != 0:
		return bad("ssm.group_count", "%d heads of the state cannot be divided among %d groups", s.Heads, s.Groups)
	case !usable(s.Out):
		return fmt.Errorf("a state scaled by %g is out of range", s.Out)
	}
	return nil
}

func (f *FeedForward) check() error {
	if err := checkSizes(size{"feed_forward_length", f.Width}); err != nil {
		return err
	}
	e := &f.Experts
	r := &e.Router
	switch {
	case f.Activation == ClampedSwish && !(f.Clamp > 0):
		return fmt.Errorf("a gate clamped at %g is out of range", f.Clamp)
	case !f.Gated && (f.Activation == ClampedSwish || f.Sparse != 0):
		return errors.New("what is only for gates is asked for without one")
	case !usable(f.Out) || !usable(f.GateScale) || !usable(f.Sparse) || !usable(r.Scale) || !usable(r.Floor):
		return errors.New("a factor of the feed-forward network is out of range")
	case e.Count < 0 || e.Count > maxExperts || e.Count > 0 && (e.Used < 1 || e.Used > e.Count):
		return bad("expert_used_count", "%d of %d experts cannot be used", e.Used, e.Count)
	case e.Shared < 0 || e.Shared > maxWidth:
		return bad("expert_shared_feed_forward_length", "%d is out of range", e.Shared)
	case r.Groups < 0 || r.Groups > 0 && (e.Count%r.Groups != 0 || r.GroupsUsed < 1 || r.GroupsUsed > r.Groups || e.Count/r.Groups*r.GroupsUsed < e.Used || e.Count/r.Groups < 2):
		return bad("expert_group_used_count", "%d of %d groups of %d experts, of which %d are used, cannot be used", r.GroupsUsed, r.Groups, e.Count, e.Used)
	}
	return nil
}
