package main

import "fmt"

// dot multiplies four unpacked rows with one vector, block by block: the places of a sum are rows.
func (a *arm64) dot(k kind) {
	a.begin("dot"+k.name, "adds the products of four unpacked rows with a vector to acc; xq is the bytes from one quad of the vector to the next, ws and ss from one row's bytes and scales to the next's.",
		"acc:*float32", "x:*byte", "xq:int", "w:*byte", "ws:int", "scale:*float32", "ss:int", "low:*float32", "quads:int")
	rows, scaleRows, lowRows := []int{3, 9, 10, 11}, []int{5, 12, 13, 14}, []int{7, 15, 16, 17}
	for _, list := range []struct {
		registers []int
		step      int
	}{{rows, 4}, {scaleRows, 6}, {lowRows, 6}} {
		for i := 1; i < 4; i++ {
			a.op("ADD", r(list.step), r(list.registers[i-1]), r(list.registers[i]))
		}
	}
	acc := a.reg("totals")
	a.load(acc, 0, 0)
	s := a.regs("s", 4)
	w, total, t, sum := a.reg("weights"), a.reg("total"), a.reg("spare"), a.reg("sum")
	x := [2]int{a.reg("activations"), a.reg("activations")}
	// across gives four words of each of four rows as one vector for each word.
	across := func(dst []int, from []int, offset int) {
		for i, v := range s {
			a.load(v, from[i], offset)
		}
		a.v("zip1.4s", dst[0], s[0], s[1])
		a.v("zip2.4s", dst[2], s[0], s[1])
		a.v("zip1.4s", t, s[2], s[3])
		a.v("zip2.4s", w, s[2], s[3])
		a.v("zip2.2d", dst[1], dst[0], t)
		a.v("zip1.2d", dst[0], dst[0], t)
		a.v("zip2.2d", dst[3], dst[2], w)
		a.v("zip1.2d", dst[2], dst[2], w)
	}
	products := func(b, h int, fresh bool) {
		for i, v := range s {
			if fresh {
				a.zero(v)
			}
			a.load(w, rows[i], 64*h+16*b)
			a.v("sdot", v, w, x[h])
		}
	}
	tree := func() {
		a.v("addp.4s", sum, s[0], s[1])
		a.v("addp.4s", t, s[2], s[3])
		a.v("addp.4s", sum, sum, t)
		a.u("scvtf", sum, sum)
	}
	halves := 1
	if k.halves {
		halves = 2
	}
	scales, lows := make([][]int, halves), make([][]int, halves)
	for h := range halves {
		scales[h] = a.regs("scales", 4)
		if k.shifted {
			lows[h] = a.regs("lows", 4)
		}
	}
	factors := a.reg("factors")
	a.loop(8, "quads", func() {
		for h := range halves {
			across(scales[h], scaleRows, 16*h)
			if k.shifted {
				across(lows[h], lowRows, 16*h)
			}
		}
		for b := range 4 {
			a.load(x[0], 1, 16*b)
			a.load(x[1], 1, 64+16*b)
			products(b, 0, true)
			if !k.halves {
				products(b, 1, false)
				tree()
				a.v("fmul", total, sum, scales[0][b])
			} else {
				tree()
				a.v("fmul", total, sum, scales[0][b])
				products(b, 1, true)
				tree()
				a.v("fmla", total, sum, scales[1][b])
			}
			if k.shifted {
				for h := range halves {
					if a.load(factors, 1, recordSum); k.halves {
						a.load(factors, 1, recordHalf+16*h)
					}
					a.fmlsElement(total, lows[h][b], factors, b)
				}
			}
			a.load(factors, 1, recordScale)
			a.fmlaElement(acc, total, factors, b)
		}
		a.op("ADD", "R2", "R1")
		for i := range 4 {
			a.advance(rows[i], 128)
			a.advance(scaleRows[i], 16*halves)
			a.advance(lowRows[i], 16*halves)
		}
	})
	a.store(acc, 0, 0)
	a.end()
}

// tile multiplies a panel of 16 rows with n vectors. The sums of floats stay in memory.
func (a *arm64) tile(k kind, n int) {
	if k.halves {
		a.frame = 256 // for what the first halves come to
	}
	a.begin(fmt.Sprintf("tile%s_%d", k.name, n), fmt.Sprintf("adds the products of a panel with %d vectors to acc, which has 16 places for each; xq is the bytes from one quad of the vectors to the next.", n),
		"acc:*float32", "x:*byte", "xq:int", "panel:*byte", "scale:*float32", "low:*float32", "quads:int")
	const q, tails, block, counter = 1, 7, 8, 6
	a.op("ADD", fmt.Sprintf("$%d", recordScale), r(q), r(tails))
	sums := a.regs("sums", 4*n) // [vector][part]
	x := a.regs("activations", n)
	w := a.regs("weights", 4)
	t, u := a.reg("spare"), a.reg("spare")
	base := func(v, offset int) { // R9: a place behind a vector's tail
		a.op("ADD", fmt.Sprintf("$%d", recordBytes*v+offset-recordScale), r(tails), "R9")
	}
	products := func(h int, fresh bool) {
		for v := range n {
			a.load(x[v], q, recordBytes*v+64*h)
			if fresh {
				for part := range 4 {
					a.zero(sums[4*v+part])
				}
			}
		}
		for i := range 4 {
			for part := range 4 {
				a.load(w[part], 3, 1024*h+64*i+16*part)
			}
			for v := range n {
				for part := range 4 {
					a.sdotElement(sums[4*v+part], w[part], x[v], i)
				}
			}
		}
	}
	// scale multiplies the sums with factors, which are integers till then; second halves are multiplied when they are added.
	scale := func(offset int) {
		for part := range 4 {
			a.load(w[part], 4, offset+16*part)
		}
		for i, s := range sums {
			a.u("scvtf", s, s)
			if offset == 0 {
				a.v("fmul", s, s, w[i%4])
			}
		}
	}
	spill := func(store bool) { // what the first halves came to
		for i, s := range sums {
			if store {
				a.store(s, 10, 16*i)
			} else {
				a.load(t, 10, 16*i)
				a.v("fmla", t, s, w[i%4])
				a.u("mov", s, t)
			}
		}
	}
	a.loop(counter, "quads", func() {
		a.op("MOVD", "$4", r(block))
		a.loop(block, "blocks of a quad", func() {
			products(0, true)
			if !k.halves {
				products(1, false)
				scale(0)
			} else {
				scale(0)
				a.op("MOVD", "$firsts-256(SP)", "R10")
				spill(true)
				products(1, true)
				scale(256)
				spill(false)
			}
			if k.shifted {
				groups := [][2]int{{0, recordSum}}
				if k.halves {
					groups = [][2]int{{0, recordHalf}, {256, recordHalf + 16}}
				}
				for _, g := range groups {
					for part := range 4 {
						a.load(w[part], 5, g[0]+16*part)
					}
					for v := range n {
						base(v, g[1])
						a.splat(t, 9)
						for part := range 4 {
							a.v("fmls", sums[4*v+part], w[part], t)
						}
					}
				}
			}
			for v := range n {
				base(v, recordScale)
				a.splat(t, 9)
				for part := range 4 {
					s := sums[4*v+part]
					a.load(u, 0, 64*v+16*part)
					a.v("fmla", u, s, t)
					a.store(u, 0, 64*v+16*part)
				}
			}
			a.advance(q, 16)
			a.advance(tails, 4)
			a.advance(3, 256)
			a.advance(4, 64)
			a.advance(5, 64)
		})
		a.op("ADD", "R2", r(q))
		a.op("ADD", "R2", r(tails))
		a.advance(q, -64)
		a.advance(tails, -16)
		a.advance(3, 1024)
		if k.halves {
			a.advance(4, 256)
			a.advance(5, 256)
		}
	})
	a.end()
}

func (a *arm64) transposer() {
	a.begin("transpose", "writes the words of 16 rows, stride bytes apart, 16 of one place after the other; pieces are 16 bytes.", "dst:*byte", "src:*byte", "stride:int", "pieces:int")
	s, d := a.regs("s", 4), a.regs("d", 4)
	t, u := a.reg("spare"), a.reg("spare")
	a.loop(3, "pieces of 16 bytes of each row", func() {
		a.op("MOVD", "R1", "R4")
		for part := range 4 {
			for i := range 4 {
				a.load(s[i], 4, 0)
				a.op("ADD", "R2", "R4")
			}
			a.v("zip1.4s", d[0], s[0], s[1])
			a.v("zip2.4s", d[2], s[0], s[1])
			a.v("zip1.4s", t, s[2], s[3])
			a.v("zip2.4s", u, s[2], s[3])
			a.v("zip2.2d", d[1], d[0], t)
			a.v("zip1.2d", d[0], d[0], t)
			a.v("zip2.2d", d[3], d[2], u)
			a.v("zip1.2d", d[2], d[2], u)
			for i := range 4 {
				a.store(d[i], 0, 64*i+16*part)
			}
		}
		a.advance(0, 256)
		a.advance(1, 16)
	})
	a.end()
}
