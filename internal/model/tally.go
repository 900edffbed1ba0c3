package model

import "kindredgate/internal/tensor"

// nothing is a machine that does nothing. Those that only look at some operations build on it.
type nothing struct{}

func (nothing) shape(_, _ slot, _ int)                                     {}
func (nothing) multiply(_ slot, _ *linear, _ slot)                         {}
func (nothing) multiplyAll(_ slot, _ []product)                            {}
func (nothing) multiplyHeads(_ slot, _ heads, _ slot, _ heads, _ []linear) {}
func (nothing) copyHeads(_ slot, _ heads, _ slot, _ heads)                 {}
func (nothing) distribute(_ slot, _ int, _ []part)                         {}
func (nothing) normalize(_, _ slot, _ *norm)                               {}
func (nothing) normalizeHeads(_ slot, _ heads, _ *norm)                    {}
func (nothing) rotate(_ slot, _ heads, _ int)                              {}
func (nothing) temper(_ slot, _ *Temper)                                   {}
func (nothing) put(_ int, _, _ slot)                                       {}
func (nothing) attend(_, _ int, _, _ slot)                                 {}
func (nothing) deepen(_ int)                                               {}
func (nothing) convolve(_ int, _ slot)                                     {}
func (nothing) shortConv(_ int, _, _ slot)                                 {}
func (nothing) scan(_ int, _ slot)                                         {}
func (nothing) activate(_ *layer, _, _ slot)                               {}
func (nothing) swish(_, _ slot)                                            {}
func (nothing) sigmoid(_, _ slot)                                          {}
func (nothing) scale(_ slot, _, _ int, _ float32)                          {}
func (nothing) add(_, _ slot)                                              {}
func (nothing) route(_ *layer, _ slot)                                     {}
func (nothing) gather(_ *layer, _ int, _, _ slot) bool                     { return true }
func (nothing) scatter(_ *layer, _, _ slot)                                {}
func (nothing) match(_, _ slot)                                            {}
func (nothing) tanh(_ slot)                                                {}
func (nothing) predict(_ slot)                                             {}
func (nothing) correct(_, _ slot)                                          {}
func (nothing) weigh(_ slot, _ []float32)                                  {}
func (nothing) addRows(_ slot, _ *tensor.Matrix, _ float32)                {}
func (nothing) takeLayer(_ slot, _ int)                                    {}
func (nothing) gelu(_, _ slot)                                             {}

// widths is a machine that finds out how wide slots have to be.
type widths struct {
	nothing
	most     [slots]int
	perLayer int // of a layer (AltUp)
}

func (w *widths) need(s slot, width int) { w.most[s] = max(w.most[s], width) }

func (w *widths) shape(dst, _ slot, width int)              { w.need(dst, width) }
func (w *widths) multiply(_ slot, m *linear, dst slot)      { w.need(dst, m.Rows) }
func (w *widths) normalize(dst, src slot, _ *norm)          { w.need(dst, w.most[src]) }
func (w *widths) gather(_ *layer, _ int, in, src slot) bool { w.need(in, w.most[src]); return true }
func (w *widths) takeLayer(dst slot, _ int)                 { w.need(dst, w.perLayer) }
func (w *widths) multiplyAll(_ slot, list []product) {
	for _, p := range list {
		w.need(p.dst, p.w.Rows)
	}
}

func (w *widths) distribute(_ slot, groups int, parts []part) {
	var sum [slots]int
	for _, p := range parts {
		sum[p.dst] += groups * p.width
		w.need(p.dst, sum[p.dst])
	}
}

// widths are how wide the slots of a network are.
func (m *Model) widths() [slots]int {
	w := widths{perLayer: m.AltUp.PerLayer}
	for _, s := range []slot{stream, normed, mixed} {
		w.need(s, m.Dim)
	}
	for i := range max(0, m.AltUp.Streams-1) {
		w.need(streams+slot(i), m.Dim)
	}
	m.walk(&w)
	if m.predictor != nil {
		w.need(ahead, 2*m.Dim)
		m.step(&w, len(m.Layers))
	}
	return w.most
}

// matrices is a machine that lists what activations are multiplied with.
type matrices struct {
	nothing
	give  func(w *tensor.Matrix, share float64)
	share float64 // of the tokens that come by
}

func (t *matrices) multiply(_ slot, w *linear, _ slot) { t.give(&w.Matrix, t.share) }

func (t *matrices) multiplyAll(_ slot, list []product) {
	for _, p := range list {
		t.give(&p.w.Matrix, t.share)
	}
}

func (t *matrices) multiplyHeads(_ slot, _ heads, _ slot, _ heads, w []linear) {
	for i := range w {
		t.give(&w[i].Matrix, t.share)
	}
}

func (t *matrices) gather(l *layer, _ int, _, _ slot) bool {
	t.share = float64(l.FeedForward.Experts.Used) / float64(l.FeedForward.Experts.Count)
	return true
}

func (t *matrices) scatter(*layer, slot, slot) { t.share = 1 }
