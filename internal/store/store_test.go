package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
)

func open(t testing.TB, path string) *Store {
	t.Helper()
	s, err := Open(path, kept.Limits{Age: 30 * 24 * time.Hour, Space: 1 << 20})
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
	r := keyring.New(s, slog.New(slog.DiscardHandler))
	ctx := t.Context()
	secret, issued, err := r.Issue(ctx, keyring.Terms{Label: "  timetable bot ", Models: []string{"harbour-4m"}})
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
	r = keyring.New(open(t, path), slog.New(slog.DiscardHandler))
	if _, err := r.Check(ctx, secret); err != nil {
		t.Errorf("after a restart: %v", err)
	}
	if _, _, err := r.Revoke(ctx, "timetable bot"); err != nil {
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
	other, _, err := keyring.New(open(t, filepath.Join(t.TempDir(), "b.db")), slog.New(slog.DiscardHandler)).Issue(ctx, keyring.Terms{Label: "x"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Check(ctx, other); err == nil || !strings.Contains(err.Error(), "did not issue that key") {
		t.Errorf("another gate's key: %v", err)
	}
}

func TestRevokeByLabelAndIdentifier(t *testing.T) {
	r := keyring.New(open(t, filepath.Join(t.TempDir(), "a.db")), slog.New(slog.DiscardHandler))
	ctx := t.Context()
	owner, err := r.IssueOwner(ctx, "")
	if err != nil {
		t.Fatal(err)
	}
	_, first, err := r.Issue(ctx, keyring.Terms{Label: "twin"})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.Issue(ctx, keyring.Terms{Label: "twin"}); err != nil {
		t.Fatal(err)
	}
	for ref, want := range map[string]string{
		"nobody":            "there is no key",
		"twin":              "2 keys are labelled",
		"kg_" + owner[3:11]: "the owner key cannot be revoked",
		"owner":             "there is no key",
	} {
		if _, _, err := r.Revoke(ctx, ref); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", ref, err, want)
		}
	}
	if k, _, err := r.Revoke(ctx, "kg_"+first.ID); err != nil || k.Revoked.IsZero() {
		t.Errorf("%+v, %v", k, err)
	}
	if _, _, err := r.Revoke(ctx, "twin"); err != nil {
		t.Errorf("the only one left by that label: %v", err)
	}
	for _, label := range []string{"", "   ", "a\nb", strings.Repeat("x", 101)} {
		if _, _, err := r.Issue(ctx, keyring.Terms{Label: label}); err == nil {
			t.Errorf("label %q was accepted", label)
		}
	}
}

func TestConsoleSessions(t *testing.T) {
	r := keyring.New(open(t, filepath.Join(t.TempDir(), "a.db")), slog.New(slog.DiscardHandler))
	ctx := t.Context()
	old, err := r.IssueOwner(ctx, "")
	if err != nil {
		t.Fatal(err)
	}
	owner, err := r.IssueOwner(ctx, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.SignIn(ctx, old); err == nil {
		t.Error("the former owner key still opens the console")
	}
	application, _, err := r.Issue(ctx, keyring.Terms{Label: "app"})
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
	if _, err := r.IssueOwner(ctx, ""); err != nil {
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
		if s, err := Open(path, kept.Limits{Age: 30 * 24 * time.Hour, Space: 1 << 20}); err == nil {
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

// An older database is brought up to date when nobody else has it open, with a copy set aside. What was stored uncompressed does not count for
// what it was, so that the first response after that has room beside it.
func TestUpgrade(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	limits := kept.Limits{Age: 30 * 24 * time.Hour, Space: 100_000}
	old, err := sql.Open("sqlite", location(path, nil))
	if err != nil {
		t.Fatal(err)
	}
	scripts, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		t.Fatal(err)
	}
	const before = 11
	for _, name := range scripts[:before] {
		script, err := migrations.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := old.Exec(string(script)); err != nil {
			t.Fatal(err)
		}
	}
	long := `{"input":[],"body":{"x":"` + strings.Repeat("boats ", 10_000) + `"},"events":[]}`
	for i, statement := range []string{
		`PRAGMA journal_mode = WAL`, fmt.Sprintf(`PRAGMA user_version = %d`, before),
		`INSERT INTO keys (id, label, hash, owner, models, created, last_used, revoked, issuer) VALUES ('child', 'x', x'00', 0, '[]', 1, 0, 0, 'parent')`,
		`INSERT INTO exchanges (id, begun, key, label, model, answered, style, state, took, doc, job) VALUES ('first', 1, 'k', 'bot', 'm', 'm', 'raw', 'done', 5, '{"id":"first","style":"raw","job":"first","prompt_tokens":10,"completion_tokens":1}', 'first')`,
		`INSERT INTO exchanges (id, begun, key, label, model, answered, style, state, took, doc, job) VALUES ('second', 9, 'k', 'bot', 'm', 'm', 'chat', 'done', 5, '{"id":"second","style":"chat","job":"first","prompt_tokens":30,"repeated_tokens":11,"completion_tokens":2}', 'first')`,
		`INSERT INTO responses (id, key, created, ended, background, previous, doc, bytes) VALUES ('one', 'child', 1, 1, 0, '', CAST('` + long + `' AS BLOB), ` + fmt.Sprint(len(long)) + `)`,
		`INSERT INTO responses (id, key, created, ended, background, previous, doc, bytes) VALUES ('two', 'parent', 2, 1, 0, '', CAST('` + long + `' AS BLOB), ` + fmt.Sprint(len(long)) + `)`,
		`INSERT INTO responses (id, key, created, ended, background, previous, doc, bytes) VALUES ('damaged', 'parent', 2, 1, 0, '', CAST('{"input"' AS BLOB), 8)`,
	} {
		if _, err := old.Exec(statement); err != nil {
			t.Fatalf("%d: %v", i, err)
		}
	}
	if s, err := Open(path, limits); err == nil || !strings.Contains(err.Error(), "stop that gate first") {
		t.Fatalf("beside a gate that has it open: %v, %v", s, err)
	}
	if err := old.Close(); err != nil {
		t.Fatal(err)
	}
	s := open(t, path)
	s.Limit(limits)
	if list, err := s.Exchanges(t.Context(), record.Filter{Style: "completion", Limit: 5}); err != nil || len(list) != 1 || list[0].Style != "completion" {
		t.Errorf("exchanges of a style that has another name now: %+v, %v", list, err)
	}
	if jobs, err := s.Jobs(t.Context(), time.Time{}, 5); err != nil || len(jobs) != 1 || jobs[0].Requests != 2 || jobs[0].First != 10 || jobs[0].Last != 30 || jobs[0].Repeated != 11 {
		t.Errorf("conversations of before: %+v, %v", jobs, err)
	}
	var vacuum int
	if err := s.db.QueryRow(`PRAGMA auto_vacuum`).Scan(&vacuum); err != nil || vacuum != 2 {
		t.Errorf("a database of before gives no space back: %d, %v", vacuum, err)
	}
	copied, err := sql.Open("sqlite", location(copyOf(path, before), nil))
	if err != nil {
		t.Fatal(err)
	}
	defer copied.Close()
	var version, n int
	if err := errors.Join(copied.QueryRow(`PRAGMA user_version`).Scan(&version), copied.QueryRow(`SELECT count(*) FROM responses`).Scan(&n)); err != nil || version != before || n != 3 {
		t.Errorf("the copy has version %d and %d responses, %v", version, n, err)
	}
	if info, err := os.Stat(copyOf(path, before)); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the copy: %v, %v", info.Mode(), err)
	}
	if err := s.PutResponse(t.Context(), kept.Response{ID: "three", Key: "parent", Created: time.Now(), Ended: true, Input: []byte("[]"), Body: []byte("{}"), Events: []byte("[]")}); err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"one", "two", "three"} {
		if r, err := s.Response(t.Context(), id); err != nil || id != "three" && len(r.Body) < 60_000 {
			t.Errorf("%s: %v", id, err)
		}
	}
	if _, err := s.Response(t.Context(), "damaged"); !errors.Is(err, kept.ErrDamaged) {
		t.Errorf("a damaged one: %v", err)
	}
	var payer string
	if err := s.db.QueryRow(`SELECT payer FROM responses WHERE id = 'one'`).Scan(&payer); err != nil || payer != "parent" {
		t.Errorf("the space of a derived key's response is %q's, %v", payer, err)
	}
}

// While another program has the database locked, what only reads waits for nothing, and what writes fails as something that may pass.
func TestLockedByAnother(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	s := open(t, path)
	if _, err := s.db.Exec(`PRAGMA busy_timeout = 50`); err != nil {
		t.Fatal(err)
	}
	r := keyring.New(s, slog.New(slog.DiscardHandler))
	secret, k, err := r.Issue(t.Context(), keyring.Terms{Label: "x"})
	if err != nil {
		t.Fatal(err)
	}
	other, err := sql.Open("sqlite", location(path, nil))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	other.SetMaxOpenConns(1)
	if _, err := other.Exec(`BEGIN IMMEDIATE`); err != nil {
		t.Fatal(err)
	}
	_, _, err = r.Issue(t.Context(), keyring.Terms{Label: "y"})
	if e := exchange.AsError(err); e.Code != "storage_failed" || e.Kind != exchange.Unavailable {
		t.Errorf("a key that cannot be kept: %v", err)
	}
	again := keyring.New(s, slog.New(slog.DiscardHandler)) // which knows no key yet
	if _, err := again.Check(t.Context(), secret); err != nil {
		t.Errorf("a key that is looked up: %v", err)
	}
	if _, written, err := again.Revoke(t.Context(), k.ID); err != nil || written {
		t.Errorf("a revocation: %t, %v", written, err)
	}
	if _, err := again.Check(t.Context(), secret); err == nil {
		t.Error("the revoked key is valid")
	}
	if _, err := other.Exec(`ROLLBACK`); err != nil {
		t.Fatal(err)
	}
	again.Retry(t.Context())
	if kept, err := s.Key(t.Context(), k.ID); err != nil || kept.Revoked.IsZero() {
		t.Errorf("after that: %+v, %v", kept, err)
	}
}

// A key that is revoked while others look it up is refused from then on, whoever was first.
func TestRevokedWhileInUse(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	ctx := t.Context()
	for range 20 {
		r := keyring.New(s, slog.New(slog.DiscardHandler)) // which has not looked it up yet
		secret, k, err := r.Issue(ctx, keyring.Terms{Label: "x"})
		if err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() { _, _ = r.Check(ctx, secret) }) // valid or not, as it comes
		}
		if _, _, err := r.Revoke(ctx, k.ID); err != nil {
			t.Fatal(err)
		}
		all.Wait()
		if _, err := r.Check(ctx, secret); err == nil {
			t.Fatal("the revoked key is valid")
		}
	}
}

// A key's stored responses have the space that is set: the oldest make room, those of other keys stay, and what is too large alone is
// refused. What they hold is compressed.
func TestResponsesHaveTheirSpace(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "a.db"), kept.Limits{Age: 30 * 24 * time.Hour, Space: 20_000})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx, begun := t.Context(), time.Now().UTC().Truncate(time.Second)
	noise := func(n int) json.RawMessage { // that cannot be compressed
		raw := make([]byte, n)
		rand.Read(raw)
		return json.RawMessage(strconv.Quote(base64.StdEncoding.EncodeToString(raw)))
	}
	put := func(id, key string, at int, ended bool, body json.RawMessage) error {
		return s.PutResponse(ctx, kept.Response{ID: id, Key: key, Created: begun.Add(time.Duration(at) * time.Second), Ended: ended, Input: json.RawMessage(`["in"]`), Body: body, Events: json.RawMessage(`[1]`)})
	}
	there := func(id string) bool {
		r, err := s.Response(ctx, id)
		if err != nil && !errors.Is(err, kept.ErrMissing) {
			t.Error(err)
		}
		return err == nil && string(r.Input) == `["in"]` && string(r.Events) == `[1]`
	}
	if err := errors.Join(put("other", "b", 0, true, noise(4000)), put("waiting", "a", 0, false, noise(4000)), put("a1", "a", 1, true, noise(4000)), put("a2", "a", 2, true, noise(4000)), put("a3", "a", 2, true, noise(4000))); err != nil {
		t.Fatal(err)
	}
	for id, want := range map[string]bool{"other": true, "waiting": true, "a1": true, "a2": true, "a3": true} {
		if there(id) != want {
			t.Errorf("with space for all: %s is there: %v", id, !want)
		}
	}
	if err := put("a4", "a", 3, true, noise(4000)); err != nil {
		t.Fatal(err)
	}
	if err := put("a3", "a", 2, true, noise(9000)); err != nil { // grows
		t.Fatal(err)
	}
	for id, want := range map[string]bool{"other": true, "waiting": true, "a1": false, "a2": false, "a3": true, "a4": true} {
		if there(id) != want {
			t.Errorf("without: %s is there: %v", id, !want)
		}
	}
	if err := put("huge", "a", 4, true, noise(20_000)); !errors.Is(err, kept.ErrNoRoom) || there("huge") || !there("a4") {
		t.Errorf("one that is too large: %v", err)
	}
	if err := put("even", "c", 4, true, json.RawMessage(strconv.Quote(strings.Repeat("The boat leaves. ", 50_000)))); err != nil || !there("even") {
		t.Errorf("one that can be compressed: %v", err)
	}
}

// A clock that jumps ahead does not take everything with it.
func TestAClockThatJumpsRemovesNothing(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	ctx, now := t.Context(), time.Now()
	put := func(id string, at time.Time) {
		t.Helper()
		if err := s.PutResponse(ctx, kept.Response{ID: id, Created: at, Ended: true, Input: []byte(`1`), Body: []byte(`1`), Events: []byte(`1`)}); err != nil {
			t.Fatal(err)
		}
	}
	gone := func(id string) bool { _, err := s.Response(ctx, id); return errors.Is(err, kept.ErrMissing) }
	prune := func(at time.Time) {
		t.Helper()
		if err := s.PruneResponses(ctx, at); err != nil {
			t.Fatal(err)
		}
	}
	put("old", now.Add(-31*24*time.Hour))
	put("recent", now.Add(-time.Hour))
	prune(now)
	if !gone("old") || gone("recent") {
		t.Error("what is old goes, what is not stays")
	}
	prune(now.Add(60 * 24 * time.Hour))
	if gone("recent") {
		t.Error("the clock jumped, and all is gone")
	}
	prune(now.Add(time.Hour)) // it was put right
	for day := range 32 {
		prune(now.Add(time.Duration(day) * 24 * time.Hour))
	}
	if !gone("recent") {
		t.Error("it never gets old")
	}
}

// A full disk is told of in words, and what was there stays.
func TestFullDisk(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	if _, err := s.db.Exec("PRAGMA max_page_count = 1"); err != nil { // which means: no more than there are
		t.Fatal(err)
	}
	big := []byte(strconv.Quote(rand.Text() + strings.Repeat(rand.Text(), 1)))
	var err error
	for i := 0; err == nil && i < 10_000; i++ {
		err = s.PutResponse(t.Context(), kept.Response{ID: fmt.Sprint(i), Key: fmt.Sprint(i), Input: big, Body: big, Events: big})
	}
	if e := exchange.AsError(err); e.Code != "storage_full" || !strings.Contains(e.Message, "free some of it") {
		t.Errorf("%v", err)
	}
	if _, err := s.Response(t.Context(), "0"); err != nil {
		t.Errorf("the first one: %v", err)
	}
}

// A damaged database is set aside, with what can be read brought over.
func TestRescue(t *testing.T) {
	path := filepath.Join(t.TempDir(), "gate.db")
	s := open(t, path)
	r := keyring.New(s, slog.New(slog.DiscardHandler))
	secret, _, err := r.Issue(t.Context(), keyring.Terms{Label: "timetable bot"})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 300 {
		if err := s.PutResponse(t.Context(), kept.Response{ID: fmt.Sprintf("resp_%03d", i), Key: "k", Created: time.Now(), Ended: true, Input: []byte(`1`), Body: []byte(strconv.Quote(rand.Text())), Events: []byte(`1`)}); err != nil {
			t.Fatal(err)
		}
	}
	var root int
	if err := s.db.QueryRow(`SELECT rootpage FROM sqlite_schema WHERE name = 'responses'`).Scan(&root); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	const page = 4096
	copy(raw[(root-1)*page:root*page], bytes.Repeat([]byte{0xff}, page))
	if err := os.WriteFile(path, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	limits := kept.Limits{Age: 30 * 24 * time.Hour, Space: 1 << 20}
	if _, err := Open(path, limits); !errors.Is(err, ErrDamaged) {
		t.Fatalf("opened: %v", err)
	}
	said, err := Rescue(path, limits)
	if err != nil || !strings.Contains(said, "1 keys") || !strings.Contains(said, "responses (not all of them)") {
		t.Errorf("%s, %v", said, err)
	}
	if _, err := keyring.New(open(t, path), slog.New(slog.DiscardHandler)).Check(t.Context(), secret); err != nil {
		t.Errorf("the key: %v", err)
	}
	if aside, err := filepath.Glob(path + ".damaged-*"); err != nil || len(aside) == 0 {
		t.Errorf("set aside: %v, %v", aside, err)
	} else if left, err := os.ReadFile(aside[0]); err != nil || !bytes.Equal(left, raw) {
		t.Errorf("what is set aside was changed: %v", err)
	}
}

// What a gate stored before responses were compressed can be read, and what cannot be read any more is said to be damaged.
func TestOldAndDamagedResponses(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"))
	for id, doc := range map[string]string{
		"old":     `{"input":[1],"body":{"id":"old"},"events":[2]}`,
		"broken":  `{"input":[1],"bo`,
		"packed":  string(frame) + "garbage",
		"nothing": "",
	} {
		if _, err := s.db.Exec(`INSERT INTO responses (id, key, created, ended, background, previous, doc, bytes) VALUES (?, 'k', 0, 0, 1, '', ?, 1)`, id, []byte(doc)); err != nil {
			t.Fatal(err)
		}
		r, err := s.Response(t.Context(), id)
		if id == "old" {
			if err != nil || string(r.Input) != "[1]" || string(r.Body) != `{"id":"old"}` || string(r.Events) != "[2]" {
				t.Errorf("%+v, %v", r, err)
			}
		} else if !errors.Is(err, kept.ErrDamaged) || r.Key != "k" {
			t.Errorf("%s: %+v, %v", id, r, err)
		}
	}
	for round, want := range []int{3, 0} {
		list, damaged, err := s.UnendedResponses(t.Context())
		if err != nil || len(list) != 1 || list[0].ID != "old" || len(damaged) != want {
			t.Errorf("round %d: %v, %v, %v", round, list, damaged, err)
		}
	}
}
