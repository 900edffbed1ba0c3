package weights

import (
	"fmt"
	"maps"
	"math"
	"slices"
)

// Facts are what a model's files say of the network, by the names that its layout has for them: metadata keys of GGUF
// files without the name of the architecture, or fields of config.json. A family asks for what it alone has, so that no
// other file need know of it. Whatever was asked for counts as known. The zero value says nothing.
type Facts struct {
	// Lookup gives a value as a float64, bool, string, or a []any of these. It may be nil.
	Lookup func(name string) (value any, ok bool)

	asked map[string]bool
	named map[string]string // which of the names that were asked for together it was
	err   error
}

// Err is the first value that was not of the kind that was asked for.
func (f *Facts) Err() error { return f.err }

// Asked reports whether a name was asked for.
func (f *Facts) Asked(name string) bool { return f.asked[name] }

// Name is what the files call what was asked for by several names, of which this is one; the first of these where they call it
// nothing.
func (f *Facts) Name(one string) string {
	if name, ok := f.named[one]; ok {
		return name
	}
	return one
}

// find gives the first of some names that has a value.
func (f *Facts) find(names []string) (string, any) {
	if f.asked == nil {
		f.asked, f.named = map[string]bool{}, map[string]string{}
	}
	var name string
	var value any
	for _, n := range names {
		f.asked[n] = true
		if f.Lookup == nil || value != nil {
			continue
		}
		if v, ok := f.Lookup(n); ok && v != nil {
			name, value = n, v
		}
	}
	for _, n := range names {
		if _, known := f.named[n]; value != nil {
			f.named[n] = name
		} else if !known {
			f.named[n] = names[0]
		}
	}
	return name, value
}

func (f *Facts) fail(name, want string, v any) {
	if f.err == nil {
		f.err = fmt.Errorf("%s is %.40q, not %s", name, fmt.Sprint(v), want)
	}
}

// number is a value as a number; truth values are 0 and 1, as some files write them.
func number(v any) (float64, bool) {
	switch v := v.(type) {
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

// Has reports whether one of the names has a value.
func (f *Facts) Has(names ...string) bool {
	_, v := f.find(names)
	return v != nil
}

// Float is the value of the first of the names that has one; 0 if none has.
func (f *Facts) Float(names ...string) float64 {
	name, v := f.find(names)
	if v == nil {
		return 0
	}
	n, ok := number(v)
	if !ok {
		f.fail(name, "a number", v)
	}
	return n
}

// Int is Float for whole numbers below 2⁵³.
func (f *Facts) Int(names ...string) int {
	name, v := f.find(names)
	if v == nil {
		return 0
	}
	return f.whole(name, v)
}

func (f *Facts) whole(name string, v any) int {
	n, ok := number(v)
	if !ok || n != math.Trunc(n) || math.Abs(n) >= 1<<53 {
		f.fail(name, "a whole number", v)
		return 0
	}
	return int(n)
}

// Flag is nil if none of the names has a value.
func (f *Facts) Flag(names ...string) *bool {
	name, v := f.find(names)
	if v == nil {
		return nil
	}
	n, ok := number(v)
	if !ok {
		f.fail(name, "true or false", v)
	}
	b := n != 0
	return &b
}

// Is is Flag with a default.
func (f *Facts) Is(otherwise bool, names ...string) bool {
	if b := f.Flag(names...); b != nil {
		return *b
	}
	return otherwise
}

// Text is a string; empty if there is none.
func (f *Facts) Text(names ...string) string {
	name, v := f.find(names)
	if v == nil {
		return ""
	}
	s, ok := v.(string)
	if !ok {
		f.fail(name, "a text", v)
	}
	return s
}

// Floats is a list of numbers; a single one is a list of one. It is nil if there is none.
func (f *Facts) Floats(names ...string) []float64 { return list(f, names, "numbers", number) }

// Ints is Floats for whole numbers.
func (f *Facts) Ints(names ...string) []int {
	return list(f, names, "whole numbers", func(v any) (int, bool) {
		n, ok := number(v)
		return int(n), ok && n == math.Trunc(n) && math.Abs(n) < 1<<53
	})
}

// Most is Int; of a list, such as of one for each layer, it is the largest.
func (f *Facts) Most(names ...string) int {
	all := f.Ints(names...)
	if len(all) == 0 {
		return 0
	}
	return slices.Max(all)
}

// Flags is a list of truth values, which may be written as numbers.
func (f *Facts) Flags(names ...string) []bool {
	return list(f, names, "true or false", func(v any) (bool, bool) {
		n, ok := number(v)
		return n != 0, ok
	})
}

// Texts is a list of strings; a single one is a list of one.
func (f *Facts) Texts(names ...string) []string {
	return list(f, names, "texts", func(v any) (string, bool) {
		s, ok := v.(string)
		return s, ok
	})
}

func list[T any](f *Facts, names []string, want string, as func(any) (T, bool)) []T {
	name, v := f.find(names)
	if v == nil {
		return nil
	}
	all, ok := v.([]any)
	if !ok {
		all = []any{v}
	}
	out := make([]T, len(all))
	for i, v := range all {
		if out[i], ok = as(v); !ok {
			f.fail(name, want, v)
			return nil
		}
	}
	return out
}

// Unknown are the names of a list that nobody has asked for, in order.
func (f *Facts) Unknown(names map[string]bool) []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(names)), func(n string) bool { return f.asked[n] })
}
