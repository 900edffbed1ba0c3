package loop

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/tool"
)

// waits is a server of one tool that takes a while.
type waits struct{ time.Duration }

func (w *waits) Tools(context.Context) ([]tool.Tool, error) {
	return []tool.Tool{{Name: "read", Schema: json.RawMessage(`{"type":"object"}`), ReadOnly: true}}, nil
}

func (w *waits) Call(ctx context.Context, _ string, arguments json.RawMessage) (tool.Result, error) {
	if w.Duration > 0 {
		select {
		case <-time.After(w.Duration):
		case <-ctx.Done():
		}
	}
	return tool.Result{Text: "gave " + string(arguments)}, nil
}
func (*waits) Status() tool.Status { return tool.Status{} }
func (*waits) Close() error        { return nil }

type nothing struct {
	catalog.PresetRecords
	catalog.NameRecords
}

func (nothing) Name(context.Context, string) (catalog.Name, error) {
	return catalog.Name{}, catalog.ErrNoName
}

func (nothing) Preset(context.Context, string) (catalog.Preset, error) {
	return catalog.Preset{}, catalog.ErrNoPreset
}

// open makes a service whose model calls the tool so many times, each time with other arguments, and takes so long for each answer.
func open(t testing.TB, steps int, thinks, works time.Duration) *Service {
	t.Helper()
	folder := t.TempDir()
	raw, err := os.ReadFile("../../demo/models/harbour-4m/harbour-4m.gguf")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "harbour-4m.gguf"), raw, 0o600); err != nil {
		t.Fatal(err)
	}
	called := func(req *exchange.Request) (n int) {
		for _, t := range req.Turns {
			if t.Role == exchange.Assistant {
				n++
			}
		}
		return n
	}
	runner := &scripted.Runner{
		Pieces: func(*exchange.Request) []string { return []string{"Well."} },
		Before: func(ctx context.Context, piece int) error {
			if piece == 0 && thinks > 0 {
				time.Sleep(thinks)
			}
			return ctx.Err()
		},
		Calls: func(req *exchange.Request) []exchange.ToolCall {
			if n := called(req); n < steps {
				return []exchange.ToolCall{{ID: fmt.Sprint("call_", n), Name: "read", Arguments: fmt.Sprintf(`{"n":%d}`, n)}}
			}
			return nil
		},
	}
	g := &gate.Gate{Catalog: catalog.New(nil, folder), Keys: keyring.New(nil, slog.New(slog.DiscardHandler)), Presets: nothing{}, Names: nothing{}, Runner: runner}
	tools := tool.NewSet(UsualLimits)
	tools.Replace(map[string]tool.Server{"ferry": &waits{works}}, UsualLimits)
	rules := Usual
	rules.Steps, rules.Calls = 1000, 1000
	return New(g, tools, func() Rules { return rules }, nil, slog.New(slog.DiscardHandler))
}

var owner = keyring.Key{ID: "owner", Terms: keyring.Terms{Label: "owner"}, Owner: true}

// ask runs a loop to its end.
func ask(t testing.TB, s *Service, id string, servers ...exchange.ToolServer) (events []exchange.Event) {
	t.Helper()
	req := &exchange.Request{Model: "harbour-4m", Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text("Go.")}}}, Servers: servers}
	x, err := s.Begin(t.Context(), owner, gate.Origin{ID: id, Style: "response"}, req, How{Approvals: true})
	if err != nil {
		t.Fatal(err)
	}
	for e, err := range x.Events() {
		if err != nil {
			t.Fatal(err)
		}
		events = append(events, e)
	}
	return events
}

// Each step is told apart, and what the model has called comes with what it gave.
func TestEvents(t *testing.T) {
	s := open(t, 2, 0, 0)
	var got []string
	for _, e := range ask(t, s, "x", exchange.ToolServer{Label: "ferry"}) {
		if raw, err := exchange.EncodeEvent(e); err != nil {
			t.Fatal(err)
		} else if _, ok := e.(exchange.RunEnded); !ok { // which has a time
			got = append(got, string(raw))
		}
	}
	step := func(n int) []string {
		return []string{`{"text":{"text":"Well.","tokens":1}}`, fmt.Sprintf(`{"run":{"index":%d,"id":"call_%d","server":"ferry","name":"read","tokens":1}}`, n, n), fmt.Sprintf(`{"run":{"index":%d,"arguments":"{\"n\":%d}","done":true}}`, n, n),
			fmt.Sprintf(`{"step_ended":{"step":%d,"tokens":2}}`, n+1)}
	}
	want := []string{`{"started":{"prompt_tokens":1,"timings":{},"steps":true}}`, `{"tools_listed":{"server":"ferry","tools":[{"name":"read","schema":{"type":"object"},"read_only":true}]}}`}
	want[0] = `{"started":{"prompt_tokens":1,"steps":true}}`
	want = append(want, step(0)...)
	want[3] = `{"run":{"id":"call_0","server":"ferry","name":"read","tokens":1}}`
	want[4] = `{"run":{"arguments":"{\"n\":0}","done":true}}`
	want = append(want, `{"step_began":{"step":2,"prompt_tokens":4}}`)
	want = append(want, step(1)...)
	want = append(want, `{"step_began":{"step":3,"prompt_tokens":7}}`, `{"text":{"text":"Well.","tokens":1}}`, `{"finish":{"reason":"stop","tokens":1}}`)
	if !slices.Equal(got, want) {
		t.Errorf("%q\nnot\n%q", got, want)
	}
}

// A tool is known to the model by its own name, unless that is no name for a template, or another tool has it.
func TestModelNames(t *testing.T) {
	taken := map[string]bool{}
	for _, c := range []struct{ server, name, want string }{
		{"ferry", "next_sailing", "next_sailing"}, {"desk", "next_sailing", "desk_next_sailing"}, {"desk.two", "fares/of.all", "fares_of_all"}, {"desk.three", "fares/of.all", "desk_three_fares_of_all"},
		{"desk.three", "fares.of/all", "fares_of_all_2"}, {"desk", "a" + string(slices.Repeat([]byte("b"), 100)), "a" + string(slices.Repeat([]byte("b"), 58)) + "_2"},
	} {
		got := modelName(tool.Tool{Server: c.server, Name: c.name}, taken)
		if got != c.want || len(got) > longestName {
			t.Errorf("%s/%s is %q, not %q", c.server, c.name, got, c.want)
		}
		taken[got] = true
	}
}

// BenchmarkStep tells what a step of a loop costs beside the model and the tools: both take no time here. The same requests without a loop
// are what it compares with.
func BenchmarkStep(b *testing.B) {
	const steps = 10
	s := open(b, steps, 0, 0)
	n := 0
	b.ReportAllocs()
	for b.Loop() {
		ask(b, s, fmt.Sprint("x", n), exchange.ToolServer{Label: "ferry"})
		n++
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N*(steps+1)), "µs/step")
}

// BenchmarkHundredLoops runs a hundred loops at once, with tools that take 50 ms and a model that takes 5: the figure is how many requests to the
// model are answered a second, with loops and with what does the same by single requests.
func BenchmarkHundredLoops(b *testing.B) {
	const loops, steps = 100, 5
	run := func(b *testing.B, one func(s *Service, id string)) {
		s := open(b, steps, 5*time.Millisecond, 50*time.Millisecond)
		n := 0
		for b.Loop() {
			var all sync.WaitGroup
			for i := range loops {
				all.Go(func() { one(s, fmt.Sprintf("x%d-%d", n, i)) })
			}
			all.Wait()
			n++
		}
		b.ReportMetric(float64(b.N*loops*(steps+1))/b.Elapsed().Seconds(), "requests/s")
	}
	b.Run("loops", func(b *testing.B) {
		run(b, func(s *Service, id string) { ask(b, s, id, exchange.ToolServer{Label: "ferry"}) })
	})
	b.Run("single", func(b *testing.B) {
		run(b, func(s *Service, id string) {
			turns := []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text("Go.")}}}
			tools := []exchange.Tool{{Name: "read", Parameters: json.RawMessage(`{"type":"object"}`)}}
			for step := range steps + 1 {
				req := &exchange.Request{Model: "harbour-4m", Turns: turns, Tools: tools}
				x, err := s.gate.Begin(b.Context(), owner, gate.Origin{ID: fmt.Sprint(id, step), Style: "response"}, req)
				if err != nil {
					b.Error(err)
					return
				}
				for _, err := range x.Events() {
					if err != nil {
						b.Error(err)
						return
					}
				}
				if step == steps {
					return
				}
				call := exchange.ToolCall{ID: fmt.Sprint("call_", step), Name: "read", Arguments: fmt.Sprintf(`{"n":%d}`, step)}
				r := s.tools.Call(b.Context(), tool.Tool{Server: "ferry", Name: "read", Schema: tools[0].Parameters}, call.Arguments)
				turns = append(slices.Clone(turns), exchange.Turn{Role: exchange.Assistant, Parts: []exchange.Part{exchange.Text("Well."), call}},
					exchange.Turn{Role: exchange.ToolRole, Parts: []exchange.Part{exchange.ToolResult{CallID: call.ID, Content: r.Text}}})
			}
		})
	})
}
