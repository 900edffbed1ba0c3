package gate

import (
	"context"
	"iter"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"kindredgate/internal/catalog"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/record"
)

// endless answers with one piece, and then with nothing until it is ended.
func endless() *script {
	return &script{wait: true, events: []exchange.Event{exchange.Started{PromptTokens: 1}, exchange.TextDelta{Text: "Aye", Tokens: 1}}}
}

// Revoking a key ends what is in progress with it and with keys that it has issued; one that was revoked since it was checked does not begin.
func TestRevokingEndsWhatIsInProgress(t *testing.T) {
	g, _ := open(t, endless())
	ctx := t.Context()
	_, issuer, err := g.Keys.Issue(ctx, keyring.Terms{Label: "backend", MayIssue: true})
	if err != nil {
		t.Fatal(err)
	}
	secret, _, err := g.Keys.IssueUnder(ctx, issuer, keyring.Terms{Label: "page", Expires: time.Now().Add(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	child, err := g.Keys.Check(ctx, secret)
	if err != nil {
		t.Fatal(err)
	}
	_, bystander, err := g.Keys.Issue(ctx, keyring.Terms{Label: "kiosk"})
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() {
		_, err := drain(answer(ctx, g, child, &exchange.Request{Model: "harbour-4m", Turns: user("x")}), 0)
		ended <- err
	}()
	other, err := g.Begin(ctx, bystander, Origin{ID: "other", Style: "chat"}, &exchange.Request{Model: "harbour-4m", Turns: user("x")})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close(nil)
	for deadline := time.Now().Add(10 * time.Second); g.running1(child.ID) == 0; time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("the exchange did not begin")
		}
	}
	if _, _, err := g.RevokeKey(ctx, issuer.ID); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-ended:
		if err == nil || !strings.Contains(err.Error(), "was revoked while it was used") {
			t.Errorf("the request of the derived key ended with %v", err)
		}
	case <-time.After(10 * time.Second):
		t.Error("the request of a derived key goes on after its issuer was revoked")
	}
	if other.ctx.Err() != nil {
		t.Error("the request of another key was ended too")
	}
	// The key was valid when its secret was checked, which is before.
	soon, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	late, err := g.Begin(soon, issuer, Origin{ID: "late", Style: "chat"}, &exchange.Request{Model: "harbour-4m", Turns: user("x")})
	if err == nil {
		_, err = drain(late.Events(), 0)
	}
	if err == nil || !strings.Contains(err.Error(), "revoked") {
		t.Errorf("a key that was revoked since it was checked is answered: %v", err)
	}
}

// running1 is how many exchanges of a key are in progress.
func (g *Gate) running1(id string) (n int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for x := range g.running {
		if x.caller.ID == id {
			n++
		}
	}
	return n
}

// recorder keeps the ids of what it is given, and of exchanges whose end was told before.
type recorder struct {
	mu        sync.Mutex
	ids, late []string
	told      *[]record.Record
}

func (r *recorder) Wants(keyring.Key) bool { return true }
func (r *recorder) Keep(e record.Record, _ Content) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ids = append(r.ids, e.ID)
	if slices.ContainsFunc(*r.told, func(one record.Record) bool { return one.ID == e.ID }) {
		r.late = append(r.late, e.ID)
	}
}

// owners notes who asks, and answers.
type owners struct {
	script
	list []string
}

func (o *owners) Run(ctx context.Context, path string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	o.mu.Lock()
	o.list = append(o.list, req.Owner)
	o.mu.Unlock()
	return o.script.Run(ctx, path, req)
}

// A shadow waits for applications, costs nothing, and what is said in it is not recorded.
func TestShadowsAreNobodysTraffic(t *testing.T) {
	g, records := open(t, &script{})
	asked := &owners{script: script{events: []exchange.Event{exchange.Started{PromptTokens: 2}, exchange.TextDelta{Text: "Aye", Tokens: 1}, exchange.Finish{Reason: exchange.Stopped, Tokens: 1}}}}
	kept := &recorder{told: records}
	g.Runner, g.Recorder, g.Price = asked, kept, func(*record.Record) int64 { return 7 }
	if err := g.SaveName(t.Context(), catalog.Name{Name: "timetable", Of: []catalog.Target{{To: "harbour-4m"}}, Shadow: &catalog.Shadow{To: "harbour-4m", Share: 1}}); err != nil {
		t.Fatal(err)
	}
	if _, err := drain(answer(t.Context(), g, keyring.Key{ID: "kiosk"}, &exchange.Request{Model: "timetable", Turns: user("x")}), 0); err != nil {
		t.Fatal(err)
	}
	g.background.Wait() // for the shadow
	if err := g.Close(); err != nil {
		t.Fatal(err)
	}
	slices.Sort(asked.list)
	if want := []string{patientOwner, "kiosk"}; !slices.Equal(asked.list, want) && !slices.Equal(asked.list, []string{"kiosk", patientOwner}) {
		t.Errorf("those who ask are %q, want %q", asked.list, want)
	}
	if !slices.Equal(kept.ids, []string{"one"}) || len(*records) != 2 {
		t.Errorf("recorded: %v; %d records", kept.ids, len(*records))
	}
	if len(kept.late) > 0 {
		t.Errorf("%v: who sees that they have ended would not find what was said", kept.late)
	}
	for _, r := range *records {
		if want := map[bool]int64{true: 0, false: 7}[r.ShadowOf != ""]; r.Cost != want {
			t.Errorf("%s costs %d, want %d", r.ID, r.Cost, want)
		}
	}
}

// Prompts that are too long for a target go to others, as far as that can be told before they are counted.
func TestLongPromptsGoToLongContexts(t *testing.T) {
	g, _ := open(t, &script{})
	short, long := catalog.Model{ID: "short", ContextLength: 100}, catalog.Model{ID: "long", ContextLength: 10_000}
	req := &exchange.Request{Turns: user(strings.Repeat("the last boat ", 200))}
	if says := g.lacks(short, req); !strings.Contains(says, "context of 100 tokens") {
		t.Errorf("of the short context it is said: %q", says)
	}
	if says := g.lacks(long, req); says != "" {
		t.Errorf("of the long context it is said: %q", says)
	}
}
