package measure

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/weights"
)

func tiny() (*weights.Checkpoint, error) { return Shapes[0].Checkpoint(weights.Q4_0) }

// A run gives every figure a value or a reason, and those that the machine limits their limit.
func TestRun(t *testing.T) {
	told := 0
	r, err := Run(t.Context(), Job{Name: "tiny", Open: tiny, Threads: 2, Budget: time.Minute, Progress: func(_ string, done, total int) {
		if done != told || done >= total {
			t.Errorf("step %d of %d comes after %d", done, total, told)
		}
		told++
	}})
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"load", "first.cold", "first.warm", "first.shared", "prefill.64", "prefill.512", "prefill.2048", "decode.1", "decode.2", "decode.4", "decode.8", "decode.16", "gap"} {
		f, ok := r.Find(id)
		if !ok || (f.Value <= 0) == (f.Skipped == "") {
			t.Errorf("%s: %+v, %v", id, f, ok)
		}
		if limited := strings.HasPrefix(id, "prefill") || strings.HasPrefix(id, "decode"); limited != (f.Limit > 0) {
			t.Errorf("%s has the limit %g by %q", id, f.Limit, f.By)
		}
	}
	l := r.Limits
	if l.Threads != 2 || l.ReadOne <= 0 || l.Read <= 0 || l.Integer <= 0 || l.Float <= 0 {
		t.Errorf("limits %+v", l)
	}
	if r.Weights != "Q4_0" || r.Size <= 0 {
		t.Errorf("%s, %d bytes", r.Weights, r.Size)
	}
}

// What does not fit into the time is left out, with the reason, and a run ends when its context does.
func TestRunIsBounded(t *testing.T) {
	r, err := Run(t.Context(), Job{Open: tiny, Budget: time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"first.shared", "prefill.512", "decode.8"} {
		if f, ok := r.Find(id); !ok || !strings.Contains(f.Skipped, "would take") {
			t.Errorf("%s: %+v", id, f)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Run(ctx, Job{Open: tiny}); !errors.Is(err, context.Canceled) {
		t.Errorf("error %v", err)
	}
	if _, err := Shapes[0].Checkpoint(weights.IQ4_XS); err == nil {
		t.Error("weights are made up of a type that cannot be written")
	}
}
