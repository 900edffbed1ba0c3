package server

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/runner/scripted"
)

// A Host header has to name the gate, unless a valid key comes with it.
func TestHosts(t *testing.T) {
	h := start(t, &scripted.Runner{}, func(o *Options) { o.Exposure.HostNames = []string{"gate.example"} })
	port := h.url[strings.LastIndex(h.url, ":"):]
	const models = "/v1/models"
	for _, c := range []struct {
		host, path, key string
		status          int
	}{
		{"127.0.0.1" + port, models, h.key, 200},
		{"localhost" + port, "/", "", 200},
		{"LOCALHOST.", "/", "", 200},
		{"gate.example", "/", "", 200},
		{"127.0.0.2", "/", "", 200},
		{"[::1]" + port, "/", "", 200},
		{"0.0.0.0" + port, "/", "", 421},
		{"[::]" + port, "/", "", 421},
		{"rebound.example", "/", "", 421},
		{"192.0.2.1", "/", "", 421},
		{"gate.example.rebound.example", "/", "", 421},
		// The name of a tunnel: whoever has a key is let in, and nobody else, nor to anything else.
		{"tunnel.example", models, h.key, 200},
		{"tunnel.example", models, "", 401},
		{"tunnel.example", models, "kg_wrong", 401},
		{"tunnel.example", models, h.revoked, 401},
		{"tunnel.example", "/gate/status", h.owner, 421},
		{"tunnel.example", "/", h.key, 421},
		{"tunnel.example", "/v1", h.key, 404},
		{"tunnel.example", "/chat/completions", h.key, 404},
	} {
		if resp, body := h.do(t, "GET", c.path, c.key, "", "Host", c.host); resp.StatusCode != c.status {
			t.Errorf("%s at %s: %d %s, want %d", c.path, c.host, resp.StatusCode, body, c.status)
		}
	}
}

// Through a tunnel whose name the gate does not know, what else is wrong is told first; at its root it says that it is there and what to do. Who
// comes by another address than the gate's own is told that one.
func TestTheRealFaultFirst(t *testing.T) {
	h := start(t, &scripted.Runner{}, func(o *Options) { o.Exposure.HostNames = []string{"gate.example"} })
	const chat = "/v1/chat/completions"
	for _, c := range []struct {
		method, path, says string
		status             int
		header             []string
	}{
		{"POST", chat, "no key was given", 401, []string{"Host", "tunnel.example"}},
		{"POST", chat, "the key came in the header X-Api-Key", 401, []string{"Host", "tunnel.example", "X-Api-Key", "kg_x"}},
		{"POST", "/chat/completions", "did you mean /v1/chat/completions? The base URL for applications is http://tunnel.example/v1", 404, []string{"Host", "tunnel.example"}},
		{"GET", "/nothing", "is not a name of this gate; if it should be, add it to host_names", 421, []string{"Host", "tunnel.example"}},
		{"GET", "/", "A Kindred Gate is here, but it is not called tunnel.example. If it should be, add that name to host_names", 421, []string{"Host", "tunnel.example"}},
		{"GET", "/", "it is not called that.", 421, []string{"Host", "a\"><b"}},
		{"GET", "/nothing", "the base URL for applications is http://gate.example:7717/v1", 404, []string{"Host", "gate.example:7717"}},
		{"GET", "/nothing", "the base URL for applications is https://gate.example/v1", 404, []string{"Host", "gate.example", "X-Forwarded-Proto", "https"}},
		{"GET", "/nothing", "the base URL for applications is " + h.url + "/v1", 404, nil},
	} {
		resp, body := h.do(t, c.method, c.path, "", "", c.header...)
		if resp.StatusCode != c.status || !strings.Contains(body, c.says) {
			t.Errorf("%s %s %v: %d %s, want %d with %q", c.method, c.path, c.header, resp.StatusCode, body, c.status, c.says)
		}
	}
}

// Listening on all interfaces makes the addresses of this machine its own, and no others.
func TestHostsOnAllInterfaces(t *testing.T) {
	own := newHosts([]net.Addr{&net.TCPAddr{IP: net.IPv4zero, Port: 7717}}, nil)
	for host, want := range map[string]bool{"127.0.0.1": true, "0.0.0.0": false, "192.0.2.1": false, "8.8.8.8": false, "[2001:db8::1]:7717": false} {
		if own.own(host) != want {
			t.Errorf("%s is the gate's own: %v", host, !want)
		}
	}
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && !own.own(net.JoinHostPort(n.IP.String(), "7717")) {
			t.Errorf("%s is an address of this machine, and is refused", n.IP)
		}
	}
}

// Under open access everybody on this computer may ask, but no page of a stranger, by whatever request a browser lets it send.
func TestOpenAccessIsNotForPages(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }}, func(o *Options) { o.Exposure.Open, o.Exposure.BrowserOrigins = true, []string{"https://app.example"} })
	for _, c := range []struct {
		name   string
		status int
		header []string
	}{
		{"a program", 200, nil},
		{"a program with a dummy key", 200, []string{"Authorization", "Bearer sk-dummy"}},
		{"a page of a stranger", 403, []string{"Content-Type", "text/plain", "Origin", "https://evil.example", "Sec-Fetch-Site", "cross-site"}},
		{"a page of a stranger in an old browser", 403, []string{"Content-Type", "text/plain", "Origin", "https://evil.example"}},
		{"a page of a stranger with a dummy key", 403, []string{"Authorization", "Bearer x", "Origin", "https://evil.example", "Sec-Fetch-Site", "cross-site"}},
		{"a stranger's name that points here", 421, []string{"Host", "rebound.example", "Authorization", "Bearer x"}},
		{"a page that is allowed", 200, []string{"Origin", "https://app.example", "Sec-Fetch-Site", "cross-site"}},
		{"a page of a stranger with a key", 200, []string{"Authorization", "Bearer " + h.key, "Origin", "https://evil.example"}},
		{"a page of a stranger with the console's cookie", 403, []string{"Cookie", sessionCookie + "=x", "Origin", "https://evil.example", "Sec-Fetch-Site", "cross-site"}},
	} {
		if resp, body := h.do(t, "POST", "/v1/chat/completions", "", chatBody(false, ""), c.header...); resp.StatusCode != c.status {
			t.Errorf("%s: %d %s, want %d", c.name, resp.StatusCode, body, c.status)
		}
	}
}

// Who has no key and the console do not share what they store.
func TestAnonymousCallersAndTheConsoleAreApart(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }}, func(o *Options) { o.Exposure.Open = true })
	resp, _ := h.do(t, "POST", "/gate/session", "", `{"key": "`+h.owner+`"}`)
	cookie := sessionCookie + "=" + resp.Cookies()[0].Value
	var mine reply
	_, raw := h.do(t, "POST", "/v1/responses", "", `{"model":"harbour-4m","input":"x"}`, "Cookie", cookie)
	if err := json.Unmarshal([]byte(raw), &mine); err != nil || mine.ID == "" {
		t.Fatal(raw, err)
	}
	if resp, raw := h.do(t, "GET", "/v1/responses/"+mine.ID, "", ""); resp.StatusCode != 404 {
		t.Errorf("anybody reads what the console stored: %d %s", resp.StatusCode, raw)
	}
	if resp, raw := h.do(t, "DELETE", "/v1/responses/"+mine.ID, "", ""); resp.StatusCode != 404 {
		t.Errorf("anybody deletes it: %d %s", resp.StatusCode, raw)
	}
	if resp, raw := h.do(t, "GET", "/v1/responses/"+mine.ID, "", "", "Cookie", cookie); resp.StatusCode != 200 {
		t.Errorf("the console: %d %s", resp.StatusCode, raw)
	}
}

// Pages of the origins that the owner allows get what a browser asks for before and after a call; others are told which setting.
func TestBrowserOrigins(t *testing.T) {
	preflight := []string{"Access-Control-Request-Method", "POST", "Access-Control-Request-Headers", "authorization,content-type,x-client"}
	for _, c := range []struct {
		origins []string
		origin  string
		allowed bool
	}{
		{nil, "https://app.example", false},
		{[]string{"https://app.example"}, "https://app.example", true},
		{[]string{"https://app.example"}, "https://app.example.evil.example", false},
		{[]string{"https://app.example"}, "http://app.example", false},
		{[]string{"https://app.example"}, "null", false},
		{[]string{AnyOrigin}, "https://anything.example", true},
	} {
		h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }}, func(o *Options) { o.Exposure.BrowserOrigins = c.origins })
		resp, body := h.do(t, "OPTIONS", "/v1/chat/completions", "", "", append(preflight, "Origin", c.origin)...)
		granted := resp.Header.Get("Access-Control-Allow-Origin") == c.origin
		if granted != c.allowed {
			t.Errorf("%v: the preflight of %s is granted: %v", c.origins, c.origin, granted)
		}
		if c.allowed && (resp.StatusCode != 204 || resp.Header.Get("Access-Control-Allow-Headers") != preflight[3] || !strings.Contains(resp.Header.Get("Access-Control-Allow-Methods"), "POST")) {
			t.Errorf("%v: %d %v", c.origins, resp.StatusCode, resp.Header)
		}
		if !c.allowed && (resp.StatusCode != 403 || !strings.Contains(body, "browser_origins")) {
			t.Errorf("%v: %d %s", c.origins, resp.StatusCode, body)
		}
		resp, _ = h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(false, ""), "Origin", c.origin)
		if got := resp.Header.Get("Access-Control-Allow-Origin"); resp.StatusCode != 200 || (got == c.origin) != c.allowed {
			t.Errorf("%v: the call of %s: %d, allowed %q", c.origins, c.origin, resp.StatusCode, got)
		}
		if c.allowed && !strings.Contains(resp.Header.Get("Access-Control-Expose-Headers"), "X-Request-Id") {
			t.Errorf("the page cannot see the request's id: %v", resp.Header)
		}
		if !slices.Contains(resp.Header.Values("Vary"), "Origin") {
			t.Errorf("%v: Vary is %q", c.origins, resp.Header.Values("Vary"))
		}
		if resp, _ := h.do(t, "OPTIONS", "/gate/keys", "", "", append(preflight, "Origin", c.origin)...); resp.Header.Get("Access-Control-Allow-Origin") != "" {
			t.Errorf("%v: a page of %s may manage the gate", c.origins, c.origin)
		}
	}
}

// Keys are mislaid in a few ways, each of which has its answer. None repeats a key, nor does the log.
func TestMislaidKeys(t *testing.T) {
	var log bytes.Buffer
	h := start(t, &scripted.Runner{}, func(o *Options) {
		o.Log = slog.New(slog.NewTextHandler(&log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	})
	for _, c := range []struct {
		path, says string
		header     []string
	}{
		{"/v1/models", "the header X-Api-Key", []string{"X-Api-Key", h.key}},
		{"/v1/models", "the header Api-Key", []string{"Api-Key", h.key}},
		{"/v1/models?key=" + h.key, "in the address (key=…)", nil},
		{"/v1/models?api_key=" + h.key, "in the address (api_key=…)", nil},
		{"/v1/models", "says Bearer twice", []string{"Authorization", "Bearer Bearer " + h.key}},
		{"/v1/models", "says Bearer twice", []string{"Authorization", "Bearer bearer" + h.key}},
		{"/v1/models", "in quotation marks", []string{"Authorization", `Bearer "` + h.key + `"`}},
		{"/v1/models", "in quotation marks", []string{"Authorization", "Bearer '" + h.key + "'"}},
		{"/v1/models", "name of a variable", []string{"Authorization", "Bearer $KINDRED_KEY"}},
		{"/v1/models", "name of a variable", []string{"Authorization", "Bearer {{ $credentials.key }}"}},
		{"/v1/models", "name of a variable", []string{"Authorization", "Bearer <your key>"}},
		{"/v1/models", "the word Bearer", []string{"Authorization", h.key}},
		{"/v1/" + h.key + "/models", "did you mean", []string{"Authorization", "Bearer " + h.key}},
		{"/v1/models/" + h.key, "is not installed", []string{"Authorization", "Bearer " + h.key}},
	} {
		resp, body := h.do(t, "GET", c.path, "", "", c.header...)
		if resp.StatusCode < 400 || !strings.Contains(body, c.says) {
			t.Errorf("%v %s: %d %s, want %q", c.header, c.path, resp.StatusCode, body, c.says)
		}
		if half := h.key[:20]; strings.Contains(body, half) || strings.Contains(log.String(), half) {
			t.Errorf("%v %s: the key is repeated: %s %s", c.header, c.path, body, log.String())
		}
	}
}

// What people get wrong about the address and the body is said as such.
func TestHintsForBodiesAndPaths(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }})
	const chat = "/v1/chat/completions"
	ok := chatBody(false, "")
	packed := func(encoding string, text string) string {
		var b bytes.Buffer
		switch encoding {
		case "gzip":
			z := gzip.NewWriter(&b)
			fmt.Fprint(z, text)
			z.Close()
		case "zstd":
			z, err := zstd.NewWriter(&b)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprint(z, text)
			z.Close()
		}
		return b.String()
	}
	bomb := `{"model":"` + strings.Repeat("x", maxBody) + `"}`
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		says                     string
		header                   []string
	}{
		{"gzip", "POST", chat, packed("gzip", ok), 200, "Aye.", []string{"Content-Encoding", "gzip"}},
		{"zstd", "POST", chat, packed("zstd", ok), 200, "Aye.", []string{"Content-Encoding", "zstd"}},
		{"a bomb of gzip", "POST", chat, packed("gzip", bomb), 413, "when it is unpacked", []string{"Content-Encoding", "gzip"}},
		{"a bomb of zstd", "POST", chat, packed("zstd", bomb), 413, "when it is unpacked", []string{"Content-Encoding", "zstd"}},
		{"gzip that is none", "POST", chat, ok, 400, "is not what its Content-Encoding", []string{"Content-Encoding", "gzip"}},
		{"zstd cut short", "POST", chat, packed("zstd", ok)[:20], 400, "is not what its Content-Encoding", []string{"Content-Encoding", "zstd"}},
		{"brotli", "POST", chat, ok, 400, "gzip and zstd are understood", []string{"Content-Encoding", "br"}},
		{"a form", "POST", chat, "model=harbour-4m&prompt=x", 400, "/v1/generate with the field prompt", []string{"Content-Type", "application/x-www-form-urlencoded"}},
		{"JSON that is wrong, said to be a form", "POST", chat, "{\"model\": 1,}", 400, "a comma stands before }", []string{"Content-Type", "application/x-www-form-urlencoded"}},
		{"JSON without a type", "POST", chat, ok, 200, "Aye.", nil},
		{"a form in parts for generate", "POST", "/v1/generate", "--x\r\nContent-Disposition: form-data; name=\"model\"\r\n\r\nharbour-4m\r\n--x\r\nContent-Disposition: form-data; name=\"prompt\"\r\n\r\nx\r\n--x--\r\n", 200, "Aye.", []string{"Content-Type", "multipart/form-data; boundary=x"}},
		{"a form in parts", "POST", chat, "--x\r\n", 400, "which this endpoint does not take", []string{"Content-Type", "multipart/form-data; boundary=x"}},
		{"JSON that is said to be a form", "POST", chat, ok, 200, "Aye.", []string{"Content-Type", "application/x-www-form-urlencoded"}},
		{"a byte-order mark", "POST", chat, "\ufeff" + ok, 200, "Aye.", nil},
		{"curly quotes", "POST", chat, strings.ReplaceAll(ok, `"`, "“"), 400, "as word processors write it", nil},
		{"single quotes", "POST", chat, strings.ReplaceAll(ok, `"`, "'"), 400, "JSON wants", nil},
		{"the base URL", "GET", "/v1", "", 404, "clients append what they want", nil},
		{"the base URL with a slash", "POST", "/v1/", ok, 404, "clients append what they want", nil},
	} {
		resp, body := h.do(t, c.method, c.path, h.key, c.body, c.header...)
		if resp.StatusCode != c.status || !strings.Contains(body, c.says) {
			t.Errorf("%s: %d %s, want %d with %q", c.name, resp.StatusCode, body, c.status, c.says)
		}
	}
}

// A gate proves over the network that it knows its owner key, and only to a challenge that is worth the name.
func TestProofOverTheNetwork(t *testing.T) {
	h := start(t, &scripted.Runner{})
	challenge := rand.Text()
	_, raw := h.do(t, http.MethodGet, "/gate/proof?challenge="+challenge, "", "")
	var p Proof
	if err := json.Unmarshal([]byte(raw), &p); err != nil {
		t.Fatal(err, raw)
	}
	proof, err := hex.DecodeString(p.Proof)
	if err != nil || !keyring.Proves(h.owner, challenge, strings.TrimPrefix(h.url, "http://"), proof) {
		t.Errorf("%s proves nothing: %v", raw, err)
	}
	for _, c := range []string{"", "short", strings.Repeat("x", 200)} {
		if resp, raw := h.do(t, http.MethodGet, "/gate/proof?challenge="+c, "", ""); resp.StatusCode != 400 {
			t.Errorf("%q: %d %s", c, resp.StatusCode, raw)
		}
	}
}

// The console's page may load nothing from elsewhere, and no other page may frame it.
func TestContentPolicy(t *testing.T) {
	h := start(t, &scripted.Runner{})
	resp, _ := h.do(t, "GET", "/", "", "", "Accept", "text/html")
	policy := resp.Header.Get("Content-Security-Policy")
	for _, want := range []string{"default-src 'self'", "frame-ancestors 'none'", "base-uri 'none'", "form-action 'self'"} {
		if !strings.Contains(policy, want) {
			t.Errorf("the policy %q lacks %s", policy, want)
		}
	}
	if strings.Contains(policy, "unsafe-eval") || strings.Contains(policy, "script-src") {
		t.Errorf("scripts: %q", policy)
	}
	if resp.Header.Get("X-Content-Type-Options") != "nosniff" || resp.Header.Get("Referrer-Policy") != "no-referrer" {
		t.Errorf("%v", resp.Header)
	}
}
