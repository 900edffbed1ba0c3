package measure

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/prepared"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// BenchmarkAfter is a step of some tokens after so many of the same text, which were read before: the median, on the 1b shape. What a
// longer history costs is attention alone.
func BenchmarkAfter(b *testing.B) {
	c, err := Shapes[2].Checkpoint(weights.Q8_0)
	if err != nil {
		b.Fatal(err)
	}
	m, err := model.Load(c)
	if err != nil {
		b.Fatal(err)
	}
	f, err := prepared.Cache{Folder: b.TempDir(), Space: math.MaxInt64}.Make(b.Context(), m, "", func(int64) error { return nil })
	if err != nil {
		b.Fatal(err)
	}
	defer f.Close()
	team := tensor.NewTeam(0)
	defer team.Close()
	s := m.NewScratch(256, 1)
	for format, name := range map[kv.Format]string{kv.F16: "f16", kv.Q8: "q8"} {
		for _, size := range []struct{ n, after int }{{1, 0}, {1, 2000}, {1, 8000}, {50, 0}, {50, 2000}, {256, 0}, {256, 2000}, {256, 7744}} {
			b.Run(fmt.Sprintf("%s/%d-after-%d", name, size.n, size.after), func(b *testing.B) {
				seq := kv.NewPool(m.KVShape(), format, 1<<30).NewSequence(0)
				defer seq.Release()
				if err := seq.Reserve(size.n + size.after); err != nil {
					b.Fatal(err)
				}
				dims := 0
				for _, l := range m.KVShape().Layers {
					dims = max(dims, l.KVHeads*l.KeyDim)
				}
				some := make([]float32, dims)
				for i := range some {
					some[i] = float32(i%17)/17 - 0.5
				}
				for pos := range size.after { // what is kept, whatever it was made of
					seq.Append(int32(pos % 1000))
					for layer := range m.KVShape().Layers {
						seq.Put(layer, pos, some, some)
					}
				}
				tokens := make([]model.Token, size.n)
				for i := range tokens {
					tokens[i] = model.Token{ID: int32(i), KV: seq}
				}
				tokens[size.n-1].Logits = true
				var steps []float64
				for b.Loop() {
					at := time.Now()
					m.Forward(team, s, tokens)
					steps = append(steps, time.Since(at).Seconds())
					seq.Truncate(size.after)
					if err := seq.Reserve(size.n + size.after); err != nil {
						b.Fatal(err)
					}
				}
				slices.Sort(steps)
				b.ReportMetric(1000*steps[len(steps)/2], "ms-median")
			})
		}
	}
}
