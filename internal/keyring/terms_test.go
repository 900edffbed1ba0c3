package keyring

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

// What a key that is issued by another may: no more than that, and what is left open is as it is there.
func TestTermsUnderOthers(t *testing.T) {
	now := time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)
	soon := now.Add(time.Hour)
	prefix := netip.MustParsePrefix
	issuer := Terms{Label: "backend", MayIssue: true, Models: []string{"a", "b"}, Endpoints: []string{"chat"}, Origins: []string{"https://app.example"}, Addresses: []netip.Prefix{prefix("192.0.2.0/24")}, Group: "team", Content: ContentNot}
	for _, c := range []struct {
		what  string
		terms Terms
		wider string // the field that is too wide; "" for none
	}{
		{"nothing but an end", Terms{Expires: soon}, ""},
		{"less of everything", Terms{Expires: soon, Models: []string{"a"}, Addresses: []netip.Prefix{prefix("192.0.2.7/32"), prefix("192.0.2.128/25")}}, ""},
		{"its own group, said", Terms{Expires: soon, Group: "team", Content: ContentNot}, ""},
		{"no end", Terms{}, "expires"},
		{"an end after a day", Terms{Expires: now.Add(longChild + time.Second)}, "expires"},
		{"another model", Terms{Expires: soon, Models: []string{"a", "c"}}, "models"},
		{"another style", Terms{Expires: soon, Endpoints: []string{"raw"}}, "endpoints"},
		{"another page", Terms{Expires: soon, Origins: []string{"https://other.example"}}, "origins"},
		{"a wider range", Terms{Expires: soon, Addresses: []netip.Prefix{prefix("192.0.0.0/16")}}, "addresses"},
		{"another range", Terms{Expires: soon, Addresses: []netip.Prefix{prefix("198.51.100.7/32")}}, "addresses"},
		{"another group", Terms{Expires: soon, Group: "others"}, "group"},
		{"recording", Terms{Expires: soon, Content: ContentKept}, "record_content"},
		{"issuing", Terms{Expires: soon, MayIssue: true}, "may_issue"},
	} {
		got := c.terms
		err := got.under(issuer, now)
		if c.wider != "" {
			if e := exchange.AsError(err); err == nil || e.Code != "wider_than_issuer" || !strings.HasPrefix(e.Message, c.wider+" would") {
				t.Errorf("%s: %v", c.what, err)
			}
			continue
		}
		if err != nil || got.Group != "team" || got.Content != ContentNot || len(got.Models) == 0 || !slices.Equal(got.Endpoints, issuer.Endpoints) || !slices.Equal(got.Origins, issuer.Origins) || len(got.Addresses) == 0 {
			t.Errorf("%s: %+v, %v", c.what, got, err)
		}
	}
	issuer.Expires = now.Add(30 * time.Minute)
	late := Terms{Expires: soon}
	if err := late.under(issuer, now); err == nil {
		t.Error("it outlives its issuer")
	}
	// What the issuer leaves open, the other one may leave open too.
	free := Terms{Expires: soon}
	if err := free.under(Terms{Label: "free", MayIssue: true}, now); err != nil || free.Models != nil || free.Addresses != nil {
		t.Errorf("%+v, %v", free, err)
	}
	// A change of the copy is none of the issuer's.
	copied := Terms{Expires: soon}
	issuer.Expires = time.Time{}
	if err := copied.under(issuer, now); err != nil {
		t.Fatal(err)
	}
	copied.Models[0] = "changed"
	if issuer.Models[0] != "a" {
		t.Error("they share a list")
	}
}

// A budget is counted by the calendar's months, over a restart, and named in what is refused.
func TestBudgets(t *testing.T) {
	r, m, now, k := limited(t, Terms{Limits: Limits{CostPerMonth: 50}})
	*now = time.Date(2031, 1, 31, 23, 0, 0, 0, time.Local)
	spend := func(cost int64) error {
		l, err := r.Admit(k, "m", nil)
		if err == nil {
			l.Settle(10, cost)
		}
		return err
	}
	for range 2 {
		if err := spend(300_000); err != nil { // 0.30 each, of which the second goes beyond
			t.Fatal(err)
		}
	}
	err := spend(1)
	if e := exchange.AsError(err); err == nil || e.Code != "budget_exceeded" || !strings.Contains(e.Message, "may cost 0.50 a month, and has cost 0.60; the next month begins in 1 h 0 min") || e.RetryAfter != time.Hour {
		t.Errorf("beyond the budget: %v", err)
	}
	if err := r.Flush(t.Context()); err != nil {
		t.Fatal(err)
	}
	again := New(m, r.log)
	again.now = r.now
	if err := again.Load(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := again.Admit(k, "m", nil); err == nil {
		t.Error("after a restart the budget is there again")
	}
	if s := again.Standing(t.Context(), k); len(s) != 1 || s[0].What != CostAMonth || s[0].Limit != 500_000 || s[0].Remaining != 0 {
		t.Errorf("it stands so: %+v", s)
	}
	*now = now.Add(time.Hour)
	if _, err := again.Admit(k, "m", nil); err != nil {
		t.Errorf("in the next month: %v", err)
	}
}
