package server

import (
	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/suite"
	"kindredgate/internal/suites"
)

// Limits of suites.
const (
	mostAtOnce      = 16 // requests of a run
	usualAtOnce     = 2
	mostSuiteModels = 50
	mostPictures    = 1000 // of a suite
)

// SuiteRunList is what GET /gate/suites tells.
type SuiteRunList struct {
	Runs []suite.Report `json:"runs"`
}

func (s *Server) listSuiteRuns(c *gin.Context) (any, error) {
	list, err := s.Suites.List(c.Request.Context())
	return SuiteRunList{list}, err
}

func (s *Server) showSuiteRun(c *gin.Context) (any, error) {
	return s.Suites.Report(c.Request.Context(), c.Param("id"))
}

// runSuite runs a suite and tells how far it has come, as server-sent events. Without a suite it is the one that ships.
func (s *Server) runSuite(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	text, given := o.String("suite")
	models, pictures := o.Strings("models"), o.Texts("pictures", mostPictures)
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
	if err := one.Attach(pictures); err != nil {
		return nil, exchange.InvalidParam("pictures", "%v", err)
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
	return nil, stream(s, c, s.Suites.Run(c.Request.Context(), callerOf(c), origin(c, dialect.Chat), one, models, n), &exchange.Started{}, events(func(e suites.Event) string { return data(e) }, done))
}
