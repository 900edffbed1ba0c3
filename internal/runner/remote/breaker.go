package remote

import (
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/sony/gobreaker/v2"
)

// failuresInARow is after how many a circuit opens.
const failuresInARow = 3

// breaker keeps requests from what has failed several times in a row, for a while: its circuit is open then. A machine has one for its
// connections, and each of its models one for what goes wrong behind a connection, so that a model which fails keeps nobody from the others.
type breaker struct {
	*gobreaker.TwoStepCircuitBreaker[struct{}]
	since atomic.Int64 // when it opened last, in nanoseconds since 1970
}

// newBreaker makes a breaker for which the errors count that fails picks.
func newBreaker(name string, rest time.Duration, fails func(error) bool, log *slog.Logger) *breaker {
	b := &breaker{}
	b.TwoStepCircuitBreaker = gobreaker.NewTwoStepCircuitBreaker[struct{}](gobreaker.Settings{
		Name: name, MaxRequests: 1, Timeout: rest,
		ReadyToTrip:  func(c gobreaker.Counts) bool { return c.ConsecutiveFailures >= failuresInARow },
		IsSuccessful: func(err error) bool { return !fails(err) },
		IsExcluded:   func(err error) bool { return errors.Is(err, context.Canceled) }, // the client left, which tells nothing
		OnStateChange: func(_ string, _, to gobreaker.State) {
			if to == gobreaker.StateOpen {
				b.since.Store(time.Now().UnixNano())
			}
			log.Info("machine", "name", name, "circuit", circuitWords[to])
		},
	})
	return b
}

var circuitWords = map[gobreaker.State]string{gobreaker.StateClosed: "closed", gobreaker.StateHalfOpen: "half-open", gobreaker.StateOpen: "open"}

func (b *breaker) open() bool        { return b.State() == gobreaker.StateOpen }
func (b *breaker) opened() time.Time { return time.Unix(0, b.since.Load()) }
