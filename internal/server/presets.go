package server

import (
	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// PresetList is what GET /gate/presets tells.
type PresetList struct {
	Presets []catalog.Preset `json:"presets"`
}

func (s *Server) listPresets(c *gin.Context) (any, error) {
	presets, err := s.Gate.Presets.Presets(c.Request.Context())
	if err != nil {
		return nil, err
	}
	return PresetList{append([]catalog.Preset{}, presets...)}, nil
}

func (s *Server) showPreset(c *gin.Context) (any, error) {
	p, err := s.Gate.Preset(c.Request.Context(), c.Param("name"))
	if err != nil {
		return nil, err
	}
	return p, nil
}

// readPreset reads a preset from a body. Its name may be in the path instead.
func readPreset(c *gin.Context) (p catalog.Preset, err error) {
	o, err := object(c)
	if err != nil {
		return p, err
	}
	p.Name, _ = o.String("name")
	if path := c.Param("name"); path != "" {
		if p.Name != "" && p.Name != path {
			o.Fail("name", "the path names preset %q and the body %q", path, p.Name)
		}
		p.Name = path
	}
	p.Model, _ = o.String("model")
	p.Instructions, _ = o.String("instructions")
	p.Template, _ = o.String("template")
	p.Defaults = wire.Drawing(o)
	p.Tools = o.Strings("tools")
	p.Fixed, p.DropOldest = o.Bool("fixed"), o.Bool("drop_oldest")
	if _, ok := o.Raw("reasoning"); ok {
		reasons := o.Bool("reasoning")
		p.Reasoning = &reasons
	}
	p.LongestAnswer = count(o, "longest_answer")
	p.Context = count(o, "context")
	for _, e := range o.Objects("examples") {
		role, _ := e.String("role")
		content, _ := e.String("content")
		p.Examples = append(p.Examples, catalog.Example{Role: exchange.Role(role), Content: content, Pictures: e.Strings("pictures")})
	}
	return p, onlyKnown(o)
}

// count reads a number of tokens; 0 if it is missing.
func count(o *field.Object, name string) int {
	if n := o.Int(name, 0, 1<<31-1); n != nil {
		return int(*n)
	}
	return 0
}

func (s *Server) addPreset(c *gin.Context) (any, error)    { return s.savePreset(c, true) }
func (s *Server) changePreset(c *gin.Context) (any, error) { return s.savePreset(c, false) }

func (s *Server) savePreset(c *gin.Context, isNew bool) (any, error) {
	p, err := readPreset(c)
	if err == nil {
		err = s.Gate.SavePreset(c.Request.Context(), p, isNew)
	}
	if err != nil {
		return nil, err
	}
	if isNew {
		return created{p}, nil
	}
	return p, nil
}

func (s *Server) removePreset(c *gin.Context) (any, error) {
	return nil, s.Gate.RemovePreset(c.Request.Context(), c.Param("name"))
}
