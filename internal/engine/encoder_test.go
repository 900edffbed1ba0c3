package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/model"
	"kindredgate/internal/weights/disk"
)

func newEncoder(t testing.TB, path string) *Encoder {
	t.Helper()
	c, err := disk.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := c.Close(); err != nil {
			t.Error(err)
		}
	})
	m, tok := opened(t, c)
	e, err := NewEncoder(m, tok, Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	return e
}

// Texts of several requests go together, as many as a batch holds, and become what they become alone; who leaves meanwhile takes nothing from others.
func TestEncodingsGoTogether(t *testing.T) {
	e := newEncoder(t, "../../demo/models/harbour-embed/harbour-embed.gguf")
	const n = 60
	texts, alone := make([]model.Text, n), make([][]float32, n)
	for i := range texts {
		ids, err := e.Tokens(fmt.Sprintf("Boat %d to Osmer is late by %d minutes.", i, i*i))
		if err != nil {
			t.Fatal(err)
		}
		texts[i] = model.Text{IDs: ids}
		out, err := e.Encode(t.Context(), texts[i:i+1])
		if err != nil {
			t.Fatal(err)
		}
		alone[i] = out[0]
	}
	e.turn <- struct{}{} // so that all of them wait
	leaving, leave := context.WithCancel(t.Context())
	var all sync.WaitGroup
	for i := range texts {
		all.Go(func() {
			ctx := t.Context()
			if i%7 == 3 {
				ctx = leaving
			}
			out, err := e.Encode(ctx, texts[i:i+1])
			switch {
			case i%7 == 3:
				if !errors.Is(err, context.Canceled) {
					t.Errorf("text %d, whose request was cancelled: %v", i, err)
				}
			case err != nil || !slices.Equal(out[0], alone[i]):
				t.Errorf("text %d is something else among others, %v", i, err)
			}
		})
	}
	waiting := func() int { e.mu.Lock(); defer e.mu.Unlock(); return len(e.queue) }
	until := func(done func() bool) {
		t.Helper()
		for deadline := time.Now().Add(20 * time.Second); !done(); runtime.Gosched() {
			if time.Now().After(deadline) {
				t.Fatalf("%d texts wait", waiting())
			}
		}
	}
	until(func() bool { return waiting() == n })
	leave()
	until(func() bool { return waiting() == n-len(texts)/7-1 })
	left := waiting()
	list := e.next()
	tokens := 0
	for _, b := range list {
		tokens += b.tokens
	}
	if len(list) < 2 || len(list) == left || tokens > batchTokens {
		t.Errorf("%d of %d go together, of %d tokens", len(list), left, tokens)
	}
	e.work(list)
	<-e.turn
	all.Wait()
}
