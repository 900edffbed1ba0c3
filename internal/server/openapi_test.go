package server

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"kindredgate/api"
	"kindredgate/internal/dialect"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/sampling"
)

// spec is the contract, read by another reader.
var spec = sync.OnceValues(func() (*openapi3.T, routers.Router) {
	doc, err := openapi3.NewLoader().LoadFromData(api.Spec)
	if err != nil {
		panic(err)
	}
	doc.Servers = nil // the tests' servers have other addresses
	for _, kind := range []string{"text/event-stream", jsonLines} {
		openapi3filter.RegisterBodyDecoder(kind, openapi3filter.FileBodyDecoder) // their pieces are checked one by one
	}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		panic(err)
	}
	return doc, router
})

func TestContractIsValid(t *testing.T) {
	doc, _ := spec()
	if err := doc.Validate(t.Context()); err != nil {
		t.Fatal(err)
	}
}

// Every path that the server has is in the contract, and every one of the contract is there.
func TestContractHasEveryPath(t *testing.T) {
	doc, _ := spec()
	s := start(t, &scripted.Runner{}).server
	served := map[string]bool{}
	for _, r := range s.router.Load().engine.Routes() {
		if r.Path == "/" || strings.HasPrefix(r.Path, "/assets/") {
			continue // pages
		}
		path := regexp.MustCompile(`:(\w+)`).ReplaceAllString(r.Path, "{$1}")
		served[r.Method+" "+path] = true
		item := doc.Paths.Value(path)
		if item == nil || item.GetOperation(r.Method) == nil {
			t.Errorf("the contract has no %s %s", r.Method, path)
		}
	}
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			if !served[method+" "+path] {
				t.Errorf("nothing serves %s %s", method, path)
			}
		}
	}
}

// What stands in tables of the program, the contract has from there: the fields of records, and the styles.
func TestContractHasTheTables(t *testing.T) {
	doc, _ := spec()
	schema := doc.Components.Schemas["Exchange"].Value
	tags := map[string]string{}
	for _, f := range reflect.VisibleFields(reflect.TypeFor[record.Record]()) {
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		tags[name] = options
	}
	types := map[record.Kind]string{record.Text: "string", record.Instant: "string", record.Count: "integer", record.Tokens: "integer", record.Money: "integer", record.Millis: "number", record.List: "array", record.Detail: "object", record.Flag: "boolean"}
	for _, f := range record.Fields {
		p := schema.Properties[f.Name]
		if p == nil {
			t.Errorf("the contract's Exchange has no %s", f.Name)
			continue
		}
		is := p.Value.Type.Is(types[f.Kind]) || f.Kind == record.Detail && p.Value.Type.Is("array")
		if p.Value.Description != f.Means || !is {
			t.Errorf("the contract's Exchange has %s as %v, %q; the table says %s, %q", f.Name, p.Value.Type, p.Value.Description, types[f.Kind], f.Means)
		}
		if slices.Contains(schema.Required, f.Name) == (tags[f.Name] == "omitempty") {
			t.Errorf("whether %s is always there, the contract and the program say otherwise", f.Name)
		}
	}
	if len(schema.Properties) != len(record.Fields) {
		t.Errorf("the contract's Exchange has %d fields, the table %d", len(schema.Properties), len(record.Fields))
	}
	var states, styles []any
	for _, s := range record.States {
		states = append(states, string(s))
	}
	for _, s := range slices.Concat(dialect.Styles, dialect.Passed) {
		styles = append(styles, string(s))
	}
	for where, pair := range map[string][2][]any{
		"Exchange.state":     {schema.Properties["state"].Value.Enum, states},
		"KeyTerms.endpoints": {doc.Components.Schemas["KeyTerms"].Value.Properties["endpoints"].Value.Items.Value.Enum, styles},
		"by_style":           {doc.Components.Parameters["by_style"].Value.Schema.Value.Enum, styles},
	} {
		if !slices.Equal(pair[0], pair[1]) {
			t.Errorf("the contract's %s is %v, the program's %v", where, pair[0], pair[1])
		}
	}
	limits := doc.Components.Schemas["Limits"].Value.Properties
	for _, k := range keyring.LimitKinds {
		if p := limits[k.Name]; p == nil || p.Value.Description != k.Means || (k.Most != 0) != (p.Value.Max != nil) {
			t.Errorf("the contract's Limits have %s as %+v; the table says %q", k.Name, p, k.Means)
		}
	}
	for _, f := range reflect.VisibleFields(reflect.TypeFor[sampling.Settings]()) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		for _, in := range []string{"Sampling", "Preset"} {
			if doc.Components.Schemas[in].Value.Properties[name] == nil {
				t.Errorf("the contract's %s has no %s", in, name)
			}
		}
	}
	terms := doc.Components.Schemas["KeyTerms"].Value.Properties
	for _, k := range keyring.TermKinds {
		if p := terms[k.Name]; p == nil || p.Value.Description != k.Means {
			t.Errorf("the contract's KeyTerms have %s as %+v; the table says %q", k.Name, p, k.Means)
		}
	}
	if len(terms) != len(keyring.TermKinds) {
		t.Errorf("the contract has %d terms, the table %d", len(terms), len(keyring.TermKinds))
	}
	if len(limits) != len(keyring.LimitKinds) {
		t.Errorf("the contract has %d limits, the table %d", len(limits), len(keyring.LimitKinds))
	}
}

// matchesSpec checks a call and its answer against the contract. A request that was refused need not match it.
func matchesSpec(t testing.TB, sent *http.Request, body string, resp *http.Response, answer []byte) {
	t.Helper()
	_, router := spec()
	req := sent.Clone(t.Context())
	req.Body = io.NopCloser(strings.NewReader(body))
	route, params, err := router.FindRoute(req)
	if err != nil {
		return // a page, or nothing
	}
	if body != "" && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	options := &openapi3filter.Options{AuthenticationFunc: func(context.Context, *openapi3filter.AuthenticationInput) error { return nil }, IncludeResponseStatus: true}
	// What is understood beyond the contract: compression, a byte-order mark, and a type that is not the body's.
	kind := req.Header.Get("Content-Type")
	options.ExcludeRequestBody = req.Header.Get("Content-Encoding") != "" || strings.HasPrefix(body, "\ufeff") || kind == formType && strings.HasPrefix(body, "{")
	in := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route, Options: options}
	if resp.StatusCode < 300 {
		if err := openapi3filter.ValidateRequest(t.Context(), in); err != nil {
			t.Errorf("%s %s was answered, but the contract has no such request: %v", req.Method, req.URL, err)
		}
	}
	out := &openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: resp.StatusCode, Header: resp.Header, Options: options, Body: io.NopCloser(bytes.NewReader(answer))}
	if err := openapi3filter.ValidateResponse(t.Context(), out); err != nil {
		t.Errorf("%s %s: the answer is not as the contract says: %v\n%s", req.Method, req.URL, err, answer)
	}
}

// matchesSchema checks a piece of a stream against a schema of the contract.
func matchesSchema(t testing.TB, schema string, raw []byte) {
	t.Helper()
	doc, _ := spec()
	var value any
	if err := json.Unmarshal(raw, &value); err != nil {
		t.Fatalf("%s: %v", raw, err)
	}
	if err := doc.Components.Schemas[schema].Value.VisitJSON(value); err != nil {
		t.Errorf("%s is no %s: %v", raw, schema, err)
	}
}
