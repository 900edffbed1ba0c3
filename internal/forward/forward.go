// Package forward passes what exchanges came to on to others: as JSON lines to an HTTP address, or to a syslog server (RFC 5424). What was
// said is not in it. What cannot be delivered waits, up to a bound, and is tried again; what finds no room is dropped and counted.
package forward

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"sync"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/record"
)

// Bounds of what waits, and of how long is waited.
const (
	mostWaiting = 10_000
	batch       = 200
	patience    = 10 * time.Second // for one delivery
	firstPause  = time.Second      // before it is tried again
	longPause   = time.Minute
)

// Target is where exchanges are passed on to.
type Target struct {
	// To is an http: or https: address, or syslog+tcp: or syslog+udp: with a host and a port.
	To string
	// Authorization is what goes into that header of HTTP calls; "" for nothing.
	Authorization string
}

// ParseTarget reports what is wrong with the address of a target.
func ParseTarget(to string) (*url.URL, error) {
	u, err := url.Parse(to)
	if err != nil || u.Host == "" || u.User != nil {
		return nil, fmt.Errorf("%q is no address to forward to; one looks like https://logs.example/in or syslog+tcp://127.0.0.1:601", to)
	}
	switch u.Scheme {
	case "http", "https":
	case "syslog+tcp", "syslog+udp":
		if u.Port() == "" {
			return nil, fmt.Errorf("%q needs a port, as in %s://%s:514", to, u.Scheme, u.Hostname())
		}
	default:
		return nil, fmt.Errorf("%q cannot be forwarded to; the schemes are http, https, syslog+tcp and syslog+udp", to)
	}
	return u, nil
}

// Forwarder passes exchanges on to one target. It is safe for concurrent use.
type Forwarder struct {
	to      *url.URL
	send    func(ctx context.Context, list []record.Record) error
	close   func() error
	log     *slog.Logger
	cancel  context.CancelFunc
	stopped chan struct{}

	mu      sync.Mutex
	wake    sync.Cond
	queue   []record.Record
	dropped int
	closed  bool
}

// New begins to pass on to a target.
func New(t Target, log *slog.Logger) (*Forwarder, error) {
	u, err := ParseTarget(t.To)
	if err != nil {
		return nil, err
	}
	f := &Forwarder{to: u, log: log, stopped: make(chan struct{}), close: func() error { return nil }}
	f.wake.L = &f.mu
	if network, ok := map[string]string{"syslog+tcp": "tcp", "syslog+udp": "udp"}[u.Scheme]; ok {
		s := &syslog{network: network, address: u.Host}
		f.send, f.close = s.send, s.close
	} else {
		client := &http.Client{Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		f.send = func(ctx context.Context, list []record.Record) error { return post(ctx, client, t, list) }
	}
	ctx, cancel := context.WithCancel(context.Background())
	f.cancel = cancel
	go f.deliver(ctx)
	return f, nil
}

// Add passes an exchange on, sooner or later.
func (f *Forwarder) Add(e record.Record) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if len(f.queue) >= mostWaiting {
		f.queue = f.queue[1:]
		f.dropped++
	}
	f.queue = append(f.queue, e)
	f.wake.Signal()
}

// Dropped is how many exchanges found no room.
func (f *Forwarder) Dropped() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.dropped
}

// take waits for exchanges, and gives some. There are none when the forwarder is closed and all are delivered.
func (f *Forwarder) take() []record.Record {
	f.mu.Lock()
	defer f.mu.Unlock()
	for len(f.queue) == 0 && !f.closed {
		f.wake.Wait()
	}
	n := min(len(f.queue), batch)
	list := f.queue[:n:n]
	f.queue = f.queue[n:]
	return list
}

// deliver is the goroutine that delivers.
func (f *Forwarder) deliver(ctx context.Context) {
	defer close(f.stopped)
	for list := f.take(); len(list) > 0; list = f.take() {
		failed := false
		for pause := firstPause; ; pause = min(2*pause, longPause) {
			err := f.guarded(ctx, list)
			var refusal *refused
			if err == nil {
				if failed {
					f.log.Info("exchanges are forwarded again", "to", f.to.Redacted())
				}
				break
			}
			if errors.As(err, &refusal) || ctx.Err() != nil {
				f.mu.Lock()
				f.dropped += len(list)
				f.mu.Unlock()
				f.log.Error("exchanges were not forwarded, and are given up", "to", f.to.Redacted(), "exchanges", len(list), "error", err.Error())
				break
			}
			if !failed {
				f.log.Warn("exchanges could not be forwarded; it is tried again", "to", f.to.Redacted(), "error", err.Error())
			}
			failed = true
			// A little by chance, so that many gates do not come back at once.
			timer := time.NewTimer(pause/2 + rand.N(pause))
			select {
			case <-timer.C:
			case <-ctx.Done():
				timer.Stop()
			}
		}
	}
}

func (f *Forwarder) guarded(ctx context.Context, list []record.Record) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &refused{exchange.Panicked(p).Error()}
		}
	}()
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	return f.send(ctx, list)
}

// lastPatience is how long what waits may take when the gate stops.
const lastPatience = 3 * time.Second

// Close delivers what waits, as far as that can be done soon.
func (f *Forwarder) Close() error {
	f.mu.Lock()
	f.closed = true
	f.wake.Signal()
	f.mu.Unlock()
	timer := time.AfterFunc(lastPatience, f.cancel)
	<-f.stopped
	timer.Stop()
	f.cancel()
	return f.close()
}

// refused is an error that trying again does not mend.
type refused struct{ why string }

func (r *refused) Error() string { return r.why }

// post sends exchanges as JSON lines.
func post(ctx context.Context, client *http.Client, t Target, list []record.Record) error {
	var body bytes.Buffer
	lines := json.NewEncoder(&body)
	for _, e := range list {
		if err := lines.Encode(e); err != nil {
			return &refused{err.Error()}
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, t.To, &body)
	if err != nil {
		return &refused{err.Error()}
	}
	req.Header.Set("Content-Type", "application/x-ndjson")
	req.Header.Set("User-Agent", "kindred-gate")
	if t.Authorization != "" {
		req.Header.Set("Authorization", t.Authorization)
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10)) // so that the connection can be used again
	switch {
	case resp.StatusCode/100 == 2:
		return nil
	case resp.StatusCode == http.StatusTooManyRequests, resp.StatusCode == http.StatusRequestTimeout, resp.StatusCode/100 == 5:
		return fmt.Errorf("it answers %s", resp.Status)
	}
	return &refused{"it answers " + resp.Status}
}

// syslog sends each exchange as a message (RFC 5424); over TCP with its length ahead (RFC 6587, section 3.4.1).
type syslog struct {
	network, address string
	conn             net.Conn
}

func (s *syslog) send(ctx context.Context, list []record.Record) error {
	if s.conn == nil {
		conn, err := (&net.Dialer{}).DialContext(ctx, s.network, s.address)
		if err != nil {
			return err
		}
		s.conn = conn
	}
	deadline, _ := ctx.Deadline()
	err := s.conn.SetDeadline(deadline)
	for i := 0; i < len(list) && err == nil; i++ {
		var m []byte
		if m, err = message(list[i]); err != nil {
			return &refused{err.Error()}
		}
		if s.network == "tcp" {
			m = append(fmt.Appendf(nil, "%d ", len(m)), m...)
		}
		_, err = s.conn.Write(m)
	}
	if err != nil {
		return errors.Join(err, s.close())
	}
	return nil
}

func (s *syslog) close() error {
	if s.conn == nil {
		return nil
	}
	err := s.conn.Close()
	s.conn = nil
	return err
}

// facility is "local use 0", and the severities are those of RFC 5424, section 6.2.1.
const (
	facility      = 16
	warning       = 4
	informational = 6
)

// message is an exchange as a syslog message, whose text is JSON.
func message(e record.Record) ([]byte, error) {
	severity := informational
	if e.State != record.Done {
		severity = warning
	}
	host, err := os.Hostname()
	if err != nil {
		host = "-"
	}
	doc, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	const form = "2006-01-02T15:04:05.000000Z07:00"
	return fmt.Appendf(nil, "<%d>1 %s %s kindred-gate %d exchange - %s", 8*facility+severity, e.Begun.UTC().Format(form), host, os.Getpid(), doc), nil
}
