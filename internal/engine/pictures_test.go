package engine

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/picture"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/vision"
	"kindredgate/internal/weights/safetensors"
)

// pictured are the prompts of a fixture with pictures as jobs, and how they go on.
func pictured(t *testing.T, name string, o Options) (e *Engine, jobs []Job, want [][]int32) {
	t.Helper()
	folder := "../model/testdata/vision/" + name
	c, err := safetensors.Open(folder + "/hf")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	m, err := model.Load(c)
	if err != nil {
		t.Fatal(err)
	}
	tower, err := model.LoadTower(c, m.Dim)
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
	raw, err := os.ReadFile(folder + "/vectors.json")
	if err != nil {
		t.Fatal(err)
	}
	var v struct {
		Images  []struct{ Resized string }
		Prompts []struct {
			IDs       []int32
			ImageRows [][4]int `json:"image_rows"`
			Greedy    []int32
		}
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		t.Fatal(err)
	}
	rows := make([]*model.Rows, len(v.Images))
	for i, image := range v.Images {
		raw, err := os.ReadFile(filepath.Join(folder, image.Resized))
		if err != nil {
			t.Fatal(err)
		}
		h, err := picture.Look(raw, picture.DefaultMemory)
		if err != nil {
			t.Fatal(err)
		}
		p, err := picture.Decode(t.Context(), raw, h)
		if err != nil {
			t.Fatal(err)
		}
		unit := tower.Rule.Patch * tower.Rule.Merge
		plan := vision.Plan{Width: h.Width, Height: h.Height, ReadWidth: h.Width, ReadHeight: h.Height, Rows: h.Height / unit, Columns: h.Width / unit}
		if rows[i], err = tower.See(t.Context(), nil, p.RGB(), plan, nil); err != nil {
			t.Fatal(err)
		}
		o.Picture = max(o.Picture, plan.Tokens())
	}
	if o.Memory < 0 {
		o.Memory = 2 * kv.Bytes(m.KVShape(), o.Contexts, 128)
	}
	if e, err = New(m, tok, o); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	for _, p := range v.Prompts {
		job := Job{Prompt: slices.Clone(p.IDs), MaxTokens: len(p.Greedy), NeverEnds: true, Sampling: Sampling{Temperature: 0}}
		begin := 0
		for i, r := range p.ImageRows {
			if i == 0 || r[0] != p.ImageRows[i-1][0] {
				begin = r[2]
				if i > 0 {
					job.Saved += tower.Rule.Saved(rows[p.ImageRows[i-1][0]].Plan)
				}
			}
			job.Pictures = append(job.Pictures, model.Piece{At: r[2], First: r[1], N: r[3], Begin: begin, Saved: job.Saved, Rows: rows[r[0]]})
			for at := r[2]; at < r[2]+r[3]; at++ {
				job.Prompt[at] = e.Number(v.Images[r[0]].Resized)
			}
		}
		if n := len(p.ImageRows); n > 0 {
			job.Saved += tower.Rule.Saved(rows[p.ImageRows[n-1][0]].Plan)
		}
		jobs, want = append(jobs, job), append(want, p.Greedy)
	}
	return e, jobs, want
}

// Answers to prompts with pictures are those of other programs: one after the other in both orders, so that a picture never stands for another of
// its size; all at once; and where memory is short.
func TestPictures(t *testing.T) {
	for _, name := range []string{"gemma3-vision", "qwen2-vl", "qwen2_5-vl", "qwen3-vl", "pixtral", "mistral3", "llava-clip"} {
		t.Run(name, func(t *testing.T) {
			for way, o := range map[string]Options{"plain": {NoDrafts: true}, "drafts": {}, "little memory": {Memory: -1}} {
				o.Contexts = kv.F32
				e, jobs, want := pictured(t, name, o)
				check := func(i int) {
					if _, ids, _, err := answer(t.Context(), e, jobs[i]); err != nil || !slices.Equal(ids, want[i]) {
						t.Errorf("%s: prompt %d goes on\n%v, %v; want\n%v", way, i, ids, err, want[i])
					}
				}
				for i := range jobs {
					check(i)
				}
				for i := len(jobs) - 1; i >= 0; i-- {
					check(i)
				}
				var all sync.WaitGroup
				for i := range jobs {
					all.Go(func() { check(i) })
				}
				all.Wait()
			}
		})
	}
}

// A picture that a network has to see as a whole is never cut, wherever a step would end.
func TestPicturesAreNotCut(t *testing.T) {
	long := func(e *Engine, job Job) Job {
		before := make([]int32, prefillTokens-job.Pictures[0].At-5) // the step would end within the picture
		for i := range before {
			before[i] = int32(20 + i*i%31)
		}
		job.Prompt = slices.Concat(before, job.Prompt)
		job.Pictures = slices.Clone(job.Pictures)
		for i := range job.Pictures {
			job.Pictures[i].At += len(before)
			job.Pictures[i].Begin += len(before)
		}
		return job
	}
	at, jobs, _ := pictured(t, "gemma3-vision", Options{NoDrafts: true})
	job := long(at, jobs[1])
	_, want, _, err := answer(t.Context(), at, job)
	if err != nil {
		t.Fatal(err)
	}
	beside, others, _ := pictured(t, "gemma3-vision", Options{NoDrafts: true})
	head := others[1]
	head.Pictures, head.Prompt, head.MaxTokens = nil, job.Prompt[:job.Pictures[0].At], 1
	if _, _, _, err := answer(t.Context(), beside, head); err != nil { // so that the picture is read from its beginning on
		t.Fatal(err)
	}
	if _, got, _, err := answer(t.Context(), beside, long(beside, others[1])); err != nil || !slices.Equal(got, want) {
		t.Errorf("read as a whole it goes on %v, %v; with what is before it %v", got, err, want)
	}
}

// How many tokens a step may read is made fewer, to where a picture begins, or more, to where the first one ends.
func TestUncut(t *testing.T) {
	e, _, _ := pictured(t, "gemma3-vision", Options{})
	s := &sequence{kv: e.pool.NewSequence(0), job: Job{Pictures: []model.Piece{{At: 10, N: 16}, {At: 26, N: 16}}}}
	if err := s.kv.Reserve(64); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ read, n, want int }{{0, 0, 0}, {0, 5, 5}, {0, 10, 10}, {0, 12, 10}, {0, 26, 26}, {0, 30, 26}, {0, 50, 50}, {10, 3, 16}, {10, 16, 16}, {10, 20, 16}, {14, 1, 12}, {14, 12, 12}, {26, 1, 16}, {42, 4, 4}} {
		for s.kv.Len() < c.read {
			s.kv.Append(1)
		}
		if got := s.uncut(e.model, c.n); got != c.want {
			t.Errorf("%d tokens after %d become %d, want %d", c.n, c.read, got, c.want)
		}
	}
	s.kv.Release()
}

// Nothing is drafted from what is behind a picture.
func TestNoPictureIsDrafted(t *testing.T) {
	l := newLookup(16)
	if after := l.after([]int32{1, 2, 3, 4, -7, -7, 5, 1, 2, 3}); !slices.Equal(after, []int32{4}) {
		t.Errorf("%v is drafted", after)
	}
}

// What does not fit is refused before anything is done.
func TestPicturesThatDoNotFit(t *testing.T) {
	e, jobs, _ := pictured(t, "gemma3-vision", Options{})
	for name, change := range map[string]func(j *Job){
		"a picture and no tokens for it":    func(j *Job) { j.Prompt[j.Pictures[0].At] = 1 },
		"tokens for no picture":             func(j *Job) { j.Pictures = nil },
		"more rows than it has":             func(j *Job) { j.Pictures[0].First = 3 },
		"beyond the prompt":                 func(j *Job) { j.Pictures[0].At = len(j.Prompt) - 1 },
		"scores of a picture's tokens":      func(j *Job) { j.ScorePrompt, j.ScoreFrom = true, 1 },
		"no rows":                           func(j *Job) { j.Pictures[0].Rows = nil },
		"rows of another width":             func(j *Job) { r := *j.Pictures[0].Rows; r.Width++; j.Pictures[0].Rows = &r },
		"a number that is of no vocabulary": func(j *Job) { j.Prompt[0] = 1 << 20 },
	} {
		job := jobs[1]
		job.Prompt, job.Pictures = slices.Clone(job.Prompt), slices.Clone(job.Pictures)
		change(&job)
		if _, _, _, err := answer(t.Context(), e, job); err == nil {
			t.Errorf("%s: it is answered", name)
		}
	}
}
