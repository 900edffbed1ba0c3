package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
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
    schema: { type: object, additionalProperties: false, properties: { island: { type: string, enum: [Osmer, Wick Skerry] }, after: { type: string, pattern: "^[0-2][0-9]:[0-5][0-9]$" } }, required: [island, after] }
    read_only: true
  hold_seats:
    web: { url: "%s/hold", method: POST }
    description: Hold seats on a sailing.
    schema: { type: object, additionalProperties: false, properties: { island: { type: string, enum: [Osmer, Wick Skerry] }, time: { type: string, pattern: "^[0-2][0-9]:[0-5][0-9]$" }, seats: { type: integer } }, required: [island, time, seats] }
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
				_, body := call(t, first, first.Owner, "GET", "/responses/"+r.ID, "")
				t.Fatalf("no seat was held: %s", body)
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

// In the console a person tries a tool, has the model call tools, approves what changes something, and sees the steps.
func TestToolsInTheConsole(t *testing.T) {
	g := startDemo(t)
	tab, do := browse(t)
	type css = chromedp.CSS
	signIn(t, g, do)
	visit := func(screen string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("location.hash = %q", "/"+screen))
	}
	do("try a tool", visit("tools"), chromedp.WaitVisible(css(`[data-testid="tools ferry"] table`)), chromedp.Click(css(`[aria-label="Try fare_quote"]`)), chromedp.WaitVisible(css("#tool-arguments")),
		chromedp.Click(`//button[text()="Call it"]`), chromedp.WaitVisible(css(`[data-testid="tool-output"]`)))
	if got := evaluated[string](t, tab, `document.querySelector('[data-testid="tool-output"]').textContent`); !strings.Contains(got, "there is no island") || !strings.Contains(got, "Failed (tool execution error)") {
		t.Errorf("an island without a name gives %q", got)
	}
	do("ask with tools", chromedp.Click(`//*[@role="dialog"]//button[text()="Close"]`), visit("try"), chromedp.WaitVisible(css("#question")), chromedp.Click(`//button[text()="Response"]`),
		chromedp.WaitVisible(`//label[contains(., "ferry")]`), chromedp.Click(`//label[contains(., "ferry")]`), chromedp.SendKeys(css("#question"), "Find the next boat to Osmer after 10:00 and hold 2 seats."), chromedp.SendKeys(css("#temperature"), "0"),
		chromedp.Click(`//button[text()="Ask"]`), chromedp.WaitVisible(`//button[text()="Run it"]`))
	if got := evaluated[string](t, tab, `[...document.querySelectorAll('[data-testid="run"]')].map(r => r.textContent).join(" | ")`); !strings.Contains(got, `"departs": "10:30"`) || !strings.Contains(got, "ferry/hold_seats") || !strings.Contains(got, "waits for your approval") {
		t.Errorf("before the approval: %q", got)
	}
	do("approve", chromedp.Click(`//button[text()="Run it"]`), chromedp.WaitVisible(`//*[@data-testid="answer"][contains(text(), "The reference is LP-5202.")]`))
	do("the steps", visit("traffic"), chromedp.Click(`//*[@data-testid="exchanges"]//tbody/tr[1]//a`), chromedp.WaitVisible(css(`[data-testid="steps"]`)), chromedp.WaitVisible(`//*[@data-testid="steps"]//a[contains(., "Step 1")]`))
	if rows := evaluated[int](t, tab, `document.querySelectorAll('[data-testid="exchanges"] tbody tr').length`); rows != 2 {
		t.Errorf("%d rows for two requests", rows)
	}

	// A response in the background waits for somebody here.
	status, body := ask(t, g, g.Key, `{"model":"harbour-4m","temperature":0,"background":true,"input":"Find the next boat to Osmer after 10:00 and hold 2 seats.","tools":[{"type":"mcp","server_label":"ferry","require_approval":{"never":{"read_only":true}}}]}`)
	var r struct{ ID, Status string }
	if err := json.Unmarshal([]byte(body), &r); err != nil || status != http.StatusOK {
		t.Fatal(status, body)
	}
	do("approve in the background", visit("tools"), chromedp.WaitVisible(css(`[data-testid="approval"]`)), chromedp.Click(css(`[aria-label="Approve hold_seats"]`)), chromedp.WaitNotPresent(css(`[data-testid="approval"]`)))
	for deadline := time.Now().Add(10 * time.Second); r.Status != "completed"; time.Sleep(20 * time.Millisecond) {
		_, body = call(t, g, g.Key, "GET", "/responses/"+r.ID, "")
		if err := json.Unmarshal([]byte(body), &r); err != nil || time.Now().After(deadline) {
			t.Fatal(body)
		}
	}
	if !strings.Contains(body, "LP-5202") {
		t.Error(body)
	}
	do("a key with tools", visit("keys"), chromedp.Click(`//button[text()="Issue a key"]`), chromedp.WaitVisible(css("#label")), chromedp.SendKeys(css("#label"), "clerk"), chromedp.Click(`//*[@role="dialog"]//label[contains(., "ferry")]`),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Issue"]`), chromedp.WaitVisible(css(`[data-testid="issued-key"]`)))
	if out, errOut, _ := run(t, g, "", "keys", "show", "clerk"); !strings.Contains(out, "ferry") {
		t.Error(out, errOut)
	}
}

// On a terminal what changes something is asked about first.
func TestToolsOnATerminal(t *testing.T) {
	g := startDemo(t)
	for typed, want := range map[string]string{"y\r": `The reference is LP-5202`, "\r": `hold_seats .* failed: the call was not approved`} {
		s := onTerminal(t, g, "ask", "-t", "0", "--tools", "ferry", "Find the next boat to Osmer after 10:00 and hold 2 seats.")
		at := s.wait(0, `ferry/next_sailing[\s\S]*Run ferry/hold_seats \{"island": "Osmer", "time": "10:30", "seats": 2\}\? \[y/N\] `)
		s.typed(typed)
		s.wait(at, want)
		if code := s.code(); code != 0 {
			t.Errorf("%q: code %d", typed, code)
		}
	}
}
