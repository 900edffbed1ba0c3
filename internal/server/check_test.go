package server

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"

	"kindredgate/internal/check"
	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// Whoever looks at a gate from outside sees what is between it and its applications.
func TestLookingFromOutside(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }})
	spent, _ := h.issueWith(t, `{"label":"spent","limits":{"requests_per_day":1}}`)
	h.do(t, "POST", "/v1/generate", spent, `{"model":"harbour-4m","prompt":"x"}`)
	target, err := url.Parse(h.url)
	if err != nil {
		t.Fatal(err)
	}
	proxy := func(handler http.HandlerFunc) string {
		s := httptest.NewServer(handler)
		t.Cleanup(s.Close)
		return s.URL
	}
	forward := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target) }}
	under := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(target); r.Out.Host = r.In.Host }}
	// gathers passes an answer on when it is whole, as a proxy does that buffers.
	gathers := proxy(func(w http.ResponseWriter, r *http.Request) {
		got := httptest.NewRecorder()
		forward.ServeHTTP(got, r)
		for name, values := range got.Header() {
			w.Header()[name] = values
		}
		w.WriteHeader(got.Code)
		_, _ = io.Copy(w, got.Body)
	})
	other := proxy(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Server", "somebody")
		w.WriteHeader(http.StatusBadGateway)
	})
	named := proxy(func(w http.ResponseWriter, r *http.Request) {
		r.Host = "tunnel.example"
		under.ServeHTTP(w, r)
	})
	secure := httptest.NewTLSServer(forward)
	t.Cleanup(secure.Close)
	for _, c := range []struct {
		what, base, key string
		name            string
		state           check.State
		said            string
	}{
		{"a gate as it should be", h.url + "/v1", h.key, "streams", check.OK, "piece by piece"},
		{"no /v1", h.url, h.key, "address", check.Error, "lacks the /v1"},
		{"/v1 twice", h.url + "/v1/v1", h.key, "address", check.Error, "doubled"},
		{"an endpoint", h.url + "/v1/chat/completions", h.key, "address", check.Error, "one endpoint"},
		{"an endpoint, and all the same what comes after", h.url + "/v1/chat/completions", h.key, "models", check.OK, "harbour-4m"},
		{"no scheme", target.Host + "/v1", h.key, "address", check.Warning, "no scheme"},
		{"no address", "https:///v1", h.key, "address", check.Error, "is no address"},
		{"nobody", "http://127.0.0.1:1/v1", h.key, "connection", check.Error, "nothing answers"},
		{"somebody else", other + "/v1", h.key, "gate", check.Error, "502 Bad Gateway, from somebody"},
		{"a name that the gate does not know", named + "/v1", h.key, "host name", check.Error, "tunnel.example"},
		{"no key", h.url + "/v1", "", "key", check.Warning, "no key"},
		{"a key that is none", h.url + "/v1", "kg_x", "key", check.Error, "mistyped"},
		{"a key that may nothing", h.url + "/v1", h.narrow, "models", check.Error, "none that the key may use"},
		{"a key that is used up", h.url + "/v1", spent, "key", check.Warning, "used up"},
		{"a proxy that gathers", gathers + "/v1", h.key, "streams", check.Error, "gathers"},
		{"a proxy that does not", proxy(forward.ServeHTTP) + "/v1", h.key, "streams", check.OK, "piece by piece"},
		{"a certificate of nobody's", secure.URL + "/v1", h.key, "certificate", check.Error, "nobody that this machine trusts"},
		{"TLS where there is none", strings.Replace(h.url, "http:", "https:", 1) + "/v1", h.key, "encryption", check.Error, "does not speak TLS"},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			found := false
			for _, f := range check.Remote(context.Background(), c.base, c.key, nil) {
				if f.Name == c.name {
					found = true
					if f.State != c.state || !strings.Contains(f.Said, c.said) || (f.Remedy == "") != (f.State == check.OK) {
						t.Errorf("%s: %+v", c.what, f)
					}
				}
				if c.key != "" && strings.Contains(f.Said+f.Remedy, c.key) && c.key != "kg_x" {
					t.Errorf("%s: the key is said: %+v", c.what, f)
				}
			}
			if !found {
				t.Errorf("%s: nothing is said of %s", c.what, c.name)
			}
		})
	}
}
