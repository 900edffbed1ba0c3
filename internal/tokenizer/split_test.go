package tokenizer

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"kindredgate/internal/weights"
)

const gpt2 = `'s|'t|'re|'ve|'m|'ll|'d| ?\p{L}+| ?\p{N}+| ?[^\s\p{L}\p{N}]+|\s+(?!\S)|\s+`

var splitGPT2 = func() splitter {
	s, err := newCompiling().splitter(weights.Step{Name: "Split", Pattern: gpt2, Behavior: "isolated"})
	if err != nil {
		panic(err)
	}
	return s
}()

func splitAll(text string) (words []string) {
	splitGPT2(newWork(text), text, func(from, to int) { words = append(words, text[from:to]) })
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
	for _, c := range []string{"'s", "'t", "'re", "'ve", "'m", "'ll", "'d"} {
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
			if got, want := len(splitAll(text)[0]), reference(text); got != want {
				t.Fatalf("%q: the first word is %q, want %q", text, text[:got], text[:want])
			}
		}
	}
}

// The cache changes nothing, full or empty.
func TestCacheChangesNothing(t *testing.T) {
	tok := harbour(t)
	text := strings.Repeat("The last boat to Osmer leaves at 19:40. ", 3)
	first := encoded(t, tok, text)
	again := encoded(t, tok, text)
	tok.cache.words = map[string][]Token{}
	for i := range cachedWords {
		tok.cache.words[strings.Repeat("z", i%30)+string(rune('a'+i%26))+string(rune(0x4e00+i))] = nil
	}
	full := encoded(t, tok, text)
	if !slices.Equal(first, again) || !slices.Equal(first, full) || len(tok.cache.words) > cachedWords {
		t.Errorf("%v\n%v\n%v, %d words", first, again, full, len(tok.cache.words))
	}
}

// What the expressions of tokenizers use, against the matches that their definitions call for; -1 is none.
func TestExpressions(t *testing.T) {
	for _, c := range []struct {
		expression, text string
		end              int
	}{
		{`ab|a`, "ac", 1}, {`a|ab`, "ab", 1}, {`(?:ab)+c`, "ababc", 5}, {`(?:ab)+c`, "abab", -1}, {`(a|b)*?c`, "abc", 3}, {`(?:ab){2,3}`, "abababab", 6}, {`(?:ab)??b`, "b", 1},
		{`\p{N}{1,3}`, "12345", 3}, {`\p{N}{2}`, "1", -1}, {`[0-9]{2,}`, "1234x", 4},
		{`(?i:'s|'ll)`, "'LL", 3}, {`(?i:'s)`, "'ſ", 3}, {`(?i:[a-c])x`, "Bx", 2},
		{`\s+(?!\S)`, "  x", 1}, {`\s+(?!\S)`, " x", -1}, {`\s+(?=x)`, "  x", 2}, {`\s+$`, "  ", 2}, {`\s+$`, "  x", -1}, {`^a`, "a", 1},
		{`[^\r\n\p{L}\p{N}]?+\p{L}++`, "-ab1", 3}, {`a*+a`, "aaa", -1}, {`a*a`, "aaa", 3}, {`a*?b`, "aab", 3},
		{`[^\s]`, "\xff", 1}, {`\s`, "\u0085", 2}, {`\s`, "\ufeff", -1}, {`[\u0041-\x{43}\-]+`, "AC-B", 4}, {`[一-龥]+`, "日本x", 6}, {`\P{L}`, "1", 1}, {`.`, "\n", -1},
		{`(?:a*)*b`, "aaac", -1}, {"(?:" + strings.Repeat("(?:a?|b?)", 40) + "|x)c", "abc", 3}, {`[[a-c]x-z]+`, "abzx1", 4}, {`(?i:[k-m]+)`, "\u212aL", 4}, {`(?:(?:a|aa)+)+b`, strings.Repeat("a", 200), -1}, // ends for want of steps
	} {
		e, err := newCompiling().compile(c.expression)
		if err != nil {
			t.Errorf("%s: %v", c.expression, err)
		} else if got := e.match(newWork(c.text), c.text, 0); got != c.end {
			t.Errorf("%s on %q ends at %d, want %d", c.expression, c.text, got, c.end)
		}
	}
	for expression, want := range map[string]string{
		`(`: "a ) is missing", `a)`: "unmatched )", `[a`: "a ] is missing", `*`: "nothing to repeat", `a{2,1}`: "is no quantifier", `\p{Runic2}`: "no class of characters",
		`(?<a>b)`: "is not supported", `\q`: `\q is not supported`, `a\`: "ends in a backslash", `[z-a]`: "no proper end", `(?:(?:ab){1000}){1000}`: "too large", `(?:(?:(?:(?:){1000}){1000}){1000}){1000}`: "repeats too much",
		strings.Repeat("[", 100): "nested", strings.Repeat("[", 1<<20): "nested", strings.Repeat("a|", 1<<16): "too large", strings.Repeat(`\p{L}`, 1<<10): "too large",
		"[" + strings.Repeat(`\p{L}`, 1<<13) + "]": "too large",
		strings.Repeat("(", 100):                   "nested",
	} {
		if _, err := newCompiling().compile(expression); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.20s: error %v, want one with %q", expression, err, want)
		}
	}
}

func TestBehaviorsOfSplits(t *testing.T) {
	for behavior, want := range map[string]string{
		"isolated": "a|-|-|b|-|c", "removed": "a|b|c", "merged_with_previous": "a-|-|b-|c", "merged_with_next": "a|-|-b|-c", "contiguous": "a|--|b|-|c",
	} {
		s, err := newCompiling().splitter(weights.Step{Name: "Split", Pattern: "-", Literal: true, Behavior: behavior})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		s(newWork("a--b-c"), "a--b-c", func(from, to int) { got = append(got, "a--b-c"[from:to]) })
		if strings.Join(got, "|") != want {
			t.Errorf("%s: %q, want %q", behavior, got, want)
		}
	}
}

func FuzzExpression(f *testing.F) {
	for _, s := range []string{gpt2, strings.Repeat("[", 70), strings.Repeat("(?:a?|b?)", 28), `(?:(?:(?:){1000}){1000}){1000}`, strings.Repeat("a|", 100), `(?i:a|b)+(?!c)[^d-f\p{L}]{1,3}$`, `(a*)*b`, `[[a]b]`} {
		f.Add(s, "it's 12  aab\n")
	}
	f.Fuzz(func(t *testing.T, expression, text string) {
		e, err := newCompiling().compile(expression)
		if err != nil {
			return
		}
		if end := e.match(newWork(text), text, 0); end < -1 || end > len(text) {
			t.Fatalf("%q on %q ends at %d", expression, text, end)
		}
	})
}
