// Package completion is the raw completion style: the wire types of POST /v1/completions, translated to the neutral form
// and back. The prompt goes to the model as it is. The reference for fields is the public interface description of that
// endpoint.
package completion

import (
	"cmp"
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Call is a decoded request: one neutral request for each prompt.
type Call struct {
	Model        string
	Requests     []exchange.Request
	Kept         int // how many of a request's candidates are given out: the most likely ones
	Stream       bool
	IncludeUsage bool
	Scores       bool            // whether log-probabilities were asked for
	Unknown      []field.Ignored // fields that mean nothing here; they were ignored
}

// Limits of a request.
const (
	maxPrompts    = 64
	maxAnswers    = 128 // of all prompts together
	maxTop        = 5   // alternatives of a token, by the standard
	defaultTokens = 16  // of an answer, by the standard
)

// Decode reads the body of a request. The error is an [exchange.Error] that names the field.
func Decode(body []byte) (*Call, error) {
	o, err := field.Parse(body)
	if err != nil {
		return nil, err
	}
	wire.Refuse(o,
		wire.Elsewhere{Name: "messages", Instead: "in this style the prompt goes to the model as it is; messages are for /v1/chat/completions"},
		wire.Elsewhere{Name: "input", Instead: "in this style it is called prompt"},
		wire.Elsewhere{Name: "instructions", Instead: "in this style they are a part of the prompt; /v1/generate takes them apart"},
		wire.Elsewhere{Name: "max_completion_tokens", Instead: "in this style it is called max_tokens"},
		wire.Elsewhere{Name: "max_output_tokens", Instead: "in this style it is called max_tokens"},
		wire.Elsewhere{Name: "response_format", Instead: "formats are for /v1/chat/completions"},
		wire.Elsewhere{Name: "tools", Instead: "tools are for /v1/chat/completions and /v1/responses"},
	)
	c := &Call{Model: wire.Model(o), Kept: 1}
	c.Stream, c.IncludeUsage = wire.Stream(o)
	req := exchange.Request{Model: c.Model, Stop: wire.Stop(o), Sampling: wire.Sampling(o), MaxTokens: defaultTokens}
	if n := o.Int("n", 1, wire.MaxCandidates); n != nil {
		c.Kept = int(*n)
	}
	req.Candidates = c.Kept
	if n := o.Int("best_of", 1, wire.MaxCandidates); n != nil {
		req.Candidates = int(*n)
		switch {
		case req.Candidates < c.Kept:
			o.Fail("best_of", "best_of is %d, but n asks for %d of them", req.Candidates, c.Kept)
		case c.Stream && req.Candidates > c.Kept:
			o.Fail("best_of", "best_of goes without \"stream\" only: which answers are best is known when they are whole")
		}
	}
	if n := o.Int("logprobs", 0, maxTop); n != nil {
		c.Scores = true
		top := int(*n)
		req.Scores = &top
	} else if req.Candidates > c.Kept {
		req.Scores = new(int) // to compare them
	}
	echo := o.Bool("echo")
	noAnswer := false
	if n := o.Int("max_tokens", 0, 1<<31-1); n != nil {
		req.MaxTokens = int(*n)
		if noAnswer = *n == 0; noAnswer && !echo {
			o.Fail("max_tokens", "max_tokens is 0, which goes with \"echo\": true only")
		}
	}
	suffix, _ := o.String("suffix")
	if suffix != "" && echo {
		o.Fail("suffix", "suffix goes without \"echo\" only: the prompt is in two parts then")
	}
	req.Carried = wire.Carried(o, "user")
	for _, raw := range prompts(o) {
		if suffix != "" && raw.Tokens != nil {
			o.Fail("suffix", "suffix goes with prompts that are texts only")
		}
		raw.Echo, raw.NoAnswer, raw.Suffix = echo, noAnswer, suffix
		one := req
		one.Raw = &raw
		c.Requests = append(c.Requests, one)
	}
	if n := len(c.Requests) * req.Candidates; n > maxAnswers {
		o.Fail("n", "%d prompts with %d answers each make %d; %d are possible in one request", len(c.Requests), req.Candidates, n, maxAnswers)
	}
	c.Unknown = o.Ignored()
	return c, o.Err()
}

// prompts reads one prompt or a list of them, as texts or as tokens.
func prompts(o *field.Object) []exchange.Raw {
	switch o.Kind("prompt") {
	case field.Missing:
		o.Fail("prompt", "prompt is missing: the text that the model is to go on from")
		return nil
	case field.Text:
		s, _ := o.String("prompt")
		return []exchange.Raw{{Text: s}}
	}
	inputs := wire.Inputs(o, "prompt", maxPrompts)
	list := make([]exchange.Raw, len(inputs))
	for i, in := range inputs {
		list[i] = exchange.Raw{Text: in.Text, Tokens: in.Tokens}
	}
	return list
}

// Completion is a whole answer, or, in streams, a piece of one.
type Completion struct {
	ID      string           `json:"id"`
	Object  string           `json:"object"`
	Created int64            `json:"created"` // seconds since 1970
	Model   string           `json:"model"`
	Choices []Choice         `json:"choices"`
	Usage   wire.StreamUsage `json:"usage,omitzero"`
	// Fingerprint tells which weights and settings answered.
	Fingerprint string `json:"system_fingerprint,omitempty"`
}

// Choice is one answer to one prompt. Those of the first prompt come first.
type Choice struct {
	Index        int              `json:"index"`
	Text         string           `json:"text"`
	Logprobs     *Logprobs        `json:"logprobs"`
	FinishReason *exchange.Reason `json:"finish_reason"` // null in streams until the last piece
}

// Logprobs are lists of equal length, with an entry for each token.
type Logprobs struct {
	Tokens  []string             `json:"tokens"`
	Scores  []*float64           `json:"token_logprobs"` // null for a token with nothing before it
	Top     []map[string]float64 `json:"top_logprobs"`   // null likewise
	Offsets []int                `json:"text_offset"`    // characters from the beginning of the text
}

func (l *Logprobs) add(list []exchange.Score, offset int) int {
	for _, s := range list {
		top := map[string]float64{}
		for _, t := range s.Top {
			top[t.Text] = t.LogProb
		}
		l.Tokens = append(l.Tokens, s.Text)
		l.Scores = append(l.Scores, &s.LogProb)
		l.Top = append(l.Top, top)
		l.Offsets = append(l.Offsets, offset)
		offset += utf8.RuneCountInString(s.Text)
	}
	return offset
}

// echo begins with the tokens of a prompt.
func (l *Logprobs) echo(e *exchange.Echo) (offset int) {
	if e.First != "" {
		l.Tokens, l.Scores, l.Top, l.Offsets = append(l.Tokens, e.First), append(l.Scores, nil), append(l.Top, nil), append(l.Offsets, 0)
		offset = utf8.RuneCountInString(e.First)
	}
	return l.add(e.Scores, offset)
}

// answer is what has come of one candidate.
type answer struct {
	text   strings.Builder
	scores Logprobs
	offset int
	sum    float64 // of the log-probabilities
	tokens int
	reason exchange.Reason
}

// Events is a stream of the events of all requests, with the number of each.
type Events = iter.Seq2[exchange.Numbered[exchange.Event], error]

func (c *Call) piece(id string, created time.Time) *Completion {
	return &Completion{ID: "cmpl-" + id, Object: "text_completion", Created: created.Unix(), Model: c.Model, Choices: []Choice{}, Fingerprint: c.Requests[0].Fingerprint}
}

// Encode collects a stream of events into a whole answer.
func Encode(id string, created time.Time, call *Call, events Events) (*Completion, error) {
	out := call.piece(id, created)
	out.Usage = wire.StreamUsage{Asked: true, Last: &wire.Usage{}}
	answers := make([][]answer, len(call.Requests))
	for i, r := range call.Requests {
		answers[i] = make([]answer, r.Candidates)
	}
	for numbered, err := range events {
		if err != nil {
			return nil, err
		}
		out.Usage.Last.Count(numbered.Item)
		list := answers[numbered.Stream]
		switch event := numbered.Item.(type) {
		case exchange.Started:
			for i := range list {
				if event.Echo != nil {
					list[i].text.WriteString(event.Echo.Text)
					list[i].offset = list[i].scores.echo(event.Echo)
				}
			}
		case exchange.TextDelta:
			a := &list[event.Candidate]
			a.text.WriteString(event.Text)
			a.offset = a.scores.add(event.Scores, a.offset)
			for _, s := range event.Scores {
				a.sum += s.LogProb
				a.tokens++
			}
		case exchange.Finish:
			list[event.Candidate].reason = event.Reason
		case exchange.ReasoningDelta, exchange.ToolCallDelta, exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
			return nil, fmt.Errorf("completion style: a raw prompt gave a %T", event)
		}
	}
	for i, list := range answers {
		// The most likely first, by the mean of their tokens, if there are more than are wanted.
		order := make([]*answer, len(list))
		for j := range list {
			order[j] = &list[j]
		}
		if len(list) > call.Kept {
			slices.SortStableFunc(order, func(a, b *answer) int {
				return cmp.Compare(b.sum/float64(max(1, b.tokens)), a.sum/float64(max(1, a.tokens)))
			})
		}
		for j, a := range order[:call.Kept] {
			choice := Choice{Index: i*call.Kept + j, Text: a.text.String(), FinishReason: &a.reason}
			if call.Scores {
				choice.Logprobs = &a.scores
			}
			out.Choices = append(out.Choices, choice)
		}
	}
	return out, nil
}

// EncodeStream turns a stream of events into pieces, as they come.
func EncodeStream(id string, created time.Time, call *Call, events Events) iter.Seq2[*Completion, error] {
	return func(yield func(*Completion, error) bool) {
		var usage wire.Usage
		offsets := make([]int, len(call.Requests)*call.Kept)
		for numbered, err := range events {
			if err != nil {
				yield(nil, err)
				return
			}
			usage.Count(numbered.Item)
			out := call.piece(id, created)
			out.Usage.Asked = false // only the last piece has it, as the types have it
			at := func(candidate int) int { return numbered.Stream*call.Kept + candidate }
			switch event := numbered.Item.(type) {
			case exchange.Started:
				if event.Echo == nil {
					continue
				}
				for i := range call.Kept {
					choice := Choice{Index: at(i), Text: event.Echo.Text}
					if call.Scores {
						choice.Logprobs = &Logprobs{}
						offsets[at(i)] = choice.Logprobs.echo(event.Echo)
					}
					out.Choices = append(out.Choices, choice)
				}
			case exchange.TextDelta:
				choice := Choice{Index: at(event.Candidate), Text: event.Text}
				if call.Scores {
					choice.Logprobs = &Logprobs{}
					offsets[choice.Index] = choice.Logprobs.add(event.Scores, offsets[choice.Index])
				}
				out.Choices = append(out.Choices, choice)
			case exchange.Finish:
				out.Choices = append(out.Choices, Choice{Index: at(event.Candidate), FinishReason: &event.Reason})
			case exchange.ReasoningDelta, exchange.ToolCallDelta, exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
				yield(nil, fmt.Errorf("completion style: a raw prompt gave a %T", event))
				return
			}
			if !yield(out, nil) {
				return
			}
		}
		if call.IncludeUsage {
			last := call.piece(id, created)
			last.Usage = wire.StreamUsage{Asked: true, Last: &usage}
			yield(last, nil)
		}
	}
}

// MarshalJSON writes lists without entries as such.
func (l *Logprobs) MarshalJSON() ([]byte, error) {
	type plain Logprobs
	full := plain(*l)
	if full.Tokens == nil {
		full = plain{Tokens: []string{}, Scores: []*float64{}, Top: []map[string]float64{}, Offsets: []int{}}
	}
	return json.Marshal(full)
}
