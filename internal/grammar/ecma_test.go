package grammar

import (
	"strings"
	"testing"

	"github.com/dlclark/regexp2"
)

// Patterns match what ECMA-262 has them match: every text of up to five characters is tried, and an independent package asked.
func TestPatternsAreThoseOfTheStandard(t *testing.T) {
	for _, c := range []struct{ pattern, letters string }{
		{`^(?=.*\d)(?=.*[a-z]).{3,}$`, "a1-"},
		{`^(?!.*\.\.)(?!\.)[a.]+$`, "a."},
		{`^(?=a|b(?:c|a))[abc]*$`, "abc"},
		{`^(?=.{2,3}$)a*`, "ab"},
		{`^(?=[)(|]a)[()|a]+$`, "a|()"},
		{`^(?=a\))a.*$`, "a)b"},
		{`^(?!a)`, "ab"},
		{`^(?!)a`, "ab"},
		{`(a|^)b$`, "ab"},
		{`^[^\s-]+\s$`, "a-\u00a0 \n"},
		{`^\S[\s\S]$`, "a\u2028 "},
		{`^[cC][kK]?$`, "cCkK\u212a"},
		{`^[[a]+$`, "[a]"},
		{`^a\/\-b?$`, "a/-b"},
		{`^\u0061\u00e9?$`, "aé"},
		{`^.$`, "a\n\r\u2028"},
	} {
		p, err := newPattern(work(), c.pattern)
		if err != nil {
			t.Error(err)
			continue
		}
		other := independent{regexp2.MustCompile(c.pattern, regexp2.ECMAScript)}
		negated := p.complement()
		texts := []string{""}
		for range 5 {
			for _, before := range texts {
				for _, letter := range c.letters {
					texts = append(texts, before+string(letter))
				}
			}
			if len(texts) > 20_000 {
				break
			}
		}
		for _, text := range texts {
			// The package has the white space of ASCII only, and the ends of lines of Windows: the standard's are put in their place.
			is := other.MatchString(strings.NewReplacer("\u00a0", " ", "\u2028", "\n", "\r", "\n").Replace(text))
			if p.matches(text) != is || negated.matches(text) == is {
				t.Errorf("%s: %q matches: %v, and its complement: %v; the standard: %v", c.pattern, text, p.matches(text), negated.matches(text), is)
				break
			}
		}
	}
}
