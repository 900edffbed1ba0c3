package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// signIn opens the console and signs in.
func signIn(t *testing.T, g *Gate, do func(what string, steps ...chromedp.Action[chromedp.Void])) {
	t.Helper()
	do("sign in", chromedp.Navigate(strings.TrimSuffix(g.BaseURL, "v1")), chromedp.SendKeys(chromedp.CSS("#owner-key"), g.Owner+"\r"), chromedp.WaitVisible(chromedp.CSS(`[data-testid="base-url"]`)))
}

// evaluated is what a script comes to in a page.
func evaluated[T any](t *testing.T, tab context.Context, script string) T {
	t.Helper()
	v, err := chromedp.Run(tab, chromedp.Evaluate[T](script))
	if err != nil {
		t.Fatalf("%s: %v", script, err)
	}
	return v
}

// A browser has six connections to a gate. Eight tabs of the console, each with what happens in it, leave room for what is asked besides.
func TestManyTabs(t *testing.T) {
	g := startDemo(t)
	tab, do := browse(t)
	type css = chromedp.CSS
	signIn(t, g, do)
	for n := range 8 {
		other, cancel := chromedp.NewContext(tab)
		defer cancel()
		if err := chromedp.Do(other, chromedp.Navigate(strings.TrimSuffix(g.BaseURL, "v1")+"#/traffic"), chromedp.WaitVisible(css(`[data-testid="base-url"]`)),
			chromedp.WaitVisible(`//main//*[contains(., "Nobody has asked anything yet") or @data-testid="exchanges"]`)); err != nil {
			t.Fatalf("tab %d: %v", n+1, err)
		}
	}
	do("the first tab goes on", chromedp.Evaluate[chromedp.Void](`location.hash = "/keys"`), chromedp.Click(`//button[text()="Issue a key"]`), chromedp.SendKeys(css("#label"), "board\r"),
		chromedp.WaitVisible(css(`[data-testid="issued-key"]`)))
	streams := evaluated[int](t, tab, `performance.getEntriesByType("resource").filter(r => r.name.includes("exchanges/live")).length`)
	if streams > 0 {
		t.Errorf("the page itself holds %d streams", streams)
	}
}

// What is typed or shown in a dialog is not lost by a key or a click beside, nor by a browser that takes itself to be offline; the focus comes
// back to where it was, and what was closed stays closed.
func TestDialogs(t *testing.T) {
	g := startDemo(t)
	post(t, g, g.Key, `{"model":"harbour-4m","messages":[{"role":"user","content":"When?"}]}`)
	tab, do := browse(t)
	type css = chromedp.CSS
	signIn(t, g, do)
	gone := chromedp.WaitNotPresent(css(`[role="dialog"]`))
	focus := `document.activeElement.textContent || document.activeElement.getAttribute("aria-label") || document.activeElement.tagName`

	do("offline", chromedp.Evaluate[chromedp.Void](`Object.defineProperty(navigator, "onLine", { get: () => false }); dispatchEvent(new Event("offline")); location.hash = "/keys"`))
	do("open and close", chromedp.Click(`//button[text()="Issue a key"]`), chromedp.WaitVisible(css("#label")), chromedp.KeyEvent(kb.Escape), gone)
	if at := evaluated[string](t, tab, focus); at != "Issue a key" {
		t.Errorf("after the dialog the focus is at %q", at)
	}
	do("half filled", chromedp.Click(`//button[text()="Issue a key"]`), chromedp.SendKeys(css("#label"), "board"), chromedp.KeyEvent(kb.Escape), chromedp.WaitVisible(`//*[@role="dialog"]//button[text()="Keep editing"]`),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Keep editing"]`), chromedp.MouseClickXY(5, 700), chromedp.WaitVisible(`//*[@role="dialog"]//button[text()="Keep editing"]`),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Keep editing"]`))
	if label := evaluated[string](t, tab, `document.querySelector("#label").value`); label != "board" {
		t.Errorf("of the label %q is left", label)
	}
	do("issue", chromedp.SendKeys(css("#label"), "\r"), chromedp.WaitVisible(css(`[data-testid="issued-key"]`)), chromedp.KeyEvent(kb.Escape), chromedp.MouseClickXY(5, 700))
	time.Sleep(200 * time.Millisecond) // for a dialog that would close
	if key := evaluated[string](t, tab, `document.querySelector('[data-testid="issued-key"]')?.textContent ?? ""`); !strings.HasPrefix(key, "kg_") {
		t.Errorf("the secret is gone: %q", key)
	}
	do("have it", chromedp.Click(`//button[text()="I have it"]`), gone)

	do("an exchange, closed", chromedp.Evaluate[chromedp.Void](`location.hash = "/traffic"`), chromedp.Click(`//*[@data-testid="exchanges"]//tbody/tr[1]//a`), chromedp.WaitVisible(css(`[role="dialog"]`)),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Close"]`), gone)
	if at := evaluated[string](t, tab, `document.activeElement.getAttribute("aria-label") ?? ""`); !strings.HasPrefix(at, "Details of the exchange") {
		t.Errorf("after an exchange the focus is at %q", at)
	}
	do("back", chromedp.Evaluate[chromedp.Void](`history.back()`), chromedp.Poll[chromedp.Void](`!location.hash.includes("/exchange/")`), chromedp.WaitVisible(css(`[data-testid="base-url"]`)))
	if open := evaluated[int](t, tab, `document.querySelectorAll('[role="dialog"]').length`); open > 0 {
		t.Error("Back opened what was closed")
	}
}

// Filters choose among what the ledger has, by the address too, and a failed exchange shows the request as it was sent.
func TestTrafficFilters(t *testing.T) {
	g := startDemo(t)
	for _, args := range [][]string{{"names", "set", "timetable", "harbour-4m"}, {"presets", "add", "master", "--model", "harbour-4m", "--instructions", "Be brief."}} {
		if _, errOut, code := run(t, g, "", args...); code != 0 {
			t.Fatal(errOut)
		}
	}
	post(t, g, g.Key, `{"model":"timetable","messages":[{"role":"user","content":"When?"}]}`)
	post(t, g, g.Key, `{"model":"master","messages":[{"role":"user","content":"Where?"}]}`)
	post(t, g, g.Key, fmt.Sprintf(`{"model":"harbour-4m","messages":[{"role":"user","content":%q}]}`, "Where does it sail? "+strings.Repeat("word ", 4000))) // too long
	if _, errOut, code := run(t, g, "The last boat", "ask", "--style", "completion", "--model", "harbour-4m"); code != 0 {
		t.Fatal(errOut)
	}
	_, do := browse(t)
	type css = chromedp.CSS
	signIn(t, g, do)
	rows := func(query string, n int) {
		t.Helper()
		do(query, chromedp.Evaluate[chromedp.Void](fmt.Sprintf("location.hash = %q", "/traffic?"+query)), chromedp.WaitVisible(css(`#by-style`)),
			chromedp.Poll[chromedp.Void](fmt.Sprintf(`document.querySelectorAll('[data-testid="exchanges"] tbody tr td').length / 9 === %d`, n)))
	}
	rows("style=chat", 3)
	rows("style=completion", 1)
	rows("model=timetable", 1)
	rows("slow_ms=600000", 0)
	rows("since=2031-01-01T00:00:00Z", 0)
	rows("until=2031-01-01T00:00:00Z", 4)
	rows("bad=true", 1)
	do("the failed one", chromedp.Click(`//*[@data-testid="exchanges"]//tbody/tr[1]//a`), chromedp.WaitVisible(`//*[@role="dialog"]//pre[contains(., "Where does it sail?")]`),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Close"]`))
	do("what models there are to choose", chromedp.Click(css("#by-model")), chromedp.WaitVisible(`//*[@role="option"][contains(., "timetable (public name)")]`), chromedp.WaitVisible(`//*[@role="option"][contains(., "master (preset)")]`),
		chromedp.KeyEvent(kb.Escape))
	do("what to try", chromedp.Evaluate[chromedp.Void](`location.hash = "/try"`), chromedp.WaitVisible(css("#question")), chromedp.Click(css("#model")), chromedp.WaitVisible(`//*[@role="option"][contains(., "timetable (public name)")]`))
}
