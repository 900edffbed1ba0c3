// Package prompt lays out a conversation in the form that a model was trained on, by means of the model's own
// template, and tells of every token where it comes from.
//
// Control tokens are recognised only in text that the template itself wrote, so nobody can forge a turn by
// typing one. The names of roles count as the template's text too: many templates build their marks from
// them, and they come from a closed set.
package prompt

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kindredgate/internal/exchange"
	"kindredgate/internal/jinja"
	"kindredgate/internal/tokenizer"
)

// Template is a model's template together with its tokenizer. It is safe for concurrent use.
type Template struct {
	template   *jinja.Template
	tok        *tokenizer.Tokenizer
	begin, end string // the texts of the begin and the end token
	abilities  Abilities
	// foldSystem puts what is in system turns at the head of the next user turn, since the template has no system
	// turn.
	foldSystem bool
	// lists are the roles whose texts the template shows only as lists of parts.
	lists map[exchange.Role]bool
}

// New parses the source of a template, and finds out what it can do.
func New(source string, tok *tokenizer.Tokenizer) (*Template, error) {
	t, err := parse(source, tok.Text(tok.BOS), tok.Text(tok.EOS))
	if err != nil {
		return nil, err
	}
	t.tok = tok
	s := t.abilities.Style
	if _, err := tok.Encode(strings.Join([]string{t.abilities.TurnEnd, s.Reasoning.Open, s.Reasoning.Close, s.Calls.Open, s.Calls.Close}, "")); err != nil {
		return nil, fmt.Errorf("the marks of its template: %w", err)
	}
	return t, nil
}

// Probe finds out what a template can do, for which no tokenizer is needed but the texts of its begin and end tokens.
func Probe(source, begin, end string) (Abilities, error) {
	t, err := parse(source, begin, end)
	if err != nil {
		return Abilities{}, err
	}
	return t.abilities, nil
}

func parse(source, begin, end string) (*Template, error) {
	if strings.TrimSpace(source) == "" {
		return nil, errors.New("the model has no chat template")
	}
	t, err := jinja.Parse(source)
	if err != nil {
		return nil, err
	}
	out := &Template{template: t, begin: begin, end: end, lists: map[exchange.Role]bool{}}
	if err := out.probeTexts(); err != nil {
		return nil, err
	}
	out.abilities = out.probe(source)
	out.foldSystem = !out.abilities.System
	return out, nil
}

// Conversation is what a template lays out.
type Conversation struct {
	Turns    []exchange.Turn
	Tools    []exchange.Tool
	Thinking bool
	Sight    *Sight // nil if the model takes no pictures
	// Continue leaves out the opening of the answer, for a conversation that is complete as it is.
	Continue bool
}

// Prompt is a conversation laid out.
type Prompt struct {
	Text   string
	Spans  []Span  // pieces of one origin, in order, covering Text
	Tokens []Token // in order, covering Text
	// Warnings are what the sender may not expect of what is in the turns.
	Warnings []string
	Pictures []Picture // in order
	// Folded is true if what system turns say stands in user turns, since the template has no system turn.
	Folded bool
}

// Span is a piece of the text with one origin.
type Span struct {
	Start, End int    // bytes of Text
	Origin     string // "messages[2].content", "tools[0]", "bos_token"; empty for the template's own text
	Line       int    // the line of the template that wrote it; 0 for other origins
	Tokens     int    // that begin in the span
}

// Token is a token of the prompt.
type Token struct {
	ID         int32
	Start, End int // bytes of Text
	Control    bool
}

// IDs are the token ids alone.
func (p *Prompt) IDs() []int32 {
	ids := make([]int32, len(p.Tokens))
	for i, t := range p.Tokens {
		ids[i] = t.ID
	}
	return ids
}

// Has reports whether any text comes from an origin, or a part of it.
func (p *Prompt) Has(origin string) bool {
	return slices.ContainsFunc(p.Spans, func(s Span) bool { return partOf(s.Origin, origin) })
}

func partOf(path, of string) bool {
	rest, ok := strings.CutPrefix(path, of)
	return ok && (rest == "" || rest[0] == '.' || rest[0] == '[')
}

// Count is the number of tokens that begin in spans whose origin is or is part of origin, as
// "messages[0].content" is part of "messages[0]".
func (p *Prompt) Count(origin string) int {
	n := 0
	for _, s := range p.Spans {
		if partOf(s.Origin, origin) {
			n += s.Tokens
		}
	}
	return n
}

// Render lays out a conversation. An error of the template is an [exchange.Error]: what the template refuses
// is the client's to mend.
func (t *Template) Render(c Conversation) (*Prompt, error) {
	pictures, err := c.pictures()
	if err != nil {
		return nil, err
	}
	out, err := t.lay(c)
	if err != nil {
		var refused *jinja.Error
		switch {
		case !errors.As(err, &refused):
			return nil, err
		case refused.Raised:
			return nil, exchange.InvalidParam("messages", "the model's template refuses this conversation: %s", refused.Msg)
		}
		return nil, &exchange.Error{Kind: exchange.Invalid, Code: "template_error", Param: "messages",
			Message: fmt.Sprintf("the model's template cannot lay out this conversation: %v", err)}
	}
	if out, err = c.writeOut(out, pictures); err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, p := range pictures {
		seen[p.Origin] = true
	}
	p, err := tokenize(t.tok, out, func(o jinja.Origin) bool { return trusted(o) || seen[o.Path] })
	if err != nil {
		return nil, err
	}
	if len(pictures) > 0 {
		if err := p.place(t.tok, &c.Sight.Marks, pictures); err != nil {
			return nil, err
		}
	}
	p.Folded = t.foldSystem && slices.ContainsFunc(c.Turns, func(turn exchange.Turn) bool { return turn.Role == exchange.System })
	paths := Paths(c.Turns)
	for i, turn := range c.Turns {
		p.Warnings = append(p.Warnings, marksIn(paths[i], turn.Text())...)
	}
	return p, nil
}

// lay renders the template. Some templates lay out calls only where a turn has no content; others do not expect that there is none, so
// they get an empty text if they fail.
func (t *Template) lay(c Conversation) (out jinja.Output, err error) {
	for _, empty := range []bool{false, true} {
		vars, err := t.variables(c, empty)
		if err != nil {
			return jinja.Output{}, err
		}
		out, err = t.template.Render(vars)
		var failed *jinja.Error
		if err == nil || errors.As(err, &failed) && failed.Raised || empty || !slices.ContainsFunc(c.Turns, silent) {
			return out, err
		}
	}
	return out, err
}

// silent reports whether a turn has calls and no text, not even an empty one.
func silent(turn exchange.Turn) bool {
	calls := false
	for _, p := range turn.Parts {
		if _, ok := p.(exchange.ToolCall); !ok {
			return false
		}
		calls = true
	}
	return calls
}

// Paths are what turns are called in the origins of a prompt: a client's by their place among what it sent, a preset's apart.
func Paths(turns []exchange.Turn) []string {
	paths := make([]string, len(turns))
	sent, examples := 0, 0
	for i, turn := range turns {
		switch {
		case turn.Preset == 0 || turn.Preset < len(turn.Parts):
			paths[i] = fmt.Sprintf("messages[%d]", sent)
			sent++
		case turn.Role == exchange.System:
			paths[i] = presetInstructions
		default:
			paths[i] = fmt.Sprintf("%sexamples[%d]", presetPath, examples)
			examples++
		}
	}
	return paths
}

// What a preset adds.
const (
	presetPath         = "preset."
	presetInstructions = presetPath + "instructions"
)

// content is a turn's text, of which each part is known by where it comes from.
func content(path string, turn exchange.Turn) jinja.Text {
	own := exchange.Turn{Parts: turn.Parts[:turn.Preset]}
	sent := exchange.Turn{Parts: turn.Parts[turn.Preset:]}
	from := path + ".content"
	if turn.Role == exchange.System {
		from = presetInstructions
	}
	return jinja.Join(jinja.NewText(own.Text(), from), jinja.NewText(sent.Text(), path+".content"+source(sent)))
}

// source names, in brackets, the tool that gave a turn's text, if the gate ran it.
func source(turn exchange.Turn) string {
	for _, p := range turn.Parts {
		if r, ok := p.(exchange.ToolResult); ok && r.Source != "" {
			return "[" + r.Source + "]"
		}
	}
	return ""
}

// Paths of the values whose text may hold control tokens, since they are not the conversation's.
const (
	bosPath = "bos_token"
	eosPath = "eos_token"
)

// variables are what templates for chat expect to be given.
func (t *Template) variables(c Conversation, emptyTexts bool) (map[string]jinja.Value, error) {
	messages := jinja.NewList("messages")
	paths := Paths(c.Turns)
	var instructions []jinja.Text // of system turns, on their way to a user turn
	for i, turn := range c.Turns {
		path := paths[i]
		if t.foldSystem && turn.Role == exchange.System {
			instructions = append(instructions, content(path, turn))
			continue
		}
		m, err := t.message(path, turn)
		if err != nil {
			return nil, err
		}
		if len(instructions) > 0 && turn.Role == exchange.User {
			if pictured(turn) { // what the instructions say comes first
				list := parts(path, turn)
				head := jinja.NewDict(foldedPath)
				head.Set("type", jinja.NewText("text", foldedPath))
				head.Set("text", jinja.Join(paragraphs(instructions), jinja.NewText("\n\n", foldedPath)))
				list.Items = append([]jinja.Value{head}, list.Items...)
				m.Set("content", list)
			} else {
				m.Set("content", t.shown(path, turn.Role, paragraphs(append(instructions, content(path, turn)))))
			}
			instructions = nil
		}
		if !emptyTexts && silent(turn) {
			m.Set("content", nil)
		}
		messages.Items = append(messages.Items, m)
	}
	if len(instructions) > 0 {
		return nil, exchange.InvalidParam("messages", "the model's template has no system turn, and no user turn follows in which its instructions could stand")
	}
	vars := map[string]jinja.Value{
		"messages":              messages,
		"add_generation_prompt": !c.Continue,
	}
	if t.begin != "" {
		vars["bos_token"] = jinja.NewText(t.begin, bosPath)
	}
	if t.end != "" {
		vars["eos_token"] = jinja.NewText(t.end, eosPath)
	}
	if c.Thinking {
		vars["enable_thinking"] = true
	}
	if len(c.Tools) > 0 {
		tools := jinja.NewList("tools")
		for i, tool := range c.Tools {
			v, err := toolValue(fmt.Sprintf("tools[%d]", i), tool)
			if err != nil {
				return nil, err
			}
			tools.Items = append(tools.Items, v)
		}
		vars["tools"] = tools
	}
	return vars, nil
}

// foldedPath is the origin of what this package itself puts between instructions and a user's text.
const foldedPath = "instructions"

// paragraphs joins texts with an empty line between them.
func paragraphs(texts []jinja.Text) jinja.Text {
	joined := texts[0]
	for _, t := range texts[1:] {
		joined = jinja.Join(joined, jinja.NewText("\n\n", foldedPath), t)
	}
	return joined
}

// shown is a text as the template takes it: as it is, or as a list of parts.
func (t *Template) shown(path string, role exchange.Role, text jinja.Text) jinja.Value {
	if !t.lists[role] {
		return text
	}
	part := jinja.NewDict(path + ".content")
	part.Set("type", jinja.NewText("text", path+".content"))
	part.Set("text", text)
	list := jinja.NewList(path + ".content")
	list.Items = append(list.Items, part)
	return list
}

func (t *Template) message(path string, turn exchange.Turn) (*jinja.Dict, error) {
	m := jinja.NewDict(path)
	m.Set("role", jinja.NewText(string(turn.Role), path+".role"))
	m.Set("content", t.shown(path, turn.Role, content(path, turn)))
	if pictured(turn) {
		m.Set("content", parts(path, turn))
	}
	if turn.Name != "" {
		m.Set("name", jinja.NewText(turn.Name, path+".name"))
	}
	calls := jinja.NewList(path + ".tool_calls")
	for _, part := range turn.Parts {
		switch part := part.(type) {
		case exchange.Text, exchange.Refusal:
		case exchange.Image: // in the list of parts
		case exchange.ToolCall:
			call, err := callValue(path+".tool_calls["+strconv.Itoa(len(calls.Items))+"]", part)
			if err != nil {
				return nil, err
			}
			calls.Items = append(calls.Items, call)
		case exchange.ToolResult:
			m.Set("tool_call_id", jinja.NewText(part.CallID, path+".tool_call_id"))
		default:
			return nil, fmt.Errorf("a turn cannot hold a %T", part)
		}
	}
	if len(calls.Items) > 0 {
		m.Set("tool_calls", calls)
	}
	return m, nil
}

// callValue gives the arguments as an object, as templates expect; if they are no JSON, as the text they are.
func callValue(path string, c exchange.ToolCall) (jinja.Value, error) {
	fn := jinja.NewDict(path)
	fn.Set("name", jinja.NewText(c.Name, path+".name"))
	if arguments, err := jinja.FromJSON([]byte(c.Arguments), path+".arguments", false); err == nil {
		fn.Set("arguments", arguments)
	} else {
		fn.Set("arguments", jinja.NewText(c.Arguments, path+".arguments"))
	}
	call := jinja.NewDict(path)
	call.Set("id", jinja.NewText(c.ID, path+".id"))
	call.Set("type", jinja.NewText("function", path))
	call.Set("function", fn)
	return call, nil
}

func toolValue(path string, tool exchange.Tool) (jinja.Value, error) {
	fn := jinja.NewDict(path)
	fn.Set("name", jinja.NewText(tool.Name, path))
	if tool.Description != "" {
		fn.Set("description", jinja.NewText(tool.Description, path))
	}
	if len(tool.Parameters) > 0 {
		if !json.Valid(tool.Parameters) {
			return nil, exchange.InvalidParam(path, "the parameters of tool %q are not JSON", tool.Name)
		}
		v, err := jinja.FromJSON(tool.Parameters, path, false)
		if err != nil {
			return nil, exchange.InvalidParam(path, "the parameters of tool %q: %v", tool.Name, err)
		}
		fn.Set("parameters", v)
	}
	if tool.Said != nil {
		fn.Set("strict", jinja.NewScalar(*tool.Said, path))
	}
	outer := jinja.NewDict(path)
	outer.Set("type", jinja.NewText("function", path))
	outer.Set("function", fn)
	return outer, nil
}

// trusted reports whether control tokens may stand in text of that origin.
func trusted(o jinja.Origin) bool {
	return o.Path == "" || o.Path == bosPath || o.Path == eosPath || strings.HasSuffix(o.Path, "].role") && (strings.HasPrefix(o.Path, "messages[") || strings.HasPrefix(o.Path, presetPath)) || o.Path == presetInstructions+".role"
}

// rawPath is the origin of a raw prompt.
const rawPath = "prompt"

// Raw is a prompt that goes to the model as it is, with no template. Who sends it is its author, so control tokens
// are recognised in it. The begin token is put in front if the model wants that and it is not there.
func Raw(tok *tokenizer.Tokenizer, text string) (*Prompt, error) {
	var l layout
	if begin := tok.Text(tok.BOS); tok.AddsBOS() && !strings.HasPrefix(text, begin) {
		l.add(begin, bosPath)
	}
	l.add(text, rawPath)
	p, err := tokenize(tok, l.out, func(jinja.Origin) bool { return true })
	if err != nil {
		return nil, err
	}
	p.Warnings = foreignMarks(tok, text)
	return p, nil
}

// ErrNoFill says that a model cannot write what stands between a beginning and an end.
var ErrNoFill = errors.New("the model has no fill-in tokens, so it cannot write what stands between a prompt and an ending")

// Fill is a raw prompt for what stands between a beginning and an end. Control tokens are recognised in neither: marks
// of the program that is being written would be taken for the model's.
func Fill(tok *tokenizer.Tokenizer, before, after string) (*Prompt, error) {
	if !tok.Fill.Possible() {
		return nil, ErrNoFill
	}
	var l layout
	if tok.AddsBOS() {
		l.add(tok.Text(tok.BOS), bosPath)
	}
	l.add(tok.Text(tok.Fill.Before), "")
	l.add(before, rawPath)
	l.add(tok.Text(tok.Fill.After), "")
	l.add(after, "suffix")
	l.add(tok.Text(tok.Fill.Middle), "")
	return tokenize(tok, l.out, trusted)
}

// layout is a prompt that is put together without a template.
type layout struct{ out jinja.Output }

func (l *layout) add(text, path string) {
	if text != "" {
		l.out.Text += text
		l.out.Spans = append(l.out.Spans, jinja.Span{End: len(l.out.Text), Origin: jinja.Origin{Path: path}})
	}
}

// tokenize recognises control tokens that lie wholly in trusted text.
func tokenize(tok *tokenizer.Tokenizer, out jinja.Output, trusted func(jinja.Origin) bool) (*Prompt, error) {
	p := &Prompt{Text: out.Text}
	// Where text that may hold control tokens ends that goes on from each span; 0 if the span is not such.
	reach := make([]int, len(out.Spans))
	for i := len(out.Spans) - 1; i >= 0; i-- {
		if !trusted(out.Spans[i].Origin) {
			continue
		}
		reach[i] = out.Spans[i].End
		if i+1 < len(reach) && reach[i+1] > 0 {
			reach[i] = reach[i+1]
		}
	}
	at := 0 // index of the span that the last position asked for was in; positions only grow
	tokens, err := tok.EncodeSpans(out.Text, func(start, end int) bool {
		for out.Spans[at].End <= start {
			at++
		}
		return end <= reach[at]
	})
	if err != nil {
		return nil, exchange.InvalidParam("", "%v", err)
	}
	from := 0
	for _, s := range out.Spans {
		p.Spans = append(p.Spans, Span{Start: from, End: s.End, Origin: s.Origin.Path, Line: s.Origin.Line})
		from = s.End
	}
	span := 0
	for _, token := range tokens {
		for span < len(p.Spans)-1 && p.Spans[span].End <= token.Start {
			span++
		}
		p.Spans[span].Tokens++
		p.Tokens = append(p.Tokens, Token{ID: token.ID, Start: token.Start, End: token.End, Control: tok.IsControl(token.ID)})
	}
	return p, nil
}
