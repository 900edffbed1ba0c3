package boot_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/exchange"
	"kindredgate/internal/standin"
)

// BenchmarkProxiedOwnShare has 64 clients read streams of 16 pieces, 20 ms apart, through a gate, and measures the gate's own part of the time of each:
// from the request's coming to its reaching the machine, and from the machine's last word to the end of the answer.
func BenchmarkProxiedOwnShare(b *testing.B) {
	var reached, last sync.Map // times, by the trace that a request carries
	s := standin.New()
	s.Runner.Pieces = func(*exchange.Request) []string {
		return strings.SplitAfter("one two three four five six seven eight nine ten a b c d e f", " ")
	}
	s.Runner.Before = func(ctx context.Context, _ int) error {
		select {
		case <-time.After(20 * time.Millisecond):
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	machine := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		trace := r.Header.Get("Traceparent")
		reached.Store(trace, time.Now())
		s.ServeHTTP(w, r)
		last.Store(trace, time.Now())
	}))
	defer machine.Close()
	cfg := config.Default()
	cfg.Listen, cfg.Data, cfg.Models.Folders = "127.0.0.1:0", b.TempDir(), []string{b.TempDir()}
	cfg.Runners = map[string]config.Runner{"attic": {URL: machine.URL + "/v1"}}
	h, err := boot.Open(b.Context(), cfg, options)
	if err != nil {
		b.Fatal(err)
	}
	defer h.Close()
	key, err := h.Gate.Keys.IssueOwner(b.Context(), "")
	if err != nil {
		b.Fatal(err)
	}
	var mu sync.Mutex
	var shares []time.Duration
	outer := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		came := time.Now()
		h.Server.ServeHTTP(w, r)
		ended := time.Now()
		trace := r.Header.Get("Traceparent")
		at, ok := reached.LoadAndDelete(trace)
		over, ok2 := last.LoadAndDelete(trace)
		if ok && ok2 {
			mu.Lock()
			shares = append(shares, at.(time.Time).Sub(came)+max(0, ended.Sub(over.(time.Time))))
			mu.Unlock()
		}
	}))
	defer outer.Close()
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	var next atomic.Int64
	var clients sync.WaitGroup
	b.ResetTimer()
	for i := range 64 {
		clients.Go(func() {
			time.Sleep(time.Duration(5*i) * time.Millisecond) // so that they do not come in waves
			for n := next.Add(1); n <= int64(b.N); n = next.Add(1) {
				req, err := http.NewRequest("POST", outer.URL+"/v1/chat/completions", strings.NewReader(`{"model":"attic/harbour-4m","stream":true,"messages":[{"role":"user","content":"When?"}]}`))
				if err != nil {
					b.Error(err)
					return
				}
				req.Header.Set("Authorization", "Bearer "+key)
				req.Header.Set("Traceparent", fmt.Sprintf("00-%032x-0000000000000001-01", n))
				resp, err := client.Do(req)
				if err != nil || resp.StatusCode != 200 {
					b.Error(err)
					return
				}
				_, _ = io.Copy(io.Discard, resp.Body) // it was whole in the tests
				resp.Body.Close()
			}
		})
	}
	clients.Wait()
	b.StopTimer()
	slices.Sort(shares)
	if len(shares) == 0 {
		b.Fatal("no request was measured")
	}
	b.ReportMetric(float64(shares[len(shares)/2].Microseconds()), "median-µs")
	b.ReportMetric(float64(shares[len(shares)*95/100].Microseconds()), "p95-µs")
}
