package model

import (
	"fmt"
	"math"

	"kindredgate/internal/weights"
)

// Rope is a rotation of queries and keys by their positions (Su et al., "RoFormer", section 3.2.2).
type Rope struct {
	Dims     int       // of each head, that are rotated
	Angles   []float64 // [Dims/2] by which each pair turns at each position, in radians
	Long     []float64 // the same for sequences of more than Original tokens; nil if there is no difference
	Original int       // tokens
	Factor   float64   // that sines and cosines are multiplied with
	// Adjacent says that dimensions 2i and 2i + 1 are a pair; else i and i + Dims/2 are.
	Adjacent bool
}

func (r *Rope) check() error {
	if r.Dims < 0 || r.Dims%2 != 0 || len(r.Angles) != r.Dims/2 || r.Long != nil && len(r.Long) != r.Dims/2 {
		return fmt.Errorf("%d rotated dimensions with %d angles are not possible", r.Dims, len(r.Angles))
	}
	if !(r.Factor > 0) || math.IsInf(r.Factor, 0) {
		return fmt.Errorf("a rotation scaled by %g is out of range", r.Factor)
	}
	for _, list := range [][]float64{r.Angles, r.Long} {
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
	r := Rope{Dims: dims, Factor: 1, Original: w.Original}
	if !(base > 0) || math.IsInf(base, 0) || dims < 0 || dims > 1<<20 {
		return r, fmt.Errorf("rope base %g or %d rotated dimensions are out of range", base, dims)
	}
	r.Angles = make([]float64, dims/2)
	for i := range r.Angles {
		r.Angles[i] = math.Pow(base, -2*float64(i)/float64(dims))
	}
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
	case "longrope":
		if len(w.Short) != dims/2 || len(w.Long) != dims/2 || w.Original <= 0 {
			return r, fmt.Errorf("rope scaling longrope has %d and %d factors for %d rotated dimensions, and %d tokens to begin with", len(w.Short), len(w.Long), dims, w.Original)
		}
		r.Long = make([]float64, dims/2)
		for i, a := range r.Angles {
			r.Angles[i], r.Long[i] = a/w.Short[i], a/w.Long[i]
		}
		// Ding et al., "LongRoPE", 2024, as the models of the family are published.
		if s := float64(context) / float64(w.Original); s > 1 {
			r.Factor = math.Sqrt(1 + math.Log(s)/math.Log(float64(w.Original)))
		}
	default:
		return r, fmt.Errorf("rope scaling of type %.40q is not supported; linear, llama3, yarn and longrope are", w.Scaling)
	}
	if w.Attention > 0 {
		r.Factor = w.Attention
	}
	return r, nil
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
