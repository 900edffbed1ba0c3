// Package tool is what a model may have called and the gate runs itself: tools by their names, the servers that offer them, and how a call is
// made and bounded. It knows no protocol; package mcp and package web do.
package tool

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"
)

// Tool is something that a server offers.
type Tool struct {
	Server      string          `json:"server"`
	Name        string          `json:"name"`
	Title       string          `json:"title,omitempty"`
	Description string          `json:"description"`
	Schema      json.RawMessage `json:"schema"`    // JSON Schema of the arguments, which are an object
	ReadOnly    bool            `json:"read_only"` // by the server's own word: it changes nothing
}

// ID is how the gate's surfaces name a tool: its server, a slash, and its own name.
func (t Tool) ID() string { return t.Server + "/" + t.Name }

// Bounds of what a server lists.
const (
	MostTools       = 256      // of a server
	LongestSchema   = 64 << 10 // bytes
	longDescription = 8 << 10  // bytes; what is longer is cut
	longName        = 128
)

var nameForm = regexp.MustCompile(`^[A-Za-z0-9_./-]{1,128}$`)

// Check reports why a tool that a server lists cannot be offered to a model.
func (t *Tool) Check() error {
	switch {
	case !nameForm.MatchString(t.Name):
		return fmt.Errorf("the name %.60q has something other than letters, digits, \"_\", \"-\", \".\" and \"/\", or is not 1 to %d bytes long", t.Name, longName)
	case len(t.Schema) > LongestSchema:
		return fmt.Errorf("the schema of %s has %d bytes; %d are possible", t.Name, len(t.Schema), LongestSchema)
	}
	var object map[string]json.RawMessage
	if err := json.Unmarshal(t.Schema, &object); err != nil || object == nil {
		return fmt.Errorf("the schema of %s is no JSON object", t.Name)
	}
	if kind, said := object["type"]; said && string(kind) != `"object"` {
		return fmt.Errorf("the schema of %s is of type %.40s; arguments are an object", t.Name, kind)
	}
	t.Description = valid(t.Description, longDescription)
	t.Title = valid(t.Title, longName)
	return nil
}

// valid is UTF-8 of at most so many bytes.
func valid(s string, most int) string {
	s = strings.ToValidUTF8(s, "\uFFFD")
	if len(s) <= most {
		return s
	}
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most]
}

// Listed are the tools of a list that can be offered, with their server, and why the others cannot.
func Listed(server string, list []Tool) (usable []Tool, skipped []string) {
	seen := map[string]bool{}
	for i, t := range list {
		if i == MostTools {
			return usable, append(skipped, fmt.Sprintf("%d tools beyond the first %d are left out", len(list)-MostTools, MostTools))
		}
		t.Server = server
		if seen[t.Name] {
			skipped = append(skipped, fmt.Sprintf("a second tool of the name %.60q is left out", t.Name))
			continue
		}
		seen[t.Name] = true
		if err := t.Check(); err != nil {
			skipped = append(skipped, err.Error())
			continue
		}
		usable = append(usable, t)
	}
	return usable, skipped
}

// Kind is what went wrong with a call.
type Kind string

// The kinds of failures, in the standard's words.
const (
	Protocol  Kind = "protocol_error"       // the server did not answer as the protocol has it, or not at all
	HTTP      Kind = "http_error"           // it answered with a status that is no success
	Execution Kind = "tool_execution_error" // the tool says that it failed
)

// Failure is why a call gave no result. The model is told of it.
type Failure struct {
	Kind    Kind   `json:"type"`
	Code    int    `json:"code,omitempty"` // of the protocol or of HTTP
	Message string `json:"message"`
	// Inside says that the message is about how the server is reached, which is for the operator to know.
	Inside bool `json:"-"`
}

func (f *Failure) Error() string { return f.Message }

// Failed makes a failure of any error.
func Failed(err error) *Failure {
	var f *Failure
	switch {
	case errors.As(err, &f):
		return f
	case errors.Is(err, context.DeadlineExceeded):
		return &Failure{Kind: Protocol, Message: "the tool took too long and was given up"}
	case errors.Is(err, context.Canceled):
		return &Failure{Kind: Protocol, Message: "the call was cancelled"}
	}
	return &Failure{Kind: Protocol, Message: valid(err.Error(), longDescription), Inside: true}
}

// Secretless is an error without texts that must not be told, such as the values of headers.
func Secretless(err error, secrets map[string]string) error {
	if err == nil {
		return nil
	}
	hide := func(text string) string {
		for _, secret := range secrets {
			if len(secret) > 3 {
				text = strings.ReplaceAll(text, secret, "…")
			}
		}
		return text
	}
	text := hide(err.Error())
	var f *Failure
	switch {
	case text == err.Error():
		return err
	case errors.As(err, &f):
		return &Failure{f.Kind, f.Code, hide(f.Message), f.Inside}
	}
	return errors.New(text)
}

// Result is what a call gave: a text for the model.
type Result struct {
	Text    string
	Bytes   int      // before it was cut
	Failure *Failure // nil if the call succeeded; the text is what the model is told then
	Took    time.Duration
}

// Bound makes a result a text of at most so many bytes, in valid UTF-8. What is longer is cut in the middle, since both ends of an output
// tell most; a line says how much is missing.
func (r Result) Bound(most int) Result {
	r.Bytes = max(r.Bytes, len(r.Text))
	r.Text = strings.ToValidUTF8(r.Text, "\uFFFD")
	if len(r.Text) <= most {
		return r
	}
	head, tail := most*2/3, len(r.Text)-most/3
	for head > 0 && !utf8.RuneStart(r.Text[head]) {
		head--
	}
	for tail < len(r.Text) && !utf8.RuneStart(r.Text[tail]) {
		tail++
	}
	r.Text = fmt.Sprintf("%s\n[… %d bytes are left out here …]\n%s", r.Text[:head], tail-head, r.Text[tail:])
	return r
}

// State is how a server is.
type State string

// The states of servers.
const (
	Stopped State = "stopped" // not needed now; it starts with the next call
	Running State = "running"
	Down    State = "failed"
)

// Status is what is known of a server.
type Status struct {
	Kind    string    `json:"kind"` // stdio, http or web
	State   State     `json:"state"`
	Since   time.Time `json:"since,omitzero"`
	Error   string    `json:"error,omitempty"`   // why it failed last
	Tail    []string  `json:"tail,omitempty"`    // the last lines that it wrote to its standard error
	Skipped []string  `json:"skipped,omitempty"` // tools that it lists and that cannot be offered, each with the reason
}

// Server offers tools. It is safe for concurrent use.
type Server interface {
	// Tools lists what it offers, starting it if it does not run.
	Tools(ctx context.Context) ([]Tool, error)
	// Call has a tool called with arguments that are a JSON object. What the tool itself has to say of a failure is a Failure of kind
	// Execution.
	Call(ctx context.Context, name string, arguments json.RawMessage) (Result, error)
	Status() Status
	Close() error
}

// Unusable is a server that cannot be asked, since it is not set up as it must be.
func Unusable(why error) Server { return unusable{why} }

type unusable struct{ why error }

func (u unusable) Tools(context.Context) ([]Tool, error) { return nil, u.why }
func (u unusable) Call(context.Context, string, json.RawMessage) (Result, error) {
	return Result{}, u.why
}
func (u unusable) Status() Status { return Status{State: Down, Error: u.why.Error()} }
func (u unusable) Close() error   { return nil }
