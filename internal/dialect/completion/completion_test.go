package completion

import (
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

func FuzzDecode(f *testing.F) {
	for _, s := range []string{
		`{"model":"m","prompt":"x","echo":true,"logprobs":2,"n":2,"best_of":3,"stop":["a"]}`,
		`{"model":"m","prompt":["x","y"],"max_tokens":0,"echo":true}`, `{"model":"m","prompt":[1,2]}`, `{"model":"m","prompt":[[1],[2]]}`, `{"model":"m","prompt":[null]}`, `{"suffix":"x"}`,
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		c, err := Decode(body)
		if err != nil {
			if e := exchange.AsError(err); e.Kind != exchange.Invalid || e.Message == "" {
				t.Errorf("%q: %v", body, err)
			}
			return
		}
		if len(c.Requests) == 0 || c.Kept < 1 {
			t.Errorf("%q: %d requests of which %d are kept", body, len(c.Requests), c.Kept)
		}
		for _, r := range c.Requests {
			if r.Raw == nil || r.Candidates < c.Kept || r.Raw.NoAnswer && !r.Raw.Echo {
				t.Errorf("%q: %+v", body, r)
			}
		}
	})
}

// Of more candidates than are wanted the most likely are given, and none of a stream's pieces may be of another kind.
func TestTheMostLikelyAreKept(t *testing.T) {
	c, err := Decode([]byte(`{"model":"m","prompt":"x","n":2,"best_of":3}`))
	if err != nil {
		t.Fatal(err)
	}
	say := func(candidate int, text string, score float64) exchange.Event {
		return exchange.TextDelta{Candidate: candidate, Text: text, Tokens: 1, Scores: []exchange.Score{{Text: text, LogProb: score}}}
	}
	list := []exchange.Event{exchange.Started{PromptTokens: 1}, say(0, "worst", -9), say(1, "best", -1), say(2, "second", -2), say(2, " half", -2),
		exchange.Finish{Candidate: 0, Reason: exchange.Stopped, Tokens: 1}, exchange.Finish{Candidate: 1, Reason: exchange.Stopped, Tokens: 1}, exchange.Finish{Candidate: 2, Reason: exchange.Length, Tokens: 2}}
	events := func(list []exchange.Event) Events {
		return func(yield func(exchange.Numbered[exchange.Event], error) bool) {
			for _, e := range list {
				if !yield(exchange.Numbered[exchange.Event]{Item: e}, nil) {
					return
				}
			}
		}
	}
	a, err := Encode("1", time.Now(), c, events(list))
	if err != nil || len(a.Choices) != 2 || a.Choices[0].Text != "best" || a.Choices[1].Text != "second half" || a.Choices[1].Index != 1 || a.Choices[0].Logprobs != nil || a.Usage.Last.CompletionTokens != 4 {
		t.Errorf("%+v, %v", a, err)
	}
	if _, err := Encode("1", time.Now(), c, events([]exchange.Event{exchange.ToolCallDelta{}})); err == nil {
		t.Error("a tool call was taken for text")
	}
}
