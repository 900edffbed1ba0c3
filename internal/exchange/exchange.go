// Package exchange is the neutral form of a question to a model and of its answer.
//
// Every style of request is decoded into a [Request], every way of running a model takes one and gives a
// stream of [Event] values, and every style of answer is encoded from that stream. So a style knows nothing
// of engines and an engine nothing of styles.
//
// Vectors of texts are asked for by an [Embedding], which has no stream.
//
// A stream is an iter.Seq2[Event, error]. It begins with [Started], ends with one [Finish] for each
// candidate, or with an error, after which nothing follows. Leaving the loop cancels the work.
package exchange

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/grammar"
	"kindredgate/internal/picture"
	"kindredgate/internal/sampling"
)

// Request is a question to a model.
type Request struct {
	Model    string `json:"model,omitzero"` // the name the application asked for
	Turns    []Turn `json:"turns,omitzero"`
	Raw      *Raw   `json:"raw,omitzero"` // a prompt that goes to the model as it is; the turns, tools and the template mean nothing then
	Tools    []Tool `json:"tools,omitzero"`
	Choice   Choice `json:"choice,omitzero"`
	Format   Format `json:"format,omitzero"`   // of the answer's text
	Thinking bool   `json:"thinking,omitzero"` // whether the model is asked to reason first, if its template has a switch for it
	// Effort is how much it is to reason, in the words of the request; "" if it does not say. Models of ours know no more than whether.
	Effort     string   `json:"effort,omitzero"`
	Candidates int      `json:"candidates,omitzero"` // how many answers; 0 means 1
	MaxTokens  int      `json:"max_tokens,omitzero"` // of each answer; 0 means as many as the context holds
	Truncate   bool     `json:"truncate,omitzero"`   // whether the oldest turns are dropped if the prompt is longer than the context, rather than refused
	Stop       []string `json:"stop,omitzero"`
	Sampling   Sampling `json:"sampling,omitzero"`
	Scores     *int     `json:"scores,omitzero"`   // whether tokens come with log-probabilities, and with how many alternatives; nil for not at all
	Template   string   `json:"template,omitzero"` // a chat template to use in the place of the model's; empty for the model's own
	// Wanted is an answer whose log-probability is asked for, in the place of one that is made: Started has its tokens with their scores as
	// an echo, and nothing else comes. Nil for none.
	Wanted  *string                `json:"wanted,omitzero"`
	Context int                    `json:"context,omitzero"` // of the model's context, that may be used, in tokens; 0 for all
	Owner   string                 `json:"-"`                // who asks: requests of each get their turns fairly
	Share   int                    `json:"-"`                // of the model's places that the owner may have, in percent; 0 for the usual. A gate sets it
	Reserve func(tokens int) error `json:"-"`                // is told the tokens of the prompt before it is read, and may refuse; nil for no one. A gate sets it
	Reading func(tokens int)       `json:"-"`                // is told how much of the prompt was read, as that goes on; nil for no one. A gate sets it
	// Carried are fields that mean nothing to models that run here, but may to a server elsewhere, under the chat style's names: see [Carryable].
	Carried map[string]json.RawMessage `json:"carried,omitzero"`
	// Fields are what the request's style calls what the chat style names otherwise, by that name: errors that another server has about a
	// field name the one that the client used.
	Fields map[string]string `json:"fields,omitzero"`
	// Servers are what the request wants run on the gate's side: servers of tools, whose calls do not go to the client.
	Servers []ToolServer `json:"servers,omitzero"`
	// MaxRuns bounds how many calls are run on the gate's side; 0 for the gate's own bound.
	MaxRuns int `json:"max_runs,omitzero"`
	// Approvals are what the client says of calls that wanted to be approved.
	Approvals []Approval `json:"approvals,omitzero"`
	// Via names the gates that the request has come through, this one last, and Trace is its place in a trace, for those that it is passed
	// on to. A gate sets them.
	Via   []string `json:"-"`
	Trace string   `json:"-"`
	// Fingerprint tells which weights, template and settings answer. A gate sets it.
	Fingerprint string `json:"-"`
}

// Carryable are the fields that a request may carry to a server elsewhere, if its operator lets them through.
var Carryable = []string{"verbosity", "prediction", "metadata", "user", "service_tier", "safety_identifier", "prompt_cache_key"}

// LimitField is what the request calls its limit of tokens in the chat style: max_tokens, or the newer max_completion_tokens.
func (r *Request) LimitField() string {
	if r.Fields[LimitFields[0]] == LimitFields[1] {
		return LimitFields[1]
	}
	return LimitFields[0]
}

// LimitFields are the names of the limit of tokens in the chat style, the older one first.
var LimitFields = [2]string{"max_tokens", "max_completion_tokens"}

// FieldOf is the name that the client used for a field that the chat style names so. Where its style has another name, what is below the
// field is left out, since it is arranged otherwise there.
func (r *Request) FieldOf(name string) string {
	top, _, _ := strings.Cut(name, ".")
	top, _, _ = strings.Cut(top, "[")
	if own, ok := r.Fields[top]; ok {
		return own
	}
	return name
}

// Bare is the request without what a preset has put into it: its turns, template and context. Settings stay, since it does not show whose
// they are.
func (r Request) Bare() Request {
	var turns []Turn
	for _, t := range r.Turns {
		parts := t.Parts[t.Preset:]
		if t.Preset > 0 && len(parts) > 0 && parts[0] == Text("\n\n") {
			parts = parts[1:] // which stood between the two
		}
		if t.Preset > 0 && len(parts) == 0 {
			continue
		}
		t.Parts, t.Preset = parts, 0
		turns = append(turns, t)
	}
	r.Turns, r.Template, r.Context = turns, "", 0
	return r
}

// Raw is a prompt without a template.
type Raw struct {
	Text   string  `json:"text,omitzero"`
	Tokens []int32 `json:"tokens,omitzero"` // in the place of Text, if it is not nil
	Suffix string  `json:"suffix,omitzero"` // what comes after the answer, if the model is to write what stands between
	// Echo asks for the prompt in Started, with scores if the request asks for them.
	Echo bool `json:"echo,omitzero"`
	// NoAnswer asks for nothing but that.
	NoAnswer bool `json:"no_answer,omitzero"`
}

// Format is what the text of an answer has to be.
type Format struct {
	Kind   FormatKind      `json:"kind,omitzero"`
	Schema json.RawMessage `json:"schema,omitzero"` // a JSON Schema, for FormatSchema
	Strict bool            `json:"strict,omitzero"` // whether what cannot be enforced of it is refused, rather than left out
	// At is where the schema stands in the request, for errors. Form is what was made of it, once for each request; nil if that was
	// not done yet.
	At   string          `json:"at,omitzero"`
	Form *grammar.Schema `json:"-"`
}

// FormatKind is a sort of format.
type FormatKind string

// The sorts of format.
const (
	FormatText   FormatKind = ""       // anything
	FormatObject FormatKind = "object" // a JSON object
	FormatSchema FormatKind = "schema" // JSON that is valid by a schema
)

// Choice says how tools may be called.
type Choice struct {
	Required bool     `json:"required,omitzero"` // the answer must be a call
	Names    []string `json:"names,omitzero"`    // of the tools that may be called; nil for all
	Single   bool     `json:"single,omitzero"`   // at most one call
}

// Role says who speaks in a turn.
type Role string

// The roles of a conversation.
const (
	System    Role = "system"
	User      Role = "user"
	Assistant Role = "assistant"
	ToolRole  Role = "tool"
)

// Turn is one contribution to a conversation.
type Turn struct {
	Role  Role   `json:"role,omitzero"`
	Name  string `json:"name,omitzero"` // of who speaks, or of the tool whose result it is; "" if that was not said
	Parts []Part `json:"parts,omitzero"`
	// Preset is how many of the parts, the first ones, are a preset's: the others are the client's.
	Preset int `json:"preset,omitzero"`
}

// Text is the turn's text, its parts joined.
func (t Turn) Text() string {
	var b strings.Builder
	for _, p := range t.Parts {
		switch p := p.(type) {
		case Text:
			b.WriteString(string(p))
		case Refusal:
			b.WriteString(string(p))
		case ToolResult:
			b.WriteString(p.Content)
		case ToolCall, Image:
		}
	}
	return b.String()
}

// Part is a piece of a turn: [Text], [Refusal], [Image], [ToolCall] or [ToolResult].
type Part interface{ part() }

// Text is plain text.
type Text string

// Refusal is what an assistant said in the place of an answer. To a model of ours it is text.
type Refusal string

// Image is a picture.
type Image struct {
	URL    string `json:"url,omitzero"`    // data:, with the picture itself, or http: or https:
	Detail string `json:"detail,omitzero"` // how closely it is to be looked at, in the standard's words; "" if that was not said
	At     string `json:"at,omitzero"`     // where it stands in the request, for errors
	// Seen is its header, once somebody has looked at it.
	Seen *picture.Header `json:"-"`
}

// Untaken is the error for a picture that the model which answers does not take.
func (i Image) Untaken() *Error {
	return InvalidParam(i.At, "%s is a picture, and the model takes text only; ask one that takes pictures, or leave it out", i.At)
}

// ToolCall is a model's wish to have a tool called.
type ToolCall struct {
	ID        string `json:"id,omitzero"`
	Name      string `json:"name,omitzero"`
	Arguments string `json:"arguments,omitzero"` // JSON, as the model wrote it
	Server    string `json:"server,omitzero"`    // that has the tool, if the gate runs it; the name is that server's own for it then
}

// ToolResult is what a tool gave.
type ToolResult struct {
	CallID  string `json:"call_id,omitzero"`
	Content string `json:"content,omitzero"`
	// Source is the tool (SERVER/TOOL), if the gate ran it.
	Source string `json:"source,omitzero"`
}

// ToolServer is a server of tools that a request wants run on the gate's side.
type ToolServer struct {
	Label       string   `json:"label,omitzero"` // one of the gate's, unless URL says where it is
	Description string   `json:"description,omitzero"`
	Tools       []string `json:"tools,omitzero"`     // that the model may call; nil for all
	ReadOnly    bool     `json:"read_only,omitzero"` // only those that say that they change nothing
	Approve     Approve  `json:"approve,omitzero"`
	// URL is where the server is, if it is none of the gate's, and Headers what requests to it have. Both may be secret, and are neither kept
	// nor shown.
	URL     string            `json:"-"`
	Headers map[string]string `json:"-"`
	// Type is the standard's type of tool that the client asked for by that name, which this server has in its place; "" for none.
	Type string `json:"type,omitzero"`
	At   string `json:"at,omitzero"` // where it stands in the request, for errors
}

// ServersOf are the servers of tools that names stand for, each a server's or a tool's.
func ServersOf(names []string) (list []ToolServer) {
	for _, name := range names {
		server, one, single := strings.Cut(name, "/")
		i := slices.IndexFunc(list, func(s ToolServer) bool { return s.Label == server })
		switch {
		case i < 0 && single:
			list = append(list, ToolServer{Label: server, Tools: []string{one}})
		case i < 0:
			list = append(list, ToolServer{Label: server})
		case single && list[i].Tools != nil:
			list[i].Tools = append(list[i].Tools, one)
		default:
			list[i].Tools = nil // all of them
		}
	}
	return list
}

// Approve says which calls of a server have to be approved first.
type Approve struct {
	All    bool     `json:"all,omitzero"`    // of tools that no list names
	Always []string `json:"always,omitzero"` // tools
	Never  []string `json:"never,omitzero"`  // tools
	// AlwaysReadOnly and NeverReadOnly are for the tools that say of themselves that they change nothing (true), or do not (false).
	AlwaysReadOnly *bool `json:"always_read_only,omitzero"`
	NeverReadOnly  *bool `json:"never_read_only,omitzero"`
}

// Wants reports whether a call of a tool has to be approved.
func (a Approve) Wants(name string, readOnly bool) bool {
	switch {
	case slices.Contains(a.Always, name), a.AlwaysReadOnly != nil && *a.AlwaysReadOnly == readOnly:
		return true
	case slices.Contains(a.Never, name), a.NeverReadOnly != nil && *a.NeverReadOnly == readOnly:
		return false
	}
	return a.All
}

// Approval is what somebody says of a call that wanted to be approved.
type Approval struct {
	CallID  string `json:"call_id"`
	Approve bool   `json:"approve,omitzero"`
	Reason  string `json:"reason,omitzero"`
}

func (Text) part()       {}
func (Refusal) part()    {}
func (Image) part()      {}
func (ToolCall) part()   {}
func (ToolResult) part() {}

// Tool is something that the model may ask to have called.
type Tool struct {
	Name        string          `json:"name,omitzero"`
	Description string          `json:"description,omitzero"`
	Parameters  json.RawMessage `json:"parameters,omitzero"` // a JSON Schema; may be nil
	Strict      bool            `json:"strict,omitzero"`     // the arguments must be valid by Parameters
	Willing     bool            `json:"willing,omitzero"`    // strict, if all of Parameters can be enforced
	Said        *bool           `json:"said,omitzero"`       // what the request says of strict, for the template; nil if nothing
	At          string          `json:"at,omitzero"`         // as in Format
	Form        *grammar.Schema `json:"-"`
}

// Sampling says how the next token is drawn. A nil field leaves the choice to the model's defaults.
type Sampling struct {
	sampling.Settings
	Seed             *int64            `json:"seed,omitzero"` // with the same seed, the same request gives the same answer
	FrequencyPenalty float64           `json:"frequency_penalty,omitzero"`
	PresencePenalty  float64           `json:"presence_penalty,omitzero"`
	LogitBias        map[int32]float64 `json:"logit_bias,omitzero"` // added to the logits of tokens
}

// Event is a piece of an answer: [Started], [ReasoningDelta], [TextDelta], [ToolCallDelta] or [Finish]; of one whose tools are run on the
// gate's side, also [ToolsListed], [StepBegan], [StepEnded], [RunDelta], [RunEnded] or [ApprovalWanted].
type Event interface{ event() }

// Started comes once, when the first token is there.
type Started struct {
	PromptTokens int     `json:"prompt_tokens,omitzero"`
	CachedTokens int     `json:"cached_tokens,omitzero"` // of the prompt, that did not have to be read, since a prompt before it began in the same way
	Dropped      int     `json:"dropped,omitzero"`       // turns that were left out, since the prompt was longer than the context
	Timings      Timings `json:"timings,omitzero"`
	// Answered is the model that answers where a name has several. PassedOver are those that were asked before it and could not, each
	// with the code of why. A gate sets both.
	Answered   string   `json:"answered,omitzero"`
	PassedOver []string `json:"passed_over,omitzero"`
	Echo       *Echo    `json:"echo,omitzero"` // if it was asked for
	// Steps says that the gate runs tools for the answer, so that it may take several steps.
	Steps bool `json:"steps,omitzero"`
}

// Echo is a raw prompt as the model got it.
type Echo struct {
	Text   string  `json:"text,omitzero"`
	First  string  `json:"first,omitzero"`  // the text of the first token, before which is nothing to score it by; empty if there is none such
	Scores []Score `json:"scores,omitzero"` // of the other tokens, if they were asked for
}

// Score is a token with its log-probability: that of the model, before temperature, penalties and formats.
type Score struct {
	Text    string  `json:"text,omitzero"` // its bytes, which may be part of a character
	LogProb float64 `json:"logprob,omitzero"`
	Top     []Score `json:"top,omitzero"` // the most likely tokens at its place, most likely first; they have no Top themselves
}

// Timings are what happened before the first token.
type Timings struct {
	Queue   time.Duration `json:"queue_ns,omitzero"`   // waiting for a place among the running sequences
	Place   int           `json:"place,omitzero"`      // in the queue when it came, 1 being the first; 0 if it did not wait
	Load    time.Duration `json:"load_ns,omitzero"`    // loading the model, 0 if it was loaded
	Look    time.Duration `json:"look_ns,omitzero"`    // looking at pictures, a part of Prefill
	Prefill time.Duration `json:"prefill_ns,omitzero"` // reading the prompt
}

// TextDelta is text that continues the answer. It ends at a whole character.
type TextDelta struct {
	Candidate int     `json:"candidate,omitzero"`
	Text      string  `json:"text,omitzero"`
	Tokens    int     `json:"tokens,omitzero"` // generated since the delta before it
	Scores    []Score `json:"scores,omitzero"` // of these tokens, if they were asked for
	// Refusal says that it is said in the place of an answer. No model of ours tells that apart; others may.
	Refusal bool `json:"refusal,omitzero"`
	// Citations are of the text so far; what has them may have no text.
	Citations []Citation `json:"citations,omitzero"`
}

// Citation says where a part of an answer's text comes from.
type Citation struct {
	URL   string `json:"url,omitzero"`
	Title string `json:"title,omitzero"`
	Start int    `json:"start,omitzero"` // the first character of the text
	End   int    `json:"end,omitzero"`   // and the one behind the last
}

// ReasoningDelta is text by which the model reasons before it answers.
type ReasoningDelta struct {
	Candidate int    `json:"candidate,omitzero"`
	Text      string `json:"text,omitzero"`
	Tokens    int    `json:"tokens,omitzero"` // generated since the delta before it
}

// ToolCallDelta is a part of a tool call. The first one has the id and the name; each may have more of the arguments. A call
// that was told from text comes whole, in one.
type ToolCallDelta struct {
	Candidate int    `json:"candidate,omitzero"`
	Index     int    `json:"index,omitzero"` // among the calls of the candidate
	ID        string `json:"id,omitzero"`    // of the call, as its name, in its first delta
	Name      string `json:"name,omitzero"`
	Arguments string `json:"arguments,omitzero"` // that come next
	Done      bool   `json:"done,omitzero"`      // nothing more comes of this call
	Tokens    int    `json:"tokens,omitzero"`    // generated since the delta before it
}

// Finish ends a candidate.
type Finish struct {
	Candidate int    `json:"candidate,omitzero"`
	Reason    Reason `json:"reason,omitzero"`
	Tokens    int    `json:"tokens,omitzero"`    // generated
	Malformed int    `json:"malformed,omitzero"` // places that looked like tool calls, but could not be read and were given out as text
	// PromptTokens and CachedTokens are what Started would have told, where they become known only at the end: then Started has 0.
	PromptTokens int `json:"prompt_tokens,omitzero"`
	CachedTokens int `json:"cached_tokens,omitzero"`
	// ReasoningTokens are those of the answer's that were spent on reasoning which no event has told of.
	ReasoningTokens int `json:"reasoning_tokens,omitzero"`
	// Bound names what ended an answer whose tools are run here before its end, of [Bounds]; "" for nothing.
	Bound string `json:"bound,omitzero"`
	// Drafted tokens were put through the network before it was known that they follow; Accepted of them did.
	Drafted  int `json:"drafted,omitzero"`
	Accepted int `json:"accepted,omitzero"`
}

// ToolsListed tells what a server of tools offers the model. It comes before the first step, once for each server.
type ToolsListed struct {
	Server string       `json:"server,omitzero"`
	Tools  []ListedTool `json:"tools,omitzero"`
	Error  string       `json:"error,omitzero"` // why there are none
}

// ListedTool is a tool as a server describes it.
type ListedTool struct {
	Name        string          `json:"name,omitzero"`
	Title       string          `json:"title,omitzero"`
	Description string          `json:"description,omitzero"`
	Schema      json.RawMessage `json:"schema,omitzero"`
	ReadOnly    bool            `json:"read_only,omitzero"`
}

// StepBegan is what [Started] is to the first step of an answer, to one of the others.
type StepBegan struct {
	Step         int     `json:"step,omitzero"` // from 1
	PromptTokens int     `json:"prompt_tokens,omitzero"`
	CachedTokens int     `json:"cached_tokens,omitzero"`
	Timings      Timings `json:"timings,omitzero"`
}

// StepEnded is what [Finish] is to the last step of an answer, to one of the others: the model has called tools, and continues when they have
// run.
type StepEnded struct {
	Step            int `json:"step,omitzero"`
	Tokens          int `json:"tokens,omitzero"`
	Malformed       int `json:"malformed,omitzero"`
	PromptTokens    int `json:"prompt_tokens,omitzero"` // as in Finish
	CachedTokens    int `json:"cached_tokens,omitzero"`
	ReasoningTokens int `json:"reasoning_tokens,omitzero"`
}

// RunDelta is a part of a call that the gate runs, as [ToolCallDelta] is of one that is for the client.
type RunDelta struct {
	Index     int    `json:"index,omitzero"`  // among all such calls of the answer
	ID        string `json:"id,omitzero"`     // of the call, as its server and name, in its first delta
	Server    string `json:"server,omitzero"` // that has the tool
	Name      string `json:"name,omitzero"`
	Arguments string `json:"arguments,omitzero"` // that come next
	Done      bool   `json:"done,omitzero"`
	Tokens    int    `json:"tokens,omitzero"`
	Approval  string `json:"approval,omitzero"` // the id of the approval that it had, in its first delta
}

// RunEnded is what came of such a call.
type RunEnded struct {
	Index   int           `json:"index,omitzero"`
	Output  string        `json:"output,omitzero"`  // what the model is told
	Failure *RunFailure   `json:"failure,omitzero"` // nil if it succeeded
	Took    time.Duration `json:"took_ns,omitzero"`
}

// RunFailure is why a call gave no result.
type RunFailure struct {
	Type    string `json:"type"` // protocol_error, http_error or tool_execution_error
	Code    int    `json:"code,omitzero"`
	Message string `json:"message"`
}

// ApprovalWanted is a call that somebody has to approve first.
type ApprovalWanted struct {
	ID        string `json:"id,omitzero"` // of the call
	Server    string `json:"server,omitzero"`
	Name      string `json:"name,omitzero"`
	Arguments string `json:"arguments,omitzero"`
}

// Bounds of an answer whose tools are run here, by the names that clients are told.
const (
	BoundSteps    = "max_steps"
	BoundCalls    = "max_tool_calls"
	BoundTime     = "max_time"
	BoundTokens   = "max_output_tokens"
	BoundCost     = "max_cost"
	BoundRepeated = "repeated_call"
)

func (Started) event()        {}
func (ReasoningDelta) event() {}
func (TextDelta) event()      {}
func (ToolCallDelta) event()  {}
func (Finish) event()         {}
func (ToolsListed) event()    {}
func (StepBegan) event()      {}
func (StepEnded) event()      {}
func (RunDelta) event()       {}
func (RunEnded) event()       {}
func (ApprovalWanted) event() {}

// Reason is why an answer ended.
type Reason string

// The reasons.
const (
	Stopped Reason = "stop"       // the model came to its end, or to a stop string
	Length  Reason = "length"     // the limit of tokens, or the context, was reached
	Called  Reason = "tool_calls" // the model wants tools to be called
	// Filtered is told by machines alone: what was to come was held back.
	Filtered Reason = "content_filter"
)

// Embedding is a question for the vectors of texts.
type Embedding struct {
	Model      string
	Inputs     []Input
	Dimensions int // that the vectors must have; 0 for as many as they have
	// Purpose is what the texts are for, such as a query or a document, by the names that the model's files have for it;
	// empty for the model's default.
	Purpose string
	Reserve func(tokens int) error `json:"-"` // as in Request
	Via     []string               `json:"-"` // as in Request
	Trace   string                 `json:"-"`
}

// Ranking asks how well documents answer a query.
type Ranking struct {
	Model     string
	Query     string
	Documents []string
	Longest   int                    // tokens of each document that are read; 0 for all
	Reserve   func(tokens int) error `json:"-"` // as in Request
	Via       []string               `json:"-"` // as in Request
	Trace     string                 `json:"-"`
}

// Relevance is how well each document answers the query, from 0 to 1.
type Relevance struct {
	Scores  []float64
	Tokens  int // of all pairs of the query and a document
	Timings Timings
}

// Input is a text, or tokens in its place.
type Input struct {
	Text   string
	Tokens []int32 // nil if Text counts
}

// Vectors are what an embedding model makes of texts.
type Vectors struct {
	Vectors [][]float32 // one for each input, of length 1
	Tokens  int         // of all inputs
	Timings Timings     // Prefill is the time that making them took
}
