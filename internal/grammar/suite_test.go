package grammar

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// spellings are ways to write a value: the members of objects in every order, up to a number of ways.
func spellings(raw json.RawMessage, most int) []string {
	var list []json.RawMessage
	if json.Unmarshal(raw, &list) == nil && list != nil {
		ways := []string{""}
		for i, item := range list {
			var next []string
			for _, before := range ways {
				for _, w := range spellings(item, most) {
					if i > 0 {
						w = "," + w
					}
					next = append(next, before+w)
				}
			}
			ways = next[:min(most, len(next))]
		}
		for i := range ways {
			ways[i] = "[" + ways[i] + "]"
		}
		return ways
	}
	fields, err := members(raw)
	if err != nil {
		if v, err := normal(raw); err == nil {
			return []string{v}
		}
		return []string{string(raw)}
	}
	var out []string
	var permute func(left []member, so string)
	permute = func(left []member, so string) {
		if len(out) >= most {
			return
		}
		if len(left) == 0 {
			out = append(out, "{"+so+"}")
			return
		}
		for i, m := range left {
			for _, w := range spellings(m.value, most) {
				text := quote(m.name) + ":" + w
				if so != "" {
					text = so + "," + text
				}
				permute(slices.Delete(slices.Clone(left), i, i+1), text)
			}
		}
	}
	permute(fields, "")
	return out
}

// The official test suite of JSON Schema, draft 2020-12: no instance that is invalid can be written, however it is spelled, and what is
// written by chance is valid. Which schemas are refused, and which valid instances cannot be written, stands in testdata/suite.txt.
func TestOfficialSuite(t *testing.T) {
	files, err := filepath.Glob("testdata/draft2020-12/*.json")
	if err != nil || len(files) < 40 {
		t.Fatal(files, err)
	}
	v := letters()
	var refused, missing []string
	schemas, compiled, valid, possible, invalid := 0, 0, 0, 0, 0
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var groups []struct {
			Description string
			Schema      json.RawMessage
			Tests       []struct {
				Description string
				Data        json.RawMessage
				Valid       bool
			}
		}
		if err := json.Unmarshal(raw, &groups); err != nil {
			t.Fatal(file, err)
		}
		for _, g := range groups {
			schemas++
			name := strings.TrimSuffix(filepath.Base(file), ".json") + ": " + g.Description
			s, err := Compile(work(), g.Schema)
			var form *Grammar
			if err == nil {
				form, err = New(work(), v, s.Value())
			}
			if err != nil {
				refused = append(refused, fmt.Sprintf("%s: %v", name, strings.TrimPrefix(err.Error(), "the schema cannot be enforced: ")))
				continue
			}
			compiled++
			check := validator(t, string(g.Schema))
			for seed := range uint64(20) {
				text := draw(t, form.Begin(), rand.New(rand.NewPCG(seed, 1)), 60)
				value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
				if err == nil {
					err = check.Validate(value)
				}
				if err != nil {
					t.Errorf("%s: %s was written: %v", name, text, err)
					break
				}
			}
			for _, c := range g.Tests {
				is := slices.ContainsFunc(spellings(c.Data, 200), func(text string) bool { return accepts(t, form, text) })
				switch {
				case c.Valid:
					if valid++; is {
						possible++
					} else {
						missing = append(missing, name+": "+c.Description)
					}
				case is:
					t.Errorf("%s: %s: %s can be written", name, c.Description, c.Data)
				default:
					invalid++
				}
			}
		}
	}
	t.Logf("%d of %d schemas compile; %d of %d valid instances can be written, none of %d invalid ones", compiled, schemas, possible, valid, invalid)
	want, err := os.ReadFile("testdata/suite.txt")
	if err != nil {
		t.Fatal(err)
	}
	got := "These schemas of the suite are refused:\n\n" + strings.Join(refused, "\n") + "\n\nThese valid instances cannot be written:\n\n" + strings.Join(missing, "\n") + "\n"
	if got != string(want) {
		t.Errorf("testdata/suite.txt should be:\n%s", got)
	}
}
