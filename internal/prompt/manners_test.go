package prompt

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/reading"
)

// What newer families' templates write for calls is found out by probing, and read back as it was put in: one call, two, and arguments of
// every kind, whole and a character at a time.
func TestManners(t *testing.T) {
	plain, _ := harbour(t)
	think := reading.Marks{Open: "<think>", Close: "</think>"}
	for name, want := range map[string]struct {
		form      reading.Form
		reasoning reading.Marks
	}{
		"argument-tags": {reading.Tags, think}, "invoke-tags": {reading.Tags, think}, "fenced-json": {reading.Named, reading.Marks{}},
		"name-then-json": {reading.Named, reading.Marks{Open: "[THINK]", Close: "[/THINK]"}}, "action-list": {reading.JSON, reading.Marks{Open: "<|START_THINKING|>", Close: "<|END_THINKING|>"}},
		"named-function-tags": {reading.FunctionTags, reading.Marks{Open: "<quay:think>", Close: "</quay:think>"}}, "marked-python": {reading.Python, reading.Marks{}},
	} {
		t.Run(name, func(t *testing.T) {
			raw, err := os.ReadFile(filepath.Join("testdata/templates", name+".jinja"))
			if err != nil {
				t.Fatal(err)
			}
			tmpl, err := New(string(raw), plain.tok)
			if err != nil {
				t.Fatal(err)
			}
			a := tmpl.Abilities()
			if a.Style.Form != want.form || a.Style.Reasoning != want.reasoning || !a.Calls || !a.ParallelCalls || !a.Tools || !a.Results || a.Style.Frame.Before == "" {
				t.Fatalf("%+v", a)
			}
			user := say(exchange.User, exchange.Text("u"))
			tools := []exchange.Tool{{Name: "next_sailing", Parameters: json.RawMessage(`{"type": "object", "properties": {"island": {"type": "string"}}}`)}}
			one := exchange.ToolCall{ID: "call0000a", Name: "next_sailing", Arguments: `{"island": "Wick \"Skerry\" <b>", "seats": 2, "return": true}`}
			two := exchange.ToolCall{ID: "call0000b", Name: "fare.quote-2", Arguments: `{"legs": [{"to": "Osmer"}], "note": "a\nb"}`}
			none := exchange.ToolCall{ID: "call0000c", Name: "list_islands", Arguments: `{}`}
			if name == "named-function-tags" || name == "marked-python" {
				two.Name = "fare_quote"
			}
			for _, calls := range [][]exchange.ToolCall{{one}, {two, one}, {none}, {one, none, two}} {
				var parts []exchange.Part
				for _, c := range calls {
					parts = append(parts, c)
				}
				said, err := tmpl.lay(Conversation{Turns: []exchange.Turn{user, say(exchange.Assistant, exchange.Text("x"))}, Tools: tools, Continue: true})
				if err != nil {
					t.Fatal(err)
				}
				called, err := tmpl.lay(Conversation{Turns: []exchange.Turn{user, say(exchange.Assistant, parts...)}, Tools: tools, Continue: true})
				if err != nil {
					t.Fatal(err)
				}
				written := between(said.Text, called.Text)
				style := tmpl.StyleOf(Conversation{Turns: []exchange.Turn{user}, Tools: tools})
				style.Inside = false
				for _, size := range []int{len(written), 1} {
					r := reading.New(style)
					var got []reading.Call
					var text strings.Builder
					take := func(pieces []reading.Piece) {
						for _, p := range pieces {
							if p.Call != nil {
								got = append(got, *p.Call)
							}
							text.WriteString(p.Text)
						}
					}
					for rest := written; rest != ""; rest = rest[min(size, len(rest)):] {
						take(r.Add(rest[:min(size, len(rest))]))
					}
					take(r.End())
					if len(got) != len(calls) || r.Malformed() != 0 || strings.TrimSpace(text.String()) != "" {
						t.Fatalf("%d of %d calls are read of %q, and the text %q", len(got), len(calls), written, text.String())
					}
					for i, c := range calls {
						var a, b map[string]any
						if json.Unmarshal([]byte(got[i].Arguments), &a) != nil || json.Unmarshal([]byte(c.Arguments), &b) != nil || got[i].Name != c.Name || !reflect.DeepEqual(a, b) {
							t.Errorf("call %d is read as %+v, want %+v, of %q", i, got[i], c, written)
						}
					}
				}
			}
		})
	}
}
