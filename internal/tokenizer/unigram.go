package tokenizer

import (
	"errors"
	"math"
	"unicode/utf8"

	"kindredgate/internal/weights"
)

// unigram finds the tokens whose scores, which are log-probabilities, have the largest sum (Kudo, "Subword
// Regularization", 2018), by the Viterbi algorithm.
type unigram struct {
	vocab    map[string]int32
	scores   []float64
	longest  int // bytes of a token
	unknown  int32
	penalty  float64    // the score of a character that has no token
	bytes    [256]int32 // tokens of single bytes
	fallback bool
}

// unknownPenalty is how much less likely than any token an unknown character is.
const unknownPenalty = 10

// longestToken bounds the tokens that are looked for, and with them the time for each character.
const longestToken = 256

func newUnigram(d *weights.Tokenizer) (*unigram, error) {
	if d.Scores == nil {
		return nil, errors.New("a unigram tokenizer without scores")
	}
	u := &unigram{vocab: make(map[string]int32, len(d.Tokens)), scores: make([]float64, len(d.Tokens)), unknown: d.Unknown, fallback: d.ByteFallback}
	for i := range u.bytes {
		u.bytes[i] = -1
	}
	lowest := math.Inf(1)
	for i, s := range d.Tokens {
		u.scores[i] = float64(d.Scores[i])
		switch d.Kinds[i] {
		case weights.NormalToken, weights.UserToken:
			if _, dup := u.vocab[s]; s != "" && !dup && len(s) <= longestToken {
				u.vocab[s] = int32(i)
				u.longest = max(u.longest, len(s))
			}
			lowest = min(lowest, u.scores[i])
		case weights.ByteToken:
			if v, ok := byteToken(s); ok {
				u.bytes[v] = int32(i)
			}
		}
	}
	if u.penalty = lowest - unknownPenalty; math.IsInf(u.penalty, 0) || math.IsNaN(u.penalty) {
		return nil, errors.New("a unigram tokenizer whose scores are not numbers")
	}
	return u, nil
}

func (u *unigram) encode(out []Token, text string) []Token {
	type place struct {
		score float64
		from  int
		id    int32 // -1 for an unknown character
	}
	best := make([]place, len(text)+1)
	for i := range best {
		best[i].score = math.Inf(-1)
	}
	best[0].score = 0
	for i := 0; i < len(text); {
		_, size := utf8.DecodeRuneInString(text[i:])
		single := false
		for n := 1; n <= u.longest && i+n <= len(text); n++ {
			if i+n < len(text) && !utf8.RuneStart(text[i+n]) {
				continue
			}
			id, ok := u.vocab[text[i:i+n]]
			if !ok {
				continue
			}
			single = single || n == size
			if s := best[i].score + u.scores[id]; s > best[i+n].score {
				best[i+n] = place{s, i, id}
			}
		}
		if s := best[i].score + u.penalty; !single && s > best[i+size].score {
			best[i+size] = place{s, i, -1}
		}
		i += size
	}
	var back []Token
	for end := len(text); end > 0; end = best[end].from {
		back = append(back, Token{ID: best[end].id, Start: best[end].from, End: end})
	}
	for i := len(back) - 1; i >= 0; i-- {
		out = u.known(out, text, back[i])
	}
	return out
}

// known appends a token; an unknown character becomes its bytes' tokens, or joins the unknown ones before it.
func (u *unigram) known(out []Token, text string, t Token) []Token {
	if t.ID >= 0 {
		return append(out, t)
	}
	if u.fallback {
		bytes := make([]Token, 0, utf8.UTFMax)
		for i := t.Start; i < t.End && u.bytes[text[i]] >= 0; i++ {
			bytes = append(bytes, Token{u.bytes[text[i]], i, i + 1})
		}
		if len(bytes) == t.End-t.Start {
			return append(out, bytes...)
		}
	}
	if n := len(out); n > 0 && out[n-1].ID == u.unknown && out[n-1].End == t.Start {
		out[n-1].End = t.End
		return out
	}
	if u.unknown < 0 {
		return out
	}
	return append(out, Token{u.unknown, t.Start, t.End})
}
