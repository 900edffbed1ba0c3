package server

import (
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/runner/remote"
)

// MachineList is what GET /gate/machines tells.
type MachineList struct {
	Machines []remote.State `json:"machines"`
}

func (s *Server) listMachines(c *gin.Context) {
	list := MachineList{[]remote.State{}}
	for _, m := range s.Gate.Machines.Machines() {
		list.Machines = append(list.Machines, m.State())
	}
	c.JSON(http.StatusOK, list)
}

// machine finds the machine that a path names; if there is none the request is answered.
func (s *Server) machine(c *gin.Context) (*remote.Machine, bool) {
	m, ok := s.Gate.Machines.Machine(c.Param("name"))
	if !ok {
		fail(c, s.Gate.Machines.Unknown(c.Param("name")))
	}
	return m, ok
}

// lookAtMachine looks at a machine now, rather than when its time comes.
func (s *Server) lookAtMachine(c *gin.Context) {
	m, ok := s.machine(c)
	if !ok {
		return
	}
	if err := m.LookNow(c.Request.Context()); err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, m.State())
}

// probeMachine finds out what models of a machine can do, by asking them: the one that is named, or all.
func (s *Server) probeMachine(c *gin.Context) {
	m, ok := s.machine(c)
	if !ok {
		return
	}
	o, err := object(c)
	if err != nil {
		fail(c, err)
		return
	}
	model, _ := o.String("model")
	if err := onlyKnown(o); err != nil {
		fail(c, err)
		return
	}
	if err := m.LookNow(c.Request.Context()); err != nil {
		fail(c, err)
		return
	}
	names := []string{model}
	if model == "" {
		names = names[:0]
		for _, one := range m.Look().Models {
			names = append(names, one.Name)
		}
	}
	for _, name := range slices.Sorted(slices.Values(names)) {
		if _, err := m.Probe(c.Request.Context(), name); err != nil {
			fail(c, err)
			return
		}
	}
	c.JSON(http.StatusOK, m.State())
}
