package tensor

import (
	"fmt"
	"math"
	"unsafe"

	"kindredgate/internal/weights"
)

// Block is the number of activations that share a scale when they are rounded to bytes.
const Block = 32

// Packed is a batch in the forms in which stored weights are multiplied with it. It is valid until the batch or the
// packer it is from is used again.
type Packed struct {
	batch   *Batch
	records []record // [group][quad][vector of the group]; none if no format of integers is to be multiplied with it
	quads   int      // of a vector
	vectors int
}

// groupVectors is how many vectors lie side by side, so many as the largest tile has. The last group may have fewer.
const groupVectors = 12

// groupSize is how many vectors the group has that a vector is in.
func (x *Packed) groupSize(vector int) int {
	return min(groupVectors, x.vectors-vector/groupVectors*groupVectors)
}

// record is that of a vector and a quad.
func (x *Packed) record(vector, quad int) *record {
	in := vector % groupVectors
	return &x.records[(vector-in)*x.quads+quad*x.groupSize(vector)+in]
}

func (x *Packed) at(vector, quad int) *byte { return (*byte)(unsafe.Pointer(x.record(vector, quad))) }

// stride is the bytes from one quad of a vector to the next.
func (x *Packed) stride(vector int) int { return x.groupSize(vector) * int(unsafe.Sizeof(record{})) }

// Packer is working memory for packed batches of up to a number of elements.
type Packer struct {
	records []record
	x       Packed
}

// Pack rounds the vectors of b to signed bytes, one scale (largest magnitude / 127) for each 32 elements, if any of the
// matrices that it is to be multiplied with has a format of integers.
func (p *Packer) Pack(team *Team, b *Batch, with ...*Matrix) Packed {
	x := Packed{batch: b}
	integers := false
	for _, w := range with {
		integers = integers || formats[w.Type].Integer()
	}
	if !integers {
		return x
	}
	if b.Cols%Block != 0 {
		panic(fmt.Sprintf("tensor: vectors of %d elements are not whole blocks", b.Cols))
	}
	x.quads, x.vectors = (b.Cols+quad-1)/quad, b.n
	n := x.vectors * x.quads
	if cap(p.records) < n+1 {
		// Kernels read a whole register where less would do, beyond the last record.
		p.records = make([]record, n+1)
	}
	x.records = p.records[:n]
	p.x = x
	team.Split(b.n, 4*b.Cols, p)
	return x
}

// Do rounds some of the vectors.
func (p *Packer) Do(_, from, to int) {
	for i := from; i < to; i++ {
		p.round(i)
	}
}

// round writes the records of a vector.
func (p *Packer) round(i int) {
	v := p.x.batch.Vec(i)
	for q := 0; q < p.x.quads; q++ {
		if whole := len(v)/quad - q; inUse != nil && whole > 0 {
			if q += inUse.round(p.x.at(i, q), p.x.stride(i), &v[quad*q], whole); q == p.x.quads {
				return
			}
		}
		roundQuad(p.x.record(i, q), v[quad*q:min(quad*(q+1), len(v))])
	}
}

// roundQuad writes up to four blocks as a record.
func roundQuad(r *record, x []float32) {
	*r = record{}
	for b := range len(x) / Block {
		var q [Block]int8
		r.scale[b] = roundBlock(q[:], x[b*Block:(b+1)*Block])
		copy(r.q[16*b:], q[:16])
		copy(r.q[64+16*b:], q[16:])
		first, second := sum16(q[:16]), sum16(q[16:])
		r.start[b], r.sum[b] = -128*(first+second), float32(first+second)
		r.half[b], r.half[4+b] = float32(first), float32(second)
	}
}

func sum16(q []int8) (sum int32) {
	for _, v := range q {
		sum += int32(v)
	}
	return sum
}

// roundBlock rounds to the nearest, to even on a tie. What is not a number makes a scale that is none either, so that it
// is not lost.
func roundBlock(q []int8, x []float32) (scale float32) {
	var largest float32
	for _, v := range x {
		largest = max(largest, float32(math.Abs(float64(v))))
	}
	if largest == 0 {
		return 0
	}
	if !(largest <= math.MaxFloat32) {
		q[0] = 1
		return float32(math.NaN())
	}
	inverse := 127 / largest
	if inverse > math.MaxFloat32 {
		return 0 // a block of numbers so small that their inverse is none
	}
	for i, v := range x {
		q[i] = int8(math.RoundToEven(float64(v * inverse)))
	}
	return largest / 127
}

// Product is a matrix and where its product goes.
type Product struct {
	W   *Matrix
	Dst *Batch
}

// Multiplier is the working memory of products, used by one goroutine at a time.
type Multiplier struct {
	x       Packed
	list    []Product
	groups  []int // where the rows of each product begin among all, which are counted by PanelRows
	workers []worker
}

// worker is what one goroutine of a team works with.
type worker struct {
	row    unpacked
	rows   unpackedRows
	floats []float32
	sums   [dotRows]float32
}

// Mul sets the destination of each product to its matrix times x: output element r of vector i is the dot product of row
// r and vector i. The matrices have as many columns as x, the destinations as many as the matrix has rows; they are
// resized to the number of vectors.
func (m *Multiplier) Mul(team *Team, x Packed, products ...Product) {
	m.x, m.list, m.groups = x, append(m.list[:0], products...), append(m.groups[:0], 0)
	total := 0
	for _, p := range products {
		if p.W.Cols != x.batch.Cols || p.W.Rows != p.Dst.Cols {
			panic(fmt.Sprintf("tensor: product of %d×%d with %d gives %d", p.W.Rows, p.W.Cols, x.batch.Cols, p.Dst.Cols))
		}
		p.Dst.Resize(x.batch.n)
		total += (p.W.Rows + PanelRows - 1) / PanelRows
		m.groups = append(m.groups, total)
	}
	for len(m.workers) < team.Size() {
		m.workers = append(m.workers, worker{})
	}
	team.Split(total, PanelRows*x.batch.Cols*x.batch.n, m)
	clear(m.list)
}

// Do multiplies some groups of rows of all products, counted through.
func (m *Multiplier) Do(number, from, to int) {
	for i, p := range m.list {
		first, last := max(from, m.groups[i]), min(to, m.groups[i+1])
		if first < last {
			tile(&m.workers[number], p, m.x, PanelRows*(first-m.groups[i]), min(PanelRows*(last-m.groups[i]), p.W.Rows))
		}
	}
}

// tile multiplies rows of a matrix with all vectors of x. A row is taken apart once for all of them.
func tile(s *worker, p Product, x Packed, from, to int) {
	w, f := p.W, &formats[p.W.Type]
	switch {
	case !f.Integer():
		s.floatRows(p, x.batch, from, to)
		return
	case inUse != nil:
		if panels := w.panels.Load(); panels != nil {
			s.prepared(inUse, p, x, panels, from, to)
			return
		}
		few := fewVectors
		if inUse.rows[w.Type] != nil && w.Cols%quad == 0 {
			few = someVectors
		}
		if x.batch.n <= few {
			s.dots(inUse, p, x, from, to)
		} else {
			s.panels(inUse, p, x, from, to)
		}
		return
	}
	s.row.resize(w.Cols, f.group)
	for r := from; r < to; r++ {
		data, scales := w.row(r)
		f.unpack(&s.row, data, scales)
		for i := range x.batch.n {
			p.Dst.data[i*p.Dst.Cols+r] = s.row.dot(f, &x, i)
		}
	}
}

// How many bytes of rows, and of vectors, are worked on at a time, so that the rows stay in the second cache and the vectors in the first.
const (
	floatRowBytes    = 256 << 10
	floatVectorBytes = 32 << 10
)

// floatRows multiplies rows of floats.
func (s *worker) floatRows(p Product, x *Batch, from, to int) {
	cols := p.W.Cols
	block, vectors := dotRows, x.n
	if x.n > 2*dotRows { // else the rows are read once anyway
		block = max(dotRows, floatRowBytes/(4*cols)/dotRows*dotRows)
		vectors = max(dotRows, floatVectorBytes/(4*cols)/dotRows*dotRows)
	}
	if block = min(block, (to-from+dotRows-1)/dotRows*dotRows); len(s.floats) < block*cols {
		s.floats = make([]float32, block*cols)
	}
	for ; from < to; from += block {
		n := min(block, to-from)
		rows, stride := s.widened(p.W, from, n)
		for v := 0; v < x.n; v += vectors {
			s.floatBlock(p, x, from, rows, stride, n, v, min(x.n, v+vectors))
		}
	}
}

// widened are n rows as float32, so many elements apart: where they are in their file, if that is possible, or in the worker's memory.
func (s *worker) widened(w *Matrix, first, n int) (rows []float32, stride int) {
	cols := w.Cols
	for i := range n {
		data, scales := w.row(first + i)
		row := s.floats[i*cols : (i+1)*cols]
		if w.Type != weights.F32 {
			widen(w.Type, row, data, scales)
		} else if here := asFloat32(data, row); &here[0] != &row[0] {
			return unsafe.Slice(&here[0], (n-1)*w.stride/4+cols), w.stride / 4
		}
	}
	return s.floats, cols
}

// floatBlock multiplies n rows, the first of which is row first of the matrix, with some vectors.
func (s *worker) floatBlock(p Product, x *Batch, first int, rows []float32, stride, n, from, to int) {
	cols := p.W.Cols
	for r := 0; r < n; {
		if n-r < dotRows || inUse == nil || cols%lanes != 0 {
			for i := from; i < to; i++ {
				p.Dst.data[i*p.Dst.Cols+first+r] = Dot(rows[r*stride:][:cols], x.Vec(i))
			}
			r++
			continue
		}
		i := from
		for ; inUse.tileFloats != nil && i+dotRows <= to; i += dotRows {
			inUse.tileFloats(&p.Dst.data[i*p.Dst.Cols+first+r], 4*p.Dst.Cols, &rows[r*stride], 4*stride, &x.data[i*cols], 4*cols, cols/lanes)
		}
		for ; i < to; i++ {
			inUse.dotFloats4(&s.sums[0], &rows[r*stride], 4*stride, &x.data[i*cols], cols/lanes)
			copy(p.Dst.data[i*p.Dst.Cols+first+r:], s.sums[:])
		}
		r += dotRows
	}
}

// dot is the product of an unpacked row with a vector. Each step is rounded to float32, and where something is multiplied and
// added, once: so every processor gets the same sums.
func (w *unpacked) dot(f *Format, x *Packed, vector int) (sum float32) {
	for b := range len(w.q) / Block {
		r, i := x.record(vector, b/4), b%4
		first, second := dotHalves((*[32]int8)(w.q[32*b:]), (*[16]int8)(r.q[16*i:]), (*[16]int8)(r.q[64+16*i:]))
		var t float32
		if f.group == Block {
			t = float32(float32(first+second) * w.scale[b])
			if f.shifted {
				t = fused(-r.sum[i], w.low[b], t)
			}
		} else {
			t = float32(float32(first) * w.scale[2*b])
			t = fused(float32(second), w.scale[2*b+1], t)
			if f.shifted {
				t = fused(-r.half[i], w.low[2*b], t)
				t = fused(-r.half[4+i], w.low[2*b+1], t)
			}
		}
		p := float64(float64(t) * float64(r.scale[i]))
		s, z := p+float64(sum), sum
		if sum = float32(s); !once(s) {
			sum = roundOdd(p, float64(z), s)
		}
	}
	return sum
}

// dotHalves multiplies a block with its two halves.
func dotHalves(w *[32]int8, x, y *[16]int8) (first, second int32) {
	first = dot8((*[8]int8)(w[0:8]), (*[8]int8)(x[0:8])) + dot8((*[8]int8)(w[8:16]), (*[8]int8)(x[8:16]))
	second = dot8((*[8]int8)(w[16:24]), (*[8]int8)(y[0:8])) + dot8((*[8]int8)(w[24:32]), (*[8]int8)(y[8:16]))
	return first, second
}

// dot8 is written out over arrays so that the compiler, knowing every index, leaves out the checks: this is
// 1.7 times as fast as a loop.
func dot8(w, x *[8]int8) int32 {
	return (int32(w[0])*int32(x[0]) + int32(w[1])*int32(x[1])) + (int32(w[2])*int32(x[2]) + int32(w[3])*int32(x[3])) +
		((int32(w[4])*int32(x[4]) + int32(w[5])*int32(x[5])) + (int32(w[6])*int32(x[6]) + int32(w[7])*int32(x[7])))
}

// Usable reports whether matrices of that many columns can be multiplied: vectors are rounded in blocks.
func Usable(t weights.Type, cols int) bool { return !formats[t].Integer() || cols%Block == 0 }
