package engine

import (
	"encoding/binary"
	"errors"
	"math"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/grammar"
	"kindredgate/internal/model"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
)

// changed is the sample model with its checkpoint changed before it is built.
func changed(t testing.TB, path string, o Options, change func(c *weights.Checkpoint)) (*Engine, *model.Model) {
	t.Helper()
	c, err := gguf.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	change(c)
	c.Index()
	m, tok := opened(t, c)
	t.Cleanup(func() { c.Close() })
	if m.Embeds() {
		return nil, m
	}
	e, err := New(m, tok, o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	return e, m
}

const sample = "../../demo/models/harbour-4m/harbour-4m.gguf"

// padded gives a model as many rows again as it has tokens, each twice as likely as the one that it is a copy of.
func padded(c *weights.Checkpoint) {
	t, ok := c.Find("token_embd.weight")
	if !ok || t.Type != weights.Q8_0 {
		panic("the sample model is another one")
	}
	twice := slices.Clone(t.Data)
	for at := 0; at < len(twice); at += 34 { // a half float as the scale, and 32 bytes
		if scale := binary.LittleEndian.Uint16(twice[at:]); scale&0x7fff != 0 {
			binary.LittleEndian.PutUint16(twice[at:], scale+0x400)
		}
	}
	t.Data, t.Shape = slices.Concat(t.Data, twice), []int{2 * t.Shape[0], t.Shape[1]}
}

// Rows beyond the last token are never chosen, drafted or scored, whatever they say: an answer is as if they were not there, with a form, with
// sampling, and when another such model drafts for it.
func TestRowsBeyondTheTokenizer(t *testing.T) {
	plain := harbour(t, Options{})
	wide, drafter := changed(t, sample, Options{}, padded)
	drafted, _ := changed(t, sample, Options{Drafter: drafter}, func(*weights.Checkpoint) {})
	if wide.model.Vocab <= wide.tok.Size() {
		t.Fatal("there are no rows beyond")
	}
	texts := make([]string, plain.tok.Size())
	for i := range texts {
		if !plain.tok.IsControl(int32(i)) {
			texts[i] = plain.tok.Text(int32(i))
		}
	}
	form, err := grammar.New(grammar.NewWork(t.Context()), grammar.NewVocabulary(texts), grammar.Literal("at "))
	if err != nil {
		t.Fatal(err)
	}
	top := 3
	for _, v := range vectors(t)[:4] {
		for what, job := range map[string]Job{
			"greedy": {Prompt: v.IDs, MaxTokens: 12}, "drawn": {Prompt: v.IDs, MaxTokens: 12, Sampling: Sampling{Temperature: 1.3, TopK: 40, Seed: 7}},
			"scored": {Prompt: v.IDs, MaxTokens: 4, Scores: &top, ScorePrompt: true},
		} {
			_, want, _, err := answer(t.Context(), plain, job)
			if err != nil {
				t.Fatal(err)
			}
			for name, e := range map[string]*Engine{"padded": wide, "drafted for": drafted} {
				if _, got, _, err := answer(t.Context(), e, job); err != nil || !slices.Equal(got, want) {
					t.Errorf("%s, %s, %s: %v, %v, want %v", v.Name, what, name, got, err, want)
				}
			}
		}
		if text, _, _, err := answer(t.Context(), wide, Job{Prompt: v.IDs, MaxTokens: 12, Form: form.Begin()}); err != nil || text != "at " {
			t.Errorf("%s in a form: %q, %v", v.Name, text, err)
		}
	}
	// Masks and forms themselves do not depend on that.
	begun := form.Begin()
	for _, id := range []int32{-1, int32(len(texts)), 1 << 30} {
		if begun.After(id).Done() || begun.Accept(id) == nil {
			t.Errorf("token %d can come", id)
		}
	}
	s := newSampler(Sampling{}, nil)
	logits := make([]float32, 100)
	logits[99], logits[3] = 5, 1
	if id := s.next(logits, []uint64{1 << 3}); id != 3 {
		t.Errorf("token %d is drawn, of which the mask does not speak", id)
	}
}

// What is not numbers is an error wherever it comes out: in answers, in what is only scored, and in vectors.
func TestNothingThatIsNotNumbers(t *testing.T) {
	spoil := func(c *weights.Checkpoint) {
		for i := range c.Tensors {
			if t := &c.Tensors[i]; strings.HasSuffix(t.Name, "attn_norm.weight") || strings.HasSuffix(t.Name, "norm.weight") {
				t.Data = slices.Clone(t.Data)
				for at := 0; at+4 <= len(t.Data) && t.Type == weights.F32; at += 4 {
					binary.LittleEndian.PutUint32(t.Data[at:], math.Float32bits(float32(math.NaN())))
				}
			}
		}
	}
	e, _ := changed(t, sample, Options{}, spoil)
	for what, job := range map[string]Job{
		"answered": {MaxTokens: 4}, "scored": {NoAnswer: true, Scores: new(int), ScorePrompt: true}, "scored and answered": {MaxTokens: 4, Scores: new(int), ScorePrompt: true}, "read alone": {NoAnswer: true},
	} {
		job.Prompt = []int32{1, 2, 3}
		if _, ids, _, err := answer(t.Context(), e, job); !errors.Is(err, ErrNotNumbers) {
			t.Errorf("%s: %v, %v", what, ids, err)
		}
	}
	_, m := changed(t, "../../demo/models/harbour-embed/harbour-embed.gguf", Options{}, spoil)
	encoder, err := NewEncoder(m, e.tok, Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer encoder.Close()
	if vectors, err := encoder.Encode(t.Context(), []model.Text{{IDs: []int32{1, 2, 3}}}); !errors.Is(err, ErrNotNumbers) {
		t.Errorf("%v, %v", vectors, err)
	}
}

// A prompt that is scored and has to give way to another has each of its tokens scored once.
func TestScoresAfterGivingWay(t *testing.T) {
	all := harbour(t, Options{})
	e := prepared(t, Options{Memory: 12 * all.pool.PageBytes()})
	first := enqueue(t, e, 200, 0, 60)
	first.sampler.LogitBias = map[int32]float64{e.tok.EOS: -100}
	e.admit()
	e.step()
	prompt := make([]int32, 300)
	for i := range prompt {
		prompt[i] = int32((i*7 + 3) % e.tok.Size())
	}
	job := Job{Prompt: prompt, Scores: new(int), ScorePrompt: true, NoAnswer: true}
	var want []Score
	for step, err := range all.Generate(t.Context(), job) {
		if err != nil {
			t.Fatal(err)
		}
		want = step.PromptScores
	}
	second, err := e.submit(t.Context(), job)
	if err != nil {
		t.Fatal(err)
	}
	gaveWay := 0
	var got []Score
	for range 5000 {
		if e.admit(); len(e.running) == 0 && len(e.waiting) == 0 {
			break
		}
		before := second.phase == displaced
		e.step()
		if second.phase == displaced && !before {
			gaveWay++
		}
		steps, err := second.take(nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, step := range steps {
			got = append(got, step.PromptScores...)
		}
	}
	if gaveWay == 0 || !slices.EqualFunc(got, want, func(a, b Score) bool { return a.Token == b.Token && a.LogProb == b.LogProb }) {
		t.Errorf("it gave way %d times; %d scores, want %d", gaveWay, len(got), len(want))
	}
	// It does not come back before there is memory for it, to give way again.
	if gaveWay > 1 {
		t.Errorf("it gave way %d times", gaveWay)
	}
}

// What was started goes before what was not, whoever asked and however short that is.
func TestWhatWasStartedGoesFirst(t *testing.T) {
	all := harbour(t, Options{})
	e := prepared(t, Options{Memory: 14 * all.pool.PageBytes()})
	first, second := enqueue(t, e, 200, 0, 60), enqueue(t, e, 200, 1, 60)
	for _, s := range []*sequence{first, second} {
		s.sampler.LogitBias = map[int32]float64{e.tok.EOS: -100}
	}
	for len(e.waiting) > 0 || first.generated == 0 {
		e.admit()
		e.step()
	}
	for second.phase != displaced {
		e.admit()
		e.step()
	}
	var late []*sequence
	for i := range 8 {
		late = append(late, enqueue(t, e, 3, 10+i, 40))
	}
	for range 5000 {
		if e.admit(); second.phase == ended {
			break
		}
		if second.phase == displaced && slices.ContainsFunc(late, func(s *sequence) bool { return !s.started.IsZero() }) {
			t.Fatal("somebody who came later got its turn first")
		}
		e.step()
	}
	if second.generated != 60 {
		t.Errorf("%d tokens", second.generated)
	}
}

// Without a limit a network whose rotations depend on the length of the text uses the form for short ones until it is a long one; and it then
// goes on as one that was long from the beginning.
func TestRotationsOfTextsThatGrow(t *testing.T) {
	e, m := changed(t, "../model/testdata/reference/phi3-longrope/model.f32.gguf", Options{NoDrafts: true}, func(*weights.Checkpoint) {})
	original := m.Ropes[0].Longer[0].Beyond
	if original < 8 || m.Variant(original) != 0 || m.Variant(original+1) != 1 {
		t.Fatalf("the network is another one: %d", original)
	}
	prompt := []int32{5, 9, 40, 7}
	run := func(prompt []int32, most int, open bool) []int32 {
		t.Helper()
		_, ids, _, err := answer(t.Context(), e, Job{Prompt: prompt, MaxTokens: most, Open: open, NeverEnds: true})
		if err != nil {
			t.Fatal(err)
		}
		return ids
	}
	within := original - len(prompt)
	short := run(prompt, within, false)
	grown := run(prompt, within+10, true)
	if !slices.Equal(grown[:within-1], short[:within-1]) {
		t.Errorf("while it is short: %v, want %v", grown[:within-1], short[:within-1])
	}
	// Whatever was said until then, the rest is what a text of that length is followed by.
	at := within + 2
	long := run(slices.Concat(prompt, grown[:at]), 8, false)
	if !slices.Equal(grown[at:], long) {
		t.Errorf("when it is long: %v, want %v", grown[at:], long)
	}
	if again := run(prompt, within+10, true); !slices.Equal(again, grown) {
		t.Errorf("a second time: %v, want %v", again, grown)
	}
}
