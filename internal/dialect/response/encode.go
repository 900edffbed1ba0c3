package response

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Status is how far a response or an item is. It only moves forward, and not from one end to another.
type Status string

// The states. Queued and in progress come before the others, which are ends.
const (
	queued     Status = "queued"
	inProgress Status = "in_progress"
	completed  Status = "completed"
	incomplete Status = "incomplete"
	failed     Status = "failed"
	cancelled  Status = "cancelled"
	calling    Status = "calling" // of a call that the gate runs
)

// Ended reports whether nothing more comes.
func (s Status) Ended() bool { return s != queued && s != inProgress }

// Response is the answer to a request, whole or under way.
type Response struct {
	ID          string      `json:"id"`
	Object      string      `json:"object"`     // "response"
	CreatedAt   int64       `json:"created_at"` // seconds since 1970
	CompletedAt *int64      `json:"completed_at"`
	Status      Status      `json:"status"`
	Error       *Failure    `json:"error"`
	Incomplete  *Incomplete `json:"incomplete_details"`
	Model       string      `json:"model"`
	Output      []any       `json:"output"`          // items
	Usage       *Usage      `json:"usage,omitempty"` // once the answer has ended, as the types have it
	settings
	Fingerprint string `json:"system_fingerprint,omitempty"` // which weights, template and settings answer; of ours
	// NotStored says why the response cannot be had later, though that was asked for. It is of ours.
	NotStored string `json:"not_stored,omitempty"`
}

// Failure is why a response failed.
type Failure struct {
	Code    string `json:"code"`
	Message string `json:"message"`
}

// Incomplete is why a response ends before its end.
type Incomplete struct {
	Reason string `json:"reason"`
}

// Usage counts tokens.
type Usage struct {
	Input        int           `json:"input_tokens"`
	InputDetails InputDetails  `json:"input_tokens_details"`
	Output       int           `json:"output_tokens"`
	Details      OutputDetails `json:"output_tokens_details"`
	Total        int           `json:"total_tokens"`
}

// Count adds what an event tells.
func (u *Usage) Count(event exchange.Event) {
	switch event := event.(type) {
	case exchange.Started:
		u.Input, u.InputDetails.Cached = u.Input+event.PromptTokens, u.InputDetails.Cached+event.CachedTokens
	case exchange.StepBegan:
		u.Input, u.InputDetails.Cached = u.Input+event.PromptTokens, u.InputDetails.Cached+event.CachedTokens
	case exchange.StepEnded:
		u.Input, u.InputDetails.Cached = u.Input+event.PromptTokens, u.InputDetails.Cached+event.CachedTokens
		u.Details.Reasoning += event.ReasoningTokens
		u.Output += event.Tokens
	case exchange.ReasoningDelta:
		u.Details.Reasoning += event.Tokens
	case exchange.Finish:
		u.Input, u.InputDetails.Cached = u.Input+event.PromptTokens, u.InputDetails.Cached+event.CachedTokens
		u.Details.Reasoning += event.ReasoningTokens
		u.Output += event.Tokens
	case exchange.TextDelta, exchange.ToolCallDelta, exchange.ToolsListed, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
	}
	u.Total = u.Input + u.Output
}

// InputDetails tells of the tokens of a prompt.
type InputDetails struct {
	Cached       int `json:"cached_tokens"`
	CacheWritten int `json:"cache_write_tokens"`
}

// OutputDetails tells of the tokens of an answer.
type OutputDetails struct {
	Reasoning int `json:"reasoning_tokens"`
}

// Message is an item: what somebody says.
type Message struct {
	Type    string `json:"type"` // "message"
	ID      string `json:"id,omitempty"`
	Status  Status `json:"status"`
	Role    string `json:"role"`
	Content []any  `json:"content"`
}

// InputText is a part of what is said to a model.
type InputText struct {
	Type string `json:"type"` // "input_text"
	Text string `json:"text"`
}

// OutputText is a part of what a model says.
type OutputText struct {
	Type        string            `json:"type"` // "output_text"
	Text        string            `json:"text"`
	Annotations []Annotation      `json:"annotations"`
	Logprobs    []wire.TokenScore `json:"logprobs"`
}

// Annotation says where a part of a text comes from.
type Annotation struct {
	Type  string `json:"type"` // "url_citation"
	Start int    `json:"start_index"`
	End   int    `json:"end_index"`
	URL   string `json:"url"`
	Title string `json:"title"`
}

// RefusalText is what a model says in the place of an answer.
type RefusalText struct {
	Type    string `json:"type"` // "refusal"
	Refusal string `json:"refusal"`
}

// Reasoning is an item: what a model thinks before it answers.
type Reasoning struct {
	Type      string          `json:"type"` // "reasoning"
	ID        string          `json:"id"`
	Status    Status          `json:"status"`
	Summary   []ReasoningText `json:"summary"` // the same text, if a summary was asked for
	Content   []ReasoningText `json:"content"`
	Encrypted *string         `json:"encrypted_content"` // null unless it was asked for
}

// ReasoningText is a part of reasoning, or of its summary.
type ReasoningText struct {
	Type string `json:"type"` // "reasoning_text" or "summary_text"
	Text string `json:"text"`
}

// FunctionCall is an item: a call that a model asks for.
type FunctionCall struct {
	Type      string `json:"type"` // "function_call"
	ID        string `json:"id"`
	Status    Status `json:"status"`
	CallID    string `json:"call_id"`
	Name      string `json:"name"`
	Arguments string `json:"arguments"`
}

// Truncation is an item of ours: it says how many turns were left out, since the conversation was longer than the
// context.
type Truncation struct {
	Type    string `json:"type"`
	ID      string `json:"id"`
	Status  Status `json:"status"`
	Dropped int    `json:"dropped_turns"`
}

const truncationType = "kindred:truncation"

// Event is an event of a stream.
type Event struct {
	Type     string          `json:"type"`
	Sequence int             `json:"sequence_number"` // from 0, without gaps
	Data     json.RawMessage `json:"data"`            // the whole event, type and number included
}

// payload is what events hold beside their type and number.
type payload struct {
	Type         string             `json:"type"`
	Sequence     int                `json:"sequence_number"`
	Response     *Response          `json:"response,omitempty"`
	OutputIndex  *int               `json:"output_index,omitempty"`
	ItemID       string             `json:"item_id,omitempty"`
	ContentIndex *int               `json:"content_index,omitempty"`
	SummaryIndex *int               `json:"summary_index,omitempty"`
	Item         any                `json:"item,omitempty"`
	Part         any                `json:"part,omitempty"`
	Delta        *string            `json:"delta,omitempty"`
	Text         *string            `json:"text,omitempty"`
	Name         string             `json:"name,omitempty"`
	Arguments    *string            `json:"arguments,omitempty"`
	Refusal      *string            `json:"refusal,omitempty"`
	Annotation   *Annotation        `json:"annotation,omitempty"`
	Annotated    *int               `json:"annotation_index,omitempty"`
	Logprobs     *[]wire.TokenScore `json:"logprobs,omitempty"`
}

// Writer builds a response from the events of an answer, and tells of every step.
type Writer struct {
	resp     Response
	emit     func(Event)
	sequence int
	lastType string // of the last event
	scored   bool
	request  *exchange.Request
	sums     bool // reasoning is given as a summary too
	sealed   bool // and in a form to be sent back

	message   *Message // that is open, if one is
	refusing  bool     // it is a refusal
	cited     []Annotation
	reasoning *Reasoning
	at        int             // where the one that is open stands in the output
	text      strings.Builder // of what is open
	scores    []wire.TokenScore
	calls     []*openCall // by their place among the calls; nil for those that are closed
	runs      []*openRun  // likewise of the calls that the gate runs
	step      int         // of an answer with several, from 1; 0 for one without
}

// openCall is a call of which more may come, whatever else comes in between.
type openCall struct {
	item *FunctionCall
	at   int // in the output
	text strings.Builder
}

// NewWriter begins a response; its events go to emit.
func NewWriter(id string, created time.Time, c *Call, emit func(Event)) *Writer {
	w := &Writer{emit: emit, request: &c.Request, scored: c.Scores != nil, sums: c.settings.Reasoning.Summary != nil, sealed: c.sealed}
	w.resp = Response{ID: id, Object: "response", CreatedAt: created.Unix(), Status: inProgress, Model: c.Model, Output: []any{}, settings: c.settings}
	if c.Background {
		w.resp.Status = queued
	}
	return w
}

// Resume takes up a response that a stop of the gate has ended, from what was stored of it: its items and usage stay, and the numbers of its
// events go on.
func (w *Writer) Resume(stored json.RawMessage, sequence, step int) error {
	var was struct {
		Output []json.RawMessage `json:"output"`
		Usage  *Usage            `json:"usage"`
	}
	if err := json.Unmarshal(stored, &was); err != nil {
		return fmt.Errorf("a stored response cannot be read: %w", err)
	}
	for _, item := range was.Output {
		w.resp.Output = append(w.resp.Output, item)
	}
	w.resp.Status, w.resp.Usage, w.sequence, w.step = inProgress, was.Usage, sequence, step
	return nil
}

// Response is what there is of the response.
func (w *Writer) Response() *Response { return &w.resp }

func (w *Writer) send(kind string, p payload) {
	p.Type, p.Sequence, w.lastType = kind, w.sequence, kind
	w.emit(Event{Type: kind, Sequence: w.sequence, Data: marshal(p)})
	w.sequence++
}

func (w *Writer) sendWhole(kind string) { w.send(kind, payload{Response: &w.resp}) }

// Begin tells that the response is there.
func (w *Writer) Begin() {
	w.sendWhole("response.created")
	if w.resp.Status == queued {
		w.sendWhole("response.queued")
	}
}

// Add takes an event of the answer.
func (w *Writer) Add(event exchange.Event) error {
	if _, begins := event.(exchange.Started); w.resp.Usage != nil && !begins {
		w.resp.Usage.Count(event)
	}
	switch event := event.(type) {
	case exchange.Started:
		w.resp.Status = inProgress
		w.resp.Fingerprint = w.request.Fingerprint // which is known by now
		if w.resp.Usage == nil {
			w.resp.Usage = &Usage{}
		}
		w.resp.Usage.Count(event)
		if w.step == 0 { // else it goes on after a stop
			w.sendWhole("response.in_progress")
		}
		if event.Dropped > 0 {
			item := &Truncation{Type: truncationType, ID: w.newID("tr"), Status: completed, Dropped: event.Dropped}
			w.open(item)
			w.send("response.output_item.done", payload{OutputIndex: w.last(), Item: item})
		}
	case exchange.TextDelta:
		w.say(event)
	case exchange.ReasoningDelta:
		w.reason(event.Text)
	case exchange.ToolCallDelta:
		w.callDelta(event)
	case exchange.ToolsListed:
		w.step = max(w.step, 1)
		w.listed(event)
	case exchange.StepBegan:
		w.step = event.Step
	case exchange.StepEnded:
		w.close(completed)
	case exchange.RunDelta:
		w.step = max(w.step, 1)
		w.runDelta(event)
	case exchange.RunEnded:
		w.runEnded(event)
	case exchange.ApprovalWanted:
		w.wantApproval(event)
	case exchange.Finish:
		w.finish(event)
	default:
		return fmt.Errorf("response style: unknown event %T", event)
	}
	return nil
}

// newID names the next item, by its response and its place there: so it can be found by its name alone.
func (w *Writer) newID(prefix string) string {
	id := fmt.Sprintf("%s_%s_%d", prefix, strings.TrimPrefix(w.resp.ID, responsePrefix), len(w.resp.Output))
	if w.step > 0 { // calls of the same step were made side by side
		id += "." + strconv.Itoa(w.step)
	}
	return id
}

const responsePrefix = "resp_"

// ResponseOf is the id of the response that an item belongs to; ok is false if it is not an id that this package gives.
func ResponseOf(item string) (id string, ok bool) {
	parts := strings.Split(item, "_")
	if len(parts) != 3 {
		return "", false
	}
	return responsePrefix + parts[1], true
}

func (w *Writer) last() *int {
	i := len(w.resp.Output) - 1
	return &i
}

// open adds an item.
func (w *Writer) open(item any) {
	w.resp.Output = append(w.resp.Output, item)
	w.at = len(w.resp.Output) - 1
	w.send("response.output_item.added", payload{OutputIndex: w.last(), Item: item})
}

// here is where the message or the reasoning that is open stands.
func (w *Writer) here() *int {
	at := w.at
	return &at
}

var first = new(int) // every item of ours has one part of content

func (w *Writer) say(e exchange.TextDelta) {
	if w.message != nil && w.refusing != e.Refusal {
		w.close(completed)
	}
	if w.message == nil {
		w.close(completed)
		w.refusing = e.Refusal
		w.message = &Message{Type: "message", ID: w.newID("msg"), Status: inProgress, Role: "assistant", Content: []any{}}
		w.open(w.message)
		var part any = OutputText{Type: "output_text", Annotations: []Annotation{}, Logprobs: []wire.TokenScore{}}
		if w.refusing {
			part = RefusalText{Type: "refusal"}
		}
		w.send("response.content_part.added", payload{OutputIndex: w.here(), ItemID: w.message.ID, ContentIndex: first, Part: part})
	}
	w.text.WriteString(e.Text)
	if w.refusing {
		w.send("response.refusal.delta", payload{OutputIndex: w.here(), ItemID: w.message.ID, ContentIndex: first, Delta: &e.Text})
		return
	}
	if list := wire.Scores(e.Scores); e.Text != "" || len(e.Citations) == 0 {
		w.scores = append(w.scores, list...)
		w.send("response.output_text.delta", payload{OutputIndex: w.here(), ItemID: w.message.ID, ContentIndex: first, Delta: &e.Text, Logprobs: &list})
	}
	for _, c := range e.Citations {
		n, one := len(w.cited), Annotation{"url_citation", c.Start, c.End, c.URL, c.Title}
		w.cited = append(w.cited, one)
		w.send("response.output_text.annotation.added", payload{OutputIndex: w.here(), ItemID: w.message.ID, ContentIndex: first, Annotated: &n, Annotation: &one})
	}
}

func (w *Writer) reason(text string) {
	if w.reasoning == nil {
		w.close(completed)
		w.reasoning = &Reasoning{Type: "reasoning", ID: w.newID("rs"), Status: inProgress, Summary: []ReasoningText{}, Content: []ReasoningText{}}
		w.open(w.reasoning)
		w.send("response.content_part.added", payload{OutputIndex: w.here(), ItemID: w.reasoning.ID, ContentIndex: first, Part: ReasoningText{Type: "reasoning_text"}})
		if w.sums {
			w.send("response.reasoning_summary_part.added", payload{OutputIndex: w.here(), ItemID: w.reasoning.ID, SummaryIndex: first, Part: ReasoningText{Type: "summary_text"}})
		}
	}
	w.text.WriteString(text)
	w.send("response.reasoning_text.delta", payload{OutputIndex: w.here(), ItemID: w.reasoning.ID, ContentIndex: first, Delta: &text})
	if w.sums {
		w.send("response.reasoning_summary_text.delta", payload{OutputIndex: w.here(), ItemID: w.reasoning.ID, SummaryIndex: first, Delta: &text})
	}
}

// close closes the message or the reasoning that is open.
func (w *Writer) close(status Status) {
	text := w.text.String()
	switch {
	case w.message != nil && w.refusing:
		m, part := w.message, RefusalText{"refusal", text}
		w.send("response.refusal.done", payload{OutputIndex: w.here(), ItemID: m.ID, ContentIndex: first, Refusal: &text})
		w.send("response.content_part.done", payload{OutputIndex: w.here(), ItemID: m.ID, ContentIndex: first, Part: part})
		m.Content, m.Status = []any{part}, status
		w.send("response.output_item.done", payload{OutputIndex: w.here(), Item: m})
	case w.message != nil:
		m := w.message
		part := OutputText{Type: "output_text", Text: text, Annotations: append([]Annotation{}, w.cited...), Logprobs: append([]wire.TokenScore{}, w.scores...)}
		w.send("response.output_text.done", payload{OutputIndex: w.here(), ItemID: m.ID, ContentIndex: first, Text: &text, Logprobs: &part.Logprobs})
		w.send("response.content_part.done", payload{OutputIndex: w.here(), ItemID: m.ID, ContentIndex: first, Part: part})
		m.Content, m.Status = []any{part}, status
		w.send("response.output_item.done", payload{OutputIndex: w.here(), Item: m})
	case w.reasoning != nil:
		r := w.reasoning
		part := ReasoningText{Type: "reasoning_text", Text: text}
		w.send("response.reasoning_text.done", payload{OutputIndex: w.here(), ItemID: r.ID, ContentIndex: first, Text: &text})
		w.send("response.content_part.done", payload{OutputIndex: w.here(), ItemID: r.ID, ContentIndex: first, Part: part})
		r.Content, r.Status = []ReasoningText{part}, status
		if w.sums {
			sum := ReasoningText{Type: "summary_text", Text: text}
			w.send("response.reasoning_summary_text.done", payload{OutputIndex: w.here(), ItemID: r.ID, SummaryIndex: first, Text: &text})
			w.send("response.reasoning_summary_part.done", payload{OutputIndex: w.here(), ItemID: r.ID, SummaryIndex: first, Part: sum})
			r.Summary = []ReasoningText{sum}
		}
		if w.sealed {
			sealed := seal(text)
			r.Encrypted = &sealed
		}
		w.send("response.output_item.done", payload{OutputIndex: w.here(), Item: r})
	}
	w.message, w.reasoning, w.scores, w.cited = nil, nil, nil, nil
	w.text.Reset()
}

// closeAll closes what is open, calls included.
func (w *Writer) closeAll(status Status) {
	w.close(status)
	for i := range w.calls {
		w.closeCall(i, status)
	}
	w.closeRuns()
}

func (w *Writer) closeCall(i int, status Status) {
	c := w.calls[i]
	if c == nil {
		return
	}
	w.calls[i] = nil
	c.item.Arguments, c.item.Status = c.text.String(), status
	w.send("response.function_call_arguments.done", payload{OutputIndex: &c.at, ItemID: c.item.ID, Name: c.item.Name, Arguments: &c.item.Arguments})
	w.send("response.output_item.done", payload{OutputIndex: &c.at, Item: c.item})
}

// callDelta takes a piece of a call. Calls begin in order; pieces of several may come by turns.
func (w *Writer) callDelta(e exchange.ToolCallDelta) {
	if e.Name != "" {
		w.close(completed)
		c := &openCall{item: &FunctionCall{Type: "function_call", ID: w.newID("fc"), Status: inProgress, CallID: e.ID, Name: e.Name}, at: len(w.resp.Output)}
		w.calls = append(w.calls, c)
		w.open(c.item)
	}
	if e.Index >= len(w.calls) || w.calls[e.Index] == nil {
		return
	}
	if c := w.calls[e.Index]; e.Arguments != "" {
		c.text.WriteString(e.Arguments)
		w.send("response.function_call_arguments.delta", payload{OutputIndex: &c.at, ItemID: c.item.ID, Delta: &e.Arguments})
	}
	if e.Done {
		w.closeCall(e.Index, completed)
	}
}

func (w *Writer) finish(e exchange.Finish) {
	if why, cut := map[exchange.Reason]string{exchange.Length: "max_output_tokens", exchange.Filtered: "content_filter"}[e.Reason]; cut {
		whole := incomplete
		if e.Bound != "" && e.Bound != exchange.BoundTokens {
			why, whole = e.Bound, completed // the model has said its last words
		}
		w.closeAll(whole)
		w.resp.Incomplete = &Incomplete{Reason: why}
		w.end(incomplete, "response.incomplete")
		return
	}
	if n := len(w.resp.Output); n == 0 || w.message == nil && w.reasoning != nil {
		w.say(exchange.TextDelta{}) // the model has nothing to say, which is an answer
	}
	w.closeAll(completed)
	w.end(completed, "response.completed")
}

func (w *Writer) end(status Status, event string) {
	now := time.Now().Unix()
	w.resp.CompletedAt = &now
	w.resp.Status = status
	w.sendWhole(event)
}

// Unstored notes in a response that has ended that it is not stored, and why. It gives the last event anew.
func (w *Writer) Unstored(why string) Event {
	w.resp.Store, w.resp.NotStored = false, why
	return Event{Type: w.lastType, Sequence: w.sequence - 1, Data: marshal(payload{Type: w.lastType, Sequence: w.sequence - 1, Response: &w.resp})}
}

// FailedEvent is the type of the last event of a response that failed.
const FailedEvent = "response.failed"

// Fail ends the response with an error, unless it has ended.
func (w *Writer) Fail(err error) {
	if w.resp.Status.Ended() {
		return
	}
	e := exchange.AsError(err)
	code := "server_error"
	switch e.Kind {
	case exchange.Limited:
		code = "rate_limit_exceeded"
	case exchange.Invalid, exchange.NotFound, exchange.Forbidden:
		code = "invalid_prompt"
	}
	w.closeAll(incomplete)
	w.resp.Error = &Failure{Code: code, Message: e.Message}
	w.end(failed, FailedEvent)
}

// errInterrupted is why a response failed of which the gate did not see the end.
var errInterrupted = exchange.Errorf(exchange.Unavailable, "interrupted", "the gate stopped while the response was in progress; ask again")

// IfInterrupted is what the response would be if the gate stopped now: failed, with what was written so far, and the events that would tell of
// that, whose numbers go on. The response itself stays as it is.
func (w *Writer) IfInterrupted() (Response, []Event) {
	var last []Event
	c := &Writer{emit: func(e Event) { last = append(last, e) }, request: w.request, scored: w.scored, sums: w.sums, sealed: w.sealed, sequence: w.sequence,
		resp: w.resp, at: w.at, refusing: w.refusing, cited: w.cited, scores: w.scores}
	c.text.WriteString(w.text.String())
	c.resp.Output = slices.Clone(w.resp.Output)
	for i, item := range c.resp.Output {
		switch item := item.(type) {
		case *Message:
			own := *item
			if c.resp.Output[i] = &own; item == w.message {
				c.message = &own
			}
		case *Reasoning:
			own := *item
			if c.resp.Output[i] = &own; item == w.reasoning {
				c.reasoning = &own
			}
		case *FunctionCall:
			own := *item
			c.resp.Output[i] = &own
		case *ServerCall:
			own := *item
			c.resp.Output[i] = &own
		}
	}
	for _, run := range w.runs {
		if run != nil {
			own := &openRun{item: c.resp.Output[run.at].(*ServerCall), at: run.at}
			own.text.WriteString(run.text.String())
			c.runs = append(c.runs, own)
		}
	}
	c.calls = make([]*openCall, len(w.calls))
	for i, call := range w.calls {
		if call != nil {
			c.calls[i] = &openCall{item: c.resp.Output[call.at].(*FunctionCall), at: call.at}
			c.calls[i].text.WriteString(call.text.String())
		}
	}
	c.Fail(errInterrupted)
	return c.resp, last
}

// Cancel ends the response since somebody asked for that, unless it has ended. The event is of ours: the standard has
// none for it.
func (w *Writer) Cancel() {
	if w.resp.Status.Ended() {
		return
	}
	w.closeAll(incomplete)
	w.end(cancelled, "kindred:response.cancelled")
}

// Interrupted is a stored response that was under way when the gate stopped, as failed, with the event that says so.
func Interrupted(stored json.RawMessage) (body json.RawMessage, event Event, err error) {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(stored, &fields); err != nil {
		return nil, event, fmt.Errorf("a stored response cannot be read: %w", err)
	}
	fields["status"] = marshal(failed)
	fields["completed_at"] = marshal(time.Now().Unix())
	fields["error"] = marshal(Failure{Code: "server_error", Message: "the gate stopped while the response was under way; ask again"})
	body = marshal(fields)
	event = Event{Type: "response.failed", Data: marshal(map[string]any{"type": "response.failed", "sequence_number": 0, "response": json.RawMessage(body)})}
	return body, event, nil
}

// Renumbered is the data of an event with another number.
func Renumbered(data json.RawMessage, sequence int) (json.RawMessage, error) {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(data, &fields); err != nil {
		return nil, err
	}
	fields["sequence_number"] = marshal(sequence)
	return marshal(fields), nil
}

// OutputOf gives the items of a stored response.
func OutputOf(stored json.RawMessage) ([]json.RawMessage, error) {
	var r struct {
		Output []json.RawMessage `json:"output"`
	}
	err := json.Unmarshal(stored, &r)
	return r.Output, err
}
