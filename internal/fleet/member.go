package fleet

import (
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
)

// Runner answers requests with the models of a machine, by their names there.
type Runner interface {
	Run(ctx context.Context, model string, req *exchange.Request) iter.Seq2[exchange.Event, error]
}

// Credentials are what a machine needs to come in again: its keys, and the gate's.
type Credentials struct {
	Gate        string `json:"gate"`        // address
	Fingerprint string `json:"fingerprint"` // of the gate's certificate
	Name        string `json:"name"`        // of this machine there
	Seal        string `json:"seal"`        // the key that messages to the gate are sealed for
	Seed        string `json:"seed"`        // of the key that this machine signs in with
	SealSeed    string `json:"seal_seed"`   // of the one that messages to it are sealed for
}

// pinned is TLS to a gate that is known by its certificate.
func pinned(fingerprint string) *tls.Config {
	return &tls.Config{
		MinVersion:         tls.VersionTLS13,
		InsecureSkipVerify: true, // the certificate itself is known, whoever has signed it
		VerifyConnection: func(c tls.ConnectionState) error {
			if len(c.PeerCertificates) == 0 || Fingerprint(tls.Certificate{Certificate: [][]byte{c.PeerCertificates[0].Raw}}) != strings.ToLower(fingerprint) {
				return errors.New("the gate has another certificate than the invitation says; somebody may stand in between, or the gate has a new one: have it invite this machine again")
			}
			return nil
		},
	}
}

// Join comes to a gate with an invitation, and gives what this machine needs from then on.
func Join(ctx context.Context, address, token, fingerprint string) (c Credentials, err error) {
	if raw, err := hex.DecodeString(fingerprint); err != nil || len(raw) != 32 {
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
	e := enrolment{Token: token, Version: Version}
	if e.ID, err = user.PublicKey(); err != nil {
		return c, err
	}
	if e.Seal, err = curve.PublicKey(); err != nil {
		return c, err
	}
	proof, err := user.Sign([]byte(token))
	if err != nil {
		return c, err
	}
	e.Proof = base64.RawURLEncoding.EncodeToString(proof)
	conn, err := nats.Connect("tls://"+address, nats.Secure(pinned(fingerprint)), nats.Token(token), nats.Timeout(10*time.Second), nats.NoReconnect())
	if err != nil {
		if errors.Is(err, nats.ErrAuthorization) {
			return c, errors.New("the gate does not know the token: it was used, it has expired, or it is of another gate; \"kindred machines invite\" gives another")
		}
		return c, fmt.Errorf("the gate at %s cannot be reached: %w", address, err)
	}
	defer conn.Close()
	raw, err := json.Marshal(e)
	if err != nil {
		return c, err
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	reply, err := conn.RequestWithContext(ctx, enrolSubject, raw)
	if err != nil {
		return c, fmt.Errorf("the gate does not answer: %w", err)
	}
	var in entry
	if err := json.Unmarshal(reply.Data, &in); err != nil {
		return c, fmt.Errorf("what the gate says cannot be read: %w", err)
	}
	if in.Error != "" {
		return c, errors.New(in.Error)
	}
	if !nkeys.IsValidPublicCurveKey(in.Seal) {
		return c, errors.New("the gate has given no key to seal messages for")
	}
	seed, err := user.Seed()
	if err != nil {
		return c, err
	}
	sealSeed, err := curve.Seed()
	return Credentials{Gate: address, Fingerprint: strings.ToLower(fingerprint), Name: in.Name, Seal: in.Seal, Seed: string(seed), SealSeed: string(sealSeed)}, err
}

// Offer says what a machine offers now.
type Offer struct {
	Models []Model
	AtOnce int    // answers; 0 for no limit
	Away   string // why it takes no work now
}

// MemberOptions say how a machine works for a gate.
type MemberOptions struct {
	Credentials Credentials
	Runner      Runner
	Offer       func() Offer
	Version     string
	Log         *slog.Logger
}

// Member is a machine's side. It is safe for concurrent use.
type Member struct {
	opts MemberOptions
	id   string
	key  nkeys.KeyPair
	conn *nats.Conn
	ctx  context.Context
	end  context.CancelFunc
	all  sync.WaitGroup

	mu       sync.Mutex
	open     map[string]*answer
	incoming map[string]*pending
}

// pending is a request of which parts have come.
type pending struct {
	begin
	since time.Time
}

// Serve connects to the gate, and works for it until it is closed. It tries again for as long as the gate is away.
func Serve(o MemberOptions) (*Member, error) {
	user, err := nkeys.FromSeed([]byte(o.Credentials.Seed))
	if err != nil {
		return nil, fmt.Errorf("the key of this machine: %w", err)
	}
	m := &Member{opts: o, open: map[string]*answer{}, incoming: map[string]*pending{}}
	if m.id, err = user.PublicKey(); err != nil {
		return nil, err
	}
	if m.key, err = nkeys.FromCurveSeed([]byte(o.Credentials.SealSeed)); err != nil {
		return nil, fmt.Errorf("the key of this machine: %w", err)
	}
	m.ctx, m.end = context.WithCancel(context.Background())
	m.conn, err = nats.Connect("tls://"+o.Credentials.Gate, nats.Secure(pinned(o.Credentials.Fingerprint)), nats.Nkey(m.id, user.Sign),
		nats.RetryOnFailedConnect(true), nats.MaxReconnects(-1), nats.ReconnectWait(250*time.Millisecond), nats.ReconnectJitter(100*time.Millisecond, 250*time.Millisecond),
		nats.PingInterval(time.Second), nats.MaxPingsOutstanding(3), nats.Timeout(10*time.Second), nats.ReconnectBufSize(8<<20), nats.IgnoreAuthErrorAbort(),
		nats.ReconnectHandler(m.helloOn),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil && m.ctx.Err() == nil {
				o.Log.Warn("the line to the gate is cut; it is tried again", "gate", o.Credentials.Gate, "error", err.Error())
			}
		}))
	if err != nil {
		m.end()
		return nil, err
	}
	for subject, do := range map[string]nats.MsgHandler{beginSubject(m.id): m.begin, ackSubject(m.id, "*"): m.acked} {
		if _, err := m.conn.Subscribe(subject, m.guarded(do)); err != nil {
			return nil, errors.Join(err, m.Close())
		}
	}
	m.all.Go(m.keepTelling)
	return m, nil
}

// Close ends the machine's work. Answers under way end with an error.
func (m *Member) Close() error {
	m.end()
	m.conn.Close()
	m.all.Wait()
	return nil
}

func (m *Member) guarded(do nats.MsgHandler) nats.MsgHandler {
	return func(msg *nats.Msg) {
		defer func() {
			if p := recover(); p != nil {
				m.opts.Log.Error("a message of the gate caused a panic", "subject", msg.Subject, "panic", fmt.Sprint(p))
			}
		}()
		do(msg)
	}
}

// keepTelling says now and then what this machine offers, and forgets what nobody goes on with.
func (m *Member) keepTelling() {
	tick := time.NewTicker(helloEvery)
	defer tick.Stop()
	for {
		m.helloOn(m.conn)
		m.mu.Lock()
		for x, p := range m.incoming {
			if time.Since(p.since) > leftAfter {
				delete(m.incoming, x)
			}
		}
		m.mu.Unlock()
		select {
		case <-tick.C:
		case <-m.ctx.Done():
			return
		}
	}
}

// helloOn says on a connection what this machine offers.
func (m *Member) helloOn(conn *nats.Conn) {
	o := m.opts.Offer()
	m.mu.Lock()
	open := len(m.open)
	m.mu.Unlock()
	sealed, err := seal(m.key, m.opts.Credentials.Seal, Hello{Version: Version, Gate: m.opts.Version, Time: time.Now(), Models: o.Models, AtOnce: o.AtOnce, Open: open, Away: o.Away})
	if err != nil || !conn.IsConnected() {
		return // what is said while the line is cut would only be old when it comes
	}
	_ = conn.Publish(helloSubject(m.id), sealed)
}

// begin takes a request, or a part of one.
func (m *Member) begin(msg *nats.Msg) {
	var b begin
	if err := unseal(m.key, m.opts.Credentials.Seal, msg.Data, &b); err != nil {
		m.opts.Log.Warn("a request was refused", "error", err.Error())
		return
	}
	if !validExchange(b.Exchange) || b.Parts < 1 || b.Parts > mostRequest/partBytes || b.Part < 0 || b.Part >= b.Parts {
		return
	}
	m.mu.Lock()
	if there := m.open[b.Exchange]; there != nil {
		m.mu.Unlock()
		there.send(message{}) // it was asked once more before that was known
		return
	}
	p := m.incoming[b.Exchange]
	switch {
	case b.Part == 0:
		p = &pending{begin: b, since: time.Now()}
		m.incoming[b.Exchange] = p
	case p != nil && b.Part == p.Part+1 && b.Parts == p.Parts:
		p.Part, p.Doc = b.Part, append(p.Doc, b.Doc...)
	default:
		m.mu.Unlock()
		return
	}
	if p.Part < p.Parts-1 {
		m.mu.Unlock()
		return
	}
	delete(m.incoming, b.Exchange)
	offer := m.opts.Offer()
	full := offer.AtOnce > 0 && len(m.open) >= offer.AtOnce
	ctx, cancel := context.WithCancelCause(m.ctx)
	a := &answer{member: m, x: b.Exchange, ctx: ctx, cancel: cancel, moved: make(chan struct{}, 1), heard: time.Now()}
	m.open[b.Exchange] = a
	m.mu.Unlock()
	m.all.Go(func() {
		defer m.forget(a)
		defer cancel(nil)
		defer func() {
			if p := recover(); p != nil {
				m.opts.Log.Error("an answer caused a panic", "panic", fmt.Sprint(p))
				a.finish(exchange.Errorf(exchange.Internal, "internal_error", "the machine has failed at this request; its log says how"))
			}
		}()
		a.send(message{}) // it is there
		switch {
		case full:
			a.finish(exchange.Errorf(exchange.Unavailable, "runner_busy", "the machine gives as many answers at once as its owner lets it (%d)", offer.AtOnce))
		case offer.Away != "":
			a.finish(exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine takes no work: %s", offer.Away))
		default:
			a.finish(a.run(p.begin))
		}
	})
}

func validExchange(x string) bool {
	return x != "" && len(x) <= 64 && strings.Trim(x, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") == ""
}

func (m *Member) forget(a *answer) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.open, a.x)
}

// acked takes what the gate says of an answer.
func (m *Member) acked(msg *nats.Msg) {
	x := msg.Subject[strings.LastIndexByte(msg.Subject, '.')+1:]
	m.mu.Lock()
	a := m.open[x]
	m.mu.Unlock()
	var said ack
	if err := unseal(m.key, m.opts.Credentials.Seal, msg.Data, &said); err != nil || !validExchange(x) {
		return
	}
	if a != nil {
		a.acked(said)
		return
	}
	if said.Again { // who asks for more waits for something that will not come
		lost := answer{member: m, x: x}
		lost.send(message{Number: -1, Error: failureOf(exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine does not know of the request any more; it may have been started anew"))})
	}
}

// answer is one under way.
type answer struct {
	member *Member
	x      string
	ctx    context.Context
	cancel context.CancelCauseFunc
	moved  chan struct{} // has room for one: an ack has come

	mu     sync.Mutex
	number int       // of the last message
	kept   []message // that the gate has not said it has
	heard  time.Time // of the gate
}

func (a *answer) acked(said ack) {
	a.mu.Lock()
	a.heard = time.Now()
	for len(a.kept) > 0 && a.kept[0].Number <= said.Received {
		a.kept = a.kept[1:]
	}
	var again []message
	if said.Again {
		again = append(again, a.kept...)
	}
	a.mu.Unlock()
	if said.Cancel {
		a.cancel(context.Canceled)
	}
	for _, one := range again {
		a.send(one)
	}
	select {
	case a.moved <- struct{}{}:
	default:
	}
}

func (a *answer) send(msg message) {
	sealed, err := seal(a.member.key, a.member.opts.Credentials.Seal, msg)
	if err == nil {
		_ = a.member.conn.Publish(eventSubject(a.member.id, a.x), sealed) // what is lost is asked for again
	}
}

// put numbers a message, keeps it until the gate has it, and sends it. It waits while the gate has too many to take.
func (a *answer) put(msg message) error {
	for {
		a.mu.Lock()
		if len(a.kept) < window {
			a.number++
			msg.Number = a.number
			a.kept = append(a.kept, msg)
			a.mu.Unlock()
			a.send(msg)
			return nil
		}
		a.mu.Unlock()
		if err := a.wait(); err != nil {
			return err
		}
	}
}

// wait waits for an ack.
func (a *answer) wait() error {
	a.mu.Lock()
	left := leftAfter - time.Since(a.heard)
	a.mu.Unlock()
	if left <= 0 {
		return errors.New("the gate does not take the answer")
	}
	t := time.NewTimer(left)
	defer t.Stop()
	select {
	case <-a.moved:
	case <-t.C:
	case <-a.ctx.Done():
		return context.Cause(a.ctx)
	}
	return nil
}

// run answers a request.
func (a *answer) run(b begin) error {
	req, err := exchange.DecodeRequest(b.Doc)
	if err != nil {
		return exchange.Errorf(exchange.Invalid, "request_unknown", "the machine does not know all of what is asked: %v; its version may be older than the gate's", err)
	}
	req.Owner, req.Share = b.Owner, b.Share
	var told time.Time
	req.Reading = func(tokens int) {
		if time.Since(told) > 200*time.Millisecond {
			told = time.Now()
			a.send(message{Reading: tokens})
		}
	}
	var batch message
	size := 0
	for event, err := range a.member.opts.Runner.Run(a.ctx, b.Model, req) {
		if err != nil {
			return errors.Join(a.flush(&batch), err)
		}
		raw, err := exchange.EncodeEvent(event)
		if err != nil {
			return err
		}
		batch.Events = append(batch.Events, raw)
		if size += len(raw); size > batchBytes || !a.behind() {
			if err := a.flush(&batch); err != nil {
				return err
			}
			size = 0
		}
		if a.abandoned() {
			return errors.New("nobody takes the answer")
		}
	}
	return a.flush(&batch)
}

// behind reports whether the gate has much to take already, so that events had better go together.
func (a *answer) behind() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.kept) >= window/2
}

func (a *answer) abandoned() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return time.Since(a.heard) > leftAfter
}

func (a *answer) flush(batch *message) error {
	if len(batch.Events) == 0 {
		return nil
	}
	err := a.put(*batch)
	*batch = message{}
	return err
}

// finish sends the end of an answer, and waits until the gate has it, for as long as the gate is there.
func (a *answer) finish(err error) {
	end := message{Ended: true}
	if err != nil {
		end.Error = failureOf(err)
	}
	if a.put(end) != nil {
		return
	}
	for {
		a.mu.Lock()
		done := len(a.kept) == 0
		a.mu.Unlock()
		if done || a.wait() != nil {
			return
		}
	}
}
