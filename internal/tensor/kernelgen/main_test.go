package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What is kept is what the generator writes, to the byte.
func TestGeneratedFilesAreCurrent(t *testing.T) {
	for name, want := range files() {
		got, err := os.ReadFile(filepath.Join("..", name))
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(got, want) {
			t.Errorf("%s is not what the generator writes; run \"make generate\"", name)
		}
	}
}

// The bytes of VPDPBUSD, as an assembler that knows it in the form for AVX-VNNI writes them.
func TestVEX(t *testing.T) {
	for _, c := range []struct {
		x, w, sum int
		want      [5]byte
	}{
		{2, 1, 0, [5]byte{0xc4, 0xe2, 0x75, 0x50, 0xc2}},
		{12, 13, 9, [5]byte{0xc4, 0x42, 0x15, 0x50, 0xcc}},
		{8, 15, 7, [5]byte{0xc4, 0xc2, 0x05, 0x50, 0xf8}},
		{3, 0, 14, [5]byte{0xc4, 0x62, 0x7d, 0x50, 0xf3}},
	} {
		if got := vexVPDPBUSD(c.x, c.w, c.sum); got != c.want {
			t.Errorf("VPDPBUSD Y%d, Y%d, Y%d is % x, want % x", c.x, c.w, c.sum, got, c.want)
		}
	}
}

// What uses a register that nobody has taken, that is free again, or that nothing was put in ends the generator, and says which it is.
func TestMistakesEndTheGenerator(t *testing.T) {
	for name, c := range map[string]struct {
		write func()
		says  string
	}{
		"none": {func() {
			a := begun()
			x := a.regs("x", 2)
			a.zero(x[0])
			a.op("VMOVUPS", "(SI)", a.v(x[1]))
			a.op("VFMADD231PS", a.v(x[0]), a.v(x[1]), a.v(x[0]))
			a.op("VMOVUPS", a.v(x[0]), "64(SI)")
		}, ""},
		"nobody has taken it": {func() { begun().op("VMOVUPS", "(SI)", "Z3") }, "register 3 is written, and nobody has taken it"},
		"nothing was put in it": {func() {
			a := begun()
			x := a.regs("sums", 2)
			a.zero(x[0])
			a.op("VADDPS", a.v(x[0]), a.v(x[1]), a.v(x[0]))
		}, "sums, register 1, is read before anything is put there"},
		"a sum was not begun": {func() {
			a := begun()
			x := a.regs("sums", 2)
			a.zero(x[0])
			a.op("VFMADD231PS", a.v(x[0]), a.v(x[0]), a.v(x[1]))
		}, "sums, register 1, is read"},
		"a mask leaves some of it": {func() {
			a := begun()
			x := a.reg("halves")
			a.op("KMOVD", "AX", "K1")
			a.op("VMOVDQU16", "(SI)", "K1", a.v(x))
		}, "halves, register 0, is read"},
		"it is free again": {func() {
			a := begun()
			x := 0
			a.within(func() { x = a.reg("x"); a.zero(x) })
			a.op("VMOVUPS", a.v(x), "(SI)")
		}, "register 0 is read, and nobody has taken it"},
		"taken again": {func() {
			a := begun()
			a.within(func() { a.zero(a.reg("x")) })
			a.op("VMOVUPS", a.v(a.reg("y")), "(SI)")
		}, "y, register 0, is read"},
		"too many":           {func() { begun().regs("sums", 33) }, "no register is left for sums"},
		"a general register": {func() { begun().op("MOVQ", "(R9)(SI*2)", "CX") }, "register R9 is read"},
		"a general sum":      {func() { begun().op("ADDQ", "$1", "R10") }, "register R10 is read"},
		"a mask":             {func() { begun().op("KMOVD", "K3", "AX") }, "register K3 is read"},
		"neon": {func() {
			a := &arm64{}
			a.begin("x", "does nothing.", "x:*float32")
			x := a.regs("sums", 2)
			a.zero(x[0])
			a.v("fmla", x[1], x[0], x[0])
		}, "sums, register 1, is read"},
		"neon, a place": {func() {
			a := &arm64{}
			a.begin("x", "does nothing.", "x:*float32")
			a.store(a.reg("x"), 0, 16)
		}, "x, register 0, is read"},
	} {
		says := func() (said string) {
			defer func() {
				if p := recover(); p != nil {
					said = p.(string)
				}
			}()
			c.write()
			return ""
		}()
		if c.says == "" && says != "" || !strings.Contains(says, c.says) {
			t.Errorf("%s: %q, want %q", name, says, c.says)
		}
	}
}

// begun is a function of the set with wide registers, with something in AX and SI.
func begun() *amd64 {
	a := &amd64{name: "test", lanes: 4}
	a.begin("x", "does nothing.", "x:*float32=SI", "n:int=AX")
	return a
}
