package arch

import (
	"bytes"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// arithmetic are the rooms whose numbers are the same on every processor.
var arithmetic = []string{"tensor", "model", "kv", "engine", "grammar", "tokenizer", "prepared", "weights/...", "runner/native"}

// guesses are files of theirs that weigh times and luck, which are never the same.
var guesses = []string{"engine/pace.go", "engine/draft.go", "engine/drafter.go"}

// fused is an instruction that rounds a*b ± c once instead of twice, with the line it is of.
var fused = regexp.MustCompile(`\(([^()]*\.go:\d+)\)\s+FN?M(?:ADD|SUB)[SD]\s`)

// A compiler may join a product and a sum unless a conversion stands between them (the Go specification, "Floating-point operators"), and for
// arm64 it does. Answers would differ from those of amd64 in their last bits, and sooner or later in a token.
func TestProductsAndSumsAreNotJoined(t *testing.T) {
	args := []string{"build", "-gcflags=-S"}
	for _, room := range arithmetic {
		args = append(args, "../"+room)
	}
	build := exec.CommandContext(t.Context(), "go", args...)
	build.Env = append(os.Environ(), "GOOS=linux", "GOARCH=arm64", "CGO_ENABLED=0")
	listing, err := build.CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%.2000s", err, listing)
	}
	if !bytes.Contains(listing, []byte("FMULS")) {
		t.Fatal("the listing has no arithmetic of arm64, so that this finds nothing")
	}
	seen := map[string]bool{}
	for _, m := range fused.FindAllSubmatch(listing, -1) {
		where := string(m[1])
		file := where[:strings.LastIndexByte(where, ':')]
		if !seen[where] && !slices.ContainsFunc(guesses, func(g string) bool { return strings.HasSuffix(file, "/internal/"+g) }) {
			seen[where] = true
			t.Errorf("%s is one operation on arm64; write float32(a*b) + c, or float64(a*b) + c", where)
		}
	}
}
