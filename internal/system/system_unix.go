//go:build !windows

package system

import (
	"os"
	"syscall"
)

var (
	addressInUse = []syscall.Errno{syscall.EADDRINUSE}
	refused      = []syscall.Errno{syscall.ECONNREFUSED}
	diskFull     = []syscall.Errno{syscall.ENOSPC, syscall.EDQUOT}
	readOnly     = []syscall.Errno{syscall.EROFS}
)

// FileNumber tells a file from one that takes its place under the same name; 0 if the system gives none.
func FileNumber(path string) (uint64, error) {
	info, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Ino, nil
	}
	return 0, nil
}

// Terminal makes a terminal obey escape sequences; here each does.
func Terminal(*os.File) {}
