package fleet

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/jwt/v2"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
)

// This file is who comes in: invitations, machines that take one up, and what each may say and hear.

// Joined is a machine that was let in.
type Joined struct {
	Name    string    `json:"name"`
	ID      string    `json:"id"`   // its public key, with which it signs in
	Seal    string    `json:"seal"` // its public key, for which messages to it are sealed
	Since   time.Time `json:"since"`
	Revoked time.Time `json:"revoked,omitzero"`
}

// Invitation is leave for one machine to join, once and until a time.
type Invitation struct {
	ID    string   // by which a machine that comes with it may say no more than its secret
	Hash  [32]byte // of the secret
	Name  string   // of the machine that it is for
	Until time.Time
}

// ErrUnknown is for an invitation that there is not, or not any more.
var ErrUnknown = errors.New("unknown")

// Records keeps which machines were let in, and which may be.
type Records interface {
	// Joined lists the machines that were not revoked.
	Joined(ctx context.Context) ([]Joined, error)
	SaveJoined(ctx context.Context, j Joined) error
	SaveInvitation(ctx context.Context, i Invitation) error
	// Invitation finds one by its id. TakeInvitation removes it too, for the first who asks; the error is ErrUnknown for others.
	Invitation(ctx context.Context, id string) (Invitation, error)
	TakeInvitation(ctx context.Context, id string) (Invitation, error)
}

// Token is what a machine joins with: the id of the invitation, its secret, and the key that it seals messages to the gate for, so that
// nobody on the way learns the secret.
type Token struct{ ID, Secret, Seal string }

func (t Token) String() string { return t.ID + "." + t.Secret + "." + t.Seal }

// ParseToken reads a token.
func ParseToken(text string) (t Token, err error) {
	parts := strings.Split(strings.TrimSpace(text), ".")
	if len(parts) != 3 || !random(parts[0]) || !random(parts[1]) || !nkeys.IsValidPublicCurveKey(parts[2]) {
		return t, errors.New("the token is mistyped or cut off: it has three parts with dots between them, as \"kindred machines invite\" prints it")
	}
	return Token{parts[0], parts[1], parts[2]}, nil
}

// random reports whether a text can be one of [rand.Text]'s.
func random(s string) bool {
	return s != "" && len(s) <= 64 && strings.Trim(s, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") == ""
}

// name is what a machine may be called: what stands before the slash in the names of its models.
var name = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,31}$`)

// Bounds of invitations.
const (
	LeastValid = time.Second
	MostValid  = 24 * time.Hour
)

// Invite gives a token with which one machine can join under a name, once, for so long.
func (h *Hub) Invite(ctx context.Context, of string, valid time.Duration) (token Token, until time.Time, err error) {
	if !name.MatchString(of) {
		return token, until, exchange.InvalidParam("name", "name is %q; a machine's name has 1 to 32 small letters, digits, \".\", \"_\" or \"-\"", of)
	}
	if valid < LeastValid || valid > MostValid {
		return token, until, exchange.InvalidParam("valid", "valid is %s; an invitation is valid for 1s to 24h", valid)
	}
	if _, there := h.Machine(of); there {
		return token, until, exchange.InvalidParam("name", "the machine %q has joined already; revoke it first (\"kindred machines revoke\"), or choose another name", of)
	}
	token, until = Token{ID: rand.Text(), Secret: rand.Text(), Seal: h.keys.sealPublic}, time.Now().Add(valid)
	return token, until, h.opts.Records.SaveInvitation(ctx, Invitation{ID: token.ID, Hash: sha256.Sum256([]byte(token.Secret)), Name: of, Until: until})
}

// permit is what somebody may say and hear who signs in.
type permit struct {
	name               string
	publish, subscribe []string
	lasts              time.Duration // 0 for as long as the connection does
}

// inbox is where one who has an invitation hears the answer.
func inbox(invitation string) string { return "_INBOX_" + invitation }

// entrant says what one may who signs in: a machine by its key, or one that has an invitation, who may do nothing but take it up. nonce is
// what a key has to have signed.
func (h *Hub) entrant(ctx context.Context, c jwt.ConnectOptions, nonce string) (p permit, ok bool) {
	switch {
	case c.Nkey != "":
		h.mu.Lock()
		m, known := h.machines[c.Nkey]
		h.mu.Unlock()
		if !known {
			return p, false
		}
		key, err := nkeys.FromPublicKey(c.Nkey)
		if err != nil {
			return p, false
		}
		sig, err := signature(c.SignedNonce)
		if err != nil || key.Verify([]byte(nonce), sig) != nil {
			return p, false
		}
		id := m.joined.ID
		return permit{id, []string{helloSubject(id), eventSubject(id, "*", "*")}, []string{beginSubject(id), ackSubject(id, "*")}, h.admits}, true
	case random(c.Token):
		i, err := h.opts.Records.Invitation(ctx, c.Token)
		return permit{"guest " + c.Token, []string{enrolSubject}, []string{inbox(c.Token) + ".>"}, time.Minute}, err == nil && time.Now().Before(i.Until)
	}
	return p, false
}

// Bounds of what those may that are not gates, by NATS.
const (
	mostSubscriptions = 16
	mostPayload       = 1 << 20 // bytes of a message
)

// admit answers a NATS server that asks who may sign in.
func (h *Hub) admit(msg *nats.Msg) {
	ask, err := jwt.DecodeAuthorizationRequestClaims(string(msg.Data))
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	answer := jwt.NewAuthorizationResponseClaims(ask.UserNkey)
	answer.Audience = ask.Server.ID
	if p, ok := h.entrant(ctx, ask.ConnectOptions, ask.ClientInformation.Nonce); ok {
		user := jwt.NewUserClaims(ask.UserNkey)
		user.Audience, user.Name = globalAccount, p.name
		user.Pub.Allow, user.Sub.Allow = p.publish, p.subscribe
		user.Limits.Subs, user.Limits.Payload = mostSubscriptions, mostPayload
		if p.lasts > 0 {
			user.Expires = time.Now().Add(p.lasts).Unix()
		}
		if answer.Jwt, err = user.Encode(h.keys.issuer); err != nil {
			answer.Error = err.Error()
		}
	} else {
		answer.Error = "not let in"
	}
	text, err := answer.Encode(h.keys.issuer)
	if err != nil {
		h.opts.Log.Error("who may sign in to NATS could not be answered", "error", err.Error())
		return
	}
	_ = msg.Respond([]byte(text)) // a server that has gone asks no more
}

// enrolment is what a machine says to join, and entry what it is told.
type (
	enrolment struct {
		Invitation string `json:"invitation"`
		Machine    string `json:"machine"` // its public key for sealing
		Sealed     []byte `json:"sealed"`  // an application
	}
	application struct {
		Secret  string `json:"secret"`
		ID      string `json:"id"`
		Proof   string `json:"proof"` // that it has the key of the id: the secret, signed
		Version int    `json:"version"`
	}
	entry struct {
		Name  string `json:"name,omitempty"`
		Error string `json:"error,omitempty"`
	}
)

// enrol lets a machine in.
func (h *Hub) enrol(msg *nats.Msg) {
	var e enrolment
	if json.Unmarshal(msg.Data, &e) != nil || !nkeys.IsValidPublicCurveKey(e.Machine) {
		return
	}
	out := entry{}
	j, err := h.letIn(e)
	if out.Name = j.Name; err != nil {
		out.Error = err.Error()
	}
	if raw, err := seal(h.keys.seal, e.Machine, out); err == nil {
		_ = msg.Respond(raw) // one that has gone hears nothing
	}
}

var errToken = errors.New("the token is not valid: it was used, it has expired, or it is of another gate; \"kindred machines invite\" gives another")

func (h *Hub) letIn(e enrolment) (Joined, error) {
	var a application
	if err := unseal(h.keys.seal, e.Machine, e.Sealed, &a); err != nil {
		return Joined{}, err
	}
	if err := compatible(a.Version); err != nil {
		return Joined{}, err
	}
	if !nkeys.IsValidPublicUserKey(a.ID) {
		return Joined{}, errNoKey
	}
	key, err := nkeys.FromPublicKey(a.ID)
	if err != nil {
		return Joined{}, err
	}
	proof, err := signature(a.Proof)
	if err != nil || key.Verify([]byte(a.Secret), proof) != nil {
		return Joined{}, errors.New("the machine does not have the key that it says it has")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	i, err := h.opts.Records.Invitation(ctx, e.Invitation)
	if err != nil || time.Now().After(i.Until) {
		return Joined{}, errToken
	}
	hash := sha256.Sum256([]byte(a.Secret))
	if subtle.ConstantTimeCompare(hash[:], i.Hash[:]) != 1 {
		_, _ = h.opts.Records.TakeInvitation(ctx, e.Invitation) // somebody guesses: who was invited has the whole token
		h.opts.Log.Warn("an invitation was withdrawn, since somebody came with a wrong token for it", "name", i.Name)
		return Joined{}, errToken
	}
	if g := h.gates.Load(); g != nil {
		if err := g.claim(ctx, e.Invitation); err != nil {
			return Joined{}, errToken
		}
	}
	if i, err = h.opts.Records.TakeInvitation(ctx, e.Invitation); err != nil {
		return Joined{}, errToken
	}
	j := Joined{Name: i.Name, ID: a.ID, Seal: e.Machine, Since: time.Now().UTC().Truncate(time.Second)}
	h.mu.Lock()
	taken := slices.ContainsFunc(h.list(), func(m *Machine) bool { return m.Name() == j.Name || m.joined.ID == j.ID })
	h.mu.Unlock()
	if taken {
		return Joined{}, fmt.Errorf("a machine %q has joined meanwhile; have this one invited under another name", j.Name)
	}
	if err := h.opts.Records.SaveJoined(ctx, j); err != nil {
		h.opts.Log.Error("a machine could not be let in", "name", j.Name, "error", err.Error())
		return Joined{}, errors.New("the gate cannot keep who has joined; its log says why")
	}
	h.take(j)
	h.opts.Log.Info("a machine has joined", "name", j.Name, "id", j.ID)
	h.changed()
	return j, nil
}

// Revoke takes a machine's leave away. What it is doing ends.
func (h *Hub) Revoke(ctx context.Context, of string) error {
	m, ok := h.Machine(of)
	if !ok {
		return exchange.Errorf(exchange.NotFound, "machine_not_found", "no machine %q has joined; \"kindred machines list\" shows those that have", of)
	}
	j := m.joined
	j.Revoked = time.Now().UTC().Truncate(time.Second)
	if err := h.opts.Records.SaveJoined(ctx, j); err != nil {
		return err
	}
	h.drop(j.ID)
	h.changed()
	return nil
}

// Refresh takes over who has joined and who was revoked from the records, after another gate has changed them.
func (h *Hub) Refresh(ctx context.Context) error {
	list, err := h.opts.Records.Joined(ctx)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, j := range list {
		there[j.ID] = true
		h.take(j)
	}
	for _, m := range h.Machines() {
		if !there[m.joined.ID] {
			h.drop(m.joined.ID)
		}
	}
	h.changed()
	return nil
}

// take knows a machine from now on.
func (h *Hub) take(j Joined) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.machines[j.ID] == nil {
		h.machines[j.ID] = newMachine(h, j)
	}
}

// drop ends all that goes on with a machine.
func (h *Hub) drop(id string) {
	h.mu.Lock()
	m := h.machines[id]
	delete(h.machines, id)
	h.mu.Unlock()
	if m != nil {
		m.gone("it was revoked")
		h.disconnect(id)
	}
}

// signature reads a signature as NATS clients write it, with or without padding.
func signature(text string) ([]byte, error) {
	if sig, err := base64.RawURLEncoding.DecodeString(text); err == nil {
		return sig, nil
	}
	return base64.StdEncoding.DecodeString(text)
}

var errNoKey = errors.New("this is no public key of a machine")
