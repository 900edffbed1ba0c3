package keyring

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

// limited is a key with limits, in a keyring whose clock can be moved.
func limited(t testing.TB, terms Terms) (*Keyring, *memory, *time.Time, Key) {
	t.Helper()
	r, m, now := ring(t)
	terms.Label = "bot"
	_, k, err := r.Issue(t.Context(), terms)
	if err != nil {
		t.Fatal(err)
	}
	return r, m, now, k
}

// refused checks that an error names a limit, and says when it may be tried again.
func refused(t *testing.T, err error, of string, after time.Duration) {
	t.Helper()
	var e *exchange.Error
	if !errors.As(err, &e) || e.Kind != exchange.Limited || e.Code != "rate_limit_exceeded" || !strings.Contains(e.Message, of) || e.RetryAfter != after {
		t.Errorf("%v (%+v); wanted %q after %s", err, e, of, after)
	}
}

func TestRequestsAMinute(t *testing.T) {
	r, _, now, k := limited(t, Terms{Limits: Limits{RequestsPerMinute: 2}})
	for i := range 2 {
		l, err := r.Admit(k, "m", nil)
		if err != nil {
			t.Fatal(i, err)
		}
		l.Settle(5, 0)
		*now = now.Add(10 * time.Second)
	}
	l, err := r.Admit(k, "m", nil)
	refused(t, err, `the key "bot" may use 2 requests a minute, and has used 2; there is room again in 40 s`, 40*time.Second)
	if s := l.Standing(); len(s) != 1 || s[0] != (Standing{What: "requests a minute", Limit: 2, Remaining: 0, Reset: 40 * time.Second}) {
		t.Errorf("%+v", s)
	}
	l.Settle(100, 0) // of one that was refused nothing counts
	*now = now.Add(40*time.Second - 1)
	_, err = r.Admit(k, "m", nil)
	refused(t, err, "a minute", 1)
	*now = now.Add(1) // as it was said
	if _, err := r.Admit(k, "m", nil); err != nil {
		t.Error(err)
	}
}

func TestTokensAreReservedAndSettled(t *testing.T) {
	r, _, now, k := limited(t, Terms{Limits: Limits{TokensPerMinute: 100, PromptTokens: 70, AnswerTokens: 20, QueueShare: 30}, ByModel: map[string]Limits{"large": {AnswerTokens: 5, QueueShare: 50}}})
	left := func() int64 { return r.Standing(t.Context(), k)[0].Remaining }
	l, err := r.Admit(k, "m", nil)
	if err != nil || l.AnswerTokens() != 20 || l.QueueShare() != 30 {
		t.Fatal(err, l.AnswerTokens(), l.QueueShare())
	}
	if large, err := r.Admit(k, "large", nil); err != nil || large.AnswerTokens() != 5 || large.QueueShare() != 30 {
		t.Error("the tightest limits do not hold", err)
	}
	if err := l.Reserve(60); err != nil || left() != 40 {
		t.Fatal(err, left())
	}
	// Something else is to read the prompt: what was reserved is, and only what is more comes to it.
	if err := errors.Join(l.Reserve(60), l.Reserve(50)); err != nil || left() != 40 {
		t.Errorf("%v, %d left after the same again", err, left())
	}
	other, err := r.Admit(k, "m", nil)
	if err != nil {
		t.Fatal(err)
	}
	refused(t, other.Reserve(50), "may use 100 tokens a minute, and has used 60, which leaves too few for the 50 of this one; there is room again in 1 min", time.Minute)
	if err := other.Reserve(71); err == nil || exchange.AsError(err).Kind != exchange.Invalid {
		t.Errorf("a prompt beyond what one request may have: %v", err)
	}
	other.Settle(0, 0)
	l.Settle(75, 0)
	l.Settle(75, 0)
	if left() != 25 {
		t.Errorf("%d are left of 100 when 75 were used", left())
	}
	// What was reserved and not used comes back; an answer may go beyond the limit, and then nothing more does.
	l, _ = r.Admit(k, "m", nil)
	if err := l.Reserve(20); err != nil {
		t.Fatal(err)
	}
	l.Settle(0, 0)
	if left() != 25 {
		t.Errorf("%d are left after one that used nothing", left())
	}
	l, _ = r.Admit(k, "m", nil)
	l.Settle(500, 0)
	_, err = r.Admit(k, "m", nil)
	refused(t, err, "tokens a minute", time.Minute)
	// What was reserved in a minute that is over is not given back to the next.
	*now = now.Add(time.Minute)
	l, err = r.Admit(k, "m", nil)
	if err := errors.Join(err, l.Reserve(50)); err != nil {
		t.Fatal(err)
	}
	*now = now.Add(time.Minute)
	late, err := r.Admit(k, "m", nil)
	if err := errors.Join(err, late.Reserve(30)); err != nil {
		t.Fatal(err)
	}
	l.Settle(10, 0)
	if left() != 70 {
		t.Errorf("%d are left", left())
	}
	// A prompt that the limit could never take is wrong, rather than early.
	r, _, _, k = limited(t, Terms{Limits: Limits{TokensPerMinute: 100}})
	l, _ = r.Admit(k, "m", nil)
	if err := l.Reserve(101); err == nil || exchange.AsError(err).Kind != exchange.Invalid || !strings.Contains(err.Error(), "can never be read") {
		t.Error(err)
	}
}

func TestSeveralLimitsAtOnce(t *testing.T) {
	r, _, now, k := limited(t, Terms{Limits: Limits{RequestsPerMinute: 1, RequestsPerDay: 3}, ByModel: map[string]Limits{"large": {RequestsPerDay: 1}}})
	*now = time.Date(2031, 5, 6, 23, 0, 0, 0, time.Local)
	if _, err := r.Admit(k, "large", nil); err != nil {
		t.Fatal(err)
	}
	// Of two that are reached the one that lasts longer is told, so that trying again then succeeds.
	_, err := r.Admit(k, "large", nil)
	refused(t, err, `the key "bot" with model "large" may use 1 requests a day, and has used 1; there is room again in 1 h 0 min`, time.Hour)
	_, err = r.Admit(k, "small", nil)
	refused(t, err, `the key "bot" may use 1 requests a minute`, time.Minute)
	*now = now.Add(time.Minute)
	if _, err := r.Admit(k, "small", nil); err != nil {
		t.Error(err)
	}
	*now = now.Add(59 * time.Minute) // the next day
	if _, err := r.Admit(k, "large", nil); err != nil {
		t.Error(err)
	}
}

func TestRequestsAtOnce(t *testing.T) {
	r, _, _, k := limited(t, Terms{Limits: Limits{RunningAtOnce: 2}})
	one, err1 := r.Admit(k, "m", nil)
	two, err2 := r.Admit(k, "m", nil)
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	part := one.Part() // of the same request
	_, err := r.Admit(k, "m", nil)
	refused(t, err, "2 requests in progress at once", time.Second)
	if err := two.Reserve(10); err != nil {
		t.Errorf("one that was admitted is refused: %v", err)
	}
	one.Settle(1, 0)
	_, err = r.Admit(k, "m", nil)
	refused(t, err, "at once", time.Second)
	part.Settle(1, 0)
	if _, err := r.Admit(k, "m", nil); err != nil {
		t.Error(err)
	}
}

// What was used counts after a restart, and after a key was replaced; a clock that is set back keeps nobody waiting longer than the limit's time.
func TestUseOutlivesARestart(t *testing.T) {
	r, m, now, k := limited(t, Terms{Limits: Limits{RequestsPerMinute: 2}})
	if _, err := r.Admit(k, "m", nil); err != nil {
		t.Fatal(err)
	}
	m.full = errors.New("the disk is full")
	if err := r.Flush(t.Context()); !errors.Is(err, m.full) {
		t.Errorf("%v", err)
	}
	m.full = nil
	if err := r.Flush(t.Context()); err != nil || len(m.counts) == 0 {
		t.Fatal(err, m.counts)
	}
	next := New(m, slog.New(slog.DiscardHandler))
	next.now = func() time.Time { return *now }
	if err := next.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	_, replaced, _, err := next.Rotate(t.Context(), k.ID, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := next.Admit(replaced, "m", nil); err != nil {
		t.Error(err)
	}
	_, err = next.Admit(k, "m", nil)
	refused(t, err, "has used 2", time.Minute)
	*now = now.Add(-time.Hour)
	_, err = next.Admit(k, "m", nil)
	refused(t, err, "has used 2", time.Minute)
}

func TestTermsHold(t *testing.T) {
	r, _, now := ring(t)
	expires := now.Add(time.Hour)
	secret, k, err := r.Issue(t.Context(), Terms{Label: "bot", Expires: expires, Endpoints: []string{"chat"}, Origins: []string{"https://app.example"}, Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		what string
		err  error
		want string
	}{
		{"its style", k.MayAsk("chat"), ""},
		{"another style", k.MayAsk("completion"), "it may in: chat"},
		{"its address", k.MayCome("192.0.2.7", ""), ""},
		{"its address, in the other notation", k.MayCome("::ffff:192.0.2.7", "https://app.example"), ""},
		{"another address", k.MayCome("198.51.100.7", ""), "may not be used from 198.51.100.7"},
		{"no address", k.MayCome("", ""), "may not be used from there"},
		{"another origin", k.MayCome("192.0.2.7", "https://other.example"), "by pages of https://other.example"},
		{"its origin", errUnless(r.ForPagesOf(t.Context(), "https://app.example")), ""},
		{"an origin of no key", errUnless(r.ForPagesOf(t.Context(), "https://other.example")), "no"},
	} {
		if (c.err == nil) != (c.want == "") || c.err != nil && !strings.Contains(c.err.Error(), c.want) {
			t.Errorf("%s: %v, wanted %q", c.what, c.err, c.want)
		}
	}
	*now = expires.Add(-time.Second)
	if _, err := r.Check(t.Context(), secret); err != nil {
		t.Error(err)
	}
	*now = expires
	if _, err := r.Check(t.Context(), secret); err == nil || !strings.Contains(err.Error(), "has expired") {
		t.Errorf("%v", err)
	}
	if r.ForPagesOf(t.Context(), "https://app.example") {
		t.Error("pages are shared with for a key that has expired")
	}
	// It can be changed still, and prolonged.
	if _, err := r.Change(t.Context(), "bot", func(t *Terms) error { t.Label = "robot"; return nil }); err != nil {
		t.Error(err)
	}
	if _, err := r.Change(t.Context(), k.ID, func(t *Terms) error { t.Expires = expires.Add(time.Hour); return nil }); err != nil {
		t.Error(err)
	}
	if got, err := r.Check(t.Context(), secret); err != nil || got.Label != "robot" {
		t.Errorf("%+v, %v", got, err)
	}
	for what, change := range map[string]func(*Terms){
		"expires":                         func(t *Terms) { t.Expires = expires.Add(-2 * time.Hour) },
		"limits.tokens_per_day":           func(t *Terms) { t.Limits[TokensPerDay] = -1 },
		"limits.queue_share":              func(t *Terms) { t.Limits[QueueShare] = 101 },
		"limits_by_model":                 func(t *Terms) { t.Models = []string{"a"}; t.ByModel = map[string]Limits{"b": {RunningAtOnce: 1}} },
		"limits_by_model.b.answer_tokens": func(t *Terms) { t.ByModel = map[string]Limits{"b": {AnswerTokens: -1}} },
		"origins":                         func(t *Terms) { t.Origins = []string{"app.example/x"} },
		"label":                           func(t *Terms) { t.Label = "\x1b" },
	} {
		_, err := r.Change(t.Context(), k.ID, func(t *Terms) error { change(t); return nil })
		if err == nil || exchange.AsError(err).Param != what {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func errUnless(ok bool) error {
	if ok {
		return nil
	}
	return errors.New("no")
}

func TestRotate(t *testing.T) {
	r, _, now := ring(t)
	was, old, err := r.Issue(t.Context(), Terms{Label: "bot", Models: []string{"m"}})
	if err != nil {
		t.Fatal(err)
	}
	secret, next, old, err := r.Rotate(t.Context(), old.ID, time.Hour)
	if err != nil || next.Account() != old.ID || next.Label != "bot" || !old.Expires.Equal(now.Add(time.Hour)) {
		t.Fatalf("%+v, %+v, %v", next, old, err)
	}
	for _, s := range []string{was, secret} {
		if _, err := r.Check(t.Context(), s); err != nil {
			t.Error(err)
		}
	}
	*now = now.Add(time.Hour)
	if _, err := r.Check(t.Context(), was); err == nil {
		t.Error("the old key goes on working after the grace")
	}
	again, third, _, err := r.Rotate(t.Context(), next.ID, 0)
	if err != nil || third.Account() != old.ID {
		t.Fatalf("%+v, %v", third, err)
	}
	if _, err := r.Check(t.Context(), secret); err == nil {
		t.Error("the old key goes on working without a grace")
	}
	if _, err := r.Check(t.Context(), again); err != nil {
		t.Error(err)
	}
	if _, err := r.IssueOwner(t.Context(), ""); err != nil {
		t.Fatal(err)
	}
	keys, err := r.Keys(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range keys {
		if _, _, _, err := r.Rotate(t.Context(), k.ID, time.Hour); (k.Owner || !k.Revoked.IsZero()) && err == nil {
			t.Errorf("%+v is rotated", k)
		}
	}
}

// A key's limits are counted from many requests at once, and none is lost.
func TestCountingTogether(t *testing.T) {
	r, _, _, k := limited(t, Terms{Limits: Limits{RequestsPerMinute: 1 << 30, TokensPerMinute: 1 << 30, RunningAtOnce: 1000}})
	done := make(chan error)
	for range 100 {
		go func() {
			for range 20 {
				l, err := r.Admit(k, "m", nil)
				if err == nil {
					err = l.Reserve(10)
				}
				l.Settle(15, 0)
				if err != nil {
					done <- err
					return
				}
			}
			done <- nil
		}()
	}
	for range 100 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	got := fmt.Sprint(r.Standing(t.Context(), k)[0].Remaining, r.Standing(t.Context(), k)[1].Remaining, r.Standing(t.Context(), k)[2].Remaining)
	if want := fmt.Sprint(1<<30-2000, 1<<30-30000, 1000); got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

func BenchmarkCheck(b *testing.B) {
	r, _, _ := ring(b)
	secret, _, err := r.Issue(context.Background(), Terms{Label: "bot"})
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := r.Check(context.Background(), secret); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkLimits(b *testing.B) {
	r, _, _, k := limited(b, Terms{Limits: Limits{RequestsPerMinute: 1 << 30, RequestsPerDay: 1 << 30, TokensPerMinute: 1 << 30, TokensPerDay: 1 << 30, RunningAtOnce: 100}, ByModel: map[string]Limits{"m": {TokensPerDay: 1 << 30}}})
	for b.Loop() {
		l, err := r.Admit(k, "m", nil)
		if err != nil {
			b.Fatal(err)
		}
		if err := l.Reserve(10); err != nil {
			b.Fatal(err)
		}
		l.Settle(15, 0)
	}
}

// A key that issues others for every visitor of a page fills nothing: those that have ended are removed, and of the others there are not
// more than so many.
func TestIssuedKeysMakeRoom(t *testing.T) {
	r, m, now, issuer := limited(t, Terms{MayIssue: true})
	issue := func() (Key, error) {
		_, k, err := r.IssueUnder(t.Context(), issuer, Terms{Label: "page", Expires: now.Add(10 * time.Minute), Limits: Limits{RequestsPerDay: 5}, ByModel: map[string]Limits{"m": {RunningAtOnce: 1}}})
		return k, err
	}
	for range mostChildren {
		k, err := issue()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Admit(k, "m", nil); err != nil {
			t.Fatal(err)
		}
	}
	_, err := issue()
	var e *exchange.Error
	if !errors.As(err, &e) || e.Code != "too_many_keys" || e.RetryAfter != 10*time.Minute {
		t.Errorf("one more: %v", err)
	}
	*now = now.Add(10 * time.Minute)
	if _, err := issue(); err != nil {
		t.Error(err)
	}
	if len(m.keys) != 2 || len(r.accounts) > 2 {
		t.Errorf("%d keys and %d accounts are left", len(m.keys), len(r.accounts))
	}
}

// After a kill, what the counts lack is counted again from what the ledger has: in the windows in which it was used, and in no others.
func TestRecount(t *testing.T) {
	r, m, now, k := limited(t, Terms{Limits: Limits{RequestsPerMinute: 10, TokensPerDay: 1000, CostPerMonth: 100}, ByModel: map[string]Limits{"large": {RequestsPerDay: 5}}})
	l, err := r.Admit(k, "large", nil)
	if err != nil {
		t.Fatal(err)
	}
	l.Settle(100, 2000)
	if err := r.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	flushed := *now
	next := New(m, slog.New(slog.DiscardHandler))
	next.now = func() time.Time { return *now }
	if err := next.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	if until, known := next.Counted(); !known || !until.Equal(flushed) {
		t.Errorf("counted until %s, %v", until, known)
	}
	*now = now.Add(30 * time.Second)
	for _, u := range []Used{
		{Account: k.ID, Model: "large", Begun: flushed.Add(time.Second), Tokens: 50, Cost: 1000},
		{Account: k.ID, Model: "small", Begun: flushed.Add(2 * time.Second), Tokens: 7},
		{Account: k.ID, Model: "small", Begun: flushed.Add(3 * time.Second), Refused: true},
		{Account: k.ID, Model: "small", Begun: flushed.Add(-48 * time.Hour), Tokens: 500}, // in windows that are over
		{Account: "nobody", Begun: flushed, Tokens: 9},
	} {
		if err := next.Recount(t.Context(), u); err != nil {
			t.Fatal(err)
		}
	}
	left := map[string]int64{}
	for _, s := range next.Standing(t.Context(), k) {
		left[s.What+" "+s.Model] = s.Remaining
	}
	for what, want := range map[string]int64{"requests a minute ": 10 - 3, "tokens a day ": 1000 - 157, "cost a month ": 1_000_000 - 3000, "requests a day large": 3} {
		if left[what] != want {
			t.Errorf("%s: %d are left, not %d", what, left[what], want)
		}
	}
}

// Requests that are wrong are refused after so many in a minute, whether a limit for them is set or not; what is refused for a limit does not
// count, and of neither does the ledger have more than that.
func TestRefusedRequestsAreBounded(t *testing.T) {
	r, _, now, k := limited(t, Terms{Limits: Limits{RefusedPerMinute: 3}})
	for i := range 5 {
		if noted := r.Refuse(k, i == 0); noted != (i < 3) {
			t.Errorf("%d is noted: %v", i, noted)
		}
		if i == 2 {
			if _, err := r.Enter(k); err != nil {
				t.Errorf("after two that were wrong: %v", err)
			}
		}
	}
	_, err := r.Enter(k)
	if e := exchange.AsError(err); e.Code != "too_many_refused" || e.RetryAfter != time.Minute {
		t.Errorf("%v", err)
	}
	*now = now.Add(time.Minute)
	if _, err := r.Enter(k); err != nil || !r.Refuse(k, false) {
		t.Errorf("a minute later: %v", err)
	}
	r, _, _, k = limited(t, Terms{})
	for range 600 {
		r.Refuse(k, false)
	}
	if _, err := r.Enter(k); exchange.AsError(err).Code != "too_many_refused" {
		t.Errorf("without a limit of its own: %v", err)
	}
	if list := r.Standing(t.Context(), k); len(list) != 0 {
		t.Errorf("nothing was limited, but %+v", list)
	}
}
