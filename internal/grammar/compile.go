package grammar

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Schema is a JSON Schema that can be enforced. It is for one grammar.
type Schema struct{ root *rule }

// Value is a JSON value that is valid by the schema.
func (s *Schema) Value() Expr {
	return func(then *node) *node { return &node{call: s.root, then: then} }
}

// Compile reads a JSON Schema (draft 2020-12). What it asks that cannot be enforced is a [*SchemaError].
func Compile(raw []byte) (*Schema, error) {
	root, err := read(raw)
	if err != nil {
		return nil, err
	}
	c := newCompiler()
	r, err := c.rule([]*schema{root})
	if err != nil {
		return nil, err
	}
	return finished(r)
}

func read(raw []byte) (*schema, error) {
	if !json.Valid(raw) || !utf8.Valid(raw) {
		return nil, &SchemaError{Message: "it is not JSON"}
	}
	d := &document{root: raw, known: map[string]*schema{}}
	return d.node("", raw)
}

// Arguments is how the members of an object are written one after the other, rather than as JSON: Open, the name, Assign,
// the value as JSON, Close, with Separator between them.
type Arguments struct{ Open, Assign, Close, Separator string }

// argumentName is what a name has to be to stand without quotes.
var argumentName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// CompileArguments reads a JSON Schema of objects whose members are written as arguments. With marks that begin with "<"
// that character comes in no value, so that the marks cannot be forged.
func CompileArguments(raw []byte, a Arguments) (*Schema, error) {
	root, err := read(raw)
	if err != nil {
		return nil, err
	}
	c := newCompiler()
	if strings.HasPrefix(a.Open, "<") {
		c.avoid = '<'
	}
	branches, err := c.branches([]*schema{root})
	if err != nil {
		return nil, err
	}
	r := &rule{node: &node{alts: []*node{}}}
	for _, b := range branches {
		if b.types&typeObject == 0 || b.values != nil {
			continue
		}
		members, _, err := c.members(b)
		if err != nil {
			return nil, err
		}
		if members == nil {
			continue
		}
		for _, m := range members {
			if !argumentName.MatchString(m.name) {
				return nil, &SchemaError{Path: b.path, Keyword: "properties", Message: fmt.Sprintf("the property %q cannot be written as an argument", m.name)}
			}
		}
		r.node.alts = append(r.node.alts, c.layOut(members, nil, a.layout()))
	}
	return finished(r)
}

// AnyObject is the schema of all JSON objects.
func AnyObject() *Schema {
	r, err := newCompiler().rule([]*schema{{types: typeObject, maxItems: -1, maxLength: -1}})
	if err == nil {
		var s *Schema
		if s, err = finished(r); err == nil {
			return s
		}
	}
	panic(err) // a schema without conditions can always be met
}

// finished finds out whether a rule can be met, and leaves its dead ends out.
func finished(r *rule) (*Schema, error) {
	start := &node{call: r}
	all := costs(start)
	if start.shortest() >= never {
		return nil, &SchemaError{Message: "no value that ends meets it"}
	}
	for _, n := range all {
		n.withoutDeadEnds()
	}
	return &Schema{root: r}, nil
}

// withoutDeadEnds leaves out words after which no end can be reached, such as the name of a property that can have no
// value.
func (n *node) withoutDeadEnds() {
	w, ok := n.term.(*words)
	if !ok || !slices.ContainsFunc(n.next, func(m *node) bool { return m.shortest() >= never }) {
		return
	}
	var texts []string
	var outcomes []int
	for i, o := range w.outcomes {
		if n.next[o].shortest() < never {
			texts, outcomes = append(texts, w.texts[i]), append(outcomes, o)
		}
	}
	if len(texts) > 0 { // else the node has no end itself, and nothing enters it
		n.term = newWords(texts, outcomes)
	}
}

// compiler makes rules of schemas. A value often has to meet several schemas at once, by allOf or because several say
// something of one property; so a rule is made of a list of schemas, and lists that were met before are used again,
// which is how schemas that contain themselves come to an end.
type compiler struct {
	size     int // of what was made so far: alternatives, items of lists, states of patterns
	rules    map[string]*rule
	keys     map[*schema]int
	numbers  map[string]*dfa
	patterns map[string]*dfa
	avoid    byte // a character that comes in no text; 0 for none
}

func newCompiler() *compiler {
	return &compiler{rules: map[string]*rule{}, keys: map[*schema]int{}, numbers: map[string]*dfa{}, patterns: map[string]*dfa{}}
}

func (c *compiler) key(list []*schema) string {
	ids := make([]int, len(list))
	for i, s := range list {
		if _, ok := c.keys[s]; !ok {
			c.keys[s] = len(c.keys)
		}
		ids[i] = c.keys[s]
	}
	slices.Sort(ids)
	return fmt.Sprint(slices.Compact(ids))
}

// rule is the rule of values that meet all schemas of a list. One that no value meets has no alternatives.
func (c *compiler) rule(list []*schema) (*rule, error) {
	key := c.key(list)
	if r, ok := c.rules[key]; ok {
		return r, nil
	}
	if len(c.rules) >= maxRules {
		return nil, &SchemaError{Message: fmt.Sprintf("it describes more than %d different values", maxRules)}
	}
	r := &rule{node: &node{alts: []*node{}}}
	c.rules[key] = r
	branches, err := c.branches(list)
	if err != nil {
		return nil, err
	}
	for _, b := range branches {
		alts, err := c.value(b)
		if err != nil {
			return nil, err
		}
		r.node.alts = append(r.node.alts, alts...)
	}
	return r, c.grow(len(r.node.alts))
}

// grow notes that a grammar grows. Schemas are a client's, so there is a limit.
func (c *compiler) grow(n int) error {
	if c.size += n; c.size > maxSize {
		return &SchemaError{Message: "its lists, patterns and alternatives are too large together"}
	}
	return nil
}

// branch is what a value has to meet when every choice has been made.
type branch struct {
	path       string
	types      typeSet
	values     []string
	objects    []*schema // those that say something of properties, each with its own additionalProperties
	items      []*schema
	minItems   int
	maxItems   int
	low, high  bound
	minLength  int
	maxLength  int
	patterns   []*pattern
	impossible bool
}

// branches makes all choices among anyOf and oneOf in every way.
func (c *compiler) branches(list []*schema) ([]*branch, error) {
	var out []*branch
	type todo struct {
		list []*schema
		made map[*choice]int
	}
	queue := []todo{{list, nil}}
	for ; len(queue) > 0; queue = queue[1:] {
		t := queue[0]
		b, open := flatten(t.list, t.made)
		if b.impossible {
			continue
		}
		if open == nil {
			if out = append(out, b); len(out) > maxBranches {
				return nil, &SchemaError{Path: b.path, Message: fmt.Sprintf("the choices make more than %d alternatives", maxBranches)}
			}
			continue
		}
		if len(queue) > maxBranches {
			return nil, &SchemaError{Path: b.path, Message: fmt.Sprintf("the choices make more than %d alternatives", maxBranches)}
		}
		if open.one {
			if err := c.checkDisjoint(open.options); err != nil {
				return nil, err
			}
		}
		for i := range open.options {
			made := map[*choice]int{open: i}
			for k, v := range t.made {
				made[k] = v
			}
			queue = append(queue, todo{t.list, made})
		}
	}
	return out, nil
}

// flatten joins what all schemas of a list say, by the choices that were made. open is a choice that is not made yet.
func flatten(list []*schema, made map[*choice]int) (b *branch, open *choice) {
	b = &branch{types: everyType, maxItems: -1, maxLength: -1}
	if len(list) > 0 {
		b.path = list[0].path
	}
	visited := map[*schema]bool{}
	choosing := map[*schema]bool{} // schemas of which a choice is being followed
	var visit func(s *schema)
	visit = func(s *schema) {
		if choosing[s] {
			// A choice that leads back to itself adds nothing that the other options do not.
			b.impossible = true
			return
		}
		if visited[s] {
			return
		}
		visited[s] = true
		b.add(s)
		for _, t := range s.allOf {
			visit(t)
		}
		if s.ref != nil {
			visit(s.ref)
		}
		choosing[s] = len(s.choices) > 0
		defer delete(choosing, s)
		for i := range s.choices {
			option, chosen := made[&s.choices[i]]
			if !chosen {
				if open == nil {
					open = &s.choices[i]
				}
				continue
			}
			visit(s.choices[i].options[option])
		}
	}
	for _, s := range list {
		visit(s)
	}
	return b, open
}

// add joins what one place of a schema says.
func (b *branch) add(s *schema) {
	b.impossible = b.impossible || s.never
	b.types &= s.types
	b.values = intersect(b.values, s.values)
	b.impossible = b.impossible || b.values != nil && len(b.values) == 0
	if len(s.properties) > 0 || len(s.required) > 0 || s.additional != nil {
		b.objects = append(b.objects, s)
	}
	if s.items != nil {
		b.items = append(b.items, s.items)
	}
	b.minItems, b.minLength = max(b.minItems, s.minItems), max(b.minLength, s.minLength)
	b.maxItems, b.maxLength = least(b.maxItems, s.maxItems), least(b.maxLength, s.maxLength)
	b.low, b.high = higher(b.low, s.low), lower(b.high, s.high)
	for _, p := range s.patterns {
		if !slices.ContainsFunc(b.patterns, func(q *pattern) bool { return q.source == p.source }) {
			b.patterns = append(b.patterns, p)
		}
	}
}

// least is the smaller of two limits, of which -1 is none.
func least(a, b int) int {
	if a < 0 || b >= 0 && b < a {
		return b
	}
	return a
}

// value makes the alternatives of a branch, one for each type that it allows.
func (c *compiler) value(b *branch) (alts []*node, err error) {
	if b.values != nil {
		return c.values(b)
	}
	if b.types&typeNull != 0 {
		alts = append(alts, Literal("null")(nil))
	}
	if b.types&typeBoolean != 0 {
		alts = append(alts, terminal(newWords([]string{"true", "false"}, []int{0, 0}), 0, nil))
	}
	if b.types&(typeInteger|typeFraction) != 0 {
		if n := c.number(b); n != nil {
			alts = append(alts, n)
		}
	}
	if b.types&typeString != 0 && (b.maxLength < 0 || b.minLength <= b.maxLength) {
		n, err := c.text(b)
		if err != nil {
			return nil, err
		}
		if n != nil {
			alts = append(alts, n)
		}
	}
	if b.types&typeArray != 0 && (b.maxItems < 0 || b.minItems <= b.maxItems) {
		n, err := c.array(b)
		if err != nil {
			return nil, err
		}
		alts = append(alts, n)
	}
	if b.types&typeObject != 0 {
		n, err := c.object(b)
		if err != nil {
			return nil, err
		}
		if n != nil {
			alts = append(alts, n)
		}
	}
	return alts, nil
}

// values makes the alternatives of an enumeration: those that the rest of the branch admits.
func (c *compiler) values(b *branch) ([]*node, error) {
	var kept []string
	for _, v := range b.values {
		ok, err := b.admits(v)
		if err != nil {
			return nil, err
		}
		if ok && (c.avoid == 0 || strings.IndexByte(v, c.avoid) < 0) {
			kept = append(kept, v)
		}
	}
	if len(kept) == 0 {
		return nil, nil
	}
	if len(kept) > maxWords {
		return nil, &SchemaError{Path: b.path, Keyword: "enum", Message: fmt.Sprintf("enum has more than %d values", maxWords)}
	}
	return []*node{terminal(newWords(kept, make([]int, len(kept))), 0, nil)}, nil
}

// typeOf is the type of a value in normal form.
func typeOf(v string) typeSet {
	switch v[0] {
	case 'n':
		return typeNull
	case 't', 'f':
		return typeBoolean
	case '"':
		return typeString
	case '[':
		return typeArray
	case '{':
		return typeObject
	}
	if strings.Contains(v, ".") {
		return typeFraction
	}
	return typeInteger
}

// admits reports whether a value of an enumeration meets what else is said.
func (b *branch) admits(v string) (bool, error) {
	kind := typeOf(v)
	if b.types&kind == 0 {
		return false, nil
	}
	switch kind {
	case typeString:
		var s string
		if err := json.Unmarshal([]byte(v), &s); err != nil {
			return false, err
		}
		n := utf8.RuneCountInString(s)
		if n < b.minLength || b.maxLength >= 0 && n > b.maxLength {
			return false, nil
		}
		for _, p := range b.patterns {
			if !p.matches(s) {
				return false, nil
			}
		}
	case typeInteger, typeFraction:
		r, err := rational(json.RawMessage(v))
		if err != nil {
			return false, err
		}
		return inBounds(r, b.low, b.high), nil
	case typeArray:
		if len(b.items) > 0 || b.minItems > 0 || b.maxItems >= 0 {
			return false, &SchemaError{Path: b.path, Keyword: "enum", Message: "lists in an enum cannot be combined with items, minItems or maxItems"}
		}
	case typeObject:
		if len(b.objects) > 0 {
			return false, &SchemaError{Path: b.path, Keyword: "enum", Message: "objects in an enum cannot be combined with properties, required or additionalProperties"}
		}
	}
	return true, nil
}

func (c *compiler) number(b *branch) *node {
	whole := b.types&typeFraction == 0
	if !whole && b.low.value == nil && b.high.value == nil {
		return terminal(looseNumber, 0, nil)
	}
	key := fmt.Sprint(whole, b.low.value, b.low.strict, b.high.value, b.high.strict)
	d, ok := c.numbers[key]
	if !ok {
		d = newNumber(b.low, b.high, whole)
		c.numbers[key] = d
	}
	if d == nil {
		return nil
	}
	return terminal(d, 0, nil)
}

func (c *compiler) text(b *branch) (*node, error) {
	if len(b.patterns) == 0 {
		room := b.maxLength
		if room < 0 {
			room = unbounded
		}
		return terminal(texts[c.avoid], textState(atOpen, b.minLength, room), nil), nil
	}
	if b.minLength > maxBound || b.maxLength > maxBound {
		return nil, &SchemaError{Path: b.path, Keyword: "pattern", Message: fmt.Sprintf("a pattern or format cannot be combined with a length beyond %d", maxBound)}
	}
	key := fmt.Sprint(b.minLength, b.maxLength)
	for _, p := range b.patterns {
		key += fmt.Sprintf(" %q", p.source)
	}
	d, ok := c.patterns[key]
	if !ok {
		var err error
		if d, err = patternStrings(b.patterns, b.minLength, b.maxLength, c.avoid); err != nil {
			return nil, &SchemaError{Path: b.path, Keyword: "pattern", Message: "pattern: " + err.Error()}
		}
		c.patterns[key] = d
		if d != nil {
			if err := c.grow(len(d.next)); err != nil {
				return nil, err
			}
		}
	}
	if d == nil {
		return nil, nil
	}
	return terminal(d, 0, nil), nil
}

var comma = Seq(Literal(","), Space())

// array makes a list between its bounds: "[", items with commas between, "]".
func (c *compiler) array(b *branch) (*node, error) {
	item, err := c.rule(b.items)
	if err == nil {
		err = c.grow(max(b.minItems, b.maxItems))
	}
	if err != nil {
		return nil, err
	}
	end := Seq(Space(), Literal("]"))
	one := func(then *node) *node { return &node{call: item, then: then} }
	var after *node // what may follow the items so far
	if b.maxItems < 0 {
		more := &rule{node: &node{}}
		more.node.alts = []*node{end(nil), comma(one(&node{call: more}))}
		after = &node{call: more}
		for range max(0, b.minItems-1) {
			after = comma(one(after))
		}
	} else {
		for n := b.maxItems; n >= 1; n-- { // n items are there
			var alts []*node
			if n >= b.minItems {
				alts = append(alts, end(nil))
			}
			if n < b.maxItems {
				alts = append(alts, comma(one(after)))
			}
			after = &node{alts: alts}
		}
	}
	var alts []*node
	if b.minItems == 0 {
		alts = append(alts, end(nil))
	}
	if b.maxItems != 0 {
		alts = append(alts, Space()(one(after)))
	}
	return Literal("[")(&node{alts: alts}), nil
}

// member of an object, as a grammar needs it.
type objectMember struct {
	name     string
	value    *rule
	required bool
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
	members, extra, err := c.members(b)
	if members == nil || err != nil {
		return nil, err
	}
	return c.layOut(members, extra, jsonLayout), nil
}

// layOut makes an object of members in their order, then others by the rule extra, if there is one.
func (c *compiler) layOut(members []objectMember, extra *rule, l objectLayout) *node {
	end := Seq(l.space, Literal(l.end))
	value := func(r *rule, then *node) *node { return &node{call: r, then: l.close(then)} }

	var names []string // up to the end of the name
	for _, m := range members {
		names = append(names, l.open(m.name))
	}
	var others *node // any number of others, then the end; a separator comes first
	var anOther func(then *node) *node
	if extra != nil {
		var taken []string
		for _, n := range names {
			if inner := n[1 : len(n)-1]; inner != "" {
				taken = append(taken, inner)
			}
		}
		unlike := newOthers(taken, c.avoid)
		anOther = func(then *node) *node { return terminal(unlike, atOpen, l.assign(value(extra, then))) }
		more := &rule{node: &node{}}
		more.node.alts = []*node{end(nil), l.separator(anOther(&node{call: more}))}
		others = &node{call: more}
	} else {
		others = end(nil)
	}

	// follow[i] is what comes when the members up to i are behind, and at least one of them is there.
	follow := make([]*node, len(members)+1)
	follow[len(members)] = others
	values := make([]*node, len(members)) // a member after its name
	next := func(i int) *node {           // one of the members from i on, up to the first that is required
		var texts []string
		var outcomes []int
		n := &node{}
		for j := i; j < len(members); j++ {
			texts = append(texts, names[j])
			outcomes = append(outcomes, j-i)
			n.next = append(n.next, values[j])
			if members[j].required {
				break
			}
		}
		n.term = newWords(texts, outcomes)
		return n
	}
	optionalFrom := len(members) // from here on nothing is required
	for optionalFrom > 0 && !members[optionalFrom-1].required {
		optionalFrom--
	}
	for i := len(members) - 1; i >= 0; i-- {
		values[i] = l.assign(value(members[i].value, follow[i+1]))
		alts := []*node{l.separator(next(i))}
		if i >= optionalFrom {
			alts = append(alts, others)
		}
		follow[i] = &node{alts: alts}
	}
	first := &node{}
	if len(members) > 0 {
		first.alts = append(first.alts, l.space(next(0)))
	}
	if optionalFrom == 0 {
		first.alts = append(first.alts, end(nil))
		if anOther != nil {
			first.alts = append(first.alts, l.space(anOther(others)))
		}
	}
	return Literal(l.begin)(first)
}

// members gives the properties of an object, and the rule of those that are not declared; nil if there are to be
// none. The list is nil if a required property cannot be.
func (c *compiler) members(b *branch) (list []objectMember, extra *rule, err error) {
	var names []string
	required := map[string]bool{}
	declared := map[string]bool{}
	closed := len(b.objects) > 0 // others come only where a schema asks for them
	var extras []*schema
	add := func(name string) {
		if !declared[name] {
			declared[name] = true
			names = append(names, name)
		}
	}
	for _, s := range b.objects {
		for _, p := range s.properties {
			add(p.name)
		}
		for _, r := range s.required {
			required[r] = true
		}
		if s.additional != nil {
			extras = append(extras, s.additional)
			closed = false
		}
	}
	for _, s := range b.objects {
		for _, r := range s.required {
			add(r)
		}
	}
	list = []objectMember{}
	for _, name := range names {
		var conditions []*schema
		for _, s := range b.objects {
			i := slices.IndexFunc(s.properties, func(p property) bool { return p.name == name })
			switch {
			case i >= 0:
				conditions = append(conditions, s.properties[i].schema)
			case s.additional != nil:
				conditions = append(conditions, s.additional)
			}
		}
		r, err := c.rule(conditions)
		if err != nil {
			return nil, nil, err
		}
		if c.empty(conditions) {
			if required[name] {
				return nil, nil, nil
			}
			continue
		}
		list = append(list, objectMember{name, r, required[name]})
	}
	if closed || c.empty(extras) {
		return list, nil, nil
	}
	extra, err = c.rule(extras)
	return list, extra, err
}

// empty reports whether it is plain that no value meets the schemas: then a property may be left out.
func (c *compiler) empty(list []*schema) bool {
	branches, err := c.branches(list)
	return err == nil && len(branches) == 0
}
