package keyring

import (
	"context"
	"slices"
	"time"

	"kindredgate/internal/exchange"
)

// bound is an account with the limits that hold for it.
type bound struct {
	account *account
	limits  Limits
	of      whose
	whole   bool // whether it is a key with all that it does, for which what is usual holds
}

// whose limits they are: a key's, a key's with a model, or a group's.
type whose struct{ key, model, group string }

// String is how messages call it. It is made of its parts there, since most limits are never told of.
func (w whose) String() string {
	switch {
	case w.group != "":
		return "the group \"" + w.group + "\""
	case w.model != "":
		return "the key \"" + w.key + "\" with model \"" + w.model + "\""
	}
	return "the key \"" + w.key + "\""
}

// limit is how much is allowed of a kind, in the units in which it is counted; 0 for any.
func (b bound) limit(kind int) int64 {
	if n := b.limits.limit(kind); n > 0 || !b.whole {
		return n
	}
	return LimitKinds[kind].usual
}

// Lease is what a request holds of a key's limits while it is under way. It is safe for concurrent use; the parts of one request, such as
// its prompts, have one each.
type Lease struct {
	ring   *Keyring
	bounds []bound
	limits Limits // the tightest of each
	parts  *int   // of the request that have not ended
	tokens int64  // that are counted so far
	cost   int64  // likewise, in millionths of the currency
	into   []counted
	grows  bool // a limit of tokens or money holds, which an answer may meet while it is written
	ended  bool
}

// counted is a window that tokens were counted in last, so that what is not used goes back there and nowhere else.
type counted struct {
	account *account
	kind    int
	begun   time.Time
}

// Entry is a request that has come in, before it is known what it asks for: it takes one of the places that its key may have at once, so that
// nobody holds bodies that will not be asked with. It is handed to [Keyring.Admit], or left. It is safe for concurrent use.
type Entry struct {
	ring   *Keyring
	places []*account // that it takes; nil once they were handed over or left
}

// Enter lets a request of a key in, if there is a place for it, and room for one more in all other limits. The error says which limit was
// reached, as that of Admit does.
func (r *Keyring) Enter(k Key) (e *Entry, err error) {
	issuer := r.issuerOf(k)
	return e, r.sharing(func() error {
		l := &Lease{ring: r, parts: new(int), bounds: r.bounds(k, issuer, "")}
		if err := l.refuse(r.now(), nil, one); err != nil {
			return err
		}
		e = &Entry{ring: r}
		for _, b := range l.bounds {
			r.runs(b.account, +1)
			e.places = append(e.places, b.account)
		}
		return nil
	})
}

// Leave gives the places back, if nobody has taken them over. It may be called again, without effect, and on nil.
func (e *Entry) Leave() {
	if e == nil {
		return
	}
	e.ring.counting.Lock()
	defer e.ring.counting.Unlock()
	for _, a := range e.places {
		e.ring.runs(a, -1)
	}
	e.places = nil
}

// issuerOf is the key that issued another; an empty one if the owner did.
func (r *Keyring) issuerOf(k Key) Key {
	if k.issuer != nil {
		return *k.issuer
	}
	issuer, _ := r.holder(k.Issuer) // without it the key was refused
	return issuer
}

// Admit counts a request of a key for a model, by the name under which it was asked for. It takes over the places of the entry by which it
// came in; nil if there was none. The error says which limit was reached, and when it may be tried again; the lease is there in either case, to
// tell how the limits stand.
func (r *Keyring) Admit(k Key, model string, entry *Entry) (*Lease, error) {
	l := &Lease{ring: r, parts: new(int)}
	issuer := r.issuerOf(k)
	r.counting.Lock()
	l.bounds = r.bounds(k, issuer, model)
	var taken []*account
	if entry != nil {
		taken, entry.places = entry.places, nil
	}
	for _, a := range taken {
		r.runs(a, -1) // which comes back below, if the request is admitted
	}
	r.counting.Unlock()
	for _, b := range l.bounds {
		l.limits = tightest(l.limits, b.limits)
	}
	err := r.sharing(func() error {
		now := r.now()
		if err := l.refuse(now, taken, one); err != nil {
			return err
		}
		for _, b := range l.bounds {
			r.runs(b.account, +1)
			b.account.count(ofRequests, 1, now)
			for kind, k := range LimitKinds {
				l.grows = l.grows || (k.unit == ofTokens || k.unit == ofMoney) && b.limit(kind) > 0
			}
		}
		*l.parts = 1
		return nil
	})
	l.ended = err != nil
	return l, err
}

// bounds are the limits that hold for a key, with a model if one is named: its own, those of the key that issued it, and those of its
// group. counting is held.
func (r *Keyring) bounds(k, issuer Key, model string) (list []bound) {
	for _, of := range []Key{k, issuer} {
		if of.ID == "" {
			continue // the owner issued it
		}
		list = append(list, bound{r.account(of.Account()), of.Limits, whose{key: of.Label}, true})
		if own := of.ByModel[model]; !own.IsZero() {
			list = append(list, bound{r.account(of.Account() + "/" + model), own, whose{key: of.Label, model: model}, false})
		}
	}
	if together := r.groups[k.Group]; k.Group != "" && !together.IsZero() {
		list = append(list, bound{r.account(groupPrefix + k.Group), together, whose{group: k.Group}, false})
	}
	return list
}

// groupPrefix begins the account of a group. No account of a key has it.
const groupPrefix = "group "

// Unlimited is a lease that counts nothing, for what the gate does on its own account.
func (r *Keyring) Unlimited() *Lease { return &Lease{ring: r, parts: new(int)} }

// AnswerTokens is how long an answer may be; 0 for as long as the context allows. QueueShare is in percent, 0 for the usual.
func (l *Lease) AnswerTokens() int { return l.limits[AnswerTokens] }

// QueueShare is how much of a model's places and queue the key may have, in percent; 0 for the usual.
func (l *Lease) QueueShare() int { return l.limits[QueueShare] }

// refuse looks for a limit that leaves no room for so much, and of several takes the one that lasts longest. taken are accounts of which the
// request has had a place, which nobody else may have got meanwhile. counting is held.
//
// Where gates share limits, the error may be what has to be taken of them first.
func (l *Lease) refuse(now time.Time, taken []*account, more func(Unit) int64) error {
	var refusal *exchange.Error
	var short needs
	for _, b := range l.bounds {
		b.account.bounded = b.limits[RunningAtOnce] > 0
		for kind, k := range LimitKinds {
			if k.window == noWindow {
				continue
			}
			limit, n := b.limit(kind), more(k.unit)
			if limit == 0 || n == 0 {
				continue
			}
			w := &b.account.windows[kind]
			w.at(k.window, now)
			w.limit = limit
			if l.ring.together != nil && k.unit != ofRefusals {
				if lacks, may := l.ring.lacks(b, kind, limit, n, now); may {
					continue
				} else if lacks.account != nil {
					short = append(short, lacks)
					continue
				}
			} else if w.used+n <= limit {
				continue
			}
			wait := k.window.ends(w.begun).Sub(now)
			if refusal == nil || refusal.RetryAfter < wait {
				refusal = b.reached(k, limit, w.used+w.elsewhere, n, wait)
			}
		}
		if most := l.ring.atOnce(b.limits[RunningAtOnce]); most > 0 && l.ring.running(b.account) >= most && !l.admitted() && !slices.Contains(taken, b.account) && refusal == nil {
			refusal = exchange.Errorf(exchange.Limited, "rate_limit_exceeded", "%s may have %d requests in progress at once, and has; wait for one of them to end", b.of, most)
			refusal.RetryAfter = time.Second
		}
	}
	switch {
	case refusal != nil:
		return refusal
	case short != nil:
		return short
	}
	return nil
}

// reached is the error for a limit that leaves no room for n more.
func (b bound) reached(k LimitKind, limit, used, n int64, wait time.Duration) *exchange.Error {
	var e *exchange.Error
	switch {
	case k.unit == ofRefusals:
		e = exchange.Errorf(exchange.Limited, "too_many_refused", "%d requests of %s were refused within a minute, as many as may be; their errors say what is wrong with them, and there is room again in %s", used, b.of, span(wait))
	case k.unit == ofMoney:
		e = exchange.Errorf(exchange.Limited, "budget_exceeded", "%s may cost %.2f a month, and has cost %.2f; the next month begins in %s", b.of, float64(limit)/1e6, float64(used)/1e6, span(wait))
	case used < limit:
		e = exchange.Errorf(exchange.Limited, "rate_limit_exceeded", "%s may use %d %s, and has used %d, which leaves too few for the %d of this one; there is room again in %s", b.of, limit, k.what, used, n, span(wait))
	default:
		e = exchange.Errorf(exchange.Limited, "rate_limit_exceeded", "%s may use %d %s, and has used %d; there is room again in %s", b.of, limit, k.what, used, span(wait))
	}
	e.RetryAfter = wait
	return e
}

func (l *Lease) admitted() bool { return *l.parts > 0 }

// Refuse counts a request that was refused, unless that was for a limit, and reports whether the ledger is to have it: of each key it has so
// many in a minute as may be refused.
func (r *Keyring) Refuse(k Key, forLimit bool) (noted bool) {
	issuer := r.issuerOf(k)
	r.counting.Lock()
	defer r.counting.Unlock()
	now := r.now()
	noted = true
	for _, b := range r.bounds(k, issuer, "") {
		if !forLimit {
			b.account.count(ofRefusals, 1, now)
		}
		w := &b.account.noted
		w.at(minute, now)
		if most := b.limit(RefusedPerMinute); most > 0 && w.used >= most {
			noted = false
		}
		w.used++
	}
	return noted
}

// Part is a lease for another part of the same request, such as another of its prompts, which was counted as a request once. Its tokens and
// its cost count as those of any other.
func (l *Lease) Part() *Lease {
	l.ring.counting.Lock()
	defer l.ring.counting.Unlock()
	*l.parts++
	return &Lease{ring: l.ring, bounds: l.bounds, limits: l.limits, parts: l.parts, grows: l.grows}
}

// Reserve counts the tokens of the prompt, before it is read. The error says which limit has no room for them. When something else is to
// read it, Reserve is called again, and counts what is more than before.
func (l *Lease) Reserve(tokens int) error {
	if most := l.limits[PromptTokens]; most > 0 && tokens > most {
		return exchange.InvalidParam(exchange.Conversation, "the prompt has %d tokens; the key allows %d in one request", tokens, most)
	}
	n := int64(tokens)
	for _, b := range l.bounds {
		for kind, k := range LimitKinds {
			if most := b.limits.limit(kind); k.unit == ofTokens && most > 0 && n > most {
				return exchange.InvalidParam(exchange.Conversation, "the prompt has %d tokens; %s may use %d %s, so it can never be read", tokens, b.of, most, k.what)
			}
		}
	}
	return l.ring.sharing(func() error {
		if n <= l.tokens && l.tokens > 0 {
			return nil
		}
		return l.take(n-l.tokens, 0)
	})
}

// Grows reports whether a limit holds that an answer may meet while it is written. Without one, Settle counts it all at its end.
func (l *Lease) Grows() bool { return l.grows }

// Charge counts what an answer has come to so far, while it is written: all its tokens, those of the prompt included, and their cost. The
// error says which limit has no room for that, which is where the answer must end; nothing of what is more is counted then.
func (l *Lease) Charge(tokens int, cost int64) error {
	if !l.grows {
		return nil
	}
	return l.ring.sharing(func() error {
		if l.ended {
			return nil
		}
		return l.take(max(0, int64(tokens)-l.tokens), max(0, cost-l.cost))
	})
}

// take counts so much more, if all limits have room for it. counting is held.
func (l *Lease) take(tokens, cost int64) error {
	now := l.ring.now()
	if err := l.refuse(now, nil, func(u Unit) int64 {
		switch u {
		case ofTokens:
			return tokens
		case ofMoney:
			return cost
		case ofRequests, ofOne, ofRefusals:
		}
		return 0
	}); err != nil {
		return err
	}
	l.count(tokens, cost, now)
	return nil
}

// count counts, and notes in which windows. counting is held.
func (l *Lease) count(tokens, cost int64, now time.Time) {
	l.tokens, l.cost = l.tokens+tokens, l.cost+cost
	l.into = l.into[:0]
	for _, b := range l.bounds {
		b.account.count(ofTokens, tokens, now)
		b.account.count(ofMoney, cost, now)
		for kind, k := range LimitKinds {
			if k.unit == ofTokens || k.unit == ofMoney {
				l.into = append(l.into, counted{b.account, kind, b.account.windows[kind].begun})
			}
		}
	}
}

// Settle ends the lease: so many tokens were used in all, and cost so much, in millionths of the currency. It may be called again,
// without effect.
func (l *Lease) Settle(tokens int, cost int64) {
	l.ring.counting.Lock()
	defer l.ring.counting.Unlock()
	if l.ended {
		return
	}
	l.ended = true
	if *l.parts--; *l.parts == 0 {
		for _, b := range l.bounds {
			l.ring.runs(b.account, -1)
		}
	}
	more := map[Unit]int64{ofTokens: int64(tokens) - l.tokens, ofMoney: cost - l.cost}
	if more[ofTokens] > 0 || more[ofMoney] > 0 {
		l.count(max(0, more[ofTokens]), max(0, more[ofMoney]), l.ring.now())
	}
	// What was counted and not used goes back to where it came from, if that is still the window.
	for _, c := range l.into {
		w := &c.account.windows[c.kind]
		if less := more[LimitKinds[c.kind].unit]; less < 0 && w.begun.Equal(c.begun) {
			w.used = max(0, w.used+less)
			c.account.changed[c.kind] = true
		}
	}
}

// Standing is how a limit stands.
type Standing struct {
	What      string `json:"what"`            // requests or tokens, a minute or a day; cost a month, in millionths; or requests at once
	Model     string `json:"model,omitempty"` // with which it holds; empty for all
	Limit     int64  `json:"limit"`
	Remaining int64  `json:"remaining"`
	// Reset is how long it is until all of it can be used again.
	Reset time.Duration `json:"-"`
}

// What a [Standing] may be of, beside requests and tokens.
const (
	AtOnce     = "requests at once"
	CostAMonth = "cost a month" // in millionths of the currency
)

// Standing tells how the limits of the lease stand.
func (l *Lease) Standing() []Standing {
	l.ring.counting.Lock()
	defer l.ring.counting.Unlock()
	return l.ring.standing(l.bounds, l.ring.now())
}

func (r *Keyring) standing(bounds []bound, now time.Time) (list []Standing) {
	for _, b := range bounds {
		for kind, k := range LimitKinds {
			limit := b.limits.limit(kind)
			if limit == 0 || k.window == noWindow {
				continue
			}
			w := &b.account.windows[kind]
			w.at(k.window, now)
			s := Standing{What: k.what, Limit: limit, Remaining: max(0, limit-w.used-w.elsewhere)}
			if w.used+w.elsewhere > 0 {
				s.Reset = k.window.ends(w.begun).Sub(now)
			}
			list = append(list, s)
		}
		if limit := r.atOnce(b.limits[RunningAtOnce]); limit > 0 {
			list = append(list, Standing{What: AtOnce, Limit: int64(limit), Remaining: int64(max(0, limit-r.running(b.account)))})
		}
	}
	return list
}

// Standing tells how the limits of a key stand, in all and with single models.
func (r *Keyring) Standing(ctx context.Context, k Key) (list []Standing) {
	_ = r.read(ctx) // who cannot be looked up has no limits to tell of
	issuer := r.issuerOf(k)
	r.counting.Lock()
	defer r.counting.Unlock()
	now := r.now()
	list = r.standing(r.bounds(k, issuer, ""), now)
	for _, of := range []Key{k, issuer} {
		for _, model := range sortedKeys(of.ByModel) {
			for _, s := range r.standing([]bound{{account: r.account(of.Account() + "/" + model), limits: of.ByModel[model]}}, now) {
				s.Model = model
				list = append(list, s)
			}
		}
	}
	return list
}
