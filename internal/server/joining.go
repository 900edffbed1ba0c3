package server

import (
	"maps"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/fleet"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/remote"
)

// Joining is how machines join the gate.
type Joining struct {
	Hub         *fleet.Hub
	Addresses   []string // that machines dial
	Fingerprint string   // of the certificate there; "" for one that the system trusts
}

// Invitation is leave for a machine to join, as POST /gate/machines gives it. The token is shown here and nowhere else.
type Invitation struct {
	Name        string    `json:"name"`
	Command     string    `json:"command"` // that joins, for the machine's command line
	Address     string    `json:"address"`
	Token       string    `json:"token"`
	Fingerprint string    `json:"fingerprint,omitempty"`
	Expires     time.Time `json:"expires"`
}

// usualValid is how long an invitation is valid that does not say.
const usualValid = 15 * time.Minute

// hub is how machines join; the error says that they cannot.
func (s *Server) hub() (*fleet.Hub, error) {
	if s.Joining == nil {
		return nil, exchange.Errorf(exchange.Unavailable, "no_fleet", "no machine can join this gate: fleet.listen in the configuration opens an address for that, such as 0.0.0.0:7718")
	}
	return s.Joining.Hub, nil
}

// inviteMachine gives a machine leave to join.
func (s *Server) inviteMachine(c *gin.Context) (any, error) {
	hub, err := s.hub()
	if err != nil {
		return nil, err
	}
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	name, _ := o.String("name")
	valid := usualValid
	if text, ok := o.String("valid"); ok {
		if valid, err = time.ParseDuration(text); err != nil {
			o.Fail("valid", "valid is %q; it must be a time such as 15m", text)
		}
	}
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	if m, there := s.Gate.Machines.Machine(name); there && m.State().Kind != remote.Joined {
		return nil, exchange.InvalidParam("name", "the configuration has a machine %q (runners); choose another name", name)
	}
	token, until, err := hub.Invite(c.Request.Context(), name, valid)
	if err != nil {
		return nil, err
	}
	i := Invitation{Name: name, Address: strings.Join(s.Joining.Addresses, ","), Token: token.String(), Fingerprint: s.Joining.Fingerprint, Expires: until.UTC().Truncate(time.Second)}
	i.Command = "kindred join " + i.Address + " --token " + i.Token
	if i.Fingerprint != "" {
		i.Command += " --fingerprint " + i.Fingerprint
	}
	return created{i}, nil
}

// JoinedState is what is known of a machine that has joined, beside what is known of any.
type JoinedState struct {
	Since   time.Time     `json:"since"`             // when it joined
	Heard   time.Time     `json:"heard,omitzero"`    // when it said something last
	Program string        `json:"program,omitempty"` // the version of kindred there
	Version int           `json:"protocol_version,omitempty"`
	Line    float64       `json:"line_ms"`     // to the server where it meets the gate, there and back
	Skew    float64       `json:"skew_ms"`     // of its clock, ahead of the gate's
	AtOnce  int           `json:"at_once"`     // answers that its operator allows; 0 for any number
	Open    int           `json:"in_progress"` // answers, for all gates
	Returns int           `json:"reconnects"`  // in the last ten minutes
	Models  []ModelSpeeds `json:"models"`
}

// ModelSpeeds is what a machine that has joined says of one of its models now.
type ModelSpeeds struct {
	Name    string  `json:"name"`
	Loaded  bool    `json:"loaded"`
	Queued  int     `json:"requests"`                 // in progress and waiting
	Prefill float64 `json:"prompt_tokens_per_second"` // 0 if it was not measured
	Decode  float64 `json:"output_tokens_per_second"`
}

// stateOf is how a machine does.
func (s *Server) stateOf(m *remote.Machine) MachineState {
	out := MachineState{State: m.State()}
	if out.Kind != remote.Joined || s.Joining == nil {
		return out
	}
	j, ok := s.Joining.Hub.Machine(m.Name())
	if !ok { // it was revoked just now
		return out
	}
	st := j.State()
	out.Joined = &JoinedState{Since: st.Since, Heard: st.Heard, Program: st.Program, Version: st.Version, Line: record.Milliseconds(st.Line), Skew: record.Milliseconds(st.Skew), AtOnce: st.AtOnce, Open: st.Open, Returns: st.Returns, Models: []ModelSpeeds{}}
	maps.Copy(out.Faults, st.Faults)
	for _, one := range st.Models {
		out.Joined.Models = append(out.Joined.Models, ModelSpeeds{one.Name, one.Loaded, one.Queued, one.Prefill, one.Decode})
	}
	return out
}

// revokeMachine takes a machine's leave away.
func (s *Server) revokeMachine(c *gin.Context) (any, error) {
	hub, err := s.hub()
	if err != nil {
		return nil, err
	}
	if m, there := s.Gate.Machines.Machine(c.Param("name")); there && m.State().Kind != remote.Joined {
		return nil, exchange.InvalidParam("name", "the machine %q is in the configuration (runners); take it out there", c.Param("name"))
	}
	return nil, hub.Revoke(c.Request.Context(), c.Param("name"))
}
