package main

import (
	"fmt"
	"strings"
)

// amd64 writes kernels for one of the vector instruction sets of x86-64.
type amd64 struct {
	source
	name  string
	lanes int  // of 128 bits in a register
	vnni  bool // whether four products of bytes are added up by one instruction
	evex  bool // whether that instruction is written in the form for AVX-512

	result string // where the function under way returns its result
}

// The files of 512-bit registers share everything but the products of bytes, so the set with VNNI has only these.
func (a *amd64) kernels() {
	a.set = a.name
	if a.vnni && !a.wide() {
		a.sumPanels() // the rest is shared with the set without VNNI
		return
	}
	a.unpackers()
	a.rowsKernels()
	a.dots()
	a.tiles()
	a.panels()
	a.pairs()
	if !a.vnni {
		a.sumPanels()
	}
	a.probes()
	for _, n := range a.byteQueries() {
		a.byteScores(n)
	}
	if a.vnni {
		return
	}
	a.transposers()
	a.floats()
	a.attention()
	a.activations()
}

// list is the Go value that has all kernels of the set.
func (a *amd64) list() string {
	if a.vnni && !a.wide() {
		return fmt.Sprintf("var %sPanels = %s\n", a.name, a.listSumPanels())
	}
	shared := a.name
	if a.vnni {
		shared = "avx512"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "var %sKernels = kernels{\n\tname: %q, biased: %v, tileRows: %d,\n", a.name, a.name, a.vnni, 4*a.lanes)
	b.WriteString("\tunpack: [weights.Types]unpackKernel{\n")
	for _, f := range unpacked() {
		fmt.Fprintf(&b, "\t\tweights.%s: unpack%s_%s,\n", f, f, a.name)
	}
	b.WriteString("\t},\n")
	if list := a.rowsFormats(); len(list) > 0 {
		b.WriteString("\trows: [weights.Types]rowsKernel{\n")
		for _, f := range list {
			fmt.Fprintf(&b, "\t\tweights.%s: rows%s_%s,\n", f, f, a.name)
		}
		b.WriteString("\t},\n")
	}
	b.WriteString("\tdot: [4]dotKernel{")
	for i, k := range kinds {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "dot%s_%s", k.name, a.name)
	}
	b.WriteString("},\n\ttiles: [4][]tileKernel{\n")
	for _, k := range kinds {
		b.WriteString("\t\t{")
		for i, n := range a.tileSizes(k) {
			if i > 0 {
				b.WriteString(", ")
			}
			fmt.Fprintf(&b, "{%d, tile%s_%d_%s}", n, k.name, n, a.name)
		}
		b.WriteString("},\n")
	}
	b.WriteString("\t},\n" + a.listPanels() + a.listPairs())
	if !a.vnni {
		b.WriteString("\tpanels: " + a.listSumPanels() + ",\n")
	}
	for _, f := range vectorKernels {
		fmt.Fprintf(&b, "\t%s: %s_%s,\n", f.field, f.name, shared)
	}
	if a.wide() {
		fmt.Fprintf(&b, "\ttileFloats: tileFloats_%s,\n", shared)
	}
	b.WriteString(a.listAttention(shared) + "\tbyteScores: []byteScoresKernel{")
	for i, n := range a.byteQueries() {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "{%d, byteScores%d_%s}", n, n, a.name)
	}
	b.WriteString("},\n")
	fmt.Fprintf(&b, "\tscaleColumns: scaleColumns_%s, scaleRows: scaleRows_%s,\n", shared, shared)
	fmt.Fprintf(&b, "\tprobeBytes: probeBytes_%s, probeFloats: probeFloats_%s, probeRead: probeRead_%s,\n}\n\n", a.name, shared, shared)
	return b.String()
}

func (a *amd64) wide() bool { return a.lanes == 4 }

// v is register i in the set's width, x its lowest 128 bits, y its lowest 256.
func (a *amd64) v(i int) string {
	if a.wide() {
		return fmt.Sprintf("Z%d", i)
	}
	return fmt.Sprintf("Y%d", i)
}
func x(i int) string { return fmt.Sprintf("X%d", i) }
func y(i int) string { return fmt.Sprintf("Y%d", i) }

// begin begins a function and loads its parameters, each of which is written "name:type=register"; ":type" is the result.
func (a *amd64) begin(name, comment string, parameters ...string) {
	if a.reset(); a.count == 0 {
		a.count = 8 * a.lanes
	}
	var list, registers, names []string
	for _, p := range parameters {
		var n, t, r string
		n, p, _ = strings.Cut(p, ":")
		t, r, _ = strings.Cut(p, "=")
		list, names, registers = append(list, n+":"+t), append(names, n), append(registers, r)
	}
	a.function(name, comment, list...)
	for i, r := range registers {
		if r == "" {
			a.result = fmt.Sprintf("ret+%d(FP)", 8*i)
			continue
		}
		a.op("MOVQ", fmt.Sprintf("%s+%d(FP)", names[i], 8*i), r)
	}
}

func (a *amd64) end() {
	a.op("VZEROUPPER")
	a.op("RET")
	a.noted()
}

// loop writes a body that is done as often as a register says, which counts down; not at all for 0. What it goes through stands before it.
func (a *amd64) loop(counter, through string, body func()) {
	a.comment("Each of %s: %s.", counter, through)
	again, done := a.label("loop"), a.label("done")
	a.op("TESTQ", counter, counter)
	a.op("JLE", done)
	a.place(again)
	body()
	a.op("DECQ", counter)
	a.op("JNZ", again)
	a.place(done)
}

// by is an instruction whose name depends on the width.
func (a *amd64) by(narrow, wide string) string {
	if a.wide() {
		return wide
	}
	return narrow
}

func (a *amd64) and() string  { return a.by("VPAND", "VPANDD") }
func (a *amd64) or() string   { return a.by("VPOR", "VPORD") }
func (a *amd64) xor() string  { return a.by("VPXOR", "VPXORD") }
func (a *amd64) move() string { return a.by("VMOVDQU", "VMOVDQU32") }

func mem(base string, offset int) string { return fmt.Sprintf("%d(%s)", offset, base) }

// splat is a register full of one word.
func (a *amd64) splat(word uint32) int {
	r := a.reg(fmt.Sprintf("%#x everywhere", word))
	a.op("VPBROADCASTD", a.constant(fmt.Sprintf("word%08x", word), word), a.v(r))
	return r
}

func bytes4(b byte) uint32 { return uint32(b) * 0x01010101 }

// byLane is a register that has one word in all four places of a lane, a different one in each. Of narrow registers,
// half says which two of four lanes.
func (a *amd64) byLane(half int, words [4]uint32) int {
	var list []uint32
	for _, w := range words[2*half*(1-a.lanes/4):][:a.lanes] {
		list = append(list, w, w, w, w)
	}
	r := a.reg("words by lane")
	a.op(a.move(), a.constant(fmt.Sprintf("lanes%08x%08x%08x%08x_%d", words[0], words[1], words[2], words[3], half), list...), a.v(r))
	return r
}

// words is a register with the first words of a list.
func (a *amd64) words(name string, list ...uint32) int {
	r := a.reg(name)
	a.op(a.move(), a.constant(name, list[:4*a.lanes]...), a.v(r))
	return r
}

// lanesFrom loads a lane each from places.
func (a *amd64) lanesFrom(dst int, places ...string) {
	a.op("VMOVDQU", places[0], x(dst))
	for i, p := range places[1:] {
		if a.wide() {
			a.op("VINSERTI32X4", fmt.Sprintf("$%d", i+1), p, a.v(dst), a.v(dst))
		} else {
			a.op("VINSERTI128", fmt.Sprintf("$%d", i+1), p, a.v(dst), a.v(dst))
		}
	}
}

// zero clears a register.
func (a *amd64) zero(r int) { a.op(a.xor(), a.v(r), a.v(r), a.v(r)) }
