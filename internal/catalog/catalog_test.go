package catalog

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
)

const (
	harbour = "../../demo/models/harbour-4m/harbour-4m-q8_0.gguf"
	llama   = "../model/testdata/llama.f32.gguf"
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
	install(t, harbour, dir+"/deep/er/harbour-4m-q8_0.gguf")
	if err := os.WriteFile(dir+"/notes.txt", []byte("not a model"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(dir+"/Broken File.gguf", []byte("GGUF"), 0o644); err != nil {
		t.Fatal(err)
	}
	c := New(dir, dir+"/missing")
	models, err := c.Models()
	if err != nil || !slices.Equal(ids(models), []string{"broken-file", "harbour-4m"}) {
		t.Fatalf("%v, %v", ids(models), err)
	}
	if m := models[1]; m.Use != Chat || m.Parameters != 3_672_320 && m.Parameters < 3_600_000 || m.Weights != "Q8_0" ||
		m.ContextLength != 2048 || m.License != "CC0-1.0" || !m.Usable() {
		t.Errorf("harbour-4m: %+v", m)
	}
	if m := models[0]; m.Usable() || !strings.Contains(m.Problem, "ends in the middle of its header") {
		t.Errorf("broken file: %+v", m)
	}

	// What changes on the disk shows the next time.
	install(t, harbour, dir+"/Broken File.gguf")
	models, err = c.Models()
	if want := []string{"broken-file", "harbour-4m-q8_0"}; err != nil || !slices.Equal(ids(models), want) {
		t.Errorf("two of the same name: %v, %v; want the files' names %v", ids(models), err, want)
	}
}

func TestFindNamesTheNearest(t *testing.T) {
	dir := t.TempDir()
	install(t, harbour, dir+"/h.gguf")
	for _, name := range []string{"alpha", "beta", "gamma", "delta", "epsilon", "zeta"} {
		install(t, harbour, dir+"/"+name+".gguf")
	}
	c := New(dir)
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
	if _, err := New(t.TempDir()).Find("x"); err == nil || !strings.Contains(err.Error(), "no model is") {
		t.Errorf("in an empty folder: %v", err)
	}
	install(t, llama, dir+"/other.gguf")
	if _, err := c.Find("llama"); err == nil || !strings.Contains(err.Error(), `pre-tokenizer "llama-bpe" is not supported`) {
		t.Errorf("a model that cannot be used: %v", err)
	}
}
