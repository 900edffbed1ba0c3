package model

import (
	"math"

	"kindredgate/internal/weights"
)

// The gemma families scale embeddings and have the weights of norms stored less 1 outside of GGUF. From the second on they have norms on both
// sides of each sublayer, and layers that see a window by turns with layers that see all. The second caps logits; the third has norms on
// queries and keys, and another rotation in the layers with a window.
func init() {
	register(family{spec: gemma}, "gemma")
	sandwich := map[string]names{"safetensors": {
		postMixer: "layers.%d.post_attention_layernorm", feedForwardNorm: "layers.%d.pre_feedforward_layernorm", postFeedForward: "layers.%d.post_feedforward_layernorm",
	}}
	register(family{spec: gemma2, gguf: "gemma2", names: sandwich, windows: true}, "gemma2")
	register(family{spec: gemma3, gguf: "gemma3", names: sandwich, windows: true}, "gemma3", "gemma3_text")
}

// gemma sets what all have in common.
func gemma(c *weights.Checkpoint, s *Spec) error {
	s.EmbeddingScale = float32(math.Sqrt(float64(s.Dim)))
	s.NormPlusOne = c.Layout != "GGUF"
	s.each(func(_ int, l *LayerSpec) { l.FeedForward.Activation = TanhGELU })
	return s.rotate(c)
}

// sandwiched sets what the second and the third have in common; every so many layers one sees all.
func sandwiched(c *weights.Checkpoint, s *Spec, every int) error {
	h := &c.Hyper
	if h.WindowEvery > 0 {
		every = h.WindowEvery
	}
	s.each(func(i int, l *LayerSpec) {
		l.Order = NormAround
		if h.Local == nil {
			l.Attention.see((i+1)%every != 0)
		}
	})
	return gemma(c, s)
}

func gemma2(c *weights.Checkpoint, s *Spec) error { return sandwiched(c, s, 2) }

func gemma3(c *weights.Checkpoint, s *Spec) error {
	if err := sandwiched(c, s, 6); err != nil {
		return err
	}
	local, err := newRope(&weights.Rope{}, orElse(c.Hyper.Rope.LocalBase, 10000), s.Ropes[0].Dims, s.Context)
	if err != nil {
		return err
	}
	s.Ropes = append(s.Ropes, local)
	s.Whole = true
	s.each(func(_ int, l *LayerSpec) {
		if l.Attention.QKNorm = HeadQKNorm; l.Attention.Mask == MaskWindow {
			l.Attention.Rope = 1
		}
	})
	return nil
}
