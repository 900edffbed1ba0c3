// Package measure finds out how fast the engine runs a model on this machine, and how near that comes to what the machine
// can do.
package measure

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"kindredgate/internal/cache"
	"kindredgate/internal/engine"
	"kindredgate/internal/machine"
	"kindredgate/internal/model"
	"kindredgate/internal/prepared"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
)

// Figure is one thing that was measured.
type Figure struct {
	ID    string  `json:"id"`
	Name  string  `json:"name"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	// Limit is what the machine allows at most, in the same unit; 0 if there is no such limit. By says what sets it.
	Limit float64 `json:"limit,omitempty"`
	By    string  `json:"by,omitempty"`
	// Skipped says why there is no value.
	Skipped string `json:"skipped,omitempty"`
}

// Report is the result of a run.
type Report struct {
	Version string    `json:"version"`
	Time    time.Time `json:"time"`
	Kernels string    `json:"kernels"`
	Model   string    `json:"model"`
	Weights string    `json:"weights"`
	Size    int64     `json:"size"` // bytes of the weights
	Limits  Limits    `json:"limits"`
	Figures []Figure  `json:"figures"`
}

// Find is the figure of that id.
func (r *Report) Find(id string) (Figure, bool) {
	i := slices.IndexFunc(r.Figures, func(f Figure) bool { return f.ID == id })
	if i < 0 {
		return Figure{}, false
	}
	return r.Figures[i], true
}

// Job is what is to be measured.
type Job struct {
	Open    func() (*weights.Checkpoint, error) // reads the weights; it is part of the time that loading takes
	Name    string
	Threads int // 0 for all
	// Budget is how long the run may take; what would take longer, by what was measured before, is left out.
	Budget time.Duration
	// Progress is told what is being measured; it may be nil.
	Progress func(doing string, done, total int)
}

// The sizes that are measured.
var (
	promptLengths = []int{64, 512, 2048}
	streams       = []int{1, 2, 4, 8, 16}
)

const (
	shortPrompt  = 50 // tokens of the prompt that a first token is measured with
	history      = 2000
	decodeTokens = 32        // of each stream
	otherData    = 256 << 20 // that is read to measure the memory, if the weights are smaller
)

// run is a job under way.
type run struct {
	Job
	ctx      context.Context
	engine   *engine.Engine
	model    *model.Model
	team     *tensor.Team
	report   *Report
	prepared *prepared.File
	data     [][]byte // large pieces of the weights
	other    []byte
	random   *rand.Rand
	begun    time.Time
	steps    int
}

// Run measures a model that predicts text.
func Run(ctx context.Context, job Job) (*Report, error) {
	if job.Budget <= 0 {
		job.Budget = 2 * time.Minute
	}
	r := &run{Job: job, ctx: ctx, report: &Report{Time: time.Now(), Model: job.Name}, random: rand.New(rand.NewPCG(7, 7)), begun: time.Now()}
	r.report.Kernels, _ = tensor.Kernels()
	r.team = tensor.NewTeam(job.Threads)
	defer r.team.Close()
	return r.report, r.all()
}

func (r *run) all() (err error) {
	r.tell("loading")
	begun := time.Now()
	c, err := r.Open()
	if err != nil {
		return err
	}
	defer c.Close()
	if err := r.load(c); err != nil {
		return err
	}
	defer func() { r.engine.Close() }()
	r.add(Figure{ID: "load", Name: "loading", Value: 1000 * time.Since(begun).Seconds(), Unit: "ms"})
	defer func() { err = errors.Join(err, r.prepared.Close()) }()
	for _, step := range []func() error{r.cold, r.prepare, r.firstTokens, r.prefill, r.decode, r.beside, r.memory} {
		if err := step(); err != nil {
			return err
		}
	}
	r.limit()
	return nil
}

func (r *run) load(c *weights.Checkpoint) (err error) {
	if r.model, err = model.Load(c); err != nil {
		return err
	}
	if r.model.Embeds() {
		return errors.New("the model makes embeddings; what is measured is how fast text comes")
	}
	definition, err := c.Tokenizer()
	if err != nil {
		return err
	}
	tok, err := tokenizer.New(definition)
	if err != nil {
		return err
	}
	r.report.Size = c.Size
	if shares := c.Shares(); len(shares) > 0 {
		r.report.Weights = shares[0].Type.String()
	}
	for _, t := range c.Tensors {
		if len(t.Data) >= 1<<20 {
			r.data = append(r.data, t.Data)
		}
	}
	r.engine, err = engine.New(r.model, tok, engine.Options{Team: r.team, NoDrafts: true})
	return err
}

func (r *run) tell(doing string) {
	if r.Progress != nil {
		r.Progress(doing, r.steps, 8+len(promptLengths)+len(streams))
	}
	r.steps++
}

func (r *run) add(f Figure) { r.report.Figures = append(r.report.Figures, f) }

// look measures the machine's limits once more, beside what is measured of the engine: other machines may share its
// processors, and memory.
func (r *run) look() {
	data := r.other
	for _, d := range r.data {
		if len(d) > max(len(data), otherData/4) {
			data = d
		}
	}
	if data == nil {
		r.other = make([]byte, otherData)
		for i := range r.other {
			r.other[i] = byte(i)
		}
		data = r.other
	}
	r.report.Limits.measure(r.team.Size(), data)
}

// prompt is some tokens that were never read before.
func (r *run) prompt(n int) []int32 {
	ids := make([]int32, n)
	for i := range ids {
		ids[i] = int32(r.random.IntN(r.model.Vocab))
	}
	return ids
}

// first reads a prompt and gives the time to the token after it.
func (r *run) first(prompt []int32) (time.Duration, error) {
	begun := time.Now()
	for _, err := range r.engine.Generate(r.ctx, engine.Job{Prompt: prompt, MaxTokens: 1}) {
		if err != nil {
			return 0, err
		}
	}
	return time.Since(begun), nil
}

// best is the shortest of some times.
func best(times int, one func() (time.Duration, error)) (shortest time.Duration, err error) {
	for i := range times {
		d, err := one()
		if err != nil {
			return 0, err
		}
		if i == 0 || d < shortest {
			shortest = d
		}
	}
	return shortest, nil
}

func ms(d time.Duration) float64 { return 1000 * d.Seconds() }

// cold measures the time to the first token when no weight was touched yet.
func (r *run) cold() error {
	r.tell("the first token")
	cold, err := r.first(r.prompt(shortPrompt))
	if err != nil {
		return err
	}
	r.add(Figure{ID: "first.cold", Name: fmt.Sprintf("first token, %d tokens, cold", shortPrompt), Value: ms(cold), Unit: "ms"})
	r.look()
	return nil
}

// prepare measures what an answer gets of the weights as they lie in the file, and then has them prepared, as a gate does
// in the background.
func (r *run) prepare() (err error) {
	folder, err := os.MkdirTemp("", "kindred-bench-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }() // what is mapped stays so
	c := prepared.Cache{Folder: folder, Space: math.MaxInt64}
	needs := c.Needs(r.model)
	if needs == 0 {
		return nil
	}
	r.tell("one answer, weights as in the file")
	tokens, took, err := r.answers(1)
	if err != nil {
		return err
	}
	r.add(Figure{ID: "decode.1.file", Name: "one answer, weights as in the file", Value: float64(tokens) / took.Seconds(), Unit: "tokens/s", By: "memory"})
	r.tell("preparing the weights")
	f := Figure{ID: "prepare", Name: "preparing the weights", Unit: "ms"}
	begun := time.Now()
	if r.prepared, err = c.Make(r.ctx, r.model, "", func(int64) error { return nil }); errors.Is(err, cache.ErrNoSpace) {
		f.Skipped, err = err.Error(), nil
	}
	f.Value = ms(time.Since(begun))
	r.add(f)
	return err
}

// firstTokens measures the time to the first token of a short prompt, and when most of the prompt was read before.
func (r *run) firstTokens() error {
	r.tell("the first token of a short prompt")
	warm, err := best(3, func() (time.Duration, error) { return r.first(r.prompt(shortPrompt)) })
	if err != nil {
		return err
	}
	r.add(Figure{ID: "first.warm", Name: fmt.Sprintf("first token, %d tokens", shortPrompt), Value: ms(warm), Unit: "ms"})
	r.tell("the first token of a second turn")
	f := Figure{ID: "first.shared", Name: fmt.Sprintf("first token, %d tokens after %d read before", shortPrompt, history), Unit: "ms", Limit: 0}
	if why := r.tooLong(warm * history / shortPrompt); why != "" || history+2*shortPrompt > r.model.Context {
		f.Skipped = why
		if why == "" {
			f.Skipped = "the context is too short"
		}
		r.add(f)
		return nil
	}
	before := r.prompt(history)
	if _, err := r.first(before); err != nil {
		return err
	}
	d, err := best(3, func() (time.Duration, error) { return r.first(append(slices.Clip(before), r.prompt(shortPrompt)...)) })
	f.Value = ms(d)
	r.add(f)
	return err
}

// tooLong says why something is left out that would take so long.
func (r *run) tooLong(d time.Duration) string {
	if time.Since(r.begun)+d > r.Budget {
		return fmt.Sprintf("it would take %s", d.Round(time.Second))
	}
	return ""
}

func (r *run) prefill() error {
	cost := r.model.Cost()
	var perToken time.Duration
	for _, n := range promptLengths {
		r.tell(fmt.Sprintf("reading %d tokens", n))
		f := Figure{ID: fmt.Sprintf("prefill.%d", n), Name: fmt.Sprintf("reading %d tokens", n), Unit: "tokens/s", By: "integer"}
		if !cost.Integer {
			f.By = "float"
		}
		if n >= r.model.Context {
			f.Skipped = "the context is too short"
		} else if f.Skipped = r.tooLong(perToken * time.Duration(n)); f.Skipped == "" {
			r.look()
			times := 1
			if perToken*time.Duration(3*n) < r.Budget/20 {
				times = 3
			}
			d, err := best(times, func() (time.Duration, error) { return r.first(r.prompt(n)) })
			if err != nil {
				return err
			}
			perToken = d / time.Duration(n)
			f.Value = float64(n) / d.Seconds()
		}
		r.add(f)
	}
	return nil
}

func (r *run) decode() error {
	var step time.Duration
	for _, n := range streams {
		r.tell(fmt.Sprintf("%d answers at once", n))
		f := Figure{ID: fmt.Sprintf("decode.%d", n), Name: fmt.Sprintf("%d answers at once", n), Unit: "tokens/s", By: "memory"}
		if n == 1 {
			f.Name = "one answer"
		}
		if f.Skipped = r.tooLong(step * decodeTokens * 3 / 2); f.Skipped == "" {
			r.look()
			tokens, took, err := r.answers(n)
			if err != nil {
				return err
			}
			f.Value = float64(tokens) / took.Seconds()
			step = took * time.Duration(n) / time.Duration(tokens)
		}
		r.add(f)
	}
	return nil
}

// besideTokens is the length of the prompt that is read beside an answer.
const besideTokens = 2048

// beside measures for how long an answer under way stops at most while somebody else's prompt is read.
func (r *run) beside() error {
	r.tell("an answer beside a prompt that is read")
	f := Figure{ID: "gap", Name: fmt.Sprintf("longest pause of an answer beside a prompt of %d", besideTokens), Unit: "ms"}
	alone, ok := r.report.Find(fmt.Sprintf("prefill.%d", besideTokens))
	if !ok || alone.Value == 0 {
		f.Skipped = "a prompt of that length was not read"
	} else {
		f.Skipped = r.tooLong(time.Duration(2 * besideTokens / alone.Value * float64(time.Second)))
	}
	if f.Skipped != "" {
		r.add(f)
		return nil
	}
	ctx, cancel := context.WithCancel(r.ctx)
	defer cancel()
	answering, read := make(chan struct{}), make(chan error, 1)
	prompt := r.prompt(besideTokens)
	go func() {
		select {
		case <-answering:
			_, err := r.first(prompt)
			read <- err
		case <-ctx.Done():
		}
	}()
	var last time.Time
	var longest time.Duration
	count := 0
	for _, err := range r.engine.Generate(ctx, engine.Job{Prompt: r.prompt(16), NeverEnds: true}) {
		if err != nil {
			return err
		}
		now := time.Now()
		if count++; count == 4 {
			close(answering)
		} else if count > 4 {
			longest = max(longest, now.Sub(last))
		}
		last = now
		select {
		case err := <-read:
			f.Value = ms(longest)
			r.add(f)
			return err
		default:
		}
	}
	return errors.New("the answer ended before the prompt beside it was read")
}

// answers generates so many answers at once, and gives how many tokens came in which time. The time begins when all of them
// are under way, and ends when each has got some tokens more on average; then they are ended.
func (r *run) answers(n int) (tokens int, took time.Duration, err error) {
	const lead = 4 // tokens that come before the time is taken
	ctx, cancel := context.WithCancel(r.ctx)
	defer cancel()
	var mu sync.Mutex
	var all sync.WaitGroup
	var begun time.Time
	under := 0
	prompts := make([][]int32, n)
	for i := range prompts {
		prompts[i] = r.prompt(16)
	}
	for i := range n {
		all.Go(func() {
			count := 0
			for _, e := range r.engine.Generate(ctx, engine.Job{Prompt: prompts[i], NeverEnds: true}) {
				mu.Lock()
				switch {
				case took > 0: // it is over
				case e != nil:
					err = errors.Join(err, e)
					cancel()
				case !begun.IsZero():
					if tokens++; tokens == n*decodeTokens {
						took = time.Since(begun)
						cancel()
					}
				default:
					if count++; count == lead {
						if under++; under == n {
							begun = time.Now()
						}
					}
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	if err == nil && took == 0 {
		err = errors.New("the answers ended before they were measured")
	}
	return tokens, took, err
}

// memory tells what the process holds.
func (r *run) memory() error {
	r.tell("memory")
	r.other = nil
	debug.FreeOSMemory()
	if resident := machine.Resident(); resident > 0 {
		use := r.engine.Pool().Use()
		r.add(Figure{ID: "memory.resident", Name: "resident memory", Value: float64(resident) / 1e6, Unit: "MB"})
		r.add(Figure{ID: "memory.contexts", Name: "of which contexts", Value: float64(int64(use.Busy+use.Kept)*r.engine.Pool().PageBytes()) / 1e6, Unit: "MB"})
	}
	return nil
}

// limit fills in what the machine would allow.
func (r *run) limit() {
	cost, l := r.model.Cost(), &r.report.Limits
	peak := l.Integer
	if !cost.Integer {
		peak = l.Float
	}
	for i := range r.report.Figures {
		f := &r.report.Figures[i]
		var n int
		if _, err := fmt.Sscanf(f.ID, "decode.%d", &n); err == nil {
			// Every step reads the weights once, and every token multiplies with all of them.
			f.Limit = float64(n) * l.Read / float64(cost.Bytes)
			if most := peak / float64(2*cost.Products); most < f.Limit {
				f.Limit, f.By = most, map[bool]string{true: "integer", false: "float"}[cost.Integer]
			}
		}
		if _, err := fmt.Sscanf(f.ID, "prefill.%d", &n); err == nil {
			// Only the last token is multiplied with the output matrix.
			layers := float64(cost.Products - cost.OutputProducts)
			f.Limit = peak / (2 * (layers + float64(cost.OutputProducts)/float64(n)))
		}
	}
}
