package tensor

import (
	"math"
	"unsafe"

	"kindredgate/internal/weights"
)

// lanes is into how many sums a dot product of floats is divided: as many as a vector register holds.
const lanes = 16

// fused is x·y + z, rounded once, as vector units do it. Loops have it written out, since it is too long to be compiled in place.
func fused(x, y, z float32) float32 {
	p := float64(float64(x) * float64(y)) // exact
	s := p + float64(z)
	if once(s) {
		return float32(s)
	}
	return roundOdd(p, float64(z), s)
}

// once reports whether rounding s, a rounded sum, to float32 gives what rounding the sum itself would: unless s lies in the middle between two
// of these, or where these have fewer digits.
func once(s float64) bool {
	b := math.Float64bits(s)
	return b&belowFloat32 != middle && b<<1 >= leastNormal
}

const (
	belowFloat32 = 1<<29 - 1 // the bits of a float64 that a float32 has no room for
	middle       = 1 << 28
	leastNormal  = (1023 - 126) << 53 // the least number that has all of its digits as a float32, but for the sign
)

// roundOdd rounds x + y, of which s is the nearest float64, to float32: first to an odd digit if it is not exact, so that the
// second time knows on which side of a middle it lies (Boldo and Melquiond, "Emulation of a FMA and correctly rounded sums", 2008).
func roundOdd(x, y, s float64) float32 {
	part := s - x
	rest := (x - (s - part)) + (y - part) // exact (Knuth, "The Art of Computer Programming", volume 2, 4.2.2)
	if rest != 0 && math.Float64bits(s)&1 == 0 {
		s = math.Nextafter(s, math.Copysign(math.Inf(1), rest))
	}
	return float32(s)
}

// Dot is the dot product of two float32 vectors of equal length: the products of elements i, i + 16, i + 32, … are added
// in order, and then sum i + 8 to sum i, i + 4 to i, and so on.
func Dot(a, b []float32) float32 {
	b = b[:len(a)]
	if inUse != nil && len(a) > 0 && len(a)%lanes == 0 {
		return inUse.dotFloats1(&a[0], &b[0], len(a)/lanes)
	}
	whole := len(a) &^ (lanes - 1)
	var sums [lanes]float32
	for i := 0; i < whole; i += lanes {
		x, y := (*[lanes]float32)(a[i:]), (*[lanes]float32)(b[i:])
		for l := range &sums {
			z := sums[l]
			p := float64(float64(x[l]) * float64(y[l]))
			s := p + float64(z)
			if sums[l] = float32(s); !once(s) {
				sums[l] = roundOdd(p, float64(z), s)
			}
		}
	}
	for i := whole; i < len(a); i++ {
		sums[i-whole] = fused(a[i], b[i], sums[i-whole])
	}
	return addUp(&sums)
}

// addUp adds sums pairwise: those 8 apart, 4, 2, 1.
func addUp(sums *[lanes]float32) float32 {
	for n := lanes / 2; n > 0; n /= 2 {
		for i := range n {
			sums[i] += sums[i+n]
		}
	}
	return sums[0]
}

// whole is how many groups of 16 elements kernels take off a vector.
func whole(n int) int {
	if inUse == nil {
		return 0
	}
	return n / lanes
}

// Add adds y to x, which is as long.
func Add(x, y []float32) {
	n := whole(len(x))
	if n > 0 {
		inUse.add(&x[0], &y[0], n)
	}
	for i := n * lanes; i < len(x); i++ {
		x[i] += y[i]
	}
}

// Scale writes x times a number, times w, to dst, which may be x. All have the same length.
func Scale(dst, x, w []float32, by float32) {
	n := whole(len(x))
	if n > 0 {
		inUse.scale(&dst[0], &x[0], &w[0], int(math.Float32bits(by)), n)
	}
	for i := n * lanes; i < len(x); i++ {
		dst[i] = float32(x[i]*by) * w[i]
	}
}

// Blend writes x times a plus y times b to x; both are as long.
func Blend(x, y []float32, a, b float32) {
	n := whole(len(x))
	if n > 0 {
		inUse.blend(&x[0], &y[0], int(math.Float32bits(a)), int(math.Float32bits(b)), n)
	}
	for i := n * lanes; i < len(x); i++ {
		x[i] = fused(y[i], b, x[i]*a)
	}
}

// Dots gives the products of rows, [len(out)][len(x)], with a vector.
func Dots(out, rows, x []float32) {
	n, i := len(x), 0
	if inUse != nil && n > 0 && n%lanes == 0 {
		for ; i+dotRows <= len(out); i += dotRows {
			inUse.dotFloats4(&out[i], &rows[i*n : (i+dotRows)*n][0], 4*n, &x[0], n/lanes)
		}
	}
	for ; i < len(out); i++ {
		out[i] = Dot(rows[i*n:(i+1)*n], x)
	}
}

// Recur carries a state, [len(out)][len(k)], on: each row s becomes s·fade + k·u, with u of its own, and out gets its product with q.
func Recur(out, s, k, q []float32, fade float32, u []float32) {
	n := len(k)
	if len(out) == 0 || n == 0 {
		return
	}
	s, q, u = s[:len(out)*n], q[:n], u[:len(out)]
	if inUse != nil && n%lanes == 0 {
		inUse.recur(&out[0], &s[0], &k[0], &q[0], int(math.Float32bits(fade)), &u[0], len(out), n/lanes)
		return
	}
	for i := range out {
		row := s[i*n : (i+1)*n]
		Blend(row, k, fade, u[i])
		out[i] = Dot(row, q)
	}
}

// Swish writes gate·σ(slope·gate)·up to gate, which is as long. With slope 1, gate·σ(gate) is SiLU.
func Swish(gate, up []float32, slope float32) {
	n := whole(len(gate))
	if n > 0 {
		inUse.swish(&gate[0], &up[0], int(math.Float32bits(-slope)), n)
	}
	for i := n * lanes; i < len(gate); i++ {
		g := gate[i]
		gate[i] = float32(g/float32(1+Exp(float32(-slope*g)))) * up[i]
	}
}

// The approximation of GELU by tanh, in the form x·σ(2y).
const (
	geluFactor = float32(-2 * 0.7978845608028654) // −2·sqrt(2/π)
	geluCubic  = float32(0.044715)
)

// TanhGELU writes gate·½(1 + tanh(sqrt(2/π)·(gate + 0.044715·gate³)))·up to gate, which is as long (Hendrycks and Gimpel,
// "Gaussian Error Linear Units", 2016).
func TanhGELU(gate, up []float32) {
	n := whole(len(gate))
	if n > 0 {
		inUse.tanhGELU(&gate[0], &up[0], int(math.Float32bits(geluFactor)), int(math.Float32bits(geluCubic)), n)
	}
	for i := n * lanes; i < len(gate); i++ {
		g := gate[i]
		cube := float32(float32(float32(g*g)*g) * geluCubic)
		gate[i] = float32(g/float32(1+Exp(float32(float32(g+cube)*geluFactor)))) * up[i]
	}
}

// Where e^x is no longer a normal number, or none at all.
const (
	leastExp = float32(-87.33654)
	mostExp  = float32(88.37626)
)

// expTerms are the coefficients of e^r for |r| ≤ ½ ln 2, the highest first (Moshier, "Methods and Programs for
// Mathematical Functions", 1989).
var expTerms = [...]float32{1.9875691500e-4, 1.3981999507e-3, 8.3334519073e-3, 4.1665795894e-2, 1.6666665459e-1, 5.0000001201e-1, 1, 1}

// Exp is e^x to about one unit in the last place: 0 where that is less than a normal number, and the same for all
// x above 88.37.
func Exp(x float32) float32 {
	if inUse != nil {
		return inUse.exp(int(math.Float32bits(x)))
	}
	if x != x {
		return x
	}
	if x < leastExp {
		return 0
	}
	x = min(x, mostExp)
	n := float32(math.RoundToEven(float64(float32(x * math.Log2E))))
	x = fused(n, -0.693359375, x) // ln 2 in two parts, the first with few digits
	x = fused(n, 2.12194440e-4, x)
	p := expTerms[0]
	for _, c := range expTerms[1:] {
		q := float64(float64(p) * float64(x))
		s := q + float64(c)
		if p = float32(s); !once(s) {
			p = roundOdd(q, float64(c), s)
		}
	}
	return math.Float32frombits(math.Float32bits(p) + uint32(int32(n))<<23)
}

// PageTokens is how many keys or values lie together for the products of attention.
const PageTokens = 32

// Scores gives the products of queries with PageTokens keys, [dims][PageTokens]. The queries, of dims elements, lie step
// elements apart; out is [queries][PageTokens].
func Scores(out []float32, q []float32, step, queries, dims int, keys []float32) {
	i := 0
	if inUse != nil {
		for _, k := range inUse.scores {
			for ; i+k.queries <= queries; i += k.queries {
				k.run(&out[PageTokens*i], &q[step*i], 4*step, &keys[0], dims)
			}
		}
	}
	for ; i < queries; i++ {
		scores := (*[PageTokens]float32)(out[PageTokens*i:])
		clear(scores[:])
		for j, x := range q[step*i : step*i+dims] {
			k, x := (*[PageTokens]float32)(keys[j*PageTokens:]), float64(x)
			for t, z := range scores {
				p := float64(x * float64(k[t]))
				s := p + float64(z)
				if scores[t] = float32(s); !once(s) {
					scores[t] = roundOdd(p, float64(z), s)
				}
			}
		}
	}
}

// Mask multiplies the scores of a page with scale, makes those at positions that are not from ≤ t < to −∞, and gives the
// largest. What is no number counts as +∞, and so ends as no number.
func Mask(scores *[PageTokens]float32, scale float32, from, to int) float32 {
	if inUse != nil {
		return inUse.mask(scores, int(math.Float32bits(scale)), from, to)
	}
	largest := float32(math.Inf(-1))
	for t, s := range scores {
		switch s *= scale; {
		case t < from || t >= to:
			s = float32(math.Inf(-1))
		case s != s:
			s = float32(math.Inf(1))
		}
		scores[t] = s
		largest = max(largest, s)
	}
	return largest
}

// Weigh replaces the scores of a page by e^(score − peak), and gives their sum.
func Weigh(scores *[PageTokens]float32, peak float32) float32 {
	if inUse != nil {
		return inUse.weigh(scores, int(math.Float32bits(peak)))
	}
	var sums [lanes]float32
	for t := range scores {
		scores[t] = Exp(scores[t] - peak)
		if t < lanes {
			sums[t] = scores[t]
		} else {
			sums[t-lanes] += scores[t]
		}
	}
	return addUp(&sums)
}

// Soften is a step of a softmax that goes through a context page by page. It turns the scores of each query, [PageTokens], times scale, into
// weights: e^(score − peak) at the positions of its range, from ≤ t < to, and 0 at others. Its peak, which begins as −∞, becomes the largest
// score so far, and its total, which begins as 0, the sum of the weights. What had the weights of before is to be multiplied with what
// is written to shrinks. A score that is no number makes weights that are none.
func Soften(scores []float32, scale float32, ranges [][2]int32, peaks, totals, shrinks []float32) {
	n := len(ranges)
	scores, peaks, totals, shrinks = scores[:n*PageTokens], peaks[:n], totals[:n], shrinks[:n]
	if inUse != nil && n > 0 {
		inUse.soften(&scores[0], int(math.Float32bits(scale)), &ranges[0], &peaks[0], &totals[0], &shrinks[0], n)
		return
	}
	for i, r := range ranges {
		s := (*[PageTokens]float32)(scores[PageTokens*i:])
		peak := max(Mask(s, scale, int(r[0]), int(r[1])), peaks[i], -math.MaxFloat32)
		shrinks[i], peaks[i] = Exp(peaks[i]-peak), peak
		totals[i] = fused(totals[i], shrinks[i], Weigh(s, peak))
	}
}

// Mix multiplies each of some sums with a number, and adds values to it, each times its weight: of the values, [positions][dims], and of
// the weights, [sums][PageTokens], those at positions from ≤ t < to. The sums are [sums][dims].
func Mix(out []float32, by []float32, dims int, weights, values []float32, from, to int) {
	sums := len(by)
	to = max(from, to)
	if inUse != nil && dims >= lanes && sums > 0 {
		mixLanes(out, by, dims, weights, values, from, to, 0, dims/lanes)
		if rest := dims % lanes; rest > 0 {
			// The last lanes overlap with those before, which get back what they were.
			begin, twice := dims-lanes, lanes-rest
			var before [lanes * 64]float32
			for i := 0; i < sums; i += 64 {
				n := min(64, sums-i)
				for j := range n {
					copy(before[lanes*j:][:twice], out[dims*(i+j)+begin:])
				}
				mixLanes(out[dims*i:], by[i:i+n], dims, weights[PageTokens*i:], values, from, to, begin, 1)
				for j := range n {
					copy(out[dims*(i+j)+begin:], before[lanes*j:][:twice])
				}
			}
		}
		return
	}
	for i, by := range by {
		sum := out[dims*i : dims*(i+1)]
		for j := range sum {
			sum[j] *= by
		}
		for t := from; t < to; t++ {
			w, v := float64(weights[PageTokens*i+t]), values[t*dims:(t+1)*dims]
			for j, z := range sum {
				p := float64(w * float64(v[j]))
				s := p + float64(z)
				if sum[j] = float32(s); !once(s) {
					sum[j] = roundOdd(p, float64(z), s)
				}
			}
		}
	}
}

// mixLanes is Mix for count times lanes of the dimensions, from begin on, by a kernel.
func mixLanes(out, by []float32, dims int, weights, values []float32, from, to, begin, count int) {
	if from == to {
		from, to = 0, 0 // so that there is something to point to
	}
	i := 0
	for _, k := range inUse.mix {
		for ; i+k.queries <= len(by); i += k.queries {
			k.run(&out[dims*i+begin], 4*dims, &by[i], &weights[PageTokens*i+from], &values[from*dims+begin], 4*dims, to-from, count)
		}
	}
}

// WidenF16 expands half floats.
func WidenF16(dst []float32, src []uint16) {
	n := whole(len(dst))
	if n > 0 {
		inUse.widenF16(&dst[0], (*byte)(unsafe.Pointer(&src[0])), n)
	}
	for i := n * lanes; i < len(dst); i++ {
		dst[i] = Float16(src[i])
	}
}

// ScaleColumns expands rows of PageTokens bytes: each byte of dst, [rows][PageTokens], is multiplied with the scale of its
// column.
func ScaleColumns(dst []float32, q []int8, scale *[PageTokens]float32) {
	rows := len(dst) / PageTokens
	if rows == 0 {
		return
	}
	if inUse != nil && inUse.scaleColumns != nil {
		inUse.scaleColumns(&dst[0], &q[:len(dst)][0], &scale[0], rows)
		return
	}
	for r := range rows {
		to, from := (*[PageTokens]float32)(dst[r*PageTokens:]), (*[PageTokens]int8)(q[r*PageTokens:])
		for i := range to {
			to[i] = float32(from[i]) * scale[i]
		}
	}
}

// ScaleRows expands rows of so many bytes: each of dst, [rows][size], is multiplied with the scale of its row.
func ScaleRows(dst []float32, q []int8, scale []float32, size int) {
	if inUse != nil && inUse.scaleRows != nil && size%16 == 0 && len(dst) > 0 {
		inUse.scaleRows(&dst[0], &q[:len(dst)][0], &scale[:len(dst)/size][0], len(dst)/size, size/16)
		return
	}
	for i, s := range scale[:len(dst)/size] {
		for j, v := range q[i*size : (i+1)*size] {
			dst[i*size+j] = float32(v) * s
		}
	}
}

// RoundBytes rounds a vector to signed bytes, and gives their scale as a half float: the largest magnitude / 127.
func RoundBytes(q []int8, x []float32) (scale uint16) {
	var largest float32
	for _, v := range x {
		largest = max(largest, float32(math.Abs(float64(v))))
	}
	scale = ToFloat16(min(largest, 127*largestHalf) / 127)
	by := Float16(scale)
	if by == 0 {
		clear(q)
		return scale
	}
	for i, v := range x {
		q[i] = int8(max(-127, min(127, math.RoundToEven(float64(v/by)))))
	}
	return scale
}

const largestHalf = 65504

// widen expands a row of floats that are shorter than those that are computed with.
func widen(t weights.Type, dst []float32, row, scales []byte) {
	if t == weights.F8 {
		expandF8(dst, row, scales)
		return
	}
	n := whole(len(dst))
	if n > 0 {
		do := inUse.widenF16
		if t == weights.BF16 {
			do = inUse.widenBF16
		}
		do(&dst[0], &row[0], n)
	}
	formats[t].expand(dst[n*lanes:], row[2*n*lanes:], nil)
}
