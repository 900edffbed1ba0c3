package record

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"
)

// Kind is what a field's value is.
type Kind int

// The kinds of fields.
const (
	Text    Kind = iota // string
	Instant             // time.Time
	Count               // int
	Tokens              // int
	Money               // int64, millionths of the currency
	Millis              // float64, milliseconds
	List                // []string
	Flag                // bool
	Detail              // anything else
)

// Field is one fact of a record.
type Field struct {
	Name      string // as in JSON, exports and the log
	Means     string // a phrase for the contract
	Kind      Kind
	Title     string // for people; "" where another field shows it too
	Log       bool   // whether the log has it
	Attribute string // in traces, after the OpenTelemetry conventions; metrics write it with underscores. "" for none
	TokenType string // of the metric that counts tokens; "" for none
	Value     func(*Record) any
	Show      func(*Record) string // for people; nil for what its kind gives
}

// Fields are all fields of a record, in the order in which they are shown.
var Fields = []Field{
	{Name: "id", Means: "the request's, as its answer's x-request-id says it", Log: true, Attribute: "gen_ai.response.id", Value: func(r *Record) any { return r.ID }},
	{Name: "state", Means: "how far it has come", Title: "Ended", Value: func(r *Record) any { return string(r.State) }, Show: (*Record).Ended},
	{Name: "error", Means: "why it failed, in words", Title: "Error", Value: func(r *Record) any { return r.Error }},
	{Name: "code", Means: "of the error", Attribute: "error.type", Value: func(r *Record) any { return r.Code }},
	{Name: "finish_reason", Means: "why the last answer ended", Log: true, Value: func(r *Record) any { return r.Reason }},
	{Name: "limit", Means: "which limit of its key the answer ended at", Title: "Limit reached", Log: true, Value: func(r *Record) any { return r.Limit }},
	{Name: "begun", Means: "when it came in", Kind: Instant, Title: "Begun", Value: func(r *Record) any { return r.Begun }},
	{Name: "label", Means: "of the key", Title: "Key", Log: true, Attribute: "kindred.key.label", Value: func(r *Record) any { return r.Label }, Show: func(r *Record) string {
		return joined(r.Label, "  ", bracket(keyPrefix, r.Key, "…"), bracket("group ", r.Group, ""))
	}},
	{Name: "key", Means: "the id of the key, or of the first in whose place it came", Value: func(r *Record) any { return r.Key }},
	{Name: "group", Means: "of the key", Value: func(r *Record) any { return r.Group }},
	{Name: "client", Means: "the address that asked", Title: "From", Attribute: "client.address", Value: func(r *Record) any { return r.Client }, Show: func(r *Record) string {
		return joined(r.Client, "  ", r.Agent)
	}},
	{Name: "agent", Means: "what the client calls itself", Value: func(r *Record) any { return r.Agent }},
	{Name: "style", Means: "in which it was asked", Title: "Request", Attribute: "kindred.style", Value: func(r *Record) any { return r.Style }, Show: func(r *Record) string {
		return joined(r.Style, "  ", r.Endpoint)
	}},
	{Name: "endpoint", Means: "the path", Value: func(r *Record) any { return r.Endpoint }},
	{Name: "model", Means: "the name that was asked for", Title: "Model", Log: true, Attribute: "gen_ai.request.model", Value: func(r *Record) any { return r.Model }, Show: (*Record).Route},
	{Name: "model_chosen", Means: "whether the gate chose the name, since the request had none", Kind: Flag, Title: "Model named", Log: true, Value: func(r *Record) any { return r.Chosen }, Show: func(r *Record) string {
		return shown(r.Chosen, "by the gate, since the request named none")
	}},
	{Name: "answered", Means: "the model that served it", Attribute: "gen_ai.response.model", Value: func(r *Record) any { return r.Answered }},
	{Name: "preset", Means: "that was applied", Title: "Preset", Value: func(r *Record) any { return r.Preset }},
	{Name: "machine", Means: "that the model is on, if that is another one", Title: "Machine", Value: func(r *Record) any { return r.Machine }},
	{Name: "passed_over", Means: "targets of the name that were skipped, each with the code of the reason", Kind: List, Title: "Skipped", Value: func(r *Record) any { return r.PassedOver }},
	{Name: "placed", Means: "how long each target was expected to take, the chosen one first", Kind: Detail, Title: "Placement", Value: func(r *Record) any { return r.Placed }, Show: func(r *Record) string {
		var list []string
		for _, e := range r.Placed {
			list = append(list, fmt.Sprintf("%s %.0f ms", e.Target, e.Total))
		}
		return strings.Join(list, ", ")
	}},
	{Name: "shadow_of", Means: "the exchange that this one shadowed", Title: "Shadow of", Value: func(r *Record) any { return r.ShadowOf }},
	{Name: "compared", Means: "how the shadow's answer compares", Kind: Detail, Title: "Compared", Value: func(r *Record) any { return r.Compared }, Show: func(r *Record) string {
		switch c := r.Compared; {
		case c == nil:
			return ""
		case c.Same:
			return "the same words"
		default:
			return fmt.Sprintf("%.0f %% of the words in common; first difference: %s", c.Alike*100, c.Parted)
		}
	}},
	{Name: "prompt_tokens", Means: "tokens of the prompt", Kind: Tokens, Title: "Prompt", Log: true, Attribute: "gen_ai.usage.input_tokens", TokenType: "input", Value: func(r *Record) any { return r.PromptTokens }, Show: func(r *Record) string {
		return shown(r.Asked(), "%d tokens, %d of them cached", r.PromptTokens, r.CachedTokens)
	}},
	{Name: "cached_tokens", Means: "of the prompt, that did not have to be read", Kind: Tokens, Log: true, Attribute: "kindred.cached_tokens", TokenType: "cached", Value: func(r *Record) any { return r.CachedTokens }},
	{Name: "completion_tokens", Means: "tokens of the answers", Kind: Tokens, Title: "Answer", Log: true, Attribute: "gen_ai.usage.output_tokens", TokenType: "output", Value: func(r *Record) any { return r.CompletionTokens }, Show: func(r *Record) string {
		return shown(r.Asked(), "%d tokens, %d of them reasoning", r.CompletionTokens, r.ReasoningTokens)
	}},
	{Name: "reasoning_tokens", Means: "of the answers", Kind: Tokens, TokenType: "reasoning", Value: func(r *Record) any { return r.ReasoningTokens }},
	{Name: "tool_calls", Means: "that the model made", Kind: Count, Title: "Tool calls", Log: true, Value: func(r *Record) any { return r.ToolCalls }},
	{Name: "malformed_tool_calls", Means: "places that look like tool calls and cannot be read", Kind: Count, Title: "Malformed calls", Log: true, Value: func(r *Record) any { return r.MalformedCalls }},
	{Name: "drafted_tokens", Means: "that were put through the network before it was known that they follow", Kind: Tokens, Title: "Drafts", Log: true, Value: func(r *Record) any { return r.DraftedTokens }, Show: func(r *Record) string {
		return shown(r.DraftedTokens > 0, "%d tokens, %d of them accepted", r.DraftedTokens, r.AcceptedTokens)
	}},
	{Name: "accepted_tokens", Means: "of the drafted ones, that did", Kind: Tokens, Log: true, Value: func(r *Record) any { return r.AcceptedTokens }},
	{Name: "dropped_turns", Means: "that were left out, since the conversation was longer than the context", Kind: Count, Title: "Dropped turns", Log: true, Value: func(r *Record) any { return r.DroppedTurns }},
	{Name: "not_enforced", Means: "what of the request's schemas was not enforced", Kind: List, Title: "Not enforced", Log: true, Value: func(r *Record) any { return r.NotEnforced }},
	{Name: "steps", Means: "calls of the model that it took, where tools were run by the gate", Kind: Count, Title: "Steps", Log: true, Attribute: "kindred.steps", Value: func(r *Record) any { return r.Steps }},
	{Name: "bound", Means: "what ended it before its end, where tools were run by the gate", Title: "Ended by", Log: true, Value: func(r *Record) any { return r.Bound }},
	{Name: "tools", Means: "calls that the gate ran in this step", Kind: Detail, Title: "Tools run", Value: func(r *Record) any { return r.Runs }, Show: (*Record).ranTools},
	{Name: "parent", Means: "the exchange that it is a part of", Title: "Part of", Value: func(r *Record) any { return r.Parent }},
	{Name: "job", Means: "the first exchange of the conversation", Title: "Conversation", Value: func(r *Record) any { return r.Job }, Show: func(r *Record) string {
		return shown(r.Step > 1 && r.Job != "", "request %d of %s; %d tokens of the prompt were in the one before", r.Step, r.Job, r.RepeatedTokens)
	}},
	{Name: "step", Means: "which request of the conversation it is, or which step of its parent, from 1", Kind: Count, Value: func(r *Record) any { return r.Step }},
	{Name: "repeated_tokens", Means: "of the prompt, that the one before had too", Kind: Tokens, Value: func(r *Record) any { return r.RepeatedTokens }},
	{Name: "trace", Means: "the id of the trace that it is a part of (W3C Trace Context)", Title: "Trace", Value: func(r *Record) any { return r.Trace }},
	{Name: "cost", Means: "millionths of the currency", Kind: Money, Title: "Cost", Value: func(r *Record) any { return r.Cost }},
	{Name: "queue_ms", Means: "waiting for a place", Kind: Millis, Log: true, Value: func(r *Record) any { return r.Queue }},
	{Name: "load_ms", Means: "loading the model", Kind: Millis, Log: true, Value: func(r *Record) any { return r.Load }},
	{Name: "look_ms", Means: "looking at pictures, of the time for the prompt", Kind: Millis, Value: func(r *Record) any { return r.Look }},
	{Name: "prefill_ms", Means: "reading the prompt", Kind: Millis, Log: true, Value: func(r *Record) any { return r.Prefill }},
	{Name: "first_token_ms", Means: "time to first token, from the beginning; 0 if none came", Kind: Millis, Title: "Time to first token", Log: true, Value: func(r *Record) any { return r.FirstToken }},
	{Name: "took_ms", Means: "duration", Kind: Millis, Title: "Duration", Log: true, Value: func(r *Record) any { return r.Took }},
}

// Find is the field of a name. It panics if there is none: names are written in the program.
func Find(name string) Field {
	for _, f := range Fields {
		if f.Name == name {
			return f
		}
	}
	panic("record: there is no field " + name)
}

// Label is the name of the field as a label of metrics.
func (f Field) Label() string { return strings.ReplaceAll(f.Attribute, ".", "_") }

// Empty reports whether the field says nothing of a record.
func (f Field) Empty(r *Record) bool {
	v := reflect.ValueOf(f.Value(r))
	return v.IsZero() || v.Kind() == reflect.Slice && v.Len() == 0
}

// Cell is the field in one cell of a table for other programs.
func (f Field) Cell(r *Record) string {
	switch v := f.Value(r).(type) {
	case string:
		return v
	case time.Time:
		return v.Format(time.RFC3339Nano)
	case int:
		return strconv.Itoa(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []string:
		return strings.Join(v, "; ")
	case bool:
		return strconv.FormatBool(v)
	default:
		if f.Empty(r) {
			return ""
		}
		raw, err := json.Marshal(v)
		if err != nil {
			return err.Error() // which never happens: it is in the record's JSON too
		}
		return string(raw)
	}
}

// Fact is a field as people are shown it.
type Fact struct {
	Title string `json:"title"`
	Text  string `json:"text"`
}

// Facts are what a record has to say to people.
func (r *Record) Facts() []Fact {
	list := []Fact{}
	for _, f := range Fields {
		if f.Title == "" {
			continue
		}
		text := ""
		switch {
		case f.Show != nil:
			text = f.Show(r)
		case !f.Empty(r):
			text = f.people(r)
		}
		if text != "" {
			list = append(list, Fact{f.Title, text})
		}
	}
	return list
}

func (f Field) people(r *Record) string {
	switch v := f.Value(r).(type) {
	case time.Time:
		return v.Local().Format("2006-01-02 15:04:05.000")
	case int64:
		return fmt.Sprintf("%.6f", float64(v)/1e6)
	case float64:
		return Took(v)
	}
	return f.Cell(r)
}

// Ended says how an exchange ended, or that it has not.
func (r *Record) Ended() string {
	switch {
	case r.State == Open:
		return "in progress"
	case r.State == Done && r.Reason == "length":
		return "length limit reached"
	case r.State == Done && r.Reason != "" && r.Reason != "stop":
		return "complete, " + strings.ReplaceAll(r.Reason, "_", " ")
	case r.State == Done:
		return "complete"
	case r.Code != "":
		return string(r.State) + ": " + r.Code
	}
	return string(r.State)
}

// Route says which model was asked for, and which served the request, if that is another one.
func (r *Record) Route() string {
	route := r.Model
	if r.Answered != "" && r.Answered != route {
		route += " → " + r.Answered
	}
	if r.ShadowOf != "" {
		route += " (shadow)"
	}
	return route
}

// ranTools says which tools were run, how long they took, and which failed.
func (r *Record) ranTools() string {
	var list []string
	for _, run := range r.Runs {
		list = append(list, joined(run.Server+"/"+run.Name+" "+Took(run.Took), ": ", run.Failed))
	}
	return strings.Join(list, "; ")
}

// Took writes milliseconds as people say them.
func Took(ms float64) string {
	switch {
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

// shown is a text, or nothing.
func shown(when bool, format string, args ...any) string {
	if !when {
		return ""
	}
	return fmt.Sprintf(format, args...)
}

// joined are the texts that are not empty.
func joined(first, between string, more ...string) string {
	for _, m := range more {
		if m != "" && first != "" {
			first += between
		}
		first += m
	}
	return first
}

// bracket puts a text between two others, if there is one.
func bracket(before, text, after string) string {
	if text == "" {
		return ""
	}
	return before + text + after
}
