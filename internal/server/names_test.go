package server

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// What answers under a public name is decided here, and changed without the applications; no name hides another.
func TestPublicNames(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(req *exchange.Request) []string { return []string{req.Turns[0].Text()} }})
	ask := func(model, key string) (status int, body string) {
		t.Helper()
		resp, body := h.do(t, "POST", "/v1/generate", key, `{"model":"`+model+`","prompt":"When?"}`)
		return resp.StatusCode, body
	}
	set := func(name, target string, status int, want string) {
		t.Helper()
		resp, body := h.do(t, "PUT", "/gate/names", h.owner, `{"name":"`+name+`","of":[{"to":"`+target+`"}]}`)
		if resp.StatusCode != status || !strings.Contains(body, want) {
			t.Errorf("%s by %s: %d %s, wanted %q", name, target, resp.StatusCode, body, want)
		}
	}
	if resp, body := h.do(t, "POST", "/gate/presets", h.owner, `{"name":"master","model":"harbour-4m","instructions":"Be cheerful."}`); resp.StatusCode != 201 {
		t.Fatal(body)
	}
	if status, body := ask("vendor/large:latest", h.key); status != 404 {
		t.Errorf("%d %s", status, body)
	}
	set("vendor/large:latest", "harbour-4m", 200, "harbour-4m")
	if status, body := ask("vendor/large:latest", h.key); status != 200 || !strings.Contains(body, `"When?"`) || !strings.Contains(body, `"model":"vendor/large:latest"`) {
		t.Errorf("%d %s", status, body)
	}
	if r := <-h.records; r.Model != "vendor/large:latest" || r.Answered != "harbour-4m" || r.Preset != "" {
		t.Errorf("%+v", r)
	}
	set("vendor/large:latest", "master", 200, "master") // the flip of a switch
	if status, body := ask("vendor/large:latest", h.key); status != 200 || !strings.Contains(body, "Be cheerful.") {
		t.Errorf("%d %s", status, body)
	}
	if resp, body := h.do(t, "GET", "/v1/models", h.key, ""); resp.StatusCode != 200 || !strings.Contains(body, `"id":"vendor/large:latest"`) || !strings.Contains(body, `"target":"master"`) {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	// A key may be for the name alone, whatever answers.
	narrow, _ := h.issueWith(t, `{"label":"by name","models":["vendor/large:latest"]}`)
	if status, body := ask("vendor/large:latest", narrow); status != 200 {
		t.Errorf("%d %s", status, body)
	}
	if status, body := ask("harbour-4m", narrow); status != 403 {
		t.Errorf("%d %s", status, body)
	}
	// The star catches what nothing else has; a model that has just come is not caught.
	set("*", "harbour-4m", 200, "harbour-4m")
	if status, body := ask("whatever", h.key); status != 200 {
		t.Errorf("%d %s", status, body)
	}
	if status, body := ask("whatever", narrow); status != 403 {
		t.Errorf("%d %s", status, body)
	}
	raw, err := os.ReadFile("../../demo/models/harbour-embed/harbour-embed.gguf")
	if err != nil {
		t.Fatal(err)
	}
	models := filepath.Dir(h.answeredBy(t))
	if err := os.WriteFile(filepath.Join(models, "newcomer.gguf"), raw, 0o600); err != nil {
		t.Fatal(err)
	}
	if status, body := ask("newcomer", h.key); status != 400 || !strings.Contains(body, "makes embeddings") {
		t.Errorf("%d %s", status, body)
	}
	for _, c := range []struct{ name, target, want string }{
		{"harbour-4m", "master", "is an installed model"}, {"master", "harbour-4m", "is a preset"}, {"x", "nobody", "not installed"}, {"x", "", "of[0].to is missing"},
		{"a b", "master", "without spaces"}, {"gpt*", "master", "a star alone"}, {"", "master", "1 to 128"}, {"x", "vendor/large:latest", "not installed"},
	} {
		set(c.name, c.target, 400, c.want)
	}
	if resp, body := h.do(t, "POST", "/gate/presets", h.owner, `{"name":"second","model":"harbour-4m"}`); resp.StatusCode != 201 {
		t.Fatal(body)
	}
	set("short", "second", 200, "second")
	if resp, body := h.do(t, "POST", "/gate/presets", h.owner, `{"name":"short","model":"harbour-4m"}`); resp.StatusCode != 400 || !strings.Contains(body, "is a public name") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "DELETE", "/gate/presets/second", h.owner, ""); resp.StatusCode != 204 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if status, body := ask("short", h.key); status != 503 || !strings.Contains(body, "name_without_target") || !strings.Contains(body, `served by \"second\"`) {
		t.Errorf("%d %s", status, body)
	}
	for _, c := range []struct {
		name   string
		status int
	}{{"short", 204}, {"short", 404}, {"*", 204}, {"vendor/large:latest", 204}} {
		if resp, body := h.do(t, "DELETE", "/gate/names?name="+c.name, h.owner, ""); resp.StatusCode != c.status {
			t.Errorf("%s: %d %s", c.name, resp.StatusCode, body)
		}
	}
	if status, _ := ask("whatever", h.key); status != 404 {
		t.Errorf("%d", status)
	}
}

// answeredBy is where the sample model lies.
func (h *testServer) answeredBy(t *testing.T) string {
	t.Helper()
	m, err := h.server.Gate.Catalog.Find("harbour-4m")
	if err != nil {
		t.Fatal(err)
	}
	return m.Path
}
