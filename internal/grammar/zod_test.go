package grammar

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/dlclark/regexp2"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// What a schema library for TypeScript writes for its kinds of values, through the three helpers of the client package and by itself,
// is enforced: nothing of it is refused, and what is written is valid.
func TestSchemasOfALibrary(t *testing.T) {
	raw, err := os.ReadFile("testdata/zod.json")
	if err != nil {
		t.Fatal(err)
	}
	var rows []struct {
		Kind   string
		Of     []string
		Schema json.RawMessage
	}
	if err := json.Unmarshal(raw, &rows); err != nil || len(rows) < 140 {
		t.Fatal(len(rows), err)
	}
	v := letters()
	for _, r := range rows {
		name := r.Kind + " (" + strings.Join(r.Of, ", ") + ")"
		s, err := Compile(work(), r.Schema)
		var form *Grammar
		if err == nil {
			form, err = New(work(), v, s.Value())
		}
		if err != nil {
			t.Errorf("%s: %v\n%s", name, err, r.Schema)
			continue
		}
		check := ofLibrary(t, r.Schema)
		valid := func(text string) error {
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
			if err != nil {
				return err
			}
			return check.Validate(value)
		}
		for seed := range uint64(10) {
			text := draw(t, form.Begin(), rand.New(rand.NewPCG(seed, 1)), 60)
			if err := valid(text); err != nil {
				t.Errorf("%s: %s was written: %v", name, text, err)
				break
			}
		}
		for _, value := range someValues {
			text := `{"it":` + value + `}`
			err := valid(text)
			switch is := accepts(t, form, text); {
			case is && err != nil:
				t.Errorf("%s: %s can be written: %v", name, text, err)
			case !is && err == nil && wider[r.Kind] == "":
				t.Errorf("%s: %s cannot be written", name, text)
			}
		}
	}
}

// someValues are what each schema of the library is tried with.
var someValues = []string{
	`null`, `true`, `0`, `3`, `-7`, `2.5`, `0.75`, `12`, `""`, `"a"`, `"A"`, `"north"`, `"QA12"`, `"the boat"`, `"a.b and c"`, `"abc"`,
	`"purser@sorrel-sound.example"`, `"a..b@sorrel.example"`, `".a@sorrel.example"`, `"2026-11-30"`, `"2026-02-29"`, `"19:40:00Z"`, `"19:40:00"`, `"2026-11-30T19:40:00Z"`, `"2026-11-30T19:40:00"`,
	`"P1DT2H"`, `"P2W"`, `"P"`, `"192.0.2.7"`, `"300.0.2.7"`, `"2001:db8::1"`, `"192.0.2.0/24"`, `"2001:db8::/32"`, `"pier.sorrel.example"`, `"+4915112345678"`,
	`"01234567-89ab-4def-8123-456789abcdef"`, `"https://sorrel.example/piers"`, `"⛴️"`, `"12"`, `"ckopqwooh000001la8mbi2im9"`, `"01ARZ3NDEKTSV4RRFFQ69G5FAV"`, `"YWJj"`, `"YWI="`,
	`[]`, `["a"]`, `["a","b"]`, `["a",1]`, `["a",1,2]`, `[true]`, `[true,false]`, `[1,2]`, `{}`, `{"a":"x"}`, `{"a":"x","b":1}`, `{"b":"y"}`, `{"ab":1}`,
}

// wider are the kinds of which not all is written that is valid, with why.
var wider = map[string]string{
	"duration": "the format of the standard has no weeks beside days, and whole numbers", "hostname": "labels have 22 characters at the most",
}

// ofLibrary makes a validator by another's hand, with another's patterns.
func ofLibrary(t *testing.T, raw json.RawMessage) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	c.UseRegexpEngine(func(source string) (jsonschema.Regexp, error) {
		// The other package has no properties of emoji: here they stand for what is beyond ASCII, and digits where those are parts.
		beyond := "\u0080-\U0010ffff"
		source = strings.NewReplacer(`(\p{Extended_Pictographic}|\p{Emoji_Component})`, "["+beyond+"0-9#*]",
			`\p{Extended_Pictographic}`, beyond, `\p{Emoji_Component}`, beyond+"0-9#*", `\p{Regional_Indicator}`, beyond).Replace(source)
		re, err := regexp2.Compile(source, regexp2.ECMAScript)
		return independent{re}, err
	})
	if strings.Contains(string(raw), `"items":[`) {
		c.DefaultDraft(jsonschema.Draft7)
	}
	nullable(doc)
	if err := c.AddResource("schema.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// independent is a pattern of the package that is compared with.
type independent struct{ *regexp2.Regexp }

func (r independent) MatchString(s string) bool {
	ok, err := r.Regexp.MatchString(s)
	return ok && err == nil
}

// nullable writes OpenAPI's "nullable" as the standard does.
func nullable(v any) {
	switch v := v.(type) {
	case []any:
		for _, item := range v {
			nullable(item)
		}
	case map[string]any:
		for _, item := range v {
			nullable(item)
		}
		if v["nullable"] != true {
			return
		}
		if one, ok := v["type"].(string); ok {
			v["type"] = []any{one, "null"}
		}
		if list, ok := v["enum"].([]any); ok {
			v["enum"] = append(list, nil)
		}
	}
}
