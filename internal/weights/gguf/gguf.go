// Package gguf reads GGUF files: a header of typed metadata followed by tensors, all in one file.
//
// A file is memory-mapped; tensor data is handed out as slices of the mapping and never copied. Nothing in
// a file is trusted: every count and offset is checked against the file's size before it is used, and no
// allocation is larger than the bytes that justify it. The layout is the one of the GGUF specification,
// versions 2 and 3, little-endian.
package gguf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"

	mmap "github.com/edsrzf/mmap-go"
)

// File is an open GGUF file. It is safe for concurrent reading until Close.
type File struct {
	Version   uint32
	Metadata  Metadata
	Tensors   []Tensor // in the order of the file
	Alignment int      // bytes

	byName map[string]int
	data   []byte // the whole file
	unmap  func() error
}

// Tensor is one array of the file.
type Tensor struct {
	Name string
	Type Type
	// Dims are the sizes of the dimensions, innermost first: a matrix of r rows and c columns, stored row
	// by row, has Dims [c, r].
	Dims []int
	Data []byte // a slice of the mapped file
}

// Type says how the elements of a tensor are stored. The numbers are those of the file format.
type Type uint32

// The element types that can be read today.
const (
	F32  Type = 0
	F16  Type = 1
	Q8_0 Type = 8
)

// layout is how a type packs its elements: elements per block, bytes per block.
type layout struct {
	name            string
	elements, bytes int
}

var layouts = map[Type]layout{
	F32:  {"F32", 1, 4},
	F16:  {"F16", 1, 2},
	Q8_0: {"Q8_0", 32, 34},
}

func (t Type) String() string {
	if l, ok := layouts[t]; ok {
		return l.name
	}
	return fmt.Sprintf("type %d", uint32(t))
}

// ErrNotGGUF is wrapped by the error for a file that is something else altogether.
var ErrNotGGUF = errors.New("not a GGUF file")

const (
	magic            = "GGUF"
	defaultAlignment = 32
	maxDims          = 4
	maxArrayDepth    = 4
)

// Open maps the file at path and reads its header. The error names the file and what is wrong with it.
func Open(path string) (*File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: %w: not a regular file", path, ErrNotGGUF)
	}
	if info.Size() == 0 {
		return nil, fmt.Errorf("%s: %w: the file is empty", path, ErrNotGGUF)
	}
	m, err := mmap.Map(f, mmap.RDONLY, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: map into memory: %w", path, err)
	}
	file, err := Parse(m)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", path, err), m.Unmap())
	}
	file.unmap = m.Unmap
	return file, nil
}

// Parse reads the header of a GGUF file held in data, which must stay unchanged while the File is used.
func Parse(data []byte) (*File, error) {
	r := &reader{data: data}
	if string(r.bytes(len(magic))) != magic {
		return nil, fmt.Errorf("%w: it does not begin with %q", ErrNotGGUF, magic)
	}
	f := &File{data: data, Alignment: defaultAlignment, unmap: func() error { return nil }}
	switch f.Version = r.uint32(); {
	case r.err != nil:
		return nil, r.err
	case f.Version == 2 || f.Version == 3:
	case f.Version&0xffff == 0:
		return nil, errors.New("big-endian GGUF files are not supported; convert the file to little-endian")
	default:
		return nil, fmt.Errorf("GGUF version %d is not supported; versions 2 and 3 are", f.Version)
	}
	tensors := r.count("tensor", minTensorInfo)
	keys := r.count("metadata key", minKeyValue)
	if r.err != nil {
		return nil, r.err
	}
	f.Metadata = make(Metadata, keys)
	for range keys {
		key := r.string()
		value := r.value(Kind(r.uint32()), 0)
		if r.err != nil {
			return nil, fmt.Errorf("metadata %q: %w", key, r.err)
		}
		if _, dup := f.Metadata[key]; dup {
			return nil, fmt.Errorf("metadata %q appears twice", key)
		}
		f.Metadata[key] = value
	}
	if _, ok := f.Metadata["general.alignment"]; ok {
		a, err := f.Metadata.Int("general.alignment")
		if err != nil {
			return nil, err
		}
		if a < 8 || a > 1<<20 || a&(a-1) != 0 {
			return nil, fmt.Errorf("metadata general.alignment is %d; it must be a power of two from 8 to 1048576", a)
		}
		f.Alignment = a
	}
	if err := f.readTensors(r, tensors); err != nil {
		return nil, err
	}
	return f, nil
}

// The fewest bytes that one entry of each table takes, to refuse counts that the file is too short for.
const (
	minKeyValue   = 8 + 4 + 1
	minTensorInfo = 8 + 4 + 4 + 8
)

func (f *File) readTensors(r *reader, n int) error {
	f.Tensors = make([]Tensor, 0, n)
	f.byName = make(map[string]int, n)
	offsets := make([]uint64, 0, n)
	for range n {
		t := Tensor{Name: r.string()}
		dims := r.uint32()
		if r.err == nil && (dims == 0 || dims > maxDims) {
			r.fail("tensor %q has %d dimensions; 1 to %d are possible", t.Name, dims, maxDims)
		}
		for range min(dims, maxDims) {
			d := r.uint64()
			if d == 0 || d > math.MaxInt32 {
				r.fail("tensor %q has a dimension of %d elements", t.Name, d)
			}
			t.Dims = append(t.Dims, int(d))
		}
		t.Type = Type(r.uint32())
		offsets = append(offsets, r.uint64())
		if r.err != nil {
			return r.err
		}
		if _, dup := f.byName[t.Name]; dup {
			return fmt.Errorf("tensor %q appears twice", t.Name)
		}
		f.byName[t.Name] = len(f.Tensors)
		f.Tensors = append(f.Tensors, t)
	}

	start := uint64(r.pos+f.Alignment-1) &^ uint64(f.Alignment-1)
	type extent struct {
		from, to uint64
		name     string
	}
	extents := make([]extent, 0, n)
	for i := range f.Tensors {
		t := &f.Tensors[i]
		size, err := t.size()
		if err != nil {
			return err
		}
		if offsets[i]%uint64(f.Alignment) != 0 {
			return fmt.Errorf("tensor %q begins at offset %d, which is not a multiple of the alignment %d", t.Name, offsets[i], f.Alignment)
		}
		room := uint64(0)
		if total := uint64(len(f.data)); start <= total {
			room = total - start
		}
		if offsets[i] > room || size > room-offsets[i] {
			return fmt.Errorf("tensor %q needs bytes %d to %d of the data, the file has %d: it is cut off or damaged", t.Name, offsets[i], offsets[i]+size, room)
		}
		from := start + offsets[i]
		t.Data = f.data[from : from+size : from+size]
		extents = append(extents, extent{from, from + size, t.Name})
	}
	slices.SortFunc(extents, func(a, b extent) int {
		if a.from < b.from {
			return -1
		}
		return 1
	})
	for i := 1; i < len(extents); i++ {
		if extents[i].from < extents[i-1].to {
			return fmt.Errorf("tensors %q and %q overlap", extents[i-1].name, extents[i].name)
		}
	}
	return nil
}

// size is the number of bytes that the tensor's data takes.
func (t *Tensor) size() (uint64, error) {
	l, ok := layouts[t.Type]
	if !ok {
		return 0, fmt.Errorf("tensor %q is stored as type %d, which cannot be read; F32, F16 and Q8_0 can", t.Name, uint32(t.Type))
	}
	if t.Dims[0]%l.elements != 0 {
		return 0, fmt.Errorf("tensor %q has rows of %d elements, which is not a multiple of the %s block of %d", t.Name, t.Dims[0], l.name, l.elements)
	}
	elements := uint64(1)
	for _, d := range t.Dims {
		if elements > math.MaxInt64/8/uint64(d) {
			return 0, fmt.Errorf("tensor %q has more elements than any file can hold", t.Name)
		}
		elements *= uint64(d)
	}
	return elements / uint64(l.elements) * uint64(l.bytes), nil
}

// Tensor returns the tensor with that name, and whether the file has it.
func (f *File) Tensor(name string) (Tensor, bool) {
	i, ok := f.byName[name]
	if !ok {
		return Tensor{}, false
	}
	return f.Tensors[i], true
}

// Size is the length of the file in bytes.
func (f *File) Size() int64 { return int64(len(f.data)) }

// Parameters is the number of elements in all tensors together.
func (f *File) Parameters() int64 {
	var sum int64
	for _, t := range f.Tensors {
		n := int64(1)
		for _, d := range t.Dims {
			n *= int64(d)
		}
		sum += n
	}
	return sum
}

// Close unmaps the file. Tensor data must not be used afterwards.
func (f *File) Close() error {
	unmap := f.unmap
	f.unmap = func() error { return nil }
	return unmap()
}

// reader takes values off the front of a file. After the first error every read gives zero.
type reader struct {
	data []byte
	pos  int
	err  error
}

func (r *reader) fail(format string, args ...any) {
	if r.err == nil {
		r.err = fmt.Errorf(format, args...)
	}
}

// bytes returns the next n bytes, not copied.
func (r *reader) bytes(n int) []byte {
	if r.err != nil || n > len(r.data)-r.pos {
		r.fail("the file ends in the middle of its header, at byte %d", len(r.data))
		return nil
	}
	b := r.data[r.pos : r.pos+n]
	r.pos += n
	return b
}

func (r *reader) uint32() uint32 {
	if b := r.bytes(4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

func (r *reader) uint64() uint64 {
	if b := r.bytes(8); b != nil {
		return binary.LittleEndian.Uint64(b)
	}
	return 0
}

// count reads the number of entries of a table whose entries take at least size bytes each.
func (r *reader) count(what string, size int) int {
	n := r.uint64()
	if left := uint64(len(r.data) - r.pos); r.err == nil && n > left/uint64(size) {
		r.fail("the file claims %d %s entries, more than its %d bytes can hold", n, what, len(r.data))
	}
	if r.err != nil {
		return 0
	}
	return int(n)
}

// string reads a length and that many bytes; bytes that are not UTF-8 become U+FFFD.
func (r *reader) string() string {
	n := r.uint64()
	if r.err == nil && n > uint64(len(r.data)-r.pos) {
		r.fail("a string of %d bytes at byte %d reaches beyond the end of the file", n, r.pos)
	}
	if r.err != nil {
		return ""
	}
	return strings.ToValidUTF8(string(r.bytes(int(n))), "\uFFFD")
}
