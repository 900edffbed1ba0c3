package system

import (
	"os"
	"syscall"

	"golang.org/x/sys/windows"
)

// The constants of package syscall by these names are made up, on Windows.
var (
	addressInUse = []syscall.Errno{windows.WSAEADDRINUSE}
	refused      = []syscall.Errno{windows.WSAECONNREFUSED}
	diskFull     = []syscall.Errno{windows.ERROR_DISK_FULL, windows.ERROR_HANDLE_DISK_FULL}
	readOnly     = []syscall.Errno{windows.ERROR_WRITE_PROTECT}
)

// withoutWaiting is nothing here: opening waits for nobody.
const withoutWaiting = 0

// FileNumber tells a file from one that takes its place under the same name; 0 if the system gives none.
func FileNumber(path string) (uint64, error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	var info windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &info); err != nil {
		return 0, &os.PathError{Op: "stat", Path: path, Err: err}
	}
	return uint64(info.FileIndexHigh)<<32 | uint64(info.FileIndexLow), nil
}

// Terminal makes a terminal obey escape sequences; an old one does only when it is asked to. What is no terminal stays as it is.
func Terminal(f *os.File) {
	h, mode := windows.Handle(f.Fd()), uint32(0)
	if windows.GetConsoleMode(h, &mode) == nil {
		_ = windows.SetConsoleMode(h, mode|windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING) // one that cannot prints them, which is no reason to stop
	}
}
