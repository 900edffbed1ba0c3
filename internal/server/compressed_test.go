package server

import (
	"compress/gzip"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// Files of the console are sent as the client takes them, and long JSON is compressed; streams and short answers are not.
func TestCompressed(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{"assets/a.js": {Data: []byte("plain")}, "assets/a.js.br": {Data: []byte("as br")}, "assets/a.js.gz": {Data: []byte("as gzip")}, "assets/b.woff2": {Data: []byte("font")}}
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }}, func(o *Options) { o.Console = files })
	question := `{"model":"harbour-4m","max_tokens":8,"messages":[{"role":"user","content":"When?"}]`
	for _, c := range []struct {
		name, method, path, body, takes string
		coding, kind                    string
		text                            string // of the body as it comes; "" for one that is not looked at
	}{
		{"br before gzip", "GET", "/assets/a.js", "", "gzip, deflate, br", "br", "text/javascript; charset=utf-8", "as br"},
		{"gzip", "GET", "/assets/a.js", "", "gzip", "gzip", "text/javascript; charset=utf-8", "as gzip"},
		{"refused br", "GET", "/assets/a.js", "", "br;q=0, gzip", "gzip", "text/javascript; charset=utf-8", "as gzip"},
		{"nothing", "GET", "/assets/a.js", "", "identity", "", "text/javascript; charset=utf-8", "plain"},
		{"a file without copies", "GET", "/assets/b.woff2", "", "gzip, br", "", "font/woff2", "font"},
		{"long JSON", "GET", "/openapi.json", "", "gzip", "gzip", "application/json; charset=utf-8", ""},
		{"long JSON for others", "GET", "/openapi.json", "", "identity", "", "application/json; charset=utf-8", ""},
		{"short JSON", "POST", "/v1/chat/completions", question + "}", "gzip", "", "application/json; charset=utf-8", ""},
		{"a stream", "POST", "/v1/chat/completions", question + `,"stream":true}`, "gzip", "", "text/event-stream; charset=utf-8", ""},
	} {
		r, raw := h.packed(t, c.method, c.path, c.body, c.takes)
		if got := r.Header.Get("Content-Encoding"); got != c.coding || r.Header.Get("Content-Type") != c.kind {
			t.Errorf("%s: Content-Encoding %q, Content-Type %q; want %q and %q", c.name, got, r.Header.Get("Content-Type"), c.coding, c.kind)
		}
		if c.text != "" && raw != c.text {
			t.Errorf("%s: body %q, want %q", c.name, raw, c.text)
		}
		if c.name == "long JSON" {
			z, err := gzip.NewReader(strings.NewReader(raw))
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(z)
			if _, plain := h.packed(t, c.method, c.path, "", "identity"); err != nil || string(text) != plain || len(raw) > len(plain)/2 {
				t.Errorf("%s: %d bytes stand for %d (%v), the plain text has %d", c.name, len(raw), len(text), err, len(plain))
			}
		}
		if c.coding != "" && !strings.Contains(strings.Join(r.Header.Values("Vary"), ","), "Accept-Encoding") {
			t.Errorf("%s: a cache would give it to those who do not take it: Vary is %q", c.name, r.Header.Values("Vary"))
		}
	}
}

// packed makes a request that takes codings, and returns the body as it came.
func (h *testServer) packed(t *testing.T, method, path, body, takes string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+h.key)
	req.Header.Set("Accept-Encoding", takes)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp, string(raw)
}
