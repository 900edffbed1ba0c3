package ledger

import (
	"context"
	"log/slog"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/prompt"
	"kindredgate/internal/record"
)

// Recording says what is kept of what is said.
type Recording struct {
	All    bool          // of every key that does not say otherwise
	Age    time.Duration // after which it is removed; 0 for never
	Space  int64         // in bytes, on disk; the oldest makes room
	Redact []*regexp.Regexp
}

// waiting bounds what waits to be written, in bytes of requests. What comes while there is no room is not kept, and counted.
const waiting = 64 << 20

// Recorder keeps what is said. It is safe for concurrent use.
type Recorder struct {
	contents kept.Contents
	layout   func(ctx context.Context, m catalog.Model, req *exchange.Request) (*prompt.Prompt, error)
	log      *slog.Logger
	set      atomic.Pointer[Recording]

	mu      sync.Mutex
	queue   []said
	waits   map[string]int // for each exchange, what of it is still to be written
	bytes   int
	lost    int
	closed  bool
	wake    sync.Cond
	written sync.Cond // told when waits changes
	stopped chan struct{}
	pruned  time.Time
}

type said struct {
	record  record.Record
	content gate.Content
}

// NewRecorder begins to keep what is said. layout gives the prompt that a request is for a model.
func NewRecorder(contents kept.Contents, r Recording, layout func(ctx context.Context, m catalog.Model, req *exchange.Request) (*prompt.Prompt, error), log *slog.Logger) *Recorder {
	k := &Recorder{contents: contents, layout: layout, log: log, waits: map[string]int{}, stopped: make(chan struct{})}
	k.wake.L, k.written.L = &k.mu, &k.mu
	k.Set(r)
	go k.write()
	return k
}

// Set changes what is kept, from the next exchange on.
func (k *Recorder) Set(r Recording) { k.set.Store(&r) }

// Redaction is what is taken out of what is kept and shown now.
func (k *Recorder) Redaction() Redaction { return Redaction{k.set.Load().Redact} }

// Wants says whether what is said with a key is to be kept.
func (k *Recorder) Wants(key keyring.Key) bool {
	return key.Content == keyring.ContentKept || key.Content == keyring.ContentAsSet && k.set.Load().All
}

// Keep takes what was said in an exchange.
func (k *Recorder) Keep(r record.Record, c gate.Content) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.closed || k.bytes+len(c.Request) > waiting {
		k.lost++
		k.log.Warn("what was said is not recorded: more waits to be written than there is room for", "id", r.ID, "lost", k.lost)
		return
	}
	k.bytes += len(c.Request)
	k.queue = append(k.queue, said{r, c})
	k.waits[r.ID]++
	k.wake.Signal()
}

// write is the writer's goroutine.
func (k *Recorder) write() {
	defer close(k.stopped)
	for {
		k.mu.Lock()
		for len(k.queue) == 0 && !k.closed {
			k.wake.Wait()
		}
		if len(k.queue) == 0 {
			k.mu.Unlock()
			return
		}
		next := k.queue[0]
		k.queue = k.queue[1:]
		k.bytes -= len(next.content.Request)
		k.mu.Unlock()
		k.guardedPut(next)
		k.mu.Lock()
		if k.waits[next.record.ID]--; k.waits[next.record.ID] == 0 {
			delete(k.waits, next.record.ID)
		}
		k.written.Broadcast()
		k.mu.Unlock()
	}
}

func (k *Recorder) guardedPut(s said) {
	defer func() {
		if p := recover(); p != nil {
			k.log.Error("recording what was said panicked", "id", s.record.ID, "error", exchange.Panicked(p).Error())
		}
	}()
	ctx := context.Background()
	set := k.set.Load()
	c := k.content(ctx, s)
	Redaction{set.Redact}.content(&c)
	if err := k.contents.PutContent(ctx, c, set.Space); err != nil {
		k.log.Error("what was said could not be recorded", "id", s.record.ID, "error", err.Error())
	}
	if set.Age > 0 && time.Since(k.pruned) > time.Hour {
		k.pruned = time.Now()
		if err := k.contents.PruneContents(ctx, k.pruned, set.Age); err != nil {
			k.log.Warn("what was said long ago was not removed", "error", err.Error())
		}
	}
}

// content makes the document of what was said.
func (k *Recorder) content(ctx context.Context, s said) kept.Content {
	c := kept.Content{ID: s.record.ID, Key: s.record.Key, At: s.record.Begun, Request: s.content.Request, Answers: Answers(s.content.Events), Prompt: []kept.Piece{}}
	req, err := exchange.DecodeRequest(s.content.Request)
	var p *prompt.Prompt
	if err == nil {
		p, err = k.layout(ctx, s.content.Model, req)
	}
	if err != nil {
		c.Problem = "the prompt could not be laid out again: " + err.Error()
		return c
	}
	for _, span := range p.Spans {
		piece := kept.Piece{Origin: span.Origin, Text: p.Text[span.Start:span.End], Tokens: span.Tokens}
		if i := slices.IndexFunc(p.Pictures, func(of prompt.Picture) bool { return of.Start == span.Start && of.Origin == span.Origin }); i >= 0 {
			piece.Text = p.Pictures[i].Said() // in the place of the marks of all its tokens
		}
		if n := len(c.Prompt); n > 0 && c.Prompt[n-1].Origin == piece.Origin {
			c.Prompt[n-1].Text += piece.Text
			c.Prompt[n-1].Tokens += piece.Tokens
			continue
		}
		c.Prompt = append(c.Prompt, piece)
	}
	return c
}

// Answers puts together what came in pieces, for each candidate.
func Answers(events []exchange.Event) []kept.Answer {
	type call struct {
		name      string
		arguments strings.Builder
	}
	type parts struct {
		reasoning, text strings.Builder
		calls           []*call
	}
	var all []*parts
	var runs []*kept.Call // on the gate's side
	at := func(candidate int) *parts {
		for len(all) <= candidate {
			all = append(all, &parts{})
		}
		return all[candidate]
	}
	for _, e := range events {
		switch e := e.(type) {
		case exchange.Started, exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded:
		case exchange.RunDelta:
			for len(runs) <= e.Index {
				runs = append(runs, &kept.Call{})
			}
			if e.Name != "" {
				runs[e.Index].Server, runs[e.Index].Name = e.Server, e.Name
			}
			runs[e.Index].Arguments += e.Arguments
		case exchange.RunEnded:
			if e.Index < len(runs) {
				runs[e.Index].Result = &e.Output
			}
		case exchange.ApprovalWanted:
			runs = append(runs, &kept.Call{Server: e.Server, Name: e.Name, Arguments: e.Arguments})
		case exchange.ReasoningDelta:
			at(e.Candidate).reasoning.WriteString(e.Text)
		case exchange.TextDelta:
			at(e.Candidate).text.WriteString(e.Text)
		case exchange.ToolCallDelta:
			p := at(e.Candidate)
			for len(p.calls) <= e.Index {
				p.calls = append(p.calls, &call{})
			}
			p.calls[e.Index].name += e.Name
			p.calls[e.Index].arguments.WriteString(e.Arguments)
		case exchange.Finish:
		}
	}
	list := []kept.Answer{}
	for _, p := range all {
		a := kept.Answer{Reasoning: p.reasoning.String(), Text: p.text.String()}
		for _, c := range p.calls {
			a.Calls = append(a.Calls, kept.Call{Name: c.name, Arguments: c.arguments.String()})
		}
		list = append(list, a)
	}
	if len(runs) > 0 && len(list) > 0 { // there is one candidate then
		for i := len(runs) - 1; i >= 0; i-- {
			list[0].Calls = append([]kept.Call{*runs[i]}, list[0].Calls...)
		}
	}
	return list
}

// Content returns what was said in an exchange, or kept.ErrMissing. It waits for what is still to be written of it.
func (k *Recorder) Content(ctx context.Context, id string) (kept.Content, error) {
	left := context.AfterFunc(ctx, func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.written.Broadcast()
	})
	k.mu.Lock()
	for k.waits[id] > 0 && ctx.Err() == nil {
		k.written.Wait()
	}
	k.mu.Unlock()
	left()
	if ctx.Err() != nil {
		return kept.Content{}, context.Cause(ctx)
	}
	return k.contents.Content(ctx, id)
}

// Purge removes what was said with a key ("" for all), before a time (zero for all), and says in how many exchanges.
func (k *Recorder) Purge(ctx context.Context, key string, before time.Time) (int64, error) {
	return k.contents.PurgeContents(ctx, key, before)
}

// Close writes what waits.
func (k *Recorder) Close() error {
	k.mu.Lock()
	k.closed = true
	k.wake.Signal()
	k.mu.Unlock()
	<-k.stopped
	return nil
}
