package jinja

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"
)

// Bounds on one rendering, against templates that are broken or hostile. A step is a node evaluated, an item
// handled, or 512 bytes of text. What is given may be large, and then so may the work be.
const (
	maxSteps      = 150_000
	stepsPerValue = 100
	maxText       = 8 << 20 // bytes of text made, output included
	textPerByte   = 32
	maxNested     = 1000 // evaluations inside evaluations
)

// evaluator walks the tree. Errors unwind by panic with an *Error, as in the parser.
type evaluator struct {
	frame  *frame
	out    *textBuilder
	line   int // of the node being evaluated, for errors
	steps  int // left
	bytes  int // of text that may still be made
	nested int
	block  Text // the body of the filter block being evaluated
}

// frame is one level of variables.
type frame struct {
	vars   map[string]Value
	parent *frame
}

func (f *frame) lookup(name string) (Value, bool) {
	for ; f != nil; f = f.parent {
		if v, ok := f.vars[name]; ok {
			return v, true
		}
	}
	return nil, false
}

// args are the evaluated arguments of a call.
type args struct {
	positional []Value
	names      []Text // with their origins: what is expanded by ** has the names of a request
	keyword    []Value
}

// control is how a list of statements ended.
type control int

const (
	goOn control = iota
	continueLoop
	breakLoop
)

func (e *evaluator) recover(err *error) {
	switch r := recover().(type) {
	case nil:
	case *Error:
		*err = r
	default:
		panic(r)
	}
}

func (e *evaluator) fail(format string, args ...any) {
	panic(&Error{Line: e.line, Msg: fmt.Sprintf(format, args...)})
}

// work counts steps.
func (e *evaluator) work(steps int) {
	if e.steps -= steps; e.steps < 0 {
		e.fail("the template takes too long for what it was given")
	}
}

// step counts one step.
func (e *evaluator) step() {
	e.work(1)
}

// made counts text that was built.
func (e *evaluator) made(t Text) Text {
	e.room(len(t.s))
	e.work(len(t.s) / 512)
	return t
}

// room refuses to make more text than is left.
func (e *evaluator) room(bytes int) {
	if e.bytes -= bytes; e.bytes < 0 {
		e.fail("the template makes too much text for what it was given")
	}
}

// enter refuses values nested too deep.
func (e *evaluator) enter(depth int) {
	if depth > maxDepth {
		e.fail("a value is nested more than %d deep", maxDepth)
	}
}

// here is the origin of text that the current line makes.
func (e *evaluator) here() Origin { return Origin{Line: e.line} }

// push opens a scope, and returns what closes it.
func (e *evaluator) push(vars map[string]Value) func() {
	outer := e.frame
	e.frame = &frame{vars: vars, parent: outer}
	return func() { e.frame = outer }
}

// capture runs do with output going to a text of its own.
func (e *evaluator) capture(do func()) Text {
	outer := e.out
	e.out = &textBuilder{}
	do()
	t := e.out.text()
	e.out = outer
	return t
}

func (e *evaluator) print(t Text) { e.out.append(e.made(t)) }

func (e *evaluator) exec(list []node) control {
	if e.nested++; e.nested > maxNested {
		e.fail("the template calls itself more than %d deep", maxNested)
	}
	defer func() { e.nested-- }()
	for _, n := range list {
		e.step()
		e.line = n.at()
		if c := e.statement(n); c != goOn {
			return c
		}
	}
	return goOn
}

func (e *evaluator) statement(n node) control {
	switch n := n.(type) {
	case *dataNode:
		e.print(text(n.text, Origin{Line: n.at()}))
	case *printNode:
		v := e.raw(n.value)
		e.line = n.at()
		e.print(str(v, e.here()))
	case *ifNode:
		if truth(e.eval(n.cond)) {
			return e.exec(n.then)
		}
		return e.exec(n.else_)
	case *forNode:
		e.loop(n, e.eval(n.over), 0)
	case *loopControl:
		if n.exit {
			return breakLoop
		}
		return continueLoop
	case *setNode:
		e.assign(n.target, e.raw(n.value))
	case *setBlock:
		pop := e.push(map[string]Value{})
		var body Value = e.capture(func() { e.exec(n.body) })
		pop()
		if n.filter != nil {
			body = e.withBlock(body.(Text), n.filter)
		}
		e.assign(n.target, body)
	case *macroNode:
		e.frame.vars[n.name] = e.macro(n.name, &n.macro)
	case *callBlock:
		caller := e.macro("caller", &n.macro)
		a := e.arguments(n.call.arguments, e.raw)
		a.names = append(a.names, Text{s: "caller"})
		a.keyword = append(a.keyword, caller)
		e.print(str(e.call(e.eval(n.call.fn), a), e.here()))
	case *filterBlock:
		pop := e.push(map[string]Value{})
		body := e.capture(func() { e.exec(n.body) })
		pop()
		e.print(str(e.withBlock(body, n.filter), e.here()))
	case *withNode:
		vars := map[string]Value{}
		values := make([]Value, len(n.values))
		for i, v := range n.values {
			values[i] = e.raw(v)
		}
		defer e.push(vars)()
		for i, t := range n.names {
			e.assign(t, values[i])
		}
		return e.exec(n.body)
	case *scopeNode:
		defer e.push(map[string]Value{})()
		return e.exec(n.body)
	default:
		panic(fmt.Sprintf("jinja: statement %T", n))
	}
	return goOn
}

func (e *evaluator) withBlock(body Text, filter expr) Value {
	outer := e.block
	e.block = body
	defer func() { e.block = outer }()
	return e.eval(filter)
}

func (e *evaluator) assign(t target, v Value) {
	switch {
	case t.tuple != nil:
		items := e.items(v)
		if len(items) != len(t.tuple) {
			e.fail("%d values cannot be assigned to %d names", len(items), len(t.tuple))
		}
		for i, part := range t.tuple {
			e.assign(part, items[i])
		}
	case t.attr != "":
		ns, _ := e.frame.lookup(t.name)
		n, ok := ns.(*namespace)
		if !ok {
			e.fail("%s.%s cannot be set: only the attributes of a namespace can", t.name, t.attr)
		}
		n.attrs[t.attr] = v
	default:
		e.frame.vars[t.name] = v
	}
}

// loop runs a for statement over a value. depth is how deep a recursive loop is.
func (e *evaluator) loop(n *forNode, over Value, depth int) {
	all := e.items(over)
	items := all
	if n.cond != nil {
		items = nil
		for _, item := range all {
			pop := e.push(map[string]Value{})
			e.assign(n.target, item)
			if truth(e.eval(n.cond)) {
				items = append(items, item)
			}
			pop()
		}
	}
	l := &loopValue{items: items, depth: depth}
	if n.recursive {
		l.again = func(e *evaluator, v Value) Value {
			return e.capture(func() { e.loop(n, v, depth+1) })
		}
	}
	whole := false // whether a body ran to its end: if none did, the reference takes the else branch
	for i := range items {
		e.step()
		l.index = i
		pop := e.push(map[string]Value{"loop": l})
		e.assign(n.target, items[i])
		c := e.exec(n.body)
		pop()
		if c == breakLoop {
			break
		}
		whole = whole || c == goOn
	}
	if !whole {
		defer e.push(map[string]Value{})()
		e.exec(n.else_)
	}
}

// loopValue is the variable "loop".
type loopValue struct {
	items   []Value
	index   int
	depth   int
	again   func(e *evaluator, v Value) Value // for recursive loops
	changed []Value                           // the last arguments of loop.changed
}

func (l *loopValue) attr(e *evaluator, name string) (Value, bool) {
	n := len(l.items)
	at := func(i int, missing string) Value {
		if i < 0 || i >= n {
			return undefined{missing}
		}
		return l.items[i]
	}
	switch name {
	case "index":
		return int64(l.index + 1), true
	case "index0":
		return int64(l.index), true
	case "revindex":
		return int64(n - l.index), true
	case "revindex0":
		return int64(n - l.index - 1), true
	case "first":
		return l.index == 0, true
	case "last":
		return l.index == n-1, true
	case "length":
		return int64(n), true
	case "depth":
		return int64(l.depth + 1), true
	case "depth0":
		return int64(l.depth), true
	case "previtem":
		return at(l.index-1, "there is no previous item"), true
	case "nextitem":
		return at(l.index+1, "there is no next item"), true
	case "cycle":
		return newFunction("cycle", func(e *evaluator, a args) Value {
			if len(a.positional) == 0 {
				e.fail("loop.cycle needs something to cycle through")
			}
			return a.positional[l.index%len(a.positional)]
		}), true
	case "changed":
		return newFunction("changed", func(e *evaluator, a args) Value {
			same := l.changed != nil && e.equal(&List{Items: l.changed}, &List{Items: a.positional})
			l.changed = append([]Value{}, a.positional...)
			return !same
		}), true
	}
	return nil, false
}

// macro makes a callable of a definition. It sees the variables around its definition.
func (e *evaluator) macro(macroName string, m *macro) *function {
	home := e.frame
	f := newFunction(macroName, func(e *evaluator, a args) Value {
		vars := map[string]Value{}
		positional := a.positional
		for i, p := range m.params {
			if i < len(positional) {
				vars[p] = positional[i]
			}
		}
		var extra []Value
		if len(positional) > len(m.params) {
			extra = positional[len(m.params):]
			if !m.varargs {
				e.fail("macro %s takes %d arguments, not %d", macroName, len(m.params), len(positional))
			}
		}
		vars["varargs"] = &List{Items: extra, tuple: true}
		kwargs := newDict(Origin{})
		for i, given := range a.names {
			name := given.s
			switch _, twice := vars[name]; {
			case name == "caller" && m.caller:
				vars[name] = a.keyword[i]
			case twice:
				e.fail("macro %s got argument %q twice", macroName, name)
			case slices.Contains(m.params, name):
				vars[name] = a.keyword[i]
			case !m.kwargs:
				e.fail("macro %s has no parameter %q", macroName, name)
			default:
				kwargs.set(given, a.keyword[i])
			}
		}
		vars["kwargs"] = kwargs
		outer, line := e.frame, e.line
		e.frame = &frame{vars: vars, parent: home}
		for i, p := range m.params {
			if _, given := vars[p]; given {
				continue
			}
			vars[p] = undefined{fmt.Sprintf("parameter %q was not provided", p)}
			if d := i - (len(m.params) - len(m.defaults)); d >= 0 {
				vars[p] = e.eval(m.defaults[d])
			}
		}
		t := e.capture(func() { e.exec(m.body) })
		e.frame, e.line = outer, line
		return t
	})
	f.prints = true
	parameters := &List{tuple: true}
	for _, p := range m.params {
		parameters.Items = append(parameters.Items, text(p, e.here()))
	}
	f.attrs = map[string]func(e *evaluator) Value{
		"arguments":     func(*evaluator) Value { return parameters },
		"catch_kwargs":  func(*evaluator) Value { return m.kwargs },
		"catch_varargs": func(*evaluator) Value { return m.varargs },
		"caller":        func(*evaluator) Value { return m.caller },
	}
	return f
}

// items are the elements that a loop over v sees.
func (e *evaluator) items(v Value) []Value {
	switch v := bare(v).(type) {
	case *List:
		return v.Items
	case *Dict:
		return v.keys
	case Text:
		var list []Value
		for i := 0; i < len(v.s); {
			e.step()
			_, n := utf8.DecodeRuneInString(v.s[i:])
			list = append(list, v.slice(i, i+n))
			i += n
		}
		return list
	case undefined:
		return nil
	}
	e.fail("%s cannot be looped over", kindName(v))
	return nil
}

func (e *evaluator) eval(x expr) Value { return bare(e.raw(x)) }

// printing are the filters that may print what they are given, or give it back.
var printing = map[string]bool{"string": true, "tojson": true, "default": true, "d": true, "safe": true}

// raw is eval, but that a number of a request is given with its origin, for those who print it.
func (e *evaluator) raw(x expr) Value {
	e.step()
	if e.nested++; e.nested > maxNested {
		e.fail("the template is nested more than %d deep", maxNested)
	}
	defer func() { e.nested-- }()
	e.line = x.at()
	switch x := x.(type) {
	case *constExpr:
		return x.value
	case *nameExpr:
		if v, ok := e.frame.lookup(x.name); ok {
			return v
		}
		return undefined{fmt.Sprintf("%q is undefined", x.name)}
	case *listExpr:
		l := &List{tuple: x.tuple}
		for _, item := range x.items {
			l.Items = append(l.Items, e.eval(item))
		}
		return l
	case *dictExpr:
		d := newDict(Origin{})
		for i, k := range x.keys {
			key := e.eval(k)
			if keyOf(key) == nil {
				e.fail("%s cannot be a key", kindName(key))
			}
			d.set(key, e.eval(x.values[i]))
		}
		return d
	case *unaryExpr:
		return e.unary(x.op, e.eval(x.x))
	case *binaryExpr:
		left := e.raw(x.x)
		switch x.op {
		case "and":
			if !truth(left) {
				return left
			}
			return e.raw(x.y)
		case "or":
			if truth(left) {
				return left
			}
			return e.raw(x.y)
		}
		left = bare(left)
		right := e.eval(x.y)
		e.line = x.at()
		return e.arithmetic(x.op, left, right)
	case *concatExpr:
		parts := make([]Text, len(x.parts))
		for i, p := range x.parts {
			parts[i] = str(e.raw(p), Origin{Line: p.at()})
		}
		return e.made(concat(parts...))
	case *compareExpr:
		left := e.eval(x.first)
		for i, op := range x.ops {
			right := e.eval(x.rest[i])
			e.line = x.at()
			if !e.compare(op, left, right) {
				return false
			}
			left = right
		}
		return true
	case *condExpr:
		if truth(e.eval(x.cond)) {
			return e.raw(x.x)
		}
		if x.y == nil {
			return undefined{"the inline if has no else"}
		}
		return e.raw(x.y)
	case *attrExpr:
		v := e.eval(x.x)
		e.line = x.at()
		return e.attr(v, x.name)
	case *indexExpr:
		v, i := e.eval(x.x), e.eval(x.i)
		e.line = x.at()
		return e.index(v, i)
	case *sliceExpr:
		return e.slice(x)
	case *callExpr:
		fn := e.eval(x.fn)
		how := e.eval
		if f, ok := fn.(*function); ok && f.prints {
			how = e.raw
		}
		a := e.arguments(x.arguments, how)
		e.line = x.at()
		return e.call(fn, a)
	case *filterExpr:
		how := e.eval
		if printing[x.name] {
			how = e.raw
		}
		v := how(x.x)
		a := e.arguments(x.arguments, how)
		e.line = x.at()
		f, ok := filters[x.name]
		if !ok {
			e.fail("there is no filter %q", x.name)
		}
		return f(e, v, a)
	case *testExpr:
		v := e.eval(x.x)
		a := e.arguments(x.arguments, e.eval)
		e.line = x.at()
		test, ok := tests[x.name]
		if !ok {
			e.fail("there is no test %q", x.name)
		}
		return test(e, v, a)
	case *blockText:
		return e.block
	}
	panic(fmt.Sprintf("jinja: expression %T", x))
}

// arguments evaluates the arguments of a call in a way.
func (e *evaluator) arguments(x arguments, how func(expr) Value) (a args) {
	for _, p := range x.positional {
		a.positional = append(a.positional, how(p))
	}
	if x.star != nil {
		for _, item := range e.items(e.eval(x.star)) {
			a.positional = append(a.positional, bare(item))
		}
	}
	for i, k := range x.keyword {
		a.names = append(a.names, text(x.names[i], e.here()))
		a.keyword = append(a.keyword, how(k))
	}
	if x.star2 != nil {
		d, ok := e.eval(x.star2).(*Dict)
		if !ok {
			e.fail("what follows ** is not a dictionary")
		}
		for _, k := range d.keys {
			name, ok := k.(Text)
			if !ok {
				e.fail("a key after ** is not a string")
			}
			v, _ := d.get(k)
			a.names = append(a.names, name)
			a.keyword = append(a.keyword, bare(v))
		}
	}
	return a
}

func (e *evaluator) call(fn Value, a args) Value {
	switch fn := fn.(type) {
	case *function:
		return fn.call(e, a)
	case *loopValue:
		if fn.again == nil || len(a.positional) != 1 {
			e.fail("loop can be called with one argument in a recursive loop only")
		}
		return fn.again(e, a.positional[0])
	case undefined:
		e.fail("%s, so it cannot be called", fn.name)
	}
	e.fail("%s cannot be called", kindName(fn))
	return nil
}

// attr is v.name: a method first, then an item, as in the reference.
func (e *evaluator) attr(v Value, name string) Value {
	v = bare(v)
	if m := method(v, name); m != nil {
		return m
	}
	switch v := v.(type) {
	case *Dict:
		if item, ok := v.values[name]; ok {
			return item
		}
	case *List:
		if i := slices.Index(v.fields, name); i >= 0 {
			return v.Items[i]
		}
	case *namespace:
		if item, ok := v.attrs[name]; ok {
			return item
		}
	case *loopValue:
		if item, ok := v.attr(e, name); ok {
			return item
		}
	case *function:
		if name == "name" {
			return text(v.name, e.here())
		}
		if item, ok := v.attrs[name]; ok {
			return item(e)
		}
	case undefined:
		e.fail("%s, so it has no attribute %q", v.name, name)
	}
	return undefined{fmt.Sprintf("%s has no attribute %q", kindName(v), name)}
}

// index is v[i]: an item first, then a method.
func (e *evaluator) index(v, i Value) Value {
	v, i = bare(v), bare(i)
	switch v := v.(type) {
	case *Dict:
		if item, ok := v.get(i); ok {
			return item
		}
	case *List:
		if n, ok := integer(i); ok {
			if n < 0 {
				n += int64(len(v.Items))
			}
			if n >= 0 && n < int64(len(v.Items)) {
				return v.Items[n]
			}
			return undefined{fmt.Sprintf("%s has no element %s", kindName(v), str(i, Origin{}).s)}
		}
	case Text:
		if n, ok := integer(i); ok {
			runes := e.items(v)
			if n < 0 {
				n += int64(len(runes))
			}
			if n >= 0 && n < int64(len(runes)) {
				return runes[n]
			}
			return undefined{fmt.Sprintf("a string has no element %s", str(i, Origin{}).s)}
		}
	case undefined:
		e.fail("%s, so it has no elements", v.name)
	}
	if name, ok := i.(Text); ok {
		return e.attr(v, name.s)
	}
	return undefined{fmt.Sprintf("%s has no element %s", kindName(v), str(i, Origin{}).s)}
}

func (e *evaluator) slice(x *sliceExpr) Value {
	v := e.eval(x.x)
	var bound [3]*int64
	for i, b := range []expr{x.from, x.to, x.step} {
		if b == nil {
			continue
		}
		v := e.eval(b)
		if n, ok := integer(v); ok {
			bound[i] = &n
		} else if v != nil {
			e.fail("the bounds of a slice must be integers")
		}
	}
	e.line = x.at()
	step := int64(1)
	if bound[2] != nil {
		step = *bound[2]
	}
	if step == 0 {
		e.fail("the step of a slice cannot be zero")
	}
	switch v := v.(type) {
	case *List:
		out := &List{tuple: v.tuple, origin: v.origin}
		for _, i := range sliceIndices(len(v.Items), bound[0], bound[1], step) {
			out.Items = append(out.Items, v.Items[i])
		}
		return out
	case Text:
		runes := e.items(v)
		indices := sliceIndices(len(runes), bound[0], bound[1], step)
		parts := make([]Text, len(indices))
		for j, i := range indices {
			parts[j] = runes[i].(Text)
		}
		return e.made(concat(parts...))
	case undefined:
		e.fail("%s, so it cannot be sliced", v.name)
	}
	e.fail("%s cannot be sliced", kindName(v))
	return nil
}

// sliceIndices are the indices that from:to:step selects of n elements, by Python's rules.
func sliceIndices(n int, from, to *int64, step int64) []int {
	length := int64(n)
	lowest, highest := int64(0), length // of a bound, after clamping
	start, end := int64(0), length
	if step < 0 {
		lowest, highest = -1, length-1
		start, end = length-1, -1
	}
	clamp := func(b *int64, otherwise int64) int64 {
		if b == nil {
			return otherwise
		}
		i := *b
		if i < 0 {
			i += length
		}
		return max(lowest, min(highest, i))
	}
	start, end = clamp(from, start), clamp(to, end)
	step = max(-length-1, min(length+1, step)) // a longer step gives the same single element
	var list []int
	for i := start; step > 0 && i < end || step < 0 && i > end; i += step {
		list = append(list, int(i))
	}
	return list
}

func (e *evaluator) unary(op string, v Value) Value {
	if op == "not" {
		return !truth(v)
	}
	if i, ok := wholeNumber(v); ok {
		if op == "-" {
			return e.wholeOf(i.Neg(i))
		}
		return e.wholeOf(i)
	}
	f, ok := v.(float64)
	if !ok {
		e.fail("%s has no sign", kindName(v))
	}
	if op == "-" {
		return -f
	}
	return f
}

func (e *evaluator) arithmetic(op string, a, b Value) Value {
	a, b = bare(a), bare(b)
	if v, ok := e.sequences(op, a, b); ok {
		return v
	}
	if x, ok := integer(a); ok {
		if y, ok := integer(b); ok {
			if v, ok := small(op, x, y); ok {
				return v
			}
		}
	}
	if x, ok := wholeNumber(a); ok {
		if y, ok := wholeNumber(b); ok {
			return e.integers(op, x, y)
		}
	}
	f, okF := number(a)
	g, okG := number(b)
	if !okF || !okG {
		for _, v := range []Value{a, b} {
			if u, ok := v.(undefined); ok {
				e.fail("%s, so %q cannot be applied to it", u.name, op)
			}
		}
		e.fail("%q cannot be applied to %s and %s", op, kindName(a), kindName(b))
	}
	if g == 0 && (op == "/" || op == "//" || op == "%") {
		e.fail("division by zero")
	}
	switch op {
	case "+":
		return f + g
	case "-":
		return f - g
	case "*":
		return f * g
	case "/":
		return f / g
	case "//":
		return math.Floor(f / g)
	case "%":
		m := math.Mod(f, g)
		if m != 0 && (m < 0) != (g < 0) {
			m += g
		}
		return m
	default:
		return e.power(f, g)
	}
}

// small computes with integers where the result is sure to fit.
func small(op string, x, y int64) (Value, bool) {
	const most = 1 << 31
	if x > most || x < -most || y > most || y < -most {
		return nil, false
	}
	switch op {
	case "+":
		return x + y, true
	case "-":
		return x - y, true
	case "*":
		return x * y, true
	}
	return nil, false
}

// sequences are + and * on texts and lists, and % on a text.
func (e *evaluator) sequences(op string, a, b Value) (Value, bool) {
	switch x := a.(type) {
	case Text:
		if y, ok := b.(Text); ok && op == "+" {
			return e.made(concat(x, y)), true
		}
		if op == "%" {
			return e.made(e.format(x, b)), true
		}
	case *List:
		if y, ok := b.(*List); ok && op == "+" && x.tuple == y.tuple {
			e.work(len(x.Items) + len(y.Items))
			items := make([]Value, 0, len(x.Items)+len(y.Items))
			return &List{Items: append(append(items, x.Items...), y.Items...), tuple: x.tuple, origin: x.origin}, true
		}
	}
	if op != "*" {
		return nil, false
	}
	seq, times := a, b
	if _, ok := integer(a); ok {
		seq, times = b, a
	}
	n, ok := integer(times)
	if !ok {
		return nil, false
	}
	switch seq := seq.(type) {
	case Text:
		var b textBuilder
		for range n {
			if len(seq.s) == 0 {
				break
			}
			e.step()
			b.append(e.made(seq))
		}
		return b.text(), true
	case *List:
		out := &List{tuple: seq.tuple, origin: seq.origin}
		for range n {
			if len(seq.Items) == 0 {
				break
			}
			e.work(len(seq.Items))
			out.Items = append(out.Items, seq.Items...)
		}
		return out, true
	}
	return nil, false
}

func (e *evaluator) compare(op string, a, b Value) bool {
	switch op {
	case "==":
		return e.equal(a, b)
	case "!=":
		return !e.equal(a, b)
	case "in":
		return e.contains(b, a)
	case "not in":
		return !e.contains(b, a)
	}
	order, ok := e.order(a, b)
	if !ok {
		e.fail("%s and %s cannot be ordered by %q", kindName(a), kindName(b), op)
	}
	switch op {
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	default:
		return order >= 0
	}
}

func (e *evaluator) contains(in, v Value) bool {
	v = bare(v)
	switch in := in.(type) {
	case Text:
		part, ok := v.(Text)
		if !ok {
			e.fail("%q in a string needs a string, not %s", "in", kindName(v))
		}
		e.work(len(in.s) / 512)
		return strings.Contains(in.s, part.s)
	case *List:
		for _, item := range in.Items {
			e.step()
			if e.equal(item, v) {
				return true
			}
		}
		return false
	case *Dict:
		_, ok := in.get(v)
		return ok
	case undefined:
		return false
	}
	e.fail("%s has no elements to look among", kindName(in))
	return false
}
