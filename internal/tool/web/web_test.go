package web

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"kindredgate/internal/tool"
)

// Arguments go where they belong, and cannot reach another path or host.
func TestRequests(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		switch r.URL.Path {
		case "/down":
			http.Error(w, "the pump is out of order "+r.Header.Get("Authorization"), http.StatusServiceUnavailable)
		case "/long":
			_, _ = w.Write(make([]byte, longestAnswer+10))
		case "/elsewhere":
			http.Redirect(w, r, "http://169.254.169.254/", http.StatusFound)
		case "/here":
			http.Redirect(w, r, "/there", http.StatusFound)
		default:
			fmt.Fprintf(w, "%s %s %s %s", r.Method, r.URL.RequestURI(), body, r.Header.Get("Authorization"))
		}
	}))
	defer server.Close()
	for _, c := range []struct{ method, url, arguments, want, failure string }{
		{"GET", "/fare/{island}", `{"island":"Tarn Holm","adults":2}`, "GET /fare/Tarn%20Holm?adults=2  Bearer s", ""},
		{"GET", "/fare/{island}", `{"island":"../../secret?x=1"}`, "GET /fare/..%2F..%2Fsecret%3Fx=1  Bearer s", ""},
		{"GET", "/fare/{island}/x", `{"island":".."}`, "GET /fare/-/x  Bearer s", ""},
		{"GET", "/fare?a=1", `{"b":["x"],"c":null}`, "GET /fare?a=1&b=%5B%22x%22%5D&c=  Bearer s", ""},
		{"POST", "/hold/{island}", `{"island":"Osmer","seats":2}`, `POST /hold/Osmer {"seats":2} Bearer s`, ""},
		{"DELETE", "/hold", `{"reference":"LP-1"}`, "DELETE /hold?reference=LP-1  Bearer s", ""},
		{"GET", "/fare/{island}", `{}`, "", `tool_execution_error the argument "island" is missing`},
		{"GET", "/down", `{}`, "", "http_error the endpoint answers 503 Service Unavailable: the pump is out of order"},
		{"GET", "/long", `{}`, "", "protocol_error its answer is longer than is read"},
		{"GET", "/elsewhere", `{}`, "", "it redirects to http://169.254.169.254, where it is not followed"},
		{"GET", "/here", `{}`, "GET /there  Bearer s", ""},
	} {
		s, err := New("fares", Options{URL: server.URL + c.url, Method: c.method, Headers: map[string]string{"Authorization": "Bearer s"}, Description: "x", Schema: json.RawMessage(`{"type":"object"}`)})
		if err != nil {
			t.Fatal(err)
		}
		list, _ := s.Tools(t.Context())
		r := tool.Call(t.Context(), s, list[0], c.arguments, tool.Limits{Time: 5e9, Result: 1 << 20})
		failure := ""
		if r.Failure != nil {
			failure = string(r.Failure.Kind) + " " + r.Failure.Message
		}
		if c.failure == "" && (r.Text != c.want || failure != "") || c.failure != "" && !strings.Contains(failure, c.failure) {
			t.Errorf("%s %s %s: %q, %q", c.method, c.url, c.arguments, r.Text, failure)
		}
		if strings.Contains(failure+s.Status().Error, "Bearer s") {
			t.Errorf("%s: its key is in %q", c.url, failure)
		}
		if (s.Status().State == tool.Down) != (c.failure != "") {
			t.Errorf("%s: %+v", c.url, s.Status())
		}
	}
}

// An endpoint that makes no sense is refused when it is set up.
func TestNew(t *testing.T) {
	for _, c := range []struct{ url, method, want string }{
		{"http://tools.example/{x}", "GET", ""},
		{"http://tools.example/", "CONNECT", "its method"},
		{"ftp://tools.example/", "GET", "its url"},
		{"http://u:p@tools.example/", "GET", "without a user"},
		{"http://{host}/", "GET", "where its host is"},
		{"http://tools.example:{port}/", "GET", "its url"},
	} {
		_, err := New("x", Options{URL: c.url, Method: c.method, Schema: json.RawMessage(`{}`)})
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %s: %v, not %q", c.method, c.url, err, c.want)
		}
	}
}
