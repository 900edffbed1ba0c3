package tensor

import (
	"fmt"
	"testing"
)

// BenchmarkAttention is what a block of queries does with a page, by the size of a head: the products with the keys, the softmax, and
// the sums of values.
func BenchmarkAttention(b *testing.B) {
	const queries = 24
	for _, dims := range []int{64, 128} {
		q, keys, values := random(queries*dims, 1), random(PageTokens*dims, 2), random(PageTokens*dims, 3)
		scores, out := make([]float32, queries*PageTokens), make([]float32, queries*dims)
		peaks, totals, shrinks := make([]float32, queries), make([]float32, queries), make([]float32, queries)
		ranges := make([][2]int32, queries)
		for i := range ranges {
			ranges[i][1] = PageTokens
		}
		products := func(b *testing.B) {
			b.ReportMetric(2*float64(queries*PageTokens*dims)*float64(b.N)/b.Elapsed().Seconds()/1e9, "GFLOP/s")
		}
		b.Run(fmt.Sprintf("scores/%d", dims), func(b *testing.B) {
			for b.Loop() {
				Scores(scores, q, dims, queries, dims, keys)
			}
			products(b)
		})
		b.Run(fmt.Sprintf("soften/%d", dims), func(b *testing.B) {
			for b.Loop() {
				Soften(scores, 0.125, ranges, peaks, totals, shrinks)
			}
		})
		b.Run(fmt.Sprintf("mix/%d", dims), func(b *testing.B) {
			for b.Loop() {
				Mix(out, shrinks, dims, scores, values, 0, PageTokens)
			}
			products(b)
		})
	}
}
