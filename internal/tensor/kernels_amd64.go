package tensor

import "golang.org/x/sys/cpu"

// available lists the kernels that the processor has instructions for, the best last.
func available() []*kernels {
	var list []*kernels
	c := &cpu.X86
	if c.HasAVX2 && c.HasFMA && hasF16C() {
		list = append(list, &avx2Kernels)
	}
	if c.HasFMA && c.HasAVX512F && c.HasAVX512BW && c.HasAVX512DQ && c.HasAVX512VL && hasF16C() {
		list = append(list, &avx512Kernels)
		if c.HasAVX512VNNI {
			list = append(list, &vnniKernels)
		}
	}
	return list
}

// hasF16C asks the processor whether it converts half floats, which package cpu does not tell.
func hasF16C() bool
