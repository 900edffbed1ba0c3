package jinja

import (
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// str gives a value as it prints in a template: Python's spelling. o is the origin of what no text has.
func str(v Value, o Origin) Text {
	switch v := v.(type) {
	case Text:
		return v
	case undefined:
		return Text{}
	case *scalar:
		return str(v.value, v.origin)
	}
	var b textBuilder
	writeRepr(&b, v, o)
	return b.text()
}

// writeRepr writes a value as Python's repr does.
func writeRepr(b *textBuilder, v Value, o Origin) {
	switch v := v.(type) {
	case *scalar:
		writeRepr(b, v.value, v.origin)
	case nil:
		b.add("None", o)
	case undefined:
		b.add("Undefined", o)
	case bool:
		if v {
			b.add("True", o)
		} else {
			b.add("False", o)
		}
	case int64:
		b.add(strconv.FormatInt(v, 10), o)
	case *big.Int:
		b.add(v.String(), o)
	case float64:
		b.add(floatRepr(v), o)
	case Text:
		quote := "'"
		if strings.Contains(v.s, "'") && !strings.Contains(v.s, `"`) {
			quote = `"`
		}
		b.add(quote, v.origin(o))
		v.each(func(piece string, o Origin) { b.add(escapeRepr(piece, quote), o) })
		b.add(quote, v.origin(o))
	case *List:
		o = orOwn(v.origin, o)
		open, end := "[", "]"
		if v.tuple {
			open, end = "(", ")"
			if len(v.Items) == 1 {
				end = ",)"
			}
		}
		if v.view != "" {
			open, end = v.view+"([", "])"
		}
		b.add(open, o)
		for i, item := range v.Items {
			if i > 0 {
				b.add(", ", o)
			}
			writeRepr(b, item, o)
		}
		b.add(end, o)
	case *Dict:
		o = orOwn(v.origin, o)
		b.add("{", o)
		for i, k := range v.keys {
			if i > 0 {
				b.add(", ", o)
			}
			writeRepr(b, k, o)
			b.add(": ", o)
			value, _ := v.get(k)
			writeRepr(b, value, o)
		}
		b.add("}", o)
	case *namespace:
		b.add("<Namespace>", o)
	case *function:
		b.add("<function "+v.name+">", o)
	}
}

// orOwn prefers the origin that a composite value was given with.
func orOwn(own, otherwise Origin) Origin {
	if own == (Origin{}) {
		return otherwise
	}
	return own
}

// floatRepr is the shortest decimal that reads back the same, with the exponent where Python has it.
func floatRepr(f float64) string {
	switch {
	case math.IsNaN(f):
		return "nan"
	case math.IsInf(f, 1):
		return "inf"
	case math.IsInf(f, -1):
		return "-inf"
	}
	if a := math.Abs(f); a != 0 && (a < 1e-4 || a >= 1e16) {
		s := strconv.FormatFloat(f, 'e', -1, 64)
		return s
	}
	s := strconv.FormatFloat(f, 'f', -1, 64)
	if !strings.Contains(s, ".") {
		s += ".0"
	}
	return s
}

// shortEscapes are the characters that both Python and JSON write with a letter (repr has the first three only).
var shortEscapes = map[rune]string{'\n': `\n`, '\r': `\r`, '\t': `\t`, '\b': `\b`, '\f': `\f`}

func escapeRepr(s, quote string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case string(r) == quote || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case strings.ContainsRune("\n\r\t", r):
			b.WriteString(shortEscapes[r])
		case r == ' ' || unicode.IsPrint(r):
			b.WriteRune(r)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			fmt.Fprintf(&b, `\U%08x`, r)
		}
	}
	return b.String()
}

// jsonStyle is the set of tojson's parameters, which are those of Python's json.dumps.
type jsonStyle struct {
	ascii    bool
	lines    bool // an item a line
	indent   Text // of a line, for each level
	item     Text // between items
	key      Text // between a key and its value
	sortKeys bool
}

// punctuation adds a text of a style, which has the origin of what it stands between unless it has one of its own.
func (b *textBuilder) punctuation(t Text, o Origin) {
	if len(t.spans) == 0 {
		b.add(t.s, o)
		return
	}
	b.append(t)
}

// writeJSON writes a value as json.dumps does.
func writeJSON(e *evaluator, b *textBuilder, v Value, o Origin, st jsonStyle, depth int) {
	e.step()
	newline := func(depth int) {
		if st.lines {
			b.add("\n", o)
			for range depth {
				b.punctuation(st.indent, o)
			}
		}
	}
	switch v := v.(type) {
	case *scalar:
		writeJSON(e, b, v.value, v.origin, st, depth)
	case nil:
		b.add("null", o)
	case bool:
		b.add(strconv.FormatBool(v), o)
	case int64:
		b.add(strconv.FormatInt(v, 10), o)
	case *big.Int:
		b.add(v.String(), o)
	case float64:
		switch {
		case math.IsNaN(v):
			b.add("NaN", o)
		case math.IsInf(v, 0):
			b.add(strings.Replace(floatRepr(v), "inf", "Infinity", 1), o)
		default:
			b.add(floatRepr(v), o)
		}
	case Text:
		b.add(`"`, v.origin(o))
		v.each(func(piece string, o Origin) { b.add(escapeJSON(piece, st.ascii), o) })
		b.add(`"`, v.origin(o))
	case *List:
		o = orOwn(v.origin, o)
		if len(v.Items) == 0 {
			b.add("[]", o)
			return
		}
		e.enter(depth)
		b.add("[", o)
		for i, item := range v.Items {
			if i > 0 {
				b.punctuation(st.item, o)
			}
			newline(depth + 1)
			writeJSON(e, b, item, o, st, depth+1)
		}
		newline(depth)
		b.add("]", o)
	case *Dict:
		o = orOwn(v.origin, o)
		if len(v.keys) == 0 {
			b.add("{}", o)
			return
		}
		e.enter(depth)
		keys := v.keys
		if st.sortKeys {
			keys = e.sorted(keys, nil, false)
		}
		b.add("{", o)
		for i, k := range keys {
			if i > 0 {
				b.punctuation(st.item, o)
			}
			newline(depth + 1)
			writeJSON(e, b, jsonKey(e, k, o), o, st, depth+1)
			b.punctuation(st.key, o)
			value, _ := v.get(k)
			writeJSON(e, b, value, o, st, depth+1)
		}
		newline(depth)
		b.add("}", o)
	default:
		e.fail("%s cannot be written as JSON", kindName(v))
	}
}

// jsonKey is a key as text: JSON has no others.
func jsonKey(e *evaluator, k Value, o Origin) Value {
	switch k := bare(k).(type) {
	case Text:
		return k
	case nil, bool, int64, *big.Int, float64:
		var b textBuilder
		writeJSON(e, &b, k, o, jsonStyle{}, 0)
		return b.text()
	}
	e.fail("%s cannot be a key in JSON", kindName(k))
	return nil
}

func escapeJSON(s string, ascii bool) string {
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= 0x20 && s[i] != '"' && s[i] != '\\' && (s[i] < utf8.RuneSelf || !ascii)
	}
	if plain {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case shortEscapes[r] != "":
			b.WriteString(shortEscapes[r])
		case r < 0x20:
			fmt.Fprintf(&b, `\u%04x`, r)
		case ascii && r >= 0x10000:
			r -= 0x10000
			fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+(r>>10), 0xdc00+(r&0x3ff))
		case ascii && r >= utf8.RuneSelf:
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}
