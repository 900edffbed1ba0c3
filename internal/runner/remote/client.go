package remote

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"kindredgate/internal/exchange"
)

// idleConnections are kept for the next requests.
const idleConnections = 512

// newClient makes the client for one server. It goes where the address says and nowhere else.
func newClient(base *url.URL, connect time.Duration) *http.Client {
	dialer := &net.Dialer{Timeout: connect, KeepAlive: 15 * time.Second, Control: guard(base.Hostname())}
	return &http.Client{
		Transport: &http.Transport{
			DialContext:            dialer.DialContext,
			TLSHandshakeTimeout:    connect,
			MaxIdleConns:           idleConnections,
			MaxIdleConnsPerHost:    idleConnections,
			IdleConnTimeout:        90 * time.Second,
			MaxResponseHeaderBytes: 64 << 10,
			DisableCompression:     true, // a stream is to come as it is made, and what is bounded is what is read
			ForceAttemptHTTP2:      true,
			WriteBufferSize:        16 << 10,
			ReadBufferSize:         16 << 10,
		},
		CheckRedirect: func(req *http.Request, _ []*http.Request) error { return &redirectError{req.URL} },
	}
}

// redirectError is a redirection, none of which is followed: the key, and what was asked, are for the server that is named.
type redirectError struct{ to *url.URL }

func (e *redirectError) Error() string { return "it redirects to " + e.where() }

// where is the address without what only the two servers have to know: who is named in it, and what it asks for.
func (e *redirectError) where() string {
	return (&url.URL{Scheme: e.to.Scheme, Host: e.to.Host, Path: e.to.Path}).String()
}

// addressError is an address that a name must not stand for.
type addressError struct{ host, address string }

func (e *addressError) Error() string { return fmt.Sprintf("%s stands for %s", e.host, e.address) }

// guard keeps connections from addresses that only this machine has a meaning for, unless the host is one in so many words: a name that
// somebody else decides over must not lead to what listens here, or to what a network tells its members.
func guard(host string) func(network, address string, _ syscall.RawConn) error {
	literal, err := netip.ParseAddr(host)
	local := strings.EqualFold(host, "localhost") || err == nil && literal.Unmap().IsLoopback()
	link := err == nil && literal.Unmap().IsLinkLocalUnicast() // which the one who wrote it means
	return func(_, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		ip := to.Addr().Unmap()
		if ip.IsLoopback() && !local || ip.IsUnspecified() && !local || ip.IsLinkLocalUnicast() && !link || ip.IsMulticast() {
			return &addressError{host, ip.String()}
		}
		return nil
	}
}

// statusError is an answer that is none.
type statusError struct {
	status  int
	code    string
	param   string
	message string // what the server said
	after   time.Duration
	inside  bool // it came as an event of an answer with status 200, and has the status that goes with its type
}

func (e *statusError) Error() string {
	text := fmt.Sprintf("it answers %d %s", e.status, http.StatusText(e.status))
	if e.inside {
		text = "it ended its answer with an error"
	}
	if e.message != "" {
		text += ": " + e.message
	}
	return text
}

// brokenError is what came and was no answer.
type brokenError struct{ what string }

func (e *brokenError) Error() string { return e.what }

func broken(format string, args ...any) error { return &brokenError{fmt.Sprintf(format, args...)} }

// Limits of what is read of a server beside answers.
const (
	longError = 64 << 10 // of a body with an error, in bytes
	longList  = 8 << 20  // of a list of models
	longSaid  = 500      // of a server's words that are repeated
)

// Header of the requests that pass through gates (RFC 9110, section 7.6.3).
const viaHeader = "Via"

// send makes one request, on behalf of one to the gate; nil if it is the gate's own. The body of the answer is the caller's to close.
func (m *Machine) send(ctx context.Context, method, path string, body []byte, of *exchange.Request) (*http.Response, error) {
	return m.sendAs(ctx, method, path, body, of, "application/json", "text/event-stream, application/json")
}

func (m *Machine) sendAs(ctx context.Context, method, path string, body []byte, of *exchange.Request, contentType, accept string) (*http.Response, error) {
	var reader io.Reader
	if body != nil {
		reader = bytes.NewReader(body)
	}
	req, err := http.NewRequestWithContext(ctx, method, m.base.JoinPath(path).String(), reader)
	if err != nil {
		return nil, err
	}
	h := req.Header
	h.Set("User-Agent", "kindred-gate")
	if body != nil {
		h.Set("Content-Type", contentType)
		h.Set("Accept", accept)
	}
	if m.set.Key != "" {
		h.Set("Authorization", "Bearer "+m.set.Key)
	}
	if of != nil && len(of.Via) > 0 {
		h.Set(viaHeader, strings.Join(of.Via, ", "))
	}
	if of != nil && of.Trace != "" {
		h.Set("traceparent", of.Trace)
	}
	resp, err := m.client.Do(req)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil {
			return nil, cause
		}
		var outer *url.Error
		if errors.As(err, &outer) {
			err = outer.Err // without the address, which the message has anyhow
		}
		return nil, err
	}
	if resp.StatusCode/100 != 2 {
		defer resp.Body.Close()
		return nil, m.refusal(resp)
	}
	return resp, nil
}

// refusal reads an answer that is an error.
func (m *Machine) refusal(resp *http.Response) error {
	e := &statusError{status: resp.StatusCode}
	raw, err := io.ReadAll(io.LimitReader(resp.Body, longError))
	if err == nil {
		e.code, e.param, e.message = m.errorOf(raw)
	}
	switch {
	case e.message != "" || len(raw) == 0:
	case isPage(resp.Header):
		e.message = "a web page, and not the protocol; look at the address, which mostly ends in /v1"
	default:
		e.message = m.said(string(raw))
	}
	if after := resp.Header.Get("Retry-After"); after != "" {
		if seconds, err := strconv.Atoi(after); err == nil && seconds >= 0 {
			e.after = time.Duration(min(seconds, 3600)) * time.Second
		} else if at, err := http.ParseTime(after); err == nil {
			e.after = min(max(0, time.Until(at)), time.Hour)
		}
	}
	return e
}

// isPage reports whether a body is a page for a browser.
func isPage(h http.Header) bool { return strings.Contains(h.Get("Content-Type"), "html") }

// errorOf reads the standard envelope of errors, or what is used in its place.
func (m *Machine) errorOf(raw []byte) (code, param, message string) {
	var envelope struct {
		Error   json.RawMessage `json:"error"`
		Message string          `json:"message"`
		Detail  json.RawMessage `json:"detail"`
	}
	if json.Unmarshal(raw, &envelope) != nil {
		return "", "", ""
	}
	var inner struct {
		Message string `json:"message"`
		Param   any    `json:"param"`
		Code    any    `json:"code"`
	}
	var text string
	switch {
	case json.Unmarshal(envelope.Error, &inner) == nil && inner.Message != "":
		code, _ = inner.Code.(string)
		param, _ = inner.Param.(string)
		return m.said(code), m.said(param), m.said(inner.Message)
	case json.Unmarshal(envelope.Error, &text) == nil && text != "":
		return "", "", m.said(text)
	case envelope.Message != "":
		return "", "", m.said(envelope.Message)
	case json.Unmarshal(envelope.Detail, &text) == nil:
		return "", "", m.said(text)
	}
	return "", "", ""
}

// said bounds a text of the server's, and takes the key out of it.
func (m *Machine) said(text string) string {
	text = strings.ToValidUTF8(m.hidden(strings.TrimSpace(text)), "")
	if len(text) > longSaid {
		text = strings.ToValidUTF8(text[:longSaid], "") + "…"
	}
	return text
}

// counts reports whether an error says that the server does not work: the others are about the request, or the key.
func counts(err error) bool {
	var status *statusError
	var ours *exchange.Error
	switch {
	case err == nil, errors.Is(err, context.Canceled), errors.As(err, &ours) && ours.Kind != exchange.Internal:
		return false
	case errors.As(err, &status):
		return status.status >= 500 && status.status != http.StatusLoopDetected && status.status != http.StatusNotImplemented
	}
	return true
}

// unreached reports whether an error says that there was no connection, or none that can be trusted: whatever is asked for, it would be the
// same.
func unreached(err error) bool {
	var dial *net.OpError
	var dns *net.DNSError
	var certificate *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var address *addressError
	return errors.As(err, &dial) && dial.Op == "dial" || errors.As(err, &dns) || errors.As(err, &certificate) || errors.As(err, &record) || errors.As(err, &address)
}

// longestWait is how long a request waits for a server that asks for patience; beyond that it goes elsewhere.
const longestWait = 2 * time.Second

// worthAnother reports whether a request that has not begun to be answered may be sent again, and after how long.
func worthAnother(err error) (pause time.Duration, again bool) {
	var status *statusError
	if errors.As(err, &status) && status.status == http.StatusTooManyRequests {
		return status.after, status.after > 0 && status.after <= longestWait
	}
	var redirect *redirectError
	var address *addressError
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &redirect) || errors.As(err, &address) || errors.As(err, &certificate) || errors.Is(err, errFirst) {
		return 0, false // it would be the same again, or has taken long enough
	}
	if errors.As(err, &status) {
		return min(status.after, longestWait), counts(err)
	}
	return 0, counts(err)
}

// Causes for which a request to a server ends.
var (
	errFirst  = errors.New("the first token did not come in time")
	errSilent = errors.New("nothing whole came for too long")
)

// setting names a setting of the machine, for messages; a machine that has joined has none.
func (m *Machine) setting(name string) string {
	if m.set.Line != nil {
		return ""
	}
	return " (runners." + m.name + "." + name + ")"
}

// inWords puts what went wrong into words for a client. Errors about the request itself stay such.
func (m *Machine) inWords(err error) error {
	var ours *exchange.Error
	if err == nil || errors.As(err, &ours) || errors.Is(err, context.Canceled) {
		return err
	}
	out := &exchange.Error{Kind: exchange.Unavailable, Code: unavailable, Err: &hiddenError{err, m}}
	say := func(format string, args ...any) error {
		out.Message = m.said(fmt.Sprintf("the machine %q ", m.name) + fmt.Sprintf(format, args...))
		return out
	}
	var status *statusError
	var redirect *redirectError
	var address *addressError
	var host x509.HostnameError
	var certificate *tls.CertificateVerificationError
	var wrong *brokenError
	var dns *net.DNSError
	switch {
	case errors.As(err, &status):
		switch status.status {
		case http.StatusUnauthorized, http.StatusForbidden:
			out.Kind, out.Code = exchange.Refused, "runner_refuses"
			return say("does not take the gate's key (%d): %s; look at key_env or key_file of runners.%s", status.status, status.message, m.name)
		case http.StatusBadRequest, http.StatusUnprocessableEntity, http.StatusRequestEntityTooLarge:
			out.Kind, out.Code, out.Param = exchange.Invalid, status.code, status.param
			if out.Code == "" {
				out.Code = "invalid_value"
			}
			if status.status == http.StatusRequestEntityTooLarge {
				out.Kind = exchange.TooLarge
			}
			return say("refuses the request: %s", status.message)
		case http.StatusNotFound:
			out.Kind, out.Code, out.Param = exchange.NotFound, "model_not_found", "model"
			return say("does not have that: %s", status.message)
		case http.StatusTooManyRequests:
			out.Kind, out.Code, out.RetryAfter = exchange.Limited, "runner_busy", max(time.Second, status.after)
			return say("has too much to do: %s", status.message)
		case http.StatusLoopDetected:
			out.Kind, out.Code = exchange.Looped, looped
			return say("says that the request came back to a gate that had passed it on: %s", status.message)
		}
		out.RetryAfter = status.after
		return say("cannot answer: %v", status)
	case errors.As(err, &redirect):
		return say("redirects to %s, which is not followed, since the key and the conversation are for %s; if that is where it is, change runners.%s.url", redirect.where(), m.base.Host, m.name)
	case errors.As(err, &address):
		return say("is not asked: %s stands for %s, an address that belongs to this machine or to its network alone; if that is meant, write the address itself into runners.%s.url", address.host, address.address, m.name)
	case errors.As(err, &host):
		return say("shows a certificate for other names: %v", host)
	case errors.As(err, &certificate):
		return say("shows a certificate that cannot be trusted: %v", certificate.Err)
	case errors.Is(err, errFirst):
		out.Code = "runner_timeout"
		return say("did not begin to answer within %s%s", m.set.FirstToken, m.setting("first_token"))
	case errors.Is(err, errSilent):
		out.Code = "runner_timeout"
		return say("went silent in the middle of the answer: nothing whole came for %s%s", m.set.Silence, m.setting("silence"))
	case errors.As(err, &wrong):
		out.Code = "runner_answer_broken"
		return say("gave an answer that cannot be used: %s", wrong.what)
	case errors.As(err, &dns):
		return say("is not found: there is no address for %s", m.base.Hostname())
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET):
		out.Code = "runner_answer_broken"
		return say("broke the connection off in the middle of the answer")
	case errors.Is(err, syscall.ECONNREFUSED):
		return say("is unreachable: nothing listens at %s", m.base.Host)
	}
	return say("cannot be reached: %v", err)
}

// looped is the code of errors about requests that go in a circle.
const looped = "request_in_a_circle"
