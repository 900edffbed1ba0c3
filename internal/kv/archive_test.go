package kv

import (
	stdbytes "bytes" // bytes is a store here
	"encoding/binary"
	"errors"
	"hash/crc32"
	"slices"
	"testing"
)

// archive writes what a pool has in common.
func archive(t testing.TB, p *Pool, most int64) []byte {
	t.Helper()
	a := p.NewArchive(most)
	var b stdbytes.Buffer
	if err := a.Write(&b); err != nil {
		t.Fatal(err)
	}
	if int64(b.Len()) != a.Bytes {
		t.Errorf("the archive has %d bytes, said were %d", b.Len(), a.Bytes)
	}
	return b.Bytes()
}

// filled is a pool in which two contexts had instructions of three pages in common, and one stands alone.
func filled(t testing.TB, shape Shape) (p *Pool, common []int32) {
	p = NewPool(shape, F16, 1<<20)
	common = count(3*PageTokens, 5)
	for _, rest := range [][]int32{count(40, 900), count(70, 1900)} {
		s := p.NewSequence(0)
		s.Match(slices.Concat(common, rest))
		if s.Len() == 0 {
			s.KeepAt(3 * PageTokens)
		}
		all := slices.Concat(common, rest)
		add(t, s, all[s.Len():]...)
		s.Release()
	}
	alone := p.NewSequence(0)
	add(t, alone, count(2*PageTokens, 3000)...)
	alone.Release()
	return p, common
}

// What contexts had in common is found in another pool, with keys, values and states; what only one has read is not written.
func TestArchive(t *testing.T) {
	for name, shape := range map[string]Shape{"keys and values": layers, "states": carried} {
		t.Run(name, func(t *testing.T) {
			p, common := filled(t, shape)
			if p.Shared() != 3 {
				t.Errorf("%d pages are shared, want 3", p.Shared())
			}
			b := archive(t, p, 1<<20)
			q := NewPool(shape, F16, 1<<20)
			n, err := q.Restore(stdbytes.NewReader(b))
			if n != 3 || err != nil {
				t.Fatalf("%d pages, %v; want 3", n, err)
			}
			s := q.NewSequence(0)
			if got := s.Match(slices.Concat(common, count(9, 70))); got != len(common) {
				t.Fatalf("%d tokens are known, want %d", got, len(common))
			}
			holds(t, s, common)
			s.Release()
			for _, unknown := range [][]int32{count(2*PageTokens, 3000), slices.Concat(common, count(40, 900))} {
				s := q.NewSequence(0)
				if got := s.Match(unknown); got > len(common) || got > 0 && unknown[0] == 3000 {
					t.Errorf("%d tokens of what one context read are known", got)
				}
				s.Release()
			}
			other := q.NewSequence(1)
			if got := other.Match(common); got != 0 {
				t.Errorf("a context of another variant knows %d tokens", got)
			}
			// It can be archived again, and what does not fit is left out from the end of contexts.
			if again := archive(t, q, 1<<20); !stdbytes.Equal(again, b) {
				t.Error("archived again it is something else")
			}
			if a := p.NewArchive(int64(len(b)) - 1); a.Pages() != 2 {
				t.Errorf("%d pages are written where there is no room for three", a.Pages())
			}
		})
	}
}

// Pages that were taken for something else meanwhile are left out; pictures, whose numbers change, are never written.
func TestArchiveOfWhatIsGone(t *testing.T) {
	p, _ := filled(t, layers)
	a := p.NewArchive(1 << 20)
	p.mu.Lock()
	p.forget(a.pages[1].page)
	p.mu.Unlock()
	var b stdbytes.Buffer
	if err := a.Write(&b); err != nil {
		t.Fatal(err)
	}
	if n, err := NewPool(layers, F16, 1<<20).Restore(&b); n != 1 || err != nil {
		t.Errorf("%d pages, %v; want the one before that is gone", n, err)
	}
	p = NewPool(layers, F16, 1<<20)
	picture := append(count(PageTokens, 7), slices.Repeat([]int32{-2}, PageTokens)...)
	for range 2 {
		s := p.NewSequence(0)
		n := s.Match(picture)
		add(t, s, picture[n:]...)
		s.Release()
	}
	if a := p.NewArchive(1 << 20); a.Pages() != 1 {
		t.Errorf("%d pages of a text and a picture are written, want 1", a.Pages())
	}
}

// Whatever a file holds, what comes before damage is known, and nothing else is.
func TestDamagedArchive(t *testing.T) {
	p, common := filled(t, carried)
	whole := archive(t, p, 1<<20)
	head := len(p.head())
	try := func(name string, b []byte, want int) {
		q := NewPool(carried, F16, 1<<20)
		n, err := q.Restore(stdbytes.NewReader(b))
		if n != want || !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %d pages, %v; want %d and damage", name, n, err, want)
		}
		s := q.NewSequence(0)
		if got := s.Match(common); got > want*PageTokens {
			t.Errorf("%s: %d tokens are known", name, got)
		}
		s.Release()
	}
	record := int(p.recordBytes(false))
	for _, parent := range []uint32{1, 7, 1 << 31} { // whole, but of a page that is not there
		b := slices.Clone(whole[:head+record])
		binary.LittleEndian.PutUint32(b[head:], parent)
		binary.LittleEndian.PutUint32(b[head+record-4:], crc32.Checksum(b[head:head+record-4], polynomial))
		try("another parent", b, 0)
	}
	try("nothing", nil, 0)
	try("another model", archive(t, must(filled(t, layers)), 1<<20), 0)
	try("cut short", whole[:len(whole)-1], 2)
	for _, at := range []int{head, head + 20, head + record/2, head + record - 1} {
		for page := range 2 {
			b := slices.Clone(whole)
			b[at+page*record] ^= 1
			try("a bit is wrong", b, page)
		}
	}
}

func must(p *Pool, _ []int32) *Pool { return p }

// Nothing that a file holds makes the pool panic, or know what was not written.
func FuzzRestore(f *testing.F) {
	p, _ := filled(f, carried)
	f.Add(archive(f, p, 1<<20))
	f.Add(p.head())
	f.Fuzz(func(t *testing.T, b []byte) {
		q := NewPool(carried, F16, 1<<18)
		n, err := q.Restore(stdbytes.NewReader(b))
		if err != nil && !errors.Is(err, ErrDamaged) {
			t.Error(err)
		}
		if u := q.Use(); u.Busy != 0 || n > u.Limit {
			t.Errorf("%d pages, %+v", n, u)
		}
	})
}

// BenchmarkRestore is 4,000 tokens of the 1b shape, which takes a second or more a thousand to be read anew.
func BenchmarkRestore(b *testing.B) {
	shape := Shape{Layers: slices.Repeat([]Layer{{KVHeads: 8, KeyDim: 64, ValueDim: 64}}, 16)}
	p := NewPool(shape, F16, 1<<28)
	all := count(125*PageTokens, 5)
	for range 2 {
		s := p.NewSequence(0)
		n := s.Match(all)
		if err := s.Reserve(len(all)); err != nil {
			b.Fatal(err)
		}
		for _, t := range all[n:] {
			s.Append(t)
		}
		s.Commit()
		s.Release()
	}
	archived := archive(b, p, 1<<30)
	b.SetBytes(int64(len(archived)))
	for b.Loop() {
		q := NewPool(shape, F16, 1<<28)
		if n, err := q.Restore(stdbytes.NewReader(archived)); n != 125 || err != nil {
			b.Fatal(n, err)
		}
	}
}
