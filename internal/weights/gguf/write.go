package gguf

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"math"

	"kindredgate/internal/weights"
)

// Entry is a key with its value: a string, bool, uint32, int32 or float32, or a slice of strings, int32 or float32.
type Entry struct {
	Key   string
	Value any
}

// Plan is a tensor that is to be written.
type Plan struct {
	Name  string
	Type  weights.Type
	Shape []int // outermost first
}

// numbers of the storage types in the format.
var numbers = func() map[weights.Type]uint32 {
	m := map[weights.Type]uint32{}
	for n, t := range types {
		m[t] = n
	}
	return m
}()

// Number is the number that GGUF has for a storage type; ok is false if it has none.
func Number(t weights.Type) (n uint32, ok bool) {
	n, ok = numbers[t]
	return n, ok
}

// Write writes a file of version 3. data is called for each tensor in turn and writes exactly the bytes that its type and
// shape take.
func Write(to io.Writer, metadata []Entry, tensors []Plan, data func(i int, w io.Writer) error) error {
	w := &writer{w: bufio.NewWriterSize(to, 1<<20)}
	w.bytes([]byte(magic))
	w.u32(3)
	w.u64(uint64(len(tensors)))
	w.u64(uint64(len(metadata)))
	for _, e := range metadata {
		w.string(e.Key)
		w.value(e.Value)
	}
	offset := int64(0)
	sizes := make([]int64, len(tensors))
	for i, t := range tensors {
		w.string(t.Name)
		w.u32(uint32(len(t.Shape)))
		for k := len(t.Shape) - 1; k >= 0; k-- {
			w.u64(uint64(t.Shape[k]))
		}
		number, ok := numbers[t.Type]
		size, err := t.Type.Size(t.Shape)
		if !ok || err != nil {
			return fmt.Errorf("tensor %q cannot be written as %s: %w", t.Name, t.Type, err)
		}
		w.u32(number)
		w.u64(uint64(offset))
		sizes[i] = size
		offset += (size + defaultAlignment - 1) / defaultAlignment * defaultAlignment
	}
	for i, t := range tensors {
		w.pad()
		before := w.n
		if err := data(i, w); err != nil {
			return err
		}
		if w.err == nil && w.n-before != sizes[i] {
			return fmt.Errorf("tensor %q: %d bytes were written of %d", t.Name, w.n-before, sizes[i])
		}
	}
	w.pad()
	if w.err != nil {
		return w.err
	}
	return w.w.Flush()
}

// writer keeps the first error and counts.
type writer struct {
	w   *bufio.Writer
	n   int64
	err error
}

// Write is io.Writer's.
func (w *writer) Write(b []byte) (int, error) {
	w.bytes(b)
	return len(b), w.err
}

func (w *writer) bytes(b []byte) {
	if w.err == nil {
		_, w.err = w.w.Write(b)
		w.n += int64(len(b))
	}
}

func (w *writer) u32(v uint32) { w.bytes(binary.LittleEndian.AppendUint32(nil, v)) }
func (w *writer) u64(v uint64) { w.bytes(binary.LittleEndian.AppendUint64(nil, v)) }

func (w *writer) string(s string) {
	w.u64(uint64(len(s)))
	w.bytes([]byte(s))
}

func (w *writer) pad() {
	if rest := w.n % defaultAlignment; rest > 0 {
		w.bytes(make([]byte, defaultAlignment-rest))
	}
}

func (w *writer) value(v any) {
	array := func(kind Kind, n int) {
		w.u32(uint32(KindArray))
		w.u32(uint32(kind))
		w.u64(uint64(n))
	}
	switch v := v.(type) {
	case string:
		w.u32(uint32(KindString))
		w.string(v)
	case bool:
		w.u32(uint32(KindBool))
		if v {
			w.bytes([]byte{1})
		} else {
			w.bytes([]byte{0})
		}
	case uint32:
		w.u32(uint32(KindUint32))
		w.u32(v)
	case int32:
		w.u32(uint32(KindInt32))
		w.u32(uint32(v))
	case float32:
		w.u32(uint32(KindFloat32))
		w.u32(math.Float32bits(v))
	case []string:
		array(KindString, len(v))
		for _, s := range v {
			w.string(s)
		}
	case []int32:
		array(KindInt32, len(v))
		for _, n := range v {
			w.u32(uint32(n))
		}
	case []float32:
		array(KindFloat32, len(v))
		for _, f := range v {
			w.u32(math.Float32bits(f))
		}
	default:
		if w.err == nil {
			w.err = fmt.Errorf("a value of type %T cannot be written", v)
		}
	}
}
