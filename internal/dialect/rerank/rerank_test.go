package rerank

import (
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
