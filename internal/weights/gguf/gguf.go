// Package gguf reads and writes GGUF files: a header of typed metadata followed by tensors, in one file or in several.
//
// A file is memory-mapped; tensor data is handed out as slices of the mapping and never copied. Nothing in
// a file is trusted: every count and offset is checked against the file's size before it is used, and no
// allocation is larger than the bytes that justify it. Arrays of the metadata, among them the vocabulary, are checked
// but not read until they are asked for. The layout is the one of the GGUF specification, versions 2 and 3,
// little-endian.
package gguf

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"kindredgate/internal/weights"
)

// File is the header of a GGUF file. It is safe for concurrent reading until what it was read from is unmapped.
type File struct {
	Version   uint32
	Metadata  Metadata
	Tensors   []weights.Tensor // in the order of the file; Data is nil if only the header was there to read
	Alignment int              // bytes
}

// types are the storage types by their numbers in the file format.
var types = map[uint32]weights.Type{
	0: weights.F32, 1: weights.F16, 2: weights.Q4_0, 3: weights.Q4_1, 6: weights.Q5_0, 7: weights.Q5_1, 8: weights.Q8_0,
	10: weights.Q2_K, 11: weights.Q3_K, 12: weights.Q4_K, 13: weights.Q5_K, 14: weights.Q6_K, 20: weights.IQ4_NL, 23: weights.IQ4_XS,
	30: weights.BF16, 39: weights.MXFP4,
}

// otherTypes are those that cannot be read, by name, so that the refusal says what the file has.
var otherTypes = map[uint32]string{
	9: "Q8_1", 15: "Q8_K", 16: "IQ2_XXS", 17: "IQ2_XS", 18: "IQ3_XXS", 19: "IQ1_S", 21: "IQ3_S", 22: "IQ2_S", 24: "I8", 25: "I16", 26: "I32",
	27: "I64", 28: "F64", 29: "IQ1_M", 34: "TQ1_0", 35: "TQ2_0",
}

func typeOf(number uint32) (weights.Type, error) {
	t, ok := types[number]
	if ok {
		return t, nil
	}
	name, known := otherTypes[number]
	if !known {
		name = fmt.Sprintf("type %d", number)
	}
	var can []string
	for _, n := range slices.Sorted(maps.Keys(types)) {
		can = append(can, types[n].String())
	}
	return 0, fmt.Errorf("is stored as %s, which cannot be read; these can: %s", name, strings.Join(can, ", "))
}

// ErrNotGGUF is wrapped by the error for a file that is something else altogether.
var ErrNotGGUF = errors.New("not a GGUF file")

const (
	magic            = "GGUF"
	defaultAlignment = 32
	maxDims          = 4
	maxArrayDepth    = 4
	maxTensorName    = 256 // bytes; the specification has 64
)

// ErrShort is wrapped by the error for a header that goes on beyond the bytes that were given.
var ErrShort = errors.New("the header goes on")

// Parse reads the header of a GGUF file held in data, which must stay unchanged while the File is used.
func Parse(data []byte) (*File, error) { return ParseHeader(data, int64(len(data))) }

// ParseHeader is Parse for the beginning of a file of size bytes. If the header goes on beyond data, the error wraps
// ErrShort. Tensors have no Data if data is not the whole file.
func ParseHeader(data []byte, size int64) (*File, error) {
	f, err := parse(data, size)
	if err != nil && int64(len(data)) < size && !errors.Is(err, ErrNotGGUF) {
		// What the reader takes for an end may be where data ends.
		return nil, fmt.Errorf("%w: %w", ErrShort, err)
	}
	return f, err
}

func parse(data []byte, size int64) (*File, error) {
	r := &reader{data: data}
	if len(data) == 0 {
		return nil, fmt.Errorf("%w: it is empty: %w", ErrNotGGUF, weights.ErrCut)
	}
	if string(r.bytes(len(magic))) != magic {
		return nil, fmt.Errorf("%w: it does not begin with %q", ErrNotGGUF, magic)
	}
	f := &File{Alignment: defaultAlignment}
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
	f.Metadata = make(Metadata, min(keys, 4096))
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
	if err := f.readTensors(r, tensors, data, size); err != nil {
		return nil, err
	}
	return f, nil
}

// The fewest bytes that one entry of each table takes, to refuse counts that the file is too short for.
const (
	minKeyValue   = 8 + 4 + 1
	minTensorInfo = 8 + 4 + 4 + 8
)

func (f *File) readTensors(r *reader, n int, data []byte, total int64) error {
	f.Tensors = make([]weights.Tensor, 0, n)
	names := make(map[string]bool, n)
	type extent struct {
		from, size uint64
		tensor     int
	}
	extents := make([]extent, 0, n)
	for range n {
		t := weights.Tensor{Name: r.string()}
		if len(t.Name) > maxTensorName {
			r.fail("a tensor has a name of %d bytes; at most %d are possible", len(t.Name), maxTensorName)
		}
		dims := r.uint32()
		if r.err == nil && (dims == 0 || dims > maxDims) {
			r.fail("tensor %q has %d dimensions; 1 to %d are possible", t.Name, dims, maxDims)
		}
		for range min(dims, maxDims) {
			d := r.uint64()
			if d == 0 || d > math.MaxInt32 {
				r.fail("tensor %q has a dimension of %d elements", t.Name, d)
			}
			t.Shape = append(t.Shape, int(d))
		}
		slices.Reverse(t.Shape) // the file has the innermost first
		number, offset := r.uint32(), r.uint64()
		if r.err != nil {
			return r.err
		}
		var err error
		if t.Type, err = typeOf(number); err != nil {
			return fmt.Errorf("tensor %q %w", t.Name, err)
		}
		size, err := t.Type.Size(t.Shape)
		if err != nil {
			return fmt.Errorf("tensor %q has %w", t.Name, err)
		}
		if names[t.Name] {
			return fmt.Errorf("tensor %q appears twice", t.Name)
		}
		names[t.Name] = true
		if offset%uint64(f.Alignment) != 0 {
			return fmt.Errorf("tensor %q begins at offset %d, which is not a multiple of the alignment %d", t.Name, offset, f.Alignment)
		}
		extents = append(extents, extent{offset, uint64(size), len(f.Tensors)})
		f.Tensors = append(f.Tensors, t)
	}
	start := (uint64(r.pos) + uint64(f.Alignment) - 1) &^ (uint64(f.Alignment) - 1)
	room := uint64(0)
	if start <= uint64(total) {
		room = uint64(total) - start
	}
	for _, e := range extents {
		t := &f.Tensors[e.tensor]
		if e.from > room || e.size > room-e.from {
			return fmt.Errorf("tensor %q needs bytes %d to %d of the data, the file has %d: %w", t.Name, e.from, e.from+e.size, room, weights.ErrCut)
		}
		if int64(len(data)) == total {
			from := start + e.from
			t.Data = data[from : from+e.size : from+e.size]
		}
	}
	slices.SortFunc(extents, func(a, b extent) int { return cmp.Compare(a.from, b.from) })
	for i := 1; i < len(extents); i++ {
		if before := extents[i-1]; extents[i].from < before.from+before.size {
			return fmt.Errorf("tensors %q and %q overlap", f.Tensors[before.tensor].Name, f.Tensors[extents[i].tensor].Name)
		}
	}
	return nil
}

// Tensor returns the tensor with that name, and whether the file has it.
func (f *File) Tensor(name string) (weights.Tensor, bool) {
	for _, t := range f.Tensors {
		if t.Name == name {
			return t, true
		}
	}
	return weights.Tensor{}, false
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
		r.fail("the file ends in the middle of its header, at byte %d: %w", len(r.data), weights.ErrCut)
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
		r.fail("the file claims %d %s entries, more than its %d bytes can hold: %w", n, what, len(r.data), weights.ErrCut)
	}
	if r.err != nil {
		return 0
	}
	return int(n)
}

// skipString goes past a string and returns its bytes.
func (r *reader) skipString() []byte {
	n := r.uint64()
	if r.err == nil && n > uint64(len(r.data)-r.pos) {
		r.fail("a string of %d bytes at byte %d reaches beyond the end of the file: %w", n, r.pos, weights.ErrCut)
	}
	if r.err != nil {
		return nil
	}
	return r.bytes(int(n))
}

// string reads a length and that many bytes; bytes that are not UTF-8 become U+FFFD.
func (r *reader) string() string { return strings.ToValidUTF8(string(r.skipString()), "\uFFFD") }
