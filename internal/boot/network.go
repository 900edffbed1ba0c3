package boot

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"kindredgate/internal/config"
	"kindredgate/internal/server"
	"kindredgate/internal/system"
)

// listen opens the addresses for others, and takes over those that the system has opened.
func (h *House) listen(n config.Network) error {
	secure, err := h.secure(n)
	if err != nil {
		return err
	}
	add := func(l net.Listener) {
		e := server.Entrance{Listener: l, OnlyApplications: n.OnlyApplications}
		if _, ok := l.Addr().(*net.TCPAddr); ok {
			e.TLS = secure
		}
		h.Entrances = append(h.Entrances, e)
		h.closing(func() error {
			_ = l.Close() // as the first
			return nil
		})
	}
	for _, address := range n.Listen {
		path, socket := strings.CutPrefix(address, config.SocketPrefix)
		var l net.Listener
		if socket {
			l, err = listenSocket(path)
		} else {
			l, err = net.Listen("tcp", address)
		}
		switch {
		case system.AddressInUse(err):
			return fmt.Errorf("%s is in use by another program; choose another address in network.listen", address)
		case errors.Is(err, fs.ErrPermission):
			return fmt.Errorf("listen on %s: %w; ports below 1024 need a right of their own, and sockets a folder that can be written", address, err)
		case err != nil:
			return fmt.Errorf("listen on %s: %w", address, err)
		}
		add(l)
	}
	// The protocol is that of sd_listen_fds(3): numbered files, and variables that say how many, and for which process.
	handed, err := activation.Listeners()
	if err != nil {
		return fmt.Errorf("take over the sockets that the system has opened: %w", err)
	}
	for _, l := range handed {
		if l == nil {
			return errors.New("one of the sockets that the system has opened for the gate is none that takes connections; use ListenStream in its unit")
		}
		if tcp, ok := l.Addr().(*net.TCPAddr); ok && h.Config.Access == config.Open && !tcp.IP.IsLoopback() {
			return fmt.Errorf("access is open, which is refused on %s, a socket that the system has opened: others could reach it; use keys", tcp)
		}
		h.log.Info("took over a socket that the system has opened", "address", l.Addr().String())
		add(l)
	}
	return nil
}

// secure is how lines are encrypted; nil for not at all.
func (h *House) secure(n config.Network) (*tls.Config, error) {
	switch {
	case n.Certificate != "":
		c := &certificate{file: n.Certificate, key: n.Key, log: h.log}
		if err := c.load(); err != nil {
			return nil, err
		}
		h.certificate = c
		return &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12}, nil
	case len(n.ACME.Hosts) > 0:
		return h.ordered(n.ACME)
	}
	return nil, nil
}

// ordered has certificates made by an authority when they are first needed, and anew before they end. They are kept in the data folder.
func (h *House) ordered(a config.ACME) (*tls.Config, error) {
	client := &acme.Client{DirectoryURL: a.Directory}
	if a.Roots != "" {
		raw, err := os.ReadFile(a.Roots)
		if err != nil {
			return nil, fmt.Errorf("network.acme.roots: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("network.acme.roots: %s has no certificate in PEM", a.Roots)
		}
		client.HTTPClient = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}}
	}
	m := &autocert.Manager{Prompt: autocert.AcceptTOS, Cache: autocert.DirCache(filepath.Join(h.Config.Data, certificatesDir)), HostPolicy: autocert.HostWhitelist(a.Hosts...), Email: a.Email, Client: client}
	return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{acme.ALPNProto}, GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		c, err := m.GetCertificate(hello)
		if err != nil && slices.Contains(a.Hosts, hello.ServerName) {
			h.log.Error("there is no certificate yet", "host", hello.ServerName, "error", err.Error())
		}
		return c, err
	}}, nil
}

// listenSocket opens a Unix socket that the owner and the group may use. What a gate that was killed left there makes room.
func listenSocket(path string) (net.Listener, error) {
	if conn, err := net.Dial("unix", path); err == nil {
		conn.Close()
		return nil, errors.New("another program listens there")
	} else if system.Refused(err) {
		if err := os.Remove(path); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(path, 0o660); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// lookAgain is how often the files of a certificate are looked at, for it to be replaced while the gate runs.
const lookAgain = time.Second

// certificate is one whose files may change. It is safe for concurrent use.
type certificate struct {
	file, key string
	log       *slog.Logger

	mu     sync.Mutex
	loaded *tls.Certificate
	looked time.Time
	state  [2]fileState
	failed string // why the files could not be used when they changed; it was said
}

type fileState struct {
	at   time.Time
	size int64
}

// load reads the files.
func (c *certificate) load() error {
	state, err := c.states()
	if err != nil {
		return err
	}
	loaded, err := tls.LoadX509KeyPair(c.file, c.key)
	if err != nil {
		return fmt.Errorf("certificate %s with key %s: %w", c.file, c.key, err)
	}
	if end := loaded.Leaf.NotAfter; time.Now().After(end) {
		c.log.Warn("the certificate has expired, so clients will refuse it; put a new one in its place", "file", c.file, "expired", end.Format(time.RFC3339))
	}
	c.loaded, c.state = &loaded, state
	return nil
}

func (c *certificate) states() (s [2]fileState, err error) {
	for i, file := range []string{c.file, c.key} {
		info, err := os.Stat(file)
		if err != nil {
			return s, fmt.Errorf("certificate: %w", err)
		}
		s[i] = fileState{info.ModTime(), info.Size()}
	}
	return s, nil
}

// standing is the certificate that is used, and why the files as they are cannot be.
func (c *certificate) standing() (*x509.Certificate, string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.loaded.Leaf, c.failed
}

// get gives the certificate for a connection. Files that changed are read anew; while they cannot be used, the one before stays.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) < lookAgain {
		return c.loaded, nil
	}
	c.looked = time.Now()
	state, err := c.states()
	if err == nil && state != c.state {
		if err = c.load(); err == nil {
			c.failed = ""
			c.log.Info("the certificate was read anew", "file", c.file)
		}
	}
	if err != nil && err.Error() != c.failed {
		c.failed = err.Error()
		c.log.Error("the new certificate cannot be used; the one before stays", "error", c.failed)
	}
	return c.loaded, nil
}
