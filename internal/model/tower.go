package model

import (
	"context"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"

	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
	"kindredgate/internal/vision"
	"kindredgate/internal/weights"
)

// A tower makes of a picture the rows that stand in the place of embeddings in a text model (Dosovitskiy et al., "An Image is Worth 16x16
// Words", 2020): patches become vectors, which go through layers as those of an encoder do, and a projector brings what comes out to the
// text model's width. towers.go says of each family what it has.

// TowerSpec describes a tower and its projector.
type TowerSpec struct {
	Kind  string
	Rule  vision.Rule
	Out   int // width of the text model
	Whole bool
	// Deep are the layers behind which rows are made that are added to the text model's first layers, the first of them to the first.
	Deep []int

	spec     Spec // the layers, with a rotation by row and column, if there is one
	frames   int  // of the same picture that a patch consists of
	class    bool // a row of its own comes first, and is left out at the end
	table    int  // positions in the table; 0 if there is none
	stretch  int  // the side of the table, if positions are looked up between its places
	before   bool // there is a norm before the layers
	after    bool // and one behind them
	window   int  // patches of the side of a window; 0 for none
	full     func(layer int) bool
	join     joinForm
	joinNorm NormKind
	epsilon  float32 // of the projector's norm
	deepName []int   // by which numbers files call what makes the rows of each level
}

// joinForm is how rows of patches become rows of the text model.
type joinForm int

// The forms.
const (
	joinEach     joinForm = iota // each by itself, through two layers
	joinPooled                   // squares are averaged, normalized, and multiplied with one matrix
	joinAll                      // each is normalized, and those of a square are put one after the other
	joinChannels                 // the same, channel by channel, and brought back to the tower's width first
)

// Tower is a tower with its weights. It is immutable and may be shared.
type Tower struct {
	TowerSpec
	m             *Model
	patch         linear // [Dim][3*Patch*Patch], with zeros up to what kernels take
	classRow      []float32
	positions     tensor.Matrix // [table][Dim]
	before, after norm
	joined        joiner
	deep          []joiner
}

// joiner makes rows of the text model.
type joiner struct {
	norm                 norm
	whole                bool // the norm is of those that were put together
	merge, first, second linear
}

// Rows are what a tower makes of a picture.
type Rows struct {
	Plan  vision.Plan
	Width int
	Main  []float32   // [Plan.Tokens()][Width]
	Deep  [][]float32 // the same, for each of the first layers of the text model
}

// Bytes is what rows take.
func (r *Rows) Bytes() int64 { return 4 * int64(len(r.Main)) * int64(1+len(r.Deep)) }

// towerRows is how many patches are worked on at a time.
const towerRows = 256

// Cells are the patches of a plan.
func (t *Tower) patches(p *vision.Plan) (rows, columns int) {
	return p.Rows * t.Rule.Merge, p.Columns * t.Rule.Merge
}

// WorkBytes is about what looking at a picture takes.
func (t *Tower) WorkBytes(p vision.Plan) int64 {
	rows, columns := t.patches(&p)
	n, d := int64(rows*columns+1), int64(t.m.Dim)
	pixels := 3 * int64(p.ReadWidth) * int64(p.ReadHeight)
	return pixels + 4*n*int64(t.patch.Cols) + 4*n*d*4 + int64(towerRows*t.m.RowBytes()) + 4*int64(p.Tokens()*t.Out*(1+len(t.Deep)))
}

// See makes rows of the pixels of a plan, [ReadHeight][ReadWidth][3]. It calls told, which may be nil, with the share that is done, and ends
// with its cause when ctx does.
func (t *Tower) See(ctx context.Context, team *tensor.Team, pixels []byte, p vision.Plan, told func(share float64)) (*Rows, error) {
	rows, columns := t.patches(&p)
	size := t.Rule.Patch
	if rows*size != p.ReadHeight || columns*size != p.ReadWidth || len(pixels) != 3*p.ReadWidth*p.ReadHeight {
		return nil, fmt.Errorf("model: %d bytes are no picture of %d × %d pixels in patches of %d", len(pixels), p.ReadWidth, p.ReadHeight, size)
	}
	l := &look{t: t, ctx: ctx, team: team, told: told, steps: 2 * len(t.m.layers) * ((rows*columns + towerRows - 1) / towerRows)}
	l.order(rows, columns)
	if err := l.embed(pixels, p.ReadWidth); err != nil {
		return nil, err
	}
	out := &Rows{Plan: p, Width: t.Out}
	return out, l.run(out)
}

// look is a tower at work on one picture.
type look struct {
	t     *Tower
	ctx   context.Context
	team  *tensor.Team
	told  func(share float64)
	done  int
	steps int

	cells []cell    // of the patches, in the order in which they are worked on
	place []int     // where each of them is, in the order of the squares that are put together
	x     []float32 // [patch][Dim], the class's first if there is one
	mul   tensor.Multiplier
	pack  tensor.Packer
}

// cell is where a patch is, and which of the others it sees where there are windows.
type cell struct{ row, column, from, until int }

// order puts patches into the order of squares of Merge × Merge, and these, if there are windows, into the order of the windows.
func (l *look) order(rows, columns int) {
	merge := l.t.Rule.Merge
	if l.t.join == joinPooled || l.t.join == joinChannels {
		merge = 1 // which is done at the end
	}
	for r := 0; r < rows; r += merge {
		for c := 0; c < columns; c += merge {
			for i := range merge * merge {
				l.cells = append(l.cells, cell{row: r + i/merge, column: c + i%merge})
				l.place = append(l.place, len(l.place))
			}
		}
	}
	w := l.t.window
	if w == 0 {
		return
	}
	across := (columns + w - 1) / w
	of := func(i int) int { return l.cells[i].row/w*across + l.cells[i].column/w }
	slices.SortStableFunc(l.place, func(a, b int) int { return of(a) - of(b) })
	sorted := make([]cell, len(l.cells))
	for i, from := range l.place {
		sorted[i] = l.cells[from]
	}
	for from := 0; from < len(sorted); {
		to := from
		for to < len(sorted) && of(l.place[to]) == of(l.place[from]) {
			to++
		}
		for i := from; i < to; i++ {
			sorted[i].from, sorted[i].until = from, to
		}
		from = to
	}
	l.cells = sorted
}

// embed makes a row of each patch.
func (l *look) embed(pixels []byte, width int) error {
	t, d, size := l.t, l.t.m.Dim, l.t.Rule.Patch
	first := 0
	if t.class {
		first = 1
	}
	n := first + len(l.cells)
	patches := make([]float32, len(l.cells)*t.patch.Cols)
	for i, c := range l.cells {
		v := patches[i*t.patch.Cols:][:3*size*size]
		for y := range size {
			line := pixels[3*((c.row*size+y)*width+c.column*size):]
			for x := range size {
				for k := range 3 {
					v[(k*size+y)*size+x] = (float32(line[3*x+k])/255 - t.Rule.Mean[k]) / t.Rule.Std[k]
				}
			}
		}
	}
	l.x = make([]float32, n*d)
	copy(l.x[first*d:], l.multiply(&t.patch, patches, len(l.cells)))
	spare := make([]float32, d)
	if t.class {
		copy(l.x, t.classRow)
		l.cells = slices.Insert(l.cells, 0, cell{})
	}
	rows, columns := 0, 0
	for _, c := range l.cells {
		rows, columns = max(rows, c.row+1), max(columns, c.column+1)
	}
	for i, c := range l.cells {
		x := l.x[i*d : (i+1)*d]
		switch {
		case t.stretch > 0:
			t.between(x, spare, c, rows, columns)
		case t.class && i == 0:
			t.positions.Row(spare, 0)
			tensor.Add(x, spare)
		case t.table > 0:
			at := c.row*columns + c.column + first
			if at >= t.table {
				return errors.New("model: the picture has more patches than the tower has positions")
			}
			t.positions.Row(spare, at)
			tensor.Add(x, spare)
		}
		if t.TowerSpec.before {
			t.m.normalize(x, x, &t.before)
		}
	}
	return nil
}

// between adds the position of a cell where the table has no place for it: that of the four around it, by how near they are.
func (t *Tower) between(x, spare []float32, c cell, rows, columns int) {
	at := func(i, n int) (int, float32) {
		if n == 1 {
			return 0, 0
		}
		v := float32(i) * float32(t.stretch-1) / float32(n-1)
		low := min(int(v), t.stretch-1)
		return low, v - float32(low)
	}
	r, below := at(c.row, rows)
	k, right := at(c.column, columns)
	for i := range 4 {
		by := (1 - below) * (1 - right)
		switch i {
		case 1:
			by = (1 - below) * right
		case 2:
			by = below * (1 - right)
		case 3:
			by = below * right
		}
		if by == 0 {
			continue
		}
		t.positions.Row(spare, min(r+i/2, t.stretch-1)*t.stretch+min(k+i%2, t.stretch-1))
		for j, v := range spare {
			x[j] += float32(by * v)
		}
	}
}

// multiply is a matrix times n rows, with its bias added.
func (l *look) multiply(w *linear, x []float32, n int) []float32 {
	out := make([]float32, n*w.Rows)
	in, dst := tensor.NewBatch(min(n, towerRows), w.Cols), tensor.NewBatch(min(n, towerRows), w.Rows)
	for from := 0; from < n; from += towerRows {
		to := min(n, from+towerRows)
		in.Resize(to - from)
		for i := range to - from {
			copy(in.Vec(i), x[(from+i)*w.Cols:])
		}
		l.mul.Mul(l.team, l.pack.Pack(l.team, in, &w.Matrix), tensor.Product{W: &w.Matrix, Dst: dst})
		for i := range to - from {
			row := out[(from+i)*w.Rows:][:w.Rows]
			copy(row, dst.Vec(i))
			if w.bias != nil {
				tensor.Add(row, w.bias)
			}
		}
	}
	return out
}

// tick ends the work if nobody wants it any more.
func (l *look) tick() error {
	if l.done++; l.told != nil {
		l.told(float64(l.done) / float64(l.steps))
	}
	if l.ctx.Err() != nil {
		return context.Cause(l.ctx)
	}
	return nil
}

// run puts the rows through the layers, some at a time: first the keys and values of all, and then what comes of them.
func (l *look) run(out *Rows) error {
	t, m, d := l.t, l.t.m, l.t.m.Dim
	n := len(l.cells)
	seq := kv.NewPool(m.KVShape(), kv.F32, kv.Bytes(m.KVShape(), kv.F32, n)).NewSequence(0)
	defer seq.Release()
	if err := seq.Reserve(n); err != nil {
		return err
	}
	tokens := make([]Token, n)
	for i, c := range l.cells {
		seq.Append(0)
		tokens[i] = Token{KV: seq, Placed: true, Place: [3]int32{0, int32(c.row), int32(c.column)}}
	}
	s := m.NewScratch(min(n, towerRows), 0)
	s.team = l.team
	width := 0
	for i := range m.layers {
		width = max(width, m.layers[i].Attention.Heads*m.layers[i].Attention.HeadDim)
	}
	queries := make([]float32, n*width)
	for i, layer := range m.layers {
		for j, c := range l.cells {
			if tokens[j].From, tokens[j].Until = 0, 0; t.window > 0 && !t.full(i) {
				tokens[j].From, tokens[j].Until = c.from, c.until
			}
		}
		q := layer.Attention.Heads * layer.Attention.HeadDim
		for from := 0; from < n; from += towerRows {
			s.part(tokens[from:min(n, from+towerRows)], from, l.x[from*d:])
			m.project(s, i, m.enter(s, layer, &layer.mixerNorm))
			for j := range s.tokens {
				copy(queries[(from+j)*q:][:q], s.at[query].Vec(j))
			}
			if err := l.tick(); err != nil {
				return err
			}
		}
		for from := 0; from < n; from += towerRows {
			s.part(tokens[from:min(n, from+towerRows)], from, l.x[from*d:])
			s.shape(query, stream, q)
			for j := range s.tokens {
				copy(s.at[query].Vec(j), queries[(from+j)*q:])
			}
			m.conclude(s, i, i, mixed)
			m.leave(s, layer, &layer.postMixer, &layer.mixerNorm)
			m.feed(s, layer, m.enter(s, layer, &layer.feedForwardNorm), mixed)
			m.leave(s, layer, &layer.postFeedForward, &layer.feedForwardNorm)
			for j := range s.tokens {
				copy(l.x[(from+j)*d:][:d], s.at[stream].Vec(j))
			}
			if err := l.tick(); err != nil {
				return err
			}
		}
		if level := slices.Index(t.Deep, i); level >= 0 {
			out.Deep = append(out.Deep, l.join(&t.deep[level], joinAll, l.sorted(), out))
		}
	}
	x := l.sorted()
	if t.TowerSpec.after {
		for i := range len(x) / d {
			m.normalize(x[i*d:(i+1)*d], x[i*d:(i+1)*d], &t.after)
		}
	}
	out.Main = l.join(&t.joined, t.TowerSpec.join, x, out)
	return nil
}

// part prepares the scratch for some rows.
func (s *Scratch) part(tokens []Token, first int, x []float32) {
	s.tokens = tokens
	s.runs = append(s.runs[:0], run{0, len(tokens)})
	s.at[stream].Shape(len(tokens), s.m.Dim)
	for i := range tokens {
		s.positions[i] = first + i
		s.turns(i, &tokens[i], first+i)
		copy(s.at[stream].Vec(i), x[i*s.m.Dim:])
	}
}

// sorted are the rows in the order of the squares, without the class's.
func (l *look) sorted() []float32 {
	d, x := l.t.m.Dim, l.x
	if l.t.class {
		x = x[d:]
	}
	out := make([]float32, len(x))
	for i, to := range l.place {
		copy(out[to*d:][:d], x[i*d:])
	}
	return out
}

// join makes rows of the text model of those of patches.
func (l *look) join(j *joiner, form joinForm, x []float32, out *Rows) []float32 {
	t, d, n := l.t, l.t.m.Dim, out.Plan.Tokens()
	merge := t.Rule.Merge
	switch form {
	case joinPooled:
		x = pooled(x, d, out.Plan.Columns, out.Plan.Rows, merge)
		t.normalizeAll(x, d, &j.norm)
		return l.multiply(&j.first, x, n)
	case joinAll:
		width := d
		if j.whole {
			width = d * merge * merge
		}
		t.normalizeAll(x, width, &j.norm)
	case joinChannels:
		t.normalizeAll(x, d, &j.norm)
		x = l.multiply(&j.merge, byChannel(x, d, out.Plan.Columns, out.Plan.Rows, merge), n)
	case joinEach:
	}
	hidden := l.multiply(&j.first, x, n)
	activate(GELU, nil, hidden)
	return l.multiply(&j.second, hidden, n)
}

// normalizeAll normalizes rows with the projector's norm, in place.
func (t *Tower) normalizeAll(x []float32, width int, n *norm) {
	of := Model{Spec: Spec{Epsilon: t.epsilon}}
	for i := 0; i < len(x); i += width {
		of.normalize(x[i:i+width], x[i:i+width], n)
	}
}

// squares calls each with the rows of squares of side × side patches, which lie row by row.
func squares(columns, rows, side int, each func(square, i, patch int)) {
	for r := range rows {
		for c := range columns {
			for i := range side * side {
				each(r*columns+c, i, (r*side+i/side)*columns*side+c*side+i%side)
			}
		}
	}
}

// pooled is the mean of each square.
func pooled(x []float32, d, columns, rows, side int) []float32 {
	out := make([]float32, columns*rows*d)
	squares(columns, rows, side, func(square, _, patch int) {
		tensor.Add(out[square*d:][:d], x[patch*d:][:d])
	})
	for i := range out {
		out[i] /= float32(side * side)
	}
	return out
}

// byChannel puts the rows of each square together, those of the first channel first.
func byChannel(x []float32, d, columns, rows, side int) []float32 {
	each := side * side
	out := make([]float32, columns*rows*d*each)
	squares(columns, rows, side, func(square, i, patch int) {
		to := out[square*d*each:]
		for k, v := range x[patch*d:][:d] {
			to[k*each+i] = v
		}
	})
	return out
}

// LoadTower builds the tower that a checkpoint holds: a folder with one, or a projector's file. out is the width of the text model that it is for.
func LoadTower(c *weights.Checkpoint, out int) (*Tower, error) { return buildTower(c, out, false) }

// DescribeTower makes the spec of a tower and checks that all its tensors are there, without reading any.
func DescribeTower(c *weights.Checkpoint, out int) (*TowerSpec, error) {
	t, err := buildTower(c, out, true)
	if err != nil {
		return nil, err
	}
	return &t.TowerSpec, nil
}

func buildTower(c *weights.Checkpoint, out int, dry bool) (*Tower, error) {
	spec, f, err := towerSpec(c)
	if err != nil {
		return nil, err
	}
	spec.Out = out
	t := &Tower{TowerSpec: *spec, m: &Model{Spec: spec.spec}}
	s := &t.m.Spec
	if err := s.check(); err != nil {
		return nil, fmt.Errorf("the tower's %w", err)
	}
	if p, m := t.Rule.Patch, t.Rule.Merge; p < 1 || p > 256 || m < 1 || m > 16 || spec.frames < 1 || spec.frames > 8 || t.Rule.Side < 0 || t.Rule.Side > 1<<14 ||
		t.Rule.Fit != vision.Smart && t.Rule.Side < p*m || out < 1 || out > maxWidth {
		return nil, fmt.Errorf("a tower with patches of %d pixels, in squares of %d, for pictures of %d, is out of range", p, m, t.Rule.Side)
	}
	if (t.Rule.Fit == vision.Square || t.Rule.Fit == vision.Crop) && t.Rule.Side%(t.Rule.Patch*t.Rule.Merge) != 0 {
		return nil, fmt.Errorf("pictures of %d pixels are not whole squares of %d patches of %d", t.Rule.Side, t.Rule.Merge, t.Rule.Patch)
	}
	if least, most := t.Rule.Tokens(); least > vision.MostTokens || t.Rule.Least < 0 || t.Rule.Most < t.Rule.Least || most < 1 {
		return nil, fmt.Errorf("pictures of %d to %d tokens are out of range", least, most)
	}
	l := newLoader(c, f, s)
	l.dry = dry
	size := 3 * t.Rule.Patch * t.Rule.Patch
	t.patch = linear{Matrix: l.patches(spec.frames, s.Dim, size), bias: l.bias(towerPatch, 0, s.Dim)}
	if t.class {
		t.classRow = l.numbers(towerClass, 0, s.Dim)
	}
	if t.table > 0 {
		t.positions = l.matrix(towerPositions, 0, t.table, s.Dim)
	}
	if t.TowerSpec.before {
		t.before = l.norm(towerBefore, 0, s.Dim)
	}
	if t.TowerSpec.after {
		t.after = l.norm(towerAfter, 0, s.Dim)
	}
	for i := 0; i < len(s.Layers) && l.err == nil; i++ {
		t.m.layers = append(t.m.layers, l.layer(i))
	}
	l.joiner(&t.joined, t, joinNorm, 0, false)
	for _, name := range spec.deepName {
		var j joiner
		l.joiner(&j, t, deepNorm, name, true)
		t.deep = append(t.deep, j)
	}
	l.noTowerLeft()
	return t, l.err
}

// patches reads what makes vectors of patches, the sum of all frames, which are the same and may be tensors of their own.
func (l *loader) patches(frames, dim, size int) tensor.Matrix {
	if l.err != nil {
		return tensor.Matrix{}
	}
	one := int64(dim) * int64(size)
	roles, of := []role{towerPatch}, frames
	switch t := l.find(towerPatch, 0, 0); {
	case t == nil:
		l.missing(l.name(towerPatch, 0, 0), dim, size*frames)
		return tensor.Matrix{}
	case t.Elements() == one*int64(frames):
	case frames == 2 && t.Elements() == one && l.find(towerSecond, 0, 0) != nil && l.find(towerSecond, 0, 0).Elements() == one:
		roles, of = append(roles, towerSecond), 1
	default:
		l.fail("tensor %s has the shape %v where the hyperparameters ask for %d frames of %d numbers for each of %d", t.Name, t.Shape, frames, size, dim)
		return tensor.Matrix{}
	}
	const lanes = 16
	cols := (size + lanes - 1) / lanes * lanes
	var all []float32
	if !l.dry {
		all = make([]float32, dim*cols)
	}
	for _, r := range roles {
		for i, x := range l.numbers(r, 0, int(one)*of) { // [dim][3][of][size/3]
			row, k, rest := i/(size*of), i/(size/3*of)%3, i%(size/3)
			all[row*cols+k*(size/3)+rest] += x
		}
	}
	return l.inMemory(all, dim, cols)
}

// joiner reads what makes rows of the text model. The roles of one that is deep follow its norm's as those of the other do.
func (l *loader) joiner(j *joiner, t *Tower, r role, name int, deep bool) {
	d, merge := t.m.Dim, t.Rule.Merge*t.Rule.Merge
	first, second := r+1, r+2
	switch {
	case deep:
		j.whole = true
		j.norm = l.normOf(t.joinNorm, r, name, d*merge)
	case t.join != joinEach:
		j.norm = l.normOf(t.joinNorm, r, name, d)
	}
	in := d
	switch t.join {
	case joinPooled:
		if l.c.Layout != "GGUF" { // which have the norm as it is used
			for i := range j.norm.weight {
				j.norm.weight[i]++
			}
		}
		m := l.matrix(first, 0, d, t.Out)
		j.first = linear{Matrix: l.turned(m)}
		return
	case joinAll:
		in = d * merge
	case joinChannels:
		j.merge = l.linear(joinMerge, 0, d, d*merge, 0)
	case joinEach:
	}
	hidden := t.Out
	if t.join == joinAll {
		hidden = in
	}
	j.first = l.linear(first, name, hidden, in, 0)
	j.second = l.linear(second, name, t.Out, hidden, 0)
}

// noTowerLeft refuses a tower with tensors that were not used: it would be another one.
func (l *loader) noTowerLeft() {
	if l.err != nil {
		return
	}
	for _, t := range l.c.Tensors {
		if ofTower.MatchString(t.Name) && !l.used[t.Name] && !l.family.besides(l.c, t.Name) {
			l.fail("tensor %s is not part of a tower that is known here", t.Name)
			return
		}
	}
}

var ofTower = regexp.MustCompile(`^(model\.)?(vision_tower|visual|multi_modal_projector)\.|^(v|mm)\.`)

// Piece is a part of a picture in a prompt: N tokens from position At on are its rows from First on. Some families have others between.
type Piece struct {
	At, First, N int
	Begin        int // the position of the picture's first token
	Saved        int // positions that pictures before it are shorter than their tokens
	Rows         *Rows
}

// Fill makes the token at a position of a piece one of the picture.
func (m *Model) Fill(t *Token, p *Piece, at int) {
	i, width := p.First+at-p.At, p.Rows.Width
	t.Row = p.Rows.Main[i*width:][:width]
	t.Deep = nil
	for _, level := range p.Rows.Deep {
		t.Deep = append(t.Deep, level[i*width:][:width])
	}
	t.Saved = int32(p.Saved)
	begin, columns := int32(p.Begin-p.Saved), p.Rows.Plan.Columns
	t.Placed, t.Place = true, [3]int32{begin, begin + int32(i/columns), begin + int32(i%columns)}
	if m.Whole {
		t.Until = p.At + p.N
	}
}

// inMemory is a matrix of float32 that is in no file.
func (l *loader) inMemory(all []float32, rows, cols int) tensor.Matrix {
	if l.dry || l.err != nil {
		return tensor.Matrix{}
	}
	raw := make([]byte, 4*len(all))
	tensor.FormatOf(weights.F32).Quantize(raw, all)
	out, err := tensor.NewMatrix(weights.F32, rows, cols, raw, nil)
	if err != nil {
		l.fail("%w", err)
	}
	return out
}

// axes say for each pair of dimensions by which of a token's places it turns: 0 for its position, 1 for its row, 2 for its column.
func axes(sections []int, interleaved bool) []uint8 {
	var list []uint8
	for k, n := range sections[:min(3, len(sections))] {
		for range n {
			list = append(list, uint8(k))
		}
	}
	if interleaved {
		for i := range list {
			list[i] = 0
			if k := i % 3; k > 0 && i < 3*sections[k] {
				list[i] = uint8(k)
			}
		}
	}
	return list
}

// cellRope turns half of the pairs by the row of a patch, and the others by its column.
func cellRope(base float64, dims int, alternate bool) Rope {
	n := dims / 4
	r := Rope{Dims: dims, Factor: 1, Angles: make([]float64, 2*n), Axis: make([]uint8, 2*n)}
	for i := range n {
		first, second := i, i
		if alternate { // each takes every second one of twice as many
			first, second = 2*i, 2*i+1
		}
		of := float64(dims / 2)
		if alternate {
			of = float64(dims)
		}
		r.Angles[i], r.Angles[n+i] = math.Pow(base, -2*float64(first)/of), math.Pow(base, -2*float64(second)/of)
		r.Axis[i], r.Axis[n+i] = 1, 2
	}
	return r
}
