package tokenizer

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// class is what the split expressions ask about a character.
type class uint8

const (
	other class = iota
	letter
	number
	space
)

func classify(r rune) class {
	switch {
	case r < utf8.RuneSelf:
		switch {
		case 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z':
			return letter
		case '0' <= r && r <= '9':
			return number
		case r == ' ' || '\t' <= r && r <= '\r':
			return space
		}
		return other
	case unicode.IsLetter(r):
		return letter
	case unicode.Is(unicode.N, r):
		return number
	case unicode.Is(unicode.White_Space, r):
		return space
	}
	return other
}

var contractions = []string{"'s", "'t", "'re", "'ve", "'m", "'ll", "'d"}

// splitGPT2 returns the length of the first match of
//
//	's|'t|'re|'ve|'m|'ll|'d| ?\p{L}+| ?\p{N}+| ?[^\s\p{L}\p{N}]+|\s+(?!\S)|\s+
//
// which always matches at the start of a text that is not empty. It is written out because the standard
// expressions cannot look ahead. A byte that is not UTF-8 counts as a character of no class.
func splitGPT2(text string) int {
	if text[0] == '\'' {
		for _, c := range contractions {
			if strings.HasPrefix(text, c) {
				return len(c)
			}
		}
	}
	r, n := utf8.DecodeRuneInString(text)
	kind := classify(r)
	if r == ' ' && n < len(text) {
		next, size := utf8.DecodeRuneInString(text[n:])
		if k := classify(next); k != space {
			return run(text, n+size, k)
		}
	}
	if kind != space {
		return run(text, n, kind)
	}
	end := run(text, n, space)
	if end == len(text) {
		return end
	}
	// Something other than space follows, so the last space is left to it, unless it is the only one.
	_, last := utf8.DecodeLastRuneInString(text[:end])
	if end == last {
		return end
	}
	return end - last
}

// run returns where the characters of that class end that go on from i.
func run(text string, i int, kind class) int {
	for i < len(text) {
		r, n := utf8.DecodeRuneInString(text[i:])
		if classify(r) != kind {
			break
		}
		i += n
	}
	return i
}
