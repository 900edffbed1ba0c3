package server

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/answers"
	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/fetch"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/ledger"
	"kindredgate/internal/library"
	"kindredgate/internal/loop"
	"kindredgate/internal/metrics"
	"kindredgate/internal/prompt"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/store"
	"kindredgate/internal/suites"
	"kindredgate/internal/tool"
	"kindredgate/internal/tool/mcp"
	"kindredgate/internal/tool/web"
)

// testServer is a server on loopback with the scripted runner.
type testServer struct {
	server  *Server
	url     string
	owner   string
	key     string // may use every model
	narrow  string // may use a model that is not there, and no other
	revoked string
	gate    *gate.Gate
	tools   *tool.Set
	loops   *loop.Service
	rules   loop.Rules
	stop    func() // begins a graceful stop
	stopped chan error
	records chan record.Record
}

// Began is an observer's; only what has ended is looked at.
func (h *testServer) Began(record.Record) {}

// Ended keeps a record, if it was not refused.
func (h *testServer) Ended(r record.Record) {
	if r.Answered != "" {
		h.records <- r
	}
}

// noPrompts is for servers whose prompts are not under test.
type noPrompts struct{}

func (noPrompts) Render(context.Context, string, *exchange.Request) (*prompt.Prompt, error) {
	return nil, exchange.Errorf(exchange.Unavailable, "runner_unavailable", "no prompts here")
}
func (noPrompts) RenderRaw(context.Context, string, string) (*prompt.Prompt, error) { return nil, nil }

func (noPrompts) CheckTemplate(_ context.Context, _, source string) error {
	if source == "broken" {
		return errors.New("it is broken")
	}
	return nil
}

// noLoader is for servers whose models are not under test.
type noLoader struct{}

func (noLoader) Status(string) native.Status              { return native.Status{} }
func (noLoader) Load(context.Context, string, bool) error { return nil }
func (noLoader) Unload(string) bool                       { return false }
func (noLoader) ForgetContexts() error                    { return nil }

func start(t testing.TB, runner gate.Runner, change ...func(*Options)) *testServer {
	t.Helper()
	models := t.TempDir()
	for _, name := range []string{"harbour-4m", "harbour-embed"} {
		raw, err := os.ReadFile("../../demo/models/" + name + "/" + name + ".gguf")
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(models, name+".gguf"), raw, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	db, err := store.Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{Age: 30 * 24 * time.Hour, Space: 64 << 20})
	if err != nil {
		t.Fatal(err)
	}
	h := &testServer{stopped: make(chan error, 1), records: make(chan record.Record, 2000)}
	g := &gate.Gate{Catalog: catalog.New(db, models), Keys: keyring.New(db, slog.New(slog.DiscardHandler)), Presets: db, Names: db, Runner: runner, Prompts: noPrompts{}, Loader: noLoader{}, Library: library.New(models, fetch.Source{}),
		Observers: []gate.Observer{h}}
	writer, err := ledger.Open(context.Background(), t.TempDir(), db, kept.Keep{}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	counted := metrics.New(g, "1.2.3", writer.Lost)
	lately := &ledger.Lately{}
	g.Observers = append(g.Observers, writer, counted, lately)
	said := ledger.NewRecorder(db, ledger.Recording{Space: 1 << 20, Redact: []*regexp.Regexp{regexp.MustCompile(`berth \d+`)}}, g.Layout, slog.New(slog.DiscardHandler))
	g.Recorder = said
	g.Price = func(r *record.Record) int64 { return 1000 * int64(r.PromptTokens+2*r.CompletionTokens) }
	ctx, cancel := context.WithCancel(context.Background())
	h.stop = cancel
	must := func(secret string, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return secret
	}
	issue := func(label string, models ...string) string {
		secret, _, err := g.Keys.Issue(ctx, keyring.Terms{Label: label, Models: models})
		return must(secret, err)
	}
	h.owner = must(g.Keys.IssueOwner(ctx, ""))
	h.key, h.narrow, h.revoked = issue("application"), issue("narrow", "other"), issue("gone")
	if _, _, err := g.Keys.Revoke(ctx, "gone"); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	h.tools, h.gate = tool.NewSet(loop.UsualLimits), g
	h.rules = loop.Usual
	h.loops = loop.New(g, h.tools, func() loop.Rules { return h.rules }, func(s exchange.ToolServer, private bool) tool.Server {
		guard := web.Public
		if private {
			guard = web.Private
		}
		return mcp.New(mcp.Options{URL: s.URL, Headers: s.Headers, Guard: guard}, "1.2.3", slog.New(slog.DiscardHandler))
	}, slog.New(slog.DiscardHandler))
	log := slog.New(slog.DiscardHandler)
	queue, err := answers.Alone(ctx, db, log)
	if err != nil {
		t.Fatal(err)
	}
	responses := answers.Open(ctx, g, h.loops, db, queue, log)
	o := Options{Gate: g, Loops: h.loops, Tools: h.tools, Answers: responses, Ledger: writer, Lately: lately, Contents: said, Suites: &suites.Runs{Gate: g, Loops: h.loops, Records: db}, Prices: func() Prices { return Prices{Currency: "EUR", Machine: 10} }, Metrics: counted.Handler(), Console: fstest.MapFS{"index.html": {Data: []byte("<title>console</title>")}, "assets/a.js": {Data: []byte("1")}}}
	for _, c := range change {
		c(&o)
	}
	h.server = New(o, l.Addr())
	h.url = "http://" + l.Addr().String()
	go func() { h.stopped <- h.server.Serve(ctx, Listener{Listener: l}) }()
	t.Cleanup(func() {
		h.stop()
		if err := <-h.stopped; err != nil {
			t.Error(err)
		}
		if err := errors.Join(responses.Close(), h.tools.Close(), said.Close(), writer.Close(), db.Close()); err != nil {
			t.Error(err)
		}
		http.DefaultClient.CloseIdleConnections()
	})
	return h
}

// do makes a request and returns the answer with its body read.
func (h *testServer) do(t testing.TB, method, path, key, body string, header ...string) (*http.Response, string) {
	t.Helper()
	req, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	for i := 0; i < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
		if header[i] == "Host" {
			req.Host = header[i+1]
		}
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	matchesSpec(t, req, body, resp, raw)
	return resp, string(raw)
}

func chatBody(stream bool, more string) string {
	return fmt.Sprintf(`{"model": "harbour-4m", "stream": %v, "messages": [{"role": "user", "content": "The last boat leaves at 19:40"}]%s}`, stream, more)
}

func TestErrors(t *testing.T) {
	h := start(t, &scripted.Runner{})
	const chat = "/v1/chat/completions"
	ok := chatBody(false, "")
	for _, c := range []struct {
		name, method, path, key, body string
		header                        []string
		status                        int
		code, message                 string
	}{
		{"no key", "GET", "/v1/models", "", "", nil, 401, "invalid_api_key", "no key was given"},
		{"dummy key", "GET", "/v1/models", "sk-dummy", "", nil, 401, "invalid_api_key", "begin with"},
		{"mistyped key", "GET", "/v1/models", h.key[:44] + "?", "", nil, 401, "invalid_api_key", "mistyped"},
		{"revoked key", "POST", chat, h.revoked, ok, nil, 401, "invalid_api_key", "was revoked"},
		{"other scheme", "GET", "/v1/models", "", "", []string{"Authorization", "Basic eDp5"}, 401, "invalid_api_key", "must be \"Bearer"},
		{"key without its scheme", "GET", "/v1/models", "", "", []string{"Authorization", h.key}, 401, "invalid_api_key", "the word Bearer"},
		{"a name without end", "POST", chat, h.key, strings.Replace(ok, "harbour-4m", strings.Repeat("x", 1<<20), 1), nil, 400, "invalid_value", "names have 256"},
		{"a role without end", "POST", chat, h.key, strings.Replace(ok, "user", strings.Repeat("x", 1<<20), 1), nil, 400, "invalid_value", "(1048576 bytes)"},
		{"key for another model", "POST", chat, h.narrow, ok, nil, 403, "model_not_allowed", `may not use model "harbour-4m"`},
		{"key for another model, shown", "GET", "/v1/models/harbour-4m", h.narrow, "", nil, 403, "model_not_allowed", "may not use"},
		{"unknown model", "POST", chat, h.key, strings.Replace(ok, "harbour-4m", "harbour-9m", 1), nil, 404, "model_not_found", "installed: harbour-4m, harbour-embed"},
		{"unknown model, shown", "GET", "/v1/models/nope", h.key, "", nil, 404, "model_not_found", "installed: harbour-4m, harbour-embed"},
		{"not JSON", "POST", chat, h.key, "hello", nil, 400, "invalid_json", "not JSON"},
		{"wrong type", "POST", chat, h.key, `{"model": 1}`, nil, 400, "invalid_value", "model must be a string"},
		{"too long", "POST", chat, h.key, `{"model": "` + strings.Repeat("x", maxBody) + `"}`, nil, 413, "body_too_large", "longer than"},
		{"removed /v1", "POST", "/chat/completions", h.key, ok, nil, 404, "unknown_path", "did you mean /v1/chat/completions?"},
		{"twice /v1", "POST", "/v1/v1/chat/completions", h.key, ok, nil, 404, "unknown_path", "did you mean /v1/chat/completions?"},
		{"unknown path", "GET", "/nothing", "", "", nil, 404, "unknown_path", "/v1"},
		{"wrong method", "PUT", chat, h.key, ok, nil, 405, "method_not_allowed", "it takes POST"},
		{"stranger's host name", "GET", "/gate/key", "", "", []string{"Host", "rebound.example"}, 421, "unknown_host", "rebound.example"},
		{"stranger's address", "GET", "/gate/key", "", "", []string{"Host", "192.0.2.1:7717"}, 421, "unknown_host", "192.0.2.1"},
		{"managing with an application's key", "GET", "/gate/keys", h.key, "", nil, 403, "owner_key_needed", "needs the owner key"},
		{"managing without a key", "GET", "/gate/status", "", "", nil, 401, "invalid_api_key", ""},
		{"key without a label", "POST", "/gate/keys", h.owner, `{}`, nil, 400, "invalid_value", "needs a label"},
		{"key for a model that is not there", "POST", "/gate/keys", h.owner, `{"label": "x", "models": ["nope"]}`, nil, 400, "invalid_value", `"nope" is not installed`},
		{"key with a mistyped field", "POST", "/gate/keys", h.owner, `{"label": "x", "model": "nope"}`, nil, 400, "invalid_value", `no field "model"`},
		{"unknown key to revoke", "DELETE", "/gate/keys/nope", h.owner, "", nil, 404, "key_not_found", "there is no key"},
		{"sign in with an application's key", "POST", "/gate/session", "", `{"key": "` + h.key + `"}`, nil, 403, "owner_key_needed", "opens with the owner key"},
		{"sign in with a book", "POST", "/gate/session", "", `{"key": "` + strings.Repeat("x", 5000) + `"}`, nil, 413, "body_too_large", ""},
		{"sign in from another site", "POST", "/gate/session", "", `{"key": "` + h.owner + `"}`, []string{"Sec-Fetch-Site", "cross-site"}, 403, "cross_origin", ""},
		{"sign out from another site", "DELETE", "/gate/session", "", "", []string{"Sec-Fetch-Site", "cross-site"}, 403, "cross_origin", ""},
		{"a session that is none", "GET", "/gate/keys", "", "", []string{"Cookie", sessionCookie + "=x"}, 401, "signed_out", "sign in"},
		{"an asset that is none", "GET", "/assets/../index.html", "", "", nil, 404, "unknown_path", ""},
	} {
		resp, body := h.do(t, c.method, c.path, c.key, c.body, c.header...)
		var e envelope
		if err := json.Unmarshal([]byte(body), &e); err != nil {
			t.Errorf("%s: the body is %q", c.name, body)
			continue
		}
		if resp.StatusCode != c.status || e.Error.Code != c.code || !strings.Contains(e.Error.Message, c.message) || e.Error.Type == "" {
			t.Errorf("%s: %d %s, want %d %s with %q", c.name, resp.StatusCode, body, c.status, c.code, c.message)
		}
		if len(body) > 4096 || strings.Contains(body, h.key[3:]) {
			t.Errorf("%s: the answer repeats what it was sent: %.4096s", c.name, body)
		}
		if challenge := resp.Header.Get("WWW-Authenticate"); (challenge != "") != (c.status == 401) {
			t.Errorf("%s: WWW-Authenticate is %q", c.name, challenge)
		}
		if resp.Header.Get("X-Request-Id") == "" {
			t.Errorf("%s: no request id", c.name)
		}
	}
}

func TestOpenPaths(t *testing.T) {
	h := start(t, &scripted.Runner{})
	for _, c := range []struct{ path, accept, want string }{
		{"/", "*/*", "Kindred Gate is up. Base URL for applications: " + h.url + "/v1"},
		{"/", "text/html,*/*", "<title>console</title>"},
		{"/healthz", "", "up"},
		{"/readyz", "", "ready"},
		{"/assets/a.js", "", "1"},
	} {
		resp, body := h.do(t, "GET", c.path, "", "", "Accept", c.accept)
		if resp.StatusCode != 200 || !strings.Contains(body, c.want) {
			t.Errorf("%s: %d %q, want %q", c.path, resp.StatusCode, body, c.want)
		}
	}
	resp, _ := h.do(t, "GET", "/", "", "", "Host", "localhost:1234")
	if resp.StatusCode != 200 {
		t.Errorf("by the name localhost: %d", resp.StatusCode)
	}
}

func TestChatWholeAndStreamed(t *testing.T) {
	h := start(t, &scripted.Runner{})
	resp, body := h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(false, `, "n": 2`))
	var whole struct {
		Choices []struct {
			Message struct{ Content string }
		}
		Usage struct{ Prompt_tokens, Completion_tokens, Total_tokens int }
	}
	if err := json.Unmarshal([]byte(body), &whole); err != nil || resp.StatusCode != 200 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	const text = "The last boat leaves at 19:40"
	if len(whole.Choices) != 2 || whole.Choices[0].Message.Content != text || whole.Choices[1].Message.Content != text || whole.Usage.Completion_tokens != 12 || whole.Usage.Total_tokens != 18 {
		t.Errorf("%s", body)
	}
	if timing := resp.Header.Get("Server-Timing"); !strings.Contains(timing, "queue;dur=") || !strings.Contains(timing, "prefill;dur=") {
		t.Errorf("Server-Timing is %q", timing)
	}

	resp, body = h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(true, `, "max_tokens": 3, "stream_options": {"include_usage": true}`))
	if resp.Header.Get("Content-Type") != "text/event-stream; charset=utf-8" || resp.Header.Get("X-Accel-Buffering") != "no" || resp.Header.Get("Server-Timing") == "" {
		t.Errorf("headers %v", resp.Header)
	}
	lines := strings.Split(strings.TrimSpace(body), "\n\n")
	if n := len(lines); n != 8 || lines[n-1] != "data: [DONE]" || !strings.HasPrefix(lines[n-2], ": queue;dur=") ||
		!strings.Contains(lines[n-3], `"choices":[],"usage":{"prompt_tokens":6,"completion_tokens":3`) ||
		!strings.Contains(lines[n-4], `"finish_reason":"length"`) || !strings.Contains(lines[0], `"role":"assistant"`) {
		t.Errorf("stream:\n%s", body)
	}
	for range 2 {
		if r := <-h.records; r.Label != "application" || r.Model != "harbour-4m" || r.PromptTokens != 6 || r.CompletionTokens != 12 && r.CompletionTokens != 3 || r.Err != nil {
			t.Errorf("record %+v", r)
		}
	}
}

func TestModelsAreFilteredByKey(t *testing.T) {
	h := start(t, &scripted.Runner{})
	for key, want := range map[string]string{h.key: `"id":"harbour-4m"`, h.owner: `"id":"harbour-4m"`, h.narrow: `"data":[]`} {
		resp, body := h.do(t, "GET", "/v1/models", key, "")
		if resp.StatusCode != 200 || !strings.Contains(body, want) {
			t.Errorf("%d %s, want %s", resp.StatusCode, body, want)
		}
	}
}

func TestOpenAccessNeedsNoKeyButManagingDoes(t *testing.T) {
	h := start(t, &scripted.Runner{}, func(o *Options) { o.Exposure.Open = true })
	for _, key := range []string{"", "sk-dummy"} {
		if resp, body := h.do(t, "GET", "/v1/models", key, ""); resp.StatusCode != 200 {
			t.Errorf("key %q: %d %s", key, resp.StatusCode, body)
		}
	}
	if resp, _ := h.do(t, "GET", "/gate/status", "sk-dummy", ""); resp.StatusCode != 401 {
		t.Errorf("managing: %d", resp.StatusCode)
	}
}

func TestConsoleSession(t *testing.T) {
	h := start(t, &scripted.Runner{})
	resp, body := h.do(t, "POST", "/gate/session", "", `{"key": "`+h.owner+`"}`)
	if resp.StatusCode != 204 || len(resp.Cookies()) != 1 {
		t.Fatalf("%d %s %v", resp.StatusCode, body, resp.Cookies())
	}
	c := resp.Cookies()[0]
	if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Value == "" || strings.Contains(h.owner, c.Value) {
		t.Errorf("cookie %v", c)
	}
	cookie := []string{"Cookie", c.Name + "=" + c.Value}
	if resp, body := h.do(t, "GET", "/gate/status", "", "", cookie...); resp.StatusCode != 200 || !strings.Contains(body, h.url+"/v1") {
		t.Errorf("status: %d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "POST", "/v1/chat/completions", "", chatBody(false, ""), cookie...); resp.StatusCode != 200 {
		t.Errorf("a question: %d", resp.StatusCode)
	}
	foreign := append([]string{"Sec-Fetch-Site", "same-site"}, cookie...)
	if resp, _ := h.do(t, "POST", "/gate/keys", "", `{"label": "x"}`, foreign...); resp.StatusCode != 403 {
		t.Errorf("another site with the cookie: %d", resp.StatusCode)
	}
	if resp, _ := h.do(t, "DELETE", "/gate/session", "", "", cookie...); resp.StatusCode != 204 {
		t.Errorf("sign out: %d", resp.StatusCode)
	}
	if resp, _ := h.do(t, "GET", "/gate/status", "", "", cookie...); resp.StatusCode != 401 {
		t.Errorf("after signing out: %d", resp.StatusCode)
	}
}

func TestIssuedKeyWorksUntilRevoked(t *testing.T) {
	h := start(t, &scripted.Runner{})
	resp, body := h.do(t, "POST", "/gate/keys", h.owner, `{"label": "board", "models": ["harbour-4m"]}`)
	var k IssuedKey
	if err := json.Unmarshal([]byte(body), &k); err != nil || resp.StatusCode != 201 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "GET", "/v1/models", k.Key, ""); resp.StatusCode != 200 {
		t.Errorf("the new key: %d", resp.StatusCode)
	}
	if _, body := h.do(t, "GET", "/gate/keys", h.owner, ""); strings.Contains(body, k.Key) || !strings.Contains(body, `"label":"board"`) {
		t.Errorf("the list: %s", body)
	}
	if resp, body := h.do(t, "DELETE", "/gate/keys/"+k.ID, h.owner, ""); resp.StatusCode != 200 {
		t.Errorf("revoking: %d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "GET", "/v1/models", k.Key, ""); resp.StatusCode != 401 {
		t.Errorf("the revoked key: %d", resp.StatusCode)
	}
}

// A preset is listed and asked for like a model; what it adds comes ahead of what the request says.
func TestPresets(t *testing.T) {
	asked := make(chan exchange.Request, 1)
	h := start(t, &scripted.Runner{Pieces: func(req *exchange.Request) []string {
		asked <- *req
		return []string{"fine"}
	}})
	const preset = `{"name": "master", "model": "harbour-4m", "instructions": "Be cheerful.", "temperature": 0.7, "template": "t",
		"examples": [{"role": "user", "content": "Hi"}, {"role": "assistant", "content": "Ahoy!"}]}`
	if resp, body := h.do(t, "POST", "/gate/presets", h.owner, preset); resp.StatusCode != 201 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"POST", "", preset, 400, "there is a preset"},
		{"POST", "", strings.Replace(preset, "master", "harbour-4m", 1), 400, "is an installed model"},
		{"POST", "", `{"name": "x", "model": "nope"}`, 400, `\"nope\" is not installed`},
		{"POST", "", `{"name": "No Spaces", "model": "harbour-4m"}`, 400, "small letters"},
		{"POST", "", `{"name": "x", "model": "harbour-4m", "template": "broken"}`, 400, "the template cannot be used: it is broken"},
		{"POST", "", `{"name": "x", "model": "harbour-4m", "examples": [{"role": "system", "content": "c"}]}`, 400, "examples[0].role"},
		{"POST", "", `{"name": "x", "model": "harbour-4m", "temp": 1}`, 400, `no field \"temp\"`},
		{"PUT", "/nope", `{"model": "harbour-4m"}`, 404, "there is no preset"},
		{"PUT", "/master", `{"name": "other", "model": "harbour-4m"}`, 400, "the path names preset"},
		{"GET", "/nope", "", 404, "preset_not_found"},
		{"DELETE", "/nope", "", 404, "preset_not_found"},
		{"GET", "/master", "", 200, `"instructions":"Be cheerful."`},
		{"GET", "", "", 200, `"name":"master"`},
	} {
		resp, body := h.do(t, c.method, "/gate/presets"+c.path, h.owner, c.body)
		if resp.StatusCode != c.status || !strings.Contains(body, c.want) {
			t.Errorf("%s %s %.80s: %d %s, want %d with %q", c.method, c.path, c.body, resp.StatusCode, body, c.status, c.want)
		}
	}
	if _, body := h.do(t, "GET", "/v1/models", h.key, ""); !strings.Contains(body, `"id":"master"`) {
		t.Errorf("models: %s", body)
	}
	resp, body := h.do(t, "POST", "/v1/chat/completions", h.key, `{"model": "master", "messages": [{"role": "system", "content": "Be brief."}, {"role": "user", "content": "When?"}]}`)
	if resp.StatusCode != 200 || !strings.Contains(body, `"model":"master"`) {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	req := <-asked
	var turns []string
	for _, turn := range req.Turns {
		turns = append(turns, string(turn.Role)+": "+turn.Text())
	}
	if want := []string{"system: Be cheerful.\n\nBe brief.", "user: Hi", "assistant: Ahoy!", "user: When?"}; !slices.Equal(turns, want) || *req.Sampling.Temperature != 0.7 || req.Template != "t" {
		t.Errorf("turns %q, sampling %+v, template %q", turns, req.Sampling, req.Template)
	}
	// A key for the preset alone may use it, and not its model.
	_, body = h.do(t, "POST", "/gate/keys", h.owner, `{"label": "narrow too", "models": ["master"]}`)
	var k IssuedKey
	if err := json.Unmarshal([]byte(body), &k); err != nil {
		t.Fatal(err, body)
	}
	if resp, body := h.do(t, "GET", "/v1/models/master", k.Key, ""); resp.StatusCode != 200 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "GET", "/v1/models/harbour-4m", k.Key, ""); resp.StatusCode != 403 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "DELETE", "/gate/presets/master", h.owner, ""); resp.StatusCode != 204 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "GET", "/v1/models/master", h.key, ""); resp.StatusCode != 404 {
		t.Errorf("removed, but still there: %d", resp.StatusCode)
	}
}

// streamLines opens a stream and gives its lines.
func (h *testServer) streamLines(t testing.TB, ctx context.Context) (*bufio.Scanner, func()) {
	t.Helper()
	return h.streamOf(t, ctx, "/v1/chat/completions", chatBody(true, ""))
}

func (h *testServer) streamOf(t testing.TB, ctx context.Context, path, body string) (*bufio.Scanner, func()) {
	t.Helper()
	req, err := http.NewRequestWithContext(ctx, "POST", h.url+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+h.key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	return bufio.NewScanner(resp.Body), func() { resp.Body.Close() }
}

// A client that goes away takes its generation with it: the runner sees its context end before the next piece.
func TestDisconnectCancels(t *testing.T) {
	ended := make(chan int, 1)
	gone := make(chan struct{})
	h := start(t, &scripted.Runner{Before: func(ctx context.Context, piece int) error {
		if piece < 2 {
			return nil
		}
		close(gone) // the client has two pieces; it leaves now
		<-ctx.Done()
		ended <- piece
		return context.Cause(ctx)
	}})
	ctx, cancel := context.WithCancel(t.Context())
	lines, done := h.streamLines(t, ctx)
	defer done()
	lines.Scan()
	<-gone
	cancel()
	if piece := <-ended; piece != 2 {
		t.Errorf("the runner went on to piece %d", piece)
	}
	if r := <-h.records; !errors.Is(r.Err, context.Canceled) || r.CompletionTokens != 2 {
		t.Errorf("record %+v", r)
	}
}

// A client may ask for comments oftener, and not so often that they are a flood.
func TestSilenceHasAFloor(t *testing.T) {
	s := &Server{Options: Options{Silence: 10 * time.Second}}
	for asked, want := range map[string]time.Duration{"": 10 * time.Second, "1": time.Second, "0.000001": 200 * time.Millisecond, "0": 10 * time.Second, "-1": 10 * time.Second, "3600": 10 * time.Second, "often": 10 * time.Second} {
		c, _ := gin.CreateTestContext(httptest.NewRecorder())
		c.Request = httptest.NewRequest(http.MethodPost, "/", nil)
		c.Request.Header.Set(silenceHeader, asked)
		if got := s.silenceFor(c); got != want {
			t.Errorf("%s: %q is %s, want %s", silenceHeader, asked, got, want)
		}
	}
}

// Silence is filled with comments, before the first token and between tokens.
func TestSilenceIsFilled(t *testing.T) {
	release := make(chan struct{})
	h := start(t, &scripted.Runner{Before: func(ctx context.Context, piece int) error {
		if piece%3 == 0 {
			<-release
		}
		return nil
	}}, func(o *Options) { o.Silence = 20 * time.Millisecond })
	lines, done := h.streamLines(t, t.Context())
	defer done()
	comments := 0
	var rest []string
	for lines.Scan() {
		if lines.Text() == ": still working" {
			if comments++; comments%2 == 0 {
				release <- struct{}{}
			}
		} else if lines.Text() != "" {
			rest = append(rest, lines.Text())
		}
	}
	if comments < 4 || len(rest) != 10 || rest[9] != "data: [DONE]" {
		t.Errorf("%d comments, then %d lines:\n%s", comments, len(rest), strings.Join(rest, "\n"))
	}
}

func TestErrorInMidStreamIsTheLastEvent(t *testing.T) {
	h := start(t, &scripted.Runner{Before: func(_ context.Context, piece int) error {
		if piece == 2 {
			return exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the model broke down")
		}
		return nil
	}})
	_, body := h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(true, ""))
	events := strings.Split(strings.TrimSpace(body), "\n\n")
	if last := events[len(events)-1]; !strings.Contains(last, `data: {"error":{"message":"the model broke down"`) || strings.Contains(body, "[DONE]") {
		t.Errorf("%s", body)
	}
}

func TestPanicEndsOneRequestOnly(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(req *exchange.Request) []string {
		if req.MaxTokens == 13 {
			panic("thirteen")
		}
		return []string{"fine"}
	}})
	resp, body := h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(false, `, "max_tokens": 13`))
	if resp.StatusCode != 500 || !strings.Contains(body, "internal_error") || strings.Contains(body, "thirteen") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	resp, body = h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(true, `, "max_tokens": 13`))
	if resp.StatusCode != 500 || !strings.Contains(body, "internal_error") {
		t.Errorf("streamed: %d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(false, "")); resp.StatusCode != 200 {
		t.Errorf("the next request: %d", resp.StatusCode)
	}
}

// When the gate stops, what finishes within the grace is whole, and the rest ends with an error event.
func TestGracefulStop(t *testing.T) {
	begun := make(chan struct{}, 2)
	release := make(chan struct{})
	h := start(t, &scripted.Runner{Before: func(ctx context.Context, piece int) error {
		switch piece {
		case 1:
			begun <- struct{}{}
			select { // the first to get here is released; the second waits until it is cut off
			case <-release:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		return nil
	}}, func(o *Options) { o.Grace = 300 * time.Millisecond })
	bodies := make([]string, 2)
	var clients sync.WaitGroup
	for i := range bodies {
		clients.Go(func() { _, bodies[i] = h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(true, "")) })
	}
	<-begun
	<-begun
	h.stop()
	release <- struct{}{}
	clients.Wait()
	slices.SortFunc(bodies, func(a, b string) int { return len(a) - len(b) })
	if !strings.HasSuffix(bodies[1], "data: [DONE]\n\n") {
		t.Errorf("the one that could finish:\n%s", bodies[1])
	}
	if !strings.Contains(bodies[0], `"code":"shutting_down"`) {
		t.Errorf("the one that could not:\n%s", bodies[0])
	}
	if _, err := http.Get(h.url + "/healthz"); err == nil {
		t.Error("it still answers")
	}
}

// stream runs n clients at once and returns how long each took. Every answer must be whole.
func streamAtOnce(t testing.TB, h *testServer, n int) []time.Duration {
	t.Helper()
	took := make([]time.Duration, n)
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: n}}
	defer client.CloseIdleConnections()
	var all sync.WaitGroup
	begin := make(chan struct{})
	for i := range n {
		all.Go(func() {
			<-begin
			at := time.Now()
			req, err := http.NewRequest("POST", h.url+"/v1/chat/completions", strings.NewReader(chatBody(true, "")))
			if err != nil {
				t.Error(err)
				return
			}
			req.Header.Set("Authorization", "Bearer "+h.key)
			resp, err := client.Do(req)
			if err != nil {
				t.Error(err)
				return
			}
			defer resp.Body.Close()
			raw, err := io.ReadAll(resp.Body)
			if err != nil || !bytes.HasSuffix(raw, []byte("data: [DONE]\n\n")) || bytes.Count(raw, []byte(`"content":"`)) != 101 {
				t.Errorf("client %d: %v, %d bytes", i, err, len(raw))
			}
			took[i] = time.Since(at)
		})
	}
	close(begin)
	all.Wait()
	return took
}

// hundred answers with a hundred pieces.
var hundred = &scripted.Runner{Pieces: func(*exchange.Request) []string { return slices.Repeat([]string{"word "}, 100) }}

func TestHundredStreamsAtOnceLeaveNothingBehind(t *testing.T) {
	h := start(t, hundred)
	streamAtOnce(t, h, 1)
	before := runtime.NumGoroutine()
	streamAtOnce(t, h, 100)
	// Connections that were closed take their goroutines along within a moment.
	deadline := time.Now().Add(10 * time.Second)
	for runtime.NumGoroutine() > before {
		if time.Now().After(deadline) {
			stacks := make([]byte, 1<<20)
			t.Fatalf("%d goroutines before, %d after:\n%s", before, runtime.NumGoroutine(), stacks[:runtime.Stack(stacks, true)])
		}
		runtime.Gosched()
	}
}

func BenchmarkHundredStreams(b *testing.B) {
	h := start(b, hundred)
	worst, middle := 0.0, 0.0
	for b.Loop() {
		took := streamAtOnce(b, h, 100)
		slices.Sort(took)
		worst += took[99].Seconds()
		middle += took[50].Seconds()
	}
	b.ReportMetric(worst/middle, "slowest/median")
	b.ReportMetric(1000*middle/float64(b.N), "median-ms")
}

func TestThousandStreamsAtOnce(t *testing.T) { streamAtOnce(t, start(t, hundred), 1000) }

// BenchmarkOwnShare is what the gate itself adds to a request, from its first byte to its last, with a runner that takes
// no time and 64 clients at once. The time is taken within the server, since clients and gate share the processors here.
func BenchmarkOwnShare(b *testing.B) {
	h := start(b, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"fine"} }}, func(o *Options) { o.Gate.Observers = nil })
	var mu sync.Mutex
	var took []time.Duration
	outer := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at := time.Now()
		h.server.ServeHTTP(w, r)
		d := time.Since(at)
		mu.Lock()
		took = append(took, d)
		mu.Unlock()
	}))
	defer outer.Close()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	b.SetParallelism(64 / runtime.GOMAXPROCS(0))
	b.ResetTimer()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			req, err := http.NewRequest("POST", outer.URL+"/v1/chat/completions", strings.NewReader(chatBody(false, "")))
			if err != nil {
				b.Error(err)
				return
			}
			req.Header.Set("Authorization", "Bearer "+h.key)
			resp, err := client.Do(req)
			if err != nil || resp.StatusCode != 200 {
				b.Errorf("%v", err)
				return
			}
			_, _ = io.Copy(io.Discard, resp.Body) // it was whole in the tests
			resp.Body.Close()
		}
	})
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds()), "median-µs")
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds()), "p99-µs")
}

func TestServerTiming(t *testing.T) {
	for want, timings := range map[string]exchange.Timings{
		"queue;dur=0.000, load;dur=0.000, prefill;dur=2.500":                 {Prefill: 2500 * time.Microsecond},
		`queue;dur=30.000;desc="place 3", load;dur=1.000, prefill;dur=0.000`: {Queue: 30 * time.Millisecond, Place: 3, Load: time.Millisecond},
	} {
		if got := serverTiming(timings); got != want {
			t.Errorf("%+v is written as %s, want %s", timings, got, want)
		}
	}
}

// HEAD is answered as GET is, but for the body.
func TestHead(t *testing.T) {
	h := start(t, &scripted.Runner{})
	for path, status := range map[string]int{"/healthz": 200, "/v1/models": 200, "/": 200, "/nothing": 404, "/v1/chat/completions": 405} {
		resp, body := h.do(t, "HEAD", path, h.key, "")
		if resp.StatusCode != status || body != "" {
			t.Errorf("%s: %d %q", path, resp.StatusCode, body)
		}
	}
}

// A client whose body stops to come, or who stops to take what it asked for, is given up, and what works for it ends.
func TestClientsThatStallAreGivenUp(t *testing.T) {
	ended := make(chan error, 1)
	long := strings.Repeat("word ", 20_000)
	h := start(t, &scripted.Runner{
		Pieces: func(*exchange.Request) []string { return slices.Repeat([]string{long}, 2000) }, // more than any buffer on the way holds
		Before: func(ctx context.Context, _ int) error {
			if ctx.Err() != nil {
				ended <- context.Cause(ctx)
			}
			return context.Cause(ctx)
		},
	}, func(o *Options) { o.Patience = 200 * time.Millisecond })
	dial := func(body string, length int) net.Conn { return h.begin(t, h.key, body, length) }
	conn := dial(`{"model":`, 100)
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode != 400 || !strings.Contains(string(raw), "stopped to come") {
		t.Errorf("%d %s, %v", resp.StatusCode, raw, err)
	}
	silent, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	fmt.Fprint(silent, "GET /healthz HTTP/1.1\r\nHost: 127.0")
	if err := silent.SetReadDeadline(time.Now().Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	if raw, err := io.ReadAll(silent); err != nil {
		t.Errorf("a connection that does not end its header stays open: %q, %v", raw, err)
	}
	body := chatBody(true, "")
	dial(body, len(body)) // and reads nothing
	select {
	case <-ended:
	case r := <-h.records:
		if r.Err == nil {
			t.Error("an answer that nobody takes comes to its end")
		}
	case <-time.After(time.Minute):
		t.Error("an answer that nobody takes goes on")
	}
}

// Who takes a long answer slowly, but takes it, gets all of it.
func TestSlowReadersGetTheirAnswer(t *testing.T) {
	long := strings.Repeat("word ", 200_000)
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return slices.Repeat([]string{long}, 40) }},
		func(o *Options) { o.Patience = 250 * time.Millisecond })
	req, err := http.NewRequest(http.MethodPost, h.url+"/v1/chat/completions", strings.NewReader(chatBody(false, "")))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+h.key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	total := int64(0)
	for {
		n, err := io.CopyN(io.Discard, resp.Body, 1<<20)
		if total += n; err == io.EOF {
			break
		} else if err != nil {
			t.Fatalf("after %d bytes: %v", total, err)
		}
		time.Sleep(15 * time.Millisecond) // 40 of these are more than the patience
	}
	if total < int64(40*len(long)) {
		t.Errorf("%d bytes came", total)
	}
}
