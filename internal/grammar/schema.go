package grammar

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
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

// Limits of a schema.
const (
	maxBranches = 256    // alternatives of one value, once anyOf within anyOf is resolved
	maxRules    = 20_000 // different values
	maxBound    = 10_000 // items, and characters of a pattern with bounds
)

// document is a schema with the places that references lead to.
type document struct {
	root      json.RawMessage
	known     map[string]*schema  // by JSON pointer and scope
	fields    map[string][]member // of objects, by JSON pointer
	resources []*resource         // the whole comes first
	scope     *scope              // of the place that is being read
	negated   map[*schema]*schema // what was negated already; nil while it is being
	work      *Work
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
	d.note(refused.Path, refused.Message)
	return nil
}

// note tells what is not enforced, and where.
func (d *document) note(path, says string) {
	if path != "" {
		says = path + ": " + says
	}
	if len(d.notes) < maxNotes {
		d.notes = append(d.notes, says)
	}
}

// maxNotes bounds what is told of a schema that is not enforced whole.
const maxNotes = 20

// node gives the schema at a pointer; raw is what stands there.
func (d *document) node(pointer string, raw json.RawMessage) (*schema, error) {
	before := d.scope
	defer func() { d.scope = before }()
	d.scope = d.scope.entering(d.resourceOf(pointer))
	key := pointer + d.scope.key
	if s, ok := d.known[key]; ok {
		return s, nil
	}
	if err := d.work.spend(len(raw) + len(d.resources)); err != nil {
		return nil, err
	}
	s := anything(path(pointer))
	d.known[key] = s
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
		if err := d.left((&place{d: d, schema: s, pointer: pointer, beside: fields, name: f.name, raw: f.value}).apply()); err != nil {
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
