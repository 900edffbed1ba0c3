package weights

import (
	"fmt"
	"math"
)

// Type says how the elements of a tensor are stored.
type Type uint8

// The storage types. What their blocks hold, package tensor says.
const (
	F32 Type = iota
	F16
	BF16
	Q8_0
	Q4_0
	Q4_1
	Q5_0
	Q5_1
	Q2_K
	Q3_K
	Q4_K
	Q5_K
	Q6_K
	IQ4_NL
	IQ4_XS
	MXFP4
	// MXFP4Split has the 16 bytes of each block in one tensor and their scales in another, as safetensors files have
	// it (Open Compute Project, "Microscaling Formats", version 1.0).
	MXFP4Split
	// F8 are bytes with four bits of exponent and three of mantissa, and a float32 in another tensor as the scale of 128 by 128 of them
	// (Open Compute Project, "8-bit Floating Point Specification", E4M3, 2023).
	F8
	Types // how many there are
)

// Layout is how a type packs its elements, which lie row by row in whole blocks.
type Layout struct {
	Name     string
	Elements int // of a block
	Bytes    int // of a block
	Scales   Grid
}

// Grid says for how many rows and elements of a matrix there is one scale, where these lie apart, and what it takes; none if Bytes is 0.
type Grid struct{ Rows, Elements, Bytes int }

// Row is what the scales of a row of so many elements take.
func (g Grid) Row(elements int) int {
	if g.Bytes == 0 {
		return 0
	}
	return (elements + g.Elements - 1) / g.Elements * g.Bytes
}

// Size is what the scales of a matrix take.
func (g Grid) Size(rows, cols int) int {
	if g.Bytes == 0 {
		return 0
	}
	return (rows + g.Rows - 1) / g.Rows * g.Row(cols)
}

var layouts = [Types]Layout{
	F32: {"F32", 1, 4, Grid{}}, F16: {"F16", 1, 2, Grid{}}, BF16: {"BF16", 1, 2, Grid{}}, F8: {"F8", 1, 1, Grid{128, 128, 4}},
	Q8_0: {"Q8_0", 32, 34, Grid{}}, Q4_0: {"Q4_0", 32, 18, Grid{}}, Q4_1: {"Q4_1", 32, 20, Grid{}}, Q5_0: {"Q5_0", 32, 22, Grid{}}, Q5_1: {"Q5_1", 32, 24, Grid{}},
	Q2_K: {"Q2_K", 256, 84, Grid{}}, Q3_K: {"Q3_K", 256, 110, Grid{}}, Q4_K: {"Q4_K", 256, 144, Grid{}}, Q5_K: {"Q5_K", 256, 176, Grid{}}, Q6_K: {"Q6_K", 256, 210, Grid{}},
	IQ4_NL: {"IQ4_NL", 32, 18, Grid{}}, IQ4_XS: {"IQ4_XS", 256, 136, Grid{}}, MXFP4: {"MXFP4", 32, 17, Grid{}}, MXFP4Split: {"MXFP4", 32, 16, Grid{1, 32, 1}},
}

// Layout is how t packs its elements.
func (t Type) Layout() Layout { return layouts[t] }

func (t Type) String() string {
	if t < Types {
		return layouts[t].Name
	}
	return fmt.Sprintf("type %d", uint8(t))
}

// RowBytes is what a row of so many elements takes; ok is false if they are not whole blocks.
func (t Type) RowBytes(elements int) (bytes int, ok bool) {
	l := layouts[t]
	return elements / l.Elements * l.Bytes, elements%l.Elements == 0
}

// Size is the number of bytes that a tensor of that shape, outermost dimension first, takes. It is an error if its rows
// are not whole blocks, or if no file could hold it.
func (t Type) Size(shape []int) (int64, error) {
	columns := 1
	if len(shape) > 0 {
		columns = shape[len(shape)-1]
	}
	row, ok := t.RowBytes(columns)
	if !ok {
		return 0, fmt.Errorf("rows of %d elements are not a multiple of the %s block of %d", columns, t, layouts[t].Elements)
	}
	size := int64(row)
	for _, d := range shape[:max(0, len(shape)-1)] {
		if d < 0 || d > 0 && size > math.MaxInt64/8/int64(d) {
			return 0, fmt.Errorf("more elements than any file can hold")
		}
		size *= int64(d)
	}
	return size, nil
}
