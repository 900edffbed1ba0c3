package gate

import (
	"context"
	"errors"

	"kindredgate/internal/exchange"
	"kindredgate/internal/grammar"
)

// enforce makes forms of the schemas of a request, once, with one measure of work for all of them. What a schema asks that cannot be
// enforced refuses the request where it is strict, and is left out elsewhere; notes tell of that.
func enforce(ctx context.Context, req *exchange.Request) (notes []string, err error) {
	work := grammar.NewWork(ctx)
	if f := &req.Format; f.Kind == exchange.FormatSchema {
		if f.Form, err = form(work, f.Schema, f.Strict); err != nil {
			return nil, unenforceable(f.At, err)
		}
		notes = noted(notes, f.At, f.Form)
	}
	for i := range req.Tools {
		t := &req.Tools[i]
		if t.Parameters == nil || !t.Strict && !t.Willing && !req.Choice.Required {
			continue
		}
		t.Form, err = form(work, t.Parameters, t.Strict)
		var refused *grammar.SchemaError
		switch {
		case err == nil:
			t.Strict = t.Strict || t.Willing && len(t.Form.Notes) == 0
			notes = noted(notes, t.At, t.Form)
		case t.Strict || !errors.As(err, &refused):
			return nil, unenforceable(t.At, err)
		default:
			notes = append(notes, t.At+": "+err.Error()) // the model is trusted with it
		}
	}
	return notes, nil
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
