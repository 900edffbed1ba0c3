package tensor

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"unsafe"

	"kindredgate/internal/weights"
)

// panelForm says how a panel, which is 16 rows in the order in which kernels multiply them, has the weights of a format.
// It consists of units of one or two quads of each row: perhaps a head of half floats, the scales of all blocks, and then
// the weights, block by block. The weights of a block are groups of four elements of each row: as bytes, 64 of them one
// group after the other; or as halves of bytes, the lower ones of four groups and then the upper ones of the other four,
// which the bits follow that did not fit. What a panel takes is about what its rows take in the file.
type panelForm struct {
	quads   int        // of a unit
	head    int        // bytes
	scales  int        // bytes of a block's
	weights int        // bytes of a block's
	bits    byte       // a mask of those that a weight has
	add     byte       // to a weight so that it is not negative; half of what its bits can be
	index   *[256]byte // which four bits stand for a value; nil if it is their own
	high    int        // bits beyond four, which lie apart
	upper   bool       // scales are the upper halves of floats rather than half floats
	// parts reads the scales of block b of a row as they are stored; head, those of its superblock.
	parts func(row, apart []byte, b int) (scale, low uint16)
	super func(row []byte, b int) (d, low uint16)
}

// PanelOrder names the order in which panels have weights. Kernels of all processors that read panels read this one, so that a file that one of them
// wrote is good for the others.
const PanelOrder = "rows16words4"

// Places in a panel.
const (
	panelGroup  = 4 * PanelRows         // bytes of a group of whole bytes
	panelHalves = Block * PanelRows / 2 // bytes of a block of halves
)

// at16 reads half floats that lie in each block.
func at16(stride, low int) func(row, apart []byte, b int) (uint16, uint16) {
	return func(row, _ []byte, b int) (scale, second uint16) {
		block := row[stride*b:]
		if low > 0 {
			second = binary.LittleEndian.Uint16(block[low:]) ^ 0x8000 // they are added, and minimums taken off
		}
		return binary.LittleEndian.Uint16(block), second
	}
}

// upper is the upper half of a power of two as a float.
func upper(e byte) uint16 { return uint16(math.Float32bits(powers[e]) >> 16) }

// inSuperblock reads the bytes of scales and minimums of Q4_K and Q5_K.
func inSuperblock(stride int) func(row, apart []byte, b int) (uint16, uint16) {
	return func(row, _ []byte, b int) (uint16, uint16) {
		scale, low := sixBits(row[stride*(b/8)+4:][:12], b%8)
		return uint16(scale), uint16(low)
	}
}

// indexOf is the place of each of 16 values.
func indexOf(values *[16]int8) *[256]byte {
	var index [256]byte
	for j, v := range slices.Backward(values[:]) {
		index[uint8(v)] = byte(j)
	}
	return &index
}

// superAt reads the half floats of superblocks.
func superAt(stride, d, low int) func(row []byte, b int) (uint16, uint16) {
	return func(row []byte, b int) (uint16, uint16) {
		block := row[stride*(b/8):]
		var second uint16
		if low > 0 {
			second = binary.LittleEndian.Uint16(block[low:])
		}
		return binary.LittleEndian.Uint16(block[d:]), second
	}
}

var mxfp4Form = panelForm{quads: 1, upper: true, scales: 32, weights: panelHalves, bits: 15, index: indexOf(&twiceFP4)}

// panelForms are those of the formats that have one.
var panelForms = [weights.Types]*panelForm{
	weights.Q8_0:       {quads: 1, scales: 32, weights: Block * PanelRows, bits: 255, add: 128, parts: at16(34, 0)},
	weights.Q4_0:       {quads: 1, scales: 32, weights: panelHalves, bits: 15, add: 8, parts: at16(18, 0)},
	weights.Q4_1:       {quads: 1, scales: 64, weights: panelHalves, bits: 15, parts: at16(20, 2)},
	weights.Q5_0:       {quads: 1, scales: 32, weights: panelHalves + 64, bits: 31, add: 16, high: 1, parts: at16(22, 0)},
	weights.Q5_1:       {quads: 1, scales: 64, weights: panelHalves + 64, bits: 31, high: 1, parts: at16(24, 2)},
	weights.IQ4_NL:     {quads: 1, scales: 32, weights: panelHalves, bits: 15, index: indexOf(&uneven), parts: at16(18, 0)},
	weights.MXFP4:      mxfp4Form.with(func(row, _ []byte, b int) (uint16, uint16) { return upper(row[17*b]), 0 }),
	weights.MXFP4Split: mxfp4Form.with(func(_, apart []byte, b int) (uint16, uint16) { return upper(apart[b]), 0 }),
	weights.Q4_K:       {quads: 2, head: 64, scales: 32, weights: panelHalves, bits: 15, parts: inSuperblock(144), super: superAt(144, 0, 2)},
	weights.Q5_K:       {quads: 2, head: 64, scales: 32, weights: panelHalves + 64, bits: 31, high: 1, parts: inSuperblock(176), super: superAt(176, 0, 2)},
	weights.Q6_K: {quads: 2, head: 64, scales: 32, weights: panelHalves + 128, bits: 63, add: 32, high: 2, super: superAt(210, 208, 0),
		parts: func(row, _ []byte, b int) (uint16, uint16) {
			two := row[210*(b/8)+192+2*(b%8):]
			return uint16(two[0]), uint16(two[1])
		}},
}

func (f panelForm) with(parts func(row, apart []byte, b int) (uint16, uint16)) *panelForm {
	f.parts = parts
	return &f
}

func (f *panelForm) unitBytes() int { return f.head + 4*f.quads*(f.scales+f.weights) }

// units is of how many units a panel of rows of so many elements is.
func (f *panelForm) units(cols int) int { return (cols + f.quads*quad - 1) / (f.quads * quad) }

// PanelBytes is what the panels of the matrix take; 0 if its format has none, or the kernels in use do without.
func (m *Matrix) PanelBytes() int64 {
	f := panelForms[m.Type]
	if f == nil || inUse == nil || inUse.panels[m.Type] == nil {
		return 0
	}
	return int64((m.Rows+PanelRows-1)/PanelRows) * int64(f.units(m.Cols)*f.unitBytes())
}

// WritePanels writes the panels of the rows from ≤ r < to, of which from is a multiple of 16, into dst, which is of their
// share of PanelBytes. Scales that are no numbers, or of 2^104 and more, are an error: kernels could not multiply with them as the Go
// functions do.
func (m *Matrix) WritePanels(dst []byte, from, to int) error {
	f := panelForms[m.Type]
	size := f.units(m.Cols) * f.unitBytes()
	clear(dst)
	var u unpacked
	u.resize(m.Cols, formats[m.Type].group)
	for r := from; r < to; r++ {
		row, apart := m.row(r)
		formats[m.Type].unpack(&u, row, apart)
		if !f.writeRow(dst[(r-from)/PanelRows*size:][:size], r%PanelRows, u.q, row, apart) {
			return fmt.Errorf("row %d of a matrix of %s has a scale that is infinite or no number", r, m.Type)
		}
	}
	return nil
}

// Scales, and what their exponents are less than.
const (
	halfExponent, noHalf   = 0x7c00, 0x7c00
	upperExponent, noUpper = 0x7f80, (127 + 104) << 7
)

// writeRow writes row i of a panel, whose elements are q. It reports whether the scales can be used.
func (f *panelForm) writeRow(panel []byte, i int, q []int8, row, apart []byte) bool {
	unit, blocks := f.unitBytes(), 4*f.quads
	exponent, most := uint16(halfExponent), uint16(noHalf)
	if f.upper {
		exponent, most = upperExponent, noUpper
	}
	usable := true
	for b := range len(q) / Block {
		at := panel[b/blocks*unit:][:unit]
		if f.super != nil && b%blocks == 0 {
			d, low := f.super(row, b)
			usable = usable && d&exponent < most
			binary.LittleEndian.PutUint16(at[2*i:], d)
			binary.LittleEndian.PutUint16(at[2*PanelRows+2*i:], low)
		}
		scales := at[f.head+b%blocks*f.scales:][:f.scales]
		scale, low := f.parts(row, apart, b)
		if f.super != nil {
			scales[i], scales[PanelRows+i] = byte(scale), byte(low)
		} else {
			usable = usable && scale&exponent < most
			binary.LittleEndian.PutUint16(scales[2*i:], scale)
			if f.scales > 2*PanelRows {
				binary.LittleEndian.PutUint16(scales[2*PanelRows+2*i:], low)
			}
		}
		dst := at[f.head+blocks*f.scales+b%blocks*f.weights:][:f.weights]
		f.writeBlock(dst, i, (*[Block]int8)(q[b*Block:]))
	}
	return usable
}

// writeBlock writes the weights of a block of row i, four at a time.
func (f *panelForm) writeBlock(dst []byte, i int, q *[Block]int8) {
	var groups [8]uint32
	for g := range groups {
		four := q[4*g : 4*g+4]
		w := uint32(uint8(four[0])) | uint32(uint8(four[1]))<<8 | uint32(uint8(four[2]))<<16 | uint32(uint8(four[3]))<<24
		if f.index != nil {
			w = uint32(f.index[w&255]) | uint32(f.index[w>>8&255])<<8 | uint32(f.index[w>>16&255])<<16 | uint32(f.index[w>>24])<<24
		}
		// What is to be added is half of what the bits hold: it turns the highest of them over.
		groups[g] = w&(0x01010101*uint32(f.bits)) ^ 0x01010101*uint32(f.add)
	}
	if f.bits == 255 {
		for g, w := range groups {
			binary.LittleEndian.PutUint32(dst[panelGroup*g+4*i:], w)
		}
		return
	}
	const low = 0x0f0f0f0f
	for g, w := range groups[:4] {
		binary.LittleEndian.PutUint32(dst[panelGroup*g+4*i:], w&low|groups[g+4]&low<<4)
	}
	if f.high == 0 {
		return
	}
	for perByte, g := 8/f.high, 0; g < 8; g += perByte {
		word := uint32(0)
		for j, w := range groups[g : g+perByte] {
			word |= w &^ low >> 4 << (f.high * j)
		}
		binary.LittleEndian.PutUint32(dst[panelHalves+panelGroup*g/perByte+4*i:], word)
	}
}

// UsePanels has products read the panels of the matrix, which WritePanels wrote, in the place of its rows. What they give is
// the same to the bit, so products may be under way. The bytes have to begin where a cache line does; they must stay as they
// are for as long as the matrix is used. A matrix that has PanelBytes 0 cannot use any. With nil it reads its rows again; products that are under
// way may go on with the panels.
func (m *Matrix) UsePanels(data []byte) { m.panels.Store(unsafe.SliceData(data)) }

// prepared multiplies panels with vectors; from is the first row of a panel.
func (s *worker) prepared(k *kernels, p Product, x Packed, panels *byte, from, to int) {
	f, list := panelForms[p.W.Type], k.panels[p.W.Type]
	size, units := f.units(p.W.Cols)*f.unitBytes(), f.units(p.W.Cols)
	first := from / PanelRows
	count := (to+PanelRows-1)/PanelRows - first
	if x.vectors >= pairsFrom && k.pairs[p.W.Type] != nil {
		s.pairs(k, p, x, panels, first, count, to)
		return
	}
	sums := PanelRows * x.vectors // of a panel
	u := &s.rows
	u.sums(count * sums)
	// A part of a panel should stay in the first cache while it is multiplied with all vectors, and the vectors' parts in the
	// second.
	part, step := units, units
	if x.vectors > list[0].vectors {
		step = max(1, tileQuads/f.quads)
		part = max(1, secondCache/(x.vectors*int(unsafe.Sizeof(record{})))/(step*f.quads)) * step
	} else {
		step = max(1, panelCall/f.unitBytes())
	}
	for begin := 0; begin < units; begin += part {
		for i := range count {
			for unit := begin; unit < min(begin+part, units); unit += step {
				data := (*byte)(unsafe.Add(unsafe.Pointer(panels), (first+i)*size+unit*f.unitBytes()))
				f.multiply(list, u.acc[i*sums:(i+1)*sums], x, unit*f.quads, data, min(step, min(begin+part, units)-unit))
			}
		}
	}
	p.Dst.putPanels(first*PanelRows, to, count, u.acc)
}

// pairsFrom is from how many vectors on two panels are multiplied at a time.
const pairsFrom = 32

// Sizes of pairs.
const (
	pairBlock = 1280 // bytes of a block
	// pairSums is how many bytes of sums pairs add to before they go on to more elements: they share the second cache with
	// the vectors.
	pairSums = 128 << 10
)

// pairs multiplies panels with many vectors, two panels at a time.
func (s *worker) pairs(k *kernels, p Product, x Packed, panels *byte, first, count, to int) {
	f := panelForms[p.W.Type]
	size, units := f.units(p.W.Cols)*f.unitBytes(), f.units(p.W.Cols)
	u := &s.rows
	if len(u.pair) == 0 {
		u.pair = aligned(4 * tileQuads * pairBlock)
	}
	step := max(1, tileQuads/f.quads)
	part := max(1, secondCache/(x.vectors*int(unsafe.Sizeof(record{})))/(step*f.quads)) * step
	spread, list := k.spread[p.W.Type], k.pairs[p.W.Type]
	sums := 2 * PanelRows * x.vectors // of a pair
	pass := max(1, pairSums/(4*sums)) // pairs
	pairs := (count + 1) / 2
	if need := (min(pass, pairs) + 1) * sums; len(u.acc) < need {
		u.acc = alignedFloats(need)
	}
	last := u.acc[min(pass, pairs)*sums:][:sums] // products that are not written as they come
	for group := 0; group < pairs; group += pass {
		for begin := 0; begin < units; begin += part {
			for i := group; i < min(group+pass, pairs); i++ {
				acc := u.acc[(i-group)*sums:][:sums]
				row := (first + 2*i) * PanelRows
				for unit := begin; unit < min(begin+part, units); unit += step {
					data := unsafe.Add(unsafe.Pointer(panels), (first+2*i)*size+unit*f.unitBytes())
					n := min(step, min(begin+part, units)-unit)
					pair, second := (*byte)(data), size
					if 2*i+1 == count {
						second = 0
					}
					if spread != nil {
						pair = &u.pair[0]
						spread(pair, (*byte)(data), n)
						if second > 0 {
							spread(&u.pair[64], (*byte)(unsafe.Add(data, size)), n)
						}
					}
					c := pairCall{from: &acc[0], fs: 8 * PanelRows, to: &acc[0], ts: 8 * PanelRows}
					if unit == 0 {
						c.from, c.fs = nil, 0
					}
					whole := row+2*PanelRows <= to
					if unit+n == units {
						if whole {
							c.to, c.ts = &p.Dst.data[row], 4*p.Dst.Cols
						} else {
							c.to = &last[0]
						}
					}
					c.run(list, &x, unit*f.quads, min(n*f.quads, x.quads-unit*f.quads), pair, second)
					if unit+n == units && !whole {
						for v := range x.vectors {
							copy(p.Dst.data[v*p.Dst.Cols+row:][:to-row], last[2*PanelRows*v:])
						}
					}
				}
			}
		}
	}
}

// pairCall is where the products of a pair go.
type pairCall struct {
	from, to *float32
	fs, ts   int // bytes from one vector's to the next's
}

// run adds the products of some quads with all vectors.
func (c *pairCall) run(list []pairKernel, x *Packed, quad, quads int, pair *byte, second int) {
	at := unsafe.Pointer(unsafe.SliceData(x.records))
	from, to := unsafe.Pointer(c.from), unsafe.Pointer(c.to)
	for v := 0; v < x.vectors; v += groupVectors {
		group := min(groupVectors, x.vectors-v)
		records := unsafe.Add(at, quad*group*int(unsafe.Sizeof(record{})))
		for left, i := group, 0; left > 0; {
			for list[i].vectors > left {
				i++
			}
			list[i].run((*float32)(from), c.fs, (*float32)(to), c.ts, (*byte)(records), group*int(unsafe.Sizeof(record{})), pair, second, quads)
			n := list[i].vectors
			records, left = unsafe.Add(records, n*int(unsafe.Sizeof(record{}))), left-n
			if from != nil {
				from = unsafe.Add(from, n*c.fs)
			}
			to = unsafe.Add(to, n*c.ts)
		}
		at = unsafe.Add(at, group*x.quads*int(unsafe.Sizeof(record{})))
	}
}

// putPanels sets the elements from r on, so many panels of them but none from to on, of all vectors to sums,
// [panel][vector][PanelRows].
func (b *Batch) putPanels(r, to, panels int, sums []float32) {
	whole := min(panels, (to-r)/PanelRows)
	for v := range b.n {
		at := b.data[v*b.Cols+r : (v+1)*b.Cols]
		for i := range whole {
			*(*[PanelRows]float32)(at[PanelRows*i:]) = *(*[PanelRows]float32)(sums[PanelRows*(v+b.n*i):])
		}
		if whole < panels {
			copy(at[PanelRows*whole:to-r], sums[PanelRows*(v+b.n*whole):][:PanelRows])
		}
	}
}

// panelCall is how many bytes of a panel one call goes through at most: Go cannot stop a goroutine in the middle of one.
const panelCall = 64 << 10

// multiply adds the products of some units with all vectors.
func (f *panelForm) multiply(list []panelKernel, acc []float32, x Packed, quad int, panel *byte, units int) {
	for v := 0; v < x.vectors; {
		left := x.groupSize(v) - v%groupVectors
		k := list[slices.IndexFunc(list, func(k panelKernel) bool { return k.vectors <= left })]
		k.run(&acc[PanelRows*v], x.at(v, quad), x.stride(v), panel, units)
		v += k.vectors
	}
}
