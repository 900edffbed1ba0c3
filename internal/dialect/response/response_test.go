package response

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

func decodeBody(t testing.TB, body string) *Call {
	t.Helper()
	c, err := Decode([]byte(body))
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// said writes a conversation down.
func said(turns []exchange.Turn) string {
	var out []string
	for _, turn := range turns {
		line := string(turn.Role) + "="
		for _, p := range turn.Parts {
			switch p := p.(type) {
			case exchange.Text:
				line += string(p)
			case exchange.Refusal:
				line += "!" + string(p)
			case exchange.Image:
				line += "[" + p.URL + "]"
			case exchange.ToolCall:
				line += "<" + p.ID + " " + p.Name + p.Arguments + ">"
			case exchange.ToolResult:
				line += "{" + p.CallID + " " + p.Content + "}"
			}
		}
		out = append(out, line)
	}
	return strings.Join(out, " | ")
}

func TestItemsBecomeTurns(t *testing.T) {
	for _, c := range []struct{ name, body, want string }{
		{"a text", `"input":"x"`, "user=x"},
		{"instructions", `"instructions":"i","input":"x"`, "system=i | user=x"},
		{"messages with and without a type", `"input":[{"role":"developer","content":"d"},{"type":"message","role":"user","content":[{"type":"input_text","text":"a"},{"type":"input_text","text":"b"}]}]`, "system=d | user=ab"},
		{"what a model said and called is one turn", `"input":[{"role":"user","content":"x"},{"type":"reasoning","id":"r","summary":[]},{"role":"assistant","content":[{"type":"output_text","text":"One moment."}]},{"type":"function_call","call_id":"c1","name":"f","arguments":"{}"},{"type":"function_call","call_id":"c2","name":"g","arguments":"{}"},{"type":"function_call_output","call_id":"c1","output":"r"},{"type":"function_call_output","call_id":"c2","output":[{"type":"input_text","text":"s"}]}]`,
			"user=x | assistant=One moment.<c1 f{}><c2 g{}> | tool={c1 r} | tool={c2 s}"},
		{"a refusal", `"input":[{"role":"user","content":"x"},{"role":"assistant","content":[{"type":"refusal","refusal":"No."}]},{"role":"user","content":"y"}]`, "user=x | assistant=!No. | user=y"},
		{"what was truncated", `"input":[{"type":"kindred:truncation","id":"t","dropped_turns":2},{"role":"user","content":"x"}]`, "user=x"},
	} {
		call := decodeBody(t, `{"model":"m",`+c.body+`}`)
		if got := said(call.Turns); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
		for _, item := range call.Input {
			if !strings.Contains(string(item), `"type":"`) {
				t.Errorf("%s: an item without a type: %s", c.name, item)
			}
		}
	}
	call := decodeBody(t, `{"model":"m","instructions":"i","input":"x","previous_response_id":"resp_1"}`)
	err := call.Before([]json.RawMessage{json.RawMessage(`{"type":"message","role":"user","content":"before"}`), json.RawMessage(`{"type":"message","role":"assistant","content":[{"type":"output_text","text":"yes"}]}`)})
	if got := said(call.Turns); err != nil || got != "system=i | user=before | assistant=yes | user=x" {
		t.Errorf("%s, %v", got, err)
	}
}

// Tools that do not say whether they are strict are, as far as they can be; whether that is so is found out later.
func TestToolsAreWillingByDefault(t *testing.T) {
	c := decodeBody(t, `{"model":"m","input":"x","tools":[{"type":"function","name":"a","parameters":{"type":"object"}},{"type":"function","name":"b","strict":true,"parameters":{"type":"object"}},{"type":"function","name":"c","strict":false,"parameters":{"type":"object"}},{"type":"function","name":"d"}]}`)
	for i, want := range []struct{ strict, willing bool }{{false, true}, {true, false}, {false, false}, {false, false}} {
		if got := c.Tools[i]; got.Strict != want.strict || got.Willing != want.willing {
			t.Errorf("tool %s: strict %v, willing %v", got.Name, got.Strict, got.Willing)
		}
	}
}

// A response has every field of the specification, with null where there is no value.
func TestWholeSetOfFields(t *testing.T) {
	c := decodeBody(t, `{"model":"m","input":"x"}`)
	w := NewWriter("resp_1", time.Unix(1000, 0), c, func(Event) {})
	raw, err := json.Marshal(w.Response())
	if err != nil {
		t.Fatal(err)
	}
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(raw, &fields); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"id": `"resp_1"`, "object": `"response"`, "status": `"in_progress"`, "completed_at": "null", "error": "null", "incomplete_details": "null",
		"instructions": "null", "max_output_tokens": "null", "max_tool_calls": "null", "previous_response_id": "null", "temperature": "null", "top_p": "null",
		"presence_penalty": "null", "frequency_penalty": "null", "top_logprobs": "null", "tools": "[]", "tool_choice": `"auto"`, "parallel_tool_calls": "true", "truncation": `"disabled"`,
		"text": `{"format":{"type":"text"},"verbosity":null}`, "reasoning": `{"effort":null,"summary":null}`, "store": "true", "background": "false", "service_tier": `"default"`,
		"metadata": "{}", "output": "[]", "user": "null", "safety_identifier": "null", "prompt_cache_key": "null", "prompt_cache_retention": "null", "conversation": "null", "prompt": "null", "moderation": "null"} {
		if got, ok := fields[name]; !ok || string(got) != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
	if got, ok := fields["usage"]; ok { // which the types have once there is one
		t.Errorf("usage is %s before the end", got)
	}
}

// A response that has ended stays as it is.
func TestStatesOnlyMoveForward(t *testing.T) {
	for _, c := range []struct {
		end  func(*Writer)
		want Status
	}{
		{func(w *Writer) { _ = w.Add(exchange.Finish{Reason: exchange.Stopped}) }, completed},
		{func(w *Writer) { _ = w.Add(exchange.Finish{Reason: exchange.Length}) }, incomplete},
		{func(w *Writer) { w.Fail(errors.New("x")) }, failed},
		{func(w *Writer) { w.Cancel() }, cancelled},
	} {
		var last Event
		w := NewWriter("resp_1", time.Now(), decodeBody(t, `{"model":"m","input":"x","background":true}`), func(e Event) { last = e })
		w.Begin()
		if err := w.Add(exchange.Started{PromptTokens: 1}); err != nil {
			t.Fatal(err)
		}
		if err := w.Add(exchange.TextDelta{Text: "a"}); err != nil {
			t.Fatal(err)
		}
		c.end(w)
		ended := last
		w.Fail(errors.New("y"))
		w.Cancel()
		if w.Response().Status != c.want || last.Sequence != ended.Sequence {
			t.Errorf("%s, want %s; %+v after %+v", w.Response().Status, c.want, last, ended)
		}
		if m := w.Response().Output[0].(*Message); m.Status == inProgress {
			t.Errorf("%s leaves an item open", c.want)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, s := range []string{
		`{"model":"m","input":"x","instructions":"i","metadata":{"a":"b"},"text":{"format":{"type":"json_schema","name":"n","schema":{"type":"object"}}}}`,
		`{"model":"m","input":[{"role":"user","content":"x"},{"type":"function_call","call_id":"c","name":"f","arguments":"{}"},{"type":"function_call_output","call_id":"c","output":"r"},{"type":"reasoning"}]}`,
		`{"model":"m","input":[{"role":"user","content":[{"type":"input_text","text":"x"}]}],"tools":[{"type":"function","name":"f","parameters":{}}],"tool_choice":{"type":"allowed_tools","mode":"required","tools":[{"type":"function","name":"f"}]}}`,
		`{"model":"m","input":[null]}`, `{"model":"m","previous_response_id":"r","input":[]}`,
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		c, err := Decode(body)
		if err != nil {
			if e := exchange.AsError(err); e.Kind != exchange.Invalid || e.Message == "" {
				t.Errorf("%q: %v", body, err)
			}
			return
		}
		// What was taken can be gone on from, and a response of it can be written.
		own := said(c.Turns)
		if err := c.Before(c.Input); err != nil || len(said(c.Turns)) < len(own) {
			t.Errorf("%q: %v", body, err)
		}
		w := NewWriter("resp_1", time.Now(), c, func(Event) {})
		w.Begin()
		w.Fail(errors.New("x"))
	})
}

// written is what a writer tells of: one line per event, with where it belongs.
func written(t *testing.T, events ...exchange.Event) (lines []string, resp *Response) {
	t.Helper()
	call := decodeBody(t, `{"model":"m","input":"x"}`)
	w := NewWriter("resp_1", time.Unix(1000, 0), call, func(e Event) {
		var p struct {
			Index *int   `json:"output_index"`
			Delta string `json:"delta"`
		}
		if err := json.Unmarshal(e.Data, &p); err != nil {
			t.Fatal(err)
		}
		if p.Index != nil {
			lines = append(lines, strings.TrimPrefix(e.Type, "response.")+" "+string(rune('0'+*p.Index))+" "+p.Delta)
		}
	})
	for _, e := range events {
		if err := w.Add(e); err != nil {
			t.Fatal(err)
		}
	}
	return lines, w.Response()
}

// Pieces of two calls that come by turns are put together call by call; every event says which it is of.
func TestCallsThatInterleave(t *testing.T) {
	lines, resp := written(t, exchange.Started{PromptTokens: 3}, exchange.TextDelta{Text: "A moment."},
		exchange.ToolCallDelta{Index: 0, ID: "a", Name: "f", Arguments: `{"x"`}, exchange.ToolCallDelta{Index: 1, ID: "b", Name: "g", Arguments: `{"y"`},
		exchange.ToolCallDelta{Index: 0, Arguments: `:1}`}, exchange.ToolCallDelta{Index: 1, Arguments: `:2}`},
		exchange.ToolCallDelta{Index: 0, Done: true}, exchange.ToolCallDelta{Index: 1, Done: true}, exchange.Finish{Reason: exchange.Called, Tokens: 9})
	want := []string{"output_item.added 0 ", "content_part.added 0 ", "output_text.delta 0 A moment.", "output_text.done 0 ", "content_part.done 0 ", "output_item.done 0 ",
		"output_item.added 1 ", `function_call_arguments.delta 1 {"x"`, "output_item.added 2 ", `function_call_arguments.delta 2 {"y"`, "function_call_arguments.delta 1 :1}", "function_call_arguments.delta 2 :2}",
		"function_call_arguments.done 1 ", "output_item.done 1 ", "function_call_arguments.done 2 ", "output_item.done 2 "}
	if !slices.Equal(lines, want) {
		t.Errorf("\n got %s\nwant %s", strings.Join(lines, "\n"), strings.Join(want, "\n"))
	}
	var got []string
	for _, item := range resp.Output[1:] {
		c := item.(*FunctionCall)
		got = append(got, c.CallID+" "+c.Name+c.Arguments+" "+string(c.Status))
	}
	if !slices.Equal(got, []string{`a f{"x":1} completed`, `b g{"y":2} completed`}) {
		t.Error(got)
	}
}

// A refusal is one, in the events and in the whole; so is an answer that a filter cut, and where a text is from.
func TestRefusalsFiltersAndCitations(t *testing.T) {
	lines, resp := written(t, exchange.Started{}, exchange.TextDelta{Text: "I will not.", Refusal: true}, exchange.Finish{Reason: exchange.Stopped})
	raw, _ := json.Marshal(resp.Output)
	if !slices.Contains(lines, "refusal.delta 0 I will not.") || !slices.Contains(lines, "refusal.done 0 ") || !strings.Contains(string(raw), `"content":[{"type":"refusal","refusal":"I will not."}]`) {
		t.Errorf("%s\n%s", strings.Join(lines, "\n"), raw)
	}
	lines, resp = written(t, exchange.Started{}, exchange.TextDelta{Text: "At 19:40"}, exchange.TextDelta{Citations: []exchange.Citation{{URL: "https://ferry.example/times", Title: "Times", Start: 3, End: 8}}}, exchange.Finish{Reason: exchange.Filtered})
	raw, _ = json.Marshal(resp.Output)
	if !slices.Contains(lines, "output_text.annotation.added 0 ") || resp.Status != "incomplete" || resp.Incomplete == nil || resp.Incomplete.Reason != "content_filter" ||
		!strings.Contains(string(raw), `"annotations":[{"type":"url_citation","start_index":3,"end_index":8,"url":"https://ferry.example/times","title":"Times"}]`) {
		t.Errorf("%s\n%s %+v", strings.Join(lines, "\n"), raw, resp.Incomplete)
	}
}
