package kept

import (
	"context"
	"encoding/json"
	"time"
)

// Exchange is what is known of a request and its answer afterwards. What was said is a [Content], if it is kept at all.
type Exchange struct {
	ID       string    `json:"id"` // the request's, as the answer's x-request-id says it
	Parent   string    `json:"parent,omitempty"`
	Trace    string    `json:"trace,omitempty"` // the id of the trace that it is a part of
	Begun    time.Time `json:"begun"`
	Key      string    `json:"key"` // the identifier of the key's account
	Label    string    `json:"label"`
	Group    string    `json:"group,omitempty"`
	Client   string    `json:"client"` // the address
	Agent    string    `json:"agent,omitempty"`
	Style    string    `json:"style"`
	Endpoint string    `json:"endpoint"`
	Model    string    `json:"model"`              // the name that was asked for
	Answered string    `json:"answered,omitempty"` // the model that answered
	Preset   string    `json:"preset,omitempty"`
	Machine  string    `json:"machine,omitempty"` // that answered; empty for this one
	// PassedOver are the targets of a name that were asked before the one that answered, each with the code of why it could not.
	PassedOver []string `json:"passed_over,omitempty"`
	// ShadowOf is the exchange that this one shadowed, and Compared how their answers compare.
	ShadowOf string      `json:"shadow_of,omitempty"`
	Compared *Comparison `json:"compared,omitempty"`

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

	// Job is the first of the exchanges that go on from one another, itself included, and Step which of them this is, from 1.
	// RepeatedTokens are those of the prompt that the one before had too, its answer included.
	Job            string `json:"job,omitempty"`
	Step           int    `json:"step,omitempty"`
	RepeatedTokens int    `json:"repeated_tokens,omitempty"`
	// Cost is in millionths of the currency.
	Cost int64 `json:"cost,omitempty"`

	Queue      float64 `json:"queue_ms"`
	Load       float64 `json:"load_ms"`
	Prefill    float64 `json:"prefill_ms"`
	FirstToken float64 `json:"first_token_ms"` // from the beginning; 0 if none came
	Took       float64 `json:"took_ms"`

	// Doc is the exchange as JSON, for who keeps it; nil if it was not made into that yet.
	Doc []byte `json:"-"`
}

// Comparison is how the answer of a shadow compares with the one that was given.
type Comparison struct {
	Same   bool    `json:"same"`
	Alike  float64 `json:"alike"`            // the share of words in common
	Parted string  `json:"parted,omitempty"` // where they differ first: what was answered | what the shadow said
	Tokens [2]int  `json:"tokens"`           // of the answer, and of the shadow's
	TookMS [2]int  `json:"took_ms"`
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
	Job    string // the first exchange of a job
	Since  time.Time
	Until  time.Time     // those that began before it
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
	// PruneExchanges removes those that are older than age. It is called now and then.
	PruneExchanges(ctx context.Context, now time.Time, age time.Duration) error
	// Totals sums up what ended in a month, such as 2031-01.
	Totals(ctx context.Context, month string) ([]Total, error)
	// Jobs lists jobs of more than one exchange, the newest first.
	Jobs(ctx context.Context, since time.Time, limit int) ([]Job, error)
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
	Name      string `json:"name"`
	Arguments string `json:"arguments"`
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
