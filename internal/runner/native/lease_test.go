package native

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/grammar"
	"kindredgate/internal/sampling"
)

const fixtures = "../../model/testdata/reference/"

// copied is a copy of a model file, to be changed.
func copied(t testing.TB, from string) string {
	t.Helper()
	raw, err := os.ReadFile(from)
	if err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(t.TempDir(), "model.gguf")
	if err := os.WriteFile(to, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	return to
}

func say1(t testing.TB, r *Runner, path string) (string, error) {
	t.Helper()
	req := ask("When is the last boat to Osmer?")
	req.MaxTokens = 12
	var b strings.Builder
	for event, err := range r.Run(t.Context(), path, req) {
		if err != nil {
			return b.String(), err
		}
		if d, ok := event.(exchange.TextDelta); ok {
			b.WriteString(d.Text)
		}
	}
	return b.String(), nil
}

// A weights file that is cut short while it is in use ends the requests that it touches, with the reason, and not the
// process; put back whole, it is loaded anew.
func TestFileCutShort(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	path, other := copied(t, harbour), copied(t, harbour)
	if _, err := say1(t, r, path); err != nil {
		t.Fatal(err)
	}
	before, err := say1(t, r, other)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	// In the middle of an answer, so that the file is still the one that was loaded.
	req := ask("Write a guide to Marrow Isle.")
	cut := false
	for _, err := range r.Run(t.Context(), path, req) {
		if err != nil {
			var e *exchange.Error
			if !errors.As(err, &e) || e.Code != "runner_unavailable" || !strings.Contains(e.Message, "cut short") {
				t.Errorf("the answer ends with %v", err)
			}
			cut = true
			break
		}
		if err := os.Truncate(path, 64<<10); err != nil {
			t.Fatal(err)
		}
	}
	if !cut {
		t.Error("the answer came to its end")
	}
	if _, err := say1(t, r, path); err == nil || !strings.Contains(err.Error(), "cut off or damaged") {
		t.Errorf("the next request: %v", err)
	}
	if again, err := say1(t, r, other); err != nil || again != before {
		t.Errorf("another model: %q, %v", again, err)
	}
	if err := os.WriteFile(path, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	if again, err := say1(t, r, path); err != nil || again != before {
		t.Errorf("put back: %q, %v", again, err)
	}
}

// A file in the place of another is what answers next; the one before answers those who began with it.
func TestReplacedFile(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	path := copied(t, harbour)
	var text strings.Builder
	first := true
	for event, err := range r.Run(t.Context(), path, ask("When is the last boat to Osmer?")) {
		if err != nil {
			t.Fatal(err)
		}
		if first {
			first = false
			if err := os.Rename(copied(t, fixtures+"llama/model.q8_0.gguf"), path); err != nil {
				t.Fatal(err)
			}
			if p, err := r.RenderRaw(t.Context(), path, "the gate"); err != nil || p.Tokens[0].ID == 2041 {
				t.Errorf("the old model is still asked: %+v, %v", p, err)
			}
		}
		if d, ok := event.(exchange.TextDelta); ok {
			text.WriteString(d.Text)
		}
	}
	if want := "The last boat to Osmer leaves at 19:40."; text.String() != want {
		t.Errorf("the answer under way became %q, want %q", text.String(), want)
	}
}

// Closing and unloading while vectors are being made ends them or waits for them; the weights stay until nobody reads
// them.
func TestCloseDuringEmbedding(t *testing.T) {
	for range 5 {
		r := New(Options{})
		path := copied(t, embedder)
		req := &exchange.Embedding{Inputs: make([]exchange.Input, 64)}
		for i := range req.Inputs {
			req.Inputs[i].Text = strings.Repeat("boat to Osmer ", 40)
		}
		if err := r.Load(t.Context(), path, false); err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		for range 3 {
			all.Go(func() {
				if v, err := r.Embed(t.Context(), path, req); err == nil && len(v.Vectors) != 64 || err != nil && exchange.AsError(err).Code != "shutting_down" {
					t.Errorf("%v", err)
				}
			})
		}
		time.Sleep(5 * time.Millisecond)
		r.Unload(path)
		if err := r.Close(); err != nil {
			t.Error(err)
		}
		all.Wait()
	}
}

// Many who ask at once load a model once; who leaves while it loads leaves alone.
func TestLoadedOnce(t *testing.T) {
	var mu sync.Mutex
	loads := 0
	r := New(Options{Told: func(what, _ string, _ error) {
		mu.Lock()
		defer mu.Unlock()
		if what == "loaded" {
			loads++
		}
	}})
	defer r.Close()
	path := copied(t, harbour)
	gone, leave := context.WithCancel(t.Context())
	leave()
	var all sync.WaitGroup
	for range 16 {
		all.Go(func() {
			if err := r.Load(t.Context(), path, false); err != nil {
				t.Error(err)
			}
		})
		all.Go(func() {
			if err := r.Load(gone, path, false); err != nil && !errors.Is(err, context.Canceled) {
				t.Error(err)
			}
		})
	}
	all.Wait()
	mu.Lock()
	defer mu.Unlock()
	if loads != 1 {
		t.Errorf("loaded %d times", loads)
	}
}

// What does not fit unloads the least recently used model that nobody uses, or is refused with the figures.
func TestMemoryBudget(t *testing.T) {
	paths := []string{copied(t, harbour), copied(t, harbour), copied(t, harbour)} // 4 MB each, 100 kB of contexts, and 4 MB to work with
	r := New(Options{Memory: 21_000_000, Context: 100_000})
	defer r.Close()
	for _, path := range paths {
		if err := r.Load(t.Context(), path, false); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Millisecond)
	}
	states := func() (s string) {
		for _, path := range paths {
			s += map[State]string{Unloaded: "-", Loading: "?", Loaded: "+"}[r.Status(path).State]
		}
		return s
	}
	if got := states(); got != "-++" {
		t.Errorf("loaded are %s, want all but the first", got)
	}
	if err := r.Load(t.Context(), paths[1], true); err != nil { // which is kept from now on
		t.Fatal(err)
	}
	l, err := r.get(t.Context(), paths[2]) // and this one is in use
	if err != nil {
		t.Fatal(err)
	}
	err = r.Load(t.Context(), paths[0], false)
	var e *exchange.Error
	if !errors.As(err, &e) || e.Code != "runner_unavailable" || !strings.Contains(e.Message, "4 MB for its weights, 0 MB for contexts (models.context_memory) and 4 MB to work with; of the 21 MB") || e.RetryAfter == 0 {
		t.Errorf("%v", err)
	}
	l.release()
	if err := r.Load(t.Context(), paths[0], false); err != nil || states() != "++-" {
		t.Errorf("when it is free: %v, %s", err, states())
	}
	small := New(Options{Memory: 1_000_000})
	defer small.Close()
	if err := small.Load(t.Context(), paths[0], false); err == nil || !strings.Contains(err.Error(), "1 MB are set aside") {
		t.Errorf("larger than all: %v", err)
	}
	// What can never fit drives nobody out.
	middle := New(Options{Memory: 11_000_000, Context: 100_000})
	defer middle.Close()
	if err := middle.Load(t.Context(), paths[0], false); err != nil {
		t.Fatal(err)
	}
	if err := middle.Load(t.Context(), "../../model/testdata/harbour-4m", false); err == nil || !strings.Contains(err.Error(), "11 MB are set aside") || middle.Status(paths[0]).State != Loaded {
		t.Errorf("larger than all, beside another: %v, the other is %v", err, middle.Status(paths[0]).State)
	}
}

// What is loaded are the files as they are when it is done: replaced in between, they are opened anew, and nothing of the first opening stays.
func TestReplacedWhileLoading(t *testing.T) {
	path := copied(t, harbour)
	other, err := os.ReadFile(embedder)
	if err != nil {
		t.Fatal(err)
	}
	again := 0
	r := New(Options{Told: func(what, _ string, _ error) {
		if strings.Contains(what, "opened anew") {
			again++
		}
	}, Drafter: func(string) (string, error) { // which is asked for between the first look at the files and their opening
		if again > 0 {
			return "", nil
		}
		return "", errors.Join(os.WriteFile(path+".new", other, 0o600), os.Rename(path+".new", path))
	}})
	defer r.Close()
	if err := r.Load(t.Context(), path, false); err != nil || again != 1 {
		t.Fatalf("%v, opened anew %d times", err, again)
	}
	if v, err := r.Embed(t.Context(), path, &exchange.Embedding{Inputs: []exchange.Input{{Text: "quay"}}}); err != nil || len(v.Vectors) != 1 {
		t.Errorf("%+v, %v", v, err)
	}
	want := r.Status(path).Bytes
	r.mu.Lock()
	used := r.used
	r.mu.Unlock()
	if used != want {
		t.Errorf("%d bytes are in use, by a model of %d", used, want)
	}
	// Files that are replaced each time are not opened for ever.
	stamp := time.Now()
	restless := New(Options{Drafter: func(string) (string, error) {
		stamp = stamp.Add(time.Second)
		return "", os.Chtimes(path, stamp, stamp)
	}})
	defer restless.Close()
	if err := restless.Load(t.Context(), path, false); err == nil || !strings.Contains(err.Error(), "are being replaced") {
		t.Errorf("%v", err)
	}
	restless.mu.Lock()
	defer restless.mu.Unlock()
	for restless.pending > 0 {
		restless.settled.Wait()
	}
	if restless.used != 0 || restless.leaving != 0 {
		t.Errorf("%d bytes are in use, %d on their way out", restless.used, restless.leaving)
	}
}

// An entry that nobody waits for any more while it loads is closed when it has loaded, and not before.
func TestLeftWhileLoading(t *testing.T) {
	path := copied(t, harbour)
	looked, goOn := make(chan struct{}), make(chan struct{})
	r := New(Options{Drafter: func(string) (string, error) {
		looked <- struct{}{}
		<-goOn
		return "", nil
	}})
	ctx, leave := context.WithCancel(t.Context())
	done := make(chan error)
	go func() { done <- r.Load(ctx, path, false) }()
	<-looked
	leave()
	<-done
	r.mu.Lock()
	e := r.loaded[path]
	r.retire(e) // as it is when its files are found to be others
	r.mu.Unlock()
	close(goOn)
	r.mu.Lock()
	for r.pending > 0 {
		r.settled.Wait()
	}
	used, leaving := r.used, r.leaving
	r.mu.Unlock()
	if used != 0 || leaving != 0 || e.loadedModel == nil {
		t.Errorf("%d bytes are in use, %d on their way out", used, leaving)
	}
	for _, err := range e.engine.Generate(t.Context(), engine.Job{Prompt: []int32{1}, MaxTokens: 1}) {
		if !errors.Is(err, engine.ErrClosed) {
			t.Errorf("its engine goes on: %v", err)
		}
	}
	if err := r.Close(); err != nil {
		t.Error(err)
	}
}

func TestIdleModelsAreUnloaded(t *testing.T) {
	unloaded := make(chan string, 4)
	r := New(Options{Idle: 20 * time.Millisecond, Told: func(what, path string, _ error) {
		if strings.HasPrefix(what, "unloaded") {
			unloaded <- path
		}
	}})
	defer r.Close()
	idle, kept := copied(t, embedder), copied(t, embedder)
	if err := errors.Join(r.Load(t.Context(), kept, true), r.Load(t.Context(), idle, false)); err != nil {
		t.Fatal(err)
	}
	select {
	case path := <-unloaded:
		if path != idle || r.Status(kept).State != Loaded || r.Status(idle).State != Unloaded {
			t.Errorf("%s was unloaded", path)
		}
	case <-time.After(10 * time.Second):
		t.Error("nothing was unloaded")
	}
}

// Each candidate draws for itself, and no seed's second candidate is another seed's first.
func TestSeedsOfCandidates(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	answers := func(seed int64, n int) []string {
		hot := 1.5
		req := ask("Write a guide to Marrow Isle.")
		req.Candidates, req.MaxTokens = n, 24
		req.Sampling = exchange.Sampling{Settings: sampling.Settings{Temperature: &hot}, Seed: &seed}
		out := make([]string, n)
		for event, err := range r.Run(t.Context(), harbour, req) {
			if err != nil {
				t.Fatal(err)
			}
			if d, ok := event.(exchange.TextDelta); ok {
				out[d.Candidate] += d.Text
			}
		}
		return out
	}
	five, six := answers(5, 2), answers(6, 1)
	if five[0] == five[1] || five[1] == six[0] {
		t.Errorf("seed 5: %q, seed 6: %q", five, six)
	}
	if again := answers(5, 2); again[0] != five[0] || again[1] != five[1] {
		t.Errorf("seed 5 gives %q, and then %q", five, again)
	}
}

// A token by which the template ends the assistant's turns ends the answer, whatever the file says of the end of the
// sequence.
func TestTurnsEndByTheTemplate(t *testing.T) {
	raw, err := os.ReadFile(harbour)
	if err != nil {
		t.Fatal(err)
	}
	// The file names another token as the end of the sequence: <|pad|>, which never comes.
	key := append([]byte("tokenizer.ggml.eos_token_id"), 4, 0, 0, 0)
	at := strings.Index(string(raw), string(key)) + len(key)
	if raw[at] = 0xff; raw[at+1] != 7 {
		t.Fatalf("%x", raw[at:at+4])
	}
	path := filepath.Join(t.TempDir(), "model.gguf")
	if err := os.WriteFile(path, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	r := New(Options{})
	defer r.Close()
	req := ask("When is the last boat to Osmer?")
	req.MaxTokens = 60
	var text string
	for event, err := range r.Run(t.Context(), path, req) {
		if err != nil {
			t.Fatal(err)
		}
		switch event := event.(type) {
		case exchange.TextDelta:
			text += event.Text
		case exchange.Finish:
			if event.Reason != exchange.Stopped {
				t.Errorf("it ended by %s", event.Reason)
			}
		}
	}
	if want := "The last boat to Osmer leaves at 19:40."; text != want {
		t.Errorf("%q, want %q", text, want)
	}
}

// An embedding model's prompts and lengths, as its files define them.
func TestPurposesAndDimensions(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "embed")
	if err := os.CopyFS(dir, os.DirFS(fixtures+"gemma-embed/hf")); err != nil {
		t.Fatal(err)
	}
	doc := `{"prompts": {"query": "the ", "document": ""}, "default_prompt_name": "document", "matryoshka_dimensions": [16]}`
	if err := os.WriteFile(dir+"/config_sentence_transformers.json", []byte(doc), 0o644); err != nil {
		t.Fatal(err)
	}
	r := New(Options{})
	defer r.Close()
	vector := func(text, purpose string, dimensions int) []float32 {
		v, err := r.Embed(t.Context(), dir, &exchange.Embedding{Inputs: []exchange.Input{{Text: text}}, Purpose: purpose, Dimensions: dimensions})
		if err != nil {
			t.Fatal(err)
		}
		return v.Vectors[0]
	}
	same := func(a, b []float32) bool {
		x, _ := json.Marshal(a)
		y, _ := json.Marshal(b)
		return string(x) == string(y)
	}
	if query := vector("gate", "query", 0); !same(query, vector("the gate", "", 0)) || same(query, vector("gate", "document", 0)) {
		t.Error("the prompt of the purpose is not put in front")
	}
	short := vector("gate", "", 16)
	length := 0.0
	for _, x := range short {
		length += float64(x) * float64(x)
	}
	if len(short) != 16 || length < 0.999 || length > 1.001 {
		t.Errorf("%d dimensions of length² %g", len(short), length)
	}
	_, err := r.Embed(t.Context(), dir, &exchange.Embedding{Inputs: []exchange.Input{{Text: "x"}}, Purpose: "poetry"})
	if err == nil || exchange.AsError(err).Param != "purpose" {
		t.Error(err)
	}
}

// Grammars are kept by what they take, not only by their number.
func TestGrammarsAreBoundedByBytes(t *testing.T) {
	vocabulary := grammar.NewVocabulary([]string{"a"})
	var f forms
	put := func(key string, bytes int) {
		g, err := grammar.New(grammar.NewWork(t.Context()), vocabulary, grammar.Literal(strings.Repeat("a", bytes)))
		if err != nil {
			t.Fatal(err)
		}
		f.put(key, g)
	}
	for i := range 2 * maxGrammars {
		put(string(rune('A'+i)), 1)
	}
	if n := len(f.recent); n != maxGrammars {
		t.Errorf("%d grammars are kept", n)
	}
	f.take(f.recent[0].key) // which is the most recent now
	first := f.recent[len(f.recent)-1].key
	put("large", maxGrammarBytes*3/5)
	put("larger", maxGrammarBytes*3/5)
	if f.take("larger") == nil || f.take("large") != nil || f.take(first) != nil {
		t.Errorf("%d grammars are kept", len(f.recent))
	}
}

// What a request says of sampling reaches the engine.
func TestSamplingReachesTheEngine(t *testing.T) {
	temperature, topP, topK, minP, penalty, seed := 0.5, 0.9, 7, 0.1, 1.2, int64(-3)
	got := drawing(exchange.Sampling{Settings: sampling.Settings{Temperature: &temperature, TopP: &topP, TopK: &topK, MinP: &minP, RepetitionPenalty: &penalty}, Seed: &seed, FrequencyPenalty: 1, PresencePenalty: 2, LogitBias: map[int32]float64{4: 5}})
	if got.Temperature != 0.5 || got.TopP != 0.9 || got.TopK != 7 || got.MinP != 0.1 || got.RepetitionPenalty != 1.2 || got.Seed != uint64(seed) || got.FrequencyPenalty != 1 || got.PresencePenalty != 2 || got.LogitBias[4] != 5 {
		t.Errorf("%+v", got)
	}
}
