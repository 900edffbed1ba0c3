package server

import (
	"strings"
	"testing"

	"kindredgate/internal/runner/scripted"
)

// Ids with slashes find their routes, escaped or not, and nothing else changes its path.
func TestSlashesInIDs(t *testing.T) {
	all := start(t, &scripted.Runner{}).server.routes()
	for _, c := range []struct{ method, path, want string }{
		{"GET", "/v1/models/harbour-4m", "/v1/models/harbour-4m"},
		{"GET", "/v1/models", "/v1/models"},
		{"GET", "/v1/models/cellar/harbour-4m", "/v1/models/cellar%2Fharbour-4m"},
		{"GET", "/v1/models/cellar%2Fharbour-4m", "/v1/models/cellar%2Fharbour-4m"},
		{"POST", "/gate/models/a/b/c/load", "/gate/models/a%2Fb%2Fc/load"},
		{"GET", "/gate/models/a/load", "/gate/models/a%2Fload"},
		{"GET", "/gate/exchanges/live", "/gate/exchanges/live"},
		{"DELETE", "/gate/presets/a/b", "/gate/presets/a%2Fb"},
		{"GET", "/v1/responses/resp_1/input_items", "/v1/responses/resp_1/input_items"},
		{"POST", "/v1/nothing/at/all", "/v1/nothing/at/all"},
	} {
		if got := slashed(all, c.method, c.path); got != c.want {
			t.Errorf("%s %s is looked for as %s, not %s", c.method, c.path, got, c.want)
		}
	}
	h := start(t, &scripted.Runner{})
	for _, c := range []struct{ method, path, want string }{
		{"GET", "/v1/models/cellar/large", `\"cellar/large\"`},
		{"GET", "/v1/models/cellar%2Flarge", `\"cellar/large\"`},
		{"GET", "/gate/presets/a/b", `\"a/b\"`},
		{"POST", "/gate/models/a%2Fb/load", `\"a/b\"`},
		{"GET", "/v1/files", "/v1/files is not offered"},
		{"POST", "/v1/vector_stores/x/search", "/v1/vector_stores/x/search is not offered"},
		{"POST", "/v1/images/edits", "/v1/images/edits is not answered here"},
	} {
		if resp, body := h.do(t, c.method, c.path, h.owner, "{}", "Content-Type", "application/json"); resp.StatusCode != 404 || !strings.Contains(body, c.want) {
			t.Errorf("%s %s: %d %s", c.method, c.path, resp.StatusCode, body)
		}
	}
}
