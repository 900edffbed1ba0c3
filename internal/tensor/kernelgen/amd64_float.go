package main

import "fmt"

// floats are the products of float weights, which are widened first, and what is done with whole vectors of floats.
func (a *amd64) floats() {
	a.widen("widenF16", "expands half floats, 16 at a time.", func(from string, r int) { a.op("VCVTPH2PS", from, a.v(r)) })
	a.widen("widenBF16", "expands the upper halves of floats, 16 at a time.", func(from string, r int) {
		a.op("VPMOVZXWD", from, a.v(r))
		a.op("VPSLLD", "$16", a.v(r), a.v(r))
	})
	a.widenBytes()
	a.dotFloats("dotFloats1", "is the product of two vectors, of 16 elements at a time.", 1, "w:*float32=SI", "x:*float32=DX", "n:int=CX", ":float32")
	a.dotFloats("dotFloats4", "gives the products of four rows, ws bytes apart, with a vector, of 16 elements at a time.", 4, "out:*float32=DI", "w:*float32=SI", "ws:int=R8", "x:*float32=DX", "n:int=CX")
	elementwise(&amd64Vectors{amd64: a})
	if a.wide() {
		a.tileFloats()
	}
	a.recur()
}

// number puts a float, the bits of which are in a general register, to all places of a register.
func (a *amd64) number(from string, r int) {
	a.op("VMOVD", from, x(r))
	a.op("VBROADCASTSS", x(r), a.v(r))
}

func (a *amd64) widen(name, comment string, load func(from string, r int)) {
	a.begin(name, comment, "dst:*float32=DI", "src:*byte=BX", "n:int=CX")
	r := a.reg("r")
	a.loop("CX", "16 elements", func() {
		a.op("PREFETCHT0", mem("BX", ahead))
		for part := range 4 / a.lanes {
			load(mem("BX", 16*part), r)
			a.op("VMOVUPS", a.v(r), mem("DI", 32*part))
		}
		a.op("ADDQ", "$32", "BX")
		a.op("ADDQ", "$64", "DI")
	})
	a.end()
}

// dotFloats keeps 16 sums for each row, which are added up pairwise at the end.
func (a *amd64) dotFloats(name, comment string, rows int, parameters ...string) {
	a.begin(name, comment, parameters...)
	if rows > 1 {
		a.op("LEAQ", "(R8)(R8*2)", "R9")
	}
	parts := 4 / a.lanes
	sums := a.regs("sums", rows*parts)
	w, v := a.reg("weights"), a.regs("v", parts)
	for _, s := range sums {
		a.zero(s)
	}
	a.loop("CX", "16 elements", func() {
		for part := range parts {
			a.op("VMOVUPS", mem("DX", 32*part), a.v(v[part]))
		}
		for i := range rows {
			at := "(SI)" + []string{"", "(R8*1)", "(R8*2)", "(R9*1)"}[i]
			a.op("PREFETCHT0", fmt.Sprint(ahead, at))
			for part := range parts {
				a.op("VFMADD231PS", fmt.Sprint(32*part, at), a.v(v[part]), a.v(sums[i*parts+part]))
			}
		}
		a.op("ADDQ", "$64", "DX")
		a.op("ADDQ", "$64", "SI")
	})
	for i := range rows {
		s := sums[i*parts]
		a.addUp(s, sums[i*parts+parts-1], w)
		if rows == 1 {
			a.op("VMOVSS", x(s), a.result)
		} else {
			a.op("VMOVSS", x(s), mem("DI", 4*i))
		}
	}
	a.end()
}

// tileFloats is dotFloats for four rows and four vectors, whose 16 times 16 sums are all in registers: what is loaded is used four times.
func (a *amd64) tileFloats() {
	const n = 4
	a.begin("tileFloats", "gives the products of four rows, ws bytes apart, with four vectors, xs bytes apart, of 16 elements at a time; those of a vector are os bytes after those of the one before.",
		"out:*float32=DI", "os:int=R11", "w:*float32=SI", "ws:int=R8", "x:*float32=DX", "xs:int=R10", "n:int=CX")
	a.op("LEAQ", "(R8)(R8*2)", "R9")
	a.op("LEAQ", "(R10)(R10*2)", "R12")
	t, w, sums, v := a.reg("spare"), a.reg("weights"), a.regs("sums", n*n), a.regs("v", n)
	for _, s := range sums {
		a.zero(s)
	}
	a.loop("CX", "16 elements", func() {
		for i, at := range []string{"", "(R10*1)", "(R10*2)", "(R12*1)"} {
			a.op("VMOVUPS", "(DX)"+at, a.v(v[i]))
		}
		for r, at := range []string{"", "(R8*1)", "(R8*2)", "(R9*1)"} {
			a.op("VMOVUPS", "(SI)"+at, a.v(w))
			for i := range n {
				a.op("VFMADD231PS", a.v(w), a.v(v[i]), a.v(sums[n*i+r]))
			}
		}
		a.op("ADDQ", "$64", "DX")
		a.op("ADDQ", "$64", "SI")
	})
	for i, s := range sums {
		if s > 15 { // where some instructions do not reach
			a.op("VMOVAPS", a.v(s), a.v(sums[0]))
			s = sums[0]
		}
		a.addUp(s, s, t)
		a.op("VMOVSS", x(s), mem("DI", 4*(i%n)))
		if i%n == n-1 && i+1 < len(sums) {
			a.op("ADDQ", "R11", "DI")
		}
	}
	a.end()
}

// recur carries rows of a state on, and multiplies them with a vector.
func (a *amd64) recur() {
	a.begin("recur", "makes each row s of a state s·fade + k·u, u being one number of each row, and gives its product with q; rows are of 16 elements n times.",
		"out:*float32=DI", "s:*float32=SI", "k:*float32=DX", "q:*float32=R8", "fade:int=BX", "u:*float32=R9", "rows:int=CX", "n:int=R10")
	parts := 4 / a.lanes
	fade, u, r, t, sums := a.reg("fade"), a.reg("spare"), a.reg("r"), a.reg("spare"), a.regs("sums", parts)
	a.number("BX", fade)
	a.loop("CX", "rows of the state", func() {
		a.op("VBROADCASTSS", "(R9)", a.v(u))
		for _, s := range sums {
			a.zero(s)
		}
		a.op("XORQ", "AX", "AX")
		a.op("MOVQ", "R10", "R11")
		a.loop("R11", "16 elements of a row", func() {
			for part := range parts {
				at := func(base string) string { return fmt.Sprintf("%d(%s)(AX*1)", 32*part, base) }
				a.op("VMULPS", at("SI"), a.v(fade), a.v(r))
				a.op("VFMADD231PS", at("DX"), a.v(u), a.v(r))
				a.op("VMOVUPS", a.v(r), at("SI"))
				a.op("VFMADD231PS", at("R8"), a.v(r), a.v(sums[part]))
			}
			a.op("ADDQ", "$64", "AX")
		})
		a.addUp(sums[0], sums[parts-1], t)
		a.op("VMOVSS", x(sums[0]), "(DI)")
		a.op("ADDQ", "AX", "SI")
		a.op("ADDQ", "$4", "DI")
		a.op("ADDQ", "$4", "R9")
	})
	a.end()
}

// addUp adds 16 sums, in one register or in two, pairwise: those 8 apart, 4, 2, 1.
func (a *amd64) addUp(s, second, t int) {
	if a.wide() {
		a.op("VEXTRACTF64X4", "$1", a.v(s), y(t))
		a.op("VADDPS", y(t), y(s), y(s))
	} else {
		a.op("VADDPS", y(second), y(s), y(s))
	}
	a.op("VEXTRACTF128", "$1", y(s), x(t))
	a.op("VADDPS", x(t), x(s), x(s))
	a.op("VPSRLDQ", "$8", x(s), x(t))
	a.op("VADDPS", x(t), x(s), x(s))
	a.op("VPSRLDQ", "$4", x(s), x(t))
	a.op("VADDPS", x(t), x(s), x(s))
}

// exponential is what exp needs: constants, and registers to work with.
type exponential struct {
	one, least, most, log2e, high, low int
	t                                  []int
}

func (a *amd64) exponential() (e exponential) {
	e.one, e.least, e.most = a.splat(0x3f800000), a.splat(0xc2aeac4f), a.splat(0x42b0c0a5)
	e.log2e, e.high, e.low = a.splat(0x3fb8aa3b), a.splat(0x3f318000), a.splat(0xb95e8083)
	e.t = a.regs("spare", 4)
	return e
}

// expTerms are the coefficients of e^r for |r| ≤ ln 2 / 2, the highest first; two ones follow.
var expTerms = []uint32{0x39506967, 0x3ab743ce, 0x3c088908, 0x3d2aa9c1, 0x3e2aaaaa, 0x3f000000}

// word is a constant of one word.
func (a *amd64) word(w uint32) string { return a.constant(fmt.Sprintf("word%08x", w), w) }

// expTerm multiplies p with v and adds a constant.
func (a *amd64) expTerm(c uint32, v, p, t string) {
	if a.wide() {
		a.op("VFMADD213PS.BCST", a.word(c), v, p)
		return
	}
	a.op("VBROADCASTSS", a.word(c), t)
	a.op("VFMADD213PS", t, v, p)
}

// exp replaces a register by its exponential, as Exp defines it.
func (a *amd64) exp(e exponential, r int) {
	n, p, t, small := a.v(e.t[0]), a.v(e.t[1]), a.v(e.t[2]), a.v(e.t[3])
	v := a.v(r)
	const less = "$1"
	if a.wide() {
		a.op("VCMPPS", less, a.v(e.least), v, "K2")
	} else {
		a.op("VCMPPS", less, a.v(e.least), v, small)
	}
	// Of a number and something that is none, the second operand is taken: here the first that is written.
	a.op("VMAXPS", v, a.v(e.least), v)
	a.op("VMINPS", v, a.v(e.most), v)
	a.op("VMULPS", a.v(e.log2e), v, n)
	a.op("VCVTPS2DQ", n, n)
	a.op("VCVTDQ2PS", n, t)
	a.op("VFNMADD231PS", a.v(e.high), t, v)
	a.op("VFNMADD231PS", a.v(e.low), t, v)
	a.op("VBROADCASTSS", a.word(expTerms[0]), p)
	for _, c := range expTerms[1:] {
		a.expTerm(c, v, p, t)
	}
	for range 2 {
		a.op("VFMADD213PS", a.v(e.one), v, p)
	}
	a.op("VPSLLD", "$23", n, n)
	a.op("VPADDD", n, p, v)
	if a.wide() {
		a.op("VPXORD", v, v, "K2", v)
	} else {
		a.op("VANDNPS", v, small, v)
	}
}

// activations rounds them to records.
func (a *amd64) activations() {
	a.begin("round", "rounds quads of floats to records, xq bytes apart, and gives how many it has done: it stops before one that has a block of zeros, of numbers too small, or of what is no number.",
		"records:*byte=DI", "xq:int=BX", "x:*float32=SI", "quads:int=CX", ":int")
	a.op("XORQ", "AX", "AX")
	magnitude := a.splat(0x7fffffff)
	perBlock := 8 / a.lanes // registers of a block
	v := a.regs("v", perBlock)
	largest, t, u := a.reg("largest"), a.reg("spare"), a.reg("spare")
	stop := a.label("stop")
	a.loop("CX", "quads", func() {
		for b := range 4 {
			for i, r := range v {
				a.op("VMOVUPS", mem("SI", 128*b+16*a.lanes*i), a.v(r))
				if i == 0 {
					a.op(a.and(), a.v(magnitude), a.v(r), a.v(largest))
					continue
				}
				a.op(a.and(), a.v(magnitude), a.v(r), a.v(t))
				// As integers, since then what is no number is larger than all numbers.
				a.op("VPMAXUD", a.v(t), a.v(largest), a.v(largest))
			}
			if a.wide() {
				a.op("VEXTRACTI64X4", "$1", a.v(largest), y(t))
				a.op("VPMAXUD", y(t), y(largest), y(largest))
			}
			a.op("VEXTRACTI128", "$1", y(largest), x(t))
			a.op("VPMAXUD", x(t), x(largest), x(largest))
			a.op("VPSHUFD", "$0x4E", x(largest), x(t))
			a.op("VPMAXUD", x(t), x(largest), x(largest))
			a.op("VPSHUFD", "$0xB1", x(largest), x(t))
			a.op("VPMAXUD", x(t), x(largest), x(largest))
			// Between 2^-119 and the largest number, 127 over it is a number, and so is it.
			a.op("VMOVD", x(largest), "R8")
			a.op("LEAL", "-0x04000000(R8)", "R9")
			a.op("CMPL", "R9", "$0x7b800000")
			a.op("JAE", stop)
			a.op("VMOVSS", a.constant("plus127", 0x42fe0000), x(t))
			a.op("VDIVSS", x(t), x(largest), x(u)) // the scale
			a.op("VMOVSS", x(u), mem("DI", recordScale+4*b))
			a.op("VDIVSS", x(largest), x(t), x(t))
			a.op("VBROADCASTSS", x(t), a.v(t))
			for _, r := range v {
				a.op("VMULPS", a.v(t), a.v(r), a.v(r))
				a.op("VCVTPS2DQ", a.v(r), a.v(r))
			}
			for h := range 2 {
				if a.wide() {
					a.op("VPMOVDB", a.v(v[h]), mem("DI", 64*h+16*b))
					continue
				}
				a.op("VPACKSSDW", a.v(v[2*h+1]), a.v(v[2*h]), a.v(t)) // words 0-3 8-11 4-7 12-15
				a.op("VPERMQ", "$0xD8", a.v(t), a.v(t))
				a.op("VEXTRACTI128", "$1", a.v(t), x(u))
				a.op("VPACKSSWB", x(u), x(t), x(t))
				a.op("VMOVDQU", x(t), mem("DI", 64*h+16*b))
			}
			// The sums of the halves, and of both.
			for h := range 2 {
				r := v[h]
				if !a.wide() {
					r = v[2*h]
					a.op("VPADDD", a.v(v[2*h+1]), a.v(r), a.v(r))
				} else {
					a.op("VEXTRACTI64X4", "$1", a.v(r), y(t))
					a.op("VPADDD", y(t), y(r), y(r))
				}
				a.op("VEXTRACTI128", "$1", y(r), x(t))
				a.op("VPADDD", x(t), x(r), x(r))
				a.op("VPSHUFD", "$0x4E", x(r), x(t))
				a.op("VPADDD", x(t), x(r), x(r))
				a.op("VPSHUFD", "$0xB1", x(r), x(t))
				a.op("VPADDD", x(t), x(r), x(r))
				a.op("VCVTDQ2PS", x(r), x(t))
				a.op("VMOVSS", x(t), mem("DI", recordHalf+16*h+4*b))
				if h == 1 {
					first := v[0]
					a.op("VPADDD", x(first), x(r), x(r))
					a.op("VCVTDQ2PS", x(r), x(t))
					a.op("VMOVSS", x(t), mem("DI", recordSum+4*b))
					a.op("VPSLLD", "$7", x(r), x(r))
					a.op("VPXOR", x(t), x(t), x(t))
					a.op("VPSUBD", x(r), x(t), x(t))
					a.op("VMOVD", x(t), mem("DI", recordStart+4*b))
				}
			}
		}
		a.op("ADDQ", "BX", "DI")
		a.op("ADDQ", "$512", "SI")
		a.op("INCQ", "AX")
	})
	a.place(stop)
	a.op("MOVQ", "AX", a.result)
	a.end()
}

// widenBytes multiply bytes with scales, as contexts of bytes have them.
func (a *amd64) widenBytes() {
	step := 4 * a.lanes
	widen := func(r, from, to int, scale string) {
		a.op("VPMOVSXBD", mem("SI", from), a.v(r))
		a.op("VCVTDQ2PS", a.v(r), a.v(r))
		a.op("VMULPS", scale, a.v(r), a.v(r))
		a.op("VMOVUPS", a.v(r), mem("DI", to))
	}
	a.begin("scaleColumns", "widens rows of 32 bytes, each of which has the same 32 scales.", "dst:*float32=DI", "q:*int8=SI", "scale:*float32=DX", "rows:int=CX")
	scales := a.regs("scales", 32/step)
	r := a.reg("r")
	for i, s := range scales {
		a.op("VMOVUPS", mem("DX", 4*step*i), a.v(s))
	}
	a.loop("CX", "rows of 32", func() {
		for i, s := range scales {
			widen(r, step*i, 4*step*i, a.v(s))
		}
		a.op("ADDQ", "$32", "SI")
		a.op("ADDQ", "$128", "DI")
	})
	a.end()
	a.begin("scaleRows", "widens rows of so many 16 bytes, each of which has one scale.", "dst:*float32=DI", "q:*int8=SI", "scale:*float32=DX", "rows:int=CX", "sixteens:int=R8")
	scale, r := a.reg("scale"), a.reg("r")
	a.loop("CX", "rows", func() {
		a.op("VBROADCASTSS", "(DX)", a.v(scale))
		a.op("ADDQ", "$4", "DX")
		a.op("MOVQ", "R8", "R9")
		a.loop("R9", "16 bytes of a row", func() {
			for i := 0; i < 16; i += step {
				widen(r, i, 4*i, a.v(scale))
			}
			a.op("ADDQ", "$16", "SI")
			a.op("ADDQ", "$64", "DI")
		})
	})
	a.end()
}
