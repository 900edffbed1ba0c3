package catalog

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
)

const (
	harbour = "../../demo/models/harbour-4m/harbour-4m.gguf"
	llama   = "../model/testdata/reference/llama/model.f32.gguf"
)

func install(t testing.TB, from, to string) {
	t.Helper()
	raw, err := os.ReadFile(from)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(to, raw, 0o644); err != nil {
		t.Fatal(err)
	}
}

func ids(models []Model) (list []string) {
	for _, m := range models {
		list = append(list, m.ID)
	}
	return list
}

func TestModelsAreFoundWithTheirFacts(t *testing.T) {
	dir := t.TempDir()
	install(t, harbour, dir+"/deep/er/harbour-4m.gguf")
	if err := os.WriteFile(dir+"/notes.txt", []byte("not a model"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(dir+"/Broken File.gguf", []byte("GGUF"), 0o644); err != nil {
		t.Fatal(err)
	}
	c := New(nil, dir, dir+"/missing")
	models, err := c.Models()
	if err != nil || !slices.Equal(ids(models), []string{"broken-file", "harbour-4m"}) {
		t.Fatalf("%v, %v", ids(models), err)
	}
	if m := models[1]; m.Use != Chat || m.Parameters != 3_672_320 || m.Weights != "Q8_0" ||
		m.ContextLength != 2048 || m.License != "CC0-1.0" || !m.Usable() {
		t.Errorf("harbour-4m: %+v", m)
	}
	if m := models[0]; m.Usable() || !strings.Contains(m.Problem, "ends in the middle of its header") {
		t.Errorf("broken file: %+v", m)
	}

	// What changes on the disk shows the next time.
	install(t, harbour, dir+"/Broken File.gguf")
	models, err = c.Models()
	if want := []string{"broken-file", "harbour-4m"}; err != nil || !slices.Equal(ids(models), want) || !models[0].Usable() {
		t.Errorf("a file that was mended: %v, %v; want %v", models, err, want)
	}
}

func TestFindNamesTheNearest(t *testing.T) {
	dir := t.TempDir()
	install(t, harbour, dir+"/h.gguf")
	for _, name := range []string{"alpha", "beta", "gamma", "delta", "epsilon", "zeta"} {
		install(t, harbour, dir+"/"+name+".gguf")
	}
	c := New(nil, dir)
	for _, q := range []struct{ id, want string }{
		{"alpa", `model "alpa" is not installed; the nearest of the 7 installed: alpha, `},
		{"GAMMA", `the nearest of the 7 installed: gamma, `},
	} {
		_, err := c.Find(q.id)
		var e *exchange.Error
		if !errors.As(err, &e) || e.Kind != exchange.NotFound || e.Code != "model_not_found" || e.Param != "model" || !strings.Contains(e.Message, q.want) {
			t.Errorf("%s: %v, want %q", q.id, err, q.want)
		}
	}
	if _, err := New(nil, t.TempDir()).Find("x"); err == nil || !strings.Contains(err.Error(), "no model is") {
		t.Errorf("in an empty folder: %v", err)
	}
	install(t, llama, dir+"/other.gguf")
	raw, err := os.ReadFile(dir + "/other.gguf")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(dir+"/other.gguf", bytes.ReplaceAll(raw, []byte("llama"), []byte("abacu")), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Find("other"); err == nil || !strings.Contains(err.Error(), `model "other" cannot be used: architecture "abacu" is not supported; docs/models.md lists `) {
		t.Errorf("a model that cannot be used: %v", err)
	}
}

// A name that a model has once got stays its own, whatever arrives, also over a restart.
func TestNamesStay(t *testing.T) {
	dir, keep := t.TempDir(), memory{}
	install(t, llama, dir+"/b/boat.gguf")
	c := New(keep, dir)
	for range 2 {
		models, err := c.Models()
		if err != nil || models[0].ID != "boat" || !strings.HasSuffix(models[0].Path, "b/boat.gguf") {
			t.Fatalf("%+v, %v", models, err)
		}
		install(t, llama, dir+"/a/boat.gguf") // before the first in order
		install(t, llama, dir+"/boat.gguf")   // and nearer to the top
		if models, err = c.Models(); err != nil || !slices.Equal(ids(models), []string{"boat", "boat-2", "boat-3"}) || !strings.HasSuffix(models[0].Path, "b/boat.gguf") {
			t.Errorf("%v, %v", ids(models), err)
		}
		c = New(keep, dir)
	}
}

// memory keeps names as a database does.
type memory map[string]string

func (m memory) ModelNames() (map[string]string, error) { return maps.Clone(m), nil }
func (m memory) NameModel(path, name string) error      { m[path] = name; return nil }

// A folder of safetensors is a model like a file, and so is the first of several parts; what is not whole says so.
func TestFoldersAndParts(t *testing.T) {
	dir := t.TempDir()
	if err := os.CopyFS(dir+"/gemma", os.DirFS("../model/testdata/reference/gemma-embed/hf")); err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(dir+"/half", os.DirFS("../model/testdata/reference/qwen3/hf")); err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(dir + "/half/model-00002-of-00002.safetensors"); err != nil {
		t.Fatal(err)
	}
	install(t, llama, dir+"/two-00002-of-00002.gguf") // without the first
	models, err := New(nil, dir).Models()
	if err != nil || !slices.Equal(ids(models), []string{"gemma", "half", "two"}) {
		t.Fatalf("%v, %v", ids(models), err)
	}
	if m := models[0]; m.Use != Embedding || m.Dimensions != 64 || m.Layout != "safetensors" || m.Weights != "BF16" || m.Parameters != 108_288 {
		t.Errorf("%+v", m)
	}
	if m := models[1]; m.Usable() || !m.Arriving || !strings.Contains(m.Problem, "1 of its 2 weight files are missing, model-00002-of-00002.safetensors among them") {
		t.Errorf("%+v", m)
	}
}

// What changes is looked at again, and what stays cut is not for ever on its way.
func TestChangesAreSeen(t *testing.T) {
	dir := t.TempDir()
	file := dir + "/boat.gguf"
	raw, err := os.ReadFile(llama)
	if err != nil {
		t.Fatal(err)
	}
	c := New(nil, dir)
	hourAgo := time.Now().Add(-time.Hour)
	for _, step := range []struct {
		what             string
		size             int
		at               time.Time
		usable, arriving bool
	}{
		{"half of it just now", len(raw) / 2, time.Now(), false, true},
		{"half of it, since an hour", len(raw) / 2, hourAgo, false, false},
		{"all of it", len(raw), hourAgo, true, false},
		{"half of it again", len(raw) / 2, hourAgo, false, false},
	} {
		if err := os.WriteFile(file, raw[:step.size], 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(file, step.at, step.at); err != nil {
			t.Fatal(err)
		}
		models, err := c.Models()
		if err != nil || len(models) != 1 || models[0].Usable() != step.usable || models[0].Arriving != step.arriving {
			t.Errorf("%s: %+v, %v", step.what, models, err)
		}
	}
}

// What is listed comes from headers alone: 20 models with vocabularies of 150,000 tokens.
func BenchmarkList20(b *testing.B) {
	dir := b.TempDir()
	c, err := gguf.Open(harbour)
	if err != nil {
		b.Fatal(err)
	}
	defer c.Close()
	const vocabulary = 150_000
	tokens, kinds, merges := make([]string, vocabulary), make([]int32, vocabulary), make([]string, vocabulary)
	for i := range tokens {
		tokens[i], kinds[i], merges[i] = fmt.Sprintf("tok%d", i), 1, fmt.Sprintf("to k%d", i)
	}
	metadata := []gguf.Entry{{Key: "general.architecture", Value: "llama"}, {Key: "llama.context_length", Value: uint32(8192)}, {Key: "llama.embedding_length", Value: uint32(32)}, {Key: "llama.block_count", Value: uint32(1)},
		{Key: "llama.feed_forward_length", Value: uint32(32)}, {Key: "llama.attention.head_count", Value: uint32(1)}, {Key: "llama.attention.layer_norm_rms_epsilon", Value: float32(1e-5)},
		{Key: "tokenizer.ggml.model", Value: "gpt2"}, {Key: "tokenizer.ggml.pre", Value: "qwen2"}, {Key: "tokenizer.ggml.tokens", Value: tokens}, {Key: "tokenizer.ggml.token_type", Value: kinds},
		{Key: "tokenizer.ggml.merges", Value: merges}, {Key: "tokenizer.ggml.eos_token_id", Value: uint32(149_999)}, {Key: "tokenizer.chat_template", Value: c.ChatTemplate}}
	plan := []gguf.Plan{{Name: "token_embd.weight", Type: weights.Q8_0, Shape: []int{vocabulary, 32}}}
	for _, name := range []string{"output_norm", "blk.0.attn_norm", "blk.0.ffn_norm"} {
		plan = append(plan, gguf.Plan{Name: name + ".weight", Type: weights.F32, Shape: []int{32}})
	}
	for _, name := range []string{"attn_q", "attn_k", "attn_v", "attn_output", "ffn_gate", "ffn_up", "ffn_down"} {
		plan = append(plan, gguf.Plan{Name: "blk.0." + name + ".weight", Type: weights.Q8_0, Shape: []int{32, 32}})
	}
	for i := range 20 {
		f, err := os.Create(fmt.Sprintf("%s/%d.gguf", dir, i))
		if err != nil {
			b.Fatal(err)
		}
		if err := errors.Join(gguf.Write(f, metadata, plan, func(n int, w io.Writer) error {
			size, err := plan[n].Type.Size(plan[n].Shape)
			if err != nil {
				return err
			}
			_, err = w.Write(make([]byte, size))
			return err
		}), f.Close()); err != nil {
			b.Fatal(err)
		}
	}
	b.Run("first", func(b *testing.B) {
		for b.Loop() {
			if models, err := New(nil, dir).Models(); err != nil || len(models) != 20 || models[0].Problem != "" {
				b.Fatal(models[0].Problem, err)
			}
		}
	})
	b.Run("again", func(b *testing.B) {
		known := New(nil, dir)
		for b.Loop() {
			if models, err := known.Models(); err != nil || len(models) != 20 {
				b.Fatal(len(models), err)
			}
		}
	})
}
