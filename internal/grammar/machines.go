package grammar

import (
	"cmp"
	"slices"
	"sort"
	"strings"
)

// words is a set of texts, each with an outcome. A state is a range of the sorted texts and how many bytes of them
// have come: low in the lowest 16 bits, then high, then the depth.
type words struct {
	texts     []string
	outcomes  []int
	byOutcome []int // where the text with an outcome is
}

// maxWords is how many texts a set may have.
const maxWords = 1<<16 - 1

// newWords makes a set of texts that are not empty. Of equal ones the first counts.
func newWords(texts []string, outcomes []int) *words {
	order := make([]int, len(texts))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(texts[a], texts[b]) })
	w := &words{}
	for _, i := range order {
		if n := len(w.texts); n > 0 && w.texts[n-1] == texts[i] {
			continue
		}
		w.texts = append(w.texts, texts[i])
		w.outcomes = append(w.outcomes, outcomes[i])
	}
	w.byOutcome = make([]int, len(texts))
	for i, o := range w.outcomes {
		w.byOutcome[o] = i
	}
	return w
}

// text is the text with an outcome that only one has.
func (w *words) text(outcome int) string {
	return w.texts[w.byOutcome[outcome]]
}

func (w *words) unpack(state uint64) (low, high, depth int) {
	low, high, depth = int(state&0xffff), int(state>>16&0xffff), int(state>>32)
	if state == 0 {
		high = len(w.texts)
	}
	return low, high, depth
}

func (w *words) step(state uint64, b byte) (uint64, bool) {
	low, high, depth := w.unpack(state)
	at := func(i int) int {
		if len(w.texts[i]) <= depth {
			return -1
		}
		return int(w.texts[i][depth])
	}
	if high-low > 1 {
		n := high - low
		from := low
		low = from + sort.Search(n, func(i int) bool { return at(from+i) >= int(b) })
		high = from + sort.Search(n, func(i int) bool { return at(from+i) > int(b) })
	} else if at(low) != int(b) {
		return 0, false
	}
	if low == high {
		return 0, false
	}
	return uint64(low) | uint64(high)<<16 | uint64(depth+1)<<32, true
}

func (w *words) outcome(state uint64) int {
	if low, _, depth := w.unpack(state); depth > 0 && len(w.texts[low]) == depth {
		return w.outcomes[low]
	}
	return -1
}

func (w *words) canonical(state uint64, _ int) uint64 { return state }

func (w *words) completions(state uint64) (list []completion) {
	low, high, depth := w.unpack(state)
	for i := low; i < high; i++ {
		list = append(list, completion{w.texts[i][depth:], w.outcomes[i]})
	}
	return list
}

// dfa is a machine by tables. State 0 is the first one.
type dfa struct {
	next     [][256]uint16 // dead if the byte cannot come
	outcomes []int
	short    []completion // by state; text is empty where the state is complete
}

const dead = 1<<16 - 1

func (d *dfa) step(state uint64, b byte) (uint64, bool) {
	n := d.next[state][b]
	return uint64(n), n != dead
}

func (d *dfa) outcome(state uint64) int              { return d.outcomes[state] }
func (d *dfa) canonical(state uint64, _ int) uint64  { return state }
func (d *dfa) completions(state uint64) []completion { return []completion{d.short[state]} }

var everyByte = func() string {
	var all [256]byte
	for i := range all {
		all[i] = byte(i)
	}
	return string(all[:])
}()

// explore makes tables of a machine given by its steps, for the bytes of an alphabet; empty for all. States from which no end can be reached are left out; if the
// first is such, the result is nil. ok is false if there are more than limit states. The work is nobody's if w is nil.
func explore[S comparable](w *Work, start S, alphabet string, limit int, step func(S, byte) (S, bool), outcome func(S) int) (d *dfa, ok bool, err error) {
	if alphabet == "" {
		alphabet = everyByte
	}
	index := map[S]int{start: 0}
	states := []S{start}
	var next [][256]uint16
	for i := 0; i < len(states); i++ {
		if w != nil {
			if err := w.spend(200 + 6*len(alphabet)); err != nil {
				return nil, false, err
			}
			if err := w.hold(stateBytes); err != nil {
				return nil, false, err
			}
		}
		var row [256]uint16
		for b := range row {
			row[b] = dead
		}
		var last S // neighbouring bytes often lead to the same state
		lastIndex := -1
		for k := range len(alphabet) {
			b := alphabet[k]
			to, ok := step(states[i], b)
			if !ok {
				continue
			}
			j, known := lastIndex, true
			if lastIndex < 0 || to != last {
				j, known = index[to]
			}
			if !known {
				if j = len(states); j >= limit {
					return nil, false, nil
				}
				index[to] = j
				states = append(states, to)
			}
			last, lastIndex = to, j
			row[b] = uint16(j)
		}
		next = append(next, row)
	}
	d = &dfa{next: next, outcomes: make([]int, len(states))}
	for i, s := range states {
		d.outcomes[i] = outcome(s)
	}
	if !d.prune() {
		return nil, true, nil
	}
	return d, true, nil
}

// prune goes from the ends backwards: which states have a way to an end, and the shortest one. Ways to the others are taken out. It
// reports whether the first state has one.
func (d *dfa) prune() bool {
	back := make([][]uint16, len(d.next)) // which states lead to each
	for i := range d.next {
		for _, to := range d.next[i] {
			if to != dead {
				if n := len(back[to]); n == 0 || back[to][n-1] != uint16(i) {
					back[to] = append(back[to], uint16(i))
				}
			}
		}
	}
	d.short = make([]completion, len(d.next))
	alive := make([]bool, len(d.next))
	var queue []int
	for i, o := range d.outcomes {
		if o >= 0 {
			alive[i] = true
			d.short[i] = completion{"", o}
			queue = append(queue, i)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		i := queue[0]
		for _, j := range back[i] {
			if alive[j] {
				continue
			}
			alive[j] = true
			b := slices.Index(d.next[j][:], uint16(i))
			d.short[j] = completion{string([]byte{byte(b)}) + d.short[i].text, d.short[i].outcome}
			queue = append(queue, int(j))
		}
	}
	for i := range d.next {
		for b, to := range d.next[i] {
			if to != dead && !alive[to] {
				d.next[i][b] = dead
			}
		}
	}
	return alive[0]
}

// only is the machine without the ways to some outcomes; nil if nothing is left.
func (d *dfa) only(possible func(outcome int) bool) *dfa {
	less := &dfa{next: slices.Clone(d.next), outcomes: slices.Clone(d.outcomes)}
	for i, o := range less.outcomes {
		if o >= 0 && !possible(o) {
			less.outcomes[i] = -1
		}
	}
	if !less.prune() {
		return nil
	}
	return less
}

// Bytes that a state of a machine by tables, and a node of a grammar, take about.
const (
	stateBytes = 600
	nodeBytes  = 200
)

// newSearch is any text up to the first appearance of mark (Knuth, Morris and Pratt, 1977). Its outcome is then 0, or,
// with open, 1; with open the text is complete everywhere before that too, with outcome 0.
func newSearch(mark string, open bool) *dfa {
	d := &dfa{}
	found := 0
	if open {
		found = 1
	}
	for n := range len(mark) + 1 {
		var row [256]uint16
		for b := range row {
			row[b] = dead
			if n < len(mark) {
				row[b] = uint16(overlap(mark[:n]+string([]byte{byte(b)}), mark))
			}
		}
		d.next = append(d.next, row)
		switch {
		case n == len(mark):
			d.outcomes = append(d.outcomes, found)
			d.short = append(d.short, completion{"", found})
		case open:
			d.outcomes = append(d.outcomes, 0)
			d.short = append(d.short, completion{"", 0})
		default:
			d.outcomes = append(d.outcomes, -1)
			d.short = append(d.short, completion{mark[n:], found})
		}
	}
	return d
}

// overlap is the length of the longest end of text that mark begins with.
func overlap(text, mark string) int {
	for n := min(len(text), len(mark)); n > 0; n-- {
		if strings.HasSuffix(text, mark[:n]) {
			return n
		}
	}
	return 0
}

// maxIndent bounds the white space after a line break, so that no model fills its answer with it.
const maxIndent = 24

// space is nothing, a space, or a line break and some indentation.
var space = func() *dfa {
	const begun, blank = 0, -1
	d, _, _ := explore(nil, begun, " \n\t", maxIndent+3, func(s int, b byte) (int, bool) {
		switch {
		case s == begun && b == ' ':
			return blank, true
		case s == begun && b == '\n':
			return 1, true
		case s > 0 && s <= maxIndent && (b == ' ' || b == '\t'):
			return s + 1, true
		}
		return 0, false
	}, func(int) int { return 0 })
	return d
}()

// text is a JSON string of a number of characters. A state is a place, how many characters are still needed, and for
// how many there is room.
type text struct {
	avoid byte // a character that does not come, except as an escape; 0 for none
}

// texts are the machines of strings, by the character that they avoid: one each, so that what is found for one schema
// serves for others.
var texts = map[byte]*text{0: {}, '<': {avoid: '<'}}

// Places within a string.
const (
	atOpen   = iota // before the opening quote
	inside          // between characters
	escaped         // after a backslash
	hex4            // four hexadecimal digits are to come, and so on
	hex3            //
	hex2            //
	hex1            //
	hexD            // after \uD: a digit that makes no half of a surrogate pair
	more1           // one byte of a character is to come, and so on
	more2           //
	more3           //
	afterE0         // lead bytes after which not every byte may come (Unicode standard, table 3-7)
	afterED         //
	afterF0         //
	afterF4         //
	atClosed        // after the closing quote
)

const (
	countBits = 28
	unbounded = 1<<countBits - 1
)

func textState(place, need, room int) uint64 {
	return uint64(place) | uint64(need)<<8 | uint64(room)<<(8+countBits)
}

func unpackText(s uint64) (place, need, room int) {
	return int(s & 0xff), int(s >> 8 & unbounded), int(s >> (8 + countBits))
}

// utf8Step is the place after a byte of a character, from inside or from within one.
func utf8Step(place int, b byte) (int, bool) {
	continues := b >= 0x80 && b <= 0xbf
	switch place {
	case inside:
		switch {
		case b < 0x80:
			return inside, true
		case b >= 0xc2 && b <= 0xdf:
			return more1, true
		case b == 0xe0:
			return afterE0, true
		case b == 0xed:
			return afterED, true
		case b >= 0xe1 && b <= 0xef:
			return more2, true
		case b == 0xf0:
			return afterF0, true
		case b >= 0xf1 && b <= 0xf3:
			return more3, true
		case b == 0xf4:
			return afterF4, true
		}
		return 0, false
	case more1:
		return inside, continues
	case more2:
		return more1, continues
	case more3:
		return more2, continues
	case afterE0:
		return more1, b >= 0xa0 && b <= 0xbf
	case afterED:
		return more1, b >= 0x80 && b <= 0x9f
	case afterF0:
		return more2, b >= 0x90 && b <= 0xbf
	case afterF4:
		return more2, b >= 0x80 && b <= 0x8f
	}
	return 0, false
}

func (t *text) step(s uint64, b byte) (uint64, bool) {
	place, need, room := unpackText(s)
	hexDigit := '0' <= b && b <= '9' || 'a' <= b && b <= 'f' || 'A' <= b && b <= 'F'
	switch place {
	case atOpen:
		return textState(inside, need, room), b == '"'
	case inside:
		switch {
		case b == '"':
			return textState(atClosed, 0, 0), need == 0
		case room == 0 || b < 0x20 || b == t.avoid:
			return 0, false
		}
		if room != unbounded {
			room--
		}
		need = max(0, need-1)
		if b == '\\' {
			return textState(escaped, need, room), true
		}
		place, ok := utf8Step(place, b)
		return textState(place, need, room), ok
	case escaped:
		if b == 'u' {
			return textState(hex4, need, room), true
		}
		return textState(inside, need, room), strings.IndexByte(`"\/bfnrt`, b) >= 0
	case hex4:
		if b == 'd' || b == 'D' {
			return textState(hexD, need, room), true
		}
		return textState(hex3, need, room), hexDigit
	case hexD:
		return textState(hex2, need, room), '0' <= b && b <= '7'
	case hex3, hex2:
		return textState(place+1, need, room), hexDigit
	case hex1:
		return textState(inside, need, room), hexDigit
	case atClosed:
		return 0, false
	}
	place, ok := utf8Step(place, b)
	return textState(place, need, room), ok
}

func (*text) outcome(s uint64) int {
	if place, _, _ := unpackText(s); place == atClosed {
		return 0
	}
	return -1
}

// canonical forgets counts that lie further off than n bytes reach.
func (*text) canonical(s uint64, n int) uint64 {
	place, need, room := unpackText(s)
	if room > n {
		room = unbounded
	}
	return textState(place, min(need, n+1), room)
}

// rest completes what has begun at each place within a character.
var rest = map[int]string{
	escaped: "n", hex4: "0020", hex3: "020", hex2: "20", hex1: "0", hexD: "000",
	more1: "\x80", more2: "\x80\x80", more3: "\x80\x80\x80",
	afterE0: "\xa0\x80", afterED: "\x80\x80", afterF0: "\x90\x80\x80", afterF4: "\x80\x80\x80",
}

func (*text) completions(s uint64) []completion {
	place, need, _ := unpackText(s)
	switch place {
	case atOpen:
		return []completion{{`"` + strings.Repeat("x", need) + `"`, 0}}
	case atClosed:
		return []completion{{"", 0}}
	}
	return []completion{{rest[place] + strings.Repeat("x", need) + `"`, 0}}
}

// others is a property's name that is none of some names. It is written without escapes, so that no name can be
// spelled in two ways, and is not empty unless there are no names. A state is a place, and whether one of the names is still possible: their range and depth.
type others struct {
	names *words
	avoid byte // a character that does not come; 0 for none
	most  int  // bytes that a name may have; 0 for no bound
}

// newOthers takes the names as they stand between quotes.
func newOthers(names []string, avoid byte, most int) *others {
	return &others{newWords(names, make([]int, len(names))), avoid, most}
}

// Once no name is possible any more, a state holds how many bytes have come, if that matters, in the place of their range.
const countAt = 9

const diverged = 1 << 8 // the bit that says that no name is possible any more

func (o *others) step(s uint64, b byte) (uint64, bool) {
	place := int(s & 0xff)
	switch {
	case place == atOpen:
		begun := uint64(inside)
		if len(o.names.texts) == 0 {
			begun |= diverged
		}
		return begun, b == '"'
	case place == atClosed:
		return 0, false
	case place == inside && b == '"':
		return atClosed, s&diverged != 0 || s>>9 != 0 && o.names.outcome(s>>9) < 0
	case place == inside && (b < 0x20 || b == '\\' || b == o.avoid):
		return 0, false
	}
	next, ok := utf8Step(place, b)
	count := s >> countAt
	if s&diverged == 0 {
		within, possible := o.names.step(s>>9, b)
		if possible {
			return uint64(next) | within<<9, ok
		}
		_, _, depth := o.names.unpack(s >> 9)
		count = uint64(depth)
	}
	if o.most == 0 {
		return uint64(next) | diverged, ok
	}
	// A character that has begun is let come to its end.
	count++
	return uint64(next) | diverged | count<<countAt, ok && (count <= uint64(o.most) || place != inside)
}

func (o *others) outcome(s uint64) int {
	if s&0xff == atClosed {
		return 0
	}
	return -1
}

// canonical forgets a count that is further from its end than n bytes reach.
func (o *others) canonical(s uint64, n int) uint64 {
	if s&diverged != 0 && int(s>>countAt)+n < o.most {
		return s & (1<<countAt - 1)
	}
	return s
}

// completions goes on with a character until the name is none of the others.
func (o *others) completions(s uint64) []completion {
	out := ""
	if s&0xff == atOpen {
		out = `"`
		s, _ = o.step(s, '"')
	}
	if tail := rest[int(s&0xff)]; tail != "" {
		out += tail
		for _, b := range []byte(tail) {
			s, _ = o.step(s, b)
		}
	}
	for s&0xff != atClosed {
		b := byte('x')
		if _, ok := o.step(s, '"'); ok {
			b = '"'
		}
		s, _ = o.step(s, b)
		out += string([]byte{b})
	}
	return []completion{{out, 0}}
}
