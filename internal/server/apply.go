package server

import (
	"github.com/gin-gonic/gin"

	"kindredgate/internal/apply"
)

// Applied is what applying a file changes, or would.
type Applied struct {
	Steps []apply.Step `json:"steps"`
}

// applyDeclared has the gate follow what the body declares of names, presets and keys, all of it or nothing. With ?check=true it only tells
// what would change.
func (s *Server) applyDeclared(c *gin.Context) (any, error) {
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	d, err := apply.Parse(raw)
	if err != nil {
		return nil, err
	}
	do := apply.Apply
	if c.Query("check") == "true" {
		do = apply.Plan
	}
	steps, err := do(c.Request.Context(), s.Gate, d)
	if err != nil {
		return nil, err
	}
	for _, step := range steps {
		if c.Query("check") != "true" {
			s.Log.Info("applied", "id", c.GetString(idKey), "what", step.What, "name", step.Name, "change", step.Change)
		}
	}
	c.Header("Cache-Control", "no-store")
	return Applied{append([]apply.Step{}, steps...)}, nil
}
