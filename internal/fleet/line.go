package fleet

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"sync"
	"time"

	"kindredgate/internal/exchange"
)

// This file is how a gate asks over a line, and takes the answer, whatever happens to the line meanwhile.

// far is the other end of a line, as a gate has it: a machine, or another gate.
type far struct {
	hub  *Hub
	id   string // in subjects
	seal string // the key that messages to it are sealed for
	who  string // it is, in messages
	away func() string
	skew func() time.Duration // of its clock, ahead of the gate's
	// left is closed when it is gone for good; nil for never.
	left  chan struct{}
	fault func(what string)
}

// unavailable is the error for one that does not answer.
func (f *far) unavailable(why string) error {
	return exchange.Errorf(exchange.Unavailable, "runner_unavailable", "%s cannot be asked: %s", f.who, why)
}

// inLines calls take with each whole line of what it is given piece by piece. The error for a line that is too long is its own.
func inLines(take func(line []byte) error) func(data []byte) error {
	var rest []byte // of a line that has not ended
	return func(data []byte) error {
		if rest = append(rest, data...); len(rest) > mostEvent {
			return errLongLine
		}
		for {
			line, after, whole := bytes.Cut(rest, []byte{'\n'})
			if !whole {
				return nil
			}
			if err := take(line); err != nil {
				return err
			}
			rest = after
		}
	}
}

var errLongLine = exchange.Errorf(exchange.Unavailable, "runner_error", "an event has more than %d MB", mostEvent>>20)

// call sends a request, and takes the bytes of the answer until it ends.
func (f *far) call(ctx context.Context, kind string, work Work, doc []byte, reading func(int), take func(data []byte) error) error {
	if why := f.away(); why != "" {
		return f.unavailable(why)
	}
	if len(doc) > mostRequest {
		return exchange.Errorf(exchange.TooLarge, "request_too_large", "the request takes %d MB, more than goes to another machine", len(doc)>>20)
	}
	w := &waiting{far: f, last: time.Now(), done: make(chan struct{}), incoming: make(chan []byte, 2*window), doc: doc}
	w.begin = begin{Work: work, Line: rand.Text(), Gate: f.hub.id, Kind: kind, Key: newKey(), Parts: max(1, (len(doc)+partBytes-1)/partBytes)}
	var err error
	if w.sealer, err = newSealer(w.begin.Key); err != nil {
		return err
	}
	w.tell = w.send
	f.hub.mu.Lock()
	f.hub.answers[w.begin.Line] = w
	f.hub.mu.Unlock()
	defer func() {
		f.hub.mu.Lock()
		delete(f.hub.answers, w.begin.Line)
		f.hub.mu.Unlock()
		w.end()
	}()
	if err := w.ask(); err != nil {
		return err
	}
	go w.keepTelling(ctx)
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-f.left:
			return f.unavailable(f.away())
		case <-w.done:
			return w.why
		case raw := <-w.incoming:
			msg, ok := w.read(raw)
			if !ok {
				f.fault(forgedFault)
				continue
			}
			if msg.Reading > 0 && reading != nil {
				reading(msg.Reading)
			}
			if !w.next(msg) {
				continue
			}
			if err := take(msg.Data); err != nil {
				if errors.Is(err, errLongLine) {
					f.fault(eventFault)
				}
				return err
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
	far      *far
	begin    begin
	doc      []byte
	sealer   sealer
	incoming chan []byte
	tell     func(ack)

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
	f, b := w.far, w.begin
	b.Until = time.Now().Add(f.skew() + askedFor)
	for b.Part = 0; b.Part < b.Parts; b.Part++ {
		b.Doc = w.doc[b.Part*partBytes : min(len(w.doc), (b.Part+1)*partBytes)]
		sealed, err := seal(f.hub.keys.seal, f.seal, b)
		if err != nil {
			return err
		}
		if err := f.hub.conn.Publish(beginSubject(f.id), sealed); err != nil {
			return f.unavailable(err.Error())
		}
	}
	return nil
}

func (w *waiting) send(a ack) {
	subject := ackSubject(w.far.id, w.begin.Line)
	if sealed, err := w.sealer.seal(subject, a); err == nil {
		_ = w.far.hub.conn.Publish(subject, sealed) // what is lost is said again
	}
}

// read opens a message.
func (w *waiting) read(raw []byte) (*message, bool) {
	var msg message
	err := w.sealer.unseal(eventSubject(w.far.id, w.far.hub.id, w.begin.Line), raw, &msg)
	return &msg, err == nil
}

// next says whether a message is the one to be taken now.
func (w *waiting) next(msg *message) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last = time.Now()
	if msg.Part {
		return false
	}
	w.accepted = true
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
	defer func() {
		if p := recover(); p != nil {
			w.far.hub.opts.Log.Error("waiting for an answer panicked", "panic", fmt.Sprint(p))
		}
	}()
	tick := time.NewTicker(ackEvery / looksPerAck)
	defer tick.Stop()
	for n := 1; ; n++ {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		away := w.far.away()
		if !w.tick(away, n%looksPerAck == 0) {
			return
		}
	}
}

// tick does what is to be done now and then, and reports whether it goes on.
func (w *waiting) tick(away string, tells bool) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	quiet := time.Since(w.last)
	if w.ended {
		return false
	}
	switch {
	case !w.accepted && (away != "" || quiet > acceptWithin): // another machine may take it
		w.why = w.far.unavailable(cmp.Or(away, "it does not take the request"))
	case quiet > lostAfter: // it would have answered an ack, whatever it does
		w.why = w.far.unavailable(cmp.Or(away, "it does not know of the request any more; it may have been started anew"))
	case !tells:
	case w.accepted:
		w.tell(ack{Received: w.received, Again: quiet > ackEvery})
	case quiet > acceptWithin/2: // it was lost, or a part of it
		if err := w.ask(); err != nil {
			w.why = err
		}
	}
	if w.why != nil {
		close(w.done)
		w.ended = true
	}
	return w.why == nil
}

// giveUp ends an answer that the other end has forgotten. One that was not taken yet is asked for again.
func (w *waiting) giveUp(why string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.accepted && !w.ended && w.why == nil {
		w.why = w.far.unavailable(why)
		w.ended = true
		close(w.done)
	}
}

// giveUp ends the answers of a machine that has forgotten them.
func (h *Hub) giveUp(id, why string) {
	var list []*waiting
	h.mu.Lock()
	for _, w := range h.answers {
		if w.far.id == id {
			list = append(list, w)
		}
	}
	h.mu.Unlock()
	for _, w := range list {
		w.giveUp(why)
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
