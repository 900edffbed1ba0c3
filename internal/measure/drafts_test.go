package measure

import (
	"fmt"
	"testing"

	"kindredgate/internal/engine"
	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
)

// BenchmarkDrafts is an answer of 200 tokens by made-up weights, which soon repeat themselves, with drafts and without.
func BenchmarkDrafts(b *testing.B) {
	c, err := Shapes[1].Checkpoint(weights.Q8_0)
	if err != nil {
		b.Fatal(err)
	}
	m, err := model.Load(c)
	if err != nil {
		b.Fatal(err)
	}
	definition, err := c.Tokenizer()
	if err != nil {
		b.Fatal(err)
	}
	tok, err := tokenizer.New(definition)
	if err != nil {
		b.Fatal(err)
	}
	team := tensor.NewTeam(0)
	defer team.Close()
	for _, drafts := range []bool{false, true} {
		e, err := engine.New(m, tok, engine.Options{Team: team, NoDrafts: !drafts})
		if err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprintf("drafts=%v", drafts), func(b *testing.B) {
			tokens, right := 0, 0
			for b.Loop() {
				for step, err := range e.Generate(b.Context(), engine.Job{Prompt: []int32{300, 301, 302}, MaxTokens: 200, NeverEnds: true}) {
					if err != nil {
						b.Fatal(err)
					}
					tokens++
					right += step.Accepted
				}
			}
			b.ReportMetric(float64(tokens)/b.Elapsed().Seconds(), "tokens/s")
			b.ReportMetric(float64(right)/float64(tokens), "drafted")
		})
		e.Close()
	}
}
