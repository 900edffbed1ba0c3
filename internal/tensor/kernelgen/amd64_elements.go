package main

import "fmt"

// amd64Vectors writes what elementwise describes.
type amd64Vectors struct {
	*amd64
	places map[string]string // by pointer, of the 16 elements under way
	e      exponential
}

var (
	pointerRegisters = []string{"DI", "SI", "DX"}
	numberRegisters  = []string{"BX", "R8"}
)

func (a *amd64Vectors) elements(name, comment string, pointers, numbers []string, exponential bool, body func(number func(name string) operand)) {
	var parameters []string
	for i, p := range pointers {
		parameters = append(parameters, p+":*float32="+pointerRegisters[i])
	}
	for i, n := range numbers {
		parameters = append(parameters, n+":int="+numberRegisters[i])
	}
	a.begin(name, comment, append(parameters, "n:int=CX")...)
	known := map[string]operand{}
	for i, n := range numbers {
		known[n] = in(a.reg(n))
		a.number(numberRegisters[i], known[n].register)
	}
	if exponential {
		a.e = a.exponential()
	}
	a.op("XORQ", "AX", "AX")
	a.loop("CX", "16 elements", func() {
		for part := range 4 / a.lanes {
			a.places = map[string]string{}
			for i, p := range pointers {
				a.places[p] = fmt.Sprintf("%d(%s)(AX*1)", 32*part, pointerRegisters[i])
			}
			a.within(func() { body(func(n string) operand { return known[n] }) })
		}
		a.op("ADDQ", "$64", "AX")
	})
	a.end()
}

// operand is one as instructions have it.
func (a *amd64Vectors) operand(o operand) string {
	if o.pointer == "" {
		return a.v(o.register)
	}
	return a.places[o.pointer]
}

func (a *amd64Vectors) load(dst int, from operand)    { a.op("VMOVUPS", a.operand(from), a.v(dst)) }
func (a *amd64Vectors) store(src int, to operand)     { a.op("VMOVUPS", a.v(src), a.operand(to)) }
func (a *amd64Vectors) sum(dst, x int, y operand)     { a.op("VADDPS", a.operand(y), a.v(x), a.v(dst)) }
func (a *amd64Vectors) product(dst, x int, y operand) { a.op("VMULPS", a.operand(y), a.v(x), a.v(dst)) }
func (a *amd64Vectors) quotient(dst, x, y int)        { a.op("VDIVPS", a.v(y), a.v(x), a.v(dst)) }
func (a *amd64Vectors) fused(dst, x int, y operand) {
	a.op("VFMADD231PS", a.operand(y), a.v(x), a.v(dst))
}
func (a *amd64Vectors) raise(r int)  { a.exp(a.e, r) }
func (a *amd64Vectors) one() operand { return in(a.e.one) }
