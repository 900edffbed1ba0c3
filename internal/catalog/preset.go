package catalog

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"kindredgate/internal/exchange"
)

// Preset is a named way of using a model. An application asks for it as for a model.
type Preset struct {
	Name         string    `json:"name"`
	Model        string    `json:"model"`                  // an installed model
	Instructions string    `json:"instructions,omitempty"` // ahead of the request's own
	Examples     []Example `json:"examples,omitempty"`     // turns ahead of the request's own
	Template     string    `json:"template,omitempty"`     // in the place of the model's chat template
	Defaults               // for what a request leaves open, before the author's recommendation
}

// Example is a turn that shows the model how to answer.
type Example struct {
	Role    exchange.Role `json:"role"` // user or assistant
	Content string        `json:"content"`
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

var presetName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// Check reports what is wrong with a preset by itself, as an [exchange.Error]. Whether its model is installed and its
// template works is for others to say.
func (p Preset) Check() error {
	if !presetName.MatchString(p.Name) {
		return exchange.InvalidParam("name", "a preset's name has 1 to 64 small letters, digits, \".\", \"_\" or \"-\", and begins with a letter or digit; not %q", p.Name)
	}
	for i, e := range p.Examples {
		if e.Role != exchange.User && e.Role != exchange.Assistant {
			return exchange.InvalidParam(fmt.Sprintf("examples[%d].role", i), "an example is a user's or an assistant's turn, not %q", e.Role)
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
	for _, e := range p.Examples {
		all = append(all, exchange.Turn{Role: e.Role, Parts: []exchange.Part{exchange.Text(e.Content)}, Preset: 1})
	}
	req.Turns = slices.Concat(all, turns)
	req.Template = p.Template
	p.Defaults.FillIn(&req.Sampling)
}

// FillIn takes these values for what a request leaves open.
func (d Defaults) FillIn(s *exchange.Sampling) {
	if s.Temperature == nil {
		s.Temperature = d.Temperature
	}
	if s.TopP == nil {
		s.TopP = d.TopP
	}
	if s.TopK == nil {
		s.TopK = d.TopK
	}
	if s.MinP == nil {
		s.MinP = d.MinP
	}
	if s.RepetitionPenalty == nil {
		s.RepetitionPenalty = d.RepetitionPenalty
	}
}
