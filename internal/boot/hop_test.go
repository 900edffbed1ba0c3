package boot_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/exchange"
	"kindredgate/internal/fleet"
)

// ticking answers with the times at which it says so, a piece at a time.
type ticking struct {
	pieces int
	every  time.Duration
}

func (r ticking) Run(ctx context.Context, _ fleet.Work, _ *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		tick := time.NewTicker(r.every)
		defer tick.Stop()
		for i := range r.pieces + 1 {
			select {
			case <-tick.C:
			case <-ctx.Done():
				yield(nil, context.Cause(ctx))
				return
			}
			var e exchange.Event = exchange.TextDelta{Text: fmt.Sprintf("%d ", time.Now().UnixNano()), Tokens: 1}
			if i == 0 {
				e = exchange.Started{PromptTokens: 1}
			}
			if !yield(e, nil) {
				return
			}
		}
		yield(exchange.Finish{Reason: exchange.Stopped, Tokens: r.pieces}, nil)
	}
}

func (ticking) Embed(context.Context, fleet.Work, *exchange.Embedding) (*exchange.Vectors, error) {
	return &exchange.Vectors{}, nil
}

func (ticking) Rank(context.Context, fleet.Work, *exchange.Ranking) (*exchange.Relevance, error) {
	return &exchange.Relevance{}, nil
}

// machineVariable has a process of this test be a machine: with these credentials, answering every so often.
const machineVariable = "KINDRED_TEST_MACHINE"

// TestBeAMachine is the machines of BenchmarkJoinedStreams, which are processes of their own.
func TestBeAMachine(t *testing.T) {
	given := os.Getenv(machineVariable)
	if given == "" {
		t.Skip("this is no machine")
	}
	var c fleet.Credentials
	if err := json.Unmarshal([]byte(given), &c); err != nil {
		t.Fatal(err)
	}
	m, err := fleet.Serve(fleet.MemberOptions{Credentials: c, Runner: ticking{50, 100 * time.Millisecond}, Log: slog.New(slog.DiscardHandler), Offer: func() fleet.Offer {
		return fleet.Offer{Models: []fleet.Model{{Name: "harbour-4m", Use: "chat", Digest: "1", Loaded: true}}, AtOnce: 1000}
	}})
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	_, _ = io.Copy(io.Discard, os.Stdin) // until whoever started it ends
}

// scriptedMachines starts a gate and machines in processes of their own.
func scriptedMachines(b *testing.B, n int) (app *boot.App, base, key string) {
	b.Helper()
	cfg := config.Default()
	folder := b.TempDir()
	cfg.Listen, cfg.Data, cfg.Models.Folders, cfg.Fleet.Listen = "127.0.0.1:0", folder, []string{folder}, "127.0.0.1:0"
	app, err := boot.Open(b.Context(), cfg, options)
	if err != nil {
		b.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- app.Serve(ctx) }()
	b.Cleanup(func() {
		stop()
		<-served
		app.Close()
	})
	raw, err := os.ReadFile(folder + "/" + boot.OwnerFile)
	if err != nil {
		b.Fatal(err)
	}
	base, key = strings.TrimSuffix(app.Server.BaseURL(), "/v1"), strings.TrimSpace(string(raw))
	hub := app.Server.Joining
	for i := range n {
		token, _, err := hub.Hub.Invite(b.Context(), fmt.Sprint("m", i), time.Minute)
		if err != nil {
			b.Fatal(err)
		}
		c, err := fleet.Join(b.Context(), []string{fleet.Scheme + hub.Hub.Address()}, token, hub.Fingerprint)
		if err != nil {
			b.Fatal(err)
		}
		doc, err := json.Marshal(c)
		if err != nil {
			b.Fatal(err)
		}
		cmd := exec.Command(os.Args[0], "-test.run=^TestBeAMachine$")
		cmd.Env = append(os.Environ(), machineVariable+"="+string(doc))
		in, err := cmd.StdinPipe()
		if err != nil {
			b.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			b.Fatal(err)
		}
		b.Cleanup(func() {
			in.Close()
			_ = cmd.Wait()
		})
	}
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		there := 0
		for _, m := range app.Gate.Machines.Machines() {
			if m.Healthy() {
				there++
			}
		}
		if there == n {
			return app, base, key
		}
		if time.Now().After(end) {
			b.Fatal("not all machines come")
		}
	}
}

// late are how late pieces came, of those that say when they were written.
type late struct {
	mu   sync.Mutex
	list []time.Duration
}

func (l *late) add(d time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.list = append(l.list, d)
}

func (l *late) report(b *testing.B, name string) {
	slices.Sort(l.list)
	if len(l.list) == 0 {
		b.Fatal("nothing was measured")
	}
	b.ReportMetric(float64(l.list[len(l.list)/2].Microseconds()), name+"-median-µs")
	b.ReportMetric(float64(l.list[len(l.list)*99/100].Microseconds()), name+"-p99-µs")
}

// follow reads a stream to its end, and counts its pieces.
func follow(base, key string, l *late) (pieces int, err error) {
	req, err := http.NewRequest("POST", base+"/v1/chat/completions", strings.NewReader(`{"model":"harbour-4m","stream":true,"messages":[{"role":"user","content":"When?"}]}`))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+key)
	resp, err := wide.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != 200 {
		raw, _ := io.ReadAll(resp.Body)
		return 0, fmt.Errorf("%d %s", resp.StatusCode, raw)
	}
	lines := bufio.NewScanner(resp.Body)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		now := time.Now().UnixNano()
		if data == "[DONE]" {
			return pieces, nil
		}
		_, content, ok := strings.Cut(data, `"content":"`)
		for text := range strings.FieldsSeq(strings.SplitN(content, `"`, 2)[0]) {
			var at int64
			if _, err := fmt.Sscan(text, &at); ok && err == nil {
				pieces++
				l.add(time.Duration(now - at))
			}
		}
	}
	return pieces, fmt.Errorf("the stream was cut after %d pieces: %w", pieces, lines.Err())
}

var wide = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 4000, MaxConnsPerHost: 0}}

// BenchmarkJoinedHop has 64 clients read streams of 50 pieces, 100 ms apart, from four machines that have joined. What it measures is how late each
// piece comes to its client: the line to the gate, the gate, and HTTP.
func BenchmarkJoinedHop(b *testing.B) {
	_, base, key := scriptedMachines(b, 4)
	b.ResetTimer()
	for range b.N {
		streams(b, base, key, 64, "hop")
	}
}

// BenchmarkJoinedStreams has 2,000 streams at once go through one gate, from 20 machines.
func BenchmarkJoinedStreams(b *testing.B) {
	_, base, key := scriptedMachines(b, 20)
	b.ResetTimer()
	for range b.N {
		streams(b, base, key, 2000, "piece")
	}
}

func streams(b *testing.B, base, key string, n int, name string) {
	b.Helper()
	var l late
	var lost, whole atomic.Int64
	var clients sync.WaitGroup
	before := processorTime(b)
	for i := range n {
		clients.Go(func() {
			time.Sleep(time.Duration(i) * time.Second / time.Duration(n)) // so that they do not come in waves
			pieces, err := follow(base, key, &l)
			if err != nil || pieces != 50 {
				lost.Add(1)
				b.Errorf("%d pieces, %v", pieces, err)
				return
			}
			whole.Add(1)
		})
	}
	clients.Wait()
	b.ReportMetric(float64((processorTime(b)-before).Microseconds())/1000/float64(n), "processor-ms/stream") // of the gate and its clients
	b.ReportMetric(float64(whole.Load()), "streams")
	b.ReportMetric(float64(lost.Load()), "lost")
	l.report(b, name)
}

// processorTime is what this process has taken of the processors.
func processorTime(b *testing.B) time.Duration {
	raw, err := os.ReadFile("/proc/self/stat")
	if err != nil {
		b.Skip("the system does not say what a process takes")
	}
	_, rest, _ := strings.Cut(string(raw), ") ")
	fields := strings.Fields(rest)
	var ticks int64
	for _, field := range fields[11:13] { // user and system time, in hundredths of a second: proc(5)
		var n int64
		if _, err := fmt.Sscan(field, &n); err != nil {
			b.Fatal(err)
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}
