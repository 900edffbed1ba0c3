package gate

import (
	"strings"

	"kindredgate/internal/exchange"
)

// Requests that gates pass on to one another carry the Via header (RFC 9110, section 7.6.3), in which each gate names itself.

// gateName begins what a gate calls itself there.
const gateName = "kindred-gate-"

// mostGates is how many gates a request may come through.
const mostGates = 6

// via is this gate's entry.
func (g *Gate) via() string { return "1.1 " + gateName + g.ID }

// through is what a request has come through when this gate passes it on.
func (g *Gate) through(via []string) []string { return append(via[:len(via):len(via)], g.via()) }

// circles refuses a request that has come through this gate before, or through too many.
func (g *Gate) circles(via []string) error {
	gates := 0
	for _, v := range via {
		if v == g.via() {
			return exchange.Errorf(exchange.Looped, "request_in_a_circle", "the request has come through this gate before: gates point at one another in a circle; look at the runners and names of each")
		}
		if strings.Contains(v, " "+gateName) {
			gates++
		}
	}
	if gates >= mostGates {
		return exchange.Errorf(exchange.Looped, "request_in_a_circle", "the request has come through %d gates, as many as may be", gates)
	}
	return nil
}
