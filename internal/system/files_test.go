//go:build !windows

package system

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// A pipe, a device or a folder in the place of a file is an error at once; a file that is too long is one too.
func TestOnlyRegularFilesAreRead(t *testing.T) {
	dir := t.TempDir()
	pipe, file, link := filepath.Join(dir, "pipe"), filepath.Join(dir, "file"), filepath.Join(dir, "link")
	if err := errors.Join(syscall.Mkfifo(pipe, 0o600), os.WriteFile(file, []byte("12345"), 0o600), os.Symlink(file, link)); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{pipe, dir, "/dev/zero", "/dev/tty"} {
		if _, err := ReadFile(path, 100); !errors.Is(err, ErrNotRegular) && (path != "/dev/tty" || err == nil) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if _, err := ReadGiven(pipe, 100); !errors.Is(err, ErrNotRegular) {
		t.Errorf("a pipe in a folder: %v", err)
	}
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if _, err := w.WriteString("123456"); err != nil || w.Close() != nil {
		t.Fatal(err)
	}
	if _, err := ReadGiven(fmt.Sprintf("/dev/fd/%d", r.Fd()), 5); err == nil || !strings.Contains(err.Error(), "more than 5 bytes") {
		t.Errorf("what the shell hands over: %v", err)
	}
	if raw, err := ReadFile(link, 5); err != nil || string(raw) != "12345" {
		t.Errorf("%q, %v", raw, err)
	}
	if raw, err := ReadFile(file, 4); raw != nil || err == nil || !strings.Contains(err.Error(), "more than 4 bytes") {
		t.Errorf("%q, %v", raw, err)
	}
}
