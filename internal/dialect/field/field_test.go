package field

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"kindredgate/internal/exchange"
)

func parse(t testing.TB, body string) *Object {
	t.Helper()
	o, err := Parse([]byte(body))
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// What is not JSON is told with its line, its column, and what is usually the matter there.
func TestWhereJSONBreaksOff(t *testing.T) {
	for body, want := range map[string]string{
		"{\"a\": 1,\n  \"b\": 2,\n}": "line 3, column 1 a comma stands before }",
		"[1, 2, ]":                   "line 1, column 8 a comma stands before ]",
		"{“a”: 1}":                   "line 1, column 2 stands “, a quotation mark",
		"{\"schöner\": ‘x’}":         "line 1, column 13 stands ‘",
		"{'a': 1}":                   "line 1, column 2 stands '",
		"{\"a\": \"one\ntwo\"}":      "line 1, column 11 a text has a line break",
		"{\"a\": \"one\ttwo\"}":      "line 1, column 11 a text has a line break or tab",
		"{\"a\": True}":              "stands a value as Python writes it",
		"{\"a\": NaN}":               "stands a number that JSON does not have",
		"{\"a\": 1 // one\n}":        "a comment begins",
		"{model: \"m\"}":             "a name stands without quotation marks",
		"{\"a\": 1, b: 2}":           "a name stands without quotation marks",
		"{\"a\": 1} {":               "there is more after the JSON object, at line 1, column 10",
		"{\"a\":\n 1":                "ends too early, after 8 bytes, at line 2, column 3",
		"{\"a\" 1}":                  "line 1, column 6",
	} {
		if _, err := Parse([]byte(body)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, not %q", body, err, want)
		}
	}
}

func TestReadingByType(t *testing.T) {
	o := parse(t, `{"s": "x", "b": true, "i": -3, "f": 0.5, "list": ["a", "b"], "one": "c", "none": null, "o": {"p": {"q": [{"r": 1}]}}, "extra": 1}`)
	s, ok := o.String("s")
	i, f := o.Int("i", -5, 5), o.Float("f", 0, 1)
	if s != "x" || !ok || !o.Bool("b") || *i != -3 || *f != 0.5 || o.Kind("one") != Text || o.Kind("list") != List || o.Kind("i") != Other || o.Kind("o") != Dict || o.Kind("none") != Missing {
		t.Errorf("%q %v %v %v", s, ok, *i, *f)
	}
	if list, one := o.Strings("list"), o.Strings("one"); !slices.Equal(list, []string{"a", "b"}) || !slices.Equal(one, []string{"c"}) {
		t.Errorf("%v %v", list, one)
	}
	// What is null, and what is not there, is missing.
	if _, ok := o.String("none"); ok || o.Int("none", 0, 1) != nil || o.Object("gone") != nil || o.Strings("gone") != nil || len(o.Objects("gone")) != 0 || o.Bool("gone") {
		t.Error("something was read where there is nothing")
	}
	inner := o.Object("o").Object("p").Objects("q")[0]
	if n := inner.Int("r", 0, 9); *n != 1 || inner.Path("r") != "o.p.q[0].r" {
		t.Errorf("%v at %s", *n, inner.Path("r"))
	}
	if err := o.Err(); err != nil {
		t.Error(err)
	}
	if left := o.Unread(); !slices.Equal(left, []string{"extra"}) {
		t.Errorf("unread: %v", left)
	}
}

// All objects of a body share the first thing that was wrong.
func TestTheFirstErrorCounts(t *testing.T) {
	o := parse(t, `{"a": {"b": "x"}, "c": 7}`)
	a := o.Object("a")
	a.Int("b", 0, 1)
	o.String("c")
	var e *exchange.Error
	if err := o.Err(); !errors.As(err, &e) || e.Param != "a.b" || e.Kind != exchange.Invalid || !strings.Contains(e.Message, `a.b must be an integer, not a string ("x")`) {
		t.Errorf("%v", err)
	}
	if a.Err() != o.Err() {
		t.Error("the inner object knows of another error")
	}
}

func TestBounds(t *testing.T) {
	for _, c := range []struct {
		body string
		read func(*Object)
		want string
	}{
		{`{"x": 11}`, func(o *Object) { o.Int("x", 1, 10) }, "x is 11; it must be from 1 to 10"},
		{`{"x": 1.5}`, func(o *Object) { o.Int("x", 1, 10) }, "must be an integer"},
		{`{"x": 1e16}`, func(o *Object) { o.Int("x", 1, 10) }, "must be an integer"},
		{`{"x": 1.1e1}`, func(o *Object) { o.Int("x", 1, 10) }, "x is 11; it must be from 1 to 10"},
		{`{"x": 9223372036854775808}`, func(o *Object) { o.Int("x", 1, 10) }, "must be an integer"},
		{`{"x": 1e400}`, func(o *Object) { o.Float("x", 0, 1) }, "must be a number"},
		{`{"x": 1.5}`, func(o *Object) { o.Float("x", 0, 1) }, "x is 1.5; it must be from 0 to 1"},
		{`{"x": []}`, func(o *Object) { o.Bool("x") }, "must be a boolean, not a list"},
		{`{"x": {}}`, func(o *Object) { o.Strings("x") }, "a string or a list of strings, not an object"},
		{`{"x": [1]}`, func(o *Object) { o.Objects("x") }, "x[0] must be an object, not a number"},
		{`{"x": true}`, func(o *Object) { o.Object("x") }, "x must be an object, not a boolean"},
		{`{"x": "` + strings.Repeat("long ", 20) + `"}`, func(o *Object) { o.Int("x", 0, 1) }, "must be an integer, not a string"},
	} {
		o := parse(t, c.body)
		c.read(o)
		if err := o.Err(); err == nil || !strings.Contains(err.Error(), c.want) || len(err.Error()) > 90 {
			t.Errorf("%.40s: %v, want %q", c.body, err, c.want)
		}
	}
}

// Whatever the bytes, parsing ends, and what it accepts can be read.
func FuzzParse(f *testing.F) {
	for _, s := range []string{`{"a": {"b": [1, "x", null, true]}}`, `{"a": 1, "a": 2}`, `[[[[`, "{\"\\u0000\": \"\\ud800\"}", `{"a": 1e999}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		o, err := Parse(body)
		var e *exchange.Error
		if err != nil {
			if !errors.As(err, &e) || e.Message == "" {
				t.Errorf("%q: the error is %v", body, err)
			}
			return
		}
		for _, name := range o.Unread() {
			o.String(name)
			o.Float(name, -1, 1)
			o.Strings(name)
			o.Object(name)
			o.Objects(name)
		}
	})
}

// byTokens reports whether valid JSON has no key twice in an object, and is not too deep, by taking it apart token by token.
func byTokens(doc []byte) bool {
	d := json.NewDecoder(bytes.NewReader(doc))
	d.UseNumber()
	type level struct {
		keys    map[string]bool // nil in a list
		wantKey bool
	}
	var open []level
	for first := true; first || len(open) > 0; first = false {
		tok, err := d.Token()
		if err != nil {
			return false
		}
		if n := len(open); n > 0 && open[n-1].keys != nil {
			top := &open[n-1]
			if key, ok := tok.(string); ok && top.wantKey {
				if top.keys[key] {
					return false
				}
				top.keys[key], top.wantKey = true, false
				continue
			}
			top.wantKey = true
		}
		switch tok {
		case json.Delim('{'):
			open = append(open, level{keys: map[string]bool{}, wantKey: true})
		case json.Delim('['):
			open = append(open, level{})
		case json.Delim('}'), json.Delim(']'):
			open = open[:len(open)-1]
		}
		if len(open) > maxDepth {
			return false
		}
	}
	return true
}

// What is made of a body takes a small multiple of what the body does, whatever it is made of.
func TestBodiesOutOfProportion(t *testing.T) {
	const long = 8 << 20
	list := func(open, each, end string) string {
		return open + strings.TrimSuffix(strings.Repeat(each, (long-len(open))/len(each)), ",") + end
	}
	var keys strings.Builder
	for i := 0; keys.Len() < long; i++ {
		fmt.Fprintf(&keys, `"%d":1,`, i)
	}
	for what, c := range map[string]struct{ body, want string }{
		"objects":           {list(`{"x":[`, "{},", "]}"), "x has more than 65536 entries"},
		"lists":             {list(`{"x":[`, "[],", "]}"), "x has more than 65536 entries"},
		"objects in lists":  {`{"x":[` + strings.TrimSuffix(strings.Repeat(`{"y":[`+strings.TrimSuffix(strings.Repeat("{},", 60_000), ",")+`]},`, 40), ",") + "]}", "the body has more than 65536 objects"},
		"keys":              {"{" + keys.String() + `"x":[]}`, "an object has more than 65536 keys"},
		"an object's keys":  {`{"y":{},"x":[{` + keys.String()[:strings.LastIndexByte(keys.String()[:200_000], ',')+1] + `"x":1}]}`, "x[0] has more than 4096 fields"},
		"broken at the end": {list(`{"x":[`, "1,", "]]"), "is not JSON"},
		"twice at the end":  {list(`{"y":1,"x":[`, "1,", `],"y":2}`), `"y" appears twice`},
		"written otherwise": {`{"y":1,"x":[],"\u0079":2}`, `"y" appears twice`},
		"one of many":       {"{" + keys.String()[:strings.LastIndexByte(keys.String()[:1000], ',')+1] + `"0":1,"x":[]}`, `"0" appears twice`},
		"deep":              {strings.Repeat("[", 200_000), "nested more than 100 deep"},
		"deep and right":    {strings.Repeat("[", 101) + strings.Repeat("]", 101), "nested more than 100 deep"},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		o, err := Parse([]byte(c.body))
		if err == nil {
			for _, one := range o.Objects("x") {
				one.Objects("y")
			}
			err = o.Err()
		}
		runtime.ReadMemStats(&after)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %.200v, want %q", what, err, c.want)
		}
		if spent := after.TotalAlloc - before.TotalAlloc; spent > 64<<20 {
			t.Errorf("%s: %d bytes cost %d", what, len(c.body), spent)
		}
	}
}

// What is read the short way is what encoding/json reads.
func FuzzMembers(f *testing.F) {
	for _, doc := range []string{`{"a":1,"b":[{"c":"\"}"}],"d":{"e":"f\\"}}`, `{ "a" : { } , "b" : [ ] }`, `{"a":1,"a":2}`, `{"\u0061":1,"a":2}`, `{"a":-1.5e3,"b":true,"c":null,"d":"é"}`, `{}`, ` {"a":"x"} `, `[{"a":1},{"a":1}]`, `"x"`, `1`} {
		f.Add([]byte(doc))
	}
	f.Fuzz(func(t *testing.T, doc []byte) {
		if !json.Valid(doc) || !utf8.Valid(doc) { // which was seen to before
			return
		}
		if doc[space(doc, 0)] == '{' {
			var want map[string]json.RawMessage
			if err := json.Unmarshal(doc, &want); err != nil {
				t.Fatal(err)
			}
			got := map[string]json.RawMessage{}
			if err := members(doc, func(name string, value json.RawMessage) bool { got[name] = value; return true }); err != nil {
				t.Fatal(err)
			}
			for name, value := range want {
				if string(got[name]) != string(value) {
					t.Errorf("%s: %q is %s, want %s", doc, name, got[name], value)
				}
			}
			if len(got) != len(want) {
				t.Errorf("%s has %d fields, want %d", doc, len(got), len(want))
			}
		}
		if got, want := check(doc), byTokens(doc); (got == nil) != want {
			t.Errorf("%s: %v, want it to be accepted: %t", doc, got, want)
		}
		if doc[space(doc, 0)] == '[' {
			var want, got []json.RawMessage
			if err := json.Unmarshal(doc, &want); err != nil {
				t.Fatal(err)
			}
			elements(doc, func(item json.RawMessage) bool { got = append(got, item); return true })
			if !slices.EqualFunc(got, want, func(a, b json.RawMessage) bool { return string(a) == string(b) }) {
				t.Errorf("%s has the entries %s, want %s", doc, got, want)
			}
		}
	})
}

// What nobody asked for is named at every depth, with the name that it is nearly; what is taken as it stands is not looked into.
func TestIgnoredFields(t *testing.T) {
	o, err := Parse([]byte(`{"model":"m","max_token":5,"verse":1,"list":[{"txt":"a"},{"text":"b","more":1}],"schema":{"type":"object","odd":true},"inner":{"a":1,"b":{"c":2}}}`))
	if err != nil {
		t.Fatal(err)
	}
	o.String("model")
	o.Int("max_tokens", 0, 9)
	o.Objects("list") // which a decoder may do twice
	for _, one := range o.Objects("list") {
		one.String("text")
	}
	if raw, ok := o.Whole("schema"); !ok || string(raw) != `{"type":"object","odd":true}` {
		t.Errorf("%s", raw)
	}
	o.Object("inner").Object("b").Ignore("c")
	var got []string
	for _, i := range o.Ignored() {
		got = append(got, i.String())
	}
	want := []string{"max_token (did you mean max_tokens?)", "verse", "list[0].txt (did you mean text?)", "list[1].more", "inner.a"}
	slices.Sort(got)
	slices.Sort(want)
	if !slices.Equal(got, want) {
		t.Errorf("ignored are %q, not %q", got, want)
	}
	many := `{`
	for i := range 200 {
		many += fmt.Sprintf(`"f%d":1,`, i)
	}
	if o, err = Parse([]byte(many + `"x":1}`)); err != nil || len(o.Ignored()) != mostIgnored {
		t.Errorf("%d of many, %v", len(o.Ignored()), err)
	}
}
