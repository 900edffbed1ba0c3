// Package config reads how a gate is set up: defaults, gate.yaml, the environment, flags; later wins. An empty file is a valid one; a
// key that does not exist is an error with its line and the nearest one that does.
package config

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
)

// Config is how a gate is set up. What is tagged with restart holds from the next start on; the rest is applied while the gate runs.
type Config struct {
	Listen    string   `yaml:"listen" apply:"restart"` // host:port
	Access    Access   `yaml:"access"`                 // who may use the models
	HostNames []string `yaml:"host_names"`             // names the gate is called by, beside its addresses
	// BrowserOrigins are origins of pages that may use the models from a browser, such as https://app.example; "*" for all.
	BrowserOrigins []string `yaml:"browser_origins"`
	Data           string   `yaml:"data" apply:"restart"` // folder of the database and the owner key
	Models         Models   `yaml:"models"`
	Responses      Stored   `yaml:"responses"`
	Ledger         Ledger   `yaml:"ledger"`
	Record         Record   `yaml:"record"`
	Prices         Prices   `yaml:"prices"`
	Traces         Traces   `yaml:"traces"`
	// Forward are addresses to which what exchanges came to is passed on.
	Forward []Forward `yaml:"forward" apply:"restart"`
	Network Network   `yaml:"network"`
	// Runners are other servers, whose models are called by the server's name, a slash and their own.
	Runners map[string]Runner `yaml:"runners"`
	// Fleet is how machines that dial in reach the gate, and Join what this one offers to a gate that it has dialled.
	Fleet Fleet `yaml:"fleet" apply:"restart"`
	Join  Join  `yaml:"join"`
	// Tools are servers of tools that the gate runs for models, and ToolRules bound them.
	Tools     map[string]Tool `yaml:"tools"`
	ToolRules ToolRules       `yaml:"tool_rules"`
	// HostedTools are tools that take the place of the standard's types, such as web_search: a server's name, or SERVER/TOOL.
	HostedTools map[string]string `yaml:"hosted_tools"`
	// ApplyAtStart has what follows hold when the gate starts, and whenever the file changes.
	ApplyAtStart bool `yaml:"apply_at_start"`
	// These take effect only through "kindred apply", or with ApplyAtStart.
	Names   map[string]any `yaml:"names" apply:"declared"`
	Presets map[string]any `yaml:"presets" apply:"declared"`
	Keys    map[string]any `yaml:"keys" apply:"declared"`
}

// Declared reports whether the configuration has names, presets or keys.
func (c Config) Declared() bool { return len(c.Names)+len(c.Presets)+len(c.Keys) > 0 }

// Declarations are these, as JSON.
func (c Config) Declarations() ([]byte, error) {
	return json.Marshal(map[string]any{"names": c.Names, "presets": c.Presets, "keys": c.Keys})
}

// Files are the files that the configuration names and that are read anew with it.
func (c Config) Files() (list []string) {
	add := func(path string) {
		if full, err := Absolute(path); path != "" && err == nil {
			list = append(list, filepath.Clean(full))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Runners)) {
		r := c.Runners[name]
		add(r.KeyFile)
		if r.Layout != nil {
			add(r.Layout.Template)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.Tools)) {
		add(c.Tools[name].KeyFile)
	}
	add(c.Network.Certificate)
	add(c.Network.Key)
	return list
}

// Network says how others than the programs of this computer reach the gate.
type Network struct {
	// Listen are more addresses: host:port, or unix: with the path of a socket. Sockets that the system has opened for the gate come besides.
	Listen []string `yaml:"listen" apply:"restart"`
	// OnlyApplications keeps managing, metrics and the console to the gate's first address.
	OnlyApplications bool `yaml:"only_applications" apply:"restart"`
	// Certificate and Key are PEM files. With them the host:port of Listen speak TLS.
	Certificate string `yaml:"certificate" apply:"restart"`
	Key         string `yaml:"key" apply:"restart"`
	// ACME has certificates made by an authority, in the place of Certificate and Key.
	ACME ACME `yaml:"acme" apply:"restart"`
	// BaseURL is what applications are told to use, such as https://gate.example/v1, where that is not an address of the gate itself. What
	// stands before /v1 is a prefix under which a proxy passes requests on, whether it leaves it out or not.
	BaseURL string `yaml:"base_url"`
	// TrustedProxies are addresses, and ranges of them, whose X-Forwarded-For is believed.
	TrustedProxies []string `yaml:"trusted_proxies"`
}

// ACME says by whom certificates are made (RFC 8555), and for what names. The authority must reach the gate at these, at port 443.
type ACME struct {
	Hosts     []string `yaml:"hosts"`
	Email     string   `yaml:"email"`     // where the authority writes to
	Directory string   `yaml:"directory"` // the address of the authority
	Roots     string   `yaml:"roots"`     // a PEM file with the certificates that are trusted in calling it; the system's if it is empty
}

// SocketPrefix begins an address that is a Unix socket's.
const SocketPrefix = "unix:"

// check reports what does not go together, and makes paths absolute.
func (n *Network) check(access Access) error {
	n.Listen = slices.Clone(n.Listen) // which others may be reading
	for i, l := range n.Listen {
		path, socket := strings.CutPrefix(l, SocketPrefix)
		if socket {
			path, err := Absolute(path)
			if err != nil {
				return err
			}
			n.Listen[i] = SocketPrefix + path
			continue
		}
		host, port, err := net.SplitHostPort(l)
		if err != nil || port == "" {
			return fmt.Errorf("network.listen has %q; it must be an address and a port, such as 0.0.0.0:443, or unix: with the path of a socket", l)
		}
		if access == Open && !loopback(host) {
			return fmt.Errorf("access is open, which is refused on %s: others could reach it; use keys", l)
		}
	}
	if (n.Certificate == "") != (n.Key == "") {
		return errors.New("network.certificate and network.key go together: name both files, or none")
	}
	for _, file := range []*string{&n.Certificate, &n.Key} {
		if *file != "" {
			path, err := Absolute(*file)
			if err != nil {
				return err
			}
			*file = path
		}
	}
	if n.BaseURL != "" {
		u, err := url.Parse(n.BaseURL)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || !strings.HasSuffix(u.Path, "/v1") || u.Path != path.Clean(u.Path) || u.RawQuery != "" || u.User != nil {
			return fmt.Errorf("network.base_url is %q; it must be a scheme, a host, perhaps a path, and /v1, such as https://gate.example/v1", n.BaseURL)
		}
	}
	if a := &n.ACME; len(a.Hosts) > 0 {
		u, err := url.Parse(a.Directory)
		switch {
		case n.Certificate != "":
			return errors.New("network.acme and network.certificate are two ways to a certificate; choose one")
		case err != nil || u.Scheme != "https" || u.Host == "":
			return fmt.Errorf("network.acme.directory is %q; it must be the address at which the authority describes itself, with https", a.Directory)
		case a.Roots != "":
			if a.Roots, err = Absolute(a.Roots); err != nil {
				return err
			}
		}
	}
	for _, p := range n.TrustedProxies {
		if _, err := netip.ParseAddr(p); err == nil {
			continue
		}
		if _, err := netip.ParsePrefix(p); err != nil {
			return fmt.Errorf("network.trusted_proxies has %q; it must be an address, or a range such as 10.0.0.0/8", p)
		}
	}
	return nil
}

// Ledger says how much is kept of the record of exchanges; the oldest make room.
type Ledger struct {
	Days  int   `yaml:"days"`  // 0 for as long as the gate is there
	Rows  int64 `yaml:"rows"`  // how many exchanges; 0 for any number
	Space Size  `yaml:"space"` // on disk, about; 0 for no limit
}

// Record says what is kept of what is said in exchanges.
type Record struct {
	Content bool `yaml:"content"` // whether anything is, for keys that do not say otherwise
	Days    int  `yaml:"days"`    // after which it is removed; 0 for never
	Space   Size `yaml:"space"`   // on disk; the oldest makes room for the new
	// Redact are regular expressions (RE2). What fits one is not kept.
	Redact []string `yaml:"redact"`
}

// Traces says where traces go.
type Traces struct {
	To               string `yaml:"to" apply:"restart"`                // the address of a collector that takes OTLP over HTTP, without /v1/traces; empty for nowhere
	AuthorizationEnv string `yaml:"authorization_env" apply:"restart"` // the variable that has what goes into that header
}

// Forward is an address to which what exchanges came to is passed on.
type Forward struct {
	To               string `yaml:"to"` // http:, https:, syslog+tcp: or syslog+udp:
	AuthorizationEnv string `yaml:"authorization_env"`
}

// secret takes what goes into a header out of the environment, so that it stands in no file that is shared.
func secret(setting, variable string) (string, error) {
	if variable == "" {
		return "", nil
	}
	v := os.Getenv(variable)
	if v == "" {
		return "", fmt.Errorf("%s names the variable %s, which is not set", setting, variable)
	}
	return v, nil
}

// Authorization is what goes into that header.
func (t Traces) Authorization() (string, error) {
	return secret("traces.authorization_env", t.AuthorizationEnv)
}

// Authorization is what goes into that header.
func (f Forward) Authorization() (string, error) {
	return secret("forward.authorization_env", f.AuthorizationEnv)
}

// Prices say what exchanges cost.
type Prices struct {
	Currency string `yaml:"currency"` // as it is shown
	// Machine is what the machine costs a month. It is shared out by the time in the model.
	Machine float64 `yaml:"machine"`
	// Models have prices for a million tokens; "*" is for those that are not named.
	Models map[string]Price `yaml:"models"`
}

// Price is what a million tokens cost.
type Price struct {
	Prompt float64  `yaml:"prompt"`
	Cached *float64 `yaml:"cached"` // of the prompt, that did not have to be read; as the prompt if it is left out
	Answer float64  `yaml:"answer"`
	Call   float64  `yaml:"call"` // of one request that is passed on as it is (images, audio, moderations), whose tokens nobody counts
}

// Use is what an exchange has used.
type Use struct {
	Prompt, Cached, Answer int  // tokens; Cached are those of the prompt
	Passed                 bool // whether it was passed on as it is
}

// Of is what an exchange with a model costs, in millionths of the currency.
func (p Prices) Of(model string, u Use) int64 {
	price, ok := p.Models[model]
	if !ok {
		price = p.Models["*"]
	}
	known := price.Prompt
	if price.Cached != nil {
		known = *price.Cached
	}
	if u.Passed {
		return int64(math.Round(price.Call * 1e6))
	}
	return int64(math.Round(price.Prompt*float64(u.Prompt-u.Cached) + known*float64(u.Cached) + price.Answer*float64(u.Answer)))
}

func (p Prices) check() error {
	if p.Machine < 0 || len(p.Currency) > 8 {
		return errors.New("prices: machine is what the machine costs a month, from 0 on, and currency a short name for it, such as EUR")
	}
	for _, model := range slices.Sorted(maps.Keys(p.Models)) {
		price := p.Models[model]
		if price.Prompt < 0 || price.Answer < 0 || price.Call < 0 || price.Cached != nil && *price.Cached < 0 {
			return fmt.Errorf("prices.models.%s: a price is a number from 0 on: prompt, cached and answer for a million tokens, call for one request", model)
		}
	}
	return nil
}

// Stored says how much is kept of the answers of the response style.
type Stored struct {
	Days  int  `yaml:"days"`  // after which a response is removed
	Space Size `yaml:"space"` // on disk, for the responses of each key; the oldest make room for new ones
}

// Models says where weights are, and how much memory they may take.
type Models struct {
	Folders          []string      `yaml:"folders" env:"KINDRED_MODELS" apply:"restart"` // the first is the one that models are added to
	Memory           Size          `yaml:"memory"`                                       // for the weights and contexts of all loaded models; three quarters of the machine's if 0
	ContextMemory    Size          `yaml:"context_memory" apply:"restart"`               // for the contexts of each model; an eighth of Memory, but no more than 4 GiB, if 0
	Threads          int           `yaml:"threads" apply:"restart"`                      // that compute; as many as bring most, by measuring, if 0
	ContextType      ContextType   `yaml:"context_type" apply:"restart"`                 // how contexts are kept
	Prepared         Size          `yaml:"prepared" apply:"restart"`                     // on disk, for weights in the order of this processor; 0 for none
	SavedContexts    Size          `yaml:"saved_contexts" apply:"restart"`               // on disk, for prompt prefixes that requests have in common; none if 0
	PictureMemory    Size          `yaml:"picture_memory" apply:"restart"`               // that decoding a picture may take; 256 MiB if 0
	PictureTokens    int           `yaml:"picture_tokens" apply:"restart"`               // that a picture becomes at the most, unless a request wants the original; 1280 if 0
	PictureAddresses string        `yaml:"picture_addresses" apply:"restart"`            // where pictures may be fetched from: nowhere if empty, public addresses, or private ones too
	IdleUnload       time.Duration `yaml:"idle_unload"`                                  // after which a model that nobody uses is unloaded; 0 for never
	KeepLoaded       []string      `yaml:"keep_loaded"`                                  // names of models that are loaded from the start
	// Drafters name, for models, the small one of the same vocabulary that guesses tokens for it.
	Drafters map[string]string `yaml:"drafters"`
	Fetch    []Fetched         `yaml:"fetch"` // models that are fetched at the start if they are not there
}

// Fetched is a model with the address that it is to be fetched from.
type Fetched struct {
	Name      string `yaml:"name"`
	Address   string `yaml:"address"`
	SHA256    string `yaml:"sha256"`
	Projector string `yaml:"projector"` // address of the tower of a GGUF file that is to take pictures
}

// Size is a number of bytes, written as 12GiB, 500MB or 1000000.
type Size int64

// UnmarshalYAML reads a size.
func (s *Size) UnmarshalYAML(raw []byte) error {
	var text string
	if err := yaml.Unmarshal(raw, &text); err != nil {
		return err
	}
	n, err := ParseSize(text)
	*s = Size(n)
	return err
}

// MarshalYAML writes a size in the largest unit that says it exactly.
func (s Size) MarshalYAML() (any, error) {
	units := []string{"", "KiB", "MiB", "GiB", "TiB"}
	at := 0
	for s > 0 && s%1024 == 0 && at+1 < len(units) {
		s, at = s/1024, at+1
	}
	return fmt.Sprintf("%d%s", s, units[at]), nil
}

// ParseSize reads a number of bytes with or without a unit.
func ParseSize(text string) (int64, error) {
	text = strings.TrimSpace(text)
	number := strings.TrimRightFunc(text, func(r rune) bool { return r != '.' && (r < '0' || r > '9') })
	unit, ok := map[string]float64{"": 1, "b": 1, "kb": 1e3, "mb": 1e6, "gb": 1e9, "tb": 1e12, "kib": 1 << 10, "mib": 1 << 20, "gib": 1 << 30, "tib": 1 << 40}[strings.ToLower(strings.TrimSpace(text[len(number):]))]
	v, err := strconv.ParseFloat(number, 64)
	if !ok || err != nil || v < 0 || v*unit > 1<<60 {
		return 0, fmt.Errorf("%q is not a size; one looks like 12GiB, 500MB or 1000000", text)
	}
	return int64(v * unit), nil
}

// ContextType says how the keys and values of contexts are kept.
type ContextType string

// The types of contexts.
const (
	HalfFloats ContextType = "f16"
	Bytes      ContextType = "q8_0" // bytes with scales: about half as much memory, and a little less exact
)

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
	return Config{Listen: DefaultListen, Access: Keys, Data: DataFolder(), Models: Models{Folders: []string{"~/models"}, IdleUnload: 15 * time.Minute, ContextType: HalfFloats, Prepared: 20 << 30},
		Responses: Stored{Days: 30, Space: 256 << 20}, Ledger: Ledger{Days: 90, Rows: 1_000_000, Space: 2 << 30}, Record: Record{Days: 30, Space: 1 << 30}, Prices: Prices{Currency: "EUR"}}
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
	if err := c.Network.check(c.Access); err != nil {
		return err
	}
	if len(c.Models.Folders) == 0 {
		return errors.New("models.folders is empty; name the folder that models are in")
	}
	if from := c.Models.PictureAddresses; from != "" && from != "public" && from != "private" {
		return fmt.Errorf("models.picture_addresses is %q; it must be public or private, or be left out", from)
	}
	if n := c.Models.Threads; n < 0 || n > 1024 {
		return fmt.Errorf("models.threads is %d; it must be 0, for as many as bring most, or up to 1024", n)
	}
	if n := c.Models.PictureTokens; n < 0 || n > 1<<20 {
		return fmt.Errorf("models.picture_tokens is %d; it must be from 0 to %d", n, 1<<20)
	}
	if t := c.Models.ContextType; t != HalfFloats && t != Bytes {
		return fmt.Errorf("models.context_type is %q; it must be f16 or q8_0", t)
	}
	if c.Models.IdleUnload < 0 {
		return fmt.Errorf("models.idle_unload is %s; it must be a time, or 0 for never", c.Models.IdleUnload)
	}
	for i, origin := range c.BrowserOrigins {
		u, err := url.Parse(origin)
		if origin != "*" && (err != nil || u.Scheme == "" || u.Host == "" || u.Scheme+"://"+u.Host != origin) {
			return fmt.Errorf("browser_origins[%d] is %q; an origin looks like https://app.example or http://localhost:5173, without a path", i, origin)
		}
	}
	if d := c.Ledger.Days; d < 0 || d > 36_500 {
		return fmt.Errorf("ledger.days is %d; it must be from 1 to 36500, or 0 to keep all", d)
	}
	if c.Ledger.Rows < 0 {
		return fmt.Errorf("ledger.rows is %d; it must be a number of exchanges, or 0 for any number", c.Ledger.Rows)
	}
	if d := c.Record.Days; d < 0 || d > 36_500 {
		return fmt.Errorf("record.days is %d; it must be from 1 to 36500, or 0 for ever", d)
	}
	for i, pattern := range c.Record.Redact {
		if _, err := regexp.Compile(pattern); err != nil {
			return fmt.Errorf("record.redact[%d] is no regular expression: %w", i, err)
		}
	}
	if u, err := url.Parse(c.Traces.To); c.Traces.To != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "") {
		return fmt.Errorf("traces.to is %q; it must be the address of a collector, such as http://127.0.0.1:4318", c.Traces.To)
	}
	if err := c.Prices.check(); err != nil {
		return err
	}
	if d := c.Responses.Days; d < 1 || d > 36_500 {
		return fmt.Errorf("responses.days is %d; it must be from 1 to 36500", d)
	}
	for _, name := range slices.Sorted(maps.Keys(c.Runners)) {
		if err := c.Runners[name].check(name); err != nil {
			return err
		}
	}
	if err := c.checkTools(); err != nil {
		return err
	}
	if err := errors.Join(c.Fleet.check(), c.Join.check()); err != nil {
		return err
	}
	for i, f := range c.Models.Fetch {
		if !strings.HasPrefix(f.Address, "http://") && !strings.HasPrefix(f.Address, "https://") {
			return fmt.Errorf("models.fetch[%d].address is %q; it must begin with http:// or https://", i, f.Address)
		}
		if p := f.Projector; p != "" && !strings.HasPrefix(p, "http://") && !strings.HasPrefix(p, "https://") {
			return fmt.Errorf("models.fetch[%d].projector is %q; it must begin with http:// or https://", i, p)
		}
	}
	c.Models.Folders = slices.Clone(c.Models.Folders) // which others may be reading
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
	if rest, ok := strings.CutPrefix(path, "~"); ok && (rest == "" || os.IsPathSeparator(rest[0])) {
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

// folder is the gate's folder under one of the XDG base directories. Windows has a place of its own for what is not one's own work.
func folder(variable, otherwise string) string {
	dir := os.Getenv(variable)
	if dir == "" && runtime.GOOS == "windows" {
		dir = os.Getenv("LOCALAPPDATA")
	}
	if filepath.IsAbs(dir) {
		return filepath.Join(dir, "kindred-gate")
	}
	return filepath.Join("~", otherwise, "kindred-gate")
}
