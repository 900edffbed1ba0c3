package server

import (
	"errors"
	"iter"
	"mime"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/chat"
	"kindredgate/internal/dialect/completion"
	"kindredgate/internal/dialect/embedding"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/generate"
	"kindredgate/internal/dialect/rerank"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
	"kindredgate/internal/loop"
)

// unknown logs the fields of a request that mean nothing, once, and tells the client of those that are nearly others.
func (s *Server) unknown(c *gin.Context, fields []field.Ignored) {
	if len(fields) == 0 {
		return
	}
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.String()
		if f.Near != "" {
			c.Writer.Header().Add("Warning", warning("the field "+f.Path+" was ignored; did you mean "+f.Near+"?"))
		}
	}
	s.Log.Warn("fields ignored", "id", c.GetString(idKey), "fields", names)
}

// warning is a Warning header (RFC 7234, section 5.5), which may only have what a header can.
func warning(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '?'
		}
		return r
	}, text)
	return "199 kindred-gate " + strconv.Quote(text)
}

// origin says where an exchange in a style comes from.
func origin(c *gin.Context, style dialect.Style) gate.Origin {
	agent := c.Request.UserAgent()
	c.Set(begunKey, true)
	return gate.Origin{Entry: entryOf(c), ID: c.GetString(idKey), Style: style, Endpoint: strings.Replace(c.FullPath(), ":what", c.Param("what"), 1), Client: c.ClientIP(), Agent: agent[:min(len(agent), longAgent)], Trace: traceparent(c), Via: via(c), Header: c.GetHeader,
		Standing: noteStanding(c)}
}

// noteStanding has the limits as they are told shown in the answer's headers. The exchange that tells them may outlive the request.
func noteStanding(c *gin.Context) func([]keyring.Standing) {
	var standing atomic.Pointer[[]keyring.Standing]
	c.Set(standingKey, &standing)
	return func(s []keyring.Standing) { standing.Store(&s) }
}

// traceparent is the place in a trace that a request came with, if it is one (W3C Trace Context, section 3.2).
func traceparent(c *gin.Context) string {
	h := c.GetHeader("traceparent")
	if !traceForm.MatchString(h) {
		return ""
	}
	return h
}

var traceForm = regexp.MustCompile(`^[0-9a-f]{2}-[0-9a-f]{32}-[0-9a-f]{16}-[0-9a-f]{2}$`)

// via is what a request came through (RFC 9110, section 7.6.3).
func via(c *gin.Context) (list []string) {
	for _, line := range c.Request.Header.Values("Via") {
		for entry := range strings.SplitSeq(line, ",") {
			if entry = strings.TrimSpace(entry); entry != "" && len(list) < mostVia {
				list = append(list, entry)
			}
		}
	}
	return list
}

// mostVia is how many entries of a Via header are read.
const mostVia = 32

// longAgent is how much is noted of what a client calls itself, in bytes.
const longAgent = 256

// droppedHeader says how many turns were left out, since the conversation was longer than the context.
const droppedHeader = "Kindred-Dropped-Turns"

// answeredHeader says which model answers where that is not the one that was asked for, and passedHeader which ones of a name could not, each
// with the code of why.
const (
	answeredHeader = "Kindred-Answered-By"
	passedHeader   = "Kindred-Passed-Over"
)

// head writes the headers that depend on how an answer began.
func head(c *gin.Context, started exchange.Started) {
	c.Header("Server-Timing", serverTiming(started.Timings))
	limitHeaders(c)
	if started.Dropped > 0 {
		c.Header(droppedHeader, strconv.Itoa(started.Dropped))
	}
	if started.Answered != "" {
		c.Header(answeredHeader, started.Answered)
	}
	for _, passed := range started.PassedOver {
		c.Writer.Header().Add(passedHeader, passed)
	}
}

// answer is a whole answer with its headers, or the error in its place.
func answer(c *gin.Context, started exchange.Started, v any, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	head(c, started)
	return v, nil
}

// lively passes events on, and if the key wants that, shows the client that a whole answer is on its way: white space goes ahead of its
// JSON as soon as the first token is there, and then whenever nothing has gone out for a while. Clients and proxies that give up on silence
// wait then. The status has gone out with it, so what fails later is an error in a body under 200.
func lively[T any](s *Server, c *gin.Context, started *exchange.Started, events iter.Seq2[T, error]) iter.Seq2[T, error] {
	if !callerOf(c).KeepAlive {
		return events
	}
	return func(yield func(T, error) bool) {
		var last time.Time
		for event, err := range events {
			if now := time.Now(); err == nil && now.Sub(last) >= s.Silence {
				if last.IsZero() {
					head(c, *started)
					c.Header("Content-Type", gin.MIMEJSON+"; charset=utf-8")
					c.Writer.WriteHeader(http.StatusOK)
				}
				last = now
				if _, err := c.Writer.WriteString(" "); err != nil {
					_ = c.Error(err) // the client has gone, which ends the exchange
				}
				c.Writer.Flush()
			}
			if !yield(event, err) {
				return
			}
		}
	}
}

const done = "[DONE]"

func (s *Server) chat(c *gin.Context) (any, error) {
	call, err := decoded(c, chat.Decode)
	if err != nil {
		return nil, err
	}
	s.unknown(c, call.Unknown)
	x, err := s.Loops.Begin(c.Request.Context(), callerOf(c), origin(c, dialect.Chat), &call.Request, loop.How{})
	if err != nil {
		return nil, err
	}
	var started exchange.Started
	answered := noting(&started, x.Events())
	id, now := c.GetString(idKey), time.Now()
	if call.Stream {
		return nil, stream(s, c, chat.EncodeStream(id, now, call, answered), &started, events(chunkData, done))
	}
	v, err := chat.Encode(id, now, call, lively(s, c, &started, answered))
	return answer(c, started, v, err)
}

func (s *Server) complete(c *gin.Context) (any, error) {
	call, err := decoded(c, completion.Decode)
	if err != nil {
		return nil, err
	}
	s.unknown(c, call.Unknown)
	all, err := s.Gate.BeginAll(c.Request.Context(), callerOf(c), origin(c, dialect.Completion), call.Requests)
	if err != nil {
		return nil, naming("prompt", err)
	}
	call.Model = call.Requests[0].Model // which the gate has chosen, if none was named
	var started exchange.Started
	answered := func(yield func(exchange.Numbered[exchange.Event], error) bool) {
		noted := false
		for event, err := range all {
			// The first's are noted; later ones would come while these are being written.
			if first, ok := event.Item.(exchange.Started); ok && !noted {
				noted, started = true, first
			}
			if !yield(event, naming("prompt", err)) {
				return
			}
		}
	}
	id, now := c.GetString(idKey), time.Now()
	if call.Stream {
		return nil, stream(s, c, completion.EncodeStream(id, now, call, answered), &started, events(func(piece *completion.Completion) string { return data(piece) }, done))
	}
	v, err := completion.Encode(id, now, call, lively(s, c, &started, answered))
	return answer(c, started, v, err)
}

// jsonLines is the media type of JSON values, one a line.
const jsonLines = "application/x-ndjson"

func (s *Server) generate(c *gin.Context) (any, error) {
	decode := generate.Decode
	switch kind, params, err := mime.ParseMediaType(c.GetHeader("Content-Type")); {
	case err != nil:
	case kind == formType:
		decode = generate.DecodeForm
	case kind == multipartType:
		decode = func(raw []byte) (*generate.Call, error) { return generate.DecodeMultipart(raw, params["boundary"]) }
	}
	call, err := decoded(c, decode)
	if err != nil {
		return nil, err
	}
	x, err := s.Loops.Begin(c.Request.Context(), callerOf(c), origin(c, dialect.Generate), &call.Request, loop.How{})
	if err != nil {
		return nil, naming("prompt", err)
	}
	var started exchange.Started
	answered := named("prompt", noting(&started, x.Events()))
	id, now := c.GetString(idKey), time.Now()
	switch {
	case !call.Stream:
		v, err := generate.Encode(id, now, call, lively(s, c, &started, answered))
		return answer(c, started, v, err)
	case strings.Contains(c.GetHeader("Accept"), jsonLines):
		line := func(v any) string { return encoded(v) + "\n" }
		return nil, stream(s, c, generate.EncodeStream(id, now, call, answered), &started, framing[any]{
			contentType: jsonLines,
			item:        line,
			failure:     func(e envelope) string { return line(e) },
			alive:       func(string) string { return line(generate.Piece{Object: "generation.waiting"}) },
			end:         func(exchange.Timings) string { return "" },
		})
	default:
		return nil, stream(s, c, generate.EncodeStream(id, now, call, answered), &started, events(data, done))
	}
}

func (s *Server) embed(c *gin.Context) (any, error) {
	call, err := decoded(c, embedding.Decode)
	if err != nil {
		return nil, err
	}
	s.unknown(c, call.Unknown)
	v, err := s.Gate.Embed(c.Request.Context(), callerOf(c), origin(c, dialect.Embedding), &call.Embedding)
	if err != nil {
		return nil, err
	}
	return answer(c, exchange.Started{Timings: v.Timings}, embedding.Encode(call, v), nil)
}

func (s *Server) rank(c *gin.Context) (any, error) {
	call, err := decoded(c, rerank.Decode)
	if err != nil {
		return nil, err
	}
	s.unknown(c, call.Unknown)
	v, err := s.Gate.Rank(c.Request.Context(), callerOf(c), origin(c, dialect.Rerank), &call.Ranking)
	if err != nil {
		return nil, err
	}
	return answer(c, exchange.Started{Timings: v.Timings}, rerank.Encode(call, v), nil)
}

// naming gives an error about the conversation the name that the conversation has in a style.
func naming(name string, err error) error {
	var e *exchange.Error
	if !errors.As(err, &e) || e.Param != exchange.Conversation {
		return err
	}
	own := *e
	own.Param = name
	return &own
}

// named is naming, for the error at the end of a stream.
func named(name string, events iter.Seq2[exchange.Event, error]) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		for event, err := range events {
			if !yield(event, naming(name, err)) {
				return
			}
		}
	}
}

// noting passes events on and keeps how they began.
func noting(first *exchange.Started, events iter.Seq2[exchange.Event, error]) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		for event, err := range events {
			if started, ok := event.(exchange.Started); ok {
				*first = started
			}
			if !yield(event, err) {
				return
			}
		}
	}
}
