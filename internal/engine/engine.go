// Package engine runs a model for many sequences at once.
//
// An [Engine] owns one goroutine, the scheduler. Each step it puts one token of every sequence that is being
// continued, and a slice of the prompts that are being read, through the model together. So a long prompt
// does not stall the answers under way, and an answer costs little more when others run beside it.
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
	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
)

// Options are the sizes of an engine. Zero fields take the defaults.
type Options struct {
	Sequences int // that run at once; 8
	Queue     int // that may wait; 256
	Threads   int // processors to use; all
}

// filled takes the defaults where nothing is said.
func (o Options) filled() Options {
	if o.Sequences <= 0 {
		o.Sequences = 8
	}
	if o.Queue <= 0 {
		o.Queue = 256
	}
	return o
}

// prefillRows is how many tokens of prompts a step reads at most. More would use the caches of the processor
// better, less would make the answers under way smoother.
const prefillRows = 64

// scoredRows is how many tokens of prompts whose tokens are scored a step reads at most: each of them has logits.
const scoredRows = 8

// Engine is a running model. It is safe for concurrent use.
type Engine struct {
	model *model.Model
	tok   *tokenizer.Tokenizer
	opts  Options

	mu      sync.Mutex
	waiting []*sequence
	closed  bool
	wake    chan struct{} // has room for one: something was added, or the engine is to close
	done    chan struct{} // closed when the scheduler has ended
}

// Errors of Generate.
var (
	ErrQueueFull = errors.New("too many requests are waiting for the model")
	ErrClosed    = errors.New("the model was unloaded")
)

// ContextError says that a prompt leaves no room for an answer.
type ContextError struct{ Prompt, Context int } // tokens

func (e *ContextError) Error() string {
	return fmt.Sprintf("the prompt has %d tokens; the model's context holds %d, of which the answer needs at least one", e.Prompt, e.Context)
}

// New starts an engine for a model that predicts next tokens; one that makes embeddings is refused.
func New(m *model.Model, tok *tokenizer.Tokenizer, o Options) (*Engine, error) {
	if m.Embeds() {
		return nil, errors.New("the model makes embeddings; it cannot generate text")
	}
	if tok.Size() > m.Vocab {
		return nil, fmt.Errorf("the tokenizer has %d tokens, the model's vocabulary only %d", tok.Size(), m.Vocab)
	}
	e := &Engine{model: m, tok: tok, opts: o.filled(), wake: make(chan struct{}, 1), done: make(chan struct{})}
	go e.schedule()
	return e, nil
}

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
	Shown     []int32 // control tokens that are to be in the text, as others are not
	// Form keeps the answer to a form; nil for none. If MaxTokens leaves room for it, an answer that comes to the
	// limit is brought to a valid end.
	Form *grammar.Matcher
	// Scores asks for log-probabilities of the tokens with so many alternatives; nil for none. ScorePrompt asks for
	// those of the prompt too.
	Scores      *int
	ScorePrompt bool
	NoAnswer    bool // read the prompt, and no more
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
	// Queue and Prefill are set in the first step: how long the sequence waited for its turn, and how long
	// reading the prompt took.
	Queue, Prefill time.Duration
}

// Generate continues a prompt. The stream ends after the step that has Ended set, or with an error:
// a *[ContextError], [ErrQueueFull], [ErrClosed] or the context's cause. Leaving the loop, or cancelling ctx,
// takes the sequence out of the next step.
func (e *Engine) Generate(ctx context.Context, job Job) iter.Seq2[Step, error] {
	return func(yield func(Step, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		s, err := e.submit(ctx, job)
		if err != nil {
			yield(Step{}, err)
			return
		}
		for {
			select {
			case <-s.ready:
			case <-ctx.Done():
				yield(Step{}, context.Cause(ctx))
				return
			}
			steps, err := s.take()
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
	for _, id := range job.Prompt {
		if id < 0 || int(id) >= e.model.Vocab {
			return nil, fmt.Errorf("there is no token %d", id)
		}
	}
	room := e.model.ContextLength - len(job.Prompt)
	if room < 1 {
		return nil, &ContextError{Prompt: len(job.Prompt), Context: e.model.ContextLength}
	}
	if job.MaxTokens <= 0 || job.MaxTokens > room {
		job.MaxTokens = room
	}
	s := &sequence{
		ctx: ctx, job: job, pending: job.Prompt, submitted: time.Now(),
		sampler: newSampler(job.Sampling, job.Prompt),
		decoder: e.tok.NewDecoder(job.Shown...),
		stop:    stopper{strings: job.Stop},
		ready:   make(chan struct{}, 1),
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	switch {
	case e.closed:
		return nil, ErrClosed
	case len(e.waiting) >= e.opts.Queue:
		return nil, ErrQueueFull
	}
	e.waiting = append(e.waiting, s)
	e.nudge()
	return s, nil
}

// sequence is a job under way. The scheduler alone touches it, except for the outbox.
type sequence struct {
	ctx       context.Context
	job       Job
	cache     *model.Cache
	pending   []int32 // tokens that the model has not seen: the rest of the prompt, or the last one generated
	generated int
	sampler   *sampler
	decoder   *tokenizer.Decoder
	stop      stopper
	submitted time.Time
	started   time.Time
	bounded   bool    // the form can be brought to its end within the limit
	ending    bool    // the limit is near, so the rest is what brings the form to its end
	forced    []int32 // the tokens of that which are to come
	scores    []Score // of the prompt

	mu    sync.Mutex
	steps []Step // made, not yet taken
	err   error
	ready chan struct{} // has room for one: there is something to take
}

// put adds to the outbox. It never waits: a client that reads slowly holds up only itself, and what can pile
// up is bounded by the context.
func (s *sequence) put(step Step, err error) {
	s.mu.Lock()
	if err != nil {
		s.err = err
	} else {
		s.steps = append(s.steps, step)
	}
	s.mu.Unlock()
	select {
	case s.ready <- struct{}{}:
	default:
	}
}

func (s *sequence) take() ([]Step, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	steps := s.steps
	s.steps = nil
	return steps, s.err
}

// schedule is the engine's goroutine.
func (e *Engine) schedule() {
	defer close(e.done)
	team := tensor.NewTeam(e.opts.Threads)
	defer team.Close()
	scratch := e.model.NewScratch(prefillRows+e.opts.Sequences, scoredRows+e.opts.Sequences)
	var running []*sequence
	for {
		waiting, closed := e.admit(e.opts.Sequences - len(running))
		if closed {
			for _, s := range append(running, waiting...) {
				s.put(Step{}, ErrClosed)
			}
			return
		}
		for _, s := range waiting {
			s.started = time.Now()
			s.cache = e.model.NewCache()
			running = append(running, s)
		}
		running = e.guardedStep(team, scratch, running)
		if len(running) == 0 && e.idle() {
			<-e.wake
		}
	}
}

// idle reports whether nothing waits. What is added later leaves a nudge behind; what was added before may have left
// none, if there was one already.
func (e *Engine) idle() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.waiting) == 0 && !e.closed
}

// admit takes up to n sequences out of the queue, oldest first, and forgets those that were cancelled. If
// the engine is closed it takes all.
func (e *Engine) admit(n int) (admitted []*sequence, closed bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	rest := e.waiting[:0]
	for _, s := range e.waiting {
		switch {
		case s.ctx.Err() != nil:
		case len(admitted) < n || e.closed:
			admitted = append(admitted, s)
		default:
			rest = append(rest, s)
		}
	}
	clear(e.waiting[len(rest):])
	e.waiting = rest
	return admitted, e.closed
}

// guardedStep is step, but a panic in it ends the sequences that run and not the gate. What the caches hold then
// is unknown, so none of them goes on.
func (e *Engine) guardedStep(team *tensor.Team, scratch *model.Scratch, running []*sequence) (goingOn []*sequence) {
	all := slices.Clone(running) // step forgets sequences in place
	defer func() {
		if p := recover(); p != nil {
			for _, s := range all {
				s.put(Step{}, fmt.Errorf("the engine panicked: %v\n%s", p, debug.Stack()))
			}
			goingOn = nil
		}
	}()
	return e.step(team, scratch, running)
}

// step puts one batch through the model and returns the sequences that go on.
func (e *Engine) step(team *tensor.Team, scratch *model.Scratch, running []*sequence) []*sequence {
	live := running[:0]
	for _, s := range running {
		if s.ctx.Err() == nil {
			live = append(live, s)
		}
	}
	clear(running[len(live):])
	if len(live) == 0 {
		return live
	}

	// First a token of each sequence that is generating, then prompts, in the order of arrival.
	var rows []model.Row
	var outputs []output
	feed := func(s *sequence, n int) {
		for i, id := range s.pending[:n] {
			o := output{s: s, next: NoToken}
			if i < len(s.pending)-1 {
				o.next = s.pending[i+1]
			}
			wanted := o.next == NoToken || s.job.ScorePrompt
			rows = append(rows, model.Row{Token: id, Cache: s.cache, Logits: wanted})
			if wanted {
				outputs = append(outputs, o)
			}
		}
		s.pending = s.pending[n:]
	}
	for _, s := range live {
		if s.generated > 0 {
			feed(s, 1)
		}
	}
	budget, scored := prefillRows, scoredRows
	for _, s := range live {
		if s.generated > 0 {
			continue
		}
		n := min(budget, len(s.pending))
		if s.job.ScorePrompt {
			n = min(n, scored)
			scored -= n
		}
		feed(s, n)
		budget -= n
	}

	logits := e.model.Forward(team, scratch, rows)
	for i, o := range outputs {
		if o.next != NoToken {
			o.s.scores = append(o.s.scores, score(logits[i], o.next, *o.s.job.Scores))
			continue
		}
		e.extend(o.s, logits[i])
	}
	goingOn := live[:0]
	for _, s := range live {
		if len(s.pending) > 0 {
			goingOn = append(goingOn, s)
		}
	}
	clear(live[len(goingOn):])
	return goingOn
}

// output is a row whose logits are wanted: to draw the next token, or, within a prompt, to score the one that follows.
type output struct {
	s    *sequence
	next int32 // the token that follows in the prompt, or NoToken
}

// extend adds a generated token to a sequence; one that is to go on gets the token as pending.
func (e *Engine) extend(s *sequence, logits []float32) {
	step := Step{Token: NoToken}
	if s.generated == 0 {
		step.Queue = s.started.Sub(s.submitted)
		step.Prefill = time.Since(s.started)
		step.PromptScores = s.scores
	}
	if s.job.NoAnswer {
		step.Ended, step.Cut = true, true
		s.put(step, nil)
		return
	}
	var raw []float32
	if s.job.Scores != nil {
		raw = slices.Clone(logits) // drawing changes them
	}
	id, cut := e.draw(s, logits)
	step.Token = id
	var text string
	var stopped bool
	if id != NoToken {
		s.generated++
		text, stopped = s.stop.add(s.decoder.Next(id))
		if raw != nil {
			one := score(raw, id, *s.job.Scores)
			step.Score = &one
		}
	}
	last := e.ends(s, id)
	switch {
	case stopped:
		step.Ended = true
	case last || s.generated == s.job.MaxTokens || e.complete(s):
		step.Ended = true
		step.Cut = cut || !last && !e.complete(s)
		rest, hit := s.stop.add(s.decoder.Flush())
		text += rest
		if hit {
			step.Cut = false
		} else {
			text += s.stop.flush()
		}
	default:
		s.pending = []int32{id}
	}
	step.Text = text
	s.put(step, nil)
}

// ends reports whether the answer ends with a token, or without one.
func (e *Engine) ends(s *sequence, id int32) bool {
	return id == NoToken || id == e.tok.EOS || slices.Contains(s.job.Ends, id)
}

// complete reports whether the answer has a form to which nothing can be added.
func (e *Engine) complete(s *sequence) bool {
	return s.job.Form != nil && s.job.Form.Done() && !slices.ContainsFunc(s.job.Form.Allowed(), func(w uint64) bool { return w != 0 })
}

// draw chooses the next token of a sequence. With a form, that is one that the form allows, and from which its end can
// still be reached within the limit; once there is no other way, the tokens of the shortest end are taken one by one.
// cut says that the limit made the choice; NoToken, that the answer ends here.
func (e *Engine) draw(s *sequence, logits []float32) (id int32, cut bool) {
	form := s.job.Form
	if form == nil {
		return s.sampler.next(logits, nil), false
	}
	if s.ending {
		return e.force(s)
	}
	allowed := form.Allowed()
	for _, id := range append([]int32{e.tok.EOS}, s.job.Ends...) {
		if id < 0 {
			continue
		}
		allowed[id/64] &^= 1 << (id % 64) // it ends the answer, even where it is text too
		if form.Done() {
			allowed[id/64] |= 1 << (id % 64)
		}
	}
	id = s.sampler.next(logits, allowed)
	if id == NoToken || e.ends(s, id) {
		return id, false
	}
	left := s.job.MaxTokens - s.generated - 1
	if s.generated == 0 {
		s.bounded = form.Needs() <= left || len(e.encode(form.Ending())) <= left+1
	}
	if after := form.After(id); s.bounded && after.Needs() > left && len(e.encode(after.Ending())) > left {
		s.ending, s.forced = true, e.encode(form.Ending())
		return e.force(s)
	}
	if err := form.Accept(id); err != nil {
		panic(err) // the mask allowed it
	}
	return id, false
}

// force takes the next token of the shortest end.
func (e *Engine) force(s *sequence) (id int32, cut bool) {
	if len(s.forced) == 0 {
		return NoToken, true
	}
	id, s.forced = s.forced[0], s.forced[1:]
	if err := s.job.Form.Accept(id); err != nil {
		return NoToken, true // the ending has a mark that the vocabulary has no token for
	}
	return id, true
}

// encode gives the tokens of a text in which control tokens may be.
func (e *Engine) encode(text string) []int32 {
	var ids []int32
	for _, t := range e.tok.EncodeSpans(text, func(int, int) bool { return true }) {
		ids = append(ids, t.ID)
	}
	return ids
}

// RandomSeed draws a seed for a request that names none.
func RandomSeed() uint64 { return rand.Uint64() }
