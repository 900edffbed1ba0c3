package store

import (
	"database/sql"
	"errors"
	"log/slog"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

func TestPresetsAreKeptWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	ctx := t.Context()
	cool, k := 0.0, 40
	want := catalog.Preset{Name: "b", Model: "m", Instructions: "Be <brief> & \"kind\".\n", Template: "{{ x }}",
		Examples: []catalog.Example{{Role: exchange.User, Content: "Hi"}, {Role: exchange.Assistant, Content: "Ahoy!"}},
		Defaults: catalog.Defaults{Temperature: &cool, TopK: &k}}
	for _, p := range []catalog.Preset{{Name: "c", Model: "m"}, {Name: "b", Model: "old"}, want, {Name: "a", Model: "m"}} {
		if err := s.PutPreset(ctx, p); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, path)
	got, err := s.Preset(ctx, "b")
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%+v, %v; want %+v", got, err, want)
	}
	list, err := s.Presets(ctx)
	if err != nil || len(list) != 3 || list[0].Name != "a" || list[2].Name != "c" {
		t.Errorf("%+v, %v", list, err)
	}
	if err := s.DropPreset(ctx, "b"); err != nil {
		t.Error(err)
	}
	if err := s.DropPreset(ctx, "b"); !errors.Is(err, catalog.ErrNoPreset) {
		t.Errorf("dropped twice: %v", err)
	}
	if _, err := s.Preset(ctx, "b"); !errors.Is(err, catalog.ErrNoPreset) {
		t.Errorf("dropped: %v", err)
	}
}

// A database of an older gate is brought up to date, and loses nothing.
func TestOlderDatabaseIsMigrated(t *testing.T) {
	path := filepath.Join(t.TempDir(), "old.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	first, err := migrations.ReadFile("migrations/0001_keys.sql")
	if err != nil {
		t.Fatal(err)
	}
	for _, script := range []string{string(first), "PRAGMA user_version = 1",
		`INSERT INTO keys (id, label, hash, owner, models, created) VALUES ('abcdefgh', 'old', x'00', 0, 'null', 1000)`} {
		if _, err := db.Exec(script); err != nil {
			t.Fatal(err)
		}
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	s := open(t, path)
	if k, err := s.Key(t.Context(), "abcdefgh"); err != nil || k.Label != "old" || !k.Created.Equal(time.Unix(1000, 0)) || len(k.Models) != 0 {
		t.Errorf("%+v, %v", k, err)
	}
	if err := s.PutPreset(t.Context(), catalog.Preset{Name: "a"}); err != nil {
		t.Error(err)
	}
}

// The use of a key is noted once a minute, not at every request.
func TestUseIsNotedNowAndThen(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	r := keyring.New(s, slog.New(slog.DiscardHandler))
	ctx := t.Context()
	secret, k, err := r.Issue(ctx, keyring.Terms{Label: "x"})
	if err != nil {
		t.Fatal(err)
	}
	recent := time.Now().Add(-20 * time.Second).Truncate(time.Second)
	old := time.Now().Add(-2 * time.Minute).Truncate(time.Second)
	for _, c := range []struct {
		last  time.Time
		noted bool
	}{{recent, false}, {old, true}} {
		if err := s.TouchKey(ctx, k.ID, c.last); err != nil {
			t.Fatal(err)
		}
		// A keyring keeps what it has looked up, so each case has one of its own.
		again := keyring.New(s, slog.New(slog.DiscardHandler))
		if _, err := again.Check(ctx, secret); err != nil {
			t.Fatal(err)
		}
		again.Retry(ctx) // which writes it
		if got, err := s.Key(ctx, k.ID); err != nil || got.LastUsed.Equal(c.last) == c.noted {
			t.Errorf("last used %v before, %v after, %v", c.last, got.LastUsed, err)
		}
	}
}
