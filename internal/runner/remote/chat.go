package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kindredgate/internal/exchange"
	"kindredgate/internal/sampling"
)

// This file is the chat style as its client: a neutral request becomes a body, and chunks become events.

// Paths of the protocol, below the URL.
const (
	modelsPath    = "models"
	chatPath      = "chat/completions"
	rawPath       = "completions"
	responsesPath = "responses"
	vectorsPath   = "embeddings"
	rankPath      = "rerank"
)

// common are the fields that the chat and the raw style share.
type common struct {
	Model         string         `json:"model"`
	Stream        bool           `json:"stream,omitempty"`
	StreamOptions *streamOptions `json:"stream_options,omitempty"`
	MaxTokens     *int           `json:"max_tokens,omitempty"`
	NewMaxTokens  *int           `json:"max_completion_tokens,omitempty"` // of the chat style, in the place of MaxTokens
	N             int            `json:"n,omitempty"`
	Stop          []string       `json:"stop,omitempty"`
	sampling.Settings
	Seed             *int64             `json:"seed,omitempty"`
	FrequencyPenalty float64            `json:"frequency_penalty,omitempty"`
	PresencePenalty  float64            `json:"presence_penalty,omitempty"`
	LogitBias        map[string]float64 `json:"logit_bias,omitempty"`
}

type streamOptions struct {
	IncludeUsage bool `json:"include_usage"`
}

func (m *Machine) common(model string, req *exchange.Request, can Abilities) common {
	s := req.Sampling
	c := common{Model: model, Stream: can.Streams != No, Stop: req.Stop, Settings: s.Settings,
		Seed: s.Seed, FrequencyPenalty: s.FrequencyPenalty, PresencePenalty: s.PresencePenalty}
	if c.Stream && can.Usage != No {
		c.StreamOptions = &streamOptions{true}
	}
	if req.MaxTokens > 0 {
		c.MaxTokens = &req.MaxTokens
	}
	if req.Candidates > 1 {
		c.N = req.Candidates
	}
	if len(s.LogitBias) > 0 {
		c.LogitBias = map[string]float64{}
		for id, bias := range s.LogitBias {
			c.LogitBias[strconv.Itoa(int(id))] = bias
		}
	}
	return c
}

type chatBody struct {
	common
	Messages        []message `json:"messages"`
	Tools           []tool    `json:"tools,omitempty"`
	ToolChoice      any       `json:"tool_choice,omitempty"`
	Parallel        *bool     `json:"parallel_tool_calls,omitempty"`
	ResponseFormat  any       `json:"response_format,omitempty"`
	ReasoningEffort string    `json:"reasoning_effort,omitempty"`
	Logprobs        bool      `json:"logprobs,omitempty"`
	TopLogprobs     *int      `json:"top_logprobs,omitempty"`

	// Fields that are carried.
	Verbosity        json.RawMessage `json:"verbosity,omitempty"`
	Prediction       json.RawMessage `json:"prediction,omitempty"`
	Metadata         json.RawMessage `json:"metadata,omitempty"`
	User             json.RawMessage `json:"user,omitempty"`
	ServiceTier      json.RawMessage `json:"service_tier,omitempty"`
	SafetyIdentifier json.RawMessage `json:"safety_identifier,omitempty"`
	PromptCacheKey   json.RawMessage `json:"prompt_cache_key,omitempty"`
}

// carried is a field that a request carries, if the machine may have it; nil if not.
func (m *Machine) carried(req *exchange.Request, name string) json.RawMessage {
	if !slices.Contains(m.set.Fields, name) {
		return nil
	}
	return req.Carried[name]
}

type message struct {
	Role       exchange.Role `json:"role"`
	Name       string        `json:"name,omitempty"`
	Content    any           `json:"content"` // a text, a list of parts, or null
	ToolCalls  []toolCall    `json:"tool_calls,omitempty"`
	ToolCallID string        `json:"tool_call_id,omitempty"`
	Refusal    string        `json:"refusal,omitempty"`
}

type toolCall struct {
	ID       string       `json:"id"`
	Type     string       `json:"type"`
	Function calledByName `json:"function"`
}

type calledByName struct {
	Name      string `json:"name"`
	Arguments string `json:"arguments"`
}

type tool struct {
	Type     string   `json:"type"`
	Function function `json:"function"`
}

type function struct {
	Name        string          `json:"name"`
	Description string          `json:"description,omitempty"`
	Parameters  json.RawMessage `json:"parameters,omitempty"`
	Strict      *bool           `json:"strict,omitempty"`
}

type part struct {
	Type     string    `json:"type"`
	Text     string    `json:"text,omitempty"`
	ImageURL *imageURL `json:"image_url,omitempty"`
}

type imageURL struct {
	URL    string `json:"url"`
	Detail string `json:"detail,omitempty"`
}

// formatName is what a schema is called, since the standard wants a name and the neutral form has none.
const formatName = "answer"

// chat makes an attempt in the chat style.
func (m *Machine) chat(model string, req *exchange.Request) (attempt, error) {
	if err := reserve(req); err != nil {
		return nil, err
	}
	b := chatBody{common: m.common(model, req, m.Look().Of(model)), Messages: messages(req.Turns)}
	for _, t := range req.Tools {
		f := function{Name: t.Name, Description: t.Description, Parameters: t.Parameters, Strict: t.Said}
		b.Tools = append(b.Tools, tool{"function", f})
	}
	b.ToolChoice, b.Parallel = choice(req, func(name string) any {
		return map[string]any{"type": "function", "function": map[string]string{"name": name}}
	})
	b.ResponseFormat = format(req.Format)
	b.ReasoningEffort = effort(req)
	if req.Scores != nil {
		b.Logprobs, b.TopLogprobs = true, req.Scores
	}
	b.Verbosity, b.Prediction, b.Metadata, b.User = m.carried(req, "verbosity"), m.carried(req, "prediction"), m.carried(req, "metadata"), m.carried(req, "user")
	b.ServiceTier, b.SafetyIdentifier, b.PromptCacheKey = m.carried(req, "service_tier"), m.carried(req, "safety_identifier"), m.carried(req, "prompt_cache_key")
	send := func(b chatBody) (attempt, error) {
		body, err := json.Marshal(b)
		return m.attempt(call{path: chatPath, body: body, req: req, decode: func() decoder {
			return &chatDecoder{answer: newAnswer(m, req)}
		}}), err
	}
	if req.MaxTokens == 0 {
		return send(b)
	}
	return m.limited(model, req, b, send)
}

// limited makes an attempt with the limit of tokens under the name that the request has for it. Servers know one name, or the other, or both: one
// that is refused is sent once more with the other, which later requests have at once.
func (m *Machine) limited(model string, req *exchange.Request, b chatBody, send func(chatBody) (attempt, error)) (attempt, error) {
	wanted := &m.model(model).limit
	name := req.LimitField()
	if known := wanted.Load(); known != nil {
		name = *known
	}
	try, err := send(b.limitedBy(name))
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context, yield func(exchange.Event) bool) error {
		err := try(ctx, yield)
		var status *statusError
		if !errors.As(err, &status) || status.inside || !cannot(err) || status.param != name && !strings.Contains(status.message, name) {
			return err
		}
		other := exchange.LimitFields[0]
		if name == other {
			other = exchange.LimitFields[1]
		}
		again, failed := send(b.limitedBy(other))
		if failed != nil {
			return failed
		}
		if second := again(ctx, yield); !cannot(second) {
			wanted.Store(&other)
			return second
		}
		return err // what was wrong the first time, in the words of the name that the client used
	}, nil
}

// limitedBy is the body with its limit of tokens under a name.
func (b chatBody) limitedBy(name string) chatBody {
	if name == exchange.LimitFields[1] {
		b.MaxTokens, b.NewMaxTokens = nil, b.MaxTokens
	}
	return b
}

// effort is how much a model is to reason: what the request says, in its own words, and something in the middle where it only says that it should.
func effort(req *exchange.Request) string {
	if req.Effort == "" && req.Thinking {
		return "medium"
	}
	return req.Effort
}

// choice says how tools may be called; one gives the form in which a style names one of them.
func choice(req *exchange.Request, one func(name string) any) (of any, parallel *bool) {
	if len(req.Tools) == 0 {
		return nil, nil
	}
	c := req.Choice
	if c.Single {
		parallel = new(bool)
	}
	switch {
	case !c.Required:
		return nil, parallel // those that may not be called are not among the tools
	case len(c.Names) == 1:
		return one(c.Names[0]), parallel
	}
	return "required", parallel
}

func format(f exchange.Format) any {
	switch f.Kind {
	case exchange.FormatObject:
		return map[string]string{"type": "json_object"}
	case exchange.FormatSchema:
		return map[string]any{"type": "json_schema", "json_schema": map[string]any{"name": formatName, "schema": f.Schema, "strict": f.Strict}}
	case exchange.FormatText:
	}
	return nil
}

func messages(turns []exchange.Turn) []message {
	list := make([]message, 0, len(turns))
	for _, t := range turns {
		msg := message{Role: t.Role, Name: t.Name}
		var parts []part
		pictured := false
		for _, p := range t.Parts {
			switch p := p.(type) {
			case exchange.Text:
				parts = append(parts, part{Type: "text", Text: string(p)})
			case exchange.Refusal:
				msg.Refusal += string(p)
			case exchange.Image:
				shown := part{Type: "image_url", ImageURL: &imageURL{p.URL, p.Detail}}
				if n := len(list); t.Role == exchange.ToolRole && n > 0 { // with the result before it
					switch before := list[n-1].Content.(type) {
					case string:
						list[n-1].Content = []part{{Type: "text", Text: before}, shown}
					case []part:
						list[n-1].Content = append(before, shown)
					}
					continue
				}
				pictured = true
				parts = append(parts, shown)
			case exchange.ToolCall:
				msg.ToolCalls = append(msg.ToolCalls, toolCall{p.ID, "function", calledByName{p.Name, p.Arguments}})
			case exchange.ToolResult:
				// Each result is a message of its own.
				list = append(list, message{Role: exchange.ToolRole, Name: t.Name, Content: p.Content, ToolCallID: p.CallID})
			}
		}
		switch {
		case t.Role == exchange.ToolRole:
			continue
		case pictured:
			msg.Content = parts
		case len(parts) > 0 || len(msg.ToolCalls) == 0 && msg.Refusal == "":
			text := ""
			for _, p := range parts {
				text += p.Text
			}
			msg.Content = text
		}
		list = append(list, msg)
	}
	return list
}

// chatChunk is a piece of a stream, or a whole answer, which has a message in the place of a delta.
type chatChunk struct {
	Error   json.RawMessage `json:"error"`
	Choices []struct {
		Index        int       `json:"index"`
		Delta        chatDelta `json:"delta"`
		Message      chatDelta `json:"message"`
		FinishReason *string   `json:"finish_reason"`
		Logprobs     *struct {
			Content []tokenScore `json:"content"`
		} `json:"logprobs"`
	} `json:"choices"`
	Usage *usage `json:"usage"`
}

type chatDelta struct {
	Content          *string `json:"content"`
	Refusal          *string `json:"refusal"`
	ReasoningContent string  `json:"reasoning_content"`
	Reasoning        string  `json:"reasoning"`
	Annotations      []struct {
		Citation *citation `json:"url_citation"`
	} `json:"annotations"`
	ToolCalls []struct {
		Index    *int   `json:"index"`
		ID       string `json:"id"`
		Function struct {
			Name      string          `json:"name"`
			Arguments json.RawMessage `json:"arguments"`
		} `json:"function"`
	} `json:"tool_calls"`
}

// citation is where a part of a text comes from.
type citation struct {
	Start int    `json:"start_index"`
	End   int    `json:"end_index"`
	URL   string `json:"url"`
	Title string `json:"title"`
}

func (c citation) neutral() exchange.Citation {
	return exchange.Citation{URL: c.URL, Title: c.Title, Start: c.Start, End: c.End}
}

// tokenScore is the log-probability of a token.
type tokenScore struct {
	Token   string       `json:"token"`
	LogProb float64      `json:"logprob"`
	Bytes   []int        `json:"bytes"`
	Top     []tokenScore `json:"top_logprobs"`
}

// mostAlternatives bounds those that a token comes with.
const mostAlternatives = 32

func (s tokenScore) score() exchange.Score {
	out := exchange.Score{Text: s.Token, LogProb: s.LogProb}
	if len(s.Bytes) > 0 {
		raw := make([]byte, len(s.Bytes))
		for i, b := range s.Bytes {
			raw[i] = byte(b)
		}
		out.Text = string(raw)
	}
	for _, t := range s.Top[:min(len(s.Top), mostAlternatives)] {
		out.Top = append(out.Top, tokenScore{Token: t.Token, LogProb: t.LogProb, Bytes: t.Bytes}.score())
	}
	return out
}

// chatDecoder makes events of chunks.
type chatDecoder struct{ answer }

func (d *chatDecoder) piece(data []byte, emit emitter) (bool, error) {
	if index, text, ok := textPiece(data); ok {
		return false, d.gather(index, text, emit)
	}
	if err := d.flush(emit); err != nil {
		return false, err
	}
	var c chatChunk
	if err := json.Unmarshal(data, &c); err != nil {
		return false, broken("a piece of it is not what the chat style has: %v", err)
	}
	return false, d.take(&c, emit)
}

func (d *chatDecoder) take(c *chatChunk, emit emitter) error {
	if len(c.Error) > 0 && string(c.Error) != "null" {
		return d.m.streamError(c.Error)
	}
	if c.Usage != nil {
		d.usage = c.Usage
	}
	for i := range c.Choices {
		choice := &c.Choices[i]
		var scores []exchange.Score
		if choice.Logprobs != nil && d.req.Scores != nil {
			for _, s := range choice.Logprobs.Content {
				scores = append(scores, s.score())
			}
		}
		for _, delta := range []*chatDelta{&choice.Delta, &choice.Message} {
			if err := d.delta(choice.Index, delta, scores, emit); err != nil {
				return err
			}
			scores = nil
		}
		if r := choice.FinishReason; r != nil && *r != "" {
			if err := d.reason(choice.Index, *r); err != nil {
				return err
			}
		}
	}
	return nil
}

func (d *chatDecoder) delta(index int, delta *chatDelta, scores []exchange.Score, emit emitter) error {
	thought := delta.ReasoningContent
	if thought == "" {
		thought = delta.Reasoning
	}
	if err := d.reasoning(index, thought, emit); err != nil {
		return err
	}
	if delta.Content != nil {
		if err := d.text(index, *delta.Content, scores, emit); err != nil {
			return err
		}
	} else if err := d.text(index, "", scores, emit); err != nil {
		return err
	}
	if delta.Refusal != nil {
		if err := d.refusal(index, *delta.Refusal, emit); err != nil {
			return err
		}
	}
	var cited []exchange.Citation
	for _, a := range delta.Annotations {
		if a.Citation != nil {
			cited = append(cited, a.Citation.neutral())
		}
	}
	if err := d.cited(index, cited, emit); err != nil {
		return err
	}
	for n, c := range delta.ToolCalls {
		number := n // some do not number them
		if c.Index != nil {
			number = *c.Index
		}
		if err := d.call(index, number, c.ID, c.Function.Name, argumentsOf(c.Function.Arguments), emit); err != nil {
			return err
		}
	}
	return nil
}

// argumentsOf are a call's arguments, which are a text by the standard, and an object with some.
func argumentsOf(raw json.RawMessage) string {
	var text string
	if len(raw) == 0 || string(raw) == "null" {
		return ""
	}
	if json.Unmarshal(raw, &text) == nil {
		return text
	}
	return string(raw)
}

func (d *chatDecoder) whole(data []byte, emit emitter) error {
	var c chatChunk
	if err := json.Unmarshal(data, &c); err != nil {
		return broken("it is not what the chat style has: %v", err)
	}
	if err := d.take(&c, emit); err != nil {
		return err
	}
	return d.end(true, emit)
}

// streamError is an error that comes in the place of an answer, or in the middle of one.
func (m *Machine) streamError(raw json.RawMessage) error {
	e := &statusError{status: 502, inside: true}
	var inner struct{ Type string }
	if json.Unmarshal(raw, &inner) == nil {
		switch inner.Type {
		case "invalid_request_error":
			e.status = 400
		case "authentication_error":
			e.status = 401
		case "rate_limit_error":
			e.status = 429
		}
	}
	e.code, e.param, e.message = m.errorOf(fmt.Appendf(nil, `{"error":%s}`, raw))
	return e
}
