package kv

import (
	"errors"
	"kindredgate/internal/tensor"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"
	"time"
)

// layers has keys and values of different sizes, and a layer whose values are a part of its keys; carried has a state too.
var (
	layers  = Shape{Layers: []Layer{{KVHeads: 2, KeyDim: 4, ValueDim: 6}, {}, {KVHeads: 1, KeyDim: 6, ValueDim: 4}, {KVHeads: 1, KeyDim: 5, ValueDim: 3, Latent: true}}}
	carried = Shape{Layers: layers.Layers, State: 2500}
)

// value is what the tests put for a token at a position: something that no other token has.
func value(token int32, pos, layer, i int) float32 {
	return float32(token)/8 + float32(pos)/256 + float32(layer*4+i)
}

// at is dimension d of the key at a place of a page.
func (k Keys) at(d, slot int) float32 {
	if k.Floats != nil {
		return k.Floats[d*PageTokens+slot]
	}
	return float32(k.Bytes[(d/4*PageTokens+slot)*4+d%4]) * tensor.Float16(k.Scales[d/32*PageTokens+slot])
}

// carry is what the tests do with a state.
func carry(state []float32, token int32) {
	for i := range state {
		state[i] = state[i]/2 + float32(token) + float32(i%7)
	}
}

// add appends tokens and puts their keys and values.
func add(t testing.TB, s *Sequence, tokens ...int32) {
	t.Helper()
	if err := s.Reserve(s.Len() + len(tokens)); err != nil {
		t.Fatal(err)
	}
	for _, token := range tokens {
		pos := s.Append(token)
		for l, shape := range layers.Layers {
			key, val := make([]float32, shape.KVHeads*shape.KeyDim), make([]float32, shape.KVHeads*shape.ValueDim)
			for i := range key {
				key[i] = value(token, pos, l, i)
			}
			for i := range val {
				val[i] = -value(token, pos, l, i)
			}
			s.Put(l, pos, key, val)
		}
		carry(s.State(), token)
		if n, numbers := s.Coming(); n == pos+1 {
			copy(numbers, s.State())
		}
	}
	s.Commit()
}

// holds checks that a sequence has the keys and values of tokens, and the state after them.
func holds(t testing.TB, s *Sequence, tokens []int32) {
	t.Helper()
	if s.Len() != len(tokens) {
		t.Fatalf("it holds %d positions, want %d", s.Len(), len(tokens))
	}
	off := 0.04
	if _, ok := s.pool.store.(bytes); ok {
		off = 60.0/254 + 0.02 // half a step of the largest
	}
	for l, shape := range layers.Layers {
		for head := range shape.KVHeads {
			keys, values := make([]float32, shape.KeyDim*PageTokens), make([]float32, shape.ValueDim*PageTokens)
			for pos, token := range tokens {
				k, v := s.Page(pos/PageTokens, l, head, keys, values)
				slot := pos % PageTokens
				for d := range shape.KeyDim {
					if got, want := k.at(d, slot), value(token, pos, l, head*shape.KeyDim+d); math.Abs(float64(got-want)) > off {
						t.Fatalf("position %d, layer %d, head %d: key %g, want %g", pos, l, head, got, want)
					}
				}
				for d := range shape.ValueDim {
					want := -value(token, pos, l, head*shape.ValueDim+d)
					if shape.Latent {
						want = value(token, pos, l, d)
					}
					if got := v[slot*shape.ValueDim+d]; math.Abs(float64(got-want)) > off {
						t.Fatalf("position %d, layer %d, head %d: value %g, want %g", pos, l, head, got, want)
					}
				}
			}
		}
	}
	if s.pool.shape.State == 0 || len(tokens) == 0 {
		return
	}
	want := make([]float32, s.pool.shape.State)
	for _, token := range tokens {
		carry(want, token)
	}
	if !slices.Equal(s.State(), want) {
		t.Fatalf("the state after %d tokens is another", len(tokens))
	}
}

func count(n int, from int32) []int32 {
	out := make([]int32, n)
	for i := range out {
		out[i] = from + int32(i)
	}
	return out
}

func TestKeysAndValuesComeBack(t *testing.T) {
	for _, format := range []Format{F16, F32, Q8} {
		p := NewPool(layers, format, 1<<20)
		s := p.NewSequence(0)
		tokens := count(75, 1)
		add(t, s, tokens...)
		holds(t, s, tokens)
		s.Release()
		if u := p.Use(); u.Busy != 0 || u.Kept != 3 {
			t.Errorf("after release: %+v", u)
		}
	}
	if got := NewPool(layers, F16, 0).PageBytes(); got != 2*(2*10+10+5)*PageTokens {
		t.Errorf("a page takes %d bytes", got)
	}
}

// Bytes have a scale for each 32 dimensions of each position, so that a large number costs its neighbours no more than half a
// step.
func TestBytesHaveTheirScales(t *testing.T) {
	for _, shape := range []Layer{{KVHeads: 2, KeyDim: 64, ValueDim: 64}, {KVHeads: 1, KeyDim: 48, ValueDim: 48}, {KVHeads: 1, KeyDim: 320, ValueDim: 320}} {
		p := NewPool(Shape{Layers: []Layer{{KVHeads: 1, KeyDim: 32, ValueDim: 32}, shape}}, Q8, 1<<24)
		s := p.NewSequence(0)
		const n = 40
		if err := s.Reserve(n); err != nil {
			t.Fatal(err)
		}
		random := rand.New(rand.NewPCG(1, 2))
		width := shape.KVHeads * shape.KeyDim
		put := map[int][2][]float32{}
		for range n {
			pos := s.Append(1)
			k, v := make([]float32, width), make([]float32, width)
			for i := range k {
				size := math.Pow(10, float64((i/32+pos)%5-2))
				k[i], v[i] = float32(size*random.NormFloat64()), float32(size*random.NormFloat64())
			}
			s.Put(1, pos, k, v)
			put[pos] = [2][]float32{k, v}
		}
		block := 32
		if shape.KeyDim%32 != 0 {
			block = shape.KeyDim
		}
		size := shape.KeyDim * PageTokens
		for pos, want := range put {
			for head := range shape.KVHeads {
				k, v := s.Page(pos/PageTokens, 1, head, make([]float32, size), make([]float32, size))
				for b := 0; b < shape.KeyDim; b += block {
					for which, of := range want {
						of = of[head*shape.KeyDim+b:][:block]
						largest := float64(max(slices.Max(of), -slices.Min(of)))
						for i, x := range of {
							got := k.at(b+i, pos%PageTokens)
							if which == 1 {
								got = v[pos%PageTokens*shape.KeyDim+b+i]
							}
							if math.Abs(float64(got-x)) > largest/254*1.1 {
								t.Fatalf("%+v: position %d, head %d, dimension %d: %g for %g, where the largest is %g", shape, pos, head, b+i, got, x, largest)
							}
						}
					}
				}
			}
		}
	}
	eight := Shape{Layers: []Layer{{KVHeads: 8, KeyDim: 64, ValueDim: 64}}}
	if half, bytes := NewPool(eight, F16, 0).PageBytes(), NewPool(eight, Q8, 0).PageBytes(); bytes*16 != half*17/2 {
		t.Errorf("pages of bytes take %d, of half floats %d", bytes, half)
	}
}

// What is too large for half precision becomes the largest number, not infinity.
func TestSaturation(t *testing.T) {
	p := NewPool(Shape{Layers: []Layer{{KVHeads: 1, KeyDim: 1, ValueDim: 1}}}, F16, 1<<20)
	s := p.NewSequence(0)
	if err := s.Reserve(1); err != nil {
		t.Fatal(err)
	}
	s.Append(1)
	s.Put(0, 0, []float32{1e9}, []float32{-1e9})
	k, v := s.Page(0, 0, 0, make([]float32, PageTokens), make([]float32, PageTokens))
	if k.Floats[0] != 65504 || v[0] != -65504 {
		t.Errorf("key %g, value %g", k.Floats[0], v[0])
	}
}

func TestMatch(t *testing.T) {
	p := NewPool(layers, F32, 1<<20)
	first := p.NewSequence(0)
	tokens := count(100, 1)
	add(t, first, tokens...)
	for _, c := range []struct {
		name    string
		variant int
		tokens  []int32
		want    int
	}{
		{"the same", 0, tokens, 96},
		{"a part of it", 0, tokens[:70], 70},
		{"another end", 0, append(slices.Clone(tokens[:40]), 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9), 40},
		{"another beginning", 0, append([]int32{7}, tokens[1:]...), 0},
		{"the middle alone", 0, tokens[32:], 0},
		{"another variant", 1, tokens, 0},
		{"too short", 0, tokens[:31], 0},
	} {
		s := p.NewSequence(c.variant)
		if got := s.Match(c.tokens); got != c.want {
			t.Errorf("%s: %d tokens, want %d", c.name, got, c.want)
			continue
		}
		add(t, s, c.tokens[c.want:]...)
		holds(t, s, c.tokens)
		s.Release()
	}
	holds(t, first, tokens)
	// Kept after their reader has gone, the page it ended in too, and found by the next.
	first.Release()
	again := p.NewSequence(0)
	if got := again.Match(append(slices.Clone(tokens), 7, 8, 9)); got != 100 {
		t.Errorf("after release: %d tokens", got)
	}
	holds(t, again, tokens)
	// What was appended and perhaps never put is not.
	again.Release()
	broken := p.NewSequence(0)
	if err := broken.Reserve(40); err != nil {
		t.Fatal(err)
	}
	for _, id := range count(40, 500) {
		broken.Append(id)
	}
	broken.Release()
	if got := p.NewSequence(0).Match(count(40, 500)); got != 0 {
		t.Errorf("of what was never put %d tokens are found", got)
	}
}

// What is written anew into a page that others share is not theirs.
func TestTruncate(t *testing.T) {
	p := NewPool(layers, F16, 1<<20)
	a, b := p.NewSequence(0), p.NewSequence(0)
	tokens := count(50, 1)
	add(t, a, tokens...)
	if n := b.Match(tokens); n != PageTokens {
		t.Fatalf("%d tokens are known", n)
	}
	add(t, b, tokens[PageTokens:]...)
	a.Truncate(20)
	add(t, a, count(30, 300)...)
	holds(t, a, append(slices.Clone(tokens[:20]), count(30, 300)...))
	holds(t, b, tokens)
	// What was written anew is known to others, by its new tokens.
	c := p.NewSequence(0)
	if n := c.Match(append(slices.Clone(tokens[:20]), count(30, 300)...)); n != PageTokens {
		t.Errorf("%d tokens are known", n)
	}
	c.Release()
	a.Truncate(0)
	a.Release()
	b.Release()
	if u := p.Use(); u.Busy != 0 {
		t.Errorf("%+v", u)
	}
}

// A state is known where it was kept, and nowhere else; it comes back to where it was marked.
func TestStates(t *testing.T) {
	p := NewPool(carried, F16, 400*NewPool(carried, F16, 0).PageBytes())
	tokens := count(200, 1)
	first := p.NewSequence(0)
	first.KeepAt(64)
	add(t, first, tokens[:100]...)
	add(t, first, tokens[100:150]...)
	holds(t, first, tokens[:150])
	for _, c := range []struct {
		name   string
		tokens []int32
		want   int
	}{{"up to where it was kept", tokens[:150], 64}, {"before that", tokens[:63], 0}, {"other tokens", append(count(64, 9), 1), 0}} {
		s := p.NewSequence(0)
		if n := s.Match(c.tokens); n != c.want {
			t.Errorf("%s: %d tokens are known, want %d", c.name, n, c.want)
		}
		if err := s.Reserve(len(c.tokens)); err != nil {
			t.Fatal(err)
		}
		add(t, s, c.tokens[s.Len():]...)
		holds(t, s, c.tokens)
		s.Truncate(0) // nothing of it is to be known
		s.Release()
	}
	first.Release()
	again := p.NewSequence(0)
	if n := again.Match(tokens); n != 150 { // where the first one ended
		t.Fatalf("%d tokens are known", n)
	}
	holds(t, again, tokens[:150])
	again.Mark()
	add(t, again, 7, 8, 9)
	again.Truncate(152)
	holds(t, again, tokens[:150])
	add(t, again, tokens[150:]...)
	holds(t, again, tokens)
	again.Truncate(140) // before the mark: back to where it was kept
	holds(t, again, tokens[:64])
	again.Truncate(30)
	holds(t, again, nil)
	again.Release()
	if u := p.Use(); u.Busy != 0 || p.Room() != (u.Limit-p.statePages())*PageTokens {
		t.Errorf("%+v, room %d", u, p.Room())
	}
}

// Of the states of other texts no more are kept than a quarter of the pool holds, and the latest ones of these.
func TestSnapshotsAreBounded(t *testing.T) {
	p := NewPool(carried, F16, 200*NewPool(carried, F16, 0).PageBytes())
	most := p.limit / 4 / p.statePages()
	for i := range 3 * most {
		s := p.NewSequence(0)
		s.KeepAt(32)
		add(t, s, count(40, int32(1+50*i))...)
		s.Release()
		if n := p.snapshots.Len(); n > most {
			t.Fatalf("%d snapshots of %d pages each are kept in a pool of %d", n, p.statePages(), p.limit)
		}
	}
	last := p.NewSequence(0)
	if n := last.Match(count(40, int32(1+50*(3*most-1)))); n != 40 {
		t.Errorf("%d tokens of the latest text are known", n)
	}
	last.Release()
}

// Memory that nobody uses goes back to the system, and is there again when it is needed; what is in use, or known of texts, stays.
func TestUnusedMemoryGoesBack(t *testing.T) {
	for _, format := range []Format{F32, F16, Q8} {
		p := NewPool(layers, format, 1<<20)
		known, used := p.NewSequence(0), p.NewSequence(0)
		tokens := count(PageTokens, 1)
		add(t, known, tokens...)
		known.Release()
		add(t, used, count(50, 100)...)
		gone := p.NewSequence(0)
		add(t, gone, count(40, 200)...)
		gone.Truncate(0) // so that nothing of it is known
		gone.Release()
		var unused []*page
		for _, one := range p.free {
			if slices.ContainsFunc(one.memory, func(b byte) bool { return b != 0 }) {
				unused = append(unused, one)
			}
		}
		if len(unused) == 0 {
			t.Fatal("there is nothing that could go back")
		}
		p.Trim()
		for _, one := range unused {
			if runtime.GOOS == "linux" && slices.ContainsFunc(one.memory, func(b byte) bool { return b != 0 }) {
				t.Error("the memory of a page that nobody uses is still there")
			}
		}
		holds(t, used, count(50, 100))
		again := p.NewSequence(0)
		if n := again.Match(append(slices.Clone(tokens), 7)); n != PageTokens {
			t.Errorf("%d tokens are known", n)
		}
		holds(t, again, tokens)
		for range 3 { // all pages that went back are taken again
			s := p.NewSequence(0)
			add(t, s, count(60, 150)...)
			holds(t, s, count(60, 150))
		}
	}
}

// The budget holds, and the least recently used of what nobody uses goes first.
func TestBudget(t *testing.T) {
	page := NewPool(layers, F16, 0).PageBytes()
	p := NewPool(layers, F16, 4*page)
	old, recent := count(33, 1), count(33, 1000)
	for _, tokens := range [][]int32{old, recent} {
		s := p.NewSequence(0)
		add(t, s, tokens...)
		s.Release()
	}
	s := p.NewSequence(0)
	add(t, s, count(70, 2000)...) // three pages: one is free, one was never taken, one has to go
	if n := p.NewSequence(0).Match(old); n != 0 {
		t.Errorf("the least recently used page is still there: %d tokens", n)
	}
	last := p.NewSequence(0)
	if n := last.Match(recent); n != 32 {
		t.Errorf("the recently used page is gone: %d tokens", n)
	}
	var full *FullError
	if err := last.Reserve(65); !errors.As(err, &full) || !full.Busy || full.Budget != 4*page || full.Needs != 3*page {
		t.Errorf("%+v", err)
	}
	if err := p.NewSequence(0).Reserve(1000); !errors.As(err, &full) || full.Busy {
		t.Errorf("more than all: %+v", err)
	}
	if u := p.Use(); u.Busy != 4 || u.Limit != 4 {
		t.Errorf("%+v", u)
	}
}

// Whatever is done in whatever order, sequences hold what was put, and no page is lost.
func TestRandomUse(t *testing.T) {
	t.Run("pages", func(t *testing.T) { randomUse(t, layers, 40) })
	t.Run("states", func(t *testing.T) { randomUse(t, carried, 120) })
}

func randomUse(t *testing.T, shape Shape, pages int64) {
	r := rand.New(rand.NewPCG(3, 4))
	p := NewPool(shape, F32, pages*NewPool(shape, F32, 0).PageBytes())
	type live struct {
		s      *Sequence
		tokens []int32
	}
	var all []live
	for range 3000 {
		switch n := r.IntN(6); {
		case n == 0 || len(all) == 0:
			tokens := count(r.IntN(90), int32(r.IntN(3)))
			s := p.NewSequence(0)
			from := s.Match(tokens)
			if s.Reserve(len(tokens)) != nil {
				s.Release()
				continue
			}
			add(t, s, tokens[from:]...)
			all = append(all, live{s, tokens})
		case n == 1:
			i := r.IntN(len(all))
			all[i].s.Release()
			all = slices.Delete(all, i, i+1)
		case n == 2:
			one := &all[r.IntN(len(all))]
			one.s.Truncate(r.IntN(len(one.tokens) + 1))
			one.tokens = one.tokens[:one.s.Len()]
		case n == 3:
			one := all[r.IntN(len(all))]
			one.s.Mark()
			one.s.KeepAt((one.s.Len()/PageTokens + 1) * PageTokens)
		default:
			one := &all[r.IntN(len(all))]
			more := count(r.IntN(40), int32(r.IntN(4)))
			if one.s.Reserve(len(one.tokens)+len(more)) != nil {
				continue
			}
			add(t, one.s, more...)
			one.tokens = append(one.tokens, more...)
		}
		one := all[max(0, len(all)-1):]
		for _, l := range one {
			holds(t, l.s, l.tokens)
		}
	}
	for _, l := range all {
		holds(t, l.s, l.tokens)
		l.s.Release()
	}
	if u := p.Use(); u.Busy != 0 || u.Kept > u.Limit {
		t.Errorf("%+v", u)
	}
}

// The memory of a pool that nobody holds any more goes back to the system.
func TestAPoolGoesBack(t *testing.T) {
	free := make(chan struct{})
	func() {
		p := NewPool(layers, F16, 1<<20)
		add(t, p.NewSequence(0), count(50, 1)...)
		p.slabs.freed = func() { close(free) }
	}()
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) {
		runtime.GC()
		select {
		case <-free:
			return
		default:
			if time.Now().After(deadline) {
				t.Fatal("it stays")
			}
		}
	}
}
