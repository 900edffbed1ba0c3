// Package rerank is the style of POST /v1/rerank: a query and documents come in, and how well each document answers the query goes
// out, the best first. Several servers and libraries share this form.
package rerank

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Call is a decoded request.
type Call struct {
	exchange.Ranking
	Top     int  // results that are wanted; 0 for all
	Return  bool // the documents' texts come back with the results
	Unknown []field.Ignored
}

// maxDocuments is how many documents a request may have.
const maxDocuments = 2048

// Decode reads the body of a request. The error is an [exchange.Error] that names the field.
func Decode(body []byte) (*Call, error) {
	o, err := field.Parse(body)
	if err != nil {
		return nil, err
	}
	c := &Call{}
	if c.Model = wire.Model(o); c.Model == "" {
		o.Fail("model", "model is missing; GET /v1/models lists the installed ones")
	}
	if c.Query, _ = o.String("query"); c.Query == "" {
		o.Fail("query", "query is missing: the text that the documents are to answer")
	}
	switch documents := o.Items("documents"); {
	case o.Err() != nil:
	case len(documents) == 0:
		o.Fail("documents", "documents is missing or empty: a list of texts, or of objects with a text")
	case len(documents) > maxDocuments:
		o.Fail("documents", "documents has %d entries; %d are possible in one request", len(documents), maxDocuments)
	default:
		for i, raw := range documents {
			c.Documents = append(c.Documents, document(o, i, raw))
		}
	}
	if n := o.Int("top_n", 1, 1<<20); n != nil {
		c.Top = int(*n)
	}
	if n := o.Int("max_tokens_per_doc", 1, 1<<24); n != nil {
		c.Longest = int(*n)
	}
	c.Return = o.Bool("return_documents")
	o.Ignore("user")
	c.Unknown = o.Ignored()
	return c, o.Err()
}

// document is a text, or an object that has one.
func document(o *field.Object, i int, raw json.RawMessage) (text string) {
	if raw[0] == '"' {
		if err := json.Unmarshal(raw, &text); err != nil {
			o.Fail(fmt.Sprintf("documents[%d]", i), "it is no text: %v", err)
		}
		return text
	}
	one := o.Item("documents", i, raw)
	text, ok := one.String("text")
	if !ok {
		one.Fail("text", "text is missing: a document is a text, or an object with one")
	}
	return text
}

// List is a whole answer.
type List struct {
	Object  string   `json:"object"`
	Model   string   `json:"model"`
	Results []Result `json:"results"`
	Usage   Usage    `json:"usage"`
}

// Result is how well one document answers the query, from 0 to 1.
type Result struct {
	Index     int       `json:"index"`
	Relevance float64   `json:"relevance_score"`
	Document  *Document `json:"document,omitempty"`
}

// Document is the text of a document.
type Document struct {
	Text string `json:"text"`
}

// Usage counts tokens.
type Usage struct {
	PromptTokens int `json:"prompt_tokens"`
	TotalTokens  int `json:"total_tokens"`
}

// Encode writes an answer, the best documents first and the earlier ones of equally good.
func Encode(c *Call, r *exchange.Relevance) *List {
	out := &List{Object: "list", Model: c.Model, Usage: Usage{r.Tokens, r.Tokens}, Results: make([]Result, len(r.Scores))}
	for i, score := range r.Scores {
		out.Results[i] = Result{Index: i, Relevance: score}
		if c.Return {
			out.Results[i].Document = &Document{c.Documents[i]}
		}
	}
	slices.SortStableFunc(out.Results, func(a, b Result) int { return cmp.Compare(b.Relevance, a.Relevance) })
	if c.Top > 0 && c.Top < len(out.Results) {
		out.Results = out.Results[:c.Top]
	}
	return out
}
