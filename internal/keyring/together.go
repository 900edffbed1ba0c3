package keyring

import (
	"errors"
	"time"
)

// This file is limits that hold for several gates together.
//
// Each gate takes what may be used from one count that all share, a hundredth at a time, and gives out what it took. So all together give out no
// more than the limit, and at most a hundredth of it is left when the last is refused. A gate that cannot reach the count gives out what it has
// taken, and its share of what was left when it asked last: that divided by the number of gates.

// Together is what the gates that share limits have in common.
type Together interface {
	// Take asks for more of a count, of which there are most: from least to n, or none. It gives how many it got, none if err is not nil, and how
	// many all have taken. Return gives back; a negative n is what was used already, whatever there is.
	Take(of string, least, n, most int64) (got, total int64, err error)
	Return(of string, n int64) error
	// Gates is how many gates there are, this one among them, whether they can be reached or not; Apart says that this one cannot reach the count.
	Gates() int
	Apart() bool
	// Now is a time that the gates have in common.
	Now() time.Time
	// Tell says how many requests of an account this gate has in progress, and Running how many others have.
	Tell(account string, running int)
	Running(account string) int
}

// ShareLimits has limits hold for several gates together, from the next request on. This one is called gate among them.
func (r *Keyring) ShareLimits(gate string, t Together) {
	r.counting.Lock()
	defer r.counting.Unlock()
	r.gate, r.together, r.now = gate, t, t.Now
	for _, a := range r.accounts {
		a.share()
	}
}

// share has the windows of an account begin when they do at other gates.
func (a *account) share() {
	for kind := range a.windows {
		a.windows[kind].aligned = true
	}
}

// Times of sharing limits.
const (
	askAgain   = 100 * time.Millisecond // where there was no room
	apartAgain = time.Second            // after the count could not be reached
)

// part is the part of a limit that is taken at a time by one of so many gates.
func part(limit int64, gates int) int64 { return max(1, limit/int64(100*max(1, gates))) }

// need is what a request lacks of a limit that gates share.
type need struct {
	account *account
	kind    int
	n       int64 // beyond what this gate has taken
	limit   int64
	begun   time.Time
}

// needs is the error of a request that has to wait until its gate has taken more.
type needs []need

func (needs) Error() string { return "more has to be taken of what gates share" }

// lacks reports what of a limit has to be taken before n more may be used here, if anything, and whether n may be used now. counting is held.
func (r *Keyring) lacks(b bound, kind int, limit, n int64, now time.Time) (short need, may bool) {
	w := &b.account.windows[kind]
	short = need{b.account, kind, w.used + n - w.taken, limit, w.begun}
	switch {
	case w.used+n <= w.taken && w.used+w.elsewhere+n <= limit:
		return need{}, true
	case now.Before(r.apart):
		left := max(0, limit-w.taken-w.elsewhere)
		return need{}, w.used+n <= w.taken+left/int64(max(1, r.together.Gates()))
	case w.used+w.elsewhere+n > limit && now.Sub(w.asked) < askAgain:
		return need{}, false
	}
	return short, false
}

// name is what the count of an account's window is called.
func (n need) name() string {
	k := LimitKinds[n.kind]
	at := n.begun.Format("20060102")
	if k.window == minute {
		at = n.begun.UTC().Format("20060102T1504")
	}
	return n.account.id + " " + k.Name + " " + at
}

// takeMore takes what requests lack. counting is not held: it is a question to servers elsewhere.
func (r *Keyring) takeMore(list needs) {
	gates := r.together.Gates()
	for _, s := range list {
		got, total, err := r.together.Take(s.name(), s.n, max(s.n, part(s.limit, gates)), s.limit)
		r.counting.Lock()
		w := &s.account.windows[s.kind]
		if w.asked = r.now(); err != nil {
			if r.apart = w.asked.Add(apartAgain); !r.told {
				r.log.Warn("what gates have used of limits together cannot be counted; each gives out its share", "gates", gates, "error", err.Error())
			}
			r.told = true
		} else if r.told = false; w.begun.Equal(s.begun) {
			w.taken += got
			s.account.changed[s.kind] = true
			w.elsewhere = max(0, total-w.taken)
		}
		r.counting.Unlock()
		if err != nil {
			return
		}
	}
}

// mostRounds is how often a request asks for more.
const mostRounds = 4

// sharing does something that may need more of what gates share than this one has taken: do is called with counting held, until it needs no more.
func (r *Keyring) sharing(do func() error) error {
	for round := 1; ; round++ {
		r.counting.Lock()
		err := do()
		r.counting.Unlock()
		var short needs
		if !errors.As(err, &short) {
			return err
		}
		if round > mostRounds { // others take it away each time
			r.apartFor(short)
		}
		r.takeMore(short)
	}
}

// apartFor has limits that could not be taken of count as used up for a moment.
func (r *Keyring) apartFor(list needs) {
	r.counting.Lock()
	defer r.counting.Unlock()
	for _, s := range list {
		w := &s.account.windows[s.kind]
		w.elsewhere, w.asked = max(w.elsewhere, s.limit-w.used), r.now()
	}
}

// Square returns what this gate has taken of limits and does not use, and counts what it has used without having taken it, while the others were out of
// reach. It is called now and then.
func (r *Keyring) Square() {
	r.counting.Lock()
	if r.together == nil {
		r.counting.Unlock()
		return
	}
	gates := r.together.Gates()
	var list needs
	for _, a := range r.accounts {
		for kind, k := range LimitKinds {
			w := &a.windows[kind]
			if k.window == noWindow || w.limit == 0 || !r.now().Before(k.window.ends(w.begun)) {
				continue
			}
			if idle := w.taken - w.used; idle > part(w.limit, gates) || idle < 0 {
				list = append(list, need{a, kind, idle, w.limit, w.begun})
				w.taken -= idle
				a.changed[kind] = true
			}
		}
	}
	r.counting.Unlock()
	for _, s := range list {
		if err := r.together.Return(s.name(), s.n); err != nil {
			r.counting.Lock()
			if w := &s.account.windows[s.kind]; w.begun.Equal(s.begun) {
				w.taken += s.n // it is still counted as taken
				s.account.changed[s.kind] = true
			}
			r.counting.Unlock()
			return
		}
	}
}

// runs changes how many requests of an account are in progress. counting is held.
func (r *Keyring) runs(b *account, more int) {
	b.running += more
	if r.together != nil && b.bounded {
		r.together.Tell(b.id, b.running)
	}
}

// atOnce is how many requests in progress this gate lets in, of as many as all may have: its share, while it does not know what the others have.
func (r *Keyring) atOnce(most int) int {
	if most == 0 || r.together == nil || !r.together.Apart() {
		return most
	}
	return max(1, most/max(1, r.together.Gates()))
}

// running is how many requests of an account are in progress, at all gates. counting is held.
func (r *Keyring) running(a *account) int {
	if r.together == nil {
		return a.running
	}
	return a.running + r.together.Running(a.id)
}
