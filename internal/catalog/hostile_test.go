//go:build !windows

package catalog

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"kindredgate/internal/model"
	"kindredgate/internal/weights/gguf"
)

const reference = "../model/testdata/reference/"

// altered writes a GGUF file anew with other metadata; a value of nil leaves the key out.
func altered(t testing.TB, from, to string, changes map[string]any) {
	t.Helper()
	raw, err := os.ReadFile(from)
	if err != nil {
		t.Fatal(err)
	}
	f, err := gguf.Parse(raw)
	if err != nil {
		t.Fatal(err)
	}
	var metadata []gguf.Entry
	for key, v := range f.Metadata {
		if _, ok := changes[key]; ok {
			continue
		}
		if list, err := f.Metadata.Strings(key); err == nil {
			v = list
		} else if list, err := f.Metadata.Int32s(key); err == nil {
			v = list
		} else if list, err := f.Metadata.Float32s(key); err == nil {
			v = list
		}
		metadata = append(metadata, gguf.Entry{Key: key, Value: v})
	}
	for key, v := range changes {
		if v != nil {
			metadata = append(metadata, gguf.Entry{Key: key, Value: v})
		}
	}
	var plans []gguf.Plan
	for _, t := range f.Tensors {
		plans = append(plans, gguf.Plan{Name: t.Name, Type: t.Type, Shape: t.Shape})
	}
	var out bytes.Buffer
	if err := errors.Join(gguf.Write(&out, metadata, plans, func(i int, w io.Writer) error {
		_, err := w.Write(f.Tensors[i].Data)
		return err
	}), os.WriteFile(to, out.Bytes(), 0o644)); err != nil {
		t.Fatal(err)
	}
}

// Whatever lies in a models folder is listed at once, and what is listed without a problem loads: a model that cannot be used says so, and why,
// before anybody asks it something.
func TestWhateverLiesInTheFolder(t *testing.T) {
	dir := t.TempDir()
	folder := func(name, config string) {
		t.Helper()
		if err := os.CopyFS(filepath.Join(dir, name), os.DirFS(reference+"llama/hf")); err != nil {
			t.Fatal(err)
		}
		if config != "" {
			if err := os.WriteFile(filepath.Join(dir, name, "config.json"), []byte(config), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	folder("twice", `{"model_type": "llama", "hidden_size": 64, "rope_parameters": {"rope_type": "llama4", "type": "llama4"}}`)
	folder("endless-companion", "")
	folder("fine-folder", "")
	install(t, harbour, dir+"/beside/beside.gguf")
	if err := errors.Join(
		syscall.Mkfifo(dir+"/pipe.gguf", 0o600), os.Symlink("/dev/zero", dir+"/device.gguf"), syscall.Mkfifo(dir+"/pipe-00001-of-00002.gguf", 0o600),
		os.Remove(dir+"/endless-companion/generation_config.json"), os.Symlink("/dev/zero", dir+"/endless-companion/generation_config.json"),
		os.Symlink("/dev/zero", dir+"/beside/generation_config.json"),
	); err != nil {
		t.Fatal(err)
	}
	long := strings.Repeat("x", 20<<20)
	for name, changes := range map[string]map[string]any{
		"fine":         {},
		"titled":       {"general.name": long, "general.license": long},
		"long-family":  {"general.architecture": long},
		"long-look":    {"tokenizer.chat_template": strings.Repeat("x", 2<<20)},
		"experts":      {"llama.expert_count": uint32(10_000), "llama.expert_used_count": uint32(2)},
		"layers":       {"llama.block_count": uint32(4096)},
		"more-layers":  {"llama.block_count": uint32(5)},
		"heads":        {"llama.attention.head_count": uint32(1 << 22), "llama.attention.head_count_kv": uint32(1 << 22)},
		"head-size":    {"llama.attention.key_length": uint32(1 << 21), "llama.attention.value_length": uint32(1 << 21), "llama.context_length": uint32(1 << 24)},
		"feed-forward": {"llama.feed_forward_length": uint32(32)},
		"begin":        {"tokenizer.ggml.bos_token_id": uint32(1 << 30)},
		"end":          {"tokenizer.ggml.eos_token_id": uint32(300)},
		"pattern":      {"llama.attention.sliding_window": uint32(8), "llama.attention.sliding_window_pattern": uint32(2)},
		"no-window":    {"llama.attention.sliding_window_pattern": uint32(2)},
		"scale":        {"llama.attention.scale": float32(0.5)},
		"same-scale":   {"llama.logit_scale": float32(1)},
		"router":       {"llama.expert_gating_func": uint32(2)},
		"softmax":      {"llama.expert_gating_func": uint32(1)},
		"other-family": {"general.architecture": "abacus", "abacus.attention.scale": float32(2)},
		"lists":        {"llama.attention.head_count_kv": []int32{1, 2}},
	} {
		altered(t, reference+"llama/model.f32.gguf", dir+"/"+name+".gguf", changes)
	}
	models, err := New(nil, dir).Models()
	if err != nil {
		t.Fatal(err)
	}
	problems := map[string]string{
		"twice": "num_hidden_layers: it is missing", "endless-companion": "generation_config.json: not a regular file", "fine-folder": "", "beside": "not a regular file",
		"pipe": "not a regular file", "device": "not a regular file", "pipe-2": "not a regular file",
		"fine": "", "titled": "", "long-family": "no name of a family", "long-look": "chat template has 2097152 bytes", "experts": "10000 experts", "layers": "block_count: 4096",
		"more-layers": "tensor blk.2.attn_norm.weight is missing", "heads": "attention.key_length: 0 is out of range", "head-size": "tensor blk.0.attn_q.weight", "feed-forward": "ffn_gate", "begin": "bos_token_id is 1073741824",
		"end": "eos_token_id is 300", "pattern": "llama.attention.sliding_window_pattern", "no-window": "", "scale": "llama.attention.scale", "same-scale": "", "router": "llama.expert_gating_func",
		"softmax": "", "other-family": `architecture "abacus" is not supported`, "lists": "blk.0.attn_k.weight has the shape",
	}
	for _, m := range models {
		want, known := problems[m.ID]
		if delete(problems, m.ID); !known || (want == "") != (m.Problem == "") || !strings.Contains(m.Problem, want) || len(m.Problem) > 2000 {
			t.Errorf("%s: %.300q, want %q", m.ID, m.Problem, want)
		}
		if err := Check(m.Path); m.Usable() && err != nil {
			t.Errorf("%s is listed as usable, and does not load: %v", m.ID, err)
		}
		if len(m.Title)+len(m.License)+len(m.Architecture) > 10_000 {
			t.Errorf("%s has texts of %d bytes", m.ID, len(m.Title)+len(m.License)+len(m.Architecture))
		}
	}
	if len(problems) > 0 {
		t.Errorf("not listed: %v", problems)
	}
	var unknown *model.UnknownFamilyError
	if c, err := gguf.Open(dir + "/other-family.gguf"); err != nil {
		t.Error(err)
	} else if _, err := model.Describe(c); !errors.As(err, &unknown) {
		t.Errorf("a family is named after its details: %v", err)
	}
}
