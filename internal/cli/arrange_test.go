package cli

import (
	"strings"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/server"
)

func TestWhatChanged(t *testing.T) {
	warm, cold := 0.8, 0.2
	long := strings.Repeat("You are a cheerful harbour master. ", 5)
	for _, c := range []struct {
		name          string
		before, after any
		want          string
	}{
		{"nothing", catalog.Preset{Name: "a", Model: "m"}, catalog.Preset{Name: "a", Model: "m"}, ""},
		{"a number", catalog.Preset{Defaults: catalog.Defaults{Temperature: &cold}}, catalog.Preset{Defaults: catalog.Defaults{Temperature: &warm}}, "temperature 0.8 instead of 0.2"},
		{"what was not there", catalog.Preset{}, catalog.Preset{Defaults: catalog.Defaults{Temperature: &warm}}, "temperature 0.8 instead of null"},
		{"a long text is not repeated", catalog.Preset{}, catalog.Preset{Instructions: long}, "instructions"},
		{"several, in their order", map[string]any{"b": 1, "a": 1}, map[string]any{"a": 2, "b": 2}, "a 2 instead of 1, b 2 instead of 1"},
		{"the same in another order", map[string]any{"limits": map[string]any{"x": 1, "y": 2}}, map[string]any{"limits": map[string]int{"y": 2, "x": 1}}, ""},
	} {
		got, err := changed(c.before, c.after)
		if err != nil || got != c.want {
			t.Errorf("%s: %q, %v; want %q", c.name, got, err, c.want)
		}
	}
}

func TestTimesThatAreOver(t *testing.T) {
	now := time.Date(2031, 5, 10, 12, 0, 0, 0, time.Local)
	for text, want := range map[string]time.Time{"24h": now.Add(-24 * time.Hour), "7d": now.AddDate(0, 0, -7), "2031-05-01": time.Date(2031, 5, 1, 0, 0, 0, 0, time.Local), "90s": now.Add(-90 * time.Second)} {
		if got, err := passed("--since", text, now); err != nil || !got.Equal(want) {
			t.Errorf("%s is %s, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "soon", "never", "-3h", "2031-13-01"} {
		if got, err := passed("--since", text, now); err == nil || !strings.Contains(err.Error(), "--since") {
			t.Errorf("%q is %s, %v", text, got, err)
		}
	}
}

// Costs are money where they are shown, and counts elsewhere.
func TestStandingCells(t *testing.T) {
	var cost, requests server.LimitStanding
	cost.What, cost.Limit, cost.Remaining, cost.ResetSeconds = "cost a month", 1_500_000, 250_000, 3600
	requests.What, requests.Limit, requests.Remaining = "requests a day", 10, 3
	if got := strings.Join(standingCells(cost), "|"); got != "0.25|1.50|1h0m0s" {
		t.Error(got)
	}
	if got := strings.Join(standingCells(requests), "|"); got != "3|10|" {
		t.Error(got)
	}
}

// A name that has to be there before its keys are gives nobody what is meant for them.
func TestNamesBeforeTheirKeys(t *testing.T) {
	n := catalog.Name{Name: "pier", Of: []catalog.Target{{To: "a", Keys: []string{"clerk"}}, {To: "b"}}}
	first, some := without(n, func(named string) bool { return named == "clerk" })
	if !some || !first.Of[0].Drained || first.Of[0].Keys != nil || first.Of[1].Drained || n.Of[0].Drained || n.Of[0].Keys == nil {
		t.Errorf("%+v of %+v, %v", first, n, some)
	}
}
