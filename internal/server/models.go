package server

import (
	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
	"kindredgate/internal/gate"
)

// wireModel is a model as the standard endpoint lists it. What follows owned_by is ours.
type wireModel struct {
	ID            string      `json:"id"`
	Object        string      `json:"object"`
	Created       int64       `json:"created"`
	OwnedBy       string      `json:"owned_by"`
	Use           catalog.Use `json:"use"`
	ContextLength int         `json:"context_length"`
	LongestAnswer int         `json:"max_output_tokens,omitempty"` // of models that write text
	Pictures      *Pictures   `json:"pictures,omitempty"`          // of models that take them
	PresetOf      string      `json:"preset_of,omitempty"`         // the model that a preset uses
	Target        string      `json:"target,omitempty"`            // what a public name stands for
}

// Pictures is how many tokens pictures take.
type Pictures struct {
	Tokens int `json:"tokens,omitempty"` // each, where that is always the same
	Least  int `json:"least,omitempty"`
	Most   int `json:"most,omitempty"`
}

func toWire(o gate.Offer) wireModel {
	m := o.Model
	w := wireModel{ID: o.Name, Object: "model", Created: max(0, m.Installed.Unix()), OwnedBy: "kindred-gate", Use: m.Use, ContextLength: m.ContextLength}
	if m.Sees() {
		w.Pictures = &Pictures{m.Pictures.Tokens, m.Pictures.Least, m.Pictures.Most}
	}
	if o.Preset != nil {
		w.PresetOf = m.ID
	}
	w.Target = o.Target
	if p := o.Preset; p != nil && p.Context > 0 {
		w.ContextLength = min(w.ContextLength, p.Context)
	}
	if m.Use.Writes() {
		w.LongestAnswer = w.ContextLength - 1
		if p := o.Preset; p != nil && p.LongestAnswer > 0 {
			w.LongestAnswer = min(w.LongestAnswer, p.LongestAnswer)
		}
	}
	return w
}

func (s *Server) listModels(c *gin.Context) (any, error) {
	offers, err := s.Gate.Offers(c.Request.Context(), callerOf(c))
	if err != nil {
		// Some folder could not be read; what the others hold is an answer all the same.
		s.Log.Warn("models folder", "error", err.Error())
	}
	list := make([]wireModel, len(offers))
	for i, o := range offers {
		list[i] = toWire(o)
	}
	return gin.H{"object": "list", "data": list}, nil
}

func (s *Server) showModel(c *gin.Context) (any, error) {
	o, err := s.Gate.Offer(c.Request.Context(), callerOf(c), c.Param("id"))
	if err != nil {
		return nil, err
	}
	return toWire(o), nil
}
