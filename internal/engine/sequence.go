package engine

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/kv"
	"kindredgate/internal/tokenizer"
)

// sequence is a job under way. The scheduler alone touches it, except for the outbox, and for the form while a mask is
// worked out.
type sequence struct {
	ctx       context.Context
	job       Job
	tokens    []int32 // the prompt and what was generated; the context holds the first of these
	kv        *kv.Sequence
	variant   int // of the network's rotations, in which kv is
	share     int // tokens that the step under way is to add
	fed       int // tokens that it adds
	fedAt     int // the position of the first of them
	row       int // which of the step's tokens that is
	phase     phase
	closing   closing
	generated int
	cached    int
	came      int          // its first place in the queue; 0 if it got its turn at once
	place     atomic.Int32 // now; 0 when it runs
	read      atomic.Int32 // tokens of the prompt, that the model has seen
	sampler   *sampler
	decoder   *tokenizer.Decoder
	stop      stopper
	submitted time.Time
	started   time.Time
	forced    []int32 // what brings the form to its end, as far as it is to come
	scores    []Score // of the prompt

	speculation

	masking  atomic.Bool   // a mask is being worked out
	maskDone chan struct{} // closed when it is there
	allowed  []uint64      // the mask
	masked   error         // why there is none
	logits   []float32     // from which a token is chosen when the mask is there; none unless it is held

	mu    sync.Mutex
	steps []Step // made, not yet taken
	err   error
	ready chan struct{} // has room for one: there is something to take
}

func newSequence(ctx context.Context, e *Engine, job Job) *sequence {
	tokens := make([]int32, len(job.Prompt), len(job.Prompt)+min(job.MaxTokens, 256))
	copy(tokens, job.Prompt)
	return &sequence{
		ctx: ctx, job: job, tokens: tokens, submitted: time.Now(),
		sampler: newSampler(job.Sampling, job.Prompt),
		decoder: e.tok.NewDecoder(job.Whole, job.Shown...),
		stop:    stopper{strings: job.Stop},
		ready:   make(chan struct{}, 1),

		speculation: speculation{luck: 0.7, guessLuck: 0.7, predicted: NoToken},
	}
}

// pending are the tokens that the model has not seen: the rest of the prompt, or the last one generated.
func (s *sequence) pending() []int32 { return s.tokens[s.kv.Len():] }

// put adds to the outbox. It never waits: a client that reads slowly holds up only itself, and what can pile
// up is bounded by the context.
func (s *sequence) put(step Step) {
	s.mu.Lock()
	s.steps = append(s.steps, step)
	s.mu.Unlock()
	if step.Ended {
		s.become(ended)
	}
	s.signal()
}

// end tells the reader that nothing more comes.
func (s *sequence) end(err error) {
	s.mu.Lock()
	s.err = err
	s.mu.Unlock()
	s.become(ended)
	s.release()
	s.signal()
}

// release gives the memory of its contexts back.
func (s *sequence) release() {
	if s.kv != nil {
		s.kv.Release()
	}
	if s.shadow.kv != nil {
		s.shadow.kv.Release()
	}
}

// moved notes a place in the queue.
func (s *sequence) moved(place int) {
	if s.place.Swap(int32(place)) != int32(place) {
		s.signal()
	}
}

func (s *sequence) signal() {
	select {
	case s.ready <- struct{}{}:
	default:
	}
}

// take gives what was made, in the place of what was taken before.
func (s *sequence) take(spent []Step) ([]Step, error) {
	clear(spent)
	s.mu.Lock()
	defer s.mu.Unlock()
	steps := s.steps
	s.steps = spent[:0]
	return steps, s.err
}

// mask works out which tokens the form allows next, and drafts what may follow, apart from the scheduler, for which it may
// take too long.
func (s *sequence) mask(e *Engine) {
	s.masking.Store(true)
	done := make(chan struct{})
	s.maskDone = done
	go func() {
		defer e.nudge()
		defer close(done)
		defer s.masking.Store(false)
		defer func() {
			if p := recover(); p != nil {
				s.masked = asError(p)
			}
		}()
		s.takeDue(e)
		if s.masked != nil {
			return
		}
		if s.allowed, s.masked = s.job.Form.Allowed(); s.masked == nil {
			s.draftForm(e)
		}
	}()
}

// takeDue takes the tokens that the form leaves no choice about. If the end could not be reached any more after them within
// the limit, since they are more than the same text as a part of the shortest end, that is what follows.
func (s *sequence) takeDue(e *Engine) {
	form := s.job.Form
	if s.generated == 0 {
		if form.Needs() < s.job.MaxTokens || len(e.encode(form.Ending())) <= s.job.MaxTokens {
			s.closing = bounded
		}
	}
	due := s.must(e, form)
	after := form
	for i, id := range due {
		next, ok := after.Try(id)
		if !ok {
			due = due[:i] // the vocabulary writes it in another way
			break
		}
		after = next
	}
	if left := s.job.MaxTokens - s.generated - len(due); s.closing == bounded && len(due) > 0 && after.Needs() > left && len(e.encode(after.Ending())) > left {
		s.closing, s.forced = ending, e.encode(form.Ending())
		return
	}
	s.due = append(s.due, due...)
	for _, id := range due {
		if err := form.Accept(id); err != nil {
			s.masked = err
			return
		}
	}
}
