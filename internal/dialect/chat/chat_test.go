package chat

import (
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

func TestDecode(t *testing.T) {
	c, err := Decode([]byte(`{
		"model": "m", "stream": true, "stream_options": {"include_usage": true}, "max_tokens": 5, "max_completion_tokens": 7,
		"n": 2, "seed": -3, "stop": "END", "temperature": 0.5, "top_p": 0.9, "top_k": 40, "frequency_penalty": 1, "presence_penalty": -1,
		"logit_bias": {"12": -100}, "user": "u", "store": false, "reasoning_effort": "low",
		"tools": [{"type": "function", "function": {"name": "f", "description": "d", "parameters": {"type": "object"}, "strict": false}}], "tool_choice": "auto", "response_format": {"type": "text"},
		"mirror": true, "logprobs": null,
		"messages": [
			{"role": "developer", "content": "Be brief."},
			{"role": "user", "content": [{"type": "text", "text": "a"}, {"type": "text", "text": "b"}], "name": "n"},
			{"role": "assistant", "content": null, "tool_calls": [{"id": "c1", "type": "function", "function": {"name": "f", "arguments": "{}"}}]},
			{"role": "tool", "tool_call_id": "c1", "content": "r"}
		]}`))
	if err != nil {
		t.Fatal(err)
	}
	if c.Model != "m" || !c.Stream || !c.IncludeUsage || c.MaxTokens != 7 || c.Candidates != 2 || !slices.Equal(c.Stop, []string{"END"}) {
		t.Errorf("%+v", c)
	}
	s := c.Sampling
	if *s.Temperature != 0.5 || *s.TopP != 0.9 || *s.TopK != 40 || *s.Seed != -3 || s.FrequencyPenalty != 1 || s.PresencePenalty != -1 || s.LogitBias[12] != -100 {
		t.Errorf("%+v", s)
	}
	if len(c.Tools) != 1 || c.Tools[0].Name != "f" || c.Tools[0].Description != "d" || string(c.Tools[0].Parameters) != `{"type": "object"}` || !c.Thinking {
		t.Errorf("tools %+v, thinking %v", c.Tools, c.Thinking)
	}
	if len(c.Unknown) != 1 || c.Unknown[0].String() != "mirror" {
		t.Errorf("unknown fields %v", c.Unknown)
	}
	var roles []string
	for _, turn := range c.Turns {
		roles = append(roles, string(turn.Role)+":"+turn.Text())
	}
	if want := []string{"system:Be brief.", "user:ab", "assistant:", "tool:r"}; !slices.Equal(roles, want) {
		t.Errorf("turns %v, want %v", roles, want)
	}
	if call := c.Turns[2].Parts[0].(exchange.ToolCall); call != (exchange.ToolCall{ID: "c1", Name: "f", Arguments: "{}"}) {
		t.Errorf("tool call %+v", call)
	}
}

func biases(n int) string {
	list := make([]string, n)
	for i := range list {
		list[i] = fmt.Sprintf(`"%d":1`, i)
	}
	return strings.Join(list, ",")
}

func TestDecodeRefuses(t *testing.T) {
	const ok = `"model": "m", "messages": [{"role": "user", "content": "x"}]`
	const tool = `, "tools": [{"type": "function", "function": {"name": "f"}}]`
	for _, c := range []struct{ body, param, message string }{
		{``, "", "the body is empty"},
		{`   `, "", "the body is empty"},
		{`{`, "", "ends too early"},
		{`{"model": "m", "messages": [{"role": "us`, "", "ends too early"},
		{`nonsense`, "", "is not JSON"},
		{`{"model": "m",}`, "", "is not JSON"},
		{`[]`, "", "the body must be an object, not a list"},
		{`"x"`, "", "the body must be an object, not a string"},
		{`{` + ok + `} {}`, "", "more after the JSON object"},
		{"{\"model\": \"\xff\"}", "", "not UTF-8"},
		{`{"model": "a", "model": "b"}`, "", `"model" appears twice`},
		{strings.Repeat(`{"a":`, 200) + "1" + strings.Repeat("}", 200), "", "nested more than"},
		{`{"model": 5, "messages": []}`, "model", "model must be a string, not a number (5)"},
		{`{"model": "m"}`, "messages", "messages is missing"},
		{`{"model": "m", "messages": []}`, "messages", "messages is empty"},
		{`{"model": "m", "messages": "hello"}`, "messages", "must be a list, not a string"},
		{`{"model": "m", "messages": ["hello"]}`, "messages[0]", "messages[0] must be an object"},
		{`{"model": "m", "messages": [{"role": "boss", "content": "x"}]}`, "messages[0].role", `is "boss"; it must be system`},
		{`{"model": "m", "messages": [{"content": "x"}]}`, "messages[0].role", "it must be system"},
		{`{"model": "m", "messages": [{"role": "user"}]}`, "messages[0].content", "is missing"},
		{`{"model": "m", "messages": [{"role": "user", "content": null}]}`, "messages[0].content", "is missing"},
		{`{"model": "m", "messages": [{"role": "user", "content": 7}]}`, "messages[0].content", "must be a list"},
		{`{"model": "m", "messages": [{"role": "user", "content": [{"type": "image_url"}]}]}`, "messages[0].content[0].image_url", "missing"},
		{`{"model": "m", "messages": [{"role": "user", "content": [{"type": "image_url", "image_url": {"url": "file:///etc/passwd"}}]}]}`, "messages[0].content[0].image_url.url", "data:image"},
		{`{"model": "m", "messages": [{"role": "user", "content": [{"type": "text"}]}]}`, "messages[0].content[0].text", "is missing"},
		{`{"model": "m", "messages": [{"role": "tool", "content": "x"}]}`, "messages[0].tool_call_id", "is missing"},
		{`{"model": "m", "messages": [{"role": "user", "content": "x", "tool_calls": [{}]}]}`, "messages[0].tool_calls", "assistant's turn"},
		{`{"model": "m", "messages": [{"role": "assistant", "tool_calls": [{"id": "a"}]}]}`, "messages[0].tool_calls[0].function", "is missing"},
		{`{` + ok + `, "stream": "yes"}`, "stream", `must be a boolean, not a string ("yes")`},
		{`{` + ok + `, "stream_options": {"include_usage": true}}`, "stream_options", "goes with"},
		{`{` + ok + `, "max_tokens": 0}`, "max_tokens", "must be from 1"},
		{`{` + ok + `, "max_tokens": 1.5}`, "max_tokens", "must be an integer"},
		{`{` + ok + `, "max_tokens": 1e999}`, "max_tokens", "must be an integer"},
		{`{` + ok + `, "n": 9}`, "n", "must be from 1 to 8"},
		{`{` + ok + `, "temperature": 3}`, "temperature", "from 0 to 2"},
		{`{` + ok + `, "temperature": "hot"}`, "temperature", "must be a number"},
		{`{` + ok + `, "temperature": 1e999}`, "temperature", "must be a number"},
		{`{` + ok + `, "top_p": -0.1}`, "top_p", "from 0 to 1"},
		{`{` + ok + `, "seed": "x"}`, "seed", "must be an integer"},
		{`{` + ok + `, "stop": [""]}`, "stop", "is empty"},
		{`{` + ok + `, "stop": 5}`, "stop", "a string or a list of strings"},
		{`{` + ok + `, "logit_bias": {"x": 1}}`, "logit_bias", "not a token id"},
		{`{` + ok + `, "logit_bias": {"5": 1000}}`, "logit_bias.5", "from -100 to 100"},
		{`{` + ok + `, "logit_bias": {` + biases(1025) + `}}`, "logit_bias", "has 1025 entries; 1024 are possible"},
		{`{` + ok + `, "tools": [{"type": "function"}]}`, "tools[0].function", "is missing"},
		{`{` + ok + `, "tools": [{"type": "search"}]}`, "tools[0].type", `Offer it as a "function"`},
		{`{` + ok + `, "tools": [{"type": "function", "function": {"name": "a b"}}]}`, "tools[0].function.name", "a name has"},
		{`{` + ok + `, "tools": [{"type": "function", "function": {"name": "f", "parameters": 5}}]}`, "tools[0].function.parameters", "must be an object"},
		{`{` + ok + `, "functions": []}`, "functions", "replaced it by tools"},
		{`{` + ok + `, "reasoning_effort": "huge"}`, "reasoning_effort", "it must be none"},
		{`{` + ok + `, "tool_choice": "required"}`, "tool_choice", "no tools are offered"},
		{`{` + ok + `, "tool_choice": "always"}`, "tool_choice", "it must be none, auto or required"},
		{`{` + ok + `, "tool_choice": 5}`, "tool_choice", "must be an object"},
		{`{` + ok + tool + `, "tool_choice": {"type": "function"}}`, "tool_choice.function", "is missing"},
		{`{` + ok + tool + `, "tool_choice": {"type": "function", "function": {"name": "g"}}}`, "tool_choice.function.name", "not among the tools offered"},
		{`{` + ok + tool + `, "tool_choice": {"type": "allowed_tools", "allowed_tools": {"mode": "auto", "tools": []}}}`, "tool_choice.allowed_tools.tools", "names no tool"},
		{`{` + ok + tool + `, "tool_choice": {"type": "allowed_tools"}}`, "tool_choice.allowed_tools", "is missing"},
		{`{` + ok + tool + `, "tool_choice": {"type": "custom"}}`, "tool_choice.type", "function or allowed_tools"},
		{`{` + ok + `, "response_format": {"type": "xml"}}`, "response_format.type", "text, json_object or json_schema"},
		{`{` + ok + `, "response_format": {}}`, "response_format.type", "is missing"},
		{`{` + ok + `, "response_format": {"type": "json_schema"}}`, "response_format.json_schema", "is missing"},
		{`{` + ok + `, "response_format": {"type": "json_schema", "json_schema": {"name": "a"}}}`, "response_format.json_schema.schema", "is missing"},
		{`{` + ok + `, "response_format": {"type": "json_schema", "json_schema": {"schema": {}}}}`, "response_format.json_schema.name", "a name has"},
		{`{` + ok + `, "logprobs": true, "top_logprobs": 21}`, "top_logprobs", "from 0 to 20"},
		{`{` + ok + `, "top_logprobs": 2}`, "top_logprobs", "goes with"},
		{`{` + ok + `, "modalities": ["text", "audio"]}`, "modalities", `"audio" is not supported`},
	} {
		_, err := Decode([]byte(c.body))
		var e *exchange.Error
		if !errors.As(err, &e) || e.Kind != exchange.Invalid {
			t.Errorf("%.80s: error %v", c.body, err)
			continue
		}
		if e.Param != c.param || !strings.Contains(e.Message, c.message) {
			t.Errorf("%.80s: param %q, %q; want %q, %q", c.body, e.Param, e.Message, c.param, c.message)
		}
	}
}

func events(list ...exchange.Event) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		for _, e := range list {
			if !yield(e, nil) {
				return
			}
		}
	}
}

// A streamed answer says what a whole one does.
func TestStreamJoinsToTheWhole(t *testing.T) {
	call := &Call{Request: exchange.Request{Model: "m", Candidates: 2}, Stream: true, IncludeUsage: true}
	stream := events(exchange.Started{PromptTokens: 3}, exchange.TextDelta{Candidate: 0, Text: "The "}, exchange.TextDelta{Candidate: 1, Text: "At "},
		exchange.TextDelta{Candidate: 0, Text: "boat"}, exchange.Finish{Candidate: 1, Reason: exchange.Length, Tokens: 1},
		exchange.Finish{Candidate: 0, Reason: exchange.Stopped, Tokens: 2})
	now := time.Unix(1000, 0)
	whole, err := Encode("1", now, call, stream)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := json.Marshal(whole)
	if err != nil {
		t.Fatal(err)
	}
	const want = `{"id":"chatcmpl-1","object":"chat.completion","created":1000,"model":"m","choices":[` +
		`{"index":0,"message":{"role":"assistant","content":"The boat","refusal":null},"logprobs":null,"finish_reason":"stop"},` +
		`{"index":1,"message":{"role":"assistant","content":"At ","refusal":null},"logprobs":null,"finish_reason":"length"}],` +
		`"usage":{"prompt_tokens":3,"completion_tokens":3,"total_tokens":6,"prompt_tokens_details":{"cached_tokens":0},"completion_tokens_details":{"reasoning_tokens":0}}}`
	if string(raw) != want {
		t.Errorf("\n got %s\nwant %s", raw, want)
	}
	texts := make([]string, 2)
	var chunks []string
	for chunk, err := range EncodeStream("1", now, call, stream) {
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range chunk.Choices {
			if c.Delta.Content != nil {
				texts[c.Index] += *c.Delta.Content
			}
		}
		raw, err := json.Marshal(chunk)
		if err != nil {
			t.Fatal(err)
		}
		chunks = append(chunks, string(raw))
	}
	for i, choice := range whole.Choices {
		if texts[i] != *choice.Message.Content {
			t.Errorf("candidate %d streams as %q, as a whole %q", i, texts[i], *choice.Message.Content)
		}
	}
	const head = `{"id":"chatcmpl-1","object":"chat.completion.chunk","created":1000,"model":"m","choices":[`
	for i, want := range map[int]string{
		0: head + `{"index":0,"delta":{"role":"assistant","content":""},"logprobs":null,"finish_reason":null}],"usage":null}`,
		2: head + `{"index":0,"delta":{"content":"The "},"logprobs":null,"finish_reason":null}],"usage":null}`,
		6: head + `{"index":0,"delta":{},"logprobs":null,"finish_reason":"stop"}],"usage":null}`,
		7: head + `],"usage":{"prompt_tokens":3,"completion_tokens":3,"total_tokens":6,"prompt_tokens_details":{"cached_tokens":0},"completion_tokens_details":{"reasoning_tokens":0}}}`,
	} {
		if i >= len(chunks) || chunks[i] != want {
			t.Errorf("chunk %d of %d:\n got %s\nwant %s", i, len(chunks), chunks[min(i, len(chunks)-1)], want)
		}
	}
}

func TestToolCallsAndReasoning(t *testing.T) {
	call := &Call{Request: exchange.Request{Model: "m"}}
	stream := events(exchange.Started{PromptTokens: 3}, exchange.ReasoningDelta{Text: "I need "}, exchange.ReasoningDelta{Text: "the time"},
		exchange.ToolCallDelta{Index: 0, ID: "c1", Name: "f"}, exchange.ToolCallDelta{Index: 0, Arguments: `{"a"`}, exchange.ToolCallDelta{Index: 0, Arguments: `:1}`, Done: true},
		exchange.ToolCallDelta{Index: 1, ID: "c2", Name: "g", Arguments: `{}`, Done: true}, exchange.Finish{Reason: exchange.Called, Tokens: 9})
	whole, err := Encode("1", time.Unix(1000, 0), call, stream)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := json.Marshal(whole.Choices)
	if err != nil {
		t.Fatal(err)
	}
	if want := `[{"index":0,"message":{"role":"assistant","content":null,"reasoning_content":"I need the time","tool_calls":[` +
		`{"id":"c1","type":"function","function":{"name":"f","arguments":"{\"a\":1}"}},{"id":"c2","type":"function","function":{"name":"g","arguments":"{}"}}],` +
		`"refusal":null},"logprobs":null,"finish_reason":"tool_calls"}]`; string(raw) != want {
		t.Errorf("\n got %s\nwant %s", raw, want)
	}
	var deltas []string
	for chunk, err := range EncodeStream("1", time.Unix(1000, 0), call, stream) {
		if err != nil {
			t.Fatal(err)
		}
		raw, err := json.Marshal(chunk.Choices[0].Delta)
		if err != nil {
			t.Fatal(err)
		}
		deltas = append(deltas, string(raw))
	}
	want := []string{`{"role":"assistant","content":""}`, `{"reasoning_content":"I need "}`, `{"reasoning_content":"the time"}`,
		`{"tool_calls":[{"index":0,"id":"c1","type":"function","function":{"name":"f","arguments":""}}]}`,
		`{"tool_calls":[{"index":0,"function":{"arguments":"{\"a\""}}]}`, `{"tool_calls":[{"index":0,"function":{"arguments":":1}"}}]}`,
		`{"tool_calls":[{"index":1,"id":"c2","type":"function","function":{"name":"g","arguments":"{}"}}]}`, `{}`}
	if !slices.Equal(deltas, want) {
		t.Errorf("\n got %s\nwant %s", strings.Join(deltas, "\n"), strings.Join(want, "\n"))
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"model": "m", "messages": [{"role": "user", "content": [{"type": "text", "text": "a"}]}], "stop": ["a"], "logit_bias": {"1": 2}}`))
	f.Add([]byte(`{"messages": [{"role": "assistant", "tool_calls": [{"function": {"name": "f"}}]}], "n": 1e3}`))
	f.Add([]byte(`{"messages": [{"role": "assistant"}]}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		c, err := Decode(body)
		var e *exchange.Error
		switch {
		case err == nil && len(c.Turns) == 0: // the model may be left to the gate
			t.Errorf("%q was accepted without turns", body)
		case err != nil && (!errors.As(err, &e) || e.Message == ""):
			t.Errorf("%q: the error is %v", body, err)
		}
	})
}

// Pieces of calls may come by turns; a refusal, and where a text is from, are told as the standard has them.
func TestWhatMachinesAddToAnswers(t *testing.T) {
	call := &Call{Request: exchange.Request{Model: "m"}}
	for _, c := range []struct {
		name   string
		events []exchange.Event
		whole  string
		piece  string
	}{
		{"calls by turns", []exchange.Event{exchange.Started{}, exchange.ToolCallDelta{Index: 0, ID: "a", Name: "f", Arguments: `{"x"`}, exchange.ToolCallDelta{Index: 1, ID: "b", Name: "g", Arguments: `{"y"`},
			exchange.ToolCallDelta{Index: 0, Arguments: `:1}`}, exchange.ToolCallDelta{Index: 1, Arguments: `:2}`}, exchange.Finish{Reason: exchange.Called}},
			`{"id":"a","type":"function","function":{"name":"f","arguments":"{\"x\":1}"}},{"id":"b","type":"function","function":{"name":"g","arguments":"{\"y\":2}"}}`, `{"tool_calls":[{"index":0,"function":{"arguments":":1}"}}]}`},
		{"a refusal", []exchange.Event{exchange.Started{}, exchange.TextDelta{Text: "No.", Refusal: true}, exchange.Finish{Reason: exchange.Stopped}}, `"content":null,"refusal":"No."`, `{"refusal":"No."}`},
		{"a citation", []exchange.Event{exchange.Started{}, exchange.TextDelta{Text: "At"}, exchange.TextDelta{Citations: []exchange.Citation{{URL: "u", Title: "t", Start: 0, End: 2}}}, exchange.Finish{Reason: exchange.Filtered}},
			`"annotations":[{"type":"url_citation","url_citation":{"start_index":0,"end_index":2,"url":"u","title":"t"}}]},"logprobs":null,"finish_reason":"content_filter"`, `"annotations":[{"type":"url_citation"`},
	} {
		whole, err := Encode("1", time.Unix(1000, 0), call, events(c.events...))
		if err != nil {
			t.Fatal(err)
		}
		if raw, _ := json.Marshal(whole); !strings.Contains(string(raw), c.whole) {
			t.Errorf("%s: %s is not in %s", c.name, c.whole, raw)
		}
		var pieces strings.Builder
		for chunk, err := range EncodeStream("1", time.Unix(1000, 0), call, events(c.events...)) {
			if err != nil {
				t.Fatal(err)
			}
			raw, _ := chunk.AppendJSON(nil)
			pieces.Write(append(raw, '\n'))
		}
		if !strings.Contains(pieces.String(), c.piece) {
			t.Errorf("%s: %s is not in %s", c.name, c.piece, pieces.String())
		}
	}
}
