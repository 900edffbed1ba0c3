package main

import "fmt"

// Panels for processors that have no instruction, or none in registers of 512 bits, that adds four products of bytes up. Weights are multiplied as
// they lie in the panel: unsigned, and what their format adds to them is taken off afterwards. Products of two are added up in sums of 16 bits
// for as long as these cannot be too large, and then pairs of sums in 32 bits. Weights of eight bits are multiplied by their magnitude, and
// their sign is given to the activations. With AVX-VNNI sums are of 32 bits from the start.
//
// A register of 512 bits holds all 16 rows of a panel, one of 256 bits a half of them; there are 16 of these, so the sums of floats stay in
// memory.

// sumForm is how a format's panel is multiplied.
type sumForm struct {
	panelForm
	added  int  // to each weight, a power of two or 0
	groups int  // whose products a sum of 16 bits has room for; 0 if they are added in 32 bits
	signed bool // weights are multiplied by their magnitude
}

// sumForms are those of a set. The largest sum of 16 bits is groups × 2 products × 127 × the largest weight.
func (a *amd64) sumForms() (list []sumForm) {
	for _, f := range panelForms {
		n := sumForm{panelForm: f, groups: 8}
		switch {
		case f.bytes:
			n.added, n.signed = 128, !a.vnni
		case f.name == "IQ4_NL":
			n.added, n.signed = 128, !a.vnni
		case f.name == "MXFP4":
			n.added, n.groups = 16, 4 // weights up to 28
		case f.high == 1:
			n.groups = 4 // up to 31
		case f.high == 2:
			n.added, n.groups = 32, 2 // up to 63
		}
		switch f.name {
		case "Q4_0":
			n.added = 8
		case "Q5_0":
			n.added = 16
		}
		if n.signed {
			n.added = 0
		}
		if a.vnni || n.signed {
			n.groups = 0
		}
		list = append(list, n)
	}
	return list
}

// vectors are the numbers of vectors for which there are registers enough.
func (f sumForm) vectors(a *amd64) []int {
	switch {
	case a.wide() && f.kind.halves:
		return []int{8, 4}
	case a.wide():
		return []int{12, 8, 4}
	case a.vnni && f.kind.halves:
		return []int{3, 2, 1}
	case a.vnni:
		return []int{6, 4, 2, 1}
	case f.kind.halves, f.groups > 0 && f.groups < 8 && f.values != nil:
		return []int{2, 1}
	case f.groups > 0 && f.groups < 8:
		return []int{3, 2, 1}
	case f.groups == 8:
		return []int{6, 4, 2, 1}
	}
	return []int{4, 2, 1}
}

func (a *amd64) sumPanels() {
	for _, f := range a.sumForms() {
		for _, n := range f.vectors(a) {
			a.sumPanel(f, n)
		}
	}
}

func (a *amd64) listSumPanels() (text string) {
	text = "[weights.Types][]panelKernel{\n"
	for _, f := range a.sumForms() {
		text += fmt.Sprintf("\t\tweights.%s: {", f.name)
		for i, n := range f.vectors(a) {
			if i > 0 {
				text += ", "
			}
			text += fmt.Sprintf("{%d, panel%s_%d_%s}", n, f.name, n, a.name)
		}
		if a.wide() {
			// With few vectors, two sums of half the rows wait less for each other than one of all does.
			text += fmt.Sprintf(", {2, panel%s_2_avx2}, {1, panel%s_1_avx2}", f.name, f.name)
		}
		text += "},\n"
	}
	return text + "\t}"
}

// sumKernel is what the parts of a kernel share: its registers. Those of vectors are [vector][part of the rows].
type sumKernel struct {
	*amd64
	f            sumForm
	parts        int // of the rows, which have registers of their own
	vectors      int
	sums, firsts []int
	small        []int // sums of 16 bits
	w            []int // of each part, and room for the scales and the minimums of one
	magnitude    []int // of each part
	x1, t        int
	table, zeros int
}

func (a *amd64) sumPanel(f sumForm, n int) {
	a.begin(fmt.Sprintf("panel%s_%d", f.name, n), fmt.Sprintf("adds the products of some units of a panel with %d vectors to acc, which has 16 places for each; xq is the bytes from one quad of the vectors to the next.", n),
		"acc:*float32=DI", "x:*byte=SI", "xq:int=R8", "panel:*byte=CX", "units:int=AX")
	k := &sumKernel{amd64: a, f: f, parts: 4 / a.lanes, vectors: n, w: a.regs("weights", 2), x1: a.reg("activations")}
	k.sums = a.regs("sums", n*k.parts)
	k.t = k.x1
	if !a.vnni || f.kind.halves {
		k.t = a.reg("spare")
	}
	switch {
	case f.signed:
		k.magnitude = a.regs("magnitude", k.parts)
	case f.groups > 0 && f.groups < 8:
		k.small = a.regs("small", n*k.parts)
	}
	if f.signed && a.wide() {
		k.zeros = a.reg("zeros")
		a.zero(k.zeros)
	}
	if f.kind.halves {
		k.firsts = a.regs("firsts", n*k.parts)
	}
	if f.values != nil {
		k.table = a.shifted("sums"+f.name, f.values, f.added)
	}
	blocks := 4 * f.quads
	a.op("LEAQ", mem("SI", recordScale), "R9")
	a.op("LEAQ", mem("CX", f.head+blocks*f.scales), "DX")
	unit := f.head + blocks*(f.scales+f.weights)
	a.loop("AX", "units", func() {
		if f.head > 0 {
			a.op("MOVQ", "CX", "R10")
			a.op("ADDQ", fmt.Sprintf("$%d", f.head), "CX")
		}
		a.op("MOVQ", fmt.Sprintf("$%d", f.quads), "R13")
		a.loop("R13", "quads of a unit", func() {
			a.op("MOVQ", "$4", "R14")
			a.loop("R14", "blocks of a quad", func() {
				k.block()
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
	a.end()
}

// shifted is a register with the bytes of a table, each with something added.
func (a *amd64) shifted(name string, values *[16]int8, added int) int {
	list := make([]uint32, 4, 16)
	for i, v := range values {
		list[i/4] |= uint32(byte(int(v)+added)) << (8 * (i % 4))
	}
	list = append(append(list, list...), append(list, list...)...)
	return a.words(name, list...)
}

func (k *sumKernel) q(v, offset int) string { return mem("SI", recordBytes*v+offset) }
func (k *sumKernel) tail(v, offset int) string {
	return mem("R9", recordBytes*v+offset-recordScale)
}

// group makes the weights of four elements of a part of the rows ready, which are group g of the eight of a block.
func (k *sumKernel) group(g, part int) {
	f, w := k.f, k.v(k.w[part])
	at := 32 * part
	switch {
	case f.bytes:
		k.op(k.move(), mem("DX", 64*g+at), w)
		if f.signed {
			k.op(k.xor(), k.everywhere(bytes4(128)), w, w)
		}
	case g < 4:
		k.op(k.move(), mem("DX", 64*g+at), w)
		k.op(k.and(), k.everywhere(bytes4(15)), w, w)
	default:
		k.op(k.move(), mem("DX", 64*(g-4)+at), w)
		k.op("VPSRLW", "$4", w, w)
		k.op(k.and(), k.everywhere(bytes4(15)), w, w)
	}
	if f.values != nil {
		k.op("VPSHUFB", w, k.v(k.table), w)
	}
	if f.high > 0 {
		// The bits that lie apart are groups one after the other.
		perByte, plane := 8/f.high, k.v(k.x1)
		k.op(k.move(), mem("DX", 256+64*(g/perByte)+at), plane)
		switch move := 4 - f.high*(g%perByte); {
		case move > 0:
			k.op("VPSLLW", fmt.Sprintf("$%d", move), plane, plane)
		case move < 0:
			k.op("VPSRLW", fmt.Sprintf("$%d", -move), plane, plane)
		}
		k.op(k.and(), k.everywhere(bytes4(byte((1<<f.high-1)<<4))), plane, plane)
		k.op(k.or(), plane, w, w)
	}
	if f.signed {
		k.op("VPABSB", w, k.v(k.magnitude[part]))
		if k.wide() {
			k.op("VPMOVB2M", w, "K7")
		}
	}
}

// multiply adds products of a group to a sum. The activations are in x1.
func (k *sumKernel) multiply(sum, part int, first, firstOf16 bool) {
	x1, t, s := k.v(k.x1), k.v(k.t), k.v(k.sums[sum])
	switch {
	case k.vnni:
		k.vpdpbusd(k.x1, k.w[part], k.sums[sum])
	case k.f.signed:
		if k.wide() {
			t = x1
			k.op("VPSUBB", x1, k.v(k.zeros), "K7", t)
		} else {
			k.op("VPSIGNB", k.v(k.w[part]), x1, t)
		}
		k.op("VPMADDUBSW", t, k.v(k.magnitude[part]), t)
		if first {
			k.op("VPMADDWD", k.everywhere(0x00010001), t, s)
			return
		}
		k.op("VPMADDWD", k.everywhere(0x00010001), t, t)
		k.op("VPADDD", t, s, s)
	default:
		if k.small != nil {
			s = k.v(k.small[sum])
		}
		if firstOf16 {
			k.op("VPMADDUBSW", x1, k.v(k.w[part]), s)
			return
		}
		k.op("VPMADDUBSW", x1, k.v(k.w[part]), t)
		k.op("VPADDW", t, s, s)
	}
}

// vpdpbusd adds, to each word of a sum, the products of four unsigned bytes of w with four signed ones of x. The assembler knows it in
// the form for AVX-512 alone; this is that of AVX-VNNI, VEX.256.66.0F38.W0 50 /r (Intel, "Software Developer's Manual", volume 2).
func (a *amd64) vpdpbusd(x, w, sum int) {
	if a.evex {
		a.op("VPDPBUSD", a.v(x), a.v(w), a.v(sum))
		return
	}
	for _, r := range []int{x, w, sum} {
		a.uses(r)
	}
	var list string
	for i, b := range vexVPDPBUSD(x, w, sum) {
		if i > 0 {
			list += "; "
		}
		list += fmt.Sprintf("BYTE $0x%02x", b)
	}
	fmt.Fprintf(&a.text, "\t%s // VPDPBUSD %s, %s, %s\n", list, a.v(x), a.v(w), a.v(sum))
}

// vexVPDPBUSD are the bytes of the instruction, whose operands are registers.
func vexVPDPBUSD(x, w, sum int) [5]byte {
	const map0F38, wide256, prefix66 = 2, 1 << 2, 1
	inverted := func(bit int) byte { return byte(^bit & 1) }
	return [5]byte{0xc4, inverted(sum>>3)<<7 | 1<<6 | inverted(x>>3)<<5 | map0F38, byte(^w&15)<<3 | wide256 | prefix66, 0x50, byte(0xc0 | sum&7<<3 | x&7)}
}

// block adds the products of a block to acc.
func (k *sumKernel) block() {
	f := k.f
	if k.vectors <= 2 {
		for at := 0; at < f.weights; at += 64 {
			k.op("PREFETCHT0", mem("DX", panelAhead+at))
		}
		k.op("PREFETCHT0", mem("CX", panelAhead))
	}
	perHalf := 8
	if f.kind.halves {
		perHalf = 4
	}
	for h := range 8 / perHalf {
		if k.vnni {
			for _, s := range k.sums {
				k.zero(s)
			}
		}
		for g := range perHalf {
			for part := range k.parts {
				k.group(perHalf*h+g, part)
			}
			for v := range k.vectors {
				k.op("VPBROADCASTD", k.q(v, 64*((perHalf*h+g)/4)+4*(g%4)), k.v(k.x1))
				for part := range k.parts {
					k.multiply(k.parts*v+part, part, g == 0, f.groups > 0 && g%f.groups == 0)
				}
			}
			if k.small != nil && (g+1)%f.groups == 0 {
				for i, s := range k.small {
					if g < f.groups {
						k.op("VPMADDWD", k.everywhere(0x00010001), k.v(s), k.v(k.sums[i]))
						continue
					}
					k.op("VPMADDWD", k.everywhere(0x00010001), k.v(s), k.v(s))
					k.op("VPADDD", k.v(s), k.v(k.sums[i]), k.v(k.sums[i]))
				}
			}
		}
		for part := range k.parts {
			k.fold(h, part, h == 8/perHalf-1)
		}
	}
}

// scales reads the scales of a part of the rows to w[0], and their minimums to w[1].
func (k *sumKernel) scales(h, part int) {
	f, t := k.f, k.v(k.t)
	bytes := func(dst int, offset, head int, extend string) {
		d := k.v(dst)
		k.op(extend, mem("CX", offset+8*part), d)
		k.op("VCVTDQ2PS", d, d)
		k.op("VCVTPH2PS", mem("R10", head+16*part), t)
		k.op("VMULPS", t, d, d)
	}
	switch {
	case f.kind.halves:
		bytes(k.w[0], 16*h, 0, "VPMOVSXBD")
	case f.head > 0:
		bytes(k.w[0], 0, 0, "VPMOVZXBD")
		bytes(k.w[1], 16, 32, "VPMOVZXBD")
	case f.floats == "upper":
		k.op("VPMOVZXWD", mem("CX", 16*part), k.v(k.w[0]))
		k.op("VPSLLD", "$16", k.v(k.w[0]), k.v(k.w[0]))
	default:
		k.op("VCVTPH2PS", mem("CX", 16*part), k.v(k.w[0]))
		if f.kind.shifted {
			k.op("VCVTPH2PS", mem("CX", 32+16*part), k.v(k.w[1]))
		}
	}
}

// fold scales the sums of a part of the rows, after half h of the block if halves have scales of their own, and adds them to acc after the
// last.
func (k *sumKernel) fold(h, part int, last bool) {
	f, t := k.f, k.v(k.t)
	k.scales(h, part)
	for v := range k.vectors {
		i := k.parts*v + part
		s, at := k.v(k.sums[i]), mem("DI", 64*v+32*part)
		if f.groups == 8 {
			k.op("VPMADDWD", k.everywhere(0x00010001), s, s)
		}
		if f.added > 0 && !f.kind.halves {
			k.op("VPBROADCASTD", k.tail(v, recordStart), t) // −128 times the sum
			shift := 0
			for f.added<<shift < 128 {
				shift++
			}
			if shift > 0 {
				k.op("VPSRAD", fmt.Sprintf("$%d", shift), t, t)
			}
			k.op("VPADDD", t, s, s)
		}
		k.op("VCVTDQ2PS", s, s)
		if f.kind.halves {
			k.op("VBROADCASTSS", k.tail(v, recordHalf+16*h), t)
			k.op("VFNMADD231PS", k.everywhere(power(5)), t, s) // exact: all of these are small integers
		}
		switch {
		case f.kind.halves && h == 0:
			k.op("VMULPS", k.v(k.w[0]), s, k.v(k.firsts[i]))
		case f.kind.halves:
			k.op("VFMADD213PS", k.v(k.firsts[i]), k.v(k.w[0]), s)
		default:
			k.op("VMULPS", k.v(k.w[0]), s, s)
		}
		if f.kind.shifted {
			k.op("VBROADCASTSS", k.tail(v, recordSum), t)
			k.op("VFNMADD231PS", t, k.v(k.w[1]), s)
		}
		if !last {
			continue
		}
		k.op("VBROADCASTSS", k.tail(v, recordScale), t)
		k.op("VFMADD213PS", at, t, s)
		k.op("VMOVUPS", s, at)
	}
}
