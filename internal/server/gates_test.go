package server

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"kindredgate/internal/runner/scripted"
)

// relayedTo has a gate answer a request that came to another one, and gives what goes back.
func relayedTo(t testing.TB, s *Server, doc []byte) (head relayHead, body string, err error) {
	t.Helper()
	var out bytes.Buffer
	err = s.Relayed(context.Background(), doc, func(data []byte) error { out.Write(data); return nil })
	line, rest, _ := strings.Cut(out.String(), "\n")
	if out.Len() > 0 && json.Unmarshal([]byte(line), &head) != nil {
		t.Errorf("the head is %q", line)
	}
	return head, rest, err
}

// A request that came to another gate is answered as if it had come here: with its key, its address and its path; and what is not allowed is refused.
func TestRelayed(t *testing.T) {
	h := start(t, &scripted.Runner{})
	ask := func(r relayed) (int, string) {
		doc, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		head, body, err := relayedTo(t, h.server, doc)
		if err != nil {
			t.Error(err)
		}
		return head.Status, body
	}
	key := http.Header{"Authorization": {"Bearer " + h.owner}}
	if status, body := ask(relayed{Method: "GET", Path: "/gate/exchanges?limit=3", Header: key, Client: "192.0.2.7"}); status != 200 || !strings.Contains(body, `"exchanges"`) {
		t.Errorf("%d %s", status, body)
	}
	if status, body := ask(relayed{Method: "GET", Path: "/gate/exchanges", Client: "192.0.2.7"}); status != 401 {
		t.Errorf("without a key: %d %s", status, body)
	}
	if status, body := ask(relayed{Method: "POST", Path: "/v1/chat/completions", Header: http.Header{"Authorization": {"Bearer " + h.owner}, "Content-Type": {"application/json"}}, Body: []byte(`{"model":"harbour-4m","stream":true,"messages":[{"role":"user","content":"one two"}]}`)}); status != 200 || !strings.Contains(body, "[DONE]") {
		t.Errorf("a stream: %d %s", status, body)
	}
	if status, _ := ask(relayed{Method: "GET", Path: "/v1/responses/resp_none", Header: key}); status != 404 {
		t.Errorf("what there is not: %d", status)
	}
}

// FuzzRelayed answers any request that another gate may have passed on.
func FuzzRelayed(f *testing.F) {
	f.Add([]byte(`{"method":"GET","path":"/v1/models","header":{"Authorization":["Bearer kg_x"]},"client":"192.0.2.7"}`))
	f.Add([]byte(`{"method":"G T","path":"//","client":"::"}`))
	h := start(f, &scripted.Runner{})
	f.Fuzz(func(t *testing.T, doc []byte) {
		_, _, _ = relayedTo(t, h.server, doc)
	})
}
