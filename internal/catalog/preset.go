package catalog

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"kindredgate/internal/exchange"
	"kindredgate/internal/picture"
)

// Preset is a named way of using a model. An application asks for it as for a model.
type Preset struct {
	Name         string    `json:"name"`
	Model        string    `json:"model"`                  // an installed model
	Instructions string    `json:"instructions,omitempty"` // ahead of the request's own
	Examples     []Example `json:"examples,omitempty"`     // turns ahead of the request's own
	Template     string    `json:"template,omitempty"`     // in the place of the model's chat template
	Defaults               // for what a request leaves open, before the author's recommendation
	// Fixed says that these settings stand where a request names its own, too: some clients always name some.
	Fixed bool `json:"fixed,omitempty"`
	// Reasoning says whether the model reasons first, whatever the request says; nil leaves it to the request.
	Reasoning     *bool `json:"reasoning,omitempty"`
	LongestAnswer int   `json:"longest_answer,omitempty"` // in tokens; 0 for no bound but the context
	Context       int   `json:"context,omitempty"`        // of the model's context, that is used, in tokens; 0 for all
	// Tools are tool servers (SERVER), or single tools of theirs (SERVER/TOOL), that the gate runs for the model.
	Tools []string `json:"tools,omitempty"`
	// DropOldest says that the oldest turns are left out when a conversation is longer than the context, rather than the request refused.
	DropOldest bool `json:"drop_oldest,omitempty"`
}

// shortContext is the least that a preset may leave of a context, in tokens.
const shortContext = 64

// Example is a turn that shows the model how to answer.
type Example struct {
	Role    exchange.Role `json:"role"` // user or assistant
	Content string        `json:"content"`
	// Pictures come ahead of the text, as data URLs.
	Pictures []string `json:"pictures,omitempty"`
}

// PresetRecords is where presets are kept. Preset returns ErrNoPreset for a name that is not there.
type PresetRecords interface {
	PutPreset(ctx context.Context, p Preset) error
	Preset(ctx context.Context, name string) (Preset, error)
	Presets(ctx context.Context) ([]Preset, error)
	DropPreset(ctx context.Context, name string) error
}

// ErrNoPreset says that there is no preset of that name.
var ErrNoPreset = errors.New("no such preset")

// mostTools bounds the tools that a preset names.
const mostTools = 64

var toolForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,31}(/[A-Za-z0-9_./-]{1,128})?$`)

var presetName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// Check reports what is wrong with a preset by itself, as an [exchange.Error]. Whether its model is installed and its
// template works is for others to say.
func (p Preset) Check() error {
	if !presetName.MatchString(p.Name) {
		return exchange.InvalidParam("name", "a preset's name has 1 to 64 small letters, digits, \".\", \"_\" or \"-\", and begins with a letter or digit; not %q", p.Name)
	}
	if p.Context != 0 && p.Context < shortContext {
		return exchange.InvalidParam("context", "context is %d tokens; %d is the least", p.Context, shortContext)
	}
	if p.Context != 0 && p.LongestAnswer >= p.Context {
		return exchange.InvalidParam("longest_answer", "longest_answer is %d tokens, which leaves no room for a prompt in a context of %d", p.LongestAnswer, p.Context)
	}
	for i, name := range p.Tools {
		if !toolForm.MatchString(name) {
			return exchange.InvalidParam(fmt.Sprintf("tools[%d]", i), "tools[%d] is %q; it must be a tool server's name, or SERVER/TOOL", i, name)
		}
	}
	if len(p.Tools) > mostTools {
		return exchange.InvalidParam("tools", "tools has %d entries; %d are possible", len(p.Tools), mostTools)
	}
	for i, e := range p.Examples {
		if e.Role != exchange.User && e.Role != exchange.Assistant {
			return exchange.InvalidParam(fmt.Sprintf("examples[%d].role", i), "an example is a user's or an assistant's turn, not %q", e.Role)
		}
		for j, url := range e.Pictures {
			raw, err := picture.FromURL(url)
			if err == nil {
				_, err = picture.Look(raw, picture.DefaultMemory)
			}
			if err != nil {
				return exchange.InvalidParam(fmt.Sprintf("examples[%d].pictures[%d]", i, j), "examples[%d].pictures[%d]: %v", i, j, err)
			}
		}
	}
	return nil
}

// Apply puts the preset's part into a request: instructions and examples ahead of its turns, sampling where it leaves
// that open.
func (p Preset) Apply(req *exchange.Request) {
	turns := req.Turns
	var system []exchange.Part
	if p.Instructions != "" {
		system = append(system, exchange.Text(p.Instructions))
	}
	own := len(system)
	if len(turns) > 0 && turns[0].Role == exchange.System && len(system) > 0 {
		// One system turn, since many templates take no second.
		system = append(system, exchange.Text("\n\n"))
		own = len(system)
		system = append(system, turns[0].Parts...)
		turns = turns[1:]
	}
	var all []exchange.Turn
	if len(system) > 0 {
		all = append(all, exchange.Turn{Role: exchange.System, Parts: system, Preset: own})
	} else if len(turns) > 0 && turns[0].Role == exchange.System {
		all, turns = append(all, turns[0]), turns[1:]
	}
	for i, e := range p.Examples {
		var parts []exchange.Part
		for j, url := range e.Pictures {
			parts = append(parts, exchange.Image{URL: url, At: fmt.Sprintf("examples[%d].pictures[%d]", i, j)})
		}
		parts = append(parts, exchange.Text(e.Content))
		all = append(all, exchange.Turn{Role: e.Role, Parts: parts, Preset: len(parts)})
	}
	req.Turns = slices.Concat(all, turns)
	req.Template, req.Context = p.Template, p.Context
	req.Truncate = req.Truncate || p.DropOldest
	if p.Reasoning != nil {
		req.Thinking, req.Effort = *p.Reasoning, ""
	}
	if n := p.LongestAnswer; n > 0 && (req.MaxTokens == 0 || req.MaxTokens > n) {
		req.MaxTokens = n
	}
	if p.Fixed {
		req.Sampling.Settings = p.Defaults.Or(req.Sampling.Settings)
	}
	req.Sampling.Settings = req.Sampling.Settings.Or(p.Defaults)
}
