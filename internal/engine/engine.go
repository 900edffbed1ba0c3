// Package engine runs a model for many sequences at once.
//
// An [Engine] owns one goroutine, the scheduler, which goes in steps of three parts. It plans: every sequence that is
// being continued gets its next token, and the prompts that are being read share what time a step has. It puts all of that
// through the model together (forward). And it chooses the tokens that follow. So a long prompt stalls neither the answers
// under way nor a short prompt beside it, and an answer costs little more when others run along.
//
// [Engine.Generate] gives the text as it is made; it holds back what might be the beginning of a stop string
// and never gives part of a character.
package engine

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"kindredgate/internal/grammar"
	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
)

// Options are the sizes of an engine. Zero fields take the defaults.
type Options struct {
	Sequences int          // that run at once; 16
	Queue     int          // that may wait; 256
	Team      *tensor.Team // who does the products; the scheduler alone
	NoDrafts  bool         // tokens are never drafted
	Picture   int          // tokens of the largest picture, of models that have to see one as a whole
	Drafter   *model.Model // that guesses tokens, a small one of the same vocabulary; nil for none
	Memory    int64        // bytes for keys and values; 1 GiB, or what Sequences whole contexts take if that is less
	Contexts  kv.Format    // how keys and values are kept; as half floats
}

// filled takes the defaults where nothing is said.
func (o Options) filled() Options {
	if o.Sequences <= 0 {
		o.Sequences = 16
	}
	if o.Queue <= 0 {
		o.Queue = 256
	}
	if o.Memory <= 0 {
		o.Memory = 1 << 30
	}
	return o
}

// contexts is what the contexts of a model may take, of so much memory, in bytes: each has a state, if the model has one, a second one to
// come back to, and a third that others may go on from.
func (o Options) contexts(m *model.Model, memory int64) int64 {
	shape := m.KVShape()
	states := 2 * 4 * int64(shape.State)
	least := kv.Bytes(shape, o.Contexts, 1) + states
	return max(least, min(memory, int64(o.Sequences)*(kv.Bytes(shape, o.Contexts, m.Context)+states)))
}

// Footprint is what a running model takes beside its weights, in bytes.
type Footprint struct {
	Contexts int64 // as far as they can grow, those of the drafter included
	Working  int64 // of the steps
}

// Footprint is what an engine or an encoder of a model takes with these options.
func (o Options) Footprint(m *model.Model) (f Footprint) {
	o = o.filled()
	if m.Embeds() {
		f.Contexts = encoderPool(m)
		f.Working = m.ScratchBytes(max(batchTokens, m.Context), 0)
		return f
	}
	f.Contexts = o.contexts(m, o.Memory)
	rows, outputs := stepRows(m, o)
	f.Working = m.ScratchBytes(rows, outputs)
	if d := o.Drafter; d != nil && !o.NoDrafts {
		f.Contexts += o.contexts(d, o.Memory/4)
		f.Working += d.ScratchBytes(guessRows+o.Sequences, o.Sequences)
	}
	return f
}

// Network is what the tokens of a step go through. It appends them to their sequences, and gives the logits of those that want
// them, in order, which are valid until the next step.
type Network interface {
	Forward(tokens []model.Token) [][]float32
}

// processor is a network that the processor computes.
type processor struct {
	model   *model.Model
	team    *tensor.Team
	scratch *model.Scratch
}

func (p *processor) Forward(tokens []model.Token) [][]float32 {
	return p.model.Forward(p.team, p.scratch, tokens)
}

// Engine is a running model. It is safe for concurrent use.
type Engine struct {
	model    *model.Model
	network  Network
	tok      *tokenizer.Tokenizer
	opts     Options
	pool     *kv.Pool
	room     int      // tokens of the longest context that the pool can hold
	drafter  *drafter // nil if there is none
	pictures numbers

	mu      sync.Mutex
	waiting []*sequence
	closed  bool
	wake    chan struct{} // has room for one: something was added, a mask is there, or the engine is to close
	done    chan struct{} // closed when the scheduler has ended

	stepping
}

// Errors of Generate.
var (
	ErrQueueFull  = errors.New("too many requests are waiting for the model")
	ErrClosed     = errors.New("the model was unloaded")
	ErrNotNumbers = errors.New("what the model computes is not numbers; its weights are damaged, or its numbers are too large for it")
)

// PanicError is the error of sequences that were under way when something in the engine panicked.
type PanicError struct {
	Value any
	Stack []byte
}

func (e *PanicError) Error() string {
	return fmt.Sprintf("the engine panicked: %v\n%s", e.Value, e.Stack)
}

// asError makes an error of a recovered panic. A weights file that went away is one of its own.
func asError(p any) error {
	e := &PanicError{p, debug.Stack()}
	if of, ok := p.(*tensor.Panic); ok {
		e.Value, e.Stack = of.Value, of.Stack
	}
	if fault, ok := weights.AsFault(e.Value); ok {
		return fault
	}
	return e
}

// ContextError says that a prompt leaves no room for an answer.
type ContextError struct{ Prompt, Context int } // tokens

func (e *ContextError) Error() string {
	return fmt.Sprintf("this model's maximum context length is %[2]d tokens, and the prompt has %[1]d; the answer needs at least one", e.Prompt, e.Context)
}

// New starts an engine for a model that predicts next tokens; one that makes embeddings is refused.
func New(m *model.Model, tok *tokenizer.Tokenizer, o Options) (*Engine, error) {
	e, err := prepare(m, tok, o)
	if err == nil {
		go e.schedule()
	}
	return e, err
}

func prepare(m *model.Model, tok *tokenizer.Tokenizer, o Options) (*Engine, error) {
	if m.Embeds() {
		return nil, errors.New("the model makes embeddings; it cannot generate text")
	}
	if tok.Size() > m.Vocab {
		return nil, fmt.Errorf("the tokenizer has %d tokens, the model's vocabulary only %d", tok.Size(), m.Vocab)
	}
	e := &Engine{model: m, tok: tok, opts: o.filled(), wake: make(chan struct{}, 1), done: make(chan struct{})}
	e.pool = kv.NewPool(m.KVShape(), e.opts.Contexts, e.opts.contexts(m, e.opts.Memory))
	e.room = min(m.Context, e.pool.Room())
	if o.Drafter != nil && !o.NoDrafts {
		e.drafter = newDrafter(o.Drafter, e.opts)
	}
	e.stepping.begin(e)
	return e, nil
}

// Pool is the memory of the engine's contexts.
func (e *Engine) Pool() *kv.Pool { return e.pool }

// Close ends the sequences that run with ErrClosed and waits for the scheduler to end.
func (e *Engine) Close() {
	e.mu.Lock()
	e.closed = true
	e.mu.Unlock()
	e.nudge()
	<-e.done
}

// nudge makes the scheduler look again.
func (e *Engine) nudge() {
	select {
	case e.wake <- struct{}{}:
	default:
	}
}

// Job is a prompt to continue.
type Job struct {
	Prompt    []int32
	MaxTokens int // of the answer; 0 means as many as the context holds
	Stop      []string
	Sampling  Sampling
	Ends      []int32 // tokens that end the answer as the end of the sequence does
	Open      bool    // MaxTokens is as much as there is room for, and nothing that anybody wants
	NeverEnds bool    // no token ends the answer; it comes to MaxTokens
	Shown     []int32 // control tokens that are to be in the text, as others are not
	Whole     bool    // the answer is a text of its own, rather than the continuation of the prompt's
	// Pictures are what stands in the prompt in the place of text, in order; the tokens there are their numbers. Saved is by how many positions all of
	// them are shorter than their tokens.
	Pictures []model.Piece
	Saved    int
	// Form keeps the answer to a form; nil for none. If MaxTokens leaves room for it, an answer that comes to the
	// limit is brought to a valid end.
	Form *grammar.Matcher
	// Scores asks for log-probabilities of the tokens with so many alternatives; nil for none. ScorePrompt asks for
	// those of the prompt too.
	Scores      *int
	ScorePrompt bool
	ScoreFrom   int  // the first token of the prompt that ScorePrompt is for; those before it need not be read if they are known
	NoAnswer    bool // read the prompt, and no more
	// Owner is whose job it is: places are given to the jobs of each by turns.
	Owner string
	// Share is how many of the places, and of the queue, the owner may have, in percent; 0 for three quarters.
	Share int
	// Waiting is told the place in the queue whenever it changes, 1 being the first, and 0 when the job has its turn. It may
	// be nil.
	Waiting func(place int)
	// Reading is told how much of the prompt is read, as it goes on.
	Reading func(tokens int)
}

// Score is a token with its log-probability by the model, before anything else had a say.
type Score struct {
	Token   int32
	LogProb float64
	Top     []Score // the most likely tokens, most likely first
}

// NoToken is in a step that adds no token.
const NoToken int32 = -1

// Step is what one generated token adds.
type Step struct {
	Token int32  // NoToken if the answer ended without one
	Text  string // often nothing, when characters or stop strings straddle tokens
	Score *Score // of the token, if it was asked for
	// PromptScores are in the first step, if they were asked for: of the prompt's tokens but the first.
	PromptScores []Score
	// Ended is set in the last step.
	Ended bool
	// Cut is set in the last step if the limit of tokens ended it, not the model or a stop string.
	Cut bool
	// Drafted and Accepted are set in the last step: how many tokens were put through the network before it was known
	// that they follow, and how many of these did.
	Drafted, Accepted int
	// Queue and Prefill are set in the first step: how long the sequence waited for its turn, and how long
	// reading the prompt took. Cached is how many of its tokens did not have to be read.
	Queue, Prefill time.Duration
	Place          int // in the queue, at the beginning; 0 if it did not wait
	Cached         int
}

// Generate continues a prompt. The stream ends after the step that has Ended set, or with an error:
// a *[ContextError], a *[kv.FullError], [ErrQueueFull], [ErrClosed], [ErrNotNumbers], a *[PanicError] or the context's
// cause. Leaving the loop, or cancelling ctx, takes the sequence out of the next step.
func (e *Engine) Generate(ctx context.Context, job Job) iter.Seq2[Step, error] {
	return func(yield func(Step, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		s, err := e.submit(ctx, job)
		if err != nil {
			yield(Step{}, err)
			return
		}
		var steps []Step
		place, read := 0, 0
		for {
			select {
			case <-s.ready:
			case <-ctx.Done():
				yield(Step{}, context.Cause(ctx))
				return
			}
			if now := int(s.place.Load()); now != place {
				if place = now; job.Waiting != nil {
					job.Waiting(place)
				}
			}
			if now := int(s.read.Load()); now != read {
				if read = now; job.Reading != nil {
					job.Reading(read)
				}
			}
			if steps, err = s.take(steps); err != nil && len(steps) == 0 {
				yield(Step{}, err)
				return
			}
			for _, step := range steps {
				if !yield(step, nil) || step.Ended {
					return
				}
			}
			if err != nil {
				yield(Step{}, err)
				return
			}
		}
	}
}

func (e *Engine) submit(ctx context.Context, job Job) (*sequence, error) {
	if len(job.Prompt) == 0 {
		return nil, errors.New("the prompt is empty")
	}
	if err := e.possible(&job); err != nil {
		return nil, err
	}
	if len(job.Prompt) >= e.model.Context {
		return nil, &ContextError{Prompt: len(job.Prompt), Context: e.model.Context}
	}
	room := e.room - len(job.Prompt)
	if room < 1 {
		return nil, &kv.FullError{Tokens: len(job.Prompt) + 1, Needs: e.pool.Bytes(len(job.Prompt) + 1), Budget: int64(e.pool.Use().Limit) * e.pool.PageBytes()}
	}
	job.Open = job.Open || job.MaxTokens <= 0
	if job.MaxTokens <= 0 || job.MaxTokens > room {
		job.MaxTokens = room
	}
	s := newSequence(ctx, e, job)
	e.mu.Lock()
	defer e.mu.Unlock()
	switch {
	case e.closed:
		return nil, ErrClosed
	case len(e.waiting) >= e.opts.Queue, job.Owner != "" && count(e.waiting, job.Owner) >= share(e.opts.Queue, job.Share):
		return nil, ErrQueueFull
	}
	e.waiting = append(e.waiting, s)
	e.nudge()
	return s, nil
}

// possible refuses prompts with tokens that there are not, and pictures that do not fit.
func (e *Engine) possible(job *Job) error {
	at := 0
	for _, p := range job.Pictures {
		if p.At < at || p.N < 1 || p.At+p.N > len(job.Prompt) || p.Rows == nil || p.Rows.Width != e.model.Dim || (p.First+p.N)*p.Rows.Width > len(p.Rows.Main) || p.First < 0 ||
			len(p.Rows.Deep) != e.model.Deep || e.model.Whole && p.N > e.opts.Picture {
			return errors.New("a picture does not fit into the prompt or the model")
		}
		at = p.At + p.N
	}
	if len(job.Pictures) > 0 && job.ScorePrompt && job.ScoreFrom <= at {
		return errors.New("tokens of pictures have no scores")
	}
	next := 0
	for i, id := range job.Prompt {
		for next < len(job.Pictures) && i >= job.Pictures[next].At+job.Pictures[next].N {
			next++
		}
		if seen := next < len(job.Pictures) && i >= job.Pictures[next].At; int(id) >= e.model.Vocab || id < 0 != seen {
			return fmt.Errorf("there is no token %d", id)
		}
	}
	return nil
}

// schedule is the engine's goroutine.
func (e *Engine) schedule() {
	defer close(e.done)
	debug.SetPanicOnFault(true) // a weights file that is cut short is a panic, which guarded recovers
	for {
		if e.admit() {
			return
		}
		if !e.guarded() && e.idle() {
			e.rest()
		}
	}
}

// restTime is for how long there must be nothing to do before memory that is not used goes back to the system.
const restTime = 2 * time.Second

// rest waits until there is something to do.
func (e *Engine) rest() {
	t := time.NewTimer(restTime)
	defer t.Stop()
	select {
	case <-e.wake:
		return
	case <-t.C:
	}
	e.pool.Trim()
	if e.drafter != nil {
		e.drafter.pool.Trim()
	}
	<-e.wake
}

// share is how many of a number of places one owner may have: some are left for others, who would wait for a whole answer otherwise.
func share(places, percent int) int {
	most := places - places/4
	if percent > 0 {
		most = min(most, max(1, places*percent/100))
	}
	return most
}

// count is how many of some sequences an owner has.
func count(list []*sequence, owner string) (n int) {
	for _, s := range list {
		if s.job.Owner == owner {
			n++
		}
	}
	return n
}

// idle reports whether there is nothing to do until something is added or a mask is there, which leaves a nudge behind.
func (e *Engine) idle() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return !e.closed && (len(e.waiting) == 0 || len(e.running) > 0)
}

// admit takes sequences out of the queue while there are places, and forgets those that were cancelled. A place goes to
// whoever has the fewest, and to the oldest of theirs, and nobody has all, so that one who asks much does not keep the others waiting. A few
// places are kept for short prompts, so that these do not wait for a place behind any number of long ones. closed says that
// the engine is to end; all have been told then.
func (e *Engine) admit() (closed bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.closed {
		for _, s := range append(e.running, e.waiting...) {
			s.end(ErrClosed)
		}
		e.running, e.waiting = nil, nil
		return true
	}
	e.waiting = slices.DeleteFunc(e.waiting, func(s *sequence) bool {
		if s.ctx.Err() == nil {
			return false
		}
		s.end(nil)
		return true
	})
	for len(e.running) < e.opts.Sequences {
		i := e.next()
		if i < 0 {
			break
		}
		s := e.waiting[i]
		e.waiting = slices.Delete(e.waiting, i, i+1)
		s.admitted(e)
		s.moved(0)
		e.running = append(e.running, s)
	}
	for i, s := range e.waiting {
		if s.came == 0 {
			s.came = i + 1
		}
		s.moved(i + 1)
	}
	return false
}

// next is the waiting sequence that gets the next place; -1 if none may have it. What was started goes first, as soon as there is memory for what
// it has: others would take that from it again and again.
func (e *Engine) next() int {
	oldest := -1
	for i, s := range e.waiting {
		if !s.started.IsZero() && (oldest < 0 || s.started.Before(e.waiting[oldest].started)) {
			oldest = i
		}
	}
	if oldest >= 0 {
		if use := e.pool.Use(); len(e.running) == 0 || e.pool.Bytes(len(e.waiting[oldest].tokens)+1) <= int64(use.Limit-use.Busy)*e.pool.PageBytes() {
			return oldest
		}
		return -1
	}
	best, fewest := -1, 0
	for i, s := range e.waiting {
		if len(s.tokens) > shortPrompt && len(e.running) >= e.opts.Sequences-e.opts.Sequences/4 {
			continue
		}
		has := count(e.running, s.job.Owner)
		if s.job.Owner != "" && has >= share(e.opts.Sequences, s.job.Share) {
			continue
		}
		if best < 0 || has < fewest {
			best, fewest = i, has
		}
	}
	return best
}

// guarded is a step, but a panic in it ends the sequences that run and not the gate. What their contexts hold then is
// unknown, so none of them goes on. It reports whether there was something to do.
func (e *Engine) guarded() (busy bool) {
	defer func() {
		if p := recover(); p != nil {
			err := asError(p)
			for _, s := range e.running {
				s.end(err)
			}
			e.running, busy = e.running[:0], true
		}
	}()
	return e.step()
}

// step plans, runs the model and chooses. It reports whether there was anything to do.
func (e *Engine) step() bool {
	busy := e.choosePending()
	tokens := e.plan()
	if len(tokens) == 0 {
		return busy
	}
	begun := time.Now()
	logits := e.network.Forward(tokens)
	e.pace.note(len(tokens), time.Since(begun))
	e.choose(logits)
	for _, s := range e.running {
		if s.fed > 0 && s.kv.Len() > 0 { // one that has ended by an error has given its context back
			s.settle()
		}
	}
	if e.ahead.head != nil {
		e.predict(tokens)
	}
	for _, s := range e.running {
		if s.fed > 0 && s.kv.Len() > 0 {
			s.kv.Commit()
			if n := s.kv.Len(); n < len(s.job.Prompt) {
				s.read.Store(int32(n))
				s.signal()
			}
		}
	}
	e.leave()
	return true
}

// RandomSeed draws a seed for a request that names none.
func RandomSeed() uint64 { return rand.Uint64() }
