package server

import (
	"crypto/rand"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
)

// Names under which middleware leaves things in a request's context.
const (
	idKey       = "id"
	callerKey   = "caller"
	progressKey = "progress"
	standingKey = "standing"
	bodyKey     = "body"
	begunKey    = "begun"
)

// identify gives the request its id.
func (s *Server) identify(c *gin.Context) {
	id := strings.ToLower(rand.Text())
	c.Set(idKey, id)
	c.Header("X-Request-Id", id)
	c.Header("X-Content-Type-Options", "nosniff")
	progress := &exchange.Progress{}
	c.Set(progressKey, progress)
	c.Request = c.Request.WithContext(exchange.WithProgress(c.Request.Context(), progress))
	c.Next()
}

// redaction is what is taken out of what is shown and logged.
func (s *Server) redaction() ledger.Redaction {
	if s.Contents == nil {
		return ledger.Redaction{}
	}
	return s.Contents.Redaction()
}

// progressOf is what the request waits for, if that was said.
func progressOf(c *gin.Context) string {
	if p, ok := c.Get(progressKey); ok {
		return p.(*exchange.Progress).Said()
	}
	return ""
}

// log writes a line when a request was refused or has failed. Exchanges with a model have their own line, those that
// the client left included.
func (s *Server) log(c *gin.Context) {
	begun := time.Now()
	c.Next()
	attrs := []any{"id", c.GetString(idKey), "method", c.Request.Method, "path", keyring.Redact(c.Request.URL.Path), "status", c.Writer.Status(), "took", time.Since(begun).Round(time.Microsecond).String()}
	err := c.Errors.Last()
	if err == nil {
		s.Log.Debug("request", attrs...)
		return
	}
	e := toError(err.Err)
	s.noteRefused(c, e)
	clean := s.redaction()
	s.refused.note(c, e, clean)
	s.refusedCodes.note(c, e)
	attrs = append(attrs, "code", e.Code, "error", clean.Text(e.Error()))
	switch e.Kind {
	case exchange.Internal:
		s.Log.Error("request failed", attrs...)
	case exchange.Canceled:
		s.Log.Debug("client left", attrs...)
	default:
		s.Log.Info("request refused", attrs...)
	}
}

// noteRefused has a request noted that was to be an exchange and did not become one, if it came with a key: strangers leave no traces but
// in the log.
func (s *Server) noteRefused(c *gin.Context, err error) {
	caller, known := c.Get(callerKey)
	_, begun := c.Get(begunKey)
	style, asks := styleOf(c.FullPath())
	if known && asks && !begun && c.Request.Method == http.MethodPost {
		s.Gate.Refuse(caller.(keyring.Key), origin(c, style), err)
	}
}

// styleOf is the style of a path in which models are asked.
func styleOf(path string) (dialect.Style, bool) {
	i := slices.IndexFunc(dialect.Styles, func(style dialect.Style) bool { return path == "/v1"+style.Path() })
	if i < 0 {
		return "", false
	}
	return dialect.Styles[i], true
}

// Logged writes a gate's exchanges to a log, one line each when they end. Those that were refused are left to the line of
// their request.
type Logged struct{ Log *slog.Logger }

// Began does nothing.
func (Logged) Began(record.Record) {}

// Ended writes the line.
func (l Logged) Ended(r record.Record) {
	if !r.Asked() {
		return
	}
	var attrs []any
	for _, f := range record.Fields {
		if f.Log && (!f.Empty(&r) || f.Kind == record.Tokens || f.Kind == record.Millis) {
			attrs = append(attrs, f.Name, f.Value(&r))
		}
	}
	if r.Err != nil {
		l.Log.Warn("exchange ended early", append(attrs, "error", keyring.Redact(r.Err.Error()))...)
		return
	}
	l.Log.Info("exchange", attrs...)
}

// survive turns a panic into an answer, so that it ends one request and not the gate.
func (s *Server) survive(c *gin.Context) {
	defer func() {
		switch p := recover(); p {
		case nil:
		case http.ErrAbortHandler:
			panic(p)
		default:
			err := exchange.Panicked(p)
			if c.Writer.Written() {
				_ = c.Error(err)
				c.Abort()
				return
			}
			fail(c, err)
		}
	}()
	c.Next()
}
