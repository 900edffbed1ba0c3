package model

import (
	"fmt"
	"math"

	"kindredgate/internal/weights"
)

// The granite families are llama with factors for embeddings, scores of attention, what each sublayer gives, and logits. Some have
// experts, the hybrid ones state spaces in most layers. minicpm has the same factors by other names.
func init() {
	moe := names{
		router: "layers.%d.block_sparse_moe.router.layer", expertGateUp: "layers.%d.block_sparse_moe.input_linear", expertDown: "layers.%d.block_sparse_moe.output_linear",
		expertGate: "", expertUp: "", sharedGateUp: "layers.%d.shared_mlp.input_linear", sharedDown: "layers.%d.shared_mlp.output_linear", sharedGate: "", sharedUp: "",
	}
	hybrid := names{gateUp: "layers.%d.shared_mlp.input_linear", downRole: "layers.%d.shared_mlp.output_linear"}
	for r, name := range moe {
		hybrid[r] = name
	}
	register(family{spec: granite}, "granite")
	register(family{spec: granite, names: map[string]names{"safetensors": moe}}, "granitemoe", "granitemoeshared")
	register(family{spec: graniteHybrid, names: map[string]names{"safetensors": hybrid}}, "granitehybrid", "granitemoehybrid")
	register(family{spec: minicpm}, "minicpm")
}

// multiply sets the factors; 0 stands for none.
func (s *Spec) multiply(embedding, part, logits float64) {
	s.EmbeddingScale, s.LogitScale = float32(embedding), float32(logits)
	s.each(func(_ int, l *LayerSpec) {
		l.Attention.Out, l.State.Out, l.FeedForward.Out = float32(part), float32(part), float32(part)
	})
}

// inverse is 1/x, or 0 for 0.
func inverse(x float64) float64 {
	if x == 0 {
		return 0
	}
	return 1 / x
}

func granite(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	s.multiply(f.Float("embedding_multiplier", "embedding_scale"), f.Float("residual_multiplier", "residual_scale"), inverse(f.Float("logits_scaling", "logit_scale")))
	scale, shared := f.Float("attention_multiplier", "attention.scale"), f.Int("shared_intermediate_size", "expert_shared_feed_forward_length")
	s.each(func(_ int, l *LayerSpec) {
		if scale != 0 {
			l.Attention.Scale = float32(scale)
		}
		if e := &l.FeedForward.Experts; e.Count > 0 {
			e.Shared = shared
		}
	})
	return llama(c, s)
}

func graniteHybrid(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	if err := granite(c, s); err != nil {
		return err
	}
	types := f.Texts("layer_types")
	if types != nil && len(types) != len(s.Layers) {
		return fmt.Errorf("layer_types name %d layers of %d", len(types), len(s.Layers))
	}
	rotates := true
	switch by := f.Text("position_embedding_type"); by {
	case "nope":
		rotates = false
	case "", "rope":
		rotates = f.Is(true, "rope.scaling.finetuned")
	default:
		return fmt.Errorf("positions of type %.40q are not supported", by)
	}
	state := mamba2(c)
	state.Norm = GroupNorm
	shared := f.Int("shared_intermediate_size")
	s.each(func(i int, l *LayerSpec) {
		if types != nil && types[i] == "mamba" || types == nil && l.Attention.Heads == 0 {
			out := l.State.Out
			l.Attention, l.State = Attention{From: -1}, state
			l.State.Out = out
		}
		if !rotates {
			l.Attention.Rope = -1
		}
		if l.FeedForward.Experts.Count == 0 && shared > 0 {
			l.FeedForward.Width = shared
		}
	})
	return nil
}

// mamba2 describes a state space by the fields of most families that have one.
func mamba2(c *weights.Checkpoint) State {
	f := &c.Facts
	s := State{Kind: Mamba2, Taps: f.Int("mamba_d_conv", "conv_kernel", "ssm.conv_kernel"), Heads: f.Int("mamba_n_heads", "mamba_num_heads", "ssm.time_step_rank"),
		Groups: f.Int("mamba_n_groups", "n_groups", "ssm.group_count"), Size: f.Int("mamba_d_state", "ssm_state_size", "ssm.state_size")}
	if s.Width = f.Int("ssm.inner_size", "mamba_d_ssm"); s.Width == 0 {
		if size := f.Int("mamba_d_head", "mamba_head_dim", "ssm.inner_size"); size < maxWidth && s.Heads < maxWidth {
			s.Width = s.Heads * size
		}
	}
	return s
}

func minicpm(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	embedding, part, logits := f.Float("embedding_scale", "scale_emb"), f.Float("residual_scale"), inverse(f.Float("logit_scale"))
	if depth := f.Float("scale_depth"); depth != 0 {
		part = depth / math.Sqrt(float64(len(s.Layers)))
	}
	if base := f.Float("dim_model_base"); base != 0 {
		logits = base / float64(s.Dim)
	}
	s.multiply(embedding, part, logits)
	return llama(c, s)
}
