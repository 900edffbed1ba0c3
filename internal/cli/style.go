package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kindredgate/internal/dialect"
)

// question is what a person asks, whatever the style.
type question struct {
	Model        string
	Instructions string
	History      []message // what was said before
	Text         string
	Pictures     []string // of the text, as data URLs
	Temperature  *float64
	Seed         *int64
	MaxTokens    int
	Think        bool
	Stream       bool
	Tools        []string // servers (SERVER) and tools (SERVER/TOOL) that the gate runs; the response style has them
	Unasked      bool     // they are run without asking
	Previous     string   // the response that waits for approvals
	Approvals    []approval
}

// approval is what a person says of a call that wants to be approved.
type approval struct {
	Type    string `json:"type"` // "mcp_approval_response"
	Request string `json:"approval_request_id"`
	Approve bool   `json:"approve"`
}

// wanted is a call that wants to be approved.
type wanted struct {
	ID, Name, Arguments string
	Server              string `json:"server_label"`
}

// toolServer is a server of tools in a request.
type toolServer struct {
	Type    string   `json:"type"` // "mcp"
	Label   string   `json:"server_label"`
	Allowed []string `json:"allowed_tools,omitempty"`
	Approve any      `json:"require_approval"`
}

// servers are the tools of a question as a request names them. What changes something is asked about, unless that is not wanted.
func (q question) servers() (list []toolServer) {
	var approve any = map[string]any{"never": map[string]any{"read_only": true}}
	if q.Unasked {
		approve = "never"
	}
	for _, name := range q.Tools {
		server, one, single := strings.Cut(name, "/")
		i := slices.IndexFunc(list, func(s toolServer) bool { return s.Label == server })
		if i < 0 {
			i = len(list)
			list = append(list, toolServer{Type: "mcp", Label: server, Approve: approve})
		}
		if single {
			list[i].Allowed = append(list[i].Allowed, one)
		}
	}
	return list
}

// style is a way to put a question to the gate.
type style struct {
	dialect.Style
	// body is what is sent.
	body func(q question) any
	// piece reads an event of the stream.
	piece func(raw []byte) (increment, error)
	// text finds the text in a whole answer.
	text func(raw []byte) (string, error)
}

// increment is what an event of a stream adds.
type increment struct {
	text, reasoning string
	finish          string // why the answer ended, if this is its end
	usage           *usage
	doing           string  // what the gate does, while it does it
	did             string  // what it has done, in a line
	wanted          *wanted // a call that wants to be approved
	response        string  // the id of the response, at its end
}

type usage struct {
	Prompt     int `json:"prompt_tokens"`
	Completion int `json:"completion_tokens"`
}

// message is a turn, as a talk keeps it.
type message struct {
	Role     string   `json:"role"`
	Content  string   `json:"content"`
	Pictures []string `json:"pictures,omitempty"` // as data URLs
}

// turn is a message as a request has it.
type turn struct {
	Role    string `json:"role"`
	Content any    `json:"content"` // a text, or a list of parts
}

// said is a message for the chat style.
func (m message) said() turn {
	if len(m.Pictures) == 0 {
		return turn{m.Role, m.Content}
	}
	parts := []any{}
	for _, url := range m.Pictures {
		parts = append(parts, map[string]any{"type": "image_url", "image_url": map[string]any{"url": url}})
	}
	return turn{m.Role, append(parts, map[string]any{"type": "text", "text": m.Content})}
}

// input is a message for the response style.
func (m message) input() turn {
	if len(m.Pictures) == 0 {
		return turn{m.Role, m.Content}
	}
	parts := []any{}
	for _, url := range m.Pictures {
		parts = append(parts, map[string]any{"type": "input_image", "image_url": url})
	}
	return turn{m.Role, append(parts, map[string]any{"type": "input_text", "text": m.Content})}
}

// turns are what was said before and the question, as a style has messages.
func (q question) turns(as func(message) turn) (list []turn) {
	for _, m := range append(slices.Clone(q.History), message{"user", q.Text, q.Pictures}) {
		list = append(list, as(m))
	}
	return list
}

// pictured reports whether there are pictures in what is said.
func (q question) pictured() bool {
	return len(q.Pictures) > 0 || slices.ContainsFunc(q.History, func(m message) bool { return len(m.Pictures) > 0 })
}

// conversation is a question with what goes before it: instructions, if there are any, and what was said.
func (q question) conversation() (list []turn) {
	if q.Instructions != "" {
		list = append(list, turn{"system", q.Instructions})
	}
	return append(list, q.turns(message.said)...)
}

// said is a turn of the generate style.
type said struct {
	Role string `json:"role"`
	Text string `json:"text"`
}

// drawing is what the styles call by the same names.
type drawing struct {
	Temperature *float64 `json:"temperature,omitempty"`
	Seed        *int64   `json:"seed,omitempty"`
}

type streamOptions struct {
	IncludeUsage bool `json:"include_usage"`
}

func options(q question) *streamOptions {
	if !q.Stream {
		return nil
	}
	return &streamOptions{IncludeUsage: true}
}

// effort is how the standard's styles ask for reasoning.
func effort(q question) string {
	if q.Think {
		return "medium"
	}
	return ""
}

type reasoning struct {
	Effort string `json:"effort"`
}

// styles are the variants to ask.
var styles = []style{
	{dialect.Chat, func(q question) any {
		return struct {
			Model         string         `json:"model"`
			Messages      []turn         `json:"messages"`
			Stream        bool           `json:"stream,omitempty"`
			StreamOptions *streamOptions `json:"stream_options,omitempty"`
			drawing
			MaxTokens int    `json:"max_tokens,omitempty"`
			Effort    string `json:"reasoning_effort,omitempty"`
		}{q.Model, q.conversation(), q.Stream, options(q), drawing{q.Temperature, q.Seed}, q.MaxTokens, effort(q)}
	}, choicesPiece, choicesText},
	{dialect.Generate, func(q question) any {
		var history []said
		for _, m := range q.History {
			history = append(history, said{m.Role, m.Content})
		}
		return struct {
			Model        string `json:"model"`
			Prompt       string `json:"prompt"`
			Instructions string `json:"instructions,omitempty"`
			History      []said `json:"history,omitempty"`
			Stream       bool   `json:"stream,omitempty"`
			drawing
			MaxTokens int  `json:"max_tokens,omitempty"`
			Reason    bool `json:"reasoning,omitempty"`
		}{q.Model, q.Text, q.Instructions, history, q.Stream, drawing{q.Temperature, q.Seed}, q.MaxTokens, q.Think}
	}, generatePiece, func(raw []byte) (string, error) {
		var answer struct {
			Text string `json:"text"`
		}
		err := json.Unmarshal(raw, &answer)
		return answer.Text, err
	}},
	{dialect.Response, func(q question) any {
		body := struct {
			Model        string `json:"model"`
			Input        any    `json:"input"`
			Instructions string `json:"instructions,omitempty"`
			Stream       bool   `json:"stream,omitempty"`
			drawing
			MaxTokens int          `json:"max_output_tokens,omitempty"`
			Reasoning *reasoning   `json:"reasoning,omitempty"`
			Store     *bool        `json:"store,omitempty"`
			Tools     []toolServer `json:"tools,omitempty"`
			Previous  string       `json:"previous_response_id,omitempty"`
		}{q.Model, q.Text, q.Instructions, q.Stream, drawing{q.Temperature, q.Seed}, q.MaxTokens, nil, nil, q.servers(), q.Previous}
		switch {
		case q.Previous != "":
			body.Input = q.Approvals
		case len(q.History) > 0 && len(q.Tools) > 0:
			body.Input = q.turns(message.input) // it is stored: calls may have to be approved
		case len(q.History) > 0:
			body.Input, body.Store = q.turns(message.input), new(bool) // who has the history needs it stored nowhere else
		case len(q.Pictures) > 0:
			body.Input = q.turns(message.input)
		}
		if q.Think {
			body.Reasoning = &reasoning{effort(q)}
		}
		return body
	}, responsePiece, func(raw []byte) (string, error) {
		var r wireResponse
		err := json.Unmarshal(raw, &r)
		return r.text(), err
	}},
	{dialect.Completion, func(q question) any {
		if q.MaxTokens == 0 {
			q.MaxTokens = 256 // the standard's limit of 16 is for other times
		}
		return struct {
			Model         string         `json:"model"`
			Prompt        string         `json:"prompt"`
			Stream        bool           `json:"stream,omitempty"`
			StreamOptions *streamOptions `json:"stream_options,omitempty"`
			drawing
			MaxTokens int `json:"max_tokens,omitempty"`
		}{q.Model, q.said(), q.Stream, options(q), drawing{q.Temperature, q.Seed}, q.MaxTokens}
	}, choicesPiece, choicesText},
}

// said is all that was said, as one text.
func (q question) said() string {
	var b strings.Builder
	for _, m := range q.History {
		b.WriteString(m.Content)
	}
	return b.String() + q.Text
}

func (s style) url() string { return "/v1" + s.Path() }

// styleNames are the styles in which text can be asked for.
func styleNames() (names []string) {
	for _, s := range styles {
		names = append(names, string(s.Style))
	}
	return names
}

// styleNamed finds a style. What a question asks for and the style cannot do is a usage error.
func styleNamed(name string, q question) (style, error) {
	known, _ := dialect.Find(name)
	i := slices.Index(styleNames(), string(known))
	switch {
	case i < 0:
		return style{}, usageError{fmt.Errorf("there is no style %q; these are: %s", name, strings.Join(append(styleNames(), string(dialect.Embedding)), ", "))}
	case len(q.Tools) > 0 && styles[i].Style != dialect.Response:
		return style{}, usageError{fmt.Errorf("--tools goes with --style response, which tells each step apart; a preset can have tools in the other styles")}
	case q.pictured() && styles[i].Style != dialect.Chat && styles[i].Style != dialect.Response:
		return style{}, usageError{fmt.Errorf("the %s style takes no pictures; --style chat and response do", styles[i].Style)}
	case styles[i].Style == dialect.Completion && (q.Instructions != "" || q.Think):
		return style{}, usageError{errors.New("a completion prompt goes to the model as it is, so it has neither instructions nor reasoning; leave out --instructions and --reason")}
	}
	return styles[i], nil
}

// choices is an answer, or a piece of one, in the styles that have choices.
type choices struct {
	Choices []struct {
		Text    string `json:"text"`
		Message struct {
			Content string `json:"content"`
			Refusal string `json:"refusal"`
		} `json:"message"`
		Delta struct {
			Content   string `json:"content"`
			Refusal   string `json:"refusal"`
			Reasoning string `json:"reasoning_content"`
		} `json:"delta"`
		FinishReason string `json:"finish_reason"`
	} `json:"choices"`
	Usage *usage `json:"usage"`
}

func choicesPiece(raw []byte) (p increment, err error) {
	var c choices
	if err := json.Unmarshal(raw, &c); err != nil {
		return p, err
	}
	p.usage = c.Usage
	for _, choice := range c.Choices {
		p.text += choice.Text + choice.Delta.Content + choice.Delta.Refusal
		p.reasoning += choice.Delta.Reasoning
		p.finish = choice.FinishReason
	}
	return p, nil
}

func choicesText(raw []byte) (string, error) {
	var c choices
	if err := json.Unmarshal(raw, &c); err != nil || len(c.Choices) == 0 {
		return "", fmt.Errorf("the gate's answer has no text: %s", raw)
	}
	return c.Choices[0].Message.Content + c.Choices[0].Message.Refusal + c.Choices[0].Text, nil
}

func generatePiece(raw []byte) (p increment, err error) {
	var g struct {
		Object       string `json:"object"`
		Text         string `json:"text"`
		Reasoning    string `json:"reasoning"`
		FinishReason string `json:"finish_reason"`
		Usage        *usage `json:"usage"`
	}
	if err := json.Unmarshal(raw, &g); err != nil {
		return p, err
	}
	if g.Object == "generation" { // the whole, of which the pieces were shown already
		return increment{finish: g.FinishReason, usage: g.Usage}, nil
	}
	return increment{text: g.Text, reasoning: g.Reasoning}, nil
}

// wireResponse is what is read of a response.
type wireResponse struct {
	ID     string `json:"id"`
	Status string `json:"status"`
	Output []struct {
		Type    string `json:"type"`
		Content []struct {
			Text    string `json:"text"`
			Refusal string `json:"refusal"`
		} `json:"content"`
	} `json:"output"`
	Incomplete *struct {
		Reason string `json:"reason"`
	} `json:"incomplete_details"`
	Error *struct {
		Message string `json:"message"`
	} `json:"error"`
	Usage *struct {
		Input  int `json:"input_tokens"`
		Output int `json:"output_tokens"`
	} `json:"usage"`
}

func (r wireResponse) text() (s string) {
	for _, item := range r.Output {
		for _, part := range item.Content {
			if item.Type == "message" {
				s += part.Text + part.Refusal
			}
		}
	}
	return s
}

// failureOf is what the error of a call says.
func failureOf(text string) string {
	var f struct{ Message string }
	if json.Unmarshal([]byte(text), &f) == nil && f.Message != "" {
		return f.Message
	}
	return text
}

func responsePiece(raw []byte) (p increment, err error) {
	var e struct {
		Type     string       `json:"type"`
		Delta    string       `json:"delta"`
		Response wireResponse `json:"response"`
		Item     struct {
			Type string `json:"type"`
			wanted
			Output *string `json:"output"`
			Error  *string `json:"error"`
		} `json:"item"`
	}
	if err := json.Unmarshal(raw, &e); err != nil {
		return p, err
	}
	switch e.Type {
	case "response.output_text.delta", "response.refusal.delta":
		p.text = e.Delta
	case "response.reasoning_text.delta":
		p.reasoning = e.Delta
	case "response.output_item.added":
		if e.Item.Type == "mcp_call" {
			p.doing = "running " + e.Item.Server + "/" + e.Item.Name
		}
	case "response.output_item.done":
		name := e.Item.Server + "/" + e.Item.Name
		switch i := e.Item; {
		case i.Type == "mcp_approval_request":
			p.wanted = &i.wanted
		case i.Type == "mcp_list_tools" && i.Error != nil:
			p.did = i.Server + " has no tools now: " + *i.Error
		case i.Type == "mcp_call" && i.Error != nil:
			p.did = name + " " + i.Arguments + " failed: " + failureOf(*i.Error)
		case i.Type == "mcp_call" && i.Output != nil:
			p.did = name + " " + i.Arguments + " → " + shortened(*i.Output, 200)
		}
	case "response.failed":
		return p, fmt.Errorf("the response failed: %s", e.Response.Error.Message)
	case "response.completed", "response.incomplete":
		p.finish, p.response = "stop", e.Response.ID
		if e.Type == "response.incomplete" {
			p.finish = "length"
			if i := e.Response.Incomplete; i != nil && i.Reason != "max_output_tokens" {
				p.finish = i.Reason
			}
		}
		if u := e.Response.Usage; u != nil {
			p.usage = &usage{u.Input, u.Output}
		}
	}
	return p, nil
}
