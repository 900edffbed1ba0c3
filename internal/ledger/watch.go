package ledger

import (
	"context"
	"iter"

	"kindredgate/internal/record"
)

// FeedEvent is what a watcher sees: an exchange that began or ended, or that some were missed.
type FeedEvent struct {
	*record.Record
	Missed int `json:"missed,omitempty"` // exchanges that came too fast since the one before
}

// watcher gets what happens. It holds nobody up: what it cannot take in time is counted.
type watcher struct {
	feed   chan record.Record
	filter record.Filter
	gone   chan struct{}
	missed int // under the writer's lock
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

// Watch gives exchanges that a filter chooses as they begin and end, from now until ctx is done or the writer is closed. What it returns must be gone through.
func (w *Writer) Watch(ctx context.Context, f record.Filter) iter.Seq2[FeedEvent, error] {
	seen := &watcher{feed: make(chan record.Record, watched), filter: f, gone: make(chan struct{})}
	w.mu.Lock()
	w.watchers[seen] = struct{}{}
	w.mu.Unlock()
	return func(yield func(FeedEvent, error) bool) {
		defer func() {
			w.mu.Lock()
			delete(w.watchers, seen)
			w.mu.Unlock()
		}()
		for {
			select {
			case e := <-seen.feed:
				w.mu.Lock()
				missed := seen.missed
				seen.missed = 0
				w.mu.Unlock()
				if !yield(FeedEvent{&e, missed}, nil) {
					return
				}
			case <-seen.gone:
				return
			case <-ctx.Done():
				return
			}
		}
	}
}
