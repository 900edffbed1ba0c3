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

// withoutWaiting has a pipe opened at once, whether or not somebody writes to it, and no terminal taken as the process's own.
const withoutWaiting = syscall.O_NONBLOCK | syscall.O_NOCTTY

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
