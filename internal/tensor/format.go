package tensor

import (
	"encoding/binary"
	"math"
	"sync"
	"unsafe"

	"kindredgate/internal/weights"
)

// Format says what the blocks of a storage type hold, and how they are multiplied and made.
type Format struct {
	// unpack takes the blocks of a row apart into integers with scales; nil for formats of floats.
	unpack func(u *unpacked, row, scales []byte)
	// expand gives the exact float32 values of a row.
	expand func(dst []float32, row, scales []byte)
	// group is how many elements share a scale; 0 for formats of floats.
	group int
	// shifted says that what unpack gives has minimums too.
	shifted bool
	// quantize rounds a row to blocks; nil if that cannot be done.
	quantize func(dst []byte, src []float32)
}

// unpacked is a row of integer weights: element i is scale[i/group]·q[i] − low[i/group].
type unpacked struct {
	q     []int8
	scale []float32
	low   []float32
}

func (u *unpacked) resize(cols, group int) {
	if cap(u.q) < cols || cap(u.scale) < cols/group {
		u.q, u.scale, u.low = make([]int8, cols), make([]float32, cols/16+1), make([]float32, cols/16+1)
	}
	u.q, u.scale, u.low = u.q[:cols], u.scale[:cols/group], u.low[:cols/group]
}

// spare is memory for rows that are expanded one at a time.
var spare = sync.Pool{New: func() any { return new(unpacked) }}

// FormatOf is the format of a storage type.
func FormatOf(t weights.Type) *Format { return &formats[t] }

// Integer reports whether activations are rounded to bytes for products in the format.
func (f *Format) Integer() bool { return f.group > 0 }

// Writable reports whether Quantize can make rows of the format.
func (f *Format) Writable() bool { return f.quantize != nil }

// Quantize rounds a row to whole blocks in dst.
func (f *Format) Quantize(dst []byte, src []float32) { f.quantize(dst, src) }

var formats = [weights.Types]Format{
	weights.F32:    {expand: func(dst []float32, row, _ []byte) { copy(dst, asFloat32(row, dst)) }, quantize: writeF32},
	weights.F16:    {expand: expandF16, quantize: writeF16},
	weights.BF16:   {expand: expandBF16, quantize: writeBF16},
	weights.F8:     {expand: expandF8},
	weights.Q8_0:   integer(32, false, unpackQ8_0, quantizeQ8_0),
	weights.Q4_0:   integer(32, false, unpackQ4_0, quantizeQ4_0),
	weights.Q4_1:   integer(32, true, unpackQ4_1, quantizeQ4_1),
	weights.Q5_0:   integer(32, false, unpackQ5_0, quantizeQ5_0),
	weights.Q5_1:   integer(32, true, unpackQ5_1, quantizeQ5_1),
	weights.Q2_K:   integer(16, true, unpackQ2_K, quantizeQ2_K),
	weights.Q3_K:   integer(16, false, unpackQ3_K, quantizeQ3_K),
	weights.Q4_K:   integer(32, true, unpackQ4_K, quantizeQ4_K),
	weights.Q5_K:   integer(32, true, unpackQ5_K, quantizeQ5_K),
	weights.Q6_K:   integer(16, false, unpackQ6_K, quantizeQ6_K),
	weights.IQ4_NL: integer(32, false, unpackIQ4_NL, quantizeIQ4_NL),
	weights.IQ4_XS: integer(32, false, unpackIQ4_XS, nil),
	weights.MXFP4:  withExpand(integer(32, false, unpackMXFP4, quantizeMXFP4), expandMXFP4),
	weights.MXFP4Split: withExpand(integer(32, false, unpackMXFP4Split, nil), func(dst []float32, row, scales []byte) {
		for b := range scales {
			expandFP4(dst[32*b:32*b+32], row[16*b:16*b+16], scales[b], 2, 1)
		}
	}),
}

// integer is a format of integers. Its exact values are its integers times their scales, less their minimums, each
// operation rounded to float32 in that order.
func integer(group int, shifted bool, unpack func(*unpacked, []byte, []byte), quantize func([]byte, []float32)) Format {
	return Format{group: group, shifted: shifted, unpack: unpack, quantize: quantize, expand: func(dst []float32, row, scales []byte) {
		u := spare.Get().(*unpacked)
		defer spare.Put(u)
		u.resize(len(dst), group)
		unpack(u, row, scales)
		for i := range dst {
			dst[i] = float32(u.scale[i/group] * float32(u.q[i])) // converted, or some processors join it with what follows
			if shifted {
				dst[i] -= u.low[i/group]
			}
		}
	}}
}

func withExpand(f Format, expand func([]float32, []byte, []byte)) Format {
	f.expand = expand
	return f
}

func half(b []byte) float32 { return Float16(binary.LittleEndian.Uint16(b)) }

func expandF16(dst []float32, row, _ []byte) {
	row = row[:2*len(dst)]
	for i := range dst {
		dst[i] = Float16(binary.LittleEndian.Uint16(row[2*i:]))
	}
}

func expandBF16(dst []float32, row, _ []byte) {
	row = row[:2*len(dst)]
	for i := range dst {
		dst[i] = BFloat16(binary.LittleEndian.Uint16(row[2*i:]))
	}
}

// fromF8 are the numbers that bytes of four bits of exponent and three of mantissa stand for.
var fromF8 = func() (list [256]float32) {
	for i := range list {
		exponent, mantissa := i>>3&15, float64(i&7)
		x := math.Ldexp(8+mantissa, exponent-10)
		switch {
		case i&127 == 127:
			x = math.NaN()
		case exponent == 0:
			x = math.Ldexp(mantissa, -9)
		}
		if i > 127 {
			x = -x
		}
		list[i] = float32(x)
	}
	return list
}()

// F8: bytes, and a float32 for 128 of them.
func expandF8(dst []float32, row, scales []byte) {
	const size = 128
	for b := 0; b*size < len(dst); b++ {
		scale := math.Float32frombits(binary.LittleEndian.Uint32(scales[4*b:]))
		to, from := dst[b*size:min(len(dst), (b+1)*size)], row[b*size:]
		for i := range to {
			to[i] = fromF8[from[i]] * scale
		}
	}
}

// Q8_0: a half d and 32 signed bytes q; d·q.
func unpackQ8_0(u *unpacked, row, _ []byte) {
	for b := range u.scale {
		block := row[34*b : 34*b+34]
		u.scale[b] = half(block)
		copy(u.q[32*b:32*b+32], signed(block[2:]))
	}
}

// signed reads bytes as signed ones.
func signed(b []byte) []int8 {
	return unsafe.Slice((*int8)(unsafe.Pointer(unsafe.SliceData(b))), len(b))
}

// nibbles takes 16 bytes apart: element j is the low half of byte j, element j + 16 its high half.
func nibbles(q []int8, packed []byte, less int8) {
	low, high := q[:16], q[16:32]
	for j, v := range packed[:16] {
		low[j], high[j] = int8(v&15)-less, int8(v>>4)-less
	}
}

// Q4_0: a half d and 32 nibbles q; d·(q−8).
func unpackQ4_0(u *unpacked, row, _ []byte) {
	for b := range u.scale {
		block := row[18*b : 18*b+18]
		u.scale[b] = half(block)
		nibbles(u.q[32*b:], block[2:], 8)
	}
}

// Q4_1: halves d and m and 32 nibbles q; d·q + m.
func unpackQ4_1(u *unpacked, row, _ []byte) {
	for b := range u.scale {
		block := row[20*b : 20*b+20]
		u.scale[b], u.low[b] = half(block), -half(block[2:])
		nibbles(u.q[32*b:], block[4:], 0)
	}
}

// fifth adds the fifth bits of 32 elements, element i's being bit i.
func fifth(q []int8, bits uint32) {
	for i := range q[:32] {
		q[i] += int8(bits >> i & 1 << 4)
	}
}

// Q5_0: a half d, 32 fifth bits and 32 nibbles, together q; d·(q−16).
func unpackQ5_0(u *unpacked, row, _ []byte) {
	for b := range u.scale {
		block := row[22*b : 22*b+22]
		u.scale[b] = half(block)
		nibbles(u.q[32*b:], block[6:], 16)
		fifth(u.q[32*b:], binary.LittleEndian.Uint32(block[2:]))
	}
}

// Q5_1: halves d and m, 32 fifth bits and 32 nibbles, together q; d·q + m.
func unpackQ5_1(u *unpacked, row, _ []byte) {
	for b := range u.scale {
		block := row[24*b : 24*b+24]
		u.scale[b], u.low[b] = half(block), -half(block[2:])
		nibbles(u.q[32*b:], block[8:], 0)
		fifth(u.q[32*b:], binary.LittleEndian.Uint32(block[4:]))
	}
}

// pairsOfBits takes the 64 bytes of 256 two-bit elements apart.
func pairsOfBits(q []int8, packed []byte) {
	for n := range 2 {
		for shift := range 4 {
			to, from := q[128*n+32*shift:][:32], packed[32*n:][:32]
			for i, v := range from {
				to[i] = int8(v >> (2 * shift) & 3)
			}
		}
	}
}

// Q2_K, for each 16 of 256: four bits of scale and four of minimum; halves d and dmin; (d·scale)·q − dmin·minimum.
func unpackQ2_K(u *unpacked, row, _ []byte) {
	for b := range len(u.q) / 256 {
		block := row[84*b : 84*b+84]
		d, low := half(block[80:]), half(block[82:])
		for s, v := range block[:16] {
			u.scale[16*b+s], u.low[16*b+s] = d*float32(v&15), low*float32(v>>4)
		}
		pairsOfBits(u.q[256*b:], block[16:80])
	}
}

// Q3_K, for each 16 of 256: six bits of scale; a third bit apart; (d·(scale−32))·(q−4).
func unpackQ3_K(u *unpacked, row, _ []byte) {
	for b := range len(u.q) / 256 {
		block := row[110*b : 110*b+110]
		d, packed := half(block[108:]), block[96:108]
		for s := range 16 {
			scale := packed[s%8]>>(4*(s/8))&15 | packed[8+s%4]>>(2*(s/4))&3<<4
			u.scale[16*b+s] = d * float32(int(scale)-32)
		}
		q := u.q[256*b : 256*b+256]
		pairsOfBits(q, block[32:96])
		for i := range q {
			q[i] += int8(block[i%32]>>(i/32)&1)<<2 - 4
		}
	}
}

// sixBits takes the eight scales and minimums of Q4_K and Q5_K apart.
func sixBits(packed []byte, s int) (scale, low byte) {
	if s < 4 {
		return packed[s] & 63, packed[s+4] & 63
	}
	return packed[s+4]&15 | packed[s-4]>>6<<4, packed[s+4]>>4 | packed[s]>>6<<4
}

// Q4_K, for each 32 of 256: six bits of scale and of minimum; halves d and dmin; (d·scale)·q − dmin·minimum.
func unpackQ4_K(u *unpacked, row, _ []byte) {
	for b := range len(u.q) / 256 {
		block := row[144*b : 144*b+144]
		superblock(u, b, block[:16])
		halves(u.q[256*b:], block[16:])
	}
}

// superblock reads the scales and minimums of the 256 elements of Q4_K and Q5_K.
func superblock(u *unpacked, b int, head []byte) {
	d, low := half(head), half(head[2:])
	for s := range 8 {
		scale, minimum := sixBits(head[4:16], s)
		u.scale[8*b+s], u.low[8*b+s] = d*float32(scale), low*float32(minimum)
	}
}

// halves takes 128 bytes apart: 32 low halves, then their 32 high halves, and so on.
func halves(q []int8, packed []byte) {
	for n := range 4 {
		low, high, from := q[64*n:][:32], q[64*n+32:][:32], packed[32*n:][:32]
		for i, v := range from {
			low[i], high[i] = int8(v&15), int8(v>>4)
		}
	}
}

// Q5_K is Q4_K with a fifth bit apart.
func unpackQ5_K(u *unpacked, row, _ []byte) {
	for b := range len(u.q) / 256 {
		block := row[176*b : 176*b+176]
		superblock(u, b, block[:16])
		q := u.q[256*b : 256*b+256]
		halves(q, block[48:])
		for i := range q {
			q[i] += int8(block[16+i%32] >> (i / 32) & 1 << 4)
		}
	}
}

// Q6_K, for each 16 of 256: a signed byte of scale; four bits and two apart; (d·scale)·(q−32).
func unpackQ6_K(u *unpacked, row, _ []byte) {
	for b := range len(u.q) / 256 {
		block := row[210*b : 210*b+210]
		d := half(block[208:])
		for s, v := range block[192:208] {
			u.scale[16*b+s] = d * float32(int8(v))
		}
		for n := range 2 {
			low, high := block[64*n:][:64], block[128+32*n:][:32]
			q := u.q[256*b+128*n:][:128]
			for i, h := range high {
				q[i] = int8(low[i]&15|h&3<<4) - 32
				q[i+32] = int8(low[i+32]&15|h>>2&3<<4) - 32
				q[i+64] = int8(low[i]>>4|h>>4&3<<4) - 32
				q[i+96] = int8(low[i+32]>>4|h>>6<<4) - 32
			}
		}
	}
}

// uneven are the 16 values of the IQ4 formats, closer together around zero.
var uneven = [16]int8{-127, -104, -83, -65, -49, -35, -22, -10, 1, 13, 25, 38, 53, 69, 89, 113}

// lookUp takes 16 bytes apart as nibbles does and looks the values up.
func lookUp(q []int8, packed []byte, values *[16]int8) {
	low, high := q[:16], q[16:32]
	for j, v := range packed[:16] {
		low[j], high[j] = values[v&15], values[v>>4]
	}
}

// IQ4_NL: a half d and 32 nibbles; d·uneven[q].
func unpackIQ4_NL(u *unpacked, row, _ []byte) {
	for b := range u.scale {
		block := row[18*b : 18*b+18]
		u.scale[b] = half(block)
		lookUp(u.q[32*b:], block[2:], &uneven)
	}
}

// IQ4_XS, for each 32 of 256: six bits of scale; (d·(scale−32))·uneven[q].
func unpackIQ4_XS(u *unpacked, row, _ []byte) {
	for b := range len(u.q) / 256 {
		block := row[136*b : 136*b+136]
		d, high := half(block), binary.LittleEndian.Uint16(block[2:])
		for s := range 8 {
			scale := block[4+s/2]>>(4*(s%2))&15 | byte(high>>(2*s)&3)<<4
			u.scale[8*b+s] = d * float32(int(scale)-32)
			lookUp(u.q[256*b+32*s:], block[8+16*s:], &uneven)
		}
	}
}

// twiceFP4 are the values of four-bit floats (two bits of exponent, one of mantissa), doubled to be integers.
var twiceFP4 = [16]int8{0, 1, 2, 3, 4, 6, 8, 12, 0, -1, -2, -3, -4, -6, -8, -12}

// fp4 are the same, with the sign of zero.
var fp4 = [16]float32{0, .5, 1, 1.5, 2, 3, 4, 6, float32(math.Copysign(0, -1)), -.5, -1, -1.5, -2, -3, -4, -6}

// power is the scale of an MXFP4 block, a power of two.
func power(e byte, less int) float32 { return float32(math.Ldexp(1, int(e)-127-less)) }

// MXFP4: an exponent e and 32 four-bit floats; fp4[q]·2^(e−127).
func unpackMXFP4(u *unpacked, row, _ []byte) {
	for b := range u.scale {
		block := row[17*b : 17*b+17]
		u.scale[b] = powers[block[0]]
		lookUp(u.q[32*b:], block[1:], &twiceFP4)
	}
}

// powers are the scales of integers that are twice the elements, by the exponent of their block.
var powers = func() (p [256]float32) {
	for e := range p {
		p[e] = power(byte(e), 1)
	}
	return p
}()

// unpackMXFP4Split is the same with the scales apart, and elements 2j and 2j + 1 in byte j.
func unpackMXFP4Split(u *unpacked, row, scales []byte) {
	for b, e := range scales {
		u.scale[b] = powers[e]
		q := u.q[32*b : 32*b+32]
		for j, v := range row[16*b : 16*b+16] {
			q[2*j], q[2*j+1] = twiceFP4[v&15], twiceFP4[v>>4]
		}
	}
}

func expandMXFP4(dst []float32, row, _ []byte) {
	for b := range len(dst) / 32 {
		block := row[17*b : 17*b+17]
		expandFP4(dst[32*b:32*b+32], block[1:], block[0], 1, 16)
	}
}

// expandFP4 puts the low half of byte j to step·j and the high half apart further on.
func expandFP4(dst []float32, packed []byte, e byte, step, apart int) {
	d := power(e, 0)
	for j, v := range packed {
		dst[step*j], dst[step*j+apart] = fp4[v&15]*d, fp4[v>>4]*d
	}
}
