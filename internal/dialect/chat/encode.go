package chat

import (
	"encoding/json"
	"fmt"
	"iter"
	"strconv"
	"strings"
	"time"

	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Completion is a whole answer.
type Completion struct {
	ID      string     `json:"id"`
	Object  string     `json:"object"`
	Created int64      `json:"created"` // seconds since 1970
	Model   string     `json:"model"`
	Choices []Choice   `json:"choices"`
	Usage   wire.Usage `json:"usage"`
	// Fingerprint tells which weights, template and settings answered.
	Fingerprint string `json:"system_fingerprint,omitempty"`
	wire.Steps         // that the gate's tools took; beyond the standard
}

// Choice is one candidate of an answer.
type Choice struct {
	Index        int             `json:"index"`
	Message      Message         `json:"message"`
	Logprobs     *Logprobs       `json:"logprobs"`
	FinishReason exchange.Reason `json:"finish_reason"`
}

// Message is the turn that a model adds. Content is null if it has nothing but tool calls.
type Message struct {
	Role             exchange.Role `json:"role"`
	Content          *string       `json:"content"`
	ReasoningContent string        `json:"reasoning_content,omitempty"` // beyond the standard
	ToolCalls        []ToolCall    `json:"tool_calls,omitempty"`
	Refusal          *string       `json:"refusal"` // null if it has not refused
	Annotations      []Annotation  `json:"annotations,omitempty"`
}

// Annotation says where a part of the content comes from.
type Annotation struct {
	Type     string   `json:"type"` // "url_citation"
	Citation Citation `json:"url_citation"`
}

// Citation is a page, and which characters of the content it is for.
type Citation struct {
	Start int    `json:"start_index"`
	End   int    `json:"end_index"`
	URL   string `json:"url"`
	Title string `json:"title"`
}

func annotations(list []exchange.Citation) (out []Annotation) {
	for _, c := range list {
		out = append(out, Annotation{"url_citation", Citation{c.Start, c.End, c.URL, c.Title}})
	}
	return out
}

// ToolCall is a call that a model asks for.
type ToolCall struct {
	Index    *int     `json:"index,omitempty"` // in streams only
	ID       string   `json:"id,omitempty"`    // it, the type and the name are only in the first delta of a stream
	Type     string   `json:"type,omitempty"`  // "function"
	Function Function `json:"function"`
}

// Function is what a call is of. Arguments is a JSON object, as text.
type Function struct {
	Name      string `json:"name,omitempty"`
	Arguments string `json:"arguments"`
}

func toolCall(c exchange.ToolCall) ToolCall {
	return ToolCall{ID: c.ID, Type: "function", Function: Function{Name: c.Name, Arguments: c.Arguments}}
}

// Logprobs are the log-probabilities of an answer's tokens.
type Logprobs struct {
	Content []wire.TokenScore `json:"content"`
	Refusal *[]string         `json:"refusal"` // null
}

// Chunk is a piece of a streamed answer.
type Chunk struct {
	ID          string           `json:"id"`
	Object      string           `json:"object"`
	Created     int64            `json:"created"`
	Model       string           `json:"model"`
	Choices     []ChunkChoice    `json:"choices"`
	Usage       wire.StreamUsage `json:"usage,omitzero"`
	Fingerprint string           `json:"system_fingerprint,omitempty"`
	wire.Steps                   // in the chunk with the finish reason
}

// AppendJSON adds the chunk as JSON. One that has a little text and nothing else, as most have, is written without the reflection of
// encoding/json, to the same letters.
func (c *Chunk) AppendJSON(b []byte) ([]byte, error) {
	if len(c.Choices) != 1 || c.Choices[0].Delta.Content == nil || c.Usage.Last != nil {
		return c.appendWhole(b)
	}
	choice := &c.Choices[0]
	if d := &choice.Delta; d.Role != "" || d.Annotations != nil || d.ReasoningContent != "" || d.ToolCalls != nil || choice.Logprobs != nil || choice.FinishReason != nil {
		return c.appendWhole(b)
	}
	text := func(name, value string) {
		b = wire.AppendText(append(b, name...), value)
	}
	text(`{"id":`, c.ID)
	text(`,"object":`, c.Object)
	b = strconv.AppendInt(append(b, `,"created":`...), c.Created, 10)
	text(`,"model":`, c.Model)
	b = strconv.AppendInt(append(b, `,"choices":[{"index":`...), int64(choice.Index), 10)
	text(`,"delta":{"content":`, *choice.Delta.Content)
	b = append(b, `},"logprobs":null,"finish_reason":null}]`...)
	if c.Usage.Asked {
		b = append(b, `,"usage":null`...)
	}
	if c.Fingerprint != "" {
		text(`,"system_fingerprint":`, c.Fingerprint)
	}
	return append(b, '}'), nil
}

func (c *Chunk) appendWhole(b []byte) ([]byte, error) {
	raw, err := json.Marshal(c)
	return append(b, raw...), err
}

// ChunkChoice is what a chunk adds to a candidate.
type ChunkChoice struct {
	Index        int              `json:"index"`
	Delta        Delta            `json:"delta"`
	Logprobs     *Logprobs        `json:"logprobs"`
	FinishReason *exchange.Reason `json:"finish_reason"`
}

// Delta is what is added. The role comes in the first chunk of a candidate.
type Delta struct {
	Role             exchange.Role `json:"role,omitempty"`
	Content          *string       `json:"content,omitempty"`
	ReasoningContent string        `json:"reasoning_content,omitempty"` // beyond the standard
	ToolCalls        []ToolCall    `json:"tool_calls,omitempty"`
	Refusal          *string       `json:"refusal,omitempty"`
	Annotations      []Annotation  `json:"annotations,omitempty"`
}

// Encode collects a stream of events into a whole answer.
func Encode(id string, created time.Time, call *Call, events iter.Seq2[exchange.Event, error]) (*Completion, error) {
	n := max(1, call.Candidates)
	texts, refusals, reasonings := make([]strings.Builder, n), make([]strings.Builder, n), make([]strings.Builder, n)
	cited := make([][]Annotation, n)
	calls := make([][]ToolCall, n)
	scores := make([][]exchange.Score, n)
	c := &Completion{ID: "chatcmpl-" + id, Object: "chat.completion", Created: created.Unix(), Choices: make([]Choice, n)}
	for event, err := range wire.Paragraphs(events) {
		if err != nil {
			return nil, err
		}
		c.Usage.Count(event)
		c.Steps.Add(event)
		switch event := event.(type) {
		case exchange.Started, exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
		case exchange.TextDelta:
			if event.Refusal {
				refusals[event.Candidate].WriteString(event.Text)
			} else {
				texts[event.Candidate].WriteString(event.Text)
			}
			cited[event.Candidate] = append(cited[event.Candidate], annotations(event.Citations)...)
			scores[event.Candidate] = append(scores[event.Candidate], event.Scores...)
		case exchange.ReasoningDelta:
			reasonings[event.Candidate].WriteString(event.Text)
		case exchange.ToolCallDelta:
			list := &calls[event.Candidate]
			if event.Name != "" { // they begin in order, and go on in any
				*list = append(*list, toolCall(exchange.ToolCall{ID: event.ID, Name: event.Name}))
			}
			(*list)[event.Index].Function.Arguments += event.Arguments
		case exchange.Finish:
			c.Choices[event.Candidate].FinishReason = event.Reason
		default:
			return nil, fmt.Errorf("chat style: unknown event %T", event)
		}
	}
	for i := range c.Choices {
		c.Choices[i].Index = i
		if call.Scores != nil {
			c.Choices[i].Logprobs = &Logprobs{Content: wire.Scores(scores[i])}
		}
		m := Message{Role: exchange.Assistant, ReasoningContent: reasonings[i].String(), ToolCalls: calls[i], Annotations: cited[i]}
		if refusal := refusals[i].String(); refusal != "" {
			m.Refusal = &refusal
		}
		if text := texts[i].String(); text != "" || len(calls[i]) == 0 && m.Refusal == nil {
			m.Content = &text
		}
		c.Choices[i].Message = m
	}
	c.Model, c.Fingerprint = call.Model, call.Fingerprint
	return c, nil
}

// EncodeStream turns a stream of events into chunks: first the role of each candidate, then its text as it
// comes, then its finish reason; at the end the usage, if it was asked for.
func EncodeStream(id string, created time.Time, call *Call, events iter.Seq2[exchange.Event, error]) iter.Seq2[*Chunk, error] {
	return func(yield func(*Chunk, error) bool) {
		chunk := func(choices ...ChunkChoice) *Chunk {
			return &Chunk{ID: "chatcmpl-" + id, Object: "chat.completion.chunk", Created: created.Unix(), Model: call.Model, Choices: choices,
				Usage: wire.StreamUsage{Asked: call.IncludeUsage}, Fingerprint: call.Fingerprint}
		}
		var usage wire.Usage
		var steps wire.Steps
		for event, err := range wire.Paragraphs(events) {
			if err != nil {
				yield(nil, err)
				return
			}
			usage.Count(event)
			steps.Add(event)
			switch event := event.(type) {
			case exchange.Started:
				for i := range max(1, call.Candidates) {
					if !yield(chunk(ChunkChoice{Index: i, Delta: Delta{Role: exchange.Assistant, Content: new(string)}}), nil) {
						return
					}
				}
			case exchange.TextDelta:
				choice := ChunkChoice{Index: event.Candidate, Delta: Delta{Content: &event.Text, Annotations: annotations(event.Citations)}}
				if event.Refusal {
					choice.Delta.Content, choice.Delta.Refusal = nil, &event.Text
				}
				if call.Scores != nil {
					choice.Logprobs = &Logprobs{Content: wire.Scores(event.Scores)}
				}
				if !yield(chunk(choice), nil) {
					return
				}
			case exchange.ReasoningDelta:
				if !yield(chunk(ChunkChoice{Index: event.Candidate, Delta: Delta{ReasoningContent: event.Text}}), nil) {
					return
				}
			case exchange.ToolCallDelta:
				if event.Name == "" && event.Arguments == "" {
					continue // that it is done shows in what comes next
				}
				call := ToolCall{Index: &event.Index}
				if event.Name != "" {
					call = toolCall(exchange.ToolCall{ID: event.ID, Name: event.Name})
					call.Index = &event.Index
				}
				call.Function.Arguments = event.Arguments
				if !yield(chunk(ChunkChoice{Index: event.Candidate, Delta: Delta{ToolCalls: []ToolCall{call}}}), nil) {
					return
				}
			case exchange.Finish:
				last := chunk(ChunkChoice{Index: event.Candidate, FinishReason: &event.Reason})
				last.Steps = steps
				if !yield(last, nil) {
					return
				}
			case exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
				// which the steps have
			default:
				yield(nil, fmt.Errorf("chat style: unknown event %T", event))
				return
			}
		}
		if call.IncludeUsage {
			last := chunk()
			last.Choices = []ChunkChoice{}
			last.Usage.Last = &usage
			yield(last, nil)
		}
	}
}
