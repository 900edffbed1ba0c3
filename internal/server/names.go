package server

import (
	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect/field"
)

// NameList is what GET /gate/names tells.
type NameList struct {
	Names []catalog.Name `json:"names"`
}

func (s *Server) listNames(c *gin.Context) (any, error) {
	names, err := s.Gate.Names.Names(c.Request.Context())
	if err != nil {
		return nil, err
	}
	return NameList{append([]catalog.Name{}, names...)}, nil
}

// saveName adds a public name, or has other models or presets answer under it. Names may have slashes, so they are not in the path.
func (s *Server) saveName(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	n, err := nameOf(o)
	if err == nil {
		err = s.Gate.SaveName(c.Request.Context(), n)
	}
	if err != nil {
		return nil, err
	}
	s.Log.Info("public name set", "id", c.GetString(idKey), "name", n.Name, "served_by", n.Said())
	return n, nil
}

// nameOf reads a public name.
func nameOf(o *field.Object) (n catalog.Name, err error) {
	n.Name, _ = o.String("name")
	for _, name := range []string{"any", "strategy"} { // the first is what it was called before
		if text, ok := o.String(name); ok {
			if err := n.Strategy.UnmarshalText([]byte(text)); err != nil {
				return n, err
			}
		}
	}
	for _, target := range o.Objects("of") {
		var t catalog.Target
		t.To, _ = target.String("to")
		if share := target.Int("share", 1, 1000); share != nil {
			t.Share = int(*share)
		}
		t.Drained = target.Bool("drained")
		t.Keys = target.Strings("keys")
		t.Header, _ = target.String("header")
		n.Of = append(n.Of, t)
		if err := onlyKnown(target); err != nil {
			return n, err
		}
	}
	if shadow := o.Object("shadow"); shadow != nil {
		n.Shadow = &catalog.Shadow{Share: 1}
		n.Shadow.To, _ = shadow.String("to")
		if share := shadow.Float("share", 0, 1); share != nil {
			n.Shadow.Share = *share
		}
		if err := onlyKnown(shadow); err != nil {
			return n, err
		}
	}
	return n, onlyKnown(o)
}

func (s *Server) removeName(c *gin.Context) (any, error) {
	name := c.Query("name")
	if err := s.Gate.RemoveName(c.Request.Context(), name); err != nil {
		return nil, err
	}
	s.Log.Info("public name removed", "id", c.GetString(idKey), "name", name)
	return nil, nil
}
