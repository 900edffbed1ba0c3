package native

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/sampling"
)

const harbour = "../../../demo/models/harbour-4m/harbour-4m.gguf"

func ask(text string) *exchange.Request {
	greedy := 0.0
	return &exchange.Request{
		Turns:    []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(text)}}},
		Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: &greedy}},
	}
}

// A stream is Started, then deltas whose tokens add up to those of Finish, for each candidate.
func TestRunGivesWellFormedStreams(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	req := ask("When is the last boat to Osmer?")
	req.Candidates = 3
	texts, tokens, finished := make([]string, 3), make([]int, 3), 0
	first := true
	for event, err := range r.Run(t.Context(), harbour, req) {
		if err != nil {
			t.Fatal(err)
		}
		started, ok := event.(exchange.Started)
		if ok != first || ok && (started.PromptTokens != 12 || started.Timings.Load <= 0 || started.Timings.Prefill <= 0) {
			t.Errorf("event %+v, the first: %v", event, first)
		}
		first = false
		switch event := event.(type) {
		case exchange.Started:
		case exchange.TextDelta:
			texts[event.Candidate] += event.Text
			tokens[event.Candidate] += event.Tokens
		case exchange.Finish:
			finished++
			// The end token is generated too, and has no text.
			if event.Reason != exchange.Stopped || event.Tokens != tokens[event.Candidate]+1 {
				t.Errorf("%+v after %d tokens", event, tokens[event.Candidate])
			}
		}
	}
	for i, text := range texts {
		if text == "" || text != texts[0] {
			t.Errorf("candidate %d says %q, the first %q", i, text, texts[0])
		}
	}
	if finished != 3 || r.Status(harbour).State != Loaded {
		t.Errorf("%d candidates finished, loaded: %v", finished, r.Status(harbour).State)
	}
}

func TestFailuresAreToldInWords(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	dir := t.TempDir()
	broken := filepath.Join(dir, "broken.gguf")
	if err := os.WriteFile(broken, []byte("GGUF and then nothing"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, path string
		req        *exchange.Request
		kind       exchange.Kind
		code, want string
	}{
		{"no such file", dir + "/none.gguf", ask("x"), exchange.Unavailable, "runner_unavailable", "no such file"},
		{"broken file", broken, ask("x"), exchange.Unavailable, "runner_unavailable", "not supported"},
		{"long prompt", harbour, ask(strings.Repeat("word ", 3000)), exchange.Invalid, "context_length_exceeded", "maximum context length is 2048"},
	} {
		for event, err := range r.Run(t.Context(), c.path, c.req) {
			var e *exchange.Error
			if event != nil || !errors.As(err, &e) || e.Kind != c.kind || e.Code != c.code || !strings.Contains(e.Message, c.want) {
				t.Errorf("%s: %v, %v", c.name, event, err)
			}
			if e != nil && strings.Contains(e.Message, dir) {
				t.Errorf("%s: a client is told the path: %s", c.name, e.Message)
			}
		}
	}
	// A file that is mended is loaded the next time.
	raw, err := os.ReadFile(harbour)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(broken, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Render(t.Context(), broken, ask("x")); err != nil {
		t.Errorf("the mended file: %v", err)
	}
}

func TestTemplateOverride(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	for source, want := range map[string]string{
		"{{ bos_token }}{% for m in messages %}[{{ m.content }}]{% endfor %}": "",
		"{% for %}":                      "template line 1",
		"{{ raise_exception('never') }}": "never",
		"nothing of it":                  "shows nothing of what a user says",
	} {
		if err := r.CheckTemplate(t.Context(), harbour, source); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", source, err, want)
		}
	}
	req := ask("Hi")
	req.Template = "<{{ messages[0].content }}>"
	if p, err := r.Render(t.Context(), harbour, req); err != nil || p.Text != "<Hi>" {
		t.Errorf("%+v, %v", p, err)
	}
	req.Tools = []exchange.Tool{{Name: "f"}} // which that template does not show
	for _, err := range r.Run(t.Context(), harbour, req) {
		var e *exchange.Error
		if !errors.As(err, &e) || e.Param != "tools" {
			t.Errorf("tools that the template cannot show: %v", err)
		}
	}
}

// Weights are put on tokens that there are.
func TestBiasOfTokensThatThereAreNot(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	for id, want := range map[int32]string{-1: "token -1", 4096: "token 4096; the model's tokens are 0 to ", 5: ""} {
		req := ask("Hi")
		req.MaxTokens, req.Sampling.LogitBias = 1, map[int32]float64{id: 1}
		for _, err := range r.Run(t.Context(), harbour, req) {
			if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
				t.Errorf("%v, want %q", err, want)
			}
		}
	}
}

// Only a limit that somebody set counts as the length that a text may come to.
func TestOpenEnds(t *testing.T) {
	l, err := open(harbour, Options{}, nil, func(needs) error { return nil })
	if err != nil {
		t.Fatal(err)
	}
	defer l.close()
	for most, want := range map[int]bool{0: true, 5: false, 1 << 20: false} {
		req := ask("Hi")
		req.MaxTokens = most
		if p, err := l.plan(t.Context(), req); err != nil || p.job.Open != want || p.job.MaxTokens <= 0 {
			t.Errorf("of %d: %+v, %v", most, p, err)
		}
	}
}

func TestCloseEndsAnswers(t *testing.T) {
	r := New(Options{})
	closed := false
	for _, err := range r.Run(t.Context(), harbour, ask("Write a guide to Marrow Isle.")) {
		var e *exchange.Error
		if err != nil && (!errors.As(err, &e) || e.Code != "shutting_down") {
			t.Errorf("error %v", err)
		}
		if !closed {
			closed = true
			if err := r.Close(); err != nil {
				t.Error(err)
			}
		}
	}
	for _, err := range r.Run(t.Context(), harbour, ask("x")) {
		var e *exchange.Error
		if !errors.As(err, &e) || e.Code != "shutting_down" {
			t.Errorf("after closing: %v", err)
		}
	}
}

// The engine is told whose request it is, by which places are given in turns.
func TestPlansHaveAnOwner(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	l, err := r.get(t.Context(), harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer l.release()
	req := ask("Who asks?")
	req.Owner = "abcd1234"
	if p, err := l.plan(t.Context(), req); err != nil || p.job.Owner != req.Owner {
		t.Errorf("%+v, %v", p, err)
	}
}
