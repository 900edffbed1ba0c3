package tool

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

// answers is a server whose tool does what a test says.
type answers struct {
	do     func(ctx context.Context, arguments string) (Result, error)
	closed bool
}

func (a *answers) Tools(context.Context) ([]Tool, error) {
	return []Tool{{Name: "read", Schema: json.RawMessage(`{"type":"object"}`)}}, nil
}
func (a *answers) Call(ctx context.Context, _ string, arguments json.RawMessage) (Result, error) {
	return a.do(ctx, string(arguments))
}
func (a *answers) Status() Status { return Status{} }
func (a *answers) Close() error   { a.closed = true; return nil }

// A result is cut in the middle, at whole characters, and says how much is missing.
func TestBound(t *testing.T) {
	for _, c := range []struct {
		text string
		most int
		want string
	}{
		{"short", 100, "short"},
		{strings.Repeat("a", 90) + strings.Repeat("b", 60), 90, strings.Repeat("a", 60) + "\n[… 60 bytes are left out here …]\n" + strings.Repeat("b", 30)},
		{strings.Repeat("é", 100), 31, strings.Repeat("é", 10) + "\n[… 170 bytes are left out here …]\n" + strings.Repeat("é", 5)},
		{"a\xffb", 100, "a\uFFFDb"},
	} {
		if r := (Result{Text: c.text}).Bound(c.most); r.Text != c.want || r.Bytes != len(c.text) {
			t.Errorf("%q, %d bytes, not %q", r.Text, r.Bytes, c.want)
		}
	}
}

func FuzzBound(f *testing.F) {
	f.Add("a\xff€", 3)
	f.Fuzz(func(t *testing.T, text string, most int) {
		most = max(0, min(most, 1<<16))
		r := (Result{Text: text}).Bound(most)
		if !utf8.ValidString(r.Text) || len(r.Text) > most+60 {
			t.Errorf("%q of at most %d bytes became %q", text, most, r.Text)
		}
	})
}

// What a server lists is held to what can be offered.
func TestListed(t *testing.T) {
	schema := json.RawMessage(`{"type":"object"}`)
	usable, skipped := Listed("ferry", []Tool{{Name: "fine", Schema: schema, Description: "a\xffb"}, {Name: "fine", Schema: schema}, {Name: "no name", Schema: schema}, {Name: "kind", Schema: json.RawMessage(`{"type":["object"]}`)},
		{Name: "none", Schema: json.RawMessage(`null`)}, {Name: "long", Schema: json.RawMessage(`{"a":"` + strings.Repeat("x", LongestSchema) + `"}`)}, {Name: "wordy", Schema: schema, Description: strings.Repeat("é", longDescription)}})
	if len(usable) != 2 || usable[0].ID() != "ferry/fine" || usable[0].Description != "a\uFFFDb" || len(usable[1].Description) > longDescription || !utf8.ValidString(usable[1].Description) || len(skipped) != 5 {
		t.Errorf("%+v, %q", usable, skipped)
	}
}

// Calls are counted, bounded in time, and their arguments held to the schema. One that comes back late is not waited for.
func TestCalls(t *testing.T) {
	release := make(chan struct{})
	defer close(release)
	s := NewSet(Limits{Time: 50 * time.Millisecond, Result: 100})
	server := &answers{}
	s.Replace(map[string]Server{"ferry": server}, s.Limits())
	one := Tool{Server: "ferry", Name: "read", Schema: json.RawMessage(`{"type":"object","properties":{"n":{"type":"integer"}},"required":["n"]}`)}
	for _, c := range []struct {
		arguments string
		do        func(context.Context, string) (Result, error)
		text      string
		failure   Kind
	}{
		{`{"n":1}`, func(_ context.Context, a string) (Result, error) { return Result{Text: "got " + a}, nil }, `got {"n":1}`, ""},
		{`{"n":1.0}`, func(_ context.Context, a string) (Result, error) { return Result{Text: "got " + a}, nil }, `got {"n":1.0}`, ""},
		{`{"n":"x"}`, nil, "Error: the arguments are not valid by the tool's schema: at '/n': got string, want integer", Execution},
		{``, nil, "Error: the arguments are not valid by the tool's schema: at '': missing property 'n'", Execution},
		{`{"n":`, nil, "Error: the arguments are no JSON", Execution},
		{`[]`, nil, "Error: the arguments are no JSON object", Execution},
		{`{"n":1}`, func(context.Context, string) (Result, error) { return Result{}, errors.New("no boat") }, "Error: no boat", Protocol},
		{`{"n":1}`, func(context.Context, string) (Result, error) {
			return Result{}, &Failure{Kind: HTTP, Code: 503, Message: "down"}
		}, "Error: down", HTTP},
		{`{"n":1}`, func(context.Context, string) (Result, error) { panic("overboard") }, "Error: the call panicked: overboard", Protocol},
		{`{"n":1}`, func(context.Context, string) (Result, error) {
			select {
			case <-release:
			case <-time.After(5 * time.Second):
			}
			return Result{Text: "late"}, nil
		}, "Error: the tool took too long and was given up", Protocol},
	} {
		server.do = c.do
		r := s.Call(t.Context(), one, c.arguments)
		var failure Kind
		if r.Failure != nil {
			failure = r.Failure.Kind
		}
		if !strings.HasPrefix(r.Text, c.text) || failure != c.failure {
			t.Errorf("%s gives %q, %q; not %q, %q", c.arguments, r.Text, failure, c.text, c.failure)
		}
	}
	if u := s.Usage(one); u.Calls != 10 || u.Failed != 8 || u.MeanMS() <= 0 {
		t.Errorf("%+v", u)
	}
	// A schema that is none is the server's to enforce, and nothing is fetched for it.
	server.do = func(_ context.Context, a string) (Result, error) { return Result{Text: a}, nil }
	for _, schema := range []string{`{"type":"nonsense"}`, `{"$ref":"http://127.0.0.1:1/x"}`, `{"properties":{"n":{"pattern":"("}}}`} {
		if r := s.Call(t.Context(), Tool{Server: "ferry", Name: "read", Schema: json.RawMessage(schema)}, `{"n":"x"}`); r.Text != `{"n":"x"}` {
			t.Errorf("%s: %+v", schema, r)
		}
	}
}

// Servers that stay are the same, with their counts; those that are gone are closed, and not to be called any more.
func TestReplace(t *testing.T) {
	s := NewSet(Limits{Time: time.Second, Result: 100})
	stays, goes := &answers{do: func(context.Context, string) (Result, error) { return Result{Text: "here"}, nil }}, &answers{}
	s.Replace(map[string]Server{"stays": stays, "goes": goes}, s.Limits())
	list, err := s.Tools(t.Context(), "stays")
	if err != nil || list[0].Server != "stays" {
		t.Fatal(list, err)
	}
	s.Call(t.Context(), list[0], "{}")
	s.Replace(map[string]Server{"stays": stays}, Limits{Time: time.Second, Result: 2})
	if s.Usage(list[0]).Calls != 1 || stays.closed || !goes.closed || len(s.Known("stays")) != 1 || s.Limits().Result != 2 {
		t.Errorf("%+v, %v, %v", s.Usage(list[0]), stays.closed, goes.closed)
	}
	if _, err := s.Tools(t.Context(), "goes"); !errors.Is(err, ErrUnknown) || !strings.Contains(err.Error(), "the gate has: stays") {
		t.Error(err)
	}
	if r := s.Call(t.Context(), Tool{Server: "goes", Name: "read"}, "{}"); r.Failure == nil {
		t.Errorf("%+v", r)
	}
	if err := s.Close(); err != nil || !stays.closed || len(s.Names()) != 0 {
		t.Error(err, s.Names())
	}
}
