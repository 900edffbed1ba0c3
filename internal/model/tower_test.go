package model

import (
	"encoding/json"
	"errors"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/kv"
	"kindredgate/internal/picture"
	"kindredgate/internal/tensor"
	"kindredgate/internal/vision"
	"kindredgate/internal/weights"
)

// seen are the vectors of a model that sees.
type seen struct {
	Std    float64 `json:"logit_std"`
	Images []struct {
		File      string
		Resized   string
		Width     int `json:"resized_width"`
		Height    int `json:"resized_height"`
		Grid      [2]int
		Tokens    int
		Tower     [][]float32
		Rows      [][]float32 `json:"embeddings"`
		DeepStack [][][]float32
	}
	Prompts []struct {
		IDs        []int32
		Images     []int
		ImageRows  [][4]int  `json:"image_rows"`
		Positions  [][]int32 // [3][ids], of those whose pictures have places
		Argmax     []int32
		LastLogits []float32 `json:"last_logits"`
		Greedy     []int32
		Text       string
		Expanded   string
		TwinOf     *int `json:"twin_of"`
	}
}

func readSeen(t testing.TB, folder string) (v seen) {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(folder, "vectors.json"))
	if err == nil {
		err = json.Unmarshal(raw, &v)
	}
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// towersOf are the files with towers, and the text models that they are for.
func towersOf(t testing.TB) map[string]string {
	t.Helper()
	list := map[string]string{}
	folders, _ := filepath.Glob("testdata/vision/*")
	for _, folder := range folders {
		list[filepath.Join(folder, "hf")] = filepath.Join(folder, "hf")
		if _, err := os.Stat(filepath.Join(folder, "mmproj.f32.gguf")); err == nil {
			list[filepath.Join(folder, "mmproj.f32.gguf")] = filepath.Join(folder, "model.f32.gguf")
		}
	}
	if len(list) != 15 {
		t.Fatal(len(list))
	}
	return list
}

// see has a tower look at pixels that are as large as it reads them.
func see(t testing.TB, tower *Tower, team *tensor.Team, file string) *Rows {
	t.Helper()
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	h, err := picture.Look(raw, picture.DefaultMemory)
	if err != nil {
		t.Fatal(err)
	}
	p, err := picture.Decode(t.Context(), raw, h)
	if err != nil {
		t.Fatal(err)
	}
	unit := tower.Rule.Patch * tower.Rule.Merge
	plan := vision.Plan{Width: h.Width, Height: h.Height, ReadWidth: h.Width, ReadHeight: h.Height, Rows: h.Height / unit, Columns: h.Width / unit}
	rows, err := tower.See(t.Context(), team, p.RGB(), plan, nil)
	if err != nil {
		t.Fatal(err)
	}
	return rows
}

func furthest(got []float32, want [][]float32) (most float64) {
	i := 0
	for _, row := range want {
		for _, x := range row {
			if i >= len(got) {
				return math.Inf(1)
			}
			most = max(most, math.Abs(float64(got[i])-float64(x)))
			i++
		}
	}
	if i != len(got) {
		return math.Inf(1)
	}
	return most
}

// What each tower makes of pictures equals what other programs computed, from both layouts.
func TestTowersEqualReference(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	for file, text := range towersOf(t) {
		t.Run(strings.TrimPrefix(file, "testdata/vision/"), func(t *testing.T) {
			folder := filepath.Dir(file)
			v := readSeen(t, folder)
			width := checkpoint(t, text).Hyper.Width
			c := checkpoint(t, file)
			spec, err := DescribeTower(c, width)
			if err != nil {
				t.Fatal(err)
			}
			tower, err := LoadTower(c, width)
			if err != nil {
				t.Fatal(err)
			}
			for _, image := range v.Images {
				rows := see(t, tower, team, filepath.Join(folder, image.Resized))
				if rows.Plan.Tokens() != image.Tokens || spec.Kind != tower.Kind {
					t.Fatalf("%s: %d tokens, want %d", image.File, rows.Plan.Tokens(), image.Tokens)
				}
				if off := furthest(rows.Main, image.Rows); off > 1e-4 {
					t.Errorf("%s: rows are off by %.2g", image.File, off)
				}
				if len(rows.Deep) != len(image.DeepStack) {
					t.Fatalf("%d levels of rows, want %d", len(rows.Deep), len(image.DeepStack))
				}
				for level, want := range image.DeepStack {
					if off := furthest(rows.Deep[level], want); off > 1e-4 {
						t.Errorf("%s: rows of level %d are off by %.2g", image.File, level, off)
					}
				}
			}
		})
	}
}

// Texts with pictures go on as other programs computed, from both layouts, however they are cut into steps; and another picture behind the same
// tokens gives other logits.
func TestSeeingEqualsReference(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	for file, text := range towersOf(t) {
		t.Run(strings.TrimPrefix(file, "testdata/vision/"), func(t *testing.T) {
			folder := filepath.Dir(file)
			v := readSeen(t, folder)
			m := exact(t, open(t, text))
			tower, err := LoadTower(checkpoint(t, file), m.Dim)
			if err != nil {
				t.Fatal(err)
			}
			rows := make([]*Rows, len(v.Images))
			for i, image := range v.Images {
				rows[i] = see(t, tower, team, filepath.Join(folder, image.Resized))
			}
			twins := 0
			for n, p := range v.Prompts {
				if p.TwinOf != nil {
					twins++
					if !slices.Equal(p.IDs, v.Prompts[*p.TwinOf].IDs) {
						t.Fatal("a twin has other tokens")
					}
				}
				var pieces []Piece
				saved := 0
				begin := map[int]int{}
				for i, r := range p.ImageRows {
					if i == 0 || r[0] != p.ImageRows[i-1][0] {
						if i > 0 {
							saved += tower.Rule.Saved(rows[p.ImageRows[i-1][0]].Plan)
						}
						begin[r[0]] = r[2]
					}
					pieces = append(pieces, Piece{At: r[2], First: r[1], N: r[3], Begin: begin[r[0]], Saved: saved, Rows: rows[r[0]]})
				}
				after := saved
				if n := len(p.ImageRows); n > 0 {
					after += tower.Rule.Saved(rows[p.ImageRows[n-1][0]].Plan)
				}
				for _, step := range []int{1, 7, 64} {
					r := newRunner(t, m, team, kv.F32, len(p.IDs)+len(p.Greedy))
					all := r.show(p.IDs, step, pieces, after)
					last := all[len(all)-1]
					if worst := logitError(last, p.LastLogits, v.Std); !(worst < graphTolerance) {
						t.Errorf("prompt %d in steps of %d: logits are off by %.2g standard deviations", n, step, worst)
					}
					for i, l := range all {
						if got := argmax(l); got != p.Argmax[i] {
							t.Errorf("prompt %d in steps of %d: argmax at position %d is %d, want %d", n, step, i, got, p.Argmax[i])
						}
					}
					var out []int32
					for range p.Greedy {
						out = append(out, argmax(last))
						last = m.Forward(team, r.s, []Token{{ID: out[len(out)-1], KV: r.seq, Logits: true, Saved: int32(after)}})[0]
					}
					if !slices.Equal(out, p.Greedy) {
						t.Errorf("prompt %d in steps of %d: greedy continuation\n%v, want\n%v", n, step, out, p.Greedy)
					}
				}
			}
			if twins == 0 {
				t.Error("there are no twins")
			}
		})
	}
}

// A tower with a tensor that it is not known to have is another tower, and one for another width is for another model.
func TestTowersThatDoNotFit(t *testing.T) {
	c := checkpoint(t, "testdata/vision/pixtral/hf")
	width := c.Hyper.Width
	if _, err := DescribeTower(c, width+16); err == nil || !strings.Contains(err.Error(), "has the shape") {
		t.Errorf("another width: %v", err)
	}
	c.Tensors = append(c.Tensors, weights.Tensor{Name: "vision_tower.transformer.layers.0.attention.gate.weight", Shape: []int{1}})
	c.Index()
	if _, err := DescribeTower(c, width); err == nil || !strings.Contains(err.Error(), "is not part of a tower") {
		t.Errorf("a tensor too many: %v", err)
	}
	if _, err := DescribeTower(checkpoint(t, "testdata/reference/llama/hf"), 64); !errors.Is(err, ErrNoTower) {
		t.Errorf("a model without: %v", err)
	}
}

// What makes no sense of a tower is refused before anything is allocated for it.
func TestSenselessTowers(t *testing.T) {
	for _, c := range []struct {
		fixture string
		fact    string
		value   any
	}{
		{"gemma3-vision", "vision_config.hidden_size", 1e9}, {"gemma3-vision", "vision_config.hidden_size", -24.0}, {"gemma3-vision", "vision_config.patch_size", 0.0}, {"gemma3-vision", "vision_config.patch_size", 1e6},
		{"gemma3-vision", "vision_config.image_size", 1e7}, {"gemma3-vision", "mm_tokens_per_image", 1e15}, {"gemma3-vision", "vision_config.num_attention_heads", 0.0},
		{"gemma3-vision", "vision_config.num_hidden_layers", 1e9}, {"pixtral", "vision_config.head_dim", 6.0}, {"pixtral", "vision_config.rope_theta", -1.0}, {"pixtral", "vision_config.hidden_act", "step"},
		{"llava-clip", "vision_feature_layer", -9.0}, {"llava-clip", "vision_feature_select_strategy", "full"}, {"qwen2-vl", "vision_config.spatial_merge_size", 0.0}, {"qwen2-vl", "vision_config.spatial_merge_size", 99.0},
		{"qwen2-vl", "vision_config.temporal_patch_size", 1e6}, {"qwen3-vl", "vision_config.num_position_embeddings", -1.0}, {"qwen3-vl", "vision_config.num_position_embeddings", 1e12},
		{"qwen3-vl", "vision_config.model_type", nil},
	} {
		ck := checkpoint(t, "testdata/vision/"+c.fixture+"/hf")
		before := ck.Whole.Lookup
		ck.Whole.Lookup = func(name string) (any, bool) {
			if name == c.fact {
				return c.value, c.value != nil
			}
			return before(name)
		}
		_, err := DescribeTower(ck, ck.Hyper.Width)
		if c.value != nil && err == nil {
			t.Errorf("%s with %s %v is described", c.fixture, c.fact, c.value)
		}
	}
	for fact, value := range map[string]any{"min_pixels": 1e15, "max_pixels": 1.0, "image_std": []any{1.0, 0.0, 1.0}, "image_mean": []any{1.0}, "resample": 9.0} {
		ck := checkpoint(t, "testdata/vision/qwen2-vl/hf")
		before := ck.Pictures.Lookup
		ck.Pictures.Lookup = func(name string) (any, bool) {
			if name == fact {
				return value, true
			}
			return before(name)
		}
		if _, err := DescribeTower(ck, ck.Hyper.Width); err == nil {
			t.Errorf("pictures with %s %v are described", fact, value)
		}
	}
}

// show reads a prompt with pictures. A picture that is seen as a whole is never cut.
func (r *runner) show(ids []int32, step int, pieces []Piece, after int) (all [][]float32) {
	of := func(at int) *Piece {
		for i := range pieces {
			if p := &pieces[i]; at >= p.At && at < p.At+p.N {
				return p
			}
		}
		return nil
	}
	saved := 0
	for from := 0; from < len(ids); {
		var tokens []Token
		for at := from; at < len(ids); at++ {
			p := of(at)
			if whole := r.m.Whole && p != nil && at > p.At; at-from >= step && !whole {
				break
			}
			t := Token{ID: ids[at], KV: r.seq, Logits: true}
			if p != nil {
				saved = p.Saved
				r.m.Fill(&t, p, at)
			} else {
				for i := range pieces {
					if q := &pieces[i]; q.At+q.N <= at {
						if saved = after; i+1 < len(pieces) {
							saved = pieces[i+1].Saved
						}
					}
				}
				t.Saved = int32(saved)
			}
			tokens = append(tokens, t)
		}
		for _, l := range r.m.Forward(r.team, r.s, tokens) {
			all = append(all, slices.Clone(l))
		}
		from += len(tokens)
	}
	return all
}
