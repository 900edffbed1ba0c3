// Package prepared keeps models' weights in files of their own, in the order in which this processor multiplies them.
//
// A model can be used at once as it lies in its file; its kernels have to take rows apart for that, and to add across their
// registers. From panels, which [tensor.Matrix.WritePanels] writes, they need not. What a product gives is the same to the
// bit, so panels can take the rows' place while answers are under way.
//
// A file is used as long as the model's files are the very same, and after it was held against its checksums: what a disk has made of it would
// be answers that are wrong without a word. It holds nothing that could not be made again: a [Cache] is bounded, and its folder can be deleted
// at any time when the gate does not run.
package prepared

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"slices"
	"unsafe"

	"kindredgate/internal/cache"
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
	layout layout
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
	version = "kindred gate prepared weights 2 " + tensor.PanelOrder + "\n"
	suffix  = "." + tensor.PanelOrder + ".panels"

	dataStart = 4096 // bytes before the weights: the version and a sum of what they are of
	pieceSize = 4 << 20
	// sumOf is of how many bytes there is a checksum. All of them stand at the end of the file, with one of their own.
	sumOf    = 1 << 20
	sumBytes = 4
)

// polynomial is that of the checksums, which processors have an instruction for (RFC 3385).
var polynomial = crc32.MakeTable(crc32.Castagnoli)

// ErrDamaged is wrapped by the error for prepared weights that are not what was written.
var ErrDamaged = errors.New("the prepared weights are damaged")

// folder is the cache as a folder of files.
func (c Cache) folder() cache.Folder {
	return cache.Folder{Path: c.Folder, Space: c.Space, Suffix: suffix, What: "prepared weights", Setting: "models.prepared"}
}

// layout is what the file of a model holds.
type layout struct {
	matrices []*tensor.Matrix // those that have panels
	data     int64            // bytes of the head and the weights
	size     int64            // bytes of the file
	header   []byte
	name     string
}

// layoutOf is that for a model whose files have an identity. ok is false if there is nothing to prepare.
func layoutOf(m *model.Model, identity string) (l layout, ok bool) {
	h := sha256.New()
	fmt.Fprint(h, version, identity)
	l.data = dataStart
	for _, w := range m.Matrices() {
		n := w.PanelBytes()
		if n == 0 {
			continue
		}
		fmt.Fprintf(h, "%s %d %d %d\n", w.Type, w.Rows, w.Cols, n)
		l.matrices = append(l.matrices, w)
		l.data += n
	}
	l.size = l.data + sumBytes*((l.data+sumOf-1)/sumOf+1)
	sum := h.Sum(nil)
	l.header = append([]byte(version), sum...)
	l.name = hex.EncodeToString(sum[:16])
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

// Clean removes what a gate that was killed has left half written. It must not be called while prepared weights are made.
func (c Cache) Clean() error { return c.folder().Clean() }

// Open maps the prepared weights of a model if they are there. They are used when they were checked, by [File.Check] and [File.Use]. If they are
// not there, the file is nil; if they are no such file at all, they are removed, and the error wraps [ErrDamaged].
func (c Cache) Open(m *model.Model, identity string) (*File, error) {
	l, ok := layoutOf(m, identity)
	if !ok || c.Space <= 0 {
		return nil, nil
	}
	path := c.folder().File(l.name)
	mapped, err := weights.Map(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if int64(len(mapped.Data)) != l.size || !bytes.HasPrefix(mapped.Data, l.header) {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, ErrDamaged), mapped.Close(), os.Remove(path))
	}
	c.folder().Used(path)
	return &File{Path: path, All: len(l.matrices) == len(m.Matrices()), layout: l, mapped: mapped}, nil
}

// Check holds the file against its checksums. The error wraps [ErrDamaged] if it is not what was written, or cannot be read.
func (f *File) Check(ctx context.Context) error {
	var wrong error
	err := weights.Guarded(func() error {
		data, sums := f.mapped.Data[:f.layout.data], f.mapped.Data[f.layout.data:]
		list := sums[:len(sums)-sumBytes]
		if crc32.Checksum(list, polynomial) != binary.LittleEndian.Uint32(sums[len(list):]) {
			wrong = fmt.Errorf("%s: %w: its checksums are", f.Path, ErrDamaged)
			return nil
		}
		for i := 0; len(data) > 0; i++ {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			n := min(sumOf, len(data))
			if crc32.Checksum(data[:n], polynomial) != binary.LittleEndian.Uint32(list[sumBytes*i:]) {
				wrong = fmt.Errorf("%s: %w, in megabyte %d", f.Path, ErrDamaged, i)
				return nil
			}
			data = data[n:]
		}
		return nil
	})
	if errors.Is(err, weights.ErrFault) {
		return fmt.Errorf("%s: %w: it was cut short", f.Path, ErrDamaged)
	}
	return cmp.Or(wrong, err)
}

// Use has the model multiply with the file, which was checked.
func (f *File) Use() {
	at := int64(dataStart)
	for _, w := range f.layout.matrices {
		n := w.PanelBytes()
		w.UsePanels(f.mapped.Data[at : at+n])
		at += n
	}
}

// Rest has the model multiply with its own files again. What is under way may go on with this one.
func (f *File) Rest() {
	for _, w := range f.layout.matrices {
		w.UsePanels(nil)
	}
}

// Drop is Rest, and removes the file. It stays mapped for what is under way.
func (f *File) Drop() error {
	f.Rest()
	if err := os.Remove(f.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Holds reports whether an address lies in the file.
func (f *File) Holds(address uintptr) bool {
	if f == nil || len(f.mapped.Data) == 0 {
		return false
	}
	from := uintptr(unsafe.Pointer(unsafe.SliceData(f.mapped.Data)))
	return address >= from && address-from < uintptr(len(f.mapped.Data))
}

// Make writes the prepared weights of a model and has it use them. before is called before each piece of work of some 4 MB,
// with how many bytes are written of those that it [Cache.Needs]; an error of it ends the work. If there is nothing to prepare,
// the file is nil.
func (c Cache) Make(ctx context.Context, m *model.Model, identity string, before func(done int64) error) (*File, error) {
	l, ok := layoutOf(m, identity)
	if !ok || c.Space <= 0 {
		return nil, nil
	}
	if err := c.folder().Write(l.name, l.size, func(out *os.File) error { return l.write(ctx, out, before) }); err != nil {
		return nil, err
	}
	f, err := c.Open(m, identity)
	if err == nil && f == nil {
		err = fmt.Errorf("%s is gone as soon as it was written", l.name)
	}
	if err != nil {
		return nil, err
	}
	if err := f.Check(ctx); err != nil { // as it can be read
		return nil, errors.Join(err, f.Drop(), f.Close())
	}
	f.Use()
	return f, nil
}

// summing writes to a file and works out the checksums of what it writes.
type summing struct {
	out  *os.File
	sum  uint32
	n    int // bytes that sum is of
	sums []byte
}

func (s *summing) Write(p []byte) (int, error) {
	for rest := p; len(rest) > 0; {
		n := min(len(rest), sumOf-s.n)
		s.sum, s.n, rest = crc32.Update(s.sum, polynomial, rest[:n]), s.n+n, rest[n:]
		if s.n == sumOf {
			s.next()
		}
	}
	return s.out.Write(p)
}

func (s *summing) next() {
	s.sums = binary.LittleEndian.AppendUint32(s.sums, s.sum)
	s.sum, s.n = 0, 0
}

// end writes the checksums.
func (s *summing) end() error {
	if s.n > 0 {
		s.next()
	}
	_, err := s.out.Write(binary.LittleEndian.AppendUint32(s.sums, crc32.Checksum(s.sums, polynomial)))
	return err
}

func (l *layout) write(ctx context.Context, file *os.File, before func(done int64) error) error {
	out := &summing{out: file}
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
				return w.WritePanels(buffer, p*tensor.PanelRows, min((p+n)*tensor.PanelRows, w.Rows))
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
	return out.end()
}
