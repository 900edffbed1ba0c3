package check

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

const (
	patience   = 15 * time.Second // for one call
	longAnswer = 1 << 20          // that is read of one, in bytes
)

// Remote looks at a gate as an application does: by its base URL, with a key. roots are the authorities that are trusted; nil for the system's.
func Remote(ctx context.Context, base, key string, roots *x509.CertPool) []Finding {
	r := remote{key: key, client: &http.Client{Timeout: patience, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, ForceAttemptHTTP2: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
	defer r.client.CloseIdleConnections()
	if r.address(base) && r.connect(ctx) && r.gate(ctx) && r.mayUse(ctx) {
		r.models(ctx)
		r.stream(ctx)
	}
	return r.list
}

// remote is a gate that is looked at.
type remote struct {
	list
	root   string // scheme, host and prefix
	url    *url.URL
	key    string
	client *http.Client
}

// address judges the base URL by its looks. What is said of the others goes by what it should be.
func (r *remote) address(base string) bool {
	const name = "address"
	whole := true
	if !strings.Contains(base, "://") {
		whole = false
		r.add(name, Warning, fmt.Sprintf("%q has no scheme, without which many clients do not take it", base), "write http:// or https:// ahead of it")
		base = "https://" + base
		if host := strings.TrimPrefix(base, "https://"); strings.HasPrefix(host, "127.") || strings.HasPrefix(host, "localhost") {
			base = "http://" + host
		}
	}
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		r.add(name, Error, fmt.Sprintf("%q is no address of a gate", base), "a base URL looks like https://gate.example/v1")
		return false
	}
	path := strings.TrimSuffix(u.Path, "/")
	inner, versioned := strings.CutSuffix(path, "/v1")
	says, right := "", *u
	switch {
	case strings.HasSuffix(inner, "/v1"):
		says, inner = "its /v1 is doubled", strings.TrimSuffix(inner, "/v1")
	case !versioned && slices.ContainsFunc([]string{"/chat/completions", "/responses", "/generate", "/completions", "/models"}, func(s string) bool { return strings.HasSuffix(path, s) }):
		says, inner = "it is the address of one endpoint, which clients add by themselves", path[:max(0, strings.Index(path, "/v1"))]
	case !versioned:
		says, inner = "it lacks the /v1 at its end", path
	case u.Path != path:
		says = "it ends with a slash, which some clients double"
	}
	right.Path = inner + "/v1"
	if says != "" {
		r.add(name, Error, fmt.Sprintf("%s: %s", base, says), "give applications "+right.String())
	} else if whole {
		r.add(name, OK, base+" is a base URL as it should be", "")
	}
	right.Path = inner
	r.url, r.root = u, strings.TrimSuffix(right.String(), "/")
	if ip := net.ParseIP(u.Hostname()); u.Scheme == "http" && u.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback()) {
		r.add("encryption", Warning, "lines to it are not encrypted: the key can be read on the way", "use an address with https (docs/exposing.md)")
	}
	return true
}

// connect sees whether somebody is there, and who.
func (r *remote) connect(ctx context.Context) bool {
	host := r.url.Hostname()
	if net.ParseIP(host) == nil {
		addresses, err := net.DefaultResolver.LookupHost(ctx, host)
		if err != nil {
			r.add("name", Error, fmt.Sprintf("%s has no address: %v", host, err), "check how it is written, and that the name server of this machine knows it")
			return false
		}
		r.add("name", OK, host+" is "+strings.Join(addresses, ", "), "")
	}
	port := cmp.Or(r.url.Port(), map[string]string{"http": "80", "https": "443"}[r.url.Scheme])
	dialer := &net.Dialer{Timeout: patience}
	conn, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(host, port))
	if err != nil {
		var late net.Error
		remedy := "see that the gate runs and listens there (network.listen), not on 127.0.0.1 only"
		if errors.As(err, &late) && late.Timeout() {
			remedy = "see that no firewall on the way keeps the port closed"
		}
		r.add("connection", Error, fmt.Sprintf("nothing answers at port %s: %v", port, err), remedy)
		return false
	}
	conn.Close()
	r.add("connection", OK, "something listens at port "+port, "")
	return true
}

// call asks for something. The body is what came, up to a bound.
func (r *remote) call(ctx context.Context, path string) (*http.Response, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.root+path, nil)
	if err != nil {
		return nil, nil, err
	}
	if r.key != "" {
		req.Header.Set("Authorization", "Bearer "+r.key)
	}
	resp, err := r.client.Do(req)
	if err != nil {
		return nil, nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, longAnswer))
	return resp, body, err
}

// refusal is the message of an error, as gates write it.
func refusal(body []byte) (code, message string) {
	var e struct {
		Error struct{ Code, Message string }
	}
	if json.Unmarshal(body, &e) != nil {
		return "", ""
	}
	return e.Error.Code, e.Error.Message
}

// gate sees whether what listens is a gate.
func (r *remote) gate(ctx context.Context) bool {
	begun := time.Now()
	key := r.key
	r.key = "" // what answers may be anybody
	resp, body, err := r.call(ctx, "/healthz")
	r.key = key
	if err != nil {
		r.failed(err)
		return false
	}
	took := time.Since(begun)
	if resp.StatusCode != http.StatusOK || string(body) != "up\n" || resp.Header.Get("X-Request-Id") == "" {
		if code, message := refusal(body); code == "unknown_host" {
			r.add("host name", Error, message, "add the name to host_names in the gate's configuration")
			return false
		}
		said := fmt.Sprintf("what answers is no Kindred Gate: %s", resp.Status)
		if server := resp.Header.Get("Server"); server != "" {
			said += ", from " + server
		}
		if to := resp.Header.Get("Location"); to != "" {
			said += ", which sends on to " + to
		}
		r.add("gate", Error, said, "see what listens there, and where the proxy ahead of it passes requests on to")
		return false
	}
	r.add("gate", OK, "a Kindred Gate answers, over "+resp.Proto, "")
	if c := resp.TLS; c != nil {
		left := time.Until(c.PeerCertificates[0].NotAfter)
		if left < soonCertificate {
			r.add("certificate", Warning, "it expires on "+day(c.PeerCertificates[0].NotAfter), "get a new one in time")
		} else {
			r.add("certificate", OK, "it is valid until "+day(c.PeerCertificates[0].NotAfter), "")
		}
	}
	if date, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		if apart := time.Since(date).Abs(); apart > 2*time.Minute {
			r.add("clock", Warning, fmt.Sprintf("the gate's clock and this one are %s apart", apart.Round(time.Second)), "set both right; keys' ends go by the gate's")
		} else {
			r.add("clock", OK, "the gate's clock and this one agree", "")
		}
	}
	if took > time.Second {
		r.add("distance", Warning, fmt.Sprintf("the first answer took %s", took.Round(time.Millisecond)), "see where the way is slow: name server, TLS, or a proxy")
	} else {
		r.add("distance", OK, fmt.Sprintf("the first answer took %s", took.Round(time.Millisecond)), "")
	}
	return true
}

// failed says why a call could not be made.
func (r *remote) failed(err error) {
	var authority x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	var host x509.HostnameError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		r.add("certificate", Error, "it is not valid now: "+invalid.Error(), "put a new one in its place; the gate reads it by itself")
	case errors.As(err, &host):
		r.add("certificate", Error, "it is not for this name: "+host.Error(), "call the gate by a name that the certificate has, or get one for this name")
	case errors.As(err, &authority):
		r.add("certificate", Error, "nobody that this machine trusts has made it", "for one that you made yourself, give its file with --roots here, and to each client in its own way")
	case errors.As(err, &record), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		r.add("encryption", Error, "what listens there does not speak TLS", "write http:// in the place of https://, or set network.certificate")
	default:
		r.add("gate", Error, "it does not answer: "+err.Error(), "see that the address is the gate's, and that nothing on the way ends the connection")
	}
}

// mayUse sees what the key may.
func (r *remote) mayUse(ctx context.Context) bool {
	if r.key == "" {
		r.add("key", Warning, "no key was given, so what needs one was not looked at", "give one with --key or KINDRED_KEY")
		return false
	}
	resp, body, err := r.call(ctx, "/gate/key")
	if err != nil {
		r.failed(err)
		return false
	}
	if resp.StatusCode != http.StatusOK {
		_, message := refusal(body)
		r.add("key", Error, fmt.Sprintf("it is refused: %s", cmp.Or(message, resp.Status)), "give the application a key that is valid")
		return false
	}
	var k struct {
		Label    string
		Expires  *time.Time
		Standing []struct {
			What      string
			Remaining int64
		}
	}
	if err := json.Unmarshal(body, &k); err != nil {
		r.add("key", Error, "what the gate says of it cannot be read: "+err.Error(), "see that nothing on the way changes answers")
		return false
	}
	switch {
	case slices.ContainsFunc(k.Standing, func(s struct {
		What      string
		Remaining int64
	}) bool {
		return s.Remaining == 0
	}):
		r.add("key", Warning, fmt.Sprintf("%q has used up one of its limits", k.Label), "\"kindred keys self\" tells which, and when there is room again")
	case k.Expires != nil && time.Until(*k.Expires) < soonKey:
		r.add("key", Warning, fmt.Sprintf("%q ends on %s", k.Label, k.Expires.Local().Format("2006-01-02 15:04")), "ask the gate's owner for another in time")
	default:
		r.add("key", OK, fmt.Sprintf("%q is valid", k.Label), "")
	}
	return true
}

func (r *remote) models(ctx context.Context) {
	resp, body, err := r.call(ctx, "/v1/models")
	if err != nil {
		r.failed(err)
		return
	}
	var got struct{ Data []struct{ ID string } }
	if resp.StatusCode != http.StatusOK || json.Unmarshal(body, &got) != nil {
		_, message := refusal(body)
		r.add("models", Error, "they cannot be listed: "+cmp.Or(message, resp.Status), "see the gate's log")
		return
	}
	var names []string
	for _, m := range got.Data {
		names = append(names, m.ID)
	}
	if len(names) == 0 {
		r.add("models", Error, "there is none that the key may use", "\"kindred keys change\" gives it some, \"kindred models add\" brings some")
		return
	}
	r.add("models", OK, "the key may use "+strings.Join(names[:min(len(names), 6)], ", "), "")
}

// PulsePath is where a gate sends a few events with pauses between them, for a client to see whether they come so.
const (
	PulsePath  = "/gate/key/pulse"
	PulseCount = 5
	PulsePause = 200 * time.Millisecond
)

// stream sees whether streams come as they are sent.
func (r *remote) stream(ctx context.Context) {
	const name = "streams"
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.root+PulsePath, nil)
	if err != nil {
		r.add(name, Error, err.Error(), "see the address")
		return
	}
	req.Header.Set("Authorization", "Bearer "+r.key)
	resp, err := r.client.Do(req)
	if err != nil {
		r.failed(err)
		return
	}
	defer resp.Body.Close()
	var came []time.Time
	lines := bufio.NewScanner(io.LimitReader(resp.Body, longAnswer))
	for lines.Scan() {
		if bytes.HasPrefix(lines.Bytes(), []byte("data: {")) {
			came = append(came, time.Now())
		}
	}
	whole := (PulseCount - 1) * PulsePause
	switch {
	case len(came) != PulseCount:
		r.add(name, Error, fmt.Sprintf("of %d events %d came", PulseCount, len(came)), "see what on the way ends connections")
	case came[len(came)-1].Sub(came[0]) < whole/2:
		r.add(name, Error, "something on the way gathers streams and passes them on at once, so that answers come late and as a whole", "switch buffering off in the proxy (for nginx: proxy_buffering off)")
	default:
		r.add(name, OK, "they come piece by piece", "")
	}
}
