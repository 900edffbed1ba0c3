// Package arch holds the test of the architecture: which package may import which.
package arch

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// rooms are the packages below internal, ground floor first, and what each may import of ours. docs/architecture.md
// says what lives in them; change both together.
var rooms = map[string][]string{
	"jinja":     {},
	"weights":   {"sampling", "system"},
	"tensor":    {"weights"},
	"kv":        {"system", "tensor"},
	"config":    {"system"},
	"system":    {},
	"tokenizer": {"weights"},
	"reading":   {},
	"grammar":   {},
	"sampling":  {},
	"exchange":  {"sampling", "grammar", "picture"},
	"prompt":    {"exchange", "jinja", "tokenizer", "reading", "vision"},
	"picture":   {},
	"vision":    {"picture"},
	"model":     {"tensor", "weights", "kv", "vision", "picture"},
	"engine":    {"model", "tokenizer", "tensor", "grammar", "kv", "weights"},
	"machine":   {"tensor", "weights"},
	"cache":     {"machine"},
	"prepared":  {"cache", "model", "tensor", "weights"},
	"measure":   {"cache", "engine", "machine", "model", "prepared", "system", "kv", "tensor", "tokenizer", "weights"},

	"tensor/kernelgen": {}, // a program that writes parts of tensor
	"dialect":          {}, // the names of the styles
	"dialect/field":    {"exchange"},
	"dialect/wire":     {"picture", "sampling", "exchange", "dialect/field"},

	"weights/gguf":        {"weights"},
	"weights/safetensors": {"sampling", "system", "weights"},
	"weights/disk":        {"system", "weights", "weights/gguf", "weights/safetensors"},

	"dialect/chat":       {"exchange", "dialect/field", "dialect/wire"},
	"dialect/completion": {"exchange", "dialect/field", "dialect/wire"},
	"dialect/generate":   {"exchange", "dialect/field", "dialect/wire"},
	"dialect/response":   {"exchange", "dialect/field", "dialect/wire"},
	"dialect/embedding":  {"exchange", "dialect/field", "dialect/wire"},
	"dialect/rerank":     {"exchange", "dialect/field", "dialect/wire"},

	"runner/scripted": {"exchange"},
	"runner/native":   {"picture", "vision", "sampling", "exchange", "prompt", "reading", "cache", "engine", "grammar", "kv", "model", "prepared", "tensor", "tokenizer", "weights", "weights/disk", "system"},
	"runner/remote":   {"placement", "sampling", "exchange", "prompt", "reading", "tokenizer", "weights", "weights/disk"},
	"difference":      {},
	"catalog":         {"picture", "sampling", "system", "exchange", "kv", "weights", "weights/disk", "weights/safetensors", "model", "prompt", "tokenizer"},
	"convert":         {"model", "tensor", "tokenizer", "kv", "weights", "weights/gguf", "weights/disk"},
	"library":         {"system", "catalog", "exchange", "weights/disk", "weights/gguf", "weights/safetensors"},
	"fetch":           {"library", "catalog", "weights", "weights/gguf", "weights/safetensors"},
	"keyring":         {"exchange", "dialect", "dialect/field"},
	"gate":            {"placement", "sampling", "dialect", "exchange", "grammar", "prompt", "catalog", "keyring", "library", "difference", "record", "runner/native", "runner/remote"},
	"record":          {"dialect", "exchange", "placement"},
	"placement":       {"exchange"},
	"fleet":           {"exchange", "kept", "placement"},
	"fleet/fleettest": {"fleet"},
	"runner/joined":   {"fleet", "runner/remote"},
	"apply":           {"catalog", "dialect/field", "exchange", "gate", "keyring"},
	"kept":            {"record"},
	"tool":            {},
	"tool/web":        {"tool"},
	"tool/mcp":        {"exchange", "system", "tool", "tool/web"},
	"loop":            {"exchange", "gate", "keyring", "record", "tool"},
	"answers":         {"dialect", "loop", "exchange", "gate", "keyring", "kept", "dialect/response"},
	"ledger":          {"system", "catalog", "exchange", "gate", "kept", "keyring", "prompt", "record"},
	"replay":          {"dialect", "difference", "exchange", "gate", "kept", "keyring", "ledger", "record"},
	"suite":           {"sampling", "difference", "exchange", "kept", "record"},
	"tracing":         {"dialect", "record"},
	"forward":         {"exchange", "record"},
	"check":           {"catalog", "config", "keyring", "record"},
	"metrics":         {"dialect", "gate", "record", "runner/native"},
	"store":           {"fleet", "keyring", "catalog", "exchange", "kept", "record"},
	"snippet":         {"dialect", "exchange"},
	"suites":          {"loop", "exchange", "gate", "kept", "keyring", "ledger", "record", "suite"},
	"server":          {"fleet", "loop", "tool", "sampling", "suites", "apply", "suite", "record", "replay", "check", "config", "kept", "ledger", "dialect", "machine", "snippet", "gate", "exchange", "prompt", "catalog", "keyring", "library", "runner/native", "runner/remote", "answers", "dialect/chat", "dialect/completion", "dialect/embedding", "dialect/field", "dialect/generate", "dialect/rerank", "dialect/response", "dialect/wire"},
	"boot":            {"fleet", "runner/joined", "cache", "loop", "tool", "tool/mcp", "tool/web", "suites", "exchange", "apply", "check", "dialect", "record", "forward", "tracing", "system", "ledger", "metrics", "answers", "catalog", "config", "fetch", "gate", "kept", "keyring", "kv", "library", "machine", "prepared", "runner/native", "runner/remote", "server", "store", "tensor"},
	"cli":             {"picture", "loop", "tool", "suites", "suite", "record", "difference", "replay", "check", "system", "kept", "ledger", "boot", "catalog", "config", "convert", "dialect", "exchange", "fetch", "keyring", "library", "machine", "measure", "prompt", "runner/remote", "runner/scripted", "server", "snippet", "tensor", "weights", "weights/disk"},
	"standin":         {"exchange", "runner/scripted", "dialect/chat", "dialect/completion", "dialect/embedding", "dialect/rerank", "dialect/response"},
	"arch":            {},
}

// upstairs are the rooms that may know of HTTP and of the command line.
var upstairs = []string{"boot", "check", "server", "cli", "fetch", "forward", "metrics", "runner/remote", "standin", "tool/mcp", "tool/web", "tracing"}

// interfaces are packages that the core must not know.
var interfaces = []string{"net/http", "html/template", "github.com/gin-gonic/gin", "github.com/spf13/cobra", "github.com/fatih/color"}

func TestNoRoomReachesUp(t *testing.T) {
	const module = "kindredgate/"
	seen := map[string]bool{}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		room := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), ".."+string(filepath.Separator)))
		may, known := rooms[room]
		if !known {
			t.Errorf("%s is in no known room", path)
			return nil
		}
		seen[room] = true
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, imp := range file.Imports {
			name, err := strconv.Unquote(imp.Path.Value)
			if err != nil {
				return err
			}
			if other, ours := strings.CutPrefix(name, module+"internal/"); ours && !slices.Contains(may, other) {
				t.Errorf("%s imports %s, which %s may not", path, other, room)
			}
			if slices.Contains(interfaces, name) && !slices.Contains(upstairs, room) {
				t.Errorf("%s imports %s; the core has no interface code", path, name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for room := range rooms {
		if !seen[room] && room != "arch" {
			t.Errorf("there is no code in room %s", room)
		}
	}
}
