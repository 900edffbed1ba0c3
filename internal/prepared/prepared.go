// Package prepared keeps models' weights in files of their own, in the order in which this processor multiplies them.
//
// A model can be used at once as it lies in its file; its kernels have to take rows apart for that, and to add across their
// registers. From panels, which [tensor.Matrix.WritePanels] writes, they need not. What a product gives is the same to the
// bit, so panels can take the rows' place while answers are under way.
//
// A file is used as long as the model's files are the very same. It holds nothing that could not be made again: a [Cache] is
// bounded, and its folder can be deleted at any time when the gate does not run.
package prepared

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/machine"
	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// Cache is a folder of prepared weights.
type Cache struct {
	Folder string // made when it is needed
	Space  int64  // bytes that all files together may take; nothing is kept if it is 0
}

// File are the prepared weights of a model. They are mapped, so it must not be closed before the model's last use.
type File struct {
	Path   string
	All    bool // the model multiplies with no others
	mapped *weights.Mapped
}

// Close unmaps the weights.
func (f *File) Close() error {
	if f == nil {
		return nil
	}
	return f.mapped.Close()
}

const (
	// version changes when what a file holds does.
	version = "kindred gate prepared weights 1\n"
	suffix  = ".panels"
	// part begins the names of files that are being written.
	part      = "part-"
	dataStart = 4096 // bytes before the weights: the version and a sum of what they are of
	pieceSize = 4 << 20
)

// ErrNoSpace is wrapped by the error for weights that there is no space for.
var ErrNoSpace = errors.New("no space for prepared weights")

// layout is what the file of a model holds.
type layout struct {
	matrices []*tensor.Matrix // those that have panels
	size     int64            // bytes of the file
	header   []byte
	name     string
}

// layoutOf is that for a model whose files have an identity. ok is false if there is nothing to prepare.
func layoutOf(m *model.Model, identity string) (l layout, ok bool) {
	h := sha256.New()
	fmt.Fprint(h, version, identity)
	l.size = dataStart
	for _, w := range m.Matrices() {
		n := w.PanelBytes()
		if n == 0 {
			continue
		}
		fmt.Fprintf(h, "%s %d %d %d\n", w.Type, w.Rows, w.Cols, n)
		l.matrices = append(l.matrices, w)
		l.size += n
	}
	sum := h.Sum(nil)
	l.header = append([]byte(version), sum...)
	l.name = hex.EncodeToString(sum[:16]) + suffix
	return l, len(l.matrices) > 0
}

// Needs is how many bytes the weights of a model take when they are prepared; 0 if none can be, or nothing is to be kept.
func (c Cache) Needs(m *model.Model) int64 {
	l, ok := layoutOf(m, "")
	if !ok || c.Space <= 0 {
		return 0
	}
	return l.size
}

// Open has the model use its prepared weights if they are there. If they are not, the file is nil.
func (c Cache) Open(m *model.Model, identity string) (*File, error) {
	l, ok := layoutOf(m, identity)
	if !ok || c.Space <= 0 {
		return nil, nil
	}
	path := filepath.Join(c.Folder, l.name)
	mapped, err := weights.Map(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if int64(len(mapped.Data)) != l.size || !bytes.HasPrefix(mapped.Data, l.header) {
		return nil, errors.Join(fmt.Errorf("%s is damaged; it is made anew", path), mapped.Close(), os.Remove(path))
	}
	now := time.Now()
	_ = os.Chtimes(path, now, now) // which one was used last only decides which one goes first
	at := int64(dataStart)
	for _, w := range l.matrices {
		n := w.PanelBytes()
		w.UsePanels(mapped.Data[at : at+n])
		at += n
	}
	return &File{Path: path, All: len(l.matrices) == len(m.Matrices()), mapped: mapped}, nil
}

// Make writes the prepared weights of a model and has it use them. before is called before each piece of work of some 4 MB,
// with how many bytes are written of those that it [Cache.Needs]; an error of it ends the work. If there is nothing to prepare,
// the file is nil.
func (c Cache) Make(ctx context.Context, m *model.Model, identity string, before func(done int64) error) (*File, error) {
	l, ok := layoutOf(m, identity)
	if !ok || c.Space <= 0 {
		return nil, nil
	}
	if err := c.makeRoom(l.size); err != nil {
		return nil, err
	}
	out, err := os.CreateTemp(c.Folder, part)
	if err != nil {
		return nil, err
	}
	err = l.write(ctx, out, before)
	if err == nil {
		err = out.Sync() // its name says that it is whole
	}
	err = errors.Join(err, out.Close())
	if err == nil {
		err = os.Rename(out.Name(), filepath.Join(c.Folder, l.name))
	}
	if err != nil {
		return nil, errors.Join(err, os.Remove(out.Name()))
	}
	return c.Open(m, identity)
}

func (l *layout) write(ctx context.Context, out *os.File, before func(done int64) error) error {
	if _, err := out.Write(append(slices.Clip(l.header), make([]byte, dataStart-len(l.header))...)); err != nil {
		return err
	}
	buffer := make([]byte, 0, pieceSize)
	done := int64(dataStart)
	for _, w := range l.matrices {
		panels := (w.Rows + tensor.PanelRows - 1) / tensor.PanelRows
		size := int(w.PanelBytes()) / panels
		step := max(1, pieceSize/size)
		for p := 0; p < panels; p += step {
			if err := errors.Join(context.Cause(ctx), before(done)); err != nil {
				return err
			}
			n := min(step, panels-p)
			buffer = slices.Grow(buffer[:0], n*size)[:n*size]
			err := weights.Guarded(func() error {
				w.WritePanels(buffer, p*tensor.PanelRows, min((p+n)*tensor.PanelRows, w.Rows))
				return nil
			})
			if err != nil {
				return err
			}
			if _, err := out.Write(buffer); err != nil {
				return err
			}
			done += int64(n * size)
		}
	}
	return nil
}

// makeRoom removes what was not used for longest until there is room for so many bytes, and what was left half written. As
// much again has to be free on the disk: preparing weights is not worth filling it.
func (c Cache) makeRoom(size int64) error {
	if size > c.Space {
		return fmt.Errorf("%w: they would take %.1f GB of the %.1f GB that are set aside (models.prepared)", ErrNoSpace, float64(size)/1e9, float64(c.Space)/1e9)
	}
	if err := os.MkdirAll(c.Folder, 0o700); err != nil {
		return err
	}
	// A backup need not hold this folder (bford.info/cachedir).
	tag := filepath.Join(c.Folder, "CACHEDIR.TAG")
	if err := os.WriteFile(tag, []byte("Signature: 8a477f597d28d172789f06886806bc55\n"), 0o600); err != nil {
		return err
	}
	entries, err := os.ReadDir(c.Folder)
	if err != nil {
		return err
	}
	var files []fs.FileInfo
	used := int64(0)
	for _, e := range entries {
		info, err := e.Info()
		switch {
		case err != nil || !info.Mode().IsRegular():
		case strings.HasPrefix(e.Name(), part) && time.Since(info.ModTime()) > time.Hour:
			if err := os.Remove(filepath.Join(c.Folder, e.Name())); err != nil {
				return err
			}
		case strings.HasSuffix(e.Name(), suffix):
			files = append(files, info)
			used += info.Size()
		}
	}
	slices.SortFunc(files, func(a, b fs.FileInfo) int { return cmp.Compare(a.ModTime().UnixNano(), b.ModTime().UnixNano()) })
	for _, f := range files {
		if used+size <= c.Space {
			break
		}
		if err := os.Remove(filepath.Join(c.Folder, f.Name())); err != nil {
			return err
		}
		used -= f.Size()
	}
	if free, ok := machine.FreeSpace(c.Folder); ok && free < 2*size {
		return fmt.Errorf("%w: they would take %.1f GB of the %.1f GB that are free on the disk", ErrNoSpace, float64(size)/1e9, float64(free)/1e9)
	}
	return nil
}
