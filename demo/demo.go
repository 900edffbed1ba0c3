// Package demo holds the sample models of Sorrel Sound Ferries, a made-up ferry line, so that the gate can be
// tried with nothing installed.
package demo

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

//go:embed models
var files embed.FS

// Install writes the sample models below folder, leaving files that are there already as they are.
func Install(folder string) error {
	return fs.WalkDir(files, "models", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(folder, filepath.FromSlash(path))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		raw, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		if info, err := os.Stat(to); err == nil && info.Size() == int64(len(raw)) {
			return nil
		}
		// Under another name first, so that a model is never there in part.
		part := to + ".part"
		if err := os.WriteFile(part, raw, 0o644); err != nil {
			return errors.Join(fmt.Errorf("install the sample models: %w", err), os.Remove(part))
		}
		return os.Rename(part, to)
	})
}
