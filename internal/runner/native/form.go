package native

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"kindredgate/internal/exchange"
	"kindredgate/internal/grammar"
	"kindredgate/internal/prompt"
	"kindredgate/internal/reading"
)

// forms keeps what is costly to make for constrained answers.
type forms struct {
	mu           sync.Mutex
	vocabularies map[string]*grammar.Vocabulary // by the control tokens that are text
	recent       []kept                         // the least recent first
}

// kept is a grammar by what it was made of.
type kept struct {
	key     string
	grammar *grammar.Grammar
}

// Bounds of the grammars that are kept for a model: their number, and the bytes that they take together. One that is
// larger by itself is kept until the next one comes.
const (
	maxGrammars     = 32
	maxGrammarBytes = 64 << 20
)

// form is what the answer has to be; nil if that is left to the model.
func (l *loadedModel) form(ctx context.Context, req *exchange.Request, t *prompt.Template, style reading.Style, shown []int32) (*grammar.Grammar, error) {
	strict := slices.ContainsFunc(req.Tools, func(t exchange.Tool) bool { return t.Strict })
	if req.Format.Kind == exchange.FormatText && !req.Choice.Required && !strict {
		return nil, nil
	}
	key, err := json.Marshal([]any{req.Format, req.Choice, req.Tools, style, req.Thinking, t.Abilities().Thinking, shown})
	if err != nil {
		return nil, err
	}
	f := &l.forms
	f.mu.Lock()
	g := f.take(string(key))
	f.mu.Unlock()
	if g != nil {
		return g, nil
	}
	work := grammar.NewWork(ctx)
	e, err := (&former{work: work, req: req, style: style}).answer(req.Thinking || !t.Abilities().Thinking)
	if err != nil {
		return nil, err
	}
	g, err = grammar.New(work, l.vocabulary(shown), e)
	if err != nil {
		return nil, unenforceable("the answer's form", err)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.put(string(key), g)
	return g, nil
}

// take gives the grammar of that key, which is the most recent then; nil if there is none.
func (f *forms) take(key string) *grammar.Grammar {
	i := slices.IndexFunc(f.recent, func(k kept) bool { return k.key == key })
	if i < 0 {
		return nil
	}
	one := f.recent[i]
	f.recent = append(slices.Delete(f.recent, i, i+1), one)
	return one.grammar
}

// put keeps a grammar, and forgets the least recent ones that are too much.
func (f *forms) put(key string, g *grammar.Grammar) {
	if f.take(key) != nil {
		return // somebody else has made the same meanwhile
	}
	f.recent = append(f.recent, kept{key, g})
	bytes := 0
	for i := len(f.recent) - 1; i >= 0; i-- {
		bytes += f.recent[i].grammar.Bytes() + len(f.recent[i].key)
		if len(f.recent)-i > maxGrammars || bytes > maxGrammarBytes && i < len(f.recent)-1 {
			f.recent = slices.Delete(f.recent, 0, i+1)
			return
		}
	}
}

// vocabulary is the model's tokens, of the control tokens only those that are text.
func (l *loadedModel) vocabulary(shown []int32) *grammar.Vocabulary {
	l.forms.mu.Lock()
	defer l.forms.mu.Unlock()
	key := fmt.Sprint(shown)
	v, ok := l.forms.vocabularies[key]
	if !ok {
		texts := make([]string, l.tok.Size())
		for id := range int32(len(texts)) {
			if !l.tok.IsControl(id) || slices.Contains(shown, id) {
				texts[id] = l.tok.Text(id)
			}
		}
		v = grammar.NewVocabulary(texts)
		if l.forms.vocabularies == nil {
			l.forms.vocabularies = map[string]*grammar.Vocabulary{}
		}
		l.forms.vocabularies[key] = v
	}
	return v
}

// former makes the form of an answer.
type former struct {
	work  *grammar.Work
	req   *exchange.Request
	style reading.Style
	// made are what tools may be called with: the first call of an answer and the others are alike.
	made map[string]grammar.Expr
}

// answer describes all that an answer may be: reasoning first, if the model does that and mayReason is true, then
// what was asked for.
func (f *former) answer(mayReason bool) (grammar.Expr, error) {
	req, style := f.req, f.style
	format, err := f.format()
	if err != nil {
		return nil, err
	}
	var calls grammar.Expr // one call, or several
	if len(req.Tools) > 0 {
		if calls, err = f.calls(""); err != nil {
			return nil, err
		}
	}
	if style.Form == reading.Channels {
		return f.channels(format, calls), nil
	}
	body := format
	switch open := style.Calls.Open; {
	case calls == nil:
	case req.Choice.Required:
		body = calls
	case format != nil:
		body = grammar.Alt(format, calls)
	case open == "":
		body = grammar.Alt(grammar.TextNot("{["), calls)
	default:
		after, err := f.calls(open)
		if err != nil {
			return nil, err
		}
		if !f.several() {
			body = grammar.TextOr(open, after)
			break
		}
		body = grammar.Loop(func(again grammar.Expr) grammar.Expr { return grammar.TextOr(open, grammar.Seq(after, again)) })
	}
	layout := grammar.Seq(grammar.Space(), grammar.Space())
	switch marks := style.Reasoning; {
	case style.Inside:
		return grammar.Seq(grammar.Until(marks.Close), layout, body), nil
	case marks.Open != "" && mayReason && req.Format.Kind != exchange.FormatText:
		return grammar.Seq(grammar.Optional(grammar.Seq(grammar.Literal(marks.Open), grammar.Until(marks.Close), layout)), body), nil
	}
	return body, nil
}

// format is the format of the text; nil for any.
func (f *former) format() (grammar.Expr, error) {
	switch format := f.req.Format; format.Kind {
	case exchange.FormatObject:
		return grammar.AnyObject().Value(), nil
	case exchange.FormatSchema:
		s := format.Form
		if s == nil {
			var err error
			if s, err = grammar.Compile(f.work, format.Schema); err != nil {
				return nil, unenforceable("the format's schema", err)
			}
		}
		return s.Value(), nil
	case exchange.FormatText:
	}
	return nil, nil
}

// channels is an answer in channels: reasoning perhaps, then the answer or a call, of which there is one.
func (f *former) channels(format, call grammar.Expr) grammar.Expr {
	if format == nil {
		format = grammar.TextNot("")
	}
	body := grammar.Seq(grammar.Literal(reading.ChannelHeader("final", "")), format)
	switch {
	case call != nil && f.req.Choice.Required:
		body = call
	case call != nil:
		body = grammar.Alt(body, call)
	}
	return grammar.Seq(grammar.Optional(grammar.Seq(grammar.Literal(reading.ChannelHeader("analysis", "")), grammar.Until(reading.ChannelTurn))), body)
}

// several reports whether an answer may have several calls. A list in brackets holds one, and a mark without an end
// goes on to that of the answer, as does a message in a channel.
func (f *former) several() bool {
	style := f.style
	marks := style.Calls
	return !f.req.Choice.Single && style.Form != reading.Channels && (marks.Open == "" || marks.Close != "") &&
		!strings.Contains(strings.TrimPrefix(style.Frame.Before, marks.Open), "[")
}

// calls is calls of any tools that may be called. begun is what of the first one is there already.
func (f *former) calls(begun string) (grammar.Expr, error) {
	req, style := f.req, f.style
	if style.Form != reading.Channels && style.Frame == (reading.Frame{}) {
		return nil, exchange.InvalidParam("tools", "the model's template does not show how a tool call is written, so calls cannot be enforced: leave out \"strict\" and leave tool_choice to \"auto\"")
	}
	one := func(begun string) (grammar.Expr, error) {
		var alts []grammar.Expr
		for _, t := range req.Tools {
			if req.Choice.Names != nil && !slices.Contains(req.Choice.Names, t.Name) {
				continue
			}
			arguments, err := f.arguments(t)
			if err != nil {
				return nil, err
			}
			if style.Form == reading.Channels {
				alts = append(alts, grammar.Seq(grammar.Literal(reading.ChannelHeader("commentary", t.Name)), arguments))
				continue
			}
			frame := style.Frame
			alts = append(alts, grammar.Seq(grammar.Literal(frame.Before[len(begun):]+t.Name+frame.Between), arguments, grammar.Literal(frame.After)))
		}
		return grammar.Alt(alts...), nil
	}
	call, err := one(begun)
	if err != nil || begun != "" || !f.several() {
		return call, err
	}
	other, err := one("")
	if err != nil {
		return nil, err
	}
	return grammar.Seq(call, grammar.Many(grammar.Seq(grammar.Space(), other))), nil
}

// arguments is what a tool may be called with: by its schema if that can be enforced, else, unless it is strict,
// anything. Arguments that are written one by one need names, so there nothing else will do than what the schema says.
func (f *former) arguments(t exchange.Tool) (grammar.Expr, error) {
	if e, ok := f.made[t.Name]; ok {
		return e, nil
	}
	e, err := f.argumentsOf(t)
	if err == nil {
		if f.made == nil {
			f.made = map[string]grammar.Expr{}
		}
		f.made[t.Name] = e
	}
	return e, err
}

func (f *former) argumentsOf(t exchange.Tool) (grammar.Expr, error) {
	schema, form := t.Parameters, t.Form
	if takesNothing(schema) {
		schema, form = json.RawMessage(`{"type":"object","additionalProperties":false}`), nil
	}
	byName := f.style.Form.ByName()
	var err error
	switch frame := f.style.Frame; {
	case byName:
		form, err = grammar.CompileArguments(f.work, schema, grammar.Arguments{Open: frame.Open, Assign: frame.Assign, Close: frame.Close, Separator: frame.Separator})
	case form == nil:
		form, err = grammar.Compile(f.work, schema)
	}
	var refused *grammar.SchemaError
	switch {
	case err == nil:
		return form.Value(), nil
	case t.Strict || byName || !errors.As(err, &refused):
		return nil, unenforceable(fmt.Sprintf("the parameters of tool %q", t.Name), err)
	}
	return grammar.AnyObject().Value(), nil
}

// takesNothing reports whether a tool has no parameters: there is no schema, or one of an object with no properties.
// Whoever writes that means that there are none, though to the letter any would do.
func takesNothing(schema json.RawMessage) bool {
	if len(schema) == 0 {
		return true
	}
	var s map[string]json.RawMessage
	if err := json.Unmarshal(schema, &s); err != nil {
		return false
	}
	for name, value := range s {
		switch name {
		case "type", "properties", "required", "additionalProperties", "$schema", "title", "description":
		default:
			return false
		}
		if name == "properties" && string(value) != "{}" || name == "additionalProperties" && string(value) != "false" {
			return false
		}
	}
	return s["properties"] != nil
}

func unenforceable(what string, err error) error {
	var refused *grammar.SchemaError
	if !errors.As(err, &refused) {
		return err // the client has left
	}
	return exchange.InvalidParam("", "%s: %v", what, err)
}
