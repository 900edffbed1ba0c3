package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"sync"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// Origin says where an exchange comes from.
type Origin struct {
	ID       string        // of the exchange: what the answer's x-request-id says
	Style    dialect.Style // in which it was asked
	Endpoint string
	Client   string                   // the address that asked
	Agent    string                   // what the client calls itself
	Parent   string                   // the exchange that it is a part of; "" for none
	Trace    string                   // the traceparent that came with it (W3C Trace Context); "" for none
	Via      []string                 // what it came through (RFC 9110, section 7.6.3)
	Patient  bool                     // whether it waits for others in a queue
	Header   func(name string) string // a header that it came with; nil if it came without
	Entry    *keyring.Entry           // by which it came in; nil if it took no place of its key's before
	// Standing is told how the caller's limits stand, whenever that changes; nil for no one. It must not keep the caller waiting.
	Standing func([]keyring.Standing)
}

// Part is the origin of part n of an exchange, counted from 0.
func (o Origin) Part(n int) Origin {
	o.Parent, o.ID = o.ID, fmt.Sprintf("%s-%d", o.ID, n+1)
	return o
}

// Record is what an exchange came to.
type Record struct {
	Origin
	Key      keyring.Key
	Begun    time.Time
	Asked    string // the name that was asked for
	Answered string // the model that answers; "" if none was found
	Preset   string // that was applied; "" for none
	Machine  string // that the model is on; "" for this one
	// PassedOver are the targets of a name that were asked before the one that answers, each with the code of why it could not.
	PassedOver []string
	// ShadowOf is the exchange that this one shadows, and Compared how its answer compares with that one's; nil for one that ended otherwise.
	ShadowOf string
	Compared *Comparison

	PromptTokens     int
	CachedTokens     int // of the prompt, that did not have to be read
	CompletionTokens int
	ReasoningTokens  int // of these
	ToolCalls        int
	Malformed        int      // places that looked like tool calls and could not be read
	Drafted          int      // tokens that were put through the network before it was known that they follow
	Accepted         int      // of these, that did
	Job              string   // the first of the exchanges that go on from one another, itself included; "" without turns
	Step             int      // which of them it is, from 1
	Repeated         int      // tokens of the prompt that the one before had too, with its answer
	Cost             int64    // in millionths of the currency
	Dropped          int      // turns that were left out, since the conversation was longer than the context
	Unenforced       []string // what of the request's schemas is not enforced, though that was not insisted on
	Timings          exchange.Timings
	FirstToken       time.Duration // from the beginning to the first token; 0 if none came
	Duration         time.Duration
	Reason           exchange.Reason // of the last candidate to end; empty if none did
	Err              error           // why it was refused, or ended before it was whole
}

// Observer is told of exchanges. It must not keep the caller waiting.
type Observer interface {
	// Began is told of an exchange that was admitted.
	Began(Record)
	// Ended is told of one that has ended, before its last event goes out to the client; and of those that were refused,
	// which had not begun.
	Ended(Record)
}

// Content is what was said in an exchange.
type Content struct {
	Request []byte        // encoded, as it went to the runner
	Model   catalog.Model // that answered
	Events  []exchange.Event
}

// Recorder keeps what is said. It must not keep the caller waiting.
type Recorder interface {
	// Wants says whether what is said with a key is to be kept.
	Wants(k keyring.Key) bool
	// Keep gets what was said in an exchange that has ended.
	Keep(r Record, c Content)
}

// Exchange is a request that was admitted: what answers it, and what becomes of it. It is run by [Exchange.Events], or
// closed.
type Exchange struct {
	gate   *Gate
	req    *exchange.Request
	asked  exchange.Request // as it came, before a target's preset and limits
	model  catalog.Model
	runner Runner
	others []target       // that are to be tried if this one cannot answer
	shadow *shadow        // nil if there is none
	lease  *keyring.Lease // of the caller's limits; nil if it was refused before
	ctx    context.Context
	cancel context.CancelCauseFunc

	place place // among the exchanges that go on from one another

	mu      sync.Mutex
	record  Record
	content *Content // nil if it is not recorded
	ended   bool
}

// Begin admits a request: it finds what answers it, and makes the request what that wants. What is refused is in the
// records too. The exchange ends when ctx does.
func (g *Gate) Begin(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Request) (*Exchange, error) {
	return g.beginPart(ctx, caller, from, req, nil)
}

// beginPart is Begin for a part of a request, of which another part was admitted.
func (g *Gate) beginPart(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Request, other *Exchange) (*Exchange, error) {
	x := g.begin(ctx, caller, from, req.Model)
	r, err := g.find(ctx, caller, req.Model)
	if err == nil {
		err = g.circles(from.Via)
	}
	if req.Wanted == nil { // what is only measured is no step of anything
		x.place = g.jobs().find(caller.Account(), req.Turns)
	}
	var targets []target
	if err == nil {
		targets, err = g.order(ctx, r, caller, from, x.place, req)
	}
	if err == nil {
		err = fits(targets[0], req)
	}
	if err == nil {
		err = x.admit(other)
	}
	if err == nil {
		x.req, x.asked, x.others = req, *req, targets[1:]
		err = x.aim(targets[0])
	}
	if err != nil {
		x.record.Answered = "" // nothing did
		x.close(err)
		return nil, err
	}
	if before := x.place.tail; before.step > 0 {
		x.record.Job, x.record.Step, x.record.Repeated = before.id, before.step+1, before.tokens
	} else if x.place.ok {
		x.record.Job, x.record.Step = x.record.ID, 1
	}
	x.admitted()
	if r.public != nil && r.public.Shadow != nil {
		x.shadow = g.shadowed(ctx, x, *r.public.Shadow)
	}
	return x, nil
}

// fits reports whether a target can be asked for text at all.
func fits(t target, req *exchange.Request) error {
	if t.model.Use == catalog.Embedding {
		return exchange.InvalidParam("model", "model %q makes embeddings, not text; POST /v1/embeddings asks it for them", req.Model)
	}
	if image, ok := pictured(req); ok && t.model.Machine == "" {
		return image.Untaken()
	}
	return nil
}

// aim makes the request what a target wants.
func (x *Exchange) aim(t target) (err error) {
	if err := fits(t, &x.asked); err != nil {
		return err
	}
	g, req := x.gate, x.asked
	if x.runner, err = g.runner(t.model); err != nil {
		return err
	}
	preset := ""
	if t.preset != nil {
		preset = t.preset.Name
		t.preset.Apply(&req)
	}
	unenforced, err := enforce(x.ctx, &req)
	if err != nil {
		return err
	}
	t.model.Defaults.FillIn(&req.Sampling)
	x.mu.Lock()
	defer x.mu.Unlock()
	r := &x.record
	req.Owner, req.Share, req.Reserve, req.Fingerprint = r.Key.Payer(), x.lease.QueueShare(), x.reserve, g.Fingerprint(t.model, t.preset)
	if r.Patient {
		req.Owner, req.Share = patientOwner, patientShare
	}
	req.Via, req.Trace = g.through(r.Via), r.Trace
	if most := x.lease.AnswerTokens(); most > 0 && (req.MaxTokens == 0 || req.MaxTokens > most) {
		req.MaxTokens = most
	}
	x.model, *x.req = t.model, req
	r.Answered, r.Machine, r.Preset, r.Unenforced = t.model.ID, t.model.Machine, preset, unenforced
	if x.content != nil {
		x.content = x.said() // which is another request now
	}
	return nil
}

// said is what is kept of the request, to which the answer is added; nil if it cannot be written down, which cannot be: the codec has all there is.
func (x *Exchange) said() *Content {
	raw, err := x.req.Encode()
	if err != nil {
		return nil
	}
	return &Content{Request: raw, Model: x.model}
}

// next turns to the next target, after one has failed before its first token. It reports whether there is one.
func (x *Exchange) next(failed error) bool {
	if x.ctx.Err() != nil || !elsewhereToo(failed) {
		return false
	}
	for len(x.others) > 0 {
		t := x.others[0]
		x.others = x.others[1:]
		if x.gate.unwell(t.model) != "" {
			continue
		}
		before := x.model.ID
		if err := x.aim(t); err != nil {
			continue
		}
		x.mu.Lock()
		x.record.PassedOver = append(x.record.PassedOver, before+" "+exchange.AsError(failed).Code)
		x.mu.Unlock()
		x.gate.moved(before, x.model.ID)
		return true
	}
	return false
}

// Refuse notes a request that was refused before it could be an exchange, such as one that cannot be read.
func (g *Gate) Refuse(caller keyring.Key, from Origin, err error) {
	g.begin(context.Background(), caller, from, "").close(err)
}

// begin makes the record of an exchange.
func (g *Gate) begin(ctx context.Context, caller keyring.Key, from Origin, asked string) *Exchange {
	x := &Exchange{gate: g, record: Record{Origin: from, Key: caller, Begun: time.Now(), Asked: asked}}
	x.ctx, x.cancel = context.WithCancelCause(ctx)
	return x
}

// admit counts the request against its key's limits, unless another part of it was counted, and checks what else the key may.
func (x *Exchange) admit(other *Exchange) (err error) {
	r := &x.record
	if err := r.Key.MayAsk(string(r.Style)); err != nil {
		return err
	}
	if other != nil {
		x.lease = other.lease.Part()
		return nil
	}
	x.lease, err = x.gate.Keys.Admit(r.Key, r.Asked, r.Entry)
	x.tellStanding()
	return err
}

// reserve takes the prompt's tokens of the key's limits.
func (x *Exchange) reserve(tokens int) error {
	err := x.lease.Reserve(tokens)
	x.tellStanding()
	return err
}

func (x *Exchange) tellStanding() {
	if tell := x.record.Standing; tell != nil {
		tell(x.lease.Standing())
	}
}

// admitted tells who wants to know.
func (x *Exchange) admitted() {
	x.gate.came(x)
	if keep := x.gate.Recorder; keep != nil && x.req != nil && x.record.ShadowOf == "" && x.req.Wanted == nil && keep.Wants(x.record.Key) {
		x.content = x.said()
	}
	for _, o := range x.gate.Observers {
		o.Began(x.record)
	}
}

// Cancel ends the exchange. Its stream ends with the cause, if it has not come to its end.
func (x *Exchange) Cancel(cause error) { x.cancel(cause) }

// Close ends an exchange that is not to be run; for one that has ended it does nothing.
func (x *Exchange) Close(err error) { x.close(cmp.Or(err, context.Canceled)) }

// close writes the record, once.
func (x *Exchange) close(err error) {
	x.mu.Lock()
	if x.ended {
		x.mu.Unlock()
		return
	}
	x.ended = true
	x.record.Duration = time.Since(x.record.Begun)
	x.record.Err = err
	if price := x.gate.Price; price != nil && x.record.ShadowOf == "" { // which nobody asked for
		x.record.Cost = price(x.record.Answered, x.record.PromptTokens, x.record.CachedTokens, x.record.CompletionTokens)
	}
	x.record.Repeated = min(x.record.Repeated, x.record.PromptTokens)
	r, content := x.record, x.content
	x.mu.Unlock()
	if r.Answered != "" {
		x.gate.jobs().end(x.place, r.ID, cmp.Or(r.Preset, r.Answered), r.PromptTokens+r.CompletionTokens)
	}
	x.cancel(nil)
	x.gate.left(x)
	if x.lease != nil {
		x.lease.Settle(r.PromptTokens+r.CompletionTokens, r.Cost)
	}
	for _, o := range x.gate.Observers {
		o.Ended(r)
	}
	if content != nil {
		x.gate.Recorder.Keep(r, *content)
	}
	if x.shadow != nil {
		x.shadow.answered(r)
	}
}

// Record is what the exchange has come to so far.
func (x *Exchange) Record() Record {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.record
}

// Events runs the exchange. The stream is as package exchange describes it; it can be gone through once. When its last
// event comes, the record is closed already. A panic in what answers ends the stream with an error.
func (x *Exchange) Events() iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		left := max(1, x.req.Candidates)
		// Deltas count while an answer is under way, so that one that is cut off is counted too.
		counted := make([]int, left)
		for again := true; again; {
			again = false
			begun := false
			for event, err := range x.guarded() {
				if started, ok := event.(exchange.Started); ok && err == nil {
					begun = true
					event = x.routed(started)
				}
				if err != nil && !begun && x.next(err) {
					again = true
					break
				}
				if err == nil {
					left -= x.note(event, counted)
				}
				switch {
				case err != nil:
					x.close(err)
				case left == 0:
					x.close(nil)
				}
				if !yield(event, err) {
					x.close(cmp.Or(context.Cause(x.ctx), context.Canceled)) // the client went away
					return
				}
				if err != nil || left == 0 {
					return
				}
			}
		}
		err := errors.New("the answer ended before it was whole")
		x.close(err)
		yield(nil, err)
	}
}

// routed says which target answers, where that is not the model that was asked for.
func (x *Exchange) routed(s exchange.Started) exchange.Started {
	x.mu.Lock()
	defer x.mu.Unlock()
	if r := &x.record; r.Answered != r.Asked {
		s.Answered, s.PassedOver = r.Answered, r.PassedOver
	}
	return s
}

// guarded is what the runner gives. A panic of the runner is an error; one of whoever takes the events is not.
func (x *Exchange) guarded() iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		taking := false
		defer func() {
			if taking {
				return
			}
			if p := recover(); p != nil {
				yield(nil, exchange.Panicked(p))
			}
		}()
		for event, err := range x.runner.Run(x.ctx, x.model.Path, x.req) {
			if cause := context.Cause(x.ctx); err != nil && cause != nil {
				err = cause
			}
			taking = true
			if !yield(event, err) {
				return
			}
			taking = false
		}
	}
}

// note takes an event into the record, and reports whether a candidate has ended with it.
func (x *Exchange) note(event exchange.Event, counted []int) (ended int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	r := &x.record
	if x.content != nil {
		x.content.Events = append(x.content.Events, event)
	}
	if x.shadow != nil {
		x.shadow.heard(event)
	}
	count := func(candidate, tokens int) {
		r.CompletionTokens += tokens
		counted[candidate] += tokens
	}
	switch event := event.(type) {
	case exchange.Started:
		r.PromptTokens, r.CachedTokens, r.Timings, r.FirstToken = event.PromptTokens, event.CachedTokens, event.Timings, time.Since(r.Begun)
		r.Dropped = event.Dropped
	case exchange.ReasoningDelta:
		count(event.Candidate, event.Tokens)
		r.ReasoningTokens += event.Tokens
	case exchange.TextDelta:
		count(event.Candidate, event.Tokens)
	case exchange.ToolCallDelta:
		count(event.Candidate, event.Tokens)
		if event.Name != "" {
			r.ToolCalls++
		}
	case exchange.Finish:
		count(event.Candidate, event.Tokens-counted[event.Candidate])
		r.PromptTokens, r.CachedTokens = r.PromptTokens+event.PromptTokens, r.CachedTokens+event.CachedTokens
		r.ReasoningTokens += event.ReasoningTokens
		r.Malformed += event.Malformed
		r.Drafted, r.Accepted = r.Drafted+event.Drafted, r.Accepted+event.Accepted
		r.Reason = event.Reason
		return 1
	}
	return 0
}

// BeginAll admits several requests, which run side by side as parts of one exchange: all of them, or none. Events come
// with the number of their request.
func (g *Gate) BeginAll(ctx context.Context, caller keyring.Key, from Origin, reqs []exchange.Request) (iter.Seq2[exchange.Numbered[exchange.Event], error], error) {
	streams := make([]func(context.Context) iter.Seq2[exchange.Event, error], len(reqs))
	begun := make([]*Exchange, len(reqs))
	for i := range reqs {
		part := from
		if len(reqs) > 1 {
			part = from.Part(i)
		}
		var first *Exchange
		if i > 0 {
			first = begun[0]
		}
		x, err := g.beginPart(ctx, caller, part, &reqs[i], first)
		if err != nil {
			for _, x := range begun[:i] {
				x.Close(err)
			}
			return nil, err
		}
		begun[i] = x
		streams[i] = func(ctx context.Context) iter.Seq2[exchange.Event, error] {
			context.AfterFunc(ctx, func() { x.Cancel(context.Cause(ctx)) })
			return x.Events()
		}
	}
	together := exchange.Together(ctx, streams...)
	return func(yield func(exchange.Numbered[exchange.Event], error) bool) {
		defer func() {
			for _, x := range begun {
				x.Close(errors.New("it was never run"))
			}
		}()
		together(yield)
	}, nil
}
