package server

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/fleet"
	"kindredgate/internal/record"
)

// This file is several gates that answer as one: what runs at another gate is asked there, and what others have recorded is read through any.

// Peers are the other gates.
type Peers struct {
	Gates *fleet.Gates
	Queue *fleet.Queue
}

// GateList is what GET /gate/gates tells.
type GateList struct {
	Gates []GateShown `json:"gates"` // this one first
}

// GateShown is a gate as another one shows it.
type GateShown struct {
	Name     string    `json:"name"`
	Self     bool      `json:"self"`  // it is the one that tells
	There    bool      `json:"there"` // it is heard of
	Instance string    `json:"instance"`
	Program  string    `json:"program"` // its version
	Version  int       `json:"protocol_version"`
	BaseURL  string    `json:"base_url"`
	Started  time.Time `json:"started"`
	Heard    time.Time `json:"heard"`
	Server   string    `json:"nats_server"` // that it is connected to
	Line     float64   `json:"line_ms"`     // to that, there and back
	Skew     float64   `json:"skew_ms"`     // of its clock, ahead of this gate's
	Open     int       `json:"in_progress"` // requests
	Pending  int       `json:"pending"`     // changes that the others were not told yet
	Unseen   bool      `json:"unseen"`      // it does not hear this gate
}

func (s *Server) listGates(*gin.Context) (any, error) {
	list := GateList{[]GateShown{}}
	if s.Peers == nil {
		return list, nil
	}
	for _, g := range s.Peers.Gates.List() {
		list.Gates = append(list.Gates, GateShown{g.Name, g.Self, g.There(), g.Instance, g.Program, g.Version, g.BaseURL, g.Started.UTC(), g.Heard.UTC(), g.Server, record.Milliseconds(g.Line), record.Milliseconds(g.Skew), g.Open, g.Pending, g.Unseen})
	}
	return list, nil
}

// relayed is a request as it goes to another gate, and relayHead how its answer begins.
type (
	relayed struct {
		Method string      `json:"method"`
		Path   string      `json:"path"` // with the query
		Header http.Header `json:"header"`
		Body   []byte      `json:"body,omitempty"`
		Client string      `json:"client"` // the address that asked
	}
	relayHead struct {
		Status int         `json:"status"`
		Header http.Header `json:"header"`
	}
)

// relayedKey marks the context of a request that came by another gate, which is not passed on again.
type relayedKey struct{}

// carried are the headers of a request that go to another gate.
var carried = []string{"Authorization", "Cookie", "Accept", "Content-Type", "User-Agent", "Last-Event-Id", "Traceparent", "Origin", "Sec-Fetch-Site"}

// whereItRuns has a response that is in progress at another gate be asked there.
func (s *Server) whereItRuns(h handler) handler {
	return func(c *gin.Context) (any, error) {
		id := c.Param("id")
		if s.Peers == nil || s.Answers.Runs(id) || c.Request.Context().Value(relayedKey{}) != nil {
			return h(c)
		}
		ctx, cancel := context.WithTimeout(c.Request.Context(), awaitedFor)
		defer cancel()
		waits := c.Request.Method != http.MethodGet || c.Query("stream") == "true"
		for {
			if instance, ok := s.Peers.Queue.RunsAt(c.Request.Context(), id); ok {
				return nil, s.relay(c, instance)
			}
			if !waits || !s.Answers.Awaited(ctx, id) {
				return h(c)
			}
			select {
			case <-time.After(awaitedAgain):
			case <-ctx.Done():
				return nil, exchange.Errorf(exchange.Unavailable, "gate_unavailable", "no gate has carried on with the response yet; try again")
			}
		}
	}
}

// How long a request waits for a gate to carry on with a response, and how often it looks.
const (
	awaitedFor   = 30 * time.Second
	awaitedAgain = 300 * time.Millisecond
)

// relay has another gate answer a request.
func (s *Server) relay(c *gin.Context, instance string) error {
	doc, err := s.relayable(c, c.Request.URL.RequestURI())
	if err != nil {
		return err
	}
	var head []byte
	begun := false
	err = s.Peers.Gates.Relay(c.Request.Context(), instance, doc, func(data []byte) error {
		if !begun {
			line, rest, whole := bytes.Cut(append(head, data...), []byte{'\n'})
			if head = line; !whole {
				return nil
			}
			var a relayHead
			if err := json.Unmarshal(line, &a); err != nil || a.Status < 200 || a.Status > 599 {
				return exchange.Errorf(exchange.Unavailable, "gate_unavailable", "the gate that has this answers nothing that can be read")
			}
			begun = true
			own := c.Writer.Header().Get("X-Request-Id")
			maps.Copy(c.Writer.Header(), a.Header)
			c.Writer.Header().Set("X-Request-Id", own)
			c.Writer.WriteHeader(a.Status)
			data = rest
		}
		if _, err := c.Writer.Write(data); err != nil {
			return err
		}
		c.Writer.Flush()
		return nil
	})
	if begun && err != nil {
		panic(http.ErrAbortHandler) // so that the client sees that there should be more
	}
	return err
}

// relayable is a request as it goes to another gate.
func (s *Server) relayable(c *gin.Context, path string) ([]byte, error) {
	r := relayed{Method: c.Request.Method, Path: path, Header: http.Header{}, Client: c.ClientIP()}
	for _, name := range carried {
		if v := c.Request.Header.Values(name); len(v) > 0 {
			r.Header[name] = v
		}
	}
	if c.Request.Method != http.MethodGet {
		var err error
		if r.Body, err = body(c); err != nil {
			return nil, err
		}
	}
	return json.Marshal(r)
}

// Relayed answers a request that came to another gate.
func (s *Server) Relayed(ctx context.Context, doc []byte, write func([]byte) error) error {
	var r relayed
	if err := json.Unmarshal(doc, &r); err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(context.WithValue(ctx, relayedKey{}, true), r.Method, "http://"+s.router.Load().hosts.address+r.Path, bytes.NewReader(r.Body))
	if err != nil {
		return err
	}
	req.Header, req.RemoteAddr, req.RequestURI = r.Header, net.JoinHostPort(cmp.Or(r.Client, "127.0.0.1"), "0"), r.Path
	w := &relayWriter{header: http.Header{}, write: write}
	s.ServeHTTP(w, req)
	w.WriteHeader(http.StatusOK)
	return w.err
}

// relayWriter writes an answer for another gate.
type relayWriter struct {
	header http.Header
	write  func([]byte) error
	begun  bool
	err    error
}

func (w *relayWriter) Header() http.Header { return w.header }

func (w *relayWriter) WriteHeader(status int) {
	if w.begun {
		return
	}
	w.begun = true
	raw, err := json.Marshal(relayHead{status, w.header})
	if w.err = err; err == nil {
		w.err = w.write(append(raw, '\n'))
	}
}

func (w *relayWriter) Write(data []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	if w.err == nil {
		w.err = w.write(slices.Clone(data))
	}
	return len(data), w.err
}

// Flush does nothing: all goes out as it comes.
func (w *relayWriter) Flush() {}

// SetReadDeadline and SetWriteDeadline are for clients that do not move; the line between gates has its own times.
func (w *relayWriter) SetReadDeadline(time.Time) error  { return nil }
func (w *relayWriter) SetWriteDeadline(time.Time) error { return nil }

// Everywhere is a page of the ledgers of all gates.
type Everywhere struct {
	Exchanges []GateExchange `json:"exchanges"` // the newest first
	Lost      int            `json:"lost"`
	// Missing are gates whose ledgers could not be read, each with the reason.
	Missing []string `json:"missing"`
}

// GateExchange is an exchange with the gate that answered it.
type GateExchange struct {
	Gate     string        `json:"gate"`
	Exchange record.Record `json:"exchange"`
}

// everywhere reads the ledgers of all gates: of those that are there by asking them, of others what they have left.
func (s *Server) everywhere(c *gin.Context) (any, error) {
	ctx := c.Request.Context()
	f, err := record.ParseFilter(c.Request.URL.Query())
	if err != nil {
		return nil, err
	}
	if f.Before != "" {
		return nil, exchange.InvalidParam("before", "before goes through the pages of one gate's ledger; use until here")
	}
	out := Everywhere{Exchanges: []GateExchange{}, Missing: []string{}}
	add := func(gate string, list []record.Record) {
		for _, r := range list {
			out.Exchanges = append(out.Exchanges, GateExchange{gate, r})
		}
	}
	own, err := s.Ledger.Find(ctx, f)
	if err != nil {
		return nil, err
	}
	if out.Lost = s.Ledger.Lost(); s.Peers == nil {
		add("", own)
		return out, nil
	}
	there := map[string]bool{}
	for _, g := range s.Peers.Gates.List() {
		if g.Self {
			there[g.Name] = true
			add(g.Name, own)
			continue
		}
		if !g.There() || there[g.Name] {
			continue
		}
		there[g.Name] = true
		list, err := s.listAt(c, g.Instance, f)
		if err != nil {
			out.Missing = append(out.Missing, g.Name+": "+exchange.AsError(err).Message)
		}
		add(g.Name, list.Exchanges)
		out.Lost += list.Lost
	}
	names, err := s.Peers.Gates.RowsOf(ctx)
	if err != nil {
		out.Missing = append(out.Missing, "gates that are gone: the NATS servers cannot be asked")
	}
	for _, name := range names {
		if there[name] {
			continue
		}
		rows, err := s.left(ctx, name, f)
		if err != nil {
			out.Missing = append(out.Missing, name+": what it has left cannot be read")
		}
		add(name, rows)
	}
	slices.SortStableFunc(out.Exchanges, func(a, b GateExchange) int { return b.Exchange.Begun.Compare(a.Exchange.Begun) })
	out.Exchanges = out.Exchanges[:min(len(out.Exchanges), cmp.Or(f.Limit, record.UsualPage))]
	return out, nil
}

// longList bounds what another gate lists, in bytes.
const longList = 32 << 20

// listAt asks another gate for a page of its ledger.
func (s *Server) listAt(c *gin.Context, instance string, f record.Filter) (list ExchangeList, err error) {
	doc, err := s.relayable(c, "/gate/exchanges?"+f.Query().Encode())
	if err != nil {
		return list, err
	}
	var got bytes.Buffer
	err = s.Peers.Gates.Relay(c.Request.Context(), instance, doc, func(data []byte) error {
		if got.Write(data); got.Len() > longList {
			return errors.New("it is too long")
		}
		return nil
	})
	if err != nil {
		return list, err
	}
	head, err := got.ReadBytes('\n')
	var a relayHead
	if err := errors.Join(err, json.Unmarshal(head, &a)); err != nil {
		return list, err
	}
	raw, err := io.ReadAll(&got)
	if err == nil && a.Status != http.StatusOK {
		return list, exchange.Errorf(exchange.Unavailable, "gate_unavailable", "it answers %d: %s", a.Status, strings.TrimSpace(string(raw[:min(len(raw), 300)])))
	}
	return list, errors.Join(err, json.Unmarshal(raw, &list))
}

// left are the rows that a gate has left which is gone, the newest.
func (s *Server) left(ctx context.Context, gate string, f record.Filter) (list []record.Record, err error) {
	limit := cmp.Or(f.Limit, record.UsualPage)
	seen := map[string]bool{} // a gate may have told of one twice
	err = s.Peers.Gates.Rows(ctx, gate, f.Since, func(doc []byte) error {
		var r record.Record
		if err := json.Unmarshal(doc, &r); err != nil {
			return nil //nolint:nilerr // a newer gate may have left others
		}
		if f.Matches(&r) && !seen[r.ID] {
			seen[r.ID] = true
			if list = append(list, r); len(list) > 2*limit {
				list = append(list[:0], list[len(list)-limit:]...)
			}
		}
		return nil
	})
	return list, err
}
