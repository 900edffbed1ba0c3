package kv

import (
	"unsafe"

	"kindredgate/internal/system"
)

// Pages lie outside of the heap: they hold nothing that the collector has to look at, and would make it wait for as much garbage again before it
// collects any.

// slabBytes is about how much memory is asked of the system at once.
const slabBytes = 4 << 20

// slabs is the memory of a pool's pages. It is given back when nobody holds the pool any more.
type slabs struct {
	list  [][]byte
	freed func() // is told of it, in tests
}

func (s *slabs) free() {
	for _, b := range s.list {
		_ = system.FreeMemory(b) // which was given, so that it can be given back
	}
	if s.freed != nil {
		s.freed()
	}
}

// newPage makes a page. The pool is locked.
func (p *Pool) newPage() *page {
	// Pages of the system are not divided, so that a page can be given back by itself.
	const align = 4096
	stride := (p.store.Bytes() + align - 1) / align * align
	if stride == 0 {
		return &page{}
	}
	if len(p.rest) < stride {
		n := stride * max(1, min(slabBytes/stride, p.limit-p.made))
		b, err := system.Memory(n)
		if err == nil {
			p.slabs.list = append(p.slabs.list, b)
		} else {
			b = make([]byte, n)
		}
		p.rest = b
	}
	one := &page{memory: p.rest[:stride:stride]}
	p.rest = p.rest[stride:]
	return one
}

// Trim gives the memory of pages that nobody uses, and in which nothing is known, back to the system. They are there when they are needed again.
func (p *Pool) Trim() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.free {
		if !one.cold {
			one.cold = true
			system.Discard(one.memory)
		}
	}
	for _, numbers := range p.states {
		system.Discard(unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(numbers))), 4*len(numbers)))
	}
}
