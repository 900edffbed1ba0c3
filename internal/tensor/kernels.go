package tensor

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"unsafe"

	"kindredgate/internal/weights"
)

// kernels are the loops that a kind of processor has instructions for. What they compute is defined by the Go functions
// beside their callers, which do the same without them, to the bit. Their code is written by package kernelgen.
type kernels struct {
	name string
	// biased says that unpacked bytes have 128 added, since the processor multiplies unsigned ones with signed ones.
	biased bool
	// tileRows is how many rows a tile has.
	tileRows int

	unpack    [weights.Types]unpackKernel
	rows      [weights.Types]rowsKernel
	dot       [4]dotKernel
	tiles     [4][]tileKernel              // the largest first
	panels    [weights.Types][]panelKernel // the largest first
	spread    [weights.Types]spreadKernel
	pairs     [weights.Types][]pairKernel // the largest first
	transpose func(dst, src *byte, stride, pieces int)
	round     func(records *byte, xq int, x *float32, quads int) (done int)

	widenF16, widenBF16 func(dst *float32, src *byte, n int)
	scaleColumns        func(dst *float32, q *int8, scale *float32, rows int)
	scaleRows           func(dst *float32, q *int8, scale *float32, rows, sixteens int)
	dotFloats1          func(w, x *float32, n int) float32
	dotFloats4          func(out, w *float32, ws int, x *float32, n int)
	tileFloats          func(out *float32, os int, w *float32, ws int, x *float32, xs, n int) // nil where there are not enough registers
	add                 func(x, y *float32, n int)
	scale               func(dst, x, w *float32, by, n int)
	blend               func(x, y *float32, a, b, n int)
	recur               func(out, s, k, q *float32, fade int, u *float32, rows, n int)
	swish               func(gate, up *float32, factor, n int)
	tanhGELU            func(gate, up *float32, factor, cubic, n int)

	scores     []scoresKernel // the largest first, down to one query
	byteScores []byteScoresKernel
	mix        []mixKernel
	mask       func(scores *[32]float32, scale, from, to int) float32
	weigh      func(scores *[32]float32, peak int) float32
	exp        func(x int) float32
	soften     func(scores *float32, scale int, ranges *[2]int32, peaks, totals, shrinks *float32, queries int)

	probeBytes, probeFloats func(n int)
	probeRead               func(data *byte, n int)
}

// unpackKernel takes quads of several rows apart. The steps are the bytes from the end of what a row takes to the next row.
type unpackKernel func(q *byte, scale, low *float32, row, apart *byte, quads, rows, qStep, scaleStep, rowStep, apartStep int)

// rowsKernel multiplies four rows, as they lie in the file, with vectors that lie side by side, quad by quad, and adds the
// products to sums, four for each.
type rowsKernel func(sums *float32, x *byte, vectors int, w *byte, ws, quads int)

// dotKernel multiplies four unpacked rows with a vector.
type dotKernel func(sums *float32, x *byte, xq int, w *byte, ws int, scale *float32, ss int, low *float32, quads int)

// tileKernel multiplies a panel with some number of vectors.
type tileKernel struct {
	vectors int
	run     func(acc *float32, x *byte, xq int, panel *byte, scale, low *float32, quads int)
}

// panelKernel multiplies a panel in its prepared form with some number of vectors.
type panelKernel struct {
	vectors int
	run     func(acc *float32, x *byte, xq int, panel *byte, units int)
}

// spreadKernel writes some units of a panel as a half of a pair.
type spreadKernel func(dst, panel *byte, units int)

// pairKernel multiplies a pair, or two panels as they are if their format has no spreadKernel, with some number of vectors.
type pairKernel struct {
	vectors int
	run     func(from *float32, fs int, to *float32, ts int, x *byte, xq int, pair *byte, second, quads int)
}

// scoresKernel multiplies some number of queries with 32 keys.
type scoresKernel struct {
	queries int
	run     func(out, q *float32, qs int, keys *float32, dims int)
}

// mixKernel adds 32 values, weighed, to the sums of some number of queries.
type mixKernel struct {
	queries int
	run     func(out *float32, os int, by, weights, values *float32, vs, positions, dims int)
}

// record is a quad of activations, 128 of them, rounded to bytes. They lie in the order of unpacked rows: the first halves
// of four blocks, and then their second halves.
type record struct {
	q     [128]int8
	scale [4]float32
	start [4]int32   // −128 times the sum of each block
	sum   [4]float32 // of each block
	half  [8]float32 // sums of the first halves, and then of the second ones
}

// inUse are the kernels that products use; nil for none.
var inUse, kernelsError = kernelsOfEnvironment()

func kernelsOfEnvironment() (*kernels, error) {
	name := os.Getenv("KINDRED_KERNELS")
	k, err := chooseKernels(name)
	if err != nil {
		err = fmt.Errorf("KINDRED_KERNELS is %q; %s", name, usable())
	}
	return k, err
}

// chooseKernels gives the kernels of that name, or the best ones that the processor has instructions for.
func chooseKernels(name string) (*kernels, error) {
	list := available()
	if name == "go" {
		return nil, nil
	}
	for _, k := range list {
		if k.name == name {
			return k, nil
		}
	}
	var best *kernels
	if len(list) > 0 {
		best = list[len(list)-1]
	}
	if name == "" {
		return best, nil
	}
	return best, fmt.Errorf("there are no kernels %q; %s", name, usable())
}

// usable says which kernels there are here.
func usable() string {
	names := []string{"go"}
	for _, k := range available() {
		names = append(names, k.name)
	}
	return "this processor can use " + strings.Join(names, ", ")
}

// Kernels is the name of the kernels in use, "go" for none. The error says that KINDRED_KERNELS asks for others than
// there are.
func Kernels() (string, error) {
	if inUse == nil {
		return "go", kernelsError
	}
	return inUse.name, kernelsError
}

// UseKernels has products use the kernels of that name, "go" for none. No products may be under way: it is for measuring.
func UseKernels(name string) error {
	k, err := chooseKernels(name)
	if err != nil {
		return err
	}
	inUse = k
	return nil
}

// kind is the place of a format's kernels among those of all kinds.
func (f *Format) kind() int {
	k := 0
	if f.group == 16 {
		k = 2
	}
	if f.shifted {
		k++
	}
	return k
}

// Sizes of the pieces in which kernels work.
const (
	quad    = 4 * Block // elements
	dotRows = 4         // that dot multiplies with one vector
	// PanelRows is how many rows a panel has.
	PanelRows  = 16
	fewVectors = 3 // up to so many are multiplied one by one
	// someVectors is up to how many are multiplied with rows as they lie in the file: with more, it pays to put the rows'
	// words side by side.
	someVectors = 8
	// How many quads are unpacked at a time: as many as the first cache holds with what they are multiplied with.
	dotQuads  = 16
	tileQuads = 4
)

// unpackedRows is the memory for rows that kernels have taken apart.
type unpackedRows struct {
	q, panel, pair                    []byte
	scale, low, scalePanel, lowPanel  []float32
	acc                               []float32 // [vector][row]
	rowBytes, rowScales, scalesOfQuad int
}

// aligned is memory that begins where a cache line does.
func aligned(bytes int) []byte {
	b := make([]byte, bytes+64)
	skip := -uintptr(unsafe.Pointer(unsafe.SliceData(b))) & 63
	return b[skip : int(skip)+bytes]
}

func alignedFloats(n int) []float32 {
	return unsafe.Slice((*float32)(unsafe.Pointer(unsafe.SliceData(aligned(4*n)))), n)
}

// room makes room for rows of so many quads.
func (u *unpackedRows) room(rows, quads int, f *Format) {
	u.scalesOfQuad = quad / f.group
	u.rowBytes, u.rowScales = quads*quad, quads*u.scalesOfQuad
	if n := max(PanelRows*tileQuads, dotRows*dotQuads); len(u.q) == 0 {
		u.q, u.panel = aligned(n*quad), aligned(n*quad)
		u.scale, u.low = alignedFloats(n*8), alignedFloats(n*8)
		u.scalePanel, u.lowPanel = alignedFloats(n*8), alignedFloats(n*8)
	}
}

// sums makes room for so many sums, and sets them to 0.
func (u *unpackedRows) sums(n int) {
	if len(u.acc) < n {
		u.acc = alignedFloats(n)
	}
	clear(u.acc[:n])
}

// take unpacks quads from ≤ i < from + quads of some rows.
func (u *unpackedRows) take(k *kernels, w *Matrix, row, rows, from, quads int, natural *unpacked) {
	data, apart := w.row(row)
	perQuad := w.quad
	whole := min(quads, w.Cols/quad-from)
	if whole > 0 {
		var ap *byte
		if apart != nil {
			ap = &apart[4*from]
		}
		k.unpack[w.Type](&u.q[0], &u.scale[0], &u.low[0], &data[from*perQuad], ap,
			whole, rows, u.rowBytes-whole*quad, 4*(u.rowScales-whole*u.scalesOfQuad), w.stride-whole*perQuad, w.scaleStride*w.step-4*whole)
	}
	if whole == quads {
		return
	}
	for i := range rows {
		data, apart := w.row(row + i)
		if apart != nil {
			apart = apart[4*(from+whole):]
		}
		u.takeRest(k, w, i, whole, data[(from+whole)*perQuad:], apart, natural)
	}
}

// takeRest unpacks the last blocks of row i, which are no whole quad, and fills the quad with zeros.
func (u *unpackedRows) takeRest(k *kernels, w *Matrix, i, whole int, data, apart []byte, natural *unpacked) {
	f := &formats[w.Type]
	blocks := w.Cols % quad / Block
	natural.resize(blocks*Block, f.group)
	f.unpack(natural, data, apart)
	q := u.q[i*u.rowBytes+whole*quad:][:quad]
	scale, low := u.scale[i*u.rowScales+4*whole:][:4], u.low[i*u.rowScales+4*whole:][:4]
	clear(q)
	clear(scale)
	clear(low)
	for b := range blocks {
		scale[b] = natural.scale[b]
		if f.shifted {
			low[b] = natural.low[b]
		}
		for e, v := range natural.q[b*Block : (b+1)*Block] {
			if k.biased {
				v ^= -128
			}
			q[e/16*64+b*16+e%16] = byte(v)
		}
	}
}

// dots multiplies rows with few vectors.
func (s *worker) dots(k *kernels, p Product, x Packed, from, to int) {
	f, u := &formats[p.W.Type], &s.rows
	dot, direct := k.dot[f.kind()], k.rows[p.W.Type]
	for r := from; r < to; r += dotRows {
		n := min(dotRows, to-r)
		if direct != nil && n == dotRows && p.W.Cols%quad == 0 {
			data, _ := p.W.row(r)
			u.sums(dotRows * x.vectors)
			direct(&u.acc[0], x.at(0, 0), x.vectors, &data[0], p.W.stride, x.quads)
			for v := range x.batch.n {
				copy(p.Dst.data[v*p.Dst.Cols+r:][:dotRows], u.acc[dotRows*v:])
			}
			continue
		}
		u.sums(dotRows * x.vectors)
		for first := 0; first < x.quads; first += dotQuads {
			quads := min(dotQuads, x.quads-first)
			u.room(dotRows, quads, f)
			u.take(k, p.W, r, n, first, quads, &s.row)
			for v := range x.batch.n {
				dot(&u.acc[dotRows*v], x.at(v, first), x.stride(v), &u.q[0], u.rowBytes, &u.scale[0], 4*u.rowScales, &u.low[0], quads)
			}
		}
		for v := range x.batch.n {
			copy(p.Dst.data[v*p.Dst.Cols+r:][:n], u.acc[dotRows*v:])
		}
	}
}

// secondCache is how many bytes of activations are gone through for one panel after the other: they should stay in the
// second cache.
const secondCache = 384 << 10

// panels multiplies rows with many vectors.
func (s *worker) panels(k *kernels, p Product, x Packed, from, to int) {
	f, u := &formats[p.W.Type], &s.rows
	sums := PanelRows * x.vectors // of a panel
	panels := (to - from + PanelRows - 1) / PanelRows
	u.sums(panels * sums)
	step := max(1, secondCache/(x.vectors*int(unsafe.Sizeof(record{})))/tileQuads) * tileQuads
	for part := 0; part < x.quads; part += step {
		for i := range panels {
			r := from + i*PanelRows
			for first := part; first < min(part+step, x.quads); first += tileQuads {
				quads := min(tileQuads, x.quads-first)
				u.room(PanelRows, quads, f)
				u.take(k, p.W, r, min(PanelRows, to-r), first, quads, &s.row)
				u.turn(k, quads, f)
				u.tile(k, f, u.acc[i*sums:(i+1)*sums], x, first, quads)
			}
		}
	}
	for i := range panels {
		p.Dst.put(from+i*PanelRows, to, u.acc[i*sums:])
	}
}

// put sets the elements from r on, up to a panel of them but none from to on, of all vectors to sums, [vector][PanelRows].
func (b *Batch) put(r, to int, sums []float32) {
	for v := range b.n {
		if at := b.data[v*b.Cols+r:]; to-r >= PanelRows {
			*(*[PanelRows]float32)(at) = [PanelRows]float32(sums[PanelRows*v:]) // a copy that calls nothing
		} else {
			copy(at[:to-r], sums[PanelRows*v:])
		}
	}
}

// tile multiplies the panel, which has some quads, with all vectors.
func (u *unpackedRows) tile(k *kernels, f *Format, acc []float32, x Packed, first, quads int) {
	tiles := k.tiles[f.kind()]
	for v := 0; v < x.vectors; {
		left := x.groupSize(v) - v%groupVectors
		t := tiles[slices.IndexFunc(tiles, func(t tileKernel) bool { return t.vectors <= left })]
		for part := 0; part < PanelRows; part += k.tileRows {
			t.run(&acc[PanelRows*v+part], x.at(v, first), x.stride(v), &u.panel[4*part], &u.scalePanel[part], &u.lowPanel[part], quads)
		}
		v += t.vectors
	}
}

// turn makes a panel of the rows.
func (u *unpackedRows) turn(k *kernels, quads int, f *Format) {
	k.transpose(&u.panel[0], &u.q[0], u.rowBytes, quads*quad/16)
	for _, s := range [][2][]float32{{u.scalePanel, u.scale}, {u.lowPanel, u.low}} {
		k.transpose((*byte)(unsafe.Pointer(&s[0][0])), (*byte)(unsafe.Pointer(&s[1][0])), 4*u.rowScales, u.rowScales/4)
		if !f.shifted {
			break
		}
	}
}
