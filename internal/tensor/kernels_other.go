//go:build purego || (!amd64 && !arm64)

package tensor

// available lists the kernels that the processor has instructions for, the best last.
func available() []*kernels { return nil }
