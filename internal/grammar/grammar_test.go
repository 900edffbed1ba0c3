package grammar

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// work is the work for one request.
func work() *Work { return NewWork(context.Background()) }

// maskOf is the mask, which none of these tests makes too costly.
func maskOf(m *Matcher) []uint64 {
	mask, err := m.Allowed()
	if err != nil {
		panic(err)
	}
	return mask
}

// letters is a vocabulary of all bytes, and of pieces that go across the ends of JSON's parts.
func letters() *Vocabulary {
	var texts []string
	for b := range 256 {
		texts = append(texts, string([]byte{byte(b)}))
	}
	texts = append(texts, "", `":`, `",`, `"}`, `",\n`, `{"`, `[{"`, `": "`, `, "`, "true", "null", "10", "00", "é", "\xc3", "日本", "}]", "]}", `""`, "},{",
		"<think>", "</think>", "island", "Osmer", "  ", "\n  ", "-0", ".5", "e1", "20", "2026-")
	return NewVocabulary(texts)
}

// draw follows a matcher with tokens drawn by chance, each allowed one as likely as the next, until the end or until so
// many tokens; then it takes the shortest way out.
func draw(t *testing.T, m *Matcher, random *rand.Rand, tokens int) string {
	t.Helper()
	var out strings.Builder
	for range tokens {
		var allowed []int32
		for i, w := range maskOf(m) {
			for b := range 64 {
				if w>>b&1 == 1 {
					allowed = append(allowed, int32(64*i+b))
				}
			}
		}
		if len(allowed) == 0 && !m.Done() {
			t.Fatalf("nothing can come after %q", out.String())
		}
		if m.Done() && (len(allowed) == 0 || random.IntN(4) == 0) {
			return out.String()
		}
		id := allowed[random.IntN(len(allowed))]
		if err := m.Accept(id); err != nil {
			t.Fatalf("after %q: %v", out.String(), err)
		}
		out.WriteString(m.g.vocab.texts[id])
	}
	needs, ending := m.Needs(), m.Ending()
	if len(ending) != needs {
		t.Errorf("after %q the ending %q has %d bytes, not %d", out.String(), ending, len(ending), needs)
	}
	return out.String() + ending
}

// enforced is the grammar of values that are valid by a schema.
func enforced(t testing.TB, v *Vocabulary, schema string) *Grammar {
	t.Helper()
	s, err := Compile(work(), []byte(schema))
	if err != nil {
		t.Fatal(err)
	}
	g, err := New(work(), v, s.Value())
	if err != nil {
		t.Fatal(err)
	}
	return g
}

// schemas that can be enforced, with what they are about.
var schemas = map[string]string{
	"object":              `{"type":"object","properties":{"island":{"type":"string"},"adults":{"type":"integer","minimum":0,"maximum":12},"return":{"type":"boolean"}},"required":["island","adults"],"additionalProperties":false}`,
	"optional members":    `{"type":"object","properties":{"a":{"const":1},"b":{"const":2},"c":{"const":3},"d":{"const":4}},"required":["b"],"additionalProperties":false}`,
	"all optional":        `{"type":"object","properties":{"a":{"type":"null"},"b":{"type":"null"}},"additionalProperties":false}`,
	"open object":         `{"type":"object","properties":{"ab":{"type":"integer"},"abc":{"type":"integer"},"é":{"type":"null"}},"required":["abc"],"additionalProperties":{"type":"boolean"}}`,
	"any object":          `{"type":"object"}`,
	"anything":            `true`,
	"required undeclared": `{"type":"object","required":["x"]}`,
	"names with escapes":  `{"type":"object","properties":{"a\"b":{"const":1},"c\\d":{"const":2},"\n":{"const":3}},"additionalProperties":{"const":4}}`,
	"enum":                `{"enum":["Osmer","Tarn \"Head\"",3,2.50,null,true,[1,{"b":2,"a":"é"}],{"x":[]}]}`,
	"enum of a type":      `{"type":"string","enum":["a",1,"bbb"],"maxLength":2}`,
	"const":               `{"const":{"b":1,"a":[null]}}`,
	"array":               `{"type":"array","items":{"type":"integer","minimum":-3,"maximum":3},"minItems":2,"maxItems":4}`,
	"array without end":   `{"type":"array","items":{"enum":["x"]},"minItems":3}`,
	"empty array":         `{"type":"array","items":{"type":"string"},"maxItems":0}`,
	"tuple of nothing":    `{"type":"array","items":false}`,
	"integers":            `{"type":"integer","minimum":-17,"exclusiveMaximum":230}`,
	"negative integers":   `{"type":"integer","maximum":-5,"minimum":-1234}`,
	"numbers":             `{"type":"number","exclusiveMinimum":0.25,"maximum":1.5}`,
	"numbers about 0":     `{"type":"number","minimum":-0.05,"maximum":0.005}`,
	"small numbers":       `{"type":"number","minimum":1e-3,"maximum":2e-3}`,
	"large integers":      `{"type":"integer","minimum":123456789012345678901}`,
	"one number":          `{"type":"number","minimum":7,"maximum":7}`,
	"free numbers":        `{"type":"number"}`,
	"strings by length":   `{"type":"string","minLength":2,"maxLength":5}`,
	"empty string":        `{"type":"string","maxLength":0}`,
	"pattern":             `{"type":"string","pattern":"^[A-Z]{2}-\\d{3}(é|日|[^\\x00-\\x7f])?$"}`,
	"pattern anywhere":    `{"type":"string","pattern":"ferry|b[oa]+t","maxLength":9}`,
	"pattern with dots":   `{"type":"string","pattern":"^.{3}$"}`,
	"pattern of controls": `{"type":"string","pattern":"^[\\x00-\\x20\"\\\\]{2,3}$"}`,
	"pattern and length":  `{"type":"string","pattern":"^a*b*$","minLength":3,"maxLength":6}`,
	"two patterns":        `{"allOf":[{"type":"string","pattern":"^[a-f]+$"},{"pattern":"^.{2,4}$"}]}`,
	"date":                `{"type":"string","format":"date"}`,
	"time":                `{"type":"string","format":"time"}`,
	"date-time":           `{"type":"string","format":"date-time"}`,
	"uuid":                `{"type":"string","format":"uuid"}`,
	"email":               `{"type":"string","format":"email"}`,
	"anyOf":               `{"anyOf":[{"type":"string","maxLength":2},{"type":"integer","minimum":5,"maximum":6},{"type":"null"}]}`,
	"anyOf with siblings": `{"type":"object","properties":{"a":{"type":"integer","minimum":0,"maximum":9}},"anyOf":[{"required":["a"]},{"properties":{"b":{"const":"x"}},"required":["b"]}]}`,
	"oneOf by constant":   `{"oneOf":[{"type":"object","properties":{"kind":{"const":"fare"},"crowns":{"type":"integer","minimum":1,"maximum":9}},"required":["kind","crowns"],"additionalProperties":false},{"type":"object","properties":{"kind":{"enum":["sailing"]},"island":{"enum":["Osmer"]}},"required":["kind","island"],"additionalProperties":false}]}`,
	"oneOf by bounds":     `{"oneOf":[{"type":"integer","maximum":3,"minimum":0},{"type":"integer","exclusiveMinimum":3,"maximum":20}]}`,
	"allOf":               `{"allOf":[{"type":"object","properties":{"a":{"type":"integer","minimum":2}},"required":["a"]},{"properties":{"a":{"maximum":4},"b":{"type":"null"}},"required":["b"]}]}`,
	"allOf closed":        `{"allOf":[{"properties":{"a":{"type":"null"}},"additionalProperties":false,"type":"object"},{"properties":{"b":{"type":"null"}}}]}`,
	"several types":       `{"type":["string","null","array"],"maxLength":3,"maxItems":1,"items":{"type":"boolean"}}`,
	"reference":           `{"type":"object","properties":{"from":{"$ref":"#/$defs/port"},"to":{"$ref":"#/$defs/port"}},"required":["from","to"],"additionalProperties":false,"$defs":{"port":{"type":"object","properties":{"name":{"enum":["Quay","Osmer"]}},"required":["name"],"additionalProperties":false}}}`,
	"recursion":           `{"$ref":"#/$defs/tree","$defs":{"tree":{"type":"object","properties":{"n":{"type":"integer","minimum":0,"maximum":9},"below":{"type":"array","items":{"$ref":"#/$defs/tree"}}},"required":["n"],"additionalProperties":false}}}`,
	"recursion of itself": `{"type":"object","properties":{"next":{"anyOf":[{"$ref":"#"},{"type":"null"}]}},"required":["next"],"additionalProperties":false}`,
	"choice of itself":    `{"$ref":"#/$defs/a","$defs":{"a":{"anyOf":[{"$ref":"#/$defs/a"},{"const":"leaf"}]}}}`,
	"not a constant":      `{"type":"string","maxLength":4,"not":{"enum":["ab","abc","é"]}}`,
	"not a number":        `{"type":"integer","minimum":0,"maximum":9,"not":{"enum":[0,5,9]}}`,
	"not whole":           `{"type":"number","minimum":0,"maximum":2,"not":{"type":"integer"}}`,
	"not this object":     `{"type":"object","properties":{"a":{"enum":[1,2]}},"maxProperties":2,"not":{"const":{"a":1}}}`,
	"not this list":       `{"type":"array","items":{"enum":[1,2]},"maxItems":3,"not":{"const":[1,2]}}`,
	"not a pattern":       `{"type":"string","maxLength":3,"not":{"pattern":"a|^b"}}`,
	"not required":        `{"type":"object","not":{"required":["a","b"]},"maxProperties":2}`,
	"if and then":         `{"type":"object","properties":{"kind":{"enum":["boat","bus"]},"deck":{"type":"integer","minimum":1,"maximum":3}},"required":["kind"],"additionalProperties":false,"if":{"properties":{"kind":{"const":"boat"}}},"then":{"required":["deck"]},"else":{"properties":{"deck":false}}}`,
	"multiples":           `{"type":"integer","multipleOf":7,"minimum":-30,"maximum":1000}`,
	"multiples of parts":  `{"type":"number","multipleOf":0.05,"minimum":-1,"maximum":12.5}`,
	"two multiples":       `{"allOf":[{"type":"number","multipleOf":0.4},{"multipleOf":6,"maximum":100,"minimum":0}]}`,
	"a tuple":             `{"type":"array","prefixItems":[{"type":"string","maxLength":1},{"type":"integer","minimum":0,"maximum":9}],"items":{"type":"null"},"minItems":1,"maxItems":4}`,
	"a tuple, closed":     `{"type":"array","prefixItems":[{"const":1},{"const":2}],"items":false}`,
	"containing":          `{"type":"array","items":{"enum":[1,2,3]},"contains":{"const":2},"minContains":2,"maxContains":3,"maxItems":6}`,
	"containing two":      `{"type":"array","items":{"enum":["a","b","c"]},"allOf":[{"contains":{"const":"a"}},{"contains":{"const":"b"}}]}`,
	"distinct":            `{"type":"array","items":{"enum":["Osmer","Quillay","Wick"]},"uniqueItems":true,"minItems":2}`,
	"distinct, of places": `{"type":"array","prefixItems":[{"enum":[1,2]},{"type":"boolean"}],"items":{"enum":[1,null]},"uniqueItems":true,"contains":{"const":1}}`,
	"counted":             `{"type":"object","properties":{"a":{"const":1},"b":{"const":2},"c":{"const":3}},"additionalProperties":{"type":"null"},"minProperties":2,"maxProperties":3}`,
	"counted, closed":     `{"type":"object","properties":{"a":{"const":1},"b":{"const":2},"c":{"const":3}},"additionalProperties":false,"minProperties":2,"required":["c"]}`,
	"names by pattern":    `{"type":"object","patternProperties":{"^x-":{"type":"integer","minimum":0,"maximum":9},"z$":{"maximum":5}},"properties":{"x-a":{"minimum":3}},"additionalProperties":{"type":"null"},"maxProperties":3}`,
	"names of a form":     `{"type":"object","propertyNames":{"pattern":"^[a-c]{1,2}$"},"additionalProperties":{"type":"boolean"},"maxProperties":3}`,
	"names of a list":     `{"type":"object","propertyNames":{"enum":["a","b"]},"additionalProperties":{"const":1}}`,
	"names of a length":   `{"type":"object","propertyNames":{"maxLength":2,"not":{"const":"ab"}},"additionalProperties":{"type":"null"},"maxProperties":2}`,
	"dependent":           `{"type":"object","properties":{"a":{"const":1},"b":{"const":2},"c":{"const":3}},"dependentRequired":{"a":["b"]},"dependentSchemas":{"c":{"minProperties":2}},"additionalProperties":false}`,
	"an anchor":           `{"$ref":"#port","$defs":{"p":{"$anchor":"port","enum":["Quay"]}}}`,
	"resources":           `{"$id":"https://ferry.example/a/","$ref":"b","$defs":{"b":{"$id":"b","$ref":"#x","$defs":{"x":{"$anchor":"x","enum":["in b"]}}},"x":{"$anchor":"x","enum":["in a"]}}}`,
	"a dynamic reference": `{"$id":"whole","$ref":"list","$defs":{"text":{"$dynamicAnchor":"T","type":"null"},"list":{"$id":"list","type":"array","items":{"$dynamicRef":"#T"},"maxItems":2,"$defs":{"any":{"$dynamicAnchor":"T"}}}}}`,
	"oneOf that overlaps": `{"oneOf":[{"type":"integer","minimum":0,"maximum":6},{"type":"integer","minimum":4,"maximum":9}],"not":{"const":5}}`,
	"what is left":        `{"type":"object","allOf":[{"properties":{"a":{"const":1}}}],"anyOf":[{"properties":{"b":{"const":2}},"required":["b"]},{"properties":{"c":{"const":3}},"required":["c"]}],"unevaluatedProperties":false}`,
	"what is left, items": `{"type":"array","allOf":[{"prefixItems":[{"const":1}]}],"unevaluatedItems":{"type":"null"},"maxItems":3}`,
	"enum with the rest":  `{"enum":[[1],[1,2],[],{"a":1},{"b":1},{}],"minItems":1,"items":{"maximum":1},"required":["a"]}`,
	"duration":            `{"type":"string","format":"duration"}`,
	"ipv4":                `{"type":"string","format":"ipv4"}`,
	"ipv6":                `{"type":"string","format":"ipv6"}`,
	"hostname":            `{"type":"string","format":"hostname"}`,
	"uri":                 `{"type":"string","format":"uri"}`,
	"hopeless option":     `{"type":"object","properties":{"a":{"$ref":"#/$defs/endless"},"b":{"type":"null"}},"additionalProperties":false,"$defs":{"endless":{"type":"object","properties":{"x":{"$ref":"#/$defs/endless"}},"required":["x"]}}}`,
}

func TestWhatIsAcceptedIsValid(t *testing.T) {
	v := letters()
	for name, source := range schemas {
		t.Run(name, func(t *testing.T) {
			g := enforced(t, v, source)
			check := validator(t, source)
			longest := ""
			for seed := range uint64(150) {
				text := draw(t, g.Begin(), rand.New(rand.NewPCG(seed, 1)), 30+int(seed))
				var value any
				if err := json.Unmarshal([]byte(text), &value); err != nil {
					t.Fatalf("seed %d: %q: %v", seed, text, err)
				}
				decoded, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
				if err != nil {
					t.Fatal(err)
				}
				if err := check.Validate(decoded); err != nil {
					t.Fatalf("seed %d: %s: %v", seed, text, err)
				}
				if len(text) > len(longest) {
					longest = text
				}
			}
			t.Log(longest)
		})
	}
}

func validator(t *testing.T, source string) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(source))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	if err := c.AddResource("schema.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// accepts reports whether a form accepts a text byte by byte.
func accepts(t *testing.T, g *Grammar, text string) bool {
	t.Helper()
	m := g.Begin()
	for i := range len(text) {
		if maskOf(m)[text[i]/64]>>(text[i]%64)&1 == 0 {
			return false
		}
		if err := m.Accept(int32(text[i])); err != nil {
			t.Fatal(err)
		}
	}
	return m.Done()
}

func TestAcceptedAndNot(t *testing.T) {
	v := letters()
	for _, tc := range []struct{ schema, good, bad string }{
		{schemas["object"], `{"island": "Osmer", "adults": 2}|{"island":"é😀\n\u0041","adults":12,"return":false}|{
  "island": "",
  "adults": 0
}`, `{"adults":2,"island":"x"}|{"island":"x"}|{"island":"x","adults":13}|{"island":"x","adults":2,"other":1}|{"island":"x","adults":02}|{"island":"x","adults":2,}`},
		{schemas["optional members"], `{"b":2}|{"a":1,"b":2}|{"b":2,"d":4}|{"a":1,"b":2,"c":3,"d":4}`, `{}|{"a":1}|{"a":1,"c":3}|{"b":2,"a":1}`},
		{schemas["open object"], `{"ab":1,"abc":2,"abcd":true,"a":false}|{"abc":1}`, `{"abc":1,"ab":true}|{"abc":1,"é":true}|{"abc":1,"":true,"x":1}`},
		{schemas["numbers"], `0.26|1|1.5|1.50|0.3|0.2500001`, `0.25|0|1.51|2|-1|.5|1.|00.5`},
		{schemas["integers"], `-17|0|229|-1|99`, `-18|230|-0|1.0|1e2|+1`},
		{schemas["numbers about 0"], `-0.05|0.005|0|-0.04|0.00|0.0049`, `-0.051|0.0051|-0|-0.0|1|0.01`},
		{schemas["strings by length"], `"ab"|"日本語"|"\n\u00e9"|"abcde"`, `"a"|"abcdef"|"ab|"\ud800\udc00"`},
		{schemas["pattern"], `"AB-123"|"AB-123é"|"AB-123日"|"AB-123😀"`, `"AB-12"|"AB-123a"|"xAB-123"`},
		{`{"type":"string","pattern":"^\\u00e9\\/$"}`, `"é/"`, `"e/"|"é"`},
		{schemas["date"], `"2026-11-25"|"2024-02-29"|"2000-02-29"`, `"2026-02-29"|"1900-02-29"|"2026-13-01"|"2026-04-31"|"0000-01-01"`},
		{schemas["two patterns"], `"ab"|"abcd"`, `"a"|"abcde"|"xy"`},
		{`{"$id":"https://sorrel.example/fare","$ref":"#/$defs/a%20b~1c","$defs":{"a b/c":{"const":1,"contentMediaType":"text/plain"}}}`, `1`, `2`},
		{schemas["recursion"], `{"n":1,"below":[{"n":2},{"n":3,"below":[]}]}`, `{"below":[]}|{"n":1,"below":[1]}`},
	} {
		g := enforced(t, v, tc.schema)
		for text := range strings.SplitSeq(tc.good, "|") {
			if !accepts(t, g, text) {
				t.Errorf("%s does not accept %s", tc.schema, text)
			}
		}
		for text := range strings.SplitSeq(tc.bad, "|") {
			if accepts(t, g, text) {
				t.Errorf("%s accepts %s", tc.schema, text)
			}
		}
	}
}

func TestRefused(t *testing.T) {
	for _, tc := range []struct{ schema, path, keyword, says string }{
		{`{"type":"object","properties":{"a":{"type":"number","not":{"multipleOf":3}}}}`, "properties.a", "not", "not cannot be enforced of multipleOf"},
		{`{"not":{"patternProperties":{"a":{"type":"string"}}}}`, "", "not", "of patternProperties"},
		{`{"if":{"uniqueItems":true},"then":{"minItems":2}}`, "", "if", "of uniqueItems"},
		{`{"unknownKeyword":1}`, "", "unknownKeyword", "is not a keyword"},
		{`{"propertyNames":{"anyOf":[{"pattern":"^a"},{"pattern":"b$"}]}}`, "propertyNames", "propertyNames", "with alternatives"},
		{`{"patternProperties":{"(":{}}}`, "", "patternProperties", "not a pattern"},
		{`{"dependentRequired":{"a":"b"}}`, "", "dependentRequired", "list of names"},
		{`{"contains":{"type":"string"},"minContains":-1}`, "", "contains", "not negative"},
		{`{"minProperties":5000}`, "", "minProperties", "1000 is the most"},
		{`{"type":"array","uniqueItems":true}`, "", "uniqueItems", "up to 10 different values"},
		{`{"type":"array","items":{"enum":[1,2,3,4,5,6,7,8,9,10,11]},"uniqueItems":true}`, "", "uniqueItems", "up to 10 different values"},
		{`{"type":"number","multipleOf":0}`, "", "multipleOf", "above 0"},
		{`{"type":"number","multipleOf":12345}`, "", "multipleOf", "2000 at the most"},
		{`{"type":"number","multipleOf":1e-20}`, "", "multipleOf", "too many digits"},
		{`{"type":"string","format":7}`, "", "format", "must be a text"},
		{`{"$ref":"#nowhere"}`, "", "$ref", "leads to nothing"},
		{`{"type":"string","pattern":"(?=a)"}`, "", "pattern", "looks ahead elsewhere"},
		{`{"type":"string","pattern":"^a(?!b)"}`, "", "pattern", "looks ahead elsewhere"},
		{`{"type":"string","pattern":"^(?=a)b|c"}`, "", "pattern", "looks ahead elsewhere"},
		{`{"type":"string","pattern":"^(?=a)*b"}`, "", "pattern", "looks ahead elsewhere"},
		{`{"type":"string","pattern":"^(?=a"}`, "", "pattern", "looks ahead elsewhere"},
		{`{"type":"string","pattern":"(?<!a)b"}`, "", "pattern", "looks back"},
		{`{"type":"string","pattern":"\\bword"}`, "", "pattern", "word boundaries"},
		{`{"type":"string","pattern":"(?i)a"}`, "", "pattern", "inline flags"},
		{`{"type":"string","pattern":"(a)\\1"}`, "", "pattern", "pattern"},
		{`{"type":"string","pattern":"^(a|b)*a(a|b){14}$"}`, "", "pattern", "states"},
		{`{"oneOf":[{"type":"array","uniqueItems":true},{"type":["array","null"]}]}`, "oneOf.0", "oneOf", "options 0 and 1"},
		{`{"$ref":"other.json"}`, "", "$ref", "leads out"},
		{`{"properties":{"a":{"$id":"b","$ref":"c"}}}`, "properties.a", "$ref", "leads out"},
		{`{"$dynamicRef":"#nowhere"}`, "", "$dynamicRef", "leads to nothing"},
		{`{"nullable":1}`, "", "nullable", "true or false"},
		{`{"minimum":-1e-300}`, "", "minimum", "too many digits"},
		{`{"$ref":"#/%zz"}`, "", "$ref", "leads to nothing"},
		{`{"$ref":"#/$defs/none"}`, "", "$ref", "leads to nothing"},
		{`{"type":"text"}`, "", "type", "it must be null"},
		{`{"type":"object","properties":{"a":7}}`, "properties.a", "", "an object or a boolean"},
		{`{"minItems":-1}`, "", "minItems", "not negative"},
		{`{"maxItems":1000000}`, "", "maxItems", "10000 is the most"},
		{`{"minimum":"3"}`, "", "minimum", "must be a number"},
		{`{"minimum":1e300}`, "", "minimum", "too many digits"},
		{`{"enum":[]}`, "", "enum", "list of values"},
		{`{"required":"a"}`, "", "required", "list of names"},
		{`{"type":"integer","minimum":3,"maximum":2}`, "", "", "no value"},
		{`{"type":"string","minLength":3,"maxLength":2}`, "", "", "no value"},
		{`{"type":"string","pattern":"^a$","minLength":2}`, "", "", "no value"},
		{`{"type":"string","enum":[1,2]}`, "", "", "no value"},
		{`false`, "", "", "no value"},
		{`{"type":"object","properties":{"x":{"$ref":"#"}},"required":["x"]}`, "", "", "no value that ends"},
		{`{"anyOf":[{"$ref":"#"}]}`, "", "", "no value"},
		{`7`, "", "", "an object or a boolean"},
		{`{"type":`, "", "", "not JSON"},
	} {
		_, err := Compile(work(), []byte(tc.schema))
		var refused *SchemaError
		if !errors.As(err, &refused) {
			t.Errorf("%s: %v", tc.schema, err)
			continue
		}
		if refused.Path != tc.path || refused.Keyword != tc.keyword || !strings.Contains(refused.Error(), tc.says) {
			t.Errorf("%s: path %q, keyword %q: %v", tc.schema, refused.Path, refused.Keyword, refused)
		}
	}
}

// What draft 7 and OpenAPI 3.0 write otherwise is taken as they mean it; a format that is not known says nothing, and a pattern that
// cannot be enforced is noted where the format beside it is.
func TestOtherSpellings(t *testing.T) {
	v := letters()
	for _, c := range []struct {
		schema  string
		yes, no []string
		noted   string
	}{
		{schema: `{"type":"array","items":[{"const":1},{"const":2}],"additionalItems":{"const":3}}`, yes: []string{"[1,2,3,3]", "[1]"}, no: []string{"[2]", "[1,2,4]"}},
		{schema: `{"type":"array","items":{"const":1},"additionalItems":false}`, yes: []string{"[1,1]"}, no: []string{"[2]"}},
		{schema: `{"properties":{"a":{"const":1},"b":{"const":2}},"dependencies":{"a":["b"],"b":{"maxProperties":2}},"additionalProperties":false,"type":"object"}`, yes: []string{`{"a":1,"b":2}`, `{"b":2}`, `{}`}, no: []string{`{"a":1}`}},
		{schema: `{"definitions":{"p":{"enum":["north"]}},"$ref":"#/definitions/p"}`, yes: []string{`"north"`}, no: []string{`"south"`}},
		{schema: `{"type":"string","nullable":true,"enum":["a"]}`, yes: []string{`"a"`, "null"}, no: []string{`"b"`}},
		{schema: `{"type":"string","nullable":false,"enum":["a"]}`, yes: []string{`"a"`}, no: []string{"null"}},
		{schema: `{"type":"string","format":"phone","pattern":"^[0-9]+$"}`, yes: []string{`"12"`}, no: []string{`"a"`}},
		{schema: `{"type":"string","format":"ipv4","pattern":"^(\\d+)(\\.\\1)*$"}`, yes: []string{`"192.0.2.7"`}, no: []string{`"a"`}, noted: `pattern "^(`},
		{schema: `{"type":"number","minimum":-1.7e308,"maximum":2}`, yes: []string{"-5", "2"}, no: []string{"3"}},
		{schema: `{"type":"array","maxItems":2.0,"items":{"enum":[1.0]}}`, yes: []string{"[1,1]"}, no: []string{"[1,1,1]"}},
	} {
		s, err := Compile(work(), []byte(c.schema))
		if err != nil {
			t.Errorf("%s: %v", c.schema, err)
			continue
		}
		if notes := strings.Join(s.Notes, "\n"); (notes == "") != (c.noted == "") || !strings.Contains(notes, c.noted) {
			t.Errorf("%s: notes %q, want %q", c.schema, notes, c.noted)
		}
		g, err := New(work(), v, s.Value())
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range c.yes {
			if !accepts(t, g, text) {
				t.Errorf("%s: %s cannot be written", c.schema, text)
			}
		}
		for _, text := range c.no {
			if accepts(t, g, text) {
				t.Errorf("%s: %s can be written", c.schema, text)
			}
		}
	}
}

// Members one after the other, with marks that no value can forge.
func TestArguments(t *testing.T) {
	v := letters()
	const schema = `{"type":"object","properties":{"a":{"type":"string"},"ab":{"enum":["x","<y>"]},"c":{"type":"string","pattern":"^.{2}$"},"d":{"type":"object"}},"required":["ab"]}`
	for _, c := range []struct {
		layout    Arguments
		good, bad []string
	}{
		{Arguments{Assign: "=", Separator: ", "}, []string{`ab="x"`, `ab="<y>"`, `a="<", ab="x", c="é!"`, `ab="x", d={"<": 1}`}, []string{"", `a="1"`, `ab="x",`, `ab="x", a="1"`, `ab="x", e=1`}},
		{Arguments{Open: "<p=", Assign: ">", Close: "</p>"}, []string{`<p=ab>"x"</p>`, `<p=a>"1"</p><p=ab>"x"</p><p=d>{"k": ["v"]}</p>`}, []string{`<p=ab>"<y>"</p>`, `<p=a>"<"</p><p=ab>"x"</p>`, `<p=ab>"x"</p><p=c>"<>"</p>`, `<p=ab>"x"</p><p=d>{"<":1}</p>`}},
	} {
		s, err := CompileArguments(work(), []byte(schema), c.layout)
		if err != nil {
			t.Fatal(err)
		}
		g, err := New(work(), v, s.Value())
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range c.good {
			if !accepts(t, g, text) {
				t.Errorf("%+v does not accept %s", c.layout, text)
			}
		}
		for _, text := range c.bad {
			if accepts(t, g, text) {
				t.Errorf("%+v accepts %s", c.layout, text)
			}
		}
		for seed := range uint64(50) {
			if text := draw(t, g.Begin(), rand.New(rand.NewPCG(seed, 3)), 40); strings.Count(text, "<p=") != strings.Count(text, "</p>") && c.layout.Close != "" {
				t.Errorf("the marks of %s do not match", text)
			}
		}
	}
	for _, refused := range []string{`{"type":"object","properties":{"not a name":{}}}`, `{"type":"string"}`, `{"type":"object","properties":{"a":{"const":"<"}},"required":["a"]}`, `7`, `{"not":{}}`} {
		if _, err := CompileArguments(work(), []byte(refused), Arguments{Open: "<p=", Assign: ">", Close: "</p>"}); err == nil {
			t.Errorf("%s is not refused", refused)
		}
	}
}

// A schema cannot be made to cost more than it is worth.
func TestLargeSchemasAreRefused(t *testing.T) {
	var lists, patterns, choices []string
	for i := range 40 {
		lists = append(lists, fmt.Sprintf(`"a%d":{"type":"array","maxItems":9999,"items":{"const":%d}}`, i, i))
		patterns = append(patterns, fmt.Sprintf(`"a%d":{"type":"string","pattern":"^(a|b)*a(a|b){%d}x%d$"}`, i, 8+i%3, i))
		choices = append(choices, fmt.Sprintf(`{"anyOf":[{"required":["a%d"]},{"required":["b%d"]},{"required":["c%d"]}]}`, i, i, i))
	}
	for name, source := range map[string]string{
		"lists":    `{"type":"object","properties":{` + strings.Join(lists, ",") + `}}`,
		"patterns": `{"type":"object","properties":{` + strings.Join(patterns, ",") + `}}`,
		"choices":  `{"type":"object","allOf":[` + strings.Join(choices, ",") + `]}`,
	} {
		_, err := Compile(work(), []byte(source))
		var refused *SchemaError
		if !errors.As(err, &refused) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestForms(t *testing.T) {
	v := letters()
	call := Seq(Literal("<call>"), AnyObject().Value(), Literal("</call>"))
	for _, tc := range []struct {
		name      string
		form      Expr
		good, bad []string
	}{
		{"reasoning first", Seq(Until("</think>"), Space(), AnyObject().Value()), []string{"<</thi</think>{}", "</think>\n{}", `{"a"</think>{"b":[1]}`}, []string{"{}", "</think>", "</think>x"}},
		{"one or more", Seq(call, Many(Seq(Space(), call))), []string{"<call>{}</call>", "<call>{}</call>\n<call>{}</call>"}, []string{"", "<call>{}</call>x", "<call>[]</call>"}},
		{"calls in text", TextOr("<call>", Seq(AnyObject().Value(), Literal("</call>"))), []string{"", "no call", "<call", "text <call>{}</call>"}, []string{"<call>", "<call>{", "<call>text"}},
		{"either", Alt(call, AnyObject().Value()), []string{"<call>{}</call>", "{}"}, []string{"", "{}{}"}},
		{"text that is no object", TextNot("{["), []string{"", "text {}", " {"}, []string{"{", "[1]"}},
		{"calls among text", Loop(func(again Expr) Expr { return TextOr("<call>", Seq(AnyObject().Value(), Literal(";"), again)) }),
			[]string{"a<call>{};b<call>{};c", "<call>{};"}, []string{"a<call>{}b", "<call>"}},
		{"perhaps", Seq(Optional(Literal("a")), Literal("b")), []string{"ab", "b"}, []string{"a", "aab"}},
	} {
		g, err := New(work(), v, tc.form)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range tc.good {
			if !accepts(t, g, text) {
				t.Errorf("%s: %q is not accepted", tc.name, text)
			}
		}
		for _, text := range tc.bad {
			if accepts(t, g, text) {
				t.Errorf("%s: %q is accepted", tc.name, text)
			}
		}
	}
}

// TestMaskIsExact compares the mask with trying every token, along random texts.
func TestMaskIsExact(t *testing.T) {
	v := letters()
	for name, source := range schemas {
		g := enforced(t, v, source)
		random := rand.New(rand.NewPCG(7, 7))
		m := g.Begin()
		for range 25 {
			mask := slices.Clone(maskOf(m))
			var possible []int32
			for id, text := range v.texts {
				_, ok := m.after(text)
				ok = ok && text != ""
				if masked := mask[id/64]>>(id%64)&1 == 1; masked != ok {
					t.Fatalf("%s: token %q is allowed: %v, can come: %v", name, text, masked, ok)
				}
				if ok {
					possible = append(possible, int32(id))
				}
			}
			if len(possible) == 0 {
				break
			}
			if err := m.Accept(possible[random.IntN(len(possible))]); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func TestAcceptRefusesOthers(t *testing.T) {
	g, err := New(work(), letters(), AnyObject().Value())
	if err != nil {
		t.Fatal(err)
	}
	m := g.Begin()
	for _, id := range []int32{-1, 'x', 256, 1 << 20} {
		if err := m.Accept(id); err == nil {
			t.Errorf("token %d was accepted", id)
		}
	}
	if err := m.Accept('{'); err != nil {
		t.Fatal(err)
	}
	if after := m.After('"'); after.Needs() != len(`":1}`) || m.Needs() != len(`}`) {
		t.Errorf("an object that has begun needs %d bytes, and after a quote %d", m.Needs(), after.Needs())
	}
}

func FuzzCompile(f *testing.F) {
	for _, s := range schemas {
		f.Add([]byte(s))
	}
	v := letters()
	f.Fuzz(func(t *testing.T, source []byte) {
		if len(source) > 2000 {
			return
		}
		if s, err := CompileArguments(work(), source, Arguments{Open: "<p=", Assign: ">", Close: "</p>"}); err == nil {
			g, err := New(work(), v, s.Value())
			if err != nil {
				t.Fatal(err)
			}
			draw(t, g.Begin(), rand.New(rand.NewPCG(1, 2)), 20)
		}
		s, err := Compile(work(), source)
		if err != nil {
			var refused *SchemaError
			if !errors.As(err, &refused) {
				t.Fatalf("%v is no SchemaError", err)
			}
			return
		}
		g, err := New(work(), v, s.Value())
		if err != nil {
			t.Fatal(err)
		}
		if text := draw(t, g.Begin(), rand.New(rand.NewPCG(1, 2)), 20); !json.Valid([]byte(text)) {
			t.Fatalf("%q is not JSON", text)
		}
	})
}

// synthetic is a vocabulary of 150,000 words of letters, with the punctuation of JSON at some of their ends.
func synthetic() *Vocabulary {
	random := rand.New(rand.NewPCG(3, 4))
	var texts []string
	for b := range 256 {
		texts = append(texts, string([]byte{byte(b)}))
	}
	ends := []string{`"`, `",`, `":`, `":"`, `"}`, `,`, `}`, "\n", ` "`}
	for len(texts) < 150_000 {
		word := make([]byte, 1+random.IntN(9))
		for i := range word {
			word[i] = "etaoinshrdlucmfwypvbgkqjxz"[int(26*random.Float64()*random.Float64())]
		}
		text := string(word)
		switch r := random.IntN(20); {
		case r < 8:
			text = " " + text
		case r < 10:
			text += ends[random.IntN(len(ends))]
		}
		texts = append(texts, text)
	}
	return NewVocabulary(texts)
}

func hundredProperties() []byte {
	var props []string
	for i := range 100 {
		kind := []string{`{"type":"string"}`, `{"type":"integer","minimum":0,"maximum":%d}`, `{"enum":["Osmer","Tarn%d"]}`, `{"type":"string","format":"date"}`, `{"type":"array","items":{"type":"number"},"maxItems":5}`, `{"type":"string","maxLength":%d}`}[i%6]
		if strings.Contains(kind, "%d") {
			kind = fmt.Sprintf(kind, 10+i)
		}
		props = append(props, fmt.Sprintf(`"property_%d":%s`, i, kind))
	}
	return []byte(`{"type":"object","properties":{` + strings.Join(props, ",") + `},"required":["property_7","property_50"],"additionalProperties":false}`)
}

func BenchmarkCompile(b *testing.B) {
	source := hundredProperties()
	for b.Loop() {
		if _, err := Compile(work(), source); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkMask measures a whole answer of a new grammar, from the first token to the last, and gives the time of a
// token on average.
func BenchmarkMask(b *testing.B) {
	v := synthetic()
	source := hundredProperties()
	tokens := 0
	for b.Loop() {
		s, err := Compile(work(), source)
		if err != nil {
			b.Fatal(err)
		}
		b.StopTimer()
		g, err := New(work(), v, s.Value())
		if err != nil {
			b.Fatal(err)
		}
		m := g.Begin()
		random := rand.New(rand.NewPCG(1, 2))
		b.StartTimer()
		for range 2000 {
			mask := maskOf(m)
			at := random.IntN(len(mask))
			id := int32(-1)
			for i := range mask {
				if w := mask[(at+i)%len(mask)]; w != 0 {
					for bit := range int32(64) {
						if w>>bit&1 == 1 {
							id = int32((at+i)%len(mask))*64 + bit
						}
					}
					break
				}
			}
			tokens++
			if id < 0 {
				m = g.Begin()
				continue
			}
			if err := m.Accept(id); err != nil {
				b.Fatal(err)
			}
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(tokens), "ns/token")
}

// Forms whose texts can be understood in very many ways at once are refused, and while one answer's mask is being worked
// out, others go on.
func TestAmbiguityIsBounded(t *testing.T) {
	var texts []string
	for i := range 150_000 {
		texts = append(texts, fmt.Sprintf("%c%x", 'a'+i%26, i*7919%1_000_003))
	}
	texts = append(texts, `"`)
	large := NewVocabulary(texts)
	patterns := func(n int) string {
		var list []string
		for i := range n {
			list = append(list, fmt.Sprintf(`{"type":"string","pattern":"^.*%c%c$"}`, 'a'+i%26, 'a'+i/26))
		}
		return `{"anyOf":[` + strings.Join(list, ",") + `]}`
	}
	compile := func(v *Vocabulary, source string) (*Grammar, error) {
		s, err := Compile(work(), []byte(source))
		if err != nil {
			t.Fatal(err)
		}
		return New(work(), v, s.Value())
	}
	var refused *SchemaError
	if _, err := compile(large, patterns(120)); !errors.As(err, &refused) || !strings.Contains(refused.Message, "ways at once") {
		t.Errorf("120 patterns at once: %v", err)
	}
	if _, err := compile(letters(), patterns(20)); err != nil {
		t.Errorf("20 patterns with a small vocabulary: %v", err)
	}
	// What slips through is stopped where it costs too much.
	g, err := compile(large, patterns(8))
	if err != nil {
		t.Fatal(err)
	}
	left := 1000
	m := g.Begin()
	if err := m.Accept(150_000); err != nil {
		t.Fatal(err)
	}
	g.mask(m.state.threads[0], &left)
	if left >= 0 || len(g.masks) != 0 {
		t.Errorf("%d steps are left, %d masks kept", left, len(g.masks))
	}
	if _, err := m.Allowed(); err != nil {
		t.Errorf("within the bound: %v", err)
	}
}
