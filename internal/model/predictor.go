package model

import (
	"maps"
	"strings"

	"kindredgate/internal/tensor"
)

// predictor is a prediction head (MTP): a layer behind the last, which guesses the token after the next one from what the network made of a token
// and from the next one (DeepSeek-AI, "DeepSeek-V3 Technical Report", 2024, section 2.2). Its keys and values are kept with those of
// the other layers.
type predictor struct {
	nextNorm, hiddenNorm norm           // of the next token's embedding, and of what the network gives
	join                 linear         // [Dim][2·Dim], of both, in this order
	norm                 norm           // behind the layer
	output               *tensor.Matrix // [Vocab][Dim]; that of the network where the head has none of its own
}

// predictorLayer is the layer of a prediction head, if the family has such heads: it is like the last one that attends.
func (s *Spec) predictorLayer() *LayerSpec {
	for i := len(s.Layers) - 1; i >= 0; i-- {
		if l := s.Layers[i]; l.Attention.Heads > 0 && l.State.Kind == NoState && l.Attention.From < 0 && !l.Bare {
			return &l
		}
	}
	return nil
}

// predictor reads the prediction head, if the files have a whole one that fits: a network does without.
func (l *loader) predictor(m *Model) {
	one := l.spec.predictorLayer()
	if l.err != nil || one == nil || l.names[joinNext] == "" || l.spec.Embeds() || l.spec.AltUp.Streams > 0 {
		return
	}
	of := *l
	of.used, of.parts, of.names, of.gguf = maps.Clone(l.used), nil, l.names, names{}
	at := len(l.spec.Layers)
	if strings.HasPrefix(l.names[joinNext], "mtp.") { // it has layers of its own, counted from 0
		at = 0
		of.names = maps.Clone(l.names)
		for r, name := range l.names {
			of.names[r] = strings.Replace(name, "layers.", "mtp.layers.", 1)
		}
	}
	dim := l.spec.Dim
	if of.find(joinNext, at, 0) == nil {
		return
	}
	p := &predictor{join: of.linear(joinNext, at, dim, 2*dim, 0), nextNorm: of.norm(nextNorm, at, dim), hiddenNorm: of.norm(hiddenNorm, at, dim), norm: of.norm(predictorNorm, at, dim)}
	p.output = &m.output
	if of.find(predictorOutput, at, 0) != nil {
		own := of.matrix(predictorOutput, at, l.spec.Vocab, dim)
		p.output = &own
	}
	layer := of.layerOf(one, at)
	if of.err != nil { // the rest of the model is none the worse for it
		return
	}
	l.used = of.used
	l.spec.Predictor = one
	m.predictor, m.layers = p, append(m.layers, layer)
}

// Ahead is a token of the last step whose next token is known.
type Ahead struct {
	Row    int   // which of the step's tokens
	Next   Token // whose KV does not matter
	Logits bool  // whether what may follow the next token is wanted
}

// Predicts reports whether the network has a prediction head.
func (m *Model) Predicts() bool { return m.predictor != nil }

// Predict puts tokens of the last step with s, which were these, through the prediction head, and returns the logits ([Vocab] each) of what
// may follow the next ones, in the order of those that want them. rows are in the order of the tokens. The logits are valid until s is used again, and
// those of the step are no more.
func (m *Model) Predict(team *tensor.Team, s *Scratch, tokens []Token, rows []Ahead) [][]float32 {
	p, x, both := m.predictor, s.at[stream], s.at[ahead]
	s.ahead = s.ahead[:0]
	both.Shape(len(rows), 2*m.Dim)
	spare := s.at[normed]
	spare.Shape(len(rows), m.Dim)
	for i, r := range rows {
		t := tokens[r.Row]
		t.Logits = r.Logits
		s.ahead = append(s.ahead, t)
		v := both.Vec(i)
		m.embed(v[:m.Dim], spare.Vec(i), r.Next, s.positions[r.Row]+1)
		m.normalize(v[:m.Dim], v[:m.Dim], &p.nextNorm)
		m.normalize(v[m.Dim:], x.Vec(r.Row), &m.outputNorm)
		m.normalize(v[m.Dim:], v[m.Dim:], &p.hiddenNorm)
		s.positions[i] = s.positions[r.Row]
	}
	s.begin(team, s.ahead)
	defer s.end()
	s.turn()
	s.shape(stream, ahead, m.Dim)
	s.multiply(ahead, &p.join, stream)
	m.step(s, len(m.Layers))
	return m.logits(team, s, s.ahead, &p.norm, p.output)
}
