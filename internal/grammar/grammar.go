// Package grammar keeps a model's answer to a form while it is being written: JSON, JSON by a schema, a tool call.
//
// A form is an [Expr]: literal text, a JSON value by a [Schema], free text up to a mark, and sequences, choices and
// repetitions of these. It is compiled to an automaton over bytes with a stack, whose terminals (strings, numbers,
// literals) are deterministic machines. A [Matcher] follows one answer. Which tokens may come next is found by
// walking the vocabulary as a trie of bytes; what a walk finds within a terminal does not depend on what surrounds
// the terminal, so it is done once for each state of each terminal, and only the tokens that reach beyond the
// terminal's end are looked at again.
//
// The language is narrower than the schema where that costs nothing: properties come in the order in which they are
// declared, and white space is bounded. Whatever is accepted is valid.
package grammar

import (
	"fmt"
	"strings"
	"sync"
)

// machine is a deterministic automaton over bytes, the terminal of a grammar. Its states are numbers; machines are
// compared by identity.
type machine interface {
	// step is the state after a byte; ok is false if the byte cannot come.
	step(state uint64, b byte) (next uint64, ok bool)
	// outcome says whether the text so far is complete, and in which of the terminal's ways; -1 if it is not.
	outcome(state uint64) int
	// canonical is a state that no text of up to n bytes can tell from the given one.
	canonical(state uint64, n int) uint64
	// completions are short texts that complete what there is, at least one for each outcome that can be reached.
	completions(state uint64) []completion
}

// completion is a text that takes a machine to an outcome.
type completion struct {
	text    string
	outcome int
}

// node is a place in a grammar. One of term, call and alts is set. A nil node is the end of its rule.
type node struct {
	term  machine
	begin uint64  // the state in which term begins
	next  []*node // what follows, by outcome of term

	call *rule
	then *node // what follows the call

	alts []*node

	// Where term is [oneOf], what costs[] need to find the shortest of its texts: the place of the first, and the node of the others.
	place int
	skip  *node

	cost    int  // the shortest text from here to the end of the rule, in bytes
	settled bool // cost is known, and does not change any more
}

// rule is a part of a grammar that may be used from several places, by itself too.
type rule struct{ node *node }

// never is the cost of what cannot come to its end.
const never = 1 << 30

// Expr is the form of a text. It is given what follows and returns where to begin.
type Expr func(then *node) *node

// Literal is exactly this text.
func Literal(text string) Expr {
	if text == "" {
		return Seq()
	}
	return func(then *node) *node { return terminal(newWords([]string{text}, []int{0}), 0, then) }
}

// Seq is one form after the other.
func Seq(list ...Expr) Expr {
	return func(then *node) *node {
		for i := len(list) - 1; i >= 0; i-- {
			then = list[i](then)
		}
		return then
	}
}

// Alt is one of several forms.
func Alt(list ...Expr) Expr {
	return func(then *node) *node {
		n := &node{}
		for _, e := range list {
			n.alts = append(n.alts, e(then))
		}
		return n
	}
}

// Optional is the form, or nothing.
func Optional(e Expr) Expr { return Alt(e, Seq()) }

// Loop is a form that may contain itself: body is given the form to use within it.
func Loop(body func(again Expr) Expr) Expr {
	return func(then *node) *node {
		r := &rule{}
		r.node = body(func(then *node) *node { return &node{call: r, then: then} })(nil)
		return &node{call: r, then: then}
	}
}

// Many is the form any number of times, none included.
func Many(e Expr) Expr {
	return Loop(func(again Expr) Expr { return Optional(Seq(e, again)) })
}

// Until is any text up to the first appearance of mark, which is part of it.
func Until(mark string) Expr {
	return func(then *node) *node {
		d := newSearch(mark, false)
		return terminal(d, 0, then)
	}
}

// TextOr is any text in which mark does not appear, or text up to mark and then what follows the mark.
func TextOr(mark string, after Expr) Expr {
	return func(then *node) *node {
		return &node{term: newSearch(mark, true), next: []*node{then, after(then)}}
	}
}

// TextNot is any text, but that its first byte is none of those given.
func TextNot(first string) Expr {
	return func(then *node) *node {
		d := &dfa{}
		var begin, any [256]uint16
		for b := range begin {
			begin[b], any[b] = 1, 1
			if strings.IndexByte(first, byte(b)) >= 0 {
				begin[b] = dead
			}
		}
		d.next, d.outcomes, d.short = [][256]uint16{begin, any}, []int{0, 0}, []completion{{}, {}}
		return terminal(d, 0, then)
	}
}

// Space is the white space that JSON may have between its parts, or none.
func Space() Expr { return func(then *node) *node { return terminal(space, 0, then) } }

func terminal(m machine, begin uint64, then *node) *node {
	return &node{term: m, begin: begin, next: []*node{then}}
}

// Grammar is a form compiled for a vocabulary. It is safe for concurrent use.
type Grammar struct {
	start *node
	vocab *Vocabulary
	fixed int // bytes of what was compiled

	mu       sync.Mutex // guards what is below; never held while the vocabulary is walked through
	conts    map[contKey]*cont
	closures map[contKey]*state
	locals   map[localKey]*local
	masks    map[thread][]uint64
	cached   int // bytes of these
}

// New compiles a form for a vocabulary. A form without an end, such as a list that must hold another like itself, is
// an error, and so is one whose texts can be understood in so many ways at once that finding the next token would take
// too long.
func New(w *Work, v *Vocabulary, e Expr) (*Grammar, error) {
	start := e(nil)
	all, err := costs(w, start)
	if err != nil {
		return nil, err
	}
	if start.shortest() >= never {
		return nil, &SchemaError{Message: "it can be met by no value that ends"}
	}
	g := &Grammar{start: start, vocab: v, fixed: size(all)}
	g.forget()
	return g, g.checkAmbiguity(w)
}

// size is about what nodes and their machines take, in bytes.
func size(all []*node) int {
	bytes := 0
	seen := map[machine]bool{}
	for _, n := range all {
		bytes += nodeBytes + 8*len(n.alts)
		if n.term == nil || seen[n.term] {
			continue
		}
		seen[n.term] = true
		switch m := n.term.(type) {
		case *dfa:
			bytes += stateBytes * len(m.next)
		case *words:
			bytes += m.bytes()
		case *oneOf:
			if !seen[m.row.names] {
				seen[m.row.names] = true
				bytes += m.row.names.bytes()
			}
		}
	}
	return bytes
}

func (w *words) bytes() (n int) {
	for _, t := range w.texts {
		n += 24 + len(t)
	}
	return n
}

// Bytes is about how much memory the grammar takes now.
func (g *Grammar) Bytes() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.fixed + g.cached
}

// maxWalks bounds how many nodes of the vocabulary the finding of one mask may visit: some 50 ms.
const maxWalks = 8 << 20

// maxThreads bounds in how many ways a text may be understood at once, each of which takes a walk.
func (g *Grammar) maxThreads() int {
	return max(8, min(256, maxWalks/2/max(1, len(g.vocab.nodes))))
}

// checkAmbiguity goes through beginnings of texts and refuses a form that could be understood in too many ways.
func (g *Grammar) checkAmbiguity(w *Work) error {
	const (
		states = 160
		sample = `"a1{[,:}] -t` + "\\\xc3"
	)
	limit := g.maxThreads()
	queue := []*state{g.from(g.start, nil)}
	for i := 0; i < len(queue); i++ {
		if len(queue[i].threads) > limit {
			return &SchemaError{Message: fmt.Sprintf("its alternatives and patterns overlap so much that a text could be understood in more than %d ways at once", limit)}
		}
		if err := w.spend(50 * len(sample) * len(queue[i].threads)); err != nil {
			return err
		}
		for k := 0; k < len(sample) && len(queue) < states; k++ {
			if next := g.step(queue[i], sample[k]); len(next.threads) > 0 {
				queue = append(queue, next)
			}
		}
	}
	return nil
}

// forget empties the caches, which grow with the places that answers come to.
func (g *Grammar) forget() {
	g.conts = map[contKey]*cont{}
	g.closures = map[contKey]*state{}
	g.locals = map[localKey]*local{}
	g.masks = map[thread][]uint64{}
	g.cached = 0
}

// cont is what follows when a rule has come to its end: a stack, shared and compared by identity.
type cont struct {
	node *node
	up   *cont
	cost int // the shortest text to the end of everything, in bytes
}

type contKey struct {
	node *node
	up   *cont
}

// thread is one way in which the text so far can be understood: a terminal under way, and what follows.
type thread struct {
	node  *node
	state uint64
	up    *cont
}

// state is all ways to understand the text so far.
type state struct {
	threads []thread
	done    bool // the text may end here
}

func (s *state) add(t thread) {
	for _, old := range s.threads {
		if old == t {
			return
		}
	}
	s.threads = append(s.threads, t)
}

func (g *Grammar) push(n *node, up *cont) *cont {
	if n == nil {
		return up // nothing follows here, so the end of the one is the end of the other
	}
	key := contKey{n, up}
	c, ok := g.conts[key]
	if !ok {
		c = &cont{node: n, up: up, cost: n.shortest() + up.shortest()}
		g.conts[key] = c
	}
	return c
}

func (c *cont) shortest() int {
	if c == nil {
		return 0
	}
	return c.cost
}

// from is the state at a node.
func (g *Grammar) from(n *node, up *cont) *state {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.closure(n, up)
}

// closure is from for who holds the lock.
func (g *Grammar) closure(n *node, up *cont) *state {
	key := contKey{n, up}
	s, ok := g.closures[key]
	if !ok {
		s = &state{}
		g.enter(s, n, up)
		g.closures[key] = s
		g.cached += 64 + 32*len(s.threads)
	}
	return s
}

func (g *Grammar) enter(s *state, n *node, up *cont) {
	switch {
	case n == nil && up == nil:
		s.done = true
	case n == nil:
		g.enter(s, up.node, up.up)
	case n.alts != nil:
		for _, a := range n.alts {
			if a.shortest() < never {
				g.enter(s, a, up)
			}
		}
	case n.call != nil:
		g.enter(s, n.call.node, g.push(n.then, up))
	default:
		t := thread{n, n.begin, up}
		s.add(t)
		g.leave(s, t)
	}
}

// leave adds what follows a terminal that is complete.
func (g *Grammar) leave(s *state, t thread) {
	if o := t.node.term.outcome(t.state); o >= 0 {
		next := g.closure(t.node.next[o], t.up)
		s.done = s.done || next.done
		for _, n := range next.threads {
			s.add(n)
		}
	}
}

// step is the state after a byte; it has neither threads nor an end if the byte cannot come.
func (g *Grammar) step(s *state, b byte) *state {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := &state{}
	for _, t := range s.threads {
		if next, ok := t.node.term.step(t.state, b); ok {
			t.state = next
			out.add(t)
			g.leave(out, t)
		}
	}
	return out
}

// impossible reports whether the text so far is not the beginning of anything.
func (s *state) impossible() bool { return len(s.threads) == 0 && !s.done }

// costs finds the shortest text from every node to the end of its rule. Rules may use each other in circles, so it
// goes over them until nothing gets shorter. It gives all nodes but those of which it is known.
func costs(w *Work, start *node) (all []*node, err error) {
	seen := map[*node]bool{}
	var visit func(*node)
	visit = func(n *node) {
		if n == nil || n.settled || seen[n] {
			return
		}
		seen[n] = true
		n.cost = never
		if n.call != nil {
			visit(n.call.node)
		}
		visit(n.then)
		visit(n.skip)
		for _, m := range n.alts {
			visit(m)
		}
		if _, ok := n.term.(*oneOf); ok {
			visit(n.next[n.place]) // the others are the skipped node's
		} else {
			for _, m := range n.next {
				visit(m)
			}
		}
		all = append(all, n)
	}
	visit(start)
	for changed := true; changed; {
		if err := w.spend(4 * len(all)); err != nil {
			return nil, err
		}
		changed = false
		for _, n := range all {
			if best := n.best(); best < n.cost {
				n.cost, changed = best, true
			}
		}
	}
	return all, nil
}

// best is the cost of a node by those of the nodes that follow.
func (n *node) best() int {
	best := never
	switch o, named := n.term.(*oneOf); {
	case n.alts != nil:
		for _, a := range n.alts {
			best = min(best, a.shortest())
		}
	case n.call != nil:
		best = n.call.node.shortest() + n.then.shortest()
	case named:
		best = len(o.row.names.text(n.place)) + n.next[n.place].shortest()
		if n.skip != nil {
			best = min(best, n.skip.shortest())
		}
	default:
		for _, w := range n.term.completions(n.begin) {
			best = min(best, len(w.text)+n.next[w.outcome].shortest())
		}
	}
	return best
}

func (n *node) shortest() int {
	if n == nil {
		return 0
	}
	return n.cost
}
