package grammar

import (
	"context"
	"errors"
)

// Work is what making the forms of one request may cost: steps, each of some ten nanoseconds, and the memory of what is made. Whoever
// asks for the forms is somebody else, so both are bounded, and end when the one who asks has left.
type Work struct {
	ctx    context.Context
	steps  int // that are left
	bytes  int
	looked int // steps since the context was looked at
}

// Bounds of the work for one request: less than a second, and memory in proportion.
const (
	maxSteps = 24 << 20
	maxBytes = 48 << 20
	// lookEvery is how many steps are taken between two looks at the context.
	lookEvery = 1 << 16
)

// NewWork begins the work for a request.
func NewWork(ctx context.Context) *Work { return &Work{ctx: ctx, steps: maxSteps, bytes: maxBytes} }

// ErrWork says that making a form costs too much.
var ErrWork = errors.New("it takes too much work to make a form of it: its patterns, alternatives and references are too many or too large")

// spend takes steps off what is left. The error is ErrWork, or why the context has ended.
func (w *Work) spend(steps int) error {
	w.steps -= steps
	if w.looked += steps; w.looked >= lookEvery {
		w.looked = 0
		if err := context.Cause(w.ctx); err != nil {
			return err
		}
	}
	if w.steps < 0 {
		return &SchemaError{Message: ErrWork.Error(), err: ErrWork}
	}
	return nil
}

// hold takes memory off what is left.
func (w *Work) hold(bytes int) error {
	if w.bytes -= bytes; w.bytes < 0 {
		return &SchemaError{Message: "its lists, patterns and alternatives are too large together", err: ErrWork}
	}
	return nil
}
