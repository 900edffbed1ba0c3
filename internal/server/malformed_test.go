package server

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"kindredgate/internal/dialect"
	"kindredgate/internal/runner/scripted"
)

// malformed is a body and what must be said of it.
type malformed struct{ body, param, code, says string }

// notJSON are bodies that no endpoint can read.
func notJSON() []malformed {
	return []malformed{
		{"", "", "invalid_json", "the body is empty"},
		{"  \n", "", "invalid_json", "the body is empty"},
		{"hello", "", "invalid_json", "is not JSON"},
		{"{", "", "invalid_json", "ends too early"},
		{`{"model": "harbour-4m", "inp`, "", "invalid_json", "ends too early, after 28 bytes"},
		{`{"model": "harbour-4m",}`, "", "invalid_json", "is not JSON"},
		{`{"model": "a"} {"model": "b"}`, "", "invalid_json", "more after the JSON object"},
		{"{\"model\": \"\xff\xfe\"}", "", "invalid_json", "not UTF-8"},
		{`{"model": "a", "model": "b"}`, "", "invalid_json", `"model" appears twice`},
		{`{"model": {"a": 1, "a": 2}}`, "", "invalid_json", `"a" appears twice`},
		{strings.Repeat(`{"a":`, 5000) + "1" + strings.Repeat("}", 5000), "", "invalid_json", "nested more than 100"},
		{strings.Repeat("[", 100000), "", "invalid_json", "nested more than 100"},
		{`[]`, "", "invalid_value", "must be an object, not a list"},
		{`"text"`, "", "invalid_value", "must be an object, not a string"},
		{`17`, "", "invalid_value", "must be an object, not a number"},
		{`{"model": 5}`, "model", "invalid_value", "model must be a string, not a number (5)"},
	}
}

// tooMany are bodies whose lists are too long to be in a file.
var tooMany = map[string][]malformed{
	"/v1/completions": {
		{`{"model":"harbour-4m","n":3,"prompt":[` + strings.Repeat(`"x",`, 43) + `"x"]}`, "n", "invalid_value", "make 132; 128 are possible"},
		{`{"model":"harbour-4m","prompt":[` + strings.Repeat(`"x",`, 64) + `"x"]}`, "prompt", "invalid_value", "64 are possible"},
	},
	"/v1/rerank":     {{`{"model":"x","query":"y","documents":[` + strings.Repeat(`"x",`, 2048) + `"x"]}`, "documents", "invalid_value", "2048 are possible"}},
	"/v1/embeddings": {{`{"model":"harbour-embed","input":[` + strings.Repeat(`"x",`, 2048) + `"x"]}`, "input", "invalid_value", "2048 are possible"}},
}

// mistakes are what testdata/malformed.yaml holds of an endpoint.
type mistakes struct {
	Right string // a body that is right
	Wrong []wrong
}

type wrong struct{ Field, Body, Param, Says string }

// Every endpoint answers a malformed body with 400, the field at fault, and what to do. What a chat request may not
// hold is in the table of package chat, too long to repeat.
func TestMalformedBodies(t *testing.T) {
	h := start(t, &scripted.Runner{})
	raw, err := os.ReadFile("testdata/malformed.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var file struct {
		Sampling []wrong
		Styles   map[string]mistakes
	}
	if err := yaml.NewDecoder(bytes.NewReader(raw), yaml.Strict()).Decode(&file); err != nil {
		t.Fatal(err)
	}
	if len(file.Styles) != len(dialect.Styles) || len(file.Sampling) == 0 {
		t.Fatalf("%d styles, %d fields of sampling", len(file.Styles), len(file.Sampling))
	}
	for path, style := range file.Styles {
		cases := append(notJSON(), tooMany[path]...)
		if path != "/v1/embeddings" && path != "/v1/rerank" {
			style.Wrong = append(style.Wrong, file.Sampling...)
		}
		if len(style.Wrong) < 12 {
			t.Errorf("%s: only %d bodies", path, len(style.Wrong))
		}
		for _, w := range style.Wrong {
			body := w.Body
			if body == "" {
				body = strings.TrimSuffix(style.Right, "}") + ", " + w.Field + "}"
			}
			cases = append(cases, malformed{body, w.Param, "", w.Says})
		}
		for _, m := range cases {
			resp, raw := h.do(t, "POST", path, h.key, m.body)
			var e envelope
			if err := json.Unmarshal([]byte(raw), &e); err != nil {
				t.Errorf("%s %.90s: %v in %s", path, m.body, err, raw)
				continue
			}
			param := ""
			if e.Error.Param != nil {
				param = *e.Error.Param
			}
			if resp.StatusCode != 400 || param != m.param || m.code != "" && e.Error.Code != m.code || m.says == "" || !strings.Contains(e.Error.Message, m.says) {
				t.Errorf("%s %.160s:\n%d %s\nwant param %q, code %q, %q", path, m.body, resp.StatusCode, raw, m.param, m.code, m.says)
			}
		}
	}
	resp, answer := h.do(t, "POST", "/v1/generate", h.key, "model=harbour-4m&prompt=%zz", "Content-Type", "application/x-www-form-urlencoded")
	if resp.StatusCode != 400 || !strings.Contains(answer, "not a form") {
		t.Errorf("%d %s", resp.StatusCode, answer)
	}
}
