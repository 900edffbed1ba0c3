package grammar

import (
	"errors"
	"fmt"
	"math/bits"
	"slices"
)

// listState is how far a list has come: its items, capped where more make no difference; how many of them met each of the schemas that
// some have to meet; and, where all have to differ, which values have been there.
type listState struct {
	items int
	met   [maxContaining]int8
	used  uint16
}

const (
	maxContaining = 3
	// maxDistinct is how many values there may be for the items of a list whose items differ.
	maxDistinct = 10
)

// lister makes the node of a list, a rule for each state of it.
type lister struct {
	c        *compiler
	b        *branch
	contains []containing
	fixed    int // items that have a place of their own; those behind are alike
	cap      int // of listState.items
	values   []string
	states   map[listState]*rule
	rules    map[string]*rule // nil for what no item meets
}

// array makes a list: "[", items with commas between, "]". It is nil if there is none.
func (c *compiler) array(b *branch) (*node, error) {
	l := &lister{c: c, b: b, states: map[listState]*rule{}, rules: map[string]*rule{}}
	for _, s := range b.lists {
		l.fixed = max(l.fixed, len(s.prefix))
	}
	for _, u := range b.remaining {
		for _, s := range u.by {
			if len(s.contains) > 0 {
				return nil, &SchemaError{Path: b.path, Keyword: "unevaluatedItems", Message: "unevaluatedItems cannot be combined with contains"}
			}
		}
	}
	for _, one := range b.contains {
		if one.min > 0 || one.max >= 0 {
			l.contains = append(l.contains, one)
		}
	}
	if len(l.contains) > maxContaining {
		return nil, &SchemaError{Path: b.path, Keyword: "contains", Message: fmt.Sprintf("there are more than %d schemas that one list has to contain", maxContaining)}
	}
	if l.cap = max(b.minItems, l.fixed); b.maxItems >= 0 {
		l.cap = b.maxItems + 1
	}
	if b.unique && (b.maxItems < 0 || b.maxItems > 1) {
		if err := l.distinct(); err != nil {
			return nil, err
		}
	}
	begin := listState{}
	alts := []*node{}
	if l.complete(begin) {
		alts = append(alts, Seq(Space(), Literal("]"))(nil))
	}
	more, err := l.more(begin)
	if err != nil {
		return nil, err
	}
	for _, n := range more {
		alts = append(alts, Space()(n))
	}
	if len(alts) == 0 {
		return nil, nil
	}
	return Literal("[")(&node{alts: alts}), nil
}

// distinct finds the values that items may have, of which there must be few.
func (l *lister) distinct() error {
	refused := &SchemaError{Path: l.b.path, Keyword: "uniqueItems", Message: fmt.Sprintf(
		"uniqueItems can be enforced for lists of up to %d different values, which an enum names; leave it out, or name them", maxDistinct)}
	places := l.fixed + 1
	if m := l.b.maxItems; m >= 0 {
		places = min(places, m) // items behind these do not come
	}
	for place := range places {
		branches, err := l.c.branches(l.conditions(place))
		if err != nil {
			return err
		}
		for _, b := range branches {
			values := b.values
			if values == nil {
				const few = typeNull | typeBoolean
				if b.types&^few != 0 {
					return refused
				}
				values = []string{"null", "true", "false"}
			}
			for _, v := range values {
				if b.types&typeOf(v) != 0 && !slices.Contains(l.values, v) {
					if len(l.values) == maxDistinct {
						return refused
					}
					l.values = append(l.values, v)
				}
			}
		}
	}
	if l.values == nil {
		l.values = []string{}
	}
	return nil
}

// conditions are what an item at a place has to meet.
func (l *lister) conditions(place int) (list []*schema) {
	of := func(s *schema) *schema {
		if place < len(s.prefix) {
			return s.prefix[place]
		}
		return s.items
	}
	for _, s := range l.b.lists {
		if one := of(s); one != nil {
			list = append(list, one)
		}
	}
	for _, u := range l.b.remaining {
		if u.remains(func(s *schema) bool { return of(s) != nil || s.remaining != nil && s != u.owner }) {
			list = append(list, u.schema)
		}
	}
	return list
}

func (l *lister) complete(s listState) bool {
	if s.items < l.b.minItems {
		return false
	}
	for i, one := range l.contains {
		if int(s.met[i]) < one.min {
			return false
		}
	}
	return true
}

// after is the rule of what may follow the items so far: the end, or a comma and another item.
func (l *lister) after(s listState) (*rule, error) {
	if r, ok := l.states[s]; ok {
		return r, nil
	}
	r := &rule{node: &node{alts: []*node{}}}
	l.states[s] = r
	if err := errors.Join(l.c.work.spend(200), l.c.work.hold(4*nodeBytes)); err != nil {
		return nil, err
	}
	if l.complete(s) {
		r.node.alts = append(r.node.alts, Seq(Space(), Literal("]"))(nil))
	}
	more, err := l.more(s)
	for _, n := range more {
		r.node.alts = append(r.node.alts, comma(n))
	}
	return r, err
}

// more are the ways to go on with an item.
func (l *lister) more(s listState) (alts []*node, err error) {
	if l.b.maxItems >= 0 && s.items >= l.b.maxItems {
		return nil, nil
	}
	conditions := l.conditions(s.items)
	next := s
	next.items = min(s.items+1, l.cap)
	if l.values != nil {
		return l.moreOf(s, next, conditions)
	}
	// Whether the item is one of those that count is decided before it comes, where that makes a difference.
	for way := range 1 << len(l.contains) {
		to, list, pointless := next, slices.Clone(conditions), false
		for i, one := range l.contains {
			counts := way>>i&1 == 1
			met := int(s.met[i])
			switch {
			case counts && one.max < 0 && met >= one.min, counts && one.max >= 0 && met >= one.max:
				pointless = true // there are enough, or no more may come
			case counts:
				list = append(list, one.schema)
				to.met[i]++
			case one.max >= 0:
				n, err := l.c.doc.not(one.schema)
				if err != nil {
					return nil, at(l.b.path, "maxContains", err)
				}
				list = append(list, n)
			}
		}
		if pointless {
			continue
		}
		n, err := l.item(list, to)
		if err != nil {
			return nil, err
		}
		if n != nil {
			alts = append(alts, n)
		}
	}
	return alts, nil
}

// item is one item by some conditions and what follows; nil if there is none.
func (l *lister) item(list []*schema, to listState) (*node, error) {
	if l.c.empty(list) {
		return nil, nil
	}
	r, err := l.c.rule(list)
	if err != nil {
		return nil, err
	}
	then, err := l.after(to)
	return &node{call: r, then: &node{call: then}}, err
}

// moreOf is more for a list whose items differ.
func (l *lister) moreOf(s, next listState, conditions []*schema) (alts []*node, err error) {
	for i, v := range l.values {
		if s.used>>i&1 == 1 {
			continue
		}
		ok, err := l.c.meetsAll(conditions, v)
		to := next
		to.used |= 1 << i
		for k, one := range l.contains {
			meets := false
			if ok && err == nil {
				meets, err = l.c.holds(one.schema, v)
			}
			if meets {
				ok = one.max < 0 || int(to.met[k]) < one.max
				if one.max >= 0 || int(to.met[k]) < one.min {
					to.met[k]++
				}
			}
		}
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		then, err := l.after(to)
		if err != nil {
			return nil, err
		}
		alts = append(alts, Literal(v)(&node{call: then}))
	}
	if len(alts) > 0 {
		err = l.c.work.spend(bits.Len16(s.used) * 100)
	}
	return alts, err
}
