package model

import (
	"errors"
	"fmt"

	"kindredgate/internal/weights"
)

// What families with experts have in common.

// sharedExperts are the names of an expert that every token uses, by what stands before them.
func sharedExperts(before string, n names) names {
	n[sharedGate], n[sharedUp], n[sharedDown] = before+".gate_proj", before+".up_proj", before+".down_proj"
	return n
}

// weighAll has experts weighed by the softmax over all of them and, if normalized, divided by the sum of the chosen ones.
func weighAll(normalized bool) Router {
	if normalized {
		return Router{Score: ChosenSoftmax} // which is the same
	}
	return Router{Score: AllSoftmax}
}

// mixture describes experts as most of the newer families have them: a number of layers without, a router of which the files say how it
// weighs, and an expert that every token uses. sigmoid is what holds where the files do not say.
func mixture(c *weights.Checkpoint, s *Spec, sigmoid bool) error {
	f := &c.Facts
	count := f.Int("n_routed_experts", "num_experts", "num_local_experts", "expert_count")
	width := f.Int("moe_intermediate_size", "expert_feed_forward_length")
	if width == 0 {
		width = c.Hyper.FeedForward
	}
	used := f.Int("num_experts_per_tok", "expert_used_count")
	shared := f.Int("expert_shared_feed_forward_length")
	if shared == 0 {
		shared = f.Int("moe_shared_expert_intermediate_size")
	}
	if n := f.Int("n_shared_experts", "num_shared_experts", "expert_shared_count", "expert_shared_feed_forward_length"); shared == 0 {
		shared = together(width, n)
	}
	router := Router{Score: AllSoftmax, Normalized: f.Is(true, "norm_topk_prob", "expert_weights_norm"), Scale: float32(f.Float("routed_scaling_factor", "expert_weights_scale")), Floor: 1e-20}
	switch by := f.Text("scoring_func", "score_function"); by {
	case "":
		if sigmoid {
			router.Score = Sigmoid
		}
	case "sigmoid":
		router.Score = Sigmoid
	case "softmax":
	default:
		return fmt.Errorf("experts scored by %.40q are not supported; softmax and sigmoid are", by)
	}
	if c.Layout == "GGUF" {
		switch by := f.Int("expert_gating_func"); by {
		case 0, 1:
			router.Score = AllSoftmax
		case 2:
			router.Score = Sigmoid
		default:
			return fmt.Errorf("experts scored in way %d are not supported; 1 (softmax) and 2 (sigmoid) are", by)
		}
		if !f.Has("expert_gating_func") && sigmoid {
			router.Score = Sigmoid
		}
	}
	if n := f.Int("n_group", "expert_group_count"); n > 1 {
		if router.Score != Sigmoid {
			return errors.New("groups of experts (n_group) that are scored by softmax are not supported")
		}
		router.Groups, router.GroupsUsed = n, f.Int("topk_group", "expert_group_used_count")
	} else {
		f.Int("topk_group", "expert_group_used_count")
	}
	if every := f.Int("moe_layer_freq", "interleave_moe_layer_step"); every > 1 {
		return fmt.Errorf("experts in every %dth layer only are not supported", every)
	}
	dense := f.Int("first_k_dense_replace", "leading_dense_block_count", "num_dense_layers")
	l := newLoader(c, families[c.Architecture], s)
	s.each(func(i int, spec *LayerSpec) {
		ff := &spec.FeedForward
		if ff.Experts = (Experts{}); i < dense {
			ff.Width = c.Hyper.FeedForward
			return
		}
		ff.Width = width
		r := router
		r.Bias = l.look(routerBias, i, 0, ".bias", "_bias") != nil
		ff.Experts = Experts{Count: count, Used: used, Shared: shared, Router: r}
	})
	return nil
}

// together is how wide so many experts are that every token uses. What is out of range stays so.
func together(width, n int) int {
	if width > maxWidth || n > maxExperts {
		return maxWidth + 1
	}
	return width * n
}

// further tells the tensors of layers behind the last, which predict further tokens.
func further(c *weights.Checkpoint, name string) bool {
	var layer int
	for _, pattern := range []string{"model.layers.%d.", "blk.%d."} {
		if n, _ := fmt.Sscanf(name, pattern, &layer); n == 1 {
			return layer >= c.Hyper.Layers && layer < c.Hyper.Layers+c.Facts.Int("num_nextn_predict_layers", "nextn_predict_layers")
		}
	}
	return false
}

// withoutFurther takes the layers behind the last off those that a GGUF file counts.
func withoutFurther(c *weights.Checkpoint, s *Spec) {
	if n := c.Facts.Int("nextn_predict_layers"); c.Layout == "GGUF" && n > 0 && n < len(s.Layers) {
		s.Layers = s.Layers[:len(s.Layers)-n]
		c.Hyper.Layers = len(s.Layers)
	}
}
