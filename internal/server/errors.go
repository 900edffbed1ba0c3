package server

import (
	"context"
	"errors"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// statuses is the one place that decides the HTTP status of a failure.
var statuses = map[exchange.Kind]int{
	exchange.Internal:         http.StatusInternalServerError,
	exchange.Invalid:          http.StatusBadRequest,
	exchange.Unauthenticated:  http.StatusUnauthorized,
	exchange.Forbidden:        http.StatusForbidden,
	exchange.NotFound:         http.StatusNotFound,
	exchange.MethodNotAllowed: http.StatusMethodNotAllowed,
	exchange.TooLarge:         http.StatusRequestEntityTooLarge,
	exchange.Limited:          http.StatusTooManyRequests,
	exchange.Unavailable:      http.StatusServiceUnavailable,
	exchange.Refused:          http.StatusFailedDependency, // no client sends it again, as it would after a status from 500 on
	exchange.Misdirected:      http.StatusMisdirectedRequest,
	exchange.Looped:           http.StatusLoopDetected,
	exchange.Canceled:         499, // nobody reads it; the log does
}

// types are the words of the standard envelope for a status.
var types = map[int]string{
	http.StatusUnauthorized:        "authentication_error",
	http.StatusForbidden:           "permission_error",
	http.StatusTooManyRequests:     "rate_limit_error",
	http.StatusInternalServerError: "server_error",
	http.StatusFailedDependency:    "server_error",
	http.StatusServiceUnavailable:  "server_error",
	http.StatusLoopDetected:        "server_error",
}

// envelope is how errors look in the OpenAI-compatible interface, and so everywhere here.
type envelope struct {
	Error errorBody `json:"error"`
}

type errorBody struct {
	Message string  `json:"message"`
	Type    string  `json:"type"`
	Param   *string `json:"param"`
	Code    string  `json:"code"`
}

// toError brings any failure into the form that is told to clients.
func toError(err error) *exchange.Error {
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return exchange.Errorf(exchange.TooLarge, "body_too_large", "the body is longer than %d bytes", tooLarge.Limit)
	case errors.Is(err, context.Canceled):
		return &exchange.Error{Kind: exchange.Canceled, Code: "canceled", Message: "the client went away", Err: err}
	}
	return exchange.AsError(err)
}

func envelopeOf(e *exchange.Error) envelope {
	body := errorBody{Message: keyring.Redact(e.Message), Type: types[statuses[e.Kind]], Code: e.Code}
	if body.Type == "" {
		body.Type = "invalid_request_error"
	}
	if e.Param != "" {
		body.Param = &e.Param
	}
	return envelope{body}
}

// fail answers with an error and ends the request.
func fail(c *gin.Context, err error) {
	e := toError(err)
	_ = c.Error(err) // for the log
	status := statuses[e.Kind]
	if status == http.StatusUnauthorized {
		c.Header("WWW-Authenticate", `Bearer realm="kindred gate"`)
	}
	if e.RetryAfter > 0 {
		c.Header("Retry-After", strconv.Itoa(int(math.Ceil(e.RetryAfter.Seconds()))))
	}
	limitHeaders(c)
	c.AbortWithStatusJSON(status, envelopeOf(e))
}

// notOffered are parts of the standard interface that the gate has nothing for, by how their paths begin.
var notOffered = []string{"assistants", "batches", "chatkit", "containers", "conversations", "evals", "files", "fine_tuning", "organization", "realtime", "threads", "uploads", "vector_stores", "videos"}

// noRoute answers for paths that do not exist. Most of them are a base URL with too little or too much in it.
func (s *Server) noRoute(c *gin.Context) (any, error) {
	path := c.Request.URL.Path
	if err := s.misplaced(c); err != nil {
		return nil, err
	}
	return nil, exchange.Errorf(exchange.NotFound, "unknown_path", "there is nothing at %s; the base URL for applications is %s", path, baseOf(c))
}

// misplaced is what is wrong with a path that applications ask for by mistake; nil if it is none such.
func (s *Server) misplaced(c *gin.Context) error {
	path := c.Request.URL.Path
	known := []string{"/models"}
	for _, style := range dialect.Styles {
		known = append(known, style.Path())
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(path, "/v1/"), "/")
	i := slices.IndexFunc(known, func(k string) bool { return strings.HasSuffix(strings.TrimSuffix(path, "/"), k) })
	switch {
	case path == "/v1", path == "/v1/":
		return exchange.Errorf(exchange.NotFound, "unknown_path", "there is nothing at %s; it is the base URL, and right as such: clients append what they want, such as %s, or /models for what is installed", path, dialect.Chat.Path())
	case strings.HasPrefix(path, "/v1/") && slices.Contains(notOffered, first):
		return exchange.Errorf(exchange.NotFound, "not_offered", "%s is not offered by this gate; what applications can use is in /openapi.json, below /v1", path)
	case i >= 0 && !strings.HasPrefix(path, "/gate/") && path != "/v1"+known[i]:
		return exchange.Errorf(exchange.NotFound, "unknown_path", "there is nothing at %s; did you mean /v1%s? The base URL for applications is %s", path, known[i], baseOf(c))
	}
	return nil
}
