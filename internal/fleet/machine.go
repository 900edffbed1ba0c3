package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"kindredgate/internal/exchange"
	"kindredgate/internal/placement"
)

// Machine is one that has joined, as the gate sees it. It is safe for concurrent use.
type Machine struct {
	hub    *Hub
	joined Joined
	hellos *rate.Limiter // what it says of itself more often is not looked at

	mu      sync.Mutex
	hello   Hello
	known   map[string]placement.Known // by model
	own     int                        // answers that this gate waits for
	ownThen int                        // and how many these were when the machine said how many it has for all gates
	heard   time.Time                  // when it said so; zero if it never has
	skew    time.Duration              // of its clock, ahead of the gate's
	returns []time.Time                // when it came back after it had gone, lately
	faults  map[string]int
	strays  struct {
		since time.Time
		bytes int
	}
	flooding time.Time     // until when it is left alone
	left     chan struct{} // closed when it is gone for good
	why      string
}

// What machines do wrong, as it is counted.
const (
	forgedFault  = "not sealed by it"
	eventFault   = "no event"
	floodFault   = "floods"
	modelsFault  = "too many models"
	changedFault = "changed a model"
)

func newMachine(h *Hub, j Joined) *Machine {
	return &Machine{hub: h, joined: j, hellos: rate.NewLimiter(rate.Every(helloSoonest), fewHellos), faults: map[string]int{}, known: map[string]placement.Known{}, left: make(chan struct{})}
}

// Name is what the machine is called here.
func (m *Machine) Name() string { return m.joined.Name }

// gone ends what the machine is doing.
func (m *Machine) gone(why string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.why == "" {
		m.why = why
		close(m.left)
	}
}

func (m *Machine) fault(what string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.faults[what]++
}

// What a machine may send in a second that nobody waits for, and how long one that sends more is left alone.
const (
	mostStray = 8 << 20 // bytes
	floodRest = time.Minute
)

// stray counts what nobody waits for: the rest of an answer whose client has left, as a rule.
func (m *Machine) stray(size int) {
	m.mu.Lock()
	now := time.Now()
	if now.Sub(m.strays.since) > time.Second {
		m.strays.since, m.strays.bytes = now, 0
	}
	m.strays.bytes += size
	flood := m.strays.bytes > mostStray && now.After(m.flooding)
	if flood {
		m.faults[floodFault]++
		m.flooding = now.Add(floodRest)
	}
	m.mu.Unlock()
	if flood {
		m.hub.opts.Log.Error("a machine sends what nobody has asked for; it is left alone for a while", "name", m.Name(), "for", floodRest)
		m.hub.disconnect(m.joined.ID)
		m.hub.changed()
	}
}

// How many returns are kept, and for how long.
const (
	mostReturns = 100
	returnsFor  = 10 * time.Minute
)

// says notes what the machine says of itself.
func (m *Machine) says(h Hello) {
	now := time.Now()
	m.mu.Lock()
	if len(h.Models) > mostModels {
		h.Models = h.Models[:mostModels]
		m.faults[modelsFault]++
	}
	h.Models = slices.DeleteFunc(h.Models, func(one Model) bool { return one.Name == "" || len(one.Name) > 200 })
	h.Away = h.Away[:min(len(h.Away), mostText)]
	back := !m.heard.IsZero() && now.Sub(m.heard) > lostAfter && !m.hello.Ends
	if back {
		m.returns = append(m.returns, now)
		m.returns = m.returns[max(0, len(m.returns)-mostReturns):]
	}
	changed := m.heard.IsZero() || back || m.hello.Away != h.Away || m.hello.Ends != h.Ends || m.hello.Version != h.Version || !slices.EqualFunc(m.hello.Models, h.Models, sameOffer)
	known := map[string]placement.Known{}
	for i := range h.Models {
		one := &h.Models[i]
		if old := slices.IndexFunc(m.hello.Models, func(b Model) bool { return b.Name == one.Name }); old >= 0 && m.hello.Models[old].Digest != one.Digest {
			m.faults[changedFault]++
		}
		if known[one.Name] = m.known[one.Name]; one.Known != nil {
			known[one.Name] = placement.KnownFrom(one.Known)
		}
		one.Known = nil
	}
	anew := m.hello.Start != "" && m.hello.Start != h.Start
	m.hello, m.known, m.heard, m.ownThen = h, known, now, m.own
	m.skew = h.Time.Sub(now)
	m.mu.Unlock()
	switch {
	case h.Ends:
		m.hub.giveUp(m.joined.ID, "it was stopped in the middle of the answer")
	case anew:
		m.hub.giveUp(m.joined.ID, "it was started anew in the middle of the answer")
	}
	if changed {
		m.hub.changed()
	}
}

// sameOffer reports whether what two models are is the same, whatever they do at the moment.
func sameOffer(a, b Model) bool {
	return a.Name == b.Name && a.Context == b.Context && a.Use == b.Use && a.Digest == b.Digest && a.Sees == b.Sees && a.Tools == b.Tools
}

// Away is why the machine takes no work now; "" if it does.
func (m *Machine) Away() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.away()
}

func (m *Machine) away() string {
	switch {
	case m.why != "":
		return m.why
	case m.heard.IsZero():
		return "it has not called yet"
	case m.hello.Ends:
		return "it was stopped"
	case time.Now().Before(m.flooding):
		return "it has sent too much that nobody had asked for, and is left alone until " + m.flooding.Format(time.TimeOnly)
	case time.Since(m.heard) > lostAfter:
		if m.hub.server == nil && !m.hub.conn.IsConnected() {
			return "the line to the NATS servers is cut"
		}
		return fmt.Sprintf("nothing was heard of it for %s", time.Since(m.heard).Round(time.Second))
	case compatible(m.hello.Version) != nil:
		return compatible(m.hello.Version).Error()
	}
	return m.hello.Away
}

// State is how a machine does.
type State struct {
	Name    string         `json:"name"`
	ID      string         `json:"id"`
	Since   time.Time      `json:"since"` // when it joined
	Away    string         `json:"away,omitempty"`
	Heard   time.Time      `json:"heard,omitzero"`
	Version int            `json:"version"` // of the protocol
	Program string         `json:"program"` // its version
	Skew    time.Duration  `json:"skew_ns"`
	Line    time.Duration  `json:"line_ns"`
	AtOnce  int            `json:"at_once"`
	Open    int            `json:"open"`
	Returns int            `json:"returns"` // after it had gone, in the last ten minutes
	Faults  map[string]int `json:"faults"`
	Models  []Model        `json:"models"`
}

// State tells how the machine does.
func (m *Machine) State() State {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := State{Name: m.joined.Name, ID: m.joined.ID, Since: m.joined.Since, Away: m.away(), Heard: m.heard, Version: m.hello.Version, Program: m.hello.Gate, Skew: m.skew, Line: m.hello.Line,
		AtOnce: m.hello.AtOnce, Open: m.open(), Faults: maps.Clone(m.faults), Models: slices.Clone(m.hello.Models)}
	for _, at := range m.returns {
		if time.Since(at) < returnsFor {
			s.Returns++
		}
	}
	return s
}

// open is how many answers the machine has for all gates, about. mu is held.
func (m *Machine) open() int { return max(0, m.hello.Open+m.own-m.ownThen) }

// Models are those that the machine offers.
func (m *Machine) Models() []Model {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.hello.Models)
}

// Candidate is what placement goes by, for a request to a model that begins as the chain says.
func (m *Machine) Candidate(model string, chain []uint32) placement.Candidate {
	m.mu.Lock()
	defer m.mu.Unlock()
	c := placement.Candidate{Name: m.joined.Name, Parallel: m.hello.AtOnce, Delay: m.hello.Line, Cached: m.known[model].Tokens(chain)}
	for _, one := range m.hello.Models {
		if one.Name == model {
			c.Loaded, c.Load, c.Prefill, c.Decode = one.Loaded, one.Load, one.Prefill, one.Decode
		}
		c.Queued += max(0, one.Queued)
	}
	c.Queued = max(c.Queued-m.hello.Open, 0) + m.open()
	return c
}

// Run answers a request.
func (m *Machine) Run(ctx context.Context, model string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		doc, err := req.Encode()
		if err != nil {
			yield(nil, err)
			return
		}
		w := Work{Model: model, Owner: m.hub.owner(req.Owner), Share: req.Share, Via: req.Via, Trace: req.Trace}
		err = m.ask(ctx, answerKind, w, doc, req.Reading, func(line []byte) error {
			event, err := exchange.DecodeEvent(line)
			if err != nil {
				m.fault(eventFault)
				return exchange.Errorf(exchange.Unavailable, "runner_error", "the machine %q has said something that is no event: %v", m.Name(), err)
			}
			if !yield(event, nil) {
				return errLeft
			}
			return nil
		})
		if err != nil && !errors.Is(err, errLeft) {
			yield(nil, err)
		}
	}
}

// Embed has vectors made.
func (m *Machine) Embed(ctx context.Context, model string, req *exchange.Embedding) (*exchange.Vectors, error) {
	return once[exchange.Vectors](ctx, m, embedKind, Work{Model: model, Via: req.Via, Trace: req.Trace}, req)
}

// Rank has documents scored.
func (m *Machine) Rank(ctx context.Context, model string, req *exchange.Ranking) (*exchange.Relevance, error) {
	return once[exchange.Relevance](ctx, m, rankKind, Work{Model: model, Via: req.Via, Trace: req.Trace}, req)
}

// once asks for something that comes in one piece.
func once[T any](ctx context.Context, m *Machine, kind string, w Work, req any) (*T, error) {
	doc, err := json.Marshal(req)
	if err != nil {
		return nil, err
	}
	var out *T
	err = m.ask(ctx, kind, w, doc, nil, func(line []byte) error {
		out = new(T)
		if err := json.Unmarshal(line, out); err != nil {
			m.fault(eventFault)
			return exchange.Errorf(exchange.Unavailable, "runner_error", "what the machine %q has answered cannot be read: %v", m.Name(), err)
		}
		return nil
	})
	if err == nil && out == nil {
		err = exchange.Errorf(exchange.Unavailable, "runner_error", "the machine %q has answered nothing", m.Name())
	}
	return out, err
}

// errLeft is for a loop that was left.
var errLeft = errors.New("nobody takes the events any more")

// ask sends a request, and takes the lines of the answer.
func (m *Machine) ask(ctx context.Context, kind string, w Work, doc []byte, reading func(int), take func(line []byte) error) error {
	m.mu.Lock()
	m.own++
	m.mu.Unlock()
	defer func() {
		m.mu.Lock()
		m.own--
		m.mu.Unlock()
	}()
	return m.far().call(ctx, kind, w, doc, reading, inLines(take))
}

// far is the machine as the other end of a line.
func (m *Machine) far() *far {
	return &far{hub: m.hub, id: m.joined.ID, seal: m.joined.Seal, who: fmt.Sprintf("the machine %q", m.Name()), away: m.Away, skew: m.clock, left: m.left, fault: m.fault}
}

// clock is how far the machine's clock is ahead of the gate's.
func (m *Machine) clock() time.Duration {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.skew
}
