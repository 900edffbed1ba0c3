// Package apply has a gate follow what a file declares of presets, names and keys.
//
// A section that is there is whole: presets and names that it does not have are removed. Keys are found by their labels; one that is missing is
// created, and none is ever revoked. [Apply] changes all or nothing: what is wrong is found before anything is changed, as far as it can be,
// and when a change fails after all, those before it are taken back.
package apply

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
)

// Declared is what a file declares. A section that is nil is left alone.
type Declared struct {
	Names   map[string]route           `json:"names"`
	Presets map[string]catalog.Preset  `json:"presets"`
	Keys    map[string]json.RawMessage `json:"keys"` // by label; the terms as the interface takes them
}

// Parse reads a declaration from JSON, and checks what can be checked without a gate. Nulls are sections that are not there.
func Parse(raw []byte) (d Declared, err error) {
	if err := strict(raw, &d); err != nil {
		return d, exchange.Errorf(exchange.Invalid, "invalid_declaration", "names, presets, keys: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	for _, name := range slices.Sorted(maps.Keys(d.Names)) {
		n := catalog.Name(d.Names[name])
		n.Name = name
		if err := n.Check(); err != nil {
			return d, at("names."+name, err)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.Presets)) {
		p := d.Presets[name]
		p.Name = cmp.Or(p.Name, name)
		d.Presets[name] = p
		if p.Name != name {
			return d, exchange.InvalidParam("presets."+name, "presets.%s is named %q in itself; leave the name out there", name, p.Name)
		}
		if err := p.Check(); err != nil {
			return d, at("presets."+name, err)
		}
	}
	for _, label := range slices.Sorted(maps.Keys(d.Keys)) {
		if err := terms(d.Keys[label], &keyring.Terms{}); err != nil {
			return d, at("keys."+label, err)
		}
	}
	return d, nil
}

// at says where in a declaration an error is.
func at(where string, err error) error {
	known := *exchange.AsError(err)
	known.Message = where + ": " + known.Message
	return &known
}

// terms reads a key's terms over those that it has.
func terms(raw json.RawMessage, t *keyring.Terms) error {
	if len(raw) == 0 || string(raw) == "null" {
		return nil
	}
	o, err := field.Parse(raw)
	if err != nil {
		return err
	}
	return t.Read(o)
}

func strict(raw []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	return d.Decode(into)
}

// route is what a name points to: one model or preset, a list of them in order, or an object as the interface takes it, in which targets may
// be names, too.
type route catalog.Name

// UnmarshalJSON reads any of these.
func (r *route) UnmarshalJSON(raw []byte) error {
	target := func(raw json.RawMessage) (t catalog.Target, err error) {
		if raw[0] == '"' {
			return t, json.Unmarshal(raw, &t.To)
		}
		return t, strict(raw, &t)
	}
	var form struct {
		Strategy catalog.Strategy  `json:"strategy"`
		Any      catalog.Strategy  `json:"any"` // what strategy was called before
		Of       []json.RawMessage `json:"of"`
		Shadow   *catalog.Shadow   `json:"shadow"`
	}
	switch raw[0] {
	case '"':
		form.Of = []json.RawMessage{raw}
	case '[':
		if err := json.Unmarshal(raw, &form.Of); err != nil {
			return err
		}
	default:
		if err := strict(raw, &form); err != nil {
			return err
		}
	}
	*r = route{Strategy: cmp.Or(form.Strategy, form.Any), Shadow: form.Shadow}
	for _, one := range form.Of {
		t, err := target(one)
		if err != nil {
			return err
		}
		r.Of = append(r.Of, t)
	}
	return nil
}

// Step is one change that makes a gate what a file declares.
type Step struct {
	What   string `json:"what"` // name, preset or key
	Name   string `json:"name"`
	Change string `json:"change"`
	Key    string `json:"key,omitempty"` // that was created; it is shown this once

	do func(ctx context.Context) (secret string, undo func(context.Context) error, err error)
}

// Plan is what would have to change. Presets come first, since names and keys may be for them, and are removed last; then names, since keys may
// be for them, but those that have targets for keys that are not there yet.
func Plan(ctx context.Context, g *gate.Gate, d Declared) ([]Step, error) {
	var steps, gone, later []Step
	if d.Presets != nil {
		presets, removed, err := presetSteps(ctx, g, d.Presets)
		if err != nil {
			return nil, err
		}
		steps, gone = presets, removed
	}
	keys, accounts, err := keySteps(ctx, g, d.Keys)
	if err != nil {
		return nil, err
	}
	if d.Names != nil {
		names, waiting, err := nameSteps(ctx, g, d, accounts)
		if err != nil {
			return nil, err
		}
		steps, later = append(steps, names...), waiting
	}
	return slices.Concat(steps, keys, later, gone), nil
}

// Apply carries out what differs, all of it or nothing.
func Apply(ctx context.Context, g *gate.Gate, d Declared) ([]Step, error) {
	steps, err := Plan(ctx, g, d)
	if err != nil {
		return nil, err
	}
	var undo []func(context.Context) error
	for i := range steps {
		s := &steps[i]
		secret, back, err := s.do(ctx)
		if err != nil {
			err = at(s.What+" "+s.Name, err)
			for _, take := range slices.Backward(undo) {
				if failed := take(context.WithoutCancel(ctx)); failed != nil {
					return nil, errors.Join(err, fmt.Errorf("what was changed before could not be taken back: %w", failed))
				}
			}
			return nil, err
		}
		s.Key = secret
		undo = append(undo, back)
	}
	return steps, nil
}

func presetSteps(ctx context.Context, g *gate.Gate, wanted map[string]catalog.Preset) (steps, gone []Step, err error) {
	have, err := g.Presets.Presets(ctx)
	if err != nil {
		return nil, nil, err
	}
	existing := map[string]catalog.Preset{}
	for _, p := range have {
		existing[p.Name] = p
		if _, ok := wanted[p.Name]; !ok {
			gone = append(gone, Step{What: "preset", Name: p.Name, Change: "is removed", do: func(ctx context.Context) (string, func(context.Context) error, error) {
				return "", func(ctx context.Context) error { return g.Presets.PutPreset(ctx, p) }, g.RemovePreset(ctx, p.Name)
			}})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		p := wanted[name]
		old, known := existing[name]
		changes, err := differences(old, p)
		if err != nil {
			return nil, nil, err
		}
		if known && changes == "" {
			continue
		}
		if !known {
			changes = "is new, of " + p.Model
		}
		steps = append(steps, Step{What: "preset", Name: name, Change: changes, do: func(ctx context.Context) (string, func(context.Context) error, error) {
			back := func(ctx context.Context) error { return g.Presets.PutPreset(ctx, old) }
			if !known {
				back = func(ctx context.Context) error { return g.Presets.DropPreset(ctx, name) }
			}
			return "", back, g.SavePreset(ctx, p, !known)
		}})
	}
	return steps, gone, nil
}

func nameSteps(ctx context.Context, g *gate.Gate, d Declared, accounts map[string]string) (steps, later []Step, err error) {
	have, err := g.Names.Names(ctx)
	if err != nil {
		return nil, nil, err
	}
	existing := map[string]catalog.Name{}
	save := func(n catalog.Name, old catalog.Name, known bool) func(context.Context) (string, func(context.Context) error, error) {
		return func(ctx context.Context) (string, func(context.Context) error, error) {
			back := func(ctx context.Context) error { return g.Names.PutName(ctx, old) }
			if !known {
				back = func(ctx context.Context) error { return g.Names.DropName(ctx, n.Name) }
			}
			return "", back, g.SaveName(ctx, n)
		}
	}
	for _, n := range have {
		existing[n.Name] = n
		if _, ok := d.Names[n.Name]; !ok {
			steps = append(steps, Step{What: "name", Name: n.Name, Change: "is removed", do: func(ctx context.Context) (string, func(context.Context) error, error) {
				return "", func(ctx context.Context) error { return g.Names.PutName(ctx, n) }, g.RemoveName(ctx, n.Name)
			}})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.Names)) {
		n := catalog.Name(d.Names[name])
		n.Name = name
		old, known := existing[name]
		s := Step{What: "name", Name: name, Change: "is new, served by " + n.Said(), do: save(n, old, known)}
		if known {
			s.Change = fmt.Sprintf("served by %s instead of %s", n.Said(), old.Said())
			if reflect.DeepEqual(old, byAccount(n, accounts)) {
				continue
			}
		}
		first, waits := without(n, func(named string) bool { return d.Keys[named] != nil && accounts[named] == "" })
		if waits {
			// Once the keys are there, the name is put whole; taking that back leaves what the first step has put there.
			later = append(later, Step{What: s.What, Name: name, Change: s.Change, do: save(n, first, true)})
			if !d.forKeys(name) {
				later[len(later)-1].do = save(n, old, known)
				continue
			}
			s.Change, s.do = s.Change+", but for the keys that are created next", save(first, old, known)
		}
		steps = append(steps, s)
	}
	return steps, later, nil
}

// without is a name that gives nothing to targets for keys that are missing, and whether there are any.
func without(n catalog.Name, missing func(string) bool) (first catalog.Name, some bool) {
	n.Of = slices.Clone(n.Of)
	for i := range n.Of {
		if t := &n.Of[i]; slices.ContainsFunc(t.Keys, missing) {
			t.Keys, t.Drained, some = nil, true, true
		}
	}
	return n, some
}

// forKeys reports whether a key is limited to a name, which has to be there then.
func (d Declared) forKeys(name string) bool {
	for _, raw := range d.Keys {
		var t keyring.Terms
		if terms(raw, &t) == nil && slices.Contains(t.Models, name) {
			return true
		}
	}
	return false
}

// byAccount is a name as the gate keeps it: with ids in the place of the labels of keys.
func byAccount(n catalog.Name, accounts map[string]string) catalog.Name {
	n.Of = slices.Clone(n.Of)
	for i := range n.Of {
		n.Of[i].Keys = slices.Clone(n.Of[i].Keys)
		for j, named := range n.Of[i].Keys {
			n.Of[i].Keys[j] = cmp.Or(accounts[named], named)
		}
	}
	return n
}

// keySteps is what has to change of keys, and what names those that there are in targets, by their labels. Keys that keys have created are left
// alone, whatever they are called.
func keySteps(ctx context.Context, g *gate.Gate, wanted map[string]json.RawMessage) (steps []Step, accounts map[string]string, err error) {
	all, err := g.Keys.Keys(ctx)
	if err != nil {
		return nil, nil, err
	}
	accounts = map[string]string{}
	byLabel := map[string][]keyring.Key{}
	for _, k := range all {
		if k.Revoked.IsZero() && !k.Owner && k.Issuer == "" {
			accounts[k.Label] = keyring.Prefix + k.Account()
			byLabel[k.Label] = append(byLabel[k.Label], k)
		}
	}
	for _, label := range slices.Sorted(maps.Keys(wanted)) {
		raw := wanted[label]
		if len(byLabel[label]) == 0 {
			steps = append(steps, Step{What: "key", Name: label, Change: "is created", do: func(ctx context.Context) (string, func(context.Context) error, error) {
				t := keyring.Terms{}
				if err := terms(raw, &t); err != nil {
					return "", nil, err
				}
				t.Label = label
				secret, k, err := g.IssueKey(ctx, t)
				return secret, func(ctx context.Context) error {
					_, _, err := g.RevokeKey(ctx, k.ID)
					return err
				}, err
			}})
			continue
		}
		// Of several, such as one that is being replaced, each is to have the same terms.
		for _, k := range byLabel[label] {
			next := k.Terms
			if err := terms(raw, &next); err != nil {
				return nil, nil, err
			}
			if changes := k.Terms.Differences(next); changes != "" {
				steps = append(steps, Step{What: "key", Name: fmt.Sprintf("%s (%s%s…)", label, keyring.Prefix, k.ID), Change: changes, do: func(ctx context.Context) (string, func(context.Context) error, error) {
					set := func(to keyring.Terms) func(context.Context) error {
						return func(ctx context.Context) error {
							_, err := g.ChangeKey(ctx, k.ID, func(t *keyring.Terms) error { *t = to; return nil })
							return err
						}
					}
					return "", set(k.Terms), set(next)(ctx)
				}})
			}
		}
	}
	return steps, accounts, nil
}

// differences says which fields of two documents differ, and how, where that is short.
func differences(before, after any) (string, error) {
	old, err := document(before)
	if err != nil {
		return "", err
	}
	now, err := document(after)
	if err != nil {
		return "", err
	}
	names := maps.Clone(old)
	maps.Copy(names, now)
	var list []string
	for _, name := range slices.Sorted(maps.Keys(names)) {
		a, err := json.Marshal(old[name])
		if err != nil {
			return "", err
		}
		b, err := json.Marshal(now[name])
		if err != nil {
			return "", err
		}
		const short = 90
		switch {
		case bytes.Equal(a, b):
		case len(a)+len(b) > short:
			list = append(list, name)
		default:
			list = append(list, fmt.Sprintf("%s %s instead of %s", name, b, a))
		}
	}
	return strings.Join(list, ", "), nil
}

// document is a value as JSON has it.
func document(v any) (doc map[string]any, err error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return doc, json.Unmarshal(raw, &doc)
}
