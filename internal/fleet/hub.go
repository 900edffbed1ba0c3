package fleet

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

// Options say how a hub reaches machines: by a NATS server of its own, or by others that run already.
type Options struct {
	Listen      string          // address for machines; "" if Servers are used
	Certificate tls.Certificate // of the gate's own server
	Servers     []string        // addresses of NATS servers, such as tls://n1:4222
	Roots       *x509.CertPool  // that their certificates are signed by; nil for the system's
	Secrets     Secrets
	Records     Records
	Log         *slog.Logger
	// Changed is told when a machine came or went, or what it offers has changed; nil for no one. It must not keep the caller waiting.
	Changed func()
}

// globalAccount is that of NATS servers which have none of their own.
const globalAccount = "$G"

// authTimeout is how long a server waits for a gate to say who may sign in, in seconds. What comes of a try that takes longer is another one.
const authTimeout = 2

// admitted is how long a machine's leave lasts on servers that cannot be told to end a connection.
const admitted = time.Hour

// Hub is the gate's side. It is safe for concurrent use.
type Hub struct {
	opts   Options
	server *server.Server // nil if others are used
	conn   *nats.Conn
	keys   keys
	id     string        // of this gate in subjects, as long as it runs
	admits time.Duration // how long a machine's leave lasts; 0 for ever

	gates atomic.Pointer[Gates] // that share the servers; nil if none do

	mu       sync.Mutex
	machines map[string]*Machine // by id
	answers  map[string]*waiting // in progress, by their lines
}

// Open starts a hub. NATS servers that cannot be reached yet are tried again.
func Open(ctx context.Context, o Options) (h *Hub, err error) {
	h = &Hub{opts: o, id: rand.Text(), machines: map[string]*Machine{}, answers: map[string]*waiting{}}
	if h.keys, err = o.Secrets.open(); err != nil {
		return nil, fmt.Errorf("the keys of the fleet: %w", err)
	}
	known, err := o.Records.Joined(ctx)
	if err != nil {
		return nil, err
	}
	for _, j := range known {
		h.take(j)
	}
	options := []nats.Option{nats.Nkey(h.keys.userPublic, h.keys.user.Sign), nats.MaxReconnects(-1), nats.ReconnectWait(100 * time.Millisecond), nats.PingInterval(time.Second), nats.MaxPingsOutstanding(3),
		nats.Name("gate"), nats.IgnoreAuthErrorAbort(), nats.ReconnectBufSize(-1), nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			o.Log.Warn("NATS", "error", err.Error())
		})}
	address := strings.Join(o.Servers, ",")
	if o.Listen != "" {
		if err := h.serve(); err != nil {
			return nil, err
		}
		options = append(options, nats.InProcessServer(h.server))
		address = ""
	} else {
		h.admits = admitted
		options = append(options, nats.RetryOnFailedConnect(true), nats.IgnoreDiscoveredServers(), nats.Timeout(5*time.Second), nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil {
				o.Log.Warn("the line to the NATS servers is cut; it is tried again", "error", err.Error())
			}
			h.changed()
		}), nats.ReconnectHandler(func(*nats.Conn) {
			o.Log.Info("the line to the NATS servers is there again")
			h.changed()
		}))
		if o.Roots != nil {
			options = append(options, nats.Secure(&tls.Config{MinVersion: tls.VersionTLS13, RootCAs: o.Roots}))
		}
	}
	if h.conn, err = nats.Connect(address, options...); err != nil {
		return nil, errors.Join(fmt.Errorf("the NATS servers: %w", err), h.Close())
	}
	for _, s := range []struct {
		subject, queue string
		do             nats.MsgHandler
	}{
		{"fleet.*.hello", "", h.hello}, {eventSubject("*", h.id, "*"), "", h.event},
		// Who may sign in all gates say, and the first word counts: one that was chosen for all might have gone just then. An invitation one takes for all.
		{server.AuthCalloutSubject, "", h.admit}, {enrolSubject, "gates", h.enrol},
	} {
		sub, err := h.conn.QueueSubscribe(s.subject, s.queue, guarded(o.Log, s.do))
		if err == nil {
			// What cannot be taken in time is dropped, and asked for again.
			err = sub.SetPendingLimits(1<<18, 64<<20)
		}
		if err != nil {
			return nil, errors.Join(err, h.Close())
		}
	}
	if h.server != nil {
		err = h.conn.Flush()
	}
	return h, err
}

// serve starts the gate's own server.
func (h *Hub) serve() error {
	host, port, err := splitAddress(h.opts.Listen)
	if err != nil {
		return err
	}
	h.server, err = server.NewServer(&server.Options{
		ServerName: "gate", Host: host, Port: port, NoSigs: true, NoLog: true, MaxPayload: mostPayload, MaxPending: 64 << 20, MaxConn: 10_000,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{h.opts.Certificate}, MinVersion: tls.VersionTLS13}, TLSTimeout: 5, AuthTimeout: authTimeout,
		PingInterval: time.Second, MaxPingsOut: 3, WriteDeadline: 10 * time.Second, MaxControlLine: 1024, DisableShortFirstPing: true,
		Nkeys:       []*server.NkeyUser{{Nkey: h.keys.userPublic}},
		AuthCallout: &server.AuthCallout{Issuer: h.keys.issuerPublic, Account: globalAccount, AuthUsers: []string{h.keys.userPublic}},
	})
	if err != nil {
		return err
	}
	h.server.Start()
	if !h.server.ReadyForConnections(10 * time.Second) {
		h.server.Shutdown()
		return fmt.Errorf("%s cannot be listened at (fleet.listen); perhaps another program has that port", h.opts.Listen)
	}
	return nil
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
	return host, cmp.Or(a.Port, server.RANDOM_PORT), nil
}

// Address is where machines dial to; "" if that is not at this gate.
func (h *Hub) Address() string {
	if h.server == nil {
		return ""
	}
	return h.server.Addr().String()
}

// Line is the state of the line to the NATS servers: why it is cut, or how long a message takes there and back. The gate's own server is
// always there.
func (h *Hub) Line() (delay time.Duration, cut string) {
	switch {
	case h.server != nil:
		return 0, ""
	case !h.conn.IsConnected():
		return 0, "the line to the NATS servers is cut"
	}
	delay, err := h.conn.RTT()
	if err != nil {
		return 0, "the NATS servers do not answer"
	}
	return delay, ""
}

// Close ends the hub. Answers in progress end with an error.
func (h *Hub) Close() error {
	for _, m := range h.Machines() {
		m.gone("the gate ends")
	}
	if h.conn != nil {
		h.conn.Close()
	}
	if h.server != nil {
		h.server.Shutdown()
		h.server.WaitForShutdown()
	}
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

// Machine finds one by its name.
func (h *Hub) Machine(name string) (*Machine, bool) {
	for _, m := range h.Machines() {
		if m.Name() == name {
			return m, true
		}
	}
	return nil, false
}

// disconnect ends the connections of a machine to the gate's own server. Others end them when its leave does; until then it hears nothing.
func (h *Hub) disconnect(id string) {
	if h.server == nil {
		return
	}
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

// of finds the machine that a message is from, by its subject.
func (h *Hub) of(subject string) (m *Machine, rest []string) {
	parts := strings.Split(subject, ".")
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.machines[parts[1]], parts[2:]
}

// hello takes what a machine says of itself.
func (h *Hub) hello(msg *nats.Msg) {
	m, _ := h.of(msg.Subject)
	if m == nil {
		return
	}
	if !m.hellos.Allow() { // opening it would take time for nothing
		m.stray(len(msg.Data))
		return
	}
	var hello Hello
	if err := unseal(h.keys.seal, m.joined.Seal, msg.Data, &hello); err != nil {
		m.fault(forgedFault)
		return
	}
	m.says(hello)
}

// event hands a message of an answer to who waits for it.
func (h *Hub) event(msg *nats.Msg) {
	m, rest := h.of(msg.Subject)
	if len(rest) != 3 {
		return
	}
	h.mu.Lock()
	w := h.answers[rest[2]]
	h.mu.Unlock()
	if w != nil && strings.HasPrefix(msg.Subject, "fleet."+w.far.id+".") {
		select {
		case w.incoming <- msg.Data:
			return
		default: // it sends more than it may; what is missing is asked for again
		}
	}
	if m != nil {
		m.stray(len(msg.Data))
	}
}

// owner is a word for who asks, by which machines give turns, that tells nothing of who that is.
func (h *Hub) owner(of string) string {
	if of == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(h.opts.Secrets.Seal + "\x00" + of))
	return hex.EncodeToString(sum[:8])
}

// Fingerprint is that of a certificate, by which machines know the gate.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:])
}
