package server

import (
	"encoding/json"
	"strings"
	"testing"

	"kindredgate/internal/runner/scripted"
)

// What is declared is applied whole or not at all, whatever step fails; looking changes nothing; and applied again nothing is left to do.
func TestApply(t *testing.T) {
	h := start(t, &scripted.Runner{})
	state := func() string {
		t.Helper()
		var all []string
		for _, path := range []string{"/gate/names", "/gate/presets"} {
			_, body := h.do(t, "GET", path, h.owner, "")
			all = append(all, body)
		}
		var keys struct{ Keys []KeyInfo }
		h.told(t, "/gate/keys", &keys)
		for _, k := range keys.Keys {
			if k.Revoked == nil {
				all = append(all, k.Label, k.Limits.String(), strings.Join(k.Models, " "))
			}
		}
		return strings.Join(all, "\n")
	}
	apply := func(query, body string, status int) (steps []string) {
		t.Helper()
		resp, raw := h.do(t, "POST", "/gate/apply"+query, h.owner, body, "Content-Type", "application/json")
		var done Applied
		if err := json.Unmarshal([]byte(raw), &done); err != nil || resp.StatusCode != status {
			t.Fatalf("%s: %d %s", body, resp.StatusCode, raw)
		}
		for _, s := range done.Steps {
			steps = append(steps, s.What+" "+s.Name+" "+s.Change)
			if (s.Key != "") != (query == "" && s.Change == "is created") {
				t.Errorf("%+v has the key %q", s, s.Key)
			}
		}
		if status != 200 {
			steps = []string{raw}
		}
		return steps
	}
	const first = `{"names": {"timetable": "harbour-4m"}, "presets": {"caller": {"model": "harbour-4m", "temperature": 0}}, "keys": {"kiosk": {"models": ["timetable"], "limits": {"requests_per_minute": 10}}}}`
	before := state()
	if steps := apply("?check=true", first, 200); len(steps) != 3 || state() != before {
		t.Errorf("looking says %q, and has changed something: %v", steps, state() != before)
	}
	if steps := apply("", first, 200); len(steps) != 3 {
		t.Errorf("%q", steps)
	}
	if steps := apply("", first, 200); len(steps) != 0 {
		t.Errorf("again: %q", steps)
	}
	before = state()
	for name, c := range map[string]struct{ body, want string }{
		"a preset, at the end of the way": {`{"names": {"timetable": "harbour-4m", "x": "harbour-4m"}, "presets": {"other": {"model": "harbour-4m"}, "zz": {"model": "none"}}}`, `presets zz`},
		"a name, after presets":           {`{"names": {"x": "nope"}, "presets": {"other": {"model": "harbour-4m"}, "caller": {"model": "harbour-4m", "temperature": 1}}}`, `\"nope\" is not installed`},
		"a key, after names":              {`{"names": {"fresh": "harbour-4m"}, "keys": {"kiosk": {"limits": {"requests_per_minute": 20}}, "second": {}, "third": {"models": ["nope"]}}}`, `\"nope\" is not installed`},
		"terms that cannot be":            {`{"names": {}, "keys": {"kiosk": {"verse": 1}}}`, `keys.kiosk: there is no field \"verse\"`},
		"a name without a target":         {`{"presets": {}, "names": {"x": []}}`, `names.x`},
		"a section that there is not":     {`{"verses": {}}`, `unknown field`},
	} {
		if got := apply("", c.body, 400); !strings.Contains(got[0], strings.TrimPrefix(c.want, "presets ")) {
			t.Errorf("%s: %s", name, got[0])
		}
		if now := state(); now != before {
			t.Errorf("%s: something was changed:\n%s\nbefore:\n%s", name, now, before)
		}
	}
	if steps := apply("", `{"names": {}, "presets": {}, "keys": {"kiosk": {"limits": {"requests_per_minute": 20}}}}`, 200); strings.Join(steps, "; ") != "name timetable is removed; key kiosk (…) limits 20 req/min instead of 10 req/min; preset caller is removed" {
		if len(steps) != 3 || !strings.Contains(steps[1], "limits 20 req/min instead of 10 req/min") {
			t.Errorf("%q", steps)
		}
	}
}
