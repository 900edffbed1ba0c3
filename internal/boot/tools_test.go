package boot_test

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/server"
	"kindredgate/internal/tool"
)

// Tool servers follow the file while the gate runs: those that stay keep what is known of them, and one that cannot be used as it is set up is
// listed with the reason, and changes nothing of the others.
func TestToolsFollowTheFile(t *testing.T) {
	endpoint := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.Header.Get("Authorization")) }))
	t.Cleanup(endpoint.Close)
	folder := t.TempDir()
	file, key := filepath.Join(folder, "gate.yaml"), filepath.Join(folder, "desk.key")
	write := func(path, text string) {
		t.Helper()
		if err := os.WriteFile(path+".next", []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(path+".next", path); err != nil {
			t.Fatal(err)
		}
	}
	one := func(name, more string) string {
		return fmt.Sprintf("  %s: { web: { url: %q }, description: x%s }\n", name, endpoint.URL, more)
	}
	write(key, "first\n")
	write(file, "tools:\n"+one("ferry", "")+one("desk", ", key_file: "+key))
	read := reading(t, file)
	r, err := read()
	if err != nil {
		t.Fatal(err)
	}
	o := options
	o.Read, o.Log = read, slog.New(slog.DiscardHandler)
	h, owner := running(t, r.Config, o)
	ask := func(method, path, body string) string {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, strings.TrimSuffix(h.Server.BaseURL(), "/v1")+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+owner)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var got json.RawMessage
		if err := json.NewDecoder(resp.Body).Decode(&got); err != nil {
			t.Fatal(err)
		}
		return string(got)
	}
	try := func(name string) string {
		return ask("POST", "/gate/tools/try", fmt.Sprintf(`{"server":%q,"name":%q}`, name, name))
	}
	list := func() (names []string, states map[string]server.ToolServerInfo, calls map[string]int64) {
		var got server.ToolList
		if err := json.Unmarshal([]byte(ask("GET", "/gate/tools", "")), &got); err != nil {
			t.Fatal(err)
		}
		states, calls = map[string]server.ToolServerInfo{}, map[string]int64{}
		for _, s := range got.Servers {
			names, states[s.Name] = append(names, s.Name), s
		}
		for _, one := range got.Tools {
			calls[one.Server] = one.Calls
		}
		return names, states, calls
	}
	until := func(what string, done func() bool) {
		t.Helper()
		for end := time.Now().Add(20 * time.Second); !done(); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("it never came that %s: %s", what, ask("GET", "/gate/settings", ""))
			}
		}
	}
	if a, b := try("ferry"), try("desk"); !strings.Contains(a, `"output":""`) || !strings.Contains(b, `"output":"Bearer first"`) {
		t.Fatal(a, b)
	}
	write(key, "second\n")
	until("another key is used", func() bool { return strings.Contains(try("desk"), "Bearer second") })
	write(file, "tools:\n"+one("ferry", "")+one("pier", ""))
	until("there is a pier", func() bool { names, _, _ := list(); return slices.Equal(names, []string{"ferry", "pier"}) })
	if _, _, calls := list(); calls["ferry"] != 1 {
		t.Errorf("what stayed has %d calls", calls["ferry"])
	}
	if got := try("desk"); !strings.Contains(got, "no such tool server") {
		t.Error(got)
	}
	write(file, "tools:\n"+one("ferry", "")+one("pier", "")+one("desk", ", key_file: "+key+".missing"))
	until("the settings say what is wrong", func() bool { return strings.Contains(ask("GET", "/gate/settings", ""), "desk.key.missing") })
	if names, _, _ := list(); !slices.Equal(names, []string{"ferry", "pier"}) {
		t.Errorf("a file that cannot be used has changed the servers to %v", names)
	}
	write(key+".missing", "third\n") // the file is tried again when what it names appears
	until("the third key is used", func() bool { return strings.Contains(try("desk"), "Bearer third") })

	// A gate starts beside one that cannot be used, and says why.
	r.Config.Data, r.Config.Listen = t.TempDir(), "127.0.0.1:0"
	broken := r.Config.Tools["desk"]
	broken.KeyFile = key + ".gone"
	r.Config.Tools["desk"] = broken
	h, owner = running(t, r.Config, options)
	if _, states, _ := list(); states["desk"].State != tool.Down || !strings.Contains(states["desk"].Error, "desk.key.gone") || states["ferry"].State != tool.Running {
		t.Errorf("%+v", states)
	}
}
