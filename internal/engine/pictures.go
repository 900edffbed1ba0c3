package engine

import (
	"slices"
	"sync"

	"kindredgate/internal/model"
)

// Pictures in prompts. Contexts are known by their tokens, so each picture has a number of its own that stands for all of its tokens: two pictures
// of one size are different texts.

// mostPictures is how many pictures an engine tells apart. One that is older has another number the next time, and is read again.
const mostPictures = 100_000

// numbers are the numbers of pictures, by what they are: all of them are below 0, and none is given twice.
type numbers struct {
	mu    sync.Mutex
	of    map[string]int32
	order []string
	next  int32
}

// Number is the number that stands in prompts for the tokens of a picture, which key tells from every other one.
func (e *Engine) Number(key string) int32 {
	n := &e.pictures
	n.mu.Lock()
	defer n.mu.Unlock()
	if id, ok := n.of[key]; ok {
		return id
	}
	if n.of == nil {
		n.of, n.next = map[string]int32{}, NoToken-1
	}
	if len(n.order) >= mostPictures {
		delete(n.of, n.order[0])
		n.order = n.order[1:]
	}
	id := n.next
	n.next--
	n.of[key] = id
	n.order = append(n.order, key)
	return id
}

// piece is the part of a picture that the token at a position is of; nil for tokens of text.
func (s *sequence) piece(at int) *model.Piece {
	list := s.job.Pictures
	i, _ := slices.BinarySearchFunc(list, at, func(p model.Piece, at int) int { return p.At + p.N - 1 - at })
	if i < len(list) && at >= list[i].At {
		return &list[i]
	}
	return nil
}

// token is the token of the sequence at a position, drafted ones behind its text included.
func (s *sequence) token(m *model.Model, at int, id int32) model.Token {
	t := model.Token{ID: id, KV: s.kv}
	list := s.job.Pictures
	if len(list) == 0 {
		return t
	}
	i, _ := slices.BinarySearchFunc(list, at, func(p model.Piece, at int) int { return p.At + p.N - 1 - at })
	switch {
	case i == len(list):
		t.Saved = int32(s.job.Saved)
	case at >= list[i].At:
		m.Fill(&t, &list[i], at)
	default:
		t.Saved = int32(list[i].Saved)
	}
	return t
}

// uncut is how many of the next n tokens a step may read so that no picture is cut that the network has to see as a whole: fewer, up to where one
// begins, or more, to where the first one ends.
func (s *sequence) uncut(m *model.Model, n int) int {
	if !m.Whole || n == 0 {
		return n
	}
	from := s.kv.Len()
	p := s.piece(from + n)
	switch {
	case p == nil || p.At == from+n:
		return n
	case p.At > from:
		return p.At - from
	}
	return p.At + p.N - from
}
