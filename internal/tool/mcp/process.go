package mcp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/system"
)

// Times that a process has to end: first after its standard input was closed, then after it was asked to, and behind its output's end.
const (
	politely = 2 * time.Second
	firmly   = time.Second
	briefly  = 100 * time.Millisecond
)

// process is a server that the gate has started. Writing goes to its standard input; closing ends it, with all that it has started.
type process struct {
	cmd   *exec.Cmd
	in    io.WriteCloser
	out   io.ReadCloser
	ended chan struct{} // closed when it has ended
	err   error         // how; to be read after that
	tail  *tail
	once  sync.Once
}

// spawn starts the server's command.
func (s *Server) spawn() (*process, error) {
	path, err := exec.LookPath(s.o.Command[0])
	if err != nil {
		return nil, fmt.Errorf("the program %q cannot be started: %w", s.o.Command[0], errors.Unwrap(err))
	}
	cmd := exec.Command(path, s.o.Command[1:]...)
	cmd.Env, cmd.Dir = environment(s.o.Env, os.Getenv("PATH")), s.o.Folder
	system.Group(cmd)
	// Pipes of our own, so that Wait does not wait for what a process that outlives the server has open.
	inRead, in, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	out, outWrite, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, inRead.Close(), in.Close())
	}
	errRead, errWrite, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, inRead.Close(), in.Close(), out.Close(), outWrite.Close())
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = inRead, outWrite, errWrite
	err = cmd.Start()
	_, _, _ = inRead.Close(), outWrite.Close(), errWrite.Close() // which the process has now
	if err != nil {
		return nil, errors.Join(fmt.Errorf("start %s: %w", s.o.Command[0], err), in.Close(), out.Close(), errRead.Close())
	}
	p := &process{cmd: cmd, in: in, out: out, ended: make(chan struct{}), tail: &s.tail}
	read := make(chan struct{})
	s.working.Go(func() {
		defer close(read)
		s.tail.follow(errRead)
	})
	s.working.Go(func() {
		p.err = cmd.Wait()
		_ = system.Kill(cmd) // what it has left behind; mostly nothing is there
		select {
		case <-read: // its last words
		case <-time.After(firmly): // something that left its group has them open
		}
		close(p.ended)
		_ = out.Close()
		_ = errRead.Close()
	})
	return p, nil
}

func (p *process) Write(b []byte) (int, error) { return p.in.Write(b) }

// Close ends the process: by the end of its input, by asking, by force.
func (p *process) Close() error {
	p.once.Do(func() {
		_ = p.in.Close() // it may have ended already
		for _, step := range []struct {
			wait time.Duration
			then func(*exec.Cmd) error
		}{{politely, system.Terminate}, {firmly, system.Kill}} {
			select {
			case <-p.ended:
				return
			case <-time.After(step.wait):
				_ = step.then(p.cmd) // if it has ended meanwhile, that is as well
			}
		}
		<-p.ended
	})
	return nil
}

// explain says how a process has ended by itself, where that tells more than an error. What it wrote last is in the status.
func (p *process) explain(err error) error {
	select {
	case <-p.ended:
		// That of the pipe is our own doing: what it wrote was not taken.
		if p.err != nil && p.err.Error() != "signal: broken pipe" {
			return fmt.Errorf("it ended with %w", p.err)
		}
	case <-time.After(briefly): // its end comes right behind that of its output
	}
	return err
}

// tail keeps the last lines of what a process writes to its standard error.
type tail struct {
	mu   sync.Mutex
	kept []string
}

func (t *tail) follow(r io.Reader) {
	lines := bufio.NewReaderSize(r, longLine)
	for {
		line, more, err := lines.ReadLine()
		if err != nil {
			return
		}
		text := strings.ToValidUTF8(string(line), "\uFFFD")
		for more && err == nil { // the rest of a long line is left out
			_, more, err = lines.ReadLine()
		}
		t.mu.Lock()
		if t.kept = append(t.kept, text); len(t.kept) > tailLines {
			t.kept = t.kept[1:]
		}
		t.mu.Unlock()
	}
}

func (t *tail) lines() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append([]string(nil), t.kept...)
}
