package jinja

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// patchwork is a text of pieces with origins of their own, and what each byte's origin is.
func patchwork(r *rand.Rand) (Text, []Origin) {
	var t Text
	var origins []Origin
	for range r.IntN(6) {
		o := Origin{Path: string(rune('a' + r.IntN(4)))}
		piece := strings.Repeat([]string{"x", "ab", " ", "é", "-", "X y"}[r.IntN(6)], 1+r.IntN(3))
		t = concat(t, text(piece, o))
		for range len(piece) {
			origins = append(origins, o)
		}
	}
	return t, origins
}

// originsOf gives the origin of each byte, and fails if the spans are not well formed.
func originsOf(t testing.TB, x Text) (list []Origin) {
	t.Helper()
	from := 0
	for i, s := range x.spans {
		if s.End <= from || i > 0 && x.spans[i-1].Origin == s.Origin {
			t.Fatalf("%q has spans %v", x.s, x.spans)
		}
		for range s.End - from {
			list = append(list, s.Origin)
		}
		from = s.End
	}
	if from != len(x.s) {
		t.Fatalf("%q has spans %v", x.s, x.spans)
	}
	return list
}

// Whatever is done to a text, each byte that is left is still known by where it came from.
func TestOperationsKeepOrigins(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 3000 {
		x, origins := patchwork(r)
		if got := originsOf(t, x); !slices.Equal(got, origins) {
			t.Fatalf("%q: %v, want %v", x.s, got, origins)
		}
		from := r.IntN(len(x.s) + 1)
		to := from + r.IntN(len(x.s)-from+1)
		if part := x.slice(from, to); part.s != x.s[from:to] || !slices.Equal(originsOf(t, part), origins[from:to]) {
			t.Fatalf("%q[%d:%d] is %q, %v", x.s, from, to, part.s, part.spans)
		}
		trimmed := x.trim(true, true, isSpace)
		at := strings.Index(x.s, strings.TrimSpace(x.s))
		if trimmed.s != strings.TrimSpace(x.s) || !slices.Equal(originsOf(t, trimmed), origins[at:at+len(trimmed.s)]) {
			t.Fatalf("%q trimmed is %q, %v", x.s, trimmed.s, trimmed.spans)
		}
		var all []Origin
		for _, part := range x.split("-", -1) {
			all = append(all, originsOf(t, part)...)
		}
		var kept []Origin
		for i, o := range origins {
			if x.s[i] != '-' {
				kept = append(kept, o)
			}
		}
		if !slices.Equal(all, kept) {
			t.Fatalf("%q split: %v, want %v", x.s, all, kept)
		}
		with := text("++", Origin{Path: "new"})
		replaced := x.replace("-", with, -1)
		if want := strings.ReplaceAll(x.s, "-", "++"); replaced.s != want {
			t.Fatalf("%q replaced is %q", x.s, replaced.s)
		}
		for i, o := range originsOf(t, replaced) {
			if (o.Path == "new") != (replaced.s[i] == '+') {
				t.Fatalf("%q: byte %d is from %v", replaced.s, i, o)
			}
		}
		if upper := x.mapped(strings.ToUpper); upper.s != strings.ToUpper(x.s) || !slices.Equal(originsOf(t, upper), origins) {
			t.Fatalf("%q in capitals is %q, %v", x.s, upper.s, upper.spans)
		}
	}
}

func TestMethodsKeepOrigins(t *testing.T) {
	for template, want := range map[string]string{
		"{{ a.center(9, '*') }}":                "*«a=  Osmer »",
		"{{ a.partition('m')|join('|') }}":      "«a=  Os»|«a=m»|«a=er »",
		"{{ a.strip().removeprefix('O') }}":     "«a=smer»",
		"{{ '{}!{}'.format(a.strip(), 1) }}":    "«a=Osmer»!1",
		"{{ (a ~ a).rsplit(none, 1)|first }}":   "«a=  Osmer»",
		"{{ a|indent(2, true) }}":               "  «a=  Osmer »",
		"{{ a.strip().zfill(7) }}":              "00«a=Osmer»",
		"{{ a|list|reverse|join|trim }}":        "«a=remsO»",
		"{{ [a, 'x']|tojson }}":                 "[\"«a=  Osmer »\", \"x\"]",
		"{{ a.strip().swapcase() ~ '.' }}":      "«a=oSMER».",
		"{{ (a ~ 'B')|lower|replace('b', a) }}": "«a=  osmer   Osmer »",
	} {
		out, err := render(t, template, `{"a": "  Osmer "}`)
		if err != nil {
			t.Errorf("%s: %v", template, err)
			continue
		}
		// Quotation marks around a text in JSON are the text's; that is not the point here.
		got := strings.NewReplacer("«a=\"", "\"«a=", "\"»", "»\"").Replace(marked(out))
		if got != want {
			t.Errorf("%s:\n got %s\nwant %s", template, got, want)
		}
	}
}
