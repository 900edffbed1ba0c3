package measure

import (
	"fmt"
	"math/rand/v2"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// Shape is the size of a network. How fast one runs depends on that and on how its weights are stored, not on their values.
type Shape struct {
	Name                                                            string
	Width, Layers, Heads, KVHeads, HeadDim, FeedForward, Vocabulary int
}

// Shapes are the sizes for which weights can be made up.
var Shapes = []Shape{
	{"tiny", 256, 6, 4, 2, 64, 768, 4096},
	{"0.5b", 1024, 24, 16, 4, 64, 3072, 128 << 10},
	{"1b", 2048, 16, 32, 8, 64, 8192, 128 << 10},
	{"3b", 3072, 28, 24, 8, 128, 8192, 128 << 10},
}

// contextOfShapes is how many tokens a made-up network takes.
const contextOfShapes = 8192

// Checkpoint makes up weights of a type for the shape, in memory. They are blocks of random numbers, the same ones again
// and again.
func (s Shape) Checkpoint(t weights.Type) (*weights.Checkpoint, error) {
	f := tensor.FormatOf(t)
	if !f.Writable() {
		return nil, fmt.Errorf("weights of type %s cannot be made up", t)
	}
	random := rand.New(rand.NewPCG(1, 2))
	values := make([]float32, 1<<18)
	for i := range values {
		values[i] = float32(random.NormFloat64() * 0.02)
	}
	size, ok := t.RowBytes(len(values))
	if !ok {
		return nil, fmt.Errorf("%d elements are no whole blocks of %s", len(values), t)
	}
	pattern := make([]byte, size)
	f.Quantize(pattern, values)

	tied := true
	c := &weights.Checkpoint{
		Layout: "GGUF", Name: s.Name, Architecture: "llama",
		Hyper: weights.Hyperparameters{
			Vocabulary: s.Vocabulary, Width: s.Width, Layers: s.Layers, Heads: s.Heads, KVHeads: s.KVHeads, HeadDim: s.HeadDim,
			FeedForward: s.FeedForward, Context: contextOfShapes, NormEpsilon: 1e-5, Tied: &tied,
		},
		Tokenizer: func() (*weights.Tokenizer, error) { return vocabulary(s.Vocabulary), nil },
	}
	matrix := func(name string, rows, cols int) {
		row, _ := t.RowBytes(cols) // widths are multiples of all blocks
		data := make([]byte, rows*row)
		for at := 0; at < len(data); at += copy(data[at:], pattern) {
		}
		c.Tensors = append(c.Tensors, weights.Tensor{Name: name + ".weight", Type: t, Shape: []int{rows, cols}, Data: data})
		c.Size += int64(len(data))
	}
	ones := make([]byte, 4*s.Width)
	for i := range s.Width {
		copy(ones[4*i:], []byte{0, 0, 0x80, 0x3f})
	}
	vector := func(name string) {
		c.Tensors = append(c.Tensors, weights.Tensor{Name: name + ".weight", Type: weights.F32, Shape: []int{s.Width}, Data: ones})
	}
	matrix("token_embd", s.Vocabulary, s.Width)
	vector("output_norm")
	for i := range s.Layers {
		layer := fmt.Sprintf("blk.%d.", i)
		vector(layer + "attn_norm")
		matrix(layer+"attn_q", s.Heads*s.HeadDim, s.Width)
		matrix(layer+"attn_k", s.KVHeads*s.HeadDim, s.Width)
		matrix(layer+"attn_v", s.KVHeads*s.HeadDim, s.Width)
		matrix(layer+"attn_output", s.Width, s.Heads*s.HeadDim)
		vector(layer + "ffn_norm")
		matrix(layer+"ffn_gate", s.FeedForward, s.Width)
		matrix(layer+"ffn_up", s.FeedForward, s.Width)
		matrix(layer+"ffn_down", s.Width, s.FeedForward)
	}
	return c, nil
}

// vocabulary is a tokenizer of so many tokens: those of single bytes, and others that nothing is ever made of.
func vocabulary(n int) *weights.Tokenizer {
	d := &weights.Tokenizer{Model: weights.BPE, Unknown: -1, BOS: -1, EOS: -1, FillBefore: -1, FillAfter: -1, FillMiddle: -1, ByteFallback: true,
		Scores: make([]float32, n), Tokens: make([]string, n), Kinds: make([]weights.TokenKind, n)}
	for i := range n {
		if d.Tokens[i] = fmt.Sprintf("word%d ", i); i < 256 {
			d.Tokens[i], d.Kinds[i] = fmt.Sprintf("<0x%02X>", i), weights.ByteToken
		}
	}
	return d
}
