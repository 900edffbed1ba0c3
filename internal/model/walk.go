package model

// The walk is the one place that says in which order the operations of a network follow each other. It gives them to a
// machine: the processor (processor.go) carries them out as they come; others add up what they take.

// slot is a number of vectors of a step, one for each of some tokens.
type slot int

// The slots. What one holds is good until something else is written there.
const (
	stream slot = iota // [Dim], the residual stream
	normed             // [Dim]
	mixed              // [Dim], what a part of a layer gives
	side               // [Dim], what runs beside it gives
	query
	key
	value
	attended
	wide  // what a matrix gives that is several things
	inner // what goes through a convolution
	gates // by which what a mixer gives is gated
	rates // time steps, or how fast a state fades
	input // what a state space takes in, B, and gives out, C
	hiddenGate
	hiddenUp
	scores    // of the experts
	expertIn  // [Dim], of the tokens that go to one expert
	expertOut // [Dim]
	one       // [1]
	ahead     // [2·Dim], of the prediction head: the next token and what the network gives
	perLayer  // what each layer adds to each token (AltUp)
	laurel    // of a low rank (AltUp)
	streams   // the first of those beside the first (AltUp)
	slots     = streams + maxStreams - 1
)

// heads are parts of the vectors of a slot, of the same size and evenly apart.
type heads struct{ from, size, step, count int }

// product is a matrix and where what it gives goes.
type product struct {
	w   *linear
	dst slot
}

// part is a part of each group of elements of a vector and where it goes, those of all groups one after the other.
type part struct {
	dst   slot
	width int // in a group
}

// machine carries out the operations of a step. A slot that is written to gets as many vectors as what it is made of.
type machine interface {
	// shape gives dst vectors of that width, as many as src has.
	shape(dst, src slot, width int)
	// multiply sets dst to w × src, and its bias added.
	multiply(src slot, w *linear, dst slot)
	multiplyAll(src slot, list []product)
	// multiplyHeads multiplies each head of src with a matrix of its own.
	multiplyHeads(dst slot, to heads, src slot, from heads, w []linear)
	copyHeads(dst slot, to heads, src slot, from heads)
	// distribute takes vectors apart that consist of groups of parts.
	distribute(src slot, groups int, parts []part)

	normalize(dst, src slot, n *norm)
	// normalizeHeads normalizes each head by itself, with a weight that is the same for all or goes on from head to head.
	normalizeHeads(x slot, at heads, n *norm)
	rotate(x slot, at heads, rope int)
	temper(x slot, t *Temper)
	// put keeps keys and values of a layer, and attend attends to those that a layer keeps.
	put(layer int, key, value slot)
	attend(layer, kept int, dst, query slot)

	// deepen adds what pictures add behind a layer.
	deepen(layer int)

	// convolve carries a layer's convolution on over x, in place, and then SiLU.
	convolve(layer int, x slot)
	// shortConv does so over a product of two thirds of src, and multiplies with the last third.
	shortConv(layer int, dst, src slot)
	// scan carries a layer's state on over the inner slot, and sets dst to what it gives.
	scan(layer int, dst slot)

	// activate sets gate to its activation times up or, if there is no gate, up to its activation.
	activate(l *layer, gate, up slot)
	// swish sets gate to gate·σ(gate)·x, and sigmoid multiplies x with σ(gate); a gate of one element is for the whole vector.
	swish(gate, x slot)
	sigmoid(x, gate slot)
	// scale multiplies with a number, elements from ≤ i < to, or all if to is 0. Nothing happens where the number is 0.
	scale(x slot, from, to int, by float32)
	add(dst, src slot)

	// route chooses experts by their scores and clears dst. gather sets in to the vectors of src that go to an expert, unless there
	// are none; then it is false. scatter adds to dst what the expert made of them.
	route(l *layer, dst slot)
	gather(l *layer, expert int, in, src slot) bool
	scatter(l *layer, dst, out slot)

	altUp
}

// walk gives a machine the operations of all layers.
func (m *Model) walk(c machine) {
	if m.AltUp.Streams > 0 {
		m.walkStreams(c)
		return
	}
	for i := range m.Layers {
		m.step(c, i)
		m.deepen(c, i)
	}
}

// step gives a machine the operations of a layer.
func (m *Model) step(c machine, i int) {
	l := m.layers[i]
	if l.Order == Parallel {
		c.normalize(normed, stream, &l.mixerNorm)
		m.mix(c, i, normed, mixed)
		m.feed(c, l, normed, side)
		c.add(mixed, side)
		c.add(stream, mixed)
		return
	}
	if l.mixes() {
		in := stream
		if !l.Bare {
			in = m.enter(c, l, &l.mixerNorm)
		}
		m.mix(c, i, in, mixed)
		m.leave(c, l, &l.postMixer, &l.mixerNorm)
	}
	if l.FeedForward.Width > 0 {
		m.feed(c, l, m.enter(c, l, &l.feedForwardNorm), mixed)
		m.leave(c, l, &l.postFeedForward, &l.feedForwardNorm)
	}
}

func (m *Model) deepen(c machine, layer int) {
	if layer < m.Deep {
		c.deepen(layer)
	}
}

// mixes reports whether a layer has a mixer.
func (l *LayerSpec) mixes() bool { return l.Attention.Heads > 0 || l.State.Kind != NoState }

// enter gives what a part of a layer begins with.
func (m *Model) enter(c machine, l *layer, before *norm) slot {
	if !l.Order.before() {
		return stream
	}
	c.normalize(normed, stream, before)
	return normed
}

// leave adds what a part of a layer gives to the residual stream.
func (m *Model) leave(c machine, l *layer, post, sum *norm) {
	if l.Order.after() {
		c.normalize(mixed, mixed, post)
	}
	c.add(stream, mixed)
	if l.Order == NormSum {
		c.normalize(stream, stream, sum)
	}
}

// mix sets out to what the mixer of a layer gives.
func (m *Model) mix(c machine, i int, in, out slot) {
	l := m.layers[i]
	switch {
	case l.State.Kind == NoState:
		m.attend(c, i, in, out)
	case l.Attention.Heads == 0:
		m.remember(c, i, in, out)
	default:
		m.remember(c, i, in, side)
		m.attend(c, i, in, out)
		c.add(out, side)
	}
}

func (m *Model) attend(c machine, i int, in, out slot) {
	l := m.layers[i]
	a := &l.Attention
	if a.Latent.Rank > 0 {
		m.attendLatent(c, i, in, out)
		return
	}
	m.project(c, i, in)
	kept := i
	if a.From >= 0 {
		kept = a.From
	}
	m.conclude(c, i, kept, out)
}

// project makes queries, and keys and values, which it puts where they are kept.
func (m *Model) project(c machine, i int, in slot) {
	l := m.layers[i]
	a, w := &l.Attention, &l.attention
	c.multiplyAll(in, w.inputs)
	if a.Gated {
		c.distribute(wide, a.Heads, w.gated[:])
	}
	q, k := heads{0, a.HeadDim, a.HeadDim, a.Heads}, heads{0, a.HeadDim, a.HeadDim, a.KVHeads}
	m.align(c, a, query, q, &w.queryNorm)
	if a.Temper.By != 0 {
		c.temper(query, &a.Temper)
	}
	if a.From >= 0 {
		return
	}
	m.align(c, a, key, k, &w.keyNorm)
	if a.ValueNorm {
		c.normalizeHeads(value, heads{0, a.ValueDim, a.ValueDim, a.KVHeads}, &m.plain)
	}
	c.put(m.kept(i), key, value)
}

// conclude attends with the queries to what a layer keeps, and sets out to what comes of it.
func (m *Model) conclude(c machine, i, kept int, out slot) {
	l := m.layers[i]
	a, w := &l.Attention, &l.attention
	c.shape(attended, query, a.Heads*a.ValueDim)
	c.attend(i, m.kept(kept), attended, query)
	if a.Gated {
		c.sigmoid(attended, gates)
	}
	c.multiply(attended, &w.out, out)
	c.scale(out, 0, 0, a.Out)
}

// align normalizes and rotates queries or keys.
func (m *Model) align(c machine, a *Attention, x slot, at heads, n *norm) {
	switch a.QKNorm {
	case HeadQKNorm, EachQKNorm:
		c.normalizeHeads(x, at, n)
	case FullQKNorm:
		c.normalize(x, x, n)
	case NoQKNorm, RotatedQKNorm, PlainQKNorm:
	}
	if a.Rope < 0 {
		return
	}
	c.rotate(x, at, a.Rope)
	switch a.QKNorm {
	case RotatedQKNorm:
		c.normalizeHeads(x, at, n)
	case PlainQKNorm:
		c.normalizeHeads(x, at, &m.plain)
	case NoQKNorm, HeadQKNorm, EachQKNorm, FullQKNorm:
	}
}

// kept is the layer under which keys and values are kept.
func (m *Model) kept(i int) int {
	if m.Embeds() {
		return 0
	}
	return i
}

// attendLatent brings queries to the vector that keys and values are worked out of, attends to that, and works the values
// out of what comes of it.
func (m *Model) attendLatent(c machine, i int, in, out slot) {
	l := m.layers[i]
	a, q, w := &l.Attention, &l.Attention.Latent, &l.attention
	if q.QueryRank > 0 {
		c.multiplyAll(in, w.inputs)
		c.normalize(inner, inner, &w.queryNorm)
		c.multiply(inner, &w.query, wide)
	} else {
		c.multiplyAll(in, w.inputs)
	}
	c.normalizeHeads(key, heads{0, q.Rank, q.Rank, 1}, &w.keyNorm)
	size := q.Plain + q.Rotated
	rotated := heads{q.Plain, q.Rotated, size, a.Heads}
	if a.Rope >= 0 {
		c.rotate(key, heads{q.Rank, q.Rotated, q.Rotated, 1}, a.Rope)
		c.rotate(wide, rotated, a.Rope)
	}
	c.shape(query, in, a.Heads*a.HeadDim)
	c.multiplyHeads(query, heads{0, q.Rank, a.HeadDim, a.Heads}, wide, heads{0, q.Plain, size, a.Heads}, w.keyUp)
	c.copyHeads(query, heads{q.Rank, q.Rotated, a.HeadDim, a.Heads}, wide, rotated)
	if a.Temper.By != 0 {
		c.temper(query, &a.Temper)
	}
	c.put(i, key, key)
	c.shape(attended, in, a.Heads*q.Rank)
	c.attend(i, i, attended, query)
	c.shape(value, in, a.Heads*q.Value)
	c.multiplyHeads(value, heads{0, q.Value, q.Value, a.Heads}, attended, heads{0, q.Rank, q.Rank, a.Heads}, w.valueUp)
	c.multiply(value, &w.out, out)
	c.scale(out, 0, 0, a.Out)
}

// remember carries a layer's state on.
func (m *Model) remember(c machine, i int, in, out slot) {
	l := m.layers[i]
	s, w := &l.State, &l.state
	switch s.Kind {
	case ShortConv:
		c.multiply(in, &w.in, wide)
		c.shape(gates, in, s.Width)
		c.shortConv(i, gates, wide)
	case Mamba:
		c.multiply(in, &w.in, wide)
		c.distribute(wide, 1, w.parts)
		c.convolve(i, inner)
		c.multiply(inner, &w.params, wide)
		c.distribute(wide, 1, w.paramParts)
		c.normalize(one, one, &w.stepNorm)
		c.normalizeHeads(input, heads{0, s.Size, s.Size, 1}, &w.inNorm)
		c.normalizeHeads(input, heads{s.Size, s.Size, s.Size, 1}, &w.outNorm)
		c.multiply(one, &w.step, rates)
		c.shape(attended, in, s.Width)
		c.scan(i, attended)
		c.swish(gates, attended)
	case Mamba2:
		c.multiply(in, &w.in, wide)
		c.distribute(wide, 1, w.parts)
		at := 0
		for j, width := range []int{s.Width, s.Groups * s.Size, s.Groups * s.Size} {
			c.scale(inner, at, at+width, s.In[1+j])
			at += width
		}
		c.scale(gates, 0, 0, s.In[0])
		c.scale(rates, 0, 0, s.In[4])
		c.convolve(i, inner)
		c.shape(attended, in, s.Width)
		c.scan(i, attended)
		c.swish(gates, attended)
		if s.Norm == GroupNorm {
			size := s.Width / s.Groups
			c.normalizeHeads(gates, heads{0, size, size, s.Groups}, &w.norm)
		}
	case DeltaNet:
		c.multiplyAll(in, w.inputs)
		if s.ByHead {
			c.distribute(wide, s.Groups, w.parts)
		}
		if w.paramParts != nil {
			c.distribute(one, s.Groups, w.paramParts)
		}
		c.convolve(i, inner)
		c.shape(attended, in, s.Width)
		c.scan(i, attended)
		size := s.Width / s.Heads
		c.normalizeHeads(attended, heads{0, size, size, s.Heads}, &w.norm)
		c.swish(gates, attended)
	case NoState:
	}
	c.multiply(gates, &w.out, out)
	c.scale(out, 0, 0, s.Out)
}

// feed sets out to what the feed-forward network of a layer gives.
func (m *Model) feed(c machine, l *layer, in, out slot) {
	f, e := &l.FeedForward, &l.FeedForward.Experts
	if e.Count == 0 {
		m.hidden(c, l, &l.feedForward[0], in, out)
		c.scale(out, 0, 0, f.Out)
		return
	}
	c.multiply(in, &l.router, scores)
	c.shape(out, in, m.Dim)
	c.route(l, out)
	for n := range l.feedForward {
		if c.gather(l, n, expertIn, in) {
			m.hidden(c, l, &l.feedForward[n], expertIn, expertOut)
			c.scatter(l, out, expertOut)
		}
	}
	if e.Shared > 0 {
		m.hidden(c, l, &l.shared, in, expertOut)
		if e.SharedGated {
			c.multiply(in, &l.sharedGate, one)
			c.sigmoid(expertOut, one)
		}
		c.add(out, expertOut)
	}
	c.scale(out, 0, 0, f.Out)
}

// hidden sets out to down(activation of gate and up of in) (Shazeer, "GLU Variants Improve Transformer", 2020, if there is a
// gate).
func (m *Model) hidden(c machine, l *layer, f *mlp, in, out slot) {
	c.multiplyAll(in, f.inputs)
	if !l.FeedForward.Gated {
		c.activate(l, hiddenUp, hiddenUp)
		c.multiply(hiddenUp, &f.down, out)
		return
	}
	c.scale(hiddenGate, 0, 0, l.FeedForward.GateScale)
	c.activate(l, hiddenGate, hiddenUp)
	c.multiply(hiddenGate, &f.down, out)
}
