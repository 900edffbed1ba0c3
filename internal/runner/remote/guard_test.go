package remote

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"syscall"
	"testing"
	"time"
)

// A link-local address works where it was written as one; a name never leads to one, nor to what listens on this machine.
func TestGuard(t *testing.T) {
	for _, c := range []struct {
		host, address string
		ok            bool
	}{
		{"attic.example", "192.0.2.7:80", true},
		{"attic.example", "169.254.10.2:80", false},
		{"attic.example", "[fe80::1%lo]:80", false},
		{"attic.example", "127.0.0.1:80", false},
		{"attic.example", "0.0.0.0:80", false},
		{"169.254.10.2", "169.254.10.2:8000", true},
		{"fe80::1%lo", "[fe80::1%lo]:8000", true},
		{"127.0.0.1", "127.0.0.1:80", true},
		{"127.0.0.1", "169.254.10.2:80", false},
		{"localhost", "[::1]:80", true},
		{"224.0.0.1", "224.0.0.1:80", false},
	} {
		if err := guard(c.host)("tcp", c.address, nil); (err == nil) != c.ok {
			t.Errorf("%s at %s: %v", c.host, c.address, err)
		}
	}
}

// What a server says of itself is bounded: how long the gate is to wait, and how much of an error is read.
func TestRefusalsAreBounded(t *testing.T) {
	m, err := New("attic", Settings{URL: "http://attic.example/v1"}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	for after, want := range map[string]time.Duration{"7": 7 * time.Second, "999999999": time.Hour, "-1": 0, "soon": 0, time.Now().Add(48 * time.Hour).UTC().Format(http.TimeFormat): time.Hour} {
		body := &counted{}
		refused := m.refusal(&http.Response{StatusCode: 503, Header: http.Header{"Retry-After": {after}}, Body: io.NopCloser(body)})
		var status *statusError
		if !errors.As(refused, &status) || status.after != want || len(status.message) > longSaid+3 {
			t.Errorf("Retry-After: %s is %s, want %s", after, status.after, want)
		}
		if body.n > 1<<20 {
			t.Errorf("%d bytes of an error were read", body.n)
		}
	}
}

// counted is a text of 16 MiB, which counts how much of it is read.
type counted struct{ n int }

func (c *counted) Read(p []byte) (int, error) {
	if c.n >= 16<<20 {
		return 0, io.EOF
	}
	for i := range p {
		p[i] = 'x'
	}
	c.n += len(p)
	return len(p), nil
}

// What would be the same again is not tried again.
func TestWhatIsWorthAnotherTry(t *testing.T) {
	for _, c := range []struct {
		name  string
		err   error
		again bool
	}{
		{"a certificate of another", &tls.CertificateVerificationError{Err: errors.New("of another")}, false},
		{"a redirection", &redirectError{&url.URL{}}, false},
		{"an address that must not be", &addressError{}, false},
		{"time that has run out", errFirst, false},
		{"a connection that was refused", syscall.ECONNREFUSED, true},
		{"a fault of the server", &statusError{status: 500}, true},
		{"a fault of the request", &statusError{status: 400}, false},
		{"a server that asks for an hour", &statusError{status: 429, after: time.Hour}, false},
	} {
		if _, again := worthAnother(c.err); again != c.again {
			t.Errorf("%s: another try: %v", c.name, again)
		}
	}
}

// A look that began earlier and took longer does not undo what a later one has seen.
func TestASlowLookUndoesNothing(t *testing.T) {
	slow := make(chan struct{})
	asked := 0
	var mu sync.Mutex
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		mu.Lock()
		asked++
		first := asked == 1
		mu.Unlock()
		name := "new"
		if first {
			<-slow
			name = "old"
		}
		fmt.Fprintf(w, `{"data":[{"id":%q}]}`, name)
	}))
	defer s.Close()
	m, err := New("attic", Settings{URL: s.URL + "/v1"}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- m.LookNow(t.Context()) }()
	for begun := 0; begun == 0; time.Sleep(time.Millisecond) {
		mu.Lock()
		begun = asked
		mu.Unlock()
	}
	if err := m.LookNow(t.Context()); err != nil {
		t.Fatal(err)
	}
	close(slow)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if list := m.Look().Models; len(list) != 1 || list[0].Name != "new" {
		t.Errorf("after the slow look the models are %+v", list)
	}
}
