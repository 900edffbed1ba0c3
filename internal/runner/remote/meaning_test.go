package remote_test

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/remote"
)

// scripted is a machine that answers with these events, in the chat style or in that of responses; sent is the body of the last request.
func scripted(t *testing.T, path string, events []string) (m *remote.Machine, sent *string) {
	t.Helper()
	sent = new(string)
	h := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/models" {
			_, _ = w.Write([]byte(`{"data":[{"id":"harbour-4m"}]}`))
			return
		}
		if r.URL.Path != path {
			http.Error(w, `{"error":{"message":"no such path"}}`, http.StatusNotFound)
			return
		}
		raw, _ := io.ReadAll(r.Body)
		*sent = string(raw)
		w.Header().Set("Content-Type", "text/event-stream")
		for _, e := range events {
			fmt.Fprintf(w, "data: %s\n\n", e)
		}
	}))
	t.Cleanup(h.Close)
	m, err := remote.New("attic", remote.Settings{URL: h.URL}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Close)
	if err := m.LookNow(t.Context()); err != nil {
		t.Fatal(err)
	}
	return m, sent
}

// deltas are chunks of a chat answer, one for each list of calls, and its end.
func deltas(calls ...string) (chunks []string) {
	for _, c := range calls {
		chunks = append(chunks, `{"choices":[{"index":0,"delta":{"tool_calls":[`+c+`]}}]}`)
	}
	return append(chunks, `{"choices":[{"index":0,"delta":{},"finish_reason":"tool_calls"}]}`)
}

// Servers send the pieces of several calls by turns, number them or do not, and repeat ids and names or do not.
func TestCallsThatInterleave(t *testing.T) {
	both := []string{`a departures{"from":1}.`, `b fares{"to":2}.`}
	for name, c := range map[string]struct {
		calls []string
		want  []string
	}{
		"by index":              {[]string{`{"index":0,"id":"a","function":{"name":"departures","arguments":"{\"fr"}}`, `{"index":1,"id":"b","function":{"name":"fares","arguments":"{\"t"}}`, `{"index":0,"function":{"arguments":"om\":1}"}}`, `{"index":1,"function":{"arguments":"o\":2}"}}`}, both},
		"by index, in one":      {[]string{`{"index":0,"id":"a","function":{"name":"departures","arguments":"{\"fr"}},{"index":1,"id":"b","function":{"name":"fares","arguments":"{\"t"}}`, `{"index":1,"function":{"arguments":"o\":2}"}},{"index":0,"function":{"arguments":"om\":1}"}}`}, both},
		"by id":                 {[]string{`{"id":"a","function":{"name":"departures","arguments":"{\"fr"}},{"id":"b","function":{"name":"fares","arguments":"{\"t"}}`, `{"id":"b","function":{"arguments":"o\":2}"}}`, `{"id":"a","function":{"arguments":"om\":1}"}}`}, both},
		"ids repeated":          {[]string{`{"index":0,"id":"a","function":{"name":"departures","arguments":"{\"from\":"}}`, `{"index":1,"id":"b","function":{"name":"fares","arguments":"{\"to\":"}}`, `{"index":0,"id":"a","function":{"name":"departures","arguments":"1}"}}`, `{"index":1,"id":"b","function":{"name":"fares","arguments":"2}"}}`}, both},
		"all of them number 0":  {[]string{`{"index":0,"id":"a","function":{"name":"departures","arguments":"{\"from\":1}"}}`, `{"index":0,"id":"b","function":{"name":"fares","arguments":"{\"to\":"}}`, `{"index":0,"function":{"arguments":"2}"}}`}, both},
		"the same name, by ids": {[]string{`{"index":0,"id":"a","function":{"name":"fares","arguments":"{}"}}`, `{"index":1,"id":"b","function":{"name":"fares","arguments":"{\"to\":2}"}}`}, []string{`a fares{}.`, `b fares{"to":2}.`}},
	} {
		t.Run(name, func(t *testing.T) {
			m, _ := scripted(t, "/chat/completions", deltas(c.calls...))
			h := run(t.Context(), m, ask("x"))
			if got := together(h.calls); h.err != nil || !slices.Equal(got, c.want) || h.finished[0].Reason != exchange.Called {
				t.Errorf("%q %v, want %q", got, h.err, c.want)
			}
		})
	}
	m, _ := scripted(t, "/responses", []string{
		`{"type":"response.created","response":{"status":"in_progress"}}`,
		`{"type":"response.output_item.added","output_index":0,"item":{"type":"function_call","call_id":"a","name":"departures","arguments":""}}`,
		`{"type":"response.output_item.added","output_index":1,"item":{"type":"function_call","call_id":"b","name":"fares","arguments":""}}`,
		`{"type":"response.function_call_arguments.delta","output_index":1,"delta":"{\"to\":"}`,
		`{"type":"response.function_call_arguments.delta","output_index":0,"delta":"{\"from\":1}"}`,
		`{"type":"response.function_call_arguments.delta","output_index":1,"delta":"2}"}`,
		`{"type":"response.completed","response":{"status":"completed"}}`,
	})
	h := run(t.Context(), m, ask("x"))
	if got := together(h.calls); h.err != nil || !slices.Equal(got, both) {
		t.Errorf("responses: %q %v", got, h.err)
	}
}

// together are the calls that pieces make, with a point where they end.
func together(pieces []exchange.ToolCallDelta) []string {
	var calls []string
	for _, p := range pieces {
		if p.Name != "" {
			calls = append(calls, p.ID+" "+p.Name)
		}
		calls[p.Index] += p.Arguments
		if p.Done {
			calls[p.Index] += "."
		}
	}
	return calls
}

// What a machine says beside text keeps its meaning, whichever style it speaks.
func TestMeaningsComeThrough(t *testing.T) {
	cited := []exchange.Citation{{URL: "https://ferry.example/times", Title: "Times", Start: 0, End: 2}}
	const page = `"type":"url_citation","start_index":0,"end_index":2,"url":"https://ferry.example/times","title":"Times"`
	for path, events := range map[string][]string{
		"/chat/completions": {
			`{"choices":[{"index":0,"delta":{"role":"assistant","content":"Well."}}]}`,
			`{"choices":[{"index":0,"delta":{"annotations":[{"type":"url_citation","url_citation":{"start_index":0,"end_index":2,"url":"https://ferry.example/times","title":"Times"}}]}}]}`,
			`{"choices":[{"index":0,"delta":{"refusal":"I will "}}]}`, `{"choices":[{"index":0,"delta":{"refusal":"not."}}]}`,
			`{"choices":[{"index":0,"delta":{},"finish_reason":"content_filter"}]}`,
			`{"choices":[],"usage":{"prompt_tokens":"many","completion_tokens":null}}`,
		},
		"/responses": {
			`{"type":"response.created","response":{"status":"in_progress"}}`,
			`{"type":"response.output_text.delta","output_index":0,"delta":"Well."}`,
			`{"type":"response.output_text.annotation.added","output_index":0,"annotation_index":0,"annotation":{` + page + `}}`,
			`{"type":"response.refusal.delta","output_index":1,"delta":"I will "}`, `{"type":"response.refusal.delta","output_index":1,"delta":"not."}`,
			`{"type":"response.incomplete","response":{"status":"incomplete","incomplete_details":{"reason":"content_filter"},"usage":{"input_tokens":"many","output_tokens":[]}}}`,
		},
	} {
		t.Run(path, func(t *testing.T) {
			m, sent := scripted(t, path, events)
			req := &exchange.Request{Thinking: true, Effort: "high", Turns: []exchange.Turn{
				say(exchange.User, exchange.Text("Sink it.")), say(exchange.Assistant, exchange.Refusal("Never.")), say(exchange.User, exchange.Text("Please."))}}
			var text, refusal string
			var where []exchange.Citation
			var end exchange.Finish
			for e, err := range m.Run(t.Context(), "harbour-4m", req) {
				if err != nil {
					t.Fatal(err)
				}
				switch e := e.(type) {
				case exchange.TextDelta:
					if e.Refusal {
						refusal += e.Text
					} else {
						text += e.Text
					}
					where = append(where, e.Citations...)
				case exchange.Finish:
					end = e
				}
			}
			if text != "Well." || refusal != "I will not." || !reflect.DeepEqual(where, cited) || end.Reason != exchange.Filtered || end.Tokens != 3 {
				t.Errorf("%q, refused with %q, from %v, %+v", text, refusal, where, end)
			}
			for _, want := range map[string][]string{
				"/chat/completions": {`"reasoning_effort":"high"`, `{"role":"assistant","content":null,"refusal":"Never."}`},
				"/responses":        {`"reasoning":{"effort":"high"}`, `{"type":"refusal","refusal":"Never."}`},
			}[path] {
				if !strings.Contains(*sent, want) {
					t.Errorf("%s is not in %s", want, *sent)
				}
			}
		})
	}
}

// A machine that names sources without end is not listened to without end.
func TestCitationsWithoutEnd(t *testing.T) {
	const one = `{"choices":[{"index":0,"delta":{"annotations":[{"type":"url_citation","url_citation":{"url":"https://ferry.example"}}]}}]}`
	m, _ := scripted(t, "/chat/completions", slices.Repeat([]string{one}, 1000))
	if h := run(t.Context(), m, ask("x")); h.err == nil || !strings.Contains(h.err.Error(), "more than 256 annotations") {
		t.Errorf("%v", h.err)
	}
}
