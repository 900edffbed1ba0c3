package boot

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/config"
	"kindredgate/internal/server"
	"kindredgate/internal/system"
)

// listen opens the addresses for others.
func (h *House) listen(n config.Network) error {
	var secure *tls.Config
	if n.Certificate != "" {
		c := &certificate{file: n.Certificate, key: n.Key, log: h.log}
		if err := c.load(); err != nil {
			return err
		}
		secure = &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12}
	}
	for _, address := range n.Listen {
		path, socket := strings.CutPrefix(address, config.SocketPrefix)
		entry := server.Entrance{}
		var err error
		if socket {
			entry.Listener, err = listenSocket(path)
		} else {
			entry.TLS = secure
			entry.Listener, err = net.Listen("tcp", address)
		}
		switch {
		case system.AddressInUse(err):
			return fmt.Errorf("%s is in use by another program; choose another address in network.listen", address)
		case errors.Is(err, fs.ErrPermission):
			return fmt.Errorf("listen on %s: %w; ports below 1024 need a right of their own, and sockets a folder that can be written", address, err)
		case err != nil:
			return fmt.Errorf("listen on %s: %w", address, err)
		}
		h.Entrances = append(h.Entrances, entry)
		h.closing(func() error {
			_ = entry.Listener.Close() // as the first
			return nil
		})
	}
	return nil
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
