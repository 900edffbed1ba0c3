package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// The sample model looks up a sailing and holds seats by one request, with tools that the gate starts. Each step reads only what is new of
// its prompt.
func TestDemoTools(t *testing.T) {
	g := startDemo(t)
	status, body := ask(t, g, g.Key, `{"model":"harbour-4m","temperature":0,"input":"Find the next boat to Osmer after 10:00 and hold 2 seats.","tools":[{"type":"mcp","server_label":"ferry","require_approval":"never"}]}`)
	var r struct {
		ID     string
		Output []struct {
			Type, Name, Arguments string
			Content               []struct{ Text string }
		}
	}
	if err := json.Unmarshal([]byte(body), &r); err != nil || status != http.StatusOK || len(r.Output) != 4 {
		t.Fatalf("%d %s %v", status, body, err)
	}
	if c := r.Output; c[1].Name != "next_sailing" || c[1].Arguments != `{"island": "Osmer", "after": "10:00"}` || c[2].Name != "hold_seats" || c[2].Arguments != `{"island": "Osmer", "time": "10:30", "seats": 2}` ||
		c[3].Content[0].Text != "I have held 2 seats on the 10:30 boat to Osmer. The reference is LP-5202." {
		t.Errorf("%+v", r.Output)
	}
	out, errOut, code := run(t, g, "", "traffic", "show", strings.TrimPrefix(r.ID, "resp_"), "--json")
	var shown struct {
		Steps []struct {
			Prompt int `json:"prompt_tokens"`
			Cached int `json:"cached_tokens"`
			Answer int `json:"completion_tokens"`
		} `json:"step_exchanges"`
	}
	if err := json.Unmarshal([]byte(out), &shown); err != nil || code != 0 || len(shown.Steps) != 3 {
		t.Fatalf("%s %s %v", out, errOut, err)
	}
	for i, s := range shown.Steps[1:] {
		before := shown.Steps[i]
		if known := before.Prompt + before.Answer; s.Cached < known-2 { // the last token's values are not there, nor those of the end of the turn
			t.Errorf("step %d has %d of %d tokens cached, of which %d are from the step before", i+2, s.Cached, s.Prompt, known)
		}
	}
}

// ask asks for a response.
func ask(t *testing.T, g *Gate, key, body string) (status int, answer string) {
	t.Helper()
	return call(t, g, key, "POST", "/responses", body)
}

func call(t *testing.T, g *Gate, key, method, path, body string) (status int, answer string) {
	t.Helper()
	req, err := http.NewRequest(method, g.BaseURL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+key)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(raw)
}

// After a kill a response in the background goes on behind its last finished step, where all that ran since only reads; where something may
// have been changed it ends as failed, with the steps that it had.
func TestKilledLoops(t *testing.T) {
	for _, c := range []struct {
		name, readOnly, status string
	}{{"reads only", "true", "completed"}, {"may have changed something", "false", "failed"}} {
		t.Run(c.name, func(t *testing.T) {
			var lookups, holds atomic.Int32
			held, release := make(chan struct{}, 8), make(chan struct{})
			endpoint := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if strings.HasPrefix(r.URL.Path, "/next") {
					lookups.Add(1)
					fmt.Fprint(w, `{"island": "Osmer", "after": "10:00", "departs": "10:30"}`)
					return
				}
				n := holds.Add(1)
				held <- struct{}{}
				if n == 1 {
					select { // the gate is killed meanwhile
					case <-release:
					case <-r.Context().Done():
					}
				}
				fmt.Fprint(w, `{"status": "held", "reference": "KL-1234"}`)
			}))
			defer endpoint.Close()
			defer close(release)
			g := startDemo(t)
			if err := g.Stop(); err != nil {
				t.Fatal(err)
			}
			settings := filepath.Join(g.Folder, "gate.yaml")
			text := fmt.Sprintf(`
models: { folders: [%q] }
tools:
  next_sailing:
    web: { url: "%s/next" }
    description: Find the next sailing to an island after a time.
    schema: { type: object, properties: { island: { type: string }, after: { type: string } }, required: [island, after] }
    read_only: true
  hold_seats:
    web: { url: "%s/hold", method: POST }
    description: Hold seats on a sailing.
    schema: { type: object, properties: { island: { type: string }, time: { type: string }, seats: { type: integer } }, required: [island, time, seats] }
    read_only: %s
`, filepath.Join(g.Folder, "data/kindred-gate/demo/models"), endpoint.URL, endpoint.URL, c.readOnly)
			if err := os.WriteFile(settings, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
			begin := func() *Gate {
				t.Helper()
				g, err := Start(binary, g.Folder, "serve", "--config", settings, "--listen", "127.0.0.1:0")
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { _ = g.Stop() }) // it may have been killed
				return g
			}
			first := begin()
			status, body := ask(t, first, first.Owner, `{"model":"harbour-4m","temperature":0,"background":true,"input":"Find the next boat to Osmer after 10:00 and hold 2 seats.","tools":[{"type":"mcp","server_label":"next_sailing","require_approval":"never"},{"type":"mcp","server_label":"hold_seats","require_approval":"never"}]}`)
			var r struct{ ID string }
			if err := json.Unmarshal([]byte(body), &r); err != nil || status != http.StatusOK {
				t.Fatalf("%d %s", status, body)
			}
			select {
			case <-held:
			case <-time.After(20 * time.Second):
				t.Fatal("no seat was held")
			}
			if err := first.Signal(syscall.SIGKILL); err != nil {
				t.Fatal(err)
			}
			if _, err := first.Wait(10 * time.Second); err != nil {
				t.Fatal(err)
			}
			second := begin()
			var after struct {
				Status string
				Output []struct {
					Type, Name, Status string
					Content            []struct{ Text string }
				}
			}
			for deadline := time.Now().Add(20 * time.Second); after.Status != "completed" && after.Status != "failed"; time.Sleep(20 * time.Millisecond) {
				_, body = call(t, second, second.Owner, "GET", "/responses/"+r.ID, "")
				if err := json.Unmarshal([]byte(body), &after); err != nil || time.Now().After(deadline) {
					t.Fatalf("%s %v", body, err)
				}
			}
			if after.Status != c.status || lookups.Load() != 1 || (c.status == "completed") != (holds.Load() == 2) {
				t.Fatalf("%s, %d lookups, %d holds\n%s", after.Status, lookups.Load(), holds.Load(), body)
			}
			ran := 0
			for _, item := range after.Output {
				if item.Type == "mcp_call" && item.Status == "completed" {
					ran++
				}
			}
			if last := after.Output[len(after.Output)-1]; c.status == "completed" && (ran != 2 || last.Type != "message" || !strings.Contains(last.Content[0].Text, "KL-1234")) || c.status == "failed" && ran != 1 {
				t.Errorf("%d calls, %+v\n%s", ran, last, body)
			}
			// The whole stream can be had, with numbers that go on.
			_, stream := call(t, second, second.Owner, "GET", "/responses/"+r.ID+"?stream=true", "")
			n := 0
			for line := range strings.Lines(stream) {
				data, ok := strings.CutPrefix(strings.TrimSpace(line), "data: ")
				var e struct {
					Sequence int `json:"sequence_number"`
				}
				if !ok || data == "[DONE]" {
					continue
				}
				if err := json.Unmarshal([]byte(data), &e); err != nil || e.Sequence != n {
					t.Fatalf("event %d: %s %v", n, data, err)
				}
				n++
			}
		})
	}
}
