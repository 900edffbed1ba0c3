package tokenizer

import (
	"container/heap"
	"strings"
	"sync"
)

// symbol is a piece of a word during merging, in a doubly linked list.
type symbol struct {
	id         int32
	start, end int // bytes of the word
	prev, next int // indices; -1 at the ends
}

// candidate is a pair of neighbours that can be merged.
type candidate struct {
	merge
	left, right     int // indices of symbols
	leftID, rightID int32
}

// queue orders candidates by rank, then from left to right.
type queue []candidate

func (q queue) Len() int { return len(q) }
func (q queue) Less(i, j int) bool {
	return q[i].rank < q[j].rank || q[i].rank == q[j].rank && q[i].left < q[j].left
}
func (q queue) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)   { *q = append(*q, x.(candidate)) }
func (q *queue) Pop() any {
	old := *q
	last := old[len(old)-1]
	*q = old[:len(old)-1]
	return last
}

// shortWord is the length in bytes up to which searching all pairs for the best beats keeping a heap.
const shortWord = 48

// wordCache keeps the tokens of words that were seen, since texts are mostly made of the same words. It only grows,
// up to a bound; what comes after that is computed each time.
type wordCache struct {
	mu    sync.RWMutex
	words map[string][]Token // with offsets from the beginning of the word
}

// Bounds of a cache: some MB at the most.
const (
	cachedWords = 1 << 15
	cachedBytes = 32 // of a word
)

// word appends the tokens of one word, from the cache if it is there.
func (t *Tokenizer) word(out []Token, word string, offset int) []Token {
	if len(word) > cachedBytes {
		return t.encodeWord(out, word, offset)
	}
	t.cache.mu.RLock()
	known, ok := t.cache.words[word]
	t.cache.mu.RUnlock()
	if !ok {
		known = t.encodeWord(nil, word, 0)
		t.cache.mu.Lock()
		if len(t.cache.words) < cachedWords {
			t.cache.words[strings.Clone(word)] = known // not a piece of the text, which would be kept whole
		}
		t.cache.mu.Unlock()
	}
	for _, token := range known {
		out = append(out, Token{ID: token.ID, Start: offset + token.Start, End: offset + token.End})
	}
	return out
}

// encodeWord appends the tokens of one word. Time is quadratic in words up to shortWord bytes, which nearly
// all are, and n log n beyond, so that a long run without spaces cannot hold the gate up.
func (t *Tokenizer) encodeWord(out []Token, word string, offset int) []Token {
	if len(word) <= shortWord {
		return t.encodeShort(out, word, offset)
	}
	return t.encodeLong(out, word, offset)
}

// encodeLong merges by means of a heap of candidates.
func (t *Tokenizer) encodeLong(out []Token, word string, offset int) []Token {
	symbols := make([]symbol, len(word))
	for i := range symbols {
		symbols[i] = symbol{id: t.bytes[word[i]], start: i, end: i + 1, prev: i - 1, next: i + 1}
	}
	symbols[len(symbols)-1].next = -1
	var q queue
	consider := func(left, right int) {
		if left < 0 || right < 0 {
			return
		}
		l, r := symbols[left].id, symbols[right].id
		if m, ok := t.merges[pair{l, r}]; ok {
			heap.Push(&q, candidate{merge: m, left: left, right: right, leftID: l, rightID: r})
		}
	}
	for i := 1; i < len(symbols); i++ {
		consider(i-1, i)
	}
	for q.Len() > 0 {
		c := heap.Pop(&q).(candidate)
		l, r := &symbols[c.left], &symbols[c.right]
		if l.id != c.leftID || r.id != c.rightID || l.next != c.right {
			continue // one of the two has been merged with another since
		}
		l.id, l.end, l.next = c.result, r.end, r.next
		r.id = -1
		if l.next >= 0 {
			symbols[l.next].prev = c.left
		}
		consider(l.prev, c.left)
		consider(c.left, l.next)
	}
	for i := 0; i >= 0; i = symbols[i].next {
		out = append(out, Token{ID: symbols[i].id, Start: offset + symbols[i].start, End: offset + symbols[i].end})
	}
	return out
}

// encodeShort merges by searching all pairs for the one with the lowest rank.
func (t *Tokenizer) encodeShort(out []Token, word string, offset int) []Token {
	first := len(out)
	for i := range len(word) {
		out = append(out, Token{ID: t.bytes[word[i]], Start: offset + i, End: offset + i + 1})
	}
	for {
		w := out[first:]
		best, at := merge{rank: -1}, 0
		for i := 1; i < len(w); i++ {
			if m, ok := t.merges[pair{w[i-1].ID, w[i].ID}]; ok && (best.rank < 0 || m.rank < best.rank) {
				best, at = m, i
			}
		}
		if best.rank < 0 {
			return out
		}
		w[at-1].ID, w[at-1].End = best.result, w[at].End
		out = append(out[:first+at], w[at+1:]...)
	}
}
