package check

import (
	"crypto/x509"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/config"
	"kindredgate/internal/keyring"
	"kindredgate/internal/prompt"
	"kindredgate/internal/record"
)

var now = time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)

// well are the facts of a gate with which nothing is wrong.
func well() Facts {
	return Facts{Now: now, Config: config.Default(), File: "/etc/gate.yaml", BaseURL: "http://127.0.0.1:7717/v1", Keys: []keyring.Key{{ID: "a", Terms: keyring.Terms{Label: "bot"}}},
		Models: []catalog.Model{{ID: "harbour-4m", Size: 4 << 20, Use: catalog.Chat, Template: &prompt.Abilities{}}}, Memory: 8 << 30, Available: 4 << 30, Processors: 2, Kernels: "avx2",
		Disks: []Disk{{"data", "/data", 100 << 30}}, Private: []Private{{"/data/owner.key", 0o600}}}
}

func TestLook(t *testing.T) {
	for _, f := range Look(well()) {
		if f.State != OK || f.Remedy != "" || f.Said == "" {
			t.Errorf("with nothing wrong: %+v", f)
		}
	}
	ended := func(code, label string, state record.State, seconds float64, n int) (list []record.Record) {
		for range n {
			list = append(list, record.Record{Code: code, Label: label, Model: "m", State: state, Took: 1000 * seconds})
		}
		return list
	}
	cert := func(from, to time.Time, names ...string) *x509.Certificate {
		return &x509.Certificate{NotBefore: from, NotAfter: to, DNSNames: names}
	}
	day := 24 * time.Hour
	for _, c := range []struct {
		name   string
		state  State
		said   string
		change func(*Facts)
	}{
		{"configuration", Error, "line 3", func(f *Facts) { f.Problem = "line 3: no" }},
		{"configuration", Warning, "listen", func(f *Facts) { f.Pending = []string{"listen"} }},
		{"declarations", Warning, "declares", func(f *Facts) { f.Declared = true }},
		{"reach", Warning, "own address", func(f *Facts) { f.Config.Listen = "0.0.0.0:7717" }},
		{"reach", Warning, "not encrypted", func(f *Facts) { f.Config.Network.Listen = []string{"192.0.2.1:80"} }},
		{"reach", OK, "under TLS", func(f *Facts) {
			f.Config.Network.Listen, f.Config.Network.Certificate = []string{"192.0.2.1:443", "unix:/x"}, "c.pem"
		}},
		{"base URL", Warning, "cannot use", func(f *Facts) { f.Config.Network.Listen = []string{"0.0.0.0:443"} }},
		{"access", Warning, "open", func(f *Facts) { f.Config.Access = config.Open }},
		{"pages", Warning, "every origin", func(f *Facts) { f.Config.BrowserOrigins = []string{"*"} }},
		{"certificate", Error, "half", func(f *Facts) { f.CertificateError = "half a file" }},
		{"certificate", Error, "expired on 2031-04-30", func(f *Facts) { f.Certificate = cert(now.Add(-90*day), now.Add(-day)) }},
		{"certificate", Error, "valid from", func(f *Facts) { f.Certificate = cert(now.Add(day), now.Add(90*day)) }},
		{"certificate", Warning, "expires on", func(f *Facts) { f.Certificate = cert(now.Add(-day), now.Add(20*day)) }},
		{"certificate", OK, "valid until", func(f *Facts) { f.Certificate = cert(now.Add(-day), now.Add(90*day)) }},
		{"certificate", Error, "not for gate.example", func(f *Facts) {
			f.Certificate, f.Config.Network.BaseURL = cert(now.Add(-day), now.Add(90*day), "other.example"), "https://gate.example/v1"
		}},
		{"host names", Warning, `"evil.example"`, func(f *Facts) { f.Mishaps = map[string]Mishap{"unknown_host": {2, "evil.example", now}} }},
		{"paths", Warning, "/v1/v1/models", func(f *Facts) { f.Mishaps = map[string]Mishap{"unknown_path": {1, "/v1/v1/models", now}} }},
		{"wrong keys", Warning, "3 times", func(f *Facts) { f.Mishaps = map[string]Mishap{"invalid_api_key": {3, "192.0.2.9", now}} }},
		{"guessing", Warning, "192.0.2.9", func(f *Facts) { f.Mishaps = map[string]Mishap{"too_many_failures": {3, "192.0.2.9", now}} }},
		{"other pages", Warning, "https://a.example", func(f *Facts) { f.Mishaps = map[string]Mishap{"cross_origin": {1, "https://a.example", now}} }},
		{"keys", Warning, "no application", func(f *Facts) { f.Keys[0].Revoked = now }},
		{"keys", OK, "0 are valid", func(f *Facts) { f.Keys, f.Config.Access = nil, config.Open }},
		{"keys", Warning, "bot on 2031-05-03", func(f *Facts) { f.Keys[0].Expires = now.Add(2 * day) }},
		{"keys", Error, "bot", func(f *Facts) { f.Keys[0].Expires, f.Keys[0].LastUsed = now.Add(-day), now.Add(-2*day) }},
		{"limits", Warning, `"bot" 2 times`, func(f *Facts) { f.Bad = ended("rate_limit_exceeded", "bot", record.Refused, 0, 2) }},
		{"models", Error, "none", func(f *Facts) { f.Models = nil }},
		{"models", OK, "machines have some", func(f *Facts) {
			f.Models, f.Machines = nil, []Machine{{Name: "attic", Joined: true, Healthy: true, Models: []string{"m"}}}
		}},
		{"models", Error, "denied", func(f *Facts) { f.ModelsProblem = "denied" }},
		{"models", Warning, "broken: cut short", func(f *Facts) { f.Models = append(f.Models, catalog.Model{ID: "broken", Problem: "cut short"}) }},
		{"names", Error, `name "assistant" for gone`, func(f *Facts) { f.Names = []catalog.Name{{Name: "assistant", Of: []catalog.Target{{To: "gone"}}}} }},
		{"machines", Error, "attic at http://attic.example/v1 (nothing listens)", func(f *Facts) {
			f.Machines = []Machine{{Name: "attic", URL: "http://attic.example/v1", Seen: true, Why: "nothing listens"}}
		}},
		{"tools", Error, "these tool servers cannot be used: berths (no berth is free)", func(f *Facts) { f.Tools = []Tools{{Name: "ferry"}, {Name: "berths", Failed: "no berth is free"}} }},
		{"tools", Warning, "some tools cannot be offered: 2 of ferry", func(f *Facts) { f.Tools = []Tools{{Name: "ferry", Skipped: []string{"a", "b"}}} }},
		{"tools", Warning, "no tool server has berths/hold of preset clerk", func(f *Facts) {
			f.Tools, f.Presets = []Tools{{Name: "ferry"}}, []catalog.Preset{{Name: "clerk", Model: "m", Tools: []string{"ferry", "berths/hold"}}}
		}},
		{"tools", OK, "1 tool servers are set up", func(f *Facts) { f.Tools = []Tools{{Name: "ferry"}} }},
		{"machines", Warning, "without encryption: attic", func(f *Facts) { f.Machines = []Machine{{Name: "attic", Healthy: true, Seen: true}} }},
		{"machines", Warning, "take no work now: attic (it runs on battery)", func(f *Facts) {
			f.Machines = []Machine{{Name: "attic", Joined: true, Encrypted: true, Seen: true, Why: "it runs on battery"}}
		}},
		{"clocks", Warning, "attic by -300 s, the gate south by +6 s", func(f *Facts) {
			f.Machines = []Machine{{Name: "attic", Joined: true, Healthy: true, Skew: -5 * time.Minute}, {Name: "cellar", Joined: true, Healthy: true, Skew: time.Second}}
			f.Gates = []Gate{{Name: "north", Self: true}, {Name: "south", There: true, Skew: 6 * time.Second}}
		}},
		{"clocks", OK, "agree", func(f *Facts) { f.Gates = []Gate{{Name: "north", Self: true}} }},
		{"versions", Warning, "this gate has 0.2, others another version: attic has 0.1", func(f *Facts) {
			f.Version, f.Machines = "0.2", []Machine{{Name: "attic", Joined: true, Healthy: true, Program: "0.1"}, {Name: "cellar", Joined: true, Healthy: true, Program: "0.2"}}
		}},
		{"lines", Warning, "attic (3 times)", func(f *Facts) { f.Machines = []Machine{{Name: "attic", Joined: true, Healthy: true, Returns: 3}} }},
		{"files", Warning, "harbour-4m (attic and loft, others than cellar)", func(f *Facts) {
			f.Machines = []Machine{{Name: "attic", Joined: true, Digests: map[string]string{"harbour-4m": "1"}}, {Name: "loft", Joined: true, Digests: map[string]string{"harbour-4m": "1"}},
				{Name: "cellar", Joined: true, Digests: map[string]string{"harbour-4m": "2", "m": "3"}}}
		}},
		{"gates", Error, "do not hear this one, which hears them: south", func(f *Facts) {
			f.Gates = []Gate{{Name: "north", Self: true}, {Name: "south", There: true, Unseen: true}}
		}},
		{"gates", Warning, "7 changes of this gate have not reached the others", func(f *Facts) { f.Gates = []Gate{{Name: "north", Self: true, Pending: 7}} }},
		{"gates", Warning, "nothing is heard of south", func(f *Facts) { f.Gates = []Gate{{Name: "north", Self: true}, {Name: "south"}} }},
		{"gates", OK, "2 share", func(f *Facts) { f.Gates = []Gate{{Name: "north", Self: true}, {Name: "south", There: true}} }},
		{"names", OK, "have their models", func(f *Facts) {
			f.Machines = []Machine{{Name: "attic", Healthy: true, Joined: true, Models: []string{"m"}}}
			f.Names = []catalog.Name{{Name: "x", Of: []catalog.Target{{To: "*/m"}, {To: "m"}}}}
		}},
		{"names", OK, "have their models", func(f *Facts) {
			f.Machines = []Machine{{Name: "attic", Healthy: true, Seen: true, Encrypted: true, Models: []string{"m"}}}
			f.Names = []catalog.Name{{Name: "x", Of: []catalog.Target{{To: "attic/m"}}, Shadow: &catalog.Shadow{To: "harbour-4m"}}}
		}},
		{"names", Error, "preset master of model gone", func(f *Facts) { f.Presets = []catalog.Preset{{Name: "master", Model: "gone"}} }},
		{"asked names", Warning, `"m" once`, func(f *Facts) { f.Bad = ended("model_not_found", "bot", record.Refused, 0, 1) }},
		{"context", Warning, `with "m" once`, func(f *Facts) { f.Bad = ended("context_length_exceeded", "bot", record.Failed, 0, 1) }},
		{"templates", Warning, "harbour-4m", func(f *Facts) { f.Models[0].Template = nil }},
		{"memory", Error, "models may take", func(f *Facts) { f.Memory = 1 << 20 }},
		{"memory", Warning, "free", func(f *Facts) { f.Available = 1 << 20 }},
		{"client patience", Warning, `"bot after 60 s" 3 times`, func(f *Facts) { f.Bad = ended("", "bot", record.Cancelled, 60.3, 3) }},
		{"client patience", OK, "no client", func(f *Facts) { f.Bad = ended("", "bot", record.Cancelled, 60.3, 2) }},
		{"client patience", OK, "no client", func(f *Facts) { f.Bad = ended("", "bot", record.Cancelled, 42, 9) }},
		{"ledger", Error, "7 exchanges", func(f *Facts) { f.Lost = 7 }},
		{"clock", Error, "set back", func(f *Facts) { f.Longest = now.Add(time.Hour) }},
		{"clock", Error, "2001", func(f *Facts) { f.Now = time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC) }},
		{"disk of the data", Warning, "1.0 GB", func(f *Facts) { f.Disks[0].Free = 1 << 30 }},
		{"disk of the data", Error, "100 MB", func(f *Facts) { f.Disks[0].Free = 100 << 20 }},
		{"disk of the data", Warning, "cannot be told", func(f *Facts) { f.Disks[0].Free = -1 }},
		{"permissions", Error, "/data/owner.key (-rw-r--r--)", func(f *Facts) { f.Private[0].Mode = 0o644 }},
		{"processor", Warning, "vector", func(f *Facts) { f.Kernels = "go" }},
	} {
		f := well()
		c.change(&f)
		found := false
		for _, got := range Look(f) {
			if got.Name == c.name {
				found = true
				if got.State != c.state || !strings.Contains(got.Said, c.said) || (got.Remedy == "") != (c.state == OK) {
					t.Errorf("%s: %+v; wanted %s with %q", c.name, got, c.state, c.said)
				}
			}
		}
		if !found {
			t.Errorf("%s (%s) was not found", c.name, c.said)
		}
	}
}
