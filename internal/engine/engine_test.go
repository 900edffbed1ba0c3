package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"

	"kindredgate/internal/grammar"
	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
)

// opened is a checkpoint's model with its tokenizer.
func opened(t testing.TB, c *weights.Checkpoint) (*model.Model, *tokenizer.Tokenizer) {
	t.Helper()
	m, err := model.Load(c)
	if err != nil {
		t.Fatal(err)
	}
	definition, err := c.Tokenizer()
	if err != nil {
		t.Fatal(err)
	}
	tok, err := tokenizer.New(definition)
	if err != nil {
		t.Fatal(err)
	}
	return m, tok
}

func harbour(t testing.TB, o Options) *Engine {
	t.Helper()
	f, err := gguf.Open("../../demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		t.Fatal(err)
	}
	m, tok := opened(t, f)
	if _, ok := t.(*testing.B); ok && o.Team == nil {
		o.Team = tensor.NewTeam(0)
		t.Cleanup(o.Team.Close)
	}
	e, err := New(m, tok, o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		e.Close()
		f.Close()
	})
	return e
}

// prepared is an engine without its scheduler, to be stepped by hand.
func prepared(t testing.TB, o Options) *Engine {
	t.Helper()
	running := harbour(t, Options{})
	e, err := prepare(running.model, running.tok, o)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// answer collects a whole stream.
func answer(ctx context.Context, e *Engine, job Job) (text string, ids []int32, cut bool, err error) {
	var b strings.Builder
	for step, err := range e.Generate(ctx, job) {
		if err != nil {
			return b.String(), ids, false, err
		}
		b.WriteString(step.Text)
		ids = append(ids, step.Token)
		cut = step.Cut
	}
	return b.String(), ids, cut, nil
}

type vector struct {
	Name   string  `json:"name"`
	IDs    []int32 `json:"ids"`
	Greedy []int32 `json:"greedy_ids"`
}

func vectors(t testing.TB) []vector {
	t.Helper()
	raw, err := os.ReadFile("../model/testdata/harbour-q8_0.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Prompts []vector `json:"prompts"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	return doc.Prompts
}

// Greedy answers equal the vectors when a prompt runs alone, and when all run together, several times each,
// in more sequences than have a place at once.
func TestGreedyEqualsReferenceAloneAndTogether(t *testing.T) {
	e := harbour(t, Options{Sequences: 5})
	check := func(v vector) {
		text, ids, _, err := answer(t.Context(), e, Job{Prompt: v.IDs, MaxTokens: len(v.Greedy)})
		if err != nil || !slices.Equal(ids, v.Greedy) {
			t.Errorf("%s: %v, %v; want %v", v.Name, ids, err, v.Greedy)
		}
		if want := e.tok.Decode(v.Greedy); text != want {
			t.Errorf("%s: text %q, want %q", v.Name, text, want)
		}
	}
	all := vectors(t)
	for _, v := range all {
		check(v)
	}
	var together sync.WaitGroup
	for range 3 {
		for _, v := range all {
			together.Go(func() { check(v) })
		}
	}
	together.Wait()
}

func TestSeedRepeats(t *testing.T) {
	e := harbour(t, Options{})
	prompt := vectors(t)[4].IDs
	sample := func(seed uint64) string {
		text, _, _, err := answer(t.Context(), e, Job{Prompt: prompt, MaxTokens: 40, Sampling: Sampling{Temperature: 1.5, TopP: 0.98, Seed: seed}})
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	first := sample(1)
	if again := sample(1); again != first {
		t.Errorf("seed 1 gave %q, then %q", first, again)
	}
	if other := sample(2); other == first {
		t.Errorf("seeds 1 and 2 both gave %q", first)
	}
}

func TestStopStringsNeverLeak(t *testing.T) {
	e := harbour(t, Options{})
	v := vectors(t)[2] // "The last boat to ... leaves at ..."
	whole, _, _, err := answer(t.Context(), e, Job{Prompt: v.IDs})
	if err != nil {
		t.Fatal(err)
	}
	for from := 1; from < len(whole); from++ {
		stop := whole[from:min(from+5, len(whole))]
		got, _, cut, err := answer(t.Context(), e, Job{Prompt: v.IDs, Stop: []string{"never", stop}})
		if want := whole[:strings.Index(whole, stop)]; err != nil || got != want || cut {
			t.Errorf("stop %q: %q, cut %v, %v; want %q", stop, got, cut, err, want)
		}
	}
}

// Any way of cutting a text into pieces gives the same output.
func TestStopperIsBlindToPieces(t *testing.T) {
	const text = "ababcabab"
	for _, stops := range [][]string{{"abc"}, {"abab"}, {"bab", "abc"}, {"zz"}, {"babz", "c"}, {"b"}} {
		want, wantStopped := text, false
		for _, s := range stops {
			if i := strings.Index(want, s); i >= 0 {
				want, wantStopped = want[:i], true
			}
		}
		for cuts := range 1 << (len(text) - 1) {
			s := stopper{strings: stops}
			var got string
			stopped := false
			from := 0
			for i := 1; i <= len(text) && !stopped; i++ {
				if i == len(text) || cuts>>(i-1)&1 == 1 {
					var out string
					out, stopped = s.add(text[from:i])
					got += out
					from = i
				}
			}
			if !stopped {
				got += s.flush()
			}
			if got != want || stopped != wantStopped {
				t.Fatalf("%v, cuts %b: %q, %v; want %q, %v", stops, cuts, got, stopped, want, wantStopped)
			}
		}
	}
}

// An answer in a form that comes to its limit is brought to a valid end within it, and says that it was cut; a limit
// that leaves no room for one cuts it off.
func TestFormsEndWithinTheLimit(t *testing.T) {
	e := harbour(t, Options{})
	var texts []string
	for id := range int32(e.tok.Size()) {
		text := e.tok.Text(id)
		if e.tok.IsControl(id) {
			text = ""
		}
		texts = append(texts, text)
	}
	vocabulary := grammar.NewVocabulary(texts)
	for _, source := range []string{
		`{"type":"object","properties":{"first":{"type":"string","minLength":5},"to":{"type":"array","items":{"type":"integer"}}},"required":["first","to"]}`,
		`{"type":"integer","minimum":1,"maximum":999999999}`,
	} {
		schema, err := grammar.Compile(grammar.NewWork(t.Context()), []byte(source))
		if err != nil {
			t.Fatal(err)
		}
		g, err := grammar.New(grammar.NewWork(t.Context()), vocabulary, schema.Value())
		if err != nil {
			t.Fatal(err)
		}
		least := len(e.encode(g.Begin().Ending()))
		for limit := 1; limit <= 2*least; limit++ {
			text, ids, cut, err := answer(t.Context(), e, Job{Prompt: []int32{e.tok.BOS}, MaxTokens: limit, Form: g.Begin(), Sampling: Sampling{Temperature: 1, Seed: uint64(limit)}})
			if err != nil || len(ids) > limit+1 {
				t.Fatalf("%d tokens of %d, %v", len(ids), limit, err)
			}
			valid := json.Valid([]byte(text))
			if limit >= least && !valid {
				t.Errorf("limit %d, of which %d are needed: %q", limit, least, text)
			}
			if !valid && !cut {
				t.Errorf("limit %d: %q does not say that it was cut", limit, text)
			}
		}
	}
}

func TestLimits(t *testing.T) {
	e := harbour(t, Options{})
	v := vectors(t)[4]
	_, ids, cut, err := answer(t.Context(), e, Job{Prompt: v.IDs, MaxTokens: 3})
	if err != nil || len(ids) != 3 || !cut {
		t.Errorf("a limit of 3 tokens: %d tokens, cut %v, %v", len(ids), cut, err)
	}
	// Another token can end an answer as the end of the sequence does.
	if _, again, cut, err := answer(t.Context(), e, Job{Prompt: v.IDs, Ends: []int32{ids[1]}}); err != nil || len(again) != 2 || cut {
		t.Errorf("ended by its second token: %d tokens, cut %v, %v", len(again), cut, err)
	}
	var tooLong *ContextError
	_, _, _, err = answer(t.Context(), e, Job{Prompt: make([]int32, 2048)})
	if !errors.As(err, &tooLong) || tooLong.Prompt != 2048 || tooLong.Context != 2048 {
		t.Errorf("a prompt of the context's length: %v", err)
	}
	_, ids, cut, err = answer(t.Context(), e, Job{Prompt: make([]int32, 2047)})
	if err != nil || len(ids) != 1 || !cut && ids[0] != e.tok.EOS {
		t.Errorf("a prompt that leaves room for one token: %d tokens, cut %v, %v", len(ids), cut, err)
	}
	if _, _, _, err := answer(t.Context(), e, Job{Prompt: []int32{-1}}); err == nil {
		t.Error("token -1 was accepted")
	}
	if _, _, _, err := answer(t.Context(), e, Job{}); err == nil {
		t.Error("an empty prompt was accepted")
	}
}

// A cancelled sequence is not in the step after: with one place, the next in line gets it at once.
func TestCancelFreesThePlace(t *testing.T) {
	e := harbour(t, Options{Sequences: 1, Queue: 1})
	v := vectors(t)[4]
	gone := errors.New("the client went away")
	ctx, cancel := context.WithCancelCause(t.Context())
	defer cancel(nil)
	steps := 0
	var ended error
	for _, err := range e.Generate(ctx, Job{Prompt: v.IDs}) {
		steps++
		if steps == 2 {
			cancel(gone)
		}
		if ended = err; err != nil {
			break
		}
		if steps > 100 {
			t.Fatal("the sequence goes on after it was cancelled")
		}
	}
	if !errors.Is(ended, gone) {
		t.Errorf("a sequence that was cancelled ends with %v, want the cause", ended)
	}
	if _, ids, _, err := answer(t.Context(), e, Job{Prompt: v.IDs, MaxTokens: 2}); err != nil || len(ids) != 2 {
		t.Errorf("the next one: %d tokens, %v", len(ids), err)
	}
	// Leaving the loop does the same.
	for range e.Generate(t.Context(), Job{Prompt: v.IDs}) {
		break
	}
	if _, ids, _, err := answer(t.Context(), e, Job{Prompt: v.IDs, MaxTokens: 2}); err != nil || len(ids) != 2 {
		t.Errorf("after leaving: %d tokens, %v", len(ids), err)
	}
}

// While a long prompt is read, an answer under way goes on, a token for each slice of the prompt.
func TestLongPromptDoesNotStallOthers(t *testing.T) {
	e := harbour(t, Options{Sequences: 2})
	const slices = 5 // at the least
	long := make([]int32, slices*prefillTokens)
	var mu sync.Mutex
	steps, atFirst := 0, 0
	var other sync.WaitGroup
	for _, err := range e.Generate(t.Context(), Job{Prompt: vectors(t)[4].IDs, MaxTokens: 120}) {
		if err != nil {
			t.Fatal(err)
		}
		mu.Lock()
		steps++
		mu.Unlock()
		if steps == 1 {
			other.Go(func() {
				for _, err := range e.Generate(t.Context(), Job{Prompt: long, MaxTokens: 1}) {
					if err != nil {
						t.Error(err)
					}
				}
				mu.Lock()
				atFirst = steps
				mu.Unlock()
			})
		}
	}
	other.Wait()
	if atFirst < slices {
		t.Errorf("the answer had %d tokens when the prompt of %d slices was read", atFirst, slices)
	}
}

// Sequences that all end in the same step leave their places to those that wait.
func TestWaitingGoOnAfterAllEndAtOnce(t *testing.T) {
	e := harbour(t, Options{Sequences: 2})
	for range 10 {
		var all sync.WaitGroup
		for range 6 {
			all.Go(func() {
				if _, ids, _, err := answer(t.Context(), e, Job{Prompt: []int32{65}, MaxTokens: 1}); err != nil || len(ids) != 1 {
					t.Errorf("%d tokens, %v", len(ids), err)
				}
			})
		}
		all.Wait()
	}
}

func TestFullQueueIsRefused(t *testing.T) {
	e := harbour(t, Options{Sequences: 1, Queue: 1})
	v := vectors(t)[4]
	for step, err := range e.Generate(t.Context(), Job{Prompt: v.IDs}) { // takes the only place
		if err != nil {
			t.Fatal(err)
		}
		_ = step
		ctx, cancel := context.WithCancel(t.Context())
		if _, err := e.submit(ctx, Job{Prompt: v.IDs}); err != nil { // takes the only seat in the queue
			t.Fatal(err)
		}
		if _, _, _, err := answer(t.Context(), e, Job{Prompt: v.IDs}); !errors.Is(err, ErrQueueFull) {
			t.Errorf("error %v, want %v", err, ErrQueueFull)
		}
		cancel()
		break
	}
}

func TestCloseEndsAnswers(t *testing.T) {
	e := harbour(t, Options{})
	closed := make(chan struct{})
	for _, err := range e.Generate(t.Context(), Job{Prompt: vectors(t)[4].IDs}) {
		if err != nil {
			if !errors.Is(err, ErrClosed) {
				t.Errorf("error %v, want %v", err, ErrClosed)
			}
			break
		}
		select {
		case <-closed:
		default:
			e.Close()
			close(closed)
		}
	}
	if _, _, _, err := answer(t.Context(), e, Job{Prompt: []int32{1}}); !errors.Is(err, ErrClosed) {
		t.Errorf("after closing: %v", err)
	}
}

func TestDistributionEqualsReference(t *testing.T) {
	raw, err := os.ReadFile("testdata/sampling.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Logits map[string][]float32 `json:"logits"`
		Cases  []struct {
			Name   string `json:"name"`
			Logits string `json:"logits"`
			Params struct {
				Temperature float64           `json:"temperature"`
				TopK        int               `json:"top_k"`
				TopP        float64           `json:"top_p"`
				MinP        float64           `json:"min_p"`
				Repetition  float64           `json:"repetition_penalty"`
				Frequency   float64           `json:"frequency_penalty"`
				Presence    float64           `json:"presence_penalty"`
				LogitBias   map[int32]float64 `json:"logit_bias"`
			} `json:"params"`
			Prompt []int32   `json:"prompt_tokens"`
			Output []int32   `json:"output_tokens"`
			Probs  []float64 `json:"probs"`
		} `json:"cases"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	if len(doc.Cases) < 40 {
		t.Fatalf("only %d cases", len(doc.Cases))
	}
	for _, c := range doc.Cases {
		p := c.Params
		s := newSampler(Sampling{p.LogitBias, p.Repetition, p.Frequency, p.Presence, p.Temperature, p.TopK, p.TopP, p.MinP, 1, 0}, c.Prompt)
		for _, id := range c.Output {
			if s.seen != nil {
				s.seen[id] = true
			}
			if s.counts != nil {
				s.counts[id]++
			}
		}
		logits := slices.Clone(doc.Logits[c.Logits])
		s.penalize(logits)
		got := make([]float64, len(logits))
		for _, k := range s.distribution(logits, nil) {
			got[k.id] = k.p
		}
		for id, want := range c.Probs {
			if math.Abs(got[id]-want) > 1e-5 || (got[id] == 0) != (want == 0) && want > 1e-9 {
				t.Errorf("%s (%s): token %d has probability %g, want %g", c.Name, c.Logits, id, got[id], want)
				break
			}
		}
	}
}

// Drawn often, tokens come as often as the distribution says.
func TestDrawFollowsTheDistribution(t *testing.T) {
	s := newSampler(Sampling{Temperature: 1, Seed: 7}, nil)
	logits := []float32{0, float32(math.Log(3)), float32(math.Log(6))}
	counts := make([]int, 3)
	const n = 20000
	for range n {
		counts[s.next(slices.Clone(logits), nil)]++
	}
	for id, want := range []float64{0.1, 0.3, 0.6} {
		if got := float64(counts[id]) / n; math.Abs(got-want) > 0.02 {
			t.Errorf("token %d came with frequency %.3f, want %.1f", id, got, want)
		}
	}
}

func BenchmarkGenerate(b *testing.B) {
	for _, streams := range []int{1, 8} {
		b.Run(map[int]string{1: "1-stream", 8: "8-streams"}[streams], func(b *testing.B) {
			e := harbour(b, Options{})
			prompt := vectors(b)[4].IDs
			var tokens int
			var mu sync.Mutex
			for b.Loop() {
				var all sync.WaitGroup
				for range streams {
					all.Go(func() {
						_, ids, _, err := answer(b.Context(), e, Job{Prompt: prompt, MaxTokens: 64})
						if err != nil {
							b.Error(err)
						}
						mu.Lock()
						tokens += len(ids)
						mu.Unlock()
					})
				}
				all.Wait()
			}
			b.ReportMetric(float64(tokens)/b.Elapsed().Seconds(), "tokens/s")
		})
	}
}

// spinning is set for a process that does nothing but keep a processor busy.
const spinning = "KINDRED_TEST_SPIN"

func TestMain(m *testing.M) {
	for os.Getenv(spinning) != "" {
	}
	os.Exit(m.Run())
}

// BenchmarkBeside decodes beside another process that keeps a processor busy: two threads should not be slower than one.
func BenchmarkBeside(b *testing.B) {
	for _, busy := range []bool{false, true} {
		for _, threads := range []int{1, 2} {
			b.Run(fmt.Sprintf("busy=%v/threads-%d", busy, threads), func(b *testing.B) {
				if busy {
					other := exec.CommandContext(b.Context(), os.Args[0])
					other.Env = append(os.Environ(), spinning+"=1")
					if err := other.Start(); err != nil {
						b.Fatal(err)
					}
					defer func() {
						_ = other.Process.Kill() // it ends by nothing else
						_ = other.Wait()
					}()
				}
				team := tensor.NewTeam(threads)
				defer team.Close()
				e := harbour(b, Options{Team: team})
				defer e.Close()
				tokens := 0
				for b.Loop() {
					_, ids, _, err := answer(b.Context(), e, Job{Prompt: vectors(b)[4].IDs, MaxTokens: 64, NeverEnds: true})
					if err != nil {
						b.Fatal(err)
					}
					tokens += len(ids)
				}
				b.ReportMetric(float64(tokens)/b.Elapsed().Seconds(), "tokens/s")
			})
		}
	}
}

func BenchmarkSample(b *testing.B) {
	logits := make([]float32, 150_000)
	for i := range logits {
		logits[i] = float32(-20*math.Log(float64(i*7919%150_000+1)/150_000)) / 10 // a tail, as texts have it
	}
	s := newSampler(Sampling{Temperature: 0.8, TopP: 0.95}, nil)
	for b.Loop() {
		s.next(logits, nil)
	}
}

// A fault in a step ends the sequences of that step with an error.
func TestPanicInAStepEndsItsSequences(t *testing.T) {
	e := prepared(t, Options{})
	s, err := e.submit(t.Context(), Job{Prompt: []int32{65}})
	if err != nil {
		t.Fatal(err)
	}
	e.admit()
	s.sampler = nil
	e.guarded()
	var fault *PanicError
	if _, err := s.take(nil); !errors.As(err, &fault) || len(e.running) != 0 || e.pool.Use().Busy != 0 {
		t.Errorf("error %v, %d sequences and %d pages left", err, len(e.running), e.pool.Use().Busy)
	}
}

// Contexts of bytes take about half the memory, and are shared and repeatable as those of half floats are.
func TestContextsOfBytes(t *testing.T) {
	half, e := harbour(t, Options{}), harbour(t, Options{Contexts: kv.Q8})
	if a, b := half.Pool().PageBytes(), e.Pool().PageBytes(); b > a*6/10 {
		t.Errorf("a page takes %d bytes, of half floats %d", b, a)
	}
	for _, v := range vectors(t) {
		job := Job{Prompt: v.IDs, MaxTokens: len(v.Greedy)}
		_, want, _, err := answer(t.Context(), half, job)
		if _, got, _, e := answer(t.Context(), e, job); !slices.Equal(got, want) || err != nil || e != nil {
			t.Errorf("%s: %v, %v; with half floats %v, %v", v.Name, got, e, want, err)
		}
	}
	prompt := vectors(t)[4].IDs
	job := Job{Prompt: prompt, MaxTokens: 40}
	_, want, _, err := answer(t.Context(), e, job)
	if err != nil || len(want) < 8 {
		t.Fatalf("%v, %v", want, err)
	}
	for range 2 {
		if _, ids, _, err := answer(t.Context(), e, job); err != nil || !slices.Equal(ids, want) {
			t.Errorf("again: %v, %v; want %v", ids, err, want)
		}
	}
	job.Prompt = append(slices.Clone(prompt), want[:8]...)
	if _, ids, _, err := answer(t.Context(), e, job); err != nil || !slices.Equal(ids[:len(want)-8], want[8:]) {
		t.Errorf("from its middle: %v, %v; want %v", ids, err, want[8:])
	}
}
