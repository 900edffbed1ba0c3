package main

import "fmt"

// Panels for NEON: a register holds four elements of each of four rows, and four elements of a vector are chosen out of its 16 bytes by the
// instruction itself. So rows are neither taken apart nor turned. Weights are made signed as they are read, so that nothing has to be taken
// off the sums.

// neonVectors are the numbers of vectors for which there are registers enough.
func (f panelForm) neonVectors() []int {
	if f.kind.halves {
		return []int{2, 1}
	}
	return []int{4, 2, 1}
}

func (a *arm64) panels() {
	for _, f := range panelForms {
		for _, n := range f.neonVectors() {
			a.panel(f, n)
		}
	}
}

func (a *arm64) listPanels() string {
	text := "\tpanels: [weights.Types][]panelKernel{\n"
	for _, f := range panelForms {
		text += fmt.Sprintf("\t\tweights.%s: {", f.name)
		for _, n := range f.neonVectors() {
			text += fmt.Sprintf("{%d, panel%s_%d_neon}, ", n, f.name, n)
		}
		text += "},\n"
	}
	return text + "\t},\n"
}

// Registers of panel kernels, beside those of the parameters.
const (
	neonAcc, neonX, neonStep, neonUnits = 0, 1, 2, 4
	neonScales, neonWeights             = 3, 5
	neonTails, neonHead, neonAt         = 6, 7, 8
	neonQuads, neonBlocks               = 10, 11
)

// neonPanel is what the parts of a kernel share: its registers. Those of vectors are [vector][part], a part being four rows.
type neonPanel struct {
	*arm64
	f            panelForm
	n            int
	sums, firsts []int
	x            []int // 16 elements of each vector
	w            []int // of each part: weights, scales or minimums
	t, spare     int
	low, high    int // masks of four bits, and of the bits that lie apart
	less         int // what is taken off the weights, or turned over in them
	table        int
}

func (a *arm64) panel(f panelForm, n int) {
	a.begin(fmt.Sprintf("panel%s_%d", f.name, n), fmt.Sprintf("adds the products of some units of a panel with %d vectors to acc, which has 16 places for each; xq is the bytes from one quad of the vectors to the next.", n),
		"acc:*float32", "x:*byte", "xq:int", "panel:*byte", "units:int")
	p := &neonPanel{arm64: a, f: f, n: n, sums: a.regs("sums", 4*n), x: a.regs("activations", n), w: a.regs("weights", 4), t: a.reg("spare"), spare: a.reg("spare")}
	if f.kind.halves {
		p.firsts = a.regs("firsts", 4*n)
	}
	switch {
	case f.bytes:
		p.less = a.everywhere(bytes4(128))
	case f.values != nil:
		var list [4]uint32
		for i, v := range f.values {
			list[i/4] |= uint32(byte(v)) << (8 * (i % 4))
		}
		p.low, p.table = a.everywhere(bytes4(15)), a.numbers("panel"+f.name, list[:]...)
	default:
		p.low = a.everywhere(bytes4(15))
		if f.high > 0 {
			p.high = a.everywhere(bytes4(byte((1<<f.high - 1) << 4)))
		}
		if f.middle {
			p.less = a.everywhere(bytes4(byte(8 << f.high)))
		}
	}
	blocks := 4 * f.quads
	a.op("ADD", fmt.Sprintf("$%d", recordScale), r(neonX), r(neonTails))
	a.op("ADD", fmt.Sprintf("$%d", f.head+blocks*f.scales), r(neonScales), r(neonWeights))
	a.loop(neonUnits, "units", func() {
		if f.head > 0 {
			a.op("MOVD", r(neonScales), r(neonHead))
			a.advance(neonScales, f.head)
		}
		a.op("MOVD", fmt.Sprintf("$%d", f.quads), r(neonQuads))
		a.loop(neonQuads, "quads of a unit", func() {
			a.op("MOVD", "$4", r(neonBlocks))
			a.loop(neonBlocks, "blocks of a quad", func() {
				p.block()
				a.advance(neonX, 16)
				a.advance(neonTails, 4)
				a.advance(neonScales, f.scales)
				a.advance(neonWeights, f.weights)
			})
			for _, at := range []int{neonX, neonTails} {
				a.op("ADD", r(neonStep), r(at))
			}
			a.advance(neonX, -64)
			a.advance(neonTails, -16)
		})
		a.advance(neonScales, blocks*f.weights)
		a.advance(neonWeights, f.head+blocks*f.scales)
	})
	a.end()
}

// tail loads a word of a vector's tail to all places of a register.
func (p *neonPanel) tail(dst, v, offset int) {
	p.op("ADD", fmt.Sprintf("$%d", recordBytes*v+offset-recordScale), r(neonTails), r(neonAt))
	p.splat(dst, neonAt)
}

// group makes the weights of a part ready, which are of group k of the eight of a block.
func (p *neonPanel) group(k, part int) int {
	f, w := p.f, p.w[part]
	if f.bytes {
		p.load(w, neonWeights, 64*k+16*part)
		p.v("eor", w, w, p.less)
		return w
	}
	p.load(w, neonWeights, 64*(k%4)+16*part)
	if k < 4 {
		p.v("and", w, w, p.low)
	} else {
		p.shiftRight(w, w, 4)
	}
	if f.values != nil {
		p.v("tbl", w, p.table, w)
		return w
	}
	if f.high > 0 {
		// The bits that lie apart are groups one after the other.
		perByte := 8 / f.high
		p.load(p.t, neonWeights, 256+64*(k/perByte)+16*part)
		switch move := 4 - f.high*(k%perByte); {
		case move > 0:
			p.shiftLeft(p.t, p.t, move)
		case move < 0:
			p.shiftRight(p.t, p.t, -move)
		}
		p.v("and", p.t, p.t, p.high)
		p.v("orr", w, w, p.t)
	}
	if f.middle {
		p.v("sub.16b", w, w, p.less)
	}
	return w
}

// scales reads the scales of all parts to w, or their minimums; of a block whose halves have their own, those of half h.
func (p *neonPanel) scales(h int, minimums bool) {
	f := p.f
	second := 0
	if minimums {
		second = 1
	}
	if !f.kind.halves {
		h = 0
	}
	halves := func(base, offset int, dst []int) {
		for i := range 2 {
			p.load(p.t, base, offset+16*i)
			p.u("fcvtl", dst[2*i], p.t)
			p.u("fcvtl2", dst[2*i+1], p.t)
		}
	}
	switch {
	case f.head == 0 && f.floats == "upper":
		for i := range 2 {
			p.load(p.t, neonScales, 16*i)
			p.u("uxtl.4s", p.w[2*i], p.t)
			p.u("uxtl2.4s", p.w[2*i+1], p.t)
		}
		for _, w := range p.w {
			p.shiftLeftWords(w, w, 16)
		}
	case f.head == 0:
		halves(neonScales, 32*second, p.w)
	default:
		extend := []string{"uxtl.8h", "uxtl2.8h", "uxtl.4s", "uxtl2.4s"}
		if f.kind.halves {
			extend = []string{"sxtl.8h", "sxtl2.8h", "sxtl.4s", "sxtl2.4s"}
		}
		p.load(p.t, neonScales, 16*max(h, second))
		for i := range 2 {
			p.u(extend[i], p.spare, p.t)
			p.u(extend[2], p.w[2*i], p.spare)
			p.u(extend[3], p.w[2*i+1], p.spare)
		}
		for i := range 2 {
			p.load(p.t, neonHead, 32*second+16*i)
			for j, widen := range []string{"fcvtl", "fcvtl2"} {
				p.u("scvtf", p.w[2*i+j], p.w[2*i+j])
				p.u(widen, p.spare, p.t)
				p.v("fmul", p.w[2*i+j], p.w[2*i+j], p.spare)
			}
		}
	}
}

// block adds the products of a block to acc.
func (p *neonPanel) block() {
	f := p.f
	if p.n <= 2 {
		for at := 0; at < f.weights; at += 64 {
			p.ahead(neonWeights, panelAhead+at)
		}
		p.ahead(neonScales, panelAhead)
	}
	for h := range 2 {
		for v := range p.n {
			p.load(p.x[v], neonX, recordBytes*v+64*h)
		}
		if h == 0 || f.kind.halves {
			for _, s := range p.sums {
				p.zero(s)
			}
		}
		for i := range 4 {
			for part := range 4 {
				w := p.group(4*h+i, part)
				for v := range p.n {
					p.sdotElement(p.sums[4*v+part], w, p.x[v], i)
				}
			}
		}
		if h == 0 && !f.kind.halves {
			continue
		}
		p.scales(h, false)
		for i, s := range p.sums {
			p.u("scvtf", s, s)
			switch {
			case !f.kind.halves:
				p.v("fmul", s, s, p.w[i%4])
			case h == 0:
				p.v("fmul", p.firsts[i], s, p.w[i%4])
			default:
				p.v("fmla", p.firsts[i], s, p.w[i%4])
			}
		}
	}
	sums := p.sums
	if f.kind.halves {
		sums = p.firsts
	}
	if f.kind.shifted {
		p.scales(0, true)
		for v := range p.n {
			p.tail(p.t, v, recordSum)
			for part := range 4 {
				p.v("fmls", sums[4*v+part], p.w[part], p.t)
			}
		}
	}
	for v := range p.n {
		p.tail(p.t, v, recordScale)
		for part := range 4 {
			p.load(p.spare, neonAcc, 64*v+16*part)
			p.v("fmla", p.spare, sums[4*v+part], p.t)
			p.store(p.spare, neonAcc, 64*v+16*part)
		}
	}
}
