// Package sampling has the settings of drawing tokens that a model's author recommends, a preset has and a request names.
package sampling

import "cmp"

// Settings say how the next token is drawn. A nil field leaves it open.
type Settings struct {
	Temperature *float64 `json:"temperature,omitempty"` // divides the logits; 0 takes the most likely token every time
	TopP        *float64 `json:"top_p,omitempty"`       // the most likely tokens that have this probability together are kept
	TopK        *int     `json:"top_k,omitempty"`       // so many of the most likely tokens are kept
	// MinP keeps tokens with that share of the most likely one's probability. RepetitionPenalty divides positive logits
	// of tokens that are there already, in the prompt too, and multiplies negative ones; 1 means none.
	MinP              *float64 `json:"min_p,omitempty"`
	RepetitionPenalty *float64 `json:"repetition_penalty,omitempty"`
}

// Or takes from other what is open.
func (s Settings) Or(other Settings) Settings {
	return Settings{cmp.Or(s.Temperature, other.Temperature), cmp.Or(s.TopP, other.TopP), cmp.Or(s.TopK, other.TopK),
		cmp.Or(s.MinP, other.MinP), cmp.Or(s.RepetitionPenalty, other.RepetitionPenalty)}
}

// Named is a setting by its name in JSON.
type Named struct {
	Name  string
	Value float64
}

// List are the settings that are not open.
func (s Settings) List() (list []Named) {
	add := func(name string, v *float64) {
		if v != nil {
			list = append(list, Named{name, *v})
		}
	}
	add("temperature", s.Temperature)
	add("top_p", s.TopP)
	if s.TopK != nil {
		list = append(list, Named{"top_k", float64(*s.TopK)})
	}
	add("min_p", s.MinP)
	add("repetition_penalty", s.RepetitionPenalty)
	return list
}
