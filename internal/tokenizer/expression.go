package tokenizer

import (
	"cmp"
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

// match is where the match that begins at text[i:] ends, -1 if there is none, or if the text has no work left.
func (e *expression) match(w *work, text string, i int) int {
	most := min(steps, w.steps)
	m := matching{text: text, budget: most}
	end := m.run(e.start, i)
	w.take(most - m.budget)
	if w.spent {
		return -1
	}
	return end
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
	in, made := s.look(r)
	if made {
		m.budget -= 256
	}
	if in {
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

// compiling is what the expressions of one tokenizer may take together.
type compiling struct {
	size  int // nodes that are left; sets of characters count as many
	calls int // of parts that make nodes: a group without content makes none, however often it is repeated
}

// Bounds of the expressions of a tokenizer.
const (
	maxSize    = 1 << 16
	maxCalls   = 1 << 20
	maxNesting = 64
	setSize    = 128 // of a set whose answers are kept, which takes some 35 kB, and four times that at the most
)

func newCompiling() *compiling { return &compiling{size: maxSize, calls: maxCalls} }

// compile reads an expression.
func (c *compiling) compile(source string) (*expression, error) {
	p := &expressionParser{source: source, left: c}
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
	f := firsts{seen: map[*node]bool{}, known: map[*node]*[4]uint64{}}
	f.walk(e.start)
	return e, nil
}

// part makes the nodes of a part of an expression, given what follows it.
type part func(next *node) *node

type expressionParser struct {
	source string
	at     int
	fold   bool // letters match in both cases
	depth  int
	left   *compiling
	err    error
}

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
	p.charge(1)
	return n
}

// charge counts what a part takes.
func (p *expressionParser) charge(size int) {
	if p.left.size -= size; p.left.size < 0 {
		p.fail("it is too large")
	}
}

// set makes a set whose answers are kept.
func (p *expressionParser) set(test func(rune) bool) *runeSet {
	if p.charge(setSize); p.err != nil {
		return new(runeSet)
	}
	return newSet(test)
}

// one makes the set of a character.
func (p *expressionParser) one(r rune) *runeSet {
	p.charge(1)
	return newQuickSet(p.equal(r))
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
		if p.left.calls -= 1 + len(list); p.left.calls < 0 {
			p.fail("it repeats too much")
		}
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
		return newQuickSet(func(r rune) bool { return r != '\n' }), nil
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
			return p.set(has), nil
		}
		return p.one(r), nil
	}
	r, size := utf8.DecodeRuneInString(p.source[p.at:])
	p.at += size
	return p.one(r), nil
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
	if p.depth++; p.depth > maxNesting {
		p.fail("classes and groups are nested more than %d deep", maxNesting)
		return new(runeSet)
	}
	defer func() { p.depth-- }()
	negated := p.take("^")
	var tests []func(rune) bool
	var ranges [][2]rune
	for first := true; p.err == nil && (first || !p.peek("]")); first = false {
		if p.at >= len(p.source) {
			p.fail("a ] is missing")
			break
		}
		if p.peek("&&") || p.peek("[:") {
			p.fail("a class of this form is not supported")
			break
		}
		p.charge(1)
		if p.take("[") {
			tests = append(tests, p.class().has)
			continue
		}
		has, low := p.classItem()
		if has != nil {
			p.charge(setSize / 8)
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
		ranges = append(ranges, [2]rune{low, high})
	}
	p.take("]")
	if len(ranges) > 0 {
		tests = append(tests, within(ranges, p.fold))
	}
	return p.set(func(r rune) bool {
		return slices.ContainsFunc(tests, func(t func(rune) bool) bool { return t(r) }) != negated
	})
}

// within is the test for characters that lie in one of some ranges, in both cases if these count as one.
func within(ranges [][2]rune, fold bool) func(rune) bool {
	slices.SortFunc(ranges, func(a, b [2]rune) int { return cmp.Compare(a[0], b[0]) })
	merged := ranges[:1]
	for _, r := range ranges[1:] {
		if last := &merged[len(merged)-1]; r[0] <= last[1]+1 {
			last[1] = max(last[1], r[1])
		} else {
			merged = append(merged, r)
		}
	}
	in := func(r rune) bool {
		i, found := slices.BinarySearchFunc(merged, r, func(of [2]rune, r rune) int { return cmp.Compare(of[0], r) })
		return found || i > 0 && r <= merged[i-1][1]
	}
	if !fold {
		return in
	}
	return func(r rune) bool {
		if in(r) {
			return true
		}
		if r < 0 {
			return false
		}
		for f := unicode.SimpleFold(r); f != r; f = unicode.SimpleFold(f) {
			if in(f) {
				return true
			}
		}
		return false
	}
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
type firsts struct {
	seen  map[*node]bool
	known map[*node]*[4]uint64 // of nodes that were asked for; nil if they can begin with any, or while that is being found out
}

func (f *firsts) walk(n *node) {
	for ; n != nil && !f.seen[n]; n = n.next {
		f.seen[n] = true
		for _, o := range n.options {
			f.walk(o)
			n.first = append(n.first, f.of(o, 0))
		}
		f.walk(n.sub)
	}
}

// of is the bytes that a match of n can begin with; nil for any. Each node is looked at once.
func (f *firsts) of(n *node, depth int) *[4]uint64 {
	if depth > maxNesting {
		return nil
	}
	if bytes, ok := f.known[n]; ok {
		return bytes
	}
	f.known[n] = nil // a loop that comes back here could begin with anything that follows it
	var all [4]uint64
	add := func(n *node) bool {
		bytes := f.of(n, depth+1)
		if bytes == nil {
			return false
		}
		for i, b := range bytes {
			all[i] |= b
		}
		return true
	}
	switch n.kind {
	case oneOf, repeat:
		all = [4]uint64{n.set.ascii[0], n.set.ascii[1], ^uint64(0), ^uint64(0)} // characters beyond ASCII are asked one by one
		if n.kind == repeat && n.min == 0 && !add(n.next) {
			return nil
		}
	case choice:
		for _, o := range n.options {
			if !add(o) {
				return nil
			}
		}
	case loop:
		if !add(n.sub) || !add(n.next) {
			return nil
		}
	case atEnd, ahead, atStart, atTextEnd:
		return nil
	}
	f.known[n] = &all
	return &all
}
