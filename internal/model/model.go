// Package model computes the next-token logits of a transformer from its weights.
//
// The graph is written once, here; an architecture family is a file (llama.go) that says how to read its
// hyperparameters and names, and how its graph differs. A [Model] is immutable and may be shared; what a
// sequence has seen is in its [Cache], and the working memory of a step is in a [Scratch].
package model

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights/gguf"
)

// Config is the shape of a network.
type Config struct {
	Architecture  string
	Vocab         int // tokens
	Dim           int // width of the residual stream
	Layers        int
	Heads         int // query heads
	KVHeads       int // key/value heads; each serves Heads/KVHeads query heads
	HeadDim       int
	FeedForward   int // width of the hidden layer of the feed-forward block
	ContextLength int // tokens
	NormEpsilon   float32
	RopeBase      float64
	RopeDims      int // dimensions of each head that are rotated
	// Window is how many positions, its own included, a position attends to; 0 means all before it.
	Window int
	// Causal is false for encoders, in which every position sees every other.
	Causal bool
	// Pooling says how a text's positions become one vector, in a model that makes embeddings.
	Pooling Pooling
}

// Pooling is a way to make one vector of many.
type Pooling int

// The ways, by their numbers in GGUF files.
const (
	PoolNone Pooling = iota // the model predicts tokens
	PoolMean
	PoolFirst
	PoolLast
)

// Embeds reports whether the network makes vectors of texts rather than predict tokens.
func (c *Config) Embeds() bool { return c.Pooling != PoolNone }

// Model is a network with its weights.
type Model struct {
	Config
	embedding  tensor.Matrix // [Vocab][Dim]
	layers     []layer
	outputNorm []float32     // [Dim]
	output     tensor.Matrix // [Vocab][Dim]; the embedding itself where the file ties them
	ropeFreqs  []float64     // [RopeDims/2] radians a position
}

type layer struct {
	attentionNorm, feedForwardNorm []float32     // [Dim]
	query                          tensor.Matrix // [Heads*HeadDim][Dim]
	key, value                     tensor.Matrix // [KVHeads*HeadDim][Dim]
	attentionOut                   tensor.Matrix // [Dim][Heads*HeadDim]
	gate, up                       tensor.Matrix // [FeedForward][Dim]
	down                           tensor.Matrix // [Dim][FeedForward]
}

// A family reads the hyperparameters of one architecture.
type family func(gguf.Metadata) (Config, error)

var families = map[string]family{
	"llama": llamaConfig,
}

// Families lists the architectures that can be run.
func Families() []string { return slices.Sorted(maps.Keys(families)) }

// Describe reads the shape of the network in f without looking at its weights.
func Describe(f *gguf.File) (Config, error) {
	arch, err := f.Metadata.String("general.architecture")
	if err != nil {
		return Config{}, err
	}
	read, ok := families[arch]
	if !ok {
		return Config{}, fmt.Errorf("architecture %q is not supported; these are: %s", arch, strings.Join(Families(), ", "))
	}
	c, err := read(f.Metadata)
	if err != nil {
		return Config{}, err
	}
	c.Architecture = arch
	embedding, ok := f.Tensor("token_embd.weight")
	if !ok || len(embedding.Dims) != 2 {
		return Config{}, errors.New("tensor token_embd.weight is missing or is not a matrix")
	}
	c.Vocab = embedding.Dims[1]
	return c, c.check()
}

// check refuses shapes that no network has, so that the graph need not.
func (c *Config) check() error {
	for _, v := range []struct {
		name  string
		value int
	}{
		{"embedding length", c.Dim}, {"block count", c.Layers}, {"head count", c.Heads},
		{"key/value head count", c.KVHeads}, {"head size", c.HeadDim}, {"feed-forward length", c.FeedForward},
		{"context length", c.ContextLength}, {"vocabulary", c.Vocab},
	} {
		if v.value < 1 || v.value > 1<<24 {
			return fmt.Errorf("the %s is %d", v.name, v.value)
		}
	}
	if c.Heads%c.KVHeads != 0 {
		return fmt.Errorf("%d query heads cannot share %d key/value heads evenly", c.Heads, c.KVHeads)
	}
	if c.Pooling < PoolNone || c.Pooling > PoolLast {
		return fmt.Errorf("pooling of kind %d is not supported; 1 (mean), 2 (first) and 3 (last) are", c.Pooling)
	}
	if !c.Causal && c.Window > 0 {
		return errors.New("a sliding window without causal attention is not supported")
	}
	if c.RopeDims < 0 || c.RopeDims > c.HeadDim || c.RopeDims%2 != 0 {
		return fmt.Errorf("%d rotated dimensions do not fit heads of %d", c.RopeDims, c.HeadDim)
	}
	if !(c.RopeBase > 0) || !(c.NormEpsilon > 0) || c.Window < 0 {
		return fmt.Errorf("rope base %g, norm epsilon %g or window %d is out of range", c.RopeBase, c.NormEpsilon, c.Window)
	}
	return nil
}

// Load builds the model that f holds. The weights stay in f, which must stay open.
func Load(f *gguf.File) (*Model, error) {
	c, err := Describe(f)
	if err != nil {
		return nil, err
	}
	m := &Model{Config: c}
	l := loader{file: f}
	m.embedding = l.matrix("token_embd.weight", c.Vocab, c.Dim)
	m.outputNorm = l.vector("output_norm.weight", c.Dim)
	m.output = m.embedding
	if _, untied := f.Tensor("output.weight"); untied {
		m.output = l.matrix("output.weight", c.Vocab, c.Dim)
	}
	q, kv := c.Heads*c.HeadDim, c.KVHeads*c.HeadDim
	for i := 0; i < c.Layers && l.err == nil; i++ {
		name := func(s string) string { return fmt.Sprintf("blk.%d.%s.weight", i, s) }
		m.layers = append(m.layers, layer{
			attentionNorm:   l.vector(name("attn_norm"), c.Dim),
			feedForwardNorm: l.vector(name("ffn_norm"), c.Dim),
			query:           l.matrix(name("attn_q"), q, c.Dim),
			key:             l.matrix(name("attn_k"), kv, c.Dim),
			value:           l.matrix(name("attn_v"), kv, c.Dim),
			attentionOut:    l.matrix(name("attn_output"), c.Dim, q),
			gate:            l.matrix(name("ffn_gate"), c.FeedForward, c.Dim),
			up:              l.matrix(name("ffn_up"), c.FeedForward, c.Dim),
			down:            l.matrix(name("ffn_down"), c.Dim, c.FeedForward),
		})
	}
	m.ropeFreqs = ropeFrequencies(c.RopeBase, c.RopeDims)
	if _, scaled := f.Tensor("rope_freqs.weight"); scaled {
		for i, divisor := range l.vector("rope_freqs.weight", c.RopeDims/2) {
			m.ropeFreqs[i] /= float64(divisor)
		}
	}
	if l.err != nil {
		return nil, l.err
	}
	return m, nil
}

// ropeFrequencies gives the angle by which pair i turns at each position: base^(-2i/n), for n rotated
// dimensions (Su et al., "RoFormer", section 3.2.2).
func ropeFrequencies(base float64, n int) []float64 {
	f := make([]float64, n/2)
	for i := range f {
		f[i] = math.Pow(base, -2*float64(i)/float64(n))
	}
	return f
}

// loader fetches tensors and checks their shapes; after the first error it gives zero values.
type loader struct {
	file *gguf.File
	err  error
}

var storage = map[gguf.Type]tensor.Type{gguf.F32: tensor.F32, gguf.F16: tensor.F16, gguf.Q8_0: tensor.Q8_0}

func (l *loader) find(name string, dims ...int) (gguf.Tensor, bool) {
	t, ok := l.file.Tensor(name)
	switch {
	case l.err != nil:
	case !ok:
		l.err = fmt.Errorf("tensor %s is missing", name)
	case !slices.Equal(t.Dims, dims):
		l.err = fmt.Errorf("tensor %s has dimensions %v where the metadata asks for %v", name, t.Dims, dims)
	}
	return t, l.err == nil
}

func (l *loader) matrix(name string, rows, cols int) tensor.Matrix {
	t, ok := l.find(name, cols, rows)
	if !ok {
		return tensor.Matrix{}
	}
	kind, ok := storage[t.Type]
	if !ok {
		l.err = fmt.Errorf("tensor %s is stored as %v, which no kernel multiplies", name, t.Type)
		return tensor.Matrix{}
	}
	m, err := tensor.NewMatrix(kind, rows, cols, t.Data)
	if err != nil {
		l.err = fmt.Errorf("tensor %s: %w", name, err)
	}
	return m
}

// vector reads a small tensor of any type into memory.
func (l *loader) vector(name string, n int) []float32 {
	t, ok := l.find(name, n)
	if !ok {
		return nil
	}
	m, err := tensor.NewMatrix(storage[t.Type], 1, n, t.Data)
	if err != nil {
		l.err = fmt.Errorf("tensor %s: %w", name, err)
		return nil
	}
	v := make([]float32, n)
	m.Row(v, 0)
	return v
}
