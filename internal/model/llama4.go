package model

import (
	"errors"
	"slices"

	"kindredgate/internal/weights"
)

// The llama4 family attends within chunks in layers that rotate, and to all in the others, whose attention gets sharper as texts get
// longer. Experts get their input weighed, and lie turned over in its folders.
func init() {
	n := sharedExperts("layers.%d.feed_forward.shared_expert", names{
		gateRole: "layers.%d.feed_forward.gate_proj", upRole: "layers.%d.feed_forward.up_proj", downRole: "layers.%d.feed_forward.down_proj", gateUp: "",
		router: "layers.%d.feed_forward.router", expertGateUp: "layers.%d.feed_forward.experts.gate_up_proj", expertDown: "layers.%d.feed_forward.experts.down_proj", expertGate: "", expertUp: "",
	})
	register(family{spec: llama4, fused: columns, names: map[string]names{"safetensors": n}}, "llama4_text")
}

func llama4(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	if c.Layout == "GGUF" {
		return errors.New("GGUF files of the family are not supported; use the folder")
	}
	rotates, chunk, every := f.Flags("no_rope_layers"), f.Int("attention_chunk_size", "attention.sliding_window"), max(1, f.Int("interleave_moe_layer_step"))
	if rotates != nil && len(rotates) != len(s.Layers) {
		return errors.New("no_rope_layers has not one element for each layer")
	}
	with, dense := f.Ints("moe_layers"), f.Int("intermediate_size_mlp")
	var temper Temper
	if f.Is(true, "attn_temperature_tuning") {
		temper = Temper{By: orElse(f.Float("attn_scale"), 0.1), Every: orElse(f.Float("floor_scale"), 8192), First: 1}
	}
	normalized := f.Is(true, "use_qk_norm")
	s.each(func(i int, l *LayerSpec) {
		a, ff := &l.Attention, &l.FeedForward
		if rotates == nil && (i+1)%4 != 0 || rotates != nil && rotates[i] {
			if a.Window = chunk; chunk != 0 {
				a.Mask = MaskChunk
			}
			if normalized {
				a.QKNorm = PlainQKNorm
			}
		} else {
			a.Rope, a.Temper = -1, temper
		}
		if with != nil && slices.Contains(with, i) || with == nil && (i+1)%every == 0 {
			ff.Experts.Shared, ff.Experts.Router = ff.Width, Router{Score: Sigmoid, WeighInput: true}
		} else if ff.Experts = (Experts{}); dense > 0 {
			ff.Width = dense
		}
	})
	return ernie(c, s)
}
