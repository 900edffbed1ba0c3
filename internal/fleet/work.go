package fleet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"kindredgate/internal/kept"
)

// This file is responses in the background as work that is done whatever becomes of the gate that has begun it, and stored responses that any
// gate can read.

const (
	workSubject  = "gates.work"
	workConsumer = "gates"
)

// Times of work.
const (
	workFor    = 7 * 24 * time.Hour // that nobody has finished
	workSilent = 6 * time.Second    // after which work counts as left by the gate that had taken it
	workAlive  = 2 * time.Second    // how often that says that it still does it
	workLater  = 2 * time.Second    // after which work is offered again that another gate is doing
)

// Queue is the work that gates share. It takes the place of [kept.Records] that are one gate's.
type Queue struct {
	kept.Records // this gate's own
	own          kept.Queue
	gates        *Gates
	doing        *doing
}

// Queue has responses be shared, beside the records of this gate.
func (g *Gates) Queue(records kept.Records, own kept.Queue) *Queue {
	q := &Queue{Records: records, own: own, gates: g, doing: newDoing()}
	return q
}

// item is work on the servers.
type item struct {
	kept.Work
	Instance string `json:"instance"` // of the gate that has begun it
}

// AddWork has work be done, by this gate or, if that ends, by another.
func (q *Queue) AddWork(ctx context.Context, w kept.Work) (shared bool, err error) {
	g := q.gates
	sealed, err := seal(g.hub.keys.seal, g.hub.keys.sealPublic, item{w, g.hub.id})
	if err != nil {
		return false, err
	}
	q.doing.begin(w.ID)
	if _, err = g.js.PublishMsg(ctx, &nats.Msg{Subject: workSubject, Data: sealed}, jetstream.WithMsgID(w.ID)); err != nil {
		q.doing.end(w.ID)
		return false, fmt.Errorf("hand over to other gates: %w", err)
	}
	return true, nil
}

// WorkDone says that work needs not be done any more.
func (q *Queue) WorkDone(id string) {
	q.own.WorkDone(id)
	q.doing.end(id)
}

// FollowWork has do carry on with work that nobody does any more, until ctx is done: with what this gate has begun alone, and with what comes from the
// servers.
func (q *Queue) FollowWork(ctx context.Context, do func(ctx context.Context, w kept.Work) error) {
	q.own.FollowWork(ctx, do)
	q.gates.all.Go(func() {
		defer q.gates.guard("following work")
		for ctx.Err() == nil && q.gates.ctx.Err() == nil {
			if err := q.follow(ctx, do); err != nil && ctx.Err() == nil && q.gates.ctx.Err() == nil && !errors.Is(err, errNotYet) {
				q.gates.opts.Log.Warn("work of other gates cannot be followed; it is tried again", "error", err.Error())
			}
			select {
			case <-time.After(shareAgain):
			case <-ctx.Done():
			case <-q.gates.ctx.Done():
			}
		}
	})
}

func (q *Queue) follow(ctx context.Context, do func(ctx context.Context, w kept.Work) error) error {
	if _, err := q.gates.ready(); err != nil {
		return err
	}
	stream, err := q.gates.js.Stream(ctx, workStream)
	if err != nil {
		return err
	}
	consumer, err := stream.CreateOrUpdateConsumer(ctx, jetstream.ConsumerConfig{Durable: workConsumer, AckPolicy: jetstream.AckExplicitPolicy, AckWait: workSilent, MaxDeliver: -1, MaxAckPending: 100_000})
	if err != nil {
		return err
	}
	messages, err := consumer.Messages(jetstream.PullMaxMessages(16))
	if err != nil {
		return err
	}
	defer messages.Stop()
	stop := context.AfterFunc(ctx, messages.Stop)
	defer stop()
	over := context.AfterFunc(q.gates.ctx, messages.Stop)
	defer over()
	for {
		msg, err := messages.Next()
		if err != nil {
			return err
		}
		q.offered(ctx, msg, do)
	}
}

// offered takes work that is offered, unless another gate does it.
func (q *Queue) offered(ctx context.Context, msg jetstream.Msg, do func(ctx context.Context, w kept.Work) error) {
	g := q.gates
	var it item
	if err := unseal(g.hub.keys.seal, g.hub.keys.sealPublic, msg.Data(), &it); err != nil {
		g.opts.Log.Error("work was not written by a gate", "error", err.Error())
		_ = msg.Term()
		return
	}
	if it.Instance == g.hub.id {
		if ended, ours := q.doing.state(it.ID); ours {
			if ended {
				_ = msg.Ack() // else it comes once more
				return
			}
			q.hold(ctx, msg, it.ID)
			return
		}
	} else if g.there(it.Instance) {
		if meta, err := msg.Metadata(); err == nil && meta.NumDelivered < 1000 {
			_ = msg.NakWithDelay(workLater) // else it comes after its time
			return
		}
	}
	if ended, ours := q.doing.state(it.ID); ours { // which took it over before
		if ended {
			_ = msg.Ack()
		} else {
			q.hold(ctx, msg, it.ID)
		}
		return
	}
	q.doing.begin(it.ID)
	taken, err := q.taken(ctx, it.ID, +1)
	if it.Taken = taken; err == nil {
		err = do(ctx, it.Work)
	}
	if err != nil {
		q.doing.forget(it.ID)
		g.opts.Log.Warn("work of another gate cannot be taken over now", "response", it.ID, "error", err.Error())
		_ = msg.NakWithDelay(workLater)
		return
	}
	q.hold(ctx, msg, it.ID)
}

// taken counts how often work was taken over by gates that have not given it back. What it is then it returns.
func (q *Queue) taken(ctx context.Context, id string, more int) (n int, err error) {
	s, err := q.gates.ready()
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, shareTime)
	defer cancel()
	at := "taken." + key(id)
	entry, err := s.claims.Get(ctx, at)
	switch {
	case errors.Is(err, jetstream.ErrKeyNotFound):
		_, err = s.claims.Create(ctx, at, []byte(strconv.Itoa(more)))
		return more, err
	case err != nil:
		return 0, err
	}
	if n, err = strconv.Atoi(string(entry.Value())); err != nil {
		return 0, err
	}
	n += more
	_, err = s.claims.Update(ctx, at, []byte(strconv.Itoa(n)), entry.Revision())
	return n, err
}

// hold keeps work from other gates until it has ended here.
func (q *Queue) hold(ctx context.Context, msg jetstream.Msg, id string) {
	ended := q.doing.wait(id)
	q.gates.all.Go(func() {
		defer q.gates.guard("holding work")
		tick := time.NewTicker(workAlive)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				_ = msg.InProgress() // the next one says the same
			case <-ended:
				if err := msg.DoubleAck(ctx); err == nil {
					q.doing.forget(id)
				}
				return
			case <-ctx.Done():
				q.handBack(msg, id)
				return
			case <-q.gates.ctx.Done():
				q.handBack(msg, id)
				return
			}
		}
	})
}

// handBack has another gate go on with work at once, since this one stops.
func (q *Queue) handBack(msg jetstream.Msg, id string) {
	if _, err := q.taken(context.WithoutCancel(q.gates.ctx), id, -1); err != nil {
		q.gates.opts.Log.Warn("work that is handed over counts as lost with this gate", "response", id, "error", err.Error())
	}
	_ = msg.Nak() // else it comes when nothing is heard of this gate
}

// PutResponse keeps a response here, and where other gates can read it.
func (q *Queue) PutResponse(ctx context.Context, r kept.Response) error {
	if err := q.Records.PutResponse(ctx, r); err != nil {
		return err
	}
	if err := q.putShared(ctx, r); err != nil {
		q.gates.opts.Log.Warn("a response is stored here only, since other gates cannot be told", "response", r.ID, "error", err.Error())
	}
	return nil
}

func (q *Queue) putShared(ctx context.Context, r kept.Response) error {
	s, err := q.gates.ready()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, shareTime)
	defer cancel()
	hub := q.gates.hub
	sealed, err := seal(hub.keys.seal, hub.keys.sealPublic, sharedResponse{r, hub.id})
	if err != nil {
		return err
	}
	_, err = s.responses.PutBytes(ctx, r.ID, sealed)
	return err
}

// sharedResponse is a response with the gate that stored it last.
type sharedResponse struct {
	kept.Response
	Instance string `json:"instance"`
}

func (q *Queue) shared(ctx context.Context, id string) (r sharedResponse, err error) {
	s, err := q.gates.ready()
	if err != nil {
		return r, kept.ErrMissing
	}
	ctx, cancel := context.WithTimeout(ctx, shareTime)
	defer cancel()
	object, err := s.responses.Get(ctx, id)
	if errors.Is(err, jetstream.ErrObjectNotFound) {
		return r, kept.ErrMissing
	} else if err != nil {
		return r, err
	}
	defer object.Close()
	sealed, err := io.ReadAll(object)
	if err != nil {
		return r, err
	}
	hub := q.gates.hub
	return r, unseal(hub.keys.seal, hub.keys.sealPublic, sealed, &r)
}

// Response returns a response: this gate's, if it has ended here, or else as it was stored last by any.
func (q *Queue) Response(ctx context.Context, id string) (kept.Response, error) {
	own, missing := q.Records.Response(ctx, id)
	if missing == nil && own.Ended || missing != nil && !errors.Is(missing, kept.ErrMissing) {
		return own, missing
	}
	other, err := q.shared(ctx, id)
	if err != nil {
		if missing == nil {
			return own, nil
		}
		if !errors.Is(err, kept.ErrMissing) {
			q.gates.opts.Log.Warn("a response of another gate cannot be read", "response", id, "error", err.Error())
		}
		return own, kept.ErrMissing
	}
	return other.Response, nil
}

// RunsAt is the gate that answers a response now, if that is another one.
func (q *Queue) RunsAt(ctx context.Context, id string) (instance string, ok bool) {
	r, err := q.shared(ctx, id)
	return r.Instance, err == nil && !r.Ended && r.Instance != q.gates.hub.id && q.gates.there(r.Instance)
}

// DropResponse removes a response everywhere.
func (q *Queue) DropResponse(ctx context.Context, id string) error {
	err := q.Records.DropResponse(ctx, id)
	s, away := q.gates.ready()
	if away != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, shareTime)
	defer cancel()
	switch there := s.responses.Delete(ctx, id); {
	case there == nil:
		return nil
	case !errors.Is(there, jetstream.ErrObjectNotFound) && err == nil:
		return there
	}
	return err
}
