package config

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// alone gives the test an environment of its own, and returns its home.
func alone(t *testing.T) string {
	t.Helper()
	home := t.TempDir()
	t.Setenv("HOME", home)
	for _, v := range []string{"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "KINDRED_LISTEN", "KINDRED_DATA", "KINDRED_ACCESS", "KINDRED_MODELS"} {
		t.Setenv(v, "")
	}
	return home
}

func write(t *testing.T, path, text string) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestLaterWins(t *testing.T) {
	home := alone(t)
	c, err := Load("")
	if err == nil {
		err = c.Check()
	}
	if err != nil || c.Listen != DefaultListen || c.Access != Keys || c.Data != home+"/.local/share/kindred-gate" || !slices.Equal(c.Models.Folders, []string{home + "/models"}) {
		t.Errorf("nothing set: %+v, %v", c, err)
	}
	write(t, home+"/.config/kindred-gate/gate.yaml", "# nothing yet\n")
	if empty, err := Load(""); err != nil || empty.Listen != DefaultListen {
		t.Errorf("an empty file: %+v, %v", empty, err)
	}
	write(t, home+"/.config/kindred-gate/gate.yaml", "listen: 127.0.0.1:1\naccess: open\nhost_names: [gate.example]\nmodels:\n  folders: [~/a, /b]\n")
	t.Setenv("KINDRED_LISTEN", "127.0.0.1:2")
	c, err = Load("")
	if err == nil {
		err = c.Check()
	}
	if err != nil || c.Listen != "127.0.0.1:2" || c.Access != Open || !slices.Equal(c.HostNames, []string{"gate.example"}) || !slices.Equal(c.Models.Folders, []string{home + "/a", "/b"}) {
		t.Errorf("file and environment: %+v, %v", c, err)
	}
}

func TestMistakesAreNamed(t *testing.T) {
	home := alone(t)
	for text, want := range map[string]string{
		"lisen: x":                                               `[1:1] unknown field "lisen"`,
		"models:\n  folder: [a]":                                 `[2:3] unknown field "folder"`,
		"listen: [1, 2]":                                         "[1:9]",
		"listen: \"unclosed":                                     "[1:9]",
		"listen: 127.0.0.1":                                      `listen is "127.0.0.1"`,
		"access: all":                                            `access is "all"`,
		"access: open\nlisten: 192.0.2.1:7717":                   "refused on 192.0.2.1:7717",
		"access: open\nlisten: :7717":                            "refused on :7717",
		"access: open\nlisten: gate.example:80":                  "refused on gate.example:80",
		"network: { listen: [gate] }":                            `network.listen has "gate"`,
		"access: open\nnetwork: { listen: [\"0.0.0.0:443\"] }":   "refused on 0.0.0.0:443",
		"network: { certificate: a.pem }":                        "go together",
		"network: { base_url: \"https://gate.example\" }":        "network.base_url is",
		"network: { base_url: \"https://a:b@gate.example/v1\" }": "network.base_url is",
		"network: { trusted_proxies: [proxy] }":                  `network.trusted_proxies has "proxy"`,
		"ledger: { days: -1 }":                                   "ledger.days is -1",
	} {
		c, err := Load(write(t, filepath.Join(home, "x.yaml"), text))
		if err == nil {
			err = c.Check()
		}
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%q: error %v, want one line with %q", text, err, want)
		}
	}
}
