package system

import (
	"os/exec"
	"syscall"
)

// Group has a command run in a process group of its own.
func Group(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
}

// Terminate ends a command's process: there is no way to ask.
func Terminate(c *exec.Cmd) error { return c.Process.Kill() }

// Kill ends a command's process.
func Kill(c *exec.Cmd) error { return c.Process.Kill() }
