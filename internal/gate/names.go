package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// SaveName makes a public name answered by models or presets, at once and for whoever asks from then on. No name shadows another: one that
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
	if _, _, ok, _ := g.Machines.Find(n.Name); ok {
		return exchange.InvalidParam("name", "%q is a model of a machine; a public name must be another", n.Name)
	}
	for i, target := range n.Targets() {
		if _, err := g.own(ctx, target); err != nil {
			at := fmt.Sprintf("of[%d].to", i)
			if i == len(n.Of) {
				at = "shadow.to"
			}
			return exchange.InvalidParam(at, "%s", exchange.AsError(err).Message)
		}
	}
	for i := range n.Of {
		for j, ref := range n.Of[i].Keys {
			named, err := g.keyOrGroup(ctx, ref)
			if err != nil {
				return exchange.InvalidParam(fmt.Sprintf("of[%d].keys", i), "%s", exchange.AsError(err).Message)
			}
			n.Of[i].Keys[j] = named
		}
	}
	return g.Names.PutName(ctx, n)
}

// keyOrGroup is what stands for a key or a group in a target. A label would not do: another key may have the same.
func (g *Gate) keyOrGroup(ctx context.Context, ref string) (string, error) {
	if slices.ContainsFunc(g.Keys.Groups(), func(s keyring.GroupStanding) bool { return s.Name == ref }) {
		return ref, nil
	}
	k, err := g.Keys.Find(ctx, ref)
	return keyring.Prefix + k.Account(), err
}

// RemoveName removes a public name.
func (g *Gate) RemoveName(ctx context.Context, name string) error {
	err := g.Names.DropName(ctx, name)
	if errors.Is(err, catalog.ErrNoName) {
		return exchange.Errorf(exchange.NotFound, "name_not_found", "there is no public name %q; \"kindred names list\" shows them", name)
	}
	return err
}
