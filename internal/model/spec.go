// Package model computes the next-token logits of a transformer, or the vector of a text, from its weights.
//
// A [Spec] describes a network, layer by layer. The graph is written once (graph.go) and runs any Spec; an architecture
// family is a file (llama.go, gemma.go, …) that turns a checkpoint into a Spec and says by which names its tensors go.
// A [Model] is a Spec with its weights; it is immutable and may be shared. What a sequence has seen is in its
// [kv.Sequence], and the working memory of a step is in a [Scratch].
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
	Types        int // kinds of tokens with a vector each

	EmbeddingScale float32 // that embeddings are multiplied with; 0 for none
	EmbeddingNorm  bool
	Epsilon        float32
	LayerNorm      bool // norms take the mean off and have a bias (Ba et al., 2016); else they are RMSNorm (Zhang and Sennrich, 2019)
	NormPlusOne    bool // the file has the norms' weights less 1
	OutputNorm     bool
	Tied           bool // the output matrix is the embedding
	LogitCap       float32

	Ropes  []Rope
	Layers []LayerSpec

	Causal  bool // false for encoders, in which every position sees every other
	Pooling weights.Pooling
	Dense   int // layers behind the pooling
}

// LayerSpec describes one layer.
type LayerSpec struct {
	Heads   int // query heads
	KVHeads int // key/value heads; each serves Heads/KVHeads query heads
	HeadDim int

	PreNorm  bool // a norm before attention and one before the feed-forward
	PostNorm bool // a norm on what each of them gives, before it is added
	SumNorm  bool // a norm after it was added
	QKNorm   QKNorm

	Rope  int // which of the model's rotations; −1 for none
	Scale float32
	Cap   float32 // attention scores are softly capped at this; 0 for not at all
	// Window is how many positions, its own included, a position attends to; 0 means all. In encoders it is half on each
	// side.
	Window int
	Sinks  bool // each head has a logit that takes part in the softmax and gives nothing

	FeedForward  int // width of the hidden layer, of each expert if there are any
	Gated        bool
	Activation   Activation
	Clamp        float32 // of ClampedSwish
	Experts      int
	ExpertsUsed  int
	WeighAll     bool // experts are weighed by the softmax over all of them, not over the chosen ones
	Interleaved  bool // the file has rows of gate and up by turns in one matrix
	RouterBias   bool
	ExpertBiases bool
}

// QKNorm says how queries and keys are normalized before they are rotated.
type QKNorm int

// The ways.
const (
	NoQKNorm   QKNorm = iota
	HeadQKNorm        // each head by itself
	FullQKNorm        // all heads together
)

// Activation is the function of the hidden layer.
type Activation int

// The functions.
const (
	SiLU Activation = iota
	GELU            // by the error function
	TanhGELU
	ClampedSwish // min(g, c)·σ(1.702·g)·(clamp(u, −c, c) + 1), of gate g and up u
)

// activations by the names that files give them.
var activations = map[string]Activation{"": SiLU, "silu": SiLU, "swish": SiLU, "gelu": GELU, "gelu_pytorch_tanh": TanhGELU, "gelu_new": TanhGELU, "gelu_fast": TanhGELU}

// Embeds reports whether the network makes vectors of texts rather than predict tokens.
func (s *Spec) Embeds() bool { return s.Pooling != weights.PoolNone }

// KVLayers are the sizes of what the network keeps of each token. An encoder, which goes through a text once, keeps one
// layer at a time.
func (s *Spec) KVLayers() []kv.Layer {
	var list []kv.Layer
	for _, l := range s.Layers {
		list = append(list, kv.Layer{KVHeads: l.KVHeads, HeadDim: l.HeadDim})
	}
	if s.Embeds() {
		return list[:1]
	}
	return list
}

// Variant says which form of the rotations a sequence of so many tokens, prompt and answer, needs.
func (s *Spec) Variant(tokens int) int {
	for _, r := range s.Ropes {
		if r.Long != nil && tokens > r.Original {
			return 1
		}
	}
	return 0
}

// Bounds of what a network may ask for.
const (
	maxLayers  = 1024
	maxExperts = 4096
	maxContext = 1 << 50 // bytes of the keys and values of a whole context
)

// check refuses shapes that no network has, so that the graph need not.
func (s *Spec) check() error {
	for _, v := range []struct {
		name  string
		value int
	}{
		{"embedding length", s.Dim}, {"block count", len(s.Layers)}, {"context length", s.Context}, {"vocabulary", s.Vocab},
	} {
		if v.value < 1 || v.value > 1<<24 {
			return fmt.Errorf("the %s is %d", v.name, v.value)
		}
	}
	if !(s.Epsilon > 0) || s.Epsilon > 1 {
		return fmt.Errorf("the norm epsilon %g is out of range", s.Epsilon)
	}
	if s.Positions < 0 || s.Types < 0 || math.IsNaN(float64(s.LogitCap)) || s.LogitCap < 0 {
		return errors.New("a size or a cap is negative")
	}
	if s.Pooling < weights.PoolNone || s.Pooling > weights.PoolLast {
		return fmt.Errorf("pooling of kind %d is not supported", s.Pooling)
	}
	if s.Embeds() && s.KVLayersDiffer() {
		return errors.New("an encoder whose layers have heads of different sizes is not supported")
	}
	if len(s.Layers) > maxLayers {
		return fmt.Errorf("the block count is %d; at most %d are possible", len(s.Layers), maxLayers)
	}
	var perToken int64
	for _, l := range s.Layers {
		if l.KVHeads > 1<<22 || l.HeadDim > 1<<22 {
			return fmt.Errorf("%d key/value heads of %d are out of range", l.KVHeads, l.HeadDim)
		}
		perToken += 4 * int64(l.KVHeads) * int64(l.HeadDim)
	}
	if perToken > maxContext/int64(s.Context) {
		return fmt.Errorf("a context of %d tokens of %d bytes is out of range", s.Context, perToken)
	}
	for i := range s.Ropes {
		if err := s.Ropes[i].check(); err != nil {
			return err
		}
	}
	for i := range s.Layers {
		if err := s.checkLayer(&s.Layers[i]); err != nil {
			return err
		}
	}
	return nil
}

// KVLayersDiffer reports whether layers keep different amounts.
func (s *Spec) KVLayersDiffer() bool {
	for _, l := range s.Layers[1:] {
		if l.KVHeads != s.Layers[0].KVHeads || l.HeadDim != s.Layers[0].HeadDim {
			return true
		}
	}
	return false
}

func (s *Spec) checkLayer(l *LayerSpec) error {
	for _, v := range []struct {
		name  string
		value int
	}{{"head count", l.Heads}, {"key/value head count", l.KVHeads}, {"head size", l.HeadDim}, {"feed-forward length", l.FeedForward}} {
		if v.value < 1 || v.value > 1<<22 {
			return fmt.Errorf("the %s is %d", v.name, v.value)
		}
	}
	switch {
	case l.Heads%l.KVHeads != 0:
		return fmt.Errorf("%d query heads cannot share %d key/value heads evenly", l.Heads, l.KVHeads)
	case l.Rope >= 0 && s.Ropes[l.Rope].Dims > l.HeadDim:
		return fmt.Errorf("%d rotated dimensions do not fit heads of %d", s.Ropes[l.Rope].Dims, l.HeadDim)
	case l.Window < 0:
		return fmt.Errorf("a window of %d positions is out of range", l.Window)
	case !(l.Scale > 0) || l.Scale > 1e6 || !(l.Cap >= 0):
		return fmt.Errorf("the scale %g or the cap %g of attention is out of range", l.Scale, l.Cap)
	case l.Experts < 0 || l.Experts > maxExperts || l.Experts > 0 && (l.ExpertsUsed < 1 || l.ExpertsUsed > l.Experts):
		return fmt.Errorf("%d of %d experts cannot be used", l.ExpertsUsed, l.Experts)
	case l.Experts > 0 && !l.Gated:
		return errors.New("experts without a gate are not supported")
	case l.Activation == ClampedSwish && !(l.Clamp > 0):
		return fmt.Errorf("a gate clamped at %g is out of range", l.Clamp)
	}
	return nil
}
