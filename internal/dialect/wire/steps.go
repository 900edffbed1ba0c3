package wire

import (
	"iter"
	"strings"

	"kindredgate/internal/exchange"
)

// Steps are what an answer took whose tools the gate ran, for styles that have no other place for it. They are beyond the standards.
type Steps struct {
	List []Step `json:"steps,omitempty"`
	// EndedBy names the bound that ended the answer before its end; "" for none.
	EndedBy string `json:"ended_by,omitempty"`

	on              bool // the gate runs tools for the answer
	calls           []*Run
	text, reasoning strings.Builder // of the step that the answer is in
}

// Step is one call of the model, with the tools that it called.
type Step struct {
	Step             int    `json:"step"` // from 1
	Reasoning        string `json:"reasoning,omitempty"`
	Text             string `json:"text,omitempty"`
	Calls            []*Run `json:"calls,omitempty"`
	PromptTokens     int    `json:"prompt_tokens"`
	CachedTokens     int    `json:"cached_tokens"`
	CompletionTokens int    `json:"completion_tokens"`
}

// Run is a call that the gate ran.
type Run struct {
	ID        string               `json:"id"`
	Server    string               `json:"server"`
	Name      string               `json:"name"`
	Arguments string               `json:"arguments"`
	Output    string               `json:"output"`
	Error     *exchange.RunFailure `json:"error,omitempty"`
	MS        float64              `json:"ms"`
}

// Add takes an event of the answer. An answer without steps leaves nothing.
func (s *Steps) Add(event exchange.Event) {
	step := func() *Step {
		if len(s.List) == 0 {
			s.List = append(s.List, Step{Step: 1})
		}
		return &s.List[len(s.List)-1]
	}
	if started, ok := event.(exchange.Started); ok {
		s.on = started.Steps
	}
	if !s.on {
		return
	}
	settle := func() {
		step().Text, step().Reasoning = strings.TrimPrefix(s.text.String(), apart), strings.TrimPrefix(s.reasoning.String(), apart)
		s.text.Reset()
		s.reasoning.Reset()
	}
	switch e := event.(type) {
	case exchange.Started:
		step().PromptTokens, step().CachedTokens = e.PromptTokens, e.CachedTokens
	case exchange.StepBegan:
		if e.Step > 1 || len(s.calls) > 0 {
			s.List = append(s.List, Step{Step: e.Step})
		}
		step().PromptTokens, step().CachedTokens = e.PromptTokens, e.CachedTokens
	case exchange.StepEnded:
		settle()
		step().CompletionTokens = e.Tokens
	case exchange.ReasoningDelta:
		s.reasoning.WriteString(e.Text)
	case exchange.TextDelta:
		s.text.WriteString(e.Text)
	case exchange.RunDelta:
		for len(s.calls) <= e.Index {
			s.calls = append(s.calls, nil)
		}
		if e.Name != "" {
			s.calls[e.Index] = &Run{ID: e.ID, Server: e.Server, Name: e.Name}
			step().Calls = append(step().Calls, s.calls[e.Index])
		}
		if c := s.calls[e.Index]; c != nil {
			c.Arguments += e.Arguments
		}
	case exchange.RunEnded:
		if e.Index < len(s.calls) && s.calls[e.Index] != nil {
			c := s.calls[e.Index]
			c.Output, c.Error, c.MS = e.Output, e.Failure, float64(e.Took.Microseconds())/1000
		}
	case exchange.Finish:
		s.EndedBy = e.Bound
		if s.text.Len()+s.reasoning.Len() > 0 {
			settle()
		}
		step().CompletionTokens += e.Tokens
	case exchange.ToolCallDelta, exchange.ToolsListed, exchange.ApprovalWanted:
	}
}

// apart stands between what is said in two steps, where an answer is one text.
const apart = "\n\n"

// Paragraphs sets what is said in one step apart from what was said in those before it, for styles in which an answer is one text.
func Paragraphs(events iter.Seq2[exchange.Event, error]) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		var said, reasoned, newSaid, newReasoned bool
		set := func(text string, before, begins *bool) string {
			if text == "" {
				return text
			}
			if *before && *begins {
				text = apart + text
			}
			*before, *begins = true, false
			return text
		}
		for event, err := range events {
			switch e := event.(type) {
			case exchange.TextDelta:
				e.Text = set(e.Text, &said, &newSaid)
				event = e
			case exchange.ReasoningDelta:
				e.Text = set(e.Text, &reasoned, &newReasoned)
				event = e
			case exchange.StepBegan:
				newSaid, newReasoned = said, reasoned
			case exchange.Started, exchange.ToolCallDelta, exchange.Finish, exchange.ToolsListed, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
			}
			if !yield(event, err) {
				return
			}
		}
	}
}
