package server

import (
	"context"
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// What happened can be read by a program on this computer, and by who has a key; nothing of it names a key or what was said.
func TestMetrics(t *testing.T) {
	h := start(t, &scripted.Runner{
		Pieces: func(*exchange.Request) []string { return []string{"Aye", ", ", "aye."} },
		Before: func(_ context.Context, piece int) error { return nil },
	})
	h.do(t, "POST", "/v1/chat/completions", h.key, chatBody(false, ""))
	h.do(t, "POST", "/v1/embeddings", h.key, `{"model":"harbour-embed","input":"When?"}`)
	h.do(t, "POST", "/v1/chat/completions", h.narrow, chatBody(false, ""))
	resp, body := h.do(t, "GET", "/metrics", "", "")
	if resp.StatusCode != 200 {
		t.Fatal(resp.StatusCode, body)
	}
	for _, line := range []string{
		`gen_ai_server_request_duration_seconds_count{error_type="",gen_ai_operation_name="chat",gen_ai_response_model="harbour-4m",kindred_style="chat"} 1`,
		`gen_ai_server_request_duration_seconds_count{error_type="model_not_allowed",gen_ai_operation_name="chat",gen_ai_response_model="",kindred_style="chat"} 1`,
		`gen_ai_server_time_to_first_token_seconds_count{gen_ai_operation_name="chat",gen_ai_response_model="harbour-4m"} 1`,
		`gen_ai_server_time_per_output_token_seconds_count{gen_ai_operation_name="chat",gen_ai_response_model="harbour-4m"} 1`,
		`kindred_tokens_total{gen_ai_response_model="harbour-4m",gen_ai_token_type="input"} 6`,
		`kindred_tokens_total{gen_ai_response_model="harbour-4m",gen_ai_token_type="output"} 3`,
		`kindred_tokens_total{gen_ai_response_model="harbour-embed",gen_ai_token_type="input"} 1`,
		`kindred_exchanges_open 0`, `kindred_ledger_lost_total 0`, `kindred_info{version="1.2.3"} 1`,
		`kindred_model_loaded{gen_ai_response_model="harbour-4m",kept="false"} 0`,
	} {
		if !strings.Contains(body, "\n"+line+"\n") {
			t.Errorf("there is no line %s", line)
		}
	}
	// What the dashboard asks for is there, but for what models have while they are loaded.
	dashboard, err := os.ReadFile("../../docs/dashboard.json")
	if err != nil || !json.Valid(dashboard) {
		t.Fatal("the dashboard is no JSON", err)
	}
	for _, name := range regexp.MustCompile(`(?:gen_ai|kindred|process)_[a-z_]+_(?:count|bucket|total|bytes|open|loaded)\b`).FindAllString(string(dashboard), -1) {
		if !strings.Contains(body, "\n"+name) && name != "kindred_model_memory_bytes" && name != "kindred_context_bytes" {
			t.Errorf("the dashboard asks for %s, which is not there", name)
		}
	}
	if got := regexp.MustCompile(`kg_|application|narrow|19:40`).FindString(body); got != "" {
		t.Errorf("%q is in the metrics", got)
	}
	for _, c := range []struct {
		name, key string
		header    []string
		status    int
	}{
		{"a key", h.key, nil, 200},
		{"a key that is none", "kg_x", nil, 401},
		{"through a proxy on this computer", "", []string{"X-Forwarded-For", "192.0.2.7"}, 401},
		{"through a proxy, with a key", h.key, []string{"X-Forwarded-For", "192.0.2.7"}, 200},
		{"a page whose name points here", "", []string{"Host", "evil.example"}, 421},
		{"a page of another origin", "", []string{"Sec-Fetch-Site", "cross-site"}, 200}, // which may not read the answer
	} {
		if resp, _ := h.do(t, "GET", "/metrics", c.key, "", c.header...); resp.StatusCode != c.status || resp.Header.Get("Access-Control-Allow-Origin") != "" {
			t.Errorf("%s: %d %v", c.name, resp.StatusCode, resp.Header)
		}
	}
}
