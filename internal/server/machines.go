package server

import (
	"slices"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/runner/remote"
)

// MachineList is what GET /gate/machines tells.
type MachineList struct {
	Machines []MachineState `json:"machines"`
}

// MachineState is how a machine does.
type MachineState struct {
	remote.State
	Joined *JoinedState `json:"joined,omitempty"` // for one that has
}

func (s *Server) listMachines(c *gin.Context) (any, error) {
	list := MachineList{[]MachineState{}}
	for _, m := range s.Gate.Machines.Machines() {
		list.Machines = append(list.Machines, s.stateOf(m))
	}
	return list, nil
}

// machine finds the machine that a path names.
func (s *Server) machine(c *gin.Context) (*remote.Machine, error) {
	m, ok := s.Gate.Machines.Machine(c.Param("name"))
	if !ok {
		return nil, s.Gate.Machines.Unknown(c.Param("name"))
	}
	return m, nil
}

// lookAtMachine looks at a machine now, rather than when its time comes.
func (s *Server) lookAtMachine(c *gin.Context) (any, error) {
	m, err := s.machine(c)
	if err != nil {
		return nil, err
	}
	if err := m.LookNow(c.Request.Context()); err != nil {
		return nil, err
	}
	return s.stateOf(m), nil
}

// probeMachine finds out what models of a machine can do, by asking them: the one that is named, or all.
func (s *Server) probeMachine(c *gin.Context) (any, error) {
	m, err := s.machine(c)
	if err != nil {
		return nil, err
	}
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	model, _ := o.String("model")
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	if err := m.LookNow(c.Request.Context()); err != nil {
		return nil, err
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
			return nil, err
		}
	}
	return s.stateOf(m), nil
}
