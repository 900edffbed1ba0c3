package exchange

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Kind is what sort of failure an [Error] is. It decides how a server answers.
type Kind int

// The kinds of failure.
const (
	Internal         Kind = iota // a fault of ours
	Invalid                      // the request is wrong
	Unauthenticated              // no key, or one that is not valid
	Forbidden                    // the key may not do that
	NotFound                     // there is no such thing
	MethodNotAllowed             // the path takes other methods
	TooLarge                     // the body is longer than is accepted
	Limited                      // too much at once; later it may work
	Unavailable                  // the model or the gate cannot answer now
	Refused                      // a server elsewhere does not serve the gate, and will not if it is asked again
	Misdirected                  // the request was meant for another host
	Looped                       // the request came back to a gate that had passed it on
	Canceled                     // the client went away
)

// Error is a failure that is told to the client.
type Error struct {
	Kind       Kind
	Code       string // a fixed word for programs, such as "model_not_found"
	Param      string // the field of the request at fault, if it is one
	Message    string // for a person: what was wrong, with what, and what to do
	RetryAfter time.Duration
	Err        error // what is behind it, for the log; not told to the client
}

func (e *Error) Error() string {
	if e.Err != nil {
		return fmt.Sprintf("%s: %v", e.Message, e.Err)
	}
	return e.Message
}

func (e *Error) Unwrap() error { return e.Err }

// Conversation is the Param of errors about the turns or the prompt as a whole. Styles have names of their own for it.
const Conversation = "messages"

// Errorf makes an error without a parameter.
func Errorf(kind Kind, code, format string, args ...any) *Error {
	return &Error{Kind: kind, Code: code, Message: message(format, args)}
}

// InvalidParam makes the error for a field of the request that is wrong.
func InvalidParam(param, format string, args ...any) *Error {
	return &Error{Kind: Invalid, Code: "invalid_value", Param: param, Message: message(format, args)}
}

// longText is how much of a text of the client's a message repeats whole, in bytes; of a longer one it has the beginning.
const longText = 2000

func message(format string, args []any) string {
	args = slices.Clone(args)
	for i, a := range args {
		if s, ok := a.(string); ok && len(s) > longText {
			args[i] = fmt.Sprintf("%s… (%d bytes)", strings.ToValidUTF8(s[:longText/10], ""), len(s))
		}
	}
	return fmt.Sprintf(format, args...)
}

// AsError gives err as an [*Error]; one that is none becomes Internal, with a message that tells nothing.
func AsError(err error) *Error {
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return &Error{Kind: Internal, Code: "internal_error", Message: "the gate failed to answer; its log has the details under the request id", Err: err}
}
