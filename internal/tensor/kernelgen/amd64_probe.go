package main

import "fmt"

// probes run into the machine's limits: they compute nothing.
func (a *amd64) probes() {
	independent := 5 * a.lanes // sums, more than the latency of an operation hides

	a.begin("probeBytes", fmt.Sprintf("does %d products of bytes in registers, so often.", independent), "n:int=CX")
	p := a.bytesProduct(true)
	w, sums := a.reg(), a.regs(independent)
	t := p.t
	if a.vnni {
		t = a.reg()
	}
	for _, r := range append(sums, w, t) {
		a.zero(r)
	}
	if !a.vnni {
		a.weightsOf(p, w)
	}
	a.loop("CX", func() {
		for _, s := range sums {
			if a.vnni {
				a.op("VPDPBUSD", a.v(t), a.v(w), a.v(s))
			} else {
				a.multiply(p, s, w)
			}
		}
	})
	a.end()
	if a.vnni {
		return
	}

	a.begin("probeFloats", fmt.Sprintf("does %d fused multiplications of floats in registers, so often.", independent), "n:int=CX")
	w, sums = a.reg(), a.regs(independent)
	for _, r := range append(sums, w) {
		a.zero(r)
	}
	a.loop("CX", func() {
		for _, s := range sums {
			a.op("VFMADD231PS", a.v(w), a.v(w), a.v(s))
		}
	})
	a.end()

	a.begin("probeRead", "reads 256 bytes at a time, so often.", "data:*byte=SI", "n:int=CX")
	r := a.regs(4)
	for _, i := range r {
		a.zero(i)
	}
	a.loop("CX", func() {
		for at := 0; at < 256; at += 64 {
			a.op("PREFETCHT0", mem("SI", ahead+at))
		}
		for i := range 256 / (16 * a.lanes) {
			a.op(a.xor(), mem("SI", 16*a.lanes*i), a.v(r[i%4]), a.v(r[i%4]))
		}
		a.op("ADDQ", fmt.Sprintf("$%d", 256), "SI")
	})
	a.end()
}
