package native

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/cache"
	"kindredgate/internal/prepared"
	"kindredgate/internal/weights"
)

// preparing is the work of putting a model's weights into the order of this processor, in the background, or of checking those that are.
type preparing struct {
	done, total atomic.Int64                  // bytes, while they are made
	used        atomic.Pointer[prepared.File] // that the model multiplies with; nil for none
	again       chan struct{}                 // has room for one: the file in use was found damaged
	now         chan struct{}                 // closed when somebody waits for it
	hurry       func()
	stop        context.CancelFunc
	ended       chan struct{}

	mu    sync.Mutex
	files []*prepared.File // that were used, which stay mapped as long as the model is
}

// betweenPieces is how long it waits after each piece of work while requests use the model, so that it takes a small share of
// a processor from them.
const betweenPieces = 250 * time.Millisecond

// prepare begins to check the prepared weights of an entry that is loaded, or to make them once its files are read: both would wait for the disk.
func (r *Runner) prepare(e *entry) {
	needs := r.opts.Prepared.Needs(e.model)
	if needs == 0 {
		return
	}
	ctx, stop := context.WithCancel(context.Background())
	p := &preparing{now: make(chan struct{}), again: make(chan struct{}, 1), stop: stop, ended: make(chan struct{})}
	if e.prepared == nil {
		p.total.Store(needs)
	}
	p.hurry = sync.OnceFunc(func() { close(p.now) })
	e.preparing = p
	e.faulted = p.faulted
	go func() {
		defer close(p.ended)
		checked := e.prepared != nil && r.guard(e, "that were prepared are not used", func() error { return p.check(ctx, r, e) })
		if !checked {
			r.guard(e, "could not be prepared for this processor", func() error { return p.make(ctx, r, e) })
		}
		for {
			select {
			case <-ctx.Done():
				return
			case <-p.again:
				r.guard(e, "could not be prepared anew", func() error { return p.remake(ctx, r, e) })
			}
		}
	}()
}

// guard does a part of the work, and tells if it fails; it may panic. It reports whether it has not.
func (r *Runner) guard(e *entry, failed string, do func() error) (ok bool) {
	err := func() (err error) {
		defer func() {
			if of := recover(); of != nil {
				err = fmt.Errorf("preparing panicked: %v", of)
			}
		}()
		return do()
	}()
	if err != nil && !errors.Is(err, context.Canceled) {
		r.tell("is used as it is in its file: its weights "+failed, e.path, err)
	}
	return err == nil
}

// check holds the file that is there against its checksums, and has the model use it.
func (p *preparing) check(ctx context.Context, r *Runner, e *entry) error {
	if err := e.prepared.Check(ctx); err != nil {
		if errors.Is(err, prepared.ErrDamaged) {
			err = errors.Join(err, e.prepared.Drop())
		}
		return err
	}
	e.prepared.Use()
	p.use(e.prepared)
	return nil
}

// make writes the file and has the model use it.
func (p *preparing) make(ctx context.Context, r *Runner, e *entry) error {
	p.total.Store(r.opts.Prepared.Needs(e.model))
	p.done.Store(0)
	defer func() { p.done.Store(p.total.Load()) }()
	select {
	case <-e.ahead.ended:
	case <-ctx.Done():
		return context.Canceled
	}
	select {
	case r.making <- struct{}{}:
		defer func() { <-r.making }()
	case <-ctx.Done():
		return context.Canceled
	}
	file, err := r.opts.Prepared.Make(ctx, e.model, e.identity, func(done int64) error {
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
	if errors.Is(err, cache.ErrNoSpace) {
		r.tell(fmt.Sprintf("is used as it is in its file: %v", err), e.path, nil)
		return nil
	}
	if err != nil || file == nil {
		return err
	}
	p.use(file)
	r.tell("has its weights prepared for this processor", e.path, nil)
	return nil
}

func (p *preparing) use(f *prepared.File) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files = append(p.files, f)
	p.used.Store(f)
}

// faulted tells of an error whether it comes from reading prepared weights, rather than the model's own files. Then these are read from now on,
// and the prepared ones are made anew.
func (p *preparing) faulted(err error) bool {
	var fault *weights.FaultError
	if !errors.As(err, &fault) {
		return false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	i := slices.IndexFunc(p.files, func(f *prepared.File) bool { return f.Holds(fault.Address) })
	if i < 0 {
		return false
	}
	if used := p.used.Load(); used == p.files[i] {
		used.Rest()
		select {
		case p.again <- struct{}{}:
		default: // it is going to be
		}
	}
	return true
}

// remake drops the file in use, and makes it anew.
func (p *preparing) remake(ctx context.Context, r *Runner, e *entry) error {
	used := p.used.Swap(nil)
	if used == nil {
		return nil
	}
	r.tell("is used as it is in its file: its prepared weights were damaged while they were used, and are made anew", e.path, nil)
	if err := used.Drop(); err != nil {
		return err
	}
	return p.make(ctx, r, e)
}

// left is how many bytes are still to be prepared.
func (p *preparing) left() int64 {
	if p == nil {
		return 0
	}
	return p.total.Load() - p.done.Load()
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
	p.mu.Lock()
	defer p.mu.Unlock()
	var err error
	for _, f := range p.files {
		err = errors.Join(err, f.Close())
	}
	return err
}
