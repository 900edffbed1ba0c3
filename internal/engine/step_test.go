package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/grammar"
	"kindredgate/internal/kv"
)

// enqueue puts a job of so many different tokens into the queue of an engine that is stepped by hand.
func enqueue(t testing.TB, e *Engine, length, seed int, answer int) *sequence {
	t.Helper()
	prompt := make([]int32, length)
	for i := range prompt {
		prompt[i] = int32((seed*31 + i*7) % e.tok.Size())
	}
	s, err := e.submit(t.Context(), Job{Prompt: prompt, MaxTokens: answer})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// A short prompt beside any number of long ones is read in the first step in which it has a place, and that step is not
// much longer than if it were alone; the long ones go on all the same, and share what they get.
func TestShortPromptsDoNotWait(t *testing.T) {
	e := prepared(t, Options{Sequences: 16})
	for i := range 40 {
		enqueue(t, e, 1500, i, 2)
	}
	e.admit()
	e.step()
	short := enqueue(t, e, 3, 99, 2)
	e.admit()
	tokens := len(e.plan())
	if short.fed != 3 {
		t.Errorf("%d of 3 tokens are in the first step", short.fed)
	}
	if tokens > 2*3+len(e.running) {
		t.Errorf("that step has %d tokens with %d sequences", tokens, len(e.running))
	}
	for _, s := range e.running {
		if s.fed < 1 {
			t.Error("a long prompt stands still")
		}
	}
	// Without short ones, long prompts share the whole budget evenly.
	short.ctx = canceled()
	e.plan()
	least, most := math.MaxInt, 0
	for _, s := range e.running {
		least, most = min(least, s.fed), max(most, s.fed)
	}
	if most-least > 1 || most*len(e.running) < e.budget(0) {
		t.Errorf("shares from %d to %d of %d", least, most, e.budget(0))
	}
}

func canceled() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return ctx
}

// A step in which tokens are decoded allocates nothing, choosing included.
func TestStepAllocatesNothing(t *testing.T) {
	if raced {
		t.Skip("the race detector allocates")
	}
	e := prepared(t, Options{NoDrafts: true}) // with drafts, pages come sooner
	for i := range 3 {
		s := enqueue(t, e, 20, i, 1000)
		s.sampler.Temperature, s.sampler.TopP, s.sampler.LogitBias = 0.8, 0.9, map[int32]float64{e.tok.EOS: -100}
	}
	e.admit()
	var spent []Step
	step := func() {
		e.step()
		for _, s := range e.running {
			spent, _ = s.take(spent)
		}
	}
	for range 40 {
		step()
	}
	if len(e.running) == 0 {
		t.Fatal("all have ended")
	}
	// A page of the context every 32 steps, and its key, are memory that grows with the answer and not with the step.
	if n := testing.AllocsPerRun(20, step); n > 0.5 {
		t.Errorf("%g allocations a step", n)
	}
}

// With too little memory for all contexts, sequences are put back and go on where they were: every answer is what it is
// alone, and the budget holds.
// Who came last gives way, gives all its memory back, and goes on where it was.
func TestTheYoungestGivesWay(t *testing.T) {
	all := harbour(t, Options{})
	e := prepared(t, Options{Memory: 14 * all.pool.PageBytes()})
	first, second := enqueue(t, e, 200, 0, 60), enqueue(t, e, 200, 1, 60) // 7 pages each now, 9 in the end
	for _, s := range []*sequence{first, second} {
		s.sampler.LogitBias = map[int32]float64{e.tok.EOS: -100}
	}
	gaveWay := false
	for range 1000 {
		if e.admit(); len(e.running) == 0 {
			break
		}
		if e.step(); len(e.waiting) > 0 && !gaveWay {
			gaveWay = true
			if e.waiting[0] != second || second.kv.Len() != 0 || second.generated == 0 {
				t.Errorf("%d wait, the second holds %d tokens", len(e.waiting), second.kv.Len())
			}
		}
	}
	if !gaveWay || first.generated != 60 || second.generated != 60 || e.pool.Use().Busy != 0 {
		t.Errorf("gave way %v, %d and %d tokens, %+v", gaveWay, first.generated, second.generated, e.pool.Use())
	}
}

func TestContextsWithinTheBudget(t *testing.T) {
	all := vectors(t)
	e := harbour(t, Options{})
	page := e.pool.PageBytes()
	tight := harbour(t, Options{Memory: 14 * page}) // the longest of these takes 8
	var together sync.WaitGroup
	for range 2 {
		for _, v := range all[:5] {
			if len(v.IDs)+len(v.Greedy) > 12*kv.PageTokens {
				continue
			}
			together.Go(func() {
				_, ids, _, err := answer(t.Context(), tight, Job{Prompt: v.IDs, MaxTokens: len(v.Greedy)})
				if err != nil || !slices.Equal(ids, v.Greedy) {
					t.Errorf("%s: %v, %v", v.Name, ids, err)
				}
			})
		}
	}
	together.Wait()
	for deadline := time.Now().Add(10 * time.Second); tight.pool.Use().Busy != 0; { // who reads is told before the memory is given back
		if time.Now().After(deadline) {
			t.Fatalf("%+v", tight.pool.Use())
		}
		runtime.Gosched()
	}
	if u := tight.pool.Use(); u.Limit != 14 {
		t.Errorf("%+v", u)
	}
	var full *kv.FullError
	_, _, _, err := answer(t.Context(), tight, Job{Prompt: make([]int32, 500)})
	if !errors.As(err, &full) || full.Needs <= full.Budget {
		t.Errorf("more than the budget: %v", err)
	}
	if _, ids, cut, err := answer(t.Context(), tight, Job{Prompt: make([]int32, 14*kv.PageTokens-3)}); err != nil || len(ids) > 3 || !cut && ids[len(ids)-1] != tight.tok.EOS {
		t.Errorf("up to the budget: %d tokens, cut %v, %v", len(ids), cut, err)
	}
}

// What was read before is not read again, and changes nothing.
func TestPrefixesAreShared(t *testing.T) {
	v := vectors(t)[7]
	e := harbour(t, Options{})
	prompt := slices.Concat(v.IDs, v.IDs, v.IDs)
	first := func() (cached int, ids []int32) {
		for step, err := range e.Generate(t.Context(), Job{Prompt: prompt, MaxTokens: 20, Sampling: Sampling{Temperature: 1, Seed: 3}}) {
			if err != nil {
				t.Fatal(err)
			}
			cached += step.Cached
			ids = append(ids, step.Token)
		}
		return cached, ids
	}
	none, alone := first()
	some, again := first()
	if none != 0 || some < len(prompt)-kv.PageTokens-1 || !slices.Equal(alone, again) {
		t.Errorf("cached %d, then %d of %d; %v, then %v", none, some, len(prompt), alone, again)
	}
}

// Logits that are not numbers end the answer with an error.
func TestLogitsThatAreNotNumbers(t *testing.T) {
	e := prepared(t, Options{})
	for _, odd := range []float32{float32(math.NaN()), float32(math.Inf(1)), float32(math.Inf(-1))} {
		s := enqueue(t, e, 4, 1, 4)
		e.admit()
		logits := make([]float32, e.model.Vocab)
		logits[7] = odd
		e.extend(s, logits, 0, 0)
		if _, err := s.take(nil); !errors.Is(err, ErrNotNumbers) || s.phase != ended {
			t.Errorf("%g: %v", odd, err)
		}
	}
}

// While the mask of one answer is worked out, the others go on; its own logits are kept until it is there.
func TestMasksDoNotHoldOthersUp(t *testing.T) {
	e := prepared(t, Options{})
	plain, formed := enqueue(t, e, 4, 1, 50), enqueue(t, e, 4, 2, 50)
	texts := make([]string, e.tok.Size())
	for id := range texts {
		if !e.tok.IsControl(int32(id)) {
			texts[id] = e.tok.Text(int32(id))
		}
	}
	g, err := grammar.New(grammar.NewWork(t.Context()), grammar.NewVocabulary(texts), grammar.AnyObject().Value())
	if err != nil {
		t.Fatal(err)
	}
	e.admit()
	formed.job.Form = g.Begin()
	formed.masking.Store(true) // as if it took long
	for range 5 {
		e.step()
	}
	if plain.generated < 5 || formed.generated != 0 || formed.phase != held {
		t.Errorf("after 5 steps: %d and %d tokens", plain.generated, formed.generated)
	}
	formed.masking.Store(false)
	formed.mask(e)
	<-formed.maskDone // what wakes the engine may be from before
	for range 200 {
		e.step()
	}
	if formed.generated == 0 {
		t.Error("it does not go on when its mask is there")
	}
}

// How long a short prompt takes to its first token, alone and beside long ones that are being read.
func BenchmarkFirstToken(b *testing.B) {
	short := []int32{65, 66, 67}
	for _, others := range []int{0, 1, 12} {
		b.Run(fmt.Sprintf("beside-%d", others), func(b *testing.B) {
			e := harbour(b, Options{})
			ctx, cancel := context.WithCancel(b.Context())
			defer cancel()
			var reading sync.WaitGroup
			for i := range others {
				reading.Go(func() {
					for ctx.Err() == nil {
						prompt := make([]int32, 2000)
						for k := range prompt {
							prompt[k] = int32((k*(i+3) + i) % 2000)
						}
						prompt[0] = int32(rand.IntN(2000)) // so that nothing is known of it
						for range e.Generate(ctx, Job{Prompt: prompt, MaxTokens: 1}) {
						}
					}
				})
			}
			for b.Loop() {
				short[0] = int32(rand.IntN(2000))
				if _, _, _, err := answer(b.Context(), e, Job{Prompt: short, MaxTokens: 1}); err != nil {
					b.Fatal(err)
				}
			}
			b.StopTimer()
			cancel()
			reading.Wait()
		})
	}
}

// Places are given by turns to whose jobs they are, and who waits is told its place.
func TestPlacesAreGivenByTurns(t *testing.T) {
	e := prepared(t, Options{Sequences: 4})
	ask := func(owner string) *sequence {
		s, err := e.submit(t.Context(), Job{Prompt: []int32{1, 2, 3}, MaxTokens: 50, NeverEnds: true, Owner: owner})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	var many []*sequence
	for range 8 {
		many = append(many, ask("many"))
	}
	e.admit()
	one, other := ask("one"), ask("other")
	e.admit()
	// One place was left for others, who get in at once; the next waits.
	if many[2].place.Load() != 0 || many[3].place.Load() != 1 || one.place.Load() != 0 || other.place.Load() != 6 {
		t.Errorf("places %d, %d, %d, %d", many[2].place.Load(), many[3].place.Load(), one.place.Load(), other.place.Load())
	}
	canceledOnes := e.running[:2]
	for _, s := range canceledOnes {
		s.ctx = canceled()
	}
	e.step()
	e.admit()
	if other.place.Load() != 0 || many[3].place.Load() != 0 || many[4].place.Load() != 1 {
		t.Errorf("after two have left, the one who has none waits at %d, the next of the many at %d and %d", other.place.Load(), many[3].place.Load(), many[4].place.Load())
	}
}

// Six requests for eight answers each, by one key, fill neither the places nor the queue: whoever comes then is answered with them.
func TestOneKeyDoesNotKeepOthersWaiting(t *testing.T) {
	e := prepared(t, Options{Sequences: 16, Queue: 40})
	ask := func(owner string) (*sequence, error) {
		return e.submit(t.Context(), Job{Prompt: []int32{1, 2, 3}, MaxTokens: 50, NeverEnds: true, Owner: owner})
	}
	refused := 0
	for range 6 * 8 {
		if _, err := ask("many"); errors.Is(err, ErrQueueFull) {
			refused++
		} else if err != nil {
			t.Fatal(err)
		}
		e.admit()
	}
	if len(e.running) != 12 || len(e.waiting) != 30 || refused != 6 {
		t.Errorf("%d run, %d wait, %d were refused", len(e.running), len(e.waiting), refused)
	}
	for i := range 14 {
		s, err := ask(fmt.Sprint("other", i))
		e.admit()
		if err != nil && i < 14 || err == nil && (s.place.Load() == 0) != (i < 4) {
			t.Errorf("other %d: place %d, %v", i, s.place.Load(), err)
		}
	}
	if _, err := ask("late"); !errors.Is(err, ErrQueueFull) {
		t.Errorf("a full queue: %v", err)
	}
}
