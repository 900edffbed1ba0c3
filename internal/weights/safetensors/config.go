package safetensors

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"path/filepath"
	"slices"
	"strings"

	"kindredgate/internal/sampling"
	"kindredgate/internal/weights"
)

// scaling is how positions are stretched, in each spelling that files have.
type scaling struct {
	Type     string    `json:"type"`
	RopeType string    `json:"rope_type"`
	Base     float64   `json:"rope_theta"`
	Factor   float64   `json:"factor"`
	Original int       `json:"original_max_position_embeddings"`
	Low      float64   `json:"low_freq_factor"`
	High     float64   `json:"high_freq_factor"`
	Fast     float64   `json:"beta_fast"`
	Slow     float64   `json:"beta_slow"`
	Truncate *bool     `json:"truncate"`
	Factors  *float64  `json:"attention_factor"`
	Short    []float64 `json:"short_factor"`
	Long     []float64 `json:"long_factor"`
	Partial  float64   `json:"partial_rotary_factor"`
	// Magnitude is used only beside MagnitudeAll, and alone changes nothing.
	Magnitude    float64 `json:"mscale"`
	MagnitudeAll float64 `json:"mscale_all_dim"`
}

// count is a number, or the largest of one for each layer. What is neither, such as a pattern of letters, counts as 0: the families that
// have it ask for it by themselves.
type count int

func (c *count) UnmarshalJSON(raw []byte) error {
	if len(raw) > 0 && raw[0] == '"' {
		return nil
	}
	if len(raw) == 0 || raw[0] != '[' {
		return json.Unmarshal(raw, (*int)(c))
	}
	var list []int
	err := json.Unmarshal(raw, &list)
	*c = count(slices.Max(append(list, 0)))
	return err
}

// tokenIDs is one token or a list of them.
type tokenIDs []int32

func (t *tokenIDs) UnmarshalJSON(raw []byte) error {
	if len(raw) > 0 && raw[0] == '[' {
		return json.Unmarshal(raw, (*[]int32)(t))
	}
	var one *int32
	if err := json.Unmarshal(raw, &one); err != nil || one == nil {
		return err
	}
	*t = tokenIDs{*one}
	return nil
}

// poolings by the names that config.json gives them.
var poolings = map[string]weights.Pooling{"mean": weights.PoolMean, "cls": weights.PoolFirst, "last": weights.PoolLast}

// document is config.json.
type document struct {
	ModelType string          `json:"model_type"`
	Name      string          `json:"_name_or_path"`
	Text      json.RawMessage `json:"text_config"`

	Tied *bool `json:"tie_word_embeddings"`

	Activation       string `json:"hidden_act"`
	HiddenActivation string `json:"hidden_activation"`

	UseWindow     *bool    `json:"use_sliding_window"`
	WindowEvery   count    `json:"sliding_window_pattern"`
	LayerTypes    []string `json:"layer_types"`
	AttentionCap  float64  `json:"attn_logit_softcapping"`
	LogitCap      float64  `json:"final_logit_softcapping"`
	QueryScalar   float64  `json:"query_pre_attn_scalar"`
	Bidirectional bool     `json:"use_bidirectional_attention"`
	Causal        *bool    `json:"is_causal"`
	Pooling       string   `json:"pooling"`
	SwigluLimit   float64  `json:"swiglu_limit"`

	RopeTheta   float64         `json:"rope_theta"`
	LocalTheta  float64         `json:"rope_local_base_freq"`
	Partial     float64         `json:"partial_rotary_factor"`
	RopeScaling *scaling        `json:"rope_scaling"`
	RopeParams  json.RawMessage `json:"rope_parameters"`
	Original    int             `json:"original_max_position_embeddings"`
	Initial     int             `json:"initial_context_length"`

	NormalizeTopK *bool `json:"norm_topk_prob"`

	EOS    tokenIDs `json:"eos_token_id"`
	Nested []int    `json:"matryoshka_dimensions"`

	Quantization *struct {
		Method string `json:"quant_method"`
		Block  []int  `json:"weight_block_size"`
	} `json:"quantization_config"`
}

// Configure fills in what config.json says.
func Configure(c *weights.Checkpoint, raw []byte) error {
	raw = withoutInfinity(raw)
	var d document
	if err := json.Unmarshal(raw, &d); err != nil {
		return err
	}
	if d.ModelType == "" {
		return errors.New("model_type is missing")
	}
	var all map[string]any
	if err := json.Unmarshal(raw, &all); err != nil {
		return err
	}
	whole := all
	c.Whole = weights.Facts{Lookup: func(name string) (any, bool) { return field(whole, name) }}
	if inner, wraps := all["text_config"].(map[string]any); wraps && all["hidden_size"] == nil {
		// A model that also sees wraps the one that reads; tensors of the other part are left alone.
		outer := d
		d = document{EOS: outer.EOS, Tied: outer.Tied}
		if err := json.Unmarshal(outer.Text, &d); err != nil {
			return fmt.Errorf("text_config: %w", err)
		}
		all = inner
		if d.ModelType == "" {
			d.ModelType = outer.ModelType
		}
	}
	if q := d.Quantization; q != nil && q.Method == "fp8" {
		if q.Block != nil && !slices.Equal(q.Block, []int{128, 128}) {
			return fmt.Errorf("weights of bytes with a scale for %v of them are not supported; [128 128] are", q.Block)
		}
	} else if q != nil && q.Method != "mxfp4" {
		return fmt.Errorf("weights quantised by %q are not supported; bring the unquantised folder and convert it here, or a GGUF file", q.Method)
	}
	c.Layout, c.Architecture = "safetensors", d.ModelType
	c.Facts = weights.Facts{Lookup: func(name string) (any, bool) { return field(all, name) }}
	c.Generation.Ends = d.EOS
	c.Nested = d.Nested
	h := &c.Hyper
	*h = weights.Hyperparameters{
		Tied:        d.Tied,
		NormEpsilon: c.Facts.Float("rms_norm_eps", "layer_norm_eps", "norm_eps", "norm_epsilon", "layer_norm_epsilon", "attention.layer_norm_rms_epsilon"),
		Activation:  d.HiddenActivation, WindowEvery: int(d.WindowEvery), AttentionCap: d.AttentionCap, LogitCap: d.LogitCap,
		QueryScalar: d.QueryScalar, ClampedGate: d.SwigluLimit, NormalizeExperts: d.NormalizeTopK,
	}
	for i, to := range []*int{&h.Vocabulary, &h.Width, &h.Layers, &h.Heads, &h.KVHeads, &h.HeadDim, &h.FeedForward, &h.Context, &h.Types, &h.Window, &h.Experts, &h.ExpertsUsed,
		&h.ExpertFeedForward} {
		if to == &h.FeedForward || to == &h.ExpertFeedForward { // which some files have layer by layer
			*to = c.Facts.Most(sizes[i]...)
		} else {
			*to = c.Facts.Int(sizes[i]...)
		}
	}
	if h.Activation == "" {
		h.Activation = d.Activation
	}
	if d.UseWindow != nil && !*d.UseWindow {
		h.Window = 0
	}
	h.Causal = d.Causal
	if d.Bidirectional {
		h.Causal = new(bool)
	}
	if h.Pooling = poolings[d.Pooling]; h.Pooling == weights.PoolNone && d.Pooling != "" {
		return fmt.Errorf("pooling by %q is not supported; mean, cls and last are", d.Pooling)
	}
	for _, t := range d.LayerTypes {
		h.Local = append(h.Local, t == "sliding_attention")
	}
	if h.HeadDim == 0 && h.Heads > 0 {
		h.HeadDim = h.Width / h.Heads
	}
	return errors.Join(rope(h, &d), c.Facts.Err())
}

// sizes are what the fields of config.json are called that most families have, the last of each as in GGUF files.
var sizes = [][]string{{"vocab_size"}, {"hidden_size", "n_embd", "embedding_length"}, {"num_hidden_layers", "n_layer", "block_count"}, {"num_attention_heads", "n_head", "attention.head_count"},
	{"num_key_value_heads", "attention.head_count_kv"}, {"head_dim", "attention.key_length"}, {"intermediate_size", "n_inner", "feed_forward_length"},
	{"max_position_embeddings", "n_positions", "context_length"}, {"type_vocab_size"}, {"sliding_window", "attention.sliding_window"},
	{"num_local_experts", "num_experts", "expert_count"}, {"num_experts_per_tok", "expert_used_count"}, {"moe_intermediate_size", "expert_feed_forward_length"}}

// field is a value of config.json by its path, with dots between the names of nested objects.
func field(in map[string]any, path string) (any, bool) {
	name, rest, nested := strings.Cut(path, ".")
	v, ok := in[name]
	if !nested {
		return v, ok
	}
	inner, _ := v.(map[string]any)
	return field(inner, rest)
}

// withoutInfinity puts null in the place of the numbers that JSON does not have, and that some published files have all the same.
func withoutInfinity(raw []byte) []byte {
	var out []byte
	quoted := false
	from := 0
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case !quoted && (c == 'I' || c == 'N'):
			for _, word := range []string{"Infinity", "NaN"} {
				if bytes.HasPrefix(raw[i:], []byte(word)) {
					before := i
					if i > 0 && raw[i-1] == '-' {
						before--
					}
					out = append(append(out, raw[from:before]...), "null"...)
					from = i + len(word)
					i = from - 1
					break
				}
			}
		}
	}
	if from == 0 {
		return raw
	}
	return append(out, raw[from:]...)
}

func rope(h *weights.Hyperparameters, d *document) error {
	r := &h.Rope
	r.Base, r.LocalBase = d.RopeTheta, d.LocalTheta
	s := d.RopeScaling
	if len(d.RopeParams) > 0 && string(d.RopeParams) != "null" {
		var by struct {
			scaling
			Full  *scaling `json:"full_attention"`
			Local *scaling `json:"sliding_attention"`
		}
		if err := json.Unmarshal(d.RopeParams, &by); err != nil {
			return fmt.Errorf("rope_parameters: %w", err)
		}
		s = &by.scaling
		if by.Full != nil {
			s = by.Full
		}
		if by.Local != nil {
			r.LocalBase = by.Local.Base
		}
	}
	partial := d.Partial
	if s != nil {
		if r.Base == 0 {
			r.Base = s.Base
		}
		partial = max(partial, s.Partial)
		kind := strings.ToLower(s.RopeType)
		if older := strings.ToLower(s.Type); kind == "" {
			kind = older
		} else if older != "" && older != kind { // published files have both spellings, and both say the same
			return fmt.Errorf("rope scaling is of type %q by rope_type and %q by type", s.RopeType, s.Type)
		}
		switch kind {
		case "default", "mrope": // by positions of several kinds, which are the same in texts
			kind = ""
		case "su":
			kind = "longrope"
		}
		r.Scaling = kind
		r.Factor, r.LowFrequency, r.HighFrequency, r.BetaFast, r.BetaSlow = s.Factor, s.Low, s.High, s.Fast, s.Slow
		r.Unrounded = s.Truncate != nil && !*s.Truncate
		r.Short, r.Long = s.Short, s.Long
		r.Magnitude, r.MagnitudeAll = s.Magnitude, s.MagnitudeAll
		r.Original = s.Original
		if s.Factors != nil {
			r.Attention = *s.Factors
		}
	}
	if r.Original == 0 {
		r.Original = max(d.Original, d.Initial)
	}
	r.Dims = h.HeadDim
	if partial > 0 && partial < 1 {
		r.Dims = int(float64(h.HeadDim) * partial)
	}
	return nil
}

// readCompanions reads what lies beside config.json and the weights. What is not there is left open.
func readCompanions(c *weights.Checkpoint, folder string) error {
	optional := func(name string, read func([]byte) error) error {
		raw, err := readSmall(folder, name, maxText)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err == nil:
			err = read(raw)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return nil
	}
	var special tokenizerConfig
	err := errors.Join(
		optional("generation_config.json", func(raw []byte) error { return ReadGeneration(&c.Generation, raw) }),
		optional("preprocessor_config.json", func(raw []byte) error {
			var all map[string]any
			err := json.Unmarshal(withoutInfinity(raw), &all)
			c.Pictures = weights.Facts{Lookup: func(name string) (any, bool) { return field(all, name) }}
			return err
		}),
		optional("tokenizer_config.json", func(raw []byte) error {
			if err := json.Unmarshal(raw, &special); err != nil {
				return err
			}
			return special.describe(c)
		}),
		optional("chat_template.jinja", func(raw []byte) error {
			c.ChatTemplate = string(raw)
			return nil
		}),
		optional("modules.json", func(raw []byte) error { return readModules(c, folder, raw) }),
		optional("config_sentence_transformers.json", func(raw []byte) error { return readPurposes(c, raw) }),
	)
	c.Tokenizer = func() (*weights.Tokenizer, error) {
		raw, err := readSmall(folder, "tokenizer.json", maxTokenizer)
		if err != nil {
			return nil, err
		}
		t, err := ReadTokenizer(raw)
		if err != nil {
			return nil, fmt.Errorf("tokenizer.json: %w", err)
		}
		return t, special.apply(t)
	}
	return err
}

// ReadGeneration reads generation_config.json.
func ReadGeneration(g *weights.Generation, raw []byte) error {
	var d struct {
		sampling.Settings
		Sample *bool    `json:"do_sample"`
		EOS    tokenIDs `json:"eos_token_id"`
	}
	if err := json.Unmarshal(raw, &d); err != nil {
		return err
	}
	g.Settings = d.Settings
	if d.Sample != nil && !*d.Sample {
		g.Temperature = new(float64)
	}
	for _, id := range d.EOS {
		if !slices.Contains(g.Ends, id) {
			g.Ends = append(g.Ends, id)
		}
	}
	return nil
}

// readModules reads how an embedding model goes on from the network: pooling, dense layers, normalization.
func readModules(c *weights.Checkpoint, folder string, raw []byte) error {
	var modules []struct{ Path, Type string }
	if err := json.Unmarshal(raw, &modules); err != nil {
		return err
	}
	for _, m := range modules {
		kind := m.Type[strings.LastIndexByte(m.Type, '.')+1:]
		if m.Path != "" && m.Path != filepath.Base(m.Path) {
			return fmt.Errorf("the module %q lies outside of the folder", m.Path)
		}
		switch kind {
		case "Transformer", "Normalize":
		case "Pooling":
			if err := readPooling(c, filepath.Join(folder, m.Path)); err != nil {
				return err
			}
		case "Dense":
			if err := readDense(c, folder, m.Path); err != nil {
				return err
			}
		default:
			return fmt.Errorf("a module of type %q is not supported; Transformer, Pooling, Dense and Normalize are", m.Type)
		}
	}
	return nil
}

func readPooling(c *weights.Checkpoint, folder string) error {
	raw, err := readSmall(folder, ConfigFile, maxText)
	if err != nil {
		return err
	}
	var by map[string]any
	if err := json.Unmarshal(raw, &by); err != nil {
		return err
	}
	var on []string
	for key, v := range by {
		if v == true && strings.HasPrefix(key, "pooling_mode_") {
			on = append(on, strings.TrimPrefix(key, "pooling_mode_"))
		}
	}
	switch strings.Join(on, ", ") {
	case "mean_tokens":
		c.Hyper.Pooling = weights.PoolMean
	case "cls_token":
		c.Hyper.Pooling = weights.PoolFirst
	case "lasttoken":
		c.Hyper.Pooling = weights.PoolLast
	default:
		slices.Sort(on)
		return fmt.Errorf("pooling by %q is not supported; mean_tokens, cls_token and lasttoken are", strings.Join(on, ", "))
	}
	return nil
}

func readDense(c *weights.Checkpoint, folder, module string) error {
	raw, err := readSmall(filepath.Join(folder, module), ConfigFile, maxText)
	if err != nil {
		return err
	}
	var d struct {
		Bias       bool   `json:"bias"`
		Activation string `json:"activation_function"`
	}
	if err := json.Unmarshal(raw, &d); err != nil {
		return err
	}
	if d.Bias || !strings.HasSuffix(d.Activation, ".Identity") {
		return fmt.Errorf("%s: a dense layer with a bias or an activation (%s) is not supported", module, d.Activation)
	}
	files, err := Shards(filepath.Join(folder, module))
	if err != nil {
		return fmt.Errorf("%s: %w", module, err)
	}
	n := 0
	for _, t := range c.Tensors {
		if strings.HasPrefix(t.Name, DensePrefix) {
			n++
		}
	}
	for _, file := range files {
		if err := addFile(c, file, fmt.Sprintf("%s%d.", DensePrefix, n)); err != nil {
			return fmt.Errorf("%s: %w", module, err)
		}
	}
	return nil
}

// DensePrefix begins the names of the tensors of dense layers behind the network, with their number after it.
const DensePrefix = "dense."

func readPurposes(c *weights.Checkpoint, raw []byte) error {
	var d struct {
		Prompts map[string]string `json:"prompts"`
		Default *string           `json:"default_prompt_name"`
		Nested  []int             `json:"matryoshka_dimensions"`
	}
	if err := json.Unmarshal(raw, &d); err != nil {
		return err
	}
	c.Purposes = d.Prompts
	if d.Default != nil {
		c.Purpose = *d.Default
	}
	if d.Nested != nil {
		c.Nested = d.Nested
	}
	return nil
}

// tokenizerConfig is tokenizer_config.json.
type tokenizerConfig struct {
	Class    string          `json:"tokenizer_class"`
	AddBOS   *bool           `json:"add_bos_token"`
	AddEOS   *bool           `json:"add_eos_token"`
	BOS      named           `json:"bos_token"`
	EOS      named           `json:"eos_token"`
	Template json.RawMessage `json:"chat_template"`
	Added    map[string]struct {
		Content string `json:"content"`
		Special bool   `json:"special"`
		Left    bool   `json:"lstrip"`
		Right   bool   `json:"rstrip"`
	} `json:"added_tokens_decoder"`
}

// named is a token by its text, alone or in an object.
type named string

func (n *named) UnmarshalJSON(raw []byte) error {
	if len(raw) > 0 && raw[0] == '{' {
		var o struct {
			Content string `json:"content"`
		}
		err := json.Unmarshal(raw, &o)
		*n = named(o.Content)
		return err
	}
	return json.Unmarshal(raw, (*string)(n))
}

// describe fills in what the header of a model tells.
func (t *tokenizerConfig) describe(c *weights.Checkpoint) error {
	c.Begin, c.End = string(t.BOS), string(t.EOS)
	c.TokenizerKind = strings.TrimSuffix(t.Class, "Fast")
	if len(t.Template) == 0 || string(t.Template) == "null" {
		return nil
	}
	if json.Unmarshal(t.Template, &c.ChatTemplate) == nil {
		return nil
	}
	var several []struct{ Name, Template string }
	if err := json.Unmarshal(t.Template, &several); err != nil {
		return fmt.Errorf("chat_template: %w", err)
	}
	for _, one := range several {
		if one.Name == "default" || c.ChatTemplate == "" {
			c.ChatTemplate = one.Template
		}
	}
	return nil
}

// apply puts into a definition what only tokenizer_config.json says.
func (c *tokenizerConfig) apply(t *weights.Tokenizer) error {
	find := func(text string) int32 {
		for _, a := range t.Added {
			if a.Text == text {
				return a.ID
			}
		}
		return int32(slices.Index(t.Tokens, text))
	}
	if c.BOS != "" {
		t.BOS = find(string(c.BOS))
	}
	if c.EOS != "" {
		t.EOS = find(string(c.EOS))
	}
	if len(t.Prefix) == 0 && t.BOS >= 0 && c.AddBOS != nil && *c.AddBOS {
		t.Prefix = []int32{t.BOS}
	}
	if len(t.Suffix) == 0 && t.EOS >= 0 && c.AddEOS != nil && *c.AddEOS {
		t.Suffix = []int32{t.EOS}
	}
	if c.AddBOS != nil && !*c.AddBOS && len(t.Prefix) == 1 && t.Prefix[0] == t.BOS {
		t.Prefix = nil
	}
	if len(t.Tokens) > math.MaxInt32 {
		return errors.New("there are too many tokens")
	}
	return nil
}
