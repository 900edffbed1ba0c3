//go:build !purego

#include "textflag.h"

// func hasF16C() bool
TEXT ·hasF16C(SB), NOSPLIT, $0-1
	MOVL $1, AX
	XORL CX, CX
	CPUID
	SHRL $29, CX
	ANDL $1, CX
	MOVB CX, ret+0(FP)
	RET
