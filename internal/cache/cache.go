// Package cache keeps files that could be made again, in a folder that never takes more than it may: those that were not used for longest
// make room for others.
package cache

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/machine"
)

// Folder is such a folder. Its files can be deleted at any time when the gate does not run.
type Folder struct {
	Path    string // made when it is needed
	Space   int64  // bytes that all files together may take; nothing is kept if it is 0
	Suffix  string // of the files that it holds
	What    string // they are, in errors
	Setting string // that says how much space there is
}

// ErrNoSpace is wrapped by the error for a file that there is no space for.
var ErrNoSpace = errors.New("no space")

// part begins the names of files that are being written.
const part = "part-"

// Clean removes what a gate that was killed has left half written. It must not be called while files are written.
func (f Folder) Clean() error {
	left, err := filepath.Glob(filepath.Join(f.Path, part+"*"))
	for _, file := range left {
		err = errors.Join(err, os.Remove(file))
	}
	return err
}

// Clear removes all files that the folder holds.
func (f Folder) Clear() error {
	if f.Path == "" {
		return nil
	}
	entries, err := os.ReadDir(f.Path) // no pattern, since a folder may have a name that is one
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), f.Suffix) {
			continue
		}
		if failure := os.Remove(filepath.Join(f.Path, e.Name())); !errors.Is(failure, fs.ErrNotExist) {
			err = errors.Join(err, failure)
		}
	}
	return err
}

// File is the path of the file of that name.
func (f Folder) File(name string) string { return filepath.Join(f.Path, name+f.Suffix) }

// Used notes that a file was used, so that others go before it.
func (f Folder) Used(path string) {
	now := time.Now()
	_ = os.Chtimes(path, now, now) // which one was used last only decides which one goes first
}

// Write makes room for a file of about so many bytes, and has it written. It has its name, and replaces one of that name, when it is whole.
func (f Folder) Write(name string, size int64, write func(*os.File) error) error {
	if err := f.makeRoom(size); err != nil {
		return err
	}
	out, err := os.CreateTemp(f.Path, part)
	if err != nil {
		return err
	}
	err = write(out)
	if err == nil {
		err = out.Sync() // its name says that it is whole
	}
	err = errors.Join(err, out.Close())
	if err == nil {
		err = os.Rename(out.Name(), f.File(name))
	}
	if err != nil {
		err = errors.Join(err, os.Remove(out.Name()))
	}
	return err
}

// makeRoom removes what was not used for longest until there is room for so many bytes. As much again has to be free on the disk: what can be made
// again is not worth filling it.
func (f Folder) makeRoom(size int64) error {
	if size > f.Space {
		return fmt.Errorf("%w for %s: they would take %.1f GB of the %.1f GB that are set aside (%s)", ErrNoSpace, f.What, float64(size)/1e9, float64(f.Space)/1e9, f.Setting)
	}
	if err := os.MkdirAll(f.Path, 0o700); err != nil {
		return err
	}
	// A backup need not hold this folder (bford.info/cachedir).
	tag := filepath.Join(f.Path, "CACHEDIR.TAG")
	if err := os.WriteFile(tag, []byte("Signature: 8a477f597d28d172789f06886806bc55\n"), 0o600); err != nil {
		return err
	}
	entries, err := os.ReadDir(f.Path)
	if err != nil {
		return err
	}
	var files []fs.FileInfo
	used := int64(0)
	for _, e := range entries {
		info, err := e.Info()
		switch {
		case err != nil || !info.Mode().IsRegular():
		case strings.HasPrefix(e.Name(), part):
			used += info.Size() // which goes at the next start
		case strings.HasSuffix(e.Name(), f.Suffix):
			files = append(files, info)
			used += info.Size()
		}
	}
	slices.SortFunc(files, func(a, b fs.FileInfo) int { return cmp.Compare(a.ModTime().UnixNano(), b.ModTime().UnixNano()) })
	for _, one := range files {
		if used+size <= f.Space {
			break
		}
		if err := os.Remove(filepath.Join(f.Path, one.Name())); err != nil {
			return err
		}
		used -= one.Size()
	}
	if free, ok := machine.FreeSpace(f.Path); ok && free < 2*size {
		return fmt.Errorf("%w for %s: they would take %.1f GB of the %.1f GB that are free on the disk", ErrNoSpace, f.What, float64(size)/1e9, float64(free)/1e9)
	}
	return nil
}
