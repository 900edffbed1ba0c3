package engine

import (
	"slices"
	"time"
)

// chooser chooses tokens for several sequences at once; each is its own.
type chooser struct {
	e      *Engine
	logits [][]float32 // of the tokens that there are
	first  []int       // of each output: where its logits are
}

// Do chooses for some of the step's outputs.
func (c *chooser) Do(_, from, to int) {
	for i := from; i < to; i++ {
		if o := c.e.outputs[i]; o.next == NoToken && o.s.phase != ended {
			c.e.follow(o.s, c.logits[c.first[i]:c.first[i]+1+max(0, o.more)])
		}
	}
}

// choose chooses the tokens that follow, and scores those of prompts.
func (e *Engine) choose(logits [][]float32) {
	c := &e.chooser
	c.logits, c.first = c.logits[:0], c.first[:0]
	for _, l := range logits {
		// Networks have rows beyond the last token, to come to a round number: what these say is nothing that could be chosen.
		c.logits = append(c.logits, l[:e.tok.Size()])
	}
	logits = c.logits
	at := 0
	for _, o := range e.outputs {
		c.first = append(c.first, at)
		at++
		if o.next != NoToken {
			if !finite(logits[at-1]) {
				o.s.end(ErrNotNumbers)
				continue
			}
			o.s.scores = append(o.s.scores, score(logits[at-1], o.next, *o.s.job.Scores))
			continue
		}
		at += max(0, o.more)
	}
	e.opts.Team.Split(len(e.outputs), 8*e.model.Vocab, c)
	clear(c.logits)
}

// follow chooses the token after the last one, and, as long as it is the one that was drafted, the one after that.
func (e *Engine) follow(s *sequence, logits [][]float32) {
	drafted := len(logits) - 1
	for i := range logits {
		want := NoToken
		if i < drafted {
			want = s.draft[i].id // before the next draft is worked out
		}
		e.extend(s, logits[i], i, drafted)
		if s.phase == ended || s.phase == held {
			s.expect(i, false)
			return
		}
		if i < drafted && s.tokens[len(s.tokens)-1] != want {
			s.expect(i, true)
			return
		}
	}
	s.expect(drafted, false)
}

// choosePending chooses for the sequences whose masks have come since. It reports whether there were any.
func (e *Engine) choosePending() (any bool) {
	for _, s := range e.running {
		if s.phase == held && !s.masking.Load() {
			s.become(decoding)
			e.extend(s, s.logits, 0, 0)
			s.logits = s.logits[:0]
			any = true
		}
	}
	if any {
		e.leave()
	}
	return any
}

// extend adds a generated token to a sequence; one that is to go on gets the token as pending. Of the
// step's drafted tokens so many were chosen before.
func (e *Engine) extend(s *sequence, logits []float32, before, drafted int) {
	if s.job.Form != nil && !s.job.NoAnswer && s.masking.Load() { // which is never worked out for an answer that is ending
		s.logits = append(s.logits[:0], logits...)
		s.become(held)
		return
	}
	if s.job.NoAnswer && finite(logits) {
		step := s.first()
		step.Ended, step.Cut = true, true
		s.put(step)
		return
	}
	if !finite(logits) {
		s.end(ErrNotNumbers)
		return
	}
	if len(s.due) > 0 {
		e.giveDue(s)
		return
	}
	var raw []float32
	if s.job.Scores != nil {
		raw = slices.Clone(logits) // drawing changes them
	}
	id, cut := NoToken, false
	expected := before < drafted
	var err error
	if expected && s.draft[before].must {
		id = s.draft[before].id
		err = s.job.Form.Accept(id)
	} else {
		id, cut, err = e.draw(s, logits)
	}
	if err != nil {
		s.end(err)
		return
	}
	step := s.first()
	if id != NoToken && raw != nil {
		one := score(raw, id, *s.job.Scores)
		step.Score = &one
	}
	complete := s.job.Form != nil && s.job.Form.Complete()
	if e.give(s, step, id, cut, complete, before) || s.job.Form == nil || s.closing == ending {
		return
	}
	if expected && id == s.draft[before].id {
		s.allowed = s.draft[before].after
	} else {
		s.mask(e)
	}
}

// giveDue gives the tokens that a form leaves no choice about.
func (e *Engine) giveDue(s *sequence) {
	for i, id := range s.due {
		complete := i == len(s.due)-1 && s.job.Form.Complete()
		if e.give(s, s.first(), id, false, complete, 0) {
			break
		}
	}
	if s.due = s.due[:0]; s.phase != ended {
		s.become(catching)
	}
}

// first is a step with what the first one of an answer tells.
func (s *sequence) first() Step {
	step := Step{Token: NoToken}
	if s.generated == 0 {
		step.Queue = s.started.Sub(s.submitted)
		step.Prefill = time.Since(s.started)
		step.PromptScores, step.Cached, step.Place = s.scores, s.cached, s.came
	}
	return step
}

// give adds a token, or the end if it is none, to an answer. complete says that nothing can come after it. It reports
// whether the answer has ended; else the token is pending.
func (e *Engine) give(s *sequence, step Step, id int32, cut, complete bool, before int) (ended bool) {
	step.Token = id
	var stopped bool
	if id != NoToken {
		s.generated++
		step.Text, stopped = s.stop.add(s.decoder.Next(id))
	}
	last := e.ends(s, id)
	switch {
	case stopped:
		step.Ended = true
	case last || s.generated == s.job.MaxTokens || complete:
		step.Ended = true
		step.Cut = cut || !last && !complete
		rest, hit := s.stop.add(s.decoder.Flush())
		step.Text += rest
		if hit {
			step.Cut = false
		} else {
			step.Text += s.stop.flush()
		}
	default:
		s.tokens = append(s.tokens, id)
	}
	if step.Ended {
		step.Drafted, step.Accepted = s.drafted, s.accepted+before
	}
	s.put(step)
	return step.Ended
}

// finite reports whether all logits are numbers.
func finite(logits []float32) bool {
	var sum float32
	for _, l := range logits {
		sum += l - l // 0, unless l is infinite or no number
	}
	return sum == 0
}

// ends reports whether the answer ends with a token, or without one.
func (e *Engine) ends(s *sequence, id int32) bool {
	return id == NoToken || !s.job.NeverEnds && (id == e.tok.EOS || slices.Contains(s.job.Ends, id))
}

// draw chooses the next token of a sequence. With a form, that is one that the form allows, and from which its end can
// still be reached within the limit; once there is no other way, the tokens of the shortest end are taken one by one.
// cut says that the limit made the choice; NoToken, that the answer ends here.
func (e *Engine) draw(s *sequence, logits []float32) (id int32, cut bool, err error) {
	form := s.job.Form
	if form == nil {
		return s.sampler.next(logits, nil), false, nil
	}
	if s.closing == ending {
		id, cut = e.force(s)
		return id, cut, nil
	}
	if s.masked != nil {
		return NoToken, false, s.masked
	}
	allowed := s.allowed
	for i := -1; i < len(s.job.Ends); i++ {
		id := e.tok.EOS
		if i >= 0 {
			id = s.job.Ends[i]
		}
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
		return id, false, nil
	}
	left := s.job.MaxTokens - s.generated - 1
	if after := form.After(id); s.closing == bounded && after.Needs() > left && len(e.encode(after.Ending())) > left {
		s.closing, s.forced = ending, e.encode(form.Ending())
		id, cut = e.force(s)
		return id, cut, nil
	}
	return id, false, form.Accept(id)
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
	tokens, err := e.tok.EncodeSpans(text, func(int, int) bool { return true })
	if err != nil {
		return nil // as if the vocabulary had no tokens for it
	}
	var ids []int32
	for _, t := range tokens {
		ids = append(ids, t.ID)
	}
	return ids
}
