package jinja

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// item is a token of the template.
type item struct {
	typ  itemType
	val  string // as written; for strings, what it says
	line int
}

type itemType int

const (
	itemEOF        itemType = iota
	itemData                // text outside tags
	itemBlockBegin          // {%
	itemBlockEnd            // %}
	itemPrintBegin          // {{
	itemPrintEnd            // }}
	itemName
	itemString
	itemInt
	itemFloat
	itemOp
)

func (i item) String() string {
	switch i.typ {
	case itemEOF:
		return "the end of the template"
	case itemData:
		return "text"
	case itemString:
		return fmt.Sprintf("the string %.30q", i.val)
	}
	return fmt.Sprintf("%q", i.val)
}

// lexer gives out the template's tokens one by one. Its state is a function, which lexes what it can and
// says which state comes next.
type lexer struct {
	src       string
	pos       int
	line      int
	lineStart bool // the position is at the start of a line, whatever a tag before it has swallowed
	items     []item
	state     stateFn
	brackets  []byte // the closing brackets that are due
}

type stateFn func(*lexer) stateFn

// newLexer normalises line breaks and drops one at the very end, as the language does.
func newLexer(src string) *lexer {
	src = strings.ReplaceAll(src, "\r\n", "\n")
	src = strings.ReplaceAll(src, "\r", "\n")
	return &lexer{src: strings.TrimSuffix(src, "\n"), line: 1, lineStart: true, state: lexData}
}

// next returns the next token; after the last it is itemEOF for ever.
func (l *lexer) next() item {
	for len(l.items) == 0 {
		if l.state == nil {
			return item{typ: itemEOF, line: l.line}
		}
		l.state = l.state(l)
	}
	it := l.items[0]
	l.items = l.items[1:]
	return it
}

func (l *lexer) fail(format string, args ...any) {
	panic(&Error{Line: l.line, Msg: fmt.Sprintf(format, args...)})
}

// emit adds a token of the next n bytes and moves past them.
func (l *lexer) emit(typ itemType, n int) {
	l.items = append(l.items, item{typ, l.src[l.pos : l.pos+n], l.line})
	l.skip(n)
}

func (l *lexer) skip(n int) {
	l.line += strings.Count(l.src[l.pos:l.pos+n], "\n")
	l.pos += n
	if n > 0 {
		l.lineStart = l.src[l.pos-1] == '\n'
	}
}

// lexData takes text up to the next tag, and strips it where the tag says so.
func lexData(l *lexer) stateFn {
	rest := l.src[l.pos:]
	i := 0
	for ; i < len(rest); i++ {
		if rest[i] == '{' && i+1 < len(rest) && strings.IndexByte("{%#", rest[i+1]) >= 0 {
			break
		}
	}
	if i == len(rest) {
		if i > 0 {
			l.emit(itemData, i)
		}
		return nil
	}
	data, kind := rest[:i], rest[i+1]
	sign := byte(0)
	if i+2 < len(rest) && (rest[i+2] == '-' || rest[i+2] == '+') {
		sign = rest[i+2]
	}
	keep := len(data)
	switch {
	case sign == '-':
		keep = len(strings.TrimRightFunc(data, isSpace))
	case sign == 0 && kind != '{': // lstrip_blocks: a tag alone on its line takes its indentation along
		from := strings.LastIndexByte(data, '\n') + 1
		if (from > 0 || l.lineStart) && strings.TrimFunc(data[from:], isSpace) == "" {
			keep = from
		}
	}
	if keep > 0 {
		l.emit(itemData, keep)
	}
	l.skip(len(data) - keep)
	n := 2
	if sign != 0 {
		n = 3
	}
	switch kind {
	case '#':
		return lexComment
	case '%':
		if m := rawBegin.FindString(l.src[l.pos:]); m != "" {
			l.skip(len(m))
			return lexRaw
		}
		l.emit(itemBlockBegin, n)
	default:
		l.emit(itemPrintBegin, n)
	}
	return lexTag
}

var (
	rawBegin = regexp.MustCompile(`^\{%[-+]?\s*raw\s*(?:-%\}\s*|%\})`)
	rawEnd   = regexp.MustCompile(`\{%([-+]?)\s*endraw\s*(?:\+%\}|-%\}\s*|%\}\n?)`)
)

// lexRaw takes everything up to endraw as text.
func lexRaw(l *lexer) stateFn {
	m := rawEnd.FindStringSubmatchIndex(l.src[l.pos:])
	if m == nil {
		l.fail("the raw block is never closed: {%% endraw %%} is missing")
	}
	data := l.src[l.pos : l.pos+m[0]]
	keep := len(data)
	switch sign := l.src[l.pos+m[2] : l.pos+m[3]]; {
	case sign == "-":
		keep = len(strings.TrimRightFunc(data, isSpace))
	case sign == "":
		if from := strings.LastIndexByte(data, '\n') + 1; (from > 0 || l.lineStart) && strings.TrimFunc(data[from:], isSpace) == "" {
			keep = from
		}
	}
	if keep > 0 {
		l.emit(itemData, keep)
	}
	l.skip(m[1] - keep)
	return lexData
}

func lexComment(l *lexer) stateFn {
	i := strings.Index(l.src[l.pos:], "#}")
	if i < 0 {
		l.fail("the comment is never closed: #} is missing")
	}
	sign := l.src[l.pos+i-1]
	l.skip(i + 2)
	l.afterTag(sign, true)
	return lexData
}

// afterTag swallows what follows a closing tag: all white space after -, and the line break after a block
// or comment (trim_blocks) unless there is a +.
func (l *lexer) afterTag(sign byte, block bool) {
	rest := l.src[l.pos:]
	switch {
	case sign == '-':
		l.skip(len(rest) - len(strings.TrimLeftFunc(rest, isSpace)))
	case block && sign != '+' && strings.HasPrefix(rest, "\n"):
		l.skip(1)
	}
}

// operators, longest first.
var operators = []string{"==", "!=", ">=", "<=", "//", "**", "+", "-", "*", "/", "%", "~", "|", ".", ",", ":", "=", "<", ">", "(", ")", "[", "]", "{", "}"}

var numeral = regexp.MustCompile(`^(?:0[xX](?:_?[0-9a-fA-F])+|0[oO](?:_?[0-7])+|0[bB](?:_?[01])+|[0-9](?:_?[0-9])*(?:(?:\.[0-9](?:_?[0-9])*)?[eE][+-]?[0-9](?:_?[0-9])*|\.[0-9](?:_?[0-9])*)?)`)

// lexTag takes one token inside a tag.
func lexTag(l *lexer) stateFn {
	rest := l.src[l.pos:]
	l.skip(len(rest) - len(strings.TrimLeftFunc(rest, isSpace)))
	rest = l.src[l.pos:]
	if rest == "" {
		l.fail("the tag is never closed")
	}
	if len(l.brackets) == 0 {
		for _, end := range []string{"%}", "}}"} {
			sign := byte(0)
			n := len(end)
			if (rest[0] == '-' || rest[0] == '+' && end == "%}") && strings.HasPrefix(rest[1:], end) {
				sign = rest[0]
				n++
			} else if !strings.HasPrefix(rest, end) {
				continue
			}
			typ := itemPrintEnd
			if end == "%}" {
				typ = itemBlockEnd
			}
			l.emit(typ, n)
			l.afterTag(sign, typ == itemBlockEnd)
			return lexData
		}
	}
	switch c := rest[0]; {
	case c == '\'' || c == '"':
		l.lexString(c)
		return lexTag
	case '0' <= c && c <= '9':
		l.lexNumber(numeral.FindString(rest))
		return lexTag
	}
	if n := nameLength(rest); n > 0 {
		l.emit(itemName, n)
		return lexTag
	}
	for _, op := range operators {
		if strings.HasPrefix(rest, op) {
			l.bracket(op[0])
			l.emit(itemOp, len(op))
			return lexTag
		}
	}
	r, _ := utf8.DecodeRuneInString(rest)
	l.fail("unexpected character %q", r)
	return nil
}

// bracket keeps the open brackets in mind, because %} and }} do not end a tag within them.
func (l *lexer) bracket(c byte) {
	switch c {
	case '(':
		l.brackets = append(l.brackets, ')')
	case '[':
		l.brackets = append(l.brackets, ']')
	case '{':
		l.brackets = append(l.brackets, '}')
	case ')', ']', '}':
		if len(l.brackets) == 0 {
			l.fail("unexpected %q", c)
		}
		if want := l.brackets[len(l.brackets)-1]; c != want {
			l.fail("unexpected %q, expected %q", c, want)
		}
		l.brackets = l.brackets[:len(l.brackets)-1]
	}
}

func (l *lexer) lexNumber(s string) {
	digits := strings.ReplaceAll(s, "_", "")
	typ := itemInt
	if _, ok := parseInteger(digits); !ok {
		typ = itemFloat
	}
	l.items = append(l.items, item{typ, digits, l.line})
	l.skip(len(s))
}

func (l *lexer) lexString(quote byte) {
	rest := l.src[l.pos:]
	for i := 1; i < len(rest); i++ {
		switch rest[i] {
		case '\\':
			i++
		case quote:
			l.items = append(l.items, item{itemString, unescape(rest[1:i]), l.line})
			l.skip(i + 1)
			return
		}
	}
	l.fail("the string is never closed: %c is missing", quote)
}

// unescape resolves the escapes of Python's strings. What is no escape stays as it is.
func unescape(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		switch c := s[i]; c {
		case 'x', 'u', 'U':
			n := map[byte]int{'x': 2, 'u': 4, 'U': 8}[c]
			if i+n < len(s) {
				if r, err := strconv.ParseUint(s[i+1:i+1+n], 16, 32); err == nil {
					b.WriteRune(rune(r))
					i += n
					continue
				}
			}
			b.WriteByte('\\')
			b.WriteByte(c)
		case '0', '1', '2', '3', '4', '5', '6', '7':
			n := 1
			for n < 3 && i+n < len(s) && '0' <= s[i+n] && s[i+n] <= '7' {
				n++
			}
			r, _ := strconv.ParseUint(s[i:i+n], 8, 32) // up to three octal digits, which always parse
			b.WriteRune(rune(r))
			i += n - 1
		case '\n':
		default:
			if at := strings.IndexByte(`\'"abfnrtv`, c); at >= 0 {
				b.WriteByte("\\'\"\a\b\f\n\r\t\v"[at])
			} else {
				b.WriteByte('\\')
				b.WriteByte(c)
			}
		}
	}
	return b.String()
}

func nameLength(s string) int {
	for i, r := range s {
		if r != '_' && !unicode.IsLetter(r) && (i == 0 || !unicode.IsDigit(r)) {
			return i
		}
	}
	return len(s)
}

// isSpace is what Python's strip takes for white space.
func isSpace(r rune) bool {
	return unicode.IsSpace(r) || 0x1c <= r && r <= 0x1f
}
