package model

import (
	"errors"
	"fmt"
	"testing"

	"kindredgate/internal/tensor"
	"kindredgate/internal/vision"
	"kindredgate/internal/weights"
)

// BenchmarkTower is one picture of 896 × 896 pixels through a tower of published size, with fewer layers, of weights as they are published and in bytes.
func BenchmarkTower(b *testing.B) {
	const layers = 3
	for _, kind := range []weights.Type{weights.BF16, weights.F16, weights.Q8_0} {
		facts := map[string]any{"model_type": "gemma3", "vision_config.hidden_size": 1152.0, "vision_config.num_attention_heads": 16.0, "vision_config.num_hidden_layers": float64(layers),
			"vision_config.intermediate_size": 4304.0, "vision_config.patch_size": 14.0, "vision_config.image_size": 896.0, "vision_config": map[string]any{}, "mm_tokens_per_image": 256.0}
		c := &weights.Checkpoint{Layout: "safetensors", Architecture: "gemma3_text", Whole: weights.Facts{Lookup: func(n string) (any, bool) { v, ok := facts[n]; return v, ok }}}
		for {
			c.Index()
			_, err := DescribeTower(c, 2560)
			var m *missingError
			if !errors.As(err, &m) {
				if err != nil {
					b.Fatal(err)
				}
				break
			}
			t := kind
			if len(m.shape) == 1 || !tensor.Usable(kind, m.shape[len(m.shape)-1]) {
				t = weights.F32
			}
			if _, whole := t.RowBytes(m.shape[len(m.shape)-1]); !whole {
				t = weights.F16
			}
			n := 1
			for _, s := range m.shape {
				n *= s
			}
			size, err := t.Size(m.shape)
			if err != nil {
				b.Fatal(err)
			}
			data := make([]byte, size)
			values := make([]float32, n)
			for i := range values {
				values[i] = float32(i%17-8) / 400
			}
			tensor.FormatOf(t).Quantize(data, values)
			c.Tensors = append(c.Tensors, weights.Tensor{Name: m.name, Type: t, Shape: m.shape, Data: data})
		}
		tower, err := LoadTower(c, 2560)
		if err != nil {
			b.Fatal(err)
		}
		team := tensor.NewTeam(0)
		defer team.Close()
		pixels := make([]byte, 3*896*896)
		for i := range pixels {
			pixels[i] = byte(i * i >> 7)
		}
		b.Run(fmt.Sprint(kind), func(b *testing.B) {
			for b.Loop() {
				if _, err := tower.See(b.Context(), team, pixels, vision.Plan{Width: 896, Height: 896, ReadWidth: 896, ReadHeight: 896, Rows: 16, Columns: 16}, nil); err != nil {
					b.Fatal(err)
				}
			}
			per := b.Elapsed().Seconds() / float64(b.N)
			products := 4096.0 * layers * 2 * (4*1152*1152 + 2*1152*4304)
			attention := 4096.0 * layers * 2 * 2 * 4096 * 1152
			b.ReportMetric(per/layers, "s/layer")
			b.ReportMetric((products+attention)/per/1e9, "GOP/s")
		})
	}
}
