// Package record holds what an exchange came to: who asked which model for what, how long it took, how many tokens, and how it ended.
//
// A [Record] is filled where the exchange runs and read everywhere else. What reads it goes over one table, [Fields], which names each field
// as JSON has it, says what it means, and how it is shown; so a field that is added here and in that table shows up in exports, the log,
// traces, the console, the command line and the contract. Recorded content (prompts and answers) is no part of a record.
package record

import (
	"time"

	"kindredgate/internal/placement"
)

// Record is one exchange, while it is in progress or after it. Times are in milliseconds.
type Record struct {
	ID       string    `json:"id"`
	Parent   string    `json:"parent,omitempty"`
	Trace    string    `json:"trace,omitempty"`
	Begun    time.Time `json:"begun"`
	Key      string    `json:"key"`
	Label    string    `json:"label"`
	Group    string    `json:"group,omitempty"`
	Client   string    `json:"client"`
	Agent    string    `json:"agent,omitempty"`
	Style    string    `json:"style"`
	Endpoint string    `json:"endpoint"`
	Model    string    `json:"model"`
	Chosen   bool      `json:"model_chosen,omitempty"`
	Answered string    `json:"answered,omitempty"`
	Preset   string    `json:"preset,omitempty"`
	Machine  string    `json:"machine,omitempty"`
	// PassedOver are the targets of a name that were skipped, each with the code of the reason.
	PassedOver []string `json:"passed_over,omitempty"`
	// Placed is how long each target was expected to take, in the order in which they were chosen, where placement chose.
	Placed   []placement.Estimate `json:"placed,omitempty"`
	ShadowOf string               `json:"shadow_of,omitempty"`
	Compared *Comparison          `json:"compared,omitempty"`

	State  State  `json:"state"`
	Reason string `json:"finish_reason,omitempty"`
	Limit  string `json:"limit,omitempty"`
	Code   string `json:"code,omitempty"`
	Error  string `json:"error,omitempty"`

	PromptTokens     int `json:"prompt_tokens"`
	CachedTokens     int `json:"cached_tokens"`
	CompletionTokens int `json:"completion_tokens"`
	ReasoningTokens  int `json:"reasoning_tokens"`
	ToolCalls        int `json:"tool_calls,omitempty"`
	MalformedCalls   int `json:"malformed_tool_calls,omitempty"`
	DraftedTokens    int `json:"drafted_tokens,omitempty"`
	AcceptedTokens   int `json:"accepted_tokens,omitempty"`
	DroppedTurns     int `json:"dropped_turns,omitempty"`
	// NotEnforced says what of the request's schemas is not enforced, though that was not insisted on.
	NotEnforced []string `json:"not_enforced,omitempty"`

	// Steps is how many steps it took, if its tools were run here; 0 if they were not. Bound is what ended it before its end.
	Steps int    `json:"steps,omitempty"`
	Bound string `json:"bound,omitempty"`
	// Runs are the calls of tools that were run here, of a step.
	Runs []Run `json:"tools,omitempty"`

	// Job is the first exchange of the conversation that this one continues, itself included, and Step which of them this is, from 1.
	Job            string `json:"job,omitempty"`
	Step           int    `json:"step,omitempty"`
	RepeatedTokens int    `json:"repeated_tokens,omitempty"`
	// Cost is in millionths of the currency.
	Cost int64 `json:"cost,omitempty"`

	Queue      float64 `json:"queue_ms"`
	Load       float64 `json:"load_ms"`
	Look       float64 `json:"look_ms,omitempty"` // a part of Prefill
	Prefill    float64 `json:"prefill_ms"`
	FirstToken float64 `json:"first_token_ms"`
	Took       float64 `json:"took_ms"`

	// Traceparent is the header of that name that came with the request (W3C Trace Context); Err why it failed, for who runs in this process.
	Traceparent string `json:"-"`
	Err         error  `json:"-"`
	// Unlisted is for a refused request of which the ledger has enough others.
	Unlisted bool `json:"-"`
	// Doc is the record as JSON, for who keeps it; nil if it was not encoded yet.
	Doc []byte `json:"-"`
}

// Run is a call of a tool that the gate ran.
type Run struct {
	Call     string    `json:"call"` // its id
	Server   string    `json:"server"`
	Name     string    `json:"name"`
	ReadOnly bool      `json:"read_only"` // by its server's own word
	Begun    time.Time `json:"begun"`
	Took     float64   `json:"ms"`
	Failed   string    `json:"failed,omitempty"` // why, in words
	Bytes    int       `json:"bytes"`            // of the result
}

// IsStep reports whether it is a step of another exchange, its parent, which tells of all steps together.
func (r *Record) IsStep() bool { return r.Parent != "" && r.Job == "" && r.Step > 0 }

// Own is the record without what its steps have told of: adding up records must count tokens once.
func (r Record) Own() Record {
	if r.Steps > 0 {
		r.PromptTokens, r.CachedTokens, r.CompletionTokens, r.ReasoningTokens, r.ToolCalls, r.Cost = 0, 0, 0, 0, 0, 0
		r.Queue, r.Load, r.Look, r.Prefill, r.FirstToken = 0, 0, 0, 0, 0
	}
	return r
}

// Comparison is how the answer of a shadow compares with the one that was given.
type Comparison struct {
	Same   bool    `json:"same"`
	Alike  float64 `json:"alike"`            // the share of words in common, of those of the longer
	Parted string  `json:"parted,omitempty"` // the first words in which they differ: what was answered | what the shadow said
	Tokens [2]int  `json:"tokens"`           // of the answer, and of the shadow's
	TookMS [2]int  `json:"took_ms"`
}

// State is how far an exchange has come.
type State string

// The states.
const (
	Open        State = "open"        // in progress
	Done        State = "done"        // the answer is complete
	Failed      State = "failed"      // it ended before
	Cancelled   State = "cancelled"   // the client left, or cancelled it
	Refused     State = "refused"     // no model was asked
	Interrupted State = "interrupted" // the gate stopped while it was in progress
)

// States are all states.
var States = []State{Open, Done, Failed, Cancelled, Refused, Interrupted}

// Bad reports whether an exchange has ended otherwise than with a complete answer.
func (s State) Bad() bool { return s != Open && s != Done }

// Answers reports whether a model was asked.
func (r *Record) Asked() bool { return r.Answered != "" }

// Milliseconds is a time as records have it.
func Milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// Duration is a time of a record, of so many milliseconds.
func Duration(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

// longText bounds texts in a record that come from a client or another server, in bytes.
const longText = 500

// Short cuts a text to what a record may hold of it.
func Short(s string) string {
	if len(s) <= longText {
		return s
	}
	return s[:longText] + "…"
}
