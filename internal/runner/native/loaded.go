package native

import (
	"errors"
	"fmt"
	"slices"
	"sync"
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
	drafter    *draftModel // nil if there is none
	eyes       *eyes       // nil if it takes no pictures
	unfit      error       // why it is not used
	override   atomic.Pointer[override]
	faulted    func(error) bool // tells whether an error is one of reading prepared weights; nil if there are none
	forms      forms

	longestOnce sync.Once
	longest     int // bytes of a token
}

// override is a template in the place of the model's.
type override struct {
	source   string
	template *prompt.Template
}

// draftModel is a small model that guesses tokens for another.
type draftModel struct {
	checkpoint *weights.Checkpoint
	model      *model.Model
	tokens     []string
}

func openDrafter(path string) (d *draftModel, err error) {
	c, err := disk.Open(path)
	if err != nil {
		return nil, err
	}
	d = &draftModel{checkpoint: c}
	err = weights.Guarded(func() error {
		m, err := model.Load(c)
		if err != nil {
			return err
		}
		if m.Embeds() {
			return errors.New("it makes embeddings; what drafts has to predict text")
		}
		definition, err := c.Tokenizer()
		if err != nil {
			return err
		}
		d.model, d.tokens = m, definition.Tokens
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, errors.Join(err, c.Close()))
	}
	return d, nil
}

// close unmaps the weights.
func (d *draftModel) close() error {
	if d == nil {
		return nil
	}
	return d.checkpoint.Close()
}

// needs is what a model takes, in bytes.
type needs struct {
	weights int64 // those of the drafter included
	engine.Footprint
}

func (n needs) all() int64 { return n.weights + n.Contexts + n.Working }

// open maps the model at path. admit is asked, before anything is built, whether there is memory for what it needs. What drafts is closed with
// the model, or if there is an error.
func open(path string, opts Options, drafter *draftModel, admit func(needs) error) (*loadedModel, error) {
	c, err := disk.Open(path)
	if err != nil {
		return nil, errors.Join(err, drafter.close())
	}
	o := opts.Engine
	l := &loadedModel{checkpoint: c, drafter: drafter}
	need := needs{weights: c.Size}
	if drafter != nil {
		need.weights += drafter.checkpoint.Size
		o.Drafter = drafter.model
	}
	err = weights.Guarded(func() (err error) {
		if l.model, err = model.Load(c); err != nil {
			return err
		}
		if err = l.openEyes(path, &opts); err != nil {
			return err
		}
		if l.eyes != nil {
			if l.eyes.checkpoint != nil {
				need.weights += l.eyes.checkpoint.Size
			}
			if l.model.Whole {
				side := l.eyes.tower.Rule.Side
				p, err := l.eyes.tower.Rule.Plan(side, side, 0)
				if err != nil {
					return err
				}
				o.Picture = p.Tokens()
			}
		}
		need.Footprint = o.Footprint(l.model)
		if err = admit(need); err != nil {
			return err
		}
		return l.assemble(o)
	})
	if err != nil {
		return nil, errors.Join(err, l.eyes.close(), c.Close(), drafter.close())
	}
	return l, nil
}

func (l *loadedModel) assemble(o engine.Options) error {
	c, m := l.checkpoint, l.model
	definition, err := c.Tokenizer()
	if err != nil {
		return err
	}
	if l.tok, err = tokenizer.New(definition); err != nil {
		return err
	}
	if l.drafter != nil && !slices.Equal(definition.Tokens, l.drafter.tokens) {
		l.unfit = fmt.Errorf("%s has another vocabulary, of %d tokens, where the model has %d", l.drafter.checkpoint.Name, len(l.drafter.tokens), len(definition.Tokens))
		o.Drafter = nil
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
	return errors.Join(l.drafter.close(), l.eyes.close(), l.checkpoint.Close())
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
	c := conversation(req)
	c.Sight = l.sight()
	p, err := t.Render(c)
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
