// Package gate is what the gate does, whatever the style of the request and whoever runs the model: admit,
// find the model, run, meter. It is the only place that knows all of these.
package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/library"
	"kindredgate/internal/prompt"
	"kindredgate/internal/runner/native"
)

// Runner answers requests with the weights at a path.
type Runner interface {
	Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error]
	Embed(ctx context.Context, path string, req *exchange.Embedding) (*exchange.Vectors, error)
}

// Prompter lays out conversations for the weights at a path.
type Prompter interface {
	Render(ctx context.Context, path string, req *exchange.Request) (*prompt.Prompt, error)
	RenderRaw(ctx context.Context, path, text string) (*prompt.Prompt, error)
	CheckTemplate(ctx context.Context, path, source string) error
}

// Loader lends models to those who use them.
type Loader interface {
	Status(path string) native.Status
	Load(ctx context.Context, path string, keep bool) error
	Unload(path string) bool
}

// Gate is the whole core put together. It is safe for concurrent use.
type Gate struct {
	Catalog *catalog.Catalog
	Keys    *keyring.Keyring
	Presets catalog.PresetRecords
	Runner  Runner
	Prompts Prompter
	Loader  Loader
	Library *library.Library // nil if models cannot be added or forgotten
	// Meter is told of every exchange when it has ended. It may be nil.
	Meter func(ctx context.Context, r Record)
}

// Record is what an exchange came to.
type Record struct {
	Key              keyring.Key
	Model            string
	PromptTokens     int
	CachedTokens     int // of the prompt, that did not have to be read
	CompletionTokens int
	ToolCalls        int
	Malformed        int // places that looked like tool calls and could not be read
	Drafted          int // tokens that were put through the network before it was known that they follow
	Accepted         int // of these, that did
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

// Offer is something that an application may ask for: a model, or a preset under its own name.
type Offer struct {
	Name  string
	Model catalog.Model
}

// Offers lists what a key may ask for now, models first.
func (g *Gate) Offers(ctx context.Context, k keyring.Key) ([]Offer, error) {
	models, problem := g.Catalog.Models()
	usable := map[string]catalog.Model{}
	var list []Offer
	for _, m := range models {
		if m.Usable() {
			usable[m.ID] = m
			if k.MayUse(m.ID) {
				list = append(list, Offer{m.ID, m})
			}
		}
	}
	presets, err := g.Presets.Presets(ctx)
	for _, p := range presets {
		if m, ok := usable[p.Model]; ok && k.MayUse(p.Name) {
			list = append(list, Offer{p.Name, m})
		}
	}
	return list, errors.Join(problem, err)
}

// Offer finds what a key asks for by name.
func (g *Gate) Offer(ctx context.Context, k keyring.Key, name string) (Offer, error) {
	m, _, err := g.resolve(ctx, k, name)
	return Offer{name, m}, err
}

// Answer runs a request. The stream is as package exchange describes it; a request that is not admitted is
// an error at its start.
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
		m, preset, err := g.resolve(ctx, k, req.Model)
		if err != nil {
			r.Err = err
			yield(nil, err)
			return
		}
		if m.Use == catalog.Embedding {
			r.Err = exchange.InvalidParam("model", "model %q makes embeddings, not text; POST /v1/embeddings asks it for them", req.Model)
			yield(nil, r.Err)
			return
		}
		if preset != nil {
			preset.Apply(req)
		}
		m.Defaults.FillIn(&req.Sampling)
		req.Owner = k.ID
		// Deltas count while an answer is under way, so that one that is cut off is counted too.
		counted := map[int]int{}
		count := func(candidate, tokens int) {
			r.CompletionTokens += tokens
			counted[candidate] += tokens
		}
		for event, err := range g.Runner.Run(ctx, m.Path, req) {
			switch event := event.(type) {
			case exchange.Started:
				r.PromptTokens, r.CachedTokens, r.Timings, r.FirstToken = event.PromptTokens, event.CachedTokens, event.Timings, time.Since(begun)
			case exchange.ReasoningDelta:
				count(event.Candidate, event.Tokens)
			case exchange.TextDelta:
				count(event.Candidate, event.Tokens)
			case exchange.ToolCallDelta:
				count(event.Candidate, event.Tokens)
				if event.Name != "" {
					r.ToolCalls++
				}
			case exchange.Finish:
				count(event.Candidate, event.Tokens-counted[event.Candidate])
				r.Malformed += event.Malformed
				r.Drafted, r.Accepted = r.Drafted+event.Drafted, r.Accepted+event.Accepted
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

// AnswerAll runs several requests side by side. Events come with the number of their request.
func (g *Gate) AnswerAll(ctx context.Context, k keyring.Key, reqs []exchange.Request) iter.Seq2[exchange.Numbered[exchange.Event], error] {
	streams := make([]func(context.Context) iter.Seq2[exchange.Event, error], len(reqs))
	for i := range reqs {
		streams[i] = func(ctx context.Context) iter.Seq2[exchange.Event, error] { return g.Answer(ctx, k, &reqs[i]) }
	}
	return exchange.Together(ctx, streams...)
}

// Embed makes vectors of texts.
func (g *Gate) Embed(ctx context.Context, k keyring.Key, req *exchange.Embedding) (v *exchange.Vectors, err error) {
	begun := time.Now()
	r := Record{Key: k, Model: req.Model}
	defer func() {
		r.Duration, r.Err = time.Since(begun), err
		if g.Meter != nil {
			g.Meter(ctx, r)
		}
	}()
	m, preset, err := g.resolve(ctx, k, req.Model)
	if err != nil {
		return nil, err
	}
	switch {
	case m.Use != catalog.Embedding || preset != nil:
		return nil, g.noEmbeddings(ctx, k, req.Model)
	case req.Dimensions != 0 && req.Dimensions != m.Dimensions && !slices.Contains(m.Nested, req.Dimensions):
		// Cutting vectors short makes sense only for models that were trained for it.
		lengths := fmt.Sprint(m.Dimensions)
		if len(m.Nested) > 0 {
			lengths = strings.Trim(fmt.Sprint(m.Nested), "[]")
		}
		return nil, exchange.InvalidParam("dimensions", "dimensions is %d; the vectors of model %q have %s and cannot be cut otherwise", req.Dimensions, req.Model, lengths)
	}
	if v, err = g.Runner.Embed(ctx, m.Path, req); err != nil {
		return nil, err
	}
	r.PromptTokens, r.Timings, r.Reason = v.Tokens, v.Timings, exchange.Stopped
	return v, nil
}

// noEmbeddings says which models make embeddings, since the one asked for does not.
func (g *Gate) noEmbeddings(ctx context.Context, k keyring.Key, asked string) error {
	offers, err := g.Offers(ctx, k)
	if err != nil {
		return err
	}
	var names []string
	for _, o := range offers {
		if o.Model.Use == catalog.Embedding {
			names = append(names, o.Name)
		}
	}
	if len(names) == 0 {
		return exchange.InvalidParam("model", "model %q makes no embeddings, and no model that does is installed", asked)
	}
	return exchange.InvalidParam("model", "model %q makes no embeddings; these do: %s", asked, strings.Join(names, ", "))
}

// Render lays out a request as the model would get it. What a preset adds is in the request afterwards.
func (g *Gate) Render(ctx context.Context, k keyring.Key, req *exchange.Request) (catalog.Model, *prompt.Prompt, error) {
	m, preset, err := g.resolve(ctx, k, req.Model)
	if err != nil {
		return m, nil, err
	}
	if preset != nil {
		preset.Apply(req)
	}
	p, err := g.Prompts.Render(ctx, m.Path, req)
	return m, p, err
}

// RenderRaw gives a raw prompt as the model would get it.
func (g *Gate) RenderRaw(ctx context.Context, k keyring.Key, model, text string) (catalog.Model, *prompt.Prompt, error) {
	m, _, err := g.resolve(ctx, k, model)
	if err != nil {
		return m, nil, err
	}
	p, err := g.Prompts.RenderRaw(ctx, m.Path, text)
	return m, p, err
}

// IssueKey makes a key for an application. Models that are not installed are refused, since a mistyped name
// would make a key that opens nothing.
func (g *Gate) IssueKey(ctx context.Context, label string, models []string) (secret string, k keyring.Key, err error) {
	for _, id := range models {
		if _, _, err := g.resolve(ctx, keyring.Key{}, id); err != nil {
			e := exchange.AsError(err)
			return "", keyring.Key{}, exchange.InvalidParam("models", "%s", e.Message)
		}
	}
	return g.Keys.Issue(ctx, label, models)
}
