// Package server is the gate's HTTP side: routes, who may pass, how answers and errors are written.
package server

import (
	"context"
	"crypto/tls"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/answers"
	"kindredgate/internal/check"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/ledger"
	"kindredgate/internal/loop"
	"kindredgate/internal/suites"
	"kindredgate/internal/tool"
)

// Options are what a server is made of. Gate, Answers and Console must be set.
type Options struct {
	Gate    *gate.Gate
	Loops   *loop.Service
	Tools   *tool.Set
	Answers *answers.Service
	Ledger  *ledger.Writer
	Lately  *ledger.Lately // nil for nothing
	// Contents has what was said, where that is recorded.
	Contents *ledger.Recorder
	// Suites are those that were run, and runs others.
	Suites   *suites.Runs
	Prices   func() Prices
	Metrics  http.Handler // nil for none
	Console  fs.FS        // the built console, with index.html at its root
	Log      *slog.Logger
	Version  string
	Exposure Exposure
	// Settings tells how the gate is set up; nil for a gate that has no configuration.
	Settings func() Settings
	// Check looks for what is wrong with the gate; nil for nothing.
	Check func(context.Context) ([]check.Finding, error)
	// Joining is how machines join the gate; nil if none can.
	Joining *Joining
	// Peers are the gates that share what they know with this one; nil if none do.
	Peers *Peers
	// Silence is how long a stream is silent before a comment line shows that it lives; 10 seconds if zero.
	Silence time.Duration
	// Patience is how long a client may leave a body unfinished, or an answer untaken, without any of it moving; 30 seconds if
	// zero.
	Patience time.Duration
	// Bodies is how many bytes of request bodies are held at once; 256 MiB if zero.
	Bodies int64
	// Grace is how long running answers may go on when the server stops; [UsualGrace] if zero.
	Grace time.Duration
}

// Exposure is whom the gate lets in, and what it is called. It can change while the gate runs.
type Exposure struct {
	// Open lets every request use the models, with any key or none. Managing the gate needs the owner key all
	// the same. It is for a gate that only this computer can reach.
	Open bool
	// HostNames are names that the gate may be called by, beside its addresses.
	HostNames []string
	// BrowserOrigins are the origins of pages that may use the models from a browser; [AnyOrigin] stands for all.
	BrowserOrigins []string
	// BaseURL is what applications are told, in the place of the first address.
	BaseURL string
	// TrustedProxies are addresses and ranges whose word is taken for where a request comes from.
	TrustedProxies []string
}

// Server serves one gate.
type Server struct {
	Options
	addresses    []net.Addr
	router       atomic.Pointer[router]
	refused      refusals
	intake       *intake
	failed       failures
	refusedCodes refusedCodes
	started      time.Time
	ending       context.Context // cancelled when the server begins to stop
}

// router is what follows from an exposure. A request keeps the one that it came in by.
type router struct {
	Exposure
	engine  *gin.Engine
	handler http.Handler // the engine, with long JSON compressed
	routes  []route
	hosts   *hosts
	origins *http.CrossOriginProtection
	base    string // the address for applications, such as http://127.0.0.1:7717/v1
	prefix  string // of paths, that a proxy may leave in them; "" for none
}

// routerKey is where a request's context has the router that it came in by.
type routerKey struct{}

// routerOf is the router that a request came in by, whatever becomes of the exposure meanwhile.
func routerOf(c *gin.Context) *router { return c.Request.Context().Value(routerKey{}).(*router) }

// maxBody is the longest request body that is read, in bytes.
const maxBody = 16 << 20

// New makes the server for a gate that listens on addresses. Programs of this computer use the first one.
func New(o Options, addresses ...net.Addr) *Server {
	if o.Silence == 0 {
		o.Silence = 10 * time.Second
	}
	if o.Patience == 0 {
		o.Patience = 30 * time.Second
	}
	if o.Grace == 0 {
		o.Grace = UsualGrace
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s := &Server{Options: o, intake: newIntake(o.Bodies), addresses: addresses, started: time.Now(), ending: context.Background()}
	s.Expose(o.Exposure)
	return s
}

// Expose changes whom the gate lets in, from the next request on.
func (s *Server) Expose(e Exposure) {
	f := &router{Exposure: e, hosts: newHosts(s.addresses, e.HostNames), origins: http.NewCrossOriginProtection()}
	for _, origin := range e.BrowserOrigins {
		if origin == AnyOrigin {
			continue // a page without a key is let in from no other origin but those that are named
		}
		if err := f.origins.AddTrustedOrigin(origin); err != nil {
			s.Log.Warn("an origin for browsers cannot be used", "origin", origin, "error", err.Error())
		}
	}
	f.base = "http://" + f.hosts.address + "/v1"
	if u, err := url.Parse(e.BaseURL); err == nil && e.BaseURL != "" {
		f.base = e.BaseURL
		f.hosts.names = append(f.hosts.names, strings.ToLower(u.Hostname()))
		f.prefix = strings.TrimSuffix(u.Path, "/v1")
	}
	f.routes = s.routes()
	f.engine = s.engine(f.routes, e.TrustedProxies)
	f.handler = compressed(f.engine)
	s.router.Store(f)
}

// BaseURL is what an application is given.
func (s *Server) BaseURL() string { return s.router.Load().base }

// forwardedFor is the header in which proxies say for whom they ask.
const forwardedFor = "X-Forwarded-For"

// ServeHTTP answers one request. HEAD is GET without the body, which net/http leaves out by itself.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodHead {
		get := *r
		get.Method = http.MethodGet
		r = &get
	}
	// A proxy may put what it says into a line of its own, behind the one that it was sent: what counts is the end of all of them.
	if lines := r.Header.Values(forwardedFor); len(lines) > 1 {
		r.Header.Set(forwardedFor, strings.Join(lines, ", "))
	}
	f := s.router.Load()
	r = r.WithContext(context.WithValue(r.Context(), routerKey{}, f))
	if rest, ok := strings.CutPrefix(r.URL.Path, f.prefix); ok && f.prefix != "" && (rest == "" || rest[0] == '/') {
		if rest == "" {
			http.Redirect(w, r, f.prefix+"/", http.StatusPermanentRedirect) // what the console asks for is below that
			return
		}
		http.StripPrefix(f.prefix, http.HandlerFunc(f.find)).ServeHTTP(w, r)
		return
	}
	f.find(w, r)
}

// find has a request answered by its route.
func (f *router) find(w http.ResponseWriter, r *http.Request) {
	u := *r.URL
	u.RawPath = slashed(f.routes, r.Method, u.EscapedPath())
	found := *r
	found.URL = &u
	f.handler.ServeHTTP(w, &found)
}

// UsualGrace is how long running answers may go on when a gate stops.
const UsualGrace = 10 * time.Second

// errStopping is why answers end that are still running when the grace is over.
var errStopping = exchange.Errorf(exchange.Unavailable, "shutting_down", "the gate is shutting down; the answer is not complete")

// Listener is where the server takes connections.
type Listener struct {
	Listener net.Listener
	TLS      *tls.Config // nil for none; the same for all that have one
	// OnlyApplications keeps managing, metrics and the console away from it.
	OnlyApplications bool
}

// listenerKey is where a connection's context says by which listener it came.
type listenerKey struct{}

// headerPatience is how long a connection may take for the header of a request.
const headerPatience = 10 * time.Second

// longHeader is how long the header of a request may be, in bytes.
const longHeader = 64 << 10

// Serve answers requests from l until ctx is done. Then answers that run may go on for the grace; what is not
// finished by then ends with an error event. It returns when every request has ended.
func (s *Server) Serve(ctx context.Context, listeners ...Listener) error {
	base, cut := context.WithCancelCause(context.Background())
	defer cut(nil)
	ending, end := context.WithCancel(context.Background())
	defer end()
	s.ending = ending
	h := &http.Server{
		Handler:           s,
		MaxHeaderBytes:    longHeader,
		ReadHeaderTimeout: min(headerPatience, s.Patience),
		IdleTimeout:       2 * time.Minute,
		BaseContext: func(l net.Listener) context.Context {
			for _, e := range listeners {
				if e.Listener.Addr() == l.Addr() && e.OnlyApplications {
					return context.WithValue(base, listenerKey{}, e)
				}
			}
			return base
		},
		ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelWarn),
	}
	served := make(chan error, len(listeners))
	for _, e := range listeners {
		if e.TLS != nil {
			// The protocols are named here, since what comes first of Serve and ServeTLS decides whether there is HTTP/2.
			h.TLSConfig = e.TLS.Clone()
			h.TLSConfig.NextProtos = append([]string{"h2", "http/1.1"}, e.TLS.NextProtos...)
		}
	}
	for _, e := range listeners {
		go func() {
			if e.TLS == nil {
				served <- h.Serve(e.Listener)
			} else {
				served <- h.ServeTLS(e.Listener, "", "")
			}
		}()
	}
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
	}
	s.Log.Info("stopping: running answers may finish", "grace", s.Grace.String())
	end()
	graceful, cancel := context.WithTimeout(context.Background(), s.Grace)
	defer cancel()
	err := h.Shutdown(graceful)
	if errors.Is(err, context.DeadlineExceeded) {
		cut(errStopping)
		// What was cancelled has only its last event to write.
		last, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if err = h.Shutdown(last); err != nil {
			err = h.Close()
		}
	}
	for range listeners {
		<-served
	}
	return err
}
