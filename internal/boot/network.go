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
	"net/url"
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
func (app *App) listen(n config.Network) error {
	secure, err := app.secure(n)
	if err != nil {
		return err
	}
	add := func(l net.Listener) {
		e := server.Listener{Listener: l, OnlyApplications: n.OnlyApplications}
		if _, ok := l.Addr().(*net.TCPAddr); ok {
			e.TLS = secure
		}
		app.Listeners = append(app.Listeners, e)
		app.closing(func() error {
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
		if tcp, ok := l.Addr().(*net.TCPAddr); ok && app.Config.Access == config.Open && !tcp.IP.IsLoopback() {
			return fmt.Errorf("access is open, which is refused on %s, a socket that the system has opened: others could reach it; use keys", tcp)
		}
		app.log.Info("took over a socket that the system has opened", "address", l.Addr().String())
		add(l)
	}
	return nil
}

// secure is how lines are encrypted; nil for not at all.
func (app *App) secure(n config.Network) (*tls.Config, error) {
	switch {
	case n.Certificate != "":
		c := &certificate{file: n.Certificate, key: n.Key, hosts: calledBy(app.Config), log: app.log}
		if err := c.load(); err != nil {
			return nil, err
		}
		app.certificate = c
		return &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12}, nil
	case len(n.ACME.Hosts) > 0:
		return app.ordered(n.ACME)
	}
	return nil, nil
}

// ordered has certificates made by an authority when they are first needed, and anew before they end. They are kept in the data folder.
func (app *App) ordered(a config.ACME) (*tls.Config, error) {
	client := &acme.Client{DirectoryURL: a.Directory}
	if a.Roots != "" {
		raw, err := system.ReadFile(a.Roots, maxCertificates)
		if err != nil {
			return nil, fmt.Errorf("network.acme.roots: %w", err)
		}
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("network.acme.roots: %s has no certificate in PEM", a.Roots)
		}
		client.HTTPClient = &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}}
	}
	m := &autocert.Manager{Prompt: autocert.AcceptTOS, Cache: autocert.DirCache(filepath.Join(app.Config.Data, certificatesDir)), HostPolicy: autocert.HostWhitelist(a.Hosts...), Email: a.Email, Client: client}
	return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{acme.ALPNProto}, GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		c, err := m.GetCertificate(hello)
		if err != nil && slices.Contains(a.Hosts, hello.ServerName) {
			app.log.Error("there is no certificate yet", "host", hello.ServerName, "error", err.Error())
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

// calledBy are the names by which the configuration says that the gate is called.
func calledBy(c config.Config) []string {
	hosts := slices.Clone(c.HostNames)
	if u, err := url.Parse(c.Network.BaseURL); err == nil && u.Hostname() != "" {
		hosts = append(hosts, u.Hostname())
	}
	return hosts
}

// maxCertificates bounds a file of certificates or of a key, in bytes.
const maxCertificates = 1 << 20

// lookAgain is how often the files of a certificate are looked at, for it to be replaced while the gate runs.
const lookAgain = time.Second

// certificate is one whose files may change. It is safe for concurrent use.
type certificate struct {
	file, key string
	hosts     []string // names by which the gate is called
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

// load reads the files. What cannot serve takes no good certificate's place; at the start there is none, and a warning has to do.
func (c *certificate) load() error {
	state, err := c.states()
	if err != nil {
		return err
	}
	chain, err := system.ReadFile(c.file, maxCertificates)
	if err != nil {
		return fmt.Errorf("certificate: %w", err)
	}
	key, err := system.ReadFile(c.key, maxCertificates)
	if err != nil {
		return fmt.Errorf("certificate: %w", err)
	}
	loaded, err := tls.X509KeyPair(chain, key)
	if err != nil {
		return fmt.Errorf("certificate %s with key %s: %w", c.file, c.key, err)
	}
	now := time.Now()
	if fault := unfit(loaded.Leaf, now); fault != nil {
		if c.loaded != nil && unfit(c.loaded.Leaf, now) == nil {
			return fmt.Errorf("certificate %s: %w", c.file, fault)
		}
		c.log.Warn("clients will refuse the certificate; put a valid one in its place", "file", c.file, "error", fault.Error())
	}
	if c.loaded != nil && unfit(c.loaded.Leaf, now) == nil {
		if lost := c.lost(loaded.Leaf); lost != "" {
			return fmt.Errorf("certificate %s is for %s, and no longer for %s", c.file, strings.Join(loaded.Leaf.DNSNames, ", "), lost)
		}
	}
	c.loaded, c.state = &loaded, state
	return nil
}

// unfit is why clients refuse a certificate at a time, by its dates.
func unfit(leaf *x509.Certificate, now time.Time) error {
	switch {
	case now.After(leaf.NotAfter):
		return fmt.Errorf("it expired on %s", leaf.NotAfter.Format(time.RFC3339))
	case now.Before(leaf.NotBefore):
		return fmt.Errorf("it is valid from %s on, which is not yet", leaf.NotBefore.Format(time.RFC3339))
	}
	return nil
}

// lost is a name for which the certificate that is used holds, and another does not: one by which the gate is called, or, if none of these
// is known, one of its own if the other has none of them.
func (c *certificate) lost(other *x509.Certificate) string {
	used := c.loaded.Leaf
	known := false
	for _, host := range c.hosts {
		if used.VerifyHostname(host) != nil {
			continue
		}
		if known = true; other.VerifyHostname(host) != nil {
			return host
		}
	}
	own := slices.Clone(used.DNSNames)
	for _, ip := range used.IPAddresses {
		own = append(own, ip.String())
	}
	if known || len(own) == 0 || slices.ContainsFunc(own, func(name string) bool {
		return slices.Contains(other.DNSNames, name) || other.VerifyHostname(name) == nil
	}) {
		return ""
	}
	return strings.Join(own, ", ")
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
