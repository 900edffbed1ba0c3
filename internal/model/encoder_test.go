package model

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"kindredgate/internal/kv"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/safetensors"
)

// tower is an encoder in plain float64, one text at a time, written for these tests alone.
type tower struct {
	w       map[string][]float64
	dim     int
	heads   int
	epsilon float64
}

func (e *tower) linear(x []float64, name string) []float64 {
	w, bias := e.w[name+".weight"], e.w[name+".bias"]
	out := make([]float64, len(w)/len(x))
	for r := range out {
		for c, v := range x {
			out[r] += w[r*len(x)+c] * v
		}
		if bias != nil {
			out[r] += bias[r]
		}
	}
	return out
}

func (e *tower) norm(x []float64, name string) []float64 {
	mean, variance := 0.0, 0.0
	for _, v := range x {
		mean += v / float64(len(x))
	}
	for _, v := range x {
		variance += (v - mean) * (v - mean) / float64(len(x))
	}
	out := make([]float64, len(x))
	for i, v := range x {
		out[i] = (v - mean) / math.Sqrt(variance+e.epsilon) * e.w[name+".weight"][i]
		if bias := e.w[name+".bias"]; bias != nil {
			out[i] += bias[i]
		}
	}
	return out
}

// rotated turns dimensions i and i + n/2 of each head, by complex numbers.
func (e *tower) rotated(x []float64, pos int, base float64) []float64 {
	n := e.dim / e.heads
	out := make([]float64, len(x))
	for h := range e.heads {
		for i := range n / 2 {
			turn := complex(math.Cos(float64(pos)*math.Pow(base, -2*float64(i)/float64(n))), math.Sin(float64(pos)*math.Pow(base, -2*float64(i)/float64(n))))
			z := complex(x[h*n+i], x[h*n+i+n/2]) * turn
			out[h*n+i], out[h*n+i+n/2] = real(z), imag(z)
		}
	}
	return out
}

// attention of vectors with queries, keys and values side by side; a position sees those at most reach away.
func (e *tower) attention(qkv [][]float64, base float64, reach int) [][]float64 {
	n := e.dim / e.heads
	out := make([][]float64, len(qkv))
	for i := range qkv {
		out[i] = make([]float64, e.dim)
		for h := range e.heads {
			total, weights := 0.0, make([]float64, len(qkv))
			for j := range qkv {
				if j < i-reach || j > i+reach {
					continue
				}
				q, k := qkv[i][:e.dim], qkv[j][e.dim:2*e.dim]
				if base > 0 {
					q, k = e.rotated(q, i, base), e.rotated(k, j, base)
				}
				score := 0.0
				for d := range n {
					score += q[h*n+d] * k[h*n+d]
				}
				weights[j] = math.Exp(score / math.Sqrt(float64(n)))
				total += weights[j]
			}
			for j, w := range weights {
				for d := range n {
					out[i][h*n+d] += w / total * qkv[j][2*e.dim+h*n+d]
				}
			}
		}
	}
	return out
}

func sum(a, b []float64) []float64 {
	out := make([]float64, len(a))
	for i := range a {
		out[i] = a[i] + b[i]
	}
	return out
}

func gelu(x float64) float64 { return x * 0.5 * (1 + math.Erf(x/math.Sqrt2)) }
func silu(x float64) float64 { return x / (1 + math.Exp(-x)) }

// family is how a kind of encoder is made and computed.
type encoderKind struct {
	config string
	shapes map[string][]int
	run    func(e *tower, ids, types []int32) []float64
}

var encoderKinds = map[string]encoderKind{
	"modernbert that scores": {
		config: `{"model_type": "modernbert", "architectures": ["ModernBertForSequenceClassification"], "id2label": {"0": "LABEL_0"}, "hidden_size": 32, "num_attention_heads": 2, "num_hidden_layers": 4, "intermediate_size": 24,
			"max_position_embeddings": 128, "vocab_size": 50, "norm_eps": 1e-5, "norm_bias": false, "local_attention": 8, "global_attn_every_n_layers": 3, "global_rope_theta": 160000.0, "local_rope_theta": 10000.0,
			"hidden_activation": "gelu", "classifier_pooling": "mean"}`,
		shapes: map[string][]int{"model.embeddings.tok_embeddings": {50, 32}, "model.embeddings.norm": {32}, "model.final_norm": {32}, "head.dense": {32, 32}, "head.norm": {32}, "classifier": {1, 32}, "classifier.bias": {1},
			"model.layers.%d.attn.Wqkv": {96, 32}, "model.layers.%d.attn.Wo": {32, 32}, "model.layers.%d.attn_norm": {32}, "model.layers.%d.mlp.Wi": {48, 32}, "model.layers.%d.mlp.Wo": {32, 24}, "model.layers.%d.mlp_norm": {32}},
		run: func(e *tower, ids, _ []int32) []float64 {
			var x [][]float64
			for _, id := range ids {
				x = append(x, e.norm(e.w["model.embeddings.tok_embeddings.weight"][int(id)*32:][:32], "model.embeddings.norm"))
			}
			for l := range 4 {
				at := fmt.Sprintf("model.layers.%d.", l)
				base, reach := 160000.0, len(ids)
				if l%3 != 0 {
					base, reach = 10000, 4
				}
				var qkv [][]float64
				for _, v := range x {
					if l > 0 {
						v = e.norm(v, at+"attn_norm")
					}
					qkv = append(qkv, e.linear(v, at+"attn.Wqkv"))
				}
				for i, v := range e.attention(qkv, base, reach) {
					x[i] = sum(x[i], e.linear(v, at+"attn.Wo"))
					both := e.linear(e.norm(x[i], at+"mlp_norm"), at+"mlp.Wi")
					hidden := make([]float64, 24)
					for j := range hidden {
						hidden[j] = gelu(both[j]) * both[24+j]
					}
					x[i] = sum(x[i], e.linear(hidden, at+"mlp.Wo"))
				}
			}
			mean := make([]float64, 32)
			for _, v := range x {
				for j, y := range e.norm(v, "model.final_norm") {
					mean[j] += y / float64(len(x))
				}
			}
			v := e.linear(mean, "head.dense")
			for j := range v {
				v[j] = gelu(v[j])
			}
			return []float64{1 / (1 + math.Exp(-e.linear(e.norm(v, "head.norm"), "classifier")[0]))}
		},
	},
	"roberta that scores": {
		config: `{"model_type": "xlm-roberta", "architectures": ["XLMRobertaForSequenceClassification"], "id2label": {"0": "LABEL_0"}, "hidden_size": 32, "num_attention_heads": 2, "num_hidden_layers": 2, "intermediate_size": 40,
			"max_position_embeddings": 66, "vocab_size": 50, "layer_norm_eps": 1e-5, "pad_token_id": 1, "type_vocab_size": 1, "hidden_act": "gelu", "position_embedding_type": "absolute"}`,
		shapes: map[string][]int{"roberta.embeddings.word_embeddings": {50, 32}, "roberta.embeddings.position_embeddings": {66, 32}, "roberta.embeddings.token_type_embeddings": {1, 32}, "roberta.embeddings.LayerNorm": {32}, "roberta.embeddings.LayerNorm.bias": {32},
			"classifier.dense": {32, 32}, "classifier.dense.bias": {32}, "classifier.out_proj": {1, 32}, "classifier.out_proj.bias": {1},
			"roberta.encoder.layer.%d.attention.self.query": {32, 32}, "roberta.encoder.layer.%d.attention.self.query.bias": {32}, "roberta.encoder.layer.%d.attention.self.key": {32, 32}, "roberta.encoder.layer.%d.attention.self.key.bias": {32},
			"roberta.encoder.layer.%d.attention.self.value": {32, 32}, "roberta.encoder.layer.%d.attention.self.value.bias": {32}, "roberta.encoder.layer.%d.attention.output.dense": {32, 32}, "roberta.encoder.layer.%d.attention.output.dense.bias": {32},
			"roberta.encoder.layer.%d.attention.output.LayerNorm": {32}, "roberta.encoder.layer.%d.attention.output.LayerNorm.bias": {32}, "roberta.encoder.layer.%d.intermediate.dense": {40, 32}, "roberta.encoder.layer.%d.intermediate.dense.bias": {40},
			"roberta.encoder.layer.%d.output.dense": {32, 40}, "roberta.encoder.layer.%d.output.dense.bias": {32}, "roberta.encoder.layer.%d.output.LayerNorm": {32}, "roberta.encoder.layer.%d.output.LayerNorm.bias": {32}},
		run: func(e *tower, ids, _ []int32) []float64 {
			var x [][]float64
			for i, id := range ids {
				v := sum(e.w["roberta.embeddings.word_embeddings.weight"][int(id)*32:][:32], e.w["roberta.embeddings.position_embeddings.weight"][(i+2)*32:][:32])
				x = append(x, e.norm(sum(v, e.w["roberta.embeddings.token_type_embeddings.weight"]), "roberta.embeddings.LayerNorm"))
			}
			for l := range 2 {
				at := fmt.Sprintf("roberta.encoder.layer.%d.", l)
				var qkv [][]float64
				for _, v := range x {
					qkv = append(qkv, append(append(e.linear(v, at+"attention.self.query"), e.linear(v, at+"attention.self.key")...), e.linear(v, at+"attention.self.value")...))
				}
				for i, v := range e.attention(qkv, 0, len(ids)) {
					x[i] = e.norm(sum(x[i], e.linear(v, at+"attention.output.dense")), at+"attention.output.LayerNorm")
					hidden := e.linear(x[i], at+"intermediate.dense")
					for j := range hidden {
						hidden[j] = gelu(hidden[j])
					}
					x[i] = e.norm(sum(x[i], e.linear(hidden, at+"output.dense")), at+"output.LayerNorm")
				}
			}
			v := e.linear(x[0], "classifier.dense")
			for j := range v {
				v[j] = math.Tanh(v[j])
			}
			return []float64{1 / (1 + math.Exp(-e.linear(v, "classifier.out_proj")[0]))}
		},
	},
	"nomic-bert": {
		config: `{"model_type": "nomic_bert", "architectures": ["NomicBertModel"], "n_embd": 32, "n_head": 2, "n_layer": 2, "n_inner": 40, "n_positions": 64, "vocab_size": 50, "layer_norm_epsilon": 1e-12, "type_vocab_size": 2,
			"rotary_emb_base": 1000, "rotary_emb_fraction": 1.0, "rotary_emb_interleaved": false, "activation_function": "swiglu", "prenorm": false}`,
		shapes: map[string][]int{"embeddings.word_embeddings": {50, 32}, "embeddings.token_type_embeddings": {2, 32}, "emb_ln": {32}, "emb_ln.bias": {32},
			"encoder.layers.%d.attn.Wqkv": {96, 32}, "encoder.layers.%d.attn.out_proj": {32, 32}, "encoder.layers.%d.norm1": {32}, "encoder.layers.%d.norm1.bias": {32}, "encoder.layers.%d.norm2": {32}, "encoder.layers.%d.norm2.bias": {32},
			"encoder.layers.%d.mlp.fc11": {40, 32}, "encoder.layers.%d.mlp.fc12": {40, 32}, "encoder.layers.%d.mlp.fc2": {32, 40}},
		run: func(e *tower, ids, types []int32) []float64 {
			var x [][]float64
			for i, id := range ids {
				x = append(x, e.norm(sum(e.w["embeddings.word_embeddings.weight"][int(id)*32:][:32], e.w["embeddings.token_type_embeddings.weight"][int(types[i])*32:][:32]), "emb_ln"))
			}
			for l := range 2 {
				at := fmt.Sprintf("encoder.layers.%d.", l)
				var qkv [][]float64
				for _, v := range x {
					qkv = append(qkv, e.linear(v, at+"attn.Wqkv"))
				}
				for i, v := range e.attention(qkv, 1000, len(ids)) {
					x[i] = e.norm(sum(x[i], e.linear(v, at+"attn.out_proj")), at+"norm1")
					hidden, gate := e.linear(x[i], at+"mlp.fc11"), e.linear(x[i], at+"mlp.fc12")
					for j := range hidden {
						hidden[j] *= silu(gate[j])
					}
					x[i] = e.norm(sum(x[i], e.linear(hidden, at+"mlp.fc2")), at+"norm2")
				}
			}
			mean, length := make([]float64, 32), 0.0
			for _, v := range x {
				mean = sum(mean, v)
			}
			for _, v := range mean {
				length += v * v
			}
			for j := range mean {
				mean[j] /= math.Sqrt(length)
			}
			return mean
		},
	},
}

// Encoders that no fixture has give what a plain computation in double precision gives.
func TestEncodersEqualPlainOnes(t *testing.T) {
	for name, kind := range encoderKinds {
		t.Run(name, func(t *testing.T) {
			c := &weights.Checkpoint{}
			if err := safetensors.Configure(c, []byte(kind.config)); err != nil {
				t.Fatal(err)
			}
			e := &tower{w: map[string][]float64{}, dim: 32, heads: 2, epsilon: c.Hyper.NormEpsilon}
			random := rand.New(rand.NewPCG(1, uint64(len(name))))
			for pattern, shape := range kind.shapes {
				for l := range 4 {
					at := fill(pattern, l, 0)
					if l > 0 && at == pattern || l >= c.Hyper.Layers {
						break
					}
					if pattern == "model.layers.%d.attn_norm" && l == 0 {
						continue
					}
					if len(at) < 5 || at[len(at)-5:] != ".bias" {
						at += ".weight"
					}
					n := 1
					for _, d := range shape {
						n *= d
					}
					raw, values := make([]byte, 4*n), make([]float64, n)
					for i := range values {
						x := float32(random.NormFloat64() * 0.3)
						if len(shape) == 1 && at[len(at)-5:] != ".bias" {
							x++
						}
						values[i] = float64(x)
						binary.LittleEndian.PutUint32(raw[4*i:], math.Float32bits(x))
					}
					e.w[at] = values
					c.Tensors = append(c.Tensors, weights.Tensor{Name: at, Type: weights.F32, Shape: shape, Data: raw})
				}
			}
			m, err := Load(c)
			if err != nil {
				t.Fatal(err)
			}
			ids, types := made(30, 4, 50), make([]int32, 30)
			for i := 17; i < len(types) && m.Types > 1; i++ {
				types[i] = 1
			}
			pool := kv.NewPool(m.KVShape(), kv.F32, 1<<24)
			got, err := m.Encode(nil, m.NewScratch(60, 0), pool, []Text{{ids, types}, {ids[:20], types[:20]}})
			if err != nil {
				t.Fatal(err)
			}
			for n, text := range [][2][]int32{{ids, types}, {ids[:20], types[:20]}} {
				want := kind.run(e, text[0], text[1])
				if len(got[n]) != len(want) {
					t.Fatalf("text %d: %d numbers, want %d", n, len(got[n]), len(want))
				}
				for i := range want {
					if d := math.Abs(float64(got[n][i]) - want[i]); !(d < 2e-6) {
						t.Fatalf("text %d: number %d is %g, want %g", n, i, got[n][i], want[i])
					}
				}
			}
		})
	}
}
