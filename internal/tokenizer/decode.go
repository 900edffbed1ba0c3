package tokenizer

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"kindredgate/internal/weights"
)

// readTexts finds the bytes that each token stands for.
func (t *Tokenizer) readTexts(d *weights.Tokenizer) error {
	t.tokens = make([]token, len(d.Tokens))
	left := freeBytes // of all texts together
	for _, s := range d.Tokens {
		left += growth * len(s)
	}
	for i, s := range d.Tokens {
		text := s
		switch d.Kinds[i] {
		case weights.ControlToken, weights.UnknownToken:
			t.tokens[i] = token{text: s, control: true}
			continue
		case weights.UserToken:
			if d.Model == weights.BPE || d.Model == weights.Unigram {
				text = strings.ReplaceAll(s, spaceMark, " ")
			}
		case weights.UnusedToken:
		default:
			for _, step := range d.Decoders {
				if step.Name == "Replace" && strings.Count(text, step.Pattern)*len(step.Content) > left {
					return fmt.Errorf("its decoders make the text of token %d too long", i)
				}
				text = decodeStep(text, step, d.Model, d.Kinds[i])
			}
		}
		if left -= len(text); left < 0 {
			return errors.New("its decoders make the texts of its tokens too long")
		}
		t.tokens[i] = token{text: text}
	}
	for _, step := range d.Decoders {
		switch step.Name {
		case "Strip":
			t.strip = strings.Repeat(step.Content, step.Left)
		case "Replace", "ByteFallback", "Fuse", "ByteLevel", "WordPiece":
		default:
			return fmt.Errorf("the decoder %s is not supported", step.Name)
		}
	}
	if d.Model == weights.WordPiece {
		t.strip = " "
	}
	return nil
}

// decodeStep is what a step makes of the text of one token.
func decodeStep(text string, step weights.Step, model weights.TokenizerModel, kind weights.TokenKind) string {
	switch step.Name {
	case "ByteLevel":
		if raw, ok := fromByteAlphabet(text); ok {
			return raw
		}
	case "Replace":
		return strings.ReplaceAll(text, step.Pattern, step.Content)
	case "ByteFallback":
		if b, ok := byteToken(text); ok && kind == weights.ByteToken {
			return string([]byte{b})
		}
	case "WordPiece":
		if rest, ok := strings.CutPrefix(text, step.Content); ok && step.Content != "" {
			return rest
		}
		return " " + text
	}
	return text
}

// Decoder turns tokens into text one at a time and never gives out part of a character.
type Decoder struct {
	t       *Tokenizer
	shown   []int32
	pending string // the beginning of a character
	strip   string // what is taken off if it comes first
}

// NewDecoder starts decoding a sequence. If it is whole, rather than the continuation of a text, the space that some
// tokenizers put in front of texts is taken off. Control tokens are left out, except those that are to be shown.
func (t *Tokenizer) NewDecoder(whole bool, shown ...int32) *Decoder {
	d := &Decoder{t: t, shown: shown}
	if whole {
		d.strip = t.strip
	}
	return d
}

// Next returns the text that is complete now that the token has come: nothing, if it ends within a
// character or is a control token. Bytes that can no longer become UTF-8 are given as U+FFFD.
func (d *Decoder) Next(id int32) string {
	if d.t.IsControl(id) {
		rest := d.Flush()
		if slices.Contains(d.shown, id) {
			rest += d.t.Text(id)
		}
		return rest
	}
	text := d.pending + d.t.Text(id)
	if d.strip != "" && text != "" {
		text = strings.TrimPrefix(text, d.strip)
		d.strip = ""
	}
	cut := len(text) - incomplete(text)
	d.pending = text[cut:]
	return strings.ToValidUTF8(text[:cut], "\uFFFD")
}

// Flush returns what is left at the end of the sequence.
func (d *Decoder) Flush() string {
	rest := d.pending
	d.pending = ""
	return strings.ToValidUTF8(rest, "\uFFFD")
}

// incomplete is the number of bytes at the end of s that begin a character which more bytes could finish.
func incomplete(s string) int {
	for n := 1; n <= min(utf8.UTFMax-1, len(s)); n++ {
		tail := s[len(s)-n:]
		if utf8.RuneStart(tail[0]) {
			if !utf8.FullRuneInString(tail) {
				return n
			}
			return 0
		}
	}
	return 0
}

// The byte alphabet gives each byte a printable character: itself where it is one, else U+0100 and up.
var byteOf = func() map[rune]byte {
	m := make(map[rune]byte, 256)
	next := rune(0x100)
	for b := range 256 {
		switch r := rune(b); {
		case '!' <= r && r <= '~', '¡' <= r && r <= '¬', '®' <= r && r <= 'ÿ':
			m[r] = byte(b)
		default:
			m[next] = byte(b)
			next++
		}
	}
	return m
}()

// fromByteAlphabet gives the bytes that s is written for.
func fromByteAlphabet(s string) (string, bool) {
	raw := make([]byte, 0, len(s))
	for _, r := range s {
		b, ok := byteOf[r]
		if !ok {
			return "", false
		}
		raw = append(raw, b)
	}
	return string(raw), true
}
