package model

import (
	"fmt"

	"kindredgate/internal/weights"
)

// The nemotron family has layer norms whose weights are stored less 1 outside of GGUF, and squared ReLU without a gate. The hybrid ones have
// one part a layer: a state space, attention without rotation, a feed-forward network, or experts.
func init() {
	register(family{spec: nemotron}, "nemotron")
	mixer := "layers.%d.mixer."
	register(family{spec: nemotronHybrid, prefixes: []string{"backbone."}, names: map[string]names{"GGUF": {feedForwardNorm: "blk.%d.attn_norm"}, "safetensors": {
		embedding: "embeddings", outputNorm: "norm_f", mixerNorm: "layers.%d.norm", feedForwardNorm: "layers.%d.norm",
		queryRole: mixer + "q_proj", keyRole: mixer + "k_proj", valueRole: mixer + "v_proj", attentionOut: mixer + "o_proj", upRole: mixer + "up_proj", downRole: mixer + "down_proj",
		router: mixer + "gate", routerBias: mixer + "gate.e_score_correction", expertUp: mixer + "experts.%d.up_proj", expertDown: mixer + "experts.%d.down_proj",
		sharedUp: mixer + "shared_experts.up_proj", sharedDown: mixer + "shared_experts.down_proj",
		stateIn: mixer + "in_proj", stateConv: mixer + "conv1d", stateStep: mixer + "dt", stateFade: mixer + "A_log", stateSkip: mixer + "D", stateNorm: mixer + "norm", stateOut: mixer + "out_proj",
	}}}, "nemotron_h", "nemotron_h_moe")
}

func squaredReLU(_ int, l *LayerSpec) {
	l.FeedForward.Gated, l.FeedForward.Activation = false, SquaredReLU
}

func nemotron(c *weights.Checkpoint, s *Spec) error {
	s.Norm, s.NormPlusOne = LayerNorm, c.Layout != "GGUF"
	s.each(squaredReLU)
	return s.rotate(c)
}

func nemotronHybrid(c *weights.Checkpoint, s *Spec) error {
	pattern, kvHeads := c.Facts.Text("hybrid_override_pattern"), c.Facts.Ints("attention.head_count_kv")
	if c.Layout != "GGUF" && len(pattern) != len(s.Layers) || c.Layout == "GGUF" && len(kvHeads) != len(s.Layers) {
		return fmt.Errorf("hybrid_override_pattern or attention.head_count_kv does not say of each of %d layers what it is", len(s.Layers))
	}
	if err := mixture(c, s, true); err != nil {
		return err
	}
	s.each(squaredReLU)
	state := mamba2(c)
	state.Norm = GroupNorm
	l := newLoader(c, families[c.Architecture], s)
	widths := c.Facts.Ints("feed_forward_length")
	for i := range s.Layers {
		one := &s.Layers[i]
		kind := byte('M')
		switch {
		case pattern != "":
			kind = pattern[i]
		case kvHeads[i] > 0:
			kind = '*'
		case l.find(router, i, 0) != nil:
			kind = 'E'
		case i < len(widths) && widths[i] > 0:
			kind = '-'
		}
		attention, forward := one.Attention, one.FeedForward
		attention.Rope = -1
		one.Attention, one.FeedForward = Attention{From: -1}, FeedForward{}
		switch kind {
		case 'M':
			one.State = state
		case '*':
			one.Attention = attention
		case '-':
			if one.FeedForward = forward; i < len(widths) {
				one.FeedForward.Width = widths[i]
			} else {
				one.FeedForward.Width = c.Hyper.FeedForward
			}
			one.FeedForward.Experts = Experts{}
		case 'E':
			one.FeedForward = forward
		default:
			return fmt.Errorf("layer %d of hybrid_override_pattern is %q; M, *, - and E are known", i, kind)
		}
	}
	return nil
}
