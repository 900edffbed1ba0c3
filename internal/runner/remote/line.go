package remote

import (
	"context"
	"errors"
	"iter"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/placement"
)

// Line is a way to a machine that has come to the gate itself, in the place of HTTP. Requests and events go over it in the neutral form.
type Line interface {
	Run(ctx context.Context, model string, req *exchange.Request) iter.Seq2[exchange.Event, error]
	Embed(ctx context.Context, model string, req *exchange.Embedding) (*exchange.Vectors, error)
	Rank(ctx context.Context, model string, req *exchange.Ranking) (*exchange.Relevance, error)
	// Models are those that the machine offers now.
	Models() []Model
	// Away is why it takes no work now; "" if it does.
	Away() string
	// Candidate is what placement goes by, for a request to a model that begins as a chain says.
	Candidate(model string, chain []uint32) placement.Candidate
}

// Joined reports whether the machine has come to the gate itself.
func (m *Machine) Joined() bool { return m.set.Line != nil }

// Candidate is what placement goes by, of a machine that has joined.
func (m *Machine) Candidate(model string, chain []uint32) placement.Candidate {
	return m.set.Line.Candidate(model, chain)
}

// lineLook is what a machine with a line says of itself.
func (m *Machine) lineLook() Look {
	return Look{At: time.Now(), Models: m.set.Line.Models(), Abilities: LineAbilities()}
}

// LineAbilities are what a line carries, whatever the model.
func LineAbilities() Abilities {
	return Abilities{Chat: Yes, Raw: Yes, Responses: Yes, Vectors: Unknown, Streams: Yes, Usage: Yes, Tools: Unknown, Formats: Yes, Scores: Yes, Images: Unknown, TokenPrompts: Yes, RawFormats: Yes}
}

// away is the error while a machine with a line takes no work.
func (m *Machine) away() error {
	if why := m.set.Line.Away(); why != "" {
		return exchange.Errorf(exchange.Unavailable, unavailable, "the machine %q cannot be asked: %s", m.name, why)
	}
	return nil
}

// lined is an attempt over the line. What was read of a prompt is told by the machine.
func (m *Machine) lined(model string, req *exchange.Request) (attempt, error) {
	if err := m.away(); err != nil {
		return nil, err
	}
	if req.Reserve != nil {
		if err := req.Reserve(EstimateTokens(req)); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context, yield func(exchange.Event) bool) error {
		ctx, cancel := context.WithCancelCause(ctx)
		defer cancel(nil)
		dog := watch(m.set.FirstToken, m.set.Silence, cancel)
		defer dog.timer.Stop()
		script := m.script(req)
		told := *req
		read := 0
		told.Reading = func(tokens int) {
			if tokens > read && tokens <= script.prompt {
				read = tokens
				dog.timer.Reset(m.set.FirstToken) // a long prompt on a slow machine
			}
			if req.Reading != nil {
				req.Reading(tokens)
			}
		}
		for event, err := range m.set.Line.Run(ctx, model, &told) {
			if cause := context.Cause(ctx); err != nil && (errors.Is(cause, errFirst) || errors.Is(cause, errSilent)) {
				return cause
			}
			if err == nil {
				err = script.take(event)
			}
			if err != nil {
				return err
			}
			dog.begun.Store(true)
			dog.heard()
			if !yield(event) {
				return errLeft
			}
		}
		return nil
	}, nil
}

// lineOnce asks over the line for something that comes in one piece, of texts with so many bytes.
func lineOnce[T any](ctx context.Context, m *Machine, model string, bytes int, reserve func(int) error, do func(context.Context) (*T, error)) (out *T, err error) {
	if err := m.away(); err != nil {
		return nil, err
	}
	if reserve != nil {
		if err := reserve(tokensOf(bytes)); err != nil {
			return nil, err
		}
	}
	err = m.tries(ctx, model, func(ctx context.Context, _ func(exchange.Event) bool) (err error) {
		ctx, cancel := context.WithTimeoutCause(ctx, m.set.FirstToken, errFirst)
		defer cancel()
		out, err = do(ctx)
		if cause := context.Cause(ctx); err != nil && errors.Is(cause, errFirst) {
			return cause
		}
		return err
	}, func(exchange.Event) bool { return true })
	return out, m.inWords(err)
}
