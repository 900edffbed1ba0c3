// Package loop answers requests whose tools the gate runs: it has the model asked, runs the tools that it calls, gives it the results, and goes on
// until the answer is there. Each step is an exchange of its own, a child of the request's; all of them are one stream of events.
//
// What ends a loop before the model does is a bound (steps, calls, time, tokens, cost, the same call again and again). The model then has one
// last turn without tools, so that the client gets what it has found out.
package loop

import (
	"context"
	"iter"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
	"kindredgate/internal/tool"
)

// Rules are what an operator allows loops.
type Rules struct {
	Steps  int           // calls of the model, without the last turn that a bound leaves it
	Calls  int           // of tools
	Time   time.Duration // of the whole, as far as tools and further steps go
	Tokens int           // that the model writes in all steps; 0 for as many as the steps allow
	Cost   int64         // of all steps, in millionths of the currency; 0 for any
	// Approval is how long a call of a response in the background waits for somebody to approve it.
	Approval time.Duration
	// Hosts are where servers may be that a request names by their URL; "*.example" stands for all below.
	Hosts []string
	// Private lets them be at private addresses.
	Private bool
	// Hosted are the gate's servers or tools that take the place of the standard's types of tools.
	Hosted map[string]string
}

// Usual are the rules that hold where none are said.
var Usual = Rules{Steps: 16, Calls: 64, Time: 10 * time.Minute, Approval: 15 * time.Minute}

// Limits of calls where none are said.
var UsualLimits = tool.Limits{Time: 30 * time.Second, Result: 64 << 10}

// Service runs loops. It is safe for concurrent use.
type Service struct {
	gate   *gate.Gate
	tools  *tool.Set
	rules  func() Rules
	remote func(exchange.ToolServer, bool) tool.Server // makes a server of one that a request names
	log    *slog.Logger

	approvals approvals
	// hidden are turns that a client of a style without calls of the gate's has not seen, by the call of its own at which they ended.
	hidden *lru.Cache[string, []exchange.Turn]
}

// Bounds of what is remembered of answers that wait for a result of the client's. One with longer turns is not, and goes on without what was
// called before.
const (
	mostHidden = 1024
	longHidden = 64 << 10 // bytes
)

// New makes a service. remote makes a server of one that a request names by its URL; private says whether it may be at a private address.
func New(g *gate.Gate, tools *tool.Set, rules func() Rules, remote func(s exchange.ToolServer, private bool) tool.Server, log *slog.Logger) *Service {
	hidden, err := lru.New[string, []exchange.Turn](mostHidden)
	if err != nil {
		panic(err) // only for a size that is none
	}
	return &Service{gate: g, tools: tools, rules: rules, remote: remote, log: log, hidden: hidden, approvals: approvals{pending: map[string]*pending{}}}
}

// How says how a style takes an answer.
type How struct {
	// Approvals says that the client understands calls that wait for an approval.
	Approvals bool
	// Waits says that they are waited for, since nobody is on the line.
	Waits bool
	// Save writes down how far the answer has come; nil if it need not go on after a stop. An error ends the answer.
	Save func(*State) error
}

// Begin admits a request. One that wants no tools of the gate's, neither by itself nor by a preset that it names, is answered by a model alone.
func (s *Service) Begin(ctx context.Context, k keyring.Key, from gate.Origin, req *exchange.Request, how How) (*gate.Exchange, error) {
	servers := s.wanted(ctx, k, req)
	if len(servers) == 0 {
		if len(req.Approvals) > 0 {
			err := exchange.InvalidParam("tools", "input approves a call of a tool, but tools does not name its server; send the same tools as before")
			s.gate.Refuse(k, from, err)
			return nil, err
		}
		return s.gate.Begin(ctx, k, from, req)
	}
	rules := s.rules()
	if err := s.admit(k, servers, rules); err != nil {
		s.gate.Refuse(k, from, err)
		return nil, err
	}
	switch {
	case req.Candidates > 1:
		err := exchange.InvalidParam("n", "n is %d; where the gate runs tools there is one answer", req.Candidates)
		s.gate.Refuse(k, from, err)
		return nil, err
	case req.Raw != nil:
		return s.gate.Begin(ctx, k, from, req) // a raw prompt has no tools
	}
	s.reveal(k, req)
	r := s.newRun(k, how, rules, servers)
	r.original = *req
	r.kept = State{Begun: r.begun.UTC(), Exchange: from.ID, Key: k.ID, Client: from.Client, Agent: from.Agent}
	r.limits(req)
	return s.gate.BeginWhole(ctx, k, from, req, func(ctx context.Context, x *gate.Exchange) iter.Seq2[exchange.Event, error] {
		return func(yield func(exchange.Event, error) bool) { r.events(ctx, x, yield) }
	})
}

// wanted are the servers that a request names, and those that its preset does.
func (s *Service) wanted(ctx context.Context, k keyring.Key, req *exchange.Request) []exchange.ToolServer {
	servers := slices.Clone(req.Servers)
	if len(s.tools.Names()) == 0 || req.Model == "" {
		return servers
	}
	o, err := s.gate.Offer(ctx, k, req.Model)
	if err != nil || o.Preset == nil {
		return servers // what is wrong with the name is said when it is asked for
	}
	for _, own := range exchange.ServersOf(o.Preset.Tools) {
		if !slices.ContainsFunc(servers, func(s exchange.ToolServer) bool { return s.Label == own.Label }) {
			servers = append(servers, own)
		}
	}
	return servers
}

// admit looks at the servers that a request names: whether there are such, and whether its key may have them.
func (s *Service) admit(k keyring.Key, servers []exchange.ToolServer, rules Rules) error {
	labels := map[string]bool{}
	for i := range servers {
		server := &servers[i]
		if server.Type != "" {
			if err := hosted(server, rules); err != nil {
				return err
			}
		}
		if labels[server.Label] {
			return exchange.InvalidParam(server.At, "%s names the server %q a second time", server.At, server.Label)
		}
		labels[server.Label] = true
		if server.URL != "" {
			if err := s.reachable(k, server, rules); err != nil {
				return err
			}
			continue
		}
		if !slices.Contains(s.tools.Names(), server.Label) || !k.MayCall(server.Label, "") {
			return s.notAllowed(k, server.At, server.Label)
		}
		for _, name := range server.Tools {
			if !k.MayCall(server.Label, name) {
				return s.notAllowed(k, server.At, server.Label+"/"+name)
			}
		}
	}
	return nil
}

// notAllowed is the error for a tool that a key may not use, or that is not there: which of both, is not for everyone to know.
func (s *Service) notAllowed(k keyring.Key, at, name string) error {
	mine := "none"
	if k.Owner {
		mine = strings.Join(s.tools.Names(), ", ")
	} else if len(k.Tools) > 0 {
		mine = strings.Join(k.Tools, ", ")
	}
	err := exchange.Errorf(exchange.Forbidden, "tool_not_allowed", "there is no tool or tool server %q that the key %q may use; it may use: %s. The operator changes that with \"kindred keys change --tools\"", name, k.Label, mine)
	err.Param = at
	return err
}

// hosted finds the operator's tool for a type of the standard's.
func hosted(s *exchange.ToolServer, rules Rules) error {
	name := rules.Hosted[s.Type]
	if name == "" {
		return exchange.InvalidParam(s.At+".type", "%s.type is %q, which this gate does not have by itself; its operator can have a tool serve it (hosted_tools in gate.yaml), "+
			"or offer the tool yourself: as \"function\", or as \"mcp\" with the server_label of one of the gate's servers", s.At, s.Type)
	}
	server, one, single := strings.Cut(name, "/")
	s.Label = server
	if single {
		s.Tools = []string{one}
	}
	return nil
}

// reachable says whether a server that a request names by its URL may be asked.
func (s *Service) reachable(k keyring.Key, server *exchange.ToolServer, rules Rules) error {
	u, err := url.Parse(server.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
		return exchange.InvalidParam(server.At+".server_url", "%s.server_url must be an address such as https://tools.example/mcp, without a user", server.At)
	}
	allowed := slices.ContainsFunc(rules.Hosts, func(h string) bool {
		below, wild := strings.CutPrefix(h, "*")
		return strings.EqualFold(h, u.Hostname()) || wild && strings.HasSuffix(strings.ToLower(u.Hostname()), strings.ToLower(below))
	})
	if !allowed || !k.MayCallElsewhere() {
		err := exchange.Errorf(exchange.Forbidden, "tool_server_not_allowed", "the host %q is none that tools may be called at by the key %q; the operator allows hosts by tool_rules.hosts in gate.yaml, and keys by \"kindred keys change --tools remote\"", u.Hostname(), k.Label)
		err.Param = server.At + ".server_url"
		return err
	}
	return nil
}

// hiddenKey is under what turns are remembered: an account sees its own only.
func hiddenKey(account, call string) string { return account + "\x00" + call }

// reveal puts turns back into a conversation that its client has not seen: what was called and found out on the gate's side before a call
// that the client had to run itself.
func (s *Service) reveal(k keyring.Key, req *exchange.Request) {
	for i, t := range req.Turns {
		if t.Role != exchange.Assistant {
			continue
		}
		for _, p := range t.Parts {
			call, ok := p.(exchange.ToolCall)
			if !ok {
				continue
			}
			turns, ok := s.hidden.Get(hiddenKey(k.Account(), call.ID))
			if !ok {
				continue
			}
			whole := append(slices.Clone(req.Turns[:i]), turns...)
			rest := slices.Clone(req.Turns[i+1:])
			req.Turns = append(whole, rest...)
			return // of the last one only; what was before is in there
		}
	}
}
