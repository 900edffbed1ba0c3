package server

import (
	"context"
	"fmt"
	"slices"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/chat"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/prompt"
)

// RenderedPrompt is a conversation as a model gets it.
type RenderedPrompt struct {
	Model         string        `json:"model"`
	Text          string        `json:"text"`
	Tokens        int           `json:"tokens"`
	ContextLength int           `json:"context_length"`
	Spans         []PromptSpan  `json:"spans"`
	Turns         []PromptTurn  `json:"turns"`
	Warnings      []string      `json:"warnings"` // what the sender may not expect
	TokenList     []PromptToken `json:"token_list"`
}

// PromptSpan is a piece of the text with one origin, by its bytes.
type PromptSpan struct {
	Start  int    `json:"start"`
	End    int    `json:"end"`
	Origin string `json:"origin"` // "template", or the field of the request that the text is from
	Line   int    `json:"line,omitempty"`
	Tokens int    `json:"tokens"` // that begin in it
	// Picture is set where it stands for one.
	Picture *PromptPicture `json:"picture,omitempty"`
}

// PromptPicture is a picture of a prompt, in pixels.
type PromptPicture struct {
	Width      int `json:"width"`
	Height     int `json:"height"`
	ReadWidth  int `json:"read_width"` // as the model sees it
	ReadHeight int `json:"read_height"`
	Tokens     int `json:"tokens"` // that stand for what it shows
}

// PromptTurn counts the tokens of a turn's own text.
type PromptTurn struct {
	Role   exchange.Role `json:"role"`
	Origin string        `json:"origin"` // what it is called in the spans, such as "messages[0]" or "preset.examples[1]"
	Tokens int           `json:"tokens"`
}

// PromptToken is a token of the text, by its bytes.
type PromptToken struct {
	ID      int32 `json:"id"`
	Start   int   `json:"start"`
	End     int   `json:"end"`
	Control bool  `json:"control,omitempty"`
}

// renderPrompt gives the prompt that a request would make. "style" says how the request is put: "chat", the default,
// takes the body of a chat request; "generate" takes prompt and instructions, which become a user and a system turn;
// "completion" takes prompt, which goes to the model as it is.
func (s *Server) renderPrompt(c *gin.Context) (any, error) {
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	out, err := s.rendered(c.Request.Context(), callerOf(c), raw)
	if err != nil {
		return nil, err
	}
	return out, nil
}

func (s *Server) rendered(ctx context.Context, k keyring.Key, raw []byte) (*RenderedPrompt, error) {
	o, err := field.Parse(raw)
	if err != nil {
		return nil, err
	}
	req, _, err := asked(o, raw)
	if err != nil {
		return nil, err
	}
	if req.Raw != nil {
		m, p, err := s.Gate.RenderRaw(ctx, k, req.Model, req.Raw.Text)
		if err != nil {
			return nil, err
		}
		return renderedPrompt(m, p, nil), nil
	}
	m, p, err := s.Gate.Render(ctx, k, &req)
	if err != nil {
		return nil, err
	}
	return renderedPrompt(m, p, req.Turns, req.Tools...), nil
}

// asked reads a request in one of the styles of renderPrompt. Fields that were read before are not unknown.
func asked(o *field.Object, raw []byte) (req exchange.Request, style dialect.Style, err error) {
	name, given := o.String("style")
	if style, _ = dialect.Find(name); !given {
		style = dialect.Chat
	}
	switch {
	case style == dialect.Chat:
		if err := o.Err(); err != nil {
			return req, style, err
		}
		call, err := chat.Decode(raw)
		if err != nil {
			return req, style, err
		}
		return call.Request, dialect.Chat, nil
	case style == dialect.Generate || style == dialect.Completion:
	default:
		o.Fail("style", "style is %q; it must be %s", name, dialect.List(dialect.Chat, dialect.Generate, dialect.Completion))
		return req, style, o.Err()
	}
	req.Model, _ = o.String("model")
	text, ok := o.String("prompt")
	if !ok {
		o.Fail("prompt", "prompt is missing")
	}
	instructions, instructed := o.String("instructions")
	if instructed && style == dialect.Completion {
		o.Fail("instructions", "a raw prompt goes to the model as it is, so it has no instructions apart")
	}
	if err := onlyKnown(o); err != nil {
		return req, style, err
	}
	if style == dialect.Completion {
		req.Raw = &exchange.Raw{Text: text}
		return req, style, nil
	}
	if instructed {
		req.Turns = append(req.Turns, exchange.Turn{Role: exchange.System, Parts: []exchange.Part{exchange.Text(instructions)}})
	}
	req.Turns = append(req.Turns, exchange.Turn{Role: exchange.User, Parts: []exchange.Part{exchange.Text(text)}})
	return req, style, nil
}

func renderedPrompt(m catalog.Model, p *prompt.Prompt, turns []exchange.Turn, tools ...exchange.Tool) *RenderedPrompt {
	out := &RenderedPrompt{Model: m.ID, Text: p.Text, Tokens: len(p.Tokens), ContextLength: m.ContextLength,
		Spans: []PromptSpan{}, Turns: []PromptTurn{}, Warnings: []string{}, TokenList: []PromptToken{}}
	for _, s := range p.Spans {
		origin := s.Origin
		if origin == "" {
			origin = "template"
		}
		span := PromptSpan{Start: s.Start, End: s.End, Origin: origin, Line: s.Line, Tokens: s.Tokens}
		for _, of := range p.Pictures {
			if h := of.Image.Seen; of.Start == s.Start && h != nil {
				span.Picture = &PromptPicture{h.Width, h.Height, of.Plan.ReadWidth, of.Plan.ReadHeight, of.Plan.Tokens()}
			}
		}
		out.Spans = append(out.Spans, span)
	}
	paths := prompt.Paths(turns)
	for i, t := range turns {
		path := paths[i]
		out.Turns = append(out.Turns, PromptTurn{t.Role, path, p.Count(path)})
		if !p.Has(path) && t.Text() != "" {
			out.Warnings = append(out.Warnings, fmt.Sprintf("the template drops %s (%s): nothing of it is in the prompt", path, t.Role))
		}
		if t.Role == exchange.System && p.Folded {
			out.Warnings = append(out.Warnings, fmt.Sprintf("the template has no system turn, so %s stands at the head of the next user turn", path))
		}
	}
	out.Warnings = append(out.Warnings, p.Warnings...)
	if len(tools) > 0 && !p.Has("tools") {
		out.Warnings = append(out.Warnings, "the template does not show the tools to the model: a request with them would be refused")
	}
	switch left := m.ContextLength - len(p.Tokens); {
	case left < 1:
		out.Warnings = append(out.Warnings, fmt.Sprintf("the prompt has %d tokens and the context holds %d: a request would be refused", len(p.Tokens), m.ContextLength))
	case left < m.ContextLength/10:
		out.Warnings = append(out.Warnings, fmt.Sprintf("the prompt leaves %d of %d tokens for the answer", left, m.ContextLength))
	}
	out.TokenList = slices.Grow(out.TokenList, len(p.Tokens))
	for _, t := range p.Tokens {
		out.TokenList = append(out.TokenList, PromptToken{t.ID, t.Start, t.End, t.Control})
	}
	return out
}
