package model

import "kindredgate/internal/weights"

// The exaone4 family has norms on what each sublayer gives, and on queries and keys. Where it has layers with a window, these rotate, and the
// others do not.
func init() {
	register(family{spec: exaone4, windows: true, names: map[string]names{"safetensors": {
		postMixer: "layers.%d.post_attention_layernorm", postFeedForward: "layers.%d.post_feedforward_layernorm", mixerNorm: "", feedForwardNorm: "",
	}}}, "exaone4")
}

func exaone4(c *weights.Checkpoint, s *Spec) error {
	h := &c.Hyper
	s.each(func(i int, l *LayerSpec) {
		l.Order, l.Attention.QKNorm = NormAfter, HeadQKNorm
		if h.Window == 0 {
			return
		}
		if h.Local == nil {
			l.Attention.see((i+1)%4 != 0)
		}
		if l.Attention.Mask == MaskNone {
			l.Attention.Rope = -1
		}
	})
	if err := s.rotate(c); err != nil {
		return err
	}
	return divide(c, "rope_freqs.weight", s.Ropes[0].Angles)
}
