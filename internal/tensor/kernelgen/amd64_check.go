package main

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Instructions by what they do with their last operand, which is where most of them write.
var (
	readOnly = []string{"CMPQ", "TESTQ", "PREFETCHT0"}
	// modified begin the names of those that read it, too.
	modified = []string{"ADD", "SUB", "AND", "OR", "SHLL", "SHLQ", "SHRL", "SHRQ", "XOR", "DEC", "NEG", "VFMADD", "VFNMADD", "VPDPBUSD", "VPERMI2W"}
	// clearing begin the names of those that read nothing where all their operands are the same register.
	clearing = []string{"XOR", "VPXOR", "VXORPS", "VPCMPEQ"}
	vectorOf = regexp.MustCompile(`^[XYZ](\d+)$`)
	maskOf   = regexp.MustCompile(`^K[0-7]$`)
	general  = regexp.MustCompile(`\b(?:[ABCD]X|[SD]I|R\d+)\b`)
)

// op writes an instruction, and checks that what it reads is there.
func (a *amd64) op(name string, operands ...any) {
	list := make([]string, len(operands))
	for i, o := range operands {
		list[i] = fmt.Sprint(o)
	}
	begins := func(with []string) bool {
		return slices.ContainsFunc(with, func(p string) bool { return strings.HasPrefix(name, p) })
	}
	jump := strings.HasPrefix(name, "J")
	if clears := len(list) > 1 && begins(clearing) && len(slices.Compact(slices.Clone(list))) == 1; !clears && !jump {
		for i, o := range list {
			last := i == len(list)-1
			masked := last && i > 0 && vectorOf.MatchString(o) && maskOf.MatchString(list[i-1]) && !strings.Contains(name, ".Z")
			if !last || slices.Contains(readOnly, name) || begins(modified) || masked || strings.Contains(o, "(") {
				a.reads(o)
			}
		}
	}
	if n := len(list); n > 0 && !jump && !slices.Contains(readOnly, name) {
		a.writes(list[n-1])
	}
	a.source.op(name, operands...)
}

// reads checks an operand: a register, or a place that one or two of them say. What the stack and the constants hold is always there.
func (a *amd64) reads(operand string) {
	switch m := vectorOf.FindStringSubmatch(operand); {
	case m != nil:
		i, _ := strconv.Atoi(m[1])
		a.uses(i)
	case maskOf.MatchString(operand):
		a.generals.read(operand)
	case !strings.Contains(operand, "(FP)"):
		for _, g := range general.FindAllString(operand, -1) {
			a.generals.read(g)
		}
	}
}

func (a *amd64) writes(operand string) {
	if m := vectorOf.FindStringSubmatch(operand); m != nil {
		i, _ := strconv.Atoi(m[1])
		a.fills(i)
	} else if maskOf.MatchString(operand) || general.FindString(operand) == operand {
		a.generals[operand] = true
	}
}
