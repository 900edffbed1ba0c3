package reading

import (
	"fmt"
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
	{"no form of calls", Style{}, `<tool_call>{"name":"f"}</tool_call>`, `T(<tool_call>{"name":"f"}</tool_call>)`},
}

// read gives the events of a text that comes in the given pieces, neighbours of one kind joined.
func read(s Style, parts ...string) string {
	r := New(s)
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
			kind = endOf(&out, kind, "")
			fmt.Fprintf(&out, "C(%s %s)", p.Call.Name, p.Call.Arguments)
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

func FuzzRead(f *testing.F) {
	for _, c := range cases {
		f.Add(c.raw, 3)
	}
	f.Fuzz(func(t *testing.T, raw string, cut int) {
		cut = max(0, min(len(raw), cut))
		for _, s := range []Style{tagged, marker, bare, python, tags, inside, channels} {
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
