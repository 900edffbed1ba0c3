package picture

import (
	"context"
	"errors"
	"image"
	"math"
	"runtime"
	"sync"
)

// Filter is how pixels are weighed when a picture is resized.
type Filter int

// The filters. Both are stretched when a picture gets smaller.
const (
	Bilinear Filter = iota // a triangle, of one pixel to each side
	Bicubic                // of two pixels to each side (Keys, "Cubic convolution interpolation", 1981, with a = −0.5)
)

func (f Filter) support() float64 {
	if f == Bicubic {
		return 2
	}
	return 1
}

func (f Filter) at(x float64) float64 {
	x = math.Abs(x)
	if f == Bilinear {
		return max(0, 1-x)
	}
	const a = -0.5
	switch {
	case x < 1:
		return ((a+2)*x-(a+3))*x*x + 1
	case x < 2:
		return ((x-5)*x+8)*x*a - 4*a
	}
	return 0
}

// precision is how many bits of a weight are behind the point.
const precision = 22

// taps are the weights of a resized line: pixel i is made of count pixels from first on.
type taps struct {
	first, count []int
	weights      []int32 // [i][most]
	most         int
}

// newTaps makes those of pixels begin to end of a line that is resized.
func newTaps(f Filter, from, to, begin, end int) *taps {
	scale := float64(from) / float64(to)
	wide := max(scale, 1)
	reach := f.support() * wide
	n := end - begin
	t := &taps{first: make([]int, n), count: make([]int, n), most: min(from, int(math.Ceil(reach))*2+1)}
	t.weights = make([]int32, n*t.most)
	line := make([]float64, t.most)
	for i := range n {
		center := (float64(begin+i) + 0.5) * scale
		first, last := max(0, int(center-reach+0.5)), min(from, int(center+reach+0.5))
		sum := 0.0
		for j := first; j < last; j++ {
			line[j-first] = f.at((float64(j) + 0.5 - center) / wide)
			sum += line[j-first]
		}
		t.first[i], t.count[i] = first, last-first
		for j := range last - first {
			w := line[j]
			if sum != 0 {
				w /= sum
			}
			t.weights[i*t.most+j] = int32(math.Round(w * (1 << precision))) // halves away from zero
		}
	}
	return t
}

// half is one half of what a sum is divided by.
const half = 1 << (precision - 1)

// clip is a sum as a byte. Sums of 22 bits behind the point have room enough in 32: weights add up to 1, and those above it and below 0 to a quarter more.
func clip(sum int32) byte {
	v := sum >> precision
	if uint32(v) > 255 {
		if v < 0 {
			return 0
		}
		return 255
	}
	return byte(v)
}

// Resize makes a part of a picture of another size, [part.Dy()][part.Dx()][3]: lines first, rounded to bytes, and then columns, each by sums of weights
// in whole numbers. So the result is the same everywhere. It ends when ctx does.
func (p *Pixels) Resize(ctx context.Context, width, height int, part image.Rectangle, f Filter) ([]byte, error) {
	across, down := newTaps(f, p.Width, width, part.Min.X, part.Max.X), newTaps(f, p.Height, height, part.Min.Y, part.Max.Y)
	n := 3 * part.Dx()
	out := make([]byte, n*part.Dy())
	bands := max(1, min(runtime.GOMAXPROCS(0), 4, part.Dy()/64))
	failed := make([]error, bands)
	var all sync.WaitGroup
	for i := range bands {
		all.Go(func() {
			defer func() {
				if r := recover(); r != nil {
					failed[i] = unreadable("it is not a whole picture")
				}
			}()
			failed[i] = p.band(ctx, out, across, down, part.Dy()*i/bands, part.Dy()*(i+1)/bands)
		})
	}
	all.Wait()
	return out, errors.Join(failed...)
}

// band makes lines from to to of a resized picture. Lines come one after the other, and only those that a column still needs are kept.
func (p *Pixels) band(ctx context.Context, out []byte, across, down *taps, from, to int) error {
	n := 3 * len(across.first)
	kept := make([][]byte, min(p.Height, down.most+1))
	for i := range kept {
		kept[i] = make([]byte, n)
	}
	line, sums := make([]byte, 3*p.Width), make([]int32, n)
	read := down.first[from]
	for y := from; y < to; y++ {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		for end := down.first[y] + down.count[y]; read < end; read++ {
			p.row(read, line)
			across.line(kept[read%len(kept)], line)
		}
		down.column(out[n*y:][:n], sums, y, kept)
	}
	return nil
}

// column makes line y of a resized picture of the lines that it is made of.
func (t *taps) column(dst []byte, sums []int32, y int, kept [][]byte) {
	for i := range sums {
		sums[i] = half
	}
	w := t.weights[y*t.most:][:t.count[y]]
	at := func(j int) []byte { return kept[(t.first[y]+j)%len(kept)][:len(sums)] }
	j := 0
	for ; j+4 <= len(w); j += 4 { // so that sums are read and written a quarter as often
		a, b, c, d := at(j), at(j+1), at(j+2), at(j+3)
		w0, w1, w2, w3 := w[j], w[j+1], w[j+2], w[j+3]
		for i, sum := range sums {
			sums[i] = sum + w0*int32(a[i]) + w1*int32(b[i]) + w2*int32(c[i]) + w3*int32(d[i])
		}
	}
	for ; j < len(w); j++ {
		a, w0 := at(j), w[j]
		for i, sum := range sums {
			sums[i] = sum + w0*int32(a[i])
		}
	}
	dst = dst[:len(sums)]
	for i, sum := range sums {
		dst[i] = clip(sum)
	}
}

// line resizes one line.
func (t *taps) line(dst, src []byte) {
	for i, first := range t.first {
		r, g, b := int32(half), int32(half), int32(half)
		weights := t.weights[i*t.most:][:t.count[i]]
		pix := src[3*first:][:3*len(weights)]
		for _, w := range weights {
			v := (*[3]byte)(pix)
			r += w * int32(v[0])
			g += w * int32(v[1])
			b += w * int32(v[2])
			pix = pix[3:]
		}
		to := (*[3]byte)(dst[3*i:])
		to[0], to[1], to[2] = clip(r), clip(g), clip(b)
	}
}
