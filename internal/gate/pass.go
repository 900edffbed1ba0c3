package gate

import (
	"context"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/runner/remote"
)

// PassOn has a request sent as it is to the machine that has a model, as an exchange of its own; do sends it, and reports whether anything
// has gone out to the client. Only machines that are set up to get that sort of request do. If no model is named, it is the one machine that
// does.
func (g *Gate) PassOn(ctx context.Context, caller keyring.Key, from Origin, model string, do func(ctx context.Context, m *remote.Machine, there string, via []string) (begun bool, err error)) (err error) {
	x := g.begin(ctx, caller, from, model)
	defer func() { x.close(err) }()
	anything := func(target) error { return nil }
	priced := func(t target) error {
		asked := x.Record()
		asked.Answered = t.model.ID
		return x.lease.Charge(0, x.cost(&asked)) // a call has its price, whatever comes of it
	}
	if err := x.start(want{anything, priced}, nil, func() (choices, error) {
		list, err := g.passing(ctx, caller, from, model)
		return choices{targets: list}, err
	}); err != nil {
		return err
	}
	return x.attempt(func() (begun bool, err error) {
		err = recovered(func() (err error) {
			m, ok := g.Machines.Machine(x.model.Machine)
			if !ok {
				return g.Machines.Unknown(x.model.Machine)
			}
			if begun, err = do(x.ctx, m, x.model.Path, g.through(from.Via)); err == nil {
				x.record.Reason = string(exchange.Stopped)
			} else if cause := context.Cause(x.ctx); cause != nil {
				err = cause
			}
			return err
		})
		return begun, err
	})
}

// passing are the targets that get requests of that sort.
func (g *Gate) passing(ctx context.Context, caller keyring.Key, from Origin, model string) (list []target, err error) {
	endpoint := string(from.Style)
	nobody := exchange.Errorf(exchange.NotFound, "unknown_path", "%s is not answered here: no machine is set up to get it (runners.NAME.pass in the configuration)", from.Endpoint)
	if model == "" {
		for _, m := range g.Machines.Machines() {
			if m.Passes(endpoint) && caller.MayUse(m.Name()) {
				list = append(list, target{model: modelOf(m, remote.Model{})})
			}
		}
		if len(list) > 1 {
			return nil, exchange.InvalidParam("model", "model is missing, and several machines answer that; name one of their models")
		}
		if len(list) == 0 {
			return nil, nobody
		}
		return list, nil
	}
	all, err := g.targets(ctx, caller, from, model)
	if err != nil {
		return nil, err
	}
	for _, t := range all.targets {
		if m, ok := g.Machines.Machine(t.model.Machine); ok && m.Passes(endpoint) {
			list = append(list, t)
		}
	}
	if len(list) == 0 {
		return nil, nobody
	}
	return list, nil
}
