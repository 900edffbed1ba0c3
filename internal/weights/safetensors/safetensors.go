// Package safetensors reads models that lie in a folder: weights in safetensors files, one or several with an index, and
// beside them config.json, tokenizer.json and what else the author put there.
//
// Weights are memory-mapped. Nothing in a file is trusted: offsets and shapes are checked against each other and the
// file's size, and no allocation is larger than the bytes that justify it.
package safetensors

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kindredgate/internal/system"
	"kindredgate/internal/weights"
)

// Files of a folder.
const (
	ConfigFile = "config.json"
	SingleFile = "model.safetensors"
	IndexFile  = "model.safetensors.index.json"
)

// Tensor is an entry of a file's header.
type Tensor struct {
	Name     string
	Type     string // F32, BF16, U8, ... as the file has it
	Shape    []int
	From, To int64 // bytes of the data, which begin after the header
}

// ErrShort is wrapped by the error for a header that goes on beyond the bytes that were given.
var ErrShort = errors.New("the header goes on")

// maxTensorName bounds the names of tensors, in bytes.
const maxTensorName = 512

// bytesOf is what an element of each type takes.
var bytesOf = map[string]int64{
	"BOOL": 1, "U8": 1, "I8": 1, "F8_E5M2": 1, "F8_E4M3": 1, "F8_E8M0": 1, "I16": 2, "U16": 2, "F16": 2, "BF16": 2, "I32": 4, "U32": 4, "F32": 4,
	"F64": 8, "I64": 8, "U64": 8,
}

// ParseHeader reads the header of a safetensors file of size bytes, of which data is the beginning. start is where the
// data of the tensors begins. If the header goes on beyond data, the error wraps ErrShort.
func ParseHeader(data []byte, size int64) (list []Tensor, metadata map[string]string, start int64, err error) {
	if size < 8 {
		return nil, nil, 0, fmt.Errorf("it is too short for a safetensors file: %w", weights.ErrCut)
	}
	if len(data) < 8 {
		return nil, nil, 0, ErrShort
	}
	n := binary.LittleEndian.Uint64(data)
	if n > uint64(size-8) {
		return nil, nil, 0, fmt.Errorf("its header is said to have %d bytes, the file has %d: it is no safetensors file, or %w", n, size, weights.ErrCut)
	}
	if int64(len(data)) < 8+int64(n) {
		return nil, nil, 0, ErrShort
	}
	start = 8 + int64(n)
	list, metadata, err = readHeader(data[8:start], size-start)
	return list, metadata, start, err
}

func readHeader(raw []byte, room int64) (list []Tensor, metadata map[string]string, err error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, nil, errors.New("its header is not a JSON object")
	}
	seen := map[string]bool{}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return nil, nil, fmt.Errorf("its header: %w", err)
		}
		name := t.(string) // the keys of an object
		if seen[name] {
			return nil, nil, fmt.Errorf("tensor %q appears twice", name)
		}
		seen[name] = true
		if len(name) > maxTensorName {
			return nil, nil, fmt.Errorf("a tensor has a name of %d bytes; at most %d are possible", len(name), maxTensorName)
		}
		if name == "__metadata__" {
			if err := d.Decode(&metadata); err != nil {
				return nil, nil, fmt.Errorf("its metadata: %w", err)
			}
			continue
		}
		var e struct {
			Type    string  `json:"dtype"`
			Shape   []int64 `json:"shape"`
			Offsets []int64 `json:"data_offsets"`
		}
		if err := d.Decode(&e); err != nil {
			return nil, nil, fmt.Errorf("tensor %q: %w", name, err)
		}
		one, err := checked(name, e.Type, e.Shape, e.Offsets, room)
		if err != nil {
			return nil, nil, fmt.Errorf("tensor %q %w", name, err)
		}
		list = append(list, one)
	}
	if _, err := d.Token(); err != nil {
		return nil, nil, fmt.Errorf("its header: %w", err)
	}
	slices.SortStableFunc(list, func(a, b Tensor) int {
		if a.From != b.From {
			return int(max(-1, min(1, a.From-b.From)))
		}
		return strings.Compare(a.Name, b.Name)
	})
	for i := 1; i < len(list); i++ {
		if list[i].From < list[i-1].To {
			return nil, nil, fmt.Errorf("tensors %q and %q overlap", list[i-1].Name, list[i].Name)
		}
	}
	return list, metadata, nil
}

func checked(name, kind string, shape, offsets []int64, room int64) (Tensor, error) {
	t := Tensor{Name: name, Type: kind}
	size, ok := bytesOf[kind]
	if !ok {
		return t, fmt.Errorf("has elements of type %q, which this format does not have", kind)
	}
	if len(offsets) != 2 || offsets[0] < 0 || offsets[0] > offsets[1] {
		return t, fmt.Errorf("has the offsets %v; they must be its beginning and its end", offsets)
	}
	if len(shape) > 8 {
		return t, fmt.Errorf("has %d dimensions", len(shape))
	}
	t.From, t.To = offsets[0], offsets[1]
	for _, n := range shape {
		if n < 0 || n > math.MaxInt32 || n > 0 && size > math.MaxInt64/n {
			return t, fmt.Errorf("has the shape %v", shape)
		}
		size *= n
		t.Shape = append(t.Shape, int(n))
	}
	if t.To-t.From != size {
		return t, fmt.Errorf("of shape %v takes %d bytes, its offsets %v leave %d", shape, size, offsets, t.To-t.From)
	}
	if t.To > room {
		return t, fmt.Errorf("needs bytes %d to %d of the data, the file has %d: %w", t.From, t.To, room, weights.ErrCut)
	}
	return t, nil
}

// Is reports whether path is a folder with a model in it, whole or not.
func Is(path string) bool {
	if info, err := os.Stat(filepath.Join(path, ConfigFile)); err != nil || info.IsDir() {
		return false
	}
	for _, name := range []string{SingleFile, IndexFile} {
		if _, err := os.Stat(filepath.Join(path, name)); err == nil {
			return true
		}
	}
	files, _ := filepath.Glob(filepath.Join(path, "*.safetensors"))
	return len(files) > 0
}

// Shards are the weight files of a folder, those included that its index names and that are not there.
func Shards(folder string) ([]string, error) {
	raw, err := readSmall(folder, IndexFile, maxText)
	switch {
	case err == nil:
		var index struct {
			Map map[string]string `json:"weight_map"`
		}
		if err := json.Unmarshal(raw, &index); err != nil {
			return nil, fmt.Errorf("%s: %w", IndexFile, err)
		}
		seen := map[string]bool{}
		var files []string
		for _, file := range index.Map {
			if seen[file] {
				continue
			}
			if file != filepath.Base(file) || !strings.HasSuffix(file, ".safetensors") {
				return nil, fmt.Errorf("%s names the file %q, which is not one of this folder", IndexFile, file)
			}
			seen[file] = true
			files = append(files, filepath.Join(folder, file))
		}
		if len(files) == 0 {
			return nil, fmt.Errorf("%s names no files", IndexFile)
		}
		slices.Sort(files)
		return files, nil
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(folder, SingleFile)); err == nil {
		return []string{filepath.Join(folder, SingleFile)}, nil
	}
	files, err := filepath.Glob(filepath.Join(folder, "*.safetensors"))
	if err == nil && len(files) != 1 {
		err = fmt.Errorf("the folder has %d safetensors files and no %s that says which belong together", len(files), IndexFile)
	}
	return files, err
}

// Open maps the model in a folder. The error says what is wrong with which file.
func Open(folder string) (*weights.Checkpoint, error) {
	c := &weights.Checkpoint{Layout: "safetensors"}
	err := openFolder(c, folder)
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

func openFolder(c *weights.Checkpoint, folder string) error {
	files, err := Shards(folder)
	if err != nil {
		return err
	}
	for _, file := range files {
		if err := addFile(c, file, ""); err != nil {
			return missingShard(err, file, files)
		}
	}
	raw, err := readSmall(folder, ConfigFile, maxText)
	if err != nil {
		return err
	}
	if err := Configure(c, raw); err != nil {
		return fmt.Errorf("%s: %w", ConfigFile, err)
	}
	if c.Name == "" {
		c.Name = filepath.Base(folder)
	}
	return readCompanions(c, folder)
}

func missingShard(err error, file string, files []string) error {
	if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", filepath.Base(file), err)
	}
	missing := 0
	for _, f := range files {
		if _, err := os.Stat(f); err != nil {
			missing++
		}
	}
	return fmt.Errorf("%d of its %d weight files are missing, %s among them: %w", missing, len(files), filepath.Base(file), weights.ErrCut)
}

// types are the storage types by the names of this format.
var types = map[string]weights.Type{"F32": weights.F32, "F16": weights.F16, "BF16": weights.BF16}

// addFile maps one file; its tensors get a prefix to their names.
func addFile(c *weights.Checkpoint, path, prefix string) error {
	m, err := weights.Map(path)
	if err != nil {
		return err
	}
	c.Closers = append(c.Closers, m)
	c.Size += int64(len(m.Data))
	return weights.Guarded(func() error {
		list, metadata, start, err := ParseHeader(m.Data, int64(len(m.Data)))
		if err != nil {
			return err
		}
		if c.License == "" {
			c.License = metadata["license"]
		}
		return Add(c, list, prefix, m.Data[start:])
	})
}

// Add adds the tensors of a header to a checkpoint. data is nil if only the header is there.
func Add(c *weights.Checkpoint, list []Tensor, prefix string, data []byte) error {
	at := func(t Tensor) []byte {
		if data == nil {
			return nil
		}
		return data[t.From:t.To:t.To]
	}
	scales := map[string]Tensor{}
	for _, t := range list {
		if t.Type == "U8" && strings.HasSuffix(t.Name, "_scales") {
			scales[strings.TrimSuffix(t.Name, "_scales")] = t
		}
	}
	inverse := map[string]Tensor{}
	for _, t := range list {
		if name, ok := strings.CutSuffix(t.Name, "_scale_inv"); ok {
			inverse[name] = t
		}
	}
	for _, t := range list {
		kind, readable := types[t.Type]
		if strings.HasSuffix(t.Name, "_scale_inv") {
			continue
		}
		base, isBlocks := strings.CutSuffix(t.Name, "_blocks")
		s, scaled := scales[base]
		switch {
		case readable:
			c.Tensors = append(c.Tensors, weights.Tensor{Name: prefix + t.Name, Type: kind, Shape: t.Shape, Data: at(t)})
		case t.Type == "F8_E4M3" && len(t.Shape) == 2:
			by, there := inverse[t.Name]
			if !there {
				return fmt.Errorf("tensor %q is of bytes, and there is no tensor %s_scale_inv with their scales", t.Name, t.Name)
			}
			scales, err := gridOf(t, by, at(by))
			if err != nil {
				return err
			}
			c.Tensors = append(c.Tensors, weights.Tensor{Name: prefix + t.Name, Type: weights.F8, Shape: t.Shape, Data: at(t), Scales: scales})
		case t.Type == "U8" && isBlocks && scaled:
			n := len(t.Shape)
			if n < 3 || t.Shape[n-1] != 16 || !slices.Equal(t.Shape[:n-1], s.Shape) {
				return fmt.Errorf("tensors %q and %q have the shapes %v and %v, which do not go together", t.Name, s.Name, t.Shape, s.Shape)
			}
			shape := append(slices.Clone(t.Shape[:n-2]), t.Shape[n-2]*32)
			c.Tensors = append(c.Tensors, weights.Tensor{Name: prefix + base, Type: weights.MXFP4Split, Shape: shape, Data: at(t), Scales: at(s)})
		}
		// What else there is (masks, position numbers) is no weights. If it should have been, the model misses it by name.
	}
	return nil
}

// gridOf are the scales of a matrix of bytes as float32, one for 128 by 128 of them, or the same for all. data is nil if only the header
// is there.
func gridOf(t, by Tensor, data []byte) ([]byte, error) {
	grid := weights.F8.Layout().Scales
	rows, cols := t.Shape[0], t.Shape[1]
	want := []int{(rows + grid.Rows - 1) / grid.Rows, (cols + grid.Elements - 1) / grid.Elements}
	n := 1
	for _, d := range by.Shape {
		n *= d
	}
	kind, ok := types[by.Type]
	if !ok || kind == weights.F16 || n != 1 && !slices.Equal(by.Shape, want) {
		return nil, fmt.Errorf("tensor %q has the shape %v and the type %s; scales of %q are one float, or %v", by.Name, by.Shape, by.Type, t.Name, want)
	}
	if data == nil {
		return nil, nil
	}
	if kind == weights.F32 && slices.Equal(by.Shape, want) {
		return data, nil
	}
	out := make([]byte, grid.Size(rows, cols))
	for i := range len(out) / 4 {
		from := min(i, n-1)
		if kind == weights.F32 {
			copy(out[4*i:], data[4*from:4*from+4])
		} else {
			copy(out[4*i+2:], data[2*from:2*from+2])
		}
	}
	return out, nil
}

// Bounds of the files of text beside the weights, in bytes. A tokenizer of 260,000 tokens takes some 35 MB.
const (
	maxText      = 16 << 20
	maxTokenizer = 64 << 20
)

// readSmall reads a file of text beside the weights, of at most limit bytes.
func readSmall(folder, name string, limit int64) ([]byte, error) {
	raw, err := system.ReadFile(filepath.Join(folder, name), limit)
	var at *fs.PathError
	if errors.As(err, &at) {
		err = fmt.Errorf("%s: %w", name, at.Err)
	}
	return raw, err
}
