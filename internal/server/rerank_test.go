package server

import (
	"encoding/binary"
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"kindredgate/internal/catalog"
)

// scorer makes the folder of a model that scores documents of an encoder's: its head adds up what tanh makes of a vector.
func scorer(t testing.TB, to string) {
	t.Helper()
	const from = "../model/testdata/reference/bert-cls/hf"
	raw, err := os.ReadFile(from + "/model.safetensors")
	if err != nil {
		t.Fatal(err)
	}
	n := binary.LittleEndian.Uint64(raw)
	var header map[string]any
	if err := json.Unmarshal(raw[8:8+n], &header); err != nil {
		t.Fatal(err)
	}
	data := raw[8+n:]
	const width = 64
	add := func(name string, shape []int, at func(i int) float32) {
		count := 1
		for _, d := range shape {
			count *= d
		}
		begin := len(data)
		for i := range count {
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(at(i)))
		}
		header[name] = map[string]any{"dtype": "F32", "shape": shape, "data_offsets": []int{begin, len(data)}}
	}
	for name := range header {
		if strings.HasPrefix(name, "pooler.") || strings.HasPrefix(name, "bert.pooler.") {
			delete(header, name)
		}
	}
	add("bert.pooler.dense.weight", []int{width, width}, func(i int) float32 {
		if i%(width+1) == 0 {
			return 1
		}
		return 0
	})
	add("bert.pooler.dense.bias", []int{width}, func(int) float32 { return 0 })
	add("classifier.weight", []int{1, width}, func(i int) float32 { return float32(i%3) - 1 })
	add("classifier.bias", []int{1}, func(int) float32 { return 0 })
	head, err := json.Marshal(header)
	if err != nil {
		t.Fatal(err)
	}
	file := append(binary.LittleEndian.AppendUint64(nil, uint64(len(head))), head...)
	if err := os.MkdirAll(to, 0o755); err != nil {
		t.Fatal(err)
	}
	config, err := os.ReadFile(from + "/config.json")
	if err != nil {
		t.Fatal(err)
	}
	for name, raw := range map[string][]byte{"model.safetensors": append(file, data...), "config.json": []byte(strings.Replace(string(config), "BertModel", "BertForSequenceClassification", 1))} {
		if err := os.WriteFile(filepath.Join(to, name), raw, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{"tokenizer.json", "tokenizer_config.json"} {
		raw, err := os.ReadFile(filepath.Join(from, name))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(to, name), raw, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// A model whose files say that it scores documents does, the best come first, each as if it were alone, and the ledger has what was read.
func TestRerank(t *testing.T) {
	h := startNative(t)
	folder := t.TempDir()
	scorer(t, filepath.Join(folder, "harbour-rank"))
	h.gate.Catalog = catalog.New(nil, folder, "../../demo/models")
	type list struct {
		Results []struct {
			Index    int
			Score    float64 `json:"relevance_score"`
			Document *struct{ Text string }
		}
		Usage struct {
			Total int `json:"total_tokens"`
		}
	}
	const documents = `["a boat to Osmer", {"text": "the last ferry"}, "bread"]`
	var all, two list
	h.post(t, "/v1/rerank", `{"model":"harbour-rank","query":"when is the boat","documents":`+documents+`}`, &all)
	h.post(t, "/v1/rerank", `{"model":"harbour-rank","query":"when is the boat","documents":`+documents+`,"top_n":2,"return_documents":true}`, &two)
	if len(all.Results) != 3 || len(two.Results) != 2 || all.Usage.Total == 0 || all.Usage != two.Usage || two.Results[0].Index != all.Results[0].Index {
		t.Fatalf("%+v, %+v", all, two)
	}
	texts := []string{"a boat to Osmer", "the last ferry", "bread"}
	tokens := 0
	for i, r := range all.Results {
		if i > 0 && r.Score > all.Results[i-1].Score || r.Score <= 0 || r.Score >= 1 || r.Document != nil {
			t.Errorf("result %d is %+v after %+v", i, r, all.Results[max(0, i-1)])
		}
		var alone list
		h.post(t, "/v1/rerank", `{"model":"harbour-rank","query":"when is the boat","documents":["`+texts[r.Index]+`"]}`, &alone)
		if alone.Results[0].Score != r.Score {
			t.Errorf("%q alone is %g, among others %g", texts[r.Index], alone.Results[0].Score, r.Score)
		}
		tokens += alone.Usage.Total
	}
	if tokens != all.Usage.Total || two.Results[0].Document == nil || two.Results[0].Document.Text != texts[two.Results[0].Index] {
		t.Errorf("%d tokens, %+v", tokens, two)
	}
	if last := <-h.records; last.Style != "rerank" || last.PromptTokens == 0 || last.CompletionTokens != 0 {
		t.Errorf("%+v", last)
	}
	for _, c := range []struct{ path, body, says string }{
		{"/v1/rerank", `{"model":"harbour-embed","query":"q","documents":["x"]}`, "scores no documents; these can be used for that: harbour-rank"},
		{"/v1/rerank", `{"model":"harbour-4m","query":"q","documents":["x"]}`, "scores no documents"},
		{"/v1/embeddings", `{"model":"harbour-rank","input":"x"}`, "makes no embeddings; these can be used for that: harbour-embed"},
		{"/v1/chat/completions", `{"model":"harbour-rank","messages":[{"role":"user","content":"x"}]}`, "POST /v1/rerank"},
		{"/v1/rerank", `{"model":"harbour-rank","query":"q","documents":["x","` + strings.Repeat("a boat ", 60) + `"]}`, "document 1 with the query has"},
	} {
		if resp, raw := h.do(t, "POST", c.path, h.key, c.body); resp.StatusCode != 400 || !strings.Contains(raw, c.says) {
			t.Errorf("%s %.60s: %d %s, want %q", c.path, c.body, resp.StatusCode, raw, c.says)
		}
	}
	var cut list
	h.post(t, "/v1/rerank", `{"model":"harbour-rank","query":"q","max_tokens_per_doc":9,"documents":["`+strings.Repeat("a boat ", 60)+`"]}`, &cut)
	if cut.Usage.Total < 10 || cut.Usage.Total > 20 {
		t.Errorf("%+v", cut.Usage)
	}
}

// A query beside which no document fits is refused at the first of them, before it is paired with all of them.
func TestLongQueries(t *testing.T) {
	h := startNative(t)
	folder := t.TempDir()
	scorer(t, filepath.Join(folder, "harbour-rank"))
	h.gate.Catalog = catalog.New(nil, folder)
	body := `{"model":"harbour-rank","query":"` + strings.Repeat("boat ", 100_000) + `","documents":["pier"` + strings.Repeat(`,"pier"`, 2000) + `]}`
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	resp, raw := h.do(t, "POST", "/v1/rerank", h.key, body)
	runtime.ReadMemStats(&after)
	if resp.StatusCode != 400 || !strings.Contains(raw, "document 0 with the query has ") || !strings.Contains(raw, "context_length_exceeded") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	if taken := after.TotalAlloc - before.TotalAlloc; taken > 200*uint64(len(body)) {
		t.Errorf("%d bytes are taken for a request of %d", taken, len(body))
	}
}
