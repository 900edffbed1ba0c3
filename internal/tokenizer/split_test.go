package tokenizer

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"
)

func splitAll(text string) (words []string) {
	for len(text) > 0 {
		n := splitGPT2(text)
		words = append(words, text[:n])
		text = text[n:]
	}
	return words
}

func TestSplit(t *testing.T) {
	for text, want := range map[string][]string{
		"It's 12:30 now":       {"It", "'s", " 12", ":", "30", " now"},
		"we'll don't I'm he'd": {"we", "'ll", " don", "'t", " I", "'m", " he", "'d"},
		"'quoted'":             {"'", "quoted", "'"},
		"two  spaces":          {"two", " ", " spaces"},
		"end   ":               {"end", "   "},
		" \n x":                {" \n", " x"},
		"\n\nx":                {"\n", "\n", "x"},
		"a\tb":                 {"a", "\t", "b"},
		"   ":                  {"   "},
		"x  ?!":                {"x", " ", " ?!"},
		"日本語 12":               {"日本語", " 12"},
		"½ ² x":                {"½", " ²", " x"},
		"\u00a0x":              {"\u00a0", "x"},
		"a\xffb":               {"a", "\xff", "b"},
		"<|end|>":              {"<|", "end", "|>"},
	} {
		if got := splitAll(text); !slices.Equal(got, want) {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// reference matches the expression by trying its alternatives in order, one character at a time: slow, and close to
// how it is written.
func reference(text string) int {
	for _, c := range contractions {
		if strings.HasPrefix(text, c) {
			return len(c)
		}
	}
	runes := []rune(text)
	length := func(n int) int { return len(string(runes[:n])) }
	isSpace := func(r rune) bool { return unicode.Is(unicode.White_Space, r) }
	classes := []func(rune) bool{
		unicode.IsLetter,
		func(r rune) bool { return unicode.Is(unicode.N, r) },
		func(r rune) bool { return !isSpace(r) && !unicode.IsLetter(r) && !unicode.Is(unicode.N, r) },
	}
	for _, in := range classes {
		from := 0
		if runes[0] == ' ' {
			from = 1
		}
		n := from
		for n < len(runes) && in(runes[n]) {
			n++
		}
		if n > from {
			return length(n)
		}
	}
	n := 0
	for n < len(runes) && isSpace(runes[n]) {
		n++
	}
	if n < len(runes) && n > 1 { // \s+(?!\S): give one back
		return length(n - 1)
	}
	return length(n)
}

func TestSplitEqualsTheExpression(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	alphabet := []rune("ab 'stmrelvd1½?!\n\t \u00a0é日😀<|_-.")
	for range 20000 {
		var b strings.Builder
		for range 1 + r.IntN(12) {
			b.WriteRune(alphabet[r.IntN(len(alphabet))])
		}
		if text := b.String(); utf8.ValidString(text) {
			if got, want := splitGPT2(text), reference(text); got != want {
				t.Fatalf("%q: the first word is %q, want %q", text, text[:got], text[:want])
			}
		}
	}
}

// The cache changes nothing, full or empty.
func TestCacheChangesNothing(t *testing.T) {
	tok := harbour(t)
	text := strings.Repeat("The last boat to Osmer leaves at 19:40. ", 3)
	first := tok.Encode(text)
	again := tok.Encode(text)
	tok.cache.words = map[string][]Token{}
	for i := range cachedWords {
		tok.cache.words[strings.Repeat("z", i%30)+string(rune('a'+i%26))+string(rune(0x4e00+i))] = nil
	}
	full := tok.Encode(text)
	if !slices.Equal(first, again) || !slices.Equal(first, full) || len(tok.cache.words) > cachedWords {
		t.Errorf("%v\n%v\n%v, %d words", first, again, full, len(tok.cache.words))
	}
}
