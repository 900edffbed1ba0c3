package model

import (
	"errors"

	"kindredgate/internal/weights"
)

// The bailing family has queries, keys and values in one matrix, norms on queries and keys, and experts from groups.
func init() {
	register(family{spec: bailing, besides: further, names: map[string]names{"safetensors": {
		embedding: "word_embeddings", queryKeyValue: "layers.%d.attention.query_key_value", attentionOut: "layers.%d.attention.dense",
		queryNorm: "layers.%d.attention.query_layernorm", keyNorm: "layers.%d.attention.key_layernorm", routerBias: "layers.%d.mlp.gate.expert",
	}}}, "bailing_moe", "bailing_moe_v2")
}

func bailing(c *weights.Checkpoint, s *Spec) error {
	if c.Layout == "GGUF" {
		return errors.New("GGUF files of the family are not supported; use the folder")
	}
	if err := mixture(c, s, false); err != nil {
		return err
	}
	if c.Facts.Is(false, "use_qk_norm") {
		s.each(func(_ int, l *LayerSpec) { l.Attention.QKNorm = HeadQKNorm })
	}
	return s.rotate(c)
}
