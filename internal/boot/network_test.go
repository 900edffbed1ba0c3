package boot_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/boot"
)

// certify writes a certificate that was made for a test, and its key.
func certify(t *testing.T, name, file, key string, ends time.Time) *x509.Certificate {
	t.Helper()
	return certifyFor(t, name, file, key, time.Now().Add(-48*time.Hour), ends, "gate.example")
}

func certifyFor(t *testing.T, name, file, key string, begins, ends time.Time, hosts ...string) *x509.Certificate {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	form := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, DNSNames: hosts, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: begins, NotAfter: ends, IsCA: true, BasicConstraintsValid: true}
	raw, err := x509.CreateCertificate(rand.Reader, form, form, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	for path, block := range map[string]*pem.Block{file: {Type: "CERTIFICATE", Bytes: raw}, key: {Type: "EC PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	c, err := x509.ParseCertificate(raw)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// said is a log that can be read.
type said struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// A gate is reached by others under TLS, whose certificate can be replaced while it runs, and by a socket; a proxy that is trusted says for
// whom it asks.
func TestEntrancesForOthers(t *testing.T) {
	folder := t.TempDir()
	cfg := settings(t, filepath.Join(folder, "data"))
	file, key, socket := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem"), filepath.Join(folder, "gate.sock")
	first := certify(t, "first", file, key, time.Now().Add(time.Hour))
	if l, err := net.Listen("unix", socket); err != nil { // as a gate that was killed leaves it
		t.Fatal(err)
	} else {
		l.(*net.UnixListener).SetUnlinkOnClose(false)
		l.Close()
	}
	cfg.Network.Listen = []string{"127.0.0.1:0", "unix:" + socket}
	cfg.Network.Certificate, cfg.Network.Key, cfg.Network.BaseURL, cfg.Network.TrustedProxies = file, key, "https://gate.example/v1", []string{"127.0.0.1"}
	log := &said{}
	o := options
	o.Log = slog.New(slog.NewTextHandler(log, nil))
	t.Cleanup(func() { // after the gate has ended
		if _, err := os.Stat(socket); err == nil {
			t.Error("the socket is left behind")
		}
	})
	h, owner := running(t, cfg, o)
	if h.Server.BaseURL() != "https://gate.example/v1" {
		t.Errorf("applications are told %s", h.Server.BaseURL())
	}
	body := `{"key":"` + owner + `"}`
	secure := h.Listeners[0].Listener.Addr().String()
	signIn := func(c *http.Client, base string, header ...string) *http.Response {
		t.Helper()
		req, err := http.NewRequest(http.MethodPost, base+"/gate/session", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		resp, err := c.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusNoContent || len(resp.Cookies()) != 1 {
			t.Fatalf("%s: %d", base, resp.StatusCode)
		}
		return resp
	}
	trusting := func(c *x509.Certificate) *http.Client {
		roots := x509.NewCertPool()
		roots.AddCert(c)
		return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}, ForceAttemptHTTP2: true, DisableKeepAlives: true}}
	}
	if resp := signIn(trusting(first), "https://"+secure); resp.ProtoMajor != 2 || !resp.Cookies()[0].Secure {
		t.Errorf("under TLS: %s, cookie %+v", resp.Proto, resp.Cookies()[0])
	}
	plain := "http://" + h.Listener.Addr().String()
	if resp := signIn(http.DefaultClient, plain); resp.Cookies()[0].Secure {
		t.Error("the cookie of a line that is not encrypted wants one that is")
	}
	if resp := signIn(http.DefaultClient, plain, "X-Forwarded-For", "192.0.2.7", "X-Forwarded-Proto", "https"); !resp.Cookies()[0].Secure {
		t.Error("behind a proxy with TLS the cookie goes over lines without")
	}
	overSocket := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", socket)
	}}}
	signIn(overSocket, "http://localhost")
	signIn(overSocket, "http://gate.example")
	if info, err := os.Stat(socket); err != nil || info.Mode().Perm() != 0o660 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	if second, err := boot.Open(t.Context(), cfg, o); err == nil || !strings.Contains(err.Error(), "another program listens there") {
		t.Errorf("a second gate on the socket: %v, %v", second, err)
	}

	// What is not a certificate keeps the one before; another takes its place.
	if err := os.WriteFile(file, []byte("half of a certificate"), 0o600); err != nil {
		t.Fatal(err)
	}
	tries(t, func() bool {
		signIn(trusting(first), "https://"+secure)
		return strings.Contains(log.String(), "the one before stays")
	})
	// Nor does one that clients would refuse, or that is a device or a pipe.
	hour, past, ahead := time.Hour, time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
	for want, write := range map[string]func(){
		"it expired on":                  func() { certifyFor(t, "expired", file, key, past.Add(-hour), past, "gate.example") },
		"which is not yet":               func() { certifyFor(t, "early", file, key, ahead, ahead.Add(hour), "gate.example") },
		"and no longer for gate.example": func() { certifyFor(t, "other", file, key, past, ahead, "other.example") },
		"not a regular file": func() {
			if err := os.Symlink(os.DevNull, file); err != nil {
				t.Fatal(err)
			}
		},
	} {
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
		write()
		if err := h.LoadCertificate(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
		signIn(trusting(first), "https://"+secure)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	second := certify(t, "second", file, key, time.Now().Add(hour))
	tries(t, func() bool {
		conn, err := tls.Dial("tcp", secure, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].Equal(second)
	})
}

// tries until something is so.
func tries(t *testing.T, so func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !so(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("it never is so")
		}
	}
}

func TestEntrancesThatCannotBe(t *testing.T) {
	folder := t.TempDir()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	file, key, other := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem"), filepath.Join(folder, "other.pem")
	certify(t, "one", file, key, time.Now().Add(time.Hour))
	certify(t, "two", filepath.Join(folder, "x.pem"), other, time.Now().Add(time.Hour))
	for what, c := range map[string]struct {
		listen, certificate, key, want string
	}{
		"an address in use":        {taken.Addr().String(), "", "", "is in use by another program"},
		"no folder for the socket": {"unix:" + folder + "/none/gate.sock", "", "", "no such file"},
		"no certificate":           {"127.0.0.1:0", folder + "/none.pem", key, "none.pem"},
		"another's key":            {"127.0.0.1:0", file, other, "private key does not match"},
	} {
		cfg := settings(t, filepath.Join(folder, "data"))
		cfg.Network.Listen, cfg.Network.Certificate, cfg.Network.Key = []string{c.listen}, c.certificate, c.key
		h, err := boot.Open(t.Context(), cfg, options)
		if err == nil || !strings.Contains(err.Error(), c.want) || h != nil {
			t.Errorf("%s: %v, %v", what, h, err)
		}
	}
}

// An address that is for applications only offers nothing else; behind a proxy with a prefix the gate is whole, whether the proxy leaves the
// prefix in the paths or not.
func TestAnAddressForApplicationsOnly(t *testing.T) {
	cfg := settings(t, t.TempDir())
	cfg.Network.Listen, cfg.Network.OnlyApplications, cfg.Network.BaseURL = []string{"127.0.0.1:0"}, true, "https://gate.example/models/v1"
	h, owner := running(t, cfg, options)
	ours, theirs := h.Listener.Addr().String(), h.Listeners[0].Listener.Addr().String()
	for path, want := range map[string][2]int{ // here, and at the address for applications
		"/v1/models":        {200, 200},
		"/models/v1/models": {200, 200},
		"/models/":          {200, 404},
		"/modelsv1/models":  {404, 404},
		"/gate/key":         {200, 200},
		"/healthz":          {200, 200},
		"/":                 {200, 404},
		"/gate/keys":        {200, 404},
		"/gate/status":      {200, 404},
		"/metrics":          {200, 404},
		"/models/metrics":   {200, 404},
	} {
		for i, address := range []string{ours, theirs} {
			req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+path, nil)
			if err != nil {
				t.Fatal(err)
			}
			req.Header.Set("Authorization", "Bearer "+owner)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			resp.Body.Close()
			if resp.StatusCode != want[i] {
				t.Errorf("%s at %s: %d, not %d", path, []string{"the gate's own address", "that for applications"}[i], resp.StatusCode, want[i])
			}
		}
	}
}
