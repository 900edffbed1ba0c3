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
		{"a style", record.Filter{Style: "raw", Limit: 5000}, 0, ""},
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
	if err := s.PruneExchanges(t.Context(), begun.Add(3*time.Second), time.Second); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Exchange(t.Context(), "x0000001"); !errors.Is(err, kept.ErrMissing) {
		t.Errorf("%v", err)
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
