package loop

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
)

// State is how far a loop has come: what it takes to go on behind its last finished step. It is written down as JSON.
type State struct {
	Request []byte    `json:"request"` // encoded, as it came
	Turns   []byte    `json:"turns"`   // encoded as those of a request, that were added since
	Step    int       `json:"step"`    // that has finished; 0 for none
	Calls   int       `json:"calls"`
	Written int       `json:"written"` // tokens
	Cost    int64     `json:"cost"`
	Begun   time.Time `json:"begun"`
	// Unsafe names a call that has begun since and may have changed something, so that it must not be made again; "" for none.
	Unsafe string `json:"unsafe,omitempty"`
	// Elsewhere says that a server of it was named by its URL, which is not kept: it cannot go on.
	Elsewhere bool `json:"elsewhere,omitempty"`
	// Exchange is the request's, and Key the id of the key that asked.
	Exchange string `json:"exchange"`
	Key      string `json:"key"`
	Client   string `json:"client"`
	Agent    string `json:"agent,omitempty"`
	Again    int    `json:"again,omitempty"` // how often it has gone on after a stop
}

// state is how far the loop has come, with a call that is about to be made and may change something.
func (r *run) state(step int, unsafe string) (*State, error) {
	request, err := r.original.Encode()
	turns, err2 := (&exchange.Request{Turns: r.turns}).Encode()
	if err := errors.Join(err, err2); err != nil {
		return nil, err
	}
	s := r.kept
	s.Elsewhere = slices.ContainsFunc(r.servers, func(one exchange.ToolServer) bool { return one.URL != "" })
	s.Request, s.Turns, s.Step, s.Calls, s.Written, s.Cost, s.Unsafe = request, turns, step, r.calls, r.written, r.spent+r.x.Record().Cost, unsafe
	return &s, nil
}

// save writes down how far the loop has come, if it is to go on after a stop.
func (r *run) save(step int, unsafe string) error {
	if r.how.Save == nil {
		return nil
	}
	s, err := r.state(step, unsafe)
	if err != nil {
		return err
	}
	return r.how.Save(s)
}

// before writes down, ahead of calls that may change something, that they are about to be made.
func (r *run) before(step int, list []*call) error {
	i := slices.IndexFunc(list, func(c *call) bool { return c.bound != nil && !c.bound.tool.ReadOnly })
	if i < 0 {
		return nil
	}
	return r.save(step, list[i].Server+"/"+list[i].Name)
}

// Resume goes on with a loop that a stop of the gate has ended. The error says why it cannot.
func (s *Service) Resume(ctx context.Context, state *State, how How) (*gate.Exchange, keyring.Key, *exchange.Request, error) {
	k, valid := s.gate.Keys.Now(state.Key)
	if !valid {
		return nil, k, nil, errors.New("its key is not valid any more")
	}
	if state.Elsewhere {
		return nil, k, nil, errors.New("a tool server of it is not the gate's, and what leads to it is not kept")
	}
	if state.Unsafe != "" {
		return nil, k, nil, fmt.Errorf("%s was being called and may have changed something, so it is not called again", state.Unsafe)
	}
	req, err := exchange.DecodeRequest(state.Request)
	if err != nil {
		return nil, k, nil, err
	}
	added, err := exchange.DecodeRequest(state.Turns)
	if err != nil {
		return nil, k, nil, err
	}
	servers := s.wanted(ctx, k, req)
	rules := s.rules()
	if err := s.admit(k, servers, rules); err != nil {
		return nil, k, nil, err
	}
	state.Again++
	r := s.newRun(k, how, rules, servers)
	r.original, r.turns, r.calls, r.written, r.spent, r.done = *req, added.Turns, state.Calls, state.Written, state.Cost, state.Step
	r.kept = *state
	r.begun = time.Now() // what was before the stop does not count
	r.limits(req)
	from := gate.Origin{ID: fmt.Sprintf("%s-r%d", state.Exchange, state.Again), Parent: state.Exchange, Style: "response", Endpoint: "/v1/responses", Client: state.Client, Agent: state.Agent}
	x, err := s.gate.BeginWhole(ctx, k, from, req, func(ctx context.Context, x *gate.Exchange) iter.Seq2[exchange.Event, error] {
		return func(yield func(exchange.Event, error) bool) { r.events(ctx, x, yield) }
	})
	return x, k, req, err
}

// newRun makes a loop.
func (s *Service) newRun(k keyring.Key, how How, rules Rules, servers []exchange.ToolServer) *run {
	return &run{Service: s, key: k, how: how, rules: rules, servers: servers, begun: time.Now(), seen: map[string]int{}, names: map[string]*bound{}, account: k.Account()}
}
