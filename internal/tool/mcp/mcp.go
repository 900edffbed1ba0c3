// Package mcp has tools of servers that speak the Model Context Protocol: processes that the gate starts and talks to over their standard input
// and output, and servers that are reached by streamable HTTP.
//
// A server is started when it is first needed, stopped when it is idle, and started again, after growing pauses, when it has failed. What it
// asks of its client beyond the calling of tools (sampling, elicitation, roots) is declined.
package mcp

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/modelcontextprotocol/go-sdk/jsonrpc"
	sdk "github.com/modelcontextprotocol/go-sdk/mcp"

	"kindredgate/internal/exchange"
	"kindredgate/internal/tool"
	"kindredgate/internal/tool/web"
)

// Options say how a server is reached: by a command or by a URL.
type Options struct {
	Command []string          // the program and its arguments; no shell is in between
	Env     map[string]string // its environment, besides PATH
	Folder  string            // in which it runs; the gate's own if it is empty

	URL     string
	Headers map[string]string // that requests to it have; secrets among them are never shown
	Guard   web.Guard         // where connections to it may lead

	Start time.Duration // in which it has to be ready; 30 s if 0
	Idle  time.Duration // after which one that is not used is stopped; 5 min if 0
}

// Bounds of what a server sends.
const (
	longestMessage = 8 << 20 // bytes
	mostPages      = 64      // of a list of tools
	tailLines      = 100     // of standard error
	longLine       = 500     // bytes that are kept of each
)

// Pauses before a server that has failed is started again.
const (
	firstPause   = time.Second
	longestPause = time.Minute
)

// Server is a server of the protocol.
type Server struct {
	o       Options
	version string
	log     *slog.Logger
	tail    tail
	order   order

	mu       sync.Mutex
	session  *sdk.ClientSession // nil unless it runs
	starting chan struct{}      // closed when a start under way has ended; nil if none is
	tools    []tool.Tool
	skipped  []string
	stale    bool // the list has changed since
	users    int
	idle     *time.Timer
	state    tool.State
	since    time.Time
	failure  error
	pause    time.Duration
	next     time.Time // before which it is not started
	closed   bool
	ctx      context.Context // of all that it does beside calls
	cancel   context.CancelFunc
	working  sync.WaitGroup
}

// New makes a server, which is not started yet. Version is the gate's.
func New(o Options, version string, log *slog.Logger) *Server {
	if o.Start == 0 {
		o.Start = 30 * time.Second
	}
	if o.Idle == 0 {
		o.Idle = 5 * time.Minute
	}
	s := &Server{o: o, version: version, log: log, state: tool.Stopped, since: time.Now()}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

// Status is how the server is.
func (s *Server) Status() tool.Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	st := tool.Status{Kind: "stdio", State: s.state, Since: s.since.UTC(), Skipped: s.skipped}
	if s.o.URL != "" {
		st.Kind = "http"
	}
	if s.failure != nil {
		st.Error, st.Tail = s.failure.Error(), s.tail.lines()
	}
	return st
}

// Close stops the server for good.
func (s *Server) Close() error {
	s.mu.Lock()
	s.closed = true
	session := s.session
	s.mu.Unlock()
	s.cancel()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if session != nil {
			_ = session.Close() // a process is ended, by force if it must be
		}
		s.working.Wait()
	}()
	select {
	case <-ended:
	case <-time.After(patience): // a server elsewhere that does not answer has no say in how long this takes
	}
	return nil
}

// patience is how long the end of a server is waited for.
const patience = 5 * time.Second

// acquire gives the session, starting the server if it must. What it gives is released once it is not used any more.
func (s *Server) acquire(ctx context.Context) (*sdk.ClientSession, error) {
	for {
		s.mu.Lock()
		switch {
		case s.closed:
			s.mu.Unlock()
			return nil, errors.New("the server was taken out of the configuration")
		case s.session != nil:
			s.users++
			session := s.session
			s.mu.Unlock()
			return session, nil
		case s.starting == nil:
			if wait := time.Until(s.next); wait > 0 {
				err := fmt.Errorf("%w; it is started again in %s at the earliest", s.failure, wait.Round(100*time.Millisecond))
				s.mu.Unlock()
				return nil, err
			}
			s.starting = make(chan struct{})
			s.working.Go(s.start)
		}
		starting := s.starting
		s.mu.Unlock()
		select {
		case <-starting:
			s.mu.Lock()
			failed := s.session == nil && s.failure != nil
			err := s.failure
			s.mu.Unlock()
			if failed {
				return nil, err
			}
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// release ends a use of the session.
func (s *Server) release() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.users--; s.users == 0 && s.session != nil {
		s.rest()
	}
}

// rest has the server stopped when nobody uses it for a while. s.mu is held.
func (s *Server) rest() {
	if s.idle != nil {
		s.idle.Stop()
	}
	session := s.session
	s.idle = time.AfterFunc(s.o.Idle, func() {
		s.mu.Lock()
		over := s.users == 0 && s.session == session && session != nil
		if over {
			s.session, s.state, s.since = nil, tool.Stopped, time.Now()
		}
		s.mu.Unlock()
		if over {
			_ = session.Close() // nothing waits for it
		}
	})
}

// start connects to the server and asks for its tools.
func (s *Server) start() {
	session, list, err := s.connect()
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.starting)
	s.starting = nil
	if err != nil {
		s.failed(err)
		return
	}
	if s.closed {
		s.working.Go(func() { _ = session.Close() })
		return
	}
	s.session, s.state, s.since, s.failure = session, tool.Running, time.Now(), nil
	s.tools, s.skipped = tool.Listed("", list)
	s.rest()
	s.working.Go(func() { s.watch(session) })
}

// failed notes why the server does not run. s.mu is held.
func (s *Server) failed(err error) {
	s.pause = min(max(firstPause, 2*s.pause), longestPause)
	s.next = time.Now().Add(s.pause)
	s.state, s.since, s.failure = tool.Down, time.Now(), tool.Secretless(err, s.o.Headers)
	s.log.Warn("a tool server failed", "error", s.failure.Error(), "next_start_in", s.pause.String())
}

// watch waits for the end of a session.
func (s *Server) watch(session *sdk.ClientSession) { s.ended(session, session.Wait()) }

// ended notes that a session has ended by itself.
func (s *Server) ended(session *sdk.ClientSession, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.session != session {
		return // it was stopped
	}
	s.session = nil
	if !s.closed {
		if err == nil {
			err = errors.New("its output was closed")
		}
		s.failed(fmt.Errorf("the server ended: %w", err))
	}
}

// connect makes a session with the server, within the time that it has to be ready.
func (s *Server) connect() (session *sdk.ClientSession, list []tool.Tool, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = exchange.Panicked(p)
		}
	}()
	ctx, cancel := context.WithTimeout(s.ctx, s.o.Start)
	defer cancel()
	client := sdk.NewClient(&sdk.Implementation{Name: "kindred-gate", Version: s.version}, &sdk.ClientOptions{
		Capabilities:           &sdk.ClientCapabilities{}, // no roots, no sampling, no elicitation
		MultiRoundTrip:         &sdk.MultiRoundTripOptions{Disabled: true},
		Logger:                 slog.New(slog.DiscardHandler),
		ToolListChangedHandler: func(context.Context, *sdk.ToolListChangedRequest) { s.changed() },
	})
	var transport sdk.Transport
	if s.o.URL != "" {
		reached := web.NewClient(s.o.Guard, s.o.Headers, longestMessage)
		reached.Transport = watching{reached.Transport, &s.order}
		transport = &sdk.StreamableClientTransport{Endpoint: s.o.URL, HTTPClient: reached, MaxRetries: 1, MaxEventSize: longestMessage}
	} else {
		var p *process
		if p, err = s.spawn(); err != nil {
			return nil, nil, err
		}
		transport = &sdk.IOTransport{Reader: &watched{ReadCloser: p.out, order: &s.order}, Writer: p, MaxLineLength: longestMessage}
		defer func() {
			if err != nil && session == nil {
				err = p.explain(err)
				_ = p.Close()
			}
		}()
	}
	session, err = client.Connect(ctx, transport, nil)
	if err != nil {
		if ctx.Err() != nil && s.ctx.Err() == nil {
			err = fmt.Errorf("it was not ready within %s", s.o.Start)
		}
		return nil, nil, err
	}
	if list, err = s.listed(ctx, session); err != nil {
		_ = session.Close()
		return nil, nil, fmt.Errorf("list its tools: %w", err)
	}
	return session, list, nil
}

// changed is told that the list of tools has changed.
func (s *Server) changed() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.stale = true
}

// listed asks for all tools, page by page.
func (s *Server) listed(ctx context.Context, session *sdk.ClientSession) (list []tool.Tool, err error) {
	cursor := ""
	for range mostPages {
		page, err := session.ListTools(ctx, &sdk.ListToolsParams{Cursor: cursor})
		if err != nil {
			return nil, err
		}
		for _, t := range page.Tools {
			if t == nil {
				continue
			}
			schema, err := s.order.schema(t.Name, t.InputSchema)
			if err != nil {
				return nil, err
			}
			one := tool.Tool{Name: t.Name, Title: t.Title, Description: t.Description, Schema: schema}
			if a := t.Annotations; a != nil {
				one.ReadOnly = a.ReadOnlyHint
				if one.Title == "" {
					one.Title = a.Title
				}
			}
			list = append(list, one)
		}
		if cursor = page.NextCursor; cursor == "" || len(list) > tool.MostTools {
			return list, nil
		}
	}
	return list, nil
}

// Tools lists what the server offers.
func (s *Server) Tools(ctx context.Context) ([]tool.Tool, error) {
	session, err := s.acquire(ctx)
	if err != nil {
		return nil, err
	}
	defer s.release()
	s.mu.Lock()
	stale := s.stale
	s.stale = false
	s.mu.Unlock()
	if stale {
		list, err := s.listed(ctx, session)
		s.mu.Lock()
		if err != nil {
			s.stale = true
		} else {
			s.tools, s.skipped = tool.Listed("", list)
		}
		s.mu.Unlock()
		if err != nil {
			return nil, tool.Secretless(err, s.o.Headers)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.tools), nil
}

// Call has a tool called.
func (s *Server) Call(ctx context.Context, name string, arguments json.RawMessage) (tool.Result, error) {
	status := 0
	answer, err := s.ask(web.NoteStatus(ctx, &status), &sdk.CallToolParams{Name: name, Arguments: arguments})
	if errors.Is(err, sdk.ErrConnectionClosed) {
		// The server had ended before, and the call was not sent: what keeps it from being started again is the better answer.
		answer, err = s.ask(web.NoteStatus(ctx, &status), &sdk.CallToolParams{Name: name, Arguments: arguments})
	}
	if err != nil {
		err = tool.Secretless(err, s.o.Headers)
		failure := tool.Failed(err)
		var wire *jsonrpc.Error
		switch {
		case ctx.Err() != nil:
			return tool.Result{}, ctx.Err()
		case status >= 400:
			failure = &tool.Failure{Kind: tool.HTTP, Code: status, Message: err.Error(), Inside: true}
		case errors.As(err, &wire):
			failure = &tool.Failure{Kind: tool.Protocol, Code: int(wire.Code), Message: wire.Message}
		}
		return tool.Result{}, failure
	}
	s.mu.Lock()
	s.pause = 0
	s.mu.Unlock()
	r := tool.Result{Text: text(answer)}
	switch {
	case answer.NeedsInput():
		return r, &tool.Failure{Kind: tool.Execution, Message: "the tool asks for input of a person or a model, which this gate declines"}
	case answer.IsError:
		r.Failure = &tool.Failure{Kind: tool.Execution, Message: cmp.Or(r.Text, "the tool says that it failed, and no more")}
	}
	return r, nil
}

// ask makes a call.
func (s *Server) ask(ctx context.Context, params *sdk.CallToolParams) (*sdk.CallToolResult, error) {
	session, err := s.acquire(ctx)
	if err != nil {
		return nil, err
	}
	defer s.release()
	answer, err := session.CallTool(ctx, params)
	if errors.Is(err, sdk.ErrConnectionClosed) {
		s.ended(session, err)
	}
	return answer, err
}

// text is a result as a model is told it.
func text(r *sdk.CallToolResult) string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	for _, c := range r.Content {
		switch c := c.(type) {
		case *sdk.TextContent:
			add("%s", c.Text)
		case *sdk.ImageContent:
			add("[a picture (%s, %d bytes), which is not shown]", c.MIMEType, len(c.Data))
		case *sdk.AudioContent:
			add("[a recording (%s, %d bytes), which is not played]", c.MIMEType, len(c.Data))
		case *sdk.ResourceLink:
			add("[%s: %s %s]", c.Name, c.URI, c.Description)
		case *sdk.EmbeddedResource:
			switch {
			case c.Resource == nil:
			case c.Resource.Blob != nil:
				add("[%s (%s, %d bytes), which is not shown]", c.Resource.URI, c.Resource.MIMEType, len(c.Resource.Blob))
			default:
				add("%s", c.Resource.Text)
			}
		default:
			add("[content of an unknown kind, which is not shown]")
		}
	}
	if len(parts) == 0 && r.StructuredContent != nil {
		if raw, err := json.Marshal(r.StructuredContent); err == nil {
			add("%s", raw)
		}
	}
	return strings.Join(parts, "\n")
}

// environment is what a process is given: what was named, and PATH.
func environment(named map[string]string, path string) []string {
	list := []string{"PATH=" + path}
	for _, name := range slices.Sorted(maps.Keys(named)) {
		if name == "PATH" {
			list[0] = "PATH=" + named[name]
			continue
		}
		list = append(list, name+"="+named[name])
	}
	return list
}
