package server

import (
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
)

// Names under which middleware leaves things in a request's context.
const (
	idKey       = "id"
	callerKey   = "caller"
	progressKey = "progress"
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
	attrs := []any{"id", c.GetString(idKey), "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "took", time.Since(begun).Round(time.Microsecond).String()}
	err := c.Errors.Last()
	if err == nil {
		s.Log.Debug("request", attrs...)
		return
	}
	e := toError(err.Err)
	attrs = append(attrs, "code", e.Code, "error", e.Error())
	switch e.Kind {
	case exchange.Internal:
		s.Log.Error("request failed", attrs...)
	case exchange.Canceled:
		s.Log.Debug("client left", attrs...)
	default:
		s.Log.Info("request refused", attrs...)
	}
}

// Logged writes a gate's exchanges to a log, one line each when they end. Those that were refused are left to the line of
// their request.
type Logged struct{ Log *slog.Logger }

// Began does nothing.
func (Logged) Began(gate.Record) {}

// Ended writes the line.
func (l Logged) Ended(r gate.Record) {
	if r.Answered == "" {
		return
	}
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	attrs := []any{"id", r.ID, "key", r.Key.Label, "model", r.Asked, "prompt_tokens", r.PromptTokens, "cached_tokens", r.CachedTokens, "completion_tokens", r.CompletionTokens,
		"queue_ms", ms(r.Timings.Queue), "load_ms", ms(r.Timings.Load), "prefill_ms", ms(r.Timings.Prefill), "first_token_ms", ms(r.FirstToken), "took_ms", ms(r.Duration)}
	if r.ToolCalls > 0 {
		attrs = append(attrs, "tool_calls", r.ToolCalls)
	}
	if r.Drafted > 0 {
		attrs = append(attrs, "drafted_tokens", r.Drafted, "accepted_tokens", r.Accepted)
	}
	if r.Malformed > 0 {
		attrs = append(attrs, "malformed_tool_calls", r.Malformed)
	}
	if r.Err != nil {
		l.Log.Warn("exchange ended early", append(attrs, "error", r.Err.Error())...)
		return
	}
	l.Log.Info("exchange", append(attrs, "finish", string(r.Reason))...)
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

// hosts knows the names and addresses that the gate may be called by.
type hosts struct {
	address string // host:port to show to people
	any     bool   // listening on all interfaces
	names   []string
	ip      net.IP
}

func newHosts(addr net.Addr, names []string) *hosts {
	h := &hosts{address: addr.String(), names: []string{"localhost"}}
	for _, n := range names {
		h.names = append(h.names, strings.ToLower(n))
	}
	tcp, ok := addr.(*net.TCPAddr)
	if !ok {
		return h
	}
	h.ip = tcp.IP
	if h.any = tcp.IP.IsUnspecified(); h.any {
		h.address = net.JoinHostPort("127.0.0.1", fmt.Sprint(tcp.Port))
	}
	if !tcp.IP.IsLoopback() {
		if name, err := os.Hostname(); err == nil {
			name = strings.ToLower(name)
			h.names = append(h.names, name, name+".local")
		}
	}
	return h
}

// own reports whether a Host header names this gate. A web page of a stranger whose name was made to point here
// (DNS rebinding) sends that name; an address cannot be forged in this way, but must be the gate's own too.
func (h *hosts) own(header string) bool {
	host, _, err := net.SplitHostPort(header)
	if err != nil {
		host = strings.Trim(header, "[]")
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if slices.Contains(h.names, host) {
		return true
	}
	ip := net.ParseIP(host)
	switch {
	case ip == nil:
		return false
	case ip.Equal(h.ip), ip.IsLoopback():
		return true
	case !h.any:
		return false
	}
	addrs, err := net.InterfaceAddrs()
	return err == nil && slices.ContainsFunc(addrs, func(a net.Addr) bool {
		n, ok := a.(*net.IPNet)
		return ok && n.IP.Equal(ip)
	})
}

func (s *Server) checkHost(c *gin.Context) {
	if !s.hosts.own(c.Request.Host) {
		fail(c, exchange.Errorf(exchange.Misdirected, "unknown_host",
			"the request is for host %q, which is not an address of this gate (%s); if it should be, add it to host_names in the configuration", c.Request.Host, s.hosts.address))
	}
}

// sessionCookie is the name of the console's cookie.
const sessionCookie = "kindred_session"

// caller finds out who asks: by the key, or by the session of a console.
func (s *Server) caller(c *gin.Context) (keyring.Key, error) {
	header := c.GetHeader("Authorization")
	if header == "" {
		if token, err := c.Cookie(sessionCookie); err == nil {
			if err := s.origins.Check(c.Request); err != nil {
				return keyring.Key{}, exchange.Errorf(exchange.Forbidden, "cross_origin", "a page of another origin used the console's session")
			}
			if err := s.Gate.Keys.CheckSession(c.Request.Context(), token); err != nil {
				return keyring.Key{}, err
			}
			return keyring.Key{Label: "console", Owner: true}, nil
		}
	}
	scheme, secret, _ := strings.Cut(header, " ")
	if header != "" && !strings.EqualFold(scheme, "Bearer") {
		return keyring.Key{}, exchange.Errorf(exchange.Unauthenticated, "invalid_api_key", "the Authorization header must be \"Bearer kg_…\"%s", insteadOf(scheme))
	}
	return s.Gate.Keys.Check(c.Request.Context(), strings.TrimSpace(secret))
}

// insteadOf names a scheme of authorization that is not the one that is wanted. What may be a key is not repeated.
func insteadOf(scheme string) string {
	if i := slices.IndexFunc([]string{"Basic", "Digest", "Negotiate", "Token", "ApiKey"}, func(s string) bool { return strings.EqualFold(s, scheme) }); i >= 0 {
		return fmt.Sprintf(", not %q", scheme)
	}
	return ": the word Bearer, a space, and the key"
}

// admit lets in who may use models.
func (s *Server) admit(c *gin.Context) {
	k, err := s.caller(c)
	var e *exchange.Error
	if err != nil && s.Open && errors.As(err, &e) && e.Kind == exchange.Unauthenticated {
		k, err = keyring.Key{Label: "anyone"}, nil
	}
	if err != nil {
		fail(c, err)
		return
	}
	c.Set(callerKey, k)
}

// ownerOnly lets in who may manage the gate.
func (s *Server) ownerOnly(c *gin.Context) {
	k, err := s.caller(c)
	if err == nil && !k.Owner {
		err = exchange.Errorf(exchange.Forbidden, "owner_key_needed", "%q is a key for applications; managing the gate needs the owner key", k.Label)
	}
	if err != nil {
		fail(c, err)
		return
	}
	c.Set(callerKey, k)
}

// callerOf is who asks, after admit or ownerOnly.
func callerOf(c *gin.Context) keyring.Key {
	return c.MustGet(callerKey).(keyring.Key)
}
