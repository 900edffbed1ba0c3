package answers

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect/response"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/loop"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/tool"
)

// memory keeps responses, and can refuse to.
type memory struct {
	mu      sync.Mutex
	held    map[string]kept.Response
	damaged []string
	refuse  error
	pruned  []time.Time
}

func (m *memory) PutResponse(_ context.Context, r kept.Response) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.refuse == nil {
		m.held[r.ID] = r
	}
	return m.refuse
}

func (m *memory) Response(_ context.Context, id string) (kept.Response, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r, ok := m.held[id]
	switch {
	case slices.Contains(m.damaged, id):
		return r, kept.ErrDamaged
	case !ok:
		return r, kept.ErrMissing
	}
	return r, nil
}

func (m *memory) DropResponse(_ context.Context, id string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, ok := m.held[id]; !ok {
		return kept.ErrMissing
	}
	delete(m.held, id)
	return nil
}

func (m *memory) PruneResponses(_ context.Context, now time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.pruned = append(m.pruned, now)
	return nil
}

func (m *memory) UnendedResponses(context.Context) (list []kept.Response, damaged []string, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, r := range m.held {
		switch {
		case slices.Contains(m.damaged, id):
			damaged = append(damaged, id)
		case !r.Ended:
			list = append(list, r)
		}
	}
	return list, damaged, nil
}

// noPresets is for gates without any.
type noPresets struct {
	catalog.PresetRecords
	catalog.NameRecords
}

func (noPresets) Name(context.Context, string) (catalog.Name, error) {
	return catalog.Name{}, catalog.ErrNoName
}

func (noPresets) Preset(context.Context, string) (catalog.Preset, error) {
	return catalog.Preset{}, catalog.ErrNoPreset
}

// open makes a service whose model says what the runner says.
func open(t *testing.T, m *memory, runner gate.Runner) *Service {
	t.Helper()
	folder := t.TempDir()
	raw, err := os.ReadFile("../../demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "harbour-4m.gguf"), raw, 0o600); err != nil {
		t.Fatal(err)
	}
	g := &gate.Gate{Catalog: catalog.New(nil, folder), Keys: keyring.New(nil, slog.New(slog.DiscardHandler)), Presets: noPresets{}, Names: noPresets{}, Runner: runner}
	loops := loop.New(g, tool.NewSet(loop.UsualLimits), func() loop.Rules { return loop.Usual }, nil, slog.New(slog.DiscardHandler))
	log := slog.New(slog.DiscardHandler)
	queue, err := Alone(t.Context(), m, log)
	if err != nil {
		t.Fatal(err)
	}
	d := Open(t.Context(), g, loops, m, queue, log)
	t.Cleanup(func() {
		if err := d.Close(); err != nil {
			t.Error(err)
		}
	})
	return d
}

var (
	mine     = keyring.Key{ID: "mine", Terms: keyring.Terms{Label: "mine"}}
	stranger = keyring.Key{ID: "stranger", Terms: keyring.Terms{Label: "stranger"}}
	owner    = keyring.Key{ID: "owner", Terms: keyring.Terms{Label: "owner"}, Owner: true}
)

// begin asks for a response.
func begin(t *testing.T, d *Service, id, more string) *Run {
	t.Helper()
	call, err := response.Decode([]byte(`{"model":"harbour-4m","input":"When is the last boat?"` + more + `}`))
	if err != nil {
		t.Fatal(err)
	}
	r, err := d.Begin(t.Context(), mine, gate.Origin{ID: id}, call)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

type body struct {
	Status    string
	Store     bool
	NotStored string `json:"not_stored"`
}

func read(t *testing.T, raw json.RawMessage, err error) (b body) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, &b); err != nil {
		t.Fatal(err)
	}
	return b
}

// held is a runner that says something when it is let go.
func held() (*scripted.Runner, func()) {
	gate := make(chan struct{})
	return &scripted.Runner{
		Pieces: func(*exchange.Request) []string { return []string{"At ", "19:40."} },
		Before: func(ctx context.Context, piece int) error {
			if piece == 0 {
				return nil
			}
			select {
			case <-gate:
				return nil
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		},
	}, sync.OnceFunc(func() { close(gate) })
}

// A response under way is its key's, like a stored one: a stranger who knows its id cannot see, follow, cancel, delete or continue it.
func TestARunBelongsToItsKey(t *testing.T) {
	runner, release := held()
	m := &memory{held: map[string]kept.Response{}}
	d := open(t, m, runner)
	r := begin(t, d, "1", `,"background":true`)
	ctx := t.Context()
	attempts := map[string]func() error{
		"see":    func() error { _, err := d.Get(ctx, stranger, r.ID); return err },
		"follow": func() error { _, err := d.Follow(ctx, stranger, r.ID, -1); return err },
		"cancel": func() error { _, err := d.Cancel(ctx, stranger, r.ID); return err },
		"delete": func() error { return d.Delete(ctx, stranger, r.ID) },
		"list":   func() error { _, err := d.Input(ctx, stranger, r.ID); return err },
		"go on":  func() error { _, err := d.conversation(ctx, stranger, r.ID); return err },
	}
	for _, state := range []string{"under way", "ended"} {
		for what, try := range attempts {
			if err := try(); err == nil || exchange.AsError(err).Kind != exchange.NotFound && exchange.AsError(err).Kind != exchange.Invalid {
				t.Errorf("%s: a stranger can %s it: %v", state, what, err)
			}
		}
		if _, err := d.Get(ctx, owner, r.ID); err != nil {
			t.Errorf("%s: the owner: %v", state, err)
		}
		release()
		if got, err := r.Wait(ctx); read(t, got, err).Status != "completed" {
			t.Errorf("%s: %s", state, got)
		}
	}
}

// A response that is deleted while it is under way, or just when it ends, is gone for good.
func TestDeletedWhileUnderWay(t *testing.T) {
	for _, more := range []string{"", `,"background":true`} {
		runner, release := held()
		m := &memory{held: map[string]kept.Response{}}
		d := open(t, m, runner)
		r := begin(t, d, "1", more)
		left, leave := context.WithCancel(t.Context())
		leave() // who deletes it need not wait for that
		if err := d.Delete(left, mine, r.ID); err != nil {
			t.Errorf("%s: %v", more, err)
		}
		release()
		if err := d.Close(); err != nil {
			t.Error(err)
		}
		if len(m.held) != 0 {
			t.Errorf("%s: it is stored again: %v", more, m.held)
		}
		if _, err := d.Get(t.Context(), mine, r.ID); err == nil {
			t.Errorf("%s: it is still there", more)
		}
	}
}

// Whoever has seen the last event of a response finds it stored; where it could not be, that event says so, and so does the response.
func TestTheLastEventTellsWhetherItIsStored(t *testing.T) {
	for _, c := range []struct {
		refuse error
		says   string
	}{
		{nil, ""},
		{kept.ErrNoRoom, "more space than a key has"},
		{exchange.Errorf(exchange.Unavailable, "storage_full", "the disk is full"), "the disk is full"},
		{errors.New("something else"), "log says why"},
	} {
		m := &memory{held: map[string]kept.Response{}, refuse: c.refuse}
		d := open(t, m, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }})
		r := begin(t, d, "1", "")
		var last response.Event
		for e, err := range r.Events(t.Context(), -1) {
			if err != nil {
				t.Fatal(err)
			}
			if last = e; strings.HasPrefix(e.Type, "response.completed") {
				if _, err := m.Response(t.Context(), r.ID); (err == nil) != (c.refuse == nil) {
					t.Errorf("%v: when the last event comes: %v", c.refuse, err)
				}
			}
		}
		var event struct {
			Type     string
			Sequence int `json:"sequence_number"`
			Response body
		}
		if err := json.Unmarshal(last.Data, &event); err != nil {
			t.Fatal(err)
		}
		whole, err := r.Snapshot()
		for what, got := range map[string]body{"the event": event.Response, "the response": read(t, whole, err)} {
			if got.Status != "completed" || got.Store != (c.refuse == nil) || (got.NotStored == "") != (c.says == "") || !strings.Contains(got.NotStored, c.says) {
				t.Errorf("%v: %s: %+v", c.refuse, what, got)
			}
		}
		if event.Type != "response.completed" || event.Sequence != last.Sequence || last.Sequence == 0 {
			t.Errorf("%v: the last event is %+v", c.refuse, event)
		}
	}
}

// One in the background that cannot be stored is refused, since nobody could get it.
func TestBackgroundOnAFullDisk(t *testing.T) {
	d := open(t, &memory{refuse: exchange.Errorf(exchange.Unavailable, "storage_full", "the disk is full")}, &scripted.Runner{})
	call, err := response.Decode([]byte(`{"model":"harbour-4m","input":"x","background":true}`))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.Begin(t.Context(), mine, gate.Origin{ID: "1"}, call); exchange.AsError(err).Code != "storage_full" || !strings.Contains(err.Error(), "has to be stored") {
		t.Errorf("%v", err)
	}
}

// A stored response that cannot be read stops nothing: not the start, nor its own removal.
func TestDamagedResponses(t *testing.T) {
	m := &memory{held: map[string]kept.Response{
		"resp_bad":  {ID: "resp_bad", Key: "mine"},
		"resp_odd":  {ID: "resp_odd", Key: "mine", Body: []byte(`5`)},
		"resp_good": {ID: "resp_good", Key: "mine", Body: []byte(`{"id":"resp_good","status":"in_progress"}`)},
	}, damaged: []string{"resp_bad"}}
	d := open(t, m, &scripted.Runner{})
	if got, err := d.Get(t.Context(), mine, "resp_good"); read(t, got, err).Status != "failed" {
		t.Errorf("what the stop interrupted: %s", got)
	}
	if _, err := d.Get(t.Context(), mine, "resp_bad"); exchange.AsError(err).Code != "response_damaged" {
		t.Errorf("%v", err)
	}
	if err := d.Delete(t.Context(), stranger, "resp_bad"); exchange.AsError(err).Code != "response_not_found" {
		t.Errorf("a stranger: %v", err)
	}
	if err := d.Delete(t.Context(), mine, "resp_bad"); err != nil || len(m.held) != 2 {
		t.Errorf("it cannot be removed: %v", err)
	}
}

// Old responses are looked for when one is stored, once an hour.
func TestOldResponsesAreLookedFor(t *testing.T) {
	m := &memory{held: map[string]kept.Response{}}
	d := open(t, m, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }})
	for i := range 3 {
		if _, err := begin(t, d, string(rune('a'+i)), "").Wait(t.Context()); err != nil {
			t.Fatal(err)
		}
		if i == 1 {
			d.mu.Lock()
			d.pruned = d.pruned.Add(-61 * time.Minute)
			d.mu.Unlock()
		}
	}
	if len(m.pruned) != 2 || time.Since(m.pruned[1]) > time.Minute {
		t.Errorf("%v", m.pruned)
	}
}

// What a response in the background had written is there after a kill: its parts, its failed end, and events that are numbered to the last.
func TestABackgroundResponseAfterAKill(t *testing.T) {
	m := &memory{held: map[string]kept.Response{}}
	written := make(chan struct{})
	first := open(t, m, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"The last ", "boat ", "leaves at ", "19:40."} }, Before: func(ctx context.Context, i int) error {
		if i == 3 {
			close(written)
			<-ctx.Done()
		}
		return ctx.Err()
	}})
	r := begin(t, first, "long", `,"background":true`)
	<-written
	// until what was written is stored, which is a second later at the most; nothing else tells when
	var stored kept.Response
	for end := time.Now().Add(20 * time.Second); !strings.Contains(string(stored.Body), "The last boat leaves at "); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("stored is %s", stored.Body)
		}
		var err error
		if stored, err = m.Response(t.Context(), r.ID); err != nil {
			t.Fatal(err)
		}
	}
	if stored.Ended {
		t.Fatal("it has not ended")
	}
	if live, err := r.Snapshot(); err != nil || !strings.Contains(string(live), `"status":"in_progress"`) || strings.Contains(string(live), "interrupted") {
		t.Errorf("storing it has changed it: %s, %v", live, err)
	}
	// Another gate finds what that one had.
	left := &memory{held: map[string]kept.Response{r.ID: stored}}
	second := open(t, left, &scripted.Runner{})
	body, err := second.Get(t.Context(), mine, r.ID)
	var got struct {
		Status string
		Error  struct{ Message string }
		Output []struct {
			Status  string
			Content []struct{ Text string }
		}
	}
	if err != nil || json.Unmarshal(body, &got) != nil {
		t.Fatal(string(body), err)
	}
	if got.Status != "failed" || !strings.Contains(got.Error.Message, "the gate stopped") || len(got.Output) != 1 || got.Output[0].Status != "incomplete" || got.Output[0].Content[0].Text != "The last boat leaves at " {
		t.Errorf("it is %s", body)
	}
	follow := func(after int) (kinds []string, text string) {
		list, err := second.Follow(t.Context(), mine, r.ID, after)
		if err != nil {
			t.Fatal(err)
		}
		for e, err := range list {
			var data struct {
				Sequence int `json:"sequence_number"`
				Delta    string
			}
			after++
			if err != nil || json.Unmarshal(e.Data, &data) != nil || e.Sequence != after || data.Sequence != after {
				t.Errorf("event %d is %d: %s, %v", after, e.Sequence, e.Data, err)
			}
			kinds, text = append(kinds, e.Type), text+data.Delta
		}
		return kinds, text
	}
	kinds, text := follow(-1)
	if text != "The last boat leaves at " || kinds[0] != "response.created" || kinds[len(kinds)-1] != "response.failed" || !slices.Contains(kinds, "response.output_item.done") {
		t.Errorf("followed: %q, %q", kinds, text)
	}
	if kinds, text := follow(5); text == "The last boat leaves at " || kinds[len(kinds)-1] != "response.failed" {
		t.Errorf("followed from 5 on: %q, %q", kinds, text)
	}
	if kinds, _ := follow(500); !slices.Equal(kinds, []string{"response.failed"}) { // of what was not stored any more
		t.Errorf("followed from behind its end: %q", kinds)
	}
	if list, _, err := left.UnendedResponses(t.Context()); err != nil || len(list) != 0 {
		t.Errorf("%d have not ended, %v", len(list), err)
	}
}

// done is the work of other gates, of which it notes what is done.
type done struct{ ids []string }

func (d *done) AddWork(context.Context, kept.Work) (bool, error)                   { return true, nil }
func (d *done) WorkDone(id string)                                                 { d.ids = append(d.ids, id) }
func (d *done) FollowWork(context.Context, func(context.Context, kept.Work) error) {}

// A response in the middle of which one gate after the other went away is not begun again for ever: it fails, and says why.
func TestWorkThatEndsGates(t *testing.T) {
	m, work := &memory{held: map[string]kept.Response{}}, &done{}
	asked := 0
	d := open(t, m, &scripted.Runner{Pieces: func(*exchange.Request) []string { asked++; return nil }})
	d.queue = work
	w := kept.Work{ID: "resp_x", Key: mine.ID, Created: time.Now(), Body: json.RawMessage(`{"model":"harbour-4m","input":"When is the last boat?","background":true}`), Taken: mostTaken + 1}
	if err := d.carryOn(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	r := m.held[w.ID]
	if !r.Ended || !strings.Contains(string(r.Body), "went away in the middle") || asked != 0 || !slices.Equal(work.ids, []string{w.ID}) {
		t.Errorf("%+v is stored, %d were asked, %v is done", r, asked, work.ids)
	}
	// One whose steps cannot be gone on with has ended too, so nobody holds it any longer.
	m.held["resp_y"] = kept.Response{ID: "resp_y", Shared: true, Body: r.Body, Loop: json.RawMessage(`{}`)}
	if err := d.carryOn(t.Context(), kept.Work{ID: "resp_y", Body: w.Body, Taken: 1}); err != nil {
		t.Fatal(err)
	}
	if !m.held["resp_y"].Ended || !slices.Contains(work.ids, "resp_y") {
		t.Errorf("%+v is stored, %v is done", m.held["resp_y"], work.ids)
	}
}

// A response that is not to be stored is its client's alone while it is written: nobody gets, follows or cancels it by its id.
func TestWhatIsNotStoredIsNotThere(t *testing.T) {
	runner, release := held()
	defer release()
	s := open(t, &memory{held: map[string]kept.Response{}}, runner)
	r := begin(t, s, "1", `,"store":false`)
	for what, try := range map[string]func() error{
		"get":    func() error { _, err := s.Get(t.Context(), mine, r.ID); return err },
		"follow": func() error { _, err := s.Follow(t.Context(), mine, r.ID, -1); return err },
		"list":   func() error { _, err := s.Input(t.Context(), mine, r.ID); return err },
	} {
		if e := exchange.AsError(try()); e == nil || e.Kind != exchange.NotFound {
			t.Errorf("%s: %v", what, e)
		}
	}
	stored := begin(t, s, "2", "")
	if _, err := s.Cancel(t.Context(), mine, stored.ID); err == nil || !strings.Contains(err.Error(), "background") {
		t.Errorf("a response whose client waits for it is cancelled: %v", err)
	}
	if _, err := s.Get(t.Context(), mine, stored.ID); err != nil {
		t.Errorf("one that is stored: %v", err)
	}
}

// A conversation of stored responses has a bound, and one that comes back to itself meets it.
func TestChainsAreBounded(t *testing.T) {
	m := &memory{held: map[string]kept.Response{}}
	s := open(t, m, &scripted.Runner{})
	m.held["resp_a"] = kept.Response{ID: "resp_a", Key: mine.Account(), Ended: true, Body: []byte(`{"output":[]}`), Input: []byte(`[]`), Previous: "resp_a"}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	done := make(chan error, 1)
	go func() {
		_, err := s.conversation(ctx, mine, "resp_a")
		done <- err
	}()
	select {
	case err := <-done:
		if err == nil || !strings.Contains(err.Error(), "more than 1000 responses") {
			t.Errorf("%v", err)
		}
	case <-ctx.Done():
		t.Fatal("the conversation has no end")
	}
}
