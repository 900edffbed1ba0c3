package model

import (
	"fmt"
	"strings"
)

// Said says in words what layers attend to, how positions are rotated, and what is kept besides: one sentence for the layers that are the same.
func (s *Spec) Said() []string {
	var list []string
	count := map[string]int{}
	for i := range s.Layers {
		said := s.saidOf(&s.Layers[i])
		if said == "" {
			continue
		}
		if count[said] == 0 {
			list = append(list, said)
		}
		count[said]++
	}
	for i, said := range list {
		if n := count[said]; n < len(s.Layers) {
			list[i] = fmt.Sprintf("%d of %d layers: %s", n, len(s.Layers), said)
		}
	}
	if s.Predictor != nil {
		list = append(list, "a prediction head (MTP) guesses the token after the next one")
	}
	return list
}

var masks = map[Mask]string{MaskNone: "all positions", MaskWindow: "a window of %d positions", MaskChunk: "chunks of %d positions"}

var stateKinds = map[StateKind]string{ShortConv: "a short convolution", Mamba: "a state space (Mamba)", Mamba2: "a state space (Mamba 2)", DeltaNet: "a delta net"}

func (s *Spec) saidOf(l *LayerSpec) string {
	var parts []string
	if a := &l.Attention; a.Heads > 0 {
		said := masks[MaskNone]
		if a.Mask != MaskNone && a.Window < s.Context {
			said = fmt.Sprintf(masks[a.Mask], a.Window)
		}
		if a.Latent.Rank > 0 {
			said += fmt.Sprintf(", by a vector of %d", a.Latent.Rank+a.Latent.Rotated)
		}
		parts = append(parts, said+", "+s.saidRope(a))
		if a.Temper.By != 0 {
			parts = append(parts, fmt.Sprintf("sharper every %g positions", a.Temper.Every))
		}
		if a.Sinks {
			parts = append(parts, "with sinks")
		}
	}
	if l.State.Kind != NoState {
		parts = append(parts, stateKinds[l.State.Kind])
	}
	return strings.Join(parts, "; ")
}

// saidRope says how positions are rotated.
func (s *Spec) saidRope(a *Attention) string {
	if a.Rope < 0 {
		return "not rotated"
	}
	r := &s.Ropes[a.Rope]
	said := "rotated"
	if r.Dims < a.rotated() {
		said = fmt.Sprintf("%d of %d dimensions rotated", r.Dims, a.rotated())
	}
	if r.Scaling != "" {
		said += ", " + r.Scaling
		if r.Stretch > 0 {
			said += fmt.Sprintf(" ×%g", r.Stretch)
		}
	}
	for _, l := range r.Longer[:min(1, len(r.Longer))] {
		said += fmt.Sprintf(", otherwise beyond %d tokens", l.Beyond)
	}
	return said
}
