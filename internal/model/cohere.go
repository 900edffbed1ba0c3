package model

import "kindredgate/internal/weights"

// The cohere families run attention and feed-forward beside each other, behind one layer norm without a bias. In the second one, three of
// four layers see a window and rotate, and the fourth does neither.
func init() {
	register(family{spec: cohere}, "cohere", "command-r")
	register(family{spec: cohere2, windows: true}, "cohere2")
}

func cohere(c *weights.Checkpoint, s *Spec) error {
	s.Norm, s.LogitScale = Centered, float32(c.Facts.Float("logit_scale"))
	_, there := c.Find("blk.0.attn_q_norm.weight")
	each := c.Facts.Is(there, "use_qk_norm")
	s.each(func(_ int, l *LayerSpec) {
		if l.Order = Parallel; each {
			l.Attention.QKNorm = EachQKNorm
		}
	})
	return ernie(c, s)
}

func cohere2(c *weights.Checkpoint, s *Spec) error {
	h := &c.Hyper
	s.each(func(i int, l *LayerSpec) {
		if h.Local == nil {
			l.Attention.see((i+1)%max(2, int(orElse(float64(h.WindowEvery), 4))) != 0)
		}
		if l.Attention.Mask == MaskNone {
			l.Attention.Rope = -1
		}
	})
	return cohere(c, s)
}
