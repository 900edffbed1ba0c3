package grammar

import (
	"context"
	"fmt"
	"regexp/syntax"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// formatSources are the formats of texts, as patterns. They are narrower than the standards where those allow what hardly
// anyone expects: a leap second, a quoted mailbox.
var formatSources = map[string]string{
	"date":      `^` + dateForm + `$`,
	"time":      `^` + timeForm + `$`,
	"date-time": `^` + dateForm + `T` + timeForm + `$`,
	"duration":  `^P(([0-9]{1,6}D|[0-9]{1,6}M([0-9]{1,6}D)?|[0-9]{1,6}Y([0-9]{1,6}M([0-9]{1,6}D)?)?)(T` + durationTime + `)?|T` + durationTime + `|[0-9]{1,6}W)$`,
	"ipv4":      `^` + octet + `(\.` + octet + `){3}$`,
	"ipv6":      `^((` + group + `:){7}` + group + `|(` + group + `:){1,7}:|(` + group + `:){1,6}:` + group + `|(` + group + `:){1,5}(:` + group + `){2}|(` + group + `:){1,4}(:` + group + `){3}|(` + group + `:){1,3}(:` + group + `){4}|(` + group + `:){1,2}(:` + group + `){5}|` + group + `:(:` + group + `){6}|:((:` + group + `){1,7}|:))$`,
	"hostname":  `^` + label + `(\.` + label + `){0,5}$`,
	"uri":       `^[A-Za-z][A-Za-z0-9+.-]{0,15}:(//` + label + `(\.` + label + `){0,5}(:[0-9]{1,5})?)?(/` + pchar + `*)*(\?(` + pchar + `|[/?])*)?(#(` + pchar + `|[/?])*)?$`,
	"uuid":      `^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$`,
	"email":     `^[A-Za-z0-9]{1,20}([._+-][A-Za-z0-9]{1,20}){0,2}@[A-Za-z0-9]{1,16}(-[A-Za-z0-9]{1,16})?(\.[A-Za-z0-9]{1,16}){0,2}\.[A-Za-z]{2,16}$`,
}

// formats are the formats, compiled when the first one is asked for.
var formats = sync.OnceValue(func() map[string]*pattern {
	all := map[string]*pattern{}
	for name, source := range formatSources {
		p, err := newPattern(NewWork(context.Background()), source)
		if err != nil {
			panic(err) // they are patterns that can be enforced
		}
		all[name] = p
	}
	return all
})

const (
	// dateForm is RFC 3339's full-date, of the years 0001 to 9999, with the 29th of February in leap years only.
	dateForm = `(` + year + `-(` +
		`(0[13578]|1[02])-(0[1-9]|[12][0-9]|3[01])|(0[469]|11)-(0[1-9]|[12][0-9]|30)|02-(0[1-9]|1[0-9]|2[0-8]))` +
		`|` + leapYear + `-02-29)`
	year     = `([0-9]{3}[1-9]|[0-9]{2}[1-9]0|[0-9][1-9]00|[1-9]000)`
	leapYear = `([0-9]{2}(0[48]|[2468][048]|[13579][26])|(0[48]|[2468][048]|[13579][26])00)`
	// durationTime is the part of hours, minutes and seconds of RFC 3339's duration (appendix A).
	durationTime = `([0-9]{1,6}H([0-9]{1,6}M([0-9]{1,6}S)?)?|[0-9]{1,6}M([0-9]{1,6}S)?|[0-9]{1,6}S)`
	octet        = `(25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])`
	group        = `[0-9a-fA-F]{1,4}`
	label        = `[A-Za-z0-9]([A-Za-z0-9-]{0,20}[A-Za-z0-9])?`    // with hyphens within only
	pchar        = `([A-Za-z0-9._~!$&'()*+,;=:@-]|%[0-9A-Fa-f]{2})` // RFC 3986, section 3.3
	// timeForm is RFC 3339's full-time, with up to nine digits of a second.
	timeForm = `([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](\.[0-9]{1,9})?(Z|[+-]([01][0-9]|2[0-3]):[0-5][0-9])`
)

// What bounds the automaton of a pattern, over characters and over bytes.
const (
	maxPatternStates = 2000
	maxByteStates    = 10_000
)

// runes is a deterministic automaton over characters.
type runes struct {
	bounds  []rune  // where the classes of characters begin; the last one is beyond all characters
	next    [][]int // by state and class; -1 if there is none
	accept  []bool
	outcome []int // of what is accepted, if it is told apart
}

// pattern is a regular expression of ECMA-262 that Go's regexp package understands, without word boundaries and inline
// flags. As JSON Schema has it, it may match anywhere in a text.
type pattern struct {
	source string
	*runes // the texts in which it matches
}

// matches reports whether a text matches.
func (p *pattern) matches(text string) bool {
	at := 0
	for _, c := range text {
		if at = p.next[at][p.class(c)]; at < 0 {
			return false
		}
	}
	return p.accept[at]
}

// complement is the texts in which a pattern does not match.
func (p *pattern) complement() *pattern {
	all := &runes{bounds: p.bounds}
	away := len(p.next)
	for i, row := range p.next {
		row = slices.Clone(row)
		for class, to := range row {
			if to < 0 {
				row[class] = away
			}
		}
		all.next, all.accept = append(all.next, row), append(all.accept, !p.accept[i])
	}
	row := make([]int, len(p.bounds)-1)
	for class := range row {
		row[class] = away
	}
	all.next, all.accept = append(all.next, row), append(all.accept, true)
	return &pattern{"not " + p.source, all}
}

// patternStrings is the JSON strings that match all patterns and have from low to high characters; high may be -1. Their outcome says
// which of the patterns told match too, a bit for each. The result is nil if there are none. The character avoid, unless it is 0,
// does not come.
func patternStrings(w *Work, patterns, told []*pattern, low, high int, avoid byte) (*dfa, error) {
	type product struct {
		states [12]int
		count  int
	}
	must := len(patterns)
	if patterns = slices.Concat(patterns, told); len(patterns) > len(product{}.states) {
		return nil, fmt.Errorf("there are more than %d patterns for one text", len(product{}.states))
	}
	bounds := []rune{0, utf8.MaxRune + 1}
	for _, p := range patterns {
		bounds = append(bounds, p.bounds...)
	}
	slices.Sort(bounds)
	bounds = slices.Compact(bounds)
	counted := low > 0 || high >= 0
	most := low // counts beyond this make no difference
	if high >= 0 {
		most = high + 1
	}

	// First over characters, so that what cannot come to its end is known before characters become bytes.
	index := map[product]int{{}: 0}
	states := []product{{}}
	all := &runes{bounds: bounds}
	for i := 0; i < len(states); i++ {
		s := states[i]
		row := make([]int, len(bounds)-1)
		if err := w.spend(8 * len(row) * max(1, len(patterns))); err != nil {
			return nil, err
		}
		if err := w.hold(8 * len(row)); err != nil {
			return nil, err
		}
		for class := range row {
			row[class] = -1
			to, ok := product{}, true
			for k, p := range patterns {
				if to.states[k] = -1; s.states[k] >= 0 {
					to.states[k] = p.next[s.states[k]][p.class(bounds[class])]
				}
				ok = ok && (to.states[k] >= 0 || k >= must)
			}
			if counted {
				to.count = min(s.count+1, most)
			}
			if !ok || high >= 0 && to.count > high {
				continue
			}
			j, known := index[to]
			if !known {
				if j = len(states); j >= maxPatternStates {
					return nil, fmt.Errorf("its automaton, with the bounds of the length, has more than %d states", maxPatternStates)
				}
				index[to] = j
				states = append(states, to)
			}
			row[class] = j
		}
		all.next = append(all.next, row)
		accept, outcome := s.count >= low, 0
		for k, p := range patterns {
			matches := s.states[k] >= 0 && p.accept[s.states[k]]
			if k < must {
				accept = accept && matches
			} else if matches {
				outcome |= 1 << (k - must)
			}
		}
		all.accept, all.outcome = append(all.accept, accept), append(all.outcome, outcome)
	}
	all.prune()
	d, ok, err := all.bytes(w, avoid)
	if !ok && err == nil {
		err = fmt.Errorf("its automaton has too many states")
	}
	return d, err
}

// prune leaves out steps to where no end can be reached.
func (r *runes) prune() {
	alive := slices.Clone(r.accept)
	for changed := true; changed; {
		changed = false
		for i := len(alive) - 1; i >= 0; i-- {
			if !alive[i] && slices.ContainsFunc(r.next[i], func(to int) bool { return to >= 0 && alive[to] }) {
				alive[i], changed = true, true
			}
		}
	}
	for _, row := range r.next {
		for c, to := range row {
			if to >= 0 && !alive[to] {
				row[c] = -1
			}
		}
	}
}

// class is the class of a character.
func (r *runes) class(c rune) int {
	i, _ := slices.BinarySearch(r.bounds, c+1)
	return i - 1
}

// target is where all characters from low to high lead, if that is one place: a state, or -1 for nowhere.
func (r *runes) target(state int, low, high rune) (to int, one bool) {
	first, last := r.class(low), r.class(high)
	to = r.next[state][first]
	for c := first + 1; c <= last; c++ {
		if r.next[state][c] != to {
			return 0, false
		}
	}
	return to, true
}

// Escapes that JSON has for characters that cannot stand for themselves.
var shortEscapes = map[rune]byte{'"': '"', '\\': '\\', '\b': 'b', '\f': 'f', '\n': 'n', '\r': 'r', '\t': 't'}

// byteState is a place within a JSON string over a runes automaton.
type byteState struct {
	state int32
	place uint8 // as in text; atOpen to atClosed
	// Within a character: the bytes' worth so far, unless all that can follow leads to one place, which state then is.
	prefix  rune
	settled bool
}

// bytes makes an automaton over the bytes of JSON strings.
func (r *runes) bytes(w *Work, avoid byte) (*dfa, bool, error) {
	// characters gives how many characters continuation bytes make a difference between.
	left := map[uint8]int{more1: 1, more2: 2, more3: 3, afterE0: 2, afterED: 2, afterF0: 3, afterF4: 3}
	to := func(s byteState, c rune) (byteState, bool) {
		next := r.next[s.state][r.class(c)]
		return byteState{state: int32(next), place: inside}, next >= 0
	}
	// within is a state in the middle of a character, in its shortest form.
	within := func(s byteState) (byteState, bool) {
		if s.settled {
			return s, true
		}
		bits := 6 * left[s.place]
		low, high := s.prefix<<bits, s.prefix<<bits|(1<<bits-1)
		switch s.place { // what these may be followed by is less
		case afterE0:
			low = 0x800
		case afterED:
			high = 0xd7ff
		case afterF0:
			low = 0x10000
		case afterF4:
			high = utf8.MaxRune
		}
		next, one := r.target(int(s.state), low, high)
		if !one {
			return s, true
		}
		return byteState{state: int32(next), place: s.place, settled: true}, next >= 0
	}
	step := func(s byteState, b byte) (byteState, bool) {
		switch s.place {
		case atOpen:
			return byteState{place: inside}, b == '"'
		case inside:
			switch {
			case b == '"':
				return byteState{state: int32(r.outcome[s.state]), place: atClosed}, r.accept[s.state]
			case b == '\\':
				return byteState{state: s.state, place: escaped}, true
			case b < 0x20 || b == avoid:
				return s, false
			case b < 0x80:
				return to(s, rune(b))
			}
			place, ok := utf8Step(inside, b)
			if !ok {
				return s, false
			}
			mask := map[int]byte{1: 0x1f, 2: 0x0f, 3: 0x07}[left[uint8(place)]]
			return within(byteState{state: s.state, place: uint8(place), prefix: rune(b & mask)})
		case escaped:
			for c, e := range shortEscapes {
				if b == e {
					return to(s, c)
				}
			}
			return byteState{state: s.state, place: hex4}, b == 'u'
		case hex4, hex3:
			return byteState{state: s.state, place: s.place + 1}, b == '0'
		case hex2:
			return byteState{state: s.state, place: hex1, prefix: rune(b - '0')}, b == '0' || b == '1'
		case hex1:
			c := rune(strings.IndexByte("0123456789abcdef", b))
			if _, short := shortEscapes[s.prefix<<4|c]; c < 0 || short {
				return s, false
			}
			return to(s, s.prefix<<4|c)
		case atClosed:
			return s, false
		}
		place, ok := utf8Step(int(s.place), b)
		if !ok {
			return s, false
		}
		s.place = uint8(place)
		if !s.settled {
			s.prefix = s.prefix<<6 | rune(b&0x3f)
		}
		switch {
		case place != inside:
			return within(s)
		case s.settled:
			return byteState{state: s.state, place: inside}, true
		}
		return to(s, s.prefix)
	}
	return explore(w, byteState{}, "", maxByteStates, step, func(s byteState) int {
		if s.place == atClosed {
			return int(s.state)
		}
		return -1
	})
}

// automaton makes the one of texts in which a pattern matches that does not look ahead.
func automaton(w *Work, source string) (*pattern, error) {
	if err := w.spend(100 * len(source)); err != nil {
		return nil, err
	}
	translated, err := ecma(source)
	if err != nil {
		return nil, err
	}
	re, err := syntax.Parse(translated, syntax.Perl)
	if err != nil {
		return nil, fmt.Errorf("%q is not a pattern that can be enforced: %w", source, err)
	}
	if err := narrow(re); err != nil {
		return nil, fmt.Errorf("%q is not a pattern that can be enforced: %w", source, err)
	}
	any := func() *syntax.Regexp {
		return &syntax.Regexp{Op: syntax.OpStar, Sub: []*syntax.Regexp{{Op: syntax.OpAnyChar}}}
	}
	prog, err := syntax.Compile((&syntax.Regexp{Op: syntax.OpConcat, Sub: []*syntax.Regexp{any(), re, any()}}).Simplify())
	if err != nil {
		return nil, fmt.Errorf("%q is not a pattern that can be enforced: %w", source, err)
	}
	r := &runes{bounds: []rune{0, unicode.MaxRune + 1}}
	for i := range prog.Inst {
		inst := &prog.Inst[i]
		switch inst.Op {
		case syntax.InstRune, syntax.InstRune1:
			for k := 0; k < len(inst.Rune); k += 2 {
				r.bounds = append(r.bounds, inst.Rune[k], inst.Rune[min(k+1, len(inst.Rune)-1)]+1)
			}
		case syntax.InstRuneAnyNotNL:
			r.bounds = append(r.bounds, '\n', '\n'+1)
		}
	}
	slices.Sort(r.bounds)
	r.bounds = slices.Compact(r.bounds)

	index := map[string]int{}
	var sets [][]uint32
	add := func(set []uint32) int {
		key := fmt.Sprint(set)
		i, ok := index[key]
		if !ok {
			i = len(sets)
			index[key] = i
			sets = append(sets, set)
		}
		return i
	}
	add(closure(prog, []uint32{uint32(prog.Start)}, syntax.EmptyBeginText|syntax.EmptyBeginLine))
	for i := 0; i < len(sets); i++ {
		// For each class of characters the instructions of the set are tried, and where they lead is followed.
		if err := w.spend(len(r.bounds) * (8 + 16*len(sets[i]))); err != nil {
			return nil, err
		}
		if err := w.hold(8*len(r.bounds) + 4*len(sets[i])); err != nil {
			return nil, err
		}
		if i >= maxPatternStates {
			return nil, fmt.Errorf("%q is not a pattern that can be enforced: its automaton has more than %d states", source, maxPatternStates)
		}
		row := make([]int, len(r.bounds)-1)
		for class := range row {
			var out []uint32
			for _, pc := range sets[i] {
				inst := &prog.Inst[pc]
				switch inst.Op {
				case syntax.InstRune, syntax.InstRune1, syntax.InstRuneAny, syntax.InstRuneAnyNotNL:
					if inst.MatchRune(r.bounds[class]) {
						out = append(out, inst.Out)
					}
				}
			}
			row[class] = -1
			if len(out) > 0 {
				row[class] = add(closure(prog, out, 0))
			}
		}
		r.next = append(r.next, row)
		end := syntax.EmptyEndText | syntax.EmptyEndLine
		if i == 0 {
			end |= syntax.EmptyBeginText | syntax.EmptyBeginLine
		}
		r.accept = append(r.accept, slices.ContainsFunc(closure(prog, sets[i], end), func(pc uint32) bool { return prog.Inst[pc].Op == syntax.InstMatch }))
	}
	return &pattern{source, r}, nil
}

// closure is where a program can be without another character, at a place with the given properties. Assertions that
// do not hold yet stay, since they may at the end.
func closure(prog *syntax.Prog, from []uint32, at syntax.EmptyOp) []uint32 {
	seen := map[uint32]bool{}
	var out []uint32
	var visit func(uint32)
	visit = func(pc uint32) {
		if seen[pc] {
			return
		}
		seen[pc] = true
		inst := &prog.Inst[pc]
		switch inst.Op {
		case syntax.InstAlt, syntax.InstAltMatch:
			visit(inst.Out)
			visit(inst.Arg)
		case syntax.InstCapture, syntax.InstNop:
			visit(inst.Out)
		case syntax.InstEmptyWidth:
			if op := syntax.EmptyOp(inst.Arg); op&^at == 0 {
				visit(inst.Out)
			} else if op&(syntax.EmptyBeginText|syntax.EmptyBeginLine) == 0 {
				out = append(out, pc)
			}
		case syntax.InstFail:
		default:
			out = append(out, pc)
		}
	}
	for _, pc := range from {
		visit(pc)
	}
	slices.Sort(out)
	return out
}

// narrow refuses what is not enforced, and takes the ends of lines out of what a dot stands for.
func narrow(re *syntax.Regexp) error {
	switch re.Op {
	case syntax.OpWordBoundary, syntax.OpNoWordBoundary:
		return fmt.Errorf("it has word boundaries")
	case syntax.OpAnyCharNotNL:
		re.Op = syntax.OpCharClass
		re.Rune = []rune{0, '\n' - 1, '\n' + 1, '\r' - 1, '\r' + 1, '\u2027', '\u202a', unicode.MaxRune}
	}
	if re.Op == syntax.OpLiteral && re.Flags&syntax.FoldCase != 0 { // as Go has [aA]
		letters := re.Rune
		*re = syntax.Regexp{Op: syntax.OpConcat}
		for _, c := range letters {
			class := []rune{c, c}
			for other := unicode.SimpleFold(c); other != c; other = unicode.SimpleFold(other) {
				class = append(class, other, other)
			}
			slices.Sort(class)
			re.Sub = append(re.Sub, &syntax.Regexp{Op: syntax.OpCharClass, Rune: class})
		}
		return nil
	}
	for _, sub := range re.Sub {
		if err := narrow(sub); err != nil {
			return err
		}
	}
	return nil
}
