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

// BenchmarkForward is a step of so many tokens of one text: the median. Steps of one token are set beside the rate at which
// memory is read between them, median by median and best by best.
func BenchmarkForward(b *testing.B) {
	big := make([]byte, 256<<20)
	for i := range big { // so that each page is one of its own
		big[i] = byte(i)
	}
	for _, kind := range []weights.Type{weights.Q8_0, weights.Q4_0, weights.Q4_K} {
		for _, form := range []string{"file", "prepared"} {
			c, err := Shapes[2].Checkpoint(kind)
			if err != nil {
				b.Fatal(err)
			}
			m, err := model.Load(c)
			if err != nil {
				b.Fatal(err)
			}
			if form == "prepared" {
				f, err := prepared.Cache{Folder: b.TempDir(), Space: math.MaxInt64}.Make(b.Context(), m, "", func(int64) error { return nil })
				if err != nil {
					b.Fatal(err)
				}
				defer f.Close()
			}
			team := tensor.NewTeam(0)
			defer team.Close()
			s := m.NewScratch(256, 1)
			cost := m.Cost()
			for _, n := range []int{1, 2, 4, 8, 16, 32, 64, 128, 256} {
				b.Run(fmt.Sprintf("%s/%s/%d", kind, form, n), func(b *testing.B) {
					seq := kv.NewPool(m.KVShape(), kv.F16, 1<<30).NewSequence(0)
					if err := seq.Reserve(n); err != nil {
						b.Fatal(err)
					}
					tokens := make([]model.Token, n)
					for i := range tokens {
						tokens[i] = model.Token{ID: int32(i), KV: seq}
					}
					tokens[n-1].Logits = true
					var rates, steps []float64
					for b.Loop() {
						at := time.Now()
						m.Forward(team, s, tokens)
						steps = append(steps, time.Since(at).Seconds())
						if n == 1 {
							at := time.Now()
							team.Split(64, 1<<20, tensor.Func(func(_, from, to int) {
								tensor.ProbeRead(big[from<<22 : to<<22])
							}))
							rates = append(rates, float64(256<<20)/time.Since(at).Seconds()/1e9)
						}
						seq.Truncate(0)
						if err := seq.Reserve(n); err != nil {
							b.Fatal(err)
						}
					}
					slices.Sort(steps)
					per := steps[len(steps)/2]
					if n == 1 {
						slices.Sort(rates)
						b.ReportMetric(float64(cost.Bytes)/per/1e9/rates[len(rates)/2], "of-median-read")
						b.ReportMetric(float64(cost.Bytes)/steps[0]/1e9/rates[len(rates)-1], "of-best-read")
						b.ReportMetric(rates[len(rates)/2], "read-GB/s")
					}
					b.ReportMetric(float64(cost.Bytes)/per/1e9, "GB/s")
					b.ReportMetric(2*(float64(n)*float64(cost.Products-cost.OutputProducts)+float64(cost.OutputProducts))/per/1e9, "GOP/s")
				})
			}
		}
	}
}

// BenchmarkShapes is a step of one token, and one of 256, of networks of each kind: the median, and how much of what is multiplied with
// weights that is in a second, so that kinds can be set beside llama of the same arithmetic.
func BenchmarkShapes(b *testing.B) {
	for _, shape := range Shapes {
		if shape.Name == "3b" || shape.Name == "tiny" {
			continue
		}
		b.Run(shape.Name, func(b *testing.B) {
			c, err := shape.Checkpoint(weights.Q4_0)
			if err != nil {
				b.Fatal(err)
			}
			defer c.Close()
			m, err := model.Load(c)
			if err != nil {
				b.Fatal(err)
			}
			team := tensor.NewTeam(0)
			defer team.Close()
			s := m.NewScratch(256, 1)
			cost := m.Cost()
			for _, n := range []int{1, 256} {
				b.Run(fmt.Sprint(n), func(b *testing.B) {
					seq := kv.NewPool(m.KVShape(), kv.F16, 1<<30).NewSequence(0)
					tokens := make([]model.Token, n)
					for i := range tokens {
						tokens[i] = model.Token{ID: int32(i), KV: seq}
					}
					tokens[n-1].Logits = true
					var steps []float64
					for b.Loop() {
						seq.Truncate(0)
						if err := seq.Reserve(n); err != nil {
							b.Fatal(err)
						}
						at := time.Now()
						m.Forward(team, s, tokens)
						steps = append(steps, time.Since(at).Seconds())
					}
					slices.Sort(steps)
					per := steps[len(steps)/2]
					b.ReportMetric(float64(cost.Bytes)/per/1e9, "GB/s")
					b.ReportMetric(2*(float64(n)*float64(cost.Products-cost.OutputProducts)+float64(cost.OutputProducts))/per/1e9, "GOP/s")
					b.ReportMetric(float64(n)/per, "tokens/s")
				})
			}
		})
	}
}
