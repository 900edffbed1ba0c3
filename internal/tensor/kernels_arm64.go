//go:build !purego

package tensor

import "golang.org/x/sys/cpu"

// available lists the kernels that the processor has instructions for.
func available() []*kernels {
	if cpu.ARM64.HasASIMD && cpu.ARM64.HasASIMDDP {
		return []*kernels{&neonKernels}
	}
	return nil
}
