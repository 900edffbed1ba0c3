package tokenizer

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"kindredgate/internal/weights"
)

// mapped is text that remembers which text it was made of.
type mapped struct {
	text string
	// at says, for each byte of text and for its end, at which byte of the original it stands; nil if text is the
	// original. It never falls. What was put in stands where it was put.
	at   []int32
	work *work
}

// original is where byte i of the text stands in the original.
func (m *mapped) original(i int) int {
	if m.at == nil {
		return i
	}
	return int(m.at[i])
}

// A normalizer changes a text. first says that it is at the beginning of all.
type normalizer func(m mapped, first bool) mapped

// rewriting builds a changed text.
type rewriting struct {
	from mapped
	text strings.Builder
	at   []int32
}

func rewrite(m mapped) *rewriting {
	r := &rewriting{from: m, at: make([]int32, 0, len(m.text)+len(m.text)/8+8)}
	r.text.Grow(len(m.text) + len(m.text)/8 + 8)
	return r
}

// put adds text that takes the place of what began at byte i.
func (r *rewriting) put(text string, i int) {
	if !r.from.work.fits(r.text.Len() + len(text)) {
		return
	}
	at := int32(r.from.original(i))
	for range len(text) {
		r.at = append(r.at, at)
	}
	r.text.WriteString(text)
}

// keep adds the bytes from i to j as they are.
func (r *rewriting) keep(i, j int) {
	if !r.from.work.fits(r.text.Len() + j - i) {
		return
	}
	for k := i; k < j; k++ {
		r.at = append(r.at, int32(r.from.original(k)))
	}
	r.text.WriteString(r.from.text[i:j])
}

func (r *rewriting) done() mapped {
	r.at = append(r.at, int32(r.from.original(len(r.from.text))))
	return mapped{r.text.String(), r.at, r.from.work}
}

// normalizers makes normalizers of steps, of pre-tokenizers those that change the text.
func (c *compiling) normalizers(steps ...weights.Step) (list []normalizer, err error) {
	for _, s := range steps {
		one, err := c.normalizer(s)
		if err != nil {
			return nil, err
		}
		if one != nil {
			list = append(list, one)
		}
	}
	return list, nil
}

func (c *compiling) normalizer(s weights.Step) (normalizer, error) {
	always := func(do func(m mapped) mapped) normalizer { return func(m mapped, _ bool) mapped { return do(m) } }
	switch s.Name {
	case "NFC":
		return normalForm(norm.NFC), nil
	case "NFD":
		return normalForm(norm.NFD), nil
	case "NFKC":
		return normalForm(norm.NFKC), nil
	case "NFKD":
		return normalForm(norm.NFKD), nil
	case "Lowercase":
		return always(lowercase), nil
	case "StripAccents":
		return always(withoutMarks), nil
	case "Strip":
		return always(func(m mapped) mapped {
			from, to := 0, len(m.text)
			if s.Left > 0 {
				from = len(m.text) - len(strings.TrimLeftFunc(m.text, unicode.IsSpace))
			}
			if s.Right > 0 {
				to = max(from, len(strings.TrimRightFunc(m.text, unicode.IsSpace)))
			}
			if from == 0 && to == len(m.text) {
				return m
			}
			r := rewrite(m)
			r.keep(from, to)
			r.at = append(r.at, int32(m.original(to)))
			return mapped{r.text.String(), r.at, m.work}
		}), nil
	case "Prepend", "PrefixSpace":
		return func(m mapped, first bool) mapped {
			if m.text == "" || s.First && !first || s.Name == "PrefixSpace" && strings.HasPrefix(m.text, s.Content) {
				return m
			}
			r := rewrite(m)
			r.put(s.Content, 0)
			r.keep(0, len(m.text))
			return r.done()
		}, nil
	case "Replace":
		find, err := c.finder(s)
		if err != nil {
			return nil, err
		}
		return always(func(m mapped) mapped {
			from, to := find(m.work, m.text, 0)
			if from == to {
				return m
			}
			r, at := rewrite(m), 0
			for ; from < to && !m.work.spent; from, to = find(m.work, m.text, at) {
				r.keep(at, from)
				r.put(s.Content, from)
				at = to
			}
			r.keep(at, len(m.text))
			return r.done()
		}), nil
	case "BertNormalizer":
		return always(func(m mapped) mapped {
			if s.CleanText {
				m = clean(m)
			}
			if s.Chinese {
				m = spacedIdeographs(m)
			}
			if s.StripAccents {
				m = withoutMarks(normalForm(norm.NFD)(m, false))
			}
			if s.Lowercase {
				m = lowercase(m)
			}
			return m
		}), nil
	case "Split", "Punctuation", "ByteLevel", "BertPreTokenizer":
		return nil, nil // splitters
	}
	return nil, fmt.Errorf("the normalizer %s is not supported", s.Name)
}

// normalForm brings text into one of Unicode's normal forms, piece by piece, so that each piece knows where it is from.
func normalForm(form norm.Form) normalizer {
	return func(m mapped, _ bool) mapped {
		if form.IsNormalString(m.text) {
			return m
		}
		r := rewrite(m)
		var it norm.Iter
		it.InitString(form, m.text)
		for !it.Done() {
			from := it.Pos()
			piece := it.Next()
			if to := it.Pos(); string(piece) == m.text[from:to] {
				r.keep(from, to)
			} else {
				r.put(string(piece), from)
			}
		}
		return r.done()
	}
}

// each changes text character by character; change gives what takes a character's place.
func each(m mapped, change func(r rune) (string, bool)) mapped {
	var out *rewriting
	for i := 0; i < len(m.text); {
		r, size := utf8.DecodeRuneInString(m.text[i:])
		text, changed := change(r)
		if changed && out == nil {
			out = rewrite(m)
			out.keep(0, i)
		}
		switch {
		case changed:
			out.put(text, i)
		case out != nil:
			out.keep(i, i+size)
		}
		i += size
	}
	if out == nil {
		return m
	}
	return out.done()
}

func lowercase(m mapped) mapped {
	return each(m, func(r rune) (string, bool) {
		if r == 'İ' { // the one letter whose small form is two characters
			return "i\u0307", true
		}
		l := unicode.ToLower(r)
		return string(l), l != r
	})
}

func withoutMarks(m mapped) mapped {
	return each(m, func(r rune) (string, bool) { return "", unicode.Is(unicode.Mn, r) })
}

// clean leaves control characters out and makes every white space a space.
func clean(m mapped) mapped {
	return each(m, func(r rune) (string, bool) {
		switch {
		case r == '\t' || r == '\n' || r == '\r':
			return " ", true
		case r == 0 || r == utf8.RuneError || unicode.Is(unicode.C, r):
			return "", true
		case r != ' ' && unicode.IsSpace(r):
			return " ", true
		}
		return "", false
	})
}

// ideographs are the blocks of CJK characters that BERT splits.
var ideographs = newSet(func(r rune) bool {
	for _, block := range [][2]rune{{0x4e00, 0x9fff}, {0x3400, 0x4dbf}, {0x20000, 0x2a6df}, {0x2a700, 0x2b73f}, {0x2b740, 0x2b81f}, {0x2b820, 0x2ceaf}, {0xf900, 0xfaff}, {0x2f800, 0x2fa1f}} {
		if block[0] <= r && r <= block[1] {
			return true
		}
	}
	return false
})

// spacedIdeographs puts spaces around each of them.
func spacedIdeographs(m mapped) mapped {
	if strings.IndexFunc(m.text, ideographs.has) < 0 {
		return m
	}
	out := rewrite(m)
	for i, r := range m.text {
		_, size := utf8.DecodeRuneInString(m.text[i:])
		spaced := ideographs.has(r)
		if spaced {
			out.put(" ", i)
		}
		out.keep(i, i+size)
		if spaced {
			out.put(" ", i+size)
		}
	}
	return out.done()
}
