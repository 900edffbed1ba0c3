// Package suites runs suites against the models of a gate, and keeps what they came to.
package suites

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"strings"
	"sync/atomic"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/ledger"
	"kindredgate/internal/loop"
	"kindredgate/internal/record"
	"kindredgate/internal/suite"
)

// Bounds of what is kept, and of what is listed.
const (
	mostRuns  = 500
	mostShown = 200
)

// Runs are those of a gate. A nil one has none.
type Runs struct {
	Gate    *gate.Gate
	Loops   *loop.Service
	Records kept.SuiteRuns
}

// Event is an event of running a suite: a cell that is complete or, at last, the report.
type Event struct {
	Done   int           `json:"done,omitempty"`
	All    int           `json:"all,omitempty"`
	Cell   *suite.Cell   `json:"cell,omitempty"`
	Report *suite.Report `json:"report,omitempty"`
}

// Ability is what a model came to in the suite that ships.
type Ability struct {
	At      time.Time `json:"at"`
	Run     string    `json:"run"`
	Passed  float64   `json:"passed"` // the sum of the rates of all cases
	Cases   int       `json:"cases"`
	Missing []string  `json:"missing"` // cases that were not always passed
}

// List are the last reports, the newest first.
func (r *Runs) List(ctx context.Context) ([]suite.Report, error) {
	runs, err := r.Records.SuiteRuns(ctx, mostShown)
	if err != nil {
		return nil, err
	}
	list := []suite.Report{}
	for _, one := range runs {
		report, err := reportOf(one)
		if err != nil {
			return nil, err
		}
		list = append(list, report)
	}
	return list, nil
}

// Report is the report of a run.
func (r *Runs) Report(ctx context.Context, id string) (report suite.Report, err error) {
	run, err := r.Records.SuiteRun(ctx, id)
	if errors.Is(err, kept.ErrMissing) {
		err = exchange.Errorf(exchange.NotFound, "suite_run_not_found", "no suite run %q is kept", id)
	}
	if err != nil {
		return report, err
	}
	return reportOf(run)
}

func reportOf(r kept.SuiteRun) (report suite.Report, err error) {
	if err := json.Unmarshal(r.Report, &report); err != nil {
		return report, fmt.Errorf("the suite run %s: %w: %w", r.ID, kept.ErrDamaged, err)
	}
	return report, nil
}

// Run runs a suite for a caller, and gives its events. Leaving the loop ends it.
func (r *Runs) Run(ctx context.Context, caller keyring.Key, from gate.Origin, one *suite.Suite, models []string, atOnce int) iter.Seq2[Event, error] {
	return func(yield func(Event, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		cells := make(chan Event)
		type outcome struct {
			report *suite.Report
			err    error
		}
		ended := make(chan outcome, 1)
		go func() {
			defer close(cells)
			defer func() {
				if p := recover(); p != nil {
					ended <- outcome{err: exchange.Panicked(p)}
				}
			}()
			report, err := one.Run(ctx, models, atOnce, r.asking(caller, from), func(done, all int, cell suite.Cell) {
				select {
				case cells <- Event{Done: done, All: all, Cell: &cell}:
				case <-ctx.Done():
				}
			})
			ended <- outcome{report, err}
		}()
		defer func() {
			cancel()
			for range cells { //nolint:revive // until it has ended
			}
		}()
		for e := range cells {
			if !yield(e, nil) {
				return
			}
		}
		o := <-ended
		if o.err == nil {
			o.err = r.keep(ctx, o.report)
		}
		if o.err != nil {
			yield(Event{}, o.err)
			return
		}
		yield(Event{Report: o.report}, nil)
	}
}

// keep keeps a report, and gives it an id.
func (r *Runs) keep(ctx context.Context, report *suite.Report) error {
	report.ID = strings.ToLower(rand.Text()[:12])
	doc, err := json.Marshal(report)
	if err != nil {
		return err
	}
	return r.Records.PutSuiteRun(ctx, kept.SuiteRun{ID: report.ID, At: report.Begun, Suite: report.Suite, Digest: report.Digest, Report: doc}, mostRuns)
}

// asking asks models for a suite: each request is an exchange, which waits for those of applications.
func (r *Runs) asking(caller keyring.Key, from gate.Origin) suite.Ask {
	var n atomic.Int64
	return func(ctx context.Context, req exchange.Request) (a suite.Answer, err error) {
		part := from.Part(int(n.Add(1) - 1))
		part.Standing, part.Patient = nil, true
		x, err := r.Loops.Begin(ctx, caller, part, &req, loop.How{})
		if err != nil {
			return a, err
		}
		a.Exchange = part.ID
		var heard []exchange.Event
		for event, err := range x.Events() {
			if err != nil {
				return a, err
			}
			heard = append(heard, event)
		}
		of := x.Record()
		a.Tokens, a.FirstToken, a.Took = of.CompletionTokens, record.Duration(of.FirstToken-of.Queue-of.Load), record.Duration(of.Took)
		for _, one := range ledger.Answers(heard)[:1] {
			a.Text, a.Calls = one.Text, one.Calls
		}
		return a, nil
	}
}

// Abilities are what models came to last in the suite that ships, by the names that were asked.
func (r *Runs) Abilities(ctx context.Context) (map[string]Ability, error) {
	shipped, err := suite.Parse(suite.Abilities)
	if err != nil {
		return nil, err
	}
	out := map[string]Ability{}
	if r == nil {
		return out, nil
	}
	runs, err := r.Records.SuiteRuns(ctx, mostShown)
	if err != nil {
		return nil, err
	}
	for _, run := range runs {
		if run.Digest != shipped.Digest {
			continue
		}
		report, err := reportOf(run)
		if err != nil {
			return nil, err
		}
		for _, m := range report.Models {
			if _, newer := out[m]; newer {
				continue
			}
			a := Ability{At: report.Begun, Run: report.ID, Missing: []string{}}
			a.Passed, a.Cases = report.Score(m)
			for _, c := range report.Below(1) {
				if c.Model == m {
					a.Missing = append(a.Missing, c.Case)
				}
			}
			out[m] = a
		}
	}
	return out, nil
}
