// Package gate is what the gate does, whatever the style of the request and whoever runs the model: admit,
// find the model, run, meter. It is the only place that knows all of these.
package gate

import (
	"cmp"
	"context"
	"iter"
	"slices"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/prompt"
)

// Runner answers requests with the weights at a path.
type Runner interface {
	Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error]
}

// Prompter lays out conversations for the weights at a path, and knows which weights are loaded.
type Prompter interface {
	Render(path string, c prompt.Conversation) (*prompt.Prompt, error)
	RenderRaw(path, text string) (*prompt.Prompt, error)
	Loaded(path string) bool
}

// Gate is the whole core put together. It is safe for concurrent use.
type Gate struct {
	Catalog *catalog.Catalog
	Keys    *keyring.Keyring
	Runner  Runner
	Prompts Prompter
	// Meter is told of every exchange when it has ended. It may be nil.
	Meter func(ctx context.Context, r Record)
}

// Record is what an exchange came to.
type Record struct {
	Key              keyring.Key
	Model            string
	PromptTokens     int
	CompletionTokens int
	ToolCalls        int
	Malformed        int // places that looked like tool calls and could not be read
	Timings          exchange.Timings
	FirstToken       time.Duration // from the request to the first token; 0 if none came
	Duration         time.Duration
	Reason           exchange.Reason // of the last candidate to end; empty if none did
	Err              error
}

// forbidden is the error for a key that may not use a model.
func forbidden(k keyring.Key, model string) error {
	err := exchange.Errorf(exchange.Forbidden, "model_not_allowed", "the key %q may not use model %q; GET /v1/models lists those it may", k.Label, model)
	err.Param = "model"
	return err
}

// Models lists the models that a key may use now.
func (g *Gate) Models(k keyring.Key) ([]catalog.Model, error) {
	all, err := g.Catalog.Models()
	return slices.DeleteFunc(all, func(m catalog.Model) bool { return !m.Usable() || !k.MayUse(m.ID) }), err
}

// Model finds a model that a key may use.
func (g *Gate) Model(k keyring.Key, id string) (catalog.Model, error) {
	if !k.MayUse(id) {
		return catalog.Model{}, forbidden(k, id)
	}
	return g.Catalog.Find(id)
}

// Answer runs a request. The stream is as package exchange describes it; a request that is not admitted is
// an error at its start. The model's name in the request is replaced by the one that answers.
func (g *Gate) Answer(ctx context.Context, k keyring.Key, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		begun := time.Now()
		r := Record{Key: k, Model: req.Model}
		defer func() {
			r.Duration = time.Since(begun)
			if g.Meter != nil {
				g.Meter(ctx, r)
			}
		}()
		m, err := g.Model(k, req.Model)
		if err != nil {
			r.Err = err
			yield(nil, err)
			return
		}
		req.Model, r.Model = m.ID, m.ID
		fillIn(&req.Sampling, m.Defaults)
		// Deltas count while an answer is under way, so that one that is cut off is counted too.
		counted := map[int]int{}
		count := func(candidate, tokens int) {
			r.CompletionTokens += tokens
			counted[candidate] += tokens
		}
		for event, err := range g.Runner.Run(ctx, m.Path, req) {
			switch event := event.(type) {
			case exchange.Started:
				r.PromptTokens, r.Timings, r.FirstToken = event.PromptTokens, event.Timings, time.Since(begun)
			case exchange.ReasoningDelta:
				count(event.Candidate, event.Tokens)
			case exchange.TextDelta:
				count(event.Candidate, event.Tokens)
			case exchange.ToolCalled:
				count(event.Candidate, event.Tokens)
				r.ToolCalls++
			case exchange.Finish:
				count(event.Candidate, event.Tokens-counted[event.Candidate])
				r.Malformed += event.Malformed
				r.Reason = event.Reason
			case nil:
				r.Err = err
			}
			if !yield(event, err) {
				if r.Reason == "" && r.Err == nil {
					// Nobody reads on: the client went away.
					r.Err = cmp.Or(context.Cause(ctx), context.Canceled)
				}
				return
			}
			if err != nil {
				return
			}
		}
	}
}

// fillIn takes the author's recommendation for what the request leaves open.
func fillIn(s *exchange.Sampling, d catalog.Defaults) {
	if s.Temperature == nil {
		s.Temperature = d.Temperature
	}
	if s.TopP == nil {
		s.TopP = d.TopP
	}
	if s.TopK == nil {
		s.TopK = d.TopK
	}
}

// Render lays out a conversation as the model would get it.
func (g *Gate) Render(k keyring.Key, model string, c prompt.Conversation) (catalog.Model, *prompt.Prompt, error) {
	m, err := g.Model(k, model)
	if err != nil {
		return m, nil, err
	}
	p, err := g.Prompts.Render(m.Path, c)
	return m, p, err
}

// RenderRaw gives a raw prompt as the model would get it.
func (g *Gate) RenderRaw(k keyring.Key, model, text string) (catalog.Model, *prompt.Prompt, error) {
	m, err := g.Model(k, model)
	if err != nil {
		return m, nil, err
	}
	p, err := g.Prompts.RenderRaw(m.Path, text)
	return m, p, err
}

// IssueKey makes a key for an application. Models that are not installed are refused, since a mistyped name
// would make a key that opens nothing.
func (g *Gate) IssueKey(ctx context.Context, label string, models []string) (secret string, k keyring.Key, err error) {
	for _, id := range models {
		if _, err := g.Catalog.Find(id); err != nil {
			e := exchange.AsError(err)
			return "", keyring.Key{}, exchange.InvalidParam("models", "%s", e.Message)
		}
	}
	return g.Keys.Issue(ctx, label, models)
}
