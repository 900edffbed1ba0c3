package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Hours are a part of the day, which may go over midnight.
func TestHours(t *testing.T) {
	at := func(clock string) time.Time {
		when, err := time.Parse("15:04", clock)
		if err != nil {
			t.Fatal(err)
		}
		return when
	}
	for hours, c := range map[Hours]struct{ in, out []string }{
		"":            {[]string{"00:00", "12:00", "23:59"}, nil},
		"09:00-17:30": {[]string{"09:00", "17:29"}, []string{"08:59", "17:30", "00:00"}},
		"20:00-08:00": {[]string{"20:00", "23:59", "00:00", "07:59"}, []string{"08:00", "19:59", "12:00"}},
		"nonsense":    {nil, []string{"00:00", "12:00"}},
	} {
		for _, clock := range c.in {
			if !hours.Has(at(clock)) {
				t.Errorf("%s is not within %q", clock, hours)
			}
		}
		for _, clock := range c.out {
			if hours.Has(at(clock)) {
				t.Errorf("%s is within %q", clock, hours)
			}
		}
	}
}

// What does not go together in the settings of a fleet is said, with what to write.
func TestMistakesOfFleets(t *testing.T) {
	for text, want := range map[string]string{
		"fleet: { listen: 7718 }": "must be an address and a port",
		"fleet: { listen: \"0.0.0.0:7718\", nats: [\"tls://n1:4222\"], credentials: x }":               "choose one",
		"fleet: { nats: [\"tls://n1:4222\"] }":                                                         "fleet.credentials is missing",
		"fleet: { credentials: x }":                                                                    "there are none",
		"fleet: { nats: [\"n1:4222\"], credentials: x }":                                               "looks like tls://",
		"fleet: { nats: [\"nats://n1.example:4222\"], credentials: x }":                                "not encrypted",
		"fleet: { listen: \"0.0.0.0:7718\", addresses: [\"gate.example:7718\"] }":                      "an address looks like",
		"fleet: { listen: \"0.0.0.0:7718\", name: \"The North\" }":                                     "small letters",
		"join: { at_once: 2 }":                                                                         "join.gate is missing",
		"join: { gate: \"tls://gate.example:7718\", at_once: -1 }":                                     "join.at_once is -1",
		"join: { gate: \"tls://gate.example:7718\", hours: \"evening\" }":                              "two times of the day",
		"join: { gate: \"tls://gate.example:7718\", hours: \"08:00-08:00\" }":                          "two times of the day",
		"join: { gate: \"tls://gate.example:7718\", on_main: true }":                                   "the nearest is \"join.on_mains\"",
		"fleet: { nats: [\"nats://127.0.0.1:4222\"], credentials: x }":                                 "",
		"join: { gate: \"tls://gate.example:7718\", models: [a], at_once: 2, hours: \"20:00-08:00\" }": "",
	} {
		file := filepath.Join(t.TempDir(), "gate.yaml")
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		_, err := Read(file)
		if (err != nil) != (want != "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}
