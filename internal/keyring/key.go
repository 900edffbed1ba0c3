package keyring

import (
	"cmp"
	"context"
	"crypto/subtle"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/exchange"
)

// This file is keys: issuing, changing, replacing, revoking and finding them.

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

// MayCall reports whether the key, and the one that issued it, may have a tool of the gate's run; with an empty name, whether it may any of the
// server's.
func (k Key) MayCall(server, name string) bool {
	may := func(t Terms) bool {
		if name == "" {
			return slices.ContainsFunc(t.Tools, func(s string) bool {
				return s == "*" || s == server || strings.HasPrefix(s, server+"/")
			})
		}
		return hasTool(t.Tools, server, name)
	}
	return k.Owner || may(k.Terms) && (k.issuer == nil || k.issuer.Owner || may(k.issuer.Terms))
}

// MayCallElsewhere reports whether the key may have tools run on servers that a request names.
func (k Key) MayCallElsewhere() bool {
	return k.Owner || slices.Contains(k.Tools, RemoteTools) && (k.issuer == nil || k.issuer.Owner || slices.Contains(k.issuer.Tools, RemoteTools))
}

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

// MayIssueKeys returns an error if the key may not issue others.
func (k Key) MayIssueKeys() error {
	if k.MayIssue && k.Issuer == "" {
		return nil
	}
	return exchange.Errorf(exchange.Forbidden, "may_not_issue", "the key %q may not issue others; its owner can change that with \"kindred keys change\"", k.Label)
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

// OwnerLabel is what the owner key of a gate is called; gates that share keys have one each.
func OwnerLabel(gate string) string {
	if gate == "" {
		return "owner"
	}
	return "owner of " + gate
}

// IssueOwner makes a new owner key; the ones before it are revoked, and the consoles that were signed in with them
// are signed out. Of gates that share keys, which have a name, each has an owner key of its own.
func (r *Keyring) IssueOwner(ctx context.Context, gate string) (secret string, err error) {
	keys, err := r.Keys(ctx)
	if err != nil {
		return "", err
	}
	for _, k := range keys {
		if k.Owner && k.Revoked.IsZero() && k.Label == OwnerLabel(gate) {
			if err := r.revoke(ctx, k, r.now().UTC()); err != nil {
				return "", err
			}
		}
	}
	if err := r.records.DropSessions(ctx); err != nil {
		return "", err
	}
	secret, _, err = r.issue(ctx, Key{Terms: Terms{Label: OwnerLabel(gate)}, Owner: true})
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
	case found[0].Owner && done == "revoked" && found[0].Label != OwnerLabel(r.gate): // of another gate, which may be gone for good
	case found[0].Owner && done != "":
		return Key{}, exchange.InvalidParam("id", "the owner key cannot be %s; remove its file in the data folder and start the gate to get another", done)
	}
	return found[0], nil // the newest of those that follow each other
}
