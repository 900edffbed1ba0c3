// Package keyring issues keys and tells whom a key belongs to.
//
// A key is "kg_", 8 characters that identify it, 32 random ones, and 2 that check the rest, so that a
// mistyped key is known as such. It is shown once; what is kept is its identifier and a hash.
package keyring

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"regexp"
	"slices"
	"sync"
	"time"

	"kindredgate/internal/exchange"
)

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
	gate      string    // what this gate is called among those that share keys; "" for one that shares none
	together  Together  // the gates that share limits with this one; nil if none do
	apart     time.Time // until when what they share is taken to be out of reach
	told      bool      // that it is
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

// Refresh takes over a key from the records, after another gate has changed it there.
func (r *Keyring) Refresh(ctx context.Context, id string) (k Key, err error) {
	r.mu.RLock()
	unread := r.known == nil
	r.mu.RUnlock()
	if unread {
		return k, nil // which reads all
	}
	k, err = r.records.Key(ctx, id)
	r.mu.Lock()
	defer r.mu.Unlock()
	held, was := r.known[id]
	switch {
	case errors.Is(err, ErrUnknown):
		delete(r.known, id)
		r.order = slices.DeleteFunc(r.order, func(other string) bool { return other == id })
		r.index()
		return held, nil
	case err != nil:
		return k, err
	}
	if _, ours := r.unwritten[id]; ours { // a revocation that the records do not have yet
		k.Revoked = held.Revoked
	}
	if k.LastUsed.Before(held.LastUsed) {
		k.LastUsed = held.LastUsed
	}
	if r.known[id] = k; !was {
		r.order = append(r.order, id)
		slices.SortStableFunc(r.order, func(a, b string) int { return r.known[b].Created.Compare(r.known[a].Created) })
	}
	r.index()
	return k, nil
}

// RefreshGroups takes over the groups from the records, after another gate has changed them there.
func (r *Keyring) RefreshGroups(ctx context.Context) error {
	list, err := r.records.Groups(ctx)
	if err != nil {
		return err
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	r.groups = map[string]Limits{}
	for _, g := range list {
		r.groups[g.Name] = g.Limits
	}
	return nil
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

var secrets = regexp.MustCompile(prefix + `[0-9A-Za-z]{9,}`)

// mostChildren is how many valid keys a key may have issued.
const mostChildren = 1000
