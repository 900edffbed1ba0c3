package e2e

import (
	"bufio"
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

// unit reads a unit file: the lines of its comment that are commands, what its service is started by, and in which environment.
func unit(t *testing.T, path string) (commands []string, start string, env []string) {
	t.Helper()
	raw, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	for lines.Scan() {
		line := lines.Text()
		if command, ok := strings.CutPrefix(line, "#   "); ok {
			commands = append(commands, command)
		}
		if value, ok := strings.CutPrefix(line, "ExecStart="); ok {
			start = value
		}
		if value, ok := strings.CutPrefix(line, "Environment="); ok {
			env = append(env, strings.Fields(value)...)
		}
	}
	return commands, start, env
}

// The unit's commands, on a machine on which nothing is set up, give a gate that runs and a key that works. The folders of the machine are
// put below one of the test's, and what systemd and root do is done by the test.
func TestTheUnitGivesAGate(t *testing.T) {
	commands, start, env := unit(t, "../deploy/kindred-gate.service")
	root := t.TempDir()
	below := func(text string) string {
		return strings.NewReplacer("/usr/local/bin/kindred", binary, "/var/lib", root+"/var/lib", "/etc", root+"/etc").Replace(text)
	}
	for i := range env {
		env[i] = below(env[i])
	}
	for _, folder := range []string{"/var/lib/kindred-gate/models", "/etc/kindred-gate"} { // StateDirectory, ConfigurationDirectory
		if err := os.MkdirAll(root+folder, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	inherited := slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "XDG_") || strings.HasPrefix(v, "KINDRED_") })
	started := strings.Fields(below(start))
	gate, err := StartIn(slices.Concat(inherited, env, []string{"KINDRED_LISTEN=127.0.0.1:0"}), started[0], root, started[1:]...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := gate.Stop(); err != nil {
			t.Error(err)
		}
	})
	ran := 0
	for _, c := range commands {
		words := strings.Fields(strings.ReplaceAll(below(c), `"timetable bot"`, "timetable-bot"))
		if words[0] != "sudo" || words[1] == "systemctl" || slices.Contains(words, "bin/kindred") || slices.Contains(words, "deploy/kindred-gate.service") {
			continue // done by StartIn
		}
		ran++
		if words[1] == "install" {
			for i, w := range words {
				if w == "harbour-4m.gguf" {
					words[i] = filepath.Join("..", "demo", "models", "harbour-4m", "harbour-4m.gguf")
				}
			}
		}
		if i := slices.Index(words, "kindred"); i >= 0 {
			words[i] = binary
		}
		cmd := exec.Command(words[1], words[2:]...)
		cmd.Env = append(slices.Clone(inherited), "HOME="+root+"/root")
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v: %s", c, err, out)
		}
		for _, line := range strings.Split(string(out), "\n") {
			if strings.Contains(line, "kg_") {
				gate.Key = line[strings.Index(line, "kg_"):]
			}
		}
	}
	if ran != 3 || gate.Key == "" {
		t.Fatalf("%d commands ran; the key is %q", ran, gate.Key)
	}
	gate.Key = strings.Fields(gate.Key)[0]
	if status, body := post(t, gate, gate.Key, `{"messages":[{"role":"user","content":"When is the last boat to Osmer?"}]}`); status != 200 {
		t.Errorf("%d: %s", status, body)
	}
}

// The service of compose runs as a user who can write to the models folder, which the image lets whoever it is do.
func TestCompose(t *testing.T) {
	raw, err := os.ReadFile("../deploy/compose.yaml")
	if err != nil {
		t.Fatal(err)
	}
	var file struct {
		Services map[string]struct {
			Build   struct{ Dockerfile string }
			User    string
			Volumes []string
		}
	}
	if err := yaml.Unmarshal(raw, &file); err != nil {
		t.Fatal(err)
	}
	gate := file.Services["gate"]
	image, err := os.ReadFile("../" + gate.Build.Dockerfile)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(gate.User, "GATE_USER") || !slices.Contains(gate.Volumes, "./models:/data/models") || !strings.Contains(string(image), "chmod 1777 /data /data/models") {
		t.Errorf("%+v", gate)
	}
}
