// Command standin runs the server from a script that tests use for other machines, to see how a gate takes one that is slow or breaks.
//
//	go run ./tools/standin -listen 127.0.0.1:7801 -first 2s -cut 5
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/standin"
)

func main() {
	var f standin.Fault
	listen := flag.String("listen", "127.0.0.1:7801", "address")
	key := flag.String("key", "", "that is wanted")
	text := flag.String("text", "", "of every answer; what was asked if it is empty")
	pause := flag.Duration("pause", 0, "between tokens")
	flag.DurationVar(&f.Before, "first", 0, "ahead of the first token")
	flag.IntVar(&f.Status, "status", 0, "in the place of answers")
	flag.StringVar(&f.RetryAfter, "retry-after", "", "with it")
	flag.IntVar(&f.CutAfter, "cut", 0, "pieces after which the connection is closed")
	flag.IntVar(&f.SilentAt, "silent", 0, "piece from which on nothing comes")
	flag.StringVar(&f.Redirect, "redirect", "", "to there")
	flag.Parse()
	s := standin.New()
	s.Key = *key
	s.Runner.Before = func(ctx context.Context, _ int) error {
		if *pause == 0 {
			return nil
		}
		select {
		case <-time.After(*pause):
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if *text != "" {
		s.Runner.Pieces = func(*exchange.Request) []string { return scripted.Words(*text) }
	}
	s.Break(f)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	h := &http.Server{Addr: *listen, Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		_ = h.Close()
	}()
	fmt.Printf("a server from a script at http://%s/v1\n", *listen)
	if err := h.ListenAndServe(); !errors.Is(err, http.ErrServerClosed) {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
