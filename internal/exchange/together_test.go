package exchange

import (
	"context"
	"errors"
	"iter"
	"strings"
	"testing"
)

func counting(n int, fail error) func(context.Context) iter.Seq2[int, error] {
	return func(ctx context.Context) iter.Seq2[int, error] {
		return func(yield func(int, error) bool) {
			for i := range n {
				if ctx.Err() != nil || !yield(i, nil) {
					return
				}
			}
			if fail != nil {
				yield(0, fail)
			}
		}
	}
}

func TestTogether(t *testing.T) {
	// Everything comes, each stream in its own order.
	next := make([]int, 3)
	for item, err := range Together(t.Context(), counting(100, nil), counting(0, nil), counting(50, nil)) {
		if err != nil || item.Item != next[item.Stream] {
			t.Fatalf("%+v after %v, %v", item, next, err)
		}
		next[item.Stream]++
	}
	if next[0] != 100 || next[1] != 0 || next[2] != 50 {
		t.Errorf("%v", next)
	}
	// The first error ends all; so does leaving.
	broken := errors.New("broken")
	var last error
	for _, err := range Together(t.Context(), counting(3, broken), counting(1<<30, nil)) {
		last = err
	}
	if !errors.Is(last, broken) {
		t.Errorf("%v", last)
	}
	for range Together(t.Context(), counting(1<<30, nil), counting(1<<30, nil)) {
		break
	}
	// A cancelled context is an error, not an end.
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	n := 0
	for _, err := range Together(ctx, counting(1<<30, nil), counting(1<<30, nil)) {
		if n++; n == 10 {
			cancel()
		}
		last = err
	}
	if !errors.Is(last, context.Canceled) {
		t.Errorf("%v after %d items", last, n)
	}
	// A panic is the error of the stream that it is in, and ends the others.
	panicking := func(context.Context) iter.Seq2[int, error] {
		return func(yield func(int, error) bool) {
			yield(1, nil)
			panic("oh")
		}
	}
	last = nil
	for item, err := range Together(t.Context(), counting(1<<30, nil), panicking) {
		if last = err; err != nil && item.Stream != 1 {
			t.Errorf("the panic is stream %d's", item.Stream)
		}
	}
	if last == nil || !strings.Contains(last.Error(), "panic: oh") {
		t.Errorf("after a panic: %v", last)
	}
}
