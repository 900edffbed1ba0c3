package model

import "kindredgate/internal/weights"

// The bert family are encoders with a vector for each position and each kind of token, layer norms after each sum, and a
// feed-forward without a gate (Devlin et al., "BERT", 2018). Its pooler is not used for embeddings.
func init() {
	register(family{spec: bert, names: map[string]names{
		"GGUF": {attentionNorm: "blk.%d.attn_output_norm", feedForwardNorm: "blk.%d.layer_output_norm"},
		"safetensors": {
			embedding: "embeddings.word_embeddings", positions: "embeddings.position_embeddings", tokenTypes: "embeddings.token_type_embeddings", embeddingNorm: "embeddings.LayerNorm",
			query: "encoder.layer.%d.attention.self.query", key: "encoder.layer.%d.attention.self.key", value: "encoder.layer.%d.attention.self.value",
			attentionOut: "encoder.layer.%d.attention.output.dense", attentionNorm: "encoder.layer.%d.attention.output.LayerNorm",
			up: "encoder.layer.%d.intermediate.dense", down: "encoder.layer.%d.output.dense", feedForwardNorm: "encoder.layer.%d.output.LayerNorm",
		},
	}}, "bert")
}

func bert(c *weights.Checkpoint, s *Spec) error {
	s.LayerNorm, s.EmbeddingNorm, s.OutputNorm = true, true, false
	s.Positions, s.Types = s.Context, max(1, c.Hyper.Types)
	s.Causal = false
	if s.Pooling == weights.PoolNone {
		s.Pooling = weights.PoolMean
	}
	for i := range s.Layers {
		l := &s.Layers[i]
		l.PreNorm, l.SumNorm, l.Gated, l.Rope = false, true, false, -1
		if c.Hyper.Activation == "" {
			l.Activation = GELU
		}
	}
	return nil
}
