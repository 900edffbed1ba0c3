// Package disk finds models on disk, whichever layout they have, and opens them.
package disk

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kindredgate/internal/system"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
	"kindredgate/internal/weights/safetensors"
)

// Open opens the model at path: a GGUF file, the first of several, or a folder of safetensors.
func Open(path string) (*weights.Checkpoint, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		c, err := safetensors.Open(path)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return c, nil
	}
	return gguf.Open(path)
}

// Find calls found with the path of every model below folder. What cannot be read on the way is given to failed.
func Find(folder string, found func(path string), failed func(error)) {
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			failed(err)
			return nil
		case path != folder && strings.HasPrefix(d.Name(), "."):
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if d.Type()&fs.ModeSymlink != 0 {
			info, err := os.Stat(path)
			if err != nil {
				failed(err)
				return nil
			}
			if info.IsDir() {
				if safetensors.Is(path) { // a linked folder is a model, or nothing that is looked into
					found(path)
				}
				return nil
			}
		} else if d.IsDir() {
			if safetensors.Is(path) {
				found(path)
				return fs.SkipDir
			}
			return nil
		}
		if !strings.EqualFold(filepath.Ext(path), ".gguf") {
			return nil
		}
		if _, part, _, ok := gguf.Part(path); ok && part > 1 {
			if _, err := os.Stat(gguf.PartPath(path, 1)); err == nil {
				return nil // one of a model whose first part is here too
			}
		}
		found(path)
		return nil
	})
	if err != nil {
		failed(err)
	}
}

// Name is what a model at path is called by itself: the name of its file or folder, without what is not part of it.
func Name(path string) string {
	if base, _, _, ok := gguf.Part(path); ok {
		return base
	}
	base := filepath.Base(path)
	if ext := filepath.Ext(base); strings.EqualFold(ext, ".gguf") {
		return strings.TrimSuffix(base, ext)
	}
	return base
}

// companions are the files of a folder, beside its weights, that change what the model is.
var companions = []string{safetensors.ConfigFile, safetensors.IndexFile, "tokenizer.json", "tokenizer_config.json", "generation_config.json",
	"chat_template.jinja", "modules.json", "config_sentence_transformers.json"}

// Files are all files of the model at path, as far as they are there.
func Files(path string) ([]string, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		_, _, count, ok := gguf.Part(path)
		if !ok {
			return []string{path}, nil
		}
		var list []string
		for n := 1; n <= count; n++ {
			if part := gguf.PartPath(path, n); exists(part) {
				list = append(list, part)
			}
		}
		return list, nil
	}
	list, err := filepath.Glob(filepath.Join(path, "*.safetensors"))
	if err != nil {
		return nil, err
	}
	for _, name := range companions {
		if file := filepath.Join(path, name); exists(file) {
			list = append(list, file)
		}
	}
	modules, err := filepath.Glob(filepath.Join(path, "*_*", "*"))
	for _, file := range modules {
		if ext := filepath.Ext(file); ext == ".json" || ext == ".safetensors" {
			list = append(list, file)
		}
	}
	slices.Sort(list)
	return list, err
}

func exists(path string) bool {
	info, err := os.Stat(path)
	return err == nil && !info.IsDir()
}

// Identity tells one state of a model's files from every other: it changes when a file is written to or another takes
// its place.
func Identity(path string) (string, error) {
	files, err := All(path)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	for _, file := range files {
		info, err := os.Stat(file)
		if err != nil {
			return "", err
		}
		number, err := system.FileNumber(file)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "%s %d %d %d\n", file, info.Size(), info.ModTime().UnixNano(), number)
	}
	return b.String(), nil
}
