package suite

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"

	"kindredgate/internal/exchange"
)

// Report is what a suite came to.
type Report struct {
	ID      string    `json:"id,omitempty"`
	Suite   string    `json:"suite"`
	Digest  string    `json:"digest"`
	Begun   time.Time `json:"begun"`
	TookMS  int64     `json:"took_ms"`
	Samples int       `json:"samples"` // of each case
	Models  []string  `json:"models"`
	Cases   []string  `json:"cases"`
	Cells   []Cell    `json:"cells"` // for each model, each case, in these orders
	Parts   []Part    `json:"parts,omitempty"`
}

// Part is a group of cases that follow one another.
type Part struct {
	Name  string   `json:"name"`
	About string   `json:"about,omitempty"`
	Cases []string `json:"cases"`
}

// parts are the groups of a suite's cases, in the order in which they begin; nil if it has none.
func (s *Suite) parts() (list []Part) {
	for _, c := range s.Cases {
		if len(s.Parts) == 0 {
			return nil
		}
		if n := len(list); n == 0 || list[n-1].Name != c.Part {
			list = append(list, Part{Name: c.Part, About: s.Parts[c.Part]})
		}
		last := &list[len(list)-1]
		last.Cases = append(last.Cases, c.Name)
	}
	return list
}

// Cell is what a model came to in a case.
type Cell struct {
	Model  string `json:"model"`
	Case   string `json:"case"`
	Passed int    `json:"passed"`
	Asked  int    `json:"asked"`
	// Low and High enclose the true rate with a confidence of 95 percent (Wilson 1927).
	Low      float64   `json:"low"`
	High     float64   `json:"high"`
	Tokens   int       `json:"tokens"`  // of all answers
	TookMS   int64     `json:"took_ms"` // of all answers
	Failures []Failure `json:"failures"`
}

// Failure is an answer that did not meet what was expected.
type Failure struct {
	Sample   int    `json:"sample"` // counted from 1
	Seed     int64  `json:"seed"`
	What     string `json:"what"` // the expectation, or error
	Why      string `json:"why"`
	Exchange string `json:"exchange,omitempty"`
}

// Rate is the share that passed; of none it is 0.
func (c Cell) Rate() float64 {
	if c.Asked == 0 {
		return 0
	}
	return float64(c.Passed) / float64(c.Asked)
}

// interval encloses a rate.
func interval(passed, n int) (low, high float64) {
	if n == 0 {
		return 0, 1
	}
	const z = 1.959964 // of the normal distribution, for 95 percent
	p, count := float64(passed)/float64(n), float64(n)
	middle := (p + z*z/(2*count)) / (1 + z*z/count)
	reach := z / (1 + z*z/count) * math.Sqrt(p*(1-p)/count+z*z/(4*count*count))
	return max(0, middle-reach), min(1, middle+reach)
}

// Run asks all models all cases, so many at once, and tells of each cell that is whole. It ends early only if the context does.
func (s *Suite) Run(ctx context.Context, models []string, atOnce int, ask Ask, told func(done, all int, c Cell)) (*Report, error) {
	if len(models) == 0 {
		models = s.Models
	}
	if len(models) == 0 {
		return nil, exchange.InvalidParam("models", "no model is named: name some, or put models into the suite")
	}
	r := &Report{Suite: s.Title, Digest: s.Digest, Begun: time.Now().UTC(), Samples: s.Samples, Models: models, Parts: s.parts()}
	type job struct {
		cell, sample int
		of           Case
		model        string
	}
	var jobs []job
	for _, m := range models {
		for _, c := range s.Cases {
			for n := range s.Samples {
				jobs = append(jobs, job{len(r.Cells), n, c, m})
			}
			r.Cells = append(r.Cells, Cell{Model: m, Case: c.Name, Failures: []Failure{}})
		}
	}
	for _, c := range s.Cases {
		r.Cases = append(r.Cases, c.Name)
	}
	var mu sync.Mutex
	whole := 0
	queue := make(chan job)
	var workers sync.WaitGroup
	for range max(1, min(atOnce, len(jobs))) {
		workers.Go(func() {
			for j := range queue {
				a, failure := s.try(ctx, j.of, j.model, s.Seed+int64(j.sample), ask)
				mu.Lock()
				c := &r.Cells[j.cell]
				c.Asked++
				c.Tokens += a.Tokens
				c.TookMS += a.Took.Milliseconds()
				if failure == nil {
					c.Passed++
				} else {
					failure.Sample, failure.Exchange = j.sample+1, a.Exchange
					c.Failures = append(c.Failures, *failure)
				}
				if c.Asked == s.Samples {
					c.Low, c.High = interval(c.Passed, c.Asked)
					whole++
					if told != nil {
						told(whole, len(r.Cells), *c)
					}
				}
				mu.Unlock()
			}
		})
	}
	for _, j := range jobs {
		select {
		case queue <- j:
		case <-ctx.Done():
		}
	}
	close(queue)
	workers.Wait()
	r.TookMS = time.Since(r.Begun).Milliseconds()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	return r, nil
}

// try asks once. A panic is a failure like any other.
func (s *Suite) try(ctx context.Context, c Case, model string, seed int64, ask Ask) (a Answer, failure *Failure) {
	defer func() {
		if p := recover(); p != nil {
			failure = &Failure{Seed: seed, What: "error", Why: fmt.Sprint("panic: ", p)}
		}
	}()
	a, err := ask(ctx, s.Request(c, model, seed))
	if err != nil {
		return a, &Failure{Seed: seed, What: "error", Why: exchange.AsError(err).Message}
	}
	what, why, err := c.Answer.unmet(ctx, c, a, ask)
	if err != nil {
		return a, &Failure{Seed: seed, What: "error", Why: err.Error()}
	}
	if what != "" {
		return a, &Failure{Seed: seed, What: what, Why: why}
	}
	return a, nil
}

// Score is how many cells a model passed entirely or in part: the sum of its rates, and of how many.
func (r *Report) Score(model string) (rate float64, cells int) {
	for _, c := range r.Cells {
		if c.Model == model {
			rate += c.Rate()
			cells++
		}
	}
	return rate, cells
}

// Below lists the cells whose rate is below a share.
func (r *Report) Below(share float64) (list []Cell) {
	for _, c := range r.Cells {
		if c.Rate() < share {
			list = append(list, c)
		}
	}
	return list
}
