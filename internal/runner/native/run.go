package native

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/grammar"
	"kindredgate/internal/kv"
	"kindredgate/internal/prompt"
	"kindredgate/internal/reading"
	"kindredgate/internal/weights"
)

// plan is a request made ready for the engine.
type plan struct {
	job     engine.Job
	n       int // candidates
	form    *grammar.Grammar
	calls   bool           // the form has calls, and nothing else that looks like one
	style   *reading.Style // nil if the text is to be given out as it is
	single  bool           // the first tool call ends a candidate
	dropped int            // turns that were left out
	echo    *exchange.Echo
	reading func(tokens int) // is told how much of the prompt was read; nil for no one
	laid    *prompt.Prompt   // of a conversation
	looked  time.Duration    // at its pictures
}

// Run answers a request with the weights at path.
func (r *Runner) Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		l, err := r.get(ctx, path)
		if err != nil {
			yield(nil, err)
			return
		}
		defer l.release()
		p, err := l.plan(ctx, req)
		if err != nil {
			yield(nil, err)
			return
		}
		if p.laid != nil && len(p.laid.Pictures) > 0 {
			begun := time.Now()
			if err := l.see(ctx, p.laid, &p.job); err != nil {
				yield(nil, err)
				return
			}
			p.looked = time.Since(begun)
		}
		streams := make([]func(context.Context) iter.Seq2[exchange.Event, error], p.n)
		for i := range streams {
			streams[i] = func(ctx context.Context) iter.Seq2[exchange.Event, error] { return l.candidate(ctx, p, i) }
		}
		started := false
		for event, err := range exchange.Together(ctx, streams...) {
			if s, ok := event.Item.(exchange.Started); ok {
				if started {
					continue
				}
				started = true
				s.Timings.Load = l.load
				event.Item = s
			}
			if !yield(event.Item, err) || err != nil {
				return
			}
		}
	}
}

func (l *loadedModel) plan(ctx context.Context, req *exchange.Request) (*plan, error) {
	p := &plan{n: max(1, req.Candidates), single: req.Choice.Single, reading: req.Reading}
	p.job = engine.Job{MaxTokens: req.MaxTokens, Stop: req.Stop, Sampling: drawing(req.Sampling), Scores: req.Scores, Owner: req.Owner, Share: req.Share}
	if l.engine == nil {
		return nil, exchange.InvalidParam("model", "the model makes embeddings, not text; POST /v1/embeddings asks it for them")
	}
	for id := range req.Sampling.LogitBias {
		if id < 0 || int(id) >= l.tok.Size() {
			return nil, exchange.InvalidParam("logit_bias", "logit_bias has token %d; the model's tokens are 0 to %d", id, l.tok.Size()-1)
		}
	}
	if req.Raw != nil {
		if err := l.planRaw(p, req.Raw); err != nil {
			return nil, err
		}
		if err := reserve(req.Reserve, len(p.job.Prompt)); err != nil || req.Wanted == nil {
			return p, err
		}
		return p, l.planWanted(p, *req.Wanted)
	}
	laid, t, dropped, err := l.fit(ctx, req)
	if err != nil {
		return nil, err
	}
	if len(req.Tools) > 0 && !t.Abilities().Tools {
		return nil, exchange.InvalidParam("tools", "the model's template cannot show tools to the model; leave them out, or choose another model")
	}
	style := t.StyleOf(conversation(req))
	p.style, p.dropped, p.job.Whole, p.laid = &style, dropped, true, laid
	p.job.Prompt, p.job.Shown, p.job.Ends = laid.IDs(), t.MarkTokens(), l.endings(t)
	if n, limit := len(p.job.Prompt), l.contextOf(req); n >= limit {
		return nil, inWords(&engine.ContextError{Prompt: n, Context: limit})
	} else if p.job.MaxTokens <= 0 || p.job.MaxTokens > limit-n {
		p.job.Open = p.job.MaxTokens <= 0
		p.job.MaxTokens = limit - n
	}
	if err := reserve(req.Reserve, len(p.job.Prompt)); err != nil {
		return nil, err
	}
	if req.Wanted != nil {
		return p, l.planWanted(p, *req.Wanted)
	}
	p.form, err = l.form(ctx, req, t, style, p.job.Shown)
	// Without a mark, a call and an answer in a format begin alike.
	p.calls = len(req.Tools) > 0 && (req.Format.Kind == exchange.FormatText || style.Calls.Open != "")
	return p, err
}

// reserve tells whoever counts tokens that a prompt is about to be read.
func reserve(of func(int) error, tokens int) error {
	if of == nil {
		return nil
	}
	return of(tokens)
}

// planRaw takes a prompt as it is.
func (l *loadedModel) planRaw(p *plan, raw *exchange.Raw) error {
	p.job.Prompt = raw.Tokens
	for _, id := range raw.Tokens {
		if id < 0 || int(id) >= l.tok.Size() {
			return exchange.InvalidParam("prompt", "the prompt has token %d; the model's tokens are 0 to %d", id, l.tok.Size()-1)
		}
	}
	switch {
	case l.tooBulky(len(raw.Text) + len(raw.Suffix)):
		return l.bulky(len(raw.Text)+len(raw.Suffix), "prompt")
	case raw.Suffix != "":
		laid, err := prompt.Fill(l.tok, raw.Text, raw.Suffix)
		if errors.Is(err, prompt.ErrNoFill) {
			return exchange.InvalidParam("suffix", "%v; leave suffix out", err)
		} else if err != nil {
			return err
		}
		p.job.Prompt = laid.IDs()
	case raw.Tokens == nil:
		laid, err := prompt.Raw(l.tok, raw.Text)
		if err != nil {
			return err
		}
		p.job.Prompt = laid.IDs()
	}
	if len(p.job.Prompt) == 0 {
		return exchange.InvalidParam("prompt", "the prompt is empty, and the model has no begin token to start from")
	}
	if raw.Echo {
		p.echo = &exchange.Echo{Text: raw.Text}
		if raw.Tokens != nil {
			p.echo.Text = l.tok.Decode(raw.Tokens)
		}
		if first := p.job.Prompt[0]; raw.Tokens != nil || first != l.tok.BOS {
			p.echo.First = l.tok.Text(first)
		}
		p.job.ScorePrompt = p.job.Scores != nil
	}
	p.job.NoAnswer, p.job.Ends = raw.NoAnswer, l.endings(nil)
	return nil
}

// planWanted has the tokens of an answer scored, behind a prompt that is laid out, in the place of one made.
func (l *loadedModel) planWanted(p *plan, wanted string) error {
	if l.tooBulky(len(wanted)) {
		return l.bulky(len(wanted), "answer")
	}
	tokens, err := l.tok.Encode(wanted)
	if err != nil {
		return exchange.InvalidParam("answer", "%v", err)
	}
	if len(tokens) == 0 {
		return exchange.InvalidParam("answer", "the answer is empty, so there is nothing to score")
	}
	job := &p.job
	job.ScorePrompt, job.NoAnswer, job.ScoreFrom = true, true, len(job.Prompt)
	job.Prompt = append(slices.Clip(job.Prompt), tokens...)
	if job.Scores == nil {
		job.Scores = new(int)
	}
	if n := len(job.Prompt); n >= l.context {
		return inWords(&engine.ContextError{Prompt: n, Context: l.context})
	}
	p.n, p.echo = 1, &exchange.Echo{Text: wanted}
	return nil
}

// candidate runs one answer.
func (l *loadedModel) candidate(ctx context.Context, p *plan, index int) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		job := p.job
		job.Sampling.Candidate = uint64(index) // each draws for itself
		if p.form != nil {
			job.Form = p.form.Begin()
		}
		c := &candidate{index: index, model: l, shown: job.Shown}
		if p.style != nil {
			c.reader = reading.New(*p.style)
			if p.form != nil && p.calls {
				c.reader.Enforce()
			}
		}
		job.Waiting = func(place int) {
			if place == 0 {
				exchange.Report(ctx, "reading the prompt")
			} else {
				exchange.Report(ctx, fmt.Sprintf("waiting for the model: place %d in the queue", place))
			}
		}
		job.Reading = func(tokens int) {
			if p.reading != nil {
				p.reading(tokens)
			}
			exchange.Report(ctx, fmt.Sprintf("reading the prompt: %d of %d tokens", tokens, len(job.Prompt)))
		}
		started := false
		for step, err := range l.engine.Generate(ctx, job) {
			if err != nil {
				yield(nil, l.inWords(err))
				return
			}
			if !started {
				started = true
				s := exchange.Started{PromptTokens: len(job.Prompt), CachedTokens: step.Cached, Dropped: p.dropped, Timings: exchange.Timings{Queue: step.Queue, Place: step.Place, Look: p.looked, Prefill: p.looked + step.Prefill}}
				exchange.Report(ctx, "")
				if p.echo != nil {
					echo := *p.echo
					echo.Scores = l.scores(step.PromptScores)
					s.Echo = &echo
				}
				if !yield(s, nil) {
					return
				}
			}
			c.add(step)
			if p.single && c.calls > 0 && !step.Ended {
				c.finish(exchange.Called) // nobody waits for more
				step.Ended = true
			}
			for _, event := range c.events {
				if !yield(event, nil) {
					return
				}
			}
			c.events = c.events[:0]
			if step.Ended {
				return
			}
		}
	}
}

// scores puts the engine's scores into words.
func (l *loadedModel) scores(list []engine.Score) []exchange.Score {
	var out []exchange.Score
	for _, s := range list {
		out = append(out, exchange.Score{Text: l.tok.Text(s.Token), LogProb: s.LogProb, Top: l.scores(s.Top)})
	}
	return out
}

// candidate turns the steps of one answer into events.
type candidate struct {
	index  int
	model  *loadedModel
	shown  []int32
	reader *reading.Reader
	events []exchange.Event
	scores []exchange.Score
	tokens int // generated
	told   int // of these, those that events have told of
	calls  int

	drafted, accepted int
}

func (c *candidate) add(step engine.Step) {
	if step.Token != engine.NoToken {
		c.tokens++
	}
	if tok := c.model.tok; step.Score != nil && (!tok.IsControl(step.Token) || slices.Contains(c.shown, step.Token)) {
		c.scores = append(c.scores, c.model.scores([]engine.Score{*step.Score})...)
	}
	var pieces []reading.Piece
	switch {
	case c.reader != nil:
		pieces = c.reader.Add(step.Text)
		switch {
		case step.Cut:
			pieces = append(pieces, c.reader.Cut()...)
		case step.Ended:
			pieces = append(pieces, c.reader.End()...)
		}
	case step.Text != "":
		pieces = []reading.Piece{{Text: step.Text}}
	}
	for _, p := range pieces {
		tokens, scores := c.tokens-c.told, c.scores
		c.told, c.scores = c.tokens, nil
		switch {
		case p.Call != nil || p.Arguments != "" || p.CallEnds:
			e := exchange.ToolCallDelta{Candidate: c.index, Index: c.calls, Arguments: p.Arguments, Done: p.CallEnds, Tokens: tokens}
			if p.Call != nil {
				e.ID, e.Name, e.Arguments = "call_"+strings.ToLower(rand.Text()), p.Call.Name, p.Call.Arguments
			}
			c.events = append(c.events, e)
			if p.CallEnds {
				c.calls++
			}
		case p.Reasoning != "":
			c.events = append(c.events, exchange.ReasoningDelta{Candidate: c.index, Text: p.Reasoning, Tokens: tokens})
		default:
			c.events = append(c.events, exchange.TextDelta{Candidate: c.index, Text: p.Text, Tokens: tokens, Scores: scores})
		}
	}
	if step.Ended {
		c.drafted, c.accepted = step.Drafted, step.Accepted
		reason := exchange.Stopped
		switch {
		case step.Cut:
			reason = exchange.Length
		case c.calls > 0:
			reason = exchange.Called
		}
		c.finish(reason)
	}
}

func (c *candidate) finish(reason exchange.Reason) {
	malformed := 0
	if c.reader != nil {
		malformed = c.reader.Malformed()
	}
	c.events = append(c.events, exchange.Finish{Candidate: c.index, Reason: reason, Tokens: c.tokens, Malformed: malformed, Drafted: c.drafted, Accepted: c.accepted})
}

// inWords puts the engine's errors into words for a client. Those that come of prepared weights are not the model's.
func (l *loadedModel) inWords(err error) error {
	if l.faulted != nil && errors.Is(err, weights.ErrFault) && l.faulted(err) {
		return &exchange.Error{Kind: exchange.Unavailable, Code: "runner_unavailable", RetryAfter: time.Second, Err: err,
			Message: "the weights that were prepared for this processor went away while they were used; the model goes on with its own file: try again"}
	}
	return inWords(err)
}

// inWords puts the engine's errors into words for a client.
func inWords(err error) error {
	var tooLong *engine.ContextError
	var full *kv.FullError
	switch {
	case errors.As(err, &full):
		return &exchange.Error{Kind: exchange.Invalid, Code: "context_length_exceeded", Param: exchange.Conversation,
			Message: fmt.Sprintf("%v; shorten the conversation, or set aside more (models.context_memory)", full)}
	case errors.Is(err, weights.ErrFault):
		return &exchange.Error{Kind: exchange.Unavailable, Code: "runner_unavailable", Err: err,
			Message: "the model's weights file was cut short or cannot be read while it is in use; put it back whole"}
	case errors.Is(err, engine.ErrNotNumbers):
		return &exchange.Error{Kind: exchange.Internal, Code: "model_failed", Message: err.Error(), Err: err}
	case errors.Is(err, grammar.ErrCostly):
		return exchange.InvalidParam("", "%v", err)
	case errors.As(err, &tooLong):
		return &exchange.Error{Kind: exchange.Invalid, Code: "context_length_exceeded", Param: exchange.Conversation,
			Message: fmt.Sprintf("%v; shorten the conversation", tooLong)}
	case errors.Is(err, engine.ErrQueueFull):
		return &exchange.Error{Kind: exchange.Limited, Code: "queue_full", RetryAfter: 2 * time.Second,
			Message: "too many requests are waiting for the model; try again in a few seconds"}
	case errors.Is(err, engine.ErrClosed):
		return exchange.Errorf(exchange.Unavailable, "shutting_down", "the model was unloaded while it answered")
	}
	return err
}

// drawing fills in what nobody chose: the distribution as the model gives it, and a seed by chance.
func drawing(s exchange.Sampling) engine.Sampling {
	out := engine.Sampling{
		LogitBias:        s.LogitBias,
		FrequencyPenalty: s.FrequencyPenalty,
		PresencePenalty:  s.PresencePenalty,
		Temperature:      1,
		Seed:             engine.RandomSeed(),
	}
	if s.Temperature != nil {
		out.Temperature = *s.Temperature
	}
	if s.TopP != nil {
		out.TopP = *s.TopP
	}
	if s.TopK != nil {
		out.TopK = *s.TopK
	}
	if s.MinP != nil {
		out.MinP = *s.MinP
	}
	if s.RepetitionPenalty != nil {
		out.RepetitionPenalty = *s.RepetitionPenalty
	}
	if s.Seed != nil {
		out.Seed = uint64(*s.Seed)
	}
	return out
}
