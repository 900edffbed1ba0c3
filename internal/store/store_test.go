package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

func open(t testing.TB, path string) *Store {
	t.Helper()
	s, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// The keyring on its real store: what is issued is accepted until it is revoked, also after a restart.
func TestKeysLiveAndDie(t *testing.T) {
	path := filepath.Join(t.TempDir(), "with space & ?mark.db")
	s := open(t, path)
	r := keyring.New(s)
	ctx := t.Context()
	secret, issued, err := r.Issue(ctx, "  timetable bot ", []string{"harbour-4m"})
	if err != nil || issued.Label != "timetable bot" || len(secret) != 45 {
		t.Fatalf("%q, %+v, %v", secret, issued, err)
	}
	k, err := r.Check(ctx, secret)
	if err != nil || k.ID != issued.ID || !k.MayUse("harbour-4m") || k.MayUse("other") || k.LastUsed.IsZero() {
		t.Errorf("%+v, %v", k, err)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if wal, err := os.ReadFile(path + "-wal"); err == nil {
		raw = append(raw, wal...)
	}
	if bytes.Contains(raw, []byte(secret[11:])) {
		t.Error("the secret stands in the database")
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the database has mode %v, %v", info.Mode(), err)
	}

	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	r = keyring.New(open(t, path))
	if _, err := r.Check(ctx, secret); err != nil {
		t.Errorf("after a restart: %v", err)
	}
	if _, err := r.Revoke(ctx, "timetable bot"); err != nil {
		t.Fatal(err)
	}
	last := secret[len(secret)-1]
	if last++; last > 'z' || last == ':' {
		last = 'a'
	}
	for given, want := range map[string]string{
		"":                                    "no key was given",
		"sk-123":                              `its keys begin with "kg_"`,
		"kg_short":                            "mistyped or cut off",
		secret[:len(secret)-1] + string(last): "mistyped or cut off",
		secret:                                `the key "timetable bot" (kg_` + issued.ID + `…) was revoked on`,
	} {
		_, err := r.Check(ctx, given)
		var e *exchange.Error
		if !errors.As(err, &e) || e.Kind != exchange.Unauthenticated || e.Code != "invalid_api_key" || !strings.Contains(e.Message, want) {
			t.Errorf("%q: %v, want %q", given, err, want)
		}
	}
	// A well-formed key of another gate.
	other, _, err := keyring.New(open(t, filepath.Join(t.TempDir(), "b.db"))).Issue(ctx, "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Check(ctx, other); err == nil || !strings.Contains(err.Error(), "did not issue that key") {
		t.Errorf("another gate's key: %v", err)
	}
}

func TestRevokeByLabelAndIdentifier(t *testing.T) {
	r := keyring.New(open(t, filepath.Join(t.TempDir(), "a.db")))
	ctx := t.Context()
	owner, err := r.IssueOwner(ctx)
	if err != nil {
		t.Fatal(err)
	}
	_, first, err := r.Issue(ctx, "twin", nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.Issue(ctx, "twin", nil); err != nil {
		t.Fatal(err)
	}
	for ref, want := range map[string]string{
		"nobody":            "there is no key",
		"twin":              "2 keys are labelled",
		"kg_" + owner[3:11]: "the owner key cannot be revoked",
		"owner":             "there is no key",
	} {
		if _, err := r.Revoke(ctx, ref); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", ref, err, want)
		}
	}
	if k, err := r.Revoke(ctx, "kg_"+first.ID); err != nil || k.Revoked.IsZero() {
		t.Errorf("%+v, %v", k, err)
	}
	if _, err := r.Revoke(ctx, "twin"); err != nil {
		t.Errorf("the only one left by that label: %v", err)
	}
	for _, label := range []string{"", "   ", "a\nb", strings.Repeat("x", 101)} {
		if _, _, err := r.Issue(ctx, label, nil); err == nil {
			t.Errorf("label %q was accepted", label)
		}
	}
}

func TestConsoleSessions(t *testing.T) {
	r := keyring.New(open(t, filepath.Join(t.TempDir(), "a.db")))
	ctx := t.Context()
	old, err := r.IssueOwner(ctx)
	if err != nil {
		t.Fatal(err)
	}
	owner, err := r.IssueOwner(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.SignIn(ctx, old); err == nil {
		t.Error("the former owner key still opens the console")
	}
	application, _, err := r.Issue(ctx, "app", nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.SignIn(ctx, application); err == nil || !strings.Contains(err.Error(), "is a key for applications") {
		t.Errorf("an application's key: %v", err)
	}
	token, expires, err := r.SignIn(ctx, owner)
	if err != nil || time.Until(expires) < 24*time.Hour {
		t.Fatalf("%v, %v", expires, err)
	}
	if err := r.CheckSession(ctx, token); err != nil {
		t.Error(err)
	}
	if err := r.CheckSession(ctx, token[1:]); err == nil {
		t.Error("another token is accepted")
	}
	second, _, err := r.SignIn(ctx, owner)
	if err != nil {
		t.Fatal(err)
	}
	if err := r.SignOut(ctx, token); err != nil {
		t.Fatal(err)
	}
	if err := r.CheckSession(ctx, token); err == nil {
		t.Error("signed out, but still accepted")
	}
	if err := r.CheckSession(ctx, second); err != nil {
		t.Errorf("another console: %v", err)
	}
	if _, err := r.IssueOwner(ctx); err != nil {
		t.Fatal(err)
	}
	if err := r.CheckSession(ctx, second); err == nil {
		t.Error("a console of the former owner is still signed in")
	}
}

func TestOpenRefusesWhatItCannotRead(t *testing.T) {
	dir := t.TempDir()
	garbage := filepath.Join(dir, "garbage.db")
	if err := os.WriteFile(garbage, bytes.Repeat([]byte("not a database "), 100), 0o600); err != nil {
		t.Fatal(err)
	}
	newer := filepath.Join(dir, "newer.db")
	s := open(t, newer)
	if _, err := s.db.ExecContext(context.Background(), "PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		garbage:           "not a database",
		newer:             "version 99",
		dir + "/no/such/": "no such file",
	} {
		if s, err := Open(path); err == nil {
			s.Close()
			t.Errorf("%s was opened", path)
		} else if !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
	if left, err := os.ReadFile(garbage); err != nil || len(left) != 1500 {
		t.Errorf("the file that is no database has been changed: %d bytes, %v", len(left), err)
	}
}

func TestMigrationsAreNumbered(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	var version int
	if err := s.db.QueryRow("PRAGMA user_version").Scan(&version); err != nil || version < 1 {
		t.Errorf("version %d, %v", version, err)
	}
	if _, err := s.Key(t.Context(), "none"); !errors.Is(err, keyring.ErrUnknown) || errors.Is(err, sql.ErrNoRows) {
		t.Errorf("a key that does not exist: %v", err)
	}
}

// A key that is revoked while others look it up is refused from then on, whoever was first.
func TestRevokedWhileInUse(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	ctx := t.Context()
	for range 20 {
		r := keyring.New(s) // which has not looked it up yet
		secret, k, err := r.Issue(ctx, "x", nil)
		if err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() { _, _ = r.Check(ctx, secret) }) // valid or not, as it comes
		}
		if _, err := r.Revoke(ctx, k.ID); err != nil {
			t.Fatal(err)
		}
		all.Wait()
		if _, err := r.Check(ctx, secret); err == nil {
			t.Fatal("the revoked key is valid")
		}
	}
}
