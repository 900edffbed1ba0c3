package main

import (
	"fmt"
	"strings"
)

// arm64 writes kernels for NEON with its dot product of bytes. The assembler does not know most of these instructions, so
// they are written as words.
type arm64 struct {
	source
	result string
}

// Vector instructions on four words or 16 bytes: the word with registers 0, to which their numbers are added.
var vector = map[string]uint32{
	"fadd": 0x4e20d400, "fsub": 0x4ea0d400, "fmul": 0x6e20dc00, "fdiv": 0x6e20fc00, "fmax": 0x4e20f400, "fmin": 0x4ea0f400, "fcmgt": 0x6ea0e400, "fcmge": 0x6e20e400, "fmla": 0x4e20cc00, "fmls": 0x4ea0cc00,
	"add.4s": 0x4ea08400, "addp.4s": 0x4ea0bc00, "umax.4s": 0x6ea06400, "add.16b": 0x4e208400, "sub.16b": 0x6e208400,
	"and": 0x4e201c00, "orr": 0x4ea01c00, "eor": 0x6e201c00, "bic": 0x4e601c00, "cmtst.16b": 0x4e208c00, "bsl": 0x6e601c00, "bif": 0x6ee01c00,
	"sdot": 0x4e809400, "tbl": 0x4e000000, "ushl.16b": 0x6e204400,
	"zip1.16b": 0x4e003800, "zip2.16b": 0x4e007800, "zip1.4s": 0x4e803800, "zip2.4s": 0x4e807800, "zip1.2d": 0x4ec03800, "zip2.2d": 0x4ec07800,
}

// Vector instructions of one operand.
var unary = map[string]uint32{
	"scvtf": 0x4e21d800, "fcvtns": 0x4e21a800, "fcvtl": 0x0e217800, "fcvtl2": 0x4e217800, "fabs": 0x4ea0f800, "fneg": 0x6ea0f800,
	"sxtl.8h": 0x0f08a400, "sxtl2.8h": 0x4f08a400, "sxtl.4s": 0x0f10a400, "sxtl2.4s": 0x4f10a400, "uxtl.8h": 0x2f08a400, "uxtl2.8h": 0x6f08a400, "uxtl.4s": 0x2f10a400, "uxtl2.4s": 0x6f10a400,
	"sqxtn.4h": 0x0e614800, "sqxtn2.8h": 0x4e614800, "sqxtn.8b": 0x0e214800, "sqxtn2.16b": 0x4e214800, "umaxv.4s": 0x6eb0a800, "fmaxnmv": 0x6e30c800, "fmaxv": 0x6e30f800, "addv.4s": 0x4eb1b800,
	"mov": 0x4ea01c00, "dup": 0x4e040400, // of the lowest place
}

func (a *arm64) word(w uint32, comment string, args ...any) {
	text := fmt.Sprintf(comment, args...)
	a.check(text)
	fmt.Fprintf(&a.text, "\tWORD $0x%08x // %s\n", w, text)
}

// v is d = n op m.
func (a *arm64) v(op string, d, n, m int) {
	w, ok := vector[op]
	if !ok {
		panic(op)
	}
	a.word(w|uint32(m)<<16|uint32(n)<<5|uint32(d), "%s v%d, v%d, v%d", op, d, n, m)
}

func (a *arm64) u(op string, d, n int) {
	w, ok := unary[op]
	if !ok {
		panic(op)
	}
	w |= uint32(n)<<5 | uint32(d)
	if op == "mov" {
		w |= uint32(n) << 16
	}
	a.word(w, "%s v%d, v%d", op, d, n)
}

// element numbers are in bits 11 and 21.
func element(i int) uint32 { return uint32(i&1)<<21 | uint32(i>>1)<<11 }

// sdotElement adds the products of n's bytes with the four bytes of word i of m.
func (a *arm64) sdotElement(d, n, m, i int) {
	a.word(0x4f80e000|element(i)|uint32(m)<<16|uint32(n)<<5|uint32(d), "sdot v%d.4s, v%d.16b, v%d.4b[%d]", d, n, m, i)
}

// fmlaElement adds n's words times word i of m, and fmlsElement takes them off.
func (a *arm64) fmlaElement(d, n, m, i int) {
	a.word(0x4f801000|element(i)|uint32(m)<<16|uint32(n)<<5|uint32(d), "fmla v%d.4s, v%d.4s, v%d.s[%d]", d, n, m, i)
}

func (a *arm64) fmlsElement(d, n, m, i int) {
	a.word(0x4f805000|element(i)|uint32(m)<<16|uint32(n)<<5|uint32(d), "fmls v%d.4s, v%d.4s, v%d.s[%d]", d, n, m, i)
}

func (a *arm64) shiftRight(d, n, by int) {
	a.word(0x6f000400|uint32(16-by)<<16|uint32(n)<<5|uint32(d), "ushr v%d.16b, v%d.16b, #%d", d, n, by)
}

func (a *arm64) shiftLeft(d, n, by int) {
	a.word(0x4f005400|uint32(8+by)<<16|uint32(n)<<5|uint32(d), "shl v%d.16b, v%d.16b, #%d", d, n, by)
}

func (a *arm64) shiftLeftWords(d, n, by int) {
	a.word(0x4f005400|uint32(32+by)<<16|uint32(n)<<5|uint32(d), "shl v%d.4s, v%d.4s, #%d", d, n, by)
}

// load and store move 16 bytes. Offsets are multiples of 16 or small.
func (a *arm64) load(v, base, offset int) {
	a.memory(0x3dc00000, 0x3cc00000, "ldr q", 16, v, base, offset)
}
func (a *arm64) store(v, base, offset int) {
	a.memory(0x3d800000, 0x3c800000, "str q", 16, v, base, offset)
}
func (a *arm64) load2(v, base, offset int) {
	a.memory(0x7d400000, 0x7c400000, "ldr h", 2, v, base, offset)
}
func (a *arm64) store4(v, base, offset int) {
	a.memory(0xbd000000, 0xbc000000, "str s", 4, v, base, offset)
}

func (a *arm64) memory(scaled, unscaled uint32, name string, size, v, base, offset int) {
	at := uint32(base)<<5 | uint32(v)
	switch {
	case offset >= 0 && offset%size == 0 && offset/size < 4096:
		a.word(scaled|uint32(offset/size)<<10|at, "%s%d, [x%d, #%d]", name, v, base, offset)
	case offset >= -256 && offset < 256:
		a.word(unscaled|uint32(offset&0x1ff)<<12|at, "%s%d, [x%d, #%d]", strings.Replace(name, "r ", "ur ", 1), v, base, offset)
	default:
		panic(fmt.Sprint("offset ", offset))
	}
}

// ahead asks for what lies so many bytes beyond a place, a multiple of 8.
func (a *arm64) ahead(base, offset int) {
	a.word(0xf9800000|uint32(offset/8)<<10|uint32(base)<<5, "prfm pldl1keep, [x%d, #%d]", base, offset)
}

// splat loads a word to all four places; the address is exact.
func (a *arm64) splat(v, base int) {
	a.word(0x4d40c800|uint32(base)<<5|uint32(v), "ld1r {v%d.4s}, [x%d]", v, base)
}

// fromGeneral puts a general register to all four places.
func (a *arm64) fromGeneral(v, r int) {
	a.word(0x4e040c00|uint32(r)<<5|uint32(v), "dup v%d.4s, w%d", v, r)
}

func (a *arm64) zero(v int) { a.v("eor", v, v, v) }

// begin loads the parameters into the general registers in their order, R0 first.
func (a *arm64) begin(name, comment string, parameters ...string) {
	if a.reset(); a.count == 0 {
		a.count = 32
	}
	a.function(name, comment, parameters...)
	for i, p := range parameters {
		n, _, _ := strings.Cut(p, ":")
		if n == "" {
			a.result = fmt.Sprintf("ret+%d(FP)", 8*i)
			continue
		}
		a.op("MOVD", fmt.Sprintf("%s+%d(FP)", n, 8*i), r(i))
	}
}

func r(i int) string { return fmt.Sprintf("R%d", i) }

func (a *arm64) end() {
	fmt.Fprintln(&a.text, "\tRET")
	a.noted()
}

// loop counts a general register down. What it goes through stands before it.
func (a *arm64) loop(counter int, through string, body func()) {
	a.comment("Each of %s: %s.", r(counter), through)
	again, done := a.label("loop"), a.label("done")
	a.op("CMP", "$0", r(counter))
	a.op("BLE", done)
	a.place(again)
	body()
	a.op("SUB", "$1", r(counter))
	a.op("CBNZ", r(counter), again)
	a.place(done)
}

func (a *arm64) advance(register, bytes int) {
	switch {
	case bytes > 0:
		a.op("ADD", fmt.Sprintf("$%d", bytes), r(register))
	case bytes < 0:
		a.op("SUB", fmt.Sprintf("$%d", -bytes), r(register))
	}
}

// numbers loads 16 bytes of constants.
func (a *arm64) numbers(name string, words ...uint32) int {
	v := a.reg(name)
	a.op("MOVD", "$"+a.constant(name, words...), "R20")
	a.load(v, 20, 0)
	return v
}

func (a *arm64) everywhere(w uint32) int {
	return a.numbers(fmt.Sprintf("word%08x", w), w, w, w, w)
}

func (a *arm64) kernels() {
	a.set = "neon"
	a.unpackers()
	for _, k := range kinds {
		a.dot(k)
	}
	for _, k := range kinds {
		for _, n := range neonTiles {
			a.tile(k, n)
		}
	}
	a.panels()
	a.transposer()
	a.floats()
	a.attention()
	a.round()
	a.probes()
}

var neonTiles = []int{4, 2, 1}

func (a *arm64) list() string {
	var b strings.Builder
	b.WriteString("var neonKernels = kernels{\n\tname: \"neon\", tileRows: 16,\n\tunpack: [weights.Types]unpackKernel{\n")
	for _, f := range a.unpacked() {
		fmt.Fprintf(&b, "\t\tweights.%s: unpack%s_neon,\n", f, f)
	}
	b.WriteString("\t},\n\tdot: [4]dotKernel{dot32_neon, dot32Shifted_neon, dot16_neon, dot16Shifted_neon},\n\ttiles: [4][]tileKernel{\n")
	for _, k := range kinds {
		b.WriteString("\t\t{")
		for _, n := range neonTiles {
			fmt.Fprintf(&b, "{%d, tile%s_%d_neon}, ", n, k.name, n)
		}
		b.WriteString("},\n")
	}
	b.WriteString("\t},\n")
	b.WriteString(a.listPanels())
	for _, f := range vectorKernels {
		fmt.Fprintf(&b, "\t%s: %s_neon,\n", f.field, f.name)
	}
	for _, of := range []struct{ field, kind string }{{"scores", "scoresKernel"}, {"mix", "mixKernel"}} {
		fmt.Fprintf(&b, "\t%s: []%s{", of.field, of.kind)
		for _, n := range neonQueries {
			fmt.Fprintf(&b, "{%d, %s%d_neon}, ", n, of.field, n)
		}
		b.WriteString("},\n")
	}
	b.WriteString("\tbyteScores: []byteScoresKernel{{2, byteScores2_neon}, {1, byteScores1_neon}},\n")
	b.WriteString("\tprobeBytes: probeBytes_neon, probeFloats: probeFloats_neon, probeRead: probeRead_neon,\n}\n\n")
	return b.String()
}
