// Package ledger keeps the record of every exchange: who asked whom for what, when, how long it took, how many tokens, and how it ended.
// What was said is kept by a [Recorder], if the settings or the key say so.
//
// A [Writer] is an observer of a gate. What it is told goes to a journal at once, which is a line in a file, and to the database a little
// later, many at once by one writer. Whoever watches gets it too.
package ledger

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/record"
)

const (
	// commitAfter is how long the writer gathers exchanges before it writes them. Those that end meanwhile are written once; they are in the
	// journal, and whoever asks has them written first.
	commitAfter = 250 * time.Millisecond
	// mostPending bounds how many exchanges wait in memory when the database cannot be written; of more the oldest are in the journal
	// only.
	mostPending = 50_000
	// batch is how many exchanges are written in one transaction at the most.
	batch = 2000
	// watched is how many events a watcher may be behind before it loses some.
	watched = 256
)

// Writer keeps exchanges. It is safe for concurrent use.
type Writer struct {
	records kept.Exchanges
	log     *slog.Logger
	keep    atomic.Pointer[kept.Keep] // what is removed when there is more
	pruning atomic.Bool               // whether it is under way
	added   atomic.Int64              // exchanges since it was last

	mu       sync.Mutex
	journal  journal
	pending  []record.Record // in the journal, and not in the database yet
	first    int             // how many came before the first of these
	full     []segment       // files of the journal that are not written to any more
	lost     int             // exchanges that could be written nowhere
	failing  bool            // of the journal; it was said
	watchers map[*watcher]struct{}
	passed   []func(record.Record) // told of each that has ended

	committing sync.Mutex // held while exchanges are written to the database

	wake    chan struct{}
	stop    chan struct{}
	stopped chan struct{}
}

// segment is a file of the journal with how many exchanges had come when it was full.
type segment struct {
	path string
	upTo int
}

// Open takes over what the journal in a folder has from before, and begins to write. What is more than is to be kept is removed now and then.
func Open(ctx context.Context, folder string, records kept.Exchanges, keep kept.Keep, log *slog.Logger) (*Writer, error) {
	b := &Writer{records: records, log: log, journal: journal{folder: folder}, watchers: map[*watcher]struct{}{},
		wake: make(chan struct{}, 1), stop: make(chan struct{}), stopped: make(chan struct{})}
	b.Keep(keep)
	old, err := segments(folder)
	if err != nil {
		return nil, err
	}
	var taken []string
	for _, path := range old {
		number := 0
		if _, err := fmt.Sscanf(filepath.Base(path), "exchanges-%d.journal", &number); err == nil {
			b.journal.number = max(b.journal.number, number)
		}
		list, torn, err := read(path)
		if err != nil {
			// The gate is not to stand still for it: what is in it may be mended.
			aside := path + ".unreadable"
			if failure := os.Rename(path, aside); failure != nil {
				return nil, errors.Join(err, failure)
			}
			log.Error("a file of the journal of exchanges cannot be read; it is set aside, and what is in it is missing in the ledger", "file", path, "aside", aside, "error", err.Error())
		} else {
			taken = append(taken, path)
		}
		if torn > 0 {
			log.Warn("lines of the journal were not whole and are left out", "file", path, "lines", torn)
		}
		for len(list) > 0 {
			n := min(len(list), batch)
			if err := records.PutExchanges(ctx, list[:n]); err != nil {
				return nil, fmt.Errorf("take over %s: %w", path, err)
			}
			list = list[n:]
		}
	}
	if err := records.InterruptExchanges(ctx); err != nil {
		return nil, err
	}
	if err := b.journal.begin(); err != nil {
		return nil, err
	}
	for _, path := range taken {
		if err := os.Remove(path); err != nil {
			return nil, err
		}
	}
	go b.write()
	return b, nil
}

// Keep changes how much is kept.
func (w *Writer) Keep(k kept.Keep) { w.keep.Store(&k) }

// Pass has exchanges passed on when they have ended. What is called must not keep the caller waiting.
func (w *Writer) Pass(on func(record.Record)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.passed = append(w.passed, on)
}

// Began notes an exchange that was admitted.
func (w *Writer) Began(r record.Record) { w.add(r) }

// Ended notes how an exchange ended.
func (w *Writer) Ended(r record.Record) {
	if !r.Unlisted {
		w.add(r)
	}
}

// add writes an exchange to the journal, and leaves it for the writer.
func (w *Writer) add(e record.Record) {
	line, err := json.Marshal(e)
	if err != nil {
		w.log.Error("an exchange cannot be written down", "id", e.ID, "error", err.Error())
		return
	}
	e.Doc = line
	line = append(line[:len(line):len(line)], '\n')
	w.mu.Lock()
	defer w.mu.Unlock()
	err = w.journal.add(line)
	if err != nil && !w.failing {
		w.log.Error("the journal of exchanges cannot be written; what cannot be written to the database either is counted", "error", err.Error())
	}
	w.failing = err != nil
	if len(w.pending) >= mostPending {
		w.pending = w.pending[1:]
		w.first++
		w.lost++
	}
	w.pending = append(w.pending, e)
	for w := range w.watchers {
		w.offer(e)
	}
	if e.State != record.Open {
		for _, pass := range w.passed {
			pass(e)
		}
	}
	select {
	case w.wake <- struct{}{}:
	default: // it is awake
	}
}

// Lost is how many exchanges could not be kept since the gate was started.
func (w *Writer) Lost() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.lost
}

// write is the writer's goroutine.
func (w *Writer) write() {
	defer close(w.stopped)
	ctx, cancel := context.WithCancel(context.Background())
	var pruners sync.WaitGroup
	defer pruners.Wait()
	defer cancel()
	pruned := time.Time{}
	failed := false
	for {
		wait := commitAfter
		select {
		case <-w.stop:
			if err := w.commit(); err != nil {
				w.log.Error("exchanges are in the journal until the next start", "error", err.Error())
			}
			return
		case <-w.wake:
		}
		if failed {
			wait = time.Second
		}
		select {
		case <-time.After(wait):
		case <-w.stop:
		}
		err := w.guardedCommit()
		if err != nil && !failed {
			w.log.Error("exchanges cannot be written to the database; they are in the journal, and it is tried again", "error", err.Error())
		}
		if failed = err != nil; failed {
			select {
			case w.wake <- struct{}{}:
			default:
			}
		}
		if err == nil && (time.Since(pruned) > pruneAfter || w.added.Load() > pruneEvery) && w.pruning.CompareAndSwap(false, true) {
			pruned = time.Now()
			w.added.Store(0)
			pruners.Go(func() {
				defer w.pruning.Store(false)
				w.prune(ctx, pruned)
			})
		}
	}
}

// What is to be removed is looked for so often, in time and in exchanges.
const (
	pruneAfter = time.Hour
	pruneEvery = 20_000
)

// prune removes what is more than is to be kept, beside the writer, a little at a time.
func (w *Writer) prune(ctx context.Context, now time.Time) {
	defer func() {
		if p := recover(); p != nil {
			w.log.Error("removing old exchanges panicked", "error", exchange.Panicked(p).Error())
		}
	}()
	if err := w.records.PruneExchanges(ctx, now, *w.keep.Load()); err != nil && ctx.Err() == nil {
		w.log.Warn("old exchanges were not removed", "error", err.Error())
	}
}

func (w *Writer) guardedCommit() (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = exchange.Panicked(p)
		}
	}()
	return w.commit()
}

// commit writes what is pending to the database, and removes the files of the journal that are wholly in it.
func (w *Writer) commit() error {
	w.committing.Lock()
	defer w.committing.Unlock()
	for {
		w.mu.Lock()
		n := min(len(w.pending), batch)
		list, from := w.pending[:n:n], w.first
		if w.journal.bytes > segmentBytes {
			w.full = append(w.full, segment{w.journal.path(w.journal.number), from + len(w.pending)})
			if err := w.journal.begin(); err != nil {
				w.log.Warn("the journal of exchanges cannot be renewed", "error", err.Error())
				w.full = w.full[:len(w.full)-1] // it is gone on with
			}
		}
		w.mu.Unlock()
		if n > 0 {
			if err := w.records.PutExchanges(context.Background(), latest(list)); err != nil {
				return err
			}
			w.added.Add(int64(n))
		}
		w.mu.Lock()
		// The oldest may have gone meanwhile, for want of room.
		written := max(0, from+n-w.first)
		w.pending, w.first = w.pending[written:], w.first+written
		var old []segment
		for len(w.full) > 0 && w.full[0].upTo <= w.first {
			old, w.full = append(old, w.full[0]), w.full[1:]
		}
		rest := len(w.pending)
		w.mu.Unlock()
		for _, s := range old {
			if err := os.Remove(s.path); err != nil {
				w.log.Warn("a file of the journal cannot be removed", "error", err.Error())
			}
		}
		if n == 0 || rest == 0 {
			return nil
		}
	}
}

// latest leaves out what is told of an exchange that has ended since, which most do before they are written.
func latest(list []record.Record) []record.Record {
	ended := map[string]bool{}
	for _, e := range list {
		if e.State != record.Open {
			ended[e.ID] = true
		}
	}
	out := make([]record.Record, 0, len(list))
	for _, e := range list {
		if e.State != record.Open || !ended[e.ID] {
			out = append(out, e)
		}
	}
	return out
}

// Close writes what is pending.
func (w *Writer) Close() error {
	close(w.stop)
	<-w.stopped
	w.mu.Lock()
	defer w.mu.Unlock()
	for seen := range w.watchers {
		close(seen.gone)
		delete(w.watchers, seen)
	}
	path := w.journal.path(w.journal.number)
	err := w.journal.file.Close()
	if len(w.pending) == 0 && len(w.full) == 0 {
		err = errors.Join(err, os.Remove(path))
	}
	return err
}

// Totals sums up what ended in a month, such as 2031-01.
func (w *Writer) Totals(ctx context.Context, month string) ([]kept.Total, error) {
	_ = w.guardedCommit() // as in Find
	return w.records.Totals(ctx, month)
}

// Jobs lists jobs of more than one exchange that went on after a time, the newest first.
func (w *Writer) Jobs(ctx context.Context, since time.Time, limit int) ([]kept.Job, error) {
	_ = w.guardedCommit() // as in Find
	return w.records.Jobs(ctx, since, limit)
}

// All gives all exchanges that a filter chooses, the newest first, whatever their number.
func (w *Writer) All(ctx context.Context, f record.Filter) iter.Seq2[record.Record, error] {
	return func(yield func(record.Record, error) bool) {
		for f.Limit = 1000; ; {
			page, err := w.Find(ctx, f)
			if err != nil {
				yield(record.Record{}, err)
				return
			}
			for _, e := range page {
				if !yield(e, nil) {
					return
				}
				f.Before = e.ID
			}
			if len(page) < f.Limit {
				return
			}
		}
	}
}

// Find lists exchanges, the newest first.
func (w *Writer) Find(ctx context.Context, f record.Filter) ([]record.Record, error) {
	// What has just ended is written first. If it cannot be, the writer says so, and the others are there all the same.
	_ = w.guardedCommit()
	return w.records.Exchanges(ctx, f)
}

// shortID is how many characters of an id must be given at least to find an exchange by its beginning.
const shortID = 4

// Exchange returns one exchange, by its id or by the beginning of it that no other has. The parts of an exchange, whose ids begin with its own,
// do not count.
func (w *Writer) Exchange(ctx context.Context, id string) (record.Record, error) {
	if e, ok := w.waiting(id); ok {
		return e, nil
	}
	e, err := w.records.Exchange(ctx, id)
	if !errors.Is(err, kept.ErrMissing) {
		return e, err
	}
	missing := exchange.Errorf(exchange.NotFound, "exchange_not_found", "there is no exchange %q in the ledger; it is too old, or was never asked here", id)
	if len(id) < shortID {
		return e, missing
	}
	_ = w.guardedCommit() // as in Find
	ids, err := w.records.ExchangeIDs(ctx, id, 50)
	if err != nil || len(ids) == 0 {
		return e, errors.Join(err, missing)
	}
	for _, other := range ids[1:] {
		if !strings.HasPrefix(other, ids[0]) {
			return e, exchange.InvalidParam("id", "several exchanges begin with %q, such as %s and %s; give more of the id", id, ids[0], other)
		}
	}
	return w.records.Exchange(ctx, ids[0])
}

// Children are the ids of the steps of an exchange, in their order.
func (w *Writer) Children(ctx context.Context, id string) ([]string, error) {
	_ = w.guardedCommit() // as in Find
	ids, err := w.records.ExchangeIDs(ctx, id+"-", mostChildren)
	slices.SortFunc(ids, func(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) })
	return ids, err
}

// mostChildren bounds how many steps of an exchange are listed.
const mostChildren = 1024

// waiting is an exchange that is not in the database yet.
func (w *Writer) waiting(id string) (record.Record, bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := len(w.pending) - 1; i >= 0; i-- {
		if w.pending[i].ID == id {
			return w.pending[i], true
		}
	}
	return record.Record{}, false
}
