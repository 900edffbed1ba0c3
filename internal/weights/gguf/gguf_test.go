package gguf

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// builder writes GGUF files, right ones and wrong ones.
type builder struct{ bytes.Buffer }

func (b *builder) u32(v uint32) *builder { binary.Write(b, binary.LittleEndian, v); return b }
func (b *builder) u64(v uint64) *builder { binary.Write(b, binary.LittleEndian, v); return b }
func (b *builder) str(s string) *builder { b.u64(uint64(len(s))).WriteString(s); return b }

// Numbers of storage types in the format.
const F32, F16, Q8_0 = 0, 1, 8

// head begins a file.
func head(version uint32, tensors, keys uint64) *builder {
	b := &builder{}
	b.WriteString("GGUF")
	return b.u32(version).u64(tensors).u64(keys)
}

func (b *builder) tensor(name string, kind uint32, offset uint64, dims ...uint64) *builder {
	b.str(name).u32(uint32(len(dims)))
	for _, d := range dims {
		b.u64(d)
	}
	return b.u32(kind).u64(offset)
}

// data ends a file: padding up to the alignment, and n bytes.
func (b *builder) data(n int) []byte {
	for b.Len()%32 != 0 {
		b.WriteByte(0)
	}
	b.Write(make([]byte, n))
	return b.Bytes()
}

func TestEveryKindOfValue(t *testing.T) {
	b := head(3, 0, 15)
	b.str("u8").u32(uint32(KindUint8)).WriteByte(200)
	b.str("i8").u32(uint32(KindInt8)).WriteByte(0xff)
	b.str("u16").u32(uint32(KindUint16)).Write([]byte{1, 2})
	b.str("i16").u32(uint32(KindInt16)).Write([]byte{0xfe, 0xff})
	b.str("u32").u32(uint32(KindUint32)).u32(7)
	b.str("i32").u32(uint32(KindInt32)).u32(math.MaxUint32)
	b.str("f32").u32(uint32(KindFloat32)).u32(math.Float32bits(1.5))
	b.str("bool").u32(uint32(KindBool)).WriteByte(1)
	b.str("string").u32(uint32(KindString)).str("Osmer \xff")
	b.str("u64").u32(uint32(KindUint64)).u64(1 << 40)
	b.str("i64").u32(uint32(KindInt64)).u64(math.MaxUint64)
	b.str("f64").u32(uint32(KindFloat64)).u64(math.Float64bits(-2.25))
	b.str("strings").u32(uint32(KindArray)).u32(uint32(KindString)).u64(2).str("a").str("")
	b.str("ints").u32(uint32(KindArray)).u32(uint32(KindInt32)).u64(2).u32(1).u32(2)
	b.str("nested").u32(uint32(KindArray)).u32(uint32(KindArray)).u64(1).u32(uint32(KindUint8)).u64(2).Write([]byte{3, 4})
	f, err := Parse(b.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	strings3, ok := f.Metadata["strings"].(Array)
	if ints, err := f.Metadata.Int32s("ints"); !ok || !slices.Equal(strings3.Strings(), []string{"a", ""}) || strings3.String(0) != "a" || err != nil || !slices.Equal(ints, []int32{1, 2}) {
		t.Errorf("arrays: %v, %v, %v", strings3, ints, err)
	}
	if nested, ok := f.Metadata["nested"].(Array); !ok || nested.Kind != KindArray || nested.Len != 1 {
		t.Errorf("nested: %+v", nested)
	}
	for _, key := range []string{"strings", "ints", "nested"} {
		delete(f.Metadata, key)
	}
	want := Metadata{
		"u8": uint8(200), "i8": int8(-1), "u16": uint16(513), "i16": int16(-2), "u32": uint32(7), "i32": int32(-1), "f32": float32(1.5),
		"bool": true, "string": "Osmer \uFFFD", "u64": uint64(1 << 40), "i64": int64(-1), "f64": -2.25,
	}
	if !reflect.DeepEqual(f.Metadata, want) {
		t.Errorf("\n got %#v\nwant %#v", f.Metadata, want)
	}
	for key, want := range map[string]int{"u8": 200, "i8": -1, "u16": 513, "i16": -2, "u32": 7, "i32": -1, "u64": 1 << 40, "i64": -1} {
		if got, err := f.Metadata.Int(key); got != want || err != nil {
			t.Errorf("Int(%s) is %d, %v", key, got, err)
		}
	}
	if _, err := f.Metadata.Int("string"); err == nil || !strings.Contains(err.Error(), "metadata string is a string, not an integer") {
		t.Errorf("Int of a string: %v", err)
	}
	var missing *MissingError
	if _, err := f.Metadata.String("none"); !errors.As(err, &missing) || missing.Key != "none" {
		t.Errorf("a missing key: %v", err)
	}
}

func TestTensors(t *testing.T) {
	raw := head(2, 2, 0).tensor("a", F32, 0, 4, 2).tensor("b", Q8_0, 32, 64).data(32 + 68)
	raw[len(raw)-68] = 9
	f, err := Parse(raw)
	if err != nil {
		t.Fatal(err)
	}
	a, okA := f.Tensor("a")
	b, okB := f.Tensor("b")
	if !okA || !okB || len(a.Data) != 32 || len(b.Data) != 68 || b.Data[0] != 9 {
		t.Errorf("%+v, %+v", a, b)
	}
	if _, ok := f.Tensor("c"); ok {
		t.Error("there is a tensor c")
	}
}

func TestParseRefuses(t *testing.T) {
	array := func(kind Kind, n uint64) []byte {
		return head(3, 0, 1).str("k").u32(uint32(KindArray)).u32(uint32(kind)).u64(n).Bytes()
	}
	nested := head(3, 0, 1).str("k").u32(uint32(KindArray))
	for range 10 {
		nested.u32(uint32(KindArray)).u64(1)
	}
	for _, c := range []struct {
		name string
		raw  []byte
		want string
	}{
		{"nothing", nil, "not a GGUF file"},
		{"another format", []byte("PK\x03\x04 something else"), "not a GGUF file"},
		{"version 1", head(1, 0, 0).Bytes(), "version 1 is not supported"},
		{"big-endian", head(3<<24, 0, 0).Bytes(), "big-endian"},
		{"header cut off", head(3, 0, 0).Bytes()[:10], "ends in the middle of its header"},
		{"keys without end", head(3, 0, math.MaxUint64).Bytes(), "metadata key entries, more than"},
		{"tensors without end", head(3, math.MaxInt64, 0).Bytes(), "tensor entries, more than"},
		{"string beyond the file", head(3, 0, 1).u64(1 << 60).data(40), "reaches beyond the end"},
		{"unknown kind", head(3, 0, 1).str("k").u32(99).u64(0).Bytes(), "unknown value type 99"},
		{"array beyond the file", array(KindFloat64, 1<<61), "array entries, more than"},
		{"strings beyond the file", array(KindString, 1<<40), "string entries, more than"},
		{"arrays too deep", nested.data(64), "nested more than"},
		{"key twice", head(3, 0, 2).str("k").u32(uint32(KindUint32)).u32(1).str("k").u32(uint32(KindUint32)).u32(1).Bytes(), `"k" appears twice`},
		{"odd alignment", head(3, 0, 1).str("general.alignment").u32(uint32(KindUint32)).u32(24).Bytes(), "power of two"},
		{"boolean of 2", append(head(3, 0, 1).str("k").u32(uint32(KindBool)).Bytes(), 2), "boolean has the value 2"},
		{"no dimensions", head(3, 1, 0).tensor("a", F32, 0).data(32), "0 dimensions"},
		{"five dimensions", head(3, 1, 0).tensor("a", F32, 0, 1, 1, 1, 1, 1).data(32), "5 dimensions"},
		{"empty dimension", head(3, 1, 0).tensor("a", F32, 0, 0).data(32), "dimension of 0"},
		{"huge dimensions", head(3, 1, 0).tensor("a", F32, 0, math.MaxInt32, math.MaxInt32, math.MaxInt32, 2).data(32), "more elements than any file"},
		{"unknown type", head(3, 1, 0).tensor("a", 77, 0, 32).data(32), "stored as type 77, which cannot be read; these can: F32, F16, Q4_0"},
		{"half a block", head(3, 1, 0).tensor("a", Q8_0, 0, 33).data(64), "not a multiple of the Q8_0 block"},
		{"unaligned", head(3, 1, 0).tensor("a", F32, 4, 4).data(64), "not a multiple of the alignment"},
		{"cut off", head(3, 1, 0).tensor("a", F32, 0, 100).data(399), "cut off or damaged"},
		{"offset beyond the file", head(3, 1, 0).tensor("a", F32, 1<<62, 4).data(64), "cut off or damaged"},
		{"overlap", head(3, 2, 0).tensor("a", F32, 0, 16).tensor("b", F32, 32, 8).data(64), `"a" and "b" overlap`},
		{"tensor twice", head(3, 2, 0).tensor("a", F32, 0, 8).tensor("a", F32, 32, 8).data(64), `"a" appears twice`},
	} {
		if _, err := Parse(c.raw); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: error %v, want one with %q", c.name, err, c.want)
		}
	}
}

func TestOpen(t *testing.T) {
	const sample = "../../../demo/models/harbour-4m/harbour-4m.gguf"
	f, err := Open(sample)
	if err != nil {
		t.Fatal(err)
	}
	size := f.Size
	if err := errors.Join(f.Close(), f.Close()); err != nil {
		t.Errorf("closing, twice: %v", err)
	}
	raw, err := os.ReadFile(sample)
	if err != nil || int64(len(raw)) != size {
		t.Fatalf("%d bytes of %d, %v", len(raw), size, err)
	}
	dir := t.TempDir()
	write := func(name string, data []byte) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	for path, want := range map[string]string{
		filepath.Join(dir, "none.gguf"): "no such file",
		dir:                             "not a regular file",
		write("empty.gguf", nil):        "not a GGUF file",
		write("text.gguf", []byte("hello, harbour")): "not a GGUF file",
		write("half.gguf", raw[:len(raw)/2]):         "cut off or damaged",
		write("head.gguf", raw[:5000]):               "",
	} {
		if _, err := Open(path); err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), path) {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(head(3, 0, 0).Bytes())
	f.Add(head(2, 2, 1).str("general.alignment").u32(uint32(KindUint32)).u32(64).tensor("a", F16, 0, 4, 2).tensor("b", Q8_0, 64, 32).data(160))
	f.Add(head(3, 0, 2).str("k").u32(uint32(KindArray)).u32(uint32(KindString)).u64(1).str("x").str("l").u32(uint32(KindBool)).data(1))
	f.Fuzz(func(t *testing.T, raw []byte) {
		file, err := Parse(raw)
		if err != nil {
			return
		}
		for _, tensor := range file.Tensors {
			size, err := tensor.Type.Size(tensor.Shape)
			if err != nil || int64(len(tensor.Data)) != size {
				t.Errorf("tensor %q has %d bytes of %d, %v", tensor.Name, len(tensor.Data), size, err)
			}
		}
		c, err := Header(file, int64(len(raw)))
		if err == nil {
			_, _ = c.Tokenizer() // must not panic
		}
	})
}
