package grammar

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Matcher follows one answer. It is used by one goroutine.
type Matcher struct {
	g     *Grammar
	state *state
	mask  []uint64
	last  byte // of the text so far
}

// Begin starts an answer.
func (g *Grammar) Begin() *Matcher {
	return &Matcher{g: g, state: g.from(g.start, nil), mask: make([]uint64, (g.vocab.size+63)/64)}
}

// ErrCostly says that finding the tokens that may come next would take too long.
var ErrCostly = errors.New("the form's alternatives overlap so much that finding the next token would take too long; make the schema's patterns and alternatives easier to tell apart")

// Allowed gives the tokens that may come next, a bit for each, token i in bit i%64 of word i/64. It is the caller's
// until the next call. It may take some milliseconds; if it would take much longer, it is ErrCostly.
func (m *Matcher) Allowed() ([]uint64, error) {
	if m.mask == nil {
		m.mask = make([]uint64, (m.g.vocab.size+63)/64)
	}
	clear(m.mask)
	left := maxWalks
	for _, t := range m.state.threads {
		for i, w := range m.g.mask(t, &left) {
			m.mask[i] |= w
		}
		if left < 0 {
			return nil, ErrCostly
		}
	}
	return m.mask, nil
}

// Complete reports whether the answer may end here and nothing can be added to it.
func (m *Matcher) Complete() bool {
	if !m.state.done {
		return false
	}
	for _, t := range m.state.threads {
		for b := range 256 {
			if _, ok := t.node.term.step(t.state, byte(b)); ok {
				return false
			}
		}
	}
	return true
}

// Done reports whether the answer may end here.
func (m *Matcher) Done() bool { return m.state.done }

// Accept takes a token. One that was not allowed is an error, and changes nothing.
func (m *Matcher) Accept(id int32) error {
	if id < 0 || int(id) >= m.g.vocab.size || m.g.vocab.texts[id] == "" {
		return fmt.Errorf("token %d has no text", id)
	}
	next, ok := m.after(m.g.vocab.texts[id])
	if !ok {
		return fmt.Errorf("token %d, %q, cannot come here", id, m.g.vocab.texts[id])
	}
	text := m.g.vocab.texts[id]
	m.state, m.last = next, text[len(text)-1]
	return nil
}

func (m *Matcher) after(text string) (*state, bool) {
	s := m.state
	for i := range len(text) {
		if s = m.g.step(s, text[i]); s.impossible() {
			return nil, false
		}
	}
	return s, true
}

// Needs is how many bytes the shortest end of the answer has.
func (m *Matcher) Needs() int { return m.state.needs() }

// After is the matcher after a token that is allowed; m stays as it is. After any other nothing is possible.
func (m *Matcher) After(id int32) *Matcher {
	text := ""
	if id >= 0 && int(id) < m.g.vocab.size {
		text = m.g.vocab.texts[id]
	}
	s, ok := m.after(text)
	if !ok || text == "" {
		s = &state{}
	}
	return &Matcher{g: m.g, state: s}
}

// Try is the matcher after a token, if that may come; m stays as it is.
func (m *Matcher) Try(id int32) (next *Matcher, ok bool) {
	if id < 0 || int(id) >= m.g.vocab.size || m.g.vocab.texts[id] == "" {
		return nil, false
	}
	text := m.g.vocab.texts[id]
	s, ok := m.after(text)
	return &Matcher{g: m.g, state: s, last: text[len(text)-1]}, ok
}

// Must is the text that has to come next, up to limit bytes of it; it ends with a whole character.
func (m *Matcher) Must(limit int) string {
	var out []byte
	for s := m.state; len(out) < limit; {
		b, ok := s.only(func(byte) bool { return false })
		if !ok {
			break
		}
		out, s = append(out, b), m.g.step(s, b)
	}
	for len(out) > 0 {
		if r, n := utf8.DecodeLastRune(out); r != utf8.RuneError || n > 1 {
			break
		}
		out = out[:len(out)-1]
	}
	return string(out)
}

// Settled is how many of the tokens of a text that has to come are the only way to write it. The last ones are not where a token may come that
// begins with them and goes on behind the text: a model that has learned to write `":{"` in one token is at a loss behind `":`.
func (m *Matcher) Settled(text string, ids []int32) int {
	settled, rest := len(ids), ""
	for i := len(ids) - 1; i >= 0 && len(ids)-i <= mostJoined; i-- {
		if rest = m.g.vocab.texts[ids[i]] + rest; !strings.HasSuffix(text, rest) {
			break // a token that stands for other bytes
		}
		if m.beyond(strings.TrimSuffix(text, rest), rest) {
			settled = i
		}
	}
	return settled
}

// mostJoined is how many tokens at the end of a text are looked at as a part of a longer one.
const mostJoined = 3

// beyond reports whether a token may come behind before that begins with rest and goes on.
func (m *Matcher) beyond(before, rest string) bool {
	s, ok := m.after(before)
	if !ok {
		return false
	}
	v, behind := m.g.vocab, &Matcher{g: m.g, state: s}
	at, _ := slices.BinarySearchFunc(v.ids, rest, func(id int32, rest string) int { return strings.Compare(v.texts[id], rest) })
	for _, id := range v.ids[at:] {
		if !strings.HasPrefix(v.texts[id], rest) {
			return false
		}
		if v.texts[id] == rest {
			continue
		}
		if _, ok := behind.after(v.texts[id]); ok {
			return true
		}
	}
	return false
}

// Likely is the byte that comes next in most answers, where there is no choice but of white space: a space behind colons and
// commas, and none elsewhere.
func (m *Matcher) Likely() (b byte, ok bool) {
	if m.last == ':' || m.last == ',' {
		for _, t := range m.state.threads {
			if _, ok := t.node.term.step(t.state, ' '); ok {
				return ' ', true
			}
		}
	}
	return m.state.only(func(b byte) bool { return b == ' ' || b == '\n' || b == '\r' || b == '\t' })
}

// only is the one byte that may come next, apart from some. It is not ok if there are several, or if the text may end here.
func (s *state) only(apart func(b byte) bool) (only byte, ok bool) {
	if s.done {
		return 0, false
	}
	for _, t := range s.threads {
		for b := range 256 {
			c := byte(b)
			if _, may := t.node.term.step(t.state, c); !may || apart(c) {
				continue
			}
			if ok && c != only {
				return 0, false
			}
			only, ok = c, true
		}
	}
	return only, ok
}

func (s *state) needs() int {
	if s.done {
		return 0
	}
	best := never
	for _, t := range s.threads {
		_, n := t.shortest()
		best = min(best, n)
	}
	return best
}

// shortest is the way to complete the terminal that makes the whole shortest, and how many bytes the whole takes.
func (t thread) shortest() (best completion, bytes int) {
	bytes = never
	for _, w := range t.node.term.completions(t.state) {
		if n := len(w.text) + t.node.next[w.outcome].shortest() + t.up.shortest(); n < bytes {
			best, bytes = w, n
		}
	}
	return best, bytes
}

// Ending is the shortest text that ends the answer.
func (m *Matcher) Ending() string {
	var out []byte
	for s := m.state; !s.done; {
		best, bytes := thread{}, never
		var text completion
		for _, t := range s.threads {
			if w, n := t.shortest(); n < bytes {
				best, bytes, text = t, n, w
			}
		}
		if bytes >= never {
			break // cannot be: a grammar with no end is not compiled
		}
		out = append(out, text.text...)
		s = m.g.from(best.node.next[text.outcome], best.up)
	}
	return string(out)
}
