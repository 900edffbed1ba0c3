package model

import (
	"fmt"

	"kindredgate/internal/weights"
)

// The bert family are encoders with a vector for each position and each kind of token, layer norms after each sum, and a
// feed-forward without a gate (Devlin et al., "BERT", 2018). Its pooler is not used for embeddings.
func init() {
	register(family{spec: bert, gguf: "bert", names: map[string]names{
		"GGUF": {mixerNorm: "blk.%d.attn_output_norm", feedForwardNorm: "blk.%d.layer_output_norm"},
		"safetensors": {
			embedding: "embeddings.word_embeddings", positions: "embeddings.position_embeddings", tokenTypes: "embeddings.token_type_embeddings", embeddingNorm: "embeddings.LayerNorm",
			queryRole: "encoder.layer.%d.attention.self.query", keyRole: "encoder.layer.%d.attention.self.key", valueRole: "encoder.layer.%d.attention.self.value",
			attentionOut: "encoder.layer.%d.attention.output.dense", mixerNorm: "encoder.layer.%d.attention.output.LayerNorm",
			upRole: "encoder.layer.%d.intermediate.dense", downRole: "encoder.layer.%d.output.dense", feedForwardNorm: "encoder.layer.%d.output.LayerNorm",
		},
	}}, "bert")
}

func bert(c *weights.Checkpoint, s *Spec) error {
	s.Norm, s.EmbeddingNorm, s.OutputNorm = LayerNorm, true, false
	s.Positions, s.Types = s.Context, max(1, c.Hyper.Types)
	s.Causal = false
	if s.Pooling == weights.PoolNone {
		s.Pooling = weights.PoolMean
	}
	if by := c.Facts.Text("position_embedding_type"); by != "" && by != "absolute" {
		return fmt.Errorf("positions of type %.40q are not supported", by)
	}
	s.each(func(_ int, l *LayerSpec) {
		l.Order, l.FeedForward.Gated, l.Attention.Rope = NormSum, false, -1
		if c.Hyper.Activation == "" {
			l.FeedForward.Activation = GELU
		}
	})
	return nil
}
