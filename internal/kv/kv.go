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
	"sync"

	"kindredgate/internal/tensor"
)

// PageTokens is how many positions a page holds. Keys lie interleaved by as many, so that a vector unit works on
// positions side by side.
const PageTokens = tensor.PageTokens

// Format says how keys and values are kept.
type Format int

// The formats.
const (
	F16 Format = iota
	F32
	Q8 // bytes, with a half float as the scale of 32 of them, or of a whole head where those are no multiples
)

// Layer is the size of one layer's keys and values.
type Layer struct{ KVHeads, HeadDim int }

func (l Layer) elements() int { return 2 * l.KVHeads * l.HeadDim * PageTokens }

// block is how many bytes of a key or a value have one scale.
func (l Layer) block() int {
	if l.HeadDim%tensor.Block == 0 {
		return tensor.Block
	}
	return l.HeadDim
}

// Pool is the memory for the contexts of one model. It is safe for concurrent use; each of its sequences is used by one
// goroutine at a time.
type Pool struct {
	layers  []Layer
	offsets []int // of each layer within a page, in elements
	size    int   // elements of a page
	scales  []int // where each layer's scales are within a page
	scaled  int   // scales of a page
	format  Format
	limit   int // pages

	mu     sync.Mutex
	slabs  *slabs
	rest   []byte // of the last slab, that is no page yet
	made   int    // pages that exist
	free   []*page
	index  map[pageKey]*page
	latest map[uint64]*page // by the id of the page before it: the page that was made known last
	idle   *list.List       // pages that are known and that nobody uses, the least recently used first
	serial uint64
}

// page holds the keys [head][dimension][position] and then the values [head][position][dimension] of each layer. The scales
// of bytes are in the same order, one where there are as many dimensions as a block has.
type page struct {
	half  []uint16
	full  []float32
	bytes []int8
	scale []uint16

	memory []byte // in which these lie
	cold   bool   // it was given back to the system

	refs  int
	id    uint64 // never given again, so that a page after this one can be told from one after another
	key   pageKey
	count int           // tokens of the key that it holds: all, unless a sequence ended within it
	known bool          // in the index, or the latest
	place *list.Element // among the idle ones
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

// NewPool makes a pool that takes up to budget bytes, but at least one page.
func NewPool(layers []Layer, format Format, budget int64) *Pool {
	p := &Pool{layers: layers, format: format, index: map[pageKey]*page{}, latest: map[uint64]*page{}, idle: list.New(), serial: 1}
	for _, l := range layers {
		p.offsets = append(p.offsets, p.size)
		p.size += l.elements()
		p.scales = append(p.scales, p.scaled)
		p.scaled += l.elements() / l.block()
	}
	p.limit = int(max(1, min(budget/p.PageBytes(), math.MaxInt32)))
	p.slabs = &slabs{}
	runtime.AddCleanup(p, (*slabs).free, p.slabs)
	return p
}

// PageBytes is what a page takes.
func (p *Pool) PageBytes() int64 { return PageBytes(p.layers, p.format) }

// PageBytes is what a page of a pool of such layers takes.
func PageBytes(layers []Layer, format Format) int64 {
	var size, scaled int64
	for _, l := range layers {
		size += int64(l.elements())
		scaled += int64(l.elements() / l.block())
	}
	switch format {
	case F32:
		return 4 * size
	case Q8:
		return size + 2*scaled
	}
	return 2 * size
}

// Bytes is what a context of so many tokens takes.
func (p *Pool) Bytes(tokens int) int64 { return Bytes(p.layers, p.format, tokens) }

// Bytes is what a context of so many tokens takes in a pool of such layers.
func Bytes(layers []Layer, format Format, tokens int) int64 {
	return int64((tokens+PageTokens-1)/PageTokens) * PageBytes(layers, format)
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
	return Use{Limit: p.limit, Busy: p.made - len(p.free) - p.idle.Len(), Kept: p.idle.Len()}
}

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
	default:
		return nil
	}
	p.serial++
	one.id, one.refs, one.cold = p.serial, 1, false
	return one
}

func (p *Pool) forget(one *page) {
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
}

// NewSequence makes an empty context. Contexts of different variants have nothing in common, whatever their tokens: they
// turn positions in other ways. The pages that it will need are reserved by Reserve.
func (p *Pool) NewSequence(variant int) *Sequence {
	return &Sequence{pool: p, variant: uint64(variant)}
}

// Len is the number of positions held; the next token goes to position Len.
func (s *Sequence) Len() int { return len(s.tokens) }

// Variant is what NewSequence was given.
func (s *Sequence) Variant() int { return int(s.variant) }

// Reserve makes room for n positions in all. If there is none, it is a *[FullError] and nothing changes.
func (s *Sequence) Reserve(n int) error {
	missing := (n+PageTokens-1)/PageTokens - len(s.pages)
	if missing <= 0 {
		return nil
	}
	p := s.pool
	p.mu.Lock()
	defer p.mu.Unlock()
	if there := len(p.free) + p.limit - p.made + p.idle.Len(); missing > there {
		return &FullError{Tokens: n, Needs: p.Bytes(n), Budget: int64(p.limit) * p.PageBytes(), Busy: len(s.pages)+missing <= p.limit}
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
	for ; s.known < full; s.known++ {
		one, key := s.pages[s.known], s.chain(s.known)
		if other, ok := p.index[key]; ok && other != one {
			// Somebody else has read the same meanwhile. Going on with that page lets what follows be shared.
			if other.place != nil {
				p.idle.Remove(other.place)
				other.place = nil
			}
			other.refs++
			s.pages[s.known] = other
			p.drop(one)
			continue
		}
		p.learn(one, key, PageTokens)
	}
}

// Match fills an empty context with what is known of the beginning of tokens, and returns how many tokens that is: whole
// pages, which are shared, and then as much as the page that came last after these has in common with the rest, which is
// copied if there is room.
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
		if one.place != nil {
			p.idle.Remove(one.place)
			one.place = nil
		}
		one.refs++
		s.pages = append(s.pages, one)
		s.known++
	}
	s.sound = len(s.tokens)
	s.copyPart(tokens[len(s.tokens):])
	return len(s.tokens)
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

// Fork makes a second context that holds the same. Full pages are shared; the last one is copied. If there is no room for
// the copy, it is a *[FullError].
func (s *Sequence) Fork() (*Sequence, error) {
	p := s.pool
	f := &Sequence{pool: p, variant: s.variant, tokens: append([]int32(nil), s.tokens...)}
	full := len(s.tokens) / PageTokens
	p.mu.Lock()
	for _, one := range s.pages[:full] {
		one.refs++
		f.pages = append(f.pages, one)
	}
	f.known = min(s.known, full)
	p.mu.Unlock()
	if len(s.tokens)%PageTokens == 0 {
		return f, nil
	}
	if err := f.Reserve(len(f.tokens)); err != nil {
		f.Release()
		return nil, err
	}
	f.pages[full].copyFrom(s.pages[full])
	return f, nil
}

func (one *page) copyFrom(other *page) {
	copy(one.half, other.half)
	copy(one.full, other.full)
	copy(one.bytes, other.bytes)
	copy(one.scale, other.scale)
}

// Truncate forgets all positions from n on. A page that others share is copied if part of it is kept; if there is no room
// for the copy, the whole page is forgotten, and Len is below n.
func (s *Sequence) Truncate(n int) {
	if n >= len(s.tokens) {
		return
	}
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
	if full, n := s.sound/PageTokens, s.sound%PageTokens; s.known == full && n > 0 {
		// The page that it ends in is known too, so that what goes on from here finds all of it.
		if one := s.pages[full]; !one.known && one.refs == 1 {
			s.tokens = s.tokens[:s.sound]
			p.learn(one, s.chain(full), n)
		}
	}
	// The last page first, so that it goes before those that it needs.
	for i := len(s.pages) - 1; i >= 0; i-- {
		p.drop(s.pages[i])
	}
	s.pages, s.tokens, s.known, s.sound = nil, s.tokens[:0], 0, 0
}

// Put keeps the key and the value of a position in a layer, each [KVHeads × HeadDim]. In half precision, what is too large
// becomes the largest number there is.
func (s *Sequence) Put(layer, pos int, key, value []float32) {
	if s.pool.format == Q8 {
		s.putBytes(layer, pos, key, value)
		return
	}
	l := s.pool.layers[layer]
	one, at := s.pages[pos/PageTokens], s.pool.offsets[layer]
	slot := pos % PageTokens
	values := at + l.elements()/2
	for h := range l.KVHeads {
		k, v := key[h*l.HeadDim:(h+1)*l.HeadDim], value[h*l.HeadDim:(h+1)*l.HeadDim]
		keyAt, valueAt := at+h*l.HeadDim*PageTokens+slot, values+(h*PageTokens+slot)*l.HeadDim
		if s.pool.format == F32 {
			for d, x := range k {
				one.full[keyAt+d*PageTokens] = x
			}
			copy(one.full[valueAt:valueAt+l.HeadDim], v)
			continue
		}
		for d, x := range k {
			one.half[keyAt+d*PageTokens] = saturated(x)
		}
		for d, x := range v {
			one.half[valueAt+d] = saturated(x)
		}
	}
}

// saturated is a half float, or the largest that there is.
func saturated(x float32) uint16 {
	return tensor.ToFloat16(max(-largestHalf, min(largestHalf, x)))
}

const largestHalf = 65504

// Page reads the keys [HeadDim][PageTokens] and the values [PageTokens][HeadDim] of page i in a layer and a head. The
// slices are valid until keys and values, which have room for them, are used again, or the page is.
func (s *Sequence) Page(i, layer, head int, keys, values []float32) (k, v []float32) {
	l := s.pool.layers[layer]
	n := l.HeadDim * PageTokens
	one := s.pages[i]
	at := s.pool.offsets[layer] + head*n
	other := at + l.elements()/2
	switch s.pool.format {
	case F32:
		return one.full[at : at+n], one.full[other : other+n]
	case Q8:
		s.widen(layer, head, one, keys[:n], values[:n])
		return keys[:n], values[:n]
	}
	tensor.WidenF16(keys[:n], one.half[at:at+n])
	tensor.WidenF16(values[:n], one.half[other:other+n])
	return keys[:n], values[:n]
}

// putBytes is Put for bytes.
func (s *Sequence) putBytes(layer, pos int, key, value []float32) {
	l := s.pool.layers[layer]
	one, at, scales := s.pages[pos/PageTokens], s.pool.offsets[layer], s.pool.scales[layer]
	slot, block := pos%PageTokens, l.block()
	blocks := l.HeadDim / block
	values, valueScales := at+l.elements()/2, scales+l.elements()/2/block
	var space [256]int8
	for h := range l.KVHeads {
		for b := range blocks {
			from := h*l.HeadDim + b*block
			q := space[:]
			if block > len(q) {
				q = make([]int8, block)
			}
			one.scale[scales+(h*blocks+b)*PageTokens+slot] = tensor.RoundBytes(q[:block], key[from:from+block])
			for d, v := range q[:block] {
				one.bytes[at+(from+d)*PageTokens+slot] = v
			}
			to := values + (h*PageTokens+slot)*l.HeadDim + b*block
			one.scale[valueScales+(h*PageTokens+slot)*blocks+b] = tensor.RoundBytes(one.bytes[to:to+block], value[from:from+block])
		}
	}
}

// widen is Page for bytes.
func (s *Sequence) widen(layer, head int, one *page, keys, values []float32) {
	l := s.pool.layers[layer]
	n, block := l.HeadDim*PageTokens, l.block()
	at, scales := s.pool.offsets[layer]+head*n, s.pool.scales[layer]+head*n/block
	var scale [PageTokens]float32
	for b := range l.HeadDim / block {
		tensor.WidenF16(scale[:], one.scale[scales+b*PageTokens:][:PageTokens])
		part := b * block * PageTokens
		tensor.ScaleColumns(keys[part:part+block*PageTokens], one.bytes[at+part:], &scale)
	}
	at, scales = at+l.elements()/2, scales+l.elements()/2/block
	for first := 0; first < n; first += block * PageTokens {
		tensor.WidenF16(scale[:], one.scale[scales+first/block:][:PageTokens])
		tensor.ScaleRows(values[first:first+block*PageTokens], one.bytes[at+first:], scale[:], block)
	}
}
