package reading

import (
	"strings"
	"testing"
)

var (
	think    = Marks{"<think>", "</think>"}
	tagged   = Style{Reasoning: think, Form: JSON, Calls: Marks{"<tool_call>", "</tool_call>"}}
	marker   = Style{Form: JSON, Calls: Marks{Open: "[CALLS]"}}
	bare     = Style{Form: JSON}
	python   = Style{Form: Python}
	tags     = Style{Form: FunctionTags, Calls: Marks{"<tool_call>", "</tool_call>"}}
	channels = Style{Form: Channels}
	inside   = Style{Reasoning: think, Inside: true, Form: JSON, Calls: Marks{"<tool_call>", "</tool_call>"}}
)

// cases are raw texts with what must be read from them: T text, R reasoning, C call, M malformed.
var cases = []struct {
	name  string
	style Style
	raw   string
	want  string
}{
	{"plain", tagged, "The boat leaves at 19:40.", "T(The boat leaves at 19:40.)"},
	{"space around", tagged, "\n\nHello \n there", "T(Hello \n there)"},
	{"space at the end is kept", tagged, "Hello \n", "T(Hello \n)"},
	{"only space", tagged, " \n ", ""},
	{"reasoning", tagged, "<think>\nOsmer: 35\n</think>\n\nBrannoc.", "R(Osmer: 35)T(Brannoc.)"},
	{"reasoning that the prompt opened", inside, "Osmer: 35\n</think>\nBrannoc.", "R(Osmer: 35)T(Brannoc.)"},
	{"reasoning without an end", inside, "Osmer: 35 minutes", "R(Osmer: 35 minutes)"},
	{"no reasoning after all", tagged, "a <thin line", "T(a <thin line)"},
	{"mark of which the end is missing", tagged, "a <think", "T(a <think)"},
	{"call", tagged, `<tool_call>{"name":"f","arguments":{"a": 1}}</tool_call>`, `C(f {"a": 1})`},
	{"text and call", tagged, "One moment.\n<tool_call>\n{\"name\": \"f\", \"arguments\": {}}\n</tool_call>\n", "T(One moment.)C(f {})"},
	{"two calls", tagged, `<tool_call>{"name":"f"}</tool_call>` + "\n" + `<tool_call>{"name":"g","parameters":{"x":[1]}}</tool_call>`, `C(f {})C(g {"x":[1]})`},
	{"reasoning, then a call", inside, "I need it\n</think>\n" + `<tool_call>{"name":"f","arguments":{}}</tool_call>`, "R(I need it)C(f {})"},
	{"arguments as text", tagged, `<tool_call>{"name":"f","arguments":"{\"a\":1}"}</tool_call>`, `C(f {"a":1})`},
	{"call that is no JSON", tagged, `<tool_call>f(1)</tool_call> done`, `T(<tool_call>f(1)</tool_call> done)M`},
	{"call without a name", tagged, `<tool_call>{"arguments":{}}</tool_call>`, `T(<tool_call>{"arguments":{}}</tool_call>)M`},
	{"call that is cut off", tagged, `<tool_call>{"name":"f","argu`, `T(<tool_call>{"name":"f","argu)M`},
	{"call whose end is missing", tagged, `<tool_call>{"name":"f","arguments":{}}`, "C(f {})"},
	{"the end mark within a string", tagged, `<tool_call>{"name":"f","arguments":{"a":"\"</tool_call>"}}</tool_call>`, `C(f {"a":"\"</tool_call>"})`},
	{"half a mark in the end", tagged, "a <tool_cal", "T(a <tool_cal)"},
	{"marked list", marker, `Sure. [CALLS][{"name":"f","arguments":{"a":1}},{"name":"g","arguments":{}}]`, `T(Sure.)C(f {"a":1})C(g {})`},
	{"bare JSON", bare, ` {"name": "f", "parameters": {"a": "x"}}`, `C(f {"a": "x"})`},
	{"bare JSON, twice", bare, `{"name": "f"} {"name": "g"}`, "C(f {})C(g {})"},
	{"JSON that is an answer", bare, `{"boat": "Osmer"}`, `T({"boat": "Osmer"})M`},
	{"text where JSON is possible", bare, `See {"name": "f"}`, `T(See {"name": "f"})`},
	{"Python", python, `[f(a=1, b="x, y"), g.h(c=[1, 'z'], d={'k': None}, e=True)]`, `C(f {"a":1,"b":"x, y"})C(g.h {"c":[1,"z"],"d":{"k":null},"e":true})`},
	{"Python, escapes", python, `[f(a="\u00e9\b\f\n\"\\", b='\'', c="\u12")]`, `C(f {"a":"é\b\f\n\"\\","b":"'","c":"u12"})`},
	{"Python that is none", python, `[1, 2]`, "T([1, 2])M"},
	{"function tags", tags, "<tool_call>\n<function=f>\n<parameter=a>\n12\n</parameter>\n<parameter=b>\nx <y>\n</parameter>\n</function>\n</tool_call>", `C(f {"a":12,"b":"x \u003cy\u003e"})`},
	{"channels", channels, "<|channel|>analysis<|message|>Osmer: 35 <min><|end|><|start|>assistant<|channel|>final<|message|>Brannoc.", "R(Osmer: 35 <min>)T(Brannoc.)"},
	{"channels, a call", channels, `<|channel|>analysis<|message|>I need it<|end|><|start|>assistant<|channel|>commentary to=functions.f <|constrain|>json<|message|>{"a": 1}<|call|>`, `R(I need it)C(f {"a": 1})`},
	{"channels, a call to the role", channels, `<|start|>assistant to=functions.f<|channel|>commentary<|message|>{"a": 1}<|call|>`, `C(f {"a": 1})`},
	{"channels, words to the reader", channels, `<|channel|>commentary<|message|>One moment.<|end|><|start|>assistant<|channel|>commentary to=functions.f<|message|>{}`, `T(One moment.)C(f {})`},
	{"channels, a call that is no JSON", channels, `<|channel|>commentary to=functions.f<|message|>what?<|call|>`, `T(what?)M`},
	{"channels, none", channels, "Just <text> here", "T(Just <text> here)"},
	{"channels, cut off in a header", channels, "<|channel|>fin", "T(<|channel|>fin)"},
	{"channels, cut off in a mark", channels, "<|channel|>final<|message|>So<|en", "T(So<|en)"},
	{"a name, then JSON", framedNamed, "Now. <|call|>f\n```json\n" + `{"a": "` + "```" + `"}` + "\n```<|end|>", "T(Now.)C(f {\"a\": \"```\"})"},
	{"names, then JSON", framedNamed, "<|call|>f\n```json\n{}\n```<|next|>g-2 ```json {\"b\": [1]} ```<|end|>", `C(f {})C(g-2 {"b": [1]})`},
	{"a name, then none", framedNamed, "<|call|>f\n```json\n12\n```<|end|>", "T(<|call|>f\n```json\n12\n```<|end|>)M"},
	{"tags of any kind", framedKeys, "<call>f\n<key>a</key>\n<value>12</value>\n<key>b</key><value>x <y></value>\n</call>", `C(f {"a":12,"b":"x \u003cy\u003e"})`},
	{"tags of any kind, no argument", framedKeys, "<call>f\n</call><call>g</call>", `C(f {})C(g {})`},
	{"tags of any kind, cut off", framedKeys, "<call>f\n<key>a</key>\n<val", "T(<call>f\n<key>a</key>\n<val)M"},
	{"no form of calls", Style{}, `<tool_call>{"name":"f"}</tool_call>`, `T(<tool_call>{"name":"f"}</tool_call>)`},
}

// read gives the events of a text that comes in the given pieces, neighbours of one kind joined.
func read(s Style, parts ...string) string { return readAs(s, false, parts...) }

func readAs(s Style, enforced bool, parts ...string) string {
	r := New(s)
	if enforced {
		r.Enforce()
	}
	var all []Piece
	for _, p := range parts {
		all = append(all, r.Add(p)...)
	}
	all = append(all, r.End()...)
	var out strings.Builder
	kind := ""
	for _, p := range all {
		switch {
		case p.Call != nil:
			kind = endOf(&out, kind, "C")
			out.WriteString(p.Call.Name + " " + p.Call.Arguments)
			if p.CallEnds {
				kind = endOf(&out, kind, "")
			}
		case p.Arguments != "":
			out.WriteString(p.Arguments)
		case p.CallEnds:
			kind = endOf(&out, kind, "")
		case p.Text != "":
			kind = endOf(&out, kind, "T")
			out.WriteString(p.Text)
		case p.Reasoning != "":
			kind = endOf(&out, kind, "R")
			out.WriteString(p.Reasoning)
		}
	}
	endOf(&out, kind, "")
	return out.String() + strings.Repeat("M", r.Malformed())
}

// endOf closes what is open if another kind follows.
func endOf(out *strings.Builder, kind, next string) string {
	if kind == next && kind != "" {
		return kind
	}
	if kind != "" {
		out.WriteString(")")
	}
	if next != "" {
		out.WriteString(next + "(")
	}
	return next
}

func TestRead(t *testing.T) {
	for _, c := range cases {
		if got := read(c.style, c.raw); got != c.want {
			t.Errorf("%s: %q\n got %s\nwant %s", c.name, c.raw, got, c.want)
		}
	}
}

// However a text is cut into pieces, the same is read from it.
func TestReadingIsBlindToPieces(t *testing.T) {
	for _, c := range cases {
		if got := read(c.style, strings.Split(c.raw, "")...); got != c.want {
			t.Errorf("%s, byte by byte:\n got %s\nwant %s", c.name, got, c.want)
		}
		for i := range len(c.raw) {
			for j := i; j <= len(c.raw); j++ {
				if got := read(c.style, c.raw[:i], c.raw[i:j], c.raw[j:]); got != c.want {
					t.Fatalf("%s, cut at %d and %d:\n got %s\nwant %s", c.name, i, j, got, c.want)
				}
			}
		}
	}
}

// enforcedCases are what a form allows, or the beginning of it: U marks a call that has no end.
var enforcedCases = []struct {
	name  string
	style Style
	raw   string
	want  string
}{
	{"call", framed, `<tool_call>` + "\n" + `{"name": "f", "arguments": {"a": "}\"{", "b": [1, {}]}}` + "\n</tool_call>", `C(f {"a": "}\"{", "b": [1, {}]})`},
	{"two calls", framed, `<tool_call>` + "\n" + `{"name": "f", "arguments": {}}` + "\n</tool_call> <tool_call>\n" + `{"name": "g", "arguments": {"x": 1}}` + "\n</tool_call>", `C(f {})C(g {"x": 1})`},
	{"text and call", framed, "One moment. <tool_call>\n" + `{"name": "f", "arguments": {}}` + "\n</tool_call>", `T(One moment.)C(f {})`},
	{"arguments that are cut off", framed, "<tool_call>\n" + `{"name": "f", "arguments": {"a": "x`, `C(f {"a": "x)`},
	{"call that is cut off before its name is whole", framed, "<tool_call>\n" + `{"name": "f", "argu`, ""},
	{"tags", framedTags, "<tool_call>\n<function=f>\n<parameter=a>\n\"}\\\"{\"\n</parameter>\n<parameter=b>\n[1, {}]\n</parameter>\n<parameter=c>\n-1.5e3\n</parameter>\n<parameter=d>\ntrue\n</parameter>\n</function>\n</tool_call>",
		`C(f {"a":"}\"{","b":[1, {}],"c":-1.5e3,"d":true})`},
	{"tags, no arguments, two calls", framedTags, "<tool_call>\n<function=f>\n</function>\n</tool_call>\n<tool_call>\n<function=g>\n<parameter=a>\n7\n</parameter>\n</function>\n</tool_call>", `C(f {})C(g {"a":7})`},
	{"tags, cut off in a value", framedTags, "So. <tool_call>\n<function=f>\n<parameter=a>\n\"Os", `T(So.)C(f {"a":"Os)`},
	{"tags, cut off in a mark", framedTags, "<tool_call>\n<function=f>\n<parameter=a>\n7\n</par", `C(f {"a":7)`},
	{"python", framedPython, `[f(a="]), ", b={"x": [1]}, c=7, d=null)]`, `C(f {"a":"]), ","b":{"x": [1]},"c":7,"d":null})`},
	{"python, no arguments", framedPython, `[f()]`, `C(f {})`},
	{"python, text after all", framedPython, `Osmer, I think (35 minutes).`, `T(Osmer, I think (35 minutes).)`},
	{"a name, then JSON", framedNamed, "<|call|>f\n```json\n" + `{"a": {"b": "` + "```" + `"}}` + "\n```<|end|>", "C(f {\"a\": {\"b\": \"```\"}})"},
	{"tags of any kind", framedKeys, "<call>f\n<key>a</key>\n<value>12</value>\n<key>b</key>\n<value>\"</value>\"</value>\n</call>", `C(f {"a":12,"b":"</value>"})`},
	{"bare, JSON that is no call", framedBare, `{"answer": {"name": 7}}`, `T({"answer": {"name": 7}})`},
	{"bare", Style{Form: JSON, Frame: Frame{Before: `{"name": "`, Between: `", "parameters": `, After: `}`}}, `{"name": "f", "parameters": {"a": 1}}`, `C(f {"a": 1})`},
	{"channels", channels, `<|channel|>analysis<|message|>I see<|end|><|start|>assistant<|channel|>commentary to=functions.f <|constrain|>json<|message|>{"a": {"b": 1}}<|call|>`, `R(I see)C(f {"a": {"b": 1}})`},
	{"channels, cut off", channels, `<|channel|>commentary to=functions.f <|constrain|>json<|message|>{"a": {`, `C(f {"a": {)`},
}

var framed = Style{Form: JSON, Calls: Marks{"<tool_call>", "</tool_call>"}, Frame: Frame{Before: "<tool_call>\n" + `{"name": "`, Between: `", "arguments": `, After: "}\n</tool_call>"}}

var (
	framedTags   = Style{Form: FunctionTags, Calls: Marks{"<tool_call>", "</tool_call>"}, Frame: Frame{Before: "<tool_call>\n<function=", Between: ">\n", After: "</function>\n</tool_call>", Open: "<parameter=", Assign: ">\n", Close: "\n</parameter>\n"}}
	framedPython = Style{Form: Python, Frame: Frame{Before: "[", Between: "(", After: ")]", Assign: "=", Separator: ", "}}
	framedNamed  = Style{Form: Named, Calls: Marks{"<|call|>", "```<|end|>"}, Frame: Frame{Before: "<|call|>", Between: "\n```json\n", After: "\n```<|end|>", Joint: "\n```<|next|>"}}
	framedKeys   = Style{Form: Tags, Calls: Marks{"<call>", "</call>"}, Frame: Frame{Before: "<call>", Between: "\n", After: "</call>", Open: "<key>", Assign: "</key>\n<value>", Close: "</value>\n"}}
	framedBare   = Style{Form: JSON, Frame: Frame{Before: `{"name": "`, Between: `", "parameters": `, After: `}`}}
)

// Calls whose form is enforced come as they are written, the name first; what was cut off is what it began to be.
func TestEnforcedCallsComeAsTheyAreWritten(t *testing.T) {
	for _, c := range enforcedCases {
		for i := range len(c.raw) {
			if got := readAs(c.style, true, c.raw[:i], c.raw[i:]); got != c.want {
				t.Errorf("%s, cut at %d:\n got %s\nwant %s", c.name, i, got, c.want)
			}
		}
	}
	r := New(framed)
	r.Enforce()
	if got := r.Add("<tool_call>\n" + `{"name": "f", "arguments": {"a": "x`); len(got) != 2 || got[0].Call == nil || got[0].Call.Name != "f" || got[1].Arguments != `{"a": "x` {
		t.Errorf("before the call is whole: %+v", got)
	}
}

func FuzzRead(f *testing.F) {
	for _, c := range cases {
		f.Add(c.raw, 3)
	}
	f.Fuzz(func(t *testing.T, raw string, cut int) {
		cut = max(0, min(len(raw), cut))
		for _, s := range []Style{framed, framedTags, framedPython, framedNamed, framedKeys, framedBare, channels} {
			if whole, parts := readAs(s, true, raw), readAs(s, true, raw[:cut], raw[cut:]); whole != parts {
				t.Errorf("%q cut at %d, enforced:\n%s\n%s", raw, cut, whole, parts)
			}
		}
		for _, s := range []Style{tagged, marker, bare, python, tags, framedNamed, framedKeys, inside, channels} {
			whole, parts := read(s, raw), read(s, raw[:cut], raw[cut:])
			if whole != parts {
				t.Errorf("%q in %+v:\nwhole %s\nparts %s", raw, s, whole, parts)
			}
		}
	})
}

func BenchmarkRead(b *testing.B) {
	tokens := strings.SplitAfter(strings.Repeat("The last boat to Osmer leaves Sorrel Quay at 19:40. ", 20), " ")
	for b.Loop() {
		r := New(tagged)
		for _, t := range tokens {
			r.Add(t)
		}
		r.End()
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(tokens)), "ns/token")
}
