package main

import "fmt"

// General registers of the unpackers: R0 where bytes go, R1 scales, R2 minimums, R3 the row, R4 scales apart, R5 quads.

func (a *arm64) unpacked() []string { return unpacked() }

func (a *arm64) unpacker(name string) {
	a.begin("unpack"+name, "takes quads of rows apart; the steps are the bytes from the end of what a row's quads take to the next row's.",
		"q:*byte", "scale:*float32", "low:*float32", "row:*byte", "apart:*byte", "quads:int", "rows:int", "qStep:int", "scaleStep:int", "rowStep:int", "apartStep:int")
}

func (a *arm64) eachQuad(quads int, body func()) {
	row := a.label("row")
	a.place(row)
	a.op("MOVD", "quads+40(FP)", "R5")
	if quads == 2 {
		a.op("LSR", "$1", "R5")
	}
	a.loop(5, "quads, or pairs of them, of a row", body)
	for _, s := range [][2]int{{0, 7}, {1, 8}, {2, 8}, {3, 9}, {4, 10}} {
		a.op("ADD", r(s[1]), r(s[0]))
	}
	a.op("SUB", "$1", "R6")
	a.op("CBNZ", "R6", row)
	a.end()
}

func (a *arm64) unpackers() {
	for _, f := range simple {
		a.unpackSimple(f)
	}
	a.unpackQ4K("Q4_K", 144, 16, 0)
	a.unpackQ4K("Q5_K", 176, 48, 16)
	a.unpackQ6K()
	a.unpackQ3K()
	a.unpackQ2K()
	a.unpackIQ4XS()
}

func signedTable(values *[16]int8) (words []uint32) {
	for i := 0; i < 16; i += 4 {
		w := uint32(0)
		for j := range 4 {
			w |= uint32(byte(values[i+j])) << (8 * j)
		}
		words = append(words, w)
	}
	return words
}

func (a *arm64) unpackSimple(f blocks32) {
	a.unpacker(f.name)
	mask, less, table := a.everywhere(bytes4(15)), -1, -1
	if f.values != nil {
		table = a.numbers("table"+f.name, signedTable(f.values)...)
	} else if f.less > 0 {
		less = a.everywhere(bytes4(f.less))
	}
	spread, bits, sixteen := -1, -1, -1
	if f.fifth > 0 {
		spread = a.numbers("spread", 0, 0, 0x01010101, 0x01010101)
		bits = a.numbers("bits", 0x08040201, 0x80402010, 0x08040201, 0x80402010)
		sixteen = a.everywhere(bytes4(16))
	}
	h := [2]int{a.reg("h"), a.reg("h")}
	t, s := a.reg("spare"), a.regs("s", 4)
	if f.scale < 0 {
		a.op("MOVD", "$·powers(SB)", "R11")
	}
	a.eachQuad(1, func() {
		for b := range 4 {
			at := f.stride * b
			if f.bytes {
				a.load(h[0], 3, at+f.data)
				a.load(h[1], 3, at+f.data+16)
			} else {
				a.load(t, 3, at+f.data)
				a.v("and", h[0], t, mask)
				a.shiftRight(h[1], t, 4)
				if f.adjacent {
					a.v("zip2.16b", t, h[0], h[1])
					a.v("zip1.16b", h[0], h[0], h[1])
					a.u("mov", h[1], t)
				}
			}
			for i, v := range h {
				if f.fifth > 0 {
					a.load2(t, 3, at+f.fifth+2*i)
					a.v("tbl", t, t, spread)
					a.v("cmtst.16b", t, t, bits)
					a.v("and", t, t, sixteen)
					a.v("orr", v, v, t)
				}
				switch {
				case table >= 0:
					a.v("tbl", v, table, v)
				case less >= 0:
					a.v("sub.16b", v, v, less)
				}
				a.store(v, 0, 64*i+16*b)
			}
			if f.scale < 0 {
				from := fmt.Sprintf("%d(R3)", at)
				if f.scale == -2 {
					from = fmt.Sprintf("%d(R4)", b)
				}
				a.op("MOVBU", from, "R12")
				a.op("ADD", "R12<<2", "R11", "R12")
				a.op("MOVWU", "(R12)", "R12")
				a.op("MOVW", "R12", fmt.Sprintf("%d(R1)", 4*b))
				continue
			}
			a.load2(s[0], 3, at)
			a.u("fcvtl", s[0], s[0])
			a.store4(s[0], 1, 4*b)
			if f.low > 0 {
				a.load2(s[1], 3, at+f.low)
				a.u("fcvtl", s[1], s[1])
				a.u("fneg", s[1], s[1])
				a.store4(s[1], 2, 4*b)
			}
		}
		a.advance(0, 128)
		a.advance(1, 16)
		a.advance(3, 4*f.stride)
		if f.low > 0 {
			a.advance(2, 16)
		}
		if f.scale == -2 {
			a.advance(4, 4)
		}
	})
}

// half reads a half float to all places.
func (a *arm64) half(v, offset int) {
	a.load2(v, 3, offset)
	a.u("fcvtl", v, v)
	a.word(0x4e040400|uint32(v)<<5|uint32(v), "dup v%d.4s, v%d.s[0]", v, v)
}

// scaled writes eight bytes as numbers times d.
func (a *arm64) scaled(v, t, d int, signed bool, to, offset int) {
	if signed {
		a.u("sxtl.8h", v, v)
		a.u("sxtl2.4s", t, v)
		a.u("sxtl.4s", v, v)
	} else {
		a.u("uxtl.8h", v, v)
		a.u("uxtl2.4s", t, v)
		a.u("uxtl.4s", v, v)
	}
	for i, x := range []int{v, t} {
		a.u("scvtf", x, x)
		a.v("fmul", x, d, x)
		a.store(x, to, offset+16*i)
	}
}

// toVector moves a general register to the lower half of a vector.
func (a *arm64) toVector(v, from int) {
	a.word(0x9e670000|uint32(from)<<5|uint32(v), "fmov d%d, x%d", v, from)
}

// sixBits takes the scales and minimums of Q4_K and Q5_K apart, into R11 and R12.
func (a *arm64) sixBits() {
	a.op("MOVWU", "4(R3)", "R11")
	a.op("MOVWU", "8(R3)", "R12")
	a.op("MOVWU", "12(R3)", "R13")
	a.op("LSR", "$2", "R11", "R14")
	a.op("LSR", "$2", "R12", "R15")
	a.op("AND", "$0x3f3f3f3f", "R11")
	a.op("AND", "$0x3f3f3f3f", "R12")
	a.op("AND", "$0x30303030", "R14")
	a.op("AND", "$0x30303030", "R15")
	a.op("AND", "$0x0f0f0f0f", "R13", "R16")
	a.op("LSR", "$4", "R13")
	a.op("AND", "$0x0f0f0f0f", "R13")
	a.op("ORR", "R16", "R14")
	a.op("ORR", "R13", "R15")
	a.op("ORR", "R14<<32", "R11")
	a.op("ORR", "R15<<32", "R12")
}

func (a *arm64) unpackQ4K(name string, stride, data, fifth int) {
	a.unpacker(name)
	mask, sixteen := a.everywhere(bytes4(15)), a.everywhere(bytes4(16))
	raw, v, t, d := a.reg("raw"), a.reg("v"), a.reg("spare"), a.reg("d")
	high := a.regs("high", 2)
	a.eachQuad(2, func() {
		if fifth > 0 {
			a.load(high[0], 3, fifth)
			a.load(high[1], 3, fifth+16)
		}
		for q := range 2 {
			for b := range 4 {
				for h := range 2 {
					a.load(raw, 3, data+64*q+32*(b/2)+16*h)
					if b%2 == 0 {
						a.v("and", v, raw, mask)
					} else {
						a.shiftRight(v, raw, 4)
					}
					if fifth > 0 {
						// The fifth bit of block 4q + b is that bit of a byte.
						switch n := 4*q + b; {
						case n < 4:
							a.shiftLeft(t, high[h], 4-n)
						case n > 4:
							a.shiftRight(t, high[h], n-4)
						default:
							a.u("mov", t, high[h])
						}
						a.v("and", t, t, sixteen)
						a.v("orr", v, v, t)
					}
					a.store(v, 0, 128*q+64*h+16*b)
				}
			}
		}
		a.sixBits()
		for i, from := range []int{11, 12} {
			a.half(d, 2*i)
			a.toVector(v, from)
			a.scaled(v, t, d, false, 1+i, 0)
		}
		a.advance(0, 256)
		a.advance(1, 32)
		a.advance(2, 32)
		a.advance(3, stride)
	})
}

// groups writes the 16 scales of two quads, bytes in the order of the row, times d: first halves first.
func (a *arm64) groups(v, t, u, order, d int, signed bool, to int) {
	a.v("tbl", v, v, order)
	a.v("zip2.2d", u, v, v)
	a.scaled(v, t, d, signed, to, 0)
	a.scaled(u, t, d, signed, to, 32)
}

func (a *arm64) byHalves() int {
	return a.numbers("byHalves", byHalvesLow, byHalvesHigh, byHalvesLow+0x08080808, byHalvesHigh+0x08080808)
}

func (a *arm64) unpackQ6K() {
	a.unpacker("Q6_K")
	mask, high, less, order := a.everywhere(bytes4(15)), a.everywhere(bytes4(0x30)), a.everywhere(bytes4(32)), a.byHalves()
	v, t, u, d := a.reg("v"), a.reg("spare"), a.reg("spare"), a.reg("d")
	a.eachQuad(2, func() {
		for q := range 2 {
			for b := range 4 {
				for h := range 2 {
					a.load(v, 3, 64*q+32*(b%2)+16*h)
					if b < 2 {
						a.v("and", v, v, mask)
					} else {
						a.shiftRight(v, v, 4)
					}
					a.load(t, 3, 128+32*q+16*h)
					switch n := 2 * b; { // the upper bits are bits n and n + 1
					case n < 4:
						a.shiftLeft(t, t, 4-n)
					case n > 4:
						a.shiftRight(t, t, n-4)
					}
					a.v("and", t, t, high)
					a.v("orr", v, v, t)
					a.v("sub.16b", v, v, less)
					a.store(v, 0, 128*q+64*h+16*b)
				}
			}
		}
		a.half(d, 208)
		a.load(v, 3, 192)
		a.groups(v, t, u, order, d, true, 1)
		a.advance(0, 256)
		a.advance(1, 64)
		a.advance(3, 210)
	})
}

func (a *arm64) unpackQ3K() {
	a.unpacker("Q3_K")
	three, four, less, order := a.everywhere(bytes4(3)), a.everywhere(bytes4(4)), a.everywhere(bytes4(32)), a.byHalves()
	v, t, u, d := a.reg("v"), a.reg("spare"), a.reg("spare"), a.reg("d")
	a.eachQuad(2, func() {
		for q := range 2 {
			for b := range 4 {
				for h := range 2 {
					a.load(v, 3, 32+32*q+16*h)
					if b > 0 {
						a.shiftRight(v, v, 2*b)
					}
					a.v("and", v, v, three)
					a.load(t, 3, 16*h)
					switch n := 4*q + b; { // the third bit is bit n
					case n < 2:
						a.shiftLeft(t, t, 2-n)
					case n > 2:
						a.shiftRight(t, t, n-2)
					}
					a.v("and", t, t, four)
					a.v("orr", v, v, t)
					a.v("sub.16b", v, v, four)
					a.store(v, 0, 128*q+64*h+16*b)
				}
			}
		}
		for i, to := range []string{"R11", "R12"} {
			for j, part := range []string{"R13", "R14"} {
				a.op("MOVWU", fmt.Sprintf("%d(R3)", 96+4*j), part)
				if i == 1 {
					a.op("LSR", "$4", part)
				}
				a.op("AND", "$0x0f0f0f0f", part)
				a.op("MOVWU", "104(R3)", "R15")
				if n := 2 * (2*i + j); n > 4 {
					a.op("LSR", fmt.Sprintf("$%d", n-4), "R15")
				} else if n < 4 {
					a.op("LSL", fmt.Sprintf("$%d", 4-n), "R15")
				}
				a.op("AND", "$0x30303030", "R15")
				a.op("ORR", "R15", part)
			}
			a.op("ORR", "R14<<32", "R13", to)
		}
		a.toVector(v, 11)
		a.toVector(t, 12)
		a.v("zip1.2d", v, v, t)
		a.v("sub.16b", v, v, less)
		a.half(d, 108)
		a.groups(v, t, u, order, d, true, 1)
		a.advance(0, 256)
		a.advance(1, 64)
		a.advance(3, 110)
	})
}

func (a *arm64) unpackQ2K() {
	a.unpacker("Q2_K")
	three, mask, order := a.everywhere(bytes4(3)), a.everywhere(bytes4(15)), a.byHalves()
	v, t, u, d, low := a.reg("v"), a.reg("spare"), a.reg("spare"), a.reg("d"), a.reg("low")
	a.eachQuad(2, func() {
		for q := range 2 {
			for b := range 4 {
				for h := range 2 {
					a.load(v, 3, 16+32*q+16*h)
					if b > 0 {
						a.shiftRight(v, v, 2*b)
					}
					a.v("and", v, v, three)
					a.store(v, 0, 128*q+64*h+16*b)
				}
			}
		}
		a.load(v, 3, 0)
		a.shiftRight(low, v, 4)
		a.v("and", v, v, mask)
		a.half(d, 80)
		a.groups(v, t, u, order, d, false, 1)
		a.half(d, 82)
		a.groups(low, t, u, order, d, false, 2)
		a.advance(0, 256)
		a.advance(1, 64)
		a.advance(2, 64)
		a.advance(3, 84)
	})
}

func (a *arm64) unpackIQ4XS() {
	a.unpacker("IQ4_XS")
	mask, less := a.everywhere(bytes4(15)), a.everywhere(bytes4(32))
	table := a.numbers("tableIQ4_XS", signedTable(&uneven)...)
	v, t, d := a.reg("v"), a.reg("spare"), a.reg("d")
	a.eachQuad(2, func() {
		for n := range 8 {
			a.load(t, 3, 8+16*n)
			a.v("and", v, t, mask)
			a.v("tbl", v, table, v)
			a.store(v, 0, 128*(n/4)+16*(n%4))
			a.shiftRight(v, t, 4)
			a.v("tbl", v, table, v)
			a.store(v, 0, 128*(n/4)+64+16*(n%4))
		}
		a.op("MOVWU", "4(R3)", "R11")
		a.op("MOVHU", "2(R3)", "R12")
		a.op("MOVD", "$0", "R13")
		for s := 7; s >= 0; s-- {
			a.op("LSR", fmt.Sprintf("$%d", 4*s), "R11", "R14")
			a.op("AND", "$15", "R14")
			a.op("LSR", fmt.Sprintf("$%d", 2*s), "R12", "R15")
			a.op("AND", "$3", "R15")
			a.op("ORR", "R15<<4", "R14")
			a.op("ORR", "R13<<8", "R14", "R13")
		}
		a.toVector(v, 13)
		a.v("sub.16b", v, v, less)
		a.half(d, 0)
		a.scaled(v, t, d, true, 1, 0)
		a.advance(0, 256)
		a.advance(1, 32)
		a.advance(3, 136)
	})
}
