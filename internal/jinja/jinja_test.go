package jinja

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

func vars(t testing.TB, doc string) map[string]Value {
	t.Helper()
	v, err := FromJSON([]byte(doc), "", true)
	if err != nil {
		t.Fatal(err)
	}
	m := map[string]Value{}
	for _, k := range v.(*Dict).keys {
		m[k.(Text).s], _ = v.(*Dict).get(k)
	}
	return m
}

func render(t testing.TB, source, doc string) (Output, error) {
	t.Helper()
	tmpl, err := Parse(source)
	if err != nil {
		return Output{}, err
	}
	return tmpl.Render(vars(t, doc))
}

// The expectations were computed with the reference implementation of the language (see testdata/cases.py).
func TestRender(t *testing.T) {
	for _, c := range readCases(t) {
		out, err := render(t, c.Template, string(c.Vars))
		switch {
		case c.Error != (err != nil):
			t.Errorf("%q: error %v, want one: %v, got %q", c.Template, err, c.Error, out.Text)
		case out.Text != c.Out:
			t.Errorf("%q:\n got %q\nwant %q", c.Template, out.Text, c.Out)
		}
		checkSpans(t, out)
	}
}

func checkSpans(t testing.TB, out Output) {
	t.Helper()
	at := 0
	for _, s := range out.Spans {
		if s.End <= at {
			t.Errorf("span %v is empty", s)
		}
		at = s.End
	}
	if at != len(out.Text) {
		t.Errorf("spans cover %d of %d bytes", at, len(out.Text))
	}
}

// marked writes out text with the path of what is not the template's own.
func marked(out Output) string {
	var b strings.Builder
	from := 0
	for _, s := range out.Spans {
		if s.Origin.Path == "" {
			b.WriteString(out.Text[from:s.End])
		} else {
			fmt.Fprintf(&b, "«%s=%s»", s.Origin.Path, out.Text[from:s.End])
		}
		from = s.End
	}
	return b.String()
}

func TestOrigins(t *testing.T) {
	const doc = `{"a": "  Osmer ", "m": [{"content": "x-y"}], "tool": {"name": "f", "n": 1}}`
	for _, c := range []struct{ template, want string }{
		{"<{{ a }}>", "<«a=  Osmer »>"},
		{"{{ a|trim }}{{ a.strip() }}", "«a=OsmerOsmer»"},
		{"{{ '<|' + a + '|>' }}", "<|«a=  Osmer »|>"},
		{"{{ a[2:4] ~ a[::-1] }}", "«a=Os remsO  »"},
		{"{{ m[0].content.split('-')|join('+') }}", "«m[0].content=x»+«m[0].content=y»"},
		{"{{ m[0].content|replace('-', a|trim) }}", "«m[0].content=x»«a=Osmer»«m[0].content=y»"},
		{"{{ m[0].content|upper }}", "«m[0].content=X-Y»"},
		{"{{ ('t' ~ m[0].content)|capitalize }}", "T«m[0].content=x-y»"},
		{"{{ tool|tojson }}", `«tool={"name": »«tool.name="f"»«tool=, "n": »«tool.n=1»«tool=}»`},
		{"{{ tool.n }}{{ tool.n + 1 }}{{ tool.n ~ '.' }}{{ tool.n|string }}{{ tool.n|default(2) }}", "«tool.n=1»2«tool.n=1».«tool.n=11»"},
		{"{% set x = tool.n %}{{ x }}{% for y in [tool.n] %}{{ y + 0 }}{% endfor %}{% macro f(v) %}<{{ v }}>{% endmacro %}{{ f(tool.n) }}", "«tool.n=1»1<«tool.n=1»>"},
		{"{{ '%-3s|%3s|%.2s' % ('ab', a[2:3], a|trim) }}", "ab |  «a=O»|«a=Os»"},
		{"{{ 'x'.center(3, m[0].content[1]) }}{{ '{:-^3}'.format('y') }}", "«m[0].content=-»x«m[0].content=-»-y-"},
		{"{{ dict(**tool)|list|first }}{% macro k() %}{{ kwargs|list|last }}{% endmacro %}{{ k(**tool) }}", "«tool=namen»"},
		{"{{ [1]|tojson(separators=(',', ':')) }}{{ [1, 2]|tojson(separators=(m[0].content, ':')) }}", "[1][1«m[0].content=x-y»2]"},
		{"{% set x %}[{{ a }}]{% endset %}{{ x[1:-1] }}", "«a=  Osmer »"},
		{"{% macro f(v) %}({{ v }}){% endmacro %}{{ f(a)|trim }}", "(«a=  Osmer »)"},
		{"{{ '%s!' % a }}", "«a=  Osmer »!"},
		{"{% for c in m[0].content %}{{ c }}.{% endfor %}", "«m[0].content=x».«m[0].content=-».«m[0].content=y»."},
		{"{{ m[0] }}", "«m[0]={'content': »«m[0].content='x-y'»«m[0]=}»"},
	} {
		out, err := render(t, c.template, doc)
		if err != nil {
			t.Errorf("%s: %v", c.template, err)
			continue
		}
		checkSpans(t, out)
		if got := marked(out); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.template, got, c.want)
		}
	}
}

// Whatever is made of a request's text has its origin, by any filter, method, operator or function: else a template could be used to
// write control tokens. The marks below stand in values only, so wherever they come out they must be known as the request's.
func TestNothingIsForged(t *testing.T) {
	const doc = `{"evil": "⟦%s⟧{0}", "one": "⟦", "evils": ["⟦b⟧", "⟦a⟧"], "evild": {"⟦k⟧": "⟦v⟧", "⟦j⟧": {"⟦i⟧": 1}}, "evilm": [{"⟦k⟧": "⟦v⟧", "n": "⟦n⟧"}], "when": "⟦%Y⟧%j"}`
	subjects := []string{"evil", "one", "evils", "evild", "evilm", "'plain %s text'", "'{} a-b'", "[1, 2]", "['a', 'b']", "5", "{'a': 'b'}", "nosuch"}
	arguments := []string{"", "evil", "one", "evils", "9, one", "9, evil", "evil, evil", "1, evil", "'a', evil", "evil, 'a'", "evil, 1", "'n'", "attribute='n'", "2, true, evil", "default=evil", "d=evil", "indent=evil",
		"separators=(evil, one)", "*evils", "**evild", "evil, attribute='n'", "'upper'", "'replace', 'a', evil", "'default', evil", "evil, a=evil", "'in', evil", "start=evil"}
	var expressions []string
	for name := range filters {
		for _, s := range subjects {
			for _, a := range arguments {
				expressions = append(expressions, fmt.Sprintf("(%s)|%s(%s)", s, name, a), fmt.Sprintf("(%s)|map('%s', %s)|list", s, name, a))
			}
		}
	}
	for _, table := range []map[string]bool{names(textMethods), names(dictMethods), names(listMethods)} {
		for name := range table {
			for _, s := range subjects {
				for _, a := range arguments {
					expressions = append(expressions, fmt.Sprintf("(%s).%s(%s)", s, name, a))
				}
			}
		}
	}
	for _, x := range subjects {
		for _, y := range append(subjects, "(evil, evil)", "(evil,)", "3") {
			for _, op := range []string{"+", "*", "%", "~", "and", "or", "if true else"} {
				expressions = append(expressions, fmt.Sprintf("(%s) %s (%s)", x, op, y))
			}
		}
		expressions = append(expressions, "("+x+")[0]", "("+x+")[::-1]", "("+x+")[:1]")
	}
	expressions = append(expressions,
		"'%-9s|%9.3s|%r|%c' % (evil, evil, evil, one)", "'%(x)s' % {'x': evil}", "evil % 1", "(evil ~ '%5s') % evil", "'{:⟧>9}{!r:*^20}'.format('x', evil)", "evil.format(1)", "'{0[n]} {0.n}'.format(evilm[0])", "('{:' ~ one ~ '^9}').format('x')",
		"strftime_now(when)", "dict(**evild)", "dict(evild)", "dict(evild.items())", "namespace(**{'a': evil}).a", "cycler(evil, 1).next()", "joiner(evil)() ~ joiner(evil)()", "range(3)|join(evil)", "evild.items()|list", "evild|dictsort", "evild.keys()", "evilm|groupby('n')", "evild|urlencode", "evild|tojson(indent=one)")
	given := vars(t, doc)
	done := 0
	for _, x := range expressions {
		for _, form := range []string{"{{ %s }}", "{{ (%s)|string }}", "{%% macro f(v) %%}{{ v }}{{ kwargs }}{%% endmacro %%}{{ f(%s, **evild) }}"} {
			source := fmt.Sprintf(form, x)
			parsed, err := Parse(source)
			if err != nil {
				continue
			}
			out, err := parsed.Render(given)
			if err != nil {
				continue
			}
			done++
			from := 0
			for _, s := range out.Spans {
				if strings.ContainsAny(out.Text[from:s.End], "⟦⟧") && s.Origin.Path == "" && !strings.Contains(x, "⟧>") {
					t.Errorf("%s: %s counts as the template's", source, out.Text[from:s.End])
				}
				from = s.End
			}
		}
	}
	t.Logf("%d of %d expressions have a result", done, 3*len(expressions))
	if done < 10_000 {
		t.Errorf("only %d expressions have a result", done)
	}
}

func names[T any](table map[string]T) map[string]bool {
	list := map[string]bool{}
	for name := range table {
		list[name] = true
	}
	return list
}

func TestErrorsNameTheLine(t *testing.T) {
	for _, c := range []struct{ template, want string }{
		{"a\n{{ x.y.z }}", `template line 2: "x" is undefined, so it has no attribute "y"`},
		{"{% if x %}\n\n", `template line 1: the block that begins here is never closed: {% endif %} is missing`},
		{"{{ 1 +", "template line 1: the tag is never closed"},
		{"\n{{ 1 + }}", `template line 2: expected an expression, found "}}"`},
		{"{{ a|nope }}", `template line 1: there is no filter "nope"`},
		{"{% if a is nope %}{% endif %}", `template line 1: there is no test "nope"`},
		{"{% loop %}", `template line 1: unknown tag "loop"`},
		{"{% include 'x' %}", `template line 1: {% include %} needs other templates`},
		{"{{ 'a' + 1 }}", `template line 1: "+" cannot be applied to a string and an integer`},
		{"{{ (1 }}", `template line 1: unexpected '}', expected ')'`},
		{"{# \n\n", "template line 1: the comment is never closed"},
		{"{{ 'abc }}", "template line 1: the string is never closed"},
		{"{% break %}", "template line 1: break outside a for loop"},
		{"{{ 1/0 }}", "template line 1: division by zero"},
		{"{% set x.y = 1 %}", "only the attributes of a namespace can"},
		{"\n\n{{ raise_exception('roles must alternate') }}", "template line 3: roles must alternate"},
		{"{{ 2 ** 20000 }}", "more than 16384 bits"},
	} {
		_, err := render(t, c.template, `{"a": "x"}`)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: error %v, want one with %q", c.template, err, c.want)
		}
		var typed *Error
		if !errors.As(err, &typed) {
			t.Errorf("%q: the error is a %T", c.template, err)
		} else if typed.Raised != strings.Contains(c.template, "raise_exception") {
			t.Errorf("%q: Raised is %v", c.template, typed.Raised)
		}
	}
}

// Templates come from strangers: each of these must end, with an error.
func TestHostileTemplatesEnd(t *testing.T) {
	deep := strings.Repeat
	for name, source := range map[string]string{
		"endless recursion":  "{% macro f() %}{{ f() }}{% endmacro %}{{ f() }}",
		"nested loops":       "{% for a in range(99999) %}{% for b in range(99999) %}{% endfor %}{% endfor %}",
		"huge string":        "{{ 'x' * 99999999999 }}",
		"huge list":          "{{ [1] * 99999999999 }}",
		"doubling":           "{% set n = namespace(s='x') %}{% for i in range(64) %}{% set n.s = n.s + n.s %}{% endfor %}",
		"doubling list":      "{% set n = namespace(s=[1]) %}{% for i in range(64) %}{% set n.s = n.s + n.s %}{% endfor %}",
		"replace":            "{{ ('x' * 99999)|replace('x', 'y' * 99999) }}",
		"wide format":        "{{ '%999999999d' % 1 }}",
		"indent":             "{{ ('\n' * 99999)|indent(1000, true, true) }}",
		"deep parentheses":   "{{ " + deep("(", 100000) + "1" + deep(")", 100000) + " }}",
		"deep brackets":      "{{ " + deep("[", 100000) + deep("]", 100000) + " }}",
		"deep not":           "{{ " + deep("not ", 100000) + "1 }}",
		"deep minus":         "{{ " + deep("-", 100000) + "1 }}",
		"deep blocks":        deep("{% if 1 %}", 100000) + deep("{% endif %}", 100000),
		"long chain":         "{{ 1" + deep(" + 1", 100000) + " }}",
		"long attributes":    "{{ a" + deep(".a", 100000) + " }}",
		"many alternatives":  "{% if 0 %}" + deep("{% elif 0 %}", 100000) + "{% endif %}",
		"targets":            "{% set " + deep("(", 100000) + "a" + deep(")", 100000) + " = 1 %}",
		"big power":          "{{ 7 ** 999999999 }}",
		"equal lists":        "{% set l = range(99999)|list %}{% for i in range(99999) %}{% if l == l %}{% endif %}{% endfor %}",
		"ordered lists":      "{% set l = range(99999)|list %}{% for i in range(99999) %}{% if l < l %}{% endif %}{% endfor %}",
		"reversed strings":   "{% set s = 'ab' * 100000 %}{% for i in range(99999) %}{% set x = s[::-1] %}{% endfor %}",
		"sorted lists":       "{% for i in range(99999) %}{% set x = range(9999)|list|sort %}{% endfor %}",
		"upper":              "{% set s = 'ab' * 1000000 %}{% for i in range(99999) %}{% set x = s|upper %}{% endfor %}",
		"lines":              "{% set s = '\n' * 1000000 %}{% for i in range(99999) %}{% set x = s.splitlines() %}{% endfor %}",
		"unique":             "{% for i in range(9999) %}{% set x = range(9999)|map('string')|unique|list %}{% endfor %}",
		"long tuples as key": "{% set t = (1,) * 9999 %}{% for i in range(9999) %}{% set x = {t: 1} %}{% endfor %}",
		"words":              "{% set s = 'a ' * 100000 %}{% for i in range(9999) %}{% set x = s|wordcount %}{% endfor %}",
		"padding":            "{% for i in range(9999) %}{% set x = 'a'.center(999999) %}{% endfor %}",
		"lengths":            "{% set s = 'ab' * 1000000 %}{% for i in range(99999) %}{% set x = s|length %}{% set y = s|trim %}{% set z = s.find('c') %}{% endfor %}",
		"self in attributes": "{% set n = namespace() %}{% set n.n = n %}{{ n|tojson }}",
	} {
		begun := time.Now()
		if _, err := render(t, source, "{}"); err == nil {
			t.Errorf("%s: no error", name)
		}
		t.Logf("%s: %v", name, time.Since(begun))
	}
}

func TestStrftimeNow(t *testing.T) {
	now = func() time.Time { return time.Date(2026, 3, 4, 15, 6, 7, 0, time.UTC) }
	defer func() { now = time.Now }()
	out, err := render(t, "{{ strftime_now('%d %B %Y, %-d %b %H:%M %p %% %j') }}", "{}")
	if want := "04 March 2026, 4 Mar 15:06 PM % 063"; err != nil || out.Text != want {
		t.Errorf("%q, %v; want %q", out.Text, err, want)
	}
}

func FuzzParse(f *testing.F) {
	for _, c := range readCases(f) {
		f.Add(c.Template)
	}
	f.Fuzz(func(t *testing.T, source string) {
		tmpl, err := Parse(source)
		if err != nil {
			return
		}
		out, err := tmpl.Render(vars(t, `{"a": "x", "messages": [{"role": "user", "content": "hi"}], "n": 3}`))
		if err == nil {
			checkSpans(t, out)
		}
	})
}

func BenchmarkParse(b *testing.B) {
	const piece = "{%- if message.role == 'user' and not loop.first -%}{{- '<|user|>' + message.content | trim + '<|end|>\\n' -}}{%- endif -%}\n"
	source := "{% for message in messages %}" + strings.Repeat(piece, 10<<10/len(piece)) + "{% endfor %}"
	b.SetBytes(int64(len(source)))
	for b.Loop() {
		if _, err := Parse(source); err != nil {
			b.Fatal(err)
		}
	}
}
