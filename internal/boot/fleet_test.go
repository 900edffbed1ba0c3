package boot_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/placement"
	"kindredgate/internal/runner/scripted"
)

// taking starts a gate that machines can join, with no models of its own.
func taking(t *testing.T) (h *boot.App, base, key string) {
	t.Helper()
	cfg := config.Default()
	folder := t.TempDir()
	cfg.Listen, cfg.Data, cfg.Models.Folders = "127.0.0.1:0", filepath.Join(folder, "data"), []string{folder}
	cfg.Fleet.Listen = "127.0.0.1:0"
	h, key = running(t, cfg, options)
	return h, strings.TrimSuffix(h.Server.BaseURL(), "/v1"), key
}

// invited is a gate's invitation, as a machine's configuration and token.
func invited(t *testing.T, base, key, name string) (j config.Join, token string) {
	t.Helper()
	status, body, _ := call(t, "POST", base+"/gate/machines", key, `{"name":"`+name+`","valid":"1m"}`)
	var i struct{ Address, Token, Fingerprint string }
	if err := json.Unmarshal([]byte(body), &i); status != 201 || err != nil {
		t.Fatalf("%d %s", status, body)
	}
	return config.Join{Gate: i.Address, Fingerprint: i.Fingerprint}, i.Token
}

// working starts a machine that has joined, without a port.
func working(t *testing.T, cfg config.Config, token string, runner *scripted.Runner) (stop func()) {
	t.Helper()
	o := options
	o.Token, o.NoPort = token, true
	if runner != nil {
		o.Runner = runner
	}
	m, err := boot.Open(t.Context(), cfg, o)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.Enter(t.Context()); err != nil {
		t.Fatal(errors.Join(err, m.Close()))
	}
	ctx, cancel := context.WithCancel(context.Background())
	served := make(chan error, 1)
	go func() { served <- m.Serve(ctx) }()
	stop = sync.OnceFunc(func() {
		cancel()
		if err := errors.Join(<-served, m.Close()); err != nil {
			t.Error(err)
		}
	})
	t.Cleanup(stop)
	return stop
}

// eventually waits until something holds.
func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !holds(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

func offers(t *testing.T, base, key, model string) func() bool {
	return func() bool {
		_, list, _ := call(t, "GET", base+"/v1/models", key, "")
		return strings.Contains(list, `"`+model+`"`)
	}
}

// A machine that has joined answers as it does itself, under its name and under the model's own; both ledgers know of it. Revoked, it answers
// nothing, and does not come in again.
func TestAJoinedMachine(t *testing.T) {
	_, base, key := taking(t)
	cfg := settings(t, t.TempDir())
	var token string
	cfg.Join, token = invited(t, base, key, "attic")
	cfg.Join.AtOnce = 50
	o := options
	o.Token = token
	inner, innerKey := running(t, cfg, o) // which serves applications too
	eventually(t, "the machine", offers(t, base, key, "attic/harbour-4m"))
	sameAnswers(t, base+"/v1", inner.Server.BaseURL(), key, innerKey)

	body := `{"model":"harbour-4m","messages":[{"role":"user","content":"When is the last boat to Osmer?"}],"temperature":0}`
	status, answer, header := call(t, "POST", base+"/v1/chat/completions", key, body)
	if status != 200 || !strings.Contains(answer, "19:40") || header.Get("Kindred-Answered-By") != "attic/harbour-4m" {
		t.Errorf("by the model's own name: %d %s %v", status, answer, header)
	}
	if !offers(t, base, key, "harbour-4m")() {
		t.Error("the model's own name is not listed")
	}
	_, traffic, _ := call(t, "GET", strings.TrimSuffix(inner.Server.BaseURL(), "/v1")+"/gate/exchanges", innerKey, "")
	if !strings.Contains(traffic, `"label":"joined gate"`) || strings.Contains(traffic, "Osmer") {
		t.Errorf("the machine's ledger: %.500s", traffic)
	}
	_, shown, _ := call(t, "GET", base+"/gate/machines", key, "")
	for _, want := range []string{`"kind":"joined"`, `"name":"attic"`, `"at_once":50`, `"healthy":true`} {
		if !strings.Contains(shown, want) {
			t.Errorf("no %s in %s", want, shown)
		}
	}
	eventually(t, "the machine to say that the model is loaded, and how fast it is", func() bool {
		_, shown, _ = call(t, "GET", base+"/gate/machines", key, "")
		return strings.Contains(shown, `"loaded":true`) && !strings.Contains(shown, `"harbour-4m","loaded":true,"requests":0,"prompt_tokens_per_second":0,"output_tokens_per_second":0`)
	})
	for _, c := range []struct{ method, path, body, want string }{
		{"POST", "/gate/machines", `{"name":"attic"}`, "has joined already"},
		{"POST", "/gate/machines", `{"name":"At tic"}`, "small letters"},
		{"POST", "/gate/machines", `{"name":"cellar","valid":"never"}`, "must be a time"},
		{"POST", "/gate/machines", `{"name":"cellar","valid":"48h"}`, "1s to 24h"},
		{"POST", "/gate/machines", `{"name":"cellar","color":"red"}`, "no field"},
		{"DELETE", "/gate/machines/cellar", "", "no machine"},
	} {
		if status, got, _ := call(t, c.method, base+c.path, key, c.body); status < 400 || status > 499 || !strings.Contains(got, c.want) {
			t.Errorf("%s %s: %d %s", c.method, c.body, status, got)
		}
	}
	if status, got, _ := call(t, "DELETE", base+"/gate/machines/attic", key, ""); status != 204 {
		t.Errorf("%d %s", status, got)
	}
	if status, got, _ := call(t, "POST", base+"/v1/chat/completions", key, body); status != 404 {
		t.Errorf("a revoked machine is asked: %d %s", status, got)
	}
}

// A model moves from one machine to another without an application noticing: it asks for it by its own name, and is answered all along.
func TestAModelMoves(t *testing.T) {
	_, base, key := taking(t)
	machine := func(name string) (stop func()) {
		cfg := settings(t, t.TempDir())
		var token string
		cfg.Join, token = invited(t, base, key, name)
		cfg.Join.Models = []string{"harbour-4m"}
		return working(t, cfg, token, &scripted.Runner{Before: func(ctx context.Context, _ int) error {
			select {
			case <-time.After(2 * time.Millisecond):
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}})
	}
	stopAttic := machine("attic")
	eventually(t, "the first", offers(t, base, key, "attic/harbour-4m"))
	if offers(t, base, key, "attic/harbour-embed")() {
		t.Error("a model is offered that its operator keeps")
	}
	ctx, cancel := context.WithCancel(t.Context())
	var answered, cut atomic.Int64
	var clients sync.WaitGroup
	for i := range 4 {
		clients.Go(func() {
			for n := 0; ctx.Err() == nil; n++ {
				said := fmt.Sprintf("client %d asks for the %dth time when the boat leaves", i, n)
				status, body, _ := call(t, "POST", base+"/v1/chat/completions", key, `{"model":"harbour-4m","messages":[{"role":"user","content":"`+said+`"}]}`)
				switch {
				case status == 200 && strings.Contains(body, said):
					answered.Add(1)
				case strings.Contains(body, "cannot be asked"): // it had begun there
					cut.Add(1)
				default:
					t.Errorf("%d %s", status, body)
				}
			}
		})
	}
	machine("cellar")
	eventually(t, "the second", offers(t, base, key, "cellar/harbour-4m"))
	before := answered.Load()
	eventually(t, "answers of both", func() bool { return answered.Load() > before+200 })
	stopAttic()
	before = answered.Load()
	eventually(t, "answers of the second", func() bool { return answered.Load() > before+50 })
	cancel()
	clients.Wait()
	if n := cut.Load(); n > 4 {
		t.Errorf("%d answers were cut, of which at most 4 can have been in progress", n)
	}
	var list struct {
		Exchanges []struct {
			ID, Machine string
			Placed      []placement.Estimate
		}
	}
	_, raw, _ := call(t, "GET", base+"/gate/exchanges?limit=1000", key, "")
	if err := json.Unmarshal([]byte(raw), &list); err != nil {
		t.Fatal(err)
	}
	by := map[string]int{}
	both := 0
	for _, e := range list.Exchanges {
		by[e.Machine]++
		if len(e.Placed) == 2 {
			both++
		}
	}
	if by["attic"] == 0 || by["cellar"] == 0 || both == 0 {
		t.Errorf("by machine %v, chosen of two %d times", by, both)
	}
}

// A machine gives no more answers at once than its operator lets it, takes no work out of its hours or with its key revoked, and says why.
func TestWhatAMachineLets(t *testing.T) {
	_, base, key := taking(t)
	release := make(chan struct{})
	cfg := settings(t, t.TempDir())
	var token string
	cfg.Join, token = invited(t, base, key, "attic")
	cfg.Join.AtOnce = 1
	o := options
	o.Token, o.Runner = token, &scripted.Runner{Before: func(ctx context.Context, piece int) error {
		if piece == 0 {
			return nil
		}
		select {
		case <-release:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}}
	inner, innerKey := running(t, cfg, o)
	eventually(t, "the machine", offers(t, base, key, "attic/harbour-4m"))
	ask := `{"model":"attic/harbour-4m","stream":true,"messages":[{"role":"user","content":"one two"}]}`
	req, err := http.NewRequestWithContext(t.Context(), "POST", base+"/v1/chat/completions", strings.NewReader(ask))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+key)
	first, err := http.DefaultClient.Do(req) // returns with the first token
	if err != nil || first.StatusCode != 200 {
		t.Fatal(first, err)
	}
	if status, body, _ := call(t, "POST", base+"/v1/chat/completions", key, ask); status != 503 || !strings.Contains(body, "as many answers at once as its operator lets it (1)") {
		t.Errorf("%d %s", status, body)
	}
	close(release)
	first.Body.Close()
	managed := strings.TrimSuffix(inner.Server.BaseURL(), "/v1")
	if status, body, _ := call(t, "DELETE", managed+"/gate/keys/joined%20gate", innerKey, ""); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	eventually(t, "the machine to take no more", func() bool {
		status, body, _ := call(t, "POST", base+"/v1/chat/completions", key, ask)
		return status == 503 && strings.Contains(body, "revoked")
	})
}

// A gate that has no fleet in its configuration runs nothing for one: no goroutine of it, no port beside its own.
func TestWithoutAFleet(t *testing.T) {
	app, _ := running(t, settings(t, t.TempDir()), options)
	stacks := func() string {
		buf := make([]byte, 4<<20)
		return string(buf[:runtime.Stack(buf, true)])
	}
	// What tests before have started may still be ending.
	eventually(t, "no goroutine of a fleet", func() bool {
		all := stacks()
		return !strings.Contains(all, "nats-io") && !strings.Contains(all, "internal/fleet.") && strings.Contains(all, "boot.(*App).Serve")
	})
	if len(app.Listeners) != 0 {
		t.Errorf("%d listeners", len(app.Listeners))
	}
}
