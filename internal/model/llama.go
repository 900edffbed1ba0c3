package model

import (
	"math"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// The llama family: pre-norm blocks with RMSNorm, grouped-query attention, rotary positions, a gated feed-forward with
// SiLU, or experts in its place. Its GGUF files have the rows of the query and key matrices permuted so that dimensions 2i
// and 2i+1 of a head rotate together, and may carry divisors of the rotary frequencies as a tensor.
func init() {
	register(family{spec: llama, names: map[string]names{
		"safetensors": {
			router:     "layers.%d.block_sparse_moe.gate",
			expertGate: "layers.%d.block_sparse_moe.experts.%d.w1", expertUp: "layers.%d.block_sparse_moe.experts.%d.w3", expertDown: "layers.%d.block_sparse_moe.experts.%d.w2",
		},
	}}, "llama", "mistral", "mixtral")
}

func llama(c *weights.Checkpoint, s *Spec) error {
	if err := s.rotate(c); err != nil {
		return err
	}
	s.Ropes[0].Adjacent = c.Layout == "GGUF"
	return divide(c, "rope_freqs.weight", s.Ropes[0].Angles)
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
