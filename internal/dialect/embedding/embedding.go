// Package embedding is the embedding style: the wire types of POST /v1/embeddings, translated to the neutral form and
// back. The reference for fields is the public interface description of that endpoint.
package embedding

import (
	"encoding/base64"
	"encoding/binary"
	"math"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Call is a decoded request.
type Call struct {
	exchange.Embedding
	Base64  bool
	Unknown []field.Ignored // fields that mean nothing here; they were ignored
}

// maxInputs is how many texts a request may have, by the standard.
const maxInputs = 2048

// Decode reads the body of a request. The error is an [exchange.Error] that names the field.
func Decode(body []byte) (*Call, error) {
	o, err := field.Parse(body)
	if err != nil {
		return nil, err
	}
	c := &Call{}
	if c.Model = wire.Model(o); c.Model == "" {
		o.Fail("model", "model is missing; GET /v1/models lists the installed ones")
	}
	switch o.Kind("input") {
	case field.Missing:
		o.Fail("input", "input is missing: a text, or a list of texts")
	case field.Text:
		s, _ := o.String("input")
		c.Inputs = []exchange.Input{{Text: s}}
	default:
		c.Inputs = wire.Inputs(o, "input", maxInputs)
	}
	c.Base64 = o.OneOf("encoding_format", "float", "base64") == "base64"
	if n := o.Int("dimensions", 1, 1<<20); n != nil {
		c.Dimensions = int(*n)
	}
	c.Purpose, _ = o.String("purpose")
	o.Ignore("user")
	c.Unknown = o.Ignored()
	return c, o.Err()
}

// List is a whole answer.
type List struct {
	Object string   `json:"object"`
	Data   []Vector `json:"data"`
	Model  string   `json:"model"`
	Usage  Usage    `json:"usage"`
}

// Vector is the vector of one text: numbers, or the base64 of little-endian float32.
type Vector struct {
	Object    string `json:"object"`
	Index     int    `json:"index"`
	Embedding any    `json:"embedding"`
}

// Usage counts tokens.
type Usage struct {
	PromptTokens int `json:"prompt_tokens"`
	TotalTokens  int `json:"total_tokens"`
}

// Encode writes vectors.
func Encode(c *Call, v *exchange.Vectors) *List {
	out := &List{Object: "list", Model: c.Model, Usage: Usage{PromptTokens: v.Tokens, TotalTokens: v.Tokens}, Data: make([]Vector, len(v.Vectors))}
	for i, vector := range v.Vectors {
		out.Data[i] = Vector{Object: "embedding", Index: i, Embedding: vector}
		if c.Base64 {
			raw := make([]byte, 0, 4*len(vector))
			for _, x := range vector {
				raw = binary.LittleEndian.AppendUint32(raw, math.Float32bits(x))
			}
			out.Data[i].Embedding = base64.StdEncoding.EncodeToString(raw)
		}
	}
	return out
}
