package fleet

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
)

// This file is how a machine, or a gate, answers over a line.

// responder answers what comes over a connection. It is safe for concurrent use.
type responder struct {
	conn *nats.Conn
	id   string        // in subjects
	key  nkeys.KeyPair // that messages to it are sealed for
	from string        // the key of those who may ask
	log  *slog.Logger
	// do answers a request, while so many others are in progress.
	do func(a *answer, b begin, open int) error

	ctx      context.Context
	end      context.CancelCauseFunc
	all      sync.WaitGroup
	mu       sync.Mutex
	open     map[string]*answer
	incoming map[string]*pending
	coming   int                  // bytes of these
	seen     map[string]time.Time // requests that were taken, with when nobody can come with them again
}

// pending is a request of which parts have come.
type pending struct {
	begin
	since time.Time
}

// mostPending bounds the requests of which not all parts have come.
const mostPending = 64

// listen begins to answer.
func (r *responder) listen() error {
	if r.ctx == nil {
		r.ctx, r.end = context.WithCancelCause(context.Background())
	}
	r.open, r.incoming, r.seen = map[string]*answer{}, map[string]*pending{}, map[string]time.Time{}
	for subject, do := range map[string]nats.MsgHandler{beginSubject(r.id): r.begin, ackSubject(r.id, "*"): r.acked} {
		if _, err := r.conn.Subscribe(subject, guarded(r.log, do)); err != nil {
			return err
		}
	}
	return nil
}

// inProgress is how many answers are, and clean forgets requests that nobody has gone on with.
func (r *responder) inProgress() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.open)
}

func (r *responder) clean() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for line, p := range r.incoming {
		if time.Since(p.since) > leftAfter {
			r.drop(line)
		}
	}
	maps.DeleteFunc(r.seen, func(_ string, until time.Time) bool { return time.Now().After(until) })
}

// drop removes a request of which parts have come, if there is one. mu is held.
func (r *responder) drop(line string) {
	if p := r.incoming[line]; p != nil {
		r.coming -= len(p.Doc)
		delete(r.incoming, line)
	}
}

// errStopped is why answers end that are in progress when this one is stopped.
var errStopped = exchange.Errorf(exchange.Unavailable, "shutting_down", "what answers is shutting down; the answer is not complete")

// close ends all answers, and says so.
func (r *responder) close() {
	r.end(errStopped)
	r.all.Wait()
}

// idle waits until there is no answer, or ctx is done.
func (r *responder) idle(ctx context.Context) {
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for r.inProgress() > 0 {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// guarded has a panic over a message end nothing else.
func guarded(log *slog.Logger, do nats.MsgHandler) nats.MsgHandler {
	return func(m *nats.Msg) {
		defer func() {
			if p := recover(); p != nil {
				log.Error("a message caused a panic", "subject", m.Subject, "panic", fmt.Sprint(p))
			}
		}()
		do(m)
	}
}

// begin takes a request, or a part of one.
func (r *responder) begin(msg *nats.Msg) {
	var b begin
	if err := unseal(r.key, r.from, msg.Data, &b); err != nil {
		r.log.Warn("a request was refused", "error", err.Error())
		return
	}
	if !random(b.Line) || !random(b.Gate) || b.Parts < 1 || b.Parts > mostRequest/partBytes || b.Part < 0 || b.Part >= b.Parts {
		return
	}
	r.mu.Lock()
	if there := r.open[b.Line]; there != nil {
		r.mu.Unlock()
		there.send(message{}) // it was asked once more before that was known
		return
	}
	if left := time.Until(b.Until); left < 0 || left > 2*askedFor {
		r.mu.Unlock()
		r.log.Warn("a request was refused, since it was said long ago, or the clocks have just been set", "line", b.Line)
		return
	}
	if _, taken := r.seen[b.Line]; taken || len(r.seen) >= mostSeen {
		r.mu.Unlock()
		return
	}
	p := r.incoming[b.Line]
	switch {
	case r.coming+len(b.Doc) > mostComing: // another machine may have more room
		r.mu.Unlock()
		return
	case b.Part == 0 && len(r.incoming) < mostPending:
		r.drop(b.Line) // the one that comes again
		p = &pending{begin: b, since: time.Now()}
		r.incoming[b.Line] = p
	case p != nil && b.Part == p.Part+1 && b.Parts == p.Parts:
		p.Part, p.Doc, p.since = b.Part, append(p.Doc, b.Doc...), time.Now()
	default:
		r.mu.Unlock()
		return
	}
	r.coming += len(b.Doc)
	sealer, err := newSealer(p.Key)
	if err != nil {
		r.drop(b.Line)
		r.mu.Unlock()
		return
	}
	if p.Part < p.Parts-1 {
		r.mu.Unlock()
		a := answer{of: r, subject: eventSubject(r.id, p.Gate, p.Line), sealer: sealer}
		a.send(message{Part: true})
		return
	}
	r.drop(b.Line)
	open := len(r.open)
	ctx, cancel := context.WithCancelCause(r.ctx)
	a := &answer{of: r, line: p.Line, subject: eventSubject(r.id, p.Gate, p.Line), sealer: sealer, ctx: ctx, cancel: cancel, moved: make(chan struct{}, 1), heard: time.Now()}
	r.open[b.Line] = a
	r.seen[b.Line] = time.Now().Add(2 * askedFor)
	r.mu.Unlock()
	r.all.Go(func() {
		defer r.forget(a)
		defer cancel(nil)
		defer func() {
			if p := recover(); p != nil {
				r.log.Error("an answer caused a panic", "panic", fmt.Sprint(p))
				a.finish(exchange.Errorf(exchange.Internal, "internal_error", "the machine has failed at this request; its log says how"))
			}
		}()
		a.send(message{}) // it is there
		a.finish(r.do(a, p.begin, open))
	})
}

func (r *responder) forget(a *answer) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.open, a.line)
}

// acked takes what the gate says of an answer.
func (r *responder) acked(msg *nats.Msg) {
	x := msg.Subject[strings.LastIndexByte(msg.Subject, '.')+1:]
	r.mu.Lock()
	a := r.open[x]
	r.mu.Unlock()
	if a != nil {
		var said ack
		if a.sealer.unseal(msg.Subject, msg.Data, &said) == nil {
			a.acked(said)
		}
	}
}

// answer is one in progress.
type answer struct {
	of      *responder
	line    string
	subject string
	sealer  sealer
	ctx     context.Context
	cancel  context.CancelCauseFunc
	moved   chan struct{} // has room for one: an ack has come

	mu     sync.Mutex
	number int       // of the last message
	kept   []message // that the gate has not said it has
	heard  time.Time // of the gate
	left   bool      // the gate wants no more
}

func (a *answer) acked(said ack) {
	a.mu.Lock()
	a.heard = time.Now()
	for len(a.kept) > 0 && a.kept[0].Number <= said.Received {
		a.kept = a.kept[1:]
	}
	var again []message
	if said.Again {
		again = append(again, a.kept...)
		if len(again) == 0 {
			again = []message{{}} // to say that it is still there
		}
	}
	a.left = a.left || said.Cancel
	a.mu.Unlock()
	if said.Cancel {
		a.cancel(context.Canceled)
	}
	for _, one := range again {
		a.send(one)
	}
	select {
	case a.moved <- struct{}{}:
	default:
	}
}

func (a *answer) send(msg message) {
	sealed, err := a.sealer.seal(a.subject, msg)
	if err == nil {
		_ = a.of.conn.Publish(a.subject, sealed) // what is lost is asked for again
	}
}

// put numbers a message, keeps it until the gate has it, and sends it. It waits while the gate has too many to take.
func (a *answer) put(msg message) error {
	for {
		a.mu.Lock()
		if len(a.kept) < window || a.left {
			a.number++
			msg.Number = a.number
			if !a.left {
				a.kept = append(a.kept, msg)
			}
			a.mu.Unlock()
			a.send(msg)
			return nil
		}
		a.mu.Unlock()
		if err := a.wait(); err != nil {
			return err
		}
	}
}

// wait waits for an ack.
func (a *answer) wait() error {
	a.mu.Lock()
	left := leftAfter - time.Since(a.heard)
	a.mu.Unlock()
	if left <= 0 {
		return errors.New("the gate does not take the answer")
	}
	t := time.NewTimer(left)
	defer t.Stop()
	select {
	case <-a.moved:
	case <-t.C:
	case <-a.ctx.Done():
		return context.Cause(a.ctx)
	}
	return nil
}

// write sends bytes of the answer, in as many messages as it takes.
func (a *answer) write(data []byte) error {
	for part := range slices.Chunk(data, partBytes) {
		if err := a.put(message{Data: part}); err != nil {
			return err
		}
	}
	return nil
}

// behind reports whether the gate has much to take already, so that events had better go together.
func (a *answer) behind() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.kept) >= window/2
}

func (a *answer) abandoned() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.left || time.Since(a.heard) > leftAfter
}

// finish sends the end of an answer, and waits until the gate has it, for as long as the gate is there.
func (a *answer) finish(err error) {
	end := message{Ended: true}
	if err != nil {
		end.Error = failureOf(err)
	}
	if a.put(end) != nil {
		return
	}
	for {
		a.mu.Lock()
		done := len(a.kept) == 0 || a.left
		a.mu.Unlock()
		if done || a.wait() != nil {
			return
		}
	}
}
