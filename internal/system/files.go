package system

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
)

// ErrNotRegular is wrapped by the error for a path that names a pipe, a device, a socket or a folder where a file is wanted.
var ErrNotRegular = errors.New("not a regular file")

// Open opens a regular file for reading. Whatever else the path names is an error and never waited for: opening a pipe to which nobody
// writes would hang for good.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|withoutWaiting, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: ErrNotRegular}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ReadFile reads a regular file of at most limit bytes.
func ReadFile(path string, limit int64) ([]byte, error) { return read(Open, path, limit) }

// ReadGiven is [ReadFile] of a path that a person gave: what the shell hands over to the process (/dev/stdin, /dev/fd/3) is read to its end, too.
func ReadGiven(path string, limit int64) ([]byte, error) {
	if path == "/dev/stdin" || strings.HasPrefix(path, "/dev/fd/") {
		return read(os.Open, path, limit)
	}
	return ReadFile(path, limit)
}

func read(open func(string) (*os.File, error), path string, limit int64) ([]byte, error) {
	f, err := open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, limit+1)) // not by its size, which may change meanwhile
	if err == nil && int64(len(raw)) > limit {
		err = &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("it has more than %d bytes, the most that are read of such a file", limit)}
	}
	if err != nil {
		return nil, err
	}
	return raw, nil
}
