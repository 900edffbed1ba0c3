package boot_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	stdlog "log"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/letsencrypt/challtestsrv"
	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"

	"kindredgate/internal/boot"
)

// A real authority, in this process, makes a gate's certificate when it is first asked for, and no other name gets one. It is kept, so that
// the next start needs no authority.
func TestCertificatesFromAnAuthority(t *testing.T) {
	t.Setenv("PEBBLE_VA_NOSLEEP", "1")
	quiet := stdlog.New(io.Discard, "", 0)
	resolver := net.JoinHostPort("127.0.0.1", "0")
	packets, err := net.ListenPacket("udp", resolver) // only to find a port that is free
	if err != nil {
		t.Fatal(err)
	}
	resolver = packets.LocalAddr().String()
	packets.Close()
	names, err := challtestsrv.New(challtestsrv.Config{DNSAddrs: []string{resolver}, Log: quiet})
	if err != nil {
		t.Fatal(err)
	}
	names.SetDefaultDNSIPv4("127.0.0.1")
	names.SetDefaultDNSIPv6("")
	go names.Run()
	defer names.Shutdown()
	tries(t, func() bool {
		conn, err := net.Dial("tcp", resolver)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})

	var handler atomic.Pointer[http.Handler]
	authority := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { (*handler.Load()).ServeHTTP(w, r) }))
	defer authority.Close()
	folder := t.TempDir()
	roots := filepath.Join(folder, "roots.pem")
	if err := os.WriteFile(roots, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authority.Certificate().Raw}), 0o600); err != nil {
		t.Fatal(err)
	}

	cfg := settings(t, filepath.Join(folder, "data"))
	cfg.Network.Listen = []string{net.JoinHostPort("127.0.0.1", "0")}
	cfg.Network.ACME.Hosts, cfg.Network.ACME.Directory, cfg.Network.ACME.Roots = []string{"gate.example"}, authority.URL+"/dir", roots
	log := &said{}
	o := options
	o.Log = slog.New(slog.NewTextHandler(log, nil))
	certificate := func(h *boot.App, name string) (*x509.Certificate, error) {
		conn, err := tls.Dial("tcp", h.Listeners[0].Listener.Addr().String(), &tls.Config{ServerName: name, InsecureSkipVerify: true})
		if err != nil {
			return nil, err
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0], nil
	}
	var made *x509.Certificate
	for round := range 2 {
		h, err := boot.Open(t.Context(), cfg, o)
		if err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(t.Context())
		served := make(chan error, 1)
		go func() { served <- h.Serve(ctx) }()
		if round == 0 {
			store := db.NewMemoryStore()
			maker := ca.New(quiet, store, "", "ecdsa", 0, 1, map[string]ca.Profile{"default": {Description: "for tests"}})
			looker := va.New(quiet, 0, h.Listeners[0].Listener.Addr().(*net.TCPAddr).Port, false, resolver, store)
			front := wfe.New(quiet, store, looker, maker, nil, false, false, 1, 1)
			door := front.Handler()
			handler.Store(&door)
		} else {
			gone := http.NotFoundHandler()
			handler.Store(&gone)
		}
		c, err := certificate(h, "gate.example")
		switch {
		case err != nil:
			t.Errorf("round %d: %v\n%s", round, err, log)
		case round == 0:
			made = c
			if c.VerifyHostname("gate.example") != nil || strings.Contains(c.Issuer.CommonName, "gate") {
				t.Errorf("the certificate is for %v, by %v", c.DNSNames, c.Issuer)
			}
		case !c.Equal(made):
			t.Error("after a restart the certificate is another one")
		}
		if _, err := certificate(h, "other.example"); err == nil {
			t.Error("a name that was not named has a certificate")
		}
		stop()
		if err := <-served; err != nil {
			t.Error(err)
		}
		if err := h.Close(); err != nil {
			t.Error(err)
		}
	}
}
