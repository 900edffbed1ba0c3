package keyring

import (
	"context"
	"slices"
	"time"
)

// This file is what was used of limits, and how that is kept over a restart.

// Counts is what was used of something within a time. Keyrings keep some, so that limits hold over a restart.
type Counts struct {
	Account string // whose use it is
	What    string // requests or tokens, a minute or a day
	Begun   time.Time
	Used    int64
	// Of a limit that gates share, what this one has taken and what others had when it asked last; Used and 0 if none do.
	Taken, Elsewhere int64
}

// account is what is counted of one key, in all or with one model.
type account struct {
	id      string
	windows [limitCount]window // of the limits that have one
	running int
	changed [limitCount]bool // since it was written
	noted   window           // refused requests that the ledger has, of a minute
	bounded bool             // how many may be in progress at once is limited
}

// account finds or begins an account; counting is held.
func (r *Keyring) account(id string) *account {
	a, ok := r.accounts[id]
	if !ok {
		a = &account{id: id}
		if r.together != nil {
			a.share()
		}
		r.accounts[id] = a
	}
	return a
}

// count adds to all windows of a unit.
func (a *account) count(u Unit, n int64, now time.Time) {
	for kind, k := range LimitKinds {
		if k.unit == u && k.window != noWindow {
			w := &a.windows[kind]
			w.at(k.window, now)
			w.used = max(0, w.used+n)
			a.changed[kind] = true
		}
	}
}

// one is room for one more of everything: how many tokens a prompt has, and what it costs, is known later.
func one(Unit) int64 { return 1 }

// countedAs is the limit whose counts are kept under a name; -1 if there is none.
func countedAs(what string) int {
	return slices.IndexFunc(LimitKinds[:], func(k LimitKind) bool { return k.window != noWindow && k.what == what })
}

// Load takes over what was counted before a restart.
func (r *Keyring) Load(ctx context.Context) error {
	all, until, err := r.records.Counts(ctx)
	if err != nil {
		return err
	}
	groups, err := r.records.Groups(ctx)
	if err != nil {
		return err
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	r.counted, r.uncounted = until, until.IsZero() && len(all) > 0 // by a gate that did not note it
	for _, g := range groups {
		r.groups[g.Name] = g.Limits
	}
	for _, c := range all {
		if kind := countedAs(c.What); kind >= 0 {
			w := &r.account(c.Account).windows[kind]
			w.begun, w.used, w.taken, w.elsewhere = c.Begun, c.Used, c.Taken, c.Elsewhere
		}
	}
	return nil
}

// Counted is until when the counts are that [Keyring.Load] took over; the zero time if there were none. known is false if it was not noted.
func (r *Keyring) Counted() (until time.Time, known bool) {
	r.counting.Lock()
	defer r.counting.Unlock()
	return r.counted, !r.uncounted
}

// Used is what an exchange came to that the counts which were taken over do not have.
type Used struct {
	Account string
	Model   string // by the name that was asked for
	Begun   time.Time
	Tokens  int
	Cost    int64
	Refused bool
	Part    bool // of a request that is counted
}

// Recount counts an exchange that is known from elsewhere, after a gate ended before it could write its counts.
func (r *Keyring) Recount(ctx context.Context, u Used) error {
	if err := r.read(ctx); err != nil {
		return err
	}
	k, ok := r.holder(u.Account)
	if !ok {
		return nil // nobody can use it any more
	}
	issuer := r.issuerOf(k)
	requests := int64(1)
	if u.Part {
		requests = 0
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	for _, b := range r.bounds(k, issuer, u.Model) {
		for kind, kd := range LimitKinds {
			n, counts := map[Unit]int64{ofRequests: requests, ofTokens: int64(u.Tokens), ofMoney: u.Cost}[kd.unit]
			if u.Refused {
				n, counts = 1, kd.unit == ofRefusals
			}
			w := &b.account.windows[kind]
			if !counts || kd.window == noWindow {
				continue
			}
			if w.begun.IsZero() || !u.Begun.Before(kd.window.ends(w.begun)) { // those before are over
				w.begun, w.used, w.taken, w.elsewhere = kd.window.starts(u.Begun), 0, 0, 0
			}
			if !u.Begun.Before(w.begun) {
				if w.taken >= w.used { // else it was not taken: the count was out of reach
					w.taken += n
				}
				w.used += n
				b.account.changed[kind] = true
			}
		}
	}
	return nil
}

// Flush writes what was counted since the last time. It is called now and then, and at the end.
func (r *Keyring) Flush(ctx context.Context) error {
	var list []Counts
	r.counting.Lock()
	until := r.now()
	for _, a := range r.accounts {
		for kind, changed := range a.changed {
			if changed {
				w := &a.windows[kind]
				c := Counts{a.id, LimitKinds[kind].what, w.begun, w.used, w.used, 0}
				if r.together != nil {
					c.Taken, c.Elsewhere = w.taken, w.elsewhere
				}
				list = append(list, c)
				a.changed[kind] = false
			}
		}
	}
	r.counting.Unlock()
	if len(list) == 0 {
		return nil
	}
	err := r.records.PutCounts(ctx, list, until)
	if err != nil {
		r.counting.Lock()
		defer r.counting.Unlock()
		for _, c := range list {
			r.account(c.Account).changed[countedAs(c.What)] = true
		}
	}
	return err
}
