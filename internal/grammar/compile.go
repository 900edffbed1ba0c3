package grammar

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"
)

// Schema is a JSON Schema that can be enforced. It is immutable, so it can be a part of several grammars.
type Schema struct {
	root *rule
	doc  *document
	// Notes say what of the schema is not enforced: where that was allowed, and patterns beside a format that is.
	Notes []string
}

// Value is a JSON value that is valid by the schema.
func (s *Schema) Value() Expr {
	return func(then *node) *node { return &node{call: s.root, then: then} }
}

// Compile reads a JSON Schema (draft 2020-12). What it asks that cannot be enforced is a [*SchemaError].
func Compile(w *Work, raw []byte) (*Schema, error) { return compile(w, raw, false) }

// CompileLeniently is Compile for a schema that need not be enforced whole: what cannot be is left out, and noted.
func CompileLeniently(w *Work, raw []byte) (*Schema, error) { return compile(w, raw, true) }

func compile(w *Work, raw []byte, lenient bool) (*Schema, error) {
	d, root, err := read(w, raw, lenient)
	if err != nil {
		return nil, err
	}
	r, err := newCompiler(w, d).rule([]*schema{root})
	if err != nil {
		return nil, err
	}
	return finished(w, d, r)
}

func read(w *Work, raw []byte, lenient bool) (*document, *schema, error) {
	if !json.Valid(raw) || !utf8.Valid(raw) {
		return nil, nil, &SchemaError{Message: "it is not JSON"}
	}
	d := &document{root: raw, known: map[string]*schema{}, fields: map[string][]member{}, negated: map[*schema]*schema{}, work: w, lenient: lenient, scope: &scope{}}
	if err := d.findResources(); err != nil {
		return nil, nil, err
	}
	root, err := d.node("", raw)
	if err == nil {
		err = d.rewrite()
	}
	return d, root, err
}

// Arguments is how the members of an object are written one after the other, rather than as JSON: Open, the name, Assign,
// the value as JSON, Close, with Separator between them.
type Arguments struct{ Open, Assign, Close, Separator string }

// argumentName is what a name has to be to stand without quotes.
var argumentName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// CompileArguments reads a JSON Schema of objects whose members are written as arguments. With marks that begin with "<"
// that character comes in no value, so that the marks cannot be forged.
func CompileArguments(w *Work, raw []byte, a Arguments) (*Schema, error) {
	d, root, err := read(w, raw, false)
	if err != nil {
		return nil, err
	}
	c := newCompiler(w, d)
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
		s, err := c.shape(b)
		if err != nil {
			return nil, err
		}
		if s == nil {
			continue
		}
		for _, m := range s.members {
			if !argumentName.MatchString(m.name) {
				return nil, &SchemaError{Path: b.path, Keyword: "properties", Message: fmt.Sprintf("the property %q cannot be written as an argument", m.name)}
			}
		}
		s.others = nil // their names would have to be written as arguments too
		n, err := c.layOut(s, a.layout())
		if err != nil {
			return nil, err
		}
		r.node.alts = append(r.node.alts, n)
	}
	return finished(w, d, r)
}

// AnyObject is the schema of all JSON objects.
var AnyObject = sync.OnceValue(func() *Schema {
	s, err := Compile(NewWork(context.Background()), []byte(`{"type":"object"}`))
	if err != nil {
		panic(err) // a schema without conditions can always be met
	}
	return s
})

// finished finds out whether a rule can be met, and leaves its dead ends out.
func finished(w *Work, d *document, r *rule) (*Schema, error) {
	start := &node{call: r}
	all, err := costs(w, start)
	switch {
	case err != nil:
		return nil, err
	case start.shortest() >= never:
		return nil, &SchemaError{Message: "no value that ends meets it"}
	}
	for _, n := range all {
		n.withoutDeadEnds()
	}
	for _, n := range all {
		n.settled = true
	}
	return &Schema{root: r, doc: d, Notes: d.notes}, nil
}

// withoutDeadEnds leaves out words after which no end can be reached, such as the name of a property that can have no
// value.
func (n *node) withoutDeadEnds() {
	leads := func(to int) bool { return n.next[to].shortest() < never }
	switch m := n.term.(type) {
	case *oneOf:
		if m.row.dead == nil {
			m.row.dead = make([]bool, len(m.row.next))
			for i := range m.row.next {
				m.row.dead[i] = !leads(i)
			}
		}
	case *dfa: // names by the patterns that they match; the others have one outcome
		for i := range n.next {
			if !leads(i) && len(n.next) > 1 {
				if less := m.only(leads); less != nil { // else nothing enters the node
					n.term = less
				}
				return
			}
		}
	}
}

// compiler makes rules of schemas. A value often has to meet several schemas at once, by allOf or because several say
// something of one property; so a rule is made of a list of schemas, and lists that were met before are used again,
// which is how schemas that contain themselves come to an end.
type compiler struct {
	work     *Work
	doc      *document
	rules    map[string]*rule
	keys     map[*schema]int
	numbers  map[string]*dfa
	patterns map[string]*dfa
	places   map[*schema]map[string]*schema // of properties, where there are many
	asked    map[question]bool              // that are being answered
	avoid    byte                           // a character that comes in no text; 0 for none
}

func newCompiler(w *Work, d *document) *compiler {
	return &compiler{work: w, doc: d, rules: map[string]*rule{}, keys: map[*schema]int{}, numbers: map[string]*dfa{}, patterns: map[string]*dfa{}, places: map[*schema]map[string]*schema{}, asked: map[question]bool{}}
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
	made := map[string]bool{} // alternatives that several branches have
	for _, b := range branches {
		alts, err := c.value(b, made)
		if err != nil {
			return nil, err
		}
		r.node.alts = append(r.node.alts, alts...)
	}
	return r, c.work.hold(len(r.node.alts) * nodeBytes)
}

// branch is what a value has to meet when every choice has been made.
type branch struct {
	path        string
	types       typeSet
	values      []string
	all         []*schema // all that say something, for values that are listed
	objects     []*schema // those that say something of properties, each with its own additionalProperties
	names       []*schema
	minMembers  int
	maxMembers  int
	unevaluated []unevaluated
	lists       []*schema // those that say something of items, each with its own prefixItems
	contains    []containing
	unique      bool
	remaining   []unevaluated
	minItems    int
	maxItems    int
	low, high   bound
	multiple    *big.Rat
	minLength   int
	maxLength   int
	patterns    []*pattern
	impossible  bool
}

// unevaluated is a schema for what no other of some schemas has evaluated.
type unevaluated struct {
	schema *schema
	owner  *schema // which says it
	by     []*schema
}

// remains reports whether none of the schemas has evaluated something, by what each says of it.
func (u *unevaluated) remains(says func(*schema) bool) bool { return !slices.ContainsFunc(u.by, says) }

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
		b, open, err := c.flatten(t.list, t.made)
		if err != nil {
			return nil, err
		}
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
		if open.one && !open.apart {
			if err := c.keepApart(open); err != nil {
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
func (c *compiler) flatten(list []*schema, made map[*choice]int) (b *branch, open *choice, err error) {
	b = &branch{types: everyType, maxItems: -1, maxLength: -1, maxMembers: -1}
	if len(list) > 0 {
		b.path = list[0].path
	}
	visited := map[*schema][]*schema{}
	choosing := map[*schema]bool{} // schemas of which a choice is being followed
	steps := 0
	// visit gives the schemas that evaluate properties and items, where some schema says what holds for the rest. Those within a "not"
	// do not. Giving fewer would only make the answer stricter, so what leads back to itself is not followed for their sake.
	var visit func(s *schema, silent bool) (evaluators []*schema)
	visit = func(s *schema, silent bool) (evaluators []*schema) {
		if steps += 20; choosing[s] {
			// A choice that leads back to itself adds nothing that the other options do not.
			b.impossible = true
			return nil
		}
		silent = silent || s.silent
		known, again := visited[s]
		if again && silent {
			return nil
		} else if again {
			return known
		}
		visited[s] = nil
		b.add(s)
		own := []*schema{s}
		within := func(t *schema) {
			if list := visit(t, silent); c.doc.evaluates {
				steps += len(list)
				own = append(own, list...)
			}
		}
		for _, list := range [][]*schema{s.allOf, s.derived} {
			for _, t := range list {
				within(t)
			}
		}
		if s.ref != nil {
			within(s.ref)
		}
		choosing[s] = len(s.choices)+len(s.derivedChoices) > 0
		defer delete(choosing, s)
		for _, list := range [][]*choice{s.choices, s.derivedChoices} {
			for _, one := range list {
				option, chosen := made[one]
				if !chosen {
					if open == nil {
						open = one
					}
					continue
				}
				within(one.options[option])
			}
		}
		visited[s] = own
		if s.unevaluated != nil {
			b.unevaluated = append(b.unevaluated, unevaluated{s.unevaluated, s, own})
		}
		if s.remaining != nil {
			b.remaining = append(b.remaining, unevaluated{s.remaining, s, own})
		}
		if silent {
			return nil
		}
		return own
	}
	for _, s := range list {
		visit(s, false)
	}
	b.impossible = b.impossible || b.types == 0
	return b, open, c.work.spend(steps)
}

// add joins what one place of a schema says.
func (b *branch) add(s *schema) {
	b.all = append(b.all, s)
	b.impossible = b.impossible || s.never
	b.types &= s.types
	b.values = intersect(b.values, s.values)
	b.impossible = b.impossible || b.values != nil && len(b.values) == 0
	if len(s.properties) > 0 || len(s.matching) > 0 || len(s.required) > 0 || s.additional != nil {
		b.objects = append(b.objects, s)
	}
	if s.names != nil {
		b.names = append(b.names, s.names)
	}
	b.minMembers, b.maxMembers = max(b.minMembers, s.minMembers), least(b.maxMembers, s.maxMembers)
	if s.items != nil || len(s.prefix) > 0 {
		b.lists = append(b.lists, s)
	}
	b.contains = append(b.contains, s.contains...)
	b.unique = b.unique || s.unique
	b.minItems, b.minLength = max(b.minItems, s.minItems), max(b.minLength, s.minLength)
	b.maxItems, b.maxLength = least(b.maxItems, s.maxItems), least(b.maxLength, s.maxLength)
	b.low, b.high = higher(b.low, s.low), lower(b.high, s.high)
	b.multiple = commonMultiple(b.multiple, s.multiple)
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

// value makes the alternatives of a branch, one for each type that it allows, but for those that were made already.
func (c *compiler) value(b *branch, made map[string]bool) (alts []*node, err error) {
	if b.values != nil {
		return c.values(b, made)
	}
	fresh := func(format string, args ...any) bool {
		key := fmt.Sprintf(format, args...)
		was := made[key]
		made[key] = true
		return !was
	}
	if b.types&typeNull != 0 && fresh("null") {
		alts = append(alts, Literal("null")(nil))
	}
	if b.types&typeBoolean != 0 && fresh("boolean") {
		alts = append(alts, terminal(newWords([]string{"true", "false"}, []int{0, 0}), 0, nil))
	}
	if b.types&(typeInteger|typeFraction) != 0 && fresh("number %s", b.numberKey()) {
		n, err := c.number(b)
		if err != nil {
			return nil, err
		}
		if n != nil {
			alts = append(alts, n)
		}
	}
	if b.types&typeString != 0 && (b.maxLength < 0 || b.minLength <= b.maxLength) && fresh("string %s", b.textKey()) {
		n, err := c.text(b)
		if err != nil {
			return nil, err
		}
		if n != nil {
			alts = append(alts, n)
		}
	}
	if b.types&typeArray != 0 && (b.maxItems < 0 || b.minItems <= b.maxItems) && fresh("array %s", c.listKey(b)) {
		n, err := c.array(b)
		if err != nil {
			return nil, err
		}
		if n != nil {
			alts = append(alts, n)
		}
	}
	if b.types&typeObject != 0 && (b.maxMembers < 0 || b.minMembers <= b.maxMembers) && fresh("object %s", c.objectKey(b)) {
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

// Keys tell alternatives of a type apart: equal ones are the same.

func (b *branch) numberKey() string {
	return fmt.Sprint(b.types&typeFraction == 0, b.types&typeInteger == 0, b.low.value, b.low.strict, b.high.value, b.high.strict, b.multiple)
}

func (b *branch) textKey() string {
	key := fmt.Sprint(b.minLength, b.maxLength)
	for _, p := range b.patterns {
		key += fmt.Sprintf(" %q", p.source)
	}
	return key
}

func (c *compiler) objectKey(b *branch) string {
	key := fmt.Sprint(c.key(b.objects), c.key(b.names), b.minMembers, b.maxMembers)
	for _, u := range b.unevaluated {
		key += c.key([]*schema{u.schema}) + c.key(u.by)
	}
	return key
}

func (c *compiler) listKey(b *branch) string {
	key := fmt.Sprint(c.key(b.lists), b.minItems, b.maxItems, b.unique)
	for _, one := range b.contains {
		key += fmt.Sprint(c.key([]*schema{one.schema}), one.min, one.max)
	}
	for _, u := range b.remaining {
		key += c.key([]*schema{u.schema}) + c.key(u.by)
	}
	return key
}

// values makes the alternatives of an enumeration: those that the rest of the branch admits.
func (c *compiler) values(b *branch, made map[string]bool) ([]*node, error) {
	kept, err := c.listed(b)
	kept = slices.DeleteFunc(kept, func(v string) bool {
		was := made["value "+v]
		made["value "+v] = true
		return was || c.avoid != 0 && strings.IndexByte(v, c.avoid) >= 0
	})
	if len(kept) == 0 || err != nil {
		return nil, err
	}
	if len(kept) > maxWords {
		return nil, &SchemaError{Path: b.path, Keyword: "enum", Message: fmt.Sprintf("enum has more than %d values", maxWords)}
	}
	return []*node{terminal(newWords(kept, make([]int, len(kept))), 0, nil)}, nil
}

// listed are the values of an enumeration that meet what else is said.
func (c *compiler) listed(b *branch) (kept []string, err error) {
	for _, v := range b.values {
		ok, err := c.meetsAll(b.all, v)
		if err != nil {
			return nil, err
		}
		if ok {
			kept = append(kept, v)
		}
	}
	return kept, nil
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

func (c *compiler) number(b *branch) (*node, error) {
	whole := b.types&typeFraction == 0
	broken := b.types&typeInteger == 0
	if !whole && !broken && b.low.value == nil && b.high.value == nil && b.multiple == nil {
		return terminal(looseNumber, 0, nil), nil
	}
	key := b.numberKey()
	d, ok := c.numbers[key]
	if !ok {
		var err error
		if d, err = newNumber(c.work, numberForm{b.low, b.high, b.multiple, whole, broken}); err != nil {
			return nil, &SchemaError{Path: b.path, Keyword: "multipleOf", Message: err.Error(), err: unwrapWork(err)}
		}
		c.numbers[key] = d
	}
	if d == nil {
		return nil, nil
	}
	return terminal(d, 0, nil), nil
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
	key := b.textKey()
	d, ok := c.patterns[key]
	if !ok {
		var err error
		if d, err = patternStrings(c.work, b.patterns, nil, b.minLength, b.maxLength, c.avoid); err != nil {
			return nil, &SchemaError{Path: b.path, Keyword: "pattern", Message: "pattern: " + err.Error(), err: unwrapWork(err)}
		}
		c.patterns[key] = d
	}
	if d == nil {
		return nil, nil
	}
	return terminal(d, 0, nil), nil
}

// unwrapWork is ErrWork if the error is that, or the end of a context.
func unwrapWork(err error) error {
	var refused *SchemaError
	switch {
	case errors.As(err, &refused):
		return refused.err
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	}
	return nil
}

var comma = Seq(Literal(","), Space())
