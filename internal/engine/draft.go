package engine

import (
	"slices"
	"time"
	"unicode/utf8"

	"kindredgate/internal/grammar"
)

// Speculation: tokens that are likely to follow are put through the network together with the last one that was chosen,
// which takes little longer than that one alone, since the weights are read once. Each is then chosen as if it had come by
// itself; as long as that is the token that was expected, the next one is there already (Leviathan et al., "Fast Inference
// from Transformers via Speculative Decoding", 2023, where what is drafted is certain). So answers are the same, to the
// token, whatever was drafted.
//
// Drafts come from the text so far, where its last tokens have been before ("prompt lookup": Saxena, 2023), from the form
// that an answer is kept to, where that leaves little choice, and else from a small model or the model's own prediction head, if there is one.

const (
	mostDrafted = 16 // tokens of all sequences together in a step
	longDraft   = 12 // of one sequence
	mostDue     = 48 // tokens that forms leave no choice about, of all sequences together in a step
)

// lookup finds where the last tokens of a text have been before. It is a table of the places behind every three tokens, the
// latest in the place of earlier ones.
type lookup struct {
	places []int32 // a power of two many
	known  int     // tokens that have been noted
}

func newLookup(tokens int) lookup {
	size := 256
	for size < 2*tokens && size < 1<<16 {
		size *= 2
	}
	return lookup{places: make([]int32, size)}
}

func (l *lookup) slot(a, b, c int32) *int32 {
	h := (uint32(a)*0x9e3779b1 ^ uint32(b)*0x85ebca77 ^ uint32(c)*0xc2b2ae3d) * 0x27d4eb2f
	return &l.places[int(h>>8)&(len(l.places)-1)]
}

// after is what came after the last three tokens when they were last there; nil if they were not.
func (l *lookup) after(tokens []int32) []int32 {
	n := len(tokens)
	if n < 4 {
		return nil
	}
	for i := max(l.known, 3); i < n; i++ {
		*l.slot(tokens[i-3], tokens[i-2], tokens[i-1]) = int32(i)
	}
	l.known = n
	at := int(*l.slot(tokens[n-3], tokens[n-2], tokens[n-1]))
	if at < 3 || at >= n || !slices.Equal(tokens[at-3:at], tokens[n-3:]) {
		return nil
	}
	after := tokens[at:min(n, at+longDraft)]
	for i, id := range after {
		if id < 0 { // a picture, which no model writes
			return after[:i]
		}
	}
	return after
}

// drafted is a token that is likely to follow.
type drafted struct {
	id    int32
	must  bool     // there is no choice about it
	after []uint64 // of a form: which tokens it allows after this one
}

// speculation is what a sequence knows of the tokens that may follow.
type speculation struct {
	lookup lookup
	shadow
	luck, guessLuck   luck      // with what was drafted, and with what a small model or a prediction head guessed
	draft             []drafted // of the step under way, or of the next one
	predicted         int32     // what the model's prediction head guesses, if it does: of the step under way
	drafted, accepted int
	// due are tokens that a form leaves no choice about. They are the next ones. When they have been given, the network has
	// still to read them.
	due []int32
}

// luck is about how likely a drafted token is the one that is chosen, by what became of those so far.
type luck float64

// expect notes how far a draft was right: each token that was looked at counts, the last ones most.
func (l *luck) expect(accepted int, missed bool) {
	for range accepted {
		*l += (1 - *l) / 16
	}
	if missed {
		*l -= *l / 8
	}
}

// forget lets a sequence that drafts nothing, since that did not help, try again some time.
func (l *luck) forget() { *l += (0.5 - *l) / 64 }

// expect notes how far the draft was right.
func (s *speculation) expect(accepted int, missed bool) {
	s.lucky().expect(accepted, missed)
	s.accepted += accepted
}

// lucky is how likely what is drafted now is right.
func (s *speculation) lucky() *luck {
	if len(s.guessed) > 0 {
		return &s.guessLuck
	}
	return &s.luck
}

// length is how many of the draft's tokens are worth putting into a step that has rows tokens without them: as many as make
// the most tokens a second, by how long steps take. Those that there is no choice about are not cut off from the one before
// them.
func (s *speculation) length(p *pace, rows, most int) int {
	best, rate := 0, 1/p.time(rows)
	expected, all := 1.0, 1.0
	for n := 1; n <= min(most, len(s.draft)); n++ {
		if !s.draft[n-1].must {
			all *= float64(*s.lucky())
		}
		expected += all
		if n < len(s.draft) && s.draft[n].must {
			continue
		}
		if r := expected / p.time(rows+n); r > rate {
			best, rate = n, r
		}
	}
	return best
}

// speculate gives the sequences that are being continued what is worth drafting, in a step of so many tokens without it.
func (e *Engine) speculate(rows int) {
	left := mostDrafted
	for _, s := range e.running {
		if s.job.Form != nil && s.masking.Load() {
			continue // what it drafts is being worked out
		}
		if s.share != len(s.pending()) || s.generated == 0 || s.phase == held || s.closing == ending || len(s.due) > 0 || e.opts.NoDrafts {
			s.draft = s.draft[:0]
			continue
		}
		if s.job.Form == nil {
			s.draft, s.guessed = s.draft[:0], s.guessed[:0]
			for _, id := range s.lookup.after(s.tokens) {
				s.draft = append(s.draft, drafted{id: id})
			}
		}
		if len(s.draft) == 0 && s.job.Form == nil && e.drafter != nil && len(s.job.Pictures) == 0 {
			e.drafter.guesses = append(e.drafter.guesses, s)
			continue
		}
		if len(s.draft) == 0 && s.job.Form == nil && s.predicted != NoToken {
			s.draft, s.guessed = append(s.draft, drafted{id: s.predicted}), append(s.guessed, s.predicted)
		}
		room := min(left, s.job.MaxTokens-s.generated-1)
		n := 0
		if len(s.draft) > 0 {
			if n = s.length(&e.pace, rows, room); n == 0 {
				s.lucky().forget()
			}
		}
		s.draft = s.draft[:n]
		s.share += n
		s.drafted += n
		rows += n
		left -= n
	}
	if e.drafter != nil {
		e.guess(rows, left)
	}
}

// longDue bounds the text that a form leaves no choice about, in bytes.
const longDue = 512

// must gives the tokens of the text that a form leaves no choice about, in the way in which the model's texts are written.
// An answer has them so whatever the model would choose, with drafts or without, unless it is to tell how likely each was.
func (s *sequence) must(e *Engine, form *grammar.Matcher) []int32 {
	if s.job.Scores != nil {
		return nil
	}
	text := form.Must(longDue)
	if text == "" {
		return nil
	}
	ids := e.encode(text)
	return ids[:form.Settled(text, ids)]
}

// draftForm drafts what follows by a form and by the text so far, together with the masks that go with it. It runs apart
// from the scheduler.
func (s *sequence) draftForm(e *Engine) {
	s.draft = s.draft[:0]
	if e.opts.NoDrafts {
		return
	}
	m := s.job.Form
	left := s.job.MaxTokens - s.generated - 1
	// add takes a token and what there is no choice about after it: all of it, or nothing.
	add := func(id int32) bool {
		begin, before := len(s.draft), m
		for i, id := range append([]int32{id}, s.after(e, m, id)...) {
			next, ok := m.Try(id)
			if !ok && i > 0 {
				return false // the vocabulary writes it in another way; there the draft ends
			}
			if ok && len(s.draft) < longDraft && next.Needs() < left-len(s.draft) {
				if mask, err := next.Allowed(); err == nil {
					s.draft, m = append(s.draft, drafted{id, i > 0, mask}), next
					continue
				}
			}
			s.draft, m = s.draft[:begin], before
			return false
		}
		return true
	}
	// What the text had behind the same tokens comes first, since it may have more than the frame of the form.
	for _, id := range s.lookup.after(s.tokens) {
		if n := len(s.draft); n > 0 && s.draft[n-1].must || !add(id) {
			break
		}
	}
	for {
		b, ok := m.Likely()
		if !ok || b >= utf8.RuneSelf {
			return
		}
		for _, id := range e.encode(string([]byte{b})) {
			if !add(id) {
				return
			}
		}
	}
}

// after gives the tokens that there is no choice about after a token.
func (s *sequence) after(e *Engine, m *grammar.Matcher, id int32) []int32 {
	next, ok := m.Try(id)
	if !ok {
		return nil
	}
	return s.must(e, next)
}

// awaitMasks waits for the masks that are being worked out, and what is drafted with them, as long as that is little beside
// a step: with them, the next step may give several tokens.
func (e *Engine) awaitMasks() {
	if e.opts.NoDrafts {
		return
	}
	patience := min(2*time.Millisecond, time.Duration(e.pace.time(1)*float64(time.Second))/20)
	var timer <-chan time.Time
	for _, s := range e.running {
		if s.phase == held || !s.masking.Load() {
			continue
		}
		if timer == nil {
			timer = time.After(patience)
		}
		select {
		case <-s.maskDone:
		case <-timer:
			return
		}
	}
}

// settle takes back what was put through the network for nothing.
func (s *sequence) settle() {
	n := len(s.tokens)
	if s.phase != ended && s.phase != held {
		n-- // the last one was chosen just now
	}
	s.kv.Truncate(n)
	if s.kv.Len() < n && s.phase == decoding {
		s.become(catching) // what was right of the draft has to be read again
	}
}
