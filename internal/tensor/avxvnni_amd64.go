//go:build !purego

package tensor

import "golang.org/x/sys/cpu"

// hasAVXVNNI reports whether the processor multiplies bytes in registers of 256 bits. Tests put another one in its place ("make avxvnni").
func hasAVXVNNI() bool { return cpu.X86.HasAVXVNNI }
