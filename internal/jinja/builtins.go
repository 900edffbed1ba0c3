package jinja

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/language"
)

// The tables below are the whole vocabulary: a name that is in none of them is an error when the template
// is parsed (filters, tests) or undefined when it is used (functions, methods).

type (
	filterFunc func(e *evaluator, v Value, a args) Value
	testFunc   func(e *evaluator, v Value, a args) bool
)

var (
	filters     map[string]filterFunc
	tests       map[string]testFunc
	globals     *frame
	textMethods map[string]func(e *evaluator, t Text, a args) Value
	dictMethods map[string]func(e *evaluator, d *Dict, a args) Value
	listMethods map[string]func(e *evaluator, l *List, a args) Value
)

// Set at start, since the functions refer to the tables.
func init() {
	filters = map[string]filterFunc{
		"abs":        filterAbs,
		"capitalize": func(e *evaluator, v Value, a args) Value { return capitalize(str(v, e.here())) },
		"count":      filterLength,
		"d":          filterDefault,
		"default":    filterDefault,
		"dictsort":   filterDictsort,
		"e":          filterEscape,
		"escape":     filterEscape,
		"first":      filterFirst,
		"float":      filterFloat,
		"indent":     filterIndent,
		"int":        filterInt,
		"items":      filterItems,
		"join":       filterJoin,
		"last":       filterLast,
		"length":     filterLength,
		"list":       func(e *evaluator, v Value, a args) Value { return &List{Items: slices.Clone(e.items(v))} },
		"lower":      textFilter(strings.ToLower),
		"map":        filterMap,
		"max":        func(e *evaluator, v Value, a args) Value { return e.extreme(v, a, 1) },
		"min":        func(e *evaluator, v Value, a args) Value { return e.extreme(v, a, -1) },
		"reject":     func(e *evaluator, v Value, a args) Value { return e.choose(v, a, false, false) },
		"rejectattr": func(e *evaluator, v Value, a args) Value { return e.choose(v, a, true, false) },
		"replace":    filterReplace,
		"reverse":    filterReverse,
		"round":      filterRound,
		"safe":       func(e *evaluator, v Value, a args) Value { return v },
		"select":     func(e *evaluator, v Value, a args) Value { return e.choose(v, a, false, true) },
		"selectattr": func(e *evaluator, v Value, a args) Value { return e.choose(v, a, true, true) },
		"sort":       filterSort,
		"string":     func(e *evaluator, v Value, a args) Value { return str(v, e.here()) },
		"sum":        filterSum,
		"title":      func(e *evaluator, v Value, a args) Value { return title(str(v, e.here())) },
		"tojson":     filterToJSON,
		"trim":       filterTrim,
		"unique":     filterUnique,
		"upper":      textFilter(upper),
	}
	tests = map[string]testFunc{
		"boolean":     func(e *evaluator, v Value, a args) bool { _, ok := v.(bool); return ok },
		"callable":    testCallable,
		"defined":     func(e *evaluator, v Value, a args) bool { _, ok := v.(undefined); return !ok },
		"divisibleby": testDivisible,
		"equalto":     func(e *evaluator, v Value, a args) bool { return equal(v, e.argument(a, 0, "other")) },
		"eq":          func(e *evaluator, v Value, a args) bool { return equal(v, e.argument(a, 0, "other")) },
		"even":        func(e *evaluator, v Value, a args) bool { return e.integer(v)%2 == 0 },
		"false":       func(e *evaluator, v Value, a args) bool { return v == Value(false) },
		"float":       func(e *evaluator, v Value, a args) bool { _, ok := v.(float64); return ok },
		"ge":          comparisonTest(">="),
		"gt":          comparisonTest(">"),
		"greaterthan": comparisonTest(">"),
		"in":          func(e *evaluator, v Value, a args) bool { return e.contains(e.argument(a, 0, "seq"), v) },
		"integer":     func(e *evaluator, v Value, a args) bool { _, ok := v.(int64); return ok },
		"iterable":    testIterable,
		"le":          comparisonTest("<="),
		"lessthan":    comparisonTest("<"),
		"lower":       func(e *evaluator, v Value, a args) bool { return cased(str(v, Origin{}).s, unicode.IsUpper) },
		"lt":          comparisonTest("<"),
		"mapping":     func(e *evaluator, v Value, a args) bool { _, ok := v.(*Dict); return ok },
		"ne":          func(e *evaluator, v Value, a args) bool { return !equal(v, e.argument(a, 0, "other")) },
		"none":        func(e *evaluator, v Value, a args) bool { return v == nil },
		"number":      func(e *evaluator, v Value, a args) bool { _, ok := number(v); return ok },
		"odd":         func(e *evaluator, v Value, a args) bool { return e.integer(v)%2 != 0 },
		"sameas":      testSame,
		"sequence":    testIterable,
		"string":      func(e *evaluator, v Value, a args) bool { _, ok := v.(Text); return ok },
		"true":        func(e *evaluator, v Value, a args) bool { return v == Value(true) },
		"undefined":   func(e *evaluator, v Value, a args) bool { _, ok := v.(undefined); return ok },
		"upper":       func(e *evaluator, v Value, a args) bool { return cased(str(v, Origin{}).s, unicode.IsLower) },
	}
	globals = &frame{vars: map[string]Value{
		"dict":            &function{"dict", callDict},
		"namespace":       &function{"namespace", callNamespace},
		"raise_exception": &function{"raise_exception", callRaise},
		"range":           &function{"range", callRange},
		"strftime_now":    &function{"strftime_now", callStrftime},
	}}
	textMethods = map[string]func(e *evaluator, t Text, a args) Value{
		"capitalize": func(e *evaluator, t Text, a args) Value { return capitalize(t) },
		"count": func(e *evaluator, t Text, a args) Value {
			return int64(strings.Count(t.s, e.textArgument(a, 0, "sub").s))
		},
		"endswith": func(e *evaluator, t Text, a args) Value { return e.affix(t, a, strings.HasSuffix) },
		"find": func(e *evaluator, t Text, a args) Value {
			i := strings.Index(t.s, e.textArgument(a, 0, "sub").s)
			if i < 0 {
				return int64(-1)
			}
			return int64(utf8.RuneCountInString(t.s[:i]))
		},
		"isalpha": func(e *evaluator, t Text, a args) Value { return every(t.s, unicode.IsLetter) },
		"isdigit": func(e *evaluator, t Text, a args) Value { return every(t.s, unicode.IsDigit) },
		"isspace": func(e *evaluator, t Text, a args) Value { return every(t.s, isSpace) },
		"join": func(e *evaluator, t Text, a args) Value {
			return filterJoin(e, e.argument(a, 0, "iterable"), args{positional: []Value{t}})
		},
		"lower":  func(e *evaluator, t Text, a args) Value { return e.made(t.mapped(strings.ToLower)) },
		"lstrip": func(e *evaluator, t Text, a args) Value { return strip(e, t, a, true, false) },
		"replace": func(e *evaluator, t Text, a args) Value {
			return e.replace(t, e.textArgument(a, 0, "old"), e.textArgument(a, 1, "new"), e.intArgument(a, 2, "count", -1))
		},
		"rstrip":     func(e *evaluator, t Text, a args) Value { return strip(e, t, a, false, true) },
		"split":      textSplit,
		"splitlines": textSplitLines,
		"startswith": func(e *evaluator, t Text, a args) Value { return e.affix(t, a, strings.HasPrefix) },
		"strip":      func(e *evaluator, t Text, a args) Value { return strip(e, t, a, true, true) },
		"title":      func(e *evaluator, t Text, a args) Value { return title(t) },
		"upper":      func(e *evaluator, t Text, a args) Value { return e.made(t.mapped(upper)) },
	}
	dictMethods = map[string]func(e *evaluator, d *Dict, a args) Value{
		"get": func(e *evaluator, d *Dict, a args) Value {
			if v, ok := d.get(e.argument(a, 0, "key")); ok {
				return v
			}
			otherwise, _ := a.optional(1, "default")
			return otherwise
		},
		"items":  func(e *evaluator, d *Dict, a args) Value { return e.pairs(d) },
		"keys":   func(e *evaluator, d *Dict, a args) Value { return &List{Items: slices.Clone(d.keys)} },
		"values": dictValues,
	}
	listMethods = map[string]func(e *evaluator, l *List, a args) Value{
		"count": func(e *evaluator, l *List, a args) Value {
			n := int64(0)
			for _, item := range l.Items {
				if equal(item, e.argument(a, 0, "value")) {
					n++
				}
			}
			return n
		},
		"index": func(e *evaluator, l *List, a args) Value {
			v := e.argument(a, 0, "value")
			for i, item := range l.Items {
				if equal(item, v) {
					return int64(i)
				}
			}
			e.fail("the list does not have that item")
			return nil
		},
	}
}

// optional is argument i, which may also be given by name.
func (a args) optional(i int, name string) (Value, bool) {
	if i < len(a.positional) {
		return a.positional[i], true
	}
	for j, n := range a.names {
		if n == name {
			return a.keyword[j], true
		}
	}
	return nil, false
}

func (e *evaluator) argument(a args, i int, name string) Value {
	v, ok := a.optional(i, name)
	if !ok {
		e.fail("argument %q is missing", name)
	}
	return v
}

func (e *evaluator) textArgument(a args, i int, name string) Text {
	v := e.argument(a, i, name)
	t, ok := v.(Text)
	if !ok {
		e.fail("argument %q must be a string, not %s", name, kindName(v))
	}
	return t
}

func (e *evaluator) intArgument(a args, i int, name string, otherwise int) int {
	v, ok := a.optional(i, name)
	if !ok || v == nil {
		return otherwise
	}
	return int(max(-1<<31, min(1<<31, e.integer(v))))
}

func (e *evaluator) integer(v Value) int64 {
	i, ok := integer(v)
	if !ok {
		e.fail("%s is not an integer", kindName(v))
	}
	return i
}

// textFilter makes a filter of a function that maps a piece of text.
func textFilter(f func(string) string) filterFunc {
	return func(e *evaluator, v Value, a args) Value {
		return e.made(str(v, e.here()).mapped(f))
	}
}

// upper is the full mapping of Unicode, in which some letters become two.
func upper(s string) string { return cases.Upper(language.Und).String(s) }

func capitalize(t Text) Text {
	_, n := utf8.DecodeRuneInString(t.s)
	return concat(t.slice(0, n).mapped(upper), t.slice(n, len(t.s)).mapped(strings.ToLower))
}

// title makes the first letter of each word large.
func title(t Text) Text {
	start := true
	change := func(r rune) rune {
		if strings.ContainsRune("-([{<", r) || isSpace(r) {
			start = true
			return r
		}
		if start {
			start = false
			return unicode.ToUpper(r)
		}
		return unicode.ToLower(r)
	}
	return t.mapped(func(piece string) string { return strings.Map(change, piece) })
}

func filterAbs(e *evaluator, v Value, a args) Value {
	if i, ok := integer(v); ok {
		return max(i, -i)
	}
	f, ok := v.(float64)
	if !ok {
		e.fail("%s has no absolute value", kindName(v))
	}
	return math.Abs(f)
}

func filterDefault(e *evaluator, v Value, a args) Value {
	otherwise, ok := a.optional(0, "default_value")
	if !ok {
		otherwise = Text{}
	}
	ifFalse, _ := a.optional(1, "boolean")
	if _, missing := v.(undefined); missing || truth(ifFalse) && !truth(v) {
		return otherwise
	}
	return v
}

func filterDictsort(e *evaluator, v Value, a args) Value {
	d, ok := v.(*Dict)
	if !ok {
		e.fail("%s cannot be sorted as a dictionary", kindName(v))
	}
	out := e.pairs(d)
	by := 0
	if v, _ := a.optional(1, "by"); equal(v, Text{s: "value"}) {
		by = 1
	}
	sensitive, _ := a.optional(0, "case_sensitive")
	out.Items = e.sorted(out.Items, func(v Value) Value { return foldCase(v.(*List).Items[by], truth(sensitive)) }, false)
	if r, _ := a.optional(2, "reverse"); truth(r) {
		slices.Reverse(out.Items)
	}
	return out
}

// foldCase is what to sort by: texts without regard to case unless it matters.
func foldCase(v Value, sensitive bool) Value {
	if t, ok := v.(Text); ok && !sensitive {
		return Text{s: strings.ToLower(t.s)}
	}
	return v
}

var htmlEscaper = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "'", "&#39;", `"`, "&#34;")

func filterEscape(e *evaluator, v Value, a args) Value {
	return e.made(str(v, e.here()).mapped(htmlEscaper.Replace))
}

func filterFirst(e *evaluator, v Value, a args) Value {
	items := e.items(v)
	if len(items) == 0 {
		return undefined{"there is no first item"}
	}
	return items[0]
}

func filterLast(e *evaluator, v Value, a args) Value {
	items := e.items(v)
	if len(items) == 0 {
		return undefined{"there is no last item"}
	}
	return items[len(items)-1]
}

func filterFloat(e *evaluator, v Value, a args) Value {
	if f, ok := number(v); ok {
		return f
	}
	if t, ok := v.(Text); ok {
		if f, err := strconv.ParseFloat(strings.TrimFunc(t.s, isSpace), 64); err == nil {
			return f
		}
	}
	if otherwise, ok := a.optional(0, "default"); ok {
		return otherwise
	}
	return 0.0
}

func filterInt(e *evaluator, v Value, a args) Value {
	base := e.intArgument(a, 1, "base", 10)
	switch v := v.(type) {
	case float64:
		if !math.IsNaN(v) && math.Abs(v) < 1<<63 {
			return int64(v)
		}
	case Text:
		s := strings.TrimFunc(v.s, isSpace)
		if i, err := strconv.ParseInt(s, base, 64); err == nil && base >= 2 && base <= 36 {
			return i
		}
		if f, err := strconv.ParseFloat(s, 64); err == nil && math.Abs(f) < 1<<63 {
			return int64(f)
		}
	default:
		if i, ok := integer(v); ok {
			return i
		}
	}
	if otherwise, ok := a.optional(0, "default"); ok {
		return otherwise
	}
	return int64(0)
}

func filterIndent(e *evaluator, v Value, a args) Value {
	t := str(v, e.here())
	width, ok := a.optional(0, "width")
	if !ok {
		width = int64(4)
	}
	by, ok := width.(Text)
	if !ok {
		by = text(strings.Repeat(" ", int(max(0, min(1000, e.integer(width))))), e.here())
	}
	first, _ := a.optional(1, "first")
	blank, _ := a.optional(2, "blank")
	var b textBuilder
	for i, line := range t.split("\n", -1) {
		if i > 0 {
			b.add("\n", line.origin(e.here()))
		}
		if i == 0 && truth(first) || i > 0 && (line.s != "" || truth(blank)) {
			b.append(e.made(by))
		}
		b.append(line)
	}
	return e.made(b.text())
}

func filterItems(e *evaluator, v Value, a args) Value {
	if _, missing := v.(undefined); missing {
		return &List{}
	}
	d, ok := v.(*Dict)
	if !ok {
		e.fail("%s has no items: it is not a dictionary", kindName(v))
	}
	return e.pairs(d)
}

// pairs is a list of (key, value) tuples.
func (e *evaluator) pairs(d *Dict) *List {
	out := &List{}
	for _, k := range d.keys {
		e.step()
		v, _ := d.get(k)
		out.Items = append(out.Items, &List{Items: []Value{k, v}, tuple: true})
	}
	return out
}

func filterJoin(e *evaluator, v Value, a args) Value {
	sep := Text{}
	if d, ok := a.optional(0, "d"); ok {
		sep = str(d, e.here())
	}
	attribute, byAttribute := a.optional(1, "attribute")
	var b textBuilder
	for i, item := range e.items(v) {
		e.step()
		if i > 0 {
			b.append(e.made(sep))
		}
		if byAttribute && attribute != nil {
			item = e.path(item, attribute)
		}
		b.append(e.made(str(item, e.here())))
	}
	return b.text()
}

// path follows "a.b.0" from v.
func (e *evaluator) path(v, path Value) Value {
	t, ok := path.(Text)
	if !ok {
		return e.index(v, path)
	}
	for part := range strings.SplitSeq(t.s, ".") {
		if i, err := strconv.ParseInt(part, 10, 64); err == nil {
			v = e.index(v, i)
		} else {
			v = e.index(v, Text{s: part})
		}
	}
	return v
}

func filterLength(e *evaluator, v Value, a args) Value {
	switch v := v.(type) {
	case Text:
		return int64(utf8.RuneCountInString(v.s))
	case *List:
		return int64(len(v.Items))
	case *Dict:
		return int64(len(v.keys))
	case undefined:
		return int64(0)
	}
	e.fail("%s has no length", kindName(v))
	return nil
}

func filterMap(e *evaluator, v Value, a args) Value {
	out := &List{}
	attribute, byAttribute := a.optional(1<<20, "attribute")
	if byAttribute {
		otherwise, hasDefault := a.optional(1<<20, "default")
		for _, item := range e.items(v) {
			e.step()
			got := e.path(item, attribute)
			if _, missing := got.(undefined); missing && hasDefault {
				got = otherwise
			}
			out.Items = append(out.Items, got)
		}
		return out
	}
	name := e.textArgument(a, 0, "filter")
	f, ok := filters[name.s]
	if !ok {
		e.fail("there is no filter %q", name.s)
	}
	rest := args{a.positional[1:], a.names, a.keyword}
	for _, item := range e.items(v) {
		e.step()
		out.Items = append(out.Items, f(e, item, rest))
	}
	return out
}

// choose is select, reject, selectattr and rejectattr.
func (e *evaluator) choose(v Value, a args, byAttribute, keep bool) Value {
	out := &List{}
	positional := a.positional
	var attribute Value
	if byAttribute {
		attribute = e.argument(a, 0, "attribute")
		positional = positional[1:]
	}
	test := func(e *evaluator, v Value, a args) bool { return truth(v) }
	if len(positional) > 0 {
		name, _ := positional[0].(Text)
		var ok bool
		if test, ok = tests[name.s]; !ok {
			e.fail("there is no test %q", name.s)
		}
		positional = positional[1:]
	}
	for _, item := range e.items(v) {
		e.step()
		subject := item
		if byAttribute {
			subject = e.path(item, attribute)
		}
		if test(e, subject, args{positional, a.names, a.keyword}) == keep {
			out.Items = append(out.Items, item)
		}
	}
	return out
}

func (e *evaluator) extreme(v Value, a args, sign int) Value {
	attribute, byAttribute := a.optional(1, "attribute")
	sensitive, _ := a.optional(0, "case_sensitive")
	key := func(v Value) Value {
		if byAttribute {
			v = e.path(v, attribute)
		}
		return foldCase(v, truth(sensitive))
	}
	items := e.items(v)
	if len(items) == 0 {
		return undefined{"there is no item"}
	}
	best := items[0]
	for _, item := range items[1:] {
		e.step()
		order, ok := compare(key(item), key(best))
		if !ok {
			e.fail("%s and %s cannot be ordered", kindName(item), kindName(best))
		}
		if order*sign > 0 {
			best = item
		}
	}
	return best
}

func filterReplace(e *evaluator, v Value, a args) Value {
	old, with := e.textArgument(a, 0, "old"), e.textArgument(a, 1, "new")
	return e.replace(str(v, e.here()), old, with, e.intArgument(a, 2, "count", -1))
}

// replace counts the text before making it.
func (e *evaluator) replace(t, old, with Text, limit int) Value {
	n := strings.Count(t.s, old.s)
	if limit >= 0 {
		n = min(n, limit)
	}
	if n > 0 && len(with.s) > maxOutput/n {
		e.fail("the template makes too much text: more than %d bytes", maxOutput)
	}
	return e.made(t.replace(old.s, with, limit))
}

func filterReverse(e *evaluator, v Value, a args) Value {
	items := slices.Clone(e.items(v))
	slices.Reverse(items)
	if _, ok := v.(Text); ok {
		parts := make([]Text, len(items))
		for i := range items {
			parts[i] = items[i].(Text)
		}
		return concat(parts...)
	}
	return &List{Items: items}
}

func filterRound(e *evaluator, v Value, a args) Value {
	f, ok := number(v)
	if !ok {
		e.fail("%s cannot be rounded", kindName(v))
	}
	scale := math.Pow(10, float64(e.intArgument(a, 0, "precision", 0)))
	method, _ := a.optional(1, "method")
	switch m, _ := method.(Text); m.s {
	case "ceil":
		return math.Ceil(f*scale) / scale
	case "floor":
		return math.Floor(f*scale) / scale
	}
	return math.RoundToEven(f*scale) / scale
}

func filterSort(e *evaluator, v Value, a args) Value {
	reverse, _ := a.optional(0, "reverse")
	sensitive, _ := a.optional(1, "case_sensitive")
	attribute, byAttribute := a.optional(2, "attribute")
	return &List{Items: e.sorted(e.items(v), func(v Value) Value {
		if byAttribute {
			v = e.path(v, attribute)
		}
		return foldCase(v, truth(sensitive))
	}, truth(reverse))}
}

// sorted is a stable sort by key, which may be nil.
func (e *evaluator) sorted(items []Value, key func(Value) Value, reverse bool) []Value {
	if key == nil {
		key = func(v Value) Value { return v }
	}
	out := slices.Clone(items)
	slices.SortStableFunc(out, func(a, b Value) int {
		e.step()
		order, ok := compare(key(a), key(b))
		if !ok {
			e.fail("%s and %s cannot be ordered", kindName(a), kindName(b))
		}
		if reverse {
			return -order
		}
		return order
	})
	return out
}

func filterSum(e *evaluator, v Value, a args) Value {
	attribute, byAttribute := a.optional(0, "attribute")
	var sum Value = int64(0)
	if start, ok := a.optional(1, "start"); ok {
		sum = start
	}
	for _, item := range e.items(v) {
		e.step()
		if byAttribute && attribute != nil {
			item = e.path(item, attribute)
		}
		sum = e.arithmetic("+", sum, item)
	}
	return sum
}

// filterToJSON takes the parameters of json.dumps; the first is indent. ensure_ascii is off unless asked
// for, as model libraries have it.
func filterToJSON(e *evaluator, v Value, a args) Value {
	style := jsonStyle{item: ", ", key: ": "}
	if ascii, ok := a.optional(1<<20, "ensure_ascii"); ok {
		style.ascii = truth(ascii)
	}
	if sort, ok := a.optional(1<<20, "sort_keys"); ok {
		style.sortKeys = truth(sort)
	}
	switch indent, _ := a.optional(0, "indent"); indent := indent.(type) {
	case nil:
	case Text:
		style.indent, style.item = indent.s, ","
	default:
		style.indent, style.item = strings.Repeat(" ", int(max(0, min(64, e.integer(indent))))), ","
	}
	if seps, ok := a.optional(1<<20, "separators"); ok && seps != nil {
		pair := e.items(seps)
		if len(pair) != 2 {
			e.fail("separators must be two strings")
		}
		style.item, style.key = str(pair[0], Origin{}).s, str(pair[1], Origin{}).s
	}
	var b textBuilder
	writeJSON(e, &b, v, e.here(), style, 0)
	return e.made(b.text())
}

func filterTrim(e *evaluator, v Value, a args) Value {
	return strip(e, str(v, e.here()), a, true, true)
}

// strip cuts white space, or the characters given, off the ends.
func strip(e *evaluator, t Text, a args, left, right bool) Value {
	cut := isSpace
	if chars, ok := a.optional(0, "chars"); ok && chars != nil {
		set := e.textArgument(a, 0, "chars").s
		cut = func(r rune) bool { return strings.ContainsRune(set, r) }
	}
	return t.trim(left, right, cut)
}

func filterUnique(e *evaluator, v Value, a args) Value {
	sensitive, _ := a.optional(0, "case_sensitive")
	attribute, byAttribute := a.optional(1, "attribute")
	out := &List{}
	seen := newDict(Origin{})
	for _, item := range e.items(v) {
		e.step()
		key := item
		if byAttribute && attribute != nil {
			key = e.path(item, attribute)
		}
		key = foldCase(key, truth(sensitive))
		if _, dup := seen.get(key); !dup {
			seen.set(key, true)
			out.Items = append(out.Items, item)
		}
	}
	return out
}

func testCallable(e *evaluator, v Value, a args) bool {
	switch v := v.(type) {
	case *function:
		return true
	case *loopValue:
		return v.again != nil
	}
	return false
}

func testDivisible(e *evaluator, v Value, a args) bool {
	by := e.integer(e.argument(a, 0, "num"))
	if by == 0 {
		e.fail("division by zero")
	}
	return e.integer(v)%by == 0
}

func comparisonTest(op string) testFunc {
	return func(e *evaluator, v Value, a args) bool { return e.compare(op, v, e.argument(a, 0, "other")) }
}

// cased reports whether s has letters with case, and none that is unwanted.
func cased(s string, unwanted func(rune) bool) bool {
	return strings.IndexFunc(s, unwanted) < 0 && strings.IndexFunc(s, func(r rune) bool {
		return unicode.IsUpper(r) || unicode.IsLower(r)
	}) >= 0
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
	return kindName(v) == kindName(other) && equal(v, other)
}

func callDict(e *evaluator, a args) Value {
	d := newDict(Origin{})
	if len(a.positional) > 0 {
		from, ok := a.positional[0].(*Dict)
		if !ok {
			e.fail("dict can copy dictionaries only")
		}
		for _, k := range from.keys {
			v, _ := from.get(k)
			d.set(k, v)
		}
	}
	for i, name := range a.names {
		d.set(text(name, e.here()), a.keyword[i])
	}
	return d
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
	format := e.textArgument(a, 0, "format").s
	var b strings.Builder
	at := now()
	for i := 0; i < len(format); i++ {
		if format[i] != '%' || i+1 == len(format) {
			b.WriteByte(format[i])
			continue
		}
		i++
		switch layout, ok := strftimeVerbs[format[i]]; {
		case format[i] == '-' && i+1 < len(format): // without leading zeros
			i++
			b.WriteString(strings.TrimLeft(at.Format(strftimeVerbs[format[i]]), "0"))
		case format[i] == 'j':
			fmt.Fprintf(&b, "%03d", at.YearDay())
		case format[i] == '%':
			b.WriteByte('%')
		case ok:
			b.WriteString(at.Format(layout))
		default:
			e.fail("unknown conversion %%%c in strftime_now", format[i])
		}
	}
	return text(b.String(), e.here())
}

// method is the bound method of that name, or nil. Only methods that change nothing exist.
func method(v Value, name string) Value {
	switch v := v.(type) {
	case Text:
		if m, ok := textMethods[name]; ok {
			return &function{name, func(e *evaluator, a args) Value { return m(e, v, a) }}
		}
	case *Dict:
		if m, ok := dictMethods[name]; ok {
			return &function{name, func(e *evaluator, a args) Value { return m(e, v, a) }}
		}
	case *List:
		if m, ok := listMethods[name]; ok {
			return &function{name, func(e *evaluator, a args) Value { return m(e, v, a) }}
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
	for _, v := range affixes {
		affix, ok := v.(Text)
		if !ok {
			e.fail("a string can begin or end with a string only, not %s", kindName(v))
		}
		if has(t.s, affix.s) {
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
		e.steps += strings.Count(t.s, s.s)
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
			out.Items = append(out.Items, rest.trim(false, i >= 0, isSpace))
			break
		}
		out.Items = append(out.Items, rest.slice(0, i))
		rest = rest.slice(i, len(rest.s)).trim(true, false, isSpace)
	}
	return out
}

func textSplitLines(e *evaluator, t Text, a args) Value {
	out := &List{}
	if t.s == "" {
		return out
	}
	for _, line := range t.split("\n", -1) {
		e.step()
		out.Items = append(out.Items, line.trim(false, true, func(r rune) bool { return r == '\r' }))
	}
	if n := len(out.Items); out.Items[n-1].(Text).s == "" {
		out.Items = out.Items[:n-1]
	}
	return out
}

func dictValues(e *evaluator, d *Dict, a args) Value {
	out := &List{}
	for _, k := range d.keys {
		v, _ := d.get(k)
		out.Items = append(out.Items, v)
	}
	return out
}
