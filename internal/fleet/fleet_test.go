package fleet

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"math/big"
	"net"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nkeys"

	"kindredgate/internal/exchange"
	"kindredgate/internal/placement"
)

// memory keeps records in memory.
type memory struct {
	mu      sync.Mutex
	joined  map[string]Joined
	invited map[string]Invitation
}

func newMemory() *memory {
	return &memory{joined: map[string]Joined{}, invited: map[string]Invitation{}}
}

func (m *memory) Joined(context.Context) (list []Joined, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, j := range m.joined {
		if j.Revoked.IsZero() {
			list = append(list, j)
		}
	}
	return list, nil
}

func (m *memory) SaveJoined(_ context.Context, j Joined) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.joined[j.ID] = j
	return nil
}

func (m *memory) SaveInvitation(_ context.Context, i Invitation) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.invited[i.ID] = i
	return nil
}

func (m *memory) Invitation(_ context.Context, id string) (Invitation, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	i, ok := m.invited[id]
	if !ok {
		return i, ErrUnknown
	}
	return i, nil
}

func (m *memory) TakeInvitation(ctx context.Context, id string) (Invitation, error) {
	i, err := m.Invitation(ctx, id)
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.invited, id)
	return i, err
}

// counted answers with so many pieces, a number each, as fast as they are taken; it waits for its client to leave after some.
type counted struct {
	pieces, stopAt int
	given          atomic.Int64
	ended          atomic.Int64 // runs whose client has left
}

func (c *counted) Run(ctx context.Context, w Work, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		if w.Model == "broken" {
			yield(nil, exchange.InvalidParam("model", "it is broken"))
			return
		}
		over := false
		defer func() {
			if !over {
				c.ended.Add(1)
			}
		}()
		if !yield(exchange.Started{PromptTokens: len(req.Turns)}, nil) {
			return
		}
		for i := range c.pieces {
			if c.stopAt > 0 && i == c.stopAt {
				<-ctx.Done()
				yield(nil, context.Cause(ctx))
				return
			}
			if !yield(exchange.TextDelta{Text: fmt.Sprintf("%d ", i), Tokens: 1}, nil) {
				return
			}
			c.given.Add(1)
		}
		over = true
		yield(exchange.Finish{Reason: exchange.Stopped, Tokens: c.pieces}, nil)
	}
}

func (c *counted) Embed(_ context.Context, _ Work, req *exchange.Embedding) (*exchange.Vectors, error) {
	v := &exchange.Vectors{Tokens: len(req.Inputs)}
	for i := range req.Inputs {
		v.Vectors = append(v.Vectors, slices.Repeat([]float32{float32(i) + 0.123456789}, 1024))
	}
	return v, nil
}

func (c *counted) Rank(_ context.Context, _ Work, req *exchange.Ranking) (*exchange.Relevance, error) {
	r := &exchange.Relevance{}
	for _, d := range req.Documents {
		r.Scores = append(r.Scores, float64(len(d))/10)
	}
	return r, nil
}

func certificate(t testing.TB) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "gate"}, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

func quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

func open(t testing.TB, r Records) (*Hub, string) {
	t.Helper()
	secrets, err := NewSecrets()
	if err != nil {
		t.Fatal(err)
	}
	c := certificate(t)
	h, err := Open(t.Context(), Options{Listen: "127.0.0.1:0", Certificate: c, Secrets: secrets, Records: r, Log: quiet()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Close() })
	return h, Fingerprint(c.Certificate[0])
}

// join lets a machine in, and has it work, by an address that may be a proxy's.
func join(t testing.TB, h *Hub, fingerprint, address, name string, r Runner, offer func() Offer) *Machine {
	t.Helper()
	token, _, err := h.Invite(t.Context(), name, time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	c, err := Join(t.Context(), []string{Scheme + address}, token, fingerprint)
	if err != nil {
		t.Fatal(err)
	}
	if offer == nil {
		offer = func() Offer { return Offer{Models: []Model{{Name: "harbour-4m", Context: 2048}, {Name: "broken"}}} }
	}
	m, err := Serve(MemberOptions{Credentials: c, Runner: r, Offer: offer, Version: "1", Log: quiet()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	machine := machineOf(t, h, name)
	waitFor(t, "its first word", func() bool { return machine.Away() == "" })
	return machine
}

func machineOf(t testing.TB, h *Hub, name string) *Machine {
	t.Helper()
	m, ok := h.Machine(name)
	if !ok {
		t.Fatalf("no machine %q", name)
	}
	return m
}

func waitFor(t testing.TB, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(15 * time.Second); !is(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

func asked() *exchange.Request {
	return &exchange.Request{Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text("When does it sail?")}}}}
}

func sequence(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%d ", i)
	}
	return b.String()
}

// text takes an answer, and says what it is.
func text(t testing.TB, m *Machine, req *exchange.Request, each func()) (string, error) {
	t.Helper()
	var b strings.Builder
	for event, err := range m.Run(t.Context(), "harbour-4m", req) {
		if err != nil {
			return b.String(), err
		}
		if d, ok := event.(exchange.TextDelta); ok {
			b.WriteString(d.Text)
		}
		if each != nil {
			each()
		}
	}
	return b.String(), nil
}

// What a machine answers comes as it was given, whatever its size, to several at once; a slow client holds up only itself, and what waits for it is
// bounded; errors are the machine's own.
func TestWork(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	runner := &counted{pieces: 3000}
	m := join(t, h, fingerprint, h.Address(), "attic", runner, nil)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			if got, err := text(t, m, asked(), nil); err != nil || got != sequence(3000) {
				t.Errorf("%d bytes, %v", len(got), err)
			}
		})
	}
	all.Wait()
	large := asked()
	large.Turns[0].Parts = []exchange.Part{exchange.Text(strings.Repeat("x", 3<<20))}
	if got, err := text(t, m, large, nil); err != nil || got != sequence(3000) {
		t.Errorf("of a large request %d bytes, %v", len(got), err)
	}

	runner.given.Store(0)
	slow, taken := make(chan struct{}), make(chan struct{})
	var once sync.Once
	all.Go(func() {
		if got, err := text(t, m, asked(), func() { once.Do(func() { close(taken); <-slow }) }); err != nil || got != sequence(3000) {
			t.Errorf("slowly, %d bytes, %v", len(got), err)
		}
	})
	<-taken
	if got, err := text(t, m, asked(), nil); err != nil || got != sequence(3000) {
		t.Errorf("beside a slow client, %d bytes, %v", len(got), err)
	}
	close(slow)
	all.Wait()
	for _, err := range m.Run(t.Context(), "broken", asked()) {
		var e *exchange.Error
		if !errors.As(err, &e) || e.Param != "model" || e.Message != "it is broken" {
			t.Errorf("the error is %v", err)
		}
	}
}

// A client that leaves, or cancels, ends the answer on the machine.
func TestLeaving(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	runner := &counted{pieces: 100, stopAt: 3}
	m := join(t, h, fingerprint, h.Address(), "attic", runner, nil)
	for range m.Run(t.Context(), "harbour-4m", asked()) {
		break
	}
	waitFor(t, "the end of the first", func() bool { return runner.ended.Load() == 1 })
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	for _, err := range m.Run(ctx, "harbour-4m", asked()) {
		if cancel(); err != nil && !errors.Is(err, context.Canceled) {
			t.Error(err)
		}
	}
	waitFor(t, "the end of the second", func() bool { return runner.ended.Load() == 2 })
}

// proxy is a line that can be cut.
type proxy struct {
	net.Listener
	to    string
	mu    sync.Mutex
	lines []net.Conn
	down  bool
	// stalled lines take what comes and pass nothing on.
	stalled bool
}

func newProxy(t *testing.T, to string) *proxy {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &proxy{Listener: l, to: to}
	t.Cleanup(func() { l.Close(); p.cut(true) })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			p.mu.Lock()
			if p.down {
				p.mu.Unlock()
				in.Close()
				continue
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				p.mu.Unlock()
				in.Close()
				continue
			}
			p.lines = append(p.lines, in, out)
			p.mu.Unlock()
			go func() { _, _ = io.Copy(in, p.through(out)); in.Close(); out.Close() }()
			go func() { _, _ = io.Copy(out, p.through(in)); in.Close(); out.Close() }()
		}
	}()
	return p
}

// through is what comes from a side, as long as the line is not stalled.
func (p *proxy) through(from io.Reader) io.Reader { return &stalling{p, from} }

type stalling struct {
	*proxy
	from io.Reader
}

func (s *stalling) Read(b []byte) (int, error) {
	for {
		n, err := s.from.Read(b)
		s.mu.Lock()
		stalled := s.stalled
		s.mu.Unlock()
		if !stalled || err != nil {
			return n, err
		}
	}
}

func (p *proxy) cut(stays bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.lines {
		c.Close()
	}
	p.lines, p.down, p.stalled = nil, stays, false
}

func (p *proxy) mend() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.down = false
}

// A line that is cut and comes back loses nothing and repeats nothing; one that stays away ends the answer within seconds, on both sides.
func TestCutLines(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	p := newProxy(t, h.Address())
	runner := &counted{pieces: 2000}
	m := join(t, h, fingerprint, p.Addr().String(), "attic", runner, nil)
	n := 0
	got, err := text(t, m, asked(), func() {
		if n++; n == 300 || n == 1200 {
			p.cut(false)
		}
		runtime.Gosched()
	})
	if err != nil || got != sequence(2000) {
		t.Fatalf("%d of %d bytes, %v", len(got), len(sequence(2000)), err)
	}
	runner.stopAt = 50
	n = 0
	begun := time.Now()
	_, err = text(t, m, asked(), func() {
		if n++; n == 20 {
			p.cut(true)
		}
	})
	var e *exchange.Error
	if !errors.As(err, &e) || e.Code != "runner_unavailable" {
		t.Errorf("a line that stays away ends with %v", err)
	}
	if took := time.Since(begun); took > lostAfter+5*time.Second {
		t.Errorf("that took %s", took)
	}
	if _, err := text(t, m, asked(), nil); !errors.As(err, &e) || e.Code != "runner_unavailable" {
		t.Errorf("a machine that is away is asked: %v", err)
	}
	p.mend()
	waitFor(t, "the machine to come back", func() bool { return m.Away() == "" })
}

// A token works once, for a time, and at the gate that gave it; a machine has a key of its own, which can be revoked; it may neither read nor
// say what is another's.
func TestWhoComesIn(t *testing.T) {
	records := newMemory()
	h, fingerprint := open(t, records)
	other, _ := open(t, newMemory())
	token, _, err := h.Invite(t.Context(), "attic", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	for name, try := range map[string]func() error{
		"another certificate": func() error {
			_, err := Join(t.Context(), []string{Scheme + h.Address()}, token, strings.Repeat("ab", 32))
			return err
		},
		"another gate": func() error {
			_, err := Join(t.Context(), []string{Scheme + other.Address()}, token, Fingerprint(other.opts.Certificate.Certificate[0]))
			return err
		},
		"no token": func() error {
			_, err := Join(t.Context(), []string{Scheme + h.Address()}, Token{rand.Text(), rand.Text(), token.Seal}, fingerprint)
			return err
		},
		"no fingerprint": func() error { _, err := Join(t.Context(), []string{Scheme + h.Address()}, token, "12"); return err },
	} {
		if err := try(); err == nil {
			t.Errorf("%s: it came in", name)
		} else {
			t.Logf("%s: %v", name, err)
		}
	}
	c, err := Join(t.Context(), []string{Scheme + h.Address()}, token, fingerprint)
	if err != nil || c.Name != "attic" {
		t.Fatalf("%+v, %v", c, err)
	}
	if _, err := Join(t.Context(), []string{Scheme + h.Address()}, token, fingerprint); err == nil {
		t.Error("a token works twice")
	}
	if _, _, err := h.Invite(t.Context(), "attic", time.Minute); err == nil {
		t.Error("a second machine of the same name is invited")
	}
	if _, _, err := h.Invite(t.Context(), "At/tic", time.Minute); err == nil {
		t.Error("any name will do")
	}
	guessed, _, err := h.Invite(t.Context(), "guessed", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	for _, secret := range []string{rand.Text(), guessed.Secret} { // after a guess the invitation is withdrawn
		if _, err := Join(t.Context(), []string{Scheme + h.Address()}, Token{guessed.ID, secret, guessed.Seal}, fingerprint); err == nil {
			t.Error("it came in after a guess")
		}
	}
	late, _, err := h.Invite(t.Context(), "late", time.Second)
	if err != nil {
		t.Fatal(err)
	}
	for id, i := range records.invited {
		i.Until = time.Now().Add(-time.Second)
		records.invited[id] = i
	}
	if _, err := Join(t.Context(), []string{Scheme + h.Address()}, late, fingerprint); err == nil {
		t.Error("a token that has expired works")
	}

	// A machine that listens to others, and speaks for them.
	user, err := nkeys.FromSeed([]byte(c.Seed))
	if err != nil {
		t.Fatal(err)
	}
	id, _ := user.PublicKey()
	refused := make(chan error, 10)
	conn, err := nats.Connect("tls://"+h.Address(), nats.Secure(secured(fingerprint)), nats.Nkey(id, user.Sign), nats.NoReconnect(),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { refused <- err }))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	for _, subject := range []string{">", "fleet.>", "_INBOX.>", "$SYS.>", "fleet.other.begin"} {
		sub, err := conn.SubscribeSync(subject)
		if err != nil {
			t.Fatal(err)
		}
		select {
		case err := <-refused:
			if !errors.Is(err, nats.ErrPermissionViolation) {
				t.Errorf("%s: %v", subject, err)
			}
		case <-time.After(5 * time.Second):
			t.Errorf("it may listen to %s", subject)
		}
		_ = sub.Unsubscribe()
	}
	for _, subject := range []string{"fleet.other.hello", enrolSubject, beginSubject(id), ackSubject(id, "X")} {
		if err := errors.Join(conn.Publish(subject, []byte("x")), conn.Flush()); err != nil {
			t.Fatal(err)
		}
		select {
		case <-refused:
		case <-time.After(5 * time.Second):
			t.Errorf("it may say something at %s", subject)
		}
	}

	if _, err := nats.Connect("tls://"+h.Address(), nats.Secure(secured(fingerprint)), nats.Nkey(id, another(t).Sign), nats.NoReconnect()); !errors.Is(err, nats.ErrAuthorization) {
		t.Errorf("somebody who does not have the machine's key signs in as it: %v", err)
	}

	if err := h.Revoke(t.Context(), "attic"); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the line of a revoked machine to end", conn.IsClosed)
	if _, err := nats.Connect("tls://"+h.Address(), nats.Secure(secured(fingerprint)), nats.Nkey(id, user.Sign), nats.NoReconnect()); err == nil {
		t.Error("a revoked machine comes in again")
	}
	if err := h.Revoke(t.Context(), "attic"); err == nil {
		t.Error("it is revoked twice")
	}
}

// another is somebody's key.
func another(t *testing.T) nkeys.KeyPair {
	t.Helper()
	k, err := nkeys.CreateUser()
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// Vectors and scores come whole, however many they are; what a machine does not offer any more, or cannot read, is an error.
func TestOtherWork(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	m := join(t, h, fingerprint, h.Address(), "attic", &counted{}, nil)
	req := &exchange.Embedding{Inputs: make([]exchange.Input, 300)}
	v, err := m.Embed(t.Context(), "harbour-4m", req)
	if err != nil || len(v.Vectors) != 300 || len(v.Vectors[299]) != 1024 || v.Vectors[299][7] != 299.123456789 || v.Tokens != 300 {
		t.Errorf("%v", err)
	}
	s, err := m.Rank(t.Context(), "harbour-4m", &exchange.Ranking{Query: "q", Documents: []string{"", "12345"}})
	if err != nil || len(s.Scores) != 2 || s.Scores[1] != 0.5 {
		t.Errorf("%+v %v", s, err)
	}
	var e *exchange.Error
	if _, err := m.Embed(t.Context(), "harbour-9m", req); !errors.As(err, &e) || e.Code != "model_not_found" {
		t.Errorf("a model that is not offered: %v", err)
	}
	if err := m.ask(t.Context(), "dance", Work{Model: "harbour-4m"}, []byte("{}"), nil, func([]byte) error { return nil }); !errors.As(err, &e) || e.Code != "request_unknown" {
		t.Errorf("work of a kind that is not known: %v", err)
	}
	if err := m.ask(t.Context(), answerKind, Work{Model: "harbour-4m"}, []byte(`{"turns":5}`), nil, func([]byte) error { return nil }); !errors.As(err, &e) || e.Code != "request_unknown" {
		t.Errorf("a request that cannot be read: %v", err)
	}
	if err := m.ask(t.Context(), answerKind, Work{Model: "harbour-4m"}, make([]byte, mostRequest+1), nil, func([]byte) error { return nil }); !errors.As(err, &e) || e.Kind != exchange.TooLarge {
		t.Errorf("a request that is too large: %v", err)
	}
}

// A machine that is started anew in the middle of an answer does not leave its client waiting, and one whose line stalls without being cut does not either.
func TestMachinesThatForget(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	runner := &counted{pieces: 100, stopAt: 10}
	token, _, err := h.Invite(t.Context(), "attic", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	p := newProxy(t, h.Address())
	c, err := Join(t.Context(), []string{Scheme + p.Addr().String()}, token, fingerprint)
	if err != nil {
		t.Fatal(err)
	}
	serve := func() *Member {
		m, err := Serve(MemberOptions{Credentials: c, Runner: runner, Offer: func() Offer { return Offer{Models: []Model{{Name: "harbour-4m"}}} }, Log: quiet()})
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	first := serve()
	m := machineOf(t, h, "attic")
	waitFor(t, "its first word", func() bool { return m.Away() == "" })
	cut := func(how func()) {
		t.Helper()
		n, begun := 0, time.Now()
		_, err := text(t, m, asked(), func() {
			if n++; n == 5 {
				how()
				begun = time.Now()
			}
		})
		var e *exchange.Error
		if !errors.As(err, &e) || e.Code != "runner_unavailable" {
			t.Errorf("it ends with %v", err)
		}
		if took := time.Since(begun); took > lostAfter+3*time.Second {
			t.Errorf("that took %s", took)
		}
	}
	cut(func() {
		first.conn.Close() // as one that is killed: nothing is said
		first.end(nil)
		second := serve()
		t.Cleanup(func() { second.Close() })
	})
	first.close()
	waitFor(t, "the machine to be there again", func() bool { return m.Away() == "" })
	cut(p.stall)
}

// serving is a machine that has joined and works, with both sides of it.
func serving(t *testing.T, h *Hub, fingerprint string, r Runner) (*Member, *Machine) {
	t.Helper()
	token, _, err := h.Invite(t.Context(), "attic", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	c, err := Join(t.Context(), []string{Scheme + h.Address()}, token, fingerprint)
	if err != nil {
		t.Fatal(err)
	}
	member, err := Serve(MemberOptions{Credentials: c, Runner: r, Offer: func() Offer { return Offer{Models: []Model{{Name: "harbour-4m"}}} }, Log: quiet()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { member.Close() })
	m := machineOf(t, h, "attic")
	waitFor(t, "its first word", func() bool { return m.Away() == "" })
	return member, m
}

// A machine that is stopped takes nothing new, and lets answers end that are in progress; those that do not end by then end with an error that says why. The
// gate knows at once that it was stopped, and does not count it as one that comes and goes.
func TestStopping(t *testing.T) {
	for name, c := range map[string]struct {
		stopAt int
		want   string // the code of the error; "" for none
	}{"an answer that ends": {0, ""}, "an answer that goes on": {20, "shutting_down"}} {
		h, fingerprint := open(t, newMemory())
		member, m := serving(t, h, fingerprint, &counted{pieces: 3000, stopAt: c.stopAt})
		stopped := make(chan error, 1)
		n := 0
		_, err := text(t, m, asked(), func() {
			if n++; n != 10 {
				return
			}
			grace, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
			if c.want == "" {
				grace, cancel = context.WithTimeout(context.Background(), time.Minute)
			}
			go func() {
				defer cancel()
				stopped <- member.Shutdown(grace)
			}()
			waitFor(t, "the machine to say that it is being stopped", func() bool { return m.Away() == "it is being stopped" })
			var e *exchange.Error
			if err := member.work(nil, begin{Work: Work{Model: "harbour-4m"}, Kind: answerKind}, 0); !errors.As(err, &e) || e.Code != "runner_unavailable" {
				t.Errorf("%s: another request: %v", name, err)
			}
		})
		var e *exchange.Error
		if errors.As(err, &e); (err != nil) != (c.want != "") || e != nil && e.Code != c.want {
			t.Errorf("%s ends with %v", name, err)
		}
		if err := <-stopped; err != nil {
			t.Error(err)
		}
		began := time.Now()
		waitFor(t, "its last word", func() bool { return m.Away() == "it was stopped" })
		if took := time.Since(began); took > lostAfter/2 {
			t.Errorf("%s: it took %s to hear that", name, took)
		}
		m.mu.Lock()
		m.heard = m.heard.Add(-time.Minute)
		m.mu.Unlock()
		m.says(Hello{Version: Version})
		if s := m.State(); s.Returns != 0 || s.Away != "" {
			t.Errorf("%s: after its return: %+v", name, s)
		}
	}
}

// A request that is said once more, by whoever carried it, is not done again; nor is one that was said long ago, or will be.
func TestRequestsAreDoneOnce(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	runner := &counted{pieces: 3}
	member, m := serving(t, h, fingerprint, runner)
	carried := make(chan *nats.Msg, 100)
	if _, err := h.conn.ChanSubscribe(beginSubject(member.id), carried); err != nil {
		t.Fatal(err)
	}
	if err := h.conn.Flush(); err != nil {
		t.Fatal(err)
	}
	if got, err := text(t, m, asked(), nil); err != nil || got != sequence(3) {
		t.Fatalf("%q, %v", got, err)
	}
	once := (<-carried).Data
	waitFor(t, "the answer to have ended there", func() bool { return member.inProgress() == 0 })
	doc, err := asked().Encode()
	if err != nil {
		t.Fatal(err)
	}
	say := func(until time.Duration) {
		sealed, err := seal(h.keys.seal, m.joined.Seal, begin{Work: Work{Model: "harbour-4m"}, Line: rand.Text(), Gate: h.id, Kind: answerKind, Key: newKey(), Parts: 1, Doc: doc, Until: time.Now().Add(until)})
		if err != nil {
			t.Fatal(err)
		}
		if err := h.conn.Publish(beginSubject(member.id), sealed); err != nil {
			t.Fatal(err)
		}
	}
	for range 3 {
		if err := h.conn.Publish(beginSubject(member.id), once); err != nil {
			t.Fatal(err)
		}
	}
	say(-time.Second)
	say(time.Hour)
	say(askedFor) // which is done: by then the others have come
	waitFor(t, "the last", func() bool { return runner.given.Load() >= 6 })
	if n := runner.given.Load(); n != 6 {
		t.Errorf("%d pieces were given for two requests of three each", n)
	}
	// The clock of a machine that is far off is told by what it says, so its requests come in its time.
	m.mu.Lock()
	m.skew = 5 * time.Minute
	m.mu.Unlock()
	if skew := m.far().skew(); skew != 5*time.Minute {
		t.Errorf("its clock is taken to be %s ahead", skew)
	}
}

// A machine of another version takes work if it is one apart, and is told what to do if it is more; what it says of itself is bounded.
func TestWhatMachinesSay(t *testing.T) {
	h, _ := open(t, newMemory())
	m := newMachine(h, Joined{Name: "attic"})
	for version, want := range map[int]string{Version: "", Version + 1: "", Version + 2: "install a newer version on the gate", Version - 2: "install a newer version on the machine"} {
		m.says(Hello{Version: version, Models: []Model{{Name: "a"}}})
		if got := m.Away(); (got == "") != (want == "") || !strings.Contains(got, want) {
			t.Errorf("version %d: %q", version, got)
		}
	}
	many := Hello{Version: Version, Away: strings.Repeat("x", 1<<20), Models: []Model{{Name: ""}, {Name: strings.Repeat("y", 1000)}}}
	for i := range 3 * mostModels {
		many.Models = append(many.Models, Model{Name: fmt.Sprint(i), Known: make([]byte, 1<<12), Queued: -5})
	}
	m.says(many)
	if n := len(m.Models()); n > mostModels {
		t.Errorf("%d models are kept", n)
	}
	if n := len(m.Away()); n > mostText {
		t.Errorf("%d bytes of why it is away are kept", n)
	}
	if c := m.Candidate("5", nil); c.Queued < 0 {
		t.Errorf("%+v", c)
	}
	m.says(Hello{Version: Version, Models: []Model{{Name: "a", Digest: "1"}}})
	m.says(Hello{Version: Version, Models: []Model{{Name: "a", Digest: "2"}}})
	if s := m.State(); s.Faults[changedFault] != 1 || s.Faults[modelsFault] != 1 {
		t.Errorf("%v", s.Faults)
	}
	for kind, want := range map[exchange.Kind]exchange.Kind{exchange.Unauthenticated: exchange.Unavailable, exchange.Kind(99): exchange.Unavailable, exchange.Invalid: exchange.Invalid} {
		err := (&failure{Kind: kind, Message: strings.Repeat("é", 5000), Retry: 1 << 62}).err()
		var e *exchange.Error
		if !errors.As(err, &e) || e.Kind != want || len(e.Message) > mostText || e.RetryAfter > time.Hour {
			t.Errorf("%v: %+v", kind, e)
		}
	}
}

// A machine that answers for another one is not believed, and one that floods the gate is left alone, while others go on.
func TestMachinesThatLie(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	good := join(t, h, fingerprint, h.Address(), "attic", &counted{pieces: 2000}, nil)
	token, _, err := h.Invite(t.Context(), "cellar", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	c, err := Join(t.Context(), []string{Scheme + h.Address()}, token, fingerprint)
	if err != nil {
		t.Fatal(err)
	}
	bad, err := Serve(MemberOptions{Credentials: c, Runner: &counted{}, Offer: func() Offer { return Offer{Models: []Model{{Name: "harbour-4m"}}} }, Log: quiet()})
	if err != nil {
		t.Fatal(err)
	}
	defer bad.Close()
	m := machineOf(t, h, "cellar")
	waitFor(t, "its first word", func() bool { return m.Away() == "" })
	n := 0
	got, err := text(t, good, asked(), func() {
		if n++; n%100 != 0 {
			return
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		for line := range h.answers { // which it has no way to know of
			if err := bad.conn.Publish(eventSubject(bad.id, h.id, line), []byte("forged")); err != nil {
				t.Error(err)
			}
		}
	})
	if err != nil || got != sequence(2000) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
	if faults := good.State().Faults; len(faults) > 0 {
		t.Errorf("the machine that another one answers for is blamed: %v", faults)
	}
	waste := make([]byte, 512<<10)
	for range 4 * mostStray / len(waste) {
		if bad.conn.Publish(eventSubject(bad.id, h.id, "X"), waste) != nil {
			break // it was cut off
		}
	}
	waitFor(t, "the one that floods to be left alone", func() bool { return strings.Contains(m.Away(), "left alone") })
	if got, err := text(t, good, asked(), nil); err != nil || got != sequence(2000) {
		t.Errorf("beside one that floods: %d bytes, %v", len(got), err)
	}
}

// stall has the line stay open while nothing goes through.
func (p *proxy) stall() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stalled = true
}

// FuzzTexts reads what people and machines give as text.
func FuzzTexts(f *testing.F) {
	secrets, err := NewSecrets()
	if err != nil {
		f.Fatal(err)
	}
	k, err := secrets.open()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(Token{rand.Text(), rand.Text(), k.sealPublic}.String())
	f.Add("tls://gate.example:7718,tls://[::1]:7718")
	f.Fuzz(func(t *testing.T, text string) {
		if token, err := ParseToken(text); err == nil && token.String() != strings.TrimSpace(text) {
			t.Errorf("%q is read as %v", text, token)
		}
		if list, err := ParseAddresses(text); err == nil {
			again, err := ParseAddresses(strings.Join(list, ","))
			if err != nil || !slices.Equal(again, list) {
				t.Errorf("%q is read as %v, and that as %v, %v", text, list, again, err)
			}
		}
		_, _ = ParseSecrets([]byte(text))
	})
}

// FuzzHello has a machine say anything of itself.
func FuzzHello(f *testing.F) {
	f.Add([]byte(`{"version":1,"models":[{"name":"harbour-4m","queued":3,"prefill":1e300,"prefixes":"AAAA"}],"at_once":-1,"open":-7}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var h Hello
		if json.Unmarshal(raw, &h) != nil {
			return
		}
		m := newMachine(&Hub{opts: Options{Log: quiet()}, server: &server.Server{}}, Joined{Name: "attic"})
		m.says(h)
		_ = m.State()
		for _, one := range m.Models() {
			e := placement.Of(m.Candidate(one.Name, []uint32{1}), placement.Request{Prompt: 10})
			if e.Total < 0 || e.Total != e.Total {
				t.Errorf("%+v", e)
			}
		}
	})
}

// FuzzMessages has a machine send any messages in any order: what is taken is what was numbered, once.
func FuzzMessages(f *testing.F) {
	f.Add([]byte{1, 2, 3, 3, 2, 9, 4})
	f.Fuzz(func(t *testing.T, numbers []byte) {
		w := &waiting{tell: func(ack) {}, last: time.Now(), done: make(chan struct{})}
		want := 1
		for _, n := range numbers {
			msg := &message{Number: int(int8(n))}
			if w.next(msg) {
				if msg.Number != want {
					t.Fatalf("message %d is taken, where %d comes next", msg.Number, want)
				}
				w.taken(msg)
				want++
			}
		}
	})
}

// Whoever carries messages sees neither prompts nor answers nor secrets: no message on the gate's server has any of them.
func TestWhatServersSee(t *testing.T) {
	h, fingerprint := open(t, newMemory())
	var mu sync.Mutex
	var seen []byte
	sub, err := h.conn.Subscribe(">", func(msg *nats.Msg) {
		mu.Lock()
		defer mu.Unlock()
		seen = append(append(seen, msg.Subject...), msg.Data...)
	})
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = sub.Unsubscribe() }()
	token, _, err := h.Invite(t.Context(), "attic", time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	c, err := Join(t.Context(), []string{Scheme + h.Address()}, token, fingerprint)
	if err != nil {
		t.Fatal(err)
	}
	member, err := Serve(MemberOptions{Credentials: c, Runner: &counted{pieces: 100}, Log: quiet(), Offer: func() Offer { return Offer{Models: []Model{{Name: "harbour-4m", Digest: "of-its-files"}}} }})
	if err != nil {
		t.Fatal(err)
	}
	defer member.Close()
	m := machineOf(t, h, "attic")
	waitFor(t, "its first word", func() bool { return m.Away() == "" })
	if got, err := text(t, m, asked(), nil); err != nil || got != sequence(100) {
		t.Fatalf("%q %v", got, err)
	}
	mu.Lock()
	defer mu.Unlock()
	if len(seen) < 5000 {
		t.Fatalf("only %d bytes were seen", len(seen))
	}
	for _, secret := range []string{"When does it sail", "17 18 19", "harbour-4m", "of-its-files", token.Secret, c.Seed, c.SealSeed} {
		if strings.Contains(string(seen), secret) {
			t.Errorf("%q goes over the servers as it is", secret)
		}
	}
}

// BenchmarkHello is what it costs a gate to hear how a machine with five models is, whose prompts have changed.
func BenchmarkHello(b *testing.B) {
	h, fingerprint := open(b, newMemory())
	m := join(b, h, fingerprint, h.Address(), "attic", &counted{}, nil)
	secrets, err := NewSecrets()
	if err != nil {
		b.Fatal(err)
	}
	k, err := secrets.open()
	if err != nil {
		b.Fatal(err)
	}
	hello := Hello{Version: Version, Gate: "0.1.0", Time: time.Now()}
	for i := range 5 {
		one := Model{Name: fmt.Sprint("harbour-", i), Use: "chat", Digest: "fp_0123456789ab", Context: 32768, Prefill: 812.5, Decode: 41.25}
		if i == 0 {
			one.Known = make([]byte, 4096)
		}
		hello.Models = append(hello.Models, one)
	}
	raw, err := seal(k.seal, h.keys.sealPublic, hello)
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		var got Hello
		if err := unseal(h.keys.seal, k.sealPublic, raw, &got); err != nil {
			b.Fatal(err)
		}
		m.says(got)
	}
	b.ReportMetric(float64(len(raw)), "bytes")
}

// leaving waits for its client to leave.
type leaving struct {
	counted
	left chan struct{}
}

func (l *leaving) Run(ctx context.Context, _ Work, _ *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		if !yield(exchange.Started{PromptTokens: 1}, nil) {
			return
		}
		<-ctx.Done()
		l.left <- struct{}{}
		yield(nil, context.Cause(ctx))
	}
}

// BenchmarkCancel is how long it takes for a machine to learn that a client has left.
func BenchmarkCancel(b *testing.B) {
	h, fingerprint := open(b, newMemory())
	runner := &leaving{left: make(chan struct{}, 1)}
	m := join(b, h, fingerprint, h.Address(), "attic", runner, nil)
	var took []time.Duration
	for b.Loop() {
		ctx, cancel := context.WithCancel(b.Context())
		var at time.Time
		for range m.Run(ctx, "harbour-4m", asked()) {
			if at.IsZero() {
				time.Sleep(time.Millisecond) // the machine waits by now
				at = time.Now()
				cancel()
			}
		}
		<-runner.left
		took = append(took, time.Since(at))
		cancel()
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds()), "median-µs")
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds()), "p99-µs")
}
