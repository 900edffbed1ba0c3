package fleet

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"reflect"
	"strconv"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"kindredgate/internal/exchange"
)

// Machine is one that has joined, as the gate sees it.
type Machine struct {
	hub    *Hub
	joined Joined

	mu     sync.Mutex
	hello  Hello
	heard  time.Time // when it said so; zero if it never has
	skew   time.Duration
	faults map[string]int
	left   chan struct{} // closed when it is gone, or revoked
	why    string
}

func newMachine(h *Hub, j Joined) *Machine {
	return &Machine{hub: h, joined: j, faults: map[string]int{}, left: make(chan struct{})}
}

// Name is what the machine is called here.
func (m *Machine) Name() string { return m.joined.Name }

func (m *Machine) revoked() bool { return !m.joined.Revoked.IsZero() }

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

// says notes what the machine says of itself.
func (m *Machine) says(h Hello) {
	if len(h.Models) > mostModels {
		h.Models = h.Models[:mostModels]
		m.fault("models")
	}
	m.mu.Lock()
	changed := m.heard.IsZero() || time.Since(m.heard) > lostAfter || !reflect.DeepEqual(m.hello.Models, h.Models) || m.hello.Away != h.Away
	m.hello, m.heard = h, time.Now()
	m.skew = time.Since(h.Time)
	m.mu.Unlock()
	if changed {
		m.hub.changed()
	}
}

// Away is why the machine takes no work now; "" if it does.
func (m *Machine) Away() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case m.heard.IsZero():
		return "it has not called yet"
	case time.Since(m.heard) > lostAfter:
		return fmt.Sprintf("nothing was heard of it for %s", time.Since(m.heard).Round(time.Second))
	case compatible(m.hello.Version) != nil:
		return compatible(m.hello.Version).Error()
	}
	return m.hello.Away
}

// Models are those that the machine offers.
func (m *Machine) Models() []Model {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.hello.Models
}

// Run answers a request with one of the machine's models.
func (m *Machine) Run(ctx context.Context, model string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		doc, err := req.Encode()
		if err != nil {
			yield(nil, err)
			return
		}
		call := begin{Kind: "answer", Model: model, Owner: m.hub.owner(req.Owner), Share: req.Share}
		err = m.call(ctx, call, doc, func(msg *message) error {
			if msg.Reading > 0 && req.Reading != nil {
				req.Reading(msg.Reading)
			}
			for _, raw := range msg.Events {
				event, err := exchange.DecodeEvent(raw)
				if err != nil {
					m.fault("event")
					return exchange.Errorf(exchange.Unavailable, "runner_error", "the machine %q has said something that is no event: %v", m.Name(), err)
				}
				if !yield(event, nil) {
					return errLeft
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, errLeft) {
			yield(nil, err)
		}
	}
}

// errLeft is for a loop that was left.
var errLeft = errors.New("nobody takes the events any more")

// unavailable is the error for a machine that does not answer.
func (m *Machine) unavailable(why string) error {
	return exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine %q cannot be asked: %s", m.Name(), why)
}

// call sends a request, and takes the messages of the answer until it ends.
func (m *Machine) call(ctx context.Context, b begin, doc []byte, take func(*message) error) error {
	if why := m.Away(); why != "" {
		return m.unavailable(why)
	}
	if len(doc) > mostRequest {
		return exchange.Errorf(exchange.TooLarge, "request_too_large", "the request takes %d MB, more than a joined machine is sent", len(doc)>>20)
	}
	b.Exchange = rand.Text()
	id := m.joined.ID
	incoming := make(chan *nats.Msg, 2*window)
	sub, err := m.hub.conn.ChanSubscribe(eventSubject(id, b.Exchange), incoming)
	if err != nil {
		return m.unavailable(err.Error())
	}
	defer func() { _ = sub.Unsubscribe() }() // the connection may have ended
	tell := func(a ack) {
		if sealed, err := seal(m.hub.key, m.joined.Seal, a); err == nil {
			_ = m.hub.conn.Publish(ackSubject(id, b.Exchange), sealed) // what is lost is said again
		}
	}
	ask := func() error {
		b := b
		b.Parts = max(1, (len(doc)+partBytes-1)/partBytes)
		for b.Part = 0; b.Part < b.Parts; b.Part++ {
			b.Doc = doc[b.Part*partBytes : min(len(doc), (b.Part+1)*partBytes)]
			sealed, err := seal(m.hub.key, m.joined.Seal, b)
			if err != nil {
				return err
			}
			if err := m.hub.conn.Publish(beginSubject(id), sealed); err != nil {
				return m.unavailable(err.Error())
			}
		}
		return nil
	}
	if err := ask(); err != nil {
		return err
	}
	w := &waiting{machine: m, tell: tell, ask: ask, last: time.Now(), done: make(chan struct{})}
	defer w.end()
	go w.keepTelling(ctx)
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-m.left:
			return m.unavailable(m.why)
		case <-w.done:
			return w.why
		case raw := <-incoming:
			var msg message
			if err := unseal(m.hub.key, m.joined.Seal, raw.Data, &msg); err != nil {
				m.fault("message")
				continue
			}
			if !w.next(&msg) {
				continue
			}
			if err := take(&msg); err != nil {
				return err
			}
			w.taken(&msg)
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
	machine *Machine
	tell    func(ack)
	ask     func() error // once more, as long as the machine has not said that it has the request

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

// next says whether a message is the one to be taken now.
func (w *waiting) next(msg *message) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last, w.accepted = time.Now(), true
	switch {
	case msg.Number == w.received+1:
		return true
	case msg.Number == 0:
		return msg.Reading > 0
	case msg.Number < 0:
		w.finished = true
		return true // it knows nothing of the request any more
	case msg.Number > w.received+1 && w.asked != w.received+1:
		w.asked = w.received + 1
		w.tell(ack{Received: w.received, Again: true})
	}
	return false // it is there already, or comes once more
}

// taken notes that a message was taken.
func (w *waiting) taken(msg *message) {
	if msg.Number <= 0 {
		return
	}
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
		w.mu.Lock()
		quiet := time.Since(w.last)
		if w.ended {
			w.mu.Unlock()
			return
		}
		switch {
		case !w.accepted && quiet > acceptWithin:
			w.why = w.machine.unavailable("it does not take the request")
		case away != "" && quiet > lostAfter:
			w.why = w.machine.unavailable(away)
		}
		if w.why != nil {
			close(w.done)
			w.ended = true
			w.mu.Unlock()
			return
		}
		if w.accepted {
			w.tell(ack{Received: w.received, Again: quiet > ackEvery})
		} else if err := w.ask(); err != nil { // the line may have been cut just then
			w.why, w.ended = err, true
			close(w.done)
			w.mu.Unlock()
			return
		}
		w.mu.Unlock()
	}
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

// owner is a number for who asks, by which machines give turns, that tells nothing of who that is.
func (h *Hub) owner(of string) string {
	if of == "" {
		return ""
	}
	return strconv.FormatUint(hashOf(h.inside, of), 36)
}

// signature reads a signature as NATS clients write it, with or without padding.
func signature(text string) ([]byte, error) {
	if sig, err := base64.RawURLEncoding.DecodeString(text); err == nil {
		return sig, nil
	}
	return base64.StdEncoding.DecodeString(text)
}

func hashOf(parts ...string) uint64 {
	raw, _ := json.Marshal(parts) // strings can be written
	h := uint64(14695981039346656037)
	for _, b := range raw {
		h = (h ^ uint64(b)) * 1099511628211
	}
	return h
}
