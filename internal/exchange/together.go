package exchange

import (
	"context"
	"fmt"
	"iter"
	"runtime/debug"
	"sync"
)

// Numbered is an item of one of several streams, with the stream's number.
type Numbered[T any] struct {
	Stream int
	Item   T
}

// Panicked makes an error of a recovered panic, with the stack for the log.
func Panicked(p any) error { return fmt.Errorf("panic: %v\n%s", p, debug.Stack()) }

// Together runs streams side by side and gives their items as they come. The first error ends them all; a panic is one. Leaving the
// loop cancels the context that the streams got and waits for them.
func Together[T any](ctx context.Context, streams ...func(context.Context) iter.Seq2[T, error]) iter.Seq2[Numbered[T], error] {
	return func(yield func(Numbered[T], error) bool) {
		if len(streams) == 1 {
			for item, err := range streams[0](ctx) {
				if !yield(Numbered[T]{0, item}, err) || err != nil {
					return
				}
			}
			return
		}
		type result struct {
			Numbered[T]
			err error
		}
		ctx, cancel := context.WithCancel(ctx)
		results := make(chan result)
		var running sync.WaitGroup
		defer func() {
			cancel()
			running.Wait()
		}()
		for i, stream := range streams {
			running.Go(func() {
				defer func() {
					if p := recover(); p != nil {
						select {
						case results <- result{Numbered[T]{Stream: i}, Panicked(p)}:
						case <-ctx.Done():
						}
					}
				}()
				for item, err := range stream(ctx) {
					select {
					case results <- result{Numbered[T]{i, item}, err}:
					case <-ctx.Done():
						return
					}
				}
			})
		}
		ended := make(chan struct{})
		go func() {
			running.Wait()
			close(ended)
		}()
		for {
			select {
			case r := <-results:
				if !yield(r.Numbered, r.err) || r.err != nil {
					return
				}
			case <-ended:
				if ctx.Err() != nil {
					yield(Numbered[T]{}, context.Cause(ctx))
				}
				return
			}
		}
	}
}
