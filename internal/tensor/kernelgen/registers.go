package main

import (
	"fmt"
	"strings"
)

// registers are the vector registers of the function that is being written. Each is taken under a name for as long as it is needed; what uses
// one that nobody has taken, or that nothing was put in, is a mistake of the generator, which ends it.
type registers struct {
	count int // that there are
	taken [32]string
	full  [32]bool // something was put there
	notes []string // what each was taken for, in the order of the function
}

func (r *registers) fail(format string, args ...any) {
	panic(fmt.Sprintf("%s, after %s", fmt.Sprintf(format, args...), strings.Join(r.notes, "; ")))
}

// reset frees all, for the next function.
func (r *registers) reset() { *r = registers{count: r.count} }

// reg takes the first register that is free.
func (r *registers) reg(name string) int { return r.regs(name, 1)[0] }

// regs takes some, which are for one thing.
func (r *registers) regs(name string, n int) []int {
	list := make([]int, 0, n)
	for i := 0; i < r.count && len(list) < n; i++ {
		if r.taken[i] == "" {
			r.taken[i], r.full[i] = name, false
			list = append(list, i)
		}
	}
	if len(list) < n {
		r.fail("no register is left for %s", name)
	}
	if n > 0 {
		r.notes = append(r.notes, name+" "+spans(list))
	}
	return list
}

// within frees what a part of the function takes when it ends.
func (r *registers) within(part func()) {
	before := r.taken
	part()
	r.taken = before
}

// uses checks that something is in a register.
func (r *registers) uses(i int) {
	switch {
	case r.taken[i] == "":
		r.fail("register %d is read, and nobody has taken it", i)
	case !r.full[i]:
		r.fail("%s, register %d, is read before anything is put there", r.taken[i], i)
	}
}

// fills notes that something is put in a register.
func (r *registers) fills(i int) {
	if r.taken[i] == "" {
		r.fail("register %d is written, and nobody has taken it", i)
	}
	r.full[i] = true
}

// spans writes numbers as 0–3, 5.
func spans(list []int) string {
	var parts []string
	for i := 0; i < len(list); {
		j := i
		for j+1 < len(list) && list[j+1] == list[j]+1 {
			j++
		}
		part := fmt.Sprint(list[i])
		if j > i {
			part += fmt.Sprintf("–%d", list[j])
		}
		parts = append(parts, part)
		i = j + 1
	}
	return strings.Join(parts, ", ")
}

// generals are the general registers, which a function names itself. What reads one that nothing was put in is a mistake too.
type generals map[string]bool

func (g generals) read(name string) {
	if !g[name] {
		panic("register " + name + " is read before anything is put there")
	}
}
