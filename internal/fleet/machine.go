package fleet

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"sync"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/placement"
)

// Machine is one that has joined, as the gate sees it. It is safe for concurrent use.
type Machine struct {
	hub    *Hub
	joined Joined

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
	return &Machine{hub: h, joined: j, faults: map[string]int{}, known: map[string]placement.Known{}, left: make(chan struct{})}
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
	back := !m.heard.IsZero() && now.Sub(m.heard) > lostAfter
	if back {
		m.returns = append(m.returns, now)
		m.returns = m.returns[max(0, len(m.returns)-mostReturns):]
	}
	changed := m.heard.IsZero() || back || m.hello.Away != h.Away || m.hello.Version != h.Version || !slices.EqualFunc(m.hello.Models, h.Models, sameOffer)
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
	m.hello, m.known, m.heard, m.ownThen = h, known, now, m.own
	m.skew = h.Time.Sub(now)
	m.mu.Unlock()
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
		err = m.call(ctx, answerKind, w, doc, req.Reading, func(line []byte) error {
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
	err = m.call(ctx, kind, w, doc, nil, func(line []byte) error {
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

// unavailable is the error for a machine that does not answer.
func (m *Machine) unavailable(why string) error {
	return exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine %q cannot be asked: %s", m.Name(), why)
}

// call sends a request, and takes the lines of the answer until it ends.
func (m *Machine) call(ctx context.Context, kind string, work Work, doc []byte, reading func(int), take func(line []byte) error) error {
	if why := m.Away(); why != "" {
		return m.unavailable(why)
	}
	if len(doc) > mostRequest {
		return exchange.Errorf(exchange.TooLarge, "request_too_large", "the request takes %d MB, more than a joined machine is sent", len(doc)>>20)
	}
	w := &waiting{machine: m, last: time.Now(), done: make(chan struct{}), incoming: make(chan []byte, 2*window), doc: doc}
	w.begin = begin{Work: work, Line: rand.Text(), Gate: m.hub.id, Kind: kind, Key: newKey(), Parts: max(1, (len(doc)+partBytes-1)/partBytes)}
	var err error
	if w.sealer, err = newSealer(w.begin.Key); err != nil {
		return err
	}
	m.hub.mu.Lock()
	m.hub.answers[w.begin.Line] = w
	m.hub.mu.Unlock()
	m.mu.Lock()
	m.own++
	m.mu.Unlock()
	defer func() {
		m.mu.Lock()
		m.own--
		m.mu.Unlock()
		m.hub.mu.Lock()
		delete(m.hub.answers, w.begin.Line)
		m.hub.mu.Unlock()
		w.end()
	}()
	if err := w.ask(); err != nil {
		return err
	}
	go w.keepTelling(ctx)
	var rest []byte // of a line that has not ended
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-m.left:
			return m.unavailable(m.why)
		case <-w.done:
			return w.why
		case raw := <-w.incoming:
			msg, ok := w.read(raw)
			if !ok {
				m.fault(forgedFault)
				continue
			}
			if msg.Reading > 0 && reading != nil {
				reading(msg.Reading)
			}
			if !w.next(msg) {
				continue
			}
			if rest = append(rest, msg.Data...); len(rest) > mostEvent {
				m.fault(eventFault)
				return exchange.Errorf(exchange.Unavailable, "runner_error", "an event of the machine %q has more than %d MB", m.Name(), mostEvent>>20)
			}
			for {
				line, after, whole := bytes.Cut(rest, []byte{'\n'})
				if !whole {
					break
				}
				if err := take(line); err != nil {
					return err
				}
				rest = after
			}
			w.taken(msg)
			if msg.Error != nil {
				return msg.Error.err()
			}
			if msg.Ended {
				return nil
			}
		}
	}
}

// waiting is an answer that a gate waits for. Acks go out from beside who takes the answer, who may be slow.
type waiting struct {
	machine  *Machine
	begin    begin
	doc      []byte
	sealer   sealer
	incoming chan []byte

	mu       sync.Mutex
	received int // messages that were taken
	asked    int // after how many the rest was asked for once more, plus one
	accepted bool
	finished bool
	last     time.Time // something was heard
	why      error
	done     chan struct{} // closed when the machine is given up
	ended    bool
}

// ask sends the request. It is sent once more as long as the machine has not said that it has it, since the line may have been cut just then.
func (w *waiting) ask() error {
	m, b := w.machine, w.begin
	for b.Part = 0; b.Part < b.Parts; b.Part++ {
		b.Doc = w.doc[b.Part*partBytes : min(len(w.doc), (b.Part+1)*partBytes)]
		sealed, err := seal(m.hub.keys.seal, m.joined.Seal, b)
		if err != nil {
			return err
		}
		if err := m.hub.conn.Publish(beginSubject(m.joined.ID), sealed); err != nil {
			return m.unavailable(err.Error())
		}
	}
	return nil
}

func (w *waiting) tell(a ack) {
	subject := ackSubject(w.machine.joined.ID, w.begin.Line)
	if sealed, err := w.sealer.seal(subject, a); err == nil {
		_ = w.machine.hub.conn.Publish(subject, sealed) // what is lost is said again
	}
}

// read opens a message.
func (w *waiting) read(raw []byte) (*message, bool) {
	var msg message
	err := w.sealer.unseal(eventSubject(w.machine.joined.ID, w.machine.hub.id, w.begin.Line), raw, &msg)
	return &msg, err == nil
}

// next says whether a message is the one to be taken now.
func (w *waiting) next(msg *message) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last, w.accepted = time.Now(), true
	switch {
	case msg.Number == w.received+1:
		return true
	case msg.Number > w.received+1 && w.asked != w.received+1:
		w.asked = w.received + 1
		w.tell(ack{Received: w.received, Again: true})
	}
	return false // it is there already, or comes once more, or has no number
}

// taken notes that a message was taken.
func (w *waiting) taken(msg *message) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.received++
	w.finished = msg.Ended || msg.Error != nil
	if w.received%(window/4) == 0 || w.finished {
		w.tell(ack{Received: w.received})
	}
}

// keepTelling says how far the answer has come, asks for what is late, and gives the machine up when nothing is heard of it.
func (w *waiting) keepTelling(ctx context.Context) {
	tick := time.NewTicker(ackEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		away := w.machine.Away()
		if !w.tick(away) {
			return
		}
	}
}

// tick does what is to be done now and then, and reports whether it goes on.
func (w *waiting) tick(away string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	quiet := time.Since(w.last)
	if w.ended {
		return false
	}
	switch {
	case !w.accepted && quiet > acceptWithin:
		w.why = w.machine.unavailable("it does not take the request")
	case quiet > lostAfter: // it would have answered an ack, whatever it does
		w.why = w.machine.unavailable(cmp.Or(away, "it does not know of the request any more; it may have been started anew"))
	case w.accepted:
		w.tell(ack{Received: w.received, Again: quiet > ackEvery})
	default:
		if err := w.ask(); err != nil && quiet > acceptWithin/2 {
			w.why = err
		}
	}
	if w.why != nil {
		close(w.done)
		w.ended = true
	}
	return w.why == nil
}

// end says that nobody takes the rest, if there is any.
func (w *waiting) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.ended = true
	if !w.finished {
		w.tell(ack{Received: w.received, Cancel: true})
	}
}
