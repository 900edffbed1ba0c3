package tool

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Limits bound calls of tools.
type Limits struct {
	Time   time.Duration // of a call
	Result int           // of its text, in bytes
}

// Set is the servers by their names. It is safe for concurrent use.
type Set struct {
	mu      sync.Mutex
	servers map[string]*entry
	limits  Limits
}

// entry is a server with what is known of its tools. The set's lock holds for it.
type entry struct {
	Server
	known []Tool // that it listed last
	usage map[string]*Usage
}

// Usage counts the calls of a tool.
type Usage struct {
	Calls  int64         `json:"calls"`
	Failed int64         `json:"failed"`
	Took   time.Duration `json:"-"` // all calls together
}

// MeanMS is how long a call takes, in milliseconds.
func (u Usage) MeanMS() float64 {
	return float64(u.Took.Microseconds()) / 1000 / float64(max(u.Calls, 1))
}

// NewSet makes an empty set.
func NewSet(l Limits) *Set { return &Set{servers: map[string]*entry{}, limits: l} }

// Replace has other servers take the place of those that are there. One that stays the same value keeps its counts; those that are gone are
// closed.
func (s *Set) Replace(servers map[string]Server, l Limits) {
	s.mu.Lock()
	var gone []Server
	for name, e := range s.servers {
		if servers[name] != e.Server {
			gone = append(gone, e.Server)
			delete(s.servers, name)
		}
	}
	for name, server := range servers {
		if s.servers[name] == nil {
			s.servers[name] = &entry{Server: server, usage: map[string]*Usage{}}
		}
	}
	s.limits = l
	s.mu.Unlock()
	var closing sync.WaitGroup
	for _, server := range gone {
		closing.Go(func() { _ = server.Close() }) // it is of no use any more, whatever it says
	}
	closing.Wait()
}

// Close closes all servers.
func (s *Set) Close() error {
	s.Replace(nil, s.Limits())
	return nil
}

// Limits are those of calls.
func (s *Set) Limits() Limits {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.limits
}

// Names are those of the servers, in order.
func (s *Set) Names() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Sorted(maps.Keys(s.servers))
}

// ErrUnknown is wrapped by errors about names that no server or tool has.
var ErrUnknown = errors.New("no such tool server")

func (s *Set) server(name string) (*entry, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.servers[name]; e != nil {
		return e, nil
	}
	return nil, fmt.Errorf("%w: %q; the gate has: %s", ErrUnknown, name, cmp.Or(strings.Join(slices.Sorted(maps.Keys(s.servers)), ", "), "none"))
}

// Get gives a server by its name.
func (s *Set) Get(name string) (Server, error) {
	e, err := s.server(name)
	if err != nil {
		return nil, err
	}
	return e.Server, nil
}

// Tools lists what a server offers.
func (s *Set) Tools(ctx context.Context, name string) ([]Tool, error) {
	e, err := s.server(name)
	if err != nil {
		return nil, err
	}
	list, err := e.Tools(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].Server = name
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	e.known = list
	return list, nil
}

// Known is what a server listed last, without asking it.
func (s *Set) Known(name string) []Tool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.servers[name]; e != nil {
		return e.known
	}
	return nil
}

// Usage counts the calls of a tool.
func (s *Set) Usage(t Tool) Usage {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.servers[t.Server]; e != nil && e.usage[t.Name] != nil {
		return *e.usage[t.Name]
	}
	return Usage{}
}

// note counts a call.
func (s *Set) note(t Tool, r Result) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.servers[t.Server]
	if e == nil {
		return
	}
	u := e.usage[t.Name]
	if u == nil {
		u = &Usage{}
		e.usage[t.Name] = u
	}
	u.Calls++
	u.Took += r.Took
	if r.Failure != nil {
		u.Failed++
	}
}

// Call has one of the gate's tools called, as [Call] does, and counts it.
func (s *Set) Call(ctx context.Context, t Tool, arguments string) Result {
	e, err := s.server(t.Server)
	if err != nil {
		return Result{Failure: Failed(err), Text: err.Error()}
	}
	r := Call(ctx, e.Server, t, arguments, s.Limits())
	s.note(t, r)
	return r
}

// Call has a tool called within its limits, whatever the server does. Arguments that are not valid by the tool's schema do not reach the
// server: the result says what is wrong with them. A call that does not come back in time, or whose context ends, is left alone.
func Call(ctx context.Context, server Server, t Tool, arguments string, l Limits) (r Result) {
	begun := time.Now()
	defer func() {
		r.Took = time.Since(begun)
		if r.Failure != nil {
			r.Text = "Error: " + r.Failure.Message
		}
		r = r.Bound(l.Result)
	}()
	raw, err := Arguments(t, arguments)
	if err != nil {
		return Result{Failure: &Failure{Kind: Execution, Message: err.Error()}}
	}
	ctx, cancel := context.WithTimeout(ctx, l.Time)
	defer cancel()
	done := make(chan Result, 1)
	go func() {
		var r Result
		defer func() {
			if p := recover(); p != nil {
				r = Result{Failure: &Failure{Kind: Protocol, Message: fmt.Sprintf("the call panicked: %v", p)}}
			}
			done <- r
		}()
		var err error
		if r, err = server.Call(ctx, t.Name, raw); err != nil {
			r.Failure = Failed(err)
		}
	}()
	select {
	case r = <-done:
	case <-ctx.Done():
		r = Result{Failure: Failed(ctx.Err())}
	}
	if r.Failure != nil && ctx.Err() != nil {
		r.Failure = Failed(ctx.Err())
	}
	return r
}

// Arguments checks the arguments of a call against the tool's schema. A schema that the validator does not know is not enforced: the server
// checks them itself.
func Arguments(t Tool, arguments string) (json.RawMessage, error) {
	if strings.TrimSpace(arguments) == "" {
		arguments = "{}"
	}
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(arguments))
	if err != nil {
		return nil, fmt.Errorf("the arguments are no JSON: %w", err)
	}
	if _, ok := v.(map[string]any); !ok {
		return nil, errors.New("the arguments are no JSON object")
	}
	if schema := compiled(t.Schema); schema != nil {
		if err := schema.Validate(v); err != nil {
			var wrong *jsonschema.ValidationError
			if errors.As(err, &wrong) {
				return nil, fmt.Errorf("the arguments are not valid by the tool's schema: %s", told(wrong))
			}
			return nil, err
		}
	}
	return json.RawMessage(arguments), nil
}

// told is what is wrong, in a line or two.
func told(e *jsonschema.ValidationError) string {
	lines := strings.Split(e.Error(), "\n")
	for i, line := range lines {
		lines[i] = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "- "))
	}
	if len(lines) > 1 {
		lines = lines[1:] // the first names the schema's address
	}
	return valid(strings.Join(lines, "; "), 1000)
}

// schemas keeps what was compiled, since a tool is called often; nil for what cannot be.
var schemas = func() *lru.Cache[string, *jsonschema.Schema] {
	made, err := lru.New[string, *jsonschema.Schema](1024)
	if err != nil {
		panic(err) // only for a size that is none
	}
	return made
}()

// compiled gives a schema, or nil for one that cannot be compiled. Nothing is fetched for it.
func compiled(raw json.RawMessage) (made *jsonschema.Schema) {
	if s, ok := schemas.Get(string(raw)); ok {
		return s
	}
	if doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw)); err == nil {
		c := jsonschema.NewCompiler()
		c.UseLoader(nowhere{})
		if err := c.AddResource("tool:arguments", doc); err == nil {
			if s, err := c.Compile("tool:arguments"); err == nil {
				made = s
			}
		}
	}
	schemas.Add(string(raw), made)
	return made
}

// nowhere is where schemas that a schema refers to are: they are not fetched.
type nowhere struct{}

func (nowhere) Load(url string) (any, error) {
	return nil, fmt.Errorf("%s is not fetched", url)
}
