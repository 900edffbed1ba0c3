package grammar

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// objectMember is a property that is declared, as a grammar needs it.
type objectMember struct {
	name     string
	value    *rule
	required bool
}

// shape is what a grammar needs of an object.
type shape struct {
	members []objectMember
	others  machine // the names of properties that are not declared, with the quotes; nil if there are to be none
	begin   uint64
	most    int     // others; 0 for no bound
	values  []*rule // of these, by the outcome of others; nil if such a name is not to come
	min     int     // members of both kinds
	max     int     // -1 for no bound
}

// objectLayout is how an object is written.
type objectLayout struct {
	begin, end string
	open       func(name string) string // a member up to the end of its name
	assign     Expr                     // what stands between the name and the value
	close      Expr                     // what ends a member
	separator  Expr                     // what stands between members
	space      Expr                     // what may stand within the braces
}

var jsonLayout = objectLayout{begin: "{", end: "}", assign: Seq(Literal(":"), Space()), close: Literal(""), separator: comma, space: Space(),
	open: func(name string) string { return quote(name) }}

func (a Arguments) layout() objectLayout {
	return objectLayout{open: func(name string) string { return a.Open + name }, assign: Literal(a.Assign), close: Literal(a.Close), separator: Literal(a.Separator), space: Literal("")}
}

// object makes an object. It is nil if a required property is impossible.
func (c *compiler) object(b *branch) (*node, error) {
	s, err := c.shape(b)
	if s == nil || err != nil {
		return nil, err
	}
	return c.layOut(s, jsonLayout)
}

// row is where the members of an object lead when so many are there: the state of a machine knows which texts are possible, and
// each of them leads on from here.
type row struct {
	names *words  // of all members; outcomes are their places
	next  []*node // by place
	dead  []bool  // which of them come to no end; nil until that is known
}

// oneOf is one of the names of members from a place to another. Its states are those of the names as a whole, so that a machine for
// every place costs next to nothing.
type oneOf struct {
	row      *row
	from, to int // to is the last one
}

func (o *oneOf) possible(low, high int) bool {
	for _, place := range o.row.names.outcomes[low:high] {
		if place >= o.from && place <= o.to && (o.row.dead == nil || !o.row.dead[place]) {
			return true
		}
	}
	return false
}

func (o *oneOf) step(state uint64, b byte) (uint64, bool) {
	next, ok := o.row.names.step(state, b)
	if !ok {
		return 0, false
	}
	low, high, _ := o.row.names.unpack(next)
	return next, o.possible(low, high)
}

func (o *oneOf) outcome(state uint64) int {
	if n := o.row.names.outcome(state); n >= o.from && n <= o.to && (o.row.dead == nil || !o.row.dead[n]) {
		return n
	}
	return -1
}

func (o *oneOf) canonical(state uint64, _ int) uint64 { return state }

func (o *oneOf) completions(state uint64) []completion {
	all := o.row.names.completions(state)
	return slices.DeleteFunc(all, func(w completion) bool {
		return w.outcome < o.from || w.outcome > o.to || o.row.dead != nil && o.row.dead[w.outcome]
	})
}

// layOut makes an object of members in their order, then others.
func (c *compiler) layOut(s *shape, l objectLayout) (*node, error) {
	members := s.members
	counts := max(s.min, s.max, 0) // counts beyond this make no difference, or cannot be
	tails := 2                     // how many others are told apart
	if s.others != nil && s.max >= 0 {
		tails = s.max + 1
	}
	if s.most > 0 {
		tails = min(max(tails, 2), s.most) + 1
	}
	if err := c.work.hold((6*(len(members)+1) + 4*tails) * (counts + 1) * nodeBytes); err != nil {
		return nil, err
	}
	end := Seq(l.space, Literal(l.end))
	// after is how many members there are with one more; ok is false if that is too many.
	after := func(n int) (next int, ok bool) {
		if n < counts {
			return n + 1, true
		}
		return n, s.max < 0
	}
	value := func(r *rule, then *node) *node { return l.assign(&node{call: r, then: l.close(then)}) }

	// others gives what may come behind n members and k others: the end, or a separator and another. Two others might have one name, so
	// towards the least number only the first of them counts.
	type tail struct{ n, k int }
	loops := map[tail]*node{}
	var others func(n, k int) *node
	another := func(n, k int) *node {
		if s.others == nil || s.max >= 0 && n+k >= s.max || s.most > 0 && k >= s.most {
			return nil
		}
		one := &node{term: s.others, begin: s.begin}
		for _, r := range s.values {
			if r == nil {
				r = &rule{node: &node{alts: []*node{}}}
			}
			one.next = append(one.next, value(r, others(n, k+1)))
		}
		return one
	}
	others = func(n, k int) *node {
		if s.max < 0 && s.most == 0 {
			k = min(k, 1)
		}
		at := tail{n, k}
		if loop, ok := loops[at]; ok {
			return loop
		}
		r := &rule{node: &node{alts: []*node{}}}
		loops[at] = &node{call: r}
		if n+min(k, 1) >= s.min {
			r.node.alts = append(r.node.alts, end(nil))
		}
		if one := another(n, k); one != nil {
			r.node.alts = append(r.node.alts, l.separator(one))
		}
		return loops[at]
	}

	texts, places := make([]string, len(members)), make([]int, len(members)) // up to the end of the name
	stop := make([]int, len(members))                                        // the first from here on that is required, or the last
	for i := len(members) - 1; i >= 0; i-- {
		texts[i], places[i], stop[i] = l.open(members[i].name), i, i
		if !members[i].required && i < len(members)-1 {
			stop[i] = stop[i+1]
		}
	}
	names := newWords(texts, places)
	rows := make([]*row, counts+1)
	for n := range rows {
		rows[n] = &row{names: names, next: make([]*node, len(members))}
	}
	optionalFrom := len(members) // from here on nothing is required
	for optionalFrom > 0 && !members[optionalFrom-1].required {
		optionalFrom--
	}
	// choices[n] is one of the members from a place on when n are there, follow[n] what comes behind n members up to that place.
	choices, follow := make([]*node, counts+1), make([]*node, counts+1)
	for n := range follow {
		follow[n] = others(n, 0)
	}
	for i := len(members) - 1; i >= 0; i-- {
		before := slices.Clone(follow)
		for n := range rows {
			next, ok := after(n)
			if !ok {
				rows[n].next[i] = &node{alts: []*node{}}
			} else {
				rows[n].next[i] = value(members[i].value, before[next])
			}
			one := &node{term: &oneOf{rows[n], i, stop[i]}, next: rows[n].next, place: i}
			if stop[i] > i {
				one.skip = choices[n]
			}
			choices[n] = one
			alts := []*node{l.separator(one)}
			if i >= optionalFrom {
				alts = append(alts, others(n, 0))
			}
			follow[n] = &node{alts: alts}
		}
	}
	first := &node{alts: []*node{}}
	if len(members) > 0 {
		first.alts = append(first.alts, l.space(choices[0]))
	}
	if optionalFrom == 0 {
		if s.min == 0 {
			first.alts = append(first.alts, end(nil))
		}
		if one := another(0, 0); one != nil {
			first.alts = append(first.alts, l.space(one))
		}
	}
	return Literal(l.begin)(first), nil
}

// shape works out what may be in an object. It is nil if a required property cannot be.
func (c *compiler) shape(b *branch) (*shape, error) {
	s := &shape{members: []objectMember{}, min: b.minMembers, max: b.maxMembers}
	var names []string
	required, declared := map[string]bool{}, map[string]bool{}
	declare := func(name string) {
		if !declared[name] {
			declared[name] = true
			names = append(names, name)
		}
	}
	for _, o := range b.objects {
		for _, p := range o.properties {
			declare(p.name)
		}
	}
	for _, o := range b.objects {
		for _, name := range o.required {
			required[name] = true
			declare(name)
		}
	}
	naming, err := c.naming(b.names, declare)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		conditions, err := c.ofMember(b, name)
		if err != nil {
			return nil, err
		}
		if c.empty(conditions) {
			if required[name] {
				return nil, nil
			}
			continue
		}
		r, err := c.rule(conditions)
		if err != nil {
			return nil, err
		}
		s.members = append(s.members, objectMember{name, r, required[name]})
	}
	if len(s.members) > maxWords {
		return nil, &SchemaError{Path: b.path, Keyword: "properties", Message: fmt.Sprintf("there are more than %d properties", maxWords)}
	}
	if len(required) > 0 && s.max >= 0 && len(required) > s.max {
		return nil, nil
	}
	if naming != nil {
		err = c.undeclared(b, s, names, naming)
	}
	return s, err
}

// naming is what propertyNames says of names that are not declared: patterns and a length; nil if there can be no such names, as when
// they are listed, which declares them.
type naming struct {
	patterns  []*pattern
	low, high int
}

func (c *compiler) naming(conditions []*schema, declare func(name string)) (*naming, error) {
	n := &naming{high: -1}
	if len(conditions) == 0 {
		return n, nil
	}
	branches, err := c.branches(conditions)
	if err != nil {
		return nil, err
	}
	branches = slices.DeleteFunc(branches, func(b *branch) bool { return b.types&typeString == 0 })
	listed := len(branches) > 0
	for _, b := range branches {
		listed = listed && b.values != nil
	}
	switch {
	case len(branches) == 0:
		return nil, nil
	case listed:
		for _, b := range branches {
			for _, v := range b.values {
				if typeOf(v) == typeString {
					declare(unquote(v)) // whether it meets all the rest is found out like for any name
				}
			}
		}
		return nil, nil
	case len(branches) > 1:
		return nil, &SchemaError{Path: conditions[0].path, Keyword: "propertyNames", Message: "propertyNames cannot be enforced with alternatives"}
	}
	b := branches[0]
	n.patterns, n.low, n.high = b.patterns, b.minLength, b.maxLength
	return n, nil
}

// ofMember is what the schemas of a branch say of the value of one property. A schema that nothing meets is among them if its name
// cannot be.
func (c *compiler) ofMember(b *branch, name string) (list []*schema, err error) {
	if err := c.work.spend(10 * len(b.objects)); err != nil {
		return nil, err
	}
	for _, o := range b.objects {
		conditions, _ := c.conditionsOf(o, name)
		list = append(list, conditions...)
	}
	for _, u := range b.unevaluated {
		if u.remains(func(s *schema) bool {
			_, evaluated := c.conditionsOf(s, name)
			return evaluated || s.unevaluated != nil && s != u.owner
		}) {
			list = append(list, u.schema)
		}
	}
	for _, n := range b.names {
		ok, err := c.holds(n, quote(name))
		if err != nil {
			return nil, err
		}
		if !ok {
			list = append(list, nothing(b.path))
		}
	}
	return list, nil
}

// conditionsOf is [schema.conditions], found by an index where there are many properties.
func (c *compiler) conditionsOf(s *schema, name string) (list []*schema, evaluated bool) {
	const many = 16
	if len(s.properties) < many || len(s.matching) > 0 {
		return s.conditions(name)
	}
	index, ok := c.places[s]
	if !ok {
		index = make(map[string]*schema, len(s.properties))
		for _, p := range s.properties {
			index[p.name] = p.schema
		}
		c.places[s] = index
	}
	if p, ok := index[name]; ok {
		return []*schema{p}, true
	}
	if s.additional != nil {
		return []*schema{s.additional}, true
	}
	return nil, false
}

// Properties that are neither declared nor spoken of may come, but not without end: a model that rambles gets to the end of the object.
const (
	mostLoose = 16 // of them
	longLoose = 64 // bytes of a name
)

// maxNamings is how many patterns there may be for the names of properties.
const maxNamings = 4

// undeclared works out which other properties there may be: their names, and what holds for their values by the patterns that their
// names match.
func (c *compiler) undeclared(b *branch, s *shape, names []string, n *naming) error {
	var patterns []*pattern // of patternProperties
	for _, o := range b.objects {
		for _, m := range o.matching {
			if !slices.ContainsFunc(patterns, func(p *pattern) bool { return p.source == m.pattern.source }) {
				patterns = append(patterns, m.pattern)
			}
		}
	}
	if len(patterns) > maxNamings || len(n.patterns) > maxNamings {
		return &SchemaError{Path: b.path, Keyword: "patternProperties", Message: fmt.Sprintf("there are more than %d patterns for the names of one object", maxNamings)}
	}
	conditions := func(mask int) (list []*schema) {
		matches := func(p *pattern) bool {
			i := slices.IndexFunc(patterns, func(q *pattern) bool { return q.source == p.source })
			return mask>>i&1 == 1
		}
		evaluates := func(o *schema) (list []*schema) {
			for _, m := range o.matching {
				if matches(m.pattern) {
					list = append(list, m.schema)
				}
			}
			if len(list) == 0 && o.additional != nil {
				list = append(list, o.additional)
			}
			return list
		}
		for _, o := range b.objects {
			list = append(list, evaluates(o)...)
		}
		for _, u := range b.unevaluated {
			if u.remains(func(o *schema) bool { return len(evaluates(o)) > 0 || o.unevaluated != nil && o != u.owner }) {
				list = append(list, u.schema)
			}
		}
		return list
	}
	possible := false
	for mask := range 1 << len(patterns) {
		list := conditions(mask)
		if c.empty(list) {
			s.values = append(s.values, nil)
			continue
		}
		r, err := c.rule(list)
		if err != nil {
			return err
		}
		s.values = append(s.values, r)
		possible = true
	}
	if !possible {
		s.values = nil
		return nil
	}
	if len(patterns) == 0 && len(n.patterns) == 0 && n.low == 0 && n.high < 0 {
		var taken []string
		for _, name := range names {
			if name != "" {
				inner := quote(name)
				taken = append(taken, inner[1:len(inner)-1])
			}
		}
		most := 0
		if len(conditions(0)) == 0 && len(names) > 0 { // nobody says anything of them
			most, s.most = longLoose, mostLoose
		}
		s.others, s.begin = newOthers(taken, c.avoid, most), atOpen
		return nil
	}
	unlike, err := noneOf(c.work, names)
	if err != nil {
		return err
	}
	d, err := patternStrings(c.work, append([]*pattern{unlike}, n.patterns...), patterns, n.low, n.high, c.avoid)
	if err != nil {
		return &SchemaError{Path: b.path, Keyword: "patternProperties", Message: "the names of its properties: " + err.Error(), err: unwrapWork(err)}
	}
	if d != nil {
		d = d.only(func(mask int) bool { return s.values[mask] != nil })
	}
	if d != nil {
		s.others = d
	}
	return nil
}

// empty reports whether it is plain that no value meets the schemas: then a property may be left out.
func (c *compiler) empty(list []*schema) bool {
	if len(list) == 0 {
		return false
	}
	branches, err := c.branches(list)
	return err == nil && len(branches) == 0
}

// noneOf is the pattern of texts that are none of some.
func noneOf(w *Work, texts []string) (*pattern, error) {
	sorted := slices.Clone(texts)
	slices.Sort(sorted)
	sorted = slices.Compact(sorted)
	key := fmt.Sprintf("none of %q", sorted)
	if err := w.spend(8 * len(key)); err != nil {
		return nil, err
	}
	// A state for each beginning of a text; the last one is for what has gone another way.
	index := map[string]int{"": 0}
	beginnings := []string{""}
	whole := map[string]bool{}
	bounds := map[rune]bool{0: true, utf8.MaxRune + 1: true}
	for _, t := range sorted {
		whole[t] = true
		for i, r := range t {
			bounds[r], bounds[r+1] = true, true
			b := t[:i+len(string(r))]
			if _, ok := index[b]; !ok {
				index[b] = len(beginnings)
				beginnings = append(beginnings, b)
			}
		}
	}
	a := &runes{}
	for r := range bounds {
		a.bounds = append(a.bounds, r)
	}
	slices.Sort(a.bounds)
	away := len(beginnings)
	if err := w.spend((away + 1) * len(a.bounds)); err != nil {
		return nil, err
	}
	if err := w.hold((away + 1) * len(a.bounds) * 8); err != nil {
		return nil, err
	}
	for _, b := range append(beginnings, "") {
		next := make([]int, len(a.bounds)-1)
		for class := range next {
			next[class] = away
			if i, ok := index[b+string(a.bounds[class])]; ok && len(a.next) < away && utf8.ValidRune(a.bounds[class]) {
				next[class] = i
			}
		}
		a.next = append(a.next, next)
		a.accept = append(a.accept, len(a.accept) == away || !whole[b])
	}
	return &pattern{key, a}, nil
}

// unquote is the text of a string in normal form.
func unquote(v string) string {
	if !strings.Contains(v, `\`) {
		return v[1 : len(v)-1]
	}
	var s string
	_ = json.Unmarshal([]byte(v), &s) // it is one of ours
	return s
}
