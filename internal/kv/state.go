package kv

import (
	"container/list"
	"unsafe"

	"kindredgate/internal/system"
)

// state is what a network that carries one from token to token (a convolution, a state space, a delta net) keeps of a
// sequence, as it is after the last token. It takes the place of as many pages as it has bytes, so that all of a pool stays
// within one budget.
type state struct {
	numbers []float32
	lent    []*page // in the place of which it is
}

// snapshot is the state after the last token of a page, which goes with the page.
type snapshot struct {
	state
	of    *page
	place *list.Element // among the snapshots, the least recently used first
}

// statePages is how many pages a state takes the place of.
func (p *Pool) statePages() int {
	if p.shape.State == 0 {
		return 0
	}
	return int((4*int64(p.shape.State) + p.PageBytes() - 1) / p.PageBytes())
}

// newState makes room for a state, if there is any. What it holds is not defined. The pool is locked.
func (p *Pool) newState() (s state, ok bool) {
	for range p.statePages() {
		one := p.take()
		if one == nil {
			p.freeState(&s)
			return state{}, false
		}
		if !one.cold {
			one.cold = true
			system.Discard(one.memory)
		}
		s.lent = append(s.lent, one)
	}
	if n := len(p.states); n > 0 {
		s.numbers, p.states = p.states[n-1], p.states[:n-1]
		return s, true
	}
	b, err := system.Memory(4 * p.shape.State)
	if err == nil {
		p.slabs.list = append(p.slabs.list, b)
	} else {
		b = make([]byte, 4*p.shape.State)
	}
	s.numbers = unsafe.Slice((*float32)(unsafe.Pointer(unsafe.SliceData(b))), p.shape.State)
	return s, true
}

// freeState gives a state's room back. The pool is locked.
func (p *Pool) freeState(s *state) {
	if s.numbers != nil {
		p.states = append(p.states, s.numbers)
	}
	for _, one := range s.lent {
		p.drop(one)
	}
	*s = state{}
}

// dropSnapshot forgets the state after a page. The pool is locked.
func (p *Pool) dropSnapshot(of *page) {
	if s := of.snapshot; s != nil {
		of.snapshot = nil
		p.snapshots.Remove(s.place)
		p.freeState(&s.state)
	}
}

// keep makes a state that of the last token of a page, unless that is known. No more than a quarter of the pool is used for that, but always
// one, and what was used least recently goes first. The pool is locked.
func (p *Pool) keep(of *page, given *state) {
	if of.snapshot != nil {
		p.snapshots.MoveToBack(of.snapshot.place)
		return
	}
	for p.snapshots.Len() > 0 && (p.snapshots.Len()+1)*p.statePages() > p.limit/4 {
		p.dropSnapshot(p.snapshots.Front().Value.(*snapshot).of)
	}
	of.snapshot = &snapshot{state: *given, of: of}
	of.snapshot.place = p.snapshots.PushBack(of.snapshot)
	*given = state{}
}

// recall gives a copy of a state that is kept or, if there is no room for one, that state itself. The pool is locked.
func (p *Pool) recall(kept *snapshot) state {
	p.snapshots.Remove(kept.place) // so that it does not make room for its copy
	s, ok := p.newState()
	if !ok {
		kept.of.snapshot = nil
		return kept.state
	}
	copy(s.numbers, kept.numbers)
	kept.place = p.snapshots.PushBack(kept)
	return s
}

// State is the sequence's state, to be read and written; nil if the network has none. Reserve makes room for it.
func (s *Sequence) State() []float32 { return s.state.numbers }

// Mark remembers the state as it is now, so that Truncate comes back to it. It is false if there is no room for that; where there is no
// state, none is needed.
func (s *Sequence) Mark() bool {
	p := s.pool
	if p.shape.State == 0 {
		return true
	}
	if s.mark.numbers == nil && s.state.numbers != nil {
		p.mu.Lock()
		s.mark, _ = p.newState()
		p.mu.Unlock()
	}
	if s.mark.numbers == nil {
		return false
	}
	copy(s.mark.numbers, s.state.numbers)
	s.marked = len(s.tokens)
	return true
}

// KeepAt asks for the state after n tokens, which have to end a page and to come with what is appended next, to be remembered: other
// contexts that begin in the same way can go on from there. Who computes it writes it to what [Sequence.Coming] gives. There may be no
// room for that.
func (s *Sequence) KeepAt(n int) {
	p := s.pool
	if p.shape.State == 0 || n <= len(s.tokens) || n%PageTokens != 0 {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if s.coming.numbers == nil {
		s.coming, _ = p.newState()
	}
	s.comingAt = n
}

// Coming is where the state after n tokens is to be written; n is 0 if none is wanted.
func (s *Sequence) Coming() (n int, numbers []float32) {
	if s.coming.numbers == nil {
		return 0, nil
	}
	return s.comingAt, s.coming.numbers
}

// keepComing attaches the state that was asked for to the page that it comes after, which is known now. The pool is locked.
func (s *Sequence) keepComing() {
	p := s.pool
	if s.coming.numbers == nil {
		return
	}
	if n := s.comingAt / PageTokens; n > s.known || n*PageTokens > len(s.tokens) {
		p.freeState(&s.coming) // it was taken back
	} else {
		p.keep(s.pages[n-1], &s.coming)
	}
	p.freeState(&s.coming)
}

// rewind brings the state back to where it was after n tokens or, if that is not known, after fewer, and returns after how many.
func (s *Sequence) rewind(n int) int {
	if s.marked >= 0 && s.marked <= n {
		copy(s.state.numbers, s.mark.numbers)
		return s.marked
	}
	p := s.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := n / PageTokens; i > 0; i-- {
		if kept := s.pages[i-1].snapshot; kept != nil {
			copy(s.state.numbers, kept.numbers)
			p.snapshots.MoveToBack(kept.place)
			return i * PageTokens
		}
	}
	clear(s.state.numbers)
	return 0
}

// freeStates gives up what a sequence has of states. The pool is locked.
func (s *Sequence) freeStates() {
	s.pool.freeState(&s.state)
	s.pool.freeState(&s.mark)
	s.pool.freeState(&s.coming)
	s.marked = -1
}
