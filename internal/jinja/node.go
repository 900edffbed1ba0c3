package jinja

// node is a statement.
type node interface{ at() int }

// expr is an expression.
type expr interface{ at() int }

// pos is the line that a node begins in.
type pos int

func (p pos) at() int { return int(p) }

// Statements.
type (
	dataNode struct { // text outside tags
		pos
		text string
	}
	printNode struct { // {{ expr }}
		pos
		value expr
	}
	ifNode struct {
		pos
		cond        expr
		then, else_ []node
	}
	forNode struct {
		pos
		target      target
		over, cond  expr // cond may be nil
		body, else_ []node
		recursive   bool
	}
	loopControl struct { // break, continue
		pos
		exit bool
	}
	setNode struct { // {% set target = value %}
		pos
		target target
		value  expr
	}
	setBlock struct { // {% set target | filters %}body{% endset %}
		pos
		target target
		filter expr // applied to blockText; nil if there is none
		body   []node
	}
	macroNode struct {
		pos
		name string
		macro
	}
	callBlock struct { // {% call(args) macro() %}body{% endcall %}
		pos
		call *callExpr
		macro
	}
	filterBlock struct { // {% filter f %}body{% endfilter %}
		pos
		filter expr
		body   []node
	}
	withNode struct {
		pos
		names  []target
		values []expr
		body   []node
	}
	scopeNode struct { // {% generation %}: marks what the model itself wrote; it prints its body
		pos
		body []node
	}
)

// macro is what macros and call blocks have in common.
type macro struct {
	params   []string
	defaults []expr // of the last parameters
	body     []node
	// Whether the body mentions these: what it does not mention it does not take.
	varargs, kwargs, caller bool
}

// target is what set and for assign to: a name, an attribute of a namespace, or a tuple of targets.
type target struct {
	name, attr string
	tuple      []target
}

// Expressions.
type (
	constExpr struct {
		pos
		value Value
	}
	nameExpr struct {
		pos
		name string
	}
	listExpr struct {
		pos
		items []expr
		tuple bool
	}
	dictExpr struct {
		pos
		keys, values []expr
	}
	unaryExpr struct { // -x, +x, not x
		pos
		op string
		x  expr
	}
	binaryExpr struct { // arithmetic, and, or
		pos
		op   string
		x, y expr
	}
	concatExpr struct { // a ~ b ~ c
		pos
		parts []expr
	}
	compareExpr struct { // a < b < c
		pos
		first expr
		ops   []string
		rest  []expr
	}
	condExpr struct { // x if cond else y; y may be nil
		pos
		cond, x, y expr
	}
	attrExpr struct { // x.name
		pos
		x    expr
		name string
	}
	indexExpr struct { // x[i]
		pos
		x, i expr
	}
	sliceExpr struct { // x[from:to:step], each of which may be nil
		pos
		x, from, to, step expr
	}
	callExpr struct {
		pos
		fn expr
		arguments
	}
	filterExpr struct { // x | name(arguments)
		pos
		x    expr
		name string
		arguments
	}
	testExpr struct { // x is name(arguments)
		pos
		x    expr
		name string
		arguments
	}
	blockText struct{ pos } // the body of a filter or set block, as the input of its filters
)

// arguments of a call, as written.
type arguments struct {
	positional  []expr
	names       []string // of the keyword arguments
	keyword     []expr
	star, star2 expr // *x and **x; may be nil
}
