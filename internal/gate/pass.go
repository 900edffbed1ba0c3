package gate

import (
	"context"
	"errors"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/runner/remote"
)

// PassOn has a request sent as it is to the machine that has a model, as an exchange of its own; do sends it, and reports whether anything
// has gone out to the client. Only machines that are set up to get that sort of request do. If no model is named, it is the one machine that
// does.
func (g *Gate) PassOn(ctx context.Context, caller keyring.Key, from Origin, model string, do func(ctx context.Context, m *remote.Machine, there string, via []string) (begun bool, err error)) (err error) {
	x := g.begin(ctx, caller, from, model)
	defer func() {
		if p := recover(); p != nil {
			err = exchange.Panicked(p)
		}
		x.close(err)
	}()
	if err := g.circles(from.Via); err != nil {
		return err
	}
	targets, err := g.passing(ctx, caller, from, model)
	if err != nil {
		return err
	}
	if err := x.admit(nil); err != nil {
		return err
	}
	for i, t := range targets {
		m, ok := g.Machines.Machine(t.model.Machine)
		if !ok {
			continue
		}
		x.turn(t.model)
		begun, err := do(x.ctx, m, t.model.Path, g.through(from.Via))
		if err == nil {
			x.record.Reason = exchange.Stopped
			return nil
		}
		if cause := context.Cause(x.ctx); cause != nil {
			return cause
		}
		if begun || i == len(targets)-1 || !elsewhereToo(err) {
			return err
		}
		x.record.PassedOver = append(x.record.PassedOver, t.model.ID+" "+exchange.AsError(err).Code)
	}
	return errors.New("no machine was asked")
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
	r, err := g.find(ctx, caller, model)
	if err != nil {
		return nil, err
	}
	all, err := g.order(ctx, r, caller, from, place{}, &exchange.Request{Model: model})
	if err != nil {
		return nil, err
	}
	for _, t := range all {
		if m, ok := g.Machines.Machine(t.model.Machine); ok && m.Passes(endpoint) {
			list = append(list, t)
		}
	}
	if len(list) == 0 {
		return nil, nobody
	}
	return list, nil
}
