package server

import (
	"cmp"
	"context"
	"iter"
	"maps"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/check"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// CheckList is what GET /gate/check tells.
type CheckList struct {
	Findings []check.Finding `json:"findings"`
}

func (s *Server) checkSelf(c *gin.Context) (any, error) {
	if s.Check == nil {
		return CheckList{[]check.Finding{}}, nil
	}
	found, err := s.Check(c.Request.Context())
	if err != nil {
		return nil, err
	}
	return CheckList{found}, nil
}

// pulse sends a few events with pauses between them, for a client to see whether they come so.
func (s *Server) pulse(c *gin.Context) (any, error) {
	type beat struct {
		Beat int `json:"beat"`
	}
	return nil, stream(s, c, beats(c.Request.Context()), &exchange.Started{}, events(func(n int) string { return data(beat{n}) }, done))
}

func beats(ctx context.Context) iter.Seq2[int, error] {
	return func(yield func(int, error) bool) {
		tick := time.NewTicker(check.PulsePause)
		defer tick.Stop()
		for n := range check.PulseCount {
			if !yield(n, nil) {
				return
			}
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	}
}

// refusedCodes count what kept requests from being taken, by the codes of errors, of which there are few. It is safe for concurrent use.
type refusedCodes struct {
	mu  sync.Mutex
	all map[string]check.Mishap
}

// longestMishap is how much is kept of what a stranger said, in bytes.
const longestMishap = 100

func (m *refusedCodes) note(c *gin.Context, e *exchange.Error) {
	if e.Code == "invalid_api_key" && c.GetHeader("Authorization") == "" && !strings.HasPrefix(c.Request.URL.Path, "/v1/") {
		return // a console that is not signed in yet
	}
	said := ""
	switch e.Code {
	case "unknown_host":
		said = c.Request.Host
	case "unknown_path":
		said = c.Request.URL.Path
	case "cross_origin", "origin_not_allowed":
		said = cmp.Or(c.GetHeader("Origin"), "of no name")
	case "invalid_api_key", "too_many_failures":
		said = c.ClientIP()
	default:
		return
	}
	said = keyring.Redact(said)
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.all == nil {
		m.all = map[string]check.Mishap{}
	}
	m.all[e.Code] = check.Mishap{Count: m.all[e.Code].Count + 1, Last: said[:min(len(said), longestMishap)], At: time.Now()}
}

// Mishaps are what kept requests from being taken since the start, by the codes of errors.
func (s *Server) Mishaps() map[string]check.Mishap {
	s.refusedCodes.mu.Lock()
	defer s.refusedCodes.mu.Unlock()
	return maps.Clone(s.refusedCodes.all)
}
