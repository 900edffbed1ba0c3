package fleet

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"kindredgate/internal/exchange"
)

// This file is the gates that share NATS servers: who is there, and how one asks another.

// Subjects of gates. Machines may neither hear nor use them.
const (
	gateHelloSubject = "gates.hello"
	gateAskSubject   = "gates.who"
)

// GateHello is what a gate says of itself.
type GateHello struct {
	Name     string        `json:"name"`
	Instance string        `json:"instance"` // of this name, as long as it runs
	Program  string        `json:"program"`  // its version
	Version  int           `json:"version"`  // of the protocol
	Time     time.Time     `json:"time"`
	Started  time.Time     `json:"started"`
	BaseURL  string        `json:"base_url"`
	Line     time.Duration `json:"line_ns"`        // to the NATS servers, there and back
	Server   string        `json:"server"`         // which of them
	Open     int           `json:"open"`           // requests in progress
	Sees     []string      `json:"sees"`           // instances of other gates
	Pending  int           `json:"pending"`        // changes that the others were not told yet
	Ends     bool          `json:"ends,omitempty"` // it is its last word: it was stopped
}

// GateState is how a gate does, as another one sees it.
type GateState struct {
	GateHello
	Self  bool          // it is this one
	Heard time.Time     // when it said so
	Skew  time.Duration // of its clock, ahead of this one's
	// Unseen reports that it does not hear this gate, though this gate hears it.
	Unseen bool
}

// GatesOptions say what a gate shares, and with whom.
type GatesOptions struct {
	Name    string
	Program string // its version
	BaseURL func() string
	Open    func() int // requests in progress
	Changes Changes    // what is shared
	// Known are gates of an earlier run, with when each was heard of; Met is told of one when it is heard of, now and then, and of one that was stopped.
	Known map[string]time.Time
	Met   func(name string, at time.Time, ends bool)
	// Applied is told what was changed by others.
	Applied func(kind, name string)
	// Relay answers a request that came to another gate.
	Relay func(ctx context.Context, doc []byte, write func([]byte) error) error
	// Keep is how long the ledger's rows are kept where others can read them.
	Keep time.Duration
	// Responses is how long stored responses are.
	Responses time.Duration
	Log       *slog.Logger
}

// Gates are those that share NATS servers, this one among them. It is safe for concurrent use.
type Gates struct {
	hub     *Hub
	opts    GatesOptions
	js      jetstream.JetStream
	answers responder
	hears   []*nats.Subscription // to what gates say of themselves
	started time.Time
	ctx     context.Context
	end     context.CancelFunc
	all     sync.WaitGroup

	mu     sync.Mutex
	others map[string]*peer     // by instance
	known  map[string]time.Time // gates by their names, with when each was heard of
	noted  map[string]time.Time // and when that was told to be kept
	away   bool                 // the servers cannot keep anything now, as far as is known
	told   string               // which other gate of this name was complained of
	stores stores
	shift  time.Duration // of the servers' clock, ahead of this one's
}

// peer is another gate.
type peer struct {
	hello GateHello
	heard time.Time
	skew  time.Duration
}

// ErrTwice is for a gate whose name another one has.
var ErrTwice = errors.New("another gate of this name is running")

// Share has the gate share what it knows with those that have the same servers and keys. The error wraps ErrTwice if one of them has its name.
func (h *Hub) Share(ctx context.Context, o GatesOptions) (g *Gates, err error) {
	g = &Gates{hub: h, opts: o, started: time.Now(), others: map[string]*peer{}, known: maps.Clone(o.Known), noted: map[string]time.Time{}}
	if g.known == nil {
		g.known = map[string]time.Time{}
	}
	if g.js, err = jetstream.New(h.conn); err != nil {
		return nil, err
	}
	g.ctx, g.end = context.WithCancel(context.WithoutCancel(ctx))
	g.answers = responder{conn: h.conn, id: h.id, key: h.keys.seal, from: h.keys.sealPublic, log: o.Log, do: g.relayed}
	for subject, do := range map[string]nats.MsgHandler{gateHelloSubject: g.heard, gateAskSubject: g.asked} {
		sub, err := h.conn.Subscribe(subject, guarded(o.Log, do))
		if err != nil {
			return nil, errors.Join(err, g.Close())
		}
		g.hears = append(g.hears, sub)
	}
	if err := g.answers.listen(); err != nil {
		return nil, errors.Join(err, g.Close())
	}
	if err := g.alone(ctx); err != nil {
		return nil, errors.Join(err, g.Close())
	}
	h.gates.Store(g)
	g.all.Go(g.keepTelling)
	g.all.Go(g.keepSharing)
	return g, nil
}

// askFor is how long a gate that starts waits for one of its name to answer.
const askFor = 300 * time.Millisecond

// alone makes sure that no other gate has this name.
func (g *Gates) alone(ctx context.Context) error {
	if !g.hub.conn.IsConnected() {
		return nil // it is found out later
	}
	if err := errors.Join(g.hub.conn.Publish(gateAskSubject, nil), g.hub.conn.FlushTimeout(5*time.Second)); err != nil {
		return nil // likewise
	}
	select {
	case <-time.After(askFor):
	case <-ctx.Done():
		return ctx.Err()
	}
	for _, s := range g.List() {
		if s.Name == g.opts.Name && !s.Self {
			return fmt.Errorf("%w: %q, at %s; give this one another with fleet.name", ErrTwice, s.Name, s.BaseURL)
		}
	}
	return nil
}

// Close ends sharing, and tells the others.
func (g *Gates) Close() error {
	g.hub.gates.CompareAndSwap(g, nil)
	for _, sub := range g.hears {
		_ = sub.Unsubscribe() // it has ended before if the connection has
	}
	g.end()
	g.all.Wait()
	if g.answers.end != nil {
		g.answers.close()
	}
	if g.hub.conn.IsConnected() {
		g.tell(func(h *GateHello) { h.Ends = true })
		_ = g.hub.conn.FlushTimeout(partingTime) // it is found out by itself when nothing is heard any more
	}
	return nil
}

// guard has a panic of what goes on beside requests end in the log.
func (g *Gates) guard(doing string) {
	if p := recover(); p != nil {
		g.opts.Log.Error(doing+" panicked", "panic", fmt.Sprint(p))
	}
}

// keepTelling says now and then that this gate is there.
func (g *Gates) keepTelling() {
	defer g.guard("telling other gates")
	tick := time.NewTicker(helloEvery)
	defer tick.Stop()
	for {
		g.tell(func(*GateHello) {})
		g.answers.clean()
		g.look()
		select {
		case <-tick.C:
		case <-g.ctx.Done():
			return
		}
	}
}

// asked answers a gate that wants to know who is there.
func (g *Gates) asked(*nats.Msg) { g.tell(func(*GateHello) {}) }

func (g *Gates) tell(change func(*GateHello)) {
	hello := g.self()
	change(&hello)
	if sealed, err := seal(g.hub.keys.seal, g.hub.keys.sealPublic, hello); err == nil && g.hub.conn.IsConnected() {
		_ = g.hub.conn.Publish(gateHelloSubject, sealed) // the next one says the same
	}
}

// self is what this gate says of itself.
func (g *Gates) self() GateHello {
	delay, _ := g.hub.Line()
	h := GateHello{Name: g.opts.Name, Instance: g.hub.id, Program: g.opts.Program, Version: Version, Time: time.Now(), Started: g.started, BaseURL: g.opts.BaseURL(), Line: delay, Server: g.hub.conn.ConnectedServerName(), Open: g.opts.Open(), Pending: g.pending()}
	g.mu.Lock()
	defer g.mu.Unlock()
	for id, p := range g.others {
		if time.Since(p.heard) < lostAfter {
			h.Sees = append(h.Sees, id)
		}
	}
	slices.Sort(h.Sees)
	return h
}

// forgetAfter is how long a gate is listed of which nothing is heard.
const forgetAfter = time.Hour

// heard takes what another gate says of itself.
func (g *Gates) heard(msg *nats.Msg) {
	var h GateHello
	if err := unseal(g.hub.keys.seal, g.hub.keys.sealPublic, msg.Data, &h); err != nil || h.Instance == "" || h.Instance == g.hub.id {
		return
	}
	now := time.Now()
	g.mu.Lock()
	defer g.mu.Unlock()
	if h.Ends {
		delete(g.others, h.Instance)
	}
	if h.Name != g.opts.Name {
		g.meet(h.Name, now, h.Ends)
	}
	if h.Ends {
		return
	}
	for id, p := range g.others { // one that has started anew
		if id != h.Instance && p.hello.Name == h.Name && now.Sub(p.heard) > lostAfter || now.Sub(p.heard) > forgetAfter {
			delete(g.others, id)
		}
	}
	g.others[h.Instance] = &peer{h, now, h.Time.Sub(now)}
	if h.Name == g.opts.Name && g.told != h.Instance {
		g.told = h.Instance
		g.opts.Log.Error("another gate has the name of this one; give one of them another with fleet.name", "name", h.Name, "at", h.BaseURL)
	}
}

// List are the gates that are there or were lately, by their names; this one first.
func (g *Gates) List() (list []GateState) {
	list = append(list, GateState{GateHello: g.self(), Self: true, Heard: time.Now()})
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, p := range g.others {
		list = append(list, GateState{GateHello: p.hello, Heard: p.heard, Skew: p.skew, Unseen: !slices.Contains(p.hello.Sees, g.hub.id) && time.Since(g.started) > lostAfter})
	}
	slices.SortFunc(list[1:], func(a, b GateState) int { return strings.Compare(a.Name+a.Instance, b.Name+b.Instance) })
	return list
}

// There reports whether a gate is heard of.
func (s GateState) There() bool { return s.Self || time.Since(s.Heard) < lostAfter }

// there reports whether an instance of a gate is heard of.
func (g *Gates) there(instance string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := g.others[instance]
	return instance == g.hub.id || p != nil && time.Since(p.heard) < lostAfter
}

// noteEvery is how often it is kept that a gate is there.
const noteEvery = 10 * time.Minute

// meet notes that a gate is there, or that it was stopped. mu is held.
func (g *Gates) meet(name string, now time.Time, ends bool) {
	if g.known[name] = now; ends {
		delete(g.known, name)
	}
	if ends || now.Sub(g.noted[name]) > noteEvery {
		if g.noted[name] = now; ends {
			delete(g.noted, name)
		}
		if g.opts.Met != nil {
			g.opts.Met(name, now, ends)
		}
	}
}

// count is how many gates there are, this one among them: those that are heard of, and those of which nothing is heard since lately, which may only be
// cut off.
func (g *Gates) count() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	n := 1
	for _, at := range g.known {
		if time.Since(at) < forgetAfter {
			n++
		}
	}
	return n
}

// look finds out whether the servers can keep something, when another gate is missing: a part of them that is cut off from the rest cannot.
func (g *Gates) look() {
	all, there := g.count(), 1
	g.mu.Lock()
	for _, p := range g.others {
		if time.Since(p.heard) < lostAfter {
			there++
		}
	}
	g.mu.Unlock()
	away := !g.hub.conn.IsConnected()
	if !away && there < all {
		ctx, cancel := context.WithTimeout(g.ctx, lookTime)
		defer cancel()
		s, err := g.ready()
		away = err != nil || g.readClock(ctx, s) != nil
	}
	g.mu.Lock()
	g.away = away
	g.mu.Unlock()
}

// lookTime is how long the servers may take to keep something.
const lookTime = time.Second

// apart reports whether the servers can keep nothing, as far as is known.
func (g *Gates) apart() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.away
}

// Instance is what this gate is called as long as it runs.
func (g *Gates) Instance() string { return g.hub.id }

const relayKind = "relay"

// Relay has another gate answer a request, whose answer take gets piece by piece.
func (g *Gates) Relay(ctx context.Context, instance string, doc []byte, take func([]byte) error) error {
	g.mu.Lock()
	p := g.others[instance]
	g.mu.Unlock()
	if p == nil {
		return exchange.Errorf(exchange.Unavailable, "gate_unavailable", "the gate that has this is not there any more")
	}
	f := &far{hub: g.hub, id: instance, seal: g.hub.keys.sealPublic, who: fmt.Sprintf("the gate %q", p.hello.Name), fault: func(string) {}, skew: func() time.Duration { return p.skew }, away: func() string {
		if g.there(instance) {
			return ""
		}
		return "nothing is heard of it"
	}}
	return f.call(ctx, relayKind, Work{}, doc, nil, take)
}

// relayed answers a request that came to another gate.
func (g *Gates) relayed(a *answer, b begin, _ int) error {
	if b.Kind != relayKind {
		return unread(fmt.Errorf("a request of the kind %q", b.Kind))
	}
	return g.opts.Relay(a.ctx, b.Doc, a.write)
}

// key writes a name as a part of a subject, and unkey reads it.
func key(name string) string { return base64.RawURLEncoding.EncodeToString([]byte(name)) }

func unkey(text string) (name string, ok bool) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	return string(raw), err == nil
}
