package main

import (
	"fmt"
	"strings"
)

// attention's products of queries with a page of 32 positions, whose keys lie side by side, and what becomes of them.
func (a *amd64) attention() {
	for _, n := range a.queries("scores") {
		a.scores(n)
	}
	for _, n := range a.queries("mix") {
		a.mix(n)
	}
	a.mask()
	a.weigh()
	a.soften()
	a.one()
}

// byteQueries are the numbers of queries that products with keys of bytes are made for, the largest first.
func (a *amd64) byteQueries() []int {
	switch {
	case !a.wide():
		return []int{2, 1}
	case !a.vnni:
		return []int{4, 1}
	}
	return []int{6, 4, 1}
}

// byteScores keeps two registers of sums, and two of integers, for each query; narrow ones take half the positions at a time.
func (a *amd64) byteScores(n int) {
	a.begin(fmt.Sprintf("byteScores%d", n), fmt.Sprintf("gives the products of %d queries, qs bytes apart, with keys of [blocks][8][32][4], whose scales are [blocks][32]; those of the queries lie ss bytes apart; out is [%d][32].", n, n),
		"out:*float32=DI", "q:*int8=SI", "qs:int=R8", "scale:*float32=R12", "start:*int32=R13", "ss:int=R10", "keys:*int8=DX", "scales:*byte=BX", "blocks:int=CX")
	query, tail := a.multiples(n, "R8", "R9", "R14", ""), a.multiples(n, "R10", "R11", "R15", "")
	width := 16 * a.lanes
	for half := range 4 / a.lanes {
		if half > 0 {
			for _, p := range []string{"q+8(FP) SI", "scale+24(FP) R12", "start+32(FP) R13", "keys+48(FP) DX", "scales+56(FP) BX", "blocks+64(FP) CX"} {
				from, to, _ := strings.Cut(p, " ")
				a.op("MOVQ", from, to)
			}
		}
		a.within(func() {
			p := a.bytesProduct(true)
			totals, sums := a.regs("totals", 2*n), a.regs("sums", 2*n)
			k, scales := a.reg("keys"), a.regs("scales", 2)
			flip := -1
			if a.vnni {
				flip = a.splat(bytes4(128))
			}
			for _, r := range totals {
				a.zero(r)
			}
			a.loop("CX", "blocks", func() {
				for i := range n {
					if !a.vnni {
						a.zero(sums[2*i])
						a.zero(sums[2*i+1])
						continue
					}
					a.op("VPBROADCASTD", tail("R13", i, 0), a.v(sums[2*i]))
					a.op("VMOVDQA32", a.v(sums[2*i]), a.v(sums[2*i+1]))
				}
				for g := range 8 {
					for j := range 2 {
						a.op(a.move(), mem("DX", 128*g+64*half+width*j), a.v(k))
						if a.vnni {
							a.op(a.xor(), a.v(flip), a.v(k), a.v(k))
						} else {
							a.weightsOf(p, k)
						}
						for i := range n {
							if a.vnni {
								a.op("VPDPBUSD.BCST", query("SI", i, 4*g), a.v(k), a.v(sums[2*i+j]))
								continue
							}
							a.op("VPBROADCASTD", query("SI", i, 4*g), a.v(p.t))
							a.multiply(p, sums[2*i+j], k)
						}
					}
				}
				for j := range 2 {
					a.op("VCVTPH2PS", mem("BX", 32*half+width/2*j), a.v(scales[j]))
				}
				for i := range n {
					a.op("VBROADCASTSS", tail("R12", i, 0), a.v(k))
					for j := range 2 {
						s := a.v(sums[2*i+j])
						a.op("VCVTDQ2PS", s, s)
						a.op("VMULPS", a.v(scales[j]), s, s)
						a.op("VFMADD231PS", a.v(k), s, a.v(totals[2*i+j]))
					}
				}
				a.op("ADDQ", "$32", "SI")
				a.op("ADDQ", "$4", "R12")
				a.op("ADDQ", "$4", "R13")
				a.op("ADDQ", "$1024", "DX")
				a.op("ADDQ", "$64", "BX")
			})
			for i := range n {
				for j := range 2 {
					a.op("VMOVUPS", a.v(totals[2*i+j]), mem("DI", 128*i+64*half+width*j))
				}
			}
		})
	}
	a.end()
}

// queries are the numbers of queries that products are made for, the largest first. The more of them there are for a value that is read, and values
// for a weight, the fewer operations other than products there are: 8 times 2 registers of scores, 6 times 4 of sums.
func (a *amd64) queries(of string) []int {
	switch {
	case !a.wide():
		return []int{4, 1}
	case of == "scores":
		return []int{8, 4, 1}
	}
	return []int{6, 4, 2, 1}
}

// listAttention is the part of the kernels' Go value that has them.
func (a *amd64) listAttention(set string) (text string) {
	for _, of := range []struct{ field, kind string }{{"scores", "scoresKernel"}, {"mix", "mixKernel"}} {
		text += fmt.Sprintf("\t%s: []%s{", of.field, of.kind)
		for i, n := range a.queries(of.field) {
			if i > 0 {
				text += ", "
			}
			text += fmt.Sprintf("{%d, %s%d_%s}", n, of.field, n, set)
		}
		text += "},\n"
	}
	return text
}

// multiples makes addresses of up to 8 places that lie a step apart. It needs a register for more than two, one more for more than four, and another for all.
func (a *amd64) multiples(n int, step, three, five, seven string) func(base string, i, offset int) string {
	if n > 2 {
		a.op("LEAQ", fmt.Sprintf("(%s)(%s*2)", step, step), three)
	}
	if n > 4 {
		a.op("LEAQ", fmt.Sprintf("(%s)(%s*4)", step, step), five)
	}
	if n > 7 {
		a.op("LEAQ", fmt.Sprintf("(%s)(%s*2)", five, step), seven)
	}
	at := []string{"", "(" + step + "*1)", "(" + step + "*2)", "(" + three + "*1)", "(" + step + "*4)", "(" + five + "*1)", "(" + three + "*2)", "(" + seven + "*1)"}
	return func(base string, i, offset int) string { return fmt.Sprintf("%d(%s)%s", offset, base, at[i]) }
}

// twice does a body as often as a register says, two times in one where that goes.
func (a *amd64) twice(counter string, body func(times int)) {
	odd, again := a.label("odd"), a.label("twice")
	a.op("SUBQ", "$2", counter)
	a.op("JLT", odd)
	a.place(again)
	body(2)
	a.op("SUBQ", "$2", counter)
	a.op("JGE", again)
	a.place(odd)
	a.op("ADDQ", "$2", counter)
	a.loop(counter, "the last, if their number is odd", func() { body(1) })
}

// scores keeps two registers of sums for each query; narrow ones take half the positions at a time.
func (a *amd64) scores(n int) {
	a.begin(fmt.Sprintf("scores%d", n), fmt.Sprintf("gives the products of %d queries, qs bytes apart, with keys of [dims][32]; out is [%d][32].", n, n),
		"out:*float32=DI", "q:*float32=SI", "qs:int=R8", "keys:*float32=DX", "dims:int=CX")
	query := a.multiples(n, "R8", "R9", "R10", "R11")
	for half := range 4 / a.lanes {
		if half > 0 {
			a.op("MOVQ", "q+8(FP)", "SI")
			a.op("MOVQ", "keys+24(FP)", "DX")
			a.op("MOVQ", "dims+32(FP)", "CX")
		}
		a.within(func() {
			sums := a.regs("sums", 2*n)
			k, q := a.regs("k", 2), a.reg("q")
			for _, s := range sums {
				a.zero(s)
			}
			width := 16 * a.lanes
			a.twice("CX", func(dims int) {
				for d := range dims {
					for i := range 2 {
						a.op("VMOVUPS", mem("DX", 128*d+64*half+width*i), a.v(k[i]))
					}
					for i := range n {
						a.op("VBROADCASTSS", query("SI", i, 4*d), a.v(q))
						for j := range 2 {
							a.op("VFMADD231PS", a.v(k[j]), a.v(q), a.v(sums[2*i+j]))
						}
					}
				}
				a.op("ADDQ", fmt.Sprintf("$%d", 4*dims), "SI")
				a.op("ADDQ", fmt.Sprintf("$%d", 128*dims), "DX")
			})
			for i := range n {
				for j := range 2 {
					a.op("VMOVUPS", a.v(sums[2*i+j]), mem("DI", 128*i+64*half+width*j))
				}
			}
		})
	}
	a.end()
}

// mix keeps the sums of 16 dims of each query in registers, or of 64 where these hold them.
func (a *amd64) mix(n int) {
	a.begin(fmt.Sprintf("mix%d", n), fmt.Sprintf("makes each of %d outs, os bytes apart, itself times a number of its own, plus values of [dims], vs bytes apart, times their weights, [%d][32]; dims are 16 at a time.", n, n),
		"out:*float32=DI", "os:int=R8", "by:*float32=BX", "weights:*float32=SI", "values:*float32=DX", "vs:int=AX", "positions:int=R13", "dims:int=CX")
	out := a.multiples(n, "R8", "R9", "R10", "R11")
	part := func(parts int) { // registers for each query
		sums := a.regs("sums", n*parts)
		v, w := a.regs("v", parts), a.reg("weights")
		width := 16 * a.lanes
		for i := range n {
			a.op("VBROADCASTSS", mem("BX", 4*i), a.v(w))
			for part := range parts {
				a.op("VMULPS", out("DI", i, width*part), a.v(w), a.v(sums[i*parts+part]))
			}
		}
		a.op("MOVQ", "DX", "R12")
		a.op("MOVQ", "SI", "R14")
		a.op("MOVQ", "R13", "R15")
		a.loop("R15", "positions", func() {
			for part := range parts {
				a.op("VMOVUPS", mem("R12", width*part), a.v(v[part]))
			}
			for i := range n {
				a.op("VBROADCASTSS", mem("R14", 128*i), a.v(w))
				for part := range parts {
					a.op("VFMADD231PS", a.v(v[part]), a.v(w), a.v(sums[i*parts+part]))
				}
			}
			a.op("ADDQ", "AX", "R12")
			a.op("ADDQ", "$4", "R14")
		})
		for i := range n {
			for part := range parts {
				a.op("VMOVUPS", a.v(sums[i*parts+part]), out("DI", i, width*part))
			}
		}
		a.op("ADDQ", fmt.Sprintf("$%d", width*parts), "DI")
		a.op("ADDQ", fmt.Sprintf("$%d", width*parts), "DX")
	}
	pass := func(parts int) { a.within(func() { part(parts) }) }
	if !a.wide() {
		a.loop("CX", "16 dims", func() { pass(2) })
		a.end()
		return
	}
	few, again := a.label("few"), a.label("four")
	a.op("SUBQ", "$4", "CX")
	a.op("JLT", few)
	a.place(again)
	pass(4)
	a.op("SUBQ", "$4", "CX")
	a.op("JGE", again)
	a.place(few)
	a.op("ADDQ", "$4", "CX")
	a.loop("CX", "16 dims, what is left of 64", func() { pass(1) })
	a.end()
}

// The least and the most of what floats can be.
const (
	minusInfinity = 0xff800000
	infinity      = 0x7f800000
	lowest        = 0xff7fffff // the least number
)

// masks puts the addresses of tables in two registers: the least of scores and of pieces of both is −∞ outside of a range.
func (a *amd64) masks(below, above string) {
	low, high := make([]uint32, 64), make([]uint32, 64)
	for i := range 32 {
		low[i], low[32+i] = minusInfinity, infinity
		high[i], high[32+i] = infinity, minusInfinity
	}
	a.op("LEAQ", a.constant("maskLow", low...), below)
	a.op("LEAQ", a.constant("maskHigh", high...), above)
}

// masked multiplies 32 scores at DI with a number, makes those outside of a range −∞, and leaves the largest of them in the lowest
// place of a register. The range is said by two registers, which it uses up.
func (a *amd64) masked(scale, r, largest, t int, below, above, from, to string) {
	for _, at := range []string{from, to} {
		a.op("NEGQ", at)
		a.op("ADDQ", "$32", at)
	}
	for i := range 8 / a.lanes {
		at := 16 * a.lanes * i
		a.op("VMULPS", mem("DI", at), a.v(scale), a.v(r))
		// Of what is no number, the second operand is taken: here the first that is written.
		a.op("VMINPS", fmt.Sprintf("%d(%s)(%s*4)", at, below, from), a.v(r), a.v(r))
		a.op("VMINPS", fmt.Sprintf("%d(%s)(%s*4)", at, above, to), a.v(r), a.v(r))
		a.op("VMOVUPS", a.v(r), mem("DI", at))
		if i == 0 {
			a.op("VMOVUPS", a.v(r), a.v(largest))
		} else {
			a.op("VMAXPS", a.v(r), a.v(largest), a.v(largest))
		}
	}
	if a.wide() {
		a.op("VEXTRACTF64X4", "$1", a.v(largest), y(t))
		a.op("VMAXPS", y(t), y(largest), y(largest))
	}
	a.op("VEXTRACTF128", "$1", y(largest), x(t))
	a.op("VMAXPS", x(t), x(largest), x(largest))
	for _, shift := range []string{"$8", "$4"} {
		a.op("VPSRLDQ", shift, x(largest), x(t))
		a.op("VMAXPS", x(t), x(largest), x(largest))
	}
}

// mask is the part of the softmax that comes before the peak is known, as Mask defines it.
func (a *amd64) mask() {
	a.begin("mask", "multiplies 32 scores with a number, makes those before and after a range −∞, and gives the largest.",
		"scores:*[32]float32=DI", "scale:int=SI", "from:int=AX", "to:int=BX", ":float32")
	a.masks("R8", "R9")
	scale, r, largest, t := a.reg("scale"), a.reg("r"), a.reg("largest"), a.reg("spare")
	a.number("SI", scale)
	a.masked(scale, r, largest, t, "R8", "R9", "AX", "BX")
	a.op("VMOVSS", x(largest), a.result)
	a.end()
}

// weighed replaces 32 scores at DI by e^(score − peak), and leaves their sum in the lowest place of the first of total.
func (a *amd64) weighed(e exponential, peak, r int, total []int) {
	parts := len(total)
	for i := range 2 * parts {
		at := mem("DI", 16*a.lanes*i)
		a.op("VMOVUPS", at, a.v(r))
		a.op("VSUBPS", a.v(peak), a.v(r), a.v(r))
		a.exp(e, r)
		a.op("VMOVUPS", a.v(r), at)
		if i < parts {
			a.op("VMOVUPS", a.v(r), a.v(total[i]))
		} else {
			a.op("VADDPS", a.v(r), a.v(total[i-parts]), a.v(total[i-parts]))
		}
	}
	a.addUp(total[0], total[parts-1], r)
}

// one is the exponential of one number.
func (a *amd64) one() {
	a.begin("exp", "is e^x.", "x:int=SI", ":float32")
	e := a.exponential()
	v := a.reg("v")
	a.op("VMOVD", "SI", x(v))
	a.exp(e, v)
	a.op("VMOVSS", x(v), a.result)
	a.end()
}

// weigh is the softmax of a page, as Weigh defines it.
func (a *amd64) weigh() {
	a.begin("weigh", "replaces 32 scores by e^(score − peak), and gives their sum.", "scores:*[32]float32=DI", "peak:int=SI", ":float32")
	e := a.exponential()
	peak, r, total := a.reg("peak"), a.reg("r"), a.regs("total", 4/a.lanes)
	a.number("SI", peak)
	a.weighed(e, peak, r, total)
	a.op("VMOVSS", x(total[0]), a.result)
	a.end()
}

// soften is mask and weigh for some queries, four at a time where there are registers enough, with what they have seen before.
func (a *amd64) soften() {
	a.begin("soften", "turns 32 scores of each query, times a number, into weights, e^(score − peak), and 0 outside of its range: peaks and totals, the sums of weights, go on, and shrinks are what weights of before are to be multiplied with.",
		"scores:*float32=DI", "scale:int=SI", "ranges:*[2]int32=R8", "peaks:*float32=R9", "totals:*float32=R10", "shrinks:*float32=R11", "queries:int=CX")
	e := a.exponential()
	if a.wide() {
		few := a.label("few")
		a.op("SUBQ", "$4", "CX")
		a.op("JLT", few)
		again := a.label("four")
		a.place(again)
		a.within(func() { a.softenFour(e) })
		a.op("ADDQ", "$512", "DI")
		a.op("ADDQ", "$32", "R8")
		for _, p := range []string{"R9", "R10", "R11"} {
			a.op("ADDQ", "$16", p)
		}
		a.op("SUBQ", "$4", "CX")
		a.op("JGE", again)
		a.place(few)
		a.op("ADDQ", "$4", "CX")
	}
	r, peak, total := a.reg("r"), a.reg("peak"), a.regs("total", 4/a.lanes)
	a.masks("R12", "R13")
	a.loop("CX", "queries, those that are left of four", func() {
		a.op("MOVLQSX", "(R8)", "AX")
		a.op("MOVLQSX", "4(R8)", "BX")
		largest := total[0]
		a.number("SI", peak)
		a.masked(peak, r, largest, e.t[0], "R12", "R13", "AX", "BX")
		a.softmaxStep(e, largest, r, 1)
		a.op("VBROADCASTSS", "(R9)", a.v(peak))
		a.weighed(e, peak, r, total)
		a.op("VMOVSS", "(R10)", x(r))
		a.op("VMOVSS", "(R11)", x(peak))
		a.op("VFMADD213SS", x(total[0]), x(peak), x(r))
		a.op("VMOVSS", x(r), "(R10)")
		a.op("ADDQ", "$128", "DI")
		a.op("ADDQ", "$8", "R8")
		for _, p := range []string{"R9", "R10", "R11"} {
			a.op("ADDQ", "$4", p)
		}
	})
	a.end()
}

// softmaxStep takes the largest scores of one query or of four, and writes the peaks that follow from them and what is to be shrunk
// by. Peaks are numbers, so that what is −∞ has the weight 0 even where there is nothing else.
func (a *amd64) softmaxStep(e exponential, largest, t, queries int) {
	move, most, less := "VMOVSS", "VMAXSS", "VSUBSS"
	if queries > 1 {
		move, most, less = "VMOVUPS", "VMAXPS", "VSUBPS"
	}
	a.op(move, "(R9)", x(t))
	a.op(most, x(t), x(largest), x(largest))
	if queries > 1 {
		a.op("VBROADCASTSS", a.word(lowest), x(e.t[0]))
		a.op(most, x(e.t[0]), x(largest), x(largest))
	} else {
		a.op(most, a.word(lowest), x(largest), x(largest))
	}
	a.op(move, x(largest), "(R9)")
	a.op(less, x(largest), x(t), x(t))
	a.exp(e, t)
	a.op(move, x(t), "(R11)")
}

// softenFour does four queries at once. Each step is done with four registers in turn, so that none waits for the step before.
func (a *amd64) softenFour(e exponential) {
	scale, none, infinite := a.reg("scale"), a.splat(minusInfinity), a.splat(infinity)
	s := a.regs("s", 8) // two for each query
	n := a.regs("n", 4)
	a.number("SI", scale)
	a.op("MOVQ", "$1", "R12")
	for i := range 4 {
		// Bits from ≤ t < to.
		a.op("MOVLQSX", mem("R8", 8*i), "AX")
		a.op("MOVLQSX", mem("R8", 8*i+4), "BX")
		a.op("SHLXQ", "BX", "R12", "BX")
		a.op("SHLXQ", "AX", "R12", "AX")
		a.op("SUBQ", "AX", "BX")
		a.op("KMOVD", "BX", "K3")
		a.op("KSHIFTRD", "$16", "K3", "K4")
		for j := range 2 {
			r := s[2*i+j]
			a.op("VMULPS", mem("DI", 128*i+64*j), a.v(scale), a.v(n[0]))
			a.op("VMOVUPS", a.v(none), a.v(r))
			a.op("VMINPS", a.v(infinite), a.v(n[0]), fmt.Sprintf("K%d", 3+j), a.v(r)) // what is no number counts as infinite
		}
	}
	for i := range 4 {
		a.op("VMAXPS", a.v(s[2*i+1]), a.v(s[2*i]), a.v(n[i]))
	}
	a.across("VMAXPS", n, e.t[0], e.t[1])
	a.softmaxStep(e, n[0], n[1], 4)
	for i := range 4 {
		for j := range 2 {
			a.op("VSUBPS.BCST", mem("R9", 4*i), a.v(s[2*i+j]), a.v(s[2*i+j]))
		}
	}
	for half := range 2 {
		a.expFour(e, s[4*half:4*half+4], n, scale)
	}
	for i := range 4 {
		for j := range 2 {
			a.op("VMOVUPS", a.v(s[2*i+j]), mem("DI", 128*i+64*j))
		}
		a.op("VADDPS", a.v(s[2*i+1]), a.v(s[2*i]), a.v(n[i]))
	}
	a.across("VADDPS", n, e.t[0], e.t[1])
	a.op("VMOVUPS", "(R10)", x(e.t[0]))
	a.op("VMOVUPS", "(R11)", x(e.t[1]))
	a.op("VFMADD213PS", x(n[0]), x(e.t[1]), x(e.t[0]))
	a.op("VMOVUPS", x(e.t[0]), "(R10)")
}

// across joins the 16 places of each of four registers into one, in the order of addUp, and leaves the four results in the lowest places
// of the first.
func (a *amd64) across(op string, r []int, t, u int) {
	join := func(low, high string, first, second, dst int) {
		a.op("VSHUFF64X2", low, a.v(second), a.v(first), a.v(t))
		a.op("VSHUFF64X2", high, a.v(second), a.v(first), a.v(u))
		a.op(op, a.v(u), a.v(t), a.v(dst))
	}
	join("$0x44", "$0xEE", r[0], r[1], r[0]) // places 8 apart
	join("$0x44", "$0xEE", r[2], r[3], r[2])
	join("$0x88", "$0xDD", r[0], r[2], r[0]) // 4 apart: now each lane has those of a register
	for _, order := range []string{"$0x4E", "$0xB1"} {
		a.op("VPERMILPS", order, a.v(r[0]), a.v(t))
		a.op(op, a.v(t), a.v(r[0]), a.v(r[0]))
	}
	a.op("VMOVUPS", a.constant("firstOfLanes", 0, 4, 8, 12), x(t))
	a.op("VPERMPS", a.v(r[0]), a.v(t), a.v(r[0]))
}

// expFour is exp for four registers; n and t are free.
func (a *amd64) expFour(e exponential, r, n []int, t int) {
	const less = "$1"
	p := []int{e.t[0], e.t[1], e.t[2], e.t[3]}
	each := func(f func(v, n, p, small string)) {
		for i := range r {
			f(a.v(r[i]), a.v(n[i]), a.v(p[i]), fmt.Sprintf("K%d", i+1))
		}
	}
	each(func(v, n, p, small string) { a.op("VCMPPS", less, a.v(e.least), v, small) })
	each(func(v, n, p, small string) { a.op("VMAXPS", v, a.v(e.least), v) })
	each(func(v, n, p, small string) { a.op("VMINPS", v, a.v(e.most), v) })
	each(func(v, n, p, small string) { a.op("VMULPS", a.v(e.log2e), v, n) })
	each(func(v, n, p, small string) { a.op("VCVTPS2DQ", n, n) })
	each(func(v, n, p, small string) {
		a.op("VCVTDQ2PS", n, a.v(t))
		a.op("VFNMADD231PS", a.v(e.high), a.v(t), v)
		a.op("VFNMADD231PS", a.v(e.low), a.v(t), v)
	})
	each(func(v, n, p, small string) { a.op("VBROADCASTSS", a.word(expTerms[0]), p) })
	for _, c := range expTerms[1:] {
		each(func(v, n, p, small string) { a.expTerm(c, v, p, "") })
	}
	for range 2 {
		each(func(v, n, p, small string) { a.op("VFMADD213PS", a.v(e.one), v, p) })
	}
	each(func(v, n, p, small string) {
		a.op("VPSLLD", "$23", n, n)
		a.op("VPADDD", n, p, v)
		a.op("VPXORD", v, v, small, v)
	})
}
