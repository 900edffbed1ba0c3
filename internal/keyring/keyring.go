// Package keyring issues keys and tells whom a key belongs to.
//
// A key is "kg_", 8 characters that identify it, 32 random ones, and 2 that check the rest, so that a
// mistyped key is known as such. It is shown once; what is kept is its identifier and a hash.
package keyring

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/exchange"
)

// Key is what is known of an issued key.
type Key struct {
	ID       string // the 8 characters that identify it
	Label    string
	Hash     []byte // SHA-256 of the whole key
	Owner    bool   // may manage the gate
	Models   []string
	Created  time.Time
	LastUsed time.Time // zero if never; exact to a minute
	Revoked  time.Time // zero if it is valid
}

// MayUse reports whether the key may use a model.
func (k Key) MayUse(model string) bool {
	return len(k.Models) == 0 || slices.Contains(k.Models, model)
}

// Session is a console that was signed in with the owner key.
type Session struct {
	Hash    []byte // SHA-256 of the token that the browser holds
	Expires time.Time
}

// Records is where keys and sessions are kept. Key returns ErrUnknown for an identifier that was never issued.
type Records interface {
	AddKey(ctx context.Context, k Key) error
	Key(ctx context.Context, id string) (Key, error)
	Keys(ctx context.Context) ([]Key, error)
	RevokeKey(ctx context.Context, id string, at time.Time) error
	TouchKey(ctx context.Context, id string, at time.Time) error
	AddSession(ctx context.Context, s Session) error
	Session(ctx context.Context, hash []byte) (Session, error)
	DropSession(ctx context.Context, hash []byte) error
	DropSessions(ctx context.Context) error
}

// ErrUnknown says that there is no such record.
var ErrUnknown = errors.New("no such record")

// Keyring issues and checks keys. It is safe for concurrent use. It keeps the keys that it has looked up, so nothing
// else may change its records.
type Keyring struct {
	records Records
	now     func() time.Time

	mu    sync.RWMutex
	known map[string]Key // by identifier
}

// New makes a keyring on top of records.
func New(r Records) *Keyring { return &Keyring{records: r, now: time.Now, known: map[string]Key{}} }

// key looks a key up.
func (r *Keyring) key(ctx context.Context, id string) (Key, error) {
	r.mu.RLock()
	k, ok := r.known[id]
	r.mu.RUnlock()
	if ok {
		return k, nil
	}
	// Held until the key is kept, so that one that is revoked meanwhile is not kept as it was before.
	r.mu.Lock()
	defer r.mu.Unlock()
	k, err := r.records.Key(ctx, id)
	if err == nil {
		r.known[id] = k
	}
	return k, err
}

// revoke makes a key invalid.
func (r *Keyring) revoke(ctx context.Context, id string, at time.Time) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.records.RevokeKey(ctx, id, at); err != nil {
		return err
	}
	delete(r.known, id)
	return nil
}

// touch notes that a key is used now, unless that was noted within the last minute: that is enough to know, and spares a
// write for every request.
func (r *Keyring) touch(ctx context.Context, k *Key) error {
	now := r.now().UTC()
	if now.Sub(k.LastUsed) < time.Minute {
		return nil
	}
	r.mu.Lock()
	held, ok := r.known[k.ID]
	due := !ok || now.Sub(held.LastUsed) >= time.Minute // else another request has just noted it
	if ok && due {
		held.LastUsed = now
		r.known[k.ID] = held
	}
	r.mu.Unlock()
	k.LastUsed = now
	if !due {
		return nil
	}
	return r.records.TouchKey(ctx, k.ID, now)
}

const (
	prefix       = "kg_"
	idLength     = 8
	secretLength = 32
	checkLength  = 2
	// alphabet has 32 characters, none of which is easily taken for another.
	alphabet = "0123456789abcdefghjkmnpqrstvwxyz"
)

// sessionLife is how long a console stays signed in.
const sessionLife = 30 * 24 * time.Hour

// characters are n random characters of the alphabet, 5 bits each.
func characters(n int) string {
	raw := make([]byte, n)
	rand.Read(raw) // never fails
	for i, b := range raw {
		raw[i] = alphabet[b%32]
	}
	return string(raw)
}

// check is the pair of characters that goes with the rest of a key.
func check(rest string) string {
	sum := sha256.Sum256([]byte(rest))
	return string([]byte{alphabet[sum[0]%32], alphabet[sum[1]%32]})
}

func hash(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// Issue makes a key. The secret is returned here and nowhere else. The error for a label or model that
// cannot be is an [exchange.Error].
func (r *Keyring) Issue(ctx context.Context, label string, models []string) (secret string, k Key, err error) {
	label = strings.TrimSpace(label)
	if label == "" || len(label) > 100 || strings.ContainsFunc(label, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		return "", Key{}, exchange.InvalidParam("label", "a key needs a label of 1 to 100 printable characters, to tell it from the others")
	}
	return r.issue(ctx, Key{Label: label, Models: models})
}

func (r *Keyring) issue(ctx context.Context, k Key) (secret string, _ Key, err error) {
	k.ID = characters(idLength)
	secret = prefix + k.ID + characters(secretLength)
	secret += check(secret)
	k.Hash = hash(secret)
	k.Created = r.now().UTC().Truncate(time.Second)
	if err := r.records.AddKey(ctx, k); err != nil {
		return "", Key{}, fmt.Errorf("keep the new key: %w", err)
	}
	return secret, k, nil
}

// IssueOwner makes a new owner key; the ones before it are revoked, and the consoles that were signed in with them
// are signed out.
func (r *Keyring) IssueOwner(ctx context.Context) (secret string, err error) {
	keys, err := r.records.Keys(ctx)
	if err != nil {
		return "", err
	}
	for _, k := range keys {
		if k.Owner && k.Revoked.IsZero() {
			if err := r.revoke(ctx, k.ID, r.now()); err != nil {
				return "", err
			}
		}
	}
	if err := r.records.DropSessions(ctx); err != nil {
		return "", err
	}
	secret, _, err = r.issue(ctx, Key{Label: "owner", Owner: true})
	return secret, err
}

func unauthenticated(format string, args ...any) error {
	return exchange.Errorf(exchange.Unauthenticated, "invalid_api_key", format, args...)
}

// Check tells whose key a secret is. The error for one that is not valid is an [exchange.Error] that says why,
// as far as that helps nobody to guess a key.
func (r *Keyring) Check(ctx context.Context, secret string) (Key, error) {
	body, ok := strings.CutPrefix(secret, prefix)
	switch {
	case secret == "":
		return Key{}, unauthenticated("no key was given: send it as \"Authorization: Bearer kg_…\"")
	case !ok:
		return Key{}, unauthenticated("that is not a key of this gate: its keys begin with %q; issue one with \"kindred keys issue\"", prefix)
	case len(body) != idLength+secretLength+checkLength || check(secret[:len(secret)-checkLength]) != secret[len(secret)-checkLength:]:
		return Key{}, unauthenticated("the key is mistyped or cut off: a key has %d characters, of which the last two check the others", len(prefix)+idLength+secretLength+checkLength)
	}
	k, err := r.key(ctx, body[:idLength])
	if err != nil && !errors.Is(err, ErrUnknown) {
		return Key{}, fmt.Errorf("look up the key: %w", err)
	}
	// An unknown identifier has no hash, which no secret's hash equals.
	if subtle.ConstantTimeCompare(hash(secret), k.Hash) != 1 {
		return Key{}, unauthenticated("this gate did not issue that key; issue one with \"kindred keys issue\"")
	}
	if !k.Revoked.IsZero() {
		return Key{}, unauthenticated("the key %q (%s…) was revoked on %s; issue another with \"kindred keys issue\"", k.Label, prefix+k.ID, k.Revoked.UTC().Format(time.DateOnly))
	}
	if err := r.touch(ctx, &k); err != nil {
		return Key{}, fmt.Errorf("note the use of a key: %w", err)
	}
	return k, nil
}

// Keys lists all keys, the newest first.
func (r *Keyring) Keys(ctx context.Context) ([]Key, error) { return r.records.Keys(ctx) }

// Revoke makes a key invalid from now on. ref is its identifier, with or without the prefix, or its label if
// only one valid key has it. The owner key cannot be revoked, since nothing could be managed after that.
func (r *Keyring) Revoke(ctx context.Context, ref string) (Key, error) {
	keys, err := r.records.Keys(ctx)
	if err != nil {
		return Key{}, err
	}
	var found []Key
	for _, k := range keys {
		if k.ID == strings.TrimPrefix(ref, prefix) {
			found = []Key{k}
			break
		}
		if k.Label == ref && k.Revoked.IsZero() && !k.Owner {
			found = append(found, k)
		}
	}
	switch {
	case len(found) == 0:
		return Key{}, exchange.Errorf(exchange.NotFound, "key_not_found", "there is no key %q; \"kindred keys list\" shows them", ref)
	case len(found) > 1:
		return Key{}, exchange.InvalidParam("id", "%d keys are labelled %q; name one by its identifier", len(found), ref)
	case found[0].Owner:
		return Key{}, exchange.InvalidParam("id", "the owner key cannot be revoked; remove its file in the data folder and start the gate to get another")
	}
	k := found[0]
	if k.Revoked.IsZero() {
		k.Revoked = r.now().UTC()
		if err := r.revoke(ctx, k.ID, k.Revoked); err != nil {
			return Key{}, fmt.Errorf("revoke the key: %w", err)
		}
	}
	return k, nil
}

// SignIn gives a console a token in exchange for the owner key.
func (r *Keyring) SignIn(ctx context.Context, secret string) (token string, expires time.Time, err error) {
	k, err := r.Check(ctx, strings.TrimSpace(secret))
	if err != nil {
		return "", time.Time{}, err
	}
	if !k.Owner {
		return "", time.Time{}, exchange.Errorf(exchange.Forbidden, "owner_key_needed",
			"%q is a key for applications; the console opens with the owner key, which is in the file owner.key of the data folder", k.Label)
	}
	token = characters(48)
	expires = r.now().Add(sessionLife)
	if err := r.records.AddSession(ctx, Session{Hash: hash(token), Expires: expires}); err != nil {
		return "", time.Time{}, fmt.Errorf("keep the session: %w", err)
	}
	return token, expires, nil
}

// CheckSession returns nil if a console with that token is signed in.
func (r *Keyring) CheckSession(ctx context.Context, token string) error {
	s, err := r.records.Session(ctx, hash(token))
	if err != nil && !errors.Is(err, ErrUnknown) {
		return fmt.Errorf("look up the session: %w", err)
	}
	if err != nil || !r.now().Before(s.Expires) {
		return exchange.Errorf(exchange.Unauthenticated, "signed_out", "the console is not signed in, or no longer; sign in with the owner key")
	}
	return nil
}

// SignOut ends a console's session.
func (r *Keyring) SignOut(ctx context.Context, token string) error {
	return r.records.DropSession(ctx, hash(token))
}
