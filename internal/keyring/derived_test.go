package keyring

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

// family is a key that may issue others, and one that it has issued.
func family(t *testing.T, r *Keyring, of Terms) (issuer, child Key, secret string) {
	t.Helper()
	of.Label, of.MayIssue = "backend", true
	_, issuer, err := r.Issue(t.Context(), of)
	if err != nil {
		t.Fatal(err)
	}
	secret, child, err = r.IssueUnder(t.Context(), issuer, Terms{Label: "page", Expires: r.now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	return issuer, child, secret
}

// A key that another one issued may at each request what that one may then, however it was when it was issued.
func TestADerivedKeyMayWhatItsIssuerMayNow(t *testing.T) {
	r, _, now := ring(t)
	issuer, child, secret := family(t, r, Terms{})
	if err := r.SetGroup(t.Context(), Group{Name: "pages", Limits: Limits{RunningAtOnce: 1}}); err != nil {
		t.Fatal(err)
	}
	check := func() Key {
		t.Helper()
		k, err := r.Check(t.Context(), secret)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	if k := check(); !k.MayUse("a") || k.MayAsk("chat") != nil || k.MayCome("192.0.2.7", "https://page.example") != nil || !k.Ends().Equal(child.Expires) {
		t.Errorf("at first: %+v", k)
	}
	soon := now.Add(time.Minute)
	change := func(do func(*Terms)) {
		t.Helper()
		if _, err := r.Change(t.Context(), issuer.ID, func(t *Terms) error { do(t); return nil }); err != nil {
			t.Fatal(err)
		}
	}
	change(func(t *Terms) {
		t.Models, t.Endpoints, t.Origins, t.Group, t.Expires = []string{"b"}, []string{"generate"}, []string{"https://other.example"}, "pages", soon
		t.Addresses = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}
	})
	if k := check(); k.MayUse("a") || !k.MayUse("b") || k.MayAsk("chat") == nil || k.MayAsk("generate") != nil || k.MayCome("192.0.2.7", "") == nil || k.MayCome("10.1.2.3", "https://page.example") == nil ||
		k.MayCome("10.1.2.3", "https://other.example") != nil || k.Group != "pages" || !k.Ends().Equal(soon) {
		t.Errorf("after the issuer has less: %+v", k)
	}
	if r.ForPagesOf(t.Context(), "https://page.example") || !r.ForPagesOf(t.Context(), "https://other.example") {
		t.Error("pages of other origins are let in")
	}
	// One in its place stays its issuer's.
	secret, next, _, err := r.Rotate(t.Context(), child.ID, 0)
	if err != nil || next.Issuer != issuer.Account() || next.Payer() != issuer.Account() {
		t.Fatalf("%+v, %v", next, err)
	}
	if k, err := r.Check(t.Context(), secret); err != nil || k.MayUse("a") {
		t.Errorf("rotated: %+v, %v", k, err)
	}
	*now = soon
	if _, err := r.Check(t.Context(), secret); err == nil || !strings.Contains(err.Error(), "ended with the key that issued it") {
		t.Errorf("after the issuer's end: %v", err)
	}
	if k, valid := r.Now(next.ID); valid {
		t.Errorf("valid: %+v", k)
	}
}

// A key that has expired does not come back by being replaced.
func TestAnExpiredKeyIsNotRotated(t *testing.T) {
	r, _, now := ring(t)
	_, k, err := r.Issue(t.Context(), Terms{Label: "x", Expires: now.Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	*now = now.Add(time.Hour)
	if _, _, _, err := r.Rotate(t.Context(), k.ID, 0); err == nil || !strings.Contains(err.Error(), "has expired") {
		t.Errorf("%v", err)
	}
}

// Lists in terms are looked through at each request, so they have bounds, whoever sets them.
func TestListsInTermsAreBounded(t *testing.T) {
	r, _, _ := ring(t)
	var many []string
	limits := map[string]Limits{}
	var addresses []netip.Prefix
	for i := range mostEntries + 1 {
		many = append(many, fmt.Sprintf("https://%d.example", i))
		limits[fmt.Sprint(i)] = Limits{RunningAtOnce: 1}
		addresses = append(addresses, netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}), 32))
	}
	long := []string{strings.Repeat("x", longEntry+1)}
	_, k, err := r.Issue(t.Context(), Terms{Label: "x", Origins: many[:mostEntries]})
	if err != nil {
		t.Fatal(err)
	}
	for param, with := range map[string][]Terms{
		"models": {{Models: many}, {Models: long}}, "endpoints": {{Endpoints: many}, {Endpoints: long}}, "origins": {{Origins: many}, {Origins: long}}, "addresses": {{Addresses: addresses}}, "limits_by_model": {{ByModel: limits}},
	} {
		for _, terms := range with {
			terms.Label = "x"
			_, _, issuing := r.Issue(t.Context(), terms)
			_, changing := r.Change(t.Context(), k.ID, func(t *Terms) error { *t = terms; return nil })
			for _, err := range []error{issuing, changing} {
				if e := exchange.AsError(err); e == nil || !strings.HasPrefix(e.Param, param) {
					t.Errorf("%s: %v", param, err)
				}
			}
		}
	}
}

// A request takes its place before it is known what it asks for, and keeps it: nobody gets it in between, and it is given back once.
func TestEntering(t *testing.T) {
	r, _, _ := ring(t)
	_, k, err := r.Issue(t.Context(), Terms{Label: "x", Limits: Limits{RunningAtOnce: 1, RequestsPerDay: 2}})
	if err != nil {
		t.Fatal(err)
	}
	refused := func(want string) {
		t.Helper()
		if e, err := r.Enter(k); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v, %v, want %q", e, err, want)
		}
	}
	enter := func() *Entry {
		t.Helper()
		e, err := r.Enter(k)
		if err != nil {
			t.Fatal(err)
		}
		return e
	}
	one := enter()
	refused("1 requests in progress at once")
	one.Leave()
	one.Leave()
	two := enter()
	lease, err := r.Admit(k, "m", two)
	if err != nil {
		t.Fatal(err)
	}
	two.Leave() // it is the lease's now
	refused("1 requests in progress at once")
	lease.Settle(1, 0)
	three := enter()
	if lease, err = r.Admit(k, "m", three); err != nil {
		t.Fatal(err)
	}
	lease.Settle(1, 0)
	refused("2 requests a day") // without a place having been taken, and before anything is read
}

// Looking for the keys of an origin looks at no others, and at none in the records.
func TestAStrangersOriginCostsNothing(t *testing.T) {
	r, m, now := ring(t)
	for i := range 100 {
		if _, _, err := r.Issue(t.Context(), Terms{Label: "x", Origins: []string{fmt.Sprintf("https://%d.example", i)}, Expires: now.Add(time.Hour)}); err != nil {
			t.Fatal(err)
		}
	}
	if !r.ForPagesOf(t.Context(), "https://7.example") || r.ForPagesOf(t.Context(), "https://stranger.example") {
		t.Error("the wrong origins are let in")
	}
	reads := m.listed
	if n := testing.AllocsPerRun(100, func() { r.ForPagesOf(context.Background(), "https://stranger.example") }); n > 0 {
		t.Errorf("it allocates %v times", n)
	}
	if m.listed > reads {
		t.Errorf("the records were asked %d times", m.listed-reads)
	}
	*now = now.Add(time.Hour)
	if r.ForPagesOf(t.Context(), "https://7.example") {
		t.Error("the origin of a key that has expired is let in")
	}
}

// What a derived key is limited to lies within what its issuer is limited to: a wider range that begins at the same address does not.
func TestDerivedAddressesAreNoWider(t *testing.T) {
	r, _, now := ring(t)
	_, issuer, err := r.Issue(t.Context(), Terms{Label: "backend", MayIssue: true, Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}})
	if err != nil {
		t.Fatal(err)
	}
	for address, narrow := range map[string]bool{"192.0.2.0/25": true, "192.0.2.0/24": true, "192.0.2.0/23": false, "192.0.2.0/8": false, "198.51.100.0/24": false} {
		_, _, err := r.IssueUnder(t.Context(), issuer, Terms{Label: "page", Expires: now.Add(time.Hour), Addresses: []netip.Prefix{netip.MustParsePrefix(address)}})
		if (err == nil) != narrow {
			t.Errorf("%s: %v", address, err)
		}
	}
}

// An issuer that has expired holds nothing any more, and a grace period never lets a key work for longer than it would have.
func TestKeysEndWhenTheyWere(t *testing.T) {
	r, _, now := ring(t)
	issuer, _, _ := family(t, r, Terms{Expires: now.Add(time.Hour)})
	if !r.Holds(t.Context(), issuer.Account()) {
		t.Error("nobody holds the account of a key that is valid")
	}
	secret, _, old, err := r.Rotate(t.Context(), issuer.ID, 24*time.Hour)
	if err != nil || !old.Expires.Equal(issuer.Expires) {
		t.Errorf("the old key works until %s, not %s (%v)", old.Expires, issuer.Expires, err)
	}
	*now = now.Add(time.Hour)
	if r.Holds(t.Context(), issuer.Account()) {
		t.Error("a key that has expired holds an account")
	}
	if _, err := r.Check(t.Context(), secret); err == nil {
		t.Error("the key in its place works for longer")
	}
}

// A key has the tools that it was given, and one that it has issued no more than those, as they are at each request.
func TestToolsOfDerivedKeys(t *testing.T) {
	r, _, _ := ring(t)
	issuer, child, secret := family(t, r, Terms{Tools: []string{"ferry", "desk/search", RemoteTools}})
	if child.MayCall("ferry", "next_sailing") || child.MayCall("ferry", "") || child.MayCallElsewhere() {
		t.Error("a key that was given no tools has some")
	}
	issue := func(tools ...string) error {
		_, _, err := r.IssueUnder(t.Context(), issuer, Terms{Label: "page", Tools: tools, Expires: r.now().Add(time.Hour)})
		return err
	}
	for _, c := range []struct {
		tools []string
		fits  bool
	}{{[]string{"ferry"}, true}, {[]string{"ferry/next_sailing", "desk/search", "remote"}, true}, {[]string{"desk"}, false}, {[]string{"desk/hold"}, false}, {[]string{"*"}, false}, {[]string{"files"}, false}, {[]string{"Not a name"}, false}} {
		if err := issue(c.tools...); (err == nil) != c.fits {
			t.Errorf("%v: %v", c.tools, err)
		}
	}
	if _, err := r.Change(t.Context(), child.ID, func(t *Terms) error { t.Tools = []string{"ferry", "desk/search", RemoteTools}; return nil }); err != nil {
		t.Fatal(err)
	}
	may := func() string {
		k, err := r.Check(t.Context(), secret)
		if err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(k.MayCall("ferry", "next_sailing"), k.MayCall("ferry", ""), k.MayCall("desk", "search"), k.MayCall("desk", "hold"), k.MayCall("desk", ""), k.MayCall("files", ""), k.MayCallElsewhere())
	}
	if got := may(); got != "true true true false true false true" {
		t.Error(got)
	}
	if _, err := r.Change(t.Context(), issuer.ID, func(t *Terms) error { t.Tools = []string{"ferry/fare_quote"}; return nil }); err != nil {
		t.Fatal(err)
	}
	if got := may(); got != "false true false false false false false" {
		t.Errorf("after the issuer has less: %s", got)
	}
	all := Key{Owner: true}
	if !all.MayCall("ferry", "x") || !all.MayCallElsewhere() {
		t.Error("the owner has not all tools")
	}
	star := Key{Terms: Terms{Tools: []string{"*"}}}
	if !star.MayCall("ferry", "x") || star.MayCallElsewhere() {
		t.Error("all of the gate's tools are not all of the gate's tools")
	}
}
