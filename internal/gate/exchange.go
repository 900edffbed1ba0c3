package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
)

// Origin says where an exchange comes from.
type Origin struct {
	ID       string        // of the exchange: what the answer's x-request-id says
	Style    dialect.Style // in which it was asked
	Endpoint string
	Client   string                   // the address that asked
	Agent    string                   // what the client calls itself
	Parent   string                   // the exchange that it is a part of; "" for none
	Step     int                      // which step of its parent it is, from 1; 0 for none
	Trace    string                   // the traceparent that came with it (W3C Trace Context); "" for none
	Via      []string                 // what it came through (RFC 9110, section 7.6.3)
	Patient  bool                     // whether it waits for others in a queue
	Header   func(name string) string // a header that it came with; nil if it came without
	Turn     string                   // whose turn it is among what the same key asks; "" if that does not matter
	Share    int                      // of a model's places that those may have, in percent; 0 for the key's
	Reading  func(tokens int)         // is told how much of the prompt was read; nil for no one
	Entry    *keyring.Entry           // by which it came in; nil if it took no place of its key's before
	// Standing is told how the caller's limits stand, whenever that changes; nil for no one. It must not keep the caller waiting.
	Standing func([]keyring.Standing)
}

// traceID is the id of the trace in the traceparent.
func (o Origin) traceID() string {
	if parts := strings.Split(o.Trace, "-"); len(parts) == 4 {
		return parts[1]
	}
	return ""
}

// Part is the origin of part n of an exchange, counted from 0.
func (o Origin) Part(n int) Origin {
	o.Parent, o.ID = o.ID, fmt.Sprintf("%s-%d", o.ID, n+1)
	return o
}

// Observer is told of exchanges. It must not keep the caller waiting.
type Observer interface {
	// Began is told of an exchange that was admitted.
	Began(record.Record)
	// Ended is told of one that has ended, before its last event goes out to the client; and of those that were refused,
	// which had not begun.
	Ended(record.Record)
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
	Keep(r record.Record, c Content)
}

// Exchange is a request that was admitted: what answers it, and what becomes of it. It is run by [Exchange.Events], or
// closed.
type Exchange struct {
	gate   *Gate
	from   Origin
	caller keyring.Key
	name   string    // that was asked for, as it came
	begun  time.Time // by a clock that does not jump
	req    *exchange.Request
	asked  exchange.Request // as it came, before a target's preset and limits
	forms  *forms           // of the schemas of what was asked; nil until a target wants them
	steps  *compiledForms   // of its last step, for the next
	want   want
	model  catalog.Model
	runner Runner
	chain  []uint32 // of how it begins; nil if nobody wants to know
	find   func() (choices, error)
	tried  map[string]bool // models that have failed
	others []target        // that are to be tried if this one cannot answer
	shadow *shadow         // nil if there is none
	lease  *keyring.Lease  // of the caller's limits; nil if it was refused before
	ctx    context.Context
	cancel context.CancelCauseFunc

	run   answerer  // what answers it by steps; nil if a model does
	whole *Exchange // of which it is a step; nil if it is none
	tail  string    // the model of its last step

	read  atomic.Int64 // tokens of the prompt, so far
	place place        // among the exchanges that go on from one another

	mu      sync.Mutex
	record  record.Record
	content *Content // nil if it is not recorded
	ended   bool
}

// Begin admits a request: it finds what answers it, and makes the request what that wants. What is refused is in the
// records too. The exchange ends when ctx does.
func (g *Gate) Begin(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Request) (*Exchange, error) {
	return g.beginPart(ctx, caller, from, req, nil, nil)
}

// beginPart is Begin for a part of a request, of which another part was admitted; and for one that run answers by steps.
func (g *Gate) beginPart(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Request, other *Exchange, run answerer) (*Exchange, error) {
	var unnamed error
	chosen := req.Model == ""
	if chosen {
		req.Model, unnamed = g.unnamed(ctx, caller)
	}
	x := g.begin(ctx, caller, from, req.Model)
	x.record.Chosen = chosen && unnamed == nil
	if req.Wanted == nil { // what is only measured is no step of anything
		x.place = g.jobs().find(caller.Account(), req.Turns)
	}
	x.req, x.asked, x.run = req, *req, run
	if from.Step > 0 {
		x.whole = other
		x.record.Step = from.Step
		if before := other.steps; before != nil && sameTools(before.of, req) {
			x.forms = before.forms
		}
	} else if before := x.place.tail; before.step > 0 {
		x.record.Job, x.record.Step, x.record.RepeatedTokens = before.id, before.step+1, before.tokens
	} else if x.place.ok {
		x.record.Job, x.record.Step = x.record.ID, 1
	}
	var public *catalog.Name
	err := x.start(want{x.fits, x.aim}, other, func() (choices, error) {
		if unnamed != nil {
			return choices{}, unnamed
		}
		r, err := g.find(ctx, caller, req.Model)
		if err != nil {
			return choices{}, err
		}
		public = r.public
		return g.order(ctx, r, caller, from, x.place, req)
	})
	if err != nil {
		x.record.Job, x.record.Step, x.record.RepeatedTokens = "", 0, 0 // nothing continues it
		x.close(err)
		return nil, err
	}
	if x.whole != nil {
		x.whole.steps = &compiledForms{&x.asked, x.forms}
	}
	if public != nil && public.Shadow != nil && run == nil && x.whole == nil {
		x.shadow = g.shadowed(ctx, x, *public.Shadow)
	}
	return x, nil
}

// fits reports whether a target can be asked for text at all.
func (x *Exchange) fits(t target) error {
	switch t.model.Use {
	case catalog.Embedding:
		return exchange.InvalidParam("model", "model %q makes embeddings, not text; POST /v1/embeddings asks it for them", x.asked.Model)
	case catalog.Rerank:
		return exchange.InvalidParam("model", "model %q scores documents, and writes no text; POST /v1/rerank asks it for that", x.asked.Model)
	case catalog.Chat, catalog.Completion:
	}
	if image, ok := pictured(&x.asked); ok && t.model.Machine == "" && !t.model.Sees() {
		return image.Untaken()
	}
	return nil
}

// aim makes the request what a target wants.
func (x *Exchange) aim(t target) error {
	g, req := x.gate, x.asked
	preset := ""
	if t.preset != nil {
		preset = t.preset.Name
		t.preset.Apply(&req)
	}
	if x.forms == nil {
		x.forms = enforced(x.ctx, &x.asked)
	}
	notes, err := x.forms.into(&req, t.model.Machine == "")
	if err != nil {
		return err
	}
	req.Sampling.Settings = req.Sampling.Settings.Or(t.model.Defaults)
	x.mu.Lock()
	defer x.mu.Unlock()
	req.Owner, req.Share, req.Reserve, req.Fingerprint = x.caller.Payer(), x.lease.QueueShare(), x.reserve, g.Fingerprint(t.model, t.preset)
	if x.from.Turn != "" {
		req.Owner += "/" + x.from.Turn
	}
	if x.from.Share > 0 && (req.Share == 0 || x.from.Share < req.Share) {
		req.Share = x.from.Share
	}
	req.Reading = func(tokens int) {
		x.read.Store(int64(tokens))
		if x.from.Reading != nil {
			x.from.Reading(tokens)
		}
	}
	if x.from.Patient {
		req.Owner, req.Share = patientOwner, patientShare
	}
	req.Via, req.Trace = g.through(x.from.Via), x.from.Trace
	if most := x.lease.AnswerTokens(); most > 0 && (req.MaxTokens == 0 || req.MaxTokens > most) {
		req.MaxTokens = most
	}
	*x.req = req
	x.record.Preset, x.record.NotEnforced = preset, notes
	if x.content != nil {
		x.content = x.said(t.model) // which is another request now
	}
	return nil
}

// said is what is kept of the request, to which the answer is added; nil only if encoding fails, which never happens: the codec has all there is.
func (x *Exchange) said(m catalog.Model) *Content {
	raw, err := x.req.Encode()
	if err != nil {
		return nil
	}
	return &Content{Request: raw, Model: m}
}

// Refuse notes a request that was refused before it could be an exchange, such as one that cannot be read.
func (g *Gate) Refuse(caller keyring.Key, from Origin, err error) {
	g.begin(context.Background(), caller, from, "").close(err)
}

// begin makes the record of an exchange.
func (g *Gate) begin(ctx context.Context, caller keyring.Key, from Origin, asked string) *Exchange {
	now := time.Now()
	x := &Exchange{gate: g, from: from, caller: caller, name: asked, begun: now, record: record.Record{
		ID: from.ID, Parent: from.Parent, Trace: from.traceID(), Traceparent: from.Trace, Begun: now.UTC(),
		Key: caller.Account(), Label: caller.Label, Group: caller.Group, Client: from.Client, Agent: from.Agent,
		Style: string(from.Style), Endpoint: from.Endpoint, Model: record.Short(keyring.Redact(asked)), State: record.Open,
	}}
	x.ctx, x.cancel = context.WithCancelCause(ctx)
	return x
}

// admit counts the request against its key's limits, unless another part of it was counted, and checks what else the key may.
func (x *Exchange) admit(other *Exchange) (err error) {
	if x.record.ShadowOf != "" { // which nobody asked for
		x.lease = x.gate.Keys.Unlimited()
		return nil
	}
	if err := x.caller.MayAsk(string(x.from.Style)); err != nil {
		return err
	}
	if other != nil {
		x.lease = other.lease.Part()
		return nil
	}
	x.lease, err = x.gate.Keys.Admit(x.caller, x.name, x.from.Entry)
	x.tellStanding()
	return err
}

// reserve takes the prompt's tokens of the key's limits.
func (x *Exchange) reserve(tokens int) error {
	err := x.lease.Reserve(tokens)
	if err == nil {
		// What it costs is known from here on, unless some of it is cached, which comes back at the end.
		asked := x.Record()
		asked.PromptTokens = tokens
		err = x.lease.Charge(tokens, x.cost(&asked))
	}
	x.tellStanding()
	return err
}

// cost is what an exchange that has come so far costs, in millionths of the currency.
func (x *Exchange) cost(r *record.Record) int64 {
	if x.run != nil || x.gate.Price == nil || r.ShadowOf != "" { // which nobody asked for
		return 0
	}
	return x.gate.Price(r)
}

func (x *Exchange) tellStanding() {
	if tell := x.from.Standing; tell != nil {
		tell(x.lease.Standing())
	}
}

// admitted tells who wants to know.
func (x *Exchange) admitted() {
	x.gate.came(x)
	if keep := x.gate.Recorder; keep != nil && x.req != nil && x.record.ShadowOf == "" && x.req.Wanted == nil && keep.Wants(x.caller) {
		x.content = x.said(x.model)
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
	r := &x.record
	if r.Took == 0 { // else its tools have run since
		r.Took = record.Milliseconds(time.Since(x.begun))
	}
	r.State, r.Err = outcome(r, err), err
	if r.State == record.Refused && x.gate.Keys != nil {
		r.Unlisted = !x.gate.Keys.Refuse(x.caller, exchange.AsError(err).Kind == exchange.Limited)
	}
	if err != nil && r.State != record.Cancelled {
		known := exchange.AsError(err)
		r.Code, r.Error = known.Code, record.Short(keyring.Redact(known.Message))
	}
	if r.FirstToken == 0 && r.State == record.Cancelled {
		r.PromptTokens = max(r.PromptTokens, int(x.read.Load())) // nobody waits for it any more, but it was read
	}
	if x.run == nil && r.Asked() && (r.State != record.Failed || r.PromptTokens > 0) {
		r.Cost = x.cost(r)
	}
	r.RepeatedTokens = min(r.RepeatedTokens, r.PromptTokens)
	ended, content := *r, x.content
	x.mu.Unlock()
	x.measured()
	if ended.Asked() {
		x.gate.jobs().end(x.place, x.jobID(), cmp.Or(ended.Preset, ended.Answered), ended.PromptTokens+ended.CompletionTokens)
	}
	if x.whole != nil {
		x.whole.took(ended)
	}
	x.cancel(nil)
	x.gate.left(x)
	switch {
	case x.lease == nil:
	case x.run != nil:
		x.lease.Settle(0, 0) // its steps have settled theirs
	default:
		x.lease.Settle(ended.PromptTokens+ended.CompletionTokens, ended.Cost)
	}
	if content != nil { // before anybody sees that it has ended, and asks for it
		x.gate.Recorder.Keep(ended, *content)
	}
	for _, o := range x.gate.Observers {
		o.Ended(ended)
	}
	if x.shadow != nil {
		x.shadow.answered(ended)
	}
}

// jobID is the exchange that the conversation is known by if this one is its first.
func (x *Exchange) jobID() string {
	if x.whole != nil {
		return x.whole.record.ID
	}
	return x.record.ID
}

// outcome is the state in which an exchange has ended.
func outcome(r *record.Record, err error) record.State {
	var e *exchange.Error
	switch {
	case err == nil:
		return record.Done
	case !r.Asked():
		return record.Refused
	case errors.Is(err, context.Canceled), errors.As(err, &e) && e.Kind == exchange.Canceled:
		return record.Cancelled
	}
	return record.Failed
}

// Record is what the exchange has come to so far.
func (x *Exchange) Record() record.Record {
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
		counted, done := make([]int, left), make([]bool, left)
		gone := false
		err := x.attempt(func() (begun bool, err error) {
			for event, err := range x.guarded() {
				if err != nil {
					return begun, err
				}
				if full := x.charge(event); full != nil {
					gone = !x.cut(full, event, done, counted, yield)
					return true, nil
				}
				if started, ok := event.(exchange.Started); ok {
					begun = true
					event = x.routed(started)
				}
				if finish, ok := event.(exchange.Finish); ok {
					done[finish.Candidate] = true
				}
				if left -= x.note(event, counted); left == 0 {
					x.over()
				}
				if !yield(event, nil) {
					gone = true
					return true, cmp.Or(context.Cause(x.ctx), context.Canceled) // the client went away
				}
				if left == 0 {
					return true, nil
				}
			}
			return true, errors.New("the answer ended before it was whole")
		})
		if err != nil {
			x.close(err)
			if !gone {
				yield(nil, err)
			}
		}
	}
}

// over notes that the last event has come. A step is open until its tools have run.
func (x *Exchange) over() {
	if x.whole == nil {
		x.close(nil)
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.record.Took = record.Milliseconds(time.Since(x.begun))
}

// charge counts what an event adds to what the key uses. The error says which limit has no room for it.
func (x *Exchange) charge(event exchange.Event) error {
	if x.run != nil || !x.lease.Grows() {
		return nil
	}
	r := x.Record()
	switch event := event.(type) {
	case exchange.Started:
		r.PromptTokens, r.CachedTokens = event.PromptTokens, event.CachedTokens
	case exchange.ReasoningDelta:
		r.CompletionTokens += event.Tokens
	case exchange.TextDelta:
		r.CompletionTokens += event.Tokens
	case exchange.ToolCallDelta:
		r.CompletionTokens += event.Tokens
	case exchange.Finish:
		return nil // nothing can be spared by ending what has ended
	case exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
		return nil // which only a request with steps has; its steps are charged
	}
	return x.lease.Charge(r.PromptTokens+r.CompletionTokens, x.cost(&r))
}

// cut ends an answer where a limit of its key is reached, as it ends where max_tokens is: with what is there. It reports whether the client
// takes that.
func (x *Exchange) cut(full error, event exchange.Event, done []bool, counted []int, yield func(exchange.Event, error) bool) bool {
	x.mu.Lock()
	x.record.Limit = record.Short(exchange.AsError(full).Message)
	x.mu.Unlock()
	var last []exchange.Event
	if started, ok := event.(exchange.Started); ok {
		last = append(last, x.routed(started))
	}
	for candidate, ended := range done {
		if !ended {
			last = append(last, exchange.Finish{Candidate: candidate, Reason: exchange.Length, Tokens: counted[candidate]})
		}
	}
	for i, e := range last {
		x.note(e, counted)
		if i == len(last)-1 {
			x.over()
		}
		if !yield(e, nil) {
			x.close(cmp.Or(context.Cause(x.ctx), context.Canceled))
			return false
		}
	}
	return true
}

// routed says which target answers, where that is not the model that was asked for.
func (x *Exchange) routed(s exchange.Started) exchange.Started {
	x.mu.Lock()
	defer x.mu.Unlock()
	s.Answered, s.PassedOver = "", nil // what another gate behind this one says of its own
	if r := &x.record; r.Answered != x.name {
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
		answer := x.run
		if answer == nil {
			answer = func(ctx context.Context, x *Exchange) iter.Seq2[exchange.Event, error] {
				return x.runner.Run(ctx, x.model.Path, x.req)
			}
		}
		for event, err := range answer(x.ctx, x) {
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
	if x.run != nil { // its steps count
		switch event := event.(type) {
		case exchange.Started:
			r.FirstToken = record.Milliseconds(time.Since(x.begun))
		case exchange.Finish:
			r.Reason, r.Bound = string(event.Reason), event.Bound
			return 1
		case exchange.TextDelta, exchange.ReasoningDelta, exchange.ToolCallDelta, exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
		}
		return 0
	}
	count := func(candidate, tokens int) {
		r.CompletionTokens += tokens
		counted[candidate] += tokens
	}
	switch event := event.(type) {
	case exchange.Started:
		r.PromptTokens, r.CachedTokens, r.FirstToken = event.PromptTokens, event.CachedTokens, record.Milliseconds(time.Since(x.begun))
		r.DroppedTurns = event.Dropped
		x.timed(event.Timings)
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
		r.MalformedCalls += event.Malformed
		r.DraftedTokens, r.AcceptedTokens = r.DraftedTokens+event.Drafted, r.AcceptedTokens+event.Accepted
		r.Reason = string(event.Reason)
		return 1
	case exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
		// which only a request with steps has
	}
	return 0
}

// timed notes where the time went. x is locked, or not shared yet.
func (x *Exchange) timed(t exchange.Timings) {
	r := &x.record
	r.Queue, r.Load, r.Look, r.Prefill = record.Milliseconds(t.Queue), record.Milliseconds(t.Load), record.Milliseconds(t.Look), record.Milliseconds(t.Prefill)
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
		x, err := g.beginPart(ctx, caller, part, &reqs[i], first, nil)
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
