package store

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"kindredgate/internal/kept"
	"kindredgate/internal/record"
)

// fill puts exchanges into a store, a second after the other, and returns when the first one began.
func fill(t testing.TB, s *Store, n int) (begun time.Time) {
	t.Helper()
	begun = time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)
	var list []record.Record
	for i := range n {
		e := record.Record{ID: fmt.Sprintf("x%07d", i), Begun: begun.Add(time.Duration(i) * time.Second), Key: fmt.Sprintf("key%d", i%50), Label: fmt.Sprintf("application %d", i%50), Model: fmt.Sprintf("model-%d", i%5),
			Answered: "harbour-4m", Style: "chat", Endpoint: "/v1/chat/completions", State: record.Done, Took: float64(i % 900)}
		if i%10 < 4 {
			e.Job, e.Step, e.PromptTokens = fmt.Sprintf("x%07d", i-i%10), i%10+1, 100*(i%10+1)
		}
		switch {
		case i%1000 == 0:
			e.State, e.Code = record.Failed, "runner_unavailable"
		case i%1000 == 1:
			e.Took = 5000
		}
		if i == n-1 {
			e.State = record.Open
		}
		if list = append(list, e); len(list) == 10_000 || i == n-1 {
			if err := s.PutExchanges(context.Background(), list); err != nil {
				t.Fatal(err)
			}
			list = list[:0]
		}
	}
	return begun
}

func TestExchanges(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "gate.db"))
	begun := fill(t, s, 2002)
	for _, c := range []struct {
		name  string
		f     record.Filter
		count int
		first string
	}{
		{"all", record.Filter{Limit: 5000}, 2002, "x0002001"},
		{"a page", record.Filter{Limit: 10}, 10, "x0002001"},
		{"the next page", record.Filter{Before: "x0001992", Limit: 10}, 10, "x0001991"},
		{"a key", record.Filter{Key: "key7", Limit: 5000}, 40, "x0001957"},
		{"a key by its label", record.Filter{Key: "application 7", Limit: 5000}, 40, "x0001957"},
		{"a model", record.Filter{Model: "model-3", Limit: 5000}, 400, "x0001998"},
		{"a model that answered", record.Filter{Model: "harbour-4m", Limit: 5000}, 2002, "x0002001"},
		{"a style", record.Filter{Style: "completion", Limit: 5000}, 0, ""},
		{"since", record.Filter{Since: begun.Add(2000 * time.Second), Limit: 5000}, 2, "x0002001"},
		{"failed", record.Filter{Bad: true, Limit: 5000}, 3, "x0002000"},
		{"slow", record.Filter{Slow: 2 * time.Second, Limit: 5000}, 3, "x0002001"},
		{"rather slow", record.Filter{Slow: 899 * time.Millisecond, Limit: 5000}, 5, "x0002001"},
		{"slow and of a key", record.Filter{Slow: 2 * time.Second, Key: "key1", Limit: 5000}, 3, "x0002001"},
	} {
		list, err := s.Exchanges(t.Context(), c.f)
		if err != nil || len(list) != c.count || c.count > 0 && list[0].ID != c.first {
			t.Errorf("%s: %d, %v", c.name, len(list), err)
			continue
		}
	}
	if err := s.InterruptExchanges(t.Context()); err != nil {
		t.Fatal(err)
	}
	if e, err := s.Exchange(t.Context(), "x0002001"); err != nil || e.State != record.Interrupted {
		t.Errorf("%+v, %v", e, err)
	}
	// What has ended stays as it is, whatever comes late.
	if err := s.PutExchanges(t.Context(), []record.Record{{ID: "x0000002", State: record.Open}, {ID: "x0002001", State: record.Done}}); err != nil {
		t.Fatal(err)
	}
	for id, want := range map[string]record.State{"x0000002": record.Done, "x0002001": record.Interrupted} {
		if e, err := s.Exchange(t.Context(), id); err != nil || e.State != want {
			t.Errorf("%+v, %v", e, err)
		}
	}
	if err := s.PruneExchanges(t.Context(), begun.Add(3*time.Second), kept.Keep{Age: time.Second}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Exchange(t.Context(), "x0000001"); !errors.Is(err, kept.ErrMissing) {
		t.Errorf("%v", err)
	}
}

// The ledger is bounded in exchanges and in bytes, the oldest make room, and the space goes back to the disk.
func TestTheLedgerIsBounded(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gate.db")
	s := open(t, path)
	begun := fill(t, s, 6000)
	size := func() int64 {
		var pages int64
		if err := s.db.QueryRow(`PRAGMA page_count`).Scan(&pages); err != nil {
			t.Fatal(err)
		}
		return pages
	}
	count := func() int {
		list, err := s.Exchanges(t.Context(), record.Filter{Limit: 10_000})
		if err != nil || len(list) > 0 && list[0].ID != "x0005999" {
			t.Fatal("the newest is gone", err)
		}
		return len(list)
	}
	now, before := begun.Add(6000*time.Second), size()
	for _, c := range []struct {
		keep kept.Keep
		from int
		to   int
	}{
		{kept.Keep{Age: 5000 * time.Second, Rows: 10_000, Space: 1 << 40}, 5000, 5000},
		{kept.Keep{Rows: 5000}, 5000, 5000}, // not one too many
		{kept.Keep{Rows: 4000}, 3800, 3800},
		{kept.Keep{Space: 2 << 20}, 1500, 2500},
	} {
		if err := s.PruneExchanges(t.Context(), now, c.keep); err != nil {
			t.Fatal(err)
		}
		if n := count(); n < c.from || n > c.to {
			t.Errorf("%+v: %d are left", c.keep, n)
		}
	}
	if after := size(); after > before/2 {
		t.Errorf("the database has %d pages, of %d before", after, before)
	}
}

// What the exchanges of a conversation came to is added up once for each of them, whatever comes twice out of the journal.
func TestConversations(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "gate.db"))
	at := time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)
	step := func(id string, n int, prompt int, state record.State) record.Record {
		return record.Record{ID: id, Job: "one", Step: n, Label: "bot", Model: "harbour-4m", Answered: "harbour-4m", Begun: at.Add(time.Duration(n) * time.Minute), Took: 1000, PromptTokens: prompt, CompletionTokens: 5, RepeatedTokens: prompt / 2, State: state}
	}
	alone := step("other", 1, 7, record.Done)
	alone.Job = "other"
	for range 2 {
		if err := s.PutExchanges(t.Context(), []record.Record{step("one", 1, 10, record.Done), step("two", 2, 30, record.Failed), step("three", 3, 60, record.Open), step("four", 4, 80, record.Refused), alone}); err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.Jobs(t.Context(), at, 10)
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	if got, want := list[0], (kept.Job{ID: "one", Label: "bot", Model: "harbour-4m", Begun: at.Add(time.Minute), Ended: at.Add(2*time.Minute + time.Second), Requests: 2, First: 10, Last: 30, Prompt: 40, Repeated: 20, Answered: 10, Busy: 2000, Between: 59_000}); got != want {
		t.Errorf("%+v, not %+v", got, want)
	}
	if list, err := s.Jobs(t.Context(), at.Add(time.Hour), 10); err != nil || len(list) != 0 {
		t.Errorf("since an hour later: %v, %v", list, err)
	}
}

// BenchmarkLedgerSizes asks a ledger of 3,000 exchanges, and one of 300,000, for the same.
func BenchmarkLedgerSizes(b *testing.B) {
	for _, n := range []int{3_000, 300_000} {
		s := open(b, filepath.Join(b.TempDir(), "gate.db"))
		begun := fill(b, s, n)
		last := begun.Add(time.Duration(n) * time.Second)
		for name, f := range map[string]record.Filter{
			"style": {Style: "completion", Limit: 50}, "slow-none": {Slow: time.Minute, Limit: 50}, "slow-few": {Slow: 4 * time.Second, Limit: 50}, "slow-many": {Slow: 100 * time.Millisecond, Limit: 50},
			"bad": {Bad: true, Limit: 50}, "bad-of-a-key": {Bad: true, Key: "key7", Limit: 50}, "key": {Key: "key7", Limit: 50}, "check": {Bad: true, Since: last.Add(-24 * time.Hour), Limit: 1000}, "export-page": {Before: fmt.Sprintf("x%07d", n/2), Limit: 1000},
		} {
			b.Run(fmt.Sprintf("%s/%d", name, n), func(b *testing.B) {
				rows := 0
				for b.Loop() {
					list, err := s.Exchanges(b.Context(), f)
					if err != nil {
						b.Fatal(err)
					}
					rows = len(list)
				}
				b.ReportMetric(float64(rows), "rows") // of which the larger ledger may have more
			})
		}
		b.Run(fmt.Sprintf("jobs/%d", n), func(b *testing.B) {
			for b.Loop() {
				if _, err := s.Jobs(b.Context(), last.Add(-24*time.Hour), 50); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// BenchmarkExchanges reads filtered pages of a ledger with a million exchanges.
func BenchmarkExchanges(b *testing.B) {
	s := open(b, filepath.Join(b.TempDir(), "gate.db"))
	begun := fill(b, s, 1_000_000)
	for name, f := range map[string]record.Filter{
		"newest":           {Limit: 50},
		"key":              {Key: "key7", Limit: 50},
		"label":            {Key: "application 7", Limit: 50},
		"model":            {Model: "model-3", Limit: 50},
		"failed":           {Bad: true, Limit: 50},
		"slow":             {Slow: 2 * time.Second, Limit: 50},
		"failed-of-a-key":  {Bad: true, Key: "key0", Limit: 50},
		"nothing-of-a-key": {Key: "none", Limit: 50},
		"nothing-failed":   {Bad: true, Model: "model-1", Key: "key7", Limit: 50},
		"answered":         {Model: "harbour-4m", Limit: 50},
		"deep":             {Before: "x0500000", Limit: 50},
		"since":            {Since: begun.Add(900_000 * time.Second), Key: "key3", Limit: 50},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := s.Exchanges(context.Background(), f); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
