package chat

import (
	"fmt"
	"iter"
	"strings"
	"time"

	"kindredgate/internal/exchange"
)

// Completion is a whole answer.
type Completion struct {
	ID      string   `json:"id"`
	Object  string   `json:"object"`
	Created int64    `json:"created"` // seconds since 1970
	Model   string   `json:"model"`
	Choices []Choice `json:"choices"`
	Usage   Usage    `json:"usage"`
}

// Choice is one candidate of an answer.
type Choice struct {
	Index        int             `json:"index"`
	Message      Message         `json:"message"`
	Logprobs     any             `json:"logprobs"` // null
	FinishReason exchange.Reason `json:"finish_reason"`
}

// Message is the turn that a model adds.
type Message struct {
	Role    exchange.Role `json:"role"`
	Content string        `json:"content"`
	Refusal *string       `json:"refusal"` // null
}

// Usage counts tokens.
type Usage struct {
	PromptTokens     int `json:"prompt_tokens"`
	CompletionTokens int `json:"completion_tokens"`
	TotalTokens      int `json:"total_tokens"`
}

func (u *Usage) add(f exchange.Finish) {
	u.CompletionTokens += f.Tokens
	u.TotalTokens = u.PromptTokens + u.CompletionTokens
}

// Chunk is a piece of a streamed answer.
type Chunk struct {
	ID      string        `json:"id"`
	Object  string        `json:"object"`
	Created int64         `json:"created"`
	Model   string        `json:"model"`
	Choices []ChunkChoice `json:"choices"`
	// Usage is in the last chunk, if it was asked for.
	Usage *Usage `json:"usage,omitempty"`
}

// ChunkChoice is what a chunk adds to a candidate.
type ChunkChoice struct {
	Index        int              `json:"index"`
	Delta        Delta            `json:"delta"`
	Logprobs     any              `json:"logprobs"` // null
	FinishReason *exchange.Reason `json:"finish_reason"`
}

// Delta is text that is added. The role comes in the first chunk of a candidate.
type Delta struct {
	Role    exchange.Role `json:"role,omitempty"`
	Content *string       `json:"content,omitempty"`
}

// Encode collects a stream of events into a whole answer.
func Encode(id string, created time.Time, call *Call, events iter.Seq2[exchange.Event, error]) (*Completion, error) {
	n := max(1, call.Candidates)
	texts := make([]strings.Builder, n)
	c := &Completion{ID: "chatcmpl-" + id, Object: "chat.completion", Created: created.Unix(), Choices: make([]Choice, n)}
	for event, err := range events {
		if err != nil {
			return nil, err
		}
		switch event := event.(type) {
		case exchange.Started:
			c.Usage.PromptTokens = event.PromptTokens
		case exchange.TextDelta:
			texts[event.Candidate].WriteString(event.Text)
		case exchange.Finish:
			c.Choices[event.Candidate].FinishReason = event.Reason
			c.Usage.add(event)
		default:
			return nil, fmt.Errorf("chat style: unknown event %T", event)
		}
	}
	for i := range c.Choices {
		c.Choices[i].Index = i
		c.Choices[i].Message = Message{Role: exchange.Assistant, Content: texts[i].String()}
	}
	c.Model = call.Model
	return c, nil
}

// EncodeStream turns a stream of events into chunks: first the role of each candidate, then its text as it
// comes, then its finish reason; at the end the usage, if it was asked for.
func EncodeStream(id string, created time.Time, call *Call, events iter.Seq2[exchange.Event, error]) iter.Seq2[*Chunk, error] {
	return func(yield func(*Chunk, error) bool) {
		chunk := func(choices ...ChunkChoice) *Chunk {
			return &Chunk{ID: "chatcmpl-" + id, Object: "chat.completion.chunk", Created: created.Unix(), Model: call.Model, Choices: choices}
		}
		var usage Usage
		for event, err := range events {
			if err != nil {
				yield(nil, err)
				return
			}
			switch event := event.(type) {
			case exchange.Started:
				usage.PromptTokens = event.PromptTokens
				for i := range max(1, call.Candidates) {
					if !yield(chunk(ChunkChoice{Index: i, Delta: Delta{Role: exchange.Assistant, Content: new(string)}}), nil) {
						return
					}
				}
			case exchange.TextDelta:
				if !yield(chunk(ChunkChoice{Index: event.Candidate, Delta: Delta{Content: &event.Text}}), nil) {
					return
				}
			case exchange.Finish:
				usage.add(event)
				if !yield(chunk(ChunkChoice{Index: event.Candidate, FinishReason: &event.Reason}), nil) {
					return
				}
			default:
				yield(nil, fmt.Errorf("chat style: unknown event %T", event))
				return
			}
		}
		if call.IncludeUsage {
			last := chunk()
			last.Choices = []ChunkChoice{}
			last.Usage = &usage
			yield(last, nil)
		}
	}
}
