package main

import "fmt"

func (a *arm64) floats() {
	a.widen("widenF16", "expands half floats, 16 at a time.", func() {
		v, t := a.reg("v"), a.reg("spare")
		for i := range 2 {
			a.load(v, 1, 16*i)
			a.u("fcvtl", t, v)
			a.store(t, 0, 32*i)
			a.u("fcvtl2", t, v)
			a.store(t, 0, 32*i+16)
		}
	})
	a.widen("widenBF16", "expands the upper halves of floats, 16 at a time.", func() {
		v, t := a.reg("v"), a.reg("spare")
		for i := range 2 {
			a.load(v, 1, 16*i)
			for j, widen := range []string{"uxtl.4s", "uxtl2.4s"} {
				a.u(widen, t, v)
				a.shiftLeftWords(t, t, 16)
				a.store(t, 0, 32*i+16*j)
			}
		}
	})
	a.begin("dotFloats1", "is the product of two vectors, of 16 elements at a time.", "w:*float32", "x:*float32", "n:int", ":float32")
	a.dotFloats(1, 1, 2, []int{0})
	a.begin("dotFloats4", "gives the products of four rows, ws bytes apart, with a vector, of 16 elements at a time.", "out:*float32", "w:*float32", "ws:int", "x:*float32", "n:int")
	a.op("ADD", "R2", "R1", "R5")
	a.op("ADD", "R2", "R5", "R6")
	a.op("ADD", "R2", "R6", "R7")
	a.dotFloats(4, 3, 4, []int{1, 5, 6, 7})

	elementwise(&neonVectors{arm64: a})
	a.recur()
}

func (a *arm64) widen(name, comment string, body func()) {
	a.begin(name, comment, "dst:*float32", "src:*byte", "n:int")
	a.loop(2, "16 elements", func() {
		body()
		a.advance(0, 64)
		a.advance(1, 32)
	})
	a.end()
}

// dotFloats keeps 16 sums for each row.
func (a *arm64) dotFloats(rows, x, counter int, pointers []int) {
	sums := a.regs("sums", 4*rows)
	v, t := a.regs("v", 4), a.reg("spare")
	for _, s := range sums {
		a.zero(s)
	}
	a.loop(counter, "16 elements", func() {
		for part := range 4 {
			a.load(v[part], x, 16*part)
		}
		for i, p := range pointers {
			for part := range 4 {
				a.load(t, p, 16*part)
				a.v("fmla", sums[4*i+part], t, v[part])
			}
			a.advance(p, 64)
		}
		a.advance(x, 64)
	})
	for i := range rows {
		a.addUp(sums[4*i:4*i+4], t)
		if rows > 1 {
			a.store4(sums[4*i], 0, 4*i)
		} else {
			a.op("FMOVS", fmt.Sprintf("F%d", sums[0]), a.result)
		}
	}
	a.end()
}

// recur carries rows of a state on, and multiplies them with a vector.
func (a *arm64) recur() {
	a.begin("recur", "makes each row s of a state s·fade + k·u, u being one number of each row, and gives its product with q; rows are of 16 elements n times.",
		"out:*float32", "s:*float32", "k:*float32", "q:*float32", "fade:int", "u:*float32", "rows:int", "n:int")
	fade, u, v, t, sums := a.reg("fade"), a.reg("spare"), a.reg("v"), a.reg("spare"), a.regs("sums", 4)
	a.fromGeneral(fade, 4)
	a.loop(6, "rows of the state", func() {
		a.op("MOVWU", "(R5)", "R11")
		a.fromGeneral(u, 11)
		for _, s := range sums {
			a.zero(s)
		}
		a.op("MOVD", "R2", "R8")
		a.op("MOVD", "R3", "R9")
		a.op("MOVD", "R7", "R10")
		a.loop(10, "16 elements of a row", func() {
			for part := range 4 {
				a.load(v, 1, 16*part)
				a.load(t, 8, 16*part)
				a.v("fmul", v, v, fade)
				a.v("fmla", v, t, u)
				a.store(v, 1, 16*part)
				a.load(t, 9, 16*part)
				a.v("fmla", sums[part], t, v)
			}
			for _, p := range []int{1, 8, 9} {
				a.advance(p, 64)
			}
		})
		a.addUp(sums, t)
		a.store4(sums[0], 0, 0)
		a.advance(0, 4)
		a.advance(5, 4)
	})
	a.end()
}

// addUp adds 16 sums in four registers pairwise: those 8 apart, 4, 2, 1.
func (a *arm64) addUp(s []int, t int) {
	a.v("fadd", s[0], s[0], s[2])
	a.v("fadd", s[1], s[1], s[3])
	a.v("fadd", s[0], s[0], s[1])
	a.v("zip2.2d", t, s[0], s[0])
	a.v("fadd", s[0], s[0], t)
	a.word(0x4e0c0400|uint32(s[0])<<5|uint32(t), "dup v%d.4s, v%d.s[1]", t, s[0])
	a.v("fadd", s[0], s[0], t)
}

// neonExp is what exp needs.
type neonExp struct {
	one, least, most, log2e, high, low int
	terms                              []int
	n, p, t, small                     int
}

func (a *arm64) exponential() (e neonExp) {
	e.one, e.least, e.most = a.everywhere(0x3f800000), a.everywhere(0xc2aeac4f), a.everywhere(0x42b0c0a5)
	e.log2e, e.high, e.low = a.everywhere(0x3fb8aa3b), a.everywhere(0x3f318000), a.everywhere(0xb95e8083)
	for _, t := range expTerms {
		e.terms = append(e.terms, a.everywhere(t))
	}
	e.n, e.p, e.t, e.small = a.reg("n"), a.reg("p"), a.reg("spare"), a.reg("small")
	return e
}

// exp replaces a register by its exponential, as Exp defines it.
func (a *arm64) exp(e neonExp, v int) {
	a.v("fcmgt", e.small, e.least, v)
	a.v("fmax", v, v, e.least) // what is no number stays so
	a.v("fmin", v, v, e.most)
	a.v("fmul", e.n, v, e.log2e)
	a.u("fcvtns", e.n, e.n)
	a.u("scvtf", e.t, e.n)
	a.v("fmls", v, e.t, e.high)
	a.v("fmls", v, e.t, e.low)
	p, next := e.terms[0], e.p
	for _, term := range append(append([]int{}, e.terms[1:]...), e.one, e.one) {
		a.u("mov", next, term)
		a.v("fmla", next, p, v)
		if p == e.terms[0] {
			p = e.t
		}
		p, next = next, p
	}
	a.shiftLeftWords(e.n, e.n, 23)
	a.v("add.4s", v, p, e.n)
	a.v("bic", v, v, e.small)
}

func (a *arm64) attention() {
	a.byteScores(2)
	a.byteScores(1)
	for _, n := range neonQueries {
		a.scores(n)
		a.mix(n)
	}
	a.mask()
	a.weigh()
	a.soften()
	a.begin("exp", "is e^x.", "x:int", ":float32")
	e, v := a.exponential(), a.reg("v")
	a.fromGeneral(v, 0)
	a.exp(e, v)
	a.op("FMOVS", fmt.Sprintf("F%d", v), a.result)
	a.end()
}

var neonQueries = []int{4, 1}

// scores takes 16 positions at a time.
func (a *arm64) scores(n int) {
	a.begin(fmt.Sprintf("scores%d", n), fmt.Sprintf("gives the products of %d queries, qs bytes apart, with keys of [dims][32]; out is [%d][32].", n, n),
		"out:*float32", "q:*float32", "qs:int", "keys:*float32", "dims:int")
	sums, k, q := a.regs("sums", 4*n), a.regs("k", 4), a.reg("q")
	for half := range 2 {
		a.op("MOVD", "R1", "R5")
		a.op("ADD", fmt.Sprintf("$%d", 64*half), "R3", "R6")
		a.op("MOVD", "R4", "R7")
		for _, s := range sums {
			a.zero(s)
		}
		a.loop(7, "dims", func() {
			for part := range 4 {
				a.load(k[part], 6, 16*part)
			}
			a.op("MOVD", "R5", "R8")
			for i := range n {
				a.splat(q, 8)
				a.op("ADD", "R2", "R8")
				for part := range 4 {
					a.v("fmla", sums[4*i+part], k[part], q)
				}
			}
			a.advance(5, 4)
			a.advance(6, 128)
		})
		for i := range n {
			for part := range 4 {
				a.store(sums[4*i+part], 0, 128*i+64*half+16*part)
			}
		}
	}
	a.end()
}

// byteScores takes 16 positions at a time.
func (a *arm64) byteScores(n int) {
	a.begin(fmt.Sprintf("byteScores%d", n), fmt.Sprintf("gives the products of %d queries, qs bytes apart, with keys of [blocks][8][32][4], whose scales are [blocks][32]; those of the queries lie ss bytes apart; out is [%d][32].", n, n),
		"out:*float32", "q:*int8", "qs:int", "scale:*float32", "start:*int32", "ss:int", "keys:*int8", "scales:*byte", "blocks:int")
	totals, sums, q := a.regs("totals", 4*n), a.regs("sums", 4*n), a.regs("queries", 2*n)
	k, scales, by := a.reg("keys"), a.regs("scales", 4), a.reg("scale of a query")
	const keysAt, scalesAt, count = 11, 13, 12
	queryAt, byAt := []int{9, 14}[:n], []int{10, 15}[:n]
	for half := range 2 {
		for i := range n {
			a.op("MOVD", r(1), r(queryAt[i]))
			a.op("MOVD", r(3), r(byAt[i]))
			if i > 0 {
				a.op("ADD", r(2), r(queryAt[i]))
				a.op("ADD", r(5), r(byAt[i]))
			}
		}
		a.op("ADD", fmt.Sprintf("$%d", 64*half), r(6), r(keysAt))
		a.op("ADD", fmt.Sprintf("$%d", 32*half), r(7), r(scalesAt))
		a.op("MOVD", r(8), r(count))
		for _, t := range totals {
			a.zero(t)
		}
		a.loop(count, "blocks", func() {
			for i := range n {
				a.load(q[2*i], queryAt[i], 0)
				a.load(q[2*i+1], queryAt[i], 16)
			}
			for _, s := range sums {
				a.zero(s)
			}
			for g := range 8 {
				for part := range 4 {
					a.load(k, keysAt, 128*g+16*part)
					for i := range n {
						a.sdotElement(sums[4*i+part], k, q[2*i+g/4], g%4)
					}
				}
			}
			for h := range 2 {
				a.load(k, scalesAt, 16*h)
				a.u("fcvtl", scales[2*h], k)
				a.u("fcvtl2", scales[2*h+1], k)
			}
			for i := range n {
				a.splat(by, byAt[i])
				for part := range 4 {
					s := sums[4*i+part]
					a.u("scvtf", s, s)
					a.v("fmul", s, s, scales[part])
					a.v("fmla", totals[4*i+part], s, by)
				}
				a.advance(queryAt[i], 32)
				a.advance(byAt[i], 4)
			}
			a.advance(keysAt, 1024)
			a.advance(scalesAt, 64)
		})
		for i := range n {
			for part := range 4 {
				a.store(totals[4*i+part], 0, 128*i+64*half+16*part)
			}
		}
	}
	a.end()
}

func (a *arm64) mix(n int) {
	a.begin(fmt.Sprintf("mix%d", n), fmt.Sprintf("makes each of %d outs, os bytes apart, itself times a number of its own, plus values of [dims], vs bytes apart, times their weights, [%d][32]; dims are 16 at a time.", n, n),
		"out:*float32", "os:int", "by:*float32", "weights:*float32", "values:*float32", "vs:int", "positions:int", "dims:int")
	sums, v, w := a.regs("sums", 4*n), a.regs("v", 4), a.reg("weights")
	outs := func(do func(i, s, base, offset int)) {
		a.op("MOVD", "R0", "R10")
		for i := range n {
			for part := range 4 {
				do(i, sums[4*i+part], 10, 16*part)
			}
			a.op("ADD", "R1", "R10")
		}
	}
	a.loop(7, "16 dims", func() {
		outs(func(i, s, base, offset int) {
			if offset == 0 {
				a.op("ADD", fmt.Sprintf("$%d", 4*i), "R2", "R11")
				a.splat(w, 11)
			}
			a.load(s, base, offset)
			a.v("fmul", s, s, w)
		})
		a.op("MOVD", "R4", "R8")
		a.op("MOVD", "R3", "R9")
		a.op("MOVD", "R6", "R12")
		a.loop(12, "positions", func() {
			for part := range 4 {
				a.load(v[part], 8, 16*part)
			}
			for i := range n {
				a.op("ADD", fmt.Sprintf("$%d", 128*i), "R9", "R10")
				a.splat(w, 10)
				for part := range 4 {
					a.v("fmla", sums[4*i+part], v[part], w)
				}
			}
			a.op("ADD", "R5", "R8")
			a.advance(9, 4)
		})
		outs(func(_, s, base, offset int) { a.store(s, base, offset) })
		a.advance(0, 64)
		a.advance(4, 64)
	})
	a.end()
}

// masks puts the addresses of tables in R12 and R13: the least of scores and of pieces of both is −∞ outside of a range.
func (a *arm64) masks() {
	low, high := make([]uint32, 64), make([]uint32, 64)
	for i := range 32 {
		low[i], low[32+i] = minusInfinity, infinity
		high[i], high[32+i] = infinity, minusInfinity
	}
	for i, table := range []string{a.constant("maskLow", low...), a.constant("maskHigh", high...)} {
		a.op("MOVD", "$"+table, r(12+i))
		a.advance(12+i, 128)
	}
}

// masked multiplies 32 scores at R0 with a number, makes those outside of the range from R14 to R15 −∞, and leaves the largest of
// them in the lowest place of a register.
func (a *arm64) masked(scale, infinite, v, t, odd, largest int) {
	for i := range 2 {
		a.op("SUB", fmt.Sprintf("R%d<<2", 14+i), r(12+i), r(16+i))
	}
	for i := range 8 {
		a.load(v, 0, 16*i)
		a.v("fmul", v, v, scale)
		a.v("fcmge", odd, v, v) // not so of what is no number, which counts as infinite
		a.v("bif", v, infinite, odd)
		for _, from := range []int{16, 17} {
			a.load(t, from, 16*i)
			a.v("fmin", v, v, t)
		}
		a.store(v, 0, 16*i)
		if i == 0 {
			a.u("mov", largest, v)
		} else {
			a.v("fmax", largest, largest, v)
		}
	}
	a.u("fmaxv", largest, largest)
}

func (a *arm64) mask() {
	a.begin("mask", "multiplies 32 scores with a number, makes those before and after a range −∞, and gives the largest.", "scores:*[32]float32", "scale:int", "from:int", "to:int", ":float32")
	scale, infinite, v, t, odd, largest := a.reg("scale"), a.everywhere(infinity), a.reg("v"), a.reg("spare"), a.reg("odd"), a.reg("largest")
	a.fromGeneral(scale, 1)
	a.op("MOVD", "R2", "R14")
	a.op("MOVD", "R3", "R15")
	a.masks()
	a.masked(scale, infinite, v, t, odd, largest)
	a.op("FMOVS", fmt.Sprintf("F%d", largest), a.result)
	a.end()
}

// weighed replaces 32 scores at R0 by e^(score − peak), and leaves their sum in the lowest place of the first of totals.
func (a *arm64) weighed(e neonExp, peak, v int, totals []int) {
	for i := range 8 {
		a.load(v, 0, 16*i)
		a.v("fsub", v, v, peak)
		a.exp(e, v)
		a.store(v, 0, 16*i)
		if i < 4 {
			a.u("mov", totals[i], v)
		} else {
			a.v("fadd", totals[i-4], totals[i-4], v)
		}
	}
	a.addUp(totals, v)
}

func (a *arm64) weigh() {
	a.begin("weigh", "replaces 32 scores by e^(score − peak), and gives their sum.", "scores:*[32]float32", "peak:int", ":float32")
	e := a.exponential()
	peak, v, totals := a.reg("peak"), a.reg("v"), a.regs("totals", 4)
	a.fromGeneral(peak, 1)
	a.weighed(e, peak, v, totals)
	a.op("FMOVS", fmt.Sprintf("F%d", totals[0]), a.result)
	a.end()
}

// soften is mask and weigh for some queries, with what they have seen before.
func (a *arm64) soften() {
	a.begin("soften", "turns 32 scores of each query, times a number, into weights, e^(score − peak), and 0 outside of its range: peaks and totals, the sums of weights, go on, and shrinks are what weights of before are to be multiplied with.",
		"scores:*float32", "scale:int", "ranges:*[2]int32", "peaks:*float32", "totals:*float32", "shrinks:*float32", "queries:int")
	e := a.exponential()
	scale, infinite, least := a.reg("scale"), a.everywhere(infinity), a.everywhere(lowest)
	v, peak, totals := a.reg("v"), a.reg("peak"), a.regs("totals", 4)
	a.fromGeneral(scale, 1)
	a.masks()
	a.loop(6, "queries", func() {
		a.op("MOVW", "(R2)", "R14")
		a.op("MOVW", "4(R2)", "R15")
		largest, old := totals[0], totals[1]
		a.masked(scale, infinite, v, totals[1], totals[2], largest)
		a.splat(old, 3)
		a.u("dup", peak, largest)
		a.v("fmax", peak, peak, old)
		a.v("fmax", peak, peak, least)
		a.store4(peak, 3, 0)
		a.v("fsub", old, old, peak)
		a.exp(e, old)
		a.store4(old, 5, 0)
		a.weighed(e, peak, v, totals)
		a.splat(v, 4)
		a.splat(peak, 5)
		a.v("fmla", totals[0], v, peak)
		a.store4(totals[0], 4, 0)
		a.advance(0, 128)
		a.advance(2, 8)
		for _, p := range []int{3, 4, 5} {
			a.advance(p, 4)
		}
	})
	a.end()
}

// round rounds activations to records.
func (a *arm64) round() {
	a.begin("round", "rounds quads of floats to records, xq bytes apart, and gives how many it has done: it stops before one that has a block of zeros, of numbers too small, or of what is no number.",
		"records:*byte", "xq:int", "x:*float32", "quads:int", ":int")
	a.op("MOVD", "$0", "R4")
	v := a.regs("v", 8)
	largest, t, u, of127, inverse := a.reg("largest"), a.reg("spare"), a.reg("spare"), a.everywhere(0x42fe0000), a.reg("inverse")
	stop := a.label("stop")
	a.loop(3, "quads", func() {
		for b := range 4 {
			for i, x := range v {
				a.load(x, 2, 128*b+16*i)
				a.u("fabs", t, x)
				if i == 0 {
					a.u("mov", largest, t)
				} else {
					a.v("umax.4s", largest, largest, t) // as integers: what is no number is larger than all numbers
				}
			}
			a.u("umaxv.4s", largest, largest)
			a.op("FMOVS", fmt.Sprintf("F%d", largest), "R5")
			a.op("SUBW", "$0x04000000", "R5", "R6")
			a.op("MOVD", "$0x7b800000", "R7")
			a.op("CMPW", "R7", "R6")
			a.op("BHS", stop)
			a.word(0x4e040400|uint32(largest)<<5|uint32(largest), "dup v%d.4s, v%d.s[0]", largest, largest)
			a.v("fdiv", t, largest, of127)
			a.store4(t, 0, recordScale+4*b)
			a.v("fdiv", inverse, of127, largest)
			for _, x := range v {
				a.v("fmul", x, x, inverse)
				a.u("fcvtns", x, x)
			}
			for h := range 2 {
				x := v[4*h : 4*h+4]
				a.v("add.4s", t, x[0], x[1])
				a.v("add.4s", u, x[2], x[3])
				a.v("add.4s", t, t, u)
				a.u("addv.4s", t, t)
				if h == 0 {
					a.u("mov", largest, t)
				} else {
					a.v("add.4s", largest, largest, t)
				}
				a.u("scvtf", t, t)
				a.store4(t, 0, recordHalf+16*h+4*b)
				a.u("sqxtn.4h", x[0], x[0])
				a.u("sqxtn2.8h", x[0], x[1])
				a.u("sqxtn.4h", x[2], x[2])
				a.u("sqxtn2.8h", x[2], x[3])
				a.u("sqxtn.8b", x[0], x[0])
				a.u("sqxtn2.16b", x[0], x[2])
				a.store(x[0], 0, 64*h+16*b)
			}
			a.u("scvtf", t, largest)
			a.store4(t, 0, recordSum+4*b)
			a.shiftLeftWords(t, largest, 7)
			a.op("FMOVS", fmt.Sprintf("F%d", t), "R5")
			a.op("NEGW", "R5", "R5")
			a.op("MOVW", "R5", fmt.Sprintf("%d(R0)", recordStart+4*b))
		}
		a.op("ADD", "R1", "R0")
		a.advance(2, 512)
		a.advance(4, 1)
	})
	a.place(stop)
	a.op("MOVD", "R4", a.result)
	a.end()
}

func (a *arm64) probes() {
	for _, p := range []struct{ name, comment, op string }{
		{"probeBytes", "does 10 products of bytes in registers, so often.", "sdot"},
		{"probeFloats", "does 10 fused multiplications of floats in registers, so often.", "fmla"},
	} {
		a.begin(p.name, p.comment, "n:int")
		w, sums := a.reg("weights"), a.regs("sums", 10)
		for _, s := range append(sums, w) {
			a.zero(s)
		}
		a.loop(0, "rounds", func() {
			for _, s := range sums {
				a.v(p.op, s, w, w)
			}
		})
		a.end()
	}
	a.begin("probeRead", "reads 256 bytes at a time, so often.", "data:*byte", "n:int")
	v := a.regs("v", 8)
	a.loop(1, "256 bytes", func() {
		for i := range 16 {
			a.load(v[i%8], 0, 16*i)
		}
		a.advance(0, 256)
	})
	a.end()
}
