package model

import (
	"kindredgate/internal/weights"
)

// The olmo families have norms on all queries and all keys together. From the second on, norms are on what each sublayer gives
// rather than on what it takes. The third has layers that see a window, in which positions are not stretched; GGUF files call it the second. One
// has experts.
func init() {
	after := map[string]names{"safetensors": {
		postMixer: "layers.%d.post_attention_layernorm", postFeedForward: "layers.%d.post_feedforward_layernorm", mixerNorm: "", feedForwardNorm: "",
	}}
	register(family{spec: olmo2, gguf: "olmo2", names: after, windows: true}, "olmo2")
	register(family{spec: olmo2, names: after, windows: true}, "olmo3")
	register(family{spec: olmoe}, "olmoe")
}

func olmo2(c *weights.Checkpoint, s *Spec) error {
	if err := s.rotate(c); err != nil {
		return err
	}
	h := &c.Hyper
	if h.Window > 0 {
		local, err := newRope(&weights.Rope{}, h.Rope.Base, s.Ropes[0].Dims, s.Context)
		if err != nil {
			return err
		}
		s.Ropes = append(s.Ropes, local)
	}
	s.each(func(i int, l *LayerSpec) {
		l.Order, l.Attention.QKNorm = NormAfter, FullQKNorm
		if h.Local == nil {
			l.Attention.see((i+1)%max(h.WindowEvery, 4) != 0)
		}
		if l.Attention.Mask == MaskWindow {
			l.Attention.Rope = 1
		}
	})
	return nil
}

func olmoe(c *weights.Checkpoint, s *Spec) error {
	s.each(func(_ int, l *LayerSpec) {
		l.Attention.QKNorm = FullQKNorm
		l.FeedForward.Experts.Router = weighAll(c.Facts.Is(false, "norm_topk_prob"))
	})
	return s.rotate(c)
}
