package fleet

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
)

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
	Hash  [32]byte // of the token
	Name  string
	Until time.Time
}

// ErrUnknown is for an invitation that there is not, or not any more.
var ErrUnknown = errors.New("unknown")

// Records keeps which machines were let in, and which may be.
type Records interface {
	Joined(ctx context.Context) ([]Joined, error)
	SaveJoined(ctx context.Context, j Joined) error
	SaveInvitation(ctx context.Context, i Invitation) error
	// Invitation finds one by the hash of its token. TakeInvitation removes it too, for the first who asks; the error is ErrUnknown for others.
	Invitation(ctx context.Context, hash [32]byte) (Invitation, error)
	TakeInvitation(ctx context.Context, hash [32]byte) (Invitation, error)
}

// Options say how a hub listens.
type Options struct {
	Listen      string // address for machines
	Certificate tls.Certificate
	Seed        []byte // of the key that messages to the gate are sealed for: [NewSeed]
	Records     Records
	Log         *slog.Logger
	Version     string // of the gate
	// Changed is told when what a machine offers has changed, or a machine came or went; nil for no one.
	Changed func()
}

// NewSeed makes the seed of a key for sealing.
func NewSeed() ([]byte, error) {
	k, err := nkeys.CreateCurveKeys()
	if err != nil {
		return nil, err
	}
	return k.Seed()
}

// Hub is the gate's side. It is safe for concurrent use.
type Hub struct {
	opts   Options
	server *server.Server
	conn   *nats.Conn
	key    nkeys.KeyPair
	public string
	inside string // the password of the gate's own connection

	mu       sync.Mutex
	machines map[string]*Machine // by id
	closed   bool
}

// Open starts a hub.
func Open(ctx context.Context, o Options) (h *Hub, err error) {
	h = &Hub{opts: o, inside: rand.Text(), machines: map[string]*Machine{}}
	if h.key, err = nkeys.FromCurveSeed(o.Seed); err != nil {
		return nil, fmt.Errorf("the key of the fleet: %w", err)
	}
	if h.public, err = h.key.PublicKey(); err != nil {
		return nil, err
	}
	known, err := o.Records.Joined(ctx)
	if err != nil {
		return nil, err
	}
	for _, j := range known {
		h.machines[j.ID] = newMachine(h, j)
	}
	host, port, err := splitAddress(o.Listen)
	if err != nil {
		return nil, err
	}
	h.server, err = server.NewServer(&server.Options{
		ServerName: "gate", Host: host, Port: port, NoSigs: true, NoLog: true, DontListen: false, MaxPayload: 1 << 20, MaxPending: 64 << 20, MaxConn: 10_000, MaxSubs: 64,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{o.Certificate}, MinVersion: tls.VersionTLS13}, TLSTimeout: 5, AuthTimeout: 5,
		PingInterval: time.Second, MaxPingsOut: 3, WriteDeadline: 10 * time.Second, MaxControlLine: 1024,
		CustomClientAuthentication: h, AlwaysEnableNonce: true,
	})
	if err != nil {
		return nil, err
	}
	go h.server.Start()
	if !h.server.ReadyForConnections(10 * time.Second) {
		h.server.Shutdown()
		return nil, fmt.Errorf("%s cannot be listened at; perhaps another program has that port", o.Listen)
	}
	h.conn, err = nats.Connect("", nats.InProcessServer(h.server), nats.UserInfo("gate", h.inside), nats.MaxReconnects(-1), nats.ReconnectWait(100*time.Millisecond))
	if err != nil {
		h.server.Shutdown()
		return nil, err
	}
	for subject, do := range map[string]nats.MsgHandler{"fleet.*.hello": h.hello, enrolSubject: h.enrol} {
		if _, err := h.conn.Subscribe(subject, h.guarded(do)); err != nil {
			return nil, errors.Join(err, h.Close())
		}
	}
	return h, nil
}

// splitAddress takes the address to listen at apart.
func splitAddress(address string) (host string, port int, err error) {
	a, err := net.ResolveTCPAddr("tcp", address)
	if err != nil {
		return "", 0, fmt.Errorf("fleet.listen is %q, which is no address such as 0.0.0.0:7718: %w", address, err)
	}
	if host = "0.0.0.0"; a.IP != nil {
		host = a.IP.String()
	}
	if port = a.Port; port == 0 {
		port = server.RANDOM_PORT
	}
	return host, port, nil
}

// Address is where machines dial to.
func (h *Hub) Address() string { return h.server.Addr().String() }

// Close ends the hub. Answers under way end with an error.
func (h *Hub) Close() error {
	h.mu.Lock()
	h.closed = true
	machines := h.list()
	h.mu.Unlock()
	for _, m := range machines {
		m.gone("the gate ends")
	}
	if h.conn != nil {
		h.conn.Close()
	}
	h.server.Shutdown()
	h.server.WaitForShutdown()
	return nil
}

func (h *Hub) list() (list []*Machine) {
	for _, m := range h.machines {
		list = append(list, m)
	}
	slices.SortFunc(list, func(a, b *Machine) int { return strings.Compare(a.joined.Name, b.joined.Name) })
	return list
}

// Machines are those that were let in, by their names.
func (h *Hub) Machines() []*Machine {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.list()
}

// guarded has a panic over what a machine says end nothing else.
func (h *Hub) guarded(do nats.MsgHandler) nats.MsgHandler {
	return func(m *nats.Msg) {
		defer func() {
			if p := recover(); p != nil {
				h.opts.Log.Error("a message of a machine caused a panic", "subject", m.Subject, "panic", fmt.Sprint(p))
			}
		}()
		do(m)
	}
}

// Check lets a connection in: the gate's own, a machine by its key, or one that has an invitation and may do nothing but enrol.
func (h *Hub) Check(c server.ClientAuthentication) bool {
	o := c.GetOpts()
	allow := func(name string, publish, subscribe []string) bool {
		c.RegisterUser(&server.User{Username: name, Permissions: &server.Permissions{Publish: &server.SubjectPermission{Allow: publish}, Subscribe: &server.SubjectPermission{Allow: subscribe}}})
		return true
	}
	switch {
	case o.Username == "gate":
		if subtle.ConstantTimeCompare([]byte(o.Password), []byte(h.inside)) != 1 {
			return false
		}
		c.RegisterUser(&server.User{Username: "gate"})
		return true
	case o.Nkey != "":
		h.mu.Lock()
		m, ok := h.machines[o.Nkey]
		h.mu.Unlock()
		if !ok || m.revoked() {
			return false
		}
		key, err := nkeys.FromPublicKey(o.Nkey)
		if err != nil {
			return false
		}
		sig, err := signature(o.Sig)
		if err != nil || key.Verify(c.GetNonce(), sig) != nil {
			return false
		}
		id := o.Nkey
		return allow(id, []string{helloSubject(id), eventSubject(id, "*")}, []string{beginSubject(id), ackSubject(id, "*")})
	case o.Token != "":
		_, err := h.invitation(context.Background(), o.Token, false)
		return err == nil && allow("guest", []string{enrolSubject}, []string{"_INBOX.>"})
	}
	return false
}

// name is what a machine may be called: what stands before the slash in the names of its models.
var name = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// Invite gives a token with which one machine can join under a name, once, for so long.
func (h *Hub) Invite(ctx context.Context, of string, valid time.Duration) (token string, until time.Time, err error) {
	if !name.MatchString(of) {
		return "", until, exchange.InvalidParam("name", "the name of a machine is %q; it can have small letters, digits and . _ -, and begins with a letter or a digit", of)
	}
	if valid < time.Second || valid > 24*time.Hour {
		return "", until, exchange.InvalidParam("valid", "an invitation is valid for %s; it can be from 1s to 24h", valid)
	}
	h.mu.Lock()
	taken := slices.ContainsFunc(h.list(), func(m *Machine) bool { return m.joined.Name == of && !m.revoked() })
	h.mu.Unlock()
	if taken {
		return "", until, exchange.InvalidParam("name", "the machine %q has joined already; revoke it first, or choose another name", of)
	}
	token, until = rand.Text(), time.Now().Add(valid)
	return token, until, h.opts.Records.SaveInvitation(ctx, Invitation{Hash: sha256.Sum256([]byte(token)), Name: of, Until: until})
}

// invitation finds the one of a token, and takes it if that is asked for.
func (h *Hub) invitation(ctx context.Context, token string, take bool) (i Invitation, err error) {
	hash := sha256.Sum256([]byte(token))
	if take {
		i, err = h.opts.Records.TakeInvitation(ctx, hash)
	} else {
		i, err = h.opts.Records.Invitation(ctx, hash)
	}
	if err == nil && time.Now().After(i.Until) {
		err = ErrUnknown
	}
	return i, err
}

// enrolment is what a machine says to join, and entry what it is told.
type (
	enrolment struct {
		Token   string `json:"token"`
		ID      string `json:"id"`
		Seal    string `json:"seal"`
		Proof   string `json:"proof"` // that it has the key of the id: the token, signed
		Version int    `json:"version"`
	}
	entry struct {
		Name  string `json:"name,omitempty"`
		Seal  string `json:"seal,omitempty"`
		Error string `json:"error,omitempty"`
	}
)

// enrol lets a machine in.
func (h *Hub) enrol(msg *nats.Msg) {
	var e enrolment
	out := entry{Seal: h.public}
	if err := json.Unmarshal(msg.Data, &e); err != nil {
		out.Error = "what was sent is no enrolment"
	} else if j, err := h.admit(e); err != nil {
		out.Error = err.Error()
	} else {
		out.Name = j.Name
	}
	if raw, err := json.Marshal(out); err == nil {
		_ = msg.Respond(raw) // one that has gone hears nothing
	}
}

func (h *Hub) admit(e enrolment) (Joined, error) {
	if err := compatible(e.Version); err != nil {
		return Joined{}, err
	}
	id, err := idOf(e.ID)
	if err != nil {
		return Joined{}, err
	}
	if !nkeys.IsValidPublicCurveKey(e.Seal) {
		return Joined{}, errors.New("this is no key to seal messages for")
	}
	key, err := nkeys.FromPublicKey(id)
	if err != nil {
		return Joined{}, err
	}
	proof, err := signature(e.Proof)
	if err != nil || key.Verify([]byte(e.Token), proof) != nil {
		return Joined{}, errors.New("the machine does not have the key that it says it has")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	i, err := h.invitation(ctx, e.Token, true)
	if err != nil {
		return Joined{}, errors.New("the token is not valid: it was used, it has expired, or it is of another gate; \"kindred machines invite\" gives another")
	}
	j := Joined{Name: i.Name, ID: id, Seal: e.Seal, Since: time.Now()}
	if err := h.opts.Records.SaveJoined(ctx, j); err != nil {
		h.opts.Log.Error("a machine could not be let in", "name", j.Name, "error", err.Error())
		return Joined{}, errors.New("the gate cannot keep who has joined; its log says why")
	}
	h.mu.Lock()
	h.machines[id] = newMachine(h, j)
	h.mu.Unlock()
	h.opts.Log.Info("machine has joined", "name", j.Name, "id", id)
	return j, nil
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

// Revoke takes a machine's leave away. What it is doing ends.
func (h *Hub) Revoke(ctx context.Context, of string) error {
	h.mu.Lock()
	i := slices.IndexFunc(h.list(), func(m *Machine) bool { return m.joined.Name == of && !m.revoked() })
	var m *Machine
	if i >= 0 {
		m = h.list()[i]
	}
	h.mu.Unlock()
	if m == nil {
		return exchange.Errorf(exchange.NotFound, "machine_not_found", "no machine %q has joined", of)
	}
	j := m.joined
	j.Revoked = time.Now()
	if err := h.opts.Records.SaveJoined(ctx, j); err != nil {
		return err
	}
	h.mu.Lock()
	delete(h.machines, j.ID)
	h.mu.Unlock()
	m.gone("it was revoked")
	h.disconnect(j.ID)
	h.changed()
	return nil
}

// disconnect ends the connections of a machine, which could not sign in again.
func (h *Hub) disconnect(id string) {
	list, err := h.server.Connz(&server.ConnzOptions{Username: true})
	if err != nil {
		return
	}
	for _, c := range list.Conns {
		if c.AuthorizedUser == id {
			_ = h.server.DisconnectClientByID(c.Cid) // it may have gone by itself
		}
	}
}

func (h *Hub) changed() {
	if h.opts.Changed != nil {
		h.opts.Changed()
	}
}

// hello takes what a machine says of itself.
func (h *Hub) hello(msg *nats.Msg) {
	id := strings.TrimSuffix(strings.TrimPrefix(msg.Subject, "fleet."), ".hello")
	h.mu.Lock()
	m := h.machines[id]
	h.mu.Unlock()
	if m == nil {
		return
	}
	var hello Hello
	if err := unseal(h.key, m.joined.Seal, msg.Data, &hello); err != nil {
		m.fault("hello")
		return
	}
	m.says(hello)
}

// Fingerprint is that of a certificate, by which machines know the gate.
func Fingerprint(c tls.Certificate) string {
	sum := sha256.Sum256(c.Certificate[0])
	return hex.EncodeToString(sum[:])
}
