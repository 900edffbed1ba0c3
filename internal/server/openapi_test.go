package server

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"kindredgate/api"
	"kindredgate/internal/runner/scripted"
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
	for _, r := range s.front.Load().engine.Routes() {
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
