package kv

import (
	"unsafe"

	"kindredgate/internal/tensor"
)

// Format says how keys and values are kept.
type Format int

// The formats.
const (
	F16 Format = iota
	F32
	Q8 // bytes, with a half float as the scale of 32 of them, or of a whole head where those are no multiples
)

// Layer is the size of one layer's keys and values; KVHeads is 0 for a layer that keeps none.
type Layer struct {
	KVHeads          int
	KeyDim, ValueDim int  // of each head
	Latent           bool // values are the first ValueDim elements of the keys, and not kept a second time
}

// keys and values are how many elements a page holds of each.
func (l Layer) keys() int { return l.KVHeads * l.KeyDim * PageTokens }

func (l Layer) values() int {
	if l.Latent {
		return 0
	}
	return l.KVHeads * l.ValueDim * PageTokens
}

// Shape is what a network keeps of a sequence.
type Shape struct {
	Layers []Layer // of each token
	State  int     // float32 numbers, whatever its length
}

// Keys are the keys of a page and a head: floats, [KeyDim][PageTokens], or else bytes, [KeyDim/4][PageTokens][4], with half floats as scales,
// [KeyDim/32][PageTokens].
type Keys struct {
	Floats []float32
	Bytes  []int8
	Scales []uint16
}

// Store keeps keys and values in pages. Keys lie [head][dimension][position] and values [head][position][dimension] of each
// layer, whose places in the page the store knows.
type Store interface {
	// Bytes is what a page takes.
	Bytes() int
	// Put keeps the key and the value of a position of a page, [KVHeads × KeyDim] and [KVHeads × ValueDim]. What is too large
	// for the format becomes the largest number there is.
	Put(page []byte, layer, slot int, key, value []float32)
	// ByBytes reports whether the keys of a layer are read as bytes.
	ByBytes(layer int) bool
	// Read gives the keys and the values [PageTokens][ValueDim] of a head. The slices are valid until keys and values, which
	// have room for them as floats, are used again, or the page is.
	Read(page []byte, layer, head int, keys, values []float32) (k Keys, v []float32)
}

// newStore makes the store of a format.
func newStore(layers []Layer, format Format) Store {
	places := make([]place, len(layers))
	var size, scales int
	for i, l := range layers {
		places[i] = place{Layer: l, keys: size, values: size + l.keys(), keyScales: scales, valueScales: scales + l.keys()/block(l.KeyDim)}
		size += l.keys() + l.values()
		scales += l.keys()/block(l.KeyDim) + l.values()/block(l.ValueDim)
	}
	switch format {
	case F32:
		return floats{places, size}
	case Q8:
		return bytes{places, size, scales}
	case F16:
	}
	return halves{places, size}
}

// place is where a layer lies in a page, in elements and in scales.
type place struct {
	Layer
	keys, values, keyScales, valueScales int
}

// latent fills values with the first rows of keys, which lie by dimension, by position.
func (l *place) latent(keys, values []float32) []float32 {
	values = values[:l.ValueDim*PageTokens]
	for d := range l.ValueDim {
		for t, x := range (*[PageTokens]float32)(keys[d*PageTokens:]) {
			values[t*l.ValueDim+d] = x
		}
	}
	return values
}

// view reads a page as elements of a type.
func view[T any](page []byte, n int) []T {
	return unsafe.Slice((*T)(unsafe.Pointer(unsafe.SliceData(page))), n)
}

// floats keeps them as they are.
type floats struct {
	layers []place
	size   int
}

func (s floats) Bytes() int { return 4 * s.size }

func (s floats) Put(page []byte, layer, slot int, key, value []float32) {
	l, all := &s.layers[layer], view[float32](page, s.size)
	for d, x := range key[:l.KVHeads*l.KeyDim] {
		all[l.keys+d*PageTokens+slot] = x
	}
	if l.Latent {
		return
	}
	for h := range l.KVHeads {
		copy(all[l.values+(h*PageTokens+slot)*l.ValueDim:][:l.ValueDim], value[h*l.ValueDim:])
	}
}

func (floats) ByBytes(int) bool { return false }

func (s floats) Read(page []byte, layer, head int, _, values []float32) (Keys, []float32) {
	l, all := &s.layers[layer], view[float32](page, s.size)
	k := all[l.keys+head*l.KeyDim*PageTokens:][:l.KeyDim*PageTokens]
	if l.Latent {
		return Keys{Floats: k}, l.latent(k, values)
	}
	return Keys{Floats: k}, all[l.values+head*l.ValueDim*PageTokens:][:l.ValueDim*PageTokens]
}

// halves keeps them as half floats.
type halves struct {
	layers []place
	size   int
}

func (s halves) Bytes() int { return 2 * s.size }

func (s halves) Put(page []byte, layer, slot int, key, value []float32) {
	l, all := &s.layers[layer], view[uint16](page, s.size)
	for d, x := range key[:l.KVHeads*l.KeyDim] {
		all[l.keys+d*PageTokens+slot] = saturated(x)
	}
	if l.Latent {
		return
	}
	for h := range l.KVHeads {
		to := all[l.values+(h*PageTokens+slot)*l.ValueDim:][:l.ValueDim]
		for d := range to {
			to[d] = saturated(value[h*l.ValueDim+d])
		}
	}
}

func (halves) ByBytes(int) bool { return false }

func (s halves) Read(page []byte, layer, head int, keys, values []float32) (Keys, []float32) {
	l, all := &s.layers[layer], view[uint16](page, s.size)
	k := keys[:l.KeyDim*PageTokens]
	tensor.WidenF16(k, all[l.keys+head*len(k):][:len(k)])
	if l.Latent {
		return Keys{Floats: k}, l.latent(k, values)
	}
	v := values[:l.ValueDim*PageTokens]
	tensor.WidenF16(v, all[l.values+head*len(v):][:len(v)])
	return Keys{Floats: k}, v
}

// saturated is a half float, or the largest that there is.
func saturated(x float32) uint16 {
	return tensor.ToFloat16(max(-largestHalf, min(largestHalf, x)))
}

const largestHalf = 65504

// bytes keeps them as signed bytes. Their scales, half floats in the same order, come first in a page, since they have to lie at even
// addresses. Keys of whole blocks have four dimensions of a position side by side, and are multiplied as they are, with queries that are bytes
// too; others are widened, and so are those that are values as well.
type bytes struct {
	layers       []place
	size, scales int
}

// block is how many bytes of a key or a value of that size have one scale.
func block(dim int) int {
	if dim%tensor.Block == 0 {
		return tensor.Block
	}
	return max(1, dim)
}

func (s bytes) Bytes() int { return s.size + 2*s.scales }

func (s bytes) Put(page []byte, layer, slot int, key, value []float32) {
	l, scales, all := &s.layers[layer], view[uint16](page, s.scales), view[int8](page[2*s.scales:], s.size)
	var space [256]int8
	size := block(l.KeyDim)
	q := space[:]
	if size > len(q) {
		q = make([]int8, size)
	}
	for b := range l.KVHeads * l.KeyDim / size {
		scales[l.keyScales+b*PageTokens+slot] = tensor.RoundBytes(q[:size], key[b*size:(b+1)*size])
		to := all[l.keys+b*size*PageTokens:][:size*PageTokens]
		if l.byBytes() {
			for d := 0; d < size; d += 4 {
				copy(to[d*PageTokens+4*slot:][:4], q[d:d+4])
			}
			continue
		}
		for d, v := range q[:size] {
			to[d*PageTokens+slot] = v
		}
	}
	if l.Latent {
		return
	}
	size = block(l.ValueDim)
	blocks := l.ValueDim / size
	for h := range l.KVHeads {
		for b := range blocks {
			from, to := h*l.ValueDim+b*size, l.values+(h*PageTokens+slot)*l.ValueDim+b*size
			scales[l.valueScales+(h*PageTokens+slot)*blocks+b] = tensor.RoundBytes(all[to:to+size], value[from:from+size])
		}
	}
}

// byBytes reports whether the keys can be multiplied as bytes.
func (l *place) byBytes() bool { return l.KeyDim%tensor.Block == 0 && !l.Latent }

func (s bytes) ByBytes(layer int) bool { return s.layers[layer].byBytes() }

func (s bytes) Read(page []byte, layer, head int, keys, values []float32) (k Keys, v []float32) {
	l, scales, all := &s.layers[layer], view[uint16](page, s.scales), view[int8](page[2*s.scales:], s.size)
	n, size := l.KeyDim*PageTokens, block(l.KeyDim)
	at, scaleAt := l.keys+head*n, l.keyScales+head*n/size
	if l.byBytes() {
		k = Keys{Bytes: all[at : at+n], Scales: scales[scaleAt : scaleAt+n/size]}
	} else {
		k.Floats = keys[:n]
		var scale [PageTokens]float32
		for b := range l.KeyDim / size {
			tensor.WidenF16(scale[:], scales[scaleAt+b*PageTokens:][:PageTokens])
			part := b * size * PageTokens
			tensor.ScaleColumns(k.Floats[part:part+size*PageTokens], all[at+part:], &scale)
		}
	}
	if l.Latent {
		return k, l.latent(k.Floats, values)
	}
	v = values[:l.ValueDim*PageTokens]
	size = block(l.ValueDim)
	at, scaleAt = l.values+head*len(v), l.valueScales+head*len(v)/size
	var scale [4 * PageTokens]float32 // of all rows of most heads
	for first := 0; first < len(v); first += size * len(scale) {
		n := min(len(v)-first, size*len(scale))
		tensor.WidenF16(scale[:n/size], scales[scaleAt+first/size:][:n/size])
		tensor.ScaleRows(v[first:first+n], all[at+first:], scale[:n/size], size)
	}
	return k, v
}
