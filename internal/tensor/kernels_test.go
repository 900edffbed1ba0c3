package tensor

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"kindredgate/internal/weights"
)

// with runs a test with other kernels; nil for none.
func with(k *kernels, do func()) {
	before := inUse
	defer func() { inUse = before }()
	inUse = k
	do()
}

// TestMain says which kernels there are, so that a run on a processor that lacks some does not pass for one that tried
// them.
func TestMain(m *testing.M) {
	for _, k := range available() {
		fmt.Println("kernels:", k.name)
	}
	os.Exit(m.Run())
}

// stored is a matrix of any type, of blocks that are random bytes but for scales, which are ordinary numbers.
func stored(t testing.TB, kind weights.Type, rows, cols int, seed uint64) Matrix {
	if FormatOf(kind).Writable() {
		m, _ := matrix(t, kind, rows, cols, random(rows*cols, seed))
		return m
	}
	random := rand.New(rand.NewPCG(seed, 1))
	layout := kind.Layout()
	data := make([]byte, rows*cols/layout.Elements*layout.Bytes)
	for i := range data {
		data[i] = byte(random.Uint32())
	}
	var scales []byte
	switch kind {
	case weights.IQ4_XS:
		for i := 0; i < len(data); i += layout.Bytes {
			putHalf(data[i:], random.Float32())
		}
	case weights.MXFP4Split:
		for range rows * cols / 32 {
			scales = append(scales, byte(120+random.IntN(16)))
		}
	case weights.F8:
		for i := range data {
			data[i] &^= 1 // so that all are numbers
		}
		for range layout.Scales.Size(rows, cols) / 4 {
			scales = binary.LittleEndian.AppendUint32(scales, math.Float32bits(random.Float32()))
		}
	}
	m, err := NewMatrix(kind, rows, cols, data, scales)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// Every kernel gives what the Go functions give, to the bit: for all formats, for few vectors and for many, for rows and
// columns that are no whole tiles, for rows apart.
func TestKernelsEqualGo(t *testing.T) {
	for _, k := range available() {
		for kind := range weights.Types {
			step := max(kind.Layout().Elements, 1)
			for _, c := range []struct{ rows, cols, vecs int }{{1, 1, 1}, {37, 3, 2}, {21, 17, 5}, {48, 8, 13}, {5, 4, 29}, {16, 66, 12}, {9, 12, 1}, {26, 20, 3}, {53, 9, 41}} {
				cols := c.cols * step
				if !Usable(kind, cols) {
					continue
				}
				m := stored(t, kind, c.rows, cols, uint64(c.rows))
				for _, w := range []Matrix{m, m.Slice(0, (c.rows+1)/2, 2)} {
					x := NewBatch(c.vecs, cols)
					x.Resize(c.vecs)
					copy(x.data, random(c.vecs*cols, 9))
					clear(x.Vec(0)[:cols/2])
					results := make([]*Batch, 3)
					for i, one := range []*kernels{nil, k, k} {
						results[i] = NewBatch(c.vecs, w.Rows)
						with(one, func() {
							if bytes := w.PanelBytes(); i == 2 && bytes > 0 {
								panels := aligned(int(bytes))
								if err := w.WritePanels(panels, 0, w.Rows); err != nil {
									t.Fatal(err)
								}
								w.UsePanels(panels)
							}
							var pack Packer
							var mul Multiplier
							mul.Mul(nil, pack.Pack(nil, x, &w), Product{&w, results[i]})
						})
					}
					for i, form := range []string{"rows", "panels"} {
						for v := range c.vecs {
							for r, want := range results[0].Vec(v) {
								if got := results[1+i].Vec(v)[r]; math.Float32bits(got) != math.Float32bits(want) {
									t.Fatalf("%s, %s, %s, %d × %d, %d vectors: row %d of vector %d is %g, want %g", k.name, form, kind, w.Rows, cols, c.vecs, r, v, got, want)
								}
							}
						}
					}
				}
			}
		}
	}
}

// Scales with which kernels would not multiply as the Go functions do are an error, in every format.
func TestPanelsRefuseScales(t *testing.T) {
	if inUse == nil {
		t.Skip("no kernels")
	}
	for kind := range weights.Types {
		f := panelForms[kind]
		if f == nil {
			continue
		}
		layout := kind.Layout()
		m := stored(t, kind, 1, layout.Elements*8, 1)
		if m.PanelBytes() == 0 {
			continue
		}
		panels := aligned(int(m.PanelBytes()))
		if err := m.WritePanels(panels, 0, 1); err != nil {
			t.Errorf("%s: %v", kind, err)
		}
		data, apart := m.row(0)
		switch at := map[weights.Type]int{weights.Q6_K: 208}[kind]; {
		case kind == weights.MXFP4:
			data[at] = 232
		case apart != nil:
			apart[3] = 232
		default:
			binary.LittleEndian.PutUint16(data[at:], 0x7c00)
		}
		if err := m.WritePanels(panels, 0, 1); err == nil {
			t.Errorf("%s: an infinite scale is accepted", kind)
		}
	}
}

// odd are numbers that need care.
var odd = []float32{0, float32(math.Copysign(0, -1)), 1e-45, -1e-39, 1e-38, 3e38, -3e38, float32(math.Inf(1)), float32(math.Inf(-1)), float32(math.NaN()),
	-87.3, -87.4, 88.3, 88.4, 0.5, -104}

// same reports whether two results are the same, whatever kind of no number they are.
func same(a, b []float32) bool {
	return slices.EqualFunc(a, b, func(x, y float32) bool { return math.Float32bits(x) == math.Float32bits(y) || x != x && y != y })
}

// What is done with whole vectors is the same with kernels as without, with odd numbers among them too, and in the parts
// of vectors that are no whole groups of 16.
func TestVectorKernelsEqualGo(t *testing.T) {
	x, y, z := random(16*40+5, 1), random(16*40+5, 2), random(16*40+5, 3)
	for i := range x {
		x[i] *= 30
		if i%7 == 0 {
			x[i] = odd[i/7%len(odd)]
		}
	}
	bytes := func(n int) []int8 {
		q := make([]int8, n)
		for i := range q {
			q[i] = int8(i * 37)
		}
		return q
	}
	cases := map[string]func(n int) []float32{
		"dot":   func(n int) []float32 { return []float32{Dot(x[:n], y[:n])} },
		"add":   func(n int) []float32 { a := slices.Clone(x[:n]); Add(a, y[:n]); return a },
		"blend": func(n int) []float32 { a := slices.Clone(x[:n]); Blend(a, y[:n], 0.37, -1.25); return a },
		"recur": func(n int) []float32 {
			const rows = 5
			state, out := make([]float32, rows*n), make([]float32, rows)
			for i := range state {
				state[i] = x[i%len(x)]
			}
			for range 2 {
				Recur(out, state, y[:n], z[:n], 0.37, y[3:8])
			}
			return append(out, state...)
		},
		"scale": func(n int) []float32 { a := make([]float32, n); Scale(a, x[:n], y[:n], 0.37); return a },
		"swish": func(n int) []float32 { a := slices.Clone(x[:n]); Swish(a, y[:n], 1.702); return a },
		"gelu":  func(n int) []float32 { a := slices.Clone(x[:n]); TanhGELU(a, y[:n]); return a },
		"scores": func(n int) []float32 {
			out, dims := make([]float32, 7*PageTokens), n/PageTokens
			Scores(out, x[1:], 9, 7, min(dims, 9), y)
			return out
		},
		"scores of many": func(n int) []float32 {
			out := make([]float32, 15*PageTokens)
			Scores(out, x[1:], 9, 15, min(n/PageTokens, 9), y)
			return out
		},
		"scores of bytes": func(n int) []float32 {
			dims, queries := Block*(1+n%4), 1+n%15
			var b ByteQueries
			q := slices.Repeat(x, 3)[:queries*dims]
			b.Round(q)
			scales := make([]uint16, dims/Block*PageTokens)
			for i := range scales {
				scales[i] = ToFloat16(y[i])
			}
			keys := make([]int8, dims*PageTokens)
			for i := range keys {
				keys[i] = int8(max(-127, i*i%255-127))
			}
			out := make([]float32, queries*PageTokens)
			ByteScores(out, &b, queries/3, queries-queries/3, dims, keys, scales)
			return out
		},
		"mix": func(n int) []float32 {
			var all []float32
			for _, dims := range []int{5, 16, 24, 48, 64} {
				out, queries := slices.Clone(z[:7*dims]), min(7, len(y[5:])/PageTokens)
				Mix(out, z[3:3+queries], dims, y[5:], x[1:], n%5, min(n/dims, 9))
				all = append(all, out...)
			}
			return all
		},
		"mask": func(n int) []float32 {
			p := *(*[PageTokens]float32)(x[n/3:])
			from := n % 7
			largest := Mask(&p, 0.3, from, from+1+n%25)
			return append(p[:], largest)
		},
		"weigh": func(n int) []float32 {
			p := *(*[PageTokens]float32)(x[n/3:])
			sum := Weigh(&p, 50)
			return append(p[:], sum)
		},
		"soften": func(n int) []float32 {
			scores := append(slices.Clone(x[n/3:][:5*PageTokens]), z[:6*PageTokens]...)
			inf := float32(math.Inf(-1))
			peaks, totals, shrinks := []float32{inf, 1, -3, 200, inf, inf, 0.2, inf, 3, 3, -9}, slices.Clone(y[:11]), make([]float32, 11)
			from := int32(n % 7)
			ranges := [][2]int32{{0, 32}, {from, from + 25}, {0, from}, {31, 32}, {0, 0}, {0, 32}, {0, 0}, {from, 32}, {0, 31}, {5, 5}, {2, 4}}
			Soften(scores, 0.3, ranges, peaks, totals, shrinks)
			return slices.Concat(scores, peaks, totals, shrinks)
		},
		"pack": func(n int) []float32 {
			n &^= Block - 1
			b := &Batch{Cols: n, data: slices.Clone(x[:n]), n: 1}
			if n == 0 {
				return nil
			}
			m, _ := matrix(t, weights.Q8_0, 1, n, y[:n])
			var pack Packer
			var out []float32
			p := pack.Pack(nil, b, &m)
			for i := range (n + quad - 1) / quad {
				r := p.record(0, i)
				for _, q := range r.q {
					out = append(out, float32(q))
				}
				for i := range 4 {
					out = append(out, r.scale[i], float32(r.start[i]), r.sum[i], r.half[i], r.half[4+i])
				}
			}
			return out
		},
		"columns": func(n int) []float32 {
			out := make([]float32, n/PageTokens*PageTokens)
			ScaleColumns(out, bytes(n), (*[PageTokens]float32)(y))
			return out
		},
		"rows": func(n int) []float32 {
			size := 16 * (1 + n%3)
			out := make([]float32, n/size*size)
			ScaleRows(out, bytes(n), y, size)
			return out
		},
		"half": func(n int) []float32 {
			src := make([]uint16, n)
			for i := range src {
				src[i] = uint16(i * 97)
			}
			out := make([]float32, n)
			WidenF16(out, src)
			return out
		},
	}
	for _, k := range available() {
		for name, do := range cases {
			for _, n := range []int{1, 15, 16, 31, 32, 100, 128, 160, 384, 600, 640} {
				var want, got []float32
				with(nil, func() { want = do(n) })
				with(k, func() { got = do(n) })
				if !same(want, got) {
					i := 0
					for i < len(want) && same(want[i:i+1], got[i:i+1]) {
						i++
					}
					t.Errorf("%s, %s of %d: %d is %g, want %g", k.name, name, n, i, got[i], want[i])
				}
			}
		}
	}
}

// Exp is within a unit and a half of the last place of what it stands for.
func TestExp(t *testing.T) {
	for x := float32(-87.3); x < 88.3; x += 0.0137 {
		got, want := float64(Exp(x)), math.Exp(float64(x))
		if math.Abs(got-want) > 1.5*want/(1<<23) {
			t.Fatalf("e^%g is %g, want %g", x, got, want)
		}
	}
	if Exp(-1000) != 0 || Exp(float32(math.Inf(-1))) != 0 || Exp(0) != 1 || !(Exp(500) > 1e38) || Exp(float32(math.NaN())) == 0 {
		t.Error("the ends are wrong")
	}
}

func TestChooseKernels(t *testing.T) {
	for _, k := range available() {
		if got, err := chooseKernels(k.name); got != k || err != nil {
			t.Errorf("%s gives %v, %v", k.name, got, err)
		}
	}
	if got, err := chooseKernels("go"); got != nil || err != nil {
		t.Errorf("go gives %v, %v", got, err)
	}
	if _, err := chooseKernels("fast"); err == nil {
		t.Error("kernels that do not exist are accepted")
	}
}

// fused rounds once: as exact numbers say, with results between normal ones, in the middle of two, too small and too large.
func TestFused(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	number := func(low, high int) float32 {
		x := math.Ldexp(float64(1<<23|random.IntN(1<<23)), low+random.IntN(high-low)-23)
		if random.IntN(2) == 0 {
			x = -x
		}
		return float32(x)
	}
	try := func(x, y, z float32) {
		exact := new(big.Float).SetPrec(600).Mul(big.NewFloat(float64(x)), big.NewFloat(float64(y)))
		exact.Add(exact, big.NewFloat(float64(z)))
		want, _ := exact.Float32()
		if got := fused(x, y, z); got != want {
			t.Fatalf("%x·%x + %x is %x, want %x", x, y, z, got, want)
		}
	}
	for range 200_000 {
		try(number(-3, 3), number(-3, 3), number(-30, 6))
		try(number(-80, -60), number(-70, -60), number(-149, -120))
		try(number(60, 64), number(60, 64), number(100, 127))
		// A sum just beside a middle, by less than a float64 shows.
		z := number(0, 1)
		half := math.Float32frombits(math.Float32bits(z)&0xff800000) * 0x1p-24
		try(half, 1+0x1p-23, z)
		try(half*(1-0x1p-20), 1+0x1p-20, z)
	}
	try(0, 0, 0)
	if !math.IsNaN(float64(fused(float32(math.Inf(1)), 0, 1))) || !math.IsInf(float64(fused(3e38, 2, 1)), 1) {
		t.Error("what is no number is one")
	}
}
