package native

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/prepared"
)

// preparing is the work of putting a model's weights into the order of this processor, in the background.
type preparing struct {
	done, total atomic.Int64 // bytes
	file        *prepared.File
	now         chan struct{} // closed when somebody waits for it
	hurry       func()
	stop        context.CancelFunc
	ended       chan struct{}
}

// betweenPieces is how long it waits after each piece of work while requests use the model, so that it takes a small share of
// a processor from them.
const betweenPieces = 250 * time.Millisecond

// prepare begins to prepare the weights of an entry that is loaded, once its files are read: both would wait for the disk.
func (r *Runner) prepare(e *entry) {
	needs := r.opts.Prepared.Needs(e.model)
	if needs == 0 {
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	p := &preparing{now: make(chan struct{}), stop: stop, ended: make(chan struct{})}
	p.total.Store(needs)
	p.hurry = sync.OnceFunc(func() { close(p.now) })
	e.preparing = p
	go func() {
		defer close(p.ended)
		err := p.run(ctx, r, e)
		switch {
		case ctx.Err() != nil:
		case err != nil:
			r.tell("is used as it is in its file: its weights could not be prepared for this processor", e.path, err)
		case p.file != nil:
			r.tell("has its weights prepared for this processor", e.path, nil)
		}
	}()
}

func (p *preparing) run(ctx context.Context, r *Runner, e *entry) (err error) {
	defer func() {
		if of := recover(); of != nil {
			err = fmt.Errorf("preparing panicked: %v", of)
		}
	}()
	select {
	case <-e.ahead.ended:
	case <-ctx.Done():
		return nil
	}
	select {
	case r.making <- struct{}{}:
		defer func() { <-r.making }()
	case <-ctx.Done():
		return nil
	}
	p.file, err = r.opts.Prepared.Make(ctx, e.model, e.identity, func(done int64) error {
		p.done.Store(done)
		r.mu.Lock()
		busy := e.leases > 0
		r.mu.Unlock()
		if busy {
			select {
			case <-p.now:
			case <-ctx.Done():
			case <-time.After(betweenPieces):
			}
		}
		return nil
	})
	if errors.Is(err, prepared.ErrNoSpace) {
		r.tell(fmt.Sprintf("is used as it is in its file: %v", err), e.path, nil)
		return nil
	}
	return err
}

// left is how many bytes are still to be prepared.
func (p *preparing) left() int64 {
	if p == nil {
		return 0
	}
	select {
	case <-p.ended:
		return 0
	default:
		return p.total.Load() - p.done.Load()
	}
}

// end stops the work and waits for its end.
func (p *preparing) end() {
	if p != nil {
		p.stop()
		<-p.ended
	}
}

// close unmaps what was prepared, when nobody uses the model any more.
func (p *preparing) close() error {
	if p == nil {
		return nil
	}
	return p.file.Close()
}
