package main

import "fmt"

// Pairs are two panels side by side, their weights as bytes and their scales as floats: an activation that is read once is
// multiplied with the weights of 32 rows. They are made of panels when these are multiplied with many vectors, a part that
// the first cache holds at a time.

// Places in a block of a pair: the weights of eight groups, each 16 rows of the one panel and 16 of the other; the scales of
// both; and their minimums.
const (
	pairScale = 1024
	pairLow   = 1152
	pairBlock = 1280
)

// pairVectors are the numbers of vectors, the largest first.
var pairVectors = []int{6, 4, 2, 1}

// magic is 3·2²², as a float's word: the words of an integer n added to it are those of the float 3·2²² + n, if |n| < 2²².
const (
	magic      = 0x4b400000
	minusMagic = 0xcb400000
)

// pairs writes the kernels for the set that has what they need.
func (a *amd64) pairs() {
	if !a.vnni {
		return
	}
	for _, f := range panelForms {
		if f.spread() {
			a.spread(f)
		}
	}
	for _, k := range kinds[:2] {
		for _, n := range pairVectors {
			a.pair(k, n, false)
		}
	}
	for _, n := range pairVectors {
		a.pair(kinds[0], n, true)
	}
}

// spread reports whether panels are spread to be multiplied with many vectors. Those whose halves have their own scales have
// more sums than there are registers; Q8_0's are bytes as they are.
func (f panelForm) spread() bool { return !f.kind.halves && !f.bytes }

// listPairs is the part of the kernels' Go value that has them.
func (a *amd64) listPairs() (text string) {
	if !a.vnni {
		return ""
	}
	text = "\tspread: [weights.Types]spreadKernel{\n"
	for _, f := range panelForms {
		if f.spread() {
			text += fmt.Sprintf("\t\tweights.%s: spread%s_%s,\n", f.name, f.name, a.name)
		}
	}
	list := func(name string) (text string) {
		for i, n := range pairVectors {
			if i > 0 {
				text += ", "
			}
			text += fmt.Sprintf("{%d, pair%s_%d_%s}", n, name, n, a.name)
		}
		return text
	}
	text += "\t},\n\tpairs: [weights.Types][]pairKernel{\n"
	for _, f := range panelForms {
		switch {
		case f.bytes:
			text += fmt.Sprintf("\t\tweights.%s: {%s},\n", f.name, list(f.name))
		case f.spread():
			text += fmt.Sprintf("\t\tweights.%s: {%s},\n", f.name, list(f.kind.name))
		}
	}
	return text + "\t},\n"
}

// spread makes a half of a pair of a panel.
func (a *amd64) spread(f panelForm) {
	a.begin("spread"+f.name, "writes some units of a panel as a half of a pair.", "dst:*byte=DI", "panel:*byte=CX", "units:int=AX")
	blocks := 4 * f.quads
	a.op("LEAQ", mem("CX", f.head+blocks*f.scales), "DX")
	p := &panelKernel{amd64: a, f: f, w: a.reg("weights"), t: a.reg("spare"), scale: a.reg("scale"), low: -1, d: -1, dmin: -1}
	if f.kind.shifted {
		p.low = a.reg("low")
	}
	if f.head > 0 {
		if p.d = a.reg("d"); f.kind.shifted {
			p.dmin = a.reg("dmin")
		}
	}
	if f.values != nil {
		p.table = a.table(f.name, f.values)
	}
	if f.high > 0 {
		p.plane = a.reg("plane")
	}
	unit := f.head + blocks*(f.scales+f.weights)
	a.loop("AX", "units", func() {
		if f.head > 0 {
			p.head()
		}
		a.op("MOVQ", fmt.Sprintf("$%d", blocks), "R13")
		a.loop("R13", "blocks", func() {
			for at := 0; at < f.weights; at += 64 {
				p.op("PREFETCHT0", mem("DX", panelAhead+at))
			}
			for k := range 8 {
				p.group(k)
				a.op(a.move(), a.v(p.w), mem("DI", 128*k))
			}
			p.scales(0)
			a.op("VMOVUPS", a.v(p.scale), mem("DI", pairScale))
			if p.low >= 0 {
				a.op("VMOVUPS", a.v(p.low), mem("DI", pairLow))
			}
			a.op("ADDQ", fmt.Sprintf("$%d", pairBlock), "DI")
			a.op("ADDQ", fmt.Sprintf("$%d", f.scales), "CX")
			a.op("ADDQ", fmt.Sprintf("$%d", f.weights), "DX")
		})
		a.op("ADDQ", fmt.Sprintf("$%d", unit-f.head-blocks*f.scales), "CX")
		a.op("ADDQ", fmt.Sprintf("$%d", unit-blocks*f.weights), "DX")
	})
	a.end()
}

// pair writes the product of a pair with n vectors; or, if the weights are read from where panels of Q8_0 are, of two of
// these. Each activation is read once for both: with a number in memory, the processor takes a product for two operations.
func (a *amd64) pair(k kind, n int, direct bool) {
	const wide = 2
	name := k.name
	if direct {
		name = "Q8_0"
	}
	a.begin(fmt.Sprintf("pair%s_%d", name, n), fmt.Sprintf("adds the products of a pair with %d vectors to sums, 32 for each, which lie fs bytes apart, or to 0 if there are none, and writes them ts bytes apart; second is the bytes from a panel to the other one, if they are no pair; xq is the bytes from one quad of the vectors to the next.", n),
		"from:*float32=DI", "fs:int=R10", "to:*float32=R11", "ts:int=R12", "x:*byte=SI", "xq:int=R8", "pair:*byte=CX", "second:int=R13", "quads:int=AX")
	a.op("LEAQ", mem("SI", recordScale), "R9")
	q := func(v, offset int) string { return mem("SI", recordBytes*v+offset) }
	tail := func(v, offset int) string { return mem("R9", recordBytes*v+offset-recordScale) }
	if direct {
		a.op("LEAQ", mem("CX", 128), "DX")
	}
	acc, sums := a.regs("totals", wide*n), a.regs("sums", wide*n)
	w := a.regs("weights", wide)
	b := a.reg("b")
	offset := a.splat(magic)
	some, begun := a.label("some"), a.label("begun")
	a.op("TESTQ", "DI", "DI")
	a.op("JNE", some)
	for _, r := range acc {
		a.zero(r)
	}
	a.op("JMP", begun)
	a.place(some)
	for v := range n {
		for h := range wide {
			a.op("VMOVUPS", mem("DI", 64*h), a.v(acc[h*n+v]))
		}
		a.op("ADDQ", "R10", "DI")
	}
	a.place(begun)
	a.loop("AX", "quads", func() {
		a.op("MOVQ", "$4", "R14")
		a.loop("R14", "blocks of a quad", func() {
			for v := range n {
				if k.shifted {
					a.op("VMOVDQA32", a.v(offset), a.v(sums[v]))
				} else {
					a.op("VPADDD.BCST", tail(v, recordStart), a.v(offset), a.v(sums[v]))
				}
				for h := 1; h < wide; h++ {
					a.op("VMOVDQA32", a.v(sums[v]), a.v(sums[h*n+v]))
				}
			}
			for g := range 8 {
				for h := range wide {
					if direct {
						a.op(a.move(), mem("DX", 64*g)+[]string{"", "(R13*1)"}[h], a.v(w[h]))
						continue
					}
					a.op(a.move(), mem("CX", 128*g+64*h), a.v(w[h]))
				}
				for v := range n {
					a.op("VPBROADCASTD", q(v, 64*(g/4)+4*(g%4)), a.v(b))
					for h := range wide {
						a.op("VPDPBUSD", a.v(b), a.v(w[h]), a.v(sums[h*n+v]))
					}
				}
			}
			scale, less := w[0], w[1]
			for h := range wide {
				if direct {
					a.op("VCVTPH2PS", "(CX)"+[]string{"", "(R13*1)"}[h], a.v(scale))
				} else {
					a.op("VMOVUPS", mem("CX", pairScale+64*h), a.v(scale))
				}
				a.op("VMULPS.BCST", a.constant(fmt.Sprintf("word%08x", uint32(minusMagic)), minusMagic), a.v(scale), a.v(less))
				if k.shifted {
					a.op("VMOVUPS", mem("CX", pairLow+64*h), a.v(b))
				}
				for v := range n {
					s, to := sums[h*n+v], acc[h*n+v]
					a.op("VFMADD213PS", a.v(less), a.v(scale), a.v(s)) // the product with the integer, rounded once: the rest is exact
					if k.shifted {
						a.op("VFNMADD231PS.BCST", tail(v, recordSum), a.v(b), a.v(s))
					}
					a.op("VFMADD231PS.BCST", tail(v, recordScale), a.v(s), a.v(to))
				}
			}
			a.op("ADDQ", "$16", "SI")
			a.op("ADDQ", "$4", "R9")
			if direct {
				a.op("ADDQ", "$32", "CX")
				a.op("ADDQ", "$512", "DX")
			} else {
				a.op("ADDQ", fmt.Sprintf("$%d", pairBlock), "CX")
			}
		})
		if direct {
			a.op("ADDQ", "$2048", "CX")
			a.op("ADDQ", "$128", "DX")
		}
		a.op("LEAQ", "-64(SI)(R8*1)", "SI")
		a.op("LEAQ", "-16(R9)(R8*1)", "R9")
	})
	for v := range n {
		for h := range wide {
			a.op("VMOVUPS", a.v(acc[h*n+v]), mem("R11", 64*h))
		}
		a.op("ADDQ", "R12", "R11")
	}
	a.end()
}
