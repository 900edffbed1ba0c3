package jinja

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// format is the % operator on a text, as Python has it: %s, %(name)s, %5.1f and so on. Each part of the result has the origin of what it
// is made of.
func (e *evaluator) format(t Text, v Value) Text {
	values := []Value{v}
	named, _ := v.(*Dict)
	if l, ok := v.(*List); ok && l.tuple {
		values = l.Items
	}
	used := 0
	next := func() Value {
		if used == len(values) {
			e.fail("not enough values for the format string")
		}
		used++
		return values[used-1]
	}
	var b textBuilder
	at := 0
	for at < len(t.s) {
		i := strings.IndexByte(t.s[at:], '%')
		if i < 0 {
			break
		}
		b.append(t.slice(at, at+i))
		at += i + 1
		value := next
		if at < len(t.s) && t.s[at] == '(' {
			end := strings.IndexByte(t.s[at:], ')')
			if end < 0 {
				e.fail("the format string has a ( without its )")
			}
			name := t.s[at+1 : at+end]
			at += end + 1
			value = func() Value {
				if named == nil {
					e.fail("the format %%(%s) needs a dictionary", name)
				}
				used = len(values)
				got, ok := named.get(Text{s: name})
				if !ok {
					e.fail("there is no value %q for the format string", name)
				}
				return got
			}
		}
		from := at
		for at < len(t.s) && strings.IndexByte("0123456789.+- #*", t.s[at]) >= 0 {
			at++
		}
		if at == len(t.s) {
			e.fail("the format string ends in the middle of a %%")
		}
		verb := t.s[at]
		f := e.flags(t.s[from:at], next)
		f.origin = t.slice(from-1, at+1).origin(e.here())
		at++
		if verb == '%' {
			b.add("%", f.origin)
			continue
		}
		b.append(e.made(e.converted(f, verb, value())))
	}
	b.append(t.slice(at, len(t.s)))
	if used < len(values) && named == nil {
		if l, ok := v.(*List); !ok || l.tuple {
			e.fail("not all values are used by the format string")
		}
	}
	return b.text()
}

// formatFlags are what may stand between % and its letter.
type formatFlags struct {
	left, zero, plus, space, alternate bool
	width, precision                   int // precision is -1 if it is not given
	origin                             Origin
}

// maxWidth bounds the width and the precision of a format.
const maxWidth = 1000

func (e *evaluator) flags(s string, next func() Value) formatFlags {
	f := formatFlags{precision: -1}
	for s != "" && strings.IndexByte("-+ #0", s[0]) >= 0 {
		switch s[0] {
		case '-':
			f.left = true
		case '+':
			f.plus = true
		case ' ':
			f.space = true
		case '#':
			f.alternate = true
		case '0':
			f.zero = true
		}
		s = s[1:]
	}
	count := func(s string) int {
		if s == "*" {
			return int(max(-maxWidth-1, min(maxWidth+1, e.integer(next()))))
		}
		n, err := strconv.Atoi(s)
		if s != "" && err != nil {
			e.fail("the format %%%s is not understood", s)
		}
		return n
	}
	width, precision, found := strings.Cut(s, ".")
	if f.width = count(width); f.width < 0 {
		f.left, f.width = true, -f.width
	}
	if found {
		f.precision = max(0, count(precision))
	}
	if f.width > maxWidth || f.precision > maxWidth {
		e.fail("the format %%%s is too wide", s)
	}
	return f
}

// converted writes a value by a letter.
func (e *evaluator) converted(f formatFlags, verb byte, v Value) Text {
	switch verb {
	case 's', 'r', 'a':
		part := str(v, e.here())
		if verb != 's' {
			var repr textBuilder
			writeRepr(&repr, v, e.here())
			part = repr.text()
		}
		if f.precision >= 0 {
			part = part.first(f.precision)
		}
		return e.padded(f, part)
	case 'c':
		if n, ok := integer(v); ok {
			return e.padded(f, text(string(rune(max(-1, min(utf8.MaxRune+1, n)))), f.origin))
		}
		if t, ok := v.(Text); ok && utf8.RuneCountInString(t.s) == 1 {
			return e.padded(f, t)
		}
		e.fail("the format %%c needs one character, or its number")
	case 'd', 'i', 'u', 'x', 'X', 'o':
		return e.whole(f, verb, v)
	case 'f', 'F', 'e', 'E', 'g', 'G':
		n, ok := number(v)
		if !ok {
			e.fail("the format %%%c needs a number", verb)
		}
		if f.precision < 0 {
			f.precision = 6
		}
		digits := strings.TrimPrefix(formatFloat(n, verb, f.precision, f.alternate), "-")
		return e.signed(f, digits, n < 0 || n == 0 && 1/n < 0, v)
	}
	e.fail("unknown format %%%c", verb)
	return Text{}
}

func (e *evaluator) whole(f formatFlags, verb byte, v Value) Text {
	i, ok := wholeNumber(v)
	if fl, isFloat := bare(v).(float64); isFloat && strings.IndexByte("diu", verb) >= 0 {
		i, ok = truncated(fl)
	}
	if !ok {
		e.fail("the format %%%c needs a number", verb)
	}
	base, prefix := 10, ""
	switch verb {
	case 'x', 'X':
		base, prefix = 16, "0"+string(verb)
	case 'o':
		base, prefix = 8, "0o"
	}
	digits := strings.TrimPrefix(i.Text(base), "-")
	if verb == 'X' {
		digits = strings.ToUpper(digits)
	}
	if n := f.precision - len(digits); n > 0 {
		digits = strings.Repeat("0", n) + digits
	}
	if f.alternate {
		digits = prefix + digits
	}
	return e.signed(f, digits, i.Sign() < 0, v)
}

// signed adds the sign and what fills up the width. The whole has the origin of the number, if that has one.
func (e *evaluator) signed(f formatFlags, digits string, negative bool, v Value) Text {
	sign := ""
	switch {
	case negative:
		sign = "-"
	case f.plus:
		sign = "+"
	case f.space:
		sign = " "
	}
	if n := f.width - len(digits) - len(sign); f.zero && !f.left && n > 0 {
		digits = strings.Repeat("0", n) + digits
	}
	o := f.origin
	if s, ok := v.(*scalar); ok {
		o = s.origin
	}
	return e.padded(f, text(sign+digits, o))
}

func (e *evaluator) padded(f formatFlags, t Text) Text {
	n := f.width - utf8.RuneCountInString(t.s)
	if n <= 0 {
		return t
	}
	fill := text(strings.Repeat(" ", n), f.origin)
	if f.left {
		return concat(t, fill)
	}
	return concat(fill, t)
}

// first is the first n characters.
func (t Text) first(n int) Text {
	at := 0
	for range n {
		if at == len(t.s) {
			break
		}
		_, size := utf8.DecodeRuneInString(t.s[at:])
		at += size
	}
	return t.slice(0, at)
}

// formatFloat is a number as printf writes it, with at least two digits of an exponent.
func formatFloat(f float64, verb byte, precision int, alternate bool) string {
	flag := ""
	if alternate {
		flag = "#"
	}
	s := fmt.Sprintf("%"+flag+"."+strconv.Itoa(precision)+string(verb), f)
	switch strings.TrimLeft(s, "+-") {
	case "Inf", "NaN":
		s = strings.TrimPrefix(strings.ToLower(s), "+")
		if verb == 'F' || verb == 'E' || verb == 'G' {
			s = strings.ToUpper(s)
		}
	}
	return s
}
