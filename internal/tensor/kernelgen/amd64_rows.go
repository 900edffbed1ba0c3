package main

import (
	"fmt"
	"math/bits"
)

// rows are the products of four rows, as they lie in the file, with some vectors: what is done for every token that is
// generated, so nothing is written on the way. A quad of the rows is taken apart in registers and multiplied with each
// vector. Lanes of the sums are blocks, their places rows. This needs masks, which narrow registers do not have.

// rowsKernel is what the functions of all formats share.
type rowsKernel struct {
	*amd64
	p            bytesProduct
	expand, acc  int
	sums         []int
	total        int
	w, t, a0, a1 int
	scale        int
	weights      [4][2]int // of a row: the first halves of blocks, and the second ones
	signed       bool
}

func (a *amd64) rowsFormats() []string {
	if !a.wide() {
		return nil
	}
	return []string{"Q8_0", "Q4_0", "Q4_1", "Q5_0", "Q5_1", "IQ4_NL", "MXFP4", "Q4_K", "Q5_K", "Q6_K"}
}

func (a *amd64) rowsKernels() {
	if !a.wide() {
		return
	}
	for _, f := range simple {
		if f.scale >= -1 {
			a.rowsSimple(f)
		}
	}
	a.rowsQ4K("Q4_K", 144, 16, 0)
	a.rowsQ4K("Q5_K", 176, 48, 16)
	a.rowsQ6K()
}

// rowsBegin begins a function, in which at gives places in the rows.
func (a *amd64) rowsBegin(name string, signed bool) *rowsKernel {
	a.begin("rows"+name, "adds the products of four rows, ws bytes apart, with vectors that lie side by side, quad by quad, to sums, four for each.",
		"sums:*float32=DI", "x:*byte=SI", "vectors:int=R12", "w:*byte=R8", "ws:int=DX", "quads:int=CX")
	k := &rowsKernel{amd64: a, p: a.bytesProduct(signed), signed: signed}
	// A pointer to each row: with an index, the processor takes a load and what is done with it for two operations.
	a.op("LEAQ", "(R8)(DX*1)", "R9")
	a.op("LEAQ", "(R9)(DX*1)", "R10")
	a.op("LEAQ", "(R10)(DX*1)", "R11")
	k.expand = a.words("expand", 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3)
	k.acc = a.reg("totals")
	k.sums, k.total = a.regs("sums", 4), a.reg("total")
	k.w, k.t, k.a0, k.a1, k.scale = a.reg("weights"), a.reg("spare"), a.reg("a0"), a.reg("a1"), a.reg("scale")
	for i := range k.weights {
		k.weights[i] = [2]int{a.reg("weights"), a.reg("weights")}
	}
	return k
}

// vectors writes what is done with each vector, whose record is at SI, once the weights of a quad are ready: body leaves
// the quad's products, block by block, in total.
func (k *rowsKernel) vectors(body func()) {
	k.op("MOVQ", "R12", "R13")
	k.op("MOVQ", "DI", "R15")
	k.loop("R13", "vectors", func() {
		k.op("VMOVDQU32", mem("SI", 0), k.v(k.a0))
		k.op("VMOVDQU32", mem("SI", 64), k.v(k.a1))
		body()
		// The blocks are added in order.
		k.op("VMOVUPS", "(R15)", x(k.acc))
		k.op("VFMADD231PS.BCST", mem("SI", recordScale), x(k.total), x(k.acc))
		for lane := 1; lane < 4; lane++ {
			k.op("VEXTRACTF32X4", fmt.Sprintf("$%d", lane), k.v(k.total), x(k.t))
			k.op("VFMADD231PS.BCST", mem("SI", recordScale+4*lane), x(k.t), x(k.acc))
		}
		k.op("VMOVUPS", x(k.acc), "(R15)")
		k.op("ADDQ", "$16", "R15")
		k.op("ADDQ", fmt.Sprintf("$%d", recordBytes), "SI")
	})
}

// products multiplies the rows with both halves.
func (k *rowsKernel) products() {
	for row, s := range k.sums {
		k.multiplyRow(s, k.weights[row][0], k.a0, true)
		k.multiplyRow(s, k.weights[row][1], k.a1, false)
	}
	k.tree()
}

var rowPointers = []string{"R8", "R9", "R10", "R11"}

func (k *rowsKernel) at(row, offset int) string { return mem(rowPointers[row], offset) }

// ahead asks for the next bytes of the rows that come next.
func (k *rowsKernel) ahead(bytes int) {
	for _, r := range rowPointers {
		for i := 0; i+16 < bytes; i += 64 {
			k.op("PREFETCHT0", fmt.Sprintf("%d(%s)(DX*4)", i, r))
		}
	}
}

// multiplyRow adds the products of bytes to a sum; first ones replace it. Unsigned bytes need no care for their signs.
func (k *rowsKernel) multiplyRow(sum, w, with int, first bool) {
	switch {
	case k.vnni:
		if first {
			k.zero(sum)
		}
		k.op("VPDPBUSD", k.v(with), k.v(w), k.v(sum))
		return
	case k.signed:
		k.op("VPABSB", k.v(w), k.v(k.p.absolute))
		k.op("VPMOVB2M", k.v(w), "K7")
		k.op("VMOVDQA32", k.v(with), k.v(k.p.t))
		k.op("VPSUBB", k.v(with), k.v(k.p.zero), "K7", k.v(k.p.t))
		k.op("VPMADDUBSW", k.v(k.p.t), k.v(k.p.absolute), k.v(k.p.t))
	default:
		k.op("VPMADDUBSW", k.v(with), k.v(w), k.v(k.p.t))
	}
	if first {
		k.op("VPMADDWD", k.v(k.p.ones), k.v(k.p.t), k.v(sum))
		return
	}
	k.op("VPMADDWD", k.v(k.p.ones), k.v(k.p.t), k.v(k.p.t))
	k.op("VPADDD", k.v(k.p.t), k.v(sum), k.v(sum))
}

func (k *rowsKernel) tree() { k.amd64.tree(k.sums, k.t, k.w) }

// correct takes from the sums what was added to each weight, a power of two, times the sum of the block's activations.
func (k *rowsKernel) correct(added int) {
	if added == 0 {
		return
	}
	k.op("VPERMD", mem("SI", recordStart), k.v(k.expand), k.v(k.t)) // −128 times the sum
	if shift := 7 - bits.TrailingZeros(uint(added)); shift > 0 {
		k.op("VPSRAD", fmt.Sprintf("$%d", shift), k.v(k.t), k.v(k.t))
	}
	k.op("VPADDD", k.v(k.t), k.v(k.sums[0]), k.v(k.sums[0]))
}

// next goes on after so many bytes of each row.
func (k *rowsKernel) next(bytes int) {
	for _, r := range rowPointers {
		k.op("ADDQ", fmt.Sprintf("$%d", bytes), r)
	}
}

// gather reads the half floats of four rows and four blocks. A load that begins 2r bytes earlier has the word of row r
// beside that of row r − 1, so that loads under masks put them together; in one register if all four blocks are within
// reach, or in two.
type gather struct {
	k        *rowsKernel
	stride   int
	together int // blocks that a load reaches
	order    int
	halves   [2]int
}

func (k *rowsKernel) gather(stride int) gather {
	g := gather{k: k, stride: stride, together: 4}
	if 3*stride+8 > 64 {
		g.together = 2
	}
	for i := range 4 / g.together {
		g.halves[i] = k.reg("halves")
		k.zero(g.halves[i]) // places that no load fills
	}
	var list []uint32
	for i := 0; i < 16; i += 2 {
		word := func(i int) uint32 {
			block, row := i/4, i%4
			return uint32(block%g.together*stride/2 + row + block/g.together*32)
		}
		list = append(list, word(i)|word(i+1)<<16)
	}
	g.order = k.words(fmt.Sprintf("gather%d", stride), append(list, make([]uint32, 8)...)...)
	for r := range 4 {
		mask := uint32(0)
		for b := range g.together {
			mask |= 1 << (b*stride/2 + r)
		}
		k.op("MOVL", fmt.Sprintf("$0x%08x", mask), "AX")
		k.op("KMOVD", "AX", fmt.Sprintf("K%d", r+1))
	}
	return g
}

// read puts floats [block][row] into a register.
func (g gather) read(dst, offset int) {
	k := g.k
	for i := range 4 / g.together {
		for r := range 4 {
			k.op("VMOVDQU16", k.at(r, offset+i*g.together*g.stride-2*r), fmt.Sprintf("K%d", r+1), k.v(g.halves[i]))
		}
	}
	if g.together == 4 {
		k.op("VPERMW", k.v(g.halves[0]), k.v(g.order), k.v(dst))
	} else {
		k.op("VMOVDQA32", k.v(g.order), k.v(dst))
		k.op("VPERMI2W", k.v(g.halves[1]), k.v(g.halves[0]), k.v(dst))
	}
	k.op("VCVTPH2PS", y(dst), k.v(dst))
}

// rowsSimple is for the formats whose blocks have 32 elements and a scale.
func (a *amd64) rowsSimple(f blocks32) {
	k := a.rowsBegin(f.name, f.bytes || f.values != nil)
	mask, table, flip, sixteen := -1, -1, -1, -1
	if !f.bytes {
		mask = a.splat(bytes4(15))
	}
	added := int(f.less)
	if f.values != nil {
		table = a.table(f.name, f.values)
	} else if f.bytes && a.vnni {
		flip = a.splat(bytes4(128))
	}
	if k.signed && a.vnni {
		added = 128
	}
	if f.fifth > 0 {
		sixteen = a.splat(bytes4(16))
	}
	var g gather
	var exponents, one, smallest int
	if f.scale == 0 {
		g = k.gather(f.stride)
	} else {
		exponents, one, smallest = k.exponents(f.stride)
	}
	low := -1
	if f.low > 0 {
		low = a.reg("low")
	}
	a.loop("CX", "quads", func() {
		k.ahead(4 * f.stride)
		for row, w := range k.weights {
			from := func(offset int) (list []string) {
				for b := range 4 {
					list = append(list, k.at(row, f.stride*b+offset))
				}
				return list
			}
			if f.bytes {
				places := from(f.data)
				a.op("VMOVDQU", places[0], y(k.w))
				a.op("VINSERTI64X4", "$1", places[1], a.v(k.w), a.v(k.w))
				a.op("VMOVDQU", places[2], y(k.t))
				a.op("VINSERTI64X4", "$1", places[3], a.v(k.t), a.v(k.t))
				a.op("VSHUFI64X2", "$0x88", a.v(k.t), a.v(k.w), a.v(w[0]))
				a.op("VSHUFI64X2", "$0xDD", a.v(k.t), a.v(k.w), a.v(w[1]))
				if flip >= 0 {
					a.op("VPXORD", a.v(flip), a.v(w[0]), a.v(w[0]))
					a.op("VPXORD", a.v(flip), a.v(w[1]), a.v(w[1]))
				}
				continue
			}
			a.lanesFrom(k.w, from(f.data)...)
			a.op("VPSRLW", "$4", a.v(k.w), a.v(w[1]))
			a.op("VPANDD", a.v(mask), a.v(k.w), a.v(w[0]))
			a.op("VPANDD", a.v(mask), a.v(w[1]), a.v(w[1]))
			for h, r := range w {
				if f.fifth > 0 {
					k.fifthBits(r, sixteen, from(f.fifth+2*h))
				}
				if table >= 0 {
					a.op("VPSHUFB", a.v(r), a.v(table), a.v(r))
				}
			}
		}
		if f.scale == 0 {
			g.read(k.scale, 0)
		} else {
			k.powers(exponents, one, smallest)
		}
		if f.low > 0 {
			g.read(low, f.low)
		}
		k.vectors(func() {
			k.products()
			k.correct(added)
			a.op("VCVTDQ2PS", a.v(k.sums[0]), a.v(k.total))
			a.op("VMULPS", a.v(k.scale), a.v(k.total), a.v(k.total))
			if f.low > 0 {
				a.op("VPERMPS", mem("SI", recordSum), a.v(k.expand), a.v(k.t))
				a.op("VFMADD231PS", a.v(k.t), a.v(low), a.v(k.total)) // the minimum is taken off, and stored negative
			}
		})
		k.next(4 * f.stride)
	})
	a.end()
}

// fifthBits adds 16 to the elements of a half whose bit is set, 16 bits at each place.
func (k *rowsKernel) fifthBits(r, sixteen int, places []string) {
	k.op("MOVWQZX", places[0], "AX")
	for i, p := range places[1:] {
		k.op("MOVWQZX", p, "BX")
		k.op("SHLQ", fmt.Sprintf("$%d", 16*(i+1)), "BX")
		k.op("ORQ", "BX", "AX")
	}
	k.op("KMOVQ", "AX", "K6")
	k.op("VPADDB", k.v(sixteen), k.v(r), "K6", k.v(r))
}

// exponents prepares powers: bytes are gathered as gather does with words, each block's into its own lane.
func (k *rowsKernel) exponents(stride int) (order, one, smallest int) {
	k.zero(k.scale) // places that no load fills
	var list []uint32
	for b := range 4 {
		for r := range 4 {
			list = append(list, 0x80808000|uint32(b*stride+r-16*b))
		}
	}
	order = k.words(fmt.Sprintf("exponents%d", stride), list...)
	one, smallest = k.splat(1), k.splat(0x00200000)
	for r := range 4 {
		mask := uint64(0)
		for b := range 4 {
			mask |= 1 << (b*stride + r)
		}
		k.op("MOVQ", fmt.Sprintf("$0x%016x", mask), "AX")
		k.op("KMOVQ", "AX", fmt.Sprintf("K%d", r+1))
	}
	return order, one, smallest
}

// powers makes scales of exponents e: 2^(e−128), of which the least two are no normal numbers.
func (k *rowsKernel) powers(order, one, smallest int) {
	for r := range 4 {
		k.op("VMOVDQU8", k.at(r, -r), fmt.Sprintf("K%d", r+1), k.v(k.scale))
	}
	k.op("VPSHUFB", k.v(order), k.v(k.scale), k.v(k.t))
	k.op("VPCMPUD", "$2", k.v(one), k.v(k.t), "K5")
	k.op("VPSUBD", k.v(one), k.v(k.t), k.v(k.w))
	k.op("VPSLLD", "$23", k.v(k.w), k.v(k.scale))
	k.op("VPSLLVD", k.v(k.t), k.v(smallest), "K5", k.v(k.scale))
}

// column reads a word of each of the four rows side by side.
func (k *rowsKernel) column(dst, offset int) {
	k.op("VMOVD", k.at(0, offset), x(dst))
	for r := 1; r < 4; r++ {
		k.op("VPINSRD", fmt.Sprintf("$%d", r), k.at(r, offset), x(dst), x(dst))
	}
}

// everyLane repeats the lowest lane.
func (k *rowsKernel) everyLane(r int) { k.op("VSHUFF32X4", "$0", k.v(r), k.v(r), k.v(r)) }

// everywhere is a constant in memory that has one word throughout.
func (a *amd64) everywhere(word uint32) string {
	list := make([]uint32, 16)
	for i := range list {
		list[i] = word
	}
	return a.constant(fmt.Sprintf("all%08x", word), list...)
}

// rowsQ4K is for Q4_K and Q5_K.
func (a *amd64) rowsQ4K(name string, stride, data, fifth int) {
	k := a.rowsBegin(name, false)
	mask := a.splat(bytes4(15))
	shift := a.byLane(0, [4]uint32{0, 4, 0, 4})
	left, right := -1, -1
	if fifth > 0 {
		left, right = a.byLane(0, [4]uint32{4, 3, 2, 1}), a.byLane(0, [4]uint32{0, 1, 2, 3})
	}
	// The four bytes of each row become four words of the four rows.
	across := a.constant("bytesAcross", 0x0c080400, 0x0d090501, 0x0e0a0602, 0x0f0b0703)
	halves := a.constant("halvesApart", 0x05040100, 0x0d0c0908, 0x07060302, 0x0f0e0b0a)
	low6, low4, high2 := a.everywhere(0x3f3f3f3f), a.everywhere(0x0f0f0f0f), a.everywhere(0x30303030)
	scales, lows := a.regs("scales", 2), a.regs("lows", 2)
	c := a.reg("c")
	// Before the weights are there, their registers are free.
	d, dmin, w1 := k.weights[0][0], k.weights[0][1], k.weights[1][0]
	a.op("SHRQ", "$1", "CX")
	a.loop("CX", "super-blocks, two quads each", func() {
		k.ahead(stride)
		k.column(c, 0)
		a.op("VPSHUFB", halves, x(c), x(c))
		a.op("VCVTPH2PS", x(c), x(d))
		a.op("VPSRLDQ", "$8", x(c), x(c))
		a.op("VCVTPH2PS", x(c), x(dmin))
		k.everyLane(d)
		k.everyLane(dmin)
		k.column(scales[0], 4)
		k.column(lows[0], 8)
		k.column(c, 12)
		a.op("VPSRLD", "$2", x(scales[0]), x(scales[1]))
		a.op("VPSRLD", "$2", x(lows[0]), x(lows[1]))
		a.op("VPSRLD", "$4", x(c), x(w1))
		for _, r := range []struct {
			to   int
			with string
		}{{scales[0], low6}, {lows[0], low6}, {scales[1], high2}, {lows[1], high2}, {c, low4}, {w1, low4}} {
			a.op("VPANDD", r.with, x(r.to), x(r.to))
		}
		a.op("VPORD", x(c), x(scales[1]), x(scales[1]))
		a.op("VPORD", x(w1), x(lows[1]), x(lows[1]))
		for q := range 2 {
			for _, r := range []struct{ to, with int }{{scales[q], d}, {lows[q], dmin}} {
				a.op("VPSHUFB", across, x(r.to), x(r.to))
				a.op("VPMOVZXBD", x(r.to), a.v(r.to))
				a.op("VCVTDQ2PS", a.v(r.to), a.v(r.to))
				a.op("VMULPS", a.v(r.with), a.v(r.to), a.v(r.to))
			}
		}
		for q := range 2 {
			for row, w := range k.weights {
				a.op("VMOVDQU32", k.at(row, data+64*q), a.v(c))
				for h, r := range w {
					a.op("VSHUFI64X2", []string{"$0xA0", "$0xF5"}[h], a.v(c), a.v(c), a.v(r))
					a.op("VPSRLVD", a.v(shift), a.v(r), a.v(r))
					a.op("VPANDD", a.v(mask), a.v(r), a.v(r))
					if fifth > 0 {
						a.op("VBROADCASTI32X4", k.at(row, fifth+16*h), a.v(k.t))
						if q == 0 {
							a.op("VPSLLVD", a.v(left), a.v(k.t), a.v(k.t))
						} else {
							a.op("VPSRLVD", a.v(right), a.v(k.t), a.v(k.t))
						}
						a.op("VPANDD", a.everywhere(bytes4(16)), a.v(k.t), a.v(k.t))
						a.op("VPORD", a.v(k.t), a.v(r), a.v(r))
					}
				}
			}
			k.vectors(func() {
				k.products()
				a.op("VCVTDQ2PS", a.v(k.sums[0]), a.v(k.total))
				a.op("VMULPS", a.v(scales[q]), a.v(k.total), a.v(k.total))
				a.op("VPERMPS", mem("SI", recordSum), a.v(k.expand), a.v(k.t))
				a.op("VFNMADD231PS", a.v(k.t), a.v(lows[q]), a.v(k.total))
			})
		}
		k.next(stride)
	})
	a.end()
}

func (a *amd64) rowsQ6K() {
	k := a.rowsBegin("Q6_K", false)
	mask, high := a.everywhere(bytes4(15)), a.everywhere(bytes4(0x30))
	shift := a.byLane(0, [4]uint32{0, 0, 4, 4})
	rotate := a.byLane(0, [4]uint32{4, 2, 0, 30})
	thirtyTwo := a.splat(0x42000000)
	d := a.reg("d")
	bytes := a.regs("bytes", 4)
	second := a.reg("second")
	c := k.weights[0][0]
	a.op("SHRQ", "$1", "CX")
	a.loop("CX", "super-blocks, two quads each", func() {
		k.ahead(210)
		a.op("VPXORD", x(d), x(d), x(d))
		for r := range 4 {
			a.op("VPINSRW", fmt.Sprintf("$%d", r), k.at(r, 208), x(d), x(d))
			a.op("VMOVDQU32", k.at(r, 192), x(bytes[r]))
		}
		a.op("VCVTPH2PS", x(d), x(d))
		k.everyLane(d)
		// The bytes of the four rows side by side, four groups in a register.
		b := bytes
		a.op("VPUNPCKLBW", x(b[1]), x(b[0]), x(k.t))
		a.op("VPUNPCKHBW", x(b[1]), x(b[0]), x(k.w))
		a.op("VPUNPCKLBW", x(b[3]), x(b[2]), x(c))
		a.op("VPUNPCKHBW", x(b[3]), x(b[2]), x(k.a0))
		a.op("VPUNPCKLWD", x(c), x(k.t), x(b[0]))
		a.op("VPUNPCKHWD", x(c), x(k.t), x(b[1]))
		a.op("VPUNPCKLWD", x(k.a0), x(k.w), x(b[2]))
		a.op("VPUNPCKHWD", x(k.a0), x(k.w), x(b[3]))
		for q := range 2 {
			for row, w := range k.weights {
				for h, r := range w {
					a.op("VMOVDQU32", k.at(row, 64*q), a.v(r))
					a.op("VSHUFI64X2", []string{"$0x88", "$0xDD"}[h], a.v(r), a.v(r), a.v(r))
					a.op("VPSRLVD", a.v(shift), a.v(r), a.v(r))
					a.op("VPANDD", mask, a.v(r), a.v(r))
					a.op("VBROADCASTI32X4", k.at(row, 128+32*q+16*h), a.v(k.t))
					a.op("VPROLVD", a.v(rotate), a.v(k.t), a.v(k.t))
					a.op("VPANDD", high, a.v(k.t), a.v(k.t))
					a.op("VPORD", a.v(k.t), a.v(r), a.v(r))
				}
			}
			scales := []int{k.scale, second}
			for h, r := range scales {
				a.op("VSHUFPS", []string{"$0x88", "$0xDD"}[h], x(b[2*q+1]), x(b[2*q]), x(r))
				a.op("VPMOVSXBD", x(r), a.v(r))
				a.op("VCVTDQ2PS", a.v(r), a.v(r))
				a.op("VMULPS", a.v(d), a.v(r), a.v(r))
			}
			k.vectors(func() {
				for h := range 2 {
					for row, s := range k.sums {
						k.multiplyRow(s, k.weights[row][h], []int{k.a0, k.a1}[h], true)
					}
					k.tree()
					a.op("VCVTDQ2PS", a.v(k.sums[0]), a.v(k.sums[0]))
					a.op("VPERMPS", mem("SI", recordHalf+16*h), a.v(k.expand), a.v(k.t))
					a.op("VFNMADD231PS", a.v(thirtyTwo), a.v(k.t), a.v(k.sums[0])) // exact: all of these are small integers
					if h == 0 {
						a.op("VMULPS", a.v(scales[h]), a.v(k.sums[0]), a.v(k.total))
					} else {
						a.op("VFMADD231PS", a.v(scales[h]), a.v(k.sums[0]), a.v(k.total))
					}
				}
			})
		}
		k.next(210)
	})
	a.end()
}
