package tensor

import (
	"sync/atomic"
	"unsafe"
)

// The probes run a processor into its limits with the instructions that the kernels in use have: how many operations a thread can do on
// bytes, which come from the first cache as they do in a tile, but without any scales; how many on floats in registers; and how fast it
// reads. They compute nothing.

// probeSums is how many sums a probe's round adds to.
func probeSums() int64 { return int64(registerBytes()) / 16 * 5 }

// registerBytes is the width of the kernels' registers.
func registerBytes() int {
	switch {
	case inUse == nil:
		return 4
	case inUse.tileRows == PanelRows:
		return 64
	}
	return 32
}

// ProbeBytes does so many rounds of multiplications of bytes, and gives how many operations that were, each
// multiplication and each addition being one.
func ProbeBytes(rounds int) (operations int64) {
	if inUse == nil {
		var w, x [Block]int8
		var sum int32
		for range rounds {
			first, second := dotHalves(&w, (*[16]int8)(x[:]), (*[16]int8)(x[16:]))
			sum += first + second
			x[0] = int8(sum)
		}
		return probeOperations(rounds)
	}
	inUse.probeBytes(rounds)
	return probeOperations(rounds)
}

// probeOperations is how many operations so many rounds of ProbeBytes are.
func probeOperations(rounds int) int64 {
	if inUse == nil {
		return int64(rounds) * 2 * Block
	}
	return int64(rounds) * probeSums() * int64(registerBytes()) * 2
}

// ProbeFloats does the same with floats.
func ProbeFloats(rounds int) (operations int64) {
	if inUse == nil {
		var x [4 * lanes]float32
		for range rounds {
			x[0] = Dot(x[:], x[:])
		}
		return int64(rounds) * 2 * 4 * lanes
	}
	inUse.probeFloats(rounds)
	return int64(rounds) * probeSums() * int64(registerBytes()/4) * 2
}

// ProbeRead reads memory once, in its order, but for the last bytes that are no whole 256.
func ProbeRead(data []byte) {
	n := len(data) / 256
	if n == 0 {
		return
	}
	if inUse == nil {
		words := unsafe.Slice((*uint64)(unsafe.Pointer(unsafe.SliceData(data))), len(data)/8)
		var sum uint64
		for i := 0; i+4 <= len(words); i += 4 {
			sum ^= words[i] ^ words[i+1] ^ words[i+2] ^ words[i+3]
		}
		read.Store(sum)
		return
	}
	// In pieces, since a loop in assembly cannot be interrupted.
	const piece = 256
	for i := 0; i < n; i += piece {
		inUse.probeRead(&data[256*i], min(piece, n-i))
	}
}

// read takes what was read, so that the compiler does not leave the reading out.
var read atomic.Uint64
