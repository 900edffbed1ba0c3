package tensor

import (
	"fmt"
	"math"

	"kindredgate/internal/weights"
)

// Block is the number of activations that share a scale when they are rounded to bytes.
const Block = 32

// Packed is a batch in the forms in which stored weights are multiplied with it. It is valid until the batch or the
// packer it is from is used again.
type Packed struct {
	batch *Batch
	q     []int8
	d     []float32 // a scale for each block
	sums  []int32   // of q, for every 16
}

// Packer is working memory for packed batches of up to a number of elements.
type Packer struct {
	q    []int8
	d    []float32
	sums []int32
}

// Pack rounds the vectors of b to signed bytes, one scale (largest magnitude / 127) for each 32 elements, if any of the
// matrices that it is to be multiplied with has a format of integers.
func (p *Packer) Pack(b *Batch, with ...*Matrix) Packed {
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
	n := b.n * b.Cols
	if cap(p.q) < n {
		p.q, p.d, p.sums = make([]int8, n), make([]float32, n/Block), make([]int32, n/16)
	}
	x.q, x.d, x.sums = p.q[:n], p.d[:n/Block], p.sums[:n/16]
	for i := range x.d {
		q := x.q[i*Block : (i+1)*Block]
		x.d[i] = quantizeBlock(q, b.data[i*Block:(i+1)*Block])
		x.sums[2*i], x.sums[2*i+1] = sum16(q[:16]), sum16(q[16:])
	}
	return x
}

func sum16(q []int8) (sum int32) {
	for _, v := range q {
		sum += int32(v)
	}
	return sum
}

// quantizeBlock rounds to the nearest, to even on a tie. What is not a number makes a scale that is none either, so that
// it is not lost.
func quantizeBlock(q []int8, x []float32) (scale float32) {
	var largest float32
	for _, v := range x {
		largest = max(largest, float32(math.Abs(float64(v))))
	}
	if largest == 0 {
		clear(q)
		return 0
	}
	if !(largest <= math.MaxFloat32) {
		clear(q)
		q[0] = 1
		return float32(math.NaN())
	}
	inverse := 127 / largest
	if inverse > math.MaxFloat32 {
		clear(q) // a block of numbers so small that their inverse is none
		return 0
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
	rows    []int // where the rows of each product begin among all
	workers []worker
}

// worker is what one goroutine of a team works with.
type worker struct {
	row    unpacked
	floats []float32
}

// Mul sets the destination of each product to its matrix times x: output element r of vector i is the dot product of row
// r and vector i. The matrices have as many columns as x, the destinations as many as the matrix has rows; they are
// resized to the number of vectors.
func (m *Multiplier) Mul(team *Team, x Packed, products ...Product) {
	m.x, m.list, m.rows = x, append(m.list[:0], products...), append(m.rows[:0], 0)
	total := 0
	for _, p := range products {
		if p.W.Cols != x.batch.Cols || p.W.Rows != p.Dst.Cols {
			panic(fmt.Sprintf("tensor: product of %d×%d with %d gives %d", p.W.Rows, p.W.Cols, x.batch.Cols, p.Dst.Cols))
		}
		p.Dst.Resize(x.batch.n)
		total += p.W.Rows
		m.rows = append(m.rows, total)
	}
	for len(m.workers) < team.Size() {
		m.workers = append(m.workers, worker{})
	}
	team.Split(total, x.batch.Cols*x.batch.n, m)
	clear(m.list)
}

// Do multiplies the rows from ≤ r < to of all products, counted through.
func (m *Multiplier) Do(number, from, to int) {
	for i, p := range m.list {
		first, last := max(from, m.rows[i]), min(to, m.rows[i+1])
		if first < last {
			tile(&m.workers[number], p, m.x, first-m.rows[i], last-m.rows[i])
		}
	}
}

// tile multiplies rows of a matrix with all vectors of x. A row is taken apart once for all of them.
func tile(s *worker, p Product, x Packed, from, to int) {
	w, dst, f := p.W, p.Dst, &formats[p.W.Type]
	cols := w.Cols
	if !f.Integer() {
		if cap(s.floats) < cols {
			s.floats = make([]float32, cols)
		}
		for r := from; r < to; r++ {
			data, scales := w.row(r)
			row := s.floats[:cols]
			if w.Type == weights.F32 {
				row = asFloat32(data, row)
			} else {
				f.expand(row, data, scales)
			}
			for i := range x.batch.n {
				dst.data[i*dst.Cols+r] = Dot(row, x.batch.Vec(i))
			}
		}
		return
	}
	s.row.resize(cols, f.group)
	blocks := cols / Block
	for r := from; r < to; r++ {
		data, scales := w.row(r)
		if w.Type != weights.Q8_0 {
			f.unpack(&s.row, data, scales)
		}
		for i := range x.batch.n {
			q, d := x.q[i*cols:(i+1)*cols], x.d[i*blocks:(i+1)*blocks]
			sums := x.sums[2*i*blocks : 2*(i+1)*blocks]
			var sum float32
			switch {
			case w.Type == weights.Q8_0:
				sum = dotQ8_0(data, q, d)
			case f.group == 32 && !f.shifted:
				sum = dot32(&s.row, q, d)
			case f.group == 32:
				sum = dot32Shifted(&s.row, q, d, sums)
			case !f.shifted:
				sum = dot16(&s.row, q, d)
			default:
				sum = dot16Shifted(&s.row, q, d, sums)
			}
			dst.data[i*dst.Cols+r] = sum
		}
	}
}

// The dot products of integers. Each step is rounded to float32 by itself, as the conversions say: a compiler or a
// processor that joined a multiplication with an addition would get other sums.

func dot32(w *unpacked, q []int8, d []float32) (sum float32) {
	for b, da := range d {
		t := float32(float32(dotBytes((*[32]int8)(w.q[32*b:]), (*[32]int8)(q[32*b:]))) * w.scale[b])
		sum += float32(t * da)
	}
	return sum
}

// dotQ8_0 is dot32 on blocks as they lie in the file, which are bytes already.
func dotQ8_0(row []byte, q []int8, d []float32) (sum float32) {
	w := signed(row)
	for b, da := range d {
		scale := Float16(uint16(row[34*b]) | uint16(row[34*b+1])<<8)
		t := float32(float32(dotBytes((*[32]int8)(w[34*b+2:]), (*[32]int8)(q[32*b:]))) * scale)
		sum += float32(t * da)
	}
	return sum
}

func dot32Shifted(w *unpacked, q []int8, d []float32, sums []int32) (sum float32) {
	for b, da := range d {
		t := float32(float32(dotBytes((*[32]int8)(w.q[32*b:]), (*[32]int8)(q[32*b:]))) * w.scale[b])
		t -= float32(float32(sums[2*b]+sums[2*b+1]) * w.low[b])
		sum += float32(t * da)
	}
	return sum
}

func dot16(w *unpacked, q []int8, d []float32) (sum float32) {
	for b, da := range d {
		first, second := dotHalves((*[32]int8)(w.q[32*b:]), (*[32]int8)(q[32*b:]))
		t := float32(float32(first) * w.scale[2*b])
		t += float32(float32(second) * w.scale[2*b+1])
		sum += float32(t * da)
	}
	return sum
}

func dot16Shifted(w *unpacked, q []int8, d []float32, sums []int32) (sum float32) {
	for b, da := range d {
		first, second := dotHalves((*[32]int8)(w.q[32*b:]), (*[32]int8)(q[32*b:]))
		t := float32(float32(first) * w.scale[2*b])
		t += float32(float32(second) * w.scale[2*b+1])
		t -= float32(float32(sums[2*b]) * w.low[2*b])
		t -= float32(float32(sums[2*b+1]) * w.low[2*b+1])
		sum += float32(t * da)
	}
	return sum
}

func dotBytes(w, x *[32]int8) int32 {
	return (dot8((*[8]int8)(w[0:8]), (*[8]int8)(x[0:8])) + dot8((*[8]int8)(w[8:16]), (*[8]int8)(x[8:16]))) +
		(dot8((*[8]int8)(w[16:24]), (*[8]int8)(x[16:24])) + dot8((*[8]int8)(w[24:32]), (*[8]int8)(x[24:32])))
}

func dotHalves(w, x *[32]int8) (first, second int32) {
	first = dot8((*[8]int8)(w[0:8]), (*[8]int8)(x[0:8])) + dot8((*[8]int8)(w[8:16]), (*[8]int8)(x[8:16]))
	second = dot8((*[8]int8)(w[16:24]), (*[8]int8)(x[16:24])) + dot8((*[8]int8)(w[24:32]), (*[8]int8)(x[24:32]))
	return first, second
}

// dot8 is written out over arrays so that the compiler, knowing every index, leaves out the checks: this is
// 1.7 times as fast as a loop.
func dot8(w, x *[8]int8) int32 {
	return (int32(w[0])*int32(x[0]) + int32(w[1])*int32(x[1])) + (int32(w[2])*int32(x[2]) + int32(w[3])*int32(x[3])) +
		((int32(w[4])*int32(x[4]) + int32(w[5])*int32(x[5])) + (int32(w[6])*int32(x[6]) + int32(w[7])*int32(x[7])))
}

// lanes is into how many sums a dot product of floats is divided: as many as a vector register holds.
const lanes = 16

// Dot is the dot product of two float32 vectors of equal length: the products of elements i, i + 16, i + 32, … are added
// in order, and then sum i + 8 to sum i, i + 4 to i, and so on.
func Dot(a, b []float32) float32 {
	b = b[:len(a)]
	whole := len(a) &^ (lanes - 1)
	var sums [lanes]float32
	for l := 0; l < lanes; l += 4 { // four at a time, as many as hide the latency of an addition
		var s0, s1, s2, s3 float32
		for i := l; i < whole; i += lanes {
			x, y := (*[4]float32)(a[i:]), (*[4]float32)(b[i:])
			s0 += float32(x[0] * y[0])
			s1 += float32(x[1] * y[1])
			s2 += float32(x[2] * y[2])
			s3 += float32(x[3] * y[3])
		}
		sums[l], sums[l+1], sums[l+2], sums[l+3] = s0, s1, s2, s3
	}
	for i := whole; i < len(a); i++ {
		sums[i-whole] += float32(a[i] * b[i])
	}
	for n := lanes / 2; n > 0; n /= 2 {
		for i := range n {
			sums[i] += sums[i+n]
		}
	}
	return sums[0]
}

// Usable reports whether matrices of that many columns can be multiplied: vectors are rounded in blocks.
func Usable(t weights.Type, cols int) bool { return !formats[t].Integer() || cols%Block == 0 }
