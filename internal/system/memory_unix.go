//go:build !windows

package system

import (
	"os"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Memory is n zero bytes outside of the heap, which the collector knows nothing of. It takes memory as far as it is used.
func Memory(n int) ([]byte, error) {
	return unix.Mmap(-1, 0, n, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
}

// FreeMemory gives back what Memory gave, whole. It must not be used afterwards.
func FreeMemory(b []byte) error { return unix.Munmap(b) }

// Discard gives the system's pages that lie within a part of such memory back, until they are written to again. What they hold is lost.
func Discard(b []byte) {
	page := os.Getpagesize()
	from := (page - int(uintptr(unsafe.Pointer(unsafe.SliceData(b)))%uintptr(page))) % page
	if to := len(b) - (len(b)-from)%page; from < to {
		advice := unix.MADV_DONTNEED
		if runtime.GOOS == "darwin" {
			advice = unix.MADV_FREE
		}
		_ = unix.Madvise(b[from:to], advice) // an advice: if it is not taken, the memory stays where it is
	}
}
