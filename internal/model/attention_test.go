package model

import (
	"math"
	"math/rand/v2"
	"testing"

	"kindredgate/internal/kv"
	"kindredgate/internal/tensor"
)

// Attention over contexts of several segments is the softmax that it stands for, worked out in float64: with all kinds of masks, few queries and many,
// one thread and several.
func TestAttention(t *testing.T) {
	attentionEquals(t, kv.F32, 16, 1e-5)
	// The values of positions that weigh something are between −4 and 4, and come out less than a hundredth of that off.
	attentionEquals(t, kv.Q8, 64, 0.02)
}

// attentionEquals works out attention with heads of so many dimensions, whose elements may be off by so much.
func attentionEquals(t *testing.T, format kv.Format, dim int, off float64) {
	const heads, kvHeads, length = 6, 2, 2*segment + 77
	random := rand.New(rand.NewPCG(3, 4))
	numbers := func(n int) []float32 {
		list := make([]float32, n)
		for i := range list {
			list[i] = float32(random.NormFloat64())
		}
		return list
	}
	shape := kv.Shape{Layers: []kv.Layer{{KVHeads: kvHeads, KeyDim: dim, ValueDim: dim}}}
	keys, values := make([][]float32, length), make([][]float32, length)
	seq := kv.NewPool(shape, format, 1<<25).NewSequence(0)
	if err := seq.Reserve(length); err != nil {
		t.Fatal(err)
	}
	for i := range length {
		keys[i], values[i] = numbers(kvHeads*dim), numbers(kvHeads*dim)
		seq.Put(0, seq.Append(0), keys[i], values[i])
	}
	for name, spec := range map[string]Attention{
		"all":    {},
		"window": {Mask: MaskWindow, Window: segment + 100},
		"chunk":  {Mask: MaskChunk, Window: 300},
		"capped": {Cap: 2},
	} {
		for _, threads := range []int{1, 3} {
			for _, n := range []int{1, 2, 45} {
				spec.Heads, spec.KVHeads, spec.HeadDim, spec.ValueDim, spec.Scale = heads, kvHeads, dim, dim, float32(1/math.Sqrt(float64(dim)))
				team := tensor.NewTeam(threads)
				w := work{spec: &spec, causal: true, runs: []run{{0, n}}, query: tensor.NewBatch(n, heads*dim), out: tensor.NewBatch(n, heads*dim), sinks: numbers(heads)}
				w.query.Resize(n)
				w.out.Resize(n)
				for i := range n {
					copy(w.query.Vec(i), numbers(heads*dim))
					w.tokens = append(w.tokens, Token{KV: seq})
					w.positions = append(w.positions, length-n+i)
				}
				var a attention
				a.run(team, &w)
				team.Close()
				for i := range n {
					for h := range heads {
						want := plainAttention(&spec, w.sinks[h], w.positions[i], w.query.Vec(i)[h*dim:][:dim], keys, values, h/(heads/kvHeads)*dim)
						for j, x := range w.out.Vec(i)[h*dim:][:dim] {
							if math.Abs(float64(x)-want[j]) > off {
								t.Fatalf("format %v, %s, %d threads, query %d of %d, head %d: element %d is %g, want %g", format, name, threads, i, n, h, j, x, want[j])
							}
						}
					}
				}
			}
		}
	}
}

// plainAttention is one head of one query, whose keys and values begin at a place of those of all heads.
func plainAttention(spec *Attention, sink float32, position int, query []float32, keys, values [][]float32, at int) []float64 {
	first := 0
	switch spec.Mask {
	case MaskWindow:
		first = max(0, position-spec.Window+1)
	case MaskChunk:
		first = position / spec.Window * spec.Window
	case MaskNone:
	}
	out := make([]float64, len(query))
	total := math.Exp(float64(sink))
	for t := first; t <= position; t++ {
		score := 0.0
		for j, x := range query {
			score += float64(x) * float64(keys[t][at+j])
		}
		score *= float64(spec.Scale)
		if spec.Cap > 0 {
			score = float64(spec.Cap) * math.Tanh(score/float64(spec.Cap))
		}
		weight := math.Exp(score)
		total += weight
		for j := range out {
			out[j] += weight * float64(values[t][at+j])
		}
	}
	for j := range out {
		out[j] /= total
	}
	return out
}
