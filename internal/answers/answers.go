// Package answers runs requests of the response style apart from the connections that ask for them, keeps what comes of
// them, and lets others follow.
//
// A [Run] is one response under way: its events are numbered and kept in memory until it ends, so that whoever comes
// late gets them from any number on. A response that is to be stored goes to [kept.Records] when it ends, one in the
// background when it begins too.
package answers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/response"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/loop"
)

// Service owns the runs. It is safe for concurrent use.
type Service struct {
	gate    *gate.Gate
	loops   *loop.Service
	records kept.Records
	queue   kept.Queue
	log     *slog.Logger

	mu      sync.Mutex
	runs    map[string]*Run
	working sync.WaitGroup
	base    context.Context // every run ends when this does
	close   context.CancelCauseFunc
	pruned  time.Time
}

// Open makes a service. Responses that were in progress when the gate stopped are carried on with where that can be, and marked as failed
// elsewhere. The queue is [Alone] for a gate that does its work by itself.
func Open(ctx context.Context, g *gate.Gate, loops *loop.Service, records kept.Records, queue kept.Queue, log *slog.Logger) *Service {
	base, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	s := &Service{gate: g, loops: loops, records: records, queue: queue, log: log, runs: map[string]*Run{}, base: base, close: cancel}
	queue.FollowWork(base, s.carryOn)
	return s
}

// Alone is the work of a gate that shares it with no other: what was in progress when it stopped.
func Alone(ctx context.Context, records kept.Records, log *slog.Logger) (kept.Queue, error) {
	list, damaged, err := records.UnendedResponses(ctx)
	if err != nil {
		return nil, err
	}
	for _, id := range damaged {
		log.Error("a stored response is damaged and cannot be read; DELETE removes it", "response", id)
	}
	return alone{list, log}, nil
}

type alone struct {
	left []kept.Response
	log  *slog.Logger
}

func (alone) AddWork(context.Context, kept.Work) (bool, error) { return false, nil } // it is stored
func (alone) WorkDone(string)                                  {}

func (a alone) FollowWork(ctx context.Context, do func(ctx context.Context, w kept.Work) error) {
	for _, r := range a.left {
		if r.Shared {
			continue // it comes as the work of all gates
		}
		if err := do(ctx, kept.Work{ID: r.ID}); err != nil {
			// No reason not to start: it is still marked as in progress, so it is tried again at the next start.
			a.log.Error("a response that the last stop interrupted could not be marked so", "response", r.ID, "error", err.Error())
		}
	}
}

// carryOn carries on with a response that nobody answers any more: where it has come to, from its beginning, or to its failed end.
func (s *Service) carryOn(ctx context.Context, w kept.Work) error {
	s.mu.Lock()
	_, running := s.runs[w.ID]
	s.mu.Unlock()
	if running {
		return nil
	}
	r, err := s.records.Response(ctx, w.ID)
	switch {
	case errors.Is(err, kept.ErrMissing) && w.Body == nil, err == nil && r.Ended:
		s.queue.WorkDone(w.ID) // or it was deleted
		return nil
	case err != nil && !errors.Is(err, kept.ErrMissing):
		return err
	}
	if w.Taken > mostTaken {
		return s.fail(ctx, w, exchange.Errorf(exchange.Internal, "gates_lost", "%d gates went away in the middle of this response, one after the other; it may be what ends them, so it is not begun again", w.Taken))
	}
	if w.Body == nil || len(r.Loop) > 0 {
		return s.interrupted(ctx, r)
	}
	return s.again(ctx, w)
}

// mostTaken is how often work is taken over from gates that have gone. What ends every gate that does it is not to end all of them.
const mostTaken = 5

// fail ends a response of another gate that cannot be answered.
func (s *Service) fail(ctx context.Context, w kept.Work, why error) error {
	call, err := response.Decode(w.Body)
	if err != nil {
		return err
	}
	k, _ := s.gate.Keys.Now(w.Key)
	r := &Run{ID: w.ID, call: call, key: k, begun: w.Created, changed: make(chan struct{}), shared: true}
	r.writer = response.NewWriter(r.ID, r.begun, call, func(e response.Event) { r.events = append(r.events, e) })
	r.writer.Begin()
	r.writer.Fail(why)
	if err := s.store(ctx, r); err != nil {
		return err
	}
	s.queue.WorkDone(w.ID)
	return nil
}

// again answers a response of another gate from its beginning. With the same seed it comes to the same.
func (s *Service) again(ctx context.Context, w kept.Work) error {
	call, err := response.Decode(w.Body)
	if err != nil {
		return err
	}
	k, valid := s.gate.Keys.Now(w.Key)
	if !valid {
		err = exchange.Errorf(exchange.Unauthenticated, "invalid_api_key", "the key %q ended before the response could be answered", k.Label)
	} else if _, err = s.Complete(ctx, k, call); err == nil {
		call.Sampling.Seed = &w.Seed
		from := gate.Origin{ID: strings.TrimPrefix(w.ID, idPrefix), Style: dialect.Response, Endpoint: "/v1" + dialect.Response.Path(), Client: "another gate"}
		r := &Run{ID: w.ID, call: call, key: k, begun: w.Created, changed: make(chan struct{}), shared: true}
		if err = s.begin(context.WithoutCancel(ctx), r, from); err == nil {
			s.log.Info("a response of another gate is answered here, from its beginning", "response", w.ID)
			s.start(r)
			return nil
		}
	}
	if e := exchange.AsError(err); e.Kind == exchange.Unavailable || e.Kind == exchange.Limited || e.Kind == exchange.Internal {
		return err // later it may be possible
	}
	return s.fail(ctx, w, err)
}

// interrupted marks a stored response as failed by a stop. What was stored last while it ran is what it came to, its failed end included; only of
// one that an older gate stored is there nothing but its beginning.
func (s *Service) interrupted(ctx context.Context, r kept.Response) error {
	var told []response.Event
	if len(r.Events) > 0 {
		if err := json.Unmarshal(r.Events, &told); err != nil {
			return err
		}
	}
	if len(r.Loop) > 0 {
		err := s.resumed(ctx, r, told)
		if err == nil {
			return nil
		}
		s.log.Warn("a response cannot go on after the stop", "response", r.ID, "error", err.Error())
	}
	if n := len(told); n > 0 && told[n-1].Type == response.FailedEvent {
		return s.over(ctx, r)
	}
	body, event, err := response.Interrupted(r.Body)
	if err != nil {
		return err
	}
	events, err := json.Marshal([]response.Event{event})
	if err != nil {
		return err
	}
	r.Body, r.Events = body, events
	return s.over(ctx, r)
}

// over stores that a response has ended.
func (s *Service) over(ctx context.Context, r kept.Response) error {
	r.Ended = true
	err := s.records.PutResponse(ctx, r)
	if err == nil {
		s.queue.WorkDone(r.ID)
	}
	return err
}

// Close ends the runs and waits until what came of them is stored.
func (s *Service) Close() error {
	s.close(exchange.Errorf(exchange.Unavailable, "shutting_down", "the gate was stopped while the response was in progress"))
	s.working.Wait()
	return nil
}

// Run is a response under way, or one that has ended lately.
type Run struct {
	ID       string
	call     *response.Call
	key      keyring.Key
	begun    time.Time
	exchange *gate.Exchange

	mu      sync.Mutex
	writer  *response.Writer
	events  []response.Event
	started exchange.Started
	loop    *loop.State   // how far its steps have come, from where they can go on after a stop; nil for none
	stored  int           // how many events are in the records
	err     error         // why there is no response, if that was known before anything was sent
	shared  bool          // other gates know of it, and carry on with it if this one stops
	left    bool          // the gate has stopped, and another one carries on with it
	ended   bool          // nothing more comes
	kept    bool          // it was stored when it ended, or that was tried
	changed chan struct{} // closed when there is more to see, and replaced
}

var (
	errCancelled = errors.New("the response was cancelled")
	errDeleted   = errors.New("the response was deleted")
)

// Begin starts a response. Unless it is in the background, it ends when ctx does.
func (s *Service) Begin(ctx context.Context, k keyring.Key, from gate.Origin, call *response.Call) (*Run, error) {
	if _, err := s.Complete(ctx, k, call); err != nil {
		return nil, err
	}
	r := &Run{ID: idPrefix + from.ID, call: call, key: k, begun: time.Now(), changed: make(chan struct{})}
	running := ctx
	if call.Background {
		running = context.WithoutCancel(ctx) // the end of the request does not matter
		if call.Sampling.Seed == nil {
			seed := rand.Int64()
			call.Sampling.Seed = &seed
		}
	}
	if err := s.begin(running, r, from); err != nil {
		return nil, err // what is plainly wrong is said at once
	}
	s.start(r)
	return r, nil
}

// idPrefix begins the id of a response; what follows is that of its exchange.
const idPrefix = "resp_"

// begin admits a run. One in the background is stored, and handed over to whoever carries on with it.
func (s *Service) begin(ctx context.Context, r *Run, from gate.Origin) error {
	how := loop.How{Approvals: true, Waits: r.call.Background}
	if r.call.Background {
		how.Save = func(state *loop.State) error { return s.advance(r, state) }
	}
	x, err := s.loops.Begin(ctx, r.key, from, &r.call.Request, how)
	if err != nil {
		return err
	}
	r.exchange = x
	r.writer = response.NewWriter(r.ID, r.begun, r.call, func(e response.Event) { r.events = append(r.events, e) })
	if !r.call.Background {
		return nil
	}
	r.writer.Begin()
	if !r.shared {
		var err error
		if r.shared, err = s.queue.AddWork(ctx, kept.Work{ID: r.ID, Key: r.key.ID, Created: r.begun, Body: r.call.Body, Seed: *r.call.Sampling.Seed}); err != nil {
			s.log.Warn("other gates cannot be told of a response; it is this one's alone", "response", r.ID, "error", err.Error())
		}
	}
	if err := s.store(ctx, r); err != nil {
		s.queue.WorkDone(r.ID)
		x.Close(err)
		return unstored(err)
	}
	return nil
}

// start has a run answered.
func (s *Service) start(r *Run) {
	stop := context.AfterFunc(s.base, func() { r.exchange.Cancel(context.Cause(s.base)) })
	s.mu.Lock()
	s.runs[r.ID] = r
	s.mu.Unlock()
	s.working.Go(func() {
		defer stop()
		s.work(r)
		s.finish(r)
	})
	if r.call.Background {
		s.working.Go(func() { s.checkpoint(r) })
	}
}

// advance notes and stores how far the steps of a response have come.
func (s *Service) advance(r *Run, state *loop.State) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.loop = state
	return s.put(context.WithoutCancel(s.base), r)
}

// resumed goes on with a response that a stop has ended in the middle of its steps. The error says why it cannot.
func (s *Service) resumed(ctx context.Context, stored kept.Response, told []response.Event) error {
	var state loop.State
	if err := json.Unmarshal(stored.Loop, &state); err != nil {
		return err
	}
	n := len(told)
	if n == 0 || told[n-1].Type != response.FailedEvent {
		return errors.New("it was not stored to its end")
	}
	r := &Run{ID: stored.ID, begun: stored.Created, changed: make(chan struct{}), loop: &state, shared: stored.Shared}
	how := loop.How{Approvals: true, Waits: true, Save: func(state *loop.State) error { return s.advance(r, state) }}
	x, k, req, err := s.loops.Resume(context.WithoutCancel(ctx), &state, how)
	if err != nil {
		return err
	}
	if r.call, err = response.Stored(stored.Body, stored.Input, req); err == nil {
		r.key, r.exchange = k, x
		r.events = told[:n-1]
		r.stored = len(r.events)
		r.writer = response.NewWriter(r.ID, r.begun, r.call, func(e response.Event) { r.events = append(r.events, e) })
		err = r.writer.Resume(stored.Body, told[n-1].Sequence, state.Step+1)
	}
	if err != nil {
		x.Close(err)
		return err
	}
	s.start(r)
	s.log.Info("a response goes on after a stop", "response", r.ID, "step", state.Step+1)
	return nil
}

// checkpointEvery is how often what a response in the background has written is stored, so that no more is lost if the gate is killed.
const checkpointEvery = time.Second

// checkpoint stores a run in the background as far as it has come, until it has ended.
func (s *Service) checkpoint(r *Run) {
	defer func() {
		if p := recover(); p != nil {
			s.log.Error("storing a response on its way panicked", "response", r.ID, "error", exchange.Panicked(p).Error())
		}
	}()
	tick := time.NewTicker(checkpointEvery)
	defer tick.Stop()
	for {
		r.mu.Lock()
		var err error
		over := r.ended || r.kept || r.writer.Response().Status.Ended()
		if !over && len(r.events) > r.stored {
			err = s.put(context.WithoutCancel(s.base), r)
		}
		changed := r.changed
		r.mu.Unlock()
		if over {
			return
		}
		if err != nil {
			s.log.Warn("a response on its way could not be stored; it is tried again", "response", r.ID, "error", err.Error())
		}
		<-tick.C
		select { // nothing is to be stored until there is more
		case <-changed:
		case <-s.base.Done():
			return
		}
	}
}

// Complete puts into a call what it refers to: single items, and the conversation that it goes on. It gives the items of the whole.
func (s *Service) Complete(ctx context.Context, k keyring.Key, call *response.Call) (items []json.RawMessage, err error) {
	if len(call.References) > 0 {
		found := map[string]json.RawMessage{}
		for _, id := range call.References {
			if found[id], err = s.item(ctx, k, id); err != nil {
				return nil, err
			}
		}
		if err := call.Resolve(found); err != nil {
			return nil, err
		}
	}
	if call.Previous != "" {
		if items, err = s.conversation(ctx, k, call.Previous); err != nil {
			return nil, err
		}
		if err := call.Before(items); err != nil {
			return nil, fmt.Errorf("the conversation of response %s cannot be read: %w", call.Previous, err)
		}
	}
	return append(items, call.Input...), nil
}

// item finds an item of a stored response, one that it was asked with or one of its answer.
func (s *Service) item(ctx context.Context, k keyring.Key, id string) (json.RawMessage, error) {
	missing := exchange.InvalidParam("input", "there is no item %q in a stored response; send the item itself", id)
	owner, ok := response.ResponseOf(id)
	if !ok {
		return nil, missing
	}
	body, err := s.Get(ctx, k, owner)
	if err != nil {
		return nil, missing
	}
	output, err := response.OutputOf(body)
	if err != nil {
		return nil, err
	}
	for _, raw := range output {
		var item struct{ ID string }
		if json.Unmarshal(raw, &item) == nil && item.ID == id {
			return raw, nil
		}
	}
	input, err := s.Input(ctx, k, owner)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(input, func(i Item) bool { return i.ID == id }); i >= 0 {
		return input[i].Body, nil
	}
	return nil, missing
}

// Compact asks the model of a call for a summary of its conversation.
func (s *Service) Compact(ctx context.Context, k keyring.Key, from gate.Origin, call *response.Call) (*response.Compaction, error) {
	items, err := s.Complete(ctx, k, call)
	if err != nil {
		return nil, err
	}
	if len(call.Turns) == 0 {
		return nil, exchange.InvalidParam("input", "there is no conversation to be made shorter: give input or previous_response_id")
	}
	call.ToSummary()
	begun := time.Now()
	x, err := s.gate.Begin(ctx, k, from, &call.Request)
	if err != nil {
		return nil, err
	}
	var summary strings.Builder
	var usage response.Usage
	for event, err := range x.Events() {
		if err != nil {
			return nil, err
		}
		usage.Count(event)
		if text, ok := event.(exchange.TextDelta); ok {
			summary.WriteString(text.Text)
		}
	}
	return response.NewCompaction(from.ID, begun, items, strings.TrimSpace(summary.String()), usage), nil
}

// unstored says that a response that can be had only from the records is not there.
func unstored(err error) error {
	e := *exchange.AsError(err)
	if e.Kind == exchange.Internal {
		return err
	}
	e.Message = "a response in the background has to be stored: " + e.Message
	return &e
}

// work runs a response to its end.
func (s *Service) work(r *Run) {
	defer r.exchange.Close(nil)
	begun := r.call.Background // whether there is a response to tell of
	defer func() {
		if p := recover(); p != nil {
			err := exchange.Panicked(p)
			s.log.Error("response failed", "response", r.ID, "error", err.Error())
			s.end(r, err, begun)
		}
	}()
	for event, err := range r.exchange.Events() {
		if err == nil {
			err = s.add(r, event, &begun)
		}
		if err != nil {
			s.end(r, err, begun)
			return
		}
	}
}

// add takes an event of the answer; with the first one there is a response.
func (s *Service) add(r *Run, event exchange.Event, begun *bool) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if started, ok := event.(exchange.Started); ok {
		r.started = started
	}
	if !*begun {
		*begun = true
		r.writer.Begin()
	}
	defer r.notify()
	err := r.writer.Add(event)
	s.keep(r)
	return err
}

// end ends a run with an error: as the response's, if there is one already.
func (s *Service) end(r *Run, err error, begun bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case r.handed(s.base):
		r.left = true
		return
	case !begun:
		r.err = err
	case errors.Is(err, errCancelled), errors.Is(err, errDeleted), errors.Is(err, context.Canceled):
		r.writer.Cancel()
	default:
		r.writer.Fail(err)
	}
	s.keep(r)
}

// handed reports whether a run ends only because its gate does, and another one carries on with it.
func (r *Run) handed(base context.Context) bool {
	return r.shared && r.call.Background && base.Err() != nil
}

// keep stores a response that has ended, while nobody has seen its last event yet: whoever has finds it stored, or is told in that
// event that it is not. r.mu is held.
func (s *Service) keep(r *Run) {
	if r.kept || r.err != nil || !r.call.Store || !r.writer.Response().Status.Ended() {
		return
	}
	r.kept = true
	// The run's own context has ended, perhaps by being cancelled; what it came to is stored all the same.
	if err := s.put(context.WithoutCancel(s.base), r); err != nil {
		s.log.Error("response not stored", "response", r.ID, "error", err.Error())
		why := "the gate's log says why"
		if e := exchange.AsError(err); e.Kind != exchange.Internal {
			why = e.Message
		} else if errors.Is(err, kept.ErrNoRoom) {
			why = "it alone takes more space than a key has for stored responses"
		}
		r.events[len(r.events)-1] = r.writer.Unstored(why)
	}
}

// finish lets those who wait see that a run has ended.
func (s *Service) finish(r *Run) {
	s.mu.Lock()
	delete(s.runs, r.ID)
	s.mu.Unlock()
	r.mu.Lock()
	r.ended = true
	if r.left {
		r.err = exchange.Errorf(exchange.Unavailable, "shutting_down", "the gate stops; another one carries on with the response: get it again, by its id")
	}
	r.notify()
	done := r.call.Background && !r.left
	r.mu.Unlock()
	if done {
		s.queue.WorkDone(r.ID)
	}
}

// notify wakes those who follow; r.mu is held.
func (r *Run) notify() {
	close(r.changed)
	r.changed = make(chan struct{})
}

// store writes a run to the records.
func (s *Service) store(ctx context.Context, r *Run) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return s.put(ctx, r)
}

// put is store with r.mu held.
func (s *Service) put(ctx context.Context, r *Run) error {
	whole, told := *r.writer.Response(), r.events
	ended := whole.Status.Ended()
	if !ended {
		// If the gate is killed, this is what it came to.
		var last []response.Event
		whole, last = r.writer.IfInterrupted()
		told = append(told[:len(told):len(told)], last...)
	}
	r.stored = len(r.events)
	input, err := json.Marshal(r.call.Input)
	body, err2 := json.Marshal(whole)
	events, err3 := json.Marshal(told)
	if err := errors.Join(err, err2, err3); err != nil {
		return err
	}
	var state []byte
	if r.loop != nil && !ended {
		if state, err = json.Marshal(r.loop); err != nil {
			return err
		}
	}
	s.prune(ctx)
	return s.records.PutResponse(ctx, kept.Response{Loop: state, ID: r.ID, Key: r.key.Account(), Payer: r.key.Payer(), Created: r.begun, Ended: ended, Background: r.call.Background, Shared: r.shared && r.call.Background,
		Previous: r.call.Previous, Input: input, Body: body, Events: events})
}

// prune forgets what is old, once an hour at the most.
func (s *Service) prune(ctx context.Context) {
	s.mu.Lock()
	due := time.Since(s.pruned) > time.Hour
	if due {
		s.pruned = time.Now()
	}
	s.mu.Unlock()
	if due {
		if err := s.records.PruneResponses(ctx, time.Now()); err != nil {
			s.log.Warn("old responses were not removed", "error", err.Error())
		}
	}
}

// Started is how the answer began; zero until it has.
func (r *Run) Started() exchange.Started {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.started
}

// Snapshot is the response as far as it has come.
func (r *Run) Snapshot() (body json.RawMessage, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return nil, r.err
	}
	return json.Marshal(r.writer.Response())
}

// Events follows a run from the event after the given number on; -1 for the first. An error ends it: that of a request
// that was refused, or ctx's.
func (r *Run) Events(ctx context.Context, after int) iter.Seq2[response.Event, error] {
	return func(yield func(response.Event, error) bool) {
		for at := after + 1; ; {
			r.mu.Lock()
			list, ended, err, changed := r.events[min(at, len(r.events)):], r.ended, r.err, r.changed
			r.mu.Unlock()
			for _, e := range list {
				if !yield(e, nil) {
					return
				}
			}
			at += len(list)
			if ended {
				if err != nil {
					yield(response.Event{}, err)
				}
				return
			}
			if len(list) > 0 {
				continue
			}
			select {
			case <-changed:
			case <-ctx.Done():
				yield(response.Event{}, context.Cause(ctx))
				return
			}
		}
	}
}

// Wait waits for the end of a run and returns the response.
func (r *Run) Wait(ctx context.Context) (json.RawMessage, error) {
	for _, err := range r.Events(ctx, -1) {
		if err != nil {
			return nil, err
		}
	}
	return r.Snapshot()
}

func notFound(id string) error {
	return exchange.Errorf(exchange.NotFound, "response_not_found", "there is no response %q; it was not stored, was deleted or made room for newer ones, is too old, or belongs to another key", id)
}

// may reports whether a key may see what another asked for.
func may(k keyring.Key, asked string) bool { return k.Owner || k.Account() == asked }

// running is the run of a response that is under way.
func (s *Service) running(k keyring.Key, id string) (*Run, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, ok := s.runs[id]
	return r, ok && may(k, r.key.Account())
}

func (s *Service) record(ctx context.Context, k keyring.Key, id string) (kept.Response, error) {
	r, err := s.records.Response(ctx, id)
	switch {
	case errors.Is(err, kept.ErrMissing), (err == nil || errors.Is(err, kept.ErrDamaged)) && !may(k, r.Key):
		return r, notFound(id)
	case errors.Is(err, kept.ErrDamaged):
		s.log.Error("a stored response is damaged and cannot be read", "response", id, "error", err.Error())
		return r, exchange.Errorf(exchange.NotFound, "response_damaged", "response %q is stored, but damaged, and cannot be read; DELETE removes it", id)
	}
	return r, err
}

// Runs reports whether a response is in progress at this gate.
func (s *Service) Runs(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, ok := s.runs[id]
	return ok
}

// Get returns a response, under way or stored.
func (s *Service) Get(ctx context.Context, k keyring.Key, id string) (json.RawMessage, error) {
	if r, ok := s.running(k, id); ok && r.call.Store {
		return r.Snapshot()
	}
	r, err := s.record(ctx, k, id)
	if err == nil && r.Shared && !r.Ended {
		return response.Ongoing(r.Body)
	}
	return r.Body, err
}

// Awaited reports whether a response is in progress at no gate, since that has ended, and another one is going to carry on with it.
func (s *Service) Awaited(ctx context.Context, id string) bool {
	if s.Runs(id) {
		return false
	}
	r, err := s.records.Response(ctx, id)
	return err == nil && r.Shared && !r.Ended
}

// Follow gives the events of a response, under way or stored, from the one after the given number on.
func (s *Service) Follow(ctx context.Context, k keyring.Key, id string, after int) (iter.Seq2[response.Event, error], error) {
	if r, ok := s.running(k, id); ok && r.call.Store {
		return r.Events(ctx, after), nil
	}
	rec, err := s.record(ctx, k, id)
	if err != nil {
		return nil, err
	}
	var events []response.Event
	if err := json.Unmarshal(rec.Events, &events); err != nil {
		return nil, fmt.Errorf("the events of response %s: %w", id, err)
	}
	if n := len(events); n > 0 && after > events[n-1].Sequence {
		// It was followed further than it is stored, and the gate was killed then: its end is told all the same.
		events[n-1].Sequence = after + 1
		if events[n-1].Data, err = response.Renumbered(events[n-1].Data, after+1); err != nil {
			return nil, err
		}
	}
	return func(yield func(response.Event, error) bool) {
		for _, e := range events {
			if e.Sequence > after && !yield(e, nil) {
				return
			}
		}
	}, nil
}

// Cancel ends a response in the background and returns it. One that has ended stays as it is.
func (s *Service) Cancel(ctx context.Context, k keyring.Key, id string) (json.RawMessage, error) {
	if r, ok := s.running(k, id); ok {
		if !r.call.Background {
			return nil, notInBackground(id)
		}
		r.exchange.Cancel(errCancelled)
		return r.Wait(ctx)
	}
	rec, err := s.record(ctx, k, id)
	if err == nil && !rec.Background {
		err = notInBackground(id)
	}
	return rec.Body, err
}

func notInBackground(id string) error {
	return exchange.InvalidParam("response_id", "response %q does not run in the background; only those with \"background\": true can be cancelled, others by closing the connection", id)
}

// Delete ends a response, if it is under way, and removes it.
func (s *Service) Delete(ctx context.Context, k keyring.Key, id string) error {
	r, ok := s.running(k, id)
	if ok {
		r.exchange.Cancel(errDeleted)
		// It ends at once now, and is stored, as far as it is to be: that goes too, though whoever deletes it may have left.
		ctx = context.WithoutCancel(ctx)
		for _, err := range r.Events(ctx, -1) {
			if err != nil {
				break // its own
			}
		}
		if err := s.records.DropResponse(ctx, id); !errors.Is(err, kept.ErrMissing) {
			return err
		}
		return nil
	}
	if _, err := s.record(ctx, k, id); err != nil && exchange.AsError(err).Code != "response_damaged" {
		return err
	}
	return s.records.DropResponse(ctx, id)
}

// Input returns the items that a response was asked with, each with an id.
func (s *Service) Input(ctx context.Context, k keyring.Key, id string) ([]Item, error) {
	var input []json.RawMessage
	if r, ok := s.running(k, id); ok && r.call.Store {
		input = r.call.Input
	} else {
		rec, err := s.record(ctx, k, id)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(rec.Input, &input); err != nil {
			return nil, fmt.Errorf("the input of response %s: %w", id, err)
		}
	}
	list := make([]Item, len(input))
	for i, raw := range input {
		var fields map[string]json.RawMessage
		if err := json.Unmarshal(raw, &fields); err != nil {
			return nil, err
		}
		own := ""
		if json.Unmarshal(fields["id"], &own) != nil || own == "" {
			own = fmt.Sprintf("item_%s_%d", strings.TrimPrefix(id, "resp_"), i)
			fields["id"], _ = json.Marshal(own) // a string can always be marshalled
		}
		raw, err := json.Marshal(fields)
		if err != nil {
			return nil, err
		}
		list[i] = Item{ID: own, Body: raw}
	}
	return list, nil
}

// Item is an item of a response's input.
type Item struct {
	ID   string
	Body json.RawMessage
}

// maxChain is how many responses a conversation may have.
const maxChain = 1000

// conversation gives the items of a response and of those before it, the oldest first.
func (s *Service) conversation(ctx context.Context, k keyring.Key, id string) ([]json.RawMessage, error) {
	var parts [][]json.RawMessage
	asked := id
	for id != "" {
		if len(parts) > 2*maxChain {
			return nil, exchange.InvalidParam("previous_response_id", "the conversation has more than %d responses", maxChain)
		}
		if r, ok := s.running(k, id); ok {
			if r.call.Background {
				return nil, exchange.InvalidParam("previous_response_id", "response %q is still in progress; wait for its end, or cancel it", id)
			}
			// It has told its client of its end already, or will in a moment.
			if _, err := r.Wait(ctx); err != nil {
				return nil, err
			}
		}
		rec, err := s.record(ctx, k, id)
		if err != nil {
			e := exchange.InvalidParam("previous_response_id", "previous_response_id: %s", exchange.AsError(err).Message)
			if id != asked {
				e.Message = fmt.Sprintf("the conversation of %q cannot be gone on with: %s", asked, exchange.AsError(err).Message)
			}
			e.Code = exchange.AsError(err).Code
			return nil, e
		}
		var input []json.RawMessage
		output, err := response.OutputOf(rec.Body)
		if err := errors.Join(err, json.Unmarshal(rec.Input, &input)); err != nil {
			return nil, fmt.Errorf("stored response %s: %w", id, err)
		}
		parts = append(parts, output, input)
		id = rec.Previous
	}
	slices.Reverse(parts)
	return slices.Concat(parts...), nil
}
