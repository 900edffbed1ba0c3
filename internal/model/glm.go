package model

import "kindredgate/internal/weights"

// The glm families rotate half of each head. The dense one has norms around each sublayer and rotates pairs side by side; the one with
// experts does neither.
func init() {
	register(family{spec: glm4, names: map[string]names{"safetensors": {
		postMixer: "layers.%d.post_self_attn_layernorm", feedForwardNorm: "layers.%d.post_attention_layernorm", postFeedForward: "layers.%d.post_mlp_layernorm",
	}}}, "glm4")
	register(family{spec: glm4moe, besides: further, names: map[string]names{"GGUF": {feedForwardNorm: "blk.%d.post_attention_norm", postMixer: ""}}}, "glm4moe", "glm4_moe")
}

func glm4(c *weights.Checkpoint, s *Spec) error {
	s.each(func(_ int, l *LayerSpec) { l.Order = NormAround })
	return ernie(c, s)
}

func glm4moe(c *weights.Checkpoint, s *Spec) error {
	withoutFurther(c, s)
	if err := mixture(c, s, true); err != nil {
		return err
	}
	_, there := c.Find("blk.0.attn_q_norm.weight")
	if c.Facts.Is(there, "use_qk_norm") {
		s.each(func(_ int, l *LayerSpec) { l.Attention.QKNorm = HeadQKNorm })
	}
	return s.rotate(c)
}
