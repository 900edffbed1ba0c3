package kept

import (
	"context"
	"time"
)

// Exchange is what is known of a request and its answer afterwards. It holds nothing of what was said.
type Exchange struct {
	ID       string    `json:"id"` // the request's, as the answer's x-request-id says it
	Parent   string    `json:"parent,omitempty"`
	Begun    time.Time `json:"begun"`
	Key      string    `json:"key"` // the identifier of the key's account
	Label    string    `json:"label"`
	Client   string    `json:"client"` // the address
	Agent    string    `json:"agent,omitempty"`
	Style    string    `json:"style"`
	Endpoint string    `json:"endpoint"`
	Model    string    `json:"model"`              // the name that was asked for
	Answered string    `json:"answered,omitempty"` // the model that answered
	Preset   string    `json:"preset,omitempty"`

	State  State  `json:"state"`
	Reason string `json:"finish_reason,omitempty"`
	Code   string `json:"code,omitempty"`  // of the error
	Error  string `json:"error,omitempty"` // in words

	PromptTokens     int `json:"prompt_tokens"`
	CachedTokens     int `json:"cached_tokens"`
	CompletionTokens int `json:"completion_tokens"`
	ReasoningTokens  int `json:"reasoning_tokens"`
	ToolCalls        int `json:"tool_calls,omitempty"`
	DroppedTurns     int `json:"dropped_turns,omitempty"`

	Queue      float64 `json:"queue_ms"`
	Load       float64 `json:"load_ms"`
	Prefill    float64 `json:"prefill_ms"`
	FirstToken float64 `json:"first_token_ms"` // from the beginning; 0 if none came
	Took       float64 `json:"took_ms"`
}

// State is how far an exchange has come.
type State string

// The states.
const (
	Open        State = "open"        // it is under way
	Done        State = "done"        // the answer was whole
	Failed      State = "failed"      // it ended before
	Cancelled   State = "cancelled"   // the client left, or cancelled it
	Refused     State = "refused"     // nothing was answered
	Interrupted State = "interrupted" // the gate ended while it was under way
)

// Filter chooses exchanges. Empty fields choose all.
type Filter struct {
	Key    string // the identifier of an account, or a label
	Model  string // that was asked for, or answered
	Style  string
	Since  time.Time
	Before string        // the id of an exchange: those that began before it
	Bad    bool          // those that were not done, as far as they have ended
	Slow   time.Duration // that took so long or longer
	Limit  int
}

// Exchanges keeps exchanges.
type Exchanges interface {
	// PutExchanges keeps exchanges, all or none. One that has ended stays as it is.
	PutExchanges(ctx context.Context, list []Exchange) error
	// InterruptExchanges marks those that are open as interrupted.
	InterruptExchanges(ctx context.Context) error
	// Exchanges lists exchanges, the newest first.
	Exchanges(ctx context.Context, f Filter) ([]Exchange, error)
	// Exchange returns one, or ErrMissing.
	Exchange(ctx context.Context, id string) (Exchange, error)
	// PruneExchanges removes those that began before a time.
	PruneExchanges(ctx context.Context, before time.Time) error
}
