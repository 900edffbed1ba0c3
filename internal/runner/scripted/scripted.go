// Package scripted answers requests from a script, with no model: the same answer every time, as fast or as
// slow as a test wants. It stands in for an engine where what is around it is under test.
package scripted

import (
	"context"
	"iter"
	"strings"

	"kindredgate/internal/exchange"
)

// Runner answers with pieces of text, each of which counts as a token.
type Runner struct {
	// Pieces gives the answer to a request. If it is nil, the answer is the words of the last turn.
	Pieces func(req *exchange.Request) []string
	// Calls gives the calls of tools that end an answer, behind its pieces; nil for none.
	Calls func(req *exchange.Request) []exchange.ToolCall
	// Before is called ahead of each piece; an error ends the answer. Nil means no waiting.
	Before func(ctx context.Context, piece int) error
}

// Words cuts a text into words, each with the space before it.
func Words(text string) []string {
	var out []string
	for text != "" {
		n := strings.IndexByte(text[1:], ' ') + 1
		if n == 0 {
			n = len(text)
		}
		out = append(out, text[:n])
		text = text[n:]
	}
	return out
}

// Run answers a request. Candidates come one after the other.
func (r *Runner) Run(ctx context.Context, _ string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		turns := req.Turns
		if req.Raw != nil {
			turns = []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(req.Raw.Text)}}}
		}
		prompt := 0
		for _, t := range turns {
			prompt += len(Words(t.Text()))
		}
		if req.Reserve != nil {
			if err := req.Reserve(prompt); err != nil {
				yield(nil, err)
				return
			}
		}
		if req.Reading != nil {
			req.Reading(prompt)
		}
		var pieces []string
		if r.Pieces != nil {
			pieces = r.Pieces(req)
		} else if n := len(turns); n > 0 {
			pieces = Words(turns[n-1].Text())
		}
		reason := exchange.Stopped
		var calls []exchange.ToolCall
		if r.Calls != nil {
			calls = r.Calls(req)
		}
		if req.MaxTokens > 0 && len(pieces) > req.MaxTokens {
			pieces, reason = pieces[:req.MaxTokens], exchange.Length
		}
		started := false
		for c := range max(1, req.Candidates) {
			for i, piece := range pieces {
				if err := r.wait(ctx, i); err != nil {
					yield(nil, err)
					return
				}
				if !started {
					started = true
					if !yield(exchange.Started{PromptTokens: prompt}, nil) {
						return
					}
				}
				if !yield(exchange.TextDelta{Candidate: c, Text: piece, Tokens: 1}, nil) {
					return
				}
			}
			if !r.call(c, &started, prompt, calls, yield) {
				return
			}
			if len(calls) > 0 && reason == exchange.Stopped {
				reason = exchange.Called
			}
			if !yield(exchange.Finish{Candidate: c, Reason: reason, Tokens: len(pieces) + len(calls)}, nil) {
				return
			}
		}
	}
}

// call gives calls, each in two parts.
func (r *Runner) call(c int, started *bool, prompt int, calls []exchange.ToolCall, yield func(exchange.Event, error) bool) bool {
	for i, call := range calls {
		if !*started {
			*started = true
			if !yield(exchange.Started{PromptTokens: prompt}, nil) {
				return false
			}
		}
		if !yield(exchange.ToolCallDelta{Candidate: c, Index: i, ID: call.ID, Name: call.Name, Tokens: 1}, nil) || !yield(exchange.ToolCallDelta{Candidate: c, Index: i, Arguments: call.Arguments, Done: true}, nil) {
			return false
		}
	}
	return true
}

// Embed makes a vector of each text: its length, and nothing else.
func (r *Runner) Embed(_ context.Context, _ string, req *exchange.Embedding) (_ *exchange.Vectors, err error) {
	out := &exchange.Vectors{}
	defer func() {
		if req.Reserve != nil && err == nil {
			err = req.Reserve(out.Tokens)
		}
	}()
	for _, in := range req.Inputs {
		out.Vectors = append(out.Vectors, []float32{float32(len(in.Text) + len(in.Tokens))})
		out.Tokens += len(Words(in.Text)) + len(in.Tokens)
	}
	return out, nil
}

// Rank scores each document by the share of the query's words that are in it.
func (r *Runner) Rank(_ context.Context, _ string, req *exchange.Ranking) (*exchange.Relevance, error) {
	out := &exchange.Relevance{}
	query := strings.Fields(req.Query)
	for _, d := range req.Documents {
		found := 0
		for _, word := range query {
			if strings.Contains(d, word) {
				found++
			}
		}
		out.Scores = append(out.Scores, float64(found)/float64(max(1, len(query))))
		out.Tokens += len(Words(req.Query)) + len(Words(d))
	}
	if req.Reserve != nil {
		if err := req.Reserve(out.Tokens); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (r *Runner) wait(ctx context.Context, piece int) error {
	if r.Before != nil {
		if err := r.Before(ctx, piece); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return nil
}
