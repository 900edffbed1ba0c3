package jinja

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// parser builds the tree by recursive descent, one token ahead. Errors unwind by panic with an *Error.
type parser struct {
	lex   *lexer
	tok   item // the current token
	after item // the one after it, if ahead is set
	ahead bool
	depth int
	loops int // for loops around the current position, for break and continue
	// unknown are filters and tests that do not exist, in the order in which they were met. In a branch that may never be taken they are
	// an error only when they are reached.
	unknown []*Error
	names   map[string]bool // that the macro around the current position mentions; nil outside of one
}

func (p *parser) recover(err *error) {
	switch e := recover().(type) {
	case nil:
	case *Error:
		*err = e
	default:
		panic(e)
	}
}

func (p *parser) fail(line int, format string, args ...any) {
	panic(&Error{Line: line, Msg: fmt.Sprintf(format, args...)})
}

// next moves on and returns the token that was current.
func (p *parser) next() item {
	old := p.tok
	if p.ahead {
		p.tok, p.ahead = p.after, false
	} else {
		p.tok = p.lex.next()
	}
	return old
}

func (p *parser) peek() item {
	if !p.ahead {
		p.after, p.ahead = p.lex.next(), true
	}
	return p.after
}

func (i item) is(typ itemType, val string) bool { return i.typ == typ && i.val == val }

func (p *parser) isOp(val string) bool   { return p.tok.is(itemOp, val) }
func (p *parser) isName(val string) bool { return p.tok.is(itemName, val) }

func (p *parser) skipOp(val string) bool {
	if p.isOp(val) {
		p.next()
		return true
	}
	return false
}

func (p *parser) skipName(val string) bool {
	if p.isName(val) {
		p.next()
		return true
	}
	return false
}

func (p *parser) expectOp(val, context string) {
	if !p.skipOp(val) {
		p.fail(p.tok.line, "expected %q in %s, found %v", val, context, p.tok)
	}
}

func (p *parser) expectName(context string) string {
	if p.tok.typ != itemName {
		p.fail(p.tok.line, "expected a name in %s, found %v", context, p.tok)
	}
	return p.next().val
}

func (p *parser) expectBlockEnd(context string) {
	if p.tok.typ != itemBlockEnd {
		p.fail(p.tok.line, "expected the end of the %s tag, found %v", context, p.tok)
	}
	p.next()
}

func (p *parser) line() pos { return pos(p.tok.line) }

// enter guards against nesting so deep that the stack would not hold it; leave undoes it.
func (p *parser) enter() {
	if p.depth++; p.depth > maxDepth {
		p.fail(p.tok.line, "nested more than %d deep", maxDepth)
	}
}

func (p *parser) leave() { p.depth-- }

// statements parses up to one of the named tags, whose {% it consumes but not its name, or to the end of
// the template if there is no name. opened is the line of the tag that opened the block.
func (p *parser) statements(opened pos, until ...string) []node {
	p.enter()
	defer p.leave()
	var list []node
	for {
		line := p.line()
		switch p.tok.typ {
		case itemEOF:
			if len(until) > 0 {
				p.fail(int(opened), "the block that begins here is never closed: {%% %s %%} is missing", until[len(until)-1])
			}
			return list
		case itemData:
			list = append(list, &dataNode{line, p.next().val})
		case itemPrintBegin:
			p.next()
			list = append(list, &printNode{line, p.tuple(true)})
			if p.tok.typ != itemPrintEnd {
				p.fail(p.tok.line, "expected \"}}\", found %v", p.tok)
			}
			p.next()
		case itemBlockBegin:
			p.next()
			if p.tok.typ == itemName && slices.Contains(until, p.tok.val) {
				return list
			}
			list = append(list, p.statement(until))
		default:
			p.fail(p.tok.line, "unexpected %v", p.tok)
		}
	}
}

// body parses the statements of a block up to its only end tag, and that tag.
func (p *parser) body(opened pos, end string) []node {
	list := p.statements(opened, end)
	p.next()
	p.expectBlockEnd(end)
	return list
}

func (p *parser) statement(until []string) node {
	line := p.line()
	switch name := p.expectName("a tag"); name {
	case "if":
		return p.ifStatement(line)
	case "for":
		return p.forStatement(line)
	case "set":
		return p.setStatement(line)
	case "break", "continue":
		if p.loops == 0 {
			p.fail(int(line), "%s outside a for loop", name)
		}
		p.expectBlockEnd(name)
		return &loopControl{line, name == "break"}
	case "macro":
		n := &macroNode{pos: line, name: p.expectName("macro")}
		p.signature(&n.macro)
		p.expectBlockEnd(name)
		p.macroBody(line, "endmacro", &n.macro)
		return n
	case "call":
		n := &callBlock{pos: line}
		if p.isOp("(") {
			p.signature(&n.macro)
		}
		call, ok := p.expression().(*callExpr)
		if !ok {
			p.fail(int(line), "the call tag needs a call, such as {%% call macro() %%}")
		}
		n.call = call
		p.expectBlockEnd(name)
		p.macroBody(line, "endcall", &n.macro)
		return n
	case "filter":
		n := &filterBlock{pos: line, filter: p.filters(&blockText{line}, true)}
		p.expectBlockEnd(name)
		n.body = p.body(line, "endfilter")
		return n
	case "with":
		n := &withNode{pos: line}
		for p.tok.typ != itemBlockEnd {
			if len(n.names) > 0 {
				p.expectOp(",", "with")
			}
			n.names = append(n.names, p.target(false))
			p.expectOp("=", "with")
			n.values = append(n.values, p.expression())
		}
		p.expectBlockEnd(name)
		n.body = p.body(line, "endwith")
		return n
	case "generation":
		p.expectBlockEnd(name)
		return &scopeNode{line, p.body(line, "endgeneration")}
	case "block", "extends", "include", "import", "from":
		p.fail(int(line), "{%% %s %%} needs other templates, which a model's template does not have", name)
	default:
		if len(until) > 0 {
			p.fail(int(line), "unknown tag %q; the block around it ends with %q", name, until[len(until)-1])
		}
		p.fail(int(line), "unknown tag %q", name)
	}
	return nil
}

// macroBody parses the body of a macro, which is not inside the loops around it, and notes which of the extra
// arguments it mentions: the others are refused when it is called.
func (p *parser) macroBody(opened pos, end string, m *macro) {
	loops, names := p.loops, p.names
	p.loops, p.names = 0, map[string]bool{}
	mark := len(p.unknown)
	m.body = p.body(opened, end)
	p.surely(mark)
	m.varargs, m.kwargs, m.caller = p.names["varargs"], p.names["kwargs"], p.names["caller"]
	p.loops, p.names = loops, names
}

// maybe forgives what is unknown since a mark: it may never be reached.
func (p *parser) maybe(mark int) { p.unknown = p.unknown[:mark] }

// surely refuses what is unknown since a mark.
func (p *parser) surely(mark int) {
	if len(p.unknown) > mark {
		panic(p.unknown[mark])
	}
}

func (p *parser) ifStatement(line pos) node {
	defer p.maybe(len(p.unknown))
	n := &ifNode{pos: line, cond: p.tuple(false)}
	p.expectBlockEnd("if")
	n.then = p.statements(line, "elif", "else", "endif")
	switch next := p.next(); next.val {
	case "elif":
		p.enter()
		defer p.leave()
		n.else_ = []node{p.ifStatement(pos(next.line))}
	case "else":
		p.expectBlockEnd("else")
		n.else_ = p.body(line, "endif")
	default:
		p.expectBlockEnd("endif")
	}
	return n
}

func (p *parser) forStatement(line pos) node {
	n := &forNode{pos: line, target: p.target(true)}
	if !p.skipName("in") {
		p.fail(p.tok.line, "expected \"in\" in for, found %v", p.tok)
	}
	n.over = p.tuple(false)
	if p.skipName("if") {
		n.cond = p.expression()
	}
	n.recursive = p.skipName("recursive")
	p.expectBlockEnd("for")
	defer p.surely(len(p.unknown))
	p.loops++
	n.body = p.statements(line, "else", "endfor")
	p.loops--
	if p.next().val == "else" {
		p.expectBlockEnd("else")
		n.else_ = p.body(line, "endfor")
	} else {
		p.expectBlockEnd("endfor")
	}
	return n
}

func (p *parser) setStatement(line pos) node {
	t := p.target(true)
	if p.skipOp("=") {
		n := &setNode{line, t, p.tuple(true)}
		p.expectBlockEnd("set")
		return n
	}
	n := &setBlock{pos: line, target: t}
	if p.isOp("|") {
		n.filter = p.filters(&blockText{line}, false)
	}
	p.expectBlockEnd("set")
	n.body = p.body(line, "endset")
	return n
}

var reserved = []string{"true", "false", "none", "True", "False", "None"}

// target parses what is assigned to; several, with commas, if tuple is set.
func (p *parser) target(tuple bool) target {
	p.enter()
	defer p.leave()
	one := func() target {
		if p.skipOp("(") {
			t := p.target(true)
			p.expectOp(")", "an assignment")
			return t
		}
		t := target{name: p.expectName("an assignment")}
		if slices.Contains(reserved, t.name) {
			p.fail(p.tok.line, "%q cannot be assigned to", t.name)
		}
		if p.skipOp(".") {
			t.attr = p.expectName("an assignment")
		}
		return t
	}
	first := one()
	if !tuple || !p.isOp(",") {
		return first
	}
	all := target{tuple: []target{first}}
	for p.skipOp(",") {
		if p.tok.typ != itemName && !p.isOp("(") || p.isName("in") {
			break
		}
		all.tuple = append(all.tuple, one())
	}
	return all
}

func (p *parser) signature(m *macro) {
	p.expectOp("(", "the parameters")
	for !p.isOp(")") {
		if len(m.params) > 0 {
			p.expectOp(",", "the parameters")
			if p.isOp(")") {
				break
			}
		}
		name := p.expectName("the parameters")
		if slices.Contains(m.params, name) {
			p.fail(p.tok.line, "parameter %q appears twice", name)
		}
		m.params = append(m.params, name)
		if p.skipOp("=") {
			m.defaults = append(m.defaults, p.expression())
		} else if len(m.defaults) > 0 {
			p.fail(p.tok.line, "parameter %q needs a default, since the one before it has one", name)
		}
	}
	p.expectOp(")", "the parameters")
}

// tuple parses one expression, or several with commas between them, which make a tuple.
func (p *parser) tuple(conditional bool) expr {
	line := p.line()
	parse := p.or
	if conditional {
		parse = p.expression
	}
	first := parse()
	if !p.isOp(",") {
		return first
	}
	t := &listExpr{pos: line, items: []expr{first}, tuple: true}
	for p.skipOp(",") {
		if p.tok.typ == itemBlockEnd || p.tok.typ == itemPrintEnd || p.isOp(")") {
			break
		}
		t.items = append(t.items, parse())
	}
	return t
}

// expression parses one with an inline if: the lowest precedence.
func (p *parser) expression() expr {
	p.enter()
	defer p.leave()
	line, mark := p.line(), len(p.unknown)
	x := p.or()
	for p.skipName("if") {
		defer p.maybe(mark)
		c := &condExpr{pos: line, x: x, cond: p.or()}
		if p.skipName("else") {
			c.y = p.expression()
		}
		x = c
	}
	return x
}

func (p *parser) or() expr {
	line := p.line()
	x := p.and()
	for p.skipName("or") {
		x = &binaryExpr{line, "or", x, p.and()}
	}
	return x
}

func (p *parser) and() expr {
	line := p.line()
	x := p.not()
	for p.skipName("and") {
		x = &binaryExpr{line, "and", x, p.not()}
	}
	return x
}

func (p *parser) not() expr {
	if line := p.line(); p.skipName("not") {
		p.enter()
		defer p.leave()
		return &unaryExpr{line, "not", p.not()}
	}
	return p.comparison()
}

func (p *parser) comparison() expr {
	c := &compareExpr{pos: p.line(), first: p.sum()}
	for {
		op := p.tok.val
		switch {
		case p.tok.typ == itemOp && slices.Contains([]string{"==", "!=", "<", "<=", ">", ">="}, op):
			p.next()
		case p.isName("in"):
			p.next()
		case p.isName("not") && p.peek().is(itemName, "in"):
			p.next()
			p.next()
			op = "not in"
		default:
			if len(c.ops) == 0 {
				return c.first
			}
			return c
		}
		c.ops = append(c.ops, op)
		c.rest = append(c.rest, p.sum())
	}
}

// leftAssociative parses operands joined by any of the operators.
func (p *parser) leftAssociative(operand func() expr, ops ...string) expr {
	line := p.line()
	x := operand()
	for p.tok.typ == itemOp && slices.Contains(ops, p.tok.val) {
		op := p.next().val
		x = &binaryExpr{line, op, x, operand()}
	}
	return x
}

func (p *parser) sum() expr { return p.leftAssociative(p.concat, "+", "-") }

func (p *parser) concat() expr {
	line := p.line()
	x := p.product()
	if !p.isOp("~") {
		return x
	}
	c := &concatExpr{line, []expr{x}}
	for p.skipOp("~") {
		c.parts = append(c.parts, p.product())
	}
	return c
}

func (p *parser) product() expr { return p.leftAssociative(p.power, "*", "/", "//", "%") }

func (p *parser) power() expr {
	return p.leftAssociative(func() expr { return p.unary(true) }, "**")
}

func (p *parser) unary(withFilters bool) expr {
	p.enter()
	defer p.leave()
	line := p.line()
	var x expr
	if p.isOp("-") || p.isOp("+") {
		op := p.next().val
		x = &unaryExpr{line, op, p.unary(false)}
	} else {
		x = p.primary()
	}
	x = p.postfix(x)
	if withFilters {
		x = p.filtersAndTests(x)
	}
	return x
}

func (p *parser) primary() expr {
	line := p.line()
	own := func(s string) Value { return text(s, Origin{Line: int(line)}) }
	switch tok := p.next(); tok.typ {
	case itemName:
		switch tok.val {
		case "true", "True":
			return &constExpr{line, true}
		case "false", "False":
			return &constExpr{line, false}
		case "none", "None":
			return &constExpr{line, nil}
		}
		if p.names != nil {
			p.names[tok.val] = true
		}
		return &nameExpr{line, tok.val}
	case itemString:
		s := tok.val
		for p.tok.typ == itemString {
			s += p.next().val
		}
		return &constExpr{line, own(s)}
	case itemInt:
		i, ok := parseInteger(tok.val)
		if !ok {
			p.fail(int(line), "%s is no number", tok.val)
		}
		return &constExpr{line, i}
	case itemFloat:
		f, err := strconv.ParseFloat(tok.val, 64)
		if err != nil {
			p.fail(int(line), "%s is no number", tok.val)
		}
		return &constExpr{line, f}
	case itemOp:
		switch tok.val {
		case "(":
			if p.skipOp(")") {
				return &listExpr{pos: line, tuple: true}
			}
			x := p.tuple(true)
			p.expectOp(")", "parentheses")
			return x
		case "[":
			l := &listExpr{pos: line}
			for !p.isOp("]") {
				if len(l.items) > 0 {
					p.expectOp(",", "a list")
					if p.isOp("]") {
						break
					}
				}
				l.items = append(l.items, p.expression())
			}
			p.expectOp("]", "a list")
			return l
		case "{":
			d := &dictExpr{pos: line}
			for !p.isOp("}") {
				if len(d.keys) > 0 {
					p.expectOp(",", "a dictionary")
					if p.isOp("}") {
						break
					}
				}
				d.keys = append(d.keys, p.expression())
				p.expectOp(":", "a dictionary")
				d.values = append(d.values, p.expression())
			}
			p.expectOp("}", "a dictionary")
			return d
		}
		p.fail(int(line), "expected an expression, found %v", tok)
	default:
		p.fail(int(line), "expected an expression, found %v", tok)
	}
	return nil
}

func (p *parser) postfix(x expr) expr {
	for p.tok.typ == itemOp {
		line := p.line()
		switch p.tok.val {
		case ".":
			p.next()
			switch p.tok.typ {
			case itemName:
				x = &attrExpr{line, x, p.next().val}
			case itemInt:
				i, err := strconv.ParseInt(p.tok.val, 10, 64)
				if err != nil {
					p.fail(int(line), "%s is no index", p.tok.val)
				}
				p.next()
				x = &indexExpr{line, x, &constExpr{line, i}}
			default:
				p.fail(p.tok.line, "expected a name or a number after \".\", found %v", p.tok)
			}
		case "[":
			p.next()
			x = p.subscript(line, x)
			p.expectOp("]", "a subscript")
		case "(":
			x = &callExpr{line, x, p.arguments()}
		default:
			return x
		}
	}
	return x
}

func (p *parser) subscript(line pos, x expr) expr {
	var bound [3]expr
	if !p.isOp(":") {
		bound[0] = p.expression()
		if !p.isOp(":") {
			return &indexExpr{line, x, bound[0]}
		}
	}
	for i := 1; i < 3 && p.skipOp(":"); i++ {
		if !p.isOp(":") && !p.isOp("]") {
			bound[i] = p.expression()
		}
	}
	return &sliceExpr{line, x, bound[0], bound[1], bound[2]}
}

func (p *parser) arguments() (a arguments) {
	p.expectOp("(", "a call")
	for first := true; !p.isOp(")"); first = false {
		if !first {
			p.expectOp(",", "a call")
			if p.isOp(")") {
				break
			}
		}
		switch {
		case p.skipOp("*"):
			a.star = p.expression()
		case p.skipOp("**"):
			a.star2 = p.expression()
		case p.tok.typ == itemName && p.peek().is(itemOp, "="):
			name := p.next().val
			p.next()
			if slices.Contains(a.names, name) {
				p.fail(p.tok.line, "argument %q appears twice", name)
			}
			a.names = append(a.names, name)
			a.keyword = append(a.keyword, p.expression())
		default:
			if len(a.keyword) > 0 || a.star != nil || a.star2 != nil {
				p.fail(p.tok.line, "an argument without a name follows one with a name")
			}
			a.positional = append(a.positional, p.expression())
		}
	}
	p.expectOp(")", "a call")
	return a
}

// filtersAndTests parses | filter, is test, and calls of what they give.
func (p *parser) filtersAndTests(x expr) expr {
	for {
		switch line := p.line(); {
		case p.isOp("|"):
			x = p.filters(x, false)
		case p.isName("is"):
			p.next()
			x = p.test(line, x)
		case p.isOp("("):
			x = &callExpr{line, x, p.arguments()}
		default:
			return x
		}
	}
}

// filters parses a chain of filters. The first has no | before it if inline is set.
func (p *parser) filters(x expr, inline bool) expr {
	for inline || p.skipOp("|") {
		inline = false
		f := &filterExpr{pos: p.line(), x: x, name: p.dottedName("a filter")}
		if _, ok := filters[f.name]; !ok {
			p.unknown = append(p.unknown, &Error{Line: int(f.pos), Msg: fmt.Sprintf("there is no filter %q", f.name)})
		}
		if p.isOp("(") {
			f.arguments = p.arguments()
		}
		x = f
	}
	return x
}

func (p *parser) dottedName(context string) string {
	name := []string{p.expectName(context)}
	for p.skipOp(".") {
		name = append(name, p.expectName(context))
	}
	return strings.Join(name, ".")
}

func (p *parser) test(line pos, x expr) expr {
	negated := p.skipName("not")
	t := &testExpr{pos: line, x: x, name: p.dottedName("a test")}
	if _, ok := tests[t.name]; !ok {
		p.unknown = append(p.unknown, &Error{Line: int(line), Msg: fmt.Sprintf("there is no test %q", t.name)})
	}
	switch {
	case p.isOp("("):
		t.arguments = p.arguments()
	case p.tok.typ == itemString, p.tok.typ == itemInt, p.tok.typ == itemFloat, p.isOp("["), p.isOp("{"),
		p.tok.typ == itemName && !slices.Contains([]string{"else", "or", "and", "is"}, p.tok.val):
		t.positional = []expr{p.postfix(p.primary())}
	case p.isName("is"):
		p.fail(int(line), "tests cannot be chained with \"is\"")
	}
	if negated {
		return &unaryExpr{line, "not", t}
	}
	return t
}
