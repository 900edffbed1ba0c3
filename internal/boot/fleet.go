package boot

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"kindredgate/internal/fleet"
	"kindredgate/internal/server"
	"kindredgate/internal/system"
)

// Files of the data folder, for machines that join.
const (
	fleetKeysFile        = "fleet.keys"
	fleetCertificateFile = "fleet.pem"
)

// gather lets machines come in that dial the gate, if the configuration wants that.
func (app *App) gather(ctx context.Context) (err error) {
	cfg := app.Config.Fleet
	if !cfg.On() {
		return nil
	}
	o := fleet.Options{Listen: cfg.Listen, Servers: cfg.NATS, Records: app.db, Log: app.log, Changed: func() {
		select {
		case app.moved <- struct{}{}:
		default: // it is going to be looked at
		}
	}}
	app.joining = &server.Joining{}
	if cfg.Listen != "" {
		keys := filepath.Join(app.Config.Data, fleetKeysFile)
		if o.Secrets, err = keptSecrets(keys); err != nil {
			return FolderError(app.Config.Data, fmt.Errorf("the keys for machines, %s: %w", keys, err))
		}
		if o.Certificate, err = keptCertificate(filepath.Join(app.Config.Data, fleetCertificateFile)); err != nil {
			return FolderError(app.Config.Data, fmt.Errorf("the certificate for machines: %w", err))
		}
		app.joining.Fingerprint = fleet.Fingerprint(o.Certificate.Certificate[0])
	} else if err := app.meet(&o); err != nil {
		return err
	}
	if app.joining.Hub, err = fleet.Open(ctx, o); err != nil {
		return fmt.Errorf("fleet: %w", err)
	}
	app.closing(app.joining.Hub.Close)
	if len(cfg.NATS) > 0 {
		if err := app.share(ctx); err != nil {
			return fmt.Errorf("fleet: %w", err)
		}
	}
	app.joining.Addresses = app.dialled()
	if cfg.Listen != "" {
		app.log.Info("machines can join", "address", app.joining.Hub.Address())
	}
	return app.takeMachines()
}

// meet is how the gate comes to NATS servers that run already.
func (app *App) meet(o *fleet.Options) error {
	cfg := app.Config.Fleet
	raw, err := system.ReadFile(cfg.Credentials, 1<<16)
	if err != nil {
		return fmt.Errorf("fleet.credentials: %w; \"kindred gates prepare\" makes such a file", err)
	}
	if o.Secrets, err = fleet.ParseSecrets(raw); err != nil {
		return fmt.Errorf("fleet.credentials: %s: %w", cfg.Credentials, err)
	}
	if cfg.Roots == "" {
		return nil
	}
	roots, err := system.ReadFile(cfg.Roots, maxCertificates)
	if err != nil {
		return fmt.Errorf("fleet.roots: %w", err)
	}
	o.Roots = x509.NewCertPool()
	block, _ := pem.Decode(roots)
	if block == nil || !o.Roots.AppendCertsFromPEM(roots) {
		return fmt.Errorf("fleet.roots: %s has no certificate in PEM", cfg.Roots)
	}
	app.joining.Fingerprint = fleet.Fingerprint(block.Bytes)
	return nil
}

// dialled are the addresses that machines are told.
func (app *App) dialled() []string {
	cfg := app.Config
	switch {
	case len(cfg.Fleet.Addresses) > 0:
		return cfg.Fleet.Addresses
	case len(cfg.Fleet.NATS) > 0:
		return cfg.Fleet.NATS
	}
	host, _, err := net.SplitHostPort(cfg.Fleet.Listen)
	ip := net.ParseIP(host)
	if err != nil || host == "" || ip != nil && ip.IsUnspecified() {
		host = "127.0.0.1"
		if name, err := os.Hostname(); err == nil {
			host = name
		}
		if u, err := url.Parse(cfg.Network.BaseURL); err == nil && u.Hostname() != "" {
			host = u.Hostname()
		}
	}
	_, port, err := net.SplitHostPort(app.joining.Hub.Address())
	if err != nil {
		return nil
	}
	return []string{fleet.Scheme + net.JoinHostPort(host, port)}
}

// takeMachines has the machines of the gate be those that the configuration names and those that have joined.
func (app *App) takeMachines() error {
	app.settings.mu.Lock()
	defer app.settings.mu.Unlock()
	all, err := app.others(app.settings.holds, app.settings.holds)
	if err != nil {
		app.log.Error("some runners cannot be used as they are set up", "error", err.Error())
	}
	return app.machines.Set(all)
}

// followMachines takes over who came and went, until ctx is done.
func (app *App) followMachines(ctx context.Context) {
	defer func() {
		if p := recover(); p != nil {
			app.log.Error("following who has joined panicked", "error", fmt.Sprint(p))
		}
	}()
	for {
		select {
		case <-app.moved:
		case <-ctx.Done():
			return
		}
		if err := app.takeMachines(); err != nil {
			app.log.Error("machines that have joined cannot be used", "error", err.Error())
		}
	}
}

// keptSecrets reads keys from a file, or makes them.
func keptSecrets(file string) (s fleet.Secrets, err error) {
	raw, err := system.ReadFile(file, 1<<16)
	if err == nil {
		return fleet.ParseSecrets(raw)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return s, err
	}
	if s, err = fleet.NewSecrets(); err != nil {
		return s, err
	}
	if raw, err = json.Marshal(s); err != nil {
		return s, err
	}
	return s, WriteSecret(file, string(raw))
}

// certificateYears is how long a certificate that the gate makes for itself is valid. Machines know it by its fingerprint, so a new one would
// have them all be invited again.
const certificateYears = 20

// keptCertificate reads a certificate and its key from a file, or makes them.
func keptCertificate(file string) (c tls.Certificate, err error) {
	raw, err := system.ReadFile(file, maxCertificates)
	if err == nil {
		c, err = tls.X509KeyPair(raw, raw)
		if err != nil {
			err = fmt.Errorf("%s: %w", file, err)
		}
		return c, err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return c, err
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return c, err
	}
	now := time.Now()
	of := &x509.Certificate{SerialNumber: big.NewInt(now.UnixNano()), Subject: pkix.Name{CommonName: "kindred gate"}, NotBefore: now.Add(-24 * time.Hour), NotAfter: now.AddDate(certificateYears, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	if err != nil {
		return c, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return c, err
	}
	var b bytes.Buffer
	if err := errors.Join(pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.Encode(&b, &pem.Block{Type: "PRIVATE KEY", Bytes: private})); err != nil {
		return c, err
	}
	if err := WriteSecret(file, b.String()); err != nil {
		return c, err
	}
	return tls.X509KeyPair(b.Bytes(), b.Bytes())
}

// Prepare makes the keys of gates that share NATS servers, in a file that must not be there yet, and gives what the servers' configuration needs.
func Prepare(file string) (authorization string, err error) {
	s, err := fleet.NewSecrets()
	if err != nil {
		return "", err
	}
	raw, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return "", err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("%s is there already; gates that use it would lose their machines", file)
	} else if err != nil {
		return "", err
	}
	_, err = f.Write(append(raw, '\n'))
	if err := errors.Join(err, f.Close()); err != nil {
		return "", err
	}
	return s.Authorization()
}
