package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const reference = "../internal/model/testdata/reference/"

// Models of many families are brought, shown, asked, converted and removed, as a person would.
func TestModelsByCommand(t *testing.T) {
	folder := t.TempDir()
	g, err := Start(binary, folder, "serve", "--listen", "127.0.0.1:0", "--models", filepath.Join(folder, "models"))
	if err != nil {
		t.Fatal(err)
	}
	defer g.Stop()
	if out, _, _ := run(t, g, "", "models", "list"); !strings.Contains(out, "No model is installed yet") {
		t.Errorf("an empty list: %q", out)
	}
	for name, source := range map[string]string{"llama3": "llama-rope3/hf", "qwen2": "qwen2/model.f32.gguf", "qwen3": "qwen3/hf", "olmo2": "olmo2/hf", "gpt-oss": "gpt-oss/hf", "gemma3": "gemma3/hf", "mixtral": "mixtral/hf", "phi3": "phi3/hf"} {
		if out, errOut, code := run(t, g, "", "models", "add", reference+source, "--name", name); code != 0 || !strings.Contains(out, name+" is installed: ") {
			t.Fatalf("add %s: %q %q", source, out, errOut)
		}
		if out, errOut, _ := run(t, g, "", "models", "load", name); !strings.Contains(out, "is loaded after") {
			t.Errorf("load %s: %q %q", name, out, errOut)
		}
		show, _, _ := run(t, g, "", "models", "show", name)
		if !strings.Contains(show, "loaded") || !strings.Contains(show, "memory") || !strings.Contains(show, "a whole one takes") {
			t.Errorf("show %s: %s", name, show)
		}
		if !strings.Contains(show, "for            chat") && !strings.Contains(show, "  for          chat") && !strings.Contains(show, "chat\n") {
			// One without a template is asked through a preset that has one.
			template := filepath.Join(folder, "template.jinja")
			if err := os.WriteFile(template, []byte("{{ bos_token }}{% for m in messages %}{{ m.role }}: {{ m.content }}\n{% endfor %}"), 0o644); err != nil {
				t.Fatal(err)
			}
			if out, errOut, code := run(t, g, "", "presets", "add", name+"-chat", "--model", name, "--template", template); code != 0 {
				t.Fatalf("preset: %q %q", out, errOut)
			}
			name += "-chat"
		}
		if _, errOut, code := run(t, g, "", "ask", "--model", name, "--max-tokens", "8", "hello"); code > 1 || strings.Contains(errOut, "fail") || strings.Contains(errOut, "cannot") {
			t.Errorf("ask %s: code %d, %q", name, code, errOut)
		}
	}
	// Converted, looked at, and fetched from a server.
	raw, err := os.ReadFile("../demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		t.Fatal(err)
	}
	pub := filepath.Join(folder, "pub")
	if err := os.Mkdir(pub, 0o755); err != nil {
		t.Fatal(err)
	}
	small := filepath.Join(pub, "harbour-small.gguf")
	out, errOut, code := run(t, g, "", "models", "convert", "../internal/model/testdata/harbour-4m", "--weights", "q6_k", "--out", small)
	if code != 0 || !strings.Contains(out, "the same most likely token for") || !strings.Contains(out, "Q6_K") {
		t.Fatalf("convert: %q %q", out, errOut)
	}
	if _, errOut, code := run(t, g, "", "models", "convert", "../internal/model/testdata/harbour-4m", "--weights", "q6_k", "--out", small); code != 1 || !strings.Contains(errOut, "is there already") {
		t.Errorf("convert again: %d %q", code, errOut)
	}
	if _, errOut, code := run(t, g, "", "models", "convert", small, "--weights", "q7"); code != 2 || !strings.Contains(errOut, "must be one of f32, f16") {
		t.Errorf("an unknown type: %d %q", code, errOut)
	}
	if err := os.WriteFile(filepath.Join(pub, "harbour.gguf"), raw, 0o644); err != nil {
		t.Fatal(err)
	}
	files := httptest.NewServer(http.FileServer(http.Dir(pub)))
	defer files.Close()
	if out, errOut, code := run(t, g, "", "models", "look", files.URL+"/", "--memory", "5MB", "--bandwidth", "1GB"); code != 0 || !strings.Contains(out, "harbour-small") || !strings.Contains(out, "too large") || !strings.Contains(out, "about 2") {
		t.Errorf("look: %q %q", out, errOut)
	}
	var sights []struct {
		ID   string  `json:"id"`
		Rate float64 `json:"rate"`
	}
	if out, _, _ := run(t, g, "", "models", "look", pub, "--json"); json.Unmarshal([]byte(out), &sights) != nil || len(sights) != 2 || sights[0].Rate <= 0 {
		t.Errorf("look in a folder: %q", out)
	}
	sum := sha256.Sum256(raw)
	if out, errOut, code := run(t, g, "", "models", "add", files.URL+"/harbour.gguf", "--sha256", hex.EncodeToString(sum[:])); code != 0 {
		t.Errorf("fetch: %q %q", out, errOut)
	}
	if _, errOut, code := run(t, g, "", "models", "add", files.URL+"/harbour.gguf", "--name", "other", "--sha256", strings.Repeat("1", 64)); code != 1 || !strings.Contains(errOut, "the checksum of other.gguf is "+hex.EncodeToString(sum[:])) {
		t.Errorf("another checksum: %d %q", code, errOut)
	}
	if out, errOut, _ := run(t, g, "", "ask", "--model", "harbour", "When is the last boat to Osmer?"); !strings.Contains(out, "19:40") {
		t.Errorf("what was fetched says %q %q", out, errOut)
	}
	// Files that would be deleted are asked about; a link is not.
	if _, errOut, code := run(t, g, "y\n", "models", "remove", "harbour"); code != 1 || !strings.Contains(errOut, "--yes") {
		t.Errorf("remove with nobody to ask: %d %q", code, errOut)
	}
	if out, _, code := run(t, g, "", "models", "remove", "harbour", "--yes"); code != 0 || !strings.Contains(out, "1 file with 4.0 MB deleted") {
		t.Errorf("remove: %d %q", code, out)
	}
	if out, _, code := run(t, g, "", "models", "remove", "qwen3"); code != 0 || !strings.Contains(out, "its files lie where they were") {
		t.Errorf("remove a link: %d %q", code, out)
	}
	if out, _, _ := run(t, g, "", "models", "list"); strings.Contains(out, "harbour") || strings.Contains(out, "qwen3") || !strings.Contains(out, "gpt-oss") {
		t.Errorf("after that: %s", out)
	}
}

// Models that the configuration names with an address are fetched at the start, and those to be kept are loaded.
func TestModelsOfTheConfiguration(t *testing.T) {
	files := httptest.NewServer(http.FileServer(http.Dir("../demo/models/harbour-4m")))
	defer files.Close()
	folder := t.TempDir()
	config := filepath.Join(folder, "gate.yaml")
	text := "models:\n  folders: [" + filepath.Join(folder, "models") + "]\n  memory: 200MB\n  idle_unload: 1h\n  keep_loaded: [boats]\n  fetch:\n    - { name: boats, address: " + files.URL + "/harbour-4m.gguf }\n"
	if err := os.WriteFile(config, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	g, err := Start(binary, folder, "serve", "--listen", "127.0.0.1:0", "--config", config)
	if err != nil {
		t.Fatal(err)
	}
	defer g.Stop()
	for {
		resp, err := http.Get(strings.TrimSuffix(g.BaseURL, "/v1") + "/readyz?model=boats")
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode == http.StatusOK {
			break
		}
		if strings.Contains(g.Output(), "level=ERROR") {
			t.Fatal(g.Output())
		}
		select {
		case <-t.Context().Done():
			t.Fatal(t.Context().Err())
		default:
		}
	}
	if out, errOut, code := run(t, g, "", "ask", "When is the last boat to Osmer?"); code != 0 || !strings.Contains(out, "19:40") {
		t.Errorf("%q %q", out, errOut)
	}
}
