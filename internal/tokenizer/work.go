package tokenizer

import (
	"errors"
	"fmt"

	"kindredgate/internal/weights"
)

// Bounds of a definition. It comes with a model's files, and what it asks for must not cost more than such a thing is worth; no published
// tokenizer comes near them.
const (
	maxSteps   = 64      // that normalize, that split, and that decode
	maxPattern = 1 << 16 // bytes
	maxContent = 1 << 10 // bytes that a step puts in
	maxStrip   = 64      // how often a decoder takes a text off
	maxAdded   = 256     // bytes of a token that was added to the vocabulary
	maxWord    = 256     // characters of a word for WordPiece
)

// checkSteps refuses lists of steps that are longer, or have longer texts, than those of any tokenizer.
func checkSteps(lists ...[]weights.Step) error {
	for _, list := range lists {
		if len(list) > maxSteps {
			return fmt.Errorf("it has %d steps one after the other; at most %d are possible", len(list), maxSteps)
		}
		for _, s := range list {
			if len(s.Pattern) > maxPattern || len(s.Content) > maxContent || s.Left > maxStrip || s.Right > maxStrip {
				return fmt.Errorf("its step %s looks for %d bytes and puts in %d; at most %d and %d are possible", s.Name, len(s.Pattern), len(s.Content), maxPattern, maxContent)
			}
		}
	}
	return nil
}

// ErrCostly is the error for a text that a model's tokenizer would take out of proportion long for, or make out of proportion long.
var ErrCostly = errors.New("the model's tokenizer takes more steps for this text than its length justifies, or makes it too long; shorten the text, or use another model")

// work is what may still be spent on a text.
type work struct {
	steps int  // of expressions
	bytes int  // of a text that normalizing makes of it
	spent bool // one of both was not enough
}

// What a text justifies. published tokenizers take up to some 20 steps for each byte; a character that is decomposed becomes eleven times as long.
const (
	stepsPerByte, freeSteps = 256, 1 << 22
	growth, freeBytes       = 16, 4 << 10
)

func newWork(text string) *work {
	return &work{steps: freeSteps + stepsPerByte*len(text), bytes: freeBytes + growth*len(text)}
}

// take spends steps.
func (w *work) take(steps int) {
	if w.steps -= steps; w.steps < 0 {
		w.spent = true
	}
}

// fits reports whether a text may become so long.
func (w *work) fits(bytes int) bool {
	if bytes > w.bytes {
		w.spent = true
	}
	return !w.spent
}
