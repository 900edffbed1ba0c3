package engine

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/tokenizer"
)

// Encoder makes vectors of texts. It is safe for concurrent use; texts are worked on one batch after the other. Short texts of several
// requests go together, and what is too much for a batch goes by turns.
type Encoder struct {
	model *model.Model
	tok   *tokenizer.Tokenizer
	opts  Options
	turn  chan struct{} // has room for one: who is in may use what follows
	pool  *kv.Pool
	space *model.Scratch
	room  int // tokens that space has room for

	mu      sync.Mutex
	queue   []*encoding // what waits for its turn, in order
	waiting int
	active  sync.WaitGroup
	ending  context.Context
	end     context.CancelCauseFunc
}

// encoding is some texts of one request. Who has the turn writes what they become, and then closes done.
type encoding struct {
	texts  []model.Text
	tokens int
	done   chan struct{}
	out    [][]float32
	err    error
}

// batchTokens is how many tokens a batch of texts has at most, if it is not a single text.
const batchTokens = 512

// NewEncoder takes a model that makes embeddings.
func NewEncoder(m *model.Model, tok *tokenizer.Tokenizer, o Options) (*Encoder, error) {
	if !m.Embeds() {
		return nil, errors.New("the model predicts text; it makes no embeddings")
	}
	e := &Encoder{model: m, tok: tok, opts: o.filled(), turn: make(chan struct{}, 1)}
	e.ending, e.end = context.WithCancelCause(context.Background())
	e.pool = kv.NewPool(m.KVShape(), kv.F32, encoderPool(m))
	return e, nil
}

// encoderPool is what the contexts of an encoder take: one layer of the texts of a batch is all that is kept at a time, and each text has pages
// of its own.
func encoderPool(m *model.Model) int64 {
	return kv.PageBytes(m.KVShape(), kv.F32) * int64(max(m.Context, batchTokens)/kv.PageTokens+batchTokens)
}

// Close ends what is under way with ErrClosed, and returns when nothing is.
func (e *Encoder) Close() {
	e.end(ErrClosed)
	e.active.Wait()
}

// Tokens are the tokens of a text, with what the model wants before and after it.
func (e *Encoder) Tokens(text string) ([]int32, error) {
	ids, err := e.tok.Encode(text)
	return e.tok.Wrap(ids), err
}

// Bare are the tokens of a text that becomes the first of pairs.
func (e *Encoder) Bare(text string) ([]int32, error) { return e.tok.Encode(text) }

// Pair are the tokens of two texts that belong together. The second one is cut after most tokens, if most is not 0. If the context does not hold them it is an
// *[InputError].
func (e *Encoder) Pair(first []int32, b string, most int) (model.Text, error) {
	second, err := e.tok.Encode(b)
	if err != nil {
		return model.Text{}, err
	}
	if most > 0 {
		second = second[:min(most, len(second))]
	}
	ids, at := e.tok.WrapPair(first, second)
	if len(ids) > e.model.Context {
		return model.Text{}, &InputError{Tokens: len(ids), Context: e.model.Context}
	}
	text := model.Text{IDs: ids}
	if e.model.Types > 1 {
		text.Types = make([]int32, len(ids))
		for i := at; i < len(ids); i++ {
			text.Types[i] = 1
		}
	}
	return text, nil
}

// Scores reports whether the model scores texts, rather than make vectors of them.
func (e *Encoder) Scores() bool { return e.model.Head != model.NoHead }

// Encode makes a vector of length 1 of each text, or a score, if the model scores. A text without tokens, or with more than the context holds, is a
// *[InputError]; if too many wait already it is ErrQueueFull.
func (e *Encoder) Encode(ctx context.Context, texts []model.Text) (out [][]float32, err error) {
	for i, text := range texts {
		n := len(text.IDs)
		if n == 0 || n > e.model.Context {
			return nil, &InputError{Index: i, Tokens: n, Context: e.model.Context}
		}
		for _, id := range text.IDs {
			if id < 0 || int(id) >= e.tok.Size() {
				return nil, &InputError{Index: i, Token: id, Tokens: n, Context: e.model.Context}
			}
		}
	}
	if err := e.enter(); err != nil {
		return nil, err
	}
	defer e.exit()
	for len(texts) > 0 {
		n, tokens := 0, 0
		for n < len(texts) && (n == 0 || tokens+len(texts[n].IDs) <= batchTokens) {
			tokens += len(texts[n].IDs)
			n++
		}
		batch, err := e.batch(ctx, texts[:n], tokens)
		if err != nil {
			return nil, err
		}
		out = append(out, batch...)
		texts = texts[n:]
	}
	return out, nil
}

// enter joins those who wait for a turn.
func (e *Encoder) enter() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.ending.Err() != nil {
		return ErrClosed
	}
	if e.waiting >= e.opts.Queue {
		return ErrQueueFull
	}
	e.waiting++
	e.active.Add(1)
	return nil
}

func (e *Encoder) exit() {
	e.mu.Lock()
	e.waiting--
	idle := e.waiting == 0
	e.mu.Unlock()
	if idle {
		e.rest()
	}
	e.active.Done()
}

// rest gives memory back that only long texts need, when nobody waits.
func (e *Encoder) rest() {
	select {
	case e.turn <- struct{}{}:
		defer func() { <-e.turn }()
	default:
		return // somebody has come
	}
	e.pool.Trim()
	if e.room > batchTokens {
		e.room, e.space = 0, nil
	}
}

// batch makes the vectors of texts of so many tokens together: with those of others if it gets the turn, or others make them with theirs.
func (e *Encoder) batch(ctx context.Context, texts []model.Text, tokens int) ([][]float32, error) {
	b := &encoding{texts: texts, tokens: tokens, done: make(chan struct{})}
	e.mu.Lock()
	e.queue = append(e.queue, b)
	e.mu.Unlock()
	for {
		err := error(nil)
		select {
		case <-b.done:
			return b.out, b.err
		case <-ctx.Done():
			err = context.Cause(ctx)
		case <-e.ending.Done():
			err = ErrClosed
		case e.turn <- struct{}{}:
			switch {
			case ctx.Err() != nil:
				err = context.Cause(ctx)
			case e.ending.Err() != nil:
				err = ErrClosed
			default:
				e.work(e.next())
			}
			<-e.turn
		}
		if err != nil {
			e.leave(b)
			return nil, err
		}
	}
}

// leave takes texts out of the queue, if they are still there.
func (e *Encoder) leave(b *encoding) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if i := slices.Index(e.queue, b); i >= 0 {
		e.queue = slices.Delete(e.queue, i, i+1)
	}
}

// next takes what goes together off the queue: the first one, and those that follow as long as there is room.
func (e *Encoder) next() []*encoding {
	e.mu.Lock()
	defer e.mu.Unlock()
	n, tokens := 0, 0
	for n < len(e.queue) && (n == 0 || tokens+e.queue[n].tokens <= batchTokens) {
		tokens += e.queue[n].tokens
		n++
	}
	list := slices.Clone(e.queue[:n])
	e.queue = slices.Delete(e.queue, 0, n)
	return list
}

// work makes the vectors of some texts, and tells who waits for them. It has the turn.
func (e *Encoder) work(list []*encoding) {
	var texts []model.Text
	tokens := 0
	for _, b := range list {
		texts = append(texts, b.texts...)
		tokens += b.tokens
	}
	if len(texts) == 0 {
		return
	}
	out, err := e.encode(texts, tokens)
	for _, b := range list {
		if b.err = err; err == nil {
			b.out, out = out[:len(b.texts)], out[len(b.texts):]
			if slices.ContainsFunc(b.out, func(v []float32) bool { return !finite(v) }) {
				b.out, b.err = nil, ErrNotNumbers
			}
		}
		close(b.done)
	}
}

func (e *Encoder) encode(texts []model.Text, tokens int) (out [][]float32, err error) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if p := recover(); p != nil {
			err = asError(p)
		}
	}()
	if tokens > e.room {
		e.room = max(tokens, min(batchTokens, e.model.Context))
		e.space = e.model.NewScratch(e.room, 0)
	}
	return e.model.Encode(e.opts.Team, e.space, e.pool, texts)
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
