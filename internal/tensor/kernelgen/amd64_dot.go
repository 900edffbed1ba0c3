package main

import "fmt"

// A record holds a quad of rounded activations: 128 bytes in the order of unpacked rows, and then, for each of the four
// blocks, its scale, −128 times its sum as an integer, and its sum; and the sums of the eight halves, first halves first.
const (
	recordBytes = 208
	recordScale = 128
	recordStart = 144
	recordSum   = 160
	recordHalf  = 176
)

// kind is how a format scales its blocks of 32.
type kind struct {
	name    string
	halves  bool // each half has a scale of its own
	shifted bool // there are minimums
}

var kinds = []kind{{"32", false, false}, {"32Shifted", false, true}, {"16", true, false}, {"16Shifted", true, true}}

// bytesProduct is what the product of bytes needs besides its factors.
type bytesProduct struct{ ones, zero, absolute, t int }

func (a *amd64) bytesProduct(signed bool) (p bytesProduct) {
	if a.vnni {
		return p
	}
	p.ones = a.splat(0x00010001)
	p.t = a.reg("spare")
	if !signed {
		return p
	}
	p.absolute = a.reg("absolute")
	if a.wide() {
		p.zero = a.reg("zero")
		a.zero(p.zero)
	}
	return p
}

// weightsOf makes ready what is multiplied with several activations.
func (a *amd64) weightsOf(p bytesProduct, w int) {
	a.op("VPABSB", a.v(w), a.v(p.absolute))
	if a.wide() {
		a.op("VPMOVB2M", a.v(w), "K7")
	}
}

// multiply adds the products of bytes to sums of four: |w| times the activation with the sign of w, since one factor has
// to be unsigned. None of the 16-bit sums of two comes beyond 2·128·127. The activations are in p.t.
func (a *amd64) multiply(p bytesProduct, sum, w int) {
	if a.wide() {
		a.op("VPSUBB", a.v(p.t), a.v(p.zero), "K7", a.v(p.t))
	} else {
		a.op("VPSIGNB", a.v(w), a.v(p.t), a.v(p.t))
	}
	a.op("VPMADDUBSW", a.v(p.t), a.v(p.absolute), a.v(p.t))
	a.op("VPMADDWD", a.v(p.ones), a.v(p.t), a.v(p.t))
	a.op("VPADDD", a.v(p.t), a.v(sum), a.v(sum))
}

// multiplyVector takes a register full of activations from memory.
func (a *amd64) multiplyVector(p bytesProduct, sum, w int, from string) {
	if a.vnni {
		a.op("VPDPBUSD", from, a.v(w), a.v(sum))
		return
	}
	a.weightsOf(p, w)
	a.op(a.move(), from, a.v(p.t))
	a.multiply(p, sum, w)
}

// tree adds up the four places of each lane of four sums, into the first. t and u are free.
func (a *amd64) tree(s []int, t, u int) {
	for i := 0; i < 4; i += 2 {
		a.op("VPUNPCKLDQ", a.v(s[i+1]), a.v(s[i]), a.v(t))
		a.op("VPUNPCKHDQ", a.v(s[i+1]), a.v(s[i]), a.v(u))
		a.op("VPADDD", a.v(t), a.v(u), a.v(s[i]))
	}
	a.op("VPUNPCKLQDQ", a.v(s[2]), a.v(s[0]), a.v(t))
	a.op("VPUNPCKHQDQ", a.v(s[2]), a.v(s[0]), a.v(u))
	a.op("VPADDD", a.v(t), a.v(u), a.v(s[0]))
}

func (a *amd64) dots() {
	for _, k := range kinds {
		a.dot(k)
	}
}

// dot multiplies four unpacked rows with one vector. Lanes of the sums are blocks, their places rows.
func (a *amd64) dot(k kind) {
	a.begin("dot"+k.name, "adds the products of four unpacked rows with a vector to acc; xq is the bytes from one quad of the vector to the next, ws and ss from one row's bytes and scales to the next's.",
		"acc:*float32=DI", "x:*byte=SI", "xq:int=BX", "w:*byte=R8", "ws:int=R9", "scale:*float32=R11", "ss:int=R12", "low:*float32=DX", "quads:int=CX")
	p := a.bytesProduct(true)
	a.op("LEAQ", "(R9)(R9*2)", "R10")
	a.op("LEAQ", "(R12)(R12*2)", "R13")
	row := func(base, step, triple string, i, offset int) string {
		return fmt.Sprintf("%d(%s)%s", offset, base, []string{"", "(" + step + "*1)", "(" + step + "*2)", "(" + triple + "*1)"}[i])
	}
	// expand puts the word of each block to the four places of its lane.
	expand := a.words("expand", 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3)
	var across int
	if a.wide() {
		across = a.words("across", 0, 4, 8, 12, 1, 5, 9, 13, 2, 6, 10, 14, 3, 7, 11, 15)
	} else {
		across = a.words("across", 0, 2, 4, 6, 1, 3, 5, 7)
	}
	acc := a.reg("totals")
	a.op("VMOVUPS", "(DI)", x(acc))
	sums := a.regs("sums", 4)
	w, t := a.reg("weights"), a.reg("spare")
	total := a.reg("total")

	// scales reads those of four rows, for the blocks of a part.
	scales := func(dst int, base string, offset int) {
		at := func(i int) string { return row(base, "R12", "R13", i, offset) }
		if a.wide() {
			a.lanesFrom(dst, at(0), at(1), at(2), at(3))
		} else {
			a.op("VMOVSD", at(0), x(dst))
			a.op("VMOVHPS", at(1), x(dst), x(dst))
			a.op("VMOVSD", at(2), x(t))
			a.op("VMOVHPS", at(3), x(t), x(t))
			a.op("VINSERTF128", "$1", x(t), a.v(dst), a.v(dst))
		}
		a.op("VPERMPS", a.v(dst), a.v(across), a.v(dst))
	}
	tree := func() { a.tree(sums, t, w) }
	a.loop("CX", "quads", func() {
		a.parts(func(part, first int) {
			products := func(h int) {
				for i, s := range sums {
					a.op(a.move(), row("R8", "R9", "R10", i, 64*h+16*first), a.v(w))
					a.multiplyVector(p, s, w, mem("SI", 64*h+16*first))
				}
			}
			clear := func() {
				for _, s := range sums {
					a.zero(s)
				}
			}
			// minimum takes the minimums of some groups times the sums of their activations off.
			minimum := func(scaleOffset, sumOffset int) {
				scales(w, "DX", scaleOffset)
				a.op("VPERMPS", mem("SI", sumOffset), a.v(expand), a.v(t))
				a.op("VFNMADD231PS", a.v(t), a.v(w), a.v(total))
			}
			if !k.halves {
				clear()
				products(0)
				products(1)
				tree()
				if a.vnni {
					a.op("VPERMD", mem("SI", recordStart+4*first), a.v(expand), a.v(t))
					a.op("VPADDD", a.v(t), a.v(sums[0]), a.v(sums[0]))
				}
				a.op("VCVTDQ2PS", a.v(sums[0]), a.v(total))
				scales(w, "R11", 4*first)
				a.op("VMULPS", a.v(w), a.v(total), a.v(total))
				if k.shifted {
					minimum(4*first, recordSum+4*first)
				}
			} else {
				for h := range 2 {
					clear()
					products(h)
					tree()
					a.op("VCVTDQ2PS", a.v(sums[0]), a.v(sums[0]))
					if a.vnni {
						a.op("VPERMPS", mem("SI", recordHalf+16*h+4*first), a.v(expand), a.v(t))
						a.op("VBROADCASTSS", a.constant("plus128", 0x43000000), a.v(w))
						a.op("VFNMADD231PS", a.v(w), a.v(t), a.v(sums[0])) // exact: all of these are small integers
					}
					scales(w, "R11", 16*h+4*first)
					if h == 0 {
						a.op("VMULPS", a.v(w), a.v(sums[0]), a.v(total))
					} else {
						a.op("VFMADD231PS", a.v(w), a.v(sums[0]), a.v(total))
					}
				}
				if k.shifted {
					for h := range 2 {
						minimum(16*h+4*first, recordHalf+16*h+4*first)
					}
				}
			}
			for lane := range a.lanes {
				from := total
				if lane > 0 {
					from = t
					a.op(a.by("VEXTRACTF128", "VEXTRACTF32X4"), fmt.Sprintf("$%d", lane), a.v(total), x(t))
				}
				a.op("VBROADCASTSS", mem("SI", recordScale+4*(first+lane)), x(w))
				a.op("VFMADD231PS", x(w), x(from), x(acc))
			}
		})
		a.op("ADDQ", "BX", "SI")
		a.op("ADDQ", "$128", "R8")
		size := 16
		if k.halves {
			size = 32
		}
		a.op("ADDQ", fmt.Sprintf("$%d", size), "R11")
		if k.shifted {
			a.op("ADDQ", fmt.Sprintf("$%d", size), "DX")
		}
	})
	a.op("VMOVUPS", x(acc), "(DI)")
	a.end()
}

// tiles multiply a panel of 16 rows, which have the words of their bytes side by side, with several vectors. Narrow
// registers take 8 of the rows.
func (a *amd64) tiles() {
	for _, k := range kinds {
		for _, n := range a.tileSizes(k) {
			a.tile(k, n)
		}
	}
}

// tileSizes are the numbers of vectors for which there are registers enough.
func (a *amd64) tileSizes(k kind) []int {
	switch {
	case !a.wide():
		return []int{4, 2, 1}
	case k.halves:
		return []int{8, 4, 2, 1}
	}
	return []int{12, 8, 4, 2, 1}
}

// tile's vectors lie side by side, quad by quad, so that one register and numbers address all of them: with a second one,
// the processor would take each product and the load that it needs for two operations.
func (a *amd64) tile(k kind, n int) {
	a.begin(fmt.Sprintf("tile%s_%d", k.name, n), fmt.Sprintf("adds the products of a panel with %d vectors to acc, which has 16 places for each; xq is the bytes from one quad of the vectors to the next.", n),
		"acc:*float32=DI", "x:*byte=SI", "xq:int=R8", "panel:*byte=DX", "scale:*float32=CX", "low:*float32=BX", "quads:int=AX")
	a.op("LEAQ", mem("SI", recordScale), "R9")
	q := func(v, offset int) string { return mem("SI", recordBytes*v+offset) }
	tail := func(v, offset int) string { return mem("R9", recordBytes*v+offset-recordScale) }
	p := a.bytesProduct(true)
	sums, acc := a.regs("sums", n), a.regs("totals", n)
	w := a.reg("weights")
	t := p.t
	if a.vnni {
		t = a.reg("spare")
	}
	var firsts []int
	if k.halves {
		firsts = a.regs("firsts", n)
	}
	spare := -1
	if a.wide() {
		spare = a.reg("spare")
	}
	for v := range n {
		a.op("VMOVUPS", mem("DI", 64*v), a.v(acc[v]))
	}
	// factor is a vector of scales in memory, or in a register where there are enough.
	factor := func(from string) string {
		if spare < 0 {
			return from
		}
		a.op("VMOVUPS", from, a.v(spare))
		return a.v(spare)
	}
	splat := func(from string) { a.op("VBROADCASTSS", from, a.v(t)) }
	plus128 := -1
	if a.vnni && k.halves {
		plus128 = a.splat(0x43000000)
	}
	block := func() {
		for h := range 2 {
			if h == 0 || k.halves {
				for v, s := range sums {
					if a.vnni && !k.halves {
						a.op("VPBROADCASTD", tail(v, recordStart), a.v(s))
					} else {
						a.zero(s)
					}
				}
			}
			for i := range 4 {
				a.op(a.move(), mem("DX", 1024*h+64*i), a.v(w))
				if !a.vnni {
					a.weightsOf(p, w)
				}
				for v, s := range sums {
					if a.vnni {
						a.op("VPDPBUSD.BCST", q(v, 64*h+4*i), a.v(w), a.v(s))
						continue
					}
					a.op("VPBROADCASTD", q(v, 64*h+4*i), a.v(t))
					a.multiply(p, s, w)
				}
			}
			if !k.halves && h == 0 {
				continue
			}
			offset := 0
			if k.halves {
				offset = 256 * h
			}
			f := factor(mem("CX", offset))
			for v, s := range sums {
				a.op("VCVTDQ2PS", a.v(s), a.v(s))
				if plus128 >= 0 {
					a.op("VFNMADD231PS.BCST", tail(v, recordHalf+16*h), a.v(plus128), a.v(s)) // exact: all of these are small integers
				}
				switch {
				case !k.halves:
					a.op("VMULPS", f, a.v(s), a.v(s))
				case h == 0:
					a.op("VMULPS", f, a.v(s), a.v(firsts[v]))
				default:
					a.op("VFMADD132PS", f, a.v(firsts[v]), a.v(s))
				}
			}
		}
		if k.shifted {
			groups := [][2]int{{0, recordSum}}
			if k.halves {
				groups = [][2]int{{0, recordHalf}, {256, recordHalf + 16}}
			}
			for _, g := range groups {
				f := factor(mem("BX", g[0]))
				for v, s := range sums {
					if a.wide() {
						a.op("VFNMADD231PS.BCST", tail(v, g[1]), f, a.v(s))
					} else {
						splat(tail(v, g[1]))
						a.op("VFNMADD231PS", f, a.v(t), a.v(s))
					}
				}
			}
		}
		for v, s := range sums {
			if a.wide() {
				a.op("VFMADD231PS.BCST", tail(v, recordScale), a.v(s), a.v(acc[v]))
			} else {
				splat(tail(v, recordScale))
				a.op("VFMADD231PS", a.v(t), a.v(s), a.v(acc[v]))
			}
		}
	}
	step := func(panel, scale int) {
		a.op("ADDQ", fmt.Sprintf("$%d", panel), "DX")
		if scale > 0 {
			a.op("ADDQ", fmt.Sprintf("$%d", scale), "CX")
			if k.shifted {
				a.op("ADDQ", fmt.Sprintf("$%d", scale), "BX")
			}
		}
	}
	a.loop("AX", "quads", func() {
		a.op("MOVQ", "$4", "R14")
		a.loop("R14", "blocks of a quad", func() {
			block()
			a.op("ADDQ", "$16", "SI")
			a.op("ADDQ", "$4", "R9")
			step(256, 64)
		})
		rest := 0
		if k.halves {
			rest = 256
		}
		a.op("LEAQ", "-64(SI)(R8*1)", "SI")
		a.op("LEAQ", "-16(R9)(R8*1)", "R9")
		step(1024, rest)
	})
	for v := range n {
		a.op("VMOVUPS", a.v(acc[v]), mem("DI", 64*v))
	}
	a.end()
}

// transposers put the words of 16 rows side by side.
func (a *amd64) transposers() {
	a.begin("transpose", "writes the words of 16 rows, stride bytes apart, 16 of one place after the other; pieces are 16 bytes.",
		"dst:*byte=DI", "src:*byte=SI", "stride:int=R8", "pieces:int=CX")
	a.op("LEAQ", "(R8)(R8*2)", "R9")
	a.op("LEAQ", "(SI)(R8*4)", "R10")
	a.op("LEAQ", "(R10)(R8*4)", "R11")
	a.op("LEAQ", "(R11)(R8*4)", "R12")
	bases := []string{"SI", "R10", "R11", "R12"}
	r, t := a.regs("r", 4), a.regs("spare", 4)
	a.loop("CX", "pieces of 64 bytes of each row", func() {
		for half := range 4 / a.lanes {
			for i := range 4 {
				var from []string
				for lane := range a.lanes {
					from = append(from, "("+bases[half*a.lanes+lane]+")"+[]string{"", "(R8*1)", "(R8*2)", "(R9*1)"}[i])
				}
				a.lanesFrom(r[i], from...)
			}
			for i := 0; i < 4; i += 2 {
				a.op("VPUNPCKLDQ", a.v(r[i+1]), a.v(r[i]), a.v(t[i]))
				a.op("VPUNPCKHDQ", a.v(r[i+1]), a.v(r[i]), a.v(t[i+1]))
			}
			for i, place := range []int{0, 2} {
				a.op("VPUNPCKLQDQ", a.v(t[2+i]), a.v(t[i]), a.v(r[0]))
				a.op("VPUNPCKHQDQ", a.v(t[2+i]), a.v(t[i]), a.v(r[1]))
				a.op(a.move(), a.v(r[0]), mem("DI", 64*place+32*half))
				a.op(a.move(), a.v(r[1]), mem("DI", 64*(place+1)+32*half))
			}
		}
		a.op("ADDQ", "$256", "DI")
		for _, b := range bases {
			a.op("ADDQ", "$16", b)
		}
	})
	a.end()
}
