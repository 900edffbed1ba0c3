package fleet

import (
	"context"
	"testing"
)

// Multiply is what is done now and then.
func (g *Gates) Multiply(ctx context.Context) { g.multiply(ctx) }

// Copies is how often the servers keep all that gates share; 0 if they do not have all of it, or not each as often.
func (g *Gates) Copies(t *testing.T) (times int) {
	t.Helper()
	for _, name := range keptStreams {
		stream, err := g.js.Stream(t.Context(), name)
		if err != nil {
			return 0
		}
		c := stream.CachedInfo().Cluster
		if c == nil || times > 0 && len(c.Replicas)+1 != times {
			return 0
		}
		times = len(c.Replicas) + 1
	}
	return times
}

// KeepOnce has the servers keep it as one alone would.
func (g *Gates) KeepOnce(t *testing.T) {
	t.Helper()
	for _, name := range keptStreams {
		stream, err := g.js.Stream(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		c := stream.CachedInfo().Config
		c.Replicas = 1
		if _, err := g.js.UpdateStream(t.Context(), c); err != nil {
			t.Fatal(err)
		}
	}
}
