package tensor

import (
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/weights"
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

// matrix stores values as a matrix of that type, and returns also the values that it stands for.
func matrix(t testing.TB, kind weights.Type, rows, cols int, values []float32) (Matrix, []float32) {
	t.Helper()
	row, _ := kind.RowBytes(cols)
	raw := make([]byte, rows*row)
	for r := range rows {
		FormatOf(kind).Quantize(raw[r*row:(r+1)*row], values[r*cols:(r+1)*cols])
	}
	m, err := NewMatrix(kind, rows, cols, raw, nil)
	if err != nil {
		t.Fatal(err)
	}
	exact := make([]float32, rows*cols)
	for r := range rows {
		m.Row(exact[r*cols:(r+1)*cols], r)
	}
	return m, exact
}

// reference is blocks of every type with their values, and two examples of quantising, made by another program.
type reference struct {
	Types map[string]struct {
		Blocks []struct {
			Hex    string    `json:"hex"`
			Values []float32 `json:"values"`
		} `json:"blocks"`
	} `json:"types"`
	Roundtrip struct {
		Types map[string]struct{ RMSE float64 } `json:"types"`
	} `json:"roundtrip"`
	Q8 example `json:"q8_0_example"`
	Q4 example `json:"q4_0_example"`
}

type example struct {
	Input []float32 `json:"input"`
	Hex   string    `json:"hex"`
}

func readReference(t testing.TB) (doc reference) {
	t.Helper()
	raw, err := os.ReadFile("testdata/blocks.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, &doc); err != nil {
		t.Fatal(err)
	}
	return doc
}

func unhex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(s)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Blocks of every storage type expand to the values of the reference, to the bit.
func TestBlocksEqualReference(t *testing.T) {
	doc := readReference(t)
	for kind := range weights.Types {
		if kind == weights.F32 || kind.Layout().Scales.Bytes > 0 {
			continue // nothing to expand; tested below
		}
		blocks := doc.Types[kind.String()].Blocks
		if len(blocks) == 0 {
			t.Errorf("no blocks of type %s", kind)
		}
		for i, b := range blocks {
			m, err := NewMatrix(kind, 1, len(b.Values), unhex(t, b.Hex), nil)
			if err != nil {
				t.Fatal(err)
			}
			got := make([]float32, len(b.Values))
			m.Row(got, 0)
			for j, want := range b.Values {
				if math.Float32bits(got[j]) != math.Float32bits(want) {
					t.Errorf("%s block %d, element %d: %g, want %g", kind, i, j, got[j], want)
				}
			}
		}
	}
	for name, e := range map[weights.Type]example{weights.Q8_0: doc.Q8, weights.Q4_0: doc.Q4} {
		want := unhex(t, e.Hex)
		got := make([]byte, len(want))
		if FormatOf(name).Quantize(got, e.Input); !slices.Equal(got, want) {
			t.Errorf("%s of the example is\n%x, want\n%x", name, got, want)
		}
	}
}

// The same block in both forms of MXFP4 has the same values.
func TestSplitMXFP4(t *testing.T) {
	values := random(64, 3)
	m, exact := matrix(t, weights.MXFP4, 1, 64, values)
	raw, _ := m.Raw()
	data, scales := make([]byte, 32), make([]byte, 2)
	for b := range 2 {
		block := raw[17*b : 17*b+17]
		scales[b] = block[0]
		nibble := func(i int) byte { return block[1+i%16] >> (4 * (i / 16)) & 15 }
		for j := range 16 {
			data[16*b+j] = nibble(2*j) | nibble(2*j+1)<<4
		}
	}
	split, err := NewMatrix(weights.MXFP4Split, 1, 64, data, scales)
	if err != nil {
		t.Fatal(err)
	}
	got := make([]float32, 64)
	if split.Row(got, 0); !slices.Equal(got, exact) {
		t.Errorf("%v, want %v", got, exact)
	}
}

// What quantising loses of values with a spread of 1 is no more than simple quantisers lose.
func TestQuantizeError(t *testing.T) {
	limits := map[weights.Type]float64{weights.F16: 3e-4, weights.BF16: 3e-3, weights.Q5_0: 0.045, weights.Q5_1: 0.042, weights.Q4_1: 0.085, weights.Q2_K: 0.31, weights.Q3_K: 0.17,
		weights.Q5_K: 0.037, weights.IQ4_NL: 0.09, weights.MXFP4: 0.13, weights.F32: 0}
	for name, e := range readReference(t).Roundtrip.Types {
		for kind := range weights.Types {
			if kind.String() == name {
				limits[kind] = e.RMSE * 1.02
			}
		}
	}
	values := random(16384, 9)
	for kind, limit := range limits {
		if !FormatOf(kind).Writable() {
			continue
		}
		_, got := matrix(t, kind, 4, 4096, values)
		sum := 0.0
		for i, v := range got {
			sum += (float64(v) - float64(values[i])) * (float64(v) - float64(values[i]))
		}
		if rmse := math.Sqrt(sum / float64(len(values))); !(rmse <= limit) {
			t.Errorf("%s loses %.4g, allowed are %.4g", kind, rmse, limit)
		}
		for _, x := range [][]float32{make([]float32, 256), slices.Repeat([]float32{-0.3}, 256)} {
			_, got := matrix(t, kind, 1, 256, x)
			for i, v := range got {
				if math.Abs(float64(v-x[i])) > 0.06 {
					t.Errorf("%s makes %g of %g", kind, v, x[i])
					break
				}
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
	for h := range 1 << 16 {
		if f := Float16(uint16(h)); f == f && ToFloat16(f) != uint16(h) {
			t.Fatalf("%#04x comes back as %#04x", h, ToFloat16(f))
		}
	}
	for f, want := range map[float32]uint16{65519: 0x7bff, 65520: 0x7c00, -1e9: 0xfc00, 1 + 0x1p-11: 0x3c00, 1 + 0x3p-11: 0x3c02, 0x1p-25: 0, 0x3p-25: 2, float32(math.NaN()): 0x7e00} {
		if got := ToFloat16(f); got != want {
			t.Errorf("%g becomes %#04x, want %#04x", f, got, want)
		}
	}
	for f, want := range map[float32]uint16{1: 0x3f80, 1 + 0x1p-8: 0x3f80, 1 + 0x3p-8: 0x3f82, -2.5: 0xc020} {
		if got := ToBFloat16(f); got != want {
			t.Errorf("%g becomes %#04x, want %#04x", f, got, want)
		}
	}
}

// Products of every format are held against float64 over the values that the weights stand for. Float weights leave only
// the rounding of the sum. A vector rounded to 8 bits is off by up to half a step, 1/254 of the largest of its block, in
// each element; the errors are independent, so they add up like a random walk: sqrt(cols) times the size of a weight (1)
// times the step's spread (1/254 * 4 / sqrt(12)), of which 6 are allowed. With a team or alone, with other products or
// by itself, with more vectors or one, each output is the same to the bit.
func TestProducts(t *testing.T) {
	team := NewTeam(3)
	defer team.Close()
	for kind := range weights.Types {
		if !FormatOf(kind).Writable() {
			continue
		}
		for _, c := range []struct{ rows, cols, vecs int }{{1, 256, 1}, {300, 512, 5}, {64, 768, 2}} {
			m, exact := matrix(t, kind, c.rows, c.cols, random(c.rows*c.cols, 1))
			x := NewBatch(c.vecs+2, c.cols)
			x.Resize(c.vecs)
			for i := range c.vecs {
				copy(x.Vec(i), random(c.cols, uint64(10+i)))
			}
			tolerance := 1e-4
			if FormatOf(kind).Integer() {
				tolerance = 6 * math.Sqrt(float64(c.cols)) * 4 / 254 / math.Sqrt(12)
			}
			var pack Packer
			var mul, other Multiplier
			out, second, alone := NewBatch(c.vecs, c.rows), NewBatch(c.vecs, c.rows), NewBatch(c.vecs, c.rows)
			mul.Mul(team, pack.Pack(nil, x, &m), Product{&m, out}, Product{&m, second})
			for i := range c.vecs {
				one := NewBatch(1, c.cols)
				one.Resize(1)
				copy(one.Vec(0), x.Vec(i))
				other.Mul(nil, pack.Pack(nil, one, &m), Product{&m, alone})
				if !slices.Equal(out.Vec(i), alone.Vec(0)) || !slices.Equal(second.Vec(i), alone.Vec(0)) {
					t.Errorf("%s %+v: vector %d has other products among others", kind, c, i)
				}
				for r, got := range out.Vec(i) {
					want := 0.0
					for j, v := range x.Vec(i) {
						want += float64(v) * float64(exact[r*c.cols+j])
					}
					if !(math.Abs(float64(got)-want) <= tolerance) {
						t.Fatalf("%s %+v: vector %d row %d is %g, want %g within %.2g", kind, c, i, r, got, want, tolerance)
					}
				}
			}
		}
	}
}

func TestSlices(t *testing.T) {
	m, exact := matrix(t, weights.F16, 6, 8, random(48, 4))
	s := m.Slice(1, 2, 3) // rows 1 and 4
	got := make([]float32, 8)
	for i, r := range []int{1, 4} {
		if s.Row(got, i); !slices.Equal(got, exact[8*r:8*r+8]) {
			t.Errorf("row %d of the slice is %v", i, got)
		}
	}
	if _, ok := s.Raw(); ok {
		t.Error("rows with others between them are said to lie in one piece")
	}
	if raw, ok := m.Slice(2, 3, 1).Raw(); !ok || len(raw) != 48 {
		t.Errorf("%d bytes, %v", len(raw), ok)
	}
}

func TestPackEdges(t *testing.T) {
	m, _ := matrix(t, weights.Q8_0, 1, 64, random(64, 1))
	x := NewBatch(1, 64)
	x.Resize(1)
	copy(x.Vec(0)[32:], []float32{-2, 2, 1, 0, 1e-9})
	var pack Packer
	p := pack.Pack(nil, x, &m)
	r := p.record(0, 0)
	if r.scale[0] != 0 || slices.ContainsFunc(r.q[:16], func(q int8) bool { return q != 0 }) {
		t.Errorf("a block of zeros became %g × %v", r.scale[0], r.q[:16])
	}
	if want := []int8{-127, 127, 64, 0, 0}; !slices.Equal(r.q[16:21], want) || r.scale[1] != 2.0/127 {
		t.Errorf("%v × %g, want %v", r.q[16:21], r.scale[1], want)
	}
	var mul Multiplier
	out := NewBatch(1, 1)
	for _, odd := range []float32{float32(math.NaN()), float32(math.Inf(1)), 1e-45} {
		x.Vec(0)[3] = odd
		mul.Mul(nil, pack.Pack(nil, x, &m), Product{&m, out})
		if y := out.Vec(0)[0]; (odd < 1) == (y != y) {
			t.Errorf("%g among the activations gives %g", odd, y)
		}
	}
}

func TestNewMatrixRefuses(t *testing.T) {
	data := make([]byte, 64)
	for _, c := range []struct {
		kind       weights.Type
		rows, cols int
		data       []byte
	}{{weights.F32, 2, 2, data[:15]}, {weights.F16, 2, 2, data[:9]}, {weights.Q8_0, 1, 33, data[:36]}, {weights.Q8_0, 1, 32, data[:33]}, {weights.MXFP4Split, 1, 32, data[:16]}} {
		if _, err := NewMatrix(c.kind, c.rows, c.cols, c.data, nil); err == nil {
			t.Errorf("%d × %d of type %s in %d bytes was accepted", c.rows, c.cols, c.kind, len(c.data))
		}
	}
	// Data that is not aligned is read all the same.
	FormatOf(weights.F32).Quantize(data[1:9], []float32{1.5, -2})
	m, err := NewMatrix(weights.F32, 1, 2, data[1:9], nil)
	if err != nil {
		t.Fatal(err)
	}
	got := make([]float32, 2)
	if m.Row(got, 0); got[0] != 1.5 || got[1] != -2 {
		t.Errorf("%v", got)
	}
}

func TestSplitCoversEveryRowOnce(t *testing.T) {
	for _, size := range []int{1, 2, 5} {
		team := NewTeam(size)
		for _, rows := range []int{0, 1, 2, 7, 100, 1001} {
			seen := make([]atomic.Int32, rows)
			team.Split(rows, shortWork, Func(func(worker, from, to int) {
				if worker >= size {
					t.Errorf("worker %d of %d", worker, size)
				}
				for i := from; i < to; i++ {
					seen[i].Add(1)
				}
			}))
			for i := range seen {
				if n := seen[i].Load(); n != 1 {
					t.Errorf("team of %d, %d rows: row %d was done %d times", size, rows, i, n)
				}
			}
		}
		team.Close()
	}
}

// Who splits work waits for rows that are being done, and not for helpers: while all helpers are held up elsewhere, the
// caller does everything, and comes back.
func TestSplitDoesNotWaitForHelpers(t *testing.T) {
	team := NewTeam(3)
	defer team.Close()
	release, held := make(chan struct{}), make(chan struct{})
	var once sync.Once
	go team.Split(3, shortWork, Func(func(worker, _, _ int) {
		if worker > 0 {
			once.Do(func() { close(held) })
			<-release
		} else {
			<-held // so that a helper gets something
		}
	}))
	<-held
	done := 0
	team.Split(100, shortWork, Func(func(_, from, to int) { done += to - from }))
	if done != 100 {
		t.Errorf("%d rows were done", done)
	}
	close(release)
}

// Several callers share a team without mixing up their work.
func TestSplitFromSeveralGoroutines(t *testing.T) {
	team := NewTeam(2)
	defer team.Close()
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 500 {
				var sum atomic.Int64
				team.Split(64, shortWork, Func(func(_, from, to int) { sum.Add(int64(to - from)) }))
				if sum.Load() != 64 {
					t.Errorf("%d rows were done", sum.Load())
				}
			}
		})
	}
	all.Wait()
}

// A panic in any goroutine of the team is one of the caller's, which comes when nobody writes any more; the team goes on.
func TestSplitPassesPanicsOn(t *testing.T) {
	team := NewTeam(2)
	defer team.Close()
	for _, guilty := range []int{0, 1, -1} {
		for range 50 {
			var running atomic.Int32
			func() {
				defer func() {
					var p *Panic
					err, _ := recover().(error)
					if !errors.As(err, &p) || p.Value != "broken" || len(p.Stack) == 0 {
						t.Errorf("recovered %v", err)
					}
					if n := running.Load(); n != 0 {
						t.Errorf("%d pieces are still being done", n)
					}
				}()
				team.Split(64, shortWork, Func(func(worker, from, _ int) {
					running.Add(1)
					defer running.Add(-1)
					if guilty < 0 && from == 0 || worker == guilty || from > 32 {
						panic("broken")
					}
					runtime.Gosched()
				}))
			}()
		}
	}
	// A file that was cut short meanwhile is a panic too, in the goroutine of a helper that reads it.
	file := filepath.Join(t.TempDir(), "weights")
	if err := os.WriteFile(file, make([]byte, 1<<16), 0o644); err != nil {
		t.Fatal(err)
	}
	mapped, err := weights.Map(file)
	if err != nil {
		t.Fatal(err)
	}
	defer mapped.Close()
	if err := os.Truncate(file, 0); err != nil {
		t.Fatal(err)
	}
	func() {
		defer func() {
			if err, _ := recover().(error); err == nil {
				t.Error("nothing is told of the fault")
			}
		}()
		read := make(chan struct{})
		team.Split(2, shortWork, Func(func(worker, _, _ int) {
			if worker == 0 {
				<-read
				return
			}
			defer close(read)
			sum := byte(0)
			for _, b := range mapped.Data {
				sum += b
			}
			t.Errorf("the sum of nothing is %d", sum)
		}))
	}()
	done := atomic.Int32{}
	team.Split(64, shortWork, Func(func(_, from, to int) { done.Add(int32(to - from)) }))
	if done.Load() != 64 {
		t.Errorf("after that %d of 64 rows are done", done.Load())
	}
}

func BenchmarkProduct(b *testing.B) {
	const rows, cols = 256, 4096
	for _, kind := range []weights.Type{weights.F32, weights.F16, weights.Q8_0, weights.Q4_0, weights.Q4_K, weights.Q6_K, weights.MXFP4} {
		for _, vecs := range []int{1, 16} {
			m, _ := matrix(b, kind, rows, cols, random(rows*cols, 1))
			x, out := NewBatch(vecs, cols), NewBatch(vecs, rows)
			x.Resize(vecs)
			copy(x.data, random(vecs*cols, 2))
			var pack Packer
			var mul Multiplier
			packed := pack.Pack(nil, x, &m)
			b.Run(kind.String()+map[int]string{1: "/1-vector", 16: "/16-vectors"}[vecs], func(b *testing.B) {
				b.SetBytes(m.Bytes())
				for b.Loop() {
					mul.Mul(nil, packed, Product{&m, out})
				}
				b.ReportMetric(rows*cols*float64(vecs)*float64(b.N)/b.Elapsed().Seconds()/1e9, "GMAC/s")
			})
		}
	}
}

// Short work is split as long as that saves time, and left alone when it does not, for longer each time; how long it takes
// alone is measured now and then.
func TestShortWorkIsLeftAlone(t *testing.T) {
	const work = 1 << 20
	var s solitude
	class := s.of(Func(nil), work)
	if !s.try(class) {
		t.Error("work whose time alone is not known is split")
	}
	class.took(work, time.Millisecond)
	measured := 0
	for range 10 * aloneOneIn {
		if s.try(class) {
			measured++
			class.took(work, time.Millisecond)
			continue
		}
		s.split(class, work, 600*time.Microsecond)
	}
	if measured != 10 {
		t.Errorf("%d of %d were done alone", measured, 10*aloneOneIn)
	}
	// What was saved makes up for one disturbance, but not for many.
	s.split(class, work, 4*time.Millisecond)
	if s.try(class) {
		t.Error("one disturbance stops splitting")
	}
	for range 4 {
		s.split(class, work, 4*time.Millisecond)
	}
	if !s.try(class) {
		t.Error("work is split though that takes four times as long")
	}
	before := s.pause
	s.until = time.Now().Add(-time.Millisecond)
	if s.try(class) {
		t.Error("it is not tried again")
	}
	s.split(class, work, 10*time.Millisecond)
	if s.pause != 2*before {
		t.Errorf("the second pause is %v, the first was %v", s.pause, before)
	}
	s.until = time.Now().Add(-time.Hour)
	s.split(class, work, 10*time.Millisecond)
	if s.pause != leastPause {
		t.Errorf("after a long time, the pause is %v", s.pause)
	}
	if other := s.of(&Packer{}, work); other == class || !s.try(other) {
		t.Error("work of another kind counts as known")
	}
}

// Bytes with four bits of exponent and three of mantissa are the numbers of their specification, times the scale of the 128 by 128 that they
// are in, also in slices of rows; and products are those of what they stand for.
func TestBytesOfFloats(t *testing.T) {
	for b, want := range map[byte]float32{0x00: 0, 0x01: 1.0 / 512, 0x07: 7.0 / 512, 0x08: 1.0 / 64, 0x38: 1, 0x3c: 1.5, 0x7e: 448, 0xb8: -1, 0xfe: -448} {
		if got := fromF8[b]; got != want {
			t.Errorf("byte %#x is %g, want %g", b, got, want)
		}
	}
	if fromF8[0x7f] == fromF8[0x7f] || fromF8[0xff] == fromF8[0xff] {
		t.Error("what is no number is one")
	}
	const rows, cols = 300, 200
	r := rand.New(rand.NewPCG(5, 6))
	data := make([]byte, rows*cols)
	for i := range data {
		if data[i] = byte(r.IntN(256)); data[i]&127 == 127 {
			data[i] = 0
		}
	}
	grid := weights.F8.Layout().Scales
	scales := make([]byte, grid.Size(rows, cols))
	at := func(row, col int) float32 { return 0.5 + float32(row/128)*2 + float32(col/128) }
	for i := range len(scales) / 4 {
		binary.LittleEndian.PutUint32(scales[4*i:], math.Float32bits(at(i/2*128, i%2*128)))
	}
	m, err := NewMatrix(weights.F8, rows, cols, data, scales)
	if err != nil {
		t.Fatal(err)
	}
	if m.Bytes() != int64(len(data)+len(scales)) {
		t.Errorf("it takes %d bytes", m.Bytes())
	}
	if _, err := NewMatrix(weights.F8, rows, cols, data, scales[4:]); err == nil {
		t.Error("a scale is missing")
	}
	raw, row := make([]byte, 4*rows*cols), make([]float32, cols)
	for i := range rows {
		for j := range row {
			row[j] = fromF8[data[i*cols+j]] * at(i, j)
		}
		FormatOf(weights.F32).Quantize(raw[4*i*cols:], row)
	}
	exact, err := NewMatrix(weights.F32, rows, cols, raw, nil)
	if err != nil {
		t.Fatal(err)
	}
	x := NewBatch(3, cols)
	x.Resize(3)
	copy(x.data, random(3*cols, 9))
	for _, s := range []struct{ from, n, step int }{{0, rows, 1}, {100, 60, 1}, {1, 149, 2}} {
		a, b := m.Slice(s.from, s.n, s.step).Slice(3, s.n-3, 1), exact.Slice(s.from, s.n, s.step).Slice(3, s.n-3, 1)
		got, want := NewBatch(3, a.Rows), NewBatch(3, a.Rows)
		var mul Multiplier
		var pack Packer
		mul.Mul(nil, pack.Pack(nil, x, &a), Product{&a, got})
		mul.Mul(nil, pack.Pack(nil, x, &b), Product{&b, want})
		if !slices.Equal(got.data, want.data) {
			t.Errorf("rows %+v: other products", s)
		}
	}
}

// Of several sizes of a team the least is chosen that brings about as much as any, reading and multiplying counting the same.
func TestWorth(t *testing.T) {
	for name, c := range map[string]struct {
		gains []Gain
		want  int
	}{
		"more is more":             {[]Gain{{8, 50, 4}, {16, 50, 5}}, 16},
		"second threads of a core": {[]Gain{{8, 50, 4}, {16, 51, 4.1}}, 8},
		"they are in the way":      {[]Gain{{8, 50, 4}, {16, 40, 4.2}}, 8},
		"one for another":          {[]Gain{{4, 20, 2}, {8, 40, 1}}, 4},
		"in any order":             {[]Gain{{16, 50, 4}, {4, 10, 1}, {8, 50, 4}}, 8},
	} {
		if got := Worth(c.gains); got != c.want {
			t.Errorf("%s: %d threads, want %d", name, got, c.want)
		}
	}
	gains := Gains([]int{1, 2})
	if len(gains) != 2 || gains[0].Read <= 0 || gains[1].Integer <= 0 || Worth(gains) < 1 {
		t.Errorf("measured: %+v", gains)
	}
}
