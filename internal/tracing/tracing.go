// Package tracing tells a collector of traces, over OTLP/HTTP, where the time of exchanges went. Names follow the OpenTelemetry conventions
// for generative AI (semantic conventions 1.36, "GenAI spans"); what was said is in no span. An exchange that came with a traceparent
// (W3C Trace Context) is a part of that trace.
package tracing

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"log/slog"
	"time"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	sdktrace "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"kindredgate/internal/dialect"
	"kindredgate/internal/record"
)

// Bounds of what waits for the collector. What comes while there is no room is dropped.
const (
	mostWaiting = 4096
	batch       = 512
	patience    = 5 * time.Second
)

// Tracer is an observer of a gate. It is safe for concurrent use.
type Tracer struct {
	provider *sdktrace.TracerProvider
	tracer   trace.Tracer
}

// New makes a tracer that sends to the collector at an address, such as http://127.0.0.1:4318; /v1/traces is added to it. headers go with
// each call, such as a key for the collector.
func New(ctx context.Context, address, version string, headers map[string]string, log *slog.Logger) (*Tracer, error) {
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(address+"/v1/traces"), otlptracehttp.WithHeaders(headers), otlptracehttp.WithTimeout(patience))
	if err != nil {
		return nil, fmt.Errorf("traces: %w", err)
	}
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) { log.Warn("traces could not be sent", "error", err.Error()) }))
	about := resource.NewSchemaless(attribute.String("service.name", "kindred-gate"), attribute.String("service.version", version))
	p := sdktrace.NewTracerProvider(sdktrace.WithResource(about), sdktrace.WithIDGenerator(ids{}),
		sdktrace.WithBatcher(exporter, sdktrace.WithMaxQueueSize(mostWaiting), sdktrace.WithMaxExportBatchSize(batch), sdktrace.WithExportTimeout(patience)))
	return &Tracer{p, p.Tracer("kindredgate")}, nil
}

// ids makes the ids of spans. That of an exchange follows from its own id, since its steps, which name it, are told of before it is.
type ids struct{}

type idKey struct{}

// idsOf are the ids of an exchange's span, and of the trace that it begins if it came without one.
func idsOf(exchange string) (trace.TraceID, trace.SpanID) {
	sum := sha256.Sum256([]byte(exchange))
	return trace.TraceID(sum[:16]), trace.SpanID(sum[16:24])
}

// NewIDs is for the tracer.
func (ids) NewIDs(ctx context.Context) (trace.TraceID, trace.SpanID) {
	if id, ok := ctx.Value(idKey{}).(string); ok {
		return idsOf(id)
	}
	return idsOf(rand.Text())
}

// NewSpanID is for the tracer.
func (ids) NewSpanID(ctx context.Context, _ trace.TraceID) trace.SpanID {
	if id, ok := ctx.Value(idKey{}).(string); ok {
		_, span := idsOf(id)
		return span
	}
	_, span := idsOf(rand.Text())
	return span
}

// under gives a context whose spans are below that of an exchange.
func under(ctx context.Context, exchange string) context.Context {
	own, span := idsOf(exchange)
	if came := trace.SpanContextFromContext(ctx); came.HasTraceID() {
		own = came.TraceID()
	}
	return trace.ContextWithRemoteSpanContext(ctx, trace.NewSpanContext(trace.SpanContextConfig{TraceID: own, SpanID: span, TraceFlags: trace.FlagsSampled, Remote: true}))
}

// Began does nothing: spans are told whole.
func (t *Tracer) Began(record.Record) {}

// Ended tells of an exchange.
func (t *Tracer) Ended(r record.Record) {
	ctx := propagation.TraceContext{}.Extract(context.Background(), propagation.MapCarrier{"traceparent": r.Traceparent})
	if r.IsStep() {
		ctx = under(ctx, r.Parent)
	}
	end := r.Begun.Add(record.Duration(r.Took))
	operation := dialect.Style(r.Style).Operation()
	if r.Steps > 0 {
		operation = "invoke_agent"
	}
	ctx, span := t.tracer.Start(context.WithValue(ctx, idKey{}, r.ID), operation+" "+cmp.Or(r.Answered, "none"), trace.WithTimestamp(r.Begun), trace.WithSpanKind(trace.SpanKindServer), trace.WithAttributes(attribute.String("gen_ai.operation.name", operation)))
	ctx = context.WithValue(ctx, idKey{}, nil) // what is below it has ids of its own
	for _, f := range record.Fields {
		if f.Attribute == "" {
			continue
		}
		switch v := f.Value(&r).(type) {
		case int:
			span.SetAttributes(attribute.Int(f.Attribute, v))
		case string:
			if v != "" {
				span.SetAttributes(attribute.String(f.Attribute, v))
			}
		}
	}
	if r.Reason != "" { // of which the conventions have a list
		span.SetAttributes(attribute.StringSlice("gen_ai.response.finish_reasons", []string{r.Reason}))
	}
	if r.State.Bad() {
		span.SetStatus(codes.Error, r.Error)
	}
	// The parts follow one another; between them is what the gate itself takes.
	at := r.Begun
	for _, part := range []struct {
		name string
		ms   float64
	}{{"queue", r.Own().Queue}, {"load", r.Own().Load}, {"prefill", r.Own().Prefill}} {
		if part.ms > 0 {
			next := at.Add(record.Duration(part.ms))
			t.part(ctx, part.name, at, next)
			at = next
		}
	}
	for _, run := range r.Runs {
		_, tool := t.tracer.Start(ctx, "execute_tool "+run.Name, trace.WithTimestamp(run.Begun), trace.WithAttributes(attribute.String("gen_ai.operation.name", "execute_tool"),
			attribute.String("gen_ai.tool.name", run.Server+"/"+run.Name), attribute.String("gen_ai.tool.call.id", run.Call)))
		if run.Failed != "" {
			tool.SetStatus(codes.Error, run.Failed)
			tool.SetAttributes(attribute.String("error.type", "tool_error"))
		}
		tool.End(trace.WithTimestamp(run.Begun.Add(record.Duration(run.Took))))
	}
	if r.FirstToken > 0 && r.Steps == 0 {
		t.part(ctx, "decode", r.Begun.Add(record.Duration(r.FirstToken)), end)
	}
	span.End(trace.WithTimestamp(end))
}

func (t *Tracer) part(ctx context.Context, name string, from, to time.Time) {
	_, span := t.tracer.Start(ctx, name, trace.WithTimestamp(from))
	span.End(trace.WithTimestamp(to))
}

// Close sends what waits, for as long as the collector may take.
func (t *Tracer) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	if err := t.provider.Shutdown(ctx); err != nil {
		return fmt.Errorf("the last traces could not be sent: %w", err)
	}
	return nil
}
