// Package keyring issues keys and tells whom a key belongs to.
//
// A key is "kg_", 8 characters that identify it, 32 random ones, and 2 that check the rest, so that a
// mistyped key is known as such. It is shown once; what is kept is its identifier and a hash.
package keyring

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/exchange"
)

// Key is what is known of an issued key.
type Key struct {
	Terms
	ID       string // the 8 characters that identify it
	Follows  string // the first key in whose place it came, whose use and responses are its own; "" if it is the first
	Hash     []byte // SHA-256 of the whole key
	Issuer   string // the account of the key that issued it; "" if the owner did
	Owner    bool   // may manage the gate
	Created  time.Time
	LastUsed time.Time // zero if never; exact to a minute
	Revoked  time.Time // zero if it is valid

	issuer *Key // the key that issued it, as it was when this one was checked; nil if the owner did
}

// Account identifies what goes on when a key is replaced: its use, and what is kept of it.
func (k Key) Account() string { return cmp.Or(k.Follows, k.ID) }

// Payer is the account whose share of the gate a key uses up: that of the key that issued it, so that issuing keys multiplies nothing.
func (k Key) Payer() string { return cmp.Or(k.Issuer, k.Account()) }

// MayUse reports whether the key, and the one that issued it, may use a model.
func (k Key) MayUse(model string) bool {
	return k.Terms.MayUse(model) && (k.issuer == nil || k.issuer.Terms.MayUse(model))
}

// MayAsk returns an error if the key, or the one that issued it, may not be used in a style.
func (k Key) MayAsk(style string) error {
	if k.issuer != nil {
		if err := k.issuer.Terms.MayAsk(style); err != nil {
			return err
		}
	}
	return k.Terms.MayAsk(style)
}

// MayCome returns an error if the key, or the one that issued it, may not be used from an address, or by a page of an origin.
func (k Key) MayCome(address, origin string) error {
	if k.issuer != nil {
		if err := k.issuer.Terms.MayCome(address, origin); err != nil {
			return err
		}
	}
	return k.Terms.MayCome(address, origin)
}

// Ends is when the key ends, by itself or with the one that issued it; zero for never.
func (k Key) Ends() time.Time {
	if k.issuer != nil && !k.issuer.Expires.IsZero() && (k.Expires.IsZero() || k.issuer.Expires.Before(k.Expires)) {
		return k.issuer.Expires
	}
	return k.Expires
}

// Group is what several keys may use together.
type Group struct {
	Name   string `json:"name"`
	Limits Limits `json:"limits"`
}

// Session is a console that was signed in with the owner key.
type Session struct {
	Hash    []byte // SHA-256 of the token that the browser holds
	Expires time.Time
}

// Records is where keys and sessions are kept. Key returns ErrUnknown for an identifier that was never issued.
type Records interface {
	AddKey(ctx context.Context, k Key) error
	ChangeKey(ctx context.Context, id string, t Terms) error
	Key(ctx context.Context, id string) (Key, error)
	Keys(ctx context.Context) ([]Key, error)
	RevokeKey(ctx context.Context, id string, at time.Time) error
	// DropKey removes a key, and what was counted of it.
	DropKey(ctx context.Context, id string) error
	TouchKey(ctx context.Context, id string, at time.Time) error
	PutGroup(ctx context.Context, g Group) error
	Groups(ctx context.Context) ([]Group, error)
	DropGroup(ctx context.Context, name string) error
	// Counts lists what was counted, and until when that was; the zero time if nothing was.
	Counts(ctx context.Context) (list []Counts, until time.Time, err error)
	PutCounts(ctx context.Context, list []Counts, until time.Time) error
	AddSession(ctx context.Context, s Session) error
	Session(ctx context.Context, hash []byte) (Session, error)
	DropSession(ctx context.Context, hash []byte) error
	DropSessions(ctx context.Context) error
}

// ErrUnknown says that there is no such record.
var ErrUnknown = errors.New("no such record")

// Keyring issues and checks keys. It is safe for concurrent use. It keeps all keys, so nothing else may change its records, and a stranger's
// guesses cost no look-up there.
type Keyring struct {
	records Records
	log     *slog.Logger
	now     func() time.Time

	mu        sync.RWMutex
	known     map[string]Key       // by identifier; nil until they were read
	order     []string             // their identifiers, the newest first
	pages     map[string][]string  // identifiers by the origins of pages that may use the keys
	holders   map[string][]string  // identifiers by account
	unwritten map[string]time.Time // when keys were revoked, where the records could not be told yet
	touched   map[string]time.Time // when keys were used, likewise

	changing  sync.Mutex // held while terms are changed
	counting  sync.Mutex
	uncounted bool      // whether that is not known
	counted   time.Time // until when the counts are that were taken over
	accounts  map[string]*account
	groups    map[string]Limits
}

// New makes a keyring on top of records. What it cannot write, and need not at once, goes to the log.
func New(r Records, log *slog.Logger) *Keyring {
	return &Keyring{records: r, log: log, now: time.Now, unwritten: map[string]time.Time{}, touched: map[string]time.Time{}, accounts: map[string]*account{}, groups: map[string]Limits{}}
}

// storage is the error of records that fail while somebody asks: it is not the asker's, and may pass.
func storage(doing string, err error) error {
	var known *exchange.Error
	if err == nil || errors.As(err, &known) || errors.Is(err, context.Canceled) {
		return err
	}
	return &exchange.Error{Kind: exchange.Unavailable, Code: "storage_failed", Message: "the gate could not " + doing + "; try again, and if that does not help, its log says why", RetryAfter: time.Second, Err: err}
}

// read has all keys in memory.
func (r *Keyring) read(ctx context.Context) error {
	r.mu.RLock()
	known := r.known
	r.mu.RUnlock()
	if known != nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known != nil {
		return nil
	}
	list, err := r.records.Keys(ctx)
	if err != nil {
		return storage("look up the keys", err)
	}
	r.known = make(map[string]Key, len(list))
	for _, k := range list {
		r.known[k.ID] = k
		r.order = append(r.order, k.ID)
	}
	r.index()
	return nil
}

// index makes what keys are found by anew, after they have changed. mu is held.
func (r *Keyring) index() {
	r.pages, r.holders = map[string][]string{}, map[string][]string{}
	for _, id := range r.order {
		k := r.known[id]
		r.holders[k.Account()] = append(r.holders[k.Account()], id)
		if k.Revoked.IsZero() {
			for _, o := range k.Origins {
				r.pages[o] = append(r.pages[o], id)
			}
		}
	}
}

// key finds a key.
func (r *Keyring) key(ctx context.Context, id string) (Key, error) {
	if err := r.read(ctx); err != nil {
		return Key{}, err
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	k, ok := r.known[id]
	if !ok {
		return Key{}, ErrUnknown
	}
	return k, nil
}

// revoke makes a key invalid, at once and whatever becomes of the records. It reports whether they know; [Keyring.Retry] tells them
// if not. Nobody else waits for them.
func (r *Keyring) revoke(ctx context.Context, k Key, at time.Time) error {
	r.mu.Lock()
	k.Revoked = at
	r.known[k.ID] = k
	r.unwritten[k.ID] = at
	r.index()
	r.mu.Unlock()
	err := r.writeRevocation(ctx, k.ID, at)
	if err != nil {
		r.log.Error("a key is revoked, but that could not be written yet; it is tried again", "key", prefix+k.ID, "error", err.Error())
	}
	return err
}

func (r *Keyring) writeRevocation(ctx context.Context, id string, at time.Time) error {
	err := r.records.RevokeKey(ctx, id, at)
	if err == nil {
		r.mu.Lock()
		delete(r.unwritten, id)
		r.mu.Unlock()
	}
	return err
}

// Retry writes what could not be written when it was: revocations, and when keys were used. It is called now and then, and at the end.
func (r *Keyring) Retry(ctx context.Context) {
	r.mu.Lock()
	revoked, touched := maps.Clone(r.unwritten), r.touched
	r.touched = map[string]time.Time{}
	r.mu.Unlock()
	defer func() { // what is left is for the next time
		r.mu.Lock()
		defer r.mu.Unlock()
		maps.Copy(touched, r.touched)
		r.touched = touched
	}()
	// Records that are locked take their time to say so: the first that fails is the last that is tried.
	for id, at := range revoked {
		if r.writeRevocation(ctx, id, at) != nil {
			return
		}
		r.log.Info("the revocation of a key is written now", "key", prefix+id)
	}
	for id, at := range touched {
		if err := r.records.TouchKey(ctx, id, at); err != nil {
			r.log.Warn("the use of a key was not noted; it is tried again", "key", prefix+id, "error", err.Error())
			return
		}
		delete(touched, id)
	}
}

// touch notes that a key is used now, unless that was noted within the last minute: that is enough to know. It is written later, so that no
// request waits for it.
func (r *Keyring) touch(k *Key) {
	now := r.now().UTC()
	if now.Sub(k.LastUsed) < time.Minute {
		return
	}
	k.LastUsed = now
	r.mu.Lock()
	defer r.mu.Unlock()
	if held, ok := r.known[k.ID]; ok && now.Sub(held.LastUsed) >= time.Minute { // else another request has just noted it
		held.LastUsed = now
		r.known[k.ID], r.touched[k.ID] = held, now
	}
}

const (
	// Prefix begins every key.
	Prefix       = "kg_"
	prefix       = Prefix
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

var secrets = regexp.MustCompile(prefix + `[0-9A-Za-z]{9,}`)

// Redact leaves of each key in a text what identifies it.
func Redact(text string) string {
	if !strings.Contains(text, prefix) {
		return text
	}
	return secrets.ReplaceAllStringFunc(text, func(key string) string { return key[:len(prefix)+idLength] + "…" })
}

// FindKeys are where keys stand in a text, each from and to which byte.
func FindKeys(text string) [][]int {
	if !strings.Contains(text, prefix) {
		return nil
	}
	return secrets.FindAllStringIndex(text, -1)
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

// Issue makes a key. The secret is returned here and nowhere else. The error for terms that cannot be is an [exchange.Error].
func (r *Keyring) Issue(ctx context.Context, t Terms) (secret string, k Key, err error) {
	if err := r.accept(&t); err != nil {
		return "", Key{}, err
	}
	return r.issue(ctx, Key{Terms: t})
}

// IssueUnder makes a key for the holder of another one, which must be one that may issue keys. The new one may no more than that, and
// what it uses counts for both.
func (r *Keyring) IssueUnder(ctx context.Context, issuer Key, t Terms) (secret string, k Key, err error) {
	if err := issuer.MayIssueKeys(); err != nil {
		return "", Key{}, err
	}
	if err := t.under(issuer.Terms, r.now()); err != nil {
		return "", Key{}, err
	}
	if err := r.accept(&t); err != nil {
		return "", Key{}, err
	}
	if err := r.makeRoom(ctx, issuer); err != nil {
		return "", Key{}, err
	}
	return r.issue(ctx, Key{Terms: t, Issuer: issuer.Account()})
}

// MayIssueKeys returns an error if the key may not issue others.
func (k Key) MayIssueKeys() error {
	if k.MayIssue && k.Issuer == "" {
		return nil
	}
	return exchange.Errorf(exchange.Forbidden, "may_not_issue", "the key %q may not issue others; its owner can change that with \"kindred keys change\"", k.Label)
}

// mostChildren is how many valid keys a key may have issued.
const mostChildren = 1000

// makeRoom removes the keys that a key has issued and that have ended, of which there may be one for every visitor of a page. The error says
// that too many have not.
func (r *Keyring) makeRoom(ctx context.Context, issuer Key) error {
	keys, err := r.Keys(ctx)
	if err != nil {
		return err
	}
	valid, now := 0, r.now()
	var first time.Time // to end
	for _, k := range keys {
		if k.Issuer != issuer.Account() {
			continue
		}
		if k.Revoked.IsZero() && now.Before(k.Expires) {
			valid++
			if first.IsZero() || k.Expires.Before(first) {
				first = k.Expires
			}
			continue
		}
		if err := r.records.DropKey(ctx, k.ID); err != nil {
			return storage("remove a key that has ended", err)
		}
		r.mu.Lock()
		delete(r.known, k.ID)
		r.order = slices.DeleteFunc(r.order, func(id string) bool { return id == k.ID })
		r.index()
		r.mu.Unlock()
		r.counting.Lock()
		maps.DeleteFunc(r.accounts, func(id string, _ *account) bool { return id == k.ID || strings.HasPrefix(id, k.ID+"/") })
		r.counting.Unlock()
	}
	if valid >= mostChildren {
		err := exchange.Errorf(exchange.Limited, "too_many_keys", "the key %q has issued %d keys that have not ended; there is room for another in %s", issuer.Label, valid, span(first.Sub(now)))
		err.RetryAfter = first.Sub(now)
		return err
	}
	return nil
}

// accept checks terms that are to hold from now on.
func (r *Keyring) accept(t *Terms) error {
	if err := t.check(); err != nil {
		return err
	}
	if !t.Expires.IsZero() && !t.Expires.After(r.now()) {
		return exchange.InvalidParam("expires", "expires is %s, which has passed", t.Expires.UTC().Format(time.RFC3339))
	}
	if t.Group != "" {
		r.counting.Lock()
		defer r.counting.Unlock()
		if _, ok := r.groups[t.Group]; !ok {
			return exchange.InvalidParam("group", "there is no group %q; \"kindred groups set\" makes one", t.Group)
		}
	}
	return nil
}

// Change gives a key other terms, which hold from its next request on. change gets those that hold now. The owner key has none.
func (r *Keyring) Change(ctx context.Context, ref string, change func(*Terms) error) (Key, error) {
	r.changing.Lock()
	defer r.changing.Unlock()
	k, err := r.find(ctx, ref, "changed")
	if err != nil {
		return Key{}, err
	}
	if !k.Revoked.IsZero() {
		return Key{}, exchange.InvalidParam("id", "the key %q (%s…) is revoked", k.Label, prefix+k.ID)
	}
	was := k.Expires
	if err := change(&k.Terms); err != nil {
		return Key{}, err
	}
	check := r.accept
	if k.Expires.Equal(was) {
		check = (*Terms).check
	}
	if err := check(&k.Terms); err != nil {
		return Key{}, err
	}
	if err := r.records.ChangeKey(ctx, k.ID, k.Terms); err != nil {
		return Key{}, storage("keep the key's terms", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	held := r.known[k.ID] // which may have been revoked meanwhile
	held.Terms = k.Terms
	r.known[k.ID] = held
	r.index()
	return held, nil
}

// Rotate issues a key in the place of another, with the same terms, use and responses. The other one goes on working for the grace.
func (r *Keyring) Rotate(ctx context.Context, ref string, grace time.Duration) (secret string, next, old Key, err error) {
	if old, err = r.find(ctx, ref, "rotated"); err != nil {
		return "", Key{}, Key{}, err
	}
	now := r.now().UTC()
	switch {
	case !old.Revoked.IsZero():
		return "", Key{}, Key{}, exchange.InvalidParam("id", "the key %q (%s…) is revoked; issue another", old.Label, prefix+old.ID)
	case !old.Expires.IsZero() && !now.Before(old.Expires):
		return "", Key{}, Key{}, exchange.InvalidParam("id", "the key %q (%s…) has expired; prolong it with \"kindred keys change\", or issue another", old.Label, prefix+old.ID)
	case grace < 0:
		return "", Key{}, Key{}, exchange.InvalidParam("grace", "grace is %s; it is how long the old key goes on working", grace)
	}
	secret, next, err = r.issue(ctx, Key{Terms: old.Terms, Follows: old.Account(), Issuer: old.Issuer})
	if err != nil {
		return "", Key{}, Key{}, err
	}
	if grace == 0 {
		old, _, err = r.Revoke(ctx, old.ID)
		return secret, next, old, err
	}
	end := now.Add(grace).Truncate(time.Second)
	if old.Expires.IsZero() || end.Before(old.Expires) {
		old, err = r.Change(ctx, old.ID, func(t *Terms) error {
			t.Expires = end
			return nil
		})
	}
	return secret, next, old, err
}

func (r *Keyring) issue(ctx context.Context, k Key) (secret string, _ Key, err error) {
	k.ID = characters(idLength)
	secret = prefix + k.ID + characters(secretLength)
	secret += check(secret)
	k.Hash = hash(secret)
	k.Created = r.now().UTC().Truncate(time.Second)
	if err := r.read(ctx); err != nil {
		return "", Key{}, err
	}
	if err := r.records.AddKey(ctx, k); err != nil {
		return "", Key{}, storage("keep the new key", err)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.known[k.ID] = k
	r.order = slices.Insert(r.order, 0, k.ID)
	r.index()
	return secret, k, nil
}

// IssueOwner makes a new owner key; the ones before it are revoked, and the consoles that were signed in with them
// are signed out.
func (r *Keyring) IssueOwner(ctx context.Context) (secret string, err error) {
	keys, err := r.Keys(ctx)
	if err != nil {
		return "", err
	}
	for _, k := range keys {
		if k.Owner && k.Revoked.IsZero() {
			if err := r.revoke(ctx, k, r.now().UTC()); err != nil {
				return "", err
			}
		}
	}
	if err := r.records.DropSessions(ctx); err != nil {
		return "", err
	}
	secret, _, err = r.issue(ctx, Key{Terms: Terms{Label: "owner"}, Owner: true})
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
		return Key{}, err
	}
	// An unknown identifier has no hash, which no secret's hash equals.
	if subtle.ConstantTimeCompare(hash(secret), k.Hash) != 1 {
		return Key{}, unauthenticated("this gate did not issue that key; issue one with \"kindred keys issue\"")
	}
	if !k.Revoked.IsZero() {
		return Key{}, unauthenticated("the key %q (%s…) was revoked on %s; issue another with \"kindred keys issue\"", k.Label, prefix+k.ID, k.Revoked.UTC().Format(time.DateOnly))
	}
	if !k.Expires.IsZero() && !r.now().Before(k.Expires) {
		return Key{}, unauthenticated("the key %q (%s…) has expired on %s; issue another with \"kindred keys issue\", or prolong it with \"kindred keys change\"", k.Label, prefix+k.ID, k.Expires.UTC().Format(time.RFC3339))
	}
	if k.Issuer != "" {
		issuer, ok := r.holder(k.Issuer)
		if !ok {
			return Key{}, unauthenticated("the key %q (%s…) ended with the key that issued it", k.Label, prefix+k.ID)
		}
		k.issuer, k.Group = &issuer, issuer.Group
	}
	r.touch(&k)
	return k, nil
}

// holder is the valid key with an account: the first one, or the newest in its place. mu is not held.
func (r *Keyring) holder(account string) (Key, bool) {
	now := r.now()
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, id := range r.holders[account] { // the newest first
		if k := r.known[id]; k.Revoked.IsZero() && (k.Expires.IsZero() || now.Before(k.Expires)) {
			return k, true
		}
	}
	return Key{}, false
}

// Holds reports whether there is a valid key with an account: the first one, or one in its place.
func (r *Keyring) Holds(ctx context.Context, account string) bool {
	if r.read(ctx) != nil {
		return false
	}
	_, ok := r.holder(account)
	return ok
}

// Now is a key as it is now, with the one that issued it, and whether it is valid.
func (r *Keyring) Now(id string) (k Key, valid bool) {
	r.mu.RLock()
	k, valid = r.known[id]
	r.mu.RUnlock()
	if !valid || !k.Revoked.IsZero() || !k.Expires.IsZero() && !r.now().Before(k.Expires) {
		return k, false
	}
	if k.Issuer != "" {
		issuer, ok := r.holder(k.Issuer)
		if !ok {
			return k, false
		}
		k.issuer = &issuer
	}
	return k, true
}

// Keys lists all keys, the newest first.
func (r *Keyring) Keys(ctx context.Context) ([]Key, error) {
	if err := r.read(ctx); err != nil {
		return nil, err
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	list := make([]Key, len(r.order))
	for i, id := range r.order {
		list[i] = r.known[id]
	}
	return list, nil
}

// Proof shows who knows the challenge that this is the keyring of the owner key, and tells nothing about the key: it is the
// HMAC-SHA-256 (RFC 2104) of challenge and address under the hash of the key. The address is the one that the gate listens at, so
// that nobody else can pass the proof on as its own.
func (r *Keyring) Proof(ctx context.Context, challenge, address string) ([]byte, error) {
	keys, err := r.Keys(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(keys, func(k Key) bool { return k.Owner && k.Revoked.IsZero() })
	if i < 0 {
		return nil, exchange.Errorf(exchange.Unavailable, "no_owner_key", "this gate has no owner key; start it anew to get one")
	}
	return proof(keys[i].Hash, challenge, address), nil
}

// Proves reports whether a gate at address has answered a challenge as only one can that knows this key.
func Proves(secret, challenge, address string, answer []byte) bool {
	return hmac.Equal(answer, proof(hash(secret), challenge, address))
}

func proof(key []byte, challenge, address string) []byte {
	m := hmac.New(sha256.New, key)
	fmt.Fprintf(m, "kindred gate\n%s\n%s", challenge, address)
	return m.Sum(nil)
}

// Revoke makes a key invalid from now on. ref is its identifier, with or without the prefix, or its label if
// only one valid key has it. The owner key cannot be revoked, since nothing could be managed after that. written is false if
// the key is invalid, but would be valid again if the gate stopped before the records can be told.
func (r *Keyring) Revoke(ctx context.Context, ref string) (k Key, written bool, err error) {
	if k, err = r.find(ctx, ref, "revoked"); err != nil {
		return Key{}, false, err
	}
	if k.Revoked.IsZero() {
		k.Revoked = r.now().UTC()
		_ = r.revoke(ctx, k, k.Revoked) // it is in the log, and in what is returned
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	_, pending := r.unwritten[k.ID]
	return k, !pending, nil
}

// ForPagesOf says whether there is a valid key that pages of an origin may use. It looks at the keys for this origin alone.
func (r *Keyring) ForPagesOf(ctx context.Context, origin string) bool {
	if r.read(ctx) != nil {
		return false
	}
	r.mu.RLock()
	ids := r.pages[origin] // which is made anew and never changed
	r.mu.RUnlock()
	return slices.ContainsFunc(ids, func(id string) bool {
		k, valid := r.Now(id)
		return valid && (k.issuer == nil || len(k.issuer.Origins) == 0 || slices.Contains(k.issuer.Origins, origin))
	})
}

// Revoked says whether a key that was used lately has been revoked since.
func (r *Keyring) Revoked(id string) bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return !r.known[id].Revoked.IsZero()
}

// Find returns a key, by what [Keyring.Revoke] takes.
func (r *Keyring) Find(ctx context.Context, ref string) (Key, error) { return r.find(ctx, ref, "") }

// find is Find; the owner key is found for nothing that is done to it.
func (r *Keyring) find(ctx context.Context, ref, done string) (Key, error) {
	keys, err := r.Keys(ctx)
	if err != nil {
		return Key{}, err
	}
	var found []Key
	for _, k := range keys {
		if k.ID == strings.TrimPrefix(ref, prefix) {
			found = []Key{k}
			break
		}
		if k.Label == ref && k.Revoked.IsZero() && !k.Owner && k.Issuer == "" { // what a key's holder calls its keys is no name of the owner's
			found = append(found, k)
		}
	}
	switch {
	case len(found) == 0:
		return Key{}, exchange.Errorf(exchange.NotFound, "key_not_found", "there is no key %q; \"kindred keys list\" shows them", ref)
	case slices.ContainsFunc(found, func(k Key) bool { return k.Account() != found[0].Account() }):
		return Key{}, exchange.InvalidParam("id", "%d keys are labelled %q; name one by its identifier", len(found), ref)
	case found[0].Owner && done != "":
		return Key{}, exchange.InvalidParam("id", "the owner key cannot be %s; remove its file in the data folder and start the gate to get another", done)
	}
	return found[0], nil // the newest of those that follow each other
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
		return "", time.Time{}, storage("keep the session", err)
	}
	return token, expires, nil
}

// CheckSession returns nil if a console with that token is signed in.
func (r *Keyring) CheckSession(ctx context.Context, token string) error {
	s, err := r.records.Session(ctx, hash(token))
	if err != nil && !errors.Is(err, ErrUnknown) {
		return storage("look up the session", err)
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
