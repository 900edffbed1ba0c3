package grammar

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// SchemaError says what in a schema cannot be enforced.
type SchemaError struct {
	Path    string // to the place in the schema, such as "properties.age"; empty for the whole
	Keyword string // that is not supported, if one is
	Message string
	err     error
}

func (e *SchemaError) Unwrap() error { return e.err }

func (e *SchemaError) Error() string {
	if e.Path == "" {
		return "the schema cannot be enforced: " + e.Message
	}
	return fmt.Sprintf("the schema cannot be enforced: at %s, %s", e.Path, e.Message)
}

// schema is one place of a JSON Schema (draft 2020-12), as it is written there.
type schema struct {
	path   string
	never  bool // the schema "false"
	silent bool // what meets it counts not as evaluated: it is there because of a "not"
	types  typeSet
	values []string          // that enum or const allow, in normal form; nil if neither is there
	among  func(string) bool // reports whether one of them is; nil where they are few

	properties  []property
	matching    []matching // of patternProperties
	required    []string
	additional  *schema // of properties that are not declared; nil if it does not say
	names       *schema // of propertyNames
	dependent   []property
	minMembers  int
	maxMembers  int // -1 for no bound, as below
	unevaluated *schema

	prefix    []*schema
	items     *schema // of the items behind prefix
	contains  []containing
	minItems  int
	maxItems  int
	unique    bool
	remaining *schema // of unevaluatedItems

	low, high bound
	multiple  *big.Rat // nil for none

	minLength int
	maxLength int
	patterns  []*pattern // of pattern and format

	ref     *schema
	allOf   []*schema
	choices []*choice
	nots    []*schema
	whether *condition

	// What follows from others of these: conditions and choices without "not" and "if".
	derived        []*schema
	derivedChoices []*choice
}

// anything is a schema that says nothing.
func anything(path string) *schema {
	return &schema{path: path, types: everyType, maxItems: -1, maxLength: -1, maxMembers: -1}
}

type property struct {
	name   string
	schema *schema
}

// matching is what patternProperties says of the names that a pattern matches.
type matching struct {
	pattern *pattern
	schema  *schema
}

// containing is how many items have to meet a schema.
type containing struct {
	schema   *schema
	min, max int // max is -1 for no bound
}

// condition is an "if" with its "then" and "else", which may be nil.
type condition struct{ is, then, otherwise *schema }

// choice is one anyOf or oneOf.
type choice struct {
	options []*schema
	one     bool // exactly one may match
	apart   bool // no two can match, as was made sure
}

// bound is a limit of numbers.
type bound struct {
	value  *big.Rat // nil if there is none
	strict bool     // whether the limit itself is beyond
}

// typeSet is a set of JSON types. A number that has a fraction is a type of its own here.
type typeSet uint8

const (
	typeNull typeSet = 1 << iota
	typeBoolean
	typeObject
	typeArray
	typeString
	typeInteger
	typeFraction
	everyType = 1<<iota - 1
)

var typeNames = map[string]typeSet{
	"null": typeNull, "boolean": typeBoolean, "object": typeObject, "array": typeArray, "string": typeString,
	"integer": typeInteger, "number": typeInteger | typeFraction,
}

// annotations are keywords that say nothing about which values are valid.
var annotations = map[string]bool{
	"title": true, "description": true, "default": true, "examples": true, "example": true, "deprecated": true,
	"readOnly": true, "writeOnly": true, "$schema": true, "$comment": true, "$defs": true, "definitions": true,
	"contentEncoding": true, "contentMediaType": true, "contentSchema": true,
	// Read together with their neighbours.
	"then": true, "else": true, "minContains": true, "maxContains": true, "$anchor": true,
}

// Limits of a schema.
const (
	maxBranches = 256    // alternatives of one value, once anyOf within anyOf is resolved
	maxRules    = 20_000 // different values
	maxBound    = 10_000 // items, and characters of a pattern with bounds
)

// document is a schema with the places that references lead to.
type document struct {
	root    json.RawMessage
	known   map[string]*schema  // by JSON pointer
	fields  map[string][]member // of objects, by JSON pointer
	anchors map[string]string   // pointers, by name; nil if they were not looked for yet
	negated map[*schema]*schema // what was negated already; nil while it is being
	work    *Work
	// lenient says that what cannot be enforced is left out, and noted.
	lenient bool
	notes   []string
	// evaluates says that something is said of what no other place says anything of.
	evaluates bool
}

// left leaves out something that cannot be enforced, if that is allowed.
func (d *document) left(err error) error {
	var refused *SchemaError
	if !d.lenient || !errors.As(err, &refused) || refused.err != nil {
		return err
	}
	at := refused.Message
	if refused.Path != "" {
		at = refused.Path + ": " + at
	}
	if len(d.notes) < maxNotes {
		d.notes = append(d.notes, at)
	}
	return nil
}

// maxNotes bounds what is told of a schema that is not enforced whole.
const maxNotes = 20

// node gives the schema at a pointer; raw is what stands there.
func (d *document) node(pointer string, raw json.RawMessage) (*schema, error) {
	if s, ok := d.known[pointer]; ok {
		return s, nil
	}
	if err := d.work.spend(len(raw)); err != nil {
		return nil, err
	}
	s := anything(path(pointer))
	d.known[pointer] = s
	raw = bytes.TrimSpace(raw)
	switch {
	case string(raw) == "true":
		return s, nil
	case string(raw) == "false":
		s.never = true
		return s, nil
	case len(raw) == 0 || raw[0] != '{':
		return nil, &SchemaError{Path: s.path, Message: "a schema must be an object or a boolean"}
	}
	fields, err := d.members(pointer, raw)
	if err != nil {
		return nil, &SchemaError{Path: s.path, Message: err.Error()}
	}
	for _, f := range fields {
		if err := d.left(d.keyword(s, fields, pointer, f.name, f.value)); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// members reads the object at a pointer, once.
func (d *document) members(pointer string, raw json.RawMessage) ([]member, error) {
	if list, ok := d.fields[pointer]; ok {
		return list, nil
	}
	list, err := members(raw)
	if err == nil {
		d.fields[pointer] = list
	}
	return list, err
}

// path writes a JSON pointer for people: properties.stops.items.
func path(pointer string) string {
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i, p := range parts {
		parts[i] = unescapePointer(p)
	}
	return strings.Join(parts, ".")
}

func unescapePointer(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "~1", "/"), "~0", "~")
}

func escapePointer(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "~", "~0"), "/", "~1")
}

type member struct {
	name  string
	value json.RawMessage
}

// members reads an object in the order in which it is written.
func members(raw json.RawMessage) (list []member, err error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, fmt.Errorf("an object must stand here")
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return nil, err
		}
		m := member{name: key.(string)} // what is before a colon in valid JSON
		if err := d.Decode(&m.value); err != nil {
			return nil, err
		}
		list = append(list, m)
	}
	_, err = d.Token()
	return list, err
}

func (d *document) keyword(s *schema, beside []member, pointer, name string, raw json.RawMessage) error {
	fail := func(format string, args ...any) error {
		return &SchemaError{Path: s.path, Keyword: name, Message: name + " " + fmt.Sprintf(format, args...)}
	}
	child := func(p string, raw json.RawMessage) (*schema, error) { return d.node(pointer+"/"+p, raw) }
	children := func() (list []*schema, err error) {
		var items []json.RawMessage
		if json.Unmarshal(raw, &items) != nil || len(items) == 0 {
			return nil, fail("must be a list of schemas")
		}
		for i, item := range items {
			c, err := child(name+"/"+strconv.Itoa(i), item)
			if err != nil {
				return nil, err
			}
			list = append(list, c)
		}
		return list, nil
	}
	neighbour := func(name string) json.RawMessage {
		if i := slices.IndexFunc(beside, func(m member) bool { return m.name == name }); i >= 0 {
			return beside[i].value
		}
		return nil
	}
	countOf := func(raw json.RawMessage, to *int, limit int) error {
		n, err := integer(raw)
		switch {
		case err != nil || n < 0:
			return fail("must be a whole number that is not negative")
		case n > limit:
			return fail("is %d; %d is the most that can be enforced", n, limit)
		}
		*to = n
		return nil
	}
	count := func(to *int, limit int) error { return countOf(raw, to, limit) }
	texts := func(raw json.RawMessage) (list []string, err error) {
		if json.Unmarshal(raw, &list) != nil || list == nil {
			return nil, fail("must be a list of names")
		}
		return list, nil
	}
	limit := func(to *bound, strict, upper bool) error {
		v, err := rational(raw)
		if err != nil {
			return fail("%v", err)
		}
		b := bound{v, strict}
		if upper {
			*to = lower(*to, b)
		} else {
			*to = higher(*to, b)
		}
		return nil
	}
	var err error
	switch name {
	case "type":
		s.types = 0
		var one string
		list := []string{}
		if json.Unmarshal(raw, &one) == nil {
			list = append(list, one)
		} else if json.Unmarshal(raw, &list) != nil {
			return fail("must be a type's name or a list of them")
		}
		for _, t := range list {
			known, ok := typeNames[t]
			if !ok {
				return fail("is %q; it must be null, boolean, object, array, string, integer or number", t)
			}
			s.types |= known
		}
	case "enum", "const":
		items := []json.RawMessage{raw}
		if err := d.work.spend(10 * len(raw)); err != nil {
			return err
		}
		if name == "enum" {
			if json.Unmarshal(raw, &items) != nil || len(items) == 0 {
				return fail("must be a list of values")
			}
		}
		var list []string
		for _, item := range items {
			v, err := normal(item)
			if err != nil {
				return fail("%v", err)
			}
			list = append(list, v)
		}
		s.values = intersect(s.values, list)
		s.among = among(s.values)
	case "properties":
		fields, err := members(raw)
		if err != nil {
			return fail("must be an object")
		}
		for _, f := range fields {
			c, err := child("properties/"+escapePointer(f.name), f.value)
			if err != nil {
				return err
			}
			s.properties = append(s.properties, property{f.name, c})
		}
	case "patternProperties":
		fields, err := members(raw)
		if err != nil {
			return fail("must be an object")
		}
		for _, f := range fields {
			p, err := newPattern(d.work, f.name)
			if err != nil {
				return d.cause(err, fail)
			}
			c, err := child("patternProperties/"+escapePointer(f.name), f.value)
			if err != nil {
				return err
			}
			s.matching = append(s.matching, matching{p, c})
		}
	case "required":
		s.required, err = texts(raw)
	case "dependentRequired", "dependentSchemas":
		fields, err := members(raw)
		if err != nil {
			return fail("must be an object")
		}
		for _, f := range fields {
			c := anything(s.path)
			if name == "dependentRequired" {
				c.types = typeObject
				c.required, err = texts(f.value)
			} else {
				c, err = child("dependentSchemas/"+escapePointer(f.name), f.value)
			}
			if err != nil {
				return err
			}
			s.dependent = append(s.dependent, property{f.name, c})
		}
	case "additionalProperties":
		s.additional, err = child(name, raw)
	case "propertyNames":
		s.names, err = child(name, raw)
	case "unevaluatedProperties":
		d.evaluates = true
		s.unevaluated, err = child(name, raw)
	case "minProperties":
		return count(&s.minMembers, maxMembers)
	case "maxProperties":
		return count(&s.maxMembers, maxMembers)
	case "items":
		s.items, err = child(name, raw)
	case "unevaluatedItems":
		d.evaluates = true
		s.remaining, err = child(name, raw)
	case "prefixItems":
		s.prefix, err = children()
	case "contains":
		c := containing{min: 1, max: -1}
		if c.schema, err = child(name, raw); err != nil {
			return err
		}
		if n := neighbour("minContains"); n != nil {
			if err := countOf(n, &c.min, maxContains); err != nil {
				return err
			}
		}
		if n := neighbour("maxContains"); n != nil {
			if err := countOf(n, &c.max, maxContains); err != nil {
				return err
			}
		}
		s.contains = append(s.contains, c)
	case "not":
		c, err := child(name, raw)
		if err != nil {
			return err
		}
		s.nots = append(s.nots, c)
	case "if":
		c := &condition{}
		if c.is, err = child(name, raw); err != nil {
			return err
		}
		if n := neighbour("then"); n != nil {
			if c.then, err = child("then", n); err != nil {
				return err
			}
		}
		if n := neighbour("else"); n != nil {
			if c.otherwise, err = child("else", n); err != nil {
				return err
			}
		}
		s.whether = c
	case "multipleOf":
		v, err := rational(raw)
		if err != nil || v.Sign() <= 0 {
			return fail("must be a number above 0")
		}
		s.multiple = v
	case "minItems":
		return count(&s.minItems, maxBound)
	case "maxItems":
		return count(&s.maxItems, maxBound)
	case "minLength":
		return count(&s.minLength, 1<<20)
	case "maxLength":
		return count(&s.maxLength, unbounded-1)
	case "minimum":
		return limit(&s.low, false, false)
	case "maximum":
		return limit(&s.high, false, true)
	case "exclusiveMinimum":
		return limit(&s.low, true, false)
	case "exclusiveMaximum":
		return limit(&s.high, true, true)
	case "pattern":
		var source string
		if json.Unmarshal(raw, &source) != nil {
			return fail("must be a text")
		}
		p, err := newPattern(d.work, source)
		if err != nil {
			return d.cause(err, fail)
		}
		s.patterns = append(s.patterns, p)
	case "format":
		var name string
		if json.Unmarshal(raw, &name) != nil {
			return fail("must be a text")
		}
		p, ok := formats()[name]
		if !ok {
			return fail("is %q; these can be enforced: %s", name, strings.Join(slices.Sorted(maps.Keys(formatSources)), ", "))
		}
		s.patterns = append(s.patterns, p)
	case "allOf":
		s.allOf, err = children()
	case "anyOf", "oneOf":
		var options []*schema
		options, err = children()
		s.choices = append(s.choices, &choice{options: options, one: name == "oneOf"})
	case "$ref":
		s.ref, err = d.refer(raw, fail)
	case "uniqueItems":
		if json.Unmarshal(raw, &s.unique) != nil {
			return fail("must be true or false")
		}
	default:
		if name == "$id" && pointer == "" {
			return nil // the name of the whole; references stay within it all the same
		}
		if !annotations[name] && !strings.HasPrefix(name, "x-") {
			return fail("is not a keyword that can be enforced; leave it out")
		}
	}
	return err
}

// cause says what is wrong with a keyword, unless the work has ended.
func (d *document) cause(err error, fail func(string, ...any) error) error {
	if errors.Is(err, ErrWork) || d.work.ctx.Err() != nil {
		return err
	}
	return fail("%v", err)
}

// refer finds what a reference within the document leads to.
func (d *document) refer(raw json.RawMessage, fail func(string, ...any) error) (*schema, error) {
	var ref string
	if json.Unmarshal(raw, &ref) != nil || !strings.HasPrefix(ref, "#") {
		return nil, fail("%s leads out of the schema; only references such as \"#/$defs/name\" can be followed", raw)
	}
	pointer, err := url.PathUnescape(ref[1:])
	if err != nil {
		return nil, fail("%q leads to nothing: %v", ref, err)
	}
	if pointer != "" && pointer[0] != '/' {
		at, ok := d.anchor(pointer)
		if !ok {
			return nil, fail("%q leads to nothing", ref)
		}
		pointer = at
	}
	at, walked := d.root, ""
	for i, part := range strings.Split(pointer, "/") {
		if i == 0 {
			continue
		}
		var list []json.RawMessage
		fields, err := d.members(walked, at)
		if err != nil && json.Unmarshal(at, &list) != nil {
			return nil, fail("%q leads to nothing", ref)
		}
		if err := d.work.spend(len(fields) + len(list)); err != nil {
			return nil, err
		}
		walked += "/" + part
		part = unescapePointer(part)
		found := slices.IndexFunc(fields, func(m member) bool { return m.name == part })
		n, err := strconv.Atoi(part)
		switch {
		case found >= 0:
			at = fields[found].value
		case err == nil && n >= 0 && n < len(list):
			at = list[n]
		default:
			return nil, fail("%q leads to nothing", ref)
		}
	}
	return d.node(pointer, at)
}

// anchor finds where $anchor gives a name.
func (d *document) anchor(name string) (pointer string, ok bool) {
	if d.anchors == nil {
		d.anchors = map[string]string{}
		var look func(pointer string, raw json.RawMessage)
		look = func(pointer string, raw json.RawMessage) {
			var list []json.RawMessage
			if json.Unmarshal(raw, &list) == nil {
				for i, item := range list {
					look(pointer+"/"+strconv.Itoa(i), item)
				}
				return
			}
			fields, err := d.members(pointer, raw)
			if err != nil {
				return
			}
			for _, f := range fields {
				var name string
				switch {
				case f.name == "$anchor" && json.Unmarshal(f.value, &name) == nil:
					d.anchors[name] = pointer
				case f.name != "enum" && f.name != "const": // there an object is a value
					look(pointer+"/"+escapePointer(f.name), f.value)
				}
			}
		}
		look("", d.root)
	}
	pointer, ok = d.anchors[name]
	return pointer, ok
}

// Bounds of what is counted in every place of a list or an object.
const (
	maxContains = 100
	maxMembers  = 1000
)

func integer(raw json.RawMessage) (int, error) {
	r, err := rational(raw)
	if err != nil {
		return 0, err
	}
	if !r.IsInt() || !r.Num().IsInt64() || r.Num().Int64() > 1<<31 || r.Num().Int64() < -1<<31 {
		return 0, fmt.Errorf("%s is no whole number", raw)
	}
	return int(r.Num().Int64()), nil
}

// maxExponent bounds the numbers that are worked with exactly.
const maxExponent = 40

func rational(raw json.RawMessage) (*big.Rat, error) {
	var n json.Number
	if len(raw) == 0 || raw[0] == '"' || json.Unmarshal(raw, &n) != nil || n == "" {
		return nil, fmt.Errorf("must be a number")
	}
	mantissa, exponent, found := strings.Cut(strings.ToLower(n.String()), "e")
	if e, err := strconv.Atoi(exponent); len(mantissa) > maxExponent || found && (err != nil || e < -maxExponent || e > maxExponent) {
		return nil, fmt.Errorf("is %s, which has too many digits", n)
	}
	r, ok := new(big.Rat).SetString(n.String())
	if !ok {
		return nil, fmt.Errorf("must be a number")
	}
	return r, nil
}

// lower is the stricter of two upper limits, higher of two lower ones.
func lower(a, b bound) bound  { return stricter(a, b, -1) }
func higher(a, b bound) bound { return stricter(a, b, 1) }

func stricter(a, b bound, sign int) bound {
	switch {
	case a.value == nil:
		return b
	case b.value == nil:
		return a
	}
	switch c := a.value.Cmp(b.value) * sign; {
	case c > 0, c == 0 && a.strict:
		return a
	}
	return b
}

// normal writes a value in one form: no white space, names in order, numbers without superfluous digits.
func normal(raw json.RawMessage) (string, error) {
	var out strings.Builder
	var write func(json.RawMessage) error
	write = func(raw json.RawMessage) error {
		raw = bytes.TrimSpace(raw)
		switch raw[0] {
		case '{':
			fields, err := members(raw)
			if err != nil {
				return err
			}
			slices.SortFunc(fields, func(a, b member) int { return strings.Compare(a.name, b.name) })
			out.WriteByte('{')
			for i, f := range fields {
				if i > 0 {
					out.WriteByte(',')
				}
				out.WriteString(quote(f.name) + ":")
				if err := write(f.value); err != nil {
					return err
				}
			}
			out.WriteByte('}')
		case '[':
			var items []json.RawMessage
			if err := json.Unmarshal(raw, &items); err != nil {
				return err
			}
			out.WriteByte('[')
			for i, item := range items {
				if i > 0 {
					out.WriteByte(',')
				}
				if err := write(item); err != nil {
					return err
				}
			}
			out.WriteByte(']')
		case '"':
			var s string
			if err := json.Unmarshal(raw, &s); err != nil {
				return err
			}
			out.WriteString(quote(s))
		case 't', 'f', 'n':
			out.Write(raw)
		default:
			r, err := rational(raw)
			if err != nil {
				return err
			}
			out.WriteString(decimal(r))
		}
		return nil
	}
	err := write(raw)
	return out.String(), err
}

// decimal writes a number whose expansion ends.
func decimal(r *big.Rat) string {
	if r.IsInt() {
		return r.Num().String()
	}
	return strings.TrimRight(r.FloatString(3*maxExponent), "0")
}

// quote writes a JSON string with no more escapes than it needs.
func quote(s string) string {
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	_ = e.Encode(s) // a string can always be encoded
	return strings.TrimSuffix(out.String(), "\n")
}

// intersect is what two lists of values have in common; nil is the list of all.
func intersect(a, b []string) []string {
	if a == nil {
		return slices.Clone(b)
	}
	if b == nil {
		return a
	}
	in := among(b)
	return slices.DeleteFunc(slices.Clone(a), func(v string) bool { return !in(v) })
}

// among tells what is in a list, at the same cost however long that is.
func among(list []string) func(string) bool {
	if len(list) < 16 {
		return func(v string) bool { return slices.Contains(list, v) }
	}
	set := make(map[string]struct{}, len(list))
	for _, v := range list {
		set[v] = struct{}{}
	}
	return func(v string) bool {
		_, in := set[v]
		return in
	}
}

// allows reports whether what the schema names, if it names values, has one among it.
func (s *schema) allows(v string) bool {
	if s.among != nil {
		return s.among(v)
	}
	return s.values == nil || slices.Contains(s.values, v)
}
