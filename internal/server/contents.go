package server

import (
	"errors"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
)

// Prices are what is told of what exchanges cost.
type Prices struct {
	Currency string
	Machine  float64 // what the machine costs a month
}

// ShownExchange is an exchange as people are shown it, with its content, if that was recorded.
type ShownExchange struct {
	record.Record
	Facts []record.Fact `json:"facts"`
	// Children are the exchanges that were its steps.
	Children []string      `json:"children,omitempty"`
	Content  *kept.Content `json:"content,omitempty"`
}

func (s *Server) showExchange(c *gin.Context) (any, error) {
	id := keyring.Redact(c.Param("id"))
	e, err := s.Ledger.Exchange(c.Request.Context(), id)
	if err != nil {
		return nil, err
	}
	shown := ShownExchange{Record: e, Facts: e.Facts()}
	if e.Steps > 0 {
		if shown.Children, err = s.Ledger.Children(c.Request.Context(), e.ID); err != nil {
			return nil, err
		}
	}
	content, err := s.Contents.Content(c.Request.Context(), e.ID)
	switch {
	case err == nil:
		shown.Content = &content
		if n := len(shown.Children); n > 0 { // what the model had in the end
			if last, err := s.Contents.Content(c.Request.Context(), shown.Children[n-1]); err == nil {
				content.Prompt, content.Problem = last.Prompt, last.Problem
			}
		}
	case !errors.Is(err, kept.ErrMissing):
		return nil, err
	}
	return shown, nil
}

// Purged tells how many contents were removed.
type Purged struct {
	Removed int64 `json:"removed"`
}

// purgeContents removes what was said: with a key, before a time, or all of it.
func (s *Server) purgeContents(c *gin.Context) (any, error) {
	key, before := c.Query("key"), time.Time{}
	if key != "" {
		k, err := s.Gate.Keys.Find(c.Request.Context(), key)
		if err != nil {
			return nil, err
		}
		key = k.Account()
	}
	if text := c.Query("before"); text != "" {
		var err error
		if before, err = time.Parse(time.RFC3339, text); err != nil {
			return nil, exchange.InvalidParam("before", "before is %q; it must be a time such as 2030-01-31T12:00:00Z", text)
		}
	}
	n, err := s.Contents.Purge(c.Request.Context(), key, before)
	// What is on disk of prompts belongs to no key, so all of it goes.
	if err = errors.Join(err, s.Gate.Loader.ForgetContexts()); err != nil {
		return nil, err
	}
	s.Log.Info("recorded content was deleted", "id", c.GetString(idKey), "exchanges", n)
	return Purged{n}, nil
}

// JobList is what GET /gate/jobs tells.
type JobList struct {
	Jobs []kept.Job `json:"jobs"`
}

func (s *Server) listJobs(c *gin.Context) (any, error) {
	f, err := record.ParseFilter(c.Request.URL.Query())
	if err != nil {
		return nil, err
	}
	jobs, err := s.Ledger.Jobs(c.Request.Context(), f.Since, f.Limit)
	if err != nil {
		return nil, err
	}
	return JobList{append([]kept.Job{}, jobs...)}, nil
}

// CostList is what GET /gate/costs tells of a month.
type CostList struct {
	Month    string  `json:"month"`
	Currency string  `json:"currency"`
	Machine  float64 `json:"machine"` // what the machine costs a month; each total has a share by its time in the model
	Totals   []Total `json:"totals"`
}

// Total is a total with its share of what the machine costs.
type Total struct {
	kept.Total
	Share float64 `json:"machine_share"` // of the machine's cost, in the currency
}

func (s *Server) listCosts(c *gin.Context) (any, error) {
	month := c.Query("month")
	if month == "" {
		month = time.Now().Format("2006-01")
	}
	if _, err := time.Parse("2006-01", month); err != nil {
		return nil, exchange.InvalidParam("month", "month is %q; it must be a month such as 2030-01", month)
	}
	totals, err := s.Ledger.Totals(c.Request.Context(), month)
	if err != nil {
		return nil, err
	}
	var busy int64
	for _, t := range totals {
		busy += t.Busy
	}
	p := s.Prices()
	list := CostList{Month: month, Currency: p.Currency, Machine: p.Machine, Totals: []Total{}}
	for _, t := range totals {
		one := Total{Total: t}
		if busy > 0 {
			one.Share = p.Machine * float64(t.Busy) / float64(busy)
		}
		list.Totals = append(list.Totals, one)
	}
	return list, nil
}

// Refusal is a request that was refused, with what it sent: for its owner to see why an application does not get through.
type Refusal struct {
	ID     string    `json:"id"`
	At     time.Time `json:"at"`
	Label  string    `json:"label,omitempty"` // of the key, if there was a valid one
	Client string    `json:"client"`
	Agent  string    `json:"agent,omitempty"`
	Path   string    `json:"path"`
	Status int       `json:"status"`
	Code   string    `json:"code"`
	Error  string    `json:"error"`
	Type   string    `json:"content_type,omitempty"`
	Body   string    `json:"body"`
	Bytes  int       `json:"bytes"` // of the body, of which the first are shown
}

const (
	mostRefusals = 50
	longestBody  = 32 << 10 // that is kept of a refusal, in bytes
	// notShown stands for the body of a request whose key has it that nothing of what is said is kept.
	notShown = "(not shown: nothing of what is said with this key is kept)"
)

// refusals are the last ones, in memory only. It is safe for concurrent use.
type refusals struct {
	mu   sync.Mutex
	list []Refusal // the oldest first
}

// note keeps a request that was refused, if it had something to say.
func (r *refusals) note(c *gin.Context, e *exchange.Error, clean ledger.Redaction) {
	if !strings.HasPrefix(c.Request.URL.Path, "/v1/") || c.Request.Method != http.MethodPost {
		return
	}
	raw, _ := c.Get(bodyKey)
	body, _ := raw.([]byte)
	label, shown := "", ""
	if k, ok := c.Get(callerKey); ok {
		label = k.(keyring.Key).Label
		if k.(keyring.Key).Content == keyring.ContentNot {
			shown = notShown
		}
	}
	if shown == "" && len(body) > 0 {
		shown = clean.Body(body, longestBody)
	}
	agent := c.Request.UserAgent()
	one := Refusal{ID: c.GetString(idKey), At: time.Now().UTC(), Label: label, Client: c.ClientIP(), Agent: keyring.Redact(agent[:min(len(agent), longAgent)]), Path: keyring.Redact(c.Request.URL.Path[:min(len(c.Request.URL.Path), longAgent)]),
		Status: statuses[e.Kind], Code: e.Code, Error: clean.Text(e.Message), Type: c.ContentType()[:min(len(c.ContentType()), longAgent)], Bytes: len(body),
		Body: shown}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.list) == mostRefusals {
		r.list = slices.Delete(r.list, 0, 1)
	}
	r.list = append(r.list, one)
}

// RefusalList is what GET /gate/refusals tells.
type RefusalList struct {
	Refusals []Refusal `json:"refusals"` // the newest first
}

func (s *Server) listRefusals(c *gin.Context) (any, error) {
	s.refused.mu.Lock()
	list := slices.Clone(s.refused.list)
	s.refused.mu.Unlock()
	slices.Reverse(list)
	return RefusalList{append([]Refusal{}, list...)}, nil
}
