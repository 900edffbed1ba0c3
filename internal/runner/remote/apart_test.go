package remote_test

import (
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/remote"
	"kindredgate/internal/standin"
)

// A model that fails keeps nobody from the machine's others; a machine that cannot be reached is not asked for any.
func TestWhatFailsIsToldApart(t *testing.T) {
	s, m := serve(t, func(s *remote.Settings) { s.Tries = 1 })
	s.Models = append(s.Models, "other")
	if err := m.LookNow(t.Context()); err != nil {
		t.Fatal(err)
	}
	s.Break(standin.Fault{Status: 500, Model: "harbour-4m"})
	for range 4 {
		run(t.Context(), m, ask("x"))
	}
	if s.Asked() != 3 || m.Serves("harbour-4m") || !m.Serves("other") {
		t.Errorf("asked %d times; harbour-4m is served: %v, the other: %v", s.Asked(), m.Serves("harbour-4m"), m.Serves("other"))
	}
	for _, err := range m.Run(t.Context(), "other", ask("x y")) {
		if err != nil {
			t.Error(err)
		}
	}
	for _, one := range m.State().Models {
		if one.Failing != (one.Name == "harbour-4m") {
			t.Errorf("%s: failing is %v", one.Name, one.Failing)
		}
	}
	gone, err := remote.New("gone", remote.Settings{URL: "http://127.0.0.1:1/v1", Tries: 1}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		run(t.Context(), gone, ask("x"))
	}
	if gone.Healthy() || gone.Serves("other") {
		t.Error("a machine that cannot be reached is asked for other models")
	}
}

// The limit of tokens goes out under the name that it came with, and once more under the other where that is refused.
func TestTheNameOfTheLimit(t *testing.T) {
	for _, c := range []struct{ came, refused string }{{"max_tokens", "max_tokens"}, {"max_completion_tokens", "max_completion_tokens"}, {"max_tokens", ""}, {"max_completion_tokens", ""}} {
		s, m := serve(t, nil)
		if c.refused != "" {
			s.Break(standin.Fault{Refuse: `"` + c.refused + `"`})
		}
		req := ask("x y")
		req.MaxTokens = 5
		if c.came != "max_tokens" {
			req.Fields = map[string]string{"max_tokens": c.came}
		}
		for n := range 2 {
			before := s.Asked()
			h := run(t.Context(), m, req)
			times := 1
			if n == 0 && c.refused != "" {
				times = 2
			}
			if h.err != nil || h.text != "x y" || s.Asked()-before != times {
				t.Errorf("%v, request %d: %v, %q, asked %d times", c, n, h.err, h.text, s.Asked()-before)
			}
			has := strings.Contains(s.Last().Body, `"`+c.came+`":5`)
			if has != (c.refused == "") {
				t.Errorf("%v, request %d: %s", c, n, s.Last().Body)
			}
		}
	}
	// What is known of the server holds for requests that come with either name.
	s, m := serve(t, nil)
	s.Break(standin.Fault{Refuse: `"max_tokens"`})
	for _, came := range []string{"max_tokens", "max_completion_tokens", "max_tokens"} {
		req := ask("x y")
		req.MaxTokens, req.Fields = 5, map[string]string{"max_tokens": came}
		if h := run(t.Context(), m, req); h.err != nil {
			t.Errorf("%s: %v", came, h.err)
		}
	}
	if s.Asked() != 4 {
		t.Errorf("asked %d times for three requests, of which the first is sent twice", s.Asked())
	}
	// What is refused under both names, or for another reason, is told as it was the first time.
	s, m = serve(t, nil)
	s.Break(standin.Fault{Refuse: `:5`})
	req := ask("x")
	req.MaxTokens = 5
	if h := run(t.Context(), m, req); h.err == nil || s.Asked() != 1 {
		t.Errorf("%v, asked %d times", h.err, s.Asked())
	}
}

// Fields that mean nothing here go to a server whose operator lets them through, and to no other.
func TestFieldsAreCarried(t *testing.T) {
	carried := map[string]json.RawMessage{"verbosity": []byte(`"low"`), "user": []byte(`"kiosk 7"`), "metadata": []byte(`{"line":"sorrel"}`), "service_tier": []byte(`"flex"`)}
	for _, c := range []struct {
		fields   []string
		notFound string
		has      []string
	}{
		{nil, "", nil},
		{[]string{"verbosity", "user"}, "", []string{`"verbosity":"low"`, `"user":"kiosk 7"`}},
		{exchange.Carryable, "", []string{`"verbosity":"low"`, `"user":"kiosk 7"`, `"metadata":{"line":"sorrel"}`, `"service_tier":"flex"`}},
		{exchange.Carryable, "/v1/chat/completions", []string{`"text":{"verbosity":"low"}`, `"user":"kiosk 7"`, `"metadata":{"line":"sorrel"}`, `"service_tier":"flex"`}},
	} {
		s, m := serve(t, func(s *remote.Settings) { s.Fields = c.fields })
		s.Break(standin.Fault{NotFound: []string{c.notFound}})
		if err := m.LookNow(t.Context()); err != nil {
			t.Fatal(err)
		}
		req := ask("x")
		req.Carried = carried
		if h := run(t.Context(), m, req); h.err != nil {
			t.Error(h.err)
		}
		body, n := s.Last().Body, 0
		for _, part := range []string{"low", "kiosk", "sorrel", "flex"} {
			n += strings.Count(body, part)
		}
		for _, want := range c.has {
			if !strings.Contains(body, want) {
				t.Errorf("%v: %s is not in %s", c.fields, want, body)
			}
		}
		if n != len(c.has) {
			t.Errorf("%v: %s", c.fields, body)
		}
	}
}

// canned answers every request alike.
func canned(t *testing.T, status int, body string) *remote.Machine {
	t.Helper()
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if strings.HasSuffix(r.URL.Path, "/models") {
			_, _ = io.WriteString(w, `{"data":[{"id":"harbour-4m"}]}`)
			return
		}
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(h.Close)
	m, err := remote.New("attic", remote.Settings{URL: h.URL + "/v1", Tries: 1}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Close)
	return m
}

// An error about a field names the one that the client wrote.
func TestErrorsNameTheClientsField(t *testing.T) {
	response := map[string]string{"messages": "input", "max_tokens": "max_output_tokens", "response_format": "text.format"}
	for _, c := range []struct {
		param, want string
		fields      map[string]string
	}{
		{"max_tokens", "max_output_tokens", response},
		{"messages[3].content", "input", response},
		{"response_format.json_schema.schema", "text.format", response},
		{"temperature", "temperature", response},
		{"messages[3].content", "messages[3].content", nil},
	} {
		m := canned(t, 400, `{"error":{"message":"it is wrong","param":"`+c.param+`","code":"invalid_value"}}`)
		req := ask("x")
		req.Fields = c.fields
		if e := exchange.AsError(run(t.Context(), m, req).err); e.Param != c.want || e.Kind != exchange.Invalid {
			t.Errorf("%s: the error is about %q, want %q (%v)", c.param, e.Param, c.want, e)
		}
	}
}

// Looking and probing say of nothing that it is missing, if it could not be seen.
func TestWhatCouldNotBeSeenIsNotMissing(t *testing.T) {
	for _, c := range []struct {
		status  int
		body    string
		chat    remote.Answer
		probing bool // tells something
		tools   remote.Answer
	}{
		{404, `{"error":{"message":"there is no such model","code":"model_not_found"}}`, remote.Yes, false, remote.Unknown},
		{404, `{"error":{"message":"The model does not exist","param":"model"}}`, remote.Yes, false, remote.Unknown},
		{404, `{"detail":"Not Found"}`, remote.No, true, remote.No},
		{401, `{"error":{"message":"who are you"}}`, remote.Unknown, false, remote.Unknown},
		{403, `{"error":{"message":"not for you"}}`, remote.Unknown, false, remote.Unknown},
		{429, `{"error":{"message":"later"}}`, remote.Unknown, false, remote.Unknown},
		{408, `{"error":{"message":"too slow"}}`, remote.Unknown, false, remote.Unknown},
		{400, `{"error":{"message":"tools are not known"}}`, remote.Yes, true, remote.No},
	} {
		m := canned(t, c.status, c.body)
		if err := m.LookNow(t.Context()); err != nil {
			t.Fatal(err)
		}
		if got := m.Look().Abilities.Chat; got != c.chat {
			t.Errorf("%d %s: the chat style is there: %s, want %s", c.status, c.body, got, c.chat)
		}
		_, err := m.Probe(t.Context(), "harbour-4m")
		if (err == nil) != c.probing || m.Look().Of("harbour-4m").Tools != c.tools {
			t.Errorf("%d %s: probing: %v; tools: %s, want %s", c.status, c.body, err, m.Look().Of("harbour-4m").Tools, c.tools)
		}
	}
}
