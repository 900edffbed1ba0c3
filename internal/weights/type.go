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
	Types // how many there are
)

// Layout is how a type packs its elements, which lie row by row in whole blocks.
type Layout struct {
	Name     string
	Elements int // of a block
	Bytes    int // of a block
}

var layouts = [Types]Layout{
	F32: {"F32", 1, 4}, F16: {"F16", 1, 2}, BF16: {"BF16", 1, 2},
	Q8_0: {"Q8_0", 32, 34}, Q4_0: {"Q4_0", 32, 18}, Q4_1: {"Q4_1", 32, 20}, Q5_0: {"Q5_0", 32, 22}, Q5_1: {"Q5_1", 32, 24},
	Q2_K: {"Q2_K", 256, 84}, Q3_K: {"Q3_K", 256, 110}, Q4_K: {"Q4_K", 256, 144}, Q5_K: {"Q5_K", 256, 176}, Q6_K: {"Q6_K", 256, 210},
	IQ4_NL: {"IQ4_NL", 32, 18}, IQ4_XS: {"IQ4_XS", 256, 136}, MXFP4: {"MXFP4", 32, 17}, MXFP4Split: {"MXFP4", 32, 16},
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
