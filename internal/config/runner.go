package config

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Runner is another server that has models: one that speaks the OpenAI-compatible protocol or, with Form, another one.
type Runner struct {
	URL string `yaml:"url"` // such as https://attic.example/v1
	// KeyEnv names the variable that has its key, or KeyFile the file.
	KeyEnv  string `yaml:"key_env"`
	KeyFile string `yaml:"key_file"`

	Connect       time.Duration `yaml:"connect"`        // for making a connection; 5s if 0
	FirstToken    time.Duration `yaml:"first_token"`    // until an answer begins; 5m if 0
	Silence       time.Duration `yaml:"silence"`        // for which nothing may come after that; 1m if 0
	Rest          time.Duration `yaml:"rest"`           // for which one that fails is left alone; 10s if 0
	Tries         int           `yaml:"tries"`          // of a request before its first token; 2 if 0
	LongestAnswer Size          `yaml:"longest_answer"` // in bytes, as they come over the line; 32MiB if 0

	Models         []string      `yaml:"models"`          // that are offered; all that it lists if there are none
	ImageAddresses bool          `yaml:"image_addresses"` // whether it may be given addresses of pictures, which it would fetch
	Pass           []string      `yaml:"pass"`            // endpoints that are passed on as they are: images, audio, moderations
	Fields         []string      `yaml:"fields"`          // of a request that mean nothing to the gate and are sent along; verbosity and prediction if it is not there
	Layout         *RunnerLayout `yaml:"layout"`          // to lay out prompts here, for its raw completions
	Form           *RunnerForm   `yaml:"form"`            // of one that speaks otherwise
}

// RunnerLayout says by what prompts are laid out here.
type RunnerLayout struct {
	Like     string `yaml:"like"`     // an installed model that has the same tokenizer
	Template string `yaml:"template"` // a file with a chat template; that model's own if it is empty
}

// RunnerForm describes a server that takes JSON over HTTP in a form of its own. docs/runners.md has an example.
type RunnerForm struct {
	Path         string            `yaml:"path"`
	Body         any               `yaml:"body"`
	Turn         any               `yaml:"turn"`
	Roles        map[string]string `yaml:"roles"`
	Lines        bool              `yaml:"lines"`
	Text         string            `yaml:"text"`
	Piece        string            `yaml:"piece"`
	Done         string            `yaml:"done"`
	DoneIs       string            `yaml:"done_is"`
	PromptTokens string            `yaml:"prompt_tokens"`
	AnswerTokens string            `yaml:"answer_tokens"`
}

// Passable are the endpoints that can be passed on.
var Passable = []string{"images", "audio", "moderations"}

var runnerName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,31}$`)

func (r Runner) check(name string) error {
	at := "runners." + name
	if !runnerName.MatchString(name) {
		return fmt.Errorf("%s: a runner's name has 1 to 32 small letters, digits, \".\", \"_\" or \"-\"", at)
	}
	u, err := url.Parse(r.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.RawQuery != "" {
		return fmt.Errorf("%s.url is %q; it must be a scheme, a host and perhaps a path, such as http://attic.example:7717/v1, without a key", at, hideUser(u, r.URL))
	}
	if r.KeyEnv != "" && r.KeyFile != "" {
		return fmt.Errorf("%s has a key_env and a key_file; choose one", at)
	}
	for setting, d := range map[string]time.Duration{"connect": r.Connect, "first_token": r.FirstToken, "silence": r.Silence, "rest": r.Rest} {
		if d < 0 {
			return fmt.Errorf("%s.%s is %s; it must be a time", at, setting, d)
		}
	}
	if r.Tries < 0 || r.Tries > 10 {
		return fmt.Errorf("%s.tries is %d; it must be from 1 to 10", at, r.Tries)
	}
	for _, p := range r.Pass {
		if !slices.Contains(Passable, p) {
			return fmt.Errorf("%s.pass has %q; these can be passed on: %s", at, p, strings.Join(Passable, ", "))
		}
	}
	switch {
	case r.Form != nil && r.Layout != nil:
		return fmt.Errorf("%s has a form and a layout; a server with a form of its own lays out prompts itself", at)
	case r.Form != nil && len(r.Models) == 0:
		return fmt.Errorf("%s.models is missing: a server with a form of its own has no list of them", at)
	case r.Layout != nil && r.Layout.Like == "":
		return fmt.Errorf("%s.layout.like is missing: the installed model whose tokenizer it has", at)
	}
	return nil
}

// hideUser leaves out who is named in an address.
func hideUser(u *url.URL, text string) string {
	if u == nil {
		return text
	}
	return u.Redacted()
}

// Key is the runner's key.
func (r Runner) Key(name string) (string, error) { return keyOf("runners."+name, r.KeyEnv, r.KeyFile) }
