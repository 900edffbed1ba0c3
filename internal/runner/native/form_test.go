package native

import (
	"encoding/json"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/grammar"
	"kindredgate/internal/reading"
	"kindredgate/internal/sampling"
)

const embedder = "../../../demo/models/harbour-embed/harbour-embed.gguf"

// result is a collected answer of one candidate.
type result struct {
	text, reasoning string
	calls           []exchange.ToolCall
	finish          exchange.Finish
	deltas          int // of calls
	started         exchange.Started
	scores          []exchange.Score
}

func collect(t *testing.T, r *Runner, req *exchange.Request) (out result, err error) {
	t.Helper()
	for event, err := range r.Run(t.Context(), harbour, req) {
		if err != nil {
			return out, err
		}
		switch event := event.(type) {
		case exchange.Started:
			out.started = event
		case exchange.TextDelta:
			out.text += event.Text
			out.scores = append(out.scores, event.Scores...)
		case exchange.ReasoningDelta:
			out.reasoning += event.Text
		case exchange.ToolCallDelta:
			if event.Name != "" {
				out.calls = append(out.calls, exchange.ToolCall{ID: event.ID, Name: event.Name})
			}
			out.calls[event.Index].Arguments += event.Arguments
			out.deltas++
		case exchange.Finish:
			out.finish = event
		}
	}
	return out, nil
}

// random makes a request draw by a seed.
func random(req *exchange.Request, seed int64) *exchange.Request {
	one := 1.0
	req.Sampling = exchange.Sampling{Settings: sampling.Settings{Temperature: &one}, Seed: &seed}
	return req
}

func validator(t *testing.T, source string) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(source))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	if err := c.AddResource("schema.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func check(t *testing.T, s *jsonschema.Schema, text string) {
	t.Helper()
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err == nil {
		err = s.Validate(value)
	}
	if err != nil {
		t.Errorf("%q: %v", text, err)
	}
}

const sailing = `{"type":"object","properties":{"island":{"enum":["Osmer","Brannoc","Tarn Head"]},"time":{"type":"string","pattern":"^([01][0-9]|2[0-3]):[0-5][0-9]$"},
	"crowns":{"type":"number","minimum":1,"maximum":60},"stops":{"type":"array","items":{"type":"string","maxLength":6},"maxItems":2},
	"note":{"anyOf":[{"type":"null"},{"type":"string","minLength":1,"maxLength":8}]},"day":{"type":"string","format":"date"}},
	"required":["island","time","crowns","day"],"additionalProperties":false}`

// Whatever the seed, and however few tokens there are, what comes out is valid.
func TestFormatsHoldForEverySeed(t *testing.T) {
	if testing.Short() {
		t.Skip("the engine's arithmetic takes minutes under the race detector")
	}
	r := New(Options{})
	defer r.Close()
	for _, c := range []struct {
		schema string
		seeds  int64
	}{{sailing, 32}, {`{"type":"object","properties":{"crowns":{"type":"integer","minimum":1,"maximum":60},"return":{"type":"boolean"}},"required":["crowns"],"additionalProperties":false}`, 150}} {
		schema := validator(t, c.schema)
		for seed := range c.seeds {
			req := random(ask("What is the fare to Osmer? Answer in JSON."), seed)
			req.Format = exchange.Format{Kind: exchange.FormatSchema, Schema: json.RawMessage(c.schema)}
			if seed%8 != 1 && c.schema == sailing {
				req.MaxTokens = 50 + int(seed) // most are brought to their end before they come to it
			}
			got, err := collect(t, r, req)
			if err != nil {
				t.Fatal(err)
			}
			check(t, schema, got.text)
			if got.finish.Reason != exchange.Stopped && req.MaxTokens == 0 {
				t.Errorf("seed %d ended by %s: %s", seed, got.finish.Reason, got.text)
			}
		}
	}
	object := validator(t, `{"type":"object"}`)
	for seed := range int64(20) {
		req := random(ask("Give the fares to Osmer as JSON."), seed)
		req.Format.Kind = exchange.FormatObject
		req.MaxTokens = 25
		req.Thinking = seed%10 == 0
		if req.Thinking {
			req.MaxTokens = 0
		}
		got, err := collect(t, r, req)
		if err != nil {
			t.Fatal(err)
		}
		if req.Thinking && got.finish.Reason == exchange.Length {
			continue // reasoned to the end of the context
		}
		check(t, object, got.text)
	}
}

func tools(strict bool) []exchange.Tool {
	parameters := `{"type":"object","properties":{"island":{"enum":["Osmer","Brannoc"]},"after":{"type":"string","pattern":"^[0-2][0-9]:[0-5][0-9]$"}},"required":["island"],"additionalProperties":false}`
	return []exchange.Tool{
		{Name: "next_sailing", Description: "The next boat to an island.", Parameters: json.RawMessage(parameters), Strict: strict},
		{Name: "fare_quote", Description: "What a trip costs.", Parameters: json.RawMessage(`{"type":"object","properties":{"adults":{"type":"integer","minimum":1,"maximum":9}},"required":["adults"],"additionalProperties":false}`), Strict: strict},
	}
}

func TestForcedCallsAreValidForEverySeed(t *testing.T) {
	if testing.Short() {
		t.Skip("the engine's arithmetic takes minutes under the race detector")
	}
	r := New(Options{})
	defer r.Close()
	schemas := map[string]*jsonschema.Schema{}
	for _, tool := range tools(true) {
		schemas[tool.Name] = validator(t, string(tool.Parameters))
	}
	for seed := range int64(30) {
		req := random(ask("Tell me a story."), seed)
		req.Tools = tools(seed%2 == 0)
		want := ""
		switch seed % 3 {
		case 0:
			req.Choice = exchange.Choice{Required: true, Single: true}
		case 1:
			want = "fare_quote"
			req.Choice = exchange.Choice{Required: true, Single: true, Names: []string{want}}
		case 2: // by itself, strictly
			req.Tools = tools(true)
			req.Turns[0].Parts = []exchange.Part{exchange.Text("When is the next boat to Osmer after 10:30?")}
			req.MaxTokens = 70
		}
		got, err := collect(t, r, req)
		if err != nil {
			t.Fatal(err)
		}
		if req.Choice.Required && (len(got.calls) != 1 || got.deltas < 3 || got.text != "" || got.finish.Reason != exchange.Called) {
			t.Errorf("seed %d: calls %v, text %q, %s", seed, got.calls, got.text, got.finish.Reason)
		}
		if got.finish.Malformed > 0 {
			t.Errorf("seed %d: a call could not be read: %q", seed, got.text)
		}
		for _, c := range got.calls {
			if want != "" && c.Name != want {
				t.Errorf("seed %d called %s", seed, c.Name)
			}
			check(t, schemas[c.Name], c.Arguments)
		}
	}
}

func TestWhatCannotBeEnforced(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	silent := `{% for m in messages %}{{ m.content }};{% endfor %}{{ tools|tojson if tools }}`
	for _, c := range []struct {
		name   string
		change func(*exchange.Request)
		says   string
	}{
		{"schema", func(q *exchange.Request) {
			q.Format = exchange.Format{Kind: exchange.FormatSchema, Schema: json.RawMessage(`{"color":1}`)}
		}, "color is not a keyword"},
		{"strict tool", func(q *exchange.Request) {
			q.Tools = []exchange.Tool{{Name: "f", Strict: true, Parameters: json.RawMessage(`{"type":"object","color":1}`)}}
		}, `tool "f"`},
		{"calls that the template does not show", func(q *exchange.Request) {
			q.Template, q.Tools, q.Choice.Required = silent, tools(false), true
		}, "cannot be enforced"},
	} {
		req := ask("x")
		c.change(req)
		_, err := collect(t, r, req)
		if e := exchange.AsError(err); err == nil || e.Kind != exchange.Invalid || !strings.Contains(e.Message, c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	// A tool that is not strict may have such a schema: then any object will do.
	req := random(ask("x"), 1)
	req.Tools = []exchange.Tool{{Name: "f", Parameters: json.RawMessage(`{"type":"object","color":1}`)}}
	req.Choice = exchange.Choice{Required: true, Single: true}
	if got, err := collect(t, r, req); err != nil || len(got.calls) != 1 || got.calls[0].Name != "f" {
		t.Errorf("%+v, %v", got, err)
	}
}

// A tool without parameters is called without arguments, whatever the model would make up.
func TestToolsWithoutParameters(t *testing.T) {
	for schema, nothing := range map[string]bool{"": true, `{"type":"object","properties":{}}`: true, `{"properties":{},"required":[],"additionalProperties":false}`: true,
		`{"type":"object"}`: false, `{"type":"object","properties":{},"additionalProperties":true}`: false, `{"type":"object","properties":{"a":{}}}`: false, `{"properties":{},"minProperties":1}`: false} {
		if got := takesNothing(json.RawMessage(schema)); got != nothing {
			t.Errorf("%s takes nothing: %v", schema, got)
		}
	}
	r := New(Options{})
	defer r.Close()
	for seed := range int64(4) {
		req := random(ask("x"), seed)
		req.Tools = []exchange.Tool{{Name: "now", Parameters: json.RawMessage(`{"type":"object","properties":{}}`)}}
		req.Choice = exchange.Choice{Required: true, Single: true}
		if got, err := collect(t, r, req); err != nil || len(got.calls) != 1 || strings.Join(strings.Fields(got.calls[0].Arguments), "") != "{}" {
			t.Errorf("%+v, %v", got.calls, err)
		}
	}
}

// Templates that lay answers out in other ways have their forms too.
func TestFormsFollowTheTemplate(t *testing.T) {
	if testing.Short() {
		t.Skip("the engine's arithmetic takes minutes under the race detector")
	}
	r := New(Options{})
	defer r.Close()
	const (
		loop   = `{% for m in messages %}{% if m.tool_calls %}`
		rest   = `{% else %}{{ m.content }}{% endif %};{% endfor %}{{ tools|tojson if tools }}`
		bare   = loop + `{"name": "{{ m.tool_calls[0].function.name }}", "parameters": {{ m.tool_calls[0].function.arguments|tojson }}}` + rest
		listed = loop + `[CALLS] [{"name": "{{ m.tool_calls[0].function.name }}", "arguments": {{ m.tool_calls[0].function.arguments|tojson }}}]` + rest
	)
	const (
		python = loop + `[{% for c in m.tool_calls %}{{ c.function.name }}({% for k, v in c.function.arguments.items() %}{{ k }}={{ v|tojson }}{{ ', ' if not loop.last }}{% endfor %}){{ ', ' if not loop.last }}{% endfor %}]` + rest
		tags   = loop + `<tool_call>
<function={{ m.tool_calls[0].function.name }}>
{% for k, v in m.tool_calls[0].function.arguments.items() %}
<parameter={{ k }}>
{{ v }}
</parameter>
{% endfor %}
</function>
</tool_call>` + rest
	)
	for name, template := range map[string]string{"python": python, "tags": tags, "bare": bare, "listed": listed} {
		object := validator(t, `{"type":"object"}`)
		for seed := range int64(3) {
			req := random(ask("Give the fares as JSON."), seed)
			req.Template, req.MaxTokens, req.Format.Kind = template, 200, exchange.FormatObject
			got, err := collect(t, r, req)
			if err != nil {
				t.Fatal(err)
			}
			check(t, object, got.text)

			req = random(ask("When?"), seed)
			req.Template, req.MaxTokens, req.Tools, req.Choice.Required = template, 200, tools(true)[:1], true
			got, err = collect(t, r, req)
			if err != nil || len(got.calls) == 0 || got.text != "" {
				t.Errorf("%s, seed %d: %+v, %v", name, seed, got, err)
				continue
			}
			check(t, validator(t, string(req.Tools[0].Parameters)), got.calls[0].Arguments)

			req.Choice.Required, req.MaxTokens = false, 40
			if got, err = collect(t, r, req); err != nil || got.finish.Malformed > 0 {
				t.Errorf("%s by itself, seed %d: %+v, %v", name, seed, got, err)
			}
		}
	}
}

// What an answer may be, by what was asked and by how the model lays answers out.
func TestAnswerForms(t *testing.T) {
	marked := reading.Style{Reasoning: reading.Marks{Open: "<think>", Close: "</think>"}, Form: reading.JSON, Calls: reading.Marks{Open: "<c>", Close: "</c>"},
		Frame: reading.Frame{Before: `<c>{"name":"`, Between: `","arguments":`, After: "}</c>"}}
	inside := marked
	inside.Inside = true
	bare := reading.Style{Form: reading.JSON, Frame: reading.Frame{Before: `{"name":"`, Between: `","parameters":`, After: "}"}}
	channels := reading.Style{Form: reading.Channels}
	const call = `<c>{"name":"fare_quote","arguments":{"adults":2}}</c>`
	object := exchange.Format{Kind: exchange.FormatObject}
	for _, c := range []struct {
		name      string
		style     reading.Style
		req       exchange.Request
		reasons   bool
		good, bad []string
	}{
		{"a format", marked, exchange.Request{Format: object}, false, []string{`{}`, `{"a":[1]}`}, []string{"", "[]", "text", "<think></think>{}"}},
		{"a format, reasoning perhaps", marked, exchange.Request{Format: object}, true, []string{"{}", "<think>x</think>\n\n{}"}, []string{"<think>{}", "x</think>{}"}},
		{"a format, inside the reasoning", inside, exchange.Request{Format: object}, true, []string{"x</think>{}", "</think>\n{}"}, []string{"{}", "x"}},
		{"a call", marked, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true, Single: true}}, false, []string{call}, []string{"", call + call, "x" + call, `<c>{"name":"none","arguments":{}}</c>`, `<c>{"name":"fare_quote","arguments":{}}</c>`}},
		{"calls", marked, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true}}, false, []string{call, call + "\n" + call}, []string{"", call + "x"}},
		{"a named tool", marked, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true, Single: true, Names: []string{"next_sailing"}}}, false, []string{`<c>{"name":"next_sailing","arguments":{"island":"Osmer"}}</c>`}, []string{call}},
		{"strict tools", marked, exchange.Request{Tools: tools(true)}, false, []string{"", "text", "text <c", call, "text" + call + "more" + call}, []string{"<c>", `<c>{"name":"none"`}},
		{"a format and tools", marked, exchange.Request{Tools: tools(true), Format: object}, false, []string{"{}", call}, []string{"text", "{}" + call}},
		{"bare calls", bare, exchange.Request{Tools: tools(true)}, false, []string{"text {", `{"name":"fare_quote","parameters":{"adults":1}}`}, []string{"{}", "[1]"}},
		{"calls as in Python", reading.Style{Form: reading.Python, Frame: reading.Frame{Before: "[", Between: "(", After: ")]", Assign: "=", Separator: ", "}}, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true}}, false,
			[]string{`[fare_quote(adults=2)]`, `[next_sailing(island="Osmer")]`, `[next_sailing(island="Osmer", after="10:30")]`}, []string{"[fare_quote()]", `[next_sailing(after="10:30")]`, `[fare_quote(adults=2, adults=2)]`}},
		{"calls as tags", reading.Style{Form: reading.FunctionTags, Calls: reading.Marks{Open: "<c>", Close: "</c>"}, Frame: reading.Frame{Before: "<c><function=", Between: ">", After: "</function></c>", Open: "<parameter=", Assign: ">", Close: "</parameter>"}}, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true}}, false,
			[]string{`<c><function=fare_quote><parameter=adults>2</parameter></function></c>`, `<c><function=next_sailing><parameter=island>"Osmer"</parameter><parameter=after>"10:30"</parameter></function></c>`},
			[]string{`<c><function=fare_quote></function></c>`, `<c><function=next_sailing><parameter=island>Osmer</parameter></function></c>`}},
		{"a name, then JSON", reading.Style{Form: reading.Named, Calls: reading.Marks{Open: "[CALL]"}, Frame: reading.Frame{Before: "[CALL]", Between: "[ARGS]", Joint: "[CALL]"}}, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true}}, false,
			[]string{`[CALL]fare_quote[ARGS]{"adults":2}`}, []string{`[CALL]fare_quote[ARGS]{}`, `[CALL]none[ARGS]{}`, `fare_quote[ARGS]{"adults":2}`}},
		{"tags of any kind", reading.Style{Form: reading.Tags, Calls: reading.Marks{Open: "<c>", Close: "</c>"}, Frame: reading.Frame{Before: "<c>", Between: "\n", After: "</c>", Open: "<k>", Assign: "</k><v>", Close: "</v>\n"}}, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true}}, false,
			[]string{"<c>fare_quote\n<k>adults</k><v>2</v>\n</c>", "<c>next_sailing\n<k>island</k><v>\"Osmer\"</v>\n<k>after</k><v>\"10:30\"</v>\n</c>"}, []string{"<c>fare_quote\n</c>", "<c>next_sailing\n<k>island</k><v>Osmer</v>\n</c>"}},
		{"channels, a format", channels, exchange.Request{Format: object}, true, []string{"<|channel|>final<|message|>{}", "<|channel|>analysis<|message|>x<|end|><|start|>assistant<|channel|>final<|message|>{}"}, []string{"{}", "<|channel|>final<|message|>x", "<|channel|>analysis<|message|>x"}},
		{"channels, a call", channels, exchange.Request{Tools: tools(true), Choice: exchange.Choice{Required: true}}, true, []string{`<|channel|>commentary to=functions.fare_quote <|constrain|>json<|message|>{"adults":2}`}, []string{"<|channel|>final<|message|>x", `<|channel|>commentary to=functions.none <|constrain|>json<|message|>{}`}},
		{"channels, strict tools", channels, exchange.Request{Tools: tools(true)}, true, []string{"<|channel|>final<|message|>x", `<|channel|>commentary to=functions.fare_quote <|constrain|>json<|message|>{"adults":2}`}, []string{"x"}},
	} {
		e, err := (&former{work: grammar.NewWork(t.Context()), req: &c.req, style: c.style}).answer(c.reasons)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		var texts []string
		for b := range 256 {
			texts = append(texts, string([]byte{byte(b)}))
		}
		g, err := grammar.New(grammar.NewWork(t.Context()), grammar.NewVocabulary(texts), e)
		if err != nil {
			t.Fatal(err)
		}
		accepts := func(text string) bool {
			m := g.Begin()
			for i := range len(text) {
				if m.Accept(int32(text[i])) != nil {
					return false
				}
			}
			return m.Done()
		}
		for _, text := range c.good {
			if !accepts(text) {
				t.Errorf("%s: %q is not accepted", c.name, text)
			}
			// What is accepted can be read: nothing in it is malformed.
			r := reading.New(c.style)
			r.Add(text)
			if r.End(); r.Malformed() > 0 {
				t.Errorf("%s: %q cannot be read", c.name, text)
			}
		}
		for _, text := range c.bad {
			if accepts(text) {
				t.Errorf("%s: %q is accepted", c.name, text)
			}
		}
	}
}

func TestScoresAndEcho(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	top := 3
	req := ask("When is the last boat to Osmer?")
	req.Scores = &top
	got, err := collect(t, r, req)
	if err != nil {
		t.Fatal(err)
	}
	var text strings.Builder
	for _, s := range got.scores {
		text.WriteString(s.Text)
		// What is most likely was taken, so it is the first of the alternatives.
		if len(s.Top) != 3 || s.Top[0].Text != s.Text || s.Top[0].LogProb != s.LogProb || s.LogProb > 0 || s.Top[1].LogProb > s.LogProb {
			t.Errorf("%+v", s)
		}
	}
	if text.String() != got.text {
		t.Errorf("the tokens say %q, the text %q", text.String(), got.text)
	}

	zero := 0.0
	for _, c := range []struct {
		raw   exchange.Raw
		echo  string
		first string
	}{
		{exchange.Raw{Text: "The ferry", Echo: true}, "The ferry", ""},
		{exchange.Raw{Tokens: []int32{'T', 'h', 'e'}, Echo: true}, "The", "T"},
		{exchange.Raw{Text: "The ferry", Echo: true, NoAnswer: true}, "The ferry", ""},
	} {
		got, err := collect(t, r, &exchange.Request{Raw: &c.raw, Scores: &top, MaxTokens: 5, Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: &zero}}})
		if err != nil {
			t.Fatal(err)
		}
		echo := got.started.Echo
		said := echo.First
		for _, s := range echo.Scores {
			said += s.Text
		}
		if echo.Text != c.echo || said != c.echo || echo.First != c.first {
			t.Errorf("%+v: echo %+v", c.raw, echo)
		}
		if answered := got.finish.Tokens > 0; answered == c.raw.NoAnswer {
			t.Errorf("%+v: %d tokens", c.raw, got.finish.Tokens)
		}
	}
	for _, raw := range []exchange.Raw{{Tokens: []int32{99999}}, {Tokens: []int32{-1}}, {Tokens: []int32{}}} {
		if _, err := collect(t, r, &exchange.Request{Raw: &raw}); exchange.AsError(err).Kind != exchange.Invalid {
			t.Errorf("%v: %v", raw.Tokens, err)
		}
	}
}

func TestOldestTurnsGoFirst(t *testing.T) {
	if testing.Short() {
		t.Skip("the engine's arithmetic takes minutes under the race detector")
	}
	r := New(Options{})
	defer r.Close()
	say := func(role exchange.Role, text string) exchange.Turn {
		return exchange.Turn{Role: role, Parts: []exchange.Part{exchange.Text(text)}}
	}
	req := ask("x")
	req.Turns = []exchange.Turn{say(exchange.System, "Be brief.")}
	for range 6 {
		req.Turns = append(req.Turns, say(exchange.User, strings.Repeat("boat ", 250)), say(exchange.Assistant, strings.Repeat("yes ", 100)))
	}
	req.Turns = append(req.Turns, say(exchange.User, "When is the last boat to Osmer?"))
	if _, err := collect(t, r, req); exchange.AsError(err).Code != "context_length_exceeded" {
		t.Fatal(err)
	}
	req.Truncate, req.MaxTokens = true, 20
	got, err := collect(t, r, req)
	if err != nil || got.started.Dropped < 2 || got.started.Dropped%2 != 0 || got.started.PromptTokens > 2048-20 {
		t.Errorf("%+v, %v", got.started, err)
	}
	if len(req.Turns) != 14 {
		t.Error("the request itself was changed")
	}
	req.Turns = []exchange.Turn{say(exchange.User, strings.Repeat("boat ", 2500))}
	if _, err := collect(t, r, req); exchange.AsError(err).Code != "context_length_exceeded" {
		t.Errorf("one turn that is too long: %v", err)
	}
}

func TestEmbed(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	v, err := r.Embed(t.Context(), embedder, &exchange.Embedding{Inputs: []exchange.Input{{Text: "When is the last boat to Osmer?"}, {Text: "last boat Osmer"}, {Text: "bicycle fare"}, {Tokens: []int32{2041, 1307}}}})
	if err != nil {
		t.Fatal(err)
	}
	dot := func(a, b []float32) (sum float64) {
		for i := range a {
			sum += float64(a[i] * b[i])
		}
		return sum
	}
	if near, far := dot(v.Vectors[0], v.Vectors[1]), dot(v.Vectors[0], v.Vectors[2]); near <= far || v.Tokens < 9+2 {
		t.Errorf("alike %f, not alike %f, %d tokens", near, far, v.Tokens)
	}
	for _, c := range []struct {
		path string
		in   exchange.Input
		code string
	}{
		{embedder, exchange.Input{}, "invalid_value"},
		{embedder, exchange.Input{Tokens: []int32{7, 4096}}, "invalid_value"},
		{embedder, exchange.Input{Text: strings.Repeat("boat ", 3000)}, "context_length_exceeded"},
		{harbour, exchange.Input{Text: "x"}, "invalid_value"},
	} {
		if _, err := r.Embed(t.Context(), c.path, &exchange.Embedding{Inputs: []exchange.Input{c.in}}); err == nil || exchange.AsError(err).Code != c.code {
			t.Errorf("%s %.30q: %v", c.path, c.in.Text, err)
		}
	}
	// Those who would wait too long are told so at once.
	crowded := New(Options{Engine: engine.Options{Queue: 2}})
	defer crowded.Close()
	var full atomic.Int32
	var all sync.WaitGroup
	for range 12 {
		all.Go(func() {
			_, err := crowded.Embed(t.Context(), embedder, &exchange.Embedding{Inputs: []exchange.Input{{Text: strings.Repeat("boat ", 100)}}})
			if err != nil && exchange.AsError(err).Code == "queue_full" {
				full.Add(1)
			} else if err != nil {
				t.Error(err)
			}
		})
	}
	if all.Wait(); full.Load() == 0 {
		t.Error("twelve at once, and none was refused")
	}
	for _, err := range r.Run(t.Context(), embedder, ask("x")) {
		if err == nil || exchange.AsError(err).Param != "model" {
			t.Errorf("an embedding model was asked for text: %v", err)
		}
	}
}

// Wherever a limit cuts an enforced call off, nothing of its markup comes out as text: it is the call that it began to be, or nothing.
func TestCallsThatAreCutOff(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	for _, c := range []struct {
		name   string
		change func(*exchange.Request)
	}{
		{"required", func(q *exchange.Request) { q.Choice = exchange.Choice{Required: true} }},
		{"one required", func(q *exchange.Request) { q.Choice = exchange.Choice{Required: true, Single: true} }},
		{"beside a format", func(q *exchange.Request) {
			q.Choice = exchange.Choice{Required: true}
			q.Format = exchange.Format{Kind: exchange.FormatObject}
		}},
	} {
		whole, cut := 0, 0
		for limit := 1; limit <= 60; limit++ {
			req := random(ask("When is the next boat to Osmer?"), int64(limit))
			req.Tools, req.MaxTokens = tools(true), limit
			c.change(req)
			got, err := collect(t, r, req)
			if err != nil {
				t.Fatal(err)
			}
			if got.text != "" {
				t.Errorf("%s, %d tokens: %q comes out as text (%s)", c.name, limit, got.text, got.finish.Reason)
			}
			switch {
			case got.finish.Reason == exchange.Called && len(got.calls) > 0:
				whole++
			case got.finish.Reason == exchange.Length:
				cut++
			default:
				t.Errorf("%s, %d tokens: %s with %d calls", c.name, limit, got.finish.Reason, len(got.calls))
			}
		}
		if whole == 0 || cut == 0 {
			t.Errorf("%s: %d whole, %d cut off", c.name, whole, cut)
		}
	}
}
