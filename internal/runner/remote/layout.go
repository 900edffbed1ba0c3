package remote

import (
	"errors"
	"slices"

	"kindredgate/internal/exchange"
	"kindredgate/internal/prompt"
	"kindredgate/internal/reading"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
)

// Layout lays out prompts here, for servers whose raw completions are used: by the template and the tokenizer of a model that has the same
// ones. It is safe for concurrent use.
type Layout struct {
	template *prompt.Template
	tok      *tokenizer.Tokenizer
	ends     []string // texts that end an answer
}

// OpenLayout takes the tokenizer of the model at a path, and its template unless another one is given. Its weights are not read.
func OpenLayout(path, template string) (l *Layout, err error) {
	err = weights.Guarded(func() (err error) {
		c, err := disk.Open(path)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, c.Close()) }()
		definition, err := c.Tokenizer()
		if err != nil {
			return err
		}
		tok, err := tokenizer.New(definition)
		if err != nil {
			return err
		}
		if template == "" {
			template = c.ChatTemplate
		}
		l, err = newLayout(tok, template)
		return err
	})
	return l, err
}

func newLayout(tok *tokenizer.Tokenizer, template string) (*Layout, error) {
	t, err := prompt.New(template, tok)
	if err != nil {
		return nil, err
	}
	l := &Layout{template: t, tok: tok}
	for _, id := range append(t.EndTokens(), tok.EOS) {
		if text := tok.Text(id); text != "" && !slices.Contains(l.ends, text) {
			l.ends = append(l.ends, text)
		}
	}
	return l, nil
}

// of is the layout with the template of a request, if that has one.
func (l *Layout) of(req *exchange.Request) (*Layout, error) {
	if req.Template == "" {
		return l, nil
	}
	own, err := newLayout(l.tok, req.Template)
	if err != nil {
		return nil, exchange.InvalidParam("model", "the preset's template cannot be used: %v", err)
	}
	return own, nil
}

func conversation(req *exchange.Request) prompt.Conversation {
	return prompt.Conversation{Turns: req.Turns, Tools: req.Tools, Thinking: req.Thinking}
}

// Render lays out a request.
func (l *Layout) Render(req *exchange.Request) (*prompt.Prompt, error) {
	own, err := l.of(req)
	if err != nil {
		return nil, err
	}
	return own.template.Render(conversation(req))
}

// mostStops is how many stop strings the standard lets a raw completion have.
const mostStops = 4

// laidOut makes an attempt with a prompt that is laid out here.
func (m *Machine) laidOut(model string, req *exchange.Request) (attempt, error) {
	l, err := m.set.Layout.of(req)
	if err != nil {
		return nil, err
	}
	c := conversation(req)
	laid, err := l.template.Render(c)
	if err != nil {
		return nil, err
	}
	style := l.template.StyleOf(c)
	if err := l.shows(req, style); err != nil {
		return nil, err
	}
	if err := reserveTokens(req, len(laid.Tokens)); err != nil {
		return nil, err
	}
	can := m.Look().Of(model)
	b := rawBody{common: m.common(model, req, can), Logprobs: req.Scores}
	if b.MaxTokens == nil {
		n := m.room(model, len(laid.Tokens))
		b.MaxTokens = &n
	}
	if can.TokenPrompts != No {
		b.Prompt = laid.IDs()
	} else {
		// As a text the prompt is taken apart there, where what a user wrote could become a control token.
		raw, err := prompt.Raw(l.tok, laid.Text)
		if err != nil {
			return nil, err
		}
		if again := raw.IDs(); !slices.Equal(again, laid.IDs()) && !slices.Equal(again, l.tok.Wrap(laid.IDs())) {
			return nil, exchange.InvalidParam(exchange.Conversation, "the conversation has control tokens of the model in it, which the machine %q would take for real: it takes prompts as texts only", m.name)
		}
		b.Prompt = laid.Text
	}
	for _, end := range l.ends {
		if len(b.Stop) < mostStops {
			b.Stop = append(slices.Clip(b.Stop), end)
		}
	}
	if req.Format.Kind != exchange.FormatText {
		if can.RawFormats != Yes {
			return nil, exchange.InvalidParam("response_format", "the machine %q keeps raw completions to no format; ask for one without, or have it lay out prompts itself", m.name)
		}
		b.ResponseFormat = format(req.Format)
	}
	return m.completion(b, req, func() decoder {
		d := &laidDecoder{rawDecoder: rawDecoder{answer: newAnswer(m, req)}}
		for range d.candidates {
			d.readers = append(d.readers, reading.New(style))
		}
		return d
	})
}

// unknownRoom is how many tokens an answer may have where the server does not say what its context holds.
const unknownRoom = 2048

// room is how many tokens an answer may have that the request does not bound: a raw completion would end after 16 by the standard.
func (m *Machine) room(model string, prompt int) int {
	if there, err := m.Model(model); err == nil && there.Context > 0 {
		return max(1, there.Context-prompt)
	}
	return unknownRoom
}

// shows refuses what could not be read from the answer: marks that are control tokens do not come through a raw completion.
func (l *Layout) shows(req *exchange.Request, style reading.Style) error {
	if len(req.Tools) > 0 && !l.template.Abilities().Tools {
		return exchange.InvalidParam("tools", "the template that prompts are laid out by cannot show tools to the model; leave them out, or choose another model")
	}
	if strict := slices.ContainsFunc(req.Tools, func(t exchange.Tool) bool { return t.Strict && !t.Willing }); req.Choice.Required || strict {
		return exchange.InvalidParam("tools", "calls cannot be enforced on a machine whose prompts are rendered here: leave \"strict\" out and tool_choice to \"auto\", or have the machine lay out prompts itself")
	}
	hidden := func(mark string) bool {
		return mark != "" && slices.ContainsFunc(l.template.MarkTokens(), func(id int32) bool { return l.tok.Text(id) == mark })
	}
	if len(req.Tools) > 0 && (style.Form == reading.Channels || hidden(style.Calls.Open)) {
		return exchange.InvalidParam("tools", "the model marks calls by control tokens, which a raw completion does not show; have the machine lay out prompts itself, or leave tools out")
	}
	if style.Form == reading.Channels {
		return exchange.InvalidParam("model", "the model lays out its answers in channels, whose marks a raw completion does not show; have the machine lay out prompts itself")
	}
	if req.Thinking && hidden(style.Reasoning.Close) {
		return exchange.InvalidParam("reasoning_effort", "the model marks reasoning by control tokens, which a raw completion does not show; have the machine lay out prompts itself, or ask without reasoning")
	}
	return nil
}

// laidDecoder reads answers to prompts that were laid out here.
type laidDecoder struct {
	rawDecoder
	readers []*reading.Reader
}

func (d *laidDecoder) piece(data []byte, emit emitter) (bool, error) {
	c, err := d.m.rawChunk(data)
	if err != nil {
		return false, err
	}
	if c.Usage != nil {
		d.usage = c.Usage
	}
	return false, d.read(c, emit)
}

func (d *laidDecoder) whole(data []byte, emit emitter) error {
	c, err := d.m.rawChunk(data)
	if err != nil {
		return err
	}
	d.usage = c.Usage
	if err := d.read(c, emit); err != nil {
		return err
	}
	return d.end(true, emit)
}

func (d *laidDecoder) read(c *rawChunk, emit emitter) error {
	for i := range c.Choices {
		choice := &c.Choices[i]
		if _, err := d.at(choice.Index); err != nil {
			return err
		}
		scores, _, err := choice.scores()
		if err != nil {
			return err
		}
		if d.req.Scores == nil {
			scores = nil
		}
		r := d.readers[choice.Index]
		if err := d.give(choice.Index, r.Add(choice.Text), scores, emit); err != nil {
			return err
		}
		if word := choice.FinishReason; word != nil && *word != "" {
			rest := r.End
			if *word == "length" {
				rest = r.Cut
			}
			if err := d.give(choice.Index, rest(), nil, emit); err != nil {
				return err
			}
			if err := d.reason(choice.Index, *word); err != nil {
				return err
			}
		}
	}
	return nil
}

// give tells of pieces that were read.
func (d *laidDecoder) give(index int, pieces []reading.Piece, scores []exchange.Score, emit emitter) error {
	for _, p := range pieces {
		var err error
		switch {
		case p.Call != nil:
			err = d.call(index, len(d.candidates[index].calls), "", p.Call.Name, p.Call.Arguments, emit)
		case p.Reasoning != "":
			err = d.reasoning(index, p.Reasoning, emit)
		default:
			err = d.text(index, p.Text, scores, emit)
			scores = nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Layout lays out the machine's prompts; nil if it does that itself.
func (m *Machine) Layout() *Layout { return m.set.Layout }
