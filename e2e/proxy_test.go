package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/standin"
)

// pieceCount is how many pieces a stream of the benchmark has.
const pieceCount = 32

// scriptedServer answers with that many pieces.
func scriptedServer(t testing.TB) (*standin.Server, *httptest.Server) {
	s := standin.New()
	s.Key = "machine-key"
	s.Runner.Pieces = func(*exchange.Request) []string {
		list := make([]string, pieceCount)
		for i := range list {
			list[i] = " tide"
		}
		return list
	}
	h := httptest.NewServer(s)
	t.Cleanup(h.Close)
	return s, h
}

// gateBefore starts a gate that has servers as its machines, called m0, m1 and so on, and a name for all of them.
func gateBefore(t testing.TB, servers ...*httptest.Server) *Gate {
	t.Helper()
	folder := t.TempDir()
	t.Setenv("MACHINE_KEY", "machine-key")
	var b strings.Builder
	b.WriteString("listen: 127.0.0.1:0\nrunners:\n")
	for i, h := range servers {
		fmt.Fprintf(&b, "  m%d: { url: \"%s/v1\", key_env: MACHINE_KEY, tries: 1 }\n", i, h.URL)
	}
	config := filepath.Join(folder, "gate.yaml")
	if err := os.WriteFile(config, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	g := start(t, folder, "serve", "--config", config)
	args := []string{"names", "set", "all", "--strategy", "least_busy"}
	for i := range servers {
		args = append(args, fmt.Sprintf("m%d/harbour-4m", i))
	}
	if _, errOut, code, err := g.Command("", args...); err != nil || code != 0 {
		t.Fatal(err, errOut)
	}
	return g
}

// nginxBefore starts nginx as a plain proxy before a server.
func nginxBefore(b *testing.B, server *httptest.Server) (base string) {
	path, err := exec.LookPath("nginx")
	if err != nil {
		b.Skip("nginx is not installed")
	}
	folder := b.TempDir()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	config := fmt.Sprintf(`worker_processes 2; daemon off; pid %[1]s/pid; error_log %[1]s/error.log;
events { worker_connections 8192; }
http { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s; keepalive_requests 1000000;
  upstream machine { server %[2]s; keepalive 512; keepalive_requests 1000000; }
  server { listen %[3]s backlog=4096; location / { proxy_pass http://machine; proxy_http_version 1.1; proxy_set_header Connection ""; proxy_buffering off; } } }
`, folder, server.Listener.Addr(), address)
	file := filepath.Join(folder, "nginx.conf")
	if err := os.WriteFile(file, []byte(config), 0o600); err != nil {
		b.Fatal(err)
	}
	cmd := exec.Command(path, "-p", folder, "-c", file)
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if c, err := net.Dial("tcp", address); err == nil {
			c.Close()
			return "http://" + address + "/v1"
		}
	}
	b.Fatal("nginx did not come up")
	return ""
}

// stream asks for a stream and reads it to its end. It reports whether it was whole.
func stream(ctx context.Context, client *http.Client, base, key, model, text string) (pieces int, err error) {
	body := fmt.Sprintf(`{"model":%q,"stream":true,"messages":[{"role":"user","content":%q}]}`, model, text)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, base+"/chat/completions", strings.NewReader(body))
	if err != nil {
		return 0, err
	}
	req.Header.Set("Authorization", "Bearer "+key)
	resp, err := client.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		return 0, err
	}
	if resp.StatusCode != http.StatusOK || !bytes.Contains(raw, []byte("data: [DONE]")) || bytes.Contains(raw, []byte(`"error"`)) {
		return 0, fmt.Errorf("%d %.300s", resp.StatusCode, raw)
	}
	return bytes.Count(raw, []byte(" tide")), nil
}

func wideClient(n int) *http.Client {
	return &http.Client{Transport: &http.Transport{MaxIdleConns: n, MaxIdleConnsPerHost: n}}
}

// BenchmarkProxiedStreams has 64 clients read streams of 32 pieces: from the server itself, through nginx as a plain proxy, and through a
// gate. Beside the streams a second it tells the processor time that the gate took for each.
func BenchmarkProxiedStreams(b *testing.B) {
	for _, way := range []string{"direct", "nginx", "gate"} {
		b.Run(way, func(b *testing.B) {
			_, server := scriptedServer(b)
			base, key, model := server.URL+"/v1", "machine-key", "harbour-4m"
			cpu := func() time.Duration { return 0 }
			switch way {
			case "nginx":
				base = nginxBefore(b, server)
			case "gate":
				g := gateBefore(b, server)
				base, key, model = g.BaseURL, g.Owner, "m0/harbour-4m"
				cpu = g.processorTime
			}
			client := wideClient(64)
			run := func(n int) {
				var next atomic.Int64
				var clients sync.WaitGroup
				for range 64 {
					clients.Go(func() {
						for next.Add(1) <= int64(n) {
							if got, err := stream(b.Context(), client, base, key, model, "When?"); err != nil || got != pieceCount {
								b.Error(got, err)
								return
							}
						}
					})
				}
				clients.Wait()
			}
			run(500) // connections are made, and what is made once
			before := cpu()
			b.ResetTimer()
			run(b.N)
			b.StopTimer()
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "streams/s")
			if took := cpu() - before; took > 0 {
				b.ReportMetric(float64(took.Microseconds())/float64(b.N), "gate-µs/stream")
			}
		})
	}
}

// 2,000 streams at once through one gate to four servers: all come to their end. When a server dies in the middle of that, only those are
// lost that had begun there; those that had not, and all that come later, are answered by the others.
func TestStreamsThroughMachines(t *testing.T) {
	const streams = 2000
	hold := make(chan struct{})
	var servers []*httptest.Server
	var scripts []*standin.Server
	for range 4 {
		s, h := scriptedServer(t)
		s.Runner.Before = func(ctx context.Context, piece int) error {
			if piece == 2 {
				select {
				case <-hold:
				case <-ctx.Done():
				}
			}
			return nil
		}
		servers, scripts = append(servers, h), append(scripts, s)
	}
	g := gateBefore(t, servers...)
	client := wideClient(streams)
	open := func() (n int) {
		for _, s := range scripts {
			n += s.Open()
		}
		return n
	}
	begin := func(n int) (lost *atomic.Int64, ended *sync.WaitGroup) {
		lost, ended = &atomic.Int64{}, &sync.WaitGroup{}
		for range n {
			ended.Go(func() {
				if got, err := stream(t.Context(), client, g.BaseURL, g.Owner, "all", "When?"); err != nil || got != pieceCount {
					lost.Add(1)
				}
			})
		}
		return lost, ended
	}
	until := func(what string, is func() bool) {
		t.Helper()
		for deadline := time.Now().Add(60 * time.Second); !is(); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("not in a minute: %s; %d are open", what, open())
			}
		}
	}
	lost, ended := begin(streams)
	until("all are under way", func() bool { return open() == streams })
	for i, s := range scripts {
		if n := s.Open(); n < streams/8 { // a quarter each, but for those that began in the same moment
			t.Errorf("server %d has %d of %d streams", i, n, streams)
		}
	}
	close(hold)
	ended.Wait()
	if n := lost.Load(); n != 0 {
		t.Errorf("%d of %d streams were lost", n, streams)
	}

	hold = make(chan struct{})
	lost, ended = begin(400)
	until("400 are under way", func() bool { return open() == 400 })
	begun := int64(scripts[0].Open())
	servers[0].CloseClientConnections()
	_ = servers[0].Listener.Close() // so that nobody gets through any more
	later, laterEnded := begin(100)
	until("those of the others are under way", func() bool { return open() == 400-int(begun)+100 })
	close(hold)
	ended.Wait()
	laterEnded.Wait()
	if n := lost.Load(); n != begun || later.Load() != 0 {
		t.Errorf("%d streams were lost, where %d had begun on the server that died, and %d of those that came later", n, begun, later.Load())
	}
}
