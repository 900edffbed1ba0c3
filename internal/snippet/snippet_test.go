package snippet

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
)

const hard = `{"model":"m","prompt":"it's \"100%\" <é😀> & ` + "`|`" + ` \\ back\\\" $HOME !x! ^","n":null,"b":true,"deep":[{"c":false}]}`

// arguments splits a command line as the C runtime on Windows does, after cmd.exe has taken its carets.
func arguments(line string) (list []string) {
	line = strings.ReplaceAll(line, "^\n", "")
	for i := 0; i < len(line); {
		if line[i] == ' ' || line[i] == '\n' {
			i++
			continue
		}
		var arg strings.Builder
		quoted := false
		for ; i < len(line) && (quoted || line[i] != ' ' && line[i] != '\n'); i++ {
			slashes := 0
			for i < len(line) && line[i] == '\\' {
				slashes++
				i++
			}
			if i < len(line) && line[i] == '"' {
				arg.WriteString(strings.Repeat(`\`, slashes/2))
				if slashes%2 == 1 {
					arg.WriteByte('"')
				} else {
					quoted = !quoted
				}
				continue
			}
			arg.WriteString(strings.Repeat(`\`, slashes))
			if i < len(line) {
				if !quoted && (line[i] == ' ' || line[i] == '\n') {
					break
				}
				arg.WriteByte(line[i])
			}
		}
		list = append(list, arg.String())
	}
	return list
}

// same reports whether two bodies are the same value.
func same(t *testing.T, a, b string) bool {
	t.Helper()
	var x, y any
	if json.Unmarshal([]byte(a), &x) != nil || json.Unmarshal([]byte(b), &y) != nil {
		return false
	}
	left, _ := json.Marshal(x)
	right, _ := json.Marshal(y)
	return string(left) == string(right)
}

// However hard its text is to quote, the body arrives as it is.
func TestBodiesSurviveQuoting(t *testing.T) {
	text, err := Write("generate", "cmd", "http://127.0.0.1:7717/v1", json.RawMessage(hard))
	if err != nil {
		t.Fatal(err)
	}
	args := arguments(text)
	if body := args[len(args)-1]; !same(t, body, hard) {
		t.Errorf("cmd.exe sends %s", body)
	}
	if body := strings.Split(text, "-d ")[1]; strings.ContainsAny(body, "&|<>^%!") {
		t.Errorf("cmd.exe would take a part for its own: %s", body)
	}

	text, err = Write("generate", "powershell", "http://127.0.0.1:7717/v1", json.RawMessage(hard))
	if err != nil {
		t.Fatal(err)
	}
	body, _, ok := strings.Cut(strings.TrimPrefix(text, "@'\n"), "\n'@ | ")
	if !ok || !same(t, body, hard) || strings.ContainsFunc(body, func(r rune) bool { return r > 0x7e }) {
		t.Errorf("PowerShell sends %s", body)
	}

	text, err = Write("generate", "curl", "http://127.0.0.1:7717/v1", json.RawMessage(hard))
	if err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("sh", "-c", `curl() { while [ "$1" != -d ]; do shift; done; printf %s "$2"; }; `+text).Output()
	if err != nil || !same(t, string(out), hard) {
		t.Errorf("a POSIX shell sends %s, %v", out, err)
	}
}

func TestWriteRefuses(t *testing.T) {
	for _, c := range [][3]string{{"talk", "go", "{}"}, {"chat", "cobol", "{}"}, {"chat", "go", "[]"}, {"chat", "go", "{"}} {
		if text, err := Write(c[0], c[1], "http://x/v1", json.RawMessage(c[2])); err == nil {
			t.Errorf("%v: %s", c, text)
		}
	}
}
