package boot_test

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/boot"
	"kindredgate/internal/check"
	"kindredgate/internal/server"
)

// A gate finds out about itself what it can: a key file that others can read, a certificate that ends soon, what clients met.
func TestAGateLooksAtItself(t *testing.T) {
	folder := t.TempDir()
	cfg := settings(t, filepath.Join(folder, "data"))
	cfg.Network.Listen = []string{"127.0.0.1:0"}
	cfg.Network.Certificate, cfg.Network.Key = filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	certify(t, "ours", cfg.Network.Certificate, cfg.Network.Key, time.Now().Add(48*time.Hour))
	h, owner := running(t, cfg, options)
	call := func(method, path, key, body string) *http.Response {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, strings.TrimSuffix(h.Server.BaseURL(), "/v1")+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+key)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	look := func() map[string]check.Finding {
		t.Helper()
		var list server.CheckList
		if err := json.NewDecoder(call("GET", "/gate/check", owner, "").Body).Decode(&list); err != nil {
			t.Fatal(err)
		}
		found := map[string]check.Finding{}
		for _, f := range list.Findings {
			found[f.Name] = f
		}
		return found
	}
	found := look()
	if len(found) < 18 {
		t.Errorf("only %d matters are looked at", len(found))
	}
	for name, f := range found {
		if want := map[string]check.State{"certificate": check.Warning, "keys": check.Warning}[name]; f.State != check.OK && f.State != want {
			t.Errorf("at first: %+v", f)
		}
	}
	if err := os.Chmod(filepath.Join(cfg.Data, boot.OwnerFile), 0o644); err != nil {
		t.Fatal(err)
	}
	call("POST", "/v1/chat/completions", "kg_mistyped", `{}`)
	call("POST", "/v1/v1/chat/completions", owner, `{}`)
	call("POST", "/v1/chat/completions", owner, `{"model":"nothing","messages":[{"role":"user","content":"x"}]}`)
	call("POST", "/v1/chat/completions", owner, `{"model":"harbour-4m","messages":[{"role":"user","content":"`+strings.Repeat("boat ", 5000)+`"}]}`)
	found = look()
	for name, want := range map[string]struct {
		state check.State
		said  string
	}{
		"certificate": {check.Warning, "it expires on"}, "permissions": {check.Error, boot.OwnerFile + " (-rw-r--r--)"}, "wrong keys": {check.Warning, "from 127.0.0.1"}, "paths": {check.Warning, "/v1/v1/chat/completions"},
		"asked names": {check.Warning, `"nothing" once`}, "context": {check.Warning, `"harbour-4m" once`}, "keys": {check.Warning, "no application has a key"}, "disk of the data": {check.OK, "are free"},
	} {
		if f := found[name]; f.State != want.state || !strings.Contains(f.Said, want.said) {
			t.Errorf("%s: %+v; wanted %s with %q", name, f, want.state, want.said)
		}
	}
}
