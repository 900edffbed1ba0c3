package main

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
)

var (
	// accumulating are the instructions that read what they write to, too.
	accumulating = []string{"fmla", "fmls", "sdot", "bsl", "bif", "sqxtn2.8h", "sqxtn2.16b"}
	neonRegister = regexp.MustCompile(`\b[vqdsh](\d+)\b`)
)

// check looks at an instruction, as it is written in words, for registers that nobody has taken or that nothing was put in.
func (a *arm64) check(text string) {
	name, operands, _ := strings.Cut(text, " ")
	var list []int
	for _, m := range neonRegister.FindAllStringSubmatch(operands, -1) {
		i, _ := strconv.Atoi(m[1])
		list = append(list, i)
	}
	clears := name == "eor" && len(slices.Compact(slices.Clone(list))) == 1
	stores := strings.HasPrefix(name, "st")
	for i, register := range list {
		if !clears && (i > 0 || stores || slices.Contains(accumulating, name)) {
			a.uses(register)
		}
	}
	if len(list) > 0 && !stores {
		a.fills(list[0])
	}
}
