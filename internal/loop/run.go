package loop

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
	"kindredgate/internal/tool"
)

// run is one loop.
type run struct {
	*Service
	key     keyring.Key
	account string
	how     How
	rules   Rules
	servers []exchange.ToolServer
	begun   time.Time
	most    int // tokens that may be written in all; 0 for any

	original exchange.Request // as it came
	kept     State            // what is written down of it, beside how far it has come
	at       int              // the step that it is in, from 1; 0 before the first
	done     int              // steps that have finished before a stop
	spent    int64            // and what they have cost

	x       *gate.Exchange
	asked   exchange.Request
	turns   []exchange.Turn   // that were added
	names   map[string]*bound // tools by the names that the model knows them by
	offered []exchange.Tool   // these, as the model sees them
	listed  []exchange.ToolsListed
	opened  []tool.Server // of this request alone
	seen    map[string]int
	written int // tokens
	calls   int
	yield   func(exchange.Event, error) bool
	started bool
	gone    bool
}

// bound is a tool with what answers it.
type bound struct {
	tool    tool.Tool
	server  tool.Server // nil for one of the gate's
	approve bool
}

// call is a call that a step has made of a tool of the gate's.
type call struct {
	exchange.ToolCall        // its name is the server's own
	known             string // the name that the model used
	index             int
	bound             *bound
	approval          string // of what it was approved by
	place             int    // among all calls of the step
	result            tool.Result
	began             time.Time
}

// wants reports whether the call has to be approved.
func (c *call) wants() bool { return c.bound != nil && c.bound.approve }

// limits makes the rules no wider than what the request says.
func (r *run) limits(req *exchange.Request) {
	if n := req.MaxRuns; n > 0 && n < r.rules.Calls {
		r.rules.Calls = n
	}
	r.most = r.rules.Tokens
	if n := req.MaxTokens; n > 0 && (r.most == 0 || n < r.most) {
		r.most = n
	}
}

// give yields an event, and reports whether the loop goes on.
func (r *run) give(e exchange.Event) bool {
	if !r.gone && !r.yield(e, nil) {
		r.gone = true
	}
	return !r.gone
}

// events runs the loop.
func (r *run) events(ctx context.Context, x *gate.Exchange, yield func(exchange.Event, error) bool) {
	r.x, r.asked, r.yield = x, x.Asked(), yield
	defer r.close()
	r.list(ctx)
	if r.kept.Again > 0 {
		r.listed = nil // which was told before the stop
	}
	r.asked.Turns = r.named(r.settled(r.asked.Turns))
	fail := func(err error) {
		if !r.gone {
			yield(nil, err)
		}
	}
	if err := r.resume(ctx); err != nil {
		fail(err)
		return
	}
	exchange.InOrderOfCalls(r.asked.Turns)
	stopped := ""
	if err := r.save(r.done, ""); err != nil {
		fail(err)
		return
	}
	for n := r.done + 1; !r.gone; n++ {
		if stopped == "" {
			stopped = r.reached(n)
		}
		finished, bound, err := r.step(ctx, n, stopped)
		if err != nil {
			fail(err)
		}
		if finished || err != nil {
			return
		}
		stopped = bound
	}
}

// close lets go of what was opened for this request.
func (r *run) close() {
	for _, s := range r.opened {
		_ = s.Close() // nothing of it is needed any more
	}
}

// reached names the bound that step n would go beyond; "" for none.
func (r *run) reached(n int) string {
	switch {
	case n > r.rules.Steps:
		return exchange.BoundSteps
	case r.calls >= r.rules.Calls:
		return exchange.BoundCalls
	case time.Since(r.begun) >= r.rules.Time:
		return exchange.BoundTime
	case r.most > 0 && r.written >= r.most:
		return exchange.BoundTokens
	case r.rules.Cost > 0 && r.spent+r.x.Record().Cost >= r.rules.Cost:
		return exchange.BoundCost
	}
	return ""
}

// lastWords is how many tokens the model has for its last turn, if it has used up all others.
const lastWords = 256

// request is what the model is asked in step n. After a bound it has no tools.
func (r *run) request(n int, stopped string) exchange.Request {
	req := r.asked
	req.Turns = slices.Concat(r.asked.Turns, r.turns)
	req.Servers, req.Approvals = nil, nil
	if r.most > 0 {
		req.MaxTokens = max(r.most-r.written, 1)
	}
	if stopped != "" {
		req.Tools, req.Choice = nil, exchange.Choice{}
		if r.most > 0 && r.written >= r.most {
			req.MaxTokens = lastWords
			if most := r.asked.MaxTokens; most > 0 {
				req.MaxTokens = min(lastWords, most-r.written)
			}
		}
		return req
	}
	req.Tools = slices.Concat(r.offered, r.asked.Tools)
	if req.Choice.Names != nil {
		req.Choice.Names = r.known(req.Choice.Names)
	}
	if n > 1 { // what had to be called has been
		req.Choice.Required, req.Choice.Names = false, nil
	}
	return req
}

// known are the names by which the model knows tools that a request names as its client does.
func (r *run) known(names []string) (list []string) {
	list = []string{}
	for _, name := range names {
		found := false
		for known, b := range r.names {
			if b.tool.ID() == name || b.tool.Server == name || slices.ContainsFunc(r.servers, func(s exchange.ToolServer) bool { return s.Type == name && s.Label == b.tool.Server }) {
				list, found = append(list, known), true
			}
		}
		if !found && slices.ContainsFunc(r.asked.Tools, func(t exchange.Tool) bool { return t.Name == name }) {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list
}

// step has the model asked once, and runs what it calls. finished is true after the last event of the answer; bound names what the step
// has reached.
func (r *run) step(ctx context.Context, n int, stopped string) (finished bool, bound string, err error) {
	r.at = n
	if most := r.asked.MaxTokens; stopped == exchange.BoundTokens && most > 0 && r.written >= most {
		r.give(exchange.Finish{Reason: exchange.Length, Bound: stopped}) // the request leaves no token for last words
		return true, "", nil
	}
	req := r.request(n, stopped)
	x, err := r.x.Step(n, &req)
	if err != nil {
		return false, "", err
	}
	defer x.Close(context.Canceled) // which has no effect on one that has ended
	turn, mine, finish, err := r.read(ctx, n, x)
	if err != nil || r.gone {
		return false, "", err
	}
	r.written += x.Record().CompletionTokens
	finish.Bound = stopped
	if stopped != "" && finish.Reason != exchange.Filtered {
		finish.Reason = exchange.Length // the answer ends before its end
	}
	theirs := finish.Reason == exchange.Called && len(mine) < calls(turn)
	if len(mine) == 0 || stopped != "" || finish.Reason == exchange.Length || finish.Reason == exchange.Filtered {
		if finish.Reason == exchange.Length && finish.Bound == "" && len(mine) > 0 {
			finish.Bound = exchange.BoundTokens
		}
		x.End(nil)
		r.remember(turn, theirs)
		r.give(finish)
		return true, "", nil
	}
	if !r.give(exchange.StepEnded{Step: n, Tokens: finish.Tokens, Malformed: finish.Malformed, PromptTokens: finish.PromptTokens, CachedTokens: finish.CachedTokens, ReasoningTokens: finish.ReasoningTokens}) {
		return true, "", nil
	}
	var waiting []*call
	now := slices.DeleteFunc(slices.Clone(mine), func(c *call) bool {
		if c.wants() {
			waiting = append(waiting, c)
		}
		return c.wants()
	})
	if err := r.before(n-1, now); err != nil {
		return false, "", err
	}
	runs := r.work(ctx, now)
	for _, c := range waiting {
		c.ID = fmt.Sprintf("mcpr_%s_%d.%d", r.x.Record().ID, c.index, n) // its step, as the ids of other calls have it
		r.give(exchange.ApprovalWanted{ID: c.ID, Server: c.Server, Name: c.Name, Arguments: c.Arguments})
	}
	if len(waiting) > 0 && r.how.Waits && !r.gone {
		runs = append(runs, r.approved(ctx, waiting)...)
		waiting = nil
	}
	x.End(runs)
	if r.gone {
		return true, "", context.Cause(ctx)
	}
	r.turns = append(r.turns, withIDs(turn, mine))
	r.turns = append(r.turns, results(mine)...)
	switch {
	case theirs:
		r.remember(exchange.Turn{}, true)
		r.give(exchange.Finish{Reason: exchange.Called})
		return true, "", nil
	case len(waiting) > 0:
		r.give(exchange.Finish{Reason: exchange.Stopped})
		return true, "", nil
	case ctx.Err() != nil:
		return true, "", context.Cause(ctx)
	}
	return false, r.repeated(mine), r.save(n, "")
}

// calls counts the calls of a turn.
func calls(t exchange.Turn) (n int) {
	for _, p := range t.Parts {
		if _, ok := p.(exchange.ToolCall); ok {
			n++
		}
	}
	return n
}

// read takes the model's events of a step, passes on what is for the client, and gives what the model has said as a turn, the calls of tools
// that are run here, and how it ended.
func (r *run) read(ctx context.Context, n int, x *gate.Exchange) (turn exchange.Turn, mine []*call, finish exchange.Finish, err error) {
	var text strings.Builder
	var all []exchange.ToolCall
	owners := map[int]*call{}
	theirs := map[int]int{} // the client's calls, by what their place is among those
	for event, err := range x.Events() {
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				err = cause
			}
			return turn, nil, finish, err
		}
		ok := true
		switch e := event.(type) {
		case exchange.Started:
			ok = r.start(n, e)
		case exchange.ReasoningDelta:
			ok = r.give(e)
		case exchange.TextDelta:
			text.WriteString(e.Text)
			ok = r.give(e)
		case exchange.ToolCallDelta:
			for len(all) <= e.Index {
				all = append(all, exchange.ToolCall{})
			}
			if e.Name != "" {
				all[e.Index].ID, all[e.Index].Name = e.ID, e.Name
				if slices.ContainsFunc(r.asked.Tools, func(t exchange.Tool) bool { return t.Name == e.Name }) {
					theirs[e.Index] = len(theirs)
				} else {
					c := &call{ToolCall: exchange.ToolCall{ID: e.ID, Name: e.Name, Server: r.servers[0].Label}, known: e.Name, index: r.calls, bound: r.names[e.Name], place: e.Index}
					if b := c.bound; b != nil {
						c.Name, c.Server = b.tool.Name, b.tool.Server
					} // else nobody offers it, which the model is told
					r.calls++
					owners[e.Index] = c
					mine = append(mine, c)
				}
			}
			all[e.Index].Arguments += e.Arguments
			if c := owners[e.Index]; c != nil {
				c.Arguments = all[e.Index].Arguments
				ok = r.delta(c, e)
			} else {
				e.Index = theirs[e.Index]
				ok = r.give(e)
			}
		case exchange.Finish:
			finish = e
		case exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
			return turn, nil, finish, fmt.Errorf("a model gave a %T", e)
		}
		if !ok {
			return turn, nil, finish, nil
		}
	}
	turn.Role = exchange.Assistant
	if text.Len() > 0 {
		turn.Parts = append(turn.Parts, exchange.Text(text.String()))
	}
	for _, c := range all {
		turn.Parts = append(turn.Parts, c)
	}
	return turn, mine, finish, nil
}

// start passes on how a step began: the first as the answer's beginning, with what tools there are.
func (r *run) start(n int, e exchange.Started) bool {
	if r.started {
		return r.give(exchange.StepBegan{Step: n, PromptTokens: e.PromptTokens, CachedTokens: e.CachedTokens, Timings: e.Timings})
	}
	r.started, e.Steps = true, true
	if !r.give(e) {
		return false
	}
	for _, l := range r.listed {
		if !r.give(l) {
			return false
		}
	}
	return true
}

// delta passes on a piece of a call that is run here. One that has to be approved is told of when it is whole.
func (r *run) delta(c *call, e exchange.ToolCallDelta) bool {
	if c.wants() {
		return true
	}
	d := exchange.RunDelta{Index: c.index, Arguments: e.Arguments, Done: e.Done, Tokens: e.Tokens}
	if e.Name != "" {
		d.ID, d.Server, d.Name = c.ID, c.Server, c.Name
	}
	return r.give(d)
}

// atOnce is how many tools of a step run side by side.
const atOnce = 16

// work runs calls side by side. Their ends are told as they come; the results are in the calls, whose order is the model's.
func (r *run) work(ctx context.Context, list []*call) (runs []record.Run) {
	ctx, cancel := context.WithDeadline(ctx, r.begun.Add(r.rules.Time))
	defer cancel()
	done := make(chan *call, len(list))
	places := make(chan struct{}, atOnce)
	var running sync.WaitGroup
	for _, c := range list {
		running.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					r.log.Error("a call of a tool panicked", "tool", c.Server+"/"+c.Name, "error", exchange.Panicked(p).Error())
					c.result = refusedResult("it panicked")
				}
				done <- c
			}()
			select {
			case places <- struct{}{}:
				defer func() { <-places }()
			case <-ctx.Done():
			}
			c.began = time.Now()
			c.result = r.call(ctx, c)
		})
	}
	for range list {
		c := <-done
		if !r.gone {
			r.give(ended(c))
		}
		if r.gone {
			cancel()
		}
	}
	running.Wait()
	for _, c := range list {
		one := record.Run{Call: c.ID, Server: c.Server, Name: c.Name, ReadOnly: c.bound != nil && c.bound.tool.ReadOnly, Begun: c.began.UTC(), Took: record.Milliseconds(c.result.Took), Bytes: c.result.Bytes}
		if f := c.result.Failure; f != nil {
			one.Failed = record.Short(f.Message)
		}
		runs = append(runs, one)
	}
	return runs
}

// ended is the event of a call that has ended.
func ended(c *call) exchange.RunEnded {
	e := exchange.RunEnded{Index: c.index, Output: c.result.Text, Took: c.result.Took}
	if f := c.result.Failure; f != nil {
		e.Failure = &exchange.RunFailure{Type: string(f.Kind), Code: f.Code, Message: f.Message}
	}
	return e
}

// call runs one.
func (r *run) call(ctx context.Context, c *call) (result tool.Result) {
	defer func() {
		if f := result.Failure; f != nil && f.Inside && !r.key.Owner {
			r.log.Warn("a tool could not be called", "tool", c.Server+"/"+c.Name, "exchange", r.x.Record().ID, "error", f.Message)
			result.Failure = &tool.Failure{Kind: f.Kind, Code: f.Code, Message: cannotBeUsed}
			result.Text = "Error: " + cannotBeUsed
		}
	}()
	switch {
	case c.bound == nil:
		return refusedResult(fmt.Sprintf("there is no tool %q here", c.known))
	case c.index >= r.rules.Calls:
		return refusedResult(fmt.Sprintf("it was not run: no more than %d calls are", r.rules.Calls))
	case c.bound.server != nil:
		return tool.Call(ctx, c.bound.server, c.bound.tool, c.Arguments, r.tools.Limits())
	}
	return r.tools.Call(ctx, c.bound.tool, c.Arguments)
}

// cannotBeUsed is what applications are told of a server; the log tells the operator more.
const cannotBeUsed = "the tool server cannot be used now"

// refusedResult is the result of a call that is not made.
func refusedResult(why string) tool.Result {
	return tool.Result{Text: "Error: " + why, Failure: &tool.Failure{Kind: tool.Execution, Message: why}}
}

// withIDs is a turn with its calls by the ids that their results have.
func withIDs(t exchange.Turn, mine []*call) exchange.Turn {
	t.Parts = slices.Clone(t.Parts)
	n := 0
	for i, p := range t.Parts {
		made, ok := p.(exchange.ToolCall)
		if !ok {
			continue
		}
		for _, c := range mine {
			if c.place == n {
				made.ID = c.ID
				t.Parts[i] = made
			}
		}
		n++
	}
	return t
}

// results are the turns of what calls have given, in the order in which the model made them.
func results(list []*call) (turns []exchange.Turn) {
	for _, c := range list {
		turns = append(turns, exchange.Turn{Role: exchange.ToolRole, Name: c.known, Parts: []exchange.Part{
			exchange.ToolResult{CallID: c.ID, Content: c.result.Text, Source: c.Server + "/" + c.Name}}})
	}
	return turns
}

// sameOften is how often a call may give the same result.
const sameOften = 3

// repeated names the bound that calls have reached which say nothing new.
func (r *run) repeated(list []*call) string {
	for _, c := range list {
		key := c.Server + "\x00" + c.Name + "\x00" + c.Arguments + "\x00" + c.result.Text
		if r.seen[key]++; r.seen[key] >= sameOften {
			return exchange.BoundRepeated
		}
	}
	return ""
}

// remember keeps the turns that the client does not see, for the request that goes on from this answer.
func (r *run) remember(turn exchange.Turn, theirs bool) {
	if !theirs || r.how.Approvals || len(r.turns) == 0 {
		return // clients that see calls of the gate's send them back
	}
	turns := slices.Clone(r.turns)
	if len(turn.Parts) > 0 {
		turns = append(turns, turn)
	}
	if size(turns) > longHidden {
		return
	}
	for _, t := range turns {
		for _, p := range t.Parts {
			if c, ok := p.(exchange.ToolCall); ok && r.names[c.Name] == nil {
				r.hidden.Add(hiddenKey(r.account, c.ID), turns)
			}
		}
	}
}

// size is how much turns take, about, in bytes.
func size(turns []exchange.Turn) (n int) {
	for _, t := range turns {
		n += len(t.Text())
		for _, p := range t.Parts {
			if c, ok := p.(exchange.ToolCall); ok {
				n += len(c.Arguments)
			}
		}
	}
	return n
}

// list asks all servers for their tools, side by side, and names them for the model. A server that does not answer is told of, and the loop goes
// on without it.
func (r *run) list(ctx context.Context) {
	type found struct {
		tools  []tool.Tool
		server tool.Server
		err    error
	}
	all := make([]found, len(r.servers))
	var asking sync.WaitGroup
	for i, s := range r.servers {
		f := &all[i]
		if s.URL != "" {
			f.server = r.remote(s, r.rules.Private)
			r.opened = append(r.opened, f.server)
		}
		asking.Go(func() {
			defer func() {
				if p := recover(); p != nil {
					f.err = exchange.Panicked(p)
				}
			}()
			if f.server != nil {
				f.tools, f.err = f.server.Tools(ctx)
			} else {
				f.tools, f.err = r.tools.Tools(ctx, s.Label)
			}
		})
	}
	asking.Wait()
	taken := map[string]bool{}
	for _, t := range r.asked.Tools {
		taken[t.Name] = true
	}
	for i, s := range r.servers {
		told := exchange.ToolsListed{Server: s.Label}
		if all[i].err != nil {
			if told.Error = all[i].err.Error(); !r.key.Owner {
				r.log.Warn("a tool server could not be asked", "tools", s.Label, "exchange", r.x.Record().ID, "error", told.Error)
				told.Error = cannotBeUsed
			}
			if errors.Is(all[i].err, context.Canceled) {
				told.Error = "it was not waited for"
			}
		}
		for _, t := range all[i].tools {
			t.Server = s.Label
			if s.Tools != nil && !slices.Contains(s.Tools, t.Name) || s.ReadOnly && !t.ReadOnly {
				continue
			}
			if s.URL == "" && !r.key.MayCall(s.Label, t.Name) {
				continue
			}
			name := modelName(t, taken)
			taken[name] = true
			r.names[name] = &bound{tool: t, server: all[i].server, approve: s.Approve.Wants(t.Name, t.ReadOnly) && r.how.Approvals}
			says := t.Description
			if s.Description != "" { // what the request says of the server is context for each of its tools
				says = strings.TrimSpace(says + " (" + s.Description + ")")
			}
			r.offered = append(r.offered, exchange.Tool{Name: name, Description: says, Parameters: t.Schema, Willing: true, At: "tools[" + t.ID() + "].parameters"})
			told.Tools = append(told.Tools, exchange.ListedTool{Name: t.Name, Title: t.Title, Description: t.Description, Schema: t.Schema, ReadOnly: t.ReadOnly})
		}
		r.listed = append(r.listed, told)
	}
}

var unnamed = regexp.MustCompile(`[^A-Za-z0-9_-]+`)

// longestName is what templates, and servers elsewhere, take as a function's name.
const longestName = 64

// modelName is what the model knows a tool by: its own name, if that is one for a template, and no other tool has it.
func modelName(t tool.Tool, taken map[string]bool) string {
	own := unnamed.ReplaceAllString(t.Name, "_")
	for _, name := range []string{own, unnamed.ReplaceAllString(t.Server, "_") + "_" + own} {
		if len(name) <= longestName && !taken[name] {
			return name
		}
	}
	own = own[:min(len(own), longestName-5)]
	for i := 2; ; i++ {
		if name := fmt.Sprintf("%s_%d", own, i); !taken[name] {
			return name
		}
	}
}

// settled gives calls that waited for an approval, and of which the client says nothing, a result that says so.
func (r *run) settled(turns []exchange.Turn) []exchange.Turn {
	for _, c := range unanswered(turns) {
		if c.Server == "" || slices.ContainsFunc(r.asked.Approvals, func(a exchange.Approval) bool { return a.CallID == c.ID }) {
			continue
		}
		at := slices.IndexFunc(turns, func(t exchange.Turn) bool {
			return slices.ContainsFunc(t.Parts, func(p exchange.Part) bool { made, ok := p.(exchange.ToolCall); return ok && made.ID == c.ID })
		})
		turns = slices.Insert(slices.Clone(turns), at+1, exchange.Turn{Role: exchange.ToolRole, Name: c.Name, Parts: []exchange.Part{
			exchange.ToolResult{CallID: c.ID, Content: refusedResult("the call was not approved").Text, Source: c.Server + "/" + c.Name}}})
	}
	return turns
}

// named gives earlier calls of the gate's tools the names that the model knows them by.
func (r *run) named(turns []exchange.Turn) []exchange.Turn {
	turns = slices.Clone(turns)
	for i, t := range turns {
		if t.Role != exchange.Assistant {
			continue
		}
		turns[i].Parts = slices.Clone(t.Parts)
		for j, p := range t.Parts {
			c, ok := p.(exchange.ToolCall)
			if !ok || c.Server == "" {
				continue
			}
			known := unnamed.ReplaceAllString(c.Name, "_")
			for name, b := range r.names {
				if b.tool.Server == c.Server && b.tool.Name == c.Name {
					known = name
				}
			}
			turns[i].Parts[j] = exchange.ToolCall{ID: c.ID, Name: known, Arguments: c.Arguments}
		}
	}
	return turns
}
