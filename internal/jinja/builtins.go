package jinja

import (
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/cases"
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
	filters = allFilters()
	tests = allTests()
	tests["test"] = named(tests)
	for name, op := range map[string]string{"==": "eq", "!=": "ne", "<": "lt", "<=": "le", ">": "gt", ">=": "ge"} {
		tests[name] = tests[op]
	}
	globals = allGlobals()
	textMethods = allTextMethods()
	dictMethods = allDictMethods()
	listMethods = allListMethods()
}

// allFilters is the table of filters.
func allFilters() map[string]filterFunc {
	return map[string]filterFunc{
		"abs":         filterAbs,
		"attr":        filterAttr,
		"batch":       filterBatch,
		"capitalize":  textFilter(capitalize),
		"center":      func(e *evaluator, v Value, a args) Value { return pad(e, str(v, e.here()), a, 80, 2) },
		"count":       filterLength,
		"d":           filterDefault,
		"default":     filterDefault,
		"dictsort":    filterDictsort,
		"e":           filterEscape,
		"escape":      filterEscape,
		"first":       filterFirst,
		"float":       filterFloat,
		"forceescape": filterEscape,
		"format":      filterFormat,
		"groupby":     filterGroupBy,
		"indent":      filterIndent,
		"int":         filterInt,
		"items":       filterItems,
		"join":        filterJoin,
		"last":        filterLast,
		"length":      filterLength,
		"list":        func(e *evaluator, v Value, a args) Value { return &List{Items: slices.Clone(e.items(v))} },
		"lower":       textFilter(lower),
		"map":         filterMap,
		"max":         func(e *evaluator, v Value, a args) Value { return e.extreme(v, a, 1) },
		"min":         func(e *evaluator, v Value, a args) Value { return e.extreme(v, a, -1) },
		"reject":      func(e *evaluator, v Value, a args) Value { return e.choose(v, a, false, false) },
		"rejectattr":  func(e *evaluator, v Value, a args) Value { return e.choose(v, a, true, false) },
		"replace":     filterReplace,
		"reverse":     filterReverse,
		"round":       filterRound,
		"safe":        func(e *evaluator, v Value, a args) Value { return v },
		"select":      func(e *evaluator, v Value, a args) Value { return e.choose(v, a, false, true) },
		"selectattr":  func(e *evaluator, v Value, a args) Value { return e.choose(v, a, true, true) },
		"slice":       filterSlice,
		"sort":        filterSort,
		"string":      func(e *evaluator, v Value, a args) Value { return str(v, e.here()) },
		"sum":         filterSum,
		"title":       textFilter(titleFilter),
		"tojson":      filterToJSON,
		"trim":        filterTrim,
		"truncate":    filterTruncate,
		"unique":      filterUnique,
		"upper":       textFilter(upper),
		"urlencode":   filterURLEncode,
		"wordcount":   filterWordCount,
	}
}

// allTests is the table of tests, but for those that are operators.
func allTests() map[string]testFunc {
	return map[string]testFunc{
		"boolean":     func(e *evaluator, v Value, a args) bool { _, ok := v.(bool); return ok },
		"callable":    testCallable,
		"defined":     func(e *evaluator, v Value, a args) bool { _, ok := v.(undefined); return !ok },
		"divisibleby": testDivisible,
		"equalto":     func(e *evaluator, v Value, a args) bool { return e.equal(v, e.argument(a, 0, "other")) },
		"eq":          func(e *evaluator, v Value, a args) bool { return e.equal(v, e.argument(a, 0, "other")) },
		"escaped":     func(e *evaluator, v Value, a args) bool { return false }, // nothing is marked as safe here
		"even":        func(e *evaluator, v Value, a args) bool { return e.half(v) == 0 },
		"false":       func(e *evaluator, v Value, a args) bool { return v == Value(false) },
		"filter":      named(filters),
		"float":       func(e *evaluator, v Value, a args) bool { _, ok := v.(float64); return ok },
		"ge":          comparisonTest(">="),
		"gt":          comparisonTest(">"),
		"greaterthan": comparisonTest(">"),
		"in":          func(e *evaluator, v Value, a args) bool { return e.contains(e.argument(a, 0, "seq"), v) },
		"integer": func(e *evaluator, v Value, a args) bool {
			_, isBool := v.(bool)
			_, ok := wholeNumber(v)
			return ok && !isBool
		},
		"iterable":  testIterable,
		"le":        comparisonTest("<="),
		"lessthan":  comparisonTest("<"),
		"lower":     func(e *evaluator, v Value, a args) bool { return cased(str(v, Origin{}).s, isLower) },
		"lt":        comparisonTest("<"),
		"mapping":   func(e *evaluator, v Value, a args) bool { _, ok := v.(*Dict); return ok },
		"ne":        func(e *evaluator, v Value, a args) bool { return !e.equal(v, e.argument(a, 0, "other")) },
		"none":      func(e *evaluator, v Value, a args) bool { return v == nil },
		"number":    func(e *evaluator, v Value, a args) bool { _, ok := number(v); return ok },
		"odd":       func(e *evaluator, v Value, a args) bool { return e.half(v) == 1 },
		"sameas":    testSame,
		"sequence":  testIterable,
		"string":    func(e *evaluator, v Value, a args) bool { _, ok := v.(Text); return ok },
		"true":      func(e *evaluator, v Value, a args) bool { return v == Value(true) },
		"undefined": func(e *evaluator, v Value, a args) bool { _, ok := v.(undefined); return ok },
		"upper":     func(e *evaluator, v Value, a args) bool { return cased(str(v, Origin{}).s, isUpper) },
	}
}

// allGlobals is the table of functions.
func allGlobals() *frame {
	return &frame{vars: map[string]Value{
		"cycler":          newFunction("cycler", callCycler),
		"dict":            newFunction("dict", callDict),
		"joiner":          newFunction("joiner", callJoiner),
		"namespace":       newFunction("namespace", callNamespace),
		"raise_exception": newFunction("raise_exception", callRaise),
		"range":           newFunction("range", callRange),
		"strftime_now":    newFunction("strftime_now", callStrftime),
	}}
}

// allTextMethods is the table of methods of texts.
func allTextMethods() map[string]func(e *evaluator, t Text, a args) Value {
	return map[string]func(e *evaluator, t Text, a args) Value{
		"capitalize": func(e *evaluator, t Text, a args) Value { return capitalize(t) },
		"casefold":   func(e *evaluator, t Text, a args) Value { return e.made(t.mapped(cases.Fold().String)) },
		"center": func(e *evaluator, t Text, a args) Value {
			e.argument(a, 0, "width")
			return pad(e, t, a, 0, 2)
		},
		"count": func(e *evaluator, t Text, a args) Value {
			return e.count(t, a)
		},
		"endswith":   func(e *evaluator, t Text, a args) Value { return e.affix(t, a, strings.HasSuffix) },
		"expandtabs": textExpandTabs,
		"find":       func(e *evaluator, t Text, a args) Value { return e.find(t, a, strings.Index) },
		"format":     textFormat,
		"index":      func(e *evaluator, t Text, a args) Value { return e.mustFind(e.find(t, a, strings.Index)) },
		"isalnum":    func(e *evaluator, t Text, a args) Value { return every(t.s, isAlnum) },
		"isalpha":    func(e *evaluator, t Text, a args) Value { return every(t.s, unicode.IsLetter) },
		"isdecimal":  func(e *evaluator, t Text, a args) Value { return every(t.s, unicode.IsDigit) },
		"isdigit":    func(e *evaluator, t Text, a args) Value { return every(t.s, isDigit) },
		"isascii": func(e *evaluator, t Text, a args) Value {
			return strings.IndexFunc(t.s, func(r rune) bool { return r > unicode.MaxASCII }) < 0
		},
		"isidentifier": func(e *evaluator, t Text, a args) Value { return isIdentifier(t.s) },
		"islower":      func(e *evaluator, t Text, a args) Value { return cased(t.s, isLower) },
		"isnumeric":    func(e *evaluator, t Text, a args) Value { return every(t.s, unicode.IsNumber) },
		"isspace":      func(e *evaluator, t Text, a args) Value { return every(t.s, isSpace) },
		"isprintable":  func(e *evaluator, t Text, a args) Value { return t.s == "" || every(t.s, isPrintable) },
		"istitle":      func(e *evaluator, t Text, a args) Value { return isTitle(t.s) },
		"isupper":      func(e *evaluator, t Text, a args) Value { return cased(t.s, isUpper) },
		"join": func(e *evaluator, t Text, a args) Value {
			items := e.items(e.argument(a, 0, "iterable"))
			for _, item := range items {
				if _, ok := item.(Text); !ok {
					e.fail("%s cannot be joined: only strings can", kindName(item))
				}
			}
			return filterJoin(e, &List{Items: items}, args{positional: []Value{t}})
		},
		"ljust":     func(e *evaluator, t Text, a args) Value { return pad(e, t, a, 0, 0) },
		"lower":     func(e *evaluator, t Text, a args) Value { return e.made(lower(t)) },
		"lstrip":    func(e *evaluator, t Text, a args) Value { return strip(e, t, a, true, false) },
		"partition": func(e *evaluator, t Text, a args) Value { return partition(e, t, a, strings.Index) },
		"removeprefix": func(e *evaluator, t Text, a args) Value {
			return t.slice(len(t.s)-len(strings.TrimPrefix(t.s, e.textArgument(a, 0, "prefix").s)), len(t.s))
		},
		"removesuffix": func(e *evaluator, t Text, a args) Value {
			return t.slice(0, len(strings.TrimSuffix(t.s, e.textArgument(a, 0, "suffix").s)))
		},
		"replace": func(e *evaluator, t Text, a args) Value {
			return e.replace(t, e.textArgument(a, 0, "old"), e.textArgument(a, 1, "new"), e.intArgument(a, 2, "count", -1))
		},
		"rfind":      func(e *evaluator, t Text, a args) Value { return e.find(t, a, strings.LastIndex) },
		"rindex":     func(e *evaluator, t Text, a args) Value { return e.mustFind(e.find(t, a, strings.LastIndex)) },
		"rjust":      func(e *evaluator, t Text, a args) Value { return pad(e, t, a, 0, 1) },
		"rpartition": func(e *evaluator, t Text, a args) Value { return partition(e, t, a, strings.LastIndex) },
		"rsplit":     textSplitFromRight,
		"rstrip":     func(e *evaluator, t Text, a args) Value { return strip(e, t, a, false, true) },
		"split":      textSplit,
		"splitlines": textSplitLines,
		"startswith": func(e *evaluator, t Text, a args) Value { return e.affix(t, a, strings.HasPrefix) },
		"strip":      func(e *evaluator, t Text, a args) Value { return strip(e, t, a, true, true) },
		"swapcase":   func(e *evaluator, t Text, a args) Value { return e.made(swapCase(t)) },
		"title":      func(e *evaluator, t Text, a args) Value { return titleMethod(t) },
		"upper":      func(e *evaluator, t Text, a args) Value { return e.made(upper(t)) },
		"zfill":      textZeroFill,
	}
}

// allDictMethods is the table of methods of dicts.
func allDictMethods() map[string]func(e *evaluator, d *Dict, a args) Value {
	return map[string]func(e *evaluator, d *Dict, a args) Value{
		"copy": func(e *evaluator, d *Dict, a args) Value { return callDict(e, args{positional: []Value{d}}) },
		"get": func(e *evaluator, d *Dict, a args) Value {
			if v, ok := d.get(e.argument(a, 0, "key")); ok {
				return v
			}
			otherwise, _ := a.optional(1, "default")
			return otherwise
		},
		"items": func(e *evaluator, d *Dict, a args) Value {
			out := e.pairs(d)
			out.view = "dict_items"
			return out
		},
		"keys": func(e *evaluator, d *Dict, a args) Value {
			return &List{Items: slices.Clone(d.keys), view: "dict_keys"}
		},
		"values": dictValues,
	}
}

// allListMethods is the table of methods of lists.
func allListMethods() map[string]func(e *evaluator, l *List, a args) Value {
	return map[string]func(e *evaluator, l *List, a args) Value{
		"copy": func(e *evaluator, l *List, a args) Value {
			return &List{Items: slices.Clone(l.Items), origin: l.origin}
		},
		"count": func(e *evaluator, l *List, a args) Value {
			n := int64(0)
			for _, item := range l.Items {
				if e.equal(item, e.argument(a, 0, "value")) {
					n++
				}
			}
			return n
		},
		"index": func(e *evaluator, l *List, a args) Value {
			v := e.argument(a, 0, "value")
			for i, item := range l.Items {
				if e.equal(item, v) {
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
		if n.s == name {
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
