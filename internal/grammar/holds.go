package grammar

import (
	"encoding/json"
	"math/big"
	"slices"
	"unicode/utf8"
)

// holds reports whether a value in normal form meets a schema: of values that are listed, those are left that meet the rest.
func (c *compiler) holds(s *schema, v string) (bool, error) {
	if err := c.work.spend(80 + len(v)); err != nil {
		return false, err
	}
	// A schema that leads back to itself for the same value adds nothing to what it says elsewhere.
	asked := question{s, v}
	if c.asked[asked] {
		return false, nil
	}
	c.asked[asked] = true
	defer delete(c.asked, asked)
	kind := typeOf(v)
	if s.never || s.types&kind == 0 || !s.allows(v) {
		return false, nil
	}
	ok := true
	var err error
	meets := func(s *schema, v string) bool {
		if err != nil || s == nil {
			return true
		}
		var met bool
		met, err = c.holds(s, v)
		return met
	}
	switch kind {
	case typeString:
		var text string
		if err := json.Unmarshal([]byte(v), &text); err != nil {
			return false, err
		}
		n := utf8.RuneCountInString(text)
		ok = n >= s.minLength && (s.maxLength < 0 || n <= s.maxLength) && !slices.ContainsFunc(s.patterns, func(p *pattern) bool { return !p.matches(text) })
	case typeInteger, typeFraction:
		r, err := rational(json.RawMessage(v))
		if err != nil {
			return false, err
		}
		ok = inBounds(r, s.low, s.high) && (s.multiple == nil || new(big.Rat).Quo(r, s.multiple).IsInt())
	case typeArray:
		ok, err = c.listHolds(s, v, meets)
	case typeObject:
		ok, err = c.objectHolds(s, v, meets)
	}
	if !ok || err != nil {
		return false, err
	}
	ok = meets(s.ref, v)
	for _, one := range s.allOf {
		ok = ok && meets(one, v)
	}
	for _, one := range s.nots {
		ok = ok && !meets(one, v)
	}
	for _, choice := range s.choices {
		n := 0
		for _, option := range choice.options {
			if meets(option, v) {
				n++
			}
		}
		ok = ok && (n == 1 || n > 1 && !choice.one)
	}
	if w := s.whether; w != nil {
		if meets(w.is, v) {
			ok = ok && meets(w.then, v)
		} else {
			ok = ok && meets(w.otherwise, v)
		}
	}
	return ok, err
}

// question is whether a value meets a schema.
type question struct {
	schema *schema
	value  string
}

// meetsAll is holds for several schemas.
func (c *compiler) meetsAll(list []*schema, v string) (bool, error) {
	for _, s := range list {
		if ok, err := c.holds(s, v); !ok || err != nil {
			return false, err
		}
	}
	return true, nil
}

func (c *compiler) listHolds(s *schema, v string, meets func(*schema, string) bool) (bool, error) {
	if s.remaining != nil {
		return false, &SchemaError{Path: s.path, Keyword: "unevaluatedItems", Message: "unevaluatedItems cannot be combined with lists in an enum"}
	}
	var raw []json.RawMessage
	if err := json.Unmarshal([]byte(v), &raw); err != nil {
		return false, err
	}
	items := make([]string, len(raw))
	for i := range raw {
		items[i] = string(raw[i]) // parts of a normal form are in it too
	}
	ok := len(items) >= s.minItems && (s.maxItems < 0 || len(items) <= s.maxItems)
	seen := make(map[string]bool, len(items))
	for i, item := range items {
		if i < len(s.prefix) {
			ok = ok && meets(s.prefix[i], item)
		} else {
			ok = ok && meets(s.items, item)
		}
		ok = ok && !(s.unique && seen[item])
		seen[item] = true
	}
	for _, one := range s.contains {
		n := 0
		for _, item := range items {
			if meets(one.schema, item) {
				n++
			}
		}
		ok = ok && n >= one.min && (one.max < 0 || n <= one.max)
	}
	return ok, nil
}

func (c *compiler) objectHolds(s *schema, v string, meets func(*schema, string) bool) (bool, error) {
	if s.unevaluated != nil {
		return false, &SchemaError{Path: s.path, Keyword: "unevaluatedProperties", Message: "unevaluatedProperties cannot be combined with objects in an enum"}
	}
	fields, err := members(json.RawMessage(v))
	if err != nil {
		return false, err
	}
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.name
	}
	has := among(names)
	ok := len(fields) >= s.minMembers && (s.maxMembers < 0 || len(fields) <= s.maxMembers)
	for _, name := range s.required {
		ok = ok && has(name)
	}
	for _, p := range s.dependent {
		ok = ok && (!has(p.name) || meets(p.schema, v))
	}
	for _, f := range fields {
		conditions, _ := c.conditionsOf(s, f.name)
		for _, one := range conditions {
			ok = ok && meets(one, string(f.value))
		}
		ok = ok && meets(s.names, quote(f.name))
	}
	return ok, nil
}

// conditions are what a schema itself says of the value of a property, and whether it says anything of that property.
func (s *schema) conditions(name string) (list []*schema, evaluated bool) {
	if i := slices.IndexFunc(s.properties, func(p property) bool { return p.name == name }); i >= 0 {
		list = append(list, s.properties[i].schema)
	}
	for _, m := range s.matching {
		if m.pattern.matches(name) {
			list = append(list, m.schema)
		}
	}
	if len(list) == 0 && s.additional != nil {
		list = append(list, s.additional)
	}
	return list, len(list) > 0
}
