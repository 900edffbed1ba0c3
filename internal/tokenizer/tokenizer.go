// Package tokenizer turns text into a model's token ids and back.
//
// The one kind so far is byte-level BPE: text is split into words by a fixed expression, each word's bytes
// are the first symbols, and the pair with the lowest rank is merged until no pair has one (Sennrich et al.,
// 2016; the byte alphabet is that of GPT-2). Any byte string can be encoded and comes back unchanged.
//
// Control tokens are never recognised by accident: [Tokenizer.Encode] treats all text as plain;
// the caller says where they may be, with [Tokenizer.EncodeSpans].
package tokenizer

import (
	"errors"
	"fmt"
	"math"
	"strings"

	"kindredgate/internal/weights/gguf"
)

// Tokenizer is immutable and safe for concurrent use.
type Tokenizer struct {
	tokens   []token
	control  map[string]int32 // text of control and user-defined tokens, which BPE never produces
	starts   [256]bool        // first bytes of these
	longest  int              // bytes of the longest of these
	bytes    [256]int32       // the token of each single byte
	merges   map[pair]merge
	split    func(text string) int // length of the first word
	cache    wordCache
	BOS, EOS int32 // begin and end of sequence; -1 if the model has none
	AddBOS   bool  // whether raw text wants BOS in front
	Fill     Fill  // -1 throughout if the model has none
}

// Fill are the tokens by which a model is asked for what stands between a beginning and an end.
type Fill struct{ Before, After, Middle int32 }

// Possible reports whether the model has such tokens.
func (f Fill) Possible() bool { return f.Before >= 0 && f.After >= 0 && f.Middle >= 0 }

type token struct {
	text    string // the bytes that the token stands for
	control bool   // a control token, which is not part of the text that a reader sees
}

type pair struct{ left, right int32 }

type merge struct {
	rank   int32
	result int32
}

// Kinds of tokens in the metadata.
const (
	kindControl     = 3
	kindUserDefined = 4
)

// splitters are the pre-tokenizer expressions that files name.
var splitters = map[string]func(string) int{
	"gpt-2": splitGPT2,
}

// FromGGUF builds the tokenizer that a file's metadata describes. Every inconsistency in it is an error.
func FromGGUF(md gguf.Metadata) (*Tokenizer, error) {
	kind, err := md.String("tokenizer.ggml.model")
	if err != nil {
		return nil, err
	}
	if kind != "gpt2" {
		return nil, fmt.Errorf("tokenizer %q is not supported; gpt2 (byte-level BPE) is", kind)
	}
	pre, err := md.String("tokenizer.ggml.pre")
	if err != nil {
		return nil, err
	}
	split, ok := splitters[pre]
	if !ok {
		return nil, fmt.Errorf("pre-tokenizer %q is not supported; gpt-2 is", pre)
	}
	tokens, err := md.Strings("tokenizer.ggml.tokens")
	if err != nil {
		return nil, err
	}
	if len(tokens) > math.MaxInt32 {
		return nil, fmt.Errorf("%d tokens are too many", len(tokens))
	}
	kinds, err := md.Int32s("tokenizer.ggml.token_type")
	if missing := (*gguf.MissingError)(nil); errors.As(err, &missing) {
		kinds = make([]int32, len(tokens))
	} else if err != nil {
		return nil, err
	}
	if len(kinds) != len(tokens) {
		return nil, fmt.Errorf("%d tokens but %d token types", len(tokens), len(kinds))
	}
	merges, err := md.Strings("tokenizer.ggml.merges")
	if err != nil {
		return nil, err
	}

	t := &Tokenizer{control: map[string]int32{}, split: split, BOS: -1, EOS: -1, Fill: Fill{-1, -1, -1}}
	t.cache.words = map[string][]Token{}
	if err := t.addTokens(tokens, kinds); err != nil {
		return nil, err
	}
	if err := t.addMerges(tokens, merges); err != nil {
		return nil, err
	}
	for key, id := range map[string]*int32{
		"tokenizer.ggml.bos_token_id": &t.BOS, "tokenizer.ggml.eos_token_id": &t.EOS,
		"tokenizer.ggml.fim_pre_token_id": &t.Fill.Before, "tokenizer.ggml.fim_suf_token_id": &t.Fill.After, "tokenizer.ggml.fim_mid_token_id": &t.Fill.Middle,
	} {
		n, err := md.Int(key)
		if missing := (*gguf.MissingError)(nil); errors.As(err, &missing) {
			continue
		} else if err != nil {
			return nil, err
		}
		if n < 0 || n >= len(tokens) {
			return nil, fmt.Errorf("metadata %s is %d; there are %d tokens", key, n, len(tokens))
		}
		*id = int32(n)
	}
	if add, err := md.Bool("tokenizer.ggml.add_bos_token"); err == nil {
		t.AddBOS = add && t.BOS >= 0
	}
	return t, nil
}

func (t *Tokenizer) addTokens(tokens []string, kinds []int32) error {
	for i := range t.bytes {
		t.bytes[i] = -1
	}
	t.tokens = make([]token, len(tokens))
	for i, s := range tokens {
		if kinds[i] == kindControl || kinds[i] == kindUserDefined {
			t.tokens[i] = token{text: s, control: kinds[i] == kindControl}
			if s != "" {
				t.control[s] = int32(i)
				t.starts[s[0]] = true
				t.longest = max(t.longest, len(s))
			}
			continue
		}
		raw, ok := fromByteAlphabet(s)
		if !ok {
			return fmt.Errorf("token %d, %q, is not written in the byte alphabet", i, s)
		}
		t.tokens[i] = token{text: raw}
		if len(raw) == 1 {
			t.bytes[raw[0]] = int32(i)
		}
	}
	for b, id := range t.bytes {
		if id < 0 {
			return fmt.Errorf("there is no token for the byte %#02x, so not every text could be encoded", b)
		}
	}
	return nil
}

func (t *Tokenizer) addMerges(tokens, merges []string) error {
	ids := make(map[string]int32, len(tokens))
	for i, s := range tokens {
		if !t.tokens[i].control {
			ids[s] = int32(i)
		}
	}
	t.merges = make(map[pair]merge, len(merges))
	for rank, m := range merges {
		left, right, ok := strings.Cut(m, " ")
		l, okL := ids[left]
		r, okR := ids[right]
		result, okM := ids[left+right]
		if !ok || !okL || !okR || !okM {
			return fmt.Errorf("merge %d, %q, does not join two tokens into a third", rank, m)
		}
		if _, seen := t.merges[pair{l, r}]; !seen {
			t.merges[pair{l, r}] = merge{rank: int32(rank), result: result}
		}
	}
	return nil
}

// Size is the number of tokens.
func (t *Tokenizer) Size() int { return len(t.tokens) }

// Text is the bytes that a token stands for; for a control token its written form. It is empty for an id
// that does not exist.
func (t *Tokenizer) Text(id int32) string {
	if id < 0 || int(id) >= len(t.tokens) {
		return ""
	}
	return t.tokens[id].text
}

// IsControl reports whether a token is a control token, which a reader of the text does not see.
func (t *Tokenizer) IsControl(id int32) bool {
	return id >= 0 && int(id) < len(t.tokens) && t.tokens[id].control
}

// Token is a token with the bytes of the text, from Start to before End, that it came from.
type Token struct {
	ID         int32
	Start, End int
}

// Encode turns text into tokens. What looks like a control token is text like any other.
func (t *Tokenizer) Encode(text string) []int32 {
	return ids(t.encode(make([]Token, 0, len(text)/4+8), text, 0))
}

func ids(tokens []Token) []int32 {
	list := make([]int32, len(tokens))
	for i, tok := range tokens {
		list[i] = tok.ID
	}
	return list
}

// EncodeSpans recognises a control token written at text[start:end] only where trusted(start, end) is true.
// The text between control tokens is encoded as a whole.
func (t *Tokenizer) EncodeSpans(text string, trusted func(start, end int) bool) []Token {
	out := make([]Token, 0, len(text)/4+8)
	plain := 0 // where the text that is not yet encoded begins
	for i := 0; i < len(text); {
		if !t.starts[text[i]] {
			i++
			continue
		}
		id, n := t.controlAt(text[i:], func(n int) bool { return trusted(i, i+n) })
		if n == 0 {
			i++
			continue
		}
		out = t.encode(out, text[plain:i], plain)
		out = append(out, Token{ID: id, Start: i, End: i + n})
		i += n
		plain = i
	}
	return t.encode(out, text[plain:], plain)
}

// controlAt finds the longest control token that s begins with and that may be there.
func (t *Tokenizer) controlAt(s string, allowed func(n int) bool) (id int32, n int) {
	for n := min(t.longest, len(s)); n > 0; n-- {
		if id, ok := t.control[s[:n]]; ok && allowed(n) {
			return id, n
		}
	}
	return 0, 0
}

// encode appends the tokens of plain text that begins at byte offset of the whole.
func (t *Tokenizer) encode(out []Token, text string, offset int) []Token {
	for len(text) > 0 {
		n := t.split(text)
		out = t.word(out, text[:n], offset)
		text, offset = text[n:], offset+n
	}
	return out
}

// Decode turns tokens into the text that a reader sees: control tokens are left out, bytes that are not
// UTF-8 become U+FFFD.
func (t *Tokenizer) Decode(ids []int32) string {
	var b strings.Builder
	d := t.NewDecoder()
	for _, id := range ids {
		b.WriteString(d.Next(id))
	}
	b.WriteString(d.Flush())
	return b.String()
}
