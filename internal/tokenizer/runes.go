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
	pages [(unicode.MaxRune + 1) >> 8]atomic.Pointer[[4]uint64]
}

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

func (s *runeSet) has(r rune) bool {
	if r < 0 || r > unicode.MaxRune {
		return s.test(-1)
	}
	page := s.pages[r>>8].Load()
	if page == nil {
		page = new([4]uint64)
		for low := range rune(256) {
			if s.test(r&^255 | low) {
				page[low>>6] |= 1 << (low & 63)
			}
		}
		s.pages[r>>8].Store(page)
	}
	return page[r>>6&3]&(1<<(r&63)) != 0
}
