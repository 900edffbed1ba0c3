// Package metrics counts exchanges for Prometheus. Names follow the OpenTelemetry conventions for generative AI (semantic conventions
// 1.36, "GenAI metrics"), as Prometheus writes them, where they have one; the others begin with kindred. Models are named by what answered,
// since what clients ask for has no bound.
package metrics

import (
	"net/http"
	"slices"
	"strconv"
	"sync/atomic"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kindredgate/internal/dialect"
	"kindredgate/internal/gate"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/native"
)

// Buckets of the conventions, in seconds.
var (
	durations = []float64{0.01, 0.02, 0.04, 0.08, 0.16, 0.32, 0.64, 1.28, 2.56, 5.12, 10.24, 20.48, 40.96, 81.92}
	firsts    = []float64{0.001, 0.005, 0.01, 0.02, 0.04, 0.06, 0.08, 0.1, 0.25, 0.5, 0.75, 1, 2.5, 5, 7.5, 10}
	perToken  = []float64{0.01, 0.025, 0.05, 0.075, 0.1, 0.15, 0.2, 0.3, 0.4, 0.5, 0.75, 1, 2.5}
)

// operationLabel names what was asked for, in the words of the conventions.
const operationLabel = "gen_ai_operation_name"

// AgentOperation is what the conventions call a request whose tools are run for the model.
const AgentOperation = "invoke_agent"

// Metrics is an observer of a gate. It is safe for concurrent use.
type Metrics struct {
	registry                     *prometheus.Registry
	took, first, perToken, queue *prometheus.HistogramVec
	look                         *prometheus.HistogramVec
	tokens                       *prometheus.CounterVec
	calls                        *prometheus.CounterVec
	runs                         *prometheus.HistogramVec
	open                         atomic.Int64
}

// New makes the metrics of a gate. lost tells how many exchanges the ledger could not keep.
func New(g *gate.Gate, version string, lost func() int) *Metrics {
	m := &Metrics{registry: prometheus.NewRegistry()}
	histogram := func(name, help string, buckets []float64, labels ...string) *prometheus.HistogramVec {
		h := prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: name, Help: help, Buckets: buckets}, labels)
		m.registry.MustRegister(h)
		return h
	}
	counter := func(name, help string, labels ...string) *prometheus.CounterVec {
		c := prometheus.NewCounterVec(prometheus.CounterOpts{Name: name, Help: help}, labels)
		m.registry.MustRegister(c)
		return c
	}
	m.took = histogram("gen_ai_server_request_duration_seconds", "Time that exchanges took, refused ones included.", durations, labels(outcomes, operationLabel)...)
	m.first = histogram("gen_ai_server_time_to_first_token_seconds", "Time until the first token.", firsts, labels(served, operationLabel)...)
	m.perToken = histogram("gen_ai_server_time_per_output_token_seconds", "Time for each token after the first.", perToken, labels(served, operationLabel)...)
	m.queue = histogram("kindred_queue_seconds", "Time that exchanges waited for a place.", durations, labels(served)...)
	m.look = histogram("kindred_picture_look_seconds", "Time that requests with pictures took to have them looked at.", durations, labels(served)...)
	m.tokens = counter("kindred_tokens_total", "Tokens by their type: input, of which cached did not have to be read, and output, of which some are reasoning.", labels(served, "gen_ai_token_type")...)
	m.calls = counter("kindred_tool_calls_total", "Tool calls that models made.", labels(served)...)
	m.runs = histogram("kindred_tool_run_seconds", "Time that tools took which the gate ran.", durations, "gen_ai_tool_name", "error_type")
	m.registry.MustRegister(
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "kindred_exchanges_open", Help: "Exchanges under way."}, func() float64 { return float64(m.open.Load()) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "kindred_ledger_lost_total", Help: "Exchanges that could not be kept in the ledger."}, func() float64 { return float64(lost()) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "kindred_info", Help: "The gate's version.", ConstLabels: prometheus.Labels{"version": version}}, func() float64 { return 1 }),
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		models{g},
	)
	return m
}

// Began counts an exchange that is under way.
func (m *Metrics) Began(record.Record) { m.open.Add(1) }

// Ended counts what an exchange came to.
func (m *Metrics) Ended(r record.Record) {
	if r.Asked() {
		m.open.Add(-1)
	}
	operation := dialect.Style(r.Style).Operation()
	if r.Steps > 0 {
		operation = AgentOperation
	}
	for _, run := range r.Runs {
		failed := ""
		if run.Failed != "" {
			failed = "tool_error"
		}
		m.runs.WithLabelValues(run.Server+"/"+run.Name, failed).Observe(run.Took / 1000)
	}
	m.took.WithLabelValues(append(values(&r, outcomes), operation)...).Observe(r.Took / 1000)
	if r = r.Own(); !r.Asked() || r.Steps > 0 {
		return
	}
	served := values(&r, served)
	m.queue.WithLabelValues(served...).Observe(r.Queue / 1000)
	if r.Look > 0 {
		m.look.WithLabelValues(served...).Observe(r.Look / 1000)
	}
	if r.FirstToken > 0 {
		m.first.WithLabelValues(append(served, operation)...).Observe(r.FirstToken / 1000)
	}
	if n := r.CompletionTokens; n > 1 && r.FirstToken > 0 {
		m.perToken.WithLabelValues(append(served, operation)...).Observe((r.Took - r.FirstToken) / 1000 / float64(n-1))
	}
	for _, f := range record.Fields {
		if n, ok := f.Value(&r).(int); ok && f.TokenType != "" && n > 0 {
			m.tokens.WithLabelValues(append(served, f.TokenType)...).Add(float64(n))
		}
	}
	if r.ToolCalls > 0 {
		m.calls.WithLabelValues(served...).Add(float64(r.ToolCalls))
	}
}

// The fields of records that are labels. Models are named by what served the request, since what clients ask for has no bound.
var (
	served   = []record.Field{record.Find("answered")}
	outcomes = append(slices.Clone(served), record.Find("style"), record.Find("code"))
)

func labels(fields []record.Field, more ...string) (names []string) {
	for _, f := range fields {
		names = append(names, f.Label())
	}
	return append(names, more...)
}

func values(r *record.Record, fields []record.Field) (list []string) {
	for _, f := range fields {
		list = append(list, f.Cell(r))
	}
	return list
}

// Handler answers in the text format of Prometheus, or another that the client accepts.
func (m *Metrics) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{MaxRequestsInFlight: 4})
}

// models tells of the models when it is asked.
type models struct{ gate *gate.Gate }

var (
	loaded    = prometheus.NewDesc("kindred_model_loaded", "Whether a model is loaded.", []string{"gen_ai_response_model", "kept"}, nil)
	memory    = prometheus.NewDesc("kindred_model_memory_bytes", "Memory set aside for a loaded model: its weights and its contexts.", []string{"gen_ai_response_model", "for"}, nil)
	leases    = prometheus.NewDesc("kindred_model_requests", "Requests that use a model now.", []string{"gen_ai_response_model"}, nil)
	up        = prometheus.NewDesc("kindred_machine_up", "Whether requests are sent to another server that has models.", []string{"machine"}, nil)
	streams   = prometheus.NewDesc("kindred_machine_requests", "Answers of such a server that are under way.", []string{"machine"}, nil)
	pageBytes = prometheus.NewDesc("kindred_context_bytes", "Memory of contexts: busy with answers, kept for what may come again, and the limit.", []string{"gen_ai_response_model", "state"}, nil)
)

func (models) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{loaded, memory, leases, pageBytes, up, streams} {
		out <- d
	}
}

func (c models) Collect(out chan<- prometheus.Metric) {
	list, err := c.gate.Catalog.Models()
	if err != nil {
		out <- prometheus.NewInvalidMetric(loaded, err)
	}
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	for _, machine := range c.gate.Machines.Machines() {
		s := machine.State()
		healthy := 0.0
		if s.Healthy {
			healthy = 1
		}
		gauge(up, healthy, s.Name)
		gauge(streams, float64(s.Open), s.Name)
	}
	for _, m := range list {
		if !m.Usable() {
			continue
		}
		s := c.gate.Loader.Status(m.Path)
		if s.State != native.Loaded {
			gauge(loaded, 0, m.ID, "false")
			continue
		}
		gauge(loaded, 1, m.ID, strconv.FormatBool(s.Kept))
		gauge(memory, float64(s.Bytes-s.Context), m.ID, "weights")
		gauge(memory, float64(s.Context), m.ID, "contexts")
		gauge(leases, float64(s.Leases), m.ID)
		gauge(pageBytes, float64(s.ContextBusy), m.ID, "busy")
		gauge(pageBytes, float64(s.ContextKept), m.ID, "kept")
		gauge(pageBytes, float64(s.Context), m.ID, "limit")
	}
}
