package main

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

// What is kept is what the generator writes, to the byte.
func TestGeneratedFilesAreCurrent(t *testing.T) {
	for name, want := range files() {
		got, err := os.ReadFile(filepath.Join("..", name))
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(got, want) {
			t.Errorf("%s is not what the generator writes; run \"make generate\"", name)
		}
	}
}
