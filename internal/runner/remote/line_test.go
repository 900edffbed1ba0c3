package remote

import (
	"bytes"
	"context"
	"errors"
	"iter"
	"log/slog"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/placement"
)

// spoke is a line whose machine says what it is told to, and then nothing for as long as it is asked, if it hangs.
type spoke struct {
	Line
	events []exchange.Event
	read   []int // tokens of the prompt, as it tells of them first
	pause  time.Duration
	hangs  bool
	vector *exchange.Vectors
	scores *exchange.Relevance
}

func (s *spoke) Run(ctx context.Context, _ string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		for _, n := range s.read {
			time.Sleep(s.pause)
			req.Reading(n)
		}
		for _, e := range s.events {
			if !yield(e, nil) {
				return
			}
		}
		if s.hangs {
			<-ctx.Done()
			yield(nil, ctx.Err())
		}
	}
}

func (s *spoke) Embed(context.Context, string, *exchange.Embedding) (*exchange.Vectors, error) {
	return s.vector, nil
}

func (s *spoke) Rank(context.Context, string, *exchange.Ranking) (*exchange.Relevance, error) {
	return s.scores, nil
}

func (s *spoke) Models() []Model {
	return []Model{{Name: "harbour-4m", Abilities: LineAbilities()}}
}
func (s *spoke) Away() string                                   { return "" }
func (s *spoke) Candidate(string, []uint32) placement.Candidate { return placement.Candidate{} }

func speaking(t testing.TB, s *spoke, set Settings) *Machine {
	t.Helper()
	set.Line, set.Tries = s, 1
	m, err := New("attic", set, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func twoCandidates() *exchange.Request {
	return &exchange.Request{Candidates: 2, MaxTokens: 10, Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text("When does it sail?")}}}}
}

// What a machine that has joined says is taken if a runner of our own could have said it; else it ends the answer, before it is counted.
func TestWhatALineMaySay(t *testing.T) {
	begin, piece := exchange.Started{PromptTokens: 9, CachedTokens: 3}, exchange.TextDelta{Text: "At six.", Tokens: 3}
	ends := []exchange.Event{exchange.Finish{Reason: exchange.Stopped, Tokens: 4}, exchange.Finish{Candidate: 1, Reason: exchange.Length, Tokens: 2}}
	call := exchange.ToolCallDelta{ID: "c1", Name: "next_sailing", Arguments: "{}", Done: true}
	type events = []exchange.Event
	for name, c := range map[string]struct {
		events events
		wrong  string // "" for nothing
	}{
		"an answer":             {append(events{begin, piece, exchange.ReasoningDelta{Candidate: 1, Text: "Hm.", Tokens: 1}, call}, ends...), ""},
		"fewer than it told":    {events{begin, exchange.TextDelta{Text: "x", Tokens: 5}, exchange.Finish{Reason: exchange.Stopped, Tokens: 4}}, ""},
		"calls in turn":         {events{begin, exchange.ToolCallDelta{Name: "a"}, exchange.ToolCallDelta{Name: "b", Index: 1}, exchange.ToolCallDelta{Arguments: "{", Done: true}}, ""},
		"counted at its end":    {events{exchange.Started{}, exchange.Finish{Reason: exchange.Stopped, PromptTokens: 9}}, ""},
		"no beginning":          {events{piece}, "before it has begun"},
		"two beginnings":        {events{begin, begin}, "begins twice"},
		"less than no prompt":   {events{exchange.Started{PromptTokens: -1_000_000}}, "cannot have -1000000 tokens"},
		"a prompt of millions":  {events{exchange.Started{PromptTokens: 50_000_000}}, "cannot have 50000000 tokens"},
		"more cached than read": {events{exchange.Started{PromptTokens: 3, CachedTokens: 4}}, "4 of them cached"},
		"a prompt twice":        {events{begin, exchange.Finish{Reason: exchange.Stopped, PromptTokens: 9}}, "counts its prompt twice"},
		"less than no time":     {events{exchange.Started{Timings: exchange.Timings{Prefill: -1}}}, "less than no time"},
		"another candidate":     {events{begin, exchange.TextDelta{Candidate: 2, Text: "x"}}, "an answer number 2"},
		"no candidate":          {events{begin, exchange.Finish{Candidate: -1, Reason: exchange.Stopped}}, "an answer number -1"},
		"after its end":         {events{begin, ends[0], piece}, "after its end"},
		"two ends":              {events{begin, ends[0], ends[0]}, "after its end"},
		"less than no tokens":   {events{begin, exchange.TextDelta{Text: "x", Tokens: -5}}, "cannot have -5 tokens"},
		"an end with less":      {events{begin, exchange.Finish{Reason: exchange.Stopped, Tokens: -5}}, "a count of -5"},
		"too many tokens":       {events{begin, exchange.TextDelta{Text: "x", Tokens: 15}, exchange.TextDelta{Candidate: 1, Text: "x", Tokens: 6}}, "has 21 tokens, where 20"},
		"too much reasoning":    {events{begin, exchange.Finish{Reason: exchange.Stopped, Tokens: 2, ReasoningTokens: 3}}, "3 tokens of reasoning among 2"},
		"a call out of turn":    {events{begin, exchange.ToolCallDelta{Index: 1 << 40, Name: "a"}}, "after 0"},
		"a call without a name": {events{begin, exchange.ToolCallDelta{Arguments: "{}"}}, "without its name"},
		"a call that goes on":   {events{begin, call, exchange.ToolCallDelta{Arguments: "{}"}}, "goes on after its end"},
		"steps":                 {events{begin, exchange.RunEnded{Output: "x"}}, "nobody has asked for"},
		"a beginning of steps":  {events{exchange.Started{Steps: true}}, "nobody has asked for"},
		"more text than may be": {events{begin, exchange.TextDelta{Text: strings.Repeat("x", 2<<20)}}, "beyond 1 MB"},
		"an echo that is long":  {events{exchange.Started{Echo: &exchange.Echo{Scores: make([]exchange.Score, 200_000)}}}, "more tokens than the prompt"},
	} {
		m := speaking(t, &spoke{events: c.events}, Settings{LongestAnswer: 1 << 20})
		n, got := 0, ""
		for _, err := range m.Run(t.Context(), "harbour-4m", twoCandidates()) {
			if n++; err != nil {
				n--
				got = err.Error()
				if e := exchange.AsError(err); e.Code != "runner_answer_broken" {
					t.Errorf("%s: the code is %s", name, e.Code)
				}
			}
		}
		if want := len(c.events); c.wrong == "" && (got != "" || n != want) || c.wrong != "" && (!strings.Contains(got, c.wrong) || n != want-1) {
			t.Errorf("%s: %d events are taken, then %q", name, n, got)
		}
	}
	for name, s := range map[string]*spoke{
		"a vector too few":         {vector: &exchange.Vectors{}},
		"vectors of millions":      {vector: &exchange.Vectors{Vectors: [][]float32{{1}}, Tokens: 50_000_000}},
		"vectors of less":          {vector: &exchange.Vectors{Vectors: [][]float32{{1}}, Tokens: -1}},
		"a score too few":          {scores: &exchange.Relevance{}},
		"scores of less":           {scores: &exchange.Relevance{Scores: []float64{1}, Tokens: -1}},
		"scores before their time": {scores: &exchange.Relevance{Scores: []float64{1}, Timings: exchange.Timings{Queue: -1}}},
	} {
		m := speaking(t, s, Settings{})
		var err error
		if s.vector != nil {
			_, err = m.Embed(t.Context(), "harbour-embed", &exchange.Embedding{Inputs: []exchange.Input{{Text: "pier"}}})
		} else {
			_, err = m.Rank(t.Context(), "harbour-rerank", &exchange.Ranking{Query: "pier", Documents: []string{"harbour"}})
		}
		if err == nil || exchange.AsError(err).Code != "runner_answer_broken" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A machine that has joined and hangs is given up, before its first token or in the middle; one that reads a long prompt is not.
func TestALineThatHangs(t *testing.T) {
	begin := []exchange.Event{exchange.Started{PromptTokens: 9}}
	for name, c := range map[string]struct {
		spoke spoke
		want  string
	}{
		"from the beginning": {spoke{hangs: true}, "did not begin to answer within 100ms"},
		"in the middle":      {spoke{events: begin, hangs: true}, "nothing whole came for 100ms"},
		"at its prompt":      {spoke{read: []int{5, 5, 5, 5, 5}, pause: 40 * time.Millisecond, hangs: true}, "did not begin"},
		"not: it reads":      {spoke{read: []int{1, 2, 3, 4, 5}, pause: 40 * time.Millisecond, events: append(begin, exchange.Finish{Reason: exchange.Stopped}, exchange.Finish{Candidate: 1, Reason: exchange.Stopped})}, ""},
	} {
		m := speaking(t, &c.spoke, Settings{FirstToken: 100 * time.Millisecond, Silence: 100 * time.Millisecond})
		var failed error
		for _, err := range m.Run(t.Context(), "harbour-4m", twoCandidates()) {
			failed = errors.Join(failed, err)
		}
		if c.want == "" && failed == nil {
			continue
		}
		if e := exchange.AsError(failed); failed == nil || c.want == "" || !strings.Contains(e.Message, c.want) || strings.Contains(e.Message, "runners.") || e.Code != "runner_timeout" {
			t.Errorf("%s: %v", name, failed)
		}
	}
}

// FuzzLine has a machine say any events in any order: what is taken of them adds up, and is no more than was asked for.
func FuzzLine(f *testing.F) {
	f.Add([]byte(`{"started":{"prompt_tokens":9}}
{"text":{"text":"At six.","tokens":3}}
{"tool_call":{"index":0,"name":"next_sailing","done":true}}
{"finish":{"reason":"stop","tokens":3}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		req := twoCandidates()
		s := speaking(t, &spoke{}, Settings{LongestAnswer: 1 << 10}).script(req)
		tokens, text := 0, 0
		ended := make([]bool, req.Candidates)
		for line := range bytes.Lines(raw) {
			event, err := exchange.DecodeEvent(bytes.TrimSpace(line))
			if err != nil {
				continue
			}
			if s.take(event) != nil {
				return
			}
			switch e := event.(type) {
			case exchange.Started:
				tokens += e.PromptTokens
			case exchange.TextDelta:
				text += len(e.Text)
			case exchange.Finish:
				if ended[e.Candidate] {
					t.Fatal("a candidate has ended twice")
				}
				ended[e.Candidate], tokens = true, tokens+e.PromptTokens+e.Tokens
			}
		}
		if tokens < 0 || tokens > s.prompt+s.answer || text > 1<<10 {
			t.Errorf("%d tokens and %d bytes are taken", tokens, text)
		}
	})
}
