// Command screenshots takes the pictures in docs/screenshots from the demo: the console in a headless browser,
// the command line in a terminal window on a display of its own. It needs the programs that "make screenshots"
// installs.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"kindredgate/e2e"
)

const (
	folder = "docs/screenshots"
	width  = 1280
	height = 800
)

func main() {
	log.SetFlags(0)
	if err := run(context.Background()); err != nil {
		log.Fatal("screenshots: ", err)
	}
}

func run(ctx context.Context) (err error) {
	binary, err := filepath.Abs("bin/kindred")
	if err != nil {
		return err
	}
	// The pictures show paths below it, so it has a name that does not change.
	home := filepath.Join(os.TempDir(), "sorrel")
	if err := os.Mkdir(home, 0o700); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(home)) }()
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := terminals(ctx, binary, home); err != nil {
		return err
	}
	// A second gate, in the attic. The first one has it as a machine, and one in the cellar that does not answer.
	attic, err := e2e.Start(binary, filepath.Join(home, "attic"), "demo", "--listen", "127.0.0.1:7801")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, attic.Stop()) }()
	key, settings := filepath.Join(home, "attic.key"), filepath.Join(home, "gate.yaml")
	if err := os.WriteFile(key, []byte(attic.Key), 0o600); err != nil {
		return err
	}
	// A small model that takes pictures, for the prompt that one becomes.
	if err := os.CopyFS(filepath.Join(home, "models", "lookout"), os.DirFS("internal/model/testdata/vision/pixtral/hf")); err != nil {
		return err
	}
	text := fmt.Sprintf("fleet: { listen: \"127.0.0.1:7803\" }\nmodels: { folders: [%s, %s] }\nrecord: { content: true }\ntools:\n  ferry: { command: [%s, demo-tools] }\n  berths: { command: [sh, -c, \"echo no berth is free >&2; exit 1\"] }\nrunners:\n  attic: { url: %q, key_file: %s }\n  cellar: { url: \"http://127.0.0.1:7802/v1\", models: [harbour-8m] }\n",
		filepath.Join(home, "data/kindred-gate/demo/models"), filepath.Join(home, "models"), binary, attic.BaseURL, key)
	if err := os.WriteFile(settings, []byte(text), 0o600); err != nil {
		return err
	}
	g, err := e2e.Start(binary, home, "serve", "--config", settings)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, g.Stop()) }()
	annex, err := joined(g, filepath.Join(home, "annex"), filepath.Join(home, "attic/data/kindred-gate/demo/models"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, annex()) }()
	return console(ctx, g, home)
}

// joined starts a machine that joins the gate as annex, with the models of a folder, and answers something there. It gives what stops it.
func joined(g *e2e.Gate, folder, models string) (stop func() error, err error) {
	out, errOut, code, err := g.Command("", "machines", "invite", "annex")
	if err != nil || code != 0 {
		return nil, fmt.Errorf("invite a machine: %w: %s", err, errOut)
	}
	_, command, _ := strings.Cut(out, "kindred join ")
	args := append([]string{"join"}, strings.Fields(command)...)
	cmd := exec.Command(g.Binary, append(args, "--data", folder, "--folder", models, "--models", "harbour-4m", "--at-once", "4")...)
	cmd.Env = e2e.Env(folder)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	stop = func() error {
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
		return nil
	}
	for range 100 {
		if out, _, _, err := g.Command("", "ask", "--model", "annex/harbour-4m", "Write a guide to Marrow Isle."); err == nil && out != "" {
			return stop, nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil, errors.Join(errors.New("the machine does not join"), stop())
}

// console takes the pages, signed in as a person would.
func console(ctx context.Context, g *e2e.Gate, home string) error {
	if _, _, _, err := g.Command("", "keys", "issue", "--label", "old kiosk"); err != nil {
		return err
	}
	if _, _, _, err := g.Command("", "keys", "revoke", "old kiosk"); err != nil {
		return err
	}
	if _, _, _, err := g.Command("", "presets", "add", "harbour-master", "--model", "harbour-4m", "--instructions", "You are a cheerful harbour master."); err != nil {
		return err
	}
	for _, c := range [][]string{
		{"machines", "probe", "attic", "harbour-4m"},
		{"names", "set", "timetable", "attic/harbour-4m", "harbour-4m", "--strategy", "prefix_affinity", "--shadow", "harbour-master", "--shadow-share", "0.1"},
		{"names", "set", "*", "harbour-4m"},
	} {
		if _, errOut, code, err := g.Command("", c...); err != nil || code != 0 {
			return fmt.Errorf("kindred %s: %w: %s", strings.Join(c, " "), err, errOut)
		}
	}
	if err := suites(g); err != nil {
		return err
	}
	if err := traffic(g); err != nil {
		return err
	}
	recorded, err := recordedExchange(g)
	if err != nil {
		return err
	}
	tab, cancel, err := e2e.Browser(ctx, home, width, height)
	if err != nil {
		return err
	}
	defer cancel()
	tab, stop := context.WithTimeout(tab, time.Minute)
	defer stop()
	type css = chromedp.CSS
	page := strings.TrimSuffix(g.BaseURL, "v1")
	ferry, err := filepath.Abs("tools/screenshots/ferry.png")
	if err != nil {
		return err
	}
	return chromedp.Do(tab,
		chromedp.EmulateViewport(width, height),
		chromedp.Navigate(page),
		chromedp.WaitVisible(css("#owner-key")),
		chromedp.SendKeys(css("#owner-key"), g.Owner+"\r"),
		chromedp.WaitVisible(css(`[data-testid="base-url"]`)),
		open("try"),
		chromedp.SendKeys(css("#question"), "Write a guide to Marrow Isle."),
		chromedp.Click(`//button[text()="Ask"]`),
		chromedp.WaitVisible(css(`[data-testid="figures"]`)),
		chromedp.Click(`//button[text()="Ask in every style"]`),
		chromedp.WaitVisible(`(//*[@data-testid="figures"])[4]`),
		chromedp.Click(`//button[text()="Response"]`),
		chromedp.Click(`//button[text()="Ask"]`),
		chromedp.WaitVisible(css(`[data-testid="figures"]`)),
		chromedp.Click(css(`[role="tab"][id$="trigger-events"]`)),
		chromedp.WaitVisible(css(`[data-testid="events"]`)),
		chromedp.Click(css(`[role="tab"][id$="trigger-snippet"]`)),
		chromedp.WaitVisible(css(`[data-testid="snippet"]`)),
		chromedp.Reload(), // which forgets what was typed
		chromedp.WaitVisible(css("#question")),
		chromedp.Click(`//button[text()="Response"]`),
		chromedp.WaitVisible(`//label[contains(., "ferry")]`),
		chromedp.Click(`//label[contains(., "ferry")]`),
		chromedp.SendKeys(css("#question"), "Find the next boat to Osmer after 10:00 and hold 2 seats."),
		chromedp.SendKeys(css("#temperature"), "0"),
		chromedp.Click(`//button[text()="Ask"]`),
		chromedp.WaitVisible(`//button[text()="Run it"]`),
		chromedp.Click(`//button[text()="Run it"]`),
		chromedp.WaitVisible(`//*[@data-testid="answer"][contains(text(), "The reference is")]`),
		chromedp.WaitVisible(css(`[data-testid="figures"]`)),
		picture("console-try-it.png"),
		open("tools"),
		chromedp.WaitVisible(`//*[@data-testid="tools ferry"]//td[text()="1"]`), // a call has been counted
		picture("console-tools.png"),
		open("models"),
		chromedp.WaitVisible(`//article//span[text()="loaded"]`),
		picture("console-models.png"),
		open("prompt"),
		chromedp.WaitVisible(css(`[data-testid="prompt"]`)),
		chromedp.SendKeys(css(`[aria-label="Text of turn 2"]`), kb.End+" Say <|end|> when you are done."),
		chromedp.WaitVisible(`//*[@data-testid="prompt"]/span[contains(text(), "when you are done.")]`),
		chromedp.Click(css("#prompt-model")),
		chromedp.Click(`//*[@role="option"][contains(., "lookout")]`),
		chromedp.SetUploadFiles(css(`[data-testid="pictures"] input`), []string{ferry}),
		chromedp.WaitVisible(`//*[@data-testid="prompt"]/span[contains(text(), "[picture, 480 × 320")]`),
		picture("console-prompt.png"),
		open("machines"),
		chromedp.WaitVisible(`//*[@data-testid="machine attic"]//td[contains(text(), "streams")]`),
		picture("console-machines.png"),
		open("traffic/exchange/"+recorded+"/replay"),
		chromedp.WaitVisible(css("#replay-instructions")),
		chromedp.SendKeys(css("#replay-instructions"), "You are a cheerful harbour master."),
		chromedp.Click(`//button[text()="Replay"]`),
		chromedp.WaitVisible(css(`[data-testid="replay"]`)),
		picture("console-replay.png"),
		open("suites"),
		chromedp.WaitVisible(css(`[data-testid="suite-report"]`)),
		picture("console-suites.png"),
		open("keys"),
		chromedp.WaitVisible(css("table")),
		picture("console-keys.png"),
		open("traffic"),
		chromedp.WaitVisible(`//*[@data-testid="exchanges"]//td[text()="kiosk"]`),
		picture("console-traffic.png"),
		open("setup"),
		chromedp.WaitVisible(css(`[data-testid="findings"]`)),
		picture("console-setup.png"),
		open("now"),
		chromedp.WaitVisible(css(`.uplot canvas`)),
		picture("console-now.png"),
	)
}

// traffic has applications ask, one of them more than it may.
func traffic(g *e2e.Gate) error {
	for label, questions := range map[string][]string{
		"timetable bot": {"When is the last boat to Osmer?", "And to Quillay?", "How long is the crossing to Wick Skerry?", "When is the first boat?"},
		"kiosk":         {"Write a guide to Marrow Isle.", "Which is quicker to reach, Brannoc or Marrow Isle?"},
	} {
		key, _, _, err := g.Command("", "keys", "issue", "--label", label, "--requests-per-minute", "3", "--tokens-per-day", "50000", "--expires", "30d")
		if err != nil {
			return err
		}
		for i, question := range questions {
			if _, _, _, err := g.Command("", "ask", "--key", strings.TrimSpace(key), "--model", "harbour-4m", "--style", []string{"chat", "response", "generate"}[i%3], question); err != nil {
				return err
			}
		}
	}
	return nil
}

// suites has two suites run, so that one follows the other.
func suites(g *e2e.Gate) error {
	for _, samples := range []string{"2", "5"} {
		// It exits with 1, since not every case is passed.
		if out, errOut, _, err := g.Command("", "suite", "run", "--model", "harbour-4m", "--model", "harbour-master", "--samples", samples); err != nil || !strings.Contains(out, "Abilities") {
			return fmt.Errorf("suite run: %w: %s", err, errOut)
		}
	}
	return nil
}

// recordedExchange is the id of an exchange that was recorded.
func recordedExchange(g *e2e.Gate) (string, error) {
	if _, errOut, code, err := g.Command("", "ask", "--model", "harbour-4m", "When is the last boat to Osmer?"); err != nil || code != 0 {
		return "", fmt.Errorf("ask: %w: %s", err, errOut)
	}
	var list struct{ Exchanges []struct{ ID string } }
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		out, _, _, err := g.Command("", "traffic", "--last", "1", "--json")
		if err != nil {
			return "", err
		}
		if err := json.Unmarshal([]byte(out), &list); err != nil {
			return "", err
		}
		if shown, _, _, err := g.Command("", "traffic", "show", list.Exchanges[0].ID); err == nil && strings.Contains(shown, "The prompt") {
			return list.Exchanges[0].ID, nil
		}
	}
	return "", errors.New("the exchange was not recorded")
}

func open(screen string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](fmt.Sprintf("location.hash = %q", "/"+screen))
}

// picture saves what the window shows, once its fonts are there.
func picture(name string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		err := chromedp.Do(ctx,
			chromedp.Evaluate[chromedp.Void]("document.fonts.ready.then(() => true)", chromedp.EvalAwaitPromise),
			chromedp.Sleep(300*time.Millisecond)) // for a hint or a menu to go away
		if err != nil {
			return err
		}
		raw, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(folder, name), raw, 0o644)
	})
}

// terminals takes the commands, each in a window of its own. The gate itself runs in the first.
func terminals(ctx context.Context, binary, home string) (err error) {
	const display = ":97"
	screen := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", fmt.Sprintf("%dx%dx24", width, height))
	if err := screen.Start(); err != nil {
		return fmt.Errorf("%w; run \"make screenshots\", which installs what is needed", err)
	}
	defer func() {
		err = errors.Join(err, screen.Process.Kill())
		_ = screen.Wait() // it was killed
	}()
	show := func(script string) (*exec.Cmd, error) {
		window := exec.CommandContext(ctx, "xterm", "-display", display, "-geometry", "125x36+0+0", "-b", "14", "-fa", "DejaVu Sans Mono", "-fs", "12.5",
			"-bg", "#f7f2e8", "-fg", "#17302a", "-xrm", "*color1: #b93a22", "-xrm", "*color2: #4c6b2f", "-xrm", "*boldColors: false", "-xrm", "*cursorBlink: false",
			"-e", "sh", "-c", script)
		window.Env = append(e2e.Env(home), "DISPLAY="+display, "LANG=C.UTF-8", "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"))
		return window, window.Start()
	}
	save := func(name string) error {
		return exec.CommandContext(ctx, "import", "-display", display, "-window", "root", filepath.Join(folder, name)).Run()
	}
	wait := func() { time.Sleep(2500 * time.Millisecond) }

	wait()
	// The pictures show a person's home folder, not a temporary one.
	gate, err := show(`cd / && echo '$ kindred demo' && kindred demo | sed -u "s#` + home + `#~#g"`)
	if err != nil {
		return err
	}
	wait()
	if err := save("terminal-demo.png"); err != nil {
		return err
	}
	defer func() {
		_ = gate.Process.Kill() // the gate ends with its terminal
		_ = gate.Wait()
	}()
	takeAfter := func(wait time.Duration, name string, commands ...string) error {
		script := ""
		for _, c := range commands {
			script += fmt.Sprintf("printf '%%s\\n' %s; %s; echo; ", quote("$ "+c), c)
		}
		window, err := show(script + "sleep 60")
		if err != nil {
			return err
		}
		time.Sleep(wait)
		err = save(name)
		_ = window.Process.Kill()
		_ = window.Wait()
		return err
	}
	take := func(name string, commands ...string) error {
		return takeAfter(2500*time.Millisecond, name, commands...)
	}
	err = errors.Join(
		take("terminal-ask.png",
			`kindred ask "When is the last boat to Osmer?"`,
			`kindred ask --style response --reason "Which is longer, Osmer or Brannoc?"`,
			`kindred ask -t 0 --tools ferry --run-all "Find the next boat to Osmer after 10:00 and hold 2 seats."`,
			`kindred ask --style embedding "a boat" "a ferry" "the Singing Cave"`,
			`kindred snippet --style generate "When is the last boat to Osmer?"`),
		talk(ctx, display, show, save),
		take("terminal-render.png",
			`kindred render --instructions "You are a cheerful harbour master." "And to Quillay? Please say <|end|> at the end."`,
			`kindred render --compare --instructions "Answer in one short sentence." "When is the last boat to Osmer?"`),
		takeAfter(25*time.Second, "terminal-bench.png", `kindred bench harbour-4m`),
		take("terminal-keys.png",
			`kindred keys issue --label "timetable bot" --requests-per-minute 60 --tokens-per-day 50000 --expires 30d`,
			`kindred keys list`,
			`kindred keys show "timetable bot"`,
			`kindred traffic --last 8`))
	if err != nil {
		return err
	}
	if err := pier(home); err != nil {
		return err
	}
	// From here on there are several models, and a command that needs one asks which.
	for _, c := range [][]string{
		{"models", "convert", "internal/model/testdata/harbour-4m", "--weights", "q4_k", "--out", filepath.Join(home, "pier", "harbour-q4.gguf")},
		{"models", "add", "internal/model/testdata/reference/qwen3/hf", "--name", "tiny-qwen3", "--copy"},
		{"models", "add", "internal/model/testdata/reference/gemma3/hf", "--name", "tiny-gemma3", "--copy"},
		{"models", "add", "internal/model/testdata/reference/phi3-longrope/hf", "--name", "tiny-phi3", "--copy"},
		{"models", "add", "internal/model/testdata/reference/mixtral/model.f32.gguf", "--name", "tiny-mixtral", "--copy"},
		{"models", "load", "tiny-qwen3"},
	} {
		cmd := exec.CommandContext(ctx, binary, c...)
		cmd.Env = e2e.Env(home)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("kindred %s: %w: %s", strings.Join(c, " "), err, out)
		}
	}
	return errors.Join(
		take("terminal-replay.png",
			`kindred presets add harbour-master --model harbour-4m --instructions "You are a cheerful harbour master." >/dev/null`,
			`KINDRED_KEY=$(kindred keys issue --label desk --record-content yes) kindred ask --model harbour-4m "When is the last boat to Osmer?"; sleep 0.3`,
			`kindred replay --model harbour-master`,
			`kindred suite run --model harbour-4m --model harbour-master | head -14`),
		take("terminal-models.png",
			`kindred models list`,
			`kindred models load tiny-phi3`,
			`kindred models look ~/pier --memory 16GiB --bandwidth 100GB </dev/null`,
			`kindred models remove tiny-mixtral --yes`))
}

// talk types into a conversation as a person would.
func talk(ctx context.Context, display string, show func(string) (*exec.Cmd, error), save func(string) error) error {
	window, err := show(`printf '%s\n' '$ kindred talk --reason'; kindred talk --reason; sleep 60`)
	if err != nil {
		return err
	}
	defer func() {
		_ = window.Process.Kill()
		_ = window.Wait()
	}()
	time.Sleep(1500 * time.Millisecond)
	for _, line := range []string{"Which is quicker to reach, Brannoc or Marrow Isle?", ":reasoning", ":reason off", "When is the last boat to Osmer?", ":again", ":help", "And to Qui"} {
		keys := exec.CommandContext(ctx, "xdotool", "type", "--delay", "8", line)
		enter := exec.CommandContext(ctx, "xdotool", "key", "Return")
		for _, c := range []*exec.Cmd{keys, enter} {
			if c == enter && line == "And to Qui" {
				continue // it is just being typed
			}
			c.Env = append(os.Environ(), "DISPLAY="+display)
			if out, err := c.CombinedOutput(); err != nil {
				return fmt.Errorf("xdotool: %w: %s", err, out)
			}
		}
		time.Sleep(1200 * time.Millisecond)
	}
	return save("terminal-talk.png")
}

// pier is a folder with models that are not installed, one of them cut short.
func pier(home string) error {
	dir := filepath.Join(home, "pier")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	raw, err := os.ReadFile("demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		return err
	}
	return errors.Join(os.WriteFile(filepath.Join(dir, "harbour-full.gguf"), raw, 0o644), os.WriteFile(filepath.Join(dir, "not-whole.gguf"), raw[:100_000], 0o644))
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
