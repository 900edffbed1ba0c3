package grammar

import (
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
)

// An automaton can be followed through conditions of which each says what a value may be. So what says what a value must not be is
// rewritten: "not", "if", the exclusive side of "oneOf", and what depends on a property being there.

// rewrite works out what follows from the places of a document that cannot be followed as they are.
func (d *document) rewrite() error {
	all := make([]*schema, 0, len(d.known))
	for _, s := range d.known {
		all = append(all, s)
	}
	slices.SortFunc(all, func(a, b *schema) int { // in the order of the document, so that always the same place is named
		switch {
		case a.path < b.path:
			return -1
		case a.path > b.path:
			return 1
		}
		return 0
	})
	for _, s := range all {
		for _, n := range s.nots {
			opposite, err := d.not(n)
			if err == nil {
				s.derived = append(s.derived, opposite)
			} else if err := d.left(at(s.path, "not", err)); err != nil {
				return err
			}
		}
		if w := s.whether; w != nil && (w.then != nil || w.otherwise != nil || d.evaluates) {
			opposite, err := d.not(w.is)
			if err != nil {
				if err := d.left(at(s.path, "if", err)); err != nil {
					return err
				}
				opposite = anything(s.path)
			}
			s.derivedChoices = append(s.derivedChoices, &choice{options: []*schema{both(s.path, w.is, w.then), both(s.path, opposite, w.otherwise)}})
		}
		for _, p := range s.dependent {
			s.derivedChoices = append(s.derivedChoices, &choice{options: []*schema{without(s.path, p.name), both(s.path, having(s.path, p.name), p.schema)}})
		}
	}
	return nil
}

// at names the place and the keyword that an error is about.
func at(path, keyword string, err error) error {
	if refused, ok := err.(*SchemaError); ok && refused.err == nil {
		return &SchemaError{Path: path, Keyword: keyword, Message: keyword + " " + refused.Message}
	}
	return err
}

func both(path string, list ...*schema) *schema {
	s := anything(path)
	for _, one := range list {
		if one != nil {
			s.allOf = append(s.allOf, one)
		}
	}
	return s
}

func nothing(path string) *schema {
	s := anything(path)
	s.never = true
	return s
}

// without is everything but objects that have a property, having is objects that do.
func without(path, name string) *schema {
	s := anything(path)
	s.silent, s.properties = true, []property{{name, nothing(path)}}
	return s
}

func having(path, name string) *schema {
	s := anything(path)
	s.types, s.required = typeObject, []string{name}
	return s
}

func ofTypes(path string, types typeSet, change func(*schema)) *schema {
	s := anything(path)
	s.types = types
	if change != nil {
		change(s)
	}
	return s
}

// not is what meets a schema if and only if it does not meet s; for some keywords it is less than that, but never more.
func (d *document) not(s *schema) (*schema, error) {
	if n, ok := d.negated[s]; ok {
		if n == nil {
			return nil, &SchemaError{Message: "cannot be enforced for a schema that contains itself"}
		}
		return n, nil
	}
	d.negated[s] = nil
	defer func() {
		if d.negated[s] == nil {
			delete(d.negated, s)
		}
	}()
	ways, err := d.ways(s)
	if err != nil {
		return nil, err
	}
	n := anything(s.path)
	switch len(ways) {
	case 0:
		n.never = true
	case 1:
		n.allOf = ways
	default:
		n.choices = []*choice{{options: ways}}
	}
	n.silent = true
	d.negated[s] = n
	return n, nil
}

// ways are in which a value may fail to meet a schema.
func (d *document) ways(s *schema) (ways []*schema, err error) {
	if err := d.work.spend(20); err != nil {
		return nil, err
	}
	if s.never {
		return []*schema{anything(s.path)}, nil
	}
	refuse := func(keyword string) ([]*schema, error) {
		return nil, &SchemaError{Message: fmt.Sprintf("cannot be enforced of %s", keyword)}
	}
	of := func(types typeSet, change func(*schema)) { ways = append(ways, ofTypes(s.path, types, change)) }
	not := func(of *schema, use func(*schema)) {
		if err != nil {
			return
		}
		var n *schema
		if n, err = d.not(of); err == nil && !n.never {
			use(n)
		}
	}
	const numbers = typeInteger | typeFraction
	if s.types != everyType {
		of(everyType&^s.types, nil)
	}
	if s.values != nil {
		n := anything(s.path)
		if n.allOf, err = d.notValues(s.path, s.values); err != nil {
			return nil, err
		}
		ways = append(ways, n)
	}
	for _, p := range s.properties {
		not(p.schema, func(n *schema) {
			of(typeObject, func(w *schema) { w.required, w.properties = []string{p.name}, []property{{p.name, n}} })
		})
	}
	for _, name := range s.required {
		of(typeObject, func(w *schema) { w.properties = []property{{name, nothing(s.path)}} })
	}
	if a := s.additional; a != nil && !a.saysNothing() {
		if !a.never || len(s.matching) > 0 {
			return refuse("additionalProperties")
		}
		of(typeObject, func(w *schema) { w.minMembers = len(s.properties) + 1 }) // more than there are names for
	}
	for _, p := range s.dependent {
		not(p.schema, func(n *schema) { ways = append(ways, both(s.path, having(s.path, p.name), n)) })
	}
	for _, of := range []struct {
		keyword string
		there   bool
	}{
		{"patternProperties", len(s.matching) > 0}, {"propertyNames", s.names != nil}, {"uniqueItems", s.unique}, {"multipleOf", s.multiple != nil},
		{"unevaluatedProperties", s.unevaluated != nil}, {"unevaluatedItems", s.remaining != nil},
	} {
		if of.there {
			return refuse(of.keyword)
		}
	}
	if s.minMembers > 0 {
		of(typeObject, func(w *schema) { w.maxMembers = s.minMembers - 1 })
	}
	if s.maxMembers >= 0 {
		of(typeObject, func(w *schema) { w.minMembers = s.maxMembers + 1 })
	}
	for i, p := range s.prefix {
		not(p, func(n *schema) {
			of(typeArray, func(w *schema) {
				w.minItems = i + 1
				for range i {
					w.prefix = append(w.prefix, anything(s.path))
				}
				w.prefix = append(w.prefix, n)
			})
		})
	}
	switch {
	case s.items == nil || s.items.saysNothing():
	case s.items.never:
		of(typeArray, func(w *schema) { w.minItems = len(s.prefix) + 1 })
	case len(s.prefix) > 0:
		return refuse("items behind prefixItems")
	default:
		not(s.items, func(n *schema) {
			of(typeArray, func(w *schema) { w.contains = []containing{{n, 1, -1}} })
		})
	}
	for _, c := range s.contains {
		if c.min > 0 {
			of(typeArray, func(w *schema) { w.contains = []containing{{c.schema, 0, c.min - 1}} })
		}
		if c.max >= 0 {
			of(typeArray, func(w *schema) { w.contains = []containing{{c.schema, c.max + 1, -1}} })
		}
	}
	if s.minItems > 0 {
		of(typeArray, func(w *schema) { w.maxItems = s.minItems - 1 })
	}
	if s.maxItems >= 0 {
		of(typeArray, func(w *schema) { w.minItems = s.maxItems + 1 })
	}
	if s.low.value != nil {
		of(numbers, func(w *schema) { w.high = bound{s.low.value, !s.low.strict} })
	}
	if s.high.value != nil {
		of(numbers, func(w *schema) { w.low = bound{s.high.value, !s.high.strict} })
	}
	if s.minLength > 0 {
		of(typeString, func(w *schema) { w.maxLength = s.minLength - 1 })
	}
	if s.maxLength >= 0 {
		of(typeString, func(w *schema) { w.minLength = s.maxLength + 1 })
	}
	for _, p := range s.patterns {
		of(typeString, func(w *schema) { w.patterns = []*pattern{p.complement()} })
	}
	if s.ref != nil {
		not(s.ref, func(n *schema) { ways = append(ways, n) })
	}
	for _, one := range s.allOf {
		not(one, func(n *schema) { ways = append(ways, n) })
	}
	for _, c := range s.choices {
		if c.one && !c.apart && len(c.options) > 1 {
			return refuse("oneOf")
		}
		none := anything(s.path)
		possible := true
		for _, option := range c.options {
			var n *schema
			if n, err = d.not(option); err != nil {
				return nil, err
			}
			none.allOf = append(none.allOf, n)
			possible = possible && !n.never
		}
		if possible {
			ways = append(ways, none)
		}
	}
	ways = append(ways, s.nots...)
	if w := s.whether; w != nil {
		if w.then != nil {
			not(w.then, func(n *schema) { ways = append(ways, both(s.path, w.is, n)) })
		}
		if w.otherwise != nil {
			not(w.otherwise, func(n *schema) {
				not(w.is, func(opposite *schema) { ways = append(ways, both(s.path, opposite, n)) })
			})
		}
	}
	return ways, err
}

// saysNothing reports whether it is plain that every value meets a schema.
func (s *schema) saysNothing() bool {
	return !s.never && s.types == everyType && s.values == nil && len(s.properties) == 0 && len(s.matching) == 0 && len(s.required) == 0 && s.additional == nil &&
		s.names == nil && len(s.dependent) == 0 && s.minMembers == 0 && s.maxMembers < 0 && s.unevaluated == nil && len(s.prefix) == 0 && s.items == nil &&
		len(s.contains) == 0 && s.minItems == 0 && s.maxItems < 0 && !s.unique && s.remaining == nil && s.low.value == nil && s.high.value == nil && s.multiple == nil &&
		s.minLength == 0 && s.maxLength < 0 && len(s.patterns) == 0 && s.ref == nil && len(s.allOf) == 0 && len(s.choices) == 0 && len(s.nots) == 0 && s.whether == nil
}

// notValues are the conditions of being none of some values.
func (d *document) notValues(path string, values []string) (conditions []*schema, err error) {
	var texts []string
	var numbers []*big.Rat
	for _, v := range values {
		if err := d.work.spend(len(v)); err != nil {
			return nil, err
		}
		switch typeOf(v) {
		case typeNull:
			conditions = append(conditions, ofTypes(path, everyType&^typeNull, nil))
		case typeBoolean:
			other := anything(path)
			other.values = []string{map[string]string{"true": "false", "false": "true"}[v]}
			n := anything(path)
			n.choices = []*choice{{options: []*schema{ofTypes(path, everyType&^typeBoolean, nil), other}}}
			conditions = append(conditions, n)
		case typeInteger, typeFraction:
			r, err := rational(json.RawMessage(v))
			if err != nil {
				return nil, &SchemaError{Message: err.Error()}
			}
			numbers = append(numbers, r)
		case typeString:
			var s string
			if err := json.Unmarshal([]byte(v), &s); err != nil {
				return nil, &SchemaError{Message: err.Error()}
			}
			texts = append(texts, s)
		default:
			n, err := d.notWhole(path, json.RawMessage(v))
			if err != nil {
				return nil, err
			}
			conditions = append(conditions, n)
		}
	}
	if len(texts) > 0 {
		p, err := noneOf(d.work, texts)
		if err != nil {
			return nil, err
		}
		n := anything(path)
		n.patterns = []*pattern{p}
		conditions = append(conditions, n)
	}
	if len(numbers) > 0 {
		slices.SortFunc(numbers, (*big.Rat).Cmp)
		options := []*schema{ofTypes(path, everyType&^(typeInteger|typeFraction), nil)}
		for i := range len(numbers) + 1 { // the spaces between them
			options = append(options, ofTypes(path, typeInteger|typeFraction, func(s *schema) {
				if i > 0 {
					s.low = bound{numbers[i-1], true}
				}
				if i < len(numbers) {
					s.high = bound{numbers[i], true}
				}
			}))
		}
		n := anything(path)
		n.choices = []*choice{{options: options}}
		conditions = append(conditions, n)
	}
	return conditions, nil
}

// notWhole is the condition of being another list or object than one.
func (d *document) notWhole(path string, raw json.RawMessage) (*schema, error) {
	constant := func(raw json.RawMessage) (*schema, error) {
		v, err := normal(raw)
		s := anything(path)
		s.values = []string{v}
		return s, err
	}
	same := anything(path)
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) == nil {
		same.types, same.minItems, same.maxItems = typeArray, len(list), len(list)
		for _, item := range list {
			one, err := constant(item)
			if err != nil {
				return nil, &SchemaError{Message: err.Error()}
			}
			same.prefix = append(same.prefix, one)
		}
		return d.not(same)
	}
	fields, err := members(raw)
	if err != nil {
		return nil, &SchemaError{Message: err.Error()}
	}
	same.types, same.additional = typeObject, nothing(path)
	for _, f := range fields {
		one, err := constant(f.value)
		if err != nil {
			return nil, &SchemaError{Message: err.Error()}
		}
		same.properties = append(same.properties, property{f.name, one})
		same.required = append(same.required, f.name)
	}
	return d.not(same)
}
