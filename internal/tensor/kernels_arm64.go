//go:build !purego

package tensor

import "golang.org/x/sys/cpu"

// available lists the kernels that the processor has instructions for, the best last.
func available() []*kernels {
	if !cpu.ARM64.HasASIMD || !cpu.ARM64.HasASIMDDP {
		return nil
	}
	list := []*kernels{&neonKernels}
	if cpu.ARM64.HasI8MM {
		list = append(list, &i8mmKernels)
	}
	return list
}

// i8mmKernels are those of NEON, but for the products of panels.
var i8mmKernels = func() kernels {
	k := neonKernels
	k.name, k.panels = "i8mm", i8mmPanels
	return k
}()
