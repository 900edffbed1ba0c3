package model

import (
	"fmt"
	"strings"

	"kindredgate/internal/weights"
)

// The bert family are encoders with a vector for each position and each kind of token, layer norms after each sum, and a
// feed-forward without a gate (Devlin et al., "BERT", 2018). The roberta ones leave some first positions out; nomic-bert rotates in their
// place, and gates. With a head they score how well two texts go together.
func init() {
	n := names{
		embedding: "embeddings.word_embeddings", positions: "embeddings.position_embeddings", tokenTypes: "embeddings.token_type_embeddings", embeddingNorm: "embeddings.LayerNorm",
		queryRole: "encoder.layer.%d.attention.self.query", keyRole: "encoder.layer.%d.attention.self.key", valueRole: "encoder.layer.%d.attention.self.value",
		attentionOut: "encoder.layer.%d.attention.output.dense", mixerNorm: "encoder.layer.%d.attention.output.LayerNorm",
		upRole: "encoder.layer.%d.intermediate.dense", downRole: "encoder.layer.%d.output.dense", feedForwardNorm: "encoder.layer.%d.output.LayerNorm",
		headDense: "pooler.dense", headOut: "classifier",
	}
	g := names{mixerNorm: "blk.%d.attn_output_norm", feedForwardNorm: "blk.%d.layer_output_norm"}
	register(family{spec: bert, gguf: "bert", prefixes: []string{"bert."}, names: map[string]names{"GGUF": g, "safetensors": n}}, "bert")
	roberta := names{headDense: "classifier.dense", headOut: "classifier.out_proj"}
	for r, name := range n {
		if _, other := roberta[r]; !other {
			roberta[r] = name
		}
	}
	register(family{spec: bert, prefixes: []string{"roberta."}, names: map[string]names{"safetensors": roberta}}, "roberta", "xlm-roberta")
	register(family{spec: nomicBERT, names: map[string]names{"GGUF": g, "safetensors": {
		embedding: "embeddings.word_embeddings", tokenTypes: "embeddings.token_type_embeddings", embeddingNorm: "emb_ln",
		queryKeyValue: "encoder.layers.%d.attn.Wqkv", attentionOut: "encoder.layers.%d.attn.out_proj", mixerNorm: "encoder.layers.%d.norm1", feedForwardNorm: "encoder.layers.%d.norm2",
		upRole: "encoder.layers.%d.mlp.fc11", gateRole: "encoder.layers.%d.mlp.fc12", downRole: "encoder.layers.%d.mlp.fc2", gateUp: "",
	}}}, "nomic_bert", "nomic-bert")
	register(family{spec: modernBERT, names: map[string]names{"safetensors": {
		embedding: "embeddings.tok_embeddings", embeddingNorm: "embeddings.norm", outputNorm: "final_norm", mixerNorm: "layers.%d.attn_norm", feedForwardNorm: "layers.%d.mlp_norm",
		queryKeyValue: "layers.%d.attn.Wqkv", attentionOut: "layers.%d.attn.Wo", gateUp: "layers.%d.mlp.Wi", downRole: "layers.%d.mlp.Wo",
		headDense: "head.dense", headNorm: "head.norm", headOut: "classifier",
	}}}, "modernbert")
	register(family{spec: euroBERT}, "eurobert")
}

// encode makes an encoder of a network, one that scores if its files say so.
func (s *Spec) encode(c *weights.Checkpoint, head Head, pooling weights.Pooling) error {
	s.Causal = false
	architecture := c.Facts.Texts("architectures")
	if c.Ranks || len(architecture) > 0 && strings.HasSuffix(architecture[0], "ForSequenceClassification") {
		if labels := c.Facts.Int("num_labels"); labels > 1 || c.Facts.Has("id2label.1") {
			return fmt.Errorf("a head of several labels is not supported; one that scores, with one label, is")
		}
		s.Head, s.Pooling = head, pooling
	}
	if s.Pooling == weights.PoolNone {
		s.Pooling = weights.PoolMean
	}
	return nil
}

func bert(c *weights.Checkpoint, s *Spec) error {
	s.Norm, s.EmbeddingNorm, s.OutputNorm = LayerNorm, true, false
	if c.Architecture != "bert" {
		s.FirstPosition = c.Facts.Int("pad_token_id") + 1
		if s.FirstPosition < 1 || s.FirstPosition >= s.Context {
			return fmt.Errorf("pad_token_id %d is out of range", s.FirstPosition-1)
		}
	}
	s.Positions, s.Types = s.Context, max(1, c.Hyper.Types)
	s.Context -= s.FirstPosition
	s.Trained = s.Context
	if by := c.Facts.Text("position_embedding_type"); by != "" && by != "absolute" {
		return fmt.Errorf("positions of type %.40q are not supported", by)
	}
	s.each(func(_ int, l *LayerSpec) {
		l.Order, l.FeedForward.Gated, l.Attention.Rope = NormSum, false, -1
		if c.Hyper.Activation == "" {
			l.FeedForward.Activation = GELU
		}
	})
	return s.encode(c, TanhHead, weights.PoolFirst)
}

func nomicBERT(c *weights.Checkpoint, s *Spec) error {
	f := &c.Facts
	if f.Is(false, "prenorm") || f.Is(false, "rotary_emb_interleaved") || f.Is(false, "use_rms_norm") || orElse(f.Float("rotary_emb_fraction"), 1) != 1 {
		return fmt.Errorf("prenorm, rotary_emb_interleaved, use_rms_norm or a part of heads that rotates is not supported")
	}
	s.Norm, s.EmbeddingNorm, s.OutputNorm = LayerNorm, true, false
	s.Types = max(1, c.Hyper.Types)
	switch by := f.Text("activation_function"); by {
	case "", "swiglu":
	case "geglu":
		s.each(func(_ int, l *LayerSpec) { l.FeedForward.Activation = GELU })
	default:
		return fmt.Errorf("activation %.40q is not supported", by)
	}
	s.each(func(_ int, l *LayerSpec) { l.Order = NormSum })
	c.Hyper.Rope.Base = orElse(f.Float("rotary_emb_base", "rope.freq_base"), c.Hyper.Rope.Base)
	if err := s.rotate(c); err != nil {
		return err
	}
	return s.encode(c, NoHead, weights.PoolMean)
}

// modernBERT has layers that see a window, with a rotation of their own, and after every few of them one that sees all (Warner et al., "Smarter,
// Better, Faster, Longer", 2024). The first layer has no norm before attention.
func modernBERT(c *weights.Checkpoint, s *Spec) error {
	f, h := &c.Facts, &c.Hyper
	s.Norm, s.EmbeddingNorm = Centered, true
	if f.Is(false, "norm_bias") {
		s.Norm = LayerNorm
	}
	every, types, window := max(1, f.Int("global_attn_every_n_layers")), f.Texts("layer_types"), f.Int("local_attention")
	if types != nil && len(types) != len(s.Layers) {
		return fmt.Errorf("layer_types name %d layers of %d", len(types), len(s.Layers))
	}
	global := orElse(f.Float("global_rope_theta", "rope_parameters.full_attention.rope_theta"), 160_000)
	for _, base := range []float64{global, orElse(f.Float("local_rope_theta", "rope_parameters.sliding_attention.rope_theta"), 10_000)} {
		r, err := newRope(&weights.Rope{}, base, h.HeadDim, h.Context)
		if err != nil {
			return err
		}
		s.Ropes = append(s.Ropes, r)
	}
	s.each(func(i int, l *LayerSpec) {
		l.Bare = i == 0
		if h.Activation == "" {
			l.FeedForward.Activation = GELU
		}
		l.Attention.Window = window
		if l.Attention.see(types == nil && i%every != 0 || types != nil && types[i] == "sliding_attention"); l.Attention.Mask == MaskWindow {
			l.Attention.Rope = 1
		}
	})
	pooling := weights.PoolFirst
	if f.Text("classifier_pooling") == "mean" {
		pooling = weights.PoolMean
	}
	return s.encode(c, GELUHead, pooling)
}

// euroBERT is llama that sees to both sides.
func euroBERT(c *weights.Checkpoint, s *Spec) error {
	if err := s.rotate(c); err != nil {
		return err
	}
	return s.encode(c, NoHead, weights.PoolMean)
}
