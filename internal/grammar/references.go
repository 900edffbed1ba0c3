package grammar

import (
	"bytes"
	"encoding/json"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// resource is a part of a schema with an identifier of its own: the whole, and what has $id (draft 2020-12, section 8.2). References
// within it begin at its base, and its anchors are its own.
type resource struct {
	base    *url.URL
	pointer string            // to where it begins
	anchors map[string]string // pointers, by name; those of $dynamicAnchor too
	dynamic map[string]string // pointers of $dynamicAnchor, by name
}

// scope is what $dynamicAnchor gave names to on the way to a place: for each name the resource that was entered first counts.
type scope struct {
	pointers map[string]string
	key      string // the same for two scopes with the same pointers
}

// entering is the scope behind the border of a resource.
func (s *scope) entering(r *resource) *scope {
	var fresh []string
	for name := range r.dynamic {
		if _, known := s.pointers[name]; !known {
			fresh = append(fresh, name)
		}
	}
	if len(fresh) == 0 {
		return s
	}
	slices.Sort(fresh)
	next := &scope{pointers: map[string]string{}, key: s.key}
	for name, pointer := range s.pointers {
		next.pointers[name] = pointer
	}
	for _, name := range fresh {
		next.pointers[name] = r.dynamic[name]
		next.key += "\x00" + name + "\x00" + r.dynamic[name]
	}
	return next
}

// Keywords whose value is no schema itself but has schemas: an object with one for each name. In all others of [subschemas] an object is a
// schema, and so is each item of a list.
var byName = map[string]bool{"properties": true, "patternProperties": true, "$defs": true, "definitions": true, "dependentSchemas": true, "dependencies": true}

// subschemas are the keywords below which schemas stand. Elsewhere $id and $anchor are no more than data.
var subschemas = map[string]bool{
	"additionalProperties": true, "propertyNames": true, "unevaluatedProperties": true, "items": true, "prefixItems": true, "additionalItems": true,
	"unevaluatedItems": true, "contains": true, "not": true, "if": true, "then": true, "else": true, "allOf": true, "anyOf": true, "oneOf": true, "contentSchema": true,
}

// findResources looks for identifiers and anchors in the whole schema.
func (d *document) findResources() error {
	whole := &resource{base: &url.URL{}, anchors: map[string]string{}, dynamic: map[string]string{}}
	d.resources = []*resource{whole}
	var look func(r *resource, pointer string, raw json.RawMessage) error
	each := func(r *resource, pointer string, raw json.RawMessage) error {
		var list []json.RawMessage
		if json.Unmarshal(raw, &list) != nil {
			return look(r, pointer, raw)
		}
		for i, item := range list {
			if err := look(r, pointer+"/"+strconv.Itoa(i), item); err != nil {
				return err
			}
		}
		return nil
	}
	look = func(r *resource, pointer string, raw json.RawMessage) error {
		if err := d.work.spend(len(raw)); err != nil {
			return err
		}
		fields, err := d.members(pointer, raw)
		if err != nil {
			return nil // no object, which is for the compiler to say
		}
		text := func(name string) (s string) {
			if i := slices.IndexFunc(fields, func(m member) bool { return m.name == name }); i >= 0 && json.Unmarshal(fields[i].value, &s) != nil {
				s = ""
			}
			return s
		}
		if id, err := url.Parse(text("$id")); err == nil && *id != (url.URL{}) {
			base := r.base.ResolveReference(id)
			base.Fragment, base.RawFragment = "", ""
			if pointer == "" {
				r.base = base
			} else {
				r = &resource{base: base, pointer: pointer, anchors: map[string]string{}, dynamic: map[string]string{}}
				d.resources = append(d.resources, r)
			}
		}
		if name := text("$anchor"); name != "" {
			r.anchors[name] = pointer
		}
		if name := text("$dynamicAnchor"); name != "" {
			r.anchors[name], r.dynamic[name] = pointer, pointer
		}
		for _, f := range fields {
			at := pointer + "/" + escapePointer(f.name)
			switch {
			case byName[f.name]:
				named, err := d.members(at, f.value)
				if err != nil {
					continue
				}
				for _, n := range named {
					if err := look(r, at+"/"+escapePointer(n.name), n.value); err != nil {
						return err
					}
				}
			case subschemas[f.name]:
				if err := each(r, at, f.value); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if !bytes.Contains(d.root, []byte(`"$id"`)) && !bytes.Contains(d.root, []byte(`nchor"`)) {
		return nil // which is so for nearly all
	}
	return look(whole, "", d.root)
}

// resourceOf is the resource that a place belongs to.
func (d *document) resourceOf(pointer string) *resource {
	best := d.resources[0]
	for _, r := range d.resources[1:] {
		if len(r.pointer) > len(best.pointer) && (pointer == r.pointer || strings.HasPrefix(pointer, r.pointer+"/")) {
			best = r
		}
	}
	return best
}

// refer is the schema that $ref or $dynamicRef leads to.
func (k *place) refer() (*schema, error) {
	var ref string
	if json.Unmarshal(k.raw, &ref) != nil {
		return nil, k.fail("must be a text")
	}
	u, err := url.Parse(ref)
	if err != nil {
		return nil, k.fail("%q leads to nothing: %v", ref, err)
	}
	to := k.d.resourceOf(k.pointer).base.ResolveReference(u)
	name := to.Fragment
	to.Fragment, to.RawFragment = "", ""
	at := slices.IndexFunc(k.d.resources, func(r *resource) bool { return r.base.String() == to.String() })
	if at < 0 {
		return nil, k.fail("%q leads out of the schema; what it names has to stand in it, below $defs", ref)
	}
	if err := k.d.work.spend(20 * len(k.d.resources)); err != nil {
		return nil, err
	}
	r := k.d.resources[at]
	pointer := r.pointer + name
	if name != "" && name[0] != '/' {
		found, ok := r.anchors[name]
		if !ok {
			return nil, k.fail("%q leads to nothing", ref)
		}
		pointer = found
		_, dynamic := r.dynamic[name]
		if first, entered := k.d.scope.pointers[name]; dynamic && entered && k.name == "$dynamicRef" {
			pointer = first
		}
	}
	pointer, raw, err := k.d.find(pointer)
	switch {
	case err != nil:
		return nil, err
	case raw == nil:
		return nil, k.fail("%q leads to nothing", ref)
	}
	return k.d.node(pointer, raw)
}

// find walks to a place; raw is nil if it is not there. Names are escaped in the pointer that comes back as the compiler escapes them.
func (d *document) find(pointer string) (clean string, raw json.RawMessage, err error) {
	raw = d.root
	for i, part := range strings.Split(pointer, "/") {
		if i == 0 {
			continue
		}
		var list []json.RawMessage
		fields, err := d.members(clean, raw)
		if err != nil && json.Unmarshal(raw, &list) != nil {
			return "", nil, nil
		}
		if err := d.work.spend(len(fields) + len(list)); err != nil {
			return "", nil, err
		}
		clean += "/" + part
		part = unescapePointer(part)
		found := slices.IndexFunc(fields, func(m member) bool { return m.name == part })
		n, err := strconv.Atoi(part)
		switch {
		case found >= 0:
			raw = fields[found].value
		case err == nil && n >= 0 && n < len(list):
			raw = list[n]
		default:
			return "", nil, nil
		}
	}
	return clean, raw, nil
}
