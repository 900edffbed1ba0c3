package cli

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/internal/check"
	"kindredgate/internal/server"
)

// gateStatus is what "kindred status" tells.
type gateStatus struct {
	server.Status
	Models     []server.InstalledModel `json:"models"`
	Machines   []statusOfMachine       `json:"machines"`
	InProgress int                     `json:"in_progress"`
	Problems   []check.Finding         `json:"problems"` // of the check, those that are not ok
}

type statusOfMachine struct {
	Name    string `json:"name"`
	Healthy bool   `json:"healthy"`
	Why     string `json:"why,omitempty"`
}

func (t *terminal) status() *cobra.Command {
	return looking(t, "status", "Show whether the gate is up, what it serves, and what is wrong with it", exactly(), func(ctx context.Context, gate *client, _ []string) (s gateStatus, err error) {
		var models server.ModelList
		var machines server.MachineList
		var found server.CheckList
		for path, out := range map[string]any{"/gate/status": &s.Status, "/gate/models": &models, "/gate/machines": &machines, "/gate/check": &found} {
			if err := gate.call(ctx, http.MethodGet, path, nil, out); err != nil {
				return s, err
			}
		}
		s.Models, s.Machines, s.Problems = models.Models, []statusOfMachine{}, []check.Finding{}
		for _, m := range models.Models {
			s.InProgress += m.Using
		}
		for _, m := range machines.Machines {
			s.InProgress += m.Open
			s.Machines = append(s.Machines, statusOfMachine{m.Name, m.Healthy, m.Why})
		}
		for _, f := range found.Findings {
			if f.State != check.OK {
				s.Problems = append(s.Problems, f)
			}
		}
		return s, nil
	}, func(s gateStatus) error {
		strong := paint(t.out, color.Bold)
		fmt.Fprintf(t.out, "%s for %s, at %s\n\n", strong("Kindred Gate "+s.Version+" is up"), time.Since(s.Started).Round(time.Second), strong(shown(s.BaseURL)))
		rows := [][]string{{"  access", s.Access}, {"  in progress", fmt.Sprintf("%d requests", s.InProgress)}}
		for _, m := range s.Models {
			state := "not loaded"
			switch {
			case m.Problem != "":
				state = "unusable: " + m.Problem
			case m.Loading:
				state = "loading"
			case m.Loaded:
				state = fmt.Sprintf("loaded, %s", size(m.Memory))
			}
			rows = append(rows, []string{"  " + m.ID, state})
		}
		for _, m := range s.Machines {
			state := "healthy"
			if !m.Healthy {
				state = "unreachable: " + m.Why
			}
			rows = append(rows, []string{"  " + m.Name + "/", state})
		}
		if err := table(t.out, rows...); err != nil {
			return err
		}
		if len(s.Problems) == 0 {
			_, err := fmt.Fprintln(t.out, "\nNothing is wrong with it.")
			return err
		}
		fmt.Fprintln(t.out)
		for _, f := range s.Problems {
			fmt.Fprintf(t.out, "%s: %s\n", f.State, shown(f.Said))
		}
		_, err := fmt.Fprintln(t.out, "\n\"kindred check\" says what to do.")
		return err
	})
}
