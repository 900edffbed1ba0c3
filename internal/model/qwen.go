package model

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"kindredgate/internal/weights"
)

// The qwen families are llama with biases on queries, keys and values (2), or with norms on queries and keys (3); their
// rotations pair dimensions half a head apart in every layout. Some have experts. The hybrid ones have delta nets in most layers, and
// attention whose output is gated in the others.
func init() {
	register(family{spec: qwen2, gguf: "qwen2"}, "qwen2")
	register(family{spec: qwen3, gguf: "qwen3"}, "qwen3")
	register(family{spec: qwen2vl}, "qwen2vl", "qwen2_vl", "qwen2_vl_text", "qwen2_5_vl", "qwen2_5_vl_text")
	register(family{spec: qwen3vl}, "qwen3vl", "qwen3_vl", "qwen3_vl_text")
	register(family{spec: qwen3moe, gguf: "qwen3moe"}, "qwen3moe", "qwen3_moe")
	shared := sharedExperts("layers.%d.mlp.shared_expert", names{sharedSwitch: "layers.%d.mlp.shared_expert_gate"})
	register(family{spec: qwen2moe, names: map[string]names{"safetensors": shared}}, "qwen2moe", "qwen2_moe")

	delta := sharedExperts("layers.%d.mlp.shared_expert", names{
		sharedSwitch: "layers.%d.mlp.shared_expert_gate", deltaAll: "layers.%d.linear_attn.in_proj_qkvz", deltaRates: "layers.%d.linear_attn.in_proj_ba",
		deltaQueryKeyValue: "layers.%d.linear_attn.in_proj_qkv", deltaGate: "layers.%d.linear_attn.in_proj_z", deltaBeta: "layers.%d.linear_attn.in_proj_b", deltaAlpha: "layers.%d.linear_attn.in_proj_a",
		stateConv: "layers.%d.linear_attn.conv1d", stateStep: "layers.%d.linear_attn.dt", stateFade: "layers.%d.linear_attn.A_log", stateNorm: "layers.%d.linear_attn.norm",
		stateOut: "layers.%d.linear_attn.out_proj", expertGateUp: "layers.%d.mlp.experts.gate_up_proj",
		joinNext: "mtp.fc", nextNorm: "mtp.pre_fc_norm_embedding", hiddenNorm: "mtp.pre_fc_norm_hidden", predictorNorm: "mtp.norm", predictorOutput: "",
	})
	predictors := func(_ *weights.Checkpoint, name string) bool { return strings.HasPrefix(name, "mtp.") }
	next := map[string]names{"safetensors": delta, "GGUF": {feedForwardNorm: "blk.%d.post_attention_norm", postMixer: "", queryKeyValue: ""}}
	register(family{spec: qwenHybrid, besides: predictors, names: next}, "qwen3_next", "qwen3next", "qwen3_5_text")
	whole := sharedExperts("layers.%d.mlp.shared_expert", names{})
	for r, name := range delta {
		whole[r] = name
	}
	whole[expertDown], whole[expertGate], whole[expertUp] = "layers.%d.mlp.experts.down_proj", "", ""
	register(family{spec: qwenHybrid, besides: predictors, names: map[string]names{"safetensors": whole}}, "qwen3_5_moe_text")
}

func qwen2(c *weights.Checkpoint, s *Spec) error {
	if h := &c.Hyper; h.Window > 0 && h.Local == nil && c.Layout != "GGUF" {
		return errors.New("a sliding window in some layers only, which layer_types do not name, is not supported")
	}
	return s.rotate(c)
}

func qwen3(c *weights.Checkpoint, s *Spec) error {
	s.each(func(_ int, l *LayerSpec) { l.Attention.QKNorm = HeadQKNorm })
	return qwen2(c, s)
}

// qwen2vl turns by places: tokens of a picture by its rows and columns, in texts as qwen2.
func qwen2vl(c *weights.Checkpoint, s *Spec) error {
	if err := qwen2(c, s); err != nil {
		return err
	}
	return s.turnByPlaces(c, false)
}

// qwen3vl does so by turns of the dimensions, and adds rows of pictures behind its first layers.
func qwen3vl(c *weights.Checkpoint, s *Spec) error {
	if err := qwen3(c, s); err != nil {
		return err
	}
	s.Deep = c.Facts.Int("n_deepstack_layers")
	if c.Layout != "GGUF" {
		s.Deep = len(c.Whole.Ints("vision_config.deepstack_visual_indexes"))
	}
	if s.Deep < 0 || s.Deep > len(s.Layers) {
		return bad("n_deepstack_layers", "%d of %d layers", s.Deep, len(s.Layers))
	}
	return s.turnByPlaces(c, true)
}

func (s *Spec) turnByPlaces(c *weights.Checkpoint, interleaved bool) error {
	list := sections(c)
	if list == nil {
		return bad("rope.dimension_sections", "it is missing")
	}
	s.Ropes[0].Axis = axes(list, interleaved)
	return nil
}

func qwen3moe(c *weights.Checkpoint, s *Spec) error {
	if err := someExperts(c, s, weighAll(c.Facts.Is(true, "norm_topk_prob"))); err != nil {
		return err
	}
	return qwen3(c, s)
}

func qwen2moe(c *weights.Checkpoint, s *Spec) error {
	if err := someExperts(c, s, weighAll(c.Facts.Is(false, "norm_topk_prob"))); err != nil {
		return err
	}
	return qwen2(c, s)
}

// someExperts gives layers experts, but those that the files name, and the expert beside them that is gated, if there is one.
func someExperts(c *weights.Checkpoint, s *Spec, r Router) error {
	f := &c.Facts
	dense, every := f.Ints("mlp_only_layers"), max(1, f.Int("decoder_sparse_step"))
	shared := f.Int("shared_expert_intermediate_size", "expert_shared_feed_forward_length")
	s.each(func(i int, l *LayerSpec) {
		ff := &l.FeedForward
		switch {
		case ff.Experts.Count == 0:
		case slices.Contains(dense, i) || (i+1)%every != 0:
			ff.Experts, ff.Width = Experts{}, c.Hyper.FeedForward
		default:
			ff.Experts.Router, ff.Experts.Shared, ff.Experts.SharedGated = r, shared, shared > 0
		}
	})
	return nil
}

// qwenHybrid has attention in every fourth layer, or where layer_types say so, and delta nets in the others.
func qwenHybrid(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	s.NormPlusOne = c.Layout != "GGUF"
	types, every := f.Texts("layer_types"), f.Int("full_attention_interval")
	if every < 1 {
		every = 4
	}
	if types != nil && len(types) != len(s.Layers) {
		return fmt.Errorf("layer_types name %d layers of %d", len(types), len(s.Layers))
	}
	net := State{Kind: DeltaNet, Taps: f.Int("linear_conv_kernel_dim", "ssm.conv_kernel"), Heads: f.Int("linear_num_value_heads", "ssm.time_step_rank"),
		Groups: f.Int("linear_num_key_heads", "ssm.group_count"), Size: f.Int("linear_key_head_dim", "ssm.state_size")}
	if net.Width = f.Int("ssm.inner_size"); net.Width == 0 {
		if v := f.Int("linear_value_head_dim", "ssm.inner_size"); v > 0 && v < maxWidth && net.Heads < maxWidth {
			net.Width = net.Heads * v
		}
	}
	net.ByHead = c.Architecture == "qwen3_next"
	gated := f.Is(true, "attn_output_gate")
	s.each(func(i int, l *LayerSpec) {
		if types != nil && types[i] == "linear_attention" || types == nil && (i+1)%every != 0 {
			l.Attention, l.State = Attention{From: -1}, net
			return
		}
		l.Attention.QKNorm, l.Attention.Gated, l.Attention.Mask = HeadQKNorm, gated, MaskNone
	})
	if err := someExperts(c, s, weighAll(f.Is(true, "norm_topk_prob"))); err != nil {
		return err
	}
	return s.rotate(c)
}
