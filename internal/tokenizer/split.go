package tokenizer

import (
	"fmt"
	"unicode"
	"unicode/utf8"

	"kindredgate/internal/weights"
)

// A splitter cuts text into the pieces that are made tokens of, each by itself. It calls give with the beginning and the
// end of each piece, in order; what it leaves out is dropped.
type splitter func(w *work, text string, give func(from, to int))

// splitters makes splitters of the steps that split; the other steps are the normalizer's.
func (c *compiling) splitters(steps []weights.Step) (list []splitter, err error) {
	for _, s := range steps {
		var one splitter
		switch s.Name {
		case "Split":
			one, err = c.splitter(s)
		case "Punctuation":
			s.Pattern, s.Literal = `[\p{P}$+<=>^`+"`"+`|~]`, false
			one, err = c.splitter(s)
		case "BertPreTokenizer":
			one = splitBert
		case "ByteLevel", "Replace", "PrefixSpace":
			continue
		default:
			err = fmt.Errorf("the pre-tokenizer %s is not supported", s.Name)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	return list, nil
}

// finder gives the next match in text at or after from; from and to are equal if there is none.
type finder func(w *work, text string, at int) (from, to int)

func (c *compiling) finder(s weights.Step) (finder, error) {
	if s.Literal {
		if s.Pattern == "" {
			return nil, fmt.Errorf("the pattern of %s is empty", s.Name)
		}
		return func(w *work, text string, at int) (int, int) {
			for i := at; i+len(s.Pattern) <= len(text); i++ {
				if text[i] == s.Pattern[0] && text[i:i+len(s.Pattern)] == s.Pattern {
					return i, i + len(s.Pattern)
				}
			}
			return len(text), len(text)
		}, nil
	}
	e, err := c.compile(s.Pattern)
	if err != nil {
		return nil, err
	}
	return func(w *work, text string, at int) (int, int) {
		for at < len(text) && !w.spent {
			if end := e.match(w, text, at); end > at {
				return at, end
			}
			if text[at] < utf8.RuneSelf {
				at++
				continue
			}
			_, size := utf8.DecodeRuneInString(text[at:])
			at += size
		}
		return len(text), len(text)
	}, nil
}

// splitter splits by the matches of a pattern.
func (c *compiling) splitter(s weights.Step) (splitter, error) {
	find, err := c.finder(s)
	if err != nil {
		return nil, err
	}
	// pieces tells of the matches and of what lies between them, in order.
	pieces := func(w *work, text string, visit func(from, to int, matched bool)) {
		for at := 0; at < len(text); {
			from, to := find(w, text, at)
			if from > at {
				visit(at, from, s.Invert)
			}
			if to > from {
				visit(from, to, !s.Invert)
			}
			at = to
		}
	}
	switch s.Behavior {
	case "isolated":
		return func(w *work, text string, give func(int, int)) {
			pieces(w, text, func(from, to int, _ bool) { give(from, to) })
		}, nil
	case "removed":
		return func(w *work, text string, give func(int, int)) {
			pieces(w, text, func(from, to int, matched bool) {
				if !matched {
					give(from, to)
				}
			})
		}, nil
	case "merged_with_previous":
		return func(w *work, text string, give func(int, int)) {
			begun := -1
			pieces(w, text, func(from, to int, matched bool) {
				switch {
				case matched && begun >= 0:
					give(begun, to)
					begun = -1
				case matched:
					give(from, to)
				default:
					begun = from
				}
			})
			if begun >= 0 {
				give(begun, len(text))
			}
		}, nil
	case "merged_with_next":
		return func(w *work, text string, give func(int, int)) {
			begun := -1
			pieces(w, text, func(from, to int, matched bool) {
				switch {
				case matched:
					if begun >= 0 {
						give(begun, from)
					}
					begun = from
				case begun >= 0:
					give(begun, to)
					begun = -1
				default:
					give(from, to)
				}
			})
			if begun >= 0 {
				give(begun, len(text))
			}
		}, nil
	case "contiguous":
		return func(w *work, text string, give func(int, int)) {
			begun, kind := 0, false
			pieces(w, text, func(from, to int, matched bool) {
				if from > begun && matched != kind {
					give(begun, from)
					begun = from
				}
				kind = matched
			})
			if begun < len(text) {
				give(begun, len(text))
			}
		}, nil
	}
	return nil, fmt.Errorf("splitting with behavior %q is not supported", s.Behavior)
}

// splitBert drops white space and isolates punctuation.
func splitBert(_ *work, text string, give func(from, to int)) {
	begun := 0
	flush := func(to int) {
		if begun < to {
			give(begun, to)
		}
	}
	for i, r := range text {
		size := utf8.RuneLen(r)
		if r == utf8.RuneError {
			_, size = utf8.DecodeRuneInString(text[i:])
		}
		switch {
		case unicode.IsSpace(r):
			flush(i)
			begun = i + size
		case isPunctuation(r):
			flush(i)
			give(i, i+size)
			begun = i + size
		}
	}
	flush(len(text))
}

// isPunctuation counts all of ASCII that is neither letter, digit, space nor control as punctuation, as BERT does.
func isPunctuation(r rune) bool {
	if r < utf8.RuneSelf {
		return r > ' ' && r < 0x7f && !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}
	return unicode.IsPunct(r)
}
