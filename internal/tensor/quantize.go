package tensor

import (
	"encoding/binary"
	"math"
)

func writeF32(dst []byte, src []float32) {
	for i, v := range src {
		binary.LittleEndian.PutUint32(dst[4*i:], math.Float32bits(v))
	}
}

func writeF16(dst []byte, src []float32) {
	for i, v := range src {
		binary.LittleEndian.PutUint16(dst[2*i:], ToFloat16(v))
	}
}

func writeBF16(dst []byte, src []float32) {
	for i, v := range src {
		binary.LittleEndian.PutUint16(dst[2*i:], ToBFloat16(v))
	}
}

// putHalf writes a half float and returns what was written, which is what the block is read with.
func putHalf(dst []byte, v float32) float32 {
	h := ToFloat16(v)
	binary.LittleEndian.PutUint16(dst, h)
	return Float16(h)
}

// rounded is the nearest integer between low and high, away from zero on a tie.
func rounded(v float32, low, high int) int {
	if v != v {
		return 0
	}
	return int(max(float64(low), min(float64(high), math.Round(float64(v)))))
}

// inverse is 1/v, and 0 for 0.
func inverse(v float32) float32 {
	if v == 0 {
		return 0
	}
	return 1 / v
}

// extreme is the value of the largest magnitude, with its sign.
func extreme(x []float32) float32 {
	var m float32
	for _, v := range x {
		if float32(math.Abs(float64(v))) > float32(math.Abs(float64(m))) {
			m = v
		}
	}
	return m
}

func quantizeQ8_0(dst []byte, src []float32) {
	for b := range len(src) / 32 {
		x, block := src[32*b:32*b+32], dst[34*b:34*b+34]
		d := float32(math.Abs(float64(extreme(x)))) / 127
		putHalf(block, d)
		inv := inverse(d)
		for i, v := range x {
			block[2+i] = byte(int8(rounded(v*inv, -127, 127)))
		}
	}
}

// putNibbles writes 32 values below 16 as nibbles reads them.
func putNibbles(dst []byte, q *[32]byte) {
	for j := range 16 {
		dst[j] = q[j]&15 | q[j+16]<<4
	}
}

// putFifth writes the fifth bits as fifth reads them.
func putFifth(dst []byte, q *[32]byte) {
	var bits uint32
	for i, v := range q {
		bits |= uint32(v>>4) << i
	}
	binary.LittleEndian.PutUint32(dst, bits)
}

// signedBlock rounds 32 values around zero: the largest becomes the lowest integer, −limit, so that the whole range is
// used.
func signedBlock(block []byte, x []float32, limit int) (q [32]byte) {
	d := extreme(x) / float32(-limit)
	putHalf(block, d)
	inv := inverse(d)
	for i, v := range x {
		q[i] = byte(min(2*limit-1, int(float32(v*inv)+float32(limit)+0.5)))
	}
	return q
}

// rangeBlock rounds 32 values between their smallest and their largest to 0 … high.
func rangeBlock(block []byte, x []float32, high int) (q [32]byte) {
	low, top := x[0], x[0]
	for _, v := range x {
		low, top = min(low, v), max(top, v)
	}
	d := (top - low) / float32(high)
	putHalf(block, d)
	m := putHalf(block[2:], low)
	inv := inverse(d)
	for i, v := range x {
		q[i] = byte(rounded((v-m)*inv, 0, high))
	}
	return q
}

func quantizeQ4_0(dst []byte, src []float32) {
	for b := range len(src) / 32 {
		block := dst[18*b : 18*b+18]
		q := signedBlock(block, src[32*b:32*b+32], 8)
		putNibbles(block[2:], &q)
	}
}

func quantizeQ4_1(dst []byte, src []float32) {
	for b := range len(src) / 32 {
		block := dst[20*b : 20*b+20]
		q := rangeBlock(block, src[32*b:32*b+32], 15)
		putNibbles(block[4:], &q)
	}
}

func quantizeQ5_0(dst []byte, src []float32) {
	for b := range len(src) / 32 {
		block := dst[22*b : 22*b+22]
		q := signedBlock(block, src[32*b:32*b+32], 16)
		putFifth(block[2:], &q)
		putNibbles(block[6:], &q)
	}
}

func quantizeQ5_1(dst []byte, src []float32) {
	for b := range len(src) / 32 {
		block := dst[24*b : 24*b+24]
		q := rangeBlock(block, src[32*b:32*b+32], 31)
		putFifth(block[4:], &q)
		putNibbles(block[8:], &q)
	}
}

// nearestValue is the index of the value nearest to v.
func nearestValue(v float32, values *[16]int8) byte {
	best := 0
	for i, w := range values {
		if math.Abs(float64(v)-float64(w)) < math.Abs(float64(v)-float64(values[best])) {
			best = i
		}
	}
	return byte(best)
}

func quantizeIQ4_NL(dst []byte, src []float32) {
	for b := range len(src) / 32 {
		block := dst[18*b : 18*b+18]
		x := src[32*b : 32*b+32]
		d := putHalf(block, extreme(x)/float32(uneven[0]))
		inv := inverse(d)
		var q [32]byte
		for i, v := range x {
			q[i] = nearestValue(v*inv, &uneven)
		}
		putNibbles(block[2:], &q)
	}
}

func quantizeMXFP4(dst []byte, src []float32) {
	for b := range len(src) / 32 {
		block := dst[17*b : 17*b+17]
		x := src[32*b : 32*b+32]
		// The scale takes the largest to the binade of the largest value, 4 to 6 (Microscaling Formats, section 6.3).
		e := 0
		if m := float64(extreme(x)); m != 0 {
			e = max(0, min(254, math.Ilogb(m)-2+127))
		}
		block[0] = byte(e)
		inv := inverse(power(block[0], 1))
		var q [32]byte
		for i, v := range x {
			q[i] = nearestValue(v*inv, &twiceFP4)
		}
		putNibbles(block[1:], &q)
	}
}

// searchSteps is how many scales on each side of the plain one are tried for a sub-block.
const searchSteps = 6

// fitSigned finds the scale by which integers from −limit to limit−1 come nearest to x, in least squares.
func fitSigned(x []float32, limit int) float32 {
	m := extreme(x)
	if m == 0 {
		return 0
	}
	best, worst := float32(0), math.Inf(1)
	for step := -searchSteps; step <= searchSteps; step++ {
		inv := -(float32(limit) + float32(0.1*float32(step))) / m
		var xq, qq float64
		for _, v := range x {
			q := float64(rounded(v*inv, -limit, limit-1))
			xq += float64(float64(v) * q)
			qq += float64(q * q)
		}
		if qq == 0 {
			continue
		}
		scale := xq / qq
		var e float64
		for _, v := range x {
			d := float64(v) - float64(scale*float64(rounded(v*inv, -limit, limit-1)))
			e += float64(d * d)
		}
		if e < worst {
			best, worst = float32(scale), e
		}
	}
	return best
}

// fitShifted finds the scale and the minimum, which is taken off and not negative, by which integers from 0 to high come
// nearest to x, in least squares.
func fitShifted(x []float32, high int) (scale, low float32) {
	least, top := float32(0), x[0]
	for _, v := range x {
		least, top = min(least, v), max(top, v)
	}
	if top <= least {
		return 0, -least
	}
	worst := math.Inf(1)
	n := float64(len(x))
	for step := -searchSteps; step <= searchSteps; step++ {
		inv := (float32(high) + float32(0.1*float32(step))) / (top - least)
		var sx, sq, xq, qq float64
		for _, v := range x {
			q := float64(rounded((v-least)*inv, 0, high))
			sx += float64(v)
			sq += q
			xq += float64(float64(v) * q)
			qq += float64(q * q)
		}
		det := float64(n*qq) - float64(sq*sq)
		if det <= 0 {
			continue
		}
		a, b := (float64(n*xq)-float64(sx*sq))/det, (float64(qq*sx)-float64(sq*xq))/det
		if b > 0 {
			a, b = xq/qq, 0
		}
		var e float64
		for _, v := range x {
			d := float64(v) - float64(a*float64(rounded((v-least)*inv, 0, high))) - b
			e += float64(d * d)
		}
		if a > 0 && e < worst {
			scale, low, worst = float32(a), float32(-b), e
		}
	}
	return scale, low
}

// shiftedScales fits sub-blocks and rounds their scales and minimums to 0 … high, each against its largest.
func shiftedScales(x []float32, group, levels, high int, d, dmin []byte) (scales, lows [16]byte, step, low [16]float32) {
	n := len(x) / group
	var top, topLow float32
	for s := range n {
		step[s], low[s] = fitShifted(x[s*group:(s+1)*group], levels)
		top, topLow = max(top, step[s]), max(topLow, low[s])
	}
	unit, unitLow := putHalf(d, top/float32(high)), putHalf(dmin, topLow/float32(high))
	for s := range n {
		scales[s] = byte(rounded(step[s]*inverse(unit), 0, high))
		lows[s] = byte(rounded(low[s]*inverse(unitLow), 0, high))
		step[s], low[s] = unit*float32(scales[s]), unitLow*float32(lows[s])
	}
	return scales, lows, step, low
}

func quantizeQ2_K(dst []byte, src []float32) {
	for b := range len(src) / 256 {
		block, x := dst[84*b:84*b+84], src[256*b:256*b+256]
		clear(block)
		scales, lows, step, low := shiftedScales(x, 16, 3, 15, block[80:], block[82:])
		for s := range 16 {
			block[s] = scales[s] | lows[s]<<4
		}
		for i, v := range x {
			q := byte(rounded((v+low[i/16])*inverse(step[i/16]), 0, 3))
			block[16+32*(i/128)+i%32] |= q << (2 * (i % 128 / 32))
		}
	}
}

func quantizeQ3_K(dst []byte, src []float32) {
	for b := range len(src) / 256 {
		block, x := dst[110*b:110*b+110], src[256*b:256*b+256]
		clear(block)
		var step [16]float32
		for s := range step {
			step[s] = fitSigned(x[16*s:16*s+16], 4)
		}
		d := putHalf(block[108:], extreme(step[:])/-32)
		for s := range step {
			q := rounded(step[s]*inverse(d), -32, 31)
			step[s] = d * float32(q)
			bits := byte(q + 32)
			block[96+s%8] |= bits & 15 << (4 * (s / 8))
			block[104+s%4] |= bits >> 4 << (2 * (s / 4))
		}
		for i, v := range x {
			q := byte(rounded(v*inverse(step[i/16]), -4, 3) + 4)
			block[i%32] |= q >> 2 << (i / 32)
			block[32+32*(i/128)+i%32] |= q & 3 << (2 * (i % 128 / 32))
		}
	}
}

// putSixBits writes scales and minimums as sixBits reads them.
func putSixBits(dst []byte, scales, lows *[16]byte) {
	for s := range 4 {
		dst[s] = scales[s] | scales[s+4]>>4<<6
		dst[s+4] = lows[s] | lows[s+4]>>4<<6
		dst[s+8] = scales[s+4]&15 | lows[s+4]&15<<4
	}
}

func quantizeQ4_K(dst []byte, src []float32) {
	for b := range len(src) / 256 {
		block, x := dst[144*b:144*b+144], src[256*b:256*b+256]
		clear(block)
		scales, lows, step, low := shiftedScales(x, 32, 15, 63, block, block[2:])
		putSixBits(block[4:], &scales, &lows)
		for i, v := range x {
			q := byte(rounded((v+low[i/32])*inverse(step[i/32]), 0, 15))
			block[16+32*(i/64)+i%32] |= q << (4 * (i / 32 % 2))
		}
	}
}

func quantizeQ5_K(dst []byte, src []float32) {
	for b := range len(src) / 256 {
		block, x := dst[176*b:176*b+176], src[256*b:256*b+256]
		clear(block)
		scales, lows, step, low := shiftedScales(x, 32, 31, 63, block, block[2:])
		putSixBits(block[4:], &scales, &lows)
		for i, v := range x {
			q := byte(rounded((v+low[i/32])*inverse(step[i/32]), 0, 31))
			block[48+32*(i/64)+i%32] |= q & 15 << (4 * (i / 32 % 2))
			block[16+i%32] |= q >> 4 << (i / 32)
		}
	}
}

func quantizeQ6_K(dst []byte, src []float32) {
	for b := range len(src) / 256 {
		block, x := dst[210*b:210*b+210], src[256*b:256*b+256]
		clear(block)
		var step [16]float32
		for s := range step {
			step[s] = fitSigned(x[16*s:16*s+16], 32)
		}
		d := putHalf(block[208:], extreme(step[:])/-128)
		for s := range step {
			q := rounded(step[s]*inverse(d), -128, 127)
			step[s] = d * float32(q)
			block[192+s] = byte(int8(q))
		}
		for i, v := range x {
			q := byte(rounded(v*inverse(step[i/16]), -32, 31) + 32)
			n, r, l := i/128, i%128/32, i%32
			block[64*n+32*(r%2)+l] |= q & 15 << (4 * (r / 2))
			block[128+32*n+l] |= q >> 4 << (2 * r)
		}
	}
}
