package tensor

import "math"

// Float16 converts an IEEE 754 half float, given as its bits, to float32. Every half float has an exact
// float32.
func Float16(h uint16) float32 {
	bits := uint32(h&0x7fff) << 13
	if h&0x7c00 == 0x7c00 { // infinity and NaN: the exponent is all ones in both formats
		bits |= 0x7f800000
	} else { // the multiplication moves the exponent to its place, that of subnormals included
		bits = math.Float32bits(math.Float32frombits(bits) * 0x1p112)
	}
	return math.Float32frombits(uint32(h&0x8000)<<16 | bits)
}

// ToFloat16 rounds to the nearest half float, to even on a tie; what is too large becomes infinite.
func ToFloat16(f float32) uint16 {
	bits := math.Float32bits(f)
	sign := uint16(bits >> 16 & 0x8000)
	bits &= 0x7fffffff
	switch {
	case bits > 0x7f800000:
		return sign | 0x7e00 // not a number
	case bits >= 0x477ff000: // 65520 and above round to infinity
		return sign | 0x7c00
	case bits < 0x38800000: // subnormal: count units of 2^-24, which the addition rounds to
		return sign | uint16(math.Float32bits(math.Float32frombits(bits)+0.5)-math.Float32bits(0.5))
	}
	bits += 0xfff + bits>>13&1
	return sign | uint16((bits-(127-15)<<23)>>13)
}

// BFloat16 converts the upper half of a float32.
func BFloat16(h uint16) float32 { return math.Float32frombits(uint32(h) << 16) }

// ToBFloat16 rounds to the nearest, to even on a tie.
func ToBFloat16(f float32) uint16 {
	bits := math.Float32bits(f)
	if f != f {
		return uint16(bits>>16) | 0x40
	}
	return uint16((bits + 0x7fff + bits>>16&1) >> 16)
}
