package gate

import (
	"context"
	"fmt"
	"iter"
	"slices"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
)

// A request whose tools the gate runs is answered by several exchanges in turn, its steps. It has an exchange of its own, which no model
// answers: it is counted once against its key's limits, sums up what its steps come to, and ends them with it.

// answerer runs a request by its steps.
type answerer func(ctx context.Context, x *Exchange) iter.Seq2[exchange.Event, error]

// BeginWhole admits a request that run answers by steps, which it begins with [Exchange.Step]. What can serve it is found, and its schemas are
// looked at, as for any other; the request itself stays as it came.
func (g *Gate) BeginWhole(ctx context.Context, caller keyring.Key, from Origin, req *exchange.Request, run func(context.Context, *Exchange) iter.Seq2[exchange.Event, error]) (*Exchange, error) {
	own := *req
	x, err := g.beginPart(ctx, caller, from, &own, nil, run)
	if err != nil {
		return nil, err
	}
	req.Model, req.Fingerprint = own.Model, own.Fingerprint
	return x, nil
}

// Asked is the request as it came, with the name of the model that the gate has chosen, if it had none.
func (x *Exchange) Asked() exchange.Request { return x.asked }

// Step admits step n, counted from 1, of a request that is answered by steps. It shares the request's lease, and is open until [Exchange.End]:
// the tools that it calls are a part of it.
func (x *Exchange) Step(n int, req *exchange.Request) (*Exchange, error) {
	from := x.from
	from.Parent, from.ID, from.Step, from.Entry = from.ID, fmt.Sprintf("%s-%d", from.ID, n), n, nil
	return x.gate.beginPart(x.ctx, x.caller, from, req, x, nil)
}

// End ends a step that has been run, with the calls of tools that were a part of it.
func (x *Exchange) End(runs []record.Run) {
	x.mu.Lock()
	x.record.Runs = runs
	x.mu.Unlock()
	x.close(nil)
}

// took sums up what a step came to. It is called when the step has ended.
func (x *Exchange) took(step record.Record) {
	x.mu.Lock()
	defer x.mu.Unlock()
	r := &x.record
	if !step.Asked() {
		return
	}
	r.Steps++
	r.PromptTokens, r.CachedTokens = r.PromptTokens+step.PromptTokens, r.CachedTokens+step.CachedTokens
	r.CompletionTokens, r.ReasoningTokens = r.CompletionTokens+step.CompletionTokens, r.ReasoningTokens+step.ReasoningTokens
	r.ToolCalls, r.MalformedCalls = r.ToolCalls+step.ToolCalls, r.MalformedCalls+step.MalformedCalls
	r.DraftedTokens, r.AcceptedTokens = r.DraftedTokens+step.DraftedTokens, r.AcceptedTokens+step.AcceptedTokens
	r.DroppedTurns = max(r.DroppedTurns, step.DroppedTurns)
	r.Queue, r.Load, r.Prefill = r.Queue+step.Queue, r.Load+step.Load, r.Prefill+step.Prefill
	r.Cost += step.Cost
	if step.Limit != "" {
		r.Limit = step.Limit
	}
	for _, note := range step.NotEnforced {
		if !slices.Contains(r.NotEnforced, note) {
			r.NotEnforced = append(r.NotEnforced, note)
		}
	}
	x.tail = step.Answered
}

// compiledForms are the forms of a step's request.
type compiledForms struct {
	of    *exchange.Request
	forms *forms
}

// sameTools reports whether two requests have the same tools, so that the forms of one are those of the other.
func sameTools(a, b *exchange.Request) bool {
	return a.Choice.Required == b.Choice.Required && slices.EqualFunc(a.Tools, b.Tools, func(a, b exchange.Tool) bool {
		return a.Name == b.Name && a.At == b.At && a.Strict == b.Strict && a.Willing == b.Willing && string(a.Parameters) == string(b.Parameters)
	})
}
