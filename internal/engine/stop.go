package engine

import "strings"

// stopper cuts text off before the first stop string and holds back what could be the beginning of one.
type stopper struct {
	strings []string
	held    string
}

// add takes more text and returns what can be given out. stopped says that a stop string was reached;
// nothing may be added after that.
func (s *stopper) add(text string) (out string, stopped bool) {
	if len(s.strings) == 0 {
		return text, false
	}
	s.held += text
	first := -1
	for _, stop := range s.strings {
		if i := strings.Index(s.held, stop); i >= 0 && (first < 0 || i < first) {
			first = i
		}
	}
	if first >= 0 {
		return s.held[:first], true
	}
	keep := 0 // length of the longest end of held that a stop string begins with
	for _, stop := range s.strings {
		for n := min(len(stop)-1, len(s.held)); n > keep; n-- {
			if strings.HasSuffix(s.held, stop[:n]) {
				keep = n
				break
			}
		}
	}
	out = s.held[:len(s.held)-keep]
	s.held = s.held[len(s.held)-keep:]
	return out, false
}

// flush returns what was held back, when no more text comes.
func (s *stopper) flush() string {
	rest := s.held
	s.held = ""
	return rest
}
