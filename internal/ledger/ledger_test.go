package ledger

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/record"
)

// memory keeps exchanges as a database does, and can be full.
type memory struct {
	mu     sync.Mutex
	list   map[string]record.Record
	full   error
	once   bool // it is full again after the next write
	writes int
}

func (m *memory) PutExchanges(_ context.Context, list []record.Record) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.full != nil {
		return m.full
	}
	m.writes++
	if m.once {
		m.full = errors.New("the disk is full again")
	}
	for _, e := range list {
		if old, ok := m.list[e.ID]; !ok || old.State == record.Open {
			m.list[e.ID] = e
		}
	}
	return nil
}

func (m *memory) InterruptExchanges(context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, e := range m.list {
		if e.State == record.Open {
			e.State = record.Interrupted
			m.list[id] = e
		}
	}
	return nil
}

func (m *memory) Exchange(_ context.Context, id string) (record.Record, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if e, ok := m.list[id]; ok {
		return e, nil
	}
	return record.Record{}, kept.ErrMissing
}

func (m *memory) Exchanges(context.Context, record.Filter) ([]record.Record, error) { return nil, nil }
func (m *memory) ExchangeIDs(_ context.Context, prefix string, limit int) (ids []string, err error) {
	for id := range m.list {
		if strings.HasPrefix(id, prefix) {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids[:min(limit, len(ids))], nil
}
func (m *memory) PruneExchanges(context.Context, time.Time, kept.Keep) error { return nil }
func (m *memory) Totals(context.Context, string) ([]kept.Total, error)       { return nil, nil }
func (m *memory) Jobs(context.Context, time.Time, int) ([]kept.Job, error)   { return nil, nil }

func (m *memory) state(id string) record.State {
	e, _ := m.Exchange(context.Background(), id)
	return e.State
}

func (m *memory) fill(err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.full = err
}

func open(t testing.TB, folder string, m *memory) *Writer {
	t.Helper()
	b, err := Open(context.Background(), folder, m, kept.Keep{}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func noted(id string, s record.State) record.Record {
	return record.Record{ID: id, Begun: time.Now(), Model: "harbour-4m", Answered: "harbour-4m", State: s}
}

// left are the journal's files.
func left(t *testing.T, folder string) []string {
	t.Helper()
	files, err := segments(folder)
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// What was noted is in the database after a stop in order, and nothing is left of the journal.
func TestExchangesAreKept(t *testing.T) {
	folder, m := t.TempDir(), &memory{list: map[string]record.Record{}}
	b := open(t, folder, m)
	for i := range 5000 {
		id := fmt.Sprint(i)
		b.Began(noted(id, record.Open))
		if i%2 == 0 {
			b.Ended(noted(id, record.Done))
		}
	}
	if e, err := b.Exchange(t.Context(), "4998"); err != nil || e.State != record.Done {
		t.Errorf("%+v, %v", e, err)
	}
	if _, err := b.Find(t.Context(), record.Filter{}); err != nil || m.state("4998") != record.Done {
		t.Errorf("a page without what has just ended: %v", err)
	}
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	if len(m.list) != 5000 || m.state("10") != record.Done || m.state("11") != record.Open || m.writes > 1000 {
		t.Errorf("%d exchanges, %s, %s, in %d writes", len(m.list), m.state("10"), m.state("11"), m.writes)
	}
	if files := left(t, folder); len(files) > 0 {
		t.Errorf("%v are left", files)
	}
	var e *exchange.Error
	if _, err := b.Exchange(t.Context(), "none"); !errors.As(err, &e) || e.Kind != exchange.NotFound {
		t.Errorf("%v", err)
	}
}

// A gate that is killed leaves its journal, the last line perhaps torn; the next one takes it over.
func TestTheJournalIsTakenOver(t *testing.T) {
	folder, m := t.TempDir(), &memory{list: map[string]record.Record{}, full: errors.New("not yet")}
	killed := open(t, folder, &memory{list: map[string]record.Record{}, full: errors.New("the database cannot be written")})
	for _, id := range []string{"whole", "open", "failed"} {
		killed.Began(noted(id, record.Open))
	}
	killed.Ended(noted("whole", record.Done))
	killed.Ended(noted("failed", record.Failed))
	files := left(t, folder)
	if len(files) != 1 {
		t.Fatal(files)
	}
	f, err := os.OpenFile(files[0], os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteString(`{"id":"torn","state":"do`); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), folder, m, kept.Keep{}, slog.New(slog.DiscardHandler)); !errors.Is(err, m.full) || !slices.Equal(left(t, folder), files) {
		t.Errorf("%v; %v is left", err, left(t, folder))
	}
	m.fill(nil)
	b := open(t, folder, m)
	if len(m.list) != 3 || m.state("whole") != record.Done || m.state("open") != record.Interrupted || m.state("failed") != record.Failed {
		t.Errorf("%+v", m.list)
	}
	b.Ended(noted("next", record.Done))
	if err := b.Close(); err != nil || m.state("next") != record.Done || len(left(t, folder)) > 0 {
		t.Errorf("%v, %v, %v", err, m.list, left(t, folder))
	}
}

// A file of the journal that cannot be read keeps no gate from starting: it is set aside and named, and what is in the others comes over. A line
// without end is passed over without being held.
func TestAJournalThatCannotBeRead(t *testing.T) {
	folder, m := t.TempDir(), &memory{list: map[string]record.Record{}}
	line, err := json.Marshal(record.Record{ID: "whole", State: record.Done})
	if err != nil {
		t.Fatal(err)
	}
	strange := filepath.Join(folder, "exchanges-000003.journal")
	if err := errors.Join(os.Mkdir(strange, 0o700), os.WriteFile(filepath.Join(folder, "exchanges-later.journal"), append(line, '\n'), 0o600),
		os.WriteFile(filepath.Join(folder, "exchanges-000007.journal"), slices.Concat([]byte(`{"id":"`), bytes.Repeat([]byte("x"), 3*longLine), []byte("\n"), bytes.Replace(line, []byte("whole"), []byte("after"), 1), []byte("\n")), 0o600)); err != nil {
		t.Fatal(err)
	}
	var said bytes.Buffer
	b, err := Open(t.Context(), folder, m, kept.Keep{}, slog.New(slog.NewTextHandler(&said, nil)))
	if err != nil {
		t.Fatal(err)
	}
	if m.state("whole") != record.Done || m.state("after") != record.Done || len(m.list) != 2 {
		t.Errorf("%+v", m.list)
	}
	if _, err := os.Stat(strange + ".unreadable"); err != nil || !strings.Contains(said.String(), strange+".unreadable") || !strings.Contains(said.String(), "lines=1") {
		t.Errorf("%v; %s", err, &said)
	}
	b.Ended(noted("next", record.Done))
	if err := b.Close(); err != nil || len(left(t, folder)) > 0 {
		t.Errorf("%v, %v", err, left(t, folder))
	}
}

// While the database cannot be written, the journal and the memory hold what comes, and no one waits; what goes beyond is counted.
func TestADatabaseThatCannotBeWritten(t *testing.T) {
	folder, m := t.TempDir(), &memory{list: map[string]record.Record{}, full: errors.New("the disk is full")}
	b := open(t, folder, m)
	for i := range mostPending + 7 {
		b.Ended(noted(fmt.Sprint(i), record.Done))
	}
	if b.Lost() != 7 {
		t.Errorf("%d are lost, of 7", b.Lost())
	}
	if e, err := b.Exchange(t.Context(), fmt.Sprint(mostPending)); err != nil || e.State != record.Done {
		t.Errorf("one that is not written yet: %+v, %v", e, err)
	}
	m.fill(nil)
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	if len(m.list) != mostPending || m.state(fmt.Sprint(mostPending+6)) != record.Done {
		t.Errorf("%d are kept", len(m.list))
	}
	// A journal that cannot be written is no reason either.
	b = open(t, folder, m)
	if err := b.journal.file.Close(); err != nil {
		t.Fatal(err)
	}
	b.Ended(noted("without a journal", record.Done))
	_ = b.Close() // the journal's file is closed already
	if m.state("without a journal") != record.Done {
		t.Error("without a journal nothing is kept")
	}
}

// A journal that has grown is renewed while exchanges go on coming, and its old files go when all in them is written.
func TestTheJournalIsRenewed(t *testing.T) {
	folder, m := t.TempDir(), &memory{list: map[string]record.Record{}}
	b := open(t, folder, m)
	r := noted("", record.Open)
	r.Agent = strings.Repeat("x", 400)
	for i := range 8000 { // some 6 MB
		r.ID = fmt.Sprint(i)
		b.Ended(r)
		if i%1000 == 0 {
			time.Sleep(2 * commitAfter) // the writer's turn
		}
	}
	var bytes int64
	for _, path := range left(t, folder) {
		if info, err := os.Stat(path); err == nil { // it may just have gone
			bytes += info.Size()
		}
	}
	if bytes > 4*segmentBytes {
		t.Errorf("the journal has %d bytes", bytes)
	}
	if err := b.Close(); err != nil {
		t.Fatal(err)
	}
	if len(m.list) != 8000 || len(left(t, folder)) > 0 {
		t.Errorf("%d are kept, %v left", len(m.list), left(t, folder))
	}
}

// A watcher that does not look loses exchanges, is told how many, and keeps nobody waiting.
func TestWatchersThatDoNotLook(t *testing.T) {
	b := open(t, t.TempDir(), &memory{list: map[string]record.Record{}})
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		for { // until somebody watches
			b.mu.Lock()
			n := len(b.watchers)
			b.mu.Unlock()
			if n > 0 {
				break
			}
		}
		b.Ended(noted("first", record.Done))
	}()
	seen, missed := 0, 0
	for s, err := range b.Watch(ctx, record.Filter{}) {
		if err != nil {
			t.Fatal(err)
		}
		if seen++; seen == 1 {
			if s.ID != "first" {
				t.Errorf("%+v", s)
			}
			for i := range watched + 10 {
				b.Ended(noted(fmt.Sprint(i), record.Done))
			}
		}
		if missed += s.Missed; missed > 0 {
			break
		}
	}
	if missed != 10 {
		t.Errorf("%d are missed, of 10", missed)
	}
	if err := b.Close(); err != nil {
		t.Error(err)
	}
}

func FuzzJournal(f *testing.F) {
	f.Add([]byte(`{"id":"a","state":"done"}` + "\n" + `{"id":"b","st`))
	f.Add([]byte("\n\n{}\n"))
	f.Fuzz(func(t *testing.T, doc []byte) {
		list, torn, err := scan(strings.NewReader(string(doc)))
		if err != nil {
			t.Fatal(err)
		}
		if lines := strings.Count(string(doc), "\n") + 1; len(list)+torn > lines {
			t.Fatalf("%d and %d of %d lines", len(list), torn, lines)
		}
	})
}

// BenchmarkNote is what the ledger costs on a request's way: its beginning and its end.
func BenchmarkNote(b *testing.B) {
	writer := open(b, b.TempDir(), &memory{list: map[string]record.Record{}})
	r := noted("", record.Open)
	r.Client, r.Agent, r.Endpoint = "127.0.0.1", "an agent/1.2", "/v1/chat/completions"
	n := 0
	for b.Loop() {
		n++
		r.ID = fmt.Sprint(n)
		writer.Began(r)
		writer.Ended(r)
	}
	b.StopTimer()
	if err := writer.Close(); err != nil {
		b.Fatal(err)
	}
	if files, err := filepath.Glob(writer.journal.folder + "/*"); err != nil || len(files) > 0 {
		b.Fatal(files, err)
	}
}

// An exchange is found by the beginning of its id, if no other begins so; the parts of it do not count.
func TestExchangesByTheBeginningOfTheirIDs(t *testing.T) {
	m := &memory{list: map[string]record.Record{}}
	b := open(t, t.TempDir(), m)
	defer b.Close()
	for _, id := range []string{"abcdefgh", "abcdefgh-1", "abcdefgh-shadow", "abcxyz"} {
		b.Ended(noted(id, record.Done))
	}
	for asked, want := range map[string]string{"abcd": "abcdefgh", "abcdefgh": "abcdefgh", "abcdefgh-1": "abcdefgh-1", "abcdefgh-s": "abcdefgh-shadow", "abcx": "abcxyz", "abc": "", "zzzz": "", "": ""} {
		e, err := b.Exchange(t.Context(), asked)
		if e.ID != want || (err == nil) != (want != "") {
			t.Errorf("%q is %q, %v; not %q", asked, e.ID, err, want)
		}
	}
	b.Ended(noted("abcdzzzz", record.Done))
	if e, err := b.Exchange(t.Context(), "abcd"); err == nil || !strings.Contains(err.Error(), "several exchanges begin with") {
		t.Errorf("%q, %v", e.ID, err)
	}
}

// A line behind one that is torn, since the disk was full for a moment, is a line of its own.
func TestALineBehindATornOne(t *testing.T) {
	j := &journal{folder: t.TempDir()}
	if err := j.begin(); err != nil {
		t.Fatal(err)
	}
	whole := func(id string) []byte {
		raw, err := json.Marshal(noted(id, record.Done))
		if err != nil {
			t.Fatal(err)
		}
		return append(raw, '\n')
	}
	if err := j.add(whole("first")); err != nil {
		t.Fatal(err)
	}
	if _, err := j.file.Write(whole("torn")[:30]); err != nil {
		t.Fatal(err)
	}
	j.torn = true // as it is after a write that failed
	if err := j.add(whole("last")); err != nil {
		t.Fatal(err)
	}
	list, torn, err := read(j.path(j.number))
	if err != nil || torn != 1 || len(list) != 2 || list[1].ID != "last" {
		t.Errorf("%d lines, %d torn, %v", len(list), torn, err)
	}
}

// A file of the journal stays until all that stands in it is in the database.
func TestTheJournalStaysUntilItIsWritten(t *testing.T) {
	folder, m := t.TempDir(), &memory{list: map[string]record.Record{}, full: errors.New("the disk is full")}
	w := open(t, folder, m)
	r := noted("", record.Done)
	r.Agent = strings.Repeat("x", 400)
	for i := range 4000 { // some 3 MB, of which the database takes nothing
		r.ID = fmt.Sprint(i)
		w.Ended(r)
	}
	if err := w.commit(); err == nil {
		t.Fatal("a database that is full took all of it")
	}
	// Then it takes a part of what stands in the file; the file has to stay for the rest.
	m.mu.Lock()
	m.full, m.once = nil, true
	m.mu.Unlock()
	if err := w.commit(); err == nil {
		t.Fatal("the database took all of it")
	}
	held := map[string]bool{}
	for _, path := range left(t, folder) {
		list, _, err := read(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range list {
			held[e.ID] = true
		}
	}
	for i := range 4000 {
		if id := fmt.Sprint(i); !held[id] && m.state(id) == "" {
			t.Fatalf("exchange %s is neither in the database nor in the journal", id)
		}
	}
	m.mu.Lock()
	m.once = false
	m.mu.Unlock()
	m.fill(nil)
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if len(m.list) != 4000 || len(left(t, folder)) > 0 {
		t.Errorf("%d are kept, %v left", len(m.list), left(t, folder))
	}
}
