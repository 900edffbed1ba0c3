package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/scripted"
)

// issueWith issues a key over HTTP and returns its secret and identifier.
func (h *testServer) issueWith(t *testing.T, terms string) (secret, id string) {
	t.Helper()
	resp, body := h.do(t, "POST", "/gate/keys", h.owner, terms)
	var k IssuedKey
	if err := json.Unmarshal([]byte(body), &k); err != nil || resp.StatusCode != 201 {
		t.Fatal(resp.StatusCode, body)
	}
	return k.Key, k.ID
}

// A key's limits hold in every style, its holder is told how they stand, and what is refused says which one, and when to come again.
func TestLimits(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye", ", ", "aye."} }})
	secret, id := h.issueWith(t, `{"label":"bot","limits":{"requests_per_minute":6,"tokens_per_day":1000,"answer_tokens":2}}`)
	for i, call := range []struct{ path, body string }{
		{"/v1/chat/completions", chatBody(false, "")},
		{"/v1/chat/completions", chatBody(true, "")},
		{"/v1/generate", `{"model":"harbour-4m","prompt":"When?"}`},
		{"/v1/responses", `{"model":"harbour-4m","input":"When?"}`},
		{"/v1/completions", `{"model":"harbour-4m","prompt":["When?","Where?"]}`}, // one request, whatever its prompts
		{"/v1/embeddings", `{"model":"harbour-embed","input":"When?"}`},
	} {
		resp, body := h.do(t, "POST", call.path, secret, call.body)
		if resp.StatusCode != 200 {
			t.Fatalf("%s: %d %s", call.path, resp.StatusCode, body)
		}
		if got := resp.Header.Get("X-Ratelimit-Remaining-Requests"); got != fmt.Sprint(5-i) && call.path != "/v1/embeddings" {
			t.Errorf("%s: %q requests are left", call.path, got)
		}
		if limit, reset := resp.Header.Get("X-Ratelimit-Limit-Requests"), resp.Header.Get("X-Ratelimit-Reset-Requests"); call.path == "/v1/chat/completions" && (limit != "6" || reset == "") {
			t.Errorf("limit %q, reset %q", limit, reset)
		}
		if call.path == "/v1/chat/completions" && !strings.Contains(body, `"length"`) {
			t.Errorf("an answer is longer than the key allows: %s", body)
		}
	}
	resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(false, ""))
	wait, err := time.ParseDuration(resp.Header.Get("Retry-After") + "s")
	if resp.StatusCode != 429 || !strings.Contains(body, "6 requests a minute") || err != nil || wait < time.Second || wait > time.Minute || resp.Header.Get("X-Ratelimit-Remaining-Requests") != "0" {
		t.Errorf("%d %s %v", resp.StatusCode, body, resp.Header)
	}
	resp, body = h.do(t, "GET", "/gate/key", secret, "")
	var own OwnKey
	if err := json.Unmarshal([]byte(body), &own); err != nil || resp.StatusCode != 200 || own.ID != id || len(own.Standing) != 2 || own.Standing[0].Remaining != 0 || own.Standing[1].Limit != 1000 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	// 6 words and 2 tokens of each answer, or as it is in the style; 5 answers of 2, one of them with two prompts.
	if used := 1000 - own.Standing[1].Remaining; used != 2*(6+2)+2*(1+2)+2*(1+2)+1 {
		t.Errorf("%d tokens are counted", used)
	}
	// With other terms it goes on at once; what is not named stays.
	resp, body = h.do(t, "PATCH", "/gate/keys/"+id, h.owner, `{"limits":{"requests_per_minute":100},"endpoints":["chat"]}`)
	if resp.StatusCode != 200 || !strings.Contains(body, `"answer_tokens":2`) {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(false, "")); resp.StatusCode != 200 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "POST", "/v1/generate", secret, `{"model":"harbour-4m","prompt":"When?"}`); resp.StatusCode != 403 || !strings.Contains(body, "endpoint_not_allowed") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	for terms, want := range map[string]string{
		`{"label":"x","limits":{"tokens_per_minute":-1}}`:                "limits.tokens_per_minute",
		`{"label":"x","limits":{"tokens_an_hour":1}}`:                    "limits.tokens_an_hour",
		`{"label":"x","limits_by_model":{"harbour-4m":{"at_once":"a"}}}`: "limits_by_model.harbour-4m.at_once",
		`{"label":"x","endpoints":["verse"]}`:                            "endpoints",
		`{"label":"x","addresses":["here"]}`:                             "addresses",
		`{"label":"x","expires":"soon"}`:                                 "expires",
		`{"label":"x","expires":"2001-01-01T00:00:00Z"}`:                 "expires",
		`{"label":"x","origins":["app.example"]}`:                        "origins",
		`{"label":"x","models":["nobody"]}`:                              "models",
	} {
		resp, body := h.do(t, "POST", "/gate/keys", h.owner, terms)
		if resp.StatusCode != 400 || !strings.Contains(body, `"param":"`+want+`"`) {
			t.Errorf("%s: %d %s", terms, resp.StatusCode, body)
		}
	}
}

// What is under way with a key ends when it is revoked, with a last event that says why; another key's goes on.
func TestRevokingEndsWhatIsUnderWay(t *testing.T) {
	release := make(chan struct{})
	h := start(t, &scripted.Runner{
		Pieces: func(*exchange.Request) []string { return []string{"Aye", ", aye."} },
		Before: func(ctx context.Context, piece int) error {
			if piece == 0 {
				return nil
			}
			select {
			case <-release:
				return nil
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		},
	})
	secret, id := h.issueWith(t, `{"label":"bot"}`)
	type outcome struct {
		key  string
		body string
	}
	ended := make(chan outcome)
	for _, key := range []string{secret, h.key} {
		begun := make(chan struct{})
		go func() {
			req, err := http.NewRequest("POST", h.url+"/v1/chat/completions", strings.NewReader(chatBody(true, "")))
			if err != nil {
				t.Error(err)
			}
			req.Header.Set("Authorization", "Bearer "+key)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Error(err)
				close(begun)
				return
			}
			defer resp.Body.Close()
			var b strings.Builder
			part := make([]byte, 4096)
			for first := true; ; first = false {
				n, err := resp.Body.Read(part)
				b.Write(part[:n])
				if first {
					close(begun)
				}
				if err != nil {
					break
				}
			}
			ended <- outcome{key, b.String()}
		}()
		<-begun
	}
	if resp, body := h.do(t, "DELETE", "/gate/keys/"+id, h.owner, ""); resp.StatusCode != 200 {
		t.Fatal(body)
	}
	next := func() outcome {
		select {
		case o := <-ended:
			return o
		case <-time.After(20 * time.Second):
			close(release)
			t.Fatal("a stream does not end with its key")
			return outcome{}
		}
	}
	if o := next(); o.key != secret || !strings.Contains(o.body, "was revoked while it was used") || strings.Contains(o.body, "[DONE]") {
		t.Errorf("%s", o.body)
	}
	close(release)
	if o := next(); o.key != h.key || !strings.Contains(o.body, "[DONE]") {
		t.Errorf("another key's stream: %s", o.body)
	}
}

// A key that took another's place has its responses, while the old one works for the grace.
func TestRotatedKeys(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }})
	secret, id := h.issueWith(t, `{"label":"bot"}`)
	_, body := h.do(t, "POST", "/v1/responses", secret, `{"model":"harbour-4m","input":"When?"}`)
	var stored struct{ ID string }
	if err := json.Unmarshal([]byte(body), &stored); err != nil {
		t.Fatal(err)
	}
	resp, body := h.do(t, "POST", "/gate/keys/"+id+"/rotate", h.owner, `{"grace_seconds":3600}`)
	var next RotatedKey
	if err := json.Unmarshal([]byte(body), &next); err != nil || resp.StatusCode != 201 || next.Old.ID != id || next.Old.Expires == nil || next.Follows != id {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	for _, key := range []string{secret, next.Key} {
		if resp, body := h.do(t, "GET", "/v1/responses/"+stored.ID, key, ""); resp.StatusCode != 200 {
			t.Errorf("%d %s", resp.StatusCode, body)
		}
	}
	if resp, body := h.do(t, "POST", "/gate/keys/"+id+"/rotate", h.owner, `{}`); resp.StatusCode != 400 || !strings.Contains(body, "grace_seconds is needed") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
}

// A key for pages of one origin, from some addresses.
func TestKeysForPlaces(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }})
	preflight := []string{"Access-Control-Request-Method", "POST", "Access-Control-Request-Headers", "authorization", "Origin", "https://app.example"}
	if resp, _ := h.do(t, "OPTIONS", "/v1/chat/completions", "", "", preflight...); resp.StatusCode != 403 {
		t.Errorf("a page is granted what no key grants: %d", resp.StatusCode)
	}
	secret, id := h.issueWith(t, `{"label":"page","origins":["https://app.example"],"addresses":["127.0.0.0/8"]}`)
	if resp, _ := h.do(t, "OPTIONS", "/v1/chat/completions", "", "", preflight...); resp.StatusCode != 204 {
		t.Errorf("%d", resp.StatusCode)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(false, ""), "Origin", "https://app.example"); resp.StatusCode != 200 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(false, ""), "Origin", "https://other.example"); resp.StatusCode != 403 || !strings.Contains(body, "origin_not_allowed") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "PATCH", "/gate/keys/"+id, h.owner, `{"addresses":["192.0.2.0/24"]}`); resp.StatusCode != 200 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(false, "")); resp.StatusCode != 403 || !strings.Contains(body, "address_not_allowed") {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	// Only a proxy that is trusted says for whom it asks.
	if resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(false, ""), "X-Forwarded-For", "192.0.2.7"); resp.StatusCode != 403 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
	behind := start(t, &scripted.Runner{Pieces: func(*exchange.Request) []string { return []string{"Aye."} }}, func(o *Options) { o.Exposure.TrustedProxies = []string{"127.0.0.1"} })
	elsewhere, _ := behind.issueWith(t, `{"label":"page","addresses":["192.0.2.0/24"]}`)
	for client, want := range map[string]int{"192.0.2.7": 200, "198.51.100.7": 403, "192.0.2.7, 198.51.100.7": 403} {
		if resp, body := behind.do(t, "POST", "/v1/chat/completions", elsewhere, chatBody(false, ""), "X-Forwarded-For", client); resp.StatusCode != want {
			t.Errorf("for %s: %d %s", client, resp.StatusCode, body)
		}
	}
	if resp, body := h.do(t, "PATCH", "/gate/keys/"+id, h.owner, `{"addresses":null,"expires":null}`); resp.StatusCode != 200 {
		t.Fatalf("%d %s", resp.StatusCode, body)
	}
	if resp, body := h.do(t, "POST", "/v1/chat/completions", secret, chatBody(false, "")); resp.StatusCode != 200 {
		t.Errorf("%d %s", resp.StatusCode, body)
	}
}

// told asks what only the owner is told.
func (h *testServer) told(t *testing.T, path string, out any) {
	t.Helper()
	if resp, body := h.do(t, "GET", path, h.owner, ""); resp.StatusCode != 200 || json.Unmarshal([]byte(body), out) != nil {
		t.Fatalf("GET %s: %d %s", path, resp.StatusCode, body)
	}
}

// said is what an answer in the chat style came to.
type said struct {
	Choices []struct {
		FinishReason string `json:"finish_reason"`
		Message      struct{ Content string }
	}
	Usage struct {
		Prompt     int `json:"prompt_tokens"`
		Completion int `json:"completion_tokens"`
	}
}

// Limits of tokens and of money hold while answers are written, of all candidates and prompts of a request: what meets one ends there, as
// at max_tokens, and the record says which it was.
func TestLimitsHoldWhileAnswersRun(t *testing.T) {
	long := func(*exchange.Request) (words []string) {
		for i := range 200 {
			words = append(words, fmt.Sprintf("w%d ", i))
		}
		return words
	}
	h := start(t, &scripted.Runner{Pieces: long})
	limit := func(e record.Record) string { return e.Limit }
	for _, c := range []struct {
		name, limits, path, body string
		most, choices            int
		of                       string
	}{
		{"one answer", `{"tokens_per_minute":30}`, "/v1/chat/completions", `{"model":"harbour-4m","messages":[{"role":"user","content":"one two"}]}`, 30, 1, "30 tokens a minute"},
		{"candidates", `{"tokens_per_day":50}`, "/v1/chat/completions", `{"model":"harbour-4m","n":3,"messages":[{"role":"user","content":"one two"}]}`, 50, 3, "50 tokens a day"},
		{"prompts", `{"tokens_per_minute":40}`, "/v1/completions", `{"model":"harbour-4m","prompt":["one","two","three"]}`, 40, 3, "40 tokens a minute"},
		{"money", `{"cost_per_month":10}`, "/v1/chat/completions", `{"model":"harbour-4m","messages":[{"role":"user","content":"one two"}]}`, 51, 1, "may cost 0.10 a month"},
	} {
		key, id := h.issueWith(t, `{"label":"`+c.name+`","limits":`+c.limits+`}`)
		for len(h.records) > 0 {
			<-h.records
		}
		resp, body := h.do(t, "POST", c.path, key, c.body, "Content-Type", "application/json")
		var got said
		if err := json.Unmarshal([]byte(body), &got); err != nil || resp.StatusCode != 200 {
			t.Fatalf("%s: %d %s", c.name, resp.StatusCode, body)
		}
		cut := 0
		for _, choice := range got.Choices {
			if choice.FinishReason == "length" {
				cut++
			}
		}
		// One more token than there is room for would be over it, one less would be under.
		if total := got.Usage.Prompt + got.Usage.Completion; total > c.most || total < c.most-3 || len(got.Choices) != c.choices || cut == 0 {
			t.Errorf("%s: %d tokens of %d, %d of %d answers are cut", c.name, total, c.most, cut, len(got.Choices))
		}
		told := false
		for range max(1, len(h.records)) {
			told = strings.Contains(limit(<-h.records), c.of) || told
		}
		if !told {
			t.Errorf("%s: no record says that %q was reached", c.name, c.of)
		}
		if resp, body := h.do(t, "POST", c.path, key, c.body); resp.StatusCode != 429 {
			t.Errorf("%s, again: %d %s", c.name, resp.StatusCode, body)
		}
		var left OwnKey
		h.told(t, "/gate/keys/"+id, &left)
		if s := left.Standing; len(s) != 1 || s[0].Remaining > 3*s[0].Limit/50 {
			t.Errorf("%s: %+v", c.name, s)
		}
	}
	// Streams end well too: with the reason, the usage and the last event.
	key, _ := h.issueWith(t, `{"label":"streams","limits":{"tokens_per_minute":20}}`)
	resp, body := h.do(t, "POST", "/v1/chat/completions", key, `{"model":"harbour-4m","stream":true,"messages":[{"role":"user","content":"one two"}]}`)
	if resp.StatusCode != 200 || !strings.Contains(body, `"finish_reason":"length"`) || !strings.HasSuffix(body, "data: [DONE]\n\n") || strings.Count(body, `"content":"w`) != 18 {
		t.Errorf("a stream: %d %s", resp.StatusCode, body)
	}
}

// What was read of a prompt counts, if the client has left before the first token.
func TestWhatWasReadCounts(t *testing.T) {
	asked := make(chan struct{})
	h := start(t, &scripted.Runner{Before: func(ctx context.Context, _ int) error {
		close(asked)
		<-ctx.Done()
		return ctx.Err()
	}})
	key, id := h.issueWith(t, `{"label":"impatient","limits":{"tokens_per_minute":100}}`)
	ctx, leave := context.WithCancel(t.Context())
	req, err := http.NewRequestWithContext(ctx, "POST", h.url+"/v1/chat/completions", strings.NewReader(`{"model":"harbour-4m","messages":[{"role":"user","content":"one two three four five six seven eight"}]}`))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+key)
	go func() {
		<-asked
		leave()
	}()
	if _, err := http.DefaultClient.Do(req); err == nil {
		t.Fatal("it was answered")
	}
	if r := <-h.records; r.State != record.Cancelled || r.PromptTokens != 8 {
		t.Errorf("%s with %d tokens read", r.State, r.PromptTokens)
	}
	var left OwnKey
	h.told(t, "/gate/keys/"+id, &left)
	if left.Standing[0].Remaining != 92 {
		t.Errorf("%+v", left.Standing)
	}
}
