package fleet

import (
	"context"
	crand "crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
	"kindredgate/internal/placement"
)

// Runner does work with the models of a machine.
type Runner interface {
	Run(ctx context.Context, w Work, req *exchange.Request) iter.Seq2[exchange.Event, error]
	Embed(ctx context.Context, w Work, req *exchange.Embedding) (*exchange.Vectors, error)
	Rank(ctx context.Context, w Work, req *exchange.Ranking) (*exchange.Relevance, error)
}

// Credentials are what a machine needs to come in again: its keys, and the gate's.
type Credentials struct {
	Servers     []string `json:"servers"`               // addresses, such as tls://gate.example:7718
	Fingerprint string   `json:"fingerprint,omitempty"` // of their certificate, or of one that has signed it; "" if the system knows who has
	Name        string   `json:"name"`                  // of this machine there
	Seal        string   `json:"seal"`                  // the key that messages to the gate are sealed for
	Seed        string   `json:"seed"`                  // of the key that this machine signs in with
	SealSeed    string   `json:"seal_seed"`             // of the one that messages to it are sealed for
}

// Scheme begins the address of a gate that machines join.
const Scheme = "tls://"

// ParseAddresses reads addresses of a gate, or of several, with commas between them.
func ParseAddresses(text string) (list []string, err error) {
	for one := range strings.SplitSeq(text, ",") {
		one = strings.TrimPrefix(strings.TrimSpace(one), Scheme)
		host, port, ok := strings.Cut(one, ":")
		if strings.HasPrefix(one, "[") {
			host, port, ok = strings.Cut(one, "]:")
		}
		if !ok || host == "" || port == "" || strings.ContainsAny(one, "/@ ") {
			return nil, fmt.Errorf("%q is no address of a gate; one looks like tls://gate.example:7718", one)
		}
		list = append(list, Scheme+one)
	}
	return list, nil
}

// secured is TLS to a gate that is known by a certificate: its own, or one that has signed it.
func secured(fingerprint string) *tls.Config {
	c := &tls.Config{MinVersion: tls.VersionTLS13}
	if fingerprint == "" {
		return c
	}
	c.InsecureSkipVerify = true // the certificate itself is known, whoever has signed it
	c.VerifyConnection = func(s tls.ConnectionState) error {
		for i, known := range s.PeerCertificates {
			if Fingerprint(known.Raw) != strings.ToLower(fingerprint) {
				continue
			}
			if i == 0 {
				return nil
			}
			roots, between := x509.NewCertPool(), x509.NewCertPool()
			roots.AddCert(known)
			for _, c := range s.PeerCertificates[1:] {
				between.AddCert(c)
			}
			_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{DNSName: s.ServerName, Roots: roots, Intermediates: between})
			return err
		}
		return errors.New("the gate has another certificate than the invitation says; somebody may stand in between, or the gate has a new one: have it invite this machine again")
	}
	return c
}

// Join takes up an invitation to a gate, and gives what this machine needs from then on. fingerprint is "" for certificates that the system trusts.
func Join(ctx context.Context, servers []string, token Token, fingerprint string) (c Credentials, err error) {
	if raw, err := hex.DecodeString(fingerprint); fingerprint != "" && (err != nil || len(raw) != 32) {
		return c, errors.New("the fingerprint is no SHA-256 sum of 64 hexadecimal digits; take it from the line that the invitation gave")
	}
	user, err := nkeys.CreateUser()
	if err != nil {
		return c, err
	}
	curve, err := nkeys.CreateCurveKeys()
	if err != nil {
		return c, err
	}
	e, err := apply(user, curve, token)
	if err != nil {
		return c, err
	}
	raw, err := json.Marshal(e)
	if err != nil {
		return c, err
	}
	conn, err := nats.Connect(strings.Join(servers, ","), nats.Secure(secured(fingerprint)), nats.Token(token.ID), nats.CustomInboxPrefix(inbox(token.ID)), nats.Timeout(10*time.Second), nats.NoReconnect())
	if err != nil {
		if errors.Is(err, nats.ErrAuthorization) {
			return c, errToken
		}
		return c, fmt.Errorf("the gate at %s cannot be reached: %w", strings.Join(servers, ", "), err)
	}
	defer conn.Close()
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	reply, err := conn.RequestWithContext(ctx, enrolSubject, raw)
	if err != nil {
		return c, fmt.Errorf("the gate does not answer: %w", err)
	}
	var in entry
	if err := unseal(curve, token.Seal, reply.Data, &in); err != nil {
		return c, fmt.Errorf("what the gate says cannot be read: %w", err)
	}
	if in.Error != "" {
		return c, errors.New(in.Error)
	}
	seed, err := user.Seed()
	if err != nil {
		return c, err
	}
	sealSeed, err := curve.Seed()
	return Credentials{Servers: servers, Fingerprint: strings.ToLower(fingerprint), Name: in.Name, Seal: token.Seal, Seed: string(seed), SealSeed: string(sealSeed)}, err
}

// apply is what a machine with these keys says to take up an invitation.
func apply(user, curve nkeys.KeyPair, token Token) (e enrolment, err error) {
	a := application{Secret: token.Secret, Version: Version}
	if a.ID, err = user.PublicKey(); err != nil {
		return e, err
	}
	proof, err := user.Sign([]byte(token.Secret))
	if err != nil {
		return e, err
	}
	a.Proof = base64.RawURLEncoding.EncodeToString(proof)
	e.Invitation = token.ID
	if e.Machine, err = curve.PublicKey(); err != nil {
		return e, err
	}
	e.Sealed, err = seal(curve, token.Seal, a)
	return e, err
}

// Offer says what a machine offers now.
type Offer struct {
	Models []Model // what of them is measured is filled in
	AtOnce int     // answers; 0 for no limit
	Away   string  // why it takes no work now
}

// MemberOptions say how a machine works for a gate.
type MemberOptions struct {
	Credentials Credentials
	Runner      Runner
	Offer       func() Offer
	Version     string // of the program
	Log         *slog.Logger
}

// Member is a machine's side. It is safe for concurrent use.
type Member struct {
	responder
	opts MemberOptions

	start  string               // of this one, for the gate to tell it from the one before
	ending atomic.Bool          // it takes no more requests
	models map[string]*measured // mu guards it
	said   string               // why the gate could not be reached, as it was logged last
}

// measured is what is known of a model by what it was asked.
type measured struct {
	placement.Meter
	told   placement.Known
	toldAt time.Time
}

// Serve connects to the gate, and works for it until it is closed. It tries again for as long as the gate is away.
func Serve(o MemberOptions) (*Member, error) {
	user, err := nkeys.FromSeed([]byte(o.Credentials.Seed))
	if err != nil {
		return nil, fmt.Errorf("the key of this machine: %w", err)
	}
	m := &Member{opts: o, start: crand.Text(), models: map[string]*measured{}, responder: responder{from: o.Credentials.Seal, log: o.Log}}
	m.do = m.work
	if m.id, err = user.PublicKey(); err != nil {
		return nil, err
	}
	if m.key, err = nkeys.FromCurveSeed([]byte(o.Credentials.SealSeed)); err != nil {
		return nil, fmt.Errorf("the key of this machine: %w", err)
	}
	m.ctx, m.end = context.WithCancelCause(context.Background()) // which handlers of the connection look at
	m.conn, err = nats.Connect(strings.Join(o.Credentials.Servers, ","), nats.Secure(secured(o.Credentials.Fingerprint)), nats.Nkey(m.id, user.Sign), nats.Name(o.Credentials.Name),
		nats.RetryOnFailedConnect(true), nats.MaxReconnects(-1), nats.IgnoreDiscoveredServers(), nats.CustomReconnectDelay(reconnectAfter), nats.ReconnectBufSize(-1),
		nats.PingInterval(time.Second), nats.MaxPingsOutstanding(3), nats.Timeout(10*time.Second), nats.IgnoreAuthErrorAbort(),
		nats.ConnectHandler(m.arrived), nats.ReconnectHandler(m.arrived),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) { m.cut(err) }), nats.ReconnectErrHandler(func(_ *nats.Conn, err error) { m.cut(err) }))
	if err != nil {
		m.end(err)
		return nil, err
	}
	if err := m.listen(); err != nil {
		return nil, errors.Join(err, m.Close())
	}
	m.all.Go(m.keepTelling)
	return m, nil
}

// reconnectAfter is how long to wait before a try: short at first, for lines that are cut for a moment.
func reconnectAfter(tries int) time.Duration {
	wait := min(250*time.Millisecond<<min(max(0, tries-1), 6), 10*time.Second)
	return wait + rand.N(wait/2)
}

// arrived is told of a connection.
func (m *Member) arrived(conn *nats.Conn) {
	m.mu.Lock()
	m.said = ""
	m.mu.Unlock()
	m.opts.Log.Info("the line to the gate is there", "gate", conn.ConnectedAddr(), "as", m.opts.Credentials.Name)
	m.hello(conn)
}

// cut is told why there is no connection, which is logged once.
func (m *Member) cut(err error) {
	if err == nil || m.ctx.Err() != nil {
		return
	}
	why := err.Error()
	if errors.Is(err, nats.ErrAuthorization) || strings.Contains(strings.ToLower(why), "authorization") {
		why = "the gate does not let this machine in: it was revoked, or the gate is another one; if it was revoked, have it invited again"
	}
	m.mu.Lock()
	again := m.said == why
	m.said = why
	m.mu.Unlock()
	if !again {
		m.opts.Log.Warn("there is no line to the gate; it is tried again", "gate", strings.Join(m.opts.Credentials.Servers, ","), "error", why)
	}
}

// Connected reports whether there is a line to the gate, or why there is none.
func (m *Member) Connected() (bool, string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.conn.IsConnected(), m.said
}

// Shutdown takes no more requests, and ends the machine's work when its answers have ended, or when ctx is done: then they end with an error.
func (m *Member) Shutdown(ctx context.Context) error {
	m.ending.Store(true)
	m.hello(m.conn)
	m.idle(ctx)
	return m.Close()
}

// partingTime is how long a last word may take.
const partingTime = time.Second

// Close ends the machine's work. Answers in progress end with an error.
func (m *Member) Close() error {
	m.ending.Store(true)
	m.close()
	m.say(m.conn, func(h *Hello) { h.Ends = true })
	_ = m.conn.FlushTimeout(partingTime) // it is found out by itself when nothing is heard any more
	m.conn.Close()
	return nil
}

// offer is what this machine offers now.
func (m *Member) offer() Offer {
	o := m.opts.Offer()
	if m.ending.Load() {
		o.Away = "it is being stopped"
	}
	return o
}

// keepTelling says now and then what this machine offers, and forgets what nobody goes on with.
func (m *Member) keepTelling() {
	tick := time.NewTicker(helloEvery)
	defer tick.Stop()
	for {
		m.hello(m.conn)
		m.clean()
		select {
		case <-tick.C:
		case <-m.ctx.Done():
			return
		}
	}
}

// hello says on a connection what this machine offers.
func (m *Member) hello(conn *nats.Conn) { m.say(conn, func(*Hello) {}) }

// say says it with a change.
func (m *Member) say(conn *nats.Conn, change func(*Hello)) {
	defer func() {
		if p := recover(); p != nil {
			m.opts.Log.Error("saying what is offered caused a panic", "panic", fmt.Sprint(p))
		}
	}()
	if !conn.IsConnected() {
		return // what is said while the line is cut would only be old when it comes
	}
	o := m.offer()
	line, _ := conn.RTT() // 0 if it is cut just now
	h := Hello{Version: Version, Start: m.start, Gate: m.opts.Version, Time: time.Now(), Line: line, AtOnce: o.AtOnce, Away: o.Away, Models: slices.Clone(o.Models)}
	h.Open = m.inProgress()
	m.mu.Lock()
	for i := range h.Models {
		one := &h.Models[i]
		s := m.models[one.Name]
		if s == nil {
			continue
		}
		if !one.Loaded {
			s.Forget()
		}
		one.Load, one.Prefill, one.Decode = s.Measured()
		if known := s.Known(); !slices.Equal(known, s.told) || time.Since(s.toldAt) > prefixesEvery {
			one.Known, s.told, s.toldAt = known.Bytes(), known, time.Now()
		}
	}
	m.mu.Unlock()
	change(&h)
	sealed, err := seal(m.key, m.opts.Credentials.Seal, h)
	if err == nil {
		_ = conn.Publish(helloSubject(m.id), sealed) // the next one says the same
	}
}

// unread is the error for a request that this machine's version does not understand.
func unread(err error) error {
	return exchange.Errorf(exchange.Invalid, "request_unknown", "the machine does not know all of what is asked: %v; its version may be older than the gate's", err)
}

// work does what is asked, if its operator lets it.
func (m *Member) work(a *answer, b begin, open int) error {
	offer, runner := m.offer(), m.opts.Runner
	switch {
	case offer.AtOnce > 0 && open >= offer.AtOnce:
		return exchange.Errorf(exchange.Unavailable, "runner_busy", "the machine gives as many answers at once as its operator lets it (%d)", offer.AtOnce)
	case offer.Away != "":
		return exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine takes no work: %s", offer.Away)
	case !slices.ContainsFunc(offer.Models, func(one Model) bool { return one.Name == b.Model }):
		return exchange.Errorf(exchange.NotFound, "model_not_found", "the machine does not offer the model %q any more", b.Model)
	}
	switch b.Kind {
	case answerKind:
		return m.run(a, b)
	case embedKind:
		return wholly(a, b, func(req *exchange.Embedding) (*exchange.Vectors, error) { return runner.Embed(a.ctx, b.Work, req) })
	case rankKind:
		return wholly(a, b, func(req *exchange.Ranking) (*exchange.Relevance, error) { return runner.Rank(a.ctx, b.Work, req) })
	}
	return unread(fmt.Errorf("a request of the kind %q", b.Kind))
}

// wholly answers with one thing.
func wholly[Q, A any](a *answer, b begin, do func(*Q) (*A, error)) error {
	req := new(Q)
	if err := json.Unmarshal(b.Doc, req); err != nil {
		return unread(err)
	}
	out, err := do(req)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(out)
	if err != nil {
		return err
	}
	return a.write(append(raw, '\n'))
}

// run answers a request.
func (m *Member) run(a *answer, b begin) error {
	req, err := exchange.DecodeRequest(b.Doc)
	if err != nil {
		return unread(err)
	}
	req.Owner, req.Share, req.Via, req.Trace = b.Owner, b.Share, b.Via, b.Trace
	var told time.Time
	req.Reading = func(tokens int) {
		if time.Since(told) > 200*time.Millisecond {
			told = time.Now()
			a.send(message{Reading: tokens})
		}
	}
	clock := m.watch(b.Model, req)
	var batch []byte
	for event, err := range m.opts.Runner.Run(a.ctx, b.Work, req) {
		if err != nil {
			return errors.Join(a.write(batch), err)
		}
		clock(event)
		raw, err := exchange.EncodeEvent(event)
		if err != nil {
			return err
		}
		batch = append(append(batch, raw...), '\n')
		if len(batch) > batchBytes || !a.behind() {
			if err := a.write(batch); err != nil {
				return err
			}
			batch = nil // what was sent is kept until it has come
		}
		if a.abandoned() {
			return errors.New("nobody takes the answer")
		}
	}
	return a.write(batch)
}

// watch measures an answer of a model, by its events, and remembers how its prompt begins.
func (m *Member) watch(model string, req *exchange.Request) func(exchange.Event) {
	m.mu.Lock()
	s := m.models[model]
	if s == nil {
		s = &measured{}
		m.models[model] = s
	}
	m.mu.Unlock()
	var began time.Time
	return func(e exchange.Event) {
		switch e := e.(type) {
		case exchange.Started:
			began = time.Now()
			s.Read(placement.Chain(req), e.PromptTokens-e.CachedTokens, e.Timings.Prefill, e.Timings.Load)
		case exchange.Finish:
			if !began.IsZero() {
				s.Wrote(e.Tokens, time.Since(began))
			}
		case exchange.TextDelta, exchange.ReasoningDelta, exchange.ToolCallDelta, exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
		}
	}
}
