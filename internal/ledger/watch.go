package ledger

import (
	"context"
	"iter"

	"kindredgate/internal/record"
)

// Sight is what a watcher sees: an exchange that began or ended, or that some were missed.
type Sight struct {
	*record.Record
	Missed int `json:"missed,omitempty"` // exchanges that came too fast since the one before
}

// watcher gets what happens. It holds nobody up: what it cannot take in time is counted.
type watcher struct {
	feed   chan record.Record
	filter record.Filter
	gone   chan struct{}
	missed int // under the book's lock
}

// offer gives a watcher an exchange, if it wants it and has room.
func (w *watcher) offer(e record.Record) {
	if !w.filter.Matches(&e) {
		return
	}
	select {
	case w.feed <- e:
	default:
		w.missed++
	}
}

// Watch gives exchanges that a filter chooses as they begin and end, from now until ctx is done or the book is closed. What it returns must be gone through.
func (b *Book) Watch(ctx context.Context, f record.Filter) iter.Seq2[Sight, error] {
	w := &watcher{feed: make(chan record.Record, watched), filter: f, gone: make(chan struct{})}
	b.mu.Lock()
	b.watchers[w] = struct{}{}
	b.mu.Unlock()
	return func(yield func(Sight, error) bool) {
		defer func() {
			b.mu.Lock()
			delete(b.watchers, w)
			b.mu.Unlock()
		}()
		for {
			select {
			case e := <-w.feed:
				b.mu.Lock()
				missed := w.missed
				w.missed = 0
				b.mu.Unlock()
				if !yield(Sight{&e, missed}, nil) {
					return
				}
			case <-w.gone:
				return
			case <-ctx.Done():
				return
			}
		}
	}
}
