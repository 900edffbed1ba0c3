// Package kept is what is kept of requests in the response style: the form in which a store has it.
package kept

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// Response is a response that is kept.
type Response struct {
	ID         string
	Key        string // the id of the key that asked
	Created    time.Time
	Ended      bool
	Background bool
	Previous   string          // the response that this one goes on from; empty for none
	Input      json.RawMessage // the list of items that were sent
	Body       json.RawMessage // the response
	Events     json.RawMessage // the list of its events
}

// ErrMissing is the error of Records for an id that is not there.
var ErrMissing = errors.New("no such response is stored")

// Records keeps stored responses.
type Records interface {
	// PutResponse keeps a response, in the place of one with the same id.
	PutResponse(ctx context.Context, r Response) error
	// Response returns a response, or ErrMissing.
	Response(ctx context.Context, id string) (Response, error)
	// DropResponse removes a response, or returns ErrMissing.
	DropResponse(ctx context.Context, id string) error
	// DropResponsesBefore removes responses that are older.
	DropResponsesBefore(ctx context.Context, t time.Time) error
	// UnendedResponses lists the responses that have not ended.
	UnendedResponses(ctx context.Context) ([]Response, error)
}
