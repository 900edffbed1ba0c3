package model

import (
	"fmt"

	"kindredgate/internal/weights"
)

// The ernie family with experts scores them by softmax over all, and chooses by a bias besides.
func init() {
	register(family{spec: ernieMoE, names: map[string]names{"safetensors": {routerBias: "layers.%d.mlp.moe_statics.e_score_correction"}}}, "ernie4_5-moe", "ernie4_5_moe")
}

func ernieMoE(c *weights.Checkpoint, s *Spec) error {
	f, h := &c.Facts, &c.Hyper
	width := f.Int("moe_intermediate_size", "expert_feed_forward_length")
	experts := Experts{Count: f.Int("moe_num_experts", "expert_count"), Used: f.Int("moe_k", "expert_used_count"), Shared: f.Int("expert_shared_feed_forward_length"),
		Router: Router{Score: AllSoftmax, Normalized: true, Floor: float32(orElse(f.Float("moe_norm_min"), 1e-12))}}
	if n := f.Int("moe_num_shared_experts", "expert_shared_count", "expert_shared_feed_forward_length"); experts.Shared == 0 {
		experts.Shared = together(width, n)
	}
	first, last := f.Int("moe_layer_start_index", "leading_dense_block_count"), len(s.Layers)-1
	if f.Has("moe_layer_end_index") && f.Int("moe_layer_end_index") >= 0 {
		last = f.Int("moe_layer_end_index")
	}
	if every := f.Int("moe_layer_interval", "interleave_moe_layer_step"); every > 1 {
		return fmt.Errorf("experts in every %dth layer only are not supported", every)
	}
	l := newLoader(c, families[c.Architecture], s)
	s.each(func(i int, spec *LayerSpec) {
		ff := &spec.FeedForward
		if ff.Experts, ff.Width = (Experts{}), h.FeedForward; i >= first && i <= last {
			ff.Experts, ff.Width = experts, width
			ff.Experts.Router.Bias = l.look(routerBias, i, 0, ".bias", "_bias") != nil
		}
	})
	return ernie(c, s)
}
