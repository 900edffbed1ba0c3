// Package native answers requests with the gate's own engine: it loads weight files when they are first asked
// for and keeps them.
package native

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"iter"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/model"
	"kindredgate/internal/prompt"
	"kindredgate/internal/reading"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights/gguf"
)

// Runner holds the loaded models. It is safe for concurrent use.
type Runner struct {
	opts engine.Options

	mu     sync.Mutex
	loaded map[string]*entry // by path
	closed bool
}

// entry is a model that is loaded, or being loaded.
type entry struct {
	ready chan struct{} // closed when the rest is set
	err   error
	*loadedModel
}

type loadedModel struct {
	file     *gguf.File
	tok      *tokenizer.Tokenizer
	template *prompt.Template
	engine   *engine.Engine
	override atomic.Pointer[override]
}

// override is a template in the place of the model's.
type override struct {
	source   string
	template *prompt.Template
}

// New makes a runner whose engines have the given sizes.
func New(o engine.Options) *Runner {
	return &Runner{opts: o, loaded: map[string]*entry{}}
}

// Close unloads all models; answers that run end with an error.
func (r *Runner) Close() error {
	r.mu.Lock()
	r.closed = true
	loaded := r.loaded
	r.loaded = nil
	r.mu.Unlock()
	var errs []error
	for _, e := range loaded {
		<-e.ready
		if e.err == nil {
			e.engine.Close()
			errs = append(errs, e.file.Close())
		}
	}
	return errors.Join(errs...)
}

// Loaded reports whether the weights at path are in use.
func (r *Runner) Loaded(path string) bool {
	r.mu.Lock()
	e := r.loaded[path]
	r.mu.Unlock()
	if e == nil {
		return false
	}
	select {
	case <-e.ready:
		return e.err == nil
	default:
		return false
	}
}

// get returns the model at path, loading it if nobody has. A failure is not kept: the file may be mended.
func (r *Runner) get(path string) (*loadedModel, error) {
	r.mu.Lock()
	if r.closed {
		r.mu.Unlock()
		return nil, exchange.Errorf(exchange.Unavailable, "shutting_down", "the gate is shutting down")
	}
	e, ok := r.loaded[path]
	if !ok {
		e = &entry{ready: make(chan struct{})}
		r.loaded[path] = e
	}
	r.mu.Unlock()
	if ok {
		<-e.ready
	} else {
		r.fill(e, path)
	}
	if e.err != nil {
		return nil, &exchange.Error{Kind: exchange.Unavailable, Code: "runner_unavailable",
			Message: fmt.Sprintf("the model's weights could not be loaded: %s", cause(path, e.err)), Err: e.err}
	}
	return e.loadedModel, nil
}

// fill loads a model into its entry. Those who wait for it are let go whatever happens, a panic included.
func (r *Runner) fill(e *entry, path string) {
	e.err = errors.New("loading did not come to its end")
	defer func() {
		if e.err != nil {
			r.mu.Lock()
			delete(r.loaded, path)
			r.mu.Unlock()
		}
		close(e.ready)
	}()
	e.loadedModel, e.err = r.load(path)
}

// cause leaves the path on the gate's disk out of what a client is told.
func cause(path string, err error) string {
	if p := (*os.PathError)(nil); errors.As(err, &p) {
		return p.Err.Error()
	}
	return strings.TrimPrefix(err.Error(), path+": ")
}

func (r *Runner) load(path string) (*loadedModel, error) {
	f, err := gguf.Open(path)
	if err != nil {
		return nil, err
	}
	l, err := r.assemble(f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return l, nil
}

func (r *Runner) assemble(f *gguf.File) (*loadedModel, error) {
	m, err := model.Load(f)
	if err != nil {
		return nil, err
	}
	tok, err := tokenizer.FromGGUF(f.Metadata)
	if err != nil {
		return nil, err
	}
	l := &loadedModel{file: f, tok: tok}
	if source, err := f.Metadata.String("tokenizer.chat_template"); err == nil {
		if l.template, err = prompt.New(source, tok); err != nil {
			return nil, err
		}
	}
	l.engine, err = engine.New(m, tok, r.opts)
	return l, err
}

// Render lays out a request as the model at path would get it.
func (r *Runner) Render(path string, req *exchange.Request) (*prompt.Prompt, error) {
	l, err := r.get(path)
	if err != nil {
		return nil, err
	}
	p, _, err := l.render(req)
	return p, err
}

// CheckTemplate reports what is wrong with a template for the model at path: it must parse, and lay out a question.
func (r *Runner) CheckTemplate(path, source string) error {
	l, err := r.get(path)
	if err != nil {
		return err
	}
	t, err := prompt.New(source, l.tok)
	if err != nil {
		return err
	}
	const probe = "the words of a question"
	p, err := t.Render(prompt.Conversation{Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(probe)}}}})
	if err == nil && !strings.Contains(p.Text, probe) {
		err = errors.New("what a user says does not appear in its prompt")
	}
	return err
}

// RenderRaw gives a raw prompt as the model at path would get it.
func (r *Runner) RenderRaw(path, text string) (*prompt.Prompt, error) {
	l, err := r.get(path)
	if err != nil {
		return nil, err
	}
	return prompt.Raw(l.tok, text), nil
}

// render lays out a request, and says by which template.
func (l *loadedModel) render(req *exchange.Request) (*prompt.Prompt, *prompt.Template, error) {
	t, err := l.templateFor(req.Template)
	if err != nil {
		return nil, nil, err
	}
	p, err := t.Render(conversation(req))
	return p, t, err
}

func conversation(req *exchange.Request) prompt.Conversation {
	return prompt.Conversation{Turns: req.Turns, Tools: req.Tools, Thinking: req.Thinking}
}

// templateFor is the model's own template, or the one that takes its place. Parsing and probing take a while, so the
// last of these is kept.
func (l *loadedModel) templateFor(source string) (*prompt.Template, error) {
	if source == "" {
		if l.template == nil {
			return nil, exchange.InvalidParam("model", "the model has no chat template, so it cannot take a conversation; send it a raw prompt")
		}
		return l.template, nil
	}
	if o := l.override.Load(); o != nil && o.source == source {
		return o.template, nil
	}
	t, err := prompt.New(source, l.tok)
	if err != nil {
		return nil, exchange.InvalidParam("model", "the preset's template cannot be used: %v", err)
	}
	l.override.Store(&override{source, t})
	return t, nil
}

// Run answers a request with the weights at path.
func (r *Runner) Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		begun := time.Now()
		loaded := r.Loaded(path)
		l, err := r.get(path)
		if err != nil {
			yield(nil, err)
			return
		}
		var load time.Duration
		if !loaded {
			load = time.Since(begun)
		}
		p, t, err := l.render(req)
		if err == nil && len(req.Tools) > 0 && !t.Abilities().Tools {
			err = exchange.InvalidParam("tools", "the model's template cannot show tools to the model; leave them out, or choose another model")
		}
		if err != nil {
			yield(nil, err)
			return
		}
		job := engine.Job{Prompt: p.IDs(), MaxTokens: req.MaxTokens, Stop: req.Stop, Shown: t.MarkTokens(), Ends: t.EndTokens()}
		for event, err := range l.candidates(ctx, job, req, t.StyleOf(conversation(req))) {
			if started, ok := event.(exchange.Started); ok {
				started.Timings.Load = load
				event = started
			}
			if !yield(event, err) || err != nil {
				return
			}
		}
	}
}

// candidates runs the answers of a request side by side, and reads each by the style.
func (l *loadedModel) candidates(ctx context.Context, job engine.Job, req *exchange.Request, style reading.Style) iter.Seq2[exchange.Event, error] {
	sampling := sampling(req.Sampling)
	n := max(1, req.Candidates)
	return func(yield func(exchange.Event, error) bool) {
		type item struct {
			candidate int
			step      engine.Step
			err       error
		}
		ctx, cancel := context.WithCancel(ctx)
		items := make(chan item)
		var running sync.WaitGroup
		defer func() {
			cancel()
			running.Wait()
		}()
		for i := range n {
			job.Sampling = sampling
			job.Sampling.Seed += uint64(i) // each candidate draws for itself
			own := job
			running.Go(func() {
				for step, err := range l.engine.Generate(ctx, own) {
					select {
					case items <- item{i, step, err}:
					case <-ctx.Done():
						return
					}
				}
			})
		}
		readers := make([]*candidate, n)
		for i := range readers {
			readers[i] = &candidate{index: i, reader: reading.New(style)}
		}
		for started, left := false, n; left > 0; {
			var it item
			select {
			case it = <-items:
			case <-ctx.Done():
				yield(nil, context.Cause(ctx))
				return
			}
			if it.err != nil {
				yield(nil, inWords(it.err))
				return
			}
			if !started {
				started = true
				if !yield(exchange.Started{PromptTokens: len(job.Prompt), Timings: exchange.Timings{Queue: it.step.Queue, Prefill: it.step.Prefill}}, nil) {
					return
				}
			}
			for _, event := range readers[it.candidate].events(it.step) {
				if !yield(event, nil) {
					return
				}
			}
			if it.step.Ended {
				left--
			}
		}
	}
}

// candidate turns the steps of one answer into events.
type candidate struct {
	index  int
	reader *reading.Reader
	tokens int // generated
	told   int // of these, those that events have told of
	calls  int
}

func (c *candidate) events(step engine.Step) (list []exchange.Event) {
	c.tokens++
	pieces := c.reader.Add(step.Text)
	if step.Ended {
		pieces = append(pieces, c.reader.End()...)
	}
	for _, p := range pieces {
		tokens := c.tokens - c.told
		c.told = c.tokens
		switch {
		case p.Call != nil:
			call := exchange.ToolCall{ID: "call_" + strings.ToLower(rand.Text()), Name: p.Call.Name, Arguments: p.Call.Arguments}
			list = append(list, exchange.ToolCalled{Candidate: c.index, Index: c.calls, Call: call, Tokens: tokens})
			c.calls++
		case p.Reasoning != "":
			list = append(list, exchange.ReasoningDelta{Candidate: c.index, Text: p.Reasoning, Tokens: tokens})
		default:
			list = append(list, exchange.TextDelta{Candidate: c.index, Text: p.Text, Tokens: tokens})
		}
	}
	if step.Ended {
		reason := exchange.Stopped
		switch {
		case step.Cut:
			reason = exchange.Length
		case c.calls > 0:
			reason = exchange.Called
		}
		list = append(list, exchange.Finish{Candidate: c.index, Reason: reason, Tokens: c.tokens, Malformed: c.reader.Malformed()})
	}
	return list
}

// inWords puts the engine's errors into words for a client.
func inWords(err error) error {
	var tooLong *engine.ContextError
	switch {
	case errors.As(err, &tooLong):
		return &exchange.Error{Kind: exchange.Invalid, Code: "context_length_exceeded", Param: "messages",
			Message: fmt.Sprintf("%v; shorten the conversation", tooLong)}
	case errors.Is(err, engine.ErrQueueFull):
		return &exchange.Error{Kind: exchange.Limited, Code: "queue_full", RetryAfter: 2 * time.Second,
			Message: "too many requests are waiting for the model; try again in a few seconds"}
	case errors.Is(err, engine.ErrClosed):
		return exchange.Errorf(exchange.Unavailable, "shutting_down", "the model was unloaded while it answered")
	}
	return err
}

// sampling fills in what nobody chose: the distribution as the model gives it, and a seed by chance.
func sampling(s exchange.Sampling) engine.Sampling {
	out := engine.Sampling{
		LogitBias:        s.LogitBias,
		FrequencyPenalty: s.FrequencyPenalty,
		PresencePenalty:  s.PresencePenalty,
		Temperature:      1,
		Seed:             engine.RandomSeed(),
	}
	if s.Temperature != nil {
		out.Temperature = *s.Temperature
	}
	if s.TopP != nil {
		out.TopP = *s.TopP
	}
	if s.TopK != nil {
		out.TopK = *s.TopK
	}
	if s.Seed != nil {
		out.Seed = uint64(*s.Seed)
	}
	return out
}
