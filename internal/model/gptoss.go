package model

import "kindredgate/internal/weights"

// The gpt-oss family has experts with a clamped gate, biases everywhere, logits that take part in the softmax of attention
// without a position, and layers that see a window by turns with layers that see all. Its safetensors files have the rows
// of gate and up by turns.
func init() {
	register(family{spec: gptOSS, windows: true, names: map[string]names{
		"GGUF": {feedForwardNorm: "blk.%d.post_attention_norm", postAttention: ""},
		"safetensors": {
			router:       "layers.%d.mlp.router",
			expertGateUp: "layers.%d.mlp.experts.gate_up_proj", expertDown: "layers.%d.mlp.experts.down_proj", expertGate: "", expertUp: "",
		},
	}}, "gpt-oss", "gpt_oss")
}

func gptOSS(c *weights.Checkpoint, s *Spec) error {
	c.Hyper.Rope.Unrounded = true // of all published models, though GGUF has no key for it
	clamp := c.Hyper.ClampedGate
	if clamp == 0 {
		clamp = 7
	}
	for i := range s.Layers {
		l := &s.Layers[i]
		l.Sinks, l.Activation, l.Clamp = true, ClampedSwish, float32(clamp)
		if every := max(2, c.Hyper.WindowEvery); c.Hyper.Local == nil && (i+1)%every == 0 {
			l.Window = 0
		}
	}
	return s.rotate(c)
}
