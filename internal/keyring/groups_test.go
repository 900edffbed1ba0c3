package keyring

import (
	"errors"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
)

// A group is made, limits its keys besides their own limits, is counted over a restart, and goes when no key belongs to it any more.
func TestGroupsOfKeys(t *testing.T) {
	r, m, _ := ring(t)
	for name, g := range map[string]Group{"no name": {}, "a name of several lines": {Name: "a\nb"}, "a limit below nothing": {Name: "a", Limits: Limits{RunningAtOnce: -1}}, "more than all of the places": {Name: "a", Limits: Limits{QueueShare: 101}}} {
		if err := r.SetGroup(t.Context(), g); err == nil {
			t.Errorf("a group with %s is taken", name)
		}
	}
	if err := r.SetGroup(t.Context(), Group{Name: "team", Limits: Limits{TokensPerDay: 100, AnswerTokens: 20, QueueShare: 30}}); err != nil {
		t.Fatal(err)
	}
	issue := func(label string, l Limits) Key {
		t.Helper()
		_, k, err := r.Issue(t.Context(), Terms{Label: label, Group: "team", Limits: l})
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	one, two := issue("one", Limits{AnswerTokens: 50, QueueShare: 10}), issue("two", Limits{AnswerTokens: 5})
	for _, c := range []struct {
		k             Key
		answer, share int
	}{{one, 20, 10}, {two, 5, 30}} {
		l, err := r.Admit(c.k, "m", nil)
		if err != nil {
			t.Fatal(err)
		}
		if l.AnswerTokens() != c.answer || l.QueueShare() != c.share {
			t.Errorf("%s may have answers of %d tokens and %d %% of the places", c.k.Label, l.AnswerTokens(), l.QueueShare())
		}
		if err := l.Reserve(30); err != nil {
			t.Error(err)
		}
		l.Settle(45, 0)
	}
	l, err := r.Admit(one, "m", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Reserve(11); err == nil || !strings.Contains(err.Error(), `the group "team" may use 100 tokens a day, and has used 90`) {
		t.Errorf("beyond what the group has: %v", err)
	}
	l.Settle(0, 0)
	if err := r.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	again := New(m, r.log)
	again.now = r.now
	if err := again.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	if list := again.Groups(); len(list) != 1 || list[0].Name != "team" || len(list[0].Standing) != 1 || list[0].Standing[0].Remaining != 10 {
		t.Errorf("after a restart: %+v", list)
	}
	if err := r.DropGroup(t.Context(), "team"); err == nil || !strings.Contains(err.Error(), `belongs to the group "team"`) {
		t.Errorf("a group with keys: %v", err)
	}
	for _, k := range []Key{one, two} {
		if _, _, err := r.Revoke(t.Context(), k.ID); err != nil {
			t.Fatal(err)
		}
	}
	m.full = errors.New("the disk is full")
	if err := r.DropGroup(t.Context(), "team"); !errors.Is(err, m.full) || len(r.Groups()) != 1 {
		t.Errorf("on a full disk: %v", err)
	}
	m.full = nil
	if err := r.DropGroup(t.Context(), "team"); err != nil || len(r.Groups()) != 0 {
		t.Errorf("%v, %+v", err, r.Groups())
	}
	if e := exchange.AsError(r.DropGroup(t.Context(), "team")); e.Kind != exchange.NotFound {
		t.Errorf("removed twice: %v", e)
	}
}
