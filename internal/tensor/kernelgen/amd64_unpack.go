package main

import (
	"fmt"
	"strings"
)

// Unpacked rows are sequences of quads: 128 elements, as the first halves of four blocks of 32 and then their second
// halves. So a lane of a register belongs to one block, whatever the width. The bytes are signed; for VNNI, which wants
// one factor unsigned, 128 is added to each. Scales and minimums of a quad come in the order of its lanes: one for each
// block, or one for each first half and then one for each second half.

// ahead is how far in front of what they read the unpackers prefetch, in bytes: the time it takes to come from memory.
const ahead = 4096

// bias is what is added to an unpacked element, besides what its format takes off.
func (a *amd64) bias(less byte) byte {
	if a.vnni {
		return 128 - less
	}
	return -less
}

// parts calls do for each part of a quad that fits a register: which of them, and its first block.
func (a *amd64) parts(do func(part, block int)) {
	for p := range 4 / a.lanes {
		do(p, p*a.lanes)
	}
}

// store writes half h of a part of quad q.
func (a *amd64) store(r, q, h, part int) {
	a.op(a.move(), a.v(r), mem("DI", 128*q+64*h+16*a.lanes*part))
}

// prefetch asks for the lines of the next bytes.
func (a *amd64) prefetch(bytes int) {
	for i := 0; i < bytes; i += 64 {
		a.op("PREFETCHT0", mem("BX", ahead+i))
	}
}

// blocks32 describes the formats whose blocks have 32 elements and a scale.
type blocks32 struct {
	name     string
	stride   int
	scale    int // where the half float is; -1 for an exponent at 0, -2 for one apart
	low      int // where the minimum is; 0 for none
	fifth    int // where the fifth bits are; 0 for none
	data     int
	bytes    bool // rather than nibbles
	adjacent bool // elements 2j and 2j+1 are in byte j, rather than j and j+16
	less     byte
	values   *[16]int8
}

var uneven = [16]int8{-127, -104, -83, -65, -49, -35, -22, -10, 1, 13, 25, 38, 53, 69, 89, 113}
var twiceFP4 = [16]int8{0, 1, 2, 3, 4, 6, 8, 12, 0, -1, -2, -3, -4, -6, -8, -12}

var simple = []blocks32{
	{name: "Q8_0", stride: 34, data: 2, bytes: true},
	{name: "Q4_0", stride: 18, data: 2, less: 8},
	{name: "Q4_1", stride: 20, low: 2, data: 4},
	{name: "Q5_0", stride: 22, fifth: 2, data: 6, less: 16},
	{name: "Q5_1", stride: 24, low: 2, fifth: 4, data: 8},
	{name: "IQ4_NL", stride: 18, data: 2, values: &uneven},
	{name: "MXFP4", stride: 17, scale: -1, data: 1, values: &twiceFP4},
	{name: "MXFP4Split", stride: 16, scale: -2, adjacent: true, values: &twiceFP4},
}

// unpacked are the names of all formats.
func unpacked() (list []string) {
	for _, f := range simple {
		list = append(list, f.name)
	}
	return append(list, "Q2_K", "Q3_K", "Q4_K", "Q5_K", "Q6_K", "IQ4_XS")
}

// unpacker begins the function that takes quads of rows apart. DI, SI and DX are where bytes, scales and minimums go, BX
// is the row, R9 its scales if they are apart.
func (a *amd64) unpacker(name string) {
	a.begin("unpack"+name, "takes quads of rows apart; the steps are the bytes from the end of what a row's quads take to the next row's.",
		"q:*byte=DI", "scale:*float32=SI", "low:*float32=DX", "row:*byte=BX", "apart:*byte=R9", "quads:int=CX",
		"rows:int=AX", "qStep:int=R8", "scaleStep:int=R8", "rowStep:int=R8", "apartStep:int=R8")
}

// eachQuad writes a body that is done for some quads at a time of each row.
func (a *amd64) eachQuad(quads int, body func()) {
	row := a.label("row")
	a.place(row)
	a.op("MOVQ", "quads+40(FP)", "CX")
	if quads == 2 {
		a.op("SHRQ", "$1", "CX")
	}
	a.loop("CX", "quads, or pairs of them, of a row", body)
	for _, step := range []string{"qStep+56(FP) DI", "scaleStep+64(FP) SI", "scaleStep+64(FP) DX", "rowStep+72(FP) BX", "apartStep+80(FP) R9"} {
		from, to, _ := strings.Cut(step, " ")
		a.op("ADDQ", from, to)
	}
	a.op("DECQ", "rows+48(FP)")
	a.op("JNZ", row)
	a.end()
}

func (a *amd64) unpackers() {
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

// table is a register that has 16 values in each lane, with the bias added.
func (a *amd64) table(name string, values *[16]int8) int {
	var list []uint32
	for range a.lanes {
		for i := 0; i < 16; i += 4 {
			w := uint32(0)
			for j := range 4 {
				w |= uint32(byte(values[i+j])+a.bias(0)) << (8 * j)
			}
			list = append(list, w)
		}
	}
	return a.words("table"+name, list...)
}

// levels makes elements of nibbles: it looks them up, or takes off what their format does.
func (a *amd64) levels(r, table, offset int) {
	switch {
	case table >= 0:
		a.op("VPSHUFB", a.v(r), a.v(table), a.v(r))
	case offset >= 0:
		a.op("VPADDB", a.v(offset), a.v(r), a.v(r))
	}
}

func (a *amd64) unpackSimple(f blocks32) {
	a.unpacker(f.name)
	mask := a.splat(bytes4(15))
	table, offset := -1, -1
	if f.values != nil {
		table = a.table(f.name, f.values)
	} else if b := a.bias(f.less); b != 0 {
		offset = a.splat(bytes4(b))
	}
	sixteen, spread, bits := -1, -1, -1
	if f.fifth > 0 {
		sixteen = a.splat(bytes4(16))
		if !a.wide() {
			spread = a.words("spread", 0, 0, 0x01010101, 0x01010101, 0, 0, 0x01010101, 0x01010101)
			bits = a.words("bits", 0x08040201, 0x80402010, 0x08040201, 0x80402010, 0x08040201, 0x80402010, 0x08040201, 0x80402010)
		}
	}
	sign := -1
	if f.low > 0 {
		sign = a.splat(0x80000000)
	}
	h0, h1, t := a.reg("h0"), a.reg("h1"), a.reg("spare")
	scale := a.reg("scale")
	a.eachQuad(1, func() {
		a.prefetch(4 * f.stride)
		a.parts(func(part, first int) {
			from := func(offset int) (list []string) {
				for b := range a.lanes {
					list = append(list, mem("BX", f.stride*(first+b)+offset))
				}
				return list
			}
			if f.bytes {
				// Whole blocks are loaded, which are two lanes, and then their halves put together.
				places := from(f.data)
				a.op(a.move(), places[0], y(h0))
				a.op(a.move(), places[a.lanes/2], y(t))
				if a.wide() {
					a.op("VINSERTI64X4", "$1", places[1], a.v(h0), a.v(h0))
					a.op("VINSERTI64X4", "$1", places[3], a.v(t), a.v(t))
					a.op("VSHUFI64X2", "$0xDD", a.v(t), a.v(h0), a.v(h1))
					a.op("VSHUFI64X2", "$0x88", a.v(t), a.v(h0), a.v(h0))
				} else {
					a.op("VPERM2I128", "$0x31", a.v(t), a.v(h0), a.v(h1))
					a.op("VPERM2I128", "$0x20", a.v(t), a.v(h0), a.v(h0))
				}
				for h, r := range []int{h0, h1} {
					a.levels(r, table, offset)
					a.store(r, 0, h, part)
				}
				return
			}
			a.lanesFrom(h0, from(f.data)...)
			a.op("VPSRLW", "$4", a.v(h0), a.v(h1))
			a.op(a.and(), a.v(mask), a.v(h0), a.v(h0))
			a.op(a.and(), a.v(mask), a.v(h1), a.v(h1))
			if f.adjacent {
				a.op("VPUNPCKLBW", a.v(h1), a.v(h0), a.v(t))
				a.op("VPUNPCKHBW", a.v(h1), a.v(h0), a.v(h1))
				h0, t = t, h0
			}
			for h, r := range []int{h0, h1} {
				if f.fifth > 0 {
					a.fifthBits(r, t, scale, sixteen, spread, bits, from(f.fifth+2*h))
				}
				a.levels(r, table, offset)
				a.store(r, 0, h, part)
			}
		})
		a.scales(f, scale, sign)
		a.op("ADDQ", "$128", "DI")
		a.op("ADDQ", "$16", "SI")
		a.op("ADDQ", fmt.Sprintf("$%d", 4*f.stride), "BX")
		if f.low > 0 {
			a.op("ADDQ", "$16", "DX")
		}
		if f.scale == -2 {
			a.op("ADDQ", "$4", "R9")
		}
	})
}

// fifthBits adds 16 to the elements of a half whose bit is set, 16 bits at each place.
func (a *amd64) fifthBits(r, t, u, sixteen, spread, bits int, places []string) {
	if a.wide() {
		a.op("MOVWQZX", places[0], "R8")
		for i, p := range places[1:] {
			a.op("MOVWQZX", p, "R10")
			a.op("SHLQ", fmt.Sprintf("$%d", 16*(i+1)), "R10")
			a.op("ORQ", "R10", "R8")
		}
		a.op("KMOVQ", "R8", "K1")
		a.op("VPADDB", a.v(sixteen), a.v(r), "K1", a.v(r))
		return
	}
	a.op("MOVWQZX", places[0], "R8")
	a.op("MOVWQZX", places[1], "R10")
	a.op("VMOVQ", "R8", x(t))
	a.op("VMOVQ", "R10", x(u))
	a.op("VINSERTI128", "$1", x(u), a.v(t), a.v(t))
	a.op("VPSHUFB", a.v(spread), a.v(t), a.v(t))
	a.op("VPAND", a.v(bits), a.v(t), a.v(t))
	a.op("VPCMPEQB", a.v(bits), a.v(t), a.v(t))
	a.op("VPAND", a.v(sixteen), a.v(t), a.v(t))
	a.op("VPADDB", a.v(t), a.v(r), a.v(r))
}

// scales writes the scales of a quad's four blocks, and their minimums.
func (a *amd64) scales(f blocks32, r, sign int) {
	if f.scale < 0 {
		a.op("LEAQ", "·powers(SB)", "R8")
		for b := range 4 {
			from := mem("BX", f.stride*b)
			if f.scale == -2 {
				from = mem("R9", b)
			}
			a.op("MOVBQZX", from, "R10")
			a.op("MOVL", "(R8)(R10*4)", "R10")
			a.op("MOVL", "R10", mem("SI", 4*b))
		}
		return
	}
	halves := func(offset int) {
		a.op("VPXOR", x(r), x(r), x(r))
		for b := range 4 {
			a.op("VPINSRW", fmt.Sprintf("$%d", b), mem("BX", f.stride*b+offset), x(r), x(r))
		}
		a.op("VCVTPH2PS", x(r), x(r))
	}
	halves(0)
	a.op("VMOVUPS", x(r), "(SI)")
	if f.low > 0 {
		halves(f.low)
		a.op("VXORPS", x(sign), x(r), x(r))
		a.op("VMOVUPS", x(r), "(DX)")
	}
}

// half reads a half float to all places of a register.
func (a *amd64) half(r, offset int) {
	a.op("MOVWLZX", mem("BX", offset), "R8")
	a.op("VMOVD", "R8", x(r))
	a.op("VCVTPH2PS", x(r), x(r))
	a.op("VBROADCASTSS", x(r), y(r))
}

// scaled writes 8 scales, which are bytes in a register, times d.
func (a *amd64) scaled(r, d int, signed bool, to string) {
	if signed {
		a.op("VPMOVSXBD", x(r), y(r))
	} else {
		a.op("VPMOVZXBD", x(r), y(r))
	}
	a.op("VCVTDQ2PS", y(r), y(r))
	a.op("VMULPS", y(d), y(r), y(r))
	a.op("VMOVUPS", y(r), to)
}

// advance goes on to the next two quads, whose row bytes and scales are so many.
func (a *amd64) advance(row, scales int, low bool) {
	a.op("ADDQ", "$256", "DI")
	a.op("ADDQ", fmt.Sprintf("$%d", 4*scales), "SI")
	a.op("ADDQ", fmt.Sprintf("$%d", row), "BX")
	if low {
		a.op("ADDQ", fmt.Sprintf("$%d", 4*scales), "DX")
	}
}

// sixBits takes the scales and minimums of Q4_K and Q5_K apart, into AX and R10.
func (a *amd64) sixBits() {
	a.op("MOVL", "4(BX)", "AX")   // 6 bits of scales 0 to 3, and the upper 2 of scales 4 to 7
	a.op("MOVL", "8(BX)", "R10")  // the same of minimums
	a.op("MOVL", "12(BX)", "R11") // the lower 4 bits of scales and minimums 4 to 7
	a.op("MOVL", "AX", "R12")
	a.op("MOVL", "R10", "R13")
	a.op("ANDL", "$0x3f3f3f3f", "AX")
	a.op("ANDL", "$0x3f3f3f3f", "R10")
	a.op("SHRL", "$2", "R12")
	a.op("SHRL", "$2", "R13")
	a.op("ANDL", "$0x30303030", "R12")
	a.op("ANDL", "$0x30303030", "R13")
	a.op("MOVL", "R11", "R8")
	a.op("ANDL", "$0x0f0f0f0f", "R8")
	a.op("SHRL", "$4", "R11")
	a.op("ANDL", "$0x0f0f0f0f", "R11")
	a.op("ORL", "R8", "R12")
	a.op("ORL", "R11", "R13")
	a.op("SHLQ", "$32", "R12")
	a.op("SHLQ", "$32", "R13")
	a.op("ORQ", "R12", "AX")
	a.op("ORQ", "R13", "R10")
}

func (a *amd64) unpackQ4K(name string, stride, data, fifth int) {
	a.unpacker(name)
	mask := a.splat(bytes4(15))
	offset := -1
	if b := a.bias(0); b != 0 {
		offset = a.splat(bytes4(b))
	}
	// Of the four blocks of a quad the first and third are low halves of bytes, the others high ones.
	shift := a.byLane(0, [4]uint32{0, 4, 0, 4})
	sixteen, left, right := -1, [2]int{}, [2]int{}
	if fifth > 0 {
		sixteen = a.splat(bytes4(16))
		a.parts(func(part, _ int) {
			left[part] = a.byLane(part, [4]uint32{4, 3, 2, 1})
			right[part] = a.byLane(part, [4]uint32{0, 1, 2, 3})
		})
	}
	r, t, d := a.reg("r"), a.reg("spare"), a.reg("d")
	a.eachQuad(2, func() {
		a.prefetch(stride)
		for q := range 2 {
			a.parts(func(part, first int) {
				for h := range 2 {
					at := data + 64*q + 16*h + 16*first
					if a.wide() {
						a.op("VMOVDQU32", mem("BX", data+64*q), a.v(r))
						a.op("VSHUFI64X2", []string{"$0xA0", "$0xF5"}[h], a.v(r), a.v(r), a.v(r))
					} else {
						a.op("VBROADCASTI128", mem("BX", at), a.v(r))
					}
					a.op("VPSRLVD", a.v(shift), a.v(r), a.v(r))
					a.op(a.and(), a.v(mask), a.v(r), a.v(r))
					if fifth > 0 {
						a.op(a.by("VBROADCASTI128", "VBROADCASTI32X4"), mem("BX", fifth+16*h), a.v(t))
						if q == 0 {
							a.op("VPSLLVD", a.v(left[part]), a.v(t), a.v(t))
						} else {
							a.op("VPSRLVD", a.v(right[part]), a.v(t), a.v(t))
						}
						a.op(a.and(), a.v(sixteen), a.v(t), a.v(t))
						a.op(a.or(), a.v(t), a.v(r), a.v(r))
					}
					a.levels(r, -1, offset)
					a.store(r, q, h, part)
				}
			})
		}
		a.sixBits()
		for i, from := range []string{"AX", "R10"} {
			a.half(d, 2*i)
			a.op("VMOVQ", from, x(r))
			a.scaled(r, d, false, []string{"(SI)", "(DX)"}[i])
		}
		a.advance(stride, 8, true)
	})
}

// byHalves is the order in which the scales of 16 elements are written, for a quad: those of first halves, then those of
// second ones.
const byHalvesLow, byHalvesHigh = 0x06040200, 0x07050301

// groups writes the 16 scales of two quads, signed bytes in a register in the order of the row, times d.
func (a *amd64) groups(r, t, d int, signed bool, to string) {
	order := a.constant("byHalves", byHalvesLow, byHalvesHigh, byHalvesLow+0x08080808, byHalvesHigh+0x08080808)
	a.op("VPSHUFB", order, x(r), x(r))
	a.op("VPSRLDQ", "$8", x(r), x(t))
	a.scaled(r, d, signed, mem(to, 0))
	a.scaled(t, d, signed, mem(to, 32))
}

func (a *amd64) unpackQ6K() {
	a.unpacker("Q6_K")
	mask, high := a.splat(bytes4(15)), a.splat(bytes4(0x30))
	offset := a.splat(bytes4(a.bias(32)))
	var shift, left, right [2]int
	a.parts(func(part, _ int) {
		// Blocks 0 and 1 of a quad are low halves, 2 and 3 high ones. The upper two bits of block b are bits 2b and
		// 2b + 1 of a byte, and go to bits 4 and 5.
		shift[part] = a.byLane(part, [4]uint32{0, 0, 4, 4})
		left[part] = a.byLane(part, [4]uint32{4, 2, 0, 0})
		right[part] = a.byLane(part, [4]uint32{0, 0, 0, 2})
	})
	r, t, d := a.reg("r"), a.reg("spare"), a.reg("d")
	a.eachQuad(2, func() {
		a.prefetch(210)
		for q := range 2 {
			a.parts(func(part, _ int) {
				for h := range 2 {
					if a.wide() {
						a.op("VMOVDQU32", mem("BX", 64*q), a.v(r))
						a.op("VSHUFI64X2", []string{"$0x88", "$0xDD"}[h], a.v(r), a.v(r), a.v(r))
					} else {
						a.lanesFrom(r, mem("BX", 64*q+16*h), mem("BX", 64*q+32+16*h))
					}
					a.op("VPSRLVD", a.v(shift[part]), a.v(r), a.v(r))
					a.op(a.and(), a.v(mask), a.v(r), a.v(r))
					a.op(a.by("VBROADCASTI128", "VBROADCASTI32X4"), mem("BX", 128+32*q+16*h), a.v(t))
					a.op("VPSLLVD", a.v(left[part]), a.v(t), a.v(t))
					a.op("VPSRLVD", a.v(right[part]), a.v(t), a.v(t))
					a.op(a.and(), a.v(high), a.v(t), a.v(t))
					a.op(a.or(), a.v(t), a.v(r), a.v(r))
					a.levels(r, -1, offset)
					a.store(r, q, h, part)
				}
			})
		}
		a.half(d, 208)
		a.op("VMOVDQU", "192(BX)", x(r))
		a.groups(r, t, d, true, "SI")
		a.advance(210, 16, false)
	})
}

func (a *amd64) unpackQ3K() {
	a.unpacker("Q3_K")
	three, four := a.splat(bytes4(3)), a.splat(bytes4(4))
	offset, less := a.splat(bytes4(a.bias(4))), a.splat(bytes4(256-32))
	var shift, left, right, far [2]int
	a.parts(func(part, _ int) {
		shift[part] = a.byLane(part, [4]uint32{0, 2, 4, 6})
		left[part] = a.byLane(part, [4]uint32{2, 1, 0, 0}) // the third bit of block b is bit b of a byte, or 4 + b
		right[part] = a.byLane(part, [4]uint32{0, 0, 0, 1})
		far[part] = a.byLane(part, [4]uint32{2, 3, 4, 5})
	})
	r, t, d := a.reg("r"), a.reg("spare"), a.reg("d")
	broadcast := a.by("VBROADCASTI128", "VBROADCASTI32X4")
	a.eachQuad(2, func() {
		a.prefetch(110)
		for q := range 2 {
			a.parts(func(part, _ int) {
				for h := range 2 {
					a.op(broadcast, mem("BX", 32+32*q+16*h), a.v(r))
					a.op("VPSRLVD", a.v(shift[part]), a.v(r), a.v(r))
					a.op(a.and(), a.v(three), a.v(r), a.v(r))
					a.op(broadcast, mem("BX", 16*h), a.v(t))
					if q == 0 {
						a.op("VPSLLVD", a.v(left[part]), a.v(t), a.v(t))
						a.op("VPSRLVD", a.v(right[part]), a.v(t), a.v(t))
					} else {
						a.op("VPSRLVD", a.v(far[part]), a.v(t), a.v(t))
					}
					a.op(a.and(), a.v(four), a.v(t), a.v(t))
					a.op(a.or(), a.v(t), a.v(r), a.v(r))
					a.levels(r, -1, offset)
					a.store(r, q, h, part)
				}
			})
		}
		// Scales 0 to 3 and 8 to 11 are the halves of bytes 0 to 3 at 96, the others of 4 to 7; bytes 8 to 11 have the
		// upper two bits of all.
		for i, to := range []string{"AX", "R10"} {
			for j, part := range []string{"R11", "R12"} {
				a.op("MOVL", mem("BX", 96+4*j), part)
				if i == 1 {
					a.op("SHRL", "$4", part)
				}
				a.op("ANDL", "$0x0f0f0f0f", part)
				a.op("MOVL", "104(BX)", "R8")
				if n := 2 * (2*i + j); n > 4 {
					a.op("SHRL", fmt.Sprintf("$%d", n-4), "R8")
				} else if n < 4 {
					a.op("SHLL", fmt.Sprintf("$%d", 4-n), "R8")
				}
				a.op("ANDL", "$0x30303030", "R8")
				a.op("ORL", "R8", part)
			}
			a.op("SHLQ", "$32", "R12")
			a.op("ORQ", "R12", "R11")
			a.op("MOVQ", "R11", to)
		}
		a.op("VMOVQ", "AX", x(r))
		a.op("VPINSRQ", "$1", "R10", x(r), x(r))
		a.op("VPADDB", x(less), x(r), x(r))
		a.half(d, 108)
		a.groups(r, t, d, true, "SI")
		a.advance(110, 16, false)
	})
}

func (a *amd64) unpackQ2K() {
	a.unpacker("Q2_K")
	three, mask := a.splat(bytes4(3)), a.splat(bytes4(15))
	offset := -1
	if b := a.bias(0); b != 0 {
		offset = a.splat(bytes4(b))
	}
	var shift [2]int
	a.parts(func(part, _ int) { shift[part] = a.byLane(part, [4]uint32{0, 2, 4, 6}) })
	r, t, d, low := a.reg("r"), a.reg("spare"), a.reg("d"), a.reg("low")
	a.eachQuad(2, func() {
		a.prefetch(84)
		for q := range 2 {
			a.parts(func(part, _ int) {
				for h := range 2 {
					a.op(a.by("VBROADCASTI128", "VBROADCASTI32X4"), mem("BX", 16+32*q+16*h), a.v(r))
					a.op("VPSRLVD", a.v(shift[part]), a.v(r), a.v(r))
					a.op(a.and(), a.v(three), a.v(r), a.v(r))
					a.levels(r, -1, offset)
					a.store(r, q, h, part)
				}
			})
		}
		a.op("VMOVDQU", "(BX)", x(r))
		a.op("VPSRLW", "$4", x(r), x(low))
		a.op("VPAND", x(mask), x(r), x(r))
		a.op("VPAND", x(mask), x(low), x(low))
		a.half(d, 80)
		a.groups(r, t, d, false, "SI")
		a.half(d, 82)
		a.groups(low, t, d, false, "DX")
		a.advance(84, 16, true)
	})
}

func (a *amd64) unpackIQ4XS() {
	a.unpacker("IQ4_XS")
	mask, less := a.splat(bytes4(15)), a.splat(bytes4(256-32))
	table := a.table("IQ4_XS", &uneven)
	h0, h1, d := a.reg("h0"), a.reg("h1"), a.reg("d")
	a.eachQuad(2, func() {
		a.prefetch(136)
		for q := range 2 {
			a.parts(func(part, first int) {
				a.op(a.move(), mem("BX", 8+64*q+16*first), a.v(h0))
				a.op("VPSRLW", "$4", a.v(h0), a.v(h1))
				for h, r := range []int{h0, h1} {
					a.op(a.and(), a.v(mask), a.v(r), a.v(r))
					a.levels(r, table, -1)
					a.store(r, q, h, part)
				}
			})
		}
		// Eight scales: four bits of each, two in a byte, and two bits of each, eight in two bytes.
		a.op("MOVL", "4(BX)", "AX")
		a.op("MOVWLZX", "2(BX)", "R10")
		a.op("XORL", "R11", "R11")
		for s := 7; s >= 0; s-- {
			a.op("MOVL", "AX", "R12")
			a.op("SHRL", fmt.Sprintf("$%d", 4*s), "R12")
			a.op("ANDL", "$15", "R12")
			a.op("MOVL", "R10", "R13")
			a.op("SHRL", fmt.Sprintf("$%d", 2*s), "R13")
			a.op("ANDL", "$3", "R13")
			a.op("SHLL", "$4", "R13")
			a.op("ORL", "R13", "R12")
			a.op("SHLQ", "$8", "R11")
			a.op("ORQ", "R12", "R11")
		}
		a.op("VMOVQ", "R11", x(h0))
		a.op("VPADDB", x(less), x(h0), x(h0))
		a.half(d, 0)
		a.scaled(h0, d, true, "(SI)")
		a.advance(136, 8, false)
	})
}
