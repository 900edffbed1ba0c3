// Package convert writes a model as one GGUF file, its weights rounded to another storage type, and tells what that costs.
package convert

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"kindredgate/internal/kv"
	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
	"kindredgate/internal/weights/gguf"
)

// Job is what is to be converted, to what.
type Job struct {
	From string       // a file or a folder
	To   string       // the file to write, which must not be there
	Type weights.Type // of the matrices
	Text string       // by which the change of logits is measured; empty for none
	Team *tensor.Team
	// Progress is told of the bytes of weights that are read; it may be nil.
	Progress func(tensor string, done, total int64)
}

// Report is what a conversion came to.
type Report struct {
	Before int64   // bytes of the model's files
	After  int64   // bytes of the file
	Types  []Error // by storage type
	// Of the text: how many tokens were compared, for how many of them the most likely next token is the same, the mean
	// Kullback-Leibler divergence in nats, and the largest change of a logit in their standard deviations.
	Tokens     int
	SameBest   int
	Divergence float64
	Largest    float64
}

// Error is what rounding to a type has changed: the root mean square of the differences, as a share of that of the
// weights.
type Error struct {
	Type  weights.Type
	Bytes int64
	Share float64

	squares, wrong float64 // sums of the squares of weights, and of what they have changed by
}

// Types are the storage types that can be written, by the names that users give them.
func Types() map[string]weights.Type {
	list := map[string]weights.Type{}
	for t := range weights.Types {
		if _, ok := gguf.Number(t); ok && tensor.FormatOf(t).Writable() {
			list[strings.ToLower(t.String())] = t
		}
	}
	return list
}

// Run converts. Whatever fails, nothing is left at job.To.
func Run(ctx context.Context, job Job) (r Report, err error) {
	if _, err := os.Stat(job.To); err == nil {
		return r, fmt.Errorf("%s is there already; choose another file with --out", job.To)
	}
	c, err := disk.Open(job.From)
	if err != nil {
		return r, err
	}
	defer func() { err = errors.Join(err, c.Close()) }()
	m, err := model.Load(c)
	if err != nil {
		return r, err
	}
	w := &work{job: job, c: c, m: m, errors: map[weights.Type]*Error{}}
	if err := w.prepare(); err != nil {
		return r, fmt.Errorf("%s: %w", job.From, err)
	}
	partial := filepath.Join(filepath.Dir(job.To), "."+filepath.Base(job.To)+".incoming")
	defer func() { err = errors.Join(err, removed(partial)) }()
	if err := w.write(ctx, partial); err != nil {
		return r, err
	}
	r = Report{Before: c.Size}
	for _, e := range w.errors {
		r.Types = append(r.Types, *e)
	}
	slices.SortFunc(r.Types, func(a, b Error) int { return int(b.Bytes - a.Bytes) })
	if err := w.verify(ctx, partial, &r); err != nil {
		return r, err
	}
	return r, os.Rename(partial, job.To)
}

// removed removes a file that may be gone already.
func removed(file string) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// work is a conversion under way.
type work struct {
	job      Job
	c        *weights.Checkpoint
	m        *model.Model
	arch     string
	metadata []gguf.Entry
	groups   []group
	done     int64
	total    int64
	errors   map[weights.Type]*Error
}

// group is a tensor of the file: one part, or those of all experts.
type group struct {
	plan  gguf.Plan
	parts []model.Part
	// extra are values that are no part of the model, such as the factors of rotations.
	extra []float32
}

func (w *work) prepare() error {
	w.arch = model.GGUF(w.c.Architecture)
	switch {
	case w.arch == "":
		return fmt.Errorf("models of the family %s cannot be written as GGUF files yet; use the model as it is", w.c.Architecture)
	case w.m.Dense > 0:
		return errors.New("the dense layers behind its pooling have no place in a GGUF file; use the folder as it is")
	case len(w.c.Purposes) > 0:
		return errors.New("the prompts for its purposes have no place in a GGUF file; use the folder as it is")
	}
	if err := w.describe(); err != nil {
		return err
	}
	for _, p := range w.m.Parts() {
		if n := len(w.groups); n > 0 && p.Expert > 0 && w.groups[n-1].plan.Name == p.Name {
			g := &w.groups[n-1]
			g.parts = append(g.parts, p)
			g.plan.Shape[0]++
			continue
		}
		g := group{plan: gguf.Plan{Name: p.Name, Type: weights.F32}, parts: []model.Part{p}}
		if p.Matrix != nil {
			g.plan.Shape = []int{p.Matrix.Rows, p.Matrix.Cols}
			g.plan.Type = w.typeFor(p.Name, p.Matrix.Cols)
		} else {
			g.plan.Shape = []int{len(p.Vector)}
		}
		if p.Expert >= 0 {
			g.plan.Shape = append([]int{1}, g.plan.Shape...)
		}
		w.groups = append(w.groups, g)
	}
	return nil
}

// typeFor chooses the type of a matrix. Routers and what is added to embeddings stay exact; the matrices at both ends of
// the network, on which the rest depends, are kept finer than the coarse types; rows that are not whole blocks are stored
// as the finest type that they fit.
func (w *work) typeFor(name string, cols int) weights.Type {
	if strings.Contains(name, "ffn_gate_inp") || strings.HasPrefix(name, "position_embd") || strings.HasPrefix(name, "token_types") {
		return weights.F32
	}
	t := w.job.Type
	coarse := map[weights.Type]bool{weights.Q2_K: true, weights.Q3_K: true, weights.Q4_K: true, weights.Q4_0: true, weights.Q4_1: true, weights.Q5_K: true, weights.Q5_0: true, weights.Q5_1: true,
		weights.IQ4_NL: true, weights.MXFP4: true}
	if coarse[t] && (name == "token_embd.weight" || name == "output.weight") {
		t = weights.Q6_K
	}
	for _, t := range []weights.Type{t, weights.Q8_0, weights.F16} {
		if _, whole := t.RowBytes(cols); whole {
			return t
		}
	}
	return weights.F16
}

// describe makes the metadata.
func (w *work) describe() error {
	h, s, c := &w.c.Hyper, &w.m.Spec, w.c
	a, f := &s.Layers[0].Attention, &s.Layers[0].FeedForward
	add := func(key string, v any) { w.metadata = append(w.metadata, gguf.Entry{Key: key, Value: v}) }
	arch := func(key string, v any) { add(w.arch+"."+key, v) }
	number := func(key string, n int) {
		if n > 0 {
			arch(key, uint32(n))
		}
	}
	float := func(key string, f float64) {
		if f > 0 {
			arch(key, float32(f))
		}
	}
	text := func(key, s string) {
		if s != "" {
			add(key, s)
		}
	}
	add("general.architecture", w.arch)
	text("general.name", c.Name)
	text("general.description", c.Description)
	text("general.license", c.License)
	add("general.quantization_version", uint32(2))
	number("vocab_size", s.Vocab)
	number("context_length", s.Context)
	number("embedding_length", s.Dim)
	number("block_count", len(s.Layers))
	number("feed_forward_length", h.FeedForward)
	number("attention.head_count", a.Heads)
	number("attention.head_count_kv", a.KVHeads)
	number("attention.key_length", a.HeadDim)
	number("attention.value_length", a.ValueDim)
	number("attention.sliding_window", window(s))
	if s.Norm == model.LayerNorm {
		float("attention.layer_norm_epsilon", float64(s.Epsilon))
	} else {
		float("attention.layer_norm_rms_epsilon", float64(s.Epsilon))
	}
	float("attn_logit_softcapping", float64(a.Cap))
	float("final_logit_softcapping", float64(s.LogitCap))
	number("expert_count", f.Experts.Count)
	number("expert_used_count", f.Experts.Used)
	if f.Experts.Count > 0 {
		number("expert_feed_forward_length", f.Width)
	}
	if s.Embeds() {
		arch("attention.causal", s.Causal)
		arch("pooling_type", uint32(s.Pooling))
	}
	if len(s.Ropes) > 0 {
		w.describeRope(h, &s.Ropes[0], number, float, arch)
	}
	definition, err := c.Tokenizer()
	if err != nil {
		return err
	}
	entries, err := gguf.WriteTokenizer(definition)
	if err != nil {
		return err
	}
	w.metadata = append(w.metadata, entries...)
	var ends []int32
	for _, id := range c.Generation.Ends {
		if id != definition.EOS && !slices.Contains(ends, id) {
			ends = append(ends, id)
		}
	}
	for i, key := range []string{"tokenizer.ggml.eot_token_id", "tokenizer.ggml.eom_token_id"} {
		if i < len(ends) && ends[i] >= 0 {
			add(key, uint32(ends[i]))
		}
	}
	text("tokenizer.chat_template", c.ChatTemplate)
	return nil
}

// window is the window of the layers that have one.
func window(s *model.Spec) int {
	for _, l := range s.Layers {
		if l.Attention.Mask == model.MaskWindow {
			return l.Attention.Window
		}
	}
	return 0
}

// describeRope writes how positions are stretched. Where GGUF has no words for it, the factors go into tensors.
func (w *work) describeRope(h *weights.Hyperparameters, r *model.Rope, number func(string, int), float func(string, float64), arch func(string, any)) {
	number("rope.dimension_count", r.Dims)
	float("rope.freq_base", h.Rope.Base)
	plain := func(i int) float64 { return math.Pow(h.Rope.Base, -2*float64(i)/float64(r.Dims)) }
	factors := func(name string, angles []float64) {
		list := make([]float32, len(angles))
		for i, a := range angles {
			list[i] = float32(plain(i) / a)
		}
		w.groups = append(w.groups, group{plan: gguf.Plan{Name: name, Type: weights.F32, Shape: []int{len(list)}}, extra: list})
	}
	switch h.Rope.Scaling {
	case "llama3":
		factors("rope_freqs.weight", r.Angles)
	case "longrope":
		number("rope.scaling.original_context_length", r.Longer[0].Beyond)
		float("rope.scaling.attn_factor", r.Factor)
		factors("rope_factors_short.weight", r.Angles)
		factors("rope_factors_long.weight", r.Longer[0].Angles)
	case "linear", "yarn":
		arch("rope.scaling.type", h.Rope.Scaling)
		float("rope.scaling.factor", h.Rope.Factor)
		number("rope.scaling.original_context_length", h.Rope.Original)
		float("rope.scaling.yarn_beta_fast", h.Rope.BetaFast)
		float("rope.scaling.yarn_beta_slow", h.Rope.BetaSlow)
		float("rope.scaling.attn_factor", h.Rope.Attention)
	case "":
		if _, ok := w.c.Find("rope_freqs.weight"); ok {
			factors("rope_freqs.weight", r.Angles)
		}
	}
}

func (w *work) write(ctx context.Context, path string) (err error) {
	out, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	plans := make([]gguf.Plan, len(w.groups))
	for i, g := range w.groups {
		plans[i] = g.plan
		for _, p := range g.parts {
			if p.Matrix != nil {
				w.total += p.Matrix.Bytes()
			}
		}
	}
	err = weights.Guarded(func() error {
		return gguf.Write(out, w.metadata, plans, func(i int, to io.Writer) error { return w.tensor(ctx, &w.groups[i], to) })
	})
	if err != nil {
		return err
	}
	return out.Sync()
}

// tensor writes one tensor.
func (w *work) tensor(ctx context.Context, g *group, to io.Writer) error {
	if g.extra != nil {
		return writeVector(to, g.extra)
	}
	for _, p := range g.parts {
		if p.Matrix == nil {
			v := p.Vector
			if w.permutes(p) {
				v = permuted(v, p.Heads)
			}
			if err := writeVector(to, v); err != nil {
				return err
			}
			continue
		}
		if err := w.matrix(ctx, p, g.plan.Type, to); err != nil {
			return err
		}
	}
	return nil
}

// permutes reports whether the rows of a part have to be put in another order: GGUF files of the llama architecture have
// the two dimensions of each pair that rotates side by side.
func (w *work) permutes(p model.Part) bool {
	return p.Heads > 0 && w.arch == "llama" && len(w.m.Ropes) > 0 && !w.m.Ropes[0].Adjacent
}

func writeVector(to io.Writer, v []float32) error {
	raw := make([]byte, 4*len(v))
	tensor.FormatOf(weights.F32).Quantize(raw, v)
	_, err := to.Write(raw)
	return err
}

// source is the row of a matrix of heads that comes to row r when pairs are put side by side.
func source(r, rows, heads int) int {
	size := rows / heads
	head, i := r/size, r%size
	return head*size + i/2 + i%2*(size/2)
}

func permuted(v []float32, heads int) []float32 {
	out := make([]float32, len(v))
	for r := range out {
		out[r] = v[source(r, len(v), heads)]
	}
	return out
}

// matrix writes a matrix as a type, a slab of rows at a time, and adds up what rounding changes.
func (w *work) matrix(ctx context.Context, p model.Part, kind weights.Type, to io.Writer) error {
	const slab = 64
	m := p.Matrix
	row, _ := kind.RowBytes(m.Cols)
	raw := make([]byte, slab*row)
	squares, wrong := make([]float64, slab), make([]float64, slab)
	for first := 0; first < m.Rows; first += slab {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n := min(slab, m.Rows-first)
		w.job.Team.Split(n, 64*m.Cols, tensor.Func(func(_, from, to int) {
			values, back := make([]float32, m.Cols), make([]float32, m.Cols)
			for i := from; i < to; i++ {
				r := first + i
				if w.permutes(p) {
					r = source(r, m.Rows, p.Heads)
				}
				m.Row(values, r)
				block := raw[i*row : (i+1)*row]
				tensor.FormatOf(kind).Quantize(block, values)
				one, err := tensor.NewMatrix(kind, 1, m.Cols, block, nil)
				if err != nil {
					panic(err) // the row was made for that
				}
				one.Row(back, 0)
				squares[i], wrong[i] = 0, 0
				for k, v := range values {
					squares[i] += float64(v) * float64(v)
					wrong[i] += float64(back[k]-v) * float64(back[k]-v)
				}
			}
		}))
		if _, err := to.Write(raw[:n*row]); err != nil {
			return err
		}
		e := w.errors[kind]
		if e == nil {
			e = &Error{Type: kind}
			w.errors[kind] = e
		}
		var a, b float64
		for i := range n {
			a += squares[i]
			b += wrong[i]
		}
		e.add(int64(n*row), a, b)
		w.done += m.Bytes() * int64(n) / int64(m.Rows)
		if w.job.Progress != nil {
			w.job.Progress(p.Name, w.done, w.total)
		}
	}
	return nil
}

// add adds the squares of some weights and of what they have changed by.
func (e *Error) add(bytes int64, squares, wrong float64) {
	e.Bytes += bytes
	e.squares += squares
	e.wrong += wrong
	if e.squares > 0 {
		e.Share = math.Sqrt(e.wrong / e.squares)
	}
}

// verify reads what was written, sees that it says the same network, and compares logits.
func (w *work) verify(ctx context.Context, path string, r *Report) error {
	c, err := gguf.Open(path)
	if err != nil {
		return fmt.Errorf("what was written cannot be read: %w", err)
	}
	defer c.Close()
	r.After = c.Size
	m, err := model.Load(c)
	if err != nil {
		return fmt.Errorf("what was written cannot be loaded: %w", err)
	}
	if said := different(&w.m.Spec, &m.Spec); said != "" {
		return fmt.Errorf("a GGUF file of the %s family cannot say %s of this model", w.arch, said)
	}
	definition, err := c.Tokenizer()
	if err != nil {
		return err
	}
	tok, err := tokenizer.New(definition)
	if err != nil {
		return fmt.Errorf("the tokenizer that was written: %w", err)
	}
	if w.job.Text == "" || m.Embeds() {
		return nil
	}
	ids, err := tok.Encode(w.job.Text)
	if err != nil {
		return err
	}
	ids = tok.Wrap(ids)
	return weights.Guarded(func() error { return compare(ctx, w.job.Team, w.m, m, ids[:min(len(ids), 512, m.Context)], r) })
}

// different names what two networks do differently; empty if nothing. That files have pairs and norms in other forms, and
// what only decides how tensors are read, makes no difference.
func different(a, b *model.Spec) string {
	x, y := *a, *b
	for _, s := range []*model.Spec{&x, &y} {
		s.Architecture, s.NormPlusOne, s.Trained, s.Tied, s.Ropes, s.Layers = "", false, 0, false, nil, slices.Clone(s.Layers)
		for i := range s.Layers {
			l := &s.Layers[i].Attention
			if l.Mask == model.MaskWindow && l.Window >= s.Context { // it can never hide something
				l.Mask = model.MaskNone
			}
			if l.Mask == model.MaskNone {
				l.Window = 0
			}
		}
	}
	for i := range x.Layers {
		if name, value := differs("", reflect.ValueOf(x.Layers[i]), reflect.ValueOf(y.Layers[i])); name != "" {
			return fmt.Sprintf("that layer %d has the %s %v", i, name, value)
		}
	}
	if math.Abs(float64(x.Epsilon-y.Epsilon)) < 1e-9 {
		y.Epsilon = x.Epsilon
	}
	x.Layers, y.Layers = nil, nil
	if !reflect.DeepEqual(x, y) {
		return "all that is to be said"
	}
	for i := range a.Ropes {
		if i >= len(b.Ropes) || !near(a.Ropes[i].Angles, b.Ropes[i].Angles) || !slices.EqualFunc(a.Ropes[i].Longer, b.Ropes[i].Longer, func(x, y model.Longer) bool { return x.Beyond == y.Beyond && near(x.Angles, y.Angles) }) || math.Abs(a.Ropes[i].Factor-b.Ropes[i].Factor) > 1e-4 {
			return "how positions are rotated"
		}
	}
	return ""
}

// differs names the first field in which two values of a type differ, with what the first has; floats may differ by a rounding.
func differs(name string, a, b reflect.Value) (string, any) {
	switch a.Kind() {
	case reflect.Struct:
		for k := range a.NumField() {
			if name, value := differs(strings.ToLower(a.Type().Field(k).Name), a.Field(k), b.Field(k)); name != "" {
				return name, value
			}
		}
		return "", nil
	case reflect.Float32, reflect.Float64:
		if math.Abs(a.Float()-b.Float()) < 1e-6 {
			return "", nil
		}
	default:
		if a.Interface() == b.Interface() {
			return "", nil
		}
	}
	return name, a.Interface()
}

func near(a, b []float64) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if math.Abs(a[i]-b[i]) > 1e-5*math.Abs(a[i]) {
			return false
		}
	}
	return true
}

// compare runs both models on the same tokens.
func compare(ctx context.Context, team *tensor.Team, before, after *model.Model, ids []int32, r *Report) error {
	run := func(m *model.Model) (func(part []int32) [][]float32, error) {
		seq := kv.NewPool(m.KVShape(), kv.F16, 1<<40).NewSequence(m.Variant(len(ids)))
		if err := seq.Reserve(len(ids)); err != nil {
			return nil, err
		}
		s := m.NewScratch(64, 64)
		return func(part []int32) [][]float32 {
			tokens := make([]model.Token, len(part))
			for i, id := range part {
				tokens[i] = model.Token{ID: id, KV: seq, Logits: true}
			}
			return m.Forward(team, s, tokens)
		}, nil
	}
	first, err := run(before)
	if err != nil {
		return err
	}
	second, err := run(after)
	if err != nil {
		return err
	}
	for part := range slices.Chunk(ids, 64) {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		a, b := first(part), second(part)
		for i := range a {
			if !finite(a[i]) || !finite(b[i]) {
				return errors.New("what the model computes is not numbers, before or after; its weights are damaged, or too large for the type that was chosen")
			}
			r.add(a[i], b[i])
		}
	}
	if r.Tokens > 0 {
		r.Divergence /= float64(r.Tokens)
	}
	return nil
}

// finite reports whether all logits are numbers.
func finite(logits []float32) bool {
	return !slices.ContainsFunc(logits, func(l float32) bool { return l-l != 0 }) // which is 0, unless l is infinite or no number
}

// add compares the logits after one token.
func (r *Report) add(a, b []float32) {
	r.Tokens++
	bestA, bestB := 0, 0
	var mean, square float64
	for i, v := range a {
		if v > a[bestA] {
			bestA = i
		}
		if b[i] > b[bestB] {
			bestB = i
		}
		mean += float64(v)
		square += float64(v) * float64(v)
	}
	if bestA == bestB {
		r.SameBest++
	}
	n := float64(len(a))
	spread := math.Sqrt(max(0, square/n-mean/n*mean/n))
	total := func(x []float32, best int) float64 {
		sum := 0.0
		for _, v := range x {
			sum += math.Exp(float64(v - x[best]))
		}
		return float64(x[best]) + math.Log(sum)
	}
	ta, tb := total(a, bestA), total(b, bestB)
	for i, v := range a {
		p := float64(v) - ta
		r.Divergence += math.Exp(p) * (p - (float64(b[i]) - tb))
		if spread > 0 {
			r.Largest = max(r.Largest, math.Abs(float64(b[i]-v))/spread)
		}
	}
}
