package gguf

import (
	"encoding/binary"
	"fmt"
	"math"
)

// Metadata holds the file's key-value pairs. A value is a uint8, int8, uint16, int16, uint32, int32, uint64, int64,
// float32, float64, bool or string, or an [Array] of these.
type Metadata map[string]any

// Array is an array of the metadata, which is read when it is asked for.
type Array struct {
	Kind Kind // of its elements
	Len  int
	raw  []byte // as it stands in the file, checked
}

// Strings reads the elements of an array of strings.
func (a Array) Strings() []string {
	r := &reader{data: a.raw}
	list := make([]string, a.Len)
	for i := range list {
		list[i] = r.string()
	}
	return list
}

// String reads one element of an array of strings without reading the others.
func (a Array) String(i int) string {
	r := &reader{data: a.raw}
	for range i {
		r.bytes(int(r.uint64()))
	}
	return r.string()
}

// elements reads an array of numbers.
func elements[T any](a Array, size int, decode func([]byte) T) []T {
	list := make([]T, a.Len)
	for i := range list {
		list[i] = decode(a.raw[i*size:])
	}
	return list
}

// Kind is the type of a metadata value. The numbers are those of the file format.
type Kind uint32

// The kinds of metadata values.
const (
	KindUint8 Kind = iota
	KindInt8
	KindUint16
	KindInt16
	KindUint32
	KindInt32
	KindFloat32
	KindBool
	KindString
	KindArray
	KindUint64
	KindInt64
	KindFloat64
)

// MissingError says that a key is not in the file.
type MissingError struct{ Key string }

func (e *MissingError) Error() string { return fmt.Sprintf("metadata %s is missing", e.Key) }

// Int returns an integer of any width. It fails if the key is missing, is not an integer, or does not fit.
func (m Metadata) Int(key string) (int, error) {
	switch v := m[key].(type) {
	case nil:
		return 0, &MissingError{key}
	case uint8:
		return int(v), nil
	case int8:
		return int(v), nil
	case uint16:
		return int(v), nil
	case int16:
		return int(v), nil
	case uint32:
		return int(v), nil
	case int32:
		return int(v), nil
	case int64:
		return int(v), nil
	case uint64:
		if v > math.MaxInt64 {
			return 0, fmt.Errorf("metadata %s is %d, which is too large", key, v)
		}
		return int(v), nil
	default:
		return 0, fmt.Errorf("metadata %s is a %T, not an integer", key, v)
	}
}

// Number returns a number of any kind, or a boolean as 0 or 1, and whether the key has one.
func (m Metadata) Number(key string) (float64, bool) {
	if n, err := m.Int(key); err == nil {
		return float64(n), true
	}
	if b, ok := m[key].(bool); ok {
		if b {
			return 1, true
		}
		return 0, true
	}
	f, err := m.Float(key)
	return f, err == nil
}

// Float returns a float of either width.
func (m Metadata) Float(key string) (float64, error) {
	switch v := m[key].(type) {
	case float32:
		return float64(v), nil
	case float64:
		return v, nil
	}
	return get[float64](m, key, "a float")
}

// String returns a string.
func (m Metadata) String(key string) (string, error) { return get[string](m, key, "a string") }

// Bool returns a boolean.
func (m Metadata) Bool(key string) (bool, error) { return get[bool](m, key, "a boolean") }

// Strings returns an array of strings.
func (m Metadata) Strings(key string) ([]string, error) {
	a, err := m.array(key, KindString, "an array of strings")
	if err != nil {
		return nil, err
	}
	return a.Strings(), nil
}

// Int32s returns an array of 32-bit integers, whichever of the two kinds they are of.
func (m Metadata) Int32s(key string) ([]int32, error) {
	if a, ok := m[key].(Array); ok && a.Kind == KindUint32 {
		return elements(a, 4, int32At), nil
	}
	a, err := m.array(key, KindInt32, "an array of 32-bit integers")
	if err != nil {
		return nil, err
	}
	return elements(a, 4, int32At), nil
}

// Float32s returns an array of 32-bit floats.
func (m Metadata) Float32s(key string) ([]float32, error) {
	a, err := m.array(key, KindFloat32, "an array of floats")
	if err != nil {
		return nil, err
	}
	return elements(a, 4, float32At), nil
}

// Bools returns an array of booleans.
func (m Metadata) Bools(key string) ([]bool, error) {
	a, err := m.array(key, KindBool, "an array of booleans")
	if err != nil {
		return nil, err
	}
	return elements(a, 1, func(b []byte) bool { return b[0] == 1 }), nil
}

func (m Metadata) array(key string, kind Kind, want string) (Array, error) {
	a, err := get[Array](m, key, want)
	if err == nil && a.Kind != kind {
		err = fmt.Errorf("metadata %s is an array of another kind, not %s", key, want)
	}
	return a, err
}

func get[T any](m Metadata, key, want string) (T, error) {
	var zero T
	v, ok := m[key]
	if !ok {
		return zero, &MissingError{key}
	}
	t, ok := v.(T)
	if !ok {
		return zero, fmt.Errorf("metadata %s is a %T, not %s", key, v, want)
	}
	return t, nil
}

// value reads one value of that kind. Arrays may nest to a small depth.
func (r *reader) value(kind Kind, depth int) any {
	switch kind {
	case KindUint8:
		return one(r, 1, func(b []byte) uint8 { return b[0] })
	case KindInt8:
		return one(r, 1, func(b []byte) int8 { return int8(b[0]) })
	case KindUint16:
		return one(r, 2, binary.LittleEndian.Uint16)
	case KindInt16:
		return one(r, 2, int16At)
	case KindUint32:
		return r.uint32()
	case KindInt32:
		return one(r, 4, int32At)
	case KindFloat32:
		return one(r, 4, float32At)
	case KindBool:
		return one(r, 1, r.bool)
	case KindString:
		return r.string()
	case KindUint64:
		return r.uint64()
	case KindInt64:
		return one(r, 8, int64At)
	case KindFloat64:
		return one(r, 8, float64At)
	case KindArray:
		return r.array(depth)
	}
	r.fail("unknown value type %d", uint32(kind))
	return nil
}

// sizes are the bytes of a value of each kind that has always as many.
var sizes = map[Kind]int{
	KindUint8: 1, KindInt8: 1, KindUint16: 2, KindInt16: 2, KindUint32: 4, KindInt32: 4, KindFloat32: 4, KindBool: 1,
	KindUint64: 8, KindInt64: 8, KindFloat64: 8,
}

// array checks that an array lies within the file and goes past it.
func (r *reader) array(depth int) Array {
	if depth == maxArrayDepth {
		r.fail("arrays are nested more than %d deep", maxArrayDepth)
		return Array{}
	}
	a := Array{Kind: Kind(r.uint32())}
	from := 0
	switch size := sizes[a.Kind]; {
	case size > 0:
		a.Len = r.count("array", size)
		from = r.pos
		r.bytes(a.Len * size)
	case a.Kind == KindString:
		a.Len = r.count("string", 8)
		from = r.pos
		for i := 0; i < a.Len && r.err == nil; i++ {
			r.skipString()
		}
	case a.Kind == KindArray:
		a.Len = r.count("array", 4+8)
		from = r.pos
		for i := 0; i < a.Len && r.err == nil; i++ {
			r.array(depth + 1)
		}
	default:
		r.fail("unknown value type %d in an array", uint32(a.Kind))
	}
	if r.err != nil {
		return Array{}
	}
	a.raw = r.data[from:r.pos:r.pos]
	return a
}

func one[T any](r *reader, size int, decode func([]byte) T) T {
	var zero T
	if b := r.bytes(size); b != nil {
		return decode(b)
	}
	return zero
}

func (r *reader) bool(b []byte) bool {
	if b[0] > 1 {
		r.fail("a boolean has the value %d", b[0])
	}
	return b[0] == 1
}

func int16At(b []byte) int16     { return int16(binary.LittleEndian.Uint16(b)) }
func int32At(b []byte) int32     { return int32(binary.LittleEndian.Uint32(b)) }
func int64At(b []byte) int64     { return int64(binary.LittleEndian.Uint64(b)) }
func float32At(b []byte) float32 { return math.Float32frombits(binary.LittleEndian.Uint32(b)) }
func float64At(b []byte) float64 { return math.Float64frombits(binary.LittleEndian.Uint64(b)) }
