package fleet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// This file is what gates share: changes of one reach the others, and what was changed at two at once is merged by rules.

// Change is one thing that gates share, as it is after it was changed.
type Change struct {
	Kind  string          `json:"kind"`
	Name  string          `json:"name"`
	Stamp int64           `json:"stamp"`          // when, in milliseconds since 1970, and later than all that the gate that made it had seen
	By    string          `json:"by"`             // the gate, which decides between two of one stamp
	Gone  bool            `json:"gone,omitempty"` // it was removed
	Row   json.RawMessage `json:"row,omitempty"`
}

// Later reports whether a change comes after another.
func (c Change) Later(than Change) bool {
	return c.Stamp > than.Stamp || c.Stamp == than.Stamp && c.By > than.By
}

// ErrUnusable is for a change that cannot be taken over, however often that is tried.
var ErrUnusable = errors.New("the change cannot be used")

// Changes keeps what is shared, with what changed of it. It is this gate's own, and whole without the others.
type Changes interface {
	// Pending lists changes that others were not told of, the oldest first.
	Pending(ctx context.Context, limit int) ([]Change, error)
	// Behind is how many these are.
	Behind(ctx context.Context) (int, error)
	// Told notes that others were told of a change, unless it was changed again meanwhile.
	Told(ctx context.Context, c Change) error
	// Apply takes over a change of another gate, and reports whether that changed anything here. Of two changes the later one holds, but what was
	// revoked in one stays so; what comes of two then is pending. The error wraps ErrUnusable for one that nobody can take over.
	Apply(ctx context.Context, c Change) (changed bool, err error)
	// Waiting has something in it when changes may be pending.
	Waiting() <-chan struct{}
}

// Names of what is kept on the servers.
const (
	sharedBucket    = "gates-shared"
	claimsBucket    = "gates-claims"
	responsesBucket = "gates-responses"
	usedStream      = "gates-used"
	workStream      = "gates-work"
	ledgerStream    = "gates-ledger"
)

// stores are what is kept on the servers; nil as long as they are not there.
type stores struct {
	shared, claims jetstream.KeyValue
	responses      jetstream.ObjectStore
}

// Bounds of what is kept on the servers.
const (
	claimsFor = 2 * MostValid
	mostRows  = 256 << 20           // bytes of the ledgers of all gates together, each of which has its own whole
	usedFor   = 32 * 24 * time.Hour // no limit counts longer
)

// prepare makes what is kept on the servers, as often as they have it: three times if there are as many servers.
func (g *Gates) prepare(ctx context.Context) (s stores, err error) {
	replicas := copies
	make := func(what string, do func(ctx context.Context, replicas int) error) {
		try := func() error {
			ctx, cancel := context.WithTimeout(ctx, prepareTime) // servers that have just started may not answer
			defer cancel()
			return do(ctx, replicas)
		}
		if err != nil {
			return
		}
		var said *jetstream.APIError
		if err = try(); errors.As(err, &said) && replicas > 1 {
			replicas = 1 // there are fewer servers; of later ones multiply knows
			err = try()
		}
		if err != nil {
			err = fmt.Errorf("%s: %w", what, err)
		}
	}
	make(sharedBucket, func(ctx context.Context, n int) (err error) {
		if s.shared, err = g.js.KeyValue(ctx, sharedBucket); !errors.Is(err, jetstream.ErrBucketNotFound) {
			return err
		}
		s.shared, err = g.js.CreateOrUpdateKeyValue(ctx, jetstream.KeyValueConfig{Bucket: sharedBucket, History: 1, Replicas: n, MaxValueSize: mostPayload})
		return err
	})
	make(claimsBucket, func(ctx context.Context, n int) (err error) {
		if s.claims, err = g.js.KeyValue(ctx, claimsBucket); !errors.Is(err, jetstream.ErrBucketNotFound) {
			return err
		}
		s.claims, err = g.js.CreateOrUpdateKeyValue(ctx, jetstream.KeyValueConfig{Bucket: claimsBucket, History: 1, Replicas: n, TTL: claimsFor})
		return err
	})
	make(responsesBucket, func(ctx context.Context, n int) (err error) {
		if s.responses, err = g.js.ObjectStore(ctx, responsesBucket); !errors.Is(err, jetstream.ErrBucketNotFound) {
			return err
		}
		s.responses, err = g.js.CreateOrUpdateObjectStore(ctx, jetstream.ObjectStoreConfig{Bucket: responsesBucket, Replicas: n, TTL: g.opts.Responses, MaxBytes: -1})
		return err
	})
	stream := func(c jetstream.StreamConfig) {
		make(c.Name, func(ctx context.Context, n int) error {
			c.Replicas = n
			if _, err := g.js.Stream(ctx, c.Name); !errors.Is(err, jetstream.ErrStreamNotFound) {
				return err
			}
			_, err := g.js.CreateOrUpdateStream(ctx, c)
			return err
		})
	}
	stream(jetstream.StreamConfig{Name: usedStream, Subjects: []string{"gates.used.>"}, AllowMsgCounter: true, MaxMsgsPerSubject: 1, MaxAge: usedFor, AllowDirect: true})
	stream(jetstream.StreamConfig{Name: workStream, Subjects: []string{workSubject}, Retention: jetstream.WorkQueuePolicy, Duplicates: time.Hour, MaxAge: workFor})
	stream(jetstream.StreamConfig{Name: ledgerStream, Subjects: []string{ledgerSubject + ".*"}, Duplicates: time.Hour, MaxAge: g.opts.Keep, MaxBytes: mostRows, Discard: jetstream.DiscardOld})
	return s, err
}

// copies is how often the servers are to keep everything.
const copies = 3

// keptStreams are all streams of what is kept on the servers.
var keptStreams = []string{"KV_" + sharedBucket, "KV_" + claimsBucket, "OBJ_" + responsesBucket, usedStream, workStream, ledgerStream}

// multiply has what is kept once be kept as often as it should be, after there were more servers than when it was made.
func (g *Gates) multiply(ctx context.Context) {
	if g.hub.conn.ConnectedClusterName() == "" {
		return // there is one server
	}
	for _, name := range keptStreams {
		ctx, cancel := context.WithTimeout(ctx, shareTime)
		stream, err := g.js.Stream(ctx, name)
		if err == nil {
			if c := stream.CachedInfo().Config; c.Replicas < copies {
				c.Replicas = copies
				if _, err = g.js.UpdateStream(ctx, c); err == nil {
					g.opts.Log.Info("what gates share is kept by more servers from now on", "what", name, "times", copies)
				}
			}
		}
		cancel()
		if err != nil {
			return // there are still fewer; it is tried again
		}
	}
}

// Times of sharing.
const (
	shareAgain  = time.Second     // after something failed
	lookAgain   = 5 * time.Second // for changes that nobody was woken for
	shareTime   = 5 * time.Second // for one thing to be told
	prepareTime = 2 * time.Second // for one thing to be made on the servers
)

// ready are the stores on the servers, once they are there.
func (g *Gates) ready() (stores, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.stores.shared == nil {
		return stores{}, errNotYet
	}
	return g.stores, nil
}

var errNotYet = errors.New("the NATS servers have not been reached yet")

// keepSharing takes over what others change, and tells them what changes here, until the gate ends. Whatever fails is tried again.
func (g *Gates) keepSharing() {
	defer g.guard("sharing with other gates")
	for said := ""; ; {
		err := g.share()
		if g.ctx.Err() != nil {
			return
		}
		if err != nil && err.Error() != said {
			said = err.Error()
			g.opts.Log.Warn("what gates share cannot be reached; it is tried again", "error", said)
		}
		select {
		case <-time.After(shareAgain):
		case <-g.ctx.Done():
			return
		}
	}
}

// share shares until something fails.
func (g *Gates) share() error {
	s, err := g.prepare(g.ctx)
	if err != nil {
		return err
	}
	g.mu.Lock()
	g.stores = s
	g.mu.Unlock()
	ctx, cancel := context.WithCancel(g.ctx)
	defer cancel()
	watcher, err := s.shared.WatchAll(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = watcher.Stop() }() // it may have ended by itself
	revisions := map[string]uint64{}
	current := false // all that was there before has come
	tick := time.NewTicker(lookAgain)
	defer tick.Stop()
	clock := time.NewTicker(clockEvery)
	defer clock.Stop()
	if err := g.readClock(ctx, s); err != nil {
		return err
	}
	for {
		select {
		case entry, ok := <-watcher.Updates():
			switch {
			case !ok:
				return errors.New("the servers have ended telling of changes")
			case entry == nil:
				current = true
				g.opts.Log.Info("what gates share is up to date", "things", len(revisions))
				if err := g.publish(s.shared, revisions); err != nil {
					return err
				}
			case entry.Revision() < revisions[entry.Key()]: // this gate has written a later one meanwhile
			default:
				revisions[entry.Key()] = entry.Revision()
				if err := g.take(entry); err != nil {
					return err
				}
			}
			continue
		case <-g.opts.Changes.Waiting():
		case <-tick.C:
		case <-clock.C:
			g.multiply(ctx)
			if err := g.readClock(ctx, s); err != nil {
				return err
			}
		case <-g.ctx.Done():
			return nil
		}
		if !current {
			continue // what is pending may be old news
		}
		if err := g.publish(s.shared, revisions); err != nil {
			return err
		}
	}
}

// take takes over an entry.
func (g *Gates) take(entry jetstream.KeyValueEntry) error {
	if entry.Operation() != jetstream.KeyValuePut {
		return nil
	}
	var c Change
	if err := unseal(g.hub.keys.seal, g.hub.keys.sealPublic, entry.Value(), &c); err != nil {
		g.opts.Log.Error("a shared thing was not written by a gate", "key", entry.Key(), "error", err.Error())
		return nil
	}
	changed, err := g.opts.Changes.Apply(g.ctx, c)
	if errors.Is(err, ErrUnusable) {
		g.opts.Log.Error("a change of another gate is left out", "kind", c.Kind, "name", c.Name, "by", c.By, "error", err.Error())
		return nil
	}
	if err != nil {
		return fmt.Errorf("take over %s %q: %w", c.Kind, c.Name, err)
	}
	if changed && g.opts.Applied != nil {
		g.opts.Applied(c.Kind, c.Name)
	}
	return nil
}

// publish tells others of all changes that are pending. One that another gate has changed meanwhile is merged first.
func (g *Gates) publish(shared jetstream.KeyValue, revisions map[string]uint64) error {
	for {
		list, err := g.opts.Changes.Pending(g.ctx, 100)
		if err != nil || len(list) == 0 {
			return err
		}
		for _, c := range list {
			if err := g.put(shared, revisions, c); err != nil {
				return fmt.Errorf("tell of %s %q: %w", c.Kind, c.Name, err)
			}
		}
	}
}

func (g *Gates) put(shared jetstream.KeyValue, revisions map[string]uint64, c Change) error {
	ctx, cancel := context.WithTimeout(g.ctx, shareTime)
	defer cancel()
	sealed, err := seal(g.hub.keys.seal, g.hub.keys.sealPublic, c)
	if err != nil {
		return err
	}
	if len(sealed) > mostPayload-1024 {
		g.opts.Log.Error("a thing is too large to be shared with other gates", "kind", c.Kind, "name", c.Name, "bytes", len(sealed))
		return g.opts.Changes.Told(ctx, c)
	}
	at := c.Kind + "." + key(c.Name)
	revision, err := shared.Update(ctx, at, sealed, revisions[at])
	if err == nil {
		revisions[at] = revision
		return g.opts.Changes.Told(ctx, c)
	}
	var wrong *jetstream.APIError
	if !errors.As(err, &wrong) || wrong.ErrorCode != jetstream.JSErrCodeStreamWrongLastSequence {
		return err
	}
	entry, err := shared.Get(ctx, at)
	if err != nil {
		return err
	}
	revisions[at] = entry.Revision()
	return g.take(entry) // what is pending after that is told in the next round
}

// pending is how many changes the others were not told yet; 0 if that cannot be read now.
func (g *Gates) pending() int {
	ctx, cancel := context.WithTimeout(g.ctx, time.Second)
	defer cancel()
	n, err := g.opts.Changes.Behind(ctx)
	if err != nil {
		return 0
	}
	return n
}

// claim takes something that only one of all gates can have, such as an invitation.
func (g *Gates) claim(ctx context.Context, what string) error {
	s, err := g.ready()
	if err != nil {
		return err
	}
	_, err = s.claims.Create(ctx, what, []byte(g.opts.Name))
	return err
}
