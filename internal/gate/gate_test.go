package gate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/prompt"
	"kindredgate/internal/record"
	"kindredgate/internal/sampling"
	"kindredgate/internal/store"
)

// script answers with the events that it is given.
type script struct {
	wait   bool // for the end of the context, after them
	panic  any  // after them
	mu     sync.Mutex
	events []exchange.Event
	err    error // after them
	asked  *exchange.Request
	path   string
}

func (s *script) Rank(_ context.Context, _ string, req *exchange.Ranking) (*exchange.Relevance, error) {
	return &exchange.Relevance{Scores: make([]float64, len(req.Documents))}, nil
}

func (s *script) Embed(_ context.Context, _ string, req *exchange.Embedding) (*exchange.Vectors, error) {
	return &exchange.Vectors{Vectors: make([][]float32, len(req.Inputs)), Tokens: 3 * len(req.Inputs)}, nil
}

func (s *script) Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		s.mu.Lock()
		s.asked, s.path = req, path
		s.mu.Unlock()
		if s.events == nil && s.err == nil {
			yield(exchange.Finish{Reason: exchange.Stopped}, nil)
			return
		}
		for _, e := range s.events {
			if !yield(e, nil) {
				return
			}
		}
		switch {
		case s.panic != nil:
			panic(s.panic)
		case s.wait:
			<-ctx.Done()
			yield(nil, errors.New("interrupted"))
		case s.err != nil:
			yield(nil, s.err)
		}
	}
}

func (s *script) Render(context.Context, string, *exchange.Request) (*prompt.Prompt, error) {
	return &prompt.Prompt{}, nil
}
func (s *script) RenderRaw(context.Context, string, string) (*prompt.Prompt, error) {
	return &prompt.Prompt{}, nil
}
func (s *script) CheckTemplate(context.Context, string, string) error { return nil }

// The state in which an exchange has ended is decided where it is closed, and a fault of the machine's is told to nobody.
func TestOutcomes(t *testing.T) {
	for _, c := range []struct {
		answered string
		err      error
		want     record.State
	}{
		{"harbour-4m", nil, record.Done},
		{"harbour-4m", errors.New("a secret of the machine"), record.Failed},
		{"harbour-4m", fmt.Errorf("left: %w", context.Canceled), record.Cancelled},
		{"", exchange.Errorf(exchange.Limited, "rate_limit_exceeded", "too much"), record.Refused},
		{"", context.Canceled, record.Refused},
	} {
		g, records := open(t, &script{})
		x := g.begin(t.Context(), keyring.Key{}, Origin{ID: "a"}, "kg_abcdefgh1234567890")
		x.record.Answered = c.answered
		x.close(c.err)
		r := (*records)[0]
		if r.State != c.want || (r.Code != "") != (c.want == record.Failed || c.want == record.Refused) || strings.Contains(r.Error, "secret") || r.Model != "kg_abcdefgh…" {
			t.Errorf("%v is %q with code %q and error %q, asked for %q; not %q", c.err, r.State, r.Code, r.Error, r.Model, c.want)
		}
	}
}

// open builds a gate with the sample model, and gives the records of its exchanges.
func open(t testing.TB, s *script) (*Gate, *[]record.Record) {
	t.Helper()
	dir := t.TempDir()
	for _, name := range []string{"harbour-4m/harbour-4m.gguf", "harbour-4m/generation_config.json", "harbour-embed/harbour-embed.gguf"} {
		raw, err := os.ReadFile("../../demo/models/" + name)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, filepath.Base(name)), raw, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	db, err := store.Open(filepath.Join(t.TempDir(), "gate.db"), kept.Limits{Age: 30 * 24 * time.Hour, Space: 64 << 20})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	var records []record.Record
	return &Gate{Catalog: catalog.New(nil, dir), Keys: keyring.New(db, slog.New(slog.DiscardHandler)), Presets: db, Names: db, Runner: s, Prompts: s,
		Observers: []Observer{&observer{records: &records}}}, &records
}

// observer keeps the records of exchanges that have ended, and counts those that had begun.
type observer struct {
	mu      sync.Mutex
	records *[]record.Record
	begun   int
}

func (o *observer) Began(r record.Record) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.begun++
}

func (o *observer) Ended(r record.Record) {
	o.mu.Lock()
	defer o.mu.Unlock()
	*o.records = append(*o.records, r)
}

// answer begins an exchange and gives its events.
func answer(ctx context.Context, g *Gate, k keyring.Key, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		x, err := g.Begin(ctx, k, Origin{ID: "one", Style: "chat"}, req)
		if err != nil {
			yield(nil, err)
			return
		}
		x.Events()(yield)
	}
}

func user(text string) []exchange.Turn {
	return []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(text)}}}
}

func drain(events iter.Seq2[exchange.Event, error], leaveAfter int) (n int, err error) {
	for _, e := range events {
		if e != nil {
			return n, e
		}
		if n++; n == leaveAfter {
			break
		}
	}
	return n, nil
}

func TestExchangesAreMetered(t *testing.T) {
	broken := errors.New("broken")
	events := []exchange.Event{exchange.Started{PromptTokens: 5}, exchange.ReasoningDelta{Text: "r", Tokens: 2}, exchange.TextDelta{Text: "a", Tokens: 1},
		exchange.ToolCallDelta{Name: "f", Tokens: 3, Done: true}, exchange.Finish{Reason: exchange.Called, Tokens: 7, Malformed: 1}}
	for _, c := range []struct {
		name       string
		script     *script
		leaveAfter int
		tokens     int
		reason     exchange.Reason
		err        error
	}{
		{"whole", &script{events: events}, 0, 7, exchange.Called, nil},
		{"left by the client", &script{events: events}, 3, 3, "", context.Canceled},
		{"broken in the middle", &script{events: events[:3], err: broken}, 0, 3, "", broken},
		{"broken at once", &script{err: broken}, 0, 0, "", broken},
	} {
		g, records := open(t, c.script)
		_, err := drain(answer(t.Context(), g, keyring.Key{ID: "abcd1234", Terms: keyring.Terms{Label: "k"}}, &exchange.Request{Model: "harbour-4m", Turns: user("x")}), c.leaveAfter)
		if c.script.asked == nil || c.script.asked.Owner != "abcd1234" {
			t.Errorf("%s: the runner is not told whose request it is: %+v", c.name, c.script.asked)
		}
		if c.err == broken && !errors.Is(err, broken) {
			t.Errorf("%s: error %v", c.name, err)
		}
		if o := g.Observers[0].(*observer); len(*records) != 1 || o.begun != 1 {
			t.Fatalf("%s: %d records, %d had begun", c.name, len(*records), o.begun)
		}
		r := (*records)[0]
		if r.Label != "k" || r.Model != "harbour-4m" || r.Answered != "harbour-4m" || r.ID != "one" || r.CompletionTokens != c.tokens || r.Reason != string(c.reason) || !errors.Is(r.Err, c.err) || r.Took <= 0 {
			t.Errorf("%s: %+v", c.name, r)
		}
		if c.reason == exchange.Called && (r.ToolCalls != 1 || r.MalformedCalls != 1 || r.PromptTokens != 5) {
			t.Errorf("%s: %+v", c.name, r)
		}
	}
}

// The record is closed before the last event goes out, once, whatever ends the exchange.
func TestRecordsAreClosedFirst(t *testing.T) {
	deltas := []exchange.Event{exchange.Started{PromptTokens: 5}, exchange.TextDelta{Text: "a", Tokens: 1}}
	finish := []exchange.Event{exchange.TextDelta{Candidate: 1, Text: "b", Tokens: 1}, exchange.Finish{Candidate: 1, Reason: exchange.Stopped, Tokens: 1}, exchange.Finish{Reason: exchange.Stopped, Tokens: 1}}
	stopped := errors.New("the gate was stopped")
	for _, c := range []struct {
		name   string
		script *script
		cancel error
		want   string // in the record's error
	}{
		{"whole", &script{events: append(slices.Clone(deltas), finish...)}, nil, ""},
		{"cut off by the runner", &script{events: deltas}, nil, "before it was whole"},
		{"broken", &script{events: deltas, err: errors.New("broken")}, nil, "broken"},
		{"cancelled", &script{events: deltas, wait: true}, stopped, "was stopped"},
		{"panic", &script{events: deltas, panic: "oh"}, nil, "panic: oh"},
	} {
		g, records := open(t, c.script)
		x, err := g.Begin(t.Context(), keyring.Key{}, Origin{}, &exchange.Request{Model: "harbour-4m", Turns: user("x"), Candidates: 2})
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		var last error
		for _, err := range x.Events() {
			if n++; n == len(deltas) && c.cancel != nil {
				x.Cancel(c.cancel)
			}
			ends := n == len(deltas)+len(finish) || err != nil
			if ended := len(*records); ended == 1 != ends {
				t.Errorf("%s: at event %d there are %d records", c.name, n, ended)
			}
			last = err
		}
		x.Close(nil)
		if len(*records) != 1 {
			t.Fatalf("%s: %d records", c.name, len(*records))
		}
		for _, err := range []error{(*records)[0].Err, last} {
			if (c.want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: error %v", c.name, err)
			}
		}
	}
	// One that is not run is closed by hand; a panic of whoever takes the events is not the runner's.
	g, records := open(t, &script{events: deltas})
	x, err := g.Begin(t.Context(), keyring.Key{}, Origin{}, &exchange.Request{Model: "harbour-4m", Turns: user("x")})
	if err != nil {
		t.Fatal(err)
	}
	x.Close(stopped)
	if len(*records) != 1 || !errors.Is((*records)[0].Err, stopped) {
		t.Errorf("records %+v", *records)
	}
	defer func() {
		if p := recover(); p != "mine" {
			t.Errorf("the panic is %v", p)
		}
	}()
	for range answer(t.Context(), g, keyring.Key{}, &exchange.Request{Model: "harbour-4m", Turns: user("x")}) {
		panic("mine")
	}
}

func TestDefaultsFillWhatIsOpen(t *testing.T) {
	s := &script{}
	g, _ := open(t, s)
	hot := 1.5
	for _, c := range []struct {
		sampling exchange.Sampling
		want     float64
	}{{exchange.Sampling{}, 0.2}, {exchange.Sampling{Settings: sampling.Settings{Temperature: &hot}}, 1.5}} {
		if _, err := drain(answer(t.Context(), g, keyring.Key{}, &exchange.Request{Model: "harbour-4m", Turns: user("x"), Sampling: c.sampling}), 0); err != nil {
			t.Fatal(err)
		}
		if got := s.asked.Sampling; *got.Temperature != c.want || *got.TopP != 0.95 || got.TopK != nil {
			t.Errorf("temperature %g, top-p %g", *got.Temperature, *got.TopP)
		}
	}
	if !strings.HasSuffix(s.path, ".gguf") {
		t.Errorf("weights %q", s.path)
	}
}

func TestKeysAreHeldToTheirModels(t *testing.T) {
	g, records := open(t, &script{})
	ctx := t.Context()
	if err := g.SavePreset(ctx, catalog.Preset{Name: "master", Model: "harbour-4m"}, true); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		models, may []string
	}{
		{nil, []string{"harbour-4m", "harbour-embed", "master"}},
		{[]string{"master"}, []string{"master"}},
		{[]string{"harbour-4m"}, []string{"harbour-4m"}},
		{[]string{"gone"}, nil},
	} {
		k := keyring.Key{Terms: keyring.Terms{Label: "k", Models: c.models}}
		offers, err := g.Offers(ctx, k)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, o := range offers {
			names = append(names, o.Name)
		}
		if !slices.Equal(names, c.may) {
			t.Errorf("a key for %v is offered %v, want %v", c.models, names, c.may)
		}
		for _, name := range []string{"harbour-4m", "master"} {
			_, err := drain(answer(ctx, g, k, &exchange.Request{Model: name, Turns: user("x")}), 0)
			_, err2 := g.Offer(ctx, k, name)
			if may := slices.Contains(c.may, name); (err == nil) != may || (err2 == nil) != may {
				t.Errorf("a key for %v asks %s: %v, %v", c.models, name, err, err2)
			}
		}
	}
	if n := len(*records); n != 8 {
		t.Errorf("%d records: refused exchanges are metered too", n)
	}
	if _, _, err := g.IssueKey(ctx, keyring.Terms{Label: "x", Models: []string{"master", "nope"}}); err == nil || !strings.Contains(err.Error(), `"nope" is not installed`) {
		t.Errorf("a key for what is not there: %v", err)
	}
	if _, k, err := g.IssueKey(ctx, keyring.Terms{Label: "x", Models: []string{"master"}}); err != nil || !k.MayUse("master") {
		t.Errorf("a key for a preset: %v", err)
	}
}

// Models are asked for what they are for, and told apart by name where they are not; embeddings are metered as answers are.
func TestModelsAreAskedForWhatTheyAreFor(t *testing.T) {
	g, records := open(t, &script{events: []exchange.Event{exchange.Started{PromptTokens: 2}, exchange.Finish{Reason: exchange.Stopped, Tokens: 1}}})
	ctx := t.Context()
	embed := func(model string, dimensions int) error {
		_, err := g.Embed(ctx, keyring.Key{Terms: keyring.Terms{Label: "a"}}, Origin{}, &exchange.Embedding{Model: model, Inputs: []exchange.Input{{Text: "x"}}, Dimensions: dimensions})
		return err
	}
	if err := embed("harbour-embed", 256); err != nil {
		t.Fatal(err)
	}
	if r := (*records)[0]; r.PromptTokens != 3 || r.Label != "a" || r.Reason != string(exchange.Stopped) || r.Err != nil {
		t.Errorf("%+v", r)
	}
	for _, c := range []struct {
		model      string
		dimensions int
		param      string
	}{{"harbour-4m", 0, "model"}, {"nothing", 0, "model"}, {"harbour-embed", 128, "dimensions"}} {
		if err := embed(c.model, c.dimensions); err == nil || exchange.AsError(err).Param != c.param {
			t.Errorf("%+v: %v", c, err)
		}
	}
	_, err := drain(answer(ctx, g, keyring.Key{}, &exchange.Request{Model: "harbour-embed", Turns: user("x")}), -1)
	if err == nil || exchange.AsError(err).Param != "model" {
		t.Errorf("text from an embedding model: %v", err)
	}

	// Several requests of one call are metered each by itself.
	before := len(*records)
	finished := 0
	all, err := g.BeginAll(ctx, keyring.Key{}, Origin{ID: "two"}, []exchange.Request{{Model: "harbour-4m", Turns: user("x")}, {Model: "harbour-4m", Turns: user("y")}})
	if err != nil {
		t.Fatal(err)
	}
	for event, err := range all {
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := event.Item.(exchange.Finish); ok {
			finished++
		}
	}
	if finished != 2 || len(*records) != before+2 || (*records)[before].Parent != "two" || (*records)[before].ID == (*records)[before+1].ID {
		t.Errorf("%d finished, %d records: %+v", finished, len(*records)-before, (*records)[before:])
	}
	// One that is refused takes the others along.
	before = len(*records)
	if _, err := g.BeginAll(ctx, keyring.Key{}, Origin{}, []exchange.Request{{Model: "harbour-4m", Turns: user("x")}, {Model: "nobody", Turns: user("y")}}); err == nil {
		t.Error("a model that is not there is admitted")
	}
	for _, r := range (*records)[before:] {
		if r.Err == nil {
			t.Errorf("record %+v", r)
		}
	}
	if len(*records) != before+2 {
		t.Errorf("%d records of two requests that were refused", len(*records)-before)
	}
}

// Schemas are made into forms once, when a request is admitted: what a strict one asks that cannot be enforced is refused by its place,
// and left out of others with a note.
func TestSchemasAreEnforcedAsFarAsTheyAreStrict(t *testing.T) {
	const odd, plain, hopeless = `{"type":"object","color":1}`, `{"type":"object"}`, `{"type":"integer","minimum":2,"maximum":1}`
	format := func(schema string, strict bool) exchange.Request {
		return exchange.Request{Format: exchange.Format{Kind: exchange.FormatSchema, Schema: json.RawMessage(schema), Strict: strict, At: "format"}}
	}
	tool := func(schema string, strict, willing, required bool) exchange.Request {
		return exchange.Request{Tools: []exchange.Tool{{Name: "f", Parameters: json.RawMessage(schema), Strict: strict, Willing: willing, At: "tools[0]"}}, Choice: exchange.Choice{Required: required}}
	}
	for _, c := range []struct {
		name         string
		req          exchange.Request
		param        string // of the error; "" for none
		notes        int
		form, strict bool // of the format or the tool, afterwards
	}{
		{"a strict format", format(plain, true), "", 0, true, true},
		{"a strict format that is odd", format(odd, true), "format", 0, false, true},
		{"an odd format", format(odd, false), "", 1, true, false},
		{"a format that nothing meets", format(hopeless, false), "format", 0, false, false},
		{"a strict tool that is odd", tool(odd, true, false, false), "tools[0]", 0, false, true},
		{"a willing tool", tool(plain, false, true, false), "", 0, true, true},
		{"a willing tool that is odd", tool(odd, false, true, false), "", 1, true, false},
		{"a willing tool that nothing meets", tool(hopeless, false, true, false), "", 1, false, false},
		{"a tool that must be called", tool(plain, false, false, true), "", 0, true, false},
		{"a tool", tool(plain, false, false, false), "", 0, false, false},
	} {
		g, records := open(t, &script{events: []exchange.Event{exchange.Started{}, exchange.Finish{Reason: exchange.Stopped}}})
		c.req.Model, c.req.Turns = "harbour-4m", user("x")
		_, err := drain(answer(t.Context(), g, keyring.Key{}, &c.req), 0)
		if e := exchange.AsError(err); err != nil && e.Param != c.param || (err != nil) != (c.param != "") {
			t.Errorf("%s: %v", c.name, err)
		}
		form, strict := c.req.Format.Form, c.req.Format.Strict
		if len(c.req.Tools) > 0 {
			form, strict = c.req.Tools[0].Form, c.req.Tools[0].Strict
		}
		if r := (*records)[0]; (form != nil) != c.form || strict != c.strict || len(r.NotEnforced) != c.notes {
			t.Errorf("%s: form %v, strict %v, notes %q", c.name, form != nil, strict, r.NotEnforced)
		}
	}
	// A client that has left is not worked for.
	g, _ := open(t, &script{})
	ctx, leave := context.WithCancel(t.Context())
	leave()
	big := format(`{"enum":["`+strings.Repeat("x", 1<<20)+`"]}`, true)
	big.Model, big.Turns = "harbour-4m", user("x")
	if _, err := g.Begin(ctx, keyring.Key{}, Origin{}, &big); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}
