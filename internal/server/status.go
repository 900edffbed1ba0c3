package server

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
)

// Status is what GET /gate/status tells.
type Status struct {
	Version string    `json:"version"`
	BaseURL string    `json:"base_url"`
	Started time.Time `json:"started"`
	Access  string    `json:"access"` // "keys" or "open"
	Folders []string  `json:"folders"`
}

func (s *Server) status(c *gin.Context) {
	access := "keys"
	if s.Open {
		access = "open"
	}
	c.JSON(http.StatusOK, Status{Version: s.Version, BaseURL: s.base, Started: s.started.UTC().Truncate(time.Second), Access: access, Folders: s.Gate.Catalog.Folders()})
}
