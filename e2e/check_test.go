package e2e

import (
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"kindredgate/internal/check"
	"kindredgate/internal/server"
)

// Without a gate, "check" looks for why: who has its address, what is wrong with its file, whether there is a folder for models.
func TestCheckWithoutAGate(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	folder := t.TempDir()
	file := filepath.Join(folder, "gate.yaml")
	look := func(text string) map[string]check.Finding {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(binary, "check", "--json")
		cmd.Env = append(Env(folder), "KINDRED_CONFIG="+file)
		out, err := cmd.Output()
		if err == nil {
			t.Error("that no gate runs is nothing wrong")
		}
		var list server.CheckList
		if err := json.Unmarshal(out, &list); err != nil {
			t.Fatalf("%s: %v", out, err)
		}
		found := map[string]check.Finding{}
		for _, f := range list.Findings {
			found[f.Name] = f
		}
		if f := found["gate"]; f.State != check.Error || !strings.Contains(f.Said, "no gate is running here") {
			t.Errorf("of the gate it says %+v", f)
		}
		return found
	}
	found := look("listen: " + taken.Addr().String() + "\nmodels: { folders: [none] }\n")
	if f := found["address"]; f.State != check.Error || !strings.Contains(f.Said, taken.Addr().String()+" is in use by") || !strings.Contains(f.Said, "process") {
		t.Errorf("of an address that is taken it says %+v", f)
	}
	if f := found["models"]; f.State != check.Warning || !strings.Contains(f.Said, filepath.Join(folder, "none")) {
		t.Errorf("of a folder that is not there it says %+v", f)
	}
	if f := found["configuration"]; f.State != check.OK {
		t.Errorf("of the file it says %+v", f)
	}
	if err := taken.Close(); err != nil {
		t.Fatal(err)
	}
	if f := look("listen: " + taken.Addr().String() + "\n")["address"]; f.State != check.OK {
		t.Errorf("of an address that is free it says %+v", f)
	}
	if f := look("lissen: 127.0.0.1:0\n")["configuration"]; f.State != check.Error || !strings.Contains(f.Said, `the nearest is "listen"`) {
		t.Errorf("of a file with a mistake it says %+v", f)
	}
}
