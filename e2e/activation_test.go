package e2e

import (
	"context"
	"errors"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A gate takes over a socket that was opened for it, as a system does that starts services when somebody connects: a request that came before
// the gate was there is answered.
func TestASocketThatWasOpenedBefore(t *testing.T) {
	folder := t.TempDir()
	socket, err := net.Listen("unix", filepath.Join(folder, "gate.sock"))
	if err != nil {
		t.Fatal(err)
	}
	defer socket.Close()
	file, err := socket.(*net.UnixListener).File()
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	answered := make(chan string, 1)
	go func() {
		c := &http.Client{Timeout: time.Minute, Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket.Addr().String())
		}}}
		resp, err := c.Get("http://localhost/healthz")
		if err != nil {
			answered <- err.Error()
			return
		}
		resp.Body.Close()
		answered <- resp.Status
	}()
	// The process that is to take the socket over is named, so the shell says its own number and becomes the gate.
	cmd := exec.Command("sh", "-c", `LISTEN_PID=$$ exec "$0" "$@"`, binary, "serve", "--listen", "127.0.0.1:0", "--models", folder, "--data", filepath.Join(folder, "gate"))
	cmd.Env = append(Env(folder), "LISTEN_FDS=1")
	cmd.ExtraFiles = []*os.File{file}
	var output safeBuffer
	cmd.Stdout, cmd.Stderr = &output, &output
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := cmd.Process.Signal(os.Interrupt); err != nil {
			t.Error(err)
		}
		_ = cmd.Wait() // an interrupt is no success
	}()
	if got := <-answered; !strings.HasPrefix(got, "200") {
		t.Errorf("who connected before is answered with %q\n%s", got, output.String())
	}
	if !strings.Contains(output.String(), "took over a socket") {
		t.Errorf("the gate says\n%s", output.String())
	}
}

// A socket that others reach is not taken over by a gate that is open to everybody.
func TestASocketForOthersWithOpenAccess(t *testing.T) {
	folder := t.TempDir()
	socket, err := net.Listen("tcp", "0.0.0.0:0")
	if err != nil {
		t.Fatal(err)
	}
	defer socket.Close()
	file, err := socket.(*net.TCPListener).File()
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second) // it would run on if it started
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", `LISTEN_PID=$$ exec "$0" "$@"`, binary, "serve", "--access", "open", "--listen", "127.0.0.1:0", "--models", folder, "--data", filepath.Join(folder, "gate"))
	cmd.Env = append(Env(folder), "LISTEN_FDS=1")
	cmd.ExtraFiles = []*os.File{file}
	out, err := cmd.CombinedOutput()
	if exit := (*exec.ExitError)(nil); !errors.As(err, &exit) || exit.ExitCode() != 1 || !strings.Contains(string(out), "access is open, which is refused on") {
		t.Errorf("%v, %s", err, out)
	}
}
