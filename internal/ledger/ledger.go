// Package ledger keeps the record of every exchange: who asked whom for what, when, how long it took, how many tokens, and how it ended.
// What was said is kept by a [Recorder], if the settings or the key say so.
//
// A [Book] is an observer of a gate. What it is told goes to a journal at once, which is a line in a file, and to the database a little
// later, many at once by one writer. Whoever watches gets it too.
package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"os"
	"path/filepath"
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

// Book keeps exchanges. It is safe for concurrent use.
type Book struct {
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
func Open(ctx context.Context, folder string, records kept.Exchanges, keep kept.Keep, log *slog.Logger) (*Book, error) {
	b := &Book{records: records, log: log, journal: journal{folder: folder}, watchers: map[*watcher]struct{}{},
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
func (b *Book) Keep(k kept.Keep) { b.keep.Store(&k) }

// Pass has exchanges passed on when they have ended. What is called must not keep the caller waiting.
func (b *Book) Pass(on func(record.Record)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.passed = append(b.passed, on)
}

// Began notes an exchange that was admitted.
func (b *Book) Began(r record.Record) { b.add(r) }

// Ended notes how an exchange ended.
func (b *Book) Ended(r record.Record) {
	if !r.Unlisted {
		b.add(r)
	}
}

// add writes an exchange to the journal, and leaves it for the writer.
func (b *Book) add(e record.Record) {
	line, err := json.Marshal(e)
	if err != nil {
		b.log.Error("an exchange cannot be written down", "id", e.ID, "error", err.Error())
		return
	}
	e.Doc = line
	line = append(line[:len(line):len(line)], '\n')
	b.mu.Lock()
	defer b.mu.Unlock()
	err = b.journal.add(line)
	if err != nil && !b.failing {
		b.log.Error("the journal of exchanges cannot be written; what cannot be written to the database either is counted", "error", err.Error())
	}
	b.failing = err != nil
	if len(b.pending) >= mostPending {
		b.pending = b.pending[1:]
		b.first++
		b.lost++
	}
	b.pending = append(b.pending, e)
	for w := range b.watchers {
		w.offer(e)
	}
	if e.State != record.Open {
		for _, pass := range b.passed {
			pass(e)
		}
	}
	select {
	case b.wake <- struct{}{}:
	default: // it is awake
	}
}

// Lost is how many exchanges could not be kept since the gate was started.
func (b *Book) Lost() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.lost
}

// write is the writer's goroutine.
func (b *Book) write() {
	defer close(b.stopped)
	ctx, cancel := context.WithCancel(context.Background())
	var pruners sync.WaitGroup
	defer pruners.Wait()
	defer cancel()
	pruned := time.Time{}
	failed := false
	for {
		wait := commitAfter
		select {
		case <-b.stop:
			if err := b.commit(); err != nil {
				b.log.Error("exchanges are in the journal until the next start", "error", err.Error())
			}
			return
		case <-b.wake:
		}
		if failed {
			wait = time.Second
		}
		select {
		case <-time.After(wait):
		case <-b.stop:
		}
		err := b.guardedCommit()
		if err != nil && !failed {
			b.log.Error("exchanges cannot be written to the database; they are in the journal, and it is tried again", "error", err.Error())
		}
		if failed = err != nil; failed {
			select {
			case b.wake <- struct{}{}:
			default:
			}
		}
		if err == nil && (time.Since(pruned) > pruneAfter || b.added.Load() > pruneEvery) && b.pruning.CompareAndSwap(false, true) {
			pruned = time.Now()
			b.added.Store(0)
			pruners.Go(func() {
				defer b.pruning.Store(false)
				b.prune(ctx, pruned)
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
func (b *Book) prune(ctx context.Context, now time.Time) {
	defer func() {
		if p := recover(); p != nil {
			b.log.Error("removing old exchanges panicked", "error", exchange.Panicked(p).Error())
		}
	}()
	if err := b.records.PruneExchanges(ctx, now, *b.keep.Load()); err != nil && ctx.Err() == nil {
		b.log.Warn("old exchanges were not removed", "error", err.Error())
	}
}

func (b *Book) guardedCommit() (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = exchange.Panicked(p)
		}
	}()
	return b.commit()
}

// commit writes what is pending to the database, and removes the files of the journal that are wholly in it.
func (b *Book) commit() error {
	b.committing.Lock()
	defer b.committing.Unlock()
	for {
		b.mu.Lock()
		n := min(len(b.pending), batch)
		list, from := b.pending[:n:n], b.first
		if b.journal.bytes > segmentBytes {
			b.full = append(b.full, segment{b.journal.path(b.journal.number), from + len(b.pending)})
			if err := b.journal.begin(); err != nil {
				b.log.Warn("the journal of exchanges cannot be renewed", "error", err.Error())
				b.full = b.full[:len(b.full)-1] // it is gone on with
			}
		}
		b.mu.Unlock()
		if n > 0 {
			if err := b.records.PutExchanges(context.Background(), latest(list)); err != nil {
				return err
			}
			b.added.Add(int64(n))
		}
		b.mu.Lock()
		// The oldest may have gone meanwhile, for want of room.
		written := max(0, from+n-b.first)
		b.pending, b.first = b.pending[written:], b.first+written
		var old []segment
		for len(b.full) > 0 && b.full[0].upTo <= b.first {
			old, b.full = append(old, b.full[0]), b.full[1:]
		}
		rest := len(b.pending)
		b.mu.Unlock()
		for _, s := range old {
			if err := os.Remove(s.path); err != nil {
				b.log.Warn("a file of the journal cannot be removed", "error", err.Error())
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
func (b *Book) Close() error {
	close(b.stop)
	<-b.stopped
	b.mu.Lock()
	defer b.mu.Unlock()
	for w := range b.watchers {
		close(w.gone)
		delete(b.watchers, w)
	}
	path := b.journal.path(b.journal.number)
	err := b.journal.file.Close()
	if len(b.pending) == 0 && len(b.full) == 0 {
		err = errors.Join(err, os.Remove(path))
	}
	return err
}

// Totals sums up what ended in a month, such as 2031-01.
func (b *Book) Totals(ctx context.Context, month string) ([]kept.Total, error) {
	_ = b.guardedCommit() // as in Find
	return b.records.Totals(ctx, month)
}

// Jobs lists jobs of more than one exchange that went on after a time, the newest first.
func (b *Book) Jobs(ctx context.Context, since time.Time, limit int) ([]kept.Job, error) {
	_ = b.guardedCommit() // as in Find
	return b.records.Jobs(ctx, since, limit)
}

// All gives all exchanges that a filter chooses, the newest first, whatever their number.
func (b *Book) All(ctx context.Context, f record.Filter) iter.Seq2[record.Record, error] {
	return func(yield func(record.Record, error) bool) {
		for f.Limit = 1000; ; {
			page, err := b.Find(ctx, f)
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
func (b *Book) Find(ctx context.Context, f record.Filter) ([]record.Record, error) {
	// What has just ended is written first. If it cannot be, the writer says so, and the others are there all the same.
	_ = b.guardedCommit()
	return b.records.Exchanges(ctx, f)
}

// shortID is how many characters of an id must be given at least to find an exchange by its beginning.
const shortID = 4

// Exchange returns one exchange, by its id or by the beginning of it that no other has. The parts of an exchange, whose ids begin with its own,
// do not count.
func (b *Book) Exchange(ctx context.Context, id string) (record.Record, error) {
	if e, ok := b.waiting(id); ok {
		return e, nil
	}
	e, err := b.records.Exchange(ctx, id)
	if !errors.Is(err, kept.ErrMissing) {
		return e, err
	}
	missing := exchange.Errorf(exchange.NotFound, "exchange_not_found", "there is no exchange %q in the ledger; it is too old, or was never asked here", id)
	if len(id) < shortID {
		return e, missing
	}
	_ = b.guardedCommit() // as in Find
	ids, err := b.records.ExchangeIDs(ctx, id, 50)
	if err != nil || len(ids) == 0 {
		return e, errors.Join(err, missing)
	}
	for _, other := range ids[1:] {
		if !strings.HasPrefix(other, ids[0]) {
			return e, exchange.InvalidParam("id", "several exchanges begin with %q, such as %s and %s; give more of the id", id, ids[0], other)
		}
	}
	return b.records.Exchange(ctx, ids[0])
}

// waiting is an exchange that is not in the database yet.
func (b *Book) waiting(id string) (record.Record, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := len(b.pending) - 1; i >= 0; i-- {
		if b.pending[i].ID == id {
			return b.pending[i], true
		}
	}
	return record.Record{}, false
}
