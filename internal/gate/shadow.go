package gate

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/difference"
	"kindredgate/internal/exchange"
	"kindredgate/internal/record"
)

// Bounds of shadows.
const (
	shadowsAtOnce = 4               // of one gate; more are not begun, so that they cannot crowd out what is answered
	shadowTime    = 5 * time.Minute // for each
	shadowText    = 256 << 10       // bytes that are compared
)

// What is not for an application, such as a shadow or a suite, waits for what is: it has one turn among those of all owners, and few places.
const (
	patientOwner = "the gate itself"
	patientShare = 25 // percent of a model's places
)

// shadow is a second answer to a request, which is compared and never given.
type shadow struct {
	text strings.Builder    // of the answer that is given
	told chan record.Record // when that has ended
}

// heard takes what is answered.
func (s *shadow) heard(e exchange.Event) { add(&s.text, e) }

// answered is told how the answer ended.
func (s *shadow) answered(r record.Record) { s.told <- r }

// add writes down what is said in an event, of the first candidate.
func add(b *strings.Builder, e exchange.Event) {
	if b.Len() > shadowText {
		return
	}
	switch e := e.(type) {
	case exchange.TextDelta:
		if e.Candidate == 0 {
			b.WriteString(e.Text)
		}
	case exchange.ToolCallDelta:
		if e.Candidate == 0 && e.Name != "" {
			fmt.Fprintf(b, " %s ", e.Name)
		}
		if e.Candidate == 0 {
			b.WriteString(e.Arguments)
		}
	case exchange.Started, exchange.ReasoningDelta, exchange.Finish,
		exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
	}
}

// shadowed begins a shadow of an exchange, if it is one of the share that has one.
func (g *Gate) shadowed(ctx context.Context, of *Exchange, s catalog.Shadow) *shadow {
	if of.record.ShadowOf != "" || rand.Float64() >= s.Share {
		return nil
	}
	t, err := g.own(ctx, s.To)
	if err != nil || g.unwell(t.model) != "" {
		return nil // it is not what was asked
	}
	select {
	case g.ready().shadowing <- struct{}{}:
	default:
		return nil
	}
	req := of.asked
	req.Candidates = 1
	from := of.from
	from.ID, from.Parent, from.Standing, from.Header, from.Patient = from.ID+"-shadow", from.ID, nil, nil, true
	out := &shadow{told: make(chan record.Record, 1)}
	g.background.Go(func() {
		defer func() { <-g.shadowing }()
		ctx, cancel := context.WithTimeoutCause(g.ctx, shadowTime, errors.New("the shadow took too long"))
		defer cancel()
		g.runShadow(ctx, of, from, t, req, out)
	})
	return out
}

// runShadow asks the shadow and compares.
func (g *Gate) runShadow(ctx context.Context, of *Exchange, from Origin, t target, req exchange.Request, s *shadow) {
	x := g.begin(ctx, of.caller, from, req.Model)
	x.record.ShadowOf = of.record.ID
	var err error
	defer func() {
		if p := recover(); p != nil {
			err = exchange.Panicked(p)
		}
		x.close(err)
	}()
	x.req, x.asked, x.forms = &req, req, of.forms
	if err = x.start(want{x.fits, x.aim}, nil, func() (choices, error) { return only(t), nil }); err != nil {
		return
	}
	var text strings.Builder
	counted := make([]int, 1)
	if err = x.attempt(func() (bool, error) {
		for event, err := range x.guarded() {
			if err != nil {
				return false, err
			}
			add(&text, event)
			x.note(event, counted)
		}
		return true, nil
	}); err != nil {
		return
	}
	select {
	case r := <-s.told:
		if r.Err != nil {
			return
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		d := difference.Words(s.text.String(), text.String())
		took := [2]int{int(r.Took), int(time.Since(x.begun).Milliseconds())}
		x.record.Compared = &record.Comparison{Same: d.Same(), Alike: d.Alike(), Parted: record.Short(d.Parted()), Tokens: [2]int{r.CompletionTokens, x.record.CompletionTokens}, TookMS: took}
	case <-ctx.Done():
	}
}
