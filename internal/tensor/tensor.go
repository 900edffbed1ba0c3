// Package tensor multiplies weight matrices, in the form in which they lie in the file, with activations.
//
// A [Matrix] keeps its weights as stored (F32, F16 or Q8_0 blocks); nothing is expanded. The work per row is
// a dot product, and there is one kernel for each storage type. The kernels' meaning is defined by the pure
// Go functions in dot_generic.go; dot.go is the only place that chooses which implementation runs, so that
// an assembly twin is a file beside it and a line in its table.
package tensor

import (
	"fmt"
	"math"
	"unsafe"
)

// Type says how a matrix's elements are stored.
type Type uint8

// The storage types.
const (
	F32 Type = iota
	F16
	Q8_0 // blocks of 32: one F16 scale d and 32 signed bytes q, each element being d*q
)

// BlockSize is the number of elements that share a scale in Q8_0, in weights and in activations.
const BlockSize = 32

const blockBytes = 2 + BlockSize

// Matrix is a read-only weight matrix of Rows × Cols, stored row by row.
type Matrix struct {
	Type       Type
	Rows, Cols int
	Data       []byte // rows one after the other, RowBytes each
}

// NewMatrix checks that data holds rows × cols elements of type t. F32 data must be aligned to 4 bytes.
func NewMatrix(t Type, rows, cols int, data []byte) (Matrix, error) {
	m := Matrix{Type: t, Rows: rows, Cols: cols, Data: data}
	if t == Q8_0 && cols%BlockSize != 0 {
		return Matrix{}, fmt.Errorf("rows of %d elements are not whole blocks of %d", cols, BlockSize)
	}
	if want := rows * m.RowBytes(); len(data) != want {
		return Matrix{}, fmt.Errorf("%d bytes of data where %d × %d elements take %d", len(data), rows, cols, want)
	}
	if t == F32 && len(data) > 0 && uintptr(unsafe.Pointer(&data[0]))%4 != 0 {
		return Matrix{}, fmt.Errorf("F32 data is not aligned to 4 bytes")
	}
	return m, nil
}

// RowBytes is the length of one row in bytes.
func (m Matrix) RowBytes() int {
	switch m.Type {
	case F32:
		return 4 * m.Cols
	case F16:
		return 2 * m.Cols
	case Q8_0:
		return m.Cols / BlockSize * blockBytes
	}
	panic(fmt.Sprintf("tensor: storage type %d", m.Type))
}

func (m Matrix) row(r int) []byte {
	n := m.RowBytes()
	return m.Data[r*n : (r+1)*n : (r+1)*n]
}

// Row expands row r into dst, which has Cols elements.
func (m Matrix) Row(dst []float32, r int) {
	row := m.row(r)
	switch m.Type {
	case F32:
		copy(dst, asFloat32(row))
	case F16:
		for i := range dst[:m.Cols] {
			dst[i] = Float16(uint16(row[2*i]) | uint16(row[2*i+1])<<8)
		}
	case Q8_0:
		for b := 0; b < m.Cols/BlockSize; b++ {
			block := row[b*blockBytes : (b+1)*blockBytes]
			d := Float16(uint16(block[0]) | uint16(block[1])<<8)
			for i, q := range block[2:] {
				dst[b*BlockSize+i] = d * float32(int8(q))
			}
		}
	}
}

// Activations are the right-hand side of a product: n vectors of the same length, kept as float32 and, once
// [Activations.Quantize] was called, also as blocks of signed bytes with a scale each.
type Activations struct {
	Cols int
	f    []float32
	q    []int8
	d    []float32 // one scale a block
	n    int
}

// NewActivations makes room for up to n vectors of cols elements.
func NewActivations(n, cols int) *Activations {
	return &Activations{
		Cols: cols,
		f:    make([]float32, n*cols),
		q:    make([]int8, n*cols),
		d:    make([]float32, n*((cols+BlockSize-1)/BlockSize)),
	}
}

// Resize sets the number of vectors in use. It panics when there is no room for n.
func (a *Activations) Resize(n int) {
	if n*a.Cols > len(a.f) {
		panic(fmt.Sprintf("tensor: room for %d activations, not %d", len(a.f)/a.Cols, n))
	}
	a.n = n
}

// Len is the number of vectors in use.
func (a *Activations) Len() int { return a.n }

// Vec is vector i, to be read or written.
func (a *Activations) Vec(i int) []float32 { return a.f[i*a.Cols : (i+1)*a.Cols : (i+1)*a.Cols] }

// Quantize rounds every vector to signed bytes, one scale (largest magnitude / 127) for each 32 elements.
// It is needed before a product with a Q8_0 matrix, after the vectors were written.
func (a *Activations) Quantize() {
	if a.Cols%BlockSize != 0 {
		panic(fmt.Sprintf("tensor: activations of %d elements are not whole blocks", a.Cols))
	}
	for b := 0; b < a.n*a.Cols/BlockSize; b++ {
		a.d[b] = quantizeBlock(a.q[b*BlockSize:(b+1)*BlockSize], a.f[b*BlockSize:(b+1)*BlockSize])
	}
}

func quantizeBlock(q []int8, x []float32) (scale float32) {
	var largest float32
	for _, v := range x {
		largest = max(largest, float32(math.Abs(float64(v))))
	}
	if largest == 0 {
		clear(q)
		return 0
	}
	inverse := 127 / largest
	for i, v := range x {
		q[i] = int8(math.RoundToEven(float64(v * inverse)))
	}
	return largest / 127
}

// MatMul sets dst to w times x: output element r of vector i is the dot product of row r of w and vector i
// of x. dst has Cols = w.Rows and is resized to the number of vectors. x must have been quantised since it
// was last written if w is Q8_0.
func MatMul(team *Team, dst *Activations, w Matrix, x *Activations) {
	if w.Cols != x.Cols || w.Rows != dst.Cols {
		panic(fmt.Sprintf("tensor: product of %d×%d with %d gives %d", w.Rows, w.Cols, x.Cols, dst.Cols))
	}
	dst.Resize(x.n)
	team.Split(w.Rows, w.Cols*x.n, func(from, to int) {
		mulRows(dst, w, x, from, to)
	})
}

// mulRows does rows from ≤ r < to. A row is used for every vector while it is in the cache.
func mulRows(dst *Activations, w Matrix, x *Activations, from, to int) {
	blocks := x.Cols / BlockSize
	for r := from; r < to; r++ {
		row := w.row(r)
		for i := range x.n {
			var sum float32
			switch w.Type {
			case F32:
				sum = dotF32(asFloat32(row), x.Vec(i))
			case F16:
				sum = dotF16(row, x.Vec(i))
			case Q8_0:
				sum = dotQ8(row, x.q[i*x.Cols:(i+1)*x.Cols], x.d[i*blocks:(i+1)*blocks])
			}
			dst.f[i*dst.Cols+r] = sum
		}
	}
}

// asFloat32 reads bytes in the file's order as floats; NewMatrix has checked the alignment. The gate runs on
// little-endian processors only, which is the order of the file.
func asFloat32(b []byte) []float32 {
	return unsafe.Slice((*float32)(unsafe.Pointer(unsafe.SliceData(b))), len(b)/4)
}
