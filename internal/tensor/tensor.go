// Package tensor multiplies weight matrices, in the form in which they lie in the file, with activations.
//
// A [Matrix] keeps its weights as stored; nothing is expanded. What the blocks of each storage type hold is said by its
// [Format], with one table for all of them. Activations are multiplied as float32, or rounded to signed bytes with a scale
// for every 32 of them: a [Batch] is packed for that, and products take nothing but what was packed.
//
// The pure Go functions define the results to the bit. Each output is a sum in one stated order, whatever rows and
// vectors are worked on together: with integers, block by block in order; with floats, in 16 sums of every sixteenth
// product, which are then added pairwise. An implementation for a processor has to do the same.
package tensor

import (
	"fmt"
	"math"
	"sync/atomic"
	"unsafe"

	"kindredgate/internal/weights"
)

// Matrix is a read-only weight matrix of Rows × Cols, stored row by row.
type Matrix struct {
	Type        weights.Type
	Rows, Cols  int
	data        []byte
	stride      int                   // bytes from one row to the next
	bytes       int                   // of a row
	quad        int                   // bytes of 128 elements
	scales      []byte                // of types that have them apart
	scaleStride int                   // bytes from one row of these to the next
	first, step int                   // the row of the scales' matrix that is this one's first, and how far apart its rows are
	share       int                   // rows that share a row of scales
	panels      *atomic.Pointer[byte] // to its panels, if it has any
}

// NewMatrix checks that data, and scales for types that have them apart, hold rows × cols elements of type t.
func NewMatrix(t weights.Type, rows, cols int, data, scales []byte) (Matrix, error) {
	row, ok := t.RowBytes(cols)
	if !ok {
		return Matrix{}, fmt.Errorf("rows of %d elements are not whole blocks of %d", cols, t.Layout().Elements)
	}
	l := t.Layout()
	grid := l.Scales
	m := Matrix{Type: t, Rows: rows, Cols: cols, data: data, stride: row, bytes: row, quad: quad * l.Bytes / l.Elements, share: grid.Rows, scales: scales, scaleStride: grid.Row(cols), step: 1, panels: new(atomic.Pointer[byte])}
	if len(data) != rows*row {
		return Matrix{}, fmt.Errorf("%d bytes of data where %d × %d elements take %d", len(data), rows, cols, rows*row)
	}
	if len(scales) == 0 {
		m.scales = nil
	}
	if n := grid.Size(rows, cols); n != len(scales) {
		return Matrix{}, fmt.Errorf("%d bytes of scales where those of %d × %d elements take %d", len(scales), rows, cols, n)
	}
	return m, nil
}

// Slice is the matrix of n rows, from and every step-th one after it.
func (m Matrix) Slice(from, n, step int) Matrix {
	m.data = m.data[from*m.stride:]
	m.first, m.step = m.first+from*m.step, m.step*step
	m.Rows, m.stride, m.panels = n, m.stride*step, new(atomic.Pointer[byte])
	return m
}

// Bytes is what the matrix takes in its file.
func (m Matrix) Bytes() int64 {
	row, _ := m.Type.RowBytes(m.Cols)
	return int64(row)*int64(m.Rows) + int64(m.Type.Layout().Scales.Size(m.Rows, m.Cols))
}

// Raw are the bytes of the matrix if its rows lie one after the other in one piece, as GGUF files have them.
func (m Matrix) Raw() (data []byte, ok bool) {
	row, _ := m.Type.RowBytes(m.Cols)
	if m.stride != row || m.scales != nil {
		return nil, false
	}
	return m.data[:m.Rows*row], true
}

// row is the bytes of row r, and its scales if they are apart.
func (m *Matrix) row(r int) (data, scales []byte) {
	data = m.data[r*m.stride:][:m.bytes]
	if m.scales != nil {
		scales = m.scales[(m.first+r*m.step)/m.share*m.scaleStride:][:m.scaleStride]
	}
	return data, scales
}

// Row expands row r into dst, which has Cols elements.
func (m *Matrix) Row(dst []float32, r int) {
	data, scales := m.row(r)
	formats[m.Type].expand(dst[:m.Cols], data, scales)
}

// Batch is a number of vectors of the same length.
type Batch struct {
	Cols int
	data []float32
	n    int
}

// NewBatch makes room for up to n vectors of cols elements.
func NewBatch(n, cols int) *Batch { return &Batch{Cols: cols, data: make([]float32, n*cols)} }

// Resize sets the number of vectors in use. It panics when there is no room for n.
func (b *Batch) Resize(n int) {
	if n*b.Cols > len(b.data) {
		panic(fmt.Sprintf("tensor: room for %d elements, not %d vectors of %d", len(b.data), n, b.Cols))
	}
	b.n = n
}

// Shape sets the number of vectors in use and how long each is. What they hold is not defined. It panics when there is no room.
func (b *Batch) Shape(n, cols int) {
	b.Cols = cols
	b.Resize(n)
}

// Len is the number of vectors in use.
func (b *Batch) Len() int { return b.n }

// Vec is vector i, to be read or written.
func (b *Batch) Vec(i int) []float32 { return b.data[i*b.Cols : (i+1)*b.Cols : (i+1)*b.Cols] }

// From is all that follows element j of vector i, those of the vectors after it too.
func (b *Batch) From(i, j int) []float32 { return b.data[i*b.Cols+j : b.n*b.Cols] }

// asFloat32 reads bytes in the file's order as floats, copying them into buffer only if they are not aligned. The gate
// runs on little-endian processors only, which is the order of the file.
func asFloat32(b []byte, buffer []float32) []float32 {
	if uintptr(unsafe.Pointer(unsafe.SliceData(b)))%4 == 0 {
		return unsafe.Slice((*float32)(unsafe.Pointer(unsafe.SliceData(b))), len(b)/4)
	}
	buffer = buffer[:len(b)/4]
	for i := range buffer {
		buffer[i] = math.Float32frombits(uint32(b[4*i]) | uint32(b[4*i+1])<<8 | uint32(b[4*i+2])<<16 | uint32(b[4*i+3])<<24)
	}
	return buffer
}
