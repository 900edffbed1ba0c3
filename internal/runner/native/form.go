package native

import (
	"encoding/json"
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
	grammars     map[string]*grammar.Grammar
	recent       []string // keys of grammars, the oldest first
}

// maxGrammars is how many grammars are kept.
const maxGrammars = 32

// form is what the answer has to be; nil if that is left to the model.
func (l *loadedModel) form(req *exchange.Request, t *prompt.Template, style reading.Style, shown []int32) (*grammar.Grammar, error) {
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
	defer f.mu.Unlock()
	if g, ok := f.grammars[string(key)]; ok {
		return g, nil
	}
	e, err := answerForm(req, style, req.Thinking || !t.Abilities().Thinking)
	if err != nil {
		return nil, err
	}
	g, err := grammar.New(l.vocabulary(shown), e)
	if err != nil {
		return nil, err
	}
	if f.grammars == nil {
		f.grammars = map[string]*grammar.Grammar{}
	}
	if len(f.recent) == maxGrammars {
		delete(f.grammars, f.recent[0])
		f.recent = f.recent[1:]
	}
	f.grammars[string(key)] = g
	f.recent = append(f.recent, string(key))
	return g, nil
}

// vocabulary is the model's tokens, of the control tokens only those that are text.
func (l *loadedModel) vocabulary(shown []int32) *grammar.Vocabulary {
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

// answerForm describes all that an answer may be: reasoning first, if the model does that and mayReason is true, then
// what was asked for.
func answerForm(req *exchange.Request, style reading.Style, mayReason bool) (grammar.Expr, error) {
	if style.Form == reading.Channels {
		return nil, exchange.InvalidParam("model", "the model lays its answers out in channels, for which formats and forced tool calls cannot be enforced yet")
	}
	body, err := bodyForm(req, style)
	if err != nil {
		return nil, err
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

// bodyForm is the answer itself: text in its format, or calls, or both.
func bodyForm(req *exchange.Request, style reading.Style) (grammar.Expr, error) {
	var format grammar.Expr
	switch req.Format.Kind {
	case exchange.FormatText:
	case exchange.FormatObject:
		format = grammar.AnyObject().Value()
	case exchange.FormatSchema:
		s, err := grammar.Compile(req.Format.Schema)
		if err != nil {
			return nil, unenforceable("the format's schema", err)
		}
		format = s.Value()
	}
	if len(req.Tools) == 0 {
		return format, nil
	}
	call, err := callForm(req, style)
	if err != nil {
		return nil, err
	}
	calls := call("")
	// A list in brackets holds one call, and a mark without an end goes on to that of the answer.
	marks := style.Calls
	several := !req.Choice.Single && (marks.Open == "" || marks.Close != "") && !strings.Contains(strings.TrimPrefix(style.Frame.Before, marks.Open), "[")
	if several {
		calls = grammar.Seq(calls, grammar.Many(grammar.Seq(grammar.Space(), call(""))))
	}
	switch {
	case req.Choice.Required:
		return calls, nil
	case format != nil:
		return grammar.Alt(format, calls), nil
	case marks.Open == "":
		return grammar.Alt(grammar.TextNot("{["), calls), nil
	default:
		return grammar.Loop(func(again grammar.Expr) grammar.Expr {
			after := call(marks.Open)
			if several {
				after = grammar.Seq(after, again)
			}
			return grammar.TextOr(marks.Open, after)
		}), nil
	}
}

// callForm is one call of any tool that may be called. The function takes what of it is there already.
func callForm(req *exchange.Request, style reading.Style) (func(begun string) grammar.Expr, error) {
	frame := style.Frame
	if frame.Before == "" {
		return nil, exchange.InvalidParam("tools", "the model's template does not write tool calls as JSON objects, so calls cannot be enforced: leave out \"strict\" and leave tool_choice to \"auto\"")
	}
	type tool struct {
		name      string
		arguments func() grammar.Expr
	}
	var tools []tool
	for _, t := range req.Tools {
		if req.Choice.Names != nil && !slices.Contains(req.Choice.Names, t.Name) {
			continue
		}
		arguments := func() grammar.Expr { return grammar.AnyObject().Value() }
		if len(t.Parameters) > 0 {
			if _, err := grammar.Compile(t.Parameters); err == nil {
				arguments = func() grammar.Expr {
					s, _ := grammar.Compile(t.Parameters) // it did before
					return s.Value()
				}
			} else if t.Strict {
				return nil, unenforceable(fmt.Sprintf("the parameters of tool %q", t.Name), err)
			}
		}
		tools = append(tools, tool{t.Name, arguments})
	}
	return func(begun string) grammar.Expr {
		var alts []grammar.Expr
		for _, t := range tools {
			alts = append(alts, grammar.Seq(grammar.Literal(frame.Before[len(begun):]+t.name+frame.Between), t.arguments(), grammar.Literal(frame.After)))
		}
		return grammar.Alt(alts...)
	}, nil
}

func unenforceable(what string, err error) error {
	return exchange.InvalidParam("", "%s: %v", what, err)
}
