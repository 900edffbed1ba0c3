package model

import "kindredgate/internal/weights"

// The phi3 family is llama with queries, keys and values in one matrix, gate and up in another, and rotations of part of
// each head that change with the length of the sequence. GGUF files have the factors of these as tensors.
func init() { register(family{spec: phi3, gguf: "phi3"}, "phi3") }

func phi3(c *weights.Checkpoint, s *Spec) error {
	r := &c.Hyper.Rope
	if c.Layout == "GGUF" {
		dims := r.Dims
		if dims == 0 {
			dims = c.Hyper.HeadDim
		}
		if _, ok := c.Find("rope_factors_long.weight"); ok {
			r.Scaling = "longrope"
			for name, to := range map[string]*[]float64{"rope_factors_short.weight": &r.Short, "rope_factors_long.weight": &r.Long} {
				factors, err := floats(c, name, dims/2)
				if err != nil {
					return err
				}
				*to = make([]float64, dims/2)
				for i := range *to {
					(*to)[i] = 1 // as far as the header alone tells
				}
				for i, f := range factors {
					(*to)[i] = float64(f)
				}
			}
		}
	}
	return s.rotate(c)
}
