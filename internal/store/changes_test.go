package store

import (
	"context"
	"errors"
	"log/slog"
	"math"
	"path/filepath"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/fleet"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
)

// sharing opens a store that shares, as a gate of a name.
func sharing(t *testing.T, name string) *Store {
	t.Helper()
	s, err := Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{Age: time.Hour, Space: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if err := s.Share(t.Context(), name); err != nil {
		t.Fatal(err)
	}
	return s
}

// tell tells other gates of what is pending at one, as the servers would. It gives how many changes there were.
func tell(t *testing.T, from *Store, to ...*Store) int {
	t.Helper()
	list, err := from.Pending(t.Context(), 1000)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range list {
		for _, s := range to {
			if _, err := s.Apply(t.Context(), c); err != nil {
				t.Fatal(err)
			}
		}
		if err := from.Told(t.Context(), c); err != nil {
			t.Fatal(err)
		}
	}
	return len(list)
}

// settle tells until nothing is pending anywhere, which ends.
func settle(t *testing.T, stores ...*Store) {
	t.Helper()
	for range 10 {
		n := 0
		for _, s := range stores {
			n += tell(t, s, stores...)
		}
		if n == 0 {
			return
		}
	}
	t.Fatal("gates tell each other of changes without an end")
}

func nameOf(t *testing.T, s *Store, name string) string {
	t.Helper()
	n, err := s.Name(t.Context(), name)
	if err != nil {
		return err.Error()
	}
	return n.Of[0].To
}

func named(name, to string) catalog.Name {
	return catalog.Name{Name: name, Of: []catalog.Target{{To: to}}}
}

// Of what two gates have changed while they were apart, the later change holds at both; what was revoked at one stays revoked; and what was
// removed later than it was changed is gone.
func TestChangesAreMerged(t *testing.T) {
	north, south := sharing(t, "north"), sharing(t, "south")
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	keys := keyring.New(north, slog.New(slog.DiscardHandler))
	_, k, err := keys.Issue(ctx, keyring.Terms{Label: "timetable bot", Models: []string{"a"}})
	must(err)
	must(north.PutName(ctx, named("helper", "first")))
	must(north.PutName(ctx, named("gone", "first")))
	settle(t, north, south)
	if got := nameOf(t, south, "helper"); got != "first" {
		t.Errorf("the name is %s at the other", got)
	}
	if there, err := south.Key(ctx, k.ID); err != nil || there.Label != "timetable bot" || string(there.Hash) != string(k.Hash) || !there.Created.Equal(k.Created) {
		t.Errorf("the key is %+v at the other, %v", there, err)
	}

	// Apart.
	must(north.PutName(ctx, named("helper", "of north")))
	must(south.PutName(ctx, named("helper", "of south")))
	must(south.DropName(ctx, "gone"))
	revoked := time.Unix(1900000000, 0).UTC()
	must(north.RevokeKey(ctx, k.ID, revoked))
	must(south.ChangeKey(ctx, k.ID, keyring.Terms{Label: "timetable bot 2", Models: []string{"b"}}))
	settle(t, north, south)
	for _, s := range []*Store{north, south} {
		if got := nameOf(t, s, "helper"); got != "of south" {
			t.Errorf("the name is %s, where the later change should hold", got)
		}
		if got := nameOf(t, s, "gone"); got != catalog.ErrNoName.Error() {
			t.Errorf("what was removed is %s", got)
		}
		there, err := s.Key(ctx, k.ID)
		if err != nil || there.Label != "timetable bot 2" || !there.Revoked.Equal(revoked) {
			t.Errorf("the key is %+v, %v", there, err)
		}
	}

	// A change to what was removed meanwhile, the later of both again.
	must(north.PutName(ctx, named("gone", "again")))
	settle(t, north, south)
	if got := nameOf(t, south, "gone"); got != "again" {
		t.Errorf("what was made again is %s", got)
	}
	// The one who has told keeps nothing to tell, and use alone is nothing to tell of.
	must(north.TouchKey(ctx, k.ID, time.Now()))
	if list, err := north.Pending(ctx, 10); err != nil || len(list) != 0 {
		t.Errorf("pending is %+v, %v", list, err)
	}
}

// A gate whose clock is five minutes behind changes what it has seen, and that holds: stamps come after all that were seen.
func TestClocksApart(t *testing.T) {
	north, south := sharing(t, "north"), sharing(t, "south")
	if err := north.PutName(t.Context(), named("helper", "of north")); err != nil {
		t.Fatal(err)
	}
	list, err := north.Pending(t.Context(), 10)
	if err != nil || len(list) != 1 {
		t.Fatalf("%v %v", list, err)
	}
	list[0].Stamp += (5 * time.Minute).Milliseconds() // as a clock that is ahead has it
	if _, err := south.Apply(t.Context(), list[0]); err != nil {
		t.Fatal(err)
	}
	if err := south.PutName(t.Context(), named("helper", "of south")); err != nil {
		t.Fatal(err)
	}
	after, err := south.Pending(t.Context(), 10)
	if err != nil || len(after) != 1 || !after[0].Later(list[0]) {
		t.Errorf("%+v after %+v, %v", after, list, err)
	}
	// An old change that comes late changes nothing.
	list[0].Stamp -= (10 * time.Minute).Milliseconds()
	if _, err := south.Apply(t.Context(), list[0]); err != nil || nameOf(t, south, "helper") != "of south" {
		t.Errorf("%s, %v", nameOf(t, south, "helper"), err)
	}
}

// What others tell may be of a newer gate, or nonsense; neither does harm.
func TestChangesOfOthers(t *testing.T) {
	s := sharing(t, "north")
	for name, c := range map[string]struct {
		change fleet.Change
		fails  bool
	}{
		"a kind that is not known":   {fleet.Change{Kind: "visits", Name: "x", Stamp: 5, Row: []byte(`{}`)}, false},
		"a column that is not known": {fleet.Change{Kind: "names", Name: "helper", Stamp: 5, Row: []byte(`{"name":{"t":"helper"},"target":{"t":"a"},"route":{"t":""},"colour":{"t":"red"}}`)}, false},
		"no key":                     {fleet.Change{Kind: "names", Name: "x", Stamp: 5, Row: []byte(`{"target":{"t":"a"}}`)}, true},
		"no row":                     {fleet.Change{Kind: "names", Name: "x", Stamp: 5}, true},
		"another table's row":        {fleet.Change{Kind: "keys", Name: "x", Stamp: 5, Row: []byte(`{"id":{"t":"x"}}`)}, true},
		"a table of ours":            {fleet.Change{Kind: "exchanges", Name: "x", Stamp: 5, Gone: true}, false},
	} {
		if _, err := s.Apply(context.Background(), c.change); (err != nil) != c.fails || err != nil && !errors.Is(err, fleet.ErrUnusable) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got := nameOf(t, s, "helper"); got != "a" {
		t.Errorf("the name is %s", got)
	}
	if err := s.PutName(t.Context(), named("after", "b")); err != nil { // changes are noted again after one that failed
		t.Fatal(err)
	}
	if list, err := s.Pending(t.Context(), 10); err != nil || len(list) != 1 {
		t.Errorf("pending is %+v, %v", list, err)
	}
}

// What there is when a gate begins to share is told too, and a gate that shares nothing notes nothing.
func TestSharingBegins(t *testing.T) {
	file := filepath.Join(t.TempDir(), "gate.db")
	s, err := Open(file, kept.Limits{Age: time.Hour, Space: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.PutName(t.Context(), named("helper", "a")); err != nil {
		t.Fatal(err)
	}
	var n int
	if err := s.db.QueryRow(`SELECT count(*) FROM changes`).Scan(&n); err != nil || n != 0 {
		t.Errorf("%d changes are noted by a gate that shares nothing, %v", n, err)
	}
	for range 2 { // as often as it is started
		if err := s.Share(t.Context(), "north"); err != nil {
			t.Fatal(err)
		}
	}
	list, err := s.Pending(t.Context(), 10)
	if err != nil || len(list) != 1 || list[0].Name != "helper" || list[0].By != "north" {
		t.Errorf("pending is %+v, %v", list, err)
	}
	// What another gate has changed since holds against it.
	other := list[0]
	other.By, other.Stamp, other.Row = "south", 1000, []byte(`{"name":{"t":"helper"},"target":{"t":"b"},"route":{"t":""}}`)
	if _, err := s.Apply(t.Context(), other); err != nil || nameOf(t, s, "helper") != "b" {
		t.Errorf("%s, %v", nameOf(t, s, "helper"), err)
	}
}

// FuzzApply takes over anything as a change of another gate: whatever it is, the store stays whole, and notes its own changes after it.
func FuzzApply(f *testing.F) {
	f.Add("names", "helper", int64(5), false, []byte(`{"name":{"t":"helper"},"target":{"t":"a"},"route":{"t":""}}`))
	f.Add("keys", "x", int64(1<<62), true, []byte(`{"id":{"t":"x"},"revoked":{"i":-1}}`))
	f.Add("names", "helper", int64(math.MaxInt64), false, []byte(`{"name":{"t":"helper"},"target":{"t":"a"},"route":{"t":""}}`))
	f.Add("sessions", "AB", int64(-1), false, []byte(`{"hash":{"b":"qw=="},"expires":{"t":"x"}}`))
	s, err := Open(filepath.Join(f.TempDir(), "gate.db"), kept.Limits{Age: time.Hour, Space: 1 << 20})
	if err != nil {
		f.Fatal(err)
	}
	f.Cleanup(func() { s.Close() })
	if err := s.Share(context.Background(), "north"); err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, kind, name string, stamp int64, gone bool, row []byte) {
		_, _ = s.Apply(t.Context(), fleet.Change{Kind: kind, Name: name, Stamp: stamp, By: "south", Gone: gone, Row: row})
		var applying int
		if err := s.db.QueryRow(`SELECT count(*) FROM applying`).Scan(&applying); err != nil || applying != 0 {
			t.Fatalf("changes of this gate are not noted any more: %d, %v", applying, err)
		}
		if err := s.PutName(t.Context(), named("own", "a")); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Pending(t.Context(), 10); err != nil {
			t.Fatal(err)
		}
	})
}
