// Package field reads JSON request bodies one field at a time, with errors that name the field at fault.
//
// An [Object] hands out its fields by type. All objects of a body share one list of errors, of which the
// first counts; so a decoder reads what it wants in a row and asks [Object.Err] at the end.
package field

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"

	"kindredgate/internal/exchange"
)

// Object is a JSON object of a body.
type Object struct {
	path   string // of the object in the body, such as "messages[1]"; empty for the body itself
	values map[string]json.RawMessage
	names  []string // in the order of the body
	read   map[string]bool
	whole  bool // it is taken as it stands
	state  *state
}

// state is shared by the objects of a body.
type state struct {
	err     error
	objects int // that were read
	read    []*Object
	lenient bool // whether a text may stand for what is written in it: "false", "0.2", "[…]"
}

// Bounds of a body, beside its length: what is made of it must not take many times as much.
const (
	maxDepth   = 100
	maxFields  = 4096    // of an object that is read field by field
	maxKeys    = 1 << 16 // of any object
	maxObjects = 1 << 16 // that are read field by field
	maxItems   = 1 << 16 // of a list of objects
)

func tooDeep() error { return notJSON("the body is nested more than %d deep", maxDepth) }

// Parse reads a body that must be one JSON object. The error is an [exchange.Error] of kind Invalid.
func Parse(body []byte) (*Object, error) { return parseWith(body, &state{}) }

// ParseLenient is Parse for senders that cannot tell types apart: where something other than a text is wanted, a text
// may hold it.
func ParseLenient(body []byte) (*Object, error) { return parseWith(body, &state{lenient: true}) }

// FromForm reads a form's values as ParseLenient reads an object of texts. A value that comes several times is a list.
func FromForm(values url.Values) *Object {
	o := &Object{values: map[string]json.RawMessage{}, read: map[string]bool{}, state: &state{lenient: true}}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		var v any = values[name]
		if len(values[name]) == 1 {
			v = values[name][0]
		}
		raw, err := json.Marshal(v)
		if err != nil || !utf8.ValidString(strings.Join(values[name], "")) {
			o.Fail(name, "%s is not UTF-8", name)
			continue
		}
		o.names = append(o.names, name)
		o.values[name] = raw
	}
	return o
}

func parseWith(body []byte, s *state) (*Object, error) {
	body = bytes.TrimPrefix(body, []byte("\ufeff")) // a byte-order mark, which some editors and shells put at the beginning
	switch {
	case len(bytes.TrimSpace(body)) == 0:
		return nil, notJSON("the body is empty; it must be a JSON object")
	case !utf8.Valid(body):
		return nil, notJSON("the body is not UTF-8")
	}
	if err := checkSyntax(body); err != nil {
		return nil, err
	}
	o := s.object("", body)
	return o, s.err
}

func notJSON(format string, args ...any) error {
	return exchange.Errorf(exchange.Invalid, "invalid_json", format, args...)
}

// checkSyntax makes sure that body is one JSON value, not nested too deep, with no key twice in an object.
func checkSyntax(body []byte) error {
	if json.Valid(body) {
		return check(body)
	}
	// Unmarshal looks at the syntax first, and makes nothing of a body in which that is wrong.
	return syntaxError(json.Unmarshal(body, new(json.RawMessage)), body)
}

func syntaxError(err error, body []byte) error {
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &syntax) && strings.Contains(syntax.Error(), "unexpected end"):
		return notJSON("the body is not JSON: it ends too early, after %d bytes, at %s", len(body), position(body, len(body)))
	case errors.As(err, &syntax) && strings.Contains(syntax.Error(), "max depth"):
		return tooDeep()
	case errors.As(err, &syntax) && strings.Contains(syntax.Error(), "after top-level value"):
		return notJSON("there is more after the JSON object, at %s", position(body, int(syntax.Offset)-1))
	case errors.As(err, &syntax):
		// The offset is that of the byte at fault, or of the one after it: the decoder counts in both ways.
		for _, at := range []int{int(syntax.Offset) - 1, int(syntax.Offset)} {
			if at < 0 || at >= len(body) {
				continue
			}
			if why := cause(body, at); why != "" {
				return notJSON("the body is not JSON: at %s %s", position(body, at), why)
			}
		}
		return notJSON("the body is not JSON: %v, at %s", syntax, position(body, int(syntax.Offset)-1))
	}
	return notJSON("the body is not JSON: %v", err)
}

// position says where a byte is: its line and column, counted from 1 and in characters, since that is what editors show.
func position(body []byte, at int) string {
	before := body[:min(max(at, 0), len(body))]
	line := bytes.LastIndexByte(before, '\n') + 1
	return fmt.Sprintf("line %d, column %d", bytes.Count(before, []byte("\n"))+1, utf8.RuneCount(before[line:])+1)
}

// cause is what is usually wrong where JSON breaks off at a byte; "" if it is nothing usual.
func cause(body []byte, at int) string {
	c, _ := utf8.DecodeRune(body[at:])
	before := bytes.TrimRight(body[:at], " \t\r\n")
	switch {
	case strings.ContainsRune("“”„‘’«»", c):
		return fmt.Sprintf("stands %c, a quotation mark as word processors write it; JSON wants the plain \"", c)
	case c == '\'':
		return "stands ', but JSON wants \" around texts; where the shell is in the way, keep the body in a file"
	case c == '\n', c == '\r', c == '\t':
		return "a text has a line break or tab in it as it is; JSON wants \\n and \\t, and a program's JSON library writes them so"
	case (c == '}' || c == ']') && bytes.HasSuffix(before, []byte(",")):
		return fmt.Sprintf("a comma stands before %c; JSON has none behind the last member", c)
	case c == '/' || c == '#':
		return "a comment begins; JSON has none"
	case bytes.HasPrefix(body[at:], []byte("True")), bytes.HasPrefix(body[at:], []byte("False")), bytes.HasPrefix(body[at:], []byte("None")):
		return "stands a value as Python writes it; JSON has true, false and null (json.dumps writes them)"
	case bytes.HasPrefix(body[at:], []byte("NaN")), bytes.HasPrefix(body[at:], []byte("Infinity")):
		return "stands a number that JSON does not have"
	case bytes.HasSuffix(before, []byte("{")), bytes.HasSuffix(before, []byte(",")) && c >= 'A' && c <= 'z':
		return "a name stands without quotation marks; JSON wants \" around it"
	}
	return ""
}

// object reads the fields of raw, which is known to be valid JSON.
func (s *state) object(path string, raw json.RawMessage) *Object {
	o := &Object{path: path, values: map[string]json.RawMessage{}, read: map[string]bool{}, state: s}
	if raw[space(raw, 0)] != '{' {
		s.fail(path, "%s must be an object, not %s", orBody(path), kind(raw))
		return o
	}
	if s.objects++; s.objects > maxObjects {
		s.fail(path, "the body has more than %d objects", maxObjects)
		return o
	}
	s.read = append(s.read, o)
	if err := members(raw, func(name string, value json.RawMessage) bool {
		if len(o.names) == maxFields {
			s.fail(path, "%s has more than %d fields", orBody(path), maxFields)
			return false
		}
		o.names = append(o.names, name)
		o.values[name] = value
		return true
	}); err != nil {
		s.fail(path, "%v", err)
	}
	return o
}

func orBody(path string) string {
	if path == "" {
		return "the body"
	}
	return path
}

func (s *state) fail(param, format string, args ...any) {
	if s.err == nil {
		s.err = exchange.InvalidParam(param, format, args...)
	}
}

// kind says what a JSON value is.
func kind(raw json.RawMessage) string {
	switch raw[0] {
	case '{':
		return "an object"
	case '[':
		return "a list"
	case '"':
		return "a string"
	case 't', 'f':
		return "a boolean"
	case 'n':
		return "null"
	}
	return "a number"
}

// Err is the first thing that was wrong with the body, an [exchange.Error].
func (o *Object) Err() error { return o.state.err }

// Fail notes that a field is wrong.
func (o *Object) Fail(name, format string, args ...any) {
	o.state.fail(o.Path(name), format, args...)
}

// Path is the name of a field as an error gives it.
func (o *Object) Path(name string) string {
	if o.path == "" {
		return name
	}
	return o.path + "." + name
}

// Unread lists the fields that nobody asked for.
func (o *Object) Unread() []string {
	return slices.DeleteFunc(slices.Clone(o.names), func(n string) bool { return o.read[n] })
}

// mostIgnored is how many fields are named that nobody asked for.
const mostIgnored = 32

// Ignored is a field that nobody asked for.
type Ignored struct {
	Path string
	Near string // the field of a name that is nearly the same, which was asked for; "" if there is none
}

// String names the field.
func (i Ignored) String() string {
	if i.Near == "" {
		return i.Path
	}
	return fmt.Sprintf("%s (did you mean %s?)", i.Path, i.Near)
}

// Ignored lists the fields that nobody asked for, in this object and in all that were read below it. Objects that were taken as they stand, such
// as schemas, have none.
func (o *Object) Ignored() (list []Ignored) {
	var asked map[string]map[string]bool // by the path of an object, which may have been read more than once; made when something was not asked for
	seen := map[string]bool{}
	for _, one := range o.state.read {
		if one.whole || seen[one.path] {
			continue
		}
		for _, name := range one.names {
			if one.read[name] {
				continue
			}
			if asked == nil {
				asked = o.state.asked()
			}
			if len(list) == mostIgnored {
				return list
			}
			if !asked[one.path][name] {
				list = append(list, Ignored{Path: one.Path(name), Near: near(name, asked[one.path])})
			}
		}
		seen[one.path] = true
	}
	return list
}

// asked are the names that were asked for, by the path of their object.
func (s *state) asked() map[string]map[string]bool {
	all := map[string]map[string]bool{}
	for _, one := range s.read {
		if all[one.path] == nil {
			all[one.path] = map[string]bool{}
		}
		maps.Copy(all[one.path], one.read)
	}
	return all
}

// near is the name that is nearly the same; "" if none is.
func near(name string, names map[string]bool) (best string) {
	least := 3
	switch {
	case len(name) < 3 || len(name) > 64:
		return "" // everything is near to it, or nothing
	case len(name) < 5:
		least = 2 // of short names, those that differ in two letters are others
	}
	for _, other := range slices.Sorted(maps.Keys(names)) {
		if d := levenshtein.ComputeDistance(name, other); d < least {
			best, least = other, d
		}
	}
	return best
}

// Whole reads a field that is an object and is taken as it stands, so that nothing in it counts as ignored.
func (o *Object) Whole(name string) (json.RawMessage, bool) {
	inner := o.Object(name)
	if inner == nil {
		return nil, false
	}
	inner.whole = true
	return o.Raw(name)
}

// Raw returns a field as it stands. A field that is null counts as missing.
func (o *Object) Raw(name string) (json.RawMessage, bool) {
	o.read[name] = true
	v, ok := o.values[name]
	return v, ok && string(v) != "null"
}

// Has tells whether a field is there and not null. Unlike the others, it does not make the name one that is known.
func (o *Object) Has(name string) bool {
	v, ok := o.values[name]
	return ok && string(v) != "null"
}

// Known are the names of the fields that were asked for, whether they are there or not.
func (o *Object) Known() []string { return slices.Sorted(maps.Keys(o.read)) }

// Ignore marks fields as known without reading them.
func (o *Object) Ignore(names ...string) {
	for _, n := range names {
		o.read[n] = true
	}
}

// value reads a field into a Go value; want says in words what it must be.
func value[T any](o *Object, name, want string) (v T, ok bool) {
	raw, ok := o.Raw(name)
	if !ok {
		return v, false
	}
	err := json.Unmarshal(raw, &v)
	if text := ""; err != nil && o.state.lenient && json.Unmarshal(raw, &text) == nil {
		if text = strings.TrimSpace(text); text == "" {
			return v, false // an empty field of a form was left out
		}
		if held := []byte(text); checkSyntax(held) == nil {
			err = json.Unmarshal(held, &v)
		}
	}
	if err != nil {
		o.Fail(name, "%s must be %s, not %s", o.Path(name), want, describe(raw))
		var zero T
		return zero, false
	}
	return v, true
}

// describe says what a value is; a short one is quoted.
func describe(raw json.RawMessage) string {
	if len(raw) <= 40 && raw[0] != '{' && raw[0] != '[' {
		return fmt.Sprintf("%s (%s)", kind(raw), raw)
	}
	return kind(raw)
}

// String reads a text.
func (o *Object) String(name string) (string, bool) { return value[string](o, name, "a string") }

// Bool reads a truth value.
func (o *Object) Bool(name string) bool {
	b, _ := value[bool](o, name, "a boolean")
	return b
}

// Int reads an integer between low and high; 100.0 is one, as JSON has no other way to tell numbers apart. It is nil if the field is missing.
func (o *Object) Int(name string, low, high int64) *int64 {
	return (*int64)(within(o, name, "an integer", integer(low), integer(high)))
}

// integer is a number without a fraction, however it is written.
type integer int64

// UnmarshalJSON reads one.
func (n *integer) UnmarshalJSON(raw []byte) error {
	exact := json.Unmarshal(raw, (*int64)(n))
	if exact == nil {
		return nil
	}
	const most = 1 << 53 // beyond it a float64 stands for several integers
	var f float64
	if err := json.Unmarshal(raw, &f); err != nil || f != math.Trunc(f) || math.Abs(f) > most {
		return exact
	}
	*n = integer(f)
	return nil
}

// Float reads a number between low and high. It is nil if the field is missing.
func (o *Object) Float(name string, low, high float64) *float64 {
	return within(o, name, "a number", low, high)
}

func within[T integer | float64](o *Object, name, want string, low, high T) *T {
	n, ok := value[T](o, name, want)
	if !ok {
		return nil
	}
	if n < low || n > high {
		o.Fail(name, "%s is %v; it must be from %v to %v", o.Path(name), n, low, high)
		return nil
	}
	return &n
}

// Dict reads a field that is an object, whole.
func (o *Object) Dict(name string) (json.RawMessage, bool) {
	if _, ok := value[map[string]json.RawMessage](o, name, "an object"); !ok {
		return nil, false
	}
	raw, _ := o.Raw(name)
	if text := ""; json.Unmarshal(raw, &text) == nil {
		raw = json.RawMessage(text)
	}
	return raw, true
}

// Object reads a field that is an object itself. It is nil if the field is missing.
func (o *Object) Object(name string) *Object {
	raw, ok := o.Raw(name)
	if ok && o.state.lenient && raw[0] == '"' {
		raw, ok = o.Dict(name)
	}
	if !ok {
		return nil
	}
	return o.state.object(o.Path(name), raw)
}

// Objects reads a list of objects.
func (o *Object) Objects(name string) []*Object {
	items := o.Items(name)
	list := make([]*Object, 0, len(items))
	for i, raw := range items {
		if list = append(list, o.Item(name, i, raw)); o.state.objects > maxObjects {
			return nil
		}
	}
	return list
}

// Strings reads a text or a list of texts.
func (o *Object) Strings(name string) []string {
	raw, ok := o.Raw(name)
	if !ok {
		return nil
	}
	if raw[0] == '"' {
		s, _ := o.String(name)
		return []string{s}
	}
	list, _ := value[[]string](o, name, "a string or a list of strings")
	return list
}

// Kind tells what a field is before it is read.
func (o *Object) Kind(name string) Kind {
	raw, ok := o.Raw(name)
	if !ok {
		return Missing
	}
	switch raw[0] {
	case '"':
		return Text
	case '[':
		return List
	case '{':
		return Dict
	}
	return Other
}

// Kind is a sort of JSON value.
type Kind int

// The sorts of values. Null counts as missing.
const (
	Missing Kind = iota
	Text
	List
	Dict
	Other // a number or a boolean
)

// Numbers reports whether a field is a list that begins with a number, and reads it as one of whole numbers.
func (o *Object) Numbers(name string) (list []int32, ok bool) {
	raw, ok := o.Raw(name)
	if !ok || raw[0] != '[' {
		return nil, false
	}
	if c := raw[space(raw, 1)]; c != '-' && (c < '0' || c > '9') {
		return nil, false
	}
	list, _ = value[[]int32](o, name, "a list of tokens (whole numbers)")
	return list, true
}

// Items reads a list of anything but single numbers, of which there may be more than it takes: [Object.Numbers] is for these.
func (o *Object) Items(name string) (items []json.RawMessage) {
	raw, ok := o.Raw(name)
	if !ok || o.state.err != nil {
		return nil
	}
	if raw[0] != '[' { // as it may for senders that are lenient
		items, _ = value[[]json.RawMessage](o, name, "a list")
		return items
	}
	elements(raw, func(item json.RawMessage) bool {
		if len(items) == maxItems {
			o.Fail(name, "%s has more than %d entries", o.Path(name), maxItems)
			return false
		}
		items = append(items, item)
		return true
	})
	return items
}

// Item reads an item of a list as an object.
func (o *Object) Item(name string, i int, raw json.RawMessage) *Object {
	return o.state.object(fmt.Sprintf("%s[%d]", o.Path(name), i), raw)
}

// Texts reads a map of texts with at most so many entries.
func (o *Object) Texts(name string, most int) map[string]string {
	m, ok := value[map[string]string](o, name, "an object of strings")
	if len(m) > most {
		o.Fail(name, "%s has %d entries; %d are possible", o.Path(name), len(m), most)
	}
	if !ok {
		return nil
	}
	return m
}

// OneOf reads a text that must be one of some words; empty if it is missing.
func (o *Object) OneOf(name string, words ...string) string {
	s, ok := o.String(name)
	if ok && !slices.Contains(words, s) {
		o.Fail(name, "%s is %q; it must be %s", o.Path(name), s, choices(words))
		return ""
	}
	return s
}

func choices(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}
