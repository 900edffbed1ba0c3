package model

import "kindredgate/internal/weights"

// The olmo2 family has norms on what each sublayer gives rather than on what it takes, and norms on all queries and all
// keys together.
func init() {
	register(family{spec: olmo2, names: map[string]names{"safetensors": {
		postAttention: "layers.%d.post_attention_layernorm", postFeedForward: "layers.%d.post_feedforward_layernorm", attentionNorm: "", feedForwardNorm: "",
	}}}, "olmo2")
}

func olmo2(c *weights.Checkpoint, s *Spec) error {
	for i := range s.Layers {
		l := &s.Layers[i]
		l.PreNorm, l.PostNorm, l.QKNorm = false, true, FullQKNorm
	}
	return s.rotate(c)
}
