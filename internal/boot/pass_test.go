package boot_test

import (
	"bytes"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"kindredgate/internal/config"
)

// Endpoints that only a machine has are passed on as they are, with keys, limits and the ledger, and only where that is wanted.
func TestPassedOn(t *testing.T) {
	var got string
	fail := false
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/v1/models":
			_, _ = io.WriteString(w, `{"object":"list","data":[{"id":"painter"}]}`)
		case fail:
			w.WriteHeader(http.StatusServiceUnavailable)
		case strings.HasPrefix(r.Header.Get("Content-Type"), "multipart/form-data"):
			if err := r.ParseMultipartForm(1 << 20); err != nil {
				t.Error(err)
			}
			f, _, err := r.FormFile("file")
			if err != nil {
				t.Error(err)
				return
			}
			raw, _ := io.ReadAll(f)
			got = r.URL.Path + " " + r.FormValue("model") + " " + string(raw)
			_, _ = io.WriteString(w, "the text that was heard")
		default:
			raw, _ := io.ReadAll(r.Body)
			got = r.URL.Path + " " + string(raw)
			w.Header().Set("Content-Type", "image/png")
			w.Header().Set("Set-Cookie", "a=b")
			_, _ = w.Write([]byte("\x89PNG"))
		}
	}))
	defer h.Close()
	cfg := settings(t, t.TempDir())
	cfg.Runners = map[string]config.Runner{"studio": {URL: h.URL + "/v1", Pass: []string{"images", "audio"}, Tries: 1}}
	r := &routed{t: t}
	r.app, r.key = running(t, cfg, options)
	r.gate("POST", "/gate/machines/studio/look", "{}", 200)
	base := r.app.Server.BaseURL()
	status, body, header := call(t, "POST", base+"/images/generations", r.key, `{"model":"studio/painter","prompt":"a boat"}`)
	if status != 200 || body != "\x89PNG" || header.Get("Content-Type") != "image/png" || header.Get("Set-Cookie") != "" || got != `/v1/images/generations {"model":"painter","prompt":"a boat"}` {
		t.Errorf("%d %q %v: %s", status, body, header, got)
	}
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	_ = w.WriteField("model", "studio/painter")
	file, _ := w.CreateFormFile("file", "horn.wav")
	_, _ = file.Write([]byte("toot"))
	_ = w.Close()
	req, err := http.NewRequestWithContext(t.Context(), "POST", base+"/audio/transcriptions", &form)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+r.key)
	req.Header.Set("Content-Type", w.FormDataContentType())
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	raw, _ := io.ReadAll(resp.Body)
	resp.Body.Close()
	if resp.StatusCode != 200 || string(raw) != "the text that was heard" || got != "/v1/audio/transcriptions painter toot" {
		t.Errorf("%d %s: %s", resp.StatusCode, raw, got)
	}
	for _, c := range []struct {
		path, body string
		status     int
		want       string
	}{
		{"/moderations", `{"input":"x"}`, 404, "no machine is set up"},
		{"/moderations", `{"model":"studio/painter","input":"x"}`, 404, "no machine is set up"},
		{"/images/generations", `{"model":"harbour-4m"}`, 404, "no machine is set up"},
		{"/images/generations", `{"model":"studio/sculptor"}`, 404, "has no model"},
		{"/images/generations", `{"model":`, 400, "is not JSON"},
		{"/images/..", `{}`, 404, "nothing at"},
	} {
		if status, body, _ := call(t, "POST", base+c.path, r.key, c.body); status != c.status || !strings.Contains(body, c.want) {
			t.Errorf("%s %s: %d %s", c.path, c.body, status, body)
		}
	}
	fail = true
	if status, body, _ := call(t, "POST", base+"/images/generations", r.key, `{"prompt":"the only machine that gets it"}`); status != 503 || !strings.Contains(body, "runner_unavailable") {
		t.Errorf("%d %s", status, body)
	}
	if list := r.gate("GET", "/gate/exchanges", "", 200); strings.Count(list, `"style":"images"`) < 3 || !strings.Contains(list, `"answered":"studio/painter"`) {
		t.Error(list)
	}
	// Keys are held to what they may ask, here as elsewhere.
	var issued struct{ Key string }
	decode(t, r.gate("POST", "/gate/keys", `{"label":"chats only","endpoints":["chat"]}`, 201), &issued)
	if status, body, _ := call(t, "POST", base+"/images/generations", issued.Key, `{"model":"studio/painter"}`); status != 403 {
		t.Errorf("%d %s", status, body)
	}
	decode(t, r.gate("POST", "/gate/keys", `{"label":"paints once","endpoints":["images"],"limits":{"requests_per_minute":1}}`, 201), &issued)
	fail = false
	for i, want := range []int{200, 429} {
		if status, body, _ := call(t, "POST", base+"/images/generations", issued.Key, `{"model":"studio/painter"}`); status != want {
			t.Errorf("request %d: %d %s", i, status, fmt.Sprintf("%.200s", body))
		}
	}
}
