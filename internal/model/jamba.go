package model

import (
	"errors"

	"kindredgate/internal/weights"
)

// The jamba family has attention without rotation in some layers, and state spaces of channels in the others.
func init() {
	register(family{spec: jamba, names: map[string]names{"safetensors": {
		outputNorm: "final_layernorm", feedForwardNorm: "layers.%d.pre_ff_layernorm", stateStep: "layers.%d.mamba.dt_proj",
		gateRole: "layers.%d.feed_forward.gate_proj", upRole: "layers.%d.feed_forward.up_proj", downRole: "layers.%d.feed_forward.down_proj", gateUp: "",
	}}}, "jamba")
}

func jamba(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	if c.Hyper.Experts > 1 {
		return errors.New("experts (num_experts) of this family are not supported")
	}
	state := State{Kind: Mamba, Taps: f.Int("mamba_d_conv", "ssm.conv_kernel"), Size: f.Int("mamba_d_state", "ssm.state_size"), Width: f.Int("ssm.inner_size")}
	if expand := f.Int("mamba_expand", "ssm.inner_size"); state.Width == 0 && expand < 1024 {
		state.Width = expand * s.Dim
	}
	state.Rank = f.Int("mamba_dt_rank", "ssm.time_step_rank")
	period, offset := f.Int("attn_layer_period"), f.Int("attn_layer_offset")
	if c.Layout != "GGUF" && period < 1 {
		return errors.New("attn_layer_period is missing or out of range")
	}
	s.each(func(i int, l *LayerSpec) {
		if l.FeedForward.Experts = (Experts{}); period > 0 && i%period != offset || period == 0 && l.Attention.Heads == 0 {
			l.Attention, l.State = Attention{From: -1}, state
		} else {
			l.Attention.Rope = -1
		}
	})
	return nil
}
