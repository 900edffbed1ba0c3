package model

import (
	"fmt"
	"math"

	"kindredgate/internal/weights"
)

// The hunyuan family normalizes queries and keys after they are rotated. Its base grows with a factor that the files name.
func init() {
	register(family{spec: hunyuan, names: map[string]names{"safetensors": {queryNorm: "layers.%d.self_attn.query_layernorm", keyNorm: "layers.%d.self_attn.key_layernorm"}}},
		"hunyuan-dense", "hunyuan_v1_dense")
}

func hunyuan(c *weights.Checkpoint, s *Spec) error {
	r, d := &c.Hyper.Rope, float64(c.Hyper.HeadDim)
	if r.Scaling == "dynamic" {
		alpha := c.Facts.Float("rope_scaling.alpha", "rope_parameters.alpha")
		if !(alpha > 0) || orElse(r.Factor, 1) != 1 || d <= 2 {
			return fmt.Errorf("rope scaling dynamic by alpha %g and factor %g is not supported", alpha, r.Factor)
		}
		r.Scaling, r.Base = "", r.Base*math.Pow(alpha, d/(d-2))
	}
	if c.Facts.Is(true, "use_qk_norm") {
		s.each(func(_ int, l *LayerSpec) { l.Attention.QKNorm = RotatedQKNorm })
	}
	return s.rotate(c)
}
