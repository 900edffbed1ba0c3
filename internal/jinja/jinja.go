// Package jinja renders the templates by which open-weight models lay out a conversation.
//
// The language is the part of Jinja that such templates use, set up as model libraries set it up: trim_blocks
// and lstrip_blocks on, loop controls, no access to anything but the values given. Lexer (lex.go), parser
// (parse.go) and evaluator (eval.go) are separate; nodes know their line, and every error names it.
//
// What sets the package apart is that strings remember where they come from: a rendered [Output] says of each
// piece of its text whether the template wrote it, and in which line, or which of the values given it was
// part of. Trimming, slicing, joining and replacing keep this.
package jinja

import "fmt"

// Template is a parsed template. It is immutable and safe for concurrent use.
type Template struct {
	body []node
}

// Error is what is wrong with a template, or went wrong in it.
type Error struct {
	Line int // 1 is the first
	Msg  string
	// Raised is true if the template itself refused the conversation, by raise_exception: Msg is its reason.
	Raised bool
}

func (e *Error) Error() string { return fmt.Sprintf("template line %d: %s", e.Line, e.Msg) }

// Origin says where a piece of text comes from.
type Origin struct {
	// Path names the value that the text was part of, as it was given to [NewText] or [FromJSON], such as
	// "messages[2].content". It is empty for the template's own text.
	Path string
	// Line is the line of the template that wrote the text, if it is the template's own.
	Line int
}

// Span is a piece of text with one origin. It begins where the one before it ends.
type Span struct {
	End    int // byte offset
	Origin Origin
}

// Output is rendered text. Spans cover all of it.
type Output struct {
	Text  string
	Spans []Span
}

// Parse reads a template. The error is an [*Error].
func Parse(source string) (t *Template, err error) {
	p := &parser{lex: newLexer(source)}
	defer p.recover(&err)
	p.next()
	t = &Template{body: p.statements(1)}
	p.surely(0)
	return t, nil
}

// Render evaluates the template with the given variables. The error is an [*Error]. Work, depth and output
// are bounded: a template that never ends is an error too.
func (t *Template) Render(vars map[string]Value) (out Output, err error) {
	given := &frame{vars: vars, parent: globals}
	e := &evaluator{frame: &frame{vars: map[string]Value{}, parent: given}, out: &textBuilder{}, steps: maxSteps, bytes: maxText}
	for _, v := range vars {
		values, bytes := measure(v)
		e.steps += stepsPerValue*values + bytes/16
		e.bytes += textPerByte * bytes
	}
	defer e.recover(&err)
	e.exec(t.body)
	return e.out.output(), nil
}
