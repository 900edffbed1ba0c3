package suite

import (
	"cmp"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/record"
	"kindredgate/internal/sampling"
)

const ferry = `
suite: Ferry desk
models: [a, b]
samples: 4
seed: 10
settings: { temperature: 0.5, longest_answer: 30 }
cases:
  last-boat:
    said:
      - system: Be brief.
      - user: When is the last boat?
      - called: { tool: departures, with: { to: Osmer }, gave: "19:40" }
    tools: { departures: { for: lists, with: { type: object } } }
    settings: { temperature: 0 }
    answer: { holds: "19:40" }
  first-boat:
    said: [{ user: When is the first boat? }]
    answer: { holds: "06:45" }
`

func TestSuitesAreRead(t *testing.T) {
	s, err := Parse([]byte(ferry))
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Cases) != 2 || s.Cases[0].Name != "last-boat" || s.Samples != 4 {
		t.Errorf("%+v", s)
	}
	req := s.Request(s.Cases[0], "a", 12)
	raw, err := req.Encode()
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"seed":12`, `"temperature":0,`, `"max_tokens":30`, `"role":"system"`, `"tool_call":{"id":"call_2_0","name":"departures","arguments":"{\"to\":\"Osmer\"}"}`, `"tool_result":{"call_id":"call_2_0","content":"19:40"}`, `"name":"departures"`} {
		if !strings.Contains(string(raw), want) {
			t.Errorf("%s is not in %s", want, raw)
		}
	}
	if _, err := Parse(Abilities); err != nil {
		t.Errorf("the suite that ships: %v", err)
	}
	for want, doc := range map[string]string{
		`there is no expectation "hold"; did you mean "holds"?`:  "suite: x\ncases: {a: {said: [{user: x}], answer: {hold: y}}}",
		"cases.a.answer.fits is no regular expression":           "suite: x\ncases: {a: {said: [{user: x}], answer: {fits: '('}}}",
		"cases.a.answer.first_token_within":                      "suite: x\ncases: {a: {said: [{user: x}], answer: {first_token_within: soon}}}",
		"cases.a.answer.obeys is no JSON Schema":                 "suite: x\ncases: {a: {said: [{user: x}], answer: {obeys: {type: boat}}}}",
		"missing propert":                                        "suite: x\ncases: {a: {answer: {holds: y}}}",
		"cases.a.said.0":                                         "suite: x\ncases: {a: {said: [{captain: x}], answer: {holds: y}}}",
		"cases.a.said.0.user.0: additional properties 'details'": "suite: x\ncases: {a: {said: [{user: [{picture: a.png, details: low}]}], answer: {holds: y}}}",
		"samples":                                  "suite: x\nsamples: 0\ncases: {a: {said: [{user: x}], answer: {holds: y}}}",
		"cannot be read as YAML":                   "suite: [",
		"cases must be an object":                  "[]",
		"https://elsewhere.example is not fetched": "suite: x\ncases: {a: {said: [{user: x}], answer: {obeys: {$ref: 'https://elsewhere.example'}}}}",
	} {
		if _, err := Parse([]byte(doc)); err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%s\n%v, wanted %q", doc, err, want)
		}
	}
}

func TestExpectations(t *testing.T) {
	half := 0.5
	calls := []kept.Call{{Name: "departures", Arguments: `{"from":"Sorrel","to":"osmer","n":3}`}}
	for _, c := range []struct {
		name string
		e    string
		a    Answer
		what string // that is not met
	}{
		{"holds", `{"holds":["19:40","BOAT"]}`, Answer{Text: "The boat leaves at 19:40."}, ""},
		{"holds", `{"holds":["19:40","quay"]}`, Answer{Text: "The boat leaves at 19:40."}, "holds"},
		{"lacks", `{"lacks":"sorry"}`, Answer{Text: "Sorry."}, "lacks"},
		{"is", `{"is":"yes"}`, Answer{Text: " yes\n"}, ""},
		{"is", `{"is":"yes"}`, Answer{Text: "yes."}, "is"},
		{"fits", `{"fits":"^\\d\\d:\\d\\d$"}`, Answer{Text: "19:40"}, ""},
		{"fits", `{"fits":"^\\d$"}`, Answer{Text: "19:40"}, "fits"},
		{"obeys", `{"obeys":{"type":"object","required":["a"]}}`, Answer{Text: `{"a":1}`}, ""},
		{"obeys", `{"obeys":{"type":"object","required":["a"]}}`, Answer{Text: `{"b":1}`}, "obeys"},
		{"obeys", `{"obeys":{}}`, Answer{Text: `no JSON`}, "obeys"},
		{"calls", `{"calls":{"departures":{"to":"Osmer"}}}`, Answer{Calls: calls}, ""},
		{"calls", `{"calls":{"departures":{"to":"Wick"}}}`, Answer{Calls: calls}, "calls"},
		{"calls", `{"calls":{"departures":{"n":3}}}`, Answer{Calls: calls}, ""},
		{"calls", `{"calls":{"fares":null}}`, Answer{Calls: calls}, "calls"},
		{"calls nothing", `{"calls_nothing":true}`, Answer{Calls: calls}, "calls_nothing"},
		{"declines", `{"declines":true}`, Answer{Text: "I'm afraid I don't know."}, ""},
		{"declines", `{"declines":true}`, Answer{Text: "Six crowns."}, "declines"},
		{"alike", `{"alike":{"to":"a b c d e"}}`, Answer{Text: "a b c d x"}, ""},
		{"alike", `{"alike":{"to":"a b c d e"}}`, Answer{Text: "a b x y z"}, "alike"},
		{"tokens", `{"tokens_at_most":5}`, Answer{Tokens: 6}, "tokens_at_most"},
		{"as many tokens as may be", `{"tokens_at_most":5}`, Answer{Tokens: 5}, ""},
		{"first token", `{"first_token_within":"1s"}`, Answer{FirstToken: 2 * time.Second}, "first_token_within"},
		{"judged", `{"judged":{"by":"judge","whether":"it is kind"}}`, Answer{Text: "kind"}, ""},
		{"judged", `{"judged":{"by":"judge","whether":"it is kind"}}`, Answer{Text: "rude"}, "judged"},
		{"the first that fails", `{"holds":"x","tokens_at_most":1}`, Answer{Text: "y", Tokens: 9}, "holds"},
	} {
		var e Expected
		if err := json.Unmarshal([]byte(c.e), &e); err != nil {
			t.Fatal(err)
		}
		if err := e.compile(); err != nil {
			t.Fatal(err)
		}
		judge := func(_ context.Context, req exchange.Request) (Answer, error) {
			if req.Model != "judge" || req.Format.Kind != exchange.FormatSchema {
				t.Errorf("the judge is asked %+v", req)
			}
			return Answer{Text: fmt.Sprintf(`{"reason":"so it seems","true":%v}`, strings.Contains(req.Turns[1].Text(), "judged:\nkind"))}, nil
		}
		what, why, err := e.unmet(t.Context(), Case{Said: []Turn{{User: content{{}}}}}, c.a, judge)
		if err != nil || what != c.what || (what == "") != (why == "") {
			t.Errorf("%s, %s: %q is not met (%s), %v; want %q", c.name, c.e, what, why, err, c.what)
		}
	}
	// A judge who gives a reason and no verdict has not judged.
	for _, says := range []string{`{"reason":"so it seems"}`, `{"true":null}`, `yes`} {
		e := Expected{Judged: &Judged{By: "judge", Whether: "it is kind"}}
		if _, _, err := e.unmet(t.Context(), Case{Said: []Turn{{User: content{{}}}}}, Answer{Text: "kind"}, func(context.Context, exchange.Request) (Answer, error) { return Answer{Text: says}, nil }); err == nil {
			t.Errorf("%s is a verdict", says)
		}
	}
	if e := (Alike{AtLeast: &half}); *e.AtLeast != 0.5 {
		t.Error(e)
	}
}

func TestRuns(t *testing.T) {
	s, err := Parse([]byte(ferry))
	if err != nil {
		t.Fatal(err)
	}
	// Model a knows the last boat, and for every other seed the first; b breaks.
	ask := func(_ context.Context, req exchange.Request) (Answer, error) {
		seed := *req.Sampling.Seed
		switch {
		case req.Model == "b" && seed == 11:
			panic("it broke")
		case req.Model == "b":
			return Answer{}, errors.New("it does not answer")
		case strings.Contains(req.Turns[len(req.Turns)-1].Text(), "first") && seed%2 == 0:
			return Answer{Text: "06:45", Tokens: 2}, nil
		}
		return Answer{Text: "19:40", Tokens: 2, Exchange: fmt.Sprint("x", seed)}, nil
	}
	told := 0
	r, err := s.Run(t.Context(), nil, 3, ask, func(done, all int, c Cell) {
		told++
		if done != told || all != 4 || c.Asked != 4 {
			t.Errorf("%d of %d: %+v", done, all, c)
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	got := []int{}
	for _, c := range r.Cells {
		got = append(got, c.Passed)
	}
	if !slices.Equal(got, []int{4, 2, 0, 0}) || told != 4 || len(r.Below(0.5)) != 2 || len(r.Below(1)) != 3 {
		t.Errorf("%v %+v", got, r.Cells)
	}
	if rate, n := r.Score("a"); rate != 1.5 || n != 2 {
		t.Error(rate, n)
	}
	raw, err := r.JUnit(1)
	var doc junitSuites
	if err == nil {
		err = xml.Unmarshal(raw, &doc)
	}
	if err != nil || len(doc.Suites) != 2 || doc.Suites[0].Failures != 1 || doc.Suites[1].Failures != 2 || !strings.Contains(doc.Suites[1].Cases[0].Failure.Text, "panic: it broke") {
		t.Errorf("%v\n%s", err, raw)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := s.Run(ctx, nil, 1, ask, nil); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

// The intervals are those of Wilson's paper and of the tables made by it.
func TestIntervals(t *testing.T) {
	for _, c := range []struct {
		passed, n int
		low, high float64
	}{{0, 0, 0, 1}, {0, 10, 0, 0.2775}, {10, 10, 0.7225, 1}, {5, 10, 0.2366, 0.7634}, {81, 263, 0.2553, 0.3662}} {
		low, high := interval(c.passed, c.n)
		if math.Abs(low-c.low) > 5e-5 || math.Abs(high-c.high) > 5e-5 {
			t.Errorf("%d of %d: %.4f to %.4f", c.passed, c.n, low, high)
		}
	}
}

// What was recorded comes back as a suite that asks the same, and expects the same.
func TestSuitesOfRecordedExchanges(t *testing.T) {
	warm := 0.7
	req := exchange.Request{Model: "a", MaxTokens: 9, Sampling: exchange.Sampling{Settings: sampling.Settings{Temperature: &warm}},
		Turns: []exchange.Turn{{Role: exchange.System, Preset: 1, Parts: []exchange.Part{exchange.Text("a preset's"), exchange.Text("\n\n"), exchange.Text("own: words")}},
			{Role: exchange.User, Parts: []exchange.Part{exchange.Text("When?\n- now\n- \"then\"")}}, {Role: exchange.Assistant, Parts: []exchange.Part{exchange.ToolCall{ID: "1", Name: "f", Arguments: `{"a":[1]}`}}},
			{Role: exchange.ToolRole, Parts: []exchange.Part{exchange.ToolResult{CallID: "1", Content: "07:10"}}}},
		Tools: []exchange.Tool{{Name: "f", Description: "d", Parameters: json.RawMessage(`{"type":"object"}`)}}}
	raw, err := req.Encode()
	if err != nil {
		t.Fatal(err)
	}
	good := Recorded{record.Record{ID: "abcdefghij", Model: "a"}, kept.Content{Request: raw, Answers: []kept.Answer{{Text: "At 07:10.", Calls: []kept.Call{{Name: "f", Arguments: `{"b":2}`}}}}}}
	empty := Recorded{record.Record{ID: "empty"}, kept.Content{Request: raw, Answers: []kept.Answer{{}}}}
	doc, n, skipped, err := From("Recorded: so", []Recorded{good, empty})
	if err != nil || n != 1 || len(skipped) != 1 {
		t.Fatal(err, n, skipped)
	}
	s, err := Parse(doc)
	if err != nil {
		t.Fatalf("%v\n%s", err, doc)
	}
	back := s.Request(s.Cases[0], "a", 1)
	if got, want := back.Turns[0].Text()+"|"+back.Turns[1].Text()+"|"+back.Turns[3].Text(), "own: words|When?\n- now\n- \"then\"|07:10"; got != want {
		t.Errorf("%q, want %q\n%s", got, want, doc)
	}
	if e := s.Cases[0].Answer; e.Alike.To != "At 07:10." || string(e.Calls["f"]) != `{"b":2}` || back.MaxTokens != 9 || *back.Sampling.Temperature != 0.7 || back.Tools[0].Name != "f" {
		t.Errorf("%+v\n%s", e, doc)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(ferry))
	f.Add(Abilities)
	f.Add([]byte("suite: x\ncases: {a: {said: [{user: x}], answer: {obeys: {$ref: '#'}}}}"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, err := Parse(raw)
		if err != nil {
			return
		}
		for _, c := range s.Cases {
			req := s.Request(c, "m", 1)
			if _, err := req.Encode(); err != nil {
				t.Errorf("%v of %q", err, raw)
			}
		}
	})
}

// Files that would have the parser call itself without end, or compare thousands of keys with one another, are refused before it reads them.
func TestFilesOutOfProportion(t *testing.T) {
	const head = "suite: x\ncases: {a: {said: [{user: x}], answer: {holds: "
	deep := func(open, end string, n int) string {
		return head + strings.Repeat(open, n) + "x" + strings.Repeat(end, n) + "}}}\n"
	}
	var chain, keys, blocks strings.Builder
	chain.WriteString("suite: x\na0: &a0 [x]\n")
	for i := 1; i < 450; i++ {
		fmt.Fprintf(&chain, "a%d: &a%d [*a%d]\n", i, i, i-1)
	}
	for i := range 20_000 {
		fmt.Fprintf(&keys, "k%d: x\n", i)
	}
	for i := range 300 {
		blocks.WriteString(strings.Repeat(" ", i) + "k:\n")
	}
	for what, c := range map[string]struct{ raw, want string }{
		"brackets": {deep("[", "]", 40_000), "nested more than"}, "braces": {deep("{a: ", "}", 40_000), "nested more than"}, "entries": {"suite: x\ncases: " + strings.Repeat("- ", 40_000), "nested more than"},
		"blocks": {blocks.String(), "nested more than"}, "anchors": {"suite: " + strings.Repeat("&a ", 40_000), "nested more than"}, "tags": {"suite: " + strings.Repeat("!a ", 40_000), "nested more than"},
		"aliases": {chain.String(), "nested more than"}, "keys": {keys.String(), "more than 8192 keys"}, "nothing": {"", "suite"},
	} {
		if _, err := Parse([]byte(c.raw)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %.300v", what, err)
		}
	}
}

// A schema that would go through an answer again and again is not met, and says why.
func TestSchemasOutOfProportion(t *testing.T) {
	doubling := func(last, each string) string {
		var b strings.Builder
		b.WriteString(`{"$ref": "#/$defs/d0", "$defs": {`)
		for i := range 40 {
			fmt.Fprintf(&b, `"d%d": {"`+each+`": [{"$ref": "#/$defs/d%d"}, {"$ref": "#/$defs/d%d"}]}, `, i, i+1, i+1)
		}
		return b.String() + `"d40": ` + last + `}}`
	}
	for what, c := range map[string]struct{ schema, answer, why string }{
		"doubling":         {doubling("true", "allOf"), "1", "too many steps"},
		"doubling, wrong":  {`{"not": ` + strings.ReplaceAll(doubling("false", "anyOf"), "#/", "#/not/") + `}`, "1", "too many steps"},
		"doubling draft 7": {strings.Replace(doubling(`{"type": "string"}`, "oneOf"), "{", `{"$schema": "http://json-schema.org/draft-07/schema#", `, 1), "1", "too many steps"},
		"by depth":         {`{"allOf": [{"properties": {"a": {"$ref": "#"}}}, {"properties": {"a": {"$ref": "#"}}}]}`, strings.Repeat(`{"a":`, 60) + "1" + strings.Repeat("}", 60), "too many steps"},
		"a large number":   {`{"multipleOf": 3}`, "1e999999999", "out of range"},
		"itself":           {`{"properties": {"a": {"$ref": "#"}}, "additionalProperties": false}`, strings.Repeat(`{"a":`, 60) + "{}" + strings.Repeat("}", 60), ""},
	} {
		e := Expected{Obeys: json.RawMessage(c.schema)}
		if err := e.compile(); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		_, why, err := e.unmet(t.Context(), Case{}, Answer{Text: c.answer}, nil)
		if err != nil || (c.why == "") != (why == "") || !strings.Contains(why, c.why) {
			t.Errorf("%s: %q, %v, want %q", what, why, err, c.why)
		}
	}
	gone, leave := context.WithCancel(t.Context())
	leave()
	e := Expected{Obeys: json.RawMessage(`{}`)}
	if err := e.compile(); err != nil {
		t.Fatal(err)
	}
	if _, _, err := e.unmet(gone, Case{}, Answer{Text: "1"}, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("somebody who left: %v", err)
	}
}

// A short file that stands for a long one, by aliases of aliases, is refused before it is laid out.
func TestAliasesOfAliases(t *testing.T) {
	var b strings.Builder
	b.WriteString("suite: x\na0: &a0 [x, x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i < 10; i++ {
		fmt.Fprintf(&b, "a%d: &a%d [", i, i)
		for range 10 {
			fmt.Fprintf(&b, "*a%d, ", i-1)
		}
		b.WriteString("]\n")
	}
	b.WriteString("cases: {a: {said: [{user: x}], answer: {holds: *a9}}}\n")
	_, err := Parse([]byte(b.String()))
	if err == nil || !strings.Contains(err.Error(), "aliases") {
		t.Errorf("%.300v", err)
	}
}

// A conversation comes out of a suite as it went in: turns of several parts are one, and so is a turn with a text and several calls.
func TestAConversationStaysAsItWas(t *testing.T) {
	turn := func(role exchange.Role, parts ...exchange.Part) exchange.Turn {
		return exchange.Turn{Role: role, Parts: parts}
	}
	turns := []exchange.Turn{
		turn(exchange.System, exchange.Text("Be "), exchange.Text("brief.")),
		turn(exchange.User, exchange.Text("When is the last boat to Osmer,\n"), exchange.Text("and to Quillay?")),
		turn(exchange.Assistant, exchange.Text("I look."), exchange.ToolCall{ID: "a", Name: "departures", Arguments: `{"to":"Osmer"}`}, exchange.ToolCall{ID: "b", Name: "departures", Arguments: `{"to":"Quillay"}`}),
		turn(exchange.ToolRole, exchange.ToolResult{CallID: "a", Content: "19:40"}), turn(exchange.ToolRole, exchange.ToolResult{CallID: "b", Content: "17:50"}),
		turn(exchange.Assistant, exchange.Text("19:40 and 17:50.")),
		turn(exchange.User, exchange.Text("Is this"), exchange.Image{URL: "data:image/png;base64,AAAA", Detail: "low"}, exchange.Text("the pier of Brannoc?"), exchange.Image{URL: "https://ferry.test/b.png"}),
	}
	raw, err := (&exchange.Request{Model: "m", Turns: turns, Tools: []exchange.Tool{{Name: "departures", At: "tools[0]"}}}).Encode()
	if err != nil {
		t.Fatal(err)
	}
	doc, n, skipped, err := From("so", []Recorded{{Exchange: record.Record{ID: "abcdefghij", Model: "m"}, Content: kept.Content{Request: raw, Answers: []kept.Answer{{Text: "18:20"}}}}})
	if err != nil || n != 1 || len(skipped) != 0 {
		t.Fatal(n, skipped, err)
	}
	s, err := Parse(doc)
	if err != nil {
		t.Fatalf("%v\n%s", err, doc)
	}
	got := s.Request(s.Cases[0], "m", 1).Turns
	if len(got) != len(turns) {
		t.Fatalf("%d turns, not %d:\n%s", len(got), len(turns), doc)
	}
	for i, want := range turns {
		calls := func(t exchange.Turn) (list []string) {
			for i, p := range t.Parts {
				switch p := p.(type) {
				case exchange.Image:
					list = append(list, fmt.Sprint(i, p.URL, p.Detail))
				case exchange.ToolCall:
					list = append(list, p.Name+p.Arguments)
				case exchange.ToolResult:
					list = append(list, p.Content)
				}
			}
			return list
		}
		if got[i].Role != want.Role || got[i].Text() != want.Text() || !slices.Equal(calls(got[i]), calls(want)) {
			t.Errorf("turn %d is %s %q %q, not %s %q %q", i, got[i].Role, got[i].Text(), calls(got[i]), want.Role, want.Text(), calls(want))
		}
	}
	for _, bad := range []string{`[{user: a, assistant: b}]`, `[{system: a, called: {tool: x, gave: y}}]`, `[{}]`, `[{called: []}]`, `[{user: []}]`, `[{user: [3]}]`, `[{user: {picture: a.png}}]`, `[{user: [{picture: ""}]}]`, `[{user: [{picture: a.png, detail: much}]}]`, `[{system: [a]}]`} {
		if _, err := Parse([]byte("suite: x\ncases: { a: { said: " + bad + ", answer: { is: x } } }")); err == nil {
			t.Errorf("%s is taken", bad)
		}
	}
}

// Pictures that a suite names by their files are attached to it; which ones they are is part of what the suite asks.
func TestPicturesOfSuites(t *testing.T) {
	parse := func() *Suite {
		s, err := Parse([]byte("suite: x\ncases:\n  a: { said: [{ user: [{ picture: pictures/a.png }, \"What is this?\", { picture: b.png }, { picture: pictures/a.png }] }], answer: { is: x } }\n  b: { said: [{ user: [{ picture: \"DATA:image/png;base64,AAAA\" }] }], answer: { is: x } }\n"))
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	s := parse()
	if got := s.Files(); !slices.Equal(got, []string{"pictures/a.png", "b.png"}) {
		t.Errorf("its files are %q", got)
	}
	if err := s.Attach(map[string]string{"b.png": "data:b"}); err == nil || !strings.Contains(err.Error(), `"pictures/a.png" is a file, which was not sent`) {
		t.Errorf("without one: %v", err)
	}
	if err := parse().Attach(map[string]string{"pictures/a.png": "data:" + strings.Repeat("a", longCase/2), "b.png": "data:b"}); err == nil || !strings.Contains(err.Error(), "cases.a: its pictures have more than") {
		t.Errorf("pictures that are long because one is named twice: %v", err)
	}
	digests := map[string]bool{s.Digest: true}
	for _, pictures := range []map[string]string{{"pictures/a.png": "data:a", "b.png": "data:b"}, {"a.png": "data:c", "b.png": "data:b"}} {
		s := parse()
		if err := s.Attach(pictures); err != nil {
			t.Fatal(err)
		}
		if digests[s.Digest] {
			t.Error("suites of other pictures have one digest")
		}
		digests[s.Digest] = true
		var got []string
		for _, p := range s.Request(s.Cases[0], "m", 1).Turns[0].Parts {
			if image, ok := p.(exchange.Image); ok {
				got = append(got, image.URL+" "+image.At)
			}
		}
		a := cmp.Or(pictures["pictures/a.png"], pictures["a.png"])
		if want := []string{a + " said[0].user[0]", "data:b said[0].user[2]", a + " said[0].user[3]"}; !slices.Equal(got, want) {
			t.Errorf("%q, not %q", got, want)
		}
	}
}
