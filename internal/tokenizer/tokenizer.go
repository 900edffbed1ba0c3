// Package tokenizer turns text into a model's token ids and back.
//
// Text goes through four stations, of which each model's definition says what they do: tokens that were added to the
// vocabulary are taken out first; what is left is normalized, split into pieces, and each piece is made tokens of, by
// byte-level BPE (Sennrich et al., 2016), BPE over characters, unigram (Kudo, 2018) or WordPiece. Every token knows which
// bytes of the text it stands for, through all of this.
//
// Control tokens are never recognised by accident: [Tokenizer.Encode] treats them as plain text; the caller says where
// they may be, with [Tokenizer.EncodeSpans].
package tokenizer

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"kindredgate/internal/weights"
)

// Tokenizer is immutable and safe for concurrent use.
type Tokenizer struct {
	tokens      []token
	added       map[string]weights.AddedToken // by text
	starts      [256]bool                     // first bytes of these
	longest     int                           // bytes of the longest of these
	normalizers []normalizer
	splitters   []splitter
	words       encoder
	cache       wordCache
	strip       string  // what is taken off the beginning of a whole text when it is decoded
	prefix      []int32 // tokens in front of a raw text
	suffix      []int32 // and behind it
	between     []int32 // two that belong together
	BOS, EOS    int32   // begin and end of sequence; -1 if the model has none
	Fill        Fill    // -1 throughout if the model has none
}

// Fill are the tokens by which a model is asked for what stands between a beginning and an end.
type Fill struct{ Before, After, Middle int32 }

// Possible reports whether the model has such tokens.
func (f Fill) Possible() bool { return f.Before >= 0 && f.After >= 0 && f.Middle >= 0 }

type token struct {
	text    string // the bytes that the token stands for
	control bool   // a control token, which is not part of the text that a reader sees
}

// encoder makes tokens of one piece of text and appends them, with offsets from its beginning.
type encoder interface {
	encode(out []Token, piece string) []Token
}

// New builds the tokenizer that a definition describes. Every inconsistency in it is an error.
func New(d *weights.Tokenizer) (*Tokenizer, error) {
	if len(d.Kinds) != len(d.Tokens) || d.Scores != nil && len(d.Scores) != len(d.Tokens) {
		return nil, fmt.Errorf("%d tokens, but %d kinds and %d scores of tokens", len(d.Tokens), len(d.Kinds), len(d.Scores))
	}
	t := &Tokenizer{added: map[string]weights.AddedToken{}, BOS: d.BOS, EOS: d.EOS, Fill: Fill{d.FillBefore, d.FillAfter, d.FillMiddle}}
	t.cache.words = map[string][]Token{}
	for name, id := range map[string]int32{"begin": d.BOS, "end": d.EOS, "unknown": d.Unknown, "fill-in": max(d.FillBefore, d.FillAfter, d.FillMiddle)} {
		if id < -1 || int(id) >= len(d.Tokens) {
			return nil, fmt.Errorf("the %s token is %d; there are %d tokens", name, id, len(d.Tokens))
		}
	}
	for _, id := range slices.Concat(d.Prefix, d.Suffix, d.Between) {
		if id < 0 || int(id) >= len(d.Tokens) {
			return nil, fmt.Errorf("token %d stands before or after texts; there are %d tokens", id, len(d.Tokens))
		}
	}
	t.prefix, t.suffix, t.between = d.Prefix, d.Suffix, d.Between
	if t.between == nil {
		t.between = d.Suffix
		if d.Model == weights.Unigram { // as the models that score were trained
			t.between = slices.Concat(d.Suffix, d.Suffix)
		}
	}
	for _, a := range d.Added {
		if a.Text == "" {
			continue
		}
		if a.ID < 0 || int(a.ID) >= len(d.Tokens) {
			return nil, fmt.Errorf("the added token %q is %d; there are %d tokens", a.Text, a.ID, len(d.Tokens))
		}
		if len(a.Text) > maxAdded {
			return nil, fmt.Errorf("the added token %d has %d bytes; at most %d are possible", a.ID, len(a.Text), maxAdded)
		}
		t.added[a.Text] = a
		t.starts[a.Text[0]] = true
		t.longest = max(t.longest, len(a.Text))
	}
	err := checkSteps(d.Normalizers, d.Splitters, d.Decoders)
	if err != nil {
		return nil, err
	}
	c := newCompiling()
	if t.normalizers, err = c.normalizers(slices.Concat(d.Normalizers, d.Splitters)...); err != nil {
		return nil, err
	}
	if t.splitters, err = c.splitters(d.Splitters); err != nil {
		return nil, err
	}
	if t.words, err = newEncoder(d); err != nil {
		return nil, err
	}
	if b, ok := t.words.(*bpe); ok && len(t.splitters) == 0 && b.wordsEndBeforeMark {
		t.splitters = []splitter{splitBeforeMark}
	}
	return t, t.readTexts(d)
}

func newEncoder(d *weights.Tokenizer) (encoder, error) {
	switch d.Model {
	case weights.ByteLevelBPE, weights.BPE:
		return newBPE(d)
	case weights.Unigram:
		return newUnigram(d)
	case weights.WordPiece:
		return newWordPiece(d)
	}
	return nil, fmt.Errorf("tokenizers of kind %q are not supported", d.Model)
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

// AddsBOS reports whether a raw text wants the begin token in front.
func (t *Tokenizer) AddsBOS() bool { return len(t.prefix) > 0 && t.prefix[0] == t.BOS }

// Wrap puts around the tokens of a whole text what the model wants before and after it.
func (t *Tokenizer) Wrap(ids []int32) []int32 { return slices.Concat(t.prefix, ids, t.suffix) }

// WrapPair adds what the model wants around and between two texts that belong together. second is where what belongs to the second one
// begins.
func (t *Tokenizer) WrapPair(a, b []int32) (ids []int32, second int) {
	return slices.Concat(t.prefix, a, t.between, b, t.suffix), len(t.prefix) + len(a) + len(t.between)
}

// Control is the control token that is written so; -1 if there is none.
func (t *Tokenizer) Control(text string) int32 {
	if a, ok := t.added[text]; ok && a.Control {
		return a.ID
	}
	return -1
}

// Token is a token with the bytes of the text, from Start to before End, that it came from.
type Token struct {
	ID         int32
	Start, End int
}

// Encode turns text into tokens. What looks like a control token is text like any other. The only error is [ErrCostly].
func (t *Tokenizer) Encode(text string) ([]int32, error) {
	tokens, err := t.EncodeSpans(text, func(int, int) bool { return false })
	return ids(tokens), err
}

func ids(tokens []Token) []int32 {
	list := make([]int32, len(tokens))
	for i, tok := range tokens {
		list[i] = tok.ID
	}
	return list
}

// EncodeSpans recognises a control token written at text[start:end] only where trusted(start, end) is true; it is asked
// with start growing. Other tokens that were added to the vocabulary are text and recognised everywhere. What lies
// between is encoded as a whole. The only error is [ErrCostly].
func (t *Tokenizer) EncodeSpans(text string, trusted func(start, end int) bool) ([]Token, error) {
	w := newWork(text)
	out := make([]Token, 0, len(text)/4+8)
	plain := 0 // where the text that is not yet encoded begins
	for i := 0; i < len(text); {
		if !t.starts[text[i]] {
			i++
			continue
		}
		a, ok := t.addedAt(text, i, trusted)
		w.take(min(t.longest, len(text)-i) / 8)
		if !ok {
			i++
			continue
		}
		from, to := i, i+len(a.Text)
		if a.LeftStrip {
			from = plain + len(strings.TrimRightFunc(text[plain:i], unicode.IsSpace))
		}
		if a.RightStrip {
			to = len(text) - len(strings.TrimLeftFunc(text[to:], unicode.IsSpace))
		}
		out = t.encode(w, out, text[plain:from], plain)
		out = append(out, Token{ID: a.ID, Start: from, End: to})
		i, plain = to, to
	}
	if out = t.encode(w, out, text[plain:], plain); w.spent {
		return nil, ErrCostly
	}
	return out, nil
}

// addedAt finds the longest added token that stands at text[i:] and may be there.
func (t *Tokenizer) addedAt(text string, i int, trusted func(start, end int) bool) (weights.AddedToken, bool) {
	for n := min(t.longest, len(text)-i); n > 0; n-- {
		a, ok := t.added[text[i:i+n]]
		if !ok || a.Control && !trusted(i, i+n) {
			continue
		}
		if a.SingleWord {
			before, _ := utf8.DecodeLastRuneInString(text[:i])
			after, _ := utf8.DecodeRuneInString(text[i+n:])
			if i > 0 && isWord(before) || i+n < len(text) && isWord(after) {
				continue
			}
		}
		return a, true
	}
	return weights.AddedToken{}, false
}

// encode appends the tokens of plain text that begins at byte offset of the whole.
func (t *Tokenizer) encode(w *work, out []Token, text string, offset int) []Token {
	if text == "" || w.spent {
		return out
	}
	m := mapped{text: text, work: w}
	for _, n := range t.normalizers {
		if m = n(m, offset == 0); w.spent {
			return out
		}
	}
	e := encoding{t: t, m: m, offset: offset, out: out}
	e.split(t.splitters, 0, len(m.text))
	return e.out
}

// encoding is a stretch of plain text on its way to tokens.
type encoding struct {
	t      *Tokenizer
	m      mapped
	offset int // of the stretch within the text
	out    []Token
}

// split cuts m.text[from:to] by splitters, one after the other, and appends the tokens of the pieces.
func (e *encoding) split(by []splitter, from, to int) {
	if len(by) == 0 {
		e.word(from, to)
		return
	}
	by[0](e.m.work, e.m.text[from:to], func(a, b int) {
		switch {
		case a == b, e.m.work.spent:
		case len(by) == 1:
			e.word(from+a, from+b)
		default:
			e.split(by[1:], from+a, from+b)
		}
	})
}

// word appends the tokens of a piece.
func (e *encoding) word(from, to int) {
	first := len(e.out)
	e.out = e.t.word(e.out, e.m.text[from:to])
	for i := first; i < len(e.out); i++ {
		token := &e.out[i]
		token.Start, token.End = e.offset+e.m.original(from+token.Start), e.offset+e.m.original(from+token.End)
	}
}

// Decode turns tokens into the text that a reader sees: control tokens are left out, bytes that are not
// UTF-8 become U+FFFD.
func (t *Tokenizer) Decode(ids []int32) string {
	var b strings.Builder
	d := t.NewDecoder(true)
	for _, id := range ids {
		b.WriteString(d.Next(id))
	}
	b.WriteString(d.Flush())
	return b.String()
}
