package server

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/runner/scripted"
)

// begin sends the head of a request and a part of its body.
func (h *testServer) begin(t *testing.T, key, body string, length int) net.Conn {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(h.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	if err := conn.SetDeadline(time.Now().Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "POST /v1/chat/completions HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\n\r\n%s", key, length, body)
	return conn
}

func answered(t *testing.T, conn net.Conn) (int, string) {
	t.Helper()
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(raw)
}

// held waits until the gate holds so many bytes of bodies.
func (h *testServer) held(t *testing.T, so func(bytes int64) bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		h.server.intake.mu.Lock()
		n := h.server.intake.all
		h.server.intake.mu.Unlock()
		if so(n) {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("the gate holds %d bytes", n)
		}
	}
}

// A key that may have one request at once has one body read, and the others are refused before anything of them is.
func TestOneBodyForOnePlace(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	key, _ := h.issueWith(t, `{"label":"bot","limits":{"at_once":1}}`)
	first := h.begin(t, key, strings.Repeat(" ", 1<<20), 15<<20)
	h.held(t, func(n int64) bool { return n == 1<<20 })
	for range 20 {
		if status, body := answered(t, h.begin(t, key, "{", 15<<20)); status != 429 || !strings.Contains(body, "in progress at once") {
			t.Fatalf("%d %s", status, body)
		}
	}
	h.held(t, func(n int64) bool { return n == 1<<20 })
	first.Close()
	h.held(t, func(n int64) bool { return n == 0 })
	if resp, body := h.do(t, "POST", "/v1/chat/completions", key, chatBody(false, "")); resp.StatusCode != 200 {
		t.Errorf("after it has left: %d %s", resp.StatusCode, body)
	}
}

// The bytes of all bodies together have a bound, and those of one key, with the keys that it has issued, a lower one.
func TestBodiesTogether(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye}, func(o *Options) { o.Bodies = 3 * maxBody })
	issuer, _ := h.issueWith(t, `{"label":"backend","may_issue":true}`)
	soon := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	hold := func(key string, bytes int) {
		t.Helper()
		before := h.server.intake.all
		h.begin(t, key, strings.Repeat(" ", bytes), maxBody)
		h.held(t, func(n int64) bool { return n == before+int64(bytes) })
	}
	_, child := h.do(t, "POST", "/gate/key/issue", issuer, `{"label":"page","expires":"`+soon+`"}`)
	derived := child[strings.Index(child, `"key":"`)+7:]
	derived = derived[:strings.IndexByte(derived, '"')]
	hold(issuer, maxBody-100)
	hold(derived, maxBody-100)
	long := strings.Repeat(" ", 1000) + chatBody(false, "")
	for _, key := range []string{issuer, derived} {
		if resp, body := h.do(t, "POST", "/v1/chat/completions", key, long); resp.StatusCode != 429 || !strings.Contains(body, "too_many_bytes") || resp.Header.Get("Retry-After") == "" {
			t.Errorf("a key with its share: %d %s", resp.StatusCode, body)
		}
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", h.key, long); resp.StatusCode != 200 {
		t.Errorf("another key: %d %s", resp.StatusCode, body)
	}
	hold(h.key, maxBody-100)
	if resp, body := h.do(t, "POST", "/v1/chat/completions", h.owner, long); resp.StatusCode != 503 || !strings.Contains(body, "too_many_bytes") {
		t.Errorf("when all is held: %d %s", resp.StatusCode, body)
	}
	// What a body is unpacked to counts too.
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if _, err := z.Write(bytes.Repeat([]byte(" "), maxBody/2)); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", h.owner, packed.String(), "Content-Encoding", "gzip"); resp.StatusCode != 503 || !strings.Contains(body, "too_many_bytes") {
		t.Errorf("a packed body: %d %s", resp.StatusCode, body)
	}
}

// A body of which a byte comes now and then is given up, though it never stalls.
func TestASlowBody(t *testing.T) {
	const patience = 300 * time.Millisecond
	h := start(t, &scripted.Runner{Pieces: aye}, func(o *Options) { o.Patience = patience })
	conn := h.begin(t, h.key, "{", 1<<20)
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		for every := time.NewTicker(patience / 5); ; {
			select {
			case <-every.C:
				if _, err := conn.Write([]byte(" ")); err != nil {
					return
				}
			case <-stop:
				return
			}
		}
	}()
	if status, body := answered(t, conn); status != 400 || !strings.Contains(body, "comes too slowly") {
		t.Errorf("%d %s", status, body)
	}
}

// A stream ends when its key does, and when that comes to end earlier than it was to.
func TestAStreamEndsWithItsKey(t *testing.T) {
	began := make(chan struct{}, 2)
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return strings.Split(strings.Repeat("aye ", 100_000), " ") },
		Before: func(ctx context.Context, piece int) error {
			if piece == 0 {
				began <- struct{}{}
			}
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(time.Millisecond):
				return nil
			}
		}})
	// Through the keyring, since a key that is issued over HTTP ends in whole seconds.
	secret, _, err := h.server.Gate.Keys.Issue(t.Context(), keyring.Terms{Label: "short", Expires: time.Now().Add(2 * time.Second)})
	if err != nil {
		t.Fatal(err)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(true, "")); resp.StatusCode != 200 || !strings.Contains(body, "ended while it was used") {
		t.Errorf("%d %.300s", resp.StatusCode, body)
	}
	<-began
	secret, k, err := h.server.Gate.Keys.Issue(t.Context(), keyring.Terms{Label: "long", Expires: time.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan string, 1)
	go func() {
		_, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(true, ""))
		ended <- body
	}()
	<-began
	if _, err := h.server.Gate.ChangeKey(t.Context(), k.ID, func(t *keyring.Terms) error { t.Expires = time.Now().Add(100 * time.Millisecond); return nil }); err != nil {
		t.Fatal(err)
	}
	if body := <-ended; !strings.Contains(body, "ended while it was used") {
		t.Errorf("%.300s", body)
	}
}

// Nobody without a key learns which models there are, nor does a key that may not issue others.
func TestNamesOfModelsAreNotTold(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	for _, name := range []string{"harbour-4m", "harbour", "nothing"} {
		if resp, body := h.do(t, "GET", "/readyz?model="+name, "", ""); resp.StatusCode != 503 || !strings.Contains(body, "model_not_loaded") || strings.Contains(body, "installed") || strings.Contains(body, "embed") {
			t.Errorf("%s: %d %s", name, resp.StatusCode, body)
		}
	}
	soon := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	narrow, _ := h.issueWith(t, `{"label":"backend","may_issue":true,"models":["harbour-4m"]}`)
	for _, key := range []string{h.key, narrow} {
		resp, body := h.do(t, "POST", "/gate/key/issue", key, `{"label":"x","expires":"`+soon+`","models":["harbour-embe"]}`)
		if resp.StatusCode != 403 || strings.Contains(body, "harbour-embed") {
			t.Errorf("%d %s", resp.StatusCode, body)
		}
	}
}

// Who guesses the owner key where the console signs in is slowed down as everywhere else.
func TestGuessingAtTheConsoleIsSlow(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	h.server.failed.slowed = mostSlowed
	got := map[int]int{}
	for i := range freeAttempts + 10 {
		resp, _ := h.do(t, "POST", "/gate/session", "", fmt.Sprintf(`{"key":"kg_guess%d"}`, i))
		got[resp.StatusCode]++
	}
	if got[401] < freeAttempts || got[429] < 5 {
		t.Errorf("guesses are answered so: %v", got)
	}
	if resp, body := h.do(t, "POST", "/gate/session", "", `{"key":"`+h.owner+`"}`); resp.StatusCode != 204 {
		t.Errorf("the owner key: %d %s", resp.StatusCode, body)
	}
}

// Nothing is made of a body whose client has left.
func TestABodyForNobody(t *testing.T) {
	left := errors.New("the client left")
	ctx, leave := context.WithCancelCause(t.Context())
	c, _ := gin.CreateTestContext(httptest.NewRecorder())
	c.Request = httptest.NewRequestWithContext(ctx, http.MethodPost, "/v1/generate", strings.NewReader("{}"))
	c.Set(heldKey, &holding{intake: newIntake(0)})
	leave(left)
	if _, err := body(c); !strings.Contains(fmt.Sprint(err), left.Error()) {
		t.Errorf("%v", err)
	}
}
