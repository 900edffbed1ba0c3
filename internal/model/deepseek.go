package model

import (
	"math"

	"kindredgate/internal/weights"
)

// The deepseek families work keys and values out of a short vector, and have experts after some first layers, chosen from groups by scores of
// their own. GGUF files have what makes keys and values as one matrix, or as two.
func init() {
	register(family{spec: deepseek, besides: further}, "deepseek2", "deepseek_v2", "deepseek_v3", "glm4_moe_lite")
}

func deepseek(c *weights.Checkpoint, s *Spec) error {
	f, h := &c.Facts, &c.Hyper
	withoutFurther(c, s)
	if err := mixture(c, s, c.Architecture != "deepseek_v2" && c.Layout != "GGUF"); err != nil {
		return err
	}
	rotated := f.Int("qk_rope_head_dim", "rope.dimension_count")
	latent := Latent{Rank: f.Int("kv_lora_rank", "attention.kv_lora_rank"), QueryRank: f.Int("q_lora_rank", "attention.q_lora_rank"), Rotated: rotated,
		Plain: f.Int("qk_nope_head_dim", "attention.key_length_mla"), Value: f.Int("v_head_dim", "attention.value_length_mla")}
	if c.Layout == "GGUF" {
		size := f.Int("attention.key_length_mla")
		if size == 0 { // the older form
			size = h.HeadDim
		}
		if latent.Plain = size - rotated; latent.Value == 0 {
			latent.Value = f.Int("attention.value_length")
		}
	}
	scale := 1.0
	r := &h.Rope
	if r.Scaling == "yarn" {
		if by := f.Float("rope.scaling.yarn_log_multiplier"); by != 0 {
			r.Magnitude, r.MagnitudeAll = 10*by, 10*by
		}
		if r.MagnitudeAll != 0 {
			scale = magnitude(r.Factor, r.MagnitudeAll)
		}
	}
	s.each(func(_ int, l *LayerSpec) {
		a := &l.Attention
		a.Latent, a.KVHeads, a.HeadDim, a.ValueDim = latent, 1, latent.Rank+rotated, latent.Rank
		a.Scale = float32(scale * scale / math.Sqrt(float64(max(1, latent.Plain+rotated))))
	})
	rope, err := newRope(r, r.Base, rotated, h.Context)
	rope.Adjacent = true
	s.Ropes = []Rope{rope}
	return err
}
