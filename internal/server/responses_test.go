package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/answers"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/runner/scripted"
	"kindredgate/internal/store"
)

// reply is what the tests read of a response.
type reply struct {
	ID       string
	Status   string
	Previous *string `json:"previous_response_id"`
	Error    *struct{ Code, Message string }
	Output   []struct {
		Type, ID, Status string
		Dropped          int `json:"dropped_turns"`
		Content          []struct{ Type, Text string }
	}
	Incomplete *struct{ Reason string } `json:"incomplete_details"`
}

func (r reply) text() string {
	if n := len(r.Output); n > 0 && len(r.Output[n-1].Content) > 0 {
		return r.Output[n-1].Content[0].Text
	}
	return ""
}

func (h *testServer) get(t testing.TB, path string) (r reply, status int) {
	t.Helper()
	resp, raw := h.do(t, "GET", path, h.key, "")
	if err := json.Unmarshal([]byte(raw), &r); err != nil {
		t.Fatal(err, raw)
	}
	return r, resp.StatusCode
}

// all answers with everything that was said, so that a test sees the conversation.
var all = &scripted.Runner{Pieces: func(req *exchange.Request) []string {
	var said []string
	for _, turn := range req.Turns {
		said = append(said, fmt.Sprintf("%s: %s; ", turn.Role, turn.Text()))
	}
	return said
}}

func TestResponsesGoOnFromEachOther(t *testing.T) {
	h := start(t, all)
	var first, second, third reply
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"one","instructions":"Be brief."}`, &first)
	if first.text() != "system: Be brief.; user: one; " || first.Status != "completed" || first.Previous != nil {
		t.Fatalf("%+v", first)
	}
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":[{"role":"user","content":[{"type":"input_text","text":"two"}]}],"instructions":"Be long.","previous_response_id":"`+first.ID+`"}`, &second)
	if want := "system: Be long.; user: one; assistant: " + first.text() + "; user: two; "; second.text() != want || *second.Previous != first.ID {
		t.Errorf("%q, want %q", second.text(), want)
	}
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"three","previous_response_id":"`+second.ID+`","store":false}`, &third)
	if !strings.HasPrefix(third.text(), "user: one; assistant: ") || !strings.HasSuffix(third.text(), "user: two; assistant: "+second.text()+"; user: three; ") {
		t.Errorf("%q", third.text())
	}
	// Whoever goes on at once from a streamed response finds it stored.
	events := h.events(t, "POST", "/v1/responses", `{"model":"harbour-4m","input":"four","stream":true}`)
	var last struct{ Response reply }
	if err := json.Unmarshal([]byte(events[len(events)-1].data), &last); err != nil {
		t.Fatal(err)
	}
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"five","previous_response_id":"`+last.Response.ID+`"}`, &second)

	if _, status := h.get(t, "/v1/responses/"+third.ID); status != 404 {
		t.Errorf("what was not to be stored is there: %d", status)
	}
	got, _ := h.get(t, "/v1/responses/"+first.ID)
	if got.text() != first.text() || got.Output[0].ID != first.Output[0].ID {
		t.Errorf("%+v", got)
	}
	// Another key sees nothing of it; the owner does.
	other, _ := h.do(t, "GET", "/v1/responses/"+first.ID, h.narrow, "")
	owner, _ := h.do(t, "GET", "/v1/responses/"+first.ID, h.owner, "")
	if other.StatusCode != 404 || owner.StatusCode != 200 {
		t.Errorf("another key %d, the owner %d", other.StatusCode, owner.StatusCode)
	}
	if resp, raw := h.do(t, "DELETE", "/v1/responses/"+first.ID, h.key, ""); resp.StatusCode != 200 || !strings.Contains(raw, `"deleted":true`) {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	if resp, _ := h.do(t, "DELETE", "/v1/responses/"+first.ID, h.key, ""); resp.StatusCode != 404 {
		t.Errorf("deleted twice: %d", resp.StatusCode)
	}
	resp, raw := h.do(t, "POST", "/v1/responses", h.key, `{"model":"harbour-4m","input":"x","previous_response_id":"`+first.ID+`"}`)
	if resp.StatusCode != 400 || textAt("error", "param")([]byte(raw)) != "previous_response_id" {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
}

func TestInputItems(t *testing.T) {
	h := start(t, all)
	var r reply
	var items []string
	for i := range 5 {
		items = append(items, fmt.Sprintf(`{"role":"user","content":"%d"}`, i))
	}
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":[`+strings.Join(items, ",")+`]}`, &r)
	type page struct {
		Data []struct {
			ID, Type, Status string
			Content          []struct{ Type, Text string }
		}
		First string `json:"first_id"`
		More  bool   `json:"has_more"`
	}
	read := func(query string) (p page) {
		_, raw := h.do(t, "GET", "/v1/responses/"+r.ID+"/input_items"+query, h.key, "")
		if err := json.Unmarshal([]byte(raw), &p); err != nil {
			t.Fatal(err, raw)
		}
		return p
	}
	newest := read("?limit=2")
	rest := read("?limit=2&after=" + newest.Data[1].ID)
	oldest := read("?order=asc&limit=100")
	if newest.Data[0].Content[0].Text != "4" || newest.Data[0].Content[0].Type != "input_text" || newest.Data[0].Status != "completed" || !newest.More || newest.Data[0].Type != "message" || newest.First != newest.Data[0].ID || rest.Data[0].Content[0].Text != "2" || oldest.Data[0].Content[0].Text != "0" || oldest.More || len(oldest.Data) != 5 {
		t.Errorf("%+v\n%+v\n%+v", newest, rest, oldest)
	}
	for _, bad := range []string{"?limit=0", "?limit=x", "?order=up", "?after=nothing"} {
		if resp, raw := h.do(t, "GET", "/v1/responses/"+r.ID+"/input_items"+bad, h.key, ""); resp.StatusCode != 400 {
			t.Errorf("%s: %d %s", bad, resp.StatusCode, raw)
		}
	}
}

// An item of a stored response can be named instead of being sent again: one of its answer or of its input, by its key alone.
func TestItemsAreReferredTo(t *testing.T) {
	h := start(t, all)
	var first, second reply
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"one"}`, &first)
	_, raw := h.do(t, "GET", "/v1/responses/"+first.ID+"/input_items", h.key, "")
	var page struct{ Data []struct{ ID string } }
	if err := json.Unmarshal([]byte(raw), &page); err != nil {
		t.Fatal(err)
	}
	input, output := page.Data[0].ID, first.Output[0].ID
	body := fmt.Sprintf(`{"model":"harbour-4m","instructions":"Be brief.","input":[{"type":"item_reference","id":%q},{"id":%q},{"role":"user","content":"two"}]}`, input, output)
	h.post(t, "/v1/responses", body, &second)
	if want := "system: Be brief.; user: one; assistant: " + first.text() + "; user: two; "; second.text() != want {
		t.Errorf("%q, want %q", second.text(), want)
	}
	var third reply
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"three","previous_response_id":"`+second.ID+`"}`, &third)
	if !strings.HasPrefix(third.text(), "user: one; assistant: ") || !strings.HasSuffix(third.text(), "user: three; ") {
		t.Errorf("going on from it: %q", third.text())
	}
	for _, id := range []string{"msg_none_0", "msg_" + strings.TrimPrefix(first.ID, "resp_") + "_9", "x"} {
		if resp, raw := h.do(t, "POST", "/v1/responses", h.key, fmt.Sprintf(`{"model":"harbour-4m","input":[{"type":"item_reference","id":%q}]}`, id)); resp.StatusCode != 400 || !strings.Contains(raw, "send the item itself") {
			t.Errorf("%s: %d %s", id, resp.StatusCode, raw)
		}
	}
	other, _, err := h.server.Gate.Keys.Issue(t.Context(), keyring.Terms{Label: "other"})
	if err != nil {
		t.Fatal(err)
	}
	if resp, raw := h.do(t, "POST", "/v1/responses", other, body); resp.StatusCode != 400 {
		t.Errorf("another key: %d %s", resp.StatusCode, raw)
	}
}

// A conversation is counted as it would be laid out, and made shorter to an item that stands for it.
func TestCountAndCompact(t *testing.T) {
	h := startNative(t)
	var count struct {
		Object string
		Tokens int `json:"input_tokens"`
	}
	const conversation = `{"model":"harbour-4m","instructions":"Be brief.","input":[{"role":"user","content":"When is the last boat to Osmer?"},{"role":"assistant","content":"At 19:40."}]`
	h.post(t, "/v1/responses/input_tokens", conversation+`}`, &count)
	var asked struct {
		Usage struct {
			Tokens int `json:"input_tokens"`
		}
	}
	h.post(t, "/v1/responses", conversation+`,"max_output_tokens":1}`, &asked)
	if count.Object != "response.input_tokens" || count.Tokens == 0 || count.Tokens != asked.Usage.Tokens {
		t.Errorf("%+v, a request has %d", count, asked.Usage.Tokens)
	}
	if resp, raw := h.do(t, "POST", "/v1/responses/compact", h.key, `{"model":"harbour-4m"}`); resp.StatusCode != 400 || !strings.Contains(raw, "no conversation") {
		t.Errorf("nothing to make shorter: %d %s", resp.StatusCode, raw)
	}
	said := start(t, all)
	var short struct {
		Object string
		Output []json.RawMessage
		Usage  struct {
			Total int `json:"total_tokens"`
		}
	}
	said.post(t, "/v1/responses/compact", conversation+`}`, &short)
	if short.Object != "response.compaction" || len(short.Output) != 2 || !strings.Contains(string(short.Output[0]), "When is the last boat") || short.Usage.Total == 0 {
		t.Fatalf("%+v", short)
	}
	var next reply
	said.post(t, "/v1/responses", fmt.Sprintf(`{"model":"harbour-4m","instructions":"Be brief.","input":[%s,%s,{"role":"user","content":"And back?"}]}`, short.Output[0], short.Output[1]), &next)
	if text := next.text(); !strings.HasPrefix(text, "system: Be brief.; user: What was said before, in short:") || !strings.Contains(text, "At 19:40.") || !strings.HasSuffix(text, "And back?; ") || strings.Count(text, "user: ") != 3 {
		t.Errorf("%q", text) // the summary repeats two turns of a user, and one asks
	}
}

// Reasoning comes as a summary and in a form to be sent back where that is asked for, and only there.
func TestReasoningInEachForm(t *testing.T) {
	h := startNative(t)
	type reasoned struct {
		Output []struct {
			Type             string
			Summary, Content []struct{ Type, Text string }
			Encrypted        *string `json:"encrypted_content"`
		}
	}
	ask := func(more string) (r reasoned) {
		h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"How much is it for two adults to Osmer?","temperature":0,"store":false`+more+`}`, &r)
		if len(r.Output) == 0 || r.Output[0].Type != "reasoning" || len(r.Output[0].Content) != 1 || r.Output[0].Content[0].Text == "" {
			t.Fatalf("%+v", r)
		}
		return r
	}
	plain := ask(`,"reasoning":{"effort":"low"}`).Output[0]
	if len(plain.Summary) != 0 || plain.Encrypted != nil {
		t.Errorf("without being asked: %+v", plain)
	}
	r := ask(`,"reasoning":{"effort":"low","summary":"auto"},"include":["reasoning.encrypted_content"]`)
	full := r.Output[0]
	if len(full.Summary) != 1 || full.Summary[0].Type != "summary_text" || full.Summary[0].Text != full.Content[0].Text || full.Encrypted == nil || strings.Contains(*full.Encrypted, full.Content[0].Text) {
		t.Errorf("%+v", full)
	}
	var kinds []string
	for _, e := range h.events(t, "POST", "/v1/responses", `{"model":"harbour-4m","input":"How much is it for two adults to Osmer?","temperature":0,"stream":true,"reasoning":{"effort":"low","summary":"auto"}}`) {
		if strings.Contains(e.data, "summary") && strings.Contains(e.data, `"type":"response.reasoning_summary`) {
			var d struct{ Type string }
			if err := json.Unmarshal([]byte(e.data), &d); err != nil {
				t.Fatal(err)
			}
			kinds = append(kinds, strings.TrimPrefix(d.Type, "response.reasoning_summary_"))
		}
	}
	if kinds = slices.Compact(kinds); !slices.Equal(kinds, []string{"part.added", "text.delta", "text.done", "part.done"}) {
		t.Errorf("%v", kinds)
	}
	// What came can be sent back as it is.
	raw, err := json.Marshal(r.Output)
	if err != nil {
		t.Fatal(err)
	}
	if resp, body := h.do(t, "POST", "/v1/responses", h.key, `{"model":"harbour-4m","max_output_tokens":2,"input":[{"role":"user","content":"x"},{"type":"reasoning","id":"rs_1","summary":[],"encrypted_content":"`+*full.Encrypted+`"},{"role":"user","content":"y"}]}`); resp.StatusCode != 200 {
		t.Errorf("%d %s (%s)", resp.StatusCode, body, raw)
	}
}

// Every event of a stream comes in its place: numbered without gaps, items and their content opened, filled, done and
// closed, and the response's state moving forward only.
func TestEventsComeInOrder(t *testing.T) {
	h := startNative(t)
	const tools = `,"tools":[{"type":"function","name":"next_sailing","parameters":{"type":"object","properties":{"island":{"enum":["Osmer"]}},"required":["island"],"additionalProperties":false}}]`
	for _, body := range []string{
		`{"model":"harbour-4m","input":"When is the last boat to Osmer?"`,
		`{"model":"harbour-4m","input":"Which is longer, Osmer or Brannoc?","reasoning":{"effort":"low"}`,
		`{"model":"harbour-4m","input":"Tell me about Osmer.","max_output_tokens":8`,
		`{"model":"harbour-4m","input":"Good morning"` + tools + `,"tool_choice":"required","parallel_tool_calls":false`,
		`{"model":"harbour-4m","input":"Tell me about Osmer.","include":["message.output_text.logprobs"],"top_logprobs":2,"max_output_tokens":5`,
	} {
		var kinds []string
		open, parts := map[int]bool{}, map[int]bool{}
		var text, done string
		events := h.events(t, "POST", "/v1/responses", body+`,"stream":true}`)
		for i, sent := range events {
			matchesSchema(t, "ResponseEvent", []byte(sent.data))
			var e struct {
				Type     string
				Sequence int `json:"sequence_number"`
				Index    int `json:"output_index"`
				Delta    string
				Text     string
				Logprobs []json.RawMessage
				Item     struct{ Status string }
				Response reply
			}
			if err := json.Unmarshal([]byte(sent.data), &e); err != nil {
				t.Fatal(err)
			}
			if e.Sequence != i || sent.name != e.Type {
				t.Errorf("event %d has the number %d, and is %q and %q", i, e.Sequence, sent.name, e.Type)
			}
			kinds = append(kinds, strings.TrimPrefix(e.Type, "response."))
			within := true
			switch kinds[i] {
			case "output_item.added":
				within = !open[e.Index] && e.Item.Status == "in_progress"
				open[e.Index] = true
			case "content_part.added":
				within = open[e.Index] && !parts[e.Index]
				parts[e.Index] = true
			case "output_text.delta":
				within = parts[e.Index]
				text += e.Delta
				if strings.Contains(body, "logprobs") && len(e.Logprobs) == 0 {
					t.Error("a delta without log-probabilities")
				}
			case "output_text.done":
				done = e.Text
			case "content_part.done":
				within = parts[e.Index]
				delete(parts, e.Index)
			case "output_item.done":
				within = open[e.Index] && !parts[e.Index] && e.Item.Status != "in_progress"
				delete(open, e.Index)
			case "completed", "incomplete":
				within = i == len(events)-1 && e.Response.Status == kinds[i] && (kinds[i] == "incomplete") == (e.Response.Incomplete != nil)
			}
			if !within {
				t.Errorf("%s: event %d, %s, is out of place: %s", body, i, e.Type, sent.data)
			}
		}
		if len(open)+len(parts) > 0 || text != done || kinds[0] != "created" || kinds[1] != "in_progress" {
			t.Errorf("%s: left open %v %v, text %q and %q, %v", body, open, parts, text, done, kinds)
		}
	}
}

func TestTruncationIsToldOf(t *testing.T) {
	h := startNative(t)
	var items []string
	for range 10 {
		items = append(items, `{"role":"user","content":"`+strings.Repeat("boat ", 250)+`"}`, `{"role":"assistant","content":"yes"}`)
	}
	items = append(items, `{"role":"user","content":"When is the last boat to Osmer?"}`)
	body := `{"model":"harbour-4m","max_output_tokens":10,"input":[` + strings.Join(items, ",") + `]`
	if resp, raw := h.do(t, "POST", "/v1/responses", h.key, body+"}"); resp.StatusCode != 400 || !strings.Contains(raw, "context_length_exceeded") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	var r reply
	h.post(t, "/v1/responses", body+`,"truncation":"auto"}`, &r)
	if o := r.Output[0]; o.Type != "kindred:truncation" || o.Dropped < 2 || len(r.Output) != 2 {
		t.Fatalf("%+v", r.Output)
	}
	// Its own items can be sent back.
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"And to Brannoc?","truncation":"auto","max_output_tokens":10,"previous_response_id":"`+r.ID+`"}`, &r)
}

// until asks again until a response is in a state.
func (h *testServer) until(t testing.TB, id string, states ...string) reply {
	t.Helper()
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		r, _ := h.get(t, "/v1/responses/"+id)
		if slices.Contains(states, r.Status) {
			return r
		}
		if time.Now().After(deadline) {
			t.Fatalf("response %s stays %s", id, r.Status)
		}
	}
}

func TestBackground(t *testing.T) {
	gateway := make(chan struct{})
	h := start(t, &scripted.Runner{Before: func(ctx context.Context, piece int) error {
		if piece == 0 {
			return nil
		}
		select {
		case <-gateway:
			return nil
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}})
	const body = `{"model":"harbour-4m","input":"one two three","background":true`
	begin := func(more string) string {
		var r reply
		h.post(t, "/v1/responses", body+more+"}", &r)
		if r.Status != "queued" && r.Status != "in_progress" {
			t.Fatalf("%+v", r)
		}
		return r.ID
	}
	finished, cancelled, deleted := begin(""), begin(""), begin("")
	h.until(t, finished, "in_progress")
	if resp, raw := h.do(t, "POST", "/v1/responses", h.key, `{"model":"harbour-4m","input":"x","previous_response_id":"`+finished+`"}`); resp.StatusCode != 400 || !strings.Contains(raw, "still in progress") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) { // until something of it has come
		if r, _ := h.get(t, "/v1/responses/"+cancelled); len(r.Output) > 0 {
			break
		} else if time.Now().After(deadline) {
			t.Fatalf("nothing comes of %s", cancelled)
		}
	}
	resp, raw := h.do(t, "POST", "/v1/responses/"+cancelled+"/cancel", h.key, "")
	if resp.StatusCode != 200 || textAt("status")([]byte(raw)) != "cancelled" {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	if r, _ := h.get(t, "/v1/responses/"+cancelled); r.Status != "cancelled" || r.Output[0].Status != "incomplete" {
		t.Errorf("%+v", r)
	}
	if resp, _ := h.do(t, "DELETE", "/v1/responses/"+deleted, h.key, ""); resp.StatusCode != 200 {
		t.Errorf("%d", resp.StatusCode)
	}
	if _, status := h.get(t, "/v1/responses/"+deleted); status != 404 {
		t.Errorf("what was deleted is there: %d", status)
	}

	// One follows from the fourth event on while it runs; it sees the same as one who comes later.
	followed := make(chan []sseEvent)
	go func() { followed <- h.events(t, "GET", "/v1/responses/"+finished+"?stream=true&starting_after=3", "") }()
	close(gateway)
	if r := h.until(t, finished, "completed"); r.text() != "one two three" {
		t.Errorf("%+v", r)
	}
	live, later := <-followed, h.events(t, "GET", "/v1/responses/"+finished+"?starting_after=3", "") // which means a stream
	if !slices.Equal(live, later) || !strings.Contains(live[0].data, `"sequence_number":4,`) || live[len(live)-1].name != "response.completed" {
		t.Errorf("live %v\nlater %v", live, later)
	}
	// Cancelling what has ended changes nothing; what is not in the background cannot be cancelled.
	if _, raw := h.do(t, "POST", "/v1/responses/"+finished+"/cancel", h.key, ""); textAt("status")([]byte(raw)) != "completed" {
		t.Error(raw)
	}
	var r reply
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"x"}`, &r)
	if resp, raw := h.do(t, "POST", "/v1/responses/"+r.ID+"/cancel", h.key, ""); resp.StatusCode != 400 || !strings.Contains(raw, "background") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	for _, bad := range []string{"?stream=perhaps", "?starting_after=x&stream=true", "?starting_after=x"} {
		if resp, raw := h.do(t, "GET", "/v1/responses/"+r.ID+bad, h.key, ""); resp.StatusCode != 400 {
			t.Errorf("%s: %d %s", bad, resp.StatusCode, raw)
		}
	}
	if resp, _ := h.do(t, "POST", "/v1/responses", h.key, `{"model":"none","input":"x","background":true}`); resp.StatusCode != 404 {
		t.Errorf("an unknown model in the background: %d", resp.StatusCode)
	}
}

// A stream in the background may be left and taken up again.
func TestStreamInTheBackgroundOutlivesItsClient(t *testing.T) {
	gateway := make(chan struct{})
	h := start(t, &scripted.Runner{Before: func(ctx context.Context, piece int) error {
		if piece == 1 {
			select {
			case <-gateway:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		return nil
	}})
	lines, leave := h.streamOf(t, t.Context(), "/v1/responses", `{"model":"harbour-4m","input":"one two","background":true,"stream":true}`)
	id := ""
	for id == "" && lines.Scan() {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			id = textAt("response", "id")([]byte(data))
		}
	}
	leave()
	close(gateway)
	if r := h.until(t, id, "completed"); r.text() != "one two" {
		t.Errorf("%+v", r)
	}
	if events := h.events(t, "GET", "/v1/responses/"+id+"?stream=true", ""); events[0].name != "response.created" || events[1].name != "response.queued" {
		t.Errorf("%v", events)
	}
}

// An error in the middle is the response's own end; one at the beginning is the answer to the request.
func TestFailedResponses(t *testing.T) {
	h := start(t, &scripted.Runner{Before: func(_ context.Context, piece int) error {
		if piece == 1 {
			return errors.New("the cable was cut")
		}
		return nil
	}})
	events := h.events(t, "POST", "/v1/responses", `{"model":"harbour-4m","input":"one two","stream":true}`)
	last := events[len(events)-1]
	matchesSchema(t, "ResponseEvent", []byte(last.data))
	if last.name != "response.failed" || textAt("response", "error", "code")([]byte(last.data)) != "server_error" || strings.Contains(last.data, "cable") {
		t.Errorf("%+v", last)
	}
	var r reply
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"one two"}`, &r)
	if r.Status != "failed" || r.Error == nil || r.text() != "one" {
		t.Errorf("%+v", r)
	}
}

// A panic ends its response and no other, and one in the background is stored as failed.
func TestPanicInAResponse(t *testing.T) {
	h := start(t, &scripted.Runner{Before: func(_ context.Context, piece int) error {
		if piece == 1 {
			panic("the hull is breached")
		}
		return nil
	}})
	var r reply
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"one two"}`, &r)
	if r.Status != "failed" || strings.Contains(r.Error.Message, "hull") {
		t.Errorf("%+v", r)
	}
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"one two","background":true}`, &r)
	if r = h.until(t, r.ID, "failed"); r.text() != "one" {
		t.Errorf("%+v", r)
	}
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"one"}`, &r)
	if r.Status != "completed" {
		t.Errorf("%+v", r)
	}
}

// A gate that stops ends what runs in the background, and says so in what it stores.
func TestStopEndsTheBackground(t *testing.T) {
	held := make(chan struct{}, 1)
	var responses *answers.Service
	h := start(t, &scripted.Runner{Before: func(ctx context.Context, piece int) error {
		if piece == 1 {
			held <- struct{}{}
			<-ctx.Done()
			return context.Cause(ctx)
		}
		return nil
	}}, func(o *Options) { responses = o.Answers })
	var r reply
	h.post(t, "/v1/responses", `{"model":"harbour-4m","input":"one two","background":true}`, &r)
	<-held
	if err := responses.Close(); err != nil {
		t.Fatal(err)
	}
	if got, _ := h.get(t, "/v1/responses/"+r.ID); got.Status != "failed" || !strings.Contains(got.Error.Message, "stopped") || got.Output[0].Status != "incomplete" {
		t.Errorf("%+v", got)
	}
}

// What was under way when the gate stopped is marked as failed at the next start, and what ended is as it was.
func TestRestartMarksWhatWasUnderWay(t *testing.T) {
	db, err := store.Open(t.TempDir()+"/gate.db", kept.Limits{Age: 30 * 24 * time.Hour, Space: 64 << 20})
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	ctx := t.Context()
	put := func(id, status string, ended bool, created time.Time) {
		body := fmt.Sprintf(`{"id":%q,"status":%q,"error":null,"output":[]}`, id, status)
		if err := db.PutResponse(ctx, kept.Response{ID: id, Created: created, Ended: ended, Background: true, Input: []byte(`[]`), Body: []byte(body), Events: []byte(`[]`)}); err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now()
	put("resp_a", "in_progress", false, now)
	put("resp_b", "completed", true, now)
	put("resp_old", "completed", true, now.Add(-31*24*time.Hour))
	log := slog.New(slog.DiscardHandler)
	queue, err := answers.Alone(ctx, db, log)
	if err != nil {
		t.Fatal(err)
	}
	responses := answers.Open(ctx, &gate.Gate{}, nil, db, queue, log)
	defer responses.Close()
	if list, _, err := db.UnendedResponses(ctx); err != nil || len(list) != 0 {
		t.Errorf("%v, %v", list, err)
	}
	for id, want := range map[string]string{"resp_a": "failed", "resp_b": "completed"} {
		r, err := db.Response(ctx, id)
		if err != nil || textAt("status")(r.Body) != want || (want == "failed") != strings.Contains(string(r.Events), "response.failed") {
			t.Errorf("%s: %s %s, %v", id, r.Body, r.Events, err)
		}
	}
	if err := db.PruneResponses(ctx, now); err != nil {
		t.Fatal(err)
	}
	if _, err := db.Response(ctx, "resp_old"); !errors.Is(err, kept.ErrMissing) {
		t.Errorf("the old one: %v", err)
	}
	if err := db.DropResponse(ctx, "resp_none"); !errors.Is(err, kept.ErrMissing) {
		t.Errorf("one that is not there: %v", err)
	}
}
