package tracing_test

import (
	"bytes"
	"encoding/hex"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	spans "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"kindredgate/internal/dialect"
	"kindredgate/internal/record"
	"kindredgate/internal/tracing"
)

// A collector gets a span for each exchange, with its parts, in the trace that the client began.
func TestTraces(t *testing.T) {
	var got []*spans.Span
	var path, token string
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		path, token = r.URL.Path, r.Header.Get("Api-Token")
		raw, err := io.ReadAll(r.Body)
		var sent collector.ExportTraceServiceRequest
		if err != nil || proto.Unmarshal(raw, &sent) != nil {
			t.Error("what was sent cannot be read")
		}
		for _, resource := range sent.ResourceSpans {
			for _, scope := range resource.ScopeSpans {
				got = append(got, scope.Spans...)
			}
		}
	}))
	defer server.Close()
	tracer, err := tracing.New(t.Context(), server.URL, "1.2.3", map[string]string{"Api-Token": "x"}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now().Add(-time.Second)
	r := record.Record{ID: "abc", Style: string(dialect.Chat), Traceparent: "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01", Label: "bot", Begun: begun,
		Model: "assistant", Answered: "harbour-4m", PromptTokens: 12, CompletionTokens: 5, Queue: 10, Prefill: 20, FirstToken: 50, Took: 200, State: record.Done, Reason: "stop"}
	tracer.Ended(r)
	r.ID, r.Traceparent, r.Answered, r.State, r.Error = "def", "nonsense", "", record.Refused, "no such model"
	tracer.Ended(r)
	if err := tracer.Close(); err != nil {
		t.Fatal(err)
	}
	if path != "/v1/traces" || token != "x" {
		t.Errorf("sent to %s with token %q", path, token)
	}
	i := slices.IndexFunc(got, func(s *spans.Span) bool { return s.Name == "chat harbour-4m" })
	if i < 0 {
		t.Fatalf("the spans are %v", got)
	}
	whole := got[i]
	if trace := hex.EncodeToString(whole.TraceId); trace != "0af7651916cd43dd8448eb211c80319c" || hex.EncodeToString(whole.ParentSpanId) != "b7ad6b7169203331" || whole.StartTimeUnixNano != uint64(begun.UnixNano()) || whole.EndTimeUnixNano-whole.StartTimeUnixNano != 2e8 {
		t.Errorf("the span is %v", whole)
	}
	var parts []string
	for _, s := range got {
		if string(s.ParentSpanId) == string(whole.SpanId) {
			parts = append(parts, s.Name)
		}
	}
	if want := "queue prefill decode"; strings.Join(parts, " ") != want {
		t.Errorf("its parts are %q, not %q", parts, want)
	}
	if i := slices.IndexFunc(got, func(s *spans.Span) bool { return s.Name == "chat none" }); i < 0 || got[i].Status.Code != spans.Status_STATUS_CODE_ERROR || len(got[i].ParentSpanId) != 0 {
		t.Errorf("of one that was refused: %v", got)
	}
}

// The steps of a request are below it, in its trace, and the calls of tools below the step that made them, whatever is told first.
func TestSteps(t *testing.T) {
	var got []*spans.Span
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(r.Body)
		var sent collector.ExportTraceServiceRequest
		if err == nil {
			err = proto.Unmarshal(raw, &sent)
		}
		if err != nil {
			t.Error(err)
		}
		for _, resource := range sent.ResourceSpans {
			for _, scope := range resource.ScopeSpans {
				got = append(got, scope.Spans...)
			}
		}
	}))
	defer server.Close()
	tracer, err := tracing.New(t.Context(), server.URL, "1.2.3", nil, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now().Add(-time.Second)
	step := record.Record{ID: "abc-1", Parent: "abc", Step: 1, Style: string(dialect.Response), Begun: begun, Answered: "harbour-4m", Took: 200, State: record.Done,
		Runs: []record.Run{{Call: "call_1", Server: "ferry", Name: "hold_seats", Begun: begun, Took: 50, Failed: "no boat today"}}}
	tracer.Ended(step)
	tracer.Ended(record.Record{ID: "abc", Job: "abc", Step: 1, Steps: 1, Style: string(dialect.Response), Begun: begun, Answered: "harbour-4m", FirstToken: 10, Took: 300, State: record.Done})
	if err := tracer.Close(); err != nil {
		t.Fatal(err)
	}
	find := func(name string) *spans.Span {
		i := slices.IndexFunc(got, func(s *spans.Span) bool { return s.Name == name })
		if i < 0 {
			t.Fatalf("there is no span %q in %v", name, got)
		}
		return got[i]
	}
	whole, one, tool := find("invoke_agent harbour-4m"), find("chat harbour-4m"), find("execute_tool hold_seats")
	if string(one.TraceId) != string(whole.TraceId) || string(one.ParentSpanId) != string(whole.SpanId) || string(tool.ParentSpanId) != string(one.SpanId) || len(whole.ParentSpanId) != 0 || len(got) != 3 {
		t.Errorf("%v", got)
	}
	attributes := map[string]string{}
	for _, a := range tool.Attributes {
		attributes[a.Key] = a.Value.GetStringValue()
	}
	if attributes["gen_ai.operation.name"] != "execute_tool" || attributes["gen_ai.tool.name"] != "ferry/hold_seats" || attributes["gen_ai.tool.call.id"] != "call_1" || attributes["error.type"] == "" || tool.Status.Code != spans.Status_STATUS_CODE_ERROR {
		t.Errorf("%v", tool)
	}
}

// A collector that is gone costs no more than a bounded queue, keeps no gate from ending, and is in the log.
func TestACollectorThatIsGone(t *testing.T) {
	var said bytes.Buffer // which slog writes one line at a time
	tracer, err := tracing.New(t.Context(), "http://127.0.0.1:1", "1.2.3", nil, slog.New(slog.NewTextHandler(&said, nil)))
	if err != nil {
		t.Fatal(err)
	}
	for range 10_000 { // more than have room
		tracer.Ended(record.Record{ID: "x", Style: string(dialect.Chat), Begun: time.Now()})
	}
	if err := tracer.Close(); err != nil && !strings.Contains(err.Error(), "could not be sent") {
		t.Error(err)
	}
	if !strings.Contains(said.String(), "traces could not be sent") {
		t.Errorf("the log says %q", said.String())
	}
}
