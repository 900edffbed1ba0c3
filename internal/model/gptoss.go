package model

import "kindredgate/internal/weights"

// The gpt-oss family has experts with a clamped gate, biases everywhere, logits that take part in the softmax of attention
// without a position, and layers that see a window by turns with layers that see all. Its safetensors files have the rows
// of gate and up by turns.
func init() {
	register(family{spec: gptOSS, gguf: "gpt-oss", windows: true, fused: turns, names: map[string]names{
		"GGUF": {feedForwardNorm: "blk.%d.post_attention_norm", postMixer: ""},
		"safetensors": {
			router:       "layers.%d.mlp.router",
			expertGateUp: "layers.%d.mlp.experts.gate_up_proj", expertDown: "layers.%d.mlp.experts.down_proj", expertGate: "", expertUp: "",
		},
	}}, "gpt-oss", "gpt_oss")
}

func gptOSS(c *weights.Checkpoint, s *Spec) error {
	c.Hyper.Rope.Unrounded = true // of all published models, though GGUF has no key for it
	every := max(2, c.Hyper.WindowEvery)
	s.each(func(i int, l *LayerSpec) {
		l.Attention.Sinks, l.FeedForward.Activation, l.FeedForward.Clamp = true, ClampedSwish, float32(orElse(c.Hyper.ClampedGate, 7))
		if c.Hyper.Local == nil {
			l.Attention.see((i+1)%every != 0)
		}
	})
	return s.rotate(c)
}
