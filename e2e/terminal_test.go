package e2e

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
)

// screen is a command on a terminal of its own, with what it has printed.
type screen struct {
	t     *testing.T
	file  *os.File
	cmd   *exec.Cmd
	mu    sync.Mutex
	text  strings.Builder
	ended chan struct{}
}

func onTerminal(t *testing.T, g *Gate, args ...string) *screen {
	t.Helper()
	s := &screen{t: t, cmd: exec.Command(g.Binary, args...), ended: make(chan struct{})}
	s.cmd.Env = append(Env(g.Folder), "TERM=xterm", "NO_COLOR=1")
	file, err := pty.StartWithSize(s.cmd, &pty.Winsize{Rows: 40, Cols: 120})
	if err != nil {
		t.Fatal(err)
	}
	s.file = file
	go func() {
		defer close(s.ended)
		buffer := make([]byte, 4096)
		for {
			n, err := file.Read(buffer)
			s.mu.Lock()
			s.text.Write(buffer[:n])
			s.mu.Unlock()
			if err != nil {
				return // the terminal is closed when the command ends
			}
		}
	}()
	t.Cleanup(func() {
		_ = s.cmd.Process.Kill() // it has ended, if all went well
		_ = file.Close()
		<-s.ended
	})
	return s
}

func (s *screen) print() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

func (s *screen) typed(keys string) {
	s.t.Helper()
	if _, err := s.file.WriteString(keys); err != nil {
		s.t.Fatal(err)
	}
}

// wait waits until something is printed behind what is there at the moment of the call that gave from.
func (s *screen) wait(from int, pattern string) int {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	for deadline := time.Now().Add(30 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if text := s.print(); re.MatchString(text[from:]) {
			return len(text)
		}
	}
	s.t.Fatalf("%q does not come: %q", pattern, s.print()[from:])
	return 0
}

// code waits for the end and gives the exit code.
func (s *screen) code() int {
	s.t.Helper()
	ended := make(chan error, 1)
	go func() {
		err := s.cmd.Wait()
		<-s.ended // what it printed last has been read
		ended <- err
	}()
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		s.t.Fatalf("it does not end: %q", s.print())
	}
	return s.cmd.ProcessState.ExitCode()
}

// A conversation on a terminal: Ctrl-C stops an answer and empties a line, but does not end the program; what was said is kept.
func TestTalk(t *testing.T) {
	g := startDemo(t)
	s := onTerminal(t, g, "talk", "-t", "0", "--reason")
	at := s.wait(0, `Ctrl-D ends the talk[\s\S]*> `)
	s.typed("Which is quicker to reach, Brannoc or Marrow Isle?\r")
	at = s.wait(at, `Brannoc is quicker[\s\S]*\d+ \+ \d+ tokens[\s\S]*reasoned for about \d+ tokens[\s\S]*> `)
	s.typed(":reasoning\r")
	at = s.wait(at, `25 minutes is less than 80 minutes[\s\S]*> `)
	s.typed(":reason off\r")
	at = s.wait(at, `> $`)
	s.typed("something else\x03When is the last boat to Osmer?\r")
	at = s.wait(at, `19:40[\s\S]*> `)
	s.typed(":edit\r")
	at = s.wait(at, `> When is the last boat to Osmer\?`)
	s.typed("\x15When is the first boat to Osmer?\r")
	at = s.wait(at, `08:00[\s\S]*> `)
	s.typed("two lines \\\rof one turn\r") // a backslash goes on
	at = s.wait(at, `tokens/s[\s\S]*> `)
	s.typed("\x1b[200~pasted one\rpasted two\x1b[201~\r")
	at = s.wait(at, `tokens/s[\s\S]*> `)
	s.typed(":style completion\r")
	at = s.wait(at, `On in the completion style[\s\S]*> `)
	s.typed(" and so on\r")
	at = s.wait(at, `\r?\n`)
	s.typed("\x03")
	at = s.wait(at, `> `) // stopped, or at its end before that
	s.typed(":model nope\r")
	s.wait(at, `> `)
	s.typed("\x04")
	if code := s.code(); code != 0 || !strings.Contains(s.print(), "kindred talk --resume") {
		t.Errorf("code %d: %q", code, s.print())
	}
	files, err := filepath.Glob(filepath.Join(g.Folder, "state", "kindred-gate", "talks", "*.json"))
	if err != nil || len(files) != 1 {
		t.Fatalf("%v, %v", files, err)
	}
	raw, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	var kept struct {
		Turns []struct{ Role, Content string }
	}
	if err := json.Unmarshal(raw, &kept); err != nil || len(kept.Turns) < 8 || len(kept.Turns)%2 != 0 {
		t.Fatalf("%s, %v", raw, err)
	}
	for i, want := range map[int]string{0: "Which is quicker to reach, Brannoc or Marrow Isle?", 2: "When is the first boat to Osmer?", 4: "two lines \nof one turn", 6: "pasted one\npasted two"} {
		if kept.Turns[i].Content != want {
			t.Errorf("turn %d is %q, want %q", i, kept.Turns[i].Content, want)
		}
	}
	if info, err := os.Stat(files[0]); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("others can read the talk: %v, %v", info.Mode(), err)
	}
	again := onTerminal(t, g, "talk", "--resume", "last")
	again.wait(0, `Which is quicker to reach[\s\S]*Brannoc is quicker[\s\S]*\x1b\[\?2004h> `) // what was said has such marks, too; here a line is read
	again.typed("\x04")
	if code := again.code(); code != 0 {
		t.Errorf("code %d", code)
	}
}

// "ask" on a terminal without a question begins a conversation, and Ctrl-C in a command that only answers ends it as shells expect.
func TestInterruptedCommands(t *testing.T) {
	g := startDemo(t)
	s := onTerminal(t, g, "ask")
	s.wait(0, `Ctrl-D ends the talk[\s\S]*> `)
	s.typed("\x04")
	if code := s.code(); code != 0 {
		t.Errorf("code %d", code)
	}
	long := onTerminal(t, g, "ask", "--style", "completion", "-t", "0", "-n", "2000", "The boats") // which goes round in circles until the limit
	long.wait(0, `[a-z]{3}`)                                                                       // of the answer, or that it is waited for
	if err := long.cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if code := long.code(); code != 130 || !strings.Contains(long.print(), "interrupted") {
		t.Errorf("code %d: %q", code, long.print())
	}
}

// A terminal that understands nothing but text gets nothing else.
func TestDumbTerminal(t *testing.T) {
	g := startDemo(t)
	s := onTerminal(t, g, "ask", "-t", "0", "When is the last boat to Osmer?")
	s.wait(0, `19:40`)
	s.code()
	if !strings.Contains(s.print(), "\x1b[K") {
		t.Errorf("no sign of life: %q", s.print())
	}
	dumb := &screen{t: t, cmd: exec.Command(g.Binary, "ask", "-t", "0", "When is the last boat to Osmer?"), ended: make(chan struct{})}
	dumb.cmd.Env = append(Env(g.Folder), "TERM=dumb")
	file, err := pty.Start(dumb.cmd)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	buffer := make([]byte, 1<<16)
	total := 0
	for {
		n, err := file.Read(buffer[total:])
		if total += n; err != nil {
			break
		}
	}
	if text := string(buffer[:total]); !strings.Contains(text, "19:40") || strings.Contains(text, "\x1b") {
		t.Errorf("%q", text)
	}
	_ = dumb.cmd.Wait() // its code is looked at elsewhere
}

// What a model, a label or an error says does nothing to a terminal.
func TestNothingIsObeyed(t *testing.T) {
	g := startDemo(t)
	const evil = "\x1b]0;owned\x07\x1b[31m\u202ered\u009b5m"
	out, errOut, code := run(t, g, "", "presets", "add", "evil", "--model", "harbour-4m", "--instructions", evil)
	if code != 0 {
		t.Fatal(out, errOut)
	}
	for _, args := range [][]string{{"presets"}, {"presets", "show", "evil"}, {"presets", "--json"}, {"ask", "-m", evil, "x"}, {"render", "-m", "evil", "x"}, {"models", "show", evil}, {evil}} {
		out, errOut, _ := run(t, g, "", args...)
		if args[0] == "render" {
			out = "" // what is piped on is exact
		}
		if text := out + errOut; strings.ContainsAny(text, "\x1b\x07\u009b\u202e") {
			t.Errorf("%q: %q", args, text)
		}
	}
	s := onTerminal(t, g, "render", "-m", "evil", "x")
	s.wait(0, `Tokens by turn`)
	if text := s.print(); strings.Contains(text, "\x1b]0;") || strings.Contains(text, "\u009b") || !strings.Contains(text, `\x1b]0;owned`) && !strings.Contains(text, `\u001b]0;owned`) {
		t.Errorf("%q", text)
	}
	// What is changed in a preset leaves the rest as it was.
	if _, errOut, code := run(t, g, "", "presets", "change", "evil", "--top-p", "0.9"); code != 0 {
		t.Fatal(errOut)
	}
	out, _, _ = run(t, g, "", "presets", "show", "evil", "--json")
	var p struct{ Instructions string }
	if err := json.Unmarshal([]byte(out), &p); err != nil || p.Instructions != evil {
		t.Errorf("%q, %v", out, err)
	}
	if strings.Contains(g.output.String(), "\x1b") {
		t.Errorf("the log: %q", g.output.String())
	}
}

// Whoever listens where a gate was killed does not get its owner key.
func TestOwnerKeyIsNotGivenToStrangers(t *testing.T) {
	g := startDemo(t)
	address := strings.TrimSuffix(strings.TrimPrefix(g.BaseURL, "http://"), "/v1")
	if err := g.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	<-g.exited
	owner, err := os.ReadFile(g.Owner)
	if err != nil {
		owner = []byte(g.Owner)
	}
	secret := strings.TrimSpace(string(owner))
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	seen := ""
	stranger := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		raw, err := json.Marshal(r.Header)
		if err != nil {
			t.Error(err)
		}
		seen += r.Method + " " + r.URL.String() + string(raw)
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"proof":"` + strings.Repeat("00", 32) + `","keys":[]}`)) // the client may be gone
	}))
	stranger.Listener.Close()
	stranger.Listener = l
	stranger.Start()
	defer stranger.Close()
	_, errOut, code := run(t, g, "", "keys", "list")
	mu.Lock()
	defer mu.Unlock()
	if code != 1 || !strings.Contains(errOut, "is not the gate that was started there") {
		t.Errorf("code %d: %s", code, errOut)
	}
	if seen == "" || strings.Contains(seen, secret) || strings.Contains(seen, "Authorization") {
		t.Errorf("the stranger saw %s", seen)
	}
}
