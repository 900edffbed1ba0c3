package remote

import "kindredgate/internal/exchange"

// This file is what a machine that has joined may say in an answer. Its events come in the neutral form, which everything behind the gate
// relies on, so one that a runner of our own could not have given ends the answer.

// script checks the events of one answer, in their order.
type script struct {
	started    bool
	prompt     int // the most tokens that it can have
	answer     int // the most tokens that all candidates can have
	told       bool
	candidates []spoken
	bytes      int64
	longest    int64
}

// spoken is what has come of a candidate.
type spoken struct {
	tokens   int
	calls    []bool // whether each has ended
	finished bool
}

// mostMarkup is how many tokens a model's template may add to a prompt.
const mostMarkup = 100_000

func (m *Machine) script(req *exchange.Request) *script {
	n := max(1, req.Candidates)
	// No token stands for less than a byte.
	s := &script{prompt: min(mostTokens, bytesOfToken*EstimateTokens(req)+mostMarkup), answer: mostTokens, candidates: make([]spoken, n), longest: m.set.LongestAnswer}
	if req.MaxTokens > 0 {
		s.answer = min(mostTokens, n*req.MaxTokens)
	}
	return s
}

// take says what is wrong with the next event; nil for nothing.
func (s *script) take(event exchange.Event) error {
	if first, ok := event.(exchange.Started); ok {
		return s.start(first)
	}
	if !s.started {
		return broken("it goes on before it has begun")
	}
	switch e := event.(type) {
	case exchange.TextDelta:
		return s.piece(e.Candidate, e.Tokens, len(e.Text))
	case exchange.ReasoningDelta:
		return s.piece(e.Candidate, e.Tokens, len(e.Text))
	case exchange.ToolCallDelta:
		if err := s.piece(e.Candidate, e.Tokens, len(e.ID)+len(e.Name)+len(e.Arguments)); err != nil {
			return err
		}
		return s.candidates[e.Candidate].call(e)
	case exchange.Finish:
		return s.finish(e)
	}
	return broken("it has steps, which nobody has asked for")
}

func (s *script) start(e exchange.Started) error {
	if s.started {
		return broken("it begins twice")
	}
	s.started, s.told = true, e.PromptTokens > 0
	if e.Steps {
		return broken("it has steps, which nobody has asked for")
	}
	if err := timed(e.Timings); err != nil {
		return err
	}
	if e.Echo != nil && len(e.Echo.Scores) > s.prompt {
		return broken("it repeats more tokens than the prompt has")
	}
	if e.Dropped < 0 {
		return broken("it has left out %d turns", e.Dropped)
	}
	return s.prompted(e.PromptTokens, e.CachedTokens)
}

// timed checks where the time went.
func timed(t exchange.Timings) error {
	if min(t.Queue, t.Load, t.Look, t.Prefill) < 0 {
		return broken("it took less than no time")
	}
	return nil
}

// believable checks what reading texts of so many bytes came to, for an answer that comes in one piece.
func believable(tokens, bytes int, t exchange.Timings) error {
	if tokens < 0 || tokens > min(mostTokens, bytes+mostMarkup) {
		return broken("it cannot have read %d tokens", tokens)
	}
	return timed(t)
}

// prompted checks the counts of a prompt.
func (s *script) prompted(tokens, cached int) error {
	if tokens < 0 || tokens > s.prompt || cached < 0 || cached > tokens {
		return broken("its prompt cannot have %d tokens, %d of them cached", tokens, cached)
	}
	return nil
}

// at is a candidate that has not ended.
func (s *script) at(candidate int) (*spoken, error) {
	if candidate < 0 || candidate >= len(s.candidates) {
		return nil, broken("it has an answer number %d, where %d were asked for", candidate, len(s.candidates))
	}
	c := &s.candidates[candidate]
	if c.finished {
		return nil, broken("its answer number %d goes on after its end", candidate)
	}
	return c, nil
}

// piece checks a piece of an answer, of so many tokens and bytes.
func (s *script) piece(candidate, tokens, bytes int) error {
	c, err := s.at(candidate)
	if err != nil {
		return err
	}
	if s.bytes += int64(bytes); s.bytes > s.longest {
		return broken("it goes on beyond %d MB", s.longest>>20)
	}
	return s.count(c, tokens)
}

// count adds to the tokens of a candidate.
func (s *script) count(c *spoken, tokens int) error {
	if tokens < 0 || tokens > s.answer {
		return broken("a piece of it cannot have %d tokens", tokens)
	}
	c.tokens += tokens
	sum := 0
	for i := range s.candidates {
		sum += s.candidates[i].tokens
	}
	if sum > s.answer {
		return broken("it has %d tokens, where %d were asked for at the most", sum, s.answer)
	}
	return nil
}

// call checks a part of a tool call.
func (c *spoken) call(e exchange.ToolCallDelta) error {
	switch {
	case e.Index < 0 || e.Index > len(c.calls):
		return broken("it has a tool call number %d after %d", e.Index, len(c.calls))
	case e.Index == mostCalls:
		return broken("it has more than %d tool calls", mostCalls)
	case e.Index == len(c.calls) && e.Name == "":
		return broken("it has the arguments of a tool call without its name")
	case e.Index == len(c.calls):
		c.calls = append(c.calls, false)
	case c.calls[e.Index]:
		return broken("a tool call goes on after its end")
	}
	c.calls[e.Index] = e.Done
	return nil
}

func (s *script) finish(e exchange.Finish) error {
	c, err := s.at(e.Candidate)
	if err != nil {
		return err
	}
	c.finished = true
	for _, n := range []int{e.Tokens, e.Malformed, e.ReasoningTokens, e.Drafted, e.Accepted} {
		if n < 0 || n > mostTokens {
			return broken("it ends with a count of %d", n)
		}
	}
	c.tokens = 0
	if err := s.count(c, e.Tokens); err != nil {
		return err
	}
	if e.ReasoningTokens > e.Tokens {
		return broken("it has %d tokens of reasoning among %d", e.ReasoningTokens, e.Tokens)
	}
	if s.told && e.PromptTokens > 0 {
		return broken("it counts its prompt twice")
	}
	s.told = s.told || e.PromptTokens > 0
	return s.prompted(e.PromptTokens, e.CachedTokens)
}
