package main

import (
	"bytes"
	"os"
	"path/filepath"
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
