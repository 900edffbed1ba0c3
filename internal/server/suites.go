package server

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

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
	"kindredgate/internal/suite"
)

// Limits of suites.
const (
	mostSuiteRuns   = 500 // that are kept
	mostAtOnce      = 16  // requests of a run
	usualAtOnce     = 2
	mostShownRuns   = 200
	mostSuiteModels = 50
)

// SuiteEvent is an event of running a suite: a cell that is whole or, at last, the report.
type SuiteEvent struct {
	Done   int           `json:"done,omitempty"`
	All    int           `json:"all,omitempty"`
	Cell   *suite.Cell   `json:"cell,omitempty"`
	Report *suite.Report `json:"report,omitempty"`
}

// SuiteRunList is what GET /gate/suites tells.
type SuiteRunList struct {
	Runs []suite.Report `json:"runs"`
}

func (s *Server) listSuiteRuns(c *gin.Context) (any, error) {
	runs, err := s.SuiteRuns.SuiteRuns(c.Request.Context(), mostShownRuns)
	if err != nil {
		return nil, err
	}
	list := SuiteRunList{[]suite.Report{}}
	for _, r := range runs {
		report, err := reportOf(r)
		if err != nil {
			return nil, err
		}
		list.Runs = append(list.Runs, report)
	}
	return list, nil
}

func reportOf(r kept.SuiteRun) (report suite.Report, err error) {
	if err := json.Unmarshal(r.Report, &report); err != nil {
		return report, fmt.Errorf("the suite run %s: %w: %w", r.ID, kept.ErrDamaged, err)
	}
	return report, nil
}

func (s *Server) showSuiteRun(c *gin.Context) (any, error) {
	r, err := s.SuiteRuns.SuiteRun(c.Request.Context(), c.Param("id"))
	if errors.Is(err, kept.ErrMissing) {
		err = exchange.Errorf(exchange.NotFound, "suite_run_not_found", "no suite run %q is kept", c.Param("id"))
	}
	if err != nil {
		return nil, err
	}
	report, err := reportOf(r)
	if err != nil {
		return nil, err
	}
	return report, nil
}

// runSuite runs a suite and tells how far it has come, as server-sent events. Without a suite it is the one that ships.
func (s *Server) runSuite(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	text, given := o.String("suite")
	models := o.Strings("models")
	samples, atOnce := o.Int("samples", 1, 100), o.Int("at_once", 1, mostAtOnce)
	if len(models) > mostSuiteModels {
		o.Fail("models", "models has %d names; %d are possible", len(models), mostSuiteModels)
	}
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	raw := suite.Abilities
	if given {
		raw = []byte(text)
	}
	one, err := suite.Parse(raw)
	if err != nil {
		return nil, exchange.InvalidParam("suite", "the suite cannot be used: %v", err)
	}
	if samples != nil {
		one.Samples = int(*samples)
	}
	if len(models) == 0 {
		models = one.Models
	}
	for _, m := range models {
		if _, err := s.Gate.Offer(c.Request.Context(), callerOf(c), m); err != nil {
			return nil, err // before anything was asked
		}
	}
	n := usualAtOnce
	if atOnce != nil {
		n = int(*atOnce)
	}
	return nil, stream(s, c, s.running(c.Request.Context(), callerOf(c), origin(c, dialect.Chat), one, models, n), &exchange.Started{}, events(func(e SuiteEvent) string { return data(e) }, done))
}

// running is the events of a suite. Leaving the loop ends it.
func (s *Server) running(ctx context.Context, caller keyring.Key, from gate.Origin, one *suite.Suite, models []string, atOnce int) iter.Seq2[SuiteEvent, error] {
	return func(yield func(SuiteEvent, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		cells := make(chan SuiteEvent)
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
			report, err := one.Run(ctx, models, atOnce, s.asking(caller, from), func(done, all int, cell suite.Cell) {
				select {
				case cells <- SuiteEvent{Done: done, All: all, Cell: &cell}:
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
			o.err = s.keepRun(ctx, o.report)
		}
		if o.err != nil {
			yield(SuiteEvent{}, o.err)
			return
		}
		yield(SuiteEvent{Report: o.report}, nil)
	}
}

// keepRun keeps a report, and gives it an id.
func (s *Server) keepRun(ctx context.Context, r *suite.Report) error {
	r.ID = strings.ToLower(rand.Text()[:12])
	doc, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.SuiteRuns.PutSuiteRun(ctx, kept.SuiteRun{ID: r.ID, At: r.Begun, Suite: r.Suite, Digest: r.Digest, Report: doc}, mostSuiteRuns)
}

// asking asks models for a suite: each request is an exchange, which waits for those of applications.
func (s *Server) asking(caller keyring.Key, from gate.Origin) suite.Ask {
	var n atomic.Int64
	return func(ctx context.Context, req exchange.Request) (a suite.Answer, err error) {
		part := from.Part(int(n.Add(1) - 1))
		part.Standing, part.Patient = nil, true
		x, err := s.Gate.Begin(ctx, caller, part, &req)
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
		r := x.Record()
		a.Tokens, a.FirstToken, a.Took = r.CompletionTokens, record.Duration(r.FirstToken-r.Queue-r.Load), record.Duration(r.Took)
		for _, one := range ledger.Answers(heard)[:1] {
			a.Text, a.Calls = one.Text, one.Calls
		}
		return a, nil
	}
}

// Ability is what a model came to in the suite that ships.
type Ability struct {
	At      time.Time `json:"at"`
	Run     string    `json:"run"`
	Passed  float64   `json:"passed"` // the sum of the rates of all cases
	Cases   int       `json:"cases"`
	Missing []string  `json:"missing"` // cases that were not always passed
}

// abilities are what models came to last in the suite that ships, by the names that were asked.
func (s *Server) abilities(ctx context.Context) (map[string]Ability, error) {
	shipped, err := suite.Parse(suite.Abilities)
	if err != nil {
		return nil, err
	}
	out := map[string]Ability{}
	if s.SuiteRuns == nil {
		return out, nil
	}
	runs, err := s.SuiteRuns.SuiteRuns(ctx, mostShownRuns)
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
