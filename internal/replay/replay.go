// Package replay asks a recorded request again, with something changed, and tells what that changes.
package replay

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"kindredgate/internal/dialect"
	"kindredgate/internal/difference"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
)

// Change is what is to be another way than it was recorded. Zero fields leave it as it was.
type Change struct {
	Model        string // a model, preset or public name
	Template     string // a chat template
	Style        string // chat, generate or completion
	Instructions *string
	Temperature  *float64
	TopP         *float64
	Seed         *int64
	MaxTokens    int
	Reasoning    *bool
}

// Side is one of the two exchanges that are compared.
type Side struct {
	ID         string        `json:"id"`
	Model      string        `json:"model"`
	Preset     string        `json:"preset,omitempty"`
	Answers    []kept.Answer `json:"answers"`
	Prompt     int           `json:"prompt_tokens"`
	Cached     int           `json:"cached_tokens"`
	Completion int           `json:"completion_tokens"`
	Reason     string        `json:"finish_reason,omitempty"`
	FirstToken float64       `json:"first_token_ms"`
	Took       float64       `json:"took_ms"`
	// LogProb is that of the recorded answer, under this side's prompt; nil where it cannot be told.
	LogProb *float64 `json:"logprob,omitempty"`
}

// Token is a token with its log-probability.
type Token struct {
	Text    string  `json:"text"`
	LogProb float64 `json:"logprob"`
}

// Parting is the first token in which the answers differ.
type Parting struct {
	Place    int     `json:"place"`    // counted from 0
	Before   string  `json:"before"`   // what both have said till then, the end of it
	Recorded []Token `json:"recorded"` // what was said there, and what might have been, most likely first
	Replayed []Token `json:"replayed"`
}

// Result is what a replay came to.
type Result struct {
	Recorded   Side                  `json:"recorded"`
	Replayed   Side                  `json:"replayed"`
	Same       bool                  `json:"same"`
	Alike      float64               `json:"alike"` // the share of words in common
	Difference difference.Difference `json:"difference"`
	Parting    *Parting              `json:"parting,omitempty"` // nil where the answers are the same, or tokens cannot be told
	Notes      []string              `json:"notes"`             // what could not be compared, and why
}

// alternatives is with how many others tokens are compared.
const alternatives = 5

// longBefore is how much is told of what both have said, in bytes.
const longBefore = 80

// Run asks again.
func Run(ctx context.Context, g *gate.Gate, caller keyring.Key, from gate.Origin, of record.Record, content kept.Content, change Change) (*Result, error) {
	recorded, err := exchange.DecodeRequest(content.Request)
	if err != nil {
		return nil, exchange.Errorf(exchange.Unavailable, "not_recorded", "what was recorded of %s cannot be asked again: %v", of.ID, err)
	}
	req, err := changed(*recorded, of, change)
	if err != nil {
		return nil, err
	}
	r := &Result{Recorded: Side{ID: of.ID, Model: of.Answered, Preset: of.Preset, Answers: content.Answers, Prompt: of.PromptTokens, Cached: of.CachedTokens, Completion: of.CompletionTokens, Reason: of.Reason, FirstToken: of.FirstToken, Took: of.Took},
		Difference: difference.Difference{}, Notes: []string{}}
	top := alternatives
	req.Scores = &top
	asked := req // as Begin makes a preset's request of it
	x, err := g.Begin(ctx, caller, from, &req)
	if err != nil {
		return nil, err
	}
	var heard []exchange.Event
	var scores []exchange.Score
	for event, err := range x.Events() {
		if err != nil {
			return nil, err
		}
		heard = append(heard, event)
		if d, ok := event.(exchange.TextDelta); ok && d.Candidate == 0 {
			scores = append(scores, d.Scores...)
		}
	}
	rec := x.Record()
	r.Replayed = Side{ID: rec.ID, Model: rec.Answered, Preset: rec.Preset, Answers: ledger.Answers(heard), Prompt: rec.PromptTokens, Cached: rec.CachedTokens, Completion: rec.CompletionTokens, Reason: rec.Reason,
		FirstToken: rec.FirstToken, Took: rec.Took}
	before, after := said(content.Answers), said(r.Replayed.Answers)
	r.Difference = append(r.Difference, difference.Words(before, after)...)
	r.Same, r.Alike = r.Difference.Same(), r.Difference.Alike()
	r.measure(ctx, g, caller, from, recorded, asked, content, scores)
	return r, nil
}

// changed makes the request that is to be asked. What a preset had put into the recorded one is taken out if another is to answer.
func changed(req exchange.Request, of record.Record, c Change) (exchange.Request, error) {
	own := req.Model
	if of.Preset != "" {
		own = of.Preset
	} else if of.Answered != "" {
		own = of.Answered
	}
	req.Wanted, req.Candidates, req.Format.Form = nil, 1, nil
	req = req.Bare()
	req.Model = own
	if c.Model != "" {
		req.Model = c.Model
	}
	if c.Template != "" {
		req.Template = c.Template
	}
	if c.Instructions != nil {
		turns := req.Turns
		for len(turns) > 0 && turns[0].Role == exchange.System {
			turns = turns[1:]
		}
		req.Turns = append([]exchange.Turn{{Role: exchange.System, Parts: []exchange.Part{exchange.Text(*c.Instructions)}}}, turns...)
		if *c.Instructions == "" {
			req.Turns = turns
		}
	}
	last := ""
	for _, t := range req.Turns {
		if t.Role == exchange.User {
			last = t.Text()
		}
	}
	switch c.Style {
	case "", "chat":
	case "generate":
		turns := []exchange.Turn{}
		if len(req.Turns) > 0 && req.Turns[0].Role == exchange.System {
			turns = append(turns, req.Turns[0])
		}
		req.Turns = append(turns, exchange.Turn{Role: exchange.User, Parts: []exchange.Part{exchange.Text(last)}})
		req.Tools, req.Choice = nil, exchange.Choice{}
	case string(dialect.Completion), "raw": // which it was called before
		if req.Raw == nil {
			req.Raw = &exchange.Raw{Text: last}
		}
		req.Turns, req.Tools, req.Choice, req.Format = nil, nil, exchange.Choice{}, exchange.Format{}
	default:
		return req, exchange.InvalidParam("style", "style is %q; chat, generate and completion are possible", c.Style)
	}
	if req.Raw != nil && c.Style != "" && c.Style != string(dialect.Completion) && c.Style != "raw" {
		req.Turns = []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(req.Raw.Text)}}}
		req.Raw = nil
	}
	s := &req.Sampling
	for _, set := range []struct{ to, value **float64 }{{&s.Temperature, &c.Temperature}, {&s.TopP, &c.TopP}} {
		if *set.value != nil {
			*set.to = *set.value
		}
	}
	if c.Seed != nil {
		s.Seed = c.Seed
	}
	if c.MaxTokens > 0 {
		req.MaxTokens = c.MaxTokens
	}
	if c.Reasoning != nil {
		req.Thinking, req.Effort = *c.Reasoning, ""
	}
	return req, nil
}

// said is an answer in one text, of the first candidate.
func said(answers []kept.Answer) string {
	if len(answers) == 0 {
		return ""
	}
	a := answers[0]
	parts := []string{a.Text}
	for _, c := range a.Calls {
		parts = append(parts, fmt.Sprintf("%s %s", c.Name, c.Arguments))
	}
	return strings.TrimSpace(strings.Join(parts, "\n"))
}

// measure compares tokens, where both answers are our engine's.
func (r *Result) measure(ctx context.Context, g *gate.Gate, caller keyring.Key, from gate.Origin, recorded *exchange.Request, asked exchange.Request, content kept.Content, scores []exchange.Score) {
	if len(content.Answers) == 0 || content.Answers[0].Text == "" {
		return
	}
	text := content.Answers[0].Text
	was := *recorded
	was.Model, was.Wanted = r.Recorded.Model, nil // its prompt has the preset in it
	under := func(n int, req exchange.Request) []exchange.Score {
		list, _, err := g.Measure(ctx, caller, from.Part(n), req, text, alternatives)
		if err != nil {
			var e *exchange.Error
			if errors.As(err, &e) && e.Kind != exchange.Internal {
				r.Notes = append(r.Notes, e.Message)
			}
			return nil
		}
		return list
	}
	then := under(0, was)
	if then == nil {
		return
	}
	r.Recorded.LogProb = sum(then)
	if now := under(1, asked); now != nil {
		r.Replayed.LogProb = sum(now)
	}
	if r.Same || len(scores) == 0 {
		return
	}
	place, before := 0, ""
	for place < len(then) && place < len(scores) && then[place].Text == scores[place].Text {
		before += then[place].Text
		place++
	}
	if len(before) > longBefore {
		before = "…" + strings.ToValidUTF8(before[len(before)-longBefore:], "")
	}
	r.Parting = &Parting{Place: place, Before: before, Recorded: choices(then, place), Replayed: choices(scores, place)}
}

func sum(list []exchange.Score) *float64 {
	total := 0.0
	for _, s := range list {
		total += s.LogProb
	}
	return &total
}

// choices are what was said at a place, and what else might have been; nothing beyond the end.
func choices(list []exchange.Score, place int) []Token {
	if place >= len(list) {
		return []Token{}
	}
	out := []Token{{list[place].Text, list[place].LogProb}}
	for _, t := range list[place].Top {
		if t.Text != list[place].Text {
			out = append(out, Token{t.Text, t.LogProb})
		}
	}
	return out
}
