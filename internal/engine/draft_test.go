package engine

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/grammar"
	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
)

// everyToken is a vocabulary of all tokens that are text.
func everyToken(e *Engine) *grammar.Vocabulary {
	texts := make([]string, e.tok.Size())
	for id := range texts {
		if !e.tok.IsControl(int32(id)) {
			texts[id] = e.tok.Text(int32(id))
		}
	}
	return grammar.NewVocabulary(texts)
}

// timetable is a form whose names leave little choice.
const timetable = `{"type":"object","additionalProperties":false,"required":["departure","destination","passengers","bicycles"],"properties":{
	"departure":{"type":"string","maxLength":12},"destination":{"enum":["Gannet Isle","Osmer"]},"passengers":{"type":"integer","maximum":999},"bicycles":{"type":"boolean"}}}`

// drafts runs a job, and tells what was drafted.
func drafts(t *testing.T, e *Engine, job Job) (ids []int32, drafted, accepted int) {
	for step, err := range e.Generate(t.Context(), job) {
		if err != nil {
			t.Error(err)
		}
		ids = append(ids, step.Token)
		drafted, accepted = drafted+step.Drafted, accepted+step.Accepted
	}
	return ids, drafted, accepted
}

const shallowLayers = 1

// shallow is the sample model without its upper layers.
func shallow(t *testing.T) *model.Model {
	t.Helper()
	c, err := gguf.Open("../../demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		t.Fatal(err)
	}
	c.Hyper.Layers = shallowLayers
	c.Tensors = slices.DeleteFunc(c.Tensors, func(t weights.Tensor) bool {
		layer := 0
		_, err := fmt.Sscanf(t.Name, "blk.%d.", &layer)
		return err == nil && layer >= shallowLayers
	})
	m, err := model.Load(c)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// A small model's guesses change nothing either, right or wrong: for one text, for several at once, and for one that the
// drafter has no room for.
func TestGuessesChangeNothing(t *testing.T) {
	plain := harbour(t, Options{NoDrafts: true})
	small := shallow(t)
	guessing := harbour(t, Options{Drafter: small, Sequences: 3})
	var jobs []Job
	for i, s := range []Sampling{{}, {Temperature: 0.4, Seed: 1}, {Temperature: 1.5, Seed: 2}, {Temperature: 1, TopP: 0.9, Seed: 3, RepetitionPenalty: 1.3}, {Temperature: 1.2, Seed: 7, FrequencyPenalty: 1}} {
		// Longer than what the drafter reads in a step.
		prompt := encoded(t, plain, strings.Repeat("A question about harbours. ", 4*i*(i%2))+"Write a guide to Marrow Isle, and what to see there.")
		jobs = append(jobs, Job{Prompt: prompt, MaxTokens: 24 + i, Sampling: s})
	}
	want := make([][]int32, len(jobs))
	drafted, accepted := 0, 0
	for i, job := range jobs {
		want[i], _, _ = drafts(t, plain, job)
		got, d, a := drafts(t, guessing, job)
		if !slices.Equal(got, want[i]) {
			t.Errorf("job %d: %v with guesses, %v without", i, got, want[i])
		}
		if i%2 == 0 { // nothing to look up
			drafted, accepted = drafted+d, accepted+a
		}
	}
	// How many it guesses goes by how long that takes; the first one is made to find out.
	if drafted == 0 || guessing.drafter.pace.weight == 0 {
		t.Error("nothing was guessed")
	}
	t.Logf("%d of %d guesses were right", accepted, drafted)
	var all sync.WaitGroup
	for i, job := range jobs {
		all.Go(func() {
			if got, _, _ := drafts(t, guessing, job); !slices.Equal(got, want[i]) {
				t.Errorf("job %d among others: %v, want %v", i, got, want[i])
			}
		})
	}
	all.Wait()
	guessing.Close() // so that the last step has come to its end
	if use := guessing.drafter.pool.Use(); use.Busy != 0 {
		t.Errorf("the drafter still has %d pages in use", use.Busy)
	}
	crowded := harbour(t, Options{Drafter: small, Memory: 12 * plain.pool.PageBytes()})
	if got, _, _ := drafts(t, crowded, jobs[4]); !slices.Equal(got, want[4]) {
		t.Errorf("with little memory: %v, want %v", got, want[4])
	}
}

// A drafter reads what texts have in common once, and takes back no more than what it guessed wrong.
func TestDraftersKeepWhatTheyRead(t *testing.T) {
	e := harbour(t, Options{Drafter: shallow(t)})
	d := e.drafter
	tokens := encoded(t, e, "When is the last boat to Osmer? And what does a bicycle cost on the way to Gannet Isle and back, on a Sunday in winter?")
	begin := func() *sequence { return newSequence(t.Context(), e, Job{Prompt: tokens, MaxTokens: 50}) }
	read := func(s *sequence) {
		for at := s.shadow.kv.Len(); at < len(s.tokens); at++ {
			d.network.Forward([]model.Token{{ID: s.tokens[at], KV: s.shadow.kv}})
		}
		s.shadow.kv.Commit()
	}
	first := begin()
	if !d.follow(first) || first.shadow.kv.Len() != 0 {
		t.Fatalf("a new text: %d tokens are known", first.shadow.kv.Len())
	}
	read(first)
	second := begin()
	if !d.follow(second) || second.shadow.kv.Len() < kv.PageTokens {
		t.Errorf("of the same text again, %d of %d tokens are known", second.shadow.kv.Len(), len(tokens))
	}
	// Three were guessed, of which two followed.
	first.guessed = []int32{7, 8, 9}
	for _, id := range first.guessed[:2] {
		d.network.Forward([]model.Token{{ID: id, KV: first.shadow.kv}})
	}
	first.tokens = append(first.tokens, 7, 8, 10)
	if !d.follow(first) || first.shadow.kv.Len() != len(first.tokens)-1 {
		t.Errorf("%d of %d tokens are left", first.shadow.kv.Len(), len(first.tokens))
	}
	first.release()
	second.release()
}

// How many tokens are guessed goes by what it costs and how often it was right.
func TestGuessLength(t *testing.T) {
	var large, small, slow, unknown pace
	for range 50 {
		for _, n := range []int{1, 2, 8} {
			large.note(n, 100*time.Millisecond+time.Duration(n)*time.Millisecond)
			small.note(n, 5*time.Millisecond)
			slow.note(n, 90*time.Millisecond)
		}
	}
	s := speculation{guessLuck: 0.9}
	for _, c := range []struct {
		luck  luck
		by    *pace
		least int
		most  int
	}{{0.9, &small, longGuess, longGuess}, {0.9, &slow, 0, 0}, {0.5, &small, 1, 4}, {0.02, &small, 0, 0}, {0.02, &unknown, 1, 1}} {
		s.guessLuck = c.luck
		if n := s.worth(&large, c.by, 1, 12); n < c.least || n > c.most {
			t.Errorf("%+v: %d tokens", c, n)
		}
	}
}

// Answers are the same to the token whether tokens are drafted or not: greedy and drawn, with penalties, kept to a form,
// alone and beside each other.
func TestDraftsChangeNothing(t *testing.T) {
	plain, drafting := harbour(t, Options{NoDrafts: true}), harbour(t, Options{})
	schema, err := grammar.Compile(grammar.NewWork(t.Context()), []byte(timetable))
	if err != nil {
		t.Fatal(err)
	}
	form, err := grammar.New(grammar.NewWork(t.Context()), everyToken(drafting), schema.Value())
	if err != nil {
		t.Fatal(err)
	}
	text := encoded(t, drafting, "The boat to Gannet Isle leaves at 06:20. The boat to Osmer leaves at 07:40. The boat to Gannet Isle leaves at 06:20. The boat to")
	var jobs []Job
	for i, s := range []Sampling{{}, {Temperature: 0.7, Seed: 3}, {Temperature: 1, TopP: 0.9, Seed: 4, RepetitionPenalty: 1.1}, {Temperature: 1, FrequencyPenalty: 0.3, Seed: 5}} {
		for _, formed := range []bool{false, true} {
			jobs = append(jobs, Job{Prompt: text[:len(text)-i], MaxTokens: 60, Sampling: s})
			if formed {
				jobs[len(jobs)-1].Form = form.Begin()
			}
		}
	}
	run := func(e *Engine, job Job) (ids []int32, drafted, accepted int) {
		if job.Form != nil {
			job.Form = form.Begin()
		}
		return drafts(t, e, job)
	}
	drafted, accepted, byForm := 0, 0, 0
	together := make([][]int32, len(jobs))
	var all sync.WaitGroup
	for i, job := range jobs {
		want, none, _ := run(plain, job)
		got, d, a := run(drafting, job)
		if !slices.Equal(got, want) || none != 0 {
			t.Errorf("job %d: %v with drafts, %v without", i, got, want)
		}
		if drafted, accepted = drafted+d, accepted+a; job.Form != nil {
			byForm += a
		}
		jobs[i].Prompt = slices.Clone(job.Prompt)
		together[i] = want
	}
	for i, job := range jobs {
		all.Go(func() {
			if got, _, _ := run(drafting, job); !slices.Equal(got, together[i]) {
				t.Errorf("job %d among others: %v, want %v", i, got, together[i])
			}
		})
	}
	all.Wait()
	if accepted == 0 || byForm == 0 || accepted > drafted {
		t.Errorf("%d of %d drafted tokens were right, %d of them by a form", accepted, drafted, byForm)
	}
}

// Drafts are as long as it pays: not at all where they are never right or a step's tokens are dear, long where they are
// right and cost little.
func TestDraftLength(t *testing.T) {
	var cheap, dear pace
	for range 50 {
		for _, n := range []int{1, 2, 8} {
			cheap.note(n, 100*time.Millisecond+time.Duration(n)*time.Millisecond)
			dear.note(n, time.Duration(n)*100*time.Millisecond)
		}
	}
	s := speculation{luck: 0.95, draft: make([]drafted, 12)}
	if n := s.length(&cheap, 1, 12); n != 12 {
		t.Errorf("%d tokens are drafted where they are cheap and right", n)
	}
	if n := s.length(&dear, 1, 12); n != 0 {
		t.Errorf("%d tokens are drafted where they are dear", n)
	}
	for i := range 4 {
		s.draft[i+2].must = true
	}
	if n := s.length(&cheap, 1, 4); n != 1 {
		t.Errorf("a text that there is no choice about is cut off after %d tokens", n)
	}
	for range 100 {
		s.expect(0, true)
	}
	if n := s.length(&cheap, 1, 12); n != 0 {
		t.Errorf("%d tokens are drafted that are never right", n)
	}
	for range 100 {
		s.luck.forget()
	}
	if n := s.length(&cheap, 1, 12); n == 0 {
		t.Error("drafts are given up for good")
	}
}

func TestLookup(t *testing.T) {
	l := newLookup(100)
	tokens := []int32{1, 2, 3, 4, 5, 6, 1, 2, 3}
	if got := l.after(tokens); !slices.Equal(got, []int32{4, 5, 6, 1, 2, 3}) {
		t.Errorf("after 1 2 3 came %v", got)
	}
	tokens = append(tokens, 9, 1, 2, 3)
	if got := l.after(tokens); !slices.Equal(got[:2], []int32{9, 1}) {
		t.Errorf("after 1 2 3 came last %v", got)
	}
	if got := l.after(append(tokens, 7)); got != nil {
		t.Errorf("after what never was there came %v", got)
	}
	if got := l.after([]int32{1, 2}); got != nil {
		t.Errorf("two tokens give %v", got)
	}
}

// BenchmarkDrafts is how much faster answers come with drafts: one that repeats its prompt, and one that is kept to a
// schema of 20 properties.
func BenchmarkDrafts(b *testing.B) {
	schema := `{"type":"object","additionalProperties":false,"properties":{`
	required := ""
	for i := range 20 {
		if i > 0 {
			schema += ","
			required += ","
		}
		name := fmt.Sprintf(`"departure_from_harbour_%c"`, 'a'+i)
		schema += name + `:{"type":"integer","maximum":99}`
		required += name
	}
	parsed, err := grammar.Compile(grammar.NewWork(b.Context()), []byte(schema+`},"required":[`+required+`]}`))
	if err != nil {
		b.Fatal(err)
	}
	for _, drafts := range []bool{false, true} {
		e := harbour(b, Options{NoDrafts: !drafts})
		form, err := grammar.New(grammar.NewWork(b.Context()), everyToken(e), parsed.Value())
		if err != nil {
			b.Fatal(err)
		}
		sentence := encoded(b, e, "The boat to Gannet Isle leaves at 06:20 from the second pier, and the boat to Osmer leaves at 07:40 from the first one. ")
		quote := slices.Concat(sentence, sentence, sentence)
		for _, kind := range []string{"quote", "schema"} {
			b.Run(fmt.Sprintf("%s/drafts=%v", kind, drafts), func(b *testing.B) {
				tokens, right := 0, 0
				for b.Loop() {
					job := Job{Prompt: quote, MaxTokens: 200, NeverEnds: true}
					if kind == "schema" {
						job = Job{Prompt: sentence, MaxTokens: 800, Form: form.Begin()}
					}
					for step, err := range e.Generate(b.Context(), job) {
						if err != nil {
							b.Fatal(err)
						}
						tokens++
						right += step.Accepted
					}
				}
				b.ReportMetric(float64(tokens)/b.Elapsed().Seconds(), "tokens/s")
				b.ReportMetric(float64(right)/float64(tokens), "drafted")
			})
		}
	}
}

// encoded is the tokens of a text.
func encoded(t testing.TB, e *Engine, text string) []int32 {
	t.Helper()
	ids, err := e.tok.Encode(text)
	if err != nil {
		t.Fatal(err)
	}
	return ids
}
