package remote

import (
	"encoding/json"

	"kindredgate/internal/exchange"
)

// This file is the response style as its client, for servers that have no other.

type responseBody struct {
	Model           string         `json:"model"`
	Input           []any          `json:"input"`
	Stream          bool           `json:"stream"`
	Store           bool           `json:"store"` // never: the gate stores what is stored
	MaxOutputTokens *int           `json:"max_output_tokens,omitempty"`
	Temperature     *float64       `json:"temperature,omitempty"`
	TopP            *float64       `json:"top_p,omitempty"`
	Tools           []responseTool `json:"tools,omitempty"`
	ToolChoice      any            `json:"tool_choice,omitempty"`
	Parallel        *bool          `json:"parallel_tool_calls,omitempty"`
	Text            any            `json:"text,omitempty"`
	Reasoning       any            `json:"reasoning,omitempty"`
	Truncation      string         `json:"truncation,omitempty"`
	Include         []string       `json:"include,omitempty"`
	TopLogprobs     *int           `json:"top_logprobs,omitempty"`

	// Fields that are carried.
	Metadata         json.RawMessage `json:"metadata,omitempty"`
	User             json.RawMessage `json:"user,omitempty"`
	ServiceTier      json.RawMessage `json:"service_tier,omitempty"`
	SafetyIdentifier json.RawMessage `json:"safety_identifier,omitempty"`
	PromptCacheKey   json.RawMessage `json:"prompt_cache_key,omitempty"`
}

type responseTool struct {
	Type        string          `json:"type"`
	Name        string          `json:"name"`
	Description string          `json:"description,omitempty"`
	Parameters  json.RawMessage `json:"parameters"`
	Strict      bool            `json:"strict"`
}

// respond makes an attempt in the response style, which has one answer and no stop strings.
func (m *Machine) respond(model string, req *exchange.Request) (attempt, error) {
	if req.Candidates > 1 {
		return nil, exchange.InvalidParam("n", "the machine %q gives one answer to a request, not %d", m.name, req.Candidates)
	}
	if len(req.Stop) > 0 {
		return nil, exchange.InvalidParam("stop", "the machine %q takes no stop strings", m.name)
	}
	if err := reserve(req); err != nil {
		return nil, err
	}
	s := req.Sampling
	b := responseBody{Model: model, Input: items(req.Turns), Stream: m.Look().Of(model).Streams != No, Temperature: s.Temperature, TopP: s.TopP}
	if req.MaxTokens > 0 {
		b.MaxOutputTokens = &req.MaxTokens
	}
	for _, t := range req.Tools {
		schema := t.Parameters
		if len(schema) == 0 {
			schema = json.RawMessage(`{"type":"object","properties":{}}`)
		}
		b.Tools = append(b.Tools, responseTool{"function", t.Name, t.Description, schema, t.Strict})
	}
	b.ToolChoice, b.Parallel = choice(req, func(name string) any { return map[string]string{"type": "function", "name": name} })
	text := map[string]any{}
	if f := req.Format; f.Kind == exchange.FormatSchema {
		text["format"] = map[string]any{"type": "json_schema", "name": formatName, "schema": f.Schema, "strict": f.Strict}
	} else if f.Kind == exchange.FormatObject {
		text["format"] = map[string]string{"type": "json_object"}
	}
	if v := m.carried(req, "verbosity"); v != nil {
		text["verbosity"] = v
	}
	if len(text) > 0 {
		b.Text = text
	}
	b.Metadata, b.User, b.ServiceTier = m.carried(req, "metadata"), m.carried(req, "user"), m.carried(req, "service_tier")
	b.SafetyIdentifier, b.PromptCacheKey = m.carried(req, "safety_identifier"), m.carried(req, "prompt_cache_key")
	if e := effort(req); e != "" {
		b.Reasoning = map[string]string{"effort": e}
	}
	if req.Truncate {
		b.Truncation = "auto"
	}
	if req.Scores != nil {
		b.Include, b.TopLogprobs = []string{"message.output_text.logprobs"}, req.Scores
	}
	body, err := json.Marshal(b)
	if err != nil {
		return nil, err
	}
	return m.attempt(call{path: responsesPath, body: body, req: req, decode: func() decoder { return &responseDecoder{answer: newAnswer(m, req)} }}), nil
}

// items are a conversation in the response style.
func items(turns []exchange.Turn) []any {
	list := []any{}
	type content struct {
		Type     string `json:"type"`
		Text     string `json:"text,omitempty"`
		Refusal  string `json:"refusal,omitempty"`
		ImageURL string `json:"image_url,omitempty"`
		Detail   string `json:"detail,omitempty"`
	}
	for _, t := range turns {
		kind := "input_text"
		if t.Role == exchange.Assistant {
			kind = "output_text"
		}
		var parts []content
		for _, p := range t.Parts {
			switch p := p.(type) {
			case exchange.Text:
				parts = append(parts, content{Type: kind, Text: string(p)})
			case exchange.Refusal:
				parts = append(parts, content{Type: "refusal", Refusal: string(p)})
			case exchange.Image:
				shown := content{Type: "input_image", ImageURL: p.URL, Detail: p.Detail}
				if n := len(list); t.Role == exchange.ToolRole && n > 0 { // with the result before it
					if result, ok := list[n-1].(map[string]any); ok {
						switch before := result["output"].(type) {
						case string:
							result["output"] = []content{{Type: "input_text", Text: before}, shown}
						case []content:
							result["output"] = append(before, shown)
						}
					}
					continue
				}
				parts = append(parts, shown)
			case exchange.ToolCall:
				list = append(list, map[string]string{"type": "function_call", "call_id": p.ID, "name": p.Name, "arguments": p.Arguments})
			case exchange.ToolResult:
				list = append(list, map[string]any{"type": "function_call_output", "call_id": p.CallID, "output": p.Content})
			}
		}
		if len(parts) > 0 {
			list = append(list, map[string]any{"type": "message", "role": t.Role, "content": parts})
		}
	}
	return list
}

// responseEvent is an event of a stream; of the many, those that tell something.
type responseEvent struct {
	Type        string          `json:"type"`
	Delta       string          `json:"delta"`
	OutputIndex int             `json:"output_index"`
	Logprobs    []tokenScore    `json:"logprobs"`
	Annotation  *citation       `json:"annotation"`
	Item        responseItem    `json:"item"`
	Response    *response       `json:"response"`
	Error       json.RawMessage `json:"error"`
	Message     string          `json:"message"`
}

type responseItem struct {
	Type      string `json:"type"`
	CallID    string `json:"call_id"`
	Name      string `json:"name"`
	Arguments string `json:"arguments"`
	Content   []struct {
		Type        string       `json:"type"`
		Text        string       `json:"text"`
		Refusal     string       `json:"refusal"`
		Annotations []citation   `json:"annotations"`
		Logprobs    []tokenScore `json:"logprobs"`
	} `json:"content"`
}

type response struct {
	Status string          `json:"status"`
	Error  json.RawMessage `json:"error"`
	Detail struct {
		Reason string `json:"reason"`
	} `json:"incomplete_details"`
	Output []responseItem `json:"output"`
	Usage  *responseUsage `json:"usage"`
}

type responseUsage struct {
	Input        int `json:"input_tokens"`
	Output       int `json:"output_tokens"`
	InputDetails struct {
		Cached int `json:"cached_tokens"`
	} `json:"input_tokens_details"`
	Details struct {
		Reasoning int `json:"reasoning_tokens"`
	} `json:"output_tokens_details"`
}

// UnmarshalJSON takes what can be read, as that of the chat style does.
func (u *responseUsage) UnmarshalJSON(raw []byte) error {
	type plain responseUsage
	*u = responseUsage(orNone(raw, plain{Input: -1}))
	return nil
}

// responseDecoder makes events of those of a response.
type responseDecoder struct {
	answer
}

func (d *responseDecoder) scores(list []tokenScore) (out []exchange.Score) {
	if d.req.Scores == nil {
		return nil
	}
	for _, s := range list {
		out = append(out, s.score())
	}
	return out
}

func (d *responseDecoder) piece(data []byte, emit emitter) (bool, error) {
	var e responseEvent
	if err := json.Unmarshal(data, &e); err != nil {
		return false, broken("a piece of it is not what the response style has: %v", err)
	}
	switch e.Type {
	case "response.output_text.delta":
		return false, d.text(0, e.Delta, d.scores(e.Logprobs), emit)
	case "response.refusal.delta":
		return false, d.refusal(0, e.Delta, emit)
	case "response.output_text.annotation.added":
		if e.Annotation != nil {
			return false, d.cited(0, []exchange.Citation{e.Annotation.neutral()}, emit)
		}
	case "response.reasoning_text.delta", "response.reasoning_summary_text.delta":
		return false, d.reasoning(0, e.Delta, emit)
	case "response.output_item.added":
		if e.Item.Type == "function_call" {
			return false, d.call(0, e.OutputIndex, e.Item.CallID, e.Item.Name, e.Item.Arguments, emit)
		}
	case "response.function_call_arguments.delta":
		return false, d.call(0, e.OutputIndex, "", "", e.Delta, emit)
	case "response.completed", "response.incomplete":
		if e.Response == nil {
			return false, broken("its last event has no response")
		}
		return true, d.ended(e.Response)
	case "response.failed":
		if e.Response != nil && len(e.Response.Error) > 0 {
			return false, d.m.streamError(e.Response.Error)
		}
		return false, broken("the response failed, without a reason")
	case "error":
		if len(e.Error) > 0 {
			return false, d.m.streamError(e.Error)
		}
		return false, d.m.streamError(json.RawMessage(`{"message":` + quoted(e.Message) + `}`))
	}
	return false, nil
}

func quoted(s string) string {
	raw, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(raw)
}

// ended takes how a response ended.
func (d *responseDecoder) ended(r *response) error {
	if u := r.Usage; u != nil {
		d.usage = &usage{Prompt: u.Input, Completion: u.Output}
		d.usage.PromptDetails.Cached, d.usage.Details.Reasoning = u.InputDetails.Cached, u.Details.Reasoning
	}
	word := "stop"
	if r.Status == "incomplete" {
		word = "length"
		if r.Detail.Reason == "content_filter" {
			word = r.Detail.Reason
		}
	}
	return d.reason(0, word)
}

func (d *responseDecoder) whole(data []byte, emit emitter) error {
	var r response
	if err := json.Unmarshal(data, &r); err != nil {
		return broken("it is not what the response style has: %v", err)
	}
	if r.Status == "failed" || r.Status == "" {
		if len(r.Error) > 0 && string(r.Error) != "null" {
			return d.m.streamError(r.Error)
		}
		return broken("it has no status")
	}
	if err := d.ended(&r); err != nil {
		return err
	}
	for i, item := range r.Output {
		var err error
		if item.Type == "function_call" {
			err = d.call(0, i, item.CallID, item.Name, item.Arguments, emit)
		}
		for _, c := range item.Content {
			switch {
			case err != nil:
			case item.Type == "reasoning":
				err = d.reasoning(0, c.Text, emit)
			case item.Type == "message":
				err = d.text(0, c.Text, d.scores(c.Logprobs), emit)
				if err == nil {
					err = d.refusal(0, c.Refusal, emit)
				}
				var cited []exchange.Citation
				for _, a := range c.Annotations {
					cited = append(cited, a.neutral())
				}
				if err == nil {
					err = d.cited(0, cited, emit)
				}
			}
		}
		if err != nil {
			return err
		}
	}
	return d.end(true, emit)
}
