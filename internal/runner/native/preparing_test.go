package native

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/prepared"
)

// whenPrepared waits for the end of a model's preparation.
func whenPrepared(t *testing.T, r *Runner, path string) {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); r.Status(path).Unprepared > 0; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%d bytes are still to be prepared", r.Status(path).Unprepared)
		}
	}
}

// whenUsed waits until a model multiplies with prepared weights.
func whenUsed(t *testing.T, e *entry) *prepared.File {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(time.Millisecond) {
		if f := e.preparing.used.Load(); f != nil {
			return f
		}
		if time.Now().After(deadline) {
			t.Fatal("prepared weights are not used")
		}
	}
}

func loadedAt(r *Runner, path string) *entry {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.loaded[path]
}

// A model answers at once; its weights are prepared meanwhile, once for all times that it is loaded, and its answers stay
// the same.
func TestWeightsArePreparedOnce(t *testing.T) {
	var mu sync.Mutex
	var said []string
	o := Options{Prepared: prepared.Cache{Folder: t.TempDir(), Space: 1 << 30}, Told: func(what, _ string, err error) {
		mu.Lock()
		defer mu.Unlock()
		if said = append(said, what); err != nil {
			said = append(said, err.Error())
		}
	}}
	r := New(o)
	defer r.Close()
	path := copied(t, harbour)
	first, err := say1(t, r, path)
	if err != nil {
		t.Fatal(err)
	}
	if o.Prepared.Needs(loadedAt(r, path).model) == 0 {
		t.Skip("the kernels in use multiply rows as they lie in the file")
	}
	if err := r.Load(t.Context(), path, false); err != nil {
		t.Fatal(err)
	}
	whenPrepared(t, r, path)
	if again, err := say1(t, r, path); again != first || err != nil {
		t.Errorf("prepared, it says %q, %v; before %q", again, err, first)
	}
	files, err := filepath.Glob(filepath.Join(o.Prepared.Folder, "*.panels"))
	if len(files) != 1 || err != nil {
		t.Fatalf("there are %v, %v", files, err)
	}
	made, err := os.Stat(files[0])
	if err != nil {
		t.Fatal(err)
	}
	r.Unload(path)
	if err := r.Load(t.Context(), path, false); err != nil {
		t.Fatal(err)
	}
	if e := loadedAt(r, path); e.prepared == nil || whenUsed(t, e) != e.prepared {
		t.Error("what was prepared before is not used")
	}
	if again, err := say1(t, r, path); again != first || err != nil {
		t.Errorf("loaded anew, it says %q, %v; before %q", again, err, first)
	}
	if now, err := os.Stat(files[0]); err != nil || now.Size() != made.Size() {
		t.Errorf("the file is %v, %v", now, err)
	}
	mu.Lock()
	defer mu.Unlock()
	if n := strings.Count(strings.Join(said, "\n"), "prepared for this processor"); n != 1 {
		t.Errorf("the runner said %q", said)
	}
}

// Prepared weights that a disk has changed are not used, nor do those that are cut short while they are in use stay: the model's own file serves,
// with the same answers, and they are made anew.
func TestDamagedPreparedWeights(t *testing.T) {
	c := prepared.Cache{Folder: t.TempDir(), Space: 1 << 30}
	path := copied(t, harbour)
	first := New(Options{Prepared: c})
	want, err := say1(t, first, path)
	if err != nil {
		t.Fatal(err)
	}
	if c.Needs(loadedAt(first, path).model) == 0 {
		first.Close()
		t.Skip("the kernels in use multiply rows as they lie in the file")
	}
	file := whenUsed(t, loadedAt(first, path)).Path
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for i := 1 << 20; i < len(raw)-8192; i += 4096 {
		raw[i] ^= 0x55
	}
	if err := os.WriteFile(file, raw, 0o600); err != nil {
		t.Fatal(err)
	}
	var mu sync.Mutex
	var said []string
	r := New(Options{Prepared: c, Told: func(what, _ string, err error) {
		mu.Lock()
		defer mu.Unlock()
		said = append(said, what)
		if err != nil {
			said = append(said, err.Error())
		}
	}})
	defer r.Close()
	answer := func(when string) {
		t.Helper()
		if got, err := say1(t, r, path); err != nil || got != want {
			t.Errorf("%s: %q, %v, want %q", when, got, err, want)
		}
	}
	answer("damaged")
	whenUsed(t, loadedAt(r, path))
	answer("made anew")
	mu.Lock()
	if all := strings.Join(said, "\n"); !strings.Contains(all, "are damaged, in megabyte 1") || !strings.Contains(all, "has its weights prepared") {
		t.Errorf("it was said: %s", all)
	}
	mu.Unlock()

	used := loadedAt(r, path).preparing.used.Load()
	if err := os.Truncate(file, 4096); err != nil {
		t.Fatal(err)
	}
	// Whoever is there when it happens is told that it is not the model's file, and to try again; nobody after that.
	if _, err := say1(t, r, path); err == nil || !strings.Contains(err.Error(), "prepared for this processor went away") {
		t.Errorf("cut short: %v", err)
	}
	answer("after it was cut short")
	if e := loadedAt(r, path); whenUsed(t, e) == used {
		for e.preparing.used.Load() == used {
			time.Sleep(time.Millisecond)
		}
	}
	whenUsed(t, loadedAt(r, path))
	answer("made anew once more")
}

// Models that are loaded at the same time keep within the space together.
func TestSpaceIsSharedByModels(t *testing.T) {
	c := prepared.Cache{Folder: t.TempDir(), Space: 1 << 30}
	paths := []string{copied(t, harbour), copied(t, harbour), copied(t, harbour)}
	one := New(Options{})
	if err := one.Load(t.Context(), paths[0], false); err != nil {
		t.Fatal(err)
	}
	needs := c.Needs(loadedAt(one, paths[0]).model)
	if err := one.Close(); err != nil {
		t.Fatal(err)
	}
	if needs == 0 {
		t.Skip("the kernels in use multiply rows as they lie in the file")
	}
	c.Space = 2*needs - 1
	r := New(Options{Prepared: c})
	defer r.Close()
	var all sync.WaitGroup
	for _, path := range paths {
		all.Go(func() {
			if err := r.Load(t.Context(), path, false); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	for _, path := range paths {
		whenPrepared(t, r, path)
	}
	if files, err := filepath.Glob(filepath.Join(c.Folder, "*.panels")); len(files) != 1 || err != nil {
		t.Errorf("there are %v, %v, where there is space for one", files, err)
	}
}

// What keeps weights from being prepared is told, and keeps no one from using the model. Unloading it ends the work.
func TestModelsAreUsedUnprepared(t *testing.T) {
	file := filepath.Join(t.TempDir(), "in the way")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]prepared.Cache{"no folder": {Folder: filepath.Join(file, "prepared"), Space: 1 << 30}, "no space": {Folder: t.TempDir(), Space: 1}} {
		told := make(chan error, 8)
		r := New(Options{Prepared: c, Told: func(what, _ string, err error) {
			if strings.Contains(what, "as it is in its file") {
				told <- errors.Join(err, errors.New(what))
			}
		}})
		if _, err := say1(t, r, harbour); err != nil {
			t.Error(name, err)
		}
		if c.Needs(loadedAt(r, harbour).model) == 0 {
			t.Skip("the kernels in use multiply rows as they lie in the file")
		}
		whenPrepared(t, r, harbour)
		select {
		case <-told:
		case <-time.After(time.Minute):
			t.Errorf("%s: nobody was told", name)
		}
		if err := r.Close(); err != nil {
			t.Error(name, err)
		}
	}
}

// A small model drafts for another if it has the same vocabulary; one that cannot is told, and the model answers without.
func TestDrafters(t *testing.T) {
	for name, c := range map[string]struct {
		path string
		fits bool
	}{
		"itself":             {copied(t, harbour), true},
		"another vocabulary": {fixtures + "llama/model.q8_0.gguf", false},
		"embeddings":         {"../../../demo/models/harbour-embed", false},
		"nothing":            {filepath.Join(t.TempDir(), "none.gguf"), false},
	} {
		told := ""
		r := New(Options{Drafter: func(path string) (string, error) {
			if path == harbour {
				return c.path, nil
			}
			return "", errors.New("asked for another")
		}, Told: func(what, _ string, err error) {
			if err != nil {
				told = what
			}
		}})
		req := ask("Write a guide to Marrow Isle.")
		req.MaxTokens = 60
		var finish exchange.Finish
		for event, err := range r.Run(t.Context(), harbour, req) {
			if err != nil {
				t.Fatal(name, err)
			}
			if f, ok := event.(exchange.Finish); ok {
				finish = f
			}
		}
		if c.fits != (told == "") {
			t.Errorf("%s: told %q", name, told)
		}
		if c.fits && finish.Accepted == 0 {
			t.Errorf("%s: none of %d guesses was right", name, finish.Drafted)
		}
		if err := r.Close(); err != nil {
			t.Error(name, err)
		}
	}
}
