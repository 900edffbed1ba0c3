// Package config reads gate.yaml and the environment. Whatever is not set has a default; an empty file is a
// valid one; a key that does not exist is an error with its line.
package config

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
)

// Config is how a gate is set up.
type Config struct {
	Listen    string   `yaml:"listen"`     // host:port
	Access    Access   `yaml:"access"`     // who may use the models
	HostNames []string `yaml:"host_names"` // names the gate is called by, beside its addresses
	Data      string   `yaml:"data"`       // folder of the database and the owner key
	Models    Models   `yaml:"models"`
}

// Models says where weights are.
type Models struct {
	Folders []string `yaml:"folders"`
}

// Access says who may use the models.
type Access string

// The kinds of access.
const (
	Keys Access = "keys" // whoever has a key that the gate issued
	Open Access = "open" // everybody on this computer, with any key or none
)

// DefaultListen is the gate's usual address.
const DefaultListen = "127.0.0.1:7717"

// Default is the configuration that an empty file stands for.
func Default() Config {
	return Config{Listen: DefaultListen, Access: Keys, Data: DataFolder(), Models: Models{Folders: []string{"~/models"}}}
}

// Load reads the file at path, or, if path is empty, gate.yaml in the configuration folder if there is one;
// then the environment. The result is not checked yet: flags may still change it.
func Load(path string) (Config, error) {
	c := Default()
	optional := path == ""
	if optional {
		folder, err := Absolute(folder("XDG_CONFIG_HOME", ".config"))
		if err != nil {
			return c, fmt.Errorf("configuration: %w", err)
		}
		path = filepath.Join(folder, "gate.yaml")
	}
	raw, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && optional:
	case err != nil:
		return c, fmt.Errorf("configuration: %w", err)
	default:
		if err := decode(raw, &c); err != nil {
			return c, fmt.Errorf("configuration %s: %s", path, firstLine(err))
		}
	}
	for name, field := range map[string]*string{
		"KINDRED_LISTEN": &c.Listen,
		"KINDRED_DATA":   &c.Data,
		"KINDRED_ACCESS": (*string)(&c.Access),
	} {
		if v := os.Getenv(name); v != "" {
			*field = v
		}
	}
	if v := os.Getenv("KINDRED_MODELS"); v != "" {
		c.Models.Folders = filepath.SplitList(v)
	}
	return c, nil
}

// decode reads YAML over the defaults in c. A file of nothing but comments says nothing; the decoder would take it
// for "no configuration at all".
func decode(raw []byte, c *Config) error {
	var anything any
	if err := yaml.Unmarshal(raw, &anything); err == nil && anything == nil {
		return nil
	}
	return yaml.NewDecoder(bytes.NewReader(raw), yaml.Strict()).Decode(c)
}

// firstLine is the message of a YAML error, which begins with [line:column], without the excerpt after it.
func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// Check reports what does not go together, and makes paths absolute.
func (c *Config) Check() error {
	host, port, err := net.SplitHostPort(c.Listen)
	if err != nil || port == "" {
		return fmt.Errorf("listen is %q; it must be an address and a port, such as %s", c.Listen, DefaultListen)
	}
	switch c.Access {
	case Keys:
	case Open:
		if !loopback(host) {
			return fmt.Errorf("access is open, which is refused on %s: others could reach it; listen on 127.0.0.1 or use keys", c.Listen)
		}
	default:
		return fmt.Errorf("access is %q; it must be keys or open", c.Access)
	}
	for _, path := range append([]*string{&c.Data}, pointers(c.Models.Folders)...) {
		if *path, err = Absolute(*path); err != nil {
			return err
		}
	}
	return nil
}

func pointers(list []string) (out []*string) {
	for i := range list {
		out = append(out, &list[i])
	}
	return out
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Absolute resolves ~ and relative paths.
func Absolute(path string) (string, error) {
	if rest, ok := strings.CutPrefix(path, "~"); ok && (rest == "" || rest[0] == '/') {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("%s: %w", path, err)
		}
		path = home + rest
	}
	return filepath.Abs(path)
}

// DataFolder is where a gate keeps its state unless told otherwise.
func DataFolder() string { return folder("XDG_DATA_HOME", ".local/share") }

// StateFolder is where running gates leave word of themselves.
func StateFolder() (string, error) { return Absolute(folder("XDG_STATE_HOME", ".local/state")) }

// folder is the gate's folder under one of the XDG base directories.
func folder(variable, otherwise string) string {
	if dir := os.Getenv(variable); filepath.IsAbs(dir) {
		return filepath.Join(dir, "kindred-gate")
	}
	return filepath.Join("~", otherwise, "kindred-gate")
}
