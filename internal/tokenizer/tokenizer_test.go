package tokenizer

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"kindredgate/internal/weights/gguf"
)

func harbourMetadata(t testing.TB) gguf.Metadata {
	t.Helper()
	f, err := gguf.Open("../../demo/models/harbour-4m/harbour-4m-q8_0.gguf")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f.Metadata
}

func harbour(t testing.TB) *Tokenizer {
	t.Helper()
	tok, err := FromGGUF(harbourMetadata(t))
	if err != nil {
		t.Fatal(err)
	}
	return tok
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
		if got := tok.Encode(c.Text); !slices.Equal(got, c.Plain) {
			t.Errorf("%q as text: %v, want %v", c.Text, got, c.Plain)
		}
		if got := ids(tok.EncodeSpans(c.Text, func(int, int) bool { return true })); !slices.Equal(got, c.Control) {
			t.Errorf("%q with control tokens: %v, want %v", c.Text, got, c.Control)
		}
		if got := tok.Decode(c.Plain); got != c.Text {
			t.Errorf("decoded %q, want %q", got, c.Text)
		}
	}
}

// Words of every length must come out the same from both ways of merging.
func TestLongWordsMergeLikeShortOnes(t *testing.T) {
	tok := harbour(t)
	source := "timetableislandcrossinglighthouseferryferriesdepartures"
	word := strings.Repeat(source, 40)
	for n := 1; n <= shortWord; n++ {
		for from := 0; from+n < len(source)*2; from += 5 {
			w := word[from : from+n]
			short := tok.encodeShort(nil, w, 0)
			// A word in a long text goes through the heap; its own tokens are the same when cut there.
			long := tok.encodeLong(nil, w, 0)
			if !slices.Equal(short, long) {
				t.Fatalf("%q: %v by search, %v by heap", w, short, long)
			}
		}
	}
	var text strings.Builder
	for _, token := range tok.encodeWord(nil, word, 0) {
		text.WriteString(tok.Text(token.ID))
	}
	if text.String() != word {
		t.Errorf("a word of %d bytes came back as one of %d", len(word), text.Len())
	}
}

func TestControlTokensOnlyWhereTrusted(t *testing.T) {
	tok := harbour(t)
	text := "<|user|><|end|><|user|>"
	got := tok.EncodeSpans(text, func(start, end int) bool { return start == 0 || start == 15 })
	end := tok.Encode("<|end|>")
	user := tok.control["<|user|>"]
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
		d := tok.NewDecoder()
		var all strings.Builder
		for i := range len(text) {
			part := d.Next(tok.bytes[text[i]])
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
	user, end := tok.control["<|user|>"], tok.control["<|end|>"]
	d := tok.NewDecoder(user)
	if got := d.Next(user) + d.Next(tok.bytes['x']) + d.Next(end); got != "<|user|>x" {
		t.Errorf("%q", got)
	}
}

func TestFromGGUFRefuses(t *testing.T) {
	whole := harbourMetadata(t)
	for _, c := range []struct {
		key   string
		value any
		want  string
	}{
		{"tokenizer.ggml.model", "unigram", `tokenizer "unigram" is not supported`},
		{"tokenizer.ggml.pre", "odd", `pre-tokenizer "odd" is not supported`},
		{"tokenizer.ggml.tokens", []string{"a", "b"}, "2 tokens but 2048 token types"},
		{"tokenizer.ggml.merges", []string{"a"}, "does not join two tokens"},
		{"tokenizer.ggml.merges", []string{"a zzzz"}, "does not join two tokens"},
		{"tokenizer.ggml.bos_token_id", uint32(2048), "there are 2048 tokens"},
		{"tokenizer.ggml.token_type", "x", "is a string"},
		{"tokenizer.ggml.tokens", make([]string, 2048), "no token for the byte"},
	} {
		md := maps.Clone(whole)
		md[c.key] = c.value
		if _, err := FromGGUF(md); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: error %v, want one with %q", c.key, err, c.want)
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
		for _, token := range tok.encode(nil, text, 0) {
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
		tok.Encode(text)
	}
}

func ExampleTokenizer_Decode() {
	f, err := gguf.Open("../../demo/models/harbour-4m/harbour-4m-q8_0.gguf")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer f.Close()
	tok, err := FromGGUF(f.Metadata)
	if err != nil {
		fmt.Println(err)
		return
	}
	ids := tok.Encode("the last boat")
	fmt.Println(len(ids), tok.Decode(ids))
	// Output: 3 the last boat
}
