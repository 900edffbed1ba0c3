package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"math"
	"math/rand/v2"
	"net/textproto"
	"slices"
	"strings"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/placement"
	"kindredgate/internal/prompt"
	"kindredgate/internal/runner/remote"
)

// target is what can answer: a model, or a preset of one.
type target struct {
	model  catalog.Model
	preset *catalog.Preset // nil for a model by its own name
}

// name is what the target is called among those of a public name.
func (t target) name() string {
	if t.preset != nil {
		return t.preset.Name
	}
	return t.model.ID
}

// route is what may answer under the name that was asked for.
type route struct {
	public *catalog.Name // nil if it is the name of a model or preset
	only   target        // then
}

// longName is how long a name may be, in bytes.
const longName = 256

// find finds what a name stands for: a model here or elsewhere, a preset of one, or a public name. A key that may use a preset or a public
// name need not be allowed what is behind it.
func (g *Gate) find(ctx context.Context, k keyring.Key, name string) (r route, err error) {
	if name == "" {
		return r, exchange.InvalidParam("model", "model is missing; GET /v1/models lists the installed ones")
	}
	if len(name) > longName {
		return r, exchange.InvalidParam("model", "model is a name of %d bytes; names have %d at the most", len(name), longName)
	}
	if !k.MayUse(name) {
		return r, forbidden(k, name)
	}
	if m, ok := g.Catalog.Known(name); ok {
		return route{only: target{model: m}}, nil
	}
	if m, ok, err := g.elsewhere(name); ok {
		return route{only: target{model: m}}, err
	}
	p, err := g.Presets.Preset(ctx, name)
	switch {
	case err == nil:
		m, err := g.model(p.Model)
		return route{only: target{m, &p}}, err
	case !errors.Is(err, catalog.ErrNoPreset):
		return r, err
	}
	if n, err := g.Names.Name(ctx, name); err == nil {
		return route{public: &n}, nil
	} else if !errors.Is(err, catalog.ErrNoName) {
		return r, err
	}
	if n, ok := g.fleetName(name); ok {
		return route{public: &n}, nil
	}
	// This alone walks through the folders. A model that has just come there is not for the name that catches all others.
	m, missing := g.Catalog.Find(name)
	if missing != nil && exchange.AsError(missing).Kind == exchange.NotFound {
		if n, err := g.Names.Name(ctx, catalog.AnyName); err == nil {
			return route{public: &n}, nil
		} else if !errors.Is(err, catalog.ErrNoName) {
			return r, err
		}
	}
	return route{only: target{model: m}}, missing
}

// unnamed is what is asked where a request names no model: the name for all others if there is one, or else the only model for text that the key
// may use.
func (g *Gate) unnamed(ctx context.Context, k keyring.Key) (string, error) {
	if _, err := g.Names.Name(ctx, catalog.AnyName); err == nil && k.MayUse(catalog.AnyName) {
		return catalog.AnyName, nil
	} else if err != nil && !errors.Is(err, catalog.ErrNoName) {
		return "", err
	}
	offers, err := g.Offers(ctx, k)
	if err != nil && len(offers) == 0 {
		return "", err
	}
	var models []string
	for _, o := range offers {
		if o.Model.Use.Writes() && o.Preset == nil && o.Target == "" {
			models = append(models, o.Name)
		}
	}
	if len(models) == 1 {
		return models[0], nil
	}
	return "", exchange.InvalidParam("model", "model is missing; there are %d that could answer, so name one: GET /v1/models lists them. The public name \"*\" decides for requests without one", len(models))
}

// resolve finds one of what a name stands for, for those who only look.
func (g *Gate) resolve(ctx context.Context, k keyring.Key, name string) (catalog.Model, *catalog.Preset, error) {
	r, err := g.find(ctx, k, name)
	if err != nil || r.public == nil {
		return r.only.model, r.only.preset, err
	}
	t, err := g.first(ctx, name, *r.public)
	return t.model, t.preset, err
}

// first is the first target of a public name that is there.
func (g *Gate) first(ctx context.Context, asked string, n catalog.Name) (t target, err error) {
	for _, of := range n.Of {
		if t, err = g.own(ctx, of.To); err == nil {
			return t, nil
		}
	}
	return t, withoutTarget(asked, n.Of[0].To, err)
}

func withoutTarget(asked, to string, err error) error {
	return exchange.Errorf(exchange.Unavailable, "name_without_target", "%q is served by %q, which cannot answer now: %s", asked, to, exchange.AsError(err).Message)
}

// own finds a model or preset by its own name.
func (g *Gate) own(ctx context.Context, name string) (t target, err error) {
	if strings.HasPrefix(name, catalog.AnyMachine) {
		return g.anyOf(ctx, name)
	}
	if m, ok := g.Catalog.Known(name); ok {
		return target{model: m}, nil
	}
	if m, ok, err := g.elsewhere(name); ok {
		return target{model: m}, err
	}
	p, err := g.Presets.Preset(ctx, name)
	if errors.Is(err, catalog.ErrNoPreset) {
		// This alone walks through the folders.
		m, err := g.Catalog.Find(name)
		return target{model: m}, err
	} else if err != nil {
		return t, err
	}
	m, err := g.model(p.Model)
	return target{m, &p}, err
}

// model finds a model, here or elsewhere.
func (g *Gate) model(name string) (catalog.Model, error) {
	if m, ok, err := g.elsewhere(name); ok {
		return m, err
	}
	return g.Catalog.Find(name)
}

// elsewhere finds a model of a machine; ok is false if the name is none such.
func (g *Gate) elsewhere(name string) (m catalog.Model, ok bool, err error) {
	machine, there, ok, err := g.Machines.Find(name)
	if !ok {
		return m, false, nil
	}
	return modelOf(machine, there), true, err
}

// modelOf is what is known of a model of a machine.
func modelOf(machine *remote.Machine, there remote.Model) catalog.Model {
	m := catalog.Model{ID: machine.Name() + "/" + there.Name, Path: there.Name, Machine: machine.Name(), ContextLength: there.Context, Installed: there.Created, Digest: there.Digest}
	switch use := catalog.Use(there.Use); use {
	case catalog.Chat, catalog.Completion, catalog.Embedding, catalog.Rerank:
		m.Use = use
	default:
		m.Use = catalog.Chat
	}
	return m
}

// runner is what runs a model.
func (g *Gate) runner(m catalog.Model) (Runner, error) {
	if m.Machine == "" {
		return g.Runner, nil
	}
	machine, ok := g.Machines.Machine(m.Machine)
	if !ok {
		return nil, g.Machines.Unknown(m.Machine)
	}
	return machine, nil
}

// laidOutThere is why a prompt cannot be shown.
func laidOutThere(m catalog.Model) error {
	return exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the prompt of %q is rendered by the machine %q, and cannot be shown here; runners.%s.layout has prompts laid out here", m.ID, m.Machine, m.Machine)
}

// lay lays out a request for a model.
func (g *Gate) lay(ctx context.Context, m catalog.Model, req *exchange.Request) (*prompt.Prompt, error) {
	if m.Machine == "" {
		return g.Prompts.Render(ctx, m.Path, req)
	}
	machine, ok := g.Machines.Machine(m.Machine)
	if !ok {
		return nil, g.Machines.Unknown(m.Machine)
	}
	if l := machine.Layout(); l != nil {
		return l.Render(req)
	}
	return nil, laidOutThere(m)
}

func (g *Gate) layRaw(ctx context.Context, m catalog.Model, text string) (*prompt.Prompt, error) {
	if m.Machine != "" {
		return nil, laidOutThere(m)
	}
	return g.Prompts.RenderRaw(ctx, m.Path, text)
}

// checkTemplate reports what is wrong with a template for a model.
func (g *Gate) checkTemplate(ctx context.Context, m catalog.Model, source string) error {
	if m.Machine == "" {
		return g.Prompts.CheckTemplate(ctx, m.Path, source)
	}
	_, err := g.lay(ctx, m, &exchange.Request{Template: source, Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text("a question")}}}})
	return err
}

// order gives the targets of a route in the order in which they are to be tried for a request. The error says why none of them can.
func (g *Gate) order(ctx context.Context, r route, k keyring.Key, from Origin, at place, req *exchange.Request) (choices, error) {
	if r.public == nil {
		return only(r.only), nil
	}
	type choice struct {
		target
		of catalog.Target
	}
	var list []choice
	var reasons []string
	kind := exchange.Invalid
	out := func(to string, k exchange.Kind, why string) {
		reasons = append(reasons, fmt.Sprintf("%s (%s)", to, why))
		if k != exchange.Invalid {
			kind = k
		}
	}
	targets, left := g.expand(r.public.Of)
	for _, of := range slices.Sorted(maps.Keys(left)) {
		out(of, exchange.Unavailable, left[of])
	}
	for _, of := range targets {
		if !meant(of, k, from) {
			continue
		}
		if of.Drained {
			out(of.To, exchange.Unavailable, "is drained")
			continue
		}
		t, err := g.own(ctx, of.To)
		if err != nil {
			if r.public.Single() {
				return choices{}, withoutTarget(req.Model, of.To, err)
			}
			out(of.To, exchange.Unavailable, exchange.AsError(err).Message)
			continue
		}
		if r.public.Single() {
			return only(t), nil // whatever is wrong with it, it says itself
		}
		if why := g.unwell(t.model); why != "" {
			out(of.To, exchange.Unavailable, why)
			continue
		}
		if why := g.lacks(t.model, req); why != "" {
			out(of.To, exchange.Invalid, why)
			continue
		}
		list = append(list, choice{t, of})
	}
	if len(list) == 0 {
		if len(reasons) == 0 {
			reasons = []string{"none of its targets is meant for this key and these headers"}
		}
		return choices{}, exchange.Errorf(kind, "name_without_target", "%q cannot be answered: %s", req.Model, strings.Join(reasons, "; "))
	}
	var rank func(c choice) float64
	var chosen choices
	switch r.public.Strategy {
	case catalog.LeastBusy:
		rank = func(c choice) float64 { return float64(g.InProgress(c.model.ID)) }
	case catalog.Weighted:
		// The order of a draw without putting back, with these weights (Efraimidis and Spirakis 2006).
		rank = func(c choice) float64 { return -math.Log(1-rand.Float64()) / float64(max(1, c.of.Share)) }
	case catalog.PrefixAffinity:
		rank = func(c choice) float64 {
			if at.tail.target == c.name() {
				return -1
			}
			return spread(c.name(), req.Turns)
		}
	case catalog.Placement:
		var of []target
		for _, c := range list {
			of = append(of, c.target)
		}
		chosen.placed, chosen.chain = g.rank(of, req)
		rank = func(c choice) float64 {
			return float64(slices.IndexFunc(chosen.placed, func(e placement.Estimate) bool { return e.Target == c.name() }))
		}
	default:
		rank = func(choice) float64 { return 0 }
	}
	ranks := map[string]float64{}
	for _, c := range list {
		ranks[c.of.To] = rank(c)
	}
	// Those that are for this key or header go ahead.
	special := func(c choice) int {
		if c.of.Keys != nil || c.of.Header != "" {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(list, func(a, b choice) int {
		return cmp.Or(cmp.Compare(special(a), special(b)), cmp.Compare(ranks[a.of.To], ranks[b.of.To]))
	})
	for _, c := range list {
		chosen.targets = append(chosen.targets, c.target)
	}
	return chosen, nil
}

// meant reports whether a target is for requests like this one.
func meant(of catalog.Target, k keyring.Key, from Origin) bool {
	if of.Keys != nil && !slices.ContainsFunc(of.Keys, func(named string) bool {
		// Labels are of names that were kept by older gates; what a key's holder calls its keys stands for nothing.
		return named == keyring.Prefix+k.Account() || named == k.Group && k.Group != "" || named == k.Label && k.Issuer == ""
	}) {
		return false
	}
	if of.Header == "" {
		return true
	}
	name, value, _ := strings.Cut(of.Header, ":")
	return from.Header != nil && strings.EqualFold(strings.TrimSpace(from.Header(textproto.CanonicalMIMEHeaderKey(strings.TrimSpace(name)))), strings.TrimSpace(value))
}

// spread gives requests that begin alike the same number for a target, so that each target has conversations that begin alike (Thaler and
// Ravishankar 1998). How a request begins is what its system turn says, or its first turn.
func spread(target string, turns []exchange.Turn) float64 {
	h := fnv.New64a()
	h.Write([]byte(target))
	if len(turns) > 0 {
		h.Write([]byte{0})
		h.Write([]byte(turns[0].Text()))
	}
	x := h.Sum64()
	// Names that differ in their last letter only would be near one another else (the finalizer of MurmurHash3).
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return float64(x>>11) / (1 << 53)
}

// unwell says why a model cannot be asked now; "" if it can.
func (g *Gate) unwell(m catalog.Model) string {
	if m.Machine == "" {
		return ""
	}
	machine, ok := g.Machines.Machine(m.Machine)
	if !ok {
		return "its machine is not there any more"
	}
	switch {
	case !machine.Healthy():
		return "is unreachable"
	case !machine.Serves(m.Path):
		return "fails on that machine"
	}
	return ""
}

// lacks says what a request needs that a model does not have; "" if it is not known to lack anything.
func (g *Gate) lacks(m catalog.Model, req *exchange.Request) string {
	_, pictured := pictured(req)
	if n := remote.EstimateTokens(req); m.ContextLength > 0 && n/2 > m.ContextLength {
		return fmt.Sprintf("has a context of %d tokens, too few for a prompt of about %d", m.ContextLength, n)
	}
	if m.Machine == "" {
		switch {
		case pictured && !m.Sees():
			return "takes no pictures"
		case len(req.Tools) > 0 && (m.Template == nil || !m.Template.Tools):
			return "takes no tools"
		}
		return ""
	}
	machine, ok := g.Machines.Machine(m.Machine)
	if !ok {
		return ""
	}
	can := machine.Look().Of(m.Path)
	switch {
	case pictured && can.Images == remote.No:
		return "takes no pictures"
	case len(req.Tools) > 0 && can.Tools == remote.No:
		return "takes no tools"
	case req.Format.Kind != exchange.FormatText && can.Formats == remote.No:
		return "keeps to no format"
	case req.Scores != nil && can.Scores == remote.No:
		return "gives no log-probabilities"
	}
	return ""
}

// pictured finds the first picture of a request.
func pictured(req *exchange.Request) (exchange.Image, bool) {
	for _, t := range req.Turns {
		for _, p := range t.Parts {
			if image, ok := p.(exchange.Image); ok {
				return image, true
			}
		}
	}
	return exchange.Image{}, false
}

// Requests is how many requests are in progress.
func (g *Gate) Requests() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.running)
}

// InProgress is how many answers of a model are in progress.
func (g *Gate) InProgress(model string) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.streams[model]
}

// elsewhereToo reports whether an answer that has not begun may be tried by another target: not where the request itself is wrong, or its
// key has no more room.
func elsewhereToo(err error) bool {
	var e *exchange.Error
	if errors.Is(err, context.Canceled) {
		return false
	}
	if !errors.As(err, &e) {
		return true // a fault of ours, which another need not have
	}
	switch e.Kind {
	case exchange.Unavailable, exchange.Refused, exchange.Internal, exchange.NotFound, exchange.Looped:
		return e.Code != "shutting_down"
	case exchange.Limited:
		return e.Code == "queue_full" || e.Code == "runner_busy"
	case exchange.Invalid:
		return e.Code == "context_length_exceeded"
	case exchange.Unauthenticated, exchange.Forbidden, exchange.MethodNotAllowed, exchange.TooLarge, exchange.Misdirected, exchange.Canceled:
	}
	return false
}
