package tensor

import (
	"encoding/hex"
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"sort"
	"sync/atomic"
	"testing"
)

// random gives n values with a spread of 1, the same every time.
func random(n int, seed uint64) []float32 {
	r := rand.New(rand.NewPCG(seed, 1))
	x := make([]float32, n)
	for i := range x {
		x[i] = float32(r.NormFloat64())
	}
	return x
}

// toFloat16 rounds to the nearest half float; the values of the tests are within its range.
func toFloat16(f float32) uint16 {
	size := float32(math.Abs(float64(f)))
	above := uint16(sort.Search(0x7c00, func(h int) bool { return Float16(uint16(h)) >= size }))
	h := above
	if above > 0 && size-Float16(above-1) < Float16(above)-size {
		h--
	}
	if math.Signbit(float64(f)) {
		h |= 0x8000
	}
	return h
}

// matrix stores values as a matrix of that type, and returns also the values that it stands for.
func matrix(t testing.TB, kind Type, rows, cols int, values []float32) (Matrix, []float32) {
	t.Helper()
	var raw []byte
	switch kind {
	case F32:
		for _, v := range values {
			b := math.Float32bits(v)
			raw = append(raw, byte(b), byte(b>>8), byte(b>>16), byte(b>>24))
		}
	case F16:
		for _, v := range values {
			h := toFloat16(v)
			raw = append(raw, byte(h), byte(h>>8))
		}
	case Q8_0:
		for block := range slices.Chunk(values, BlockSize) {
			q := make([]int8, BlockSize)
			h := toFloat16(quantizeBlock(q, block))
			raw = append(raw, byte(h), byte(h>>8))
			for _, v := range q {
				raw = append(raw, byte(v))
			}
		}
	}
	m, err := NewMatrix(kind, rows, cols, raw)
	if err != nil {
		t.Fatal(err)
	}
	exact := make([]float32, rows*cols)
	for r := range rows {
		m.Row(exact[r*cols:(r+1)*cols], r)
	}
	return m, exact
}

func TestBlocksEqualReference(t *testing.T) {
	raw, err := os.ReadFile("testdata/blocks.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Types map[string]struct {
			Blocks []struct {
				Hex    string    `json:"hex"`
				Values []float32 `json:"values"`
			} `json:"blocks"`
		} `json:"types"`
		Example struct {
			Input []float32 `json:"input"`
			Hex   string    `json:"hex"`
		} `json:"q8_0_example"`
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	for name, kind := range map[string]Type{"F16": F16, "Q8_0": Q8_0} {
		if len(doc.Types[name].Blocks) == 0 {
			t.Errorf("no blocks of type %s", name)
		}
		for i, b := range doc.Types[name].Blocks {
			data, err := hex.DecodeString(b.Hex)
			if err != nil {
				t.Fatal(err)
			}
			m, err := NewMatrix(kind, 1, len(b.Values), data)
			if err != nil {
				t.Fatal(err)
			}
			got := make([]float32, len(b.Values))
			m.Row(got, 0)
			if !slices.Equal(got, b.Values) {
				t.Errorf("%s block %d: %v, want %v", name, i, got, b.Values)
			}
		}
	}
	// Quantising finds the bytes of the example; its scales are half floats, so they are compared as such.
	data, err := hex.DecodeString(doc.Example.Hex)
	if err != nil || len(doc.Example.Input) == 0 {
		t.Fatal(err, len(doc.Example.Input))
	}
	for b, block := range slices.Collect(slices.Chunk(doc.Example.Input, BlockSize)) {
		q := make([]int8, BlockSize)
		scale := toFloat16(quantizeBlock(q, block))
		want := data[b*blockBytes : (b+1)*blockBytes]
		if scale != uint16(want[0])|uint16(want[1])<<8 {
			t.Errorf("block %d: scale %#x, want %#x", b, scale, want[:2])
		}
		for i, v := range q {
			if v != int8(want[2+i]) {
				t.Errorf("block %d: element %d is %d, want %d", b, i, v, int8(want[2+i]))
			}
		}
	}
}

func TestFloat16(t *testing.T) {
	for h, want := range map[uint16]float32{
		0x0000: 0, 0x3c00: 1, 0xc000: -2, 0x7bff: 65504, 0x0001: 0x1p-24, 0x03ff: 0x3ffp-24, 0x0400: 0x1p-14, 0x3555: 0.33325195,
		0x7c00: float32(math.Inf(1)), 0xfc00: float32(math.Inf(-1)),
	} {
		if got := Float16(h); got != want {
			t.Errorf("%#04x is %g, want %g", h, got, want)
		}
	}
	if !math.Signbit(float64(Float16(0x8000))) || !math.IsNaN(float64(Float16(0x7e00))) {
		t.Error("minus zero or NaN is lost")
	}
}

// Products are held against float64 over the values that the weights stand for. Float weights leave only the
// rounding of the sum. A vector quantised to 8 bits is off by up to half a step, 1/254 of the largest of its
// block, in each element; the errors are independent, so they add up like a random walk: sqrt(cols) times the
// size of a weight (1) times the step's spread (1/254 * 4 / sqrt(12)), of which 6 are allowed.
func TestMatMul(t *testing.T) {
	team := NewTeam(3)
	defer team.Close()
	for _, c := range []struct {
		kind             Type
		rows, cols, vecs int
	}{
		{F32, 5, 7, 1}, {F32, 300, 96, 3}, {F16, 5, 7, 2}, {F16, 64, 96, 3}, {Q8_0, 1, 32, 1}, {Q8_0, 300, 256, 5}, {Q8_0, 512, 768, 1},
	} {
		m, weights := matrix(t, c.kind, c.rows, c.cols, random(c.rows*c.cols, 1))
		x := NewActivations(c.vecs+2, c.cols)
		x.Resize(c.vecs)
		for i := range c.vecs {
			copy(x.Vec(i), random(c.cols, uint64(10+i)))
		}
		tolerance := 1e-4
		if c.kind == Q8_0 {
			x.Quantize()
			tolerance = 6 * math.Sqrt(float64(c.cols)) * 4 / 254 / math.Sqrt(12)
		}
		out := NewActivations(c.vecs, c.rows)
		MatMul(team, out, m, x)
		alone := NewActivations(c.vecs, c.rows)
		MatMul(nil, alone, m, x)
		for i := range c.vecs {
			if !slices.Equal(out.Vec(i), alone.Vec(i)) {
				t.Errorf("%+v: a team and one alone differ", c)
			}
			for r, got := range out.Vec(i) {
				want := 0.0
				for j, v := range x.Vec(i) {
					want += float64(v) * float64(weights[r*c.cols+j])
				}
				if !(math.Abs(float64(got)-want) <= tolerance) {
					t.Fatalf("%+v: vector %d row %d is %g, want %g within %.2g", c, i, r, got, want, tolerance)
				}
			}
		}
	}
}

func TestQuantizeEdges(t *testing.T) {
	x := NewActivations(1, 64)
	x.Resize(1)
	copy(x.Vec(0)[32:], []float32{-2, 2, 1, 0, 1e-9})
	x.Quantize()
	if x.d[0] != 0 || slices.ContainsFunc(x.q[:32], func(q int8) bool { return q != 0 }) {
		t.Errorf("a block of zeros became %g × %v", x.d[0], x.q[:32])
	}
	if want := []int8{-127, 127, 64, 0, 0}; !slices.Equal(x.q[32:37], want) || x.d[1] != 2.0/127 {
		t.Errorf("%v × %g, want %v", x.q[32:37], x.d[1], want)
	}
}

func TestNewMatrixRefuses(t *testing.T) {
	aligned := make([]byte, 64)
	for _, c := range []struct {
		kind       Type
		rows, cols int
		data       []byte
	}{{F32, 2, 2, aligned[:15]}, {F16, 2, 2, aligned[:9]}, {Q8_0, 1, 33, aligned[:36]}, {Q8_0, 1, 32, aligned[:33]}, {F32, 1, 2, aligned[1:9]}} {
		if _, err := NewMatrix(c.kind, c.rows, c.cols, c.data); err == nil {
			t.Errorf("%d × %d of type %d in %d bytes was accepted", c.rows, c.cols, c.kind, len(c.data))
		}
	}
}

func TestSplitCoversEveryRowOnce(t *testing.T) {
	for _, size := range []int{1, 2, 5} {
		team := NewTeam(size)
		for _, rows := range []int{0, 1, 2, 7, 100, 1001} {
			seen := make([]atomic.Int32, rows)
			team.Split(rows, smallWork, func(from, to int) {
				for i := from; i < to; i++ {
					seen[i].Add(1)
				}
			})
			for i := range seen {
				if n := seen[i].Load(); n != 1 {
					t.Errorf("team of %d, %d rows: row %d was done %d times", size, rows, i, n)
				}
			}
		}
		team.Close()
	}
}

func BenchmarkDotQ8(b *testing.B) {
	const cols = 4096
	m, _ := matrix(b, Q8_0, 1, cols, random(cols, 1))
	x := NewActivations(1, cols)
	x.Resize(1)
	copy(x.Vec(0), random(cols, 2))
	x.Quantize()
	b.SetBytes(int64(m.RowBytes()))
	var sum float32
	for b.Loop() {
		sum += dotQ8(m.Data, x.q, x.d)
	}
	b.ReportMetric(cols*float64(b.N)/b.Elapsed().Seconds()/1e9, "GMAC/s")
	_ = sum
}
