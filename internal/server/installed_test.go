package server

import (
	"bufio"
	"context"
	"encoding/json"
	"iter"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/runner/scripted"
)

const fixtures = "../model/testdata/reference/"

// withModels starts a server whose models are really loaded.
func withModels(t testing.TB) *testServer {
	t.Helper()
	r := native.New(native.Options{})
	t.Cleanup(func() { r.Close() })
	return start(t, r, func(o *Options) { o.Gate.Loader, o.Gate.Prompts = r, r })
}

// addition is the last event of adding a model: the model, or the error.
func addition(t testing.TB, h *testServer, body string) (m InstalledModel, problem string) {
	t.Helper()
	resp, answer := h.do(t, http.MethodPost, "/gate/models", h.owner, body)
	if resp.Header.Get("Content-Type") == "application/json; charset=utf-8" {
		return m, answer
	}
	lines := bufio.NewScanner(strings.NewReader(answer))
	for lines.Scan() {
		raw, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok || raw == "[DONE]" {
			continue
		}
		if strings.HasPrefix(raw, `{"error"`) {
			return m, raw
		}
		matchesSchema(t, "ModelAddition", []byte(raw))
		var e Addition
		if err := json.Unmarshal([]byte(raw), &e); err != nil {
			t.Fatal(err)
		}
		if e.Model != nil {
			m = *e.Model
		}
	}
	return m, ""
}

func quoted(s string) string {
	raw, _ := json.Marshal(s)
	return string(raw)
}

// A model is added, shown, loaded, asked, unloaded and removed over HTTP, by the owner alone.
func TestModelsAreManaged(t *testing.T) {
	h := withModels(t)
	folder, err := filepath.Abs(fixtures + "qwen3/hf")
	if err != nil {
		t.Fatal(err)
	}
	if resp, _ := h.do(t, http.MethodPost, "/gate/models", h.key, `{"source": "x"}`); resp.StatusCode != http.StatusForbidden {
		t.Errorf("an application's key adds a model: %d", resp.StatusCode)
	}
	m, problem := addition(t, h, `{"source": `+quoted(folder)+`, "name": "qwen3"}`)
	if m.ID != "qwen3" || m.Layout != "safetensors" || m.Loaded || problem != "" {
		t.Fatalf("%+v, %s", m, problem)
	}
	for body, want := range map[string]string{
		`{"source": ` + quoted(folder) + `, "name": "qwen3"}`: "there is a qwen3 in",
		`{"source": "/nothing"}`:                              "no such file",
		`{"source": ` + quoted(fixtures) + `}`:                "folder without a model",
		`{}`:                                                  "source is missing",
		`{"source": "x", "speed": 1}`:                         `no field \"speed\"`,
		`{"source": "http://127.0.0.1:1/m.gguf"}`:             "connection refused",
	} {
		if strings.Contains(body, "127.0.0.1") {
			continue // waits between its tries; tested with what fetches
		}
		if m, problem := addition(t, h, body); m.ID != "" || !strings.Contains(problem, want) {
			t.Errorf("%s: %s, want %q", body, problem, want)
		}
	}
	state := func() (m InstalledModel) {
		_, answer := h.do(t, http.MethodGet, "/gate/models/qwen3", h.owner, "")
		if err := json.Unmarshal([]byte(answer), &m); err != nil {
			t.Fatal(err)
		}
		return m
	}
	ready := func() (int, string) {
		resp, answer := h.do(t, http.MethodGet, "/readyz?model=qwen3", "", "")
		return resp.StatusCode, answer
	}
	if code, answer := ready(); code != http.StatusServiceUnavailable || !strings.Contains(answer, "model_not_loaded") {
		t.Errorf("%d %s", code, answer)
	}
	if resp, answer := h.do(t, http.MethodPost, "/gate/models/qwen3/load", h.owner, `{"keep": true}`); resp.StatusCode != http.StatusOK {
		t.Fatalf("%d %s", resp.StatusCode, answer)
	}
	if code, _ := ready(); code != http.StatusOK {
		t.Errorf("loaded, but not ready: %d", code)
	}
	if m := state(); !m.Loaded || !m.Kept || m.Memory <= m.Size || m.Context == 0 {
		t.Errorf("%+v", m)
	}
	resp, answer := h.do(t, http.MethodPost, "/v1/chat/completions", h.key, `{"model": "qwen3", "max_tokens": 5, "min_p": 0.1, "repetition_penalty": 1.2, "messages": [{"role": "user", "content": "hi"}]}`)
	if resp.StatusCode != http.StatusOK {
		t.Errorf("%d %s", resp.StatusCode, answer)
	}
	// What was read before is told in the usage.
	long := `{"model": "qwen3", "max_tokens": 1, "messages": [{"role": "user", "content": "` + strings.Repeat("gate ", 80) + `"}]}`
	h.do(t, http.MethodPost, "/v1/chat/completions", h.key, long)
	var usage struct {
		Usage struct {
			Prompt  int `json:"prompt_tokens"`
			Details struct {
				Cached int `json:"cached_tokens"`
			} `json:"prompt_tokens_details"`
		} `json:"usage"`
	}
	if _, answer := h.do(t, http.MethodPost, "/v1/chat/completions", h.key, long); json.Unmarshal([]byte(answer), &usage) != nil || usage.Usage.Details.Cached < 32 || usage.Usage.Details.Cached >= usage.Usage.Prompt {
		t.Errorf("%s", answer)
	}
	if resp, _ := h.do(t, http.MethodPost, "/gate/models/qwen3/unload", h.owner, ""); resp.StatusCode != http.StatusOK || state().Loaded {
		t.Errorf("%d, loaded: %v", resp.StatusCode, state().Loaded)
	}
	resp, answer = h.do(t, http.MethodDelete, "/gate/models/qwen3?try=true", h.owner, "")
	if resp.StatusCode != http.StatusOK || !strings.Contains(answer, `"linked":true`) || state().ID != "qwen3" {
		t.Errorf("%d %s", resp.StatusCode, answer)
	}
	if resp, answer = h.do(t, http.MethodDelete, "/gate/models/qwen3", h.owner, ""); resp.StatusCode != http.StatusOK {
		t.Errorf("%d %s", resp.StatusCode, answer)
	}
	if resp, answer = h.do(t, http.MethodGet, "/gate/models/qwen3", h.owner, ""); resp.StatusCode != http.StatusNotFound {
		t.Errorf("removed, but %d %s", resp.StatusCode, answer)
	}
	if _, err := os.Stat(folder + "/config.json"); err != nil {
		t.Errorf("the files of the linked model: %v", err)
	}
}

// A stream says in its comment lines what it waits for.
func TestStreamsSayThatAModelLoads(t *testing.T) {
	h := start(t, &scripted.Runner{Before: nil}, func(o *Options) { o.Silence = 20 * time.Millisecond })
	h.server.Gate.Runner = slowly{&scripted.Runner{}}
	_, answer := h.do(t, http.MethodPost, "/v1/chat/completions", h.key, `{"model": "harbour-4m", "stream": true, "messages": [{"role": "user", "content": "hi there"}]}`)
	if !strings.Contains(answer, ": loading the model\n\n") || !strings.HasSuffix(answer, "data: [DONE]\n\n") {
		t.Errorf("%q", answer)
	}
}

// slowly is a runner whose model takes a while to load.
type slowly struct{ *scripted.Runner }

func (s slowly) Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		exchange.Report(ctx, "loading the model")
		select {
		case <-time.After(150 * time.Millisecond):
		case <-ctx.Done():
		}
		exchange.Report(ctx, "")
		s.Runner.Run(ctx, path, req)(yield)
	}
}
