package jinja

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// textFilter makes a filter of a function on texts.
func textFilter(f func(Text) Text) filterFunc {
	return func(e *evaluator, v Value, a args) Value {
		t := str(v, e.here())
		e.work(len(t.s) / 64)
		return e.made(f(t))
	}
}

// filterWordCount counts runs of letters, digits and underscores.
func filterWordCount(e *evaluator, v Value, a args) Value {
	t := str(v, e.here())
	e.work(len(t.s) / 32)
	return int64(len(strings.FieldsFunc(t.s, func(r rune) bool { return r != '_' && !isAlnum(r) })))
}

func filterAttr(e *evaluator, v Value, a args) Value {
	name := e.textArgument(a, 0, "name")
	if _, isDict := v.(*Dict); isDict { // attributes only, not items
		if m := method(v, name.s); m != nil {
			return m
		}
		return undefined{fmt.Sprintf("%s has no attribute %q", kindName(v), name.s)}
	}
	return e.attr(v, name.s)
}

// filterBatch makes lists of n items each; the last is filled up if there is something to fill it with.
func filterBatch(e *evaluator, v Value, a args) Value {
	n := e.intArgument(a, 0, "linecount", 0)
	if n < 1 {
		e.fail("a batch needs a size of 1 or more")
	}
	fill, filled := a.optional(1, "fill_with")
	out := &List{}
	for batch := range slices.Chunk(e.items(v), n) {
		e.step()
		batch = slices.Clone(batch)
		for filled && fill != nil && len(batch) < n {
			e.step()
			batch = append(batch, fill)
		}
		out.Items = append(out.Items, &List{Items: batch})
	}
	return out
}

// filterSlice makes n lists of items, the first of which have one more if they do not come out even.
func filterSlice(e *evaluator, v Value, a args) Value {
	n := e.intArgument(a, 0, "slices", 0)
	if n < 1 || n > maxRange {
		e.fail("the number of slices must be from 1 to %d", maxRange)
	}
	fill, filled := a.optional(1, "fill_with")
	items := e.items(v)
	size, longer := len(items)/n, len(items)%n
	out := &List{}
	for i := range n {
		e.step()
		take := size
		if i < longer {
			take++
		}
		part := slices.Clone(items[:take])
		items = items[take:]
		if filled && fill != nil && i >= longer {
			part = append(part, fill)
		}
		out.Items = append(out.Items, &List{Items: part})
	}
	return out
}

func filterFormat(e *evaluator, v Value, a args) Value {
	var values Value = &List{Items: a.positional, tuple: true}
	if len(a.names) > 0 {
		values = callDict(e, args{names: a.names, keyword: a.keyword})
	}
	return e.made(e.format(str(v, e.here()), values))
}

// filterGroupBy makes (grouper, list) pairs of the items that agree in an attribute, sorted by it.
func filterGroupBy(e *evaluator, v Value, a args) Value {
	attribute := e.argument(a, 0, "attribute")
	otherwise, hasDefault := a.optional(1, "default")
	sensitive, _ := a.optional(2, "case_sensitive")
	of := func(v Value) Value {
		got := e.path(v, attribute)
		if _, missing := got.(undefined); missing && hasDefault {
			return otherwise
		}
		return got
	}
	key := func(v Value) Value { return foldCase(of(v), truth(sensitive)) }
	out := &List{}
	var last Value
	for _, item := range e.sorted(e.items(v), key, false) {
		if n := len(out.Items); n == 0 || !e.equal(key(item), last) {
			last = key(item)
			out.Items = append(out.Items, &List{Items: []Value{of(item), &List{}}, tuple: true, fields: []string{"grouper", "list"}})
		}
		members := out.Items[len(out.Items)-1].(*List).Items[1].(*List)
		members.Items = append(members.Items, item)
	}
	return out
}

func filterAbs(e *evaluator, v Value, a args) Value {
	if i, ok := wholeNumber(v); ok {
		return e.wholeOf(i.Abs(i))
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
	switch v, given := a.optional(1, "by"); {
	case !given || e.equal(v, Text{s: "key"}):
	case e.equal(v, Text{s: "value"}):
		by = 1
	default:
		e.fail("a dictionary is sorted by its \"key\" or its \"value\"")
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
	v = bare(v)
	if t, ok := v.(Text); ok && !sensitive {
		return lower(t)
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
	switch v := v.(type) {
	case Text:
		f, err := strconv.ParseFloat(strings.TrimFunc(v.s, isSpace), 64)
		if err == nil || errors.Is(err, strconv.ErrRange) { // what is too large is infinite
			return f
		}
	case undefined:
		e.fail("%s, so it is no number", v.name)
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
		if i, ok := truncated(v); ok {
			return e.wholeOf(i)
		}
	case Text:
		s := strings.TrimFunc(v.s, isSpace)
		digits := s
		if base == 16 {
			digits = strings.TrimPrefix(strings.TrimPrefix(s, "0x"), "0X")
		}
		if base >= 2 && base <= 36 && len(s) < maxBits/4 {
			if i, ok := new(big.Int).SetString(strings.ReplaceAll(digits, "_", ""), base); ok {
				return e.wholeOf(i)
			}
		}
		if f, err := strconv.ParseFloat(s, 64); err == nil {
			if i, ok := truncated(f); ok {
				return e.wholeOf(i)
			}
		}
	case undefined:
		e.fail("%s, so it is no number", v.name)
	default:
		if i, ok := wholeNumber(v); ok {
			return e.wholeOf(i)
		}
	}
	if otherwise, ok := a.optional(0, "default"); ok {
		return otherwise
	}
	return int64(0)
}

// filterIndent puts white space in front of lines, which end in the same way afterwards.
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
	if truth(first) {
		b.append(e.made(by))
	}
	lines := splitLines(e, t, false)
	if t.s == "" || len(t.slice(len(t.s)-1, len(t.s)).trim(true, true, isLineEnd).s) == 0 {
		lines = append(lines, Text{}) // what is behind the last line's end
	}
	for i, line := range lines {
		if i > 0 {
			b.add("\n", line.origin(e.here()))
			if line.s != "" || truth(blank) {
				b.append(e.made(by))
			}
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
	if len(a.positional) == 0 {
		e.fail("the filter to map by is missing")
	}
	name := e.textArgument(a, 0, "filter")
	f, ok := filters[name.s]
	if !ok {
		e.fail("there is no filter %q", name.s)
	}
	rest := args{a.positional[1:], a.names, a.keyword}
	for _, item := range e.items(v) {
		e.step()
		if !printing[name.s] {
			item = bare(item)
		}
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
		if len(positional) == 0 {
			e.fail("the attribute to choose by is missing")
		}
		attribute, positional = positional[0], positional[1:]
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
		if test(e, bare(subject), args{positional, a.names, a.keyword}) == keep {
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
		order, ok := e.order(key(item), key(best))
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
	e.room(n * len(with.s)) // both are within bounds, so the product is too
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

// filterRound rounds to a number of decimals. An integer stays one, as in Python.
func filterRound(e *evaluator, v Value, a args) Value {
	precision := max(-400, min(400, e.intArgument(a, 0, "precision", 0)))
	method, _ := a.optional(1, "method")
	scale := math.Pow(10, float64(precision))
	f, ok := number(v)
	if !ok {
		e.fail("%s cannot be rounded", kindName(v))
	}
	switch m, _ := method.(Text); m.s {
	case "ceil":
		return math.Ceil(f*scale) / scale
	case "floor":
		return math.Floor(f*scale) / scale
	case "", "common":
	default:
		e.fail("the method of rounding is common, ceil or floor, not %q", m.s)
	}
	if i, ok := wholeNumber(v); ok {
		if precision >= 0 {
			return e.wholeOf(i)
		}
		return int64(math.RoundToEven(f*scale) / scale)
	}
	if precision < 0 {
		return math.RoundToEven(f*scale) / scale
	}
	// By way of the exact decimal, so that 2.675, which is a little less than it looks, becomes 2.67.
	f, err := strconv.ParseFloat(strconv.FormatFloat(f, 'f', precision, 64), 64)
	if err != nil {
		e.fail("%s cannot be rounded", kindName(v))
	}
	return f
}

// filterSort sorts by one attribute, or by several with commas between.
func filterSort(e *evaluator, v Value, a args) Value {
	reverse, _ := a.optional(0, "reverse")
	sensitive, _ := a.optional(1, "case_sensitive")
	attribute, byAttribute := a.optional(2, "attribute")
	key := func(v Value) Value { return foldCase(v, truth(sensitive)) }
	if t, ok := attribute.(Text); ok && strings.Contains(t.s, ",") {
		var paths []Text
		for part := range strings.SplitSeq(t.s, ",") {
			paths = append(paths, Text{s: part})
		}
		key = func(v Value) Value {
			keys := &List{}
			for _, p := range paths {
				keys.Items = append(keys.Items, foldCase(e.path(v, p), truth(sensitive)))
			}
			return keys
		}
	} else if byAttribute && attribute != nil {
		key = func(v Value) Value { return foldCase(e.path(v, attribute), truth(sensitive)) }
	}
	return &List{Items: e.sorted(e.items(v), key, truth(reverse))}
}

// sorted is a stable sort by key, which may be nil.
func (e *evaluator) sorted(items []Value, key func(Value) Value, reverse bool) []Value {
	if key == nil {
		key = func(v Value) Value { return v }
	}
	out := slices.Clone(items)
	slices.SortStableFunc(out, func(a, b Value) int {
		e.step()
		order, ok := e.order(key(a), key(b))
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
	style := jsonStyle{item: Text{s: ", "}, key: Text{s: ": "}}
	if ascii, ok := a.optional(1<<20, "ensure_ascii"); ok {
		style.ascii = truth(ascii)
	}
	if sort, ok := a.optional(1<<20, "sort_keys"); ok {
		style.sortKeys = truth(sort)
	}
	switch indent, _ := a.optional(0, "indent"); indent := bare(indent).(type) {
	case nil:
	case Text:
		style.lines, style.indent, style.item = true, indent, Text{s: ","}
	default:
		style.lines, style.item = true, Text{s: ","}
		style.indent = Text{s: strings.Repeat(" ", int(max(0, min(64, e.integer(indent)))))}
	}
	if seps, ok := a.optional(1<<20, "separators"); ok && seps != nil {
		pair := e.items(seps)
		if len(pair) != 2 {
			e.fail("separators must be two strings")
		}
		style.item, style.key = str(pair[0], e.here()), str(pair[1], e.here())
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

// filterTruncate shortens a text, at the end of a word unless told otherwise.
func filterTruncate(e *evaluator, v Value, a args) Value {
	t := str(v, e.here())
	length := e.intArgument(a, 0, "length", 255)
	kill, _ := a.optional(1, "killwords")
	end := text("...", e.here())
	if _, ok := a.optional(2, "end"); ok {
		end = e.textArgument(a, 2, "end")
	}
	leeway := e.intArgument(a, 3, "leeway", 5)
	room := length - utf8.RuneCountInString(end.s)
	if room < 0 || leeway < 0 {
		e.fail("a text cannot be shortened to %d characters that end with %q", length, end.s)
	}
	if utf8.RuneCountInString(t.s) <= length+leeway {
		return t
	}
	short := t.first(room)
	if !truth(kill) {
		if i := strings.LastIndexByte(short.s, ' '); i >= 0 {
			short = short.slice(0, i)
		}
	}
	return e.made(concat(short, end))
}

// filterURLEncode quotes a text for an address, or the pairs of a dictionary or a list for its query.
func filterURLEncode(e *evaluator, v Value, a args) Value {
	quoted := func(v Value, safe string) Text {
		return str(v, e.here()).mapped(func(piece string) string {
			var b strings.Builder
			for i := range len(piece) {
				c := piece[i]
				if 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || strings.IndexByte("_.-~"+safe, c) >= 0 {
					b.WriteByte(c)
				} else {
					fmt.Fprintf(&b, "%%%02X", c)
				}
			}
			return b.String()
		})
	}
	switch v := v.(type) {
	case *Dict, *List:
		pairs, ok := v.(*List)
		if d, isDict := v.(*Dict); isDict {
			pairs, ok = e.pairs(d), true
		}
		var b textBuilder
		for i, item := range pairs.Items {
			pair := e.items(item)
			if !ok || len(pair) != 2 {
				e.fail("a query is made of pairs of a name and a value")
			}
			if i > 0 {
				b.add("&", e.here())
			}
			b.append(quoted(pair[0], ""))
			b.add("=", e.here())
			b.append(quoted(pair[1], ""))
		}
		return e.made(b.text())
	}
	return e.made(quoted(v, "/"))
}
