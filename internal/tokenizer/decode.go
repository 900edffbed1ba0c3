package tokenizer

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// Decoder turns tokens into text one at a time and never gives out part of a character.
type Decoder struct {
	t       *Tokenizer
	shown   []int32
	pending string // the beginning of a character
}

// NewDecoder starts decoding a sequence. Control tokens are left out, except those that are to be shown.
func (t *Tokenizer) NewDecoder(shown ...int32) *Decoder { return &Decoder{t: t, shown: shown} }

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
