package config

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/system"
)

// Tool is a server of tools that the gate runs for models: a command or a URL that speaks the Model Context Protocol, or with Web a plain HTTP
// endpoint.
type Tool struct {
	Command []string `yaml:"command"` // the program and its arguments; no shell is in between
	Env     Hidden   `yaml:"env"`     // its environment, besides PATH
	Folder  string   `yaml:"folder"`  // in which it runs

	URL     string `yaml:"url"`
	Headers Hidden `yaml:"headers"`
	// KeyEnv names the variable that has its key, or KeyFile the file; it is sent as a bearer token.
	KeyEnv  string `yaml:"key_env"`
	KeyFile string `yaml:"key_file"`

	Start time.Duration `yaml:"start"` // in which it has to be ready; 30s if 0
	Idle  time.Duration `yaml:"idle"`  // after which one that is not used is stopped; 5m if 0

	Web         *WebTool `yaml:"web"`
	Title       string   `yaml:"title"`       // these are of a tool with Web
	Description string   `yaml:"description"` // what the model is told
	Schema      any      `yaml:"schema"`      // JSON Schema of the arguments
	ReadOnly    bool     `yaml:"read_only"`   // whether it changes nothing
}

// Hidden are values by their names, which may be secret: where a configuration is shown they are left out.
type Hidden map[string]string

// MarshalYAML writes the names.
func (h Hidden) MarshalYAML() (any, error) {
	shown := map[string]string{}
	for name := range h {
		shown[name] = "…"
	}
	return shown, nil
}

// WebTool is a plain HTTP endpoint.
type WebTool struct {
	URL    string `yaml:"url"` // may hold arguments, as {name}
	Method string `yaml:"method"`
}

// ToolRules bound what tools do. 0 is for what is usual.
type ToolRules struct {
	Hosts            []string      `yaml:"hosts"`             // where servers may be that requests name; "*.example" for all below
	PrivateAddresses bool          `yaml:"private_addresses"` // whether these may be at private addresses
	Steps            int           `yaml:"steps"`             // calls of the model for a request; 16
	Calls            int           `yaml:"calls"`             // of tools for a request; 64
	Time             time.Duration `yaml:"time"`              // of a request; 10m
	Tokens           int           `yaml:"tokens"`            // that the model writes for a request; any number
	Cost             float64       `yaml:"cost"`              // of a request, in the currency of prices; any
	CallTime         time.Duration `yaml:"call_time"`         // of one call; 30s
	Result           Size          `yaml:"result"`            // of one call; 64KiB
	Approval         time.Duration `yaml:"approval"`          // after which a call in the background that nobody approves lapses; 15m
}

// reservedTools are names that mean something else among a key's tools.
var reservedTools = []string{"remote"}

func (t Tool) check(name string) error {
	at := "tools." + name
	if !runnerName.MatchString(name) || slices.Contains(reservedTools, name) {
		return fmt.Errorf("%s: a tool server's name has 1 to 32 small letters, digits, \".\", \"_\" or \"-\", and is not %s", at, strings.Join(reservedTools, ", "))
	}
	ways := 0
	for _, is := range []bool{len(t.Command) > 0, t.URL != "", t.Web != nil} {
		if is {
			ways++
		}
	}
	switch {
	case ways != 1:
		return fmt.Errorf("%s needs one of command, url and web: how it is reached", at)
	case len(t.Command) > 0 && t.Command[0] == "":
		return fmt.Errorf("%s.command is empty; it is a program and its arguments, such as [npx, some-server]", at)
	case t.KeyEnv != "" && t.KeyFile != "":
		return fmt.Errorf("%s has a key_env and a key_file; choose one", at)
	case len(t.Command) > 0 && (t.KeyEnv != "" || t.KeyFile != "" || len(t.Headers) > 0):
		return fmt.Errorf("%s: a command has env in the place of headers and keys", at)
	case t.Start < 0 || t.Idle < 0:
		return fmt.Errorf("%s: start and idle are times, such as 30s", at)
	case t.Web == nil && (t.Schema != nil || t.Description != "" || t.Title != "" || t.ReadOnly):
		return fmt.Errorf("%s: title, description, schema and read_only are for web; other servers describe their tools themselves", at)
	case t.Web != nil && t.Description == "":
		return fmt.Errorf("%s.description is missing: what the model is told of the tool", at)
	}
	if t.URL != "" {
		u, err := url.Parse(t.URL)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
			return fmt.Errorf("%s.url is %q; it must be an address such as https://tools.example/mcp, without a user", at, hideUser(u, t.URL))
		}
	}
	return nil
}

// Key is the server's key.
func (t Tool) Key(name string) (string, error) { return keyOf("tools."+name, t.KeyEnv, t.KeyFile) }

// keyOf is a key that a setting names by a variable or a file.
func keyOf(at, variable, file string) (string, error) {
	if file == "" {
		return secret(at+".key_env", variable)
	}
	path, err := Absolute(file)
	if err != nil {
		return "", err
	}
	raw, err := system.ReadFile(path, maxFile)
	if err != nil {
		return "", fmt.Errorf("%s.key_file: %w", at, err)
	}
	return strings.TrimSpace(string(raw)), nil
}

// SchemaJSON is the schema of a tool with Web; that of any object if there is none.
func (t Tool) SchemaJSON() (json.RawMessage, error) {
	if t.Schema == nil {
		return json.RawMessage(`{"type":"object"}`), nil
	}
	return json.Marshal(t.Schema)
}

var hostForm = regexp.MustCompile(`^(\*\.)?[A-Za-z0-9]([A-Za-z0-9.:-]*[A-Za-z0-9])?$`)

func (r ToolRules) check() error {
	for i, h := range r.Hosts {
		if !hostForm.MatchString(h) {
			return fmt.Errorf("tool_rules.hosts[%d] is %q; a host looks like tools.example, or *.example for all below it, without a scheme or a port", i, h)
		}
	}
	if min(r.Steps, r.Calls, r.Tokens) < 0 || min(r.Time, r.CallTime, r.Approval) < 0 || r.Cost < 0 || r.Result < 0 {
		return fmt.Errorf("tool_rules: steps, calls, tokens, time, call_time, cost, result and approval are numbers and times from 0 on, 0 being for what is usual")
	}
	if r.Steps > 1000 || r.Calls > 10_000 {
		return fmt.Errorf("tool_rules: %d steps and %d calls; 1000 steps and 10000 calls are the most", r.Steps, r.Calls)
	}
	return nil
}

// checkTools reports what is wrong with tools, and with what takes the place of the standard's.
func (c *Config) checkTools() error {
	for _, name := range slices.Sorted(maps.Keys(c.Tools)) {
		if err := c.Tools[name].check(name); err != nil {
			return err
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(c.HostedTools)) {
		if !slices.Contains(HostedKinds, kind) {
			return fmt.Errorf("hosted_tools.%s: a tool of the gate's can take the place of %s", kind, strings.Join(HostedKinds, ", "))
		}
		server, _, _ := strings.Cut(c.HostedTools[kind], "/")
		if _, ok := c.Tools[server]; !ok {
			return fmt.Errorf("hosted_tools.%s is %q; it must be one of the servers of tools, or SERVER/TOOL", kind, c.HostedTools[kind])
		}
	}
	return c.ToolRules.check()
}

// HostedKinds are the standard's types of tools that one of the gate's can serve.
var HostedKinds = []string{"web_search", "file_search", "code_interpreter", "image_generation", "computer", "shell", "apply_patch"}
