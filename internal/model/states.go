package model

import (
	"math"

	"kindredgate/internal/tensor"
)

// states is the working memory of layers that carry a state. Each channel, or each head, goes through the tokens of a sequence one
// after the other, so that what it gives does not depend on what is read together.
type states struct {
	s       *Scratch
	layer   *layer
	begin   int // of the layer's state within that of the sequence
	x, out  *tensor.Batch
	do      func(w *stateWorker, r run, state []float32, from, to int)
	part    statePart
	pieces  int // into which channels or heads are divided
	size    int // of a piece
	whole   int
	workers []stateWorker
	rates   *tensor.Batch
	inputs  *tensor.Batch
}

// stateWorker is the working memory of one goroutine.
type stateWorker struct {
	row []float32
}

// spread works on all channels or heads, of which there are so many, in pieces of a size, each of which costs so much for a token.
func (st *states) spread(s *Scratch, number int, part statePart, whole, size, cost int, do func(w *stateWorker, r run, state []float32, from, to int)) {
	st.s, st.layer, st.begin = s, s.m.layers[number], s.m.layers[number].stateAt
	st.part = part
	st.whole, st.size, st.pieces, st.do = whole, size, (whole+size-1)/size, do
	for len(st.workers) < s.team.Size() {
		st.workers = append(st.workers, stateWorker{})
	}
	s.team.Split(len(s.runs)*st.pieces, cost*len(s.tokens)/len(s.runs), st)
}

// Do works on some pieces.
func (st *states) Do(number, from, to int) {
	w := &st.workers[number]
	for i := from; i < to; i++ {
		r, piece := st.s.runs[i/st.pieces], i%st.pieces
		numbers := st.layer.State.numbers()
		seq := st.s.tokens[r.from].KV
		state := seq.State()[st.begin:][:numbers]
		first, last := piece*st.size, min(st.whole, (piece+1)*st.size)
		if n, kept := seq.Coming(); kept != nil {
			// What others may go on from is what this part of the state is like after so many tokens.
			if at := r.from + n - st.s.positions[r.from]; at > r.from && at <= r.to {
				st.do(w, run{r.from, at}, state, first, last)
				for i := range st.part.rows {
					from := st.part.first + i*st.part.step + first*st.part.each
					copy(kept[st.begin+from:][:(last-first)*st.part.each], state[from:])
				}
				r.from = at
			}
		}
		if r.from < r.to {
			st.do(w, r, state, first, last)
		}
	}
}

// channelsAtATime are how many channels of a convolution are worked on together.
const channelsAtATime = 64

func (s *Scratch) convolve(number int, x slot) {
	st := &s.states
	st.x = s.at[x]
	st.spread(s, number, s.m.layers[number].State.taps(), st.x.Cols, channelsAtATime, 8*channelsAtATime, st.convolve)
}

// convolve is a causal convolution of each channel by itself over the last tokens, and SiLU.
func (st *states) convolve(w *stateWorker, r run, state []float32, from, to int) {
	l := st.layer
	for t := r.from; t < r.to; t++ {
		x := st.x.Vec(t)[from:to]
		w.step(l, state, x, from, to)
		if l.state.convBias != nil {
			tensor.Add(x, l.state.convBias[from:to])
		}
		tensor.Swish(x, ones[:len(x)], 1)
	}
}

// step replaces the values of some channels by the sum of the last ones, these being the newest, times their weights, and notes them. The
// state is [Taps−1][channels], the weights [Taps][channels].
func (w *stateWorker) step(l *layer, state, x []float32, from, to int) {
	all, n := l.State.channels(), to-from
	if len(w.row) < 2*n {
		w.row = make([]float32, 2*n)
	}
	sum, t := w.row[:n], w.row[n:2*n]
	clear(sum)
	last := l.State.Taps - 1
	for k := range last {
		before := state[k*all+from:][:n]
		tensor.Scale(t, before, l.state.conv[k*all+from:][:n], 1)
		tensor.Add(sum, t)
		if k+1 < last {
			copy(before, state[(k+1)*all+from:])
		} else {
			copy(before, x)
		}
	}
	tensor.Scale(t, x, l.state.conv[last*all+from:][:n], 1)
	tensor.Add(sum, t)
	copy(x, sum)
}

func (s *Scratch) shortConv(number int, dst, src slot) {
	st := &s.states
	st.x, st.out = s.at[src], s.at[dst]
	st.spread(s, number, s.m.layers[number].State.taps(), st.out.Cols, channelsAtATime, 8*channelsAtATime, st.shortConv)
}

// shortConv is C·conv(B·u), of the thirds B, C and u.
func (st *states) shortConv(w *stateWorker, r run, state []float32, from, to int) {
	l := st.layer
	n := l.State.Width
	for t := r.from; t < r.to; t++ {
		v, out := st.x.Vec(t), st.out.Vec(t)[from:to]
		tensor.Scale(out, v[from:to], v[2*n+from:2*n+to], 1)
		w.step(l, state, out, from, to)
		tensor.Scale(out, out, v[n+from:n+to], 1)
	}
}

// statePart is a part of a layer's state that lies in rows, in each of which each channel or head has so many numbers.
type statePart struct{ first, rows, step, each int }

// taps is the part that the convolution needs.
func (s *State) taps() statePart { return statePart{0, s.Taps - 1, s.channels(), 1} }

func (s *Scratch) scan(number int, dst slot) {
	st := &s.states
	spec := &s.m.layers[number].State
	st.x, st.out, st.rates = s.at[inner], s.at[dst], s.at[rates]
	if spec.Kind != Mamba2 {
		st.inputs = s.at[input]
	}
	first := spec.channels() * (spec.Taps - 1)
	switch spec.Kind {
	case Mamba:
		st.spread(s, number, statePart{first, 1, 0, spec.Size}, spec.Width, channelsAtATime, 4*channelsAtATime*spec.Size, st.mamba)
	case Mamba2:
		each := spec.Width / spec.Heads * spec.Size
		st.spread(s, number, statePart{first, 1, 0, each}, spec.Heads, 1, each/2, st.mamba2)
	case DeltaNet:
		each := spec.Width / spec.Heads * spec.Size
		st.spread(s, number, statePart{first, 1, 0, each}, spec.Heads, 1, each, st.delta)
	case NoState, ShortConv:
		panic("model: a scan without a state")
	}
}

// softplus is ln(1 + e^x).
func softplus(x float32) float32 {
	if x > 20 {
		return x
	}
	return float32(math.Log1p(float64(tensor.Exp(x))))
}

// mamba is S = e^(d·A)·S + d·u·B and y = S·C + D·u, for each channel, whose state S is a vector.
func (st *states) mamba(_ *stateWorker, r run, state []float32, from, to int) {
	l := st.layer
	n := l.State.Size
	all := state[l.State.channels()*(l.State.Taps-1):]
	for t := r.from; t < r.to; t++ {
		u, out, step, in := st.x.Vec(t), st.out.Vec(t), st.rates.Vec(t), st.inputs.Vec(t)
		b, c := in[:n], in[n:2*n]
		for i := from; i < to; i++ {
			d := softplus(step[i])
			du := float32(d * u[i])
			fade, s := l.state.fade[i*n:(i+1)*n], all[i*n:(i+1)*n]
			var y float32
			for j := range s {
				s[j] = float32(tensor.Exp(float32(d*fade[j]))*s[j]) + float32(du*b[j])
				y += float32(s[j] * c[j])
			}
			out[i] = y + float32(l.state.skip[i]*u[i])
		}
	}
}

// mamba2 is S = e^(d·A)·S + d·x·Bᵀ and y = S·C + D·x, for each head, whose state S has a row for each of its channels.
func (st *states) mamba2(w *stateWorker, r run, state []float32, from, to int) {
	l := st.layer
	s := &l.State
	n, channels, group := s.Size, s.Width/s.Heads, s.Heads/s.Groups
	all := state[s.channels()*(s.Taps-1):]
	if len(w.row) < channels {
		w.row = make([]float32, channels)
	}
	u := w.row[:channels]
	for h := from; h < to; h++ {
		for t := r.from; t < r.to; t++ {
			v, out := st.x.Vec(t), st.out.Vec(t)
			g := h / group * n
			b, c := v[s.Width+g:][:n], v[s.Width+s.Groups*n+g:][:n]
			d := softplus(st.rates.Vec(t)[h] + l.state.stepBias[h])
			fade := tensor.Exp(float32(d * l.state.fade[h]))
			x, y := v[h*channels:(h+1)*channels], out[h*channels:(h+1)*channels]
			for i, x := range x {
				u[i] = float32(d * x)
			}
			tensor.Recur(y, all[h*channels*n:], b, c, fade, u)
			tensor.Blend(y, x, 1, l.state.skip[h])
		}
	}
}

// delta is S = e^g·S, S += k·(β(v − Sᵀk))ᵀ and o = Sᵀq, for each head, whose state S has a row for each dimension of a value.
func (st *states) delta(w *stateWorker, r run, state []float32, from, to int) {
	l := st.layer
	s := &l.State
	n, dims, group := s.Size, s.Width/s.Heads, s.Heads/s.Groups
	all := state[s.channels()*(s.Taps-1):]
	if len(w.row) < 2*n+2*dims {
		w.row = make([]float32, 2*n+2*dims)
	}
	q, k, u, known := w.row[:n], w.row[n:2*n], w.row[2*n:2*n+dims], w.row[2*n+dims:2*n+2*dims]
	for h := from; h < to; h++ {
		for t := r.from; t < r.to; t++ {
			x, out := st.x.Vec(t), st.out.Vec(t)
			g := h / group * n
			direction(q, x[g:], float32(1/math.Sqrt(float64(n))))
			direction(k, x[s.Groups*n+g:], 1)
			v := x[2*s.Groups*n+h*dims:][:dims]
			fade := tensor.Exp(float32(l.state.fade[h] * softplus(st.rates.Vec(t)[h]+l.state.stepBias[h])))
			beta := sigmoid(st.inputs.Vec(t)[h])
			rows := all[h*dims*n : (h+1)*dims*n]
			tensor.Dots(known, rows, k)
			copy(u, v)
			tensor.Blend(u, known, 1, -fade)
			scaledExactly(u, beta)
			tensor.Recur(out[h*dims:(h+1)*dims], rows, k, q, fade, u)
		}
	}
}

// direction writes a vector of that length in the direction of x to dst.
func direction(dst, x []float32, length float32) {
	x = x[:len(dst)]
	scale := length / float32(math.Sqrt(float64(float32(tensor.Dot(x, x)+1e-6))))
	for i, v := range x {
		dst[i] = v * scale
	}
}
