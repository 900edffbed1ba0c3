// Package generate is the gate's own style, for automation tools: one prompt in, one text out. It is POST /v1/generate.
//
// Those who send it often cannot tell a number from a text or build a nested body, so a form will do in the place of
// JSON, and "false" and "0.2" are understood.
package generate

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"mime/multipart"
	"net/url"
	"strings"
	"time"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Call is a decoded request.
type Call struct {
	exchange.Request
	Stream bool
}

// Decode reads the body of a request that is JSON. The error is an [exchange.Error] that names the field.
func Decode(body []byte) (*Call, error) {
	o, err := field.ParseLenient(body)
	if err != nil {
		return nil, err
	}
	return decode(o)
}

// DecodeForm reads the body of a request that is a form, or JSON that is said to be one, as some clients do by default.
func DecodeForm(body []byte) (*Call, error) {
	if bytes.HasPrefix(bytes.TrimSpace(body), []byte("{")) {
		return Decode(body)
	}
	values, err := url.ParseQuery(string(body))
	if err != nil {
		return nil, exchange.Errorf(exchange.Invalid, "invalid_form", "the body is not a form: %v", err)
	}
	return decode(field.FromForm(values))
}

// Bounds of forms in parts.
const (
	mostParts = 64
	longField = 1 << 20 // bytes
)

// DecodeMultipart is DecodeForm for a form in parts (RFC 7578), as forms of pages and many HTTP libraries send it. Parts that are files are
// refused.
func DecodeMultipart(body []byte, boundary string) (*Call, error) {
	if bytes.HasPrefix(bytes.TrimSpace(body), []byte("{")) {
		return Decode(body)
	}
	wrong := func(format string, args ...any) error {
		return exchange.Errorf(exchange.Invalid, "invalid_form", "the body is not a form: "+format, args...)
	}
	if boundary == "" {
		return nil, wrong("its Content-Type names no boundary")
	}
	values := url.Values{}
	r := multipart.NewReader(bytes.NewReader(body), boundary)
	for n := 0; ; n++ {
		part, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			return decode(field.FromForm(values))
		}
		switch {
		case err != nil:
			return nil, wrong("%v", err)
		case n == mostParts:
			return nil, wrong("it has more than %d parts", mostParts)
		case part.FileName() != "":
			return nil, exchange.InvalidParam(part.FormName(), "%s is a file; this endpoint takes texts", part.FormName())
		}
		text, err := io.ReadAll(io.LimitReader(part, longField+1))
		if err != nil || len(text) > longField {
			return nil, wrong("the field %q cannot be read, or is longer than %d bytes", part.FormName(), longField)
		}
		values.Add(part.FormName(), string(text))
	}
}

func decode(o *field.Object) (*Call, error) {
	wire.Refuse(o,
		wire.Elsewhere{Name: "messages", Instead: "in this style the question is in prompt, and what was said before in history; messages are for /v1/chat/completions"},
		wire.Elsewhere{Name: "input", Instead: "in this style it is called prompt"},
		wire.Elsewhere{Name: "max_output_tokens", Instead: "in this style it is called max_tokens"},
		wire.Elsewhere{Name: "max_completion_tokens", Instead: "in this style it is called max_tokens"},
		wire.Elsewhere{Name: "response_format", Instead: "in this style it is called format"},
		wire.Elsewhere{Name: "reasoning_effort", Instead: "in this style reasoning is true or false"},
	)
	c := &Call{Stream: o.Bool("stream")}
	c.Model = wire.Model(o)
	c.Turns = turns(o)
	c.MaxTokens = wire.MaxTokens(o, "max_tokens")
	c.Fields = map[string]string{"messages": "prompt", "response_format": "format", "reasoning_effort": "reasoning", "max_completion_tokens": "max_tokens"}
	c.Stop = wire.Stop(o)
	c.Sampling = wire.Sampling(o)
	c.Thinking = o.Bool("reasoning")
	c.Format = format(o)
	for _, name := range o.Unread() {
		o.Fail(name, "there is no field %q in this style; these are: %s", name, strings.Join(o.Known(), ", "))
	}
	return c, o.Err()
}

// turns makes a conversation: instructions, what was said before, and the prompt.
func turns(o *field.Object) (list []exchange.Turn) {
	say := func(role exchange.Role, text string) {
		list = append(list, exchange.Turn{Role: role, Parts: []exchange.Part{exchange.Text(text)}})
	}
	if s, _ := o.String("instructions"); s != "" {
		say(exchange.System, s)
	}
	for i, said := range o.Objects("history") {
		if i > 10_000 {
			o.Fail("history", "history has more than 10000 entries")
			break
		}
		role := said.OneOf("role", "user", "assistant")
		text, ok := said.String("text")
		if role == "" || !ok {
			o.Fail("history", "history[%d] must be {\"role\": \"user\" or \"assistant\", \"text\": \"…\"}", i)
			break
		}
		say(exchange.Role(role), text)
	}
	prompt, _ := o.String("prompt")
	if prompt == "" {
		o.Fail("prompt", "prompt is missing: what the model is asked")
	}
	say(exchange.User, prompt)
	return list
}

// format reads what the text has to be: "text", "object" for a JSON object, or a JSON Schema.
func format(o *field.Object) exchange.Format {
	if o.Kind("format") == field.Text {
		switch s, _ := o.String("format"); {
		case strings.HasPrefix(strings.TrimSpace(s), "{"): // a schema, in a form
		case s == "object":
			return exchange.Format{Kind: exchange.FormatObject}
		default:
			if s != "" && s != "text" {
				o.Fail("format", "format is %q; it must be text, object, or a JSON Schema", s)
			}
			return exchange.Format{}
		}
	}
	schema, ok := o.Dict("format")
	if !ok {
		return exchange.Format{}
	}
	return exchange.Format{Kind: exchange.FormatSchema, Schema: schema, Strict: true, At: "format"}
}

// Generation is a whole answer.
type Generation struct {
	ID           string          `json:"id"`
	Object       string          `json:"object"`  // "generation"
	Created      int64           `json:"created"` // seconds since 1970
	Model        string          `json:"model"`
	Text         string          `json:"text"`
	Reasoning    string          `json:"reasoning"`
	FinishReason exchange.Reason `json:"finish_reason"`
	Usage        wire.Usage      `json:"usage"`
	Timings      Timings         `json:"timings"`
	Dropped      int             `json:"dropped_turns,omitempty"` // that were left out, since the conversation was longer than the context
	Fingerprint  string          `json:"system_fingerprint,omitempty"`
	wire.Steps                   // that the gate's tools took
}

// Timings are where the time went, in milliseconds.
type Timings struct {
	Queue   float64 `json:"queue_ms"`
	Load    float64 `json:"load_ms"`
	Prefill float64 `json:"prefill_ms"`
	Total   float64 `json:"total_ms"`
}

// Piece is a piece of a streamed answer: more of the text or of the reasoning. The last one of a stream is a whole
// Generation instead, with the text that the pieces made.
type Piece struct {
	Object    string `json:"object"` // "generation.piece"
	Text      string `json:"text,omitempty"`
	Reasoning string `json:"reasoning,omitempty"`
}

// Encode collects a stream of events into a whole answer.
func Encode(id string, created time.Time, call *Call, events iter.Seq2[exchange.Event, error]) (*Generation, error) {
	for item, err := range EncodeStream(id, created, call, events) {
		if err != nil {
			return nil, err
		}
		if g, ok := item.(*Generation); ok {
			return g, nil
		}
	}
	return nil, fmt.Errorf("generate style: the stream has no end")
}

// EncodeStream turns a stream of events into pieces, each a [*Piece], and the whole as a [*Generation].
func EncodeStream(id string, created time.Time, call *Call, events iter.Seq2[exchange.Event, error]) iter.Seq2[any, error] {
	return func(yield func(any, error) bool) {
		out := &Generation{ID: "gen-" + id, Object: "generation", Created: created.Unix(), Model: call.Model, Fingerprint: call.Fingerprint}
		var text, reasoning strings.Builder
		ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
		for event, err := range wire.Paragraphs(events) {
			if err != nil {
				yield(nil, err)
				return
			}
			out.Usage.Count(event)
			out.Steps.Add(event)
			piece := &Piece{Object: "generation.piece"}
			switch event := event.(type) {
			case exchange.Started:
				out.Dropped = event.Dropped
				out.Timings = Timings{Queue: ms(event.Timings.Queue), Load: ms(event.Timings.Load), Prefill: ms(event.Timings.Prefill)}
			case exchange.TextDelta:
				piece.Text = event.Text
			case exchange.ReasoningDelta:
				piece.Reasoning = event.Text
			case exchange.Finish:
				out.FinishReason = event.Reason
			case exchange.ToolsListed, exchange.StepBegan, exchange.StepEnded, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
				// which the steps have
			case exchange.ToolCallDelta:
				yield(nil, fmt.Errorf("generate style: a tool was called, but none was offered"))
				return
			default:
				yield(nil, fmt.Errorf("generate style: unknown event %T", event))
				return
			}
			text.WriteString(piece.Text)
			reasoning.WriteString(piece.Reasoning)
			if piece.Text+piece.Reasoning != "" && !yield(piece, nil) {
				return
			}
		}
		out.Text, out.Reasoning = text.String(), reasoning.String()
		out.Timings.Total = ms(time.Since(created))
		yield(out, nil)
	}
}
