package fleet

import (
	"context"
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
	"sync"
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
	a := application{Secret: token.Secret, Version: Version}
	if a.ID, err = user.PublicKey(); err != nil {
		return c, err
	}
	proof, err := user.Sign([]byte(token.Secret))
	if err != nil {
		return c, err
	}
	a.Proof = base64.RawURLEncoding.EncodeToString(proof)
	e := enrolment{Invitation: token.ID}
	if e.Machine, err = curve.PublicKey(); err != nil {
		return c, err
	}
	if e.Sealed, err = seal(curve, token.Seal, a); err != nil {
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
	models   map[string]*measured
	said     string // why the gate could not be reached, as it was logged last
}

// pending is a request of which parts have come.
type pending struct {
	begin
	since time.Time
}

// mostPending bounds the requests of which not all parts have come.
const mostPending = 64

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
	m := &Member{opts: o, open: map[string]*answer{}, incoming: map[string]*pending{}, models: map[string]*measured{}}
	if m.id, err = user.PublicKey(); err != nil {
		return nil, err
	}
	if m.key, err = nkeys.FromCurveSeed([]byte(o.Credentials.SealSeed)); err != nil {
		return nil, fmt.Errorf("the key of this machine: %w", err)
	}
	m.ctx, m.end = context.WithCancel(context.Background())
	m.conn, err = nats.Connect(strings.Join(o.Credentials.Servers, ","), nats.Secure(secured(o.Credentials.Fingerprint)), nats.Nkey(m.id, user.Sign), nats.Name(o.Credentials.Name),
		nats.RetryOnFailedConnect(true), nats.MaxReconnects(-1), nats.IgnoreDiscoveredServers(), nats.CustomReconnectDelay(reconnectAfter), nats.ReconnectBufSize(-1),
		nats.PingInterval(time.Second), nats.MaxPingsOutstanding(3), nats.Timeout(10*time.Second), nats.IgnoreAuthErrorAbort(),
		nats.ConnectHandler(m.arrived), nats.ReconnectHandler(m.arrived),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) { m.cut(err) }), nats.ReconnectErrHandler(func(_ *nats.Conn, err error) { m.cut(err) }))
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

// Close ends the machine's work. Answers in progress end with an error.
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
		m.hello(m.conn)
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

// hello says on a connection what this machine offers.
func (m *Member) hello(conn *nats.Conn) {
	defer func() {
		if p := recover(); p != nil {
			m.opts.Log.Error("saying what is offered caused a panic", "panic", fmt.Sprint(p))
		}
	}()
	if !conn.IsConnected() {
		return // what is said while the line is cut would only be old when it comes
	}
	o := m.opts.Offer()
	line, _ := conn.RTT() // 0 if it is cut just now
	h := Hello{Version: Version, Gate: m.opts.Version, Time: time.Now(), Line: line, AtOnce: o.AtOnce, Away: o.Away, Models: slices.Clone(o.Models)}
	m.mu.Lock()
	h.Open = len(m.open)
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
	sealed, err := seal(m.key, m.opts.Credentials.Seal, h)
	if err == nil {
		_ = conn.Publish(helloSubject(m.id), sealed) // the next one says the same
	}
}

// begin takes a request, or a part of one.
func (m *Member) begin(msg *nats.Msg) {
	var b begin
	if err := unseal(m.key, m.opts.Credentials.Seal, msg.Data, &b); err != nil {
		m.opts.Log.Warn("a request was refused", "error", err.Error())
		return
	}
	if !random(b.Line) || !random(b.Gate) || b.Parts < 1 || b.Parts > mostRequest/partBytes || b.Part < 0 || b.Part >= b.Parts {
		return
	}
	m.mu.Lock()
	if there := m.open[b.Line]; there != nil {
		m.mu.Unlock()
		there.send(message{}) // it was asked once more before that was known
		return
	}
	p := m.incoming[b.Line]
	switch {
	case b.Part == 0 && len(m.incoming) < mostPending:
		p = &pending{begin: b, since: time.Now()}
		m.incoming[b.Line] = p
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
	delete(m.incoming, b.Line)
	sealer, err := newSealer(p.Key)
	if err != nil {
		m.mu.Unlock()
		return
	}
	full := len(m.open)
	ctx, cancel := context.WithCancelCause(m.ctx)
	a := &answer{member: m, line: p.Line, subject: eventSubject(m.id, p.Gate, p.Line), sealer: sealer, ctx: ctx, cancel: cancel, moved: make(chan struct{}, 1), heard: time.Now()}
	m.open[b.Line] = a
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
		offer := m.opts.Offer()
		switch {
		case offer.AtOnce > 0 && full >= offer.AtOnce:
			a.finish(exchange.Errorf(exchange.Unavailable, "runner_busy", "the machine gives as many answers at once as its operator lets it (%d)", offer.AtOnce))
		case offer.Away != "":
			a.finish(exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine takes no work: %s", offer.Away))
		case !slices.ContainsFunc(offer.Models, func(one Model) bool { return one.Name == p.Model }):
			a.finish(exchange.Errorf(exchange.NotFound, "model_not_found", "the machine does not offer the model %q any more", p.Model))
		default:
			a.finish(a.do(p.begin))
		}
	})
}

func (m *Member) forget(a *answer) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.open, a.line)
}

// acked takes what the gate says of an answer.
func (m *Member) acked(msg *nats.Msg) {
	x := msg.Subject[strings.LastIndexByte(msg.Subject, '.')+1:]
	m.mu.Lock()
	a := m.open[x]
	m.mu.Unlock()
	if a != nil {
		var said ack
		if a.sealer.unseal(msg.Subject, msg.Data, &said) == nil {
			a.acked(said)
		}
	}
}

// answer is one in progress.
type answer struct {
	member  *Member
	line    string
	subject string
	sealer  sealer
	ctx     context.Context
	cancel  context.CancelCauseFunc
	moved   chan struct{} // has room for one: an ack has come

	mu     sync.Mutex
	number int       // of the last message
	kept   []message // that the gate has not said it has
	heard  time.Time // of the gate
	left   bool      // the gate wants no more
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
		if len(again) == 0 {
			again = []message{{}} // to say that it is still there
		}
	}
	a.left = a.left || said.Cancel
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
	sealed, err := a.sealer.seal(a.subject, msg)
	if err == nil {
		_ = a.member.conn.Publish(a.subject, sealed) // what is lost is asked for again
	}
}

// put numbers a message, keeps it until the gate has it, and sends it. It waits while the gate has too many to take.
func (a *answer) put(msg message) error {
	for {
		a.mu.Lock()
		if len(a.kept) < window || a.left {
			a.number++
			msg.Number = a.number
			if !a.left {
				a.kept = append(a.kept, msg)
			}
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

// unread is the error for a request that this machine's version does not understand.
func unread(err error) error {
	return exchange.Errorf(exchange.Invalid, "request_unknown", "the machine does not know all of what is asked: %v; its version may be older than the gate's", err)
}

// do does what is asked.
func (a *answer) do(b begin) error {
	runner := a.member.opts.Runner
	switch b.Kind {
	case answerKind:
		return a.run(b)
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

// write sends bytes of the answer, in as many messages as it takes.
func (a *answer) write(data []byte) error {
	for part := range slices.Chunk(data, partBytes) {
		if err := a.put(message{Data: part}); err != nil {
			return err
		}
	}
	return nil
}

// run answers a request.
func (a *answer) run(b begin) error {
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
	clock := a.member.watch(b.Model, req)
	var batch []byte
	for event, err := range a.member.opts.Runner.Run(a.ctx, b.Work, req) {
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

// behind reports whether the gate has much to take already, so that events had better go together.
func (a *answer) behind() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.kept) >= window/2
}

func (a *answer) abandoned() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.left || time.Since(a.heard) > leftAfter
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
		done := len(a.kept) == 0 || a.left
		a.mu.Unlock()
		if done || a.wait() != nil {
			return
		}
	}
}
