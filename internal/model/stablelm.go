package model

import "kindredgate/internal/weights"

// The stablelm family has layer norms and rotates a part of each head. Some of its models run attention and feed-forward beside each
// other, and normalize each head with weights of its own.
func init() {
	register(family{spec: stablelm, names: map[string]names{"safetensors": {
		queryNorm: "layers.%d.self_attn.q_layernorm.norms.%d", keyNorm: "layers.%d.self_attn.k_layernorm.norms.%d",
	}}}, "stablelm")
}

func stablelm(c *weights.Checkpoint, s *Spec) error {
	s.Norm = LayerNorm
	_, there := c.Find("blk.0.attn_q_norm.weight")
	parallel, each := c.Facts.Is(false, "use_parallel_residual"), c.Facts.Is(there, "qk_layernorm")
	s.each(func(_ int, l *LayerSpec) {
		if parallel {
			l.Order = Parallel
		}
		if each {
			l.Attention.QKNorm = EachQKNorm
		}
	})
	return s.rotate(c)
}
