package jinja

import (
	"slices"
	"strings"
)

// Text is a string that knows where each of its parts comes from. spans cover s; neighbours differ.
type Text struct {
	s     string
	spans []Span
}

// NewText makes a string that comes from the value called path.
func NewText(s, path string) Text { return text(s, Origin{Path: path}) }

// Join puts texts after each other; each keeps its origins.
func Join(parts ...Text) Text { return concat(parts...) }

func text(s string, o Origin) Text {
	if s == "" {
		return Text{}
	}
	return Text{s: s, spans: []Span{{End: len(s), Origin: o}}}
}

// origin is where the text begins to come from, or otherwise if there is no text.
func (t Text) origin(otherwise Origin) Origin {
	if len(t.spans) == 0 {
		return otherwise
	}
	return t.spans[0].Origin
}

// slice is t.s[from:to] with its origins.
func (t Text) slice(from, to int) Text {
	if from >= to {
		return Text{}
	}
	first, _ := slices.BinarySearchFunc(t.spans, from+1, func(s Span, at int) int { return s.End - at })
	out := Text{s: t.s[from:to]}
	for _, s := range t.spans[first:] {
		end := min(s.End, to)
		out.spans = append(out.spans, Span{End: end - from, Origin: s.Origin})
		if end == to {
			break
		}
	}
	return out
}

// each calls do for every piece of one origin.
func (t Text) each(do func(piece string, o Origin)) {
	from := 0
	for _, s := range t.spans {
		do(t.s[from:s.End], s.Origin)
		from = s.End
	}
}

// mapped applies a function on strings to each piece.
func (t Text) mapped(f func(string) string) Text {
	var b textBuilder
	t.each(func(piece string, o Origin) { b.add(f(piece), o) })
	return b.text()
}

// trim cuts characters off the ends, like strings.TrimFunc.
func (t Text) trim(left, right bool, cut func(rune) bool) Text {
	from, to := 0, len(t.s)
	if left {
		from = len(t.s) - len(strings.TrimLeftFunc(t.s, cut))
	}
	if right {
		to = from + len(strings.TrimRightFunc(t.s[from:], cut))
	}
	return t.slice(from, to)
}

// split cuts at every sep, at most limit times if limit is not negative.
func (t Text) split(sep string, limit int) []Text {
	var out []Text
	from := 0
	for limit != 0 {
		i := strings.Index(t.s[from:], sep)
		if i < 0 {
			break
		}
		out = append(out, t.slice(from, from+i))
		from += i + len(sep)
		limit--
	}
	return append(out, t.slice(from, len(t.s)))
}

// replace puts with in the place of every old, at most limit times if limit is not negative.
func (t Text) replace(old string, with Text, limit int) Text {
	if limit == 0 || old != "" && !strings.Contains(t.s, old) {
		return t
	}
	var b textBuilder
	if old == "" { // between all characters, as in Python
		at := 0
		for i := range t.s {
			if limit == 0 {
				break
			}
			b.append(t.slice(at, i))
			b.append(with)
			at = i
			limit--
		}
		b.append(t.slice(at, len(t.s)))
		if limit != 0 {
			b.append(with)
		}
		return b.text()
	}
	for i, part := range t.split(old, limit) {
		if i > 0 {
			b.append(with)
		}
		b.append(part)
	}
	return b.text()
}

// textBuilder joins pieces.
type textBuilder struct {
	s     strings.Builder
	spans []Span
}

func (b *textBuilder) add(s string, o Origin) {
	if s == "" {
		return
	}
	b.s.WriteString(s)
	if n := len(b.spans); n > 0 && b.spans[n-1].Origin == o {
		b.spans[n-1].End = b.s.Len()
		return
	}
	b.spans = append(b.spans, Span{End: b.s.Len(), Origin: o})
}

func (b *textBuilder) append(t Text) {
	t.each(b.add)
}

func (b *textBuilder) text() Text { return Text{s: b.s.String(), spans: b.spans} }

func (b *textBuilder) output() Output { return Output{Text: b.s.String(), Spans: b.spans} }

func concat(parts ...Text) Text {
	var b textBuilder
	for _, p := range parts {
		b.append(p)
	}
	return b.text()
}
