package web

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"syscall"
	"time"
)

// Guard says where connections may lead.
type Guard int

// The guards.
const (
	// Named is for an address that the gate's operator has written down: it may be any, but nothing leads from it to another host.
	Named Guard = iota
	// Public is for one that somebody else has named: what it stands for must be an address of the public network.
	Public
	// Private is as Public, with private addresses allowed.
	Private
)

// addressError is an address that connections may not go to.
type addressError struct{ address string }

func (e *addressError) Error() string {
	return e.address + " is not an address that tools may be called at (tool_rules.private_addresses)"
}

// control looks at the address that a connection is about to be made to, after names were resolved.
func (g Guard) control(_, address string, _ syscall.RawConn) error {
	to, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	ip := to.Addr().Unmap()
	switch {
	case g == Named:
		return nil
	case ip.IsUnspecified(), ip.IsMulticast(), ip.IsLinkLocalUnicast():
		return &addressError{ip.String()}
	case g == Public && (ip.IsLoopback() || ip.IsPrivate() || shared.Contains(ip) || translated.Contains(ip) || !ip.IsGlobalUnicast()):
		return &addressError{ip.String()}
	}
	return nil
}

// Ranges that are not the public network's, though netip counts them as such.
var (
	shared     = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598
	translated = netip.MustParsePrefix("64:ff9b::/96")  // RFC 6052: an IPv4 address, perhaps a private one, is inside
)

// mostRedirects are followed, within a host.
const mostRedirects = 3

// NewClient makes a client for one server. Its requests have the headers, bodies of answers that are no streams are bounded, and a
// redirection to another host is refused.
func NewClient(g Guard, headers map[string]string, most int64) *http.Client {
	dialer := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 15 * time.Second, Control: g.control}
	return &http.Client{
		Transport: &transport{headers: headers, most: most, Transport: http.Transport{
			DialContext:            dialer.DialContext, // no proxy of the environment is used
			TLSHandshakeTimeout:    10 * time.Second,
			MaxIdleConnsPerHost:    8,
			IdleConnTimeout:        time.Minute,
			MaxResponseHeaderBytes: 64 << 10,
			DisableCompression:     true, // what is bounded is what is read
			ForceAttemptHTTP2:      true,
		}},
		CheckRedirect: func(req *http.Request, via []*http.Request) error {
			if req.URL.Host != via[0].URL.Host || req.URL.Scheme != via[0].URL.Scheme {
				return fmt.Errorf("it redirects to %s://%s, where it is not followed", req.URL.Scheme, req.URL.Host)
			}
			if len(via) > mostRedirects {
				return errors.New("it redirects again and again")
			}
			return nil
		},
	}
}

// transport adds headers, notes the status of answers, and bounds their bodies.
type transport struct {
	http.Transport
	headers map[string]string
	most    int64
}

type statusKey struct{}

// NoteStatus gives a context whose requests note the status of their answers.
func NoteStatus(ctx context.Context, status *int) context.Context {
	return context.WithValue(ctx, statusKey{}, status)
}

// RoundTrip is for http.Client.
func (t *transport) RoundTrip(req *http.Request) (*http.Response, error) {
	if len(t.headers) > 0 {
		req = req.Clone(req.Context())
		for name, value := range t.headers {
			req.Header.Set(name, value)
		}
	}
	resp, err := t.Transport.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	if noted, ok := req.Context().Value(statusKey{}).(*int); ok {
		*noted = resp.StatusCode
	}
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") {
		resp.Body = &bounded{ReadCloser: resp.Body, left: t.most}
	}
	return resp, nil
}

// bounded fails when a body is longer than it may be.
type bounded struct {
	io.ReadCloser
	left int64
}

var errLong = errors.New("its answer is longer than is read")

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		var one [1]byte
		if n, err := b.ReadCloser.Read(one[:]); n == 0 {
			return 0, err
		}
		return 0, errLong
	}
	n, err := b.ReadCloser.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}
