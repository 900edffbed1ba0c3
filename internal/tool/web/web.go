// Package web has tools that are plain HTTP endpoints: described by a schema, called with the arguments, and answering with a text.
package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/tool"
)

// Options describe an endpoint.
type Options struct {
	// URL may hold arguments, as {name}; what stands for one is escaped.
	URL         string
	Method      string // GET and DELETE have the other arguments as a query, POST, PUT and PATCH as a JSON body
	Headers     map[string]string
	Title       string
	Description string
	Schema      json.RawMessage
	ReadOnly    bool
}

// longestAnswer is what is read of an answer, in bytes.
const longestAnswer = 4 << 20

// Methods that an endpoint may be called by.
var Methods = []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete}

// Server is an endpoint: a server of one tool.
type Server struct {
	o      Options
	tool   tool.Tool
	client *http.Client

	mu      sync.Mutex
	failure error
	since   time.Time
}

var placeholder = regexp.MustCompile(`\{([A-Za-z0-9_.-]+)\}`)

// New makes a server of one tool of the name.
func New(name string, o Options) (*Server, error) {
	s := &Server{o: o, client: NewClient(Named, o.Headers, longestAnswer), since: time.Now(),
		tool: tool.Tool{Server: name, Name: name, Title: o.Title, Description: o.Description, Schema: o.Schema, ReadOnly: o.ReadOnly}}
	if !slices.Contains(Methods, o.Method) {
		return nil, fmt.Errorf("its method is %q; %s are possible", o.Method, strings.Join(Methods, ", "))
	}
	if err := s.tool.Check(); err != nil {
		return nil, err
	}
	u, err := url.Parse(placeholder.ReplaceAllString(o.URL, "x"))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return nil, fmt.Errorf("its url is no address such as https://tools.example/fare, without a user: %q", o.URL)
	}
	if strings.Contains(strings.SplitN(strings.SplitN(o.URL, "://", 2)[1], "/", 2)[0], "{") {
		return nil, errors.New("its url has an argument where its host is: which server is called is not for a model to say")
	}
	return s, nil
}

// Tools is the one tool.
func (s *Server) Tools(context.Context) ([]tool.Tool, error) { return []tool.Tool{s.tool}, nil }

// Status is how the endpoint was last.
func (s *Server) Status() tool.Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	st := tool.Status{Kind: "web", State: tool.Running, Since: s.since.UTC()}
	if s.failure != nil {
		st.State, st.Error = tool.Down, s.failure.Error()
	}
	return st
}

// Close lets go of connections.
func (s *Server) Close() error {
	s.client.CloseIdleConnections()
	return nil
}

// Call calls the endpoint.
func (s *Server) Call(ctx context.Context, _ string, arguments json.RawMessage) (r tool.Result, err error) {
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if err = tool.Secretless(err, s.o.Headers); (err == nil) != (s.failure == nil) {
			s.since = time.Now()
		}
		s.failure = err
	}()
	req, err := s.request(ctx, arguments)
	if err != nil {
		return r, err
	}
	resp, err := s.client.Do(req)
	if err != nil {
		return r, err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		return r, err
	}
	r.Text = string(raw)
	if resp.StatusCode >= 300 {
		return tool.Result{}, &tool.Failure{Kind: tool.HTTP, Code: resp.StatusCode, Message: strings.TrimSpace(fmt.Sprintf("the endpoint answers %d %s: %.500s",
			resp.StatusCode, http.StatusText(resp.StatusCode), raw))}
	}
	return r, nil
}

// request puts the arguments where they belong: into the path, then into the query or the body.
func (s *Server) request(ctx context.Context, arguments json.RawMessage) (*http.Request, error) {
	var values map[string]json.RawMessage
	if err := json.Unmarshal(arguments, &values); err != nil {
		return nil, err
	}
	var missing error
	address := placeholder.ReplaceAllStringFunc(s.o.URL, func(hole string) string {
		name := hole[1 : len(hole)-1]
		v, ok := values[name]
		if !ok {
			missing = fmt.Errorf("the argument %q is missing, which the endpoint's address needs", name)
		}
		delete(values, name)
		if text := plain(v); text != "." && text != ".." {
			return url.PathEscape(text)
		}
		return "-" // which is no way to other paths
	})
	if missing != nil {
		return nil, &tool.Failure{Kind: tool.Execution, Message: missing.Error()}
	}
	var body io.Reader
	if s.o.Method == http.MethodGet || s.o.Method == http.MethodDelete {
		u, err := url.Parse(address)
		if err != nil {
			return nil, err
		}
		q := u.Query()
		for name, v := range values {
			q.Set(name, plain(v))
		}
		u.RawQuery = q.Encode()
		address = u.String()
	} else {
		raw, err := json.Marshal(values)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, s.o.Method, address, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "application/json, text/plain;q=0.9, */*;q=0.5")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	return req, nil
}

// plain is a value as it stands in an address: a text without its quotes, anything else as JSON.
func plain(v json.RawMessage) string {
	var text string
	if json.Unmarshal(v, &text) == nil {
		return text
	}
	return string(v)
}
