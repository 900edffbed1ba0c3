package server

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/check"
	"kindredgate/internal/runner/scripted"
)

// What the gate takes of the machine now: with a model loaded, it is among them.
func TestNow(t *testing.T) {
	h := startNative(t)
	now := func() (n Now) {
		t.Helper()
		resp, body := h.do(t, "GET", "/gate/now", h.owner, "")
		if err := json.Unmarshal([]byte(body), &n); err != nil || resp.StatusCode != 200 {
			t.Fatal(resp.StatusCode, body)
		}
		return n
	}
	if n := now(); n.Processors < 1 || n.Memory <= 0 || n.Resident <= 0 || len(n.Models) != 0 {
		t.Errorf("before anything is asked: %+v", n)
	}
	h.do(t, "POST", "/v1/generate", h.key, `{"model":"harbour-4m","prompt":"When?","max_tokens":2}`)
	n := now()
	// The model is given back when the client has its answer, which may see it before.
	for end := time.Now().Add(10 * time.Second); (len(n.Models) == 0 || n.Models[0].Requests > 0 || n.Models[0].ContextKept == 0) && time.Now().Before(end); n = now() {
		time.Sleep(10 * time.Millisecond)
	}
	if len(n.Models) != 1 || n.Models[0].ID != "harbour-4m" || n.Models[0].Bytes <= 0 || n.Models[0].Requests != 0 || n.Models[0].ContextKept <= 0 || n.BusyMS <= 0 {
		t.Errorf("afterwards: %+v", n)
	}
	for _, path := range []string{"/gate/now", "/gate/check", "/gate/settings", "/gate/refusals", "/gate/jobs", "/gate/costs", "/gate/groups"} {
		if resp, body := h.do(t, "GET", path, h.key, ""); resp.StatusCode != 403 || !strings.Contains(body, "owner_key_needed") {
			t.Errorf("%s with an application's key: %d %s", path, resp.StatusCode, body)
		}
	}
	// A gate that was given neither a configuration nor what to look for says so with empty lists.
	for path, want := range map[string]string{"/gate/check": `{"findings":[]}`, "/gate/settings": `"settings":[]`} {
		if _, body := h.do(t, "GET", path, h.owner, ""); !strings.Contains(body, want) {
			t.Errorf("%s: %s", path, body)
		}
	}
}

// The pulse comes piece by piece, takes any valid key, and ends when the client leaves.
func TestPulse(t *testing.T) {
	h := start(t, &scripted.Runner{})
	ctx, leave := context.WithTimeout(t.Context(), time.Minute)
	defer leave()
	req, err := http.NewRequestWithContext(ctx, "GET", h.url+check.PulsePath, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+h.key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	beats := 0
	lines := bufio.NewScanner(resp.Body)
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), `data: {"beat":`) {
			beats++
		}
	}
	if beats != check.PulseCount || lines.Err() != nil || !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") || resp.Header.Get("X-Accel-Buffering") != "no" {
		t.Errorf("%d beats, %v, %v", beats, lines.Err(), resp.Header)
	}
	if resp, _ := h.do(t, "GET", check.PulsePath, "kg_x", ""); resp.StatusCode != 401 {
		t.Errorf("without a valid key: %d", resp.StatusCode)
	}
}
