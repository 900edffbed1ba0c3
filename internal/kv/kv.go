// Package kv owns the memory of contexts: the keys and values that a network keeps of the tokens it has read.
//
// A [Pool] hands out pages of [PageTokens] positions and never takes more memory than its budget. A [Sequence] is the
// context of one answer, a list of pages. Pages that are full are known by their tokens and those of all pages before
// them, so that another sequence that begins with the same tokens can [Sequence.Match] them instead of reading the tokens
// again. They are kept when nobody uses them, and go, least recently used first, when their memory is needed.
package kv

import (
	"container/list"
	"fmt"
	"math"
	"runtime"
	"slices"
	"sync"

	"kindredgate/internal/tensor"
)

// PageTokens is how many positions a page holds. Keys lie interleaved by as many, so that a vector unit works on
// positions side by side.
const PageTokens = tensor.PageTokens

// Pool is the memory for the contexts of one model. It is safe for concurrent use; each of its sequences is used by one
// goroutine at a time.
type Pool struct {
	shape Shape
	store Store
	bytes int64 // of a page
	limit int   // pages

	mu     sync.Mutex
	slabs  *slabs
	rest   []byte // of the last slab, that is no page yet
	made   int    // pages that exist
	free   []*page
	index  map[pageKey]*page
	latest map[uint64]*page // by the id of the page before it: the page that was made known last
	idle   *list.List       // pages that are known and that nobody uses, the least recently used first
	serial uint64

	clock       uint64 // counts what was found, by which pages are known that were used last
	sharedCount int    // pages that a second context has found

	states    [][]float32 // room for states that nobody has
	snapshots *list.List  // of states, the least recently used first
}

// page is the keys and values of PageTokens positions, as the store has them.
type page struct {
	memory []byte
	cold   bool // it was given back to the system

	refs  int
	id    uint64 // never given again, so that a page after this one can be told from one after another
	key   pageKey
	count int           // tokens of the key that it holds: all, unless a sequence ended within it
	known bool          // in the index, or the latest
	place *list.Element // among the idle ones

	variant uint64
	depth   int    // pages before it
	shared  bool   // a second context has found it
	used    uint64 // by the pool's clock

	snapshot *snapshot // the state after its last token; nil if it is not known
}

// pageKey is what a full page is found by: the page before it, and its tokens.
type pageKey struct {
	before uint64
	tokens [PageTokens]int32
}

// FullError says that a context does not fit into the pool's budget.
type FullError struct {
	Tokens int   // that the context was to hold
	Needs  int64 // bytes
	Budget int64 // bytes
	Busy   bool  // other contexts hold what is missing, so it may fit later
}

func (e *FullError) Error() string {
	return fmt.Sprintf("a context of %d tokens takes %d MiB of memory; %d MiB are set aside for contexts", e.Tokens, e.Needs>>20, e.Budget>>20)
}

// NewPool makes a pool that takes up to budget bytes, but at least one page and one state.
func NewPool(shape Shape, format Format, budget int64) *Pool {
	p := &Pool{shape: shape, store: newStore(shape.Layers, format), index: map[pageKey]*page{}, latest: map[uint64]*page{}, idle: list.New(), snapshots: list.New(), serial: 1}
	p.bytes = PageBytes(shape, format)
	p.limit = int(max(1+int64(p.statePages()), min(budget/p.bytes, math.MaxInt32)))
	p.slabs = &slabs{}
	runtime.AddCleanup(p, (*slabs).free, p.slabs)
	return p
}

// PageBytes is what a page takes.
func (p *Pool) PageBytes() int64 { return p.bytes }

// PageBytes is what a page of a pool of that shape takes.
func PageBytes(shape Shape, format Format) int64 {
	if n := newStore(shape.Layers, format).Bytes(); n > 0 {
		return int64(n)
	}
	return 64 << 10 // what a state is counted in where tokens leave nothing else
}

// Bytes is what a context of so many tokens takes.
func (p *Pool) Bytes(tokens int) int64 {
	return (int64((tokens+PageTokens-1)/PageTokens) + int64(p.statePages())) * p.bytes
}

// Bytes is what a context of so many tokens takes in a pool of that shape, its state included.
func Bytes(shape Shape, format Format, tokens int) int64 {
	return int64((tokens+PageTokens-1)/PageTokens)*PageBytes(shape, format) + 4*int64(shape.State)
}

// Use is what a pool holds, in pages.
type Use struct {
	Limit int
	Busy  int // used by sequences
	Kept  int // that nobody uses, but that are known by their tokens
}

// Use tells what the pool holds now.
func (p *Pool) Use() Use {
	p.mu.Lock()
	defer p.mu.Unlock()
	kept := p.idle.Len() + p.snapshots.Len()*p.statePages()
	return Use{Limit: p.limit, Busy: p.made - len(p.free) - kept, Kept: kept}
}

// Room is how many tokens the longest context has that fits.
func (p *Pool) Room() int { return (p.limit - p.statePages()) * PageTokens }

// take gives a page that nobody else has; nil if there is none. The pool is locked.
func (p *Pool) take() *page {
	var one *page
	switch {
	case len(p.free) > 0:
		one = p.free[len(p.free)-1]
		p.free = p.free[:len(p.free)-1]
	case p.made < p.limit:
		one = p.newPage()
		p.made++
	case p.idle.Len() > 0:
		one = p.idle.Front().Value.(*page)
		p.idle.Remove(one.place)
		one.place = nil
		p.forget(one)
	case p.snapshots.Len() > 0 && p.statePages() > 0:
		p.dropSnapshot(p.snapshots.Front().Value.(*snapshot).of)
		return p.take()
	default:
		return nil
	}
	p.serial++
	one.id, one.refs, one.cold, one.shared, one.used = p.serial, 1, false, false, 0
	return one
}

func (p *Pool) forget(one *page) {
	p.dropSnapshot(one)
	if !one.known {
		return
	}
	if p.index[one.key] == one {
		delete(p.index, one.key)
	}
	if p.latest[one.key.before] == one {
		delete(p.latest, one.key.before)
	}
	one.known = false
}

// learn makes a page known. The pool is locked.
func (p *Pool) learn(one *page, key pageKey, count int) {
	one.key, one.count, one.known = key, count, true
	if count == PageTokens {
		p.index[key] = one
	}
	before := p.latest[key.before]
	p.latest[key.before] = one
	if before != nil && before.count < PageTokens && before != one {
		// Nothing finds it any more.
		p.dropSnapshot(before)
		before.known = false
		if before.place != nil {
			p.idle.Remove(before.place)
			before.place = nil
			p.free = append(p.free, before)
		}
	}
}

// drop gives up one use of a page. The pool is locked.
func (p *Pool) drop(one *page) {
	if one.refs--; one.refs > 0 {
		return
	}
	if one.known {
		one.place = p.idle.PushBack(one)
	} else {
		p.dropSnapshot(one)
		p.free = append(p.free, one)
	}
}

// Sequence is a context.
type Sequence struct {
	pool    *Pool
	variant uint64
	pages   []*page
	tokens  []int32
	known   int // pages that were looked up or made known
	sound   int // positions that Commit has heard of

	state, mark, coming state
	marked              int // after how many tokens the mark was set; −1 if it is not
	comingAt            int
}

// NewSequence makes an empty context. Contexts of different variants have nothing in common, whatever their tokens: they
// turn positions in other ways. The pages that it will need are reserved by Reserve.
func (p *Pool) NewSequence(variant int) *Sequence {
	return &Sequence{pool: p, variant: uint64(variant), marked: -1}
}

// Len is the number of positions held; the next token goes to position Len.
func (s *Sequence) Len() int { return len(s.tokens) }

// Variant is what NewSequence was given.
func (s *Sequence) Variant() int { return int(s.variant) }

// Reserve makes room for n positions in all. If there is none, it is a *[FullError] and nothing changes.
func (s *Sequence) Reserve(n int) error {
	p := s.pool
	missing, room := (n+PageTokens-1)/PageTokens-len(s.pages), 0
	if s.state.numbers == nil {
		room = p.statePages()
	}
	if missing <= 0 && room == 0 {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	there := len(p.free) + p.limit - p.made + p.idle.Len() + p.snapshots.Len()*p.statePages()
	if missing = max(0, missing); missing+room > there {
		return &FullError{Tokens: n, Needs: p.Bytes(n), Budget: int64(p.limit) * p.PageBytes(), Busy: len(s.pages)+missing+p.statePages() <= p.limit}
	}
	if room > 0 {
		s.state, _ = p.newState()
		clear(s.state.numbers)
	}
	for range missing {
		s.pages = append(s.pages, p.take())
	}
	return nil
}

// Append notes the next token and returns its position, for which there must be room. What Put writes for it comes
// later.
func (s *Sequence) Append(token int32) int {
	pos := len(s.tokens)
	if pos >= len(s.pages)*PageTokens {
		panic("kv: no room was reserved")
	}
	s.tokens = append(s.tokens, token)
	return pos
}

// chain is the key of page i, whose tokens beyond the last one are 0.
func (s *Sequence) chain(i int) pageKey {
	k := pageKey{before: math.MaxUint64 - s.variant} // beyond the ids of pages
	if i > 0 {
		k.before = s.pages[i-1].id
	}
	copy(k.tokens[:], s.tokens[i*PageTokens:])
	return k
}

// Commit makes the pages that are full known, so that others can use them. Everything that was appended must have been
// put.
func (s *Sequence) Commit() {
	s.sound = len(s.tokens)
	full := len(s.tokens) / PageTokens
	if s.known >= full {
		return
	}
	p := s.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	defer s.keepComing()
	for ; s.known < full; s.known++ {
		one, key := s.pages[s.known], s.chain(s.known)
		if other, ok := p.index[key]; ok && other != one {
			// Somebody else has read the same meanwhile. Going on with that page lets what follows be shared.
			if other.place != nil {
				p.idle.Remove(other.place)
				other.place = nil
			}
			other.refs++
			p.found(other)
			s.pages[s.known] = other
			p.drop(one)
			continue
		}
		one.variant, one.depth = s.variant, s.known
		p.learn(one, key, PageTokens)
	}
}

// Match fills an empty context with what is known of the beginning of tokens, and returns how many tokens that is: whole
// pages, which are shared, and then as much as the page that came last after these has in common with the rest, which is
// copied if there is room. Where there is a state, it ends where that is known.
func (s *Sequence) Match(tokens []int32) int {
	p := s.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := 0; (i+1)*PageTokens <= len(tokens); i++ {
		s.tokens = append(s.tokens, tokens[i*PageTokens:(i+1)*PageTokens]...)
		one, ok := p.index[s.chain(i)]
		if !ok {
			s.tokens = s.tokens[:i*PageTokens]
			break
		}
		p.use(one)
		p.found(one)
		s.pages = append(s.pages, one)
		s.known++
	}
	p.clock++
	if p.shape.State > 0 {
		s.matchState(tokens)
	} else {
		s.copyPart(tokens[len(s.tokens):])
	}
	s.sound = len(s.tokens)
	return len(s.tokens)
}

// found notes that a context has found a page that another one wrote. The pool is locked.
func (p *Pool) found(one *page) {
	if one.used = p.clock; !one.shared {
		one.shared = true
		p.sharedCount++
	}
}

// use takes a page that is known. The pool is locked.
func (p *Pool) use(one *page) {
	if one.place != nil {
		p.idle.Remove(one.place)
		one.place = nil
	}
	one.refs++
}

// matchState ends what was matched where the state is known. The pool is locked.
func (s *Sequence) matchState(tokens []int32) {
	p := s.pool
	var kept *snapshot
	if one, ok := p.latest[s.chain(len(s.pages)).before]; ok && one.snapshot != nil && one.count < PageTokens {
		if rest := tokens[len(s.tokens):]; len(rest) >= one.count && slices.Equal(rest[:one.count], one.key.tokens[:one.count]) {
			kept = one.snapshot
		}
	}
	n := len(s.pages)
	for kept == nil && n > 0 {
		if kept = s.pages[n-1].snapshot; kept == nil {
			n--
		}
	}
	if kept != nil {
		p.use(kept.of) // so that it is not taken
		s.state = p.recall(kept)
	}
	for i := len(s.pages) - 1; i >= n; i-- {
		p.drop(s.pages[i])
	}
	s.pages, s.tokens, s.known = s.pages[:n], s.tokens[:n*PageTokens], n
	if kept == nil {
		return
	}
	if kept.of.count < PageTokens {
		if s.copyPart(tokens[len(s.tokens):]); len(s.tokens)%PageTokens != kept.of.count {
			// There was no room for the page, so the state is not that of what is there.
			p.freeState(&s.state)
			for i := n - 1; i >= 0; i-- {
				p.drop(s.pages[i])
			}
			s.pages, s.tokens, s.known = nil, s.tokens[:0], 0
		}
	}
	p.drop(kept.of)
}

// copyPart copies what the latest page after the last one has in common with tokens. The pool is locked.
func (s *Sequence) copyPart(tokens []int32) {
	p := s.pool
	one, ok := p.latest[s.chain(len(s.pages)).before]
	if !ok {
		return
	}
	n := 0
	for n < min(len(tokens), one.count) && tokens[n] == one.key.tokens[n] {
		n++
	}
	if n == 0 {
		return
	}
	one.refs++ // so that it is not the one that is taken
	if one.place != nil {
		p.idle.Remove(one.place)
		one.place = nil
	}
	if mine := p.take(); mine != nil {
		mine.copyFrom(one)
		s.pages = append(s.pages, mine)
		s.tokens = append(s.tokens, tokens[:n]...)
		s.sound = len(s.tokens)
	}
	p.drop(one)
}

func (one *page) copyFrom(other *page) {
	copy(one.memory, other.memory)
}

// Truncate forgets all positions from n on. A page that others share is copied if part of it is kept; if there is no room
// for the copy, the whole page is forgotten, and Len is below n. So it is where a state is not known any more: then it goes back to the
// mark, or to the last position before n after which the state was kept.
func (s *Sequence) Truncate(n int) {
	if n >= len(s.tokens) {
		return
	}
	if s.state.numbers == nil {
		s.cut(n)
		return
	}
	n = s.rewind(n)
	if s.cut(n); len(s.tokens) < n {
		s.marked = -1 // it was within a page that is gone
		s.cut(s.rewind(len(s.tokens)))
	}
	if s.marked > len(s.tokens) {
		s.marked = -1
	}
}

func (s *Sequence) cut(n int) {
	s.tokens = s.tokens[:n]
	keep := (n + PageTokens - 1) / PageTokens
	p := s.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := len(s.pages) - 1; i >= keep; i-- {
		p.drop(s.pages[i])
	}
	s.pages = s.pages[:keep]
	s.known, s.sound = min(s.known, n/PageTokens), min(s.sound, n)
	if n%PageTokens == 0 {
		return
	}
	if last := s.pages[keep-1]; last.known || last.refs > 1 {
		if one := p.take(); one != nil {
			one.copyFrom(last)
			s.pages[keep-1] = one
		} else {
			s.pages, s.tokens = s.pages[:keep-1], s.tokens[:(keep-1)*PageTokens]
			s.sound = min(s.sound, len(s.tokens))
		}
		p.drop(last)
	}
}

// Release gives all pages back. The sequence is empty then, and can be used again.
func (s *Sequence) Release() {
	p := s.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	full, n := s.sound/PageTokens, s.sound%PageTokens
	whole := s.sound == len(s.tokens) // else the state is that of something else
	if s.known == full && n > 0 && (whole || s.state.numbers == nil) {
		// The page that it ends in is known too, so that what goes on from here finds all of it.
		if one := s.pages[full]; !one.known && one.refs == 1 {
			s.tokens = s.tokens[:s.sound]
			p.learn(one, s.chain(full), n)
			full++
		}
	}
	if s.state.numbers != nil && whole && s.sound > 0 && full*PageTokens >= s.sound {
		p.keep(s.pages[full-1], &s.state)
	}
	s.freeStates()
	// The last page first, so that it goes before those that it needs.
	for i := len(s.pages) - 1; i >= 0; i-- {
		p.drop(s.pages[i])
	}
	s.pages, s.tokens, s.known, s.sound = nil, s.tokens[:0], 0, 0
}

// Put keeps the key and the value of a position in a layer, [KVHeads × KeyDim] and [KVHeads × ValueDim].
func (s *Sequence) Put(layer, pos int, key, value []float32) {
	s.pool.store.Put(s.pages[pos/PageTokens].memory, layer, pos%PageTokens, key, value)
}

// ByBytes reports whether the keys of a layer are read as bytes.
func (s *Sequence) ByBytes(layer int) bool { return s.pool.store.ByBytes(layer) }

// Page reads the keys and the values [PageTokens][ValueDim] of page i in a layer and a head. The slices are valid until keys and
// values, which have room for them as floats, are used again, or the page is.
func (s *Sequence) Page(i, layer, head int, keys, values []float32) (k Keys, v []float32) {
	return s.pool.store.Read(s.pages[i].memory, layer, head, keys, values)
}
