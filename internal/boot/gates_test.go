package boot_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/exchange"
	"kindredgate/internal/fleet"
	"kindredgate/internal/fleet/fleettest"
	"kindredgate/internal/runner/scripted"
)

// member is one of several gates.
type member struct {
	app  *boot.App
	base string // without /v1
	key  string // its owner key
	cfg  config.Config
}

// sharing is the configuration of a gate that shares what it knows over servers.
func sharing(t *testing.T, c *fleettest.Cluster, name string) config.Config {
	t.Helper()
	cfg := settings(t, t.TempDir())
	cfg.Fleet = config.Fleet{NATS: c.URLs, Credentials: c.Credentials, Roots: c.Roots, Name: name}
	return cfg
}

// logged are options with a log, if KINDRED_TEST_LOG is set, for looking into what fails.
func logged(gate string) boot.Options {
	o := options
	if os.Getenv("KINDRED_TEST_LOG") != "" {
		o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil)).With("gate", gate)
	}
	return o
}

func shared(t *testing.T, cfg config.Config, runner *scripted.Runner) *member {
	t.Helper()
	o := logged(cfg.Fleet.Name)
	if runner != nil {
		o.Runner = runner
	}
	app, key := running(t, cfg, o)
	return &member{app, strings.TrimSuffix(app.Server.BaseURL(), "/v1"), key, cfg}
}

// together starts gates over three NATS servers, and waits until each sees the others.
func together(t *testing.T, runner *scripted.Runner, names ...string) (c *fleettest.Cluster, gates []*member) {
	t.Helper()
	c = fleettest.Start(t, 3)
	for _, name := range names {
		gates = append(gates, shared(t, sharing(t, c, name), runner))
	}
	for _, g := range gates {
		eventually(t, "the gates to see each other", func() bool {
			_, body, _ := call(t, "GET", g.base+"/gate/gates", g.key, "")
			return strings.Count(body, `"there":true`) == len(names)
		})
	}
	return c, gates
}

// serve has a gate serve until it is stopped.
func serve(t *testing.T, app *boot.App) (base string, served chan error, stop func()) {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	served = make(chan error, 1)
	go func() { served <- app.Serve(ctx) }()
	return strings.TrimSuffix(app.Server.BaseURL(), "/v1"), served, stop
}

// issued is a key for applications.
func issued(t *testing.T, g *member, terms string) (secret, id string) {
	t.Helper()
	status, body, _ := call(t, "POST", g.base+"/gate/keys", g.key, terms)
	var k struct{ ID, Key string }
	if err := json.Unmarshal([]byte(body), &k); status != 201 || err != nil {
		t.Fatalf("%d %s", status, body)
	}
	return k.Key, k.ID
}

func valid(t *testing.T, g *member, secret string) bool {
	status, _, _ := call(t, "GET", g.base+"/v1/models", secret, "")
	return status == 200
}

// What one gate is told, the others know: keys, groups, names, presets, sessions, machines. A revoked key is refused everywhere within a second.
func TestGatesShareWhatTheyKnow(t *testing.T) {
	_, gates := together(t, nil, "north", "south", "west")
	north, south, west := gates[0], gates[1], gates[2]
	if status, body, _ := call(t, "PUT", north.base+"/gate/groups", north.key, `{"name":"harbour","limits":{"tokens_per_day":5000}}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	eventually(t, "the group", func() bool {
		_, body, _ := call(t, "GET", south.base+"/gate/groups", south.key, "")
		return strings.Contains(body, `"harbour"`) && strings.Contains(body, "5000")
	})
	secret, id := issued(t, south, `{"label":"timetable bot","group":"harbour"}`)
	for _, g := range gates {
		eventually(t, "the key at "+g.cfg.Fleet.Name, func() bool { return valid(t, g, secret) })
		eventually(t, "the owner keys of all at "+g.cfg.Fleet.Name, func() bool {
			for _, other := range gates {
				if status, _, _ := call(t, "GET", g.base+"/gate/status", other.key, ""); status != 200 {
					return false
				}
			}
			return true
		})
	}
	if status, body, _ := call(t, "PUT", west.base+"/gate/names", west.key, `{"name":"helper","of":[{"to":"harbour-4m"}]}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	if status, body, _ := call(t, "POST", north.base+"/gate/presets", south.key, `{"name":"cheerful","model":"harbour-4m","instructions":"Be cheerful."}`); status != 201 {
		t.Fatalf("%d %s", status, body)
	}
	for _, g := range gates {
		eventually(t, "the name and the preset", func() bool { return offers(t, g.base, secret, "helper")() && offers(t, g.base, secret, "cheerful")() })
	}
	if status, body, _ := call(t, "DELETE", south.base+"/gate/names?name=helper", south.key, ""); status != 204 {
		t.Fatalf("%d %s", status, body)
	}
	eventually(t, "the name to be gone", func() bool { return !offers(t, west.base, secret, "helper")() })

	// A console that is signed in at one is so at all.
	req, err := http.NewRequestWithContext(t.Context(), "POST", north.base+"/gate/session", strings.NewReader(`{"key":"`+west.key+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if len(resp.Cookies()) != 1 {
		t.Fatalf("%d, cookies %v", resp.StatusCode, resp.Cookies())
	}
	eventually(t, "the session", func() bool {
		req, err := http.NewRequestWithContext(t.Context(), "GET", south.base+"/gate/status", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.AddCookie(resp.Cookies()[0])
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode == 200
	})

	// A machine that one gate has invited comes in, and is everyone's; a token works once, whichever gate is asked.
	cfg := settings(t, t.TempDir())
	var token string
	cfg.Join, token = invited(t, north.base, north.key, "attic")
	working(t, cfg, token, nil)
	for _, g := range gates {
		eventually(t, "the machine at "+g.cfg.Fleet.Name, offers(t, g.base, secret, "attic/harbour-4m"))
		if status, body, _ := call(t, "POST", g.base+"/v1/chat/completions", secret, `{"model":"attic/harbour-4m","messages":[{"role":"user","content":"When is the last boat to Osmer?"}],"temperature":0}`); status != 200 || !strings.Contains(body, "19:40") {
			t.Errorf("%d %s", status, body)
		}
	}
	o := options
	o.Token, o.NoPort = token, true
	again := settings(t, t.TempDir())
	again.Join = cfg.Join
	second, err := boot.Open(t.Context(), again, o)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := second.Enter(t.Context()); err == nil || !strings.Contains(err.Error(), "the token is not valid") {
		t.Errorf("a token works twice: %v", err)
	}
	if err := second.Close(); err != nil {
		t.Error(err)
	}
	if status, body, _ := call(t, "DELETE", west.base+"/gate/machines/attic", west.key, ""); status != 204 {
		t.Fatalf("%d %s", status, body)
	}
	for _, g := range gates {
		eventually(t, "the machine to be gone", func() bool { return !offers(t, g.base, secret, "attic/harbour-4m")() })
	}

	// Two that come with one token at the same time, to whichever gates: one comes in.
	for i := range 5 {
		j, text := invited(t, north.base, north.key, fmt.Sprint("loft-", i))
		token, err := fleet.ParseToken(text)
		if err != nil {
			t.Fatal(err)
		}
		servers, err := fleet.ParseAddresses(j.Gate)
		if err != nil {
			t.Fatal(err)
		}
		for _, g := range gates {
			eventually(t, "the invitation to be known", func() bool {
				_, body, _ := call(t, "GET", g.base+"/gate/gates", g.key, "")
				return !strings.Contains(body, `"pending":1`)
			})
		}
		var in atomic.Int64
		var both sync.WaitGroup
		for range 2 {
			both.Go(func() {
				if _, err := fleet.Join(t.Context(), servers, token, j.Fingerprint); err == nil {
					in.Add(1)
				}
			})
		}
		both.Wait()
		if n := in.Load(); n != 1 {
			t.Errorf("%d machines came in by one token", n)
		}
	}

	begun := time.Now()
	if status, body, _ := call(t, "DELETE", north.base+"/gate/keys/"+id, north.key, ""); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	for _, g := range gates {
		eventually(t, "the key to be refused", func() bool { return !valid(t, g, secret) })
	}
	t.Logf("a revoked key was refused everywhere after %s", time.Since(begun).Round(time.Millisecond))

	// Two gates of one name do not run side by side.
	if _, err := boot.Open(t.Context(), sharing(t, &fleettest.Cluster{URLs: north.cfg.Fleet.NATS, Credentials: north.cfg.Fleet.Credentials, Roots: north.cfg.Fleet.Roots}, "north"), options); err == nil || !strings.Contains(err.Error(), "another gate of this name") {
		t.Errorf("a second gate of the name: %v", err)
	}
}

// Limits hold for all gates together: of 300 requests a minute, each gate's share of what is asked is let through until there are 300, and no more.
func TestGatesShareLimits(t *testing.T) {
	_, gates := together(t, &scripted.Runner{}, "north", "south", "west")
	secret, _ := issued(t, gates[0], `{"label":"timetable bot","limits":{"requests_per_day":300}}`)
	for _, g := range gates {
		eventually(t, "the key", func() bool { return valid(t, g, secret) })
	}
	var answered, refused atomic.Int64
	var clients sync.WaitGroup
	for i := range 12 {
		clients.Go(func() {
			g := gates[i%3]
			for range 40 {
				switch status, body, _ := call(t, "POST", g.base+"/v1/chat/completions", secret, `{"model":"harbour-4m","messages":[{"role":"user","content":"x"}]}`); status {
				case 200:
					answered.Add(1)
				case 429:
					refused.Add(1)
				default:
					t.Errorf("%d %s", status, body)
				}
			}
		})
	}
	clients.Wait()
	if n := answered.Load(); n > 300 || n < 297 {
		t.Errorf("%d of 480 requests were let through, where 300 are allowed", n)
	}
	_, shown, _ := call(t, "GET", gates[1].base+"/gate/key", secret, "")
	if !strings.Contains(shown, `"limit":300,"remaining":`) || strings.Contains(shown, `"remaining":300`) {
		t.Errorf("how the limit stands: %s", shown)
	}
	// How many may be in progress at once holds for all together, too.
	one, _ := issued(t, gates[0], `{"label":"one by one","limits":{"at_once":1}}`)
	eventually(t, "the key", func() bool { return valid(t, gates[1], one) })
	_ = one
}

// A response in the background is answered though its gate stops: another one carries on. Any gate tells of it meanwhile, and cancels it.
func TestBackgroundResponsesOfSeveralGates(t *testing.T) {
	var slow atomic.Bool
	slow.Store(true)
	runner := &scripted.Runner{Pieces: func(*exchange.Request) []string { return strings.SplitAfter("The last boat leaves at 19:40.", " ") }, Before: func(ctx context.Context, i int) error {
		for i == 3 && slow.Load() {
			select {
			case <-time.After(5 * time.Millisecond):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	}}
	c := fleettest.Start(t, 3)
	cfg := sharing(t, c, "north")
	o := logged(cfg.Fleet.Name)
	o.Runner = runner
	north, err := boot.Open(t.Context(), cfg, o)
	if err != nil {
		t.Fatal(err)
	}
	northBase, served, stop := serve(t, north)
	owner, err := os.ReadFile(filepath.Join(cfg.Data, boot.OwnerFile))
	if err != nil {
		t.Fatal(err)
	}
	key := strings.TrimSpace(string(owner))
	south := shared(t, sharing(t, c, "south"), runner)
	eventually(t, "the gates to see each other", func() bool {
		_, body, _ := call(t, "GET", south.base+"/gate/gates", south.key, "")
		return strings.Count(body, `"there":true`) == 2
	})
	eventually(t, "the owner key of north at south", func() bool { status, _, _ := call(t, "GET", south.base+"/gate/status", key, ""); return status == 200 })
	begin := func() string {
		var r struct{ ID string }
		status, body, _ := call(t, "POST", northBase+"/v1/responses", key, `{"model":"harbour-4m","input":"When?","background":true}`)
		if err := json.Unmarshal([]byte(body), &r); status != 200 || err != nil {
			t.Fatalf("%d %s", status, body)
		}
		return r.ID
	}
	id := begin()
	get := func(id string) string {
		_, body, _ := call(t, "GET", south.base+"/v1/responses/"+id, key, "")
		return body
	}
	eventually(t, "the other gate to tell of it", func() bool { return strings.Contains(get(id), `"in_progress"`) })
	// Followed through the other gate, it comes as it is written.
	req, err := http.NewRequestWithContext(t.Context(), "GET", south.base+"/v1/responses/"+id+"?stream=true", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+key)
	stream, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	first := make([]byte, 4096)
	if n, err := stream.Body.Read(first); err != nil || !strings.Contains(string(first[:n]), "response.created") {
		t.Errorf("%s %v", first[:n], err)
	}
	cancelled := begin()
	eventually(t, "the second", func() bool { return strings.Contains(get(cancelled), `"in_progress"`) })
	if status, body, _ := call(t, "POST", south.base+"/v1/responses/"+cancelled+"/cancel", key, "{}"); status != 200 || !strings.Contains(body, `"cancelled"`) {
		t.Errorf("%d %s", status, body)
	}

	stop()
	if err := <-served; err != nil {
		t.Error(err)
	}
	if err := north.Close(); err != nil {
		t.Error(err)
	}
	_, _ = io.Copy(io.Discard, stream.Body) // which ends with its gate
	slow.Store(false)
	eventually(t, "the other gate to carry on", func() bool {
		body := get(id)
		return strings.Contains(body, `"status":"completed"`) && strings.Contains(body, "The last boat leaves at 19:40.")
	})
	// Who had followed it at the other gate goes on here, from where that was.
	_, events, _ := call(t, "GET", south.base+"/v1/responses/"+id+"?stream=true&starting_after=2", key, "")
	if strings.Contains(events, "response.created") || !strings.Contains(events, "response.completed") {
		t.Errorf("followed from event 2 on: %s", events)
	}
	eventually(t, "the ledger of the gate that is gone", func() bool {
		_, body, _ := call(t, "GET", south.base+"/gate/exchanges/everywhere?limit=50", south.key, "")
		return strings.Contains(body, `"gate":"north"`) && strings.Contains(body, `"gate":"south"`)
	})
}

// Gates that start without the NATS servers, or lose them, answer as each one can: with what they know, and each with its share of limits. When the
// servers are there again, what was changed meanwhile is merged.
func TestGatesApart(t *testing.T) {
	c := fleettest.Start(t, 3)
	stop := func() {
		for i := range 3 {
			c.Stop(i)
		}
	}
	run := func() {
		for i := range 3 {
			c.Run(t, i)
		}
	}
	stop()
	north := shared(t, sharing(t, c, "north"), &scripted.Runner{})
	secret, id := issued(t, north, `{"label":"timetable bot","limits":{"requests_per_day":20}}`)
	ask := func(g *member) int {
		status, _, _ := call(t, "POST", g.base+"/v1/chat/completions", secret, `{"model":"harbour-4m","messages":[{"role":"user","content":"x"}]}`)
		return status
	}
	if status := ask(north); status != 200 {
		t.Fatalf("a gate that is alone answers %d", status)
	}
	if status, body, _ := call(t, "POST", north.base+"/v1/responses", north.key, `{"model":"harbour-4m","input":"one two","background":true}`); status != 200 {
		t.Errorf("a response in the background of a gate that is alone: %d %s", status, body)
	}
	run()
	south := shared(t, sharing(t, c, "south"), &scripted.Runner{})
	eventually(t, "the key that was issued alone", func() bool { return valid(t, south, secret) })
	name := func(g *member, to string) {
		t.Helper()
		if status, body, _ := call(t, "PUT", g.base+"/gate/names", g.key, `{"name":"helper","of":[{"to":"`+to+`"}]}`); status != 200 {
			t.Fatalf("%d %s", status, body)
		}
	}
	name(north, "harbour-4m")
	eventually(t, "the name", offers(t, south.base, secret, "helper"))
	eventually(t, "both gates to be in touch", func() bool {
		_, body, _ := call(t, "GET", north.base+"/gate/gates", north.key, "")
		return strings.Count(body, `"there":true`) == 2
	})
	stop()
	eventually(t, "the line to be seen as cut", func() bool {
		_, body, _ := call(t, "GET", north.base+"/gate/gates", north.key, "")
		return strings.Contains(body, `"there":false`)
	})
	used := 1
	for _, g := range []*member{north, south} {
		n := 0
		for range 30 {
			if ask(g) == 200 {
				n++
			}
		}
		if used += n; n > 10 || n < 8 {
			t.Errorf("apart, a gate of two lets %d requests of 20 a day through", n)
		}
	}
	if used > 20 {
		t.Errorf("%d of 20 were let through in all", used)
	}
	// At north a key is revoked; at south the same key is changed later, and the name.
	if status, body, _ := call(t, "DELETE", north.base+"/gate/keys/"+id, north.key, ""); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	if status, body, _ := call(t, "PATCH", south.base+"/gate/keys/"+id, south.key, `{"label":"timetable bot 2"}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	name(south, "harbour-embed")
	run()
	for _, g := range []*member{north, south} {
		eventually(t, "what was changed apart at "+g.cfg.Fleet.Name, func() bool {
			_, keys, _ := call(t, "GET", g.base+"/gate/keys/"+id, g.key, "")
			_, names, _ := call(t, "GET", g.base+"/gate/names", g.key, "")
			return !valid(t, g, secret) && strings.Contains(keys, "timetable bot 2") && strings.Contains(names, "harbour-embed")
		})
	}
}

// While the disk of the servers is full, a gate goes on by itself: keys are issued and revoked, responses in the background are its own. What it has to
// tell it tells when there is room.
func TestAFullDiskOfTheServers(t *testing.T) {
	c := fleettest.Start(t, 1)
	north, south := shared(t, sharing(t, c, "north"), &scripted.Runner{}), shared(t, sharing(t, c, "south"), &scripted.Runner{})
	first, _ := issued(t, north, `{"label":"first"}`)
	eventually(t, "the gates to share keys", func() bool { return valid(t, south, first) })
	free := c.Fill(t)
	secret, _ := issued(t, north, `{"label":"second"}`)
	status, body, _ := call(t, "POST", north.base+"/v1/responses", secret, `{"model":"harbour-4m","input":"one two","background":true}`)
	var r struct{ ID string }
	if err := json.Unmarshal([]byte(body), &r); status != 200 || err != nil {
		t.Fatalf("%d %s", status, body)
	}
	eventually(t, "the response", func() bool {
		_, body, _ := call(t, "GET", north.base+"/v1/responses/"+r.ID, secret, "")
		return strings.Contains(body, `"completed"`)
	})
	eventually(t, "the gate to say that something is to be told", func() bool {
		_, body, _ := call(t, "GET", north.base+"/gate/gates", north.key, "")
		return strings.Contains(body, `"pending":1`)
	})
	if valid(t, south, secret) {
		t.Error("the other gate knows the key, so the disk was not full")
	}
	free()
	eventually(t, "the other gate to know the key", func() bool { return valid(t, south, secret) })
}
