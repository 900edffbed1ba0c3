package gate

import (
	"context"
	"errors"
	"slices"

	"kindredgate/internal/exchange"
	"kindredgate/internal/grammar"
)

// forms are what a request's schemas became, once for all its targets.
type forms struct {
	format *grammar.Schema
	tools  []toolForm // one for each tool of the request
	notes  []string   // what is not enforced, though that was not insisted on
	err    error      // what a schema asks, insists on, and cannot be enforced
}

type toolForm struct {
	form   *grammar.Schema
	strict bool
}

// enforced makes forms of the schemas of a request, with one measure of work for all of them. What a schema asks that cannot be enforced
// refuses the request where it is strict, and is left out elsewhere; notes tell of that.
func enforced(ctx context.Context, req *exchange.Request) *forms {
	work := grammar.NewWork(ctx)
	out := &forms{tools: make([]toolForm, len(req.Tools))}
	if f := req.Format; f.Kind == exchange.FormatSchema {
		made, err := form(work, f.Schema, f.Strict)
		if err != nil {
			out.err = unenforceable(f.At, err)
			return out
		}
		out.format, out.notes = made, noted(out.notes, f.At, made)
	}
	for i, t := range req.Tools {
		out.tools[i].strict = t.Strict
		if t.Parameters == nil || !t.Strict && !t.Willing && !req.Choice.Required {
			continue
		}
		made, err := form(work, t.Parameters, t.Strict)
		var refused *grammar.SchemaError
		switch {
		case err == nil:
			out.tools[i] = toolForm{made, t.Strict || t.Willing && len(made.Notes) == 0}
			out.notes = noted(out.notes, t.At, made)
		case t.Strict || !errors.As(err, &refused):
			out.err = unenforceable(t.At, err)
			return out
		default:
			out.notes = append(out.notes, t.At+": "+err.Error()) // the model is trusted with it
		}
	}
	return out
}

// into puts the forms into a request for a target, which has the tools of the one that they were made of. What cannot be enforced refuses
// the request only where it is decoded here: another machine may be able to.
func (f *forms) into(req *exchange.Request, here bool) (notes []string, err error) {
	if f.err != nil {
		if exchange.AsError(f.err).Kind == exchange.Invalid && !here {
			return append(f.notes[:len(f.notes):len(f.notes)], f.err.Error()), nil
		}
		return nil, f.err
	}
	req.Format.Form = f.format
	req.Tools = slices.Clone(req.Tools)
	for i, t := range f.tools {
		req.Tools[i].Form, req.Tools[i].Strict = t.form, t.strict
	}
	return f.notes, nil
}

func form(work *grammar.Work, schema []byte, strict bool) (*grammar.Schema, error) {
	if strict {
		return grammar.Compile(work, schema)
	}
	return grammar.CompileLeniently(work, schema)
}

func noted(notes []string, at string, f *grammar.Schema) []string {
	for _, n := range f.Notes {
		notes = append(notes, at+": "+n)
	}
	return notes
}

// unenforceable names the place in the request that a schema's error is about.
func unenforceable(at string, err error) error {
	var refused *grammar.SchemaError
	if !errors.As(err, &refused) {
		return err // the client has left
	}
	if refused.Path != "" {
		at += "." + refused.Path
	}
	return exchange.InvalidParam(at, "%v", refused)
}
