package model

import (
	"errors"
	"math"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// The llama family: pre-norm blocks with RMSNorm, grouped-query attention, rotary positions, a gated feed-forward with
// SiLU, or experts in its place. Its GGUF files have the rows of the query and key matrices permuted so that dimensions 2i
// and 2i+1 of a head rotate together, and may carry divisors of the rotary frequencies as a tensor.
func init() {
	register(family{spec: llama, gguf: "llama", names: map[string]names{
		"safetensors": {
			router:     "layers.%d.block_sparse_moe.gate",
			expertGate: "layers.%d.block_sparse_moe.experts.%d.w1", expertUp: "layers.%d.block_sparse_moe.experts.%d.w3", expertDown: "layers.%d.block_sparse_moe.experts.%d.w2",
		},
	}}, "llama", "mistral", "mixtral")
	register(family{spec: smollm3}, "smollm3")
	register(family{spec: arcee}, "arcee")
	register(family{spec: ministral3}, "ministral3", "mistral3")
	register(family{spec: apertus, names: map[string]names{"safetensors": {
		mixerNorm: "layers.%d.attention_layernorm", feedForwardNorm: "layers.%d.feedforward_layernorm", activationRole: "layers.%d.mlp.act_fn",
	}}}, "apertus")
	register(family{spec: rotating, names: map[string]names{"GGUF": {feedForwardNorm: "blk.%d.post_attention_norm", postMixer: ""}}}, "seed_oss")
	register(family{spec: ernie}, "ernie4_5")
}

func llama(c *weights.Checkpoint, s *Spec) error {
	if err := s.rotate(c); err != nil {
		return err
	}
	s.Ropes[0].Adjacent = c.Layout == "GGUF"
	return divide(c, "rope_freqs.weight", s.Ropes[0].Angles)
}

// rotating rotates pairs half a head apart in every layout.
func rotating(c *weights.Checkpoint, s *Spec) error { return s.rotate(c) }

// smollm3 does not rotate in some layers. GGUF files do not say in which.
func smollm3(c *weights.Checkpoint, s *Spec) error {
	rotates := c.Facts.Flags("no_rope_layers") // by its name the opposite
	every := c.Facts.Int("no_rope_layer_interval")
	if every < 1 {
		every = 4
	}
	if rotates != nil && len(rotates) != len(s.Layers) {
		return errors.New("no_rope_layers has not one element for each layer")
	}
	s.each(func(i int, l *LayerSpec) {
		if rotates != nil && !rotates[i] || rotates == nil && (i+1)%every == 0 {
			l.Attention.Rope = -1
		}
	})
	return llama(c, s)
}

func arcee(c *weights.Checkpoint, s *Spec) error {
	s.each(func(_ int, l *LayerSpec) { l.FeedForward.Gated, l.FeedForward.Activation = false, SquaredReLU })
	return llama(c, s)
}

// ministral3 sharpens attention as texts get longer than those that it was trained with, and does so in no other way.
func ministral3(c *weights.Checkpoint, s *Spec) error {
	by := c.Facts.Float("rope_parameters.llama_4_scaling_beta", "attention.temperature_scale")
	if r := &c.Hyper.Rope; c.Layout == "GGUF" && c.Facts.Float("rope.scaling.yarn_log_multiplier") > 0 {
		r.Magnitude, r.MagnitudeAll = 1, 1
	}
	s.each(func(_ int, l *LayerSpec) {
		if by != 0 {
			l.Attention.Temper = Temper{By: by, Every: float64(c.Hyper.Rope.Original)}
		}
	})
	return llama(c, s)
}

func apertus(c *weights.Checkpoint, s *Spec) error {
	s.each(func(_ int, l *LayerSpec) {
		l.Attention.QKNorm, l.FeedForward.Gated, l.FeedForward.Activation = HeadQKNorm, false, XIELU
	})
	if c.Layout == "GGUF" {
		return errors.New("GGUF files of the family are not supported; use the folder")
	}
	return s.rotate(c)
}

// ernie has pairs side by side in every layout.
func ernie(c *weights.Checkpoint, s *Spec) error {
	err := s.rotate(c)
	s.Ropes[0].Adjacent = true
	return err
}

// divide divides angles by what a tensor holds, if there is one.
func divide(c *weights.Checkpoint, name string, angles []float64) error {
	divisors, err := floats(c, name, len(angles))
	for i, d := range divisors {
		angles[i] /= float64(d)
	}
	return err
}

// floats reads a small tensor that a Spec needs; nil if there is none, or only its header.
func floats(c *weights.Checkpoint, name string, n int) ([]float32, error) {
	t, ok := c.Find(name)
	if !ok || t.Data == nil {
		return nil, nil
	}
	m, err := tensor.NewMatrix(t.Type, 1, n, t.Data, nil)
	if err != nil {
		return nil, err
	}
	v := make([]float32, n)
	m.Row(v, 0)
	return v, nil
}

func inverseRoot(x float64) float32 { return float32(1 / math.Sqrt(x)) }

// orElse is a number, or another if it is 0.
func orElse(x, otherwise float64) float64 {
	if x == 0 {
		return otherwise
	}
	return x
}
