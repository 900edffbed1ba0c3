package remote

import (
	"crypto/rand"
	"encoding/json"
	"strings"

	"kindredgate/internal/exchange"
)

// answer puts together what a server says of an answer, and sees to it that what comes out is one: it begins once, candidates end once, and
// their tokens are counted here where the server counts wrongly or not at all.
type answer struct {
	m          *Machine
	req        *exchange.Request
	candidates []candidate
	begun      bool
	left       int // candidates that have not ended
	usage      *usage
	reasoned   int    // tokens of reasoning that were told
	gathered   []byte // text that has come and was not told yet, in so many pieces, of one candidate
	pieces, of int
	counted    bool // the prompt's tokens were told when it began
}

// candidate is what came of one answer.
type candidate struct {
	tokens    int // as they are counted here: one for each piece
	calls     []called
	text      bool // there was any
	citations int
	reason    exchange.Reason
	raw       string // that reason in the server's words, "" if it gave none
}

// called is a call of a candidate, as its server names it. Pieces of several may come by turns.
type called struct {
	number   int
	id, name string // the id is empty if it gives none
}

// usage is what a server counts.
type usage struct {
	Prompt        int `json:"prompt_tokens"`
	Completion    int `json:"completion_tokens"`
	PromptDetails struct {
		Cached int `json:"cached_tokens"`
	} `json:"prompt_tokens_details"`
	Details struct {
		Reasoning int `json:"reasoning_tokens"`
	} `json:"completion_tokens_details"`
}

// UnmarshalJSON takes what can be read: counts that are no numbers are like none, and no reason to lose the answer.
func (u *usage) UnmarshalJSON(raw []byte) error {
	type plain usage
	*u = usage(orNone(raw, plain{Prompt: -1})) // which cannot be
	return nil
}

func orNone[T any](raw []byte, none T) (read T) {
	if json.Unmarshal(raw, &read) != nil {
		return none
	}
	return read
}

// mostTokens is more than any prompt or answer has.
const mostTokens = 100_000_000

func newAnswer(m *Machine, req *exchange.Request) answer {
	n := max(1, req.Candidates)
	return answer{m: m, req: req, candidates: make([]candidate, n), left: n}
}

// at is a candidate, if there is one of that number.
func (a *answer) at(index int) (*candidate, error) {
	if index < 0 || index >= len(a.candidates) {
		return nil, broken("it has an answer number %d, where %d were asked for", index, len(a.candidates))
	}
	return &a.candidates[index], nil
}

// begin tells that the first token is there.
func (a *answer) begin(emit emitter, s exchange.Started) bool {
	if a.begun {
		return true
	}
	a.begun = true
	if u := a.usage; u != nil && a.sane() {
		s.PromptTokens, s.CachedTokens, a.counted = u.Prompt, u.PromptDetails.Cached, true
	}
	return emit(s)
}

// gather keeps a piece of text, for it to go out together with those that have come with it.
func (a *answer) gather(index int, text []byte, emit emitter) error {
	if a.pieces > 0 && index != a.of {
		if err := a.flush(emit); err != nil {
			return err
		}
	}
	if len(text) > 0 {
		a.of, a.gathered, a.pieces = index, append(a.gathered, text...), a.pieces+1
	}
	return nil
}

// flush gives out what was gathered.
func (a *answer) flush(emit emitter) error {
	if a.pieces == 0 {
		return nil
	}
	text, n := string(a.gathered), a.pieces
	a.gathered, a.pieces = a.gathered[:0], 0
	return a.tell(exchange.TextDelta{Candidate: a.of, Text: text, Tokens: n}, emit)
}

func (a *answer) text(index int, text string, scores []exchange.Score, emit emitter) error {
	if text == "" && len(scores) == 0 {
		return nil
	}
	return a.tell(exchange.TextDelta{Candidate: index, Text: text, Tokens: max(1, len(scores)), Scores: scores}, emit)
}

// refusal takes what is said in the place of an answer.
func (a *answer) refusal(index int, text string, emit emitter) error {
	if text == "" {
		return nil
	}
	return a.tell(exchange.TextDelta{Candidate: index, Text: text, Tokens: 1, Refusal: true}, emit)
}

// mostCitations bounds those of one answer.
const mostCitations = 256

func (a *answer) cited(index int, list []exchange.Citation, emit emitter) error {
	if len(list) == 0 {
		return nil
	}
	c, err := a.at(index)
	if err != nil {
		return err
	}
	if c.citations += len(list); c.citations > mostCitations {
		return broken("it has more than %d annotations", mostCitations)
	}
	return a.tell(exchange.TextDelta{Candidate: index, Citations: list}, emit)
}

// tell tells of a piece of text.
func (a *answer) tell(e exchange.TextDelta, emit emitter) error {
	c, err := a.at(e.Candidate)
	if err != nil {
		return err
	}
	c.tokens, c.text = c.tokens+e.Tokens, true
	if a.begin(emit, exchange.Started{}) {
		emit(e)
	}
	return a.runaway(c)
}

func (a *answer) reasoning(index int, text string, emit emitter) error {
	if text == "" {
		return nil
	}
	c, err := a.at(index)
	if err != nil {
		return err
	}
	c.tokens++
	a.reasoned++
	if a.begin(emit, exchange.Started{}) {
		emit(exchange.ReasoningDelta{Candidate: index, Text: text, Tokens: 1})
	}
	return a.runaway(c)
}

// beyond is how many times as many pieces may come as tokens were asked for: a server that goes on beyond that does not keep to the limit.
const beyond = 4

// runaway ends an answer that does not end by itself, though a limit was asked for.
func (a *answer) runaway(c *candidate) error {
	if most := a.req.MaxTokens; most > 0 && c.tokens > beyond*most+64 {
		return broken("it goes on after %d pieces, where %d tokens were asked for at the most", c.tokens, most)
	}
	return nil
}

// mostCalls bounds the calls of one answer.
const mostCalls = 256

// place is which of the calls a piece belongs to, -1 for a new one: that of the same id; without one, that of the same number, unless another
// name shows that the server does not number them. A piece without any of these goes on with the last.
func (c *candidate) place(number int, id, name string) int {
	for i := len(c.calls) - 1; i >= 0; i-- {
		switch one := c.calls[i]; {
		case id != "" && one.id == id:
			return i
		case id == "" && one.number == number && (name == "" || name == one.name), id != "" && one.id == "" && one.number == number && name == "":
			return i
		}
	}
	if name == "" {
		return len(c.calls) - 1
	}
	return -1
}

// call takes a piece of a call.
func (a *answer) call(index, number int, id, name, arguments string, emit emitter) error {
	c, err := a.at(index)
	if err != nil {
		return err
	}
	c.tokens++
	if !a.begin(emit, exchange.Started{}) {
		return nil
	}
	at := c.place(number, id, name)
	switch {
	case at < 0 && name == "":
		return broken("it has the arguments of a tool call without its name")
	case at < 0:
		if len(c.calls) == mostCalls {
			return broken("it has more than %d tool calls", mostCalls)
		}
		c.calls = append(c.calls, called{number, id, name})
		if id == "" {
			id = "call_" + strings.ToLower(rand.Text())
		}
		emit(exchange.ToolCallDelta{Candidate: index, Index: len(c.calls) - 1, ID: id, Name: name, Arguments: arguments, Tokens: 1})
	case arguments != "":
		emit(exchange.ToolCallDelta{Candidate: index, Index: at, Arguments: arguments, Tokens: 1})
	}
	return a.runaway(c)
}

// reason takes the reason for which a candidate ended, in the server's words.
func (a *answer) reason(index int, word string) error {
	c, err := a.at(index)
	if err != nil {
		return err
	}
	if c.reason == "" {
		a.left--
	}
	c.raw = word
	switch word {
	case "length", "max_tokens":
		c.reason = exchange.Length
	case "content_filter":
		c.reason = exchange.Filtered
	case "stop", "tool_calls", "function_call", "eos":
		c.reason = exchange.Stopped
	default:
		c.reason = exchange.Stopped
		a.m.fault("finish reason")
	}
	return nil
}

// sane reports whether what the server counts can be.
func (a *answer) sane() bool {
	u, counted := a.usage, 0
	for _, c := range a.candidates {
		counted += c.tokens
	}
	most := mostTokens
	if n := a.req.MaxTokens; n > 0 {
		most = len(a.candidates) * n
	}
	return u.Prompt >= 0 && u.Prompt <= mostTokens && u.Completion >= 0 && u.Completion <= most && (u.Completion > 0 || counted == 0) &&
		u.PromptDetails.Cached >= 0 && u.PromptDetails.Cached <= u.Prompt && u.Details.Reasoning >= 0 && u.Details.Reasoning <= u.Completion
}

// end tells how the candidates ended. said is whether the server said that the answer is whole.
func (a *answer) end(said bool, emit emitter) error {
	if a.left > 0 && !said {
		if !a.begun {
			return broken("it ended before there was anything")
		}
		return broken("it ended in the middle")
	}
	if !a.begin(emit, exchange.Started{}) {
		return nil
	}
	u := a.usage
	if u != nil && !a.sane() {
		a.m.fault("usage")
		u = nil
	}
	rest := 0
	if u != nil {
		rest = u.Completion
	}
	for i := range a.candidates {
		c := &a.candidates[i]
		for n := range c.calls {
			if !emit(exchange.ToolCallDelta{Candidate: i, Index: n, Done: true}) {
				return nil
			}
		}
		if c.reason == "" {
			c.reason = exchange.Stopped
			a.m.fault("finish reason")
		}
		if len(c.calls) > 0 && c.reason == exchange.Stopped {
			c.reason = exchange.Called
		}
		f := exchange.Finish{Candidate: i, Reason: c.reason, Tokens: c.tokens}
		if last := i == len(a.candidates)-1; u != nil {
			// Counts are of all candidates together: each has as many as its pieces, and the last the rest.
			if f.Tokens = min(c.tokens, rest); last {
				f.Tokens = rest
				f.ReasoningTokens = max(0, u.Details.Reasoning-a.reasoned)
				if !a.counted {
					f.PromptTokens, f.CachedTokens = u.Prompt, u.PromptDetails.Cached
				}
			}
			rest -= f.Tokens
		} else if last && !a.counted {
			f.PromptTokens = EstimateTokens(a.req)
		}
		if !emit(f) {
			return nil
		}
	}
	return nil
}
