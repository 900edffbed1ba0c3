package remote

import (
	"bytes"
	"unicode/utf8"
)

// Most pieces of a stream have a little text and nothing else that is new. They are read here, without the reflection of encoding/json, which
// would take most of the time that a gate spends on passing a stream on. Whatever looks otherwise is left to that.

// textPiece reads a chunk of the chat style that has text for one candidate, and nothing else. ok is false if it is not one for certain.
func textPiece(data []byte) (index int, text []byte, ok bool) {
	s := scan{data, 0}
	found := false
	ok = s.object(func(name []byte) bool {
		if string(name) != "choices" {
			// An error or a count is more than text.
			return (string(name) != "error" && string(name) != "usage" || s.null()) && s.skip()
		}
		if found || !s.take('[') || !s.object(func(name []byte) bool {
			switch string(name) {
			case "index":
				return s.number(&index)
			case "delta":
				return s.object(func(name []byte) bool {
					switch string(name) {
					case "content":
						if s.null() {
							return s.skip()
						}
						var good bool
						text, good = s.text()
						return good
					case "role":
						_, good := s.text()
						return good
					}
					return s.null() && s.skip()
				})
			}
			return s.null() && s.skip() // a reason, scores, a message
		}) {
			return false
		}
		found = true
		return s.take(']')
	})
	return index, text, ok && found && s.i == len(s.b)
}

// scan goes through JSON. Each method takes what it names, and reports whether that was there.
type scan struct {
	b []byte
	i int
}

func (s *scan) space() {
	for s.i < len(s.b) && (s.b[s.i] == ' ' || s.b[s.i] == '\n' || s.b[s.i] == '\t' || s.b[s.i] == '\r') {
		s.i++
	}
}

// take takes a character, with the space around it.
func (s *scan) take(c byte) bool {
	s.space()
	if s.i >= len(s.b) || s.b[s.i] != c {
		return false
	}
	s.i++
	s.space()
	return true
}

// null reports whether null comes next, without taking it.
func (s *scan) null() bool { return bytes.HasPrefix(s.b[s.i:], []byte("null")) }

// object takes an object; member takes the value of each of its fields.
func (s *scan) object(member func(name []byte) bool) bool {
	if !s.take('{') {
		return false
	}
	if s.take('}') {
		return true
	}
	for {
		name, ok := s.text()
		if !ok || !s.take(':') || !member(name) {
			return false
		}
		if s.take('}') {
			return true
		}
		if !s.take(',') {
			return false
		}
	}
}

// text takes a text without escapes, and with nothing that is not text.
func (s *scan) text() ([]byte, bool) {
	if s.i >= len(s.b) || s.b[s.i] != '"' {
		return nil, false
	}
	begin, ascii := s.i+1, true
	for i := begin; i < len(s.b); i++ {
		switch c := s.b[i]; {
		case c == '"':
			s.i = i + 1
			return s.b[begin:i], ascii || utf8.Valid(s.b[begin:i])
		case c == '\\' || c < ' ':
			return nil, false
		case c >= utf8.RuneSelf:
			ascii = false
		}
	}
	return nil, false
}

// number takes a whole number of a few digits.
func (s *scan) number(n *int) bool {
	begin := s.i
	*n = 0
	for s.i < len(s.b) && '0' <= s.b[s.i] && s.b[s.i] <= '9' && s.i-begin < 9 {
		*n = *n*10 + int(s.b[s.i]-'0')
		s.i++
	}
	// What goes on is another sort of number, and so is one that begins with more zeros than JSON has.
	return s.i > begin && (s.b[begin] != '0' || s.i == begin+1) && (s.i == len(s.b) || bytes.IndexByte([]byte(",}] \n\t\r"), s.b[s.i]) >= 0)
}

// skip takes a text, a whole number or a word.
func (s *scan) skip() bool {
	if s.i >= len(s.b) {
		return false
	}
	var n int
	switch c := s.b[s.i]; {
	case c == '"':
		_, ok := s.text()
		return ok
	case '0' <= c && c <= '9':
		// Times have more digits than numbers of candidates.
		if s.number(&n) {
			return true
		}
		for s.i < len(s.b) && '0' <= s.b[s.i] && s.b[s.i] <= '9' {
			s.i++
		}
		return c != '0' && s.i < len(s.b) && (s.b[s.i] == ',' || s.b[s.i] == '}')
	}
	for _, word := range []string{"null", "true", "false"} {
		if bytes.HasPrefix(s.b[s.i:], []byte(word)) {
			s.i += len(word)
			return true
		}
	}
	return false
}
