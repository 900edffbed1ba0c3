package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"reflect"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/prompt"
	"kindredgate/internal/record"
)

// shelf keeps contents in memory, and may be slow.
type shelf struct {
	mu   sync.Mutex
	list map[string]kept.Content
	wait chan struct{} // closed when it goes on; nil for at once
}

func (s *shelf) PutContent(_ context.Context, c kept.Content, _ int64) error {
	if s.wait != nil {
		<-s.wait
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list[c.ID] = c
	return nil
}

func (s *shelf) Content(_ context.Context, id string) (kept.Content, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c, ok := s.list[id]; ok {
		return c, nil
	}
	return kept.Content{}, kept.ErrMissing
}

func (s *shelf) PruneContents(context.Context, time.Time, time.Duration) error { return nil }
func (s *shelf) PurgeContents(context.Context, string, time.Time) (int64, error) {
	return 0, nil
}

// laid lays a request out as its turns with nothing between them.
func laid(_ context.Context, _ catalog.Model, req *exchange.Request) (*prompt.Prompt, error) {
	p := &prompt.Prompt{}
	for i, t := range req.Turns {
		text := t.Text()
		if text == "fails" {
			return nil, errors.New("it has no template")
		}
		if text == "panics" {
			panic("the template")
		}
		p.Spans = append(p.Spans, prompt.Span{Start: len(p.Text), End: len(p.Text) + len(text), Origin: []string{"messages[0].content", "messages[1].content"}[i], Tokens: 1})
		p.Text += text
	}
	return p, nil
}

func request(t *testing.T, texts ...string) []byte {
	t.Helper()
	seed := int64(1<<62 + 1) // which a floating-point number cannot hold
	r := exchange.Request{Model: "m", Sampling: exchange.Sampling{Seed: &seed}}
	for _, text := range texts {
		r.Turns = append(r.Turns, exchange.Turn{Role: exchange.User, Parts: []exchange.Part{exchange.Text(text)}})
	}
	raw, err := r.Encode()
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// What is kept is the request, the prompt and the answers put together, with what is to be left out left out everywhere, and numbers as they are.
func TestWhatIsRecorded(t *testing.T) {
	s := &shelf{list: map[string]kept.Content{}}
	k := NewRecorder(s, Recording{Space: 1 << 20, Redact: []*regexp.Regexp{regexp.MustCompile(`berth \d+`)}}, laid, slog.New(slog.DiscardHandler))
	of := func(id string) record.Record {
		return record.Record{ID: id, Key: "k", Begun: time.Now()}
	}
	events := []exchange.Event{
		exchange.Started{PromptTokens: 2},
		exchange.ReasoningDelta{Text: "Is berth "}, exchange.ReasoningDelta{Text: "12 free?"},
		exchange.TextDelta{Text: "Berth"}, exchange.TextDelta{Candidate: 1, Text: "No."}, exchange.TextDelta{Text: " or berth 7."},
		exchange.ToolCallDelta{Index: 1, ID: "b", Name: "second", Arguments: `{"at":`}, exchange.ToolCallDelta{Index: 0, ID: "a", Name: "first", Arguments: `{}`}, exchange.ToolCallDelta{Index: 1, Arguments: ` "berth 9"}`},
		exchange.Finish{Reason: exchange.Stopped},
	}
	k.Keep(of("whole"), gate.Content{Request: request(t, "berth 12", "quay 3"), Events: events})
	k.Keep(of("fails"), gate.Content{Request: request(t, "fails"), Events: nil})
	k.Keep(of("panics"), gate.Content{Request: request(t, "panics"), Events: nil})
	k.Keep(of("after"), gate.Content{Request: request(t, "x"), Events: nil})
	if err := k.Close(); err != nil {
		t.Fatal(err)
	}
	c := s.list["whole"]
	if want := []kept.Piece{{Origin: "messages[0].content", Text: redacted, Tokens: 1}, {Origin: "messages[1].content", Text: "quay 3", Tokens: 1}}; !reflect.DeepEqual(c.Prompt, want) {
		t.Errorf("the prompt is %+v", c.Prompt)
	}
	want := []kept.Answer{{Reasoning: "Is [redacted] free?", Text: "Berth or [redacted].", Calls: []kept.Call{{Name: "first", Arguments: `{}`}, {Name: "second", Arguments: `{"at": "[redacted]"}`}}}, {Text: "No."}}
	if !reflect.DeepEqual(c.Answers, want) {
		t.Errorf("the answers are %+v", c.Answers)
	}
	if text := string(c.Request); strings.Contains(text, "berth 12") || !strings.Contains(text, "4611686018427387905") || !json.Valid(c.Request) {
		t.Errorf("the request is %s", text)
	}
	if req, err := exchange.DecodeRequest(c.Request); err != nil || req.Turns[1].Text() != "quay 3" {
		t.Errorf("it cannot be asked again: %v", err)
	}
	if c := s.list["fails"]; !strings.Contains(c.Problem, "no template") || len(c.Prompt) != 0 {
		t.Errorf("one whose prompt cannot be laid out: %+v", c)
	}
	if _, ok := s.list["panics"]; ok || s.list["after"].ID == "" {
		t.Error("a panic keeps what comes after it from being recorded")
	}
}

// While nothing can be written, what waits is bounded, and nobody is held up; whose content is kept goes by the key before the settings.
func TestRecordingHoldsNobodyUp(t *testing.T) {
	s := &shelf{list: map[string]kept.Content{}, wait: make(chan struct{})}
	k := NewRecorder(s, Recording{}, laid, slog.New(slog.DiscardHandler))
	large := gate.Content{Request: make([]byte, waiting/4)}
	for range 10 {
		k.Keep(record.Record{}, large)
	}
	k.mu.Lock()
	lost := k.lost
	k.mu.Unlock()
	if lost < 5 || lost > 6 { // of ten, four have room, and one may be with the writer
		t.Errorf("%d have no room", lost)
	}
	close(s.wait)
	if err := k.Close(); err != nil {
		t.Fatal(err)
	}
	k.Keep(record.Record{}, gate.Content{}) // when all is over
	for _, c := range []struct {
		all  bool
		says keyring.Content
		want bool
	}{{false, keyring.ContentAsSet, false}, {true, keyring.ContentAsSet, true}, {false, keyring.ContentKept, true}, {true, keyring.ContentNot, false}} {
		k.Set(Recording{All: c.all})
		if got := k.Wants(keyring.Key{Terms: keyring.Terms{Content: c.says}}); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

// Who asks for what was just said waits until it is written, and no longer than for that.
func TestContentIsWaitedFor(t *testing.T) {
	s := &shelf{list: map[string]kept.Content{}, wait: make(chan struct{})}
	k := NewRecorder(s, Recording{All: true}, laid, slog.New(slog.DiscardHandler))
	k.Keep(record.Record{ID: "new"}, gate.Content{Request: []byte("{}")})
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := k.Content(ctx, "new"); !errors.Is(err, context.Canceled) {
		t.Errorf("who has left is told %v", err)
	}
	if _, err := k.Content(t.Context(), "old"); !errors.Is(err, kept.ErrMissing) {
		t.Errorf("of another exchange %v is told", err)
	}
	got := make(chan error, 1)
	go func() {
		_, err := k.Content(t.Context(), "new")
		got <- err
	}()
	select {
	case err := <-got:
		t.Errorf("what is not written yet is told: %v", err)
		close(s.wait)
	case <-time.After(20 * time.Millisecond):
		close(s.wait)
		if err := <-got; err != nil {
			t.Error(err)
		}
	}
	if err := k.Close(); err != nil {
		t.Error(err)
	}
}
