package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync/atomic"

	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
)

// Encoder makes vectors of texts. It is safe for concurrent use; texts are worked on one batch after the other.
type Encoder struct {
	model   *model.Model
	tok     *tokenizer.Tokenizer
	opts    Options
	waiting atomic.Int32
	turn    chan struct{} // has room for one: who is in may use the processors
}

// batchTokens is how many tokens a batch of texts has at most, if it is not a single text.
const batchTokens = 512

// NewEncoder takes a model that makes embeddings.
func NewEncoder(m *model.Model, tok *tokenizer.Tokenizer, o Options) (*Encoder, error) {
	if !m.Embeds() {
		return nil, errors.New("the model predicts text; it makes no embeddings")
	}
	return &Encoder{model: m, tok: tok, opts: o.filled(), turn: make(chan struct{}, 1)}, nil
}

// Tokens are the tokens of a text, with the begin token in front if the model wants it.
func (e *Encoder) Tokens(text string) []int32 {
	ids := e.tok.Encode(text)
	if e.tok.AddBOS {
		ids = append([]int32{e.tok.BOS}, ids...)
	}
	return ids
}

// Encode makes a vector of length 1 of each text. A text without tokens, or with more than the context holds, is a
// *[InputError]; if too many wait already it is ErrQueueFull.
func (e *Encoder) Encode(ctx context.Context, texts [][]int32) ([][]float32, error) {
	for i, text := range texts {
		if len(text) == 0 || len(text) > e.model.ContextLength {
			return nil, &InputError{Index: i, Tokens: len(text), Context: e.model.ContextLength}
		}
		for _, id := range text {
			if id < 0 || int(id) >= e.tok.Size() {
				return nil, &InputError{Index: i, Token: id, Tokens: len(text), Context: e.model.ContextLength}
			}
		}
	}
	if e.waiting.Add(1) > int32(e.opts.Queue) {
		e.waiting.Add(-1)
		return nil, ErrQueueFull
	}
	defer e.waiting.Add(-1)
	select {
	case e.turn <- struct{}{}:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	defer func() { <-e.turn }()
	return e.encode(ctx, texts)
}

func (e *Encoder) encode(ctx context.Context, texts [][]int32) (out [][]float32, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the engine panicked: %v\n%s", p, debug.Stack())
		}
	}()
	team := tensor.NewTeam(e.opts.Threads)
	defer team.Close()
	var scratch *model.Scratch
	room := 0
	for len(texts) > 0 {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		n, tokens := 0, 0
		for n < len(texts) && (n == 0 || tokens+len(texts[n]) <= batchTokens) {
			tokens += len(texts[n])
			n++
		}
		if tokens > room {
			room = max(tokens, min(batchTokens, e.model.ContextLength))
			scratch = e.model.NewScratch(room, 0)
		}
		out = append(out, e.model.Encode(team, scratch, texts[:n])...)
		texts = texts[n:]
	}
	return out, nil
}

// InputError says which text cannot be made a vector of: it has no tokens, too many, or one that does not exist.
type InputError struct {
	Index           int
	Token           int32
	Tokens, Context int
}

func (e *InputError) Error() string {
	switch {
	case e.Tokens == 0:
		return "the text is empty"
	case e.Tokens > e.Context:
		return fmt.Sprintf("the text has %d tokens; the model's context holds %d", e.Tokens, e.Context)
	}
	return fmt.Sprintf("there is no token %d", e.Token)
}
