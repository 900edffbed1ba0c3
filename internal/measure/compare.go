package measure

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"runtime"
	"slices"
	"time"

	"kindredgate/internal/kv"
	"kindredgate/internal/machine"
	"kindredgate/internal/model"
	"kindredgate/internal/prepared"
	"kindredgate/internal/system"
	"kindredgate/internal/tensor"
)

// Comparison is how long steps take with several kernels, measured in turn in one run, so that what else the machine does meets all of them alike.
type Comparison struct {
	Model    string     `json:"model"`
	Weights  string     `json:"weights"`
	Rounds   int        `json:"rounds"`
	Stolen   float64    `json:"stolen"` // share of the processors' time that went to other virtual machines
	Variants []Measured `json:"variants"`
}

// Measured are the times of one kind of kernels.
type Measured struct {
	Kernels string     `json:"kernels"`
	Steps   []StepTime `json:"steps"`
}

// StepTime are the medians of a step of one thread, in milliseconds: of the time that the thread was on a processor, and of all time.
type StepTime struct {
	Tokens int     `json:"tokens"`
	CPU    float64 `json:"cpu_ms"` // that of all where the system does not tell
	All    float64 `json:"ms"`
}

// comparedSteps are the tokens of the steps that are measured.
var comparedSteps = []int{1, 64, 256}

// shortSteps is how many tokens short steps have together in a round.
const shortSteps = 16

// leastRounds is how often each is measured at the least, whatever time that takes.
const leastRounds = 3

// Compare measures steps of a model with each of some kernels. Nothing else may multiply in the process meanwhile.
func Compare(ctx context.Context, job Job, kernels []string) (_ *Comparison, err error) {
	before, _ := tensor.Kernels()
	defer func() { err = errors.Join(err, tensor.UseKernels(before)) }()
	for _, name := range kernels {
		if err := tensor.UseKernels(name); err != nil {
			return nil, err
		}
	}
	if err := tensor.UseKernels(before); err != nil {
		return nil, err
	}
	c, err := job.Open()
	if err != nil {
		return nil, err
	}
	defer c.Close()
	m, err := model.Load(c)
	if err != nil {
		return nil, err
	}
	if m.Embeds() {
		return nil, errors.New("the model makes embeddings; what is measured is how fast text comes")
	}
	folder, err := os.MkdirTemp("", "kindred-bench-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	file, err := prepared.Cache{Folder: folder, Space: math.MaxInt64}.Make(ctx, m, "", func(int64) error { return nil })
	if err != nil {
		return nil, fmt.Errorf("preparing the weights: %w", err)
	}
	defer func() { err = errors.Join(err, file.Close()) }()

	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	out := &Comparison{Model: job.Name}
	if shares := c.Shares(); len(shares) > 0 {
		out.Weights = shares[0].Type.String()
	}
	longest := slices.Max(comparedSteps)
	scratch := m.NewScratch(longest, 1)
	seq := kv.NewPool(m.KVShape(), kv.F16, kv.Bytes(m.KVShape(), kv.F16, longest)).NewSequence(0)
	tokens := make([]model.Token, longest)
	for i := range tokens {
		tokens[i] = model.Token{ID: int32(i % m.Vocab), KV: seq}
	}
	times := make([][2][]float64, len(kernels)*len(comparedSteps))
	stolen := machine.StolenTime()
	begun := time.Now()
	var round time.Duration
	for ; out.Rounds < leastRounds || time.Since(begun)+round < job.Budget; out.Rounds++ {
		at := time.Now()
		for i, name := range kernels {
			if err := tensor.UseKernels(name); err != nil {
				return nil, err
			}
			for j, n := range comparedSteps {
				if ctx.Err() != nil {
					return nil, context.Cause(ctx)
				}
				if job.Progress != nil {
					job.Progress(fmt.Sprintf("%s, %d tokens", name, n), min(out.Rounds, leastRounds-1), leastRounds)
				}
				for range max(1, shortSteps/n) {
					seq.Truncate(0)
					if err := seq.Reserve(n); err != nil {
						return nil, err
					}
					cpu, all := timed(func() { m.Forward(nil, scratch, tokens[:n]) })
					t := &times[i*len(comparedSteps)+j]
					t[0], t[1] = append(t[0], cpu), append(t[1], all)
				}
			}
		}
		round = time.Since(at)
	}
	if d := time.Since(begun); d > 0 {
		out.Stolen = (machine.StolenTime() - stolen).Seconds() / d.Seconds() / float64(runtime.NumCPU())
	}
	for i, name := range kernels {
		v := Measured{Kernels: name}
		for j, n := range comparedSteps {
			t := &times[i*len(comparedSteps)+j]
			slices.Sort(t[0])
			slices.Sort(t[1])
			v.Steps = append(v.Steps, StepTime{Tokens: n, CPU: t[0][len(t[0])/2], All: t[1][len(t[1])/2]})
		}
		out.Variants = append(out.Variants, v)
	}
	return out, nil
}

// timed does something, and gives the milliseconds that the thread was on a processor, and those that went by.
func timed(do func()) (cpu, all float64) {
	before, known := system.ThreadTime()
	begun := time.Now()
	do()
	all = ms(time.Since(begun))
	if !known {
		return all, all
	}
	after, _ := system.ThreadTime()
	return ms(after - before), all
}
