// Package fleet connects machines that have models with gates that have applications, by connections that the machines make: a machine
// behind a router opens no port and needs no address.
//
// Work goes over NATS: servers that run already, or one that the gate runs itself. A [Hub] is the gate's side: it lets machines in, knows what
// they offer, and gives them work. A [Member] is a machine's side. Requests and events go in the neutral form ([exchange.Request.Encode]),
// sealed for the one who is to read them, so that whoever carries them sees neither prompts nor answers.
package fleet

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
)

// Version is that of the protocol. Both sides have to be of one version, or one apart.
const Version = 1

// Times of the protocol.
const (
	helloEvery    = time.Second      // a machine says what it has
	helloSoonest  = helloEvery / 10  // what comes more often, beyond a few, is not looked at
	prefixesEvery = 10 * time.Second // at the latest, what prompts it knows
	lostAfter     = 4 * time.Second  // without a word from it, it counts as gone
	ackEvery      = time.Second      // at the latest, while an answer is in progress
	looksPerAck   = 4                // how often in that time a gate looks whether the machine is still there
	leftAfter     = 10 * time.Second // without an ack, a machine ends an answer that nobody takes
	acceptWithin  = 5 * time.Second  // a machine has to say that it has a request
	askedFor      = 30 * time.Second // that a message with a request may be taken, by the clock of who is asked
)

// Bounds of the protocol.
const (
	partBytes   = 256 << 10 // of a request, or of an answer, in a message
	mostRequest = 64 << 20  // bytes of a request, encoded
	mostComing  = 256 << 20 // bytes of requests of which not all parts have come, at a machine
	mostEvent   = 64 << 20  // bytes of one event, encoded
	window      = 64        // messages of an answer that may wait for an ack
	batchBytes  = 64 << 10  // of events in a message, if they come faster than they are taken
	mostModels  = 1000      // of a machine
	fewHellos   = 10        // of a machine at once: one that stops says so, whatever it said just before
	mostSeen    = 100_000   // requests that are remembered, so that none is done twice
	mostText    = 2000      // bytes of what a machine says for people
)

// Subjects, each with the id of the machine. Events go to one gate, and name it.
func helloSubject(id string) string          { return "fleet." + id + ".hello" }
func beginSubject(id string) string          { return "fleet." + id + ".begin" }
func ackSubject(id, x string) string         { return "fleet." + id + ".ack." + x }
func eventSubject(id, gate, x string) string { return "fleet." + id + ".event." + gate + "." + x }

const enrolSubject = "fleet.enrol"

// Model is a model that a machine offers.
type Model struct {
	Name    string `json:"name"`
	Context int    `json:"context_length,omitempty"`
	Use     string `json:"use,omitempty"`
	Digest  string `json:"digest,omitempty"` // of its files
	Sees    bool   `json:"sees,omitempty"`
	Tools   bool   `json:"tools,omitempty"`

	Loaded  bool          `json:"loaded,omitempty"`
	Load    time.Duration `json:"load_ns,omitempty"`  // that loading it took last
	Queued  int           `json:"queued,omitempty"`   // requests, in progress and waiting, whoever asked
	Prefill float64       `json:"prefill,omitempty"`  // prompt tokens a second, a moving mean
	Decode  float64       `json:"decode,omitempty"`   // tokens of an answer a second, likewise
	Known   []byte        `json:"prefixes,omitempty"` // beginnings of prompts that it has read, as placement.Known writes them; nil for as before
}

// Hello is what a machine says of itself.
type Hello struct {
	Version int           `json:"version"`
	Start   string        `json:"start"` // a word that is another one each time the machine is started
	Gate    string        `json:"gate_version"`
	Time    time.Time     `json:"time"`
	Line    time.Duration `json:"line_ns"` // to the server that it is connected to, there and back
	Models  []Model       `json:"models"`
	AtOnce  int           `json:"at_once"` // answers; 0 for no limit
	Open    int           `json:"open"`    // for gates
	Away    string        `json:"away,omitempty"`
	Ends    bool          `json:"ends,omitempty"` // it is its last word: it was stopped
}

// Work says what a request is for, beside what it asks.
type Work struct {
	Model string   `json:"model"`
	Owner string   `json:"owner,omitempty"` // whose turn it is, by a word that tells nothing of who that is
	Share int      `json:"share,omitempty"`
	Via   []string `json:"via,omitempty"`
	Trace string   `json:"trace,omitempty"`
}

// Kinds of work.
const (
	answerKind = "answer"
	embedKind  = "embed"
	rankKind   = "rank"
)

// begin is a request, or a part of one. The parts follow each other.
type begin struct {
	Work
	Line  string `json:"line"` // a random word by which this request is known between the two
	Gate  string `json:"gate"` // that events go to
	Kind  string `json:"kind"`
	Key   []byte `json:"key"` // that acks and events of it are sealed with
	Part  int    `json:"part"`
	Parts int    `json:"parts"`
	Doc   []byte `json:"doc"`
	// Until is when this counts as said long ago, by the clock of who is asked. Whoever carries it could say it once more.
	Until time.Time `json:"until"`
}

// ack says how many messages of an answer have come. A machine sends those after them again if that is asked for, and ends the answer if it is
// cancelled.
type ack struct {
	Received int  `json:"received"`
	Again    bool `json:"again,omitempty"`
	Cancel   bool `json:"cancel,omitempty"`
}

// message is the next bytes of an answer: events as JSON, each on a line. Messages are numbered from 1.
type message struct {
	Number int      `json:"number"`
	Data   []byte   `json:"data,omitempty"`
	Error  *failure `json:"error,omitempty"`
	Ended  bool     `json:"ended,omitempty"`
	// Reading is how many tokens of the prompt were read, and Part that the request is still coming; they have no number, and may be lost.
	Reading int  `json:"reading,omitempty"`
	Part    bool `json:"part,omitempty"`
}

// failure is an error as it goes over the line.
type failure struct {
	Kind    exchange.Kind `json:"kind"`
	Code    string        `json:"code"`
	Message string        `json:"message"`
	Param   string        `json:"param,omitempty"`
	Retry   time.Duration `json:"retry_ns,omitempty"`
}

func failureOf(err error) *failure {
	e := exchange.AsError(err)
	return &failure{e.Kind, e.Code, e.Message, e.Param, e.RetryAfter}
}

// believable are the kinds of errors that a machine can have; others would be about the client's key, which it knows nothing of.
var believable = []exchange.Kind{exchange.Internal, exchange.Invalid, exchange.NotFound, exchange.TooLarge, exchange.Limited, exchange.Unavailable, exchange.Refused, exchange.Looped, exchange.Canceled}

// err is the error that a machine has told of.
func (f *failure) err() error {
	cut := func(s string) string { return strings.ToValidUTF8(s[:min(len(s), mostText)], "") }
	e := &exchange.Error{Kind: f.Kind, Code: cut(f.Code), Message: cut(f.Message), Param: cut(f.Param), RetryAfter: min(max(0, f.Retry), time.Hour)}
	if !slices.Contains(believable, e.Kind) {
		e.Kind = exchange.Unavailable
	}
	return e
}

// seal writes a value for the one who has the other key, who can tell that it is from this one.
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

// sealer seals what is said about one request. Curves would take as long for each message as a small model for a token.
type sealer struct{ cipher.AEAD }

// keyBytes is the length of the key of a sealer.
const keyBytes = 32

func newKey() []byte {
	key := make([]byte, keyBytes)
	_, _ = rand.Read(key) // it never fails
	return key
}

func newSealer(key []byte) (sealer, error) {
	if len(key) != keyBytes {
		return sealer{}, errors.New("the key of a request has the wrong length")
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return sealer{}, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	return sealer{aead}, err
}

// seal writes a value that goes over a subject, for which alone it holds.
func (s sealer) seal(subject string, v any) ([]byte, error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return s.Seal(nil, nil, raw, []byte(subject)), nil
}

func (s sealer) unseal(subject string, data []byte, v any) error {
	raw, err := s.Open(nil, nil, data, []byte(subject))
	if err != nil {
		return fmt.Errorf("%w: %w", errForged, err)
	}
	return json.Unmarshal(raw, v)
}

// compatible says whether a machine's version can be talked to.
func compatible(version int) error {
	switch {
	case version < Version-1:
		return fmt.Errorf("the machine speaks version %d of the protocol, the gate %d; install a newer version on the machine", version, Version)
	case version > Version+1:
		return fmt.Errorf("the machine speaks version %d of the protocol, the gate %d; install a newer version on the gate", version, Version)
	}
	return nil
}
