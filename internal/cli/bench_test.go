package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kindredgate/internal/measure"
)

// A run is a report for machines, which stands beside the next one for people.
func TestBench(t *testing.T) {
	bench := func(args ...string) (string, string, int) {
		var out, errOut bytes.Buffer
		code := Run(append([]string{"bench"}, args...), strings.NewReader(""), &out, &errOut)
		return out.String(), errOut.String(), code
	}
	out, errOut, code := bench("--shape", "tiny", "--weights", "q4_k", "--within", "1s", "--json")
	var r measure.Report
	if err := json.Unmarshal([]byte(out), &r); err != nil || code != 0 || r.Version != Version || r.Weights != "Q4_K" {
		t.Fatalf("%v, exit code %d, %s\n%s", err, code, errOut, out)
	}
	if own, ok := r.Find("gate.own"); !ok || own.Value <= 0 {
		t.Errorf("the gate's own share is %+v", own)
	}
	file := filepath.Join(t.TempDir(), "before.json")
	if err := os.WriteFile(file, []byte(out), 0o600); err != nil {
		t.Fatal(err)
	}
	out, errOut, code = bench("--shape", "tiny", "--weights", "q4_k", "--within", "1s", "--compare", file)
	for _, want := range []string{"BEFORE", "CHANGE", "OF THE LIMIT", "one answer", " %"} {
		if !strings.Contains(out, want) || code != 0 {
			t.Errorf("%q is missing, exit code %d, %s:\n%s", want, code, errOut, out)
		}
	}
	out, errOut, code = bench("--shape", "tiny", "--kernels", "go,go", "--within", "1ms")
	for _, want := range []string{"CPU TIME", "256 tokens", "go", "1.00", "medians of 3 rounds", "other virtual machines"} {
		if !strings.Contains(out, want) || code != 0 {
			t.Errorf("%q is missing, exit code %d, %s:\n%s", want, code, errOut, out)
		}
	}
	if err := os.WriteFile(file, []byte(`{"figures": []}`), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"--shape", "huge"}, exitUsage, "must be one of tiny"},
		{[]string{"--weights", "iq4_xs"}, exitUsage, "--weights"},
		{[]string{"some.gguf", "--shape", "tiny"}, exitUsage, "made-up weights"},
		{[]string{"--compare", file}, exitFailed, "is no report"},
		{[]string{"one", "two"}, exitUsage, `"two"`},
		{[]string{"--kernels", "go", "--compare", file}, exitUsage, "leave out --compare"},
		{[]string{"--kernels", "go", "--threads", "2"}, exitUsage, "leave out --compare and --threads"},
		{[]string{"--shape", "tiny", "--kernels", "sse"}, exitFailed, `no kernels "sse"; this processor can use go`},
	} {
		if _, errOut, code := bench(c.args...); code != c.code || !strings.Contains(errOut, c.want) {
			t.Errorf("%v: exit code %d, %s", c.args, code, errOut)
		}
	}
}
