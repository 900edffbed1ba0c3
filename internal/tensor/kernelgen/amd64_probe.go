package main

import "fmt"

// probes run into the machine's limits: they compute nothing.
func (a *amd64) probes() {
	independent := 5 * a.lanes // sums, more than the latency of an operation hides

	// As in tiles: an activation for two products, and two loads of weights for twelve of these.
	a.begin("probeBytes", fmt.Sprintf("does %d products of bytes, so often, whose factors come from the first cache.", independent), "n:int=CX")
	w, x, t, sums := a.regs("weights", 2), a.reg("activations"), a.reg("spare"), a.regs("sums", independent)
	for _, r := range sums {
		a.zero(r)
	}
	zeros := a.constant("zeros", make([]uint32, 16)...)
	a.loop("CX", "rounds", func() {
		for i, s := range sums {
			if i%12 < 2 {
				a.op(a.move(), zeros, a.v(w[i%2]))
			}
			if i%2 == 0 {
				a.op("VPBROADCASTD", zeros, a.v(x))
			}
			if a.vnni {
				a.op("VPDPBUSD", a.v(x), a.v(w[i%2]), a.v(s))
				continue
			}
			a.op("VPMADDUBSW", a.v(x), a.v(w[i%2]), a.v(t))
			a.op("VPADDW", a.v(t), a.v(s), a.v(s))
		}
	})
	a.end()
	if a.vnni {
		return
	}

	a.begin("probeFloats", fmt.Sprintf("does %d fused multiplications of floats in registers, so often.", independent), "n:int=CX")
	by, sums := a.reg("by"), a.regs("sums", independent)
	for _, r := range append(sums, by) {
		a.zero(r)
	}
	a.loop("CX", "rounds", func() {
		for _, s := range sums {
			a.op("VFMADD231PS", a.v(by), a.v(by), a.v(s))
		}
	})
	a.end()

	a.begin("probeRead", "reads 256 bytes at a time, so often.", "data:*byte=SI", "n:int=CX")
	r := a.regs("r", 4)
	for _, i := range r {
		a.zero(i)
	}
	a.loop("CX", "256 bytes", func() {
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
