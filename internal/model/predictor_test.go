package model

import (
	"math"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// headed is a checkpoint whose prediction head is whole: what a fixture lacks of it is taken from its last layer.
func headed(t *testing.T, folder, from, to string) *weights.Checkpoint {
	t.Helper()
	c := checkpoint(t, "testdata/families/"+folder+"/hf")
	for _, one := range slices.Clone(c.Tensors) {
		i := strings.Index(one.Name, from)
		if i < 0 {
			continue
		}
		name := to + one.Name[i+len(from):]
		if _, there := c.Find(name); !there {
			one.Name = name
			c.Tensors = append(c.Tensors, one)
		}
	}
	c.Index()
	return c
}

// naive is a matrix times a vector in float64.
func naive(w *linear, x []float64) []float32 {
	out, row := make([]float32, w.Rows), make([]float32, w.Cols)
	for r := range out {
		w.Row(row, r)
		sum := 0.0
		for i, v := range row {
			sum += float64(v) * x[i]
		}
		out[r] = float32(sum)
	}
	return out
}

// normed64 is the RMS norm of a vector in float64.
func normed64(m *Model, x []float64, weight []float32) []float64 {
	mean := 0.0
	for _, v := range x {
		mean += v * v / float64(len(x))
	}
	out := make([]float64, len(x))
	for i, v := range x {
		out[i] = v / math.Sqrt(mean+float64(m.Epsilon)) * float64(weight[i])
	}
	return out
}

// A prediction head is a network of one layer, into which goes, of each token, what joins the next token's embedding and what the network makes
// of it. So the logits are those of such a network, which is given rows in the place of embeddings; in one step, and token by token.
func TestPredictionHeads(t *testing.T) {
	for name, c := range map[string]*weights.Checkpoint{
		"glm4moe":     headed(t, "glm4moe", "-", "-"),
		"glm4moelite": headed(t, "glm4moelite", "model.layers.1.", "model.layers.2."),
		"qwen35":      headed(t, "qwen35", "layers.3.", "mtp.layers.0."),
		"qwen35moe":   headed(t, "qwen35moe", "layers.3.", "mtp.layers.0."),
		"qwen3-next":  headed(t, "qwen3-next", "layers.3.", "mtp.layers.0."),
	} {
		t.Run(name, func(t *testing.T) {
			loaded, err := Load(c)
			if err != nil {
				t.Fatal(err)
			}
			if !loaded.Predicts() {
				t.Fatal("the prediction head is not there")
			}
			if s, err := Describe(c); err != nil || s.Predictor == nil || len(s.KVShape().Layers) != len(s.Layers)+1 {
				t.Errorf("it is described without the head: %v", err)
			}
			m := exact(t, loaded)
			ids := []int32{5, 17, 3, 99, 42, 7, 23, 61, 12}
			p := m.predictor
			alone := &Model{Spec: m.Spec, plain: m.plain, outputNorm: p.norm, output: *p.output, layers: m.layers[len(m.Layers):]}
			alone.Layers, alone.Predictor = []LayerSpec{*m.Predictor}, nil

			r := newRunner(t, m, nil, kv.F32, len(ids))
			var rows [][]float32
			var whole []Token
			for _, id := range ids[:len(ids)-1] {
				whole = append(whole, Token{ID: id, KV: r.seq})
			}
			m.Forward(nil, r.s, whole)
			embedding := make([]float32, m.Dim)
			var next []Ahead
			for i := range whole {
				m.embedding.Row(embedding, int(ids[i+1]))
				wide := func(x []float32) (out []float64) {
					for _, v := range x {
						out = append(out, float64(v))
					}
					return out
				}
				both := append(normed64(m, wide(embedding), p.nextNorm.weight), normed64(m, normed64(m, wide(r.s.at[stream].Vec(i)), m.outputNorm.weight), p.hiddenNorm.weight)...)
				rows = append(rows, naive(&p.join, both))
				next = append(next, Ahead{Row: i, Next: Token{ID: ids[i+1]}, Logits: i%2 == 1})
			}
			var got [][]float32
			for _, l := range m.Predict(nil, r.s, whole, next) {
				got = append(got, slices.Clone(l))
			}

			seq := kv.NewPool(alone.KVShape(), kv.F32, 1<<26).NewSequence(0)
			if err := seq.Reserve(len(ids)); err != nil {
				t.Fatal(err)
			}
			var tokens []Token
			for i, row := range rows {
				tokens = append(tokens, Token{KV: seq, Row: row, Logits: i%2 == 1})
			}
			want := alone.Forward(nil, alone.NewScratch(len(ids), len(ids)), tokens)
			if len(got) != len(want) {
				t.Fatalf("logits of %d tokens, not %d", len(got), len(want))
			}
			for i := range want {
				if worst := logitError(got[i], want[i], 1); !(worst < 1e-4) {
					t.Errorf("logits %d are off by %g", i, worst)
				}
			}

			// Token by token, each time after a draft that was taken back.
			r = newRunner(t, m, nil, kv.F32, len(ids)+1)
			for i := range whole {
				if m.KVShape().State == 0 {
					m.Forward(nil, r.s, []Token{{ID: ids[i], KV: r.seq}, {ID: 1, KV: r.seq}})
					r.seq.Truncate(i + 1)
				} else {
					m.Forward(nil, r.s, []Token{{ID: ids[i], KV: r.seq}})
				}
				logits := m.Predict(nil, r.s, []Token{{ID: ids[i], KV: r.seq}}, []Ahead{{Next: Token{ID: ids[i+1]}, Logits: true}})
				if i%2 == 0 {
					continue
				}
				if worst := logitError(logits[0], want[i/2], 1); !(worst < 1e-4) {
					t.Errorf("token by token, logits %d are off by %g", i/2, worst)
				}
			}
		})
	}
	if m := open(t, "testdata/families/qwen35/hf"); m.Predicts() {
		t.Error("a head that is not whole is used")
	}
	c := headed(t, "glm4moe", "-", "-")
	for i := range c.Tensors {
		if strings.HasSuffix(c.Tensors[i].Name, "eh_proj.weight") {
			c.Tensors[i].Shape = []int{c.Tensors[i].Shape[1], c.Tensors[i].Shape[0]}
		}
	}
	c.Index()
	if m, err := Load(c); err != nil || m.Predicts() {
		t.Errorf("with a head of another shape: %v", err)
	}
}

// The matrices of a head are prepared as others are, each once.
func TestMatricesOfHeads(t *testing.T) {
	m := open(t, "testdata/families/glm4moe/hf")
	seen := map[*tensor.Matrix]bool{}
	for _, w := range m.Matrices() {
		if seen[w] {
			t.Errorf("a matrix of %d × %d is there twice", w.Rows, w.Cols)
		}
		seen[w] = true
	}
	if !seen[&m.predictor.join.Matrix] || !seen[m.predictor.output] || !seen[&m.layers[2].attention.query.Matrix] {
		t.Error("matrices of the head are missing")
	}
}
