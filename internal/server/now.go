package server

import (
	"runtime"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/ledger"
	"kindredgate/internal/machine"
	"kindredgate/internal/runner/native"
)

// Now is what GET /gate/now tells: what the gate takes of the machine at this moment.
type Now struct {
	At         time.Time  `json:"at"`
	Processors int        `json:"processors"`
	BusyMS     int64      `json:"busy_ms"`  // of processors, since the gate began; two readings give the share
	Resident   int64      `json:"resident"` // bytes, mapped weights included
	Memory     int64      `json:"memory"`   // bytes of the machine
	Available  int64      `json:"available"`
	Models     []NowModel `json:"models"` // those that are loaded
	// Activity is what was done lately.
	Activity ledger.Activity `json:"activity"`
}

// NowModel is a loaded model.
type NowModel struct {
	ID          string `json:"id"`
	Requests    int    `json:"requests"`     // that use it
	Bytes       int64  `json:"bytes"`        // of weights
	Context     int64  `json:"context"`      // bytes that contexts may take
	ContextBusy int64  `json:"context_busy"` // of answers under way
	ContextKept int64  `json:"context_kept"` // of conversations that may go on
}

func (s *Server) now(c *gin.Context) (any, error) {
	models, err := s.Gate.Catalog.Models()
	if err != nil && len(models) == 0 {
		return nil, err
	}
	out := Now{At: time.Now().UTC(), Processors: runtime.GOMAXPROCS(0), BusyMS: machine.Busy().Milliseconds(), Resident: machine.Resident(), Memory: machine.Memory(), Available: machine.Available(), Models: []NowModel{}}
	out.Activity = ledger.Activity{Points: []ledger.Point{}, Uses: []ledger.Use{}}
	if s.Lately != nil {
		out.Activity = s.Lately.Activity(out.At)
	}
	for _, m := range models {
		if !m.Usable() {
			continue
		}
		if t := s.Gate.Loader.Status(m.Path); t.State == native.Loaded {
			out.Models = append(out.Models, NowModel{m.ID, t.Leases, t.Bytes - t.Context, t.Context, t.ContextBusy, t.ContextKept})
		}
	}
	return out, nil
}
