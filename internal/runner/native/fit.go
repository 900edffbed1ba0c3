package native

import (
	"context"
	"fmt"
	"slices"
	"sort"

	"kindredgate/internal/exchange"
	"kindredgate/internal/prompt"
)

// alwaysRead is how many bytes of text are made into tokens whatever the context: less costs little.
const alwaysRead = 1 << 20

// tooBulky reports whether so many bytes of text are more than the context holds, whatever tokens they would become. Making
// tokens of them, to count them, would cost many times their size.
func (l *loadedModel) tooBulky(bytes int) bool {
	return bytes > alwaysRead && bytes/l.longestToken() >= l.context
}

// longestToken is how many bytes a token stands for at the most.
func (l *loadedModel) longestToken() int {
	l.longestOnce.Do(func() {
		l.longest = 1
		for id := range int32(l.tok.Size()) {
			l.longest = max(l.longest, len(l.tok.Text(id)))
		}
	})
	return l.longest
}

func (l *loadedModel) bulky(bytes int, param string) error {
	return &exchange.Error{Kind: exchange.Invalid, Code: "context_length_exceeded", Param: param,
		Message: fmt.Sprintf("the prompt has %d bytes of text, which are at least %d tokens; the model's context holds %d; shorten the conversation", bytes, bytes/l.longestToken(), l.context)}
}

// fit lays out a request; if it may be cut to the context, the oldest turns go until there is room for an answer. How many
// have to go is found by halves, since each try lays out and counts all that is left.
func (l *loadedModel) fit(ctx context.Context, req *exchange.Request) (p *prompt.Prompt, t *prompt.Template, dropped int, err error) {
	if req, err = l.seeing(ctx, req); err != nil {
		return nil, nil, 0, err
	}
	limit := l.contextOf(req)
	room := min(256, limit/8)
	if req.MaxTokens > 0 {
		room = min(req.MaxTokens, limit/2)
	}
	begins := []int{0}
	if req.Truncate {
		begins = questions(req.Turns)
	}
	least := sort.Search(len(begins)-1, func(i int) bool { return !l.tooBulky(bulk(req.Turns[begins[i]:])) })
	if n := bulk(req.Turns[begins[least]:]); l.tooBulky(n) {
		return nil, nil, 0, l.bulky(n, exchange.Conversation)
	}
	try := func(i int) (*prompt.Prompt, *prompt.Template, int, error) {
		own := *req
		own.Turns, dropped = from(req.Turns, begins[i])
		p, t, err := l.render(&own)
		return p, t, dropped, err
	}
	low, high := least, len(begins)-1 // the last is taken whether it fits or not: then the engine refuses it with both numbers
	for low < high {
		if ctx.Err() != nil {
			return nil, nil, 0, context.Cause(ctx)
		}
		middle := low
		if low > least {
			middle = (low + high) / 2
		}
		p, t, dropped, err := try(middle)
		switch {
		case err != nil:
			return p, t, dropped, err
		case len(p.Tokens)+room > limit:
			low = middle + 1
		case middle == low:
			return p, t, dropped, nil
		default:
			high = middle
		}
	}
	return try(low)
}

// contextOf is how many tokens a request may have, with its answer.
func (l *loadedModel) contextOf(req *exchange.Request) int {
	if req.Context > 0 {
		return min(req.Context, l.context)
	}
	return l.context
}

// bulk is how many bytes of text turns have.
func bulk(turns []exchange.Turn) (n int) {
	for _, t := range turns {
		for _, part := range t.Parts {
			switch part := part.(type) {
			case exchange.Text:
				n += len(part)
			case exchange.Refusal:
				n += len(part)
			case exchange.Image: // of which the tokens are known by its size
			case exchange.ToolCall:
				n += len(part.Arguments)
			case exchange.ToolResult:
				n += len(part.Content)
			}
		}
	}
	return n
}

// questions are the turns from which a conversation may go on when what is before them is left out: its beginning, and
// each later question.
func questions(turns []exchange.Turn) []int {
	list := []int{0}
	first := slices.IndexFunc(turns, func(t exchange.Turn) bool { return t.Role != exchange.System })
	for i := first + 1; first >= 0 && i < len(turns); i++ {
		if turns[i].Role == exchange.User {
			list = append(list, i)
		}
	}
	return list
}

// from is what is left of turns from one of them on, with the instructions that come before it, and how many others that
// leaves out.
func from(turns []exchange.Turn, begin int) (rest []exchange.Turn, dropped int) {
	for _, t := range turns[:begin] {
		if t.Role == exchange.System {
			rest = append(rest, t)
		} else {
			dropped++
		}
	}
	return append(rest, turns[begin:]...), dropped
}
