package kept

import (
	"context"
	"encoding/json"
	"time"
)

// SuiteRun is what a suite came to.
type SuiteRun struct {
	ID     string          `json:"id"`
	At     time.Time       `json:"at"`
	Suite  string          `json:"suite"`  // its title
	Digest string          `json:"digest"` // of its file: equal ones asked the same
	Report json.RawMessage `json:"report"`
}

// SuiteRuns keeps what suites came to.
type SuiteRuns interface {
	// PutSuiteRun keeps a run. The oldest beyond a number go.
	PutSuiteRun(ctx context.Context, r SuiteRun, most int) error
	// SuiteRuns lists runs, the newest first.
	SuiteRuns(ctx context.Context, limit int) ([]SuiteRun, error)
	// SuiteRun returns one, or ErrMissing.
	SuiteRun(ctx context.Context, id string) (SuiteRun, error)
}
