package model

import (
	"fmt"
	"slices"

	"kindredgate/internal/weights"
)

// The lfm2 families have short convolutions in most layers and attention in the others. One has experts.
func init() {
	n := names{
		mixerNorm: "layers.%d.operator_norm", feedForwardNorm: "layers.%d.ffn_norm", outputNorm: "embedding_norm",
		attentionOut: "layers.%d.self_attn.out_proj", queryNorm: "layers.%d.self_attn.q_layernorm", keyNorm: "layers.%d.self_attn.k_layernorm",
		gateRole: "layers.%d.feed_forward.w1", upRole: "layers.%d.feed_forward.w3", downRole: "layers.%d.feed_forward.w2", gateUp: "",
		router: "layers.%d.feed_forward.gate", routerBias: "layers.%d.feed_forward.expert",
		expertGate: "layers.%d.feed_forward.experts.%d.w1", expertUp: "layers.%d.feed_forward.experts.%d.w3", expertDown: "layers.%d.feed_forward.experts.%d.w2",
		stateIn: "layers.%d.conv.in_proj", stateConv: "layers.%d.conv.conv", stateOut: "layers.%d.conv.out_proj",
	}
	g := names{outputNorm: "token_embd_norm", embeddingNorm: "", stateIn: "blk.%d.shortconv.in_proj", stateConv: "blk.%d.shortconv.conv", stateOut: "blk.%d.shortconv.out_proj"}
	register(family{spec: lfm2, names: map[string]names{"safetensors": n, "GGUF": g}}, "lfm2", "lfm2moe", "lfm2_moe")
}

func lfm2(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	conv := State{Kind: ShortConv, Taps: f.Int("conv_L_cache", "shortconv.l_cache", "ssm.conv_kernel"), Width: s.Dim}
	types, attends := f.Texts("layer_types"), f.Ints("full_attn_idxs")
	if types != nil && len(types) != len(s.Layers) {
		return fmt.Errorf("layer_types name %d layers of %d", len(types), len(s.Layers))
	}
	if c.Hyper.Experts > 0 {
		if err := mixture(c, s, true); err != nil {
			return err
		}
	}
	width := f.Int("block_ff_dim")
	if f.Is(false, "block_auto_adjust_ff_dim") {
		multiple := max(1, f.Int("block_multiple_of"))
		width = int(float64(2*width/3) * orElse(f.Float("block_ffn_dim_multiplier"), 1))
		width = (width + multiple - 1) / multiple * multiple
	}
	s.each(func(i int, l *LayerSpec) {
		switch {
		case types != nil && types[i] == "conv", types == nil && attends != nil && !slices.Contains(attends, i), types == nil && attends == nil && l.Attention.Heads == 0:
			l.Attention, l.State = Attention{From: -1}, conv
		default:
			l.Attention.QKNorm = HeadQKNorm
		}
		if e := &l.FeedForward.Experts; e.Count > 0 {
			e.Router.Floor = 1e-6
		} else if width > 0 {
			l.FeedForward.Width = width
		}
	})
	return s.rotate(c)
}
