package native

import (
	"context"
	"errors"
	"time"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/model"
)

// encoding is a loaded model that makes vectors or scores of texts, with what one request asks of it.
type encoding struct {
	*lease
	texts   []model.Text
	tokens  int
	timings exchange.Timings
}

// encodes has a request for vectors, or for scores, carried out with the weights at path. texts says which texts it has, and unfit what to
// say of one that cannot be read.
func (r *Runner) encodes(ctx context.Context, path string, scores bool, held func(int) error, texts func(e *encoding) error, unfit func(*engine.InputError) *exchange.Error) (e *encoding, out [][]float32, err error) {
	l, err := r.get(ctx, path)
	if err != nil {
		return nil, nil, err
	}
	defer l.release()
	switch {
	case l.encoder == nil:
		return nil, nil, exchange.InvalidParam("model", "the model predicts text; it makes neither embeddings nor scores")
	case scores && !l.encoder.Scores():
		return nil, nil, exchange.InvalidParam("model", "the model makes embeddings; it does not score documents")
	case !scores && l.encoder.Scores():
		return nil, nil, exchange.InvalidParam("model", "the model scores documents; it makes no embeddings")
	}
	e = &encoding{lease: l, timings: exchange.Timings{Load: l.load}}
	said := func(odd *engine.InputError) *exchange.Error {
		err := unfit(odd)
		if odd.Tokens > odd.Context {
			err.Code = "context_length_exceeded"
		}
		return err
	}
	var odd *engine.InputError
	if err := texts(e); errors.As(err, &odd) {
		return nil, nil, said(odd)
	} else if err != nil {
		return nil, nil, err
	}
	for _, t := range e.texts {
		e.tokens += len(t.IDs)
	}
	if err := reserve(held, e.tokens); err != nil {
		return nil, nil, err
	}
	begun := time.Now()
	out, err = l.encoder.Encode(ctx, e.texts)
	e.timings.Prefill = time.Since(begun)
	if errors.As(err, &odd) {
		return nil, nil, said(odd)
	}
	if err != nil {
		return nil, nil, l.inWords(err)
	}
	return e, out, nil
}

// Embed makes vectors with the weights at path.
func (r *Runner) Embed(ctx context.Context, path string, req *exchange.Embedding) (*exchange.Vectors, error) {
	e, out, err := r.encodes(ctx, path, false, req.Reserve, func(e *encoding) error {
		front, err := e.checkpoint.Prompt(req.Purpose)
		if err != nil {
			return exchange.InvalidParam("purpose", "%v", err)
		}
		e.texts = make([]model.Text, len(req.Inputs))
		for i, in := range req.Inputs {
			if e.tooBulky(len(front) + len(in.Text)) {
				return e.bulky(len(in.Text), "input")
			}
			if e.texts[i].IDs = in.Tokens; in.Tokens == nil && in.Text != "" {
				if e.texts[i].IDs, err = e.encoder.Tokens(front + in.Text); err != nil {
					return exchange.InvalidParam("input", "input %d: %v", i, err)
				}
			}
		}
		return nil
	}, func(odd *engine.InputError) *exchange.Error {
		return exchange.InvalidParam("input", "input %d cannot be embedded: %v", odd.Index, odd)
	})
	if err != nil {
		return nil, err
	}
	for i, v := range out {
		if n := req.Dimensions; n > 0 && n < len(v) {
			out[i] = model.Unit(v[:n:n]) // of models whose vectors are made for that; the gate has seen to it
		}
	}
	return &exchange.Vectors{Vectors: out, Tokens: e.tokens, Timings: e.timings}, nil
}

// Rank scores documents with the weights at path.
func (r *Runner) Rank(ctx context.Context, path string, req *exchange.Ranking) (*exchange.Relevance, error) {
	e, out, err := r.encodes(ctx, path, true, req.Reserve, func(e *encoding) (err error) {
		if e.tooBulky(len(req.Query)) {
			return e.bulky(len(req.Query), "query")
		}
		query, err := e.encoder.Bare(req.Query)
		if err != nil {
			return exchange.InvalidParam("query", "the query: %v", err)
		}
		e.texts = make([]model.Text, len(req.Documents))
		for i, document := range req.Documents {
			if e.tooBulky(len(req.Query) + len(document)) {
				return e.bulky(len(document), "documents")
			}
			if e.texts[i], err = e.encoder.Pair(query, document, req.Longest); err != nil {
				if odd := (*engine.InputError)(nil); errors.As(err, &odd) { // here, so that no other one is read before it is told
					odd.Index = i
					return odd
				}
				return exchange.InvalidParam("documents", "document %d: %v", i, err)
			}
		}
		return nil
	}, func(odd *engine.InputError) *exchange.Error {
		return exchange.InvalidParam("documents", "document %d with the query has %d tokens; the model's context holds %d: shorten it, or say with max_tokens_per_doc how much of each document to read", odd.Index, odd.Tokens, odd.Context)
	})
	if err != nil {
		return nil, err
	}
	answer := &exchange.Relevance{Scores: make([]float64, len(out)), Tokens: e.tokens, Timings: e.timings}
	for i, v := range out {
		answer.Scores[i] = float64(v[0])
	}
	return answer, nil
}
