package engine

import (
	"maps"
	"slices"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/weights/safetensors"
)

// oracle is a prediction head that knows the text, and is right as often as it is asked to be. It notes which positions it has seen.
type oracle struct {
	text  []int32
	vocab int
	wrong bool
	seen  map[int]int // times, by position
	asked int
}

func (o *oracle) Predict(tokens []model.Token, rows []model.Ahead) (out [][]float32) {
	for _, r := range rows {
		seq := tokens[r.Row].KV
		at := seq.Len() - 1
		for _, later := range rows {
			if later.Row > r.Row && tokens[later.Row].KV == seq {
				at--
			}
		}
		if o.seen[at]++; at+2 < len(o.text) && r.Next.ID != o.text[at+1] {
			panic("the token after it is another one")
		}
		if !r.Logits {
			continue
		}
		o.asked++
		l := make([]float32, o.vocab)
		if id := o.text[min(at+2, len(o.text)-1)]; o.wrong {
			l[(id+1)%int32(o.vocab)] = 1
		} else {
			l[id] = 1
		}
		out = append(out, l)
	}
	return out
}

// With a head that is right, an answer takes half as many steps; with one that is wrong, it is the same answer, and the head is soon asked less
// often. Either sees every position of the text once.
func TestPredictionHeadDrafts(t *testing.T) {
	plain := harbour(t, Options{NoDrafts: true})
	prompt := []int32{5, 9, 200, 31, 77, 8, 450, 12, 99, 301, 17, 40}
	const length = 60
	job := Job{Prompt: prompt, MaxTokens: length, NeverEnds: true, Sampling: Sampling{Temperature: 1.5, Seed: 4}}
	_, want, _, err := answer(t.Context(), plain, job)
	if err != nil {
		t.Fatal(err)
	}
	text := slices.Concat(prompt, want)
	for _, wrong := range []bool{false, true} {
		e := prepared(t, Options{})
		o := &oracle{text: text, vocab: e.model.Vocab, wrong: wrong, seen: map[int]int{}}
		e.ahead.head = o
		for n := range 50 { // tokens that are read together take little longer
			e.pace.note(1+n%3, 100*time.Millisecond)
		}
		s, err := e.submit(t.Context(), job)
		if err != nil {
			t.Fatal(err)
		}
		e.admit()
		steps := 0
		for ; len(e.running) > 0; steps++ {
			e.step()
		}
		if got := s.tokens[len(prompt):]; !slices.Equal(got, want[:len(got)]) || len(got) < length-1 {
			t.Errorf("wrong %v: %v, want %v", wrong, got, want)
		}
		for at := range len(prompt) + length - 2 {
			if o.seen[at] != 1 {
				t.Errorf("wrong %v: position %d is seen %d times", wrong, at, o.seen[at])
			}
		}
		t.Logf("wrong %v: %d steps, %d asked, %d drafted, %d accepted", wrong, steps, o.asked, s.drafted, s.accepted)
		if !wrong && steps > length/2+5 {
			t.Errorf("with a head that is right it takes %d steps", steps)
		}
		if wrong && (s.accepted > 0 || o.asked > length/2) {
			t.Errorf("a head that is wrong is asked for %d guesses, of which %d are right", o.asked, s.accepted)
		}
	}
}

// A head of random weights changes nothing, for one text and for several at once, when memory is short, and when the beginning is known.
func TestPredictionHeadChangesNothing(t *testing.T) {
	c, err := safetensors.Open("../model/testdata/families/glm4moe/hf")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	m, err := model.Load(c)
	if err != nil {
		t.Fatal(err)
	}
	tok := engineOf(t, "glm4moe", Options{}).tok
	start := func(o Options) *Engine {
		e, err := New(m, tok, o)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(e.Close)
		return e
	}
	plain := start(Options{NoDrafts: true})
	if plain.ahead.head != nil {
		t.Error("a head drafts though nothing is to be drafted")
	}
	var jobs []Job
	want := map[int][]int32{}
	for i := range 4 {
		job := Job{MaxTokens: 30 + i, NeverEnds: true, Sampling: Sampling{Temperature: float64(i), Seed: uint64(i)}}
		for j := range 70 + 9*i {
			job.Prompt = append(job.Prompt, int32(20+(j*j+7*(j%(5+i)))%29+60*(i/2)))
		}
		jobs = append(jobs, job)
		if _, want[i], _, err = answer(t.Context(), plain, job); err != nil {
			t.Fatal(err)
		}
	}
	for name, o := range map[string]Options{"room": {}, "little memory": {Memory: kv.Bytes(m.KVShape(), kv.F16, 300)}} {
		e := start(o)
		if e.ahead.head == nil {
			t.Fatal("the head is not used")
		}
		for range 2 {
			got := map[int][]int32{}
			var mu sync.Mutex
			var all sync.WaitGroup
			for i, job := range jobs {
				all.Go(func() {
					_, ids, _, err := answer(t.Context(), e, job)
					mu.Lock()
					defer mu.Unlock()
					if got[i] = ids; err != nil {
						t.Error(err)
					}
				})
			}
			all.Wait()
			if !maps.EqualFunc(got, want, slices.Equal[[]int32]) {
				t.Errorf("%s: %v, want %v", name, got, want)
			}
		}
		e.Close()
		if e.ahead.pace.weight == 0 {
			t.Error("the head saw nothing")
		}
	}
}
