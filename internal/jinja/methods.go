package jinja

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// method is the bound method of that name, or nil. Only methods that change nothing exist.
func method(v Value, name string) Value {
	switch v := v.(type) {
	case Text:
		if m, ok := textMethods[name]; ok {
			return newFunction(name, func(e *evaluator, a args) Value { return m(e, v, a) })
		}
	case *Dict:
		if m, ok := dictMethods[name]; ok {
			return newFunction(name, func(e *evaluator, a args) Value { return m(e, v, a) })
		}
	case *List:
		if m, ok := listMethods[name]; ok {
			return newFunction(name, func(e *evaluator, a args) Value { return m(e, v, a) })
		}
	}
	return nil
}

func every(s string, f func(rune) bool) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool { return !f(r) }) < 0
}

// affix is startswith and endswith, with a string or a tuple of them.
func (e *evaluator) affix(t Text, a args, has func(s, affix string) bool) Value {
	affixes := []Value{e.argument(a, 0, "prefix")}
	if l, ok := affixes[0].(*List); ok && l.tuple {
		affixes = l.Items
	}
	t, _, within := e.window(t, a)
	for _, v := range affixes {
		affix, ok := v.(Text)
		if !ok {
			e.fail("a string can begin or end with a string only, not %s", kindName(v))
		}
		if within && has(t.s, affix.s) {
			return true
		}
	}
	return false
}

func textSplit(e *evaluator, t Text, a args) Value {
	limit := e.intArgument(a, 1, "maxsplit", -1)
	out := &List{}
	sep, ok := a.optional(0, "sep")
	if ok && sep != nil {
		s := e.textArgument(a, 0, "sep")
		if s.s == "" {
			e.fail("the separator to split at is empty")
		}
		e.work(strings.Count(t.s, s.s))
		for _, part := range t.split(s.s, limit) {
			out.Items = append(out.Items, part)
		}
		return out
	}
	rest := t.trim(true, false, isSpace)
	for rest.s != "" {
		e.step()
		i := strings.IndexFunc(rest.s, isSpace)
		if i < 0 || limit >= 0 && len(out.Items) == limit {
			out.Items = append(out.Items, rest) // with the space behind it, if the limit is what ends it
			break
		}
		out.Items = append(out.Items, rest.slice(0, i))
		rest = rest.slice(i, len(rest.s)).trim(true, false, isSpace)
	}
	return out
}

func textSplitLines(e *evaluator, t Text, a args) Value {
	keep, _ := a.optional(0, "keepends")
	out := &List{}
	for _, line := range splitLines(e, t, truth(keep)) {
		out.Items = append(out.Items, line)
	}
	return out
}

// isLineEnd reports whether a character ends a line, by Python's rules.
func isLineEnd(r rune) bool {
	return r >= '\n' && r <= '\r' || r >= 0x1c && r <= 0x1e || r == 0x85 || r == 0x2028 || r == 0x2029
}

// splitLines cuts a text at the ends of its lines.
func splitLines(e *evaluator, t Text, keep bool) (lines []Text) {
	for at := 0; at < len(t.s); {
		e.step()
		end, next := len(t.s), len(t.s)
		if i := strings.IndexFunc(t.s[at:], isLineEnd); i >= 0 {
			end = at + i
			_, size := utf8.DecodeRuneInString(t.s[end:])
			next = end + size
		}
		if strings.HasPrefix(t.s[end:], "\r\n") {
			next = end + 2
		}
		if keep {
			end = next
		}
		lines = append(lines, t.slice(at, end))
		at = next
	}
	return lines
}

// textSplitFromRight is split, but a limit leaves what is on the left together.
func textSplitFromRight(e *evaluator, t Text, a args) Value {
	limit := e.intArgument(a, 1, "maxsplit", -1)
	all := textSplit(e, t, args{positional: a.positional[:min(1, len(a.positional))], names: a.names, keyword: a.keyword}).(*List)
	surplus := len(all.Items) - 1 - limit
	if limit < 0 || surplus < 0 {
		return all
	}
	// What stays together ends where the last of it does, which is before the pieces that are cut off.
	cut := all.Items[surplus+1:]
	rest := t
	if sep, ok := a.optional(0, "sep"); !ok || sep == nil {
		rest = t.trim(false, true, isSpace)
	}
	for i := len(cut) - 1; i >= 0; i-- {
		rest = rest.slice(0, strings.LastIndex(rest.s, cut[i].(Text).s))
		if sep, ok := a.optional(0, "sep"); ok && sep != nil {
			rest = rest.slice(0, len(rest.s)-len(sep.(Text).s))
		} else {
			rest = rest.trim(false, true, isSpace)
		}
	}
	return &List{Items: append([]Value{rest}, cut...)}
}

// window is the part of a text that a method with the arguments "start" and "end" looks at, and where it begins, in bytes. ok is false
// if it begins beyond the end.
func (e *evaluator) window(t Text, a args) (part Text, at int, ok bool) {
	n := utf8.RuneCountInString(t.s)
	bound := func(i int, name string, otherwise int) int {
		b := e.intArgument(a, i, name, otherwise)
		if b < 0 {
			b = max(0, b+n)
		}
		return b
	}
	start, end := bound(1, "start", 0), min(n, bound(2, "end", n))
	from, to := len(t.first(start).s), len(t.first(end).s)
	return t.slice(from, to), from, start <= n && start <= end
}

// find gives the place of a part, in characters, or -1.
func (e *evaluator) find(t Text, a args, index func(s, sub string) int) int64 {
	part, at, ok := e.window(t, a)
	i := index(part.s, e.textArgument(a, 0, "sub").s)
	if i < 0 || !ok {
		return -1
	}
	return int64(utf8.RuneCountInString(t.s[:at+i]))
}

func (e *evaluator) count(t Text, a args) Value {
	sub := e.textArgument(a, 0, "sub").s
	part, _, ok := e.window(t, a)
	if !ok {
		return int64(0)
	}
	return int64(strings.Count(part.s, sub))
}

func (e *evaluator) mustFind(place int64) Value {
	if place < 0 {
		e.fail("the string does not have that part")
	}
	return place
}

// partition cuts a text in three: before, at and after the separator.
func partition(e *evaluator, t Text, a args, index func(s, sub string) int) Value {
	sep := e.textArgument(a, 0, "sep").s
	if sep == "" {
		e.fail("the separator to split at is empty")
	}
	i := index(t.s, sep)
	parts := []Value{t, Text{}, Text{}}
	if i >= 0 {
		parts = []Value{t.slice(0, i), t.slice(i, i+len(sep)), t.slice(i+len(sep), len(t.s))}
	} else if index("ab", "") == 2 { // from the right, the whole comes last
		parts = []Value{Text{}, Text{}, t}
	}
	return &List{Items: parts, tuple: true}
}

// pad fills a text up to a width: on the right (side 0), on the left (1) or on both sides (2).
func pad(e *evaluator, t Text, a args, width, side int) Value {
	width = e.intArgument(a, 0, "width", width)
	fill := Text{s: " "}
	if _, ok := a.optional(1, "fillchar"); ok {
		fill = e.textArgument(a, 1, "fillchar")
	}
	if utf8.RuneCountInString(fill.s) != 1 {
		e.fail("the text to fill with must be one character")
	}
	n := width - utf8.RuneCountInString(t.s)
	if n <= 0 {
		return t
	}
	e.room(n)
	left := []int{0, n, n/2 + n&width&1}[side]
	return e.made(concat(e.repeated(fill, left), t, e.repeated(fill, n-left)))
}

// repeated is a text several times, with its origin.
func (e *evaluator) repeated(t Text, times int) Text {
	return text(strings.Repeat(t.s, times), t.origin(e.here()))
}

func textZeroFill(e *evaluator, t Text, a args) Value {
	sign := 0
	if t.s != "" && strings.IndexByte("+-", t.s[0]) >= 0 {
		sign = 1
	}
	width := e.intArgument(a, 0, "width", 0) - sign
	rest := pad(e, t.slice(sign, len(t.s)), args{positional: []Value{int64(width), Text{s: "0"}}}, 0, 1)
	return concat(t.slice(0, sign), rest.(Text))
}

// textExpandTabs puts spaces in the place of tabs, up to the next multiple of the size.
func textExpandTabs(e *evaluator, t Text, a args) Value {
	size := max(0, min(1000, e.intArgument(a, 0, "tabsize", 8)))
	column := 0
	return e.made(t.mapped(func(piece string) string {
		var b strings.Builder
		for _, r := range piece {
			switch r {
			case '\t':
				if size > 0 {
					n := size - column%size
					b.WriteString(strings.Repeat(" ", n))
					column += n
				}
			case '\n', '\r':
				column = 0
				b.WriteRune(r)
			default:
				column++
				b.WriteRune(r)
			}
		}
		return b.String()
	}))
}

var replacement = regexp.MustCompile(`\{\{|\}\}|\{([^{}!:]*)(![rs])?(?::([^{}]*))?\}|[{}]`)

var fieldPath = regexp.MustCompile(`^([^.\[\]]*)((?:\.[^.\[\]]+|\[[^\[\]]+\])*)$`)

// fieldStep is one step of the way from a value to what is printed of it.
var fieldStep = regexp.MustCompile(`\.([^.\[\]]+)|\[([^\[\]]+)\]`)

// textFormat is the method format: {}, {0}, {name}, !r and the usual format specifications.
func textFormat(e *evaluator, t Text, a args) Value {
	var b textBuilder
	at, next := 0, 0
	for _, m := range replacement.FindAllStringSubmatchIndex(t.s, -1) {
		b.append(t.slice(at, m[0]))
		at = m[1]
		if m[2] < 0 { // a doubled brace
			if m[1]-m[0] == 1 {
				e.fail("the format string has a single %q", t.s[m[0]:m[1]])
			}
			b.append(t.slice(m[0], m[0]+1))
			continue
		}
		group := func(i int) Text {
			if m[i] < 0 {
				return Text{}
			}
			return t.slice(m[i], m[i+1])
		}
		path := fieldPath.FindStringSubmatch(group(2).s)
		if path == nil {
			e.fail("the format string has {%s}, which is no field", group(2).s)
		}
		name := path[1]
		place, err := strconv.Atoi(name)
		if name == "" {
			place, err = next, nil
			next++
		}
		if err != nil {
			place = 1 << 20 // by name only
		}
		v := e.argument(a, place, name)
		for _, step := range fieldStep.FindAllStringSubmatch(path[2], -1) {
			var key Value = Text{s: step[1] + step[2]}
			if i, err := strconv.ParseInt(step[2], 10, 64); err == nil {
				key = i
			}
			if v = e.index(v, key); step[1] != "" {
				continue
			}
			if missing, ok := v.(undefined); ok {
				e.fail("%s", missing.name)
			}
		}
		if group(4).s == "!r" {
			var repr textBuilder
			writeRepr(&repr, v, e.here())
			v = repr.text()
		}
		b.append(e.made(e.specified(v, group(6))))
	}
	b.append(t.slice(at, len(t.s)))
	return b.text()
}

var specification = regexp.MustCompile(`^(?:(.)?([<>^]))?([+ ])?(#)?(0)?(\d{1,4})?(,)?(?:\.(\d{1,3}))?([sdfeEgxXob%])?$`)

// specified writes a value by a format specification: fill, alignment, sign, width, thousands, precision, kind.
func (e *evaluator) specified(v Value, spec Text) Text {
	if spec.s == "" {
		return str(v, e.here())
	}
	m := specification.FindStringSubmatch(spec.s)
	if m == nil {
		e.fail("the format specification %q is not supported", spec.s)
	}
	fill, align, plus, alternate, zero, thousands, precision, kind := m[1], m[2], m[3], m[4], m[5], m[7], m[8], m[9]
	width, _ := strconv.Atoi(m[6]) // digits, or nothing for 0
	t := str(v, e.here())
	if f, isNumber := number(v); isNumber && kind != "s" {
		digits := e.numeral(v, f, thousands, precision, kind)
		if alternate != "" && strings.Contains("xXob", kind) && kind != "" {
			sign := digits[:len(digits)-len(strings.TrimPrefix(digits, "-"))]
			digits = sign + "0" + kind + digits[len(sign):]
		}
		t = text(digits, e.here())
		if plus != "" && f >= 0 {
			t = concat(text(plus, e.here()), t)
		}
		if align == "" {
			align = ">"
		}
		if zero != "" {
			return textZeroFill(e, t, args{positional: []Value{int64(width)}}).(Text)
		}
	} else if kind != "" && kind != "s" {
		e.fail("the format %q needs a number", spec.s)
	} else if precision != "" {
		n, _ := strconv.Atoi(precision)
		t = concat(textsOf(e.items(t)[:min(n, utf8.RuneCountInString(t.s))])...)
	}
	if fill == "" {
		fill = " "
	}
	n := max(0, width-utf8.RuneCountInString(t.s))
	left := map[string]int{"": 0, "<": 0, ">": n, "^": n / 2}[align]
	with := text(fill, spec.origin(e.here())) // where it is given, it comes first
	return e.made(concat(e.repeated(with, left), t, e.repeated(with, n-left)))
}

func textsOf(items []Value) []Text {
	list := make([]Text, len(items))
	for i, v := range items {
		list[i] = v.(Text)
	}
	return list
}

func (e *evaluator) numeral(v Value, f float64, thousands, precision, kind string) string {
	i, isInt := wholeNumber(v)
	var s string
	switch {
	case kind == "" && precision == "" && isInt, kind == "d":
		if !isInt {
			e.fail("the format d needs an integer")
		}
		s = i.String()
	case strings.Contains("xXob", kind) && kind != "":
		if !isInt {
			e.fail("the format %s needs an integer", kind)
		}
		s = fmt.Sprintf("%"+kind, i)
	case kind == "%":
		s = fmt.Sprintf("%."+orText(precision, "6")+"f%%", 100*f)
	case kind == "" && precision == "":
		s = floatRepr(f)
	default:
		s = fmt.Sprintf("%."+orText(precision, "6")+orText(kind, "g"), f)
	}
	if thousands != "" {
		whole, rest, _ := strings.Cut(s, ".")
		for at := len(whole) - 3; at > 0 && whole[at-1] != '-'; at -= 3 {
			whole = whole[:at] + "," + whole[at:]
		}
		s = whole
		if rest != "" {
			s += "." + rest
		}
	}
	return s
}

func orText(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

func dictValues(e *evaluator, d *Dict, a args) Value {
	out := &List{view: "dict_values"}
	for _, k := range d.keys {
		v, _ := d.get(k)
		out.Items = append(out.Items, v)
	}
	return out
}
