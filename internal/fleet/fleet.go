// Package fleet connects machines that have models with gates that have applications, by connections that the machines make: a machine
// behind a router opens no port and needs no address.
//
// Work goes over NATS. A [Hub] is the gate's side: it lets machines in, knows what they offer, and gives them work. A [Member] is a
// machine's side. Requests and events go in the neutral form ([exchange.Request.Encode]), sealed for the one who is to read them, so that whoever
// carries them sees neither prompts nor answers.
package fleet

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
)

// Version is that of the protocol. Both sides have to be of one version, or one apart.
const Version = 1

// Times of the protocol.
const (
	helloEvery   = time.Second      // a machine says what it has
	lostAfter    = 5 * time.Second  // without a word from it, it counts as gone
	ackEvery     = time.Second      // at the latest, while an answer is under way
	leftAfter    = 10 * time.Second // without an ack, a machine ends an answer that nobody takes
	acceptWithin = 5 * time.Second  // a machine has to say that it has a request
)

// Bounds of the protocol.
const (
	partBytes   = 256 << 10 // of a request, in a message
	mostRequest = 64 << 20  // bytes of a request
	window      = 64        // messages of an answer that may wait for an ack
	batchBytes  = 64 << 10  // of events in a message
	mostModels  = 1000
)

// Subjects, each with the id of the machine.
func helloSubject(id string) string    { return "fleet." + id + ".hello" }
func beginSubject(id string) string    { return "fleet." + id + ".begin" }
func ackSubject(id, x string) string   { return "fleet." + id + ".ack." + x }
func eventSubject(id, x string) string { return "fleet." + id + ".event." + x }

const enrolSubject = "fleet.enrol"

// Model is a model that a machine offers.
type Model struct {
	Name    string `json:"name"`
	Context int    `json:"context_length,omitempty"`
	Use     string `json:"use,omitempty"`
	Digest  string `json:"digest,omitempty"` // of its files
	Loaded  bool   `json:"loaded,omitempty"`
	Sees    bool   `json:"sees,omitempty"`
	Tools   bool   `json:"tools,omitempty"`
}

// Hello is what a machine says of itself.
type Hello struct {
	Version int       `json:"version"`
	Gate    string    `json:"gate_version"`
	Time    time.Time `json:"time"`
	Models  []Model   `json:"models"`
	AtOnce  int       `json:"at_once"` // answers; 0 for no limit
	Open    int       `json:"open"`
	Away    string    `json:"away,omitempty"` // why it takes no work now
}

// begin is a request, or a part of one. The parts follow each other.
type begin struct {
	Exchange string `json:"exchange"`
	Kind     string `json:"kind"` // answer, embed or rank
	Model    string `json:"model"`
	Owner    string `json:"owner"` // whose turn it is, by a number that tells nothing of who that is
	Share    int    `json:"share,omitempty"`
	Part     int    `json:"part"`
	Parts    int    `json:"parts"`
	Doc      []byte `json:"doc"`
}

// ack says how many messages of an answer have come. A machine sends those after them again if that is asked for, and no more of them if the answer is
// cancelled.
type ack struct {
	Received int  `json:"received"`
	Again    bool `json:"again,omitempty"`
	Cancel   bool `json:"cancel,omitempty"`
}

// message is some events of an answer, which are numbered from 1.
type message struct {
	Number int               `json:"number"`
	Events []json.RawMessage `json:"events,omitempty"`
	Result json.RawMessage   `json:"result,omitempty"` // of embed and rank
	Error  *failure          `json:"error,omitempty"`
	Ended  bool              `json:"ended,omitempty"`
	// Reading is how many tokens of the prompt were read; it has no number, and may be lost.
	Reading int `json:"reading,omitempty"`
}

// failure is an error as it goes over the line.
type failure struct {
	Kind    exchange.Kind `json:"kind"`
	Code    string        `json:"code"`
	Message string        `json:"message"`
	Param   string        `json:"param,omitempty"`
}

func failureOf(err error) *failure {
	e := exchange.AsError(err)
	return &failure{e.Kind, e.Code, e.Message, e.Param}
}

func (f *failure) err() error {
	return &exchange.Error{Kind: f.Kind, Code: f.Code, Message: f.Message, Param: f.Param}
}

// seal writes a value for the one who has the other key.
func seal(mine nkeys.KeyPair, to string, v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return mine.Seal(raw, to)
}

// errForged is for what was not written by whom it should be.
var errForged = errors.New("a message was not sealed by who should have sent it")

// unseal reads what the other side has sealed.
func unseal(mine nkeys.KeyPair, from string, data []byte, v any) error {
	raw, err := mine.Open(data, from)
	if err != nil {
		return fmt.Errorf("%w: %w", errForged, err)
	}
	return json.Unmarshal(raw, v)
}

// idOf is what a machine is called in subjects: its public key, which has no dots.
func idOf(public string) (string, error) {
	if !nkeys.IsValidPublicUserKey(public) || strings.ContainsAny(public, ".*> ") {
		return "", errors.New("this is no public key of a machine")
	}
	return public, nil
}
