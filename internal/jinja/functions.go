package jinja

import (
	"fmt"
	"strings"
	"time"
)

// half is what is left of a number after division by 2.
func (e *evaluator) half(v Value) float64 {
	f, ok := number(e.arithmetic("%", v, int64(2)))
	if !ok {
		e.fail("%s is neither odd nor even", kindName(v))
	}
	return f
}

func testCallable(e *evaluator, v Value, a args) bool {
	switch v := v.(type) {
	case *function:
		return !v.instance
	case undefined: // which fails when it is called
		return true
	case *loopValue:
		return v.again != nil
	}
	return false
}

func testDivisible(e *evaluator, v Value, a args) bool {
	return e.equal(e.arithmetic("%", v, e.argument(a, 0, "num")), int64(0))
}

// named looks whether a table has a name.
func named[T any](table map[string]T) testFunc {
	return func(e *evaluator, v Value, a args) bool {
		if l, ok := v.(*List); ok && !l.tuple || kindName(v) == "a dictionary" {
			e.fail("%s is no name", kindName(v))
		}
		t, _ := v.(Text)
		_, ok := table[t.s]
		return ok
	}
}

func comparisonTest(op string) testFunc {
	return func(e *evaluator, v Value, a args) bool { return e.compare(op, v, e.argument(a, 0, "other")) }
}

// cased reports whether s has letters with case, all of which are as wanted.
func cased(s string, wanted func(rune) bool) bool {
	return strings.IndexFunc(s, func(r rune) bool { return isCased(r) && !wanted(r) }) < 0 && strings.IndexFunc(s, wanted) >= 0
}

func testIterable(e *evaluator, v Value, a args) bool {
	switch v.(type) {
	case Text, *List, *Dict, undefined:
		return true
	}
	return false
}

// testSame is identity, which shows for none, true and false; other values are the same if they are equal
// and of one kind.
func testSame(e *evaluator, v Value, a args) bool {
	other := e.argument(a, 0, "other")
	return kindName(v) == kindName(other) && e.equal(v, other)
}

// callDict copies a dictionary, or makes one of a list of pairs.
func callDict(e *evaluator, a args) Value {
	d := newDict(Origin{})
	if len(a.positional) > 0 {
		pairs := a.positional[0]
		if from, ok := pairs.(*Dict); ok {
			d.origin = from.origin
			pairs = e.pairs(from)
		}
		for _, item := range e.items(pairs) {
			pair := e.items(item)
			if len(pair) != 2 || keyOf(pair[0]) == nil {
				e.fail("a dictionary is made of pairs of a key and a value")
			}
			d.set(pair[0], pair[1])
		}
	}
	for i, name := range a.names {
		d.set(name, a.keyword[i])
	}
	return d
}

// callCycler gives one value after the other, and begins anew after the last.
func callCycler(e *evaluator, a args) Value {
	if len(a.positional) == 0 {
		e.fail("a cycler needs something to cycle through")
	}
	at := 0
	c := newFunction("cycler", func(e *evaluator, _ args) Value {
		e.fail("a cycler is not called; its method next is")
		return nil
	})
	c.instance = true
	c.attrs = map[string]func(e *evaluator) Value{
		"current": func(*evaluator) Value { return a.positional[at] },
		"next": func(*evaluator) Value {
			return newFunction("next", func(*evaluator, args) Value {
				v := a.positional[at]
				at = (at + 1) % len(a.positional)
				return v
			})
		},
		"reset": func(*evaluator) Value {
			return newFunction("reset", func(*evaluator, args) Value {
				at = 0
				return nil
			})
		},
	}
	return c
}

// callJoiner gives nothing the first time it is called, and the separator after that.
func callJoiner(e *evaluator, a args) Value {
	sep, ok := a.optional(0, "sep")
	if !ok {
		sep = text(", ", e.here())
	}
	used := false
	return newFunction("joiner", func(*evaluator, args) Value {
		if used {
			return sep
		}
		used = true
		return Text{}
	})
}

func callNamespace(e *evaluator, a args) Value {
	ns := &namespace{attrs: map[string]Value{}}
	d := callDict(e, a).(*Dict)
	for _, k := range d.keys {
		if name, ok := k.(Text); ok {
			ns.attrs[name.s], _ = d.get(k)
		}
	}
	return ns
}

func callRaise(e *evaluator, a args) Value {
	msg := str(e.argument(a, 0, "message"), Origin{}).s
	panic(&Error{Line: e.line, Msg: msg, Raised: true})
}

// maxRange is the longest range, as in the reference's sandbox.
const maxRange = 100_000

func callRange(e *evaluator, a args) Value {
	bound := []int64{0, 0, 1}
	switch len(a.positional) {
	case 1:
		bound[1] = e.integer(a.positional[0])
	case 2, 3:
		for i, v := range a.positional {
			bound[i] = e.integer(v)
		}
	default:
		e.fail("range takes one to three numbers")
	}
	from, to, step := bound[0], bound[1], bound[2]
	if step == 0 {
		e.fail("the step of a range cannot be zero")
	}
	out := &List{}
	for i := from; step > 0 && i < to || step < 0 && i > to; i += step {
		if len(out.Items) == maxRange {
			e.fail("the range is longer than %d", maxRange)
		}
		e.step()
		out.Items = append(out.Items, i)
	}
	return out
}

// now is replaced in tests.
var now = time.Now

// strftimeVerbs are the conversions of strftime that have a meaning without a locale.
var strftimeVerbs = map[byte]string{
	'Y': "2006", 'y': "06", 'm': "01", 'd': "02", 'B': "January", 'b': "Jan", 'A': "Monday", 'a': "Mon",
	'H': "15", 'I': "03", 'M': "04", 'S': "05", 'p': "PM", 'Z': "MST", 'z': "-0700", 'F': "2006-01-02",
	'T': "15:04:05", 'D': "01/02/06", 'R': "15:04", 'e': "_2", 'c': "Mon Jan _2 15:04:05 2006", 'x': "01/02/06",
	'X': "15:04:05", 'h': "Jan", 'n': "\n", 't': "\t",
}

func callStrftime(e *evaluator, a args) Value {
	format := e.textArgument(a, 0, "format")
	var b textBuilder
	at := now()
	for i := 0; i < len(format.s); i++ {
		from := i
		o := format.slice(i, i+1).origin(e.here())
		if format.s[i] != '%' || i+1 == len(format.s) {
			b.add(format.s[i:i+1], o)
			continue
		}
		i++
		// What a conversion gives has the origin of the conversion.
		o = format.slice(from, i+1).origin(e.here())
		switch layout, ok := strftimeVerbs[format.s[i]]; {
		case format.s[i] == '-' && i+1 < len(format.s): // without leading zeros
			i++
			b.add(strings.TrimLeft(at.Format(strftimeVerbs[format.s[i]]), "0"), o)
		case format.s[i] == 'j':
			b.add(fmt.Sprintf("%03d", at.YearDay()), o)
		case format.s[i] == '%':
			b.add("%", o)
		case ok:
			b.add(at.Format(layout), o)
		default:
			e.fail("unknown conversion %%%c in strftime_now", format.s[i])
		}
	}
	return b.text()
}
