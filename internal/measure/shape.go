package measure

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"strings"

	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// Shape is the size of a network. How fast one runs depends on that and on how its weights are stored, not on their values.
type Shape struct {
	Name   string
	Family string
	Hyper  weights.Hyperparameters
	Facts  map[string]any // what its family asks for besides, as GGUF files have it
}

func llama(name string, width, layers, heads, kvHeads, headDim, feedForward, vocabulary int) Shape {
	return Shape{Name: name, Family: "llama", Hyper: weights.Hyperparameters{Width: width, Layers: layers, Heads: heads, KVHeads: kvHeads, HeadDim: headDim, FeedForward: feedForward, Vocabulary: vocabulary}}
}

// every is a list with a number in each so many places, and 0 in the others.
func every(n, times int, number float64) (list []any) {
	for i := range times {
		if (i+1)%n == 0 {
			list = append(list, number)
		} else {
			list = append(list, 0.0)
		}
	}
	return list
}

// Shapes are the sizes for which weights can be made up: dense ones, and after them a mixture of experts, a state in nine of ten layers, and
// latent attention with experts, as they are published; and small ones of these.
var Shapes = []Shape{
	llama("tiny", 256, 6, 4, 2, 64, 768, 4096),
	llama("0.5b", 1024, 24, 16, 4, 64, 3072, 128<<10),
	llama("1b", 2048, 16, 32, 8, 64, 8192, 128<<10),
	llama("3b", 3072, 28, 24, 8, 128, 8192, 128<<10),
	{Name: "mixture-30b-a3b", Family: "qwen3moe", Hyper: weights.Hyperparameters{Width: 2048, Layers: 48, Heads: 32, KVHeads: 4, HeadDim: 128, FeedForward: 6144, Vocabulary: 150 << 10, Experts: 128, ExpertsUsed: 8, ExpertFeedForward: 768}},
	{Name: "state-1b", Family: "granitehybrid", Hyper: weights.Hyperparameters{Width: 1536, Layers: 40, Heads: 12, KVHeads: 4, HeadDim: 128, FeedForward: 4096, Vocabulary: 100 << 10},
		Facts: map[string]any{"attention.head_count_kv": every(10, 40, 4), "ssm.conv_kernel": 4.0, "ssm.inner_size": 3072.0, "ssm.state_size": 128.0, "ssm.time_step_rank": 48.0, "ssm.group_count": 1.0, "rope.scaling.finetuned": false}},
	{Name: "latent-16b", Family: "deepseek2", Hyper: weights.Hyperparameters{Width: 2048, Layers: 27, Heads: 16, KVHeads: 1, HeadDim: 576, FeedForward: 10944, Vocabulary: 100 << 10, Experts: 64, ExpertsUsed: 6, ExpertFeedForward: 1408},
		Facts: map[string]any{"attention.kv_lora_rank": 512.0, "attention.key_length_mla": 192.0, "attention.value_length_mla": 128.0, "attention.value_length": 512.0, "rope.dimension_count": 64.0, "leading_dense_block_count": 1.0,
			"expert_count": 64.0, "expert_used_count": 6.0, "expert_feed_forward_length": 1408.0, "expert_shared_count": 2.0, "expert_weights_norm": false}},
	{Name: "tiny-mixture", Family: "qwen3moe", Hyper: weights.Hyperparameters{Width: 256, Layers: 4, Heads: 4, KVHeads: 2, HeadDim: 64, FeedForward: 768, Vocabulary: 4096, Experts: 16, ExpertsUsed: 4, ExpertFeedForward: 256}},
	{Name: "tiny-state", Family: "granitehybrid", Hyper: weights.Hyperparameters{Width: 256, Layers: 4, Heads: 4, KVHeads: 2, HeadDim: 64, FeedForward: 768, Vocabulary: 4096},
		Facts: map[string]any{"attention.head_count_kv": every(4, 4, 2), "ssm.conv_kernel": 4.0, "ssm.inner_size": 512.0, "ssm.state_size": 64.0, "ssm.time_step_rank": 8.0, "ssm.group_count": 1.0, "rope.scaling.finetuned": false}},
	{Name: "tiny-latent", Family: "deepseek2", Hyper: weights.Hyperparameters{Width: 256, Layers: 3, Heads: 4, KVHeads: 1, HeadDim: 160, FeedForward: 768, Vocabulary: 4096, Experts: 8, ExpertsUsed: 2, ExpertFeedForward: 256},
		Facts: map[string]any{"attention.kv_lora_rank": 128.0, "attention.key_length_mla": 96.0, "attention.value_length_mla": 64.0, "attention.value_length": 128.0, "rope.dimension_count": 32.0, "leading_dense_block_count": 1.0,
			"expert_count": 8.0, "expert_used_count": 2.0, "expert_feed_forward_length": 256.0, "expert_shared_count": 1.0, "expert_weights_norm": false}},
}

const (
	contextOfShapes = 8192    // tokens that a made-up network takes
	mappedFrom      = 2 << 30 // bytes from which on made-up weights lie in a file that is mapped, rather than in memory
)

// Checkpoint makes up weights of a type for the shape: blocks of random numbers, the same ones again and again. Large ones are written to a
// file for temporary ones, which is gone when the checkpoint is closed.
func (s Shape) Checkpoint(t weights.Type) (*weights.Checkpoint, error) {
	f := tensor.FormatOf(t)
	if !f.Writable() {
		return nil, fmt.Errorf("weights of type %s cannot be made up", t)
	}
	tied := true
	h := s.Hyper
	h.Context, h.NormEpsilon, h.Tied = contextOfShapes, 1e-5, &tied
	c := &weights.Checkpoint{Layout: "GGUF", Name: s.Name, Architecture: s.Family, Hyper: h,
		Facts:     weights.Facts{Lookup: func(name string) (any, bool) { v, ok := s.Facts[name]; return v, ok }},
		Tokenizer: func() (*weights.Tokenizer, error) { return vocabulary(h.Vocabulary), nil },
	}
	err := model.MakeUp(c, func(_ string, shape []int) weights.Type {
		if len(shape) == 1 || !tensor.Usable(t, shape[len(shape)-1]) {
			return weights.F32
		}
		for _, kind := range []weights.Type{t, weights.Q8_0} {
			if _, whole := kind.RowBytes(shape[len(shape)-1]); whole {
				return kind
			}
		}
		return weights.F32
	})
	if err != nil {
		return nil, err
	}
	for i := range c.Tensors {
		n, err := c.Tensors[i].Type.Size(c.Tensors[i].Shape)
		if err != nil {
			return nil, err
		}
		c.Size += n
	}
	if err := fill(c); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

// fill gives tensors their data.
func fill(c *weights.Checkpoint) error {
	random := rand.New(rand.NewPCG(1, 2))
	values := make([]float32, 1<<18)
	for i := range values {
		values[i] = float32(random.NormFloat64() * 0.02)
	}
	patterns := map[weights.Type][]byte{}
	pattern := func(t weights.Type) []byte {
		if patterns[t] == nil {
			size, _ := t.RowBytes(len(values)) // a multiple of all blocks
			patterns[t] = make([]byte, size)
			tensor.FormatOf(t).Quantize(patterns[t], values)
		}
		return patterns[t]
	}
	var all []byte
	if c.Size < mappedFrom {
		all = make([]byte, c.Size)
		at := 0
		for i := range c.Tensors {
			at += made(all[at:], &c.Tensors[i], pattern)
		}
	} else {
		m, err := written(c, pattern)
		if err != nil {
			return err
		}
		c.Closers = append(c.Closers, m)
		all = m.Data
	}
	at := int64(0)
	for i := range c.Tensors {
		t := &c.Tensors[i]
		n, err := t.Type.Size(t.Shape)
		if err != nil {
			return err
		}
		t.Data = all[at : at+n : at+n]
		at += n
	}
	return nil
}

// made writes what a tensor holds to the beginning of data.
func made(data []byte, t *weights.Tensor, pattern func(weights.Type) []byte) int {
	size, _ := t.Type.Size(t.Shape) // which was worked out before
	data = data[:size]
	if len(t.Shape) == 1 {
		value := float32(1) // of norms
		switch {
		case strings.HasSuffix(t.Name, ".bias") || strings.Contains(t.Name, "conv"):
			value = 0.1
		case strings.Contains(t.Name, "ssm_a"):
			value = -1
		}
		list := make([]float32, len(data)/4)
		for i := range list {
			list[i] = value
		}
		tensor.FormatOf(weights.F32).Quantize(data, list)
		return len(data)
	}
	for at := 0; at < len(data); at += copy(data[at:], pattern(t.Type)) {
	}
	return len(data)
}

// written is a file with the data of all tensors, which has no name any more.
func written(c *weights.Checkpoint, pattern func(weights.Type) []byte) (*weights.Mapped, error) {
	f, err := os.CreateTemp("", "kindred-bench-*")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	for i := range c.Tensors {
		t := &c.Tensors[i]
		n, err := t.Type.Size(t.Shape)
		if err != nil {
			return nil, err
		}
		if n < 1<<24 {
			data := make([]byte, n)
			made(data, t, pattern)
			if _, err := f.Write(data); err != nil {
				return nil, err
			}
			continue
		}
		if _, err := io.CopyN(f, &again{pattern: pattern(t.Type)}, n); err != nil {
			return nil, fmt.Errorf("made-up weights of %d GB: %w", c.Size>>30, err)
		}
	}
	return weights.Map(f.Name())
}

// again reads the same bytes again and again.
type again struct {
	pattern []byte
	at      int
}

func (a *again) Read(p []byte) (int, error) {
	n := copy(p, a.pattern[a.at:])
	a.at = (a.at + n) % len(a.pattern)
	return n, nil
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
