package main

// operand is a register, or what lies where a pointer of the function is.
type operand struct {
	register int
	pointer  string // "" for the register
}

// vectors writes instructions on registers full of floats, for any processor.
type vectors interface {
	// elements writes a function that goes through vectors, which pointers say, 16 elements at a time, with numbers of its own. What body
	// takes is free again after it.
	elements(name, comment string, pointers, numbers []string, exponential bool, body func(number func(name string) operand))
	reg(name string) int

	load(dst int, from operand)
	store(src int, to operand)
	// dst is x + y, x·y, x/y; fused adds x·y to it, and rounds once.
	sum(dst, x int, y operand)
	product(dst, x int, y operand)
	quotient(dst, x, y int)
	fused(dst, x int, y operand)
	// raise replaces what a register has by its exponential, and one is the constant, in functions that have it.
	raise(r int)
	one() operand
}

func at(pointer string) operand { return operand{pointer: pointer} }
func in(register int) operand   { return operand{register: register} }

// elementwise are the kernels that do the same with each element of a vector.
func elementwise(m vectors) {
	m.elements("addFloats", "adds y to x, 16 elements at a time.", []string{"x", "y"}, nil, false, func(func(string) operand) {
		x := m.reg("x")
		m.load(x, at("x"))
		m.sum(x, x, at("y"))
		m.store(x, at("x"))
	})
	m.elements("scaleFloats", "writes x times a number times w to dst, 16 elements at a time.", []string{"dst", "x", "w"}, []string{"by"}, false, func(number func(string) operand) {
		x := m.reg("x")
		m.load(x, at("x"))
		m.product(x, x, number("by"))
		m.product(x, x, at("w"))
		m.store(x, at("dst"))
	})
	m.elements("blendFloats", "writes x times one number plus y times another to x, 16 elements at a time.", []string{"x", "y"}, []string{"a", "b"}, false, func(number func(string) operand) {
		x := m.reg("x")
		m.product(x, number("a").register, at("x"))
		m.fused(x, number("b").register, at("y"))
		m.store(x, at("x"))
	})
	// What comes of a power is the gate over one more than its exponential, times up.
	gated := func(power func(x, gate int)) {
		gate, x := m.reg("gate"), m.reg("power")
		m.load(gate, at("gate"))
		power(x, gate)
		m.raise(x)
		m.sum(x, x, m.one())
		m.quotient(gate, gate, x)
		m.product(gate, gate, at("up"))
		m.store(gate, at("gate"))
	}
	m.elements("swish", "writes gate/(1 + e^(factor·gate))·up to gate, 16 elements at a time.", []string{"gate", "up"}, []string{"factor"}, true, func(number func(string) operand) {
		gated(func(x, gate int) { m.product(x, gate, number("factor")) })
	})
	m.elements("tanhGELU", "writes gate/(1 + e^(factor·(gate + cubic·gate³)))·up to gate, 16 elements at a time.", []string{"gate", "up"}, []string{"factor", "cubic"}, true, func(number func(string) operand) {
		gated(func(x, gate int) {
			m.product(x, gate, in(gate))
			m.product(x, x, in(gate))
			m.product(x, x, number("cubic"))
			m.sum(x, x, in(gate))
			m.product(x, x, number("factor"))
		})
	})
}
