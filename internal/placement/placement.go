// Package placement chooses which of several machines answers a request: the one that is expected to finish it first.
//
// The estimate goes by what each machine says of itself: whether the model is loaded, how much of the prompt it has read before, how many
// requests it has, and how fast it was with those before. It is worked out from numbers alone, so that a simulation of a thousand machines runs
// what a gate runs.
package placement

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Request is what is to be placed, in tokens.
type Request struct {
	Prompt int
	Answer int // that are expected; 0 counts as [UsualAnswer]
}

// UsualAnswer is how long an answer is taken to be of which nothing is known, in tokens.
const UsualAnswer = 200

// Candidate is a machine that could answer.
type Candidate struct {
	Name     string
	Loaded   bool          // whether the model is in memory
	Load     time.Duration // that loading takes; 0 counts as [usualLoad]
	Cached   int           // tokens at the beginning of the prompt that it has read before
	Queued   int           // requests that it has: in progress and waiting
	Parallel int           // that it works on at once; 0 counts as [usualParallel]
	Prefill  float64       // prompt tokens a second, alone; 0 if none was measured
	Decode   float64       // tokens of one answer a second, alone; likewise
	Delay    time.Duration // of the line, there and back
}

// What is assumed of a machine that has not said.
const (
	usualLoad     = 5 * time.Second
	usualParallel = 8
	usualPrefill  = 100
	usualDecode   = 10
	mostQueued    = 1_000_000
)

// How requests slow each other down: each beside it makes a step of an answer so much longer, and reading a prompt so much. Measured with our
// engine, where eight answers together are 5.4 times as fast as one (docs/performance.md).
const (
	besideDecode  = 0.07
	besidePrefill = 0.5
)

// Estimate is how long a machine would take, in milliseconds.
type Estimate struct {
	Target  string  `json:"target"`
	Total   float64 `json:"total_ms"`
	Line    float64 `json:"line_ms"`
	Load    float64 `json:"load_ms"`
	Queue   float64 `json:"queue_ms"`
	Prefill float64 `json:"prefill_ms"`
	Decode  float64 `json:"decode_ms"`
	Cached  int     `json:"cached_tokens"`
	Queued  int     `json:"requests"` // that it had
}

// Of estimates how long a machine takes for a request.
func Of(c Candidate, r Request) Estimate {
	ms := func(d time.Duration) float64 { return float64(max(0, d)) / float64(time.Millisecond) }
	or := func(x, usual float64) float64 {
		if x > 0 && !math.IsInf(x, 0) {
			return x
		}
		return usual
	}
	parallel := cmp.Or(max(0, c.Parallel), usualParallel)
	queued := min(max(0, c.Queued), mostQueued)
	beside := float64(min(queued, parallel-1))
	answer := cmp.Or(max(0, r.Answer), UsualAnswer)
	cached := min(max(0, c.Cached), r.Prompt)
	e := Estimate{Target: c.Name, Line: ms(c.Delay), Cached: cached, Queued: queued}
	if !c.Loaded {
		e.Load = ms(cmp.Or(c.Load, usualLoad))
	}
	e.Prefill = 1000 * float64(r.Prompt-cached) / or(c.Prefill, usualPrefill) * (1 + besidePrefill*beside)
	e.Decode = 1000 * float64(answer) / or(c.Decode, usualDecode) * (1 + besideDecode*beside)
	if waiting := queued - parallel + 1; waiting > 0 {
		e.Queue = float64(waiting) / float64(parallel) * (e.Prefill + e.Decode)
	}
	e.Total = e.Line + e.Load + e.Queue + e.Prefill + e.Decode
	return e
}

// What counts as equally good: gates that choose by the same numbers at the same time are not all to choose the same machine.
const (
	nearShare = 0.05
	nearTime  = 20 // milliseconds
)

// Rank orders machines for a request, the best first. draw gives numbers from 0 up to 1, by which one of the equally good is chosen.
func Rank(list []Candidate, r Request, draw func() float64) []Estimate {
	out := make([]Estimate, len(list))
	for i, c := range list {
		out[i] = Of(c, r)
	}
	slices.SortStableFunc(out, func(a, b Estimate) int { return cmp.Compare(a.Total, b.Total) })
	near := 0
	for near < len(out) && out[near].Total <= out[0].Total*(1+nearShare)+nearTime {
		near++
	}
	if near > 1 {
		i := min(near-1, int(draw()*float64(near)))
		best := out[i]
		copy(out[1:i+1], out[:i])
		out[0] = best
	}
	return out
}
