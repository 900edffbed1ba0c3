package jinja

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/language"
)

// Case and classes of characters are those of Unicode, with its special casing (the Unicode standard, section 3.13), as in Python.

func isUpper(r rune) bool { return unicode.IsUpper(r) || unicode.Is(unicode.Other_Uppercase, r) }
func isLower(r rune) bool { return unicode.IsLower(r) || unicode.Is(unicode.Other_Lowercase, r) }
func isCased(r rune) bool { return isUpper(r) || isLower(r) || unicode.IsTitle(r) }

// isCaseIgnorable reports what is passed over when it is looked for whether a letter ends a word.
func isCaseIgnorable(r rune) bool {
	return unicode.In(r, unicode.Mn, unicode.Me, unicode.Cf, unicode.Lm, unicode.Sk) || strings.ContainsRune("'.:·’‘․﹒＇．·։״‧︓﹕：", r)
}

// mapRunes changes each character by what it is and what stands around it; each keeps its origin.
func (t Text) mapRunes(change func(s []rune, i int) string) Text {
	all := []rune(t.s)
	var b textBuilder
	i := 0
	t.each(func(piece string, o Origin) {
		for range piece {
			b.add(change(all, i), o)
			i++
		}
	})
	if i != len(all) { // a character lies across two origins, which texts never do
		panic("jinja: a character is cut in two")
	}
	return b.text()
}

func lowerAt(s []rune, i int) string {
	r := s[i]
	switch {
	case r < utf8.RuneSelf:
		return string(unicode.ToLower(r))
	case r == 'Σ' && endsWord(s, i):
		return "ς"
	case r == 'İ':
		return "i̇"
	}
	return string(unicode.ToLower(r))
}

// endsWord is Unicode's condition Final_Sigma.
func endsWord(s []rune, i int) bool {
	before, after := i-1, i+1
	for before >= 0 && isCaseIgnorable(s[before]) {
		before--
	}
	for after < len(s) && isCaseIgnorable(s[after]) {
		after++
	}
	return before >= 0 && isCased(s[before]) && (after == len(s) || !isCased(s[after]))
}

func upperAt(s []rune, i int) string {
	if s[i] < utf8.RuneSelf {
		return string(unicode.ToUpper(s[i]))
	}
	return cases.Upper(language.Und).String(string(s[i]))
}

func titleAt(s []rune, i int) string {
	if s[i] < utf8.RuneSelf {
		return string(unicode.ToUpper(s[i]))
	}
	return cases.Title(language.Und).String(string(s[i]))
}

func lower(t Text) Text { return t.mapRunes(lowerAt) }
func upper(t Text) Text { return t.mapRunes(upperAt) }

func capitalize(t Text) Text {
	return t.mapRunes(func(s []rune, i int) string {
		if i == 0 {
			return titleAt(s, i)
		}
		return lowerAt(s, i)
	})
}

// titleMethod makes the first of each run of letters large, the others small.
func titleMethod(t Text) Text {
	return t.mapRunes(func(s []rune, i int) string {
		if i > 0 && isCased(s[i-1]) {
			return lowerAt(s, i)
		}
		return titleAt(s, i)
	})
}

// titleFilter makes the first of each word large, the others small: words are parted by white space, hyphens and opening brackets.
func titleFilter(t Text) Text {
	starts := func(s []rune, i int) bool {
		return i == 0 || strings.ContainsRune("-([{<", s[i-1]) || isSpace(s[i-1])
	}
	return t.mapRunes(func(s []rune, i int) string {
		if starts(s, i) {
			return upperAt(s, i)
		}
		// Each word by itself is made small, so only it decides where a word ends.
		from, to := i, i+1
		for !starts(s, from) {
			from--
		}
		for to < len(s) && !starts(s, to) {
			to++
		}
		return lowerAt(s[from+1:to], i-from-1)
	})
}

func swapCase(t Text) Text {
	return t.mapRunes(func(s []rune, i int) string {
		switch {
		case isUpper(s[i]):
			return lowerAt(s, i)
		case isLower(s[i]):
			return upperAt(s, i)
		}
		return string(s[i])
	})
}

func isTitle(s string) bool {
	cased, before := false, false
	for _, r := range s {
		switch {
		case isUpper(r) || unicode.IsTitle(r):
			if before {
				return false
			}
			cased, before = true, true
		case isLower(r):
			if !before {
				return false
			}
			cased, before = true, true
		default:
			before = false
		}
	}
	return cased
}

// digits are characters that stand for a digit beside those of the class Nd.
var digits = &unicode.RangeTable{
	R16: []unicode.Range16{{0xb2, 0xb3, 1}, {0xb9, 0xb9, 1}, {0x1369, 0x1371, 1}, {0x19da, 0x19da, 1}, {0x2070, 0x2070, 1}, {0x2074, 0x2079, 1}, {0x2080, 0x2089, 1},
		{0x2460, 0x2468, 1}, {0x2474, 0x247c, 1}, {0x2488, 0x2490, 1}, {0x24ea, 0x24ea, 1}, {0x24f5, 0x24fd, 1}, {0x24ff, 0x24ff, 1}, {0x2776, 0x277e, 1}, {0x2780, 0x2788, 1}, {0x278a, 0x2792, 1}},
	R32:         []unicode.Range32{{0x10a40, 0x10a43, 1}, {0x10e60, 0x10e68, 1}, {0x11052, 0x1105a, 1}, {0x1f100, 0x1f10a, 1}},
	LatinOffset: 2,
}

func isDigit(r rune) bool     { return unicode.IsDigit(r) || unicode.Is(digits, r) }
func isAlnum(r rune) bool     { return unicode.IsLetter(r) || unicode.IsNumber(r) }
func isPrintable(r rune) bool { return r == ' ' || unicode.IsPrint(r) }

// isIdentifier reports whether s is a name by Python's rules.
func isIdentifier(s string) bool {
	for i, r := range s {
		start := r == '_' || unicode.IsLetter(r) || unicode.Is(unicode.Nl, r)
		if !start && (i == 0 || !unicode.In(r, unicode.Mn, unicode.Mc, unicode.Nd, unicode.Pc)) {
			return false
		}
	}
	return s != ""
}
