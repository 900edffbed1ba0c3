package main

import "fmt"

// Panels are 16 rows in the order in which their words are multiplied, as package tensor writes them: lanes of the sums are
// rows, so no sum crosses lanes and one operation scales 16 of them. Weights are unsigned in them, moved up to the highest
// bits of their bytes where 0 is in the middle of what they can be, so that the same correction, −128 times the sum of the
// activations, holds for all formats; their scales are made smaller by as much, a power of two.

// panelForm is what a unit of a panel holds: the scales of its blocks first, then their weights.
type panelForm struct {
	name    string
	quads   int // of a unit
	head    int // bytes before the scales
	scales  int // bytes of a block's scales
	weights int // bytes of a block's weights
	high    int // bits of a weight that lie apart from its lowest four
	up      int // bits by which weights are moved up
	bytes   bool
	middle  bool // weights have 128 added
	values  *[16]int8
	floats  string // how a simple format has its scales: half floats, or the upper halves of floats
	kind    kind
}

var panelForms = []panelForm{
	{name: "Q8_0", quads: 1, scales: 32, weights: 512, bytes: true, middle: true, floats: "half", kind: kinds[0]},
	{name: "Q4_0", quads: 1, scales: 32, weights: 256, up: 4, middle: true, floats: "half", kind: kinds[0]},
	{name: "Q4_1", quads: 1, scales: 64, weights: 256, floats: "half", kind: kinds[1]},
	{name: "Q5_0", quads: 1, scales: 32, weights: 320, high: 1, up: 3, middle: true, floats: "half", kind: kinds[0]},
	{name: "Q5_1", quads: 1, scales: 64, weights: 320, high: 1, floats: "half", kind: kinds[1]},
	{name: "IQ4_NL", quads: 1, scales: 32, weights: 256, values: &uneven, middle: true, floats: "half", kind: kinds[0]},
	{name: "MXFP4", quads: 1, scales: 32, weights: 256, values: &twiceFP4, middle: true, floats: "upper", kind: kinds[0]},
	{name: "Q4_K", quads: 2, head: 64, scales: 32, weights: 256, kind: kinds[1]},
	{name: "Q5_K", quads: 2, head: 64, scales: 32, weights: 320, high: 1, kind: kinds[1]},
	{name: "Q6_K", quads: 2, head: 64, scales: 32, weights: 384, high: 2, up: 2, middle: true, kind: kinds[2]},
}

// vectors are the numbers of vectors for which there are registers enough.
func (f panelForm) vectors() []int {
	switch {
	case f.kind.halves:
		return []int{6, 4, 2, 1}
	case f.high > 0:
		return []int{8, 4, 2, 1}
	}
	return []int{12, 8, 4, 2, 1}
}

// panels writes the kernels for the set that has what they need.
func (a *amd64) panels() {
	if !a.vnni {
		return
	}
	for _, f := range panelForms {
		for _, n := range f.vectors() {
			a.panel(f, n)
		}
	}
}

// listPanels is the part of the kernels' Go value that has them.
func (a *amd64) listPanels() (text string) {
	if !a.vnni {
		return ""
	}
	text = "\tpanels: [weights.Types][]panelKernel{\n"
	for _, f := range panelForms {
		text += fmt.Sprintf("\t\tweights.%s: {", f.name)
		for i, n := range f.vectors() {
			if i > 0 {
				text += ", "
			}
			text += fmt.Sprintf("{%d, panel%s_%d_%s}", n, f.name, n, a.name)
		}
		text += "},\n"
	}
	return text + "\t},\n"
}

// panelAhead is how far ahead of its use a panel is asked for; processors do not look over the end of a page by themselves.
const panelAhead = 4096

// panel writes the product of a panel with n vectors.
func (a *amd64) panel(f panelForm, n int) {
	a.begin(fmt.Sprintf("panel%s_%d", f.name, n), fmt.Sprintf("adds the products of some units of a panel with %d vectors to acc, which has 16 places for each; xq is the bytes from one quad of the vectors to the next.", n),
		"acc:*float32=DI", "x:*byte=SI", "xq:int=R8", "panel:*byte=CX", "units:int=AX")
	blocks := 4 * f.quads
	a.op("LEAQ", mem("SI", recordScale), "R9")
	a.op("LEAQ", mem("CX", f.head+blocks*f.scales), "DX")
	p := &panelKernel{amd64: a, f: f, sums: a.regs("sums", n), acc: a.regs("totals", n), w: a.reg("weights"), t: a.reg("spare"), scale: a.reg("scale"), low: -1, d: -1, dmin: -1}
	if f.kind.halves {
		p.firsts = a.regs("firsts", n)
	}
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
	for v, r := range p.acc {
		a.op("VMOVUPS", mem("DI", 64*v), a.v(r))
	}
	unit := f.head + blocks*(f.scales+f.weights)
	a.loop("AX", "units", func() {
		if f.head > 0 {
			p.head()
		}
		a.op("MOVQ", fmt.Sprintf("$%d", f.quads), "R13")
		a.loop("R13", "quads of a unit", func() {
			a.op("MOVQ", "$4", "R14")
			a.loop("R14", "blocks of a quad", func() {
				p.block()
				a.op("ADDQ", "$16", "SI")
				a.op("ADDQ", "$4", "R9")
				a.op("ADDQ", fmt.Sprintf("$%d", f.scales), "CX")
				a.op("ADDQ", fmt.Sprintf("$%d", f.weights), "DX")
			})
			a.op("LEAQ", "-64(SI)(R8*1)", "SI")
			a.op("LEAQ", "-16(R9)(R8*1)", "R9")
		})
		a.op("ADDQ", fmt.Sprintf("$%d", unit-f.head-blocks*f.scales), "CX")
		a.op("ADDQ", fmt.Sprintf("$%d", unit-blocks*f.weights), "DX")
	})
	for v, r := range p.acc {
		a.op("VMOVUPS", a.v(r), mem("DI", 64*v))
	}
	a.end()
}

// panelKernel is what the parts of a kernel share: its registers.
type panelKernel struct {
	*amd64
	f                         panelForm
	sums, acc, firsts         []int
	w, t, scale, low, d, dmin int
	table, plane              int
}

func (p *panelKernel) q(v, offset int) string    { return mem("SI", recordBytes*v+offset) }
func (p *panelKernel) tail(v, offset int) string { return mem("R9", recordBytes*v+offset-recordScale) }

// head reads what the scales of a unit are multiplied with.
func (p *panelKernel) head() {
	p.op("VCVTPH2PS", mem("CX", 0), p.v(p.d))
	if p.f.up > 0 {
		p.op("VMULPS", p.everywhere(power(-p.f.up)), p.v(p.d), p.v(p.d))
	}
	if p.dmin >= 0 {
		p.op("VCVTPH2PS", mem("CX", 32), p.v(p.dmin))
	}
	p.op("ADDQ", fmt.Sprintf("$%d", p.f.head), "CX")
}

// power is a power of two as a float's word.
func power(e int) uint32 { return uint32(127+e) << 23 }

// scales reads the scales, and minimums, of a block; of one whose halves have their own, those of a half.
func (p *panelKernel) scales(half int) {
	bytes := func(dst, offset, with int, extend string) {
		p.op(extend, mem("CX", offset), p.v(dst))
		p.op("VCVTDQ2PS", p.v(dst), p.v(dst))
		p.op("VMULPS", p.v(with), p.v(dst), p.v(dst))
	}
	switch {
	case p.f.kind.halves:
		bytes(p.scale, 16*half, p.d, "VPMOVSXBD")
	case p.f.head > 0:
		bytes(p.scale, 0, p.d, "VPMOVZXBD")
		bytes(p.low, 16, p.dmin, "VPMOVZXBD")
	case p.f.floats == "upper":
		p.op("VPMOVZXWD", mem("CX", 0), p.v(p.scale))
		p.op("VPSLLD", "$16", p.v(p.scale), p.v(p.scale))
	default:
		p.op("VCVTPH2PS", mem("CX", 0), p.v(p.scale))
		if p.f.up > 0 {
			p.op("VMULPS", p.everywhere(power(-p.f.up)), p.v(p.scale), p.v(p.scale))
		}
		if p.low >= 0 {
			p.op("VCVTPH2PS", mem("CX", 32), p.v(p.low))
		}
	}
}

// group makes the weights of four elements ready, which are group k of the eight of a block.
func (p *panelKernel) group(k int) {
	f, w := p.f, p.v(p.w)
	if f.bytes {
		p.op(p.move(), mem("DX", 64*k), w)
		return
	}
	from := mem("DX", 64*(k%4))
	mask := p.everywhere(bytes4(15 << f.up))
	// The lower four bits of a byte are of the first half, the upper ones of the second.
	switch move := f.up - 4*(k/4); {
	case move > 0:
		p.op("VPSLLW", fmt.Sprintf("$%d", move), from, w)
		p.op("VPANDD", mask, w, w)
	case move < 0:
		p.op("VPSRLW", fmt.Sprintf("$%d", -move), from, w)
		p.op("VPANDD", mask, w, w)
	default:
		p.op(p.move(), from, w)
		p.op("VPANDD", mask, w, w)
	}
	if f.values != nil {
		p.op("VPSHUFB", w, p.v(p.table), w)
	}
	if f.high == 0 {
		return
	}
	// The bits that lie apart are groups one after the other.
	perByte := 8 / f.high
	at, plane := f.high*(k%perByte), p.v(p.plane)
	from = mem("DX", 256+64*(k/perByte))
	switch move := 4 + f.up - at; {
	case move > 0:
		p.op("VPSLLW", fmt.Sprintf("$%d", move), from, plane)
	case move < 0:
		p.op("VPSRLW", fmt.Sprintf("$%d", -move), from, plane)
	default:
		p.op(p.move(), from, plane)
	}
	high := p.everywhere(bytes4(byte((1<<f.high - 1) << (4 + f.up))))
	p.op("VPTERNLOGD", "$0xF8", high, plane, w) // w | plane & high
}

// block adds the products of a block to acc.
func (p *panelKernel) block() {
	f := p.f
	n := len(p.sums)
	if n <= 4 {
		for at := 0; at < f.weights; at += 64 {
			p.op("PREFETCHT0", mem("DX", panelAhead+at))
		}
		p.op("PREFETCHT0", mem("CX", panelAhead))
	}
	for h := range 2 {
		if h == 0 || f.kind.halves {
			for v, s := range p.sums {
				if f.middle && !f.kind.halves {
					p.op("VPBROADCASTD", p.tail(v, recordStart), p.v(s))
				} else {
					p.zero(s)
				}
			}
		}
		for i := range 4 {
			p.group(4*h + i)
			for v, s := range p.sums {
				p.op("VPDPBUSD.BCST", p.q(v, 64*h+4*i), p.v(p.w), p.v(s))
			}
		}
		if !f.kind.halves && h == 0 {
			continue
		}
		p.scales(h)
		for v, s := range p.sums {
			p.op("VCVTDQ2PS", p.v(s), p.v(s))
			if f.kind.halves {
				p.op("VBROADCASTSS", p.tail(v, recordHalf+16*h), p.v(p.t))
				p.op("VFNMADD231PS", p.everywhere(power(7)), p.v(p.t), p.v(s)) // exact: all of these are small integers
			}
			switch {
			case !f.kind.halves:
				p.op("VMULPS", p.v(p.scale), p.v(s), p.v(s))
			case h == 0:
				p.op("VMULPS", p.v(p.scale), p.v(s), p.v(p.firsts[v]))
			default:
				p.op("VFMADD213PS", p.v(p.firsts[v]), p.v(p.scale), p.v(s))
			}
		}
	}
	for v, s := range p.sums {
		if f.kind.shifted {
			p.op("VFNMADD231PS.BCST", p.tail(v, recordSum), p.v(p.low), p.v(s))
		}
		p.op("VFMADD231PS.BCST", p.tail(v, recordScale), p.v(s), p.v(p.acc[v]))
	}
}
