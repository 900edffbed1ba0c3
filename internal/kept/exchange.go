package kept

import (
	"context"
	"encoding/json"
	"time"

	"kindredgate/internal/record"
)

// Exchanges keeps exchanges.
type Exchanges interface {
	// PutExchanges keeps exchanges, all or none. One that has ended stays as it is.
	PutExchanges(ctx context.Context, list []record.Record) error
	// InterruptExchanges marks those that are open as interrupted.
	InterruptExchanges(ctx context.Context) error
	// Exchanges lists exchanges, the newest first.
	Exchanges(ctx context.Context, f record.Filter) ([]record.Record, error)
	// Exchange returns one, or ErrMissing.
	Exchange(ctx context.Context, id string) (record.Record, error)
	// ExchangeIDs lists ids that begin so, in their order, and no more than limit.
	ExchangeIDs(ctx context.Context, prefix string, limit int) ([]string, error)
	// PruneExchanges removes what is more than is to be kept. It is called now and then.
	PruneExchanges(ctx context.Context, now time.Time, k Keep) error
	// Totals sums up what ended in a month, such as 2031-01.
	Totals(ctx context.Context, month string) ([]Total, error)
	// Jobs lists jobs of more than one exchange, the newest first.
	Jobs(ctx context.Context, since time.Time, limit int) ([]Job, error)
}

// Keep is how much is kept of exchanges. Zero fields bound nothing.
type Keep struct {
	Age   time.Duration
	Rows  int64
	Space int64 // in bytes, about
}

// Total is what the exchanges of a key with a model came to in a month.
type Total struct {
	Key        string `json:"key"`
	Label      string `json:"label"`
	Group      string `json:"group,omitempty"`
	Model      string `json:"model"`
	Requests   int64  `json:"requests"`
	Failed     int64  `json:"failed"`
	Prompt     int64  `json:"prompt_tokens"`
	Cached     int64  `json:"cached_tokens"`
	Completion int64  `json:"completion_tokens"`
	Cost       int64  `json:"cost"`    // millionths of the currency
	Busy       int64  `json:"busy_ms"` // in the model
}

// Job is what exchanges that go on from one another came to.
type Job struct {
	ID       string    `json:"id"` // the first exchange
	Label    string    `json:"label"`
	Model    string    `json:"model"`
	Begun    time.Time `json:"begun"`
	Ended    time.Time `json:"ended"` // when the last one did, as far as is known
	Requests int64     `json:"requests"`
	First    int64     `json:"first_prompt_tokens"`
	Last     int64     `json:"last_prompt_tokens"`
	Prompt   int64     `json:"prompt_tokens"` // of all
	Repeated int64     `json:"repeated_tokens"`
	Answered int64     `json:"completion_tokens"`
	Busy     float64   `json:"model_ms"`   // in exchanges
	Between  float64   `json:"between_ms"` // between them
}

// Content is what was said in an exchange.
type Content struct {
	ID      string          `json:"-"`
	Key     string          `json:"-"` // the identifier of the key's account
	At      time.Time       `json:"at"`
	Request json.RawMessage `json:"request"`           // in the gate's neutral form
	Prompt  []Piece         `json:"prompt"`            // as the model had it
	Answers []Answer        `json:"answers"`           // one for each candidate
	Problem string          `json:"problem,omitempty"` // why the prompt is not there
}

// Piece is a piece of a prompt with one origin.
type Piece struct {
	Origin string `json:"origin,omitempty"` // such as messages[2].content; empty for the template's own text
	Text   string `json:"text"`
	Tokens int    `json:"tokens"`
}

// Answer is what a candidate said.
type Answer struct {
	Reasoning string `json:"reasoning,omitempty"`
	Text      string `json:"text,omitempty"`
	Calls     []Call `json:"calls,omitempty"`
}

// Call is a call of a tool.
type Call struct {
	Server    string  `json:"server,omitempty"` // that has the tool, if the gate ran it
	Name      string  `json:"name"`
	Arguments string  `json:"arguments"`
	Result    *string `json:"result,omitempty"` // that the gate gave the model; nil if it did not run it
}

// Contents keeps contents.
type Contents interface {
	// PutContent keeps a content; the oldest of all make room for it within space, in bytes.
	PutContent(ctx context.Context, c Content, space int64) error
	// Content returns one, or ErrMissing.
	Content(ctx context.Context, id string) (Content, error)
	// PruneContents removes those that are older than age. It is called now and then.
	PruneContents(ctx context.Context, now time.Time, age time.Duration) error
	// PurgeContents removes those of a key ("" for all) that are older than a time (zero for all), and says how many.
	PurgeContents(ctx context.Context, key string, before time.Time) (int64, error)
}
