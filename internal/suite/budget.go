package suite

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"

	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Bounds of a file's YAML, which is read by functions that call themselves, and keys of which are compared with one another.
const (
	mostNodes = 200_000 // values, aliases taken for what they stand for
	mostKeys  = 8_192
	deepest   = 100 // values in values
)

// flat refuses a file that is nested too deeply or has too many keys, before anything that calls itself reads it.
func flat(text string) error {
	keys, brackets := 0, 0
	line, run := 0, 0 // of the line, the marks that each begin a value within the one before
	var columns []int // of the blocks that are open
	for _, t := range lexer.Tokenize(text) {
		if t.Position.Line != line {
			line, run = t.Position.Line, 0
			for len(columns) > 0 && columns[len(columns)-1] >= t.Position.Column {
				columns = columns[:len(columns)-1]
			}
			columns = append(columns, t.Position.Column)
		}
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			brackets++
		case token.SequenceEndType, token.MappingEndType:
			brackets--
		case token.SequenceEntryType, token.MappingKeyType, token.TagType, token.AnchorType, token.AliasType:
			run++
		case token.MappingValueType:
			keys++
		}
		if max(brackets, len(columns), run) > deepest {
			return fmt.Errorf("line %d: values are nested more than %d deep", line, deepest)
		}
		if keys > mostKeys {
			return fmt.Errorf("line %d: the suite has more than %d keys; make two of it", line, mostKeys)
		}
	}
	return nil
}

// Bounds of holding an answer to a schema: what is looked at, and what of that is worked out to know.
const (
	mostEvaluations = 1 << 20
	mostPairs       = 1 << 18
)

var errCostly = errors.New("the schema takes too many steps for this answer: it goes through the same parts again and again")

// obeys holds a document to a schema. What that takes is worked out first: a schema of a few lines can have it go through the same values
// more often than anybody would wait for.
func obeys(ctx context.Context, s *jsonschema.Schema, doc any) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	v, err := newValue(doc)
	if err != nil {
		return err
	}
	c := costs{known: map[pair]int{}}
	if c.of(s, v) > mostEvaluations {
		return errCostly
	}
	return s.Validate(doc)
}

// value is a part of a document, which can be told from others that are equal.
type value struct {
	members  map[string]*value
	elements []*value
}

// newValue refuses numbers that no program has room for: as fractions, which they are compared as, they would take gigabytes.
func newValue(doc any) (v *value, err error) {
	v = &value{}
	switch doc := doc.(type) {
	case json.Number:
		if _, err := doc.Float64(); err != nil {
			return nil, fmt.Errorf("the number %.40s is out of range", doc)
		}
	case map[string]any:
		v.members = make(map[string]*value, len(doc))
		for name, m := range doc {
			if v.members[name], err = newValue(m); err != nil {
				return nil, err
			}
		}
	case []any:
		for _, e := range doc {
			one, err := newValue(e)
			if err != nil {
				return nil, err
			}
			v.elements = append(v.elements, one)
		}
	}
	return v, nil
}

type pair struct {
	schema *jsonschema.Schema
	value  *value
}

// costs counts how many schemas are held against how many values, each pair as often as it comes up.
type costs struct{ known map[pair]int }

func (c *costs) of(s *jsonschema.Schema, v *value) int {
	if s == nil {
		return 0
	}
	at := pair{s, v}
	if n, ok := c.known[at]; ok {
		return n
	}
	if len(c.known) > mostPairs {
		return math.MaxInt32
	}
	c.known[at] = 0 // a schema that names itself for the same value is an error of the schema, and ends there
	sum := 1
	add := func(n int) { sum = min(sum+n, math.MaxInt32) }
	here := func(list ...*jsonschema.Schema) {
		for _, one := range list {
			add(c.of(one, v))
		}
	}
	here(s.Ref, s.RecursiveRef, s.Not, s.If, s.Then, s.Else, s.ContentSchema)
	here(s.AllOf...)
	here(s.AnyOf...)
	here(s.OneOf...)
	if s.DynamicRef != nil {
		here(s.DynamicRef.Ref)
	}
	for _, one := range s.DependentSchemas {
		here(one)
	}
	for _, one := range s.Dependencies {
		here(asSchemas(one)...)
	}
	if s.Enum != nil {
		add(len(s.Enum.Values))
	}
	for name, m := range v.members {
		add(c.of(s.Properties[name], m))
		add(len(s.PatternProperties))
		for _, one := range s.PatternProperties {
			add(c.of(one, m))
		}
		for _, one := range append(asSchemas(s.AdditionalProperties), s.UnevaluatedProperties) {
			add(c.of(one, m))
		}
		if s.PropertyNames != nil {
			add(c.of(s.PropertyNames, &value{}))
		}
	}
	if s.UniqueItems {
		add(min(len(v.elements)*len(v.elements), math.MaxInt32))
	}
	for _, e := range v.elements {
		for _, list := range [][]*jsonschema.Schema{asSchemas(s.Items), asSchemas(s.AdditionalItems), s.PrefixItems, {s.Items2020, s.Contains, s.UnevaluatedItems}} {
			for _, one := range list {
				add(c.of(one, e))
			}
		}
	}
	c.known[at] = sum
	return sum
}

// asSchemas is what the package has for keywords that take a schema, several, or something else.
func asSchemas(v any) []*jsonschema.Schema {
	switch v := v.(type) {
	case *jsonschema.Schema:
		return []*jsonschema.Schema{v}
	case []*jsonschema.Schema:
		return v
	}
	return nil
}
