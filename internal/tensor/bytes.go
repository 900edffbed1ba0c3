package tensor

import (
	"math"
	"unsafe"
)

// ByteQueries are queries of attention that are rounded to bytes, for keys that are kept as bytes. Each Block elements have a scale: the
// largest magnitude / 127.
type ByteQueries struct {
	q     []int8
	scale []float32 // of each block
	start []int32   // −128 times the sum of each block, for processors that multiply unsigned bytes with signed ones
}

// byteScoresKernel multiplies some number of queries, qs bytes apart, with 32 keys. Their scales and starts lie ss bytes apart.
type byteScoresKernel struct {
	queries int
	run     func(out *float32, q *int8, qs int, scale *float32, start *int32, ss int, keys *int8, scales *byte, blocks int)
}

// roundMagic is 3·2²²: adding it rounds a small number to an integer, halves to the even one.
const roundMagic = 3 << 22

// Round takes queries, whose elements are a multiple of Block. What is no number makes the scores of its query none.
func (b *ByteQueries) Round(x []float32) {
	if len(b.q) < len(x) {
		b.q, b.scale, b.start = make([]int8, len(x)), make([]float32, len(x)/Block), make([]int32, len(x)/Block)
	}
	for i := range len(x) / Block {
		x, q := (*[Block]float32)(x[i*Block:]), (*[Block]int8)(b.q[i*Block:])
		// By their bits, of which those of what is no number are beyond all others'; two at a time, which do not wait for each other.
		var even, odd uint32
		for j := 0; j < Block; j += 2 {
			even, odd = max(even, math.Float32bits(x[j])<<1), max(odd, math.Float32bits(x[j+1])<<1)
		}
		largest := math.Float32frombits(max(even, odd) >> 1)
		b.scale[i] = largest / 127
		inverse := 127 / largest
		if !(inverse > 0 && inverse < math.MaxFloat32) { // all are 0, or nearly so, or some are no numbers
			clear(q[:])
			b.start[i] = 0
			continue
		}
		var sum uint32
		for j, v := range x {
			bits := math.Float32bits(float32(v*inverse) + roundMagic)
			q[j] = int8(bits)
			sum += bits
		}
		b.start[i] = -128 * int32(sum-Block*0x4b400000&(1<<32-1))
	}
}

// ByteScores gives the products of queries, the first of which is number from, with PageTokens keys that are bytes, [dims/4][PageTokens][4], and that
// have half floats as scales, [dims/Block][PageTokens]. out is [queries][PageTokens].
func ByteScores(out []float32, b *ByteQueries, from, queries, dims int, keys []int8, scales []uint16) {
	blocks := dims / Block
	keys, scales = keys[:dims*PageTokens], scales[:blocks*PageTokens]
	i := 0
	if inUse != nil {
		for _, k := range inUse.byteScores {
			for ; i+k.queries <= queries; i += k.queries {
				at := from + i
				k.run(&out[PageTokens*i], &b.q[at*dims], dims, &b.scale[at*blocks], &b.start[at*blocks], 4*blocks, &keys[0], (*byte)(unsafe.Pointer(&scales[0])), blocks)
			}
		}
	}
	for ; i < queries; i++ {
		at := from + i
		for t := range PageTokens {
			score := float32(0)
			for block := range blocks {
				var sum int32
				for g := range Block / 4 {
					k, q := keys[((block*Block/4+g)*PageTokens+t)*4:][:4], b.q[at*dims+block*Block+4*g:][:4]
					for j := range 4 {
						sum += int32(k[j]) * int32(q[j])
					}
				}
				score = fused(float32(float32(sum)*Float16(scales[block*PageTokens+t])), b.scale[at*blocks+block], score)
			}
			out[PageTokens*i+t] = score
		}
	}
}
