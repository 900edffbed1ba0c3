package cli

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// What models, applications and other people's files say is printed to a terminal, which obeys control characters: so they are shown
// as escapes. Lines may end and tabs stand, nothing else.

// obeyed reports whether a character would do something to a terminal, or to the order in which text is read.
func obeyed(r rune) bool {
	switch {
	case r == '\n', r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r <= 0x9f:
		return true
	}
	return unicode.Is(unicode.Bidi_Control, r) || r == 0x2028 || r == 0x2029
}

// shown is a text as it may be printed.
func shown(s string) string {
	if strings.IndexFunc(s, obeyed) < 0 && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[0])
		case obeyed(r):
			b.WriteString(escape(r))
		default:
			b.WriteRune(r)
		}
		s = s[n:]
	}
	return b.String()
}

func escape(r rune) string {
	if r < 0x100 {
		return fmt.Sprintf(`\x%02x`, r)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

// shownJSON is a JSON document whose texts may be printed when they are decoded.
func shownJSON(raw []byte) []byte {
	out := make([]byte, 0, len(raw))
	for len(raw) > 0 {
		r, n := utf8.DecodeRune(raw)
		switch {
		case r == '\\' && len(raw) >= 6 && raw[1] == 'u':
			var code [2]byte
			if _, err := hex.Decode(code[:], raw[2:6]); err == nil && obeyed(rune(code[0])<<8|rune(code[1])) {
				out = append(out, '\\') // so that the escape is what the text says
			}
			n = 6
			out = append(out, raw[:n]...)
		case r == '\\' && len(raw) >= 2:
			if strings.IndexByte("bfr", raw[1]) >= 0 {
				out = append(out, '\\')
			}
			n = 2
			out = append(out, raw[:n]...)
		case r >= utf8.RuneSelf && obeyed(r):
			out = append(out, '\\')
			out = append(out, escape(r)...)
		default:
			out = append(out, raw[:n]...)
		}
		raw = raw[n:]
	}
	return out
}

// printableJSON is a JSON document with the same meaning that may be printed.
func printableJSON(raw []byte) []byte {
	out := make([]byte, 0, len(raw))
	for len(raw) > 0 {
		r, n := utf8.DecodeRune(raw)
		if r >= 0x7f && obeyed(r) {
			out = fmt.Appendf(out, `\u%04x`, r)
		} else {
			out = append(out, raw[:n]...)
		}
		raw = raw[n:]
	}
	return out
}
