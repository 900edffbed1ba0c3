package gguf

import (
	"bytes"
	"encoding/binary"
	"io"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/weights"
)

func TestWrittenFilesAreRead(t *testing.T) {
	metadata := []Entry{{"general.architecture", "llama"}, {"n", uint32(7)}, {"i", int32(-7)}, {"f", float32(0.5)}, {"yes", true}, {"list", []string{"a", ""}}, {"ints", []int32{-1, 2}}, {"floats", []float32{1.5}}}
	plans := []Plan{{"a", weights.F32, []int{2, 3}}, {"b", weights.Q8_0, []int{1, 2, 32}}, {"c", weights.F16, []int{1}}}
	var out bytes.Buffer
	fill := func(i int, w io.Writer) error {
		n, _ := plans[i].Type.Size(plans[i].Shape)
		_, err := w.Write(bytes.Repeat([]byte{byte(i + 1)}, int(n)))
		return err
	}
	if err := Write(&out, metadata, plans, fill); err != nil {
		t.Fatal(err)
	}
	f, err := Parse(out.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	for i, p := range plans {
		got := f.Tensors[i]
		if got.Name != p.Name || got.Type != p.Type || !slices.Equal(got.Shape, p.Shape) || got.Data[0] != byte(i+1) || got.Data[len(got.Data)-1] != byte(i+1) {
			t.Errorf("%+v, want %+v", got, p)
		}
	}
	if s, err := f.Metadata.Strings("list"); err != nil || !reflect.DeepEqual(s, []string{"a", ""}) || f.Metadata["i"] != int32(-7) || f.Metadata["yes"] != true {
		t.Errorf("%v, %v, %v", s, err, f.Metadata)
	}
	if fl, err := f.Metadata.Float32s("floats"); err != nil || fl[0] != 1.5 {
		t.Errorf("%v, %v", fl, err)
	}
	if err := Write(io.Discard, nil, plans, func(int, io.Writer) error { return nil }); err == nil || !strings.Contains(err.Error(), "0 bytes were written of 24") {
		t.Errorf("too few bytes: %v", err)
	}
	if err := Write(io.Discard, []Entry{{"x", 1.0}}, nil, nil); err == nil {
		t.Error("a value of another type was written")
	}
}

// split writes a model in parts.
func split(t *testing.T, dir string, count int, change func(n int, metadata []Entry) []Entry) string {
	t.Helper()
	for n := range count {
		metadata := []Entry{{"split.no", uint32(n)}, {"split.count", uint32(count)}, {"split.tensors.count", uint32(count)}}
		if n == 0 {
			metadata = append(metadata, Entry{"general.architecture", "llama"})
		}
		if change != nil {
			metadata = change(n, metadata)
		}
		var out bytes.Buffer
		err := Write(&out, metadata, []Plan{{"t" + string(rune('0'+n)), weights.F32, []int{1}}}, func(_ int, w io.Writer) error {
			_, err := w.Write(binary.LittleEndian.AppendUint32(nil, math.Float32bits(float32(n))))
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(PartPath(filepath.Join(dir, "m-00001-of-0000"+string(rune('0'+count))+".gguf"), n+1), out.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return filepath.Join(dir, "m-00001-of-0000"+string(rune('0'+count))+".gguf")
}

func TestParts(t *testing.T) {
	dir := t.TempDir()
	first := split(t, dir, 3, nil)
	c, err := Open(first)
	if err != nil {
		t.Fatal(err)
	}
	if t2, ok := c.Find("t2"); !ok || len(c.Tensors) != 3 || t2.Data[3] != 0x40 {
		t.Errorf("%+v", c.Tensors)
	}
	if err := c.Close(); err != nil {
		t.Error(err)
	}
	if base, part, count, ok := Part(first); base != "m" || part != 1 || count != 3 || !ok {
		t.Error(base, part, count, ok)
	}
	if _, err := Open(PartPath(first, 2)); err == nil {
		t.Error("the second part alone was opened")
	}
	if err := os.Remove(PartPath(first, 3)); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(first); err == nil || !strings.Contains(err.Error(), "part 3 of 3 is missing, m-00003-of-00003.gguf") {
		t.Error(err)
	}
	for want, change := range map[string]func(int, []Entry) []Entry{
		"its parts have 2 tensors, not the 9": func(n int, m []Entry) []Entry { m[2].Value = uint32(9); return m },
		"it is not part 2 of the model":       func(n int, m []Entry) []Entry { m[0].Value = uint32(0); return m },
		"name the first one":                  func(n int, m []Entry) []Entry { m[0].Value = uint32(1); return m },
	} {
		if _, err := Open(split(t, t.TempDir(), 2, change)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	alone := filepath.Join(t.TempDir(), "renamed.gguf")
	raw, err := os.ReadFile(first)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(alone, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(alone); err == nil || !strings.Contains(err.Error(), "does not end in -00001-of-00003.gguf") {
		t.Error(err)
	}
}
