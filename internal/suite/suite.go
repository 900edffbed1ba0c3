// Package suite asks models the same questions and holds their answers to what is expected of them.
//
// A suite is a YAML file, described by a JSON Schema ([Schema]). Each case is asked several times with seeds that count on, so that
// the same suite asks the same model the same thing.
package suite

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"kindredgate/internal/exchange"
)

// Schema describes the files.
//
//go:embed suite.schema.json
var Schema []byte

// Abilities is the suite that ships, for any model: what it can do with tools, schemas, instructions and context.
//
//go:embed shipped/abilities.yaml
var Abilities []byte

//go:embed shipped/ferry-tools.yaml
var ferryTools []byte

// Shipped are the suites that ship, by their names.
var Shipped = map[string][]byte{"abilities": Abilities, "ferry-tools": ferryTools}

// Suite is what models are asked.
type Suite struct {
	Title    string   `json:"suite"`
	Models   []string `json:"models"`
	Samples  int      `json:"samples"`
	Seed     int64    `json:"seed"`
	Settings Settings `json:"settings"`
	// Parts say of groups of cases what they measure, by their names.
	Parts  map[string]string `json:"parts,omitempty"`
	Cases  []Case            `json:"-"`
	Digest string            `json:"-"` // of the file: equal ones ask the same
}

// Settings are those of requests. Nil fields are left to the model.
type Settings struct {
	Temperature   *float64 `json:"temperature,omitempty"`
	TopP          *float64 `json:"top_p,omitempty"`
	LongestAnswer *int     `json:"longest_answer,omitempty"`
	Reasoning     *bool    `json:"reasoning,omitempty"`
}

// Case is a question with what is expected of its answer.
type Case struct {
	Name  string          `json:"-"`
	Part  string          `json:"part,omitempty"` // that it belongs to; "" for none
	Said  []Turn          `json:"said"`
	Tools map[string]Tool `json:"tools,omitempty"`
	// GateTools are tool servers (SERVER), or tools of theirs (SERVER/TOOL), that the gate runs for the model.
	GateTools []string        `json:"gate_tools,omitempty"`
	MustCall  bool            `json:"must_call,omitempty"`
	Format    json.RawMessage `json:"format,omitempty"`
	Settings  Settings        `json:"settings,omitzero"`
	Answer    Expected        `json:"answer"`
}

// Turn is one of the conversation; one field is set, or Assistant and Called.
type Turn struct {
	System    *string `json:"system,omitempty"`
	User      content `json:"user,omitempty"`
	Assistant *string `json:"assistant,omitempty"`
	Called    calls   `json:"called,omitempty"`
}

// content is what a user said: a text, or a list of texts and pictures.
type content []piece

// piece is a text, or a picture: its file's name ([Suite.Files]), an address, or a data URL.
type piece struct {
	Text    string `json:"-"`
	Picture string `json:"picture"`
	Detail  string `json:"detail,omitempty"` // how closely it is to be looked at, in the standard's words
}

// UnmarshalJSON reads either.
func (p *content) UnmarshalJSON(raw []byte) error {
	list := []json.RawMessage{raw}
	if raw[0] == '[' {
		if err := json.Unmarshal(raw, &list); err != nil {
			return err
		}
	}
	*p = make(content, len(list))
	for i, one := range list {
		var into any = &(*p)[i].Text
		if one[0] == '{' {
			into = &(*p)[i]
		}
		if err := json.Unmarshal(one, into); err != nil {
			return err
		}
	}
	return nil
}

// isFile says whether the picture is named by a file rather than by an address.
func (p piece) isFile() bool {
	return p.Picture != "" && !address.MatchString(p.Picture)
}

var address = regexp.MustCompile(`^(?i:data:|https?://)`)

// calls are the tools that were called in one turn: one, or a list.
type calls []Called

// UnmarshalJSON reads either.
func (c *calls) UnmarshalJSON(raw []byte) error {
	if raw[0] == '[' {
		return json.Unmarshal(raw, (*[]Called)(c))
	}
	*c = make(calls, 1)
	return json.Unmarshal(raw, &(*c)[0])
}

// Called is a tool that was called, and what it gave.
type Called struct {
	Tool string          `json:"tool"`
	With json.RawMessage `json:"with,omitempty"`
	Gave string          `json:"gave"`
}

// Tool is one that may be called.
type Tool struct {
	For  string          `json:"for,omitempty"`
	With json.RawMessage `json:"with,omitempty"`
}

// Expected is what is expected of an answer: all of what is there.
type Expected struct {
	Holds            texts                      `json:"holds,omitempty"`
	Lacks            texts                      `json:"lacks,omitempty"`
	Is               *string                    `json:"is,omitempty"`
	Fits             string                     `json:"fits,omitempty"`
	Obeys            json.RawMessage            `json:"obeys,omitempty"`
	Calls            map[string]json.RawMessage `json:"calls,omitempty"`
	CallsNothing     bool                       `json:"calls_nothing,omitempty"`
	Declines         bool                       `json:"declines,omitempty"`
	Alike            *Alike                     `json:"alike,omitempty"`
	TokensAtMost     int                        `json:"tokens_at_most,omitempty"`
	FirstTokenWithin string                     `json:"first_token_within,omitempty"`
	Judged           *Judged                    `json:"judged,omitempty"`

	pattern *regexp.Regexp
	schema  *jsonschema.Schema
	within  time.Duration
}

// Alike is a text that the answer is to be like.
type Alike struct {
	To      string   `json:"to"`
	AtLeast *float64 `json:"at_least,omitempty"` // the share of words in common; 0.8 if nil
}

// usualShare is how much answers have to be alike.
const usualShare = 0.8

// Judged is a criterion that a model decides about.
type Judged struct {
	By      string `json:"by"`
	Whether string `json:"whether"`
}

// texts are one text or several.
type texts []string

// UnmarshalJSON reads either.
func (t *texts) UnmarshalJSON(raw []byte) error {
	if raw[0] == '"' {
		*t = make(texts, 1)
		return json.Unmarshal(raw, &(*t)[0])
	}
	return json.Unmarshal(raw, (*[]string)(t))
}

// longSuite is how long a file may be, in bytes.
const longSuite = 4 << 20

// Parse reads a suite.
func Parse(raw []byte) (*Suite, error) {
	if len(raw) > longSuite {
		return nil, fmt.Errorf("the suite has %d bytes; %d are possible", len(raw), longSuite)
	}
	doc, names, err := document(raw)
	if err != nil {
		return nil, err
	}
	if err := unknown(doc); err != nil {
		return nil, err
	}
	if err := valid(doc); err != nil {
		return nil, err
	}
	text, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	s := &Suite{Samples: 1}
	var cases struct {
		Cases map[string]*Case `json:"cases"`
	}
	if err := errors.Join(json.Unmarshal(text, s), json.Unmarshal(text, &cases)); err != nil {
		return nil, err
	}
	for _, name := range names {
		c := cases.Cases[name]
		c.Name = name
		if err := c.Answer.compile(); err != nil {
			return nil, fmt.Errorf("cases.%s.answer.%w", name, err)
		}
		s.Cases = append(s.Cases, *c)
	}
	sum := sha256.Sum256(text)
	s.Digest = hex.EncodeToString(sum[:8])
	return s, nil
}

// Files are the names of the files of its pictures.
func (s *Suite) Files() (names []string) {
	seen := map[string]bool{}
	for _, c := range s.Cases {
		for _, p := range c.files() {
			if !seen[p.Picture] {
				seen[p.Picture] = true
				names = append(names, p.Picture)
			}
		}
	}
	return names
}

func (c *Case) files() (list []*piece) {
	for _, t := range c.Said {
		for i := range t.User {
			if t.User[i].isFile() {
				list = append(list, &t.User[i])
			}
		}
	}
	return list
}

// longCase is how long the pictures of a case may be together, as data URLs, in bytes: as long as a request may be. One that is named many times counts as often.
const longCase = 16 << 20

// Attach puts pictures in the places where the suite names their files: data URLs by those names. Suites with other pictures are others.
func (s *Suite) Attach(pictures map[string]string) error {
	urls, names := map[string]string{}, s.Files()
	sum := sha256.New()
	sum.Write([]byte(s.Digest))
	for _, name := range names {
		url, ok := pictures[name]
		if !ok {
			url, ok = pictures[path.Base(name)] // a browser does not tell where a file was
		}
		if !ok {
			return fmt.Errorf("the picture %q is a file, which was not sent; \"kindred suite run FILE\" sends those that stand beside the suite", name)
		}
		urls[name] = url
		of := sha256.Sum256([]byte(url))
		sum.Write(of[:])
	}
	if len(names) > 0 {
		s.Digest = hex.EncodeToString(sum.Sum(nil)[:8])
	}
	for _, c := range s.Cases {
		bytes := 0
		for _, p := range c.files() {
			p.Picture = urls[p.Picture]
			if bytes += len(p.Picture); bytes > longCase {
				return fmt.Errorf("cases.%s: its pictures have more than %d bytes together; leave some out, or make them smaller", c.Name, longCase)
			}
		}
	}
	return nil
}

// document reads YAML as JSON has it, with the names of the cases in the order of the file. The parser panics for some documents.
func document(raw []byte) (doc any, names []string, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("it cannot be read as YAML: %v", p)
		}
	}()
	unreadable := func(err error) error {
		return fmt.Errorf("it cannot be read as YAML: %s", strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	if err := flat(string(raw)); err != nil {
		return nil, nil, err
	}
	file, err := parser.ParseBytes(raw, 0)
	if err != nil {
		return nil, nil, unreadable(err)
	}
	if err := laidOut(file); err != nil || len(file.Docs) == 0 {
		return nil, nil, err
	}
	var ordered struct {
		Cases yaml.MapSlice `yaml:"cases"`
	}
	root := file.Docs[0].Body
	if root == nil {
		return nil, nil, nil
	}
	if err := yaml.NodeToValue(root, &doc); err != nil {
		return nil, nil, unreadable(err)
	}
	if err := yaml.NodeToValue(root, &ordered); err != nil {
		return nil, nil, fmt.Errorf("cases must be an object: the name of each case, and what it is")
	}
	for _, item := range ordered.Cases {
		names = append(names, fmt.Sprint(item.Key))
	}
	text, err := json.Marshal(doc)
	if err != nil {
		return nil, nil, fmt.Errorf("it has what JSON cannot have: %w", err)
	}
	doc, err = jsonschema.UnmarshalJSON(bytes.NewReader(text))
	return doc, names, err
}

// laidOut refuses a file that is short, or shallow, only because of its aliases.
func laidOut(file *ast.File) error {
	type extent struct{ nodes, depth int }
	anchors := map[string]extent{}
	var of func(n ast.Node) extent
	sum := func(list ...ast.Node) (all extent) {
		for _, n := range list {
			one := of(n)
			all.nodes, all.depth = min(all.nodes+one.nodes, mostNodes+1), max(all.depth, one.depth)
		}
		return extent{all.nodes + 1, all.depth + 1}
	}
	of = func(n ast.Node) extent {
		switch n := n.(type) {
		case *ast.AnchorNode:
			e := of(n.Value)
			anchors[n.Name.String()] = e
			return e
		case *ast.AliasNode:
			return anchors[n.Value.String()]
		case *ast.TagNode:
			return of(n.Value)
		case *ast.MappingValueNode:
			return sum(n.Value)
		case *ast.MappingNode:
			list := make([]ast.Node, len(n.Values))
			for i, v := range n.Values {
				list[i] = v
			}
			return sum(list...)
		case *ast.SequenceNode:
			return sum(n.Values...)
		}
		return extent{1, 1}
	}
	for _, d := range file.Docs {
		e := of(d.Body)
		if e.nodes > mostNodes {
			return fmt.Errorf("the suite has more than %d values when its aliases are taken for what they stand for", mostNodes)
		}
		if e.depth > 4*deepest { // a member of an object is two
			return fmt.Errorf("values are nested more than %d deep when the aliases are taken for what they stand for", deepest)
		}
	}
	return nil
}

// Expectations are the names of what can be expected.
var Expectations = func() (names []string) {
	var schema struct {
		Defs struct {
			Expected struct {
				Properties map[string]any `json:"properties"`
			} `json:"expected"`
		} `json:"$defs"`
	}
	if err := json.Unmarshal(Schema, &schema); err != nil {
		panic(err) // it is a part of the program
	}
	for name := range schema.Defs.Expected.Properties {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}()

// unknown names an expectation that there is not, and the nearest that there is: the mistake that is made most.
func unknown(doc any) error {
	root, _ := doc.(map[string]any)
	cases, _ := root["cases"].(map[string]any)
	for name, c := range cases {
		one, _ := c.(map[string]any)
		expected, _ := one["answer"].(map[string]any)
		for what := range expected {
			if !slices.Contains(Expectations, what) {
				nearest := slices.MinFunc(Expectations, func(a, b string) int {
					return levenshtein.ComputeDistance(what, a) - levenshtein.ComputeDistance(what, b)
				})
				return fmt.Errorf("cases.%s.answer: there is no expectation %q; did you mean %q? These are possible: %s", name, what, nearest, strings.Join(Expectations, ", "))
			}
		}
	}
	return nil
}

var compiled = func() *jsonschema.Schema {
	s, err := compileSchema(Schema)
	if err != nil {
		panic(err) // it is a part of the program
	}
	return s
}()

func compileSchema(raw []byte) (*jsonschema.Schema, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.UseLoader(nothing{}) // a schema that names another one does not make the gate fetch it
	if err := c.AddResource("suite:schema", doc); err != nil {
		return nil, err
	}
	return c.Compile("suite:schema")
}

type nothing struct{}

func (nothing) Load(url string) (any, error) { return nil, fmt.Errorf("%s is not fetched", url) }

// valid holds a document to the schema, and says in one line what is wrong first.
func valid(doc any) error {
	err := compiled.Validate(doc)
	var wrong *jsonschema.ValidationError
	if !errors.As(err, &wrong) {
		return err
	}
	wrong = innermost(wrong)
	at := "the suite"
	if len(wrong.InstanceLocation) > 0 {
		at = strings.Join(wrong.InstanceLocation, ".")
	}
	_, said, _ := strings.Cut(wrong.Error(), ": ")
	return fmt.Errorf("%s: %s", at, strings.TrimSpace(said))
}

// innermost is the cause that lies deepest in the document: of the alternatives of a oneOf it is in the one that was meant, which fits furthest. Of several
// it is one that does not only say that something else was expected.
func innermost(e *jsonschema.ValidationError) *jsonschema.ValidationError {
	if len(e.Causes) == 0 {
		return e
	}
	rank := func(e *jsonschema.ValidationError) int {
		r := 2 * len(e.InstanceLocation)
		if _, other := e.ErrorKind.(*kind.Type); !other {
			r++
		}
		return r
	}
	best := innermost(e.Causes[0])
	for _, c := range e.Causes[1:] {
		if one := innermost(c); rank(one) > rank(best) {
			best = one
		}
	}
	return best
}

// compile makes ready what is expected.
func (e *Expected) compile() (err error) {
	if e.Fits != "" {
		if e.pattern, err = regexp.Compile(e.Fits); err != nil {
			return fmt.Errorf("fits is no regular expression: %w", err)
		}
	}
	if e.Obeys != nil {
		if e.schema, err = compileSchema(e.Obeys); err != nil {
			return fmt.Errorf("obeys is no JSON Schema: %s", strings.Join(strings.Fields(err.Error()), " "))
		}
	}
	if e.FirstTokenWithin != "" {
		if e.within, err = time.ParseDuration(e.FirstTokenWithin); err != nil || e.within <= 0 {
			return fmt.Errorf("first_token_within is %q; it must be a time, such as 2s", e.FirstTokenWithin)
		}
	}
	return nil
}

// Request is what a model is asked, with a seed.
func (s *Suite) Request(c Case, model string, seed int64) exchange.Request {
	req := exchange.Request{Model: model, Choice: exchange.Choice{Required: c.MustCall}}
	req.Sampling.Seed = &seed
	for i, t := range c.Said {
		say := func(role exchange.Role, parts ...exchange.Part) {
			req.Turns = append(req.Turns, exchange.Turn{Role: role, Parts: parts})
		}
		switch {
		case t.System != nil:
			say(exchange.System, exchange.Text(*t.System))
		case t.User != nil:
			said := make([]exchange.Part, len(t.User))
			for j, p := range t.User {
				if said[j] = exchange.Text(p.Text); p.Picture != "" {
					said[j] = exchange.Image{URL: p.Picture, Detail: p.Detail, At: fmt.Sprintf("said[%d].user[%d]", i, j)}
				}
			}
			say(exchange.User, said...)
		default:
			var parts, results []exchange.Part
			if t.Assistant != nil {
				parts = append(parts, exchange.Text(*t.Assistant))
			}
			for j, c := range t.Called {
				id := fmt.Sprintf("call_%d_%d", i, j)
				parts = append(parts, exchange.ToolCall{ID: id, Name: c.Tool, Arguments: cmp.Or(string(c.With), "{}")})
				results = append(results, exchange.ToolResult{CallID: id, Content: c.Gave})
			}
			say(exchange.Assistant, parts...)
			for _, r := range results {
				say(exchange.ToolRole, r)
			}
		}
	}
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range c.Tools {
			if !yield(name) {
				return
			}
		}
	}) {
		t := c.Tools[name]
		req.Tools = append(req.Tools, exchange.Tool{Name: name, Description: t.For, Parameters: t.With, At: "tools." + name})
	}
	req.Servers = exchange.ServersOf(c.GateTools)
	if c.Format != nil {
		req.Format = exchange.Format{Kind: exchange.FormatSchema, Schema: c.Format, Strict: true, At: "format"}
	}
	for _, set := range []Settings{s.Settings, c.Settings} {
		if set.Temperature != nil {
			req.Sampling.Temperature = set.Temperature
		}
		if set.TopP != nil {
			req.Sampling.TopP = set.TopP
		}
		if set.LongestAnswer != nil {
			req.MaxTokens = *set.LongestAnswer
		}
		if set.Reasoning != nil {
			req.Thinking = *set.Reasoning
		}
	}
	return req
}
