package safetensors

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
)

const fixtures = "../../model/testdata/reference/"

// file puts a header in front of n bytes of data.
func file(header string, n int) []byte {
	raw := binary.LittleEndian.AppendUint64(nil, uint64(len(header)))
	return append(append(raw, header...), make([]byte, n)...)
}

func TestParseHeader(t *testing.T) {
	raw := file(`{"__metadata__": {"license": "CC0-1.0"}, "b": {"dtype": "F32", "shape": [2, 3], "data_offsets": [8, 32]}, "a": {"dtype": "BF16", "shape": [4], "data_offsets": [0, 8]}}`, 32)
	list, metadata, start, err := ParseHeader(raw, int64(len(raw)))
	if err != nil || len(list) != 2 || list[0].Name != "a" || list[1].To != 32 || metadata["license"] != "CC0-1.0" || start != int64(len(raw)-32) {
		t.Fatalf("%+v, %v, %d, %v", list, metadata, start, err)
	}
	if _, _, _, err := ParseHeader(raw[:40], int64(len(raw))); !errors.Is(err, ErrShort) {
		t.Errorf("the beginning alone: %v", err)
	}
	for header, want := range map[string]string{
		`[1]`:      "not a JSON object",
		`{"a": 1}`: `tensor "a"`,
		`{"a": {"dtype": "F32", "shape": [2], "data_offsets": [0, 8]}, "a": {"dtype": "F32", "shape": [2], "data_offsets": [8, 16]}}`:  "appears twice",
		`{"a": {"dtype": "Q9", "shape": [2], "data_offsets": [0, 8]}}`:                                                                 `type "Q9"`,
		`{"a": {"dtype": "F32", "shape": [2], "data_offsets": [0, 9]}}`:                                                                "takes 8 bytes",
		`{"a": {"dtype": "F32", "shape": [2], "data_offsets": [8]}}`:                                                                   "its beginning and its end",
		`{"a": {"dtype": "F32", "shape": [-2], "data_offsets": [0, 8]}}`:                                                               "shape",
		`{"a": {"dtype": "F32", "shape": [1, 1, 1, 1, 1, 1, 1, 1, 2], "data_offsets": [0, 8]}}`:                                        "dimensions",
		`{"a": {"dtype": "F64", "shape": [2147483647, 2147483647, 2147483647], "data_offsets": [0, 8]}}`:                               "shape",
		`{"a": {"dtype": "F32", "shape": [20], "data_offsets": [0, 80]}}`:                                                              "cut off or damaged",
		`{"a": {"dtype": "F32", "shape": [4], "data_offsets": [0, 16]}, "b": {"dtype": "F32", "shape": [4], "data_offsets": [8, 24]}}`: "overlap",
		`{"a": {"dtype": "F32"`: "EOF",
	} {
		raw := file(header, 32)
		if _, _, _, err := ParseHeader(raw, int64(len(raw))); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60s: %v, want %q", header, err, want)
		}
	}
	for _, raw := range [][]byte{nil, {1, 2}, binary.LittleEndian.AppendUint64(nil, 1<<60)} {
		if _, _, _, err := ParseHeader(raw, int64(len(raw))); !errors.Is(err, weights.ErrCut) {
			t.Errorf("%x: %v", raw, err)
		}
	}
}

func TestOpenRefuses(t *testing.T) {
	for _, c := range []struct {
		name, from, want string
		change           func(dir string) error
	}{
		{"no config", "qwen3", "config.json: no such file", func(dir string) error { return os.Remove(dir + "/config.json") }},
		{"half its shards", "qwen3", "1 of its 2 weight files are missing, model-00002-of-00002.safetensors", func(dir string) error { return os.Remove(dir + "/model-00002-of-00002.safetensors") }},
		{"a shard cut off", "qwen3", "cut off or damaged", func(dir string) error { return os.Truncate(dir+"/model-00001-of-00002.safetensors", 9000) }},
		{"an index that leads elsewhere", "qwen3", "not one of this folder", func(dir string) error {
			return os.WriteFile(dir+"/model.safetensors.index.json", []byte(`{"weight_map": {"a": "../../secret.safetensors"}}`), 0o644)
		}},
		{"no index", "qwen3", "2 safetensors files and no model.safetensors.index.json", func(dir string) error { return os.Remove(dir + "/model.safetensors.index.json") }},
		{"config that is no JSON", "llama", "config.json", func(dir string) error { return os.WriteFile(dir+"/config.json", []byte("{"), 0o644) }},
		{"another quantisation", "llama", `weights quantised by "gptq"`, func(dir string) error {
			return os.WriteFile(dir+"/config.json", []byte(`{"model_type": "llama", "quantization_config": {"quant_method": "gptq"}}`), 0o644)
		}},
		{"pooling", "gemma-embed", `pooling by "max_tokens"`, func(dir string) error {
			return os.WriteFile(dir+"/1_Pooling/config.json", []byte(`{"pooling_mode_max_tokens": true}`), 0o644)
		}},
		{"a module elsewhere", "gemma-embed", "lies outside of the folder", func(dir string) error {
			return os.WriteFile(dir+"/modules.json", []byte(`[{"path": "../x", "type": "a.Dense"}]`), 0o644)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "model")
			if err := os.CopyFS(dir, os.DirFS(fixtures+c.from+"/hf")); err != nil {
				t.Fatal(err)
			}
			if err := c.change(dir); err != nil {
				t.Fatal(err)
			}
			if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %q", err, c.want)
			}
		})
	}
}

// The spellings of config.json that mean the same.
func TestConfigure(t *testing.T) {
	for name, raw := range map[string]string{
		"rope_scaling":          `{"model_type": "x", "head_dim": 64, "rope_theta": 5e5, "rope_scaling": {"rope_type": "yarn", "factor": 4, "original_max_position_embeddings": 512}}`,
		"type":                  `{"model_type": "x", "head_dim": 64, "rope_theta": 5e5, "rope_scaling": {"type": "yarn", "factor": 4}, "original_max_position_embeddings": 512}`,
		"both":                  `{"model_type": "x", "head_dim": 64, "rope_theta": 5e5, "rope_scaling": {"type": "yarn", "rope_type": "yarn", "factor": 4, "original_max_position_embeddings": 512}}`,
		"rope_parameters":       `{"model_type": "x", "head_dim": 64, "rope_parameters": {"rope_theta": 5e5, "rope_type": "yarn", "factor": 4, "original_max_position_embeddings": 512}}`,
		"rope_parameters, kind": `{"model_type": "x", "head_dim": 64, "rope_parameters": {"full_attention": {"rope_theta": 5e5, "rope_type": "yarn", "factor": 4, "original_max_position_embeddings": 512}, "sliding_attention": {"rope_theta": 1e4}}}`,
		"nested":                `{"model_type": "outer", "text_config": {"model_type": "x", "hidden_size": 128, "num_attention_heads": 2, "rope_theta": 5e5, "rope_scaling": {"rope_type": "yarn", "factor": 4, "original_max_position_embeddings": 512}}}`,
	} {
		c := &weights.Checkpoint{}
		if err := Configure(c, []byte(raw)); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if r := c.Hyper.Rope; c.Architecture != "x" || r.Base != 5e5 || r.Scaling != "yarn" || r.Factor != 4 || r.Original != 512 || r.Dims != 64 {
			t.Errorf("%s: %q, %+v", name, c.Architecture, r)
		}
	}
	c := &weights.Checkpoint{}
	if err := Configure(c, []byte(`{"model_type": "qwen2", "sliding_window": 8, "use_sliding_window": false, "eos_token_id": [1, 2]}`)); err != nil || c.Hyper.Window != 0 || len(c.Generation.Ends) != 2 {
		t.Errorf("%+v, %v", c.Hyper, err)
	}
	for raw, want := range map[string]string{`{}`: "model_type is missing", `{"model_type": "x", "num_hidden_layers": Infinite}`: "invalid character", `{"model_type": "x", "hidden_size": [1]}`: "hidden_size"} {
		if err := Configure(&weights.Checkpoint{}, []byte(raw)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", raw, err, want)
		}
	}
}

// Prompts for purposes and lengths of vectors, as the files of embedding models have them.
func TestPurposes(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "embed")
	if err := os.CopyFS(dir, os.DirFS(fixtures+"gemma-embed/hf")); err != nil {
		t.Fatal(err)
	}
	doc := `{"prompts": {"query": "search: ", "document": "passage: "}, "default_prompt_name": "document", "matryoshka_dimensions": [16, 32]}`
	if err := os.WriteFile(dir+"/config_sentence_transformers.json", []byte(doc), 0o644); err != nil {
		t.Fatal(err)
	}
	c, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for purpose, want := range map[string]string{"": "passage: ", "query": "search: ", "document": "passage: "} {
		if got, err := c.Prompt(purpose); got != want || err != nil {
			t.Errorf("%q: %q, %v", purpose, got, err)
		}
	}
	if _, err := c.Prompt("poetry"); err == nil || !strings.Contains(err.Error(), "they define document, query") {
		t.Error(err)
	}
	if len(c.Nested) != 2 || c.Hyper.Pooling != weights.PoolMean {
		t.Errorf("%v, %v", c.Nested, c.Hyper.Pooling)
	}
}

func TestReadTokenizerRefuses(t *testing.T) {
	for raw, want := range map[string]string{
		`{}`:                               "model: it is missing",
		`{"model": {"type": "WordLevel"}}`: `type "WordLevel" is not supported`,
		`{"model": {"type": "BPE", "vocab": {"a": 9000000}, "merges": []}}`:                                                                                        "has the number 9000000",
		`{"model": {"type": "BPE", "vocab": {"a": 1, "b": 1}, "merges": []}}`:                                                                                      "the same number",
		`{"model": {"type": "BPE", "vocab": {"a": 0}, "merges": ["ab"]}}`:                                                                                          "does not join two tokens",
		`{"model": {"type": "Unigram", "vocab": [["a"]]}}`:                                                                                                         "has 1 parts",
		`{"model": {"type": "Unigram", "unk_id": 4, "vocab": [["a", 0]]}}`:                                                                                         "unk_id is 4",
		`{"model": {"type": "BPE", "vocab": {"a": 0}, "merges": []}, "normalizer": {"type": "Nmt"}}`:                                                               `normalizer: type "Nmt"`,
		`{"model": {"type": "BPE", "vocab": {"a": 0}, "merges": []}, "pre_tokenizer": {"type": "Split", "behavior": "Isolated"}}`:                                  "without a pattern",
		`{"model": {"type": "BPE", "vocab": {"a": 0}, "merges": []}, "decoder": {"type": "CTC"}}`:                                                                  `decoder: type "CTC"`,
		`{"model": {"type": "BPE", "vocab": {"a": 0}, "merges": []}, "added_tokens": [{"id": 70000000, "content": "x"}]}`:                                          "has the number 70000000",
		`{"model": {"type": "BPE", "vocab": {"a": 0}, "merges": []}, "post_processor": {"type": "TemplateProcessing", "single": [{"SpecialToken": {"id": "x"}}]}}`: `"x" is not defined`,
	} {
		if _, err := ReadTokenizer([]byte(raw)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", raw, err, want)
		}
	}
}

// spends fails if do allocates more than 64 MB beyond so many times the size of its input.
func spends(t *testing.T, input int, do func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	do()
	runtime.ReadMemStats(&after)
	if spent := after.TotalAlloc - before.TotalAlloc; spent > 64<<20+64*uint64(input) {
		t.Errorf("%d bytes of input cost %d bytes", input, spent)
	}
}

func FuzzHeader(f *testing.F) {
	f.Add(file(`{"a": {"dtype": "F32", "shape": [2], "data_offsets": [0, 8]}}`, 8))
	f.Add(file(`{"x_blocks": {"dtype": "U8", "shape": [2, 1, 16], "data_offsets": [0, 32]}, "x_scales": {"dtype": "U8", "shape": [2, 1], "data_offsets": [32, 34]}}`, 34))
	f.Fuzz(func(t *testing.T, raw []byte) {
		spends(t, len(raw), func() {
			list, _, start, err := ParseHeader(raw, int64(len(raw)))
			if err != nil {
				return
			}
			c := &weights.Checkpoint{}
			if Add(c, list, "", raw[start:]) != nil {
				return
			}
			for _, tensor := range c.Tensors {
				if size, err := tensor.Type.Size(tensor.Shape); err == nil && size != int64(len(tensor.Data)) {
					t.Errorf("tensor %q has %d bytes of %d", tensor.Name, len(tensor.Data), size)
				}
			}
		})
	})
}

// seeds adds the lines of a file, which are those of all families of models.
func seeds(f *testing.F, path string) {
	raw, err := os.ReadFile(path)
	if err != nil {
		f.Fatal(err)
	}
	for line := range bytes.Lines(raw) {
		f.Add(line)
	}
}

var (
	hostileConfigs = []string{
		`{"model_type": "llama", "rope_parameters": {"rope_type": "LLaMA4", "type": "llama4"}}`,
		`{"model_type": "llama", "rope_parameters": {"rope_type": "x", "type": "x"}}`,
		`{"model_type": "llama", "rope_scaling": {"rope_type": "x", "type": "x"}, "text_config": {"text_config": {}}}`,
	}
	hostileTokenizers = []string{
		`{"model": {"type": "BPE", "vocab": {}, "merges": []}, "added_tokens": [{"id": 65000}, {"id": 195000}, {"id": 455000}, {"id": 975000}, {"id": 2000000}, {"id": 4000000}]}`,
		`{"model": {"type": "BPE", "vocab": {}, "merges": []}, "normalizer": {"type": "Sequence", "normalizers": [` + strings.Repeat("{},", 5000) + `{}]}}`,
		`{"model": {"type": "Unigram", "unk_id": 0, "vocab": [["a", 0]]}, "normalizer": {"type": "Sequence", "normalizers": [` + strings.Repeat(`{"type": "Replace", "pattern": {"String": "a"}, "content": "aa"},`, 50) + `{"type": "NFC"}]}}`,
		`{"model": {"type": "Unigram", "unk_id": 0, "vocab": [["a", 0]]}, "pre_tokenizer": {"type": "Split", "behavior": "Isolated", "pattern": {"Regex": "` + strings.Repeat("[", 200) + `"}}}`,
	}
)

// Published folders say twice how positions are stretched. What says the same is understood; nothing else is gone around in for ever.
func TestScalingInBothSpellings(t *testing.T) {
	for raw, want := range map[string]string{
		`{"rope_type": "yarn", "type": "yarn", "factor": 4}`:     "",
		`{"rope_type": "Linear", "type": "linear", "factor": 4}`: "",
		`{"rope_type": "default", "type": "default"}`:            "",
		`{"rope_type": "llama4", "type": "llama4"}`:              "", // the network refuses it
		`{"rope_type": "yarn", "type": "linear"}`:                `"yarn" by rope_type and "linear" by type`,
	} {
		for _, key := range []string{"rope_parameters", "rope_scaling"} {
			err := Configure(&weights.Checkpoint{}, []byte(`{"model_type": "llama", "`+key+`": `+raw+`}`))
			if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
				t.Errorf("%s %s: %v, want %q", key, raw, err, want)
			}
		}
	}
}

// Numbers that JSON does not have, lists of numbers of layers, and patterns of letters stand in published files; families ask for what
// they alone know.
func TestFactsOfFolders(t *testing.T) {
	c := &weights.Checkpoint{}
	raw := `{"model_type": "x", "time_step_limit": [0.0, Infinity], "name": "Infinity \" NaN", "least": -Infinity, "none": NaN, "intermediate_size": [3, 9, 4],
		"sliding_window_pattern": "LLLG", "layer_types": ["conv", "full_attention"], "rope_scaling": {"type": "yarn", "mscale": 0.5, "mscale_all_dim": 2}, "bias": true, "depth": 2}`
	if err := Configure(c, []byte(raw)); err != nil {
		t.Fatal(err)
	}
	f := &c.Facts
	if h := &c.Hyper; h.FeedForward != 9 || h.WindowEvery != 0 || h.Rope.Magnitude != 0.5 || h.Rope.MagnitudeAll != 2 {
		t.Errorf("%+v", h)
	}
	if got := f.Text("name"); got != `Infinity " NaN` {
		t.Errorf("name is %q", got)
	}
	if f.Has("least") || f.Has("none") || f.Float("rope_scaling.mscale") != 0.5 || !f.Is(false, "bias") || f.Int("absent", "depth") != 2 || !slices.Equal(f.Ints("intermediate_size"), []int{3, 9, 4}) || !slices.Equal(f.Texts("layer_types"), []string{"conv", "full_attention"}) {
		t.Errorf("%v", f.Err())
	}
	if f.Err() != nil {
		t.Error(f.Err())
	}
	if f.Int("name"); f.Err() == nil || !strings.Contains(f.Err().Error(), "name is") {
		t.Errorf("a text as a number: %v", f.Err())
	}
}

// What a definition leaves out justifies no table of millions of tokens, nor do its parts take hundreds of times what they take in the file.
func TestDefinitionsOutOfProportion(t *testing.T) {
	for i, want := range []string{"has the number", "parts; at most"} {
		raw := []byte(hostileTokenizers[i])
		spends(t, len(raw), func() {
			if _, err := ReadTokenizer(raw); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%v, want %q", err, want)
			}
		})
	}
}

func FuzzConfig(f *testing.F) {
	seeds(f, "testdata/configs.jsonl")
	for _, raw := range hostileConfigs {
		f.Add([]byte(raw))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		spends(t, len(raw), func() {
			_ = Configure(&weights.Checkpoint{}, raw)
			_ = ReadGeneration(&weights.Generation{}, raw)
		})
	})
}

func FuzzTokenizer(f *testing.F) {
	for _, raw := range []string{
		`{"model": {"type": "BPE", "vocab": {"a": 0, "b": 1, "ab": 2, "<0x0A>": 3}, "merges": [["a", "b"]], "byte_fallback": true}, "normalizer": {"type": "Replace", "pattern": {"String": " "}, "content": "▁"}, "added_tokens": [{"id": 4, "content": "<s>", "special": true}]}`,
		`{"model": {"type": "Unigram", "unk_id": 0, "vocab": [["<unk>", 0], ["▁a", -1.5]]}, "pre_tokenizer": {"type": "Metaspace", "prepend_scheme": "always"}, "decoder": {"type": "Metaspace"}}`,
		`{"model": {"type": "WordPiece", "unk_token": "[UNK]", "vocab": {"[UNK]": 0, "a": 1, "##b": 2}}, "normalizer": {"type": "BertNormalizer"}, "pre_tokenizer": {"type": "BertPreTokenizer"}}`,
		`{"pre_tokenizer": {"type": "Sequence", "pretokenizers": [{"type": "Split", "pattern": {"Regex": "\\p{N}{1,3}"}, "behavior": "Isolated"}, {"type": "ByteLevel"}]}, "model": {"vocab": {}, "merges": ["a b"]}}`,
	} {
		f.Add([]byte(raw))
	}
	seeds(f, "testdata/tokenizers.jsonl")
	for _, raw := range hostileTokenizers {
		f.Add([]byte(raw))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		spends(t, len(raw), func() {
			d, err := ReadTokenizer(raw)
			if err != nil {
				return
			}
			if tok, err := tokenizer.New(d); err == nil {
				ids, _ := tok.Encode("It's 12:30 — aab\ufdfa   \n<s>") // that it costs too much is an answer too
				tok.Decode(ids)
			}
			if len(d.Kinds) != len(d.Tokens) || d.Scores != nil && len(d.Scores) != len(d.Tokens) {
				t.Errorf("%d tokens, %d kinds, %d scores", len(d.Tokens), len(d.Kinds), len(d.Scores))
			}
		})
	})
}

// Bytes of floats have their scales in a tensor of their own: one for 128 by 128, or one for all.
func TestBytesWithScales(t *testing.T) {
	data := make([]byte, 200*130+4*4)
	tensors := func(shape []int, kind string, size int64) []Tensor {
		return []Tensor{
			{Name: "a.weight", Type: "F8_E4M3", Shape: []int{200, 130}, To: 200 * 130},
			{Name: "a.weight_scale_inv", Type: kind, Shape: shape, From: 200 * 130, To: 200*130 + size},
		}
	}
	for i := range 4 {
		binary.LittleEndian.PutUint32(data[200*130+4*i:], math.Float32bits(float32(i+1)))
	}
	for _, c := range []struct {
		name  string
		list  []Tensor
		want  []float32
		fault string
	}{
		{"blocks", tensors([]int{2, 2}, "F32", 16), []float32{1, 2, 3, 4}, ""},
		{"one for all", tensors([]int{}, "F32", 4), []float32{1, 1, 1, 1}, ""},
		{"upper halves", tensors([]int{1}, "BF16", 2), []float32{0, 0, 0, 0}, ""},
		{"another shape", tensors([]int{4}, "F32", 16), nil, "scales of \"a.weight\" are one float, or [2 2]"},
		{"bytes", tensors([]int{2, 2}, "U8", 4), nil, "type U8"},
		{"none", tensors(nil, "F32", 0)[:1], nil, "no tensor a.weight_scale_inv"},
	} {
		ck := &weights.Checkpoint{}
		err := Add(ck, c.list, "", data)
		if c.fault != "" {
			if err == nil || !strings.Contains(err.Error(), c.fault) {
				t.Errorf("%s: %v, want %q", c.name, err, c.fault)
			}
			continue
		}
		if err != nil || len(ck.Tensors) != 1 || ck.Tensors[0].Type != weights.F8 || len(ck.Tensors[0].Scales) != 16 {
			t.Errorf("%s: %v, %d tensors", c.name, err, len(ck.Tensors))
			continue
		}
		for i, want := range c.want {
			if got := math.Float32frombits(binary.LittleEndian.Uint32(ck.Tensors[0].Scales[4*i:])); got != want {
				t.Errorf("%s: scale %d is %g, want %g", c.name, i, got, want)
			}
		}
	}
	if err := Configure(&weights.Checkpoint{}, []byte(`{"model_type": "x", "quantization_config": {"quant_method": "fp8", "weight_block_size": [64, 64]}}`)); err == nil || !strings.Contains(err.Error(), "[64 64]") {
		t.Errorf("blocks of another size: %v", err)
	}
}
