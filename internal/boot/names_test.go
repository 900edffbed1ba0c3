package boot_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/standin"
)

// routed is a gate with machines from a script.
type routed struct {
	t        *testing.T
	app      *boot.App
	key      string
	machines map[string]*standin.Server
	servers  map[string]*httptest.Server
}

func route(t *testing.T, machines ...string) *routed {
	t.Helper()
	r := &routed{t: t, machines: map[string]*standin.Server{}, servers: map[string]*httptest.Server{}}
	cfg := settings(t, t.TempDir())
	cfg.Runners = map[string]config.Runner{}
	cfg.Record = config.Record{Content: true, Days: 1, Space: 1 << 24}
	cfg.Prices = config.Prices{Models: map[string]config.Price{"*": {Prompt: 1e6, Answer: 1e6}}}
	for _, name := range machines {
		s := standin.New()
		s.Runner.Pieces = func(*exchange.Request) []string { return scripted.Words("here is the " + name) }
		h := httptest.NewServer(s)
		t.Cleanup(h.Close)
		r.machines[name], r.servers[name] = s, h
		cfg.Runners[name] = config.Runner{URL: h.URL + "/v1", Tries: 1, Rest: 200 * time.Millisecond}
	}
	r.app, r.key = running(t, cfg, options)
	for _, name := range machines {
		r.gate("POST", "/gate/machines/"+name+"/look", "{}", 200)
	}
	return r
}

// gate asks the gate to manage something.
func (r *routed) gate(method, path, body string, want int) string {
	r.t.Helper()
	status, got, _ := call(r.t, method, strings.TrimSuffix(r.app.Server.BaseURL(), "/v1")+path, r.key, body)
	if status != want {
		r.t.Fatalf("%s %s %s: %d %s", method, path, body, status, got)
	}
	return got
}

func (r *routed) name(body string) { r.t.Helper(); r.gate("PUT", "/gate/names", body, 200) }

// ask asks a name and says which machine answered, and which were passed over.
func (r *routed) ask(name, extra string) (by, passed, body string) {
	r.t.Helper()
	status, body, header := call(r.t, "POST", r.app.Server.BaseURL()+"/chat/completions", r.key, `{"model":"`+name+`","messages":[{"role":"user","content":"Where?"}]`+extra+`}`)
	if status != 200 {
		return fmt.Sprint(status), "", body
	}
	machine, _, _ := strings.Cut(header.Get("Kindred-Answered-By"), "/")
	if !strings.Contains(body, "here is the "+machine) {
		r.t.Errorf("%s says that it answered: %s", machine, body)
	}
	return machine, strings.Join(header.Values("Kindred-Passed-Over"), ", "), body
}

func TestFallback(t *testing.T) {
	r := route(t, "attic", "cellar")
	r.name(`{"name":"helper","of":[{"to":"attic/harbour-4m"},{"to":"cellar/harbour-4m"}]}`)
	if by, passed, _ := r.ask("helper", ""); by != "attic" || passed != "" {
		t.Errorf("%s, passed over %q", by, passed)
	}
	r.machines["attic"].Break(standin.Fault{Status: 500})
	if by, passed, _ := r.ask("helper", ""); by != "cellar" || passed != "attic/harbour-4m runner_unavailable" {
		t.Errorf("%s, passed over %q", by, passed)
	}
	var list struct {
		Exchanges []struct {
			Model, Answered, Machine string
			PassedOver               []string `json:"passed_over"`
		}
	}
	if err := json.Unmarshal([]byte(r.gate("GET", "/gate/exchanges?limit=1", "", 200)), &list); err != nil {
		t.Fatal(err)
	}
	if e := list.Exchanges[0]; e.Model != "helper" || e.Answered != "cellar/harbour-4m" || e.Machine != "cellar" || !slices.Equal(e.PassedOver, []string{"attic/harbour-4m runner_unavailable"}) {
		t.Errorf("%+v", e)
	}
	if status, metrics, _ := call(t, "GET", strings.TrimSuffix(r.app.Server.BaseURL(), "/v1")+"/metrics", r.key, ""); status != 200 || !strings.Contains(metrics, `kindred_machine_up{machine="cellar"} 1`) {
		t.Errorf("%d %.500s", status, metrics)
	}
	// What is recorded is what the one that answered was asked, without what was put in for the one that did not.
	r.gate("POST", "/gate/presets", `{"name":"brief","model":"attic/harbour-4m","instructions":"Be brief."}`, 201)
	r.name(`{"name":"told","of":[{"to":"brief"},{"to":"cellar/harbour-4m"}]}`)
	id := r.recorded("/chat/completions", `{"model":"told","messages":[{"role":"user","content":"Where?"}]}`)
	if shown := r.gate("GET", "/gate/exchanges/"+id, "", 200); strings.Contains(shown, "Be brief.") || !strings.Contains(shown, `"answered":"cellar/harbour-4m"`) || !strings.Contains(shown, "Where?") {
		t.Error(shown)
	}
	// What the client did wrong is not tried elsewhere; what has begun is not either.
	r.machines["attic"].Break(standin.Fault{Status: 400})
	asked := r.machines["cellar"].Asked()
	if status, _, body := r.ask("helper", ""); status != "400" || r.machines["cellar"].Asked() != asked {
		t.Errorf("%s %s", status, body)
	}
	r.machines["attic"].Break(standin.Fault{CutAfter: 3})
	if status, _, body := r.ask("helper", ""); status != "503" || !strings.Contains(body, "runner_answer_broken") || r.machines["cellar"].Asked() != asked {
		t.Errorf("%s %s", status, body)
	}
	// One that is dead is passed over without a try, and answers again when it is back.
	r.machines["attic"].Break(standin.Fault{Status: 500})
	for range 3 {
		r.ask("helper", "")
	}
	before := r.machines["attic"].Asked()
	if by, passed, _ := r.ask("helper", ""); by != "cellar" || passed != "" || r.machines["attic"].Asked() != before {
		t.Errorf("%s, passed over %q, asked %d times", by, passed, r.machines["attic"].Asked()-before)
	}
	r.machines["attic"].Break(standin.Fault{})
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if by, _, _ := r.ask("helper", ""); by == "attic" {
			break
		} else if time.Now().After(deadline) {
			t.Fatal("the machine that is back is not asked")
		}
	}
	// When none can, the answer says why of each.
	for _, s := range r.servers {
		s.Close()
	}
	for range 4 {
		r.ask("helper", "")
	}
	if status, _, body := r.ask("helper", ""); status != "503" || !strings.Contains(body, "attic/harbour-4m (is unreachable)") || !strings.Contains(body, "cellar/harbour-4m (is unreachable)") {
		t.Errorf("%s %s", status, body)
	}
}

func TestWaysOfChoosing(t *testing.T) {
	r := route(t, "attic", "cellar", "tower")
	all := `"of":[{"to":"attic/harbour-4m","share":1},{"to":"cellar/harbour-4m","share":4},{"to":"tower/harbour-4m","drained":true}]`
	count := func(n int, ask func(i int) string) map[string]int {
		counts := map[string]int{}
		for i := range n {
			counts[ask(i)]++
		}
		return counts
	}
	r.name(`{"name":"helper","any":"share",` + all + `}`)
	got := count(200, func(int) string { by, _, _ := r.ask("helper", ""); return by })
	// 40 of 200 are expected for the attic; a chance of one in ten thousand is 21 off.
	if got["attic"] < 15 || got["attic"] > 70 || got["attic"]+got["cellar"] != 200 {
		t.Errorf("by share: %v", got)
	}
	// A conversation goes on where it is; others are spread by how they begin.
	r.name(`{"name":"helper","strategy":"prefix_affinity","of":[{"to":"attic/harbour-4m"},{"to":"cellar/harbour-4m"}]}`)
	begin := func(i int) string {
		_, body, header := call(t, "POST", r.app.Server.BaseURL()+"/chat/completions", r.key, fmt.Sprintf(`{"model":"helper","messages":[{"role":"system","content":"desk %d"},{"role":"user","content":"Where?"}]}`, i))
		if body == "" {
			t.Fatal("no answer")
		}
		return header.Get("Kindred-Answered-By")
	}
	spread := count(40, begin)
	if spread["attic/harbour-4m"] < 8 || spread["cellar/harbour-4m"] < 8 {
		t.Errorf("by how they begin: %v", spread)
	}
	if first := begin(3); count(5, func(int) string { return begin(3) })[first] != 5 {
		t.Error("the same beginning goes to different targets")
	}
	// The least busy one: while answers hang on one, the next go to the other.
	r.name(`{"name":"helper","any":"fewest_open","of":[{"to":"attic/harbour-4m"},{"to":"cellar/harbour-4m"}]}`)
	hold := make(chan struct{})
	arrived := make(chan struct{}, 10)
	r.machines["attic"].Runner.Before = func(ctx context.Context, _ int) error {
		arrived <- struct{}{}
		select {
		case <-hold:
		case <-ctx.Done():
		}
		return nil
	}
	var hanging sync.WaitGroup
	hanging.Go(func() { r.ask("helper", "") })
	<-arrived
	if by := count(3, func(int) string { by, _, _ := r.ask("helper", ""); return by }); by["cellar"] != 3 {
		t.Errorf("while the attic is busy: %v", by)
	}
	// A switch in mid-stream drops nothing: the answer that hangs comes to its end where it is.
	r.name(`{"name":"helper","of":[{"to":"tower/harbour-4m"}]}`)
	if by, _, _ := r.ask("helper", ""); by != "tower" {
		t.Errorf("after the switch: %s", by)
	}
	close(hold)
	hanging.Wait()
	if n := r.machines["attic"].Left(); n != 0 {
		t.Errorf("%d answers were dropped", n)
	}
}

func TestTargetsForSome(t *testing.T) {
	r := route(t, "attic", "cellar")
	var issued, backend, derived struct{ Key string }
	soon := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	if err := errors.Join(json.Unmarshal([]byte(r.gate("POST", "/gate/keys", `{"label":"ferry desk"}`, 201)), &issued), json.Unmarshal([]byte(r.gate("POST", "/gate/keys", `{"label":"backend","may_issue":true}`, 201)), &backend)); err != nil {
		t.Fatal(err)
	}
	r.name(`{"name":"helper","of":[{"to":"attic/harbour-4m"},{"to":"cellar/harbour-4m","keys":["ferry desk"]}]}`)
	if got := r.gate("PUT", "/gate/names", `{"name":"helper","of":[{"to":"attic/harbour-4m","keys":["nobody"]}]}`, 400); !strings.Contains(got, "there is no key") {
		t.Error(got)
	}
	// What a key's holder calls its keys makes them no other's: not for a target, nor when the owner names a key by its label.
	_, body, _ := call(t, "POST", r.app.Server.BaseURL()[:len(r.app.Server.BaseURL())-len("/v1")]+"/gate/key/issue", backend.Key, `{"label":"ferry desk","expires":"`+soon+`"}`)
	if err := json.Unmarshal([]byte(body), &derived); err != nil || derived.Key == "" {
		t.Fatal(body)
	}
	if shown := r.gate("GET", "/gate/keys/ferry%20desk", "", 200); !strings.Contains(shown, issued.Key[:11]) {
		t.Error(shown)
	}
	if by, _, _ := r.ask("helper", ""); by != "attic" {
		t.Error(by)
	}
	owner := r.key
	r.key = derived.Key
	if by, _, _ := r.ask("helper", ""); by != "attic" {
		t.Errorf("a key that calls itself another's: %s", by)
	}
	r.key = issued.Key
	if by, _, _ := r.ask("helper", ""); by != "cellar" {
		t.Error(by)
	}
	r.key = owner
	// What a request needs decides where it can go: here by what was found out of the machines.
	r.name(`{"name":"eyes","of":[{"to":"harbour-4m"},{"to":"attic/harbour-4m"},{"to":"cellar/harbour-4m"}]}`)
	r.machines["attic"].Break(standin.Fault{Refuse: "image_url"})
	r.gate("POST", "/gate/machines/attic/probe", `{"model":"harbour-4m"}`, 200)
	status, body, header := call(t, "POST", r.app.Server.BaseURL()+"/chat/completions", r.key, `{"model":"eyes","messages":[{"role":"user","content":[{"type":"image_url","image_url":{"url":"data:image/png;base64,AAAA"}}]}]}`)
	if status != 200 || header.Get("Kindred-Answered-By") != "cellar/harbour-4m" {
		t.Errorf("%d %s by %q", status, body, header.Get("Kindred-Answered-By"))
	}
	for want, body := range map[string]string{
		"strategy is": `{"name":"x","strategy":"luck","of":[{"to":"harbour-4m"}]}`, "of has 0": `{"name":"x","of":[]}`, "its own target": `{"name":"x","of":[{"to":"x"}]}`, "twice": `{"name":"x","of":[{"to":"harbour-4m"},{"to":"harbour-4m"}]}`,
		"of[0].header": `{"name":"x","of":[{"to":"harbour-4m","header":"gold"}]}`, "there is no field": `{"name":"x","of":[{"to":"harbour-4m","weight":2}]}`, "is a model of a machine": `{"name":"attic/harbour-4m","of":[{"to":"harbour-4m"}]}`,
		"has no model": `{"name":"x","of":[{"to":"attic/harbour-9m"}]}`, "a shadow has": `{"name":"x","of":[{"to":"harbour-4m"}],"shadow":{"to":"harbour-4m","share":0}}`,
	} {
		if got := r.gate("PUT", "/gate/names", body, 400); !strings.Contains(got, want) {
			t.Errorf("%s: %s", body, got)
		}
	}
}

// A shadow answers beside, is compared, and reaches nobody.
func TestShadows(t *testing.T) {
	r := route(t, "attic", "cellar")
	r.name(`{"name":"helper","of":[{"to":"attic/harbour-4m"}],"shadow":{"to":"cellar/harbour-4m","share":1}}`)
	if by, _, body := r.ask("helper", ""); by != "attic" || strings.Contains(body, "cellar") {
		t.Errorf("%s %s", by, body)
	}
	type shown struct {
		ID, State, Answered string
		ShadowOf            string `json:"shadow_of"`
		Cost                int64
		Compared            *struct {
			Same   bool
			Alike  float64
			Parted string
		}
	}
	var list struct{ Exchanges []shown }
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if err := json.Unmarshal([]byte(r.gate("GET", "/gate/exchanges", "", 200)), &list); err != nil {
			t.Fatal(err)
		}
		if i := slices.IndexFunc(list.Exchanges, func(e shown) bool { return e.ShadowOf != "" && e.State == "done" }); i >= 0 {
			e := list.Exchanges[i]
			if e.Answered != "cellar/harbour-4m" || e.Compared == nil || e.Compared.Same || e.Compared.Alike != 0.75 || e.Compared.Parted != "attic | cellar" {
				t.Errorf("%+v %+v", e, e.Compared)
			}
			of := list.Exchanges[slices.IndexFunc(list.Exchanges, func(of shown) bool { return of.ID == e.ShadowOf })]
			if costs := r.gate("GET", "/gate/costs", "", 200); e.Cost != 0 || of.Cost == 0 || strings.Contains(costs, "cellar") || !strings.Contains(costs, "attic") {
				t.Errorf("the shadow costs %d, what it shadows %d: %s", e.Cost, of.Cost, costs)
			}
			break
		} else if time.Now().After(deadline) {
			t.Fatalf("%+v", list)
		}
	}
	// One that breaks or hangs changes nothing.
	r.machines["cellar"].Break(standin.Fault{Before: time.Hour})
	for range 6 { // more than may be at once
		if by, _, _ := r.ask("helper", ""); by != "attic" {
			t.Error(by)
		}
	}
}
