package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Nothing serious keeps people from using any screen, in either theme or on a phone, that axe-core can find; dialogs included. When the gate
// stops, the console says so.
func TestConsoleForEverybody(t *testing.T) {
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err)
	}
	g := startDemo(t)
	for _, args := range [][]string{
		{"presets", "add", "master", "--model", "harbour-4m", "--instructions", "You are a cheerful harbour master."}, {"names", "set", "timetable", "master"},
		{"groups", "set", "harbour", "--requests-per-day", "100"}, {"keys", "issue", "--label", "kiosk", "--group", "harbour", "--record", "yes", "--expires", "2d"},
	} {
		if _, errOut, code := run(t, g, "", args...); code != 0 {
			t.Fatal(errOut)
		}
	}
	post(t, g, g.Key, `{"model":"timetable","messages":[{"role":"user","content":"When?"}]}`)
	if err := g.Stop(); err != nil {
		t.Fatal(err)
	}
	multiply(t, g.Folder+"/data/kindred-gate/demo/gate.db", 10_000)
	if g, err = Start(binary, g.Folder, "demo", "--listen", "127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = g.Stop() }) // it may have been stopped
	for _, body := range []string{`{"model":"timetable","messages":[{"role":"user","content":"When?"}]}`, `{"model":"nothing","messages":[{"role":"user","content":"When?"}]}`,
		`{"model":"timetable","messages":[{"role":"user","content":"When?"},{"role":"assistant","content":"Now."},{"role":"user","content":"Where?"}]}`} {
		post(t, g, g.Key, body)
	}
	if out, errOut, code := run(t, g, "", "traffic", "export", "--until", "1m"); code != 0 || strings.Count(out, "\n") < 9_990 {
		t.Errorf("of ten thousand exchanges %d are exported, %s", strings.Count(out, "\n"), errOut)
	}
	if out, errOut, _ := run(t, g, "", "suite", "run", "--model", "harbour-4m", "--samples", "1"); !strings.Contains(out, "Abilities") {
		t.Fatal(errOut) // that not every case is passed makes it exit with 1
	}
	kiosk, errOut, code := run(t, g, "", "keys", "rotate", "kiosk")
	if code != 0 {
		t.Fatal(errOut)
	}
	recorded := ""
	if status, answer := post(t, g, strings.TrimSpace(kiosk), `{"model":"harbour-4m","messages":[{"role":"user","content":"When?"}]}`); status != 200 {
		t.Fatal(answer)
	} else if _, rest, ok := strings.Cut(answer, `"id":"chatcmpl-`); ok {
		recorded, _, _ = strings.Cut(rest, `"`)
	}
	tab, do := browse(t)
	type css = chromedp.CSS
	look := func(where string) {
		t.Helper()
		raw, err := chromedp.Run(tab, chromedp.Evaluate[json.RawMessage](`axe.run({resultTypes: ["violations"]}).then(r => r.violations.filter(v => ["serious", "critical"].includes(v.impact))
			.map(v => v.id + ": " + v.help + " at " + v.nodes.map(n => n.target.join(" ") + " " + (n.any[0]?.message ?? "")).slice(0, 3).join("; ")))`, chromedp.EvalAwaitPromise))
		var found []string
		if err != nil || json.Unmarshal(raw, &found) != nil {
			t.Fatalf("%s: %s, %v", where, raw, err)
		}
		for _, v := range found {
			t.Errorf("%s: %s", where, v)
		}
	}
	do("open", chromedp.Navigate(strings.TrimSuffix(g.BaseURL, "v1")), chromedp.WaitVisible(css("#owner-key")), chromedp.Evaluate[chromedp.Void](string(axe)))
	look("signing in")
	do("sign in", chromedp.SendKeys(css("#owner-key"), g.Owner+"\r"), chromedp.WaitVisible(css(`[data-testid="base-url"]`)))
	theme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
			_, err := chromedp.Call(ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: name}}})
			return err
		})
	}
	for _, as := range []struct {
		name  string
		theme string
		width int64
	}{{"in the light theme", "light", 1280}, {"in the dark theme", "dark", 1280}, {"on a phone", "light", 390}} {
		do(as.name, theme(as.theme), chromedp.EmulateViewport(as.width, 800))
		for _, screen := range []struct{ path, shown string }{
			{"now", `.uplot canvas`}, {"models", `[aria-label="Remove master"]`}, {"machines", `[aria-label="Remove timetable"]`}, {"tools", `[data-testid="tools ferry"] table`}, {"suites", `[data-testid="suite-report"]`}, {"traffic/exchange/" + recorded + "/replay", `#replay-model`}, {"try", `#question`}, {"prompt", `[data-testid="prompt"]`}, {"keys", `[aria-label="Open kiosk"]`},
			{"traffic", `[data-testid="exchanges"] tbody tr`}, {"traffic/jobs", `table`}, {"traffic/refused", `table`}, {"traffic/costs", `table`}, {"setup", `[data-testid="findings"]`},
		} {
			do(screen.path, chromedp.Evaluate[chromedp.Void](fmt.Sprintf("location.hash = %q", "/"+screen.path)), chromedp.WaitVisible(css(screen.shown)))
			look(screen.path + " " + as.name)
			wide, err := chromedp.Run(tab, chromedp.Evaluate[int](`document.documentElement.scrollWidth - document.documentElement.clientWidth`))
			if err != nil || wide > 0 {
				t.Errorf("%s %s is %d pixels wider than the page, %v", screen.path, as.name, wide, err)
			}
		}
		do("a key", chromedp.Evaluate[chromedp.Void](`location.hash = "/keys"`), chromedp.Click(css(`[aria-label="Open kiosk"]`)), chromedp.WaitVisible(css(`[role="dialog"] #label`)))
		look("a key " + as.name)
		do("an exchange", chromedp.Click(`//*[@role="dialog"]//button[text()="Cancel"]`), chromedp.Evaluate[chromedp.Void](`location.hash = "/traffic"`),
			chromedp.Click(`//*[@data-testid="exchanges"]//tbody/tr[1]//a`), chromedp.WaitVisible(css(`[role="dialog"]`)))
		look("an exchange " + as.name)
		do("close it", chromedp.Click(`//*[@role="dialog"]//button[text()="Close"]`))
	}

	// The list is drawn anew as exchanges come, so a click may meet a button that has just gone: it is made again until the rows are there.
	do("older ones", chromedp.Evaluate[chromedp.Void](`new Promise((done) => {
		const again = setInterval(() => {
			if (document.querySelectorAll('[data-testid="exchanges"] tbody tr').length >= 60) {
				clearInterval(again);
				done();
			} else [...document.querySelectorAll("button:not(:disabled)")].find((b) => b.textContent === "Older ones")?.click();
		}, 200);
	})`, chromedp.EvalAwaitPromise), chromedp.WaitVisible(css(`[data-testid="exchanges"] tbody tr:nth-child(60)`)))
	// By keyboard alone: from the top of the page to the models, and what is chosen there.
	do("by keyboard", chromedp.EmulateViewport(1280, 800), chromedp.Evaluate[chromedp.Void](`location.hash = "/now"`), chromedp.WaitVisible(css(`.uplot canvas`)), chromedp.Evaluate[chromedp.Void](`document.querySelector('a[href="#main"]').focus()`),
		chromedp.KeyEvent(strings.Repeat(kb.Tab, 4)+kb.Enter), chromedp.WaitVisible(css(`[aria-label="Remove master"]`)))
	if focus, err := chromedp.Run(tab, chromedp.Evaluate[string](`document.activeElement.tagName`)); err != nil || focus != "MAIN" {
		t.Errorf("after another screen was chosen the focus is at %s, %v", focus, err)
	}
	do("back", chromedp.Evaluate[chromedp.Void](`location.hash = "/traffic"`), chromedp.WaitVisible(css(`[data-testid="exchanges"]`)))
	title, err := chromedp.Run(tab, chromedp.Evaluate[string](`document.title`))
	if err != nil || title != "Traffic · Kindred Gate" {
		t.Errorf("the title is %q, %v", title, err)
	}
	if err := g.Stop(); err != nil {
		t.Fatal(err)
	}
	do("the gate is gone", chromedp.WaitVisible(`//*[@role="status"]//*[text()="Not answering"]`), chromedp.WaitVisible(`//*[@role="alert"][contains(., "unreachable")]`))
	look("with the gate gone")
}

// multiply fills a ledger with copies of an exchange that it has, each a minute before the one before.
func multiply(t *testing.T, file string, n int) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`WITH RECURSIVE copies (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM copies WHERE n < ?)
		INSERT INTO exchanges (id, begun, key, label, model, answered, style, state, took, job, doc)
		SELECT e.id || '-' || n, e.begun - n * 60000000, e.key, e.label, e.model, e.answered, e.style, e.state, e.took, '',
			json_set(e.doc, '$.id', e.id || '-' || n, '$.begun', strftime('%Y-%m-%dT%H:%M:%SZ', (e.begun - n * 60000000) / 1000000, 'unixepoch'))
		FROM copies, (SELECT * FROM exchanges WHERE state = 'done' LIMIT 1) AS e`, n); err != nil {
		t.Fatal(err)
	}
}
