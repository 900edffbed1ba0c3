package prepared_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"kindredgate/internal/cache"
	"kindredgate/internal/kv"
	"kindredgate/internal/measure"
	"kindredgate/internal/model"
	"kindredgate/internal/prepared"
	"kindredgate/internal/weights"
)

// load makes a small model up.
func load(t *testing.T, kind weights.Type) *model.Model {
	t.Helper()
	c, err := measure.Shapes[0].Checkpoint(kind)
	if err != nil {
		t.Fatal(err)
	}
	m, err := model.Load(c)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// logits are what the model makes of some tokens.
func logits(t *testing.T, m *model.Model) []float32 {
	t.Helper()
	seq := kv.NewPool(m.KVShape(), kv.F16, 1<<20).NewSequence(0)
	if err := seq.Reserve(3); err != nil {
		t.Fatal(err)
	}
	tokens := []model.Token{{ID: 7, KV: seq}, {ID: 1, KV: seq}, {ID: 300, KV: seq, Logits: true}}
	return slices.Clone(m.Forward(nil, m.NewScratch(3, 1), tokens)[0])
}

func prepareIn(t *testing.T, m *model.Model) prepared.Cache {
	c := prepared.Cache{Folder: filepath.Join(t.TempDir(), "prepared"), Space: 1 << 40}
	if c.Needs(m) == 0 {
		t.Skip("the kernels in use multiply rows as they lie in the file")
	}
	return c
}

func must(t *testing.T) func(f *prepared.File, err error) *prepared.File {
	return func(f *prepared.File, err error) *prepared.File {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		if f != nil {
			t.Cleanup(func() {
				if err := f.Close(); err != nil {
					t.Error(err)
				}
			})
		}
		return f
	}
}

func nothing(int64) error { return nil }

// What a model gives is the same whether its weights are prepared or not, and when the file is opened again; the file is
// what is multiplied with.
func TestPreparedWeightsGiveTheSame(t *testing.T) {
	for _, kind := range []weights.Type{weights.Q8_0, weights.Q4_K, weights.Q6_K} {
		m := load(t, kind)
		c := prepareIn(t, m)
		want := logits(t, m)
		if f := must(t)(c.Open(m, "as it is")); f != nil {
			t.Fatal("a file that was not made is there")
		}
		var last int64
		f := must(t)(c.Make(t.Context(), m, "as it is", func(done int64) error { last = done; return nil }))
		if info, err := os.Stat(f.Path); err != nil || info.Size() != c.Needs(m) || last <= 0 || last >= info.Size() || !f.All {
			t.Errorf("%s: the file is %v, %v; %d bytes were to be written, %d before the last piece", kind, info, err, c.Needs(m), last)
		}
		if !slices.Equal(logits(t, m), want) {
			t.Errorf("%s: prepared weights give other logits", kind)
		}
		again := load(t, kind)
		opened := must(t)(c.Open(again, "as it is"))
		if opened == nil || opened.Check(t.Context()) != nil {
			t.Fatalf("%s: opened again, they are not found, or wrong", kind)
		}
		if opened.Use(); !slices.Equal(logits(t, again), want) {
			t.Errorf("%s: opened again, they give other logits", kind)
		}
		raw, err := os.ReadFile(f.Path)
		if err != nil {
			t.Fatal(err)
		}
		for i := range raw[4096:] {
			raw[4096+i] ^= 1
		}
		other := prepared.Cache{Folder: t.TempDir(), Space: 1 << 40}
		if err := os.WriteFile(filepath.Join(other.Folder, filepath.Base(f.Path)), raw, 0o600); err != nil {
			t.Fatal(err)
		}
		changed := load(t, kind)
		odd := must(t)(other.Open(changed, "as it is"))
		if !slices.Equal(logits(t, changed), want) {
			t.Errorf("%s: the file is used before it was checked", kind)
		}
		if odd.Use(); slices.Equal(logits(t, changed), want) {
			t.Errorf("%s: the file is not what is multiplied with", kind)
		}
		if err := odd.Drop(); err != nil || !slices.Equal(logits(t, changed), want) {
			t.Errorf("%s: dropped, they are still used: %v", kind, err)
		}
	}
}

// A byte that is not what was written is found wherever it stands, and so is a file that was cut short while it is open.
func TestDamageIsFound(t *testing.T) {
	m := load(t, weights.Q8_0)
	c := prepareIn(t, m)
	path := must(t)(c.Make(t.Context(), m, "as it is", nothing)).Path
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if len(whole) < 3<<20 {
		t.Fatal("the model is too small for several megabytes")
	}
	for _, at := range []int{200, 4096, 1<<20 - 1, 1 << 20, 2<<20 + 12345, len(whole) - 4*(len(whole)>>20) - 8, len(whole) - 5, len(whole) - 1} {
		damaged := slices.Clone(whole)
		damaged[at] ^= 0x10
		if err := os.WriteFile(path, damaged, 0o600); err != nil {
			t.Fatal(err)
		}
		f := must(t)(c.Open(load(t, weights.Q8_0), "as it is"))
		if f == nil {
			t.Fatalf("byte %d: it is not there", at)
		}
		if err := f.Check(t.Context()); !errors.Is(err, prepared.ErrDamaged) {
			t.Errorf("byte %d: %v", at, err)
		}
	}
	if err := os.WriteFile(path, whole, 0o600); err != nil {
		t.Fatal(err)
	}
	f := must(t)(c.Open(load(t, weights.Q8_0), "as it is"))
	if err := f.Check(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := f.Check(canceled()); !errors.Is(err, context.Canceled) {
		t.Errorf("somebody who left: %v", err)
	}
	if err := os.Truncate(path, 1<<20); err != nil {
		t.Fatal(err)
	}
	if err := f.Check(t.Context()); !errors.Is(err, prepared.ErrDamaged) {
		t.Errorf("cut short: %v", err)
	}
}

func canceled() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return ctx
}

// What a killed gate has left counts until it is removed, which the next start does.
func TestPartsOfAKilledGate(t *testing.T) {
	m := load(t, weights.Q8_0)
	c := prepareIn(t, m)
	first := must(t)(c.Make(t.Context(), m, "as it is", nothing)).Path
	left := filepath.Join(c.Folder, "part-123")
	if err := os.WriteFile(left, make([]byte, 1000), 0o600); err != nil {
		t.Fatal(err)
	}
	tight := prepared.Cache{Folder: c.Folder, Space: 2*c.Needs(m) + 999}
	must(t)(tight.Make(t.Context(), load(t, weights.Q8_0), "another", nothing))
	if _, err := os.Stat(first); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the part does not count: %v", err)
	}
	if err := tight.Clean(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(left); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the part is still there: %v", err)
	}
	if files, err := filepath.Glob(filepath.Join(c.Folder, "*.panels")); len(files) != 1 || err != nil {
		t.Errorf("whole files: %v, %v", files, err)
	}
}

// Files are of one state of one model, and whole.
func TestFilesThatDoNotFitAreNotUsed(t *testing.T) {
	m := load(t, weights.Q8_0)
	c := prepareIn(t, m)
	path := must(t)(c.Make(t.Context(), m, "as it is", nothing)).Path
	if must(t)(c.Open(m, "changed since")) != nil {
		t.Error("weights of files that are not the same any more are used")
	}
	if must(t)(c.Open(load(t, weights.Q4_0), "as it is")) != nil {
		t.Error("weights of another type are used")
	}
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	for name, damaged := range map[string][]byte{"cut short": whole[:len(whole)-1], "empty": nil, "with another head": append(bytes.Repeat([]byte("x"), 4096), whole[4096:]...)} {
		if err := os.WriteFile(path, damaged, 0o600); err != nil {
			t.Fatal(err)
		}
		if f, err := c.Open(load(t, weights.Q8_0), "as it is"); err == nil || f != nil {
			t.Errorf("%s: a damaged file is used: %v, %v", name, f, err)
		}
		if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s: it is still there: %v", name, err)
		}
	}
}

// The folder keeps within its bound: what was used last stays, and work that ended early leaves nothing.
func TestSpaceIsBounded(t *testing.T) {
	m, other := load(t, weights.Q8_0), load(t, weights.Q4_0)
	c := prepareIn(t, m)
	if f, err := (prepared.Cache{Folder: c.Folder}).Make(t.Context(), m, "", nothing); f != nil || err != nil {
		t.Errorf("without space: %v, %v", f, err)
	}
	small := prepared.Cache{Folder: c.Folder, Space: c.Needs(m) - 1}
	if _, err := small.Make(t.Context(), m, "", nothing); !errors.Is(err, cache.ErrNoSpace) {
		t.Errorf("with too little space: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	if _, err := c.Make(ctx, m, "", func(done int64) error {
		if done > 1<<20 {
			cancel()
		}
		return nil
	}); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
	enough := prepared.Cache{Folder: c.Folder, Space: c.Needs(m) + c.Needs(other)}
	first := must(t)(enough.Make(t.Context(), m, "first", nothing)).Path
	second := must(t)(enough.Make(t.Context(), other, "second", nothing)).Path
	long, longer := time.Now().Add(-time.Hour), time.Now().Add(-2*time.Hour)
	for path, at := range map[string]time.Time{first: longer, second: long} {
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
	must(t)(enough.Open(m, "first")) // now the second has not been used for longer
	third := must(t)(enough.Make(t.Context(), other, "third", nothing)).Path
	var names []string
	entries, err := os.ReadDir(c.Folder)
	for _, e := range entries {
		if e.Name() != "CACHEDIR.TAG" {
			names = append(names, e.Name())
		}
	}
	want := []string{filepath.Base(first), filepath.Base(third)}
	slices.Sort(want)
	if !slices.Equal(names, want) || err != nil {
		t.Errorf("the folder holds %v, want %v; %v", names, want, err)
	}
}
