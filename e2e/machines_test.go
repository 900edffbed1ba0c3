package e2e

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// twoGates starts a gate with the sample models in the attic, and one that has it as a machine, records what is said, and knows the sample
// models as well.
func twoGates(t *testing.T) (g, attic *Gate) {
	t.Helper()
	attic = startDemo(t)
	folder := t.TempDir()
	text := fmt.Sprintf("listen: 127.0.0.1:0\nmodels: { folders: [%s/data/kindred-gate/demo/models] }\nrecord: { content: true }\nrunners: { attic: { url: %q, key_env: ATTIC_KEY, rest: 500ms, tries: 1 } }\n", attic.Folder, attic.BaseURL)
	config := filepath.Join(folder, "gate.yaml")
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("ATTIC_KEY", attic.Key)
	return start(t, folder, "serve", "--config", config), attic
}

// As a person would use it: a second gate as a target, killed in mid-stream; the next target follows; ten recorded exchanges are asked again
// of a preset with another template, and become a suite.
func TestASecondGate(t *testing.T) {
	g, attic := twoGates(t)
	must := func(stdin, want string, args ...string) string {
		t.Helper()
		out, errOut, code := run(t, g, stdin, args...)
		if code != 0 || !strings.Contains(out, want) {
			t.Fatalf("%s: exit %d\n%s%s\nwanted %q", strings.Join(args, " "), code, out, errOut, want)
		}
		return out
	}
	must("", "attic/harbour-4m", "machines", "probe", "attic", "harbour-4m")
	must("", "the first of attic/harbour-4m, harbour-4m serves \"helper\"", "names", "set", "helper", "attic/harbour-4m", "harbour-4m")
	const question = "When is the last boat to Osmer?"
	must("", "19:40", "ask", "--model", "helper", question)
	must("", "helper → attic/harbour-4m", "traffic", "--last", "1")
	must("", "harbour-4m (drained)", "names", "drain", "helper", "harbour-4m")
	must("", "the first of attic/harbour-4m, harbour-4m", "names", "restore", "helper", "harbour-4m")

	// The attic is killed while it answers: that stream ends with an error, and what comes next is answered here.
	ended := make(chan error, 1)
	go func() {
		_, err := stream(t.Context(), wideClient(1), g.BaseURL, g.Owner, "helper", "Write a guide to Marrow Isle.")
		ended <- err
	}()
	time.Sleep(20 * time.Millisecond) // it may have begun or not: either way something comes of it
	if err := attic.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if _, err := attic.Wait(10 * time.Second); err != nil {
		t.Fatal(err)
	}
	<-ended
	must("", "19:40", "ask", "--model", "helper", question)
	must("", "helper → harbour-4m", "traffic", "--last", "1")
	for range 3 {
		run(t, g, "", "ask", "--model", "attic/harbour-4m", question)
	}
	if _, errOut, code := run(t, g, "", "ask", "--model", "attic/harbour-4m", question); code != 1 || !strings.Contains(errOut, `the machine "attic"`) {
		t.Errorf("exit %d: %s", code, errOut)
	}
	must("", "circuit open: is unreachable: nothing listens", "machines")

	// Replay and suite.
	for i := range 10 {
		must("", "", "ask", "--model", "harbour-4m", fmt.Sprintf("When is boat %d to Osmer?", i))
	}
	template := filepath.Join(g.Folder, "other.jinja")
	if err := os.WriteFile(template, []byte(`{% for m in messages %}{{ m.content }} {% endfor %}`), 0o600); err != nil {
		t.Fatal(err)
	}
	must("", "loud is added", "presets", "add", "loud", "--model", "harbour-4m", "--template", template)
	var list struct {
		Exchanges []struct{ ID, State, Model string }
	}
	if err := json.Unmarshal([]byte(must("", "", "traffic", "--model", "harbour-4m", "--last", "10", "--json")), &list); err != nil || len(list.Exchanges) != 10 {
		t.Fatal(err, list)
	}
	for _, e := range list.Exchanges {
		out := must("", "REPLAYED", "replay", e.ID, "--model", "loud")
		if !strings.Contains(out, "loud (harbour-4m)") || !strings.Contains(out, "words in common") && !strings.Contains(out, "are the same, word by word") {
			t.Error(out)
		}
	}
	suite := filepath.Join(g.Folder, "suite.yaml")
	made := must("", "suite: Ferries", "suite", "from", "--since", "1h", "--model", "harbour-4m", "--title", "Ferries")
	if err := os.WriteFile(suite, []byte(made), 0o600); err != nil {
		t.Fatal(err)
	}
	report := filepath.Join(g.Folder, "report.xml")
	out, errOut, code := run(t, g, "", "suite", "run", suite, "--model", "harbour-4m", "--model", "loud", "--junit", report)
	if code != 1 || !strings.Contains(out, "HARBOUR-4M") || !strings.Contains(out, "LOUD") || !strings.Contains(errOut, "passed less often") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	raw, err := os.ReadFile(report)
	var junit struct {
		Suites []struct {
			Tests    int `xml:"tests,attr"`
			Failures int `xml:"failures,attr"`
		} `xml:"testsuite"`
	}
	if err == nil {
		err = xml.Unmarshal(raw, &junit)
	}
	if err != nil || len(junit.Suites) != 2 || junit.Suites[0].Tests < 10 || junit.Suites[1].Failures == 0 {
		t.Errorf("%v\n%s", err, raw)
	}
	must("", "Ferries", "suite", "list")
	must("", "LOG-PROBABILITY", "render", "--compare", "--model", "harbour-4m", "--answer", "At 19:40.", "--template", template, question)
	must("", `"$schema"`, "suite", "schema")
	for want, args := range map[string][]string{
		"was not recorded": {"replay", "nobody"}, "there is no such": {"replay", "nobody", "--json"}, "is one of the targets": {"names", "set", "x", "harbour-4m", "--share", "nobody=2"},
	} {
		if _, errOut, code := run(t, g, "", args...); code == 0 || errOut == "" || strings.Contains(errOut, "panic") {
			t.Errorf("%v: exit %d %s (%s)", args, code, errOut, want)
		}
	}
	if _, errOut, code := run(t, g, "suite: x\ncases: {a: {said: [{user: x}], answer: {hold: y}}}", "suite", "run", "/dev/stdin", "--model", "harbour-4m"); code != 1 || !strings.Contains(errOut, `did you mean "holds"?`) {
		t.Errorf("exit %d: %s", code, errOut)
	}
}

// In the console: how machines do, a name that is drained and given another target, an exchange asked again, a suite run.
func TestMachinesInTheConsole(t *testing.T) {
	g, _ := twoGates(t)
	for _, args := range [][]string{{"names", "set", "helper", "attic/harbour-4m", "harbour-4m"}, {"presets", "add", "master", "--model", "harbour-4m", "--instructions", "You are a cheerful harbour master."},
		{"ask", "--model", "harbour-4m", "When is the last boat to Osmer?"}} {
		if _, errOut, code := run(t, g, "", args...); code != 0 {
			t.Fatal(errOut)
		}
	}
	tab, do := browse(t)
	type css = chromedp.CSS
	visit := func(where string) chromedp.Action[chromedp.Void] {
		return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("location.hash = %q", "/"+where))
	}
	answered := func() string {
		t.Helper()
		_, errOut, code := run(t, g, "", "ask", "--model", "helper", "When?")
		if code != 0 {
			t.Fatal(errOut)
		}
		out, _, _ := run(t, g, "", "traffic", "--last", "1")
		return out
	}
	do("sign in", chromedp.Navigate(strings.TrimSuffix(g.BaseURL, "v1")), chromedp.SendKeys(css("#owner-key"), g.Owner+"\r"), chromedp.WaitVisible(css(`[data-testid="base-url"]`)))
	do("the machine", visit("machines"), chromedp.WaitVisible(`//*[@data-testid="machine attic"]//span[text()="healthy"]`),
		chromedp.Click(css(`[aria-label="Probe attic"]`)), chromedp.WaitVisible(`//*[@data-testid="machine attic"]//td[contains(text(), "log-probabilities")]`))
	if out := answered(); !strings.Contains(out, "helper → attic/harbour-4m") {
		t.Error(out)
	}
	do("drain it", chromedp.Click(css(`[aria-label="Drain attic/harbour-4m of helper"]`)), chromedp.WaitVisible(css(`[aria-label="Use attic/harbour-4m of helper"]`)))
	if out := answered(); !strings.Contains(out, "helper → harbour-4m") {
		t.Error(out)
	}
	do("use it again", chromedp.Click(css(`[aria-label="Use attic/harbour-4m of helper"]`)), chromedp.WaitVisible(css(`[aria-label="Drain attic/harbour-4m of helper"]`)))
	do("another name", chromedp.Click(`//button[text()="Add a name"]`), chromedp.SendKeys(css("#name-name"), "desk"), chromedp.Click(`//button[text()="One more"]`),
		chromedp.Click(css("#name-way")), chromedp.Click(`//*[@role="option"][contains(., "least busy")]`),
		chromedp.Click(`//*[@role="dialog"]//button[text()="Add"]`), chromedp.WaitVisible(css(`[data-testid="name desk"]`)))
	if out, _, _ := run(t, g, "", "names", "--json"); !strings.Contains(out, `"strategy": "least_busy"`) {
		t.Error(out)
	}
	id := ""
	for deadline := time.Now().Add(10 * time.Second); id == "" && time.Now().Before(deadline); {
		var list struct{ Exchanges []struct{ ID, Model string } }
		out, _, _ := run(t, g, "", "traffic", "--model", "harbour-4m", "--json")
		if err := json.Unmarshal([]byte(out), &list); err != nil {
			t.Fatal(err)
		}
		for _, e := range list.Exchanges {
			if e.Model == "harbour-4m" {
				id = e.ID
			}
		}
	}
	do("ask again", visit("traffic/exchange/"+id), chromedp.Click(`//*[@role="dialog"]//a[text()="Replay"]`), chromedp.Click(css("#replay-model")), chromedp.Click(`//*[@role="option"][contains(., "master")]`),
		chromedp.Click(`//button[text()="Replay"]`), chromedp.WaitVisible(css(`[data-testid="replay"] ins`)))
	said, err := chromedp.Run(tab, chromedp.Text(css(`[data-testid="replay"]`)))
	if err != nil || !strings.Contains(said, "First difference at token 1") || !strings.Contains(said, "19:40") {
		t.Errorf("%s, %v", said, err)
	}
	do("a suite", visit("suites"), chromedp.Click(`//button[text()="Run the built-in suite"]`), chromedp.WaitVisible(css(`[data-testid="suite-report"]`)))
	rows, err := chromedp.Run(tab, chromedp.Evaluate[int](`document.querySelectorAll('[data-testid="suite-report"] tbody tr').length`))
	if err != nil || rows != 15 {
		t.Errorf("the report has %d rows, %v", rows, err)
	}
	do("beside the model", visit("models"), chromedp.WaitVisible(`//dd[contains(text(), "of 15 cases")]`))
}
