package tokenizer

import (
	"errors"
	"fmt"
	"unicode/utf8"

	"kindredgate/internal/weights"
)

// wordPiece takes the longest token that a word begins with, then the longest continuation, and so on (Devlin et al.,
// "BERT", 2018). A word that cannot be put together so is unknown as a whole.
type wordPiece struct {
	vocab        map[string]int32
	continuation string
	unknown      int32
	longest      int // bytes of a token
	maxWord      int // characters
}

func newWordPiece(d *weights.Tokenizer) (*wordPiece, error) {
	if d.Unknown < 0 {
		return nil, errors.New("a WordPiece tokenizer without an unknown token")
	}
	w := &wordPiece{vocab: make(map[string]int32, len(d.Tokens)), continuation: d.Continuation, unknown: d.Unknown, maxWord: d.MaxWord}
	if w.maxWord <= 0 {
		w.maxWord = 100
	}
	if w.maxWord > maxWord || len(w.continuation) > maxContent {
		return nil, fmt.Errorf("words of %d characters, continued by a mark of %d bytes, are not possible", w.maxWord, len(w.continuation))
	}
	for i, s := range d.Tokens {
		if _, dup := w.vocab[s]; d.Kinds[i] == weights.NormalToken && s != "" && !dup && len(s) <= longestToken {
			w.vocab[s] = int32(i)
			w.longest = max(w.longest, len(s))
		}
	}
	return w, nil
}

func (w *wordPiece) encode(out []Token, word string) []Token {
	first := len(out)
	if utf8.RuneCountInString(word) > w.maxWord {
		return append(out, Token{w.unknown, 0, len(word)})
	}
	for from := 0; from < len(word); {
		found := false
		for to := min(len(word), from+w.longest); to > from; to-- {
			if to < len(word) && !utf8.RuneStart(word[to]) {
				continue
			}
			piece := word[from:to]
			if from > 0 {
				piece = w.continuation + piece
			}
			if id, ok := w.vocab[piece]; ok {
				out = append(out, Token{id, from, to})
				from, found = to, true
				break
			}
		}
		if !found {
			return append(out[:first], Token{w.unknown, 0, len(word)})
		}
	}
	return out
}
