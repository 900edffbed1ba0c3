package prompt

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"kindredgate/internal/exchange"
	"kindredgate/internal/reading"
	"kindredgate/internal/tokenizer"
)

// Abilities are what a template can lay out. They are found by rendering small conversations and looking for
// what became of their parts; there is no table of model names.
type Abilities struct {
	System        bool `json:"system"`         // a system turn appears in the prompt
	Tools         bool `json:"tools"`          // the tools that are offered do
	Calls         bool `json:"tool_calls"`     // calls in earlier turns do
	ParallelCalls bool `json:"parallel_calls"` // several in one turn do
	Results       bool `json:"tool_results"`   // what tools gave does
	Thinking      bool `json:"thinking"`       // asking for reasoning changes the prompt
	// Style is how the model writes what has to be read from its answers. It is that of a prompt which does not
	// ask for reasoning; with Thinking, the prompt may open the reasoning itself.
	Style reading.Style `json:"-"`
	// TurnEnd is what the template writes after what the assistant said: a mark perhaps, by which the model ends.
	TurnEnd string `json:"-"`
	// InsideWhenThinking is true if a prompt that asks for reasoning opens it.
	InsideWhenThinking bool `json:"-"`
}

// Abilities tells what the template can do.
func (t *Template) Abilities() Abilities { return t.abilities }

// Words that no template has, by which parts of a probe are found again.
const (
	probeText   = "probe7text"
	probeName   = "probe7name"
	probeSecond = "probe7second"
	probeKey    = "probe7key"
	probeValue  = "probe7value"
	probeOther  = "probe7other"
	probeResult = "probe7result"
)

func say(role exchange.Role, parts ...exchange.Part) exchange.Turn {
	return exchange.Turn{Role: role, Parts: parts}
}

// probeTexts finds out in which form the template shows the texts of each role. Some go through lists of parts only, and would show nothing of a
// text as it is. One that shows what a user says in neither form is of no use, whatever else it can do.
func (t *Template) probeTexts() error {
	user, system := say(exchange.User, exchange.Text(probeText)), say(exchange.System, exchange.Text("s"))
	call := exchange.ToolCall{ID: "call0000a", Name: probeName, Arguments: `{}`}
	tool := exchange.Tool{Name: probeName, Parameters: json.RawMessage(`{"type": "object", "properties": {}}`)}
	var failed error
	shows := func(of ...Conversation) bool {
		for _, c := range of {
			out, err := t.lay(c)
			if err == nil && strings.Contains(out.Text, probeText) {
				return true
			}
			failed = cmp.Or(err, failed)
		}
		return false
	}
	try := func(role exchange.Role, of ...Conversation) bool {
		if shows(of...) {
			return true
		}
		t.lists[role] = true
		if shows(of...) {
			return true
		}
		delete(t.lists, role)
		return false
	}
	if !try(exchange.User, Conversation{Turns: []exchange.Turn{user}}, Conversation{Turns: []exchange.Turn{system, user}}) {
		if failed != nil {
			return fmt.Errorf("it cannot lay out what a user says: %w", failed)
		}
		return errors.New("it shows nothing of what a user says, neither as a text nor as a list of parts")
	}
	// The others it need not show: what it cannot lay out, it is found to lack.
	try(exchange.System, Conversation{Turns: []exchange.Turn{say(exchange.System, exchange.Text(probeText)), say(exchange.User, exchange.Text("u"))}})
	try(exchange.Assistant, Conversation{Turns: []exchange.Turn{say(exchange.User, exchange.Text("u")), say(exchange.Assistant, exchange.Text(probeText)), say(exchange.User, exchange.Text("u"))}})
	try(exchange.ToolRole, Conversation{Turns: []exchange.Turn{say(exchange.User, exchange.Text("u")), say(exchange.Assistant, call), say(exchange.ToolRole, exchange.ToolResult{CallID: call.ID, Content: probeText})}, Tools: []exchange.Tool{tool}})
	return nil
}

// probe renders the probes. What a template refuses, it cannot do.
func (t *Template) probe(source string) Abilities {
	text := func(c Conversation) string {
		out, err := t.lay(c)
		if err != nil {
			return ""
		}
		return out.Text
	}
	user := say(exchange.User, exchange.Text("u"))
	tool := exchange.Tool{Name: probeText, Description: "d", Parameters: json.RawMessage(`{"type": "object", "properties": {}}`)}
	call := exchange.ToolCall{ID: "call0000a", Name: probeName, Arguments: `{"` + probeKey + `": "` + probeValue + `"}`}
	second := exchange.ToolCall{ID: "call0000b", Name: probeSecond, Arguments: `{}`}

	var a Abilities
	a.System = strings.Contains(text(Conversation{Turns: []exchange.Turn{say(exchange.System, exchange.Text(probeText)), user}}), probeText)
	a.Tools = strings.Contains(text(Conversation{Turns: []exchange.Turn{user}, Tools: []exchange.Tool{tool}}), probeText)

	calling := Conversation{Turns: []exchange.Turn{user, say(exchange.Assistant, call)}, Tools: []exchange.Tool{tool}, Continue: true}
	called := text(calling)
	a.Calls = strings.Contains(called, probeName) && strings.Contains(called, probeKey)
	both := text(Conversation{Turns: []exchange.Turn{user, say(exchange.Assistant, call, second)}, Tools: calling.Tools, Continue: true})
	a.ParallelCalls = strings.Contains(both, probeName) && strings.Contains(both, probeSecond)
	a.Results = strings.Contains(text(Conversation{Turns: append(calling.Turns, say(exchange.ToolRole, exchange.ToolResult{CallID: call.ID, Content: probeResult})),
		Tools: calling.Tools}), probeResult)
	if a.Calls {
		said := text(Conversation{Turns: []exchange.Turn{user, say(exchange.Assistant, exchange.Text(probeText))}, Tools: calling.Tools, Continue: true})
		written := between(said, called)
		a.Style.Form, a.Style.Calls = callStyle(written)
		a.Style.Frame = frame(a.Style.Form, written)
		two := exchange.ToolCall{ID: call.ID, Name: probeName, Arguments: `{"` + probeKey + `": "` + probeValue + `", "` + probeOther + `": "` + probeValue + `"}`}
		several := text(Conversation{Turns: []exchange.Turn{user, say(exchange.Assistant, two)}, Tools: calling.Tools, Continue: true})
		a.Style.Form, a.Style.Calls, a.Style.Frame = enclosed(a.Style, written, several, between(said, both))
	}

	whole := text(Conversation{Turns: []exchange.Turn{user, say(exchange.Assistant, exchange.Text(probeText))}, Continue: true})
	_, a.TurnEnd, _ = strings.Cut(whole, probeText)
	if reading.UsesChannels(source) {
		a.Style.Form, a.Style.Calls, a.Style.Frame = reading.Channels, reading.Marks{}, reading.Frame{}
	}

	plain := text(Conversation{Turns: []exchange.Turn{user}})
	thinking := text(Conversation{Turns: []exchange.Turn{user}, Thinking: true})
	a.Thinking = plain != thinking
	a.Style.Reasoning, a.Style.Inside = reasoningStyle(plain, source)
	if marks, inside := reasoningStyle(thinking, source); marks.Open != "" {
		a.Style.Reasoning, a.InsideWhenThinking = marks, inside
	}
	return a
}

// between is what b has where a has something else: b without the beginning and the end that they share.
func between(a, b string) string {
	from := 0
	for from < min(len(a), len(b)) && a[from] == b[from] {
		from++
	}
	to := 0
	for to < min(len(a), len(b))-from && a[len(a)-1-to] == b[len(b)-1-to] {
		to++
	}
	return b[from : len(b)-to]
}

var functionOpening = regexp.MustCompile(`<function=` + probeName + `>`)

// callStyle tells from a call of probeName, as a template writes it, how the model does.
func callStyle(written string) (reading.Form, reading.Marks) {
	at := strings.Index(written, probeName)
	if at < 0 {
		return reading.NoCalls, reading.Marks{}
	}
	if loc := functionOpening.FindStringIndex(written); loc != nil {
		end := strings.LastIndex(written, "</function>")
		if end < 0 {
			return reading.NoCalls, reading.Marks{}
		}
		marks := reading.Marks{Open: mark(written[:loc[0]]), Close: mark(written[end+len("</function>"):])}
		if marks.Open == "" { // nothing encloses the tags, so they are the marks themselves
			return reading.NoCalls, reading.Marks{}
		}
		return reading.FunctionTags, marks
	}
	if strings.HasPrefix(written[at+len(probeName):], "(") {
		from := strings.LastIndexByte(written[:at], '[')
		end := strings.LastIndexByte(written, ']')
		if from < 0 || end < at {
			return reading.NoCalls, reading.Marks{}
		}
		return reading.Python, reading.Marks{Open: mark(written[:from]), Close: mark(written[end+1:])}
	}
	for from := range at {
		if written[from] != '{' && written[from] != '[' {
			continue
		}
		d := json.NewDecoder(strings.NewReader(written[from:]))
		var value json.RawMessage
		if d.Decode(&value) != nil || !strings.Contains(string(value), probeName) {
			continue
		}
		return reading.JSON, reading.Marks{Open: mark(written[:from]), Close: mark(written[from+int(d.InputOffset()):])}
	}
	return reading.NoCalls, reading.Marks{}
}

// enclosed finds out how calls are written that are none of the usual forms: their name by itself, and behind it the arguments, as JSON or each
// in tags. several is a call with two arguments, both are two calls.
func enclosed(style reading.Style, written, several, both string) (reading.Form, reading.Marks, reading.Frame) {
	if style.Form != reading.NoCalls {
		return style.Form, style.Calls, style.Frame
	}
	before, rest, found := strings.Cut(strings.TrimSpace(written), probeName)
	if !found || !strings.ContainsAny(before, "<[") {
		return reading.NoCalls, reading.Marks{}, reading.Frame{}
	}
	f := reading.Frame{Before: before}
	form := reading.Named
	if f.Between, f.After, found = object(rest); !found {
		if f, found = tagged(reading.Frame{Before: before}, rest, several); !found {
			return reading.NoCalls, reading.Marks{}, reading.Frame{}
		}
		form = reading.Tags
	}
	f.Joint = joint(&f, form, both)
	return form, reading.Marks{Open: mark(f.Before), Close: mark(f.After)}, f
}

// object finds the arguments as a JSON object, and what stands before and after it.
func object(rest string) (before, after string, found bool) {
	key := strings.Index(rest, `"`+probeKey+`"`)
	from := strings.LastIndexByte(rest[:max(key, 0)], '{')
	if from < 0 {
		return "", "", false
	}
	var arguments map[string]string
	d := json.NewDecoder(strings.NewReader(rest[from:]))
	if d.Decode(&arguments) != nil || len(arguments) != 1 {
		return "", "", false
	}
	return rest[:from], rest[from+int(d.InputOffset()):], true
}

// tagged tells from a call with one argument, and from one with two, what stands around arguments that are written one by one.
func tagged(f reading.Frame, rest, several string) (reading.Frame, bool) {
	head, value, found := strings.Cut(rest, probeKey)
	if !found {
		return f, false
	}
	var tail, turn string
	if f.Assign, tail, found = strings.Cut(value, probeValue); !found || !strings.ContainsAny(f.Assign, ">]") {
		return f, false
	}
	_, turn, _ = strings.Cut(several, probeValue)
	if turn, _, found = strings.Cut(turn, probeOther); !found {
		return f, false
	}
	// What closes an argument is what comes after it in both cases, up to the end of a tag.
	n := 0
	for n < min(len(tail), len(turn)) && tail[n] == turn[n] {
		n++
	}
	n = strings.LastIndexAny(tail[:n], ">]\n") + 1
	f.Close, f.After, f.Open = tail[:n], tail[n:], turn[n:]
	f.Between, found = strings.CutSuffix(head, f.Open)
	return f, found && f.Close != ""
}

// joint is what stands between the arguments of one call and the name of the next, in a text with two; empty if each has marks of its own.
func joint(f *reading.Frame, form reading.Form, both string) string {
	_, rest, found := strings.Cut(both, probeValue)
	if form == reading.Named {
		_, rest, _ = strings.Cut(rest, "}")
	} else {
		rest = strings.TrimPrefix(rest, f.Close)
	}
	rest, _, named := strings.Cut(rest, probeSecond)
	if !found || !named || mark(f.After) != "" && strings.Join(strings.Fields(rest), "") == strings.Join(strings.Fields(f.After+f.Before), "") {
		return ""
	}
	return rest
}

// frame tells from a call what stands around its name and its arguments; zero if that is not plain.
func frame(form reading.Form, written string) (f reading.Frame) {
	var rest string
	var found bool
	f.Before, rest, _ = strings.Cut(strings.TrimSpace(written), probeName)
	switch form {
	case reading.JSON:
		// The arguments must come after the name, as an object, not as text that holds one.
		if f.Between, f.After, found = object(rest); !found {
			return reading.Frame{}
		}
		return f
	case reading.Python:
		for _, value := range []string{`"` + probeValue + `"`, `'` + probeValue + `'`} {
			f.Between, f.After, found = strings.Cut(rest, probeKey+"="+value)
			if f.Assign, f.Separator = "=", ", "; found {
				return f
			}
		}
		return reading.Frame{}
	case reading.FunctionTags:
		const open, end = "<parameter=", "</parameter>"
		head, value, found := strings.Cut(rest, open+probeKey)
		if !found {
			return reading.Frame{}
		}
		f.Between, f.Open = head, open
		f.Assign, value, found = strings.Cut(value, probeValue)
		at := strings.Index(value, end)
		last := strings.LastIndex(value, "</function>")
		if !found || at < 0 || last < at {
			return reading.Frame{}
		}
		f.Close, f.After = value[:last], value[last:]
		return f
	case reading.NoCalls, reading.Channels:
	}
	return reading.Frame{}
}

// mark is a mark without the layout around it.
func mark(s string) string { return strings.TrimSpace(s) }

var (
	openedBlock = regexp.MustCompile(`<([A-Za-z_:]+)>\s*$`)
	openedOther = regexp.MustCompile(`(\[[A-Z_]+\]|<\|START_[A-Z_]+\|>)\s*$`)
	// mentioned are marks of reasoning, as templates write them that have to take it out of earlier turns.
	mentioned = regexp.MustCompile(`</?((?:[a-z]+:)?(?:think|thinking|reasoning))>|\[/?((?:THINK|REASONING))\]|<\|(?:START|END)_((?:THINKING|REASONING))\|>`)
)

// reasoningStyle tells from the end of a prompt whether it opens the reasoning, and from that, or from what the
// source of the template mentions, which marks enclose it.
func reasoningStyle(prompt, source string) (marks reading.Marks, inside bool) {
	if m := openedBlock.FindStringSubmatch(prompt); m != nil {
		return reading.Marks{Open: "<" + m[1] + ">", Close: "</" + m[1] + ">"}, true
	}
	if m := openedOther.FindString(prompt); mentioned.MatchString(m) {
		prompt, inside = m, true
	} else {
		prompt = mentioned.FindString(source)
	}
	switch m := mentioned.FindStringSubmatch(prompt); {
	case m == nil:
		return reading.Marks{}, false
	case m[1] != "":
		return reading.Marks{Open: "<" + m[1] + ">", Close: "</" + m[1] + ">"}, inside
	case m[2] != "":
		return reading.Marks{Open: "[" + m[2] + "]", Close: "[/" + m[2] + "]"}, inside
	default:
		return reading.Marks{Open: "<|START_" + m[3] + "|>", Close: "<|END_" + m[3] + "|>"}, inside
	}
}

// StyleOf is how to read the answer to a prompt: the calls only if tools were offered, so that an answer that
// looks like one stays what it is.
func (t *Template) StyleOf(c Conversation) reading.Style {
	s := t.abilities.Style
	if c.Thinking {
		s.Inside = t.abilities.InsideWhenThinking
	}
	if len(c.Tools) == 0 && s.Form != reading.Channels { // channels lay out every answer
		s.Form, s.Calls, s.Frame = reading.NoCalls, reading.Marks{}, reading.Frame{}
	}
	return s
}

// EndTokens are the control tokens, beside the end of the sequence, after which the model has nothing more to say: the
// mark by which the template ends the assistant's turns, and that of a call.
func (t *Template) EndTokens() []int32 {
	var ids []int32
	add := func(text string) {
		// If text comes first, it is the next turn's, and so is what comes after it.
		tokens := t.mark(text)
		if len(tokens) > 0 && t.tok.IsControl(tokens[0].ID) && !slices.Contains(ids, tokens[0].ID) {
			ids = append(ids, tokens[0].ID)
		}
	}
	if t.abilities.Style.Form == reading.Channels {
		add(reading.ChannelCall) // other messages end in the same way whether the answer goes on or not
	} else {
		add(t.abilities.TurnEnd)
	}
	return ids
}

// mark is the tokens of a mark, of which [New] has seen that they can be made.
func (t *Template) mark(text string) []tokenizer.Token {
	tokens, err := t.tok.EncodeSpans(text, func(int, int) bool { return true })
	if err != nil {
		return nil
	}
	return tokens
}

// MarkTokens are the control tokens by which the template marks reasoning and calls: what is not text to a reader
// of the answer, but has to be seen by what reads it.
func (t *Template) MarkTokens() []int32 {
	var ids []int32
	s := t.abilities.Style
	marks := []string{s.Reasoning.Open, s.Reasoning.Close, s.Calls.Open, s.Calls.Close}
	if s.Form == reading.Channels {
		marks = reading.ChannelMarks()
	}
	for _, m := range marks {
		for _, token := range t.mark(m) {
			if t.tok.IsControl(token.ID) {
				ids = append(ids, token.ID)
			}
		}
	}
	return ids
}
