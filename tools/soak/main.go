// Command soak has a gate of the demo used for a while as it is used at its worst: clients of all styles, some of which leave, read slowly, send
// nonsense or come with wrong keys, and a gate that is stopped and killed under them. It reports whether memory and goroutines stay flat,
// whether anything fails that should not, and whether every answer that a client saw whole is in the ledger.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"kindredgate/e2e"
)

func main() {
	log.SetFlags(0)
	length := flag.Duration("for", 10*time.Minute, "how long")
	report := flag.String("report", "", "file that the report goes to; standard output if none is named")
	flag.Parse()
	if err := run(*length, *report); err != nil {
		log.Fatal("soak: ", err)
	}
}

// tally is what came of the clients' calls. It is safe for concurrent use.
type tally struct {
	mu    sync.Mutex
	count map[string]int
	whole map[string]bool // request ids of answers that were seen to their end
	wrong []string        // what should not have been
}

func (t *tally) add(what string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.count[what]++
}

func (t *tally) fail(format string, args ...any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.wrong) < 20 {
		t.wrong = append(t.wrong, fmt.Sprintf(format, args...))
	}
	t.count["went wrong"]++
}

// sample is what the gate takes at a time.
type sample struct {
	at         time.Duration
	resident   float64 // bytes
	goroutines float64
	open       float64
}

func run(length time.Duration, report string) error {
	binary, err := filepath.Abs("bin/kindred")
	if err != nil {
		return err
	}
	home, err := os.MkdirTemp("", "soak")
	if err != nil {
		return err
	}
	defer os.RemoveAll(home)
	g, err := e2e.Start(binary, home, "demo", "--listen", "127.0.0.1:0")
	if err != nil {
		return err
	}
	t := &tally{count: map[string]int{}, whole: map[string]bool{}}
	begun := time.Now()

	steady := length * 4 / 5
	samples, err := load(g, t, steady, begun)
	if err != nil {
		return err
	}
	restarts := 0
	for time.Since(begun) < length {
		// Half of the times it is asked to stop, half of them it is killed.
		stop, cancel := context.WithCancel(context.Background())
		var clients sync.WaitGroup
		for i := range 12 {
			clients.Go(func() { client(stop, g, t, i, true) })
		}
		time.Sleep(3 * time.Second)
		signal := syscall.SIGTERM
		if restarts%2 == 1 {
			signal = syscall.SIGKILL
		}
		if err := g.Signal(signal); err != nil {
			cancel()
			return err
		}
		if _, err := g.Wait(30 * time.Second); err != nil {
			cancel()
			return err
		}
		cancel()
		clients.Wait()
		restarts++
		if g, err = e2e.Start(binary, home, "demo", "--listen", "127.0.0.1:0"); err != nil {
			return fmt.Errorf("start %d: %w", restarts, err)
		}
	}
	missing, total, err := compare(g, t)
	if err != nil {
		return err
	}
	idle, err := measure(g, time.Since(begun))
	if err != nil {
		return err
	}
	if err := g.Stop(); err != nil {
		return err
	}
	text := describe(length, steady, samples, t, restarts, missing, total, idle)
	if report == "" {
		fmt.Print(text)
	} else if err := os.WriteFile(report, []byte(text), 0o644); err != nil {
		return err
	}
	if missing > 0 || len(t.wrong) > 0 {
		return fmt.Errorf("%d answers are missing, %d things went wrong", missing, len(t.wrong))
	}
	return nil
}

// load has clients use the gate for a time, while it is measured.
func load(g *e2e.Gate, t *tally, length time.Duration, begun time.Time) (samples []sample, err error) {
	stop, cancel := context.WithTimeout(context.Background(), length)
	defer cancel()
	var clients sync.WaitGroup
	defer clients.Wait()
	for i := range 24 {
		clients.Go(func() { client(stop, g, t, i, false) })
	}
	tick := time.NewTicker(max(time.Second, length/60))
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			s, err := measure(g, time.Since(begun))
			if err != nil {
				cancel()
				return nil, err
			}
			samples = append(samples, s)
		case <-stop.Done():
			return samples, nil
		}
	}
}

var figure = regexp.MustCompile(`(?m)^(process_resident_memory_bytes|go_goroutines|kindred_exchanges_open) (\S+)$`)

func measure(g *e2e.Gate, at time.Duration) (sample, error) {
	s := sample{at: at}
	resp, err := http.Get(strings.TrimSuffix(g.BaseURL, "v1") + "metrics")
	if err != nil {
		return s, err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		return s, err
	}
	for _, m := range figure.FindAllStringSubmatch(string(raw), -1) {
		v, err := strconv.ParseFloat(m[2], 64)
		if err != nil {
			return s, err
		}
		*map[string]*float64{"process_resident_memory_bytes": &s.resident, "go_goroutines": &s.goroutines, "kindred_exchanges_open": &s.open}[m[1]] = v
	}
	return s, nil
}

var questions = []string{"When is the last boat to Osmer?", "Write a guide to Marrow Isle.", "And to Quillay?", "How long is the crossing to Wick Skerry?"}

// client asks in one way after the other until it is to stop. ends says that the gate may end meanwhile, so that a line that breaks is no fault.
func client(stop context.Context, g *e2e.Gate, t *tally, number int, ends bool) {
	chance := rand.New(rand.NewPCG(uint64(number), 7))
	for n := number; stop.Err() == nil; n++ {
		question := questions[chance.IntN(len(questions))]
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		var err error
		switch n % 9 {
		case 0, 1:
			err = ask(ctx, g, t, "/chat/completions", map[string]any{"model": "harbour-4m", "stream": true, "messages": []any{map[string]string{"role": "user", "content": question}}}, "data: [DONE]")
		case 2:
			err = ask(ctx, g, t, "/chat/completions", map[string]any{"model": "harbour-4m", "messages": []any{map[string]string{"role": "user", "content": question}}}, `"finish_reason"`)
		case 3:
			err = ask(ctx, g, t, "/generate", map[string]any{"model": "harbour-4m", "prompt": question}, `"finish_reason"`)
		case 4:
			err = ask(ctx, g, t, "/responses", map[string]any{"model": "harbour-4m", "input": question, "stream": n%2 == 0}, `"completed"`)
		case 5:
			err = ask(ctx, g, t, "/embeddings", map[string]any{"model": "harbour-embed", "input": []string{question, "a boat"}}, `"embedding"`)
		case 6: // who leaves
			short, leave := context.WithTimeout(ctx, time.Duration(chance.IntN(40))*time.Millisecond)
			_ = ask(short, g, t, "/chat/completions", map[string]any{"model": "harbour-4m", "stream": true, "messages": []any{map[string]string{"role": "user", "content": questions[1]}}}, "data: [DONE]")
			leave()
			t.add("left")
		case 7: // who sends nonsense
			err = refused(ctx, g, t, chance.IntN(4))
		case 8: // who reads slowly
			err = slowly(g, t, question)
		}
		cancel()
		if err != nil && !ends && stop.Err() == nil {
			t.fail("%v", err)
		} else if err != nil {
			t.add("broken off by the end of the gate")
			time.Sleep(50 * time.Millisecond)
		}
	}
}

func call(ctx context.Context, g *e2e.Gate, key, path string, body []byte) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, g.BaseURL+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+key)
	req.Header.Set("Content-Type", "application/json")
	return http.DefaultClient.Do(req)
}

// ask expects a whole answer, in which there is a mark.
func ask(ctx context.Context, g *e2e.Gate, t *tally, path string, body map[string]any, mark string) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	resp, err := call(ctx, g, g.Key, path, raw)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	got, err := io.ReadAll(resp.Body)
	switch {
	case err != nil:
		return err
	case resp.StatusCode == http.StatusTooManyRequests && strings.Contains(string(got), "queue_full"):
		t.add("refused for a full queue")
		return nil
	case resp.StatusCode != http.StatusOK || !bytes.Contains(got, []byte(mark)):
		if bytes.Contains(got, []byte("shutting_down")) {
			return errors.New("the gate ends")
		}
		return fmt.Errorf("%s: %s: %.300s", path, resp.Status, got)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.count["whole: "+path]++
	t.whole[resp.Header.Get("X-Request-Id")] = true
	return nil
}

// refused expects a refusal.
func refused(ctx context.Context, g *e2e.Gate, t *tally, way int) error {
	key, body, want := g.Key, `{"model": "harbour-4m", "messages": [{"role": "us`, http.StatusBadRequest
	switch way {
	case 1:
		body, want = `{"model": "nothing", "messages": [{"role": "user", "content": "x"}]}`, http.StatusNotFound
	case 2:
		body, want = `{"model": "harbour-4m", "messages": [{"role": "user", "content": "`+strings.Repeat("boat ", 50_000)+`"}]}`, http.StatusBadRequest
	case 3:
		key, want = "kg_mistyped", http.StatusUnauthorized
	}
	resp, err := call(ctx, g, key, "/chat/completions", []byte(body))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(io.Discard, resp.Body)
	if resp.StatusCode != want && resp.StatusCode != http.StatusTooManyRequests {
		return fmt.Errorf("nonsense %d was answered with %s", way, resp.Status)
	}
	t.add("refused, as it should be")
	return err
}

// slowly reads an answer a few bytes at a time.
func slowly(g *e2e.Gate, t *tally, question string) error {
	u, err := url.Parse(g.BaseURL)
	if err != nil {
		return err
	}
	conn, err := net.Dial("tcp", u.Host)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(time.Minute)); err != nil {
		return err
	}
	body := fmt.Sprintf(`{"model": "harbour-4m", "stream": true, "messages": [{"role": "user", "content": %q}]}`, question)
	if _, err := fmt.Fprintf(conn, "POST /v1/chat/completions HTTP/1.1\r\nHost: %s\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s", u.Host, g.Key, len(body), body); err != nil {
		return err
	}
	in := bufio.NewReaderSize(conn, 16)
	for n := 0; ; n++ {
		line, err := in.ReadSlice('\n')
		if bytes.Contains(line, []byte("[DONE]")) {
			t.add("whole, read slowly")
			return nil
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return fmt.Errorf("reading slowly: %w", err)
		}
		if n%50 == 0 {
			time.Sleep(5 * time.Millisecond)
		}
	}
}

// compare counts the answers that clients saw whole and the ledger does not have as done.
func compare(g *e2e.Gate, t *tally) (missing, total int, err error) {
	out, errOut, code, err := g.Command("", "traffic", "export")
	if err != nil || code != 0 {
		return 0, 0, fmt.Errorf("export: %w %s", err, errOut)
	}
	done := map[string]bool{}
	for line := range strings.Lines(out) {
		var e struct{ ID, State string }
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			return 0, 0, err
		}
		done[e.ID] = e.State == "done"
		total++
	}
	for id := range t.whole {
		if !done[id] {
			missing++
		}
	}
	return missing, total, nil
}

// describe writes the report.
func describe(length, steady time.Duration, samples []sample, t *tally, restarts, missing, total int, idle sample) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# Ten minutes at its worst\n\nWritten by `make soak`, which has a gate of the demo used by clients of all styles, some of which leave, read slowly, send nonsense or\ncome with keys that are none; and stops and kills it under them.\n\n")
	fmt.Fprintf(&b, "For %s: %s of load by 24 clients, then %d restarts under 12, every other one a kill.\n\n", length, steady, restarts)
	middle := func(list []sample, of func(sample) float64) float64 {
		var values []float64
		for _, s := range list {
			values = append(values, of(s))
		}
		slices.Sort(values)
		return values[len(values)/2]
	}
	fmt.Fprintf(&b, "| of the load | resident memory, median | goroutines, median |\n| --- | --- | --- |\n")
	third := len(samples) / 3
	for i, name := range []string{"first third", "second third", "last third"} {
		if third == 0 {
			break
		}
		part := samples[i*third : (i+1)*third]
		fmt.Fprintf(&b, "| %s | %.1f MB | %.0f |\n", name, middle(part, func(s sample) float64 { return s.resident })/1e6, middle(part, func(s sample) float64 { return s.goroutines }))
	}
	fmt.Fprintf(&b, "| afterwards, idle, after the last start | %.1f MB | %.0f |\n\n", idle.resident/1e6, idle.goroutines)
	fmt.Fprintf(&b, "| what came of the calls | how often |\n| --- | --- |\n")
	for _, what := range slices.Sorted(func(yield func(string) bool) {
		for k := range t.count {
			if !yield(k) {
				return
			}
		}
	}) {
		fmt.Fprintf(&b, "| %s | %d |\n", what, t.count[what])
	}
	fmt.Fprintf(&b, "\nOf %d answers that clients saw whole, %d are missing in the ledger, which has %d exchanges.\n", len(t.whole), missing, total)
	for _, w := range t.wrong {
		fmt.Fprintf(&b, "\nWrong: %s\n", w)
	}
	return b.String()
}
