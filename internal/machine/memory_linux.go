package machine

import (
	"fmt"
	"os"
	"syscall"
)

func memory() int64 {
	var info syscall.Sysinfo_t
	if syscall.Sysinfo(&info) != nil {
		return 0
	}
	return int64(info.Totalram) * int64(info.Unit)
}

func resident() int64 {
	raw, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	var all, pages int64
	if _, err := fmt.Sscan(string(raw), &all, &pages); err != nil {
		return 0
	}
	return pages * int64(os.Getpagesize())
}

func freeSpace(folder string) (int64, bool) {
	var info syscall.Statfs_t
	if syscall.Statfs(folder, &info) != nil {
		return 0, false
	}
	return int64(info.Bavail) * info.Bsize, true
}
