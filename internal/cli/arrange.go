package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kindredgate/internal/catalog"
	"kindredgate/internal/config"
	"kindredgate/internal/server"
)

// arrangement is what a file declares. A section that is there is whole: what it does not have goes, keys apart.
type arrangement struct {
	Names   map[string]route          `json:"names"`
	Presets map[string]catalog.Preset `json:"presets"`
	Keys    map[string]map[string]any `json:"keys"` // by label; the terms as the gate takes them
}

// route is what answers under a name: one model or preset, a list of them in order, or an object as the gate takes it, in which targets may
// be names, too.
type route catalog.Name

// UnmarshalJSON reads any of these.
func (r *route) UnmarshalJSON(raw []byte) error {
	strict := func(raw []byte, into any) error {
		d := json.NewDecoder(bytes.NewReader(raw))
		d.DisallowUnknownFields()
		return d.Decode(into)
	}
	target := func(raw json.RawMessage) (t catalog.Target, err error) {
		if raw[0] == '"' {
			return t, json.Unmarshal(raw, &t.To)
		}
		return t, strict(raw, &t)
	}
	var form struct {
		Any    catalog.Way       `json:"any"`
		Of     []json.RawMessage `json:"of"`
		Shadow *catalog.Shadow   `json:"shadow"`
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
	*r = route{Any: form.Any, Shadow: form.Shadow}
	for _, one := range form.Of {
		t, err := target(one)
		if err != nil {
			return err
		}
		r.Of = append(r.Of, t)
	}
	return nil
}

// step is one thing to be done for a gate to be as a file declares it.
type step struct {
	What   string `json:"what"` // name, preset or key
	Name   string `json:"name"`
	Change string `json:"change"`

	method, path string
	body         any
}

func (t *terminal) arrange() *cobra.Command {
	var flags clientFlags
	var carryOut, asJSON bool
	cmd := &cobra.Command{
		Use:   "arrange FILE",
		Short: "Compare the names, presets and keys of a file with those of the gate, and have the gate follow the file",
		Long: `Compare the sections names, presets and keys of a file with what the gate has, and show what differs. With --carry-out the gate follows
the file. A section that is not in the file is left alone; names and presets that a section does not have are forgotten. Keys are found by
their labels; one that is missing is issued, and none is ever revoked.`,
		Example: `  kindred arrange gate.yaml
  kindred arrange gate.yaml --carry-out`,
		Args: exactly("a file"),
		RunE: flags.run(func(c *cobra.Command, gate *client, args []string) error {
			raw, err := config.Declarations(args[0])
			if err != nil {
				return err
			}
			gate.exact = true // what is compared must be as it is; it is made printable when it is shown
			var wanted arrangement
			d := json.NewDecoder(bytes.NewReader(raw))
			d.DisallowUnknownFields()
			if err := d.Decode(&wanted); err != nil {
				return fmt.Errorf("%s: names, presets, keys: %s", args[0], strings.TrimPrefix(err.Error(), "json: "))
			}
			steps, err := gate.differences(c.Context(), wanted)
			if err != nil {
				return err
			}
			if !carryOut {
				return t.showSteps(steps, args[0], asJSON)
			}
			return t.carryOut(c.Context(), gate, steps)
		}),
	}
	flags.add(cmd)
	cmd.Flags().BoolVar(&carryOut, "carry-out", false, "do it; else it is only shown")
	cmd.Flags().BoolVarP(&asJSON, "json", "j", false, "print JSON")
	return cmd
}

func (t *terminal) showSteps(steps []step, file string, asJSON bool) error {
	if asJSON {
		return t.printJSON(map[string]any{"steps": append([]step{}, steps...)})
	}
	if len(steps) == 0 {
		_, err := fmt.Fprintf(t.out, "The gate is as %s declares it.\n", shown(file))
		return err
	}
	rows := [][]string{{"WHAT", "NAME", "WOULD CHANGE"}}
	for _, s := range steps {
		rows = append(rows, []string{s.What, shown(s.Name), shown(s.Change)})
	}
	if err := table(t.out, rows...); err != nil {
		return err
	}
	_, err := fmt.Fprintln(t.out, "\nNothing was changed. \"--carry-out\" does it.")
	return err
}

// carryOut does what is to be done, in order; at the first that fails it ends, and says how far it came.
func (t *terminal) carryOut(ctx context.Context, gate *client, steps []step) error {
	for i, s := range steps {
		var issued server.IssuedKey
		var answer any
		if s.method != http.MethodDelete {
			answer = &issued
		}
		if err := gate.call(ctx, s.method, s.path, s.body, answer); err != nil {
			return fmt.Errorf("%s %s: %w; %d of %d changes were carried out before", s.What, shown(s.Name), err, i, len(steps))
		}
		fmt.Fprintf(t.out, "%s %s: %s\n", s.What, shown(s.Name), shown(s.Change))
		if issued.Key != "" {
			fmt.Fprintf(t.out, "  %s   shown this once\n", issued.Key)
		}
	}
	_, err := fmt.Fprintf(t.out, "%d changes were carried out.\n", len(steps))
	return err
}

// differences is what would have to be done. Presets come first, since names and keys may be for them, and are forgotten last; then names, since
// keys may be for them, but those that have targets for keys that are not there yet.
func (c *client) differences(ctx context.Context, wanted arrangement) (steps []step, err error) {
	var gone []step
	if wanted.Presets != nil {
		var have server.PresetList
		if err := c.call(ctx, http.MethodGet, "/gate/presets", nil, &have); err != nil {
			return nil, err
		}
		existing := map[string]catalog.Preset{}
		for _, p := range have.Presets {
			existing[p.Name] = p
			if _, ok := wanted.Presets[p.Name]; !ok {
				gone = append(gone, step{What: "preset", Name: p.Name, Change: "is forgotten", method: http.MethodDelete, path: "/gate/presets/" + url.PathEscape(p.Name)})
			}
		}
		for _, name := range slices.Sorted(maps.Keys(wanted.Presets)) {
			p := wanted.Presets[name]
			p.Name = cmp.Or(p.Name, name)
			old, ok := existing[p.Name]
			changes, err := changed(old, p)
			switch {
			case err != nil:
				return nil, err
			case !ok:
				steps = append(steps, step{What: "preset", Name: name, Change: "is new, of " + p.Model, method: http.MethodPost, path: "/gate/presets", body: p})
			case changes != "":
				steps = append(steps, step{What: "preset", Name: name, Change: changes, method: http.MethodPut, path: "/gate/presets/" + url.PathEscape(name), body: p})
			}
		}
	}
	keys, labels, err := c.keySteps(ctx, wanted.Keys)
	if err != nil {
		return nil, err
	}
	var later []step // names that are for keys which are issued first
	if wanted.Names != nil {
		var have server.NameList
		if err := c.call(ctx, http.MethodGet, "/gate/names", nil, &have); err != nil {
			return nil, err
		}
		existing := map[string]catalog.Name{}
		for _, n := range have.Names {
			existing[n.Name] = n
			if _, ok := wanted.Names[n.Name]; !ok {
				steps = append(steps, step{What: "name", Name: n.Name, Change: "is forgotten", method: http.MethodDelete, path: "/gate/names?name=" + url.QueryEscape(n.Name)})
			}
		}
		for _, name := range slices.Sorted(maps.Keys(wanted.Names)) {
			n := catalog.Name(wanted.Names[name])
			n.Name = name
			if err := n.Check(); err != nil {
				return nil, fmt.Errorf("names.%s: %w", name, err)
			}
			s := step{What: "name", Name: name, Change: "is new, answered by " + n.Said(), method: http.MethodPut, path: "/gate/names", body: n}
			if old, ok := existing[name]; ok {
				s.Change = fmt.Sprintf("answered by %s instead of %s", n.Said(), old.Said())
				if reflect.DeepEqual(old, byKeys(n, labels)) {
					continue
				}
			}
			first, waits := without(n, func(named string) bool { return wanted.Keys[named] != nil && labels[named] == "" })
			if waits {
				later = append(later, s)
				if !forKeys(wanted.Keys, name) {
					continue
				}
				s.Change, s.body = s.Change+", but for the keys that are issued next", first
			}
			steps = append(steps, s)
		}
	}
	return slices.Concat(steps, keys, later, gone), nil
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
func forKeys(keys map[string]map[string]any, name string) bool {
	for _, terms := range keys {
		if list, ok := terms["models"].([]any); ok && slices.Contains(list, any(name)) {
			return true
		}
	}
	return false
}

// byKeys is a name as the gate keeps it: with identifiers in the place of the labels of keys.
func byKeys(n catalog.Name, labels map[string]string) catalog.Name {
	n.Of = slices.Clone(n.Of)
	for i := range n.Of {
		n.Of[i].Keys = slices.Clone(n.Of[i].Keys)
		for j, named := range n.Of[i].Keys {
			n.Of[i].Keys[j] = cmp.Or(labels[named], named)
		}
	}
	return n
}

// keySteps is what would have to be done for keys, and what identifies those that there are, by their labels. Keys that keys have issued are
// left alone, whatever they are called.
func (c *client) keySteps(ctx context.Context, wanted map[string]map[string]any) (steps []step, labels map[string]string, err error) {
	var have struct {
		Keys []server.KeyInfo `json:"keys"`
	}
	if err := c.call(ctx, http.MethodGet, "/gate/keys", nil, &have); err != nil {
		return nil, nil, err
	}
	own := func(k server.KeyInfo) bool { return k.Revoked == nil && !k.Owner && k.Issuer == "" }
	labels = map[string]string{}
	for _, k := range have.Keys {
		if own(k) {
			labels[k.Label] = cmp.Or(k.Follows, k.ID)
		}
	}
	for _, label := range slices.Sorted(maps.Keys(wanted)) {
		body := map[string]any{}
		maps.Copy(body, wanted[label])
		var mine []server.KeyInfo
		for _, k := range have.Keys {
			if k.Label == label && own(k) {
				mine = append(mine, k)
			}
		}
		if len(mine) == 0 {
			body["label"] = label
			steps = append(steps, step{What: "key", Name: label, Change: "is issued", method: http.MethodPost, path: "/gate/keys", body: body})
			continue
		}
		// Of several, such as one that is being replaced, each is to have the same terms.
		for _, k := range mine {
			old, err := asDocument(k)
			if err != nil {
				return nil, nil, err
			}
			given := map[string]any{}
			for name := range body {
				given[name] = old[name]
			}
			changes, err := changed(given, body)
			if err != nil {
				return nil, nil, err
			}
			if changes != "" {
				steps = append(steps, step{What: "key", Name: fmt.Sprintf("%s (%s…)", label, k.ID), Change: changes, method: http.MethodPatch, path: keyPath(k.ID), body: body})
			}
		}
	}
	return steps, labels, nil
}

// asDocument is a value as JSON has it.
func asDocument(v any) (doc map[string]any, err error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return doc, json.Unmarshal(raw, &doc)
}

// changed says which fields of two documents differ, and how, where that is short.
func changed(before, after any) (string, error) {
	old, err := asDocument(before)
	if err != nil {
		return "", err
	}
	now, err := asDocument(after)
	if err != nil {
		return "", err
	}
	var list []string
	for _, name := range slices.Sorted(maps.Keys(union(old, now))) {
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

func union(a, b map[string]any) map[string]any {
	all := maps.Clone(a)
	maps.Copy(all, b)
	return all
}
