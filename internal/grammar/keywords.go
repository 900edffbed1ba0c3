package grammar

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// place is a keyword where it stands in a schema.
type place struct {
	d       *document
	schema  *schema // that it is a keyword of
	pointer string  // to that schema
	beside  []member
	name    string
	raw     json.RawMessage // its value
}

// keywords are what the compiler does with each keyword. Those that are missing are annotations, or are not known.
var keywords map[string]func(*place) error

// init fills the table, since what is in it reads subschemas, and so comes back to the table.
func init() {
	keywords = map[string]func(*place) error{
		"type": (*place).types, "nullable": (*place).nullable,
		"enum": (*place).enum, "const": (*place).enum,

		"properties": (*place).properties, "patternProperties": (*place).patternProperties,
		"required":          func(k *place) (err error) { k.schema.required, err = k.texts(k.raw); return err },
		"dependentRequired": (*place).dependent, "dependentSchemas": (*place).dependent, "dependencies": (*place).dependent,
		"additionalProperties":  func(k *place) (err error) { k.schema.additional, err = k.whole(); return err },
		"propertyNames":         func(k *place) (err error) { k.schema.names, err = k.whole(); return err },
		"unevaluatedProperties": func(k *place) (err error) { k.d.evaluates = true; k.schema.unevaluated, err = k.whole(); return err },
		"minProperties":         func(k *place) error { return k.count(k.raw, &k.schema.minMembers, maxMembers) },
		"maxProperties":         func(k *place) error { return k.count(k.raw, &k.schema.maxMembers, maxMembers) },

		"items":            (*place).items,
		"prefixItems":      func(k *place) (err error) { k.schema.prefix, err = k.list(); return err },
		"additionalItems":  (*place).additionalItems,
		"unevaluatedItems": func(k *place) (err error) { k.d.evaluates = true; k.schema.remaining, err = k.whole(); return err },
		"contains":         (*place).contains,
		"minItems":         func(k *place) error { return k.count(k.raw, &k.schema.minItems, maxBound) },
		"maxItems":         func(k *place) error { return k.count(k.raw, &k.schema.maxItems, maxBound) },
		"uniqueItems":      (*place).uniqueItems,

		"multipleOf":       (*place).multipleOf,
		"minimum":          func(k *place) error { return k.limit(&k.schema.low, false, higher) },
		"exclusiveMinimum": func(k *place) error { return k.limit(&k.schema.low, true, higher) },
		"maximum":          func(k *place) error { return k.limit(&k.schema.high, false, lower) },
		"exclusiveMaximum": func(k *place) error { return k.limit(&k.schema.high, true, lower) },

		"minLength": func(k *place) error { return k.count(k.raw, &k.schema.minLength, 1<<20) },
		"maxLength": func(k *place) error { return k.count(k.raw, &k.schema.maxLength, unbounded-1) },
		"pattern":   (*place).pattern, "format": (*place).format,

		"allOf": func(k *place) error {
			list, err := k.list()
			k.schema.allOf = append(k.schema.allOf, list...)
			return err
		},
		"anyOf": (*place).choice, "oneOf": (*place).choice,
		"not": (*place).not, "if": (*place).condition,
		"$ref": func(k *place) (err error) { k.schema.ref, err = k.refer(); return err },
		"$dynamicRef": func(k *place) error {
			to, err := k.refer()
			k.schema.allOf = append(k.schema.allOf, to)
			return err
		},
	}
}

// annotations are keywords that say nothing about which values are valid, or are read with others.
var annotations = map[string]bool{
	"title": true, "description": true, "default": true, "examples": true, "example": true, "deprecated": true,
	"readOnly": true, "writeOnly": true, "$schema": true, "$comment": true, "$defs": true, "definitions": true,
	"contentEncoding": true, "contentMediaType": true, "contentSchema": true,
	"then": true, "else": true, "minContains": true, "maxContains": true,
	"$id": true, "$anchor": true, "$dynamicAnchor": true, // see [document.findResources]
}

// apply has the keyword say what it says of its schema.
func (k *place) apply() error {
	if do, known := keywords[k.name]; known {
		return do(k)
	}
	if annotations[k.name] || strings.HasPrefix(k.name, "x-") {
		return nil
	}
	return k.fail("is not a keyword that can be enforced; leave it out")
}

// fail says what is wrong with the keyword.
func (k *place) fail(format string, args ...any) error {
	return &SchemaError{Path: k.schema.path, Keyword: k.name, Message: k.name + " " + fmt.Sprintf(format, args...)}
}

// cause says what is wrong with the keyword, unless the work has ended.
func (k *place) cause(err error) error {
	if k.ended(err) {
		return err
	}
	return k.fail("%v", err)
}

// ended reports whether an error says that the work has ended.
func (k *place) ended(err error) bool { return errors.Is(err, ErrWork) || k.d.work.ctx.Err() != nil }

// neighbour is the value of a keyword that stands beside; nil if there is none.
func (k *place) neighbour(name string) json.RawMessage {
	for _, m := range k.beside {
		if m.name == name {
			return m.value
		}
	}
	return nil
}

// child is the schema at a pointer below the one of the keyword.
func (k *place) child(pointer string, raw json.RawMessage) (*schema, error) {
	return k.d.node(k.pointer+"/"+pointer, raw)
}

// whole is the keyword's value as a schema.
func (k *place) whole() (*schema, error) { return k.child(k.name, k.raw) }

// list is the keyword's value as a list of schemas.
func (k *place) list() (list []*schema, err error) {
	var items []json.RawMessage
	if json.Unmarshal(k.raw, &items) != nil || len(items) == 0 {
		return nil, k.fail("must be a list of schemas")
	}
	for i, item := range items {
		c, err := k.child(k.name+"/"+strconv.Itoa(i), item)
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	return list, nil
}

// each calls back for each member of the keyword's value.
func (k *place) each(do func(name string, raw json.RawMessage) error) error {
	fields, err := members(k.raw)
	if err != nil {
		return k.fail("must be an object")
	}
	for _, f := range fields {
		if err := do(f.name, f.value); err != nil {
			return err
		}
	}
	return nil
}

// named is the schema of a name within the keyword's value.
func (k *place) named(name string, raw json.RawMessage) (*schema, error) {
	return k.child(k.name+"/"+escapePointer(name), raw)
}

// count reads a number that is not negative.
func (k *place) count(raw json.RawMessage, to *int, limit int) error {
	n, err := integer(raw)
	switch {
	case err != nil || n < 0:
		return k.fail("must be a whole number that is not negative")
	case n > limit:
		return k.fail("is %d; %d is the most that can be enforced", n, limit)
	}
	*to = n
	return nil
}

// limit reads a bound of numbers, and keeps the stricter of it and the one that is there.
func (k *place) limit(to *bound, strict bool, stricter func(a, b bound) bound) error {
	v, err := rational(k.raw)
	if err != nil && beyondAll(k.raw, k.name == "minimum" || k.name == "exclusiveMinimum") {
		return nil
	}
	if err != nil {
		return k.fail("%v", err)
	}
	*to = stricter(*to, bound{v, strict})
	return nil
}

// beyondAll reports whether a bound is so far away that no number that is written reaches it, such as the largest of a float64.
func beyondAll(raw json.RawMessage, lower bool) bool {
	mantissa, exponent, found := strings.Cut(strings.ToLower(string(raw)), "e")
	n, err := strconv.Atoi(exponent)
	return found && err == nil && n > maxExponent && strings.HasPrefix(mantissa, "-") == lower && strings.Trim(mantissa, "-0.") != ""
}

func (k *place) texts(raw json.RawMessage) (list []string, err error) {
	if json.Unmarshal(raw, &list) != nil || list == nil {
		return nil, k.fail("must be a list of names")
	}
	return list, nil
}

func (k *place) types() error {
	var one string
	list := []string{}
	if json.Unmarshal(k.raw, &one) == nil {
		list = append(list, one)
	} else if json.Unmarshal(k.raw, &list) != nil {
		return k.fail("must be a type's name or a list of them")
	}
	var types typeSet
	for _, t := range list {
		known, ok := typeNames[t]
		if !ok {
			return k.fail("is %q; it must be null, boolean, object, array, string, integer or number", t)
		}
		types |= known
	}
	if k.isNullable() {
		types |= typeNull
	}
	k.schema.types = types
	return nil
}

// isNullable reports whether null is allowed beside the type, as OpenAPI 3.0 writes it.
func (k *place) isNullable() bool { return string(k.neighbour("nullable")) == "true" }

// nullable is read with type and enum; without a type it says nothing (OpenAPI 3.0.3, "nullable").
func (k *place) nullable() error {
	if s := string(k.raw); s != "true" && s != "false" {
		return k.fail("must be true or false")
	}
	return nil
}

func (k *place) enum() error {
	items := []json.RawMessage{k.raw}
	if err := k.d.work.spend(10 * len(k.raw)); err != nil {
		return err
	}
	if k.name == "enum" && (json.Unmarshal(k.raw, &items) != nil || len(items) == 0) {
		return k.fail("must be a list of values")
	}
	var list []string
	for _, item := range items {
		v, err := normal(item)
		if err != nil {
			return k.fail("%v", err)
		}
		list = append(list, v)
	}
	if k.isNullable() {
		list = append(list, "null")
	}
	s := k.schema
	s.values = intersect(s.values, list)
	s.among = among(s.values)
	return nil
}

func (k *place) properties() error {
	return k.each(func(name string, raw json.RawMessage) error {
		c, err := k.named(name, raw)
		k.schema.properties = append(k.schema.properties, property{name, c})
		return err
	})
}

func (k *place) patternProperties() error {
	return k.each(func(name string, raw json.RawMessage) error {
		p, err := newPattern(k.d.work, name)
		if err != nil {
			return k.cause(err)
		}
		c, err := k.named(name, raw)
		k.schema.matching = append(k.schema.matching, matching{p, c})
		return err
	})
}

// dependent reads what follows from a property that is there: others, or a schema. Draft 7 has one keyword for both.
func (k *place) dependent() error {
	return k.each(func(name string, raw json.RawMessage) (err error) {
		c := anything(k.schema.path)
		if k.name == "dependentRequired" || k.name == "dependencies" && raw[0] == '[' {
			c.types = typeObject
			c.required, err = k.texts(raw)
		} else {
			c, err = k.named(name, raw)
		}
		k.schema.dependent = append(k.schema.dependent, property{name, c})
		return err
	})
}

// items reads the schema of all items behind the first ones; or those of the first ones, as draft 7 has them.
func (k *place) items() (err error) {
	if k.raw[0] == '[' {
		k.schema.prefix, err = k.list()
		return err
	}
	k.schema.items, err = k.whole()
	return err
}

// additionalItems is draft 7's keyword for the items behind those that a list of items names. Otherwise it says nothing.
func (k *place) additionalItems() (err error) {
	if first := k.neighbour("items"); len(first) > 0 && first[0] == '[' {
		k.schema.items, err = k.whole()
	}
	return err
}

func (k *place) contains() (err error) {
	c := containing{min: 1, max: -1}
	if c.schema, err = k.whole(); err != nil {
		return err
	}
	if n := k.neighbour("minContains"); n != nil {
		if err := k.count(n, &c.min, maxContains); err != nil {
			return err
		}
	}
	if n := k.neighbour("maxContains"); n != nil {
		if err := k.count(n, &c.max, maxContains); err != nil {
			return err
		}
	}
	k.schema.contains = append(k.schema.contains, c)
	return nil
}

func (k *place) uniqueItems() error {
	if json.Unmarshal(k.raw, &k.schema.unique) != nil {
		return k.fail("must be true or false")
	}
	return nil
}

func (k *place) multipleOf() error {
	v, err := rational(k.raw)
	if err != nil || v.Sign() <= 0 {
		return k.fail("must be a number above 0")
	}
	k.schema.multiple = v
	return nil
}

// pattern reads a pattern. One that cannot be enforced is noted where a format beside it is enforced, since libraries write both.
func (k *place) pattern() error {
	var source string
	if json.Unmarshal(k.raw, &source) != nil {
		return k.fail("must be a text")
	}
	p, err := newPattern(k.d.work, source)
	switch {
	case err == nil:
		k.schema.patterns = append(k.schema.patterns, p)
	case k.formatBeside() == nil || k.ended(err):
		return k.cause(err)
	default:
		k.d.note(k.schema.path, k.name+" "+err.Error())
	}
	return nil
}

// formatBeside is the pattern of the format beside; nil if none that is enforced is there.
func (k *place) formatBeside() *pattern {
	var name string
	if json.Unmarshal(k.neighbour("format"), &name) != nil {
		return nil
	}
	return formats()[name]
}

// format reads a format. One that is not known is an annotation (draft 2020-12, section 7.2.1 of the validation vocabulary).
func (k *place) format() error {
	var name string
	if json.Unmarshal(k.raw, &name) != nil {
		return k.fail("must be a text")
	}
	if p, known := formats()[name]; known {
		k.schema.patterns = append(k.schema.patterns, p)
	}
	return nil
}

func (k *place) choice() error {
	options, err := k.list()
	k.schema.choices = append(k.schema.choices, &choice{options: options, one: k.name == "oneOf"})
	return err
}

func (k *place) not() error {
	c, err := k.whole()
	k.schema.nots = append(k.schema.nots, c)
	return err
}

func (k *place) condition() (err error) {
	c := &condition{}
	if c.is, err = k.whole(); err != nil {
		return err
	}
	if n := k.neighbour("then"); n != nil {
		if c.then, err = k.child("then", n); err != nil {
			return err
		}
	}
	if n := k.neighbour("else"); n != nil {
		if c.otherwise, err = k.child("else", n); err != nil {
			return err
		}
	}
	k.schema.whether = c
	return nil
}
