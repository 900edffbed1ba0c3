package forward

import (
	"bufio"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/record"
)

func one(id string) record.Record {
	return record.Record{ID: id, Begun: time.Date(2031, 1, 2, 3, 4, 5, 6000, time.UTC), Label: "bot\n\x1b[31m", State: record.Done}
}

// What an address does not take at once is delivered later; what it refuses for good is given up, and counted; nothing is delivered twice.
func TestForwardingToAnAddress(t *testing.T) {
	got := make(chan string, 100)
	var calls atomic.Int32
	later := []int{http.StatusServiceUnavailable, http.StatusTooManyRequests, http.StatusRequestTimeout} // which a later try may be spared
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(r.Body)
		if err != nil || r.Header.Get("Authorization") != "Bearer x" || r.Header.Get("Content-Type") != "application/x-ndjson" {
			t.Errorf("%v %v", r.Header, err)
		}
		switch {
		case calls.Load() < int32(len(later)):
			w.WriteHeader(later[calls.Add(1)-1])
			return
		case strings.Contains(string(raw), `"bad"`):
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		for _, line := range strings.Split(strings.TrimSpace(string(raw)), "\n") {
			var e record.Record
			if err := json.Unmarshal([]byte(line), &e); err != nil {
				t.Error(err)
			}
			got <- e.ID
		}
	}))
	defer server.Close()
	f, err := New(Target{To: server.URL, Authorization: "Bearer x"}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	f.Add(one("first")) // by itself, and refused at first
	select {
	case id := <-got:
		if id != "first" {
			t.Errorf("delivered: %s", id)
		}
	case <-time.After(30 * time.Second):
		t.Fatal("what was refused for now is not delivered later")
	}
	f.Add(one("bad"))
	for end := time.Now().Add(20 * time.Second); f.Dropped() == 0 && time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
	}
	f.Add(one("last"))
	if err := f.Close(); err != nil {
		t.Error(err)
	}
	close(got)
	var rest []string
	for id := range got {
		rest = append(rest, id)
	}
	if strings.Join(rest, " ") != "last" || f.Dropped() != 1 {
		t.Errorf("then %q, and %d were dropped", rest, f.Dropped())
	}
}

// A target that never answers costs a bounded queue, and does not keep the gate from stopping.
func TestATargetThatIsNotThere(t *testing.T) {
	f, err := New(Target{To: "syslog+tcp://127.0.0.1:1"}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	for range mostWaiting + batch + 50 {
		f.Add(one("x"))
	}
	if n := f.Dropped(); n < 50 || n > batch+50 {
		t.Errorf("%d were dropped", n)
	}
	if err := f.Close(); err != nil {
		t.Error(err)
	}
}

// Syslog messages are whole, with their lengths over TCP and one in a packet over UDP, and have no line in a line.
func TestSyslog(t *testing.T) {
	form := regexp.MustCompile(`^<134>1 2031-01-02T03:04:05\.000006Z \S+ kindred-gate \d+ exchange - \{"id":"([a-z]+)",[^\n\x1b]*\}$`)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer packets.Close()
	for _, to := range []string{"syslog+tcp://" + l.Addr().String(), "syslog+udp://" + packets.LocalAddr().String()} {
		f, err := New(Target{To: to}, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		f.Add(one("first"))
		f.Add(one("second"))
		read := func() string {
			raw := make([]byte, 64<<10)
			n, _, err := packets.ReadFrom(raw)
			if err != nil {
				t.Fatal(err)
			}
			return string(raw[:n])
		}
		if strings.HasPrefix(to, "syslog+tcp") {
			conn, err := l.Accept()
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close()
			in := bufio.NewReader(conn)
			read = func() string {
				length, err := in.ReadString(' ')
				n, err2 := strconv.Atoi(strings.TrimSpace(length))
				raw := make([]byte, n)
				if _, err3 := io.ReadFull(in, raw); err != nil || err2 != nil || err3 != nil {
					t.Fatal(err, err2, err3)
				}
				return string(raw)
			}
		}
		for _, want := range []string{"first", "second"} {
			if m := read(); form.FindStringSubmatch(m) == nil || form.FindStringSubmatch(m)[1] != want {
				t.Errorf("%s: %q", to, m)
			}
		}
		if err := f.Close(); err != nil {
			t.Error(err)
		}
	}
}

func TestTargets(t *testing.T) {
	for _, to := range []string{"", "logs.example", "ftp://logs.example", "syslog+tcp://logs.example", "https://a:b@logs.example/", "https://"} {
		if _, err := ParseTarget(to); err == nil {
			t.Errorf("%q is taken", to)
		}
	}
}

// A target that takes a connection and says nothing, or sends on to somewhere else, is not waited for when the gate stops, nor followed.
func TestATargetThatHangs(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("it was followed to another address") }))
	defer elsewhere.Close()
	release := make(chan struct{})
	hangs := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/moved" {
			http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
			return
		}
		<-release
	}))
	defer hangs.Close()
	defer close(release)
	for _, path := range []string{"/moved", "/hangs"} {
		f, err := New(Target{To: hangs.URL + path}, slog.New(slog.DiscardHandler))
		if err != nil {
			t.Fatal(err)
		}
		f.Add(one("x"))
		if err := f.Close(); err != nil {
			t.Error(err)
		}
		if f.Dropped() != 1 {
			t.Errorf("%s: %d were dropped", path, f.Dropped())
		}
	}
}
