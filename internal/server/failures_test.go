package server

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// Who guesses keys is slowed down and then sent away; somebody else at another address is not, nor who comes with a valid key from the same.
func TestGuessingIsSlow(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }}, func(o *Options) { o.Exposure.TrustedProxies = []string{"127.0.0.1"} })
	guess := func(key, from string) int {
		t.Helper()
		resp, body := h.do(t, "GET", "/v1/models", key, "", "X-Forwarded-For", from)
		if resp.StatusCode == 429 && (!strings.Contains(body, "too_many_failures") || resp.Header.Get("Retry-After") == "") {
			t.Errorf("sent away with %s", body)
		}
		return resp.StatusCode
	}
	h.server.failed.slowed = mostSlowed // as if so many waited already: who would have to wait is sent away, and the test need not
	got := map[int]int{}
	for i := range freeAttempts + 10 {
		got[guess(fmt.Sprintf("kg_guess%d", i), "192.0.2.1")]++
	}
	if got[401] < freeAttempts || got[429] < 5 {
		t.Errorf("guesses are answered so: %v", got)
	}
	if status := guess(h.key, "192.0.2.1"); status != 200 {
		t.Errorf("a valid key from there: %d", status)
	}
	if status := guess("kg_guess", "192.0.2.2"); status != 401 {
		t.Errorf("a mistake from another address: %d", status)
	}
	if status := guess("", "192.0.2.1"); status != 401 {
		t.Errorf("no key at all: %d", status)
	}
}

// A header that is too long is refused before anybody looks at it.
func TestALongHeader(t *testing.T) {
	h := start(t, &scripted.Runner{})
	for length, want := range map[int]int{longHeader / 2: 200, 2 * longHeader: 431} {
		req, err := http.NewRequestWithContext(t.Context(), "GET", h.url+"/v1/models", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+h.key)
		req.Header.Set("X-Long", strings.Repeat("x", length))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != want {
			t.Errorf("a header of %d bytes is answered with %s", length, resp.Status)
		}
	}
}

func TestHowLongAGuessWaits(t *testing.T) {
	var f failures
	from := network("2001:db8:1:2:3::4")
	for i := range freeAttempts {
		if wait, ok := f.wait(from); wait != 0 || !ok {
			t.Fatalf("attempt %d waits %s", i, wait)
		}
	}
	waited := time.Duration(0)
	for range 5 {
		wait, ok := f.wait(network("2001:db8:1:2:ffff::")) // of the same site
		if !ok || wait <= waited || wait > longestSlow {
			t.Errorf("it waits %s after %s", wait, waited)
		}
		waited = wait
	}
	if wait, ok := f.wait(from); ok || wait < longestSlow/2 {
		t.Errorf("it is to wait %s, %v", wait, ok)
	}
	if wait, ok := f.wait(network("2001:db8:1:3::")); wait != 0 || !ok {
		t.Errorf("another site waits %s", wait)
	}
}

// What counts as one address: of IPv4 each, of IPv6 the network that a site has, and all that comes over sockets.
func TestWhatCountsAsOneAddress(t *testing.T) {
	for address, want := range map[string]string{
		"192.0.2.7":           "192.0.2.7/32",
		"::ffff:192.0.2.7":    "192.0.2.7/32",
		"2001:db8:1:2:3:4::5": "2001:db8:1:2::/64",
		"fe80::1%eth0":        "fe80::/64",
		"":                    "invalid Prefix",
		"@":                   "invalid Prefix",
	} {
		if got := network(address).String(); got != want {
			t.Errorf("%q counts as %s, not %s", address, got, want)
		}
	}
}
