package gate

import (
	"context"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/placement"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/runner/remote"
)

// This file is models that several machines have, and which of them a request goes to.

// holders are the machines that have a model of a name. Those that have other files under it than most are left out, or than this computer if it
// has it too; why says so of each.
func (g *Gate) holders(model string, joined bool) (list []*remote.Machine, why map[string]string) {
	digests := map[*remote.Machine]string{}
	count := map[string]int{}
	why = map[string]string{}
	for _, m := range g.Machines.Machines() {
		if joined && !m.Joined() {
			continue
		}
		for _, one := range m.Look().Models {
			if one.Name == model {
				list = append(list, m)
				if digests[m] = one.Digest; one.Digest != "" {
					count[one.Digest]++
				}
			}
		}
	}
	right := ""
	for _, d := range slices.Sorted(maps.Keys(count)) { // in an order that is the same at every gate
		if count[d] > count[right] {
			right = d
		}
	}
	if own, ok := g.Catalog.Known(model); ok {
		right = g.Fingerprint(own, nil)
	}
	return slices.DeleteFunc(list, func(m *remote.Machine) bool {
		if d := digests[m]; d == "" || d == right {
			return false
		}
		why[m.Name()+"/"+model] = "has other files under this name than the others"
		return true
	}), why
}

// fleetName is what a plain name stands for that machines which have joined offer: any of them.
func (g *Gate) fleetName(name string) (n catalog.Name, ok bool) {
	if list, _ := g.holders(name, true); len(list) == 0 {
		return n, false
	}
	return catalog.Name{Name: name, Strategy: catalog.Placement, Of: []catalog.Target{{To: catalog.AnyMachine + name}}}, true
}

// fleetNames are the plain names of models that machines which have joined offer.
func (g *Gate) fleetNames() (list []string) {
	for _, m := range g.Machines.Machines() {
		if !m.Joined() {
			continue
		}
		for _, one := range m.Look().Models {
			if !slices.Contains(list, one.Name) {
				list = append(list, one.Name)
			}
		}
	}
	slices.Sort(list)
	return list
}

// expand puts the machines that have a model in the place of a target that stands for all of them.
func (g *Gate) expand(of []catalog.Target) (list []catalog.Target, why map[string]string) {
	why = map[string]string{}
	for _, t := range of {
		model, all := strings.CutPrefix(t.To, catalog.AnyMachine)
		if !all {
			list = append(list, t)
			continue
		}
		machines, left := g.holders(model, false)
		maps.Copy(why, left)
		if len(machines)+len(left) == 0 {
			why[t.To] = "is on no machine now"
		}
		for _, m := range machines {
			one := t
			if one.To = m.Name() + "/" + model; !slices.ContainsFunc(list, func(t catalog.Target) bool { return t.To == one.To }) {
				list = append(list, one)
			}
		}
	}
	return list, why
}

// meter is what measures a model that does not measure itself.
func (g *Gate) meter(model string) *placement.Meter {
	g.mu.Lock()
	defer g.mu.Unlock()
	m := g.meters[model]
	if m == nil {
		if g.meters == nil {
			g.meters = map[string]*placement.Meter{}
		}
		m = &placement.Meter{}
		g.meters[model] = m
	}
	return m
}

// candidate is what placement goes by of a target.
func (g *Gate) candidate(t target, chain []uint32) placement.Candidate {
	var c placement.Candidate
	if machine, ok := g.Machines.Machine(t.model.Machine); ok && machine.Joined() {
		c = machine.Candidate(t.model.Path, chain)
	} else {
		meter := g.meter(t.model.ID)
		loaded := ok // a server is taken to have its models loaded
		if t.model.Machine == "" {
			if loaded = g.Loader.Status(t.model.Path).State == native.Loaded; !loaded {
				meter.Forget()
			}
		}
		c = meter.Candidate(chain)
		c.Loaded, c.Queued = loaded, g.InProgress(t.model.ID)
	}
	c.Name = t.name()
	return c
}

// rank orders targets by when each is expected to have answered.
func (g *Gate) rank(targets []target, req *exchange.Request) (placed []placement.Estimate, chain []uint32) {
	chain = placement.Chain(req)
	var list []placement.Candidate
	for _, t := range targets {
		list = append(list, g.candidate(t, chain))
	}
	answer := placement.UsualAnswer
	if req.MaxTokens > 0 {
		answer = min(answer, req.MaxTokens)
	}
	return placement.Rank(list, placement.Request{Prompt: remote.EstimateTokens(req), Answer: answer}, rand.Float64), chain
}

// choices are the targets of a request in the order in which they are to be tried, and how they were ordered, where that was by placement.
type choices struct {
	targets []target
	placed  []placement.Estimate
	chain   []uint32 // of the request; nil if nobody wants to know how it begins
}

// only is one target, of which there is nothing to choose.
func only(t target) choices { return choices{targets: []target{t}} }

// measured notes what an exchange shows of the model that answered it.
func (x *Exchange) measured() {
	r := &x.record
	if x.chain == nil || r.Answered == "" {
		return
	}
	if machine, ok := x.gate.Machines.Machine(r.Machine); ok && machine.Joined() {
		return // which measures itself
	}
	if r.FirstToken == 0 {
		return
	}
	meter := x.gate.meter(r.Answered)
	meter.Read(x.chain, r.PromptTokens-r.CachedTokens, record.Duration(r.Prefill), record.Duration(r.Load))
	meter.Wrote(r.CompletionTokens, record.Duration(r.Took-r.FirstToken))
}

// missingEverywhere is the error for a model that stands for those of machines, of which none is there.
func missingEverywhere(to string) error {
	return exchange.Errorf(exchange.NotFound, "model_not_found", "no machine has the model %q now; \"kindred machines list\" shows those that there are", strings.TrimPrefix(to, catalog.AnyMachine))
}

// anyOf is one of the machines that have a model: the first that can be asked, or else the first.
func (g *Gate) anyOf(ctx context.Context, to string) (t target, err error) {
	list, _ := g.expand([]catalog.Target{{To: to}})
	if len(list) == 0 {
		return t, missingEverywhere(to)
	}
	for _, one := range list {
		found, err := g.own(ctx, one.To)
		if err == nil && (t.model.ID == "" || g.unwell(found.model) == "") {
			if t = found; g.unwell(t.model) == "" {
				break
			}
		}
	}
	if t.model.ID == "" {
		return t, missingEverywhere(to)
	}
	return t, nil
}
