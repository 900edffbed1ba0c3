package model

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"kindredgate/internal/picture"
	"kindredgate/internal/vision"
	"kindredgate/internal/weights"
)

// The towers of the families that are known. Where a file does not say, what the family was published with holds.

// eyes are what a family's tower has, beside what its files say.
type eyes struct {
	fit      vision.Fit
	filter   picture.Filter
	mean     [3]float32
	std      [3]float32
	marks    vision.Marks
	merge    int
	frames   int
	norm     NormKind
	epsilon  float64
	gated    bool
	act      Activation
	join     joinForm
	joinNorm NormKind
	class    bool
	before   bool
	after    bool
	rotates  bool
	names    map[string]names
	left     []string // tensors that are left alone
}

var (
	clipMean = [3]float32{0.48145466, 0.4578275, 0.40821073}
	clipStd  = [3]float32{0.26862954, 0.26130258, 0.27577711}
	half     = [3]float32{0.5, 0.5, 0.5}

	llavaMarks   = vision.Marks{Mark: "<image>", Token: "<image>"}
	pixtralMarks = vision.Marks{Mark: "[IMG]", Token: "[IMG]", Break: "[IMG_BREAK]", After: "[IMG_END]"}
	qwenMarks    = vision.Marks{Mark: "<|image_pad|>", Token: "<|image_pad|>"}

	ggufTower = names{
		towerPatch: "v.patch_embd", towerSecond: "v.patch_embd.weight.1", towerClass: "v.class_embd", towerPositions: "v.position_embd", towerBefore: "v.pre_ln", towerAfter: "v.post_ln",
		mixerNorm: "v.blk.%d.ln1", feedForwardNorm: "v.blk.%d.ln2", queryRole: "v.blk.%d.attn_q", keyRole: "v.blk.%d.attn_k", valueRole: "v.blk.%d.attn_v", queryKeyValue: "v.blk.%d.attn_qkv",
		attentionOut: "v.blk.%d.attn_out", gateRole: "v.blk.%d.ffn_gate", upRole: "v.blk.%d.ffn_up", downRole: "v.blk.%d.ffn_down", gateUp: "",
		joinFirst: "mm.0", joinSecond: "mm.2",
	}
	siglipTower  = clipNames("vision_tower.vision_model.")
	pixtralTower = names{
		towerPatch: "vision_tower.patch_conv", towerBefore: "vision_tower.ln_pre",
		mixerNorm: "vision_tower.transformer.layers.%d.attention_norm", feedForwardNorm: "vision_tower.transformer.layers.%d.ffn_norm",
		queryRole: "vision_tower.transformer.layers.%d.attention.q_proj", keyRole: "vision_tower.transformer.layers.%d.attention.k_proj",
		valueRole: "vision_tower.transformer.layers.%d.attention.v_proj", attentionOut: "vision_tower.transformer.layers.%d.attention.o_proj",
		gateRole: "vision_tower.transformer.layers.%d.feed_forward.gate_proj", upRole: "vision_tower.transformer.layers.%d.feed_forward.up_proj",
		downRole: "vision_tower.transformer.layers.%d.feed_forward.down_proj", gateUp: "", queryKeyValue: "",
		joinNorm: "multi_modal_projector.norm", joinMerge: "multi_modal_projector.patch_merger.merging_layer",
		joinFirst: "multi_modal_projector.linear_1", joinSecond: "multi_modal_projector.linear_2",
	}
)

func clipNames(before string) names {
	layer := before + "encoder.layers.%d."
	return names{
		towerPatch: before + "embeddings.patch_embedding", towerClass: before + "embeddings.class_embedding", towerPositions: before + "embeddings.position_embedding",
		towerBefore: before + "pre_layrnorm", towerAfter: before + "post_layernorm",
		mixerNorm: layer + "layer_norm1", feedForwardNorm: layer + "layer_norm2", queryRole: layer + "self_attn.q_proj", keyRole: layer + "self_attn.k_proj", valueRole: layer + "self_attn.v_proj",
		attentionOut: layer + "self_attn.out_proj", upRole: layer + "mlp.fc1", downRole: layer + "mlp.fc2", gateUp: "", queryKeyValue: "",
		joinFirst: "multi_modal_projector.linear_1", joinSecond: "multi_modal_projector.linear_2",
	}
}

// qwenNames are those of the qwen towers, whose feed-forward and merger are called otherwise in each.
func qwenNames(up, down, norm, first, second string) names {
	const layer = "visual.blocks.%d."
	return names{
		towerPatch: "visual.patch_embed.proj", towerPositions: "visual.pos_embed", mixerNorm: layer + "norm1", feedForwardNorm: layer + "norm2", queryKeyValue: layer + "attn.qkv",
		attentionOut: layer + "attn.proj", gateRole: layer + "mlp.gate_proj", upRole: layer + "mlp." + up, downRole: layer + "mlp." + down, gateUp: "",
		joinNorm: "visual.merger." + norm, joinFirst: "visual.merger." + first, joinSecond: "visual.merger." + second,
		deepNorm: "visual.deepstack_merger_list.%d.norm", deepFirst: "visual.deepstack_merger_list.%d.linear_fc1", deepSecond: "visual.deepstack_merger_list.%d.linear_fc2",
	}
}

// with is a copy with other names for some roles.
func (n names) with(other names) names {
	out := names{}
	for _, list := range []names{n, other} {
		for r, name := range list {
			out[r] = name
		}
	}
	return out
}

// towers by kind.
var towers = map[string]eyes{
	"gemma3": {fit: vision.Square, filter: picture.Bilinear, mean: half, std: half, merge: 4, frames: 1, norm: LayerNorm, epsilon: 1e-6, act: TanhGELU, join: joinPooled, joinNorm: RMSNorm, after: true,
		marks: vision.Marks{Mark: "<start_of_image>", Before: "\n\n<start_of_image>", Token: "<image_soft_token>", After: "<end_of_image>\n\n"},
		names: map[string]names{
			"safetensors": siglipTower.with(names{joinNorm: "multi_modal_projector.mm_soft_emb_norm", joinFirst: "multi_modal_projector.mm_input_projection_weight"}),
			"GGUF":        ggufTower.with(names{joinNorm: "mm.soft_emb_norm", joinFirst: "mm.input_projection"}),
		}},
	"llava": {fit: vision.Crop, filter: picture.Bicubic, mean: clipMean, std: clipStd, merge: 1, frames: 1, norm: LayerNorm, epsilon: 1e-5, act: QuickGELU, class: true, before: true, marks: llavaMarks,
		names: map[string]names{"safetensors": siglipTower, "GGUF": ggufTower}, left: []string{".post_layernorm.", "v.post_ln."}},
	"llava siglip": {fit: vision.Square, filter: picture.Bicubic, mean: half, std: half, merge: 1, frames: 1, norm: LayerNorm, epsilon: 1e-6, act: TanhGELU, marks: llavaMarks,
		names: map[string]names{"safetensors": siglipTower}, left: []string{".post_layernorm."}},
	"pixtral": {fit: vision.Longest, filter: picture.Bicubic, mean: clipMean, std: clipStd, merge: 1, frames: 1, norm: RMSNorm, epsilon: 1e-5, gated: true, before: true, rotates: true, marks: pixtralMarks,
		names: map[string]names{"safetensors": pixtralTower, "GGUF": ggufTower.with(names{joinFirst: "mm.1"})}, left: []string{"v.token_embd.img_break"}},
	"mistral3": {fit: vision.Longest, filter: picture.Bicubic, mean: clipMean, std: clipStd, merge: 2, frames: 1, norm: RMSNorm, epsilon: 1e-5, gated: true, before: true, rotates: true, marks: pixtralMarks,
		join: joinChannels, joinNorm: RMSNorm,
		names: map[string]names{"safetensors": pixtralTower, "GGUF": ggufTower.with(names{joinFirst: "mm.1", joinNorm: "mm.input_norm", joinMerge: "mm.patch_merger"})}, left: []string{"v.token_embd.img_break"}},
	"qwen2_vl": {fit: vision.Smart, filter: picture.Bicubic, mean: clipMean, std: clipStd, merge: 2, frames: 2, norm: LayerNorm, epsilon: 1e-6, act: QuickGELU, rotates: true, marks: qwenMarks,
		join: joinAll, joinNorm: LayerNorm,
		names: map[string]names{"safetensors": qwenNames("fc1", "fc2", "ln_q", "mlp.0", "mlp.2"), "GGUF": ggufTower.with(names{joinNorm: "v.post_ln"})}},
	"qwen2_5_vl": {fit: vision.Smart, filter: picture.Bicubic, mean: clipMean, std: clipStd, merge: 2, frames: 2, norm: RMSNorm, epsilon: 1e-6, gated: true, rotates: true, marks: qwenMarks,
		join: joinAll, joinNorm: RMSNorm,
		names: map[string]names{"safetensors": qwenNames("up_proj", "down_proj", "ln_q", "mlp.0", "mlp.2"), "GGUF": ggufTower.with(names{joinNorm: "v.post_ln"})}},
	"qwen3_vl": {fit: vision.Smart, filter: picture.Bicubic, mean: half, std: half, merge: 2, frames: 2, norm: LayerNorm, epsilon: 1e-6, act: TanhGELU, rotates: true, marks: qwenMarks,
		join: joinAll, joinNorm: LayerNorm,
		names: map[string]names{"safetensors": qwenNames("linear_fc1", "linear_fc2", "norm", "linear_fc1", "linear_fc2"),
			"GGUF": ggufTower.with(names{joinNorm: "v.post_ln", deepNorm: "v.deepstack.%d.norm", deepFirst: "v.deepstack.%d.fc1", deepSecond: "v.deepstack.%d.fc2"})}},
}

// ErrNoTower says that a checkpoint has no tower.
var ErrNoTower = errors.New("the model's files have no tower for pictures")

// towerKind is which tower a checkpoint has; empty for none.
func towerKind(c *weights.Checkpoint) (kind string, err error) {
	f := &c.Whole
	if c.Layout == "GGUF" {
		if c.Architecture != "clip" {
			return "", ErrNoTower
		}
		kind := c.Facts.Text("projector_type")
		for ours, theirs := range map[string]string{"gemma3": "gemma3", "qwen2_vl": "qwen2vl_merger", "qwen2_5_vl": "qwen2.5vl_merger", "qwen3_vl": "qwen3vl_merger", "llava": "mlp", "pixtral": "pixtral"} {
			if kind == theirs {
				if kind == "pixtral" && c.Facts.Int("vision.spatial_merge_size") > 1 {
					return "mistral3", nil
				}
				return ours, nil
			}
		}
		return "", fmt.Errorf("a projector of type %.40q is not supported", kind)
	}
	if !f.Has("vision_config") {
		return "", ErrNoTower
	}
	outer, inner := f.Text("model_type"), f.Text("vision_config.model_type")
	switch {
	case outer == "llava" && inner == "clip_vision_model":
		return "llava", nil
	case outer == "llava" && inner == "siglip_vision_model":
		return "llava siglip", nil
	case outer == "llava" && inner == "pixtral":
		return "pixtral", nil
	case outer == "gemma3", outer == "mistral3", outer == "qwen2_vl", outer == "qwen2_5_vl", outer == "qwen3_vl":
		return outer, nil
	}
	return "", fmt.Errorf("a tower of the kind %.40q in a %.40q is not supported", inner, outer)
}

// towerFacts asks for what files say of a tower, by its name in config.json and that in GGUF files.
type towerFacts struct{ c *weights.Checkpoint }

func (t towerFacts) int(otherwise int, gguf string, config ...string) int {
	f, names := t.of(gguf, config)
	if !f.Has(names...) {
		return otherwise
	}
	return f.Int(names...)
}

func (t towerFacts) of(gguf string, config []string) (*weights.Facts, []string) {
	if t.c.Layout == "GGUF" {
		return &t.c.Facts, []string{"vision." + gguf}
	}
	names := make([]string, len(config))
	for i, name := range config {
		names[i] = "vision_config." + name
	}
	return &t.c.Whole, names
}

func (t towerFacts) float(otherwise float64, gguf string, config ...string) float64 {
	f, names := t.of(gguf, config)
	return orElse(f.Float(names...), otherwise)
}

// towerSpec makes the spec of the tower that a checkpoint has.
func towerSpec(c *weights.Checkpoint) (*TowerSpec, family, error) {
	kind, err := towerKind(c)
	if err != nil {
		return nil, family{}, err
	}
	e := towers[kind]
	f := towerFacts{c}
	t := &TowerSpec{Kind: kind, frames: e.frames, class: e.class, before: e.before, after: e.after, join: e.join, joinNorm: e.joinNorm, Whole: kind == "gemma3"}
	width, heads := f.int(0, "embedding_length", "hidden_size"), f.int(0, "attention.head_count", "num_attention_heads", "num_heads")
	if kind == "qwen2_vl" {
		width = f.int(0, "embedding_length", "embed_dim") // hidden_size is that of the text there
	}
	layers, hidden := f.int(0, "block_count", "num_hidden_layers", "depth"), f.int(0, "feed_forward_length", "intermediate_size")
	if ratio := f.float(0, "mlp_ratio", "mlp_ratio"); hidden == 0 && ratio > 0 && ratio < 64 && width < maxWidth {
		hidden = int(ratio * float64(width))
	}
	if heads < 1 || width < 1 || width%heads != 0 || layers < 1 || layers > maxLayers {
		return nil, family{}, fmt.Errorf("a tower of width %d with %d heads and %d layers is out of range", width, heads, layers)
	}
	if c.Layout != "GGUF" && (kind == "llava" || kind == "llava siglip" || kind == "pixtral") {
		if err := feature(c, &layers); err != nil {
			return nil, family{}, err
		}
	}
	act := e.act
	if name := c.Whole.Text("vision_config.hidden_act"); c.Layout != "GGUF" && name != "" && !strings.HasPrefix(kind, "qwen2_") {
		var known bool
		if act, known = activations[name]; !known {
			return nil, family{}, fmt.Errorf("the tower's activation %.40q is not supported", name)
		}
	} else if c.Layout == "GGUF" && kind == "llava" && c.Facts.Is(false, "use_gelu") {
		act = GELU
	} else if c.Layout == "GGUF" && e.gated && !c.Facts.Is(true, "use_silu") {
		act = GELU
	}
	size := f.int(width/heads, "attention.key_length", "head_dim")
	epsilon := f.float(e.epsilon, "attention.layer_norm_epsilon", "layer_norm_eps", "rms_norm_eps")
	t.spec = Spec{Architecture: "tower", Vocab: 1, Dim: width, Context: 1 << 20, Epsilon: float32(epsilon), Norm: e.norm, Pooling: weights.PoolMean}
	l := LayerSpec{Order: NormBefore, FeedForward: FeedForward{Width: hidden, Gated: e.gated, Activation: act},
		Attention: Attention{Heads: heads, KVHeads: heads, HeadDim: size, ValueDim: size, Scale: float32(1 / math.Sqrt(float64(max(1, size)))), Rope: -1, From: -1}}
	if e.rotates {
		if size < 4 || size > 1<<16 || size%4 != 0 {
			return nil, family{}, fmt.Errorf("heads of %d dimensions cannot turn by row and column", size)
		}
		pixtral := e.fit == vision.Longest
		r := cellRope(f.float(10000, "rope.freq_base", "rope_theta"), size, pixtral)
		r.Adjacent = pixtral && c.Layout == "GGUF"
		t.spec.Ropes, l.Attention.Rope = []Rope{r}, 0
	}
	for range layers {
		t.spec.Layers = append(t.spec.Layers, l)
	}
	if err := t.rule(c, &e, f); err != nil {
		return nil, family{}, err
	}
	t.positions(c, kind, f)
	t.epsilon = float32(epsilon)
	if kind == "mistral3" && c.Layout != "GGUF" {
		t.epsilon = float32(orElse(c.Hyper.NormEpsilon, epsilon)) // that of the text
	}
	if kind == "gemma3" {
		t.epsilon = 1e-6
	}
	n := e.names[c.Layout]
	if n == nil {
		return nil, family{}, errors.New("a tower of its kind is not supported in this layout")
	}
	swap := n.with(nil)
	if up, ok := c.Find("v.blk.0.ffn_up.weight"); ok && !e.gated && hidden != width && len(up.Shape) == 2 && up.Shape[0] == width {
		swap[upRole], swap[downRole] = n[downRole], n[upRole] // as older files have them
	}
	return t, family{names: map[string]names{c.Layout: swap}, besides: func(_ *weights.Checkpoint, name string) bool { return leftAlone(name, e.left, layers, kind) }}, nil
}

// feature is how many layers are gone through: all, or those before the last.
func feature(c *weights.Checkpoint, layers *int) error {
	at := -1
	if c.Whole.Has("vision_feature_layer") {
		at = c.Whole.Int("vision_feature_layer")
	} else if c.Whole.Text("vision_config.model_type") == "clip_vision_model" {
		at = -2
	}
	n := at
	if at < 0 {
		n = *layers + 1 + at
	}
	if n < 1 || n > *layers {
		return fmt.Errorf("vision_feature_layer is %d, in a tower of %d layers", at, *layers)
	}
	*layers = n
	if by := c.Whole.Text("vision_feature_select_strategy"); by != "" && by != "default" && by != "full" || by == "full" && c.Whole.Text("vision_config.model_type") == "clip_vision_model" {
		return fmt.Errorf("vision_feature_select_strategy %.40q is not supported", by)
	}
	return nil
}

// leftAlone tells tensors of a tower that are not needed: named ones, and layers behind those that are gone through.
func leftAlone(name string, left []string, layers int, kind string) bool {
	for _, part := range left {
		if strings.Contains(name, part) {
			return true
		}
	}
	var layer int
	if kind == "llava" || kind == "llava siglip" {
		if _, rest, ok := strings.Cut(name, "encoder.layers."); ok {
			n, _ := fmt.Sscanf(rest, "%d.", &layer)
			return n == 1 && layer >= layers
		}
	}
	return false
}

// rule is how pictures are prepared.
func (t *TowerSpec) rule(c *weights.Checkpoint, e *eyes, f towerFacts) error {
	p := &c.Pictures
	r := &t.Rule
	*r = vision.Rule{Fit: e.fit, Filter: e.filter, Mean: e.mean, Std: e.std, Marks: e.marks, Merge: e.merge, Places: strings.HasPrefix(t.Kind, "qwen"),
		Patch: f.int(14, "patch_size", "patch_size"), Side: f.int(0, "image_size", "image_size")}
	if by := p.Int("resample"); by == 2 {
		r.Filter = picture.Bilinear
	} else if by == 3 {
		r.Filter = picture.Bicubic
	} else if by != 0 {
		return fmt.Errorf("resample %d is not supported; 2 (bilinear) and 3 (bicubic) are", by)
	}
	for _, v := range []struct {
		to   *[3]float32
		name string
	}{{&r.Mean, "image_mean"}, {&r.Std, "image_std"}} {
		of, names := &c.Pictures, []string{v.name}
		if c.Layout == "GGUF" {
			of, names = &c.Facts, []string{"vision." + v.name}
		}
		list := of.Floats(names...)
		if list == nil {
			continue
		}
		if len(list) != 3 || v.to == &r.Std && slices.Contains(list, 0) {
			return fmt.Errorf("%s has %d channels, or a 0; three are possible", v.name, len(list))
		}
		for i, x := range list {
			v.to[i] = float32(x)
		}
	}
	switch r.Fit {
	case vision.Square:
		r.Side = max(r.Side, p.Int("size.height"))
		if t.join == joinPooled {
			tokens := c.Whole.Int("mm_tokens_per_image")
			if c.Layout != "GGUF" && tokens > 0 && r.Patch > 0 {
				side := int(math.Sqrt(float64(tokens)))
				r.Merge = r.Side / r.Patch / max(1, side)
			} else if by := c.Facts.Int("vision.projector.scale_factor"); c.Layout == "GGUF" && by > 0 {
				r.Merge = by
			}
		}
	case vision.Crop:
		if n := p.Int("crop_size.height"); n > 0 {
			r.Side = n
		}
	case vision.Longest:
		if n := p.Int("size.longest_edge"); n > 0 {
			r.Side = n
		}
		if n := f.int(0, "spatial_merge_size", "none"); n > 0 {
			r.Merge = n
		}
		if n := c.Whole.Int("spatial_merge_size"); c.Layout != "GGUF" && t.Kind == "mistral3" && n > 0 {
			r.Merge = n
		}
	case vision.Smart:
		r.Merge = f.int(2, "spatial_merge_size", "spatial_merge_size")
		r.Side = 0
		if r.Least, r.Most = 3136, 12845056; t.Kind == "qwen3_vl" {
			r.Least, r.Most = 65536, 16777216
		}
		if n := p.Int("min_pixels", "size.shortest_edge"); n > 0 {
			r.Least = n
		}
		if n := p.Int("max_pixels", "size.longest_edge"); n > 0 {
			r.Most = n
		}
		t.frames = f.int(2, "temporal_patch_size", "temporal_patch_size")
	}
	return errors.Join(c.Pictures.Err(), c.Whole.Err(), c.Facts.Err())
}

// positions says which positions patches have, which of them see which, and behind which layers rows are made.
func (t *TowerSpec) positions(c *weights.Checkpoint, kind string, f towerFacts) {
	side := 0
	if t.Rule.Patch > 0 {
		side = t.Rule.Side / t.Rule.Patch
	}
	switch kind {
	case "gemma3", "llava siglip":
		t.table = side * side
	case "llava":
		t.table = side*side + 1
	case "qwen2_5_vl":
		if t.Rule.Patch > 0 {
			t.window = f.int(112, "window_size", "window_size") / t.Rule.Patch
		}
		full := map[int]bool{}
		for _, i := range c.Whole.Ints("vision_config.fullatt_block_indexes") {
			full[i] = true
		}
		every := c.Facts.Int("vision.n_wa_pattern")
		t.full = func(layer int) bool { return full[layer] || every > 0 && (layer+1)%every == 0 }
	case "qwen3_vl":
		n := c.Whole.Int("vision_config.num_position_embeddings")
		if table, ok := c.Find("v.position_embd.weight"); ok && len(table.Shape) == 2 {
			n = table.Shape[0]
		}
		t.table, t.stretch = n, int(math.Sqrt(float64(max(0, n))))
		for level, i := range c.Whole.Ints("vision_config.deepstack_visual_indexes") {
			t.Deep, t.deepName = append(t.Deep, i), append(t.deepName, level)
		}
		if c.Layout == "GGUF" {
			for i, is := range c.Facts.Flags("vision.is_deepstack_layers") {
				if is {
					t.Deep, t.deepName = append(t.Deep, i), append(t.deepName, i)
				}
			}
		}
	}
}
