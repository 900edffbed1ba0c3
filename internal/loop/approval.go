package loop

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
)

// Pending is a call that waits for somebody to approve it.
type Pending struct {
	ID        string    `json:"id"`
	Exchange  string    `json:"exchange"`
	Key       string    `json:"label"` // of the key that asks
	Server    string    `json:"server"`
	Name      string    `json:"name"`
	Arguments string    `json:"arguments"`
	Since     time.Time `json:"since"`
	Until     time.Time `json:"until"` // when it lapses
}

type pending struct {
	Pending
	account string
	said    chan exchange.Approval // has room for one
}

// approvals are the calls that wait.
type approvals struct {
	mu      sync.Mutex
	pending map[string]*pending
}

// Pending lists the calls that wait and that a key may decide over: its own, the owner all.
func (s *Service) Pending(k keyring.Key) []Pending {
	s.approvals.mu.Lock()
	defer s.approvals.mu.Unlock()
	list := []Pending{}
	for _, p := range s.approvals.pending {
		if k.Owner || k.Account() == p.account {
			list = append(list, p.Pending)
		}
	}
	slices.SortFunc(list, func(a, b Pending) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.ID, b.ID)) })
	return list
}

// Decide says whether a call that waits is to be made.
func (s *Service) Decide(k keyring.Key, id string, approve bool, reason string) error {
	s.approvals.mu.Lock()
	defer s.approvals.mu.Unlock()
	p := s.approvals.pending[id]
	if p == nil || !k.Owner && k.Account() != p.account {
		return exchange.Errorf(exchange.NotFound, "approval_not_found", "no call %q waits for an approval; it was decided, has lapsed, or its request has ended", id)
	}
	p.said <- exchange.Approval{CallID: id, Approve: approve, Reason: reason}
	delete(s.approvals.pending, id)
	return nil
}

// approved waits until somebody has said of each call whether it may be made, and makes those that may, each as soon as that is said.
func (r *run) approved(ctx context.Context, list []*call) (runs []record.Run) {
	now := time.Now()
	for _, c := range list {
		p := &pending{Pending: Pending{ID: c.ID, Exchange: r.x.Record().ID, Key: r.key.Label, Server: c.Server, Name: c.Name, Arguments: c.Arguments, Since: now.UTC(), Until: now.Add(r.rules.Approval).UTC()},
			account: r.account, said: make(chan exchange.Approval, 1)}
		r.approvals.mu.Lock()
		r.approvals.pending[c.ID] = p
		r.approvals.mu.Unlock()
		said := exchange.Approval{CallID: c.ID, Reason: "nobody approved it within " + r.rules.Approval.String()}
		lapse := time.NewTimer(time.Until(p.Until))
		select {
		case said = <-p.said:
		case <-lapse.C:
		case <-ctx.Done():
		}
		lapse.Stop()
		r.approvals.mu.Lock()
		delete(r.approvals.pending, c.ID)
		r.approvals.mu.Unlock()
		if ctx.Err() != nil {
			return runs
		}
		r.begun = r.begun.Add(time.Since(now)) // a person's time is not the loop's
		now = time.Now()
		runs = append(runs, r.decided(ctx, c, said)...)
	}
	return runs
}

// decided makes a call that somebody has decided over, or gives the model the reason why it is not made.
func (r *run) decided(ctx context.Context, c *call, said exchange.Approval) []record.Run {
	c.approval = said.CallID
	if !r.give(exchange.RunDelta{Index: c.index, ID: c.ID, Server: c.Server, Name: c.Name, Arguments: c.Arguments, Done: true, Approval: c.approval}) {
		return nil
	}
	if said.Approve {
		if err := r.before(max(0, r.at-1), []*call{c}); err != nil {
			c.result = refusedResult("it could not be written down that the call is made: " + err.Error())
			r.give(ended(c))
			return nil
		}
		return r.work(ctx, []*call{c})
	}
	c.result = refusedResult("the call was not approved: " + cmp.Or(said.Reason, "no reason was given"))
	r.give(ended(c))
	return []record.Run{{Call: c.ID, Server: c.Server, Name: c.Name, Begun: time.Now().UTC(), Failed: record.Short(c.result.Failure.Message)}}
}

// resume makes the calls at the end of a conversation that have been approved since. Those of which nobody has said anything are told to the
// model as not approved.
func (r *run) resume(ctx context.Context) error {
	waiting := unanswered(r.asked.Turns)
	mine := slices.DeleteFunc(waiting, func(c exchange.ToolCall) bool {
		return !slices.ContainsFunc(r.asked.Approvals, func(a exchange.Approval) bool { return a.CallID == c.ID })
	})
	for _, a := range r.asked.Approvals {
		if !slices.ContainsFunc(mine, func(c exchange.ToolCall) bool { return c.ID == a.CallID }) && !answered(r.asked.Turns, a.CallID) {
			return exchange.InvalidParam("input", "there is no call %q that waits for an approval; send previous_response_id, or the mcp_approval_request item itself", a.CallID)
		}
	}
	if len(mine) == 0 {
		return nil
	}
	r.started = true
	if !r.give(exchange.Started{Steps: true}) {
		return nil
	}
	for _, l := range r.listed {
		r.give(l)
	}
	for _, made := range mine {
		c := &call{ToolCall: made, known: made.Name, index: r.calls}
		r.calls++
		if b := r.names[made.Name]; b != nil {
			c.Server, c.Name, c.bound = b.tool.Server, b.tool.Name, b
		}
		i := slices.IndexFunc(r.asked.Approvals, func(a exchange.Approval) bool { return a.CallID == made.ID })
		r.decided(ctx, c, r.asked.Approvals[i])
		if r.gone {
			return context.Cause(ctx)
		}
		r.asked.Turns = append(r.asked.Turns, results([]*call{c})...)
	}
	return nil
}

// unanswered are the calls of the last turn of the assistant that have no result.
func unanswered(turns []exchange.Turn) (list []exchange.ToolCall) {
	for i := len(turns) - 1; i >= 0; i-- {
		if turns[i].Role != exchange.Assistant {
			continue
		}
		for _, p := range turns[i].Parts {
			if c, ok := p.(exchange.ToolCall); ok && !answered(turns[i:], c.ID) {
				list = append(list, c)
			}
		}
		break
	}
	return list
}

// answered reports whether there is a result of a call.
func answered(turns []exchange.Turn, id string) bool {
	return slices.ContainsFunc(turns, func(t exchange.Turn) bool {
		return slices.ContainsFunc(t.Parts, func(p exchange.Part) bool {
			r, ok := p.(exchange.ToolResult)
			return ok && r.CallID == id
		})
	})
}
