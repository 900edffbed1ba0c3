package tensor

import "math"

// Float16 converts an IEEE 754 half float, given as its bits, to float32. Every half float has an exact
// float32.
func Float16(h uint16) float32 {
	sign := uint32(h&0x8000) << 16
	bits := uint32(h&0x7fff) << 13
	switch exp := h & 0x7c00; exp {
	case 0x7c00: // infinity and NaN: the exponent is all ones in both formats
		return math.Float32frombits(sign | bits | 0x7f800000)
	case 0: // zero and subnormals: the mantissa counts units of 2^-24
		f := float32(h&0x3ff) * 0x1p-24
		return math.Float32frombits(math.Float32bits(f) | sign)
	default:
		return math.Float32frombits(sign | (bits + (127-15)<<23))
	}
}
