package cli

import (
	"strings"
	"testing"
	"time"

	"kindredgate/internal/server"
)

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
