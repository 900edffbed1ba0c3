// Package fleettest has NATS servers for tests: a cluster of real ones, with JetStream, that can be stopped and started again.
package fleettest

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/nats-io/nkeys"

	"kindredgate/internal/fleet"
)

// Cluster is several NATS servers that belong together.
type Cluster struct {
	Secrets     fleet.Secrets
	Credentials string   // a file with them
	Roots       string   // a PEM file
	URLs        []string // for gates and machines
	configs     []string
	servers     []*server.Server
}

// Start starts servers that let in gates with fresh keys, and whom these let in. They end with the test.
func Start(t testing.TB, n int) *Cluster {
	t.Helper()
	must := func(err error) {
		if err != nil {
			t.Helper()
			t.Fatal(err)
		}
	}
	folder := t.TempDir()
	c := &Cluster{Credentials: filepath.Join(folder, "gates.seeds"), Roots: filepath.Join(folder, "roots.pem")}
	var err error
	c.Secrets, err = fleet.NewSecrets()
	must(err)
	raw, err := json.Marshal(c.Secrets)
	must(err)
	must(os.WriteFile(c.Credentials, raw, 0o600))
	authorization, err := c.Secrets.Authorization()
	must(err)
	certificate, key := c.certificates(t, folder)
	ports := FreePorts(t, 2*n)
	routes := ""
	for i := range n {
		routes += fmt.Sprintf(", \"nats-route://127.0.0.1:%d\"", ports[n+i])
	}
	for i := range n {
		text := fmt.Sprintf(`server_name: n%[1]d
listen: 127.0.0.1:%[2]d
ping_interval: "2s"
tls { cert_file: %[3]q, key_file: %[4]q, timeout: 5 }
jetstream { store_dir: %[5]q, max_mem: 64MB, max_file: 300MB }
%[6]s`, i+1, ports[i], certificate, key, filepath.Join(folder, fmt.Sprint("js", i)), authorization)
		if n > 1 {
			text += fmt.Sprintf("cluster { name: test, listen: 127.0.0.1:%d, routes: [%s] }\n", ports[n+i], routes[2:])
		}
		file := filepath.Join(folder, fmt.Sprintf("n%d.conf", i+1))
		must(os.WriteFile(file, []byte(text), 0o600))
		c.configs = append(c.configs, file)
		c.servers = append(c.servers, nil)
		c.URLs = append(c.URLs, fmt.Sprintf("tls://127.0.0.1:%d", ports[i]))
	}
	t.Cleanup(func() {
		for i := range n {
			c.Stop(i)
		}
	})
	for i := range n {
		c.Run(t, i)
	}
	return c
}

// Fill fills the disk that the servers may use, and gives what frees it again.
func (c *Cluster) Fill(t testing.TB) (free func()) {
	t.Helper()
	user, err := nkeys.FromSeed([]byte(c.Secrets.User))
	if err != nil {
		t.Fatal(err)
	}
	public, err := user.PublicKey()
	if err != nil {
		t.Fatal(err)
	}
	conn, err := nats.Connect(strings.Join(c.URLs, ","), nats.RootCAs(c.Roots), nats.Nkey(public, user.Sign))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(conn.Close)
	js, err := jetstream.New(conn)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := js.CreateStream(t.Context(), jetstream.StreamConfig{Name: "fill", Subjects: []string{"fill"}}); err != nil {
		t.Fatal(err)
	}
	for size := 512 << 10; size > 0; size /= 2 {
		for err == nil {
			_, err = js.Publish(t.Context(), "fill", make([]byte, size))
		}
		err = nil
	}
	return func() {
		if err := js.DeleteStream(context.Background(), "fill"); err != nil {
			t.Error(err)
		}
	}
}

// Run starts a server, which was stopped or has not run yet.
func (c *Cluster) Run(t testing.TB, i int) {
	t.Helper()
	o, err := server.ProcessConfigFile(c.configs[i])
	if err != nil {
		t.Fatal(err)
	}
	o.NoLog, o.NoSigs = true, true
	s, err := server.NewServer(o)
	if err != nil {
		t.Fatal(err)
	}
	s.Start()
	if !s.ReadyForConnections(20 * time.Second) {
		t.Fatal("a NATS server does not start")
	}
	c.servers[i] = s
}

// Stop stops a server at once.
func (c *Cluster) Stop(i int) {
	if s := c.servers[i]; s != nil {
		s.Shutdown()
		s.WaitForShutdown()
		c.servers[i] = nil
	}
}

// certificates makes an authority, and a certificate by it for the servers.
func (c *Cluster) certificates(t testing.TB, folder string) (certificate, key string) {
	t.Helper()
	make := func(of, by *x509.Certificate, signer *ecdsa.PrivateKey) (*ecdsa.PrivateKey, []byte) {
		own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if by == nil {
			by, signer = of, own
		}
		der, err := x509.CreateCertificate(rand.Reader, of, by, &own.PublicKey, signer)
		if err != nil {
			t.Fatal(err)
		}
		return own, der
	}
	authority := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Sorrel Sound test authority"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	ca, root := make(authority, nil, nil)
	own, der := make(&x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "nats"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature}, authority, ca)
	private, err := x509.MarshalPKCS8PrivateKey(own)
	if err != nil {
		t.Fatal(err)
	}
	write := func(name string, blocks ...*pem.Block) string {
		var b bytes.Buffer
		for _, one := range blocks {
			if err := pem.Encode(&b, one); err != nil {
				t.Fatal(err)
			}
		}
		file := filepath.Join(folder, name)
		if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	write(filepath.Base(c.Roots), &pem.Block{Type: "CERTIFICATE", Bytes: root})
	// The chain has the authority, by which machines know the servers.
	return write("nats.pem", &pem.Block{Type: "CERTIFICATE", Bytes: der}, &pem.Block{Type: "CERTIFICATE", Bytes: root}), write("nats.key", &pem.Block{Type: "PRIVATE KEY", Bytes: private})
}

// FreePorts finds ports that nobody listens at.
func FreePorts(t testing.TB, n int) (ports []int) {
	t.Helper()
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
	}
	return ports
}
