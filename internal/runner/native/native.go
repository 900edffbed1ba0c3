// Package native answers requests with the gate's own engine: it loads weight files when they are first asked
// for and keeps them.
package native

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/model"
	"kindredgate/internal/prompt"
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

// loadedModel has an engine or, if the model makes embeddings, an encoder.
type loadedModel struct {
	file     *gguf.File
	tok      *tokenizer.Tokenizer
	context  int // tokens
	template *prompt.Template
	engine   *engine.Engine
	encoder  *engine.Encoder
	override atomic.Pointer[override]
	forms    forms
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
			if e.engine != nil {
				e.engine.Close()
			}
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
	l := &loadedModel{file: f, tok: tok, context: m.ContextLength}
	if m.Embeds() {
		l.encoder, err = engine.NewEncoder(m, tok, r.opts)
		return l, err
	}
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
