package tokenizer

import (
	"sync/atomic"
	"unicode"
	"unicode/utf8"
)

// runeSet is a set of characters. What is asked is kept, 256 characters at a time, since the tables of Unicode take long
// to search.
type runeSet struct {
	ascii [2]uint64
	test  func(rune) bool
	quick bool // the test takes no longer than a look at what is kept
	pages atomic.Pointer[runePages]
}

// runePages are the answers that are kept: of each page of 256 characters that was asked for, a bit for each.
type runePages [(unicode.MaxRune + 1) >> 8]atomic.Pointer[[4]uint64]

// newSet makes the set of characters that pass a test. The test is also given -1, for bytes that are no character.
func newSet(test func(rune) bool) *runeSet {
	s := &runeSet{test: test}
	for r := range rune(utf8.RuneSelf) {
		if test(r) {
			s.ascii[r>>6] |= 1 << (r & 63)
		}
	}
	return s
}

// newQuickSet is newSet for a test of one character or so, whose answers are not worth keeping.
func newQuickSet(test func(rune) bool) *runeSet {
	s := newSet(test)
	s.quick = true
	return s
}

func (s *runeSet) has(r rune) bool {
	in, _ := s.look(r)
	return in
}

// look reports whether the set has a character, and whether a page had to be made for that.
func (s *runeSet) look(r rune) (in, made bool) {
	if r < 0 || r > unicode.MaxRune {
		return s.test(-1), false
	}
	if s.quick {
		return s.test(r), false
	}
	pages := s.pages.Load()
	if pages == nil {
		pages = new(runePages)
		if !s.pages.CompareAndSwap(nil, pages) {
			pages = s.pages.Load()
		}
	}
	page := pages[r>>8].Load()
	if page == nil {
		made = true
		page = new([4]uint64)
		for low := range rune(256) {
			if s.test(r&^255 | low) {
				page[low>>6] |= 1 << (low & 63)
			}
		}
		pages[r>>8].Store(page)
	}
	return page[r>>6&3]&(1<<(r&63)) != 0, made
}
