package fleet_test

import (
	"context"
	"crypto/x509"
	"log/slog"
	"os"
	"testing"
	"time"

	"kindredgate/internal/fleet"
	"kindredgate/internal/fleet/fleettest"
)

// nobody has joined, and nobody is invited.
type nobody struct{ fleet.Records }

func (nobody) Joined(context.Context) ([]fleet.Joined, error) { return nil, nil }

// alone is what a gate shares of which nothing changes.
type alone struct{ fleet.Changes }

func (alone) Pending(context.Context, int) ([]fleet.Change, error) { return nil, nil }
func (alone) Behind(context.Context) (int, error)                  { return 0, nil }
func (alone) Waiting() <-chan struct{}                             { return nil }

// What gates share is kept three times, also when it was made while there was one server.
func TestMoreServers(t *testing.T) {
	c := fleettest.Start(t, 3)
	raw, err := os.ReadFile(c.Roots)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(raw)
	log := slog.New(slog.DiscardHandler)
	h, err := fleet.Open(t.Context(), fleet.Options{Servers: c.URLs, Roots: roots, Secrets: c.Secrets, Records: nobody{}, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	g, err := h.Share(t.Context(), fleet.GatesOptions{Name: "north", BaseURL: func() string { return "" }, Open: func() int { return 0 }, Changes: alone{}, Keep: time.Hour, Responses: time.Hour, Log: log})
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	eventually := func(what string, is func() bool) {
		t.Helper()
		for end := time.Now().Add(60 * time.Second); !is(); time.Sleep(100 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("waited in vain for %s", what)
			}
		}
	}
	kept := func(times int) func() bool {
		return func() bool { return g.Copies(t) == times }
	}
	eventually("everything to be kept three times", kept(3))
	g.KeepOnce(t)
	eventually("everything to be kept once", kept(1))
	g.Multiply(t.Context())
	eventually("everything to be kept three times again", kept(3))
}
