//go:build !purego

package tensor

import "golang.org/x/sys/cpu"

// available lists the kernels that the processor has instructions for, the best last.
func available() []*kernels {
	var list []*kernels
	c := &cpu.X86
	if !c.HasFMA || !hasF16C() {
		return nil
	}
	if c.HasAVX2 {
		list = append(list, &avx2Kernels)
		if hasAVXVNNI() {
			list = append(list, &avxVNNIKernels)
		}
	}
	if c.HasAVX512F && c.HasAVX512BW && c.HasAVX512DQ && c.HasAVX512VL {
		list = append(list, &avx512Kernels)
		if c.HasAVX512VNNI {
			list = append(list, &vnniKernels)
		}
	}
	return list
}

// avxVNNIKernels are those of AVX2, but for the products of panels.
var avxVNNIKernels = func() kernels {
	k := avx2Kernels
	k.name, k.panels = "avxvnni", avxvnniPanels
	return k
}()

// hasF16C asks the processor whether it converts half floats, which package cpu does not tell.
func hasF16C() bool
