// Package e2e drives the real binary from outside: over HTTP, through its own command line, and through a
// browser. The harness is shared by the tests and by the program that takes the screenshots.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"
)

// Gate is a gate that runs in a process of its own, with folders of its own.
type Gate struct {
	Binary  string
	Folder  string // holds everything that the gate writes
	BaseURL string
	Key     string // an application's
	Owner   string // the owner key

	cmd    *exec.Cmd
	output safeBuffer
	exited chan struct{}
}

// safeBuffer may be written and read at once.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// Env is the environment of a person whose home is folder.
func Env(folder string) []string {
	return append(os.Environ(), "HOME="+folder, "XDG_DATA_HOME="+folder+"/data", "XDG_STATE_HOME="+folder+"/state", "XDG_CONFIG_HOME="+folder+"/config",
		"KINDRED_ADDRESS=", "KINDRED_KEY=", "KINDRED_CONFIG=", "KINDRED_LISTEN=", "NO_COLOR=")
}

var (
	baseLine  = regexp.MustCompile(`base URL +(http://\S+)`)
	keyLine   = regexp.MustCompile(`key +(kg_\S+)`)
	ownerLine = regexp.MustCompile(`(?:cat|owner key) +(/\S+owner\.key)`)
)

// Start runs the binary with args ("demo" or "serve" first) and waits until it says that it is up.
func Start(binary, folder string, args ...string) (*Gate, error) {
	return StartIn(Env(folder), binary, folder, args...)
}

// StartIn is Start in an environment of its own.
func StartIn(env []string, binary, folder string, args ...string) (*Gate, error) {
	g := &Gate{Binary: binary, Folder: folder, exited: make(chan struct{})}
	g.cmd = exec.Command(binary, args...)
	g.cmd.Env = env
	g.cmd.Stderr = &g.output
	out, err := g.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := g.cmd.Start(); err != nil {
		return nil, err
	}
	up := make(chan struct{})
	go func() {
		defer close(g.exited)
		lines := bufio.NewScanner(io.TeeReader(out, &g.output))
		for lines.Scan() {
			line := lines.Text()
			for re, field := range map[*regexp.Regexp]*string{baseLine: &g.BaseURL, keyLine: &g.Key, ownerLine: &g.Owner} {
				if m := re.FindStringSubmatch(line); m != nil && *field == "" {
					*field = m[1]
				}
			}
			if g.BaseURL != "" && g.Owner != "" && up != nil && line == "" {
				close(up)
				up = nil
			}
		}
		g.cmd.Wait() // its result is in ProcessState
	}()
	ready := up
	select {
	case <-ready:
	case <-g.exited:
		return nil, fmt.Errorf("kindred %s ended at once: %s", strings.Join(args, " "), g.output.String())
	case <-time.After(20 * time.Second):
		return nil, errors.Join(fmt.Errorf("kindred %s did not come up: %s", strings.Join(args, " "), g.output.String()), g.cmd.Process.Kill())
	}
	raw, err := os.ReadFile(g.Owner)
	if err != nil {
		return nil, errors.Join(err, g.cmd.Process.Kill())
	}
	g.Owner = strings.TrimSpace(string(raw))
	return g, nil
}

// Output is what the gate has printed so far.
func (g *Gate) Output() string { return g.output.String() }

// Signal tells the gate something.
func (g *Gate) Signal(s syscall.Signal) error { return g.cmd.Process.Signal(s) }

// Wait waits until the gate has ended and returns its exit code.
func (g *Gate) Wait(limit time.Duration) (int, error) {
	select {
	case <-g.exited:
		return g.cmd.ProcessState.ExitCode(), nil
	case <-time.After(limit):
		return 0, fmt.Errorf("the gate still runs after %v", limit)
	}
}

// Stop ends the gate.
func (g *Gate) Stop() error {
	select {
	case <-g.exited:
		return nil
	default:
	}
	if err := g.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	_, err := g.Wait(15 * time.Second)
	return err
}

// ResidentKB is the memory that the process holds, in kB.
func (g *Gate) ResidentKB() (int, error) {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", g.cmd.Process.Pid))
	if err != nil {
		return 0, err
	}
	var kb int
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			_, err := fmt.Sscan(rest, &kb)
			return kb, err
		}
	}
	return 0, errors.New("no VmRSS")
}

// processorTime is what the process has taken of the processors so far.
func (g *Gate) processorTime() time.Duration {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", g.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(raw), ") ")
	fields := strings.Fields(rest)
	const user, system, perSecond = 11, 12, 100 // proc(5), counted from the state on
	var sum time.Duration
	for _, i := range []int{user, system} {
		n, err := strconv.Atoi(fields[i])
		if err != nil {
			return 0
		}
		sum += time.Duration(n) * time.Second / perSecond
	}
	return sum
}

// Command runs a command of the same person beside the gate.
func (g *Gate) Command(stdin string, args ...string) (stdout, stderr string, code int, err error) {
	cmd := exec.Command(g.Binary, args...)
	cmd.Env = Env(g.Folder)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err = cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		err = nil
	}
	return out.String(), errOut.String(), cmd.ProcessState.ExitCode(), err
}

// Browser starts a headless Chromium with a window of that size. cancel ends it.
func Browser(ctx context.Context, profile string, width, height int) (tab context.Context, cancel func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, errors.New("chromium is missing: run \"make chromium\"")
	}
	flags := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(filepath.Join(profile, "chromium")),
		chromedp.WindowSize(width, height),
		// Chromium is to talk to the gate and to nobody else.
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	ctx, end := chromedp.NewExecAllocator(ctx, flags...)
	tab, close := chromedp.NewContext(ctx)
	return tab, func() { close(); end() }, nil
}
