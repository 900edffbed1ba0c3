package server

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

func aye(*exchange.Request) []string { return []string{"Aye", ", ", "aye."} }

// What the keys of a group use counts together, whatever each may by itself.
func TestGroups(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	ask := func(key string, status int, says string) {
		t.Helper()
		if resp, body := h.do(t, "POST", "/v1/chat/completions", key, chatBody(false, "")); resp.StatusCode != status || !strings.Contains(body, says) {
			t.Errorf("%d %s, not %d with %q", resp.StatusCode, body, status, says)
		}
	}
	if resp, body := h.do(t, "POST", "/gate/keys", h.owner, `{"label":"one","group":"harbour"}`); resp.StatusCode != 400 || !strings.Contains(body, `there is no group \"harbour\"`) {
		t.Errorf("a key of no group: %d %s", resp.StatusCode, body)
	}
	h.do(t, "PUT", "/gate/groups", h.owner, `{"name":"harbour","limits":{"requests_per_day":3}}`)
	one, id := h.issueWith(t, `{"label":"one","group":"harbour","limits":{"requests_per_minute":2}}`)
	two, _ := h.issueWith(t, `{"label":"two","group":"harbour"}`)
	ask(one, 200, "")
	ask(one, 200, "")
	ask(one, 429, `the key \"one\" may use 2 requests a minute`)
	ask(two, 200, "")
	ask(two, 429, `the group \"harbour\" may use 3 requests a day`)
	_, body := h.do(t, "GET", "/gate/key", two, "")
	var own OwnKey
	if err := json.Unmarshal([]byte(body), &own); err != nil || own.Group != "harbour" || len(own.Standing) != 1 || own.Standing[0].Limit != 3 || own.Standing[0].Remaining != 0 {
		t.Errorf("its holder sees %s", body)
	}
	_, body = h.do(t, "GET", "/gate/groups", h.owner, "")
	var list GroupList
	if err := json.Unmarshal([]byte(body), &list); err != nil || len(list.Groups) != 1 || list.Groups[0].Standing[0].Remaining != 0 {
		t.Errorf("the groups: %s", body)
	}
	if resp, body := h.do(t, "DELETE", "/gate/groups?name=harbour", h.owner, ""); resp.StatusCode != 400 || !strings.Contains(body, "belongs to the group") {
		t.Errorf("a group with keys is forgotten: %d %s", resp.StatusCode, body)
	}
	h.do(t, "PUT", "/gate/groups", h.owner, `{"name":"harbour","limits":{}}`)
	ask(two, 200, "")
	h.do(t, "PATCH", "/gate/keys/"+id, h.owner, `{"group":null}`)
	h.do(t, "DELETE", "/gate/keys/two", h.owner, "")
	if resp, body := h.do(t, "DELETE", "/gate/groups?name=harbour", h.owner, ""); resp.StatusCode != 204 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, _ := h.do(t, "DELETE", "/gate/groups?name=harbour", h.owner, ""); resp.StatusCode != 404 {
		t.Errorf("forgotten twice: %d", resp.StatusCode)
	}
}

// Whoever holds a key that may issue others gives pages narrower ones, which end with it.
func TestKeysThatIssueKeys(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	backend, _ := h.issueWith(t, `{"label":"backend","may_issue":true,"endpoints":["chat","generate"],"addresses":["127.0.0.0/8"],"limits":{"requests_per_minute":2}}`)
	soon := time.Now().Add(10 * time.Minute).UTC().Format(time.RFC3339)
	issue := func(key, terms string) (*http.Response, string) {
		t.Helper()
		return h.do(t, "POST", "/gate/key/issue", key, terms)
	}
	for terms, param := range map[string]string{
		`{"label":"page"}`: "expires",
		`{"label":"page","expires":"` + time.Now().Add(25*time.Hour).UTC().Format(time.RFC3339) + `"}`: "expires",
		`{"label":"page","expires":"` + soon + `","endpoints":["chat","raw"]}`:                         "endpoints",
		`{"label":"page","expires":"` + soon + `","addresses":["127.0.0.1","10.0.0.1"]}`:               "addresses",
		`{"label":"page","expires":"` + soon + `","addresses":["0.0.0.0/0"]}`:                          "addresses",
		`{"label":"page","expires":"` + soon + `","may_issue":true}`:                                   "may_issue",
		`{"label":"page","expires":"` + soon + `","record_content":"yes"}`:                             "record_content",
		`{"label":"page","expires":"` + soon + `","group":"others"}`:                                   "group",
	} {
		if resp, body := issue(backend, terms); resp.StatusCode != 403 || !strings.Contains(body, "wider_than_issuer") || !strings.Contains(body, param+" would") {
			t.Errorf("%s: %d %s", terms, resp.StatusCode, body)
		}
	}
	if resp, body := issue(h.key, `{"label":"page","expires":"`+soon+`"}`); resp.StatusCode != 403 || !strings.Contains(body, "may_not_issue") {
		t.Errorf("a key that may not issue: %d %s", resp.StatusCode, body)
	}
	resp, body := issue(backend, `{"label":"page","expires":"`+soon+`","models":["harbour-4m"]}`)
	var page IssuedKey
	if err := json.Unmarshal([]byte(body), &page); err != nil || resp.StatusCode != 201 || strings.Join(page.Endpoints, " ") != "chat generate" || page.Issuer == "" {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if resp, body := issue(page.Key, `{"label":"x","expires":"`+soon+`"}`); resp.StatusCode != 403 {
		t.Errorf("an issued key issues: %d %s", resp.StatusCode, body)
	}
	for i, key := range []string{page.Key, backend, page.Key} {
		resp, body := h.do(t, "POST", "/v1/chat/completions", key, chatBody(false, ""))
		if want := map[bool]int{true: 200, false: 429}[i < 2]; resp.StatusCode != want {
			t.Errorf("call %d, whose use counts for both: %d %s", i, resp.StatusCode, body)
		}
	}
	// The one in the place of the issuer stands for it; when there is none any more, its keys end.
	_, body = h.do(t, "POST", "/gate/keys/backend/rotate", h.owner, `{"grace_seconds":0}`)
	var next RotatedKey
	if err := json.Unmarshal([]byte(body), &next); err != nil {
		t.Fatal(body)
	}
	if resp, body := h.do(t, "GET", "/gate/key", page.Key, ""); resp.StatusCode != 200 {
		t.Errorf("after the issuer was rotated: %d %s", resp.StatusCode, body)
	}
	h.do(t, "DELETE", "/gate/keys/"+next.ID, h.owner, "")
	if resp, body := h.do(t, "GET", "/gate/key", page.Key, ""); resp.StatusCode != 401 || !strings.Contains(body, "ended with the key that issued it") {
		t.Errorf("after the issuer was revoked: %d %s", resp.StatusCode, body)
	}
}

// A client that gives up on silence gets white space ahead of its answer, which is JSON all the same.
func TestWholeAnswersKeepTheLineAlive(t *testing.T) {
	release := make(chan struct{})
	h := start(t, &scripted.Runner{Pieces: aye, Before: func(_ context.Context, piece int) error {
		if piece == 1 {
			<-release
		}
		return nil
	}}, func(o *Options) { o.Silence = time.Nanosecond })
	patient, _ := h.issueWith(t, `{"label":"patient","keep_alive":true}`)
	calls := map[string]string{
		"/v1/chat/completions": chatBody(false, ""),
		"/v1/completions":      `{"model":"harbour-4m","prompt":"When?"}`,
		"/v1/generate":         `{"model":"harbour-4m","prompt":"When?"}`,
		"/v1/responses":        `{"model":"harbour-4m","input":"When?"}`,
	}
	for path, sent := range calls {
		req, err := http.NewRequestWithContext(t.Context(), "POST", h.url+path, strings.NewReader(sent))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+patient)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req) // which comes back though the answer waits
		if err != nil {
			t.Fatal(err)
		}
		first := make([]byte, 1)
		if _, err := io.ReadFull(resp.Body, first); err != nil || first[0] != ' ' || resp.StatusCode != 200 || resp.Header.Get("Server-Timing") == "" {
			t.Errorf("%s: begins with %q, %d, %v", path, first, resp.StatusCode, err)
		}
		release <- struct{}{}
		raw, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		var doc map[string]any
		if err != nil || json.Unmarshal(raw, &doc) != nil || !strings.Contains(string(raw), "Aye, aye.") || !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/json") {
			t.Errorf("%s: %q, %v", path, raw, err)
		}
	}
	go func() { release <- struct{}{} }()
	if _, body := h.do(t, "POST", "/v1/generate", h.key, calls["/v1/generate"]); strings.HasPrefix(body, " ") {
		t.Errorf("without the option: %q", body)
	}
}

// What was said is kept where the key or the settings say so, without what is to be left out; and goes when it is purged.
func TestContents(t *testing.T) {
	h := startNative(t)
	kept, _ := h.issueWith(t, `{"label":"kept","record_content":"yes"}`)
	shown := func(id string) (e ShownExchange) {
		t.Helper()
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			_, body := h.do(t, "GET", "/gate/exchanges/"+id, h.owner, "")
			if err := json.Unmarshal([]byte(body), &e); err != nil {
				t.Fatal(body)
			}
			if e.Content != nil || e.Label != "kept" {
				return e
			}
			if time.Now().After(end) {
				t.Fatalf("it was never recorded: %s", body)
			}
		}
	}
	const question = `{"model":"harbour-4m","temperature":0,"max_tokens":6,"messages":[{"role":"user","content":"Is berth 12 free? My key is kg_0123456789abcdefghjkmnpqrstvwxyz<|end|>"}]}`
	resp, _ := h.do(t, "POST", "/v1/chat/completions", kept, question)
	e := shown(resp.Header.Get("X-Request-Id"))
	var prompt, origins []string
	for _, p := range e.Content.Prompt {
		prompt, origins = append(prompt, p.Text), append(origins, p.Origin)
	}
	if text := strings.Join(prompt, ""); !strings.Contains(text, "<|user|>Is [redacted] free? My key is kg_01234567…<|end|><|end|><|assistant|>") {
		t.Errorf("the prompt is %q, %s", text, e.Content.Problem)
	}
	if got := fmt.Sprint(origins); !strings.Contains(got, "messages[0].content") {
		t.Errorf("the origins are %s", got)
	}
	if len(e.Content.Answers) != 1 || e.Content.Answers[0].Text == "" || strings.Contains(string(e.Content.Request), "berth 12") {
		t.Errorf("the content is %+v", e.Content)
	}
	resp, _ = h.do(t, "POST", "/v1/chat/completions", h.key, question)
	if e := shown(resp.Header.Get("X-Request-Id")); e.Content != nil {
		t.Error("what is said with a key that does not say so is recorded")
	}
	other, _ := h.issueWith(t, `{"label":"other","record_content":"yes"}`)
	resp, _ = h.do(t, "POST", "/v1/chat/completions", other, question)
	others := resp.Header.Get("X-Request-Id")
	for end := time.Now().Add(10 * time.Second); shown(others).Content == nil && time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
	}
	if _, body := h.do(t, "DELETE", "/gate/contents?before=2001-01-01T00:00:00Z", h.owner, ""); body != `{"removed":0}` {
		t.Errorf("what is not old was purged: %s", body)
	}
	if _, body := h.do(t, "DELETE", "/gate/contents?key=kept", h.owner, ""); body != `{"removed":1}` {
		t.Errorf("purged: %s", body)
	}
	if shown(others).Content == nil {
		t.Error("what was said with another key is purged too")
	}
	for _, query := range []string{"before=noon", "key=nobody"} {
		if resp, body := h.do(t, "DELETE", "/gate/contents?"+query, h.owner, ""); resp.StatusCode/100 != 4 {
			t.Errorf("%s: %d %s", query, resp.StatusCode, body)
		}
	}
}

// The owner can look at what a request sent that was refused; keys in it are not shown.
func TestRefusals(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	h.do(t, "POST", "/v1/chat/completions", h.key, `{"model":"harbour-4m","mesages":[{"role":"user","content":"`+h.key+`"}]}`)
	h.do(t, "POST", "/v1/generate", "kg_stranger", `{"prompt":"x"}`)
	_, body := h.do(t, "GET", "/gate/refusals", h.owner, "")
	var list RefusalList
	if err := json.Unmarshal([]byte(body), &list); err != nil || len(list.Refusals) != 2 {
		t.Fatal(body)
	}
	if r := list.Refusals[1]; r.Label != "application" || r.Status != 400 || !strings.Contains(r.Body, `"mesages"`) || strings.Contains(body, h.key) || r.Path != "/v1/chat/completions" {
		t.Errorf("%+v", r)
	}
	if r := list.Refusals[0]; r.Label != "" || r.Status != 401 || r.Body != "" {
		t.Errorf("of a stranger is kept: %+v", r)
	}
	for range mostRefusals {
		h.do(t, "POST", "/v1/generate", h.key, `{"`+strings.Repeat("x", 2*longestBody))
	}
	_, body = h.do(t, "GET", "/gate/refusals", h.owner, "")
	if err := json.Unmarshal([]byte(body), &list); err != nil || len(list.Refusals) != mostRefusals || len(list.Refusals[0].Body) != longestBody || list.Refusals[0].Bytes != 2*longestBody+2 {
		t.Errorf("%d are kept, of %d bytes", len(list.Refusals), len(list.Refusals[0].Body))
	}
}

// Exchanges that go on from one another are one job, by their turns; those of others are not, whatever they say.
func TestJobsAndCosts(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	say := func(key string, turns ...string) string {
		t.Helper()
		var list []string
		for i, text := range turns {
			list = append(list, fmt.Sprintf(`{"role":%q,"content":%q}`, []string{"user", "assistant"}[i%2], text))
		}
		resp, body := h.do(t, "POST", "/v1/chat/completions", key, `{"model":"harbour-4m","messages":[`+strings.Join(list, ",")+`]}`)
		if resp.StatusCode != 200 {
			t.Fatal(body)
		}
		return resp.Header.Get("X-Request-Id")
	}
	first := say(h.key, "When?")
	say(h.key, "Where?")
	say(h.key, "When?", "Aye, aye.", "And back?")
	other, _ := h.issueWith(t, `{"label":"other"}`)
	say(other, "When?", "Aye, aye.", "And back?")
	last := say(h.key, "When?", "Aye, aye.", "And back?", "Aye, aye.", "Thanks.")
	_, body := h.do(t, "GET", "/gate/jobs", h.owner, "")
	var jobs JobList
	if err := json.Unmarshal([]byte(body), &jobs); err != nil || len(jobs.Jobs) != 1 || jobs.Jobs[0].ID != first || jobs.Jobs[0].Requests != 3 || jobs.Jobs[0].Repeated == 0 || jobs.Jobs[0].Last <= jobs.Jobs[0].First {
		t.Fatalf("the jobs are %s", body)
	}
	if list := h.page(t, "job="+first); len(list) != 3 || list[0].ID != last || list[0].Step != 3 {
		t.Errorf("the exchanges of the job are %+v", list)
	}

	_, body = h.do(t, "GET", "/gate/costs", h.owner, "")
	var costs CostList
	if err := json.Unmarshal([]byte(body), &costs); err != nil || len(costs.Totals) != 2 || costs.Totals[0].Label != "application" || costs.Totals[0].Requests != 4 || costs.Currency != "EUR" {
		t.Fatalf("the costs are %s", body)
	}
	for _, c := range costs.Totals {
		if want := 1000 * (c.Prompt + 2*c.Completion); c.Cost != want || c.Completion != 3*c.Requests {
			t.Errorf("%s cost %d, not %d", c.Label, c.Cost, want)
		}
	}
	if resp, body := h.do(t, "GET", "/gate/costs?month=soon", h.owner, ""); resp.StatusCode != 400 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	// A budget ends what a key may, until the next month.
	poor, _ := h.issueWith(t, `{"label":"poor","limits":{"cost_per_month":1}}`)
	if resp, body := h.do(t, "POST", "/v1/chat/completions", poor, chatBody(false, "")); resp.StatusCode != 200 {
		t.Errorf("within its budget: %d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", poor, chatBody(false, "")); resp.StatusCode != 429 || !strings.Contains(body, "budget_exceeded") || !strings.Contains(body, "may cost 0.01 a month, and has cost 0.01") {
		t.Errorf("beyond its budget: %d %s", resp.StatusCode, body)
	}
}
