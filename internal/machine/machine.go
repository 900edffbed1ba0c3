// Package machine tells what the machine has that the gate runs on.
package machine

import (
	"runtime"
	"sync"
	"time"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// Memory is the machine's memory in bytes; 0 if it is not known.
func Memory() int64 { return memory() }

// Resident is how much memory the process holds, in bytes, pages of mapped files included; 0 if it is not known.
func Resident() int64 { return resident() }

// Speed is how fast the engine goes through weights of a type here, in bytes a second, all processors together. It is
// measured on the spot, which takes about a fifth of a second.
func Speed(t weights.Type) float64 {
	const rows, cols = 256, 2048
	row, _ := t.RowBytes(cols)
	data := make([]byte, rows*row)
	for i := range data {
		data[i] = byte(i) & 0x3f // as scales, normal numbers
	}
	scales := make([]byte, rows*cols/32)
	m, err := tensor.NewMatrix(t, rows, cols, data, scales)
	if err != nil {
		return 0
	}
	workers := runtime.GOMAXPROCS(0)
	counts := make([]int, workers)
	var all sync.WaitGroup
	begun := time.Now()
	for w := range workers {
		all.Go(func() {
			x, out := tensor.NewBatch(1, cols), tensor.NewBatch(1, rows)
			x.Resize(1)
			for i := range x.Vec(0) {
				x.Vec(0)[i] = float32(i%7) - 3
			}
			var pack tensor.Packer
			var mul tensor.Multiplier
			packed := pack.Pack(nil, x, &m)
			for time.Since(begun) < 200*time.Millisecond {
				mul.Mul(nil, packed, tensor.Product{W: &m, Dst: out})
				counts[w]++
			}
		})
	}
	all.Wait()
	total := 0
	for _, n := range counts {
		total += n
	}
	return float64(total) * float64(len(data)) / time.Since(begun).Seconds()
}
