package rerank

import (
	"strings"
	"testing"

	"kindredgate/internal/exchange"
)

func TestEncode(t *testing.T) {
	c := &Call{Ranking: exchange.Ranking{Model: "m", Documents: []string{"a", "b", "c", "d"}}, Top: 3, Return: true}
	got := Encode(c, &exchange.Relevance{Scores: []float64{0.25, 0.75, 0.25, 0.5}, Tokens: 9})
	want := []struct {
		index int
		score float64
		text  string
	}{{1, 0.75, "b"}, {3, 0.5, "d"}, {0, 0.25, "a"}} // of equally good ones the first
	if len(got.Results) != len(want) || got.Usage.TotalTokens != 9 {
		t.Fatalf("%+v", got)
	}
	for i, w := range want {
		if r := got.Results[i]; r.Index != w.index || r.Relevance != w.score || r.Document == nil || r.Document.Text != w.text {
			t.Errorf("result %d is %+v, want %+v", i, r, w)
		}
	}
}

func TestDecodeRefuses(t *testing.T) {
	for body, field := range map[string]string{
		`{"query": "q", "documents": ["x"]}`:                                                                       "model",
		`{"model": "m", "documents": ["x"]}`:                                                                       "query",
		`{"model": "m", "query": "q"}`:                                                                             "documents",
		`{"model": "m", "query": "q", "documents": []}`:                                                            "documents",
		`{"model": "m", "query": "q", "documents": ["x", {}]}`:                                                     "documents[1].text",
		`{"model": "m", "query": "q", "documents": ["x"], "top_n": 0}`:                                             "top_n",
		`{"model": "m", "query": "q", "documents": ["x"], "max_tokens_per_doc": 0}`:                                "max_tokens_per_doc",
		`{"model": "m", "query": "q", "documents": [` + strings.Repeat(`"x", `, maxDocuments) + `"one too many"]}`: "documents",
	} {
		if _, err := Decode([]byte(body)); err == nil || exchange.AsError(err).Param != field {
			t.Errorf("%.80s: %v, want it to name %s", body, err, field)
		}
	}
}

func FuzzDecode(f *testing.F) {
	for _, s := range []string{`{"model":"m","query":"q","documents":["x"]}`, `{"model":"m","query":"q","documents":["x",{"text":"y"}],"top_n":1,"max_tokens_per_doc":3,"return_documents":true}`, `{"model":"m","query":"q","documents":[null]}`, `{"model":"m","query":"q","documents":[{}]}`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		c, err := Decode(body)
		if err != nil {
			if e := exchange.AsError(err); e.Kind != exchange.Invalid || e.Message == "" {
				t.Errorf("%q: %v", body, err)
			}
			return
		}
		if c.Query == "" || len(c.Documents) == 0 || len(c.Documents) > maxDocuments || c.Top < 0 || c.Longest < 0 {
			t.Errorf("%q: %+v", body, c)
		}
	})
}
