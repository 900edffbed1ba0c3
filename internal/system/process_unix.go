//go:build unix

package system

import (
	"os/exec"
	"syscall"
)

// Group has a command run in a process group of its own, with all that it starts.
func Group(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// Terminate asks the processes of a command's group to end.
func Terminate(c *exec.Cmd) error { return syscall.Kill(-c.Process.Pid, syscall.SIGTERM) }

// Kill ends the processes of a command's group.
func Kill(c *exec.Cmd) error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
