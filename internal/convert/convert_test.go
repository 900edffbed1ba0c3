package convert

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/model"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tokenizer"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
)

const fixtures = "../model/testdata/reference/"

func load(t testing.TB, path string) (*weights.Checkpoint, *model.Model) {
	t.Helper()
	c, err := disk.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	m, err := model.Load(c)
	if err != nil {
		t.Fatal(err)
	}
	return c, m
}

func tokens(t testing.TB, c *weights.Checkpoint, text string) []int32 {
	t.Helper()
	d, err := c.Tokenizer()
	if err != nil {
		t.Fatal(err)
	}
	tok, err := tokenizer.New(d)
	if err != nil {
		t.Fatal(err)
	}
	ids, err := tok.Encode(text)
	if err != nil {
		t.Fatal(err)
	}
	return tok.Wrap(ids)
}

// Every family, from a folder and from a file, is the same network and tokenizer when it is read back.
func TestEveryFamilyComesBack(t *testing.T) {
	const text = "The gate is open, and the two boats leave at 19:40.\n"
	folders, err := filepath.Glob(fixtures + "*")
	if err != nil || len(folders) < 19 {
		t.Fatal(len(folders), err)
	}
	for _, folder := range folders {
		sources, _ := filepath.Glob(filepath.Join(folder, "*.gguf"))
		for _, source := range append(sources, filepath.Join(folder, "hf")) {
			t.Run(strings.TrimPrefix(source, fixtures), func(t *testing.T) {
				to := filepath.Join(t.TempDir(), "out.gguf")
				r, err := Run(t.Context(), Job{From: source, To: to, Type: weights.F32, Text: text})
				refused := map[string]string{"gemma2-qscale": "cannot say that layer 0 has the scale", "gemma-embed": "dense layers"}[filepath.Base(folder)]
				if refused != "" {
					if err == nil || !strings.Contains(err.Error(), refused) {
						t.Errorf("error %v, want one with %q", err, refused)
					}
					if files, _ := os.ReadDir(filepath.Dir(to)); len(files) != 0 {
						t.Errorf("%d files are left", len(files))
					}
					return
				}
				if err != nil {
					t.Fatal(err)
				}
				before, m := load(t, source)
				after, _ := load(t, to)
				if a, b := tokens(t, before, text), tokens(t, after, text); !slices.Equal(a, b) {
					t.Errorf("tokens %v became %v", a, b)
				}
				if before.ChatTemplate != after.ChatTemplate || before.Parameters() != after.Parameters() && !strings.Contains(source, "hf") {
					t.Errorf("%d parameters became %d, the template %q became %q", before.Parameters(), after.Parameters(), before.ChatTemplate, after.ChatTemplate)
				}
				least, most := r.Tokens, 2e-3
				if s := before.Shares()[0].Type; tensor.FormatOf(s).Integer() || strings.Contains(source, "gpt-oss") {
					least, most = r.Tokens*9/10, 0.3 // its own products round activations to 8 bits, those of the new file do not
				}
				if !m.Embeds() && (r.Tokens < 10 || r.SameBest < least || r.Largest > most) {
					t.Errorf("%+v", r)
				}
			})
		}
	}
}

// Rounding costs what the report says, and the finer the type the less.
func TestReport(t *testing.T) {
	team := tensor.NewTeam(2)
	defer team.Close()
	dir := t.TempDir()
	last := 0.0
	for _, kind := range []weights.Type{weights.F16, weights.Q8_0, weights.Q6_K, weights.Q5_K, weights.Q4_K, weights.Q4_0, weights.Q3_K, weights.Q2_K} {
		to := filepath.Join(dir, kind.String()+".gguf")
		var told int64
		r, err := Run(t.Context(), Job{From: "../model/testdata/harbour-4m", To: to, Type: kind, Team: team,
			Text:     "Sorrel Sound Ferries timetable from Sorrel Quay\nThe last boat to Osmer leaves at 19:40.",
			Progress: func(_ string, done, total int64) { told = max(told, done); _ = total }})
		if err != nil {
			t.Fatal(err)
		}
		if r.After >= r.Before && kind != weights.F16 || told == 0 || r.Tokens < 20 {
			t.Errorf("%s: %+v", kind, r)
		}
		share := r.Types[len(r.Types)-1].Share
		for _, e := range r.Types {
			if e.Type == kind {
				share = e.Share
			}
		}
		if last > 0 && share <= last*0.9 {
			t.Errorf("%s loses %.4f of the weights, a finer type %.4f", kind, share, last)
		}
		last = share
		if kind <= weights.Q8_0 && (r.SameBest < r.Tokens*95/100 || r.Divergence > 0.02) {
			t.Errorf("%s: %+v", kind, r)
		}
		t.Logf("%s: %d bytes, weights %.3f %%, divergence %.4f nats, %d of %d the same", kind, r.After, 100*share, r.Divergence, r.SameBest, r.Tokens)
		c, _ := load(t, to)
		if got := c.Shares()[0].Type; got != kind && kind != weights.Q2_K && kind != weights.Q3_K {
			t.Errorf("most of it is stored as %s, not %s", got, kind)
		}
	}
}

func TestRunRefuses(t *testing.T) {
	dir := t.TempDir()
	there := filepath.Join(dir, "there.gguf")
	if err := os.WriteFile(there, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Run(t.Context(), Job{From: fixtures + "llama/hf", To: there, Type: weights.F32}); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("onto a file: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Run(ctx, Job{From: fixtures + "llama/hf", To: filepath.Join(dir, "x.gguf"), Type: weights.F32}); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
	if _, err := Run(t.Context(), Job{From: dir, To: filepath.Join(dir, "x.gguf"), Type: weights.F32}); err == nil {
		t.Error("a folder without a model was converted")
	}
	if files, _ := os.ReadDir(dir); len(files) != 1 {
		t.Errorf("%d files are left", len(files))
	}
}
