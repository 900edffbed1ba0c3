// Package gate is what the gate does, whatever the style of the request and whoever runs the model: admit,
// find the model, run, record. It is the only place that knows all of these.
//
// A request becomes an [Exchange] by [Gate.Begin], and nothing calls a runner past it.
package gate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/library"
	"kindredgate/internal/placement"
	"kindredgate/internal/prompt"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/runner/remote"
)

// Runner answers requests with the weights at a path.
type Runner interface {
	Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error]
	Embed(ctx context.Context, path string, req *exchange.Embedding) (*exchange.Vectors, error)
	Rank(ctx context.Context, path string, req *exchange.Ranking) (*exchange.Relevance, error)
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
	// ForgetContexts removes what is on disk of prompts.
	ForgetContexts() error
}

// Gate is the whole core put together. It is safe for concurrent use.
type Gate struct {
	Catalog *catalog.Catalog
	Keys    *keyring.Keyring
	Presets catalog.PresetRecords
	Names   catalog.NameRecords
	Runner  Runner
	Prompts Prompter
	Loader  Loader
	Library *library.Library // nil if models cannot be added or removed
	// Machines are those that have models of theirs; nil for none.
	Machines *remote.Fleet
	// ID tells this gate from others, in what requests are passed on with.
	ID string
	// Settings are those of the gate that make a difference to answers, in words. They are part of the fingerprints.
	Settings string
	// Observers are told of every exchange, one after the other.
	Observers []Observer
	// Recorder keeps what is said; nil for no one.
	Recorder Recorder
	// Price is what an exchange costs that has come so far, in millionths of the currency; nil for nothing.
	Price func(*record.Record) int64

	mu      sync.Mutex
	running map[*Exchange]struct{} // exchanges that were admitted and have not ended
	streams map[string]int         // how many of them each model answers
	meters  map[string]*placement.Meter

	// What follows is there from the first use on.
	begun      sync.Once
	going      *jobs
	shadowing  chan struct{} // has room for those that may run at once
	background sync.WaitGroup
	ctx        context.Context // of what goes on beside requests
	end        context.CancelFunc
}

// ready makes what a gate needs beside what it was put together of.
func (g *Gate) ready() *Gate {
	g.begun.Do(func() {
		g.going, g.shadowing = newJobs(), make(chan struct{}, shadowsAtOnce)
		g.ctx, g.end = context.WithCancel(context.Background())
	})
	return g
}

// Close ends what goes on beside requests, and waits for it.
func (g *Gate) Close() error {
	g.ready().end()
	g.background.Wait()
	return nil
}

func (g *Gate) jobs() *jobs { return g.ready().going }

// Layout gives the prompt that a request is for a model.
func (g *Gate) Layout(ctx context.Context, m catalog.Model, req *exchange.Request) (*prompt.Prompt, error) {
	if req.Raw != nil {
		return g.layRaw(ctx, m, req.Raw.Text)
	}
	return g.lay(ctx, m, req)
}

// Fingerprint tells which weights, format, template and settings answer: equal ones answer alike. The preset is nil for a model by its
// own name.
func (g *Gate) Fingerprint(m catalog.Model, preset *catalog.Preset) string {
	own, err := json.Marshal(preset)
	if err != nil {
		return "" // cannot be: a preset is kept in this form
	}
	digest := m.Digest
	if m.Machine != "" && digest == "" {
		digest = m.ID // what is behind it is not known
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\n%s\n%s", digest, g.Settings, own))
	return "fp_" + hex.EncodeToString(sum[:6])
}

// forbidden is the error for a key that may not use a model.
func forbidden(k keyring.Key, model string) error {
	err := exchange.Errorf(exchange.Forbidden, "model_not_allowed", "the key %q may not use model %q; GET /v1/models lists those it may", k.Label, model)
	err.Param = "model"
	return err
}

// Offer is something that an application may ask for: a model, or a preset under its own name.
type Offer struct {
	Name   string
	Model  catalog.Model
	Preset *catalog.Preset // nil for a model
	Target string          // what a public name stands for; "" for a model or preset by its own
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
				list = append(list, Offer{Name: m.ID, Model: m})
			}
		}
	}
	for _, machine := range g.Machines.Machines() {
		for _, there := range machine.Look().Models {
			m := modelOf(machine, there)
			usable[m.ID] = m
			if k.MayUse(m.ID) {
				list = append(list, Offer{Name: m.ID, Model: m})
			}
		}
	}
	presets, err := g.Presets.Presets(ctx)
	for _, p := range presets {
		if m, ok := usable[p.Model]; ok && k.MayUse(p.Name) {
			list = append(list, Offer{Name: p.Name, Model: m, Preset: &p})
		}
	}
	names, err2 := g.Names.Names(ctx)
	for _, n := range names {
		if n.Name == catalog.AnyName || !k.MayUse(n.Name) {
			continue
		}
		if t, err := g.first(ctx, n.Name, n); err == nil {
			list = append(list, Offer{n.Name, t.model, t.preset, n.Said()})
		}
	}
	for _, name := range g.fleetNames() {
		if slices.ContainsFunc(list, func(o Offer) bool { return o.Name == name }) || !k.MayUse(name) {
			continue
		}
		if t, err := g.anyOf(ctx, catalog.AnyMachine+name); err == nil {
			list = append(list, Offer{Name: name, Model: t.model, Target: name + " on any machine"})
		}
	}
	return list, errors.Join(problem, err, err2)
}

// Offer finds what a key asks for by name.
func (g *Gate) Offer(ctx context.Context, k keyring.Key, name string) (Offer, error) {
	m, preset, err := g.resolve(ctx, k, name)
	return Offer{Name: name, Model: m, Preset: preset}, err
}

// Embed makes vectors of texts, as an exchange of its own.
func (g *Gate) Embed(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Embedding) (v *exchange.Vectors, err error) {
	err = g.once(ctx, caller, from, req.Model, func(t target) error { return g.embeds(ctx, caller, t, req) }, func(x *Exchange) (tokens int, t exchange.Timings, err error) {
		req.Reserve, req.Via, req.Trace = x.reserve, g.through(from.Via), from.Trace
		if v, err = x.runner.Embed(x.ctx, x.model.Path, req); err != nil {
			return 0, t, err
		}
		return v.Tokens, v.Timings, nil
	})
	return v, err
}

// Rank scores documents, as an exchange of its own.
func (g *Gate) Rank(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Ranking) (v *exchange.Relevance, err error) {
	fits := func(t target) error {
		if t.model.Machine == "" && (t.model.Use != catalog.Rerank || t.preset != nil) {
			return g.not(ctx, caller, req.Model, catalog.Rerank, "scores no documents")
		}
		return nil
	}
	err = g.once(ctx, caller, from, req.Model, fits, func(x *Exchange) (tokens int, t exchange.Timings, err error) {
		req.Reserve, req.Via, req.Trace = x.reserve, g.through(from.Via), from.Trace
		if v, err = x.runner.Rank(x.ctx, x.model.Path, req); err != nil {
			return 0, t, err
		}
		return v.Tokens, v.Timings, nil
	})
	return v, err
}

// once is an exchange that gives one thing and no stream: do asks the runner for it, and tells how many tokens were read in what time.
func (g *Gate) once(ctx context.Context, caller keyring.Key, from Origin, model string, fits func(target) error, do func(x *Exchange) (int, exchange.Timings, error)) (err error) {
	x := g.begin(ctx, caller, from, model)
	defer func() { x.close(err) }()
	aim := func(target) error { return nil }
	if err := x.start(want{fits, aim}, nil, func() (choices, error) { return g.targets(ctx, caller, from, model) }); err != nil {
		return err
	}
	return x.attempt(func() (bool, error) {
		return false, recovered(func() error {
			tokens, timings, err := do(x)
			if err == nil {
				x.record.PromptTokens, x.record.Reason = tokens, string(exchange.Stopped)
				x.timed(timings)
			}
			return err
		})
	})
}

// targets are what may serve a request of which no more is known than the name that it asks for.
func (g *Gate) targets(ctx context.Context, caller keyring.Key, from Origin, model string) (choices, error) {
	r, err := g.find(ctx, caller, model)
	if err != nil {
		return choices{}, err
	}
	return g.order(ctx, r, caller, from, place{}, &exchange.Request{Model: model})
}

// recovered makes a panic of what answers an error, which ends one request and not the gate.
func recovered(do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = exchange.Panicked(p)
		}
	}()
	return do()
}

// embeds reports whether a target can make the vectors that are asked for, as far as that is known.
func (g *Gate) embeds(ctx context.Context, caller keyring.Key, t target, req *exchange.Embedding) error {
	m := t.model
	switch {
	case m.Machine != "":
	case m.Use != catalog.Embedding || t.preset != nil:
		return g.not(ctx, caller, req.Model, catalog.Embedding, "makes no embeddings")
	case req.Dimensions != 0 && req.Dimensions != m.Dimensions && !slices.Contains(m.Nested, req.Dimensions):
		// Cutting vectors short makes sense only for models that were trained for it.
		lengths := fmt.Sprint(m.Dimensions)
		if len(m.Nested) > 0 {
			lengths = strings.Trim(fmt.Sprint(m.Nested), "[]")
		}
		return exchange.InvalidParam("dimensions", "dimensions is %d; the vectors of model %q have %s and cannot be cut otherwise", req.Dimensions, req.Model, lengths)
	}
	return nil
}

// not says which models can be used for something, since the one asked for cannot.
func (g *Gate) not(ctx context.Context, k keyring.Key, asked string, use catalog.Use, does string) error {
	offers, err := g.Offers(ctx, k)
	if err != nil {
		return err
	}
	var names []string
	for _, o := range offers {
		if o.Model.Use == use {
			names = append(names, o.Name)
		}
	}
	if len(names) == 0 {
		return exchange.InvalidParam("model", "model %q %s, and no model that can be used for that is installed", asked, does)
	}
	return exchange.InvalidParam("model", "model %q %s; these can be used for that: %s", asked, does, strings.Join(names, ", "))
}

// CountTokens tells how many tokens the prompt of a request has, as an exchange of its own, which counts as a request and reads nothing.
func (g *Gate) CountTokens(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Request) (tokens int, err error) {
	x := g.begin(ctx, caller, from, req.Model)
	defer func() { x.close(err) }()
	x.asked = *req
	var asked exchange.Request
	aim := func(t target) error {
		asked = *req
		if t.preset != nil {
			t.preset.Apply(&asked)
			x.record.Preset = t.preset.Name
		}
		return nil
	}
	if err := x.start(want{x.fits, aim}, nil, func() (choices, error) { return g.targets(ctx, caller, from, req.Model) }); err != nil {
		return 0, err
	}
	err = x.attempt(func() (bool, error) {
		return false, recovered(func() error {
			p, err := g.lay(x.ctx, x.model, &asked)
			if err == nil {
				tokens, x.record.Reason = len(p.Tokens), string(exchange.Stopped)
			}
			return err
		})
	})
	return tokens, err
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
	p, err := g.lay(ctx, m, req)
	return m, p, err
}

// RenderRaw gives a raw prompt as the model would get it.
func (g *Gate) RenderRaw(ctx context.Context, k keyring.Key, model, text string) (catalog.Model, *prompt.Prompt, error) {
	m, _, err := g.resolve(ctx, k, model)
	if err != nil {
		return m, nil, err
	}
	p, err := g.layRaw(ctx, m, text)
	return m, p, err
}
