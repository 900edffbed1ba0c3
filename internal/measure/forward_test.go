package measure

import (
	"fmt"
	"testing"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights"
)

// BenchmarkForward is a step of so many tokens of one text.
func BenchmarkForward(b *testing.B) {
	for _, kind := range []weights.Type{weights.Q8_0, weights.Q4_0, weights.Q4_K} {
		c, err := Shapes[2].Checkpoint(kind)
		if err != nil {
			b.Fatal(err)
		}
		m, err := model.Load(c)
		if err != nil {
			b.Fatal(err)
		}
		team := tensor.NewTeam(0)
		defer team.Close()
		s := m.NewScratch(256, 1)
		cost := m.Cost()
		for _, n := range []int{1, 2, 4, 8, 16, 32, 64, 128, 256} {
			b.Run(fmt.Sprintf("%s/%d", kind, n), func(b *testing.B) {
				seq := kv.NewPool(m.KVLayers(), kv.F16, 1<<30).NewSequence(0)
				if err := seq.Reserve(n); err != nil {
					b.Fatal(err)
				}
				tokens := make([]model.Token, n)
				for i := range tokens {
					tokens[i] = model.Token{ID: int32(i), KV: seq}
				}
				tokens[n-1].Logits = true
				for b.Loop() {
					m.Forward(team, s, tokens)
					seq.Truncate(0)
					if err := seq.Reserve(n); err != nil {
						b.Fatal(err)
					}
				}
				per := b.Elapsed().Seconds() / float64(b.N)
				b.ReportMetric(float64(cost.Bytes)/per/1e9, "GB/s")
				b.ReportMetric(2*(float64(n)*float64(cost.Products-cost.OutputProducts)+float64(cost.OutputProducts))/per/1e9, "GOP/s")
			})
		}
	}
}
