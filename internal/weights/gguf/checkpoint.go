package gguf

import (
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"kindredgate/internal/weights"
)

// Open maps the file at path, and the other parts of a model of which it is the first, and reads their headers. The
// error names the file and what is wrong with it.
func Open(path string) (*weights.Checkpoint, error) {
	c := &weights.Checkpoint{}
	f, err := open(c, path)
	if err == nil {
		err = weights.Guarded(func() error {
			if err := describe(c, f); err != nil {
				return fmt.Errorf("%s: %w", path, err)
			}
			return openParts(c, f, path)
		})
	}
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

// open maps one file into a checkpoint.
func open(c *weights.Checkpoint, path string) (f *File, err error) {
	m, err := weights.Map(path)
	if err != nil {
		return nil, err
	}
	c.Closers = append(c.Closers, m)
	c.Size += int64(len(m.Data))
	err = weights.Guarded(func() (err error) {
		f, err = Parse(m.Data)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return f, nil
}

// Header makes a checkpoint of a header alone; its tensors may have no data.
func Header(f *File, size int64) (*weights.Checkpoint, error) {
	c := &weights.Checkpoint{Size: size, Tensors: f.Tensors}
	return c, describe(c, f)
}

// maxParts bounds how many files a model may have. A name that says more is that of a file like any other.
const maxParts = 1024

var partName = regexp.MustCompile(`^(.*)-(\d{5})-of-(\d{5})(\.[^.]+)$`)

// Part tells of a file's name whether it is one of several parts of a model, and of which: part of count. base is the
// name without that. It holds for every file that is named so, whatever its layout.
func Part(path string) (base string, part, count int, ok bool) {
	m := partName.FindStringSubmatch(filepath.Base(path))
	if m == nil {
		return "", 0, 0, false
	}
	part, _ = strconv.Atoi(m[2])
	count, _ = strconv.Atoi(m[3])
	return m[1], part, count, part >= 1 && part <= count && count <= maxParts
}

// PartPath is the path of part n of the model of which path is a part.
func PartPath(path string, n int) string {
	m := partName.FindStringSubmatch(filepath.Base(path))
	return strings.TrimSuffix(path, filepath.Base(path)) + fmt.Sprintf("%s-%05d-of-%s%s", m[1], n, m[3], m[4])
}

// openParts adds the tensors of the other parts.
func openParts(c *weights.Checkpoint, first *File, path string) error {
	count, err := first.Metadata.Int("split.count")
	if missing := (*MissingError)(nil); errors.As(err, &missing) || err == nil && count <= 1 {
		c.Tensors = first.Tensors
		return nil
	} else if err != nil {
		return err
	}
	number, err := first.Metadata.Int("split.no")
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if number != 0 {
		return fmt.Errorf("%s: it is part %d of %d; name the first one", path, number+1, count)
	}
	if _, part, named, ok := Part(path); !ok || part != 1 || named != count {
		return fmt.Errorf("%s: it says that it is the first of %d parts, but its name does not end in -00001-of-%05d.gguf, so the others cannot be found", path, count, count)
	}
	c.Tensors = first.Tensors
	names := map[string]bool{}
	for _, t := range c.Tensors {
		names[t.Name] = true
	}
	for n := 2; n <= count; n++ {
		f, err := open(c, PartPath(path, n))
		if errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("%s: part %d of %d is missing, %s: %w", path, n, count, filepath.Base(PartPath(path, n)), weights.ErrCut)
		} else if err != nil {
			return err
		}
		if no, err := f.Metadata.Int("split.no"); err != nil || no != n-1 {
			return fmt.Errorf("%s: it is not part %d of the model that its name says", PartPath(path, n), n)
		}
		for _, t := range f.Tensors {
			if names[t.Name] {
				return fmt.Errorf("%s: tensor %q is in another part too", PartPath(path, n), t.Name)
			}
			names[t.Name] = true
		}
		c.Tensors = append(c.Tensors, f.Tensors...)
	}
	if want, err := first.Metadata.Int("split.tensors.count"); err == nil && want != len(c.Tensors) {
		return fmt.Errorf("%s: its parts have %d tensors, not the %d that it names", path, len(c.Tensors), want)
	}
	return nil
}

// keys reads metadata of one architecture and keeps the first error.
type keys struct {
	md   Metadata
	arch string
	read map[string]bool // metadata that was asked for
	err  error
}

func read[T any](k *keys, key string, get func(string) (T, error)) T {
	key = strings.ReplaceAll(key, "*", k.arch)
	k.read[key] = true
	v, err := get(key)
	if missing := (*MissingError)(nil); err != nil && !errors.As(err, &missing) && k.err == nil {
		k.err = err
	}
	return v
}

func (k *keys) int(key string) int          { return read(k, key, k.md.Int) }
func (k *keys) float(key string) float64    { return read(k, key, k.md.Float) }
func (k *keys) string(key string) string    { return read(k, key, k.md.String) }
func (k *keys) floats(key string) []float32 { return read(k, key, k.md.Float32s) }

func (k *keys) fail(format string, args ...any) {
	if k.err == nil {
		k.err = fmt.Errorf(format, args...)
	}
}

// most is the largest of a number for each layer, or the one that holds for all.
func (k *keys) most(key string) int {
	full := strings.ReplaceAll(key, "*", k.arch)
	if a, ok := k.md[full].(Array); ok {
		k.read[full] = true
		list, err := k.md.Int32s(full)
		if err != nil || a.Len > maxLayers {
			k.fail("metadata %s is no list of whole numbers, one for each layer", full)
			return 0
		}
		return int(slices.Max(append(list, 0)))
	}
	return k.int(key)
}

// maxLayers bounds lists of which each layer has an element.
const maxLayers = 1 << 12

// plain is a value as [weights.Facts] has them; nil for lists that are too long to be of layers.
func plain(v any) any {
	switch v := v.(type) {
	case string, bool, float64:
		return v
	case float32:
		return float64(v)
	case Array:
		if v.Len > maxLayers {
			return nil
		}
		one := &reader{data: v.raw}
		list := make([]any, v.Len)
		for i := range list {
			list[i] = plain(one.value(v.Kind, maxArrayDepth))
		}
		return list
	}
	if n, err := (Metadata{"": v}).Int(""); err == nil {
		return float64(n)
	}
	return nil
}

// bool is nil if the key is missing.
func (k *keys) bool(key string) *bool {
	if _, ok := k.md[strings.ReplaceAll(key, "*", k.arch)]; !ok {
		k.read[strings.ReplaceAll(key, "*", k.arch)] = true
		return nil
	}
	v := read(k, key, k.md.Bool)
	return &v
}

// id is the number of a token, -1 if the key is missing.
func (k *keys) id(key string) int32 {
	if _, ok := k.md[key]; !ok {
		return -1
	}
	n := k.int(key)
	if n == math.MaxUint32 {
		return -1 // how some programs write that there is none
	}
	if k.err == nil && (n < 0 || n > math.MaxInt32) {
		k.err = fmt.Errorf("metadata %s is %d, which is no token", key, n)
	}
	return int32(n)
}

// poolings by their numbers in GGUF files.
var poolings = map[int]weights.Pooling{0: weights.PoolNone, 1: weights.PoolMean, 2: weights.PoolFirst, 3: weights.PoolLast}

// describe fills in what the header says.
func describe(c *weights.Checkpoint, f *File) error {
	arch, err := f.Metadata.String("general.architecture")
	if err != nil {
		return err
	}
	if len(arch) > weights.MaxName {
		return fmt.Errorf("metadata general.architecture has %d bytes, which is no name of a family", len(arch))
	}
	k := &keys{md: f.Metadata, arch: arch, read: map[string]bool{}}
	c.Layout, c.Architecture = "GGUF", arch
	c.Name, c.Description, c.License = k.string("general.name"), k.string("general.description"), k.string("general.license")
	h := &c.Hyper
	*h = weights.Hyperparameters{
		Vocabulary: k.int("*.vocab_size"), Width: k.int("*.embedding_length"), Layers: k.int("*.block_count"),
		Heads: k.int("*.attention.head_count"), KVHeads: k.most("*.attention.head_count_kv"), HeadDim: k.int("*.attention.key_length"),
		FeedForward: k.most("*.feed_forward_length"), Context: k.int("*.context_length"), Types: k.int("tokenizer.ggml.token_type_count"),
		NormEpsilon: k.float("*.attention.layer_norm_rms_epsilon"), Causal: k.bool("*.attention.causal"),
		Window: k.int("*.attention.sliding_window"), AttentionCap: k.float("*.attn_logit_softcapping"), LogitCap: k.float("*.final_logit_softcapping"),
		Experts: k.int("*.expert_count"), ExpertsUsed: k.int("*.expert_used_count"), ExpertFeedForward: k.int("*.expert_feed_forward_length"),
		Rope: weights.Rope{
			Base: k.float("*.rope.freq_base"), LocalBase: k.float("*.rope.freq_base_swa"), Dims: k.int("*.rope.dimension_count"), Scaling: k.string("*.rope.scaling.type"), Factor: k.float("*.rope.scaling.factor"),
			Original: k.int("*.rope.scaling.original_context_length"), Attention: k.float("*.rope.scaling.attn_factor"),
			BetaFast: k.float("*.rope.scaling.yarn_beta_fast"), BetaSlow: k.float("*.rope.scaling.yarn_beta_slow"),
		},
	}
	if h.NormEpsilon == 0 {
		h.NormEpsilon = k.float("*.attention.layer_norm_epsilon")
	}
	if h.Rope.Scaling == "none" {
		h.Rope.Scaling = ""
	}
	if h.Rope.Scaling == "" && h.Rope.Factor == 0 {
		if linear := k.float("*.rope.scale_linear"); linear > 0 {
			h.Rope.Scaling, h.Rope.Factor = "linear", linear
		}
	}
	readPattern(k, h)
	const ranks = 4
	pooling := k.int("*.pooling_type")
	var ok bool
	if h.Pooling, ok = poolings[pooling]; !ok && pooling != ranks {
		k.fail("pooling of kind %d is not supported; 1 (mean), 2 (first), 3 (last) and 4 (by a head that scores) are", pooling)
	}
	c.Ranks = pooling == ranks
	c.Facts = weights.Facts{Lookup: func(name string) (any, bool) {
		v, ok := f.Metadata[arch+"."+name]
		return plain(v), ok
	}}
	c.Unknown = func() []string { return k.unknown(&c.Facts) }
	tokens, _ := f.Metadata["tokenizer.ggml.tokens"].(Array) // that it is missing, the tokenizer says
	text := func(id int32) string {
		if id < 0 || int(id) >= tokens.Len || tokens.Kind != KindString {
			return ""
		}
		return tokens.String(int(id))
	}
	c.Begin, c.End = text(k.id("tokenizer.ggml.bos_token_id")), text(k.id("tokenizer.ggml.eos_token_id"))
	for _, key := range []string{"tokenizer.ggml.eos_token_id", "tokenizer.ggml.eot_token_id", "tokenizer.ggml.eom_token_id"} {
		if id := k.id(key); id >= 0 {
			c.Generation.Ends = append(c.Generation.Ends, id)
		}
	}
	c.ChatTemplate = k.string("tokenizer.chat_template")
	c.TokenizerKind = string(tokenizerModels[k.string("tokenizer.ggml.model")])
	c.TokenizerFault = tokenizerFault(f.Metadata)
	c.Tokenizer = func() (*weights.Tokenizer, error) { return readTokenizer(f.Metadata) }
	c.Fault = k.err
	return nil
}

// readPattern reads which layers see only the window: every so many sees all, or for each layer whether it is such a one.
func readPattern(k *keys, h *weights.Hyperparameters) {
	const key = "*.attention.sliding_window_pattern"
	if list, ok := k.md[strings.ReplaceAll(key, "*", k.arch)].(Array); ok && list.Kind == KindBool {
		h.Local = read(k, key, k.md.Bools)
	} else {
		h.WindowEvery = k.int(key)
	}
}

// neutral are keys that need not be known, as long as they say what holds without them; nil for those that never matter. Numbers and
// truth values are compared as numbers.
var neutral = map[string][]float64{
	"rope.scaling.finetuned": nil, "tensor_data_layout": nil, "rope.scale_linear": nil, "attention.layer_norm_epsilon": nil,
	"use_parallel_residual": {0}, "expert_gating_func": {0, 1}, "expert_weights_norm": {1}, "expert_weights_scale": {0, 1}, "leading_dense_block_count": {0},
	"interleave_moe_layer_step": {0, 1}, "expert_group_count": {0, 1}, "expert_group_used_count": {0, 1}, "nextn_predict_layers": {0},
	"embedding_scale": {0, 1}, "residual_scale": {0, 1}, "logit_scale": {0, 1}, "attention.scale": {0}, "attention.output_scale": {0, 1},
	"attention.clamp_kqv": {0}, "attention.max_alibi_bias": {0}, "attention.temperature_scale": {0}, "attention.temperature_length": nil,
	"rope.scaling.yarn_log_multiplier": {0}, "rope.scaling.yarn_ext_factor": {1}, "swin_norm": {0},
}

// unknown are the keys of the architecture that say something of the network which nobody has asked for, in order.
func (k *keys) unknown(asked *weights.Facts) (list []string) {
	for key := range k.md {
		name, own := strings.CutPrefix(key, k.arch+".")
		if !own || k.read[key] || asked.Asked(name) {
			continue
		}
		values, known := neutral[name]
		if known && values == nil {
			continue
		}
		if v, ok := k.md.Number(key); ok && slices.Contains(values, v) {
			continue
		}
		list = append(list, key)
	}
	slices.Sort(list)
	return list
}
