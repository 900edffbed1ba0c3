package keyring

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

// memory keeps records, and can fail to write as a full disk does.
type memory struct {
	touches  int
	mu       sync.Mutex
	keys     []Key
	sessions []Session
	counts   map[string]Counts
	until    time.Time
	groups   map[string]Group
	full     error // what writing fails with, if it does
	reads    int
	listed   int
}

func (m *memory) write(do func()) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.full == nil {
		do()
	}
	return m.full
}

func (m *memory) change(id string, do func(*Key)) error {
	return m.write(func() {
		if i := slices.IndexFunc(m.keys, func(k Key) bool { return k.ID == id }); i >= 0 {
			do(&m.keys[i])
		}
	})
}

func (m *memory) AddKey(_ context.Context, k Key) error {
	return m.write(func() { m.keys = append(m.keys, k) })
}

func (m *memory) Key(_ context.Context, id string) (Key, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.reads++
	if i := slices.IndexFunc(m.keys, func(k Key) bool { return k.ID == id }); i >= 0 {
		return m.keys[i], nil
	}
	return Key{}, ErrUnknown
}

func (m *memory) Keys(context.Context) ([]Key, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.listed++
	return slices.Clone(m.keys), nil
}

func (m *memory) RevokeKey(_ context.Context, id string, at time.Time) error {
	return m.change(id, func(k *Key) { k.Revoked = at })
}

func (m *memory) DropKey(_ context.Context, id string) error {
	return m.write(func() { m.keys = slices.DeleteFunc(m.keys, func(k Key) bool { return k.ID == id }) })
}

func (m *memory) TouchKey(_ context.Context, id string, at time.Time) error {
	m.touches++
	return m.change(id, func(k *Key) { k.LastUsed = at })
}

func (m *memory) ChangeKey(_ context.Context, id string, t Terms) error {
	return m.change(id, func(k *Key) { k.Terms = t })
}

func (m *memory) PutGroup(_ context.Context, g Group) error {
	return m.write(func() { m.groups[g.Name] = g })
}

func (m *memory) Groups(context.Context) ([]Group, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Collect(maps.Values(m.groups)), nil
}

func (m *memory) DropGroup(_ context.Context, name string) error {
	var missing error
	err := m.write(func() {
		if _, ok := m.groups[name]; !ok {
			missing = ErrUnknown
		}
		delete(m.groups, name)
	})
	return errors.Join(err, missing)
}

func (m *memory) Counts(context.Context) ([]Counts, time.Time, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Collect(maps.Values(m.counts)), m.until, nil
}

func (m *memory) PutCounts(_ context.Context, list []Counts, until time.Time) error {
	return m.write(func() {
		m.until = until
		for _, c := range list {
			m.counts[c.Account+" "+c.What] = c
		}
	})
}

func (m *memory) AddSession(_ context.Context, s Session) error {
	return m.write(func() { m.sessions = append(m.sessions, s) })
}

func (m *memory) Session(_ context.Context, hash []byte) (Session, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if i := slices.IndexFunc(m.sessions, func(s Session) bool { return string(s.Hash) == string(hash) }); i >= 0 {
		return m.sessions[i], nil
	}
	return Session{}, ErrUnknown
}

func (m *memory) DropSession(_ context.Context, hash []byte) error {
	return m.write(func() {
		m.sessions = slices.DeleteFunc(m.sessions, func(s Session) bool { return string(s.Hash) == string(hash) })
	})
}

func (m *memory) DropSessions(context.Context) error { return m.write(func() { m.sessions = nil }) }

// ring is a keyring whose clock stands still until it is moved.
func ring(t testing.TB) (*Keyring, *memory, *time.Time) {
	t.Helper()
	m := &memory{counts: map[string]Counts{}, groups: map[string]Group{}}
	r := New(m, slog.New(slog.DiscardHandler))
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	r.now = func() time.Time { return now }
	return r, m, &now
}

func issued(t testing.TB, r *Keyring, label string) (string, Key) {
	t.Helper()
	secret, k, err := r.Issue(t.Context(), Terms{Label: label})
	if err != nil {
		t.Fatal(err)
	}
	return secret, k
}

// A stranger who has seen the beginning of a key, or another key, or knows how keys are made, gets in with none of these.
func TestWhatAStrangerTries(t *testing.T) {
	r, _, _ := ring(t)
	secret, k := issued(t, r, "timetable bot")
	other, _ := issued(t, r, "another")
	if got, err := r.Check(t.Context(), secret); err != nil || got.ID != k.ID || got.Owner {
		t.Fatalf("the key itself: %+v, %v", got, err)
	}
	forge := func(body string) string { body = prefix + body; return body + check(body) }
	middle := secret[len(prefix)+idLength : len(secret)-checkLength]
	for what, try := range map[string]string{
		"nothing":                        "",
		"another gate's form":            "sk-" + secret[3:],
		"the identifier alone":           prefix + k.ID,
		"a secret of one's own with it":  forge(k.ID + strings.Repeat("0", secretLength)),
		"the secret of another key":      forge(k.ID + other[len(prefix)+idLength:len(other)-checkLength]),
		"the secret backwards":           forge(k.ID + string(reversed(middle))),
		"one character changed":          forge(k.ID + changed(middle)),
		"the key with a wrong check":     secret[:len(secret)-1] + changed(secret[len(secret)-1:]),
		"the key and more":               secret + "0",
		"the key without its end":        secret[:len(secret)-1],
		"capital letters":                strings.ToUpper(secret),
		"an identifier of nobody":        forge(strings.Repeat("0", idLength) + middle),
		"the hash of the key":            forge(fmt.Sprintf("%.40x", k.Hash)),
		"a pattern, if it were a search": forge("%%%%%%%%" + middle),
	} {
		if got, err := r.Check(t.Context(), try); err == nil {
			t.Errorf("%s opens the gate as %+v", what, got)
		} else if e := exchange.AsError(err); e.Kind != exchange.Unauthenticated || strings.Contains(e.Message, middle) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func reversed(s string) []byte { b := []byte(s); slices.Reverse(b); return b }

// changed is s with another first character.
func changed(s string) string {
	if s[0] == '0' {
		return "1" + s[1:]
	}
	return "0" + s[1:]
}

func TestKeysAreShownOnceOnly(t *testing.T) {
	r, m, _ := ring(t)
	secret, k := issued(t, r, "x")
	stored := fmt.Sprintf("%+v", m.keys)
	if strings.Contains(stored, secret[len(prefix)+idLength:]) || strings.Contains(fmt.Sprintf("%+v", k), secret[len(prefix)+idLength:]) {
		t.Error("the secret is kept")
	}
	for text, want := range map[string]string{
		"key " + secret + ".":                            "key kg_" + k.ID + "….",
		secret[:20] + " and " + secret[3:9]:              "kg_" + k.ID + "… and " + secret[3:9],
		"kg_" + k.ID + "…":                               "kg_" + k.ID + "…",
		"no key at all":                                  "no key at all",
		"KG_" + secret[3:] + strings.ToUpper(secret[:3]): "KG_" + secret[3:] + "KG_",
	} {
		if got := Redact(text); got != want {
			t.Errorf("%q becomes %q, want %q", text, got, want)
		}
	}
}

// A revoked key is refused at once, though the disk is full, and stays so after a restart once there was room to write it.
func TestRevokingOnAFullDisk(t *testing.T) {
	r, m, _ := ring(t)
	secret, k := issued(t, r, "lost laptop")
	m.full = errors.New("no space left")
	_, written, err := r.Revoke(t.Context(), "lost laptop")
	if err != nil || written {
		t.Errorf("written: %v, %v", written, err)
	}
	if _, err := r.Check(t.Context(), secret); err == nil {
		t.Error("the key goes on working")
	}
	if list, _ := r.Keys(t.Context()); list[0].Revoked.IsZero() {
		t.Error("the list shows it as valid")
	}
	r.Retry(t.Context())
	if again, written, err := r.Revoke(t.Context(), k.ID); err != nil || written || again.Revoked.IsZero() {
		t.Errorf("revoked again: %+v %v %v", again, written, err)
	}
	m.full = nil
	r.Retry(t.Context())
	if _, written, err := r.Revoke(t.Context(), k.ID); err != nil || !written {
		t.Errorf("after there is room: %v, %v", written, err)
	}
	if _, err := New(m, slog.New(slog.DiscardHandler)).Check(t.Context(), secret); err == nil {
		t.Error("a gate that starts anew lets the key in")
	}
}

// Records that are locked are waited for once, however many keys were used; all of it is written when they are free again.
func TestUseIsNotedWhenItCanBe(t *testing.T) {
	r, m, _ := ring(t)
	for _, label := range []string{"a", "b", "c"} {
		secret, _ := issued(t, r, label)
		if _, err := r.Check(t.Context(), secret); err != nil {
			t.Fatal(err)
		}
	}
	m.full = errors.New("locked")
	m.touches = 0
	r.Retry(t.Context())
	if m.touches != 1 {
		t.Errorf("%d writes were tried", m.touches)
	}
	m.full = nil
	r.Retry(t.Context())
	if m.touches != 4 {
		t.Errorf("%d writes in all", m.touches)
	}
}

// The use of a key is noted once a minute, and no request fails because it cannot be.
func TestUseIsNoted(t *testing.T) {
	r, m, now := ring(t)
	secret, k := issued(t, r, "x")
	use := func() {
		t.Helper()
		if _, err := r.Check(t.Context(), secret); err != nil {
			t.Error(err)
		}
	}
	use()
	r.Retry(t.Context()) // which writes it
	first := *now
	*now = now.Add(59 * time.Second)
	use()
	r.Retry(t.Context())
	if got, _ := m.Key(t.Context(), k.ID); !got.LastUsed.Equal(first) {
		t.Errorf("noted at %v, want %v", got.LastUsed, first)
	}
	*now = now.Add(time.Second)
	m.full = errors.New("no space left")
	use()
	r.Retry(t.Context())
	m.full = nil
	*now = now.Add(time.Minute)
	use()
	r.Retry(t.Context())
	if got, _ := m.Key(t.Context(), k.ID); !got.LastUsed.Equal(*now) {
		t.Errorf("noted at %v, want %v", got.LastUsed, *now)
	}
	if m.reads > 3 { // one of the keyring's, two of this test
		t.Errorf("the key was looked up %d times", m.reads)
	}
}

func TestSessionsEnd(t *testing.T) {
	r, _, now := ring(t)
	owner, err := r.IssueOwner(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	token, expires, err := r.SignIn(t.Context(), owner)
	if err != nil || !expires.Equal(now.Add(sessionLife)) {
		t.Fatalf("%v, %v", expires, err)
	}
	if application, _ := issued(t, r, "x"); true {
		if _, _, err := r.SignIn(t.Context(), application); err == nil {
			t.Error("an application's key signs in")
		}
	}
	*now = expires.Add(-time.Second)
	if err := r.CheckSession(t.Context(), token); err != nil {
		t.Errorf("a second before its end: %v", err)
	}
	*now = expires
	if err := r.CheckSession(t.Context(), token); err == nil {
		t.Error("the session goes on after its end")
	}
	*now = expires.Add(-time.Second)
	if _, err := r.IssueOwner(t.Context(), ""); err != nil {
		t.Fatal(err)
	}
	if err := r.CheckSession(t.Context(), token); err == nil {
		t.Error("the session goes on after the owner key was replaced")
	}
}

// Only who has the owner key can prove that it is the gate of that key, and only at its own address.
func TestProof(t *testing.T) {
	r, _, _ := ring(t)
	if _, err := r.Proof(t.Context(), "challenge", "127.0.0.1:7717"); err == nil {
		t.Error("a gate without an owner key proves something")
	}
	old, err := r.IssueOwner(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	owner, err := r.IssueOwner(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	answer, err := r.Proof(t.Context(), "challenge", "127.0.0.1:7717")
	if err != nil || !Proves(owner, "challenge", "127.0.0.1:7717", answer) {
		t.Fatalf("the gate itself proves nothing: %v", err)
	}
	for what, passes := range map[string]bool{
		"an answer to another challenge": Proves(owner, "another", "127.0.0.1:7717", answer),
		"an answer from another address": Proves(owner, "challenge", "127.0.0.1:7718", answer),
		"an answer of another gate":      Proves(old, "challenge", "127.0.0.1:7717", answer),
		"no answer":                      Proves(owner, "challenge", "127.0.0.1:7717", nil),
	} {
		if passes {
			t.Errorf("%s passes", what)
		}
	}
}

func TestLabels(t *testing.T) {
	r, _, _ := ring(t)
	for _, label := range []string{"", "  ", "a\nb", "a\x1b[31m", "a\x7f", strings.Repeat("x", 101), "a\u202eb", "a\u0085b"} {
		if _, _, err := r.Issue(t.Context(), Terms{Label: label}); err == nil {
			t.Errorf("%q is a label", label)
		}
	}
	if _, k, err := r.Issue(t.Context(), Terms{Label: " Fährplan-Bot „2“ "}); err != nil || k.Label != "Fährplan-Bot „2“" {
		t.Errorf("%q, %v", k.Label, err)
	}
}
