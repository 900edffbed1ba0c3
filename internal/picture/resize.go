package picture

import (
	"context"
	"image"
	"math"
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
	return byte(max(0, min(255, sum>>precision)))
}

// Resize makes a part of a picture of another size, [part.Dy()][part.Dx()][3]: lines first, rounded to bytes, and then columns, each by sums of weights
// in whole numbers. So the result is the same everywhere. It ends when ctx does.
func (p *Pixels) Resize(ctx context.Context, width, height int, part image.Rectangle, f Filter) ([]byte, error) {
	across, down := newTaps(f, p.Width, width, part.Min.X, part.Max.X), newTaps(f, p.Height, height, part.Min.Y, part.Max.Y)
	// Lines come one after the other, and only those that a column still needs are kept.
	n := 3 * part.Dx()
	kept := make([][]byte, min(p.Height, down.most+1))
	for i := range kept {
		kept[i] = make([]byte, n)
	}
	line, out := make([]byte, 3*p.Width), make([]byte, n*part.Dy())
	read := down.first[0]
	sums := make([]int32, n)
	for y := range part.Dy() {
		if err := ctx.Err(); err != nil {
			return nil, context.Cause(ctx)
		}
		for end := down.first[y] + down.count[y]; read < end; read++ {
			p.row(read, line)
			across.line(kept[read%len(kept)], line)
		}
		for i := range sums {
			sums[i] = half
		}
		for j, w := range down.weights[y*down.most:][:down.count[y]] {
			src := kept[(down.first[y]+j)%len(kept)][:len(sums)]
			for i, v := range src {
				sums[i] += w * int32(v)
			}
		}
		dst := out[n*y:][:len(sums)]
		for i, sum := range sums {
			dst[i] = clip(sum)
		}
	}
	return out, nil
}

// line resizes one line.
func (t *taps) line(dst, src []byte) {
	for i, first := range t.first {
		r, g, b := int32(half), int32(half), int32(half)
		pix := src[3*first:]
		for _, w := range t.weights[i*t.most:][:t.count[i]] {
			r += w * int32(pix[0])
			g += w * int32(pix[1])
			b += w * int32(pix[2])
			pix = pix[3:]
		}
		dst[3*i], dst[3*i+1], dst[3*i+2] = clip(r), clip(g), clip(b)
	}
}
