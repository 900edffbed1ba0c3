package tokenizer

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"kindredgate/internal/weights"
	"kindredgate/internal/weights/gguf"
	"kindredgate/internal/weights/safetensors"
)

func harbourDefinition(t testing.TB) *weights.Tokenizer {
	t.Helper()
	c, err := gguf.Open("../../demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	d, err := c.Tokenizer()
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func harbour(t testing.TB) *Tokenizer {
	t.Helper()
	return build(t, harbourDefinition(t))
}

func build(t testing.TB, d *weights.Tokenizer) *Tokenizer {
	t.Helper()
	tok, err := New(d)
	if err != nil {
		t.Fatal(err)
	}
	return tok
}

func fromFile(t testing.TB, path string) *Tokenizer {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	d, err := safetensors.ReadTokenizer(raw)
	if err != nil {
		t.Fatal(err)
	}
	return build(t, d)
}

func readJSON(t testing.TB, path string, into any) {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, into); err != nil {
		t.Fatal(err)
	}
}

// Small tokenizers of every kind, with the ids that independent encoders gave.
func TestEveryKindEqualsReference(t *testing.T) {
	for _, name := range []string{"bpe-llama3", "bpe-qwen2", "spm-llama", "spm-gemma", "unigram", "wordpiece"} {
		t.Run(name, func(t *testing.T) {
			tok := fromFile(t, filepath.Join("testdata/reference", name, "tokenizer.json"))
			var v struct {
				Cases []struct {
					Text    string  `json:"text"`
					IDs     []int32 `json:"ids"`
					Decoded *string `json:"decoded"`
				} `json:"cases"`
				Special []struct {
					Text string  `json:"text"`
					IDs  []int32 `json:"ids"`
				} `json:"special_cases"`
			}
			readJSON(t, filepath.Join("testdata/reference", name, "vectors.json"), &v)
			if len(v.Cases) < 20 {
				t.Fatalf("only %d cases", len(v.Cases))
			}
			for _, c := range v.Cases {
				if got := encoded(t, tok, c.Text); !slices.Equal(got, c.IDs) {
					t.Errorf("%q: %v, want %v", c.Text, got, c.IDs)
				}
				if c.Decoded != nil {
					if got := tok.Decode(c.IDs); got != *c.Decoded {
						t.Errorf("%v decoded as %q, want %q", c.IDs, got, *c.Decoded)
					}
				}
			}
			for _, c := range v.Special {
				if got := ids(spans(t, tok, c.Text, everywhere)); !slices.Equal(got, c.IDs) {
					t.Errorf("%q with control tokens: %v, want %v", c.Text, got, c.IDs)
				}
			}
		})
	}
}

func everywhere(int, int) bool { return true }

// Published tokenizers, with the ids that another library gives. The files are large and not part of the project:
// KINDRED_TOKENIZERS names a folder with NAME/tokenizer.json for each.
func TestPublishedTokenizers(t *testing.T) {
	folder := os.Getenv("KINDRED_TOKENIZERS")
	if folder == "" {
		t.Skip("KINDRED_TOKENIZERS is not set; docs/models.md says what to put there")
	}
	files, err := filepath.Glob("testdata/published/*.json")
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), ".json")
		t.Run(name, func(t *testing.T) {
			tok := fromFile(t, filepath.Join(folder, name, "tokenizer.json"))
			var cases []struct {
				Text string  `json:"text"`
				IDs  []int32 `json:"ids"`
			}
			readJSON(t, file, &cases)
			for _, c := range cases {
				if got := ids(spans(t, tok, c.Text, everywhere)); !slices.Equal(got, c.IDs) {
					t.Errorf("%q: %v, want %v", c.Text, got, c.IDs)
				}
			}
		})
	}
}

func TestEncodeEqualsReference(t *testing.T) {
	raw, err := os.ReadFile("testdata/tokenizer_vectors.json")
	if err != nil {
		t.Fatal(err)
	}
	var v struct {
		Texts []struct {
			Text    string  `json:"text"`
			Control []int32 `json:"ids"`
			Plain   []int32 `json:"ids_special_as_text"`
		} `json:"texts"`
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		t.Fatal(err)
	}
	if len(v.Texts) < 60 {
		t.Fatalf("only %d texts", len(v.Texts))
	}
	tok := harbour(t)
	for _, c := range v.Texts {
		if got := encoded(t, tok, c.Text); !slices.Equal(got, c.Plain) {
			t.Errorf("%q as text: %v, want %v", c.Text, got, c.Plain)
		}
		if got := ids(spans(t, tok, c.Text, everywhere)); !slices.Equal(got, c.Control) {
			t.Errorf("%q with control tokens: %v, want %v", c.Text, got, c.Control)
		}
		if got := tok.Decode(c.Plain); got != c.Text {
			t.Errorf("decoded %q, want %q", got, c.Text)
		}
	}
}

// Words of every length must come out the same from both ways of merging, by ranks of pairs and by scores of tokens.
func TestLongWordsMergeLikeShortOnes(t *testing.T) {
	byPairs := harbour(t).words.(*bpe)
	scored := harbourDefinition(t)
	scored.Merges, scored.Scores = nil, make([]float32, len(scored.Tokens))
	for i := range scored.Scores {
		scored.Scores[i] = -float32(i)
	}
	byScores := build(t, scored).words.(*bpe)
	source := "timetableislandcrossinglighthouseferryferriesdepartures"
	word := strings.Repeat(source, 40)
	for _, b := range []*bpe{byPairs, byScores} {
		for n := 1; n <= 90; n++ {
			for from := 0; from+n < len(source)*2; from += 5 {
				w := word[from : from+n]
				short := b.mergeShort(b.begin(nil, w), 0, w)
				long := b.mergeLong(b.begin(nil, w), 0, w)
				if !slices.Equal(short, long) {
					t.Fatalf("%q: %v by search, %v by heap", w, short, long)
				}
				if at := byPairs.encode(nil, w); !slices.Equal(short, at) {
					t.Fatalf("%q: %v by pairs, %v by scores", w, at, short)
				}
			}
		}
	}
}

func TestControlTokensOnlyWhereTrusted(t *testing.T) {
	tok := harbour(t)
	text := "<|user|><|end|><|user|>"
	got := spans(t, tok, text, func(start, end int) bool { return start == 0 || start == 15 })
	end := encoded(t, tok, "<|end|>")
	user := tok.Control("<|user|>")
	if len(got) != 2+len(end) || got[0] != (Token{user, 0, 8}) || got[len(got)-1] != (Token{user, 15, 23}) {
		t.Errorf("%q gave %v", text, got)
	}
	if middle := ids(got[1 : len(got)-1]); !slices.Equal(middle, end) {
		t.Errorf("the middle is %v, want the plain text %v", middle, end)
	}
}

func TestDecoderNeverSplitsCharacters(t *testing.T) {
	tok := harbour(t)
	for _, text := range []string{"日本語 😀 é", "a\xffb", "\xe6\x97", "\xf0\x9f\x98\x80\xf0"} {
		d := tok.NewDecoder(false)
		var all strings.Builder
		for i := range len(text) {
			part := d.Next(tok.words.(*bpe).bytes[text[i]])
			if !utf8.ValidString(part) {
				t.Errorf("%q: part %q is not UTF-8", text, part)
			}
			all.WriteString(part)
		}
		all.WriteString(d.Flush())
		if want := strings.ToValidUTF8(text, "\uFFFD"); all.String() != want {
			t.Errorf("%q decoded as %q, want %q", text, all.String(), want)
		}
	}
}

func TestDecoderShowsControlTokensOnRequest(t *testing.T) {
	tok := harbour(t)
	user, end := tok.Control("<|user|>"), tok.Control("<|end|>")
	d := tok.NewDecoder(false, user)
	if got := d.Next(user) + d.Next(encoded(t, tok, "x")[0]) + d.Next(end); got != "<|user|>x" {
		t.Errorf("%q", got)
	}
}

func TestNewRefuses(t *testing.T) {
	for _, c := range []struct {
		name, want string
		change     func(*weights.Tokenizer)
	}{
		{"kind", `kind "abacus" are not supported`, func(d *weights.Tokenizer) { d.Model = "abacus" }},
		{"kinds", "2 tokens, but 2048 kinds", func(d *weights.Tokenizer) { d.Tokens = d.Tokens[:2] }},
		{"merge", "does not join two tokens", func(d *weights.Tokenizer) { d.Merges = []weights.Merge{{Left: "a", Right: "zzzz"}} }},
		{"begin", "there are 2048 tokens", func(d *weights.Tokenizer) { d.BOS = 2048 }},
		{"prefix", "token 2048 stands before", func(d *weights.Tokenizer) { d.Prefix = []int32{2048} }},
		{"bytes", "no token for the byte", func(d *weights.Tokenizer) { clear(d.Tokens) }},
		{"added", `added token "x" is -1`, func(d *weights.Tokenizer) { d.Added = []weights.AddedToken{{ID: -1, Text: "x"}} }},
		{"expression", `the expression "(": at byte 1: a ) is missing`, func(d *weights.Tokenizer) {
			d.Splitters = []weights.Step{{Name: "Split", Pattern: "(", Behavior: "isolated"}}
		}},
		{"step", "the normalizer Reverse is not supported", func(d *weights.Tokenizer) { d.Normalizers = []weights.Step{{Name: "Reverse"}} }},
		{"scores", "without scores", func(d *weights.Tokenizer) { d.Model = weights.Unigram }},
	} {
		d := *harbourDefinition(t)
		c.change(&d)
		if _, err := New(&d); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: error %v, want one with %q", c.name, err, c.want)
		}
	}
}

// Tokens that were added without being control tokens are text, and found in all text; they can take the space beside
// them.
func TestAddedTokens(t *testing.T) {
	d := harbourDefinition(t)
	d.Added = append(d.Added, weights.AddedToken{ID: 300, Text: "<think>"}, weights.AddedToken{ID: 301, Text: "[M]", LeftStrip: true, RightStrip: true},
		weights.AddedToken{ID: 302, Text: "Os", SingleWord: true})
	d.Merges = []weights.Merge{}
	d.Kinds[300], d.Tokens[300] = weights.UserToken, "<think>"
	tok := build(t, d)
	for text, want := range map[string][]Token{
		"a<think>b":   {{Start: 0, End: 1}, {ID: 300, Start: 1, End: 8}, {Start: 8, End: 9}},
		"a  [M] \n b": {{Start: 0, End: 1}, {ID: 301, Start: 1, End: 9}, {Start: 9, End: 10}},
		"Os":          {{ID: 302, Start: 0, End: 2}},
	} {
		got := spans(t, tok, text, func(int, int) bool { return false })
		for i := range got {
			if got[i].ID < 300 || got[i].ID > 302 {
				got[i].ID = 0
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%q: %v, want %v", text, got, want)
		}
	}
	if got := encoded(t, tok, "Osmer"); got[0] == 302 {
		t.Errorf("a token for single words was found within one: %v", got)
	}
	if got := tok.Decode([]int32{300}); got != "<think>" {
		t.Errorf("an added token that is text decoded as %q", got)
	}
}

// Whatever normalizing does to a text, tokens point into the text as it was.
func TestOffsetsPointIntoTheText(t *testing.T) {
	tok := fromFile(t, "testdata/reference/wordpiece/tokenizer.json")
	text := "The\tCAFÉ  e\u0301\u0000 日本"
	var words []string
	for _, token := range spans(t, tok, text, everywhere) {
		words = append(words, text[token.Start:token.End])
	}
	if got, want := strings.Join(words, ""), "TheCAFÉe\u0301\u0000日本"; got != want {
		t.Errorf("tokens stand for %q, want %q", words, want)
	}
	tok = fromFile(t, "testdata/reference/spm-llama/tokenizer.json")
	text, at := " the gate\n is", 0
	for _, token := range spans(t, tok, text, everywhere) {
		if token.Start > token.End || token.Start < at && token.Start != at {
			t.Errorf("token %v after byte %d", token, at)
		}
		at = token.End
	}
	if at != len(text) {
		t.Errorf("the last token ends at %d of %d", at, len(text))
	}
}

// A definition comes with a model's files. What it asks for is refused, or the texts that it would make endless are, and nothing is made that is
// much larger than what asks for it.
func TestHostileDefinitions(t *testing.T) {
	replace := func(n int, pattern, content string) (steps []weights.Step) {
		for range n {
			steps = append(steps, weights.Step{Name: "Replace", Literal: true, Pattern: pattern, Content: content})
		}
		return steps
	}
	split := func(pattern string) []weights.Step {
		return []weights.Step{{Name: "Split", Pattern: pattern, Behavior: "isolated"}}
	}
	for what, c := range map[string]struct {
		change    func(d *weights.Tokenizer)
		text      string
		refused   string
		expensive bool
	}{
		"a chain that doubles":             {func(d *weights.Tokenizer) { d.Normalizers = replace(60, "a", "aa") }, "aaaa", "", true},
		"a step that multiplies":           {func(d *weights.Tokenizer) { d.Normalizers = replace(1, "a", strings.Repeat("b", 1000)) }, strings.Repeat("a", 10_000), "", true},
		"ten thousand steps":               {func(d *weights.Tokenizer) { d.Normalizers = replace(10_000, "a", "a") }, "", "10000 steps", false},
		"a step that puts in much":         {func(d *weights.Tokenizer) { d.Splitters = replace(1, "a", strings.Repeat("b", 1<<20)) }, "", "puts in 1048576", false},
		"decoders that double":             {func(d *weights.Tokenizer) { d.Decoders = replace(60, "e", "ee") }, "", "too long", false},
		"a decoder that strips forever":    {func(d *weights.Tokenizer) { d.Decoders = []weights.Step{{Name: "Strip", Content: " ", Left: 1 << 30}} }, "", "Strip", false},
		"a split that goes back and forth": {func(d *weights.Tokenizer) { d.Splitters = split(`(?:(?:a|aa)+)+b`) }, strings.Repeat("a", 2000), "", true},
		"expressions that are too many": {func(d *weights.Tokenizer) {
			d.Splitters = slices.Concat(split(strings.Repeat("ab", 1<<14)), split(strings.Repeat("cd", 1<<14)), split("x"))
		}, "", "too large", false},
		"an added token without end": {func(d *weights.Tokenizer) {
			d.Added = append(d.Added, weights.AddedToken{Text: strings.Repeat("x", 1<<20)})
		}, "", "has 1048576 bytes", false},
		"nothing of the kind": {func(d *weights.Tokenizer) { d.Normalizers = []weights.Step{{Name: "NFKD"}} }, strings.Repeat("\ufdfa", 1000), "", false},
	} {
		d := harbourDefinition(t)
		c.change(d)
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		tok, err := New(d)
		if (c.refused != "") != (err != nil) || err != nil && !strings.Contains(err.Error(), c.refused) {
			t.Errorf("%s: %v", what, err)
		}
		if err == nil {
			if _, err := tok.Encode(c.text); c.expensive != errors.Is(err, ErrCostly) {
				t.Errorf("%s: %v", what, err)
			}
		}
		if runtime.ReadMemStats(&after); after.TotalAlloc-before.TotalAlloc > 64<<20 {
			t.Errorf("%s: %d bytes were allocated", what, after.TotalAlloc-before.TotalAlloc)
		}
	}
}

func FuzzEncode(f *testing.F) {
	tok := harbour(f)
	for _, s := range []string{"", "  two  spaces ", "it's 12:30\n\n\tfine", "<|end|>", "\xff\xfe", strings.Repeat("x", 100)} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var back strings.Builder
		at := 0
		for _, token := range spans(t, tok, text, func(int, int) bool { return false }) {
			if token.Start != at || token.End-token.Start != len(tok.Text(token.ID)) {
				t.Fatalf("token %v does not follow on byte %d", token, at)
			}
			at = token.End
			back.WriteString(tok.Text(token.ID))
		}
		if back.String() != text {
			t.Fatalf("%q came back as %q", text, back.String())
		}
	})
}

func BenchmarkEncode(b *testing.B) {
	tok := harbour(b)
	text := strings.Repeat("The last boat to Osmer leaves Sorrel Quay at 19:40, and the crossing takes 35 minutes.\n", 200)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		encoded(b, tok, text)
	}
}

func ExampleTokenizer_Decode() {
	c, err := gguf.Open("../../demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer c.Close()
	definition, err := c.Tokenizer()
	if err != nil {
		fmt.Println(err)
		return
	}
	tok, err := New(definition)
	if err != nil {
		fmt.Println(err)
		return
	}
	ids, err := tok.Encode("the last boat")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(len(ids), tok.Decode(ids))
	// Output: 3 the last boat
}

// encoded and spans are the tokens of a text that costs no more than it may.
func encoded(t testing.TB, tok *Tokenizer, text string) []int32 {
	t.Helper()
	return ids(spans(t, tok, text, func(int, int) bool { return false }))
}

func spans(t testing.TB, tok *Tokenizer, text string, trusted func(start, end int) bool) []Token {
	t.Helper()
	tokens, err := tok.EncodeSpans(text, trusted)
	if err != nil {
		t.Fatal(err)
	}
	return tokens
}
