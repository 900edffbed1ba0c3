package disk

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path/filepath"

	"kindredgate/internal/system"
)

// How much of each file is looked at for its digest: all of a small one, samples of a large one.
const (
	wholeFile   = 1 << 20
	sampleBytes = 16 << 10
	samples     = 32
)

// Digest tells a model from others by what its files hold, whatever they are called and wherever they lie: their sizes, and samples
// spread over them, since reading all takes minutes.
func Digest(path string) (string, error) {
	files, err := All(path)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	for _, file := range files {
		if err := digest(h, file); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func digest(h io.Writer, file string) error {
	f, err := system.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	size := info.Size()
	fmt.Fprintf(h, "%s %d\n", filepath.Ext(file), size)
	if size <= wholeFile {
		_, err := io.Copy(h, f)
		return err
	}
	for i := range int64(samples) {
		// The first is at the beginning, the last at the end.
		if _, err := io.Copy(h, io.NewSectionReader(f, (size-sampleBytes)*i/(samples-1), sampleBytes)); err != nil {
			return err
		}
	}
	return nil
}
