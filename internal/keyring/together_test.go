package keyring

import (
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

// servers are counts that keyrings share, as NATS servers have them.
type servers struct {
	mu    sync.Mutex
	count map[string]int64
	asked int
	away  bool
	gates int
	now   func() time.Time
	// running is how many requests other gates have in progress.
	running map[string]int
}

var errAway = errors.New("the servers are away")

func (s *servers) Take(of string, least, n, most int64) (got, total int64, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked++
	if s.away {
		return 0, 0, errAway
	}
	if got = min(n, most-s.count[of]); got < least {
		got = 0
	}
	s.count[of] += got
	return got, s.count[of], nil
}

func (s *servers) Return(of string, n int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		return errAway
	}
	s.count[of] -= n
	return nil
}

func (s *servers) Gates() int                 { return s.gates }
func (s *servers) Apart() bool                { return s.away }
func (s *servers) Now() time.Time             { return s.now() }
func (s *servers) Tell(account string, n int) { s.running[account] = n }
func (s *servers) Running(account string) int { return 0 }

// gatesSharing are keyrings that know the same key, with its limits, at a time that can be moved.
func gatesSharing(t *testing.T, n int, limits Limits) (rings []*Keyring, s *servers, k Key, now *time.Time) {
	t.Helper()
	r, m, now := ring(t)
	_, k, err := r.Issue(t.Context(), Terms{Label: "bot", Limits: limits})
	if err != nil {
		t.Fatal(err)
	}
	s = &servers{count: map[string]int64{}, gates: n, running: map[string]int{}, now: func() time.Time { return *now }}
	for range n {
		one := New(m, slog.New(slog.DiscardHandler))
		if err := one.Load(t.Context()); err != nil {
			t.Fatal(err)
		}
		one.ShareLimits("north", s)
		rings = append(rings, one)
	}
	return rings, s, k, now
}

// Together gates let through no more than a limit allows, and at most a hundredth less; each asks for what it needs a hundredth at a time, and not
// once for each request.
func TestLimitsOfSeveralGates(t *testing.T) {
	for name, c := range map[string]struct {
		limits Limits
		each   int // tokens of a request
		want   int64
	}{
		"requests":       {Limits{RequestsPerDay: 3000}, 1, 3000},
		"few requests":   {Limits{RequestsPerDay: 7}, 1, 7},
		"tokens":         {Limits{TokensPerDay: 30_000}, 10, 3000},
		"uneven tokens":  {Limits{TokensPerDay: 100}, 30, 3},
		"both":           {Limits{RequestsPerDay: 500, TokensPerDay: 1_000_000}, 10, 500},
		"none that hold": {Limits{AnswerTokens: 5}, 10, 4000},
	} {
		rings, s, k, _ := gatesSharing(t, 4, c.limits)
		var through atomic.Int64
		var all sync.WaitGroup
		for i := range 8 {
			all.Go(func() {
				for range 500 {
					l, err := rings[i%4].Admit(k, "m", nil)
					if err == nil {
						err = l.Reserve(c.each)
					}
					if err == nil {
						through.Add(1)
					} else if exchange.AsError(err).Kind != exchange.Limited {
						t.Errorf("%s: %v", name, err)
					}
					l.Settle(c.each, 0)
				}
			})
		}
		all.Wait()
		if n := through.Load(); n > c.want || n < c.want-c.want/100-1 {
			t.Errorf("%s: %d were let through, where %d may be", name, n, c.want)
		}
		if c.want == 3000 && s.asked > 1500 {
			t.Errorf("%s: the servers were asked %d times", name, s.asked)
		}
	}
}

// While the servers are away each gate lets through its share; when they are back, what was used meanwhile counts, and what one gate has taken and does
// not use the others can have.
func TestLimitsOfGatesApart(t *testing.T) {
	rings, s, k, now := gatesSharing(t, 4, Limits{RequestsPerDay: 400})
	ask := func(r *Keyring) bool {
		l, err := r.Admit(k, "m", nil)
		l.Settle(0, 0)
		return err == nil
	}
	s.away = true
	for i, r := range rings {
		n := 0
		for range 300 {
			if ask(r) {
				n++
			}
			*now = now.Add(2 * time.Millisecond)
		}
		if n != 100 {
			t.Errorf("gate %d lets %d of its share of 100 through", i, n)
		}
	}
	if s.asked > 20 {
		t.Errorf("servers that are away were asked %d times", s.asked)
	}
	s.away = false
	*now = now.Add(5 * time.Second)
	for _, r := range rings {
		r.Square()
	}
	for i, r := range rings {
		if ask(r) {
			t.Errorf("gate %d lets one more through", i)
		}
	}
	*now = now.Add(24 * time.Hour)
	for range 4 {
		if !ask(rings[0]) {
			t.Fatal("nothing is let through on another day")
		}
	}
	for _, a := range rings[0].accounts { // as after answers that took less than was reserved
		a.windows[RequestsPerDay].taken = 300
		for name := range s.count {
			if name > "" && s.count[name] < 10 {
				s.count[name] = 300
			}
		}
	}
	*now = now.Add(time.Second)
	rings[0].Square()
	n := 0
	for range 500 {
		if ask(rings[1]) {
			n++
		}
	}
	if n != 396 {
		t.Errorf("another gate lets %d through of the 396 that are left", n)
	}
}

// Gates that are cut off when much was used give out what is left between them, as far as they knew; a gate that is started anew meanwhile does not get its
// share once more, and what it has used is counted when it can be.
func TestLimitsOfGatesCutOff(t *testing.T) {
	rings, s, k, now := gatesSharing(t, 4, Limits{RequestsPerDay: 400})
	through := func(r *Keyring, most int) (n int) {
		for n < most {
			l, err := r.Admit(k, "m", nil)
			if l.Settle(0, 0); err != nil {
				break
			}
			n++
		}
		return n
	}
	used := through(rings[0], 200)
	for _, r := range rings[1:] {
		used += through(r, 1) // which is how they come to know of the others
	}
	s.away = true
	for i, r := range rings {
		n := through(r, 500)
		if used += n; n < 30 || n > 60 {
			t.Errorf("gate %d lets %d more through", i, n)
		}
	}
	if used > 410 {
		t.Errorf("%d were let through in all", used)
	}
	cut := rings[3]
	if err := cut.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	again := New(cut.records, slog.New(slog.DiscardHandler))
	if err := again.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	again.ShareLimits("north", s)
	if n := through(again, 10); n > 0 {
		t.Errorf("a gate that was started anew lets %d more through", n)
	}
	s.away = false
	*now = now.Add(5 * time.Second)
	for _, r := range []*Keyring{rings[0], rings[1], rings[2], again} {
		r.Square()
	}
	counts := int64(0)
	for _, n := range s.count {
		counts += n
	}
	if int(counts) != used {
		t.Errorf("%d are counted of %d that were let through", counts, used)
	}
}

// Of requests at once each gate lets in its share while it does not know what the others have.
func TestRequestsAtOnceApart(t *testing.T) {
	for gates, want := range map[int]int{2: 4, 5: 1, 100: 1} {
		rings, s, k, _ := gatesSharing(t, 1, Limits{RunningAtOnce: 8})
		s.gates = gates
		at := func() (n int) {
			var open []*Lease
			for range 20 {
				l, err := rings[0].Admit(k, "m", nil)
				if err == nil {
					n++
				}
				open = append(open, l)
			}
			for _, l := range open {
				l.Settle(0, 0)
			}
			return n
		}
		if n := at(); n != 8 {
			t.Errorf("%d are let in of 8", n)
		}
		if s.away = true; at() != want {
			t.Errorf("apart from %d others, %d are let in", gates-1, at())
		}
	}
}

// Windows of a minute are the clock's, so that they are the same at all gates, and each has its own count.
func TestMinutesOfSeveralGates(t *testing.T) {
	rings, s, k, now := gatesSharing(t, 2, Limits{RequestsPerMinute: 4})
	*now = time.Date(2031, 5, 1, 12, 0, 50, 0, time.UTC)
	through := func() (n int) {
		for i := range 10 {
			l, err := rings[i%2].Admit(k, "m", nil)
			if l.Settle(0, 0); err == nil {
				n++
			}
		}
		return n
	}
	if n := through(); n != 4 {
		t.Errorf("%d in the first minute", n)
	}
	*now = now.Add(11 * time.Second)
	if n := through(); n != 4 || len(s.count) != 2 {
		t.Errorf("%d in the next, of the counts %v", n, s.count)
	}
}

// The owner key of this gate cannot be revoked; that of another one, which may be gone for good, can.
func TestOwnerKeysOfSeveralGates(t *testing.T) {
	rings, _, _, _ := gatesSharing(t, 1, Limits{})
	for _, gate := range []string{"north", "south"} {
		if _, err := rings[0].IssueOwner(t.Context(), gate); err != nil {
			t.Fatal(err)
		}
	}
	keys, err := rings[0].Keys(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range keys {
		if !k.Owner {
			continue
		}
		if !k.Revoked.IsZero() {
			t.Errorf("%s was revoked by the other", k.Label)
		}
		_, _, err := rings[0].Revoke(t.Context(), k.ID)
		if own := k.Label == OwnerLabel("north"); (err != nil) != own {
			t.Errorf("%s: %v", k.Label, err)
		}
	}
}
