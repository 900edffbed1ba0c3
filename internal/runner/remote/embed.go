package remote

import (
	"cmp"
	"context"
	"encoding/json"
	"io"
	"math"
	"net/http"
	"slices"

	"kindredgate/internal/exchange"
)

// sortScores puts the most likely first.
func sortScores(list []exchange.Score) {
	slices.SortFunc(list, func(a, b exchange.Score) int {
		return cmp.Or(cmp.Compare(b.LogProb, a.LogProb), cmp.Compare(a.Text, b.Text))
	})
}

// longVector bounds the dimensions of a vector.
const longVector = 1 << 16

// Embed has vectors made by one of the machine's models.
func (m *Machine) Embed(ctx context.Context, model string, req *exchange.Embedding) (v *exchange.Vectors, err error) {
	m.count(+1)
	defer m.count(-1)
	if m.set.Line != nil {
		bytes := 0
		for _, in := range req.Inputs {
			bytes += len(in.Text) + bytesOfToken*len(in.Tokens)
		}
		return lineOnce(ctx, m, model, bytes, req.Reserve, func(ctx context.Context) (*exchange.Vectors, error) {
			v, err := m.set.Line.Embed(ctx, model, req)
			if err == nil {
				err = cmp.Or(sound(v, len(req.Inputs), req.Dimensions), believable(v.Tokens, bytes, v.Timings))
			}
			return v, err
		})
	}
	if m.set.Form != nil {
		return nil, exchange.InvalidParam("model", "the machine %q makes no embeddings: its form has no place for them", m.name)
	}
	body := struct {
		Model      string `json:"model"`
		Input      []any  `json:"input"`
		Dimensions int    `json:"dimensions,omitempty"`
		Purpose    string `json:"purpose,omitempty"`
	}{Model: model, Dimensions: req.Dimensions, Purpose: req.Purpose}
	bytes := 0
	for _, in := range req.Inputs {
		if in.Tokens != nil {
			body.Input = append(body.Input, in.Tokens)
		} else {
			body.Input = append(body.Input, in.Text)
		}
		bytes += len(in.Text) + bytesOfToken*len(in.Tokens)
	}
	err = m.once(ctx, model, vectorsPath, body, bytes, req.Reserve, &exchange.Request{Via: req.Via, Trace: req.Trace}, func(raw []byte) (err error) {
		v, err = vectors(raw, len(req.Inputs), req.Dimensions)
		return err
	})
	if err != nil {
		return nil, err
	}
	if v.Tokens == 0 {
		v.Tokens = tokensOf(bytes)
	}
	return v, nil
}

// tokensOf is about how many tokens a text of so many bytes has.
func tokensOf(bytes int) int { return (bytes + bytesOfToken - 1) / bytesOfToken }

// once asks for something that comes in one piece, of texts with so many bytes.
func (m *Machine) once(ctx context.Context, model, path string, body any, bytes int, reserve func(int) error, req *exchange.Request, read func(raw []byte) error) error {
	if reserve != nil {
		if err := reserve(tokensOf(bytes)); err != nil {
			return err
		}
	}
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	err = m.tries(ctx, model, func(ctx context.Context, _ func(exchange.Event) bool) error {
		ctx, cancel := context.WithTimeoutCause(ctx, m.set.FirstToken, errFirst)
		defer cancel()
		resp, err := m.send(ctx, http.MethodPost, path, raw, req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		got, err := io.ReadAll(&bounded{r: resp.Body, left: m.set.LongestAnswer})
		if err == nil {
			err = read(got)
		}
		if cause := context.Cause(ctx); err != nil && cause != nil {
			return cause
		}
		return err
	}, func(exchange.Event) bool { return true })
	if err != nil {
		return m.inWords(err)
	}
	return nil
}

// Rank has documents scored by one of the machine's models.
func (m *Machine) Rank(ctx context.Context, model string, req *exchange.Ranking) (v *exchange.Relevance, err error) {
	m.count(+1)
	defer m.count(-1)
	if m.set.Line != nil {
		bytes := 0
		for _, d := range req.Documents {
			bytes += len(req.Query) + len(d)
		}
		return lineOnce(ctx, m, model, bytes, req.Reserve, func(ctx context.Context) (*exchange.Relevance, error) {
			v, err := m.set.Line.Rank(ctx, model, req)
			if err == nil && len(v.Scores) != len(req.Documents) {
				err = broken("it has %d scores, where %d were asked for", len(v.Scores), len(req.Documents))
			}
			if err == nil {
				err = believable(v.Tokens, bytes+len(req.Documents)*mostMarkup, v.Timings)
			}
			return v, err
		})
	}
	if m.set.Form != nil {
		return nil, exchange.InvalidParam("model", "the machine %q scores no documents: its form has no place for them", m.name)
	}
	body := struct {
		Model     string   `json:"model"`
		Query     string   `json:"query"`
		Documents []string `json:"documents"`
		Longest   int      `json:"max_tokens_per_doc,omitempty"`
	}{model, req.Query, req.Documents, req.Longest}
	bytes := 0
	for _, d := range req.Documents {
		bytes += len(req.Query) + len(d)
	}
	err = m.once(ctx, model, rankPath, body, bytes, req.Reserve, &exchange.Request{Via: req.Via, Trace: req.Trace}, func(raw []byte) (err error) {
		v, err = relevance(raw, len(req.Documents))
		return err
	})
	if err != nil {
		return nil, err
	}
	if v.Tokens == 0 {
		v.Tokens = tokensOf(bytes)
	}
	return v, nil
}

// relevance reads an answer with the scores of n documents.
func relevance(raw []byte, n int) (*exchange.Relevance, error) {
	var body struct {
		Results []struct {
			Index     int      `json:"index"`
			Relevance *float64 `json:"relevance_score"`
		} `json:"results"`
		Usage usage `json:"usage"`
	}
	if err := json.Unmarshal(raw, &body); err != nil {
		return nil, broken("it has no scores: %v", err)
	}
	if len(body.Results) != n {
		return nil, broken("it has %d scores, where %d were asked for", len(body.Results), n)
	}
	out := &exchange.Relevance{Scores: make([]float64, n)}
	if t := body.Usage.Prompt; t > 0 && t <= mostTokens {
		out.Tokens = t
	}
	seen := make([]bool, n)
	for _, r := range body.Results {
		if r.Index < 0 || r.Index >= n || seen[r.Index] || r.Relevance == nil {
			return nil, broken("its scores are not those of the documents from 0 to %d", n-1)
		}
		seen[r.Index], out.Scores[r.Index] = true, *r.Relevance
	}
	return out, nil
}

// vectors reads an answer with n vectors.
func vectors(raw []byte, n, dimensions int) (*exchange.Vectors, error) {
	var body struct {
		Data []struct {
			Index     int       `json:"index"`
			Embedding []float32 `json:"embedding"`
		} `json:"data"`
		Usage usage `json:"usage"`
	}
	if err := json.Unmarshal(raw, &body); err != nil {
		return nil, broken("it has no vectors: %v", err)
	}
	if len(body.Data) != n {
		return nil, broken("it has %d vectors, where %d were asked for", len(body.Data), n)
	}
	out := &exchange.Vectors{Vectors: make([][]float32, n)}
	if t := body.Usage.Prompt; t > 0 && t <= mostTokens {
		out.Tokens = t
	}
	for _, d := range body.Data {
		if d.Index < 0 || d.Index >= n || out.Vectors[d.Index] != nil || d.Embedding == nil {
			return nil, broken("its vectors are not numbered from 0 to %d", n-1)
		}
		out.Vectors[d.Index] = d.Embedding
	}
	return out, sound(out, n, dimensions)
}

// sound reports what is wrong with n vectors.
func sound(v *exchange.Vectors, n, dimensions int) error {
	if len(v.Vectors) != n {
		return broken("it has %d vectors, where %d were asked for", len(v.Vectors), n)
	}
	for _, one := range v.Vectors {
		if len(one) == 0 || len(one) > longVector || len(one) != len(v.Vectors[0]) || dimensions > 0 && len(one) != dimensions {
			return broken("a vector has %d dimensions", len(one))
		}
		for _, x := range one {
			if f := float64(x); math.IsNaN(f) || math.IsInf(f, 0) {
				return broken("a vector is not of numbers")
			}
		}
	}
	return nil
}
