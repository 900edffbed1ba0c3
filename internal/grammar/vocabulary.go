package grammar

import (
	"cmp"
	"slices"
	"strings"
)

// Vocabulary is the tokens of a model as a trie of their bytes. It is immutable.
type Vocabulary struct {
	size    int // tokens, those without text included
	texts   []string
	nodes   []trieNode // in preorder
	ids     []int32    // tokens, those of one node together
	longest int        // bytes of the longest token
}

type trieNode struct {
	b           byte
	depth       int32 // bytes from the root to here, this one included
	end         int32 // index of the first node that is not below this one
	first, last int32 // its tokens are ids[first:last]
}

// NewVocabulary takes the text of each token; tokens without text can never come.
func NewVocabulary(texts []string) *Vocabulary {
	v := &Vocabulary{size: len(texts), texts: texts}
	for id, t := range texts {
		if t != "" {
			v.ids = append(v.ids, int32(id))
			v.longest = max(v.longest, len(t))
		}
	}
	slices.SortFunc(v.ids, func(a, b int32) int {
		return cmp.Or(strings.Compare(texts[a], texts[b]), cmp.Compare(a, b))
	})
	var open []int // nodes from the root to the last one
	previous := ""
	for i, id := range v.ids {
		text := texts[id]
		if i > 0 && text == previous {
			v.nodes[open[len(open)-1]].last++
			continue
		}
		common := 0
		for common < min(len(text), len(previous)) && text[common] == previous[common] {
			common++
		}
		v.close(open[common:])
		open = open[:common]
		for d := common; d < len(text); d++ {
			open = append(open, len(v.nodes))
			v.nodes = append(v.nodes, trieNode{b: text[d], depth: int32(d + 1), first: int32(i), last: int32(i)})
		}
		v.nodes[open[len(open)-1]].last = int32(i + 1)
		previous = text
	}
	v.close(open)
	return v
}

// close marks the end of what is below nodes.
func (v *Vocabulary) close(nodes []int) {
	for _, n := range nodes {
		v.nodes[n].end = int32(len(v.nodes))
	}
}

// local is what a walk through the vocabulary finds within a terminal.
type local struct {
	mask  []uint64 // tokens that are all of the terminal's, whether it is complete after them or not
	exits []exit   // where in the trie the terminal is complete, so that tokens may go on beyond it
}

type exit struct {
	node    int32
	outcome int
}

type localKey struct {
	term  machine
	state uint64
}

func set(mask []uint64, ids []int32) {
	for _, id := range ids {
		mask[id/64] |= 1 << (id % 64)
	}
}

// walk goes through nodes[from:to], which are below a node of depth base in which m is in a state. visit is told of
// every node that m can reach. Every node that is looked at is taken off left; when that is used up, the walk ends.
func (v *Vocabulary) walk(from, to, base int32, m machine, state uint64, left *int, visit func(i int32, state uint64)) {
	var buffer [64]uint64
	stack := append(buffer[:0], state) // by depth below base
	for i := from; i < to && *left >= 0; {
		*left--
		n := &v.nodes[i]
		d := n.depth - base
		next, ok := m.step(stack[d-1], n.b)
		if !ok {
			i = n.end
			continue
		}
		stack = append(stack[:d], next)
		visit(i, next)
		i++
	}
}

// inTerminal gives the walk from the beginning of a token in a terminal's state.
func (g *Grammar) inTerminal(m machine, s uint64, left *int) *local {
	v := g.vocab
	key := localKey{m, m.canonical(s, v.longest)}
	g.mu.Lock()
	l, ok := g.locals[key]
	g.mu.Unlock()
	if ok {
		return l
	}
	l = &local{mask: make([]uint64, (v.size+63)/64)}
	v.walk(0, int32(len(v.nodes)), 0, m, s, left, func(i int32, s uint64) {
		n := &v.nodes[i]
		set(l.mask, v.ids[n.first:n.last])
		if o := m.outcome(s); o >= 0 && n.end > i+1 {
			l.exits = append(l.exits, exit{i, o})
		}
	})
	if *left >= 0 {
		g.mu.Lock()
		g.locals[key] = l
		g.cached += 64 + 8*len(l.mask) + 16*len(l.exits)
		g.mu.Unlock()
	}
	return l
}

// maxCached bounds what the caches of one grammar hold, in bytes.
const maxCached = 16 << 20

// mask gives the tokens that a thread allows. If left is used up on the way, it is not whole.
func (g *Grammar) mask(t thread, left *int) []uint64 {
	key := thread{t.node, t.node.term.canonical(t.state, g.vocab.longest), t.up}
	g.mu.Lock()
	m, ok := g.masks[key]
	if !ok && g.cached > maxCached {
		g.forget()
	}
	g.mu.Unlock()
	if ok {
		return m
	}
	l := g.inTerminal(t.node.term, t.state, left)
	m = slices.Clone(l.mask)
	for _, e := range l.exits {
		g.afterTerminal(m, e.node, g.from(t.node.next[e.outcome], t.up), left)
	}
	if *left >= 0 {
		g.mu.Lock()
		g.masks[key] = m
		g.cached += 96 + 8*len(m)
		g.mu.Unlock()
	}
	return m
}

// afterTerminal adds the tokens below a node of the trie that go on as a state does.
func (g *Grammar) afterTerminal(mask []uint64, node int32, s *state, left *int) {
	v := g.vocab
	for _, t := range s.threads {
		m := t.node.term
		v.walk(node+1, v.nodes[node].end, v.nodes[node].depth, m, t.state, left, func(i int32, state uint64) {
			n := &v.nodes[i]
			set(mask, v.ids[n.first:n.last])
			if o := m.outcome(state); o >= 0 && n.end > i+1 {
				g.afterTerminal(mask, i, g.from(t.node.next[o], t.up), left)
			}
		})
	}
}
