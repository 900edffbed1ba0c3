// Package weights is what every layout of a model on disk gives: a [Checkpoint] with hyperparameters by the trade's
// names, tensors, the definition of the tokenizer, and what the author says of the model.
//
// Packages below this one read the layouts. Those above it know no file format.
package weights

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"kindredgate/internal/sampling"
)

// Checkpoint is a model as it lies on disk. Tensor data are slices of mapped files, which stay mapped until Close.
type Checkpoint struct {
	Layout       string // "GGUF" or "safetensors"
	Name         string // what the author calls it
	Description  string
	License      string
	Architecture string // the family, by the name that the files give it
	Hyper        Hyperparameters
	Tensors      []Tensor
	ChatTemplate string
	Generation   Generation
	// Purposes are the prompts by which an embedding model tells what a text is for, by purpose; Purpose is the one
	// for texts of which nothing is said.
	Purposes map[string]string
	Purpose  string
	// Ranks says that the model scores how well two texts go together.
	Ranks bool
	// Nested are the lengths to which vectors may be cut, if the model was trained for that.
	Nested []int
	// Fault is why the hyperparameters cannot be understood. It does not matter before the family is known.
	Fault error
	// Facts are what the files say beside Hyper, and Unknown gives the names of what they say of the network that nobody has asked
	// for, when the family has asked for all that it knows. It may be nil.
	Facts   Facts
	Unknown func() []string
	// Whole is what config.json says outside of its part on text too, and Pictures what preprocessor_config.json says.
	Whole, Pictures Facts

	// Begin and End are the texts of the begin and the end token, which templates write; empty if there are none.
	Begin, End string
	// TokenizerKind names the kind of tokenizer, and TokenizerFault says why it cannot be built, both as far as the header
	// tells.
	TokenizerKind  string
	TokenizerFault error
	// Tokenizer reads the definition of the tokenizer, which may take a while.
	Tokenizer func() (*Tokenizer, error)

	Size    int64 // bytes of all files
	Closers []io.Closer

	byName map[string]int
}

// Tensor is one array of numbers.
type Tensor struct {
	Name  string
	Type  Type
	Shape []int  // outermost dimension first: a matrix of r rows and c columns is [r, c]
	Data  []byte // a slice of a mapped file
	// Scales are those of a type that has them apart, row by row of its [Grid].
	Scales []byte
}

// Elements is the number of elements.
func (t *Tensor) Elements() int64 {
	n := int64(1)
	for _, d := range t.Shape {
		n *= int64(d)
	}
	return n
}

// Hyperparameters are the numbers that say how large a network is and how it computes. Zero, nil and empty mean that the
// files do not say.
type Hyperparameters struct {
	Vocabulary  int // tokens
	Width       int // of the residual stream
	Layers      int
	Heads       int // query heads
	KVHeads     int // key/value heads; the most that a layer has, if layers differ
	HeadDim     int
	FeedForward int // width of the hidden layer; the largest, if layers differ
	Context     int // tokens
	Types       int // kinds of tokens, for encoders that tell sentences apart

	NormEpsilon  float64
	Tied         *bool // whether the output matrix is the embedding
	Activation   string
	Causal       *bool
	Pooling      Pooling
	Window       int    // positions that a local layer sees, its own included
	Local        []bool // by layer: whether it is one that sees only the window
	WindowEvery  int    // every so many layers one is global
	AttentionCap float64
	LogitCap     float64
	QueryScalar  float64 // scores are divided by its square root, rather than by that of HeadDim
	ClampedGate  float64

	Experts, ExpertsUsed, ExpertFeedForward int
	NormalizeExperts                        *bool // whether the chosen experts' weights are divided by their sum

	Rope Rope
}

// Rope says how positions rotate queries and keys.
type Rope struct {
	Base      float64
	LocalBase float64 // of local layers
	Dims      int     // of a head, that are rotated
	Scaling   string  // as the files name it: "", "linear", "llama3", "yarn", "longrope", …
	Factor    float64
	Original  int // the context that the network was trained with before it was extended

	LowFrequency, HighFrequency float64 // llama3
	BetaFast, BetaSlow          float64 // yarn
	Unrounded                   bool    // yarn: whether the ramp's ends are left between two dimensions
	Attention                   float64 // what sines and cosines are multiplied with
	Magnitude, MagnitudeAll     float64 // yarn: by which what they are multiplied with is worked out, of the rotated dimensions and of all
	Short, Long                 []float64
}

// Pooling is a way to make one vector of many.
type Pooling int

// The ways.
const (
	PoolNone Pooling = iota // the model predicts tokens
	PoolMean
	PoolFirst
	PoolLast
)

// Generation is how the author recommends to generate text. A nil field means no opinion.
type Generation struct {
	sampling.Settings
	Ends []int32 // tokens that end an answer
}

// Bounds of what the files say in words, in bytes. Whatever reads them may take time and memory in proportion, wherever they are listed.
const (
	MaxName     = 64      // of a family
	maxTitle    = 256     // of the model, the license, a token or a purpose
	maxProse    = 4096    // of a description, or a license that is written out
	maxTemplate = 1 << 20 // of a chat template, which has to be parsed
	maxPurposes = 256     // prompts of an embedding model
	maxEnds     = 64      // tokens that end an answer
)

// Bound cuts what is only shown, and reports what is too long to be used.
func (c *Checkpoint) Bound() error {
	c.Name, c.TokenizerKind = shortened(c.Name, maxTitle), shortened(c.TokenizerKind, maxTitle)
	c.Description, c.License = shortened(c.Description, maxProse), shortened(c.License, maxProse)
	for _, b := range []struct {
		what string
		n    int
		most int
	}{
		{"name of its family", len(c.Architecture), MaxName}, {"text of its begin token", len(c.Begin), maxTitle}, {"text of its end token", len(c.End), maxTitle},
		{"chat template", len(c.ChatTemplate), maxTemplate}, {"name of its default purpose", len(c.Purpose), maxTitle},
	} {
		if b.n > b.most {
			return fmt.Errorf("the %s has %d bytes; at most %d are read", b.what, b.n, b.most)
		}
	}
	if len(c.Purposes) > maxPurposes || len(c.Nested) > maxPurposes || len(c.Generation.Ends) > maxEnds {
		return fmt.Errorf("its files list %d purposes, %d lengths of vectors and %d tokens that end an answer; at most %d, %d and %d are read",
			len(c.Purposes), len(c.Nested), len(c.Generation.Ends), maxPurposes, maxPurposes, maxEnds)
	}
	for name, text := range c.Purposes {
		if len(name) > maxTitle || len(text) > maxProse {
			return fmt.Errorf("the prompt for the purpose %.40q has %d bytes, and its name %d; at most %d and %d are read", name, len(text), len(name), maxProse, maxTitle)
		}
	}
	return nil
}

// shortened cuts a text after most bytes, at the end of a character.
func shortened(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

// Find returns the tensor of that name, and whether there is one.
func (c *Checkpoint) Find(name string) (*Tensor, bool) {
	if c.byName == nil {
		c.Index()
	}
	i, ok := c.byName[name]
	if !ok {
		return nil, false
	}
	return &c.Tensors[i], true
}

// Index prepares Find. It must be called again when tensors were added.
func (c *Checkpoint) Index() {
	c.byName = make(map[string]int, len(c.Tensors))
	for i, t := range c.Tensors {
		c.byName[t.Name] = i
	}
}

// Parameters is the number of elements in all tensors together.
func (c *Checkpoint) Parameters() int64 {
	var sum int64
	for i := range c.Tensors {
		sum += c.Tensors[i].Elements()
	}
	return sum
}

// Share is how many bytes of the weights are stored as one type.
type Share struct {
	Type  Type
	Bytes int64
}

// Shares tells how the weights are stored, the largest share first.
func (c *Checkpoint) Shares() []Share {
	var by [Types]int64
	for _, t := range c.Tensors {
		bytes, err := t.Type.Size(t.Shape)
		if err != nil {
			continue // no reader lets that pass
		}
		columns := 1
		if n := len(t.Shape); n > 0 {
			columns = max(1, t.Shape[n-1])
		}
		by[t.Type] += bytes + int64(t.Type.Layout().Scales.Size(int(t.Elements()/int64(columns)), columns))
	}
	var list []Share
	for t, n := range by {
		if n > 0 {
			list = append(list, Share{Type(t), n})
		}
	}
	slices.SortStableFunc(list, func(a, b Share) int {
		switch {
		case a.Bytes > b.Bytes:
			return -1
		case a.Bytes < b.Bytes:
			return 1
		}
		return 0
	})
	return list
}

// Close unmaps the files. Tensor data must not be used afterwards.
func (c *Checkpoint) Close() error {
	var errs []error
	for _, x := range c.Closers {
		errs = append(errs, x.Close())
	}
	c.Closers = nil
	return errors.Join(errs...)
}

// Prompt is the text that goes in front of a text for a purpose. An empty purpose is the default. The error names the
// purposes that there are.
func (c *Checkpoint) Prompt(purpose string) (string, error) {
	if purpose == "" {
		return c.Purposes[c.Purpose], nil
	}
	p, ok := c.Purposes[purpose]
	if !ok {
		if len(c.Purposes) == 0 {
			return "", fmt.Errorf("the model's files define no purposes; leave purpose out")
		}
		var names []string
		for name := range c.Purposes {
			names = append(names, name)
		}
		slices.Sort(names)
		return "", fmt.Errorf("the model's files define no purpose %q; they define %s", purpose, strings.Join(names, ", "))
	}
	return p, nil
}
