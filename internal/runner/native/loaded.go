package native

import (
	"errors"
	"slices"
	"sync/atomic"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/model"
	"kindredgate/internal/prompt"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
)

// loadedModel has an engine or, if the model makes embeddings, an encoder.
type loadedModel struct {
	checkpoint *weights.Checkpoint
	model      *model.Model
	tok        *tokenizer.Tokenizer
	context    int     // tokens
	ends       []int32 // tokens that end an answer, as the files say
	template   *prompt.Template
	engine     *engine.Engine
	encoder    *engine.Encoder
	override   atomic.Pointer[override]
	forms      forms
}

// override is a template in the place of the model's.
type override struct {
	source   string
	template *prompt.Template
}

// open maps the model at path. admit is asked, before anything is built, whether there is memory for weights of so many
// bytes.
func open(path string, o engine.Options, admit func(bytes int64) error) (*loadedModel, error) {
	c, err := disk.Open(path)
	if err != nil {
		return nil, err
	}
	l := &loadedModel{checkpoint: c}
	if err = admit(c.Size); err == nil {
		err = weights.Guarded(func() error { return l.assemble(o) })
	}
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return l, nil
}

func (l *loadedModel) assemble(o engine.Options) error {
	c := l.checkpoint
	m, err := model.Load(c)
	if err != nil {
		return err
	}
	l.model = m
	definition, err := c.Tokenizer()
	if err != nil {
		return err
	}
	if l.tok, err = tokenizer.New(definition); err != nil {
		return err
	}
	l.context = m.Context
	for _, id := range c.Generation.Ends {
		if id >= 0 && int(id) < l.tok.Size() && id != l.tok.EOS {
			l.ends = append(l.ends, id)
		}
	}
	if m.Embeds() {
		l.encoder, err = engine.NewEncoder(m, l.tok, o)
		return err
	}
	if c.ChatTemplate != "" {
		if l.template, err = prompt.New(c.ChatTemplate, l.tok); err != nil {
			return err
		}
	}
	l.engine, err = engine.New(m, l.tok, o)
	return err
}

// close ends what runs and unmaps the weights.
func (l *loadedModel) close() error {
	if l.engine != nil {
		l.engine.Close()
	}
	if l.encoder != nil {
		l.encoder.Close()
	}
	return l.checkpoint.Close()
}

// endings are the tokens that end an answer by a template; by none, those that the files name.
func (l *loadedModel) endings(t *prompt.Template) []int32 {
	ends := l.ends
	if t != nil {
		for _, id := range t.EndTokens() {
			if !slices.Contains(ends, id) {
				ends = append(slices.Clip(ends), id)
			}
		}
	}
	return ends
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
