package tokenizer

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// expression is a compiled expression by which text is split. The standard library's cannot look ahead, which those of
// tokenizers do; this one backtracks, within a bound.
//
// It knows literals, classes (\p{L}, \s, ranges, negation), groups, alternatives, the quantifiers * + ? {n,m} in their
// greedy, lazy and possessive forms, (?i:…), and looking ahead, positively and negatively.
type expression struct {
	start *node
}

// node is a part of an expression; next is what follows it. The end of the whole has kind atEnd.
type node struct {
	kind     nodeKind
	next     *node
	set      *runeSet
	min, max int // of a repeated set
	mode     quantifier
	options  []*node
	first    []*[4]uint64 // of each option, the bytes that it can begin with; nil for all
	sub      *node        // looked at ahead, or repeated
	negative bool
}

type nodeKind uint8

const (
	atEnd  nodeKind = iota
	oneOf           // one character of set
	repeat          // min to max characters of set
	choice          // one of options, each of which goes on to next
	loop            // sub any number of times, which goes on to the loop itself
	ahead
	atStart
	atTextEnd
)

type quantifier uint8

const (
	greedy quantifier = iota
	lazy
	possessive
)

// matching is an attempt to match.
type matching struct {
	text   string
	budget int // steps that are left
	depth  int // of calls
}

// steps bounds an attempt, so that no expression can hold the gate up. What needs more does not match.
const steps = 1 << 20

// maxDepth bounds how deep groups that are repeated may call each other.
const maxDepth = 10_000

// match is where the match that begins at text[i:] ends, -1 if there is none.
func (e *expression) match(text string, i int) int {
	m := matching{text: text, budget: steps}
	return m.run(e.start, i)
}

// run is where the match of n and all that follows ends.
func (m *matching) run(n *node, i int) int {
	if m.depth == maxDepth {
		return -1
	}
	m.depth++
	end := m.walk(n, i)
	m.depth--
	return end
}

func (m *matching) walk(n *node, i int) int {
	for {
		if m.budget--; m.budget < 0 {
			return -1
		}
		switch n.kind {
		case atEnd:
			return i
		case oneOf:
			size := m.has(n.set, i)
			if size == 0 {
				return -1
			}
			i += size
		case repeat:
			if n.next.kind == atEnd && n.mode != lazy || n.mode == possessive {
				count := 0
				for count < n.max {
					size := m.has(n.set, i)
					if size == 0 {
						break
					}
					i += size
					count++
				}
				if count < n.min {
					return -1
				}
				break
			}
			return m.repeated(n, i)
		case choice:
			for k, o := range n.options {
				if f := n.first[k]; f != nil && (i >= len(m.text) || f[m.text[i]>>6]&(1<<(m.text[i]&63)) == 0) {
					continue
				}
				if end := m.run(o, i); end >= 0 {
					return end
				}
			}
			return -1
		case loop:
			if n.mode == lazy {
				if end := m.run(n.next, i); end >= 0 {
					return end
				}
			}
			// The body ends in a node that comes back here, so that what follows can be tried after each turn.
			if end := m.run(n.sub, i); end >= 0 {
				return end
			}
			if n.mode == lazy {
				return -1
			}
		case ahead:
			if (m.run(n.sub, i) >= 0) == n.negative {
				return -1
			}
		case atStart:
			if i != 0 {
				return -1
			}
		case atTextEnd:
			if i != len(m.text) {
				return -1
			}
		}
		n = n.next
	}
}

// has is the size of the character at i if it is in the set, else 0.
func (m *matching) has(s *runeSet, i int) int {
	if i >= len(m.text) {
		return 0
	}
	if b := m.text[i]; b < utf8.RuneSelf {
		if s.ascii[b>>6]&(1<<(b&63)) != 0 {
			return 1
		}
		return 0
	}
	r, size := utf8.DecodeRuneInString(m.text[i:])
	if r == utf8.RuneError && size == 1 {
		r = -1 // a byte that is no character is in no class but those that say what is not in them
	}
	if s.has(r) {
		return size
	}
	return 0
}

// repeated takes characters of a set and tries what follows, from the most down or, lazily, from the fewest up.
func (m *matching) repeated(n *node, i int) int {
	count, from := 0, i
	for count < n.min {
		size := m.has(n.set, i)
		if size == 0 {
			return -1
		}
		i += size
		count++
	}
	from = i
	if n.mode == lazy {
		for {
			if end := m.run(n.next, i); end >= 0 {
				return end
			}
			size := 0
			if count < n.max {
				size = m.has(n.set, i)
			}
			if size == 0 {
				return -1
			}
			i += size
			count++
		}
	}
	for count < n.max {
		size := m.has(n.set, i)
		if size == 0 {
			break
		}
		i += size
		count++
	}
	for {
		if end := m.run(n.next, i); end >= 0 {
			return end
		}
		if i == from || m.budget < 0 {
			return -1
		}
		_, size := utf8.DecodeLastRuneInString(m.text[from:i])
		i -= size
	}
}

// compile reads an expression.
func compile(source string) (*expression, error) {
	p := &expressionParser{source: source}
	tree := p.alternatives()
	if p.err == nil && p.at < len(source) {
		p.fail("there is an unmatched )")
	}
	if p.err != nil {
		return nil, fmt.Errorf("the expression %q: %w", source, p.err)
	}
	e := &expression{start: tree(&node{kind: atEnd})}
	if p.err != nil {
		return nil, fmt.Errorf("the expression %q: %w", source, p.err)
	}
	firsts(e.start, map[*node]bool{})
	return e, nil
}

// part makes the nodes of a part of an expression, given what follows it.
type part func(next *node) *node

type expressionParser struct {
	source string
	at     int
	fold   bool // letters match in both cases
	depth  int
	size   int // nodes, to bound what counted repetitions copy
	err    error
}

// Bounds of an expression.
const (
	maxExpression = 1 << 16
	maxNesting    = 64
)

func (p *expressionParser) fail(format string, args ...any) {
	if p.err == nil {
		p.err = fmt.Errorf("at byte %d: %s", p.at, fmt.Sprintf(format, args...))
	}
}

func (p *expressionParser) peek(s string) bool { return strings.HasPrefix(p.source[p.at:], s) }

func (p *expressionParser) take(s string) bool {
	if p.peek(s) {
		p.at += len(s)
		return true
	}
	return false
}

func (p *expressionParser) new(n *node) *node {
	if p.size++; p.size > maxExpression {
		p.fail("it is too large")
	}
	return n
}

func (p *expressionParser) alternatives() part {
	list := []part{p.sequence()}
	for p.err == nil && p.take("|") {
		list = append(list, p.sequence())
	}
	if len(list) == 1 {
		return list[0]
	}
	return func(next *node) *node {
		n := p.new(&node{kind: choice, next: next})
		for _, o := range list {
			n.options = append(n.options, o(next))
		}
		return n
	}
}

func (p *expressionParser) sequence() part {
	var list []part
	for p.err == nil && p.at < len(p.source) && !p.peek("|") && !p.peek(")") {
		list = append(list, p.quantified())
	}
	return func(next *node) *node {
		for i := len(list) - 1; i >= 0 && p.err == nil; i-- {
			next = list[i](next)
		}
		return next
	}
}

// quantified reads one item with its quantifier.
func (p *expressionParser) quantified() part {
	set, item := p.item()
	if p.err != nil {
		return item
	}
	low, high, ok := p.count()
	if !ok {
		if set != nil {
			return func(next *node) *node { return p.new(&node{kind: oneOf, set: set, next: next}) }
		}
		return item
	}
	mode := greedy
	if p.take("?") {
		mode = lazy
	} else if p.take("+") {
		mode = possessive
	}
	if set != nil {
		return func(next *node) *node {
			return p.new(&node{kind: repeat, set: set, min: low, max: high, mode: mode, next: next})
		}
	}
	if mode == possessive {
		// The longest match is kept whatever follows: the group is matched by itself, as when looking ahead. None of the
		// known expressions has this for more than one character.
		p.fail("a possessive quantifier after a group is not supported")
		return item
	}
	return func(next *node) *node {
		if high == unlimited {
			l := p.new(&node{kind: loop, next: next, mode: mode})
			l.sub = item(l)
			if l.sub == l {
				p.fail("a group without content is repeated")
			}
			next = l
		} else {
			after := next
			for range high - low {
				n := p.new(&node{kind: choice, next: after, options: []*node{item(next), after}})
				if mode == lazy {
					slices.Reverse(n.options)
				}
				if next = n; p.err != nil {
					break
				}
			}
		}
		for i := 0; i < low && p.err == nil; i++ {
			next = item(next)
		}
		return next
	}
}

const unlimited = 1 << 30

// count reads * + ? {n} {n,} {n,m}.
func (p *expressionParser) count() (low, high int, ok bool) {
	switch {
	case p.take("*"):
		return 0, unlimited, true
	case p.take("+"):
		return 1, unlimited, true
	case p.take("?"):
		return 0, 1, true
	case !p.peek("{"):
		return 0, 0, false
	}
	inner, _, closed := strings.Cut(p.source[p.at+1:], "}")
	first, second, ranged := strings.Cut(inner, ",")
	low, err := strconv.Atoi(first)
	high = low
	if err == nil && ranged {
		if high = unlimited; second != "" {
			high, err = strconv.Atoi(second)
		}
	}
	if !closed || err != nil || low < 0 || high < low || low > 1000 || high != unlimited && high > 1000 {
		p.fail("{%s} is no quantifier", inner)
		return 0, 0, false
	}
	p.at += len(inner) + 2
	return low, high, true
}

// item reads a character, a class or a group. It gives a set if it is one character.
func (p *expressionParser) item() (*runeSet, part) {
	nothing := func(next *node) *node { return next }
	switch {
	case p.take("("):
		return nil, p.group()
	case p.take("["):
		set := p.class()
		return set, nil
	case p.take("."):
		return newSet(func(r rune) bool { return r != '\n' }), nil
	case p.take("^"):
		return nil, func(next *node) *node { return p.new(&node{kind: atStart, next: next}) }
	case p.take("$"):
		return nil, func(next *node) *node { return p.new(&node{kind: atTextEnd, next: next}) }
	case p.peek("*"), p.peek("+"), p.peek("?"):
		p.fail("there is nothing to repeat")
		return nil, nothing
	case p.take(`\`):
		has, r := p.escape()
		if has != nil {
			return newSet(has), nil
		}
		return newSet(p.equal(r)), nil
	}
	r, size := utf8.DecodeRuneInString(p.source[p.at:])
	p.at += size
	return newSet(p.equal(r)), nil
}

// equal is the test for one character, in both cases if these count as one.
func (p *expressionParser) equal(r rune) func(rune) bool {
	if !p.fold {
		return func(x rune) bool { return x == r }
	}
	orbit := []rune{r}
	for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
		orbit = append(orbit, f)
	}
	return func(x rune) bool { return slices.Contains(orbit, x) }
}

func (p *expressionParser) group() part {
	if p.depth++; p.depth > maxNesting {
		p.fail("groups are nested more than %d deep", maxNesting)
		return nil
	}
	defer func() { p.depth-- }()
	look, negative := false, false
	fold := p.fold
	switch {
	case p.take("?:"):
	case p.take("?i:"):
		p.fold = true
	case p.take("?i)"):
		p.fold = true // from here to the end of the group around
		return func(next *node) *node { return next }
	case p.take("?="):
		look = true
	case p.take("?!"):
		look, negative = true, true
	case p.peek("?"):
		p.fail("a group that begins with (%.3s is not supported", p.source[p.at:])
		return nil
	}
	body := p.alternatives()
	p.fold = fold
	if !p.take(")") {
		p.fail("a ) is missing")
	}
	if !look {
		return body
	}
	return func(next *node) *node {
		return p.new(&node{kind: ahead, next: next, negative: negative, sub: body(&node{kind: atEnd})})
	}
}

// class reads the inside of [ ].
func (p *expressionParser) class() *runeSet {
	negated := p.take("^")
	var tests []func(rune) bool
	for first := true; p.err == nil && (first || !p.peek("]")); first = false {
		if p.at >= len(p.source) {
			p.fail("a ] is missing")
			break
		}
		if p.peek("&&") || p.peek("[:") {
			p.fail("a class of this form is not supported")
			break
		}
		if p.take("[") {
			inner := p.class()
			tests = append(tests, inner.has)
			continue
		}
		has, low := p.classItem()
		if has != nil {
			tests = append(tests, has)
			continue
		}
		high := low
		if p.peek("-") && !p.peek("-]") {
			p.at++
			var other func(rune) bool
			if other, high = p.classItem(); other != nil || high < low {
				p.fail("a range in a class has no proper end")
			}
		}
		if low == high {
			tests = append(tests, p.equal(low))
			continue
		}
		fold := p.fold
		tests = append(tests, func(r rune) bool {
			if low <= r && r <= high {
				return true
			}
			if fold && r >= 0 {
				for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
					if low <= f && f <= high {
						return true
					}
				}
			}
			return false
		})
	}
	p.take("]")
	return newSet(func(r rune) bool {
		return slices.ContainsFunc(tests, func(t func(rune) bool) bool { return t(r) }) != negated
	})
}

func (p *expressionParser) classItem() (func(rune) bool, rune) {
	if p.take(`\`) {
		return p.escape()
	}
	r, size := utf8.DecodeRuneInString(p.source[p.at:])
	p.at += size
	return nil, r
}

// escape reads what follows a backslash: a class, or one character.
func (p *expressionParser) escape() (func(rune) bool, rune) {
	if p.at >= len(p.source) {
		p.fail("it ends in a backslash")
		return nil, 0
	}
	r, size := utf8.DecodeRuneInString(p.source[p.at:])
	p.at += size
	not := func(has func(rune) bool) func(rune) bool { return func(r rune) bool { return !has(r) } }
	switch r {
	case 's':
		return isSpace, 0
	case 'S':
		return not(isSpace), 0
	case 'd':
		return isDigit, 0
	case 'D':
		return not(isDigit), 0
	case 'w':
		return isWord, 0
	case 'W':
		return not(isWord), 0
	case 'p', 'P':
		has := p.property()
		if r == 'P' && has != nil {
			has = not(has)
		}
		return has, 0
	case 'n':
		return nil, '\n'
	case 'r':
		return nil, '\r'
	case 't':
		return nil, '\t'
	case 'f':
		return nil, '\f'
	case 'v':
		return nil, '\v'
	case 'u', 'x':
		return nil, p.hex(map[rune]int{'u': 4, 'x': 2}[r])
	}
	if r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r)) {
		p.fail(`\%c is not supported`, r)
	}
	return nil, r
}

func (p *expressionParser) hex(digits int) rune {
	text := ""
	if p.take("{") {
		inner, _, ok := strings.Cut(p.source[p.at:], "}")
		if ok {
			text, p.at = inner, p.at+len(inner)+1
		}
	} else if len(p.source)-p.at >= digits {
		text = p.source[p.at : p.at+digits]
		p.at += digits
	}
	n, err := strconv.ParseUint(text, 16, 21)
	if err != nil {
		p.fail("a character by its number is malformed")
	}
	return rune(n)
}

// property reads {Name} or one letter after \p.
func (p *expressionParser) property() func(rune) bool {
	name := ""
	if p.take("{") {
		inner, _, ok := strings.Cut(p.source[p.at:], "}")
		if !ok {
			p.fail("a } is missing")
			return nil
		}
		name, p.at = inner, p.at+len(inner)+1
	} else if p.at < len(p.source) {
		name = p.source[p.at : p.at+1]
		p.at++
	}
	name, negated := strings.CutPrefix(name, "^")
	for _, by := range []map[string]*unicode.RangeTable{unicode.Categories, unicode.Scripts, unicode.Properties} {
		if t, ok := by[name]; ok {
			return func(r rune) bool { return unicode.Is(t, r) != negated }
		}
	}
	p.fail("there is no class of characters %q", name)
	return nil
}

func isSpace(r rune) bool { return unicode.Is(unicode.White_Space, r) }
func isDigit(r rune) bool { return unicode.Is(unicode.Nd, r) }
func isWord(r rune) bool {
	return unicode.IsLetter(r) || unicode.Is(unicode.M, r) || unicode.Is(unicode.Nd, r) || unicode.Is(unicode.Nl, r) || unicode.Is(unicode.Pc, r) ||
		unicode.Is(unicode.Other_Alphabetic, r) || unicode.Is(unicode.Join_Control, r)
}

// firsts finds, for every choice, the bytes that each option can begin with.
func firsts(n *node, seen map[*node]bool) {
	if n == nil || seen[n] {
		return
	}
	seen[n] = true
	for _, o := range n.options {
		firsts(o, seen)
		var bytes [4]uint64
		if beginnings(o, &bytes, 0) {
			n.first = append(n.first, &bytes)
		} else {
			n.first = append(n.first, nil)
		}
	}
	firsts(n.sub, seen)
	firsts(n.next, seen)
}

// beginnings adds the bytes that a match of n can begin with; false means that any may be.
func beginnings(n *node, bytes *[4]uint64, depth int) bool {
	if depth > maxNesting {
		return false
	}
	switch n.kind {
	case oneOf, repeat:
		bytes[0] |= n.set.ascii[0]
		bytes[1] |= n.set.ascii[1]
		bytes[2], bytes[3] = ^uint64(0), ^uint64(0) // characters beyond ASCII are asked one by one
		if n.kind == repeat && n.min == 0 {
			return beginnings(n.next, bytes, depth+1)
		}
		return true
	case choice:
		for _, o := range n.options {
			if !beginnings(o, bytes, depth+1) {
				return false
			}
		}
		return true
	case loop:
		return beginnings(n.sub, bytes, depth+1) && beginnings(n.next, bytes, depth+1)
	}
	return false
}
