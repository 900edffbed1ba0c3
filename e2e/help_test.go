package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// notHere are examples that need what a test does not have, by a word in them: a server or a gate elsewhere, a gate that machines can join, a public page, minutes of time.
var notHere = []string{"https://", "attic/", "serve", "bench", " demo", "talk", "--follow", "~/", "--shadow", "http://", "tls://", "invite"}

// Every example of the help runs on the demo as it is written there, in the order of the commands. What an example needs beforehand is
// made here, with the names that it has.
func TestExamplesOfTheHelp(t *testing.T) {
	g := startDemo(t)
	folder := t.TempDir()
	t.Chdir(folder)
	for name, text := range map[string]string{
		"gate.yaml": "names: { timetable: harbour-4m }\n", "other.jinja": "{% for m in messages %}<|{{ m.role }}|>{{ m.content }}<|end|>{% endfor %}<|assistant|>", "timetable.txt": "The last boat to Osmer leaves at 19:40.",
		"ferry.yaml":     "suite: Ferry\nmodels: [harbour-4m]\ncases: { last-boat: { said: [{ user: When is the last boat to Osmer? }], answer: { holds: \"19:40\" } } }\n",
		"template.jinja": "{% for m in messages %}<|{{ m.role }}|>{{ m.content }}<|end|>{% endfor %}<|assistant|>", "conversation.json": `{"messages":[{"role":"user","content":"When is the last boat to Osmer?"}]}`,
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, args := range [][]string{
		{"ask", "When is the last boat to Osmer?"},
	} {
		if _, errOut, code := run(t, g, "", args...); code != 0 {
			t.Fatal(args, errOut)
		}
	}
	ran := 0
	var visit func(path ...string)
	visit = func(path ...string) {
		out, errOut, code := run(t, g, "", append(path, "--help")...)
		if code != 0 {
			t.Fatal(path, errOut)
		}
		for _, line := range section(out, "Examples:") {
			args, redirect := shellWords(t, line)
			if len(args) == 0 || containsAny(line, notHere) {
				continue
			}
			stdin := ""
			if args[0] == "cat" { // cat FILE | kindred …
				raw, err := os.ReadFile(args[1])
				if err != nil {
					t.Fatal(err)
				}
				stdin, args = string(raw), args[3:]
			}
			if i := slices.Index(args, "h4yq2n7c"); i >= 0 { // which stands for an id
				args[i] = lastAsked(t, g)
			}
			ran++
			out, errOut, code := run(t, g, stdin, args[1:]...)
			if code != 0 && !strings.Contains(errOut, "cases passed less often") { // which is a result
				t.Errorf("%s: %d %s", line, code, errOut)
			}
			if redirect != "" {
				if err := os.WriteFile(redirect, []byte(out), 0o600); err != nil {
					t.Fatal(err)
				}
			}
		}
		var names []string
		for _, line := range section(out, "Available Commands:") {
			if name := strings.Fields(line)[0]; name != "help" {
				names = append(names, name)
			}
		}
		slices.SortStableFunc(names, func(a, b string) int { return creating(b) - creating(a) })
		for _, name := range names {
			visit(append(path, name)...)
		}
	}
	visit()
	if ran < 25 {
		t.Errorf("only %d examples ran", ran)
	}
}

// creating is 1 for a command that creates what others change, and 0 for others.
func creating(name string) int {
	if slices.Contains([]string{"keys", "issue", "add", "set"}, name) {
		return 1
	}
	return 0
}

// lastAsked is the beginning of the id of the last exchange in the chat style that has an answer: one that only measured has none.
func lastAsked(t *testing.T, g *Gate) string {
	out, errOut, code := run(t, g, "", "traffic", "--style", "chat", "--last", "20", "--json")
	var list struct {
		Exchanges []struct {
			ID     string
			Tokens int `json:"completion_tokens"`
		}
	}
	if err := json.Unmarshal([]byte(out), &list); code != 0 || err != nil {
		t.Fatal(out, errOut, err)
	}
	for _, e := range list.Exchanges {
		if e.Tokens > 0 {
			return e.ID[:8]
		}
	}
	t.Fatal("nothing was asked")
	return ""
}

// section are the lines of a part of the help.
func section(help, title string) (lines []string) {
	_, rest, ok := strings.Cut(help, "\n"+title+"\n")
	if !ok {
		return nil
	}
	rest, _, _ = strings.Cut(rest, "\n\n")
	for line := range strings.SplitSeq(rest, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			lines = append(lines, line)
		}
	}
	return lines
}

var word = regexp.MustCompile(`'[^']*'|"[^"]*"|[^\s"]+(?:"[^"]*")?`)

// shellWords takes a line of an example apart, as a shell does; redirect is the file behind >.
func shellWords(t *testing.T, line string) (args []string, redirect string) {
	t.Helper()
	line, redirect, _ = strings.Cut(line, " > ")
	for _, w := range word.FindAllString(line, -1) {
		if strings.HasPrefix(w, "'") {
			args = append(args, strings.Trim(w, "'"))
			continue
		}
		args = append(args, strings.ReplaceAll(w, `"`, ""))
	}
	return args, strings.TrimSpace(redirect)
}

func containsAny(s string, list []string) bool {
	for _, one := range list {
		if strings.Contains(s, one) {
			return true
		}
	}
	return false
}
