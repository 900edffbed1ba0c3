package main

// neonVectors writes what elementwise describes.
type neonVectors struct {
	*arm64
	pointers map[string]int // registers
	part     int            // of the 16 elements under way, in bytes
	e        neonExp
}

func (a *neonVectors) elements(name, comment string, pointers, numbers []string, exponential bool, body func(number func(name string) operand)) {
	var parameters []string
	a.pointers = map[string]int{}
	for i, p := range pointers {
		parameters, a.pointers[p] = append(parameters, p+":*float32"), i
	}
	for _, n := range numbers {
		parameters = append(parameters, n+":int")
	}
	a.begin(name, comment, append(parameters, "n:int")...)
	known := map[string]operand{}
	for i, n := range numbers {
		known[n] = in(a.reg(n))
		a.fromGeneral(known[n].register, len(pointers)+i)
	}
	if exponential {
		a.e = a.exponential()
	}
	a.loop(len(parameters), "16 elements", func() {
		for a.part = 0; a.part < 64; a.part += 16 {
			a.within(func() { body(func(n string) operand { return known[n] }) })
		}
		for i := range pointers {
			a.advance(i, 64)
		}
	})
	a.end()
}

// register is where an operand is: NEON has none in memory.
func (a *neonVectors) register(o operand) int {
	if o.pointer == "" {
		return o.register
	}
	r := a.reg(o.pointer)
	a.load(r, o)
	return r
}

func (a *neonVectors) load(dst int, from operand) {
	a.arm64.load(dst, a.pointers[from.pointer], a.part)
}
func (a *neonVectors) store(src int, to operand)     { a.arm64.store(src, a.pointers[to.pointer], a.part) }
func (a *neonVectors) sum(dst, x int, y operand)     { a.v("fadd", dst, x, a.register(y)) }
func (a *neonVectors) product(dst, x int, y operand) { a.v("fmul", dst, x, a.register(y)) }
func (a *neonVectors) quotient(dst, x, y int)        { a.v("fdiv", dst, x, y) }
func (a *neonVectors) fused(dst, x int, y operand)   { a.v("fmla", dst, x, a.register(y)) }
func (a *neonVectors) raise(r int)                   { a.exp(a.e, r) }
func (a *neonVectors) one() operand                  { return in(a.e.one) }
