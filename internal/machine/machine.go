// Package machine tells what the machine has that the gate runs on.
package machine

import (
	"fmt"
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"sync"
	"time"

	"github.com/KimMachineGun/automemlimit/memlimit"
	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/mem"
	"github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// Memory is how much memory the gate may have, in bytes: the machine's, or what a container is limited to; 0 if it is not known.
func Memory() int64 {
	total := uint64(0)
	if m, err := mem.VirtualMemory(); err == nil {
		total = m.Total
	}
	if limit, err := memlimit.FromCgroup(); err == nil && limit > 0 && (total == 0 || limit < total) {
		total = limit
	}
	return int64(min(total, math.MaxInt64))
}

// Available is how much memory programs can still get without others being pushed out, in bytes; 0 if it is not known.
func Available() int64 {
	m, err := mem.VirtualMemory()
	if err != nil {
		return 0
	}
	return int64(m.Available)
}

// Listener is the program that listens at a TCP address of this computer, in words; "" if none does, or it cannot be told.
func Listener(host string, port uint32) string {
	connections, err := net.Connections("tcp")
	if err != nil {
		return ""
	}
	for _, c := range connections {
		if c.Status != "LISTEN" || c.Laddr.Port != port || c.Laddr.IP != host && c.Laddr.IP != "0.0.0.0" && c.Laddr.IP != "::" && c.Laddr.IP != "*" {
			continue
		}
		p, err := process.NewProcess(c.Pid)
		if err != nil || c.Pid == 0 {
			return "a program of another user"
		}
		name, err := p.Name()
		if err != nil {
			return fmt.Sprintf("process %d", c.Pid)
		}
		return fmt.Sprintf("%s, process %d", name, c.Pid)
	}
	return ""
}

// Resident is how much memory the process holds, in bytes, pages of mapped files included; 0 if it is not known.
func Resident() int64 {
	p, err := process.NewProcess(int32(os.Getpid()))
	if err != nil {
		return 0
	}
	m, err := p.MemoryInfo()
	if err != nil {
		return 0
	}
	return int64(m.RSS)
}

// StolenTime is how much time of the processors went to other virtual machines since the machine began, all processors added up; 0 if it is not
// known.
func StolenTime() time.Duration {
	t, err := cpu.Times(false)
	if err != nil || len(t) == 0 {
		return 0
	}
	return time.Duration(t[0].Steal * float64(time.Second))
}

// Busy is how long the process has kept processors busy since it began; 0 if it is not known.
func Busy() time.Duration {
	p, err := process.NewProcess(int32(os.Getpid()))
	if err != nil {
		return 0
	}
	t, err := p.Times()
	if err != nil {
		return 0
	}
	return time.Duration((t.User + t.System) * float64(time.Second))
}

// FreeSpace is how many bytes can still be written on the disk that a folder is on; ok is false if it is not known.
func FreeSpace(folder string) (bytes int64, ok bool) {
	use, err := disk.Usage(folder)
	if err != nil {
		return 0, false
	}
	return int64(use.Free), true
}

// speeds keeps what was measured, by type.
var speeds sync.Map

// Rate is about how many tokens a second one answer gets here of a model, which for each of them reads so many bytes of
// weights, most of the named type. 0 means that it is not known. The first call for a type measures for a fifth of a second.
func Rate(typeName string, tokenBytes int64) float64 {
	for t := range weights.Types {
		if t.String() != typeName || tokenBytes <= 0 {
			continue
		}
		speed, ok := speeds.Load(t)
		if !ok {
			speed = Speed(t)
			speeds.Store(t, speed)
		}
		return speed.(float64) / float64(tokenBytes)
	}
	return 0
}

// Speed is how fast the engine goes through weights of a type here, in bytes a second, all processors together. It is
// measured on the spot, which takes about a fifth of a second, on weights that are too many for the caches.
func Speed(t weights.Type) float64 {
	const cols, total = 2048, 64 << 20
	row, _ := t.RowBytes(cols)
	workers := runtime.GOMAXPROCS(0)
	rows := total / workers / row
	data := make([]byte, workers*rows*row)
	defer debug.FreeOSMemory()
	for i := range data {
		data[i] = byte(i) & 0x3f // as scales, normal numbers
	}
	scales := make([]byte, t.Layout().Scales.Size(rows, cols))
	done := make([]int64, workers)
	var all sync.WaitGroup
	begun := time.Now()
	for w := range workers {
		m, err := tensor.NewMatrix(t, rows, cols, data[w*rows*row:(w+1)*rows*row], scales)
		if err != nil {
			return 0
		}
		all.Go(func() {
			const piece = 64
			x, out := tensor.NewBatch(1, cols), tensor.NewBatch(1, piece)
			x.Resize(1)
			for i := range x.Vec(0) {
				x.Vec(0)[i] = float32(i%7) - 3
			}
			var pack tensor.Packer
			var mul tensor.Multiplier
			packed := pack.Pack(nil, x, &m)
			for at := 0; time.Since(begun) < 200*time.Millisecond; at = (at + piece) % (rows - piece) {
				some := m.Slice(at, piece, 1)
				mul.Mul(nil, packed, tensor.Product{W: &some, Dst: out})
				done[w] += some.Bytes()
			}
		})
	}
	all.Wait()
	var sum int64
	for _, n := range done {
		sum += n
	}
	return float64(sum) / time.Since(begun).Seconds()
}
