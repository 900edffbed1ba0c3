package model

import "kindredgate/internal/weights"

// The minimax-m2 family normalizes all queries and all keys together, rotates a part of each head, and has experts that are scored by σ.
func init() {
	register(family{spec: minimax, names: map[string]names{"safetensors": {
		router: "layers.%d.block_sparse_moe.gate", routerBias: "layers.%d.block_sparse_moe.e_score_correction",
		expertGate: "layers.%d.block_sparse_moe.experts.%d.w1", expertUp: "layers.%d.block_sparse_moe.experts.%d.w3", expertDown: "layers.%d.block_sparse_moe.experts.%d.w2",
	}}}, "minimax-m2", "minimax_m2")
}

func minimax(c *weights.Checkpoint, s *Spec) error {
	if err := mixture(c, s, true); err != nil {
		return err
	}
	if n := c.Facts.Int("rotary_dim"); n > 0 {
		c.Hyper.Rope.Dims = n
	}
	if c.Facts.Is(true, "use_qk_norm") {
		s.each(func(_ int, l *LayerSpec) { l.Attention.QKNorm = FullQKNorm })
	}
	return s.rotate(c)
}
