package kv

import (
	"errors"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"
	"time"
)

var layers = []Layer{{KVHeads: 2, HeadDim: 4}, {KVHeads: 1, HeadDim: 6}}

// value is what the tests put for a token at a position: something that no other token has.
func value(token int32, pos, layer, i int) float32 {
	return float32(token)/8 + float32(pos)/256 + float32(layer*16+i)
}

// add appends tokens and puts their keys and values.
func add(t testing.TB, s *Sequence, tokens ...int32) {
	t.Helper()
	if err := s.Reserve(s.Len() + len(tokens)); err != nil {
		t.Fatal(err)
	}
	for _, token := range tokens {
		pos := s.Append(token)
		for l, shape := range layers {
			key, val := make([]float32, shape.KVHeads*shape.HeadDim), make([]float32, shape.KVHeads*shape.HeadDim)
			for i := range key {
				key[i], val[i] = value(token, pos, l, i), -value(token, pos, l, i)
			}
			s.Put(l, pos, key, val)
		}
	}
	s.Commit()
}

// holds checks that a sequence has the keys and values of tokens.
func holds(t testing.TB, s *Sequence, tokens []int32) {
	t.Helper()
	if s.Len() != len(tokens) {
		t.Fatalf("it holds %d positions, want %d", s.Len(), len(tokens))
	}
	off := 0.02
	if s.pool.format == Q8 {
		off = 42.0/254 + 0.02 // half a step of the largest
	}
	for l, shape := range layers {
		for head := range shape.KVHeads {
			keys, values := make([]float32, shape.HeadDim*PageTokens), make([]float32, shape.HeadDim*PageTokens)
			for pos, token := range tokens {
				k, v := s.Page(pos/PageTokens, l, head, keys, values)
				for d := range shape.HeadDim {
					want := value(token, pos, l, head*shape.HeadDim+d)
					slot := pos % PageTokens
					if gotK, gotV := k[d*PageTokens+slot], v[slot*shape.HeadDim+d]; math.Abs(float64(gotK-want)) > off || math.Abs(float64(gotV+want)) > off {
						t.Fatalf("position %d, layer %d, head %d: key %g, value %g, want ±%g", pos, l, head, gotK, gotV, want)
					}
				}
			}
		}
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
	if got := NewPool(layers, F16, 0).PageBytes(); got != 2*(2*8+2*6)*PageTokens {
		t.Errorf("a page takes %d bytes", got)
	}
}

// Bytes have a scale for each 32 dimensions of each position, so that a large number costs its neighbours no more than half a
// step.
func TestBytesHaveTheirScales(t *testing.T) {
	for _, shape := range []Layer{{KVHeads: 2, HeadDim: 64}, {KVHeads: 1, HeadDim: 48}, {KVHeads: 1, HeadDim: 320}} {
		p := NewPool([]Layer{{KVHeads: 1, HeadDim: 32}, shape}, Q8, 1<<24)
		s := p.NewSequence(0)
		const n = 40
		if err := s.Reserve(n); err != nil {
			t.Fatal(err)
		}
		random := rand.New(rand.NewPCG(1, 2))
		width := shape.KVHeads * shape.HeadDim
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
		f, err := s.Fork()
		if err != nil {
			t.Fatal(err)
		}
		block := 32
		if shape.HeadDim%32 != 0 {
			block = shape.HeadDim
		}
		size := shape.HeadDim * PageTokens
		for pos, want := range put {
			for head := range shape.KVHeads {
				k, v := f.Page(pos/PageTokens, 1, head, make([]float32, size), make([]float32, size))
				for b := 0; b < shape.HeadDim; b += block {
					for which, of := range want {
						of = of[head*shape.HeadDim+b:][:block]
						largest := float64(max(slices.Max(of), -slices.Min(of)))
						for i, x := range of {
							got := k[(b+i)*PageTokens+pos%PageTokens]
							if which == 1 {
								got = v[pos%PageTokens*shape.HeadDim+b+i]
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
	if half, bytes := NewPool([]Layer{{KVHeads: 8, HeadDim: 64}}, F16, 0).PageBytes(), NewPool([]Layer{{KVHeads: 8, HeadDim: 64}}, Q8, 0).PageBytes(); bytes*16 != half*17/2 {
		t.Errorf("pages of bytes take %d, of half floats %d", bytes, half)
	}
}

// What is too large for half precision becomes the largest number, not infinity.
func TestSaturation(t *testing.T) {
	p := NewPool([]Layer{{1, 1}}, F16, 1<<20)
	s := p.NewSequence(0)
	if err := s.Reserve(1); err != nil {
		t.Fatal(err)
	}
	s.Append(1)
	s.Put(0, 0, []float32{1e9}, []float32{-1e9})
	k, v := s.Page(0, 0, 0, make([]float32, PageTokens), make([]float32, PageTokens))
	if k[0] != 65504 || v[0] != -65504 {
		t.Errorf("key %g, value %g", k[0], v[0])
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

func TestForkAndTruncate(t *testing.T) {
	p := NewPool(layers, F16, 1<<20)
	a := p.NewSequence(0)
	tokens := count(50, 1)
	add(t, a, tokens...)
	b, err := a.Fork()
	if err != nil {
		t.Fatal(err)
	}
	add(t, a, 100, 101)
	add(t, b, 200)
	holds(t, a, append(slices.Clone(tokens), 100, 101))
	holds(t, b, append(slices.Clone(tokens), 200))
	// Back into a page that both share: what a writes there must not show in b.
	a.Truncate(20)
	add(t, a, count(30, 300)...)
	holds(t, a, append(slices.Clone(tokens[:20]), count(30, 300)...))
	holds(t, b, append(slices.Clone(tokens), 200))
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
	r := rand.New(rand.NewPCG(3, 4))
	p := NewPool(layers, F32, 40*NewPool(layers, F32, 0).PageBytes())
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
			if f, err := one.s.Fork(); err == nil {
				all = append(all, live{f, slices.Clone(one.tokens)})
			}
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
