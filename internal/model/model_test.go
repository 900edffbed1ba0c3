package model

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
	"kindredgate/internal/weights/safetensors"
)

// vectors are outputs that another program computed in double precision from the same files.
type vectors struct {
	Kind    string  `json:"kind"`
	Std     float64 `json:"logit_std"`
	Prompts []struct {
		Name       string       `json:"name"`
		IDs        []int32      `json:"ids"`
		Types      []int32      `json:"token_type_ids"`
		Argmax     []int32      `json:"argmax"`
		LastLogits []float32    `json:"last_logits"`
		Greedy     []int32      `json:"greedy"`
		Embedding  []float32    `json:"embedding"`
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

func checkpoint(t testing.TB, path string) *weights.Checkpoint {
	t.Helper()
	read := gguf.Open
	if filepath.Ext(path) != ".gguf" {
		read = safetensors.Open
	}
	c, err := read(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

func open(t testing.TB, path string) *Model {
	t.Helper()
	m, err := Load(checkpoint(t, path))
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
		if w.Rows == 0 {
			return
		}
		raw := make([]byte, 4*w.Rows*w.Cols)
		row := make([]float32, w.Cols)
		for r := range w.Rows {
			w.Row(row, r)
			tensor.FormatOf(weights.F32).Quantize(raw[4*r*w.Cols:4*(r+1)*w.Cols], row)
		}
		var err error
		if *w, err = tensor.NewMatrix(weights.F32, w.Rows, w.Cols, raw, nil); err != nil {
			t.Fatal(err)
		}
	}
	for _, w := range m.Matrices() {
		expand(w)
	}
	expand(&m.embedding)
	expand(&m.output)
	if m.AltUp.Streams > 0 {
		expand(&m.altUp.embedding)
	}
	return m
}

// runner runs one sequence.
type runner struct {
	m    *Model
	team *tensor.Team
	s    *Scratch
	seq  *kv.Sequence
}

func newRunner(t testing.TB, m *Model, team *tensor.Team, format kv.Format, total int) *runner {
	t.Helper()
	r := &runner{m: m, team: team, s: m.NewScratch(512, 512), seq: kv.NewPool(m.KVShape(), format, 1<<30).NewSequence(m.Variant(total))}
	if err := r.seq.Reserve(total); err != nil {
		t.Fatal(err)
	}
	return r
}

// feed puts ids through in steps of the given number of tokens and returns a copy of the logits after each.
func (r *runner) feed(ids []int32, step int) (all [][]float32) {
	for chunk := range slices.Chunk(ids, step) {
		tokens := make([]Token, len(chunk))
		for i, id := range chunk {
			tokens[i] = Token{ID: id, KV: r.seq, Logits: true}
		}
		for _, l := range r.m.Forward(r.team, r.s, tokens) {
			all = append(all, slices.Clone(l))
		}
	}
	return all
}

func (r *runner) greedy(logits []float32, n int) (out []int32) {
	for range n {
		out = append(out, argmax(logits))
		logits = r.feed(out[len(out)-1:], 1)[0]
	}
	return out
}

// files are the fixtures of every family, each with the vectors that go with it.
func files(t testing.TB) map[string]string {
	t.Helper()
	list := map[string]string{}
	folders, _ := filepath.Glob("testdata/reference/*")
	further, _ := filepath.Glob("testdata/families/*")
	if len(folders) < 19 || len(further) < 47 {
		t.Fatal(len(folders), len(further))
	}
	folders = append(folders, further...)
	for _, folder := range folders {
		list[filepath.Join(folder, "hf")] = filepath.Join(folder, "vectors.json")
		models, _ := filepath.Glob(filepath.Join(folder, "*.gguf"))
		for _, file := range models {
			kind := strings.TrimPrefix(strings.TrimSuffix(filepath.Base(file), ".gguf"), "model.")
			list[file] = filepath.Join(folder, "vectors."+kind+".json")
			if _, err := os.Stat(list[file]); err != nil {
				list[file] = filepath.Join(folder, "vectors.json")
			}
		}
	}
	return list
}

// With weights, keys and values as float32 only rounding is left: the largest logit error in units of the logits'
// standard deviation. Vectors of encoders have length 1.
const (
	graphTolerance  = 1e-4
	deltaTolerance  = 3e-4 // of delta nets, which in some prompts make rounding forty times as large
	vectorTolerance = 1e-5
)

// Every family, from both layouts, gives the logits, the continuations and the vectors that were computed independently,
// however the prompt is cut into steps.
func TestFamiliesEqualReference(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	for file, vectorFile := range files(t) {
		t.Run(strings.TrimPrefix(file, "testdata/"), func(t *testing.T) {
			if _, err := Describe(checkpoint(t, file)); err != nil { // by which models are listed
				t.Error(err)
			}
			m := exact(t, open(t, file))
			v := readVectors(t, vectorFile)
			if v.Kind == "embedding" {
				embeddingsEqual(t, team, m, v)
				return
			}
			tolerance := graphTolerance
			if slices.ContainsFunc(m.layers, func(l *layer) bool { return l.State.Kind == DeltaNet }) {
				tolerance = deltaTolerance
			}
			for _, p := range v.Prompts {
				for _, step := range []int{1, 7, 64} {
					r := newRunner(t, m, team, kv.F32, len(p.IDs)+len(p.Greedy))
					all := r.feed(p.IDs, step)
					last := all[len(all)-1]
					if worst := logitError(last, p.LastLogits, v.Std); !(worst < tolerance) {
						t.Errorf("step %d: logits are off by %.2g standard deviations", step, worst)
					}
					for i, l := range all {
						if got := argmax(l); got != p.Argmax[i] {
							t.Errorf("step %d: argmax at position %d is %d, want %d", step, i, got, p.Argmax[i])
						}
					}
					if got := r.greedy(last, len(p.Greedy)); !slices.Equal(got, p.Greedy) {
						t.Errorf("step %d: greedy continuation\n%v, want\n%v", step, got, p.Greedy)
					}
				}
			}
		})
	}
}

func embeddingsEqual(t *testing.T, team *tensor.Team, m *Model, v vectors) {
	for i, p := range v.Prompts {
		pool := kv.NewPool(m.KVShape(), kv.F32, 1<<26)
		got, err := m.Encode(team, m.NewScratch(len(p.IDs), 0), pool, []Text{{p.IDs, p.Types}})
		if err != nil {
			t.Fatal(err)
		}
		if len(got[0]) != len(p.Embedding) {
			t.Fatalf("prompt %d: %d dimensions, want %d", i, len(got[0]), len(p.Embedding))
		}
		for j, want := range p.Embedding {
			if d := math.Abs(float64(got[0][j] - want)); !(d < vectorTolerance) {
				t.Fatalf("prompt %d, dimension %d: off by %g", i, j, d)
			}
		}
		if use := pool.Use(); use.Busy != 0 {
			t.Errorf("%d pages are still in use", use.Busy)
		}
	}
}

func logitError(got, want []float32, std float64) float64 {
	worst := 0.0
	for i, w := range want {
		worst = max(worst, math.Abs(float64(got[i]-w))/std)
	}
	return worst
}

// As models are served, keys and values are half floats and, where weights are integers, activations are rounded to 8
// bits; keys and values may be bytes too. What that costs in logits is stated in docs/engine.md; continuations stay those of the vectors.
func TestServedPrecision(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	for name, tolerance := range map[string]float64{"llama/model.f32.gguf": 5e-3, "llama/model.f16.gguf": 5e-3, "llama/model.q8_0.gguf": 0.15, "gpt-oss/model.mxfp4.gguf": 0.15} {
		file := filepath.Join("testdata/reference", name)
		v := readVectors(t, files(t)[file])
		m := open(t, file)
		for _, contexts := range []kv.Format{kv.F16, kv.Q8} {
			if contexts == kv.Q8 {
				tolerance = max(tolerance, 0.2)
			}
			same, all := 0, 0
			for _, p := range v.Prompts {
				r := newRunner(t, m, team, contexts, len(p.IDs)+len(p.Greedy))
				logits := r.feed(p.IDs, 64)
				last := logits[len(logits)-1]
				if worst := logitError(last, p.LastLogits, v.Std); !(worst < tolerance) {
					t.Errorf("%s: logits are off by %.2g standard deviations", name, worst)
				}
				for i, l := range logits {
					all++
					if argmax(l) == p.Argmax[i] {
						same++
					}
				}
			}
			if same < all*95/100 {
				t.Errorf("%s: %d of %d most likely tokens are the same", name, same, all)
			}
		}
	}
}

// The sample model's vectors were computed from its dequantised weights. The logits have a spread of about
// 5, so the tolerance of the fast path is about 2 % of it.
func TestHarbourEqualsReference(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	for _, c := range []struct {
		path, vectors string
		tolerance     float64
	}{
		{"../../demo/models/harbour-4m/harbour-4m.gguf", "testdata/harbour-q8_0.json", 0.1},
		{"testdata/harbour-4m", "testdata/harbour-f16.json", 1e-2},
	} {
		fast, graph := open(t, c.path), exact(t, open(t, c.path))
		for _, p := range readVectors(t, c.vectors).Prompts {
			t.Run(filepath.Base(c.path)+"/"+p.Name, func(t *testing.T) {
				top := func(logits []float32) float64 {
					worst := 0.0
					for _, top := range p.Top10 {
						worst = max(worst, math.Abs(float64(logits[int(top[0])])-top[1]))
					}
					return worst
				}
				all := newRunner(t, graph, team, kv.F32, len(p.IDs)).feed(p.IDs, 512)
				if worst := top(all[len(all)-1]); !(worst < 2e-4) {
					t.Errorf("the ten best logits are off by up to %.3g", worst)
				}
				for i, l := range all {
					if got := argmax(l); got != p.ArgmaxAll[i] {
						t.Errorf("argmax at position %d is %d, want %d", i, got, p.ArgmaxAll[i])
					}
				}
				r := newRunner(t, fast, team, kv.F16, len(p.IDs)+len(p.GreedyIDs))
				all = r.feed(p.IDs, 512)
				last := all[len(all)-1]
				if worst := top(last); !(worst < c.tolerance) {
					t.Errorf("as served: the ten best logits are off by up to %.3g", worst)
				}
				if got := r.greedy(last, len(p.GreedyIDs)); !slices.Equal(got, p.GreedyIDs) {
					t.Errorf("as served: greedy continuation\n%v, want\n%v", got, p.GreedyIDs)
				}
			})
		}
	}
}

// made is a text of tokens that come again, as they do in texts.
func made(n, from, vocab int) []int32 {
	ids := make([]int32, n)
	for i := range ids {
		ids[i] = int32((31*from + 17*i + i*i/40) % min(vocab, 290))
	}
	return ids
}

// What a sequence gives does not depend on how it is cut into steps, on what is worked on beside it, nor on whether another one has
// read the same before, to the bit.
func TestTheSameHoweverItIsRead(t *testing.T) {
	team := tensor.NewTeam(3)
	defer team.Close()
	for file, vectorFile := range files(t) {
		if readVectors(t, vectorFile).Kind == "embedding" {
			continue
		}
		t.Run(strings.TrimPrefix(file, "testdata/"), func(t *testing.T) {
			m := open(t, file)
			n := min(270, m.Context-2)
			ids := made(n, 3, m.Vocab)
			want := newRunner(t, m, nil, kv.F16, n).feed(ids, 7)
			for _, step := range []int{1, 32, 256} {
				for i, l := range newRunner(t, m, team, kv.F16, n).feed(ids, step) {
					if !slices.Equal(l, want[i]) {
						t.Fatalf("in steps of %d, position %d has other logits than in steps of 7", step, i)
					}
				}
			}
			amongOthers(t, m, team, ids, want)
		})
	}
}

// Segments are counted from the first position of a text, wherever a window begins.
func TestSegmentsOfAWindow(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	m := open(t, "testdata/families/smollm3/hf")
	m.Context = 1024
	for _, l := range m.layers {
		l.Attention.Mask, l.Attention.Window = MaskWindow, 290
	}
	ids := made(640, 3, m.Vocab)
	want := newRunner(t, m, nil, kv.F16, len(ids)).feed(ids, 1)
	for i, l := range newRunner(t, m, team, kv.F16, len(ids)).feed(ids, 50) {
		if !slices.Equal(l, want[i]) {
			t.Fatalf("in steps of 50, position %d has other logits than in steps of 1", i)
		}
	}
}

// amongOthers reads a text beside others, and then goes on from what is known of it.
func amongOthers(t *testing.T, m *Model, team *tensor.Team, ids []int32, want [][]float32) {
	pool, s := kv.NewPool(m.KVShape(), kv.F16, 1<<26), m.NewScratch(512, 512)
	variant := m.Variant(len(ids))
	var all []*kv.Sequence
	for range 3 {
		seq := pool.NewSequence(variant)
		if err := seq.Reserve(len(ids)); err != nil {
			t.Fatal(err)
		}
		all = append(all, seq)
	}
	const known = 3 * kv.PageTokens
	for from := 0; from < len(ids); from += 50 {
		to := min(len(ids), from+50)
		if from < known && known <= to {
			all[1].KeepAt(known)
		}
		var tokens []Token
		for i, seq := range all {
			of := ids
			if i != 1 {
				of = made(len(ids), 7+i, m.Vocab)
			}
			for _, id := range of[from:max(from, min(to, len(of)-5*i*i))] {
				tokens = append(tokens, Token{ID: id, KV: seq, Logits: i == 1})
			}
		}
		for i, l := range m.Forward(team, s, tokens) {
			if !slices.Equal(l, want[from+i]) {
				t.Fatalf("beside others, position %d has other logits", from+i)
			}
		}
		for _, seq := range all {
			seq.Commit()
		}
	}
	again := pool.NewSequence(variant)
	if n := again.Match(ids[:known]); n != known {
		t.Fatalf("%d tokens are known, want %d", n, known)
	}
	if err := again.Reserve(len(ids)); err != nil {
		t.Fatal(err)
	}
	again.Mark()
	for i, l := range (&runner{m: m, team: team, s: s, seq: again}).feed(ids[known:known+30], 9) {
		if !slices.Equal(l, want[known+i]) {
			t.Fatalf("after a beginning that was known, position %d has other logits", known+i)
		}
	}
	again.Truncate(known + 11)
	if err := again.Reserve(len(ids)); err != nil {
		t.Fatal(err)
	}
	at := again.Len()
	for i, l := range (&runner{m: m, team: team, s: s, seq: again}).feed(ids[at:], 64) {
		if !slices.Equal(l, want[at+i]) {
			t.Fatalf("after some tokens were taken back, position %d has other logits", at+i)
		}
	}
}

func TestDecodingAllocatesNothing(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	for _, name := range []string{"llama/model.q8_0.gguf", "gpt-oss/model.mxfp4.gguf", "gemma2/hf"} {
		m := open(t, filepath.Join("testdata/reference", name))
		r := newRunner(t, m, team, kv.F16, 400)
		tokens := []Token{{ID: 65, KV: r.seq, Logits: true}}
		r.feed(make([]int32, 200), 64)
		if n := testing.AllocsPerRun(100, func() { m.Forward(team, r.s, tokens) }); n != 0 {
			t.Errorf("%s: %g allocations a step", name, n)
		}
	}
}

func TestLoadRefuses(t *testing.T) {
	const llama, gemma, moe = "testdata/reference/llama/model.q8_0.gguf", "testdata/reference/gemma2/hf", "testdata/reference/mixtral/model.f32.gguf"
	for _, c := range []struct {
		name, path, want string
		change           func(*weights.Checkpoint)
	}{
		{"unknown family", llama, `architecture "abacus" is not supported; docs/models.md lists`, func(c *weights.Checkpoint) { c.Architecture = "abacus" }},
		{"no layers", llama, "llama.block_count: it is missing, or out of range: 0", func(c *weights.Checkpoint) { c.Hyper.Layers = 0 }},
		{"no heads", llama, "llama.attention.head_count: it is missing", func(c *weights.Checkpoint) { c.Hyper.Heads = 0 }},
		{"too many layers", llama, "tensor blk.2.attn_norm.weight is missing", func(c *weights.Checkpoint) { c.Hyper.Layers = 3 }},
		{"too few layers", llama, "tensor blk.1.", func(c *weights.Checkpoint) { c.Hyper.Layers = 1 }},
		{"uneven heads", llama, "cannot share", func(c *weights.Checkpoint) { c.Hyper.KVHeads = 3 }},
		{"other shape", llama, "has the shape", func(c *weights.Checkpoint) { c.Hyper.FeedForward = 65 }},
		{"a layer of an endless context", llama, "is out of range", func(c *weights.Checkpoint) {
			c.Hyper.Heads, c.Hyper.KVHeads, c.Hyper.HeadDim, c.Hyper.Context = 1<<22, 1<<22, 1<<22, 1<<24
		}},
		{"details that are not understood", llama, "no such window", func(c *weights.Checkpoint) { c.Fault = errors.New("no such window") }},
		{"hyperparameters that are not known", llama, "llama.attention.scale may change", func(c *weights.Checkpoint) { c.Unknown = func() []string { return []string{"llama.attention.scale"} } }},
		{"experts", moe, "5 of 4 experts", func(c *weights.Checkpoint) { c.Hyper.ExpertsUsed = 5 }},
		{"scaled rope", llama, `rope scaling of type "spiral"`, func(c *weights.Checkpoint) { c.Hyper.Rope.Scaling = "spiral" }},
		{"dynamic by nothing", llama, "dynamic by 0 is out of range", func(c *weights.Checkpoint) { c.Hyper.Rope.Scaling = "dynamic" }},
		{"yarn of nothing", llama, "yarn by 4 of 0 tokens", func(c *weights.Checkpoint) { c.Hyper.Rope.Scaling, c.Hyper.Rope.Factor = "yarn", 4 }},
		{"odd rotation", llama, "15 rotated dimensions", func(c *weights.Checkpoint) { c.Hyper.Rope.Dims = 15 }},
		{"infinite epsilon", llama, "out of range", func(c *weights.Checkpoint) { c.Hyper.NormEpsilon = math.NaN() }},
		{"activation", llama, `activation "relu6"`, func(c *weights.Checkpoint) { c.Hyper.Activation = "relu6" }},
		{"no output", llama, "the model does not use its embedding in its place", func(c *weights.Checkpoint) {
			c.Hyper.Tied = new(bool)
			c.Tensors = slices.DeleteFunc(c.Tensors, func(t weights.Tensor) bool { return t.Name == "output.weight" })
			c.Index()
		}},
		{"a tensor too many", gemma, "is not part of the gemma2 family", func(c *weights.Checkpoint) {
			c.Tensors = append(c.Tensors, weights.Tensor{Name: "model.layers.0.self_attn.lora.weight"})
		}},
		{"no embedding", gemma, "tensor embed_tokens.weight is missing", func(c *weights.Checkpoint) {
			c.Tensors = c.Tensors[1:]
			c.Index()
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			ck := checkpoint(t, c.path)
			c.change(ck)
			_, described := Describe(ck) // by which models are listed
			_, loaded := Load(ck)
			for _, err := range []error{described, loaded} {
				if err == nil || !strings.Contains(err.Error(), c.want) {
					t.Errorf("error %v, want one with %q", err, c.want)
				}
			}
		})
	}
	var unknown *UnknownFamilyError
	c := checkpoint(t, llama)
	c.Architecture = "abacus"
	if _, err := Describe(c); !errors.As(err, &unknown) {
		t.Errorf("%v is no *UnknownFamilyError", err)
	}
}

// The table of what runs has every family.
func TestModelsAreDocumented(t *testing.T) {
	raw, err := os.ReadFile("../../docs/models.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range Families() {
		if !strings.Contains(string(raw), "`"+name+"`") {
			t.Errorf("docs/models.md has no %s", name)
		}
	}
}

// Hyperparameters that make no sense are refused when the model is looked at, by the name that its config.json has for them.
func TestSenselessHyperparameters(t *testing.T) {
	for _, c := range []struct{ family, field, value, want string }{
		{"qwen2moe", "num_experts_per_tok", "9", "layer 0: num_experts_per_tok: 9 of 8 experts cannot be used"},
		{"granitemoe", "num_local_experts", "-1", "num_local_experts: -1 experts are out of range"},
		{"minimax-m2", "num_experts_per_tok", "0", "num_experts_per_tok: 0 of"},
		{"ernie45moe", "moe_k", "99", "layer 1: moe_k: 99 of"},
		{"ernie45moe", "moe_num_shared_experts", "1e15", "moe_num_shared_experts: 4194305 is out of range"},
		{"deepseek2", "n_shared_experts", "1e15", "layer 1: n_shared_experts: 4194305 is out of range"},
		{"deepseek3", "n_group", "3", "topk_group: 2 of 3 groups of 8 experts"},
		{"deepseek3", "topk_group", "5", "topk_group: 5 of 4 groups of 8 experts"},
		{"bailing2", "topk_group", "0", "topk_group: 0 of"},
		{"deepseek3", "kv_lora_rank", "-4", "kv_lora_rank: -4 is out of range"},
		{"deepseek3", "qk_nope_head_dim", "0", "qk_nope_head_dim: 0 is out of range"},
		{"deepseek2", "q_lora_rank", "-1", "q_lora_rank: -1 is out of range"},
		{"exaone4", "sliding_window", "-8", "layer 0: sliding_window: a window of -8 positions"},
		{"llama4", "attention_chunk_size", "-8", "layer 0: attention_chunk_size: a window of -8 positions"},
		{"cohere", "num_key_value_heads", "4", "num_key_value_heads: 3 query heads cannot share 4"},
		{"qwen35", "rope_parameters.mrope_section", "[1, 1, 1]", "rope_parameters.mrope_section: sections [1 1 1] do not add up to the 4 pairs"},
		{"qwen35", "rope_parameters.mrope_section", "[4, -1, -1]", "rope_parameters.mrope_section: sections [4 -1 -1] do not add up"},
		{"granite-hybrid", "mamba_d_state", "1099511627776", "mamba_d_state: 1099511627776 is out of range"},
		{"granite-hybrid", "mamba_n_groups", "3", "mamba_n_groups: "},
		{"granite-hybrid", "mamba_n_heads", "0", "mamba_d_head: 0 is out of range"},
		{"falcon-h1", "mamba_d_conv", "-4", "mamba_d_conv: -4 is out of range"},
		{"nemotron-h", "ssm_state_size", "-1", "ssm_state_size: -1 is out of range"},
		{"jamba", "mamba_expand", "-2", "mamba_expand: -"},
		{"jamba", "mamba_dt_rank", "0", "mamba_dt_rank: 0 is out of range"},
		{"lfm2", "conv_L_cache", "0", "conv_L_cache: 0 is out of range"},
		{"qwen3-next", "linear_num_key_heads", "3", "linear_num_key_heads: 4 heads of the state cannot be divided among 3 groups"},
		{"qwen3-next", "linear_key_head_dim", "1e12", "linear_key_head_dim: 1000000000000 is out of range"},
		{"smollm3", "hidden_size", "-1", "hidden_size: it is missing, or out of range: -1"},
		{"smollm3", "num_hidden_layers", "1e9", "num_hidden_layers: it is missing, or out of range"},
		{"olmo3", "rms_norm_eps", "-1", "rms_norm_eps: -1 is out of range"},
		{"gemma", "hidden_size", `"wide"`, `hidden_size is "wide", not a whole number`},
	} {
		t.Run(c.family+"/"+c.field+"/"+c.value, func(t *testing.T) {
			from := "testdata/families/" + c.family + "/hf/"
			raw, err := os.ReadFile(from + "config.json")
			if err != nil {
				t.Fatal(err)
			}
			var config map[string]any
			if err := json.Unmarshal([]byte(strings.ReplaceAll(string(raw), "Infinity", "null")), &config); err != nil {
				t.Fatal(err)
			}
			at := config
			if inner, ok := config["text_config"].(map[string]any); ok {
				at = inner
			}
			path := strings.Split(c.field, ".")
			for _, name := range path[:len(path)-1] {
				at = at[name].(map[string]any)
			}
			if _, there := at[path[len(path)-1]]; !there {
				t.Fatal("there is no such field")
			}
			at[path[len(path)-1]] = json.RawMessage(c.value)
			raw, err = json.Marshal(config)
			if err != nil {
				t.Fatal(err)
			}
			folder := t.TempDir()
			files, _ := filepath.Glob(from + "*.safetensors")
			for _, file := range files {
				data, err := os.ReadFile(file)
				if err := errors.Join(err, os.WriteFile(filepath.Join(folder, filepath.Base(file)), data, 0o600)); err != nil {
					t.Fatal(err)
				}
			}
			if err := os.WriteFile(filepath.Join(folder, "config.json"), raw, 0o600); err != nil {
				t.Fatal(err)
			}
			ck, err := safetensors.Open(folder)
			if err == nil {
				t.Cleanup(func() { ck.Close() })
				_, err = Describe(ck)
			}
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("error %v, want one with %q", err, c.want)
			}
		})
	}
}

// A base that grows with the length has a form for each doubling, and none for lengths that the network was trained with.
func TestDynamicRotations(t *testing.T) {
	w := &weights.Rope{Scaling: "dynamic", Factor: 2, Original: 1000}
	r, err := newRope(w, 10_000, 8, 3000)
	if err != nil {
		t.Fatal(err)
	}
	if err := r.check(); err != nil || len(r.Longer) != 2 {
		t.Fatalf("%v, %+v", err, r.Longer)
	}
	for _, c := range []struct {
		tokens, variant int
		length          float64 // that the base is for; 0 for as it is
	}{{1000, 0, 0}, {1001, 1, 2000}, {2000, 1, 2000}, {2001, 2, 3000}, {3000, 2, 3000}} {
		base := 10_000.0
		if c.length > 0 {
			base *= math.Pow(2*c.length/1000-1, 8.0/6)
		}
		if got := r.variant(c.tokens); got != c.variant {
			t.Errorf("%d tokens: form %d, want %d", c.tokens, got, c.variant)
		}
		for i, a := range r.angles(c.variant) {
			if want := math.Pow(base, -float64(i)/4); math.Abs(a-want) > 1e-12 {
				t.Errorf("%d tokens: pair %d turns by %g, want %g", c.tokens, i, a, want)
			}
		}
	}
}

func BenchmarkDecode(b *testing.B) {
	m := open(b, "../../demo/models/harbour-4m/harbour-4m.gguf")
	team := tensor.NewTeam(0)
	defer team.Close()
	r := newRunner(b, m, team, kv.F16, 256)
	tokens := []Token{{ID: 65, KV: r.seq, Logits: true}}
	for b.Loop() {
		if r.seq.Len() == 256 {
			r.seq.Release()
			if err := r.seq.Reserve(256); err != nil {
				b.Fatal(err)
			}
		}
		m.Forward(team, r.s, tokens)
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "tokens/s")
}

func BenchmarkPrefill(b *testing.B) {
	m := open(b, "../../demo/models/harbour-4m/harbour-4m.gguf")
	team := tensor.NewTeam(0)
	defer team.Close()
	const length = 256
	r := newRunner(b, m, team, kv.F16, length)
	for b.Loop() {
		r.seq.Release()
		if err := r.seq.Reserve(length); err != nil {
			b.Fatal(err)
		}
		for range length / 64 {
			tokens := make([]Token, 64)
			for i := range tokens {
				tokens[i] = Token{ID: int32(i), KV: r.seq}
			}
			m.Forward(team, r.s, tokens)
		}
	}
	b.ReportMetric(float64(b.N*length)/b.Elapsed().Seconds(), "tokens/s")
}

// The vectors of the sample embedding model equal those that another program computed, within what rounding
// activations to 8 bits makes of them; and alone or in one batch they are the same.
func TestEmbeddingsEqualTheVectors(t *testing.T) {
	team := tensor.NewTeam(0)
	defer team.Close()
	for _, c := range []struct {
		path, vectors string
		tolerance     float64
	}{
		{"../../demo/models/harbour-embed/harbour-embed.gguf", "testdata/embed-q8_0.json", 0.01},
		{"testdata/harbour-embed", "testdata/embed-f16.json", 1e-5},
	} {
		var doc struct {
			Texts []struct {
				IDs       []int32   `json:"ids"`
				Embedding []float32 `json:"embedding"`
			} `json:"texts"`
		}
		raw, err := os.ReadFile(c.vectors)
		if err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(raw, &doc); err != nil {
			t.Fatal(err)
		}
		m := open(t, c.path)
		if m.Causal || m.Pooling != weights.PoolMean {
			t.Fatalf("causal %v, pooling %d", m.Causal, m.Pooling)
		}
		var texts []Text
		total := 0
		for _, text := range doc.Texts {
			texts = append(texts, Text{IDs: text.IDs})
			total += len(text.IDs)
		}
		encode := func(m *Model, texts []Text) [][]float32 {
			out, err := m.Encode(team, m.NewScratch(total, 0), kv.NewPool(m.KVShape(), kv.F32, 1<<28), texts)
			if err != nil {
				t.Fatal(err)
			}
			return out
		}
		together := encode(m, texts)
		for i := range texts {
			if alone := encode(m, texts[i:i+1]); !slices.Equal(alone[0], together[i]) {
				t.Errorf("%s, text %d: alone it has another vector than among others", c.path, i)
			}
		}
		graph := encode(exact(t, m), texts)
		for i, text := range doc.Texts {
			for j, want := range text.Embedding {
				if d := math.Abs(float64(graph[i][j] - want)); d > 2e-6 {
					t.Fatalf("%s, text %d, dimension %d: the graph is off by %g", c.path, i, j, d)
				}
				if d := math.Abs(float64(together[i][j] - want)); d > c.tolerance {
					t.Fatalf("%s, text %d, dimension %d: off by %g", c.path, i, j, d)
				}
			}
		}
	}
}

func ExampleDescribe() {
	c, err := gguf.Open("testdata/reference/gpt-oss/model.mxfp4.gguf")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer c.Close()
	s, err := Describe(c)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(s.Architecture, len(s.Layers), "layers,", s.Layers[0].FeedForward.Experts.Used, "of", s.Layers[0].FeedForward.Experts.Count, "experts,", s.Context, "tokens")
	// Output: gpt-oss 2 layers, 2 of 4 experts, 4096 tokens
}

// However many threads there are, steps give the same to the bit: of few tokens, whose segments are worked on side by side, and of many, which are shared out
// token by token.
func TestTeamsGiveTheSame(t *testing.T) {
	m := open(t, "../../demo/models/harbour-4m/harbour-4m.gguf")
	ids := make([]int32, 3*segment+70)
	for i := range ids {
		ids[i] = int32(i*7919) % int32(m.Vocab)
	}
	var want [][]float32
	for _, size := range []int{1, 2, 8} {
		team := tensor.NewTeam(size)
		r := newRunner(t, m, team, kv.F16, len(ids)+3)
		got := r.feed(ids, 257)
		got = append(got, r.feed([]int32{5, 6, 7}, 1)...)
		team.Close()
		if size == 1 {
			want = got
			continue
		}
		for i := range want {
			if !slices.Equal(got[i], want[i]) {
				t.Fatalf("with %d threads the logits at position %d are others", size, i)
			}
		}
	}
}
