package tensor

import (
	"math"
	"testing"
)

// Scores of queries and keys that are bytes are near those of what they were rounded from; queries of zeros, and of what is no number, give zeros, and what is
// no number.
func TestByteScores(t *testing.T) {
	const dims, queries = 96, 5
	q := random(queries*dims, 1)
	clear(q[dims : 2*dims])
	q[2*dims+40] = float32(math.NaN())
	q[3*dims+1] = float32(math.Inf(-1))
	keys, scales := make([]int8, dims*PageTokens), make([]uint16, dims/Block*PageTokens)
	key := make([][]float32, PageTokens)
	for p := range key {
		x := random(dims, uint64(p+9))
		for b := range dims / Block {
			var k [Block]int8
			scales[b*PageTokens+p] = RoundBytes(k[:], x[b*Block:][:Block])
			for d, v := range k {
				keys[((b*Block+d)/4*PageTokens+p)*4+d%4] = v
			}
		}
		key[p] = x
	}
	var b ByteQueries
	b.Round(random(3*queries*dims, 2)) // what it has from before does not matter
	b.Round(q)
	out := make([]float32, queries*PageTokens)
	ByteScores(out, &b, 0, queries, dims, keys, scales)
	for i := range queries {
		for p, x := range key {
			want := 0.0
			for d, v := range x {
				want += float64(v) * float64(q[i*dims+d])
			}
			switch got := float64(out[i*PageTokens+p]); {
			case i == 1 && got != 0, i >= 2 && i <= 3 && got-got == 0:
				t.Errorf("query %d, key %d: %g", i, p, got)
			case (i == 0 || i == 4) && math.Abs(got-want) > 0.35: // of a spread of ten or so
				t.Errorf("query %d, key %d: %g, want %g", i, p, got, want)
			}
		}
	}
}
