package jinja

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/big"
	"strconv"
	"strings"
)

// Value is what a template computes with: nil (none), bool, int64, float64, [Text], [*List], [*Dict], and
// internally undefined, *namespace and *function. Values given to a template are not changed by it.
type Value any

// undefined is the value of a variable that does not exist. It prints as nothing and is false, but its
// attributes are an error, which name tells apart.
type undefined struct{ name string }

// List is a list, or a tuple.
type List struct {
	Items  []Value
	tuple  bool
	view   string   // what it prints as, if that is a view of a dictionary
	fields []string // names of the items, of a tuple that has them
	origin Origin   // of the punctuation when it is printed
}

// Dict is a dictionary that keeps the order in which its keys were set.
type Dict struct {
	keys   []Value
	values map[Value]Value // by keyOf
	origin Origin
}

// scalar is a number, a boolean or none that was given to the template, with its origin for when it is printed. It is found within
// lists and dictionaries and in variables; whoever computes with values takes it [bare].
type scalar struct {
	value  Value
	origin Origin
}

// NewScalar makes a number, a boolean or none that comes from the value called path.
func NewScalar(v Value, path string) Value { return &scalar{v, Origin{Path: path}} }

// bare is a value without the origin of a scalar.
func bare(v Value) Value {
	if s, ok := v.(*scalar); ok {
		return s.value
	}
	return v
}

// namespace is the one object that a template may change, by set ns.name = value.
type namespace struct{ attrs map[string]Value }

// function is something to call: a macro, a built-in function or a bound method.
type function struct {
	name     string
	call     func(e *evaluator, a args) Value
	attrs    map[string]func(e *evaluator) Value // of an object that is also called so, such as a cycler
	instance bool                                // it only stands for such an object, and cannot be called itself
	// prints says that it may print its arguments, so it gets them with their origins.
	prints bool
}

func newFunction(name string, call func(e *evaluator, a args) Value) *function {
	return &function{name: name, call: call}
}

// NewList makes a list that comes from the value called path.
func NewList(path string, items ...Value) *List {
	return &List{Items: items, origin: Origin{Path: path}}
}

// NewDict makes an empty dictionary that comes from the value called path.
func NewDict(path string) *Dict { return newDict(Origin{Path: path}) }

func newDict(o Origin) *Dict { return &Dict{values: map[Value]Value{}, origin: o} }

// Set adds a key, or changes its value.
func (d *Dict) Set(key string, v Value) { d.set(NewText(key, d.origin.Path), v) }

func (d *Dict) set(key, v Value) {
	k := keyOf(key)
	if _, ok := d.values[k]; !ok {
		d.keys = append(d.keys, key)
	}
	d.values[k] = v
}

func (d *Dict) get(key Value) (Value, bool) {
	v, ok := d.values[keyOf(key)]
	return v, ok
}

// keyOf is a comparable stand-in for a key: texts are equal by what they say, numbers by their value.
// It is nil, which no key of a dictionary has, for values that cannot be keys.
func keyOf(v Value) Value {
	switch v := bare(v).(type) {
	case Text:
		return v.s
	case nil:
		return undefined{"none"}
	case bool:
		if v {
			return int64(1)
		}
		return int64(0)
	case float64:
		if v == math.Trunc(v) && math.Abs(v) < 1<<53 {
			return int64(v)
		}
		return v
	case int64:
		return v
	case *big.Int:
		return bigKey{v.String()}
	case *List:
		if !v.tuple || len(v.Items) > maxKeyItems {
			return nil
		}
		var b strings.Builder
		for _, item := range v.Items {
			key := keyOf(item)
			if _, nested := key.(tupleKey); nested || key == nil {
				return nil
			}
			fmt.Fprintf(&b, "%#v\x00", key)
		}
		return tupleKey{b.String()}
	}
	return nil
}

// maxKeyItems is how many items a tuple that is a key may have; none of them may be a tuple. No template needs
// more, and a key is spelt out each time it is used.
const maxKeyItems = 16

// bigKey is a key beyond 64 bits.
type bigKey struct{ s string }

// tupleKey keeps the keys of tuples apart from those of texts.
type tupleKey struct{ s string }

// measure counts the values in v, itself included, and the bytes of its texts.
func measure(v Value) (values, bytes int) {
	switch v := v.(type) {
	case Text:
		return 1, len(v.s)
	case *List:
		for _, item := range v.Items {
			n, b := measure(item)
			values, bytes = values+n, bytes+b
		}
	case *Dict:
		for _, item := range v.values {
			n, b := measure(item)
			values, bytes = values+n, bytes+b
		}
	}
	return values + 1, bytes
}

// maxDepth bounds nesting: of values, of expressions and of calls.
const maxDepth = 120

// FromJSON reads a JSON document. Its texts come from path, followed by the way to them inside the document
// if deep is set ("messages[0].content"), else from path as a whole ("tools[0]"). The order of keys is kept.
func FromJSON(doc []byte, path string, deep bool) (Value, error) {
	d := json.NewDecoder(bytes.NewReader(doc))
	d.UseNumber()
	v, err := fromJSON(d, path, deep, 0)
	if err != nil {
		return nil, err
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, fmt.Errorf("there is more after the JSON value")
	}
	return v, nil
}

func fromJSON(d *json.Decoder, path string, deep bool, depth int) (Value, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("the JSON is nested more than %d deep", maxDepth)
	}
	tok, err := d.Token()
	if err != nil {
		return nil, err
	}
	switch tok := tok.(type) {
	case json.Delim:
		if tok == '[' {
			list := NewList(path)
			for d.More() {
				v, err := fromJSON(d, inside(path, fmt.Sprintf("[%d]", len(list.Items)), deep), deep, depth+1)
				if err != nil {
					return nil, err
				}
				list.Items = append(list.Items, v)
			}
			_, err := d.Token()
			return list, err
		}
		dict := NewDict(path)
		for d.More() {
			key, err := d.Token()
			if err != nil {
				return nil, err
			}
			name := key.(string) // the decoder has made sure
			v, err := fromJSON(d, inside(path, "."+name, deep), deep, depth+1)
			if err != nil {
				return nil, err
			}
			dict.Set(name, v)
		}
		_, err := d.Token()
		return dict, err
	case json.Number:
		o := Origin{Path: path}
		if i, err := strconv.ParseInt(tok.String(), 10, 64); err == nil {
			return &scalar{i, o}, nil
		}
		if i, ok := new(big.Int).SetString(tok.String(), 10); ok {
			return &scalar{i, o}, nil
		}
		f, err := tok.Float64()
		return &scalar{f, o}, err
	case string:
		return NewText(tok, path), nil
	default: // bool and nil
		return &scalar{tok, Origin{Path: path}}, nil
	}
}

func inside(path, step string, deep bool) string {
	if !deep {
		return path
	}
	return strings.TrimPrefix(path+step, ".")
}

func kindName(v Value) string {
	switch v := bare(v).(type) {
	case nil:
		return "none"
	case undefined:
		return "an undefined value"
	case bool:
		return "a boolean"
	case int64, *big.Int:
		return "an integer"
	case float64:
		return "a float"
	case Text:
		return "a string"
	case *List:
		if v.tuple {
			return "a tuple"
		}
		return "a list"
	case *Dict:
		return "a dictionary"
	case *namespace:
		return "a namespace"
	case *function:
		return "a function"
	}
	return fmt.Sprintf("a %T", v)
}

func truth(v Value) bool {
	switch v := bare(v).(type) {
	case nil, undefined:
		return false
	case bool:
		return v
	case int64:
		return v != 0
	case *big.Int:
		return true
	case float64:
		return v != 0
	case Text:
		return v.s != ""
	case *List:
		return len(v.Items) > 0
	case *Dict:
		return len(v.keys) > 0
	}
	return true
}

// number gives a numeric value as a float; booleans count, as in Python.
func number(v Value) (float64, bool) {
	switch v := bare(v).(type) {
	case int64:
		return float64(v), true
	case *big.Int:
		return toFloat(v), true
	case float64:
		return v, true
	case bool:
		if v {
			return 1, true
		}
		return 0, true
	}
	return 0, false
}

func integer(v Value) (int64, bool) {
	switch v := bare(v).(type) {
	case int64:
		return v, true
	case bool:
		if v {
			return 1, true
		}
		return 0, true
	}
	return 0, false
}

// beyond reports whether a number is more than a float holds exactly.
func beyond(v Value) bool {
	switch v := v.(type) {
	case int64:
		return v > 1<<53 || v < -1<<53
	case *big.Int:
		return true
	}
	return false
}

// compareNumbers compares two numbers exactly.
func compareNumbers(a, b Value) int {
	exact := func(v Value) *big.Rat {
		if i, ok := wholeNumber(v); ok {
			return new(big.Rat).SetInt(i)
		}
		f, _ := number(v)
		return new(big.Rat).SetFloat64(f) // nil for what is no finite number
	}
	x, y := exact(a), exact(b)
	if x == nil || y == nil {
		f, _ := number(a)
		g, _ := number(b)
		return cmp.Compare(f, g)
	}
	return x.Cmp(y)
}

// equal compares by value, and counts its work.
func (e *evaluator) equal(a, b Value) bool {
	e.step()
	a, b = bare(a), bare(b)
	if x, ok := number(a); ok {
		y, ok := number(b)
		return ok && (x == y && !beyond(a) && !beyond(b) || compareNumbers(a, b) == 0)
	}
	switch a := a.(type) {
	case nil:
		return b == nil
	case undefined:
		_, ok := b.(undefined)
		return ok
	case Text:
		b, ok := b.(Text)
		return ok && a.s == b.s
	case *List:
		b, ok := b.(*List)
		if !ok || a.tuple != b.tuple || len(a.Items) != len(b.Items) {
			return false
		}
		for i := range a.Items {
			if !e.equal(a.Items[i], b.Items[i]) {
				return false
			}
		}
		return true
	case *Dict:
		b, ok := b.(*Dict)
		if !ok || len(a.keys) != len(b.keys) {
			return false
		}
		for _, k := range a.keys {
			x, _ := a.get(k)
			y, ok := b.get(k)
			if !ok || !e.equal(x, y) {
				return false
			}
		}
		return true
	}
	return a == b
}

// order compares two values, and counts its work; ok is false if they have no order.
func (e *evaluator) order(a, b Value) (order int, ok bool) {
	e.step()
	a, b = bare(a), bare(b)
	if x, isNum := number(a); isNum {
		y, isNum := number(b)
		if !isNum {
			return 0, false
		}
		if beyond(a) || beyond(b) {
			return compareNumbers(a, b), true
		}
		return cmp.Compare(x, y), true
	}
	switch a := a.(type) {
	case Text:
		if b, ok := b.(Text); ok {
			return strings.Compare(a.s, b.s), true
		}
	case *List:
		b, ok := b.(*List)
		if !ok || a.tuple != b.tuple {
			return 0, false
		}
		for i := range min(len(a.Items), len(b.Items)) {
			if e.equal(a.Items[i], b.Items[i]) {
				continue
			}
			return e.order(a.Items[i], b.Items[i])
		}
		return len(a.Items) - len(b.Items), true
	}
	return 0, false
}
