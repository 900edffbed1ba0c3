package native

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

// A model's files are read through once it is loaded, which can be followed, and is stopped when the model goes.
func TestFilesAreReadAhead(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	if err := r.Load(t.Context(), harbour, false); err != nil {
		t.Fatal(err)
	}
	deadline := time.Now().Add(30 * time.Second)
	for r.Status(harbour).Unread > 0 {
		if time.Now().After(deadline) {
			t.Fatalf("%d bytes are still unread", r.Status(harbour).Unread)
		}
		time.Sleep(time.Millisecond)
	}
	// A file that has no end in sight: reading it ends when it is told to.
	large := filepath.Join(t.TempDir(), "large.gguf")
	f, err := os.Create(large)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Truncate(1 << 40); err != nil {
		t.Skip("no sparse files here: ", err)
	}
	f.Close()
	told := false
	a := beginReading([]string{large}, func(time.Duration) { told = true })
	if a.left() == 0 {
		t.Error("nothing is left of a terabyte")
	}
	a.end()
	if told || a.left() != 0 {
		t.Errorf("after its end: told %v, %d left", told, a.left())
	}
	if a := beginReading([]string{filepath.Join(t.TempDir(), "none.gguf")}, func(time.Duration) {}); a.left() != 0 {
		t.Error("a file that is not there is to be read")
	}
}
