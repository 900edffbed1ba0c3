package server

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
)

// NameList is what GET /gate/names tells.
type NameList struct {
	Names []catalog.Name `json:"names"`
}

func (s *Server) listNames(c *gin.Context) {
	names, err := s.Gate.Names.Names(c.Request.Context())
	if err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, NameList{append([]catalog.Name{}, names...)})
}

// saveName adds a public name, or has another model or preset answer under it. Names may have slashes, so they are not in the path.
func (s *Server) saveName(c *gin.Context) {
	o, err := object(c)
	if err != nil {
		fail(c, err)
		return
	}
	var n catalog.Name
	n.Name, _ = o.String("name")
	n.Target, _ = o.String("target")
	if err = onlyKnown(o); err == nil {
		err = s.Gate.SaveName(c.Request.Context(), n)
	}
	if err != nil {
		fail(c, err)
		return
	}
	s.Log.Info("public name set", "id", c.GetString(idKey), "name", n.Name, "target", n.Target)
	c.JSON(http.StatusOK, n)
}

func (s *Server) forgetName(c *gin.Context) {
	name := c.Query("name")
	if err := s.Gate.ForgetName(c.Request.Context(), name); err != nil {
		fail(c, err)
		return
	}
	s.Log.Info("public name forgotten", "id", c.GetString(idKey), "name", name)
	c.Status(http.StatusNoContent)
}
