package model

import (
	"errors"
	"fmt"

	"kindredgate/internal/weights/gguf"
)

// llamaConfig reads the llama family: pre-norm blocks with RMSNorm, grouped-query attention, rotary
// positions, a gated feed-forward with SiLU, no biases. Its GGUF files have the rows of the query and key
// matrices permuted so that dimensions 2i and 2i+1 of a head rotate together. A file of the family may
// carry a sliding window, and divisors of the rotary frequencies as a tensor.
func llamaConfig(md gguf.Metadata) (Config, error) {
	r := hyper{md: md}
	c := Config{
		Dim:           r.int("llama.embedding_length"),
		Layers:        r.int("llama.block_count"),
		Heads:         r.int("llama.attention.head_count"),
		FeedForward:   r.int("llama.feed_forward_length"),
		ContextLength: r.int("llama.context_length"),
		NormEpsilon:   float32(r.float("llama.attention.layer_norm_rms_epsilon")),
		RopeBase:      r.floatOr("llama.rope.freq_base", 10000),
		Window:        r.intOr("llama.attention.sliding_window", 0),
		Causal:        r.boolOr("llama.attention.causal", true),
	}
	c.Pooling = Pooling(r.intOr("llama.pooling_type", int(PoolNone)))
	if !c.Causal && c.Pooling == PoolNone {
		c.Pooling = PoolMean
	}
	c.KVHeads = r.intOr("llama.attention.head_count_kv", c.Heads)
	if r.err == nil && c.Heads > 0 {
		c.HeadDim = r.intOr("llama.attention.key_length", c.Dim/c.Heads)
	}
	c.RopeDims = r.intOr("llama.rope.dimension_count", c.HeadDim)
	if r.err != nil {
		return Config{}, r.err
	}
	if v := r.intOr("llama.attention.value_length", c.HeadDim); v != c.HeadDim {
		return Config{}, fmt.Errorf("heads with keys of %d and values of %d dimensions are not supported", c.HeadDim, v)
	}
	if n := r.intOr("llama.expert_count", 0); n > 0 {
		return Config{}, fmt.Errorf("mixtures of experts (here %d) are not supported yet", n)
	}
	if s, err := md.String("llama.rope.scaling.type"); err == nil && s != "none" {
		return Config{}, fmt.Errorf("rope scaling of type %q is not supported yet", s)
	}
	return c, r.err
}

// hyper reads hyperparameters and keeps the first error.
type hyper struct {
	md  gguf.Metadata
	err error
}

func keep[T any](h *hyper, v T, err error) T {
	if err != nil && h.err == nil {
		h.err = err
	}
	return v
}

func (h *hyper) int(key string) int {
	v, err := h.md.Int(key)
	return keep(h, v, err)
}

func (h *hyper) float(key string) float64 {
	v, err := h.md.Float(key)
	return keep(h, v, err)
}

func (h *hyper) intOr(key string, otherwise int) int {
	v, err := h.md.Int(key)
	return orMissing(h, v, err, otherwise)
}

func (h *hyper) floatOr(key string, otherwise float64) float64 {
	v, err := h.md.Float(key)
	return orMissing(h, v, err, otherwise)
}

func (h *hyper) boolOr(key string, otherwise bool) bool {
	v, err := h.md.Bool(key)
	return orMissing(h, v, err, otherwise)
}

func orMissing[T any](h *hyper, v T, err error, otherwise T) T {
	if missing := (*gguf.MissingError)(nil); errors.As(err, &missing) {
		return otherwise
	}
	return keep(h, v, err)
}
