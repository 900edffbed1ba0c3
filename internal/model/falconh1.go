package model

import (
	"fmt"

	"kindredgate/internal/weights"
)

// The falcon-h1 family has attention and a state space beside each other in every layer, and factors everywhere, which GGUF files have in the
// weights.
func init() {
	register(family{spec: falconH1, names: map[string]names{"safetensors": {
		outputNorm: "final_layernorm", feedForwardNorm: "layers.%d.pre_ff_layernorm",
		gateRole: "layers.%d.feed_forward.gate_proj", upRole: "layers.%d.feed_forward.up_proj", downRole: "layers.%d.feed_forward.down_proj", gateUp: "",
	}}}, "falcon-h1", "falcon_h1")
}

func falconH1(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	state := mamba2(c)
	if f.Is(false, "mamba_rms_norm") {
		state.Norm = GroupNorm
	} else if c.Layout == "GGUF" {
		if _, there := c.Find("blk.0.ssm_norm.weight"); there {
			state.Norm = GroupNorm
		}
	}
	if f.Is(false, "mamba_norm_before_gate") {
		return fmt.Errorf("mamba_norm_before_gate true is not supported")
	}
	in, mlp := f.Floats("ssm_multipliers"), f.Floats("mlp_multipliers")
	if in != nil && len(in) != len(state.In) || mlp != nil && len(mlp) != 2 {
		return fmt.Errorf("ssm_multipliers has %d numbers, not 5, or mlp_multipliers %d, not 2", len(in), len(mlp))
	}
	if in == nil && c.Layout != "GGUF" {
		in = []float64{1, 1, 1, 1, 1}
	}
	for i, by := range in {
		state.In[i] = float32(by * orElse(f.Float("ssm_in_multiplier"), 1))
	}
	state.Out = float32(f.Float("ssm_out_multiplier"))
	// What comes in is multiplied with a factor that queries, keys and values have in common.
	attention := orElse(f.Float("attention_in_multiplier"), 1)
	keys := orElse(f.Float("key_multiplier"), 1)
	out := attention * orElse(f.Float("attention_out_multiplier"), 1)
	s.EmbeddingScale, s.LogitScale = float32(f.Float("embedding_multiplier")), float32(f.Float("lm_head_multiplier"))
	s.each(func(_ int, l *LayerSpec) {
		l.State = state
		l.Attention.Scale *= float32(attention * attention * keys)
		l.Attention.Out = float32(out)
		if mlp != nil {
			l.FeedForward.GateScale, l.FeedForward.Out = float32(mlp[0]), float32(mlp[1])
		}
	})
	return s.rotate(c)
}
