// Package kept is what is kept of exchanges, and of responses, in the form in which a store has it.
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
	Payer      string // the key whose space it takes, where that is another
	Created    time.Time
	Ended      bool
	Background bool
	Previous   string          // the response that this one goes on from; empty for none
	Input      json.RawMessage // the list of items that were sent
	Body       json.RawMessage // the response
	Events     json.RawMessage // the list of its events
	Shared     bool            // it is work that other gates know of
	Loop       json.RawMessage `json:",omitempty"` // how far its steps have come, from where they can go on; nil for one without
}

// Errors of Records.
var (
	ErrMissing = errors.New("no such response is stored")
	// ErrDamaged is for a response that is there, but cannot be read.
	ErrDamaged = errors.New("the stored response is damaged")
	// ErrNoRoom is for a response that alone takes more than its key may store.
	ErrNoRoom = errors.New("the response is larger than all that its key may store")
)

// Limits are how much is kept.
type Limits struct {
	Age   time.Duration // after which a response is removed
	Space int64         // in bytes, for the responses of each key; the oldest make room for new ones
}

// Work is a response in the background, as whoever carries on with it needs it.
type Work struct {
	ID      string          `json:"id"`
	Key     string          `json:"key"`     // identifier of the key that asked
	Created time.Time       `json:"created"` // when
	Body    json.RawMessage `json:"body"`    // of the request
	Seed    int64           `json:"seed"`    // of the sampling, so that doing it again gives the same
	Taken   int             `json:"-"`       // how often a gate has taken it over from one that had gone, this time included
}

// Queue is work that is done whatever becomes of the gate that has begun it. Records may have one.
type Queue interface {
	// AddWork has work be done, by this gate or, if that ends, by another: shared reports that others know of it when AddWork returns.
	AddWork(ctx context.Context, w Work) (shared bool, err error)
	// WorkDone says that work needs not be done any more.
	WorkDone(id string)
	// FollowWork has do carry on with work that nobody does any more, until ctx is done: what is known of when it is called, before it returns, and
	// what comes later. do returns when it has begun; WorkDone tells of its end.
	FollowWork(ctx context.Context, do func(ctx context.Context, w Work) error)
}

// Records keeps stored responses.
type Records interface {
	// PutResponse keeps a response, in the place of one with the same id. The error is ErrNoRoom if it cannot have the space.
	PutResponse(ctx context.Context, r Response) error
	// Response returns a response, ErrMissing, or ErrDamaged.
	Response(ctx context.Context, id string) (Response, error)
	// DropResponse removes a response, or returns ErrMissing.
	DropResponse(ctx context.Context, id string) error
	// PruneResponses removes those that are too old.
	PruneResponses(ctx context.Context, now time.Time) error
	// UnendedResponses lists the responses that have not ended. Those that are damaged are left out and count as ended from then on;
	// their ids are returned.
	UnendedResponses(ctx context.Context) (list []Response, damaged []string, err error)
}
