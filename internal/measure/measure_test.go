package measure

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/engine"
	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/tokenizer"
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

// A made-up network of each kind answers, a second turn reads only what is new, and contexts stay within their memory.
func TestKindsOfNetworks(t *testing.T) {
	for _, shape := range Shapes {
		if !strings.HasPrefix(shape.Name, "tiny") {
			continue
		}
		t.Run(shape.Name, func(t *testing.T) {
			c, err := shape.Checkpoint(weights.Q4_0)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { c.Close() })
			m, err := model.Load(c)
			if err != nil {
				t.Fatal(err)
			}
			definition, err := c.Tokenizer()
			if err != nil {
				t.Fatal(err)
			}
			tok, err := tokenizer.New(definition)
			if err != nil {
				t.Fatal(err)
			}
			budget := 2 * kv.Bytes(m.KVShape(), kv.F16, 1024)
			e, err := engine.New(m, tok, engine.Options{Memory: budget})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(e.Close)
			turn := func(prompt []int32) (cached int, ids []int32) {
				for step, err := range e.Generate(t.Context(), engine.Job{Prompt: prompt, MaxTokens: 8, NeverEnds: true}) {
					if err != nil {
						t.Fatal(err)
					}
					cached += step.Cached
					if step.Token != engine.NoToken {
						ids = append(ids, step.Token)
					}
				}
				return cached, ids
			}
			prompt := make([]int32, 700)
			for i := range prompt {
				prompt[i] = int32(i * 7 % 4000)
			}
			_, first := turn(prompt)
			if len(first) != 8 {
				t.Fatalf("%d tokens", len(first))
			}
			next := append(append(prompt, first...), 1, 2, 3)
			if cached, ids := turn(next); cached < len(next)-3-45 || len(ids) != 8 {
				t.Errorf("the second turn reads %d tokens, and gives %d", len(next)-cached, len(ids))
			}
			if use := e.Pool().Use(); int64(use.Busy+use.Kept)*e.Pool().PageBytes() > budget {
				t.Errorf("contexts take %d pages of %d bytes", use.Busy+use.Kept, e.Pool().PageBytes())
			}
		})
	}
}
