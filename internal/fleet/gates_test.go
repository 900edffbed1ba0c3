package fleet

import (
	"context"
	"crypto/sha256"
	"kindredgate/internal/kept"
	"maps"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nkeys"
)

// unchanging is what gates share of which nothing changes.
type unchanging struct{}

func (unchanging) Pending(context.Context, int) ([]Change, error) { return nil, nil }
func (unchanging) Behind(context.Context) (int, error)            { return 0, nil }
func (unchanging) Told(context.Context, Change) error             { return nil }
func (unchanging) Apply(context.Context, Change) (bool, error)    { return false, nil }
func (unchanging) Waiting() <-chan struct{}                       { return nil }

// outside is a NATS server that gates with its keys can use.
func outside(t *testing.T) (s *server.Server, secrets Secrets) {
	t.Helper()
	secrets, err := NewSecrets()
	if err != nil {
		t.Fatal(err)
	}
	k, err := secrets.open()
	if err != nil {
		t.Fatal(err)
	}
	s, err = server.NewServer(&server.Options{Host: "127.0.0.1", Port: server.RANDOM_PORT, NoSigs: true, NoLog: true, JetStream: true, StoreDir: t.TempDir(), AuthTimeout: authTimeout,
		Nkeys:       []*server.NkeyUser{{Nkey: k.userPublic}},
		AuthCallout: &server.AuthCallout{Issuer: k.issuerPublic, Account: globalAccount, AuthUsers: []string{k.userPublic}}})
	if err != nil {
		t.Fatal(err)
	}
	s.Start()
	t.Cleanup(s.Shutdown)
	if !s.ReadyForConnections(10 * time.Second) {
		t.Fatal("the server does not start")
	}
	return s, secrets
}

// noted is what a gate keeps of others.
type noted struct {
	mu sync.Mutex
	at map[string]time.Time
}

func (n *noted) met(name string, at time.Time, ends bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.at[name] = at; ends {
		delete(n.at, name)
	}
}

// sharing opens a gate that shares, with what it remembers of others.
func sharing(t *testing.T, s *server.Server, secrets Secrets, name string, r Records, n *noted) (*Hub, *Gates) {
	t.Helper()
	h, err := Open(t.Context(), Options{Servers: []string{s.ClientURL()}, Secrets: secrets, Records: r, Log: quiet()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Close() })
	g, err := h.Share(t.Context(), GatesOptions{Name: name, BaseURL: func() string { return "" }, Open: func() int { return 0 }, Changes: unchanging{}, Known: maps.Clone(n.at), Met: n.met, Keep: time.Hour, Responses: time.Hour, Log: quiet()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { g.Close() })
	waitFor(t, "what gates share", func() bool { _, err := g.ready(); return err == nil })
	return h, g
}

func recalls() *noted { return &noted{at: map[string]time.Time{}} }

// A gate that is stopped is not counted any more by the others; one of which nothing is heard is, since it may only be cut off, also by a gate that was
// started anew meanwhile. While the servers are away a gate knows that it is apart.
func TestHowManyGatesThereAre(t *testing.T) {
	s, secrets := outside(t)
	notes := recalls()
	_, north := sharing(t, s, secrets, "north", newMemory(), notes)
	southHub, _ := sharing(t, s, secrets, "south", newMemory(), recalls())
	_, west := sharing(t, s, secrets, "west", newMemory(), recalls())
	waitFor(t, "three gates", func() bool { return north.count() == 3 && west.count() == 3 })
	if err := west.Close(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "one to have been stopped", func() bool { return north.count() == 2 && len(north.List()) == 2 })
	southHub.conn.Close() // as one that is killed
	waitFor(t, "one to be gone", func() bool { return !north.List()[1].There() })
	if n := north.count(); n != 2 {
		t.Errorf("%d gates are counted after one was killed", n)
	}
	waitFor(t, "the servers to be looked at", func() bool { north.look(); return !north.apart() })
	if _, there := notes.at["west"]; there || notes.at["south"].IsZero() {
		t.Errorf("%v is kept", notes.at)
	}
	if err := north.Close(); err != nil {
		t.Fatal(err)
	}
	_, again := sharing(t, s, secrets, "north", newMemory(), notes)
	if n := again.count(); n != 2 {
		t.Errorf("%d gates are counted after a restart", n)
	}
	s.Shutdown()
	waitFor(t, "the gate to know that it is apart", again.apart)
}

// Of two gates that know an invitation one lets a machine in by it, also if neither has heard of the other's taking it.
func TestAnInvitationAtTwoGates(t *testing.T) {
	s, secrets := outside(t)
	invitation := Invitation{ID: "ABC", Hash: sha256.Sum256([]byte("DEF")), Name: "attic", Until: time.Now().Add(time.Minute)}
	in := 0
	for _, name := range []string{"north", "south"} {
		records := newMemory()
		if err := records.SaveInvitation(t.Context(), invitation); err != nil {
			t.Fatal(err)
		}
		h, _ := sharing(t, s, secrets, name, records, recalls())
		if _, err := h.letIn(applying(t, h, invitation.ID, "DEF")); err == nil {
			in++
		}
	}
	if in != 1 {
		t.Errorf("%d machines were let in", in)
	}
}

// applying is what a machine says to join.
func applying(t *testing.T, h *Hub, invitation, secret string) enrolment {
	t.Helper()
	user, err := nkeys.CreateUser()
	if err != nil {
		t.Fatal(err)
	}
	curve, err := nkeys.CreateCurveKeys()
	if err != nil {
		t.Fatal(err)
	}
	e, err := apply(user, curve, Token{ID: invitation, Secret: secret, Seal: h.keys.sealPublic})
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// nothing is a gate's own work, of which it has none.
type nothing struct{}

func (nothing) AddWork(context.Context, kept.Work) (bool, error)                   { return false, nil }
func (nothing) WorkDone(string)                                                    {}
func (nothing) FollowWork(context.Context, func(context.Context, kept.Work) error) {}

// Work of a gate that was killed is taken over by another, which is counted; one that stops hands it over at once, which is not.
func TestWorkThatIsTakenOver(t *testing.T) {
	s, secrets := outside(t)
	type taken struct {
		by string
		n  int
	}
	seen := make(chan taken, 10)
	open := func(name string) (*Hub, *Gates, context.CancelFunc, *Queue) {
		h, g := sharing(t, s, secrets, name, newMemory(), recalls())
		q := g.Queue(nil, nothing{})
		ctx, stop := context.WithCancel(t.Context())
		q.FollowWork(ctx, func(_ context.Context, w kept.Work) error {
			seen <- taken{name, w.Taken}
			return nil
		})
		return h, g, stop, q
	}
	first, _, _, q := open("north")
	if shared, err := q.AddWork(t.Context(), kept.Work{ID: "resp_x"}); err != nil || !shared {
		t.Fatal(err)
	}
	_, second, stop, _ := open("south")
	first.conn.Close() // as one that is killed
	if got := <-seen; got != (taken{"south", 1}) {
		t.Errorf("taken over by %+v", got)
	}
	_, _, _, last := open("west")
	stop()
	if err := second.Close(); err != nil {
		t.Fatal(err)
	}
	if got := <-seen; got != (taken{"west", 1}) {
		t.Errorf("taken over by %+v", got)
	}
	last.WorkDone("resp_x")
	waitFor(t, "the work to be gone from the servers", func() bool {
		stream, err := last.gates.js.Stream(t.Context(), workStream)
		if err != nil {
			return false
		}
		info, err := stream.Info(t.Context())
		return err == nil && info.State.Msgs == 0
	})
}
