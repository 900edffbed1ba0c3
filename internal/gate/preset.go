package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
)

func noPreset(name string) error {
	return exchange.Errorf(exchange.NotFound, "preset_not_found", "there is no preset %q; \"kindred presets list\" shows them", name)
}

// SavePreset keeps a new preset, or changes one. Its model must be installed, and its template, if it has one, must
// be able to lay out a conversation.
func (g *Gate) SavePreset(ctx context.Context, p catalog.Preset, isNew bool) error {
	if err := p.Check(); err != nil {
		return err
	}
	if _, err := g.Catalog.Find(p.Name); err == nil {
		return exchange.InvalidParam("name", "%q is an installed model; a preset needs a name of its own", p.Name)
	}
	if _, err := g.Names.Name(ctx, p.Name); err == nil {
		return exchange.InvalidParam("name", "%q is a public name; a preset needs a name of its own", p.Name)
	} else if !errors.Is(err, catalog.ErrNoName) {
		return err
	}
	m, err := g.model(p.Model)
	if err != nil {
		return exchange.InvalidParam("model", "%s", exchange.AsError(err).Message)
	}
	if !m.Use.Writes() {
		return exchange.InvalidParam("model", "model %q is for the style %s, for which a preset has nothing to say; it is for models that write text", p.Model, m.Use)
	}
	if i := slices.IndexFunc(p.Examples, func(e catalog.Example) bool { return len(e.Pictures) > 0 }); i >= 0 && m.Machine == "" && !m.Sees() {
		return exchange.InvalidParam(fmt.Sprintf("examples[%d].pictures", i), "examples[%d] has pictures, and model %q takes none", i, p.Model)
	}
	if p.Template != "" {
		if err := g.checkTemplate(ctx, m, p.Template); err != nil {
			return exchange.InvalidParam("template", "the template cannot be used: %v", err)
		}
	}
	_, err = g.Presets.Preset(ctx, p.Name)
	switch {
	case isNew && err == nil:
		return exchange.InvalidParam("name", "there is a preset %q already; \"kindred presets change\" changes it", p.Name)
	case !isNew && errors.Is(err, catalog.ErrNoPreset):
		return noPreset(p.Name)
	case err != nil && !errors.Is(err, catalog.ErrNoPreset):
		return err
	}
	return g.Presets.PutPreset(ctx, p)
}

// Preset returns a preset.
func (g *Gate) Preset(ctx context.Context, name string) (catalog.Preset, error) {
	p, err := g.Presets.Preset(ctx, name)
	if errors.Is(err, catalog.ErrNoPreset) {
		err = noPreset(name)
	}
	return p, err
}

// RemovePreset removes a preset.
func (g *Gate) RemovePreset(ctx context.Context, name string) error {
	err := g.Presets.DropPreset(ctx, name)
	if errors.Is(err, catalog.ErrNoPreset) {
		return noPreset(name)
	}
	return err
}
