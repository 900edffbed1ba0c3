package tokenizer

import (
	"container/heap"
	"fmt"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"kindredgate/internal/weights"
)

// bpe joins neighbouring symbols, the pair of the lowest rank first, until no pair has one. The symbols at first are
// bytes, or characters.
type bpe struct {
	bytes              [256]int32       // the token of each single byte; -1 if there is none
	symbols            map[string]int32 // tokens of single characters; nil if the symbols are bytes
	unknown            int32
	fuse               bool             // unknown characters in a row are one token
	merges             map[pair]merge   // nil if ranks order them
	texts              []string         // of tokens, for merges that are found by text
	vocab              map[string]int32 // tokens by text, if merges are found by text or whole words are taken as they are
	ranks              []int32          // of tokens, the higher score first; set if merges are found by text
	whole              bool             // a word that is a token is taken as it is
	wordsEndBeforeMark bool             // no token goes on from something else into the mark for a space
}

type pair struct{ left, right int32 }

type merge struct {
	rank   int32
	result int32
}

// spaceMark is how SentencePiece writes a space.
const spaceMark = "▁"

func newBPE(d *weights.Tokenizer) (*bpe, error) {
	b := &bpe{unknown: d.Unknown, fuse: d.FuseUnknown, whole: d.IgnoreMerges}
	for i := range b.bytes {
		b.bytes[i] = -1
	}
	texts := make([]string, len(d.Tokens)) // as merges write them
	for i, s := range d.Tokens {
		if d.Kinds[i] == weights.NormalToken {
			texts[i] = s
		}
	}
	if d.Model == weights.ByteLevelBPE {
		if err := b.readBytes(d, texts); err != nil {
			return nil, err
		}
	} else {
		b.readSymbols(d)
	}
	if d.Merges == nil && d.Scores != nil {
		b.texts, b.ranks = texts, ranked(d.Scores)
	}
	if b.whole || b.ranks != nil {
		b.vocab = make(map[string]int32, len(texts))
		for i, s := range texts {
			if s == "" {
				continue
			}
			if d.Model == weights.ByteLevelBPE {
				s, _ = fromByteAlphabet(s) // readBytes has checked it
			}
			if _, ok := b.vocab[s]; !ok {
				b.vocab[s] = int32(i)
			}
		}
	}
	return b, b.readMerges(d)
}

// readBytes finds the tokens of single bytes, which are written in the byte alphabet.
func (b *bpe) readBytes(d *weights.Tokenizer, texts []string) error {
	for i, s := range texts {
		raw, ok := fromByteAlphabet(s)
		if !ok {
			return fmt.Errorf("token %d, %q, is not written in the byte alphabet", i, s)
		}
		if len(raw) == 1 {
			b.bytes[raw[0]] = int32(i)
		}
	}
	for v, id := range b.bytes {
		if id >= 0 {
			continue
		}
		if b.bytes[v] = d.Unknown; d.Unknown < 0 {
			return fmt.Errorf("there is no token for the byte %#02x, so not every text could be encoded", v)
		}
	}
	return nil
}

// readSymbols finds the tokens of single characters, and those of bytes that stand for characters without one.
func (b *bpe) readSymbols(d *weights.Tokenizer) {
	b.symbols = map[string]int32{}
	b.wordsEndBeforeMark = true
	for i, s := range d.Tokens {
		switch d.Kinds[i] {
		case weights.ByteToken:
			if v, ok := byteToken(s); ok && d.ByteFallback {
				b.bytes[v] = int32(i)
			}
		case weights.NormalToken:
			if utf8.RuneCountInString(s) == 1 {
				b.symbols[s] = int32(i)
			}
			if at := strings.LastIndex(s, spaceMark); at > 0 && !strings.HasSuffix(s[:at], spaceMark) {
				b.wordsEndBeforeMark = false
			}
		}
	}
}

// byteToken reads <0x0A>.
func byteToken(s string) (byte, bool) {
	var v byte
	if _, err := fmt.Sscanf(s, "<0x%02X>", &v); err != nil || len(s) != 6 {
		return 0, false
	}
	return v, true
}

// splitBeforeMark splits where words begin. For a vocabulary without tokens that reach into the next word that changes
// nothing, but that words can be remembered and a long text does not have to be looked at as a whole.
func splitBeforeMark(_ *work, text string, give func(from, to int)) {
	from := 0
	for i := len(spaceMark); i < len(text); i++ {
		if text[i] == spaceMark[0] && strings.HasPrefix(text[i:], spaceMark) && !strings.HasSuffix(text[from:i], spaceMark) {
			give(from, i)
			from = i
		}
	}
	give(from, len(text))
}

// ranked orders tokens by their scores, the highest first; equal scores have one rank.
func ranked(scores []float32) []int32 {
	order := make([]int32, len(scores))
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortStableFunc(order, func(a, b int32) int {
		switch {
		case scores[a] > scores[b]:
			return -1
		case scores[a] < scores[b]:
			return 1
		}
		return 0
	})
	ranks := make([]int32, len(scores))
	rank := int32(0)
	for i, id := range order {
		if i > 0 && scores[id] != scores[order[i-1]] {
			rank++
		}
		ranks[id] = rank
	}
	return ranks
}

func (b *bpe) readMerges(d *weights.Tokenizer) error {
	if b.ranks != nil {
		return nil
	}
	ids := make(map[string]int32, len(d.Tokens))
	for i, s := range d.Tokens {
		if _, dup := ids[s]; !dup && d.Kinds[i] != weights.ControlToken && d.Kinds[i] != weights.UnusedToken {
			ids[s] = int32(i)
		}
	}
	b.merges = make(map[pair]merge, len(d.Merges))
	for rank, m := range d.Merges {
		l, okL := ids[m.Left]
		r, okR := ids[m.Right]
		result, okM := ids[m.Left+strings.TrimPrefix(m.Right, d.Continuation)]
		if !okL || !okR || !okM {
			return fmt.Errorf("merge %d, of %q and %q, does not join two tokens into a third", rank, m.Left, m.Right)
		}
		if _, seen := b.merges[pair{l, r}]; !seen {
			b.merges[pair{l, r}] = merge{rank: int32(rank), result: result}
		}
	}
	return nil
}

// join tells whether two neighbours, which stand for text together, can be merged.
func (b *bpe) join(left, right int32, text string) (merge, bool) {
	if b.ranks == nil {
		m, ok := b.merges[pair{left, right}]
		return m, ok
	}
	id, ok := b.vocab[text]
	if !ok {
		return merge{}, false
	}
	return merge{rank: b.ranks[id], result: id}, true
}

// begin appends the symbols of a word.
func (b *bpe) begin(out []Token, word string) []Token {
	if b.symbols == nil {
		for i := range len(word) {
			out = append(out, Token{ID: b.bytes[word[i]], Start: i, End: i + 1})
		}
		return out
	}
	unknown := false // whether the last symbol was
	for i := 0; i < len(word); {
		_, size := utf8.DecodeRuneInString(word[i:])
		id, ok := b.symbols[word[i:i+size]]
		switch {
		case ok:
			out = append(out, Token{ID: id, Start: i, End: i + size})
			unknown = false
		case b.spelled(word[i : i+size]):
			for k := i; k < i+size; k++ {
				out = append(out, Token{ID: b.bytes[word[k]], Start: k, End: k + 1})
			}
			unknown = false
		case b.unknown < 0:
			// The model has no way to say it.
		case unknown && b.fuse:
			out[len(out)-1].End = i + size
		default:
			out = append(out, Token{ID: b.unknown, Start: i, End: i + size})
			unknown = true
		}
		i += size
	}
	return out
}

// spelled reports whether there is a token for each byte of a character.
func (b *bpe) spelled(char string) bool {
	for i := range len(char) {
		if b.bytes[char[i]] < 0 {
			return false
		}
	}
	return true
}

// shortWord is the number of symbols up to which searching all pairs for the best beats keeping a heap.
const shortWord = 48

// encode appends the tokens of one word. Time is quadratic in words up to shortWord symbols, which nearly
// all are, and n log n beyond, so that a long run without spaces cannot hold the gate up.
func (b *bpe) encode(out []Token, word string) []Token {
	if b.whole {
		if id, ok := b.vocab[word]; ok {
			return append(out, Token{ID: id, End: len(word)})
		}
	}
	first := len(out)
	out = b.begin(out, word)
	if len(out)-first <= shortWord {
		return b.mergeShort(out, first, word)
	}
	return b.mergeLong(out, first, word)
}

// mergeShort merges by searching all pairs for the one with the lowest rank.
func (b *bpe) mergeShort(out []Token, first int, word string) []Token {
	for {
		w := out[first:]
		best, at := merge{rank: -1}, 0
		for i := 1; i < len(w); i++ {
			if m, ok := b.join(w[i-1].ID, w[i].ID, word[w[i-1].Start:w[i].End]); ok && (best.rank < 0 || m.rank < best.rank) {
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

// symbol is a piece of a word during merging, in a doubly linked list.
type symbol struct {
	Token
	prev, next int32 // indices; -1 at the ends
}

// candidate is a pair of neighbours that can be merged.
type candidate struct {
	merge
	left, right     int32 // indices of symbols
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

// mergeLong merges by means of a heap of candidates.
func (b *bpe) mergeLong(out []Token, first int, word string) []Token {
	symbols := make([]symbol, len(out)-first)
	for i, t := range out[first:] {
		symbols[i] = symbol{Token: t, prev: int32(i - 1), next: int32(i + 1)}
	}
	symbols[len(symbols)-1].next = -1
	var q queue
	consider := func(left, right int32) {
		if left < 0 || right < 0 {
			return
		}
		l, r := symbols[left], symbols[right]
		if m, ok := b.join(l.ID, r.ID, word[l.Start:r.End]); ok {
			heap.Push(&q, candidate{merge: m, left: left, right: right, leftID: l.ID, rightID: r.ID})
		}
	}
	for i := 1; i < len(symbols); i++ {
		consider(int32(i-1), int32(i))
	}
	for q.Len() > 0 {
		c := heap.Pop(&q).(candidate)
		l, r := &symbols[c.left], &symbols[c.right]
		if l.ID != c.leftID || r.ID != c.rightID || l.next != c.right {
			continue // one of the two has been merged with another since
		}
		l.ID, l.End, l.next = c.result, r.End, r.next
		r.ID = -1
		if l.next >= 0 {
			symbols[l.next].prev = c.left
		}
		consider(l.prev, c.left)
		consider(c.left, l.next)
	}
	out = out[:first]
	for i := int32(0); i >= 0; i = symbols[i].next {
		out = append(out, symbols[i].Token)
	}
	return out
}

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

// word appends the tokens of one word, from the cache if it is there, with offsets from its beginning.
func (t *Tokenizer) word(out []Token, word string) []Token {
	if len(word) > cachedBytes {
		return t.words.encode(out, word)
	}
	t.cache.mu.RLock()
	known, ok := t.cache.words[word]
	t.cache.mu.RUnlock()
	if !ok {
		known = t.words.encode(nil, word)
		t.cache.mu.Lock()
		if len(t.cache.words) < cachedWords {
			t.cache.words[strings.Clone(word)] = known // not a piece of the text, which would be kept whole
		}
		t.cache.mu.Unlock()
	}
	return append(out, known...)
}
