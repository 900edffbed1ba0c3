package model

import (
	"encoding/binary"
	"encoding/json"
	"math"
	"os"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights/gguf"
)

// vectors are outputs that another program computed in double precision from the same files.
type vectors struct {
	Std     float64 `json:"logit_std"`
	Prompts []struct {
		Name       string       `json:"name"`
		IDs        []int32      `json:"ids"`
		Argmax     []int32      `json:"argmax"`
		LastLogits []float32    `json:"last_logits"`
		Greedy     []int32      `json:"greedy"`
		Top10      [][2]float64 `json:"top10"`
		ArgmaxAll  []int32      `json:"argmax_per_position"`
		GreedyIDs  []int32      `json:"greedy_ids"`
	} `json:"prompts"`
}

func readVectors(t testing.TB, path string) vectors {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	var v vectors
	if err := json.Unmarshal(raw, &v); err != nil {
		t.Fatal(err)
	}
	return v
}

func open(t testing.TB, path string) *Model {
	t.Helper()
	f, err := gguf.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	m, err := Load(f)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func argmax(x []float32) int32 {
	best := 0
	for i, v := range x {
		if v > x[best] {
			best = i
		}
	}
	return int32(best)
}

// exact replaces every matrix of m by its float32 values, so that only the graph is under test.
func exact(t testing.TB, m *Model) *Model {
	t.Helper()
	expand := func(w *tensor.Matrix) {
		values := make([]float32, w.Rows*w.Cols)
		for r := range w.Rows {
			w.Row(values[r*w.Cols:(r+1)*w.Cols], r)
		}
		raw := make([]byte, 0, 4*len(values))
		for _, v := range values {
			raw = binary.LittleEndian.AppendUint32(raw, math.Float32bits(v))
		}
		var err error
		if *w, err = tensor.NewMatrix(tensor.F32, w.Rows, w.Cols, raw); err != nil {
			t.Fatal(err)
		}
	}
	expand(&m.embedding)
	expand(&m.output)
	for i := range m.layers {
		l := &m.layers[i]
		for _, w := range []*tensor.Matrix{&l.query, &l.key, &l.value, &l.attentionOut, &l.gate, &l.up, &l.down} {
			expand(w)
		}
	}
	return m
}

// run feeds ids to a new sequence in steps of the given number of rows and returns a copy of the logits
// after each, and the sequence's cache.
func run(m *Model, team *tensor.Team, s *Scratch, ids []int32, step int) ([][]float32, *Cache) {
	cache := m.NewCache()
	var all [][]float32
	for chunk := range slices.Chunk(ids, step) {
		rows := make([]Row, len(chunk))
		for i, id := range chunk {
			rows[i] = Row{Token: id, Cache: cache, Logits: true}
		}
		for _, l := range m.Forward(team, s, rows) {
			all = append(all, slices.Clone(l))
		}
	}
	return all, cache
}

func greedy(m *Model, team *tensor.Team, s *Scratch, cache *Cache, logits []float32, n int) []int32 {
	var out []int32
	for range n {
		next := argmax(logits)
		out = append(out, next)
		logits = m.Forward(team, s, []Row{{Token: next, Cache: cache, Logits: true}})[0]
	}
	return out
}

// The tolerance is the largest logit error in units of the logits' standard deviation. With the weights as
// float32 only rounding is left. In the fast path activations are rounded to 8 bits as well: each is off by up
// to 1/254 of its block's largest, which these networks, 64 wide with random weights, turn into about 0.1.
const (
	graphTolerance     = 3e-4
	quantizedTolerance = 0.15
)

func TestLogitsEqualReference(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	for _, name := range []string{
		"llama.f32",
		"llama.f16",
		"llama.q8_0",
		"llama-rope3.f32", // divisors of the rotary frequencies, tied embedding
		"mistral.f32",     // sliding window
	} {
		t.Run(name, func(t *testing.T) {
			m := open(t, "testdata/"+name+".gguf")
			v := readVectors(t, "testdata/"+name+".json")
			if m.layers[0].query.Type == tensor.Q8_0 {
				for _, p := range v.Prompts {
					all, _ := run(m, team, m.NewScratch(64, 64), p.IDs, 64)
					if worst := logitError(all[len(all)-1], p.LastLogits, v.Std); !(worst < quantizedTolerance) {
						t.Errorf("quantised: logits are off by %.2g standard deviations", worst)
					}
				}
				m = exact(t, m)
			}
			for _, p := range v.Prompts {
				for _, step := range []int{1, 7, 64} {
					s := m.NewScratch(64, 64)
					all, cache := run(m, team, s, p.IDs, step)
					last := all[len(all)-1]
					if worst := logitError(last, p.LastLogits, v.Std); !(worst < graphTolerance) {
						t.Errorf("step %d: logits are off by %.2g standard deviations", step, worst)
					}
					for i, l := range all {
						if got := argmax(l); got != p.Argmax[i] {
							t.Errorf("step %d: argmax at position %d is %d, want %d", step, i, got, p.Argmax[i])
						}
					}
					if got := greedy(m, team, s, cache, last, len(p.Greedy)); !slices.Equal(got, p.Greedy) {
						t.Errorf("step %d: greedy continuation\n%v, want\n%v", step, got, p.Greedy)
					}
				}
			}
		})
	}
}

func logitError(got, want []float32, std float64) float64 {
	worst := 0.0
	for i, w := range want {
		worst = max(worst, math.Abs(float64(got[i]-w))/std)
	}
	return worst
}

// The sample model's vectors were computed from its dequantised weights. The logits have a spread of about
// 5, so the tolerance of the fast path is about 2 % of it.
func TestHarbourEqualsReference(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	const path = "../../demo/models/harbour-4m/harbour-4m-q8_0.gguf"
	fast, graph := open(t, path), exact(t, open(t, path))
	for _, p := range readVectors(t, "testdata/harbour-q8_0.json").Prompts {
		t.Run(p.Name, func(t *testing.T) {
			top := func(logits []float32) float64 {
				worst := 0.0
				for _, top := range p.Top10 {
					worst = max(worst, math.Abs(float64(logits[int(top[0])])-top[1]))
				}
				return worst
			}
			s := graph.NewScratch(512, 512)
			all, _ := run(graph, team, s, p.IDs, 512)
			if worst := top(all[len(all)-1]); !(worst < 2e-4) {
				t.Errorf("the ten best logits are off by up to %.3g", worst)
			}
			for i, l := range all {
				if got := argmax(l); got != p.ArgmaxAll[i] {
					t.Errorf("argmax at position %d is %d, want %d", i, got, p.ArgmaxAll[i])
				}
			}

			all, cache := run(fast, team, s, p.IDs, 512)
			last := all[len(all)-1]
			if worst := top(last); !(worst < 0.1) {
				t.Errorf("quantised: the ten best logits are off by up to %.3g", worst)
			}
			if got := greedy(fast, team, s, cache, last, len(p.GreedyIDs)); !slices.Equal(got, p.GreedyIDs) {
				t.Errorf("quantised: greedy continuation\n%v, want\n%v", got, p.GreedyIDs)
			}
		})
	}
}

func TestLoadRefuses(t *testing.T) {
	for _, c := range []struct {
		name, want string
		change     func(*gguf.File)
	}{
		{"unknown architecture", `architecture "abacus" is not supported`, func(f *gguf.File) { f.Metadata["general.architecture"] = "abacus" }},
		{"missing key", "metadata llama.block_count is missing", func(f *gguf.File) { delete(f.Metadata, "llama.block_count") }},
		{"wrong type", "metadata llama.block_count is a string", func(f *gguf.File) { f.Metadata["llama.block_count"] = "two" }},
		{"no layers", "the block count is 0", func(f *gguf.File) { f.Metadata["llama.block_count"] = uint32(0) }},
		{"too many layers", "tensor blk.2.attn_norm.weight is missing", func(f *gguf.File) { f.Metadata["llama.block_count"] = uint32(3) }},
		{"uneven heads", "cannot share", func(f *gguf.File) { f.Metadata["llama.attention.head_count_kv"] = uint32(3) }},
		{"other shape", "has dimensions", func(f *gguf.File) { f.Metadata["llama.feed_forward_length"] = uint32(65) }},
		{"experts", "mixtures of experts", func(f *gguf.File) { f.Metadata["llama.expert_count"] = uint32(8) }},
		{"scaled rope", `rope scaling of type "yarn"`, func(f *gguf.File) { f.Metadata["llama.rope.scaling.type"] = "yarn" }},
		{"odd rotation", "rotated dimensions", func(f *gguf.File) { f.Metadata["llama.rope.dimension_count"] = uint32(15) }},
		{"infinite epsilon", "out of range", func(f *gguf.File) {
			f.Metadata["llama.attention.layer_norm_rms_epsilon"] = float32(math.NaN())
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, err := gguf.Open("testdata/llama.q8_0.gguf")
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			c.change(f)
			if _, err := Load(f); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("error %v, want one with %q", err, c.want)
			}
		})
	}
}

func BenchmarkDecode(b *testing.B) {
	m := open(b, "../../demo/models/harbour-4m/harbour-4m-q8_0.gguf")
	team := tensor.NewTeam(0)
	defer team.Close()
	s := m.NewScratch(64, 1)
	cache := m.NewCache()
	for b.Loop() {
		if cache.Len() == 256 {
			cache = m.NewCache()
		}
		m.Forward(team, s, []Row{{Token: 65, Cache: cache, Logits: true}})
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "tokens/s")
}

func BenchmarkPrefill(b *testing.B) {
	m := open(b, "../../demo/models/harbour-4m/harbour-4m-q8_0.gguf")
	team := tensor.NewTeam(0)
	defer team.Close()
	s := m.NewScratch(64, 1)
	const tokens = 256
	for b.Loop() {
		cache := m.NewCache()
		for range tokens / 64 {
			rows := make([]Row, 64)
			for i := range rows {
				rows[i] = Row{Token: int32(i), Cache: cache}
			}
			m.Forward(team, s, rows)
		}
	}
	b.ReportMetric(float64(b.N*tokens)/b.Elapsed().Seconds(), "tokens/s")
}

// The vectors of the sample embedding model equal those that another program computed, within what rounding
// activations to 8 bits makes of them; and alone or in one batch they are the same.
func TestEmbeddingsEqualTheVectors(t *testing.T) {
	raw, err := os.ReadFile("testdata/embed-q8_0.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Texts []struct {
			IDs       []int32   `json:"ids"`
			Embedding []float32 `json:"embedding"`
		} `json:"texts"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	m := open(t, "../../demo/models/harbour-embed/harbour-embed-q8_0.gguf")
	if m.Causal || m.Pooling != PoolMean {
		t.Fatalf("causal %v, pooling %d", m.Causal, m.Pooling)
	}
	team := tensor.NewTeam(0)
	defer team.Close()
	var texts [][]int32
	total := 0
	for _, text := range doc.Texts {
		texts = append(texts, text.IDs)
		total += len(text.IDs)
	}
	together := m.Encode(team, m.NewScratch(total, 0), texts)
	for i := range texts {
		if alone := m.Encode(team, m.NewScratch(len(texts[i]), 0), texts[i:i+1]); !slices.Equal(alone[0], together[i]) {
			t.Errorf("text %d: alone it has another vector than among others", i)
		}
	}
	graph := exact(t, m).Encode(team, m.NewScratch(total, 0), texts)
	for i, text := range doc.Texts {
		for j, want := range text.Embedding {
			if d := math.Abs(float64(graph[i][j] - want)); d > 2e-6 {
				t.Fatalf("text %d, dimension %d: the graph is off by %g", i, j, d)
			}
			if d := math.Abs(float64(together[i][j] - want)); d > 0.01 {
				t.Fatalf("text %d, dimension %d: off by %g", i, j, d)
			}
		}
	}
}
