package engine

import (
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/kv"
	"kindredgate/internal/weights/gguf"
)

// engineOf is an engine of a family of the model room's testdata.
func engineOf(t testing.TB, family string, o Options) *Engine {
	t.Helper()
	c, err := gguf.Open("../model/testdata/families/" + family + "/model.f32.gguf")
	if err != nil {
		t.Fatal(err)
	}
	m, tok := opened(t, c)
	e, err := New(m, tok, o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		e.Close()
		c.Close()
	})
	return e
}

// Answers of models with states, latent attention and windows are the same with drafts, beside others, after a beginning that is known, and
// when they have to give their memory back; and a second turn reads only what is new.
func TestFamiliesGoOnAsTheyWould(t *testing.T) {
	for _, family := range []string{"granite-hybrid-moe", "falcon-h1", "nemotron-h", "jamba", "lfm2moe", "qwen3-next", "deepseek3", "cohere2", "olmo3"} {
		t.Run(family, func(t *testing.T) {
			plain := engineOf(t, family, Options{NoDrafts: true})
			jobs := make([]Job, 4)
			want := make([][]int32, len(jobs))
			for i := range jobs {
				prompt := make([]int32, 100+10*i)
				for j := range prompt {
					prompt[j] = int32(20 + (j*j+7*(j%(5+i)))%29 + 60*(i/2))
				}
				jobs[i] = Job{Prompt: prompt, MaxTokens: 60, NeverEnds: true}
				var err error
				if _, want[i], _, err = answer(t.Context(), plain, jobs[i]); err != nil {
					t.Fatal(err)
				}
			}
			shape := plain.model.KVShape()
			small := 2*kv.Bytes(shape, kv.F16, 200) + 6*4*int64(shape.State)
			for name, o := range map[string]Options{"drafts": {}, "little memory": {Memory: small}, "little memory, no drafts": {Memory: small, NoDrafts: true}} {
				e := engineOf(t, family, o)
				for range 2 { // the second time, beginnings are known
					var all sync.WaitGroup
					for i, job := range jobs {
						all.Go(func() {
							if _, ids, _, err := answer(t.Context(), e, job); err != nil || !slices.Equal(ids, want[i]) {
								t.Errorf("%s: answer %d is\n%v, %v; want\n%v", name, i, ids, err, want[i])
							}
						})
					}
					all.Wait()
				}
				for deadline := time.Now().Add(10 * time.Second); e.pool.Use().Busy != 0; runtime.Gosched() { // who reads is told before the memory is given back
					if time.Now().After(deadline) {
						t.Fatalf("%s: %+v", name, e.pool.Use())
					}
				}
			}
			// The next turn of a conversation goes on where this one ended, or where its prompt did.
			for _, c := range []struct {
				name string
				kept []int32 // of the answer
				most int     // tokens that have to be read
			}{{"the whole answer", want[3], 8}, {"another answer", []int32{3, 1, 2}, 3 + 8 + kv.PageTokens}} {
				next := jobs[3]
				next.Prompt = slices.Concat(next.Prompt, c.kept, []int32{1, 2, 3, 4, 5, 6})
				next.MaxTokens = 2
				for step, err := range plain.Generate(t.Context(), next) {
					if err != nil {
						t.Fatal(err)
					}
					if read := len(next.Prompt) - step.Cached; read > c.most {
						t.Errorf("%s: the next turn reads %d tokens, want %d at most", c.name, read, c.most)
					}
					break
				}
			}
		})
	}
}

// What may not follow a phase is a mistake that ends the sequences under way, and not the gate.
func TestPhases(t *testing.T) {
	for from, allowed := range transitions {
		for to := range phases {
			s := &sequence{phase: phase(from)}
			panicked := func() (yes bool) {
				defer func() { yes = recover() != nil }()
				s.become(to)
				return false
			}()
			if want := phase(from) != to && !slices.Contains(allowed, to); panicked != want || !want && s.phase != to {
				t.Errorf("from %v to %v: refused %v, now %v", phase(from), to, panicked, s.phase)
			}
		}
		if phase(from) != ended && !slices.Contains(allowed, ended) {
			t.Errorf("a sequence that is %v cannot be ended", phase(from))
		}
	}
}
