package model

import (
	"errors"

	"kindredgate/internal/weights"
)

// The qwen families are llama with biases on queries, keys and values (2), or with norms on queries and keys (3); their
// rotations pair dimensions half a head apart in every layout.
func init() {
	register(family{spec: qwen2}, "qwen2")
	register(family{spec: qwen3}, "qwen3")
	register(family{spec: qwen3moe}, "qwen3moe", "qwen3_moe")
}

func qwen2(c *weights.Checkpoint, s *Spec) error {
	if h := &c.Hyper; h.Window > 0 && h.Local == nil && c.Layout != "GGUF" {
		return errors.New("a sliding window in some layers only, which layer_types do not name, is not supported")
	}
	return s.rotate(c)
}

func qwen3(c *weights.Checkpoint, s *Spec) error {
	for i := range s.Layers {
		s.Layers[i].QKNorm = HeadQKNorm
	}
	return qwen2(c, s)
}

func qwen3moe(c *weights.Checkpoint, s *Spec) error {
	normalized := c.Hyper.NormalizeExperts
	for i := range s.Layers {
		s.Layers[i].WeighAll = normalized != nil && !*normalized
	}
	return qwen3(c, s)
}
