package keyring

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kindredgate/internal/exchange"
)

// Counts is what was used of something within a time. Keyrings keep some, so that limits hold over a restart.
type Counts struct {
	Account string // whose use it is
	What    string // requests or tokens, a minute or a day
	Begun   time.Time
	Used    int64
}

// window is the counting of one limit. It begins with the first use after the one before has ended; that of a day with the day.
type window struct {
	begun time.Time
	used  int64
}

// account is what is counted of one key, in all or with one model.
type account struct {
	id      string
	windows [kinds]window // by kind
	running int
	changed [kinds]bool // since it was written
}

// The kinds of windows.
const (
	requestsMinute = iota
	requestsDay
	tokensMinute
	tokensDay
	costMonth // in millionths of the currency
	kinds
)

var windowNames = [kinds]string{"requests a minute", "requests a day", "tokens a minute", "tokens a day", CostAMonth}

// hundredth is one of the currency, in the millionths in which costs are counted.
const hundredth = 10_000

func (l Limits) window(kind int) int64 {
	return [kinds]int64{int64(l.RequestsPerMinute), int64(l.RequestsPerDay), int64(l.TokensPerMinute), int64(l.TokensPerDay), int64(l.CostPerMonth) * hundredth}[kind]
}

// ends is when a window that is under way at now ends.
func ends(kind int, begun time.Time) time.Time {
	switch kind {
	case requestsDay, tokensDay:
		return begun.AddDate(0, 0, 1)
	case costMonth:
		return begun.AddDate(0, 1, 0)
	}
	return begun.Add(time.Minute)
}

// at brings a window up to a time. A clock that was set back begins it anew, with what was used.
func (w *window) at(kind int, now time.Time) {
	if !w.begun.IsZero() && !now.Before(w.begun) && now.Before(ends(kind, w.begun)) {
		return
	}
	begun := now
	switch kind {
	case requestsDay, tokensDay:
		begun = time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	case costMonth:
		begun = time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, now.Location())
	}
	if !now.Before(w.begun) || w.begun.IsZero() {
		w.used = 0
	}
	w.begun = begun
}

// bound is an account with the limits that hold for it.
type bound struct {
	account *account
	limits  Limits
	of      string // in messages: the key, the key with a model, or its group
}

// Lease is what a request holds of a key's limits while it is under way. It is safe for concurrent use; the parts of one request, such as
// its prompts, have one each.
type Lease struct {
	ring   *Keyring
	bounds []bound
	limits Limits // the tightest of each
	parts  *int   // of the request that have not ended
	from   []time.Time
	held   int64 // tokens that are reserved
	ended  bool
}

// Entry is a request that has come in, before it is known what it asks for: it takes one of the places that its key may have at once, so that
// nobody holds bodies that will not be asked with. It is handed to [Keyring.Admit], or left. It is safe for concurrent use.
type Entry struct {
	ring   *Keyring
	places []*account // that it takes; nil once they were handed over or left
}

// Enter lets a request of a key in, if there is a place for it, and room for one more in all other limits. The error says which limit was
// reached, as that of Admit does.
func (r *Keyring) Enter(k Key) (*Entry, error) {
	r.counting.Lock()
	defer r.counting.Unlock()
	l := &Lease{ring: r, parts: new(int), bounds: r.bounds(k, r.issuerOf(k), "")}
	if err := l.refuse(r.now(), nil, func(int) int64 { return 1 }); err != nil {
		return nil, err
	}
	e := &Entry{ring: r}
	for _, b := range l.bounds {
		b.account.running++
		e.places = append(e.places, b.account)
	}
	return e, nil
}

// Leave gives the places back, if nobody has taken them over. It may be called again, without effect, and on nil.
func (e *Entry) Leave() {
	if e == nil {
		return
	}
	e.ring.counting.Lock()
	defer e.ring.counting.Unlock()
	for _, a := range e.places {
		a.running--
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
	r.counting.Lock()
	defer r.counting.Unlock()
	now := r.now()
	l.bounds = r.bounds(k, r.issuerOf(k), model)
	for _, b := range l.bounds {
		l.limits = tightest(l.limits, b.limits)
	}
	var taken []*account
	if entry != nil {
		taken, entry.places = entry.places, nil
	}
	for _, a := range taken {
		a.running-- // which comes back below, if the request is admitted
	}
	if err := l.refuse(now, taken, func(kind int) int64 {
		// As for tokens, there must be room for one at least: how many the prompt has is known later.
		return 1
	}); err != nil {
		l.ended = true
		return l, err
	}
	for _, b := range l.bounds {
		b.account.running++
		b.account.count(requestsMinute, 1)
		b.account.count(requestsDay, 1)
	}
	*l.parts = 1
	return l, nil
}

// bounds are the limits that hold for a key, with a model if one is named: its own, those of the key that issued it, and those of its
// group. counting is held.
func (r *Keyring) bounds(k, issuer Key, model string) (list []bound) {
	for _, of := range []Key{k, issuer} {
		if of.Limits != (Limits{}) {
			list = append(list, bound{r.account(of.Account()), of.Limits, "the key \"" + of.Label + "\""})
		}
		if own := of.ByModel[model]; own != (Limits{}) {
			list = append(list, bound{r.account(of.Account() + "/" + model), own, "the key \"" + of.Label + "\" with model \"" + model + "\""})
		}
	}
	if together := r.groups[k.Group]; k.Group != "" && together != (Limits{}) {
		list = append(list, bound{r.account(groupPrefix + k.Group), together, "the group \"" + k.Group + "\""})
	}
	return list
}

// groupPrefix begins the account of a group. No account of a key has it.
const groupPrefix = "group "

// tightest takes the smaller of each limit that bounds single requests.
func tightest(a, b Limits) Limits {
	less := func(a, b int) int {
		if a == 0 || b != 0 && b < a {
			return b
		}
		return a
	}
	return Limits{PromptTokens: less(a.PromptTokens, b.PromptTokens), AnswerTokens: less(a.AnswerTokens, b.AnswerTokens), QueueShare: less(a.QueueShare, b.QueueShare)}
}

// Unlimited is a lease that counts nothing, for what the gate does on its own account.
func (r *Keyring) Unlimited() *Lease { return &Lease{ring: r, parts: new(int)} }

// AnswerTokens is how long an answer may be; 0 for as long as the context allows. QueueShare is in percent, 0 for the usual.
func (l *Lease) AnswerTokens() int { return l.limits.AnswerTokens }

// QueueShare is how much of a model's places and queue the key may have, in percent; 0 for the usual.
func (l *Lease) QueueShare() int { return l.limits.QueueShare }

// account finds or begins an account; counting is held.
func (r *Keyring) account(id string) *account {
	a, ok := r.accounts[id]
	if !ok {
		a = &account{id: id}
		r.accounts[id] = a
	}
	return a
}

func (a *account) count(kind int, n int64) {
	a.windows[kind].used = max(0, a.windows[kind].used+n)
	a.changed[kind] = true
}

// refuse looks for a limit that leaves no room for so much, and of several takes the one that lasts longest. taken are accounts of which the
// request has had a place, which nobody else may have got meanwhile. counting is held.
func (l *Lease) refuse(now time.Time, taken []*account, more func(kind int) int64) error {
	var refusal *exchange.Error
	for _, b := range l.bounds {
		for kind := range b.account.windows {
			w := &b.account.windows[kind]
			w.at(kind, now)
			limit, n := b.limits.window(kind), more(kind)
			if limit == 0 || n == 0 || w.used+n <= limit {
				continue
			}
			wait := ends(kind, w.begun).Sub(now)
			if refusal != nil && refusal.RetryAfter >= wait {
				continue
			}
			short := ""
			if w.used < limit {
				short = fmt.Sprintf(", which leaves too few for the %d of this one", n)
			}
			refusal = exchange.Errorf(exchange.Limited, "rate_limit_exceeded", "%s may use %d %s, and has used %d%s; there is room again in %s", b.of, limit, windowNames[kind], w.used, short, span(wait))
			if kind == costMonth {
				refusal = exchange.Errorf(exchange.Limited, "budget_exceeded", "%s may cost %.2f a month, and has cost %.2f; the next month begins in %s", b.of, float64(limit)/1e6, float64(w.used)/1e6, span(wait))
			}
			refusal.RetryAfter = wait
		}
		if b.limits.AtOnce > 0 && b.account.running >= b.limits.AtOnce && !l.admitted() && !slices.Contains(taken, b.account) && refusal == nil {
			refusal = exchange.Errorf(exchange.Limited, "rate_limit_exceeded", "%s may have %d requests under way at once, and has; wait for one of them to end", b.of, b.limits.AtOnce)
			refusal.RetryAfter = time.Second
		}
	}
	if refusal == nil {
		return nil
	}
	return refusal
}

func (l *Lease) admitted() bool { return *l.parts > 0 }

// Part is a lease for another part of the same request, which was counted once.
func (l *Lease) Part() *Lease {
	l.ring.counting.Lock()
	defer l.ring.counting.Unlock()
	*l.parts++
	return &Lease{ring: l.ring, bounds: l.bounds, limits: l.limits, parts: l.parts}
}

// Reserve counts the tokens of the prompt, before it is read. The error says which limit has no room for them. When something else is to
// read it, Reserve is called again, and counts what is more than before.
func (l *Lease) Reserve(tokens int) error {
	if most := l.limits.PromptTokens; most > 0 && tokens > most {
		return exchange.InvalidParam(exchange.Conversation, "the prompt has %d tokens; the key allows %d in one request", tokens, most)
	}
	l.ring.counting.Lock()
	defer l.ring.counting.Unlock()
	n := int64(tokens)
	for _, b := range l.bounds {
		for _, kind := range []int{tokensMinute, tokensDay} {
			if most := b.limits.window(kind); most > 0 && n > most {
				return exchange.InvalidParam(exchange.Conversation, "the prompt has %d tokens; %s may use %d %s, so it can never be read", tokens, b.of, most, windowNames[kind])
			}
		}
	}
	if n -= l.held; n <= 0 && l.held > 0 {
		return nil
	}
	if err := l.refuse(l.ring.now(), nil, func(kind int) int64 {
		if kind == tokensMinute || kind == tokensDay {
			return n
		}
		return 0
	}); err != nil {
		return err
	}
	l.held += n
	l.add(n)
	return nil
}

// add counts tokens, and notes in which windows. counting is held.
func (l *Lease) add(n int64) {
	l.from = l.from[:0]
	for _, b := range l.bounds {
		b.account.count(tokensMinute, n)
		b.account.count(tokensDay, n)
		l.from = append(l.from, b.account.windows[tokensMinute].begun, b.account.windows[tokensDay].begun)
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
	now, rest := l.ring.now(), int64(tokens)-l.held
	*l.parts--
	last := *l.parts == 0
	for i, b := range l.bounds {
		if last {
			b.account.running--
		}
		b.account.windows[costMonth].at(costMonth, now)
		if cost > 0 {
			b.account.count(costMonth, cost)
		}
		for j, kind := range []int{tokensMinute, tokensDay} {
			b.account.windows[kind].at(kind, now)
			// What was reserved and not used goes back to where it came from, if that is still under way.
			if rest > 0 || len(l.from) > 0 && l.from[2*i+j].Equal(b.account.windows[kind].begun) {
				b.account.count(kind, rest)
			}
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
	return standing(l.bounds, l.ring.now())
}

func standing(bounds []bound, now time.Time) (list []Standing) {
	for _, b := range bounds {
		for kind := range b.account.windows {
			w := &b.account.windows[kind]
			w.at(kind, now)
			if limit := b.limits.window(kind); limit > 0 {
				s := Standing{What: windowNames[kind], Limit: limit, Remaining: max(0, limit-w.used)}
				if w.used > 0 {
					s.Reset = ends(kind, w.begun).Sub(now)
				}
				list = append(list, s)
			}
		}
		if limit := b.limits.AtOnce; limit > 0 {
			list = append(list, Standing{What: AtOnce, Limit: int64(limit), Remaining: int64(max(0, limit-b.account.running))})
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
	list = standing(r.bounds(k, issuer, ""), now)
	for _, of := range []Key{k, issuer} {
		for _, model := range sortedKeys(of.ByModel) {
			for _, s := range standing([]bound{{account: r.account(of.Account() + "/" + model), limits: of.ByModel[model]}}, now) {
				s.Model = model
				list = append(list, s)
			}
		}
	}
	return list
}

// SetGroup makes a group, or gives it other limits, which hold from the next request on.
func (r *Keyring) SetGroup(ctx context.Context, g Group) error {
	if !printable(g.Name) {
		return exchange.InvalidParam("name", "a group needs a name of 1 to 100 printable characters")
	}
	if err := g.Limits.check("limits."); err != nil {
		return err
	}
	if err := r.records.PutGroup(ctx, g); err != nil {
		return fmt.Errorf("keep the group: %w", err)
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	r.groups[g.Name] = g.Limits
	return nil
}

// DropGroup forgets a group that no valid key belongs to.
func (r *Keyring) DropGroup(ctx context.Context, name string) error {
	keys, err := r.Keys(ctx)
	if err != nil {
		return err
	}
	for _, k := range keys {
		if k.Group == name && k.Revoked.IsZero() {
			return exchange.InvalidParam("name", "the key %q (%s…) belongs to the group %q; give it another, or revoke it, first", k.Label, prefix+k.ID, name)
		}
	}
	err = r.records.DropGroup(ctx, name)
	if errors.Is(err, ErrUnknown) {
		return exchange.Errorf(exchange.NotFound, "group_not_found", "there is no group %q", name)
	} else if err != nil {
		return fmt.Errorf("forget the group: %w", err)
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	delete(r.groups, name)
	return nil
}

// GroupStanding is a group with how its limits stand.
type GroupStanding struct {
	Group
	Standing []Standing
}

// Groups lists the groups, in the order of their names.
func (r *Keyring) Groups() (list []GroupStanding) {
	r.counting.Lock()
	defer r.counting.Unlock()
	for _, name := range sortedKeys(r.groups) {
		limits := r.groups[name]
		list = append(list, GroupStanding{Group{name, limits}, standing([]bound{{account: r.account(groupPrefix + name), limits: limits}}, r.now())})
	}
	return list
}

// Load takes over what was counted before a restart.
func (r *Keyring) Load(ctx context.Context) error {
	all, err := r.records.Counts(ctx)
	if err != nil {
		return err
	}
	groups, err := r.records.Groups(ctx)
	if err != nil {
		return err
	}
	r.counting.Lock()
	defer r.counting.Unlock()
	for _, g := range groups {
		r.groups[g.Name] = g.Limits
	}
	for _, c := range all {
		if kind := slices.Index(windowNames[:], c.What); kind >= 0 {
			r.account(c.Account).windows[kind] = window{c.Begun, c.Used}
		}
	}
	return nil
}

// Flush writes what was counted since the last time. It is called now and then, and at the end.
func (r *Keyring) Flush(ctx context.Context) error {
	var list []Counts
	r.counting.Lock()
	for _, a := range r.accounts {
		for kind, changed := range a.changed {
			if changed {
				list = append(list, Counts{a.id, windowNames[kind], a.windows[kind].begun, a.windows[kind].used})
				a.changed[kind] = false
			}
		}
	}
	r.counting.Unlock()
	if len(list) == 0 {
		return nil
	}
	err := r.records.PutCounts(ctx, list)
	if err != nil {
		r.counting.Lock()
		defer r.counting.Unlock()
		for _, c := range list {
			r.account(c.Account).changed[slices.Index(windowNames[:], c.What)] = true
		}
	}
	return err
}
