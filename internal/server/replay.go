package server

import (
	"errors"
	"math"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/replay"
)

// replayExchange asks what was recorded again, with what the body wants otherwise.
func (s *Server) replayExchange(c *gin.Context) (any, error) {
	ctx := c.Request.Context()
	id := keyring.Redact(c.Param("id"))
	e, err := s.Ledger.Exchange(ctx, id)
	if err != nil {
		return nil, err
	}
	content, err := s.Contents.Content(ctx, e.ID)
	if errors.Is(err, kept.ErrMissing) {
		err = exchange.Errorf(exchange.NotFound, "not_recorded", "the content of %s was not recorded, so it cannot be asked again; \"record: { content: true }\" in the settings, or a key changed with --record-content yes, has it recorded", id)
	}
	if err != nil {
		return nil, err
	}
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	change := changeOf(o)
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	from := origin(c, dialect.Style(e.Style))
	from.Parent = e.ID
	r, err := replay.Run(ctx, s.Gate, callerOf(c), from, e, content, change)
	if err != nil {
		return nil, err
	}
	return r, nil
}

func changeOf(o *field.Object) (change replay.Change) {
	change.Model, _ = o.String("model")
	change.Template, _ = o.String("template")
	change.Style, _ = o.String("style")
	if text, ok := o.String("instructions"); ok {
		change.Instructions = &text
	}
	change.Temperature, change.TopP = o.Float("temperature", 0, 2), o.Float("top_p", 0, 1)
	change.Seed = o.Int("seed", math.MinInt64, math.MaxInt64)
	if n := o.Int("max_tokens", 1, 1<<31-1); n != nil {
		change.MaxTokens = int(*n)
	}
	if _, ok := o.Raw("reasoning"); ok {
		yes := o.Bool("reasoning")
		change.Reasoning = &yes
	}
	return change
}

// Measured is how likely an answer is behind a prompt.
type Measured struct {
	Model        string          `json:"model"`
	PromptTokens int             `json:"prompt_tokens"`
	LogProb      float64         `json:"logprob"` // of the whole answer, by natural logarithm
	Tokens       []MeasuredToken `json:"tokens"`
}

// MeasuredToken is a token of the answer, with what might have stood in its place, most likely first.
type MeasuredToken struct {
	Text    string         `json:"text"`
	LogProb float64        `json:"logprob"`
	Top     []replay.Token `json:"top"`
}

// measuredAlternatives is with how many others tokens are told.
const measuredAlternatives = 3

// measurePrompt tells how likely a wanted answer is behind the prompt that a request would make. The body is that of renderPrompt, with the
// answer, and perhaps a template in the place of the model's.
func (s *Server) measurePrompt(c *gin.Context) (any, error) {
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	o, err := field.Parse(raw)
	if err != nil {
		return nil, err
	}
	answer, ok := o.String("answer")
	if !ok || answer == "" {
		o.Fail("answer", "answer is missing: the text whose likelihood is wanted")
	}
	template, _ := o.String("template")
	req, style, err := asked(o, raw)
	if err != nil {
		return nil, err
	}
	req.Template = template
	scores, prompt, err := s.Gate.Measure(c.Request.Context(), callerOf(c), origin(c, style), req, answer, measuredAlternatives)
	if err != nil {
		return nil, err
	}
	out := Measured{Model: req.Model, PromptTokens: prompt, Tokens: []MeasuredToken{}}
	for _, score := range scores {
		t := MeasuredToken{Text: score.Text, LogProb: score.LogProb, Top: []replay.Token{}}
		for _, other := range score.Top {
			t.Top = append(t.Top, replay.Token{Text: other.Text, LogProb: other.LogProb})
		}
		out.LogProb += score.LogProb
		out.Tokens = append(out.Tokens, t)
	}
	return out, nil
}
