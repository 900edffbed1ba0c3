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
	c, err := Read("")
	if err != nil || c.Listen != DefaultListen || c.Access != Keys || c.Data != home+"/.local/share/kindred-gate" || !slices.Equal(c.Models.Folders, []string{home + "/models"}) {
		t.Errorf("nothing set: %+v, %v", c, err)
	}
	write(t, home+"/.config/kindred-gate/gate.yaml", "# nothing yet\n")
	if empty, err := Read(""); err != nil || empty.Listen != DefaultListen {
		t.Errorf("an empty file: %+v, %v", empty, err)
	}
	write(t, home+"/.config/kindred-gate/gate.yaml", "listen: 127.0.0.1:1\naccess: open\nhost_names: [gate.example]\nmodels:\n  folders: [~/a, /b]\n")
	t.Setenv("KINDRED_LISTEN", "127.0.0.1:2")
	c, err = Read("")
	if err != nil || c.Listen != "127.0.0.1:2" || c.Access != Open || !slices.Equal(c.HostNames, []string{"gate.example"}) || !slices.Equal(c.Models.Folders, []string{home + "/a", "/b"}) {
		t.Errorf("file and environment: %+v, %v", c, err)
	}
}

func TestMistakesAreNamed(t *testing.T) {
	home := alone(t)
	for text, want := range map[string]string{
		"lisen: x":                                                           `line 1, column 1: there is no setting "lisen"; the nearest is "listen"`,
		"colour: red":                                                        `line 1, column 1: there is no setting "colour"; "kindred serve --print-config" lists`,
		"models:\n  folder: [a]":                                             `line 2, column 3: there is no setting "models.folder"; the nearest is "models.folders"`,
		"models:\n  fetch:\n  - { adress: x }":                               `there is no setting "models.fetch[0].adress"; the nearest is "models.fetch[0].address"`,
		"tools: { remote: { command: [a] } }":                                "and is not remote",
		"tools: { Ferry: { command: [a] } }":                                 "small letters",
		"tools: { ferry: { } }":                                              "tools.ferry needs one of command, url and web",
		"tools: { ferry: { command: [a], url: 'http://a/mcp' } }":            "needs one of command, url and web",
		"tools: { ferry: { command: [''] } }":                                "tools.ferry.command is empty",
		"tools: { ferry: { comand: [a] } }":                                  `unknown field "comand"`,
		"tools: { ferry: { command: [a], key_env: A } }":                     "a command has env in the place of headers",
		"tools: { ferry: { url: 'ftp://a/mcp' } }":                           "tools.ferry.url is",
		"tools: { ferry: { url: 'http://u:p@a/mcp' } }":                      "without a user",
		"tools: { ferry: { url: 'http://a/mcp', key_env: A, key_file: b } }": "choose one",
		"tools: { ferry: { url: 'http://a/mcp', description: b } }":          "are for web",
		"tools: { ferry: { web: { url: 'http://a/' } } }":                    "tools.ferry.description is missing",
		"tool_rules: { hosts: ['https://a'] }":                               "tool_rules.hosts[0]",
		"tool_rules: { steps: -1 }":                                          "numbers and times from 0 on",
		"tool_rules: { steps: 100000 }":                                      "1000 steps and 10000 calls are the most",
		"models: { threads: -1 }":                                            "models.threads is -1; it must be 0",
		"hosted_tools: { telepathy: ferry }":                                 "hosted_tools.telepathy",
		"hosted_tools: { web_search: ferry/x }":                              "it must be one of the servers of tools",
		"listen: a:1\n---\nlisten: b:1":                                      "several documents",
		"models: { memory: lots }":                                           `line 1: models.memory: "lots" is not a size`,
		"listen: [1, 2]":                                                     "[1:9]",
		"listen: \"unclosed":                                                 "[1:9]",
		"listen: 127.0.0.1":                                                  `listen is "127.0.0.1"`,
		"access: all":                                                        `access is "all"`,
		"access: open\nlisten: 192.0.2.1:7717":                               "refused on 192.0.2.1:7717",
		"access: open\nlisten: :7717":                                        "refused on :7717",
		"access: open\nlisten: gate.example:80":                              "refused on gate.example:80",
		"network: { listen: [gate] }":                                        `network.listen has "gate"`,
		"access: open\nnetwork: { listen: [\"0.0.0.0:443\"] }":               "refused on 0.0.0.0:443",
		"network: { certificate: a.pem }":                                    "go together",
		"network: { base_url: \"https://gate.example\" }":                    "network.base_url is",
		"network: { base_url: \"https://a:b@gate.example/v1\" }":             "network.base_url is",
		"network: { trusted_proxies: [proxy] }":                              `network.trusted_proxies has "proxy"`,
		"ledger: { days: -1 }":                                               "ledger.days is -1",
	} {
		_, err := Read(write(t, filepath.Join(home, "x.yaml"), text))
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%q: error %v, want one line with %q", text, err, want)
		}
	}
}

// What a tool server is given may be secret, and is shown nowhere.
func TestSecretsOfToolsAreHidden(t *testing.T) {
	home := alone(t)
	c, err := Read(write(t, filepath.Join(home, "x.yaml"), "tools:\n  ferry: { command: [a], env: { TOKEN: harbour-one } }\n  desk: { url: \"http://a/mcp\", headers: { X-Key: harbour-two } }\n"))
	if err != nil || c.Tools["ferry"].Env["TOKEN"] != "harbour-one" || c.Tools["desk"].Headers["X-Key"] != "harbour-two" {
		t.Fatalf("%+v, %v", c.Tools, err)
	}
	values, err := c.Values()
	if text := values["tools"]; err != nil || !strings.Contains(text, "TOKEN") || !strings.Contains(text, "X-Key") || strings.Contains(text, "harbour-") {
		t.Errorf("%s, %v", text, err)
	}
}

// What is no file in the place of the configuration is an error at once: nobody waits for a pipe, or reads a device for ever.
func TestOnlyAFileIsAConfiguration(t *testing.T) {
	home := alone(t)
	path := filepath.Join(home, "gate.yaml")
	if err := os.Symlink("/dev/zero", path); err != nil {
		t.Skip(err)
	}
	if _, err := Read(path); err == nil || !strings.Contains(err.Error(), "not a regular file") {
		t.Errorf("%v", err)
	}
	if _, err := Declarations(path); err == nil || !strings.Contains(err.Error(), "not a regular file") {
		t.Errorf("%v", err)
	}
	if _, err := (Runner{KeyFile: path}).Key("attic"); err == nil || !strings.Contains(err.Error(), "not a regular file") {
		t.Errorf("%v", err)
	}
}

// Each layer wins over those before it, and each value tells its own.
func TestSettingsTellWhereTheyComeFrom(t *testing.T) {
	home := alone(t)
	file := write(t, home+"/.config/kindred-gate/gate.yaml", "# ours\nmodels:\n  memory: 2048MiB\n  idle_unload: 5m\nledger: { days: 7 }\nhost_names: [a.example]\n")
	t.Setenv("KINDRED_MODELS_IDLE_UNLOAD", "90s")
	t.Setenv("KINDRED_HOST_NAMES", "b.example, c.example")
	r, err := Read("", Flag{Name: "ledger.days", Flag: "--days", Values: []string{"3"}})
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]Setting{
		"access":             {Name: "access", Value: "keys", Layer: ByDefault},
		"listen":             {Name: "listen", Value: "127.0.0.1:7717", Layer: ByDefault, Restart: true},
		"models.memory":      {Name: "models.memory", Value: "2GiB", Layer: ByFile, Where: file + ":3"},
		"models.idle_unload": {Name: "models.idle_unload", Value: "1m30s", Layer: ByEnvironment, Where: "KINDRED_MODELS_IDLE_UNLOAD"},
		"host_names":         {Name: "host_names", Value: "[b.example, c.example]", Layer: ByEnvironment, Where: "KINDRED_HOST_NAMES"},
		"ledger.days":        {Name: "ledger.days", Value: "3", Layer: ByFlag, Where: "--days"},
	} {
		i := slices.IndexFunc(r.Settings, func(s Setting) bool { return s.Name == name })
		if i < 0 || r.Settings[i] != want {
			t.Errorf("%s: %+v, want %+v", name, r.Settings[max(i, 0)], want)
		}
	}
	text, err := r.Print()
	if err != nil || !strings.Contains(text, "# environment KINDRED_MODELS_IDLE_UNLOAD\n") {
		t.Errorf("printed:\n%s\n%v", text, err)
	}
	// What is printed says the same when it is read.
	t.Setenv("KINDRED_MODELS_IDLE_UNLOAD", "")
	t.Setenv("KINDRED_HOST_NAMES", "")
	again, err := Read(write(t, home+"/printed.yaml", text))
	if err != nil || len(Differences(r, again)) != 0 {
		t.Errorf("what is printed differs in %+v, %v", Differences(r, again), err)
	}
	for variable, want := range map[string]string{"KINDRED_MODELS_IDLE_UNLOAD": "no time such as", "KINDRED_LEDGER_DAYS": "does not fit"} {
		t.Run(variable, func(t *testing.T) {
			t.Setenv(variable, "soon")
			if _, err := Read(""); err == nil || !strings.Contains(err.Error(), variable) || !strings.Contains(err.Error(), want) {
				t.Errorf("error %v", err)
			}
		})
	}
}

// Relative paths in a file begin at the file, wherever the gate is started; elsewhere they begin there.
func TestPathsBeginAtTheirFile(t *testing.T) {
	home := alone(t)
	file := write(t, home+"/etc/gate.yaml", "data: state\nmodels: { folders: [models, ~/more, /most] }\nnetwork: { certificate: cert.pem, key: /k.pem }\n")
	t.Chdir(t.TempDir())
	here, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	r, err := Read(file, Flag{Name: "data", Flag: "--data", Values: []string{"other"}})
	if err != nil || r.Data != here+"/other" || !slices.Equal(r.Models.Folders, []string{home + "/etc/models", home + "/more", "/most"}) || r.Network.Certificate != home+"/etc/cert.pem" || r.Network.Key != "/k.pem" {
		t.Errorf("%+v, %v", r.Config, err)
	}
}

// While a gate runs, what needs a restart stays.
func TestHeld(t *testing.T) {
	running, set := Default(), Default()
	set.Listen, set.Models.Folders, set.Ledger.Days, set.HostNames = "127.0.0.1:1", []string{"/a"}, 3, []string{"a.example"}
	held := Held(running, set)
	if held.Listen != DefaultListen || held.Models.Folders[0] != "~/models" || held.Ledger.Days != 3 || !slices.Equal(held.HostNames, set.HostNames) {
		t.Errorf("held: %+v", held)
	}
}

func FuzzConfiguration(f *testing.F) {
	f.Add("models:\n  folders: [a]\n  fetch: [{name: x}]\n")
	f.Add("a: &x [*x]\n? {b: c}\n: d")
	f.Add("models:\n  folders: !00\n00000000000000000000") // on which the parser panics
	f.Fuzz(func(t *testing.T, text string) {
		c := Default()
		if _, err := decode([]byte(text), &c); err != nil && strings.Contains(err.Error(), "\n") {
			t.Errorf("an error of several lines: %v", err)
		}
	})
}

// What a variable says fits its setting, whatever its type; and the sections for "kindred apply" are read by themselves.
func TestVariablesOfEveryType(t *testing.T) {
	home := alone(t)
	for name, value := range map[string]string{
		"KINDRED_ACCESS": "open", "KINDRED_NETWORK_ONLY_APPLICATIONS": "true", "KINDRED_MODELS_MEMORY": "3GiB", "KINDRED_RECORD_CONTENT": "true", "KINDRED_PRICES_MACHINE": "12.5", "KINDRED_LEDGER_DAYS": "3",
		"KINDRED_MODELS": home + "/a" + string(os.PathListSeparator) + home + "/b", "KINDRED_PRICES_MODELS": "{m: {prompt: 1, answer: 2}}", "KINDRED_BROWSER_ORIGINS": "https://a.example,https://b.example",
	} {
		t.Setenv(name, value)
	}
	r, err := Read("")
	if err != nil || r.Access != Open || !r.Network.OnlyApplications || r.Models.Memory != 3<<30 || !r.Record.Content || r.Prices.Machine != 12.5 || r.Ledger.Days != 3 || len(r.Models.Folders) != 2 ||
		r.Prices.Models["m"].Answer != 2 || len(r.BrowserOrigins) != 2 {
		t.Errorf("%+v, %v", r.Config, err)
	}
	file := write(t, home+"/set-up.yaml", "names: { timetable: m }\nkeys: { kiosk: { limits: { at_once: 1 } } }\nledger: { days: 1 }\n")
	raw, err := Declarations(file)
	if err != nil || string(raw) != `{"keys":{"kiosk":{"limits":{"at_once":1}}},"names":{"timetable":"m"},"presets":null}` {
		t.Errorf("declared: %s, %v", raw, err)
	}
	for text, want := range map[string]string{"nams: {}": `the nearest is "names"`, "names: [a]": "[1:8]"} {
		if _, err := Declarations(write(t, file, text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := Declarations(home + "/none.yaml"); err == nil {
		t.Error("a file that is not there declares nothing, without a word")
	}
}
