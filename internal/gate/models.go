package gate

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/library"
)

// Installed finds an installed model by its own name, one that cannot be used included.
func (g *Gate) Installed(name string) (catalog.Model, error) {
	models, err := g.Catalog.Models()
	var names []string
	for _, m := range models {
		if m.ID == name {
			return m, nil
		}
		names = append(names, m.ID)
	}
	if err != nil && len(names) == 0 {
		return catalog.Model{}, err
	}
	return catalog.Model{}, catalog.NotInstalled(name, names)
}

// LoadModel loads a model, and keeps it loaded if keep is true.
func (g *Gate) LoadModel(ctx context.Context, name string, keep bool) (catalog.Model, error) {
	m, err := g.Catalog.Find(name)
	if err != nil {
		return m, err
	}
	return m, g.Loader.Load(ctx, m.Path, keep)
}

// UnloadModel gives the memory of a model back, and reports whether it had any.
func (g *Gate) UnloadModel(name string) (m catalog.Model, was bool, err error) {
	if m, err = g.Installed(name); err != nil {
		return m, false, err
	}
	return m, g.Loader.Unload(m.Path), nil
}

// AddModel brings a model into the models folder. The answer is what it has become there.
func (g *Gate) AddModel(ctx context.Context, a library.Addition, progress func(library.Progress)) (catalog.Model, error) {
	if g.Library == nil {
		return catalog.Model{}, exchange.Errorf(exchange.Unavailable, "no_library", "this gate's models cannot be changed")
	}
	path, err := g.Library.Add(ctx, a, progress)
	if err != nil {
		return catalog.Model{}, err
	}
	models, err := g.Catalog.Models() // what is wrong with other folders does not concern this one
	for _, m := range models {
		if m.Path == path {
			return m, nil
		}
	}
	return catalog.Model{}, errors.Join(fmt.Errorf("%s was added, but is not found", path), err)
}

// Dependents are the presets and public names that a model serves, by their names.
func (g *Gate) Dependents(ctx context.Context, model string) (presets, names []string, err error) {
	all, err := g.Presets.Presets(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range all {
		if p.Model == model {
			presets = append(presets, p.Name)
		}
	}
	public, err := g.Names.Names(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, n := range public {
		if slices.ContainsFunc(n.Targets(), func(to string) bool { return to == model || slices.Contains(presets, to) }) {
			names = append(names, n.Name)
		}
	}
	return presets, names, nil
}

// RemoveModel takes a model out of the models folder: its files if the folder has them, the link if it is one. Answers
// under way come to their end. If try is true it only tells what that would do.
func (g *Gate) RemoveModel(name string, try bool) (catalog.Model, library.Removal, error) {
	m, err := g.Installed(name)
	if err != nil {
		return m, library.Removal{}, err
	}
	if g.Library == nil {
		return m, library.Removal{}, exchange.Errorf(exchange.Unavailable, "no_library", "this gate's models cannot be changed")
	}
	r, err := g.Library.Owned(m.Path)
	if err == nil && !try {
		g.Loader.Unload(m.Path)
		r, err = g.Library.Remove(m.Path)
	}
	return m, r, err
}
