package server

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/gate"
	"kindredgate/internal/runner/scripted"
)

// countsForgotten counts how often saved contexts are removed.
type countsForgotten struct {
	gate.Loader
	times int
}

func (l *countsForgotten) ForgetContexts() error {
	l.times++
	return l.Loader.ForgetContexts()
}

// What was said is kept where the key or the settings say so, without what is to be left out; and goes when it is purged.
func TestContents(t *testing.T) {
	var forgotten countsForgotten
	h := startNative(t, func(o *Options) {
		forgotten.Loader = o.Gate.Loader
		o.Gate.Loader = &forgotten
	})
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
	if forgotten.times != 2 {
		t.Errorf("saved contexts are removed %d times, not with each purge", forgotten.times)
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

// What is secret in a request is not shown with it, however it is written; of a key that keeps nothing, nothing is.
func TestRefusalsTellNoSecrets(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	silent, _ := h.issueWith(t, `{"label":"silent","record_content":"no"}`)
	const tool = `{"type":"mcp","server_label":"a","server_url":"https://a.example","authorization":"zzz-1","headers":{"X-Any":"zzz-2"}}`
	for _, c := range [][2]string{
		{h.key, `{"model":"harbour-4m","input":"berth 12","tools":[` + tool + `]}`},
		{h.key, `{"model":"harbour-4m","input":[],"extra":1,"tools":[` + strings.ReplaceAll(tool, `"authorization"`, `"authori\u007aation"`) + `]}`},
		{h.key, `{"model":"harbour-4m","tools":[` + tool[:strings.Index(tool, "}")]}, // which is cut off
		{h.key, `{“model”:"harbour-4m","authori\u007aation":"zzz-4"}`},
		{silent, `{"model":"harbour-4m","mesages":"zzz-3"}`},
	} {
		if resp, body := h.do(t, "POST", "/v1/responses", c[0], c[1]); resp.StatusCode < 400 {
			t.Fatalf("%s is taken: %s", c[1], body)
		}
	}
	_, body := h.do(t, "GET", "/gate/refusals", h.owner, "")
	var list RefusalList
	if err := json.Unmarshal([]byte(body), &list); err != nil || len(list.Refusals) != 5 || list.Refusals[0].Body != notShown || !strings.Contains(list.Refusals[4].Body, "https://a.example") {
		t.Errorf("%s", body)
	}
	if strings.Contains(body, "zzz-") || strings.Contains(body, "berth 12") {
		t.Errorf("a secret is shown: %s", body)
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
