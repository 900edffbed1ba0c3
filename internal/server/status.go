package server

import (
	"time"

	"kindredgate/internal/config"

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

func (s *Server) status(c *gin.Context) (any, error) {
	access := "keys"
	if routerOf(c).Open {
		access = "open"
	}
	return Status{Version: s.Version, BaseURL: baseOf(c), Started: s.started.UTC().Truncate(time.Second), Access: access, Folders: s.Gate.Catalog.Folders()}, nil
}

// Settings is what GET /gate/settings tells: how the gate is set up, and where that comes from.
type Settings struct {
	File     string    `json:"file"` // the configuration file, whether it is there or not
	Read     time.Time `json:"read"` // when it was read last
	Settings []Setting `json:"settings"`
	// Problem says why the file as it is now cannot be used; the gate goes on with what it had.
	Problem string `json:"problem,omitempty"`
}

// Setting is one setting.
type Setting struct {
	config.Setting
	// Running is the value that holds until the gate is started anew; empty if it is the one that is set.
	Running string `json:"running,omitempty"`
}

func (s *Server) settings(c *gin.Context) (any, error) {
	if s.Settings == nil {
		return Settings{Read: s.started.UTC(), Settings: []Setting{}}, nil
	}
	return s.Settings(), nil
}
