package model

import "kindredgate/internal/weights"

// The starcoder2 family has layer norms, biases everywhere, and a feed-forward network without a gate.
func init() {
	register(family{spec: starcoder2, names: map[string]names{"safetensors": {upRole: "layers.%d.mlp.c_fc", downRole: "layers.%d.mlp.c_proj"}}}, "starcoder2")
}

func starcoder2(c *weights.Checkpoint, s *Spec) error {
	s.Norm = LayerNorm
	s.each(func(_ int, l *LayerSpec) {
		if l.FeedForward.Gated = false; c.Hyper.Activation == "" {
			l.FeedForward.Activation = TanhGELU
		}
	})
	return s.rotate(c)
}
