package gate

import (
	"context"
	"errors"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
)

// SaveName makes a public name answered by a model or preset, at once and for whoever asks from then on. No name shadows another: one that
// a model or preset has is refused.
func (g *Gate) SaveName(ctx context.Context, n catalog.Name) error {
	if err := n.Check(); err != nil {
		return err
	}
	if n.Name != catalog.AnyName {
		if _, err := g.Catalog.Find(n.Name); err == nil {
			return exchange.InvalidParam("name", "%q is an installed model; a public name must be another", n.Name)
		}
		if _, err := g.Presets.Preset(ctx, n.Name); err == nil {
			return exchange.InvalidParam("name", "%q is a preset; a public name must be another", n.Name)
		} else if !errors.Is(err, catalog.ErrNoPreset) {
			return err
		}
	}
	if _, _, err := g.own(ctx, n.Target); err != nil {
		return exchange.InvalidParam("target", "%s", exchange.AsError(err).Message)
	}
	return g.Names.PutName(ctx, n)
}

// ForgetName removes a public name.
func (g *Gate) ForgetName(ctx context.Context, name string) error {
	err := g.Names.DropName(ctx, name)
	if errors.Is(err, catalog.ErrNoName) {
		return exchange.Errorf(exchange.NotFound, "name_not_found", "there is no public name %q; \"kindred names list\" shows them", name)
	}
	return err
}

// own finds a model or preset by its own name.
func (g *Gate) own(ctx context.Context, name string) (catalog.Model, *catalog.Preset, error) {
	if m, ok := g.Catalog.Known(name); ok {
		return m, nil, nil
	}
	p, err := g.Presets.Preset(ctx, name)
	if errors.Is(err, catalog.ErrNoPreset) {
		// This alone walks through the folders.
		m, err := g.Catalog.Find(name)
		return m, nil, err
	} else if err != nil {
		return catalog.Model{}, nil, err
	}
	m, err := g.Catalog.Find(p.Model)
	return m, &p, err
}

// public finds what answers to an asked name under a public one; ok is false if there is no such public name.
func (g *Gate) public(ctx context.Context, asked, name string) (m catalog.Model, p *catalog.Preset, ok bool, err error) {
	n, err := g.Names.Name(ctx, name)
	if errors.Is(err, catalog.ErrNoName) {
		return m, nil, false, nil
	} else if err != nil {
		return m, nil, false, err
	}
	if m, p, err = g.own(ctx, n.Target); err != nil {
		err = exchange.Errorf(exchange.Unavailable, "name_without_target", "%q is answered by %q, which cannot answer now: %s", asked, n.Target, exchange.AsError(err).Message)
	}
	return m, p, true, err
}
