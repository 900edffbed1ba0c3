package remote

import (
	"encoding/json"
	"strings"

	"kindredgate/internal/exchange"
)

// This file is the raw completion style as its client.

type rawBody struct {
	common
	Prompt         any    `json:"prompt"` // a text, or tokens
	Suffix         string `json:"suffix,omitempty"`
	Echo           bool   `json:"echo,omitempty"`
	Logprobs       *int   `json:"logprobs,omitempty"`
	ResponseFormat any    `json:"response_format,omitempty"`

	User json.RawMessage `json:"user,omitempty"` // if it is carried
}

// raw makes an attempt with a prompt that goes to the model as it is.
func (m *Machine) raw(model string, req *exchange.Request) (attempt, error) {
	if err := reserve(req); err != nil {
		return nil, err
	}
	b := rawBody{common: m.common(model, req, m.Look().Of(model)), Prompt: req.Raw.Text, Suffix: req.Raw.Suffix, Echo: req.Raw.Echo, Logprobs: req.Scores, User: m.carried(req, "user")}
	if req.Raw.Tokens != nil {
		b.Prompt = req.Raw.Tokens
	}
	if req.Raw.Echo {
		// What is the prompt's and what the answer's shows when both are there.
		b.Stream, b.StreamOptions = false, nil
	}
	if req.Raw.NoAnswer {
		b.MaxTokens = new(int)
	}
	return m.completion(b, req, func() decoder { return &rawDecoder{answer: newAnswer(m, req)} })
}

func (m *Machine) completion(b rawBody, req *exchange.Request, decode func() decoder) (attempt, error) {
	body, err := json.Marshal(b)
	if err != nil {
		return nil, err
	}
	return m.attempt(call{path: rawPath, body: body, req: req, decode: decode}), nil
}

// rawChunk is a piece of a stream, or a whole answer.
type rawChunk struct {
	Error   json.RawMessage `json:"error"`
	Choices []rawChoice     `json:"choices"`
	Usage   *usage          `json:"usage"`
}

type rawChoice struct {
	Index        int     `json:"index"`
	Text         string  `json:"text"`
	FinishReason *string `json:"finish_reason"`
	Logprobs     *struct {
		Tokens  []string             `json:"tokens"`
		Scores  []*float64           `json:"token_logprobs"`
		Top     []map[string]float64 `json:"top_logprobs"`
		Offsets []int                `json:"text_offset"`
	} `json:"logprobs"`
}

// scores are the tokens with their log-probabilities. Those without one come without.
func (c *rawChoice) scores() (list []exchange.Score, offsets []int, err error) {
	l := c.Logprobs
	if l == nil {
		return nil, nil, nil
	}
	if len(l.Scores) != len(l.Tokens) || len(l.Top) != 0 && len(l.Top) != len(l.Tokens) || len(l.Offsets) != 0 && len(l.Offsets) != len(l.Tokens) {
		return nil, nil, broken("the lists of log-probabilities differ in length")
	}
	for i, token := range l.Tokens {
		s := exchange.Score{Text: token}
		if l.Scores[i] != nil {
			s.LogProb = *l.Scores[i]
		}
		if len(l.Top) > 0 {
			for text, p := range l.Top[i] {
				s.Top = append(s.Top, exchange.Score{Text: text, LogProb: p})
			}
			sortScores(s.Top)
			s.Top = s.Top[:min(len(s.Top), mostAlternatives)]
		}
		list = append(list, s)
	}
	return list, l.Offsets, nil
}

// rawDecoder makes events of pieces of raw completions.
type rawDecoder struct{ answer }

func (d *rawDecoder) piece(data []byte, emit emitter) (bool, error) {
	c, err := d.m.rawChunk(data)
	if err != nil {
		return false, err
	}
	if c.Usage != nil {
		d.usage = c.Usage
	}
	for i := range c.Choices {
		if err := d.take(&c.Choices[i], emit); err != nil {
			return false, err
		}
	}
	return false, nil
}

func (m *Machine) rawChunk(data []byte) (*rawChunk, error) {
	var c rawChunk
	if err := json.Unmarshal(data, &c); err != nil {
		return nil, broken("a piece of it is not what the completion style has: %v", err)
	}
	if len(c.Error) > 0 && string(c.Error) != "null" {
		return nil, m.streamError(c.Error)
	}
	return &c, nil
}

func (d *rawDecoder) take(choice *rawChoice, emit emitter) error {
	scores, _, err := choice.scores()
	if err != nil {
		return err
	}
	if d.req.Scores == nil {
		scores = nil
	}
	if err := d.text(choice.Index, choice.Text, scores, emit); err != nil {
		return err
	}
	if r := choice.FinishReason; r != nil && *r != "" {
		return d.reason(choice.Index, *r)
	}
	return nil
}

func (d *rawDecoder) whole(data []byte, emit emitter) error {
	c, err := d.m.rawChunk(data)
	if err != nil {
		return err
	}
	d.usage = c.Usage
	if d.req.Raw != nil && d.req.Raw.Echo {
		if err := d.echoed(c, emit); err != nil {
			return err
		}
	}
	for i := range c.Choices {
		if err := d.take(&c.Choices[i], emit); err != nil {
			return err
		}
	}
	return d.end(true, emit)
}

// echoed takes the prompt off the answers, at whose heads it stands.
func (d *rawDecoder) echoed(c *rawChunk, emit emitter) error {
	prompt := d.req.Raw.Text
	for i := range c.Choices {
		choice := &c.Choices[i]
		scores, offsets, err := choice.scores()
		if err != nil {
			return err
		}
		if d.req.Raw.Tokens != nil {
			// How long the prompt is as a text is known only by its tokens.
			prompt = ""
			if len(scores) >= len(d.req.Raw.Tokens) {
				for _, s := range scores[:len(d.req.Raw.Tokens)] {
					prompt += s.Text
				}
			}
		}
		rest, ok := strings.CutPrefix(choice.Text, prompt)
		if !ok {
			return broken("the prompt was to be repeated, and is not there")
		}
		echo := &exchange.Echo{Text: prompt}
		n := 0
		for n < len(scores) && n < len(offsets) && offsets[n] < len([]rune(prompt)) {
			n++
		}
		if n > 0 {
			echo.Scores = scores[:n]
			if choice.Logprobs.Scores[0] == nil {
				echo.First, echo.Scores = scores[0].Text, scores[1:n] // before it is nothing to score it by
			}
			choice.Logprobs.Tokens, choice.Logprobs.Scores = choice.Logprobs.Tokens[n:], choice.Logprobs.Scores[n:]
			choice.Logprobs.Offsets = offsets[n:]
			if len(choice.Logprobs.Top) > 0 {
				choice.Logprobs.Top = choice.Logprobs.Top[n:]
			}
		}
		choice.Text = rest
		if i == 0 && !d.begin(emit, exchange.Started{Echo: echo}) {
			return nil
		}
	}
	return nil
}
