package fleet

import (
	"context"
	"fmt"
	"maps"
	"strconv"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// This file is limits that gates share: one count for each, which all take from.

const runningSubject = "gates.running"

// takeTime is how long a gate waits for a count, with a request waiting for it.
const takeTime = 500 * time.Millisecond

// Limits are the counts that gates share. It is safe for concurrent use.
type Limits struct {
	gates *Gates

	mu      sync.Mutex
	own     map[string]int            // requests in progress here, by account
	dirty   map[string]int            // that the others were not told of
	running map[string]map[string]int // of others, by instance and account
	wake    chan struct{}
}

// runningNow is how many requests of accounts a gate has in progress.
type runningNow struct {
	Instance string         `json:"instance"`
	Whole    bool           `json:"whole,omitempty"` // those that are not named have none
	Accounts map[string]int `json:"accounts"`
}

// Limits has the gate share limits.
func (g *Gates) Limits() (*Limits, error) {
	l := &Limits{gates: g, own: map[string]int{}, dirty: map[string]int{}, running: map[string]map[string]int{}, wake: make(chan struct{}, 1)}
	if _, err := g.hub.conn.Subscribe(runningSubject, guarded(g.opts.Log, l.heard)); err != nil {
		return nil, err
	}
	g.all.Go(l.keepTelling)
	return l, nil
}

// add adds to a count, and gives what it is then. It is not tried again when no answer comes: it may have been counted.
func (l *Limits) add(of string, n int64) (int64, error) {
	ctx, cancel := context.WithTimeout(l.gates.ctx, takeTime)
	defer cancel()
	msg := &nats.Msg{Subject: "gates.used." + key(of), Header: nats.Header{"Nats-Incr": {strconv.FormatInt(n, 10)}}}
	got, err := l.gates.js.PublishMsg(ctx, msg, jetstream.WithRetryAttempts(0))
	if err != nil {
		return 0, err
	}
	total, err := strconv.ParseInt(got.Value, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("the count of what gates share is %q", got.Value)
	}
	return total, nil
}

// Take asks for more of a count, of which there are most: from least to n, or none.
func (l *Limits) Take(of string, least, n, most int64) (got, total int64, err error) {
	if total, err = l.add(of, n); err != nil {
		return 0, 0, err
	}
	over := total - most
	switch {
	case over <= 0:
		return n, total, nil
	case n-over < least:
		over = n
	}
	if total, err = l.add(of, -over); err != nil {
		return 0, 0, err // what is counted too much is so until the window ends
	}
	return n - over, total, nil
}

// Return gives back what was taken.
func (l *Limits) Return(of string, n int64) error {
	_, err := l.add(of, -n)
	return err
}

// Gates is how many there are, whether they can be reached or not, and Apart whether this one cannot reach the servers.
func (l *Limits) Gates() int  { return l.gates.count() }
func (l *Limits) Apart() bool { return l.gates.apart() }

// Now is the time of the servers.
func (l *Limits) Now() time.Time {
	l.gates.mu.Lock()
	defer l.gates.mu.Unlock()
	return time.Now().Add(l.gates.shift)
}

// Tell says how many requests of an account this gate has in progress.
func (l *Limits) Tell(account string, running int) {
	l.mu.Lock()
	if l.own[account] = running; running <= 0 {
		delete(l.own, account)
	}
	l.dirty[account] = running
	l.mu.Unlock()
	select {
	case l.wake <- struct{}{}:
	default:
	}
}

// Running is how many of them the others have.
func (l *Limits) Running(account string) (n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for instance, accounts := range l.running {
		if of := accounts[account]; of > 0 && l.gates.there(instance) {
			n += of
		}
	}
	return n
}

// keepTelling tells others at once what changes, and everything now and then.
func (l *Limits) keepTelling() {
	defer l.gates.guard("telling of requests in progress")
	tick := time.NewTicker(helloEvery)
	defer tick.Stop()
	for {
		now := runningNow{Instance: l.gates.hub.id}
		select {
		case <-l.wake:
		case <-tick.C:
			now.Whole = true
		case <-l.gates.ctx.Done():
			return
		}
		l.mu.Lock()
		if now.Accounts = l.dirty; now.Whole {
			now.Accounts = maps.Clone(l.own)
		}
		l.dirty = map[string]int{}
		l.mu.Unlock()
		if len(now.Accounts) == 0 && !now.Whole {
			continue
		}
		hub := l.gates.hub
		if sealed, err := seal(hub.keys.seal, hub.keys.sealPublic, now); err == nil {
			_ = hub.conn.Publish(runningSubject, sealed) // the next one says the same
		}
	}
}

func (l *Limits) heard(msg *nats.Msg) {
	var now runningNow
	hub := l.gates.hub
	if unseal(hub.keys.seal, hub.keys.sealPublic, msg.Data, &now) != nil || now.Instance == hub.id {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Whole || l.running[now.Instance] == nil {
		l.running[now.Instance] = map[string]int{}
	}
	maps.Copy(l.running[now.Instance], now.Accounts)
	for instance := range l.running {
		if instance != now.Instance && !l.gates.there(instance) {
			delete(l.running, instance)
		}
	}
}

// clockEvery is how often the servers' clock is read.
const clockEvery = time.Minute

// readClock finds out how far the clock of the servers is ahead, by what they say of something that is written now.
func (g *Gates) readClock(ctx context.Context, s stores) error {
	before := time.Now()
	at := "clock." + key(g.opts.Name)
	if _, err := s.claims.Put(ctx, at, nil); err != nil {
		return err
	}
	took := time.Since(before)
	entry, err := s.claims.Get(ctx, at)
	if err != nil {
		return err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.shift = entry.Created().Sub(before.Add(took / 2))
	return nil
}
