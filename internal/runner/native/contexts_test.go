package native

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/cache"
	"kindredgate/internal/exchange"
)

// cached asks behind long instructions, and gives the answer and how many tokens of the prompt were known.
func cached(t *testing.T, r *Runner, path, question string) (answer string, tokens int) {
	t.Helper()
	req := ask(strings.Repeat("The boats of the line call at Sellen, Osmer and Vray. ", 20) + question)
	req.MaxTokens = 8
	for event, err := range r.Run(t.Context(), path, req) {
		if err != nil {
			t.Fatal(err)
		}
		switch e := event.(type) {
		case exchange.TextDelta:
			answer += e.Text
		case exchange.Started:
			tokens = e.CachedTokens
		}
	}
	return answer, tokens
}

// What two requests had in common is known to the next gate, which answers the same; what only one had is not. A damaged file is removed, and none
// is written without being asked for.
func TestContextsSurviveARestart(t *testing.T) {
	path := copied(t, harbour)
	var mu sync.Mutex
	var told []error
	start := func(folder string, space int64) *Runner {
		return New(Options{Contexts: cache.Folder{Path: folder, Space: space, Suffix: ".contexts"}, Told: func(_, _ string, err error) {
			mu.Lock()
			defer mu.Unlock()
			told = append(told, err)
		}})
	}
	folder := t.TempDir()
	r := start(folder, 1<<30)
	want, _ := cached(t, r, path, "Which is the last one?")
	if _, n := cached(t, r, path, "And on Sundays?"); n < 64 {
		t.Fatalf("%d tokens are cached within one run; the prompt is too short for this test", n)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(folder, "*.contexts"))
	if len(files) != 1 || err != nil {
		t.Fatalf("there are %v, %v; want one file", files, err)
	}
	if info, err := os.Stat(files[0]); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file has mode %v, %v", info.Mode(), err)
	}

	r = start(folder, 1<<30)
	answer, n := cached(t, r, path, "Which is the last one?")
	if n < 64 || answer != want {
		t.Errorf("after a restart %d tokens are cached, and it says %q; before %q", n, answer, want)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}

	whole, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	whole[200] ^= 1
	if err := os.WriteFile(files[0], whole, 0o600); err != nil {
		t.Fatal(err)
	}
	told = nil
	r = start(folder, 1<<30)
	if answer, n := cached(t, r, path, "Which is the last one?"); n > 0 || answer != want {
		t.Errorf("of a damaged file %d tokens are cached, and it says %q", n, answer)
	}
	if !slices.ContainsFunc(told, func(err error) bool { return err != nil }) {
		t.Error("nobody was told of the damage")
	}
	if _, err := os.Stat(files[0]); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the damaged file: %v", err)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}

	none := t.TempDir()
	r = start(none, 0)
	cached(t, r, path, "Which is the last one?")
	cached(t, r, path, "And on Sundays?")
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	if list, err := os.ReadDir(none); len(list) > 0 || err != nil {
		t.Errorf("%v, %v were written without being asked for", list, err)
	}
}

// What is on disk of prompts goes with recorded content, and does not come back when a model that had it in memory is closed.
func TestContextsAreForgotten(t *testing.T) {
	path := copied(t, harbour)
	var folder cache.Folder
	files := func() int {
		list, err := os.ReadDir(folder.Path)
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			t.Fatal(err)
		}
		n := 0
		for _, e := range list {
			if strings.HasSuffix(e.Name(), folder.Suffix) {
				n++
			}
		}
		return n
	}
	asked := func(questions ...string) *Runner {
		r := New(Options{Contexts: folder})
		for _, q := range questions {
			cached(t, r, path, q)
		}
		return r
	}
	for _, c := range []struct {
		name   string
		forget func(*Runner)
		want   int
	}{
		{"kept", func(*Runner) {}, 1},
		{"forgotten", func(r *Runner) {
			if err := r.ForgetContexts(); err != nil {
				t.Fatal(err)
			}
			if n := files(); n != 0 {
				t.Errorf("%d files are left", n)
			}
		}, 0},
		{"asked again by one", func(r *Runner) {
			if err := r.ForgetContexts(); err != nil {
				t.Fatal(err)
			}
			cached(t, r, path, "And in the snow?")
		}, 1},
	} {
		folder = cache.Folder{Path: filepath.Join(t.TempDir(), "data[1]"), Space: 1 << 30, Suffix: ".contexts"}
		r := asked("Which is the last one?", "And on Sundays?")
		c.forget(r)
		if err := r.Close(); err != nil {
			t.Fatal(err)
		}
		if n := files(); n != c.want {
			t.Errorf("%s: %d files, not %d", c.name, n, c.want)
		}
	}

	// What is there from before goes too, whether its model is loaded or not.
	folder = cache.Folder{Path: filepath.Join(t.TempDir(), "data[1]"), Space: 1 << 30, Suffix: ".contexts"}
	if err := asked("Which is the last one?", "And on Sundays?").Close(); err != nil || files() != 1 {
		t.Fatalf("%d files, %v", files(), err)
	}
	r := asked("And in the snow?")
	if err := r.ForgetContexts(); err != nil || files() != 0 {
		t.Errorf("%d files are left, %v", files(), err)
	}
	if err := r.Close(); err != nil || files() != 0 {
		t.Errorf("%d files come back, %v", files(), err)
	}
}

// Several who delete at once do not wait for each other for ever, whatever the order of the models.
func TestContextsAreForgottenAtOnce(t *testing.T) {
	r := New(Options{Contexts: cache.Folder{Path: t.TempDir(), Space: 1 << 30, Suffix: ".contexts"}})
	for range 6 {
		path := copied(t, harbour)
		cached(t, r, path, "Which is the last one?")
	}
	done := make(chan error)
	const all = 8
	for range all {
		go func() {
			var err error
			for range 50 {
				err = errors.Join(err, r.ForgetContexts())
			}
			done <- err
		}()
	}
	for range all {
		select {
		case err := <-done:
			if err != nil {
				t.Error(err)
			}
		case <-time.After(30 * time.Second):
			t.Fatal("they wait for each other")
		}
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
}
