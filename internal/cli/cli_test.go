package cli

import (
	"errors"
	"io"
	"strings"
	"testing"

	"kindredgate/internal/server"
)

// People copy the address in every form that they have seen it in.
func TestSplitAddress(t *testing.T) {
	for address, want := range map[string]string{
		"":                           "http ",
		"127.0.0.1:7717":             "http 127.0.0.1:7717",
		"localhost:7717":             "http localhost:7717",
		"http://127.0.0.1:7717":      "http 127.0.0.1:7717",
		"http://127.0.0.1:7717/v1":   "http 127.0.0.1:7717",
		"http://127.0.0.1:7717/v1/":  "http 127.0.0.1:7717",
		"https://gate.example/v1":    "https gate.example",
		"[::1]:7717":                 "http [::1]:7717",
		"http://":                    "error",
		"ftp://gate.example":         "error",
		"http://gate.example:port/x": "error",
	} {
		scheme, host, err := splitAddress(address)
		got := scheme + " " + host
		if err != nil {
			got = "error"
		}
		if got != want {
			t.Errorf("%q is %q (%v), want %q", address, got, err, want)
		}
	}
}

func TestEvents(t *testing.T) {
	for _, c := range []struct{ name, stream, want, err string }{
		{"whole", "data: {\"a\":1}\n\n: comment\n\ndata: {\"a\":2}\n\ndata: [DONE]\n\n", `{"a":1}{"a":2}`, ""},
		{"with an error", "data: {\"a\":1}\n\ndata: {\"error\":{\"message\":\"the model broke down\"}}\n\n", `{"a":1}`, "the model broke down"},
		{"broken off", "data: {\"a\":1}\n\n", `{"a":1}`, "the answer broke off"},
		{"broken off in an event", "data: {\"a\":1}\n\ndata: {\"a\":", `{"a":1}`, "the answer broke off"},
		{"empty", "", "", "the answer broke off"},
	} {
		var got strings.Builder
		var failure error
		for data, err := range events(strings.NewReader(c.stream), nil) {
			got.Write(data)
			failure = err
		}
		if got.String() != c.want || (failure == nil) != (c.err == "") || failure != nil && !strings.Contains(failure.Error(), c.err) {
			t.Errorf("%s: %q, %v; want %q, %q", c.name, got.String(), failure, c.want, c.err)
		}
	}
	broken := io.MultiReader(strings.NewReader("data: {}\n"), failing{})
	var last error
	for _, err := range events(broken, nil) {
		last = err
	}
	if !errors.Is(last, errBroken) {
		t.Errorf("a line that breaks gives the error %v", last)
	}
}

var errBroken = errors.New("connection lost")

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errBroken }

// A token that reaches over several spans is shown once, with all its origins.
func TestPiecesJoinWhatATokenTies(t *testing.T) {
	p := server.RenderedPrompt{
		Text: "<|user|>Hi<|end|>",
		Spans: []server.PromptSpan{
			{Start: 0, End: 2, Origin: "template", Line: 3, Tokens: 1}, {Start: 2, End: 6, Origin: "messages[0].role"},
			{Start: 6, End: 8, Origin: "template", Line: 3}, {Start: 8, End: 10, Origin: "messages[0].content", Tokens: 1},
			{Start: 10, End: 17, Origin: "template", Line: 3, Tokens: 1},
		},
		TokenList: []server.PromptToken{{ID: 1, Start: 0, End: 8, Control: true}, {ID: 2, Start: 8, End: 10}, {ID: 3, Start: 10, End: 17, Control: true}},
	}
	want := []piece{
		{0, 8, "template, line 3 + messages[0].role", 1, true, true, nil},
		{8, 10, "messages[0].content", 1, false, false, nil},
		{10, 17, "template, line 3", 1, true, true, nil},
	}
	got := pieces(p)
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("piece %d is %+v, want %+v", i, got[i], want[i])
		}
	}
}

func TestNumbersAsPeopleSayThem(t *testing.T) {
	for n, want := range map[int64]string{0: "", 999: "999", 3_672_320: "3.67 M", 1_240_000_000: "1.24 B", 20_000: "20 k"} {
		if got := count(n); got != want {
			t.Errorf("count(%d) is %q, want %q", n, got, want)
		}
	}
	for n, want := range map[int64]string{12: "12 B", 3_973_600: "4.0 MB", 4_100_000_000: "4.1 GB"} {
		if got := size(n); got != want {
			t.Errorf("size(%d) is %q, want %q", n, got, want)
		}
	}
}
