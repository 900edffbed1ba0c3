package model

import (
	"math"

	"kindredgate/internal/weights"
)

// The gemma families scale embeddings, have norms on both sides of each sublayer, whose weights are stored less 1 outside
// of GGUF, and layers that see a window by turns with layers that see all. The second caps logits; the third has norms on
// queries and keys, and another rotation in the layers with a window.
func init() {
	sandwich := map[string]names{"safetensors": {
		postAttention: "layers.%d.post_attention_layernorm", feedForwardNorm: "layers.%d.pre_feedforward_layernorm", postFeedForward: "layers.%d.post_feedforward_layernorm",
	}}
	register(family{spec: gemma2, names: sandwich, windows: true}, "gemma2")
	register(family{spec: gemma3, names: sandwich, windows: true}, "gemma3", "gemma3_text")
}

// gemma sets what the families have in common; every so many layers one sees all.
func gemma(c *weights.Checkpoint, s *Spec, every int) {
	h := &c.Hyper
	s.EmbeddingScale = float32(math.Sqrt(float64(s.Dim)))
	s.NormPlusOne = c.Layout != "GGUF"
	if h.WindowEvery > 0 {
		every = h.WindowEvery
	}
	for i := range s.Layers {
		l := &s.Layers[i]
		l.PostNorm, l.Activation = true, TanhGELU
		if h.Local == nil && (i+1)%every == 0 {
			l.Window = 0
		}
	}
}

func gemma2(c *weights.Checkpoint, s *Spec) error {
	gemma(c, s, 2)
	return s.rotate(c)
}

func gemma3(c *weights.Checkpoint, s *Spec) error {
	gemma(c, s, 6)
	if err := s.rotate(c); err != nil {
		return err
	}
	base := c.Hyper.Rope.LocalBase
	if base == 0 {
		base = 10000
	}
	local, err := newRope(&weights.Rope{}, base, s.Ropes[0].Dims, s.Context)
	if err != nil {
		return err
	}
	s.Ropes = append(s.Ropes, local)
	for i := range s.Layers {
		l := &s.Layers[i]
		l.QKNorm = HeadQKNorm
		if l.Window > 0 {
			l.Rope = 1
		}
	}
	return nil
}
