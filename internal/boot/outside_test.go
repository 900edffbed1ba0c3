package boot_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
)

// Others are told of an exchange where the configuration says so, with what it says for them; what was said is told to nobody.
func TestOthersAreTold(t *testing.T) {
	var mu sync.Mutex
	told := map[string]string{}
	others := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(r.Body)
		if err != nil || r.Header.Get("Authorization") != "Bearer secret" {
			t.Errorf("%s: %v, %v", r.URL.Path, r.Header, err)
		}
		mu.Lock()
		defer mu.Unlock()
		told[r.URL.Path] += string(raw)
	}))
	defer others.Close()
	t.Setenv("OTHERS_TOKEN", "Bearer secret")
	cfg := settings(t, t.TempDir())
	cfg.Forward = []config.Forward{{To: others.URL + "/in", AuthorizationEnv: "OTHERS_TOKEN"}}
	cfg.Traces = config.Traces{To: others.URL, AuthorizationEnv: "OTHERS_TOKEN"}
	h, err := boot.Open(t.Context(), cfg, options)
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() { served <- h.Serve(ctx) }()
	owner, err := os.ReadFile(filepath.Join(cfg.Data, boot.OwnerFile))
	if err != nil {
		t.Fatal(err)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.Server.BaseURL()+"/generate", strings.NewReader(`{"model":"harbour-4m","prompt":"A secret question"}`))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(owner)))
	req.Header.Set("Traceparent", "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	id := resp.Header.Get("X-Request-Id")
	resp.Body.Close()
	stop()
	if err := <-served; err != nil {
		t.Error(err)
	}
	if err := h.Close(); err != nil {
		t.Error(err)
	}
	if in := told["/in"]; !strings.Contains(in, id) || !strings.Contains(in, `"trace":"0af7651916cd43dd8448eb211c80319c"`) || strings.Contains(in, "secret") {
		t.Errorf("the address is told %q", in)
	}
	if spans := told["/v1/traces"]; !strings.Contains(spans, id) || strings.Contains(spans, "secret") {
		t.Errorf("the collector is told %q", spans)
	}
	cfg.Forward[0].AuthorizationEnv = "NOT_SET"
	if _, err := boot.Open(t.Context(), cfg, options); err == nil || !strings.Contains(err.Error(), "NOT_SET, which is not set") {
		t.Errorf("a variable that is not set: %v", err)
	}
}
