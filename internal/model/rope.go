package model

import (
	"fmt"
	"math"

	"kindredgate/internal/weights"
)

// Rope is a rotation of queries and keys by their positions (Su et al., "RoFormer", section 3.2.2).
type Rope struct {
	Dims    int       // of each head, that are rotated
	Angles  []float64 // [Dims/2] by which each pair turns at each position, in radians
	Longer  []Longer  // the same for longer sequences, the shorter of them first
	Factor  float64   // that sines and cosines are multiplied with
	Scaling string    // how positions were stretched, as the files name it; empty if they were not
	Stretch float64   // by how much, if it is one number
	// Adjacent says that dimensions 2i and 2i + 1 are a pair; else i and i + Dims/2 are.
	Adjacent bool
	// Axis says for each pair by which of a token's places it turns, where these differ; nil if all turn by its position.
	Axis []uint8 // [Dims/2]
}

// Longer is how a rotation is for sequences of more than so many tokens.
type Longer struct {
	Beyond int // tokens
	Angles []float64
}

// variant is which form a sequence of so many tokens needs: 0 for the usual one.
func (r *Rope) variant(tokens int) (n int) {
	for _, l := range r.Longer {
		if tokens > l.Beyond {
			n++
		}
	}
	return n
}

// angles are those of a form.
func (r *Rope) angles(variant int) []float64 {
	if n := min(variant, len(r.Longer)); n > 0 {
		return r.Longer[n-1].Angles
	}
	return r.Angles
}

func (r *Rope) check() error {
	if r.Axis != nil && len(r.Axis) != r.Dims/2 {
		return fmt.Errorf("%d places for %d rotated dimensions are not possible", len(r.Axis), r.Dims)
	}
	all := [][]float64{r.Angles}
	for _, l := range r.Longer {
		all = append(all, l.Angles)
	}
	for _, list := range all {
		if r.Dims < 0 || r.Dims%2 != 0 || len(list) != r.Dims/2 {
			return fmt.Errorf("%d rotated dimensions with %d angles are not possible", r.Dims, len(list))
		}
	}
	if !(r.Factor > 0) || math.IsInf(r.Factor, 0) {
		return fmt.Errorf("a rotation scaled by %g is out of range", r.Factor)
	}
	for _, list := range all {
		for _, a := range list {
			if math.IsNaN(a) || math.IsInf(a, 0) {
				return fmt.Errorf("a rotation by %g at each position is out of range", a)
			}
		}
	}
	return nil
}

// newRope makes the rotation that a checkpoint describes, stretched as it says.
func newRope(w *weights.Rope, base float64, dims, context int) (Rope, error) {
	r := Rope{Dims: dims, Factor: 1, Scaling: w.Scaling, Stretch: w.Factor}
	if !(base > 0) || math.IsInf(base, 0) || dims < 0 || dims > 1<<20 {
		return r, fmt.Errorf("rope base %g or %d rotated dimensions are out of range", base, dims)
	}
	r.Angles = plainAngles(base, dims)
	switch w.Scaling {
	case "":
	case "linear":
		if !(w.Factor > 0) {
			return r, fmt.Errorf("linear rope scaling by %g is out of range", w.Factor)
		}
		for i := range r.Angles {
			r.Angles[i] /= w.Factor
		}
	case "llama3":
		if !(w.Factor > 0) || !(w.HighFrequency > w.LowFrequency) || !(w.LowFrequency > 0) || w.Original <= 0 {
			return r, fmt.Errorf("rope scaling llama3 by %g between %g and %g of %d tokens is out of range", w.Factor, w.LowFrequency, w.HighFrequency, w.Original)
		}
		for i, a := range r.Angles {
			r.Angles[i] = byWavelength(a, w)
		}
	case "yarn":
		if !(w.Factor > 0) || w.Original <= 0 {
			return r, fmt.Errorf("rope scaling yarn by %g of %d tokens is out of range", w.Factor, w.Original)
		}
		yarn(&r, w, base)
	case "dynamic":
		if !(w.Factor >= 1) || w.Factor > 1e6 || dims <= 2 {
			return r, fmt.Errorf("rope scaling dynamic by %g is out of range", w.Factor)
		}
		r.Longer = dynamic(w, base, dims, context)
	case "longrope":
		if len(w.Short) != dims/2 || len(w.Long) != dims/2 || w.Original <= 0 {
			return r, fmt.Errorf("rope scaling longrope has %d and %d factors for %d rotated dimensions, and %d tokens to begin with", len(w.Short), len(w.Long), dims, w.Original)
		}
		long := make([]float64, dims/2)
		for i, a := range r.Angles {
			r.Angles[i], long[i] = a/w.Short[i], a/w.Long[i]
		}
		r.Longer = []Longer{{w.Original, long}}
		// Ding et al., "LongRoPE", 2024, as the models of the family are published.
		if s := float64(context) / float64(w.Original); s > 1 {
			r.Factor = math.Sqrt(1 + math.Log(s)/math.Log(float64(w.Original)))
		}
	default:
		return r, fmt.Errorf("rope scaling of type %.40q is not supported; linear, dynamic, llama3, yarn and longrope are", w.Scaling)
	}
	if w.Attention > 0 {
		r.Factor = w.Attention
	}
	return r, nil
}

// plainAngles are those of a base.
func plainAngles(base float64, dims int) []float64 {
	list := make([]float64, dims/2)
	for i := range list {
		list[i] = math.Pow(base, -2*float64(i)/float64(dims))
	}
	return list
}

// dynamic raises the base as sequences get longer than those that the network was trained with ("NTK-aware" scaling, as most libraries do it). What
// was read before a sequence grew would have other rotations than what comes after, so it has one for all that it may come to, of which each
// doubling of the length has its own.
func dynamic(w *weights.Rope, base float64, dims, context int) (list []Longer) {
	if w.Original <= 0 {
		return nil
	}
	for beyond := w.Original; beyond < context; beyond *= 2 {
		length := float64(min(2*beyond, context))
		power := float64(dims) / float64(dims-2)
		list = append(list, Longer{beyond, plainAngles(base*math.Pow(w.Factor*length/float64(w.Original)-(w.Factor-1), power), dims)})
	}
	return list
}

// byWavelength stretches long wavelengths and leaves short ones (Llama 3.1).
func byWavelength(angle float64, w *weights.Rope) float64 {
	wavelength, old := 2*math.Pi/angle, float64(w.Original)
	switch {
	case wavelength < old/w.HighFrequency:
		return angle
	case wavelength > old/w.LowFrequency:
		return angle / w.Factor
	}
	s := (old/wavelength - w.LowFrequency) / (w.HighFrequency - w.LowFrequency)
	return float64((1-s)*angle/w.Factor) + float64(s*angle)
}

// yarn stretches by a ramp over the dimensions (Peng et al., "YaRN", 2023, section 3.2).
func yarn(r *Rope, w *weights.Rope, base float64) {
	fast, slow := w.BetaFast, w.BetaSlow
	if fast == 0 {
		fast = 32
	}
	if slow == 0 {
		slow = 1
	}
	n := float64(r.Dims)
	dimension := func(turns float64) float64 {
		return n * math.Log(float64(w.Original)/(turns*2*math.Pi)) / (2 * math.Log(base))
	}
	low, high := dimension(fast), dimension(slow)
	if !w.Unrounded {
		low, high = math.Floor(low), math.Ceil(high)
	}
	low, high = max(low, 0), min(high, n-1)
	if low == high {
		high += 0.001 // a ramp needs some length
	}
	for i, a := range r.Angles {
		ramp := max(0, min(1, (float64(i)-low)/(high-low)))
		r.Angles[i] = float64(a/w.Factor*ramp) + float64(a*(1-ramp))
	}
	r.Factor = magnitude(w.Factor, 1)
	if w.Magnitude != 0 && w.MagnitudeAll != 0 {
		r.Factor = magnitude(w.Factor, w.Magnitude) / magnitude(w.Factor, w.MagnitudeAll)
	}
}

// magnitude is by how much attention is made sharper where positions are stretched by a factor (Peng et al., section 3.3), times a
// weight of it.
func magnitude(factor, weight float64) float64 {
	if factor <= 1 {
		return 1
	}
	return float64(0.1*weight*math.Log(factor)) + 1
}

// turn rotates a head by the cosines and sines of one position.
func (r *Rope) turn(x, cos, sin []float32) {
	half := r.Dims / 2
	if r.Adjacent {
		for i := range half {
			a, b := x[2*i], x[2*i+1]
			x[2*i] = float32(a*cos[i]) - float32(b*sin[i])
			x[2*i+1] = float32(a*sin[i]) + float32(b*cos[i])
		}
		return
	}
	low, high := x[:half], x[half:2*half]
	for i, a := range low {
		b := high[i]
		low[i] = float32(a*cos[i]) - float32(b*sin[i])
		high[i] = float32(a*sin[i]) + float32(b*cos[i])
	}
}
